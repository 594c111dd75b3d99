#include "jovilux/geometry/enclosure.h"

namespace jovilux {
namespace {

constexpr int kMostCrossings = 1000;  // of one ray with one volume

// A ray is continued from each hit: a mesh has no list of its crossings.
void mesh_crossings(const World& world, Ray ray, double end, std::vector<float>& out) {
  double gone = 0;
  for (int i = 0; i < kMostCrossings; ++i) {
    ray.t_max = end == kFar ? kFar : static_cast<float>(end - gone);
    const Hit hit = world.closest(ray);
    if (!hit.found()) {
      return;
    }
    gone += hit.t;
    out.push_back(static_cast<float>(gone));
    const SurfacePoint p = world.point(ray, hit);
    ray.origin = World::leave(p, ray.direction);
  }
}

// A closed shape with its boundary moved outwards.
Shape grown(const Shape& shape, double by) {
  Shape s = shape;
  s.b += by;
  if (s.kind != ShapeKind::kTorus) {  // whose tube alone gets thicker
    s.a += by;
    s.c += by;
  }
  return s;
}

// Whether a surface lies within a distance along one of the axes.
bool touches(const World& world, const Vec3d& p, float distance) {
  for (int axis = 0; axis < 3; ++axis) {
    for (const float sign : {-1.0f, 1.0f}) {
      Vec3 direction = Vec3::Zero();
      direction[axis] = sign;
      // From the other side of the point, so that one on the surface itself is met.
      Ray ray{p.cast<float>() - distance * direction, direction};
      ray.t_max = 2 * distance;
      if (world.closest(ray).found()) {
        return true;
      }
    }
  }
  return false;
}

}  // namespace

Enclosure::Enclosure(std::shared_ptr<const Solid> solid,
                     const Transform& to_world,
                     const MarchSettings& march)
    : to_local_(to_world.inverse()),
      inside_(std::make_shared<Marched>(Marched{std::move(solid), march})) {}

bool Enclosure::contains(const Vec3d& p) const {
  if (const Shape* shape = std::get_if<Shape>(&inside_)) {
    return jovilux::contains(*shape, to_local_.point(p));
  }
  if (const auto* marched = std::get_if<std::shared_ptr<const Marched>>(&inside_)) {
    return (*marched)->solid->distance(to_local_.point(p)) < 0;
  }
  // A direction that no modeler's mesh is lined up with; an odd number of crossings lies inside.
  const World& world = *std::get<std::shared_ptr<const World>>(inside_);
  std::vector<float> found;
  mesh_crossings(
      world, {p.cast<float>(), Vec3(0.3871f, 0.2093f, 0.8979f).normalized()}, kFar, found);
  return found.size() % 2 == 1;
}

bool Enclosure::contains_or_touches(const Vec3d& p) const {
  if (contains(p)) {
    return true;
  }
  // Points of surfaces are exact to some units in the last place of a float.
  const double slack = 1e-5 * (1 + p.cwiseAbs().maxCoeff());
  if (const auto* world = std::get_if<std::shared_ptr<const World>>(&inside_)) {
    return touches(**world, p, static_cast<float>(slack));
  }
  const Vec3d local = to_local_.point(p);
  const double local_slack = slack * to_local_.linear.colwise().norm().maxCoeff();
  if (const Shape* shape = std::get_if<Shape>(&inside_)) {
    return jovilux::contains(grown(*shape, local_slack), local);
  }
  return std::get<std::shared_ptr<const Marched>>(inside_)->solid->distance(local) < local_slack;
}

void Enclosure::crossings(const Ray& ray, double end, std::vector<float>& out) const {
  if (const auto* world = std::get_if<std::shared_ptr<const World>>(&inside_)) {
    mesh_crossings(**world, ray, end, out);
    return;
  }
  const Vec3d o = to_local_.point(ray.origin.cast<double>()),
              d = to_local_.vector(ray.direction.cast<double>());
  const Shape* shape = std::get_if<Shape>(&inside_);
  const Marched* marched =
      shape == nullptr ? std::get<std::shared_ptr<const Marched>>(inside_).get() : nullptr;
  double t = 0;
  // A convex shape is crossed twice, a torus four times.
  for (int k = 0; k < (shape != nullptr ? 4 : kMostCrossings); ++k) {
    const double slack = shape != nullptr ? 1e-9 : 1e-7;  // past the place where it was just met
    const double from = k == 0 ? 1e-9 : t * (1 + slack) + slack;
    t = shape != nullptr ? intersect(*shape, o, d, from, end)
                         : marched->solid->intersect(o, d, from, end, marched->march);
    if (t < 0) {
      return;
    }
    out.push_back(static_cast<float>(t));
  }
}

Bounds Enclosure::bounds() const {
  if (const auto* world = std::get_if<std::shared_ptr<const World>>(&inside_)) {
    return (*world)->bounds();
  }
  World alone;
  const Transform to_world = to_local_.inverse();
  if (const Shape* shape = std::get_if<Shape>(&inside_)) {
    alone.add_shape(*shape, to_world, 0);
  } else {
    const Marched& marched = *std::get<std::shared_ptr<const Marched>>(inside_);
    alone.add_solid(marched.solid, to_world, 0, marched.march);
  }
  alone.build(false);
  return alone.has_endless() ? Bounds::everywhere() : alone.bounds();
}

}  // namespace jovilux
