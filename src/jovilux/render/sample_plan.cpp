#include "jovilux/render/sample_plan.h"

#include "jovilux/base/box_sums.h"
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
double given(float need, double factor) { return std::max<double>(kBatches, factor * need); }

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

// The relative variance of a sample of each pixel, cut at the percentile `kept`.
std::vector<float> sample_variances(const std::vector<float>& noise,
                                    const std::vector<float>& samples,
                                    double kept) {
  std::vector<float> one(noise.size());
  for (std::size_t i = 0; i < noise.size(); ++i) {
    const float v = noise[i] * noise[i] * samples[i];
    one[i] = std::isfinite(v) ? v : 0;
  }
  if (!one.empty()) {
    const float most = percentile(one, kept);
    for (float& v : one) {
      v = std::min(v, most);
    }
  }
  return one;
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
  std::vector<float> need = sample_variances(noise, samples, kKept), counts(need.size(), 1.0f);
  box_sums(width, height, kReach, need);
  box_sums(width, height, kReach, counts);
  for (std::size_t i = 0; i < need.size(); ++i) {
    need[i] /= counts[i];
  }
  return need;
}

namespace {

// Draws deviations towards their mean as far as makes the sum of variance over samples least, where
// samples are in proportion to them.
void draw_to_mean(const std::vector<float>& variances, std::vector<float>& deviations) {
  double sum = 0;
  for (const float d : deviations) {
    sum += d;
  }
  const double mean = sum / static_cast<double>(std::max<std::size_t>(1, deviations.size()));
  const auto drawn = [mean](float d, double share) { return (1 - share) * d + share * mean; };
  double least = HUGE_VAL, best = 1;
  for (const double share : {1.0, 0.75, 0.5, 0.35, 0.25, 0.15, 0.1, 0.05}) {
    double error = 0;
    for (std::size_t i = 0; i < deviations.size(); ++i) {
      error += variances[i] / std::max(1e-30, drawn(deviations[i], share));
    }
    if (error < least) {
      least = error;
      best = share;
    }
  }
  for (float& d : deviations) {
    d = static_cast<float>(drawn(d, best));
  }
}

}  // namespace

std::vector<float> deviation_around(int width,
                                    int height,
                                    const std::vector<float>& noise,
                                    const std::vector<float>& samples) {
  constexpr double kAlmostAll = 0.999;
  const std::vector<float> own = sample_variances(noise, samples, kAlmostAll);
  std::vector<float> out = own, counts(own.size(), 1.0f);
  box_sums(width, height, kReach, out);
  box_sums(width, height, kReach, counts);
  for (std::size_t i = 0; i < out.size(); ++i) {
    out[i] = counts[i] > 1 ? std::sqrt(std::max(0.0f, (out[i] - own[i]) / (counts[i] - 1))) : 0.0f;
  }
  draw_to_mean(own, out);
  return out;
}

std::vector<std::uint32_t> share_more(const std::vector<float>& deviation,
                                      const std::vector<float>& taken,
                                      double more) {
  const auto n = static_cast<double>(deviation.size());
  const auto wanted = [&](std::size_t i, double factor) {
    return std::max(0.0, factor * deviation[i] - taken[i]);
  };
  const auto mean = [&](double factor) {
    double sum = 0;
    for (std::size_t i = 0; i < deviation.size(); ++i) {
      sum += wanted(i, factor);
    }
    return sum / n;
  };
  double most = 0;
  for (const float d : deviation) {
    most = std::max<double>(most, d);
  }
  const bool known = most > 0;
  const double factor = known ? factor_for(mean, more, more / most) : 0;
  std::vector<std::uint32_t> out(deviation.size());
  double owed = 0;  // what rounding has left, handed on to the next pixel
  for (std::size_t i = 0; i < out.size(); ++i) {
    const double due = (known ? wanted(i, factor) : more) + owed;
    const double multiples = std::max(0.0, std::round(due / kBatches));
    out[i] = static_cast<std::uint32_t>(multiples) * kBatches;
    owed = due - out[i];
  }
  return out;
}

std::vector<std::uint32_t> share_out(const std::vector<float>& need, double mean) {
  std::vector<std::uint32_t> out(need.size(), kBatches);
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
    const double multiples = std::max(1.0, std::round(wanted / kBatches));
    out[i] = static_cast<std::uint32_t>(multiples) * kBatches;
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
