// Even haze against closed forms and quadrature, through the built program.
#include "jovilux/optics/haze.h"

#include "jovilux/base/quadrature.h"

#include <cmath>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A camera at the origin that looks along +y; `more` is appended.
std::string looking_ahead(const std::string& more, int bounces, int samples = 64) {
  return fmt::format(
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,0]\nfield_of_view='0.05 "
      "deg'\n[render]\nsize=[8,8]\nsamples={}\nbounces={}\n{}",
      samples,
      bounces,
      more);
}

std::string haze(double extinction,
                 double albedo,
                 double g,
                 const std::string& inside = "everywhere") {
  return fmt::format(
      "[[haze]]\nname='mist'\ninside='{}'\nextinction='{} /m'\nalbedo={}\nanisotropy={}\n",
      inside,
      extinction,
      albedo,
      g);
}

}  // namespace

TEST_CASE("haze takes exp(-sigma s) of what is seen and of what lights surfaces",
          "[cli][haze][truth]") {
  // A panel 2 m away, through absorbing haze.
  check_luminance(
      looking_ahead(
          haze(0.4, 0, 0) +
              light("kind='rect'\nsize=[1,1]\nat=[0,2,0]\ntoward=[0,-1,0]\noutput='1000 cd/m2'\n"),
          0,
          512),
      1000 * std::exp(-0.8),
      0.03);
  // The same inside a box of 1 m on the way.
  check_luminance(
      looking_ahead(
          "[[solid]]\nname='b'\nkind='box'\nsize=[1,1,1]\nat=[0,1,0]\n" + haze(0.4, 0, 0, "b") +
              light("kind='rect'\nsize=[1,1]\nat=[0,2,0]\ntoward=[0,-1,0]\noutput='1000 cd/m2'\n"),
          0,
          512),
      1000 * std::exp(-0.4),
      0.03);
  // A lamp 2 m over the plane, the camera 1 m from it: both ways count.
  std::string text = looking_at(
      {0, 0, 1}, {0, 0, 0}, haze(0.3, 0, 0) + light("kind='point'\nat=[0,0,2]\noutput='100 cd'\n"));
  text.replace(text.find("samples = 96"), 12, "samples = 512");
  check_luminance(text, 100 / 4.0 * std::exp(-0.3 * 3) * kPlaneFactor, 0.03);
}

TEST_CASE("a point light's glow along a ray is its quadrature, for densities and anisotropies",
          "[cli][haze][truth]") {
  const Vec3d lamp(0.7, 2, 0.3);
  for (const double sigma : {0.02, 0.06, 0.18, 0.6, 2.0}) {
    for (const double g : {-0.5, 0.0, 0.8}) {
      INFO("extinction " << sigma << ", anisotropy " << g);
      const double albedo = 0.9;
      const auto along = [&](double t) {
        const Vec3d to = lamp - Vec3d(0, t, 0);
        const double r = to.norm();
        return albedo * sigma *
               henyey_greenstein(static_cast<float>(to.y() / r), static_cast<float>(g)) * 100 /
               (r * r) * std::exp(-sigma * (t + r));
      };
      const double exact =
          integral(along, 0, 4, 400) + integral(along, 4, 60, 400) + integral(along, 60, 4000, 400);
      check_luminance(
          looking_ahead(
              haze(sigma, albedo, g) + light("kind='point'\nat=[0.7,2,0.3]\noutput='100 cd'\n"), 1),
          exact,
          0.04,
          8);
    }
  }
}

TEST_CASE("a lamp with a body glows in haze as its fluence says, found by either way",
          "[cli][haze][truth]") {
  const Vec3d lamp(0.7, 2, 0.3);
  const double R = 0.3, L = 100 / (kPiD * R * R);
  for (const double g : {0.0, 0.85}) {
    // The phase function varies over the lamp's disc: average it by its solid angle.
    const auto along = [&](double t) {
      const Vec3d to = lamp - Vec3d(0, t, 0);
      const double r = to.norm(), widest = std::asin(R / r),
                   base = std::atan2(std::hypot(to.x(), to.z()), to.y());
      const double over_disc = integral(
          [&](double a) {
            return std::sin(a) *
                   integral(
                       [&](double phi) {
                         const double c = std::cos(base) * std::cos(a) +
                                          std::sin(base) * std::sin(a) * std::cos(phi);
                         return static_cast<double>(henyey_greenstein(static_cast<float>(c),
                                                                      static_cast<float>(g))) *
                                std::exp(-0.2 *
                                         (r * std::cos(a) -
                                          std::sqrt(std::max(0.0, R * R - sqr(r * std::sin(a))))));
                       },
                       0,
                       2 * kPiD,
                       4);
          },
          0,
          widest,
          4);
      return 0.9 * 0.2 * L * over_disc * std::exp(-0.2 * t);
    };
    const double exact = integral(along, 0, 4, 60) + integral(along, 4, 80, 60);
    check_luminance(
        looking_ahead(haze(0.2, 0.9, g) +
                          light("kind='sphere'\nradius=0.3\nat=[0.7,2,0.3]\noutput='100 cd'\n"),
                      1,
                      256),
        exact,
        0.04,
        16);
  }
}

TEST_CASE("a slab of haze in sunlight is its closed form", "[cli][haze][truth]") {
  // 2 m wide, its top 1 m over the ray; E p albedo e^(-sigma h) (1 - e^(-sigma w)).
  const double sigma = 0.5, albedo = 0.8, g = 0.3, E = 10000;
  const double p = henyey_greenstein(0, static_cast<float>(g));
  const std::string box = "[[solid]]\nname='b'\nkind='box'\nsize=[4,2,2]\nat=[0,2,0]\n";
  check_luminance(
      looking_ahead(
          box + haze(sigma, albedo, g, "b") +
              light("kind='sun'\ntoward=[0,0,-1]\nangular_diameter='0.02 deg'\noutput='10 klx'\n"),
          1,
          256),
      E * p * albedo * std::exp(-sigma) * (1 - std::exp(-sigma * 2)),
      0.03);
}

TEST_CASE("haze that absorbs nothing vanishes in an even surround", "[cli][haze][furnace]") {
  const std::string ball =
      "[[solid]]\nname='b'\nkind='sphere'\nradius=1\nat=[0,0.5,0]\n[[solid]]\nname='c'\nkind='box'"
      "\nsize=[1,1,1]\nat=[0,1,0]\n";
  // Two overlapping ones, forwards and backwards: 4 on the whole, 7 where both are.
  const std::string both =
      haze(4, 1, 0.6, "b") +
      "[[haze]]\nname='more'\ninside='c'\nextinction='3 /m'\nalbedo=1\nanisotropy=-0.4\n";
  // Lit from above by an even sky and from below by nothing: by the mirror image, half of it.
  check_luminance(
      looking_ahead(
          ball + both + light("kind='sky'\nmodel='uniform'\noutput='1000 cd/m2'\n"), 400, 256),
      500,
      0.05,
      8);
}

TEST_CASE("haze is told by its visibility and refuses what it cannot be", "[cli][haze]") {
  CHECK(extinction_of_visibility(60) == Approx(0.0499289));
  for (const double g : {-0.8, -0.2, 0.0, 0.5, 0.9}) {
    CHECK(2 * kPiD *
              integral(
                  [&](double c) {
                    return static_cast<double>(
                        henyey_greenstein(static_cast<float>(c), static_cast<float>(g)));
                  },
                  -1,
                  1,
                  200) ==
          Approx(1).epsilon(1e-4));
    CHECK(2 * kPiD *
              integral(
                  [&](double c) {
                    return c * henyey_greenstein(static_cast<float>(c), static_cast<float>(g));
                  },
                  -1,
                  1,
                  200) ==
          Approx(g).margin(1e-4));
    double mean = 0;
    for (int i = 0; i < 1000; ++i) {
      mean +=
          sample_henyey_greenstein(static_cast<float>(g), (static_cast<float>(i) + 0.5f) / 1000) /
          1000;
    }
    CHECK(mean == Approx(g).margin(1e-3));
  }
  const TemporaryFolder dir;
  const auto fault = [&](const std::string& text) {
    return run_program({"check", dir.write("r.toml", "jovilux = 1\n" + text)}).out;
  };
  CHECK(fault("[[haze]]\nname='h'\ninside='everywhere'\n")
            .find("expected visibility = \"60 m\" or extinction") != std::string::npos);
  CHECK(fault("[[haze]]\nname='h'\ninside='boxx'\nextinction='1 "
              "/m'\n[[solid]]\nname='box'\nkind='box'\nsize=[1,1,1]\n")
            .find("did you mean \"box\"?") != std::string::npos);
  CHECK(fault("[[haze]]\nname='h'\ninside='everywhere'\nextinction='1 /m'\nclumps={}\n")
            .find("clumps.size: is missing") != std::string::npos);
  CHECK(fault("[[haze]]\nname='h'\ninside='everywhere'\nextinction='0 /m'\nemission='1 cd/m2'\n")
            .find("without extinction cannot glow") != std::string::npos);
  CHECK(fault("[[haze]]\nname='h'\ninside='everywhere'\nextinction='1 /m'\nfile='none.vdb'\n")
            .find("file not found") != std::string::npos);
  CHECK(fault("[[haze]]\nname='h'\ninside='everywhere'\nextinction='1 /m'\nat=[0,0,1]\n")
            .find("\"at\" does not go with a haze without a file") != std::string::npos);
}

TEST_CASE("uneven haze that is as good as even gives the even one's closed forms",
          "[cli][haze][truth]") {
  // Thinning so slowly that nothing changes, but tracked all the same.
  const std::string slow = "scale_height='100000 km'\n";
  check_luminance(
      looking_ahead(
          haze(0.4, 0, 0) + slow +
              light("kind='rect'\nsize=[1,1]\nat=[0,2,0]\ntoward=[0,-1,0]\noutput='1000 cd/m2'\n"),
          0,
          2048),
      1000 * std::exp(-0.8),
      0.03);
  const Vec3d lamp(0.7, 2, 0.3);
  const double sigma = 0.1, g = 0.5;
  const auto along = [&](double t) {
    const Vec3d to = lamp - Vec3d(0, t, 0);
    const double r = to.norm();
    return 0.9 * sigma * henyey_greenstein(static_cast<float>(to.y() / r), static_cast<float>(g)) *
           100 / (r * r) * std::exp(-sigma * (t + r));
  };
  const double exact =
      integral(along, 0, 4, 400) + integral(along, 4, 60, 400) + integral(along, 60, 4000, 400);
  check_luminance(looking_ahead(haze(sigma, 0.9, g) + slow +
                                    light("kind='point'\nat=[0.7,2,0.3]\noutput='100 cd'\n"),
                                1,
                                256),
                  exact,
                  0.04,
                  16);
}

TEST_CASE("a lamp's glow in haze that thins with height is its double quadrature",
          "[cli][haze][truth]") {
  // Looking up at 45 degrees from the ground; density sigma exp(-z / H), its depth along any
  // straight way in closed form.
  const double sigma = 0.3, H = 0.8, albedo = 0.9, g = 0.4;
  const Vec3d lamp(0.5, 1.5, 1.2), view(0, std::sqrt(0.5), std::sqrt(0.5));
  const auto depth = [&](const Vec3d& a, const Vec3d& b) {
    const double dz = b.z() - a.z(), length = (b - a).norm();
    return sigma * length *
           (std::abs(dz) < 1e-9 ? std::exp(-a.z() / H)
                                : H / dz * (std::exp(-a.z() / H) - std::exp(-b.z() / H)));
  };
  const auto along = [&](double t) {
    const Vec3d p = t * view, to = lamp - p;
    const double r = to.norm();
    return albedo * sigma * std::exp(-p.z() / H) *
           henyey_greenstein(static_cast<float>(view.dot(to) / r), static_cast<float>(g)) * 100 /
           (r * r) * std::exp(-depth(Vec3d::Zero(), p) - depth(p, lamp));
  };
  const double exact = integral(along, 0, 4, 400) + integral(along, 4, 40, 400);
  const std::string rig = fmt::format(
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,0,0]\nlook_at=[0,1,1]\nfield_of_view='0.05 "
      "deg'\n[render]\nsize=[8,8]\nsamples=256\nbounces=1\n{}scale_height='{} m'\n",
      haze(sigma, albedo, g),
      H);
  check_luminance(
      rig + light("kind='point'\nat=[0.5,1.5,1.2]\noutput='100 cd'\n"), exact, 0.04, 16);
  // The same lamp with a body too small to matter: all three ways of finding it are weighed against
  // each other.
  check_luminance(rig + light("kind='sphere'\nradius=0.02\nat=[0.5,1.5,1.2]\noutput='100 cd'\n"),
                  exact,
                  0.05,
                  16);
}

TEST_CASE("a gobo cuts its light in haze as well, and clumps drift with time", "[cli][haze]") {
  const TemporaryFolder dir;
  const auto mean = [&](const std::string& more, const std::string& mist = "") {
    const std::string rig =
        "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-3,1]\nlook_at=[0,0,1]\nfield_of_view='40 "
        "deg'\n[render]\nsize=[24,24]\nsamples=256\nbounces=1\n" +
        haze(0.1, 0.9, 0) + mist +
        light("kind='spot'\nbeam=40\nfield=40\nat=[0,0,2.2]\naim=[0,0,0]\noutput='1000 cd'\n" +
              more);
    REQUIRE(run_program(
                {"render", dir.write("r.toml", rig), "-o", dir.path("out"), "--quiet", "--force"})
                .status == 0);
    return run_program({"read", dir.path("out"), "--json"})
        .json()["readings"][0]["luminance_cd_m2"]
        .get<double>();
  };
  const double
      all = mean(""),
      half = mean(
          "gobo={pattern='slats', count=8, open=0.5, size=['2.67 cm','2.67 cm'], at='2 cm'}\n");
  CHECK(half == Approx(0.5 * all).epsilon(0.05));
  const std::string clumps = "clumps={size=0.5, depth=1, drift=[0.3,0,0]}\n";
  const double at_start = mean("", clumps), later = mean("", clumps + "[render.march]\n");
  CHECK(later == at_start);
  const ProgramRun moved = run_program({"render",
                                        dir.path("r.toml"),
                                        "-o",
                                        dir.path("out"),
                                        "--quiet",
                                        "--force",
                                        "--set",
                                        "render.time=\"5 s\""});
  REQUIRE(moved.status == 0);
  CHECK(run_program({"read", dir.path("out"), "--json"})
            .json()["readings"][0]["luminance_cd_m2"]
            .get<double>() != at_start);
}

TEST_CASE("haze inside a mesh ends at its surface, and a narrow spread draws a shaft",
          "[cli][haze]") {
  const TemporaryFolder dir;
  dir.write("cube.obj",
            "v -0.5 -0.5 -0.5\nv 0.5 -0.5 -0.5\nv -0.5 0.5 -0.5\nv 0.5 0.5 -0.5\nv -0.5 -0.5 "
            "0.5\nv 0.5 -0.5 0.5\nv -0.5 0.5 0.5\nv 0.5 0.5 0.5\nf 1 3 4 2\nf 5 6 8 7\nf 1 2 6 "
            "5\nf 3 7 8 4\nf 1 5 7 3\nf 2 4 8 6\n");
  // Panes of index 1.01 all but vanish; the camera looks through 1 m of haze between them.
  const auto seen = reading(
      dir,
      dir.write(
          "r.toml",
          looking_ahead("[[material]]\nname='air'\nkind='glass'\nthin=true\nior=1.01\n[[object]]"
                        "\nname='cube'\nmesh='cube.obj'\nat=[0,1.5,0]\nmaterial='air'\n" +
                            haze(0.4, 0, 0, "cube") +
                            light("kind='rect'\nsize=[1,1]\nat=[0,3,0]\ntoward=[0,-1,0]\noutput='"
                                  "1000 cd/m2'\n"),
                        0,
                        1024)),
      1);
  const double r = sqr(0.01 / 2.01), exact = 1000 * std::exp(-0.4) * sqr((1 - r) / (1 + r));
  CHECK(std::abs(seen["luminance_cd_m2"].get<double>() - exact) <
        6 * seen["standard_error_cd_m2"].get<double>() + 2e-4 * exact);
  CHECK(seen["standard_error_cd_m2"].get<double>() < 0.005 * exact);
  // A panel of 10 cm that shines downwards within 20 degrees: 1 m below it its haze glows on the
  // axis and not 30 cm beside it.
  const auto glow = [&](double x) {
    return reading(
               dir,
               dir.write(
                   "s.toml",
                   fmt::format(
                       "jovilux = "
                       "1\n[[camera]]\nname='c'\nat=[{0},-2,1]\nlook_at=[{0},0,1]\nfield_of_view='"
                       "0.5 deg'\n[render]\nsize=[8,8]\nsamples=64\nbounces=1\n",
                       x) +
                       haze(0.05, 0.9, 0) +
                       light("kind='rect'\nsize=[0.1,0.1]\nat=[0,0,2]\naim=[0,0,0]"
                             "\nspread='20 deg'\noutput='900 lm'\n")),
               1)["luminance_cd_m2"]
        .get<double>();
  };
  CHECK(glow(0) > 1);
  CHECK(glow(0.3) == 0);
}

TEST_CASE("haze glows over its way", "[cli][haze][truth]") {
  const std::string rig =
      looking_ahead("[[solid]]\nname='b'\nkind='box'\nsize=[1,2,1]\nat=[0,2,0]\n" +
                        haze(0.5, 0, 0, "b") + "emission='10 cd/m2'\n",
                    0,
                    64);
  check_luminance(rig, 10 * (1 - std::exp(-1.0)) / 0.5, 0.02);
  std::string uneven = rig;
  uneven.replace(uneven.find("samples=64"), 10, "samples=2048");
  check_luminance(uneven + "scale_height='100000 km'\n", 10 * (1 - std::exp(-1.0)) / 0.5, 0.03);
  const TemporaryFolder dir;
  const auto layers = reading(dir, dir.write("r.toml", rig), 1)["layers"];
  CHECK(layers["mist"]["luminance_cd_m2"].get<double>() ==
        Approx(10 * (1 - std::exp(-1.0)) / 0.5).epsilon(1e-3));
}

TEST_CASE("haze in a box is the same as clumps of depth 0, and as a constant density file",
          "[cli][haze][vdb]") {
  const TemporaryFolder dir;
  const auto rig = [&](const std::string& more) {
    return "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-2,0.4]\nlook_at=[0,0,0]\nfield_of_view='30 "
           "deg'\n[render]\nsize=[16,16]\nsamples=256\nbounces=5\n[[object]]\nname='floor'\nshape={"
           "kind='plane'}\nat=[0,0,-0.5]\n"
           "[[solid]]\nname='b'\nkind='box'\nsize=[1,1,1]\n" +
           haze(1.5, 0.9, 0.3, "b") + more +
           light("kind='sphere'\nradius=0.1\nat=[0.3,0.2,0.1]\noutput='500 lm'\n");
  };
  const auto whole = [&](const std::string& more, int seed) {
    const ProgramRun run = run_program({"render",
                                        dir.write("r.toml", rig(more)),
                                        "-o",
                                        dir.path("out"),
                                        "--quiet",
                                        "--force",
                                        "--set",
                                        fmt::format("render.seed={}", seed)});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return run_program({"read", dir.path("out"), "--json", "--box", "0,0,16,16"})
        .json()["readings"][0];
  };
  const auto even = whole("", 1);
  CHECK(whole("clumps={size=0.2, depth=0}\n", 1)["luminance_cd_m2"] == even["luminance_cd_m2"]);
  const auto clumpy = whole("clumps={size=0.2, depth=1}\n", 2);
  CHECK(clumpy["luminance_cd_m2"].get<double>() > 0);
#ifdef JOVILUX_MAKE_VDB
  REQUIRE(run_other(JOVILUX_MAKE_VDB, {dir.path("c.vdb"), "constant"}).status == 0);
  const auto file = whole("file='c.vdb'\n", 3);
  INFO(file["luminance_cd_m2"] << " against " << even["luminance_cd_m2"]);
  CHECK(std::abs(file["luminance_cd_m2"].get<double>() - even["luminance_cd_m2"].get<double>()) <
        5 * std::hypot(file["standard_error_cd_m2"].get<double>(),
                       even["standard_error_cd_m2"].get<double>()));
  CHECK(even["standard_error_cd_m2"].get<double>() < 0.02 * even["luminance_cd_m2"].get<double>());
  CHECK(nlohmann::json::parse(dir.read("out/stats.json"))["rays"]["media_steps"] > 1000);
#endif
}

#ifdef JOVILUX_MAKE_VDB
TEST_CASE("density files that are none, or damaged, end in a clear error", "[cli][haze][vdb]") {
  const TemporaryFolder dir;
  const std::string file = dir.path("d.vdb");
  const auto told = [&] {
    return run_program(
        {"check", dir.write("r.toml", "jovilux = 1\n" + haze(1, 0.9, 0) + "file='d.vdb'\n")});
  };
  for (const auto& [kind, says] : std::map<std::string, std::string>{
           {"level-set", "not 0 outside"}, {"none", "is empty"}, {"tiles", "more than"}}) {
    REQUIRE(run_other(JOVILUX_MAKE_VDB, {file, kind}).status == 0);
    const ProgramRun run = told();
    INFO(kind << ": " << run.out << run.err);
    CHECK(run.status == 1);
    CHECK((run.out + run.err).find(says) != std::string::npos);
  }
  REQUIRE(run_other(JOVILUX_MAKE_VDB, {file, "cloud"}).status == 0);
  CHECK(told().status == 0);
  CHECK((run_program({"check", dir.path("r.toml"), "--set", "haze.mist.grid='smoke'"}).out)
            .find("it holds: density") != std::string::npos);
  const std::string good = dir.read("d.vdb");
  int refused = 0, survived = 0;
  for (int i = 0; i < 24; ++i) {
    std::string bad =
        i % 3 == 0 ? good.substr(0, good.size() * static_cast<std::size_t>(i + 1) / 26) : good;
    for (int k = 0; i % 3 != 0 && k < 1 + 4 * i; ++k) {
      bad[static_cast<std::size_t>(i * 7919 + k * 104729) % bad.size()] ^=
          static_cast<char>(1 << (k + i) % 8);
    }
    dir.write("d.vdb", bad);
    const ProgramRun run = told();
    INFO(run.out << run.err);
    CHECK((run.status == 0 || run.status == 1));
    refused += run.status == 1 ? 1 : 0;
    survived += run.status == 0 ? 1 : 0;
    if (run.status == 1) {
      CHECK((run.out + run.err).find("d.vdb") != std::string::npos);
    }
  }
  CHECK(refused >= 8);
}
#endif

TEST_CASE("check finds haze that drowns the picture, and the visibility that works",
          "[cli][haze][check]") {
  const TemporaryFolder dir;
  const std::string room =
      "jovilux = "
      "1\n[[camera]]\nname='c'\nat=[0,-4,1]\nlook_at=[0,0,1]\n[[object]]\nname='wall'\nshape={kind="
      "'rect', size=[20,20]}\nrotate=[90,0,0]\nat=[0,2,0]\n" +
      light("kind='sphere'\nradius=0.1\nat=[0,0,2]\noutput='900 lm'\n");
  const auto warnings = [&](const std::string& text) {
    return run_program({"check", dir.write("r.toml", room + text), "--json"}).json()["warnings"];
  };
  CHECK(warnings(haze(0.05, 0.9, 0)).empty());
  const auto w = warnings(haze(50, 0.9, 0));
  REQUIRE(w.size() == 1);
  CHECK(w[0]["code"] == "haze-too-dense");
  // With the visibility that it names, half of what the camera sees is left, and it warns no more.
  const std::string hint = w[0]["hint"];
  const auto begin = hint.find('"') + 1;
  const std::string visibility = hint.substr(begin, hint.find('"', begin) - begin);
  // The wall is 6 m away and a little more: half of it is left at 3 d / ln 2.
  CHECK(std::stod(visibility) == Approx(-std::log(0.05) * 6.3 / std::log(2.0)).epsilon(0.06));
  CHECK(warnings("[[haze]]\nname='mist'\ninside='everywhere'\nvisibility='" + visibility + "'\n")
            .empty());
  CHECK(warnings(haze(0.01, 0.9, 0) +
                 "[[light]]\nname='s'\nkind='sky'\nmodel='uniform'\noutput='1 lx'\n")[0]["code"] ==
        "haze-hides-sky");
}

TEST_CASE("haze has its own part of each layer, and cheat.haze scales it alone", "[cli][haze]") {
  const TemporaryFolder dir;
  const auto mean = [&](const std::string& cheat) {
    const std::string rig =
        dir.write("r.toml",
                  looking_at({1, 0, 0.5},
                             {0.3, 0, 0},
                             "layers = 'lights+parts'\n" + haze(0.2, 0.9, 0) +
                                 light("kind='point'\nat=[0,0,1]\noutput='100 cd'\n" + cheat)));
    return reading(dir, rig, 1)["luminance_cd_m2"].get<double>();
  };
  const double both = mean(""), without = mean("cheat={haze=0}\n"),
               twice = mean("cheat={haze=2}\n");
  CHECK(both > without);
  CHECK(twice - both == Approx(both - without).epsilon(0.02));
}

#ifdef JOVILUX_MAKE_VDB
TEST_CASE("a density file's own box holds its haze, and the resolved rig keeps its place",
          "[cli][haze][vdb]") {
  const TemporaryFolder dir;
  REQUIRE(run_other(JOVILUX_MAKE_VDB, {dir.path("c.vdb"), "cloud"}).status == 0);
  const auto picture = [&](const std::string& name, const std::string& more) {
    const std::string rig = dir.write(
        name + ".toml",
        "jovilux = 1\n[render]\nsize = [12, 8]\nsamples = 4\n[[camera]]\nname = 'c'\nat = [0, -6, "
        "1]\nlook_at = [0, 0, 0]\n[[light]]\nname = 'l'\nkind = 'point'\nat = [0, 0, 3]\noutput = "
        "'800 lm'\n[[haze]]\nname = 'h'\nfile = 'c.vdb'\nextinction = '0.5 /m'\n" +
            more);
    const ProgramRun run = run_program({"render", rig, "-o", dir.path(name), "--quiet"});
    INFO(run.err);
    REQUIRE(run.status == 0);
    return dir.read(name + "/view.png");
  };
  const std::string alone = picture("alone", "");
  CHECK(alone == picture("everywhere", "inside = 'everywhere'\n"));
  // Placed, the resolved rig shows the same from its own folder.
  const std::string placed =
      picture("placed", "at = [0.2, 0, 0.3]\nrotate = [0, 0, 30]\nscale = [1, 1, 0.5]\n");
  CHECK(placed != alone);
  REQUIRE(run_program(
              {"render", dir.path("placed/rig.resolved.toml"), "-o", dir.path("again"), "--quiet"})
              .status == 0);
  CHECK(dir.read("again/view.png") == placed);
}
#endif
