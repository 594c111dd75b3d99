// Point and sphere.
#include "jovilux/emitters/form_parts.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

LightSample sample_point(const Emitter& e, const Vec3& p, const Vec2&, const Vec3*) {
  return toward_point(e, p);
}

float point_pdf(const Emitter&, const Vec3&, const Vec3&, const LightPlace&, const Vec3*) {
  return 0;
}

float point_luminance(const Emitter&, const Vec3&, const LightPlace&) { return 0; }

float point_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return expected_of_ball(e, 0, p, n, [&](const BallView& ball, float cosine) {
    return expected_of_point(e, ball, cosine, has_profile(e) ? profile_toward(e, ball) : 1.0f);
  });
}

float point_intensity(const Emitter& e) { return e.intensity; }

LightSample sample_sphere(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3*) {
  LightSample out;
  const Vec3 to = e.center - p;
  const float d2 = to.squaredNorm(), r2 = e.radius * e.radius;
  if (d2 <= r2) {
    return out;
  }
  const float omc = one_minus_cos(r2 / d2);
  const Frame frame = Frame::around(to / std::sqrt(d2));
  const Vec3 local = cone_direction(omc, u);
  out.wi = frame.to_world(local);
  out.pdf = cone_pdf(omc);
  // The near side along wi: the center's foot less half the chord.
  const float foot = std::sqrt(d2) * local.z();
  const float sin2 = local.x() * local.x() + local.y() * local.y();
  const float chord = std::sqrt(std::max(0.0f, r2 - d2 * sin2));
  out.distance = foot - chord;
  out.weight = sphere_luminance(e, -out.wi, chord / e.radius) * falloff_at(e, p) / out.pdf;
  return out;
}

float sphere_pdf(const Emitter& e, const Vec3& p, const Vec3&, const LightPlace&, const Vec3*) {
  const float d2 = (e.center - p).squaredNorm(), r2 = e.radius * e.radius;
  return d2 > r2 ? cone_pdf(one_minus_cos(r2 / d2)) : 0;
}

float luminance_of_sphere(const Emitter& e, const Vec3& along, const LightPlace& at) {
  return sphere_luminance(e, -along, -along.dot(at.normal));
}

float sphere_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return expected_of_ball(e, e.radius, p, n, [&](const BallView& ball, float cosine) {
    return e.by_intensity ? expected_of_beam(e, ball, cosine, true)
                          : e.luminance * e.area() / ball.near2 * cosine;
  });
}

float sphere_intensity(const Emitter& e) {
  return e.by_intensity ? e.intensity : e.luminance * e.area();
}

float sphere_reach(const Emitter& e) { return e.radius; }

}  // namespace

const LightForm kPointForm = {sample_point,
                              point_pdf,
                              point_luminance,
                              point_expected,
                              point_intensity,
                              no_reach,
                              shines_everywhere,
                              covers_nothing};
const LightForm kSphereForm = {sample_sphere,
                               sphere_pdf,
                               luminance_of_sphere,
                               sphere_expected,
                               sphere_intensity,
                               sphere_reach,
                               shines_everywhere,
                               covers_nothing};

}  // namespace jovilux
