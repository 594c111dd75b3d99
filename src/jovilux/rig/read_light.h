#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

namespace jovilux {

/// Reads one [[light]]; nothing where an error leaves it without meaning. The name is read by the caller.
std::optional<LightSpec> read_light(TableReader& reader, const Rig& rig);

/// Reads one [[array]]: copies of the light whose table is `pattern`, named ARRAY[0] .. and kept in one layer. Single copies may
/// differ: the array's table `copy` holds, by number, the keys that light.ARRAY[n].KEY has set.
std::vector<LightSpec> read_array(TableReader& reader, const std::string& name, const DocumentNode& pattern, const Rig& rig);

}  // namespace jovilux
