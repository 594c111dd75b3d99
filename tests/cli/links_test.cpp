// What lights are held to, and what they are made to do against physics, through the built program.
#include "jovilux/files/exr.h"

#include <cmath>
#include <numeric>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A diffuse ball and a diffuse box on a floor, a mirror behind them; a lamp that goes by `rest`.
std::string ball_on_stage(const std::string& rest, int bounces = 6) {
  return fmt::format(R"(jovilux = 1
[[camera]]
name = "c"
at = [0, -4, 1.5]
look_at = [0, 0, 0.4]
field_of_view = "50 deg"
[[material]]
name = "mirror"
kind = "metal"
color = [0.9, 0.9, 0.9]
roughness = 0
[[material]]
name = "glaze"
kind = "gloss"
color = [0.4, 0.2, 0.1]
roughness = 0
[[object]]
name = "floor"
shape = {{ kind = "plane" }}
[[object]]
name = "ball"
shape = {{ kind = "sphere", radius = 0.5 }}
at = [-0.7, 0, 0.5]
tags = ["hero"]
[[object]]
name = "box"
shape = {{ kind = "box", size = [0.7, 0.7, 0.7] }}
at = [0.7, 0, 0.35]
material = "glaze"
[[object]]
name = "glass-wall"
shape = {{ kind = "rect", size = [5, 3] }}
at = [0, 1.5, 1]
rotate = [90, 0, 0]
material = "mirror"
[[light]]
name = "fill"
kind = "sky"
model = "uniform"
output = "100 lx"
[[light]]
name = "key"
kind = "sphere"
at = [0, -1, 2.5]
radius = 0.1
output = "1000 lm"
{}
[render]
size = [64, 48]
samples = 32
bounces = {}
)",
                     rest,
                     bounces);
}

nlohmann::json stats(const TemporaryFolder& dir) {
  return nlohmann::json::parse(dir.read("out/stats.json"));
}

void render(const TemporaryFolder& dir, const std::string& text) {
  const std::string rig = dir.write("r.toml", text);
  const ProgramRun run = run_program({"render", rig, "-o", dir.path("out"), "--force", "--quiet"});
  INFO(run.err);
  REQUIRE(run.status == 0);
}

double at(const TemporaryFolder& dir, int x, int y, const std::string& layer) {
  const auto r =
      run_program({"read", dir.path("out"), "--at", fmt::format("{},{}", x, y), "--json"})
          .json()["readings"][0];
  return layer.empty() ? r["luminance_cd_m2"].get<double>()
                       : r["layers"][layer]["luminance_cd_m2"].get<double>();
}

}  // namespace

TEST_CASE(
    "what is not linked gets exactly nothing from the light, in mirrors and after bounces too",
    "[cli][links]") {
  const TemporaryFolder dir;
  // Linked to the ball alone: its pixels and their image in the mirror, nothing else.
  for (const char* linked :
       {"only = ['ball']", "only = ['tag:hero']", "skip = ['floor', 'box', 'glass-wall']"}) {
    render(dir, ball_on_stage(linked));
    INFO(linked);
    const auto box = run_program({"read", dir.path("out"), "--box", "0,0,64,48", "--json"})
                         .json()["readings"][0];
    CHECK(box["layers"]["key"]["luminance_cd_m2"].get<double>() > 0);
    CHECK(at(dir, 19, 24, "key") > 0.5);  // the ball
    CHECK(at(dir, 45, 28, "key") == 0);   // the box, though the ball shines on it and on its glaze
    CHECK(at(dir, 32, 46, "key") == 0);   // the floor
    CHECK(at(dir, 32, 28, "key") == 0);   // the floor between them, beside the ball
    CHECK(at(dir, 45, 28, "fill") > 0.5);
  }
  // Everywhere: no pixel inside the floor, the box or their images has any of it; the mirror shows
  // the lit ball, and black.
  render(dir, ball_on_stage("only = ['ball']"));
  const auto exr = ExrReader::open(dir.path("out/image.exr"));
  REQUIRE(exr);
  const auto planes =
      exr->read({"object.id", "light.key.R", "light.key.G", "light.key.B"}, 0, 0, 64, 48);
  REQUIRE(planes);
  const auto& id = (*planes)[0];
  constexpr float kFloor = 1, kBall = 2, kBox = 3, kMirror = 4;  // in the rig's order
  int inside_dark = 0, mirror_lit = 0, mirror_dark = 0;
  for (int y = 2; y < 46; ++y) {
    for (int x = 2; x < 62; ++x) {
      const auto i = static_cast<std::size_t>(y * 64 + x);
      bool inside = true;  // a pixel's filter reaches its neighbours
      for (int dy = -2; dy <= 2; ++dy) {
        for (int dx = -2; dx <= 2; ++dx) {
          inside = inside && id[static_cast<std::size_t>((y + dy) * 64 + x + dx)] == id[i];
        }
      }
      const bool lit = (*planes)[1][i] != 0 || (*planes)[2][i] != 0 || (*planes)[3][i] != 0;
      if (!inside || id[i] == kBall || id[i] == 0) {
        continue;
      }
      if (id[i] == kMirror) {
        (lit ? mirror_lit : mirror_dark)++;
      } else if (id[i] == kFloor || id[i] == kBox) {
        INFO("pixel " << x << "," << y << " of object " << id[i]);
        CHECK_FALSE(lit);
        ++inside_dark;
      }
    }
  }
  CHECK(inside_dark > 300);
  CHECK(mirror_lit > 3);
  CHECK(mirror_dark > 10 * mirror_lit);
  // Skipped, the ball is dark and all else lit.
  render(dir, ball_on_stage("skip = ['ball']"));
  CHECK(at(dir, 19, 24, "key") == 0);
  CHECK(at(dir, 45, 28, "key") > 0.1);
  CHECK(at(dir, 32, 46, "key") > 0.5);
}

TEST_CASE("shadow_only and shadow_skip choose what throws shadows, cheat.shadow how deep they are",
          "[cli][links]") {
  const TemporaryFolder dir;
  // A point over a card over the plane: the place under the card.
  const std::string under =
      looking_at({0.8, 0, 0.4},
                 {0, 0, 0},
                 "[[object]]\nname='card'\nshape={kind='rect', size=[0.5,0.5]}\nat=[0,0,1]\n");
  const auto level = [&](const std::string& rest) {
    const std::string rig =
        dir.write("r.toml", under + light("kind='point'\nat=[0,0,2]\noutput='100 cd'\n" + rest));
    return reading(dir, rig, 1)["luminance_cd_m2"].get<double>();
  };
  const double open = 100 / 4.0 * kPlaneFactor;
  CHECK(level("") == 0);
  CHECK(level("shadow_skip=['card']\n") == Approx(open).epsilon(1e-3));
  CHECK(level("shadow_only=['plane']\n") == Approx(open).epsilon(1e-3));
  CHECK(level("shadow_only=['card']\n") == 0);
  CHECK(level("cheat={shadow=0.6}\n") == Approx(0.4 * open).epsilon(1e-3));
  CHECK(level("cheat={shadow_tint=[0.2,0.2,0.2]}\n") == Approx(0.2 * open).epsilon(2e-3));
  // Also for a lamp with a body, which other rays could find.
  const std::string ball =
      under + "[[light]]\nname='l'\nkind='sphere'\nradius=0.2\nat=[0,0,2]\noutput='100 cd'\n";
  const std::string rig = dir.write("b.toml", ball + "shadow_skip=['card']\n");
  RunningMoments m;
  for (int seed = 1; seed <= 16; ++seed) {
    m.add(reading(dir, rig, seed)["luminance_cd_m2"]);
  }
  CHECK(m.mean() == Approx(open).epsilon(0.01));
}

TEST_CASE("a light outside its zone costs no shadow ray", "[cli][links]") {
  const TemporaryFolder dir;
  const std::string room = "[[solid]]\nname='room'\nkind='box'\nsize=[1,1,1]\nat=[0,0,{}]\n";
  const auto run = [&](double z) {
    render(dir,
           looking_at({0.5, 0, 0.4},
                      {0, 0, 0},
                      fmt::format(fmt::runtime(room), z) +
                          light("kind='point'\nat=[0,0,2]\noutput='100 cd'\ninside='room'\n")));
    return stats(dir);
  };
  const auto inside = run(0), outside = run(5);
  CHECK(inside["rays"]["shadow"].get<int>() > 1000);
  CHECK(outside["rays"]["shadow"].get<int>() == 0);
  CHECK(inside["mean_luminance_cd_m2"].get<double>() ==
        Approx(100 / 4.0 * kPlaneFactor).epsilon(1e-3));
  CHECK(outside["mean_luminance_cd_m2"].get<double>() == 0);
}

TEST_CASE("lights fade with the camera's distance, and groups share a layer", "[cli][links]") {
  const TemporaryFolder dir;
  const auto mean = [&](const std::string& fade) {
    render(
        dir,
        looking_at(
            {0.5, 0, 0.4}, {0, 0, 0}, light("kind='point'\nat=[0,0,2]\noutput='100 cd'\n" + fade)));
    return stats(dir)["mean_luminance_cd_m2"].get<double>();
  };
  const double full = 100 / 4.0 * kPlaneFactor;  // the camera is 1.676 m away
  CHECK(mean("fade_with_camera=['2 m','3 m']\n") == Approx(full).epsilon(1e-3));
  CHECK(mean("fade_with_camera=['1 m','1.5 m']\n") == 0);
  const double t = (std::hypot(0.5, 1.6) - 1) / 1;
  CHECK(mean("fade_with_camera=['1 m','2 m']\n") ==
        Approx(full * (1 - t * t * (3 - 2 * t))).epsilon(1e-3));
  render(dir,
         looking_at({0.5, 0, 0.4},
                    {0, 0, 0},
                    "layers = 'groups'\n" +
                        light("kind='point'\nat=[0,0,2]\noutput='100 cd'\ngroup='practicals'\n") +
                        "[[light]]\nname='m'\nkind='point'\nat=[0,0,1]\noutput='100 "
                        "cd'\ngroup='practicals'\n[[light]]\nname='n'\nkind='point'\nat=[0,0,1]"
                        "\noutput='10 cd'\n"));
  const auto layers =
      run_program({"read", dir.path("out"), "--json"}).json()["readings"][0]["layers"];
  REQUIRE(layers.size() == 2);
  const double practicals = layers["practicals"]["luminance_cd_m2"],
               n = layers["n"]["luminance_cd_m2"];
  CHECK(practicals + n == Approx(135 * kPlaneFactor).epsilon(1e-3));
  CHECK(n == Approx(10 * kPlaneFactor).epsilon(0.3));  // a light is chosen by chance
}

TEST_CASE("cheats scale what they name and nothing else", "[cli][links]") {
  const TemporaryFolder dir;
  double caustic = 0;  // of the last
  const auto parts = [&](const std::string& cheat, const std::string& more = "") {
    std::string text = ball_on_stage("cheat={" + cheat + "}\n" + more);
    text.replace(text.find("[render]"), 8, "[render]\nguiding=false\nlayers='lights+parts'");
    render(dir, text);
    // Mean luminances over the picture of the light's direct and bounced part.
    const auto exr = ExrReader::open(dir.path("out/image.exr"));
    REQUIRE(exr);
    const auto mean = [&](const std::string& part) {
      const auto planes = exr->read(
          {"light.key." + part + ".R", "light.key." + part + ".G", "light.key." + part + ".B"},
          0,
          0,
          64,
          48);
      REQUIRE(planes);
      const auto sum = [&](std::size_t c) {
        return std::accumulate((*planes)[c].begin(), (*planes)[c].end(), 0.0) / (64 * 48);
      };
      return 0.2126390 * sum(0) + 0.7151687 * sum(1) + 0.0721923 * sum(2);
    };
    caustic = mean("caustic");
    return std::pair{mean("direct"), mean("bounce")};
  };
  const auto [direct, bounce] = parts("");
  const double all_caustic = caustic;
  SECTION("bounce") {
    const auto [d, b] = parts("bounce=0.25");
    CHECK(d == Approx(direct).epsilon(1e-6));
    CHECK(b == Approx(0.25 * bounce).epsilon(1e-5));
    CHECK(caustic == Approx(all_caustic).epsilon(0.2));
  }
  SECTION("diffuse and gloss") {
    const auto [d, b] = parts("diffuse=0.5, gloss=0.5, visible=true");
    CHECK(d < direct);
    CHECK(b == Approx(0.5 * bounce).epsilon(0.02));
    const auto [d2, b2] = parts("diffuse=2, gloss=1");
    CHECK(d2 > 1.5 * direct);
  }
  SECTION("saturation keeps the luminance") {
    const auto [d, b] = parts("bounce_chroma=0");
    CHECK(b == Approx(bounce).epsilon(1e-5));
    CHECK(d == Approx(direct).epsilon(1e-6));
  }
  SECTION("unseen lamps light all the same") {
    render(dir, ball_on_stage("cheat={visible=false}"));
    const double lit = at(dir, 32, 46, "key");
    render(dir, ball_on_stage(""));
    CHECK(lit == Approx(at(dir, 32, 46, "key")).epsilon(0.1));
  }
  SECTION("direct, bounce and caustics are the whole") {
    const auto [d1, b1] = parts("direct=0, diffuse=0, bounce=0");
    CHECK(d1 == 0);
    CHECK(b1 == 0);
    CHECK(caustic == Approx(all_caustic).epsilon(0.2));
    const auto [d2, b2] = parts("caustics=0");
    CHECK(caustic == 0);
    CHECK(b2 > 0);
    CHECK(b2 == Approx(bounce).epsilon(1e-5));
  }
}

TEST_CASE("a color by position keeps the light's level and changes its color", "[cli][links]") {
  const TemporaryFolder dir;
  const auto rgb = [&](double x) {
    const std::string rig = dir.write(
        "r.toml",
        looking_at({x + 0.5, 0, 0.4},
                   {x, 0, 0},
                   light("kind='sun'\ntoward=[0,0,-1]\noutput='1 klx'\ntint_by={formula='x / 1.5', "
                         "ramp=[[-1,'#ffb060'],[1,'#3040e0']]}\n")));
    return reading(dir, rig, 1);
  };
  const auto amber = rgb(-1.5), blue = rgb(1.5);
  CHECK(amber["luminance_cd_m2"].get<double>() == Approx(1000 * kPlaneFactor).epsilon(2e-3));
  CHECK(blue["luminance_cd_m2"].get<double>() == Approx(1000 * kPlaneFactor).epsilon(2e-3));
  CHECK(amber["rgb"][0].get<double>() > 3 * amber["rgb"][2].get<double>());
  CHECK(blue["rgb"][2].get<double>() > 3 * blue["rgb"][0].get<double>());
}

TEST_CASE(
    "a metal that is rougher after a bounce makes less noise and looks the same to the camera, and "
    "the light that takes is told",
    "[cli][links]") {
  const TemporaryFolder dir;
  const auto render = [&](const std::string& key, const std::string& name) {
    const std::string rig = dir.write(
        name + ".toml",
        "jovilux=1\n[[camera]]\nname='c'\nat=[0,-2,1.2]\nlook_at=[0,0,0.2]\nfield_of_view=40\n[["
        "material]]"
        "\nname='brass'\nkind='metal'\ncolor=[0.9,0.7,0.4]\nroughness=0.15\n" +
            key +
            "[[object]]\nname='floor'\nshape={kind='plane'}\n[[object]]\nname='ball'\nmaterial='"
            "brass'\nshape={kind='sphere', radius=0.3}\nat=[0,0,0.3]\n"
            "[[light]]\nname='lamp'\nkind='sphere'\nradius='3 cm'\nat=[0.5,0.3,1.2]\noutput='500 "
            "lm'\n[render]\nsize=[32,20]\nsamples=4096\nbounces=4\nseed=3\nlayers='lights+parts'"
            "\nguiding=false\nlight_tracing=false\n");  // which would leave little noise
    const ProgramRun r = run_program({"render", rig, "-o", dir.path(name), "--quiet"});
    REQUIRE(r.status == 0);
    return std::pair(nlohmann::json::parse(dir.read(name + "/stats.json")), r.out);
  };
  const auto [plain, plain_text] = render("", "plain");
  const auto [soft, soft_text] = render("bounce_roughness=0.5\n", "soft");
  CHECK_FALSE(plain.contains("bounce_roughness"));
  REQUIRE(soft.contains("bounce_roughness"));
  CHECK(soft_text.find("bounce_roughness") != std::string::npos);
  const auto caustic_noise = [](const nlohmann::json& j) {
    return j["lights"][0]["noise_by_part"]["caustic"].get<double>();
  };
  CHECK(caustic_noise(soft) < 0.3 * caustic_noise(plain));
  // What it says it takes is what the means differ by.
  const double removed = soft["bounce_roughness"]["removed_cd_m2"],
               error = soft["bounce_roughness"]["standard_error_cd_m2"];
  const double mean = plain["mean_luminance_cd_m2"];
  CHECK(error > 0);
  CHECK(error < 0.02 * mean);
  CHECK(mean - soft["mean_luminance_cd_m2"].get<double>() ==
        Approx(removed).margin(5 * error + 0.005 * mean));
  // Seen from the camera the ball is as it was: its direct light is the same to the bit.
  const auto direct = [&](const std::string& name) {
    const auto exr = ExrReader::open(dir.path(name + "/image.exr"));
    REQUIRE(exr);
    const auto data = exr->read({"light.lamp.direct.G"}, 0, 0, 32, 20);
    REQUIRE(data);
    return std::accumulate((*data)[0].begin(), (*data)[0].end(), 0.0);
  };
  CHECK(direct("plain") > 0);
  CHECK(direct("soft") == Approx(direct("plain")).epsilon(1e-6));  // rounding of sums
  // It is a departure from physics: check says so, with its place.
  const ProgramRun check = run_program({"check", dir.path("soft.toml"), "--json"});
  const auto warnings = check.json()["warnings"];
  CHECK(std::any_of(warnings.begin(), warnings.end(), [](const auto& w) {
    return w["code"] == "bounce-roughness" && w["line"] == 12;
  }));
  // Less than the material's own changes nothing; panes and diffuse surfaces have none.
  const auto [less, less_text] = render("bounce_roughness=0.1\n", "less");
  CHECK(less["mean_luminance_cd_m2"] == plain["mean_luminance_cd_m2"]);
  const std::string diffuse = dir.write(
      "diffuse.toml", "jovilux=1\n[[material]]\nname='m'\nkind='diffuse'\nbounce_roughness=0.5\n");
  CHECK(run_program({"check", diffuse}).status == 1);
}

TEST_CASE("a limit on bounced light takes what it says, and says what it takes",
          "[cli][links][caustics]") {
  // A ball of glass and one of mirror throw spots of light.
  const TemporaryFolder dir;
  const auto stats_of = [&](const std::string& cheat) {
    const std::string rig = dir.write(
        "r.toml",
        "jovilux=1\n[[camera]]\nname='c'\nat=[0,-2,1.2]\nlook_at=[0,0,0.2]\nfield_of_view=40\n[["
        "material]]"
        "\nname='g'\nkind='glass'\n[[object]]\nname='floor'\nshape={kind='plane'}\n[[object]]"
        "\nname='ball'\nmaterial='g'\nshape={kind='sphere', radius=0.25}\nat=[0,0,0.3]\n"
        "[[light]]\nname='lamp'\nkind='sphere'\nradius='3 cm'\nat=[0.5,0.3,1.2]\noutput='500 "
        "lm'\n" +
            cheat + "[render]\nsize=[48,32]\nsamples=64\nbounces=5\nseed=3\nguiding=false\n");
    REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet", "--force"}).status == 0);
    return nlohmann::json::parse(dir.read("out/stats.json"));
  };
  const auto light = [](const nlohmann::json& j) { return j["lights"][0]; };
  const auto free = stats_of("");
  CHECK_FALSE(light(free).contains("clamped_cd_m2"));
  const double mean = light(free)["mean_luminance_cd_m2"];
  const auto held = stats_of("cheat={bounce_limit='3 cd/m2'}\n");
  // The same paths are taken, since nothing is learned before: what is there and what was held back
  // make the whole.
  CHECK(light(held)["clamped_cd_m2"].get<double>() > 0.001 * mean);
  CHECK(light(held)["mean_luminance_cd_m2"].get<double>() < mean);
  CHECK(light(held)["mean_luminance_cd_m2"].get<double>() +
            light(held)["clamped_cd_m2"].get<double>() ==
        Approx(mean).epsilon(0.03));
  CHECK(held["noise"]["p95"].get<double>() <= free["noise"]["p95"].get<double>());
  // A limit above everything changes nothing.
  const auto high = stats_of("cheat={bounce_limit='1e9 cd/m2'}\n");
  CHECK(light(high)["mean_luminance_cd_m2"].get<double>() == mean);
  const ProgramRun check = run_program({"check", dir.path("r.toml")});
  CHECK(check.out.find("cheat.bounce_limit") != std::string::npos);
}

TEST_CASE("an object without a shadow lets direct light pass, and one unseen shows in mirrors only",
          "[cli][links]") {
  // A lid over the place that the camera looks at: 1000 lm straight above it give cos^4 law's
  // 1000 / (4 pi) / 2^2 lx there where the lid throws no shadow, and nothing where it does.
  const std::string lamp = light("kind='sphere'\nat=[0,0,2]\nradius='2 cm'\noutput='1000 lm'\n");
  const auto lid = [](const std::string& key) {
    return "[[object]]\nname='lid'\nat=[0,0,1]\nshape={kind='box',size=[0.5,0.5,0.02]}\n" + key +
           "\n";
  };
  const Vec3d camera(0, -2, 0.8);
  const double lit = 1000 / (4 * kPiD) / 4 * kPlaneFactor;
  check_luminance(looking_at(camera, {0, 0, 0}, lamp + lid("throws_shadow = false")), lit);
  const RunningMoments dark = luminance(looking_at(camera, {0, 0, 0}, lamp + lid("")));
  CHECK(dark.mean() == 0);
  // The body of another lamp still throws its shadow.
  const std::string other =
      "[[light]]\nname='other'\nkind='disk'\nat=[0,0,1.5]\ntoward=[0,0,1]\nradius='30 cm'\n"
      "output='1 lm'\n";
  CHECK(
      luminance(looking_at(camera, {0, 0, 0}, lamp + other + lid("throws_shadow = false"))).mean() <
      0.01 * lit);

  // From above, through the lid: the floor in its shadow is seen instead of the lid.
  const auto from_above = [&](const std::string& key) {
    return luminance(looking_at({0.5, 0, 4}, {0, 0, 0}, lamp + lid(key)), 2).mean();
  };
  const double top = from_above(""), floor = from_above("seen_by_camera = false");
  CHECK(top > 2 * lit);  // a meter nearer to the lamp
  CHECK(floor == 0);     // the lid's shadow stays
  // Neither is physics, and check says so.
  const TemporaryFolder dir;
  const std::string out =
      run_program(
          {"check",
           dir.write("r.toml",
                     looking_at(camera,
                                {0, 0, 0},
                                lamp + lid("throws_shadow = false\nseen_by_camera = false")))})
          .out;
  CHECK(out.find("lid.throws_shadow = false") != std::string::npos);
  CHECK(out.find("lid.seen_by_camera = false") != std::string::npos);
}
