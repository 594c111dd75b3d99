// Every figure that the program draws, by its pixels: it shows something, nothing runs over its
// border, its words stand out, and what it draws is where its numbers say.
#include "jovilux/files/image.h"
#include "jovilux/files/png.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "figures/plot.h"
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

// Whether a pixel has an opaque color, as "#rrggbb" of the screen, but for smoothed edges.
bool has_color(const LinearImage& image, int x, int y, const std::string& color) {
  const float* p = image.rgb.data() + 3 * (static_cast<std::size_t>(y) * image.width + x);
  for (std::size_t c = 0; c < 3; ++c) {
    const double screen = std::stoi(color.substr(1 + 2 * c, 2), nullptr, 16) / 255.0;
    // Source: IEC 61966-2-1.
    const double linear =
        screen <= 0.04045 ? screen / 12.92 : std::pow((screen + 0.055) / 1.055, 2.4);
    if (std::abs(static_cast<double>(p[c]) - linear) > 0.05) {
      return false;
    }
  }
  return true;
}

// The area of a plot, by its two axes: the longest column and row of their color.
struct PlotArea {
  int left = 0, right = 0, top = 0, bottom = 0;
};
PlotArea plot_area(const LinearImage& image) {
  const std::string kAxis = "#555555";
  PlotArea out;
  std::vector<int> of_column(static_cast<std::size_t>(image.width)),
      of_row(static_cast<std::size_t>(image.height));
  for (int y = 0; y < image.height; ++y) {
    for (int x = 0; x < image.width; ++x) {
      const int axis = has_color(image, x, y, kAxis) ? 1 : 0;
      of_column[static_cast<std::size_t>(x)] += axis;
      of_row[static_cast<std::size_t>(y)] += axis;
    }
  }
  const auto most = [](const std::vector<int>& counts) {
    return static_cast<int>(std::max_element(counts.begin(), counts.end()) - counts.begin());
  };
  out.left = most(of_column);
  out.bottom = most(of_row);
  out.top = out.bottom;
  for (int y = out.bottom; y >= 0; --y) {
    out.top = has_color(image, out.left, y, kAxis) ? y : out.top;
  }
  for (int x = out.left; x < image.width; ++x) {
    out.right = has_color(image, x, out.bottom, kAxis) ? x : out.right;
  }
  return out;
}

// The height in the picture that a color has in a column; -1: none.
double height_of_color(const LinearImage& image,
                       int x,
                       const PlotArea& area,
                       const std::string& c) {
  double sum = 0;
  int count = 0;
  for (int y = area.top; y <= area.bottom; ++y) {
    if (has_color(image, x, y, c)) {
      sum += y;
      ++count;
    }
  }
  return count > 0 ? sum / count : -1;
}

}  // namespace

TEST_CASE("curves lie where their numbers say, on even and on logarithmic axes", "[figures]") {
  const TemporaryFolder dir;
  for (const bool logarithmic : {false, true}) {
    figures::Plot plot;
    plot.log_x = plot.log_y = logarithmic;
    plot.x_min = logarithmic ? 1 : 0;
    plot.y_min = logarithmic ? 0.01 : 0;
    plot.x_max = 10;
    plot.y_max = logarithmic ? 1 : 100;
    plot.legend = "";
    figures::Curve curve;
    for (int i = 0; i <= 200; ++i) {
      const double x = plot.x_min + (10 - plot.x_min) * i / 200;
      curve.x.push_back(x);
      curve.y.push_back(logarithmic ? 1 / (x * x) : x * x);
    }
    plot.curves = {curve};
    figures::Canvas canvas;
    figures::draw(canvas, plot, 20, 20, 1240, 760);
    canvas.save(dir.path("plot.png"));
    const auto image = load_image(dir.path("plot.png"));
    REQUIRE(image);
    const PlotArea area = plot_area(*image);
    REQUIRE(area.right > area.left + 800);
    REQUIRE(area.bottom > area.top + 500);
    for (const double along : {0.2, 0.4, 0.6, 0.8}) {
      const int x = area.left + static_cast<int>(std::lround(along * (area.right - area.left)));
      // x^2 over [0, 10] and its inverse over a decade are the square and the line of the share.
      const double up = logarithmic ? 1 - along : along * along;
      INFO((logarithmic ? "logarithmic" : "even") << " at " << along);
      CHECK(height_of_color(*image, x, area, curve.color) ==
            Approx(area.bottom - up * (area.bottom - area.top)).margin(3));
    }
  }
}

TEST_CASE("bars of the noise figure are as long as the lights' shares, in their parts' colors",
          "[cli][figures][noise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("stage.toml", kStage);
  REQUIRE(
      run_program(
          {"render", rig, "-o", dir.path("a"), "--quiet", "--set", "render.layers='lights+parts'"})
          .status == 0);
  const auto run =
      run_program({"noise", dir.path("a"), "--target", "1 %", "-o", dir.path("noise"), "--json"});
  INFO(run.err);
  REQUIRE(run.status <= 1);
  const auto image = load_image(dir.path("noise/noise.png"));
  REQUIRE(image);
  // Bars begin at one column, each 24 pixels below the one before; of direct light first.
  constexpr int kLeft = 1026, kFirst = 89, kStep = 24;
  constexpr double kOfAllNoise = 166;  // the length of a bar that has it all
  const std::vector<std::string> colors = {"#0072b2", "#d55e00", "#009e73", "#56b4e9"};
  auto lights = run.json()["by_light"].get<std::vector<nlohmann::json>>();
  REQUIRE(lights.size() == 2);
  std::stable_sort(lights.begin(), lights.end(), [](const auto& a, const auto& b) {
    return a["share_of_noise"].template get<double>() > b["share_of_noise"].template get<double>();
  });
  std::vector<double> lengths;
  for (std::size_t i = 0; i < lights.size(); ++i) {
    const int y = kFirst + kStep * static_cast<int>(i);
    double all = 0;
    std::vector<int> of_part;
    for (const std::string& color : colors) {
      int count = 0;
      for (int x = kLeft; x < image->width; ++x) {
        count += has_color(*image, x, y, color) ? 1 : 0;
      }
      of_part.push_back(count);
      all += count;
    }
    lengths.push_back(all);
    REQUIRE(of_part[0] > 0);
    const auto& parts = lights[i]["noise_by_part"];
    CHECK(of_part[0] / all == Approx(parts["direct"].get<double>()).margin(0.06));
    CHECK(of_part[1] / all == Approx(parts["bounce"].get<double>()).margin(0.06));
  }
  for (std::size_t i = 0; i < lights.size(); ++i) {
    // A pixel at each of the borders of its parts is of mixed color.
    CHECK(lengths[i] == Approx(kOfAllNoise * lights[i]["share_of_noise"].get<double>()).margin(4));
  }
}

TEST_CASE("a noise figure without a history has no empty page below its map",
          "[cli][figures][noise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("stage.toml", kStage);
  std::vector<int> heights;
  for (const char* samples : {"4", "16"}) {
    REQUIRE(run_program(
                {"render", rig, "-o", dir.path("a"), "--quiet", "--force", "--samples", samples})
                .status == 0);
    REQUIRE(run_program({"noise", dir.path("a"), "-o", dir.path("noise"), "--force"}).status <= 1);
    const auto image = load_image(dir.path("noise/noise.png"));
    REQUIRE(image);
    heights.push_back(image->height);
    // Something is drawn in the lowest tenth.
    int drawn = 0;
    for (int y = image->height * 9 / 10; y < image->height; ++y) {
      for (int x = 0; x < image->width; ++x) {
        drawn += has_color(*image, x, y, "#ffffff") ? 0 : 1;
      }
    }
    CHECK(drawn > 100);
  }
  CHECK(heights[0] < heights[1] - 200);
}

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
