// What all walks of paths do alike where they meet a surface: sides, masks and panes, glass.
#include "jovilux/transport/surface_vertex.h"

#include "jovilux/base/sampler.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Scene::Pictures mask_of(float covered) {
  Scene::Pictures out;
  out.mask = std::make_shared<Picture>(1, 1, std::vector<float>(3, covered));
  return out;
}

// The mean of what passes straight, by even numbers for mask and pane.
Spectrum mean_passed(const SurfaceModel& m, const Scene::Pictures& pictures, float cosine) {
  constexpr int kTries = 400;
  Spectrum sum = Spectrum::Zero();
  for (int i = 0; i < kTries; ++i) {
    for (int j = 0; j < kTries; ++j) {
      const auto even = [](int k) {
        return (static_cast<float>(k) + 0.5f) / static_cast<float>(kTries);
      };
      const auto passed = straight_through(
          m,
          pictures,
          Vec2(0.5f, 0.5f),
          cosine,
          [&] { return even(i); },
          [&](float) { return even(j); });
      sum += passed.value_or(Spectrum::Zero());
    }
  }
  return sum / static_cast<float>(kTries * kTries);
}

}  // namespace

TEST_CASE("the normals of a surface turn to the side that a path is on", "[transport][surface]") {
  Rng random(41);
  const auto direction = [&] {
    return Vec3(static_cast<float>(random.uniform(-1, 1)),
                static_cast<float>(random.uniform(-1, 1)),
                static_cast<float>(random.uniform(-1, 1)))
        .normalized();
  };
  int replaced = 0;
  for (int i = 0; i < 2000; ++i) {
    const Vec3 normal = direction(), toward = direction();
    const Vec3 shading = (normal + 0.5f * direction()).normalized();
    const SurfaceSide side = SurfaceSide::of(normal, shading, toward);
    CHECK(side.normal.dot(toward) >= 0);
    CHECK(std::abs(side.normal.dot(normal)) == Approx(1));
    CHECK(side.shading.dot(toward) >= 0);
    // Either the interpolated normal, turned along, or the surface's own.
    const bool own = side.shading == side.normal;
    CHECK((own || std::abs(side.shading.dot(shading)) == Approx(1)));
    replaced += own ? 1 : 0;
    // The same from whichever side the normals were stated.
    const SurfaceSide other = SurfaceSide::of(-normal, -shading, toward);
    CHECK(other.normal == side.normal);
    CHECK(other.shading == side.shading);
  }
  // Some paths come from behind the interpolated normal, most do not.
  CHECK(replaced > 20);
  CHECK(replaced < 1000);
}

TEST_CASE("what passes masks and panes straight is in the mean what both let through",
          "[transport][surface]") {
  const Scene::Pictures none;
  const SurfaceModel board = diffuse_surface(Spectrum::Constant(0.5f), 0);
  const SurfaceModel tinted = pane(1.5f, Spectrum::Constant(0.6f));
  const float cosine = 0.8f, mirrors = pane_reflectance(tinted, cosine);

  CHECK(mean_passed(board, none, cosine).maxCoeff() == 0);
  CHECK(mean_passed(board, mask_of(0.25f), cosine).mean() == Approx(0.75).epsilon(0.01));
  CHECK(mean_passed(tinted, none, cosine).mean() ==
        Approx(tinted.transmittance.mean() * (1 - mirrors)).epsilon(0.01));
  // From behind it is the same.
  CHECK(mean_passed(tinted, none, -cosine).mean() ==
        Approx(mean_passed(tinted, none, cosine).mean()));
  CHECK(mean_passed(tinted, mask_of(0.5f), cosine).mean() ==
        Approx(0.5 + 0.5 * static_cast<double>(tinted.transmittance.mean() * (1 - mirrors)))
            .epsilon(0.01));
}

TEST_CASE("the glass that a path runs in is known after each surface", "[transport][surface]") {
  const SurfaceModel body = glass(1.5f, Spectrum::Constant(0.2f)),
                     board = diffuse_surface(Spectrum::Ones(), 0);
  const SurfaceModel* const air = nullptr;
  CHECK(glass_after(body, false, true, air) == &body);    // in
  CHECK(glass_after(body, true, true, &body) == air);     // out
  CHECK(glass_after(body, true, false, &body) == &body);  // mirrored within
  CHECK(glass_after(body, false, false, air) == air);     // mirrored outside
  CHECK(glass_after(body, true, false, air) == &body);    // from a lamp within
  CHECK(glass_after(board, false, false, &body) == &body);
}

TEST_CASE("flux keeps what radiance gains in glass", "[transport][surface]") {
  const SurfaceModel body = glass(1.5f, Spectrum::Zero()),
                     board = diffuse_surface(Spectrum::Ones(), 0);
  CHECK(refracted_flux(body, false, true) == Approx(body.eta * body.eta));
  CHECK(refracted_flux(body, false, true) * refracted_flux(body, true, true) == Approx(1));
  CHECK(refracted_flux(body, true, false) == 1);
  CHECK(refracted_flux(board, false, true) == 1);
}

TEST_CASE("a mirrored direction has the same angle to the normal on the other side",
          "[transport][surface]") {
  const Vec3 n = Vec3(1, 2, 2).normalized(), d = Vec3(-0.3f, -0.5f, -0.8f).normalized();
  const Vec3 m = mirrored(d, n);
  CHECK(m.norm() == Approx(1));
  CHECK(m.dot(n) == Approx(-d.dot(n)));
  CHECK(m.cross(n).dot(d) == Approx(0).margin(1e-6));
}

TEST_CASE("a material has the color of its picture at a place, and is kept there",
          "[transport][surface]") {
  Scene scene;
  scene.materials.push_back(diffuse_surface(Spectrum::Constant(0.5f), 0));
  Scene::Pictures pictures;
  std::optional<SurfaceModel> kept;
  CHECK(&material_at(scene, 0, pictures, Vec2(0.5f, 0.5f), kept) == &scene.materials[0]);
  CHECK_FALSE(kept);
  pictures.color = std::make_shared<Picture>(1, 1, std::vector<float>{0.2f, 0.2f, 0.2f});
  const SurfaceModel& painted_there = material_at(scene, 0, pictures, Vec2(0.5f, 0.5f), kept);
  REQUIRE(kept);
  CHECK(&painted_there == &*kept);
  CHECK(albedo(painted_there, 1).mean() == Approx(0.2).epsilon(0.02));
  CHECK(albedo(scene.materials[0], 1).mean() == Approx(0.5));
}
