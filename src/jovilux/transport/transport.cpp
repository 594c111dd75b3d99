#include "jovilux/transport/transport.h"

#include "jovilux/color/rgb.h"

#include <cmath>

namespace jovilux {

Eigen::Array3f with_chroma(const Eigen::Array3f& xyz, float factor) {
  const Eigen::Vector3d rgb = rec709_from_xyz() * xyz.cast<double>().matrix();
  const double neutral = static_cast<double>(xyz[1]);
  double k = static_cast<double>(factor);
  for (int c = 0; c < 3; ++c) {
    const double chroma = rgb[c] - neutral;
    if (rgb[c] >= 0 && neutral + k * chroma < 0) {
      k = neutral / -chroma;
    }
  }
  const Eigen::Vector3d gray = Eigen::Vector3d::Constant(neutral);
  return (xyz_from_rec709() * (gray + k * (rgb - gray))).cast<float>().array();
}

Spectrum painted_color(const Scene::Pictures& pictures, const Vec2& uv) {
  const Vec3 rgb = pictures.color->at(uv.cwiseProduct(pictures.tile)).cwiseMax(0.0f).cwiseMin(1.0f);
  return spectrum_from_rgb(Eigen::Array3f(rgb.array())).max(0.0f).min(1.0f);
}

SurfaceModel painted(const SurfaceModel& m, const Scene::Pictures& pictures, const Vec2& uv) {
  const Spectrum color = painted_color(pictures, uv);
  return recolored(
      m,
      color * pictures.reflected,
      pictures.transmittance > 0 ? Spectrum(color * pictures.transmittance) : m.transmittance);
}

Spectrum passage(
    const Scene& scene, const ShadowRule& rule, Ray ray, std::uint32_t body, RayCounts& counts) {
  Spectrum left = Spectrum::Ones();
  if (rule.casters == nullptr) {
    if (!scene.has_openings) {
      return scene.world.blocked(ray, body) ? rule.past : left;
    }
    const Obstacle obstacle = scene.world.obstacle(ray, body);
    if (obstacle == Obstacle::kNone) {
      return left;
    }
    // What a pane before it tints of a shadow's own color is not known here.
    if (obstacle == Obstacle::kOpaque && !any_passes(rule.past)) {
      return rule.past;
    }
  }
  // From one surface to the next, until one throws a shadow.
  constexpr int kMostSurfaces = 1000;
  for (int i = 0; i < kMostSurfaces && ray.t_max > 0; ++i) {
    const Hit hit = scene.world.closest(ray);
    if (!hit.found() || hit.t >= ray.t_max) {
      return left;
    }
    const SurfacePoint p = scene.world.point(ray, hit);
    const std::uint32_t material = scene.surfaces[p.surface].material;
    if (p.surface != body && (rule.casters == nullptr || (*rule.casters)[p.surface])) {
      if (material == kNoIndex) {
        return left * rule.past;
      }
      const SurfaceModel& m = scene.materials[material];
      const Scene::Pictures& pictures = scene.pictures[material];
      const float covered = pictures.covered(p.uv);
      Spectrum past = rule.past;
      if (m.is_pane()) {
        const Spectrum tint =
            pictures.color == nullptr ? m.transmittance : painted_color(pictures, p.uv);
        past = tint * (1 - pane_reflectance(m, std::abs(p.normal.dot(ray.direction))));
      } else if (covered >= 1) {
        return left * past;
      }
      left *= (1 - covered) + covered * past;
      if (!any_passes(left)) {
        return left;
      }
    }
    ++counts.shadow;
    const float gone = hit.t + p.offset;
    ray.origin = World::leave(p, ray.direction);
    ray.t_max = ray.t_max == kFar ? kFar : ray.t_max - gone;
  }
  return left;
}

}  // namespace jovilux
