// The built program's rules: exit statuses, JSON, files, help.
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/judge/rendered_image.h"

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <numeric>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kSmall = R"(jovilux = 1
[[camera]]
name = "front"
at = [0, -2, 1]
look_at = [0, 0, 0.3]
stop = 4
shutter = "1/30 s"
iso = 400
[[camera]]
name = "above"
at = [0, 0, 3]
look_at = [0, 0, 0]
[look]
exposure = "camera"
[[object]]
name = "floor"
shape = { kind = "plane" }
[[light]]
name = "lamp"
kind = "disk"
at = [0.5, 0, 1.5]
aim = [0, 0, 0]
radius = "10 cm"
output = "800 lm"
white = "2700 K"
[[light]]
name = "window"
kind = "rect"
at = [-2, 0, 1]
aim = [0, 0, 0]
size = [1, 1]
output = "200 cd/m2"
[[variant]]
name = "dim"
set = { "light.lamp.dimmer" = 0.5, "light.window.on" = false }
[render]
size = [48, 32]
samples = 16
)";

}  // namespace

TEST_CASE("help is there for a stranger, with working order and examples", "[cli]") {
  const ProgramRun all = run_program({"--help"});
  CHECK(all.status == 0);
  std::size_t last = 0;
  for (const char* verb : {"demo", "new", "check", "convert", "render", "read"}) {
    const auto at = all.out.find(std::string("  ") + verb + " ");
    REQUIRE(at != std::string::npos);
    CHECK(at > last);
    last = at;
    const ProgramRun one = run_program({verb, "--help"});
    CHECK(one.status == 0);
    CHECK(one.out.find("Example:\n  jovilux " + std::string(verb)) != std::string::npos);
    CHECK(one.err.empty());
  }
  CHECK(run_program({"--version"}).out.starts_with("jovilux 0."));
}

TEST_CASE("wrong arguments are refused with what to do", "[cli]") {
  const auto says = [](const std::vector<std::string>& words, const std::string& text) {
    const ProgramRun r = run_program(words);
    INFO(r.err);
    CHECK(r.status == 2);
    CHECK(r.out.empty());
    CHECK(r.err.find(text) != std::string::npos);
  };
  says({}, "jovilux VERB");
  says({"rendr"}, "did you mean \"render\"?");
  says({"render"}, "missing RIG");
  says({"render", "x.toml"}, "missing -o DIR");
  says({"render", "x.toml", "-o"}, "-o needs a value: -o DIR");
  says({"render", "x.toml", "--samples"}, "--samples needs a value: --samples N");
  // Values may begin with a dash or hold commas, and follow a short option without a space.
  says({"render", "x.toml", "-oy", "--samples", "-3"}, "--samples: found \"-3\"");
  says({"render", "x.toml", "-oy/z", "--size=1,5"}, "file not found");
  says({"render", "--", "x.toml", "-oy"}, "unexpected argument \"-oy\"");
  says({"render", "x.toml", "-o", "y", "--sampels", "3"}, "did you mean \"--samples\"?");
  says({"render", "x.toml", "-o", "y", "--samples", "3.5"}, "whole number");
  says({"render", "x.toml", "-o", "y", "--threads", "0"}, "expected a number from 1");
  says({"render", "x.toml", "z.toml", "-o", "y"}, "unexpected argument \"z.toml\"");
  says({"check", "none.toml"}, "file not found");
  says({"convert", "12 lmm"}, "did you mean \"lm\"?");
  says({"convert", "100 cd/m2"}, "a luminance needs a surface");
  says({"convert", "10 lm", "--kind", "disk"}, "a disk needs --radius");
  says({"read", "none.exr"}, "file not found");
}

TEST_CASE("new writes a rig that checks and renders at once, and does not write over one",
          "[cli]") {
  const TemporaryFolder dir;
  CHECK(run_program({"new", dir.path("a")}).status == 0);
  const std::string rig = dir.path("a/rig.toml");
  const ProgramRun check = run_program({"check", rig, "--strict"});
  INFO(check.out);
  CHECK(check.status == 0);
  CHECK(
      run_program(
          {"render", rig, "-o", dir.path("a/out"), "--size", "32x20", "--samples", "4", "--quiet"})
          .status == 0);
  dir.write("a/rig.toml", "mine");
  CHECK(run_program({"new", dir.path("a")}).status == 2);
  const ProgramRun file = run_program({"new", dir.path("first.toml")});
  CHECK(file.status == 2);
  CHECK(file.err.find("first.toml names a file") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(dir.path("first.toml")));
  CHECK(dir.read("a/rig.toml") == "mine");
  CHECK(run_program({"new", dir.path("a"), "--force"}).status == 0);
}

TEST_CASE("render writes its four files and the same bits for any number of threads", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const ProgramRun one =
      run_program({"render", rig, "-o", dir.path("one"), "--threads", "1", "--json", "--quiet"});
  INFO(one.err);
  REQUIRE(one.status == 0);
  CHECK(one.err.empty());
  for (const char* file : {"image.exr", "view.png", "stats.json", "rig.resolved.toml"}) {
    CHECK(std::filesystem::exists(dir.path(std::string("one/") + file)));
  }
  for (const char* threads : {"2", "3"}) {
    REQUIRE(run_program({"render", rig, "-o", dir.path("more"), "--threads", threads, "--quiet"})
                .status == 0);
    CHECK(dir.read("one/view.png") == dir.read("more/view.png"));
    CHECK(dir.read("one/image.exr") == dir.read("more/image.exr"));
  }
  const auto stats = one.json();
  CHECK(stats["version"] == 1);
  CHECK(stats["width"] == 48);
  CHECK(stats["samples_per_pixel"] == 16);
  CHECK(stats["stopped_by"] == "samples");
  CHECK(stats["noise"]["p95"].get<double>() > stats["noise"]["median"].get<double>());
  CHECK(stats["rays"]["camera"] == 48 * 32 * 16);
  CHECK(stats["lights"].size() == 2);
  for (const char* key :
       {"rig", "seed", "threads", "wall_s", "cpu_s", "peak_memory_bytes", "mean_luminance_cd_m2"}) {
    CHECK(stats.contains(key));
  }
}

TEST_CASE("image.exr holds the layers, and they sum to the picture exactly", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("o"),
                       "--set",
                       "render.layers=\"lights+parts\"",
                       "--quiet"})
              .status == 0);
  auto exr = ExrReader::open(dir.path("o/image.exr"));
  REQUIRE(exr);
  CHECK(exr->header().white_luminance == 1);
  CHECK(exr->header().texts.at("jovilux:rig").find("light") != std::string::npos);
  for (const char* name : {"R",
                           "G",
                           "B",
                           "variance.V",
                           "light.lamp.R",
                           "light.lamp.direct.R",
                           "light.lamp.bounce.B",
                           "light.window.G",
                           "albedo.R",
                           "normal.X",
                           "depth.Z",
                           "seen.V",
                           "object.id"}) {
    INFO(name);
    CHECK(exr->has(name));
  }
  const auto data = exr->read(
      {"G", "light.lamp.G", "light.window.G", "light.lamp.direct.G", "light.lamp.bounce.G"},
      0,
      0,
      48,
      32);
  REQUIRE(data);
  bool exact = true;
  for (std::size_t i = 0; i < (*data)[0].size(); ++i) {
    exact = exact && (*data)[0][i] == (*data)[1][i] + (*data)[2][i] &&
            (*data)[1][i] == (*data)[3][i] + (*data)[4][i];
  }
  CHECK(exact);
}

TEST_CASE("read gives what the layers hold, by point, box and line", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--quiet"}).status == 0);
  const ProgramRun r = run_program({"read",
                                    dir.path("o/image.exr"),
                                    "--at",
                                    "24,20",
                                    "--box",
                                    "10,10,4,4",
                                    "--line",
                                    "0,0,9,0",
                                    "--json"});
  REQUIRE(r.status == 0);
  const auto readings = r.json()["readings"];
  REQUIRE(readings.size() == 12);
  const auto& p = readings[0];
  CHECK(p["x"] == 24);
  const double sum = p["layers"]["lamp"]["luminance_cd_m2"].get<double>() +
                     p["layers"]["window"]["luminance_cd_m2"].get<double>();
  CHECK(p["luminance_cd_m2"].get<double>() == Approx(sum).epsilon(1e-6));
  const auto rgb = p["rgb"];
  CHECK(p["luminance_cd_m2"].get<double>() ==
        Approx(0.2126 * rgb[0].get<double>() + 0.7152 * rgb[1].get<double>() +
               0.0722 * rgb[2].get<double>())
            .epsilon(1e-3));
  CHECK(p["ev100"].get<double>() ==
        Approx(std::log2(p["luminance_cd_m2"].get<double>() * 8)).epsilon(1e-9));
  CHECK(p["standard_error_cd_m2"].get<double>() > 0);
  CHECK(p["clipped"].is_boolean());
  CHECK(run_program({"read", dir.path("o"), "--at", "24,20"}).out.find("lamp") !=
        std::string::npos);
  const ProgramRun outside = run_program({"read", dir.path("o"), "--at", "48,0"});
  CHECK(outside.status == 2);
  CHECK(outside.err.find("x runs from 0 to 47") != std::string::npos);
}

TEST_CASE("variants, overrides and cameras change what they name", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const auto lamp = [&](std::vector<std::string> more) {
    more.insert(more.begin(), {"render", rig, "-o", dir.path("o"), "--json", "--quiet"});
    const ProgramRun r = run_program(more);
    REQUIRE(r.status == 0);
    return r.json()["lights"];
  };
  // Lights are chosen in proportion to their levels: other levels, other samples.
  constexpr double kNoise = 0.05;
  const double full = lamp({})[0]["mean_luminance_cd_m2"];
  const auto dim = lamp({"--variant", "dim"});
  CHECK(dim[0]["mean_luminance_cd_m2"].get<double>() == Approx(full / 2).epsilon(kNoise));
  CHECK(dim[1]["mean_luminance_cd_m2"] == 0);
  CHECK(lamp({"--set", "light.lamp.output=1600 lm"})[0]["mean_luminance_cd_m2"].get<double>() ==
        Approx(2 * full).epsilon(kNoise));
  CHECK(lamp({"--camera", "above"})[0]["mean_luminance_cd_m2"].get<double>() != Approx(full));
  CHECK(dir.read("o/rig.resolved.toml").find("800 lm") != std::string::npos);
  CHECK(run_program({"render", rig, "-o", dir.path("o"), "--camera", "abov"}).status == 2);
  CHECK(run_program({"render", rig, "-o", dir.path("o"), "--variant", "dimm"})
            .err.find("did you mean \"dim\"?") != std::string::npos);
}

TEST_CASE("results of another rig are not written over without --force", "[cli]") {
  const TemporaryFolder dir;
  const std::string a = dir.write("a.toml", kSmall),
                    b = dir.write("b.toml",
                                  kSmall +
                                      "[[light]]\nname='more'\nkind="
                                      "'point'\nat=[0,0,1]\noutput='5 "
                                      "lm'\n");
  const std::vector<std::string> quick = {"--samples", "1", "--quiet"};
  const auto run = [&](const std::string& rig, bool force) {
    std::vector<std::string> words = {
        "render", rig, "-o", dir.path("o"), "--samples", "1", "--quiet"};
    if (force) {
      words.emplace_back("--force");
    }
    return run_program(words);
  };
  CHECK(run(a, false).status == 0);
  CHECK(run(a, false).status == 0);  // its own results are its to replace
  const std::string before = dir.read("o/stats.json");
  const ProgramRun refused = run(b, false);
  CHECK(refused.status == 2);
  CHECK(refused.err.find("--force") != std::string::npos);
  CHECK(dir.read("o/stats.json") == before);
  CHECK(run(b, true).status == 0);
}

TEST_CASE("a picture of few samples says that its noise is a guess", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const std::string few = "fewer than 8 samples a pixel";
  const auto rendered = [&](const std::string& samples) {
    return run_program(
        {"render", rig, "-o", dir.path("o" + samples), "--samples", samples, "--quiet"});
  };
  CHECK(rendered("4").out.find(few) != std::string::npos);
  CHECK(rendered("8").out.find(few) == std::string::npos);
  CHECK(run_program({"noise", dir.path("o4")}).out.find(few) != std::string::npos);
  CHECK(run_program({"noise", dir.path("o8")}).out.find(few) == std::string::npos);
}

TEST_CASE("Ctrl-C saves what is finished and says so", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  // Without learning, which takes seconds before half a million samples and finishes no pixel.
  const ProgramRun r = run_program({"render",
                                    rig,
                                    "-o",
                                    dir.path("o"),
                                    "--samples",
                                    "500000",
                                    "--set",
                                    "render.guiding=false",
                                    "--json",
                                    "--quiet"},
                                   0,
                                   4000);
  CHECK(r.status == 3);
  CHECK(r.json()["stopped_by"] == "signal");
  CHECK(r.json()["samples_per_pixel"].get<double>() > 0);
  CHECK(run_program({"read", dir.path("o"), "--at", "24,20"}).status == 0);
  for (const std::string& name : dir.files()) {
    CHECK(name.find(".tmp") == std::string::npos);
  }
}

TEST_CASE("noise and time limits end a render and are told in its statistics", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const auto clean = run_program({"render",
                                  rig,
                                  "-o",
                                  dir.path("o"),
                                  "--set",
                                  "render.samples=100000",
                                  "--noise",
                                  "5 %",
                                  "--json",
                                  "--quiet"})
                         .json();
  CHECK(clean["stopped_by"] == "noise");
  CHECK(clean["noise"]["p95"].get<double>() <= 0.05);
  const auto timed = run_program({"render",
                                  rig,
                                  "-o",
                                  dir.path("o"),
                                  "--samples",
                                  "1000000",
                                  "--time-limit",
                                  "500 ms",
                                  "--json",
                                  "--quiet"})
                         .json();
  CHECK(timed["stopped_by"] == "time");
  CHECK(timed["wall_s"].get<double>() < 3);
  // Where the samples went, by which noise forecasts what more of them bring.
  const auto picture = load_rendered(dir.path("o"), false, false);
  REQUIRE(picture);
  REQUIRE(picture->samples.size() == picture->pixels());
  const auto [least, most] = std::minmax_element(picture->samples.begin(), picture->samples.end());
  CHECK(*least < *most);
  CHECK(static_cast<double>(*most) == timed["sampling"]["most"].get<double>());
  const double sum = std::accumulate(picture->samples.begin(), picture->samples.end(), 0.0);
  CHECK(sum / static_cast<double>(picture->pixels()) ==
        Approx(timed["samples_per_pixel"].get<double>()));
}

TEST_CASE("a preview is there at once, as large as the picture, with a small image below it",
          "[cli][preview]") {
  const TemporaryFolder dir;
  REQUIRE(run_program({"new", dir.path("rig")}).status == 0);
  const ProgramRun run = run_program({"render",
                                      dir.path("rig/rig.toml"),
                                      "-o",
                                      dir.path("out"),
                                      "--preview",
                                      "--size",
                                      "640x360",
                                      "--json",
                                      "--samples",
                                      "60000"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto j = run.json();
  // On a machine that has other work it may be smaller still.
  const int width = j["width"], height = j["height"];
  CHECK(width <= 320);
  CHECK(width >= 48);
  CHECK(std::abs(width * 9 - height * 16) <= 16);
  CHECK(j["stopped_by"] == "time");
  CHECK(j["wall_s"].get<double>() < 2);
  const auto png = load_image(dir.path("out/view.png"));
  REQUIRE(png);
  CHECK(png->width == 640);
  CHECK(png->height == 360);
  CHECK(run_program({"read", dir.path("out"), "--at", fmt::format("{},{}", width - 1, height - 1)})
            .status == 0);
  CHECK(run_program({"render",
                     dir.path("rig/rig.toml"),
                     "-o",
                     dir.path("two"),
                     "--preview",
                     "--time-limit",
                     "5"})
            .status == 2);
}

TEST_CASE("check reports lights in all units and tells errors from warnings by its status",
          "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const ProgramRun good = run_program({"check", rig, "--json"});
  CHECK(good.status == 0);
  const auto lamp = good.json()["lights"][0];
  CHECK(lamp["name"] == "lamp");
  CHECK(lamp["kind"] == "disk");
  CHECK(lamp["flux_lm"].get<double>() == Approx(800));
  CHECK(lamp["peak_cd"].get<double>() == Approx(800 / 3.14159265).epsilon(1e-6));
  CHECK(lamp["luminance_cd_m2"].get<double>() ==
        Approx(800 / (3.14159265 * 3.14159265 * 0.01)).epsilon(1e-6));
  CHECK(lamp["cct_k"].get<double>() == Approx(2700).epsilon(1e-3));
  CHECK(good.json()["errors"].empty());

  const ProgramRun warned =
      run_program({"check", rig, "--set", "light.lamp.falloff=none", "--json"});
  CHECK(warned.status == 0);
  CHECK(warned.json()["warnings"][0]["code"] == "not-physical");
  CHECK(warned.json()["lights"][0]["cheats"][0]["key"] == "falloff");
  CHECK(run_program({"check", rig, "--set", "light.lamp.falloff=none", "--strict"}).status == 1);

  const ProgramRun wrong =
      run_program({"check", dir.write("w.toml", kSmall + "smaples = 3\n"), "--json"});
  CHECK(wrong.status == 1);
  const auto error = wrong.json()["errors"][0];
  CHECK(error["line"] == 39);
  CHECK(error["column"] == 1);
  CHECK(error["address"] == "render.smaples");
  CHECK(error["hint"] == "did you mean \"samples\"?");
}

TEST_CASE("convert prints the same numbers as JSON and as a table", "[cli]") {
  const auto j = run_program({"convert", "1000 lm", "--at", "2m", "--json"}).json();
  CHECK(j["intensity_cd"].get<double>() == Approx(79.5775).epsilon(1e-5));
  CHECK(j["illuminance_lx"][0]["value"].get<double>() == Approx(19.8944).epsilon(1e-5));
  CHECK(j["luminance_cd_m2"].is_null());
  CHECK(j["power_w"].is_null());
  const auto w =
      run_program({"convert", "18 W @ 105 lm/W", "--kind", "rect", "--size", "60cmx30cm", "--json"})
          .json();
  CHECK(w["flux_lm"].get<double>() == Approx(1890));
  CHECK(w["power_w"].get<double>() == Approx(18));
  const auto sun = run_program({"convert", "100 klx", "--kind", "sun", "--json"}).json();
  CHECK(sun["luminance_cd_m2"].get<double>() == Approx(1.4713097e9).epsilon(1e-6));
  CHECK(sun["flux_lm"].is_null());
  CHECK(run_program({"convert", "1000 lm", "--at", "2m"}).out.find("19.89") != std::string::npos);
}

TEST_CASE("gels and arrays are told by check, and single copies answer to --set", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -2, 1]
look_at = [0, 0, 0]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[gel]]
name = "half"
points = [[300, 0.5], [900, 0.5]]
[[light]]
name = "lamp"
kind = "point"
at = [0, 0, 0.5]
output = "900 lm"
gel = "half"
[[array]]
name = "row"
of = "lamp"
count = 3
along = { path = "line", from = [-1, 0, 0], to = [1, 0, 0] }
output = "total"
[render]
size = [16, 16]
samples = 4
)");
  const auto lights = run_program({"check", rig, "--json"}).json()["lights"];
  REQUIRE(lights.size() == 3);
  CHECK(lights[1]["name"] == "row[1]");
  CHECK(lights[1]["flux_lm"].get<double>() == Approx(300));
  CHECK(lights[1]["gel_transmittance"].get<double>() == Approx(0.5));
  CHECK(lights[1]["subject"]["illuminance_lx"].get<double>() ==
        Approx(300 / (4 * 3.14159265) / 0.25 / 2).epsilon(1e-4));
  CHECK(run_program({"check", rig}).out.find("row[0..2]") != std::string::npos);
  const auto dimmed =
      run_program({"check", rig, "--set", "light.row[1].dimmer=0.25", "--json"}).json()["lights"];
  CHECK(dimmed[1]["dimmer"] == 0.25);
  CHECK(dimmed[0]["dimmer"] == 1);
  CHECK(run_program({"check", rig, "--set", "light.row[3].dimmer=0.25"}).status == 1);
  const auto stats = run_program({"render", rig, "-o", dir.path("o"), "--json", "--quiet"}).json();
  REQUIRE(stats["lights"].size() == 1);
  CHECK(stats["lights"][0]["name"] == "row");
  CHECK(stats["lights"][0]["share"].get<double>() == Approx(1).epsilon(1e-5));
}

TEST_CASE("the resolved rig renders the same picture", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("a"),
                       "--variant",
                       "dim",
                       "--set",
                       "light.lamp.white=3200 K",
                       "--quiet"})
              .status == 0);
  REQUIRE(run_program({"render", dir.path("a/rig.resolved.toml"), "-o", dir.path("b"), "--quiet"})
              .status == 0);
  CHECK(dir.read("a/view.png") == dir.read("b/view.png"));
}

TEST_CASE("seeds change the noise and not the picture", "[cli]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kSmall);
  const auto mean = [&](const std::string& seed) {
    return run_program({"render",
                        rig,
                        "-o",
                        dir.path("o"),
                        "--set",
                        "render.seed=" + seed,
                        "--json",
                        "--quiet"})
        .json()["mean_luminance_cd_m2"]
        .get<double>();
  };
  const double one = mean("1"), two = mean("2");
  CHECK(one != two);
  CHECK(one == Approx(two).epsilon(0.05));
  CHECK(one == mean("1"));
}

TEST_CASE("the demo's rig is sound and its mistakes are caught", "[cli]") {
  const std::string rig = JOVILUX_SOURCE "/demo/orchid-house.toml";
  const ProgramRun sound = run_program({"check", rig, "--strict"});
  INFO(sound.out);
  CHECK(sound.status == 0);
  for (const char* variant : {"dawn", "work-light", "night-check"}) {
    CHECK(run_program({"check", rig, "--variant", variant}).status == 0);
  }
  const auto mistakes = run_program({"check", rig, "--variant", "mistakes", "--json"}).json();
  for (const char* code : {"light-inside-object",
                           "faces-nothing",
                           "divides-by-zero",
                           "not-physical",
                           "range-holds-nothing",
                           "luminance-beyond-real",
                           "high-albedo"}) {
    INFO(code);
    const auto& w = mistakes["warnings"];
    CHECK(std::any_of(w.begin(), w.end(), [&](const auto& p) { return p["code"] == code; }));
  }
}

TEST_CASE("a preview of a slow scene is smaller, and whole", "[cli][preview]") {
  const TemporaryFolder dir;
  // Uneven haze that takes long to march, at a size that two seconds do not fill.
  const std::string rig = dir.write("r.toml", R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -3, 1]
look_at = [0, 0, 1]
field_of_view = 50
[[object]]
name = "floor"
shape = { kind = "plane" }
[[haze]]
name = "mist"
inside = "everywhere"
visibility = "6 m"
clumps = { size = "4 cm", depth = 0.9 }
[[light]]
name = "lamp"
kind = "sphere"
at = [0.5, 1, 1.5]
radius = "4 cm"
output = "2000 lm"
[render]
size = [640, 360]
samples = 64
bounces = 8
)");
  const ProgramRun run =
      run_program({"render", rig, "-o", dir.path("o"), "--preview", "--threads", "1", "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  CHECK(run.json()["width"].get<int>() <= 320);
  CHECK(run.json()["sampling"]["least"].get<double>() >= 1);
  const auto png = load_image(dir.path("o/view.png"));
  REQUIRE(png);
  CHECK(png->width == 640);
  int black = 0;
  for (std::size_t i = 0; i < png->rgb.size(); i += 3) {
    black += png->rgb[i] + png->rgb[i + 1] + png->rgb[i + 2] == 0 ? 1 : 0;
  }
  // No bands: of a machine that is busy, a pixel whose single sample found nothing may be black.
  CHECK(black < 0.01 * 640 * 360);
}
