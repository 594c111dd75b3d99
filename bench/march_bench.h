#pragma once

#include "jovilux/geometry/world.h"

#include <string>
#include <vector>

namespace jovilux {

/// A thing 1 m across, alone in its world.
struct MarchSubject {
  std::string name;
  World world;
};

/// An analytic sphere, a marched one, and marched solids of several kinds.
std::vector<MarchSubject> march_subjects();

/// What rays cost that start 3 m from a subject, half of which hit it.
struct MarchRate {
  double rays_per_s = 0;       ///< one thread, the best run
  std::uint64_t hits = 0;      ///< of 200,000
  double steps_per_march = 0;  ///< evaluations of a distance
  std::uint64_t out_of_steps = 0;
};

/// Times a subject on the calling thread.
MarchRate march_rate(const World& world, int runs = 5);

/// `march`: times all subjects: JSON to stdout, a table to stderr. Returns an exit status.
int bench_solids();

}  // namespace jovilux
