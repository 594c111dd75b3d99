// Marched solids against meshes and closed forms, through the built program.
#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A surface of revolution about z as an OBJ with smooth normals: rings of (radius, height, normal's
// radius, normal's height).
struct Ring {
  double r, z, nr, nz;
};
std::string revolved(const std::vector<Ring>& rings, int around) {
  std::string out;
  for (const Ring& ring : rings) {
    for (int i = 0; i < around; ++i) {
      const double a = 2 * kPiD * i / around;
      out += fmt::format("v {:.7f} {:.7f} {:.7f}\nvn {:.6f} {:.6f} {:.6f}\n",
                         ring.r * std::cos(a),
                         ring.r * std::sin(a),
                         ring.z,
                         ring.nr * std::cos(a),
                         ring.nr * std::sin(a),
                         ring.nz);
    }
  }
  const int n = static_cast<int>(rings.size());
  for (int k = 0; k + 1 < n; ++k) {
    for (int i = 0; i < around; ++i) {
      const int a = k * around + i + 1, b = k * around + (i + 1) % around + 1, c = b + around,
                d = a + around;
      out +=
          fmt::format("f {0}//{0} {1}//{1} {2}//{2}\nf {0}//{0} {2}//{2} {3}//{3}\n", a, b, c, d);
    }
  }
  return out;
}

std::string mesh_of(const std::string& kind) {
  std::vector<Ring> rings;
  constexpr int kSteps = 200;
  if (kind == "sphere") {
    for (int i = 0; i <= kSteps; ++i) {
      const double t = kPiD * (i / double(kSteps) - 0.5);
      rings.push_back({0.4 * std::cos(t), 0.4 * std::sin(t), std::cos(t), std::sin(t)});
    }
  } else if (kind == "torus") {
    for (int i = 0; i <= kSteps; ++i) {
      const double t = 2 * kPiD * i / kSteps;
      rings.push_back({0.35 + 0.12 * std::cos(t), 0.12 * std::sin(t), std::cos(t), std::sin(t)});
    }
  } else if (kind == "cylinder") {
    rings = {{1e-6, -0.3, 0, -1},
             {0.3, -0.3, 0, -1},
             {0.3, -0.3, 1, 0},
             {0.3, 0.3, 1, 0},
             {0.3, 0.3, 0, 1},
             {1e-6, 0.3, 0, 1}};
  } else {
    std::string out;
    for (int i = 0; i < 8; ++i) {
      out +=
          fmt::format("v {} {} {}\n", i & 1 ? 0.3 : -0.3, i & 2 ? 0.25 : -0.25, i & 4 ? 0.2 : -0.2);
    }
    return out + "f 1 3 4 2\nf 5 6 8 7\nf 1 2 6 5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6\n";
  }
  return revolved(rings, 300);
}

const std::map<std::string, std::string> kSizes = {{"sphere", "radius=0.4"},
                                                   {"torus", "radius=[0.35,0.12]"},
                                                   {"cylinder", "radius=0.3\nheight=0.6"},
                                                   {"box", "size=[0.6,0.5,0.4]"}};

std::string stage(const std::string& more) {
  return "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,1.4]\nlook_at=[0,0,0.3]\nfield_of_view='26 "
         "deg'\n[render]\nsize=[24,16]\nsamples=256\nbounces=4\n[[material]]\nname='m'\nkind='"
         "gloss'\ncolor=[0.6,0.4,0.2]\nroughness=0.4\n"
         "[[object]]\nname='floor'\nshape={kind='plane'}\n[[light]]\nname='lamp'\nkind='disk'"
         "\nradius=0.4\nat=[-1,-1,2]\naim=[0,0,0.3]\noutput='900 "
         "lm'\n[[light]]\nname='sky'\nkind='sky'\nmodel='uniform'\noutput='20 lx'\n" +
         more;
}

struct Tile {
  double mean, error;
};
std::vector<Tile> tiles(const TemporaryFolder& dir, const std::string& text, int seed) {
  const ProgramRun run = run_program({"render",
                                      dir.write("r.toml", text),
                                      "-o",
                                      dir.path("out"),
                                      "--quiet",
                                      "--force",
                                      "--set",
                                      fmt::format("render.seed={}", seed)});
  INFO(run.err);
  REQUIRE(run.status == 0);
  std::vector<std::string> words = {"read", dir.path("out"), "--json"};
  for (int y = 0; y < 16; y += 4) {
    for (int x = 0; x < 24; x += 4) {
      words.insert(words.end(), {"--box", fmt::format("{},{},4,4", x, y)});
    }
  }
  std::vector<Tile> out;
  const nlohmann::json read = run_program(words).json();
  for (const auto& r : read["readings"]) {
    out.push_back({r["luminance_cd_m2"], r["standard_error_cd_m2"]});
  }
  return out;
}

}  // namespace

TEST_CASE("a solid and a mesh of the same shape give the same picture", "[cli][solid]") {
  const std::string kind = GENERATE("sphere", "box", "torus", "cylinder");
  INFO(kind);
  const TemporaryFolder dir;
  dir.write("m.obj", mesh_of(kind));
  const std::string place = "at=[0,0,0.45]\nrotate=[25,40,10]\nmaterial='m'\n";
  const auto solid = tiles(dir,
                           stage("[[solid]]\nname='s'\nkind='" + kind + "'\n" + kSizes.at(kind) +
                                 "\n[[object]]\nname='o'\nsolid='s'\n" + place),
                           1);
  const auto mesh = tiles(dir, stage("[[object]]\nname='o'\nmesh='m.obj'\n" + place), 2);
  REQUIRE(solid.size() == 24);
  REQUIRE(mesh.size() == 24);
  double sum_solid = 0, sum_mesh = 0;
  for (std::size_t i = 0; i < 24; ++i) {
    INFO("tile " << i << ": " << solid[i].mean << " +- " << solid[i].error << " against "
                 << mesh[i].mean << " +- " << mesh[i].error);
    // And what triangles cut off.
    CHECK(std::abs(solid[i].mean - mesh[i].mean) <
          5 * std::hypot(solid[i].error, mesh[i].error) + 2e-3 * mesh[i].mean);
    sum_solid += solid[i].mean;
    sum_mesh += mesh[i].mean;
  }
  CHECK(sum_solid == Approx(sum_mesh).epsilon(0.004));
  CHECK(nlohmann::json::parse(dir.read("out/stats.json"))["rays"]["march_steps"] == 0);
}

TEST_CASE("a light just under a surface stays dark outside, and just over it lights it",
          "[cli][solid]") {
  const TemporaryFolder dir;
  const auto mean = [&](double height) {
    const std::string text =
        "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-2,1]\nlook_at=[0,0,0.4]\nfield_of_view='40 "
        "deg'\n[render]\nsize=[32,24]\nsamples=16\nbounces=3\n[[object]]\nname='floor'\nshape={"
        "kind='plane'}\n"
        "[[solid]]\nname='ball'\nkind='sphere'\nradius=0.4\n[[solid]]\nname='bump'\nkind='sphere'"
        "\nradius=0.3\nat=[0.3,0,0]\n[[solid]]\nname='s'\nkind='union'\nof=['ball','bump']\nblend="
        "0.05\n"
        "[[object]]\nname='o'\nsolid='s'\nat=[0,0,0.4]\n" +
        light(fmt::format("kind='point'\nat=[-0.1,0,{:.4f}]\noutput='100 cd'\n", height));
    REQUIRE(run_program(
                {"render", dir.write("r.toml", text), "-o", dir.path("out"), "--quiet", "--force"})
                .status == 0);
    return nlohmann::json::parse(dir.read("out/stats.json"))["mean_luminance_cd_m2"].get<double>();
  };
  const double top = 0.4 + std::sqrt(0.16 - 0.01);
  CHECK(mean(top - 0.001) < 1e-9);
  CHECK(mean(top + 0.001) > 0.01);
}

TEST_CASE("in a white furnace a white fractal, and rough and smooth jars of glass, vanish",
          "[cli][solid][glass]") {
  const TemporaryFolder dir;
  dir.write(
      "white.hdr", std::string("#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 2 +X 4\n") + [] {
        std::string pixels;
        for (int i = 0; i < 8; ++i) {
          pixels += std::string("\x80\x80\x80\x81", 4);  // 1.0
        }
        return pixels;
      }());
  const auto seen = [&](const std::string& solid, const std::string& material) {
    const std::string text =
        "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,0.7]\nlook_at=[0,0,0]\nfield_of_view='14 "
        "deg'\n[render]\nsize=[16,16]\nsamples=" +
        std::string(material.find("metal") != std::string::npos ? "1024" : "256") +
        "\nbounces=400\n[[material]]\nname='m'\n" + material + "\n" + solid +
        "[[object]]\nname='o'\nsolid='s'\nmaterial='m'\nrotate=[20,30,0]\n" +
        light("kind='dome'\nimage='white.hdr'\noutput='as-is'\n");
    const ProgramRun run = run_program(
        {"render", dir.write("r.toml", text), "-o", dir.path("out"), "--quiet", "--force"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run_program({"read", dir.path("out"), "--json", "--box", "4,4,8,8"})
        .json()["readings"][0];
  };
  const std::string
      menger = "[[solid]]\nname='s'\nkind='fractal'\nfractal='menger'\nsize=0.6\niterations=3\n",
      julia = "[[solid]]\nname='s'\nkind='fractal'\nfractal='julia'\nsize=0.8\niterations=7\n",
      jar =
          "[[solid]]\nname='b'\nkind='rounded-box'\nsize=[0.5,0.5,0.6]\nrounding=0.15\n[[solid]]"
          "\nname='"
          "s'\nkind='shell'\nof='b'\nthickness='2 cm'\n";
  for (const auto& [solid, material] : std::vector<std::pair<std::string, std::string>>{
           {menger, "kind='diffuse'\ncolor=[1,1,1]"},
           {julia, "kind='diffuse'\ncolor=[1,1,1]\nroughness=0.7"},
           {jar, "kind='glass'\nior=1.5"},
           {jar, "kind='glass'\nior=1.5\nroughness=0.5"},
           {menger, "kind='metal'\ncolor=[1,1,1]\nroughness=0.6"}}) {
    const auto r = seen(solid, material);
    INFO(solid << material << ": " << r["luminance_cd_m2"] << " +- " << r["standard_error_cd_m2"]);
    // Compensation is right to within 1 % a reflection; rough glass has some.
    const double slack = material.find("roughness=0.5") != std::string::npos ||
                                 material.find("metal") != std::string::npos
                             ? 0.03
                             : 0.004;
    CHECK(std::abs(r["luminance_cd_m2"].get<double>() - 1) <
          slack + 5 * r["standard_error_cd_m2"].get<double>());
    CHECK(r["standard_error_cd_m2"].get<double>() < 0.03);
  }
}

TEST_CASE("solids are read with their places, and faults are told", "[cli][solid][rig]") {
  const TemporaryFolder dir;
  const auto told = [&](const std::string& text) {
    return run_program({"check", dir.write("r.toml", "jovilux = 1\n" + text)}).out;
  };
  const std::string ball = "[[solid]]\nname='ball'\nkind='sphere'\nradius=0.2\n";
  CHECK(told(ball + "[[solid]]\nname='u'\nkind='union'\nof=['ball','bal']\n")
            .find("did you mean \"ball\"?") != std::string::npos);
  CHECK(told("[[solid]]\nname='a'\nkind='shell'\nof='b'\nthickness=0.1\n[[solid]]\nname='b'\nkind='"
             "shell'\nof='a'\nthickness=0.1\n")
            .find("which is made of it") != std::string::npos);
  CHECK(told("[[solid]]\nname='a'\nkind='blob'\n").find("found \"blob\"") != std::string::npos);
  CHECK(told("[[solid]]\nname='a'\nformula='x+'\n").find("character") != std::string::npos);
  CHECK(told("[[solid]]\nname='a'\nkind='sphere'\nradius=0.1\nblend=0.1\n")
            .find("\"blend\" does not go with a sphere") != std::string::npos);
  CHECK(told("[[solid]]\nname='a'\nkind='box-edges'\nsize=[1,1,1]\nbar=2\n")
            .find("thicker than the frame") != std::string::npos);
  CHECK(told(ball + "[[solid]]\nname='r'\nkind='repeat'\nof='ball'\nspacing=[0.3,0,0]\n")
            .find("spacing = 0.4 m") != std::string::npos);
  CHECK(told(ball + "[[solid]]\nname='far'\nkind='sphere'\nradius=0.1\nat=[3,0,0]\n[[solid]]\nname="
                    "'i'\nkind='intersect'\nof=['ball','far']\n")
            .find("is empty") != std::string::npos);
  CHECK(told("[[object]]\nname='o'\nsolid='none'\n").find("there is no solid \"none\"") !=
        std::string::npos);
  CHECK(told(ball + "[[object]]\nname='o'\nsolid='ball'\n" +
             light("kind='object'\nobject='o'\noutput='10 lm'\n"))
            .find("a marched solid, whose area is not known") != std::string::npos);
  // A repeat of repeats grows beyond all use; deep nesting ends.
  std::string deep = ball;
  for (int i = 0; i < 60; ++i) {
    deep += fmt::format(
        "[[solid]]\nname='s{}'\nkind='shell'\nof='{}'\nthickness=0.01\nat=[0,0,0.001]\n",
        i,
        i == 0 ? "ball" : fmt::format("s{}", i - 1));
  }
  CHECK(told(deep).find("nested more than") != std::string::npos);
  std::string wide = ball;
  for (int i = 0; i < 5; ++i) {
    wide += fmt::format(
        "[[solid]]\nname='r{}'\nkind='repeat'\nof='{}'\nspacing=[{},{},{}]\ncount=[2,2,2]\n",
        i,
        i == 0 ? "ball" : fmt::format("r{}", i - 1),
        0.4 * std::pow(2, i),
        0.4 * std::pow(2, i),
        0.4 * std::pow(2, i));
  }
  CHECK(told(wide).find("is too long") != std::string::npos);
}

TEST_CASE("check finds coarse tolerances, slopes that are none, and what stands inside solids",
          "[cli][solid][check]") {
  const TemporaryFolder dir;
  const std::string set =
      "jovilux = "
      "1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0.3]\n[[object]]\nname='floor'\nshape={"
      "kind='plane'}\n" +
      light("kind='sphere'\nradius=0.05\nat=[0,0,2]\noutput='900 lm'\n");
  const auto codes = [&](const std::string& more, const std::vector<std::string>& words = {}) {
    std::vector<std::string> all = {"check", dir.write("r.toml", set + more), "--json"};
    all.insert(all.end(), words.begin(), words.end());
    std::map<std::string, std::string> out;
    const nlohmann::json told = run_program(all).json();
    for (const auto& w : told["warnings"]) {
      out[w["code"]] = w["hint"];
    }
    return out;
  };
  const std::string ball =
      "[[solid]]\nname='s'\nkind='sphere'\nradius=0.3\n[[object]]\nname='o'\nsolid='s'\nat=[0,0,0."
      "3]\n";
  CHECK(codes(ball).empty());
  CHECK(codes(ball, {"--set", "light.l.at=[0,0,0.5]"}).count("light-inside-object") == 1);
  CHECK(codes(ball, {"--set", "camera.c.at=[0,0,0.5]"}).count("camera-inside-solid") == 1);
  const std::string thin =
      "[[solid]]\nname='b'\nkind='sphere'\nradius=0.3\n[[solid]]\nname='s'\nkind='shell'\nof='b'"
      "\nthickness='0.3 mm'\n[[object]]\nname='o'\nsolid='s'\nat=[0,0,0.3]\n";
  CHECK(codes(thin).count("march-tolerance") == 1);
  CHECK(codes(thin, {"--set", "render.march.tolerance='0.05 mm'"}).count("march-tolerance") == 0);
  // 0.05 * 30 = 1.5 steep at most, with the 1 of z.
  const std::string wave =
      "[[solid]]\nname='w'\nformula='z-0.05*sin(30*x)'\nsize=[0.4,0.4,0.3]\n[[object]]\nname='o'"
      "\nsolid='w'\nat=[0,0,0.3]\n";
  const auto steep = codes(wave);
  REQUIRE(steep.count("formula-slope") == 1);
  CHECK(steep.at("formula-slope").find("slope = ") != std::string::npos);
  CHECK(codes(wave, {"--set", "solid.w.slope=1.9"}).count("formula-slope") == 0);
}

TEST_CASE("a solid is a zone for lights and a holder of haze", "[cli][solid]") {
  // The zone ends between two readings' places on the plane.
  const std::string zone =
      "[[solid]]\nname='a'\nkind='capsule'\nradius=0.2\nheight=1\n[[solid]]\nname='b'\nkind='"
      "sphere'\nradius=0.3\nat=[0.2,0,0]\n[[solid]]\nname='z'\nkind='union'\nof=['a','b']\nblend=0."
      "05\n";
  const std::string lamp = "inside='z'\nkind='point'\nat=[0,0,2]\noutput='100 cd'\n";
  const TemporaryFolder dir;
  const auto at = [&](double x) {
    return reading(dir,
                   dir.write("r.toml", looking_at({x, -0.5, 1}, {x, 0, 0}, zone + light(lamp))),
                   1)["luminance_cd_m2"]
        .get<double>();
  };
  CHECK(at(0.45) > 0);
  CHECK(at(0.55) == 0);
  // Absorbing haze in a capsule 1 m long, looked along.
  check_luminance(
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\nfield_of_view='0.05 "
      "deg'\n[render]\nsize=[8,8]\nsamples=512\nbounces=0\n[[solid]]\nname='cap'\nkind='capsule'"
      "\nradius=0.2\nheight=1\nat=[0,1,0]\nrotate=[90,0,0]\n"
      "[[haze]]\nname='h'\ninside='cap'\nextinction='0.4 /m'\nalbedo=0\n" +
          light("kind='rect'\nsize=[1,1]\nat=[0,2,0]\ntoward=[0,-1,0]\noutput='1000 cd/m2'\n"),
      1000 * std::exp(-0.4),
      0.03);
}
