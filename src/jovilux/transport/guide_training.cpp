#include "jovilux/transport/guide_training.h"

#include "jovilux/base/parallel.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/haze_lights.h"
#include "jovilux/transport/sky_guide.h"
#include "jovilux/transport/virtual_lights.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

constexpr std::uint64_t kFirstPaths = 1 << 13, kMostTrainingPaths = 1 << 20;
// Two rounds are the least that tells enough.
constexpr double kLeastTrainingPaths = 5 * kFirstPaths;
// A path that learns takes about three times as long as a sample (demo's bench).
constexpr double kPathsOfSamples = 1.0 / 32, kPhotonsOfSamples = 1.0 / 32;
constexpr std::size_t kLeastPhotons = 1 << 15, kMostPhotons = 1 << 18;
// Paths of light that a sample of all pixels is connected to: an eighth of the pixels.
constexpr std::size_t kLeastLightPaths = 1 << 10, kMostLightPaths = 1 << 13;
// Camera paths are connected where that much of the light comes by bounces or haze: connections
// take about as long as all the rest. With 8 % (bench/scenes/gloss) they lose, with 10.5 % (the
// demo's bench) they have a third of the squared error.
constexpr double kLeastConnected = 0.09;
// Distant lights are connected where at most this part of their light arrives at the places of
// camera paths. Where more arrives, a path's next surface is lit as well, and connections cost
// about what they bring: in a yard (86 %) half the squared error in 2.5 times the time. In a room
// with a window (3 %, with sun 14 %) they bring an eighth and a seventeenth in twice the time.
constexpr double kMostDistantArrives = 0.25;
// Looks at virtual lights, a ray each, by which places learn that hardly any light reaches.
constexpr double kLooksOfSamples = 2, kMostLooks = 1e7;
// Shadow rays toward skies and domes, by which places learn where their light comes from.
constexpr double kSkyRaysOfSamples = 1, kMostSkyRays = 4e6;
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

// What a path brought: all that surfaces and haze send, and what connections could bring of it, of
// lamps alone and with distant lights. Lights that the camera sees straight do not count: they are
// no noise.
struct Brought {
  float all = 0, scattered = 0, of_lamps = 0, by_connections = 0;
};

// Of the layers, those whose lights connections could carry.
struct Carried {
  std::vector<bool> lamps, with_distant;
};

// What the paths of a round brought, in blocks that are each spread over the whole picture.
using BroughtByBlock = std::vector<std::array<Brought, kPathsPerBlock>>;

// The middle one of the blocks' mean luminances: a path that meets a lamp's bright spot on the wall
// behind it decides nothing. The mean of all where most blocks are dark.
float middle_level(const BroughtByBlock& blocks) {
  std::vector<float> levels;
  for (const auto& block : blocks) {
    float sum = 0;
    for (const Brought& path : block) {
      sum += path.all;
    }
    levels.push_back(sum / static_cast<float>(kPathsPerBlock));
  }
  const auto middle = levels.begin() + static_cast<std::ptrdiff_t>(levels.size() / 2);
  std::nth_element(levels.begin(), middle, levels.end());
  return *middle > 0 ? *middle
                     : std::accumulate(levels.begin(), levels.end(), 0.0f) /
                           static_cast<float>(levels.size());
}

// Whether camera paths are connected: where much of the light comes by bounces or haze, most of it
// from lights that connections carry; and where paths found nothing, for connections may. A path
// counts by what it brought relative to itself and the picture's level, as noise does.
bool pays_to_connect(const BroughtByBlock& blocks, bool distant) {
  const float level = middle_level(blocks);
  double all = 0, scattered = 0, by_connections = 0;
  for (const auto& block : blocks) {
    for (const Brought& path : block) {
      if (path.all > 0) {
        const double weight = 1 / static_cast<double>(path.all + level);
        all += weight * static_cast<double>(path.all);
        scattered += weight * static_cast<double>(path.scattered);
        by_connections +=
            weight * static_cast<double>(distant ? path.by_connections : path.of_lamps);
      }
    }
  }
  return by_connections >= kLeastConnected * all && by_connections >= 0.5 * scattered;
}

// The part of the distant lights' light that arrives at places of camera paths; 1 without any.
double distant_arrives(const Scene& scene, const std::vector<LightRecord>& records) {
  std::vector<bool> from_far(scene.light_clusters.slots());
  for (const std::uint32_t i : scene.distant) {
    from_far[scene.light_clusters.slot_of(i)] = true;
  }
  double sent = 0, arrived = 0;
  for (const LightRecord& r : records) {
    if (from_far[r.slot]) {
      sent += static_cast<double>(r.sent);
      arrived += static_cast<double>(r.arrived);
    }
  }
  return sent > 0 ? arrived / sent : 1;
}

// luminance: of each slot, as a picture with haze has them; seen: of lights seen straight.
Brought what_was_brought(const std::vector<float>& luminance, const Carried& carried, double seen) {
  Brought out;
  out.all = -static_cast<float>(seen);
  for (std::size_t slot = 0; slot < luminance.size(); ++slot) {
    const auto part = static_cast<Part>(slot % kPartsWithHaze);
    const float scattered = part == Part::kBounce || part == Part::kHaze ? luminance[slot] : 0.0f;
    out.all += luminance[slot];
    out.scattered += scattered;
    out.of_lamps += carried.lamps[slot / kPartsWithHaze] ? scattered : 0.0f;
    out.by_connections += carried.with_distant[slot / kPartsWithHaze] ? scattered : 0.0f;
  }
  out.all =
      std::max(out.all, out.scattered);  // what was seen straight is taken off with a rounding
  return out;
}

void trace_round(const Scene& scene,
                 const Camera& camera,
                 const PathOptions& options,
                 const TrainingPlan& plan,
                 int round,
                 const Guide* guide,
                 Records& records,
                 BroughtByBlock& brought,
                 RayCounts& rays) {
  constexpr std::uint32_t kStream = 0x6775696eU;
  const auto paths = static_cast<std::size_t>(paths_of_round(round));
  std::vector<GuideRecorder> recorders(paths / kPathsPerBlock);
  std::vector<RayCounts> counts(recorders.size());
  const std::size_t parts = kPartsWithHaze, slots = scene.layers.size() * parts;
  brought.assign(recorders.size(), {});
  const Carried carried{VirtualLights::could_carry(scene, false),
                        VirtualLights::could_carry(scene, true)};
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
      std::fill(luminance.begin(), luminance.end(), 0.0f);
      const double seen_before = recorders[b].seen;
      LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
      trace_path(scene, ray, sampler, traced, sink, nullptr, counts[b]);
      brought[b][i % kPathsPerBlock] =
          what_was_brought(luminance, carried, recorders[b].seen - seen_before);
    }
    counts[b].march += march_counts() - march_before;
  });
  for (std::size_t b = 0; b < recorders.size(); ++b) {
    records.add(recorders[b]);
    rays += counts[b];
  }
}

// Paths that may be traced for learning.
std::uint64_t most_paths(const TrainingPlan& plan) {
  const double wanted = std::max(plan.samples * kPathsOfSamples, kLeastTrainingPaths);
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
  BroughtByBlock brought;  // by the newest round
  PhotonRecords photons;
  const bool direct_only = options.bounces < 2;
  // Connections find what directions would be guided to: whether they do, the first round tells.
  bool connects = false, distant = false, directions = !direct_only && !plan.connects;
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
      distant = distant_arrives(scene, records.all.surface_lights) < kMostDistantArrives;
      connects = pays_to_connect(brought, distant);
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
  if (auto skies =
          std::make_shared<SkyGuide>(scene,
                                     guide->surfaces,
                                     surfaces,
                                     std::min(plan.samples * kSkyRaysOfSamples, kMostSkyRays),
                                     plan.seed,
                                     rays);
      skies->any()) {
    guide->skies = std::move(skies);
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
    connections.distant = distant;
    connections.looks = std::min(plan.samples * kLooksOfSamples, kMostLooks);
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
