#include "jovilux/transport/light_path_plan.h"

#include "jovilux/base/parallel.h"
#include "jovilux/transport/path.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <vector>

namespace jovilux {
namespace {

// The picture in blocks, with as many camera samples each.
constexpr int kAcross = 48, kDown = 32;
constexpr std::uint32_t kSamples = 6;
constexpr std::array<double, 10> kPathsPerPixel = {
    kLeastLightPathsPerPixel, 1.0 / 32, 1.0 / 16, 0.125, 0.25, 0.5, 1, 2, 4, 8};
// A step of a march costs about as much of a ray (jovilux_bench march).
constexpr double kStepRays = 0.2;
// What is dark counts as this share of the mean: the white is not known yet.
constexpr double kFloor = 0.05;

struct Blocks {
  std::vector<double> level;  // mean luminance, at least the floor
  std::vector<double> noise;  // relative variance of a sample
  double work = 0;            // of a sample, in rays
};

double work_of(const RayCounts& rays) {
  return static_cast<double>(rays.camera + rays.path + rays.shadow) +
         kStepRays * static_cast<double>(rays.march.steps);
}

Blocks rough_picture(const Scene& scene,
                     const Camera& camera,
                     int width,
                     int height,
                     int bounces,
                     std::uint32_t seed) {
  constexpr std::uint32_t kStream = 0x726f7567U;
  constexpr std::size_t kCount = static_cast<std::size_t>(kAcross) * kDown;
  std::vector<double> mean(kCount), variance(kCount);
  std::vector<RayCounts> rays(kCount);
  const std::size_t slots = scene.layers.size();
  parallel_for(kCount, [&](std::size_t b) {
    std::vector<float> sums(slots * 3), luminance(slots);
    // All of a block's samples look at one place, so that what differs is noise.
    const std::size_t row = b / kAcross;
    const float x = (static_cast<float>(b % kAcross) + 0.5f) * static_cast<float>(width) / kAcross,
                y = (static_cast<float>(row) + 0.5f) * static_cast<float>(height) / kDown;
    double sum = 0, squares = 0;
    const MarchCounts march_before = march_counts();
    for (std::uint32_t s = 0; s < kSamples; ++s) {
      const Sampler sampler(seed, mix(kStream + static_cast<std::uint32_t>(b), s), 0);
      LightSink sink(sums.data(), luminance.data(), 1);
      PathOptions options;
      options.bounces = bounces;
      trace_path(
          scene, camera.ray(x, y, sampler.pair(1)), sampler, options, sink, nullptr, rays[b]);
      sum += sink.total();
      squares += static_cast<double>(sink.total()) * sink.total();
    }
    rays[b].march += march_counts() - march_before;
    mean[b] = sum / kSamples;
    variance[b] = std::max(0.0, squares - sum * sum / kSamples) / (kSamples - 1);
  });
  Blocks out;
  out.level = mean;
  out.noise.resize(kCount);
  double all = 0;
  RayCounts total;
  for (std::size_t b = 0; b < kCount; ++b) {
    all += mean[b];
    total += rays[b];
  }
  const double floor = std::max(1e-12, kFloor * all / static_cast<double>(kCount));
  for (std::size_t b = 0; b < kCount; ++b) {
    out.level[b] = std::max(mean[b], floor);
    out.noise[b] = variance[b] / (out.level[b] * out.level[b]);
  }
  out.work = work_of(total) / static_cast<double>(kCount * kSamples);
  return out;
}

}  // namespace

double light_paths_per_pixel(const Scene& scene,
                             const Camera& camera,
                             const LightPaths& paths,
                             int width,
                             int height,
                             int bounces,
                             std::uint32_t seed) {
  if (!paths.any()) {
    return 0;
  }
  const LightPaths::Round& trial = paths.trial();
  const bool only_so = paths.only_so();
  if (trial.splats.empty()) {
    return only_so ? kPathsPerPixel.front() : 0;
  }
  const Blocks picture = rough_picture(scene, camera, width, height, bounces, seed);
  // Of each number of paths, first of none, the relative variance that caustics add to a sample of
  // each block.
  std::array<std::vector<double>, kPathsPerPixel.size() + 1> added;
  added.fill(std::vector<double>(picture.level.size()));
  // As many paths as there are pixels would bring their sum to the picture.
  const double per_pixel =
      static_cast<double>(picture.level.size()) / static_cast<double>(trial.cells.size());
  for (const Splat& s : trial.splats) {
    const auto x = static_cast<int>(s.pixel % static_cast<std::uint32_t>(width)),
               y = static_cast<int>(s.pixel / static_cast<std::uint32_t>(width));
    const std::size_t block = static_cast<std::size_t>(y * kDown / height) * kAcross +
                              static_cast<std::size_t>(x * kAcross / width);
    // What the path brings alone, one of as many as there are pixels.
    const double r = s.ratio, weight = std::isinf(r) ? 1 : 1 / (1 + 1 / (r * r)),
                 alone =
                     weight > 0 ? static_cast<double>(s.xyz[1]) / weight / picture.level[block] : 0;
    const double square = alone * alone * per_pixel;
    added[0][block] += square * r;
    for (std::size_t k = 0; k < kPathsPerPixel.size(); ++k) {
      const double rk = r * kPathsPerPixel[k], w = std::isinf(rk) ? 1 : 1 / (1 + 1 / (rk * rk));
      added[k + 1][block] +=
          square * (w * w / kPathsPerPixel[k] + (std::isinf(r) ? 0 : r * (1 - w) * (1 - w)));
    }
  }
  const double each = work_of(trial.rays) / static_cast<double>(trial.cells.size());
  const auto cost = [&](std::size_t k) {
    double deviation = 0;  // the mean of the blocks', which no single path decides
    for (std::size_t b = 0; b < picture.level.size(); ++b) {
      deviation += std::sqrt(picture.noise[b] + added[k][b]);
    }
    return deviation * deviation * (picture.work + (k == 0 ? 0 : kPathsPerPixel[k - 1]) * each);
  };
  std::size_t best = only_so ? 1 : 0;
  for (std::size_t k = best + 1; k <= kPathsPerPixel.size(); ++k) {
    best = cost(k) < cost(best) ? k : best;
  }
  return best == 0 ? 0 : kPathsPerPixel[best - 1];
}

}  // namespace jovilux
