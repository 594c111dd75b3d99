#pragma once

#include <string>
#include <vector>

namespace jovilux {

/// `track`: what is measured.
struct TrackTask {
  std::string commit;  ///< what the line is named by
  std::vector<std::string> rigs;
  int triangles = 1'200'000;  ///< of each test mesh
  int runs = 3;               ///< of each rate, of which the largest counts
};

/// Measures the main rates on one thread and prints one line of JSON: how much of each is done in
/// the time of a fixed piece of work beside it, the yardstick, so that figures of different hours
/// and machines of a kind compare. Groups: samples of each rig, learning included; choices of
/// virtual lights, in rigs that have them; pixels denoised; rays through test meshes and towards
/// marched solids. Throws std::runtime_error at a rig that cannot be read.
int track_rates(const TrackTask& task);

}  // namespace jovilux
