#pragma once

#include "jovilux/transport/guide.h"
#include "jovilux/transport/path.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <limits>
#include <memory>
#include <vector>

namespace jovilux {

class Camera;

/// Pictures of fewer samples are rendered without learning.
inline constexpr double kLeastTrainingSamples = 5 * (1 << 14);
/// What stands for the samples of a picture whose number is not known before.
inline constexpr double kTargetTrainingSamples = 16 * kLeastTrainingSamples;

/// How much is learned before a picture.
struct TrainingPlan {
  int width = 0, height = 0;  ///< of the picture
  std::uint32_t seed = 1;
  /// Samples of all pixels together that the picture will have at most: up to one 32nd of as many
  /// paths are traced for learning, at least 40,960.
  double samples = 0;
  int rounds = 0;         ///< exactly so many; 0: as many as `samples` allows
  bool connects = false;  ///< whether camera paths may be connected to light paths
  /// LightPaths::take_caustics().
  std::vector<PhotonRecord> caustics;
  /// Where `rounds` is 0: no round is begun that would end after so long.
  double most_seconds = std::numeric_limits<double>::infinity();
};

/// Learns how light goes to a camera, in rounds of paths that double; each round is guided by what
/// the rounds before it told. Which bits come out depends on the arguments and the number of rounds
/// only: records are kept in the order of the paths. `options`: how the picture's paths are traced.
/// Null where there is nothing to learn, or the picture is so small that it is done before.
///
/// `rays`: added to.
std::shared_ptr<const Guide> learn_guide(const Scene& scene,
                                         const Camera& camera,
                                         const PathOptions& options,
                                         const TrainingPlan& plan,
                                         RayCounts& rays);

}  // namespace jovilux
