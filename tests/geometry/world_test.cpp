#include "jovilux/geometry/world.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/geometry/enclosure.h"

#include <Eigen/Dense>

#include "tests/support/targets.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Vec3 random_point_for_world(Rng& rng, double size) {
  return {static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size))};
}

Mesh triangle_soup(int count, double edge, std::uint64_t seed) {
  Rng rng(seed);
  Mesh mesh;
  for (int i = 0; i < count; ++i) {
    const Vec3 p = random_point_for_world(rng, 1);
    const auto base = static_cast<std::uint32_t>(mesh.positions.size());
    for (int k = 0; k < 3; ++k) {
      mesh.positions.push_back(p + random_point_for_world(rng, edge));
    }
    mesh.triangles.push_back({base, base + 1, base + 2});
  }
  return mesh;
}

// Nearest hit in double precision, one triangle after the other (Moller and Trumbore, 1997).
double nearest_of_all(const Mesh& mesh, const Ray& ray) {
  double best = HUGE_VAL;
  const Vec3d o = ray.origin.cast<double>(), d = ray.direction.cast<double>();
  for (const auto& t : mesh.triangles) {
    const Vec3d a = mesh.positions[t[0]].cast<double>(),
                e1 = mesh.positions[t[1]].cast<double>() - a,
                e2 = mesh.positions[t[2]].cast<double>() - a;
    const Vec3d p = d.cross(e2);
    const double det = e1.dot(p);
    if (det == 0) {
      continue;
    }
    const Vec3d s = o - a, q = s.cross(e1);
    const double u = s.dot(p) / det, v = d.dot(q) / det, at = e2.dot(q) / det;
    if (u >= 0 && v >= 0 && u + v <= 1 && at > 0 && at < best) {
      best = at;
    }
  }
  return best;
}

}  // namespace

TEST_CASE("the hierarchy finds the same nearest hit as testing every triangle", "[geometry][bvh]") {
  const Mesh mesh = triangle_soup(400, 0.15, 3);
  World world;
  world.add_mesh(mesh, 7);
  world.build();
  std::string seen;
  on_each_target([&](const std::string& name) {
    seen += name + " ";
    Rng rng(99);
    int hits = 0, differ = 0;
    for (int i = 0; i < 10'000; ++i) {
      Ray ray{random_point_for_world(rng, 1.5), random_point_for_world(rng, 1).normalized()};
      const Hit hit = world.closest(ray);
      const double exact = nearest_of_all(mesh, ray);
      if (hit.found() != (exact < HUGE_VAL) ||
          (hit.found() && std::abs(hit.t - exact) > 1e-5 * (1 + exact))) {
        ++differ;  // an edge met exactly: single and double precision may differ there
      }
      hits += hit.found() ? 1 : 0;
      ray.t_max = 0.7f;
      CHECK(world.blocked(ray) == world.closest(ray).found());
    }
    INFO(name);
    CHECK(hits > 1000);
    CHECK(differ <= 2);
  });
  INFO(seen);
  CHECK(seen.find(' ') != std::string::npos);
}

TEST_CASE("all instruction sets give the same bits", "[geometry][bvh]") {
  World world;
  world.add_mesh(triangle_soup(300, 0.2, 8), 0);
  world.build();
  std::vector<double> sums;
  on_each_target([&](const std::string&) {
    Rng rng(4);
    double sum = 0;
    for (int i = 0; i < 2000; ++i) {
      const Hit hit = world.closest(
          {random_point_for_world(rng, 1.5), random_point_for_world(rng, 1).normalized()});
      sum += hit.found() ? hit.t + hit.u * 3 + hit.v * 7 + static_cast<double>(hit.triangle) : 0;
    }
    sums.push_back(sum);
  });
  for (const double s : sums) {
    CHECK(s == sums[0]);
  }
}

TEST_CASE("no ray slips between triangles that share an edge", "[geometry][bvh]") {
  // A closed ball of triangles seen from its middle: all rays must hit, those through corners and
  // edges too.
  Mesh mesh;
  constexpr int kRows = 24, kCols = 48;
  for (int i = 0; i <= kRows; ++i) {
    for (int j = 0; j < kCols; ++j) {
      const double theta = kPiD * i / kRows, phi = 2 * kPiD * j / kCols;
      mesh.positions.emplace_back(static_cast<float>(std::sin(theta) * std::cos(phi)),
                                  static_cast<float>(std::sin(theta) * std::sin(phi)),
                                  static_cast<float>(std::cos(theta)));
    }
  }
  for (std::uint32_t i = 0; i < kRows; ++i) {
    for (std::uint32_t j = 0; j < kCols; ++j) {
      const std::uint32_t a = i * kCols + j, b = i * kCols + (j + 1) % kCols;
      mesh.triangles.push_back({a, a + kCols, b + kCols});
      mesh.triangles.push_back({a, b + kCols, b});
    }
  }
  World world;
  world.add_mesh(mesh, 0);
  world.build();
  Rng rng(2);
  int missed = 0;
  const Vec3 middle(0.01f, 0.02f, -0.015f);
  for (int i = 0; i < 20'000; ++i) {
    const auto& t = mesh.triangles[rng.next() % mesh.triangles.size()];
    const auto w = static_cast<float>(i % 3 == 0 ? 0.0 : rng.uniform());
    const Vec3 target = (1 - w) * mesh.positions[t[0]] + w * mesh.positions[t[1]];
    missed += world.closest({middle, (target - middle).normalized()}).found() ? 0 : 1;
  }
  CHECK(missed == 0);
}

TEST_CASE("a hierarchy is the same for any number of threads", "[geometry][bvh]") {
  const Mesh mesh = triangle_soup(200'000, 0.01, 5);
  std::vector<double> sums;
  for (const int threads : {1, 2, 3}) {
    with_threads(threads, [&] {
      World world;
      world.add_mesh(mesh, 0);
      world.build();
      Rng rng(6);
      double sum = static_cast<double>(world.memory_bytes());
      for (int i = 0; i < 1000; ++i) {
        const Hit hit = world.closest(
            {random_point_for_world(rng, 1.5), random_point_for_world(rng, 1).normalized()});
        sum += hit.found() ? hit.t + static_cast<double>(hit.triangle) : 0;
      }
      sums.push_back(sum);
    });
  }
  CHECK(sums[0] == sums[1]);
  CHECK(sums[0] == sums[2]);
}

TEST_CASE("hierarchies survive equal boxes, single items and nothing", "[geometry][bvh]") {
  World empty;
  empty.build();
  CHECK_FALSE(empty.closest({Vec3::Zero(), Vec3::UnitX()}).found());
  CHECK_FALSE(empty.blocked({Vec3::Zero(), Vec3::UnitX()}));

  Mesh same;
  same.positions = {{1, -1, -1}, {1, 1, -1}, {1, 0, 2}};
  for (int i = 0; i < 1000; ++i) {
    same.triangles.push_back({0, 1, 2});
  }
  World stack;
  stack.add_mesh(same, 0);
  stack.build();
  CHECK(stack.closest({Vec3::Zero(), Vec3::UnitX()}).t == 1);

  // Each around the one before, far apart in size: an unbalanced tree.
  std::vector<BoxedItem> nested(500);
  for (std::size_t i = 0; i < nested.size(); ++i) {
    const float r = std::pow(1.1f, static_cast<float>(i) * 0.5f);
    nested[i] = {{0, 0, 0}, static_cast<std::uint32_t>(i), {r, r, r}, 0};
  }
  CHECK(build_bvh(nested, {.leaf_size = 1}).depth <= kMaxBvhDepth);
}

TEST_CASE("placed shapes are met where their transforms put them", "[geometry][world]") {
  World world;
  world.add_shape(
      {ShapeKind::kBox, 0.5, 0.5, 0.5}, placement({3, 0, 0}, {0, 0, kPiD / 4}, {1, 1, 2}), 5);
  world.add_shape({ShapeKind::kPlane}, placement({0, 0, -1}, {0, 0, 0}, {1, 1, 1}), 6);
  world.build();
  const Ray along{Vec3::Zero(), Vec3::UnitX()};
  const Hit hit = world.closest(along);
  CHECK(hit.t == Approx(3 - std::sqrt(0.5)).epsilon(1e-6));
  const SurfacePoint p = world.point({{0, 0.1f, 0.9f}, Vec3::UnitX()},
                                     world.closest({{0, 0.1f, 0.9f}, Vec3::UnitX()}));
  CHECK(p.surface == 5);
  CHECK(std::abs(p.normal.norm() - 1) < 1e-6);
  CHECK(world.closest({{3, 0, 2}, -Vec3::UnitZ()}).t == Approx(1));  // scaled to twice its height
  CHECK(world.point({{9, 9, 5}, -Vec3::UnitZ()}, world.closest({{9, 9, 5}, -Vec3::UnitZ()}))
            .surface == 6);
  CHECK(world.blocked(along));
  CHECK_FALSE(world.blocked(along, 5));
  CHECK_FALSE(world.blocked({Vec3::Zero(), Vec3::UnitX(), 2.0f}));
}

TEST_CASE("a ray that leaves a surface does not meet it again", "[geometry][world]") {
  Rng rng(12);
  const double scale = GENERATE(0.01, 1.0, 1000.0);
  World world;
  world.add_shape(
      {ShapeKind::kSphere, 0.3 * scale}, placement({scale, 0, 0}, {0, 0, 0}, {1, 1, 1}), 0);
  world.add_shape({ShapeKind::kTorus, 0.4 * scale, 0.1 * scale},
                  placement({-scale, 0, 0}, {0.3, 0.2, 0}, {1, 1, 1}),
                  1);
  Mesh sheet;
  sheet.positions = {Vec3(-2, -2, -1) * scale, Vec3(2, -2, -1) * scale, Vec3(0, 3, -1.2f) * scale};
  sheet.triangles = {{0, 1, 2}};
  world.add_mesh(sheet, 2);
  world.build();
  int left = 0;
  for (int i = 0; i < 5000; ++i) {
    const Ray ray{random_point_for_world(rng, 2 * scale),
                  random_point_for_world(rng, 1).normalized()};
    const Hit hit = world.closest(ray);
    if (!hit.found()) {
      continue;
    }
    const SurfacePoint p = world.point(ray, hit);
    const Vec3 n = p.normal.dot(ray.direction) < 0 ? p.normal : Vec3(-p.normal);
    const Vec3 away = (n + random_point_for_world(rng, 0.99 / std::sqrt(3.0))).normalized();
    const Hit again = world.closest({World::leave(p, away), away});
    ++left;
    CHECK((!again.found() || again.t > 1e-3 * scale));
  }
  CHECK(left > 100);
}

TEST_CASE("points on a volume's faces count as inside, a millimeter off they do not",
          "[geometry]") {
  // A cube from (-1, -1, 0) to (1, 1, 2): as a shape, as a mesh.
  Mesh cube;
  for (const float z : {0.0f, 2.0f}) {
    for (const auto& [x, y] :
         {std::pair(-1.0f, -1.0f), {1.0f, -1.0f}, {1.0f, 1.0f}, {-1.0f, 1.0f}}) {
      cube.positions.push_back({x, y, z});
    }
  }
  cube.triangles = {{0, 2, 1},
                    {0, 3, 2},
                    {4, 5, 6},
                    {4, 6, 7},
                    {0, 1, 5},
                    {0, 5, 4},
                    {1, 2, 6},
                    {1, 6, 5},
                    {2, 3, 7},
                    {2, 7, 6},
                    {3, 0, 4},
                    {3, 4, 7}};
  auto world = std::make_shared<World>();
  world->add_mesh(cube, 0);
  world->build();
  Transform up;
  up.offset = Vec3d(0, 0, 1);
  const Enclosure volumes[] = {Enclosure(Shape{ShapeKind::kBox, 1, 1, 1}, up),
                               Enclosure(std::shared_ptr<const World>(world))};
  Rng rng(5);
  for (const Enclosure& volume : volumes) {
    for (int i = 0; i < 200; ++i) {
      const double x = rng.uniform(-0.99, 0.99), y = rng.uniform(-0.99, 0.99);
      for (const double rounding : {-3e-7, 0.0, 3e-7}) {
        CHECK(volume.contains_or_touches({x, y, rounding}));
        CHECK(volume.contains_or_touches({x, y, 2 + rounding}));
        CHECK(volume.contains_or_touches({1 + rounding, y, 1 + x}));
      }
      CHECK_FALSE(volume.contains_or_touches({x, y, -0.001}));
      CHECK_FALSE(volume.contains_or_touches({x, y, 2.001}));
      CHECK_FALSE(volume.contains_or_touches({1.001, y, 1 + x}));
      CHECK(volume.contains_or_touches({x, y, 1}));
    }
  }
}

TEST_CASE("an opaque surface is told behind passable ones: shapes, meshes and copies",
          "[geometry][world]") {
  // Every second of the shapes is passable; of meshes and copies none, or every second as well.
  constexpr std::uint32_t kItems = 24;
  const auto copied = std::make_shared<TriangleSet>();
  copied->add(triangle_soup(40, 0.1, 5), 0);
  copied->build();
  const auto filled = [&](bool passable_meshes, bool only_opaque) {
    std::vector<bool> passable(kItems);
    World world;
    Rng rng(21);
    for (std::uint32_t i = 0; i < kItems; ++i) {
      const bool is_shape = i % 4 < 2;
      passable[i] = i % 2 == 1 && (is_shape || passable_meshes);
      const Vec3d at = 0.8 * random_point_for_world(rng, 1).cast<double>();
      if (only_opaque && passable[i]) {
        continue;
      }
      const Transform place = placement(at, {0, 0, 0}, {1, 1, 1});
      if (is_shape) {
        world.add_shape({ShapeKind::kSphere, 0.2}, place, i);
      } else if (i % 8 < 4) {
        world.add_mesh(triangle_soup(20, 0.2, i), i);
      } else {
        world.add_copy(copied, place, {i});
      }
    }
    world.build();
    world.mark_passable(passable);
    return world;
  };
  for (const bool passable_meshes : {false, true}) {
    const World all = filled(passable_meshes, false), opaque = filled(passable_meshes, true);
    on_each_target([&](const std::string&) {
      Rng rng(8);
      std::array<int, 3> counts{};
      int wrong = 0;
      for (int i = 0; i < 3000; ++i) {
        const Ray ray{random_point_for_world(rng, 1.2),
                      random_point_for_world(rng, 1).normalized(),
                      static_cast<float>(rng.uniform(0.2, 2))};
        const Obstacle found = all.obstacle(ray), wanted = opaque.blocked(ray) ? Obstacle::kOpaque
                                                           : all.blocked(ray)  ? Obstacle::kPassable
                                                                               : Obstacle::kNone;
        ++counts[static_cast<std::size_t>(found)];
        // Meshes of which one is passable count as passable, all of them.
        const bool may_be_passable =
            passable_meshes && wanted == Obstacle::kOpaque && found == Obstacle::kPassable;
        wrong += found != wanted && !may_be_passable ? 1 : 0;
      }
      INFO(counts[0] << " free, " << counts[1] << " passable, " << counts[2] << " opaque");
      CHECK(*std::min_element(counts.begin(), counts.end()) > 100);
      CHECK(wrong == 0);
    });
  }
}

TEST_CASE("a light's own body is no obstacle", "[geometry][world]") {
  World world;
  world.add_shape({ShapeKind::kSphere, 0.2}, placement({2, 0, 0}, {0, 0, 0}, {1, 1, 1}), 3);
  world.add_shape({ShapeKind::kSphere, 0.2}, placement({4, 0, 0}, {0, 0, 0}, {1, 1, 1}), 4);
  world.build();
  world.mark_passable({false, false, false, false, true});
  const Ray along{Vec3::Zero(), Vec3::UnitX()};
  CHECK(world.obstacle(along) == Obstacle::kOpaque);
  CHECK(world.obstacle(along, 3) == Obstacle::kPassable);
  CHECK(world.obstacle({Vec3::Zero(), Vec3::UnitX(), 3.0f}, 3) == Obstacle::kNone);
}
