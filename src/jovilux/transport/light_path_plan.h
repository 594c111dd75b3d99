#pragma once

#include "jovilux/scene/scene.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/light_paths.h"

#include <cstdint>

namespace jovilux {

/// How many light paths a sample of the whole picture is to have for each of its pixels: 0, or a
/// power of two from 1/64 to 2, so that variance times work is least. The variance is the square
/// of the mean standard deviation of a sample over its level, from a few camera paths over the
/// picture and, for each number of paths, that of what a round of light paths found, joined with
/// the camera's paths by their weights; work counts rays and steps of marches. The same for all
/// threads and processes. Where that found nothing, 0;
/// or the least, where some lights' caustics are found in no other way.
inline constexpr double kLeastLightPathsPerPixel = 1.0 / 64;
double light_paths_per_pixel(const Scene& scene,
                             const Camera& camera,
                             const LightPaths& paths,
                             int width,
                             int height,
                             int bounces,
                             std::uint32_t seed);

}  // namespace jovilux
