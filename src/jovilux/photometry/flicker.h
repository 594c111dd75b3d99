#pragma once

#include "jovilux/base/formula.h"

#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace jovilux {

/// How a lamp's level goes up and down. A level is a factor on what the light gives, 1 its stated
/// output.
///
///     sine        1 + depth sin(2 pi rate t + phase)
///     square      high for `duty` of each cycle, low for the rest, mean 1
///     mains   follows |sin(2 pi rate t + phase)|, mean 1: two pulses in each cycle of the
///     mains
///     flame       1 + depth n(t), n smooth noise in [-1, 1] of four octaves, the fastest at twice
///     the rate
///     strike      a discharge lamp that starts: dark, then some short flashes at the rate, then on
///     and running up to 1
///     formula     of the time t [s]; 0 where it is below that or has no value
///
/// For sine, square and mains the mean over a cycle is 1 and the percent flicker is `depth`.
struct Flicker {
  enum class Wave : std::uint8_t {
    kSine,
    kSquare,
    kMains,
    kFlame,
    kStrike,
    kFormula
  } wave = Wave::kSine;
  double rate = 1;                 ///< [Hz], above 0
  double depth = 1;                ///< 0 steady .. 1 down to nothing
  double phase = 0;                ///< [rad]; strike: that much of a cycle later
  double duty = 0.5;               ///< square: share of a cycle that is high, above 0 and below 1
  std::uint32_t seed = 1;          ///< flame, strike
  std::optional<Formula> formula;  ///< of t

  /// The level at a moment t [s]; at least 0.
  double level(double t) const;
  /// The mean level from `from` to `to` [s]: in closed form for sine, square and mains, by
  /// quadrature between their corners for flame and strike, at 64 points a cycle at least for a
  /// formula. The level at `from` where the two are one.
  double mean(double from, double to) const;
  /// The length of a cycle after which the level repeats [s]; nothing for flame, strike and
  /// formula.
  std::optional<double> period() const;
  /// `count` levels evenly over a cycle; a count that 4 divides shows both extremes.
  std::vector<double> cycle(int count) const;
};

/// How much a level goes up and down, as the IES defines it: from samples evenly spaced over a
/// whole cycle, or over the time that is looked at.
///
///     percent   (max - min) / (max + min), as a share
///     index     area above the mean over the whole area, 0 .. 1
/// Source: IES Lighting Handbook, 10th ed., section 2, "flicker".
struct FlickerFigures {
  double least = 0, most = 0, mean = 0, percent = 0, index = 0;
};
/// All 0 for no samples or a level of nothing but 0.
FlickerFigures flicker_figures(std::span<const double> levels);

}  // namespace jovilux
