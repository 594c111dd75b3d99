#include "jovilux/optics/surface.h"

#include <catch2/catch.hpp>

#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"
#include "tests/support/statistics.h"

using namespace jovilux;

namespace {

Vec3 direction(double cosine, double phi = 0) {
  const double s = std::sqrt(1 - cosine * cosine);
  return {static_cast<float>(s * std::cos(phi)), static_cast<float>(s * std::sin(phi)), static_cast<float>(cosine)};
}

std::vector<SurfaceModel> all_models(float color) {
  const Spectrum c = Spectrum::Constant(color);
  std::vector<SurfaceModel> out;
  for (const float r : {0.0f, 0.25f, 0.5f, 0.75f, 1.0f}) {
    out.push_back(matte(c, r));
    out.push_back(metal(c, r));
    out.push_back(gloss(c, Spectrum::Ones(), 1.5f, r));
  }
  return out;
}

// Share of light from wo that scatter() sends on.
RunningMoments reflected(const SurfaceModel& m, const Vec3& wo, int samples, std::uint64_t seed = 1) {
  Rng rng(seed);
  RunningMoments out;
  for (int i = 0; i < samples; ++i) {
    const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
    const Scattering s = scatter(m, wo, u, static_cast<float>(rng.uniform()));
    out.add(s.pdf > 0 ? s.weight[4] : 0);
  }
  return out;
}

}  // namespace

TEST_CASE("white surfaces neither add nor lose light in a white furnace", "[optics][statistical]") {
  const double cosine = GENERATE(0.1, 0.5, 0.95);
  for (const SurfaceModel& m : all_models(1)) {
    const RunningMoments r = reflected(m, direction(cosine), 60'000);
    INFO("kind " << static_cast<int>(m.kind) << " roughness " << m.roughness << " alpha " << m.alpha << " at " << cosine << ": " << r.mean());
    constexpr double kCompensated = 0.01;  // docs/physics.md, law 11
    CHECK(r.mean() < 1 + kCompensated / 2 + test::kZBound * r.standard_error());
    CHECK(r.mean() > 1 - kCompensated - test::kZBound * r.standard_error());
    CHECK(r.standard_error() < 0.01);
  }
}

TEST_CASE("reflection is the same both ways", "[optics]") {
  Rng rng(3);
  for (const SurfaceModel& m : all_models(0.6f)) {
    for (int i = 0; i < 200; ++i) {
      const Vec3 a = direction(rng.uniform(0.02, 1), rng.uniform(0, 6)), b = direction(rng.uniform(0.02, 1), rng.uniform(0, 6));
      const float ab = reflection(m, a, b)[3], ba = reflection(m, b, a)[3];
      CHECK(ab == Approx(ba).epsilon(2e-4).margin(1e-7));
      CHECK(ab >= 0);
    }
  }
}

TEST_CASE("the density of directions integrates to the chance of choosing one", "[optics]") {
  for (const SurfaceModel& m : all_models(0.6f)) {
    if (m.has_mirror_part() || (m.alpha > 0 && m.alpha < 0.1f)) {
      continue;  // a lobe narrower than the grid
    }
    const Vec3 wo = direction(0.6);
    double sum = 0;
    constexpr int kRows = 400, kCols = 400;
    for (int i = 0; i < kRows; ++i) {
      for (int j = 0; j < kCols; ++j) {
        sum += reflection_pdf(m, wo, direction((i + 0.5) / kRows, 2 * kPiD * (j + 0.5) / kCols));
      }
    }
    sum *= 2 * kPiD / (kRows * kCols);
    Rng rng(8);
    int chosen = 0;
    constexpr int kSamples = 50'000;
    for (int i = 0; i < kSamples; ++i) {
      const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
      chosen += scatter(m, wo, u, static_cast<float>(rng.uniform())).pdf > 0 ? 1 : 0;
    }
    INFO("kind " << static_cast<int>(m.kind) << " alpha " << m.alpha);
    CHECK(sum == Approx(static_cast<double>(chosen) / kSamples).margin(0.01));
  }
}

TEST_CASE("sampling agrees with integrating the reflection over a grid", "[optics][statistical]") {
  for (const SurfaceModel& m : all_models(0.4f)) {
    if (m.has_mirror_part() || (m.alpha > 0 && m.alpha < 0.1f)) {
      continue;
    }
    const Vec3 wo = direction(0.7);
    double exact = 0;
    constexpr int kRows = 500, kCols = 500;
    for (int i = 0; i < kRows; ++i) {
      const double c = (i + 0.5) / kRows;
      for (int j = 0; j < kCols; ++j) {
        exact += c * reflection(m, wo, direction(c, 2 * kPiD * (j + 0.5) / kCols))[4];
      }
    }
    exact *= 2 * kPiD / (kRows * kCols);
    const RunningMoments r = reflected(m, wo, 200'000, 77);
    const test::ZTest z = test::z_test(r, exact);
    INFO("kind " << static_cast<int>(m.kind) << " alpha " << m.alpha << " exact " << exact << " got " << r.mean());
    constexpr double kGridError = 1e-3;
    CHECK(std::abs(r.mean() - exact) < test::kZBound * r.standard_error() + kGridError * exact);
    CHECK(z.sees < 0.05);
    CHECK(std::abs(1.1 * r.mean() - exact) > test::kZBound * r.standard_error() + kGridError * exact);  // the alarm does ring
  }
}

TEST_CASE("the projected area of all microfacets is that of the surface", "[optics]") {
  const double alpha = GENERATE(0.1, 0.3, 1.0);
  const double area = integral([&](double t) { return 2 * kPiD * std::sin(t) * std::cos(t) * ggx_distribution(direction(std::cos(t)), static_cast<float>(alpha)); }, 0, kPiD / 2, 64);
  CHECK(area == Approx(1).epsilon(1e-4));
}

TEST_CASE("mirrors and smooth coats reflect by Fresnel's equations", "[optics]") {
  const Vec3 wo = direction(0.5, 1);
  const Scattering mirror = scatter(metal(Spectrum::Constant(0.5f), 0), wo, {0.3f, 0.4f}, 0.2f);
  CHECK(mirror.mirror);
  CHECK((mirror.wi - Vec3(-wo.x(), -wo.y(), wo.z())).norm() == 0);
  CHECK(mirror.weight[0] == Approx(0.5 + 0.5 * std::pow(0.5, 5)));
  CHECK(fresnel_dielectric(1, 1.5f) == Approx(0.04));
  CHECK(fresnel_dielectric(0.5f, 1 / 1.5f) == 1);  // total reflection: 60 degrees is past 41.8
  const SurfaceModel coat = gloss(Spectrum::Zero(), Spectrum::Ones(), 1.5f, 0);
  CHECK(reflected(coat, wo, 1000).mean() == Approx(fresnel_dielectric(0.5f, 1.5f)).epsilon(1e-3));
}

TEST_CASE("a colored coat colors what comes from below and not the highlight", "[optics]") {
  Spectrum tint = Spectrum::Ones();
  tint[2] = 0.5f;
  const Vec3 wo = direction(1), wi = direction(0.8, 2);
  const Spectrum plain = reflection(gloss(Spectrum::Constant(0.5f), Spectrum::Ones(), 1.5f, 0), wo, wi);
  const Spectrum colored = reflection(gloss(Spectrum::Constant(0.5f), tint, 1.5f, 0), wo, wi);
  CHECK(colored[0] == Approx(plain[0]));
  CHECK(colored[2] < 0.5f * plain[2]);  // a slanted path is longer than the one along the normal
  const Scattering highlight = scatter(gloss(Spectrum::Zero(), tint, 1.5f, 0), wo, {0.5f, 0.5f}, 0.0f);
  CHECK(highlight.weight[0] == highlight.weight[2]);
}
