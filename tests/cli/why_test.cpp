// jovilux why: the ways of light to a pixel, and what keeps lights away.
#include "jovilux/files/image.h"

#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A gray floor seen from above; the middle pixel shows its origin.
const std::string kFloorForWhy =
    "jovilux = 1\n[render]\nsize = [41, 41]\nsamples = 16\nbounces = 4\n"
    "[[camera]]\nname = 'c'\nat = [0, -0.5, 3]\nlook_at = [0, 0, 0]\nfield_of_view = 30\n"
    "[[material]]\nname = 'gray'\nkind = 'diffuse'\ncolor = [0.5, 0.5, 0.5]\n"
    "[[object]]\nname = 'floor'\nmaterial = 'gray'\nshape = { kind = 'plane' }\n";

std::string lamp(const std::string& name, const std::string& text) {
  return "[[light]]\nname = '" + name + "'\n" + text;
}

nlohmann::json why(const TemporaryFolder& dir,
                   const std::string& rig,
                   const std::vector<std::string>& more = {}) {
  std::vector<std::string> words = {
      "why", dir.write("r.toml", rig), "--at", "20,20", "--samples", "16384", "--json"};
  words.insert(words.end(), more.begin(), more.end());
  const ProgramRun run = run_program(words);
  INFO(run.err << run.out);
  REQUIRE(run.status == 0);
  return run.json();
}

nlohmann::json light_in(const nlohmann::json& report, const std::string& name) {
  for (const nlohmann::json& light : report["lights"]) {
    if (light["light"] == name) {
      return light;
    }
  }
  return {};
}

}  // namespace

TEST_CASE("a lamp over a floor has one way, of the luminance that its formula says",
          "[cli][why][truth]") {
  const TemporaryFolder dir;
  const nlohmann::json r =
      why(dir, kFloorForWhy + lamp("bulb", "kind = 'point'\nat = [0, 0, 2]\noutput = '100 cd'\n"));
  // E = I / d^2, L = rho E / pi.
  CHECK(r["luminance"].get<double>() == Approx(0.5 * 25 / kPiD).epsilon(2e-3));
  CHECK(r["seen"] == "floor");
  CHECK(r["distance_m"].get<double>() == Approx(std::sqrt(9.25)).epsilon(1e-2));
  REQUIRE(r["ways"].size() == 1);
  const nlohmann::json& way = r["ways"][0];
  CHECK(way["light"] == "bulb");
  CHECK(way["steps"] == nlohmann::json::parse(R"([{"object":"floor","kind":"reflected by"}])"));
  CHECK(way["share"].get<double>() == Approx(1));
  CHECK(way["length_m"].get<double>() == Approx(2 + std::sqrt(9.25)).epsilon(1e-2));
  CHECK(way["path"].size() == 3);
}

TEST_CASE("what keeps lights away is named, with its place", "[cli][why]") {
  const TemporaryFolder dir;
  const nlohmann::json r = why(
      dir,
      kFloorForWhy +
          "[[object]]\nname = 'shelf'\nmaterial = 'gray'\nat = [0.5, 0, 1]\n"
          "shape = { kind = 'box', size = [0.3, 0.3, 0.02] }\n" +
          lamp("free", "kind = 'point'\nat = [0, 0.5, 2]\noutput = '100 cd'\n") +
          lamp("hidden", "kind = 'point'\nat = [1, 0, 2]\noutput = '100 cd'\n") +
          lamp("below", "kind = 'point'\nat = [0, 0, -1]\noutput = '100 cd'\n") +
          lamp("other", "kind = 'point'\nat = [0, 0, 2]\noutput = '9 cd'\nonly = ['shelf']\n") +
          lamp("dark", "kind = 'point'\nat = [0, 0, 2]\noutput = '9 cd'\non = false\n") +
          lamp("aside",
               "kind = 'spot'\nat = [0, 2, 2]\naim = [0, 9, 0]\noutput = '9 cd'\nbeam = '10 "
               "deg'\nfield = '20 deg'\n") +
          lamp("beside",
               "kind = 'disk'\nradius = '5 cm'\nat = [0, 2, 2]\naim = [0, 2, 0]\noutput = '9 "
               "cd'\nspread = '20 deg'\n") +
          lamp("short",
               "kind = 'sphere'\nradius = '2 cm'\nat = [0, 0.3, 2]\noutput = '9 cd'\nrange = "
               "['10 cm', '40 cm']\n") +
          lamp("masked",
               "kind = 'spot'\nat = [0, 0.4, 2]\naim = [0.3, 0, 0]\noutput = '9 cd'\nbeam = '60 "
               "deg'\nfield = '80 deg'\ngobo = { pattern = 'dots', count = 1, open = 0.05, size "
               "= ['30 cm', '30 cm'], at = '1 m', surround = 'dark' }\n"));
  CHECK(light_in(r, "free")["why"] == "arrives");
  const nlohmann::json hidden = light_in(r, "hidden");
  CHECK(hidden["why"] == "blocked");
  CHECK(hidden["by"] == "shelf");
  CHECK(hidden["blocked"] == 1);
  // The underside of the shelf, on the line to the lamp.
  CHECK(hidden["at"][0].get<double>() == Approx(0.495).margin(0.02));
  CHECK(hidden["at"][2].get<double>() == Approx(0.99).margin(0.02));
  CHECK(light_in(r, "below")["why"] == "behind");
  CHECK(light_in(r, "other")["why"] == "not-linked");
  CHECK(light_in(r, "dark")["why"] == "off");
  CHECK(light_in(r, "aside")["why"] == "faces-away");
  CHECK(light_in(r, "beside")["why"] == "outside-beam");
  CHECK(light_in(r, "short")["why"] == "beyond-range");
  CHECK(light_in(r, "masked")["why"] == "in-gobos-dark");
  CHECK(light_in(r, "free")["haze_takes"] == 0);
  // In words.
  const ProgramRun words =
      run_program({"why", dir.path("r.toml"), "--at", "20,20", "--samples", "2048"});
  CHECK(words.out.find("hidden: is blocked by shelf at (0.4") != std::string::npos);
  CHECK(words.out.find("below: stands behind") != std::string::npos);
}

TEST_CASE("what haze takes of a lamp on its way is told", "[cli][why][haze]") {
  const TemporaryFolder dir;
  const nlohmann::json r =
      why(dir,
          kFloorForWhy + lamp("globe", "kind = 'point'\nat = [0, 0, 2]\noutput = '100 cd'\n") +
              "[[haze]]\nname = 'mist'\ninside = 'everywhere'\nextinction = '0.5 /m'\n");
  const nlohmann::json arrival = light_in(r, "globe");
  CHECK(arrival["why"] == "arrives");
  // The pixel shows the floor near its middle, 2 m below.
  CHECK(arrival["haze_takes"].get<double>() == Approx(1 - std::exp(-0.5 * 2)).margin(0.03));
  CHECK(arrival["text"].get<std::string>().find("; haze takes 6") != std::string::npos);
}

TEST_CASE("mirrors, sheets and haze are steps of their own", "[cli][why]") {
  const TemporaryFolder dir;
  const std::string ball = "kind = 'sphere'\nradius = 0.1\nat = [0, 0, 2]\noutput = '800 lm'\n";
  // A mirror in place of the floor shows the lamp.
  const nlohmann::json mirrored = why(
      dir,
      "jovilux = 1\n[render]\nsize = [41, 41]\n[[camera]]\nname = 'c'\nat = [0, -2, 2]\nlook_at = "
      "[0, -1, 0]\nfield_of_view = 4\n[[material]]\nname = 'silver'\nkind = 'metal'\ncolor = [0.9, "
      "0.9, 0.9]\nroughness = 0\n[[object]]\nname = 'mirror'\nmaterial = 'silver'\nshape = { kind "
      "= "
      "'plane' }\n" +
          lamp("ball", ball));
  REQUIRE(!mirrored["ways"].empty());
  CHECK(mirrored["ways"][0]["steps"][0]["kind"] == "mirrored by");
  CHECK(mirrored["ways"][0]["length_m"].get<double>() ==
        Approx(2 * std::sqrt(5.0) - 0.1).margin(0.1));
  // A sheet under the lamp lets light through.
  const nlohmann::json sheet = why(
      dir,
      kFloorForWhy +
          "[[material]]\nname = 'paper'\nkind = 'translucent'\ncolor = [0.3, 0.3, 0.3]\n"
          "transmittance = 0.5\n[[object]]\nname = 'sheet'\nmaterial = 'paper'\nat = [0, 0.4, 1]\n"
          "shape = { kind = 'box', size = [1, 0.6, 0.005] }\n" +
          lamp("ball", "kind = 'sphere'\nradius = 0.05\nat = [0, 0.4, 1.5]\noutput = '800 lm'\n"));
  bool through = false;
  for (const nlohmann::json& way : sheet["ways"]) {
    through = through || (way["steps"].size() >= 2 && way["steps"][0]["object"] == "sheet" &&
                          way["steps"][0]["kind"] == "through");
  }
  CHECK(through);
  CHECK(light_in(sheet, "ball")["blocked"].get<double>() > 0.5);
  // Haze scatters.
  const nlohmann::json hazy =
      why(dir,
          kFloorForWhy + "[[haze]]\nname = 'mist'\ninside = 'everywhere'\nextinction = '0.3 /m'\n" +
              lamp("ball", ball));
  double scattered = 0, sum = 0;
  for (const nlohmann::json& way : hazy["ways"]) {
    sum += way["luminance"].get<double>();
    for (const nlohmann::json& step : way["steps"]) {
      if (step["kind"] == "scattered in") {
        CHECK(step["object"] == "mist");
        scattered += way["share"].get<double>();
        break;
      }
    }
  }
  CHECK(scattered > 0.1);
  CHECK(sum == Approx(hazy["luminance"].get<double>()).epsilon(1e-6));
}

TEST_CASE("ways add up to what the picture shows, whatever the threads", "[cli][why]") {
  const TemporaryFolder dir;
  const std::string room =
      kFloorForWhy +
      "[[object]]\nname = 'wall'\nmaterial = 'gray'\nat = [0, 0.6, 0.5]\n"
      "shape = { kind = 'box', size = [2, 0.05, 1] }\n"
      "[[array]]\nname = 'row'\nof = 'bead'\noutput = 'each'\ncount = 3\nalong = { path = 'line', "
      "from = [-0.5, 0, 1], to = [0.5, 0, 1] }\n" +
      lamp("bead", "kind = 'sphere'\nat = [0, 0, 0]\nradius = 0.03\noutput = '50 lm'\n") +
      lamp("key",
           "kind = 'rect'\nsize = [0.3, 0.2]\nat = [0.5, -0.6, 1.5]\naim = [0, 0, 0]\noutput "
           "= '500 lm'\n");
  const std::string rig = dir.write("room.toml", room);
  const ProgramRun check = run_program({"check", rig});
  INFO(check.out);
  REQUIRE(check.status == 0);
  REQUIRE(
      run_program({"render", rig, "-o", dir.path("out"), "--samples", "512", "--quiet"}).status ==
      0);
  std::vector<nlohmann::json> reports;
  for (const char* threads : {"1", "2", "3"}) {
    const ProgramRun run = run_program({"why",
                                        dir.path("out"),
                                        "--box",
                                        "16,16,9,9",
                                        "--samples",
                                        "32768",
                                        "--threads",
                                        threads,
                                        "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    reports.push_back(run.json());
  }
  CHECK(reports[0] == reports[1]);
  CHECK(reports[0] == reports[2]);
  const nlohmann::json& r = reports[0];
  double sum = 0, noise = 0;
  bool over_wall = false;
  for (const nlohmann::json& way : r["ways"]) {
    sum += way["luminance"].get<double>();
    noise += way["noise_share"].get<double>();
    CHECK((way["light"] == "row" || way["light"] == "key"));  // copies are one light
    over_wall = over_wall || (way["steps"].size() == 2 && way["steps"][0]["object"] == "wall" &&
                              way["steps"][1]["object"] == "floor");
  }
  CHECK(over_wall);
  CHECK(sum == Approx(r["luminance"].get<double>()).epsilon(1e-6));
  CHECK(noise == Approx(1));
  const double own = r["luminance"],
               error = std::hypot(r["standard_error"].get<double>(),
                                  r["picture"]["standard_error"].get<double>());
  CHECK(std::abs(own - r["picture"]["luminance"].get<double>()) < 5 * error + 1e-3 * own);
}

TEST_CASE("the light of a single pixel at an edge is what the picture shows there", "[cli][why]") {
  // The pixel lies on black floor beside a lamp's face: what its filter takes of the face is its
  // light. Pixels by their squares alone would have none.
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("edge.toml",
                "jovilux = 1\n[render]\nsize = [40, 40]\nsamples = 1024\n"
                "[[camera]]\nname = 'c'\nat = [0, -2, 0]\nlook_at = [0, 0, 0]\n"
                "field_of_view = 53.13\n" +
                    lamp("face",
                         "kind = 'rect'\nat = [1, 0, 0]\naim = [1, -5, 0]\nsize = [2, 4]\n"
                         "output = '100 cd/m2'\n"));
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet"}).status == 0);
  const auto at = [&](int x) {
    const ProgramRun run = run_program(
        {"why", dir.path("out"), "--at", fmt::format("{},20", x), "--samples", "16384", "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run.json();
  };
  // The edge lies between pixels 19 and 20: each takes an eighth of its filter from beyond it.
  const nlohmann::json dark = at(19), bright = at(20);
  CHECK(dark["luminance"].get<double>() == Approx(12.5).epsilon(0.02));
  CHECK(bright["luminance"].get<double>() == Approx(87.5).epsilon(0.01));
  for (const nlohmann::json& r : {dark, bright}) {
    CHECK(r["luminance"].get<double>() ==
          Approx(r["picture"]["luminance"].get<double>()).epsilon(0.03));
  }
}

TEST_CASE("the ways are drawn over the picture and in plan", "[cli][why][figures]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml",
      kFloorForWhy + lamp("bulb", "kind = 'point'\nat = [0.3, 0.2, 1]\noutput = '100 cd'\n"));
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet"}).status == 0);
  const ProgramRun run = run_program(
      {"why", dir.path("out"), "--at", "20,20", "-o", dir.path("w"), "--samples", "2048"});
  INFO(run.err << run.out);
  REQUIRE(run.status == 0);
  const auto image = load_image(dir.path("w/ways.png"), false);
  REQUIRE(image);
  CHECK(image->width == 1280);
  CHECK(image->height == 800);
  // The strongest way has the first curve's color: over the picture, in plan, in the list.
  std::array<int, 3> found{};
  for (std::size_t i = 0; i < image->rgb.size() / 3; ++i) {
    const int x = static_cast<int>(i % 1280), y = static_cast<int>(i / 1280);
    const float* p = &image->rgb[3 * i];
    const bool blue = std::abs(p[0]) < 0.02f && std::abs(p[1] - 0x72 / 255.0f) < 0.02f &&
                      std::abs(p[2] - 0xb2 / 255.0f) < 0.02f;
    if (blue) {
      ++found[y > 480 ? 2 : x > 760 ? 1 : 0];
    }
  }
  CHECK(found[0] > 20);
  CHECK(found[1] > 20);
  CHECK(found[2] > 100);
  // A file that is there is kept; a pixel outside is refused.
  CHECK(run_program({"why", dir.path("out"), "--at", "20,20", "-o", dir.path("w")}).status == 2);
  CHECK(run_program({"why", dir.path("out"), "--at", "41,20"}).status == 2);
  CHECK(run_program({"why", dir.path("out")}).status == 2);
}

TEST_CASE("each of the demo's wrong lamps is explained in a line", "[cli][why]") {
  const auto lines = [](const std::vector<std::string>& more) {
    std::vector<std::string> words = {"why",
                                      JOVILUX_SOURCE "/demo/orchid-house.toml",
                                      "--camera",
                                      "bench",
                                      "--variant",
                                      "mistakes",
                                      "--set",
                                      "render.size=[96, 54]",
                                      "--at",
                                      "36,36",
                                      "--samples",
                                      "1024",
                                      "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    return run_program(words).out;
  };
  const std::string clear = lines({"--set", "haze.mist.extinction=0 /m"});
  INFO(clear);
  CHECK(clear.find("indicator: is blocked by pot-1 at") != std::string::npos);
  CHECK(clear.find("wall-spot: faces away from there") != std::string::npos);
  CHECK(clear.find("lantern: ends 0.04 m from it; the place lies at") != std::string::npos);
  const std::string thick = lines({});
  INFO(thick);
  CHECK(thick.find("haze takes 100 % of the rest") != std::string::npos);
}
