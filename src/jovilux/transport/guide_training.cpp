#include "jovilux/transport/guide_training.h"

#include "jovilux/base/parallel.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/haze_lights.h"
#include "jovilux/transport/late_caustics.h"
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

// Adds a round's records to those of all rounds so far.
void append(GuideRecorder& all, const GuideRecorder& round) {
  const auto add = [](auto& to, const auto& from) {
    to.insert(to.end(), from.begin(), from.end());
  };
  add(all.surface_scatterings, round.surface_scatterings);
  add(all.haze_scatterings, round.haze_scatterings);
  add(all.surface_lights, round.surface_lights);
  add(all.haze_lights, round.haze_lights);
}

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
double distant_arrives(const Scene& scene, const GuideRecorder& records) {
  std::vector<bool> from_far(scene.light_clusters.slots());
  for (const std::uint32_t i : scene.distant) {
    from_far[scene.light_clusters.slot_of(i)] = true;
  }
  double sent = 0, arrived = 0;
  for (const auto* lights : {&records.surface_lights, &records.haze_lights}) {
    for (const LightRecord& r : *lights) {
      if (from_far[r.slot]) {
        sent += static_cast<double>(r.sent);
        arrived += static_cast<double>(r.arrived);
      }
    }
  }
  return sent > 0 ? arrived / sent : 1;
}

// luminance: of each slot, as a picture with haze has them; seen: of lights seen straight;
// through_glass: whether connections carry light that rough glass lets through, which the pictures
// have among caustics.
Brought what_was_brought(const std::vector<float>& luminance,
                         const Carried& carried,
                         bool through_glass,
                         double seen) {
  Brought out;
  out.all = -static_cast<float>(seen);
  for (std::size_t slot = 0; slot < luminance.size(); ++slot) {
    const auto part = static_cast<Part>(slot % kPartsWithHaze);
    const float scattered =
        part == Part::kBounce || part == Part::kHaze || (through_glass && part == Part::kCaustic)
            ? luminance[slot]
            : 0.0f;
    out.all += luminance[slot];
    out.scattered += scattered;
    out.of_lamps += carried.lamps[slot / kPartsWithHaze] ? scattered : 0.0f;
    out.by_connections += carried.with_distant[slot / kPartsWithHaze] ? scattered : 0.0f;
  }
  out.all =
      std::max(out.all, out.scattered);  // what was seen straight is taken off with a rounding
  return out;
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
    out.push_back({r.p, r.normal, r.travel, r.g});
  }
  return out;
}

// Learns in rounds of camera paths, each guided by what the rounds before it told.
class GuideTraining {
 public:
  GuideTraining(const Scene& scene,
                const Camera& camera,
                const PathOptions& options,
                const TrainingPlan& plan,
                RayCounts& rays)
      : scene_(scene),
        camera_(camera),
        options_(options),
        plan_(plan),
        rays_(rays),
        direct_only_(options.bounces < 2),
        through_rough_glass_(std::any_of(scene.materials.begin(),
                                         scene.materials.end(),
                                         [](const SurfaceModel& m) {
                                           return m.kind == SurfaceKind::kGlass &&
                                                  VirtualLights::stand_on(m);
                                         })),
        directions_(!direct_only_ && !plan.connects) {}

  std::shared_ptr<const Guide> learn() {
    if (directions_) {
      learn_photons();
    }
    for (int round = 0; goes_on(round); ++round) {
      learn_round(round);
    }
    const std::vector<ShadingPlace> surfaces = places_of(records_.surface_scatterings),
                                    haze = places_of(records_.haze_scatterings);
    learn_lights(surfaces, haze);
    forget_directions_without_gain();
    if (connects_) {
      learn_connections(surfaces, haze);
    }
    guide_->caustics = GuideTree::of_photons(plan_.caustics);
    guide_->seconds = seconds();
    return guide_;
  }

 private:
  double seconds() const {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
  }

  std::size_t photon_count() const {
    const auto wanted = static_cast<std::size_t>(plan_.samples * kPhotonsOfSamples);
    return std::clamp(wanted, kLeastPhotons, kMostPhotons);
  }

  void learn_photons() {
    photons_ = trace_photons(scene_,
                             photon_count(),
                             options_.bounces,
                             options_.light_paths.paths == nullptr,
                             plan_.seed,
                             rays_);
  }

  bool goes_on(int round) const {
    if (plan_.rounds > 0) {
      return round < plan_.rounds;
    }
    // A round takes four times as long as the one before.
    return round == 0 || (5 * seconds() <= plan_.most_seconds &&
                          guide_->paths + paths_of_round(round) <= most_paths(plan_));
  }

  void learn_round(int round) {
    const std::size_t newest = records_.surface_scatterings.size(),
                      newest_in_haze = records_.haze_scatterings.size();
    const BroughtByBlock brought = trace_round(round);
    if (round == 0 && plan_.connects && !direct_only_) {
      distant_ = distant_arrives(scene_, records_) < kMostDistantArrives;
      connects_ = pays_to_connect(brought, distant_);
      // Connections to lamps find what directions would be guided to. Of suns and skies some light
      // is left to camera paths, which then learn with all of their bounces.
      directions_ = !connects_ || distant_;
      if (directions_) {
        learn_photons();
      }
    }
    auto next = std::make_shared<Guide>();
    next->paths = guide_->paths + paths_of_round(round);
    next->rounds = round + 1;
    next->usual_luminance = middle_level(brought);
    const std::size_t slots = scene_.light_clusters.slots();
    next->surfaces = GuideTree(records_.surface_scatterings,
                               photons_.surfaces,
                               records_.surface_lights,
                               slots,
                               newest,
                               directions_);
    next->haze = GuideTree(records_.haze_scatterings,
                           photons_.haze,
                           records_.haze_lights,
                           slots,
                           newest_in_haze,
                           directions_);
    guide_ = std::move(next);
  }

  // Records are kept in the order of the paths, whichever thread traced them.
  BroughtByBlock trace_round(int round) {
    const auto paths = static_cast<std::size_t>(paths_of_round(round));
    std::vector<GuideRecorder> recorders(paths / kPathsPerBlock);
    std::vector<RayCounts> counts(recorders.size());
    BroughtByBlock brought(recorders.size());
    const Carried carried{VirtualLights::could_carry(scene_, false),
                          VirtualLights::could_carry(scene_, true)};
    parallel_for(recorders.size(), [&](std::size_t b) {
      const MarchCounts march_before = march_counts();
      brought[b] = trace_block(round, b, carried, recorders[b], counts[b]);
      counts[b].march += march_counts() - march_before;
    });
    for (std::size_t b = 0; b < recorders.size(); ++b) {
      append(records_, recorders[b]);
      rays_ += counts[b];
    }
    return brought;
  }

  BroughtByBlock::value_type trace_block(int round,
                                         std::size_t block,
                                         const Carried& carried,
                                         GuideRecorder& recorder,
                                         RayCounts& counts) const {
    constexpr std::uint32_t kStream = 0x6775696eU;
    const std::size_t slots = scene_.layers.size() * kPartsWithHaze;
    std::vector<float> sums(slots * 3), luminance(slots);
    PathOptions traced = options_;
    // Lights and connections are learned where camera paths are scattered first; where light comes
    // from, by whole paths.
    traced.bounces = directions_ ? options_.bounces : std::min(options_.bounces, kLearnedBounces);
    traced.guide = guide_.get();
    traced.recorder = &recorder;
    BroughtByBlock::value_type brought;
    for (std::size_t i = 0; i < kPathsPerBlock; ++i) {
      const Sampler sampler(plan_.seed,
                            mix(kStream, static_cast<std::uint32_t>(round)),
                            static_cast<std::uint32_t>(block * kPathsPerBlock + i));
      const Vec2 place = sampler.pair(0);
      const Ray ray = camera_.ray(place.x() * static_cast<float>(plan_.width),
                                  place.y() * static_cast<float>(plan_.height),
                                  sampler.pair(1));
      std::fill(luminance.begin(), luminance.end(), 0.0f);
      const double seen_before = recorder.seen;
      LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
      trace_path(scene_, ray, sampler, traced, sink, nullptr, counts);
      brought[i] =
          what_was_brought(luminance, carried, through_rough_glass_, recorder.seen - seen_before);
    }
    return brought;
  }

  // Which lights and parts of skies bring light to a place.
  void learn_lights(const std::vector<ShadingPlace>& surfaces,
                    const std::vector<ShadingPlace>& haze) {
    auto lights =
        std::make_shared<HazeLights>(scene_.emitters, scene_.light_clusters, guide_->haze, haze);
    if (!lights->empty()) {
      guide_->haze_lights = std::move(lights);
    }
    auto skies =
        std::make_shared<SkyGuide>(scene_,
                                   guide_->surfaces,
                                   surfaces,
                                   std::min(plan_.samples * kSkyRaysOfSamples, kMostSkyRays),
                                   plan_.seed,
                                   rays_);
    if (skies->any()) {
      guide_->skies = std::move(skies);
    }
  }

  void forget_directions_without_gain() {
    // Direct light is sampled toward: directions that meet lights by chance are no loss. And a
    // single round does not tell whether its directions are better.
    const bool none = direct_only_ || guide_->rounds < 2;
    const double least = scene_.hazes.empty() ? kLeastSurfaceGain : kLeastGainBesideHaze;
    if (none || guide_->surfaces.gain() < least) {
      guide_->surfaces.forget_directions();
    }
    if (none || guide_->haze.gain() < kLeastGainInHaze) {
      guide_->haze.forget_directions();
    }
  }

  void learn_connections(const std::vector<ShadingPlace>& surfaces,
                         const std::vector<ShadingPlace>& haze) {
    VirtualLights::Plan plan;
    plan.bounces = options_.bounces;
    plan.haze_bounces = options_.haze_bounces;
    plan.seed = plan_.seed;
    plan.paths = std::clamp<std::size_t>(
        static_cast<std::size_t>(plan_.width) * static_cast<std::size_t>(plan_.height) / 8,
        kLeastLightPaths,
        kMostLightPaths);
    plan.distant = distant_;
    plan.looks = std::min(plan_.samples * kLooksOfSamples, kMostLooks);
    auto lights = std::make_shared<VirtualLights>(scene_, *guide_, surfaces, haze, plan, rays_);
    if (lights->any()) {
      guide_->virtual_lights = std::move(lights);
      guide_->late_caustics = learn_late_caustics(
          scene_, {photon_count(), options_.bounces, plan_.seed}, surfaces, rays_);
      if (!distant_) {
        guide_->surfaces.forget_directions();
        guide_->haze.forget_directions();
      }
    }
  }

  const std::chrono::steady_clock::time_point start_ = std::chrono::steady_clock::now();
  const Scene& scene_;
  const Camera& camera_;
  const PathOptions& options_;
  const TrainingPlan& plan_;
  RayCounts& rays_;
  const bool direct_only_;
  const bool through_rough_glass_;           // virtual lights stand on glass of the scene
  bool directions_;                          // whether it is learned where light comes from
  bool connects_ = false, distant_ = false;  // whether camera paths are connected, also of skies
  std::shared_ptr<Guide> guide_ = std::make_shared<Guide>();
  GuideRecorder records_;  // of all rounds so far
  PhotonRecords photons_;
};

}  // namespace

std::shared_ptr<const Guide> learn_guide(const Scene& scene,
                                         const Camera& camera,
                                         const PathOptions& options,
                                         const TrainingPlan& plan,
                                         RayCounts& rays) {
  const bool shines = std::any_of(
      scene.emitters.begin(), scene.emitters.end(), [](const Emitter& e) { return e.shines(); });
  // Two rounds are the least that tells whether guiding pays; small pictures are done before.
  const bool small = plan.rounds == 0 && plan.samples < kLeastTrainingSamples;
  if (!shines || options.bounces < 1 || small) {
    return nullptr;
  }
  return GuideTraining(scene, camera, options, plan, rays).learn();
}

}  // namespace jovilux
