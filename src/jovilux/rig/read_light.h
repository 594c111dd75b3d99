#pragma once

#include "jovilux/rig/assembly.h"
#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

namespace jovilux {

/// Reads one [[light]]; nothing where an error leaves it without meaning. The name is read by the
/// caller.
std::optional<LightSpec> read_light(TableReader& reader, const Rig& rig);

/// What an [[array]] says of its copies, whatever they are of: where each stands, and its table,
/// that of the pattern with the keys that the array's table `copy` holds for it, by number. Reads
/// `count`, `along` and `copy`.
struct Copies {
  std::vector<Vec3d> places;
  std::vector<DocumentNode> tables;
  std::vector<const DocumentNode*> own;  ///< the keys of its own; null: none
};
Copies read_copies(TableReader& reader, const DocumentNode& pattern, const Rig& rig);

/// Reads one [[array]]: copies of the light whose table is `pattern`, named ARRAY[0] .. and kept in
/// one layer. Single copies may differ: the array's table `copy` holds, by number, the keys that
/// light.ARRAY[n].KEY has set. `assembly`: where the pattern is moved before it is copied; null:
/// not.
std::vector<LightSpec> read_array(TableReader& reader,
                                  const std::string& name,
                                  const DocumentNode& pattern,
                                  const Rig& rig,
                                  const AssemblyPlacement* assembly = nullptr);

}  // namespace jovilux
