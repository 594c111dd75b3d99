#pragma once

#include <cstdint>
#include <vector>

#include "jovilux/base/vec.h"
#include "jovilux/color/nodes.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/photometry/falloff.h"
#include "jovilux/photometry/sources.h"

namespace jovilux {

/// A light made ready for rays. Plain data, immutable, shared by all threads. SI and photometric units.
struct Emitter {
  Form form = Form::kPoint;
  Vec3 center = Vec3::Zero();
  Frame frame{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};  ///< z is the axis: the way it shines (sun, sky: downwards)
  float radius = 0;                   ///< sphere, disk [m]
  float half_width = 0, half_height = 0;  ///< rect [m]
  float half_spread = 0;              ///< disk, rect [rad]; 0 is Lambert
  float half_beam = 0, beam_exponent = 0;  ///< spot [rad], see SpotBeam
  float cos_beam = 1, cos_field = 1;  ///< spot: cosines of half of beam and field, for choosing among lights
  float sin2_disc = 0;                ///< sun: sin^2 of half of its angular diameter
  SkyModel sky = SkyModel::kUniform;
  float luminance = 0;                ///< along the normal, at the zenith [cd/m2]; dimmed
  float intensity = 0;                ///< point, spot: at the peak [cd]; dimmed
  LightTable table = LightTable::Zero();
  Falloff falloff;
  std::uint32_t layer = kNoIndex;        ///< where in the film its light is kept

  bool is_zero_size() const { return form == Form::kPoint || form == Form::kSpot; }
  bool is_distant() const { return jovilux::is_distant(form); }
  bool shines() const { return luminance > 0 || intensity > 0; }
  float area() const { return form == Form::kRect ? 4 * half_width * half_height : kPi * radius * radius; }
};

/// A place on a light, chosen to be seen from a point p.
struct LightSample {
  Vec3 wi = Vec3::Zero();  ///< unit, from p towards the light
  float distance = 0;      ///< from p to the place [m]; kFar for distant lights
  float weight = 0;        ///< L w / pdf, or I w / d^2 of a light without size [lx]; 0: nothing arrives
  float pdf = 0;           ///< over solid angle [1/sr]; 0 for lights without size, which nothing else can find
};

/// Chooses a place by u in [0, 1)^2: spheres and suns evenly over the solid angle they fill, skies by their
/// luminance, rectangles as spherical
/// rectangles (evenly over their area where they look small), disks evenly over their area.
/// Source for rectangles: C. Urena, M. Fajardo, A. King, "An Area-Preserving Parametrization for Spherical
/// Rectangles", CGF 32(4), 2013.
LightSample sample_toward(const Emitter& e, const Vec3& p, const Vec2& u);

/// Density with which sample_toward(e, p, .) chooses the unit direction wi [1/sr], for a wi that meets the light.
float light_pdf(const Emitter& e, const Vec3& p, const Vec3& wi);

/// Luminance of the light's surface seen along the unit direction `along` (from the eye to the light) [cd/m2], without
/// falloff; 0 from behind.
float seen_luminance(const Emitter& e, const Vec3& along);

/// Whether a distant light fills the unit direction `along` (away from the eye).
bool covers(const Emitter& e, const Vec3& along);

/// The falloff factor for light that arrives at p.
float falloff_at(const Emitter& e, const Vec3& p);

/// An estimate of the illuminance that the light could bring to p [lx], for choosing among lights: above 0 wherever
/// the light may contribute to the upper side of a surface with unit normal n, 0 where it surely does not.
float expected_illuminance(const Emitter& e, const Vec3& p, const Vec3& n);

/// A light chosen among many in proportion to expected_illuminance.
struct LightChoice {
  std::uint32_t index = kNoIndex;  ///< kNoIndex: no light reaches p
  float chance = 0;
  float total = 0;  ///< sum of all expectations at p, from which chance_of follows
};
LightChoice choose_light(const std::vector<Emitter>& lights, const Vec3& p, const Vec3& n, float u);

}  // namespace jovilux
