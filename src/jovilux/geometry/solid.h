#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/vec.h"
#include "jovilux/geometry/transform.h"

#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace jovilux {

/// Implicit surfaces, given by a bound on the distance to them, negative inside.
enum class SolidKind : std::uint8_t {
  kSphere,
  kBox,
  kPlane,
  kTorus,
  kCylinder,
  kCone,
  kFrame,
  kCapsule,
  kRoundBox,
  kUnion,
  kSubtract,
  kIntersect,
  kRepeat,
  kTwist,
  kShell,
  kFractal,
  kFormula
};
std::optional<SolidKind> parse_solid_kind(std::string_view text);
std::string_view to_string(SolidKind kind);
std::vector<std::string> solid_kind_names();

/// Recursive solids. menger: a cube from which crosses are cut, three times finer each iteration.
/// sierpinski: a tetrahedron of tetrahedra, two times finer each. julia: the points that q -> q^2 +
/// c leaves near the origin, in the first three of four dimensions.
enum class FractalKind : std::uint8_t { kMenger, kSierpinski, kJulia };

/// One solid as a rig writes it. Sizes in meters:
///
///     sphere    radius a                          torus     ring radius a, tube radius b, about z
///     box       half extents a, b, c              cylinder  radius a, half height c along z
///     frame     the same, bars of width d         cone      radius a at z = -c, b at z = +c
///     rounded-box the same, edges of radius d       capsule   radius a, half height c between the
///     round ends' tips
///     plane     below z = 0                       shell     wall d thick, within the surface of
///     its child
///     twist     rate d [rad/m] about z            fractal   half a of its edge; formula: half
///     extents a, b, c of the box
///                                                           that holds it, or 0
struct SolidNode {
  SolidKind kind = SolidKind::kSphere;
  double a = 1, b = 1, c = 1, d = 0;
  Transform place;  ///< rigid
  /// Operators: the children; subtract: the first, less all others.
  std::vector<std::uint32_t> of;
  double blend = 0;                      ///< union, subtract, intersect: how far the fillet reaches
  Vec3d spacing = Vec3d::Zero();         ///< repeat: distances between copies; 0 on axes without
  std::array<int, 3> count = {0, 0, 0};  ///< repeat: copies on each axis, centered; 0: without end
  FractalKind fractal = FractalKind::kMenger;
  int iterations = 4;
  std::array<double, 4> constant = {-0.2, 0.6, 0.2, 0.2};  ///< julia: c
  std::optional<Formula> formula;  ///< of x, y, z [m], t [s]; negative inside
  double slope = 1;                ///< the steepest that the formula rises a meter
};

/// How finely a solid is marched.
struct MarchSettings {
  double tolerance = 2e-4;  ///< the thinnest thing that rays must not miss [m]
  int max_steps = 512;
};

/// What marching did, counted for each thread.
struct MarchCounts {
  std::uint64_t steps = 0;      ///< evaluations of a distance
  std::uint64_t marches = 0;    ///< rays that came into the box of a solid
  std::uint64_t exhausted = 0;  ///< marches that ran out of steps
  MarchCounts operator-(const MarchCounts& o) const {
    return {steps - o.steps, marches - o.marches, exhausted - o.exhausted};
  }
  MarchCounts& operator+=(const MarchCounts& o) {
    steps += o.steps;
    marches += o.marches;
    exhausted += o.exhausted;
    return *this;
  }
};
/// This thread's, since it began.
MarchCounts& march_counts();

/// A solid compiled into a flat program: one list of instructions over a stack of points and one of
/// distances. Children whose bounding box is farther than what is already known are skipped.
/// Immutable and shared.
class Solid {
 public:
  /// The solid `nodes[root]` without its own place. Fails with a text for the user: too long, or a
  /// child too large for its cell. Children must be without cycles. `time` [s] is what formulas
  /// know as t.
  static std::variant<Solid, std::string> compile(std::span<const SolidNode> nodes,
                                                  std::uint32_t root,
                                                  double time = 0);

  /// A bound on the distance to the surface [m]: never more than it, of the right sign.
  double distance(const Vec3d& p) const;
  /// The unit gradient by central differences over +-h.
  Vec3d normal(const Vec3d& p, double h) const;

  /// The smallest t in (t_min, t_max) at which a ray crosses the surface, found by sphere tracing,
  /// of a hollow ball in closed form; negative where there is none. `direction` need not be of
  /// length 1. A march that runs out of steps ends where it is, as if the surface were there.
  double intersect(const Vec3d& origin,
                   const Vec3d& direction,
                   double t_min,
                   double t_max,
                   const MarchSettings& settings) const;

  bool bounded() const { return lo_.allFinite() && hi_.allFinite(); }
  /// The box that holds it; infinite on the sides where it has no end.
  const Vec3d& lo() const { return lo_; }
  const Vec3d& hi() const { return hi_; }
  /// The thinnest measure that it was given: a radius, a thickness, an edge [m].
  double smallest() const { return smallest_; }
  std::size_t instructions() const { return ops_.size(); }

  /// The steepest rise of the distance a meter, over pairs of points chosen at random in the box
  /// (or within 2 m of the origin): above 1 it is no bound, and rays may pass through the surface.
  double steepest(int pairs) const;

 private:
  friend class SolidCompiler;
  enum class Code : std::uint8_t {
    kMove,
    kTurn,
    kRepeat,
    kTwist,
    kPop,
    kSphere,
    kBox,
    kPlane,
    kTorus,
    kCylinder,
    kCone,
    kFrame,
    kCapsule,
    kRoundBox,
    kMenger,
    kSierpinski,
    kJulia,
    kFormula,
    kMin,
    kMax,
    kLess,
    kSmoothMin,
    kSmoothMax,
    kSmoothLess,
    kShell,
    kUntwist,
    kSkipFar,
    kFarBox
  };
  struct Op {
    Code code;
    std::uint32_t index = 0;  // of a transform or formula; where a jump goes; a repeat's corner
    std::array<double, 7> v{};
  };

  // Most entries of the two stacks of an evaluation.
  static constexpr int kMostPoints = 40, kMostDistances = 40;

  // Instructions by kind; see `distance`.
  Vec3d moved(const Op& op, const Vec3d& p) const;
  static Vec3d repeated(const Op& op, const Vec3d& p);
  double shape_distance(const Op& op, const Vec3d& p) const;
  static double joined(const Op& op, double first, double second);
  static double distance_to_box(const Op& op, const Vec3d& p);
  static bool skips_child(const Op& op, const Vec3d& p, double nearest);

  // Narrows the stretch of a ray to the solid's box; false: the ray misses it.
  bool clip_to_box(const Vec3d& origin,
                   const Vec3d& unit_direction,
                   double tolerance,
                   double& begin,
                   double& end) const;

  // A ball hollowed out, such as a lamp's globe: two spheres about the origin.
  struct HollowBall {
    double outer, inner;  // radii
  };
  std::optional<HollowBall> as_hollow_ball() const;

  std::vector<Op> ops_;
  std::optional<HollowBall> hollow_ball_;
  std::vector<Transform> turns_;
  std::vector<Formula> formulas_;
  Vec3d lo_ = Vec3d::Zero(), hi_ = Vec3d::Zero();
  double smallest_ = 0, time_ = 0;
};

}  // namespace jovilux
