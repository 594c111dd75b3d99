#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

// Readers of one table each. The named ones read into the end of the rig's list; their name is read
// by the caller.

/// title, length, up, site.
void read_scene(TableReader& r, Rig& rig);
void read_render(TableReader& r, Rig& rig);
void read_time(TableReader& r, Rig& rig);
void read_look(TableReader& r, Rig& rig);

void read_material(TableReader& r, const std::string& name, Rig& rig);
void read_object(TableReader& r, const std::string& name, Rig& rig);
/// `light_of_its_name` is the place of the light that has the haze's name, where there is one.
void read_haze(TableReader& r, const std::string& name, const Place* light_of_its_name, Rig& rig);
void read_gel(TableReader& r, const std::string& name, Rig& rig);
void read_camera(TableReader& r, const std::string& name, Rig& rig);
void read_meter(TableReader& r, const std::string& name, Rig& rig);

/// at, rotate, scale.
Transform read_placement(TableReader& r);
/// Meters of the units that `length` and `mesh_length` name, in the order of their descriptions.
double meters_of_unit(std::size_t index);

/// What keys and flickers make of the lights' levels while the shutter is open. `keyed` is the
/// document before its keys were replaced by their values.
void read_levels(const DocumentNode& keyed, Rig& rig);

}  // namespace jovilux
