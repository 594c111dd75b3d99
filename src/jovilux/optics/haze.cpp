#include "jovilux/optics/haze.h"

#include "jovilux/base/assert.h"

#include <algorithm>
#include <cmath>

namespace jovilux {

// The inverse of the Henyey-Greenstein function's cumulative distribution over the cosine; near g =
// 0 its closed form divides by g, and the isotropic one takes over.
float sample_henyey_greenstein(float g, float u) {
  if (std::abs(g) < 1e-3f) {
    return 1 - 2 * u;
  }
  const float s = (1 - g * g) / (1 - g + 2 * g * u);
  return std::clamp((1 + g * g - s * s) / (2 * g), -1.0f, 1.0f);
}

double extinction_of_visibility(double visibility) { return -std::log(0.05) / visibility; }

Spectrum HazeAt::scattering(float cosine) const {
  Spectrum out = Spectrum::Zero();
  for (std::size_t i = 0; i < hazes_->size(); ++i) {
    if (sigma_[i] > 0) {
      const Haze& h = (*hazes_)[i];
      out += h.albedo * (sigma_[i] * henyey_greenstein(cosine, h.g));
    }
  }
  return out;
}

float HazeAt::mean_cosine() const {
  float sum = 0;
  for (std::size_t i = 0; i < hazes_->size(); ++i) {
    sum += sigma_[i] > 0 ? sigma_[i] * (*hazes_)[i].g : 0.0f;
  }
  return total_ > 0 ? sum / total_ : 0;
}

float HazeAt::phase_pdf(float cosine) const {
  float sum = 0;
  for (std::size_t i = 0; i < hazes_->size(); ++i) {
    if (sigma_[i] > 0) {
      sum += sigma_[i] * henyey_greenstein(cosine, (*hazes_)[i].g);
    }
  }
  return total_ > 0 ? sum / total_ : 0;
}

float HazeAt::sample_phase(const Vec3& direction, const Vec2& u, Vec3& wi) const {
  // Which haze scatters: by extinction; the rest of u chooses the angle.
  float target = u.x() * total_;
  std::size_t chosen = 0;
  for (std::size_t i = 0; i < hazes_->size(); ++i) {
    if (sigma_[i] <= 0) {
      continue;
    }
    chosen = i;
    if (target < sigma_[i]) {
      break;
    }
    target -= sigma_[i];
  }
  // Rounding may leave v at 1, which the angle's inverse must not see.
  const float v = std::clamp(target / sigma_[chosen], 0.0f, 1.0f - 6e-8f);
  const float cosine = sample_henyey_greenstein((*hazes_)[chosen].g, v),
              sine = std::sqrt(std::max(0.0f, 1 - cosine * cosine)), phi = 2 * kPi * u.y();
  wi = Frame::around(direction)
           .to_world({sine * std::cos(phi), sine * std::sin(phi), cosine})
           .normalized();
  return phase_pdf(direction.dot(wi));
}

HazeAlong::HazeAlong(const std::vector<Haze>& hazes, const Ray& ray, float end)
    : hazes_(hazes), ray_(ray), end_(end) {
  JOVILUX_HOT_ASSERT(hazes.size() <= kMostHazes);
  struct Crossing {
    float t;
    std::uint32_t bit;
  };
  // A ray meets few boundaries, but many rays are cut: the lists keep their memory between calls.
  thread_local std::vector<Crossing> crossings;
  thread_local std::vector<float> found;
  crossings.clear();
  std::uint32_t inside = 0;
  for (std::size_t i = 0; i < hazes.size(); ++i) {
    const Haze& h = hazes[i];
    const std::uint32_t bit = 1U << i;
    if (!h.inside) {
      inside |= bit;
      continue;
    }
    // Boundaries are closed: `contains` tells the state at the origin, and each crossing turns it
    // over.
    inside |= h.inside->contains(ray.origin.cast<double>()) ? bit : 0U;
    found.clear();
    h.inside->crossings(ray, end, found);
    for (const float t : found) {
      crossings.push_back({t, bit});
    }
  }
  std::sort(crossings.begin(), crossings.end(), [](const Crossing& a, const Crossing& b) {
    return a.t < b.t;
  });
  // A ray with few pieces, the usual case, keeps them on the stack.
  if (crossings.size() + 1 > kFew) {
    more_.resize(crossings.size() + 1);
  }
  Piece* out = more_.empty() ? pieces_.data() : more_.data();
  // A piece's even part: the extinction of even haze and the least density of uneven haze. Its
  // optical depth has a closed form, so that only what exceeds it is left to chance.
  const auto fill = [&](Piece& p) {
    p.sigma_t = 0;
    p.uneven = 0;
    p.inside = inside;
    for (std::size_t i = 0; i < hazes.size(); ++i) {
      if ((inside >> i & 1U) != 0) {
        const HazeDensity& d = hazes[i].density;
        p.sigma_t += hazes[i].sigma_t * (d.uneven() ? d.least() : 1.0f);
        p.uneven |= d.uneven() ? 1U << i : 0U;
      }
    }
    any_ = any_ || p.sigma_t > 0 || p.uneven != 0;
    uneven_ = uneven_ || p.uneven != 0;
  };
  out[0].begin = 0;
  out[0].tau = 0;
  fill(out[count_++]);
  for (const Crossing& c : crossings) {
    inside ^= c.bit;
    const Piece& last = out[count_ - 1];
    out[count_].begin = c.t;
    out[count_].tau = last.tau + static_cast<double>(last.sigma_t) * (c.t - last.begin);
    fill(out[count_++]);
  }
}

std::size_t HazeAlong::piece(float t) const {
  const Piece* all = pieces();
  // The few pieces are searched from the far end: most queries ask for the end of a segment.
  std::size_t i = count_ - 1;
  while (i > 0 && all[i].begin > t) {
    --i;
  }
  return i;
}

double HazeAlong::even_depth(float t) const {
  const Piece& p = pieces()[piece(t)];
  return p.sigma_t == 0 ? p.tau : p.tau + static_cast<double>(p.sigma_t) * (t - p.begin);
}

// The extinction that exceeds the even part.
float HazeAlong::uneven_sigma(const Piece& piece, const Vec3& p) const {
  float sum = 0;
  for (std::size_t i = 0; i < hazes_.size(); ++i) {
    if ((piece.uneven >> i & 1U) != 0) {
      sum +=
          hazes_[i].sigma_t * std::max(0.0f, hazes_[i].density.at(p) - hazes_[i].density.least());
    }
  }
  return sum;
}

// A deterministic estimate by the midpoint rule: the choice of a sampling place needs a density
// that its user can evaluate again, which a random transmittance is not. The estimate is biased and
// never weighs light itself.
double HazeAlong::optical_depth(float t, int points) const {
  double tau = even_depth(t);
  if (!uneven_ || !(t > 0)) {
    return tau;
  }
  const float far = std::min(t, 1e6f), step = far / static_cast<float>(points);
  for (int i = 0; i < points; ++i) {
    const float at = (static_cast<float>(i) + 0.5f) * step;
    tau += static_cast<double>(step) * uneven_sigma(pieces()[piece(at)], ray_.at(at));
  }
  return tau;
}

float HazeAlong::likely_transmittance(float t) const {
  return static_cast<float>(std::exp(-optical_depth(t)));
}

// Calls f for stretches of the ray's uneven pieces with an upper bound of the extinction, until f
// returns true. Tight bounds are what free flights cost: each stretch ends where a density's bound
// changes.
template <class Fn>
void HazeAlong::stretches(float to, const Fn& f) const {
  for (std::size_t k = 0; k < count_; ++k) {
    const Piece& p = pieces()[k];
    if (p.begin >= to) {
      return;
    }
    if (p.uneven == 0) {
      continue;
    }
    constexpr float kFarthest = 1e7f;  // no place of a scene lies beyond
    const float stop = std::min({to, k + 1 < count_ ? pieces()[k + 1].begin : end_, kFarthest});
    for (float t = p.begin; t < stop;) {
      float end = stop, bound = 0;
      for (std::size_t i = 0; i < hazes_.size(); ++i) {
        if ((p.uneven >> i & 1U) != 0) {
          float until = stop;
          const float of_this =
              hazes_[i].density.bound(ray_, t, stop, until) - hazes_[i].density.least();
          bound += hazes_[i].sigma_t * std::max(0.0f, of_this);
          end = std::min(end, until);
        }
      }
      // A bound may end at t itself by rounding; the loop must advance.
      end = std::min(stop, std::max(end, std::nextafter(t, kFar)));
      if (f(t, end, bound, p)) {
        return;
      }
      t = end;
    }
  }
}

// Ratio tracking (J. Novak, A. Selle, W. Jarosz, "Residual Ratio Tracking for Estimating
// Attenuation in Participating Media", ACM TOG 33(6), 2014): the even part in closed form, the rest
// as a product of 1 - sigma / bound at tentative events. Its mean is the transmittance.
float HazeAlong::transmittance(float t, Rng& random) const {
  auto left = static_cast<float>(std::exp(-even_depth(t)));
  if (!uneven_ || !(left > 0)) {
    return left;
  }
  stretches(t, [&](float begin, float end, float bound, const Piece& p) {
    if (bound <= 0) {
      return false;
    }
    for (float s = begin;;) {
      s += static_cast<float>(-std::log1p(-random.uniform())) / bound;
      if (!(s < end)) {
        return false;
      }
      left *= std::max(0.0f, 1 - uneven_sigma(p, ray_.at(s)) / bound);
      if (left < 0.02f) {  // roulette
        if (random.uniform() < 0.5) {
          left = 0;
          return true;
        }
        left *= 2;
      }
    }
  });
  return left;
}

float HazeAlong::sample(float u, Rng& random) const {
  // Of two independent kinds of events the first counts: one in the even part, by the inverse of
  // its optical depth; one in the rest, by delta tracking (E. Woodcock et al., 1965).
  float first = kFar;
  const double wanted = -std::log1p(-static_cast<double>(u));
  for (std::size_t i = 0; i < count_; ++i) {
    const Piece& p = pieces()[i];
    if (p.sigma_t <= 0) {
      continue;
    }
    const double t = p.begin + (wanted - p.tau) / p.sigma_t;
    if (i + 1 == count_ || t < pieces()[i + 1].begin) {
      first = t < end_ ? static_cast<float>(t) : kFar;
      break;
    }
  }
  if (!uneven_) {
    return first;
  }
  stretches(std::min(first, end_), [&](float begin, float end, float bound, const Piece& p) {
    if (bound <= 0) {
      return false;
    }
    for (float s = begin;;) {
      s += static_cast<float>(-std::log1p(-random.uniform())) / bound;
      if (!(s < end)) {
        return false;
      }
      // A tentative event is a real one with the chance of its share of the bound.
      if (random.uniform() * bound < uneven_sigma(p, ray_.at(s))) {
        first = s;
        return true;
      }
    }
  });
  return first;
}

HazeAt HazeAlong::at(float t) const {
  HazeAt out(hazes_);
  const Piece& p = pieces()[piece(t)];
  const Vec3 place = ray_.at(t);
  for (std::size_t i = 0; i < hazes_.size(); ++i) {
    out.sigma_[i] =
        (p.inside >> i & 1U) == 0
            ? 0.0f
            : hazes_[i].sigma_t * ((p.uneven >> i & 1U) != 0 ? hazes_[i].density.at(place) : 1.0f);
    out.total_ += out.sigma_[i];
  }
  return out;
}

}  // namespace jovilux
