#include "bench/march_bench.h"

#include "jovilux/base/sampler.h"
#include "jovilux/files/json.h"

#include <algorithm>
#include <cstdio>

#include "bench/bench_output.h"

namespace jovilux {
namespace {

SolidNode solid_node(SolidKind kind, double a, double b = 1, double c = 1, double d = 0) {
  SolidNode n;
  n.kind = kind;
  n.a = a;
  n.b = b;
  n.c = c;
  n.d = d;
  return n;
}

World world_of_solid(const std::vector<SolidNode>& nodes) {
  World world;
  world.add_solid(std::make_shared<Solid>(std::get<Solid>(
                      Solid::compile(nodes, static_cast<std::uint32_t>(nodes.size() - 1)))),
                  {},
                  0,
                  {});
  world.build();
  return world;
}

World world_of_analytic_sphere() {
  World world;
  world.add_shape({ShapeKind::kSphere, 0.5}, {}, 0);
  world.build();
  return world;
}

// Two unions and a subtraction, with round seams.
std::vector<SolidNode> blended_pot() {
  SolidNode pot = solid_node(SolidKind::kUnion, 1), hollowed = solid_node(SolidKind::kSubtract, 1),
            foot = solid_node(SolidKind::kCylinder, 0.3, 1, 0.1),
            rim = solid_node(SolidKind::kTorus, 0.42, 0.05),
            hollow = solid_node(SolidKind::kCapsule, 0.35, 1, 0.6);
  foot.place.offset = Vec3d(0, 0, -0.35);
  rim.place.offset = Vec3d(0, 0, 0.35);
  hollow.place.offset = Vec3d(0, 0, 0.5);
  pot.of = {0, 1, 2};
  pot.blend = 0.15;
  hollowed.of = {3, 4};
  hollowed.blend = 0.03;
  return {solid_node(SolidKind::kSphere, 0.42), foot, rim, pot, hollow, hollowed};
}

}  // namespace

std::vector<MarchSubject> march_subjects() {
  const SolidNode sponge = solid_node(SolidKind::kFractal, 0.5);
  SolidNode julia = sponge;
  julia.fractal = FractalKind::kJulia;
  julia.iterations = 9;
  std::vector<MarchSubject> out;
  out.push_back({"analytic sphere", world_of_analytic_sphere()});
  out.push_back({"marched sphere", world_of_solid({solid_node(SolidKind::kSphere, 0.5)})});
  out.push_back({"blended pot", world_of_solid(blended_pot())});
  out.push_back({"menger 4", world_of_solid({sponge})});
  out.push_back({"julia 9", world_of_solid({julia})});
  return out;
}

MarchRate march_rate(const World& world, int runs) {
  constexpr int kRays = 200'000;
  std::vector<Ray> rays;
  Rng rng(1);
  const auto around = [&](double reach) {
    return Vec3(static_cast<float>(rng.uniform(-reach, reach)),
                static_cast<float>(rng.uniform(-reach, reach)),
                static_cast<float>(rng.uniform(-reach, reach)));
  };
  for (int i = 0; i < kRays; ++i) {
    const Vec3 o = 3 * around(1).normalized();
    rays.push_back({o, (around(0.6) - o).normalized()});
  }
  MarchRate out;
  MarchCounts spent;
  const double best = least_seconds(runs, [&] {
    const MarchCounts before = march_counts();
    out.hits = 0;
    for (const Ray& ray : rays) {
      out.hits += world.closest(ray).found() ? 1 : 0;
    }
    spent = march_counts() - before;
  });
  out.rays_per_s = kRays / best;
  out.steps_per_march =
      spent.marches > 0 ? static_cast<double>(spent.steps) / static_cast<double>(spent.marches) : 0;
  out.out_of_steps = spent.exhausted;
  return out;
}

int bench_solids() {
  Json all = Json::array();
  std::vector<std::vector<std::string>> rows = {{"solid", "million rays/s", "steps/march"}};
  std::vector<double> rates;
  for (const MarchSubject& subject : march_subjects()) {
    const MarchRate rate = march_rate(subject.world);
    rates.push_back(rate.rays_per_s);
    all.push_back({{"name", subject.name},
                   {"hits", rate.hits},
                   {"mrays_per_s", rate.rays_per_s / 1e6},
                   {"steps_per_march", rate.steps_per_march},
                   {"out_of_steps", rate.out_of_steps}});
    rows.push_back(
        {subject.name, three_digits(rate.rays_per_s / 1e6), three_digits(rate.steps_per_march)});
  }
  // The analytic sphere stands first, the marched one second.
  std::printf(
      "%s\n",
      Json({{"solids", all}, {"marched_over_analytic", rates[0] / rates[1]}}).dump().c_str());
  print_table(rows);
  return 0;
}

}  // namespace jovilux
