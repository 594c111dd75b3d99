#include "jovilux/geometry/shapes.h"

#include "jovilux/base/sampler.h"

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

// Signed distance-like functions whose zero is the surface, to judge hits by.
double implicit(const Shape& s, const Vec3d& p) {
  const double rho = std::hypot(p.x(), p.y());
  switch (s.kind) {
    case ShapeKind::kSphere:
      return p.norm() - s.a;
    case ShapeKind::kBox:
      return std::max({std::abs(p.x()) - s.a, std::abs(p.y()) - s.b, std::abs(p.z()) - s.c});
    case ShapeKind::kTorus:
      return std::hypot(rho - s.a, p.z()) - s.b;
    case ShapeKind::kCylinder:
      return s.open && std::abs(p.z()) > s.c ? 1
             : s.open                        ? rho - s.a
                                             : std::max(rho - s.a, std::abs(p.z()) - s.c);
    case ShapeKind::kCone: {
      const double r = 0.5 * (s.a + s.b) + (s.b - s.a) / (2 * s.c) * p.z();
      return std::max(rho - r, std::abs(p.z()) - s.c);
    }
    default:
      return p.z();
  }
}

Vec3d random_direction(Rng& rng) {
  const double z = rng.uniform(-1, 1), phi = rng.uniform(0, 2 * kPiD), r = std::sqrt(1 - z * z);
  return {r * std::cos(phi), r * std::sin(phi), z};
}

const std::vector<Shape> kShapes = {{ShapeKind::kSphere, 0.7},
                                    {ShapeKind::kBox, 0.3, 0.5, 0.2},
                                    {ShapeKind::kTorus, 0.6, 0.2},
                                    {ShapeKind::kCylinder, 0.4, 0, 0.5},
                                    {ShapeKind::kCone, 0.5, 0.2, 0.4},
                                    {ShapeKind::kCone, 0.5, 0.0, 0.4}};

}  // namespace

TEST_CASE("rays meet closed shapes where marching finds their surface", "[geometry][shapes]") {
  const Shape shape = GENERATE(from_range(kShapes));
  INFO(to_string(shape.kind));
  Rng rng(17);
  int met = 0;
  for (int i = 0; i < 3000; ++i) {
    const Vec3d o = 2 * random_direction(rng);
    const Vec3d target = 0.6 * rng.uniform() * random_direction(rng);
    const Vec3d d = (target - o).normalized();
    const double t = intersect(shape, o, d, 0, HUGE_VAL);
    // The plain way: fine steps to the first change of sign.
    constexpr double kStep = 1e-3;
    double first = -1;
    for (double s = 0; s < 4; s += kStep) {
      if (implicit(shape, o + s * d) < -1e-9) {
        first = s;
        break;
      }
    }
    if (first >= 0) {
      ++met;
      REQUIRE(t > 0);
      CHECK(std::abs(implicit(shape, o + t * d)) < 1e-9);
      CHECK(t <= first + 1e-9);
      CHECK(t > first - 2 * kStep - 1e-9);
    }
  }
  CHECK(met > 500);
}

TEST_CASE("from inside a closed shape every ray leaves it exactly once more than it enters",
          "[geometry][shapes]") {
  const Shape shape = GENERATE(from_range(kShapes));
  Rng rng(5);
  for (int i = 0; i < 500; ++i) {
    const Vec3d o =
        shape.kind == ShapeKind::kTorus ? Vec3d(shape.a, 0, 0) : Vec3d(0.01, -0.02, 0.03);
    const Vec3d d = random_direction(rng);
    int crossings = 0;
    for (double t = intersect(shape, o, d, 0, HUGE_VAL); t > 0;
         t = intersect(shape, o, d, t + 1e-9, HUGE_VAL)) {
      ++crossings;
    }
    CHECK(crossings % 2 == 1);
  }
}

TEST_CASE("normals are the gradient of the surface's function", "[geometry][shapes]") {
  const Shape shape = GENERATE(from_range(kShapes));
  INFO(to_string(shape.kind));
  Rng rng(23);
  int compared = 0;
  for (int i = 0; i < 500; ++i) {
    const Vec3d o = 3 * random_direction(rng);
    const Vec3d d = (0.3 * random_direction(rng) - o).normalized();
    const double t = intersect(shape, o, d, 0, HUGE_VAL);
    if (t <= 0) {
      continue;
    }
    const Vec3d p = o + t * d;
    constexpr double kH = 1e-5;
    Vec3d gradient;
    for (int a = 0; a < 3; ++a) {
      const Vec3d h = kH * Vec3d::Unit(a);
      gradient[a] = implicit(shape, p + h) - implicit(shape, p - h);
    }
    const double smooth = (gradient.norm() / (2 * kH));
    if (smooth > 0.5) {  // not on an edge
      ++compared;
      CHECK((normal_at(shape, p) - gradient.normalized()).norm() < 0.02);
    }
  }
  CHECK(compared > 100);
}

TEST_CASE("open cylinders let rays through their ends", "[geometry][shapes]") {
  const Shape open{ShapeKind::kCylinder, 0.4, 0, 0.5, true};
  CHECK(intersect(open, {0, 0, 0}, {0, 0, 1}, 0, HUGE_VAL) < 0);
  CHECK(intersect(open, {0, 0, 0}, {1, 0, 0}, 0, HUGE_VAL) == Approx(0.4));
  const Shape closed{ShapeKind::kCylinder, 0.4, 0, 0.5, false};
  CHECK(intersect(closed, {0, 0, 0}, {0, 0, 1}, 0, HUGE_VAL) == Approx(0.5));
}

TEST_CASE("a far small sphere keeps its digits", "[geometry][shapes]") {
  const Shape ball{ShapeKind::kSphere, 0.001};
  const double t = intersect(ball, {0, 0, -1e5}, {0, 0, 1}, 0, HUGE_VAL);
  CHECK(std::abs(t - (1e5 - 0.001)) < 1e-9);
}

TEST_CASE("polynomial roots are those that the polynomial was made of", "[geometry][shapes]") {
  Rng rng(31);
  for (int i = 0; i < 1000; ++i) {
    double r[4];
    for (double& x : r) {
      x = rng.uniform(-2, 2);
    }
    std::sort(r, r + 4);
    bool apart = true;
    for (int k = 0; k < 3; ++k) {
      apart = apart && r[k + 1] - r[k] > 1e-3;
    }
    if (!apart) {
      continue;
    }
    double c[5] = {1, 0, 0, 0, 0};
    for (int k = 0; k < 4; ++k) {  // times (t - r)
      for (int p = k + 1; p >= 0; --p) {
        c[p] = (p > 0 ? c[p - 1] : 0) - r[k] * c[p];
      }
    }
    double roots[4];
    REQUIRE(polynomial_roots(c, 4, -3, 3, roots) == 4);
    for (int k = 0; k < 4; ++k) {
      CHECK(roots[k] == Approx(r[k]).margin(1e-8));
    }
  }
}
