#include "jovilux/judge/light_probe.h"

#include "jovilux/base/sampler.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace jovilux {
namespace {

constexpr int kProbeRays = 4096;

Vec3 direction_in_cone(const Frame& frame, double half_angle, const Vec2& u) {
  const float cosine = 1 - u.x() * (1 - static_cast<float>(std::cos(half_angle)));
  const float r = std::sqrt(std::max(0.0f, 1 - cosine * cosine)), phi = 2 * kPi * u.y();
  return frame.to_world({r * std::cos(phi), r * std::sin(phi), cosine});
}

// The half angle of the cone that holds nearly all of an aimed light's flux [rad].
double half_angle_of(const SourceShape& source) {
  if (source.kind == LightKind::kSpot) {
    return source.beam.exponent == 0 ? source.beam.half_beam
                                     : std::min(kPiD / 2, 1.5 * source.beam.half_field);
  }
  return source.half_spread > 0 ? source.half_spread : kPiD / 2;
}

class Prober {
 public:
  Prober(const Scene& scene, const LightSpec& light, const Emitter& emitter)
      : scene_(scene),
        light_(light),
        form_(light.shape),
        emitter_(emitter),
        center_(light.at.cast<float>()),
        frame_(Frame::around(light.axis.cast<float>())),
        half_angle_(half_angle_of(light.shape)) {
    out_.aimed = !form_.two_sided && light.profile_file.empty() &&
                 (form_.kind == LightKind::kSpot || form_.kind == LightKind::kDisk ||
                  form_.kind == LightKind::kRect);
    out_.within_range = !light.falloff.has_range;
    out_.within_volume = !light.inside;
    out_.nearest = std::numeric_limits<double>::infinity();
  }

  LightProbe run() {
    for (int i = 0; i < kProbeRays; ++i) {
      const Sampler sampler(1, 3, static_cast<std::uint32_t>(i));
      const Vec3 direction = out_.aimed ? direction_in_cone(frame_, half_angle_, sampler.pair(0))
                                        : even_direction(sampler.pair(0));
      if (from_axis()) {
        probe_along_tube(direction, sampler.pair(1).x());
      } else {
        probe(out_.aimed ? Vec3(frame_.z * (1e-5f * (1 + center_.norm())))
                         : Vec3(direction * clearance()),
              direction);
      }
    }
    probe_shapes();
    return std::move(out_);
  }

 private:
  bool from_axis() const { return form_.kind == LightKind::kTube && form_.endless; }
  // Rays begin this far from the center, outside of the light's own body [m].
  float clearance() const {
    return static_cast<float>(form_.radius) * 1.0001f + 1e-5f * (1 + center_.norm());
  }

  void probe_shapes() {
    for (const PlacedShape& placed : scene_.world.shapes()) {
      const Vec3 to = placed.to_world.offset.cast<float>() - center_;
      if (scene_.surfaces[placed.surface].object == kNoIndex || !placed.shape.bounded() ||
          to.norm() < 1e-6f) {
        continue;
      }
      const Vec3 direction = to.normalized();
      const float angle = std::acos(std::clamp(direction.dot(frame_.z), -1.0f, 1.0f));
      if (!out_.aimed || angle < half_angle_) {
        probe(out_.aimed ? Vec3(frame_.z * 1e-5f) : Vec3(direction * clearance()), direction);
      }
    }
  }

  // A ray from the mantle of an endless tube, from anywhere along the part that passes the scene.
  void probe_along_tube(const Vec3& direction, float u) {
    const Vec3 along = light_.along.cast<float>();
    const Vec3 across = direction - direction.dot(along) * along;
    if (!(across.norm() > 1e-3f)) {
      return;
    }
    const float size = scene_.world.bounds().empty() ? 1 : scene_.world.bounds().diagonal();
    const float reach = std::clamp(size, 1.0f, 1e4f);
    const float clear = static_cast<float>(form_.radius) * 1.0001f + 1e-5f * (1 + reach);
    probe(along * (reach * (2 * u - 1)) + across.normalized() * clear, direction);
  }

  void probe(const Vec3& from_center, const Vec3& direction) {
    const Ray ray{center_ + from_center, direction};
    const Hit hit = scene_.world.closest(ray);
    if (!hit.found()) {
      return;
    }
    const Scene::Surface& met = scene_.surfaces[scene_.world.surface_of(hit)];
    if (met.object == kNoIndex) {
      out_.meets_lamp = true;
      return;
    }
    out_.meets_object = true;
    const double distance = distance_of(ray.at(hit.t));
    out_.nearest = std::min(out_.nearest, distance);
    out_.within_range = out_.within_range || distance < light_.falloff.range_end;
    const SurfacePoint p = scene_.world.point(ray, hit);
    out_.within_volume = out_.within_volume ||
                         emitter_.detail->inside->contains_or_touches(p.position.cast<double>());
    const Vec3 to_light = (center_ - p.position).normalized();
    const double level = std::abs(p.normal.dot(to_light)) * relative_level(emitter_, p.position);
    if (level > 0) {
      out_.lit.push_back({distance, level, scene_.surfaces[p.surface].object});
    }
  }

  double distance_of(const Vec3& place) const {
    Vec3 from_light = place - center_;
    if (from_axis()) {  // whose law counts from its axis
      const Vec3 along = light_.along.cast<float>();
      from_light -= from_light.dot(along) * along;
    }
    return from_light.norm();
  }

  const Scene& scene_;
  const LightSpec& light_;
  const SourceShape& form_;
  const Emitter& emitter_;
  Vec3 center_;
  Frame frame_;
  double half_angle_;
  LightProbe out_;
};

}  // namespace

LightProbe probe_light(const Scene& scene, const LightSpec& light, const Emitter& emitter) {
  return Prober(scene, light, emitter).run();
}

double relative_level(const Emitter& emitter, const Vec3& p) {
  return sample_toward(emitter, p, {0.5f, 0.5f}).weight;
}

}  // namespace jovilux
