#include "jovilux/geometry/compact_bvh.h"

#include "jovilux/base/sampler.h"

#include "tests/support/targets.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Vec3 random_point_for_compact_bvh(Rng& rng, double size) {
  return {static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size)),
          static_cast<float>(rng.uniform(-size, size))};
}

// Triangles of all sizes around a place.
Mesh soup(int count, const Vec3& place, const Vec3& size) {
  Rng rng(11);
  Mesh mesh;
  for (int i = 0; i < count; ++i) {
    const auto base = static_cast<std::uint32_t>(mesh.positions.size());
    const Vec3 p = random_point_for_compact_bvh(rng, 1);
    const double edge = std::exp(rng.uniform(-4, -1));
    for (int k = 0; k < 3; ++k) {
      mesh.positions.push_back(place +
                               size.cwiseProduct(p + random_point_for_compact_bvh(rng, edge)));
    }
    mesh.triangles.push_back({base, base + 1, base + 2});
  }
  return mesh;
}

// Hills over a level square: every edge is shared, and cells are level with two axes.
Mesh hills(int side, float height) {
  Mesh mesh;
  const auto across = static_cast<std::uint32_t>(side + 1);
  for (int i = 0; i <= side; ++i) {
    for (int k = 0; k <= side; ++k) {
      mesh.positions.emplace_back(
          0.25f * static_cast<float>(i),
          0.25f * static_cast<float>(k),
          height * std::sin(0.7f * static_cast<float>(i)) * std::cos(0.4f * static_cast<float>(k)));
    }
  }
  for (std::uint32_t i = 0; i + 1 < across; ++i) {
    for (std::uint32_t k = 0; k + 1 < across; ++k) {
      const std::uint32_t a = i * across + k;
      mesh.triangles.push_back({a, a + across, a + across + 1});
      mesh.triangles.push_back({a, a + across + 1, a + 1});
    }
  }
  return mesh;
}

std::shared_ptr<TriangleSet> set_of(const Mesh& mesh, bool compacted) {
  auto set = std::make_shared<TriangleSet>();
  set->add(mesh, 0);
  set->build(true, compacted);
  return set;
}

// The set alone in a world, where it stands.
World world_of(const Mesh& mesh, bool compacted) {
  World world;
  world.add_copy(set_of(mesh, compacted), Transform{}, {0});
  world.build();
  return world;
}

Bvh hierarchy_of(const Mesh& mesh) {
  std::vector<BoxedItem> items = triangle_boxes(mesh.positions, mesh.triangles, false);
  return build_bvh(items, {});
}

}  // namespace

TEST_CASE("compact nodes hold the boxes of full ones, hardly larger", "[geometry][bvh]") {
  for (const Mesh& mesh : {soup(2000, {0, 0, 0}, {1, 1, 1}),
                           soup(500, {300, -200, 90}, {1, 30, 0.2f}),
                           hills(30, 0.4f),
                           hills(12, 0)}) {
    const Bvh full = hierarchy_of(mesh);
    const CompactBvh packed = compact(full);
    REQUIRE(packed.nodes.size() == full.nodes.size());
    for (std::size_t i = 0; i < full.nodes.size(); ++i) {
      for (std::size_t k = 0; k < 8; ++k) {
        const bool absent = full.nodes[i].child[k] == BvhNode::kNoChild;
        CHECK(packed.nodes[i].child[k] == (absent ? BvhNode::leaf(0, 0) : full.nodes[i].child[k]));
        for (std::size_t a = 0; a < 3 && !absent; ++a) {
          const double step = static_cast<double>(packed.grid.step[a]),
                       origin = static_cast<double>(packed.grid.lo[a]);
          const double lower = origin + packed.nodes[i].planes[a][CompactNode::lower(k)] * step,
                       upper = origin + packed.nodes[i].planes[a][CompactNode::upper(k)] * step;
          const auto lo = static_cast<double>(full.nodes[i].box[a][k]),
                     hi = static_cast<double>(full.nodes[i].box[a + 3][k]);
          CHECK((lower <= lo && upper >= hi));
          CHECK((lower > lo - step && upper < hi + step));
        }
      }
    }
  }
}

TEST_CASE(
    "rays meet the same through compact nodes as through full ones, on every set of instructions",
    "[geometry][bvh]") {
  struct Case {
    const char* name;
    Mesh mesh;
    Vec3 middle;
    double size;
  };
  for (const Case& c :
       {Case{"soup", soup(3000, {0, 0, 0}, {1, 1, 1}), {0, 0, 0}, 1.2},
        Case{
            "far from the origin", soup(1000, {400, -250, 90}, {1, 2, 0.5f}), {400, -250, 90}, 1.5},
        Case{"hills", hills(40, 0.4f), {5, 5, 0}, 5.5},
        Case{"level", hills(16, 0), {2, 2, 0}, 2.2}}) {
    const World full = world_of(c.mesh, false), packed = world_of(c.mesh, true);
    on_each_target([&](const std::string& target) {
      Rng rng(19);
      int hits = 0, differ = 0;
      for (int i = 0; i < 6000; ++i) {
        Ray ray{c.middle + random_point_for_compact_bvh(rng, c.size),
                random_point_for_compact_bvh(rng, 1).normalized()};
        if (i % 4 == 1) {  // along an axis, either way, zeros of both signs
          const float zero = i % 8 == 1 ? 0.0f : -0.0f;
          ray.direction = Vec3(zero, zero, zero);
          ray.direction[i / 4 % 3] = i % 16 < 8 ? 1.0f : -1.0f;
        } else if (i % 4 == 2) {  // at a corner of the mesh, from far away
          const Vec3 target_point = c.mesh.positions[rng.next() % c.mesh.positions.size()];
          ray.direction = random_point_for_compact_bvh(rng, 1).normalized();
          ray.origin =
              target_point - static_cast<float>(std::exp(rng.uniform(0, 12))) * ray.direction;
        } else if (i % 4 == 3) {  // from a corner, level with an axis
          ray.origin = c.mesh.positions[rng.next() % c.mesh.positions.size()];
          ray.direction[i / 4 % 3] = 0;
          ray.direction.normalize();
        }
        const Hit a = full.closest(ray), b = packed.closest(ray);
        differ += a.t != b.t ? 1 : 0;
        hits += a.found() ? 1 : 0;
        ray.t_max = 2;
        differ += full.blocked(ray) != packed.blocked(ray) ? 1 : 0;
      }
      INFO(c.name << " on " << target);
      CHECK(differ == 0);
      CHECK(hits > 300);
    });
  }
}

TEST_CASE("a grid too coarse for its triangles is not used", "[geometry][bvh]") {
  // Petals of a millimeter in a valley of a kilometer.
  Mesh valley = hills(200, 0.4f);
  for (Vec3& p : valley.positions) {
    p *= 20;
  }
  CHECK(!compact(hierarchy_of(valley)).nodes.empty());
  const Mesh petals = soup(60'000, {500, 500, 3}, {0.05f, 0.05f, 0.05f});
  const auto base = static_cast<std::uint32_t>(valley.positions.size());
  valley.positions.insert(valley.positions.end(), petals.positions.begin(), petals.positions.end());
  for (const auto& t : petals.triangles) {
    valley.triangles.push_back({t[0] + base, t[1] + base, t[2] + base});
  }
  CHECK(compact(hierarchy_of(valley)).nodes.empty());
  // Nor for two small things a kilometer apart.
  Mesh apart = petals;
  for (const Vec3& p : petals.positions) {
    apart.positions.push_back(Vec3(p + Vec3(-900, -900, 0)));
  }
  for (const auto& t : petals.triangles) {
    const auto more = static_cast<std::uint32_t>(petals.positions.size());
    apart.triangles.push_back({t[0] + more, t[1] + more, t[2] + more});
  }
  CHECK(compact(hierarchy_of(apart)).nodes.empty());
  CHECK(set_of(apart, true)->nodes() != nullptr);
  CHECK(set_of(apart, true)->compact_nodes() == nullptr);
  // Sizes at which floats could overflow.
  CHECK(compact(hierarchy_of(soup(100, {0, 0, 0}, {1e9f, 1, 1}))).nodes.empty());
  CHECK(compact(hierarchy_of(soup(100, {0, 0, 0}, {1e-9f, 1e-9f, 1e-9f}))).nodes.empty());
  CHECK(compact(Bvh{}).nodes.empty());
}

TEST_CASE("compact nodes take less memory", "[geometry][bvh]") {
  const Mesh mesh = hills(100, 0.4f);
  const auto full = set_of(mesh, false), packed = set_of(mesh, true);
  CHECK(full->compact_nodes() == nullptr);
  CHECK(packed->nodes() == nullptr);
  CHECK(packed->memory_bytes() < full->memory_bytes());
  STATIC_REQUIRE(sizeof(CompactNode) == 128);
  STATIC_REQUIRE(alignof(CompactNode) == 64);
}
