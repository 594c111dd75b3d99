#include "jovilux/judge/placement_checks.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/check_warnings.h"
#include "jovilux/transport/camera.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::uint32_t kRaysFromLight = 256;
constexpr std::size_t kCopiesProbed = 16;  // of an array's lights, evenly among them

// A flat face in world space.
struct Face {
  std::string owner;
  Place place;
  std::string address;
  Vec3d normal, center;
  std::vector<Vec3d> corners;  ///< empty: without end
  bool thin = false;           ///< seen from both sides
  bool of_volume = false;      ///< of what holds a light, not of an object
  int material = -1;
};

// The flat faces of a shape, in its own space: centers, normals, half sides.
struct LocalFace {
  Vec3d center, normal, u, v;
  bool endless = false;
};
std::vector<LocalFace> flat_faces(const Shape& s) {
  std::vector<LocalFace> out;
  const Vec3d x = Vec3d::UnitX(), y = Vec3d::UnitY(), z = Vec3d::UnitZ();
  const auto caps = [&](double bottom, double top) {
    if (!s.open && top > 0) {
      out.push_back({s.c * z, z, top * x, top * y});
    }
    if (!s.open && bottom > 0) {
      out.push_back({-s.c * z, -z, bottom * x, bottom * y});
    }
  };
  switch (s.kind) {
    case ShapeKind::kBox:
      for (const double sign : {-1.0, 1.0}) {
        out.push_back({sign * s.a * x, sign * x, s.b * y, s.c * z});
        out.push_back({sign * s.b * y, sign * y, s.a * x, s.c * z});
        out.push_back({sign * s.c * z, sign * z, s.a * x, s.b * y});
      }
      break;
    case ShapeKind::kRect:
      out.push_back({Vec3d::Zero(), z, s.a * x, s.b * y});
      break;
    case ShapeKind::kDisk:
      out.push_back({Vec3d::Zero(), z, s.a * x, s.a * y});
      break;
    case ShapeKind::kPlane:
      out.push_back({Vec3d::Zero(), z, x, y, true});
      break;
    case ShapeKind::kCylinder:
      caps(s.a, s.a);
      break;
    case ShapeKind::kCone:
      caps(s.a, s.b);
      break;
    case ShapeKind::kSphere:
    case ShapeKind::kTorus:
      break;
  }
  return out;
}

void add_faces(const Shape& shape, const Transform& to_world, Face proto, std::vector<Face>& out) {
  const Mat3d normals = to_world.linear.inverse().transpose();
  proto.thin = shape.kind == ShapeKind::kRect || shape.kind == ShapeKind::kDisk ||
               shape.kind == ShapeKind::kPlane;
  for (const LocalFace& f : flat_faces(shape)) {
    Face face = proto;
    face.normal = (normals * f.normal).normalized();
    face.center = to_world.point(f.center);
    for (const auto& [a, b] : {std::pair(-1, -1), {1, -1}, {1, 1}, {-1, 1}}) {
      if (!f.endless) {
        face.corners.push_back(to_world.point(f.center + a * f.u + b * f.v));
      }
    }
    out.push_back(std::move(face));
  }
}

// Whether two faces in one plane overlap by more than an edge: no side of either separates them.
bool overlap(const Face& a, const Face& b) {
  if (a.corners.empty() || b.corners.empty()) {
    return true;
  }
  for (const Face* of : {&a, &b}) {
    for (std::size_t i = 0; i < of->corners.size(); ++i) {
      const Vec3d side = of->corners[(i + 1) % of->corners.size()] - of->corners[i];
      const Vec3d across = side.cross(of->normal).normalized();
      const auto span = [&](const Face& f) {
        std::pair<double, double> s(HUGE_VAL, -HUGE_VAL);
        for (const Vec3d& c : f.corners) {
          s.first = std::min(s.first, c.dot(across));
          s.second = std::max(s.second, c.dot(across));
        }
        return s;
      };
      const auto [a0, a1] = span(a);
      const auto [b0, b1] = span(b);
      constexpr double kEdge = 1e-4;  // [m]
      if (a1 - b0 < kEdge || b1 - a0 < kEdge) {
        return false;
      }
    }
  }
  return true;
}

class PlacementChecks : private CheckWarnings {
 public:
  PlacementChecks(const Rig& rig, const Scene& scene) : rig_(rig), scene_(scene) {}

  Problems run() {
    coincident_faces();
    const bool in_haze = !scene_.hazes.empty();
    std::size_t copy = 0;
    for (std::size_t i = 0; i < rig_.lights.size(); ++i) {
      const LightSpec& light = rig_.lights[i];
      copy = light.copies > 1 && !light.name.ends_with("[0]") ? copy + 1 : 0;
      const std::size_t each =
          std::max<std::size_t>(1, static_cast<std::size_t>(light.copies) / kCopiesProbed);
      if (!light.on || is_distant(light.shape.kind) || light.object >= 0 || copy % each != 0) {
        continue;
      }
      reaches_into_object(light, static_cast<std::uint32_t>(i));
      where_light_goes(light, static_cast<std::uint32_t>(i), in_haze);
    }
    return std::move(problems_);
  }

 private:
  std::vector<Face> all_faces() const {
    std::vector<Face> faces;
    for (const ObjectSpec& o : rig_.objects) {
      const bool copy = !o.array.empty() && !o.name.ends_with("[0]");
      if (o.shape && !copy) {
        add_faces(*o.shape,
                  o.transform,
                  {o.name, o.place, "object." + o.name, {}, {}, {}, false, false, o.material},
                  faces);
      }
    }
    std::set<std::string> volumes;
    const auto volume =
        [&](const std::optional<VolumeSpec>& v, const Place& place, const std::string& address) {
          if (v && v->shape && volumes.insert(v->name).second) {
            add_faces(*v->shape,
                      v->transform,
                      {v->name, place, address + ".inside", {}, {}, {}, false, true, -1},
                      faces);
          }
        };
    for (const LightSpec& l : rig_.lights) {
      volume(l.inside, l.place, "light." + l.layer);
    }
    return faces;
  }

  // Coplanar faces conflict where rounding decides which of the two a ray hits and the picture
  // shows the choice. Faces of solids must look the same way and differ in material: a thing on a
  // floor faces the floor, and walls that share a corner share a material. A face of a volume
  // conflicts with any other.
  static bool conflict(const Face& a, const Face& b) {
    if (a.of_volume || b.of_volume) {
      return true;
    }
    return a.material != b.material && ((a.thin && b.thin) || a.normal.dot(b.normal) > 0);
  }

  // Whether a camera sees a part of a face: its middle or one of the points halfway to its corners.
  bool face_is_seen(const Face& face) const {
    std::vector<Vec3d> points = {face.center};
    for (const Vec3d& corner : face.corners) {
      points.push_back(0.5 * (face.center + corner));
    }
    for (const Vec3d& p : points) {
      for (const double side : {1.0, -1.0}) {
        SurfacePoint at;
        at.position = (p + side * 1e-4 * (1 + p.norm()) * face.normal).cast<float>();
        at.normal = (side * face.normal).cast<float>();
        if ((side > 0 || face.thin) && seen(at)) {
          return true;
        }
      }
    }
    return false;
  }

  // Whether a camera sees what two faces share: a part of the smaller one.
  bool matters(const Face& a, const Face& b) const {
    const auto extent = [](const Face& f) {
      return f.corners.empty() ? HUGE_VAL : (f.corners[0] - f.corners[2]).norm();
    };
    return a.of_volume || b.of_volume || face_is_seen(extent(a) < extent(b) ? a : b);
  }

  void coincident_faces() {
    constexpr std::size_t kMostFaces = 2000, kMostTold = 5;
    constexpr double kParallel = 1 - 1e-10, kSamePlane = 1e-6;
    const std::vector<Face> faces = all_faces();
    std::set<std::pair<std::string, std::string>> told;
    for (std::size_t i = 0; i < std::min(faces.size(), kMostFaces); ++i) {
      for (std::size_t j = i + 1; j < std::min(faces.size(), kMostFaces); ++j) {
        const Face &a = faces[i], &b = faces[j];
        const double scale = 1 + std::max(a.center.norm(), b.center.norm());
        if (a.owner == b.owner || (a.of_volume && b.of_volume) ||
            std::abs(a.normal.dot(b.normal)) < kParallel ||
            std::abs((a.center - b.center).dot(a.normal)) > kSamePlane * scale || !conflict(a, b) ||
            !overlap(a, b) || !matters(a, b) || told.size() >= kMostTold ||
            !told.emplace(a.owner, b.owner).second) {
          continue;
        }
        const bool of_volume = a.of_volume || b.of_volume;
        const Face &first = b.of_volume ? b : a, &second = b.of_volume ? a : b;
        warn("coincident-faces",
             first.place,
             first.address,
             fmt::format("a face of \"{}\" lies in the plane of \"{}\" ({})",
                         first.owner,
                         second.owner,
                         to_string(second.place)),
             of_volume ? "what lies on it counts as inside; enlarge the volume by 1 mm to mean it"
                       : "which one is met is chance: move one of them by 1 mm");
      }
    }
  }

  // The surface that the way from a lamp's center to its edge meets first, if it is an object's.
  const ObjectSpec* met_on_way(const Vec3d& from, const Vec3d& to) const {
    const Vec3 way = (to - from).cast<float>();
    const float length = way.norm();
    if (!(length > 0)) {
      return nullptr;
    }
    constexpr float kClear = 1e-4f;  // of the way, at both ends
    Ray ray{from.cast<float>() + kClear * way, way / length};
    ray.t_max = length * (1 - 2 * kClear);
    const Hit hit = scene_.world.closest(ray);
    if (!hit.found()) {
      return nullptr;
    }
    const std::uint32_t object = scene_.surfaces[scene_.world.surface_of(hit)].object;
    return object != kNoIndex ? &rig_.objects[object] : nullptr;
  }

  // Points of a lamp's edge; of a flat one a little in front of it.
  std::vector<Vec3d> edge_points(const LightSpec& light) const {
    std::vector<Vec3d> out;
    const SourceShape& s = light.shape;
    const Mat3d frame = aimed(light.axis, rig_.up, light.roll);
    constexpr int kAround = 12;
    switch (s.kind) {
      case LightKind::kSphere:
        for (std::uint32_t i = 0; i < 32; ++i) {
          out.push_back(light.at +
                        s.radius * even_direction(Sampler(1, 6, i).pair(0)).cast<double>());
        }
        break;
      case LightKind::kRect:
        for (const auto& [a, b] : {std::pair(-0.5, -0.5),
                                   {0.5, -0.5},
                                   {0.5, 0.5},
                                   {-0.5, 0.5},
                                   {0.0, 0.5},
                                   {0.0, -0.5},
                                   {0.5, 0.0},
                                   {-0.5, 0.0}}) {
          out.push_back(light.at + a * s.width * frame.col(0) + b * s.height * frame.col(1));
        }
        break;
      case LightKind::kDisk:
      case LightKind::kSpot:
        for (int i = 0; i < kAround && s.radius > 0; ++i) {
          const double phi = 2 * kPiD * i / kAround;
          out.push_back(light.at +
                        s.radius * (std::cos(phi) * frame.col(0) + std::sin(phi) * frame.col(1)));
        }
        break;
      case LightKind::kTube:
        if (!s.endless) {
          out.push_back(light.at - 0.5 * s.length * light.along);
          out.push_back(light.at + 0.5 * s.length * light.along);
        }
        break;
      default:
        break;
    }
    return out;
  }

  void reaches_into_object(const LightSpec& light, std::uint32_t index) {
    if (scene_.emitters[index].is_zero_size()) {
      return;
    }
    std::map<const ObjectSpec*, int> met;
    const std::vector<Vec3d> edge = edge_points(light);
    for (const Vec3d& p : edge) {
      if (const ObjectSpec* o = met_on_way(light.at, p)) {
        ++met[o];
      }
    }
    for (const auto& [object, count] : met) {
      warn("light-in-object",
           light.place,
           "light." + light.name,
           fmt::format("reaches into \"{}\" ({}) with a part of its body: that part lights what is "
                       "behind it",
                       object->name,
                       to_string(object->place)),
           "move the light out, or make it smaller");
    }
  }

  // A direction in which the light shines.
  static Vec3 direction_of(const LightSpec& light, const Frame& frame, const Vec2& u) {
    const SourceShape& s = light.shape;
    const bool flat = s.kind == LightKind::kDisk || s.kind == LightKind::kRect;
    const bool beam = s.kind == LightKind::kSpot && light.profile_file.empty();
    if (!flat && !beam) {
      return even_direction(u);
    }
    const double half = beam                ? std::min(kPiD / 2, s.beam.half_field)
                        : s.half_spread > 0 ? s.half_spread
                                            : kPiD / 2;
    const float z = 1 - u.x() * (1 - static_cast<float>(std::cos(half)));
    const float r = std::sqrt(std::max(0.0f, 1 - z * z)), phi = 2 * kPi * u.y();
    const Vec3 w = frame.to_world({r * std::cos(phi), r * std::sin(phi), z});
    return s.two_sided && u.x() * 4 - std::floor(u.x() * 4) < 0.5f ? Vec3(-w) : w;
  }

  // Whether a camera sees a point of a surface.
  bool seen(const SurfacePoint& p) const {
    for (const CameraSpec& c : rig_.cameras) {
      const Camera camera(c, rig_.up, 64, 36);
      const auto film = camera.film_point(p.position, {0, 0});
      if (!film || film->x < 0 || film->y < 0 || film->x > 64 || film->y > 36) {
        continue;
      }
      Ray ray{World::leave(p, film->toward), film->toward};
      bool blocked = false;
      constexpr int kMostPanes = 16;
      for (int pane = 0; pane < kMostPanes && !blocked; ++pane) {
        ray.t_max = (c.at.cast<float>() - ray.origin).norm();
        const Hit hit = scene_.world.closest(ray);
        if (!hit.found()) {
          return true;
        }
        const SurfacePoint between = scene_.world.point(ray, hit);
        const std::uint32_t material = scene_.surfaces[between.surface].material;
        blocked = material == kNoIndex || !scene_.materials[material].lets_through();
        ray.origin = World::leave(between, ray.direction);
      }
    }
    return false;
  }

  // What the light's rays meet first: bodies of lamps that are off, things that no camera sees.
  void where_light_goes(const LightSpec& light, std::uint32_t index, bool in_haze) {
    const Frame frame = Frame::around(light.axis.cast<float>());
    const Vec3 center = light.at.cast<float>();
    const float clear = static_cast<float>(light.shape.radius) * 1.0001f;
    std::map<std::uint32_t, int> by_off_lamp, by_object;
    int met = 0, seen_places = 0;
    for (std::uint32_t i = 0; i < kRaysFromLight; ++i) {
      const Vec3 direction = direction_of(light, frame, Sampler(1, 7, i).pair(0));
      const bool round =
          light.shape.kind == LightKind::kSphere || light.shape.kind == LightKind::kTube;
      const Ray ray{center + direction * ((round ? clear : 0.0f) + 1e-5f * (1 + center.norm())),
                    direction};
      const Hit hit = scene_.world.closest(ray);
      if (!hit.found()) {
        continue;
      }
      const SurfacePoint p = scene_.world.point(ray, hit);
      const Scene::Surface& surface = scene_.surfaces[p.surface];
      ++met;
      if (surface.emitter != kNoIndex && surface.emitter != index &&
          !rig_.lights[surface.emitter].on) {
        ++by_off_lamp[surface.emitter];
      }
      if (surface.object != kNoIndex) {
        ++by_object[surface.object];
        const bool through =
            surface.material != kNoIndex && scene_.materials[surface.material].lets_through();
        seen_places += through || seen(p) ? 1 : 0;
      } else {
        ++seen_places;
      }
    }
    tell_off_lamps(light, by_off_lamp, met);
    const bool probed_enough = met > static_cast<int>(kRaysFromLight) / 2;
    if (in_haze || rig_.cameras.empty() || !probed_enough || !by_off_lamp.empty() ||
        by_object.empty()) {
      return;
    }
    const auto most =
        std::max_element(by_object.begin(), by_object.end(), [](const auto& a, const auto& b) {
          return a.second < b.second;
        });
    // What is aimed at one thing whose lit side no camera sees stands on the wrong side of it; a
    // lamp that shines all around may stand in a shade.
    constexpr double kNearlyAll = 0.9, kMost = 0.6;
    const LightKind kind = light.shape.kind;
    const bool aimed =
        kind == LightKind::kSpot || kind == LightKind::kDisk || kind == LightKind::kRect;
    const bool aimed_at_one =
        aimed && seen_places < (1 - kNearlyAll) * met && most->second > kMost * met;
    if (seen_places == 0 || aimed_at_one) {
      const ObjectSpec& o = rig_.objects[most->first];
      warn("light-unseen",
           light.place,
           "light." + light.name,
           fmt::format("no camera sees {}its light falls on; \"{}\" ({}) takes {} % of it",
                       seen_places == 0 ? "anything that " : "most of what ",
                       o.name,
                       to_string(o.place),
                       short_number(100.0 * most->second / met, 2)),
           "move it to the cameras' side, or see aim");
    }
  }

  void tell_off_lamps(const LightSpec& light,
                      const std::map<std::uint32_t, int>& by_off_lamp,
                      int met) {
    constexpr double kHides = 0.25;
    for (const auto& [lamp, count] : by_off_lamp) {
      if (count < kHides * met) {
        continue;
      }
      const LightSpec& off = rig_.lights[lamp];
      warn("hidden-by-lamp",
           light.place,
           "light." + light.name,
           count == met
               ? fmt::format("is enclosed by the body of \"{}\" ({}), which is off",
                             off.name,
                             to_string(off.place))
               : fmt::format("{} % of its light ends at the body of \"{}\" ({}), which is off",
                             short_number(100.0 * count / met, 2),
                             off.name,
                             to_string(off.place)),
           fmt::format("light.{}.body = false takes the body away while it is off", off.layer));
    }
  }

  const Rig& rig_;
  const Scene& scene_;
};

}  // namespace

Problems placement_checks(const Rig& rig, const Scene& scene) {
  return PlacementChecks(rig, scene).run();
}

}  // namespace jovilux
