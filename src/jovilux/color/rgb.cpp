#include "jovilux/color/rgb.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {

const Eigen::Matrix3d& rec709_from_xyz() {
  static const Eigen::Matrix3d kMatrix = xyz_from_rec709().inverse();
  return kMatrix;
}

const Eigen::Matrix3d& xyz_from_rec709() {
  static const Eigen::Matrix3d kMatrix = [] {
    // Primaries and white of ITU-R BT.709, as chromaticities.
    Eigen::Matrix3d p;
    p.col(0) = from_xy({0.64, 0.33});
    p.col(1) = from_xy({0.30, 0.60});
    p.col(2) = from_xy({0.15, 0.06});
    const Eigen::Vector3d scale = p.inverse() * from_xy({0.3127, 0.3290});
    return Eigen::Matrix3d(p * scale.asDiagonal());
  }();
  return kMatrix;
}

// IEC 61966-2-1, continued to negative values by symmetry: colors outside the gamut keep their
// sign.
double srgb_encoded(double linear) {
  const double v = std::abs(linear);
  return std::copysign(v <= 0.0031308 ? 12.92 * v : 1.055 * std::pow(v, 1 / 2.4) - 0.055, linear);
}

double srgb_decoded(double encoded) {
  const double v = std::abs(encoded);
  return std::copysign(v <= 0.04045 ? v / 12.92 : std::pow((v + 0.055) / 1.055, 2.4), encoded);
}

std::optional<Rgb> parse_hex_color(std::string_view text) {
  if (text.empty() || text[0] != '#' || (text.size() != 4 && text.size() != 7)) {
    return std::nullopt;
  }
  const std::size_t width = text.size() == 7 ? 2 : 1;
  Rgb out;
  for (std::size_t c = 0; c < 3; ++c) {
    int value = 0;
    for (std::size_t i = 0; i < width; ++i) {
      const char digit = text[1 + c * width + i];
      const int d = digit >= '0' && digit <= '9'   ? digit - '0'
                    : digit >= 'a' && digit <= 'f' ? digit - 'a' + 10
                    : digit >= 'A' && digit <= 'F' ? digit - 'A' + 10
                                                   : -1;
      if (d < 0) {
        return std::nullopt;
      }
      value = value * 16 + d;
    }
    out[static_cast<int>(c)] = srgb_decoded((width == 2 ? value : value * 17) / 255.0);
  }
  return out;
}

std::string hex_color(const Rgb& linear) {
  const auto byte = [](double v) {
    return static_cast<int>(std::lround(255 * srgb_encoded(std::clamp(v, 0.0, 1.0))));
  };
  return fmt::format("#{:02x}{:02x}{:02x}", byte(linear[0]), byte(linear[1]), byte(linear[2]));
}

// Bradford's cone responses (K. Lam, 1985), as ICC profiles use them.
Eigen::Matrix3d adaptation(const Xyz& from_white, const Xyz& to_white) {
  Eigen::Matrix3d cones;
  cones << 0.8951, 0.2664, -0.1614, -0.7502, 1.7135, 0.0367, 0.0389, -0.0685, 1.0296;
  const Eigen::Vector3d from = cones * from_white, to = cones * to_white;
  return cones.inverse() * to.cwiseQuotient(from).asDiagonal() * cones;
}

}  // namespace jovilux
