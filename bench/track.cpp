#include "bench/track.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/denoise/denoise.h"
#include "jovilux/files/json.h"
#include "jovilux/render/noisy_film.h"
#include "jovilux/render/renderer.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <numeric>
#include <optional>
#include <stdexcept>

#include "bench/bench_output.h"
#include "bench/connections_bench.h"
#include "bench/march_bench.h"
#include "bench/ray_bench.h"

namespace jovilux {
namespace {

// Square roots, and steps through 32 MB in no order: what rays are made of. Returns a value that
// depends on all of it.
double yardstick_work(const std::vector<std::uint32_t>& next) {
  double sum = 0;
  std::uint32_t at = 0;
  for (int i = 0; i < 3'000'000; ++i) {
    at = next[at];
    sum += std::sqrt(static_cast<double>(at) + sum * 1e-9);
  }
  return sum;
}

// [s]
double yardstick_seconds() {
  static const std::vector<std::uint32_t> kNext = [] {
    std::vector<std::uint32_t> order(8U << 20);
    std::iota(order.begin(), order.end(), 0U);
    Rng rng(1);
    for (std::size_t i = order.size() - 1; i > 0; --i) {  // one cycle through all (Sattolo)
      std::swap(order[i], order[static_cast<std::size_t>(rng.uniform() * static_cast<double>(i))]);
    }
    return order;
  }();
  return least_seconds(1, [] {
    volatile double kept = yardstick_work(kNext);
    static_cast<void>(kept);
  });
}

// How often `count` goes into the time of the yardstick: the largest of some runs, each with the
// yardstick before and after it, so that a slow minute of the machine slows both.
template <typename Work>
double per_yardstick(const TrackTask& task, double count, const Work& work) {
  double best = 0;
  for (int run = 0; run < task.runs; ++run) {
    const double before = yardstick_seconds();
    const double spent = least_seconds(1, work);
    best = std::max(best, count * 0.5 * (before + yardstick_seconds()) / spent);
  }
  return std::round(best);
}

// What rays of each kind through a mesh bring.
Json ray_rates(const TrackTask& task, const std::string& kind) {
  constexpr int kRays = 250'000;
  const World world = world_of(test_mesh(kind, task.triangles));
  const TestRays rays = test_rays(kind, world, kRays);
  const auto rate = [&](const std::vector<Ray>& of, bool any) {
    return per_yardstick(task, static_cast<double>(of.size()), [&] { query(world, of, any, 1); });
  };
  return {{kind + ", camera", rate(rays.camera, false)},
          {kind + ", bounce", rate(rays.bounce, false)},
          {kind + ", shadow", rate(rays.shadow, true)}};
}

Json march_rates(const TrackTask& task) {
  Json out = Json::object();
  for (const MarchSubject& subject : march_subjects()) {
    const double yardstick = yardstick_seconds();
    out[subject.name] = std::round(march_rate(subject.world, task.runs).rays_per_s * yardstick);
  }
  return out;
}

struct RigRates {
  double samples = 0, denoised_pixels = 0;
  std::optional<double> choices;  // where camera paths are connected
};

RigRates rig_rates(const TrackTask& task, const std::string& file) {
  RigRequest request;
  request.overrides = {"render.size=[96, 54]", "render.samples=16"};
  const auto rig = load_rig(file, request);
  const auto scene = rig ? prepare_scene(*rig) : Result<Scene>(rig.problems());
  if (!scene) {
    throw std::runtime_error(to_string(scene.problems()[0]));
  }
  RenderOptions options;
  options.threads = 1;
  const double pixels = static_cast<double>(rig->render.width) * rig->render.height;
  RigRates out;
  std::optional<Render> done;
  out.samples = per_yardstick(
      task, pixels * rig->render.samples, [&] { done = render(*rig, *scene, options); });
  out.denoised_pixels = per_yardstick(task, pixels, [&] { denoise(noisy_picture(done->film())); });
  const double yardstick = yardstick_seconds();
  if (const auto connections = connection_rates(*rig, *scene)) {
    out.choices = std::round(connections->choices_per_s * yardstick);
  }
  return out;
}

}  // namespace

int track_rates(const TrackTask& task) {
  Json samples = Json::object(), choices = Json::object(), denoised = Json::object(), rays, marched;
  with_threads(1, [&] {
    for (const std::string& file : task.rigs) {
      const std::string name = std::filesystem::path(file).stem().string();
      const RigRates rates = rig_rates(task, file);
      samples[name] = rates.samples;
      denoised[name] = rates.denoised_pixels;
      if (rates.choices) {
        choices[name] = *rates.choices;
      }
    }
    rays = ray_rates(task, "room");
    rays.update(ray_rates(task, "field"));
    marched = march_rates(task);
  });
  std::printf("%s\n",
              Json({{"kind", "rates"},
                    {"commit", task.commit},
                    {"rates",
                     {{"samples", samples},
                      {"choices of virtual lights", choices},
                      {"pixels denoised", denoised},
                      {"rays through meshes", rays},
                      {"rays toward marched solids", marched}}}})
                  .dump()
                  .c_str());
  return 0;
}

}  // namespace jovilux
