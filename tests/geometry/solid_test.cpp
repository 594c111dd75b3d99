#include "jovilux/geometry/solid.h"

#include "jovilux/base/sampler.h"
#include "jovilux/geometry/enclosure.h"
#include "jovilux/geometry/world.h"

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

SolidNode node(SolidKind kind, double a = 1, double b = 1, double c = 1, double d = 0) {
  SolidNode n;
  n.kind = kind;
  n.a = a;
  n.b = b;
  n.c = c;
  n.d = d;
  return n;
}
SolidNode moved(SolidNode n, const Vec3d& at, const Vec3d& turn = Vec3d::Zero()) {
  n.place = placement(at, turn, Vec3d::Ones());
  return n;
}
SolidNode joined(SolidKind kind, std::vector<std::uint32_t> of, double blend = 0) {
  SolidNode n = node(kind);
  n.of = std::move(of);
  n.blend = blend;
  return n;
}
Solid compiled(const std::vector<SolidNode>& nodes) {
  auto made = Solid::compile(nodes, static_cast<std::uint32_t>(nodes.size() - 1));
  REQUIRE(std::holds_alternative<Solid>(made));
  return std::get<Solid>(made);
}

Vec3d random_direction_for_solid(Rng& rng) {
  const double z = rng.uniform(-1, 1), phi = rng.uniform(0, 2 * kPiD), r = std::sqrt(1 - z * z);
  return {r * std::cos(phi), r * std::sin(phi), z};
}
Vec3d random_point_for_solid(Rng& rng, double reach) {
  return {rng.uniform(-reach, reach), rng.uniform(-reach, reach), rng.uniform(-reach, reach)};
}

const MarchSettings kFine{1e-4, 4096};

std::vector<std::pair<std::string, std::vector<SolidNode>>> composites() {
  SolidNode repeat = joined(SolidKind::kRepeat, {0});
  repeat.spacing = Vec3d(0.4, 0.5, 0);
  repeat.count = {3, 2, 0};
  SolidNode twist = joined(SolidKind::kTwist, {0});
  twist.d = 4;
  SolidNode shell = joined(SolidKind::kShell, {1});
  shell.d = 0.05;
  SolidNode menger = node(SolidKind::kFractal, 0.5);
  menger.iterations = 2;
  SolidNode sierpinski = menger;
  sierpinski.fractal = FractalKind::kSierpinski;
  sierpinski.iterations = 3;
  SolidNode wave = node(SolidKind::kFormula, 0.5, 0.5, 0.3);
  wave.formula =
      std::get<Formula>(Formula::parse("z-0.05*sin(15*x)*cos(12*y)", {"x", "y", "z", "t"}));
  wave.slope = 1.3;
  const SolidNode ball = node(SolidKind::kSphere, 0.4),
                  small = moved(node(SolidKind::kSphere, 0.25), {0.35, 0.1, 0.2}),
                  brick = node(SolidKind::kBox, 0.15, 0.2, 0.4);
  const SolidNode slanted = moved(brick, {0.1, 0.05, 0.2}, {0.4, 0.9, -0.3});
  return {
      {"union", {ball, small, slanted, joined(SolidKind::kUnion, {0, 1, 2})}},
      {"blended union", {ball, small, slanted, joined(SolidKind::kUnion, {0, 1, 2}, 0.1)}},
      {"subtract", {ball, small, slanted, joined(SolidKind::kSubtract, {0, 1, 2})}},
      {"blended subtract", {ball, small, joined(SolidKind::kSubtract, {0, 1}, 0.08)}},
      {"intersect", {ball, small, joined(SolidKind::kIntersect, {0, 1})}},
      {"blended intersect", {ball, slanted, joined(SolidKind::kIntersect, {0, 1}, 0.08)}},
      {"repeat", {brick, repeat}},
      {"twist", {brick, twist}},
      {"shell of a subtraction", {brick, ball, shell, small, joined(SolidKind::kSubtract, {2, 3})}},
      {"menger", {menger}},
      {"sierpinski", {sierpinski}},
      {"formula", {wave}},
      {"box-edges", {node(SolidKind::kFrame, 0.3, 0.4, 0.5, 0.06)}},
      {"capsule", {node(SolidKind::kCapsule, 0.2, 0, 0.5)}},
      {"round box", {node(SolidKind::kRoundBox, 0.3, 0.4, 0.2, 0.1)}}};
}

}  // namespace

TEST_CASE("marched solids and analytic shapes are met at the same places, with the same normals",
          "[geometry][solid]") {
  const auto [kind, like] =
      GENERATE(table<SolidKind, Shape>({{SolidKind::kSphere, {ShapeKind::kSphere, 0.7}},
                                        {SolidKind::kBox, {ShapeKind::kBox, 0.3, 0.5, 0.2}},
                                        {SolidKind::kTorus, {ShapeKind::kTorus, 0.6, 0.2}},
                                        {SolidKind::kCylinder, {ShapeKind::kCylinder, 0.4, 0, 0.5}},
                                        {SolidKind::kCone, {ShapeKind::kCone, 0.5, 0.2, 0.4}},
                                        {SolidKind::kCone, {ShapeKind::kCone, 0.5, 0, 0.4}}}));
  const Solid solid = compiled({node(kind, like.a, like.b, like.c)});
  INFO(to_string(kind));
  CHECK(solid.bounded());
  Rng rng(5);
  int met = 0, grazed = 0, near_edges = 0;
  for (int i = 0; i < 20000; ++i) {
    // From outside, and from within.
    const Vec3d o = random_point_for_solid(rng, i % 2 == 0 ? 2 : 0.3),
                d = (random_point_for_solid(rng, 0.5) - o).normalized();
    const double exact = intersect(like, o, d, 0, HUGE_VAL),
                 t = solid.intersect(o, d, 0, HUGE_VAL, kFine);
    if ((exact < 0) != (t < 0)) {
      ++grazed;  // one of them saw the ray touch
      continue;
    }
    if (exact < 0) {
      continue;
    }
    if (std::abs(t - exact) > 1e-7) {
      ++grazed;  // a sliver thinner than the tolerance passed over
      continue;
    }
    ++met;
    const Vec3d p = o + t * d, n = solid.normal(p, 0.25e-4);
    near_edges += (n - normal_at(like, p)).norm() < 1e-3 ? 0 : 1;
  }
  CHECK(met > 5000);
  CHECK(grazed < met / 1000);
  CHECK(near_edges < met / 300);
}

TEST_CASE("a hollow ball is met without marching where a ball less a smaller one is",
          "[geometry][solid]") {
  SolidNode shell = joined(SolidKind::kShell, {0});
  shell.d = 0.06;
  const Solid hollow = compiled({node(SolidKind::kSphere, 0.4), shell}),
              like = compiled({node(SolidKind::kSphere, 0.4),
                               node(SolidKind::kSphere, 0.34),
                               joined(SolidKind::kSubtract, {0, 1})});
  Rng rng(11);
  int met = 0, grazed = 0;
  std::uint64_t marches = 0;
  for (int i = 0; i < 20000; ++i) {
    // From outside, from the cavity, and from within the wall.
    const double r = i % 3 == 0 ? 1.5 : i % 3 == 1 ? rng.uniform(0, 0.33) : rng.uniform(0.35, 0.39);
    const Vec3d o = r * random_direction_for_solid(rng),
                d = 3 * (random_point_for_solid(rng, 0.4) - o).normalized();
    const std::uint64_t before = march_counts().marches;
    const double t = hollow.intersect(o, d, 0, HUGE_VAL, kFine);
    marches += march_counts().marches - before;
    const double marched = like.intersect(o, d, 0, HUGE_VAL, kFine);
    if ((marched < 0) != (t < 0) || std::abs(t - marched) > 1e-7) {
      ++grazed;
      continue;
    }
    if (t < 0) {
      continue;
    }
    ++met;
    const Vec3d p = o + t * d;
    REQUIRE(std::abs(hollow.distance(p)) < 1e-12);
    CHECK((hollow.normal(p, 1e-5) - like.normal(p, 1e-5)).norm() < 1e-6);
    // From there on, to the next crossing and no farther than asked.
    const double next = hollow.intersect(o, d, t + 1e-9, HUGE_VAL, kFine);
    CHECK((next < 0 || next > t + 1e-9));
    CHECK(hollow.intersect(o, d, 0, t * (1 - 1e-9), kFine) < 0);
  }
  CHECK(marches == 0);
  CHECK(met > 12000);
  CHECK(grazed < met / 1000);
}

TEST_CASE("distances of composite solids are bounds, and the first crossing is found",
          "[geometry][solid]") {
  for (const auto& [name, nodes] : composites()) {
    INFO(name);
    const Solid solid = compiled(nodes);
    CHECK(solid.bounded());
    CHECK(solid.steepest(20000) < 1 + 1e-6);
    Rng rng(9);
    int met = 0, missed = 0, outside = 0;
    for (int i = 0; i < 600; ++i) {
      const Vec3d o = 2.0 * random_direction_for_solid(rng),
                  d = (random_point_for_solid(rng, 0.45) - o).normalized();
      const double t = solid.intersect(o, d, 0, 10, kFine);
      // Small even steps: ten times the tolerance, so that only thin slivers escape them.
      double first = -1;
      for (double s = 0.8; s < 3.4 && first < 0; s += 1e-3) {
        first = solid.distance(o + s * d) < 0 ? s : -1;
      }
      met += t > 0 ? 1 : 0;
      missed += first > 0 && (t < 0 || t > first + 1e-9) ? 1 : 0;
      if (t > 0) {
        const Vec3d p = o + t * d;
        CHECK(std::abs(solid.distance(p)) < 1e-8);
        outside += (p.array() < solid.lo().array() - 1e-9).any() ||
                           (p.array() > solid.hi().array() + 1e-9).any()
                       ? 1
                       : 0;
      }
    }
    CHECK(met > 60);
    CHECK(missed == 0);
    CHECK(outside == 0);
  }
}

TEST_CASE("children that a test of their box passes over change nothing", "[geometry][solid]") {
  // Many balls: the union's distance is the least of theirs, that of what is left of a block the
  // largest.
  Rng rng(3);
  std::vector<SolidNode> nodes;
  std::vector<std::pair<Vec3d, double>> balls;
  std::vector<std::uint32_t> of, less;
  for (std::uint32_t i = 0; i < 40; ++i) {
    balls.emplace_back(random_point_for_solid(rng, 1), rng.uniform(0.02, 0.2));
    nodes.push_back(moved(node(SolidKind::kSphere, balls.back().second), balls.back().first));
    of.push_back(i);
  }
  nodes.push_back(joined(SolidKind::kUnion, of));
  const Solid all = compiled(nodes);
  nodes.back() = node(SolidKind::kBox, 1, 1, 1);
  less.push_back(40);
  less.insert(less.end(), of.begin(), of.end());
  nodes.push_back(joined(SolidKind::kSubtract, less));
  const Solid rest = compiled(nodes);
  for (int i = 0; i < 5000; ++i) {
    const Vec3d p = random_point_for_solid(rng, 1.5);
    double nearest = HUGE_VAL;
    for (const auto& [at, r] : balls) {
      nearest = std::min(nearest, (p - at).norm() - r);
    }
    CHECK(all.distance(p) == Approx(nearest).margin(1e-12));
    const Vec3d q = p.cwiseAbs() - Vec3d::Ones();
    const double box = q.maxCoeff() <= 0 ? q.maxCoeff() : q.cwiseMax(0.0).norm();
    CHECK(rest.distance(p) == Approx(std::max(box, -nearest)).margin(1e-12));
  }
}

TEST_CASE("a repeat knows its neighbors, and copies too large for their cells are refused",
          "[geometry][solid]") {
  const SolidNode off = moved(node(SolidKind::kSphere, 0.1), {0.12, -0.05, 0});
  SolidNode repeat = joined(SolidKind::kRepeat, {0});
  repeat.spacing = Vec3d(0.5, 0.4, 0);
  repeat.count = {4, 3, 0};
  const Solid solid = compiled({off, repeat});
  Rng rng(4);
  for (int i = 0; i < 5000; ++i) {
    const Vec3d p = random_point_for_solid(rng, 1.5);
    double nearest = HUGE_VAL;
    for (int x = 0; x < 4; ++x) {
      for (int y = 0; y < 3; ++y) {
        nearest = std::min(
            nearest, (p - Vec3d(0.5 * (x - 1.5) + 0.12, 0.4 * (y - 1) - 0.05, 0)).norm() - 0.1);
      }
    }
    CHECK(solid.distance(p) == Approx(nearest).margin(1e-12));
  }
  repeat.spacing = Vec3d(0.4, 0, 0);
  const auto large = Solid::compile(std::vector<SolidNode>{off, repeat}, 1);
  REQUIRE(std::holds_alternative<std::string>(large));
  CHECK(std::get<std::string>(large).find("spacing = 0.44 m") != std::string::npos);
  repeat.spacing = Vec3d(0.44, 0, 0);
  CHECK(std::holds_alternative<Solid>(Solid::compile(std::vector<SolidNode>{off, repeat}, 1)));
}

TEST_CASE("a march that runs out of steps ends where it is and is counted", "[geometry][solid]") {
  // A floor with a ball far above it, so that what is just over the floor is not outside its box.
  const Solid plane = compiled({node(SolidKind::kPlane),
                                moved(node(SolidKind::kSphere, 0.1), {0, 0, 3}),
                                joined(SolidKind::kUnion, {0, 1})});
  CHECK_FALSE(plane.bounded());
  const MarchCounts before = march_counts();
  // Along the plane, 5 mm above it: never nearer, never past.
  const double t = plane.intersect({0, 0, 0.005}, {1, 0, 0}, 0, 100, {1e-4, 64});
  const MarchCounts spent = march_counts() - before;
  CHECK(t > 0);
  CHECK(spent.exhausted == 1);
  CHECK(spent.marches == 1);
  CHECK(spent.steps >= 64);
  CHECK(plane.intersect({0, 0, 0.005}, {1, 0, 0}, 0, 100, {1e-4, 100000}) < 0);
  CHECK(plane.intersect({0.5, 0, 1}, {0, 0, -1}, 0, 100, {1e-4, 64}) == Approx(1).margin(1e-9));
}

TEST_CASE("rays that leave a solid do not meet it again at once", "[geometry][solid]") {
  for (const auto& [name, nodes] : composites()) {
    INFO(name);
    const auto solid = std::make_shared<Solid>(compiled(nodes));
    World world;
    world.add_solid(solid, placement({5, -3, 2}, {0.3, 0.2, 0.1}, Vec3d::Constant(1.7)), 7, {});
    world.build();
    Rng rng(6);
    int left = 0, again = 0, astray = 0;
    for (int i = 0; i < 2000; ++i) {
      const Vec3 o = (Vec3d(5, -3, 2) + 3.0 * random_direction_for_solid(rng)).cast<float>(),
                 d = ((Vec3d(5, -3, 2) + random_point_for_solid(rng, 0.6)).cast<float>() - o)
                         .normalized();
      const Ray ray{o, d};
      const Hit hit = world.closest(ray);
      if (!hit.found()) {
        continue;
      }
      const SurfacePoint p = world.point(ray, hit);
      REQUIRE(p.surface == 7);
      CHECK(p.normal.norm() == Approx(1).margin(1e-5));
      const Vec3 up =
          (p.normal + 0.9f * random_direction_for_solid(rng).cast<float>()).normalized();
      const Ray next{World::leave(p, up), up};
      const Hit second = world.closest(next);
      ++left;
      again += second.found() && second.t < 1e-4f ? 1 : 0;
      // Outside it must be, on the side that it left to.
      const Transform back = placement({5, -3, 2}, {0.3, 0.2, 0.1}, Vec3d::Constant(1.7)).inverse();
      astray += solid->distance(back.point(next.origin.cast<double>())) < 0 ? 1 : 0;
    }
    CHECK(left > 100);
    CHECK(again <= left / 100);
    CHECK(astray <= left / 200);
  }
}

TEST_CASE("a volume knows what lies in it and where rays cross it", "[geometry][solid]") {
  const Transform place = placement({1, 2, 3}, {0.2, 0.5, 0.1}, Vec3d::Ones());
  const Shape ring{ShapeKind::kTorus, 0.6, 0.2};
  const Enclosure analytic(ring, place),
      marched(std::make_shared<Solid>(compiled({node(SolidKind::kTorus, 0.6, 0.2)})), place, kFine);
  // A cube of twelve triangles, which holds the torus.
  Mesh cube;
  for (int i = 0; i < 8; ++i) {
    cube.positions.emplace_back(i & 1 ? 1.0f : -1.0f, i & 2 ? 1.0f : -1.0f, i & 4 ? 1.0f : -1.0f);
  }
  cube.triangles = {{0, 2, 1},
                    {1, 2, 3},
                    {4, 5, 6},
                    {5, 7, 6},
                    {0, 1, 4},
                    {1, 5, 4},
                    {2, 6, 3},
                    {3, 6, 7},
                    {0, 4, 2},
                    {2, 4, 6},
                    {1, 3, 5},
                    {3, 7, 5}};
  transform_mesh(cube, place);
  const auto world = std::make_shared<World>();
  world->add_mesh(cube, 0);
  world->build();
  const Enclosure meshed(world), boxed(Shape{ShapeKind::kBox, 1, 1, 1}, place);
  Rng rng(8);
  int crossed = 0, differ = 0;
  for (int i = 0; i < 3000; ++i) {
    const Vec3d p = Vec3d(1, 2, 3) + random_point_for_solid(rng, 1.5);
    CHECK(analytic.contains(p) == marched.contains(p));
    CHECK(meshed.contains(p) == boxed.contains(p));
    const Ray ray{p.cast<float>(), random_direction_for_solid(rng).cast<float>()};
    std::vector<float> a, m, b, w;
    analytic.crossings(ray, kFar, a);
    marched.crossings(ray, kFar, m);
    boxed.crossings(ray, kFar, b);
    meshed.crossings(ray, kFar, w);
    crossed += a.empty() ? 0 : 1;
    differ += a.size() == m.size() && b.size() == w.size() ? 0 : 1;
    for (std::size_t k = 0; k < a.size() && a.size() == m.size(); ++k) {
      CHECK(m[k] == Approx(a[k]).margin(1e-5));
    }
    for (std::size_t k = 0; k < b.size() && b.size() == w.size(); ++k) {
      CHECK(w[k] == Approx(b[k]).margin(1e-4));
    }
  }
  CHECK(crossed > 200);
  CHECK(differ <= 2);
  // Boxes that hold them: of the cube the same, whatever it is made of; a plane has no end.
  CHECK(analytic.bounds().diagonal() == Approx(marched.bounds().diagonal()).epsilon(1e-4));
  CHECK((meshed.bounds().lo - boxed.bounds().lo).norm() < 1e-4f);
  CHECK((meshed.bounds().hi - boxed.bounds().hi).norm() < 1e-4f);
  CHECK((boxed.bounds().center() - Vec3(1, 2, 3)).norm() < 1e-4f);
  const Enclosure below(
      std::make_shared<Solid>(compiled({node(SolidKind::kPlane, 0)})), place, kFine);
  CHECK(below.bounds().diagonal() == kFar);
}
