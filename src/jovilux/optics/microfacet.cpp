#include "jovilux/optics/microfacet.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/assert.h"
#include "jovilux/base/quadrature.h"

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
    return 1e8f;
  }
  const float tan2 = (w.x() * w.x() + w.y() * w.y()) / cos2;
  return 0.5f * (std::sqrt(1 + alpha * alpha * tan2) - 1);
}

float ggx_visibility(const Vec3& wo, const Vec3& wi, float alpha) {
  return 1 / (1 + ggx_lambda(wo, alpha) + ggx_lambda(wi, alpha));
}

Vec3 sample_ggx_normal(const Vec3& wo, float alpha, const Vec2& u) {
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

AlbedoTable::AlbedoTable(float alpha, float fresnel_eta) {
  constexpr int kQuadrature = 64;
  for (int i = 0; i < kSize; ++i) {
    const float cosine = sqr(static_cast<float>(i) / (kSize - 1));
    if (alpha > 0) {
      value_[static_cast<std::size_t>(i)] =
          static_cast<float>(ggx_directional_albedo(alpha, cosine, fresnel_eta, kQuadrature));
    } else {
      value_[static_cast<std::size_t>(i)] = fresnel_eta > 0 ? fresnel_dielectric(cosine, fresnel_eta) : 1.0f;
    }
  }
  // One panel a table cell, in s = sqrt(cosine), where at() is linear: c = s^2, 2 c dc = 4 s^3 ds.
  average_ = static_cast<float>(
      integral([&](double s) { return 4 * s * s * s * at(static_cast<float>(s * s)); }, 0, 1, kSize - 1));
}

}  // namespace jovilux
