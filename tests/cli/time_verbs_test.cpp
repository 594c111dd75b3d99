// animate, watch, merge, resume, slices and mpirun, through the built program.
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/judge/rendered_image.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <functional>
#include <random>
#include <set>
#include <sstream>
#include <thread>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <sys/wait.h>
#include <unistd.h>

using namespace jovilux;
using namespace jovilux::test;
namespace fs = std::filesystem;

namespace {

const std::string kRoomForTimeVerbs = R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -3, 1.4]
look_at = [0, 0, 0.4]
field_of_view = 45
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "box"
shape = { kind = "box", size = [0.5, 0.5, 0.5] }
at = [0, 0.3, 0.25]
[[light]]
name = "lantern"
kind = "sphere"
radius = 0.05
at = [-0.8, 0, 1.2]
output = "300 lm"
white = "1900 K"
flicker = { wave = "flame", rate = "5 Hz", depth = "60 %", seed = 3 }
[[light]]
name = "panel"
kind = "rect"
size = [0.6, 0.6]
at = [1, -0.5, 1.6]
aim = [0, 0, 0]
output = "500 lm"
dimmer = { keys = [["0 s", 1], ["0.3 s", 0.25]] }
[look]
exposure = "EV 5"
[time]
frames = [1, 8]
rate = 24
[[meter]]
name = "desk"
kind = "illuminance"
at = [0, -0.4, 0.01]
)";
const std::string kSmallForTimeVerbs = "[render]\nsize = [64, 40]\nsamples = 64\nbounces = 3\n";

// Runs the program and kills it, unless it has ended, after that time. Whether it was killed.
bool run_and_kill(const std::vector<std::string>& words, int after_ms) {
  std::fflush(nullptr);
  const pid_t child = ::fork();
  if (child == 0) {
    std::vector<std::string> copy = words;
    std::vector<char*> argv = {const_cast<char*>(JOVILUX_PROGRAM)};
    for (std::string& w : copy) {
      argv.push_back(w.data());
    }
    argv.push_back(nullptr);
    if (std::freopen("/dev/null", "wb", stdout) == nullptr ||
        std::freopen("/dev/null", "wb", stderr) == nullptr) {
      ::_exit(126);
    }
    ::execv(JOVILUX_PROGRAM, argv.data());
    ::_exit(127);
  }
  int state = 0;
  for (int waited = 0; waited < after_ms; ++waited) {
    if (::waitpid(child, &state, WNOHANG) == child) {
      return false;
    }
    std::this_thread::sleep_for(std::chrono::milliseconds(1));
  }
  ::kill(child, SIGKILL);
  ::waitpid(child, &state, 0);
  return WIFSIGNALED(state);
}

double mean_of_for_time_verbs(const RenderedImage& image) {
  double sum = 0;
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    sum += image.luminance(i);
  }
  return sum / static_cast<double>(image.pixels());
}

RenderedImage image_at(const std::string& path) {
  auto image = load_rendered(path, true);
  REQUIRE(image);
  return std::move(*image);
}

// mpirun refuses root without these words.
ProgramRun run_ranks(int ranks, const std::vector<std::string>& words) {
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT", "1", 1);
  ::setenv("OMPI_ALLOW_RUN_AS_ROOT_CONFIRM", "1", 1);
  std::vector<std::string> all = {"--oversubscribe", "-n", std::to_string(ranks), JOVILUX_PROGRAM};
  all.insert(all.end(), words.begin(), words.end());
  return run_other("/usr/bin/mpirun", all);
}

}  // namespace

TEST_CASE("a clip keeps the white and the exposure that its middle shows", "[cli][animate]") {
  // The light goes from candle to sky: a white found for each frame would undo that.
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", R"(jovilux = 1
[render]
size = [16, 12]
samples = 8
bounces = 1
[look]
white_balance = "auto"
[time]
frames = [1, 3]
rate = 1
[[camera]]
name = "c"
at = [0, -3, 1]
look_at = [0, 0, 0]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[light]]
name = "lamp"
kind = "sphere"
radius = 0.1
at = [0, 0, 2]
output = "800 lm"
white = { keys = [["0 s", "2000 K"], ["2 s", "9000 K"]] }
)");
  for (const char* how : {"--exact", "--quiet"}) {
    const ProgramRun run =
        run_program({"animate", rig, "-o", dir.path("a"), "--quiet", how, "--force"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    std::set<std::string> whites;
    std::set<float> exposures;
    for (int frame = 1; frame <= 3; ++frame) {
      const auto exr = ExrReader::open(dir.path(fmt::format("a/frames/frame.{:04}.exr", frame)));
      REQUIRE(exr);
      whites.insert(exr->header().texts.at("jovilux:white"));
      exposures.insert(exr->header().numbers.at("jovilux:ev100"));
    }
    CHECK(whites.size() == 1);
    CHECK(exposures.size() == 1);
    // The frames themselves go from warm to cold.
    const auto red_over_blue = [&](int frame) {
      const auto view = load_image(dir.path(fmt::format("a/frames/frame.{:04}.png", frame)), false);
      REQUIRE(view);
      double red = 0, blue = 0;
      for (std::size_t i = 0; i < view->rgb.size(); i += 3) {
        red += static_cast<double>(view->rgb[i]);
        blue += static_cast<double>(view->rgb[i + 2]);
      }
      return red / blue;
    };
    CHECK(red_over_blue(1) > 1.2);
    CHECK(red_over_blue(3) < 0.95);
  }
}

TEST_CASE("frames from layers are frames rendered outright, within noise", "[cli][animate]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForTimeVerbs + kSmallForTimeVerbs);
  const ProgramRun layers = run_program({"animate", rig, "-o", dir.path("l"), "--quiet", "--json"});
  INFO(layers.err);
  REQUIRE(layers.status == 0);
  const auto j = layers.json();
  CHECK(j["from_layers"] == true);
  CHECK(j["frames"].size() == 8);
  CHECK(fs::exists(dir.path("l/clip.webp")));
  CHECK(fs::exists(dir.path("l/strip.png")));
  CHECK(fs::exists(dir.path("l/levels.png")));
  const ProgramRun exact =
      run_program({"animate", rig, "-o", dir.path("e"), "--quiet", "--json", "--exact"});
  REQUIRE(exact.status == 0);
  CHECK(exact.json()["from_layers"] == false);
  double scatter = 0;
  for (const char* frame : {"frame.0001.exr", "frame.0004.exr", "frame.0008.exr"}) {
    const RenderedImage a = image_at(dir.path(std::string("l/frames/") + frame)),
                        b = image_at(dir.path(std::string("e/frames/") + frame));
    double difference = 0, variance = 0;
    for (std::size_t i = 0; i < a.pixels(); ++i) {
      difference += a.luminance(i) - b.luminance(i);
      variance += 2.0 * b.variance[i];
    }
    INFO(frame << ": " << difference << " against " << std::sqrt(variance));
    CHECK(std::abs(difference) < 5 * std::sqrt(variance));
    scatter = std::max(
        scatter,
        std::sqrt(variance) / (mean_of_for_time_verbs(b) * static_cast<double>(b.pixels())));
  }
  CHECK(scatter < 0.04);
  // A frame is the sum of the base's layers times the levels that the table tells.
  const RenderedImage base = image_at(dir.path("l/layers")),
                      third = image_at(dir.path("l/frames/frame.0003.exr"));
  REQUIRE(base.layers.size() == 2);
  const auto& lights = j["lights"];
  std::vector<double> factor;
  for (std::size_t l = 0; l < 2; ++l) {
    double most = 0;
    for (const double v : lights[l]["levels"].get<std::vector<double>>()) {
      most = std::max(most, v);
    }
    factor.push_back(lights[l]["levels"][2].get<double>() / std::min(1.0, most));
  }
  double off = 0;
  for (std::size_t i = 0; i < base.rgb.size(); ++i) {
    off = std::max(off,
                   std::abs(third.rgb[i] - factor[0] * base.layers[0].rgb[i] -
                            factor[1] * base.layers[1].rgb[i]) /
                       (1e-3 + third.rgb[i]));
  }
  CHECK(off < 1e-5);
}

TEST_CASE("levels over time: figures of each light, at a meter, integrated over the shutter",
          "[cli][animate][flicker]") {
  const TemporaryFolder dir;
  const std::string lamps =
      "jovilux = "
      "1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n[[light]]\nname='sine'\nkind='point'"
      "\nat=[0,0,2]\noutput='1000 lm'\nflicker={ wave='sine', rate='100 Hz', depth='40 %' }\n"
      "[[light]]\nname='square'\nkind='point'\nat=[0,0,2]\noutput='1000 lm'\nflicker={ "
      "wave='square', rate='2 Hz', depth=1, duty=0.25 "
      "}\n[time]\nframes=[0,23]\nrate=24\nshutter=0.48\n[[meter]]\nname='m'\nkind='illuminance'"
      "\nat=[0,0,0]\n";
  const ProgramRun run = run_program({"animate",
                                      dir.write("r.toml", lamps),
                                      "-o",
                                      dir.path("o"),
                                      "--levels-only",
                                      "--meter",
                                      "m",
                                      "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto j = run.json();
  const auto &sine = j["lights"][0], &square = j["lights"][1];
  CHECK(sine["percent_flicker"].get<double>() == Approx(40).epsilon(1e-4));
  CHECK(sine["flicker_index"].get<double>() == Approx(0.4 / kPiD).epsilon(1e-4));
  // Two whole cycles of 10 ms in 20 ms.
  CHECK(sine["in_frames"]["percent_flicker"].get<double>() < 1e-6);
  CHECK(square["percent_flicker"].get<double>() == Approx(100));
  // A quarter of the time at 4.
  CHECK(square["flicker_index"].get<double>() == Approx(0.75).epsilon(1e-3));
  const double lamp = 1000 / (4 * kPiD) / 4;
  CHECK(j["meters"][0]["values"][1].get<double>() ==
        Approx(lamp * (1 + square["levels"][1].get<double>())).epsilon(0.01));
  CHECK(j["meters"][0]["values"][9].get<double>() == Approx(lamp).epsilon(0.01));
  CHECK_FALSE(fs::exists(dir.path("o/clip.webp")));
  const std::string csv = dir.read("o/levels.csv");
  CHECK(csv.starts_with("frame,time_s,sine,square,m lx\n0,0,1,"));
}

TEST_CASE("tints that move come from one render too, exactly, on colored surfaces",
          "[cli][animate]") {
  const TemporaryFolder dir;
  std::string text = kRoomForTimeVerbs + kSmallForTimeVerbs;
  text.replace(text.find("white = \"1900 K\""),
               16,
               "tint = { keys = [[\"0 s\", \"#ff2010\"], [\"0.3 s\", \"#1030ff\"]] }");
  text.replace(text.find("[[light]]"),
               9,
               "[[material]]\nname='m'\nkind='diffuse'\ncolor=[0.8,0.3,0.1]\n[[light]]");
  text.replace(text.find("shape = { kind = \"plane\" }"),
               26,
               "shape = { kind = \"plane\" }\nmaterial = \"m\"");
  const std::string rig = dir.write("r.toml", text);
  // So many samples that the lantern itself, of a few pixels, is known to a few thousandths.
  REQUIRE(
      run_program({"animate", rig, "-o", dir.path("l"), "--quiet", "--samples", "640"}).status ==
      0);
  CHECK(fs::exists(dir.path("l/layers/image.exr")));
  REQUIRE(run_program({"animate",
                       rig,
                       "-o",
                       dir.path("e"),
                       "--quiet",
                       "--exact",
                       "--frames",
                       "5..5",
                       "--samples",
                       "640"})
              .status == 0);
  const RenderedImage a = image_at(dir.path("l/frames/frame.0005.exr")),
                      b = image_at(dir.path("e/frames/frame.0005.exr"));
  for (int c = 0; c < 3; ++c) {
    double x = 0, y = 0;
    for (std::size_t i = 0; i < a.pixels(); ++i) {
      x += a.rgb[3 * i + static_cast<std::size_t>(c)];
      y += b.rgb[3 * i + static_cast<std::size_t>(c)];
    }
    INFO(c);
    CHECK(x == Approx(y).epsilon(0.01));
  }
}

TEST_CASE("frames ask the layer algebra: whites, copies of their own and limits",
          "[cli][animate]") {
  const TemporaryFolder dir;
  const std::string frames = "[render]\nsize=[24,16]\nsamples=8\nbounces=2\n";
  const auto reason = [&](const char* name, const std::string& from, const std::string& to) {
    std::string text = kRoomForTimeVerbs + frames;
    text.replace(text.find(from), from.size(), to);
    const ProgramRun run = run_program({"animate",
                                        dir.write(fmt::format("{}.toml", name), text),
                                        "-o",
                                        dir.path(name),
                                        "--frames",
                                        "1..3",
                                        "--quiet",
                                        "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    const auto j = run.json();
    return j["why_not"].is_null() ? std::string() : j["why_not"].get<std::string>();
  };
  const std::string panel = "dimmer = { keys = [[\"0 s\", 1], [\"0.3 s\", 0.25]] }";
  CHECK(reason("plain", panel, panel).empty());
  CHECK(reason("warm", panel, panel + "\nwhite = \"3000 K\"\ndim_to_warm = \"1800 K\"")
            .find("the color of \"panel\" changes") != std::string::npos);
  CHECK(reason("limit", panel, panel + "\ncheat = { bounce_limit = \"20 cd/m2\" }")
            .find("bounce_limit") != std::string::npos);
  // An output at one moment is not its mean over the shutter; without a shutter it is.
  const std::string keyed =
      "output = { keys = [[\"0 s\", \"500 lm\"], [\"0.1 s\", \"100 lm\"]] }\n";
  CHECK(reason("output", "output = \"500 lm\"\n", keyed).find("while the shutter is open") !=
        std::string::npos);
  std::string still = kRoomForTimeVerbs;
  still.replace(still.find("rate = 24"), 9, "rate = 24\nshutter = 0");
  still.replace(still.find("output = \"500 lm\"\n"), 18, keyed);
  const std::string rig =
      dir.write("still.toml", still + "[render]\nsize=[32,20]\nsamples=256\nbounces=1\n");
  const auto by_layers =
      run_program({"animate", rig, "-o", dir.path("s"), "--quiet", "--json", "--frames", "1..4"})
          .json();
  CHECK(by_layers["from_layers"] == true);
  REQUIRE(run_program({"animate",
                       rig,
                       "-o",
                       dir.path("x"),
                       "--quiet",
                       "--exact",
                       "--frames",
                       "1..4",
                       "--hold-noise"})
              .status == 0);
  const RenderedImage from_layers = image_at(dir.path("s/frames/frame.0003.exr")),
                      rendered = image_at(dir.path("x/frames/frame.0003.exr"));
  double variance = 0, light = 0;
  for (std::size_t i = 0; i < rendered.pixels(); ++i) {
    variance += 2.0 * rendered.variance[i];
    light += rendered.luminance(i);
  }
  CHECK(std::abs(mean_of_for_time_verbs(from_layers) - mean_of_for_time_verbs(rendered)) *
            static_cast<double>(rendered.pixels()) <
        4 * std::sqrt(variance));
  CHECK(std::sqrt(variance) < 0.03 * light);
  // A copy whose dimmer is its own stays as it is while the pattern is dimmed: one layer holds
  // both.
  const std::string row =
      "\n[[array]]\nname = \"row\"\nof = \"panel\"\ncount = 2\noutput = \"total\"\n"
      "along = { path = \"line\", from = [0, 0, 0], to = [0.8, 0, 0] }\n";
  CHECK(reason("row", "[look]", row + "[look]").empty());
  CHECK(reason("own", "[look]", row + "copy = { 1 = { dimmer = 0.4 } }\n[look]")
            .find("share a layer and change by different factors") != std::string::npos);
}

TEST_CASE("what moves by more than levels is rendered frame by frame, and says why",
          "[cli][animate]") {
  const TemporaryFolder dir;
  std::string moving = kRoomForTimeVerbs + "[render]\nsize=[24,16]\nsamples=4\n";
  moving.replace(moving.find("at = [-0.8, 0, 1.2]"),
                 19,
                 "at = { keys = [['0 s', [-0.8, 0, 1.2]], ['0.3 s', [0.8, 0, 1.2]]] }");
  const std::string rig = dir.write("r.toml", moving);
  const ProgramRun run =
      run_program({"animate", rig, "-o", dir.path("o"), "--frames", "2..4", "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  CHECK(run.json()["from_layers"] == false);
  CHECK(run.err.find("keys move more than levels and tints") != std::string::npos);
  CHECK(run.json()["clip"].is_null());  // frames are missing
  CHECK(fs::exists(dir.path("o/frames/frame.0003.png")));
  CHECK_FALSE(fs::exists(dir.path("o/frames/frame.0005.png")));
  // What is there is kept; one that is gone is made again, the same.
  const std::string before = dir.read("o/frames/frame.0003.exr");
  fs::remove(dir.path("o/frames/frame.0003.exr"));
  const ProgramRun again = run_program({"animate", rig, "-o", dir.path("o"), "--json", "--quiet"});
  CHECK(again.json()["kept"] == 2);
  CHECK(dir.read("o/frames/frame.0003.exr") == before);
  CHECK(fs::exists(dir.path("o/clip.webp")));
  // Noise differs from frame to frame; held, frames that show the same moment of a still rig are
  // the same.
  const std::string still = dir.write(
      "s.toml",
      "jovilux = "
      "1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n[[object]]\nname='o'\nshape={kind='"
      "plane'}\n[[light]]\nname='l'\nkind='sphere'\nradius=0.3\nat=[0,0,1]\noutput='100 "
      "lm'\n[time]\nframes=[1,2]\nrate=24\n[render]\nsize=[24,16]\nsamples=4\n");
  REQUIRE(run_program({"animate", still, "-o", dir.path("free"), "--exact", "--quiet"}).status ==
          0);
  REQUIRE(
      run_program({"animate", still, "-o", dir.path("held"), "--exact", "--quiet", "--hold-noise"})
          .status == 0);
  CHECK(image_at(dir.path("free/frames/frame.0001.exr")).rgb !=
        image_at(dir.path("free/frames/frame.0002.exr")).rgb);
  CHECK(image_at(dir.path("held/frames/frame.0001.exr")).rgb ==
        image_at(dir.path("held/frames/frame.0002.exr")).rgb);
  // A frame is what render makes of it.
  REQUIRE(run_program({"render", rig, "-o", dir.path("one"), "--frame", "3", "--quiet"}).status ==
          0);
  CHECK(image_at(dir.path("one")).rgb == image_at(dir.path("o/frames/frame.0003.exr")).rgb);
}

TEST_CASE("animate refuses what it cannot do, and writes nothing", "[cli][animate]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForTimeVerbs + kSmallForTimeVerbs),
                    still = dir.write(
                        "still.toml",
                        "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n");
  struct Case {
    std::vector<std::string> words;
    const char* says;
  };
  for (const Case& c : std::initializer_list<Case>{
           {{"animate", still, "-o", dir.path("x")}, "the rig has no frames; add [time]"},
           {{"animate", rig}, "missing -o DIR"},
           {{"animate", rig, "-o", dir.path("x"), "--frames", "0..3"}, "expected A..B within 1..8"},
           {{"animate", rig, "-o", dir.path("x"), "--frames", "x"}, "expected A..B"},
           {{"animate", rig, "-o", dir.path("x"), "--meter", "dek"}, "did you mean \"desk\"?"},
           {{"animate", rig, "-o", dir.path("x"), "--camera", "no"}, "the rig has no camera"},
           {{"render", rig, "-o", dir.path("x"), "--frame", "9"}, "frames run from 1 to 8"},
           {{"render", rig, "-o", dir.path("x"), "--slice", "3/2"}, "expected K/N such as 3/8"},
           {{"render", rig, "-o", dir.path("x"), "--slice", "1/2", "--noise", "2 %"},
            "--slice needs a fixed number of samples"},
           {{"render", rig, "-o", dir.path("x"), "--preview", "--resume"}, "leave out --resume"},
           {{"merge", dir.path(), "-o", dir.path("x")}, "holds no slice"},
           {{"merge", dir.path("none"), "-o", dir.path("x")}, "cannot be read"},
           {{"watch", dir.path("none.toml"), "-o", dir.path("x")}, "file not found"},
           {{"watch", rig}, "missing -o DIR"}}) {
    const ProgramRun run = run_program(c.words);
    INFO(run.err);
    CHECK(run.status == 2);
    CHECK(run.err.find(c.says) != std::string::npos);
    CHECK_FALSE(fs::exists(dir.path("x")));
  }
}

TEST_CASE("a render killed between its files goes on, another's pictures are not replaced",
          "[cli][resume]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForTimeVerbs + kSmallForTimeVerbs);
  const std::string out = dir.path("o");
  REQUIRE(run_program({"render", rig, "-o", out, "--quiet"}).status == 0);
  const std::string image = dir.read("o/image.exr");
  // Files are saved in the order image, view, stats, rig: each moment leaves some of them.
  for (const auto& missing : std::initializer_list<std::vector<std::string>>{
           {"rig.resolved.toml"},
           {"rig.resolved.toml", "stats.json"},
           {"rig.resolved.toml", "stats.json", "view.png"}}) {
    for (const std::string& file : missing) {
      fs::remove(fs::path(out) / file);
    }
    const ProgramRun run = run_program({"render", rig, "-o", out, "--resume", "--quiet"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK(dir.read("o/image.exr") == image);
    for (const char* file : {"rig.resolved.toml", "stats.json", "view.png"}) {
      CHECK(fs::exists(fs::path(out) / file));
    }
  }
  // A picture of another scene, or without a rig, stays.
  fs::remove(dir.path("o/stats.json"));
  const std::string other =
      dir.write("other.toml", "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,0]\n");
  for (const bool without_rig : {false, true}) {
    if (without_rig) {
      fs::remove(dir.path("o/image.exr"));
    }
    const ProgramRun run = run_program({"render", other, "-o", out, "--quiet"});
    CHECK(run.status == 2);
    CHECK(run.err.find(without_rig ? "pictures of unknown origin" : "pictures of another rig") !=
          std::string::npos);
  }
  CHECK(fs::exists(dir.path("o/view.png")));
}

TEST_CASE("20 kills at random moments lose no file, what goes on ends with the same bits",
          "[cli][resume][slow]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml",
      kRoomForTimeVerbs +
          "[render]\nsize = [80, 48]\nsamples = 96\nbounces = 3\nlayers = 'lights+parts'\n");
  const ProgramRun whole =
      run_program({"render", rig, "-o", dir.path("whole"), "--quiet", "--json"});
  REQUIRE(whole.status == 0);
  const double wall_ms = 1000 * whole.json()["wall_s"].get<double>();
  const std::string expected = dir.read("whole/image.exr");
  std::mt19937 random(12345);
  int killed = 0, finished = 0, rounds = 0;
  for (; killed < 20; ++rounds) {
    REQUIRE(rounds < 60);
    const int after =
        20 + static_cast<int>(random() % static_cast<unsigned>(std::max(60.0, 0.5 * wall_ms)));
    if (run_and_kill(
            {"render", rig, "-o", dir.path("k"), "--resume", "--checkpoint", "30 ms", "--quiet"},
            after)) {
      ++killed;
    } else {
      CHECK(dir.read("k/image.exr") == expected);
      ++finished;
      fs::remove_all(dir.path("k"));
    }
    // Whatever has its final name is whole.
    if (fs::exists(dir.path("k/image.exr"))) {
      CHECK(load_rendered(dir.path("k/image.exr"), true));
    }
  }
  std::this_thread::sleep_for(std::chrono::milliseconds(1100));  // leftovers count from a second on
  const ProgramRun end = run_program({"render", rig, "-o", dir.path("k"), "--resume", "--quiet"});
  INFO(end.err);
  REQUIRE(end.status == 0);
  CHECK(dir.read("k/image.exr") == expected);
  CHECK_FALSE(fs::exists(dir.path("k/checkpoint.part")));
  for (const std::string& file : dir.files()) {
    CHECK(file.find(".tmp") == std::string::npos);
  }
  // Now that all is there, nothing is rendered again, and JSON is printed where it is asked for.
  const ProgramRun again = run_program({"render", rig, "-o", dir.path("k"), "--resume"});
  CHECK(again.err.find("all samples are there already") != std::string::npos);
  CHECK(again.out.find('{') == std::string::npos);
  CHECK(run_program({"render", rig, "-o", dir.path("k"), "--resume", "--json"})
            .json()["stopped_by"] == "samples");
  // A slice that was stopped does not ask to be joined.
  const ProgramRun slice = run_program(
      {"render", rig, "-o", dir.path("s"), "--slice", "1/2", "--quiet", "--samples", "100000"},
      0,
      1000);
  CHECK(slice.status == 3);
  CHECK(slice.out.find("join all") == std::string::npos);
  CHECK(slice.out.find("--resume goes on") != std::string::npos);
}

TEST_CASE("an interrupted render keeps its film, tells how to go on, and refuses another rig's",
          "[cli][resume]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml", kRoomForTimeVerbs + "[render]\nsize = [400, 300]\nsamples = 4096\n");
  const ProgramRun run = run_program({"render", rig, "-o", dir.path("o"), "--quiet"}, 0, 1500);
  CHECK(run.status == 3);
  CHECK(run.err.find("the same command with --resume goes on") != std::string::npos);
  CHECK(fs::exists(dir.path("o/checkpoint.part")));
  CHECK(fs::exists(dir.path("o/view.png")));
  // The same signal twice, as timeout sends it to a process and to its group, is one.
  run_other(
      "/usr/bin/timeout",
      {"-s", "INT", "1.5", JOVILUX_PROGRAM, "render", rig, "-o", dir.path("twice"), "--quiet"});
  CHECK(fs::exists(dir.path("twice/checkpoint.part")));
  CHECK(fs::exists(dir.path("twice/stats.json")));
  const ProgramRun other = run_program({"render",
                                        rig,
                                        "-o",
                                        dir.path("o"),
                                        "--resume",
                                        "--quiet",
                                        "--set",
                                        "light.panel.output=\"600 lm\""});
  CHECK(other.status == 2);
  CHECK(other.err.find("another rig") != std::string::npos);
  // A film that is damaged is an error, not a crash.
  std::string bytes = dir.read("o/checkpoint.part");
  bytes.resize(bytes.size() / 2);
  dir.write("o/checkpoint.part", bytes);
  const ProgramRun damaged =
      run_program({"render", rig, "-o", dir.path("o"), "--resume", "--quiet"});
  CHECK(damaged.status == 2);
  CHECK(damaged.err.find("cut short or damaged") != std::string::npos);
}

TEST_CASE("a render in parts by time ends like one, and a time limit is no end", "[cli][resume]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml", kRoomForTimeVerbs + "[render]\nsize = [120, 72]\nsamples = 128\nbounces = 3\n");
  REQUIRE(run_program({"render", rig, "-o", dir.path("whole"), "--quiet"}).status == 0);
  // Stopped by time without --resume: nothing is kept, and a resumed render does not take it for
  // finished.
  REQUIRE(run_program({"render", rig, "-o", dir.path("p"), "--quiet", "--time-limit", "100 ms"})
              .status == 0);
  int parts = 0;
  for (; parts < 400; ++parts) {
    const ProgramRun run = run_program({"render",
                                        rig,
                                        "-o",
                                        dir.path("p"),
                                        "--resume",
                                        "--quiet",
                                        "--time-limit",
                                        "200 ms",
                                        "--json"});
    REQUIRE(run.status == 0);
    if (run.json()["stopped_by"] == "samples") {
      break;
    }
  }
  CHECK(parts > 0);
  CHECK(dir.read("p/image.exr") == dir.read("whole/image.exr"));
  // A slice's file under another's name is refused.
  REQUIRE(run_program(
              {"render", rig, "-o", dir.path("s"), "--slice", "1/2", "--quiet", "--samples", "4"})
              .status == 0);
  fs::rename(dir.path("s/slice-1-of-2.part"), dir.path("s/slice-2-of-2.part"));
  const ProgramRun renamed = run_program({"render",
                                          rig,
                                          "-o",
                                          dir.path("s"),
                                          "--slice",
                                          "2/2",
                                          "--resume",
                                          "--quiet",
                                          "--samples",
                                          "4"});
  CHECK(renamed.status == 2);
  CHECK(renamed.err.find("holds slice 1 of 2") != std::string::npos);
  // A folder with another rig's animation is not written over.
  const std::string other = dir.write("other.toml",
                                      kRoomForTimeVerbs + "[render]\nsize=[24,16]\nsamples=4\n"),
                    third = dir.write("third.toml",
                                      kRoomForTimeVerbs + "[render]\nsize=[24,16]\nsamples=4\n");
  REQUIRE(run_program({"animate", other, "-o", dir.path("a"), "--levels-only"}).status == 0);
  const ProgramRun refused = run_program({"animate", third, "-o", dir.path("a"), "--levels-only"});
  CHECK(refused.status == 2);
  CHECK(refused.err.find("holds the animation of another rig") != std::string::npos);
  CHECK(run_program({"animate", third, "-o", dir.path("a"), "--levels-only", "--force"}).status ==
        0);
}

TEST_CASE("eight slices joined are one render, bit for bit, what is missing is told",
          "[cli][slice]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRoomForTimeVerbs + kSmallForTimeVerbs);
  REQUIRE(run_program({"render", rig, "-o", dir.path("whole"), "--quiet"}).status == 0);
  for (int k = 1; k <= 8; ++k) {
    const std::string folder = dir.path(k % 2 == 0 ? "even" : "odd");
    if (k == 8) {
      const ProgramRun early =
          run_program({"merge", dir.path("even"), dir.path("odd"), "-o", dir.path("j")});
      CHECK(early.status == 2);
      CHECK(early.err.find("of 8 slices 1 is missing: 8") != std::string::npos);
      CHECK_FALSE(fs::exists(dir.path("j")));
    }
    const ProgramRun run =
        run_program({"render", rig, "-o", folder, "--slice", fmt::format("{}/8", k), "--quiet"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    CHECK_FALSE(fs::exists(folder + "/image.exr"));
  }
  const ProgramRun merged =
      run_program({"merge", dir.path("even"), dir.path("odd"), "-o", dir.path("j")});
  INFO(merged.err);
  REQUIRE(merged.status == 0);
  CHECK(dir.read("j/image.exr") == dir.read("whole/image.exr"));
  CHECK(dir.read("j/view.png") == dir.read("whole/view.png"));
  // What the slices knew of themselves on the way is kept: the mean of their percentiles.
  const auto joined = nlohmann::json::parse(dir.read("j/stats.json")),
             whole = nlohmann::json::parse(dir.read("whole/stats.json"));
  CHECK(joined["threads"] == whole["threads"]);
  CHECK(joined["noise"] == whole["noise"]);
  CHECK(joined["lights"] == whole["lights"]);
  REQUIRE(joined["history"].size() == whole["history"].size());
  for (std::size_t i = 0; i < whole["history"].size(); ++i) {
    INFO(i);
    CHECK(joined["history"][i]["samples"] == whole["history"][i]["samples"]);
    CHECK(joined["history"][i]["median"].get<double>() ==
          Approx(whole["history"][i]["median"].get<double>()).epsilon(0.5));
  }
  CHECK(joined["history"].back()["p95"] == whole["history"].back()["p95"]);
  fs::copy_file(dir.path("even/slice-2-of-8.part"), dir.path("odd/slice-2-of-8.part"));
  CHECK(run_program({"merge", dir.path("even"), dir.path("odd"), "-o", dir.path("j2")})
            .err.find("give each slice once") != std::string::npos);
  fs::remove(dir.path("odd/slice-2-of-8.part"));
  REQUIRE(run_program(
              {"render", rig, "-o", dir.path("odd"), "--slice", "1/8", "--seed", "5", "--quiet"})
              .status == 2);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("odd"),
                       "--slice",
                       "1/8",
                       "--set",
                       "render.seed=5",
                       "--quiet"})
              .status == 0);
  CHECK(run_program({"merge", dir.path("even"), dir.path("odd"), "-o", dir.path("j3")})
            .err.find("another rig, or of other settings") != std::string::npos);
}

TEST_CASE("two and four processes of mpirun make the picture of one, bit for bit",
          "[cli][ranks][slow]") {
  if (!fs::exists("/usr/bin/mpirun")) {
    WARN("mpirun is not installed: not tested");
    return;
  }
  const TemporaryFolder dir;
  for (const char* target : {"", "noise = 0.06\n"}) {
    const std::string rig = dir.write("r.toml", kRoomForTimeVerbs + kSmallForTimeVerbs + target);
    REQUIRE(run_program({"render", rig, "-o", dir.path("one"), "--quiet"}).status == 0);
    for (const int ranks : {2, 4}) {
      const ProgramRun run =
          run_ranks(ranks, {"render", rig, "-o", dir.path("many"), "--threads", "1", "--quiet"});
      INFO(run.err);
      REQUIRE(run.status == 0);
      CHECK(dir.read("many/image.exr") == dir.read("one/image.exr"));
      for (const std::string& file : dir.files()) {
        CHECK(file.find(".tmp") == std::string::npos);
      }
      fs::remove_all(dir.path("many"));
    }
    fs::remove_all(dir.path("one"));
  }
  // Frames go round the processes.
  std::string moving = kRoomForTimeVerbs + "[render]\nsize=[24,16]\nsamples=4\n";
  moving.replace(moving.find("at = [-0.8, 0, 1.2]"),
                 19,
                 "at = { keys = [['0 s', [-0.8, 0, 1.2]], ['0.3 s', [0.8, 0, 1.2]]] }");
  const std::string rig = dir.write("m.toml", moving);
  REQUIRE(run_program({"animate", rig, "-o", dir.path("a1"), "--quiet"}).status == 0);
  const ProgramRun run =
      run_ranks(2, {"animate", rig, "-o", dir.path("a2"), "--quiet", "--threads", "1"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  for (int f = 1; f <= 8; ++f) {
    const std::string name = fmt::format("/frames/frame.{:04}.exr", f);
    CHECK(dir.read("a1" + name) == dir.read("a2" + name));
  }
  CHECK(dir.read("a1/clip.webp") == dir.read("a2/clip.webp"));
}

TEST_CASE("a process of mpirun that dies is told, the others keep what they have, and all go on",
          "[cli][ranks][slow]") {
  if (!fs::exists("/usr/bin/mpirun")) {
    WARN("mpirun is not installed: not tested");
    return;
  }
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml", kRoomForTimeVerbs + "[render]\nsize = [160, 108]\nsamples = 300\n");
  ProgramRun lost;
  std::thread rendering([&] {
    lost = run_ranks(2, {"render", rig, "-o", dir.path("o"), "--threads", "1", "--quiet"});
  });
  // The process of the second rank, by its command line and environment.
  bool killed = false;
  for (int tries = 0; tries < 100 && !killed; ++tries) {
    std::this_thread::sleep_for(std::chrono::milliseconds(50));
    for (const auto& entry : fs::directory_iterator("/proc")) {
      const std::string name = entry.path().filename().string();
      if (name.find_first_not_of("0123456789") != std::string::npos) {
        continue;
      }
      std::ifstream environment(entry.path() / "environ", std::ios::binary),
          words(entry.path() / "cmdline", std::ios::binary);
      const std::string all((std::istreambuf_iterator<char>(environment)), {}),
          line((std::istreambuf_iterator<char>(words)), {});
      if (line.find(dir.path("o")) != std::string::npos &&
          line.find("mpirun") == std::string::npos &&
          all.find(std::string("OMPI_COMM_WORLD_RANK=1") + '\0') != std::string::npos) {
        // Not before the two have met: on a busy machine that takes a while.
        std::this_thread::sleep_for(std::chrono::milliseconds(2000));
        ::kill(std::stoi(name), SIGKILL);
        killed = true;
        break;
      }
    }
  }
  rendering.join();
  REQUIRE(killed);
  INFO(lost.err);
  CHECK(lost.status != 0);
  CHECK(lost.err.find("process 1 of 2: one of the processes was lost") != std::string::npos);
  CHECK(fs::exists(dir.path("o/slice-1-of-2.part")));
  CHECK_FALSE(fs::exists(dir.path("o/image.exr")));
  const ProgramRun on =
      run_ranks(2, {"render", rig, "-o", dir.path("o"), "--threads", "1", "--quiet", "--resume"});
  INFO(on.err);
  REQUIRE(on.status == 0);
  REQUIRE(run_program({"render", rig, "-o", dir.path("one"), "--quiet"}).status == 0);
  CHECK(dir.read("o/image.exr") == dir.read("one/image.exr"));
}

TEST_CASE("watch renders again at each save, tells what changed, and waits on errors",
          "[cli][watch][slow]") {
  const TemporaryFolder dir;
  const std::string base = kRoomForTimeVerbs + kSmallForTimeVerbs;
  const std::string rig = dir.write("r.toml", base);
  ProgramRun watched;
  std::thread watching([&] {
    watched = run_program(
        {"watch", rig, "-o", dir.path("o"), "--at", "32,30", "--meters", "--json", "--times", "4"});
  });
  const auto wait_for = [&](const std::function<bool()>& there) {
    for (int i = 0; i < 400 && !there(); ++i) {
      std::this_thread::sleep_for(std::chrono::milliseconds(50));
    }
    return there();
  };
  // Versions follow each other when the one before is whole: its stats.json is written last.
  const auto finished = [&] {
    return fs::exists(dir.path("o/stats.json")) &&
           dir.read("o/stats.json").find("\"samples_per_pixel\": 64") != std::string::npos;
  };
  CHECK(wait_for(finished));
  std::this_thread::sleep_for(std::chrono::milliseconds(1000));
  std::string louder = base;
  louder.replace(louder.find("output = \"500 lm\""), 17, "output = \"1000 lm\"");
  const auto save = [&](const std::string& text) {
    // As an editor does: a new file, renamed.
    dir.write("new.toml", text);
    fs::rename(dir.path("new.toml"), rig);
  };
  fs::remove(dir.path("o/stats.json"));
  save(louder);
  CHECK(wait_for(finished));
  std::this_thread::sleep_for(std::chrono::milliseconds(1000));
  std::string wrong = louder;
  wrong.replace(wrong.find("1000 lm"), 7, "1000 lx");
  save(wrong);
  std::this_thread::sleep_for(std::chrono::milliseconds(3000));
  fs::remove(dir.path("o/stats.json"));
  save(base);
  watching.join();
  CHECK(finished());
  INFO(watched.out << watched.err);
  CHECK(watched.status == 0);
  std::vector<nlohmann::json> lines;
  std::istringstream in(watched.out);
  for (std::string line; std::getline(in, line);) {
    lines.push_back(nlohmann::json::parse(line));
  }
  const auto find = [&](int version, const std::string& stage) {
    const auto at = std::find_if(lines.begin(), lines.end(), [&](const nlohmann::json& l) {
      return l["version"] == version && l["stage"] == stage;
    });
    REQUIRE(at != lines.end());
    return *at;
  };
  const auto reading = [](const nlohmann::json& line, const std::string& name) {
    for (const auto& r : line["readings"]) {
      if (r["name"] == name) {
        return r;
      }
    }
    return nlohmann::json();
  };
  constexpr double kOnBusyMachine = 5;  // 2 on an idle one
  CHECK(find(1, "rough")["seconds_since_save"].get<double>() < kOnBusyMachine);
  CHECK(find(2, "rough")["seconds_since_save"].get<double>() < kOnBusyMachine);
  const auto desk = reading(find(2, "rough"), "desk");
  CHECK(desk["value"].get<double>() > 1.2 * desk["before"].get<double>());
  const auto point = reading(find(2, "fine"), "32,30");
  CHECK(point["value"].get<double>() > 1.1 * point["before"].get<double>());
  CHECK(find(3, "errors")["errors"][0].get<std::string>().find("light.panel.output") !=
        std::string::npos);
  CHECK(reading(find(4, "fine"), "32,30")["value"] == point["before"]);
}

TEST_CASE("a flicker too fast for the plot is an even area in levels.png", "[cli][animate]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml",
                "jovilux = 1\n[[camera]]\nname = 'c'\nat = [0, -2, 1]\nlook_at = [0, 0, "
                "0]\n[[light]]\nname = "
                "'l'\nkind = 'point'\nat = [0, 0, 1]\noutput = '9 lm'\nflicker = { wave = 'mains', "
                "rate = '50 "
                "Hz', depth = '60 %' }\n[time]\nframes = [1, 24]\nrate = 24\nshutter = 0.48\n");
  REQUIRE(run_program({"animate", rig, "-o", dir.path("o"), "--levels-only"}).status == 0);
  const auto png = load_image(dir.path("o/levels.png"));
  REQUIRE(png);
  // Heights of the light blue area, column by column: it goes from about 0.26 to 1. Where
  // parts of cycles were drawn, whole columns had a few pixels of it.
  std::vector<int> heights;
  for (int x = 0; x < png->width; ++x) {
    int height = 0;
    for (int y = 0; y < png->height; ++y) {
      const float* rgb = png->rgb.data() + 3 * (static_cast<std::size_t>(y) * png->width + x);
      height += rgb[2] > 1.3f * rgb[0] && rgb[2] > 0.5f ? 1 : 0;
    }
    if (height > 0.1 * png->height) {
      heights.push_back(height);
    }
  }
  REQUIRE(static_cast<double>(heights.size()) > 0.3 * png->width);
  std::sort(heights.begin(), heights.end());
  CHECK(heights[heights.size() / 20] > 0.9 * heights.back());
}
