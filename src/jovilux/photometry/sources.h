#pragma once

#include <optional>
#include <span>
#include <string_view>

#include "jovilux/base/vec.h"
#include "jovilux/photometry/beam.h"
#include "jovilux/units/quantity.h"
#include "jovilux/units/text.h"

namespace jovilux {

/// The forms of light.
enum class Form { kPoint, kSpot, kSphere, kDisk, kRect, kSun, kSky };
/// How a sky's luminance is spread: the same everywhere, or CIE's overcast sky L = Lz (1 + 2 sin(elevation)) / 3
/// (ISO 15469).
enum class SkyModel { kUniform, kOvercast };
std::string_view to_string(Form form);
std::optional<Form> parse_form(std::string_view text);
/// The names of all forms, for messages.
std::vector<std::string> form_names();

/// What of a light decides how lumens, candela and luminance belong together. Lengths in m, angles in rad.
struct SourceShape {
  Form form = Form::kPoint;
  double radius = 0;            ///< sphere, disk
  double width = 0, height = 0; ///< rect
  SpotBeam beam;                ///< spot
  double half_spread = 0;       ///< disk, rect: half of `spread`; 0 is an even (Lambert) surface
  double disc = 0;              ///< sun: angular diameter
  SkyModel sky = SkyModel::kUniform;
};

/// One light in all its units. What has no meaning for the form is empty.
struct SourceLevels {
  std::optional<Lumens> flux;
  std::optional<Candela> intensity;  ///< at its peak: any direction (point, sphere), along the axis
  std::optional<Nits> luminance;     ///< along the surface's normal; of the sun's disc; of the sky at the zenith
  std::optional<Lux> illuminance;    ///< sun: on a surface facing it; sky: on open level ground
};

/// The levels of a source whose output is given in any of its units, or why this form cannot take that unit:
/// the text names the units that it takes.
struct LevelsOrFault {
  std::optional<SourceLevels> levels;
  std::string fault;
};
LevelsOrFault source_levels(const SourceShape& shape, const Output& output);

/// The units that a form's `output` takes, for messages: "lm, cd, lx @ distance or W @ lm/W".
std::string output_units(Form form);

/// Illuminance on a surface facing the source, on its axis, at distance d > 0 from its center [m]; exact in the
/// near field. A sphere needs d > radius.
Lux illuminance_on_axis(const SourceShape& shape, const SourceLevels& levels, double d);

// Closed forms of luminous surfaces. L in cd/m2, lengths in m, P the lit point, n its unit normal; result in lx.

/// Disk on its axis: E = pi L r^2 / (r^2 + d^2).
double disk_illuminance_on_axis(double L, double radius, double d);
/// Rectangle of w x h on its axis: four corner rectangles, each
/// E = L/2 (a / sqrt(d^2 + a^2) atan(b / sqrt(d^2 + a^2)) + the same with a and b exchanged).
double rect_illuminance_on_axis(double L, double w, double h, double d);
/// Sphere, cut by the horizon where it sinks below it. Requires P outside.
/// Source: Hamilton and Morgan, NACA TN 2836, 1952.
double sphere_illuminance(double L, const Vec3d& center, double radius, const Vec3d& P, const Vec3d& n);
/// One-sided planar polygon, emitting towards the side from which its corners run counter-clockwise; cut at the
/// horizon of n. Lambert's formula E = L/2 sum of gamma_i (n . Gamma_i).
double polygon_illuminance(double L, std::span<const Vec3d> corners, const Vec3d& P, const Vec3d& n);
/// One-sided rectangle with half axes u and v (facing u x v) and one-sided disk; any place and orientation.
double rect_illuminance(double L, const Vec3d& center, const Vec3d& u, const Vec3d& v, const Vec3d& P, const Vec3d& n);
double disk_illuminance(double L, const Vec3d& center, const Vec3d& axis, double radius, const Vec3d& P, const Vec3d& n);

/// Luminance of a disc of angular diameter `disc` [rad] that gives E on a surface facing it: L = E / (pi sin^2(disc/2)).
Nits disc_luminance(Lux E, double disc);
/// Illuminance on open level ground per zenith luminance: pi, or 7 pi / 9 under the overcast sky [sr].
double sky_illuminance_per_luminance(SkyModel sky);
/// Whether the form lies at no distance: the sun and the sky.
constexpr bool is_distant(Form form) { return form == Form::kSun || form == Form::kSky; }

/// The lit share of a sun's disc behind a straight edge: u in [-1, 1] is the edge's place across the disc, in
/// radii; 1/2 + (u sqrt(1 - u^2) + asin u) / pi.
double disc_share_past_chord(double u);

}  // namespace jovilux
