// What a rig becomes for rays: surfaces and their numbers, bodies of lights, lists, layers.
#include "jovilux/scene/scene.h"

#include <algorithm>

#include "tests/support/rigs.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Scene scene_of_rig(const std::string& text) {
  const Rig rig = rig_of(text);
  auto scene = prepare_scene(rig);
  for (const Problem& p : scene.problems()) {
    INFO(to_string(p));
    REQUIRE(p.severity == Severity::kWarning);
  }
  REQUIRE(scene);
  return std::move(*scene);
}

// A ball of 10 cm over the origin of x.
std::string ball(const std::string& name, double x, const std::string& more = "") {
  return fmt::format(
      "[[object]]\nname='{}'\nshape={{kind='sphere', radius=0.1}}\nat=[{},0,1]\n{}\n",
      name,
      x,
      more);
}
std::string lamp(const std::string& name, double x, const std::string& more = "") {
  return fmt::format(
      "[[light]]\nname='{}'\nkind='sphere'\nradius=0.05\nat=[{},0,2]\noutput='100 lm'\n{}\n",
      name,
      x,
      more);
}

// The surface that a ray from far above at x meets first; kNoIndex: none.
std::uint32_t seen_from_above(const Scene& scene, float x) {
  const Hit hit = scene.world.closest({Vec3(x, 0, 9), -Vec3::UnitZ()});
  return hit.found() ? scene.world.surface_of(hit) : kNoIndex;
}

}  // namespace

TEST_CASE("surfaces are numbered objects first, then the bodies of lights", "[scene]") {
  const Scene scene =
      scene_of_rig(ball("a", 0) + ball("b", 1) + lamp("l", 2) +
                   "[[light]]\nname='p'\nkind='point'\nat=[3,0,2]\noutput='1 cd'\n" + lamp("m", 4));
  REQUIRE(scene.object_surfaces == 2);
  REQUIRE(scene.surfaces.size() == 4);  // a point has no body
  CHECK(seen_from_above(scene, 0) == 0);
  CHECK(seen_from_above(scene, 1) == 1);
  CHECK(seen_from_above(scene, 3) == kNoIndex);
  REQUIRE(scene.emitters.size() == 3);
  for (const std::uint32_t light : {0U, 2U}) {
    const std::uint32_t body = scene.emitter_surface[light];
    REQUIRE(body >= scene.object_surfaces);
    CHECK(scene.surfaces[body].emitter == light);
    CHECK(scene.surfaces[body].object == kNoIndex);
    CHECK(scene.surfaces[body].material == kNoIndex);
    CHECK(seen_from_above(scene, light == 0 ? 2 : 4) == body);
  }
  CHECK(scene.emitter_surface[1] == kNoIndex);
  for (std::uint32_t s = 0; s < 2; ++s) {
    CHECK(scene.surfaces[s].object == s);
    CHECK(scene.surfaces[s].emitter == kNoIndex);
    CHECK(scene.surfaces[s].material < scene.materials.size());
    CHECK(scene.surfaces[s].seen_by_camera);
    CHECK(scene.surfaces[s].receives_shadow);
  }
  CHECK(scene.layers == std::vector<std::string>{"l", "p", "m"});
}

TEST_CASE("an object that emits is one surface with a material and an emitter", "[scene]") {
  const Scene scene =
      scene_of_rig(ball("a", 0) + ball("globe", 1) +
                   "[[light]]\nname='glow'\nkind='object'\nobject='globe'\noutput='500 lm'\n");
  REQUIRE(scene.surfaces.size() == 2);
  CHECK(scene.surfaces[0].emitter == kNoIndex);
  CHECK(scene.surfaces[1].emitter == 0);
  CHECK(scene.surfaces[1].object == 1);
  CHECK(scene.surfaces[1].material != kNoIndex);
  CHECK(scene.emitter_surface[0] == kNoIndex);  // it has no body beside the object
  REQUIRE(scene.luminous.size() == 1);
  CHECK(scene.luminous[0] != nullptr);
}

TEST_CASE("flags of objects reach their surfaces, and the scene knows whether any has them",
          "[scene]") {
  const Scene plain = scene_of_rig(ball("a", 0) + lamp("l", 2));
  CHECK_FALSE(plain.has_unshadowed);
  CHECK_FALSE(plain.has_openings);
  CHECK_FALSE(plain.has_pictures);
  CHECK_FALSE(plain.has_bounce_materials);
  const Scene scene = scene_of_rig(
      "[[material]]\nname='pane'\nkind='glass'\nthin=true\n[[material]]\nname='tin'\nkind='metal'\n"
      "color=[0.8,0.8,0.8]\nroughness=0.1\nbounce_roughness=0.5\n" +
      ball("a", 0, "seen_by_camera=false") + ball("b", 1, "receives_shadow=false") +
      ball("c", 2, "material='pane'") + ball("d", 3, "material='tin'") + lamp("l", 5));
  CHECK_FALSE(scene.surfaces[0].seen_by_camera);
  CHECK(scene.surfaces[1].seen_by_camera);
  CHECK(scene.surfaces[0].receives_shadow);
  CHECK_FALSE(scene.surfaces[1].receives_shadow);
  CHECK(scene.has_unshadowed);
  CHECK(scene.has_openings);
  CHECK(scene.has_bounce_materials);
  const std::uint32_t pane = scene.surfaces[2].material, tin = scene.surfaces[3].material;
  CHECK(scene.materials[pane].is_pane());
  CHECK(scene.after_bounce(pane) == pane);
  REQUIRE(scene.after_bounce(tin) != tin);
  CHECK(scene.materials[scene.after_bounce(tin)].alpha > scene.materials[tin].alpha);
  CHECK(scene.after_bounce(kNoIndex) == kNoIndex);
}

TEST_CASE("lists of linked objects are bits, the same list one bit", "[scene]") {
  const Scene scene = scene_of_rig(
      ball("a", 0, "tags=['row']") + ball("b", 1, "tags=['row']") + ball("c", 2) + lamp("all", 5) +
      lamp("only-a", 6, "only=['a']") + lamp("row", 7, "only=['tag:row']") +
      lamp("a-and-b", 8, "only=['a','b']") + lamp("skips", 9, "skip=['c']"));
  const auto reaches = [&](std::uint32_t light, std::uint32_t surface) {
    const std::uint64_t bit = scene.emitters[light].link_bit;
    return bit == 0 || (scene.surfaces[surface].links & bit) != 0;
  };
  const bool wanted[5][3] = {{true, true, true},
                             {true, false, false},
                             {true, true, false},
                             {true, true, false},
                             {true, true, false}};
  for (std::uint32_t light = 0; light < 5; ++light) {
    for (std::uint32_t surface = 0; surface < 3; ++surface) {
      INFO("light " << light << ", surface " << surface);
      CHECK(reaches(light, surface) == wanted[light][surface]);
    }
  }
  CHECK(scene.emitters[0].link_bit == 0);
  CHECK(scene.emitters[2].link_bit == scene.emitters[3].link_bit);
  CHECK(scene.emitters[1].link_bit != scene.emitters[2].link_bit);
}

TEST_CASE("what throws a light's shadows is a list of surfaces of its own", "[scene]") {
  const Scene scene = scene_of_rig(
      ball("a", 0) + ball("b", 1) + ball("c", 2, "throws_shadow=false") + lamp("plain", 5) +
      lamp("by-a", 6, "shadow_only=['a']") + lamp("not-a", 7, "shadow_skip=['a']"));
  const auto throws = [&](std::uint32_t light, std::uint32_t surface) {
    const std::uint32_t list = scene.emitters[light].casters;
    return list == kNoIndex || scene.casters[list][surface];
  };
  CHECK(throws(0, 0));
  CHECK(throws(0, 1));
  CHECK_FALSE(throws(0, 2));
  CHECK(throws(1, 0));
  CHECK_FALSE(throws(1, 1));
  CHECK_FALSE(throws(1, 2));
  CHECK_FALSE(throws(2, 0));
  CHECK(throws(2, 1));
  CHECK_FALSE(throws(2, 2));
}

TEST_CASE("distant lights have no body and are seen beyond the world, dark lights have no layer",
          "[scene]") {
  const std::string sun = "[[light]]\nname='sun'\nkind='sun'\ntoward=[0,0,-1]\noutput='50000 lx'\n";
  const std::string sky = "[[light]]\nname='sky'\nkind='sky'\nmodel='uniform'\noutput='8000 lx'\n";
  const Scene scene = scene_of_rig(ball("a", 0) + lamp("l", 3) + sun + sky);
  CHECK(scene.distant.size() == 2);
  CHECK(std::find(scene.distant.begin(), scene.distant.end(), 0U) == scene.distant.end());
  for (const std::uint32_t index : scene.distant) {
    CHECK(scene.emitters[index].is_distant());
    CHECK(scene.emitter_surface[index] == kNoIndex);
  }
  const Scene dark = scene_of_rig(lamp("on", 0) + lamp("off", 1, "on=false"));
  CHECK(dark.layers == std::vector<std::string>{"on"});
  CHECK(dark.emitters.size() == 2);
  CHECK_FALSE(dark.emitters[1].shines());
}

TEST_CASE("a moment of the same rig keeps meshes and layers of the first", "[scene]") {
  const Rig rig = rig_of(ball("a", 0) + lamp("l", 2) + lamp("off", 3, "on=false"));
  const auto first = prepare_scene(rig);
  REQUIRE(first);
  Rig moved = rig_of(ball("a", 0.5) + lamp("l", 2) + lamp("off", 3, "on=false"));
  const std::vector<std::string> layers = {"l", "off"};
  const auto second = prepare_moment(moved, 0, *first, layers);
  REQUIRE(second);
  CHECK(second->layers == layers);
  CHECK(seen_from_above(*first, 0) == 0);
  CHECK(seen_from_above(*second, 0) == kNoIndex);
  CHECK(seen_from_above(*second, 0.5f) == 0);
  CHECK(second->surfaces.size() == first->surfaces.size());
}
