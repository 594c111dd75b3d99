#include "jovilux/render/path.h"

#include "jovilux/render/haze_lights.h"
#include "jovilux/render/sky_guide.h"
#include "jovilux/render/virtual_lights.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <optional>

namespace jovilux {
namespace {

// Pairs of dimensions of one scattering.
constexpr std::uint32_t kPairsPerVertex = 4;
enum Use : std::uint32_t { kLight = 0, kScatter = 1, kChoices = 2, kRoulette = 3 };
// Pairs of dimensions of the haze before a scattering; far from the others, whose points stay what
// they are without haze. Passing a pane is no scattering, but the stretch of haze behind it has
// pairs of its own.
constexpr std::uint32_t kHazePairs = 1U << 20, kHazePairsPerVertex = 8,
                        kHazePairsPerPane = 1U << 14;
constexpr std::uint32_t kPanePairs = 1U << 24, kMaskPairs = kPanePairs + kMostPanes,
                        kTrackingPairs = kMaskPairs + kMostPanes,
                        kCertainLightPairs = kTrackingPairs + 1, kLightPairsPerVertex = 4,
                        kVirtualLightPairs = 1U << 27, kVirtualPairsPerVertex = 8;
// Lights that a path which is recorded asks for what arrives of them, at each surface.
constexpr std::uint32_t kProbePairs = 1U << 29, kProbes = 3;
// Connections to virtual lights at the first vertex of a camera path, at later ones, and at each of
// the places where even haze scatters its first ray: the camera's ray and all before it are shared
// by them. The best of 2, 4, 6 and 8 at equal time (docs/performance.md, "Connections").
constexpr int kFirstConnections = 6, kLaterConnections = 2, kHazeConnections = 4;
static_assert(kFirstConnections <= static_cast<int>(VirtualLights::kMostChosen) &&
              kHazeConnections <= static_cast<int>(VirtualLights::kMostChosen));
static_assert(kHazePairs + kMostPanes * kHazePairsPerPane < kPanePairs);
enum HazeUse : std::uint32_t {
  kAlong = 0,
  kAlongLight = 1,
  kPlace = 2,
  kHere = 3,
  kHereLight = 4,
  kTurn = 5,
  kMixture = 6
};
// The camera's path through haze is followed apart behind so many panes at most.
constexpr std::uint32_t kPanesApart = 2;
// It is followed with the chance of what haze takes, but not less than this; the path that goes on
// from the surface behind it with the chance of what haze leaves, so that both cost about one path.
constexpr float kLeastFollowed = 0.1f, kLeastOnward = 0.3f;
// Along the camera's ray through even haze: lights sampled toward from so many places that suit
// them, fewer where choosing among many lights takes long; and so many places by what haze takes.
constexpr std::uint32_t kHazeSplitPairs = 1U << 28, kSplitPairsPerPane = 128;
constexpr std::size_t kFewLights = 4, kSomeLights = 12;
constexpr int kAlongFew = 4, kAlongSome = 4, kAlongMany = 2, kPlacesFew = 4, kPlacesMany = 2;

// In how many ways a place in haze is found, each with its density; see through_haze.
struct HazeWays {
  float along = 1;  // lights chosen for the whole ray, so many
  float here = 0;   // density of places where a light is chosen, of all of them [1/m]
  float path = 0;   // of the place where the path is scattered [1/m]
};

// What the last scattering knew, to weigh a light that the next ray meets.
struct Departure {
  Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
  float pdf = 0;                   // of the direction, however it was chosen [1/sr]
  LightSet lights;                 // that were sampled toward at p,
  std::span<const float> arrives;  // chosen by what arrives of them
  std::uint32_t cell = kNoIndex;   // of the guide
  bool both_sides = false;         // a translucent surface, which lights behind it reach as well
  bool certain = true;             // camera or mirror: no light was sampled toward
  bool rough_before = false;       // before it lies a surface that is no mirror
  std::uint64_t links = ~std::uint64_t{0};  // lists of linked objects that hold all surfaces so far
  const SurfaceModel* material = nullptr;   // null: haze
  const float* row = nullptr;  // chances of clusters of virtual lights; null: none were asked
  bool inside = false;         // glass, left from within
  bool unshadowed = false;     // a surface that receives no shadow: lights are sampled toward alone
  std::uint32_t surface = kNoIndex;
  // How unlikely the way from the camera was, for LightPaths; 0: they have none like it. And up to
  // here, where paths of light begin by the gloss of the surface; 0: none do.
  double unlike = 0, unlike_to_gloss = 0;
  // Where haze scattered: the ray it happened on, its end, where, a choice among the lights along
  // it, and the densities there of place and direction.
  Ray haze_ray;
  float haze_end = 0, haze_t = 0;
  LightChoice haze_choice;
  HazeWays ways;
  Vec3 wo = Vec3::UnitZ(), wi = Vec3::UnitZ();  // in the shading frame
  float cos_away = 1;                           // of wo to the surface's own normal
};

// Whether a surface that is no mirror has a glossy part.
bool has_gloss(const SurfaceModel& m) {
  return m.kind != SurfaceKind::kDiffuse && m.kind != SurfaceKind::kTranslucent && m.alpha > 0;
}

// The part of a cell's share of guided directions that suits a surface: its own lobe is the better
// the narrower it is.
float guided_part(const SurfaceModel& m) {
  constexpr float kNarrow = 0.04f, kWide = 0.3f;
  if (m.kind == SurfaceKind::kDiffuse || m.kind == SurfaceKind::kTranslucent) {
    return 1;
  }
  const float wide = std::clamp((m.alpha - kNarrow) / (kWide - kNarrow), 0.0f, 1.0f);
  return m.kind == SurfaceKind::kGloss ? 0.6f + 0.4f * wide : wide;
}

SurfacePoint place_of(const Receiver& r) {
  SurfacePoint out;
  out.position = r.at;
  out.normal = out.shading_normal = r.normal;
  out.offset = 1e-6f * (1 + r.at.cwiseAbs().maxCoeff());
  return out;
}

const SurfaceModel& white_receiver() {
  static const SurfaceModel model = diffuse_surface(Spectrum::Ones(), 0);
  return model;
}

// The distance up to which a shadow ray asks: short of the light by the rounding of its distance,
// so that what it is mounted on does not hide it.
float shadow_end(const Emitter& e, float distance) {
  return e.is_distant() ? kFar : distance * (e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f);
}

template <bool kTimed>
class PathTracer {
 public:
  PathTracer(const Scene& scene,
             const Sampler& sampler,
             const PathOptions& options,
             LightSink& sink,
             FirstHit* first,
             RayCounts& counts)
      : scene_(scene),
        sampler_(sampler),
        options_(options),
        sink_(sink),
        first_(first),
        counts_(counts),
        surface_guide_(options.guide != nullptr && !options.guide->surfaces.empty()
                           ? &options.guide->surfaces
                           : nullptr),
        haze_guide_(options.guide != nullptr && !options.guide->haze.empty() ? &options.guide->haze
                                                                             : nullptr),
        haze_lights_(haze_guide_ != nullptr ? options.guide->haze_lights.get() : nullptr),
        skies_(options.guide != nullptr ? options.guide->skies.get() : nullptr),
        virtual_lights_(options.guide != nullptr && options.virtual_set != nullptr
                            ? options.guide->virtual_lights.get()
                            : nullptr) {
    if (!scene.hazes.empty()) {
      const Vec2 seed = sampler.pair(kTrackingPairs);
      random_ = Rng(static_cast<std::uint64_t>(seed.x() * 0x1p24f) << 24 |
                    static_cast<std::uint64_t>(seed.y() * 0x1p24f));
    }
  }

  void run(const Ray& ray) {
    ++counts_.camera;
    State s;
    s.ray = ray;
    follow(s);
  }

 private:
  // A path on its way.
  struct State {
    Ray ray;
    Spectrum throughput = Spectrum::Ones();
    // The same with each direction's own density, whatever chose it: what surfaces and haze leave
    // of the light. Roulette goes by it, since a direction chosen because it brings much has little
    // throughput.
    Spectrum reflected = Spectrum::Ones();
    Departure from;
    // Lists of linked objects that hold all rough surfaces so far.
    std::uint64_t links = ~std::uint64_t{0};
    bool rough_before = false;
    bool hazy = false;                     // haze has scattered it
    const SurfaceModel* within = nullptr;  // the glass that the ray runs in
    std::uint32_t panes = 0;               // that it has passed
    float to_panes = 0;  // from the camera to the last pane that it looked through [m]
    int scatterings = 0, in_haze = 0;
    float onward = 1;  // chance to go on from the first surface
    // Of a camera's ray that a pane, glass or a coat has mirrored: the chance to go on from the
    // first surface that it meets, and the pair of dimensions that decides.
    float mirrored = 1;
    std::uint32_t mirrored_pair = 0;
    // Of the light of emitters that virtual lights carry, what connections have left to this path.
    float uncarried = 1;
    float beside = 1;  // the chance that the path has gone on beside connections so far
    const WayVertex* way = nullptr;  // its scatterings, where they are recorded
  };
  // A surface that a path has met.
  struct Vertex {
    SurfacePoint p;
    const Scene::Surface* surface;
    const SurfaceModel* material;
    Vec3 wo, normal, shading;
    float distance = 0;  // from where the ray began
    bool colored = false;
    // Below: of surfaces that are no panes.
    bool inside = false, both_sides = false;
    Frame frame{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
    Vec3 local_wo;
    std::uint32_t pairs = 0;
    Vec2 choices;
    const GuideCell* cell = nullptr;  // null: nothing is known
    std::span<const float> arrives;
    float share = 0;  // of directions chosen by the guide
  };
  // What one record waits for: what its path brings from here on.
  struct Waiting {
    std::vector<ScatteringRecord>* list;
    std::size_t index;
    float total, before, after, cosine;
  };
  enum class Next { kSurface, kOn, kEnd };

  template <class Query>
  auto timed(const Query& query) {
    if constexpr (!kTimed) {
      return query();
    } else {
      const auto start = std::chrono::steady_clock::now();
      auto result = query();
      counts_.query_ns +=
          static_cast<std::uint64_t>((std::chrono::steady_clock::now() - start).count());
      return result;
    }
  }

  void follow(State& s) {
    const std::size_t first_waiting = waiting_.size();
    while (step(s)) {
    }
    close_records(first_waiting);
  }

  // From where the path is to its next scattering; false where it ends.
  bool step(State& s) {
    const bool received = options_.receiver != nullptr && s.scatterings == 0;
    const Hit hit = received ? Hit{} : timed([&] { return scene_.world.closest(s.ray); });
    if (!scene_.hazes.empty() && !received) {
      const Next next = through_haze(s, hit.found() ? hit.t : kFar);
      if (next != Next::kSurface) {
        return next == Next::kOn;
      }
    }
    if (options_.recorder != nullptr && hit.found()) {
      tell_source(s.ray.at(hit.t));
    }
    if (!hit.found() && !received) {
      for (const std::uint32_t index : scene_.distant) {
        if (covers(scene_.emitters[index], s.ray.direction)) {
          meet_light(s, index, {s.ray.origin, Vec3(-s.ray.direction)});
        }
      }
      return false;
    }
    if (s.within != nullptr && !received) {
      s.throughput *= (-hit.t * s.within->absorption).exp();
    }
    Vertex v;
    switch (arrive(s, hit, received, v)) {
      case Next::kSurface:
        return scatter_at(s, v);
      case Next::kOn:
        return true;
      case Next::kEnd:
        return false;
    }
    return false;
  }

  // Adds a light's contribution, less what connections to virtual lights bring of it. `toward`: the
  // direction from the path's last place to the light; null: what a virtual light brings.
  void bring(const State& s,
             const Emitter& e,
             const Vec3* toward,
             const Spectrum& through,
             float l,
             const Arrival& how) {
    const bool shared =
        s.uncarried != 1 && (toward == nullptr || virtual_lights_->carries(e, s.from.p, *toward));
    const float before = options_.ways != nullptr ? sink_.total() : 0;
    contribute(e, through, shared ? l * s.uncarried : l, how, sink_);
    if (options_.ways != nullptr) {
      const auto index = static_cast<std::uint32_t>(&e - scene_.emitters.data());
      options_.ways->contributions.push_back(
          {index, e.layer, s.way, way_end_, sink_.total() - before});
    }
  }

  // The way with one more scattering, where ways are recorded.
  const WayVertex* with_vertex(const WayVertex* way,
                               const Vec3& at,
                               const Vec3& normal,
                               std::uint32_t surface,
                               bool mirror) {
    return options_.ways == nullptr
               ? nullptr
               : &options_.ways->vertices.emplace_back(WayVertex{way, at, normal, surface, mirror});
  }

  // A light met by the ray that left `s.from`.
  void meet_light(const State& s, std::uint32_t index, const LightPlace& place) {
    const Emitter& e = scene_.emitters[index];
    const Departure& from = s.from;
    const Ray& ray = s.ray;
    if (from.certain ? !e.cheats.visible : e.only_sampled || from.unshadowed) {
      return;
    }
    float luminance = seen_luminance(e, ray.direction, place);
    if (!(luminance > 0)) {
      return;
    }
    way_end_ = e.is_distant() ? ray.at(1) : place.position;
    const bool received = s.scatterings > 0;
    if (received) {
      if (!may_reach(e, from.p, from.links)) {
        return;
      }
      luminance *= falloff_at(e, from.p);
    }
    const bool on_haze = received && !from.certain && from.material == nullptr;
    if (on_haze) {
      luminance *= haze_weight(s, index, light_pdf(e, from.p, ray.direction, place));
    } else if (!from.certain) {
      const float chance = scene_.light_clusters.chance(
          scene_.emitters, query_of(from), index, from.lights, from.arrives);
      luminance *=
          power_heuristic(from.pdf, chance * light_density(s.from, index, ray.direction, place));
    }
    if (from.certain && from.unlike > 0 && LightPaths::cameras_find(e)) {
      const JoinedLightPaths& joined = options_.light_paths;
      const double ratio =
          joined.per_sample * from.unlike *
          joined.paths->density({index, place, from.surface, from.p, ray.direction});
      luminance *= static_cast<float>(1 / (1 + ratio * ratio));
    }
    // Of what gloss throws, the part that paths of light leave to this one.
    float gloss_left = 1;
    if (!from.certain && from.unlike_to_gloss > 0 && LightPaths::gloss_throws(e)) {
      gloss_left = left_by_light_paths(from,
                                       index,
                                       place.position,
                                       *from.material,
                                       {from.wo, from.wi, ray.direction},
                                       light_pdf(e, from.p, ray.direction, place, &from.n));
    }
    Arrival how{s.scatterings,
                from.rough_before,
                s.hazy,
                false,
                Eigen::Array3f::Ones(),
                received && from.certain && from.rough_before};
    if (e.detail != nullptr) {
      const LightTint tint =
          tint_between(e, received ? from.p : place.position, place.position, ray.direction);
      luminance *= tint.gray;
      how.colored = tint.colored;
      how.rgb = tint.rgb;
    }
    if (received && !on_haze) {
      contribute_by_lobes(s, e, luminance, how, gloss_left);
    } else {
      const float before = sink_.total();
      bring(s, e, &s.ray.direction, s.throughput, luminance, how);
      if (options_.recorder != nullptr && !received && !s.hazy) {
        options_.recorder->seen += sink_.total() - before;
      }
    }
  }

  // Density with which the light is sampled toward from a surface [1/sr].
  float light_density(const Departure& from,
                      std::uint32_t index,
                      const Vec3& wi,
                      const LightPlace& place) const {
    const Emitter& e = scene_.emitters[index];
    const Vec3* const side = from.both_sides ? nullptr : &from.n;
    return from.cell != kNoIndex && skies_ != nullptr && SkyGuide::suits(e)
               ? skies_->pdf(e, index, from.cell, from.p, wi, side)
               : light_pdf(e, from.p, wi, place, side);
  }

  // The weight of a light that a direction chosen in haze has met, against the other ways to it.
  float haze_weight(const State& s, std::uint32_t index, float direction) const {
    const Departure& from = s.from;
    const float mine = from.ways.path * from.pdf;
    const Emitter& e = scene_.emitters[index];
    const float here = chance_here(from.p, from.links, index);
    const float along = from.haze_choice.total > 0 && !e.is_distant()
                            ? scene_.light_clusters.chance(
                                  scene_.emitters,
                                  LightQuery::along(from.haze_ray, from.haze_end, from.links),
                                  index,
                                  from.haze_choice)
                            : 0;
    const float suits =
        along > 0 ? from.ways.along * along *
                        EquiangularSpan(e.center, from.haze_ray, from.haze_end).pdf(from.haze_t)
                  : 0;
    return power_heuristic(mine, from.ways.here * here * direction, suits * direction);
  }

  static LightQuery query_of(const Departure& from) {
    return from.both_sides ? LightQuery::point(from.p, from.links)
                           : LightQuery::surface(from.p, from.n, from.links);
  }

  // Light that a surface has thrown on: its parts apart where the light's cheats tell them apart,
  // or the layers do.
  void contribute_by_lobes(
      const State& s, const Emitter& e, float luminance, Arrival how, float gloss_left) {
    const Departure& from = s.from;
    const bool gloss_throws = !from.certain && from.rough_before && has_gloss(*from.material) &&
                              (sink_.keeps_parts() || e.cheats.tells_caustics() || gloss_left != 1);
    if (!e.cheats.any_on_reflection() && !gloss_throws) {
      bring(s, e, &s.ray.direction, s.throughput, luminance, how);
      return;
    }
    const LobeFactors f = lobe_factors(e.cheats);
    if (from.certain) {
      bring(s, e, &s.ray.direction, s.throughput, luminance * f.gloss, how);
      return;
    }
    const Lobes lobes = reflection_lobes(*from.material, from.wo, from.wi, from.inside);
    const Spectrum all = lobes.diffuse + lobes.gloss;
    const auto part = [&](const Spectrum& lobe) {
      return Spectrum((all > 0.0f).select(lobe / all.max(1e-30f), 0.0f));
    };
    bring(s, e, &s.ray.direction, s.throughput * part(f.diffuse * lobes.diffuse), luminance, how);
    how.caustic = from.rough_before;
    bring(s,
          e,
          &s.ray.direction,
          s.throughput * part(f.gloss * lobes.gloss),
          luminance * gloss_left,
          how);
  }

  // Directions at a glossy surface: to where its light goes and from where it comes, in the shading
  // frame, and to the light in the world.
  struct GlossWay {
    Vec3 local_away, local_to_light, to_light;
  };
  // Of the light that gloss at from.p throws toward the vertex before, the part that the paths of
  // light which begin there leave to camera paths. `light_pdf`: with which the place on the light
  // is sampled toward from there [1/sr].
  float left_by_light_paths(const Departure& from,
                            std::uint32_t light,
                            const Vec3& on_light,
                            const SurfaceModel& material,
                            const GlossWay& way,
                            float light_pdf) const {
    const JoinedLightPaths& joined = options_.light_paths;
    const double factor = LightPaths::gloss_factor(material,
                                                   way.local_to_light,
                                                   way.local_away,
                                                   static_cast<double>(from.n.dot(way.to_light)),
                                                   static_cast<double>(from.cos_away),
                                                   static_cast<double>(light_pdf));
    if (!(factor > 0)) {
      return 1;
    }
    const double ratio =
        joined.per_sample * from.unlike_to_gloss * factor *
        joined.paths->density({light, {on_light}, from.surface, from.p, way.to_light});
    return static_cast<float>(1 / (1 + ratio * ratio));
  }

  // ---- haze ----

  // The stretch of haze up to `end`: the light that it scatters once, and whether the path goes on
  // to the surface or is scattered on its way.
  Next through_haze(State& s, float end) {
    const HazeAlong along(scene_.hazes, s.ray, end);
    if (!along.any()) {
      return Next::kSurface;
    }
    const std::uint32_t pairs = kHazePairs + kHazePairsPerPane * s.panes +
                                kHazePairsPerVertex * static_cast<std::uint32_t>(s.scatterings);
    const bool scatters = s.scatterings < options_.bounces && s.in_haze < options_.haze_bounces;
    // From the camera, what lies behind and what is scattered are two paths.
    const bool apart = s.scatterings == 0 && s.panes <= kPanesApart;
    const float left = apart ? along.transmittance(end, random_) : 0;
    // In even haze the place is chosen before the end, with the chance `followed`.
    const bool forced = apart && !along.uneven();
    const float taken = 1 - left, followed = forced ? std::max(kLeastFollowed, taken) : 1.0f;
    HazeSplit split;
    if (forced && scatters && taken > 0) {
      const bool few = scene_.emitters.size() <= kFewLights || !scene_.distant.empty();
      split = {along_count(), few ? kPlacesFew : kPlacesMany, taken, followed};
      if (options_.recorder != nullptr) {  // many paths tell more than many lights on each
        split.along = split.places = 1;
      }
    }
    const LightChoice chosen = scatters ? lights_along(s, along, end, pairs, split) : LightChoice{};
    const Vec2 u = sampler_.pair(pairs + kPlace);
    if (forced) {
      add_emission(s, along, kFar);
      if (scatters && taken > 0) {
        lights_at_places(s, along, end, chosen, split);
        if (u.y() < followed) {
          scatter_apart(s, along, end, along.sample(u.x() * taken, random_), chosen, pairs, split);
        }
      }
    } else {
      const float t = along.sample(u.x(), random_);
      add_emission(s, along, t);
      if (t < end && !apart) {
        if (!scatters || !scatter_in_haze(s, along, end, t, chosen, pairs, split)) {
          return Next::kEnd;
        }
        ++s.scatterings;
        return Next::kOn;
      }
      if (scatters) {
        scatter_apart(s, along, end, t, chosen, pairs, split);
      }
    }
    if (apart) {
      s.throughput *= left;
      s.onward = std::min(s.onward, std::max(kLeastOnward, left));
      return left > 0 ? Next::kSurface : Next::kEnd;
    }
    return Next::kSurface;
  }

  // How often light on haze is looked for along one ray.
  struct HazeSplit {
    int along = 1, places = 0;  // 0: where the path is scattered
    float taken = 1;            // what haze takes of the light up to the end of the ray,
    float followed = 1;         // and the chance that the path which it scatters is followed

    // Of a place where light is extinguished with density `p` [1/m].
    HazeWays ways(float p) const {
      return {static_cast<float>(along),
              p / taken * static_cast<float>(std::max(places, 1)),
              p / taken * followed};
    }
  };

  int along_count() const {
    const std::size_t lights = scene_.emitters.size() - scene_.distant.size();
    return lights <= kFewLights ? kAlongFew : lights <= kSomeLights ? kAlongSome : kAlongMany;
  }

  // Beside the path that goes straight on: the one that haze scatters at t, to its end.
  void scatter_apart(const State& s,
                     const HazeAlong& along,
                     float end,
                     float t,
                     const LightChoice& chosen,
                     std::uint32_t pairs,
                     const HazeSplit& split) {
    if (!(t < end)) {
      return;
    }
    State scattered = s;
    scattered.throughput *= split.taken / split.followed;
    scattered.onward = 1;
    if (scatter_in_haze(scattered, along, end, t, chosen, pairs, split)) {
      ++scattered.scatterings;
      follow(scattered);
    }
  }

  // Lights sampled toward from places that are spread over the ray by what haze takes.
  void lights_at_places(const State& s,
                        const HazeAlong& along,
                        float end,
                        const LightChoice& chosen,
                        const HazeSplit& split) {
    const std::uint32_t pairs = kHazeSplitPairs + kSplitPairsPerPane * s.panes;
    const float first = sampler_.single(pairs);
    for (int i = 0; i < split.places; ++i) {
      const float u = (static_cast<float>(i) + first) / static_cast<float>(split.places);
      const float t = along.sample(u * split.taken, random_);
      if (!(t < end)) {
        continue;
      }
      State place = s;
      place.throughput *= split.taken / static_cast<float>(split.places);
      const HazeAt at = along.at(t);
      arrive_in_haze(place, along, end, t, at, chosen, split);
      const std::uint32_t own = pairs + 1 + 10 * static_cast<std::uint32_t>(i);
      light_here(place, at, chosen, sampler_.pair(own).x(), sampler_.pair(own + 1));
      if (virtual_lights_ != nullptr) {
        place.from.row = virtual_lights_->row_at(place.from.p, Vec3::Zero(), true);
        connect_haze(place, at, kHazeConnections, own + 2);
      }
    }
  }

  // What the hazes themselves give off on a ray's way; t is where haze extinguishes it.
  void add_emission(const State& s, const HazeAlong& along, float t) {
    const Spectrum& throughput = s.throughput;
    const auto add = [&](std::size_t haze, float luminance) {
      const float before = options_.ways != nullptr ? sink_.total() : 0;
      sink_.add(scene_.hazes[haze].layer,
                Part::kHaze,
                tristimulus(scene_.emission_table, throughput, luminance));
      if (options_.ways != nullptr) {
        options_.ways->contributions.push_back({kNoIndex,
                                                scene_.hazes[haze].layer,
                                                s.way,
                                                s.ray.at(std::min(t, 1.0f)),
                                                sink_.total() - before});
      }
    };
    if (!along.uneven()) {
      along.emission(add);
      return;
    }
    if (t == kFar) {
      return;
    }
    // The place has the density of what is extinguished there: what is given off there over that is
    // the whole, on average.
    const HazeAt here = along.at(t);
    for (std::size_t i = 0; i < scene_.hazes.size(); ++i) {
      const Haze& h = scene_.hazes[i];
      if (h.emission > 0 && here.sigma_t(i) > 0) {
        add(i, h.emission * (here.sigma_t(i) / h.sigma_t) / here.sigma_t());
      }
    }
  }

  // A light sampled toward from a place in haze: what of it arrives there, weighed.
  void light_on_haze(const State& s,
                     std::uint32_t index,
                     const Vec3& p,
                     const LightSample& light,
                     const Spectrum& throughput,
                     float weight) {
    const Emitter& e = scene_.emitters[index];
    if (!(weight > 0) || !any_passes(throughput)) {
      return;
    }
    const Ray shadow{p, light.wi, shadow_end(e, light.distance)};
    const std::uint32_t body = e.is_distant() ? kNoIndex : scene_.emitter_surface[index];
    Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
    if (passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any()) {
      ++counts_.shadow;
      passed *=
          timed([&] { return passage(scene_, ShadowRule::of(scene_, e), shadow, body, counts_); });
    }
    if (options_.recorder != nullptr) {
      options_.recorder->haze_lights.push_back({p,
                                                Vec3::Zero(),
                                                scene_.light_clusters.slot_of(index),
                                                light.weight,
                                                light.weight * passed.mean(),
                                                0});
    }
    if (any_passes(passed)) {
      const Arrival how{s.scatterings + 1, s.rough_before, true, light.colored, light.rgb};
      if (options_.ways == nullptr) {
        bring(s, e, &light.wi, throughput * passed, weight, how);
        return;
      }
      way_end_ = p + light.wi * (e.is_distant() ? 1 : light.distance);
      State here = s;  // the place may have been chosen before the path is there
      if (here.way == nullptr || here.way->surface != kNoIndex || here.way->at != p) {
        here.way = with_vertex(s.way, p, Vec3::Zero(), kNoIndex, false);
      }
      bring(here, e, &light.wi, throughput * passed, weight, how);
    }
  }

  // Light that haze scatters once on a ray's way: a light is chosen first, then a place that suits
  // it; `split.along` times. Returns the last choice.
  LightChoice lights_along(const State& s,
                           const HazeAlong& along,
                           float end,
                           std::uint32_t pairs,
                           const HazeSplit& split) {
    const Vec2 which = sampler_.pair(pairs + kAlong), on_light = sampler_.pair(pairs + kAlongLight);
    const auto count = static_cast<std::uint32_t>(split.along);
    std::array<float, kAlongFew> u_choice{}, u_place{};
    for (std::uint32_t i = 0; i < count; ++i) {
      // Each place in a part of the ray of its own.
      const Vec2 u = in_strip({which.y(), which.x()}, i, count);
      u_place[i] = u.x();
      u_choice[i] = u.y();
    }
    std::array<LightChoice, kAlongFew> choices;
    scene_.light_clusters.choose_each(scene_.emitters,
                                      LightQuery::along(s.ray, end, s.links),
                                      std::span(u_choice).first(count),
                                      std::span(choices).first(count));
    for (std::uint32_t i = 0; i < count; ++i) {
      if (choices[i].index != kNoIndex) {
        light_along(s, along, end, choices[i], u_place[i], with_other_digits(on_light, i), split);
      }
    }
    return choices[0];
  }

  void light_along(const State& s,
                   const HazeAlong& along,
                   float end,
                   const LightChoice& choice,
                   float u_place,
                   const Vec2& u_light,
                   const HazeSplit& split) {
    const Emitter& e = scene_.emitters[choice.index];
    const EquiangularSpan span(e.center, s.ray, end);
    const float t = span.sample(u_place);
    if (!(t > 0) || !(t < end)) {
      return;
    }
    const HazeAt here = along.at(t);
    const float sigma_t = here.sigma_t();
    const Vec3 p = s.ray.at(t);
    if (!(sigma_t > 0) || !may_reach(e, p, s.links)) {
      return;
    }
    // Of the light that is scattered here toward a place which this ray has left, connections have
    // their share; where they leave little, few of these shadow rays are traced.
    float kept = 1;
    if (s.from.row != nullptr && !s.from.certain && virtual_lights_->carries(e)) {
      kept = left_by_connections(s, p, Vec3::Zero(), true, sigma_t);
      const float survival = std::sqrt(kept);
      if (!(static_cast<float>(random_.uniform()) < survival)) {
        return;
      }
      kept /= std::max(survival, 1e-10f);
    }
    const float left = along.transmittance(t, random_) * kept;
    if (!(left > 0)) {
      return;
    }
    const LightSample light = sample_toward(e, p, u_light);
    if (!(light.weight > 0)) {
      return;
    }
    const float cosine = s.ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1;
    const HazeWays ways = split.ways(sigma_t * along.likely_transmittance(t));
    const float here_chance = chance_here(p, s.links, choice.index);
    const float by_phase =
        light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(here, p, cosine, light.wi) : 0;
    const float mine = ways.along * choice.chance * span.pdf(t);
    const float weight =
        light.weight * left / mine *
        power_heuristic(
            mine * direction, ways.here * here_chance * direction, ways.path * by_phase);
    light_on_haze(s, choice.index, p, light, s.throughput * here.scattering(cosine), weight);
  }

  // The chance that a light is chosen at a place in haze.
  float chance_here(const Vec3& p, std::uint64_t links, std::uint32_t light) const {
    if (scene_.emitters.size() == 1) {
      return 1;
    }
    if (haze_lights_ != nullptr) {
      return haze_lights_->chance(haze_guide_->cell_at(p, Vec3::Zero()), light);
    }
    const LightQuery query = LightQuery::point(p, links);
    const std::span<const float> arrives = haze_arrives(p);
    const LightSet set = scene_.light_clusters.choose_set(scene_.emitters, query, 0.0f, arrives, 0);
    return scene_.light_clusters.chance(scene_.emitters, query, light, set, arrives);
  }

  std::span<const float> haze_arrives(const Vec3& p) const {
    return haze_guide_ != nullptr ? haze_guide_->arrives(haze_guide_->cell_at(p, Vec3::Zero()))
                                  : std::span<const float>();
  }

  // The density of directions chosen in haze: of the phase function, mixed with the guide's.
  float haze_direction_pdf(const HazeAt& at, const Vec3& p, float cosine, const Vec3& wi) const {
    const float own = at.phase_pdf(cosine);
    if (haze_guide_ == nullptr) {
      return own;
    }
    const GuideCell& cell = haze_guide_->cell(haze_guide_->cell_at(p, Vec3::Zero()));
    return cell.share > 0 ? cell.share * haze_guide_->pdf(cell, p, wi) + (1 - cell.share) * own
                          : own;
  }

  // Haze scatters the path at t; false where it ends.
  bool scatter_in_haze(State& s,
                       const HazeAlong& along,
                       float end,
                       float t,
                       const LightChoice& chosen,
                       std::uint32_t pairs,
                       const HazeSplit& split) {
    Departure& from = s.from;
    const HazeAt at = along.at(t);
    const float sigma_t = at.sigma_t();
    const Vec3 p = s.ray.at(t);
    if (from.row != nullptr && !from.certain &&
        !goes_on_beside_connections(s, p, Vec3::Zero(), true, sigma_t, [&] {
          return sampler_.pair(pairs + kMixture).y();
        })) {
      return false;
    }
    if (options_.recorder != nullptr) {
      tell_source(p);
    }
    arrive_in_haze(s, along, end, t, at, chosen, split);
    if (split.places == 0) {
      light_here(
          s, at, chosen, sampler_.pair(pairs + kHere).x(), sampler_.pair(pairs + kHereLight));
    }
    from.row =
        virtual_lights_ != nullptr ? virtual_lights_->row_at(p, Vec3::Zero(), true) : nullptr;
    if (split.places == 0) {
      connect_haze(s, at, connections(s), virtual_pair(s));
    }
    return turn_in_haze(s, at, pairs);
  }

  // What a place in haze is like for the ways that light is found there, and lights chosen at it.
  void arrive_in_haze(State& s,
                      const HazeAlong& along,
                      float end,
                      float t,
                      const HazeAt& at,
                      const LightChoice& chosen,
                      const HazeSplit& split) {
    Departure& from = s.from;
    from.haze_ray = s.ray;
    from.haze_end = end;
    from.haze_t = t;
    from.haze_choice = chosen;
    from.ways = split.ways(at.sigma_t() * along.likely_transmittance(t));
    from.p = s.ray.at(t);
    from.links = s.links;
    from.rough_before = s.rough_before;
    from.material = nullptr;
    from.unlike_to_gloss = 0;
    from.certain = from.unshadowed = false;
    from.arrives = haze_arrives(from.p);
    from.lights = {};
    s.way = with_vertex(s.way, from.p, Vec3::Zero(), kNoIndex, false);
  }

  // A light chosen at a place in haze, by u_which; u_light: on it.
  void light_here(
      State& s, const HazeAt& at, const LightChoice& chosen, float u_which, const Vec2& u_light) {
    Departure& from = s.from;
    LightChoice here;
    if (haze_lights_ != nullptr) {
      here = haze_lights_->choose(haze_guide_->cell_at(from.p, Vec3::Zero()), u_which);
    } else {
      from.lights = scene_.light_clusters.choose_set(
          scene_.emitters, LightQuery::point(from.p, s.links), u_which, from.arrives, 0);
      here = from.lights.other;
    }
    if (here.index == kNoIndex || !may_reach(scene_.emitters[here.index], from.p, s.links)) {
      return;
    }
    const Emitter& e = scene_.emitters[here.index];
    const LightSample light = sample_toward(e, from.p, u_light);
    if (!(light.weight > 0)) {
      return;
    }
    const float cosine = s.ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1;
    const float along =
        e.is_distant() || !(chosen.total > 0)
            ? 0
            : scene_.light_clusters.chance(scene_.emitters,
                                           LightQuery::along(s.ray, from.haze_end, s.links),
                                           here.index,
                                           chosen);
    const float suits = along > 0
                            ? from.ways.along * along *
                                  EquiangularSpan(e.center, s.ray, from.haze_end).pdf(from.haze_t)
                            : 0;
    const float by_phase =
        light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(at, from.p, cosine, light.wi) : 0;
    const float weight =
        light.weight / here.chance *
        power_heuristic(
            from.ways.here * here.chance * direction, suits * direction, from.ways.path * by_phase);
    light_on_haze(
        s, here.index, from.p, light, s.throughput * at.scattering(cosine) / at.sigma_t(), weight);
  }

  // The direction in which haze scatters the path.
  bool turn_in_haze(State& s, const HazeAt& at, std::uint32_t pairs) {
    Departure& from = s.from;
    const GuideCell* cell = haze_guide_ != nullptr
                                ? &haze_guide_->cell(haze_guide_->cell_at(from.p, Vec3::Zero()))
                                : nullptr;
    const float share = cell != nullptr ? cell->share : 0;
    const Vec2 u = sampler_.pair(pairs + kTurn);
    Vec3 wi;
    float own = 0, guided = 0;
    if (share > 0 && sampler_.single(pairs + kMixture) < share) {
      wi = haze_guide_->sample(*cell, from.p, u, guided);
      own = at.phase_pdf(s.ray.direction.dot(wi));
    } else {
      own = at.sample_phase(s.ray.direction, u, wi);
      guided = share > 0 || (cell != nullptr && options_.recorder != nullptr &&
                             haze_guide_->has_directions())
                   ? haze_guide_->pdf(*cell, from.p, wi)
                   : 0;
    }
    from.pdf = share > 0 ? share * guided + (1 - share) * own : own;
    const Spectrum before = s.throughput;
    s.throughput *= at.scattering(s.ray.direction.dot(wi)) / (at.sigma_t() * from.pdf);
    if (options_.recorder != nullptr) {
      record(
          options_.recorder->haze_scatterings,
          {from.p, square_of(wi), Vec3::Zero(), false, 0, 0, own, guided, from.pdf, Vec3::Zero()},
          before,
          s.throughput,
          1);
    }
    if (own > 0) {
      s.reflected *= at.scattering(s.ray.direction.dot(wi)) / (at.sigma_t() * own);
    }
    if (s.scatterings + 1 >= kRouletteFrom && !survives(s, sampler_.pair(pairs + kHere).y())) {
      return false;
    }
    ++counts_.path;
    ++s.in_haze;
    s.ray = {from.p, wi};
    from.unlike = 0;
    s.rough_before = s.hazy = true;
    return true;
  }

  // Russian roulette by what surfaces and haze have left of the path. White ones take nothing and
  // end nothing: a least share that ends would make long paths in white hollows rare and heavy.
  static bool survives(State& s, float u) {
    const float survival = std::min(1.0f, s.reflected.maxCoeff());
    if (!(u < survival)) {
      return false;
    }
    s.throughput /= survival;
    s.reflected /= survival;
    return true;
  }

  // ---- surfaces ----

  // What the ray has met: a surface to scatter at, one that lets it straight on, or its end.
  Next arrive(State& s, const Hit& hit, bool received, Vertex& v) {
    v.p = received ? place_of(*options_.receiver) : scene_.world.point(s.ray, hit);
    v.surface = received ? &options_.receiver->surface : &scene_.surfaces[v.p.surface];
    v.distance = hit.t;
    if (!v.surface->seen_by_camera && s.scatterings == 0 && !s.hazy) {
      return straight_on(s, v);
    }
    const Scene::Pictures* pictures =
        scene_.has_pictures && !received && v.surface->material != kNoIndex
            ? &scene_.pictures[v.surface->material]
            : nullptr;
    if (pictures != nullptr && pictures->mask != nullptr) {
      // What is cut out neither reflects nor emits.
      if (const float covered = pictures->covered(v.p.uv);
          covered < 1 && !(sampler_.single(kMaskPairs + s.panes) < covered)) {
        return straight_on(s, v);
      }
    }
    if (v.surface->held_out && s.scatterings == 0 && !s.hazy) {
      return Next::kEnd;
    }
    if (v.surface->emitter != kNoIndex) {
      meet_light(s, v.surface->emitter, {v.p.position, v.p.normal});
      if (v.surface->material == kNoIndex) {  // the bodies of lights are black to other light
        if (first_ != nullptr && s.scatterings == 0 && !s.hazy) {
          *first_ = {true, Spectrum::Zero(), v.p.normal, s.to_panes + hit.t, v.p.surface};
        }
        return Next::kEnd;
      }
    }
    const std::uint32_t material_index = s.rough_before && !options_.as_they_are && !received
                                             ? scene_.after_bounce(v.surface->material)
                                             : v.surface->material;
    if (pictures != nullptr && pictures->color != nullptr) {
      colored_ = painted(scene_.materials[material_index], *pictures, v.p.uv);
      v.colored = true;
    }
    v.material = received    ? &white_receiver()
                 : v.colored ? &*colored_
                             : &scene_.materials[material_index];
    v.wo = -s.ray.direction;
    v.normal = v.p.normal.dot(v.wo) >= 0 ? v.p.normal : Vec3(-v.p.normal);
    v.shading =
        v.p.shading_normal.dot(v.normal) >= 0 ? v.p.shading_normal : Vec3(-v.p.shading_normal);
    if (v.shading.dot(v.wo) <= 0) {
      v.shading = v.normal;  // seen from behind its interpolated normal: the true one serves
    }
    if (first_ != nullptr && s.scatterings == 0) {
      *first_ = {true,
                 albedo(*v.material, std::max(0.0f, v.shading.dot(v.wo))),
                 v.shading,
                 s.to_panes + hit.t,
                 v.p.surface};
    }
    if (v.material->is_pane()) {
      return at_pane(s, v);
    }
    if (s.mirrored < 1) {
      if (!(sampler_.single(s.mirrored_pair) < s.mirrored)) {
        return Next::kEnd;
      }
      s.throughput /= s.mirrored;
      s.mirrored = 1;
    }
    return s.scatterings < options_.bounces ? Next::kSurface : Next::kEnd;
  }

  // The ray goes straight on, as shadow rays do: no scattering, and lights are weighed as without
  // the surface.
  Next straight_on(State& s, const Vertex& v) {
    if (++s.panes == kMostPanes) {
      return Next::kEnd;
    }
    if (s.scatterings == 0) {
      s.to_panes += v.distance;
    }
    s.ray = {World::leave(v.p, s.ray.direction), s.ray.direction};
    return Next::kOn;
  }

  // Straight on or back, by chance; of a camera's ray both, so that a lamp whose image a pane shows
  // is met by every sample. What else the pane mirrors goes on with the chance of being mirrored.
  Next at_pane(State& s, const Vertex& v) {
    const float mirrored = pane_reflectance(*v.material, std::min(1.0f, v.normal.dot(v.wo)));
    const Spectrum transmittance = v.material->transmittance;
    const std::uint32_t pair = kPanePairs + s.panes;
    const bool both = s.scatterings == 0 && s.panes < kPanesApart && scene_.hazes.empty() &&
                      options_.recorder == nullptr;
    if (both) {
      State back = s;
      back.throughput *= mirrored;
      back.mirrored = mirrored;
      back.mirrored_pair = pair;
      if (mirror_back(back, v)) {
        follow(back);
      }
      s.throughput *= 1 - mirrored;
    } else if (sampler_.single(pair) < mirrored) {
      return mirror_back(s, v) ? Next::kOn : Next::kEnd;
    }
    s.throughput *= transmittance;
    if (first_ != nullptr && s.scatterings == 0) {
      first_->found = false;  // what lies behind it counts
    }
    return straight_on(s, v);
  }

  // False where the path ends.
  bool mirror_back(State& s, const Vertex& v) {
    if (++s.panes == kMostPanes || s.scatterings >= options_.bounces) {
      return false;
    }
    s.from.p = v.p.position;
    s.from.n = v.normal;
    s.from.links = s.links & v.surface->links;
    s.from.rough_before = s.rough_before;
    s.from.certain = true;
    s.from.surface = v.p.surface;
    s.way = with_vertex(s.way, v.p.position, v.normal, v.p.surface, true);
    ++counts_.path;
    const Vec3 back = (s.ray.direction - 2 * s.ray.direction.dot(v.normal) * v.normal).normalized();
    s.ray = {World::leave(v.p, back), back};
    ++s.scatterings;
    return true;
  }

  // Lights and directions at a surface that is no pane; false where the path ends.
  bool scatter_at(State& s, Vertex& v) {
    const SurfaceModel& material = *v.material;
    v.inside = v.p.normal.dot(v.wo) < 0;  // glass
    v.both_sides = material.scatters_through();
    v.frame = Frame::around(v.shading);
    v.local_wo = v.frame.to_local(v.wo);
    v.pairs = kCameraPairs + kPairsPerVertex * static_cast<std::uint32_t>(s.scatterings);
    v.choices = sampler_.pair(v.pairs + kChoices);
    std::uint32_t number = kNoIndex;
    if (surface_guide_ != nullptr && !material.only_mirror()) {
      number = surface_guide_->cell_at(v.p.position, side_of(v));
      v.cell = &surface_guide_->cell(number);
      v.arrives = surface_guide_->arrives(number);
      v.share = v.cell->share > 0 ? v.cell->share * guided_part(material) : 0;
    }
    // A mirror counts where light falls on it, not where it shows another surface.
    Departure& from = s.from;
    if (from.row != nullptr && !from.certain && VirtualLights::stand_on(material) &&
        !goes_on_beside_connections(
            s, v.p.position, side_of(v), false, std::abs(v.normal.dot(v.wo)), [&] {
              return sampler_.pair(v.pairs + kRoulette).y();
            })) {
      return false;
    }
    from.row = nullptr;
    from.links = s.links & v.surface->links;
    from.rough_before = s.rough_before;
    from.unlike_to_gloss = options_.light_paths.paths != nullptr && s.rough_before &&
                                   LightPaths::begin_on_gloss(material)
                               ? from.unlike
                               : 0;
    from.cos_away = v.normal.dot(v.wo);
    from.p = v.p.position;
    from.n = v.normal;
    from.surface = v.p.surface;
    from.lights = {};
    from.arrives = v.arrives;
    from.cell = number;
    s.way = with_vertex(s.way, v.p.position, v.normal, v.p.surface, material.only_mirror());
    if (!material.only_mirror()) {
      sample_lights(s, v);
      if (options_.recorder != nullptr) {
        probe_lights(s, v);
      }
      if (virtual_lights_ != nullptr) {
        from.row = virtual_lights_->row_at(v.p.position, side_of(v), false);
        connect_surface(s, v);
      }
    }
    return leave_surface(s, v);
  }

  void sample_lights(State& s, const Vertex& v) {
    Departure& from = s.from;
    from.both_sides = v.both_sides;
    const std::size_t most_certain = s.rough_before ? 0 : LightSet::kMostCertain;
    from.lights = scene_.light_clusters.choose_set(
        scene_.emitters, query_of(from), v.choices.x(), v.arrives, most_certain);
    std::uint32_t drawn = 0;
    const auto next_pair = [&] {
      const std::uint32_t pair = kCertainLightPairs +
                                 kLightPairsPerVertex * static_cast<std::uint32_t>(s.scatterings) +
                                 drawn;
      return sampler_.pair(drawn++ == 0 ? v.pairs + kLight : pair);
    };
    for (std::size_t k = 0; k < from.lights.certain_count; ++k) {
      light_at(s, v, from.lights.certain[k], 1, next_pair());
    }
    if (const LightChoice& other = from.lights.other; other.index != kNoIndex) {
      light_at(s, v, other.index, other.chance, next_pair());
    }
  }

  // A light sampled toward from a surface; `chance`: how often that is done, in the mean.
  void light_at(const State& s, const Vertex& v, std::uint32_t index, float chance, const Vec2& u) {
    const Emitter& e = scene_.emitters[index];
    const SurfaceModel& material = *v.material;
    const Vec3* const side = v.both_sides ? nullptr : &v.normal;
    const LightSample light = s.from.cell != kNoIndex && skies_ != nullptr && SkyGuide::suits(e)
                                  ? skies_->sample(e, index, s.from.cell, v.p.position, u, side)
                                  : sample_toward(e, v.p.position, u, side);
    const Vec3 local_wi = v.frame.to_local(light.wi);
    const bool reaches = v.both_sides ? local_wi.z() * light.wi.dot(v.normal) > 0
                                      : local_wi.z() > 0 && light.wi.dot(v.normal) > 0;
    if (!(light.weight > 0) || !reaches) {
      return;
    }
    Arrival how{s.scatterings + 1, s.rough_before, s.hazy, light.colored, light.rgb};
    // By gloss on another surface, where that is kept apart.
    Spectrum f, thrown = Spectrum::Zero();
    const bool joined = s.from.unlike_to_gloss > 0 && light.pdf > 0 && LightPaths::gloss_throws(e);
    if (const bool apart = s.rough_before && has_gloss(material) &&
                           (sink_.keeps_parts() || e.cheats.tells_caustics() || joined);
        apart || e.cheats.any_on_reflection()) {
      const Lobes lobes = reflection_lobes(material, v.local_wo, local_wi, v.inside);
      const LobeFactors factors = lobe_factors(e.cheats);
      f = factors.diffuse * lobes.diffuse;
      (apart ? thrown : f) += factors.gloss * lobes.gloss;
    } else {
      f = reflection(material, v.local_wo, local_wi, v.inside);
    }
    float weight = light.weight * std::abs(local_wi.z()) / chance;
    if (light.pdf > 0 && !e.only_sampled && v.surface->receives_shadow) {
      weight *= power_heuristic(chance * light.pdf, direction_pdf(v, local_wi, light.wi));
    }
    if (joined && any_passes(thrown)) {
      const Vec3 on_light = v.p.position + light.wi * (e.is_distant() ? 1 : light.distance);
      thrown *= left_by_light_paths(s.from,
                                    index,
                                    on_light,
                                    material,
                                    {v.local_wo, local_wi, light.wi},
                                    light_pdf(e, v.p.position, light.wi, {on_light}, &v.normal));
    }
    if (!(weight > 0) || !any_passes(f + thrown)) {
      return;
    }
    const Spectrum passed = passes_to(v, e, index, light, local_wi);
    if (options_.recorder != nullptr) {
      const float sent = light.weight * std::abs(local_wi.z());
      options_.recorder->surface_lights.push_back({v.p.position,
                                                   side_of(v),
                                                   scene_.light_clusters.slot_of(index),
                                                   sent,
                                                   sent * passed.mean(),
                                                   sent * passed.mean() / chance});
    }
    if (any_passes(passed)) {
      way_end_ = v.p.position + light.wi * (e.is_distant() ? 1 : light.distance);
      bring(s, e, &light.wi, s.throughput * f * passed, weight, how);
      if (any_passes(thrown)) {
        how.caustic = true;
        bring(s, e, &light.wi, s.throughput * thrown * passed, weight, how);
      }
    }
  }

  // What is left of a light on its way to the surface.
  Spectrum passes_to(const Vertex& v,
                     const Emitter& e,
                     std::uint32_t index,
                     const LightSample& light,
                     const Vec3& local_wi) {
    Ray shadow{World::leave(v.p, light.wi), light.wi};
    std::uint32_t body = kNoIndex;
    if (!e.is_distant()) {
      shadow.t_max = shadow_end(e, light.distance) - v.p.offset;
      body = scene_.emitter_surface[index];
    }
    Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
    // A light without shadows asks no ray, nor does a surface without.
    if (shadow.t_max > 0 && passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any() &&
        v.surface->receives_shadow) {
      ++counts_.shadow;
      passed *=
          timed([&] { return passage(scene_, ShadowRule::of(scene_, e), shadow, body, counts_); });
    }
    if (v.material->kind == SurfaceKind::kGlass && v.inside == (local_wi.z() > 0) &&
        !e.is_distant()) {
      passed *= (-light.distance * v.material->absorption).exp();  // its way lies in the glass
    }
    return passed;
  }

  // Shadow rays that tell what arrives of more lights than the path samples toward.
  void probe_lights(const State& s, const Vertex& v) {
    const LightQuery query = query_of(s.from);
    const std::size_t probes = std::min<std::size_t>(kProbes, scene_.emitters.size() / 4);
    const auto pair_of = [&](std::size_t i) {
      return kProbePairs + 2 * (kProbes * static_cast<std::uint32_t>(s.scatterings) +
                                static_cast<std::uint32_t>(i));
    };
    std::array<float, kProbes> u{};
    for (std::size_t i = 0; i < probes; ++i) {
      u[i] = sampler_.single(pair_of(i));
    }
    std::array<LightChoice, kProbes> choices;
    scene_.light_clusters.choose_each(
        scene_.emitters, query, std::span(u).first(probes), std::span(choices).first(probes));
    for (std::size_t i = 0; i < probes; ++i) {
      const LightChoice& choice = choices[i];
      if (choice.index == kNoIndex) {
        return;
      }
      const std::uint32_t pair = pair_of(i);
      const Emitter& e = scene_.emitters[choice.index];
      const LightSample light = sample_toward(
          e, v.p.position, sampler_.pair(pair + 1), v.both_sides ? nullptr : &v.normal);
      const Vec3 local_wi = v.frame.to_local(light.wi);
      if (light.weight > 0 && reaches(v, light.wi, local_wi)) {
        const float sent = light.weight * std::abs(local_wi.z());
        options_.recorder->surface_lights.push_back(
            {v.p.position,
             side_of(v),
             scene_.light_clusters.slot_of(choice.index),
             sent,
             sent * passes_to(v, e, choice.index, light, local_wi).mean(),
             0});
      }
    }
  }

  // The density of directions chosen at a surface, without a mirror part: its own, mixed with the
  // guide's.
  float direction_pdf(const Vertex& v, const Vec3& local_wi, const Vec3& wi) const {
    const float own = reflection_pdf(*v.material, v.local_wo, local_wi, v.inside);
    return v.share > 0
               ? v.share * surface_guide_->pdf(*v.cell, v.p.position, wi) + (1 - v.share) * own
               : own;
  }

  // A direction chosen at a surface, by itself or by the guide; `own` and `guided` densities.
  Scattering turn(const Vertex& v, Vec3& wi, float& own, float& guided) const {
    const SurfaceModel& material = *v.material;
    const Vec2 u = sampler_.pair(v.pairs + kScatter);
    Scattering next;
    if (v.share > 0 && v.choices.y() < v.share) {
      wi = surface_guide_->sample(*v.cell, v.p.position, u, guided);
      next.wi = v.frame.to_local(wi);
      own = reflection_pdf(material, v.local_wo, next.wi, v.inside);
      next.pdf = v.share * guided + (1 - v.share) * own;
      next.weight =
          reflection(material, v.local_wo, next.wi, v.inside) * (std::abs(next.wi.z()) / next.pdf);
      return next;
    }
    const float choice = (v.choices.y() - v.share) / (1 - v.share);
    next = scatter(material, v.local_wo, u, choice, v.inside);
    wi = v.frame.to_world(next.wi);
    own = next.pdf;
    if (next.mirror) {
      next.weight /= 1 - v.share;
      return next;
    }
    const bool asked = v.share > 0 || (v.cell != nullptr && options_.recorder != nullptr &&
                                       surface_guide_->has_directions());
    guided = asked && next.pdf > 0 ? surface_guide_->pdf(*v.cell, v.p.position, wi) : 0;
    if (v.share > 0 && next.pdf > 0) {
      next.pdf = v.share * guided + (1 - v.share) * own;
      next.weight *= own / next.pdf;
    }
    return next;
  }

  // The next direction at a surface; false where the path ends.
  bool leave_surface(State& s, Vertex& v) {
    const float mirrored = s.scatterings == 0 ? mirrored_apart(s, v) : 0;
    Vec3 wi;
    float own = 0, guided = 0;
    // What is left to choose from has 1 - mirrored of the chances.
    v.choices.y() = mirrored + (1 - mirrored) * v.choices.y();
    Scattering next = turn(v, wi, own, guided);
    next.weight *= 1 - mirrored;
    return depart(s, v, next, wi, own, guided);
  }

  // What smooth glass or a coat mirrors of a camera's ray is a path apart, as at panes: each sample
  // meets the lamp whose image is seen in it. Returns the chance of being mirrored; 0: not apart.
  float mirrored_apart(const State& s, Vertex& v) {
    const SurfaceModel& material = *v.material;
    const bool may_be = material.alpha == 0 && (material.kind == SurfaceKind::kGlass ||
                                                material.kind == SurfaceKind::kGloss);
    if (!may_be || v.share > 0 || s.hazy || !scene_.hazes.empty() || options_.recorder != nullptr) {
      return 0;
    }
    Scattering mirror =
        scatter(material, v.local_wo, sampler_.pair(v.pairs + kScatter), 0.0f, v.inside);
    const float chance = mirror.pdf;
    if (!mirror.mirror || !(mirror.wi.z() > 0) || !(chance > 0) || !(chance < 1)) {
      return 0;
    }
    if (v.colored) {  // the path apart will meet other colors
      first_colored_ = *v.material;
      v.material = &*first_colored_;
    }
    mirror.weight *= chance;
    State back = s;
    back.mirrored = chance;
    back.mirrored_pair = v.pairs + kRoulette;
    if (depart(back, v, mirror, v.frame.to_world(mirror.wi), chance, 0)) {
      follow(back);
    }
    return chance;
  }

  // The path goes on in a direction that was chosen; false where it ends.
  bool depart(
      State& s, const Vertex& v, const Scattering& next, const Vec3& wi, float own, float guided) {
    const SurfaceModel& material = *v.material;
    Departure& from = s.from;
    if (!(next.pdf > 0)) {
      return false;
    }
    const Spectrum before = s.throughput;
    s.throughput *= next.weight;
    const bool to_its_side = material.lets_through() ? wi.dot(v.normal) * next.wi.z() > 0
                                                     : wi.dot(v.normal) > 0 && next.wi.z() > 0;
    if (options_.recorder != nullptr && !next.mirror) {
      record(options_.recorder->surface_scatterings,
             {v.p.position,
              square_of(wi),
              Vec3::Zero(),
              false,
              0,
              0,
              own,
              guided,
              next.pdf,
              side_of(v)},
             before,
             s.throughput,
             std::abs(next.wi.z()));
    }
    if (!to_its_side || !any_passes(s.throughput)) {
      return false;  // to the other side than meant: an interpolated normal's doing, or the guide's
    }
    if (material.kind == SurfaceKind::kGlass && next.wi.z() < 0) {
      s.within = v.inside ? nullptr : &scene_.materials[v.surface->material];
    }
    from.pdf = next.pdf;
    from.certain = next.mirror;
    from.material = &material;
    if (v.colored) {
      departed_ = *v.material;
      from.material = &*departed_;
    }
    from.wo = v.local_wo;
    from.wi = next.wi;
    from.inside = v.inside;
    from.unshadowed = !v.surface->receives_shadow;
    if (options_.light_paths.paths != nullptr && !next.mirror) {
      tell_light_paths(s, v, next.wi, own);
    }
    s.reflected *= next.mirror ? next.weight * (1 - v.share)
                   : own > 0   ? Spectrum(next.weight * (next.pdf / own))
                               : Spectrum::Zero();
    if (s.onward < 1) {
      if (!(sampler_.single(v.pairs + kRoulette) < s.onward)) {
        return false;
      }
      s.throughput /= s.onward;
      s.onward = 1;
    } else if (s.scatterings + 1 >= kRouletteFrom &&
               !survives(s, sampler_.single(v.pairs + kRoulette))) {
      return false;
    }
    ++counts_.path;
    s.ray = {World::leave(v.p, wi), wi.normalized()};
    if (!next.mirror) {
      s.links = from.links;
      s.rough_before = true;
    }
    ++s.scatterings;
    return true;
  }

  // How unlikely the way is that LightPaths would find the other way round. By the surfaces' own
  // densities, as they have them: weights add up to one whatever both sides agree on.
  void tell_light_paths(State& s, const Vertex& v, const Vec3& local_wi, float own) const {
    Departure& from = s.from;
    if (!(own > 0)) {
      from.unlike = 0;
      return;
    }
    const double onward = static_cast<double>(std::abs(local_wi.z())) / static_cast<double>(own);
    if (s.scatterings == 0) {
      from.unlike = s.hazy ? 0
                           : onward / options_.light_paths.paths->film_density(
                                          s.ray, s.to_panes + v.distance, v.normal.dot(v.wo));
    } else if (from.unlike > 0) {
      from.unlike *= onward *
                     static_cast<double>(pdf_back(*v.material, v.local_wo, local_wi, v.inside)) /
                     static_cast<double>(v.local_wo.z());
    }
  }

  // ---- connections to virtual lights ----

  // The path has come to a place where virtual lights stand: what it brings from here on is shared
  // with the connections from the place that it left. `facing`: |cos| at a surface, sigma_t in
  // haze. False where chance ends it.
  template <class Uniform>
  bool goes_on_beside_connections(
      State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing, const Uniform& u) {
    const float left = left_by_connections(s, p, side, in_haze, facing);
    s.uncarried *= left;
    if (!virtual_lights_->carries_all() || left >= 1) {
      return true;
    }
    // The root of what is left: going on by that itself would leave rare paths at full weight.
    const float survival =
        std::max(std::min(virtual_lights_->least_survival() / s.beside, 1.0f), std::sqrt(left));
    s.beside *= survival;
    if (!(u() < survival)) {
      return false;
    }
    s.throughput /= survival;
    return true;
  }

  // Of the light from p to the place that the path has left, the part that connections leave to it.
  float left_by_connections(
      const State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing) const {
    const std::uint32_t cluster = virtual_lights_->cluster_at(p, side, in_haze);
    if (cluster == kNoIndex) {
      return 1;
    }
    const float by_direction = s.from.pdf * facing / (p - s.from.p).squaredNorm();
    return 1 - virtual_lights_->share(s.from.row, cluster, by_direction);
  }

  int connections(const State& s) const {
    return s.rough_before ? kLaterConnections : kFirstConnections;
  }

  // Whether a path that is scattered where it is and then at y has no more scatterings than it may.
  bool may_connect(const State& s, const VirtualLightSketch& y, int in_haze) const {
    return s.scatterings + 1 + y.scatterings <= options_.bounces &&
           s.in_haze + in_haze + y.in_haze <= options_.haze_bounces;
  }

  // What y sends toward a place: |cos| over the squared distance at a surface, the phase function
  // over it in haze; for choosing among virtual lights.
  static float sent(const VirtualLightSketch& y, const Vec3& wi, float d2) {
    return (y.is_in_haze ? 0.25f : std::abs(y.normal.dot(wi))) / kPi / d2;
  }
  static float facing(const VirtualLightSketch& y, const Vec3& wi) {
    return y.is_in_haze ? y.normal.x() : std::abs(y.normal.dot(wi));
  }
  static float facing(const VirtualLight& y, const Vec3& wi) {
    return y.is_in_haze() ? y.sigma_t : std::abs(y.normal.dot(wi));
  }

  // The chosen virtual light's contribution to x. `scattered`: what x does with it, cosine
  // included. `from`: where a shadow ray starts.
  void connect(const State& s,
               const VirtualLight& y,
               const Vec3& x,
               const Vec3& from,
               const Spectrum& scattered,
               float weight,
               bool in_haze) {
    const Vec3 wi = (y.position - x).normalized();
    const float d2 = (y.position - x).squaredNorm();
    const Emitter& e = scene_.emitters[y.emitter];
    const Lobes sent_on = sent_lobes(y, wi, from);
    if (!any_passes(sent_on.diffuse + sent_on.gloss)) {
      return;
    }
    const Vec3 end = y.position - (y.normal.dot(wi) > 0 ? y.offset : -y.offset) * y.normal;
    const Vec3 way = end - from;
    const float distance = way.norm();
    const Ray shadow{from, way / distance, distance * (1 - 1e-6f)};
    Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
    if (!(passed[0] > 0)) {
      return;
    }
    ++counts_.shadow;
    passed *= timed([&] { return passage(scene_, ShadowRule{}, shadow, kNoIndex, counts_); });
    if (!any_passes(passed)) {
      return;
    }
    Arrival how{s.scatterings + 1 + y.scatterings,
                true,
                s.hazy || y.hazy || in_haze,
                y.colored,
                y.rgb,
                y.caustic};
    const Spectrum through = s.throughput * scattered * passed * y.flux;
    weight /= d2;
    const bool first = y.scatterings == 1 && any_passes(sent_on.gloss);
    if (!first) {
      bring(s, e, nullptr, through * (sent_on.diffuse + sent_on.gloss), weight, how);
      return;
    }
    bring(s, e, nullptr, through * sent_on.diffuse, weight, how);
    how.caustic = true;
    bring(s, e, nullptr, through * sent_on.gloss, weight, how);
  }

  // What y does with the light that fell on it, toward -wi: the reflection times its |cos| to x and
  // the tilt of its shading normal; in haze scattering over extinction.
  Lobes sent_lobes(const VirtualLight& y, const Vec3& wi, const Vec3& from) {
    Lobes out;
    const Vec3 wo = -wi;
    if (y.is_in_haze()) {
      const HazeAlong along(scene_.hazes, Ray{from, wi}, 2 * (y.position - from).norm() + 1);
      const HazeAt at = along.at((y.position - from).norm());
      if (at.sigma_t() > 0) {
        out.diffuse = at.scattering(wi.dot(y.to_light)) / at.sigma_t();
      }
      return out;
    }
    const SurfaceModel* material = &scene_.materials[scene_.after_bounce(y.material)];
    if (scene_.has_pictures && scene_.pictures[y.material].color != nullptr) {
      sender_ = painted(*material, scene_.pictures[y.material], y.uv);
      material = &*sender_;
    }
    const bool both = material->scatters_through();
    const Vec3 normal = y.normal.dot(wo) >= 0 ? y.normal : Vec3(-y.normal);
    Vec3 shading = y.shading.dot(normal) >= 0 ? y.shading : Vec3(-y.shading);
    if (shading.dot(wo) <= 0) {
      shading = normal;
    }
    const Frame frame = Frame::around(shading);
    const Vec3 local_wo = frame.to_local(wo), local_wi = frame.to_local(y.to_light);
    const float upright = y.to_light.dot(normal);
    if (both ? local_wi.z() * upright <= 0 : local_wi.z() <= 0 || upright <= 0) {
      return out;
    }
    out = reflection_lobes(*material, local_wo, local_wi, false);
    const float scale = std::abs(local_wi.z() / upright) * normal.dot(wo);
    out.diffuse *= scale;
    out.gloss *= scale;
    return out;
  }

  // What a vertex would do with light from one direction: the density with which a path would
  // choose it [1/sr], and what the choice among virtual lights weighs it with: |cos| on a surface,
  // the phase function in haze.
  struct Reception {
    float pdf = 0, factor = 0;
  };

  // The side that a surface is looked up by in the guide.
  static Vec3 side_of(const Vertex& v) { return v.both_sides ? Vec3(Vec3::Zero()) : v.normal; }

  static bool reaches(const Vertex& v, const Vec3& wi, const Vec3& local_wi) {
    const float upright = wi.dot(v.normal);
    return v.both_sides ? local_wi.z() * upright > 0 : local_wi.z() > 0 && upright > 0;
  }

  static std::uint32_t virtual_pair(const State& s) {
    return kVirtualLightPairs + kVirtualPairsPerVertex * static_cast<std::uint32_t>(s.scatterings);
  }

  // `count` connections from the vertex at s.from.p. reception(wi); arrive(light, wi, weight)
  // brings what the chosen one sends. `in_haze`: 1 where the vertex lies in haze.
  template <class Receive, class Arrive>
  void connect_vertex(const State& s,
                      int in_haze,
                      int count,
                      std::uint32_t first_pair,
                      const Receive& reception,
                      const Arrive& arrive) {
    const Departure& from = s.from;
    if (from.row == nullptr || s.scatterings + 2 > options_.bounces) {
      return;
    }
    const auto share = [&](const Reception& r, std::uint32_t cluster, float facing, float d2) {
      return virtual_lights_->share(from.row, cluster, r.pdf * facing / d2);
    };
    virtual_lights_->choose_each(
        *options_.virtual_set,
        from.row,
        static_cast<std::uint32_t>(count),
        sampler_.pair(first_pair),
        sampler_.single(first_pair + 1),
        [&](const VirtualLightSketch& light, std::uint32_t cluster) {
          const Vec3 to = light.position - from.p;
          const float d2 = to.squaredNorm();
          if (!(d2 > 0) || !may_connect(s, light, in_haze)) {
            return 0.0f;
          }
          const Vec3 wi = to / std::sqrt(d2);
          const Reception r = reception(wi);
          return r.factor > 0 ? share(r, cluster, facing(light, wi), d2) * light.flux *
                                    sent(light, wi, d2) * r.factor
                              : 0.0f;
        },
        [&](const VirtualLight& y, float weight) {
          const Vec3 to = y.position - from.p;
          const float d2 = to.squaredNorm();
          const Vec3 wi = to / std::sqrt(d2);
          arrive(y, wi, weight * share(reception(wi), y.cluster, facing(y, wi), d2));
        });
  }

  void connect_surface(const State& s, const Vertex& v) {
    const SurfaceModel& material = *v.material;
    connect_vertex(
        s,
        0,
        connections(s),
        virtual_pair(s),
        [&](const Vec3& wi) -> Reception {
          const Vec3 local_wi = v.frame.to_local(wi);
          if (!reaches(v, wi, local_wi)) {
            return {};
          }
          return {reflection_pdf(material, v.local_wo, local_wi, v.inside), std::abs(local_wi.z())};
        },
        [&](const VirtualLight& y, const Vec3& wi, float weight) {
          const Vec3 local_wi = v.frame.to_local(wi);
          const Spectrum f =
              reflection(material, v.local_wo, local_wi, v.inside) * std::abs(local_wi.z());
          if (any_passes(f)) {
            connect(s, y, v.p.position, World::leave(v.p, wi), f, weight, false);
          }
        });
  }

  void connect_haze(const State& s, const HazeAt& at, int count, std::uint32_t first_pair) {
    const Vec3 p = s.from.p;
    connect_vertex(
        s,
        1,
        count,
        first_pair,
        [&](const Vec3& wi) -> Reception {
          const float phase = at.phase_pdf(s.ray.direction.dot(wi));
          return {phase, phase};
        },
        [&](const VirtualLight& y, const Vec3& wi, float weight) {
          const Spectrum scattered = at.scattering(s.ray.direction.dot(wi)) / at.sigma_t();
          connect(s, y, p, p, scattered, weight, true);
        });
  }

  // ---- records for learning ----

  void record(std::vector<ScatteringRecord>& list,
              const ScatteringRecord& r,
              const Spectrum& before,
              const Spectrum& after,
              float cosine) {
    waiting_.push_back({&list, list.size(), sink_.total(), before.mean(), after.mean(), cosine});
    list.push_back(r);
  }

  // What the last recorded direction has met.
  void tell_source(const Vec3& p) {
    if (!waiting_.empty()) {
      ScatteringRecord& r = (*waiting_.back().list)[waiting_.back().index];
      if (!r.met) {
        r.source = p;
        r.met = true;
      }
    }
  }

  // What the path has brought since each of its scatterings.
  void close_records(std::size_t first) {
    for (std::size_t i = first; i < waiting_.size(); ++i) {
      const Waiting& w = waiting_[i];
      ScatteringRecord& r = (*w.list)[w.index];
      const float brought = std::max(0.0f, sink_.total() - w.total);
      r.arriving = w.after > 0 && std::isfinite(brought) ? brought / w.after * w.cosine / r.pdf : 0;
      r.brought = w.before > 0 && std::isfinite(brought) ? brought / w.before : 0;
    }
    waiting_.resize(first);
  }

  const Scene& scene_;
  const Sampler& sampler_;
  const PathOptions& options_;
  LightSink& sink_;
  FirstHit* first_;
  RayCounts& counts_;
  const GuideTree* surface_guide_;
  const GuideTree* haze_guide_;
  const HazeLights* haze_lights_;
  const SkyGuide* skies_;
  const VirtualLights* virtual_lights_;
  Rng random_{0};  // for tracking through uneven haze
  // The material met last, where a picture colors it; the one that the path left, for panes may lie
  // between; and the first one of a camera's ray.
  std::optional<SurfaceModel> colored_, departed_, first_colored_;
  std::optional<SurfaceModel> sender_;  // of a virtual light, where a picture colors it
  Vec3 way_end_ = Vec3::Zero();  // on the light that is brought next, where ways are recorded
  std::vector<Waiting> waiting_;
};

}  // namespace

template <bool kTimed>
void trace_path(const Scene& scene,
                const Ray& ray,
                const Sampler& sampler,
                const PathOptions& options,
                LightSink& sink,
                FirstHit* first,
                RayCounts& counts) {
  PathTracer<kTimed>(scene, sampler, options, sink, first, counts).run(ray);
}

template void trace_path<false>(const Scene&,
                                const Ray&,
                                const Sampler&,
                                const PathOptions&,
                                LightSink&,
                                FirstHit*,
                                RayCounts&);
template void trace_path<true>(const Scene&,
                               const Ray&,
                               const Sampler&,
                               const PathOptions&,
                               LightSink&,
                               FirstHit*,
                               RayCounts&);

}  // namespace jovilux
