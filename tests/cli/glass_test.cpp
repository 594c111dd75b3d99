// Glass, panes and sheets against closed forms, through the built program.
#include "jovilux/base/sampler.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/optics/microfacet.h"
#include "jovilux/optics/surface.h"

#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A camera at the origin that looks along +y at a panel of 1000 cd/m2 at y = 3, through what
// `between` puts there.
std::string at_panel(const std::string& between, int bounces = 8) {
  return fmt::format(
             "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\nfield_of_view='0.05 "
             "deg'\n[render]\nsize=[8,8]\nsamples=256\nbounces={}\n{}",
             bounces,
             between) +
         light("kind='rect'\nsize=[1,1]\nat=[0,3,0]\ntoward=[0,-1,0]\noutput='1000 cd/m2'\n");
}

}  // namespace

TEST_CASE("a pane lets (1 - r) / (1 + r) through, and shadow rays straight",
          "[cli][glass][truth]") {
  const double r = 0.04, through = (1 - r) / (1 + r);  // n = 1.5, head on
  const std::string pane = "[[material]]\nname='pane'\nkind='glass'\nior=1.5\nthin=true\n";
  check_luminance(at_panel(pane + "[[object]]\nname='p'\nshape={kind='rect', "
                                  "size=[1,1]}\nrotate=[90,0,0]\nat=[0,1,0]\nmaterial='pane'\n"),
                  1000 * through,
                  0.03,
                  16);
  // A tinted pane between a lamp and the plane: the shadow ray passes it at its own angle, and is
  // weakened by it.
  const std::string lit = looking_at({0.8, 0, 0.4},
                                     {0, 0, 0},
                                     pane +
                                         "color=[0.5,0.5,0.5]\n[[object]]\nname='p'\nshape={kind='"
                                         "rect', size=[0.5,0.5]}\nat=[0,0,1]\nmaterial='pane'\n" +
                                         light("kind='point'\nat=[0,0,2]\noutput='100 cd'\n"));
  check_luminance(lit, 0.5 * through * 100 / 4.0 * kPlaneFactor, 0.02, 8);
  // A lamp with a body, which both ways find; through two panes.
  const std::string ball =
      looking_at({0.8, 0, 0.4},
                 {0, 0, 0},
                 pane +
                     "[[object]]\nname='p'\nshape={kind='rect', "
                     "size=[3,3]}\nat=[0,0,0.8]\nmaterial='pane'\n[[object]]\nname='q'\nshape={"
                     "kind='rect', size=[3,3]}\nat=[0,0,0.9]\nmaterial='pane'\n" +
                     light("kind='sphere'\nradius=0.2\nat=[0,0,2]\noutput='100 cd'\n"));
  check_luminance(ball, through * through * 100 / 4.0 * kPlaneFactor, 0.03, 16);
}

TEST_CASE("each sample meets the lamp whose image a pane or a coat shows, and what lies behind it",
          "[cli][glass][truth]") {
  const double r = 0.04, back = 2 * r / (1 + r), through = (1 - r) / (1 + r);  // n = 1.5, head on
  const std::string scene =
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\nfield_of_view='0.05 deg'\n"
      "[render]\nsize=[8,8]\nsamples=1\n"
      "[[material]]\nname='pane'\nkind='glass'\nior=1.5\nthin=true\n"
      "[[object]]\nname='p'\nshape={kind='rect', "
      "size=[1,1]}\nrotate=[90,0,0]\nat=[0,1,0]\nmaterial='pane'\n" +
      light("kind='rect'\nsize=[1,1]\nat=[0,-2,0]\ntoward=[0,1,0]\noutput='1000 cd/m2'\n");
  const std::string behind =
      "[[light]]\nname='behind'\nkind='rect'\nsize=[1,1]\nat=[0,3,0]\ntoward=[0,-1,0]\n"
      "output='300 cd/m2'\n";
  // A coat over black instead: its face alone mirrors.
  std::string coat = scene;
  const std::string thin = "kind='glass'\nior=1.5\nthin=true\n";
  coat.replace(coat.find(thin), thin.size(), "kind='gloss'\ncolor=[0,0,0]\nroughness=0\n");
  const TemporaryFolder dir;
  for (const auto& [rig, wanted] : std::initializer_list<std::pair<std::string, double>>{
           {scene, 1000 * back}, {scene + behind, 1000 * back + 300 * through}, {coat, 1000 * r}}) {
    const ProgramRun run = run_program(
        {"render", dir.write("r.toml", rig), "-o", dir.path("o"), "--quiet", "--force"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    const auto image = load_rendered(dir.path("o"), false);
    REQUIRE(image);
    for (std::size_t i = 0; i < image->pixels(); ++i) {
      CHECK(image->luminance(i) == Approx(wanted).epsilon(1e-3));
    }
  }
}

namespace {

// A pane or a coat 1 m before the camera, dark behind, that mirrors a board behind the camera. The
// sun falls on the board from the side, past the pane: its luminance is rho E cos 45 / pi.
constexpr double kBoardReflectance = 0.6, kSunIlluminance = 50000;
std::string board_seen_in(const std::string& material, const std::string& size_and_samples) {
  return "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\n"
         "field_of_view='0.05 deg'\n[render]\nbounces=2\n" +
         size_and_samples + "[[material]]\nname='mirror'\n" + material +
         "[[material]]\nname='white'\nkind='diffuse'\ncolor=[0.6,0.6,0.6]\n"
         "[[object]]\nname='p'\nshape={kind='rect', size=[1,1]}\nrotate=[90,0,0]\nat=[0,1,0]\n"
         "material='mirror'\n[[object]]\nname='board'\nshape={kind='rect', size=[1,1]}\n"
         "rotate=[90,0,0]\nat=[0,-2,0]\nmaterial='white'\n" +
         light("kind='sun'\ntoward=[-1,-1,0]\noutput='50000 lx'\n");
}
const double kBoardLuminance = kBoardReflectance * kSunIlluminance * std::sqrt(0.5) / kPiD;
const std::string kPane = "kind='glass'\nior=1.5\nthin=true\n",
                  kBlackCoat = "kind='gloss'\ncolor=[0,0,0]\nroughness=0\n";

}  // namespace

TEST_CASE("a lit board is seen in a pane and in a coat by its luminance times their reflectance",
          "[cli][glass][truth]") {
  const double r = 0.04;
  const std::string small = "size=[8,8]\nsamples=256\n";
  check_luminance(board_seen_in(kPane, small), kBoardLuminance * 2 * r / (1 + r), 0.05, 16);
  check_luminance(board_seen_in(kBlackCoat, small), kBoardLuminance * r, 0.08, 16);
}

TEST_CASE("an image in a pane or a coat before the dark is met by nearly every sample",
          "[cli][glass]") {
  // Followed with the chance of being mirrored, 0.077 and 0.04, pixels of 16 samples would scatter
  // by 87 and 122 %. Enough samples that the picture's usual luminance is learned.
  const double r = 0.04;
  const TemporaryFolder dir;
  for (const auto& [material, reflectance] : std::initializer_list<std::pair<std::string, double>>{
           {kPane, 2 * r / (1 + r)}, {kBlackCoat, r}}) {
    const std::string rig =
        dir.write("r.toml", board_seen_in(material, "size=[96,60]\nsamples=16\n"));
    const ProgramRun run = run_program({"render", rig, "-o", dir.path("o"), "--quiet", "--force"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    const auto image = load_rendered(dir.path("o"), false);
    REQUIRE(image);
    double sum = 0, squares = 0;
    for (std::size_t i = 0; i < image->pixels(); ++i) {
      sum += image->luminance(i);
      squares += image->luminance(i) * image->luminance(i);
    }
    const double n = static_cast<double>(image->pixels()), mean = sum / n;
    CHECK(mean == Approx(kBoardLuminance * reflectance).epsilon(0.01));
    CHECK(std::sqrt(squares / n - mean * mean) < 0.1 * mean);
  }
}

TEST_CASE("a lamp's image in a pane is met in haze as well, less what the haze takes",
          "[cli][glass][haze][truth]") {
  // Black smoke over 1 m to the pane and 3 m on to the lamp. Reflected by chance, pixels of 16
  // samples would scatter by 120 %; by the chance of passing the 3 m alone 23 %.
  const double r = 0.04, back = 2 * r / (1 + r), passed = std::exp(-0.2 * 4);
  const std::string scene =
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\nfield_of_view='0.05 deg'\n"
      "[render]\nsize=[96,60]\nsamples=16\n[[haze]]\nname='smoke'\ninside='everywhere'\n"
      "extinction='0.2 /m'\nalbedo=0\n"
      "[[material]]\nname='pane'\nkind='glass'\nior=1.5\nthin=true\n"
      "[[object]]\nname='p'\nshape={kind='rect', "
      "size=[1,1]}\nrotate=[90,0,0]\nat=[0,1,0]\nmaterial='pane'\n" +
      light("kind='rect'\nsize=[1,1]\nat=[0,-2,0]\ntoward=[0,1,0]\noutput='1000 cd/m2'\n");
  const TemporaryFolder dir;
  const ProgramRun run = run_program(
      {"render", dir.write("r.toml", scene), "-o", dir.path("o"), "--quiet", "--force"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto image = load_rendered(dir.path("o"), false);
  REQUIRE(image);
  RunningMoments m;
  for (std::size_t i = 0; i < image->pixels(); ++i) {
    m.add(image->luminance(i));
  }
  INFO(m.mean() << ", scatter " << std::sqrt(m.variance()));
  CHECK(m.mean() == Approx(1000 * back * passed).epsilon(0.015));
  CHECK(std::sqrt(m.variance()) < 0.35 * m.mean());
}

TEST_CASE("images in two panes, seen through a third, add up", "[cli][glass][truth]") {
  // Two panes reflect R2 = R + T^2 R / (1 - R^2); with the third one, to and fro between them,
  // R2 T / (1 - R R2) of the board is seen. Whether an image is followed depends on what the other
  // one brought: numbers that both use would lose one of them.
  const double R = 2 * 0.04 / 1.04, T = 1 - R, two = R + T * T * R / (1 - R * R);
  const auto pane = [](const char* name, const char* y) {
    return fmt::format(
        "[[object]]\nname='{}'\nshape={{kind='rect', size=[1,1]}}\n"
        "rotate=[90,0,0]\nat=[0,{},0]\nmaterial='mirror'\n",
        name,
        y);
  };
  std::string rig = board_seen_in(kPane, "size=[96,60]\nsamples=16\n") + pane("q", "1.2") +
                    pane("near-board", "-1");
  rig.replace(rig.find("bounces=2"), 9, "bounces=9");
  check_luminance(rig, kBoardLuminance * two * T / (1 - R * two), 0.03, 4);
}

TEST_CASE("glass reflects by Fresnel, absorbs over its thickness and bends light",
          "[cli][glass][truth]") {
  const double r = 0.04;
  // A slab 20 cm thick, absorbing 2 /m: both faces, and all passages to and fro between them.
  const double a = std::exp(-2 * 0.2), through = (1 - r) * (1 - r) * a / (1 - r * r * a * a);
  check_luminance(at_panel("[[material]]\nname='g'\nkind='glass'\nior=1.5\nabsorption='2 "
                           "/m'\n[[object]]\nname='s'\nshape={kind='box', "
                           "size=[1,0.2,1]}\nat=[0,1,0]\nmaterial='g'\n",
                           20),
                  1000 * through,
                  0.03,
                  16);
  // Slanted by 40 degrees: refracted in and out, a longer way inside, the panel behind it wide
  // enough to be hit all the same.
  const double t = 40 * kPiD / 180, cos_inside = std::sqrt(1 - sqr(std::sin(t) / 1.5));
  const double R = fresnel_dielectric(static_cast<float>(std::cos(t)), 1.5f),
               A = std::exp(-2 * 0.2 / cos_inside);
  // What is reflected between the faces leaves sidewards to the same panel, or misses it: only the
  // straight way is counted here.
  check_luminance(at_panel("[[material]]\nname='g'\nkind='glass'\nior=1.5\nabsorption='2 "
                           "/m'\n[[object]]\nname='s'\nshape={kind='box', "
                           "size=[3,0.2,3]}\nat=[0,1.2,0]\nrotate=[40,0,0]\nmaterial='g'\n",
                           2),
                  1000 * (1 - R) * (1 - R) * A,
                  0.03,
                  16);
}

TEST_CASE("a translucent surface shares light between its sides", "[cli][sheet][truth]") {
  // The plane's place replaced by a translucent surface, looked at from above, lit from above or
  // below: E (1 - t) c / pi and E t c / pi.
  const auto rig = [](double z) {
    return fmt::format(
               "jovilux = "
               "1\n[[camera]]\nname='c'\nat=[0.5,0,1]\nlook_at=[0,0,0]\nfield_of_view='0.05 "
               "deg'\n[render]\nsize=[8,8]\nsamples=64\nbounces=1\n[[material]]\nname='paper'"
               "\nkind='translucent'\ncolor=[0.8,0.8,0.8]\ntransmittance=0.35\n"
               "[[object]]\nname='s'\nshape={{kind='rect', size=[4,4]}}\nmaterial='paper'\n",
               z) +
           light(fmt::format("kind='sphere'\nradius=0.3\nat=[0,0,{}]\noutput='100 cd'\n", z));
  };
  check_luminance(rig(2), 100 / 4.0 * 0.8 * 0.65 / kPiD, 0.03, 16);
  check_luminance(rig(-2), 100 / 4.0 * 0.8 * 0.35 / kPiD, 0.03, 16);
}

TEST_CASE("glass, panes and sheets neither add nor lose light in an even surround",
          "[cli][glass][furnace]") {
  const std::string surround =
      "[[light]]\nname='all'\nkind='dome'\nimage='white.hdr'\noutput='as-is'\n";
  const TemporaryFolder dir;
  // 8 x 4 pixels, all 100: mantissa 200 (and a half), exponent 135.
  std::string hdr = "#?RADIANCE\nFORMAT=32-bit_rle_rgbe\n\n-Y 4 +X 8\n";
  for (int i = 0; i < 32; ++i) {
    hdr += std::string("\xc8\xc8\xc8\x87", 4);
  }
  dir.write("white.hdr", hdr);
  for (const std::string material : {"kind='glass'\nior=1.5\n",
                                     "kind='glass'\nior=1.5\nthin=true\n",
                                     "kind='translucent'\ncolor=[1,1,1]\ntransmittance=0.4\n"}) {
    const std::string rig = dir.write(
        "r.toml",
        "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,0]\nlook_at=[0.2,0,0.1]\nfield_of_view='0.05 "
        "deg'\n[render]\nsize=[8,8]\nsamples=256\nbounces=300\n[[material]]\nname='m'\n" +
            material + "[[object]]\nname='b'\nshape={kind='sphere', radius=1}\nmaterial='m'\n" +
            surround);
    RunningMoments m;
    for (int seed = 1; seed <= 8; ++seed) {
      m.add(reading(dir, rig, seed)["luminance_cd_m2"]);
    }
    INFO(material << m.mean() << " +- " << m.standard_error());
    CHECK(m.mean() == Approx(100.25).epsilon(0.01));
  }
}

TEST_CASE("haze before and behind panes is as thick as without them", "[cli][glass][haze][truth]") {
  // 3 m of absorbing haze with three panes in it: what haze takes of each stretch is chosen apart
  // from the others.
  std::string between =
      "[[haze]]\nname='h'\ninside='everywhere'\nextinction='0.4 "
      "/m'\nalbedo=0\n[[material]]\nname='pane'\nkind='glass'\nthin=true\n";
  for (int i = 0; i < 3; ++i) {
    between += fmt::format(
        "[[object]]\nname='p{0}'\nshape={{kind='rect', "
        "size=[1,1]}}\nrotate=[90,0,0]\nat=[0,{1},0]\nmaterial='pane'\n",
        i,
        0.6 + 0.8 * i);
  }
  // Between three panes a little goes to and fro: each such turn is two reflections of 2 r / (1 +
  // r) = 7.7 % and a longer way;
  // with no bounce none of it is seen.
  const double through = (1 - 0.04) / (1 + 0.04);
  std::string text = at_panel(between, 0);
  text.replace(text.find("samples=256"), 11, "samples=1024");
  check_luminance(text, 1000 * std::pow(through, 3) * std::exp(-0.4 * 3), 0.03, 16);
}
