// Arrays of objects, and meshes that several objects show.
#include "jovilux/scene/scene.h"

#include "tests/support/program.h"
#include "tests/support/rigs.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A bumpy ball of about 2 rows squared triangles, as a PLY file.
std::string ball_file(int rows) {
  std::string vertices, faces;
  for (int i = 0; i <= rows; ++i) {
    for (int k = 0; k <= rows; ++k) {
      const double theta = kPiD * i / rows, phi = 2 * kPiD * k / rows,
                   r = 0.2 * (1 + 0.1 * std::sin(5 * theta) * std::cos(4 * phi));
      vertices += fmt::format("{} {} {}\n",
                              r * std::sin(theta) * std::cos(phi),
                              r * std::sin(theta) * std::sin(phi),
                              r * std::cos(theta));
      if (i < rows && k < rows) {
        const int a = i * (rows + 1) + k;
        faces += fmt::format("4 {} {} {} {}\n", a, a + 1, a + rows + 2, a + rows + 1);
      }
    }
  }
  return fmt::format(
             "ply\nformat ascii 1.0\nelement vertex {}\nproperty float x\nproperty float "
             "y\nproperty float z\nelement face {}\nproperty list uchar int "
             "vertex_indices\nend_header\n",
             (rows + 1) * (rows + 1),
             rows * rows) +
         vertices + faces;
}

Problems problems_of_for_copies(const std::string& text) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  return read_rig(std::move(*document), "rig.toml").problems();
}

}  // namespace

TEST_CASE(
    "an array of an object stands where its path says, with keys of single copies, and is linked "
    "by its name",
    "[rig][scene]") {
  const std::string pot =
      "[[object]]\nname='pot'\nshape={kind='sphere', radius=0.1}\nat=[0,0,0.1]\ntags=['clay']\n";
  const std::string array =
      "[[array]]\nname='pots'\nof='pot'\nalong={path='grid', at=[1,2,0], spacing=[0.5,0.5,0], "
      "cells=[3,2,1]}\n";
  const Rig rig = rig_of(pot + array +
                         "copy={2={at=[0,0,0.7]}}\n[[light]]\nname='l'\nkind='point'\nat=[0,0,3]"
                         "\noutput='100 lm'\nonly=['pots']\n");
  REQUIRE(rig.objects.size() == 6);  // the pattern itself shows no longer
  CHECK(rig.objects[0].name == "pots[0]");
  CHECK(rig.objects[0].transform.offset.isApprox(Vec3d(0.5, 1.75, 0.1)));
  CHECK(rig.objects[5].transform.offset.isApprox(Vec3d(1.5, 2.25, 0.1)));
  CHECK(rig.objects[2].transform.offset.isApprox(Vec3d(1.5, 1.75, 0.7)));
  CHECK(rig.objects[3].tags == std::vector<std::string>{"clay"});
  REQUIRE(rig.lights[0].lit);
  CHECK(rig.lights[0].lit->size() == 6);
  // A single copy has an address.
  auto document = parse_toml("jovilux = 1\n" + pot + array, "rig.toml");
  REQUIRE(set_at_address(*document, "object.pots[4].scale", *parse_toml("v = 2.0", "s")->find("v"))
              .empty());
  const auto scaled = read_rig(std::move(*document), "rig.toml");
  REQUIRE(scaled);
  CHECK(scaled->objects[4].transform.linear(0, 0) == 2);
  CHECK(scaled->objects[3].transform.linear(0, 0) == 1);
}

TEST_CASE("faults in arrays of objects are told once, with their places", "[rig][scene]") {
  const std::string pot = "[[object]]\nname='pot'\nshape={kind='sphere', radius=0.1}\n";
  const auto code_of = [](const std::string& text) {
    const Problems p = problems_of_for_copies(text);
    REQUIRE(p.size() == 1);
    return p[0].code + fmt::format(":{}", p[0].place.line);
  };
  const std::string line = "along={path='line', from=[0,0,0], to=[1,0,0]}\n";
  CHECK(code_of(pot + "[[array]]\nname='a'\nof='pot'\ncount=3\noutput='each'\n" + line) ==
        "conflict:9");
  CHECK(code_of(pot + "[[array]]\nname='pot'\nof='pot'\ncount=3\n" + line) == "duplicate-name:6");
  CHECK(code_of(pot + "[[array]]\nname='a'\nof='pott'\ncount=3\noutput='each'\n" + line) ==
        "unknown-name:7");
  CHECK(code_of(pot + "[[array]]\nname='a'\nof='pot'\ncount=3\n" + line + "copy={7={scale=2}}\n") ==
        "out-of-range:10");
  CHECK(code_of("[[object]]\nname='pot'\nshape={kind='sphere', "
                "radius=-1}\n[[array]]\nname='a'\nof='pot'\ncount=3\n" +
                line)
            .starts_with("out-of-range:4"));
}

TEST_CASE("many objects of one mesh take the memory of one, and are met as if each had its own",
          "[scene]") {
  const TemporaryFolder dir;
  const std::string large = dir.write("large.ply", ball_file(120)),
                    small = dir.write("small.ply", ball_file(12));
  const auto scene_of = [&](const std::string& file, const std::string& rest) {
    auto scene =
        prepare_scene(rig_of("[[object]]\nname='ball'\nmesh='" + file + "'\nscale=0.8\n" + rest));
    REQUIRE(scene);
    return std::move(*scene);
  };
  const std::string grid =
      "[[array]]\nname='balls'\nof='ball'\nalong={path='grid', spacing=[0.4,0.4,0], "
      "cells=[6,6,1]}\n";
  const Scene one = scene_of(large, ""), many = scene_of(large, grid), few = scene_of(small, grid);
  CHECK(one.world.triangle_count() == 28800);
  CHECK(many.world.triangle_count() == 0);  // all in copies
  CHECK(static_cast<double>(many.world.memory_bytes()) <
        1.2 * static_cast<double>(one.world.memory_bytes()));
  CHECK(few.world.triangle_count() == 36 * 288);  // too small to be worth it
  CHECK(many.surfaces.size() == 36);
  // Rays from above on each: as on the one, moved.
  Rng rng(5);
  int hits = 0;
  for (int i = 0; i < 2000; ++i) {
    const auto x = static_cast<float>(rng.uniform(-0.2, 0.2)),
               y = static_cast<float>(rng.uniform(-0.2, 0.2));
    const auto column = static_cast<int>(rng.uniform(0, 6)),
               row = static_cast<int>(rng.uniform(0, 6));
    const float dx = 0.4f * (static_cast<float>(column) - 2.5f),
                dy = 0.4f * (static_cast<float>(row) - 2.5f);
    const Ray alone{Vec3(x, y, 1), -Vec3::UnitZ()}, among{Vec3(x + dx, y + dy, 1), -Vec3::UnitZ()};
    const Hit a = one.world.closest(alone), b = many.world.closest(among);
    if (a.found() != b.found()) {
      continue;  // at the rim
    }
    if (a.found()) {
      ++hits;
      CHECK(b.t == Approx(a.t).margin(1e-3));
      CHECK(many.surfaces[many.world.surface_of(b)].object ==
            static_cast<std::uint32_t>(row * 6 + column));
    }
  }
  CHECK(hits > 800);
}
