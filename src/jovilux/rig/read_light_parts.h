#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

#include <optional>

namespace jovilux {

// The groups of a light's keys, each read into the light by itself; the kind is known.

/// falloff, near_softening, range.
Falloff read_falloff(TableReader& r);

/// toward, or elevation and azimuth, or the site's time: into the axis. North is +y (with y up:
/// -z), east +x.
void read_sun_axis(TableReader& r, const Rig& rig, LightSpec& light);

/// two_sided, hot_center, spread, profile, gobo.
void read_shaping(TableReader& r, LightSpec& light);

/// white, spectrum, dim_to_warm, gel, tint, tint_by.
void read_color(TableReader& r, const Rig& rig, LightSpec& light);

/// flicker; nothing where an error leaves it without meaning.
std::optional<Flicker> read_flicker(TableReader& r);

/// only, skip, shadow_only, shadow_skip, inside, fade_with_camera, group, cheat.
void read_effect(TableReader& r, const Rig& rig, LightSpec& light);

/// output: what leaves the bare source, and its levels where no file has to be read for them;
/// false where an error leaves them unknown. The kind, the sizes and the profile are known.
bool read_output(TableReader& r, const Rig& rig, bool sizes_known, LightSpec& light);

}  // namespace jovilux
