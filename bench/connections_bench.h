#pragma once

#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <optional>
#include <string>

namespace jovilux {

/// What camera paths are connected to, and at what price; all by one thread.
struct ConnectionRates {
  double learning_s = 0, set_s = 0;  ///< of all that is learned, and of tracing one set
  double lights_of_set = 0;          ///< in the mean
  double choices_per_s = 0;
  double arrived_share = 0;    ///< of what is chosen, 0 to 1: nothing stands in the way
  double late_caustics_s = 0;  ///< of learning late caustics from 32,768 photons at most
  std::size_t cells = 0, bytes = 0, late_caustic_cells = 0;
};

/// Nothing where the rig has no light that is worth connecting to.
std::optional<ConnectionRates> connection_rates(const Rig& rig, const Scene& scene);

/// Connections to virtual lights in a rig, one thread: how long it takes to learn them, to trace a
/// set and to choose from it, and how many of those that are chosen nothing stands in the way of.
/// JSON to stdout, a table to stderr. Returns an exit status; 2 where the rig cannot be read or has
/// no light that is worth connecting to.
int bench_connections(const std::string& file);

}  // namespace jovilux
