#pragma once

#include "jovilux/base/vec.h"

#include <array>

namespace jovilux {

// The GGX (Trowbridge-Reitz) distribution of microfacets with height-correlated Smith shadowing.
// Directions are unit vectors in the surface's frame (z its normal); alpha > 0 is the width of the
// distribution.
// Sources: B. Walter et al., EGSR 2007; E. Heitz, "Understanding the Masking-Shadowing Function",
// JCGT 3(2), 2014.

/// Density of microfacet normals D(h), h.z > 0 [1/sr]: its projection integral D(h) h.z over the
/// hemisphere is 1.
float ggx_distribution(const Vec3& h, float alpha);
/// Smith's Lambda(w): masking is 1 / (1 + Lambda).
float ggx_lambda(const Vec3& w, float alpha);
/// Joint visibility 1 / (1 + Lambda(wo) + Lambda(wi)).
float ggx_visibility(const Vec3& wo, const Vec3& wi, float alpha);
/// A microfacet normal visible from wo (wo.z > 0), by u in [0, 1)^2.
/// Source: J. Dupuy, A. Benyoub, "Sampling Visible GGX Normals with Spherical Caps", CGF 42(8),
/// 2023.
Vec3 sample_ggx_normal(const Vec3& wo, float alpha, const Vec2& u);
/// Density over solid angle of the direction that reflects wo at a sampled normal [1/sr].
float ggx_reflection_pdf(const Vec3& wo, const Vec3& h, float alpha);

/// Reflectance of unpolarized light at a smooth dielectric of relative index eta (inside over
/// outside), cos_i in [0, 1]: Fresnel's equations; 1 on total reflection.
float fresnel_dielectric(float cos_i, float eta);

/// Reflectance of unpolarized light at a smooth conductor of relative index n + i k, cos_i in [0,
/// 1]: Fresnel's equations.
double fresnel_conductor(double cos_i, double n, double k);

/// Microfacets of a dielectric of relative index eta (the far side's over the near side's), which
/// reflect and refract. f is of flux: what refraction does to radiance, 1 / eta^2, is not in it.
/// wi.z < 0 lies on the far side.
/// Source: B. Walter et al., EGSR 2007.
float ggx_dielectric(const Vec3& wo, const Vec3& wi, float alpha, float eta);
/// Density over solid angle of a direction by visible normals and Fresnel's reflectance.
float ggx_dielectric_pdf(const Vec3& wo, const Vec3& wi, float alpha, float eta);
/// A direction chosen so; zero where there is none.
Vec3 sample_ggx_dielectric(const Vec3& wo, float alpha, float eta, const Vec2& u, float choice);

/// Directional albedo over the cosine of the direction, tabulated: the share of light from a
/// direction that a lobe reflects. Linear between kSize places, which crowd towards grazing.
class AlbedoTable {
 public:
  static constexpr int kSize = 64;
  /// fresnel_eta <= 0: a perfect mirror's microfacets (F = 1); alpha 0: a smooth surface.
  AlbedoTable(float alpha, float fresnel_eta);
  AlbedoTable() = default;
  /// Of a dielectric's microfacets, what they reflect and let through together.
  static AlbedoTable of_dielectric(float alpha, float eta);

  float at(float cosine) const {
    const float x = std::sqrt(std::max(0.0f, cosine)) * (kSize - 1);
    const int i = std::min(static_cast<int>(x), kSize - 2);
    const float t = x - static_cast<float>(i);
    return (1 - t) * value_[static_cast<std::size_t>(i)] +
           t * value_[static_cast<std::size_t>(i) + 1];
  }
  /// The mean over the hemisphere, integral of 2 at(c) c dc, consistent with at().
  float average() const { return average_; }

 private:
  template <class Fn>
  void fill(const Fn& of_cosine);

  std::array<float, kSize> value_{};
  float average_ = 0;
};

/// Directional albedo of the single-scattering lobe by quadrature over n x n visible normals. eta
/// <= 0: F = 1.
double ggx_directional_albedo(double alpha, double cosine, double eta, int n);

}  // namespace jovilux
