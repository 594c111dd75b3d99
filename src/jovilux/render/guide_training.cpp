#include "jovilux/render/guide_training.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/camera.h"
#include "jovilux/render/haze_lights.h"
#include "jovilux/render/virtual_lights.h"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace jovilux {
namespace {

constexpr std::uint64_t kFirstPaths = 1 << 14, kMostTrainingPaths = 1 << 20;
constexpr double kPathsOfSamples = 1.0 / 16, kPhotonsOfSamples = 1.0 / 32;
constexpr std::size_t kLeastPhotons = 1 << 15, kMostPhotons = 1 << 18;
// Paths of light that a sample of all pixels is connected to: an eighth of the pixels.
constexpr std::size_t kLeastLightPaths = 1 << 10, kMostLightPaths = 1 << 13;
// Camera paths are connected where that much of the light comes by bounces or haze: connections
// take about as long as all the rest.
constexpr double kLeastConnected = 0.1;
constexpr int kLearnedBounces = 3;
constexpr std::size_t kPathsPerBlock = 256;
// Directions are left to surfaces and phase functions where guiding makes those that bring light
// likelier by less than these factors: a look into the guide costs some time, and points of a
// low-discrepancy sequence lose some of their evenness by it. In haze, whose phase function sends
// light to many places that matter, much is needed.
// Beside haze, whose noise surfaces do not lower, the time is better spent on samples.
constexpr double kLeastSurfaceGain = 1.15, kLeastGainInHaze = 5, kLeastGainBesideHaze = 2;

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

// What the paths of all rounds brought: all that surfaces and haze send, and what connections could
// bring of it. Lights that the camera sees straight do not count: they are no noise, and a lamp in
// a few pixels outshines all the rest.
struct Brought {
  double all = 0, scattered = 0, by_connections = 0;

  // Where much of the light comes by bounces or haze, most of it from lights that connections
  // carry; and where paths found nothing, for connections may.
  bool pays_to_connect() const {
    return by_connections >= kLeastConnected * all && by_connections >= 0.5 * scattered;
  }
};

void trace_round(const Scene& scene,
                 const Camera& camera,
                 const PathOptions& options,
                 const TrainingPlan& plan,
                 int round,
                 const Guide* guide,
                 Records& records,
                 Brought& brought,
                 RayCounts& rays) {
  constexpr std::uint32_t kStream = 0x6775696eU;
  const auto paths = static_cast<std::size_t>(paths_of_round(round));
  std::vector<GuideRecorder> recorders(paths / kPathsPerBlock);
  std::vector<RayCounts> counts(recorders.size());
  const std::size_t parts = kPartsWithHaze, slots = scene.layers.size() * parts;
  std::vector<Brought> brought_by(recorders.size());
  const std::vector<bool> carried = VirtualLights::could_carry(scene);
  parallel_for(recorders.size(), [&](std::size_t b) {
    std::vector<float> sums(slots * 3), luminance(slots);
    PathOptions traced = options;
    traced.guide = guide;
    traced.recorder = &recorders[b];
    const MarchCounts march_before = march_counts();
    for (std::size_t i = b * kPathsPerBlock; i < (b + 1) * kPathsPerBlock; ++i) {
      const Sampler sampler(plan.seed,
                            mix(kStream, static_cast<std::uint32_t>(round)),
                            static_cast<std::uint32_t>(i));
      const Vec2 place = sampler.pair(0);
      const Ray ray = camera.ray(place.x() * static_cast<float>(plan.width),
                                 place.y() * static_cast<float>(plan.height),
                                 sampler.pair(1));
      LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
      trace_path(scene, ray, sampler, traced, sink, nullptr, counts[b]);
    }
    counts[b].march += march_counts() - march_before;
    brought_by[b].all -= recorders[b].seen;
    for (std::size_t slot = 0; slot < slots; ++slot) {
      const auto l = static_cast<double>(luminance[slot]);
      const auto part = static_cast<Part>(slot % parts);
      const double scattered = part == Part::kBounce || part == Part::kHaze ? l : 0.0;
      brought_by[b].all += l;
      brought_by[b].scattered += scattered;
      brought_by[b].by_connections += carried[slot / parts] ? scattered : 0.0;
    }
  });
  for (std::size_t b = 0; b < recorders.size(); ++b) {
    brought.all += brought_by[b].all;
    brought.scattered += brought_by[b].scattered;
    brought.by_connections += brought_by[b].by_connections;
    records.add(recorders[b]);
    rays += counts[b];
  }
}

// Paths that may be traced for learning; two rounds are the least that tells enough.
std::uint64_t most_paths(const TrainingPlan& plan) {
  const double wanted = std::max(plan.samples * kPathsOfSamples, kLeastTrainingSamples);
  return static_cast<std::uint64_t>(std::min(wanted, static_cast<double>(kMostTrainingPaths)));
}

// Where camera paths were scattered.
std::vector<ShadingPlace> places_of(const std::vector<ScatteringRecord>& records) {
  std::vector<ShadingPlace> out;
  out.reserve(records.size());
  for (const ScatteringRecord& r : records) {
    out.push_back({r.p, r.normal});
  }
  return out;
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
  Records records;
  Brought brought;
  PhotonRecords photons;
  const bool direct_only = options.bounces < 2;
  // Connections find what directions would be guided to: whether they do, the first round tells.
  bool connects = false, directions = !direct_only && !plan.connects;
  const auto learn_photons = [&] {
    photons = trace_photons(
        scene,
        std::clamp<std::size_t>(static_cast<std::size_t>(plan.samples * kPhotonsOfSamples),
                                kLeastPhotons,
                                kMostPhotons),
        options.bounces,
        options.light_paths.paths == nullptr,
        plan.seed,
        rays);
  };
  if (directions) {
    learn_photons();
  }
  for (int round = 0;; ++round) {
    const std::uint64_t paths = paths_of_round(round);
    // A round takes four times as long as the one before.
    const double elapsed =
        std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
    const bool in_time = round == 0 || 5 * elapsed <= plan.most_seconds;
    const bool more = plan.rounds > 0
                          ? round < plan.rounds
                          : round == 0 || (in_time && guide->paths + paths <= most_paths(plan));
    if (!more) {
      break;
    }
    const std::size_t newest = records.all.surface_scatterings.size(),
                      newest_in_haze = records.all.haze_scatterings.size();
    // Lights and connections are learned where camera paths are scattered first; where light comes
    // from, by whole paths.
    PathOptions traced = options;
    traced.bounces = directions ? options.bounces : std::min(options.bounces, kLearnedBounces);
    trace_round(scene, camera, traced, plan, round, guide.get(), records, brought, rays);
    if (round == 0 && plan.connects && !direct_only) {
      connects = brought.pays_to_connect();
      directions = !connects;
      if (directions) {
        learn_photons();
      }
    }
    auto next = std::make_shared<Guide>();
    next->paths = guide->paths + paths;
    next->rounds = round + 1;
    const std::size_t slots = scene.light_clusters.slots();
    next->surfaces = GuideTree(records.all.surface_scatterings,
                               photons.surfaces,
                               records.all.surface_lights,
                               slots,
                               newest,
                               directions);
    next->haze = GuideTree(records.all.haze_scatterings,
                           photons.haze,
                           records.all.haze_lights,
                           slots,
                           newest_in_haze,
                           directions);
    guide = std::move(next);
  }
  const std::vector<ShadingPlace> surfaces = places_of(records.all.surface_scatterings),
                                  haze = places_of(records.all.haze_scatterings);
  if (auto lights =
          std::make_shared<HazeLights>(scene.emitters, scene.light_clusters, guide->haze, haze);
      !lights->empty()) {
    guide->haze_lights = std::move(lights);
  }
  // Direct light is sampled toward: directions that meet lights by chance are no loss.
  const double least = scene.hazes.empty() ? kLeastSurfaceGain : kLeastGainBesideHaze;
  // A single round does not tell whether its directions are better.
  const bool untried = guide->rounds < 2;
  if (direct_only || untried || guide->surfaces.gain() < least) {
    guide->surfaces.forget_directions();
  }
  if (direct_only || untried || guide->haze.gain() < kLeastGainInHaze) {
    guide->haze.forget_directions();
  }
  if (connects) {
    VirtualLights::Plan connections;
    connections.bounces = options.bounces;
    connections.haze_bounces = options.haze_bounces;
    connections.seed = plan.seed;
    connections.paths = std::clamp<std::size_t>(
        static_cast<std::size_t>(plan.width) * static_cast<std::size_t>(plan.height) / 8,
        kLeastLightPaths,
        kMostLightPaths);
    auto lights = std::make_shared<VirtualLights>(scene, *guide, surfaces, haze, connections, rays);
    if (lights->any()) {
      guide->virtual_lights = std::move(lights);
      guide->surfaces.forget_directions();
      guide->haze.forget_directions();
    }
  }
  guide->seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  return guide;
}

}  // namespace jovilux
