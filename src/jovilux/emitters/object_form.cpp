// Objects that shine from their surface.
#include "jovilux/emitters/form_parts.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

LightSample sample_object(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3*) {
  LightSample out;
  const SurfaceSample place = e.detail->surface->sample(u);
  const Vec3 to = place.position - p;
  const float d2 = to.squaredNorm();
  if (!(place.pdf_area > 0) || !(d2 > 0)) {
    return out;
  }
  out.distance = std::sqrt(d2);
  out.wi = to / out.distance;
  const float cos_light =
      e.two_sided ? std::abs(out.wi.dot(place.normal)) : -out.wi.dot(place.normal);
  if (!(cos_light > 0)) {
    return {};
  }
  out.pdf = place.pdf_area * d2 / cos_light;
  out.weight = e.luminance * place.covered * falloff_at(e, p) / out.pdf;
  return out;
}

float object_pdf(
    const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3*) {
  const float cos_light = std::abs(wi.dot(at.normal));
  return cos_light > 0
             ? e.detail->surface->pdf_area(at.normal) * (at.position - p).squaredNorm() / cos_light
             : 0;
}

float object_luminance(const Emitter& e, const Vec3& along, const LightPlace& at) {
  return e.two_sided || -along.dot(at.normal) > 0 ? e.luminance : 0;
}

float object_reach(const Emitter& e) { return static_cast<float>(e.detail->surface->reach()); }

// The mean over all directions of what a convex body shows is a quarter of its surface.
float object_intensity(const Emitter& e) {
  return e.luminance * static_cast<float>(e.detail->surface->area()) * 0.25f;
}

float object_expected(const Emitter& e, const Vec3& p, const Vec3& n) {
  return expected_of_ball(e, object_reach(e), p, n, [&](const BallView& ball, float cosine) {
    return object_intensity(e) / ball.near2 * cosine;
  });
}

}  // namespace

const LightForm kObjectForm = {sample_object,
                               object_pdf,
                               object_luminance,
                               object_expected,
                               object_intensity,
                               object_reach,
                               shines_everywhere,
                               covers_nothing};

}  // namespace jovilux
