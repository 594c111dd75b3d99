// Cuts between groups of virtual lights, where groups are known.
#include "jovilux/transport/cluster_cut.h"

#include "jovilux/base/sampler.h"

#include <algorithm>
#include <numeric>
#include <vector>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

std::vector<std::uint32_t> all_of(const std::vector<ClusterMember>& lights) {
  std::vector<std::uint32_t> out(lights.size());
  std::iota(out.begin(), out.end(), 0U);
  return out;
}

// Places spread evenly over a square of the side `size` in z = 0 from (x, y) on.
void add_square(
    std::vector<ClusterMember>& out, int count, float x, float y, float size, const Vec3& side) {
  Rng rng(static_cast<std::uint64_t>(count));
  for (int i = 0; i < count; ++i) {
    out.push_back({Vec3(x + size * static_cast<float>(rng.uniform(0, 1)),
                        y + size * static_cast<float>(rng.uniform(0, 1)),
                        0),
                   side});
  }
}

}  // namespace

TEST_CASE("a few virtual lights of another object get a cluster of their own",
          "[transport][clusters]") {
  // 8 of 200 stand 3 m from the others: halves of even weight would leave them in a cluster with 92
  // others.
  std::vector<ClusterMember> lights;
  add_square(lights, 192, 0, 0, 1, Vec3(0, 0, 1));
  add_square(lights, 8, 0.4f, 4, 0.1f, Vec3(0, 0, 1));
  std::vector<std::uint32_t> members = all_of(lights);
  const auto cut = cut_cluster(lights, members);
  REQUIRE(cut);
  CHECK(cut->axis == 1);
  CHECK(cut->first == 192);
  CHECK(cut->at > 1);
  CHECK(cut->at < 4);
  CHECK(std::all_of(members.begin(), members.begin() + 192, [](auto m) { return m < 192; }));
}

TEST_CASE("sides of a thin sheet are told apart before its places are", "[transport][clusters]") {
  std::vector<ClusterMember> lights;
  add_square(lights, 60, 0, 0, 1, Vec3(0, 0, 1));
  add_square(lights, 61, 0, 0, 1, Vec3(0, 0, -1));
  std::vector<std::uint32_t> members = all_of(lights);
  const auto cut = cut_cluster(lights, members);
  REQUIRE(cut);
  CHECK(cut->axis == 5);
  CHECK(cut->first == 61);
  CHECK(cut->at == 0);
  // What sends light to both sides has no side: there is nothing but places to cut by.
  for (ClusterMember& m : lights) {
    m.side = Vec3::Zero();
  }
  REQUIRE(cut_cluster(lights, members));
  CHECK(cut_cluster(lights, members)->axis < 2);
}

TEST_CASE("virtual lights that bring much are cut from those that bring little",
          "[transport][clusters]") {
  // Even places on a line; the last fifth brings fifty times as much as the others. The cheapest
  // cut by place alone would be in the middle.
  std::vector<ClusterMember> lights;
  for (int i = 0; i < 100; ++i) {
    lights.push_back({Vec3(static_cast<float>(i), 0, 0), Vec3(0, 0, 1), i < 80 ? 0.02 : 1.0});
  }
  std::vector<std::uint32_t> members = all_of(lights);
  auto cut = cut_cluster(lights, members);
  REQUIRE(cut);
  CHECK(cut->axis == 0);
  CHECK(static_cast<double>(cut->first) == Approx(80).margin(3));
  for (ClusterMember& m : lights) {
    m.weight = 1;
  }
  members = all_of(lights);
  cut = cut_cluster(lights, members);
  REQUIRE(cut);
  CHECK(static_cast<double>(cut->first) == Approx(50).margin(3));
}

TEST_CASE("groups that cannot be divided stay whole, and cuts agree with what lies below them",
          "[transport][clusters]") {
  std::vector<ClusterMember> alike(40);
  std::vector<std::uint32_t> members = all_of(alike);
  CHECK_FALSE(cut_cluster(alike, members));
  std::vector<ClusterMember> few;
  add_square(few, 7, 0, 0, 1, Vec3(0, 0, 1));  // no two groups of 4
  members = all_of(few);
  CHECK_FALSE(cut_cluster(few, members));
  // Neighboring numbers: no value lies between the parts.
  Rng rng(5);
  for (int t = 0; t < 200; ++t) {
    std::vector<ClusterMember> lights;
    const float next = std::nextafter(1.0f, 2.0f);
    for (int i = 0; i < 20; ++i) {
      lights.push_back({Vec3(t % 2 == 0 && i % 2 == 0 ? next : 1.0f,
                             t % 2 == 0 ? 0.0f : static_cast<float>(rng.uniform(0, 1)),
                             0),
                        Vec3::Zero(),
                        rng.uniform(0.01, 1)});
    }
    members = all_of(lights);
    const auto cut = cut_cluster(lights, members);
    REQUIRE(cut);
    CHECK(cut->first >= kLeastOfPart);
    CHECK(members.size() - cut->first >= kLeastOfPart);
    for (std::size_t i = 0; i < members.size(); ++i) {
      const ClusterMember& m = lights[members[i]];
      CHECK((coordinate(m.position, m.side, cut->axis) < cut->at) == (i < cut->first));
    }
  }
}
