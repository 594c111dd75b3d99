#include "jovilux/judge/light_report.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/falloff_study.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

// Direct illuminance of the bare source at p on a surface that faces the light's center, without
// falloff law: closed forms where there are some.
double physical_illuminance(const LightSpec& light,
                            const LightParts& parts,
                            const Emitter& emitter,
                            const Vec3d& up,
                            const Vec3d& p) {
  const SourceShape& s = parts.shape;
  const Vec3d to = light.at - p;
  const double d = to.norm();
  const Vec3d n = to / d;
  // Closed forms hold for plain sources; the others are measured by sampling, as a render would.
  const bool plain = !s.profile && s.hot_center == 0 && s.half_spread == 0;
  if (plain && s.kind == LightKind::kPoint) {
    return parts.levels.intensity->value / (d * d);
  }
  if (plain && s.kind == LightKind::kSpot && s.radius == 0) {
    const double theta = std::atan2(n.cross(light.axis).norm(), -n.dot(light.axis));
    return parts.levels.intensity->value * relative_intensity(s.beam, theta) / (d * d);
  }
  if (plain && s.kind == LightKind::kSphere) {
    return d > s.radius
               ? sphere_illuminance(parts.levels.luminance->value, light.at, s.radius, p, n)
               : 0;
  }
  if (is_distant(s.kind)) {
    return parts.levels.illuminance->value;
  }
  if (plain && s.kind == LightKind::kDisk && !s.two_sided) {
    return disk_illuminance(parts.levels.luminance->value, light.at, light.axis, s.radius, p, n);
  }
  if (plain && s.kind == LightKind::kRect && !s.two_sided) {
    const Mat3d frame = aimed(light.axis, up, light.roll);
    return rect_illuminance(parts.levels.luminance->value,
                            light.at,
                            frame.col(0) * (s.width / 2),
                            frame.col(1) * (s.height / 2),
                            p,
                            n);
  }
  // The bare source of what is left: at full level, without mask and law.
  Emitter bare = emitter;
  bare.falloff = Falloff{};
  auto detail = std::make_shared<EmitterDetail>(parts.detail ? *parts.detail : EmitterDetail{});
  detail->gobo = nullptr;
  detail->doors.reset();
  detail->tint.reset();
  detail->inside.reset();
  bare.detail = detail;
  const double level = light.dimmed() * parts.color.transmittance * parts.camera_fade;
  if (!(level > 0)) {
    return 0;
  }
  return direct_illuminance(bare, p.cast<float>(), n.cast<float>()) / level;
}

}  // namespace

namespace {

// What links, zones, fading and the cheat table do, in figures.
void effect_cheats(const Rig& rig, const LightSpec& light, LightReport& r) {
  const auto add = [&](std::string key, std::string value, std::string effect) {
    r.cheats.push_back({std::move(key), std::move(value), std::move(effect)});
  };
  const auto of_all = [&](const std::vector<std::uint32_t>& list) {
    return fmt::format("{} of {} objects", list.size(), rig.objects.size());
  };
  if (light.lit) {
    add("only", of_all(*light.lit), "the others get none of its light, nor what bounces off these");
  }
  if (light.casters) {
    add("shadow_only", of_all(*light.casters), "throw its shadows; the others let it through");
  }
  if (light.inside) {
    add("inside", light.inside->name, "no light outside; not a shadow ray is spent there");
  }
  if (light.fade_with_camera) {
    add("fade_with_camera",
        fmt::format("{} to {}",
                    readable_length(light.fade_with_camera->first),
                    readable_length(light.fade_with_camera->second)),
        fmt::format("{} times its light with this camera", short_number(r.camera_fade, 3)));
  }
  const CheatSpec& c = light.cheat;
  const auto factor = [&](const char* key, double v, const char* of_what) {
    if (v != 1) {
      add(fmt::format("cheat.{}", key),
          short_number(v, 3),
          fmt::format("{} times its light {}", short_number(v, 3), of_what));
    }
  };
  factor("direct", c.direct, "at the first surface or haze that it falls on");
  factor("diffuse", c.diffuse, "in diffuse reflection");
  factor("gloss", c.gloss, "in glossy reflection and mirrors");
  factor("bounce", c.bounce, "after a bounce, caustics apart");
  factor("caustics", c.caustics, "that gloss and mirrors throw on other surfaces");
  factor("haze", c.haze, "that haze scatters");
  if (c.bounce_chroma != 1) {
    add("cheat.bounce_chroma",
        short_number(c.bounce_chroma, 3),
        fmt::format("its bounced light keeps {} % of its colorfulness",
                    short_number(100 * c.bounce_chroma, 3)));
  }
  if (c.shadow != 1) {
    add("cheat.shadow",
        short_number(c.shadow, 3),
        fmt::format("its shadows keep {} % of its light", short_number(100 * (1 - c.shadow), 3)));
  }
  if ((c.shadow_tint.array() > 0).any()) {
    const double y = luminance_of(c.shadow_tint);
    add("cheat.shadow_tint",
        hex_color(c.shadow_tint),
        fmt::format("its shadows let {} % of its light through, colored",
                    short_number(100 * c.shadow * y, 3)));
  }
  if (c.bounce_limit) {
    add("cheat.bounce_limit",
        short_number(*c.bounce_limit, 3) + " cd/m2",
        fmt::format("no path of its bounced light adds more than {} cd/m2 to a sample; render "
                    "tells what is held back",
                    short_number(*c.bounce_limit, 3)));
  }
  if (!c.visible) {
    add("cheat.visible", "false", "cameras and mirrors do not see its surface");
  }
}

// North is +y (with y up: -z), east +x.
LightReport::Stand stand_of(const Rig& rig, const LightSpec& light) {
  const Vec3d to = -light.axis, east = Vec3d::UnitX(), north = rig.up.cross(east);
  const double azimuth = std::atan2(to.dot(east), to.dot(north));
  return {std::asin(std::clamp(to.dot(rig.up), -1.0, 1.0)),
          azimuth < 0 ? azimuth + 2 * kPiD : azimuth};
}

// Whether light passes a surface straight, and so lights what is behind it: a pane, or an object
// that is neither lit by the light nor throws its shadow.
bool passes(const Scene& scene, const LightSpec& light, const Scene::Surface& surface) {
  if (surface.material != kNoIndex && scene.materials[surface.material].is_pane()) {
    return true;
  }
  const auto among = [&](const std::optional<std::vector<std::uint32_t>>& list) {
    return !list || std::binary_search(list->begin(), list->end(), surface.object);
  };
  return surface.object != kNoIndex && !among(light.lit) && !among(light.casters);
}

// The first surface on the axis that the light does not pass, where it is one that it lights.
std::optional<LightReport::Subject> subject_of(const Rig& rig,
                                               const Scene& scene,
                                               std::size_t index) {
  const LightSpec& light = rig.lights[index];
  const LightParts& parts = scene.lights[index];
  const LightKind kind = light.shape.kind;
  // From the surface of the body, so that it does not meet itself.
  double body = kind == LightKind::kSphere || kind == LightKind::kTube ? light.shape.radius : 0.0;
  if (parts.surface) {
    body = parts.surface->reach();
  }
  // A tube's subject lies straight below it, as far as its own direction lets that be.
  const Vec3d axis = parts.shape.kind == LightKind::kTube
                         ? Vec3d(-scene.emitters[index].frame.z.cast<double>())
                         : light.axis;
  const Vec3d center = parts.surface ? parts.surface->center() : light.at;
  Ray ray{(center + axis * (body + 1e-5 * (1 + light.at.norm()))).cast<float>(),
          axis.cast<float>()};
  Hit hit = scene.world.closest(ray);
  constexpr int kMostPassed = 64;
  for (int passed = 0; passed < kMostPassed && hit.found(); ++passed) {
    const SurfacePoint p = scene.world.point(ray, hit);
    if (!passes(scene, light, scene.surfaces[p.surface])) {
      break;
    }
    ray.origin = World::leave(p, ray.direction);
    hit = scene.world.closest(ray);
  }
  if (!hit.found()) {
    return std::nullopt;
  }
  const SurfacePoint p = scene.world.point(ray, hit);
  const Scene::Surface& surface = scene.surfaces[p.surface];
  const bool lit = surface.object == kNoIndex || !light.lit ||
                   std::binary_search(light.lit->begin(), light.lit->end(), surface.object);
  if (!lit) {
    return std::nullopt;
  }
  LightReport::Subject s;
  s.object = surface.object != kNoIndex ? rig.objects[surface.object].name
                                        : rig.lights[surface.emitter].name;
  const Vec3d at = p.position.cast<double>();
  s.distance_m = (at - light.at).norm();
  s.falloff_factor = falloff_weight(light.falloff, s.distance_m);
  s.illuminance_lx = physical_illuminance(light, parts, scene.emitters[index], rig.up, at) *
                     s.falloff_factor * parts.remaining(light);
  return s;
}

// The law itself, whether by its name or as a polynomial of d^2 alone.
bool is_inverse_square(const Falloff& f) {
  return f.law == FalloffLaw::kInverseSquare ||
         (f.law == FalloffLaw::kPolynomial && f.constant == 0 && f.linear == 0);
}

// What the law, near_softening and range do, in figures.
void falloff_cheats(const LightSpec& light, LightReport& r) {
  const Falloff& f = light.falloff;
  const auto at_subject = [&](const Falloff& part) {
    return r.subject ? fmt::format("{} times the inverse square at its subject ({})",
                                   short_number(falloff_weight(part, r.subject->distance_m), 3),
                                   readable_length(r.subject->distance_m))
                     : std::string("meets no subject");
  };
  if (!is_inverse_square(f)) {
    Falloff law_only = f;
    law_only.has_range = false;
    law_only.near_softening = 0;
    r.cheats.push_back({"falloff", law_words(law_only), at_subject(law_only)});
  }
  if (f.near_softening > 0) {
    Falloff cushion_only;
    cushion_only.near_softening = f.near_softening;
    r.cheats.push_back({"near_softening",
                        readable_length(f.near_softening),
                        is_inverse_square(f) ? fmt::format("half of the inverse square at {}; {}",
                                                           readable_length(f.near_softening),
                                                           at_subject(cushion_only))
                                             : std::string("softens the law near the lamp")});
  }
  if (f.has_range) {
    Falloff reach_only;
    reach_only.has_range = true;
    reach_only.range_start = f.range_start;
    reach_only.range_end = f.range_end;
    r.cheats.push_back(
        {"range",
         fmt::format("{} to {}", readable_length(f.range_start), readable_length(f.range_end)),
         at_subject(reach_only)});
  }
}

}  // namespace

// Ranges of luminance by what the source may be, for `check`: a number far outside is a slip.
std::optional<SourceKind> kind_of(const LightSpec& light, const SourceShape& s) {
  const bool warm = !light.spectrum && light.spectrum_file.empty() &&
                    light.white.kind == White::Kind::kPlanck &&
                    light.white.temperature.value <= 2100;
  switch (s.kind) {
    case LightKind::kPoint:
      return std::nullopt;
    case LightKind::kSphere:
      if (warm && s.radius >= 0.005) {
        return SourceKind{"flames and amber bulbs", 5e3, 5e4, 1e6};
      }
      return s.radius >= 0.01 ? SourceKind{"bulbs", 5e3, 2e5, 2e6}
                              : SourceKind{"filaments, LED chips and small arcs", 1e4, 5e7, 1e9};
    case LightKind::kDisk:
    case LightKind::kRect:
      return (s.kind == LightKind::kDisk ? 2 * s.radius : std::min(s.width, s.height)) >= 0.05
                 ? SourceKind{"LED panels, softboxes and lit windows", 5e2, 1e5, 2e6}
                 : SourceKind{"LED chips", 1e5, 5e7, 2e8};
    case LightKind::kSpot:
      return s.radius > 0 ? std::optional(SourceKind{"lenses of spotlights", 1e5, 5e7, 1e9})
                          : std::nullopt;
    case LightKind::kTube:
      return s.radius > 0
                 ? std::optional(SourceKind{"fluorescent, LED and neon tubes", 2e3, 4e4, 2e5})
                 : std::nullopt;
    case LightKind::kObject:
      return SourceKind{
          "glowing surfaces: a screen 300, a lampshade 3e3, a molten glass 1e5", 1e2, 1e5, 2e8};
    case LightKind::kSun:
      return SourceKind{"the sun's disc; the full moon has 2.5e3", 1e5, 1.6e9, 2e9};
    case LightKind::kSky:
      return SourceKind{"skies by day; by night they fall to 1e-4", 1e2, 1e4, 5e4};
    case LightKind::kDome:
      return std::nullopt;
  }
  return std::nullopt;
}

double direct_illuminance(const Emitter& e, const Vec3& p, const Vec3& n, std::uint32_t points) {
  double sum = 0;
  for (std::uint32_t i = 0; i < points; ++i) {
    const LightSample s = sample_toward(e, p, Sampler(1, 5, i).pair(0));
    if (s.weight > 0 && s.wi.dot(n) > 0) {
      sum += s.weight * s.wi.dot(n) *
             (s.colored ? std::max(0.0f, tristimulus(e.table, spectrum_from_rgb(s.rgb), 1.0f)[1])
                        : 1.0f);
    }
  }
  return sum / points;
}

std::vector<LightReport> light_reports(const Rig& rig, const Scene& scene) {
  std::vector<LightReport> out;
  Cct cct{};
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& light = rig.lights[i];
    LightReport r;
    r.name = light.name;
    r.kind = light.shape.kind;
    const LightParts& parts = scene.lights[i];
    r.levels = parts.levels;
    r.dimmed = light.dimmed();
    r.gel_transmittance = parts.color.transmittance;
    if (const auto& beam = parts.shape.profile; light.diffusion() && beam != nullptr) {
      constexpr double kBeam = 0.5, kField = 0.1;  // IES LS-1
      r.diffused = LightReport::Beam{beam->full_angle(0, kBeam), beam->full_angle(0, kField)};
    }
    r.gobo_transmittance = parts.gobo_transmittance;
    r.doors_transmittance = parts.doors_transmittance;
    r.camera_fade = parts.camera_fade;
    if (light.efficacy > 0) {
      r.efficacy_lm_w = light.efficacy;
    }
    const Xyz white =
        tristimulus(scene.emitters[i].table, Spectrum::Ones(), 1.0f).matrix().cast<double>();
    r.xy = chromaticity(white);
    // Copies of one light share its color, which is slow to find.
    const bool same = i > 0 && (scene.emitters[i].table == scene.emitters[i - 1].table).all();
    cct = same ? cct : correlated_color_temperature(white);
    r.duv = cct.duv;
    if (std::abs(cct.duv) <= 0.05) {
      r.cct_k = cct.cct.value;
    }

    if (light.shape.kind == LightKind::kSun) {
      r.stand = stand_of(rig, light);
    }
    if (is_distant(light.shape.kind)) {
      r.subject = LightReport::Subject{
          light.shape.kind == LightKind::kSun ? "any surface facing it" : "open level ground",
          0,
          parts.levels.illuminance->value * parts.remaining(light),
          1};
    } else {
      r.subject = subject_of(rig, scene, i);
    }
    falloff_cheats(light, r);
    effect_cheats(rig, light, r);
    out.push_back(std::move(r));
  }
  return out;
}

}  // namespace jovilux
