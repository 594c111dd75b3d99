#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/color/nodes.h"
#include "jovilux/optics/microfacet.h"

#include <cstdint>

namespace jovilux {

/// What a surface does to light. All but glass look the same from both sides.
enum class SurfaceKind : std::uint8_t { kDiffuse, kMetal, kGloss, kGlass, kTranslucent };

/// A material made ready for rays. Made by the functions below; immutable and shared.
struct SurfaceModel {
  SurfaceKind kind = SurfaceKind::kDiffuse;
  /// Diffuse: albedo; metal: normal reflectance; gloss: albedo under the coat.
  Spectrum color = Spectrum::Constant(0.5f);
  /// Gloss: transmittance of the coat, in and out along the normal.
  Spectrum coat = Spectrum::Ones();
  float roughness = 0;  ///< diffuse: 0 Lambert .. 1
  float alpha = 0;      ///< metal, gloss, glass: width of GGX; 0 is smooth
  float eta = 1.5f;     ///< gloss: index of the coat; glass: its own
  bool thin = false;    ///< glass: a pane, which light passes straight
  /// Sheet: albedo of what it lets through; pane: its tint.
  Spectrum transmittance = Spectrum::Zero();
  Spectrum absorption = Spectrum::Zero();  ///< glass [1/m]
  bool by_index = false;                   ///< metal: reflects by Fresnel's equations with
  Spectrum n = Spectrum::Ones(), k = Spectrum::Zero();  ///< this index n + i k
  /// Metal: GGX with F = 1; gloss: GGX with the coat's Fresnel factor; rough glass:
  AlbedoTable lobe;
  ///< what its microfacets reflect and let through, from outside
  AlbedoTable inner;  ///< rough glass: the same from inside
  // Derived, so that a scattering costs no more than it must.
  Spectrum compensation = Spectrum::Zero();  ///< metal: color of light scattered between facets
  float base_scale = 0;                      ///< gloss: 1 / (pi (1 - average lobe))
  /// Rough glass: share of the light scattered between facets that passes, in and out.
  float onward = 0, outward = 0;

  bool has_mirror_part() const { return kind != SurfaceKind::kDiffuse && alpha == 0; }
  /// Whether light sampled toward gives nothing: all of what it does has one direction.
  bool only_mirror() const {
    return (kind == SurfaceKind::kMetal || kind == SurfaceKind::kGlass) && alpha == 0;
  }
  bool is_pane() const { return kind == SurfaceKind::kGlass && thin; }
  /// Whether light from behind reaches the eye by other than one direction.
  bool scatters_through() const {
    return kind == SurfaceKind::kTranslucent || (kind == SurfaceKind::kGlass && alpha > 0);
  }
  bool lets_through() const {
    return kind == SurfaceKind::kGlass || kind == SurfaceKind::kTranslucent;
  }
};

/// Perceived roughness in 0..1 to GGX width: its square; below 0.01 a mirror.
float ggx_alpha(float roughness);

SurfaceModel diffuse_surface(const Spectrum& albedo, float roughness);
SurfaceModel metal(const Spectrum& normal_reflectance, float roughness);
/// A metal of complex index n + i k against air.
SurfaceModel metal_of_index(const Spectrum& n, const Spectrum& k, float roughness);
SurfaceModel gloss(const Spectrum& albedo, const Spectrum& coat, float ior, float roughness);

/// Glass; `absorption` in 1/m. What is scattered more than once between the facets of rough glass
/// is added back.
SurfaceModel glass(float ior, const Spectrum& absorption, float roughness = 0);
/// A pane of smooth glass: what passes it goes straight on, times `tint`.
SurfaceModel pane(float ior, const Spectrum& tint);
/// A thin sheet that scatters evenly to both sides (Lambert): `reflected` back, `through` to the
/// other side; their sum is at most 1.
SurfaceModel translucent_surface(const Spectrum& reflected, const Spectrum& through);

/// The same surface with another color, as a picture gives it: of sheets, what is reflected and let
/// through.
SurfaceModel recolored(const SurfaceModel& s, const Spectrum& color, const Spectrum& through);

/// What a pane reflects and lets through, all passages between its sides counted: R = 2 r / (1 +
/// r), T = 1 - R, with r Fresnel's reflectance of one side.
float pane_reflectance(const SurfaceModel& s, float cos_o);

// All directions below are unit vectors in the shading frame, away from the surface; wo on its
// upper side (wo.z > 0). A light below the surface gives something through sheets and rough glass
// only. `inside`: glass, wo lies on its inner side;
// refraction scales radiance by (n_o / n_i)^2, which is part of what the functions below give.

/// The reflection distribution f(wo, wi) [1/sr], without a mirror part; reciprocal.
Spectrum reflection(const SurfaceModel& s, const Vec3& wo, const Vec3& wi, bool inside = false);
/// Its two parts: what the body reflects in all directions, and what its smooth outside does;
/// without a mirror part.
struct Lobes {
  Spectrum diffuse = Spectrum::Zero(), gloss = Spectrum::Zero();
};
Lobes reflection_lobes(const SurfaceModel& s, const Vec3& wo, const Vec3& wi, bool inside = false);
/// Density over solid angle with which scatter() chooses wi, without a mirror part.
float reflection_pdf(const SurfaceModel& s, const Vec3& wo, const Vec3& wi, bool inside = false);

/// Density over solid angle of the directions that scatter() chooses for a lobe_choice of 0: of the
/// gloss of metals and coats that are no mirrors (alpha > 0), without their bodies.
float gloss_pdf(const SurfaceModel& s, const Vec3& wo, const Vec3& wi);

/// A direction chosen in proportion to what the surface does.
struct Scattering {
  Vec3 wi = Vec3::Zero();
  /// F cos / pdf, of a mirror part its reflectance over its chance.
  Spectrum weight = Spectrum::Zero();
  float pdf = 0;  ///< [1/sr]; 0: nothing was chosen
  /// Wi is the one direction of a mirror part; pdf is then its chance.
  bool mirror = false;
};
Scattering scatter(
    const SurfaceModel& s, const Vec3& wo, const Vec2& u, float lobe_choice, bool inside = false);

/// A direction above the xy plane, density cos / pi, by u in [0, 1)^2.
Vec3 cosine_direction(const Vec2& u);

/// Share of light from wo that is reflected (all lobes), as rendered in the albedo layer.
Spectrum albedo(const SurfaceModel& s, float cos_o);

}  // namespace jovilux
