// Every figure that the program draws, by its pixels: it shows something, nothing runs over its
// border, its words stand out, and what it draws is where its numbers say.
#include "jovilux/files/image.h"
#include "jovilux/files/png.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kStage = R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -2.6, 1.3]
look_at = [0, 0, 0.7]
field_of_view = 50
[render]
size = [48, 27]
samples = 8
bounces = 2
[time]
frames = [1, 12]
[[object]]
name = "table"
shape = { kind = "box", size = [1.6, 0.7, 0.8] }
at = [0, 0, 0.4]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[light]]
name = "key"
kind = "disk"
at = [-1.2, -0.8, 2.2]
aim = [0, 0, 0.8]
radius = "15 cm"
output = "900 lm"
white = "halogen"
flicker = { wave = "flame", rate = "3 Hz", depth = "40 %" }
[[light]]
name = "rim"
kind = "spot"
at = [1.2, 1.4, 2.0]
aim = [0, 0, 0.8]
beam = "30 deg"
field = "50 deg"
output = "500 lm"
white = "overcast"
[[meter]]
name = "table"
kind = "illuminance"
grid = { from = [-0.6, -0.3, 0.81], to = [0.6, 0.3, 0.81], count = [5, 3] }
)";

double luminance_at(const LinearImage& image, int x, int y) {
  const float* p = image.rgb.data() + 3 * (static_cast<std::size_t>(y) * image.width + x);
  return 0.2126 * p[0] + 0.7152 * p[1] + 0.0722 * p[2];
}

// What is wrong with a figure by its pixels; empty where nothing is.
std::string fault_of_figure(const std::string& path) {
  const auto image = load_image(path);
  if (!image) {
    return "cannot be read";
  }
  if (image->width < 400 || image->height < 200) {
    return "is small";
  }
  const double paper = luminance_at(*image, 0, 0);
  std::size_t drawn = 0;
  double farthest = 0;  // contrast with the paper
  for (int y = 0; y < image->height; ++y) {
    for (int x = 0; x < image->width; ++x) {
      const double l = luminance_at(*image, x, y);
      // Source: WCAG 2.1, contrast ratio.
      const double contrast = (std::max(l, paper) + 0.05) / (std::min(l, paper) + 0.05);
      drawn += contrast > 1.3 ? 1 : 0;
      farthest = std::max(farthest, contrast);
      const bool border = x < 2 || y < 2 || x >= image->width - 2 || y >= image->height - 2;
      if (border && contrast > 1.3) {
        return "runs over its border at " + std::to_string(x) + "," + std::to_string(y);
      }
    }
  }
  const double share =
      static_cast<double>(drawn) / (static_cast<double>(image->width) * image->height);
  if (share < 0.01) {
    return "is nearly blank";
  }
  return farthest < 7 ? "has no words that stand out" : "";
}

}  // namespace

TEST_CASE("every figure shows something inside its borders, with words that stand out",
          "[cli][figures]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("stage.toml", kStage);
  const auto run = [&](std::vector<std::string> words) {
    const ProgramRun r = run_program(words);
    INFO(r.err);
    CHECK(r.status <= 1);  // 1: a target that is not met
  };
  run({"render", rig, "-o", dir.path("a"), "--quiet"});
  run({"render", rig, "-o", dir.path("b"), "--quiet", "--set", "light.key.dimmer=0.4"});
  run({"color", "2700 K", "led-3000", "D65", "-o", dir.path("color")});
  run({"profile", JOVILUX_SOURCE "/demo/heat-lamp.ies", "-o", dir.path("profile")});
  run({"falloff", rig, "--light", "key", "--law", "none", "-o", dir.path("falloff")});
  run({"meter", rig, "--error", "10 %", "-o", dir.path("meters")});
  run({"false-color", dir.path("a"), "-o", dir.path("false")});
  run({"noise", dir.path("a"), "--target", "1 %", "-o", dir.path("noise"), "--quiet"});
  run({"compare", dir.path("a"), dir.path("b"), "-o", dir.path("compare")});
  run({"why",
       dir.path("a"),
       "--at",
       "24,12",
       "--samples",
       "4096",
       "-o",
       dir.path("why"),
       "--quiet"});
  run({"sweep",
       rig,
       "--vary",
       "light.key.dimmer = 0.2 .. 1 / 3",
       "--size",
       "32x18",
       "--samples",
       "4",
       "--at",
       "16,12",
       "-o",
       dir.path("sweep"),
       "--quiet"});
  run({"animate", rig, "-o", dir.path("clip"), "--quiet"});
  for (const char* figure : {"color/color.png",
                             "profile/profile.png",
                             "falloff/falloff.png",
                             "meters/table.png",
                             "false/false-color.png",
                             "noise/noise.png",
                             "compare/compare.png",
                             "why/ways.png",
                             "sweep/sheet.png",
                             "sweep/curves.png",
                             "clip/levels.png",
                             "clip/strip.png"}) {
    INFO(figure);
    CHECK(fault_of_figure(dir.path(figure)) == "");
  }
}

TEST_CASE("a blank figure, one that runs over and one without words are seen", "[figures]") {
  const TemporaryFolder dir;
  constexpr int kWidth = 400, kHeight = 200;
  std::vector<std::uint8_t> paper(static_cast<std::size_t>(kWidth) * kHeight * 3, 250);
  const auto fault = [&](const std::vector<std::uint8_t>& rgb) {
    write_png(dir.path("f.png"), kWidth, kHeight, rgb);
    return fault_of_figure(dir.path("f.png"));
  };
  const auto box = [&](int x0, int x1, std::uint8_t value) {
    std::vector<std::uint8_t> out = paper;
    for (int y = 50; y < 100; ++y) {
      std::fill(out.begin() + 3 * (y * kWidth + x0), out.begin() + 3 * (y * kWidth + x1), value);
    }
    return out;
  };
  CHECK(fault(paper) == "is nearly blank");
  CHECK(fault(box(350, 400, 20)).starts_with("runs over its border at 398,50"));
  CHECK(fault(box(50, 150, 180)) == "has no words that stand out");
  CHECK(fault(box(50, 150, 20)).empty());
}
