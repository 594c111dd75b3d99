#include "jovilux/render/path.h"

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
                        kCertainLightPairs = kTrackingPairs + 1;
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

// What the last scattering knew, to weigh a light that the next ray meets.
struct Departure {
  Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
  float pdf = 0;                   // of the direction, however it was chosen [1/sr]
  LightSet lights;                 // that were sampled toward at p,
  std::span<const float> arrives;  // chosen by what arrives of them
  bool both_sides = false;         // a translucent surface, which lights behind it reach as well
  bool certain = true;             // camera or mirror: no light was sampled toward
  bool rough_before = false;       // before it lies a surface that is no mirror
  std::uint64_t links = ~std::uint64_t{0};  // lists of linked objects that hold all surfaces so far
  const SurfaceModel* material = nullptr;   // null: haze
  bool inside = false;                      // glass, left from within
  std::uint32_t surface = kNoIndex;
  // How unlikely the way from the camera was, for LightPaths; 0: they have none like it.
  double unlike = 0;
  // Where haze scattered: the ray it happened on, its end, where, and the densities there of place
  // and direction.
  Ray haze_ray;
  float haze_end = 0, haze_t = 0, haze_pdf = 0, haze_total = 0;
  Vec3 wo = Vec3::UnitZ(), wi = Vec3::UnitZ();  // in the shading frame
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
      const auto result = query();
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

  // A light met by the ray that left `s.from`.
  void meet_light(const State& s, std::uint32_t index, const LightPlace& place) {
    const Emitter& e = scene_.emitters[index];
    const Departure& from = s.from;
    const Ray& ray = s.ray;
    if (from.certain ? !e.cheats.visible : e.only_sampled) {
      return;
    }
    float luminance = seen_luminance(e, ray.direction, place);
    if (!(luminance > 0)) {
      return;
    }
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
      luminance *= power_heuristic(
          from.pdf,
          chance * light_pdf(e, from.p, ray.direction, place, from.both_sides ? nullptr : &from.n));
    }
    if (from.certain && from.unlike > 0 && LightPaths::cameras_find(e)) {
      const JoinedLightPaths& joined = options_.light_paths;
      const double ratio =
          joined.per_sample * from.unlike *
          joined.paths->density({index, place, from.surface, from.p, ray.direction});
      luminance *= static_cast<float>(1 / (1 + ratio * ratio));
    }
    Arrival how{s.scatterings,
                from.rough_before,
                s.hazy,
                on_haze,
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
      contribute_by_lobes(s, e, luminance, how);
    } else {
      contribute(e, s.throughput, luminance, how, sink_);
    }
  }

  // The weight of a light that a direction chosen in haze has met, against the other ways to it.
  float haze_weight(const State& s, std::uint32_t index, float direction) const {
    const Departure& from = s.from;
    const float mine = from.haze_pdf * from.pdf;
    const Emitter& e = scene_.emitters[index];
    const float here = scene_.light_clusters.chance(
        scene_.emitters, LightQuery::point(from.p, from.links), index, from.lights, from.arrives);
    const float along = from.haze_total > 0 && !e.is_distant()
                            ? scene_.light_clusters.chance(
                                  scene_.emitters,
                                  LightQuery::along(from.haze_ray, from.haze_end, from.links),
                                  index,
                                  from.haze_total)
                            : 0;
    const float suits =
        along > 0 ? along * EquiangularSpan(e.center, from.haze_ray, from.haze_end).pdf(from.haze_t)
                  : 0;
    return power_heuristic(mine, from.haze_pdf * here * direction, suits * direction);
  }

  static LightQuery query_of(const Departure& from) {
    return from.both_sides ? LightQuery::point(from.p, from.links)
                           : LightQuery::surface(from.p, from.n, from.links);
  }

  // Light that a surface has thrown on: its parts apart where the light's cheats tell them apart,
  // or
  // the layers do.
  void contribute_by_lobes(const State& s, const Emitter& e, float luminance, Arrival how) {
    const Departure& from = s.from;
    const bool gloss_throws = !from.certain && from.rough_before && has_gloss(*from.material) &&
                              (sink_.keeps_parts() || e.cheats.tells_caustics());
    if (!e.cheats.any_on_reflection() && !gloss_throws) {
      contribute(e, s.throughput, luminance, how, sink_);
      return;
    }
    const LobeFactors f = lobe_factors(e.cheats);
    if (from.certain) {
      contribute(e, s.throughput, luminance * f.gloss, how, sink_);
      return;
    }
    const Lobes lobes = reflection_lobes(*from.material, from.wo, from.wi, from.inside);
    const Spectrum all = lobes.diffuse + lobes.gloss;
    const auto part = [&](const Spectrum& lobe) {
      return Spectrum((all > 0.0f).select(lobe / all.max(1e-30f), 0.0f));
    };
    contribute(e, s.throughput * part(f.diffuse * lobes.diffuse), luminance, how, sink_);
    how.caustic = from.rough_before;
    contribute(e, s.throughput * part(f.gloss * lobes.gloss), luminance, how, sink_);
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
    const float place_scale = forced ? followed / std::max(taken, 1e-30f) : 1.0f;
    LightChoice chosen;
    if (scatters) {
      chosen = light_along(s, along, end, pairs, place_scale);
    }
    const Vec2 u = sampler_.pair(pairs + kPlace);
    if (forced) {
      add_emission(along, kFar, s.throughput);
      if (scatters && taken > 0 && u.y() < followed) {
        const float t = along.sample(u.x() * taken, random_);
        if (t < end) {
          State scattered = s;
          scattered.throughput *= taken / followed;
          scattered.onward = 1;
          if (scatter_in_haze(scattered, along, end, t, chosen, pairs, place_scale)) {
            ++scattered.scatterings;
            follow(scattered);
          }
        }
      }
    } else {
      const float t = along.sample(u.x(), random_);
      add_emission(along, t, s.throughput);
      if (t < end) {
        if (!apart) {
          if (!scatters || !scatter_in_haze(s, along, end, t, chosen, pairs, place_scale)) {
            return Next::kEnd;
          }
          ++s.scatterings;
          return Next::kOn;
        }
        State scattered = s;
        scattered.onward = 1;
        if (scatters && scatter_in_haze(scattered, along, end, t, chosen, pairs, place_scale)) {
          ++scattered.scatterings;
          follow(scattered);
        }
      }
    }
    if (apart) {
      s.throughput *= left;
      s.onward = std::min(s.onward, std::max(kLeastOnward, left));
      return left > 0 ? Next::kSurface : Next::kEnd;
    }
    return Next::kSurface;
  }

  // What the hazes themselves give off on a ray's way; t is where haze extinguishes it.
  void add_emission(const HazeAlong& along, float t, const Spectrum& throughput) {
    const auto add = [&](std::size_t haze, float luminance) {
      sink_.add(scene_.hazes[haze].layer,
                Part::kHaze,
                tristimulus(scene_.emission_table, throughput, luminance));
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
    if (!(weight > 0) || !(throughput > 0.0f).any()) {
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
      options_.recorder->haze_lights.push_back(
          {p, scene_.light_clusters.slot_of(index), light.weight, light.weight * passed.mean(), 0});
    }
    if ((passed > 0.0f).any()) {
      const Arrival how{s.scatterings + 1, s.rough_before, true, true, light.colored, light.rgb};
      contribute(e, throughput * passed, weight, how, sink_);
    }
  }

  // Light that haze scatters once on a ray's way: a light is chosen first, then a place that suits
  // it. Returns the choice.
  LightChoice light_along(
      const State& s, const HazeAlong& along, float end, std::uint32_t pairs, float place_scale) {
    const Vec2 u = sampler_.pair(pairs + kAlong);
    const LightChoice choice = scene_.light_clusters.choose(
        scene_.emitters, LightQuery::along(s.ray, end, s.links), u.x());
    if (choice.index == kNoIndex) {
      return choice;
    }
    const Emitter& e = scene_.emitters[choice.index];
    const EquiangularSpan span(e.center, s.ray, end);
    const float t = span.sample(u.y());
    if (!(t > 0) || !(t < end)) {
      return choice;
    }
    const HazeAt here = along.at(t);
    const float sigma_t = here.sigma_t();
    const Vec3 p = s.ray.at(t);
    if (!(sigma_t > 0) || !may_reach(e, p, s.links)) {
      return choice;
    }
    const float left = along.transmittance(t, random_);
    if (!(left > 0)) {
      return choice;
    }
    const LightSample light = sample_toward(e, p, sampler_.pair(pairs + kAlongLight));
    if (!(light.weight > 0)) {
      return choice;
    }
    const float cosine = s.ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1,
                by_distance = sigma_t * along.likely_transmittance(t) * place_scale;
    const float here_chance = chance_here(p, s.links, choice.index);
    const float by_phase =
        light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(here, p, cosine, light.wi) : 0;
    const float mine = choice.chance * span.pdf(t);
    const float weight =
        light.weight * left / mine *
        power_heuristic(
            mine * direction, by_distance * here_chance * direction, by_distance * by_phase);
    light_on_haze(s, choice.index, p, light, s.throughput * here.scattering(cosine), weight);
    return choice;
  }

  // The chance that a light is chosen at a place in haze.
  float chance_here(const Vec3& p, std::uint64_t links, std::uint32_t light) const {
    const LightQuery query = LightQuery::point(p, links);
    const std::span<const float> arrives = haze_arrives(p);
    const LightSet set = scene_.light_clusters.choose_set(scene_.emitters, query, 0.0f, arrives, 0);
    return scene_.light_clusters.chance(scene_.emitters, query, light, set, arrives);
  }

  std::span<const float> haze_arrives(const Vec3& p) const {
    return haze_guide_ != nullptr ? haze_guide_->arrives(haze_guide_->cell_at(p))
                                  : std::span<const float>();
  }

  // The density of directions chosen in haze: of the phase function, mixed with the guide's.
  float haze_direction_pdf(const HazeAt& at, const Vec3& p, float cosine, const Vec3& wi) const {
    const float own = at.phase_pdf(cosine);
    if (haze_guide_ == nullptr) {
      return own;
    }
    const GuideCell& cell = haze_guide_->cell(haze_guide_->cell_at(p));
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
                       float place_scale) {
    Departure& from = s.from;
    from.haze_ray = s.ray;
    from.haze_end = end;
    from.haze_t = t;
    const HazeAt at = along.at(t);
    const float sigma_t = at.sigma_t();
    from.haze_pdf = sigma_t * along.likely_transmittance(t) * place_scale;
    from.haze_total = chosen.total;
    from.p = s.ray.at(t);
    if (options_.recorder != nullptr) {
      tell_source(from.p);
    }
    from.links = s.links;
    from.rough_before = s.rough_before;
    from.material = nullptr;
    from.certain = false;
    light_here(s, at, chosen, pairs);
    return turn_in_haze(s, at, pairs);
  }

  // A light chosen at the place where haze scatters the path.
  void light_here(State& s, const HazeAt& at, const LightChoice& chosen, std::uint32_t pairs) {
    Departure& from = s.from;
    from.arrives = haze_arrives(from.p);
    from.lights = scene_.light_clusters.choose_set(scene_.emitters,
                                                   LightQuery::point(from.p, s.links),
                                                   sampler_.pair(pairs + kHere).x(),
                                                   from.arrives,
                                                   0);
    const LightChoice here = from.lights.other;
    if (here.index == kNoIndex) {
      return;
    }
    const Emitter& e = scene_.emitters[here.index];
    const LightSample light = sample_toward(e, from.p, sampler_.pair(pairs + kHereLight));
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
                                           chosen.total);
    const float suits =
        along > 0 ? along * EquiangularSpan(e.center, s.ray, from.haze_end).pdf(from.haze_t) : 0;
    const float by_phase =
        light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(at, from.p, cosine, light.wi) : 0;
    const float weight =
        light.weight / here.chance *
        power_heuristic(
            from.haze_pdf * here.chance * direction, suits * direction, from.haze_pdf * by_phase);
    light_on_haze(
        s, here.index, from.p, light, s.throughput * at.scattering(cosine) / at.sigma_t(), weight);
  }

  // The direction in which haze scatters the path.
  bool turn_in_haze(State& s, const HazeAt& at, std::uint32_t pairs) {
    Departure& from = s.from;
    const GuideCell* cell =
        haze_guide_ != nullptr ? &haze_guide_->cell(haze_guide_->cell_at(from.p)) : nullptr;
    const float share = cell != nullptr ? cell->share : 0;
    const Vec2 u = sampler_.pair(pairs + kTurn);
    Vec3 wi;
    float own = 0, guided = 0;
    if (share > 0 && sampler_.single(pairs + kMixture) < share) {
      wi = haze_guide_->sample(*cell, from.p, u, guided);
      own = at.phase_pdf(s.ray.direction.dot(wi));
    } else {
      own = at.sample_phase(s.ray.direction, u, wi);
      guided = cell != nullptr && (share > 0 || options_.recorder != nullptr)
                   ? haze_guide_->pdf(*cell, from.p, wi)
                   : 0;
    }
    from.pdf = share > 0 ? share * guided + (1 - share) * own : own;
    const Spectrum before = s.throughput;
    s.throughput *= at.scattering(s.ray.direction.dot(wi)) / (at.sigma_t() * from.pdf);
    if (options_.recorder != nullptr) {
      record(options_.recorder->haze_scatterings,
             {from.p, square_of(wi), Vec3::Zero(), false, 0, 0, own, guided, from.pdf},
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

  static bool survives(State& s, float u) {
    const float survival = std::min(0.95f, s.reflected.maxCoeff());
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
    static constexpr Scene::Surface kNone;
    v.surface = received ? &kNone : &scene_.surfaces[v.p.surface];
    v.distance = hit.t;
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
    if (scene_.has_pictures && !received && scene_.pictures[v.surface->material].any()) {
      const Scene::Pictures& pictures = scene_.pictures[v.surface->material];
      if (const float covered = pictures.covered(v.p.uv);
          covered < 1 && !(sampler_.single(kMaskPairs + s.panes) < covered)) {
        return straight_on(s, v);
      }
      if (pictures.color != nullptr) {
        colored_ = painted(scene_.materials[material_index], pictures, v.p.uv);
        v.colored = true;
      }
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

  Next at_pane(State& s, const Vertex& v) {
    const float mirrored = pane_reflectance(*v.material, std::min(1.0f, v.normal.dot(v.wo)));
    if (!(sampler_.single(kPanePairs + s.panes) < mirrored)) {
      s.throughput *= v.material->transmittance;
      if (first_ != nullptr && s.scatterings == 0) {
        first_->found = false;  // what lies behind it counts
      }
      return straight_on(s, v);
    }
    if (++s.panes == kMostPanes || s.scatterings >= options_.bounces) {
      return Next::kEnd;
    }
    s.from.p = v.p.position;
    s.from.n = v.normal;
    s.from.links = s.links & v.surface->links;
    s.from.rough_before = s.rough_before;
    s.from.certain = true;
    s.from.surface = v.p.surface;
    ++counts_.path;
    const Vec3 back = (s.ray.direction - 2 * s.ray.direction.dot(v.normal) * v.normal).normalized();
    s.ray = {World::leave(v.p, back), back};
    ++s.scatterings;
    return Next::kOn;
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
    if (surface_guide_ != nullptr && !material.only_mirror()) {
      const std::uint32_t number = surface_guide_->cell_at(v.p.position);
      v.cell = &surface_guide_->cell(number);
      v.arrives = surface_guide_->arrives(number);
      v.share = v.cell->share > 0 ? v.cell->share * guided_part(material) : 0;
    }
    // A mirror counts where light falls on it, not where it shows another surface.
    Departure& from = s.from;
    from.links = s.links & v.surface->links;
    from.rough_before = s.rough_before;
    from.p = v.p.position;
    from.n = v.normal;
    from.surface = v.p.surface;
    from.lights = {};
    from.arrives = v.arrives;
    if (!material.only_mirror()) {
      sample_lights(s, v);
    }
    return leave_surface(s, v);
  }

  void sample_lights(State& s, const Vertex& v) {
    Departure& from = s.from;
    from.both_sides = v.both_sides;
    const std::size_t most_certain = s.rough_before ? 0 : LightSet::kMostCertain;
    from.lights = scene_.light_clusters.choose_set(
        scene_.emitters, query_of(from), v.choices.x(), v.arrives, most_certain);
    for (std::size_t k = 0; k < from.lights.certain_count; ++k) {
      const auto pair = kCertainLightPairs + static_cast<std::uint32_t>(k) +
                        static_cast<std::uint32_t>(LightSet::kMostCertain * s.scatterings);
      light_at(s, v, from.lights.certain[k], 1, sampler_.pair(k == 0 ? v.pairs + kLight : pair));
    }
    if (const LightChoice& other = from.lights.other; other.index != kNoIndex) {
      const auto pair =
          kCertainLightPairs + static_cast<std::uint32_t>(LightSet::kMostCertain * s.scatterings);
      light_at(s,
               v,
               other.index,
               other.chance,
               sampler_.pair(from.lights.certain_count == 0 ? v.pairs + kLight : pair));
    }
  }

  // A light sampled toward from a surface.
  void light_at(const State& s, const Vertex& v, std::uint32_t index, float chance, const Vec2& u) {
    const Emitter& e = scene_.emitters[index];
    const SurfaceModel& material = *v.material;
    const LightSample light = sample_toward(e, v.p.position, u, v.both_sides ? nullptr : &v.normal);
    const Vec3 local_wi = v.frame.to_local(light.wi);
    const bool reaches = v.both_sides ? local_wi.z() * light.wi.dot(v.normal) > 0
                                      : local_wi.z() > 0 && light.wi.dot(v.normal) > 0;
    if (!(light.weight > 0) || !reaches) {
      return;
    }
    Arrival how{s.scatterings + 1, s.rough_before, s.hazy, false, light.colored, light.rgb};
    // By gloss on another surface, where that is kept apart.
    Spectrum f, thrown = Spectrum::Zero();
    if (const bool apart = s.rough_before && has_gloss(material) &&
                           (sink_.keeps_parts() || e.cheats.tells_caustics());
        apart || e.cheats.any_on_reflection()) {
      const Lobes lobes = reflection_lobes(material, v.local_wo, local_wi, v.inside);
      const LobeFactors factors = lobe_factors(e.cheats);
      f = factors.diffuse * lobes.diffuse;
      (apart ? thrown : f) += factors.gloss * lobes.gloss;
    } else {
      f = reflection(material, v.local_wo, local_wi, v.inside);
    }
    float weight = light.weight * std::abs(local_wi.z()) / chance;
    if (light.pdf > 0 && !e.only_sampled) {
      weight *= power_heuristic(chance * light.pdf, direction_pdf(v, local_wi, light.wi));
    }
    if (!(weight > 0) || !(f + thrown > 0.0f).any()) {
      return;
    }
    const Spectrum passed = passes_to(v, e, index, light, local_wi);
    if (options_.recorder != nullptr) {
      const float sent = light.weight * std::abs(local_wi.z());
      options_.recorder->surface_lights.push_back({v.p.position,
                                                   scene_.light_clusters.slot_of(index),
                                                   sent,
                                                   sent * passed.mean(),
                                                   sent * passed.mean() / chance});
    }
    if ((passed > 0.0f).any()) {
      contribute(e, s.throughput * f * passed, weight, how, sink_);
      if ((thrown > 0.0f).any()) {
        how.caustic = true;
        contribute(e, s.throughput * thrown * passed, weight, how, sink_);
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
    // A light without shadows asks no ray.
    if (shadow.t_max > 0 && passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any()) {
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
    const bool asked = v.cell != nullptr && (v.share > 0 || options_.recorder != nullptr);
    guided = asked && next.pdf > 0 ? surface_guide_->pdf(*v.cell, v.p.position, wi) : 0;
    if (v.share > 0 && next.pdf > 0) {
      next.pdf = v.share * guided + (1 - v.share) * own;
      next.weight *= own / next.pdf;
    }
    return next;
  }

  // The next direction at a surface; false where the path ends.
  bool leave_surface(State& s, const Vertex& v) {
    const SurfaceModel& material = *v.material;
    Departure& from = s.from;
    Vec3 wi;
    float own = 0, guided = 0;
    const Scattering next = turn(v, wi, own, guided);
    if (!(next.pdf > 0)) {
      return false;
    }
    const Spectrum before = s.throughput;
    s.throughput *= next.weight;
    const bool to_its_side = material.lets_through() ? wi.dot(v.normal) * next.wi.z() > 0
                                                     : wi.dot(v.normal) > 0 && next.wi.z() > 0;
    if (options_.recorder != nullptr && !next.mirror) {
      record(options_.recorder->surface_scatterings,
             {v.p.position, square_of(wi), Vec3::Zero(), false, 0, 0, own, guided, next.pdf},
             before,
             s.throughput,
             std::abs(next.wi.z()));
    }
    if (!to_its_side || !(s.throughput > 0.0f).any()) {
      return false;  // to the other side than meant: an interpolated normal's doing, or the guide's
    }
    if (material.kind == SurfaceKind::kGlass && next.wi.z() < 0) {
      s.within = v.inside ? nullptr : &scene_.materials[v.surface->material];
    }
    from.pdf = next.pdf;
    from.certain = next.mirror;
    from.material = &material;
    if (v.colored) {
      departed_ = *colored_;
      from.material = &*departed_;
    }
    from.wo = v.local_wo;
    from.wi = next.wi;
    from.inside = v.inside;
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
  Rng random_{0};  // for tracking through uneven haze
  // The material met last, where a picture colors it, and the one that the path left: panes may lie
  // between.
  std::optional<SurfaceModel> colored_, departed_;
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
