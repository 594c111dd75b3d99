// Connections of a camera path to virtual lights: the vertices that paths of light have left.

#include "jovilux/transport/path_tracer.h"

#include <cmath>

namespace jovilux {
namespace {

// What turns a density over solid angle into one over area, or over distance along the ray in haze.
float facing(const VirtualLight& y, const Vec3& wi) {
  return y.is_in_haze() ? y.sigma_t : std::abs(y.normal.dot(wi));
}

using Lanes = VirtualLightLanes::Floats;

}  // namespace

// The path has come to a place where virtual lights stand: what it brings from here on is shared
// with the connections from the place that it left. `facing`: |cos| at a surface, sigma_t in haze.
// False where chance ends it.
bool PathTracer::goes_on_beside_connections(
    State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing, float u) const {
  const float left = left_by_connections(s, p, side, in_haze, facing);
  s.left_by_connections *= left;
  s.left_by_last = left;
  if (!virtual_lights_->carries_all() || left >= 1) {
    return true;
  }
  // The root of what is left: going on by that itself would leave rare paths at full weight.
  const float least =
      std::min(virtual_lights_->least_survival() / s.chance_beside_connections, 1.0f);
  const float survival = std::max(least, std::sqrt(left));
  s.chance_beside_connections *= survival;
  if (!(u < survival)) {
    return false;
  }
  s.throughput /= survival;
  return true;
}

// Of the light from p to the place that the path has left, the part that connections leave to it.
float PathTracer::left_by_connections(
    const State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing) const {
  const std::uint32_t cluster = virtual_lights_->cluster_at(p, side, in_haze);
  if (cluster == kNoIndex) {
    return 1;
  }
  const float by_direction = s.from.own_pdf * facing / (p - s.from.p).squaredNorm();
  return 1 - virtual_lights_->share(s.from.row, cluster, by_direction);
}

// Whether a path that is scattered where it is and then at y has no more scatterings than it may.
bool PathTracer::may_connect(const State& s, const VirtualLightSketch& y, int in_haze) const {
  return s.scatterings + 1 + y.scatterings <= options_.bounces &&
         s.in_haze + in_haze + y.in_haze <= options_.haze_bounces;
}

// `count` connections from the vertex at s.from.p. reception(wi), receptions(DirectionLanes): what
// the vertex does with light; arrive(light, wi, weight) brings what the chosen one sends.
// `in_haze`: 1 where the vertex lies in haze.
template <class Receive, class ReceiveEach, class Arrive>
void PathTracer::connect_vertex(const State& s,
                                int in_haze,
                                int count,
                                std::uint32_t first_pair,
                                const Receive& reception,
                                const ReceiveEach& receptions,
                                const Arrive& arrive) {
  const Departure& from = s.from;
  if (from.row == nullptr || s.scatterings + 2 > options_.bounces) {
    return;
  }
  virtual_lights_->choose_each(
      *options_.virtual_set,
      from.row,
      static_cast<std::uint32_t>(count),
      sampler_.pair(first_pair),
      sampler_.single(first_pair + 1),
      [&](const VirtualLightLanes& y) {
        Lanes d2;
        const DirectionLanes wi = directions_to(y, from.p, d2);
        const ReceptionLanes r = receptions(wi);
        const SentLanes sent = sent_in_lanes(y, wi, d2);
        const Lanes open = VirtualLightLanes::each(
            [&](std::size_t i) { return may_connect(s, *y.lights[i], in_haze) ? 1.0f : 0.0f; });
        return open * virtual_lights_->share(y, r.pdf * sent.facing / d2) * sent.brought * r.factor;
      },
      [&](const VirtualLight& y, float weight) {
        const Vec3 to = y.position - from.p;
        const float d2 = to.squaredNorm();
        const Vec3 wi = to / std::sqrt(d2);
        const float by_direction = reception(wi).pdf * facing(y, wi) / d2;
        arrive(y, wi, weight * virtual_lights_->share(from.row, y.cluster, by_direction));
      });
}

// What a surface does with light from each direction: a diffuse one, as most are, in all lanes at
// once.
PathTracer::ReceptionLanes PathTracer::receptions(const Vertex& v, const DirectionLanes& wi) const {
  const SurfaceModel& material = *v.material;
  const Lanes upright = wi.dot(v.side.normal), cosine = wi.dot(v.frame.z);
  const Lanes received = v.both_sides ? cosine * upright : cosine < upright ? cosine : upright;
  ReceptionLanes out;
  out.factor = received > 0 ? VirtualLightLanes::absolute(cosine) : Lanes{};
  if (material.kind == SurfaceKind::kDiffuse) {
    constexpr float kInvPi = 1 / kPi;
    out.pdf = out.factor * kInvPi;
    return out;
  }
  out.pdf = VirtualLightLanes::each([&](std::size_t i) {
    return out.factor[i] > 0
               ? reflection_pdf(material,
                                v.local_wo,
                                v.frame.to_local(wi.at(static_cast<std::uint32_t>(i))),
                                v.inside)
               : 0.0f;
  });
  return out;
}

void PathTracer::connect_surface(const State& s, const Vertex& v) {
  const SurfaceModel& material = *v.material;
  connect_vertex(
      s,
      0,
      connections(s),
      virtual_pair(s),
      [&](const Vec3& wi) -> Reception {
        const Vec3 local_wi = v.frame.to_local(wi);
        if (!v.receives_from(wi, local_wi)) {
          return {};
        }
        return {reflection_pdf(material, v.local_wo, local_wi, v.inside), std::abs(local_wi.z())};
      },
      [&](const DirectionLanes& wi) { return receptions(v, wi); },
      [&](const VirtualLight& y, const Vec3& wi, float weight) {
        const Vec3 local_wi = v.frame.to_local(wi);
        Spectrum f = reflection(material, v.local_wo, local_wi, v.inside) * std::abs(local_wi.z());
        // The way to y may lie in glass, as the next stretch of a camera path may.
        if (const SurfaceModel* const glass = glass_toward(s, v, local_wi)) {
          f *= (-(y.position - v.p.position).norm() * glass->absorption).exp();
        }
        if (any_passes(f)) {
          connect(s, y, v.p.position, World::leave(v.p, wi), f, weight, false);
        }
      });
}

void PathTracer::connect_haze(const State& s,
                              const HazeAt& at,
                              int count,
                              std::uint32_t first_pair) {
  const Vec3 p = s.from.p;
  connect_vertex(
      s,
      1,
      count,
      first_pair,
      [&](const Vec3& wi) -> Reception {
        const float phase = at.phase_pdf(s.ray.direction.dot(wi));
        return {phase, phase};
      },
      [&](const DirectionLanes& wi) {
        const Lanes cosines = wi.dot(s.ray.direction);
        const Lanes phases =
            VirtualLightLanes::each([&](std::size_t i) { return at.phase_pdf(cosines[i]); });
        return ReceptionLanes{phases, phases};
      },
      [&](const VirtualLight& y, const Vec3& wi, float weight) {
        const Spectrum scattered = at.scattering(s.ray.direction.dot(wi)) / at.sigma_t();
        connect(s, y, p, p, scattered, weight, true);
      });
}

// The chosen virtual light's contribution to x. `scattered`: what x does with it, cosine included.
// `from`: where a shadow ray starts.
void PathTracer::connect(const State& s,
                         const VirtualLight& y,
                         const Vec3& x,
                         const Vec3& from,
                         const Spectrum& scattered,
                         float weight,
                         bool in_haze) {
  const Vec3 wi = (y.position - x).normalized();
  const Lobes sent_on = y.is_in_haze() ? sent_by_haze(y, wi, from) : sent_lobes(y, wi);
  if (!any_passes(sent_on.diffuse + sent_on.gloss)) {
    return;
  }
  const Vec3 end = y.position - (y.normal.dot(wi) > 0 ? y.offset : -y.offset) * y.normal;
  const Vec3 way = end - from;
  const float distance = way.norm();
  const Ray shadow{from, way / distance, distance * (1 - 1e-6f)};
  Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
  if (!(passed[0] > 0)) {
    return;
  }
  ++counts_.shadow;
  passed *= timed([&] { return passage(scene_, ShadowRule{}, shadow, kNoIndex, counts_); });
  if (!any_passes(passed)) {
    return;
  }
  const Emitter& e = scene_.emitters[y.emitter];
  Arrival how{s.scatterings + 1 + y.scatterings,
              true,
              s.hazy || y.hazy || in_haze,
              y.colored,
              y.rgb,
              y.caustic};
  const Spectrum through = s.throughput * scattered * passed * y.flux;
  weight *= (y.first_only ? 1.0f : s.left_by_connections) / (y.position - x).squaredNorm();
  const bool first = y.scatterings == 1 && any_passes(sent_on.gloss);
  if (!first) {
    bring(s, e, through * (sent_on.diffuse + sent_on.gloss), weight, how);
    return;
  }
  bring(s, e, through * sent_on.diffuse, weight, how);
  how.caustic = true;
  bring(s, e, through * sent_on.gloss, weight, how);
}

// What y in haze does with the light that fell on it, toward -wi: scattering over extinction.
Lobes PathTracer::sent_by_haze(const VirtualLight& y, const Vec3& wi, const Vec3& from) const {
  Lobes out;
  const float distance = (y.position - from).norm();
  const HazeAlong along(scene_.hazes, Ray{from, wi}, 2 * distance + 1);
  const HazeAt at = along.at(distance);
  if (at.sigma_t() > 0) {
    out.diffuse = at.scattering(wi.dot(y.to_light)) / at.sigma_t();
  }
  return out;
}

// What y on a surface does with the light that fell on it, toward -wi: the reflection times its
// |cos| to there and the tilt of its shading normal.
Lobes PathTracer::sent_lobes(const VirtualLight& y, const Vec3& wi) {
  const Vec3 wo = -wi;
  const SurfaceModel& material = material_at(
      scene_, scene_.after_bounce(y.material), scene_.pictures[y.material], y.uv, sender_);
  const SurfaceSide side = SurfaceSide::of(y.normal, y.shading, wo);
  const Frame frame = Frame::around(side.shading);
  const Vec3 local_wo = frame.to_local(wo), local_wi = frame.to_local(y.to_light);
  const float upright = y.to_light.dot(side.normal);
  const bool lit =
      material.scatters_through() ? local_wi.z() * upright > 0 : local_wi.z() > 0 && upright > 0;
  if (!lit) {
    return {};
  }
  // The shading normal of glass, as the surface has it, points out of the body.
  const bool inside = y.shading.dot(side.shading) < 0;
  Lobes out = reflection_lobes(material, local_wo, local_wi, inside);
  const float scale = std::abs(local_wi.z() / upright) * side.normal.dot(wo);
  out.diffuse *= scale;
  out.gloss *= scale;
  return out;
}

}  // namespace jovilux
