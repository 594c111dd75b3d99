#pragma once

#include <string>

namespace jovilux {

/// `lights`: variance times time of direct light from each form, sampled as rendering does, against
/// points spread evenly over its surface, also through masks; and what choosing one of many lamps
/// adds to the noise.
/// `samples` of each. Prints a table
/// to stderr and JSON to stdout; returns an exit status.
int bench_lights(int samples);

/// `haze`: the same for light that even haze scatters once along a ray past a lamp, against places
/// spread evenly and by what is left of the light.
int bench_haze(int samples);

/// `scenes`: what error each rig of a folder has after `seconds` on `threads` threads (0: all),
/// against one of `reference` seconds.
int bench_scenes(const std::string& folder, double seconds, double reference, int threads);

}  // namespace jovilux
