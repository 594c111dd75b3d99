#pragma once

#include "jovilux/base/sampler.h"
#include "jovilux/color/nodes.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/part.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// What the camera's paths and those of the lights share: what of the light passes, how it is
/// weighed, where it goes.

struct RayCounts {
  std::uint64_t camera = 0, path = 0, shadow = 0;
  MarchCounts march;              ///< of solids
  std::uint64_t media_steps = 0;  ///< densities looked up on the way through uneven haze
  std::uint64_t query_ns = 0;     ///< time inside ray queries, where it was asked for
  RayCounts& operator+=(const RayCounts& o) {
    camera += o.camera;
    path += o.path;
    shadow += o.shadow;
    march += o.march;
    media_steps += o.media_steps;
    query_ns += o.query_ns;
    return *this;
  }
};

/// Where a path's light goes, one call a contribution.
class LightSink {
 public:
  /// `xyz` absolute, Y in cd/m2, from the light of a layer. What is not finite is counted and left
  /// out: one such value would spoil its pixel for good.
  void add(std::uint32_t layer, Part part, const Eigen::Array3f& xyz) {
    if (!xyz.isFinite().all()) {
      ++not_finite_;
      return;
    }
    const std::uint32_t slot = layer * static_cast<std::uint32_t>(parts_) +
                               (parts_ > 1 ? static_cast<std::uint32_t>(part) : 0);
    float* to = sums_ + slot * 3;
    if (touched_ != nullptr && to[0] == 0 && to[1] == 0 && to[2] == 0) {
      if ((xyz == 0).all()) {
        return;  // else the slot would be listed once more
      }
      touched_->push_back(slot);
    }
    to[0] += xyz[0];
    to[1] += xyz[1];
    to[2] += xyz[2];
    if (luminance_ != nullptr) {
      luminance_[slot] += xyz[1];
    }
    total_ += xyz[1];
  }
  /// sums: [slot][3]; luminance: [slot], both added to.
  /// clamped: [layer], added to; may be null.
  LightSink(float* sums, float* luminance, int parts, double* clamped = nullptr)
      : sums_(sums), luminance_(luminance), held_back_(clamped), parts_(parts) {}
  /// For the sums of one sample, zero before it. `touched`: the slots that it adds to.
  LightSink(float* sums, std::vector<std::uint32_t>& touched, int parts, double* clamped)
      : sums_(sums), held_back_(clamped), touched_(&touched), parts_(parts) {}
  /// What a light's limit keeps from the picture [cd/m2].
  void add_clamped(std::uint32_t layer, float luminance) {
    if (held_back_ != nullptr) {
      held_back_[layer] += static_cast<double>(luminance);
    }
  }
  /// Luminance of lights that the camera sees, directly or as images in mirrors and glass that most
  /// samples meet, whatever else they choose; it is added as well [cd/m2].
  void add_seen(float luminance) { seen_ += luminance; }
  float seen() const { return seen_; }
  float total() const { return total_; }
  std::uint32_t not_finite() const { return not_finite_; }
  bool keeps_parts() const { return parts_ > 1; }

 private:
  float* sums_;
  float* luminance_ = nullptr;
  double* held_back_;
  std::vector<std::uint32_t>* touched_ = nullptr;
  int parts_;
  float total_ = 0, seen_ = 0;
  std::uint32_t not_finite_ = 0;
};

/// The weight of one of two ways, of three ways, to find the same light, each with its density; a >
/// 0. By ratios, for
/// densities may be too large to square.
inline float power_heuristic(float a, float b) { return 1 / (1 + (b / a) * (b / a)); }
inline float power_heuristic(float a, float b, float c) {
  return 1 / (1 + (b / a) * (b / a) + (c / a) * (c / a));
}

/// How a light's contribution comes to the eye.
struct Arrival {
  int scatterings = 0;
  /// A surface that is no mirror lies between the eye and the one that the light falls on.
  bool rough_before = false;
  bool haze = false;  ///< haze scattered it, somewhere on the way
  bool colored = false;
  Eigen::Array3f rgb = Eigen::Array3f::Ones();
  /// Gloss or a mirror, on which it falls, throws it on a surface that is no mirror.
  bool caustic = false;

  Part part() const {
    return haze              ? Part::kHaze
           : caustic         ? Part::kCaustic
           : scatterings > 1 ? Part::kBounce
                             : Part::kDirect;
  }
};

/// The factors of a light's cheats on the diffuse and the glossy part of the reflection that it
/// falls on.
struct LobeFactors {
  float diffuse = 1, gloss = 1;
};
inline LobeFactors lobe_factors(const LightCheats& c) { return {c.diffuse, c.gloss}; }

/// A color with `factor` times its chroma, of the same luminance: 0 is the neutral of the picture's
/// white (D65). A factor above 1 goes no farther than where a channel of linear Rec.709 is 0.
Eigen::Array3f with_chroma(const Eigen::Array3f& xyz, float factor);

/// The one place where a light's contribution is weighed: its table, its masks and tints, and its
/// cheats but for those on the parts of a reflection, which the caller has applied by
/// lobe_factors(). Sink: add(layer, part, xyz), add_clamped(layer, luminance).
template <class Sink>
void contribute(
    const Emitter& e, const Spectrum& throughput, float luminance, const Arrival& how, Sink& sink) {
  if (!(luminance > 0)) {
    return;
  }
  const bool bounced = how.scatterings > 1;
  if (how.scatterings == 1) {
    luminance *= e.cheats.direct;
  } else if (bounced) {
    luminance *= how.caustic ? e.cheats.caustics : e.cheats.bounce;
  }
  if (how.haze) {
    luminance *= e.cheats.haze;
  }
  if (bounced && e.cheats.bounce_limit > 0) {
    const float whole =
        tristimulus(e.table,
                    how.colored ? Spectrum(throughput * spectrum_from_rgb(how.rgb)) : throughput,
                    luminance)[1];
    if (whole > e.cheats.bounce_limit) {
      sink.add_clamped(e.layer, whole - e.cheats.bounce_limit);
      luminance *= e.cheats.bounce_limit / whole;
    }
  }
  if (e.channels != nullptr) {
    for (std::uint32_t c = 0; c < 3; ++c) {
      sink.add(
          e.layer + c,
          how.part(),
          tristimulus((*e.channels)[c],
                      how.colored ? Spectrum(throughput * spectrum_from_rgb(how.rgb)) : throughput,
                      luminance));
    }
    return;
  }
  Eigen::Array3f xyz =
      how.colored ? tristimulus(e.table, throughput * spectrum_from_rgb(how.rgb), luminance)
                  : tristimulus(e.table, throughput, luminance);
  if (bounced && e.cheats.bounce_chroma != 1) {
    xyz = with_chroma(xyz, e.cheats.bounce_chroma);
  }
  sink.add(e.layer, how.part(), xyz);
}

/// Numbers for tracking through uneven haze, from a point of a path's sampler.
inline Rng tracking_numbers(const Vec2& u) {
  return Rng(static_cast<std::uint64_t>(u.x() * 0x1p24f) << 24 |
             static_cast<std::uint64_t>(u.y() * 0x1p24f));
}

/// What haze takes of the light on a ray's way up to `end`, 0..1.
inline float haze_passes(const Scene& scene, const Ray& ray, float end, Rng& random) {
  return scene.hazes.empty() ? 1.0f : HazeAlong(scene.hazes, ray, end).transmittance(end, random);
}

Spectrum painted_color(const Scene::Pictures& pictures, const Vec2& uv);
/// The material with the color that its picture has there.
SurfaceModel painted(const SurfaceModel& m, const Scene::Pictures& pictures, const Vec2& uv);

/// The part of the distance to a light's surface up to which shadow rays ask: short of the light by
/// the rounding of its distance, so that what it is mounted on does not hide it.
inline float short_of_light(const Emitter& e) {
  return e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f;
}
inline float shadow_end(const Emitter& e, float distance) {
  return e.is_distant() ? kFar : distance * short_of_light(e);
}

/// What stands in a light's way: all surfaces or a list of them, and what they let through
/// nevertheless.
struct ShadowRule {
  const std::vector<bool>* casters = nullptr;  ///< by surface number; null: all
  Spectrum past = Spectrum::Zero();

  static ShadowRule of(const Scene& scene, const Emitter& e) {
    return {e.casters != kNoIndex ? &scene.casters[e.casters] : nullptr, e.cheats.shadow_color};
  }
};
/// What is left of the light on a ray's way to t_max: 1 where nothing stands in it, what panes let
/// through, what its shadows let through elsewhere. Analytic shapes of surface `body` do not count.
Spectrum passage(
    const Scene& scene, const ShadowRule& rule, Ray ray, std::uint32_t body, RayCounts& counts);

/// The density of scattering back, from wi to wo, where scatter() found wi from wo (both in the
/// shading frame, wo above).
inline float pdf_back(const SurfaceModel& m, const Vec3& wo, const Vec3& wi, bool inside) {
  return wi.z() >= 0
             ? reflection_pdf(m, wi, wo, inside)
             : reflection_pdf(
                   m, Vec3(wi.x(), wi.y(), -wi.z()), Vec3(wo.x(), wo.y(), -wo.z()), !inside);
}

/// Rays through more surfaces than this in a row are given up.
inline constexpr std::uint32_t kMostPanes = 256;
/// Scatterings before chance may end a path.
inline constexpr int kRouletteFrom = 3;

}  // namespace jovilux
