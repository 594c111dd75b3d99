#include "jovilux/judge/light_report.h"

#include <cmath>

#include <fmt/format.h>

#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

namespace jovilux {
namespace {

// Direct illuminance of the bare source at p on a surface that faces the light's center, without falloff law.
double physical_illuminance(const LightSpec& light, const Vec3d& up, const Vec3d& p) {
  const SourceShape& s = light.shape;
  const Vec3d to = light.at - p;
  const double d = to.norm();
  const Vec3d n = to / d;
  switch (s.form) {
    case Form::kPoint: return light.levels.intensity->value / (d * d);
    case Form::kSpot: {
      const double theta = std::atan2(n.cross(light.axis).norm(), -n.dot(light.axis));
      return light.levels.intensity->value * relative_intensity(s.beam, theta) / (d * d);
    }
    case Form::kSphere: return d > s.radius ? sphere_illuminance(light.levels.luminance->value, light.at, s.radius, p, n) : 0;
    case Form::kSun:
    case Form::kSky: return light.levels.illuminance->value;
    case Form::kDisk:
    case Form::kRect: break;
  }
  if (s.half_spread > 0) {  // the subject lies on the axis, where the closed integral is known
    return illuminance_on_axis(s, light.levels, d).value;
  }
  if (s.form == Form::kDisk) {
    return disk_illuminance(light.levels.luminance->value, light.at, light.axis, s.radius, p, n);
  }
  const Mat3d frame = aimed(light.axis, up, light.roll);
  return rect_illuminance(light.levels.luminance->value, light.at, frame.col(0) * (s.width / 2), frame.col(1) * (s.height / 2), p, n);
}

std::string falloff_words(const Falloff& f) {
  std::string out(to_string(f.law));
  if (f.law == FalloffLaw::kLinear) {
    out += fmt::format(", zero at {}", readable_length(f.zero_at));
  } else if (f.law == FalloffLaw::kPolynomial) {
    out += fmt::format(", 1/({} + {} d + {} d^2)", short_number(f.a), short_number(f.b), short_number(f.c));
  }
  return f.law == FalloffLaw::kInverseSquare ? out : out + fmt::format(", match {}", readable_length(f.match));
}

}  // namespace

std::string usual_luminance(Form form) {
  switch (form) {
    case Form::kSphere: return "opal bulbs 5e3 to 1e5 cd/m2, a candle flame 1e4, a filament 7e6 to 2e7";
    case Form::kDisk:
    case Form::kRect: return "panels and softboxes 1e3 to 1e5 cd/m2, LED chips up to 1e8";
    case Form::kSun: return "the sun's disc about 1.6e9 cd/m2, the full moon 2.5e3";
    case Form::kSky: return "overcast skies 1e2 to 1e4 cd/m2, clear ones to 1e4";
    default: return "";
  }
}

std::vector<LightReport> light_reports(const Rig& rig, const Scene& scene) {
  std::vector<LightReport> out;
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& light = rig.lights[i];
    LightReport r;
    r.name = light.name;
    r.form = light.shape.form;
    r.levels = light.levels;
    r.dimmed = light.dimmed();
    r.gel_transmittance = scene.gel_transmittance[i];
    if (light.efficacy > 0) {
      r.efficacy_lm_w = light.efficacy;
    }
    const Xyz white = tristimulus(scene.emitters[i].table, Spectrum::Ones(), 1.0f).matrix().cast<double>();
    r.xy = chromaticity(white);
    const Cct cct = correlated_color_temperature(white);
    r.duv = cct.duv;
    if (std::abs(cct.duv) <= 0.05) {
      r.cct_k = cct.cct.value;
    }

    const Falloff& f = light.falloff;
    const bool distant = is_distant(light.shape.form);
    Ray ray;
    if (!distant) {
      // From the surface of the body, so that it does not meet itself.
      const double body = light.shape.form == Form::kSphere ? light.shape.radius : 0.0;
      ray.origin = (light.at + light.axis * (body + 1e-5 * (1 + light.at.norm()))).cast<float>();
      ray.direction = light.axis.cast<float>();
      const Hit hit = scene.world.closest(ray);
      if (hit.found()) {
        const SurfacePoint p = scene.world.point(ray, hit);
        const Scene::Surface& surface = scene.surfaces[p.surface];
        LightReport::Subject s;
        s.object = surface.object != kNoIndex ? rig.objects[surface.object].name : rig.lights[surface.emitter].name;
        const Vec3d at = p.position.cast<double>();
        s.distance_m = (at - light.at).norm();
        s.falloff_factor = falloff_weight(f, s.distance_m);
        s.illuminance_lx = physical_illuminance(light, rig.up, at) * s.falloff_factor * r.dimmed * r.gel_transmittance;
        r.subject = s;
      }
    } else {
      r.subject = LightReport::Subject{light.shape.form == Form::kSun ? "any surface facing it" : "open level ground", 0, light.levels.illuminance->value * r.dimmed * r.gel_transmittance, 1};
    }

    const auto at_subject = [&](const Falloff& part) {
      return r.subject ? fmt::format("{} times the inverse square at its subject ({})",
                                     short_number(falloff_weight(part, r.subject->distance_m), 3),
                                     readable_length(r.subject->distance_m))
                       : std::string("meets no subject");
    };
    if (f.law != FalloffLaw::kInverseSquare) {
      Falloff law_only = f;
      law_only.has_reach = false;
      law_only.cushion = 0;
      r.cheats.push_back({"falloff", falloff_words(f), at_subject(law_only)});
    }
    if (f.cushion > 0) {
      Falloff cushion_only;
      cushion_only.cushion = f.cushion;
      r.cheats.push_back({"cushion", readable_length(f.cushion),
                          f.law == FalloffLaw::kInverseSquare
                              ? fmt::format("half of the inverse square at {}; {}", readable_length(f.cushion), at_subject(cushion_only))
                              : std::string("softens the law near the lamp")});
    }
    if (f.has_reach) {
      Falloff reach_only;
      reach_only.has_reach = true;
      reach_only.reach_start = f.reach_start;
      reach_only.reach_end = f.reach_end;
      r.cheats.push_back({"reach", fmt::format("{} to {}", readable_length(f.reach_start), readable_length(f.reach_end)), at_subject(reach_only)});
    }
    out.push_back(std::move(r));
  }
  return out;
}

}  // namespace jovilux
