#include "jovilux/geometry/solid.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/length.h"
#include "jovilux/base/sampler.h"
#include "jovilux/geometry/solid_distances.h"

#include <algorithm>
#include <cmath>

namespace jovilux {

// Counted by thread: the integrator takes the difference around each tile.
MarchCounts& march_counts() {
  thread_local MarchCounts counts;
  return counts;
}

// The point of the space in which the following instructions are evaluated.
Vec3d Solid::moved(const Op& op, const Vec3d& p) const {
  const std::array<double, 7>& v = op.v;
  switch (op.code) {
    case Code::kMove:
      return p + Vec3d(v[0], v[1], v[2]);
    case Code::kTurn:
      return turns_[op.index].point(p);
    case Code::kTwist: {
      const double c = std::cos(v[0] * p.z()), s = std::sin(v[0] * p.z());
      return {c * p.x() + s * p.y(), c * p.y() - s * p.x(), p.z()};
    }
    default:
      return repeated(op, p);
  }
}

// Into the nearest copy's cell, or, for the axes whose bits are set, into the neighbor's cell on
// the point's side.
Vec3d Solid::repeated(const Op& op, const Vec3d& p) {
  Vec3d q = p;
  for (int i = 0; i < 3; ++i) {
    const double every = op.v[static_cast<std::size_t>(i)],
                 count = op.v[static_cast<std::size_t>(i) + 3];
    if (every > 0) {
      const double middle = count > 0 ? 0.5 * (count - 1) : 0, u = p[i] / every + middle;
      double cell = std::round(u);
      cell += (op.index >> i & 1U) == 0 ? 0 : u >= cell ? 1 : -1;
      if (count > 0) {
        cell = std::clamp(cell, 0.0, count - 1);
      }
      q[i] = p[i] - every * (cell - middle);
    }
  }
  return q;
}

// Signed distances, exact or bounds from below; see solid_distances.h for their forms.
double Solid::shape_distance(const Op& op, const Vec3d& p) const {
  const std::array<double, 7>& v = op.v;
  const int iterations = static_cast<int>(op.index);
  switch (op.code) {
    case Code::kSphere:
      return p.norm() - v[0];
    case Code::kBox:
      return box_distance(p, v[0], v[1], v[2]);
    case Code::kPlane:
      return p.z();
    case Code::kTorus:
      return length_of(length_of(p.x(), p.y()) - v[0], p.z()) - v[1];
    case Code::kCylinder:
      return cylinder_distance(p, v[0], v[1]);
    case Code::kCone:
      return cone_distance(p, v[0], v[1], v[2]);
    case Code::kFrame:
      return frame_distance(p, v);
    case Code::kCapsule:
      return capsule_distance(p, v[0], v[1]);
    case Code::kRoundBox:
      return box_distance(p, v[0] - v[3], v[1] - v[3], v[2] - v[3]) - v[3];
    case Code::kMenger:
      return menger_distance(p, v[0], iterations);
    case Code::kSierpinski:
      return sierpinski_distance(p, v[0], iterations);
    case Code::kJulia:
      return julia_distance(p, v[0], v, iterations);
    default: {
      const std::array<double, 4> values = {p.x(), p.y(), p.z(), time_};
      // Divided by the formula's slope, which makes it a bound.
      const double d = formulas_[op.index](values) * v[0];
      return std::isfinite(d) ? d : 1e-3;  // nowhere defined: empty, and passed in small steps
    }
  }
}

double Solid::joined(const Op& op, double first, double second) {
  switch (op.code) {
    case Code::kMin:
      return std::min(first, second);
    case Code::kMax:
      return std::max(first, second);
    case Code::kLess:
      return std::max(first, -second);
    case Code::kSmoothMin:
      return smooth_min(first, second, op.v[0]);
    case Code::kSmoothMax:
      return -smooth_min(-first, -second, op.v[0]);
    default:  // kSmoothLess
      return -smooth_min(-first, second, op.v[0]);
  }
}

// Zero within the instruction's box.
double Solid::distance_to_box(const Op& op, const Vec3d& p) {
  const Vec3d q =
      (p - Vec3d(op.v[0], op.v[1], op.v[2])).cwiseAbs() - Vec3d(op.v[3], op.v[4], op.v[5]);
  return q.cwiseMax(0.0).norm();
}

// Whether the child in the box cannot change a distance that is already `nearest`.
bool Solid::skips_child(const Op& op, const Vec3d& p, double nearest) {
  const double box = distance_to_box(op, p);
  const bool subtracted = (op.index & 1U) != 0;
  return box > 0 && (subtracted ? op.v[6] - box <= nearest : box - op.v[6] >= nearest);
}

// Runs the program on two small stacks, of points and of distances. Jumps leave out children that
// the point is too far from to see.
double Solid::distance(const Vec3d& at) const {
  std::array<Vec3d, kMostPoints + 2> points;         // NOLINT: filled up to `top`
  std::array<double, kMostDistances + 2> distances;  // NOLINT: filled up to `known`
  std::size_t top = 0, known = 0;
  points[0] = at;
  const Op* const begin = ops_.data();
  const Op* const end = begin + ops_.size();
  for (const Op* op = begin; op != end; ++op) {
    const Vec3d& p = points[top];
    switch (op->code) {
      case Code::kMove:
      case Code::kTurn:
      case Code::kRepeat:
      case Code::kTwist:
        points[top + 1] = moved(*op, p);
        ++top;
        break;
      case Code::kPop:
        --top;
        break;
      case Code::kMin:
      case Code::kMax:
      case Code::kLess:
      case Code::kSmoothMin:
      case Code::kSmoothMax:
      case Code::kSmoothLess:
        --known;
        distances[known - 1] = joined(*op, distances[known - 1], distances[known]);
        break;
      case Code::kShell:
        distances[known - 1] = std::abs(distances[known - 1] + op->v[0]) - op->v[0];
        break;
      case Code::kUntwist:
        distances[known - 1] /= steepest_of_twist(p, op->v[0], op->v[1]);
        break;
      case Code::kSkipFar:
        if (skips_child(*op, p, distances[known - 1])) {
          op = begin + (op->index >> 1) - 1;
        }
        break;
      case Code::kFarBox:
        if (const double box = distance_to_box(*op, p); box > op->v[6]) {
          distances[known++] = box;
          op = begin + op->index - 1;
        }
        break;
      default:
        distances[known++] = shape_distance(*op, p);
        break;
    }
  }
  JOVILUX_HOT_ASSERT(known == 1 && top == 0);
  return distances[0];
}

// Central differences, whose error is of second order; a hollow ball has a closed form.
Vec3d Solid::normal(const Vec3d& p, double h) const {
  if (hollow_ball_) {
    const double r = p.norm();
    const bool at_cavity = r < 0.5 * (hollow_ball_->outer + hollow_ball_->inner);
    return r > 0 ? Vec3d(p * ((at_cavity ? -1 : 1) / r)) : Vec3d(Vec3d::UnitZ());
  }
  Vec3d n;
  for (int i = 0; i < 3; ++i) {
    const Vec3d step = h * Vec3d::Unit(i);
    n[i] = distance(p + step) - distance(p - step);
  }
  const double length = n.norm();
  return length > 0 ? Vec3d(n / length) : Vec3d(Vec3d::UnitZ());
}

namespace {

// The smallest t in (t_min, t_max) at which a ray crosses one of two spheres about the origin;
// negative: none. By the point nearest to the origin, whose distance cancels no digits.
double meet_spheres(const Vec3d& origin,
                    const Vec3d& direction,
                    const std::array<double, 2>& radii,
                    double t_min,
                    double t_max) {
  const double square = direction.squaredNorm(), nearest = -origin.dot(direction) / square;
  const double apart2 = (origin + nearest * direction).squaredNorm();
  double out = t_max;
  for (const double radius : radii) {
    const double half2 = radius * radius - apart2;  // of the chord
    if (!(half2 > 0)) {
      continue;
    }
    const double half = std::sqrt(half2 / square);
    for (const double t : {nearest - half, nearest + half}) {
      out = t > t_min && t < out ? t : out;
    }
  }
  return out < t_max ? out : -1;
}

// One ray through a solid. Distances are positive on the side of the surface where the ray begins,
// so that a ray from inside looks for the way out.
class MarchedRay {
 public:
  MarchedRay(const Solid& solid, const Vec3d& origin, const Vec3d& unit_direction, double begin)
      : solid_(solid), origin_(origin), direction_(unit_direction), t_(begin), free_(at(begin)) {
    side_ = free_ < 0 ? -1 : 1;
    free_ *= side_;
  }

  /// The way to the surface [m], negative where none is before `end`.
  double to_surface(double end, const MarchSettings& settings);

  int evaluations() const { return evaluations_; }
  bool exhausted() const { return exhausted_; }

 private:
  double at(double t) {
    ++evaluations_;
    return side_ * solid_.distance(origin_ + t * direction_);
  }
  // To where the sphere around the current place ends.
  void step_to_sphere() {
    t_ += free_;
    free_ = at(t_);
  }
  double crossing(double lo, double hi, double f_lo, double f_hi);

  const Solid& solid_;
  const Vec3d& origin_;
  const Vec3d& direction_;
  int evaluations_ = 0;
  bool exhausted_ = false;
  double side_ = 1;
  double t_;     // the current place, before the surface
  double free_;  // radius of the sphere around it that is free of the surface
};

// One crossing between `lo` and `hi`: false position, halving the value of an end that stays
// (the Illinois method).
double MarchedRay::crossing(double lo, double hi, double f_lo, double f_hi) {
  int kept = 0;  // the end that the last step left in place
  for (int i = 0; i < 60 && hi - lo > 1e-13 * (1 + hi); ++i) {
    const double middle =
        f_lo - f_hi > 0 ? (lo * -f_hi + hi * f_lo) / (f_lo - f_hi) : 0.5 * (lo + hi);
    const double f = at(middle);
    if (std::abs(f) < 1e-11 * (1 + hi)) {
      lo = hi = middle;
    } else if (f > 0) {
      lo = middle;
      f_lo = f;
      f_hi *= kept == 1 ? 0.5 : 1;
      kept = 1;
    } else {
      hi = middle;
      f_hi = f;
      f_lo *= kept == -1 ? 0.5 : 1;
      kept = -1;
    }
  }
  return 0.5 * (lo + hi);
}

// Relaxed sphere tracing: how the distance falls along the ray tells how far the next sphere
// reaches, and a step may go to where the two touch.
// Source: C. Balint, M. Kiglics, "A Geometric Approach to Sphere Tracing Relaxation", Eurographics
// short papers, 2021.
double MarchedRay::to_surface(double end, const MarchSettings& settings) {
  const double least = settings.tolerance;
  double slope = -1;
  while (evaluations_ < settings.max_steps) {
    if (t_ >= end) {
      return -1;
    }
    const double reach = std::max(std::min(2 / (1 - slope), 3.0) * free_, least);
    const bool relaxed = reach > free_ && reach > least;
    const double next = std::min(t_ + reach, end), next_free = at(next), step = next - t_;
    const bool crossed = next_free < 0;
    // The surface may lie between spheres that do not touch, more than once beyond a crossing.
    if (relaxed && (crossed ? step - free_ + next_free > least : step > free_ + next_free)) {
      step_to_sphere();
      if (!(free_ > 0)) {
        return t_;  // the bound was none: the surface lies in the step just taken
      }
      slope = -1;
      continue;
    }
    if (crossed) {
      const double root = crossing(t_, next, free_, next_free);
      return root < end || next < end ? root : -1;
    }
    slope = std::clamp(0.5 * (slope + (step > 0 ? (next_free - free_) / step : 0)), -1.0, 0.9);
    t_ = next;
    free_ = next_free;
  }
  exhausted_ = true;
  return t_;
}

}  // namespace

bool Solid::clip_to_box(const Vec3d& origin,
                        const Vec3d& unit_direction,
                        double tolerance,
                        double& begin,
                        double& end) const {
  for (int i = 0; i < 3; ++i) {
    // A little larger, so that rays come in from outside.
    const double slack = tolerance + 1e-9 * (std::abs(origin[i]) + 1), lo = lo_[i] - slack,
                 hi = hi_[i] + slack;
    if (std::abs(unit_direction[i]) < 1e-300) {
      if (origin[i] < lo || origin[i] > hi) {
        return false;
      }
      continue;
    }
    const double t0 = (lo - origin[i]) / unit_direction[i],
                 t1 = (hi - origin[i]) / unit_direction[i];
    begin = std::max(begin, std::min(t0, t1));
    end = std::min(end, std::max(t0, t1));
  }
  return begin < end;
}

double Solid::intersect(const Vec3d& origin,
                        const Vec3d& direction,
                        double t_min,
                        double t_max,
                        const MarchSettings& settings) const {
  if (hollow_ball_) {
    return meet_spheres(
        origin, direction, {hollow_ball_->outer, hollow_ball_->inner}, t_min, t_max);
  }
  const double speed = direction.norm();
  const Vec3d unit_direction = direction / speed;
  // Nothing of a scene lies farther away; an endless plane must not be marched toward for ever.
  double begin = t_min * speed, end = std::min(t_max * speed, 1e8);
  if (!clip_to_box(origin, unit_direction, settings.tolerance, begin, end)) {
    return -1;
  }
  MarchedRay ray(*this, origin, unit_direction, begin);
  const double way = ray.to_surface(end, settings);
  MarchCounts& counts = march_counts();
  ++counts.marches;
  counts.steps += static_cast<std::uint64_t>(ray.evaluations());
  counts.exhausted += ray.exhausted() ? 1 : 0;
  return way < 0 ? -1 : way / speed;
}

// The steepest slope between near places: above 1 the distance is no bound, and marching may pass
// through thin parts.
double Solid::steepest(int pairs) const {
  Rng rng(7);
  double out = 0;
  for (int i = 0; i < pairs; ++i) {
    Vec3d p, q;
    for (int k = 0; k < 3; ++k) {
      const double lo = std::isfinite(lo_[k]) ? lo_[k] : -2.0,
                   hi = std::isfinite(hi_[k]) ? hi_[k] : 2.0;
      p[k] = rng.uniform(lo, hi);
      q[k] = p[k] + rng.uniform(-1, 1) * 1e-3 * (hi - lo);
    }
    const double far = (p - q).norm();
    if (far > 0) {
      out = std::max(out, std::abs(distance(p) - distance(q)) / far);
    }
  }
  return out;
}

}  // namespace jovilux
