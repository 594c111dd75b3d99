#include "jovilux/optics/haze.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/assert.h"

namespace jovilux {

float henyey_greenstein(float cosine, float g) {
  const float d = 1 + g * g - 2 * g * cosine;
  return (1 - g * g) / (4 * kPi * d * std::sqrt(d));
}

float sample_henyey_greenstein(float g, float u) {
  if (std::abs(g) < 1e-3f) {
    return 1 - 2 * u;
  }
  const float s = (1 - g * g) / (1 - g + 2 * g * u);
  return std::clamp((1 + g * g - s * s) / (2 * g), -1.0f, 1.0f);
}

double extinction_of_visibility(double visibility) { return -std::log(0.05) / visibility; }

HazeAlong::HazeAlong(const std::vector<Haze>& hazes, const Ray& ray, float end) : hazes_(hazes), direction_(ray.direction), end_(end) {
  JOVILUX_HOT_ASSERT(hazes.size() <= kMostHazes);
  struct Crossing {
    float t;
    std::uint32_t bit;
  };
  std::array<Crossing, 4 * kMostHazes> crossings;  // NOLINT: filled below
  std::size_t n = 0;
  std::uint32_t inside = 0;
  for (std::size_t i = 0; i < hazes.size(); ++i) {
    const Haze& h = hazes[i];
    const std::uint32_t bit = 1U << i;
    if (h.everywhere) {
      inside |= bit;
      continue;
    }
    const Vec3d o = h.to_local.point(ray.origin.cast<double>()), d = h.to_local.vector(ray.direction.cast<double>());
    inside |= contains(h.shape, o) ? bit : 0U;
    double t = 0;
    for (int k = 0; k < 4; ++k) {
      t = intersect(h.shape, o, d, t * (1 + 1e-9) + 1e-9, end);
      if (t < 0) {
        break;
      }
      crossings[n++] = {static_cast<float>(t), bit};
    }
  }
  std::sort(crossings.begin(), crossings.begin() + static_cast<std::ptrdiff_t>(n), [](const Crossing& a, const Crossing& b) { return a.t < b.t; });
  const auto total = [&] {
    float sum = 0;
    for (std::size_t i = 0; i < hazes.size(); ++i) {
      sum += (inside & (1U << i)) != 0 ? hazes[i].sigma_t : 0.0f;
    }
    return sum;
  };
  pieces_[count_++] = {0, total(), 0, inside};
  for (std::size_t k = 0; k < n; ++k) {
    inside ^= crossings[k].bit;
    const Piece& last = pieces_[count_ - 1];
    pieces_[count_] = {crossings[k].t, total(), last.tau + static_cast<double>(last.sigma_t) * (crossings[k].t - last.begin), inside};
    ++count_;
  }
  for (std::size_t k = 0; k < count_; ++k) {
    any_ = any_ || pieces_[k].sigma_t > 0;
  }
}

std::size_t HazeAlong::piece(float t) const {
  std::size_t i = count_ - 1;
  while (i > 0 && pieces_[i].begin > t) {
    --i;
  }
  return i;
}

double HazeAlong::optical_depth(float t) const {
  const Piece& p = pieces_[piece(t)];
  return p.sigma_t == 0 ? p.tau : p.tau + static_cast<double>(p.sigma_t) * (t - p.begin);
}

float HazeAlong::transmittance(float t) const { return static_cast<float>(std::exp(-optical_depth(t))); }

float HazeAlong::sample(float u) const {
  const double wanted = -std::log1p(-static_cast<double>(u));
  for (std::size_t i = 0; i < count_; ++i) {
    const Piece& p = pieces_[i];
    if (p.sigma_t <= 0) {
      continue;
    }
    const double t = p.begin + (wanted - p.tau) / p.sigma_t;
    if (i + 1 == count_ || t < pieces_[i + 1].begin) {
      return t < end_ ? static_cast<float>(t) : kFar;
    }
  }
  return kFar;
}

Spectrum HazeAlong::scattering(float t, float cosine) const {
  Spectrum out = Spectrum::Zero();
  const std::uint32_t inside = pieces_[piece(t)].inside;
  for (std::size_t i = 0; i < hazes_.size(); ++i) {
    if ((inside & (1U << i)) != 0) {
      out += hazes_[i].albedo * (hazes_[i].sigma_t * henyey_greenstein(cosine, hazes_[i].g));
    }
  }
  return out;
}

float HazeAlong::phase_pdf(float t, float cosine) const {
  const Piece& p = pieces_[piece(t)];
  float sum = 0;
  for (std::size_t i = 0; i < hazes_.size(); ++i) {
    if ((p.inside & (1U << i)) != 0) {
      sum += hazes_[i].sigma_t * henyey_greenstein(cosine, hazes_[i].g);
    }
  }
  return p.sigma_t > 0 ? sum / p.sigma_t : 0;
}

float HazeAlong::sample_phase(float t, const Vec2& u, Vec3& wi) const {
  const Piece& p = pieces_[piece(t)];
  // Which haze scatters: by extinction; the rest of u chooses the angle.
  float target = u.x() * p.sigma_t;
  std::size_t chosen = 0;
  for (std::size_t i = 0; i < hazes_.size(); ++i) {
    if ((p.inside & (1U << i)) == 0) {
      continue;
    }
    chosen = i;
    if (target < hazes_[i].sigma_t) {
      break;
    }
    target -= hazes_[i].sigma_t;
  }
  const float v = std::clamp(target / hazes_[chosen].sigma_t, 0.0f, 1.0f - 6e-8f);
  const float cosine = sample_henyey_greenstein(hazes_[chosen].g, v), sine = std::sqrt(std::max(0.0f, 1 - cosine * cosine)), phi = 2 * kPi * u.y();
  wi = Frame::around(direction_).to_world({sine * std::cos(phi), sine * std::sin(phi), cosine}).normalized();
  return phase_pdf(t, direction_.dot(wi));
}

}  // namespace jovilux
