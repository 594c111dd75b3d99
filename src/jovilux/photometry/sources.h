#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/photometry/beam.h"
#include "jovilux/photometry/distribution.h"
#include "jovilux/photometry/sky.h"
#include "jovilux/units/quantity.h"
#include "jovilux/units/text.h"

#include <memory>
#include <optional>
#include <span>
#include <string_view>

namespace jovilux {

/// The forms of light.
enum class LightKind { kPoint, kSpot, kSphere, kDisk, kRect, kTube, kObject, kSun, kSky, kDome };
std::string_view to_string(LightKind kind);
std::optional<LightKind> parse_light_kind(std::string_view text);
/// The names of all forms, for messages.
std::vector<std::string> light_kind_names();

/// What of a light decides how lumens, candela and luminance belong together. Lengths in m, angles
/// in rad.
struct SourceShape {
  LightKind kind = LightKind::kPoint;
  /// Sphere, disk, tube (0: an ideal line), lens of a spot (0: a point).
  double radius = 0;
  double width = 0, height = 0;  ///< rect
  double length = 0;             ///< tube
  bool endless = false;          ///< tube
  bool two_sided = false;        ///< disk, rect, object
  double hot_center = 0;         ///< disk, rect, sphere: see hot_center_weighting
  SpotBeam beam;                 ///< spot
  double half_spread = 0;        ///< disk, rect: half of `spread`; 0 is an even (Lambert) surface
  double angular_diameter = 0;   ///< sun: angular diameter
  SkyShape sky;                  ///< sky
  double area = 0;               ///< object [m2], once it is known
  /// Dome: lx on open level ground as its image stands, once it is known.
  double dome_illuminance = 0;
  /// Point, spot, sphere, disk, rect; instead of their own.
  std::shared_ptr<const LuminousDistribution> profile;

  /// Whether its intensity by direction is given and its luminance follows: a profile, or a spot's
  /// beam.
  bool by_intensity() const { return profile != nullptr || kind == LightKind::kSpot; }
  /// Whether it has no surface that could be seen.
  bool is_zero_size() const {
    return kind == LightKind::kPoint ||
           ((kind == LightKind::kSpot || kind == LightKind::kTube) && radius == 0);
  }
};

/// Luminance over its mean at a place of a surface with a hot center w >= 0: q = (x / half width, y
/// / half height) on a rect, (rho / radius, 0) on a disk, and on a sphere rho as the distance from
/// the middle of the disc that it shows.
///
///     disk, sphere  (w + 1) (1 - rho^2)^w
///     rect          k^2 (1 - x^2)^w (1 - y^2)^w,   1/k = integral of (1 - x^2)^w over [0, 1]
double hot_center_weighting(LightKind kind, double w, double qx, double qy);

/// One light in all its units. What has no meaning for the kind is empty.
struct SourceLevels {
  std::optional<Lumens> flux;
  std::optional<Candela> intensity;  ///< at its peak: any direction (point, sphere), along the axis
  /// Along the surface's normal; of the sun's disc; of the sky at the zenith.
  std::optional<Nits> luminance;
  /// Sun: on a surface facing it; sky, dome: on open level ground.
  std::optional<Lux> illuminance;
  bool per_meter = false;  ///< an endless tube's: lm/m
  double dome_factor = 0;  ///< dome: cd/m2 of a pixel that holds 1
};

/// The levels of a source whose output is given in any of its units, or why this kind cannot take
/// that unit:
/// the text names the units that it takes.
struct LevelsOrFault {
  std::optional<SourceLevels> levels;
  std::string fault;
};
LevelsOrFault source_levels(const SourceShape& shape, const Output& output);

/// The units that a kind's `output` takes, for messages: "lm, cd, lx @ distance or W @ lm/W".
std::string output_units(LightKind kind);

/// Illuminance on a surface facing the source, on its axis, at distance d > 0 from its center [m];
/// exact in the near field. A sphere needs d > radius.
Lux illuminance_on_axis(const SourceShape& shape, const SourceLevels& levels, double d);

// Closed forms of luminous surfaces. L in cd/m2, lengths in m, P the lit point, n its unit normal;
// result in lx.

/// Tube from A to B with its ends dark, anywhere; `radius` 0 is a line with luminance * diameter =
/// `L_or_line` [cd/m], else it is the luminance. Exact along the tube, by quadrature around it
/// (1e-7); 0 inside the tube.
/// Source: P. Moon, "The Scientific Basis of Illuminating Engineering", 1936 (the line).
double tube_illuminance(double L_or_line,
                        const Vec3d& A,
                        const Vec3d& B,
                        double radius,
                        const Vec3d& P,
                        const Vec3d& n);
/// Endless tube or line of `flux_per_meter` [lm/m] at distance d, on a surface facing it: E = Phi'
/// / (2 pi d).
double endless_tube_illuminance(double flux_per_meter, double d);
/// Disk on its axis: E = pi L r^2 / (r^2 + d^2).
double disk_illuminance_on_axis(double L, double radius, double d);
/// Rectangle of w x h on its axis: four corner rectangles, each
/// E = L/2 (a / sqrt(d^2 + a^2) atan(b / sqrt(d^2 + a^2)) + the same with a and b exchanged).
double rect_illuminance_on_axis(double L, double w, double h, double d);
/// Sphere, cut by the horizon where it sinks below it. Requires P outside.
/// Source: Hamilton and Morgan, NACA TN 2836, 1952.
double sphere_illuminance(
    double L, const Vec3d& center, double radius, const Vec3d& P, const Vec3d& n);
/// One-sided planar polygon, emitting towards the side from which its corners run
/// counter-clockwise; cut at the horizon of n. Lambert's formula E = L/2 sum of gamma_i (n .
/// Gamma_i).
double polygon_illuminance(double L,
                           std::span<const Vec3d> corners,
                           const Vec3d& P,
                           const Vec3d& n);
/// One-sided rectangle with half axes u and v (facing u x v) and one-sided disk; any place and
/// orientation.
double rect_illuminance(
    double L, const Vec3d& center, const Vec3d& u, const Vec3d& v, const Vec3d& P, const Vec3d& n);
double disk_illuminance(double L,
                        const Vec3d& center,
                        const Vec3d& axis,
                        double radius,
                        const Vec3d& P,
                        const Vec3d& n);

/// Luminance of a disc of angular diameter `disc` [rad] that gives E on a surface facing it: L = E
/// / (pi sin^2(disc/2)).
Nits disc_luminance(Lux E, double disc);
/// Whether the kind lies at no distance: sun, sky and dome.
constexpr bool is_distant(LightKind kind) {
  return kind == LightKind::kSun || kind == LightKind::kSky || kind == LightKind::kDome;
}

/// The lit share of a sun's disc behind a straight edge: u in [-1, 1] is the edge's place across
/// the disc, in radii; 1/2 + (u sqrt(1 - u^2) + asin u) / pi.
double disc_share_past_chord(double u);

}  // namespace jovilux
