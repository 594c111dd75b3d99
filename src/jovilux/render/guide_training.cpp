#include "jovilux/render/guide_training.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/camera.h"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace jovilux {
namespace {

constexpr std::uint64_t kFirstPaths = 1 << 14, kMostPaths = 1 << 20;
constexpr double kPathsOfSamples = 1.0 / 16, kPhotonsOfSamples = 1.0 / 32;
constexpr std::size_t kLeastPhotons = 1 << 15, kMostPhotons = 1 << 18;
constexpr std::size_t kBlock = 256;
// Directions are left to surfaces and phase functions where guiding makes those that bring light
// likelier by less than these factors: a look into the guide costs some time, and points of a
// low-discrepancy sequence lose some of their evenness by it. In haze, whose phase function sends
// light to many places that matter, much is needed.
// Beside haze, whose noise surfaces do not lower, the time is better spent on samples.
constexpr double kLeastGain = 1.15, kLeastGainInHaze = 5, kLeastGainBesideHaze = 2;

std::uint64_t paths_of_round(int round) { return kFirstPaths << (2 * round); }

// What all rounds so far have told.
struct Records {
  GuideRecorder all;

  void add(GuideRecorder& r) {
    const auto append = [](auto& to, const auto& from) {
      to.insert(to.end(), from.begin(), from.end());
    };
    append(all.surface_scatterings, r.surface_scatterings);
    append(all.haze_scatterings, r.haze_scatterings);
    append(all.surface_lights, r.surface_lights);
    append(all.haze_lights, r.haze_lights);
  }
};

void trace_round(const Scene& scene,
                 const Camera& camera,
                 const PathOptions& options,
                 const TrainingPlan& plan,
                 int round,
                 const Guide* guide,
                 Records& records,
                 RayCounts& rays) {
  constexpr std::uint32_t kStream = 0x6775696eU;
  const auto paths = static_cast<std::size_t>(paths_of_round(round));
  std::vector<GuideRecorder> recorders(paths / kBlock);
  std::vector<RayCounts> counts(recorders.size());
  const std::size_t slots = scene.layers.size();
  parallel_for(recorders.size(), [&](std::size_t b) {
    std::vector<float> sums(slots * 3), luminance(slots);
    PathOptions traced = options;
    traced.guide = guide;
    traced.recorder = &recorders[b];
    const MarchCounts march_before = march_counts();
    for (std::size_t i = b * kBlock; i < (b + 1) * kBlock; ++i) {
      const Sampler sampler(plan.seed,
                            mix(kStream, static_cast<std::uint32_t>(round)),
                            static_cast<std::uint32_t>(i));
      const Vec2 place = sampler.pair(0);
      const Ray ray = camera.ray(place.x() * static_cast<float>(plan.width),
                                 place.y() * static_cast<float>(plan.height),
                                 sampler.pair(1));
      LightSink sink(sums.data(), luminance.data(), 1);
      trace_path(scene, ray, sampler, traced, sink, nullptr, counts[b]);
    }
    counts[b].march += march_counts() - march_before;
  });
  for (std::size_t b = 0; b < recorders.size(); ++b) {
    records.add(recorders[b]);
    rays += counts[b];
  }
}

}  // namespace

std::shared_ptr<const Guide> learn_guide(const Scene& scene,
                                         const Camera& camera,
                                         const PathOptions& options,
                                         const TrainingPlan& plan,
                                         RayCounts& rays) {
  const auto start = std::chrono::steady_clock::now();
  const bool shines = std::any_of(
      scene.emitters.begin(), scene.emitters.end(), [](const Emitter& e) { return e.shines(); });
  // Two rounds are the least that tells whether guiding pays; small pictures are done before.
  const bool small = plan.rounds == 0 && plan.samples < kLeastTrainingSamples;
  if (!shines || options.bounces < 1 || small) {
    return nullptr;
  }
  auto guide = std::make_shared<Guide>();
  const auto most = static_cast<std::uint64_t>(
      std::min(std::max(plan.samples * kPathsOfSamples, kLeastTrainingSamples),
               static_cast<double>(kMostPaths)));
  Records records;
  const PhotonRecords photons = trace_photons(
      scene,
      std::clamp<std::size_t>(
          static_cast<std::size_t>(plan.samples * kPhotonsOfSamples), kLeastPhotons, kMostPhotons),
      options.bounces,
      options.light_paths.paths == nullptr,
      plan.seed,
      rays);
  for (int round = 0;; ++round) {
    const std::uint64_t paths = paths_of_round(round);
    const bool more =
        plan.rounds > 0 ? round < plan.rounds : round == 0 || guide->paths + paths <= most;
    if (!more) {
      break;
    }
    const std::size_t newest = records.all.surface_scatterings.size(),
                      newest_in_haze = records.all.haze_scatterings.size();
    trace_round(scene, camera, options, plan, round, guide.get(), records, rays);
    auto next = std::make_shared<Guide>();
    next->paths = guide->paths + paths;
    next->rounds = round + 1;
    const std::size_t slots = scene.light_clusters.slots();
    next->surfaces = GuideTree(records.all.surface_scatterings,
                               photons.surfaces,
                               records.all.surface_lights,
                               slots,
                               newest);
    next->haze = GuideTree(
        records.all.haze_scatterings, photons.haze, records.all.haze_lights, slots, newest_in_haze);
    guide = std::move(next);
  }
  // Direct light is sampled toward: directions that meet lights by chance are no loss.
  const bool direct_only = options.bounces < 2;
  const double least = scene.hazes.empty() ? kLeastGain : kLeastGainBesideHaze;
  if (direct_only || guide->surfaces.gain() < least) {
    guide->surfaces.forget_directions();
  }
  if (direct_only || guide->haze.gain() < kLeastGainInHaze) {
    guide->haze.forget_directions();
  }
  guide->seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return guide;
}

}  // namespace jovilux
