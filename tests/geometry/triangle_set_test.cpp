#include "jovilux/geometry/triangle_set.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/vec.h"
#include "jovilux/geometry/world.h"

#include <map>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Vec3 random_point(Rng& rng, double size) {
  return {static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size))};
}

// Many small triangles, and long thin ones that slant across them.
Mesh crumbs_and_needles(int crumbs, int needles) {
  Rng rng(5);
  Mesh mesh;
  for (int i = 0; i < crumbs + needles; ++i) {
    const auto base = static_cast<std::uint32_t>(mesh.positions.size());
    const bool crumb = i < crumbs;
    const Vec3 p = random_point(rng, 1),
               q = crumb ? Vec3(p + random_point(rng, 0.02)) : random_point(rng, 1);
    mesh.positions.insert(mesh.positions.end(), {p, q, p + random_point(rng, 0.02)});
    mesh.triangles.push_back({base, base + 1, base + 2});
  }
  return mesh;
}

}  // namespace

TEST_CASE("boxes of cut triangles hold all of their triangle and take less room",
          "[geometry][bvh]") {
  const Mesh mesh = crumbs_and_needles(3000, 40);
  const auto whole = triangle_boxes(mesh.positions, mesh.triangles, false),
             cut = triangle_boxes(mesh.positions, mesh.triangles, true);
  REQUIRE(whole.size() == mesh.triangles.size());
  CHECK(cut.size() > whole.size() + 200);
  CHECK(cut.size() <= whole.size() * 3 / 2);
  std::map<std::uint32_t, std::vector<BoxedItem>> of;
  double before = 0, after = 0;
  const auto half_area = [](const BoxedItem& b) {
    const double x = b.hi[0] - b.lo[0], y = b.hi[1] - b.lo[1], z = b.hi[2] - b.lo[2];
    return x * y + y * z + z * x;
  };
  for (const BoxedItem& b : whole) {
    before += half_area(b);
  }
  for (const BoxedItem& b : cut) {
    of[b.id].push_back(b);
    after += half_area(b);
  }
  CHECK(after < 0.3 * before);
  // Each place of a triangle lies in one of its boxes.
  Rng rng(8);
  int outside = 0;
  for (std::uint32_t t = 0; t < mesh.triangles.size(); ++t) {
    for (int i = 0; i < 30; ++i) {
      double u = rng.uniform(), v = rng.uniform();
      if (u + v > 1) {
        u = 1 - u;
        v = 1 - v;
      }
      const auto& c = mesh.triangles[t];
      const Vec3 p =
          ((1 - u - v) * mesh.positions[c[0]].cast<double>() +
           u * mesh.positions[c[1]].cast<double>() + v * mesh.positions[c[2]].cast<double>())
              .cast<float>();
      bool held = false;
      for (const BoxedItem& b : of[t]) {
        bool in = true;
        for (int a = 0; a < 3; ++a) {
          in = in && p[a] >= b.lo[a] && p[a] <= b.hi[a];
        }
        held = held || in;
      }
      outside += held ? 0 : 1;
    }
  }
  CHECK(outside == 0);
}

TEST_CASE("cutting boxes changes no hit", "[geometry][bvh]") {
  const Mesh mesh = crumbs_and_needles(3000, 40);
  World whole, cut;
  whole.add_mesh(mesh, 0);
  whole.build(false);
  cut.add_mesh(mesh, 0);
  cut.build();
  CHECK(whole.box_count() == mesh.triangles.size());
  CHECK(cut.box_count() > whole.box_count());
  Rng rng(3);
  int hits = 0;
  for (int i = 0; i < 20'000; ++i) {
    Ray ray{random_point(rng, 1.5), random_point(rng, 1).normalized()};
    const Hit a = whole.closest(ray), b = cut.closest(ray);
    CHECK(a.t == b.t);
    CHECK(a.triangle == b.triangle);
    ray.t_max = 1;
    CHECK(whole.blocked(ray) == cut.blocked(ray));
    hits += a.found() ? 1 : 0;
  }
  CHECK(hits > 400);
}

TEST_CASE("a mesh of triangles alike, or level with the axes, is not cut", "[geometry][bvh]") {
  Mesh hills, walls;
  constexpr int kSide = 60;
  for (int i = 0; i <= kSide; ++i) {
    for (int k = 0; k <= kSide; ++k) {
      hills.positions.emplace_back(
          0.1f * static_cast<float>(i),
          0.1f * static_cast<float>(k),
          std::sin(0.3f * static_cast<float>(i)) * std::cos(0.2f * static_cast<float>(k)));
      walls.positions.emplace_back(static_cast<float>(i * i), static_cast<float>(k * k), 0.0f);
    }
  }
  for (std::uint32_t i = 0; i < kSide; ++i) {
    for (std::uint32_t k = 0; k < kSide; ++k) {
      const std::uint32_t a = i * (kSide + 1) + k;
      hills.triangles.push_back({a, a + kSide + 1, a + kSide + 2});
      hills.triangles.push_back({a, a + kSide + 2, a + 1});
    }
  }
  walls.triangles = hills.triangles;
  CHECK(triangle_boxes(hills.positions, hills.triangles, true).size() == hills.triangles.size());
  CHECK(triangle_boxes(walls.positions, walls.triangles, true).size() == walls.triangles.size());
}

TEST_CASE("copies of a set of triangles are met like meshes moved there", "[geometry][bvh]") {
  Mesh mesh;  // a bumpy ball with normals of its own
  constexpr int kRows = 24, kCols = 48;
  for (int i = 0; i <= kRows; ++i) {
    for (int j = 0; j < kCols; ++j) {
      const double theta = kPiD * i / kRows, phi = 2 * kPiD * j / kCols,
                   r = 0.4 * (1 + 0.2 * std::sin(5 * theta) * std::cos(6 * phi));
      const Vec3 d(static_cast<float>(std::sin(theta) * std::cos(phi)),
                   static_cast<float>(std::sin(theta) * std::sin(phi)),
                   static_cast<float>(std::cos(theta)));
      mesh.positions.emplace_back(static_cast<float>(r) * d);
      mesh.normals.push_back(d);
    }
  }
  for (std::uint32_t i = 0; i < kRows; ++i) {
    for (std::uint32_t j = 0; j < kCols; ++j) {
      const std::uint32_t a = i * kCols + j, b = i * kCols + (j + 1) % kCols;
      mesh.triangles.push_back({a, a + kCols, b + kCols});
      mesh.triangles.push_back({a, b + kCols, b});
    }
  }
  auto set = std::make_shared<TriangleSet>();
  set->add(mesh, 0);
  // The same once more, which loses against the first or wins: both are told apart by their
  // surfaces.
  set->add(mesh, 1);
  set->build();
  const std::vector<Transform> places = {
      placement(Vec3d(1, 0, 0), Vec3d(0.3, 0.2, 0.1), Vec3d(1, 1, 1)),
      placement(Vec3d(-1, 0.5, 0), Vec3d(0, 1, 0), Vec3d(2, 0.5, 1)),
      placement(Vec3d(0, -1, 1), Vec3d(0, 0, 2), Vec3d(-1, 1, 1))};
  World copies, moved;
  for (std::uint32_t i = 0; i < places.size(); ++i) {
    copies.add_copy(set, places[i], {10 + i, 10 + i});
    Mesh m = mesh;
    transform_mesh(m, places[i]);
    moved.add_mesh(m, 10 + i);
  }
  // Something else before and behind them.
  for (World* w : {&copies, &moved}) {
    w->add_shape({ShapeKind::kSphere, 0.3},
                 placement(Vec3d(0.2, 0.2, 0.2), Vec3d::Zero(), Vec3d(1, 1, 1)),
                 5);
    w->build();
  }
  CHECK(copies.memory_bytes() < moved.memory_bytes());
  CHECK(copies.bounds().lo.isApprox(moved.bounds().lo, 0.5f));
  const auto boxes = copies.surface_bounds(13);
  CHECK(boxes[11].hi.x() > boxes[11].lo.x());
  Rng rng(12);
  int hits = 0, differ = 0;
  for (int i = 0; i < 20'000; ++i) {
    Ray ray{random_point(rng, 2.5), random_point(rng, 1).normalized()};
    const Hit a = copies.closest(ray), b = moved.closest(ray);
    if (a.found() != b.found() || (a.found() && std::abs(a.t - b.t) > 1e-4f)) {
      ++differ;  // at the rim of a silhouette
      continue;
    }
    if (a.found()) {
      ++hits;
      const SurfacePoint p = copies.point(ray, a), q = moved.point(ray, b);
      CHECK(p.surface == q.surface);
      CHECK(copies.surface_of(a) == q.surface);
      CHECK((p.position - q.position).norm() < 2e-5f);
      // Beyond an edge.
      differ += p.normal.dot(q.normal) < 0.999f || p.shading_normal.dot(q.shading_normal) < 0.999f
                    ? 1
                    : 0;
      // A ray that starts there is clear of the surface.
      const Vec3 away = p.normal.dot(ray.direction) < 0 ? p.normal : Vec3(-p.normal);
      const Hit next = copies.closest({World::leave(p, away), away});
      CHECK((!next.found() || next.t > 1e-4f));
    }
    ray.t_max = 1.5f;
    CHECK(copies.blocked(ray) == copies.closest(ray).found());
  }
  CHECK(hits > 800);
  CHECK(differ < hits / 200);
}

TEST_CASE("more triangles than a hierarchy numbers are refused with what to do", "[geometry]") {
  CHECK(too_many_triangles(kMostTriangles).empty());
  CHECK(too_many_triangles(kMostTriangles + 1).find("100000001 triangles in all; at most") !=
        std::string::npos);
}
