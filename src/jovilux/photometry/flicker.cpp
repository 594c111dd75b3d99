#include "jovilux/photometry/flicker.h"

#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace jovilux {
namespace {

constexpr double kPiHere = std::numbers::pi;

// Value noise: a value in [-1, 1] for each whole number, a hash, so that any time can be asked for
// in any order by any thread.
double noise_at(std::int64_t knot, std::uint32_t seed) {
  const auto low = static_cast<std::uint32_t>(knot),
             high = static_cast<std::uint32_t>(static_cast<std::uint64_t>(knot) >> 32);
  return 2.0 * unit_float(mix(mix(seed, low), high)) - 1;
}

double smooth_noise(double x, std::uint32_t seed) {
  const double floor = std::floor(x), u = x - floor;
  const auto knot = static_cast<std::int64_t>(floor);
  const double a = noise_at(knot, seed), b = noise_at(knot + 1, seed);
  return a + (b - a) * u * u * (3 - 2 * u);
}

// A flame: four octaves of value noise, from a quarter of the rate to twice it. Slow octaves weigh
// as much as fast ones; the weights add up to 1. A sum of four octaves rarely leaves the middle,
// and a curve that is steep there, v (3 - v^2) / 2 taken twice, spreads it over [-1, 1].
constexpr int kOctaves = 4;
constexpr double kFastest = 2;
double flame(double cycles, std::uint32_t seed) {
  constexpr double kWeights[kOctaves] = {0.25, 0.25, 0.3, 0.2};
  double sum = 0, x = cycles * kFastest;
  for (int o = kOctaves - 1; o >= 0; --o, x /= 2) {
    sum += kWeights[o] * smooth_noise(x, mix(seed, static_cast<std::uint32_t>(o)));
  }
  const auto spread = [](double v) { return v * (1.5 - 0.5 * v * v); };
  return spread(spread(sum));
}

// The level of a discharge lamp, 0 to 1, over cycles since the switch: some tries, each a short
// weak flash, then an arc whose level runs up exponentially.
constexpr double kFlash = 0.15;  // of a cycle
double strike(double cycles, std::uint32_t seed) {
  if (cycles < 0) {
    return 0;
  }
  const int tries = 2 + static_cast<int>(mix(seed, 0x57a1u) % 4);
  const auto cycle = static_cast<std::uint32_t>(std::min(cycles, 1e6));
  if (cycles < tries) {
    const bool on = cycles - cycle < kFlash;
    return on ? 0.2 + 0.6 * unit_float(mix(seed, cycle + 1)) : 0;
  }
  return 1 - 0.5 * std::exp(-(cycles - tries));
}

// Integrals from 0 to x cycles, in closed form, so that an exposure of any length costs the same
// and a shutter's mean has no noise.
double square_integral(double x, double high, double low, double duty) {
  const double floor = std::floor(x), u = x - floor;
  return floor * (high * duty + low * (1 - duty)) + high * std::min(u, duty) +
         low * std::max(0.0, u - duty);
}
double pulse_integral(double x) {  // of |sin(pi x)|
  const double floor = std::floor(x), u = x - floor;
  return floor * 2 / kPiHere + (1 - std::cos(kPiHere * u)) / kPiHere;
}

}  // namespace

double Flicker::level(double t) const {
  // Strike counts cycles from the moment of its switch, which `phase` delays.
  const double cycles = rate * t + (wave == Wave::kStrike ? -1 : 1) * phase / (2 * kPiHere);
  switch (wave) {
    case Wave::kSine:
      return 1 + depth * std::sin(2 * kPiHere * rate * t + phase);
    case Wave::kSquare: {
      // The mean over a cycle is 1, so that flicker does not change a light's output.
      const double scale = 1 / (1 + depth * (2 * duty - 1));
      return scale * (cycles - std::floor(cycles) < duty ? 1 + depth : 1 - depth);
    }
    case Wave::kMains:
      return (1 - depth + 2 * depth * std::abs(std::sin(2 * kPiHere * cycles))) /
             (1 - depth + 4 * depth / kPiHere);
    case Wave::kFlame:
      return 1 + depth * flame(cycles, seed);
    case Wave::kStrike:
      return 1 - depth + depth * strike(cycles, seed);
    case Wave::kFormula: {
      const double v = (*formula)(std::span<const double>(&t, 1));
      return std::isfinite(v) ? std::max(0.0, v) : 0;
    }
  }
  return 1;
}

double Flicker::mean(double from, double to) const {
  const double length = to - from;
  if (!(length > 0)) {
    return level(from);
  }
  const double turn = phase / (2 * kPiHere), a = rate * from + turn, b = rate * to + turn;
  switch (wave) {
    case Wave::kSine:
      return 1 + depth * (std::cos(2 * kPiHere * a) - std::cos(2 * kPiHere * b)) /
                     (2 * kPiHere * rate * length);
    case Wave::kSquare: {
      const double scale = 1 / (1 + depth * (2 * duty - 1)), high = scale * (1 + depth),
                   low = scale * (1 - depth);
      return (square_integral(b, high, low, duty) - square_integral(a, high, low, duty)) / (b - a);
    }
    case Wave::kMains: {
      const double pulses = (pulse_integral(2 * b) - pulse_integral(2 * a)) / (2 * (b - a));
      return (1 - depth + 2 * depth * pulses) / (1 - depth + 4 * depth / kPiHere);
    }
    case Wave::kFlame:
    case Wave::kStrike: {
      // Quadrature between neighboring corners of the curve, where it is smooth; across a corner it
      // would lose its order.
      const bool is_flame = wave == Wave::kFlame;
      const double first = is_flame ? kFastest * a : rate * from - turn,
                   last = is_flame ? kFastest * b : rate * to - turn;
      double sum = 0, x = first;
      constexpr double kMostPieces = 1e5;
      // An exposure of that many cycles is a mean over noise that has long averaged out.
      if (last - first > kMostPieces) {
        return integral([&](double t) { return level(t); }, from, to, 4096) / length;
      }
      while (x < last) {
        const double floor = std::floor(x);
        double next = floor + 1;
        if (!is_flame && x - floor < kFlash) {
          next = floor + kFlash;
        }
        if (!(next > x)) {
          next = floor + 1;  // x is the corner, but for a rounding
        }
        next = std::min(next, last);
        const auto at = [&](double u) {
          return is_flame ? 1 + depth * flame(u / kFastest, seed)
                          : 1 - depth + depth * strike(u, seed);
        };
        sum += integral(at, x, next, 1);
        x = next;
      }
      return sum / (last - first);
    }
    case Wave::kFormula: {
      // Nothing is known of a formula's corners: eight panels for each cycle of its rate.
      const int panels = static_cast<int>(std::clamp(8 * rate * length, 32.0, 4096.0));
      return integral([&](double t) { return level(t); }, from, to, panels) / length;
    }
  }
  return 1;
}

std::optional<double> Flicker::period() const {
  switch (wave) {
    case Wave::kSine:
    case Wave::kSquare:
      return 1 / rate;
    case Wave::kMains:
      return 0.5 / rate;
    default:
      return std::nullopt;
  }
}

std::vector<double> Flicker::cycle(int count) const {
  std::vector<double> out;
  // Square: in the middles of parts, so that no corner is hit; else from a zero on, so that both
  // extremes are.
  const double shift = wave == Wave::kSquare ? 0.5 : 0, zero = -phase / (2 * kPiHere * rate),
               length = period().value_or(1 / rate);
  for (int i = 0; i < count; ++i) {
    out.push_back(level(zero + length * (i + shift) / count));
  }
  return out;
}

FlickerFigures flicker_figures(std::span<const double> levels) {
  FlickerFigures out;
  if (levels.empty()) {
    return out;
  }
  const auto [least, most] = std::minmax_element(levels.begin(), levels.end());
  out.least = *least;
  out.most = *most;
  double sum = 0, above = 0;
  for (const double v : levels) {
    sum += v;
  }
  out.mean = sum / static_cast<double>(levels.size());
  for (const double v : levels) {
    above += std::max(0.0, v - out.mean);
  }
  constexpr double kRounding = 1e-12;  // levels that differ by less are equal
  if (out.most - out.least > kRounding * out.most) {
    out.percent = (out.most - out.least) / (out.most + out.least);
    out.index = above / sum;
  }
  return out;
}

}  // namespace jovilux
