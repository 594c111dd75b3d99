// Keys, flicker and [time] in a rig.
#include "jovilux/rig/keys.h"
#include "jovilux/rig/rig.h"

#include <cmath>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

Result<Rig> rig_of_for_time(const std::string& text) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  return read_rig(std::move(*document), "rig.toml");
}

std::string problems_at(const std::string& text) {
  std::string out;
  const auto rig = rig_of_for_time(text);
  for (const Problem& p : rig.problems()) {
    out += to_string(p) + "\n";
  }
  return out;
}

std::string lamp(const std::string& keys) {
  return "[[light]]\nname='p'\nkind='sphere'\nradius=0.1\n" + keys;
}

Rig at(const std::string& text, double t) {
  const auto rig = rig_of_for_time(text);
  for (const Problem& p : rig.problems()) {
    INFO(to_string(p));
  }
  REQUIRE(rig);
  auto there = rig_at(*rig, t);
  REQUIRE(there);
  return std::move(*there);
}

}  // namespace

TEST_CASE("keyed numbers, quantities, colors and positions are blended between their keys",
          "[keys]") {
  const std::string text = lamp(
      "at={ keys=[['0 s',[0,0,1]],['2 s',[4,'2 m',1]]] }\noutput={ keys=[[0,'100 lm'],[2,'500 "
      "lm']] }\nwhite={ keys=[[0,'2000 K'],[2,'4000 K']], ease='smooth' }\n"
      "tint={ keys=[[0,'#ff0000'],[2,[0,1,0]]] }\ndimmer={ keys=[['1000 ms',0.2],['2 s','80 %']] "
      "}\nnear_softening={ keys=[[0,'10 cm'],[2,'1 m']] }\n");
  const Rig half = at(text, 1);
  const LightSpec& l = half.lights[0];
  CHECK((l.at - Vec3d(2, 1, 1)).norm() < 1e-12);
  CHECK(l.output.value == Approx(300));
  CHECK(l.white.temperature.value == Approx(3000));
  CHECK((*l.tint - Rgb(0.5, 0.5, 0)).cwiseAbs().maxCoeff() < 1e-12);
  CHECK(l.dimmer == Approx(0.2));
  CHECK(l.falloff.near_softening == Approx(0.55));  // of two units: in meters
  const Rig quarter = at(text, 0.5);
  CHECK(quarter.lights[0].white.temperature.value ==
        Approx(2000 + 2000 * (3 * 0.0625 - 2 * 0.015625)));
  CHECK(quarter.lights[0].dimmer == Approx(0.2));  // before its first key
  CHECK(at(text, 1.5).lights[0].dimmer == Approx(0.5));
  CHECK(at(text, 9).lights[0].at.x() == Approx(4));
}

TEST_CASE("keys move cameras, objects, haze and the look, flags and held texts step", "[keys]") {
  const std::string text =
      "[[camera]]\nname='c'\nat={ keys=[[0,[0,-4,1]],[1,[2,-4,1]]] }\nlook_at=[0,0,0]\nfocus={ "
      "keys=[[0,'1 m'],[1,'3 m']] }\n"
      "[[object]]\nname='o'\nshape={kind='box', size=[1,1,1]}\nat={ keys=[[0,[0,0,0]],[1,[0,0,2]]] "
      "}\nrotate={ keys=[[0,[0,0,0]],[1,[0,0,90]]] }\n"
      "[[haze]]\nname='h'\ninside='everywhere'\nextinction={ keys=[[0,'0.1 /m'],[1,'0.3 /m']] }\n"
      "[look]\nexposure={ keys=[[0,'EV 4'],[1,'EV 8']] }\ncurve={ "
      "keys=[[0,'film'],[0.6,'linear']], ease='hold' }\n" +
      lamp("at=[0,0,1]\noutput='1 lm'\non={ keys=[[0,true],[0.4,false]] }\n");
  const Rig half = at(text, 0.5);
  CHECK(half.cameras[0].at.x() == Approx(1));
  CHECK(*half.cameras[0].focus == Approx(2));
  CHECK(half.objects[0].transform.offset.z() == Approx(1));
  CHECK(half.objects[0].transform.linear(0, 0) == Approx(std::cos(kPiD / 4)));
  CHECK(half.hazes[0].extinction == Approx(0.2));
  CHECK(half.look.ev == Approx(6));
  CHECK(half.look.curve == LookSpec::Curve::kFilm);
  CHECK(at(text, 0.7).look.curve == LookSpec::Curve::kLinear);
  CHECK(half.lights[0].dimmed() == 0);
  CHECK(at(text, 0.3).lights[0].dimmed() == 1);
}

TEST_CASE("wrong keys are errors with their place, at whatever moment they would bite", "[keys]") {
  struct Case {
    const char* text;
    const char* says;
  };
  for (const Case& c : std::initializer_list<Case>{
           {"dimmer={ keys=[] }", "found a list; expected [[time, value], ...]"},
           {"dimmer={ keys=[[0,1],[0,0.5]] }", "times must increase"},
           {"dimmer={ keys=[[0,1],['2 m',0.5]] }", "found \"2 m\""},
           {"dimmer={ keys=[[0,1],[1]] }", "expected [time, value]"},
           {"dimmer={ keys=[[0,1],[1,7]] }",
            "rig.toml:8:25: error: light.p.dimmer: found 7; expected 0 to 1"},
           {"dimmer={ keys=[[0,1],[1,0]], eas='smooth' }", "did you mean \"ease\"?"},
           {"dimmer={ keys=[[0,1],[1,0]], ease='bouncy' }", "expected linear, smooth or hold"},
           {"dimmer={ keys=[[0,1],[1,{}]] }", "expected a value"},
           {"tint={ keys=[[0,'#ff0000'],[1,'x']] }",
            "nothing between this value and the one before"},
           {"white={ keys=[[0,'2700 K'],[1,'D6504']] }",
            "write both in the same form, or ease = \"hold\""},
           {"white={ keys=[[0,'2700 K'],[5,'12 K']] }", "500 to 100000"}}) {
    const std::string all = problems_at(lamp("at=[0,0,1]\noutput='1 lm'\n") + c.text + "\n");
    INFO(all);
    CHECK(all.find(c.says) != std::string::npos);
  }
  CHECK(problems_at("[render]\ntime={ keys=[[0,1]] }\n").find("render.time") != std::string::npos);
}

TEST_CASE("a level over a shutter is the integral of keys times flicker",
          "[keys][flicker][truth]") {
  const std::string text =
      "[time]\nframes=[1,4]\nrate=10\nshutter=1\n" +
      lamp(
          "at=[0,0,1]\noutput='1 lm'\ndimmer={ keys=[[0,0],['0.12 s',1],['0.2 s',0.4]], "
          "ease='smooth' }\nflicker={ wave='square', rate='37 Hz', depth='60 %', duty=0.3 }\non={ "
          "keys=[[0,true],['0.17 s',false]] }\n");
  for (const double t : {0.05, 0.1, 0.15, 0.3}) {
    const Rig r = at(text, t);
    const LightSpec& l = r.lights[0];
    double sum = 0;
    constexpr int kParts = 400000;
    for (int i = 0; i < kParts; ++i) {
      const double u = t - 0.05 + 0.1 * (i + 0.5) / kParts;
      const double ease = u < 0      ? 0
                          : u < 0.12 ? u / 0.12
                          : u < 0.2  ? (u - 0.12) / 0.08
                                     : 1,
                   s = ease * ease * (3 - 2 * ease);
      const double dimmer = u < 0.12 ? s : 1 - 0.6 * s, high = 1.6 / (1 + 0.6 * (0.6 - 1)),
                   low = 0.4 / (1 + 0.6 * (0.6 - 1));
      sum += u < 0.17 ? dimmer * (37 * u - std::floor(37 * u) < 0.3 ? high : low) : 0;
    }
    INFO(t);
    CHECK(l.dimmed() == Approx(sum / kParts).epsilon(2e-4).margin(1e-9));
  }
  // Without a shutter, the level of the moment.
  CHECK(
      at(lamp("at=[0,0,1]\noutput='1 lm'\nflicker={ wave='sine', rate='1 Hz', depth=0.5 }\n"), 0.25)
          .lights[0]
          .dimmed() == Approx(1.5));
  // Percent as well as plain numbers.
  const Rig percents =
      at("[time]\nframes=[1,2]\nrate=1\nshutter=1\n" +
             lamp("at=[0,0,1]\noutput='1 lm'\ndimmer={ keys=[[0,'30 %'],['0.7 s','80 %']] }\n"),
         0.35);
  CHECK(percents.lights[0].dimmed() == Approx(0.15 * 0.3 + 0.7 * 0.55 + 0.15 * 0.8));
  // A light that is off at the rig's moment knows its level when it is on.
  const Rig late = at(
      lamp("at=[0,0,1]\noutput='1 lm'\ndimmer=0.5\non={ keys=[[0,false],['0.5 s',true]] }\n"), 0.1);
  CHECK(late.lights[0].dimmed() == 0);
  CHECK(late.lights[0].level_between(0.25, 0.75) == Approx(0.25));
  // A dimmer that is set again does not follow the keys.
  CHECK(at(lamp("at=[0,0,1]\noutput='1 lm'\ndimmer=0.5\n"), 1).lights[0].dimmed() == 0.5);
}

TEST_CASE("dimmers in stops are powers of two, over time they go as light does", "[keys][rig]") {
  const auto dimmer = [](const std::string& value) {
    return at(lamp("at=[0,0,1]\noutput='1 lm'\ndimmer=" + value + "\n"), 0.5).lights[0].dimmer;
  };
  CHECK(dimmer("'-1.5 stops'") == Approx(std::pow(2.0, -1.5)));
  CHECK(dimmer("'+1 stop'") == Approx(2));
  CHECK(dimmer("'0 stops'") == Approx(1));
  // Half of the way in time is half of the way in light: (1/4 + 2) / 2.
  CHECK(dimmer("{ keys=[[0,'-2 stops'],[1,'+1 stops']] }") == Approx(1.125));
  CHECK(dimmer("{ keys=[[0,0],[1,'+1 stops']] }") == Approx(1));
  CHECK(dimmer("{ keys=[[0,'-2 stops'],[1,0.75]] }") == Approx(0.5));
  const Rig open = at("[time]\nframes=[1,2]\nrate=1\nshutter=1\n" +
                          lamp("at=[0,0,1]\noutput='1 lm'\n"
                               "dimmer={ keys=[[0,'-1 stops'],[1,'+1 stops']] }\n"),
                      0.5);
  CHECK(open.lights[0].dimmed() == Approx(1.25));
  CHECK(
      problems_at(lamp("at=[0,0,1]\noutput='1 lm'\ndimmer=1.5\n")).find("write \"+0.585 stops\"") !=
      std::string::npos);
  for (const char* bad : {"'7 stops'", "'-31 stops'", "'EV 1'", "'1 lm'", "'many stops'"}) {
    INFO(bad);
    CHECK_FALSE(
        rig_of_for_time(lamp(std::string("at=[0,0,1]\noutput='1 lm'\ndimmer=") + bad + "\n")));
  }
}

TEST_CASE("copies follow the pattern's keys, no two flames are alike, mains is",
          "[keys][flicker]") {
  const std::string array =
      "[[array]]\nname='row'\nof='p'\ncount=3\nalong={path='line', from=[0,0,0], "
      "to=[1,0,0]}\noutput='each'\n";
  const std::string keyed =
      lamp("at=[0,0,1]\noutput='1 lm'\ndimmer={ keys=[[0,0],[2,1]] }\n") + array;
  const Rig half = at(keyed, 1);
  REQUIRE(half.lights.size() == 3);
  CHECK(half.lights[2].dimmed() == Approx(0.5));
  CHECK(half.lights[1].level_between(1, 2) == Approx(0.75));
  const Rig flames = at(
      lamp("at=[0,0,1]\noutput='1 lm'\nflicker={ wave='flame', rate='5 Hz', depth=0.5 }\n") + array,
      0.33);
  CHECK(flames.lights[0].dimmed() != flames.lights[1].dimmed());
  const Rig mains =
      at(lamp("at=[0,0,1]\noutput='1 lm'\nflicker={ wave='mains', rate='50 Hz', depth=0.5 }\n") +
             array,
         0.3333);
  CHECK(mains.lights[0].dimmed() == mains.lights[2].dimmed());
}

TEST_CASE("flicker and [time] say what is wrong with them", "[keys][flicker]") {
  struct Case {
    const char* text;
    const char* says;
  };
  for (const Case& c : std::initializer_list<Case>{
           {"flicker = 3", "found 3; expected { wave"},
           {"flicker = {}",
            "light.p.flicker.wave: is missing; expected sine, square, mains, flame, strike or "
            "formula"},
           {"flicker = { wave = 'sin', rate = '3 Hz' }", "did you mean \"sine\"?"},
           {"flicker = { wave = 'sine' }", "rate: is missing; expected a frequency"},
           {"flicker = { wave = 'sine', rate = 3 }", "found 3 without a unit"},
           {"flicker = { wave = 'sine', rate = '0 Hz' }", "flicker.rate: found"},
           {"flicker = { wave = 'sine', rate = '3 Hz', depth = 1.5 }", "expected 0 to 1"},
           {"flicker = { wave = 'sine', rate = '3 Hz', duty = 0.5 }",
            "\"duty\" does not go with wave \"sine\""},
           {"flicker = { wave = 'formula', rate = '3 Hz' }", "a formula such as"},
           {"flicker = { wave = 'formula', formula = '1+q' }", "\"q\" is not known"}}) {
    const std::string all = problems_at(lamp("at=[0,0,1]\noutput='1 lm'\n") + c.text + "\n");
    INFO(all);
    CHECK(all.find(c.says) != std::string::npos);
  }
  CHECK(problems_at("[time]\n").find("time.frames: is missing") != std::string::npos);
  CHECK(problems_at("[time]\nframes=[5,2]\n").find("the first not above the last") !=
        std::string::npos);
  CHECK(problems_at("[time]\nframes=[1,2]\nshutter=2\n").find("expected 0 to 1") !=
        std::string::npos);
  CHECK(problems_at("[time]\nframes=[1,2]\nrate=0\n").find("time.rate") != std::string::npos);
  CHECK(problems_at("time = 3\n").find("a [time] table") != std::string::npos);
}

TEST_CASE("a frame has its moment and, unless the rig gives a seed, noise of its own", "[keys]") {
  const TemporaryFolder dir;
  const std::string text =
      "jovilux = 1\n[time]\nframes=[10,20]\nrate=25\nstart='2 s'\n[render]\nsamples=4\n";
  const std::string file = dir.write("r.toml", text),
                    seeded = dir.write("s.toml", text + "seed=7\n");
  const auto frame = [&](const std::string& f, int n, bool hold = false) {
    RigRequest request;
    request.frame = n;
    request.hold_noise = hold;
    const auto rig = load_rig(f, request);
    REQUIRE(rig);
    return *rig;
  };
  CHECK(frame(file, 10).render.time == Approx(2));
  CHECK(frame(file, 15).render.time == Approx(2.2));
  CHECK(frame(file, 10).render.seed != frame(file, 11).render.seed);
  CHECK(frame(file, 10, true).render.seed == frame(file, 11, true).render.seed);
  CHECK(frame(seeded, 10).render.seed == 7);
  CHECK(frame(seeded, 11).render.seed == 7);
  RigRequest request;
  request.frame = 21;
  const auto none = load_rig(file, request);
  REQUIRE_FALSE(none);
  CHECK(to_string(none.problems()[0]).find("frames run from 10 to 20") != std::string::npos);
  // What is resolved gives the same again.
  const Rig once = frame(file, 12);
  const std::string again = dir.write("again.toml", resolved_toml(once, dir.path()));
  const auto back = load_rig(again);
  REQUIRE(back);
  CHECK(back->render.time == once.render.time);
  CHECK(back->render.seed == once.render.seed);
}

TEST_CASE("the sun goes by the site's clock", "[keys]") {
  const std::string text =
      "[scene]\nsite={latitude=50, longitude=0, "
      "time='2026-06-21T06:00:00Z'}\n[time]\nframes=[1,2]\nrate=1\nclock_speed=3600\n[[light]]"
      "\nname='sun'\nkind='sun'\noutput='10 klx'\n";
  const double now = -at(text, 0).lights[0].axis.z(), later = -at(text, 3).lights[0].axis.z();
  const Rig nine =
      at("[scene]\nsite={latitude=50, longitude=0, "
         "time='2026-06-21T09:00:00Z'}\n[[light]]\nname='sun'\nkind='sun'\noutput='10 klx'\n",
         0);
  CHECK(later > now + 0.2);
  CHECK(later == Approx(-nine.lights[0].axis.z()).epsilon(1e-9));
}

TEST_CASE("all files of a rig are known", "[keys]") {
  const TemporaryFolder dir;
  dir.write("mesh.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n");
  dir.write("more.toml", "[[object]]\nname='o'\nmesh='mesh.obj'\n");
  const auto rig =
      load_rig(dir.write("r.toml", "jovilux = 1\ninclude=['more.toml']\n[render]\nsamples=4\n"));
  REQUIRE(rig);
  const auto files = files_of(*rig);
  for (const char* name : {"r.toml", "more.toml", "mesh.obj"}) {
    CHECK(std::find(files.begin(), files.end(), dir.path(name)) != files.end());
  }
}

TEST_CASE("whether a keyed value changes between two moments", "[keys]") {
  const auto keyed = parse_toml(
      "v = { keys = [[0, 1], [1, 1], [2, 3]] }\nh = { keys = [[0, 'a'], [1, 'b']], ease = 'hold' "
      "}\n",
      "x");
  REQUIRE(keyed);
  const DocumentNode &v = *keyed->find("v"), &h = *keyed->find("h");
  CHECK_FALSE(varies_between(v, 0, 1));
  CHECK(varies_between(v, 0.5, 1.5));
  CHECK(varies_between(v, 1.2, 1.3));
  CHECK_FALSE(varies_between(v, 2, 5));
  CHECK_FALSE(varies_between(v, -2, 0.5));
  CHECK_FALSE(varies_between(h, 0.1, 0.9));
  CHECK(varies_between(h, 0.5, 1.5));
  CHECK(key_times(*keyed) == std::vector<double>{0, 1, 2});
}
