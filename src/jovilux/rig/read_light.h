#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

namespace jovilux {

/// Reads one [[light]]; nothing where an error leaves it without meaning. The name is read by the caller.
std::optional<LightSpec> read_light(TableReader& reader, const Rig& rig);

}  // namespace jovilux
