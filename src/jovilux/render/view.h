#pragma once

#include "jovilux/color/rgb.h"
#include "jovilux/render/film.h"
#include "jovilux/rig/rig.h"

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace jovilux {

/// From absolute luminance to a viewable picture.
///
///     x = 0.18 L / luminance_at(ev), adapted to the white balance, through the curve, as sRGB
///
///     linear  y = x, white at x = 1
///     film    y = x up to 0.4, then 1 - 0.6 ((4 - x) / 3.6)^6, white at x = 4: a soft shoulder
///     without a corner
///
/// Or x through a studio's own transform instead, whose values are what the display is sent.
class View {
 public:
  View(const LookSpec& look, double ev);

  double ev() const { return ev_; }
  /// The white that a look of "auto" was given; nothing for other looks.
  const std::optional<White>& found_white() const { return found_white_; }
  /// The display value in front of the curve, per cd/m2.
  double scale() const { return scale_; }
  /// Linear Rec.709 adapted to the white balance.
  const Eigen::Matrix3d& balance() const { return balance_; }
  /// The luminance that is shown as white [cd/m2].
  double white_luminance() const { return white_ / scale_; }
  /// The studio's transform; null: the look's curve.
  const std::shared_ptr<const StudioTransform>& studio() const { return studio_; }
  /// Linear display values in [0, 1] of absolute linear RGB.
  Rgb display(const Rgb& absolute) const;
  /// Absolute linear RGB of linear display values; nothing where a channel is shown at its highest
  /// value, which many luminances are, or where a studio's transform has no inverse.
  std::optional<Rgb> absolute(const Rgb& display) const;
  std::array<std::uint8_t, 3> srgb8(const Rgb& absolute) const;
  /// Whether a channel is shown at its highest value.
  bool clips(const Rgb& absolute) const;

 private:
  double ev_, scale_;
  Eigen::Matrix3d balance_ = Eigen::Matrix3d::Identity();
  double white_;  // in front of the curve
  LookSpec::Curve curve_;
  std::shared_ptr<const StudioTransform> studio_;
  std::optional<White> found_white_;
};

/// The film curve and its end.
double film_curve(double x);
/// The value in front of the curve, of a display value in [0, 1).
double film_curve_undone(double y);
inline constexpr double kFilmWhite = 4;
inline constexpr double kAutoClipped = 0.02;

/// The EV100 that a look asks for. `auto` exposes the geometric mean of the middle nine tenths of
/// the lit pixels as 18 % gray, or darker, so that at most kAutoClipped of the lit surfaces and
/// haze are white: bright lamps in the picture do not count.
double look_ev(const LookSpec& look, const CameraSpec& camera, const Film& film);

/// The white of the light on what is seen: of each pixel its color over its albedo, which is the
/// color of the light that fell there, weighed by its luminance up to the 95th percentile; the
/// nearest Planckian white. Nothing where no lit surface is seen, or where the color is no white
/// (|Duv| > 0.05).
std::optional<White> metered_white(const Film& film);

/// How a look shows a picture, with what `auto` finds in it.
View look_view(const LookSpec& look, const CameraSpec& camera, const Film& film);

}  // namespace jovilux
