#pragma once

#include "jovilux/color/chromaticity.h"

#include <Eigen/Core>
#include <array>
#include <optional>
#include <string>
#include <string_view>

namespace jovilux {

/// Linear Rec.709 primaries, D65 white; a luminance of 1 for (1, 1, 1).
using Rgb = Eigen::Vector3d;

/// The luminances of the primaries of Rec.709 (ITU-R BT.709-6), from their chromaticities and D65.
inline constexpr std::array<double, 3> kLuminances = {0.21263901, 0.71516868, 0.07219232};

/// The luminance of a linear RGB, (1, 1, 1) having 1.
inline double luminance_of(const Rgb& rgb) {
  return kLuminances[0] * rgb[0] + kLuminances[1] * rgb[1] + kLuminances[2] * rgb[2];
}
inline float luminance_of(const Eigen::Array3f& rgb) {
  return static_cast<float>(kLuminances[0]) * rgb[0] + static_cast<float>(kLuminances[1]) * rgb[1] +
         static_cast<float>(kLuminances[2]) * rgb[2];
}
/// The same of three numbers in a row.
inline double luminance_of(const float* rgb) { return luminance_of(Rgb(rgb[0], rgb[1], rgb[2])); }

/// IEC 61966-2-1 primaries; the inverse of each other.
const Eigen::Matrix3d& rec709_from_xyz();
const Eigen::Matrix3d& xyz_from_rec709();

/// The sRGB transfer function and its inverse (IEC 61966-2-1); odd, so that negative values
/// survive.
double srgb_encoded(double linear);
double srgb_decoded(double encoded);

/// Reads "#rrggbb" or "#rgb" (sRGB) as linear RGB; nothing for another text.
std::optional<Rgb> parse_hex_color(std::string_view text);
/// "#rrggbb" of a linear color clamped to [0, 1].
std::string hex_color(const Rgb& linear);

/// Chromatic adaptation of XYZ from one white to another: Bradford's cone responses scaled by von
/// Kries' rule.
/// Source: ICC.1:2010, annex E.
Eigen::Matrix3d adaptation(const Xyz& from_white, const Xyz& to_white);

}  // namespace jovilux
