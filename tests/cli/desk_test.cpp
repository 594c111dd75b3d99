// jovilux desk: what the page holds is what balance makes of the layers.
#include "jovilux/base/sampler.h"
#include "jovilux/color/rgb.h"
#include "jovilux/color/studio_transform.h"
#include "jovilux/files/image.h"

#include <cmath>
#include <filesystem>

#include "figures/desk_page.h"
#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// What the page's script makes of a layer's planes.
std::vector<double> decoded(const figures::DeskLayer& layer, int width, int height) {
  const std::size_t pixels = static_cast<std::size_t>(width) * static_cast<std::size_t>(height),
                    w = static_cast<std::size_t>(width);
  std::vector<double> out(3 * pixels);
  std::vector<int> green(pixels), plane(pixels);
  for (std::size_t c = 0; c < 3; ++c) {
    for (std::size_t i = 0; i < pixels; ++i) {
      const int z = layer.planes[2 * c * pixels + i] | layer.planes[(2 * c + 1) * pixels + i] << 8;
      const int d = z % 2 == 1 ? -(z + 1) / 2 : z / 2;
      const bool left = i % w > 0, above = i >= w;
      const int a = left    ? plane[i - 1]
                    : above ? plane[i - w]
                            : 0,
                b = above ? plane[i - w] : a, corner = left && above ? plane[i - w - 1] : b;
      plane[i] = d + (corner >= std::max(a, b)   ? std::min(a, b)
                      : corner <= std::min(a, b) ? std::max(a, b)
                                                 : a + b - corner);
    }
    green = c == 0 ? plane : green;
    for (std::size_t i = 0; i < pixels; ++i) {
      const int step = plane[i] + (c == 0 ? 0 : green[i]);
      const double value =
          step == 0
              ? 0
              : std::copysign(layer.least * std::exp2((std::abs(step) - 1) / 1022.0 * layer.range),
                              step);
      out[3 * i + (c == 0 ? 1 : c == 1 ? 0 : 2)] = value;
    }
  }
  return out;
}

const std::string kRigForDesk =
    "jovilux = 1\n[render]\nsize = [120, 80]\nsamples = 16\nbounces = 3\n[look]\nexposure = 'EV "
    "5'\nwhite_balance = '3200 K'\n[[camera]]\nname='c'\nat=[0,-3,1.5]\nlook_at=[0,0,0.2]\n"
    "field_of_view=40\n[[object]]\nname='floor'\nshape={kind='plane'}\n[[object]]\nname='box'\n"
    "shape={kind='box', size=[0.4,0.4,0.4]}\nat=[0,0.3,0.2]\n"
    "[[light]]\nname='warm'\nkind='sphere'\nradius=0.1\nat=[-1,0,1.5]\noutput='800 lm'\n"
    "white='2700 K'\ngroup='house'\n[[light]]\nname='cool'\nkind='disk'\nradius=0.2\nat=[1,0,1.5]\n"
    "aim=[0,0,0]\noutput='600 lm'\ndimmer=0.8\nwhite='6500 K'\n"
    "[[meter]]\nname='desk-level'\nkind='illuminance'\nat=[0,-0.5,0.01]\ntarget=['100 lx','120 "
    "lx']\n";

// The most by which the page in a browser and what balance writes differ, in steps of eight bits,
// of a rig with a look; nothing where there is no browser.
std::optional<int> furthest_in_browser(const std::string& look) {
  const char* const browser = "/usr/bin/chromium";
  if (!std::filesystem::exists(browser)) {
    WARN("chromium is not installed: not tested");
    return std::nullopt;
  }
  const TemporaryFolder dir;
  dir.write("s.ocio",
            "ocio_profile_version: 2\nsearch_path: \"\"\nroles: {default: lin}\n"
            "displays:\n  monitor:\n    - !<View> {name: v, colorspace: screen}\n"
            "colorspaces:\n  - !<ColorSpace> {name: lin, bitdepth: 32f}\n"
            "  - !<ColorSpace>\n    name: screen\n    from_scene_reference: !<GroupTransform>\n"
            "      children:\n"
            "        - !<MatrixTransform> {matrix: [0.7, 0.2, 0.1, 0, 0.1, 0.8, 0.1, 0, 0.1, 0.2, "
            "0.7, 0, 0, 0, 0, 1]}\n"
            "        - !<ExponentTransform> {value: 0.4545}\n");
  REQUIRE(run_program(
              {"render", dir.write("r.toml", kRigForDesk + look), "-o", dir.path("out"), "--quiet"})
              .status == 0);
  REQUIRE(
      run_program({"desk", dir.path("out"), "-o", dir.path("desk.html"), "--no-meters"}).status ==
      0);
  const std::string cool = fmt::format("cool={:.9g}", 0.8 * std::exp2(-1.5));
  REQUIRE(run_program({"balance",
                       dir.path("out"),
                       "--dim",
                       cool,
                       "--dim",
                       "warm=2",
                       "--tint",
                       "cool=#ffbc89",
                       "-o",
                       dir.path("b")})
              .status == 0);
  const std::string tint = fmt::format(
      "tint+cool=1,{:.6f},{:.6f}", srgb_decoded(0xbc / 255.0), srgb_decoded(0x89 / 255.0));
  const ProgramRun shot =
      run_other(browser,
                {"--headless",
                 "--no-sandbox",
                 "--disable-gpu",
                 "--hide-scrollbars",
                 "--force-device-scale-factor=1",
                 "--window-size=1280,800",
                 "--virtual-time-budget=20000",
                 "--user-data-dir=" + dir.path("profile"),
                 "--screenshot=" + dir.path("shot.png"),
                 "file://" + dir.path("desk.html") + "#cool=-1.5&warm=1&exact=1&" + tint});
  INFO(shot.err);
  const auto page = load_image(dir.path("shot.png"), false),
             balanced = load_image(dir.path("b/view.png"), false);
  REQUIRE(page);
  REQUIRE(balanced);
  // The canvas stands below the head of the page; its corners are round.
  constexpr int kLeft = 16, kTop = 52, kCorner = 4;
  int worst = 0, lit = 0;
  for (int y = kCorner; y < balanced->height - kCorner; ++y) {
    for (int x = kCorner; x < balanced->width - kCorner; ++x) {
      for (int c = 0; c < 3; ++c) {
        const auto at = [&](const LinearImage& image, int px, int py) {
          return static_cast<int>(std::lround(
              255 * image.rgb[static_cast<std::size_t>(3 * (py * image.width + px) + c)]));
        };
        const int want = at(*balanced, x, y);
        worst = std::max(worst, std::abs(at(*page, kLeft + x, kTop + y) - want));
        lit += want > 20 ? 1 : 0;
      }
    }
  }
  CHECK(lit > 5000);
  return worst;
}

}  // namespace

TEST_CASE("a desk's layers are within a hundredth, zeros and signs kept", "[figures][desk]") {
  constexpr int kWide = 37, kHigh = 23;
  constexpr double kWhite = 100;
  Rng rng(3);
  std::vector<float> rgb(3 * kWide * kHigh);
  for (float& v : rgb) {
    const double u = rng.uniform();
    v = u < 0.1
            ? 0.0f
            : static_cast<float>((u < 0.2 ? -1 : 1) * kWhite * std::exp2(-16 + 20 * rng.uniform()));
  }
  const figures::DeskLayer layer = figures::desk_layer(rgb, kWide, kHigh, kWhite);
  const std::vector<double> back = decoded(layer, kWide, kHigh);
  double worst = 0;
  for (std::size_t i = 0; i < rgb.size(); ++i) {
    const double v = static_cast<double>(rgb[i]);
    if (v == 0) {
      CHECK(back[i] == 0);
    } else {
      worst = std::max(worst, std::abs(back[i] / v - 1));
    }
  }
  CHECK(worst < 0.01);
  CHECK(worst > 1e-4);  // it is a quantity in steps, no copy
  // A black layer is one.
  const figures::DeskLayer black =
      figures::desk_layer(std::vector<float>(rgb.size(), 0.0f), kWide, kHigh, kWhite);
  for (const double v : decoded(black, kWide, kHigh)) {
    CHECK(v == 0);
  }
}

TEST_CASE("a desk is one page with the lights' addresses and the meters' parts", "[cli][desk]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRigForDesk);
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet"}).status == 0);
  const ProgramRun run =
      run_program({"desk", dir.path("out"), "-o", dir.path("desk.html"), "--json", "--quiet"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  CHECK(run.json()["lights"] == 2);
  CHECK(run.json()["meters"] == 1);
  const std::string page = dir.read("desk.html");
  CHECK(run.json()["bytes"] == page.size());
  CHECK(page.size() < 1'000'000);
  CHECK(page.find("http:") == std::string::npos);  // fetches nothing
  CHECK(page.find("https:") == std::string::npos);
  CHECK(page.find("default-src 'none'") != std::string::npos);
  const std::string begin = "<script type=\"application/json\" id=\"desk\">";
  const std::size_t at = page.find(begin) + begin.size();
  const auto data = nlohmann::json::parse(page.substr(at, page.find("</script>", at) - at));
  CHECK(data["width"] == 120);
  CHECK(data["groups"] == nlohmann::json::array({"house"}));
  CHECK(data["lights"][0]["name"] == "cool");
  const auto& address = data["lights"][0]["addresses"][0];
  CHECK(address["address"] == "light.cool");
  CHECK(address["dimmer"] == 0.8);
  CHECK(address["value"] == 600);
  CHECK(address["unit"] == "lm");
  // The meter's parts are its reading by light.
  const auto meter =
      run_program({"meter", rig, "--json", "--error", "1 %"}).json()["meters"][0]["by_light"];
  CHECK(data["meters"][0]["parts"][0].get<double>() ==
        Approx(meter["cool"].get<double>()).epsilon(0.05));
  CHECK(data["meters"][0]["parts"][1].get<double>() ==
        Approx(meter["warm"].get<double>()).epsilon(0.05));
  // It is not written over unasked; a picture without layers is refused.
  CHECK(run_program({"desk", dir.path("out"), "-o", dir.path("desk.html")}).status == 2);
  CHECK(run_program({"desk", dir.path("out/view.png"), "-o", dir.path("d.html")}).status == 2);
}

TEST_CASE("the page in a browser shows what balance shows, within one step of eight bits",
          "[cli][desk][browser]") {
  if (const auto furthest = furthest_in_browser("")) {
    CHECK(*furthest <= 1);
  }
  if (!StudioTransform::is_built_in()) {
    return;
  }
  // A studio's own transform is a cube of values in the page.
  if (const auto furthest =
          furthest_in_browser("[look.transform]\nconfig = 's.ocio'\ninput = 'lin'\n")) {
    CHECK(*furthest <= 1);
  }
}

TEST_CASE("a desk offers what lines of the rig can say", "[figures][desk]") {
  const TemporaryFolder dir;
  const auto lights_of = [&](const std::string& lamp) {
    const std::string rig = dir.write(
        "r.toml",
        "jovilux = 1\n[render]\nsize = [8, 6]\nsamples = 8\n[[camera]]\nname='c'\nat=[0,-3,1]\n"
        "look_at=[0,0,0]\n[[object]]\nname='floor'\nshape={kind='plane'}\n[[light]]\nname='l'\n"
        "kind='point'\nat=[0,0,1]\noutput='100 lm'\n" +
            lamp);
    REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--quiet", "--force"}).status == 0);
    REQUIRE(run_program({"desk", dir.path("o"), "-o", dir.path("d.html"), "--force"}).status == 0);
    const std::string page = dir.read("d.html");
    const std::string begin = "id=\"desk\">";
    const std::size_t at = page.find(begin) + begin.size();
    return nlohmann::json::parse(page.substr(at, page.find("</script>", at) - at))["lights"][0];
  };
  const nlohmann::json plain = lights_of("white='2700 K'\n");
  CHECK(plain["whiteIsFree"] == true);
  CHECK(plain["lock"] == "");
  CHECK(plain["slide"].empty());
  // A tint takes the place of the rig's: the color without it is known.
  const nlohmann::json tinted = lights_of("tint=[1, 0.5, 0.25]\n");
  CHECK(tinted["tint"] == nlohmann::json::array({1.0, 0.5, 0.25}));
  CHECK(tinted["bare"][2].get<double>() == Approx(1).epsilon(0.02));  // D65
  CHECK(tinted["source"][2].get<double>() < 0.5);
  // Whites that slide, spectra and limits are not free.
  const nlohmann::json sliding = lights_of("white='2700 K'\ndim_to_warm='1800 K'\n");
  CHECK(sliding["tintIsFree"] == false);
  CHECK(sliding["slide"].size() > 10);
  CHECK(lights_of("spectrum='cie-f11'\n")["whiteIsFree"] == false);
  CHECK(lights_of("cheat={bounce_limit='5 cd/m2'}\n")["lock"].get<std::string>().find(
            "bounce_limit") != std::string::npos);
}
