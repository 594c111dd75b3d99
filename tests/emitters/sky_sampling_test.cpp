#include "jovilux/base/sampler.h"
#include "jovilux/color/rgb.h"
#include "jovilux/emitters/emitter.h"

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Frame tilted_frame() {
  const Vec3 z = Vec3(0.2f, -0.1f, -1).normalized();  // a sky shines downwards
  return Frame::around(z);
}

Emitter even_or_overcast(SkyModel model) {
  Emitter e;
  e.kind = LightKind::kSky;
  e.sky = model;
  e.frame = tilted_frame();
  e.luminance = 100;
  return e;
}

// A dome with a dim ground, a bright band and a small sun.
Emitter dome() {
  constexpr int kWidth = 96, kHeight = 48;
  auto detail = std::make_shared<EmitterDetail>();
  auto picture = std::make_shared<DomePicture>();
  picture->width = kWidth;
  picture->height = kHeight;
  std::vector<double> weight;
  double sum = 0;
  for (int row = 0; row < kHeight; ++row) {
    for (int column = 0; column < kWidth; ++column) {
      const float v = row == 14 && column == 30 ? 5000.0f
                      : row > kHeight / 2       ? 0.3f
                      : row > 20                ? 4.0f
                                                : 1.0f;
      picture->rgb.push_back(Eigen::Array3f::Constant(v));
      weight.push_back(static_cast<double>(luminance_of(picture->rgb.back())) *
                       cell_solid_angle(kWidth, kHeight, row));
      sum += weight.back();
    }
  }
  detail->dome = picture;
  detail->map = DirectionMap(kWidth, kHeight, weight);
  detail->mean_luminance = static_cast<float>(sum / (4 * kPiD));
  Emitter e;
  e.kind = LightKind::kDome;
  e.frame = tilted_frame();
  e.luminance = 100;
  e.detail = detail;
  return e;
}

Vec3 even_direction(double u, double v) {
  const double z = 1 - 2 * u, r = std::sqrt(std::max(0.0, 1 - z * z)), phi = 2 * kPiD * v;
  return Vec3d(r * std::cos(phi), r * std::sin(phi), z).cast<float>();
}

const std::vector<Vec3> kSides = {Vec3(0, 0, 1),
                                  Vec3(1, 0, 0),
                                  Vec3(0.3f, -0.8f, 0.4f).normalized(),
                                  Vec3(-0.5f, 0.2f, -0.7f).normalized(),
                                  Vec3(0, 0, -1)};

}  // namespace

TEST_CASE(
    "skies and domes above a horizon: densities integrate to one and hold all that shines there",
    "[emitters][statistical]") {
  for (const Emitter& e :
       {even_or_overcast(SkyModel::kUniform), even_or_overcast(SkyModel::kOvercast), dome()}) {
    for (const Vec3& n : kSides) {
      INFO(to_string(e.kind) << " " << static_cast<int>(e.sky) << " side " << n.transpose());
      // By a grid over all directions.
      constexpr int kRows = 1200, kColumns = 2400;
      double integral = 0, missed = 0, lit = 0;
      for (int i = 0; i < kRows; ++i) {
        for (int k = 0; k < kColumns; ++k) {
          const Vec3 d = even_direction((i + 0.5) / kRows, (k + 0.5) / kColumns);
          const double pdf = light_pdf(e, Vec3::Zero(), d, {}, &n),
                       arrives = covers(e, d) ? static_cast<double>(seen_luminance(e, d, {})) *
                                                    std::max(0.0f, d.dot(n))
                                              : 0;
          integral += e.kind == LightKind::kDome || (covers(e, d) && d.dot(n) > 0)
                          ? pdf * 4 * kPiD / (static_cast<double>(kRows) * kColumns)
                          : 0;
          missed += pdf > 0 ? 0 : arrives;
          lit += arrives;
        }
      }
      CHECK(integral == Approx(1).epsilon(0.01));
      CHECK(missed <= 1e-4 * lit);  // directions on the horizon itself, by rounding
      // Samples: their own density, and the illuminance without bias.
      const double exact = lit * 4 * kPiD / (static_cast<double>(kRows) * kColumns);
      Rng rng(21);
      RunningMoments with, without;
      int wasted = 0;
      for (int i = 0; i < 100'000; ++i) {
        const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
        const LightSample s = sample_toward(e, Vec3::Zero(), u, &n),
                          plain = sample_toward(e, Vec3::Zero(), u);
        if (s.pdf > 0 && i % 10 == 0) {
          CHECK(light_pdf(e, Vec3::Zero(), s.wi, {}, &n) == Approx(s.pdf).epsilon(2e-3));
        }
        wasted += s.wi.dot(n) < 0 ? 1 : 0;
        with.add(s.weight * std::max(0.0f, s.wi.dot(n)));
        without.add(plain.weight * std::max(0.0f, plain.wi.dot(n)));
      }
      const double grid_error = 0.004 * exact;
      CHECK(std::abs(with.mean() - exact) < kZBound * with.standard_error() + grid_error);
      // The alarm does ring.
      CHECK(std::abs(1.05 * with.mean() - exact) > kZBound * with.standard_error() + grid_error);
      CHECK(with.standard_error() <= 1.02 * without.standard_error());
      CHECK(wasted < (e.kind == LightKind::kDome ? 15'000 : 100));
    }
  }
}

TEST_CASE("a wall under a sky is lit with less noise than without a horizon",
          "[emitters][statistical]") {
  const Vec3 wall(1, 0, 0);
  for (const Emitter& e :
       {even_or_overcast(SkyModel::kUniform), even_or_overcast(SkyModel::kOvercast), dome()}) {
    Rng rng(2);
    RunningMoments with, without;
    for (int i = 0; i < 50'000; ++i) {
      const Vec2 u(static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform()));
      const LightSample s = sample_toward(e, Vec3::Zero(), u, &wall),
                        plain = sample_toward(e, Vec3::Zero(), u);
      with.add(s.weight * std::max(0.0f, s.wi.dot(wall)));
      without.add(plain.weight * std::max(0.0f, plain.wi.dot(wall)));
    }
    CHECK(with.standard_error() < 0.75 * without.standard_error());
  }
}

TEST_CASE("what a dome is expected to bring is about what it brings", "[emitters]") {
  const Emitter e = dome();
  for (const Vec3& n : kSides) {
    RunningMoments m;
    Rng rng(4);
    for (int i = 0; i < 50'000; ++i) {
      const LightSample s =
          sample_toward(e,
                        Vec3::Zero(),
                        {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())},
                        &n);
      m.add(s.weight * std::max(0.0f, s.wi.dot(n)));
    }
    const double expected = expected_illuminance(e, Vec3::Zero(), n);
    INFO(n.transpose() << ": " << expected << " against " << m.mean());
    CHECK(expected > 0.6 * m.mean());
    CHECK(expected < 2.0 * m.mean());
  }
}

TEST_CASE("a masked lamp is expected by what its mask lets through, and never not at all",
          "[emitters]") {
  Emitter e;
  e.kind = LightKind::kSpot;
  e.intensity = 100;
  e.half_beam = 0.6f;
  e.cos_beam = e.cos_field = std::cos(0.6f);
  e.center = Vec3(0, 0, 2);
  e.frame = Frame::around(-Vec3::UnitZ());
  auto detail = std::make_shared<EmitterDetail>();
  GoboSpec spec;
  spec.distance = 1;
  detail->gobo = std::make_shared<Gobo>(spec, pattern_picture(GoboPattern::kSlats, 5, 0.5));
  Emitter bare = e;
  e.detail = detail;
  int light = 0, dark = 0;
  for (int i = 0; i < 400; ++i) {
    const Vec3 p(0.003f * static_cast<float>(i) - 0.6f, 0.004f * static_cast<float>(i) - 0.8f, 0);
    const float expected = expected_illuminance(e, p, Vec3::UnitZ()),
                whole = expected_illuminance(bare, p, Vec3::UnitZ());
    const LightSample s = sample_toward(e, p, {0.5f, 0.5f});
    if (!(whole > 0)) {
      continue;
    }
    CHECK(expected > 0);
    const float passes = tint_between(e, p, e.center, (e.center - p).normalized()).gray;
    CHECK(expected == Approx(whole * std::max(0.02f, passes)).epsilon(1e-3));
    light += s.weight > 0 ? 1 : 0;
    dark += s.weight > 0 ? 0 : 1;
  }
  CHECK(light > 50);
  CHECK(dark > 50);
}
