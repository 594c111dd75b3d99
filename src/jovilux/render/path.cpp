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
// they are without haze.
// Passing a pane is no scattering, but the stretch of haze behind it has pairs of its own.
constexpr std::uint32_t kHazePairs = 1U << 20, kHazePairsPerVertex = 8,
                        kHazePairsPerPane = 1U << 14;
constexpr std::uint32_t kPanePairs = 1U << 24, kMaskPairs = kPanePairs + kMostPanes,
                        kTrackingPairs = kMaskPairs + kMostPanes;
static_assert(kHazePairs + kMostPanes * kHazePairsPerPane < kPanePairs);
enum HazeUse : std::uint32_t {
  kAlong = 0,
  kAlongLight = 1,
  kPlace = 2,
  kHere = 3,
  kHereLight = 4,
  kTurn = 5
};

// What the last scattering knew, to weigh a light that the next ray meets.
struct Departure {
  Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
  float pdf = 0;
  float total_expected = 0;   // of the choice among lights at p
  bool both_sides = false;    // a translucent surface, which lights behind it reach as well
  bool certain = true;        // camera or mirror: no light was sampled toward
  bool rough_before = false;  // before it lies a surface that is no mirror
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

// A light met by the ray that left `from`.
void meet_light(const Scene& scene,
                std::uint32_t index,
                const Ray& ray,
                const LightPlace& place,
                const Spectrum& throughput,
                const Departure& from,
                int scatterings,
                bool hazy,
                const JoinedLightPaths& light_paths,
                LightSink& sink) {
  const Emitter& e = scene.emitters[index];
  if (from.certain ? !e.cheats.visible : e.only_sampled) {
    return;
  }
  float luminance = seen_luminance(e, ray.direction, place);
  if (!(luminance > 0)) {
    return;
  }
  const bool received = scatterings > 0;
  if (received) {
    if (!may_reach(e, from.p, from.links)) {
      return;
    }
    luminance *= falloff_at(e, from.p);
  }
  const bool on_haze = received && !from.certain && from.material == nullptr;
  if (on_haze) {
    // The other ways: the same place with a light chosen there, a light chosen first and a place
    // that suits it.
    const float direction = light_pdf(e, from.p, ray.direction, place);
    const float there =
        from.total_expected > 0
            ? scene.light_clusters.chance(
                  scene.emitters, LightQuery::point(from.p, from.links), index, from.total_expected)
            : 0;
    const float along = from.haze_total > 0
                            ? scene.light_clusters.chance(
                                  scene.emitters,
                                  LightQuery::along(from.haze_ray, from.haze_end, from.links),
                                  index,
                                  from.haze_total)
                            : 0;
    const float suits =
        along > 0 ? along * EquiangularSpan(e.center, from.haze_ray, from.haze_end).pdf(from.haze_t)
                  : 0;
    luminance *= power_heuristic(
        from.haze_pdf * from.pdf, from.haze_pdf * there * direction, suits * direction);
  } else if (!from.certain) {
    const LightQuery query = from.both_sides ? LightQuery::point(from.p, from.links)
                                             : LightQuery::surface(from.p, from.n, from.links);
    const float chance =
        from.total_expected > 0
            ? scene.light_clusters.chance(scene.emitters, query, index, from.total_expected)
            : 0;
    luminance *= power_heuristic(
        from.pdf,
        chance * light_pdf(e, from.p, ray.direction, place, from.both_sides ? nullptr : &from.n));
  }
  if (from.certain && from.unlike > 0 && LightPaths::cameras_find(e)) {
    const double ratio =
        light_paths.per_sample * from.unlike *
        light_paths.paths->density({index, place, from.surface, from.p, ray.direction});
    luminance *= static_cast<float>(1 / (1 + ratio * ratio));
  }
  Arrival how{scatterings,
              from.rough_before,
              hazy,
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
  // Its parts apart where the light's cheats tell them apart, or the layers do.
  const bool gloss_throws = received && !from.certain && !on_haze && from.rough_before &&
                            has_gloss(*from.material) &&
                            (sink.keeps_parts() || e.cheats.tells_caustics());
  if (received && !on_haze && (e.cheats.any_on_reflection() || gloss_throws)) {
    const LobeFactors f = lobe_factors(e.cheats);
    if (from.certain) {
      contribute(e, throughput, luminance * f.gloss, how, sink);
    } else {
      const Lobes lobes = reflection_lobes(*from.material, from.wo, from.wi, from.inside);
      const Spectrum all = lobes.diffuse + lobes.gloss;
      const auto part = [&](const Spectrum& lobe) {
        return Spectrum((all > 0.0f).select(lobe / all.max(1e-30f), 0.0f));
      };
      contribute(e, throughput * part(f.diffuse * lobes.diffuse), luminance, how, sink);
      how.caustic = from.rough_before;
      contribute(e, throughput * part(f.gloss * lobes.gloss), luminance, how, sink);
    }
    return;
  }
  contribute(e, throughput, luminance, how, sink);
}

// Runs a ray query, timed where that is asked for.
template <bool kTimed, class Query>
auto timed(RayCounts& counts, const Query& query) {
  if constexpr (!kTimed) {
    return query();
  } else {
    const auto start = std::chrono::steady_clock::now();
    const auto result = query();
    counts.query_ns +=
        static_cast<std::uint64_t>((std::chrono::steady_clock::now() - start).count());
    return result;
  }
}

// A light sampled toward from a place in haze: what of it arrives there, weighed.
template <bool kTimed>
void light_on_haze(const Scene& scene,
                   std::uint32_t index,
                   const Vec3& p,
                   const LightSample& light,
                   const Spectrum& throughput,
                   float weight,
                   const Arrival& how,
                   LightSink& sink,
                   Rng& random,
                   RayCounts& counts) {
  const Emitter& e = scene.emitters[index];
  if (!(weight > 0) || !(throughput > 0.0f).any()) {
    return;
  }
  Ray shadow{p, light.wi};
  std::uint32_t body = kNoIndex;
  if (!e.is_distant()) {
    shadow.t_max = light.distance * (e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f);
    body = scene.emitter_surface[index];
  }
  Spectrum passed = Spectrum::Constant(haze_passes(scene, shadow, shadow.t_max, random));
  if (passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any()) {
    ++counts.shadow;
    passed *= timed<kTimed>(
        counts, [&] { return passage(scene, ShadowRule::of(scene, e), shadow, body, counts); });
  }
  if ((passed > 0.0f).any()) {
    contribute(e, throughput * passed, weight, how, sink);
  }
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

// What the hazes themselves give off on a ray's way; t is where haze extinguishes it.
void add_emission(const Scene& scene,
                  const HazeAlong& along,
                  float t,
                  const Spectrum& throughput,
                  LightSink& sink) {
  const auto add = [&](std::size_t haze, float luminance) {
    sink.add(scene.hazes[haze].layer,
             Part::kHaze,
             tristimulus(scene.emission_table, throughput, luminance));
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
  for (std::size_t i = 0; i < scene.hazes.size(); ++i) {
    const Haze& h = scene.hazes[i];
    if (h.emission > 0 && here.sigma_t(i) > 0) {
      add(i, h.emission * (here.sigma_t(i) / h.sigma_t) / here.sigma_t());
    }
  }
}

// Light that haze scatters once on a ray's way: a light is chosen first, then a place that suits
// it. Returns the choice.
template <bool kTimed>
LightChoice light_along(const Scene& scene,
                        const Ray& ray,
                        float end,
                        const HazeAlong& along,
                        const Spectrum& throughput,
                        const Sampler& sampler,
                        std::uint32_t pairs,
                        std::uint64_t links,
                        Arrival how,
                        LightSink& sink,
                        Rng& random,
                        RayCounts& counts) {
  const Vec2 u = sampler.pair(pairs + kAlong);
  const LightChoice choice =
      scene.light_clusters.choose(scene.emitters, LightQuery::along(ray, end, links), u.x());
  if (choice.index == kNoIndex) {
    return choice;
  }
  const Emitter& e = scene.emitters[choice.index];
  const EquiangularSpan span(e.center, ray, end);
  const float t = span.sample(u.y());
  if (!(t > 0) || !(t < end)) {
    return choice;
  }
  const HazeAt here = along.at(t);
  const float sigma_t = here.sigma_t();
  const Vec3 p = ray.at(t);
  if (!(sigma_t > 0) || !may_reach(e, p, links)) {
    return choice;
  }
  const float left = along.transmittance(t, random);
  if (!(left > 0)) {
    return choice;
  }
  const LightSample light = sample_toward(e, p, sampler.pair(pairs + kAlongLight));
  if (!(light.weight > 0)) {
    return choice;
  }
  const float cosine = ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1,
              by_distance = sigma_t * along.likely_transmittance(t);
  // The other ways need what all lights would bring here.
  const LightQuery at_place = LightQuery::point(p, links);
  const float total = scene.light_clusters.total(scene.emitters, at_place),
              there = total > 0 ? scene.light_clusters.chance(
                                      scene.emitters, at_place, choice.index, total)
                                : 0;
  const float by_phase = light.pdf > 0 && !e.only_sampled ? here.phase_pdf(cosine) : 0;
  const float mine = choice.chance * span.pdf(t);
  const float weight =
      light.weight * left / mine *
      power_heuristic(mine * direction, by_distance * there * direction, by_distance * by_phase);
  how.colored = light.colored;
  how.rgb = light.rgb;
  light_on_haze<kTimed>(scene,
                        choice.index,
                        p,
                        light,
                        throughput * here.scattering(cosine),
                        weight,
                        how,
                        sink,
                        random,
                        counts);
  return choice;
}

}  // namespace

template <bool kTimed>
void trace_path(const Scene& scene,
                Ray ray,
                const Sampler& sampler,
                int bounces,
                LightSink& sink,
                FirstHit* first,
                RayCounts& counts,
                const Receiver* receiver,
                const JoinedLightPaths& light_paths,
                bool as_they_are) {
  Spectrum throughput = Spectrum::Ones();
  Departure from;
  // Lists of linked objects that hold all rough surfaces so far.
  std::uint64_t path_links = ~std::uint64_t{0};
  bool rough_before = false;
  bool hazy = false;                     // haze has scattered the path
  const SurfaceModel* within = nullptr;  // the glass that the ray runs in
  std::uint32_t panes = 0;               // that it has passed
  // From the camera to the last pane that it looked through [m].
  float to_panes = 0;
  std::optional<SurfaceModel> colored;   // the material met last, where a picture colors it,
  std::optional<SurfaceModel> departed;  // and the one that the path left: panes may lie between
  Rng random(0);                         // for tracking through uneven haze
  if (!scene.hazes.empty()) {
    const Vec2 seed = sampler.pair(kTrackingPairs);
    random = Rng(static_cast<std::uint64_t>(seed.x() * 0x1p24f) << 24 |
                 static_cast<std::uint64_t>(seed.y() * 0x1p24f));
  }
  ++counts.camera;
  for (int scatterings = 0;; ++scatterings) {
    const bool received = receiver != nullptr && scatterings == 0;
    const Hit hit =
        received ? Hit{} : timed<kTimed>(counts, [&] { return scene.world.closest(ray); });
    if (!scene.hazes.empty() && !received) {
      const HazeAlong along(scene.hazes, ray, hit.found() ? hit.t : kFar);
      if (along.any()) {
        const std::uint32_t pairs = kHazePairs + kHazePairsPerPane * panes +
                                    kHazePairsPerVertex * static_cast<std::uint32_t>(scatterings);
        const float end = hit.found() ? hit.t : kFar;
        LightChoice chosen;
        if (scatterings < bounces) {
          chosen = light_along<kTimed>(
              scene,
              ray,
              end,
              along,
              throughput,
              sampler,
              pairs,
              path_links,
              Arrival{scatterings + 1, rough_before, true, true, false, Eigen::Array3f::Ones()},
              sink,
              random,
              counts);
        }
        const float t = along.sample(sampler.single(pairs + kPlace), random);
        add_emission(scene, along, t, throughput, sink);
        if (t < end) {  // haze extinguishes it here
          if (scatterings >= bounces) {
            return;
          }
          from.haze_ray = ray;
          from.haze_end = end;
          from.haze_t = t;
          const HazeAt at = along.at(t);
          const float sigma_t = at.sigma_t();
          from.haze_pdf = sigma_t * along.likely_transmittance(t);
          from.haze_total = chosen.total;
          from.p = ray.at(t);
          from.links = path_links;
          from.rough_before = rough_before;
          from.material = nullptr;
          from.certain = false;
          const LightChoice here =
              scene.light_clusters.choose(scene.emitters,
                                          LightQuery::point(from.p, path_links),
                                          sampler.pair(pairs + kHere).x());
          from.total_expected = here.total;
          if (here.index != kNoIndex) {
            const Emitter& e = scene.emitters[here.index];
            const LightSample light = sample_toward(e, from.p, sampler.pair(pairs + kHereLight));
            if (light.weight > 0) {
              const float cosine = ray.direction.dot(light.wi),
                          direction = light.pdf > 0 ? light.pdf : 1;
              const float seg =
                  e.is_distant() || !(chosen.total > 0)
                      ? 0
                      : scene.light_clusters.chance(scene.emitters,
                                                    LightQuery::along(ray, end, path_links),
                                                    here.index,
                                                    chosen.total);
              const float suits = seg > 0 ? seg * EquiangularSpan(e.center, ray, end).pdf(t) : 0;
              const float by_phase = light.pdf > 0 && !e.only_sampled ? at.phase_pdf(cosine) : 0;
              const float weight = light.weight / here.chance *
                                   power_heuristic(from.haze_pdf * here.chance * direction,
                                                   suits * direction,
                                                   from.haze_pdf * by_phase);
              const Arrival how{
                  scatterings + 1, rough_before, true, true, light.colored, light.rgb};
              light_on_haze<kTimed>(scene,
                                    here.index,
                                    from.p,
                                    light,
                                    throughput * at.scattering(cosine) / sigma_t,
                                    weight,
                                    how,
                                    sink,
                                    random,
                                    counts);
            }
          }
          Vec3 wi;
          from.pdf = at.sample_phase(ray.direction, sampler.pair(pairs + kTurn), wi);
          throughput *= at.scattering(ray.direction.dot(wi)) / (sigma_t * from.pdf);
          if (scatterings + 1 >= kRouletteFrom) {
            const float survival = std::min(0.95f, throughput.maxCoeff());
            if (!(sampler.pair(pairs + kHere).y() < survival)) {
              return;
            }
            throughput /= survival;
          }
          ++counts.path;
          ray = {from.p, wi};
          from.unlike = 0;
          rough_before = hazy = true;
          continue;
        }
      }
    }
    if (!hit.found() && !received) {
      for (const std::uint32_t index : scene.distant) {
        if (covers(scene.emitters[index], ray.direction)) {
          meet_light(scene,
                     index,
                     ray,
                     {ray.origin, Vec3(-ray.direction)},
                     throughput,
                     from,
                     scatterings,
                     hazy,
                     light_paths,
                     sink);
        }
      }
      return;
    }
    if (within != nullptr && !received) {
      throughput *= (-hit.t * within->absorption).exp();
    }
    const SurfacePoint p = received ? place_of(*receiver) : scene.world.point(ray, hit);
    static constexpr Scene::Surface kNone;
    const Scene::Surface& surface = received ? kNone : scene.surfaces[p.surface];
    if (surface.emitter != kNoIndex) {
      meet_light(scene,
                 surface.emitter,
                 ray,
                 {p.position, p.normal},
                 throughput,
                 from,
                 scatterings,
                 hazy,
                 light_paths,
                 sink);
      if (surface.material == kNoIndex) {  // the bodies of lights are black to other light
        if (first != nullptr && scatterings == 0) {
          *first = {true, Spectrum::Zero(), p.normal, to_panes + hit.t, p.surface};
        }
        return;
      }
    }
    const std::uint32_t material_index = rough_before && !as_they_are && !received
                                             ? scene.after_bounce(surface.material)
                                             : surface.material;
    if (scene.has_pictures && !received && scene.pictures[surface.material].any()) {
      const Scene::Pictures& pictures = scene.pictures[surface.material];
      if (const float covered = pictures.covered(p.uv);
          covered < 1 && !(sampler.single(kMaskPairs + panes) < covered)) {
        if (++panes == kMostPanes) {
          return;
        }
        if (scatterings == 0) {
          to_panes += hit.t;
        }
        ray = {World::leave(p, ray.direction), ray.direction};
        --scatterings;
        continue;
      }
      colored.reset();
      if (pictures.color != nullptr) {
        colored = painted(scene.materials[material_index], pictures, p.uv);
      }
    } else {
      colored.reset();
    }
    const SurfaceModel& material = received  ? white_receiver()
                                   : colored ? *colored
                                             : scene.materials[material_index];
    const Vec3 wo = -ray.direction;
    const Vec3 normal = p.normal.dot(wo) >= 0 ? p.normal : Vec3(-p.normal);
    Vec3 shading = p.shading_normal.dot(normal) >= 0 ? p.shading_normal : Vec3(-p.shading_normal);
    if (shading.dot(wo) <= 0) {
      shading = normal;  // seen from behind its interpolated normal: the true one serves
    }
    if (first != nullptr && scatterings == 0) {
      *first = {true,
                albedo(material, std::max(0.0f, shading.dot(wo))),
                shading,
                to_panes + hit.t,
                p.surface};
    }
    if (material.is_pane()) {
      // A pane lets the ray straight on, as it does shadow rays: no scattering, and lights are
      // weighed as without it.
      const float mirrored = pane_reflectance(material, std::min(1.0f, normal.dot(wo)));
      if (!(sampler.single(kPanePairs + panes) < mirrored)) {
        if (++panes == kMostPanes) {
          return;
        }
        throughput *= material.transmittance;
        if (first != nullptr && scatterings == 0) {
          first->found = false;  // what lies behind it counts
          to_panes += hit.t;
        }
        ray = {World::leave(p, ray.direction), ray.direction};
        --scatterings;
        continue;
      }
      if (++panes == kMostPanes || scatterings >= bounces) {
        return;
      }
      from.p = p.position;
      from.n = normal;
      from.links = path_links & surface.links;
      from.rough_before = rough_before;
      from.certain = true;
      from.surface = p.surface;
      ++counts.path;
      const Vec3 back = (ray.direction - 2 * ray.direction.dot(normal) * normal).normalized();
      ray = {World::leave(p, back), back};
      continue;
    }
    if (scatterings >= bounces) {
      return;
    }
    const bool inside = p.normal.dot(wo) < 0;  // glass
    const bool through_too = material.scatters_through();
    const Frame frame = Frame::around(shading);
    const Vec3 local_wo = frame.to_local(wo);
    const std::uint32_t pairs =
        kCameraPairs + kPairsPerVertex * static_cast<std::uint32_t>(scatterings);
    const Vec2 choices = sampler.pair(pairs + kChoices);

    // A mirror counts where light falls on it, not where it shows another surface.
    from.links = path_links & surface.links;
    from.rough_before = rough_before;
    from.p = p.position;
    from.n = normal;
    from.surface = p.surface;
    from.total_expected = 0;
    if (!material.only_mirror()) {
      from.both_sides = through_too;
      const LightQuery query = through_too ? LightQuery::point(p.position, from.links)
                                           : LightQuery::surface(p.position, normal, from.links);
      const LightChoice choice = scene.light_clusters.choose(scene.emitters, query, choices.x());
      from.total_expected = choice.total;
      if (choice.index != kNoIndex) {
        const Emitter& e = scene.emitters[choice.index];
        const LightSample light = sample_toward(
            e, p.position, sampler.pair(pairs + kLight), through_too ? nullptr : &normal);
        const Vec3 local_wi = frame.to_local(light.wi);
        const bool reaches = through_too ? local_wi.z() * light.wi.dot(normal) > 0
                                         : local_wi.z() > 0 && light.wi.dot(normal) > 0;
        if (light.weight > 0 && reaches) {
          Arrival how{scatterings + 1, rough_before, hazy, false, light.colored, light.rgb};
          // By gloss on another surface, where that is kept apart.
          Spectrum f, thrown = Spectrum::Zero();
          if (const bool apart = rough_before && has_gloss(material) &&
                                 (sink.keeps_parts() || e.cheats.tells_caustics());
              apart || e.cheats.any_on_reflection()) {
            const Lobes lobes = reflection_lobes(material, local_wo, local_wi, inside);
            const LobeFactors factors = lobe_factors(e.cheats);
            f = factors.diffuse * lobes.diffuse;
            (apart ? thrown : f) += factors.gloss * lobes.gloss;
          } else {
            f = reflection(material, local_wo, local_wi, inside);
          }
          float weight = light.weight * std::abs(local_wi.z()) / choice.chance;
          if (light.pdf > 0 && !e.only_sampled) {
            weight *= power_heuristic(choice.chance * light.pdf,
                                      reflection_pdf(material, local_wo, local_wi, inside));
          }
          if (weight > 0 && (f + thrown > 0.0f).any()) {
            Ray shadow{World::leave(p, light.wi), light.wi};
            std::uint32_t body = kNoIndex;
            if (!e.is_distant()) {
              // Short of the light by the rounding of its distance: what it is mounted on does not
              // hide it.
              shadow.t_max =
                  light.distance * (e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f) -
                  p.offset;
              body = scene.emitter_surface[choice.index];
            }
            Spectrum passed = Spectrum::Constant(haze_passes(scene, shadow, shadow.t_max, random));
            // A light without shadows asks no ray.
            if (shadow.t_max > 0 && passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any()) {
              ++counts.shadow;
              passed *= timed<kTimed>(counts, [&] {
                return passage(scene, ShadowRule::of(scene, e), shadow, body, counts);
              });
            }
            if (material.kind == SurfaceKind::kGlass && inside == (local_wi.z() > 0) &&
                !e.is_distant()) {
              passed *= (-light.distance * material.absorption).exp();  // its way lies in the glass
            }
            if ((passed > 0.0f).any()) {
              contribute(e, throughput * f * passed, weight, how, sink);
              if ((thrown > 0.0f).any()) {
                how.caustic = true;
                contribute(e, throughput * thrown * passed, weight, how, sink);
              }
            }
          }
        }
      }
    }

    const Scattering next =
        scatter(material, local_wo, sampler.pair(pairs + kScatter), choices.y(), inside);
    if (!(next.pdf > 0)) {
      return;
    }
    const Vec3 wi = frame.to_world(next.wi);
    if (material.lets_through() ? wi.dot(normal) * next.wi.z() <= 0 : wi.dot(normal) <= 0) {
      return;  // to the other side than meant: an interpolated normal's doing
    }
    if (material.kind == SurfaceKind::kGlass && next.wi.z() < 0) {
      within = inside ? nullptr : &scene.materials[surface.material];
    }
    throughput *= next.weight;
    from.pdf = next.pdf;
    from.certain = next.mirror;
    from.material = &material;
    if (colored) {
      departed = *colored;
      from.material = &*departed;
    }
    from.wo = local_wo;
    from.wi = next.wi;
    from.inside = inside;
    if (light_paths.paths != nullptr && !next.mirror) {
      const double onward =
          static_cast<double>(std::abs(next.wi.z())) / static_cast<double>(next.pdf);
      if (scatterings == 0) {
        from.unlike =
            hazy ? 0
                 : onward / light_paths.paths->film_density(ray, to_panes + hit.t, normal.dot(wo));
      } else if (from.unlike > 0) {
        from.unlike *= onward * static_cast<double>(pdf_back(material, local_wo, next.wi, inside)) /
                       static_cast<double>(local_wo.z());
      }
    }
    if (scatterings + 1 >= kRouletteFrom) {
      const float survival = std::min(0.95f, throughput.maxCoeff());
      if (!(sampler.single(pairs + kRoulette) < survival)) {
        return;
      }
      throughput /= survival;
    }
    ++counts.path;
    ray = {World::leave(p, wi), wi.normalized()};
    if (!next.mirror) {
      path_links = from.links;
      rough_before = true;
    }
  }
}

template void trace_path<false>(const Scene&,
                                Ray,
                                const Sampler&,
                                int,
                                LightSink&,
                                FirstHit*,
                                RayCounts&,
                                const Receiver*,
                                const JoinedLightPaths&,
                                bool);
template void trace_path<true>(const Scene&,
                               Ray,
                               const Sampler&,
                               int,
                               LightSink&,
                               FirstHit*,
                               RayCounts&,
                               const Receiver*,
                               const JoinedLightPaths&,
                               bool);

}  // namespace jovilux
