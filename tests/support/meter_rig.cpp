#include "tests/support/meter_rig.h"

#include <cmath>

#include <catch2/catch.hpp>
#include <fmt/format.h>

namespace jovilux::test {

std::string looking_at(const Vec3d& from, const Vec3d& at, const std::string& more) {
  return fmt::format(R"(jovilux = 1
[[camera]]
name = "meter"
at = [{}, {}, {}]
look_at = [{}, {}, {}]
field_of_view = "0.05 deg"
[[object]]
name = "plane"
shape = {{ kind = "plane" }}
[render]
size = [8, 8]
samples = 96
bounces = 1
{})",
                     from.x(),
                     from.y(),
                     from.z(),
                     at.x(),
                     at.y(),
                     at.z(),
                     more);
}

std::string light(const std::string& text) { return "[[light]]\nname = 'l'\n" + text; }

namespace {

// Renders into `dir`/out; the picture's statistics.
nlohmann::json rendered(const TemporaryFolder& dir, const std::string& rig, int seed) {
  const ProgramRun render = run_program({"render",
                                         rig,
                                         "-o",
                                         dir.path("out"),
                                         "--set",
                                         fmt::format("render.seed={}", seed),
                                         "--json",
                                         "--quiet",
                                         "--threads",
                                         "2",
                                         "--force"});
  INFO(render.err);
  REQUIRE(render.status == 0);
  return render.json();
}

nlohmann::json read_back(const TemporaryFolder& dir) {
  return run_program({"read", dir.path("out"), "--json"}).json()["readings"][0];
}

}  // namespace

nlohmann::json reading(const TemporaryFolder& dir, const std::string& rig, int seed) {
  rendered(dir, rig, seed);
  return read_back(dir);
}

RunningMoments luminance(const std::string& text, int seeds) {
  const TemporaryFolder dir;
  const std::string rig = dir.write("rig.toml", text);
  RunningMoments m;
  for (int seed = 1; seed <= seeds; ++seed) {
    const double mean = rendered(dir, rig, seed)["mean_luminance_cd_m2"];
    if (seed == 1) {  // what is read from the picture is what the statistics tell
      CHECK(read_back(dir)["luminance_cd_m2"].get<double>() == Approx(mean).epsilon(1e-6));
    }
    m.add(mean);
  }
  return m;
}

void check_luminance(const std::string& text, double exact, double bias, int seeds) {
  const RunningMoments m = luminance(text, seeds);
  INFO(m.mean() << " +- " << m.standard_error() << " against " << exact);
  constexpr double kNarrowView = 2e-4;
  // Of as few as 8 means: chance 1e-5 at 11 standard errors.
  const double bound = seeds >= kRendersCompared ? kRendersBound : 11;
  const auto passes = [&](double mean) {
    return std::abs(mean - exact) < bound * m.standard_error() + kNarrowView * exact;
  };
  CHECK(passes(m.mean()));
  CHECK(m.standard_error() < 0.005 * exact);  // docs/physics.md
  CHECK_FALSE(passes(m.mean() * (1 + bias)));
  CHECK_FALSE(passes(m.mean() * (1 - bias)));
}

}  // namespace jovilux::test
