#include "jovilux/optics/surface.h"

#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

constexpr float kInvPi = 1 / kPi;

// Rough diffuse: Oren-Nayar's single scattering in Fujii's form, and what is scattered between
// facets added back.
// Source: J. Portsmouth, P. Kutz, S. Hill, "EON: A Practical Energy-Preserving Rough Diffuse BRDF",
// JCGT 14(1), 2025.
float matte_single_scale(float r) { return 1 / (1 + (0.5f - 2 * kInvPi / 3) * r); }

float matte_single_albedo(float cosine, float r) {
  const float c = std::clamp(cosine, 1e-4f, 1.0f);
  const float s = std::sqrt(1 - c * c), theta = std::acos(c);
  const float g = s * (theta - s * c) + 2.0f / 3.0f * (s / c * (1 - s * s * s) - s);
  return matte_single_scale(r) * (1 + r * kInvPi * g);
}

Spectrum matte_reflection(const SurfaceModel& m, const Vec3& wo, const Vec3& wi) {
  if (m.roughness == 0) {
    return m.color * kInvPi;
  }
  const float r = m.roughness, scale = matte_single_scale(r);
  const float s = wo.dot(wi) - wo.z() * wi.z();
  const float s_over_t = s > 0 ? s / std::max(wo.z(), wi.z()) : s;
  const float average = scale * (1 + (2.0f / 3.0f - 28 * kInvPi / 15) * r);
  const Spectrum multiple = m.color.square() * average / (1.0f - m.color * (1 - average));
  const float between = std::max(0.0f, 1 - matte_single_albedo(wo.z(), r)) *
                        std::max(0.0f, 1 - matte_single_albedo(wi.z(), r)) /
                        std::max(1e-7f, 1 - average);
  return kInvPi * (m.color * (scale * (1 + r * s_over_t)) + multiple * between);
}

// Conductor's reflectance from that along the normal. Source: C. Schlick, CGF 13(3), 1994.
Spectrum schlick(const Spectrum& normal, float cosine) {
  const float k = 1 - std::clamp(cosine, 0.0f, 1.0f);
  return normal + (1.0f - normal) * (k * k * k * k * k);
}

// The same by a metal's index, at each node.
Spectrum conductor(const SurfaceModel& m, float cosine) {
  if (!m.by_index) {
    return schlick(m.color, cosine);
  }
  const float c = std::clamp(cosine, 0.0f, 1.0f), c2 = c * c, s2 = 1 - c2;
  const Spectrum n2 = m.n * m.n, k2 = m.k * m.k, t0 = n2 - k2 - s2,
                 ab = (t0 * t0 + 4 * n2 * k2).sqrt();
  const Spectrum a = (0.5f * (ab + t0)).max(0.0f).sqrt(), t1 = ab + c2, t2 = 2 * c * a,
                 rs = (t1 - t2) / (t1 + t2);
  const Spectrum t3 = c2 * ab + s2 * s2, t4 = t2 * s2;
  return 0.5f * (rs + rs * (t3 - t4) / (t3 + t4));
}

Spectrum metal_reflection(const SurfaceModel& m, const Vec3& wo, const Vec3& wi) {
  const Vec3 h = (wo + wi).normalized();
  const float single =
      ggx_distribution(h, m.alpha) * ggx_visibility(wo, wi, m.alpha) / (4 * wo.z() * wi.z());
  // Light scattered between facets. Source: C. Kulla, A. Conty, SIGGRAPH course "Physically Based
  // Shading", 2017.
  const float between = (1 - m.lobe.at(wo.z())) * (1 - m.lobe.at(wi.z()));
  return conductor(m, wo.dot(h)) * single + m.compensation * between;
}

// How the coat's color deepens along slanted paths in and out.
Spectrum coat_transmittance(const SurfaceModel& m, float cos_o, float cos_i) {
  const auto inside = [&](float c) { return std::sqrt(1 - (1 - c * c) / (m.eta * m.eta)); };
  return m.coat.pow(0.5f * (1 / inside(cos_o) + 1 / inside(cos_i)));
}

Spectrum gloss_base(const SurfaceModel& m, const Vec3& wo, const Vec3& wi) {
  // What the coat does not reflect reaches the base; scaled so that a white base loses nothing.
  const float share = (1 - m.lobe.at(wo.z())) * (1 - m.lobe.at(wi.z())) * m.base_scale;
  Spectrum f = m.color * share;
  if ((m.coat != 1.0f).any()) {
    f *= coat_transmittance(m, wo.z(), wi.z());
  }
  return f;
}

float gloss_lobe(const SurfaceModel& m, const Vec3& wo, const Vec3& wi) {
  const Vec3 h = (wo + wi).normalized();
  return fresnel_dielectric(std::min(1.0f, wo.dot(h)), m.eta) * ggx_distribution(h, m.alpha) *
         ggx_visibility(wo, wi, m.alpha) / (4 * wo.z() * wi.z());
}

// Chance of choosing the microfacet or mirror lobe at wo.
float lobe_chance(const SurfaceModel& m, float cos_o) {
  // Both lobes are chosen about in proportion to what they reflect.
  const float lobe = m.lobe.at(cos_o);
  if (m.kind == SurfaceKind::kMetal) {
    return lobe;  // the rest is scattered between facets, cosine-distributed
  }
  const float base = (1 - lobe) * m.color.maxCoeff();
  return lobe / std::max(1e-6f, lobe + base);
}

}  // namespace

Vec3 cosine_direction(const Vec2& u) {
  const float r = std::sqrt(u.x()), phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi), std::sqrt(std::max(0.0f, 1 - u.x()))};
}

float ggx_alpha(float roughness) { return roughness < 0.01f ? 0 : roughness * roughness; }

SurfaceModel diffuse_surface(const Spectrum& albedo, float roughness) {
  SurfaceModel m;
  m.kind = SurfaceKind::kDiffuse;
  m.color = albedo;
  m.roughness = roughness;
  return m;
}

namespace {

// `fresnel`: the hemispherical mean of what the facets reflect.
void compensate(SurfaceModel& m, const Spectrum& fresnel) {
  const float average = m.lobe.average();
  if (m.alpha > 0 && average < 1) {
    m.compensation =
        fresnel.square() * average / (1.0f - fresnel * (1 - average)) * (kInvPi / (1 - average));
  }
}

Spectrum schlick_mean(const Spectrum& normal_reflectance) {
  return (20.0f * normal_reflectance + 1.0f) / 21.0f;
}

}  // namespace

SurfaceModel metal(const Spectrum& normal_reflectance, float roughness) {
  SurfaceModel m;
  m.kind = SurfaceKind::kMetal;
  m.color = normal_reflectance;
  m.alpha = ggx_alpha(roughness);
  m.lobe = AlbedoTable(m.alpha, 0);
  compensate(m, schlick_mean(normal_reflectance));
  return m;
}

SurfaceModel metal_of_index(const Spectrum& n, const Spectrum& k, float roughness) {
  SurfaceModel m;
  m.kind = SurfaceKind::kMetal;
  m.by_index = true;
  m.n = n;
  m.k = k;
  m.alpha = ggx_alpha(roughness);
  m.lobe = AlbedoTable(m.alpha, 0);
  Spectrum mean;
  for (int i = 0; i < static_cast<int>(n.size()); ++i) {
    const double ni = n[i], ki = k[i];
    m.color[i] = static_cast<float>(fresnel_conductor(1, ni, ki));
    mean[i] = static_cast<float>(
        integral([&](double c) { return 2 * c * fresnel_conductor(c, ni, ki); }, 0, 1, 16));
  }
  compensate(m, mean);
  return m;
}

SurfaceModel recolored(const SurfaceModel& s, const Spectrum& color, const Spectrum& through) {
  SurfaceModel m = s;
  m.color = color;
  m.transmittance = through;
  if (m.kind == SurfaceKind::kMetal && !m.by_index) {
    compensate(m, schlick_mean(color));
  }
  return m;
}

SurfaceModel gloss(const Spectrum& albedo, const Spectrum& coat, float ior, float roughness) {
  SurfaceModel m;
  m.kind = SurfaceKind::kGloss;
  m.color = albedo;
  m.coat = coat;
  m.eta = ior;
  m.alpha = ggx_alpha(roughness);
  m.lobe = AlbedoTable(m.alpha, ior);
  m.base_scale = kInvPi / (1 - m.lobe.average());
  return m;
}

Lobes reflection_lobes(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  Lobes out;
  if (m.kind == SurfaceKind::kGlass) {
    out.gloss = reflection(m, wo, wi, inside);
    return out;
  }
  if (m.kind == SurfaceKind::kTranslucent) {
    out.diffuse = reflection(m, wo, wi);
    return out;
  }
  if (wo.z() <= 0 || wi.z() <= 0) {
    return out;
  }
  switch (m.kind) {
    case SurfaceKind::kGlass:
    case SurfaceKind::kTranslucent:
      break;
    case SurfaceKind::kDiffuse:
      out.diffuse = matte_reflection(m, wo, wi);
      break;
    case SurfaceKind::kMetal:
      if (m.alpha > 0) {
        out.gloss = metal_reflection(m, wo, wi);
      }
      break;
    case SurfaceKind::kGloss:
      out.diffuse = gloss_base(m, wo, wi);
      if (m.alpha > 0) {
        out.gloss.setConstant(gloss_lobe(m, wo, wi));
      }
      break;
  }
  return out;
}

SurfaceModel glass(float ior, const Spectrum& absorption, float roughness) {
  SurfaceModel m;
  m.kind = SurfaceKind::kGlass;
  m.color = Spectrum::Ones();
  m.eta = ior;
  m.absorption = absorption;
  m.alpha = ggx_alpha(roughness);
  if (m.alpha > 0) {
    // What is scattered between facets leaves to both sides, in shares that keep the whole
    // reciprocal: those that pass, times what is missing on their side and the square of its index,
    // are the same in and out.
    m.lobe = AlbedoTable::of_dielectric(m.alpha, ior);
    m.inner = AlbedoTable::of_dielectric(m.alpha, 1 / ior);
    const auto fresnel = static_cast<float>(integral(
        [&](double c) {
          return 2 * c * static_cast<double>(fresnel_dielectric(static_cast<float>(c), ior));
        },
        0,
        1,
        64));
    const float out = std::max(1e-6f, 1 - m.lobe.average()),
                in = std::max(1e-6f, 1 - m.inner.average());
    const float passes = (1 - fresnel) * std::min(out, in);
    m.onward = passes / out;
    m.outward = passes / (in * ior * ior);
  }
  return m;
}

SurfaceModel pane(float ior, const Spectrum& tint) {
  SurfaceModel m = glass(ior, Spectrum::Zero());
  m.thin = true;
  m.transmittance = tint;
  return m;
}

SurfaceModel translucent_surface(const Spectrum& reflected, const Spectrum& through) {
  SurfaceModel m;
  m.kind = SurfaceKind::kTranslucent;
  m.color = reflected;
  m.transmittance = through;
  return m;
}

float pane_reflectance(const SurfaceModel& m, float cos_o) {
  const float r = fresnel_dielectric(cos_o, m.eta);
  return 2 * r / (1 + r);
}

namespace {

// The chance that a translucent surface is followed to its other side.
float through_chance(const SurfaceModel& m) {
  const float back = m.color.maxCoeff(), through = m.transmittance.maxCoeff();
  return through / std::max(1e-12f, back + through);
}

Scattering scatter_glass(const SurfaceModel& m, const Vec3& wo, float choice, bool inside) {
  Scattering out;
  out.mirror = true;
  const float eta = inside ? 1 / m.eta : m.eta;
  const float f = m.thin ? pane_reflectance(m, wo.z()) : fresnel_dielectric(wo.z(), eta);
  if (choice < f) {
    out.wi = {-wo.x(), -wo.y(), wo.z()};
    out.pdf = f;
    out.weight = Spectrum::Ones();
    return out;
  }
  out.pdf = 1 - f;
  if (m.thin) {
    out.wi = -wo;
    out.weight = m.transmittance;
    return out;
  }
  const float sin2 = (1 - wo.z() * wo.z()) / (eta * eta);
  out.wi = Vec3(-wo.x() / eta, -wo.y() / eta, -std::sqrt(std::max(0.0f, 1 - sin2))).normalized();
  out.weight = Spectrum::Constant(1 / (eta * eta));
  return out;
}

// Rough glass, of flux: its microfacets and what is scattered between them.
float rough_glass(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  const AlbedoTable& here = inside ? m.inner : m.lobe;
  const AlbedoTable& there = inside ? m.lobe : m.inner;
  const float passes = inside ? m.outward : m.onward, missing = 1 - here.at(wo.z());
  const float between =
      wi.z() > 0 ? (1 - passes) * (1 - here.at(wi.z())) / std::max(1e-6f, 1 - here.average())
                 : passes * (1 - there.at(-wi.z())) / std::max(1e-6f, 1 - there.average());
  return ggx_dielectric(wo, wi, m.alpha, inside ? 1 / m.eta : m.eta) + missing * between * kInvPi;
}

float rough_glass_pdf(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  const float missing = 1 - (inside ? m.inner : m.lobe).at(wo.z()),
              passes = inside ? m.outward : m.onward;
  return (1 - missing) * ggx_dielectric_pdf(wo, wi, m.alpha, inside ? 1 / m.eta : m.eta) +
         missing * (wi.z() > 0 ? 1 - passes : passes) * std::abs(wi.z()) * kInvPi;
}

// What refraction does to radiance.
float refracted_radiance(const SurfaceModel& m, const Vec3& wi, bool inside) {
  return wi.z() > 0 ? 1.0f : inside ? m.eta * m.eta : 1 / (m.eta * m.eta);
}

Scattering scatter_rough_glass(
    const SurfaceModel& m, const Vec3& wo, const Vec2& u, float choice, bool inside) {
  Scattering out;
  const float missing = 1 - (inside ? m.inner : m.lobe).at(wo.z()),
              passes = inside ? m.outward : m.onward;
  if (choice < missing) {
    out.wi = cosine_direction(u);
    if (choice < missing * passes) {
      out.wi.z() = -out.wi.z();
    }
  } else {
    out.wi = sample_ggx_dielectric(
        wo, m.alpha, inside ? 1 / m.eta : m.eta, u, (choice - missing) / (1 - missing));
  }
  if (out.wi.z() == 0) {
    return out;
  }
  out.pdf = rough_glass_pdf(m, wo, out.wi, inside);
  if (out.pdf > 0) {
    out.weight.setConstant(rough_glass(m, wo, out.wi, inside) *
                           refracted_radiance(m, out.wi, inside) * std::abs(out.wi.z()) / out.pdf);
  }
  return out;
}

}  // namespace

Spectrum reflection(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  if (m.kind == SurfaceKind::kGlass) {
    return Spectrum::Constant(m.alpha > 0 && wo.z() > 0 && wi.z() != 0
                                  ? rough_glass(m, wo, wi, inside) *
                                        refracted_radiance(m, wi, inside)
                                  : 0.0f);
  }
  if (m.kind == SurfaceKind::kTranslucent && wo.z() > 0) {
    return (wi.z() > 0 ? m.color : m.transmittance) * kInvPi;
  }
  if (wo.z() <= 0 || wi.z() <= 0) {
    return Spectrum::Zero();
  }
  switch (m.kind) {
    case SurfaceKind::kGlass:
    case SurfaceKind::kTranslucent:
      return Spectrum::Zero();
    case SurfaceKind::kDiffuse:
      return matte_reflection(m, wo, wi);
    case SurfaceKind::kMetal:
      return m.alpha > 0 ? metal_reflection(m, wo, wi) : Spectrum(Spectrum::Zero());
    case SurfaceKind::kGloss:
      return m.alpha > 0 ? Spectrum(gloss_base(m, wo, wi) + gloss_lobe(m, wo, wi))
                         : gloss_base(m, wo, wi);
  }
  return Spectrum::Zero();
}

float reflection_pdf(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  if (m.kind == SurfaceKind::kGlass) {
    return m.alpha > 0 && wo.z() > 0 && wi.z() != 0 ? rough_glass_pdf(m, wo, wi, inside) : 0;
  }
  if (m.kind == SurfaceKind::kTranslucent && wo.z() > 0) {
    const float through = through_chance(m);
    return (wi.z() > 0 ? 1 - through : through) * std::abs(wi.z()) * kInvPi;
  }
  if (wo.z() <= 0 || wi.z() <= 0) {
    return 0;
  }
  const float cosine = wi.z() * kInvPi;
  if (m.kind == SurfaceKind::kDiffuse) {
    return cosine;
  }
  const float chance = lobe_chance(m, wo.z());
  if (m.alpha == 0) {
    return m.kind == SurfaceKind::kMetal ? 0 : (1 - chance) * cosine;
  }
  const Vec3 h = (wo + wi).normalized();
  return chance * ggx_reflection_pdf(wo, h, m.alpha) + (1 - chance) * cosine;
}

float gloss_pdf(const SurfaceModel& m, const Vec3& wo, const Vec3& wi) {
  return wo.z() > 0 && wi.z() > 0 ? ggx_reflection_pdf(wo, (wo + wi).normalized(), m.alpha) : 0;
}

Scattering scatter(
    const SurfaceModel& m, const Vec3& wo, const Vec2& u, float lobe_choice, bool inside) {
  Scattering out;
  if (wo.z() <= 0) {
    return out;
  }
  if (m.kind == SurfaceKind::kGlass) {
    return m.alpha > 0 ? scatter_rough_glass(m, wo, u, lobe_choice, inside)
                       : scatter_glass(m, wo, lobe_choice, inside);
  }
  if (m.kind == SurfaceKind::kTranslucent) {
    const float chance = through_chance(m);
    const bool through = lobe_choice < chance;
    out.wi = cosine_direction(u);
    out.pdf = (through ? chance : 1 - chance) * out.wi.z() * kInvPi;
    if (out.pdf > 0) {
      out.weight = through ? Spectrum(m.transmittance / chance) : Spectrum(m.color / (1 - chance));
      out.wi.z() = through ? -out.wi.z() : out.wi.z();
    }
    return out;
  }
  if (m.kind == SurfaceKind::kDiffuse) {
    out.wi = cosine_direction(u);
    out.pdf = out.wi.z() * kInvPi;
    if (out.pdf > 0) {
      out.weight = m.roughness == 0 ? m.color : Spectrum(matte_reflection(m, wo, out.wi) * kPi);
    }
    return out;
  }
  const float chance = m.only_mirror() ? 1 : lobe_chance(m, wo.z());
  const bool lobe = lobe_choice < chance;
  if (lobe && m.alpha == 0) {
    out.wi = {-wo.x(), -wo.y(), wo.z()};
    out.pdf = chance;
    out.mirror = true;
    out.weight = m.kind == SurfaceKind::kMetal
                     ? conductor(m, wo.z())
                     : Spectrum(Spectrum::Constant(fresnel_dielectric(wo.z(), m.eta) / chance));
    return out;
  }
  if (lobe) {
    const Vec3 h = sample_ggx_normal(wo, m.alpha, u);
    out.wi = 2 * wo.dot(h) * h - wo;
  } else {
    out.wi = cosine_direction(u);
  }
  if (out.wi.z() <= 0) {
    return out;
  }
  out.pdf = reflection_pdf(m, wo, out.wi);
  if (out.pdf > 0) {
    out.weight = reflection(m, wo, out.wi) * (out.wi.z() / out.pdf);
  }
  return out;
}

Spectrum albedo(const SurfaceModel& m, float cos_o) {
  const float lobe =
      m.kind == SurfaceKind::kMetal || m.kind == SurfaceKind::kGloss ? m.lobe.at(cos_o) : 0;
  switch (m.kind) {
    case SurfaceKind::kGlass:
      return Spectrum::Ones();
    case SurfaceKind::kTranslucent:
      return m.color + m.transmittance;
    case SurfaceKind::kDiffuse:
    case SurfaceKind::kMetal:
      return m.color;
    case SurfaceKind::kGloss:
      return m.color * m.coat * (1 - lobe) + lobe;
  }
  return m.color;
}

}  // namespace jovilux
