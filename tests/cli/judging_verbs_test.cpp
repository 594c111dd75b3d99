// meter, sweep, balance, compare, false-color and show, through the built program.
#include "jovilux/base/quadrature.h"
#include "jovilux/base/text.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"

#include <cmath>

#include "cli/progress_bar.h"
#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

std::string meter(const std::string& text) {
  return "[[meter]]\nname='m'\nkind='illuminance'\n" + text;
}

nlohmann::json metered(const TemporaryFolder& dir,
                       const std::string& text,
                       const std::vector<std::string>& words = {}) {
  std::vector<std::string> all = {
      "meter", dir.write("r.toml", "jovilux = 1\n" + text), "--json", "--error", "0.2 %"};
  all.insert(all.end(), words.begin(), words.end());
  const ProgramRun run = run_program(all);
  INFO(run.err << run.out);
  REQUIRE(run.status <= 1);
  return run.json()["meters"];
}

// A value with a stated error holds the truth.
void holds(const nlohmann::json& m, double exact) {
  const double value = m["value"], error = m["standard_error"];
  INFO(value << " +- " << error << " against " << exact);
  CHECK(std::abs(value - exact) < 6 * error + 1e-4 * exact);
  CHECK(error < 0.003 * exact);
  CHECK(std::abs(1.05 * value - exact) > 6 * error);
}

const std::string kTwoLamps =
    "[[camera]]\nname='c'\nat=[0,-3,1.5]\nlook_at=[0,0,0]\nfield_of_view=40\n[render]\nsize=[48,32]"
    "\nsamples=64\nbounces=3\n[[object]]\nname='floor'\nshape={kind='plane'}\n[[object]]\nname='"
    "box'\nshape={kind='box', size=[0.4,0.4,0.4]}\nat=[0,0.3,0.2]\n"
    "[[light]]\nname='warm'\nkind='sphere'\nradius=0.1\nat=[-1,0,1.5]\noutput='800 "
    "lm'\nwhite='2700 "
    "K'\n[[light]]\nname='cool'\nkind='disk'\nradius=0.2\nat=[1,0,1.5]\naim=[0,0,0]\noutput='600 "
    "lm'\ndimmer=0.8\n"
    "[[meter]]\nname='desk'\nkind='illuminance'\nat=[0,-0.5,0.01]\ntarget=['100 lx','120 "
    "lx']\n[[meter]]\nname='spot'\nkind='luminance'\nat=[0,-3,1.5]\naim=[0,-0.5,0]\nfield='0.5 "
    "deg'\n";

}  // namespace

TEST_CASE("meters show the closed forms: point, disk, sun, enclosure", "[cli][meter][truth]") {
  const TemporaryFolder dir;
  // 1000 lm at 2 m; slanted by 60 degrees half of it; from behind nothing.
  const std::string point = light("kind='point'\nat=[0,0,2]\noutput='1000 lm'\n");
  holds(metered(dir, meter("at=[0,0,0]\n") + point)[0], 1000 / (4 * kPiD) / 4);
  holds(metered(dir, meter("at=[0,0,0]\nfacing=[0.8660254,0,0.5]\n") + point)[0],
        1000 / (4 * kPiD) / 8);
  CHECK(metered(dir, meter("at=[0,0,0]\nfacing=[0,0,-1]\n") + point)[0]["value"] == 0);
  holds(metered(
            dir,
            meter("at=[0,0,0]\n") +
                light("kind='disk'\nradius=0.5\nat=[0,0,1]\naim=[0,0,0]\noutput='300 cd/m2'\n"))[0],
        kPiD * 300 * 0.25 / 1.25);
  holds(metered(dir,
                meter("at=[0,0,0]\n") +
                    light("kind='sun'\ntoward=[0.5,0,-0.8660254]\noutput='1000 lx'\n"))[0],
        866.0254);
  holds(metered(dir,
                meter("at=[0,0,0]\n") + light("kind='sky'\nmodel='uniform'\noutput='500 lx'\n"))[0],
        500);
  // In a closed ball of albedo 0.5, everywhere Phi / (4 pi R^2) / (1 - rho), the direct and the
  // bounced light apart.
  const auto ball = metered(
      dir,
      "[render]\nbounces=30\n[[object]]\nname='ball'\nshape={kind='sphere', radius=2}\n" +
          meter("at=[0,0,-1.999]\n") + light("kind='point'\nat=[0,0,0]\noutput='1000 lm'\n"));
  const double direct = 1000 / (4 * kPiD) / sqr(1.999);
  holds(ball[0], direct + 1000 / (4 * kPiD * 4));
  CHECK(ball[0]["direct"].get<double>() == Approx(direct).epsilon(0.003));
  CHECK(ball[0]["bounce"].get<double>() == Approx(1000 / (4 * kPiD * 4)).epsilon(0.02));
  // Luminance: of a panel it is pointed at.
  holds(
      metered(
          dir,
          "[[meter]]\nname='m'\nkind='luminance'\nat=[0,0,0]\naim=[0,2,0]\n" +
              light(
                  "kind='rect'\nsize=[1,1]\nat=[0,2,0]\ntoward=[0,-1,0]\noutput='700 cd/m2'\n"))[0],
      700);
  // Through haze.
  const auto haze =
      metered(dir,
              "[[haze]]\nname='h'\ninside='everywhere'\nextinction='0.3 /m'\nalbedo=0.9\n" +
                  meter("at=[0,0,0]\n") + point);
  CHECK(haze[0]["direct"].get<double>() ==
        Approx(1000 / (4 * kPiD) / 4 * std::exp(-0.6)).epsilon(0.005));
  CHECK(haze[0]["haze"].get<double>() > 0.5);
}

TEST_CASE("a meter and a gray card rendered agree", "[cli][meter]") {
  const TemporaryFolder dir;
  const std::string lamps =
      light("kind='sphere'\nradius=0.3\nat=[0.5,0.4,1.5]\noutput='900 lm'\n") +
      "[[object]]\nname='wall'\nshape={kind='rect', "
      "size=[3,3]}\nat=[-0.8,0,0.5]\nrotate=[0,90,0]\n";
  const auto lux = metered(dir,
                           "[render]\nbounces=4\n[[object]]\nname='plane'\nshape={kind='plane'}\n" +
                               meter("at=[0,0,0.0001]\n") + lamps)[0];
  std::string card = looking_at({0.4, 0, 1}, {0, 0, 0}, lamps);
  card.replace(card.find("bounces = 1"), 11, "bounces = 5");
  card.replace(card.find("samples = 96"), 12, "samples = 512");
  const auto seen = reading(dir, dir.write("card.toml", card), 1);
  const double as_lux = seen["luminance_cd_m2"].get<double>() / kPlaneFactor,
               error = seen["standard_error_cd_m2"].get<double>() / kPlaneFactor;
  INFO(lux["value"] << " +- " << lux["standard_error"] << " against " << as_lux << " +- " << error);
  CHECK(std::abs(lux["value"].get<double>() - as_lux) <
        8 * std::hypot(error, lux["standard_error"].get<double>()) + 0.002 * as_lux);
}

TEST_CASE("a meter's stated error is that of its values over seeds", "[cli][meter][statistical]") {
  const TemporaryFolder dir;
  const std::string text =
      "[render]\nbounces=2\n[[object]]\nname='plane'\nshape={kind='plane'}\n[[object]]\nname='wall'"
      "\nshape={kind='rect', size=[3,3]}\nat=[-0.8,0,0.5]\nrotate=[0,90,0]\n" +
      meter("at=[0,0,0.01]\n") +
      light("kind='sphere'\nradius=0.3\nat=[0.5,0.4,1.5]\noutput='900 lm'\n");
  RunningMoments values, stated;
  for (int seed = 1; seed <= 100; ++seed) {
    const auto m =
        metered(dir, text, {"--error", "20 %", "--set", fmt::format("render.seed={}", seed)})[0];
    values.add(m["value"]);
    stated.add(sqr(m["standard_error"].get<double>()));
  }
  INFO("spread " << std::sqrt(values.variance()) << ", stated " << std::sqrt(stated.mean()));
  // 100 values tell their variance to 14 %.
  CHECK(values.variance() / stated.mean() == Approx(1).margin(0.6));
}

TEST_CASE("targets have verdicts, grids their average, and the figures are written",
          "[cli][meter]") {
  const TemporaryFolder dir;
  const std::string text =
      "jovilux = 1\n" +
      meter("grid={from=[-1,-1,0], to=[1,1,0], count=[3,3]}\ntarget=['1 lx','1000 lx']\n") +
      light("kind='point'\nat=[0,0,2]\noutput='1000 lm'\n");
  const std::string rig = dir.write("g.toml", text);
  const ProgramRun run = run_program({"meter", rig, "--json", "-o", dir.path("out")});
  REQUIRE(run.status == 0);
  const auto j = run.json();
  REQUIRE(j["meters"].size() == 9);
  CHECK(j["meters"][4]["name"] == "m[1,1]");
  CHECK(j["meters"][4]["value"].get<double>() == Approx(19.8944).epsilon(1e-4));
  const double corner = 1000 / (4 * kPiD) / 6 * 2 / std::sqrt(6.0),
               edge = 1000 / (4 * kPiD) / 5 * 2 / std::sqrt(5.0);
  CHECK(j["grids"][0]["minimum"].get<double>() == Approx(corner).epsilon(1e-4));
  CHECK(j["grids"][0]["average"].get<double>() ==
        Approx((4 * corner + 4 * edge + 19.8944) / 9).epsilon(1e-4));
  CHECK(dir.read("out/m.csv").find("x_m,y_m,z_m,value_lx") == 0);
  CHECK(dir.read("out/m.png").starts_with("\x89PNG"));
  // A grid of one row is no page with white below it: its cells fill half of the picture.
  REQUIRE(
      run_program(
          {"meter", rig, "--set", "meter.m.grid.count=[9, 1]", "-o", dir.path("row"), "--quiet"})
          .status == 0);
  const auto row = load_image(dir.path("row/m.png"));
  REQUIRE(row);
  std::size_t colored = 0;
  for (std::size_t i = 0; i < row->rgb.size(); i += 3) {
    colored += std::abs(row->rgb[i] - row->rgb[i + 2]) > 0.05f ? 1 : 0;
  }
  CHECK(colored > row->rgb.size() / 3 / 2);
  CHECK(run_program({"meter", rig, "--set", "meter.m.target=[\"30 lx\", \"40 lx\"]"}).status == 1);
  CHECK(run_program({"meter", rig, "--meter", "n"}).status == 2);
  CHECK(run_program({"meter", rig, "--error", "much"}).status == 2);
  CHECK(run_program({"meter", dir.write("none.toml", "jovilux = 1\n")}).status == 2);
  for (const auto& [wrong, says] : std::map<std::string, std::string>{
           {"at=[0,0,0]\ngrid={from=[0,0,0], to=[1,1,0], count=[2,2]}\n", "both given"},
           {"", "at: is missing"},
           {"grid={from=[0,0,0], to=[1,1,1], count=[2,2]}\n", "one or two axes"},
           {"at=[0,0,0]\ntarget=['5 lx','1 lx']\n", "the lowest"},
           {"at=[0,0,0]\nfield='1 deg'\n", "does not go with"}}) {
    const ProgramRun bad =
        run_program({"check", dir.write("bad.toml", "jovilux = 1\n" + meter(wrong))});
    INFO(bad.out);
    CHECK(bad.status == 1);
    CHECK(bad.out.find(says) != std::string::npos);
  }
  // The same bits for any number of threads.
  CHECK(run_program({"meter", rig, "--json", "--threads", "1"}).out ==
        run_program({"meter", rig, "--json", "--threads", "2"}).out);
}

TEST_CASE("balance is the picture of the new dimmers, and targets are met when metered again",
          "[cli][balance]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  REQUIRE(run_program({"render", rig, "-o", dir.path("a"), "--quiet"}).status == 0);
  const auto whole = [&](const std::string& folder) {
    return run_program({"read", dir.path(folder), "--json"}).json()["readings"][0];
  };
  // Unchanged to the bit.
  REQUIRE(run_program({"balance", dir.path("a"), "-o", dir.path("same")}).status == 0);
  CHECK(run_program({"compare", dir.path("a"), dir.path("same"), "--json"}).json()["rmse_cd_m2"] ==
        0);
  // A dimmer set, and the same rendered.
  REQUIRE(
      run_program(
          {"balance", dir.path("a"), "--dim", "cool=0.2", "--mute", "warm", "-o", dir.path("set")})
          .status == 0);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("b"),
                       "--quiet",
                       "--set",
                       "light.cool.dimmer=0.2",
                       "--set",
                       "light.warm.on=false",
                       "--set",
                       "render.seed=7"})
              .status == 0);
  const auto set = whole("set"), again = whole("b");
  CHECK(std::abs(set["luminance_cd_m2"].get<double>() - again["luminance_cd_m2"].get<double>()) <
        6 * again["standard_error_cd_m2"].get<double>() +
            0.002 * again["luminance_cd_m2"].get<double>());
  CHECK(dir.read("set/rig.resolved.toml").find("dimmer = 0.2") != std::string::npos);
  const ProgramRun solo =
      run_program({"balance", dir.path("a"), "--solo", "warm", "--tint", "warm=#ff8040", "--json"});
  REQUIRE(solo.status == 0);
  const auto by_name = [](const ProgramRun& run) {
    std::map<std::string, nlohmann::json> out;
    const nlohmann::json told = run.json();
    for (const auto& l : told["lights"]) {
      out[l["name"]] = l;
    }
    return out;
  };
  CHECK(by_name(solo).at("warm")["tint"] != nullptr);
  CHECK(by_name(solo).at("cool")["dimmer"] == 0);
  // A target within reach, rendered and metered again.
  const ProgramRun target =
      run_program({"balance", dir.path("a"), "--target", "desk=\"40 lx\"", "--json"});
  INFO(target.out << target.err);
  REQUIRE(target.status == 0);
  std::vector<std::string> words = {"meter", rig, "--json", "--error", "0.2 %", "--meter", "desk"};
  for (const auto& l : target.json()["lights"].get<std::vector<nlohmann::json>>()) {
    words.insert(
        words.end(),
        {"--set",
         fmt::format(
             "light.{}.dimmer={}", l["name"].get<std::string>(), l["dimmer"].get<double>())});
  }
  CHECK(run_program(words).json()["meters"][0]["value"].get<double>() == Approx(40).epsilon(0.01));
  // Beyond reach: said, with what can be had.
  const ProgramRun beyond = run_program({"balance", dir.path("a"), "--target", "desk=\"4000 lx\""});
  CHECK(beyond.status == 1);
  CHECK(beyond.out.find("cannot be reached") != std::string::npos);
  // A reference of other levels.
  const ProgramRun match =
      run_program({"balance", dir.path("a"), "--match", dir.path("b"), "--json"});
  REQUIRE(match.status == 0);
  CHECK(by_name(match).at("warm")["dimmer"].get<double>() == Approx(0).margin(0.02));
  CHECK(by_name(match).at("cool")["dimmer"].get<double>() == Approx(0.2).epsilon(0.05));
  for (const auto& wrong :
       std::vector<std::vector<std::string>>{{"--dim", "warm"},
                                             {"--dim", "warm=-7"},
                                             {"--dim", "wram=0.5"},
                                             {"--target", "desk=much"},
                                             {"--target", "desk=\"1 lx\"", "--match", "x.png"}}) {
    std::vector<std::string> all = {"balance", dir.path("a")};
    all.insert(all.end(), wrong.begin(), wrong.end());
    CHECK(run_program(all).status == 2);
  }
}

TEST_CASE("a sweep renders each value once, keeps what is done, and takes dimmers from layers",
          "[cli][sweep]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  const std::vector<std::string> words = {"sweep",
                                          rig,
                                          "--vary",
                                          "light.warm.radius = 0.05, 0.2",
                                          "-o",
                                          dir.path("s"),
                                          "--quiet",
                                          "--samples",
                                          "8",
                                          "--at",
                                          "24,20",
                                          "--json"};
  const auto first = run_program(words).json();
  CHECK(first["rendered"] == 2);
  REQUIRE(first["points"].size() == 2);
  CHECK(first["points"][0]["readings"].size() == 1);
  const auto second = run_program(words).json();
  CHECK(second["rendered"] == 0);
  CHECK(second["kept"] == 2);
  CHECK(second["points"] == first["points"]);
  for (const char* file :
       {"s/sheet.png", "s/curves.png", "s/readings.csv", "s/01/view.png", "s/02/image.exr"}) {
    CHECK_FALSE(dir.read(file).empty());
  }
  // The levels of one light: one render, the rest from its layers, as if rendered.
  const auto dimmed = run_program({"sweep",
                                   rig,
                                   "--vary",
                                   "light.cool.dimmer = 0 .. 1 / 3",
                                   "-o",
                                   dir.path("d"),
                                   "--quiet",
                                   "--box",
                                   "0,0,48,32",
                                   "--json"})
                          .json();
  CHECK(dimmed["rendered"] == 1);
  CHECK(dimmed["from_layers"] == 2);
  REQUIRE(run_program(
              {"render", rig, "-o", dir.path("half"), "--quiet", "--set", "light.cool.dimmer=0.5"})
              .status == 0);
  const auto half = run_program({"read", dir.path("half"), "--json"}).json()["readings"][0];
  CHECK(dimmed["points"][1]["readings"][0]["luminance_cd_m2"].get<double>() ==
        Approx(half["luminance_cd_m2"].get<double>()).epsilon(0.01));
  // Two parameters make a table; a wrong value in the last is told before anything is rendered.
  const auto table = run_program({"sweep",
                                  rig,
                                  "--vary",
                                  "light.warm.white = 2700 K, 5000 K",
                                  "--vary",
                                  "light.cool.on = true, false",
                                  "-o",
                                  dir.path("t"),
                                  "--quiet",
                                  "--samples",
                                  "2",
                                  "--json"})
                         .json();
  CHECK(table["points"].size() == 4);
  const ProgramRun bad = run_program(
      {"sweep", rig, "--vary", "light.warm.radius = 0.05, -1", "-o", dir.path("bad"), "--quiet"});
  CHECK(bad.status == 2);
  CHECK_FALSE(std::filesystem::exists(dir.path("bad")));
}

TEST_CASE("false color, comparison and the terminal view are drawn from any picture",
          "[cli][figures]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  REQUIRE(run_program({"render", rig, "-o", dir.path("a"), "--quiet", "--samples", "8"}).status ==
          0);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("b"),
                       "--quiet",
                       "--samples",
                       "8",
                       "--set",
                       "light.warm.dimmer=0.5"})
              .status == 0);
  CHECK(run_program({"false-color", dir.path("a"), "-o", dir.path("f"), "--pixels"}).status == 0);
  CHECK(dir.read("f/false-color.png").starts_with("\x89PNG"));
  CHECK(dir.read("f/pixels.png").starts_with("\x89PNG"));
  const auto bands =
      run_program(
          {"false-color", dir.path("a/view.png"), "--json", "--bands", "5", "--range", "0..1"})
          .json();
  double sum = 0;
  for (const auto& b : bands["bands"]) {
    sum += b["share"].get<double>();
  }
  CHECK(sum == Approx(1));
  CHECK(bands["bands"].size() == 5);
  const ProgramRun compared =
      run_program({"compare", dir.path("a"), dir.path("b"), "--json", "-o", dir.path("c")});
  REQUIRE(compared.status == 0);
  CHECK(compared.json()["mean_stops"].get<double>() < -0.1);
  CHECK(compared.json()["z"].get<double>() < -10);
  CHECK(dir.read("c/compare.png").starts_with("\x89PNG"));
  CHECK(run_program({"compare", dir.path("a"), dir.path("b"), "--max", "0.01"}).status == 1);
  const ProgramRun display = run_program({"compare", dir.path("a"), dir.path("b/view.png")});
  CHECK(display.status == 0);
  CHECK(display.err.find("view.png is for display") != std::string::npos);
  CHECK(display.err.find("% of its pixels are clipped at white") != std::string::npos);
  CHECK(run_program({"compare", dir.path("a")}).status == 2);
  CHECK(run_program({"compare", dir.path("a"), rig}).status == 2);
  const ProgramRun shown = run_program({"show", dir.path("a"), "--width", "24", "--false-color"});
  CHECK(shown.status == 0);
  // 16 rows of pixels, two a line, and the legend.
  // Eight rows of two pixels, the legend, and which picture it is.
  CHECK(std::count(shown.out.begin(), shown.out.end(), '\n') == 10);
  CHECK(shown.out.find("image.exr, as traced") != std::string::npos);
  CHECK(run_program({"false-color", dir.path("none")}).status == 2);
}

namespace {

// A stage with a quiet light and one that is known to be noisy there.
struct NoisyScene {
  std::string name, more;
  double least_share_of_noise = 0.2;
};
const std::vector<NoisyScene>& noisy_scenes() {
  static const std::string ball =
      "[[material]]\nname='glass'\nkind='glass'\n[[material]]\nname='brass'\nkind='metal'\ncolor=["
      "0.9,0.7,0.4]\nroughness=0.15\n";
  static const std::vector<NoisyScene> scenes = {
      // In the few pixels near it.
      {"tiny strong source",
       "[[light]]\nname='noisy'\nkind='sphere'\nradius='2 mm'\nat=[0,0.3,0.42]\noutput='300 lm'\n",
       0.05},
      {"caustic",
       ball + "[[object]]\nname='ball'\nshape={kind='sphere', "
              "radius=0.2}\nat=[-0.5,-0.2,0.2]\nmaterial='glass'\n[[light]]\nname='noisy'\nkind='"
              "sphere'\nradius=0.1\nat=[-1.8,-0.6,2.0]\noutput='900 lm'\n"},
      {"many bounces",
       "[[object]]\nname='room'\nshape={kind='box', "
       "size=[6,8,6]}\nat=[0,0,2.9]\n[[light]]\nname='noisy'\nkind='spot'\nbeam=12\nfield=20\nat=["
       "2,0,0.5]\naim=[2.6,1,0.1]\noutput='900 lm'\n"},
      {"glossy",
       ball +
           "[[object]]\nname='plate'\nshape={kind='rect', "
           "size=[1,1]}\nat=[0.9,0.5,0.5]\nrotate=[60,0,-40]\nmaterial='brass'\n[[light]]\nname='"
           "noisy'\nkind='sphere'\nradius=0.01\nat=[0.6,-0.3,1.2]\noutput='600 lm'\n"},
      {"dome with a small sun",
       "[[object]]\nname='screen'\nshape={kind='rect', "
       "size=[3,1.6]}\nat=[-0.2,1.2,0.8]\nrotate=[90,0,0]\n[[light]]\nname='noisy'\nkind='dome'"
       "\nimage='sky.exr'\noutput='2000 lx'\n"},
      {"haze",
       "[[solid]]\nname='air'\nkind='box'\nsize=[6,8,4]\nat=[0,0,2]\n[[haze]]\nname='mist'\ninside="
       "'air'\nextinction='0.4 "
       "/m'\nalbedo=0.95\nanisotropy=0.8\n[[light]]\nname='noisy'\nkind='spot'\nbeam=8\nfield="
       "10\nat=[-2,0.5,1]\naim=[2,0.5,0.4]\noutput='500 lm'\n"},
  };
  return scenes;
}
// A dim sky whose light comes from a few bright pixels.
void write_sky(const std::string& path) {
  ExrHeader h;
  h.width = 128;
  h.height = 64;
  std::vector<ExrChannel> channels;
  for (const char* name : {"R", "G", "B"}) {
    channels.push_back({name, ExrChannel::Type::kFloat, [](int y, float* out) {
                          for (int x = 0; x < 128; ++x) {
                            out[x] = y >= 10 && y < 12 && x >= 70 && x < 72 ? 3000.0f : 0.05f;
                          }
                        }});
  }
  write_exr(path, h, channels);
}
std::string noisy_rig(const NoisyScene& s) {
  return "jovilux = "
         "1\n[[camera]]\nname='c'\nat=[0,-2.6,1.3]\nlook_at=[0,0,0.2]\nfield_of_view=44\n[render]"
         "\nsize=[48,"
         "32]\nsamples=64\nbounces=5\nlayers='lights+parts'\n[[object]]\nname='floor'\nshape={kind="
         "'plane'}\n[[object]]\nname='box'\nshape={kind='box', "
         "size=[0.4,0.4,0.4]}\nat=[0,0.3,0.2]\n"
         "[[light]]\nname='quiet'\nkind='rect'\nsize=[1.5,1.5]\nat=[0,-0.5,2.4]\naim=[0,0,0]"
         "\noutput='400 lm'\n" +
         s.more;
}

}  // namespace

TEST_CASE("noise names the light that makes it", "[cli][noise]") {
  const TemporaryFolder dir;
  write_sky(dir.path("sky.exr"));
  for (const NoisyScene& s : noisy_scenes()) {
    INFO(s.name);
    REQUIRE(run_program({"render",
                         dir.write("r.toml", noisy_rig(s)),
                         "-o",
                         dir.path("out"),
                         "--quiet",
                         "--force",
                         "--set",
                         // Paths from the lights would leave no noise to gloss and glass.
                         s.name == "caustic" || s.name == "glossy" ? "render.light_tracing=false"
                                                                   : "render.light_tracing=true",
                         "--set",
                         "render.samples=256"})
                .status == 0);
    const ProgramRun run = run_program({"noise", dir.path("out"), "--json", "--target", "0.01 %"});
    INFO(run.out << run.err);
    REQUIRE(run.status == 1);
    const auto j = run.json();
    CHECK(j["by_light"][0]["name"] == "noisy");
    CHECK(j["by_light"][0]["share_of_noise"].get<double>() > s.least_share_of_noise);
    CHECK(j["by_light"][0]["share_of_variance"].get<double>() > 0.5);
    CHECK(j["advice"].size() >= 3);
    const std::string part = s.name == "haze" || s.name == "caustic" ? s.name
                             : s.name == "many bounces"              ? "bounce"
                                                                     : "";
    if (!part.empty()) {
      CHECK(j["by_light"][0][part].get<double>() > 0.5);
      CHECK(j["changes"].size() >= 1);
    }
  }
}

TEST_CASE("noise finds that paths from the lights would help caustics", "[cli][noise][caustics]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", noisy_rig(noisy_scenes()[1]));
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("out"),
                       "--quiet",
                       "--set",
                       "render.light_tracing=false",
                       "--set",
                       "render.samples=256"})
              .status == 0);
  const auto j = run_program({"noise", dir.path("out"), "--try", "--json"}).json();
  REQUIRE(j["changes"].size() >= 2);
  double on = 0;
  for (const auto& change : j["changes"]) {
    on = change["address"] == "render.light_tracing" ? change["trial_p95"].get<double>() : on;
  }
  CHECK(on > 0);  // measured as well
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("out"),
                       "--quiet",
                       "--force",
                       "--set",
                       "render.samples=256"})
              .status == 0);
  const auto with = run_program({"noise", dir.path("out"), "--json"}).json();
  // Beside the direct light's noise, which stays; what is left is seen through the ball.
  const auto of_direct = [](const auto& noise) {
    const auto& light = noise["by_light"][0];
    return light["caustic"].template get<double>() / light["direct"].template get<double>();
  };
  CHECK(of_direct(with) < 0.3 * of_direct(j));
}

TEST_CASE("the changes that noise proposes are measured", "[cli][noise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", noisy_rig(noisy_scenes()[2]));  // many bounces
  // Without connections, so that fewer bounces have less noise.
  const std::string plainly = "render.guiding=false";
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet", "--set", plainly}).status ==
          0);
  const ProgramRun plain = run_program({"noise", dir.path("out")}),
                   tried = run_program({"noise", dir.path("out"), "--try", "--json"});
  CHECK(plain.out.find("--try measures each") != std::string::npos);
  REQUIRE(tried.status == 1);
  const auto j = tried.json();
  REQUIRE(j["changes"].size() >= 2);
  // The best first, each as a render with it says.
  double last = 0;
  for (const auto& change : j["changes"].get<std::vector<nlohmann::json>>()) {
    const std::string set =
        change["address"].get<std::string>() + "=" + change["value"].get<std::string>();
    INFO(set);
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         dir.path("changed"),
                         "--quiet",
                         "--force",
                         "--set",
                         plainly,
                         "--set",
                         set,
                         "--set",
                         "render.layers=\"lights\""})
                .status == 0);
    CHECK(nlohmann::json::parse(dir.read("changed/stats.json"))["noise"]["p95"] ==
          change["trial_p95"]);
    CHECK(change["trial_p95"] >= last);
    last = change["trial_p95"];
    // Rendered with other layers, which share samples in other mixtures.
    CHECK(change["trial_p95_before"].get<double>() == Approx(j["p95"].get<double>()).epsilon(0.15));
  }
  const auto changes = j["changes"].get<std::vector<nlohmann::json>>();
  const auto fewer = std::find_if(changes.begin(), changes.end(), [](const auto& c) {
    return c["address"] == "render.bounces";
  });
  REQUIRE(fewer != changes.end());
  CHECK((*fewer)["trial_p95"].get<double>() < 0.7 * j["p95"].get<double>());
}

TEST_CASE("the samples that a target needs are what a render to it takes, within half of them",
          "[cli][noise]") {
  const TemporaryFolder dir;
  for (const std::size_t i : {std::size_t{2}}) {
    const std::string rig = dir.write("r.toml", noisy_rig(noisy_scenes()[i]));
    REQUIRE(run_program(
                {"render", rig, "-o", dir.path("out"), "--quiet", "--force", "--samples", "128"})
                .status == 0);
    const double p95 = run_program({"noise", dir.path("out"), "--json"}).json()["p95"];
    const double target = 0.55 * p95;
    const auto told =
        run_program({"noise", dir.path("out"), "--json", "--target", fmt::format("{}", target)})
            .json();
    CHECK(told["samples_per_pixel"] == 128);
    CHECK(told["history"].size() == 5);  // 8, 16 .. 128
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         dir.path("to"),
                         "--quiet",
                         "--force",
                         "--samples",
                         "65536",
                         "--noise",
                         fmt::format("{}", target),
                         "--set",
                         "render.seed=9"})
                .status == 0);
    const double taken = nlohmann::json::parse(dir.read("to/stats.json"))["samples_per_pixel"],
                 needed = told["samples_needed"];
    INFO(noisy_scenes()[i].name << ": " << needed << " told, " << taken << " taken, order "
                                << told["order"]);
    CHECK(needed == Approx(taken).epsilon(0.5));
    // The same for every pixel: more of them, and as clean within what 30 % of the samples make.
    const double even = told["even_samples_needed"];
    CHECK(even >= needed);
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         dir.path("even"),
                         "--quiet",
                         "--force",
                         "--samples",
                         fmt::format("{:.0f}", even),
                         "--set",
                         "render.seed=9"})
                .status == 0);
    const double reached = nlohmann::json::parse(dir.read("even/stats.json"))["noise"]["p95"];
    INFO("even: " << even << " samples, " << reached << " for " << target);
    CHECK(reached == Approx(target).epsilon(0.25));
    const auto sampling = nlohmann::json::parse(dir.read("to/stats.json"))["sampling"];
    CHECK(sampling["even"] == false);
    CHECK(sampling["rounds"].size() >= 2);
    CHECK(sampling["most"] > 2 * sampling["least"].get<double>());
  }
  CHECK(run_program({"noise", dir.path("out"), "--target", "none"}).status == 2);
  CHECK(run_program({"noise", dir.path("out/view.png")}).status == 2);
  CHECK(run_program({"noise", dir.path("out"), "-o", dir.path("n"), "--target", "100 %"}).status ==
        0);
  CHECK(dir.read("n/noise.png").starts_with("\x89PNG"));
}

TEST_CASE("several images are read into one table, lines have a profile figure", "[cli][read]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  REQUIRE(run_program({"render", rig, "-o", dir.path("a"), "--quiet", "--samples", "8"}).status ==
          0);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("b"),
                       "--quiet",
                       "--samples",
                       "8",
                       "--set",
                       "light.warm.on=false"})
              .status == 0);
  const auto one = run_program({"read", dir.path("a"), "--box", "10,20,8,8", "--json"}).json(),
             other = run_program({"read", dir.path("b"), "--box", "10,20,8,8", "--json"}).json();
  const auto both =
      run_program({"read", dir.path("a"), dir.path("b"), "--box", "10,20,8,8", "--json"}).json();
  REQUIRE(both["images"].size() == 2);
  CHECK(both["images"][0] == one);
  CHECK(both["images"][1] == other);
  const double a = one["readings"][0]["luminance_cd_m2"],
               b = other["readings"][0]["luminance_cd_m2"];
  const ProgramRun table = run_program({"read",
                                        dir.path("a"),
                                        dir.path("b"),
                                        "--box",
                                        "10,20,8,8",
                                        "--line",
                                        "0,20,47,24",
                                        "-o",
                                        dir.path("out")});
  REQUIRE(table.status == 0);
  CHECK(table.out.find(fmt::format("{:+.2f}", std::log2(b / a))) != std::string::npos);
  CHECK(dir.read("out/line-1.png").starts_with("\x89PNG"));
  const std::string csv = dir.read("out/readings.csv");
  CHECK(csv.starts_with("image,x,y,width,height,luminance_cd_m2,standard_error_cd_m2,R,G,B"));
  CHECK(std::count(csv.begin(), csv.end(), '\n') == 1 + 2 * (1 + 48));
  // There already.
  CHECK(
      run_program({"read", dir.path("a"), "--line", "0,20,47,24", "-o", dir.path("out")}).status ==
      2);
  CHECK(run_program({"read", dir.path("a"), dir.path("none")}).status == 2);
  CHECK(run_program({"read", dir.path("a"), "--line", "0,20,48,24"}).status == 2);
}

TEST_CASE("tints come from one render's layers, near to what is rendered", "[cli][sweep]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  const std::vector<std::string> words = {"sweep",
                                          rig,
                                          "--vary",
                                          "light.cool.tint = \"#ffb070\", \"#ffffff\", \"#80b0ff\"",
                                          "--quiet",
                                          "--box",
                                          "0,0,48,32",
                                          "--json",
                                          "-o"};
  const auto sweep = [&](const std::string& folder, const std::vector<std::string>& more) {
    std::vector<std::string> all = words;
    all.push_back(dir.path(folder));
    all.insert(all.end(), more.begin(), more.end());
    return run_program(all).json();
  };
  const auto quick = sweep("q", {}), exact = sweep("e", {"--exact"});
  CHECK(quick["rendered"] == 1);
  CHECK(quick["from_layers"] == 2);
  CHECK(quick["approximate"] == true);
  CHECK(exact["rendered"] == 3);
  CHECK(exact["approximate"] == false);
  for (const char* point : {"01", "02", "03"}) {
    const auto a = run_program({"read", dir.path(std::string("q/") + point), "--json"})
                       .json()["readings"][0],
               b = run_program({"read", dir.path(std::string("e/") + point), "--json"})
                       .json()["readings"][0];
    for (int c = 0; c < 3; ++c) {  // gray surfaces: as rendered
      INFO(point << " channel " << c);
      CHECK(a["rgb"][c].get<double>() == Approx(b["rgb"][c].get<double>()).epsilon(0.01));
    }
  }
  // A tint keeps the output.
  CHECK(std::abs(exact["points"][0]["readings"][0]["luminance_cd_m2"].get<double>() /
                     exact["points"][2]["readings"][0]["luminance_cd_m2"].get<double>() -
                 1) < 0.02);
}

TEST_CASE("noise and report hold against any stats.json", "[cli][noise][report]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  REQUIRE(run_program({"render", rig, "-o", dir.path("a"), "--quiet", "--samples", "8"}).status ==
          0);
  for (const char* stats :
       {R"({"lights":5,"noise":[],"rig":7})",
        R"({"lights":[{"name":5}],"samples_per_pixel":"a"})",
        R"({"samples_per_pixel":-3,"wall_s":null,"history":[1,{"samples":"x"}]})",
        "{}"}) {
    INFO(stats);
    dir.write("a/stats.json", stats);
    const ProgramRun noise = run_program({"noise", dir.path("a"), "--json"});
    CHECK(noise.status == 1);
    CHECK(noise.json()["samples_needed"] == nullptr);
    const ProgramRun report = run_program(
        {"report", dir.path("a"), "-o", dir.path("p.html"), "--force", "--error", "20 %"});
    INFO(report.err);
    CHECK(report.status == 0);
  }
  dir.write("a/stats.json", "not JSON");
  CHECK(run_program({"report", dir.path("a"), "-o", dir.path("p.html"), "--force"}).status == 2);
}

TEST_CASE("a report is one page that needs nothing else", "[cli][report]") {
  const TemporaryFolder dir;
  const std::string hostile =
      "jovilux = 1\n[scene]\ntitle = \"<script>alert(1)</script> & 'q'\"\n" + kTwoLamps;
  const std::string rig = dir.write("r.toml", hostile);
  REQUIRE(
      run_program({"render", rig, "-o", dir.path("all/a"), "--quiet", "--samples", "8"}).status ==
      0);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("all/b"),
                       "--quiet",
                       "--samples",
                       "8",
                       "--set",
                       "light.warm.on=false"})
              .status == 0);
  const ProgramRun run = run_program(
      {"report", dir.path("all"), "-o", dir.path("page/report.html"), "--error", "5 %"});
  INFO(run.out << run.err);
  REQUIRE(run.status == 0);
  const std::string page = dir.read("page/report.html");
  CHECK(page.starts_with("<!DOCTYPE html>"));
  CHECK(page.find("<script") == std::string::npos);
  CHECK(page.find("&lt;script&gt;alert(1)") != std::string::npos);
  CHECK(page.find("http:") == std::string::npos);
  CHECK(page.find("https:") == std::string::npos);
  for (const char* word : {"<h2>Pictures</h2>",
                           "<h2>Luminance</h2>",
                           "<h2>Lights</h2>",
                           "<h2>Is it real?</h2>",
                           "<h2>Meters</h2>",
                           "<h2>Noise</h2>",
                           "<h2>Curves</h2>",
                           "warm",
                           "800",
                           "desk",
                           "100 to 120"}) {
    INFO(word);
    CHECK(page.find(word) != std::string::npos);
  }
  std::size_t images = 0, whole = 0;
  for (std::size_t at = page.find("<img "); at != std::string::npos;
       at = page.find("<img ", at + 1)) {
    ++images;
    whole += page.compare(page.find("src=", at), 27, "src=\"data:image/png;base64,") == 0 ? 1 : 0;
  }
  CHECK(images == 5);  // two pictures, their luminance, noise and falloff
  CHECK(whole == images);
  // The same numbers as the verbs tell.
  const auto meter =
      run_program({"meter", dir.path("all/a/rig.resolved.toml"), "--error", "5 %", "--json"})
          .json()["meters"][0];
  CHECK(page.find(meter["verdict"] == "pass" ? ">pass<" : ">fail<") != std::string::npos);
  CHECK(run_program({"report", dir.path("all"), "-o", dir.path("page/report.html")}).status == 2);
  CHECK(run_program({"report", dir.path("page"), "-o", dir.path("x.html")}).status == 2);
  CHECK(run_program({"report", dir.path("all")}).status == 2);
  CHECK(run_program({"report", dir.path("all/a"), "-o", dir.path("one.html"), "--error", "5 %"})
            .status == 0);
  CHECK(dir.read("one.html").find("<h2>Picture</h2>") != std::string::npos);
}

TEST_CASE("balance solves targets beside the levels that are given", "[cli][balance]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps), out = dir.path("out");
  REQUIRE(run_program({"render", rig, "-o", out, "--quiet"}).status == 0);
  int at = 0;
  for (const std::vector<std::string>& given : std::vector<std::vector<std::string>>{
           {"--mute", "cool"}, {"--solo", "cool"}, {"--dim", "warm=0.2"}}) {
    const std::string into = dir.path("bal" + std::to_string(at++));
    std::vector<std::string> words = {"balance", out, "--target", "desk=8 lx", "-o", into};
    words.insert(words.end(), given.begin(), given.end());
    const ProgramRun run = run_program(words);
    INFO(given[0] << ": " << run.out << run.err);
    REQUIRE(run.status == 0);
    // The rig that is written has what was asked for.
    const ProgramRun read = run_program(
        {"meter", into + "/rig.resolved.toml", "--meter", "desk", "--json", "--error", "0.5 %"});
    REQUIRE(read.status <= 1);
    CHECK(read.json()["meters"][0]["value"].get<double>() == Approx(8).epsilon(0.02));
  }
}

TEST_CASE("a picture matched with its own view is its own, one of another level tells the level",
          "[cli][balance]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  const auto rendered = [&](const std::string& name, const std::vector<std::string>& more) {
    std::vector<std::string> words = {"render", rig, "-o", dir.path(name), "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    REQUIRE(run_program(words).status == 0);
    return dir.path(name);
  };
  const auto matched = [&](const std::string& picture, const std::string& reference) {
    const ProgramRun run = run_program({"balance", picture, "--match", reference, "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run.json();
  };
  const std::string noisy = rendered("noisy", {"--samples", "4"});
  const nlohmann::json own = matched(noisy, noisy + "/view.png");
  CHECK(own["match"]["absolute"] == true);
  CHECK(own["lights"][0]["dimmer"].get<double>() == Approx(0.8).epsilon(0.01));  // cool
  CHECK(own["lights"][1]["dimmer"].get<double>() == Approx(1).epsilon(0.01));
  // Of other samples and levels: as a picture of luminances and as its view, whose exposure, white
  // balance and curve are undone.
  const std::string other = rendered("other",
                                     {"--samples",
                                      "256",
                                      "--set",
                                      "light.warm.dimmer=0.3",
                                      "--set",
                                      "render.seed=5",
                                      "--set",
                                      "look.white_balance=3200 K",
                                      "--set",
                                      "look.curve=linear",
                                      "--set",
                                      "look.exposure=EV 4"});
  for (const std::string& reference : {other, other + "/view.png"}) {
    const nlohmann::json found = matched(noisy, reference);
    INFO(reference << found.dump());
    const double warm = found["lights"][1]["dimmer"], error = found["lights"][1]["standard_error"];
    CHECK(warm == Approx(0.3).epsilon(0.02));
    CHECK(std::abs(warm - 0.3) < 5 * error);
    CHECK(error < 0.01);
  }
}

TEST_CASE("levels matched at few samples are not drawn to 0, and their errors are true",
          "[cli][balance][statistical]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps);
  REQUIRE(run_program({"render",
                       rig,
                       "-o",
                       dir.path("ref"),
                       "--quiet",
                       "--samples",
                       "1024",
                       "--set",
                       "light.warm.dimmer=0.3",
                       "--set",
                       "render.seed=99"})
              .status == 0);
  RunningMoments levels;
  double squares = 0;
  constexpr int kSeeds = 24;
  for (int seed = 1; seed <= kSeeds; ++seed) {
    const std::string out = dir.path("s" + std::to_string(seed));
    REQUIRE(run_program({"render",
                         rig,
                         "-o",
                         out,
                         "--quiet",
                         "--samples",
                         "2",
                         "--set",
                         "render.guiding=false",
                         "--set",
                         "render.seed=" + std::to_string(seed)})
                .status == 0);
    const nlohmann::json found =
        run_program({"balance", out, "--match", dir.path("ref"), "--json"}).json()["lights"][1];
    levels.add(found["dimmer"]);
    squares += sqr(found["standard_error"].get<double>()) / kSeeds;
  }
  INFO(levels.mean() << " +- " << std::sqrt(levels.variance()) << ", stated "
                     << std::sqrt(squares));
  CHECK(levels.mean() == Approx(0.3).epsilon(0.01));
  CHECK(std::sqrt(squares) / std::sqrt(levels.variance()) == Approx(1).margin(0.4));
}

TEST_CASE("a part of a layer is dimmed by the light's cheat, as the rig then renders",
          "[cli][balance][haze]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml",
                "jovilux = 1\n" + kTwoLamps +
                    "[[haze]]\nname='air'\ninside='everywhere'\nextinction='0.2 /m'\n");
  REQUIRE(
      run_program(
          {"render", rig, "-o", dir.path("a"), "--quiet", "--set", "render.layers=lights+parts"})
          .status == 0);
  const ProgramRun run =
      run_program({"balance", dir.path("a"), "--dim", "warm.haze=0.25", "-o", dir.path("b")});
  INFO(run.out << run.err);
  REQUIRE(run.status == 0);
  CHECK(run.out.find("\"light.warm.cheat.haze\" = 0.25") != std::string::npos);
  REQUIRE(run_program({"render", dir.path("b/rig.resolved.toml"), "-o", dir.path("c"), "--quiet"})
              .status == 0);
  const auto mean_of = [&](const std::string& folder) {
    return run_program({"show", dir.path(folder), "--json"})
        .json()["mean_luminance_cd_m2"]
        .get<double>();
  };
  CHECK(mean_of("b") == Approx(mean_of("c")).epsilon(0.01));
  CHECK(mean_of("b") < 0.99 * mean_of("a"));
  // What no key does alone, and what the picture does not keep, is said.
  CHECK(run_program({"balance", dir.path("a"), "--dim", "warm.direct=0.5"}).status == 2);
  CHECK(run_program({"balance", dir.path("a"), "--dim", "warm.bounce=0.5"})
            .err.find("haze scatters some of it") != std::string::npos);
  REQUIRE(run_program({"render", rig, "-o", dir.path("d"), "--quiet", "--samples", "1"}).status ==
          0);
  CHECK(run_program({"balance", dir.path("d"), "--dim", "warm.haze=0.5"})
            .err.find("layers = \"lights+parts\"") != std::string::npos);
  // What balance makes can be judged and reported like a render.
  CHECK(run_program({"noise", dir.path("b"), "--target", "90 %"}).status == 0);
  CHECK(run_program({"report", dir.path("b"), "-o", dir.path("b.html"), "--error", "5 %", "--json"})
            .json()["pictures"]
            .size() == 1);
}

TEST_CASE("solved dimmers have errors", "[cli][balance]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps), out = dir.path("out");
  REQUIRE(run_program({"render", rig, "-o", out, "--quiet", "--samples", "4"}).status == 0);
  const nlohmann::json j = run_program({"balance", out, "--target", "desk=30 lx", "--json"}).json();
  CHECK(j["verdict"] == "pass");
  for (const nlohmann::json& light : j["lights"]) {
    CHECK(light["standard_error"].get<double>() > 0);
    CHECK(light["standard_error"].get<double>() < 0.02 * light["dimmer"].get<double>());
  }
}

TEST_CASE(
    "a meter on an object is lit by the lights linked to it, one at a camera looks from there",
    "[cli][meter]") {
  const TemporaryFolder dir;
  const std::string more =
      "[[object]]\nname='sheet'\nshape={kind='box',size=[0.1,0.1,0.001]}\nat=[3,3,0.5]\n"
      "[[light]]\nname='own'\nkind='point'\nat=[0,-0.5,1]\noutput='500 cd'\nonly=['sheet']\n"
      "[[meter]]\nname='all'\nkind='illuminance'\nat=[0,-0.5,0.2]\n"
      "[[meter]]\nname='linked'\nkind='illuminance'\nat=[0,-0.5,0.2]\non='floor'\n"
      "[[meter]]\nname='eye'\nkind='luminance'\ncamera='c'\naim=[0,-0.5,0]\nfield='0.5 deg'\n";
  const std::string rig = dir.write("r.toml", "jovilux = 1\n" + kTwoLamps + more);
  const nlohmann::json meters = run_program({"meter", rig, "--json"}).json()["meters"];
  const auto named = [&meters](const std::string& name) {
    for (const nlohmann::json& m : meters) {
      if (m["name"] == name) {
        return m;
      }
    }
    return nlohmann::json();
  };
  CHECK(named("all")["by_light"]["own"].get<double>() == Approx(500 / 0.64).epsilon(1e-3));
  CHECK(named("linked")["by_light"]["own"] == 0);
  CHECK(named("linked")["by_light"]["warm"].get<double>() > 10);
  CHECK(named("eye")["value"].get<double>() ==
        Approx(named("spot")["value"].get<double>()).epsilon(0.04));
  CHECK(named("eye")["by_light_standard_error"]["warm"].get<double>() > 0);
  CHECK(run_program({"meter", rig, "--camera", "none"}).status == 2);
  // A cap that is hit is said.
  const ProgramRun capped =
      run_program({"meter", rig, "--meter", "desk", "--samples", "1024", "--error", "0.001 %"});
  CHECK(capped.status == 1);
  CHECK(capped.out.find("after 1024 samples") != std::string::npos);
}

TEST_CASE(
    "a meter finds what a mirror throws on it of a lamp without size, and names what it may lack",
    "[cli][meter]") {
  const TemporaryFolder dir;
  const std::string bulb =
      "jovilux = 1\n[[material]]\nname='silver'\nkind='metal'\ncolor="
      "[0.9,0.9,0.9]\nroughness=0\n[[object]]\nname='mirror'\nmaterial='silver'\nshape={kind="
      "'box',size=[1,1,0.01]}\nat=[0,0,-1]\n[[light]]\nname='bulb'\nkind='";
  const std::string tail =
      "at=[0,0,1]\noutput='800 lm'\n[[meter]]\nname='m'\nkind='illuminance'\n"
      "at=[0.5,0,0.2]\nfacing=[0,0,-1]\n";
  const nlohmann::json point =
      run_program({"meter", dir.write("p.toml", bulb + "point'\n" + tail), "--json"}).json();
  CHECK(point["not_found_in_mirrors"] == nlohmann::json::array({"bulb"}));
  // The image of the bulb stands at z = -2.99.
  const double d2 = 0.5 * 0.5 + 3.19 * 3.19,
               exact = 800 / (4 * kPiD) * 0.9 / d2 * 3.19 / std::sqrt(d2);
  const nlohmann::json& reading = point["meters"][0];
  CHECK(reading["value"].get<double>() == Approx(exact).epsilon(0.02));
  CHECK(reading["bounce"].get<double>() == Approx(exact).epsilon(0.02));
  CHECK(reading["standard_error"].get<double>() > 0);
  CHECK(reading["settled"] == true);
}

TEST_CASE("a meter finds the mirror image of a small lamp, however small, with its true error",
          "[cli][meter]") {
  // Of directions chosen by the cosine one in a million meets the image of a ball of 3 mm, so that
  // some meters would find nothing and be certain of it. An even ball shines as a point does.
  const TemporaryFolder dir;
  const double far2 = 0.3 * 0.3 + 2.98 * 2.98, image = 0.9 * 500 / far2 * 2.98 / std::sqrt(far2);
  const auto rig = [&](const char* radius) {
    return dir.write("r.toml",
                     fmt::format(R"(jovilux = 1
[[material]]
name = "silver"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[object]]
name = "mirror"
material = "silver"
shape = {{ kind = "box", size = [2, 2, 0.02] }}
at = [0, 0, -1]
[[light]]
name = "bulb"
kind = "sphere"
radius = {}
at = [0.3, 0, 1]
output = "500 cd"
[[meter]]
name = "m"
kind = "illuminance"
at = [0, 0, 0]
facing = [0, 0, -1]
)",
                                 radius));
  };
  for (const char* radius : {"0.1", "0.02", "0.003"}) {
    double deviations = 0;
    for (const char* seed : {"1", "2", "3"}) {
      const nlohmann::json all = run_program({"meter",
                                              rig(radius),
                                              "--json",
                                              "--error",
                                              "1 %",
                                              "--set",
                                              std::string("render.seed=") + seed})
                                     .json();
      CHECK(all["not_found_in_mirrors"].empty());
      const double value = all["meters"][0]["value"], error = all["meters"][0]["standard_error"];
      INFO(radius << ": " << value << " +- " << error << " of " << image);
      CHECK(error > 0);
      CHECK(error <= 0.01 * value);
      CHECK(std::abs(value - image) < kZBound * error);
      deviations += sqr((value - image) / error) / 3;
    }
    CHECK(deviations < 6);  // 1 in the mean; beyond 6 by a chance of 0.0005
  }
}

TEST_CASE("equal counts of all scramblings are no certainty", "[cli][meter]") {
  // A disk fills 20.03 / 64 of the solid angle that the meter averages over: of 64 samples nearly
  // always 20 meet it, so that the scramblings agree and the mean is off by what is rounded away.
  const TemporaryFolder dir;
  const double share = 20.03 / 64, wide = 1 - std::cos(kPiD / 6),
               radius = std::tan(std::acos(1 - share * wide));
  const std::string rig = dir.write(
      "r.toml",
      fmt::format(
          "jovilux = 1\n[[light]]\nname='l'\nkind='disk'\nradius={:.9f}\nat=[0,0,1]\naim=[0,"
          "0,0]\noutput='1000 cd/m2'\n[[meter]]\nname='m'\nkind='luminance'\nat=[0,0,0]\n"
          "facing=[0,0,1]\nfield='60 deg'\n",
          radius));
  for (const char* seed : {"1", "2", "3", "4"}) {
    const nlohmann::json m = run_program({"meter",
                                          rig,
                                          "--json",
                                          "--error",
                                          "20 %",
                                          "--set",
                                          std::string("render.seed=") + seed})
                                 .json()["meters"][0];
    const double value = m["value"], error = m["standard_error"];
    INFO(value << " +- " << error);
    CHECK(error > 0);
    CHECK(std::abs(value - 1000 * share) < 3 * error);
  }
}

TEST_CASE("results of another rig are known by what they show, not by a path as it was typed",
          "[cli][render]") {
  const TemporaryFolder dir;
  std::filesystem::create_directories(dir.path("one"));
  std::filesystem::create_directories(dir.path("two"));
  const std::string text = "jovilux = 1\n" + kTwoLamps;
  const std::string one = dir.write("one/r.toml", text), same = dir.write("two/copy.toml", text),
                    two = dir.write("two/r.toml",
                                    "jovilux = 1\n" +
                                        light("kind='point'\nat=[0,0,2]\noutput='9 "
                                              "lm'\n") +
                                        kTwoLamps);
  const auto render = [&](const std::string& rig, const std::vector<std::string>& more = {}) {
    std::vector<std::string> words = {"render", rig, "-o", dir.path("out"), "--quiet"};
    words.insert(words.end(), more.begin(), more.end());
    return run_program(words);
  };
  REQUIRE(render(one).status == 0);
  const ProgramRun other = render(two);
  CHECK(other.status == 2);
  CHECK(other.err.find("results of another rig") != std::string::npos);
  CHECK(render(same).status == 0);
  CHECK(render(one, {"--set", "light.warm.dimmer=0.5"}).status ==
        2);  // the copy's file is there now
  CHECK(render(same, {"--set", "light.warm.dimmer=0.5"}).status == 0);
  // A longer render of the very rig is not replaced.
  const ProgramRun shorter = render(same, {"--set", "light.warm.dimmer=0.5", "--samples", "8"});
  CHECK(shorter.status == 2);
  CHECK(shorter.err.find("64 samples") != std::string::npos);
  CHECK(render(same, {"--set", "light.warm.dimmer=0.5", "--samples", "8", "--force"}).status == 0);
}

TEST_CASE("compare takes no black frame for an equal one, and no NaN for a number",
          "[cli][compare]") {
  const TemporaryFolder dir;
  const auto picture = [&](const std::string& name, float value, float odd_one) {
    const auto row = [value, odd_one](int y, float* out) {
      std::fill_n(out, 8, value);
      out[3] = y == 2 ? odd_one : value;
    };
    write_exr(dir.path(name),
              {8, 6, 100, {}, {}, {}},
              {{"R", ExrChannel::Type::kFloat, row},
               {"G", ExrChannel::Type::kFloat, row},
               {"B", ExrChannel::Type::kFloat, row}});
    return dir.path(name);
  };
  const std::string lit = picture("lit.exr", 0.5f, 0.5f), black = picture("black.exr", 0, 0),
                    twice = picture("twice.exr", 1, 1),
                    broken = picture("nan.exr", 0.5f, std::nanf(""));
  CHECK(run_program({"compare", lit, lit, "--max", "0.1"}).status == 0);
  const ProgramRun dark = run_program({"compare", lit, black, "--max", "0.1", "--json"});
  CHECK(dark.status == 1);
  CHECK(dark.json()["p95_stops"].get<double>() > 10);
  const ProgramRun nan = run_program({"compare", lit, broken});
  CHECK(nan.status == 2);
  CHECK(nan.err.find("pixel 3,2") != std::string::npos);
  const ProgramRun same = run_program({"compare", lit, twice, "--same-exposure", "--json"});
  CHECK(same.json()["exposure_stops"] == Approx(-1));
  CHECK(same.json()["p95_stops"] == Approx(0).margin(1e-6));
}

TEST_CASE("a meter without light is told as not settled, not as exact", "[cli][meter]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml",
      "jovilux = 1\n[[object]]\nname = 'box'\nshape = { kind = 'box', size = [1, 1, 1] }\nat = [0, "
      "0, 2]\n[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n[[light]]\nname = "
      "'lamp'\nkind = 'sphere'\nradius = '3 cm'\nat = [0, 0, 2]\noutput = '500 "
      "lm'\n[[meter]]\nname "
      "= 'm'\nkind = 'illuminance'\nat = [0, 0, 0.01]\n");
  const ProgramRun run = run_program({"meter", rig, "--samples", "2048"});
  INFO(run.out << run.err);
  CHECK(run.out.find("1 reading not settled after 2048 samples") != std::string::npos);
  CHECK(run.out.find("largest error is 0 %") == std::string::npos);
  CHECK(run.out.find("1 reading found no light at all") != std::string::npos);
}

TEST_CASE("progress tells samples a pixel only where there are some", "[cli][meter]") {
  Progress progress;
  progress.done = 0.5;
  CHECK(cli::ProgressBar::line(progress, false).find("samples") == std::string::npos);
  progress.samples = 12;
  CHECK(cli::ProgressBar::line(progress, false).find("12 samples") != std::string::npos);
}

TEST_CASE("a grid along one axis that would measure points again is refused", "[cli][meter]") {
  const TemporaryFolder dir;
  const ProgramRun run = run_program(
      {"check",
       dir.write("r.toml",
                 "jovilux = 1\n" + kTwoLamps +
                     "[[meter]]\nname='line'\nkind='illuminance'\ngrid={from=[0,-1,0.8], "
                     "to=[0,1,0.8], count=[1,21]}\n")});
  CHECK(run.status == 1);
  CHECK(run.out.find("write count = [21, 1]") != std::string::npos);
}

TEST_CASE("noise, its table and the report give one share of the noise for one light",
          "[cli][noise]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", R"(jovilux = 1
camera = [{ name = "c", at = [0, -3, 1.4], look_at = [0, 0, 0.4], field_of_view = 45 }]
render = { size = [48, 32], samples = 16, layers = "lights+parts" }
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "box"
shape = { kind = "box", size = [0.5, 0.5, 0.5] }
at = [0, 0.3, 0.25]
[[light]]
name = "bright"
kind = "rect"
size = [0.2, 0.2]
at = [0.2, 0, 0.9]
aim = [0, 0, 0]
output = "3000 cd/m2"
[[light]]
name = "wide"
kind = "rect"
size = [1.5, 1.5]
at = [-2, -1, 2]
aim = [0, 0, 0]
output = "900 cd/m2"
)");
  REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--quiet"}).status == 0);
  const auto j = run_program({"noise", dir.path("o"), "--json"}).json();
  std::string name;
  double share = -1;
  for (const auto& light : j["by_light"]) {
    if (light["share_of_noise"].get<double>() > share) {
      share = light["share_of_noise"];
      name = light["name"];
    }
    double parts = 0;
    for (const auto& [part, value] : light["noise_by_part"].items()) {
      parts += value.get<double>();
    }
    CHECK(parts == Approx(1).epsilon(1e-6));
  }
  const std::string shown = short_number(100 * share, 3) + " %";
  // The first row of the table, and the report's line.
  const std::string table = run_program({"noise", dir.path("o")}).out;
  const std::size_t row = table.find("\n" + name + " ");
  REQUIRE(row != std::string::npos);
  CHECK(table.substr(row, table.find('\n', row + 1) - row).find(shown) != std::string::npos);
  CHECK(table.rfind("\n", row - 1) + 1 == table.find("light "));  // right below the head
  REQUIRE(run_program({"report", dir.path("o"), "-o", dir.path("r.html"), "--quiet"}).status == 0);
  CHECK(dir.read("r.html").find(name + ", " + shown) != std::string::npos);
}

TEST_CASE("render and noise count fireflies by one rule", "[cli][noise]") {
  const TemporaryFolder dir;
  dir.write("ball.toml", R"(
jovilux = 1
camera = [{ name = "c", at = [0, -3, 1.2], look_at = [0, 0, 0.3], field_of_view = 40 }]
render = { size = [96, 64], samples = 8, bounces = 6, light_tracing = false }
[[material]]
name = "mirror"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.3 }
at = [0, 0, 0.3]
material = "mirror"
[[light]]
name = "lamp"
kind = "sphere"
at = [0.6, -0.3, 1.2]
radius = "4 cm"
output = "900 lm"
)");
  REQUIRE(run_program({"render", dir.path("ball.toml"), "-o", dir.path("out"), "--quiet"}).status ==
          0);
  const auto stats = nlohmann::json::parse(dir.read("out/stats.json"));
  const auto noise = run_program({"noise", dir.path("out"), "--json"}).json();
  REQUIRE(stats["noise"]["fireflies"].get<int>() > 5);
  CHECK(noise["fireflies"].size() == stats["noise"]["fireflies"].get<std::size_t>());
}
