#include "tests/support/statistics.h"

#include "jovilux/base/sampler.h"

#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

TEST_CASE("the z-test passes a sound mean and rejects a bias of the size it says it sees",
          "[support][statistical]") {
  const auto mean_of = [](double bias) {
    Rng rng(11);
    RunningMoments m;
    for (int i = 0; i < 100'000; ++i) {
      m.add(bias * (rng.uniform() + rng.uniform()));
    }
    return m;
  };
  const ZTest sound = z_test(mean_of(1), 1.0);
  CHECK(std::abs(sound.z) < kZBound);
  CHECK(sound.sees < 0.012);
  CHECK(std::abs(z_test(mean_of(1 + sound.sees), 1.0).z) > kZBound);
}

TEST_CASE("running moments are those of the textbook formulas", "[support][base]") {
  RunningMoments m;
  for (const double x : {2.0, 4.0, 4.0, 4.0, 5.0, 5.0, 7.0, 9.0}) {
    m.add(x);
  }
  CHECK(m.mean() == Approx(5));
  CHECK(m.variance() == Approx(32.0 / 7));
  CHECK(m.standard_error() == Approx(std::sqrt(32.0 / 7 / 8)));
}
