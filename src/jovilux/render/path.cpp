#include "jovilux/render/path.h"

#include <algorithm>
#include <chrono>
#include <cmath>

namespace jovilux {
namespace {

// Pairs of dimensions of one scattering.
constexpr std::uint32_t kPairsPerVertex = 4;
enum Use : std::uint32_t { kLight = 0, kScatter = 1, kChoices = 2, kRoulette = 3 };

constexpr int kRouletteFrom = 3;

float power_heuristic(float a, float b) {
  const float a2 = a * a, b2 = b * b;
  return a2 / (a2 + b2);
}

// What the last scattering knew, to weigh a light that the next ray meets.
struct Departure {
  Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
  float pdf = 0;
  float total_expected = 0;  // as choose_light found it at p
  bool certain = true;       // camera or mirror: no light was sampled toward
};

// The one place where a light's contribution is weighed.
void contribute(const Emitter& e, const Spectrum& throughput, float luminance, int scatterings, LightSink& sink) {
  if (luminance > 0) {
    sink.add(e.layer, scatterings <= 1 ? Part::kDirect : Part::kBounce, tristimulus(e.table, throughput, luminance));
  }
}

// A light met by the ray that left `from`.
void meet_light(const Scene& scene, std::uint32_t index, const Ray& ray, const Spectrum& throughput, const Departure& from, int scatterings, LightSink& sink) {
  const Emitter& e = scene.emitters[index];
  float luminance = seen_luminance(e, ray.direction);
  if (!(luminance > 0)) {
    return;
  }
  if (scatterings > 0) {
    luminance *= falloff_at(e, from.p);
  }
  if (!from.certain) {
    const float chance = from.total_expected > 0 ? expected_illuminance(e, from.p, from.n) / from.total_expected : 0;
    luminance *= power_heuristic(from.pdf, chance * light_pdf(e, from.p, ray.direction));
  }
  contribute(e, throughput, luminance, scatterings, sink);
}

// Runs a ray query, timed where that is asked for.
template <bool kTimed, class Query>
auto timed(RayCounts& counts, const Query& query) {
  if constexpr (!kTimed) {
    return query();
  } else {
    const auto start = std::chrono::steady_clock::now();
    const auto result = query();
    counts.query_ns += static_cast<std::uint64_t>((std::chrono::steady_clock::now() - start).count());
    return result;
  }
}

}  // namespace

template <bool kTimed>
void trace_path(const Scene& scene, Ray ray, const Sampler& sampler, int bounces, LightSink& sink, FirstHit* first, RayCounts& counts) {
  Spectrum throughput = Spectrum::Ones();
  Departure from;
  ++counts.camera;
  for (int scatterings = 0;; ++scatterings) {
    const Hit hit = timed<kTimed>(counts, [&] { return scene.world.closest(ray); });
    if (!hit.found()) {
      for (const std::uint32_t index : scene.distant) {
        if (covers(scene.emitters[index], ray.direction)) {
          meet_light(scene, index, ray, throughput, from, scatterings, sink);
        }
      }
      return;
    }
    const SurfacePoint p = scene.world.point(ray, hit);
    const Scene::Surface& surface = scene.surfaces[p.surface];
    if (surface.emitter != kNoIndex) {  // lights are black bodies to other light
      if (first != nullptr && scatterings == 0) {
        *first = {true, Spectrum::Zero(), p.normal, hit.t, p.surface};
      }
      meet_light(scene, surface.emitter, ray, throughput, from, scatterings, sink);
      return;
    }
    const SurfaceModel& material = scene.materials[surface.material];
    const Vec3 wo = -ray.direction;
    const Vec3 normal = p.normal.dot(wo) >= 0 ? p.normal : Vec3(-p.normal);
    Vec3 shading = p.shading_normal.dot(normal) >= 0 ? p.shading_normal : Vec3(-p.shading_normal);
    if (shading.dot(wo) <= 0) {
      shading = normal;  // seen from behind its interpolated normal: the true one serves
    }
    if (first != nullptr && scatterings == 0) {
      *first = {true, albedo(material, std::max(0.0f, shading.dot(wo))), shading, hit.t, p.surface};
    }
    if (scatterings >= bounces) {
      return;
    }
    const Frame frame = Frame::around(shading);
    const Vec3 local_wo = frame.to_local(wo);
    const std::uint32_t pairs = kCameraPairs + kPairsPerVertex * static_cast<std::uint32_t>(scatterings);
    const Vec2 choices = sampler.pair(pairs + kChoices);

    from.p = p.position;
    from.n = normal;
    from.total_expected = 0;
    if (!material.only_mirror()) {
      const LightChoice choice = choose_light(scene.emitters, p.position, normal, choices.x());
      from.total_expected = choice.total;
      if (choice.index != kNoIndex) {
        const Emitter& e = scene.emitters[choice.index];
        const LightSample light = sample_toward(e, p.position, sampler.pair(pairs + kLight));
        const Vec3 local_wi = frame.to_local(light.wi);
        if (light.weight > 0 && local_wi.z() > 0 && light.wi.dot(normal) > 0) {
          const Spectrum f = reflection(material, local_wo, local_wi);
          float weight = light.weight * local_wi.z() / choice.chance;
          if (light.pdf > 0) {
            weight *= power_heuristic(choice.chance * light.pdf, reflection_pdf(material, local_wo, local_wi));
          }
          if (weight > 0 && (f > 0.0f).any()) {
            ++counts.shadow;
            Ray shadow{World::leave(p, light.wi), light.wi};
            std::uint32_t body = kNoIndex;
            if (!e.is_distant()) {
              // Short of the light by the rounding of its distance: what it is mounted on does not hide it.
              shadow.t_max = light.distance * (1 - 1e-5f) - p.offset;
              body = scene.emitter_surface[choice.index];
            }
            if (!(shadow.t_max > 0) || !timed<kTimed>(counts, [&] { return scene.world.blocked(shadow, body); })) {
              contribute(e, throughput * f, weight, scatterings + 1, sink);
            }
          }
        }
      }
    }

    const Scattering next = scatter(material, local_wo, sampler.pair(pairs + kScatter), choices.y());
    if (!(next.pdf > 0)) {
      return;
    }
    const Vec3 wi = frame.to_world(next.wi);
    if (wi.dot(normal) <= 0) {
      return;  // into the surface: an interpolated normal's doing
    }
    throughput *= next.weight;
    from.pdf = next.pdf;
    from.certain = next.mirror;
    if (scatterings + 1 >= kRouletteFrom) {
      const float survival = std::min(0.95f, throughput.maxCoeff());
      if (!(sampler.single(pairs + kRoulette) < survival)) {
        return;
      }
      throughput /= survival;
    }
    ++counts.path;
    ray = {World::leave(p, wi), wi.normalized()};
  }
}

template void trace_path<false>(const Scene&, Ray, const Sampler&, int, LightSink&, FirstHit*, RayCounts&);
template void trace_path<true>(const Scene&, Ray, const Sampler&, int, LightSink&, FirstHit*, RayCounts&);

}  // namespace jovilux
