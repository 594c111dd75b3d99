#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// Reads the sizes of a shape of the kind with this index in shape_kind_names().
Shape read_shape(TableReader& r, std::size_t kind);

/// A solid whose children are names yet.
struct SolidDraft {
  Rig::Solid solid;
  std::vector<std::string> of;
  Place of_place;
};

/// Reads one [[solid]]; nothing where an error leaves it without meaning. The name is read by the
/// caller.
std::optional<SolidDraft> read_solid(TableReader& r, const std::string& name, const Rig& rig);

/// Finds the children, refuses circles, compiles each solid and adds it to the rig.
void join_solids(std::vector<SolidDraft> drafts, Rig& rig, Problems& problems);

/// What the solid or closed object of a name encloses. Notes a problem where there is none; `more`
/// are other words that the key accepts.
std::optional<VolumeSpec> volume_named(TableReader& r,
                                       std::string_view key,
                                       const std::string& name,
                                       const Rig& rig,
                                       const std::vector<std::string>& more);

}  // namespace jovilux
