#pragma once

#include "jovilux/base/vec.h"

#include <string_view>
#include <vector>

namespace jovilux {

/// How the two angles of a photometric table point (ANSI/IES LM-63; CIE 121). In the luminaire's
/// frame z is the way it shines (type C: the nadir, gamma = 0) and x is the plane C = 0 (types A,
/// B: to its right; y up):
///
///     C    x = sin ver cos hor   y = sin ver sin hor   z = cos ver           hor = C, ver = gamma
///     B    x = sin hor           y = cos hor sin ver   z = cos hor cos ver
///     A    x = sin hor cos ver   y = sin ver           z = cos hor cos ver
enum class PhotometricType { kC, kB, kA };
std::string_view to_string(PhotometricType type);

/// What a table leaves out because it repeats. For types A and B: kNone, or kQuadrant where both
/// angles start at 0, or kBilateral where the horizontal ones do.
enum class PhotometricSymmetry { kRotational, kQuadrant, kBilateral, kBilateral90, kNone };
std::string_view to_string(PhotometricSymmetry symmetry);

/// Measured luminous intensities as a file lists them.
///
///     candela[h * ver_rad.size() + v]   [cd], >= 0: h over horizontal angles, v over vertical ones
///     hor_rad   strictly increasing, at least 1; ver_rad strictly increasing, at least 2
///
/// Type C covers, by its symmetry: {0}, [0, pi/2], [0, pi], [pi/2, 3 pi/2], or [0, 2 pi) (a plane
/// at 2 pi may close it).
struct CandelaGrid {
  PhotometricType type = PhotometricType::kC;
  PhotometricSymmetry symmetry = PhotometricSymmetry::kRotational;
  std::vector<double> hor_rad, ver_rad, candela;

  double at(std::size_t h, std::size_t v) const { return candela[h * ver_rad.size() + v]; }
};

/// A luminous intensity distribution: a table made whole by its symmetry and interpolated by
/// monotone cubics in both angles, so that it passes through each value, has no kinks and no
/// overshoot. 0 outside the measured angles. Immutable.
class LuminousDistribution {
 public:
  explicit LuminousDistribution(const CandelaGrid& grid);

  /// Intensity [cd] in the unit direction `local` of the luminaire's frame.
  float intensity(const Vec3& local) const;

  double peak() const { return peak_; }        ///< [cd], the largest value of the table
  double on_axis() const { return on_axis_; }  ///< [cd], along +z
  /// [lm], of the interpolated distribution: 10-point Gauss-Legendre quadrature in each cell of the
  /// table.
  double flux() const { return flux_; }
  double flux_in_front() const { return flux_in_front_; }  ///< [lm], of directions with z > 0

  /// The angle from +z [rad], in the half plane C, beyond which the intensity stays below `level`
  /// [cd]; linear between
  /// the values of the table; 0 where none reaches it.
  double outermost_angle(double c_rad, double level) const;
  /// Full angle to `share` of the peak across the axis, in the plane of C and C + pi [rad].
  double full_angle(double c_rad, double share) const {
    return outermost_angle(c_rad, share * peak_) + outermost_angle(c_rad + kPiD, share * peak_);
  }

 private:
  float along(std::size_t h, std::size_t v, float t) const;
  float interpolated(float hor, float ver) const;
  double flux_of(const CandelaGrid& g, bool in_front) const;
  double flux_along(const CandelaGrid& g, double hor, bool in_front) const;

  PhotometricType type_;
  bool rotational_, periodic_;
  std::vector<float> hor_, ver_;      // whole
  std::vector<float> value_, slope_;  // [hor][ver]; slope over ver
  double peak_ = 0, on_axis_ = 0, flux_ = 0, flux_in_front_ = 0;
};

/// The angle at which a table, linear between its values, falls below `level` for good; increasing
/// angles.
double outermost_crossing(const std::vector<double>& angles,
                          const std::vector<double>& values,
                          double level);

}  // namespace jovilux
