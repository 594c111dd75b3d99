#include "jovilux/color/chromaticity.h"

#include "jovilux/base/assert.h"

#include <array>
#include <cmath>

#include <boost/math/tools/minima.hpp>

namespace jovilux {
namespace {

// Tristimulus values relative to the source's own luminance: a light's power is stated apart from
// its color.
template <class Weight>
Xyz sums(const NmTable& source, const Weight& weight) {
  Xyz xyz = Xyz::Zero();
  double y = 0;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    for (int c = 0; c < 3; ++c) {
      xyz[c] += source[i] * weight(i) * color_matching(c)[i];
    }
    y += source[i] * color_matching(1)[i];
  }
  JOVILUX_ASSERT(y > 0);
  return xyz / y;
}

Uv planck_uv(double mired_value) { return uv_1960(tristimulus(planck(from_mired(mired_value)))); }

double distance2(Uv a, Uv b) { return (a.u - b.u) * (a.u - b.u) + (a.v - b.v) * (a.v - b.v); }

}  // namespace

Xyz tristimulus(const NmTable& source) {
  return sums(source, [](std::size_t) { return 1.0; });
}

Xyz tristimulus(const NmTable& source, const NmTable& reflectance) {
  return sums(source, [&](std::size_t i) { return reflectance[i]; });
}

Xy chromaticity(const Xyz& xyz) { return {xyz[0] / xyz.sum(), xyz[1] / xyz.sum()}; }

Uv uv_1960(const Xyz& xyz) {
  const double d = xyz[0] + 15 * xyz[1] + 3 * xyz[2];
  return {4 * xyz[0] / d, 6 * xyz[1] / d};
}

Xyz from_xy(Xy xy) { return {xy.x / xy.y, 1.0, (1 - xy.x - xy.y) / xy.y}; }

Cct correlated_color_temperature(const Xyz& xyz) {
  const Uv target = uv_1960(xyz);
  // The locus is near straight in mired: a coarse table finds the valley, Brent's method its floor.
  constexpr double kFirst = 10, kLast = 1000, kStep = 10;
  static const auto kLocus = [] {
    std::array<Uv, 100> table{};
    for (std::size_t i = 0; i < table.size(); ++i) {
      table[i] = planck_uv(kFirst + kStep * static_cast<double>(i));
    }
    return table;
  }();
  std::size_t best = 0;
  for (std::size_t i = 1; i < kLocus.size(); ++i) {
    if (distance2(kLocus[i], target) < distance2(kLocus[best], target)) {
      best = i;
    }
  }
  const double lo = std::max(kFirst, kFirst + kStep * (static_cast<double>(best) - 1)),
               hi = std::min(kLast, kFirst + kStep * (static_cast<double>(best) + 1));
  constexpr int kBits = 26;  // half of a double's: a minimum is known no better
  const double m =
      boost::math::tools::brent_find_minima(
          [&](double mired) { return distance2(planck_uv(mired), target); }, lo, hi, kBits)
          .first;
  const Uv foot = planck_uv(m);
  return {from_mired(m), std::copysign(std::sqrt(distance2(foot, target)), target.v - foot.v)};
}

double color_rendering_index(const NmTable& source) {
  // The rendering index is defined by sums over 5 nm (CIE 13.3-1995): sources with lines have
  // another index by finer ones.
  const auto five_nm = [](const NmTable& s, const NmTable* r) {
    Xyz xyz = Xyz::Zero();
    double y = 0;
    for (std::size_t i = 20; i <= 420; i += 5) {  // 380 .. 780 nm
      for (int c = 0; c < 3; ++c) {
        xyz[c] += s[i] * (r != nullptr ? (*r)[i] : 1.0) * color_matching(c)[i];
      }
      y += s[i] * color_matching(1)[i];
    }
    return Xyz(xyz * (100 / y));
  };
  const Xyz white = five_nm(source, nullptr);
  const Kelvin t = correlated_color_temperature(white).cct;
  // The reference is of the same color temperature: black body below 5000 K, daylight from there
  // on.
  const NmTable reference = t.value < 5000 ? planck(t) : cie_daylight({std::min(t.value, 25000.0)});
  const Uv k = uv_1960(white), r = uv_1960(five_nm(reference, nullptr));
  // Von Kries adaptation in the c, d coordinates of CIE 13.3, so that the difference of the whites
  // themselves is not counted.
  const auto c_of = [](Uv p) { return (4 - p.u - 10 * p.v) / p.v; };
  const auto d_of = [](Uv p) { return (1.708 * p.v + 0.404 - 1.481 * p.u) / p.v; };
  double sum = 0;
  for (int i = 1; i <= 8; ++i) {
    const NmTable sample = test_color(i);
    const Xyz under_k = five_nm(source, &sample), under_r = five_nm(reference, &sample);
    const Uv p = uv_1960(under_k), q = uv_1960(under_r);
    const double c = c_of(r) / c_of(k) * c_of(p), d = d_of(r) / d_of(k) * d_of(p);
    const Uv adapted{(10.872 + 0.404 * c - 4 * d) / (16.518 + 1.481 * c - d),
                     5.520 / (16.518 + 1.481 * c - d)};
    const auto uvw = [&](Uv at, double y) {
      const double w = 25 * std::cbrt(y) - 17;
      return Eigen::Vector3d(13 * w * (at.u - r.u), 13 * w * (at.v - r.v), w);
    };
    sum += 100 - 4.6 * (uvw(adapted, under_k[1]) - uvw(q, under_r[1])).norm();
  }
  return sum / 8;
}

LumensPerWatt black_body_efficacy(Kelvin t) {
  // Both in units of c1 / pi: visible power weighted by V against the closed form sigma T^4 =
  // integral of Planck's law. The second radiation constant is CODATA's of 2018: an efficacy is an
  // absolute figure, where chromaticities keep to CIE's older value.
  constexpr double kSecondRadiation = 1.438776877e-2;
  double visible = 0;
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double lambda = (kFirstNm + static_cast<double>(i)) * 1e-9;
    visible += color_matching(1)[i] * std::pow(lambda, -5) /
               std::expm1(kSecondRadiation / (lambda * t.value)) * 1e-9;
  }
  const double all = std::pow(t.value / kSecondRadiation, 4) * std::pow(std::numbers::pi, 4) / 15;
  return {683.002 * visible / all};
}

}  // namespace jovilux
