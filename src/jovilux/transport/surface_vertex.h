#pragma once

#include "jovilux/optics/surface.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/transport.h"

#include <optional>

namespace jovilux {

/// What the walks of camera paths, of light paths and of photons share where they meet a surface.

/// The unit normals of a surface, turned to the side that a path is on.
struct SurfaceSide {
  Vec3 normal = Vec3::UnitZ(), shading = Vec3::UnitZ();

  /// `toward`: from the surface to where the path comes from. The interpolated normal gives way to
  /// the surface's own where the path comes from behind it.
  static SurfaceSide of(const Vec3& normal, const Vec3& shading, const Vec3& toward) {
    SurfaceSide side;
    side.normal = normal.dot(toward) >= 0 ? normal : Vec3(-normal);
    side.shading = shading.dot(side.normal) >= 0 ? shading : Vec3(-shading);
    if (side.shading.dot(toward) <= 0) {
      side.shading = side.normal;
    }
    return side;
  }
};

/// The normal by which cells of space know a surface: on the side of `toward`; zero where light
/// from both sides is scattered.
inline Vec3 cell_normal(const SurfaceModel& m, const Vec3& normal, const Vec3& toward) {
  if (m.scatters_through()) {
    return Vec3::Zero();
  }
  return normal.dot(toward) >= 0 ? normal : Vec3(-normal);
}

/// A unit direction mirrored by a surface with unit normal n.
inline Vec3 mirrored(const Vec3& direction, const Vec3& n) {
  return (direction - 2 * direction.dot(n) * n).normalized();
}

/// Whether a surface that is no mirror has a glossy part.
inline bool has_gloss(const SurfaceModel& m) {
  return m.kind != SurfaceKind::kDiffuse && m.kind != SurfaceKind::kTranslucent && m.alpha > 0;
}

/// The material numbered `material` in the scene, with the color that `pictures` has at uv.
/// `painted_here` holds the material where a picture colors it, and must outlive the reference.
inline const SurfaceModel& material_at(const Scene& scene,
                                       std::uint32_t material,
                                       const Scene::Pictures& pictures,
                                       const Vec2& uv,
                                       std::optional<SurfaceModel>& painted_here) {
  if (pictures.color == nullptr) {
    return scene.materials[material];
  }
  return painted_here.emplace(painted(scene.materials[material], pictures, uv));
}

/// What passes straight through a surface, chosen by chance: all of it through what a mask cuts
/// out, the color of a pane through what the pane does not mirror. Empty: the path is scattered.
/// `cosine`: of the path to the normal. u_mask() and u_pane(covered) give numbers in [0, 1), the
/// second for a mask that covers the part `covered`.
template <class ForMask, class ForPane>
std::optional<Spectrum> straight_through(const SurfaceModel& m,
                                         const Scene::Pictures& pictures,
                                         const Vec2& uv,
                                         float cosine,
                                         const ForMask& u_mask,
                                         const ForPane& u_pane) {
  const float covered = pictures.covered(uv);
  if (covered < 1 && !(u_mask() < covered)) {
    return Spectrum(Spectrum::Ones());
  }
  if (m.is_pane() && !(u_pane(covered) < pane_reflectance(m, std::min(1.0f, std::abs(cosine))))) {
    return pictures.color == nullptr ? m.transmittance : painted_color(pictures, uv);
  }
  return std::nullopt;
}

/// The glass that a path runs in after a surface; null: none. `own`: the surface's material as the
/// scene has it. `inside`: the path came from within the body of glass. `refracted`: it goes on to
/// the other side. `before`: the glass that it ran in up to here.
inline const SurfaceModel* glass_after(const SurfaceModel& own,
                                       bool inside,
                                       bool refracted,
                                       const SurfaceModel* before) {
  if (own.kind != SurfaceKind::kGlass) {
    return before;
  }
  if (refracted) {
    return inside ? nullptr : &own;
  }
  return inside ? &own : before;
}

/// The factor on flux where glass refracts, beside what scatter() states for radiance, which grows
/// by the square of the index of refraction on its way into glass.
/// Source: E. Veach, "Robust Monte Carlo Methods for Light Transport Simulation", 1997, ch. 5.2.
inline float refracted_flux(const SurfaceModel& m, bool inside, bool refracted) {
  if (m.kind != SurfaceKind::kGlass || !refracted) {
    return 1;
  }
  const float n2 = m.eta * m.eta;
  return inside ? 1 / n2 : n2;
}

}  // namespace jovilux
