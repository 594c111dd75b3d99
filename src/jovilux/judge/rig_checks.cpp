#include "jovilux/judge/rig_checks.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

namespace jovilux {
namespace {

// Nothing made or grown is brighter than the sun's disc; the margin is for how it is measured.
constexpr double kBrightestLuminance = 2e9;
constexpr double kHighAlbedo = 0.9;
constexpr int kProbeRays = 4096;

Vec3 sphere_direction(const Vec2& u) {
  const float z = 1 - 2 * u.x(), r = std::sqrt(std::max(0.0f, 1 - z * z)), phi = 2 * kPi * u.y();
  return {r * std::cos(phi), r * std::sin(phi), z};
}

Vec3 cone_direction(const Frame& frame, double half_angle, const Vec2& u) {
  const float cosine = 1 - u.x() * (1 - static_cast<float>(std::cos(half_angle)));
  const float r = std::sqrt(std::max(0.0f, 1 - cosine * cosine)), phi = 2 * kPi * u.y();
  return frame.to_world({r * std::cos(phi), r * std::sin(phi), cosine});
}

// The objects that have a point inside: those that rays from it, in all directions, leave an odd number of times.
std::vector<std::uint32_t> objects_around(const Scene& scene, const Vec3& point) {
  constexpr int kDirections = 48;
  constexpr int kMostCrossings = 1000;
  std::map<std::uint32_t, int> odd;
  for (int i = 0; i < kDirections; ++i) {
    const Sampler sampler(1, 2, static_cast<std::uint32_t>(i));
    Ray ray{point, sphere_direction(sampler.pair(0))};
    std::map<std::uint32_t, int> crossings;
    for (int k = 0; k < kMostCrossings; ++k) {
      const Hit hit = scene.world.closest(ray);
      if (!hit.found()) {
        break;
      }
      const SurfacePoint p = scene.world.point(ray, hit);
      if (const std::uint32_t object = scene.surfaces[p.surface].object; object != kNoIndex) {
        ++crossings[object];
      }
      ray.origin = World::leave(p, ray.direction);
    }
    for (const auto& [object, count] : crossings) {
      odd[object] += count % 2;
    }
  }
  std::vector<std::uint32_t> out;
  for (const auto& [object, count] : odd) {
    if (count == kDirections) {
      out.push_back(object);
    }
  }
  return out;
}

class Checks {
 public:
  Checks(const Rig& rig, const Scene& scene, const std::vector<LightReport>& reports) : rig_(rig), scene_(scene), reports_(reports) {}

  Problems run() {
    if (rig_.cameras.empty()) {
      warn("no-camera", {rig_.file, 0, 0}, "camera", "the rig has no camera: there is nothing to render", "add a [[camera]] with at and look_at");
    }
    if (rig_.lights.empty()) {
      warn("no-light", {rig_.file, 0, 0}, "light", "the rig has no light: every picture is black", "add a [[light]]");
    }
    scene_size();
    for (const MaterialSpec& m : rig_.materials) {
      albedo(m);
    }
    for (const CameraSpec& c : rig_.cameras) {
      for (const std::uint32_t o : objects_around(scene_, c.at.cast<float>())) {
        around_camera_.push_back(o);
      }
    }
    for (std::size_t i = 0; i < rig_.lights.size(); ++i) {
      check_light(rig_.lights[i], reports_[i]);
    }
    return std::move(problems_);
  }

 private:
  void warn(std::string code, const Place& place, std::string address, std::string text, std::string hint) {
    problems_.push_back({Severity::kWarning, std::move(code), place, std::move(address), std::move(text), std::move(hint)});
  }

  void scene_size() {
    Bounds all = scene_.world.bounds();
    for (const LightSpec& l : rig_.lights) {
      if (!is_distant(l.shape.form)) {
        all.add(l.at.cast<float>());
      }
    }
    for (const CameraSpec& c : rig_.cameras) {
      all.add(c.at.cast<float>());
    }
    const double size = all.diagonal();
    constexpr double kLargest = 2000, kSmallest = 0.05;
    if (all.empty() || size <= 0 || (size <= kLargest && size >= kSmallest)) {
      return;
    }
    // The unit that would make it a place that people light.
    static constexpr std::pair<const char*, double> kUnits[] = {{"mm", 1e-3}, {"cm", 1e-2}, {"in", 0.0254}, {"ft", 0.3048}, {"m", 1}, {"km", 1e3}};
    std::string hint = "see [scene] length, mesh_length and scale";
    double best = 1e9;
    for (const auto& [name, meters] : kUnits) {
      const double as = size / rig_.length * meters, off = std::abs(std::log(as / 8));
      if (as > 0.3 && as < 300 && off < best) {
        best = off;
        hint = fmt::format("with [scene] length = \"{}\" it would be {}", name, readable_length(as));
      }
    }
    warn("scene-size", {rig_.file, 0, 0}, "scene.length",
         fmt::format("everything together is {} across: {} for a place that people light", readable_length(size), size > kLargest ? "large" : "small"), hint);
  }

  void albedo(const MaterialSpec& m) {
    const double highest = m.color.maxCoeff();
    if (m.kind == MaterialSpec::Kind::kMetal || highest <= kHighAlbedo) {
      return;
    }
    warn("high-albedo", m.color_place, "material." + m.name + ".color",
         fmt::format("reflects {} % of the light; fresh snow and white paint stay below 90 %", short_number(100 * highest, 3)),
         "use 0.8 for white walls: higher ones wash out and need many bounces");
  }

  // How rays from the light fare: none meets an object, or all do so beyond `reach`.
  void emptiness(const LightSpec& light, const std::string& address) {
    const SourceShape& s = light.shape;
    const bool aimed_form = s.form == Form::kSpot || s.form == Form::kDisk || s.form == Form::kRect;
    const double half = s.form == Form::kSpot ? (s.beam.exponent == 0 ? s.beam.half_beam : std::min(kPiD / 2, 1.5 * s.beam.half_field))
                        : s.half_spread > 0   ? s.half_spread
                                              : kPiD / 2;
    const Frame frame = Frame::around(light.axis.cast<float>());
    const Vec3 center = light.at.cast<float>();
    bool meets = false, within = !light.falloff.has_reach;
    double nearest = HUGE_VAL;
    const auto probe = [&](const Vec3& origin, const Vec3& direction) {
      const Ray ray{origin, direction};
      const Hit hit = scene_.world.closest(ray);
      if (!hit.found() || scene_.surfaces[scene_.world.surface_of(hit)].object == kNoIndex) {
        return;
      }
      meets = true;
      const double d = (ray.at(hit.t) - center).norm();
      nearest = std::min(nearest, d);
      within = within || d < light.falloff.reach_end;
    };
    const float clear = static_cast<float>(s.radius) * 1.0001f + 1e-5f * (1 + center.norm());
    for (int i = 0; i < kProbeRays; ++i) {
      const Sampler sampler(1, 3, static_cast<std::uint32_t>(i));
      const Vec3 direction = aimed_form ? cone_direction(frame, half, sampler.pair(0)) : sphere_direction(sampler.pair(0));
      probe(center + (aimed_form ? Vec3(frame.z * 1e-5f * (1 + center.norm())) : Vec3(direction * clear)), direction);
    }
    for (const PlacedShape& placed : scene_.world.shapes()) {  // small things that the even rays may miss
      const Vec3 to = placed.to_world.offset.cast<float>() - center;
      if (scene_.surfaces[placed.surface].object == kNoIndex || !placed.shape.bounded() || to.norm() < 1e-6f) {
        continue;
      }
      const Vec3 direction = to.normalized();
      if (!aimed_form || std::acos(std::clamp(direction.dot(frame.z), -1.0f, 1.0f)) < half) {
        probe(center + (aimed_form ? Vec3(frame.z * 1e-5f) : Vec3(direction * clear)), direction);
      }
    }
    if (!meets) {
      warn("faces-nothing", light.place, address, aimed_form ? "faces away from everything: its beam meets no object" : "its light meets no object",
           aimed_form ? "see aim or toward" : "see at");
    } else if (!within) {
      warn("reach-holds-nothing", light.falloff_place, address + ".reach",
           fmt::format("the light ends at {}, but the nearest thing it could meet is {} away", readable_length(light.falloff.reach_end), readable_length(nearest)),
           fmt::format("reach beyond {}, or move the light", readable_length(nearest)));
    }
  }

  void check_light(const LightSpec& light, const LightReport& report) {
    const std::string address = "light." + light.name;
    if (light.levels.luminance && light.levels.luminance->value > kBrightestLuminance) {
      std::string hint = usual_luminance(light.shape.form);
      hint += hint.empty() ? "" : ". Enlarge the source or lower its output";
      warn("luminance-beyond-real", light.output_place, address + ".output",
           fmt::format("its surface would have {} cd/m2; nothing is brighter than the sun's disc, 1.6e9 cd/m2", short_number(light.levels.luminance->value, 3)), hint);
    }
    if (!light.on || is_distant(light.shape.form)) {
      return;
    }
    bool enclosed = false;
    for (const std::uint32_t object : objects_around(scene_, light.at.cast<float>())) {
      if (std::find(around_camera_.begin(), around_camera_.end(), object) != around_camera_.end()) {
        continue;  // a room around camera and light
      }
      enclosed = true;
      const ObjectSpec& o = rig_.objects[object];
      warn("light-inside-object", light.place, address,
           fmt::format("is inside the closed object \"{}\" ({}): none of its light comes out", o.name, to_string(o.place)), "move the light out, or open the object");
    }
    if (!enclosed) {
      emptiness(light, address);
    }
    if (light.falloff.law != FalloffLaw::kInverseSquare && report.subject) {
      Falloff law = light.falloff;
      law.has_reach = false;
      const double factor = falloff_weight(law, report.subject->distance_m);
      if (std::abs(factor - 1) > 0.01) {
        warn("not-physical", light.falloff_place, address + ".falloff",
             fmt::format("the law \"{}\" gives {} times the physical level at its subject ({}, {} away)", to_string(law.law), short_number(factor, 3),
                         report.subject->object, readable_length(report.subject->distance_m)),
             fmt::format("match = \"{}\" keeps the level there", readable_length(report.subject->distance_m)));
      }
    }
  }

  const Rig& rig_;
  const Scene& scene_;
  const std::vector<LightReport>& reports_;
  std::vector<std::uint32_t> around_camera_;
  Problems problems_;
};

}  // namespace

Problems check_rig(const Rig& rig, const Scene& scene, const std::vector<LightReport>& reports) {
  return Checks(rig, scene, reports).run();
}

}  // namespace jovilux
