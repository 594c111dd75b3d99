#include "jovilux/render/sample_plan.h"

#include "jovilux/render/film.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <boost/math/tools/roots.hpp>

namespace jovilux {
namespace {

constexpr int kReach = 2;       // of the average, to each side
constexpr double kKept = 0.95;  // share of the pixels that a target holds for

// What a pixel of this need gets for a factor.
double given(float need, double factor) { return std::max<double>(kScramblings, factor * need); }

// The factor where a rising function reaches a value, from below.
template <class Fn>
double factor_for(const Fn& rising, double value, double start) {
  const double lo = 0;
  double hi = start;
  for (int i = 0; i < 200 && rising(hi) < value; ++i) {
    hi *= 2;
  }
  if (!(rising(lo) < value) || rising(hi) < value) {
    return hi;
  }
  constexpr int kBits = 50;
  return boost::math::tools::bisect([&](double factor) { return rising(factor) < value ? -1 : 1; },
                                    lo,
                                    hi,
                                    boost::math::tools::eps_tolerance<double>(kBits))
      .second;
}

double mean_of(const std::vector<float>& need, double factor) {
  double sum = 0;
  for (const float n : need) {
    sum += given(n, factor);
  }
  return sum / static_cast<double>(need.size());
}

}  // namespace

std::vector<float> sample_need(int width,
                               int height,
                               const std::vector<float>& noise,
                               const std::vector<float>& samples) {
  const auto at = [&](int x, int y) {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
           static_cast<std::size_t>(x);
  };
  std::vector<float> one(noise.size()), rows(noise.size()), need(noise.size());
  for (std::size_t i = 0; i < noise.size(); ++i) {
    const float v = noise[i] * noise[i] * samples[i];
    one[i] = std::isfinite(v) ? v : 0;
  }
  if (one.empty()) {
    return one;
  }
  const float most = percentile(one, kKept);
  for (float& v : one) {
    v = std::min(v, most);
  }
  const auto average = [&](const std::vector<float>& from, std::vector<float>& to, bool along_x) {
    for (int y = 0; y < height; ++y) {
      for (int x = 0; x < width; ++x) {
        const int here = along_x ? x : y, end = along_x ? width : height;
        float sum = 0;
        const int first = std::max(0, here - kReach), last = std::min(end - 1, here + kReach);
        for (int k = first; k <= last; ++k) {
          sum += from[along_x ? at(k, y) : at(x, k)];
        }
        to[at(x, y)] = sum / static_cast<float>(last - first + 1);
      }
    }
  };
  average(one, rows, true);
  average(rows, need, false);
  return need;
}

std::vector<std::uint32_t> share_out(const std::vector<float>& need, double mean) {
  std::vector<std::uint32_t> out(need.size(), kScramblings);
  double most = 0;
  for (const float n : need) {
    most = std::max<double>(most, n);
  }
  const bool known = most > 0;
  const double factor =
      known ? factor_for([&](double f) { return mean_of(need, f); }, mean, mean / most) : 0;
  double owed = 0;  // what rounding has left, handed on to the next pixel
  for (std::size_t i = 0; i < need.size(); ++i) {
    const double wanted = (known ? given(need[i], factor) : mean) + owed;
    const double multiples = std::max(1.0, std::round(wanted / kScramblings));
    out[i] = static_cast<std::uint32_t>(multiples) * kScramblings;
    owed = wanted - out[i];
  }
  return out;
}

SamplesForTarget samples_for_target(int width,
                                    int height,
                                    const std::vector<float>& noise,
                                    const std::vector<float>& samples,
                                    double target) {
  SamplesForTarget out{std::numeric_limits<double>::quiet_NaN(),
                       std::numeric_limits<double>::quiet_NaN()};
  if (noise.empty()) {
    return out;
  }
  std::vector<float> of_one(noise.size());
  for (std::size_t i = 0; i < noise.size(); ++i) {
    const float one = noise[i] * std::sqrt(samples[i]);
    of_one[i] = one >= 0 ? one : std::numeric_limits<float>::infinity();
  }
  out.even = std::pow(percentile(of_one, kKept) / target, 2);
  const std::vector<float> need = sample_need(width, height, noise, samples);
  std::vector<float> reached(noise.size());
  const auto inverse_noise = [&](double factor) {
    for (std::size_t i = 0; i < need.size(); ++i) {
      reached[i] = of_one[i] / static_cast<float>(std::sqrt(given(need[i], factor)));
    }
    const double p95 = percentile(reached, kKept);
    return p95 > 0 ? 1 / p95 : std::numeric_limits<double>::max();
  };
  out.shared = mean_of(need, factor_for(inverse_noise, 1 / target, 1));
  return out;
}

}  // namespace jovilux
