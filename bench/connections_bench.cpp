#include "bench/connections_bench.h"

#include "jovilux/base/parallel.h"
#include "jovilux/files/json.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/guide_training.h"
#include "jovilux/transport/late_caustics.h"
#include "jovilux/transport/transport.h"
#include "jovilux/transport/virtual_lights.h"

#include <chrono>
#include <cstdio>
#include <filesystem>

#include "bench/bench_output.h"
#include "bench/loaded_rig.h"

namespace jovilux {
namespace {

using SteadyClock = std::chrono::steady_clock;

// First surfaces that the camera sees, spread over the picture, on the eye's side.
std::vector<ShadingPlace> seen_places(const Scene& scene, const Camera& camera, const Rig& rig) {
  constexpr int kAcross = 64, kDown = 36;
  std::vector<ShadingPlace> out;
  for (int i = 0; i < kAcross * kDown; ++i) {
    const auto x = static_cast<float>((i % kAcross + 0.5) * rig.render.width / kAcross),
               y = static_cast<float>((i / kAcross + 0.5) * rig.render.height / kDown);
    const Ray ray = camera.ray(x, y, Vec2(0.5f, 0.5f));
    if (const Hit hit = scene.world.closest(ray); hit.found()) {
      const SurfacePoint p = scene.world.point(ray, hit);
      const Vec3 normal = p.normal.dot(ray.direction) < 0 ? p.normal : Vec3(-p.normal);
      out.push_back({p.position + p.offset * normal, normal});
    }
  }
  return out;
}

struct Chosen {
  double count = 0, arrived = 0, seconds = 0;
};

// `per_place` at each place, as the first surface of a camera path has them; which of them arrive
// is asked in a second turn, so that rays do not count as choosing.
Chosen choose_from(const Scene& scene,
                   const VirtualLights& lights,
                   const VirtualLightSet& set,
                   const std::vector<ShadingPlace>& places,
                   std::uint32_t per_place) {
  Chosen out;
  RayCounts rays;
  for (const bool asks : {false, true}) {
    Rng rng(3);
    const auto uniform = [&] { return static_cast<float>(rng.uniform()); };
    const auto start = SteadyClock::now();
    for (const ShadingPlace& x : places) {
      const float* const row = lights.row_at(x.position, x.normal, false);
      if (row == nullptr) {
        continue;
      }
      const auto target = [&](const VirtualLightSketch& y) {
        const Vec3 to = y.position - x.position;
        return y.flux * std::max(0.0f, x.normal.dot(to)) / std::max(to.squaredNorm(), 1e-4f);
      };
      lights.choose_each(
          set,
          row,
          per_place,
          {uniform(), uniform()},
          uniform(),
          VirtualLights::one_by_one(target),
          [&](const VirtualLight& y, float) {
            const Vec3 way = y.position - x.position;
            const float distance = way.norm();
            const Ray ray{x.position, way / distance, distance * (1 - 1e-4f)};
            out.count += asks ? 0 : 1;
            out.arrived +=
                asks && (passage(scene, ShadowRule{}, ray, kNoIndex, rays) > 0.0f).any() ? 1 : 0;
          });
    }
    out.seconds += asks ? 0 : seconds_since(start);
  }
  return out;
}

}  // namespace

std::optional<ConnectionRates> connection_rates(const Rig& rig, const Scene& scene) {
  constexpr int kSets = 16;
  constexpr std::uint32_t kPerPlace = 6;
  const Camera camera(rig.cameras[0], rig.up, rig.render.width, rig.render.height);
  TrainingPlan plan;
  plan.width = rig.render.width;
  plan.height = rig.render.height;
  plan.samples = static_cast<double>(plan.width) * plan.height * rig.render.samples;
  plan.connects = true;
  PathOptions options;
  options.bounces = rig.render.bounces;
  options.haze_bounces = rig.render.haze_bounces;
  RayCounts rays;
  const auto guide = learn_guide(scene, camera, options, plan, rays);
  if (guide == nullptr || guide->virtual_lights == nullptr) {
    return std::nullopt;
  }
  const VirtualLights& lights = *guide->virtual_lights;
  const std::vector<ShadingPlace> places = seen_places(scene, camera, rig);
  ConnectionRates out;
  Chosen all;
  for (std::uint32_t s = 0; s < kSets; ++s) {
    const auto start = SteadyClock::now();
    const VirtualLightSet set = lights.trace(1, s, rays);
    out.set_s += seconds_since(start) / kSets;
    out.lights_of_set += static_cast<double>(set.lights.size()) / kSets;
    const Chosen chosen = choose_from(scene, lights, set, places, kPerPlace);
    all.count += chosen.count;
    all.arrived += chosen.arrived;
    all.seconds += chosen.seconds;
  }
  constexpr std::size_t kPhotons = 1 << 15;
  const auto start = SteadyClock::now();
  const GuideTree late = learn_late_caustics(scene, {kPhotons, options.bounces, 1}, places, rays);
  out.late_caustics_s = seconds_since(start);
  out.late_caustic_cells = late.cells();
  out.learning_s = guide->seconds;
  out.choices_per_s = all.count / all.seconds;
  out.arrived_share = all.arrived / all.count;
  out.cells = guide->surfaces.cells();
  out.bytes = lights.memory_bytes();
  return out;
}

int bench_connections(const std::string& file) {
  const auto loaded = loaded_or_told(file);
  if (!loaded) {
    return 2;
  }
  std::optional<ConnectionRates> rates;
  with_threads(1, [&] { rates = connection_rates(loaded->rig, loaded->scene); });
  if (!rates) {
    std::fprintf(stderr, "%s: its camera paths are not connected\n", file.c_str());
    return 2;
  }
  std::printf("%s\n",
              Json({{"rig", file},
                    {"learning_s", rates->learning_s},
                    {"cells", rates->cells},
                    {"bytes", rates->bytes},
                    {"late_caustics_s", rates->late_caustics_s},
                    {"late_caustic_cells", rates->late_caustic_cells},
                    {"set_s", rates->set_s},
                    {"lights_of_set", rates->lights_of_set},
                    {"choices_per_s", rates->choices_per_s},
                    {"arrived_share", rates->arrived_share}})
                  .dump()
                  .c_str());
  std::fprintf(stderr,
               "%s: learned in %.2f s, %.2f s for late caustics (%zu cells); a set of %.0f lights "
               "in %.2f ms; %.2f million choices/s, of "
               "which %.1f %% arrive\n",
               std::filesystem::path(file).stem().c_str(),
               rates->learning_s,
               rates->late_caustics_s,
               rates->late_caustic_cells,
               rates->lights_of_set,
               1e3 * rates->set_s,
               rates->choices_per_s / 1e6,
               100 * rates->arrived_share);
  return 0;
}

}  // namespace jovilux
