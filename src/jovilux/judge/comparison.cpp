#include "jovilux/judge/comparison.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/statistics.h"
#include "jovilux/color/difference.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace jovilux {

Comparison compare_images(const RenderedImage& a, const RenderedImage& b, double floor) {
  JOVILUX_ASSERT(a.width == b.width && a.height == b.height);
  Comparison out;
  const auto n = static_cast<double>(a.pixels());
  const double white = a.shown().white_luminance();
  const Xyz white_xyz = xyz_from_rec709() * Rgb::Constant(white);
  std::vector<double> stops, delta;
  double squares = 0, variance = 0;
  std::size_t beyond = 0;
  const bool told = !a.variance.empty() && !b.variance.empty();
  out.stops.reserve(a.pixels());
  for (std::size_t i = 0; i < a.pixels(); ++i) {
    const double la = a.luminance(i), lb = b.luminance(i);
    out.mean_a += la / n;
    out.mean_b += lb / n;
    squares += (lb - la) * (lb - la) / n;
    double s = 0;
    if (la > floor || lb > floor) {  // what is dark in one counts as the floor there
      s = std::log2(std::max(lb, floor) / std::max(la, floor));
      stops.push_back(s);
      // Eight stops are what a false color of differences can show.
      s = std::clamp(s, -8.0, 8.0);
    }
    out.stops.push_back(static_cast<float>(s));
    // Colors as bright as the white at most: L* is not made for more.
    const auto capped = [&](const RenderedImage& image, double l) {
      return Xyz((xyz_from_rec709() * image.color(i).cwiseMax(0.0)) *
                 (l > white ? white / l : 1.0));
    };
    delta.push_back(delta_e_2000(lab(capped(a, la), white_xyz), lab(capped(b, lb), white_xyz)));
    if (told) {
      // Neighbors of a denoised picture share their noise: fewer pixels count as independent.
      const double v = static_cast<double>(a.variance[i]) + b.variance[i];
      variance += (a.variance[i] / independent_pixels(n, a.denoised) +
                   b.variance[i] / independent_pixels(n, b.denoised)) /
                  n;
      beyond += std::abs(lb - la) > 3 * std::sqrt(v) ? 1 : 0;
    }
  }
  double sum = 0;
  for (double& s : stops) {
    sum += s;
    s = std::abs(s);
  }
  out.mean_stops = stops.empty() ? 0 : sum / static_cast<double>(stops.size());
  out.max_stops = stops.empty() ? 0 : *std::max_element(stops.begin(), stops.end());
  out.p95_stops = percentile(stops, 0.95);
  for (const double d : delta) {
    out.delta_e_mean += d / n;
  }
  out.delta_e_p95 = percentile(delta, 0.95);
  out.rmse = std::sqrt(squares);
  constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();
  out.z = !told                      ? kUnknown
          : variance > 0             ? (out.mean_b - out.mean_a) / std::sqrt(variance)
          : out.mean_b == out.mean_a ? 0
                                     : std::numeric_limits<double>::infinity();
  out.beyond_noise = told ? static_cast<double>(beyond) / n : kUnknown;
  return out;
}

// Bilinear, from the pixels' middles: a reference of another size is compared as a whole, not pixel
// by pixel.
RenderedImage resized(const RenderedImage& image, int width, int height) {
  RenderedImage out;
  out.width = width;
  out.height = height;
  out.absolute = image.absolute;
  out.view = image.view;
  out.rgb.reserve(3 * out.pixels());
  const auto at = [&](int x, int y, std::size_t c) {
    x = std::clamp(x, 0, image.width - 1);
    y = std::clamp(y, 0, image.height - 1);
    return image.rgb[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) +
                          static_cast<std::size_t>(x)) +
                     c];
  };
  for (int y = 0; y < height; ++y) {
    const float v = (static_cast<float>(y) + 0.5f) * static_cast<float>(image.height) /
                        static_cast<float>(height) -
                    0.5f;
    const int y0 = static_cast<int>(std::floor(v));
    for (int x = 0; x < width; ++x) {
      const float u = (static_cast<float>(x) + 0.5f) * static_cast<float>(image.width) /
                          static_cast<float>(width) -
                      0.5f;
      const int x0 = static_cast<int>(std::floor(u));
      const float fx = u - static_cast<float>(x0), fy = v - static_cast<float>(y0);
      for (std::size_t c = 0; c < 3; ++c) {
        out.rgb.push_back((1 - fy) * ((1 - fx) * at(x0, y0, c) + fx * at(x0 + 1, y0, c)) +
                          fy * ((1 - fx) * at(x0, y0 + 1, c) + fx * at(x0 + 1, y0 + 1, c)));
      }
    }
  }
  return out;
}

}  // namespace jovilux
