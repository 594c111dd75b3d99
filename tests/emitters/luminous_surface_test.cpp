#include "jovilux/emitters/luminous_surface.h"

#include "jovilux/base/sampler.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Shape shape_of(ShapeKind kind) {
  Shape s;
  s.kind = kind;
  return s;
}

// A quarter of a tent: two triangles of areas 0.5 and 2.
Mesh tent() {
  Mesh m;
  m.positions = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 4}};
  m.triangles = {{0, 1, 2}, {0, 2, 3}};
  return m;
}

}  // namespace

TEST_CASE("areas of luminous shapes are their closed forms", "[emitters]") {
  CHECK(surface_area(shape_of(ShapeKind::kSphere)) == Approx(4 * kPiD));
  CHECK(surface_area(shape_of(ShapeKind::kBox)) == Approx(24));
  Shape torus = shape_of(ShapeKind::kTorus);
  torus.b = 0.25;
  CHECK(surface_area(torus) == Approx(4 * kPiD * kPiD * 0.25));
  Shape drum = shape_of(ShapeKind::kCylinder);
  drum.c = 2;
  CHECK(surface_area(drum) == Approx(2 * kPiD * 4 + 2 * kPiD));
  drum.open = true;
  CHECK(surface_area(drum) == Approx(2 * kPiD * 4));
  CHECK(LuminousSurface(tent()).area() == Approx(2.5));
  // Twice as large is four times the area; stretched along one axis it is that of a spheroid
  // (Kepler's closed form).
  Shape ball = shape_of(ShapeKind::kSphere);
  ball.a = 0.5;
  const double own = surface_area(ball);
  CHECK(LuminousSurface(ball, placement({1, 2, 3}, {0.1, 0.2, 0.3}, {2, 2, 2})).area() ==
        Approx(4 * own).epsilon(1e-3));
  const double a = 0.5, c = 1.5, e = std::sqrt(1 - a * a / (c * c));
  CHECK(LuminousSurface(ball, placement({0, 0, 0}, {0, 0, 0}, {1, 1, 3})).area() ==
        Approx(2 * kPiD * a * a * (1 + c / (a * e) * std::asin(e))).epsilon(2e-3));
}

TEST_CASE("a mask takes its part of a luminous surface's area", "[emitters]") {
  const Cover left_third = [](const Vec2& uv) { return uv.x() < 1 / 3.0f ? 1.0f : 0.0f; };
  Shape sheet = shape_of(ShapeKind::kRect);
  const LuminousSurface cut(sheet, placement({0, 0, 0}, {0, 0, 0}, {2, 1, 1}), left_third);
  CHECK(cut.area() == Approx(8 / 3.0).epsilon(1e-3));
  Rng rng(3);
  for (int i = 0; i < 100; ++i) {
    const SurfaceSample s =
        cut.sample({static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    CHECK(s.covered == (s.position.x() < -2 / 3.0f ? 1.0f : 0.0f));
    CHECK(s.pdf_area == Approx(1 / 8.0));  // places are chosen over all of it
  }
  // A mesh by its own places on the picture: its larger triangle is cut out.
  Mesh mesh = tent();
  mesh.positions = {{0, 0, 0}, {1, 0, 0}, {0, 1, 0}, {0, 0, 0}, {0, 1, 0}, {0, 0, 4}};
  mesh.triangles = {{0, 1, 2}, {3, 4, 5}};
  mesh.uvs = {{0.1f, 0}, {0.2f, 0}, {0.1f, 1}, {0.8f, 0}, {0.8f, 1}, {0.9f, 0}};
  CHECK(LuminousSurface(mesh, left_third).area() == Approx(0.5).epsilon(1e-3));
}

TEST_CASE("places on luminous surfaces lie there, are as dense as they say, and cover them",
          "[emitters][statistical]") {
  Shape ball = shape_of(ShapeKind::kSphere);
  ball.a = 0.4;
  for (const LuminousSurface& surface :
       {LuminousSurface(tent()),
        LuminousSurface(ball, placement({1, -2, 0.5}, {0.3, 0.1, 0}, {1, 2, 0.5}))}) {
    Rng rng(12);
    RunningMoments area;
    double reach = 0;
    Vec3d middle = Vec3d::Zero();
    constexpr int kSamples = 40'000;
    for (int i = 0; i < kSamples; ++i) {
      const SurfaceSample s =
          surface.sample({static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
      REQUIRE(s.pdf_area > 0);
      CHECK(s.normal.norm() == Approx(1).epsilon(1e-4));
      CHECK(surface.pdf_area(s.normal) == Approx(s.pdf_area).epsilon(1e-3));
      area.add(1 / static_cast<double>(s.pdf_area));
      middle += s.position.cast<double>() / static_cast<double>(s.pdf_area);
      reach = std::max(reach, (s.position.cast<double>() - surface.center()).norm());
    }
    // The mean of 1 / density is the area, the mean place by area its center.
    CHECK(std::abs(area.mean() - surface.area()) <=
          kZBound * area.standard_error() + 2e-3 * surface.area());
    CHECK(std::abs(1.05 * area.mean() - surface.area()) >
          kZBound * area.standard_error() + 2e-3 * surface.area());
    middle /= area.mean() * kSamples;
    CHECK((middle - surface.center()).norm() < 0.02 * surface.reach());
    CHECK(reach <= surface.reach() * (1 + 1e-5));
    CHECK(reach > 0.5 * surface.reach());
  }
}

TEST_CASE("triangles are met in proportion to their area", "[emitters][statistical]") {
  const LuminousSurface surface(tent());
  Rng rng(3);
  int small = 0;
  constexpr int kSamples = 50'000;
  for (int i = 0; i < kSamples; ++i) {
    small += surface.sample({static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())})
                         .normal.z() > 0.5f
                 ? 1
                 : 0;
  }
  // Binomial with p = 0.5 / 2.5.
  CHECK(std::abs(small - 0.2 * kSamples) < kZBound * std::sqrt(kSamples * 0.2 * 0.8));
}
