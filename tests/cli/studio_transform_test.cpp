// Views by a studio's own OpenColorIO configuration, through the built program.
#include "jovilux/color/studio_transform.h"

#include "jovilux/files/image.h"

#include <algorithm>
#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// Of 8 bits, with a rounding.
constexpr double kOneStep = 1 + 1e-6;

// Two views of one display, a look, and ACES2065-1 by its published matrix (AMPAS, S-2008-001, with
// Bradford's adaptation).
std::string studio_config(const std::string& roles = "") {
  return "ocio_profile_version: 2\n\nsearch_path: \"\"\nstrictparsing: false\n\n"
         "roles:\n  default: lin\n  scene_linear: lin\n" +
         roles + R"(
displays:
  monitor:
    - !<View> {name: plain, colorspace: screen}
    - !<View> {name: soft, colorspace: dim screen}

looks:
  - !<Look>
    name: warm
    process_space: lin
    transform: !<MatrixTransform> {matrix: [1.2, 0, 0, 0, 0, 1, 0, 0, 0, 0, 0.7, 0, 0, 0, 0, 1]}

colorspaces:
  - !<ColorSpace>
    name: lin
    bitdepth: 32f
  - !<ColorSpace>
    name: aces
    bitdepth: 32f
    to_scene_reference: !<MatrixTransform>
      matrix: [2.52168618674388, -1.13413098823972, -0.38755519850416, 0,
        -0.27647991422992, 1.37271908766826, -0.09623917343834, 0,
        -0.01537806496603, -0.15297533586740, 1.16835340083343, 0, 0, 0, 0, 1]
  - !<ColorSpace>
    name: screen
    bitdepth: 32f
    from_scene_reference: !<ExponentWithLinearTransform>
      gamma: 2.4
      offset: 0.055
      direction: inverse
  - !<ColorSpace>
    name: dim screen
    bitdepth: 32f
    from_scene_reference: !<GroupTransform>
      children:
        - !<MatrixTransform> {matrix: [0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 0.5, 0, 0, 0, 0, 1]}
        - !<ExponentWithLinearTransform> {gamma: 2.4, offset: 0.055, direction: inverse}
)";
}

std::string rig_with_look(const std::string& look) {
  return R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -3, 1.5]
look_at = [0, 0, 0.3]
[[material]]
name = "clay"
kind = "diffuse"
color = [0.7, 0.35, 0.2]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.3 }
at = [0, 0, 0.3]
material = "clay"
[[light]]
name = "cool"
kind = "sphere"
at = [1, -1, 2]
radius = "10 cm"
output = "600 lm"
white = "9000 K"
[[light]]
name = "warm"
kind = "sphere"
at = [-1.5, -1, 1]
radius = "10 cm"
output = "300 lm"
white = "2700 K"
[render]
size = [64, 48]
samples = 16
bounces = 2
guiding = false
[look]
exposure = "EV 3"
)" + look;
}

std::vector<float> view_of(const TemporaryFolder& dir, const std::string& look) {
  const ProgramRun run = run_program({"render",
                                      dir.write("r.toml", rig_with_look(look)),
                                      "-o",
                                      dir.path("o"),
                                      "--force",
                                      "--quiet"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto view = load_image(dir.path("o/view.png"), false);
  REQUIRE(view);
  return view->rgb;
}

// In steps of eight bits.
double furthest_apart(const std::vector<float>& a, const std::vector<float>& b) {
  REQUIRE(a.size() == b.size());
  double worst = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    worst = std::max(worst, 255.0 * std::abs(static_cast<double>(a[i] - b[i])));
  }
  return worst;
}

std::string faults_of_look(const TemporaryFolder& dir, const std::string& look) {
  const ProgramRun run = run_program({"check", dir.write("f.toml", rig_with_look(look))});
  CHECK(run.status == 1);
  return run.err + run.out;
}

}  // namespace

TEST_CASE("a studio's view makes the picture", "[cli][look][ocio]") {
  const TemporaryFolder dir;
  if (!StudioTransform::is_built_in()) {
    dir.write("s.ocio", studio_config());
    CHECK(faults_of_look(dir, "transform = { config = 's.ocio' }\n").find("OpenColorIO") !=
          std::string::npos);
    return;
  }
  dir.write("s.ocio", studio_config());
  dir.write("aces.ocio", studio_config("  aces_interchange: aces\n"));
  const std::vector<float> linear = view_of(dir, "curve = 'linear'\n");
  // Its plain view is sRGB's own curve, and the display's first.
  CHECK(furthest_apart(view_of(dir, "transform = { config = 's.ocio', input = 'lin' }\n"),
                       linear) <= kOneStep);
  // By the interchange role: through ACES2065-1 and back.
  CHECK(furthest_apart(view_of(dir, "transform = { config = 'aces.ocio', view = 'plain' }\n"),
                       linear) <= kOneStep);
  // Half as bright is a stop of exposure.
  const std::vector<float> darker = view_of(
      dir,
      "transform = { config = 's.ocio', input = 'lin', display = 'monitor', view = 'soft' }\n");
  const std::string stop = rig_with_look("curve = 'linear'\n");
  std::string brighter_ev = stop;
  brighter_ev.replace(brighter_ev.find("EV 3"), 4, "EV 4");
  REQUIRE(run_program({"render", dir.write("e.toml", brighter_ev), "-o", dir.path("e"), "--quiet"})
              .status == 0);
  CHECK(furthest_apart(darker, load_image(dir.path("e/view.png"), false)->rgb) <= 1.001);
  // A look of the configuration is a factor on each channel here.
  const std::vector<float> warm =
      view_of(dir, "transform = { config = 's.ocio', input = 'lin', look = 'warm' }\n");
  double red = 0, blue = 0;
  for (std::size_t i = 0; i < warm.size(); i += 3) {
    red += static_cast<double>(warm[i] - linear[i]);
    blue += static_cast<double>(warm[i + 2] - linear[i + 2]);
  }
  CHECK(red > 0);
  CHECK(blue < 0);
}

TEST_CASE("a studio's view is undone where a picture is matched", "[cli][look][ocio]") {
  if (!StudioTransform::is_built_in()) {
    return;
  }
  const TemporaryFolder dir;
  dir.write("s.ocio", studio_config());
  view_of(dir, "transform = { config = 's.ocio', input = 'lin', view = 'soft' }\n");
  const ProgramRun run = run_program(
      {"balance", dir.path("o"), "--match", dir.path("o/view.png"), "-o", dir.path("b"), "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  for (const auto& light : run.json()["lights"]) {
    CHECK(light["factor"].get<double>() == Approx(1).epsilon(0.02));
  }
}

TEST_CASE("faults of a studio's configuration are told with their place", "[cli][look][ocio]") {
  if (!StudioTransform::is_built_in()) {
    return;
  }
  const TemporaryFolder dir;
  dir.write("s.ocio", studio_config());
  dir.write("bad.ocio", "ocio_profile_version: 2\nroles: [\n");
  const auto has = [&](const std::string& look, const std::string& wanted) {
    const std::string told = faults_of_look(dir, look);
    INFO(told);
    CHECK(told.find(wanted) != std::string::npos);
    CHECK(told.find("f.toml:") != std::string::npos);
  };
  has("transform = { config = 's.ocio', input = 'lin', view = 'sofd' }\n", "soft");
  has("transform = { config = 's.ocio', input = 'lin', display = 'x' }\n", "monitor");
  has("transform = { config = 's.ocio', input = 'lin', look = 'cold' }\n", "warm");
  has("transform = { config = 's.ocio', input = 'linear' }\n", "lin");
  has("transform = { config = 's.ocio' }\n", "input = \"...\"");
  has("transform = { config = 'bad.ocio' }\n", "look.transform.config");
  has("transform = { config = 'none.ocio' }\n", "none.ocio");
  has("transform = { config = 's.ocio', input = 'lin' }\ncurve = 'film'\n", "leave one of them");
}

TEST_CASE("a studio's view makes the frames of a clip, the pictures of a sweep and of a balance",
          "[cli][look][ocio]") {
  if (!StudioTransform::is_built_in()) {
    return;
  }
  const TemporaryFolder dir;
  dir.write("s.ocio", studio_config());
  const std::string look = "transform = { config = 's.ocio', input = 'lin', look = 'warm' }\n";
  const std::vector<float> still = view_of(dir, look);
  const std::string rig = dir.write("a.toml", rig_with_look(look) + "[time]\nframes = [1, 2]\n");
  const auto picture = [&](const std::string& path) {
    const auto loaded = load_image(dir.path(path), false);
    REQUIRE(loaded);
    return loaded->rgb;
  };
  const ProgramRun clip = run_program({"animate", rig, "-o", dir.path("clip"), "--quiet"});
  INFO(clip.err);
  REQUIRE(clip.status == 0);
  double mean_clip = 0, mean_still = 0;
  const std::vector<float> frame = picture("clip/frames/frame.0001.png");
  for (std::size_t i = 0; i < still.size(); ++i) {
    mean_clip += static_cast<double>(frame[i]) / static_cast<double>(still.size());
    mean_still += static_cast<double>(still[i]) / static_cast<double>(still.size());
  }
  CHECK(mean_clip == Approx(mean_still).epsilon(0.01));
  // Balanced at the levels that are there: the same picture; the folder may be moved with its rig.
  REQUIRE(run_program({"balance", dir.path("o"), "--dim", "warm=1", "-o", dir.path("b")}).status ==
          0);
  CHECK(furthest_apart(picture("b/view.png"), still) <= 1);
  const ProgramRun read = run_program({"read", dir.path("o"), "--at", "32,30", "--json"});
  CHECK(read.status == 0);
  CHECK(read.out.find("\"clipped\": false") != std::string::npos);
  const ProgramRun report = run_program({"report", dir.path("o"), "-o", dir.path("r.html")});
  INFO(report.err);
  CHECK(report.status == 0);
}
