#pragma once

#include <array>
#include <cstdint>
#include <vector>

#include "jovilux/base/vec.h"
#include "jovilux/color/nodes.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/transform.h"

namespace jovilux {

/// Henyey and Greenstein's phase function over the cosine between the directions of travel before and after [1/sr]:
///
///     (1 - g^2) / (4 pi (1 + g^2 - 2 g cos)^1.5),   g in (-1, 1) the mean cosine
///
/// Source: L. Henyey, J. Greenstein, "Diffuse Radiation in the Galaxy", Astrophysical Journal 93, 1941.
float henyey_greenstein(float cosine, float g);
/// A cosine chosen in proportion to it; u in [0, 1).
float sample_henyey_greenstein(float g, float u);

/// Extinction [1/m] of a meteorological visibility [m]: -ln(0.05) / V, a contrast of 5 %. Source: Koschmieder; WMO.
double extinction_of_visibility(double visibility);

/// Even haze, everywhere or inside a closed shape. What overlaps adds up.
struct Haze {
  float sigma_t = 0;                      ///< extinction [1/m]
  Spectrum albedo = Spectrum::Ones();     ///< scattered share of what is extinguished
  float g = 0;                            ///< mean cosine of scattering
  bool everywhere = true;
  Shape shape;
  Transform to_local;
};

inline constexpr std::size_t kMostHazes = 16;

/// The hazes along one ray: extinction in pieces, each even. Lives on the stack of a path.
class HazeAlong {
 public:
  /// `hazes`: at most kMostHazes; `end` may be kFar.
  HazeAlong(const std::vector<Haze>& hazes, const Ray& ray, float end);

  /// Whether there is any before the end.
  bool any() const { return any_; }
  /// From the ray's origin to t in [0, end].
  double optical_depth(float t) const;
  /// exp(-optical_depth(t)).
  float transmittance(float t) const;
  /// A distance chosen by what is left of the light: density sigma_t(t) transmittance(t). At or beyond the end: none.
  float sample(float u) const;
  float pdf(float t) const { return sigma_t(t) * transmittance(t); }
  float sigma_t(float t) const { return pieces_[piece(t)].sigma_t; }

  /// Scattering at t towards a direction with this cosine to the ray: sum of sigma_s p(cos) over the hazes there [1/(m sr)].
  Spectrum scattering(float t, float cosine) const;
  /// Density with which sample_phase chooses a direction of this cosine [1/sr].
  float phase_pdf(float t, float cosine) const;
  float sample_phase(float t, const Vec2& u, Vec3& wi) const;  ///< returns its density

 private:
  struct Piece {
    float begin, sigma_t;
    double tau;  ///< optical depth up to its beginning
    std::uint32_t inside;
  };
  std::size_t piece(float t) const;

  const std::vector<Haze>& hazes_;
  Vec3 direction_;
  float end_;
  bool any_ = false;
  std::size_t count_ = 0;
  std::array<Piece, 4 * kMostHazes + 2> pieces_;  // NOLINT: filled up to count_
};

}  // namespace jovilux
