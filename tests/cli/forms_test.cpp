// The forms, laws and shapings of lights against formulas, through the built program.
#include "jovilux/base/interpolation.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/png.h"
#include "jovilux/photometry/distribution.h"
#include "jovilux/photometry/sources.h"

#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

std::string tube(double length, const std::string& rest) {
  return light(fmt::format(
      "kind='tube'\nfrom=[{}, 0, 1]\nto=[{}, 0, 1]\n{}", -length / 2, length / 2, rest));
}

// A rotational .ies file of I(theta) = peak cos^n in steps of 2.5 degrees.
std::string cosine_file(double n, double peak) {
  std::string out = fmt::format(
      "IESNA:LM-63-2002\n[TEST] 1\n[MANUFAC] Orchid House Lamps\nTILT=NONE\n1 -1 1 37 1 1 2 0 0 "
      "0\n1 1 10\n");
  for (int i = 0; i <= 36; ++i) {
    out += fmt::format("{} ", i * 2.5);
  }
  out += "\n0\n";
  for (int i = 0; i <= 36; ++i) {
    out +=
        fmt::format("{:.6f} ", peak * std::pow(std::max(0.0, std::cos(i * 2.5 * kPiD / 180)), n));
  }
  return out + "\n";
}

}  // namespace

TEST_CASE("tubes of three lengths light the plane at five places by their formula",
          "[cli][truth]") {
  const double L = 11000, R = 0.02;
  for (const double length : {0.3, 1.2, 4.0}) {
    for (const Vec3d& p : {Vec3d(0, 0, 0),
                           Vec3d(0.4, 0.3, 0),
                           Vec3d(-1, 0, 0),
                           Vec3d(2.2, 0.1, 0),
                           Vec3d(0.1, -1.5, 0)}) {
      INFO("length " << length << " at " << p.transpose());
      const double exact =
          tube_illuminance(L, {-length / 2, 0, 1}, {length / 2, 0, 1}, R, p, Vec3d::UnitZ());
      check_luminance(
          looking_at(
              p + Vec3d(0, 0, 0.4), p, tube(length, "radius='2 cm'\noutput='11000 cd/m2'\n")),
          exact * kPlaneFactor,
          0.02,
          8);
    }
  }
}

TEST_CASE("thick, thin, ideal and endless tubes agree with their formulas", "[cli][truth]") {
  const Vec3d p(0.3, 0.4, 0);
  const auto from = [&](double h) { return looking_at(p + Vec3d(0, 0, h), p, ""); };
  // Thick and near: 30 cm across, its lower side 35 cm over the plane.
  check_luminance(
      from(0.3) + light("kind='tube'\nfrom=[-0.6,0.2,0.5]\nto=[0.6,0.2,0.5]\nradius='15 "
                        "cm'\noutput='2000 cd/m2'\n"),
      tube_illuminance(2000, {-0.6, 0.2, 0.5}, {0.6, 0.2, 0.5}, 0.15, p, Vec3d::UnitZ()) *
          kPlaneFactor);
  // An ideal line of 1200 lm: I = Phi / pi^2.
  check_luminance(from(0.5) + tube(1.2, "radius=0\noutput='1200 lm'\n"),
                  tube_illuminance(
                      1200 / (kPiD * kPiD) / 1.2, {-0.6, 0, 1}, {0.6, 0, 1}, 0, p, Vec3d::UnitZ()) *
                      kPlaneFactor);
  // Endless: E = Phi' / (2 pi d) straight below, thin and thick.
  for (const char* radius : {"0", "'5 cm'"}) {
    check_luminance(looking_at({0, 0, 0.5},
                               {0, 0, 0},
                               light(fmt::format("kind='tube'\nendless=true\nat=[0,0,1]\nalong=[1,"
                                                 "0,0]\nradius={}\noutput='900 lm/m'\n",
                                                 radius))),
                    900 / (2 * kPiD) * kPlaneFactor);
  }
  // Upright over the plane's point: its end is dark, its mantle seen edge on.
  check_luminance(
      looking_at(
          {0.5, 0, 0.5},
          {0.5, 0, 0},
          light("kind='tube'\nfrom=[0,0,0.2]\nto=[0,0,1.2]\nradius='4 cm'\noutput='9000 cd/m2'\n")),
      tube_illuminance(9000, {0, 0, 0.2}, {0, 0, 1.2}, 0.04, {0.5, 0, 0}, Vec3d::UnitZ()) *
          kPlaneFactor);
}

TEST_CASE("34 points on a line or helix imitate the tube, with the difference as a figure",
          "[cli][truth]") {
  // truths: line_tube_sine 82.339 lx, and its imitation by 16 points of even intensity.
  const TemporaryFolder dir;
  const auto measured = [&](const std::string& text) {
    const std::string rig = dir.write("r.toml", looking_at({0.2, 0.1, 0.4}, {0.2, 0.1, 0}, text));
    double sum = 0;
    for (int seed = 1; seed <= 8; ++seed) {
      sum += reading(dir, rig, seed)["luminance_cd_m2"].get<double>() / 8;
    }
    return sum / kPlaneFactor;
  };
  const double tube_lx = measured(tube(1, "radius=0\noutput='1000 lm'\n"));
  CHECK(tube_lx == Approx(82.3391450683326).epsilon(0.005));
  const double points_lx = measured(light("kind='point'\nat=[0,0,0]\noutput='1000 lm'\n") +
                                    "[[array]]\nname='string'\nof='l'\ncount=34\noutput='total'"
                                    "\nalong={path='line', from=[-0.5,0,1], to=[0.5,0,1]}\n");
  // Points shine evenly, a Lambertian thread by the sine to its axis: 17.6 % less here.
  CHECK(points_lx / tube_lx == Approx(67.88 / 82.339).epsilon(0.01));
}

TEST_CASE("points on a helix imitate its thread, by so much more", "[cli][truth]") {
  // A gray wall at x = 0.4 that faces the helix about z; truths: helix_points_illuminance,
  // helix_tube_illuminance.
  const TemporaryFolder dir;
  const auto measured = [&](int count) {
    const std::string rig = dir.write(
        "r.toml",
        fmt::format(
            "jovilux = "
            "1\n[[camera]]\nname='c'\nat=[0.2,0.5,0.15]\nlook_at=[0.4,0,0.15]\nfield_of_view='0.05 "
            "deg'\n[[object]]\nname='wall'\nshape={{kind='plane'}}\nrotate=[0,-90,0]\nat=[0.4,0,0]"
            "\n"
            "[[light]]\nname='bulb'\nkind='point'\nat=[0,0,0]\noutput='1000 "
            "lm'\n[[array]]\nname='string'\nof='bulb'\ncount={}\noutput='total'\n"
            "along={{path='helix', at=[0,0,0], axis=[0,0,1], radius=0.05, pitch=0.06, "
            "turns=5}}\n[render]\nsize=[8,8]\nsamples=64\nbounces=1\n",
            count));
    double sum = 0;
    for (int seed = 1; seed <= 8; ++seed) {
      sum += reading(dir, rig, seed)["luminance_cd_m2"].get<double>() / 8;
    }
    return sum / kPlaneFactor;
  };
  const double thread = 412.2365785941552, forty = 469.67156380295586;
  CHECK(measured(40) == Approx(forty).epsilon(0.005));
  // Bulbs shine evenly, the thread by the sine to itself: 14 % more here, with 34 as with 40.
  CHECK(measured(34) / thread == Approx(forty / thread).epsilon(0.01));
}

TEST_CASE("a picture is a gobo, in its colors", "[cli][gobo]") {
  const TemporaryFolder dir;
  // Upper half red, lower half dark; the spot looks along +y at a wall.
  std::vector<std::uint8_t> pixels;
  for (int y = 0; y < 16; ++y) {
    for (int x = 0; x < 16; ++x) {
      pixels.insert(pixels.end(), {static_cast<std::uint8_t>(y < 8 ? 255 : 0), 0, 0});
    }
  }
  write_png(dir.path("mask.png"), 16, 16, pixels);
  const auto at = [&](double z) {
    const std::string rig = dir.write(
        "r.toml",
        fmt::format(
            "jovilux = "
            "1\n[[camera]]\nname='c'\nat=[0,1,{0}]\nlook_at=[0,2,{0}]\nfield_of_view='0.05 "
            "deg'\n[[object]]\nname='wall'\nshape={{kind='rect', "
            "size=[4,4]}}\nrotate=[90,0,0]\nat=[0,2,0]\n"
            "[[light]]\nname='l'\nkind='spot'\nat=[0,0,0]\ntoward=[0,1,0]\nbeam=60\noutput='100 "
            "cd'\ngobo={{image='mask.png', size=['1 m','1 m'], at='1 "
            "m'}}\n[render]\nsize=[8,8]\nsamples=32\nbounces=1\n",
            z));
    return reading(dir, rig, 1);
  };
  const auto up = at(0.5), down = at(-0.5);
  CHECK(down["luminance_cd_m2"].get<double>() == 0);
  // Linear red has 0.2126 of white's luminance; green and blue are nearly gone.
  const double d2 = 4.25, c = 2 / std::sqrt(d2);
  CHECK(up["luminance_cd_m2"].get<double>() ==
        Approx(0.2126 * 100 * c / d2 * kPlaneFactor).epsilon(0.01));
  CHECK(up["rgb"][0].get<double>() > 20 * up["rgb"][1].get<double>());
}

TEST_CASE(
    "any object can emit: a ball as the sphere's formula says, a box and a mesh as their faces",
    "[cli][truth]") {
  const std::string object = "[[object]]\nname='lamp'\nat=[0,0,1]\n";
  const std::string emits = light("kind='object'\nobject='lamp'\noutput='3000 cd/m2'\n");
  // Places are chosen over the whole surface, half of it or more in vain: more samples.
  const auto finely = [](std::string text) {
    return text.replace(text.find("samples = 96"), 12, "samples = 256");
  };
  check_luminance(
      finely(looking_at(
          {0.6, 0, 0.3}, {0.6, 0, 0}, object + "shape={kind='sphere', radius=0.25}\n" + emits)),
      sphere_illuminance(3000, {0, 0, 1}, 0.25, {0.6, 0, 0}, Vec3d::UnitZ()) * kPlaneFactor);
  // Straight below a box only its lower face is seen.
  check_luminance(
      finely(looking_at(
          {0, 0, 0.3}, {0, 0, 0}, object + "shape={kind='box', size=[0.4, 0.6, 0.2]}\n" + emits)),
      rect_illuminance_on_axis(3000, 0.4, 0.6, 0.9) * kPlaneFactor);
  // A mesh of two triangles that face down; lumens over its area.
  const TemporaryFolder dir;
  dir.write("panel.obj", "v -0.2 -0.3 1\nv 0.2 -0.3 1\nv 0.2 0.3 1\nv -0.2 0.3 1\nf 1 4 3 2\n");
  const std::string mesh = "[[object]]\nname='lamp'\nmesh='panel.obj'\n";
  const auto mean = [&](const std::string& text) {
    const std::string rig = dir.write("r.toml", text);
    RunningMoments m;
    for (int seed = 1; seed <= 16; ++seed) {
      m.add(reading(dir, rig, seed)["luminance_cd_m2"]);
    }
    return m;
  };
  const double exact = rect_illuminance_on_axis(1000 / (kPiD * 0.24), 0.4, 0.6, 1) * kPlaneFactor;
  const RunningMoments below = mean(looking_at(
      {0, 0, 0.3}, {0, 0, 0}, mesh + light("kind='object'\nobject='lamp'\noutput='1000 lm'\n")));
  CHECK(std::abs(below.mean() - exact) < 8 * below.standard_error() + 2e-4 * exact);
  CHECK(below.standard_error() < 0.005 * exact);
  // Scaled unevenly, its area grows with it; its other side is dark unless two-sided.
  const RunningMoments scaled = mean(looking_at(
      {0, 0, 0.3},
      {0, 0, 0},
      "[[object]]\nname='lamp'\nshape={kind='sphere', radius=0.2}\nscale=[1,1,0.01]\nat=[0,0,1]\n" +
          light("kind='object'\nobject='lamp'\noutput='1000 lm'\n")));
  // Two faces of a disk.
  const double flat =
      disk_illuminance_on_axis(1000 / (kPiD * 2 * kPiD * 0.04), 0.2, 1) * kPlaneFactor;
  CHECK(scaled.mean() == Approx(flat).epsilon(0.01));
}

TEST_CASE("an object that emits goes on reflecting, and is itself again when off", "[cli]") {
  const std::string rig =
      looking_at({0, 0, 0.3},
                 {0, 0, 0},
                 "[[object]]\nname='lamp'\nat=[3,0,1]\nshape={kind='sphere', radius=0.25}\n" +
                     light("kind='object'\nobject='lamp'\noutput='3000 cd/m2'\non=false\n") +
                     "[[light]]\nname='p'\nkind='point'\nat=[0,0,1]\noutput='100 cd'\n");
  check_luminance(rig, 100 * kPlaneFactor, 0.02, 8);
}

TEST_CASE("two-sided, weighted and lens-shaped lights keep their formulas", "[cli][truth]") {
  SourceShape s;
  s.kind = LightKind::kDisk;
  s.radius = 0.3;
  const auto flat = [&](const std::string& rest) {
    return light("at=[0,0,1]\naim=[0,0,0]\n" + rest);
  };
  SECTION("both sides: the flux is shared") {
    check_luminance(looking_at({0, 0, 0.5},
                               {0, 0, 0},
                               light("kind='disk'\nat=[0,0,1]\ntoward=[0,0,1]\nradius=0.3\ntwo_"
                                     "sided=true\noutput='1000 lm'\n")),
                    disk_illuminance_on_axis(500 / (kPiD * kPiD * 0.09), 0.3, 1) * kPlaneFactor);
  }
  SECTION("hot center on disk, rect and sphere") {
    s.hot_center = 3;
    const SourceLevels l = *source_levels(s, {Output::Kind::kFlux, 1000, {}, {}}).levels;
    check_luminance(looking_at({0, 0, 0.5},
                               {0, 0, 0},
                               flat("kind='disk'\nradius=0.3\nhot_center=3\noutput='1000 lm'\n")),
                    illuminance_on_axis(s, l, 1).value * kPlaneFactor);
    s.kind = LightKind::kRect;
    s.width = 0.8;
    s.height = 0.4;
    const SourceLevels r = *source_levels(s, {Output::Kind::kFlux, 1000, {}, {}}).levels;
    check_luminance(
        looking_at({0, 0, 0.5},
                   {0, 0, 0},
                   flat("kind='rect'\nsize=[0.8,0.4]\nhot_center=3\noutput='1000 lm'\n")),
        illuminance_on_axis(s, r, 1).value * kPlaneFactor);
    check_luminance(
        looking_at(
            {0, 0, 0.5},
            {0, 0, 0},
            light("kind='sphere'\nat=[0,0,1]\nradius=0.3\nhot_center=3\noutput='1000 lm'\n")),
        1000 / (4 * kPiD) * kPlaneFactor);
  }
  SECTION("a spot's lens") {
    s.kind = LightKind::kSpot;
    s.radius = 0.15;
    s.beam = spot_beam(degrees(24), degrees(38));
    const SourceLevels l = *source_levels(s, {Output::Kind::kFlux, 1000, {}, {}}).levels;
    check_luminance(
        looking_at({0, 0, 0.5},
                   {0, 0, 0},
                   flat("kind='spot'\nradius=0.15\nbeam=24\nfield=38\noutput='1000 lm'\n")),
        illuminance_on_axis(s, l, 1).value * kPlaneFactor);
  }
}

TEST_CASE("domes and general skies light level ground with their lux", "[cli][truth]") {
  const std::string open = looking_at({0, 0, 0.5}, {0, 0, 0}, "");
  check_luminance(
      open + light("kind='sky'\nmodel='clear'\nelevation=35\nazimuth=120\noutput='12 klx'\n"),
      12000 * kPlaneFactor);
  check_luminance(open + light("kind='sky'\ncie=3\noutput='5 klx'\n"), 5000 * kPlaneFactor);
  // One bright pixel in an even dome: truths environment_texel_illuminance; its file is written
  // here.
  const TemporaryFolder dir;
  ExrHeader h;
  h.width = 64;
  h.height = 32;
  std::vector<ExrChannel> channels;
  for (const char* name : {"R", "G", "B"}) {
    channels.push_back({name, ExrChannel::Type::kFloat, [](int y, float* out) {
                          for (int x = 0; x < 64; ++x) {
                            out[x] = x == 5 && y == 3 ? 100000.0f : 100.0f;
                          }
                        }});
  }
  write_exr(dir.path("dome.exr"), h, channels);
  const std::string rig =
      dir.write("r.toml", open + light("kind='dome'\nimage='dome.exr'\noutput='as-is'\n"));
  RunningMoments m;
  for (int seed = 1; seed <= kRendersCompared; ++seed) {
    m.add(reading(dir, rig, seed)["luminance_cd_m2"]);
  }
  const double exact = 619.0863429035364 * kPlaneFactor;
  INFO(m.mean() << " +- " << m.standard_error() << " against " << exact);
  CHECK(std::abs(m.mean() - exact) < kRendersBound * m.standard_error() + 2e-4 * exact);
  CHECK(m.standard_error() < 0.005 * exact);
  // The same in lx.
  const std::string lux = dir.write(
      "s.toml", open + light("kind='dome'\nimage='dome.exr'\nrotate=40\noutput='800 lx'\n"));
  RunningMoments n;
  for (int seed = 1; seed <= kRendersCompared; ++seed) {
    n.add(reading(dir, lux, seed)["luminance_cd_m2"]);
  }
  CHECK(std::abs(n.mean() - 800 * kPlaneFactor) <
        kRendersBound * n.standard_error() + 2e-4 * 800 * kPlaneFactor);
}

TEST_CASE("drawn and written falloff laws are what they say, and keep the level at match",
          "[cli][truth]") {
  const auto at = [](double height, const std::string& law) {
    return looking_at(
        {0.01, 0, height / 2},
        {0, 0, 0},
        light(
            fmt::format("kind='point'\nat=[0,0,{}]\noutput='100 cd'\nfalloff={}\n", height, law)));
  };
  const std::string points =
      "{ law='points', points=[['0 m', 1.0], ['2 m', 0.4], ['5 m', 0]], matches_at='2 m' }";
  check_luminance(at(2, points), 100 / 4.0 * kPlaneFactor, 0.02, 8);
  const MonotoneCubic curve({0, 2, 5}, {1, 0.4, 0});
  check_luminance(at(1, points), 100 / 4.0 * curve(1) / 0.4 * kPlaneFactor, 0.02, 8);
  check_luminance(at(3.5, points), 100 / 4.0 * curve(3.5) / 0.4 * kPlaneFactor, 0.02, 8);
  const std::string formula = "{ law='formula', formula='1/(1+d)^2', matches_at='1 m' }";
  check_luminance(at(1, formula), 100 * kPlaneFactor, 0.02, 8);
  check_luminance(at(3, formula), 100 * 4 / 16.0 * kPlaneFactor, 0.02, 8);
}

TEST_CASE("a photometric file shapes the light: cos^4 on a wall, lumens from the file or the rig",
          "[cli][truth]") {
  const TemporaryFolder dir;
  dir.write("lamp.ies", cosine_file(4, 500));
  const auto level = [&](const std::string& rest, const Vec3d& p, double bias = 0.02) {
    (void)bias;
    const std::string rig =
        dir.write("r.toml",
                  looking_at(p + Vec3d(0, 0, 0.5),
                             p,
                             light("at=[0,0,2]\naim=[0,0,0]\nprofile='lamp.ies'\n" + rest)));
    RunningMoments m;
    for (int seed = 1; seed <= 16; ++seed) {
      m.add(reading(dir, rig, seed)["luminance_cd_m2"]);
    }
    return m.mean();
  };
  // E = I cos^4 cos / d^2 at 1 m from the foot.
  const double d2 = 5, c = 2 / std::sqrt(5.0);
  CHECK(level("kind='point'\n", {0, 0, 0}) == Approx(500 / 4.0 * kPlaneFactor).epsilon(1e-3));
  CHECK(level("kind='point'\n", {1, 0, 0}) ==
        Approx(500 * std::pow(c, 4) * c / d2 * kPlaneFactor).epsilon(2e-3));
  // 2 pi / 5 x 500 lm is what the file has; 1000 lm scale it.
  CHECK(level("kind='point'\noutput='1000 lm'\n", {0, 0, 0}) ==
        Approx(1000 / (2 * kPiD / 5) / 4 * kPlaneFactor).epsilon(2e-3));
  CHECK(level("kind='spot'\noutput='200 cd'\n", {0, 0, 0}) ==
        Approx(200 / 4.0 * kPlaneFactor).epsilon(1e-3));
  // From a disk: luminance I / (A cos), here by quadrature.
  SourceShape s;
  s.kind = LightKind::kDisk;
  s.radius = 0.3;
  std::vector<double> v, candela;
  for (int i = 0; i <= 36; ++i) {
    v.push_back(i * 2.5 * kPiD / 180);
    candela.push_back(500 * std::pow(std::max(0.0, std::cos(v.back())), 4));
  }
  s.profile = std::make_shared<LuminousDistribution>(
      CandelaGrid{PhotometricType::kC, PhotometricSymmetry::kRotational, {0}, v, candela});
  const SourceLevels l = *source_levels(s, {Output::Kind::kIntensity, 500, {}, {}}).levels;
  CHECK(level("kind='disk'\nradius=0.3\n", {0, 0, 0}) ==
        Approx(illuminance_on_axis(s, l, 2).value * kPlaneFactor).epsilon(3e-3));
  s.kind = LightKind::kSphere;
  CHECK(level("kind='sphere'\nradius=0.3\n", {0, 0, 0}) ==
        Approx(illuminance_on_axis(
                   s, *source_levels(s, {Output::Kind::kIntensity, 500, {}, {}}).levels, 2)
                   .value *
               kPlaneFactor)
            .epsilon(3e-3));
}

TEST_CASE("a gobo darkens what its bars shade, and its loss is counted in lumens", "[cli][truth]") {
  const std::string plane = looking_at({0.01, 0, 0.3}, {0, 0, 0}, "");
  const auto spot = [](const std::string& gobo) {
    return light("kind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam=20\noutput='100 cd'\ngobo={" + gobo +
                 "}\n");
  };
  // Three slats of which the middle opening lies on the axis; shifted half by two.
  check_luminance(
      plane + spot("pattern='slats', count=3, open=0.5, size=['60 cm','60 cm'], at='1 m'"),
      100 / 4.0 * kPlaneFactor,
      0.02,
      8);
  const TemporaryFolder dir;
  const auto dark = [&](const std::string& text) {
    const std::string rig = dir.write("r.toml", text);
    return reading(dir, rig, 1)["luminance_cd_m2"].get<double>();
  };
  CHECK(dark(plane +
             spot("pattern='slats', count=2, open=0.5, size=['60 cm','60 cm'], at='1 m'")) == 0);
  CHECK(dark(plane + spot("pattern='slats', count=2, open=0.5, size=['60 cm','60 cm'], at='1 m', "
                          "strength=0.3")) == Approx(0.7 * 100 / 4.0 * kPlaneFactor).epsilon(1e-3));
  // Beyond the plane.
  CHECK(
      dark(plane + spot("pattern='slats', count=2, open=0.5, size=['60 cm','60 cm'], at='3 m'")) ==
      Approx(100 / 4.0 * kPlaneFactor).epsilon(1e-3));
  // A disk behind a grid of half its area: near half of the light on average, by the program's own
  // count.
  const std::string rig = dir.write(
      "c.toml",
      plane +
          light("kind='disk'\nradius=0.05\nspread=40\nat=[0,0,2]\naim=[0,0,0]\noutput='1000 "
                "lm'\ngobo={pattern='dots', count=20, open=0.5, size=['2 m','2 m'], at='1 m'}\n"));
  CHECK(run_program({"check", rig, "--json"})
            .json()["lights"][0]["gobo_transmittance"]
            .get<double>() == Approx(0.5).margin(0.02));
  // The sun through bars one metre up: the place under an opening has all of it.
  const std::string sun = "kind='sun'\ntoward=[0,0,-1]\noutput='10 klx'\n";
  check_luminance(
      plane +
          light(sun +
                "gobo={pattern='slats', count=1, open=0.5, size=['60 cm','60 cm'], at='1 m'}\n"),
      10000 * kPlaneFactor,
      0.02,
      8);
  CHECK(
      dark(looking_at(
          {0.01, 0.3, 0.3},
          {0, 0.3, 0},
          light(
              sun +
              "gobo={pattern='slats', count=1, open=0.5, size=['60 cm','60 cm'], at='1 m'}\n"))) ==
      0);
}

TEST_CASE("barn doors cut at their free edges, and their loss is counted in lumens",
          "[cli][truth]") {
  // A leaf of 20 cm straight ahead on the left edge of an opening of 20 cm: from a spot without a
  // lens in its middle light passes up to atan(10 / 20), 1 m off the axis on a floor 2 m below.
  const auto lamp = [](const std::string& doors) {
    return light(
        "kind='spot'\nat=[0,0,2]\ntoward=[0,0,-1]\nbeam='120 deg'\noutput='100 cd'\n"
        "barn_doors={ size=['20 cm','20 m'], length='20 cm', " +
        doors + " }\n");
  };
  const auto at = [&](const std::string& doors, double x) {
    return luminance(looking_at({x, 0.1, 1}, {x, 0, 0}, lamp(doors)), 2).mean();
  };
  const auto open = [](double x) {
    const double cosine = 2 / std::sqrt(4 + x * x);
    return 100 / 4.0 * std::pow(cosine, 3) * kPlaneFactor;
  };
  // One who looks straight down along the beam, with x to the right, has the left at -x or +x: the
  // two leaves are mirrors of each other.
  double left = 0;
  for (const double x : {-1.1, 1.1}) {
    const double one = at("left='90 deg'", x), other = at("right='90 deg'", x);
    CHECK(std::min(one, other) == 0);
    CHECK(std::max(one, other) == Approx(open(x)).epsilon(0.01));
    left = one == 0 ? x : left;
  }
  CHECK(at("left='90 deg'", left * 0.9 / 1.1) == Approx(open(0.9)).epsilon(0.01));
  CHECK(at("left='90 deg', right='90 deg', top='90 deg'", 0) == Approx(open(0)).epsilon(0.01));
  // Closed over half of the opening, from the edge to the middle and beyond: nothing is left.
  CHECK(at("left='0 deg', right='0 deg'", 0.3) == 0);

  // Of a small Lambertian panel two long leaves straight ahead leave the sine of that angle.
  const TemporaryFolder dir;
  const std::string panel = light(
      "kind='rect'\nat=[0,0,2]\ntoward=[0,0,-1]\nsize=['1 mm','1 mm']\noutput='500 lm'\n"
      "barn_doors={ size=['20 cm','200 m'], length='20 cm', left='90 deg', right='90 deg' "
      "}\n");
  const auto j =
      run_program(
          {"check", dir.write("r.toml", looking_at({0, 0.1, 1}, {0, 0, 0}, panel)), "--json"})
          .json();
  CHECK(j["lights"][0]["doors_transmittance"].get<double>() ==
        Approx(std::sin(std::atan(0.5))).epsilon(0.005));
  const ProgramRun small = run_program(
      {"check",
       dir.write("s.toml",
                 looking_at({0, 0.1, 1},
                            {0, 0, 0},
                            light("kind='rect'\nat=[0,0,2]\naim=[0,0,0]\nsize=[1,1]\noutput='9 "
                                  "lm'\nbarn_doors={ size=[0.5,2] }\n")))});
  CHECK(small.status == 1);
  CHECK((small.out + small.err).find("the opening is smaller than the light") != std::string::npos);
}

TEST_CASE("a rect's picture is its luminance: seen as it is, its mean the output", "[cli][truth]") {
  const TemporaryFolder dir;
  // Four pixels: black and white above, red and blue below.
  write_png(dir.path("screen.png"), 2, 2, {0, 0, 0, 255, 255, 255, 255, 0, 0, 0, 0, 255});
  const auto rig = [&](const Vec3d& from, const Vec3d& at, const std::string& more) {
    return dir.write("r.toml",
                     looking_at(from,
                                at,
                                light("kind='rect'\nat=[0,0,1]\ntoward=[0,1,0]\nsize=[1,1]\n"
                                      "output='100 cd/m2'\n" +
                                      more)));
  };
  const double mean = (1 + 0.2126 + 0.0722) / 4;
  // Facing it, from +y, right is -x.
  const auto seen = [&](double x, double z) {
    return reading(dir, rig({x, 3, z}, {x, 0, z}, "image='screen.png'\n"), 1);
  };
  CHECK(seen(0.25, 1.25)["luminance_cd_m2"] == 0);
  CHECK(seen(-0.25, 1.25)["luminance_cd_m2"].get<double>() == Approx(100 / mean).epsilon(1e-3));
  const auto red = seen(0.25, 0.75), blue = seen(-0.25, 0.75);
  CHECK(red["luminance_cd_m2"].get<double>() == Approx(100 * 0.2126 / mean).epsilon(2e-3));
  CHECK(blue["luminance_cd_m2"].get<double>() == Approx(100 * 0.0722 / mean).epsilon(5e-3));
  // On the floor, its light is that of four even quarters.
  const auto floor_luminance = [&](const std::string& text) {
    return luminance(looking_at({0.3, 1.2, 1}, {0.3, 0.7, 0}, text)).mean();
  };
  double quarters = 0;
  const std::pair<Vec2, double> parts[] = {
      {Vec2(-0.25f, 1.25f), 1}, {Vec2(0.25f, 0.75f), 0.2126}, {Vec2(-0.25f, 0.75f), 0.0722}};
  for (const auto& [place, level] : parts) {
    quarters += floor_luminance(light(fmt::format(
        "kind='rect'\nat=[{},0,{}]\ntoward=[0,1,0]\nsize=[0.5,0.5]\noutput='{} cd/m2'\n",
        place.x(),
        place.y(),
        100 * level / mean)));
  }
  const std::string whole = light(
      "kind='rect'\nat=[0,0,1]\ntoward=[0,1,0]\nsize=[1,1]\n"
      "output='100 cd/m2'\nimage='" +
      dir.path("screen.png") + "'\n");
  CHECK(floor_luminance(whole) == Approx(quarters).epsilon(0.01));
  const ProgramRun both =
      run_program({"check", rig({0, 3, 1}, {0, 0, 1}, "image='screen.png'\nhot_center=2\n")});
  CHECK(both.status == 1);
  CHECK((both.out + both.err).find("image and hot_center are both given") != std::string::npos);
}
