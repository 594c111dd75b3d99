#include "jovilux/optics/microfacet.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/quadrature.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>
#include <optional>
#include <tuple>

namespace jovilux {

float ggx_distribution(const Vec3& h, float alpha) {
  // cos^2 (alpha^2 - 1) + 1 written without cancellation near the pole.
  const float a2 = alpha * alpha;
  const float sin2 = h.x() * h.x() + h.y() * h.y();
  const float d = sin2 + a2 * h.z() * h.z();
  return a2 / (kPi * d * d);
}

float ggx_lambda(const Vec3& w, float alpha) {
  const float cos2 = w.z() * w.z();
  if (cos2 <= 0) {
    // At grazing directions lambda grows without bound; masking is then 0 to float's precision.
    return 1e8f;
  }
  const float tan2 = (w.x() * w.x() + w.y() * w.y()) / cos2;
  return 0.5f * (std::sqrt(1 + alpha * alpha * tan2) - 1);
}

float ggx_visibility(const Vec3& wo, const Vec3& wi, float alpha) {
  // Height-correlated masking and shadowing (E. Heitz, "Understanding the Masking-Shadowing
  // Function in Microfacet-Based BRDFs", JCGT 3(2), 2014).
  return 1 / (1 + ggx_lambda(wo, alpha) + ggx_lambda(wi, alpha));
}

Vec3 sample_ggx_normal(const Vec3& wo, float alpha, const Vec2& u) {
  // Visible normals as a spherical cap (J. Dupuy, A. Benyoub, "Sampling Visible GGX Normals with
  // Spherical Caps", CGF 42(8), 2023), in the space where the facets are a hemisphere.
  const Vec3 v = Vec3(alpha * wo.x(), alpha * wo.y(), wo.z()).normalized();
  const float phi = 2 * kPi * u.x();
  const float z = (1 - u.y()) * (1 + v.z()) - v.z();
  const float r = std::sqrt(std::clamp(1 - z * z, 0.0f, 1.0f));
  const Vec3 h = Vec3(r * std::cos(phi), r * std::sin(phi), z) + v;
  return Vec3(alpha * h.x(), alpha * h.y(), std::max(1e-9f, h.z())).normalized();
}

float ggx_reflection_pdf(const Vec3& wo, const Vec3& h, float alpha) {
  return ggx_distribution(h, alpha) / ((1 + ggx_lambda(wo, alpha)) * 4 * wo.z());
}

float fresnel_dielectric(float cos_i, float eta) {
  const float sin2_t = (1 - cos_i * cos_i) / (eta * eta);
  if (sin2_t >= 1) {
    return 1;
  }
  const float cos_t = std::sqrt(1 - sin2_t);
  const float s = (cos_i - eta * cos_t) / (cos_i + eta * cos_t);
  const float p = (eta * cos_i - cos_t) / (eta * cos_i + cos_t);
  return 0.5f * (s * s + p * p);
}

double ggx_directional_albedo(double alpha, double cosine, double eta, int n) {
  JOVILUX_ASSERT(alpha > 0 && n > 0);
  const auto a = static_cast<float>(alpha);
  const double c = std::max(1e-4, cosine);
  const Vec3 wo(static_cast<float>(std::sqrt(1 - c * c)), 0, static_cast<float>(c));
  const float lambda_o = ggx_lambda(wo, a);
  double sum = 0;
  // The midpoint rule over the sampling's unit square: the integrand there is Fresnel's reflectance
  // times the masking that is left, both smooth.
  for (int i = 0; i < n; ++i) {
    for (int j = 0; j < n; ++j) {
      const Vec2 u((static_cast<float>(i) + 0.5f) / static_cast<float>(n),
                   (static_cast<float>(j) + 0.5f) / static_cast<float>(n));
      const Vec3 h = sample_ggx_normal(wo, a, u);
      const float oh = wo.dot(h);
      const Vec3 wi = 2 * oh * h - wo;
      if (wi.z() <= 0 || oh <= 0) {
        continue;
      }
      const float f = eta > 0 ? fresnel_dielectric(oh, static_cast<float>(eta)) : 1.0f;
      sum += f * (1 + lambda_o) / (1 + lambda_o + ggx_lambda(wi, a));
    }
  }
  return sum / (static_cast<double>(n) * n);
}

// Unpolarized reflectance of a complex index n + ik: the mean of both polarizations, without
// complex numbers.
double fresnel_conductor(double cos_i, double n, double k) {
  const double c2 = cos_i * cos_i, s2 = 1 - c2;
  const double t0 = n * n - k * k - s2, ab = std::sqrt(t0 * t0 + 4 * n * n * k * k);
  const double a = std::sqrt(std::max(0.0, 0.5 * (ab + t0)));
  const double t1 = ab + c2, t2 = 2 * a * cos_i, rs = (t1 - t2) / (t1 + t2);
  const double t3 = c2 * ab + s2 * s2, t4 = t2 * s2, rp = rs * (t3 - t4) / (t3 + t4);
  return 0.5 * (rs + rp);
}

namespace {

// The microfacet normal, on wo's side, that turns wo into wi; zero where none does. Reflection has
// the half vector, refraction the one weighted by the index (B. Walter et al., "Microfacet Models
// for Refraction through Rough Surfaces", EGSR 2007).
Vec3 dielectric_normal(const Vec3& wo, const Vec3& wi, float eta) {
  Vec3 h = wi.z() > 0 ? Vec3(wo + wi) : Vec3(-(wo + eta * wi));
  const float length = h.norm();
  if (!(length > 1e-9f)) {
    return Vec3::Zero();
  }
  h /= length;
  if (h.z() < 0) {
    h = -h;
  }
  return wo.dot(h) > 0 && (wi.z() > 0 ? wi.dot(h) > 0 : wi.dot(h) < 0) ? h : Vec3(Vec3::Zero());
}

// The solid angle of normals for that of refracted directions (Walter et al. 2007, eq. 17).
float refraction_jacobian(float oh, float ih, float eta) {
  return eta * eta * std::abs(ih) / sqr(oh + eta * ih);
}

}  // namespace

float ggx_dielectric(const Vec3& wo, const Vec3& wi, float alpha, float eta) {
  const Vec3 h = dielectric_normal(wo, wi, eta);
  if (h.z() <= 0 || wi.z() == 0) {
    return 0;
  }
  const float oh = wo.dot(h), ih = wi.dot(h), f = fresnel_dielectric(std::min(1.0f, oh), eta),
              d = ggx_distribution(h, alpha);
  if (wi.z() > 0) {
    return f * d * ggx_visibility(wo, wi, alpha) / (4 * wo.z() * wi.z());
  }
  // Behind the surface masking and shadowing are on opposite sides of it: independent, a product.
  const float seen = 1 / ((1 + ggx_lambda(wo, alpha)) * (1 + ggx_lambda(wi, alpha)));
  return (1 - f) * d * seen * oh * refraction_jacobian(oh, ih, eta) / (wo.z() * std::abs(wi.z()));
}

float ggx_dielectric_pdf(const Vec3& wo, const Vec3& wi, float alpha, float eta) {
  const Vec3 h = dielectric_normal(wo, wi, eta);
  if (h.z() <= 0) {
    return 0;
  }
  const float oh = wo.dot(h), f = fresnel_dielectric(std::min(1.0f, oh), eta);
  const float of_normal = ggx_distribution(h, alpha) * oh / ((1 + ggx_lambda(wo, alpha)) * wo.z());
  return wi.z() > 0 ? f * of_normal / (4 * oh)
                    : (1 - f) * of_normal * refraction_jacobian(oh, wi.dot(h), eta);
}

Vec3 sample_ggx_dielectric(const Vec3& wo, float alpha, float eta, const Vec2& u, float choice) {
  const Vec3 h = sample_ggx_normal(wo, alpha, u);
  const float oh = wo.dot(h);
  if (oh <= 0) {
    return Vec3::Zero();
  }
  // The sampled normal is visible from wo; a facet may still send light below the surface, which is
  // lost here and returned by the lobe between facets.
  if (choice < fresnel_dielectric(std::min(1.0f, oh), eta)) {
    const Vec3 wi = 2 * oh * h - wo;
    return wi.z() > 0 ? wi : Vec3(Vec3::Zero());
  }
  const float cos_t = std::sqrt(std::max(0.0f, 1 - (1 - oh * oh) / (eta * eta)));
  const Vec3 wi = ((oh / eta - cos_t) * h - wo / eta).normalized();
  return wi.z() < 0 ? wi : Vec3(Vec3::Zero());
}

template <class Fn>
void AlbedoTable::fill(const Fn& of_cosine) {
  parallel_for(kSize, [&](std::size_t i) {
    // Nodes are square roots of the cosine: albedo changes fastest at grazing angles.
    value_[i] = of_cosine(sqr(static_cast<float>(i) / (kSize - 1)));
  });
  // One panel a table cell, in s = sqrt(cosine), where at() is linear: c = s^2, 2 c dc = 4 s^3 ds.
  average_ = static_cast<float>(integral(
      [&](double s) { return 4 * s * s * s * at(static_cast<float>(s * s)); }, 0, 1, kSize - 1));
}

namespace {

// Tables that this process has computed, by kind, alpha and eta: materials share them, and a sweep
// or an animation builds the scene anew for each picture.
class KnownTables {
 public:
  using Key = std::tuple<int, float, float>;

  std::optional<AlbedoTable> find(const Key& key) {
    const std::lock_guard lock(mutex_);
    const auto it = tables_.find(key);
    return it == tables_.end() ? std::nullopt : std::optional(it->second);
  }
  void add(const Key& key, const AlbedoTable& table) {
    constexpr std::size_t kMost = 4096;  // 1 MB
    const std::lock_guard lock(mutex_);
    if (tables_.size() < kMost) {
      tables_.emplace(key, table);
    }
  }

 private:
  std::mutex mutex_;
  std::map<Key, AlbedoTable> tables_;
};

KnownTables& known_tables() {
  static KnownTables tables;
  return tables;
}

}  // namespace

AlbedoTable::AlbedoTable(float alpha, float fresnel_eta) {
  const KnownTables::Key key(0, alpha, fresnel_eta);
  if (const auto known = known_tables().find(key)) {
    *this = *known;
    return;
  }
  constexpr int kQuadrature = 64;
  fill([&](float cosine) {
    if (alpha > 0) {
      return static_cast<float>(ggx_directional_albedo(alpha, cosine, fresnel_eta, kQuadrature));
    }
    return fresnel_eta > 0 ? fresnel_dielectric(cosine, fresnel_eta) : 1.0f;
  });
  known_tables().add(key, *this);
}

AlbedoTable AlbedoTable::of_dielectric(float alpha, float eta) {
  const KnownTables::Key key(1, alpha, eta);
  if (const auto known = known_tables().find(key)) {
    return *known;
  }
  constexpr int kQuadrature = 48;
  AlbedoTable out;
  out.fill([&](float cosine) {
    const float c = std::max(1e-4f, cosine);
    const Vec3 wo(std::sqrt(1 - c * c), 0, c);
    const float lambda_o = ggx_lambda(wo, alpha);
    double sum = 0;
    for (int i = 0; i < kQuadrature; ++i) {
      for (int j = 0; j < kQuadrature; ++j) {
        const Vec2 u((static_cast<float>(i) + 0.5f) / kQuadrature,
                     (static_cast<float>(j) + 0.5f) / kQuadrature);
        const float f = fresnel_dielectric(
            std::clamp(wo.dot(sample_ggx_normal(wo, alpha, u)), 0.0f, 1.0f), eta);
        if (const Vec3 back = sample_ggx_dielectric(wo, alpha, eta, u, -1); back.z() > 0) {
          sum += f * (1 + lambda_o) / (1 + lambda_o + ggx_lambda(back, alpha));
        }
        if (f < 1) {
          if (const Vec3 on = sample_ggx_dielectric(wo, alpha, eta, u, 2); on.z() < 0) {
            sum += (1 - f) / (1 + ggx_lambda(on, alpha));
          }
        }
      }
    }
    return static_cast<float>(std::min(1.0, sum / (kQuadrature * kQuadrature)));
  });
  known_tables().add(key, out);
  return out;
}

}  // namespace jovilux
