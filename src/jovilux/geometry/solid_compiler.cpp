#include "jovilux/base/length.h"
#include "jovilux/geometry/solid.h"

#include <algorithm>
#include <cmath>
#include <limits>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kUnbounded = std::numeric_limits<double>::infinity();
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

// A move is three additions, a turn a matrix: most solids in a rig only move.
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

// Writes a tree of nodes as a program, children before the operator that joins them.
class SolidCompiler {
 public:
  SolidCompiler(std::span<const SolidNode> nodes, Solid& out) : nodes_(nodes), out_(out) {
    out_.smallest_ = kUnbounded;
  }

  std::string error;

  struct Box {
    Vec3d lo = Vec3d::Constant(-kUnbounded), hi = Vec3d::Constant(kUnbounded);
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
        return {Vec3d::Constant(-kUnbounded), Vec3d(kUnbounded, kUnbounded, 0)};
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
    if (out_.ops_.size() > kMostOps || points_ >= Solid::kMostPoints ||
        distances_ >= Solid::kMostDistances) {
      error =
          points_ >= Solid::kMostPoints || distances_ >= Solid::kMostDistances
              ? fmt::format("is nested more than {} deep", Solid::kMostPoints)
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
  // What is costly to evaluate is told by its box alone from far away.
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
        test.v = {0, 0, 0, kUnbounded, kUnbounded, kUnbounded, kUnbounded};  // never far
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
    // the nearest. The child is written once for each of the corners.
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
      // A copy that reached beyond its cell would be cut off at the cell's wall.
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
                             : kUnbounded;
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

// The commonest hollow solid, a bulb or a globe, has an exact intersection.
std::optional<Solid::HollowBall> Solid::as_hollow_ball() const {
  if (ops_.size() != 2 || ops_[0].code != Code::kSphere || ops_[1].code != Code::kShell) {
    return std::nullopt;
  }
  const double radius = ops_[0].v[0], wall = 2 * ops_[1].v[0];
  return wall > 0 && wall < radius ? std::optional(HollowBall{radius, radius - wall})
                                   : std::nullopt;
}

}  // namespace jovilux
