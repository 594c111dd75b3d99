// What check finds in a rig before time is spent on rendering it, by the built program.
#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using jovilux::test::ProgramRun;
using jovilux::test::run_program;
using jovilux::test::TemporaryFolder;

namespace {

const std::string kRoomForCheckFinds =
    "jovilux = 1\n[[camera]]\nname = 'near'\nat = [0, -5, 1.5]\nlook_at = [0, 0, 1]\n"
    "[[camera]]\nname = 'far'\nat = [0, -40, 1.5]\nlook_at = [0, 0, 1]\n"
    "[[material]]\nname = 'red'\nkind = 'diffuse'\ncolor = '#802020'\n"
    "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
    "[[object]]\nname = 'wall'\nshape = { kind = 'box', size = [4, 0.2, 3] }\nat = [0, 2, 1.5]\n";

nlohmann::json checked(const std::string& text, const std::vector<std::string>& more = {}) {
  const TemporaryFolder dir;
  std::vector<std::string> words = {
      "check", dir.write("r.toml", kRoomForCheckFinds + text), "--json"};
  words.insert(words.end(), more.begin(), more.end());
  const ProgramRun run = run_program(words);
  INFO(run.out << run.err);
  return run.json();
}

// The message of the one warning with this code; empty without.
std::string warning(const nlohmann::json& check, const std::string& code) {
  for (const auto& w : check["warnings"]) {
    if (w["code"] == code) {
      return w["message"].get<std::string>() + "; " + w["hint"].get<std::string>();
    }
  }
  return "";
}

std::string light(const std::string& keys) { return "[[light]]\nname = 'l'\n" + keys + "\n"; }
const std::string kPointForCheckFinds = light("kind = 'point'\nat = [0, 0, 2]\noutput = '800 lm'");

}  // namespace

TEST_CASE("faces in one plane are told where it matters which is met", "[cli][check]") {
  const std::string rug = "[[object]]\nname = 'rug'\nshape = { kind = 'rect', size = [1, 1] }\n";
  CHECK(warning(checked(kPointForCheckFinds + rug + "material = 'red'\n"), "coincident-faces")
            .find("\"rug\"") != std::string::npos);
  CHECK(
      warning(checked(kPointForCheckFinds + rug), "coincident-faces").empty());  // of one material
  CHECK(warning(checked(kPointForCheckFinds + rug + "material = 'red'\nat = [0, 0, 0.001]\n"),
                "coincident-faces")
            .empty());
  // What stands on the floor touches it from above.
  CHECK(warning(checked(kPointForCheckFinds +
                        "[[object]]\nname = 'box'\nshape = { kind = 'box', size = [1, 1, "
                        "1] }\nat = [0, 0, 0.5]\nmaterial = 'red'\n"),
                "coincident-faces")
            .empty());
  const std::string zone =
      "[[solid]]\nname = 'z'\nkind = 'box'\nsize = [2, 2, 2]\nat = [0, 0, 1]\n";
  CHECK(warning(checked(zone + kPointForCheckFinds + "inside = 'z'\n"), "coincident-faces")
            .find("counts as inside") != std::string::npos);
}

TEST_CASE("a floor in the plane of a light's volume gets all of its light", "[cli][links]") {
  const TemporaryFolder dir;
  const auto luminance = [&](const std::string& name, const std::string& volume) {
    const std::string rig =
        dir.write(name + ".toml",
                  "jovilux = 1\n[render]\nsize = [16, 16]\nsamples = 16\nbounces = "
                  "1\n[[camera]]\nname = 'c'\n"
                  "at = [0, 0, 3]\nlook_at = [0, 0.001, 0]\nfield_of_view = 10\n[[object]]\nname = "
                  "'floor'\nshape = "
                  "{ kind = 'plane' }\n" +
                      volume + kPointForCheckFinds + (volume.empty() ? "" : "inside = 'z'\n"));
    REQUIRE(run_program({"render", rig, "-o", dir.path(name), "--quiet"}).status == 0);
    return run_program({"read", dir.path(name), "--box", "0,0,16,16", "--json"})
        .json()["readings"][0]["luminance_cd_m2"]
        .get<double>();
  };
  const double open = luminance("open", "");
  CHECK(luminance("shape",
                  "[[solid]]\nname = 'z'\nkind = 'box'\nsize = [2, 2, 2.5]\nat = [0, 0, "
                  "1.25]\n") == Approx(open).epsilon(1e-4));
  CHECK(luminance("marched",
                  "[[solid]]\nname = 'z'\nkind = 'rounded-box'\nsize = [2, 2, 2.5]\n"
                  "rounding = 0.05\nat = [0, 0, 1.25]\n") == Approx(open).epsilon(1e-4));
}

TEST_CASE("lamps that are off are told where they enclose or hide one that is on", "[cli][check]") {
  const std::string globe =
      "[[light]]\nname = 'globe'\nkind = 'sphere'\nradius = 0.3\nat = [0, 0, 2]\noutput = '800 "
      "lm'\non = false\n";
  const auto enclosed = checked(globe + kPointForCheckFinds);
  CHECK(warning(enclosed, "hidden-by-lamp").find("is enclosed by the body of \"globe\"") !=
        std::string::npos);
  CHECK(warning(enclosed, "hidden-by-lamp").find("light.globe.body = false") != std::string::npos);
  const auto without = checked(globe + "body = false\n" + kPointForCheckFinds);
  CHECK(without["warnings"].empty());
  CHECK(without["lights"][1]["subject"]["object"] == "floor");
  CHECK(enclosed["lights"][1]["subject"]["object"] == "globe");
}

TEST_CASE("lights that stand in or behind a wall are told", "[cli][check]") {
  const std::string rect = "kind = 'rect'\nsize = [1, 1]\noutput = '800 lm'\n";
  CHECK(warning(checked(light(rect + "at = [0, 2.3, 1.5]\naim = [0, 0, 1.5]")), "light-unseen")
            .find("\"wall\"") != std::string::npos);
  CHECK(warning(checked(light(rect + "at = [0, 1.5, 1.5]\naim = [0, 0, 1.5]")), "light-unseen")
            .empty());
  const std::string sphere = "kind = 'sphere'\nradius = 0.2\noutput = '800 lm'\n";
  CHECK(
      warning(checked(light(sphere + "at = [0, 1.85, 1.5]")), "light-in-object").find("\"wall\"") !=
      std::string::npos);
  CHECK(warning(checked(light(sphere + "at = [0, 1.6, 1.5]")), "light-in-object").empty());
}

TEST_CASE("levels beyond anything real, and next to nothing, are told", "[cli][check]") {
  CHECK(warning(checked(light("kind = 'point'\nat = [0, 0, 2]\noutput = '1e9 lm'")),
                "flux-beyond-real")
            .find("1e+09 lm") != std::string::npos);
  CHECK(warning(checked(light("kind = 'point'\nat = [0, 0, 200]\noutput = '800 lm'")), "too-weak")
            .find("0.0016 lx") != std::string::npos);
  CHECK(warning(checked("[[object]]\nname = 'tower'\nshape = { kind = 'box', size = [1, 1, 600] }\n"
                        "at = [30, 0, 300]\n" +
                        kPointForCheckFinds),
                "scene-size")
            .find("large") != std::string::npos);
  CHECK(checked(kPointForCheckFinds)["warnings"].empty());
}

TEST_CASE("a dimmer above full, and a camera in the dark of a closed object, are told",
          "[cli][check]") {
  const std::string lamp = "kind = 'point'\nat = [0, 0, 2]\noutput = '800 lm'\n";
  CHECK(warning(checked(light(lamp + "dimmer = '+1 stops'")), "above-full").find("2 times") !=
        std::string::npos);
  CHECK(checked(light(lamp + "dimmer = '-1 stops'"))["warnings"].empty());
  // A box around the camera alone; with the lamp inside as well it is a room.
  const auto boxed = [&](double size) {
    return checked(
        light(lamp) +
        fmt::format("\n[[object]]\nname = 'crate'\nshape = {{ kind = 'box', size = [{0}, "
                    "{0}, {0}] }}\nat = [0, -5, 1.5]\n",
                    size));
  };
  CHECK(warning(boxed(0.4), "camera-inside-object").find("\"crate\"") != std::string::npos);
  CHECK(warning(boxed(20), "camera-inside-object").empty());
}

TEST_CASE("an endless tube that stands upright is judged along all of it", "[cli][check]") {
  const auto check = checked(light(
      "kind = 'tube'\nendless = true\nradius = 0.02\nat = [0, 0, 0]\nalong = [0, 0, 1]\noutput = "
      "'800 lm/m'"));
  CHECK(check["warnings"].empty());
  CHECK(check["lights"][0]["flux_lm"].is_null());
  CHECK(check["lights"][0]["flux_lm_per_m"] == 800);
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "t.toml",
      kRoomForCheckFinds +
          light("kind = 'tube'\nendless = true\nradius = 0.02\nat = [0, 0, 0]\nalong = [0, 0, "
                "1]\noutput = '800 lm/m'"));
  CHECK(run_program({"check", rig}).out.find("800 /m") != std::string::npos);
}

TEST_CASE("laws and files are told once, with one figure", "[cli][check]") {
  // The inverse square as a polynomial is no departure.
  const auto law =
      checked(kPointForCheckFinds + "falloff = { law = 'polynomial', quadratic = 1 }\n");
  CHECK(law["lights"][0]["cheats"].empty());
  CHECK(law["warnings"].empty());
  const auto root = checked(kPointForCheckFinds +
                            "falloff = { law = 'polynomial', constant = -2, linear = 1 }\n");
  CHECK(root["errors"][0]["message"].get<std::string>().find("is 0 at d = 2 m") !=
        std::string::npos);
  const TemporaryFolder dir;
  dir.write("lamp.ies",
            "IESNA:LM-63-2002\n[TEST] none\n[MANUFAC] none\nTILT=NONE\n1 1000 1 3 1 1 2 0 0 0\n1 1 "
            "0\n0 45 90\n0\n1000 500 0\n");
  const auto warnings = [&](const std::string& output) {
    return run_program({"check",
                        dir.write("r.toml",
                                  kRoomForCheckFinds +
                                      light("kind = 'disk'\nradius = 0.05\nat = [0, 0, 2]\naim = "
                                            "[0, 0, 0]\nprofile = 'lamp.ies'\n" +
                                            output)),
                        "--json"})
        .json()["warnings"];
  };
  CHECK(warnings("").size() == 1);
  CHECK(warnings("output = '1000 lm'").size() == 1);  // the lamps' own lumens
  CHECK(warnings("output = '300 lm'").size() == 2);
}

TEST_CASE("the report names a subject that the light lights, and where a sun stands",
          "[cli][check]") {
  const auto linked = checked(kPointForCheckFinds + "only = ['wall']\n");
  CHECK(linked["lights"][0]["subject"].is_null());
  const auto sun = checked(
      "[scene]\nsite = { latitude = 0, longitude = 0, time = \"2026-03-20T12:07:30+00:00\" }\n" +
      light("kind = 'sun'\noutput = 'clear'"));
  CHECK(sun["lights"][0]["elevation_deg"].get<double>() > 88);  // noon of an equinox at the equator
  const auto given =
      checked(light("kind = 'sun'\noutput = 'clear'\nelevation = 30\nazimuth = 100"));
  CHECK(given["lights"][0]["elevation_deg"] == Approx(30));
  CHECK(given["lights"][0]["azimuth_deg"] == Approx(100));
  // Which camera fades a light.
  const std::string fading = kPointForCheckFinds + "fade_with_camera = [6, 30]\n";
  const auto lux = [](const nlohmann::json& check) {
    return check["lights"][0]["subject"]["illuminance_lx"].get<double>();
  };
  CHECK(lux(checked(fading)) > 10);
  CHECK(lux(checked(fading, {"--camera", "far"})) == 0);
}

TEST_CASE("what a light meets not, and which list is at fault, is told", "[cli][check]") {
  const std::string away = warning(
      checked(
          light("kind = 'spot'\nbeam = 20\nat = [0, 0, 2]\ntoward = [0, 0, 1]\noutput = '800 lm'")),
      "faces-nothing");
  CHECK(away.find("the nearest object is \"wall\"") != std::string::npos);
  CHECK(away.find("aim = [0, 2, 1.5] faces it") != std::string::npos);
  CHECK(warning(checked(kPointForCheckFinds + "only = []\n"), "lights-nothing")
            .find("only is empty") != std::string::npos);
  CHECK(
      warning(checked(kPointForCheckFinds + "only = ['wall']\nskip = ['wall']\n"), "lights-nothing")
          .find("skip takes all") != std::string::npos);
}

TEST_CASE("convert, compare and falloff say what is so", "[cli]") {
  CHECK(run_program({"convert", "60 W", "--efficacy", "14 lm/W", "--json"}).json()["flux_lm"] ==
        Approx(840));
  const TemporaryFolder dir;
  dir.write(
      "f.toml",
      kRoomForCheckFinds + kPointForCheckFinds + "falloff = { law = 'linear', zero_at = '5 m' }\n");
  CHECK(run_program({"falloff", dir.path("f.toml")}).out.find("nothing from 5 m on") !=
        std::string::npos);
  // Brighter in one corner, darker elsewhere: the means rise, most pixels fall.
  dir.write(
      "a.toml",
      "jovilux = 1\n[render]\nsize = [24, 24]\nsamples = 4\nbounces = 1\n[[camera]]\nname = "
      "'c'\nat = "
      "[0, 0, 6]\nlook_at = [0, 0.001, 0]\nfield_of_view = 80\n[[object]]\nname = 'floor'\nshape = "
      "{ kind = 'plane' }\n" +
          light("kind = 'point'\nat = [0, 0, 3]\noutput = '800 lm'"));
  REQUIRE(run_program({"render", dir.path("a.toml"), "-o", dir.path("a"), "--quiet"}).status == 0);
  REQUIRE(run_program({"render",
                       dir.path("a.toml"),
                       "-o",
                       dir.path("b"),
                       "--quiet",
                       "--set",
                       "light.l.at=[0,0,0.3]",
                       "--force"})
              .status == 0);
  const ProgramRun run = run_program({"compare", dir.path("a"), dir.path("b")});
  INFO(run.out);
  CHECK(run.out.find(": B is +") != std::string::npos);
  CHECK(run.out.find("pixel by pixel  B is -") != std::string::npos);
}
