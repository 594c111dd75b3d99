#include "jovilux/geometry/solid.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/length.h"
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kInf = std::numeric_limits<double>::infinity();
constexpr std::array<std::string_view, 17> kSolidNames = {"sphere",
                                                          "box",
                                                          "plane",
                                                          "torus",
                                                          "cylinder",
                                                          "cone",
                                                          "box-edges",
                                                          "capsule",
                                                          "rounded-box",
                                                          "union",
                                                          "subtract",
                                                          "intersect",
                                                          "repeat",
                                                          "twist",
                                                          "shell",
                                                          "fractal",
                                                          "formula"};
constexpr std::size_t kMostOps = 4096;
constexpr int kMostPoints = 40, kMostDistances = 40;

double box_distance(const Vec3d& p, double a, double b, double c) {
  const Vec3d q(std::abs(p.x()) - a, std::abs(p.y()) - b, std::abs(p.z()) - c);
  const double inside = q.maxCoeff();
  return inside <= 0 ? inside : q.cwiseMax(0.0).norm();
}

double cylinder_distance(const Vec3d& p, double radius, double half) {
  const double r = length_of(p.x(), p.y()) - radius, z = std::abs(p.z()) - half;
  return std::max(r, z) <= 0 ? std::max(r, z) : length_of(std::max(r, 0.0), std::max(z, 0.0));
}

// The cross section is a trapezoid: the distance to its slanted side or to its ends, whichever is
// nearer.
double cone_distance(const Vec3d& p, double bottom, double top, double half) {
  const double r = length_of(p.x(), p.y()), z = p.z();
  const double end = std::max(0.0, r - (z < 0 ? bottom : top)), past = std::abs(z) - half;
  const double dr = top - bottom, dz = 2 * half;
  const double t =
      std::clamp(((r - bottom) * dr + (z + half) * dz) / (dr * dr + dz * dz), 0.0, 1.0);
  const double side = length_of(r - bottom - t * dr, z + half - t * dz);
  const double outward = ((r - bottom) * dz - (z + half) * dr) / length_of(dr, dz);
  if (outward < 0 && past < 0) {
    return -std::min(side, -past);
  }
  return std::min(side, length_of(end, past));
}

double frame_distance(const Vec3d& p, const std::array<double, 7>& v) {
  // Twelve bars: along each axis a box, folded into the octant of its edge.
  const double bar = v[3] / 2;
  double nearest = kInf;
  for (int axis = 0; axis < 3; ++axis) {
    Vec3d q, half;
    for (int i = 0; i < 3; ++i) {
      const double extent = v[static_cast<std::size_t>(i)];
      q[i] = i == axis ? p[i] : std::abs(p[i]) - (extent - bar);
      half[i] = i == axis ? extent : bar;
    }
    nearest = std::min(nearest, box_distance(q, half.x(), half.y(), half.z()));
  }
  return nearest;
}

// Each step cuts a cross out of every cell, whose walls are then nearest from within.
double menger_distance(const Vec3d& p, double half, int iterations) {
  double d = box_distance(p, half, half, half);
  double cell = 2 * half;
  for (int i = 0; i < iterations && d < cell; ++i, cell /= 3) {
    Vec3d q;
    for (int k = 0; k < 3; ++k) {
      q[k] = std::abs(p[k] - cell * std::round(p[k] / cell));
    }
    const double cross =
        std::min({std::max(q.x(), q.y()), std::max(q.y(), q.z()), std::max(q.z(), q.x())}) -
        cell / 6;
    d = std::max(d, -cross);
  }
  return d;
}

// Mirrors fold space onto one corner's tetrahedron, which is then magnified.
double sierpinski_distance(Vec3d p, double half, int iterations) {
  p /= half;
  double scale = 1;
  for (int i = 0; i < iterations; ++i) {
    if (p.x() + p.y() < 0) {
      p = Vec3d(-p.y(), -p.x(), p.z());
    }
    if (p.x() + p.z() < 0) {
      p = Vec3d(-p.z(), p.y(), -p.x());
    }
    if (p.y() + p.z() < 0) {
      p = Vec3d(p.x(), -p.z(), -p.y());
    }
    p = 2 * p - Vec3d::Ones();
    scale *= 2;
  }
  // The tetrahedron of (1, 1, 1), (1, -1, -1), (-1, 1, -1), (-1, -1, 1).
  const double d = std::max(std::abs(p.x() + p.y()) - p.z(), std::abs(p.x() - p.y()) + p.z()) - 1;
  return d / std::sqrt(3.0) / scale * half;
}

// The set where |q| stays below 2. Source of the bound: J. Hart, D. Sandin, L. Kauffman, "Ray
// Tracing Deterministic 3-D Fractals", SIGGRAPH 1989: |q| log |q| / (2 |q'|); with |q| / 2 in the
// logarithm its zero is the set of this many iterations.
double julia_distance(const Vec3d& p, double half, const std::array<double, 7>& v, int iterations) {
  constexpr double kReach = 1.5;  // it lies within
  const double to_unit = kReach / half;
  double x = p.x() * to_unit, y = p.y() * to_unit, z = p.z() * to_unit, w = 0, rise = 1;
  double r2 = x * x + y * y + z * z;
  for (int i = 0; i < iterations && r2 < 1e4; ++i) {
    rise *= 2 * std::sqrt(r2);
    const double xx = x * x - y * y - z * z - w * w;
    y = 2 * x * y + v[2];
    z = 2 * x * z + v[3];
    w = 2 * x * w + v[4];
    x = xx + v[1];
    r2 = x * x + y * y + z * z + w * w;
  }
  const double r = std::sqrt(r2);
  return 0.5 * r * std::log(std::max(r, 1e-30) / 2) / std::max(rise, 1.0) / to_unit;
}

// Polynomial blends: equal to min and max where the two differ by k or more; they rise no steeper
// than their arguments.
double smooth_min(double a, double b, double k) {
  const double h = std::max(0.0, k - std::abs(a - b));
  return std::min(a, b) - h * h / (4 * k);
}

bool rotation_free(const Transform& t) {
  return (t.linear - Mat3d::Identity()).cwiseAbs().maxCoeff() < 1e-15;
}

}  // namespace

std::optional<SolidKind> parse_solid_kind(std::string_view text) {
  const auto found = std::find(kSolidNames.begin(), kSolidNames.end(), text);
  return found == kSolidNames.end()
             ? std::nullopt
             : std::optional(static_cast<SolidKind>(found - kSolidNames.begin()));
}
std::string_view to_string(SolidKind kind) {
  return kSolidNames.at(static_cast<std::size_t>(kind));
}
std::vector<std::string> solid_kind_names() { return {kSolidNames.begin(), kSolidNames.end()}; }

MarchCounts& march_counts() {
  thread_local MarchCounts counts;
  return counts;
}

// Writes a tree of nodes as a program, children before the operator that joins them.
class SolidCompiler {
 public:
  SolidCompiler(std::span<const SolidNode> nodes, Solid& out) : nodes_(nodes), out_(out) {
    out_.smallest_ = kInf;
  }

  std::string error;

  struct Box {
    Vec3d lo = Vec3d::Constant(-kInf), hi = Vec3d::Constant(kInf);
    bool finite() const { return lo.allFinite() && hi.allFinite(); }
    Vec3d center() const { return 0.5 * (lo + hi); }
    Vec3d half() const { return 0.5 * (hi - lo); }
  };

  // Appends the program of a node in its own place; returns its box, around that place.
  Box write(std::uint32_t index) {
    const SolidNode& n = nodes_[index];
    if (!error.empty() || !room()) {
      return {};
    }
    const bool moved = !n.place.linear.isIdentity(1e-15) || n.place.offset != Vec3d::Zero();
    if (!moved) {
      return write_here(n);
    }
    const Transform inverse = n.place.inverse();
    if (rotation_free(n.place)) {
      emit(Solid::Code::kMove, 0, {inverse.offset.x(), inverse.offset.y(), inverse.offset.z()});
    } else {
      out_.turns_.push_back(inverse);
      emit(Solid::Code::kTurn, static_cast<std::uint32_t>(out_.turns_.size() - 1));
    }
    ++points_;
    const Box inside = write_here(n);
    --points_;
    emit(Solid::Code::kPop);
    Box box;
    if (inside.finite()) {
      const Vec3d half = n.place.linear.cwiseAbs() * inside.half(),
                  center = n.place.point(inside.center());
      box = {center - half, center + half};
    } else if (rotation_free(n.place)) {
      box = {inside.lo + n.place.offset, inside.hi + n.place.offset};
    }
    return box;
  }

  Box write_here(const SolidNode& n) {
    using Code = Solid::Code;
    const auto around = [](double x, double y, double z) {
      return Box{Vec3d(-x, -y, -z), Vec3d(x, y, z)};
    };
    const auto thin = [&](double size) { out_.smallest_ = std::min(out_.smallest_, size); };
    switch (n.kind) {
      case SolidKind::kSphere:
        emit(Code::kSphere, 0, {n.a});
        thin(2 * n.a);
        return around(n.a, n.a, n.a);
      case SolidKind::kBox:
        emit(Code::kBox, 0, {n.a, n.b, n.c});
        thin(2 * std::min({n.a, n.b, n.c}));
        return around(n.a, n.b, n.c);
      case SolidKind::kPlane:
        emit(Code::kPlane);
        return {Vec3d::Constant(-kInf), Vec3d(kInf, kInf, 0)};
      case SolidKind::kTorus:
        emit(Code::kTorus, 0, {n.a, n.b});
        thin(2 * n.b);
        return around(n.a + n.b, n.a + n.b, n.b);
      case SolidKind::kCylinder:
        emit(Code::kCylinder, 0, {n.a, n.c});
        thin(2 * std::min(n.a, n.c));
        return around(n.a, n.a, n.c);
      case SolidKind::kCone: {
        emit(Code::kCone, 0, {n.a, n.b, n.c});
        thin(2 * std::min(std::max(n.a, n.b), n.c));
        const double r = std::max(n.a, n.b);
        return around(r, r, n.c);
      }
      case SolidKind::kFrame:
        emit(Code::kFrame, 0, {n.a, n.b, n.c, n.d});
        thin(n.d);
        return around(n.a, n.b, n.c);
      case SolidKind::kCapsule:
        emit(Code::kCapsule, 0, {n.a, n.c});
        thin(2 * n.a);
        return around(n.a, n.a, n.c);
      case SolidKind::kRoundBox:
        emit(Code::kRoundBox, 0, {n.a, n.b, n.c, n.d});
        thin(2 * std::min({n.a, n.b, n.c}));
        return around(n.a, n.b, n.c);
      case SolidKind::kUnion:
      case SolidKind::kIntersect:
      case SolidKind::kSubtract:
        return write_joined(n);
      case SolidKind::kRepeat:
        return write_repeat(n);
      case SolidKind::kTwist:
        return write_twist(n);
      case SolidKind::kShell: {
        Box box = write(n.of[0]);
        emit(Code::kShell, 0, {n.d / 2});
        thin(n.d);
        return box;
      }
      case SolidKind::kFractal:
        return write_fractal(n);
      case SolidKind::kFormula: {
        const bool held = n.a > 0;
        const std::size_t skip = held ? emit_far(around(n.a, n.b, n.c)) : 0;
        out_.formulas_.push_back(*n.formula);
        emit(Code::kFormula, static_cast<std::uint32_t>(out_.formulas_.size() - 1), {1 / n.slope});
        if (!held) {
          return {};
        }
        emit(Code::kBox, 0, {n.a, n.b, n.c});
        emit(Code::kMax);
        land(skip);
        return around(n.a, n.b, n.c);
      }
    }
    return {};
  }

 private:
  bool room() {
    if (out_.ops_.size() > kMostOps || points_ >= kMostPoints || distances_ >= kMostDistances) {
      error =
          points_ >= kMostPoints || distances_ >= kMostDistances
              ? fmt::format("is nested more than {} deep", kMostPoints)
              : fmt::format(
                    "is too long: more than {} steps to evaluate; repeats multiply what they hold",
                    kMostOps);
      return false;
    }
    return true;
  }

  std::size_t emit(Solid::Code code,
                   std::uint32_t index = 0,
                   std::initializer_list<double> v = {}) {
    Solid::Op op{code, index, {}};
    std::copy(v.begin(), v.end(), op.v.begin());
    out_.ops_.push_back(op);
    return out_.ops_.size() - 1;
  }
  std::size_t emit_box(Solid::Code code, const Box& box, double last) {
    const Vec3d c = box.center(), h = box.half();
    return emit(code, 0, {c.x(), c.y(), c.z(), h.x(), h.y(), h.z(), last});
  }
  // What is costly to evaluate is known only by its box from far away.
  std::size_t emit_far(const Box& box) {
    return emit_box(Solid::Code::kFarBox, box, 0.25 * box.half().norm());
  }
  // A jump that was just passed goes here.
  void land(std::size_t jump) {
    out_.ops_[jump].index = static_cast<std::uint32_t>(out_.ops_.size());
  }

  Box write_joined(const SolidNode& n) {
    using Code = Solid::Code;
    const bool smooth = n.blend > 0;
    Box all = write(n.of[0]);
    ++distances_;
    for (std::size_t i = 1; i < n.of.size() && error.empty(); ++i) {
      // The child's box is known only after it is written: the test before it is filled in then.
      const std::size_t skip =
          n.kind == SolidKind::kUnion || n.kind == SolidKind::kSubtract ? emit(Code::kSkipFar) : 0;
      const Box box = write(n.of[i]);
      if (n.kind == SolidKind::kUnion) {
        emit(smooth ? Code::kSmoothMin : Code::kMin, 0, {n.blend});
        all = {all.lo.cwiseMin(box.lo), all.hi.cwiseMax(box.hi)};
      } else if (n.kind == SolidKind::kIntersect) {
        emit(smooth ? Code::kSmoothMax : Code::kMax, 0, {n.blend});
        all = {all.lo.cwiseMax(box.lo), all.hi.cwiseMin(box.hi)};
      } else {
        emit(smooth ? Code::kSmoothLess : Code::kLess, 0, {n.blend});
      }
      if (skip == 0) {
        continue;
      }
      Solid::Op& test = out_.ops_[skip];
      if (box.finite()) {
        const Vec3d c = box.center(), h = box.half();
        // Less a far child: what it would take away begins at minus its distance.
        test.v = {c.x(), c.y(), c.z(), h.x(), h.y(), h.z(), n.blend};
        test.index = static_cast<std::uint32_t>(out_.ops_.size()) << 1 |
                     (n.kind == SolidKind::kSubtract ? 1U : 0U);
      } else {
        test.v = {0, 0, 0, kInf, kInf, kInf, kInf};  // never far
        test.index = static_cast<std::uint32_t>(out_.ops_.size()) << 1;
      }
    }
    --distances_;
    if (n.kind == SolidKind::kUnion && smooth) {
      const Vec3d more = Vec3d::Constant(0.25 * n.blend * static_cast<double>(n.of.size() - 1));
      all = {all.lo - more, all.hi + more};
    }
    if (error.empty() && (all.lo.array() > all.hi.array()).any()) {
      error = "is empty: the solids that it is the intersection of do not meet";
    }
    return all;
  }

  Box write_repeat(const SolidNode& n) {
    using Code = Solid::Code;
    std::vector<int> axes;
    for (int i = 0; i < 3; ++i) {
      if (n.spacing[i] > 0) {
        axes.push_back(i);
      }
    }
    // The copy of the nearest cell and those of the neighbors on the point's side: one of them is
    // nearest.
    Box child, box;
    ++distances_;
    for (std::uint32_t corner = 0; corner < 1U << axes.size() && error.empty(); ++corner) {
      std::uint32_t bits = 0;
      for (std::size_t i = 0; i < axes.size(); ++i) {
        bits |= (corner >> i & 1U) << axes[i];
      }
      emit(Code::kRepeat,
           bits,
           {n.spacing.x(),
            n.spacing.y(),
            n.spacing.z(),
            double(n.count[0]),
            double(n.count[1]),
            double(n.count[2])});
      ++points_;
      child = write(n.of[0]);
      --points_;
      emit(Code::kPop);
      if (corner > 0) {
        emit(Code::kMin);
      }
    }
    --distances_;
    if (!error.empty()) {
      return {};
    }
    box = child;
    for (const int i : axes) {
      if (child.hi[i] > n.spacing[i] / 2 * (1 + 1e-9) ||
          child.lo[i] < -n.spacing[i] / 2 * (1 + 1e-9)) {
        error = fmt::format(
            "the copies reach beyond their cells: along {} they need spacing = {:.4g} m or more, "
            "centered",
            "xyz"[i],
            2 * std::max(child.hi[i], -child.lo[i]));
        return box;
      }
      const double far = n.count[static_cast<std::size_t>(i)] > 0
                             ? 0.5 * (n.count[static_cast<std::size_t>(i)] - 1) * n.spacing[i]
                             : kInf;
      box.lo[i] -= far;
      box.hi[i] += far;
    }
    return box;
  }

  Box write_twist(const SolidNode& n) {
    const std::size_t skip = emit(Solid::Code::kFarBox);
    emit(Solid::Code::kTwist, 0, {n.d});
    ++points_;
    const Box child = write(n.of[0]);
    --points_;
    emit(Solid::Code::kPop);
    double radius = 0;
    for (const double x : {child.lo.x(), child.hi.x()}) {
      for (const double y : {child.lo.y(), child.hi.y()}) {
        radius = std::max(radius, length_of(x, y));
      }
    }
    if (!error.empty()) {
      return {};
    }
    if (!child.finite()) {
      error = "twists a solid without end";
      return {};
    }
    emit(Solid::Code::kUntwist, 0, {n.d, radius});
    Box box{Vec3d(-radius, -radius, child.lo.z()), Vec3d(radius, radius, child.hi.z())};
    const Vec3d c = box.center(), h = box.half();
    out_.ops_[skip].v = {c.x(), c.y(), c.z(), h.x(), h.y(), h.z(), 0.25 * h.norm()};
    land(skip);
    return box;
  }

  Box write_fractal(const SolidNode& n) {
    using Code = Solid::Code;
    Box box{Vec3d::Constant(-n.a), Vec3d::Constant(n.a)};
    const std::size_t skip = emit_far(box);
    const auto iterations = static_cast<std::uint32_t>(n.iterations);
    switch (n.fractal) {
      case FractalKind::kMenger:
        emit(Code::kMenger, iterations, {n.a});
        out_.smallest_ = std::min(out_.smallest_, 2 * n.a / std::pow(3.0, n.iterations));
        break;
      case FractalKind::kSierpinski:
        emit(Code::kSierpinski, iterations, {n.a});
        out_.smallest_ = std::min(out_.smallest_, 2 * n.a / std::pow(2.0, n.iterations));
        break;
      case FractalKind::kJulia:
        emit(Code::kJulia,
             iterations,
             {n.a, n.constant[0], n.constant[1], n.constant[2], n.constant[3]});
        break;
    }
    land(skip);
    return box;
  }

  std::span<const SolidNode> nodes_;
  Solid& out_;
  int points_ = 1, distances_ = 0;
};

std::variant<Solid, std::string> Solid::compile(std::span<const SolidNode> nodes,
                                                std::uint32_t root,
                                                double time) {
  Solid out;
  out.time_ = time;
  SolidCompiler compiler(nodes, out);
  const SolidCompiler::Box box = compiler.write_here(nodes[root]);
  if (!compiler.error.empty()) {
    return compiler.error;
  }
  if (out.ops_.size() > kMostOps) {
    return fmt::format(
        "is too long: {} steps to evaluate, at most {}; repeats multiply what they hold",
        out.ops_.size(),
        kMostOps);
  }
  out.lo_ = box.lo;
  out.hi_ = box.hi;
  out.hollow_ball_ = out.as_hollow_ball();
  return out;
}

std::optional<Solid::HollowBall> Solid::as_hollow_ball() const {
  if (ops_.size() != 2 || ops_[0].code != Code::kSphere || ops_[1].code != Code::kShell) {
    return std::nullopt;
  }
  const double radius = ops_[0].v[0], wall = 2 * ops_[1].v[0];
  return wall > 0 && wall < radius ? std::optional(HollowBall{radius, radius - wall})
                                   : std::nullopt;
}

double Solid::distance(const Vec3d& at) const {
  std::array<Vec3d, kMostPoints + 2> points;         // NOLINT: filled up to `top`
  std::array<double, kMostDistances + 2> distances;  // NOLINT: filled up to `known`
  std::size_t top = 0, known = 0;
  points[0] = at;
  const auto push = [&](double d) { distances[known++] = d; };
  const auto box_of = [](const Op& op, const Vec3d& p) {
    const Vec3d q =
        (p - Vec3d(op.v[0], op.v[1], op.v[2])).cwiseAbs() - Vec3d(op.v[3], op.v[4], op.v[5]);
    return q.cwiseMax(0.0).norm();
  };
  const Op* const begin = ops_.data();
  const Op* const end = begin + ops_.size();
  for (const Op* op = begin; op != end; ++op) {
    const Vec3d& p = points[top];
    const std::array<double, 7>& v = op->v;
    switch (op->code) {
      case Code::kMove:
        points[top + 1] = p + Vec3d(v[0], v[1], v[2]);
        ++top;
        break;
      case Code::kTurn:
        points[top + 1] = turns_[op->index].point(p);
        ++top;
        break;
      case Code::kRepeat: {
        Vec3d q = p;
        for (int i = 0; i < 3; ++i) {
          const double every = v[static_cast<std::size_t>(i)],
                       count = v[static_cast<std::size_t>(i) + 3];
          if (every > 0) {
            const double middle = count > 0 ? 0.5 * (count - 1) : 0, u = p[i] / every + middle;
            double cell = std::round(u);
            cell += (op->index >> i & 1U) == 0 ? 0 : u >= cell ? 1 : -1;
            if (count > 0) {
              cell = std::clamp(cell, 0.0, count - 1);
            }
            q[i] = p[i] - every * (cell - middle);
          }
        }
        points[++top] = q;
        break;
      }
      case Code::kTwist: {
        const double c = std::cos(v[0] * p.z()), s = std::sin(v[0] * p.z());
        points[top + 1] = Vec3d(c * p.x() + s * p.y(), c * p.y() - s * p.x(), p.z());
        ++top;
        break;
      }
      case Code::kPop:
        --top;
        break;
      case Code::kSphere:
        push(p.norm() - v[0]);
        break;
      case Code::kBox:
        push(box_distance(p, v[0], v[1], v[2]));
        break;
      case Code::kPlane:
        push(p.z());
        break;
      case Code::kTorus:
        push(length_of(length_of(p.x(), p.y()) - v[0], p.z()) - v[1]);
        break;
      case Code::kCylinder:
        push(cylinder_distance(p, v[0], v[1]));
        break;
      case Code::kCone:
        push(cone_distance(p, v[0], v[1], v[2]));
        break;
      case Code::kFrame:
        push(frame_distance(p, v));
        break;
      case Code::kCapsule: {
        const double straight = std::max(0.0, v[1] - v[0]);
        push(Vec3d(p.x(), p.y(), p.z() - std::clamp(p.z(), -straight, straight)).norm() - v[0]);
        break;
      }
      case Code::kRoundBox:
        push(box_distance(p, v[0] - v[3], v[1] - v[3], v[2] - v[3]) - v[3]);
        break;
      case Code::kMenger:
        push(menger_distance(p, v[0], static_cast<int>(op->index)));
        break;
      case Code::kSierpinski:
        push(sierpinski_distance(p, v[0], static_cast<int>(op->index)));
        break;
      case Code::kJulia:
        push(julia_distance(p, v[0], v, static_cast<int>(op->index)));
        break;
      case Code::kFormula: {
        const std::array<double, 4> values = {p.x(), p.y(), p.z(), time_};
        const double d = formulas_[op->index](values) * v[0];
        push(std::isfinite(d) ? d : 1e-3);  // nowhere defined: empty, and passed in small steps
        break;
      }
      case Code::kMin:
        --known;
        distances[known - 1] = std::min(distances[known - 1], distances[known]);
        break;
      case Code::kMax:
        --known;
        distances[known - 1] = std::max(distances[known - 1], distances[known]);
        break;
      case Code::kLess:
        --known;
        distances[known - 1] = std::max(distances[known - 1], -distances[known]);
        break;
      case Code::kSmoothMin:
        --known;
        distances[known - 1] = smooth_min(distances[known - 1], distances[known], v[0]);
        break;
      case Code::kSmoothMax:
        --known;
        distances[known - 1] = -smooth_min(-distances[known - 1], -distances[known], v[0]);
        break;
      case Code::kSmoothLess:
        --known;
        distances[known - 1] = -smooth_min(-distances[known - 1], distances[known], v[0]);
        break;
      case Code::kShell:
        distances[known - 1] = std::abs(distances[known - 1] + v[0]) - v[0];
        break;
      case Code::kScale:
        distances[known - 1] *= v[0];
        break;
      case Code::kUntwist: {
        // The largest stretch of the twist within the way to the surface: the largest singular
        // value of a shear by k r.
        const double kr = std::abs(v[0]) * std::max(length_of(p.x(), p.y()), v[1]);
        distances[known - 1] /= 0.5 * (kr + std::sqrt(kr * kr + 4));
        break;
      }
      case Code::kSkipFar: {
        const double box = box_of(*op, p), nearest = distances[known - 1];
        const bool less = (op->index & 1U) != 0;
        if (less ? -box + v[6] <= nearest && box > 0 : box - v[6] >= nearest && box > 0) {
          op = begin + (op->index >> 1) - 1;
        }
        break;
      }
      case Code::kFarBox: {
        const double box = box_of(*op, p);
        if (box > v[6]) {
          push(box);
          op = begin + op->index - 1;
        }
        break;
      }
    }
  }
  JOVILUX_HOT_ASSERT(known == 1 && top == 0);
  return distances[0];
}

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

}  // namespace

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
  const Vec3d dir = direction / speed;
  double t = t_min * speed, end = std::min(t_max * speed, 1e8);
  const double least = settings.tolerance;
  // Only within the box, a little larger so that rays come in from outside.
  for (int i = 0; i < 3; ++i) {
    const double slack = least + 1e-9 * (std::abs(origin[i]) + 1), lo = lo_[i] - slack,
                 hi = hi_[i] + slack;
    if (std::abs(dir[i]) < 1e-300) {
      if (origin[i] < lo || origin[i] > hi) {
        return -1;
      }
      continue;
    }
    const double t0 = (lo - origin[i]) / dir[i], t1 = (hi - origin[i]) / dir[i];
    t = std::max(t, std::min(t0, t1));
    end = std::min(end, std::max(t0, t1));
  }
  if (!(t < end)) {
    return -1;
  }
  MarchCounts& counts = march_counts();
  ++counts.marches;
  const auto at = [&](double s) { return origin + s * dir; };
  double g = distance(at(t));
  const double side = g < 0 ? -1 : 1;  // inside it looks for the way out
  g *= side;
  // How the distance falls along the ray tells how far the next sphere reaches; a step may go to
  // where the two touch.
  // Source: C. Balint, M. Kiglics, "A Geometric Approach to Sphere Tracing Relaxation",
  // Eurographics short papers, 2021.
  double slope = -1;
  int steps = 1;
  for (; steps < settings.max_steps; ++steps) {
    if (t >= end) {
      counts.steps += static_cast<std::uint64_t>(steps);
      return -1;
    }
    double step = std::max(std::min(2 / (1 - slope), 3.0) * g, least);
    const bool relaxed = step > g && step > least;
    const double next = std::min(t + step, end), h = side * distance(at(next));
    step = next - t;
    if (h < 0) {
      // Spheres around both ends are free of the surface; between them it may lie more than once.
      if (relaxed && step - g + h > least) {
        t += g;
        g = side * distance(at(t));
        ++steps;
        slope = -1;
        if (g > 0) {
          continue;
        }
        // The bound was none: the surface lies in the step just taken.
        counts.steps += static_cast<std::uint64_t>(steps);
        return t / speed;
      }
      // One crossing: false position, halving the value of an end that stays (Illinois).
      double lo = t, hi = next, f_lo = g, f_hi = h;
      int kept = 0;  // the end that the last step left in place
      for (int i = 0; i < 60 && hi - lo > 1e-13 * (1 + hi); ++i) {
        const double middle =
            f_lo - f_hi > 0 ? (lo * -f_hi + hi * f_lo) / (f_lo - f_hi) : 0.5 * (lo + hi);
        const double f = side * distance(at(middle));
        ++steps;
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
      counts.steps += static_cast<std::uint64_t>(steps);
      const double root = 0.5 * (lo + hi);
      return root < end || next < end ? root / speed : -1;
    }
    if (relaxed && step > g + h) {  // the spheres do not touch: back to where the first one ends
      t += g;
      g = side * distance(at(t));
      ++steps;
      if (g < 0) {
        counts.steps += static_cast<std::uint64_t>(steps);
        return t / speed;
      }
      slope = -1;
      continue;
    }
    slope = std::clamp(0.5 * (slope + (step > 0 ? (h - g) / step : 0)), -1.0, 0.9);
    t = next;
    g = h;
  }
  counts.steps += static_cast<std::uint64_t>(steps);
  ++counts.exhausted;
  return t / speed;
}

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
