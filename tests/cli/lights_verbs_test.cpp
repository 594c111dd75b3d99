// The verbs that show lights without rendering: falloff, profile, color's chart; the scenes of new;
// the mistakes of check.
#include "jovilux/color/difference.h"
#include "jovilux/color/nodes.h"
#include "jovilux/color/sources_by_name.h"
#include "jovilux/files/image.h"
#include "jovilux/photometry/beam.h"

#include <cmath>
#include <fstream>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A figure is a PNG of 1280 x 800 that is not blank: white in its corner, dark ink and color
// somewhere.
void check_figure(const std::string& path) {
  const auto image = load_image(path);
  REQUIRE(image);
  CHECK(image->width == 1280);
  CHECK(image->height == 800);
  float darkest = 1, most_colored = 0;
  for (std::size_t i = 0; i < image->rgb.size(); i += 3) {
    const float lo = std::min({image->rgb[i], image->rgb[i + 1], image->rgb[i + 2]}),
                hi = std::max({image->rgb[i], image->rgb[i + 1], image->rgb[i + 2]});
    darkest = std::min(darkest, hi);
    most_colored = std::max(most_colored, hi - lo);
  }
  CHECK(image->rgb[0] == Approx(1).margin(1e-3));
  CHECK(darkest < 0.05f);
  CHECK(most_colored > 0.3f);
  // Nothing runs out of the picture: its outermost pixels are white.
  for (int x = 0; x < 1280; ++x) {
    CHECK(image->rgb[static_cast<std::size_t>(x) * 3] > 0.9f);
    CHECK(image->rgb[(static_cast<std::size_t>(799) * 1280 + static_cast<std::size_t>(x)) * 3] >
          0.9f);
  }
}

}  // namespace

TEST_CASE("falloff shows laws against the inverse square, as table, CSV and figure",
          "[cli][falloff]") {
  const TemporaryFolder dir;
  const auto run = run_program({"falloff",
                                "--law",
                                "none",
                                "--law",
                                "linear zero_at=6m matches_at=2m",
                                "--law",
                                "inverse-square near_softening=30cm",
                                "--to",
                                "8m",
                                "--light-output",
                                "100 cd",
                                "-o",
                                dir.path("out"),
                                "--json"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto j = run.json()["curves"];
  REQUIRE(j.size() == 3);
  for (const auto& p : j[0]["points"]) {
    const double d = p["distance_m"];
    CHECK(p["illuminance_lx"].get<double>() == Approx(100).epsilon(1e-5));
    CHECK(p["physical_lx"].get<double>() == Approx(100 / (d * d)).epsilon(1e-5));
  }
  CHECK(j[0]["largest_factor"].get<double>() == Approx(64).epsilon(1e-3));
  for (const auto& p : j[1]["points"]) {
    const double d = p["distance_m"];
    CHECK(p["illuminance_lx"].get<double>() ==
          Approx(std::max(0.0, 25 * (1 - d / 6) / (1 - 2.0 / 6))).epsilon(1e-4).margin(1e-4));
  }
  for (const auto& p : j[2]["points"]) {
    const double d = p["distance_m"];
    CHECK(p["illuminance_lx"].get<double>() == Approx(100 / (d * d + 0.09)).epsilon(1e-5));
  }
  check_figure(dir.path("out/falloff.png"));
  std::ifstream csv(dir.path("out/falloff.csv"));
  std::string header, line;
  std::getline(csv, header);
  CHECK(
      header ==
      "distance_m,none lx,none times physics,linear zero_at=6m matches_at=2m lx,linear "
      "zero_at=6m matches_at=2m times physics,inverse-square near_softening=30cm lx,inverse-square "
      "near_softening=30cm times physics");
  int lines = 0;
  while (std::getline(csv, line)) {
    ++lines;
  }
  CHECK(lines > 150);
  // Existing files are kept.
  CHECK(run_program({"falloff", "--law", "none", "-o", dir.path("out")}).status == 2);
  CHECK(run_program({"falloff", "--law", "none", "-o", dir.path("out"), "--force"}).status == 0);
}

TEST_CASE("falloff reads a rig's lights and tells a large source from a point", "[cli][falloff]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write(
      "r.toml",
      "jovilux = "
      "1\n[[light]]\nname='panel'\nkind='disk'\nradius=0.5\nat=[0,0,2]\naim=[0,0,0]\noutput='1000 "
      "cd/m2'\n[[light]]\nname='sky'\nkind='sky'\nmodel='uniform'\noutput='1 lx'\n");
  const auto j = run_program({"falloff", rig, "--json"}).json()["curves"];
  REQUIRE(j.size() == 1);  // the sky has no falloff
  for (const auto& p : j[0]["points"]) {
    const double d = p["distance_m"];
    CHECK(p["illuminance_lx"].get<double>() ==
          Approx(kPiD * 1000 * 0.25 / (0.25 + d * d)).epsilon(1e-5));
  }
  CHECK(j[0]["departure"] == "physical at every distance");
  const auto unknown = run_program({"falloff", rig, "--light", "panle"});
  CHECK(unknown.status == 2);
  CHECK(unknown.err == "error: --light: the rig has no light \"panle\"; did you mean \"panel\"?\n");
  CHECK(run_program({"falloff"}).err.find("give a RIG, or --law") != std::string::npos);
  CHECK(run_program({"falloff", "--law", "linaer"}).err.find("did you mean \"linear\"?") !=
        std::string::npos);
  CHECK(run_program({"falloff", "--law", "formula formula=1/(1+q)"})
            .err.find("\"q\" is not known; the variables are d") != std::string::npos);
  CHECK(run_program({"falloff", "--law", "linear zero_at=6m\"]"}).status == 2);
}

TEST_CASE("profile designs, converts both ways and shows what a file says", "[cli][profile]") {
  const TemporaryFolder dir;
  const auto made = run_program({"profile",
                                 "--design",
                                 "beam=24deg field=38deg flux=1200lm",
                                 "--to",
                                 dir.path("a.ies"),
                                 "--json",
                                 "-o",
                                 dir.path("out")});
  INFO(made.err);
  REQUIRE(made.status == 0);
  const auto a = made.json();
  CHECK(a["flux_lm"].get<double>() == Approx(1200).epsilon(1e-5));
  CHECK(a["beam_deg"].get<double>() == Approx(24).epsilon(2e-3));
  CHECK(a["field_deg"].get<double>() == Approx(38).epsilon(2e-3));
  CHECK(a["peak_cd"].get<double>() ==
        Approx(1200 / flux_per_candela(spot_beam(degrees(24), degrees(38)))).epsilon(2e-3));
  CHECK(a["symmetry"] == "rotational");
  CHECK(a["faults"].empty());
  check_figure(dir.path("out/profile.png"));
  REQUIRE(run_program({"profile", dir.path("a.ies"), "--to", dir.path("b.ldt")}).status == 0);
  const auto b =
      run_program({"profile", dir.path("b.ldt"), "--to", dir.path("c.ies"), "--json"}).json();
  const auto c = run_program({"profile", dir.path("c.ies"), "--json"}).json();
  for (const char* key : {"flux_lm", "peak_cd", "beam_deg", "field_deg"}) {
    CHECK(b[key].get<double>() == Approx(a[key].get<double>()).epsilon(1e-3));
    CHECK(c[key].get<double>() == Approx(a[key].get<double>()).epsilon(1e-3));
  }
  CHECK(run_program({"profile", dir.path("a.ies"), "--to", dir.path("b.ldt")})
            .err.find("exists; choose another name, or add --force") != std::string::npos);
  CHECK(run_program({"profile", dir.path("a.ies"), "--to", dir.path("b.txt")})
            .err.find("expected a file ending in .ies") != std::string::npos);
  CHECK(run_program({"profile", "--design", "baem=24deg flux=1lm", "--to", dir.path("x.ies")})
            .err.find("did you mean \"beam\"?") != std::string::npos);
  // A file with a fault: told with its line, status 1.
  dir.write("f.ies",
            "IESNA:LM-63-2002\n[TEST] 1\n[MANUFAC] a\nTILT=NONE\n1 10 1 3 1 1 2 0 0 0\n1 1 5\n0 45 "
            "90\n0\n400 200 0\n");
  const auto faulty = run_program({"profile", dir.path("f.ies")});
  CHECK(faulty.status == 1);
  CHECK(faulty.out.find("but the lamps only 10 lm") != std::string::npos);
}

TEST_CASE("a designed file rendered on a wall gives the spot's own level",
          "[cli][profile][truth]") {
  const TemporaryFolder dir;
  REQUIRE(run_program({"profile",
                       "--design",
                       "beam=30deg field=50deg flux=900lm",
                       "--to",
                       dir.path("lamp.ies")})
              .status == 0);
  const auto level = [&](const std::string& shape, double x) {
    const std::string rig = dir.write(
        "r.toml", looking_at({x, 0, 0.5}, {x, 0, 0}, light("at=[0,0,2]\naim=[0,0,0]\n" + shape)));
    return reading(dir, rig, 1)["luminance_cd_m2"].get<double>();
  };
  for (const double x : {0.0, 0.3, 0.6}) {
    CHECK(level("kind='point'\nprofile='lamp.ies'\n", x) ==
          Approx(level("kind='spot'\nbeam=30\nfield=50\noutput='900 lm'\n", x)).epsilon(3e-3));
  }
}

TEST_CASE("color draws its chart", "[cli][color]") {
  const TemporaryFolder dir;
  const auto run = run_program({"color", "2700 K", "cie-f11", "#ffb070", "-o", dir.path("out")});
  INFO(run.err);
  REQUIRE(run.status == 0);
  check_figure(dir.path("out/color.png"));
}

TEST_CASE("every scene of new is sound, renders, and is read where it says", "[cli][new]") {
  const TemporaryFolder dir;
  for (const std::string name : {"row", "screen", "cards", "garland", "blind", "jar"}) {
    INFO(name);
    const auto made = run_program({"new", dir.path(name), "--scene", name});
    REQUIRE(made.status == 0);
    const auto check = run_program({"check", dir.path(name + "/rig.toml"), "--json"}).json();
    CHECK(check["errors"].empty());
    CHECK(check["warnings"].empty());
    REQUIRE(run_program({"render",
                         dir.path(name + "/rig.toml"),
                         "-o",
                         dir.path(name + "/out"),
                         "--samples",
                         name == "cards" || name == "screen" ? "16" : "1",
                         "--quiet"})
                .status == 0);
    // The command that it prints reads as many places as it names.
    const auto begin = made.out.find("then: jovilux read ");
    REQUIRE(begin != std::string::npos);
    std::vector<std::string> words = {"read", dir.path(name + "/out"), "--json"};
    std::istringstream line(made.out.substr(begin, made.out.find('\n', begin) - begin));
    for (std::string word; line >> word;) {
      if (word == "--at") {
        words.push_back(word);
        line >> word;
        words.push_back(word);
      }
    }
    const auto readings = run_program(words).json()["readings"];
    CHECK(readings.size() >= 2);
    for (const auto& r : readings) {
      CHECK(r["luminance_cd_m2"].get<double>() > 0);
    }
    // 18, 84 and 3.5 % of the same light, but for where each card stands: with 1024 samples the
    // gray one has 6.1 times the black one's luminance.
    if (name == "cards") {
      const auto level = [&](std::size_t i) {
        return readings[i]["luminance_cd_m2"].get<double>();
      };
      CHECK(level(1) / level(0) == Approx(0.84 / 0.18).epsilon(0.1));
      CHECK(level(0) / level(2) == Approx(6.1).epsilon(0.1));
    }
    if (name == "screen") {
      CHECK(readings[0]["luminance_cd_m2"].get<double>() >
            5 * readings[1]["luminance_cd_m2"].get<double>());
    }
  }
  // A row of meters under one lamp, E = I h / d^3: the lamp is the sphere's center.
  const auto meters =
      run_program({"meter", dir.path("row/rig.toml"), "--set", "render.bounces=1", "--json"});
  REQUIRE(meters.status == 0);
  const auto list = meters.json()["meters"];
  REQUIRE(list.size() == 7);
  for (std::size_t i = 0; i < 7; ++i) {
    const double h = 1.72 - 0.985, x = 0.42 * static_cast<double>(i), d2 = h * h + x * x;
    CHECK(list[i]["value"].get<double>() ==
          Approx(620 / (4 * kPiD) * h / (d2 * std::sqrt(d2))).epsilon(0.02));
  }
  CHECK(run_program({"new", dir.path("x"), "--scene", "rwo"}).err.find("did you mean \"row\"?") !=
        std::string::npos);
}

TEST_CASE("check warns of what needs no haze, each with its place and its cure", "[cli][check]") {
  const TemporaryFolder dir;
  dir.write("lamp.ies",
            "IESNA:LM-63-2002\n[TEST] 1\n[MANUFAC] a\nTILT=NONE\n1 -1 1 3 1 1 2 0 0 0\n1 1 5\n0 45 "
            "90\n0\n100 70 0\n");
  const std::string room =
      "jovilux = "
      "1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,1]\n[[object]]\nname='floor'\nshape={"
      "kind='box', size=[6,6,0.1]}\nat=[0,0,-0.05]\n[[object]]\nname='back'\nshape={kind='box', "
      "size=[6,0.1,3]}\nat=[0,3,1.5]\n";
  const auto warned = [&](const std::string& text,
                          const std::string& code,
                          const std::string& says) {
    const auto j = run_program({"check", dir.write("r.toml", room + text), "--json"}).json();
    INFO(j.dump());
    for (const auto& w : j["warnings"]) {
      if (w["code"] == code) {
        CHECK(w["line"].get<int>() > 0);
        CHECK((w["message"].get<std::string>() + "; " + w["hint"].get<std::string>()).find(says) !=
              std::string::npos);
        return true;
      }
    }
    return false;
  };
  const std::string small =
      "[[light]]\nname='b'\nkind='sphere'\nat=[0,0,1]\nradius=0.02\noutput='400 lm'\n";
  CHECK(warned(small + "[[array]]\nname='s'\nof='b'\ncount=34\noutput='each'\nalong={path='line', "
                       "from=[-1,0,0.5], to=[1,0,0.5]}\n",
               "copies-at-full-output",
               "34 copies of full output each: 13600 lm together"));
  CHECK_FALSE(warned(small + "[[array]]\nname='s'\nof='b'\ncount=34\noutput='total'\nalong={path='"
                             "line', from=[-1,0,0.5], to=[1,0,0.5]}\n",
                     "copies-at-full-output",
                     ""));
  CHECK(warned(
      "[[light]]\nname='n'\nkind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam=0.5\noutput='9000 lm'\n",
      "narrow-beam",
      "would have 1e5 cd"));
  CHECK(
      warned("[[light]]\nname='t'\nkind='tube'\nfrom=[-0.5,0,2]\nto=[0.5,0,2]\nradius='0.2 "
             "mm'\noutput='3000 lm'\n",
             "brighter-than-its-kind",
             "fluorescent, LED and neon tubes have 2000 to 40000 cd/m2"));
  CHECK(
      warned("[[light]]\nname='p'\nkind='rect'\nat=[0,0,2]\naim=[0,0,0]\nsize=[0.1,0.1]\noutput='"
             "100 klm'\n",
             "brighter-than-its-kind",
             "LED panels"));
  CHECK(warned("[[light]]\nname='i'\nkind='sphere'\nat=[0,0,0.02]\nradius='1 mm'\noutput='5 lm'\n",
               "hot-spot",
               "near_softening = "));
  CHECK_FALSE(
      warned("[[light]]\nname='i'\nkind='sphere'\nat=[0,0,0.02]\nradius='1 mm'\noutput='5 "
             "lm'\nnear_softening='50 cm'\n",
             "hot-spot",
             ""));
  CHECK(warned(
      "[[light]]\nname='f'\nkind='point'\nat=[0,0,2]\nprofile='lamp.ies'\noutput='9000 lm'\n",
      "profile-lumens",
      "leave output out to take the file's lumens"));
  CHECK_FALSE(warned(
      "[[light]]\nname='f'\nkind='point'\nat=[0,0,2]\nprofile='lamp.ies'\n", "profile-lumens", ""));
  CHECK(
      warned("[[solid]]\nname='z'\nkind='box'\nsize=[0.1,0.1,0.1]\nat=[0,0,9]\n[[light]]\nname='f'"
             "\nkind='point'\nat=[0,0,2]\noutput='9 lm'\ninside='z'\n",
             "inside-holds-nothing",
             "move or enlarge the volume"));
}

TEST_CASE("check lists each cheat with its effect in figures", "[cli][check]") {
  const TemporaryFolder dir;
  const auto j =
      run_program(
          {"check",
           dir.write(
               "r.toml",
               looking_at(
                   {0, 0, 1},
                   {0, 0, 0},
                   light("kind='point'\nat=[0,0,2]\noutput='9 "
                         "lm'\nonly=['plane']\nshadow_skip=['plane']\nfade_with_camera=['50 cm','2 "
                         "m']\n"
                         "cheat={diffuse=2, gloss=0.5, bounce=3, bounce_chroma=0.2, "
                         "shadow=0.4, shadow_tint='#404040', caustics=0, visible=false}\n"))),
           "--json"})
          .json();
  std::map<std::string, std::string> effects;
  for (const auto& c : j["lights"][0]["cheats"]) {
    effects[c["key"]] = c["effect"];
  }
  CHECK(effects.size() == 11);
  CHECK(effects["cheat.diffuse"] == "2 times its light in diffuse reflection");
  CHECK(effects["cheat.shadow"] == "its shadows keep 60 % of its light");
  CHECK(effects["cheat.bounce_chroma"] == "its bounced light keeps 20 % of its colorfulness");
  CHECK(effects["fade_with_camera"].find("times its light with this camera") != std::string::npos);
}

TEST_CASE("a gel over an LED on a red wall is rendered in its 1 nm color", "[cli][truth][color]") {
  const TemporaryFolder dir;
  const NmTable red = test_color(9);  // CIE 13.3: strong red
  std::string table;
  for (std::size_t i = 0; i < kNmCount; i += 5) {
    table += fmt::format("{},{:.6f}\n", kFirstNm + static_cast<int>(i), red[i]);
  }
  dir.write("red.csv", table);
  const std::string rig = dir.write(
      "r.toml",
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,1]\nlook_at=[0,0.001,0]\nfield_of_view='0.05 "
      "deg'\n[[material]]\nname='red'\nkind='diffuse'\ncolor='red.csv'\n[[object]]\nname='wall'"
      "\nshape={kind='plane'}\nmaterial='red'\n"
      "[[gel]]\nname='straw'\npoints=[[400, 0.18], [480, 0.35], [540, 0.70], [580, 0.88], [700, "
      "0.92]]\n"
      "[[light]]\nname='l'\nkind='sun'\ntoward=[0,0,-1]\noutput='10 "
      "klx'\nspectrum='led-3000'\ngel='straw'\n[render]\nsize=[8,8]\nsamples=32\nbounces=1\n");
  const auto r = reading(dir, rig, 1);
  NmTable gel;
  const double nm[5] = {400, 480, 540, 580, 700}, t[5] = {0.18, 0.35, 0.70, 0.88, 0.92};
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double at = std::clamp(kFirstNm + static_cast<double>(i), nm[0], nm[4]);
    std::size_t j = 0;
    while (j < 3 && nm[j + 1] < at) {
      ++j;
    }
    gel[i] = t[j] + (t[j + 1] - t[j]) * (at - nm[j]) / (nm[j + 1] - nm[j]);
  }
  const NmTable led = *spectrum_named("led-3000"), light = filtered(led, gel);
  const double lux = 10000 * luminous_transmittance(led, gel);
  const Xyz white = tristimulus(light) * (lux / kPiD / tristimulus(light)[1]);
  const Xyz exact = tristimulus(light, red) * (white[1] / tristimulus(light)[1]);
  const Xyz rendered = xyz_from_rec709() * Rgb(r["rgb"][0], r["rgb"][1], r["rgb"][2]);
  INFO(exact.transpose() << " and " << rendered.transpose());
  CHECK(delta_e_2000(lab(rendered, white), lab(exact, white)) < 0.5);
}

TEST_CASE("a thousand lamps are as clean as the ten that are near", "[cli][lights]") {
  const TemporaryFolder dir;
  const bool shadows = GENERATE(true, false);
  const auto noise_of = [&](bool all) {
    // A square grid of lamps a meter apart, a meter above the floor; the ten next to what the
    // camera sees, or all 1024.
    std::vector<std::pair<double, std::string>> places;
    for (int i = 0; i < 32; ++i) {
      for (int k = 0; k < 32; ++k) {
        const double x = i - 15.5, y = k - 15.5;
        places.emplace_back(x * x + y * y, fmt::format("[{},{},1]", x, y));
      }
    }
    std::sort(places.begin(), places.end());
    std::string points;
    for (std::size_t i = 0; i < (all ? places.size() : 10); ++i) {
      points += (i > 0 ? "," : "") + places[i].second;
    }
    const std::string rig = dir.write(
        "r.toml",
        "jovilux = "
        "1\n[[camera]]\nname='c'\nat=[0,-0.9,0.42]\nlook_at=[0.1,0.1,0]\nfield_of_view=40\n[render]"
        "\nsize=["
        "48,36]\nsamples=64\nbounces=1\n[[object]]\nname='floor'\nshape={kind='plane'}\n" +
            std::string(shadows ? "[[object]]\nname='post'\nshape={kind='box', "
                                  "size=[0.1,0.1,0.8]}\nat=[0.3,0.3,0.4]\n"
                                : "") +
            "[[light]]\nname='lamp'\nkind='sphere'\nradius=0.03\nat=[0,0,0]\noutput='50 lm'\n"
            "[[array]]\nname='lamps'\nof='lamp'\noutput='each'\nalong={path='points', points=[" +
            points + "]}\n");
    const ProgramRun run =
        run_program({"render", rig, "-o", dir.path("out"), "--quiet", "--force", "--json"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run.json();
  };
  const auto few = noise_of(false), many = noise_of(true);
  INFO("shadows " << shadows << ": median " << few["noise"]["median"] << " and "
                  << many["noise"]["median"] << ", p95 " << few["noise"]["p95"] << " and "
                  << many["noise"]["p95"]);
  // The others matter too.
  CHECK(many["mean_luminance_cd_m2"].get<double>() >
        1.5 * few["mean_luminance_cd_m2"].get<double>());
  // What stands before each of ten lamps is learned for each of them, of a thousand for groups; and
  // lamps in groups are not sampled toward more than once. Most pixels see all of the ten lamps:
  // there the median is that of lights which are sampled toward for certain.
  const double most = shadows ? 2.5 : 1.5, most_median = shadows ? 6 : 1.5;
  CHECK(many["noise"]["median"].get<double>() < most_median * few["noise"]["median"].get<double>());
  CHECK(many["noise"]["p95"].get<double>() < most * few["noise"]["p95"].get<double>());
}
