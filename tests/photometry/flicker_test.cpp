#include "jovilux/photometry/flicker.h"

#include <cmath>
#include <numbers>

#include <catch2/catch.hpp>

using namespace jovilux;
using Wave = Flicker::Wave;

namespace {

constexpr double kPiHere = std::numbers::pi;

Flicker wave(Wave w,
             double rate,
             double depth,
             double phase = 0,
             double duty = 0.5,
             std::uint32_t seed = 1) {
  Flicker f;
  f.wave = w;
  f.rate = rate;
  f.depth = depth;
  f.phase = phase;
  f.duty = duty;
  f.seed = seed;
  return f;
}

// The figures of one cycle, sampled in the middles of many parts.
FlickerFigures over_cycle(const Flicker& f) {
  const std::vector<double> levels = f.cycle(20000);
  return flicker_figures(levels);
}

double mean_by_sum(const Flicker& f, double from, double to) {
  constexpr int kParts = 200000;
  double sum = 0;
  for (int i = 0; i < kParts; ++i) {
    sum += f.level(from + (to - from) * (i + 0.5) / kParts);
  }
  return sum / kParts;
}

}  // namespace

TEST_CASE("percent flicker and flicker index of each wave are their closed forms",
          "[flicker][truth]") {
  for (const double d : {0.05, 0.3, 1.0}) {
    INFO(d);
    const FlickerFigures sine = over_cycle(wave(Wave::kSine, 3, d, 0.7));
    CHECK(sine.mean == Approx(1).epsilon(1e-9));
    CHECK(sine.percent == Approx(d).epsilon(1e-9));
    CHECK(sine.index == Approx(d / kPiHere).epsilon(1e-6));
    for (const double duty : {0.2, 0.5, 0.75}) {
      const double high = (1 + d) / (1 + d * (2 * duty - 1));
      const FlickerFigures square = over_cycle(wave(Wave::kSquare, 7, d, 0, duty));
      CHECK(square.mean == Approx(1).epsilon(1e-9));
      CHECK(square.percent == Approx(d).epsilon(1e-9));
      CHECK(square.index == Approx(duty * (high - 1)).epsilon(1e-9));
    }
    // |sin| between floors: (1 - d + 2 d |sin|) / m, above its mean between asin(2 / pi) and pi
    // minus that.
    const FlickerFigures mains = over_cycle(wave(Wave::kMains, 50, d));
    const double m = 1 - d + 4 * d / kPiHere, x = std::asin(2 / kPiHere);
    CHECK(mains.mean == Approx(1).epsilon(1e-7));
    CHECK(mains.percent == Approx(d).epsilon(1e-9));
    CHECK(mains.index ==
          Approx(2 * d / m * (2 * std::cos(x) - (2 / kPiHere) * (kPiHere - 2 * x)) / kPiHere)
              .epsilon(1e-6));
  }
  // Full-wave mains mains of one lamp: index cos x - 1 + 2 x / pi with x = asin(2 / pi).
  const double x = std::asin(2 / kPiHere);
  CHECK(over_cycle(wave(Wave::kMains, 50, 1)).index ==
        Approx(std::cos(x) - 1 + 2 * x / kPiHere).epsilon(1e-6));
  CHECK(*wave(Wave::kMains, 50, 1).period() == Approx(0.01));
}

TEST_CASE("the mean level over a shutter is the integral", "[flicker][truth]") {
  const auto formula =
      std::get<Formula>(Formula::parse("0.5 + 0.4*sin(tau*13*t) + max(0, t)", {"t"}));
  std::vector<Flicker> waves = {wave(Wave::kSine, 47.3, 0.8, 1.1),
                                wave(Wave::kSquare, 61.7, 0.9, 0.4, 0.3),
                                wave(Wave::kMains, 50, 0.7, 0.3),
                                wave(Wave::kFlame, 6, 0.6, 0.2, 0.5, 9),
                                wave(Wave::kStrike, 4, 1, 0, 0.5, 3),
                                wave(Wave::kFormula, 13, 1)};
  waves.back().formula = formula;
  for (const Flicker& f : waves) {
    for (const auto& [from, to] :
         {std::pair{0.0, 1.0 / 48}, {0.31, 0.31 + 1.0 / 30}, {-0.2, 0.9}, {1.234, 1.2341}}) {
      INFO(static_cast<int>(f.wave) << " from " << from << " to " << to);
      CHECK(f.mean(from, to) == Approx(mean_by_sum(f, from, to)).epsilon(3e-5));
    }
    CHECK(f.mean(0.3, 0.3) == f.level(0.3));
  }
  // Whole cycles hold nothing but the mean, however fast: no aliasing.
  CHECK(wave(Wave::kSine, 4800, 1).mean(0.1, 0.1 + 1.0 / 48) == Approx(1).epsilon(1e-9));
  CHECK(wave(Wave::kSquare, 4800, 1).mean(0.1, 0.1 + 1.0 / 48) == Approx(1).epsilon(1e-9));
}

TEST_CASE(
    "flames stay within their depth and differ by seed, a lamp that strikes blinks, then runs up",
    "[flicker]") {
  const Flicker a = wave(Wave::kFlame, 5, 0.4, 0, 0.5, 1),
                b = wave(Wave::kFlame, 5, 0.4, 0, 0.5, 2);
  double apart = 0, least = 2, most = 0, jump = 0;
  for (int i = 0; i < 20000; ++i) {
    const double t = i * 0.005;
    apart += std::abs(a.level(t) - b.level(t)) / 20000;
    least = std::min(least, a.level(t));
    most = std::max(most, a.level(t));
    jump = std::max(jump, std::abs(a.level(t + 1e-5) - a.level(t)));
  }
  CHECK(apart > 0.05);
  CHECK(least >= 0.6);
  CHECK(most <= 1.4);
  CHECK(least < 0.7);
  CHECK(most > 1.3);
  CHECK(jump < 1e-3);
  const Flicker s = wave(Wave::kStrike, 2, 1);
  CHECK(s.level(-0.1) == 0);
  CHECK(s.level(0.01) > 0);  // the first try
  CHECK(s.level(0.4) == 0);  // it has gone out
  CHECK(s.level(30) == Approx(1).epsilon(1e-6));
  CHECK(wave(Wave::kStrike, 2, 1, kPiHere).level(0.01) == 0);  // half a cycle later
}

TEST_CASE("flicker figures of given levels", "[flicker]") {
  const std::vector<double> levels = {1, 1, 3, 3};
  const FlickerFigures f = flicker_figures(levels);
  CHECK(f.percent == 0.5);
  CHECK(f.index == 0.25);  // 1 + 1 above the mean of 2, of 8
  CHECK(flicker_figures({}).percent == 0);
  const std::vector<double> dark(5, 0.0);
  CHECK(flicker_figures(dark).index == 0);
}
