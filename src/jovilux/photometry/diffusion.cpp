#include "jovilux/photometry/diffusion.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/text.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <vector>

#include <boost/math/special_functions/bessel.hpp>

namespace jovilux {
namespace {

// The concentration kappa of a von Mises-Fisher lobe that falls to half its peak at half of the
// spread: exp(kappa (cos(spread / 2) - 1)) = 1/2.
double concentration(Radians spread) { return std::log(2.0) / (1 - std::cos(spread.value / 2)); }

// exp(-x) I0(x), x >= 0. From kFar on by its asymptotic series (Abramowitz and Stegun 9.7.1), since
// I0 itself overflows there.
double scaled_bessel_i0(double x) {
  constexpr double kFar = 300;
  return x < kFar ? boost::math::cyl_bessel_i(0, x) * std::exp(-x)
                  : (1 + 1 / (8 * x) + 9 / (128 * x * x)) / std::sqrt(2 * kPiD * x);
}

// The lobe's mean over the ring at theta_from, seen from theta_to, without the constant factor.
double ring_lobe(double kappa, double theta_to, double theta_from) {
  return std::exp(kappa * (std::cos(theta_to - theta_from) - 1)) *
         scaled_bessel_i0(kappa * std::sin(theta_to) * std::sin(theta_from));
}

struct Node {
  double theta, weight;  // weight: intensity times solid angle
};

// Nodes of the midpoint rule, finer within the beam.
std::vector<Node> ring_nodes(const std::function<double(double)>& intensity, double beam_end) {
  constexpr int kNodes = 1500;
  std::vector<Node> out;
  const auto fill = [&](double from, double to) {
    const double step = (to - from) / kNodes;
    for (int i = 0; i < kNodes && step > 0; ++i) {
      const double theta = from + (i + 0.5) * step;
      if (const double w = intensity(theta) * std::sin(theta) * step; w > 0) {
        out.push_back({theta, w});
      }
    }
  };
  fill(0, beam_end);
  fill(beam_end, kPiD);
  return out;
}

// The angles to the axis at which a diffused distribution is tabulated.
std::vector<double> table_angles(bool front_only, double step_deg) {
  const double end = front_only ? 90 : 180;
  const int n = static_cast<int>(std::lround(end / step_deg));
  std::vector<double> out;
  for (int i = 0; i <= n; ++i) {
    out.push_back(end * i / n * kPiD / 180);
  }
  return out;
}

// Diffuses a source that is the same all around its axis. The lobe's mean over a ring is a Bessel
// function, so that one sum over rings replaces one over directions.
CandelaGrid diffused_rings(const std::function<double(double)>& intensity,
                           double beam_end,
                           double kappa,
                           bool front_only) {
  const std::vector<Node> nodes = ring_nodes(intensity, beam_end);
  CandelaGrid out{PhotometricType::kC,
                  PhotometricSymmetry::kRotational,
                  {0},
                  table_angles(front_only, 0.5),
                  {}};
  for (const double theta : out.ver_rad) {
    double sum = 0;
    for (const Node& node : nodes) {
      sum += node.weight * ring_lobe(kappa, theta, node.theta);
    }
    // kappa / (1 - exp(-2 kappa)) makes the lobe's integral over the sphere 1: flux is kept.
    out.candela.push_back(sum * kappa / (1 - std::exp(-2 * kappa)));
  }
  return out;
}

// Diffuses a source of any shape: the source in cells of 1.25 degrees, the table every 5 by 1.25
// degrees. The least spread is wider than a cell, so that no cell shows in the result.
CandelaGrid diffused_directions(const LuminousDistribution& source, double kappa, bool front_only) {
  constexpr double kStep = 1.25 * kPiD / 180;
  constexpr int kAround = 288, kAlong = 144, kPlanes = 72;
  const auto direction = [](double theta, double c) {
    return Vec3d(std::sin(theta) * std::cos(c), std::sin(theta) * std::sin(c), std::cos(theta));
  };
  struct Cell {
    Vec3d direction;
    double weight;
  };
  std::vector<Cell> cells;
  for (int row = 0; row < kAlong; ++row) {
    const double theta = (row + 0.5) * kStep;
    const double solid_angle =
        2 * kPiD / kAround * (std::cos(row * kStep) - std::cos((row + 1) * kStep));
    for (int column = 0; column < kAround; ++column) {
      const Vec3d w = direction(theta, (column + 0.5) * kStep);
      if (const double candela = static_cast<double>(source.intensity(w.cast<float>()));
          candela > 0) {
        cells.push_back({w, candela * solid_angle});
      }
    }
  }
  CandelaGrid out{
      PhotometricType::kC, PhotometricSymmetry::kNone, {}, table_angles(front_only, 1.25), {}};
  const double least_cosine = 1 - 20 / kappa;  // beyond, the lobe is below exp(-20)
  for (int plane = 0; plane < kPlanes; ++plane) {
    out.hor_rad.push_back(2 * kPiD * plane / kPlanes);
    for (const double theta : out.ver_rad) {
      const Vec3d w = direction(theta, out.hor_rad.back());
      double sum = 0;
      for (const Cell& cell : cells) {
        if (const double cosine = cell.direction.dot(w); cosine > least_cosine) {
          sum += cell.weight * std::exp(kappa * (cosine - 1));
        }
      }
      out.candela.push_back(sum * kappa / (2 * kPiD * (1 - std::exp(-2 * kappa))));
    }
  }
  return out;
}

}  // namespace

std::optional<Diffusion> diffusion_gel(std::string_view text) {
  constexpr std::string_view kWord = "diffusion";
  text = trimmed(text);
  if (!text.starts_with(kWord)) {
    return std::nullopt;
  }
  text = trimmed(text.substr(kWord.size()));
  Diffusion out;
  if (text.ends_with('%')) {
    text = trimmed(text.substr(0, text.size() - 1));
    const std::size_t space = text.rfind(' ');
    const auto share =
        space == std::string_view::npos ? std::nullopt : parse_number(text.substr(space + 1));
    if (!share || !(*share > 0 && *share <= 100)) {
      return std::nullopt;
    }
    out.transmittance = *share / 100;
    text = trimmed(text.substr(0, space));
  }
  const auto parsed = parse_amount(text);
  const auto* amount = std::get_if<Amount>(&parsed);
  if (amount == nullptr || amount->dimension != Dimension::kAngle) {
    return std::nullopt;
  }
  // "10 deg" in radians and back differs in its last digit, and a stated limit must be accepted.
  constexpr double kRounding = 1e-9;
  out.spread = {amount->value};
  const bool fits = out.spread.value >= kLeastDiffusion.value - kRounding &&
                    out.spread.value <= kMostDiffusion.value + kRounding;
  return fits ? std::optional(out) : std::nullopt;
}

// Lobes of two gels add like the variances of what is scattered twice.
Radians spread_of_both(Radians first, Radians second) {
  return {std::min(std::hypot(first.value, second.value), kMostDiffusion.value)};
}

std::shared_ptr<const LuminousDistribution> diffused(const SourceShape& source, Radians spread) {
  JOVILUX_ASSERT(spread.value > 0 && spread.value <= kMostDiffusion.value + 1e-6);
  const double kappa = concentration(spread);
  const bool flat = source.kind == LightKind::kDisk || source.kind == LightKind::kRect;
  if (source.profile != nullptr) {
    // A profile that sends less than a hundredth backward is tabulated in front alone, by a table
    // of half the size.
    constexpr double kAllInFront = 0.99;
    const bool front_only = (flat && !source.two_sided) ||
                            source.profile->flux_in_front() > kAllInFront * source.profile->flux();
    return std::make_shared<LuminousDistribution>(
        diffused_directions(*source.profile, kappa, front_only));
  }
  if (source.kind == LightKind::kSpot) {
    const SpotBeam& beam = source.beam;
    return std::make_shared<LuminousDistribution>(diffused_rings(
        // A spot's lens faces forward: what its curve has left behind the lens never leaves.
        [&](double theta) { return theta < kPiD / 2 ? relative_intensity(beam, theta) : 0.0; },
        std::min(kPiD / 2, beam.exponent == 0 ? beam.half_beam : 2 * beam.half_field),
        kappa,
        true));
  }
  if (flat && source.half_spread > 0) {
    const double half = source.half_spread;
    const bool both = source.two_sided;
    return std::make_shared<LuminousDistribution>(diffused_rings(
        [half, both](double theta) {
          const double to_axis = both ? std::min(theta, kPiD - theta) : theta;
          // Intensity of a flat source: its luminance times the projected area, whence the cosine.
          return to_axis < kPiD / 2 ? relative_spread(to_axis, half) * std::cos(to_axis) : 0.0;
        },
        both ? kPiD / 2 : half,
        kappa,
        !both));
  }
  return nullptr;
}

}  // namespace jovilux
