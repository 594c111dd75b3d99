#include "jovilux/optics/surface.h"

#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Vec3 direction(double cosine, double phi = 0) {
  const double s = std::sqrt(1 - cosine * cosine);
  return {static_cast<float>(s * std::cos(phi)),
          static_cast<float>(s * std::sin(phi)),
          static_cast<float>(cosine)};
}

std::vector<SurfaceModel> all_models(float color) {
  const Spectrum c = Spectrum::Constant(color);
  std::vector<SurfaceModel> out;
  for (const float r : {0.0f, 0.25f, 0.5f, 0.75f, 1.0f}) {
    out.push_back(diffuse_surface(c, r));
    out.push_back(metal(c, r));
    out.push_back(gloss(c, Spectrum::Ones(), 1.5f, r));
  }
  return out;
}

// Share of light from wo that scatter() sends on.
RunningMoments reflected(const SurfaceModel& m,
                         const Vec3& wo,
                         int samples,
                         std::uint64_t seed = 1) {
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
    INFO("kind " << static_cast<int>(m.kind) << " roughness " << m.roughness << " alpha " << m.alpha
                 << " at " << cosine << ": " << r.mean());
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
      const Vec3 a = direction(rng.uniform(0.02, 1), rng.uniform(0, 6)),
                 b = direction(rng.uniform(0.02, 1), rng.uniform(0, 6));
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
    INFO("kind " << static_cast<int>(m.kind) << " alpha " << m.alpha << " exact " << exact
                 << " got " << r.mean());
    constexpr double kGridError = 1e-3;
    CHECK(std::abs(r.mean() - exact) < test::kZBound * r.standard_error() + kGridError * exact);
    CHECK(z.sees < 0.05);
    // The alarm does ring.
    CHECK(std::abs(1.1 * r.mean() - exact) >
          test::kZBound * r.standard_error() + kGridError * exact);
  }
}

TEST_CASE("the projected area of all microfacets is that of the surface", "[optics]") {
  const double alpha = GENERATE(0.1, 0.3, 1.0);
  const double area = integral(
      [&](double t) {
        return 2 * kPiD * std::sin(t) * std::cos(t) *
               ggx_distribution(direction(std::cos(t)), static_cast<float>(alpha));
      },
      0,
      kPiD / 2,
      64);
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
  const Spectrum plain =
      reflection(gloss(Spectrum::Constant(0.5f), Spectrum::Ones(), 1.5f, 0), wo, wi);
  const Spectrum colored = reflection(gloss(Spectrum::Constant(0.5f), tint, 1.5f, 0), wo, wi);
  CHECK(colored[0] == Approx(plain[0]));
  CHECK(colored[2] < 0.5f * plain[2]);  // a slanted path is longer than the one along the normal
  const Scattering highlight =
      scatter(gloss(Spectrum::Zero(), tint, 1.5f, 0), wo, {0.5f, 0.5f}, 0.0f);
  CHECK(highlight.weight[0] == highlight.weight[2]);
}

namespace {

// Flux that a surface of rough glass sends on: what refraction does to radiance taken out again.
RunningMoments glass_flux(const SurfaceModel& m,
                          const Vec3& wo,
                          bool inside,
                          int samples,
                          RunningMoments* through = nullptr) {
  Rng rng(21);
  RunningMoments out;
  for (int i = 0; i < samples; ++i) {
    const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
    const Scattering s = scatter(m, wo, u, static_cast<float>(rng.uniform()), inside);
    const double radiance = s.wi.z() > 0 ? 1.0 : inside ? m.eta * m.eta : 1 / (m.eta * m.eta);
    const double flux = s.pdf > 0 ? s.weight[4] / radiance : 0;
    out.add(flux);
    if (through != nullptr) {
      through->add(s.wi.z() < 0 ? flux : 0);
    }
  }
  return out;
}

}  // namespace

TEST_CASE("clear glass of any roughness keeps all light, from both sides",
          "[optics][glass][statistical]") {
  const float roughness = GENERATE(0.0f, 0.2f, 0.4f, 0.7f, 1.0f);
  const SurfaceModel m = glass(1.5f, Spectrum::Zero(), roughness);
  for (const bool inside : {false, true}) {
    for (const double cosine : {0.1, 0.5, 0.95}) {
      const RunningMoments r = glass_flux(m, direction(cosine), inside, 60'000);
      INFO("roughness " << roughness << (inside ? " inside" : " outside") << " at " << cosine
                        << ": " << r.mean());
      constexpr double kCompensated = 0.01;
      CHECK(std::abs(r.mean() - 1) < kCompensated + test::kZBound * r.standard_error());
      CHECK(r.standard_error() < 0.02);
    }
  }
  // Hardly rough, it passes nearly what smooth glass passes.
  RunningMoments through;
  glass_flux(glass(1.5f, Spectrum::Zero(), 0.15f), direction(0.8), false, 60'000, &through);
  CHECK(through.mean() == Approx(1 - fresnel_dielectric(0.8f, 1.5f)).margin(0.01));
}

TEST_CASE("rough glass is reciprocal across its surface, and its density is that of its samples",
          "[optics][glass][statistical]") {
  const SurfaceModel m = glass(1.5f, Spectrum::Zero(), GENERATE(0.4f, 0.7f, 1.0f));
  Rng rng(5);
  for (int i = 0; i < 300; ++i) {
    const Vec3 a = direction(rng.uniform(0.02, 1), rng.uniform(0, 6)),
               b = direction(rng.uniform(0.02, 1), rng.uniform(0, 6));
    // f(o -> i) / n_i^2 of radiance, both ways; what comes from below is described with its own
    // side up.
    const float down = reflection(m, a, Vec3(b.x(), b.y(), -b.z()), false)[3] * m.eta * m.eta,
                up = reflection(m, b, Vec3(a.x(), a.y(), -a.z()), true)[3];
    CHECK(down == Approx(up).epsilon(2e-3).margin(1e-6));
    CHECK(reflection(m, a, b, false)[3] ==
          Approx(reflection(m, b, a, false)[3]).epsilon(2e-3).margin(1e-6));
  }
  for (const bool inside : {false, true}) {
    const Vec3 wo = direction(0.6);
    double total = 0, below = 0;
    constexpr int kRows = 800, kCols = 400;
    for (int i = 0; i < kRows; ++i) {
      const double c = -1 + 2 * (i + 0.5) / kRows;
      for (int j = 0; j < kCols; ++j) {
        const double p = reflection_pdf(m, wo, direction(c, 2 * kPiD * (j + 0.5) / kCols), inside) *
                         4 * kPiD / (kRows * kCols);
        total += p;
        below += c < 0 ? p : 0;
      }
    }
    int chosen = 0, passed = 0;
    constexpr int kSamples = 50'000;
    for (int i = 0; i < kSamples; ++i) {
      const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
      const Scattering s = scatter(m, wo, u, static_cast<float>(rng.uniform()), inside);
      chosen += s.pdf > 0 ? 1 : 0;
      passed += s.pdf > 0 && s.wi.z() < 0 ? 1 : 0;
    }
    INFO("alpha " << m.alpha << " inside " << inside);
    CHECK(total == Approx(static_cast<double>(chosen) / kSamples).margin(0.012));
    CHECK(below == Approx(static_cast<double>(passed) / kSamples).margin(0.012));
  }
}

TEST_CASE("a metal of index n + i k reflects by Fresnel's equations", "[optics]") {
  // At normal incidence ((n - 1)^2 + k^2) / ((n + 1)^2 + k^2); without k a dielectric; all at
  // grazing.
  CHECK(fresnel_conductor(1, 0.2, 3.4) == Approx((0.64 + 11.56) / (1.44 + 11.56)));
  for (const double c : {0.1, 0.4, 0.8}) {
    CHECK(fresnel_conductor(c, 1.5, 0) ==
          Approx(fresnel_dielectric(static_cast<float>(c), 1.5f)).epsilon(1e-5));
  }
  CHECK(fresnel_conductor(1e-9, 0.2, 3.4) == Approx(1).epsilon(1e-6));
  const SurfaceModel m = metal_of_index(Spectrum::Constant(0.2f), Spectrum::Constant(3.4f), 0);
  CHECK(m.color[3] == Approx(fresnel_conductor(1, 0.2, 3.4)).epsilon(1e-5));
  const Scattering s = scatter(m, direction(0.3), {0.5f, 0.5f}, 0.1f);
  CHECK(s.weight[2] == Approx(fresnel_conductor(0.3, 0.2, 3.4)).epsilon(1e-4));
  // A perfect one, k without end, is a white furnace's white surface at every roughness.
  for (const float r : {0.2f, 0.6f, 1.0f}) {
    const RunningMoments all = reflected(
        metal_of_index(Spectrum::Constant(1), Spectrum::Constant(5e3f), r), direction(0.5), 60'000);
    CHECK(all.mean() == Approx(1).margin(0.01 + test::kZBound * all.standard_error()));
  }
}
