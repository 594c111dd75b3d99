#include "jovilux/judge/rig_checks.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/check_warnings.h"
#include "jovilux/judge/light_probe.h"
#include "jovilux/judge/placement_checks.h"
#include "jovilux/transport/camera.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

// Nothing made or grown is brighter than the sun's disc; the margin is for how it is measured.
constexpr double kBrightestLuminance = 2e9;
constexpr double kHighAlbedo = 0.9;

// The objects that have a point inside: those that rays from it, in all directions, leave an odd
// number of times.
std::vector<std::uint32_t> objects_around(const Scene& scene, const Vec3& point) {
  constexpr int kDirections = 48;
  constexpr int kMostCrossings = 1000;
  std::map<std::uint32_t, int> odd;
  for (int i = 0; i < kDirections; ++i) {
    const Sampler sampler(1, 2, static_cast<std::uint32_t>(i));
    Ray ray{point, even_direction(sampler.pair(0))};
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

// What a rig's author would see only in the picture, or not at all: each check is a function that
// warns with a place and a way out.
class Checks : private CheckWarnings {
 public:
  Checks(const Rig& rig, const Scene& scene, const std::vector<LightReport>& reports)
      : rig_(rig), scene_(scene), reports_(reports) {}

  Problems run() {
    if (rig_.cameras.empty()) {
      warn("no-camera",
           {rig_.file, 0, 0},
           "camera",
           "the rig has no camera: there is nothing to render",
           "add a [[camera]] with at and look_at");
    }
    if (rig_.lights.empty()) {
      warn("no-light",
           {rig_.file, 0, 0},
           "light",
           "the rig has no light: every picture is black",
           "add a [[light]]");
    }
    scene_size();
    for (const MaterialSpec& m : rig_.materials) {
      albedo(m);
      if (m.bounce_roughness > m.roughness) {
        warn("bounce-roughness",
             m.bounce_place,
             "material." + m.name + ".bounce_roughness",
             fmt::format("a departure from physics: rougher ({} instead of {}) where it throws "
                         "light on what is no mirror",
                         short_number(m.bounce_roughness, 2),
                         short_number(m.roughness, 2)),
             "render tells how much light that takes; leave it out for what is real");
      }
    }
    haze();
    solids();
    for (const CameraSpec& c : rig_.cameras) {
      const std::vector<std::uint32_t> around = objects_around(scene_, c.at.cast<float>());
      around_camera_.insert(around_camera_.end(), around.begin(), around.end());
      dark_room(c, around);
    }
    for (std::size_t i = 0; i < rig_.lights.size(); ++i) {
      check_light(rig_.lights[i], reports_[i]);
    }
    weak_lights();
    for (Problem& p : placement_checks(rig_, scene_)) {
      problems_.push_back(std::move(p));
    }
    return std::move(problems_);
  }

 private:
  void scene_size() {
    Bounds all = scene_.world.bounds();
    for (const LightSpec& l : rig_.lights) {
      if (!is_distant(l.shape.kind)) {
        all.add(l.at.cast<float>());
      }
    }
    for (const CameraSpec& c : rig_.cameras) {
      all.add(c.at.cast<float>());
    }
    const double size = all.diagonal();
    // Under the sky places are larger than lamps light.
    const double kLargest = scene_.distant.empty() ? 300 : 2000;
    constexpr double kSmallest = 0.05;
    if (all.empty() || size <= 0 || (size <= kLargest && size >= kSmallest)) {
      return;
    }
    // The unit that would make it a place that people light.
    static constexpr std::pair<const char*, double> kUnits[] = {
        {"mm", 1e-3}, {"cm", 1e-2}, {"in", 0.0254}, {"ft", 0.3048}, {"m", 1}, {"km", 1e3}};
    std::string hint = "see [scene] length, mesh_length and scale";
    double best = 1e9;
    for (const auto& [name, meters] : kUnits) {
      const double as = size / rig_.length * meters, off = std::abs(std::log(as / 8));
      if (as > 0.3 && as < 300 && off < best) {
        best = off;
        hint =
            fmt::format("with [scene] length = \"{}\" it would be {}", name, readable_length(as));
      }
    }
    warn("scene-size",
         {rig_.file, 0, 0},
         "scene.length",
         fmt::format("everything together is {} across: {} for a place that people light",
                     readable_length(size),
                     size > kLargest ? "large" : "small"),
         hint);
  }

  // Haze that no light from the sky comes through, that never loses light, that hides what a camera
  // looks at.
  void haze() {
    if (scene_.hazes.empty()) {
      return;
    }
    for (const HazeSpec& h : rig_.hazes) {
      if (!h.inside && h.extinction > 0 && h.scale_height == 0 && h.file.empty() &&
          !scene_.distant.empty()) {
        warn("haze-hides-sky",
             h.place,
             "haze." + h.name + ".inside",
             "is everywhere without end: nothing of sun, sky and dome comes through",
             "hold it inside a solid, such as a box around the set");
      }
      constexpr int kManyBounces = 1000;
      if (h.albedo.maxCoeff() >= 1 && h.extinction > 0 && rig_.render.bounces >= kManyBounces) {
        warn("haze-albedo",
             h.albedo_place,
             "haze." + h.name + ".albedo",
             fmt::format(
                 "scatters all of the light and absorbs none: with {} bounces paths hardly end",
                 rig_.render.bounces),
             "use 0.99 or less, or fewer bounces");
      }
    }
    for (const CameraSpec& camera : rig_.cameras) {
      haze_before(camera);
    }
  }

  struct View {
    double depth, distance;  // the optical depth of haze on the way to a surface; its distance [m]
  };
  // Of a camera's rays over the picture, the one of median optical depth; nothing where no ray
  // meets a surface.
  std::optional<View> median_view(const CameraSpec& spec) const {
    constexpr int kAcross = 32, kDown = 18, kSteps = 64;
    std::vector<std::pair<double, double>> seen;  // depth, distance
    const Camera camera(spec, rig_.up, kAcross, kDown);
    for (int y = 0; y < kDown; ++y) {
      for (int x = 0; x < kAcross; ++x) {
        const Ray ray =
            camera.ray(static_cast<float>(x) + 0.5f, static_cast<float>(y) + 0.5f, {0, 0});
        const Hit hit = scene_.world.closest(ray);
        if (hit.found()) {
          seen.emplace_back(HazeAlong(scene_.hazes, ray, hit.t).optical_depth(hit.t, kSteps),
                            hit.t);
        }
      }
    }
    if (seen.empty()) {
      return std::nullopt;
    }
    std::sort(seen.begin(), seen.end());
    const auto [depth, distance] = seen[seen.size() / 2];
    return View{depth, distance};
  }

  void haze_before(const CameraSpec& camera) {
    constexpr double kDrowned = 0.02, kWorks = 0.5;
    const std::optional<View> view = median_view(camera);
    const double left = view ? std::exp(-view->depth) : 1;
    if (left >= kDrowned) {
      return;
    }
    const auto thickest = std::max_element(
        rig_.hazes.begin(), rig_.hazes.end(), [](const HazeSpec& a, const HazeSpec& b) {
          return a.extinction < b.extinction;
        });
    // The extinction whose depth leaves half, at this distance.
    const double works = thickest->extinction * -std::log(kWorks) / view->depth;
    warn("haze-too-dense",
         thickest->extinction_place,
         "haze." + thickest->name,
         fmt::format("the camera \"{}\" sees {} % of what lies {} away; its visibility is {}",
                     camera.name,
                     left < 1e-6 ? "less than 0.0001" : short_number(100 * left, 2),
                     readable_length(view->distance),
                     readable_length(-std::log(0.05) / thickest->extinction)),
         fmt::format("visibility = \"{}\" leaves half of it",
                     readable_length(-std::log(0.05) / works)));
  }

  // A camera in a closed object that keeps all light out, as a mesh in the wrong unit does.
  void dark_room(const CameraSpec& camera, const std::vector<std::uint32_t>& around) {
    for (const std::uint32_t object : around) {
      const ObjectSpec& o = rig_.objects[object];
      if (!opaque(o) || o.solid >= 0 || shines_in(object)) {
        continue;
      }
      warn("camera-inside-object",
           camera.place,
           "camera." + camera.name,
           fmt::format("is inside the closed object \"{}\" ({}), in which no light shines: its "
                       "picture is black",
                       o.name,
                       to_string(o.place)),
           o.mesh.empty() ? "move the camera out, or put a light inside"
                          : "is the unit of its file right? see mesh_length and scale; else move "
                            "the camera out");
    }
  }

  // Whether a light that is on stands inside an object, or is one itself, which may.
  bool shines_in(std::uint32_t object) const {
    return std::any_of(rig_.lights.begin(), rig_.lights.end(), [&](const LightSpec& light) {
      if (!light.on || is_distant(light.shape.kind)) {
        return false;
      }
      if (light.object >= 0) {
        return true;
      }
      const auto holders = objects_around(scene_, light.at.cast<float>());
      return std::find(holders.begin(), holders.end(), object) != holders.end();
    });
  }

  bool opaque(const ObjectSpec& o) const {
    return o.material < 0 || !scene_.materials[static_cast<std::size_t>(o.material)].lets_through();
  }

  // Solids that rays may miss or pass through, and cameras in them.
  void solids() {
    for (const Rig::Solid& s : rig_.solids) {
      if (s.node.kind != SolidKind::kFormula) {
        continue;
      }
      const double steepest = s.compiled->steepest(20000);
      if (steepest > 1.01) {
        warn("formula-slope",
             s.place,
             "solid." + s.name + ".slope",
             fmt::format(
                 "rises by up to {} a meter, but slope says {}: rays may pass through its surface",
                 short_number(steepest * s.node.slope, 3),
                 short_number(s.node.slope, 3)),
             fmt::format("slope = {}", short_number(1.1 * steepest * s.node.slope, 2)));
      }
    }
    const double tolerance = rig_.render.march.tolerance;
    for (const PlacedSolid& placed : scene_.world.solids()) {
      const ObjectSpec& object = rig_.objects[scene_.surfaces[placed.surface].object];
      const double smallest =
          placed.solid->smallest() * placed.to_world.linear.colwise().norm().minCoeff();
      if (smallest < 2 * tolerance) {
        warn("march-tolerance",
             rig_.render.march_place.line > 0 ? rig_.render.march_place : object.place,
             "render.march.tolerance",
             fmt::format("steps of {} are too coarse for \"{}\", whose thinnest part measures {}: "
                         "rays may miss it",
                         readable_length(tolerance),
                         object.name,
                         readable_length(smallest)),
             fmt::format("march = {{ tolerance = \"{}\" }}", readable_length(smallest / 4)));
      }
      for (const CameraSpec& c : rig_.cameras) {
        if (opaque(object) && placed.solid->distance(placed.to_local.point(c.at)) < 0) {
          warn("camera-inside-solid",
               c.place,
               "camera." + c.name,
               fmt::format("is inside the solid object \"{}\" ({}): it sees nothing else",
                           object.name,
                           to_string(object.place)),
               "move the camera out");
        }
      }
    }
  }

  // The solid object whose matter is at a place; null where none is.
  const ObjectSpec* solid_at(const Vec3d& p) const {
    for (const PlacedSolid& placed : scene_.world.solids()) {
      const ObjectSpec& object = rig_.objects[scene_.surfaces[placed.surface].object];
      if (opaque(object) && placed.solid->distance(placed.to_local.point(p)) < 0) {
        return &object;
      }
    }
    return nullptr;
  }

  void albedo(const MaterialSpec& m) {
    const double highest = m.color.maxCoeff();
    if ((m.kind != MaterialSpec::Kind::kDiffuse && m.kind != MaterialSpec::Kind::kGloss) ||
        highest <= kHighAlbedo) {
      return;
    }
    warn("high-albedo",
         m.color_place,
         "material." + m.name + ".color",
         fmt::format("reflects {} % of the light; fresh snow and white paint stay below 90 %",
                     short_number(100 * highest, 3)),
         "use 0.8 for white walls: higher ones wash out and need many bounces");
  }

  // A light that meets nothing, or only what its range or its volume leaves out; and hot spots.
  void reached_objects(const LightSpec& light, const Emitter& emitter, const std::string& address) {
    const LightProbe probe = probe_light(scene_, light, emitter);
    if (!probe.meets_object && probe.meets_lamp) {
      return;  // what hides it is told by placement_checks()
    }
    if (!probe.meets_object) {
      warn("faces-nothing",
           light.place,
           address,
           probe.aimed ? "faces away from everything: its beam meets no object"
                       : "its light meets no object",
           nearest_object(light.at, probe.aimed));
    } else if (!probe.within_range) {
      warn("range-holds-nothing",
           light.falloff_place,
           address + ".range",
           fmt::format("the light ends at {}, but the nearest thing it could meet is {} away",
                       readable_length(light.falloff.range_end),
                       readable_length(probe.nearest)),
           fmt::format("range beyond {}, or move the light", readable_length(probe.nearest)));
    } else if (!probe.within_volume) {
      warn("inside-holds-nothing",
           light.place,
           address + ".inside",
           fmt::format("no surface that the light meets lies in its volume \"{}\"",
                       light.inside->name),
           "move or enlarge the volume");
    } else {
      hot_spot(light, emitter, probe.lit, address);
    }
  }

  // The object whose origin is nearest to a place, as advice.
  std::string nearest_object(const Vec3d& at, bool aimed) const {
    double best = HUGE_VAL;
    const ObjectSpec* found = nullptr;
    for (const ObjectSpec& o : rig_.objects) {
      const double d = (o.transform.offset - at).norm();
      if (d < best && (!o.shape || o.shape->bounded())) {
        best = d;
        found = &o;
      }
    }
    if (found == nullptr) {
      return rig_.objects.empty() ? "add an [[object]]" : aimed ? "see aim or toward" : "see at";
    }
    const Vec3d p = found->transform.offset / rig_.length;
    return fmt::format("the nearest object is \"{}\", {} away: {}",
                       found->name,
                       readable_length(best),
                       aimed ? fmt::format("aim = [{}, {}, {}] faces it",
                                           short_number(p.x(), 3),
                                           short_number(p.y(), 3),
                                           short_number(p.z(), 3))
                             : std::string("see at"));
  }

  // A tiny source so near a surface that its hottest place gets hundreds of times what it brings to
  // 1 m.
  void hot_spot(const LightSpec& light,
                const Emitter& emitter,
                const std::vector<LightProbe::LitPlace>& lit,
                const std::string& address) {
    constexpr double kTiny = 0.02, kHot = 400, kTame = 100;
    const SourceShape& s = light.shape;
    const double size = s.kind == LightKind::kRect ? std::hypot(s.width, s.height) : 2 * s.radius;
    const double at_1m = relative_level(emitter, (light.at + light.axis).cast<float>());
    if (lit.empty() || size > kTiny || s.kind == LightKind::kTube || !(at_1m > 0)) {
      return;
    }
    const LightProbe::LitPlace& hottest = *std::max_element(
        lit.begin(), lit.end(), [](const auto& a, const auto& b) { return a.level < b.level; });
    const double ratio = hottest.level / at_1m, d = hottest.distance;
    if (ratio < kHot || d > 0.1) {
      return;
    }
    // 1 / (d^2 + c^2) = kTame.
    warn("hot-spot",
         light.place,
         address,
         fmt::format("a source {} across, {} from \"{}\", which gets {} times what a surface 1 m "
                     "away gets: light that bounces off there makes fireflies",
                     size > 0 ? readable_length(size) : std::string("without size"),
                     readable_length(d),
                     rig_.objects[hottest.object].name,
                     short_number(ratio, 2)),
         fmt::format("near_softening = \"{}\" brings it to {} times; or give the source a radius "
                     "nearer to {}",
                     readable_length(std::sqrt(1 / kTame - d * d)),
                     short_number(kTame),
                     readable_length(0.5 * d)));
  }

  // Beyond anything real, or beyond what its kind has.
  void brightness(const LightSpec& light, const LightReport& report, const std::string& address) {
    if (!report.levels.luminance) {
      return;
    }
    const double L = report.levels.luminance->value;
    const auto kind = kind_of(light, light.shape);
    const std::string usual = kind ? fmt::format("{} have {} to {} cd/m2",
                                                 kind->name,
                                                 short_number(kind->lo, 2),
                                                 short_number(kind->hi, 2))
                                   : "";
    const std::string hint =
        usual + (usual.empty() ? "" : ". ") + "Enlarge the source or lower its output";
    if (L > kBrightestLuminance) {
      warn("luminance-beyond-real",
           light.output_place,
           address + ".output",
           fmt::format("its surface would have {} cd/m2; nothing is brighter than the sun's disc, "
                       "1.6e9 cd/m2",
                       short_number(L, 3)),
           hint);
    } else if (kind && L > kind->highest) {
      warn("brighter-than-its-kind",
           light.output_place,
           address + ".output",
           fmt::format(
               "its surface has {} cd/m2, more than {} ever have", short_number(L, 3), kind->name),
           hint);
    }
  }

  // More light than any lamp gives.
  void flux_beyond_real(const LightSpec& light,
                        const LightReport& report,
                        const std::string& address) {
    constexpr double kMostLumens = 2e7;
    if (is_distant(light.shape.kind) || report.levels.per_meter || !report.levels.flux ||
        report.levels.flux->value <= kMostLumens) {
      return;
    }
    warn("flux-beyond-real",
         light.output_place,
         address + ".output",
         fmt::format("gives {} lm; a stadium's whole floodlighting has some 2e7 lm",
                     short_number(report.levels.flux->value, 3)),
         "lower its output, or use a sun or a sky for what lights a landscape");
  }

  // Whether a light's level at its subject says how much it is meant to bring.
  static bool is_steady(const LightSpec& light) {
    return light.dimmer_keys.times.empty() && light.on_keys.times.empty() && !light.flicker &&
           light.falloff.law == FalloffLaw::kInverseSquare && !light.falloff.has_range;
  }

  // Lights that bring next to nothing to their subject, by themselves or beside the others.
  void weak_lights() {
    constexpr double kDarkest = 0.01;  // [lx]; a quarter moon gives as much
    constexpr double kNothing = 1e-5;  // of what the strongest light brings
    double strongest = 0;
    for (const LightReport& r : reports_) {
      strongest = std::max(strongest, r.subject ? r.subject->illuminance_lx : 0.0);
    }
    const double least = strongest > kDarkest ? kNothing * strongest : kDarkest;
    for (std::size_t i = 0; i < rig_.lights.size(); ++i) {
      const LightSpec& light = rig_.lights[i];
      const LightReport& r = reports_[i];
      const bool later_copy = light.copies > 1 && !light.name.ends_with("[0]");
      if (!light.on || later_copy || !is_steady(light) || !r.subject || r.dimmed <= 0 ||
          is_distant(light.shape.kind) || r.subject->illuminance_lx * light.copies >= least) {
        continue;
      }
      warn("too-weak",
           light.output_place,
           "light." + light.layer + ".output",
           strongest > kDarkest
               ? fmt::format("brings {} lx to its subject, where another light brings {} lx: it "
                             "will not be seen",
                             short_number(r.subject->illuminance_lx, 2),
                             short_number(strongest, 2))
               : fmt::format("brings {} lx to its subject ({}, {} away); a quarter moon gives 0.01 "
                             "lx",
                             short_number(r.subject->illuminance_lx, 2),
                             r.subject->object,
                             readable_length(r.subject->distance_m)),
           "raise its output, or see whether lengths are in the unit that is meant");
    }
  }

  // lm for a beam so narrow that its peak is a searchlight's.
  void narrow_beam(const LightSpec& light, const LightReport& report, const std::string& address) {
    constexpr double kAbsurdPeak = 2e6;
    const bool by_flux =
        light.output.kind == Output::Kind::kFlux || light.output.kind == Output::Kind::kPower;
    if (light.shape.kind != LightKind::kSpot || light.shape.beam.half_beam <= 0 || !by_flux ||
        !report.levels.intensity || report.levels.intensity->value <= kAbsurdPeak) {
      return;
    }
    // Peak goes as one over the beam's square.
    const double beam = 2 * light.shape.beam.half_beam * 180 / kPiD,
                 wider = std::min(60.0, beam * std::sqrt(report.levels.intensity->value / 1e5));
    warn(
        "narrow-beam",
        light.output_place,
        address + ".output",
        fmt::format(
            "{} lm in a beam of {} deg have a peak of {} cd; stadium floodlights stay below 2e6 cd",
            short_number(report.levels.flux->value),
            short_number(beam, 3),
            short_number(report.levels.intensity->value, 3)),
        fmt::format("a beam of {} deg would have 1e5 cd; or state the peak in cd",
                    short_number(wider, 2)));
  }

  const LightParts& parts_of(const LightSpec& light) const {
    return scene_.lights[static_cast<std::size_t>(&light - rig_.lights.data())];
  }

  void above_full(const LightSpec& light, const std::string& address) {
    if (light.on && light.dimmer > 1 && (light.copies < 2 || light.name.ends_with("[0]"))) {
      warn("above-full",
           light.place,
           address + ".dimmer",
           fmt::format("the dimmer is {} stops above full: the lamp gives {} times its output",
                       short_number(std::log2(light.dimmer), 3),
                       short_number(light.dimmer, 3)),
           "state the larger output if there is such a lamp, or add a second one");
    }
  }

  // Copies that each have the whole output.
  void copies(const LightSpec& light) {
    if (light.copies < 2 || light.share != 1 || !light.name.ends_with("[0]")) {
      return;
    }
    const auto& flux = parts_of(light).levels.flux;
    warn("copies-at-full-output",
         light.copies_place,
         "array." + light.layer + ".output",
         fmt::format(
             "{} copies of full output each{}",
             light.copies,
             flux ? fmt::format(": {} lm together", short_number(flux->value * light.copies)) : ""),
         "output = \"total\" divides the light's output among them");
  }

  void profile_lumens(const LightSpec& light,
                      const LightReport& report,
                      const std::string& address) {
    const LightParts& parts = parts_of(light);
    if (!parts.profile || !report.levels.flux || !light.output_given) {
      return;
    }
    // A one-sided surface gives what goes to its front.
    const SourceShape& s = parts.shape;
    const bool front = !s.is_zero_size() && s.kind != LightKind::kSphere && !s.two_sided;
    const double file = front ? s.profile->flux_in_front() : s.profile->flux(),
                 mine = report.levels.flux->value / light.share, ratio = mine / file;
    // Where the author took the lumens of the lamps that the file names, reading it has told that
    // its table gives others.
    const double lamps = parts.profile->lamp_lumens;
    const bool of_the_lamps = lamps > 0 && std::abs(mine / lamps - 1) <= 0.05;
    if (std::abs(ratio - 1) > 0.05 && !of_the_lamps) {
      warn("profile-lumens",
           light.output_place,
           address + ".output",
           fmt::format("the light's {} lm are {} times the {} lm {}of its photometric file",
                       short_number(mine),
                       short_number(ratio, 3),
                       short_number(file),
                       front ? "in front " : ""),
           "leave output out to take the file's lumens");
    }
  }

  void check_light(const LightSpec& light, const LightReport& report) {
    const std::string address = "light." + light.name;
    brightness(light, report, address);
    flux_beyond_real(light, report, address);
    narrow_beam(light, report, address);
    copies(light);
    above_full(light, address);
    if (!light.on || is_distant(light.shape.kind)) {
      return;
    }
    profile_lumens(light, report, address);
    // Of many copies some are probed by rays, evenly among them.
    constexpr std::size_t kCopiesProbed = 64;
    copy_ = light.copies > 1 && !light.name.ends_with("[0]") ? copy_ + 1 : 0;
    if (copy_ % std::max<std::size_t>(1, static_cast<std::size_t>(light.copies) / kCopiesProbed) !=
        0) {
      return;
    }
    const auto index = static_cast<std::size_t>(&light - rig_.lights.data());
    if (light.object < 0 && !is_enclosed(light, address)) {
      reached_objects(light, scene_.emitters[index], address);
    }
    other_law(light, report, address);
  }

  // Inside of what lets no light out, which is told.
  bool is_enclosed(const LightSpec& light, const std::string& address) {
    bool enclosed = false;
    if (const ObjectSpec* o = solid_at(light.at)) {
      enclosed = true;
      warn("light-inside-object",
           light.place,
           address,
           fmt::format("is inside the solid object \"{}\" ({}): none of its light comes out",
                       o->name,
                       to_string(o->place)),
           "move the light out, or use a shell");
    }
    for (const std::uint32_t object : objects_around(scene_, light.at.cast<float>())) {
      if (std::find(around_camera_.begin(), around_camera_.end(), object) != around_camera_.end()) {
        continue;  // a room around camera and light
      }
      const ObjectSpec& o = rig_.objects[object];
      if (!opaque(o) || o.solid >= 0) {
        continue;  // a lampshade, a glass; what is inside a solid was asked for above
      }
      enclosed = true;
      warn("light-inside-object",
           light.place,
           address,
           fmt::format("is inside the closed object \"{}\" ({}): none of its light comes out",
                       o.name,
                       to_string(o.place)),
           "move the light out, or open the object");
    }
    return enclosed;
  }

  // A falloff that is not the inverse square, and what it does to the subject's light.
  void other_law(const LightSpec& light, const LightReport& report, const std::string& address) {
    const bool by_another_law =
        std::any_of(report.cheats.begin(), report.cheats.end(), [](const LightReport::Cheat& c) {
          return c.key == "falloff";
        });
    if (!by_another_law || !report.subject) {
      return;
    }
    Falloff law = light.falloff;
    law.has_range = false;
    const double factor = falloff_weight(law, report.subject->distance_m);
    if (std::abs(factor - 1) > 0.01) {
      warn("not-physical",
           light.falloff_place,
           address + ".falloff",
           fmt::format(
               "the law \"{}\" gives {} times the physical level at its subject ({}, {} away)",
               to_string(law.law),
               short_number(factor, 3),
               report.subject->object,
               readable_length(report.subject->distance_m)),
           fmt::format("matches_at = \"{}\" keeps the level there",
                       readable_length(report.subject->distance_m)));
    }
  }

  const Rig& rig_;
  const Scene& scene_;
  const std::vector<LightReport>& reports_;
  std::vector<std::uint32_t> around_camera_;
  std::size_t copy_ = 0;  // of the array whose lights are being checked
};

}  // namespace

Problems check_rig(const Rig& rig, const Scene& scene, const std::vector<LightReport>& reports) {
  return Checks(rig, scene, reports).run();
}

}  // namespace jovilux
