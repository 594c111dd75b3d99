#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/nodes.h"
#include "jovilux/geometry/enclosure.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/optics/density.h"

#include <array>
#include <cmath>
#include <cstdint>
#include <optional>
#include <vector>

namespace jovilux {

/// Henyey and Greenstein's phase function over the cosine between the directions of travel before
/// and after [1/sr]:
///
///     (1 - g^2) / (4 pi (1 + g^2 - 2 g cos)^1.5),   g in (-1, 1) the mean cosine
///
/// Source: L. Henyey, J. Greenstein, "Diffuse Radiation in the Galaxy", Astrophysical Journal 93,
/// 1941.
inline float henyey_greenstein(float cosine, float g) {
  const float d = 1 + g * g - 2 * g * cosine;
  return (1 - g * g) / (4 * kPi * d * std::sqrt(d));
}
/// A cosine chosen in proportion to it; u in [0, 1).
float sample_henyey_greenstein(float g, float u);

/// Extinction [1/m] of a meteorological visibility [m]: -ln(0.05) / V, a contrast of 5 %. Source:
/// Koschmieder; WMO.
double extinction_of_visibility(double visibility);

/// Haze, everywhere or inside a volume. What overlaps adds up.
struct Haze {
  float sigma_t = 0;                   ///< extinction where its density is 1 [1/m]
  Spectrum albedo = Spectrum::Ones();  ///< scattered share of what is extinguished
  float g = 0;                         ///< mean cosine of scattering
  std::optional<Enclosure> inside;     ///< nothing: everywhere
  HazeDensity density;
  /// Luminance that it adds each meter where its density is 1 [cd/m2 per m].
  float emission = 0;
  std::uint32_t layer = 0;  ///< of the film, for its glow
};

inline constexpr std::size_t kMostHazes = 16;

/// The hazes at one place.
class HazeAt {
 public:
  /// Of all hazes together [1/m].
  float sigma_t() const { return total_; }
  /// Of one of them.
  float sigma_t(std::size_t haze) const { return sigma_[haze]; }
  /// Scattering towards a direction with this cosine to the ray: sum of sigma_s p(cos) over the
  /// hazes here [1/(m sr)].
  Spectrum scattering(float cosine) const;
  /// The mean cosine of scattering, by the hazes' extinctions; 0 where there is none.
  float mean_cosine() const;
  /// Density with which sample_phase chooses a direction of this cosine [1/sr].
  float phase_pdf(float cosine) const;
  /// Returns its density.
  float sample_phase(const Vec3& direction, const Vec2& u, Vec3& wi) const;

 private:
  friend class HazeAlong;
  explicit HazeAt(const std::vector<Haze>& hazes) : hazes_(&hazes) {}
  const std::vector<Haze>* hazes_;
  std::array<float, kMostHazes> sigma_;  // NOLINT: filled as far as there are hazes
  float total_ = 0;
};

/// The hazes along one ray. Their even parts are known in pieces; what is uneven is tracked by
/// chance between local bounds (delta and ratio tracking, both unbiased). Sources: E. Woodcock et
/// al., ANL-7050, 1965; J.
/// Novak, A. Selle, W. Jarosz,
/// "Residual Ratio Tracking", SIGGRAPH Asia 2014. Lives on the stack of a path.
class HazeAlong {
 public:
  /// `hazes`: at most kMostHazes; `end` may be kFar.
  HazeAlong(const std::vector<Haze>& hazes, const Ray& ray, float end);

  /// Whether there is any before the end.
  bool any() const { return any_; }
  /// Whether some of it is uneven.
  bool uneven() const { return uneven_; }
  /// From the ray's origin to t in [0, end]. Of uneven haze by `points` points: nearly right, the
  /// same at each call.
  double optical_depth(float t, int points = 6) const;
  /// exp(-optical_depth(t)): what weighs ways of sampling against each other; exact without uneven
  /// haze.
  float likely_transmittance(float t) const;
  /// What is left of the light at t; with uneven haze an estimate whose mean is right.
  float transmittance(float t, Rng& random) const;
  /// A distance chosen by what is left of the light: density sigma_t(t) transmittance(t). kFar
  /// where none lies before the end.
  float sample(float u, Rng& random) const;
  HazeAt at(float t) const;

  /// What the hazes' glow adds on the way to the end, without uneven haze: calls add(haze,
  /// luminance).
  template <class Fn>
  void emission(const Fn& add) const {
    for (std::size_t k = 0; k < count_; ++k) {
      const Piece& p = pieces()[k];
      const float stop = k + 1 < count_ ? pieces()[k + 1].begin : end_;
      const double left = std::exp(-p.tau), length = stop - p.begin;
      const double along =
          p.sigma_t > 0 ? left * -std::expm1(-static_cast<double>(p.sigma_t) * length) / p.sigma_t
                        : 0;
      for (std::size_t i = 0; i < hazes_.size() && along > 0; ++i) {
        if ((p.inside >> i & 1U) != 0 && hazes_[i].emission > 0) {
          add(i, static_cast<float>(along * hazes_[i].emission));
        }
      }
    }
  }

 private:
  struct Piece {
    float begin, sigma_t;  ///< of what is even
    double tau;            ///< optical depth of that up to its beginning
    std::uint32_t inside, uneven;
  };
  const Piece* pieces() const { return more_.empty() ? pieces_.data() : more_.data(); }
  std::size_t piece(float t) const;
  double even_depth(float t) const;
  float uneven_sigma(const Piece& piece, const Vec3& p) const;
  // Visits stretches from 0 to `to` with a bound of the uneven extinction in each: f(begin, end,
  // bound, piece), true to stop.
  template <class Fn>
  void stretches(float to, const Fn& f) const;

  const std::vector<Haze>& hazes_;
  Ray ray_;
  float end_;
  bool any_ = false, uneven_ = false;
  std::size_t count_ = 0;
  static constexpr std::size_t kFew = 24;
  std::array<Piece, kFew> pieces_;  // NOLINT: filled up to count_
  std::vector<Piece> more_;         // instead, where there are more
};

}  // namespace jovilux
