#include "jovilux/emitters/emitter.h"

#include "jovilux/base/sampler.h"

#include <optional>
#include <vector>

#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

namespace {

Emitter facing_down(LightKind kind) {
  Emitter e;
  e.kind = kind;
  e.center = {0, 0, 2};
  e.frame = Frame::around(-Vec3::UnitZ());
  e.luminance = 1000;
  e.radius = 0.3f;
  e.half_width = 0.5f;
  e.half_height = 0.2f;
  e.sin2_disc = sqr(std::sin(0.1f));
  return e;
}

// Illuminance at p on a surface of normal n by independent samples.
RunningMoments illuminance(const Emitter& e, const Vec3& p, const Vec3& n, int samples) {
  Rng rng(21);
  RunningMoments m;
  for (int i = 0; i < samples; ++i) {
    const LightSample s =
        sample_toward(e, p, {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    m.add(s.weight * std::max(0.0f, s.wi.dot(n)));
  }
  return m;
}

double exact_illuminance(const Emitter& e, const Vec3& p, const Vec3& n) {
  const Vec3d c = e.center.cast<double>(), P = p.cast<double>(), N = n.cast<double>();
  switch (e.kind) {
    case LightKind::kSphere:
      return sphere_illuminance(e.luminance, c, e.radius, P, N);
    case LightKind::kDisk:
      return disk_illuminance(e.luminance, c, e.frame.z.cast<double>(), e.radius, P, N);
    case LightKind::kRect:
      return rect_illuminance(e.luminance,
                              c,
                              e.half_width * e.frame.x.cast<double>(),
                              e.half_height * e.frame.y.cast<double>(),
                              P,
                              N);
    default:
      return e.luminance * kPiD * e.sin2_disc * std::max(0.0, -N.dot(e.frame.z.cast<double>()));
  }
}

}  // namespace

TEST_CASE("sampling a light estimates its closed-kind illuminance without bias",
          "[emitters][statistical]") {
  const LightKind kind =
      GENERATE(LightKind::kSphere, LightKind::kDisk, LightKind::kRect, LightKind::kSun);
  const Emitter e = facing_down(kind);
  struct Place {
    Vec3 p, n;
  };
  // On the axis, off it, tilted, cut by the horizon, far away (where rectangles are sampled
  // evenly).
  for (const Place& at : {Place{{0, 0, 0}, Vec3::UnitZ()},
                          {{0.9f, 0.4f, 0.5f}, Vec3::UnitZ()},
                          {{0.5f, 0, 1.2f}, Vec3(-0.6f, 0, 0.8f)},
                          {{0.1f, 0, 1.5f}, Vec3::UnitX()},
                          {{5, 3, -40}, Vec3::UnitZ()}}) {
    if (kind == LightKind::kSun && at.n.z() < 0.5f) {
      // Level with the horizon of a sun overhead: half a disc, 0 by the cosine of its center.
      continue;
    }
    const double exact = exact_illuminance(e, at.p, at.n);
    const RunningMoments m = illuminance(e, at.p, at.n, 200'000);
    INFO(to_string(kind) << " at " << at.p.transpose() << ": " << m.mean() << " against " << exact);
    if (m.standard_error() < 1e-6 * exact) {
      CHECK(m.mean() == Approx(exact).epsilon(1e-4));
      continue;
    }
    const ZTest z = z_test(m, exact);
    constexpr double kSinglePrecision = 2e-5;
    CHECK(std::abs(m.mean() - exact) < kZBound * m.standard_error() + kSinglePrecision * exact);
    CHECK(z.sees < 0.05);
    CHECK(std::abs(1.06 * m.mean() - exact) > kZBound * m.standard_error());  // the alarm does ring
  }
}

TEST_CASE("the density of a sample is what light_pdf says, and integrates to 1", "[emitters]") {
  const LightKind kind =
      GENERATE(LightKind::kSphere, LightKind::kDisk, LightKind::kRect, LightKind::kSun);
  const Emitter e = facing_down(kind);
  const Vec3 p(0.4f, -0.3f, 0.9f);
  Rng rng(6);
  RunningMoments solid_angle;
  for (int i = 0; i < 20'000; ++i) {
    const LightSample s =
        sample_toward(e, p, {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    REQUIRE(s.pdf > 0);
    const LightPlace place{p + s.wi * s.distance,
                           kind == LightKind::kSphere
                               ? Vec3((p + s.wi * s.distance - e.center).normalized())
                               : e.frame.z};
    CHECK(light_pdf(e, p, s.wi, place) == Approx(s.pdf).epsilon(2e-3));
    CHECK(seen_luminance(e, s.wi, place) == Approx(e.luminance));
    solid_angle.add(1 / s.pdf);
  }
  // The mean of 1 / pdf is the solid angle; count it as rays of even density that meet the light.
  Rng rays(7);
  int met = 0;
  constexpr int kRays = 400'000;
  for (int i = 0; i < kRays; ++i) {
    const double z = rays.uniform(-1, 1), phi = rays.uniform(0, 2 * kPiD), r = std::sqrt(1 - z * z);
    const Vec3 d(static_cast<float>(r * std::cos(phi)),
                 static_cast<float>(r * std::sin(phi)),
                 static_cast<float>(z));
    if (kind == LightKind::kSun) {
      met += d.dot(e.frame.z) < 0 && d.cross(e.frame.z).squaredNorm() < e.sin2_disc ? 1 : 0;
    } else if (kind == LightKind::kSphere) {
      const Vec3 to = e.center - p;
      met += to.dot(d) > 0 && (to - to.dot(d) * d).norm() < e.radius ? 1 : 0;
    } else if (d.z() > 0) {
      const Vec3 q = p + d * ((2 - p.z()) / d.z()) - e.center;
      met += kind == LightKind::kDisk ? q.norm() < e.radius
                                      : std::abs(q.dot(e.frame.x)) < e.half_width &&
                                            std::abs(q.dot(e.frame.y)) < e.half_height;
    }
  }
  const double counted = 4 * kPiD * met / kRays;
  CHECK(solid_angle.mean() == Approx(counted).epsilon(0.06));
}

namespace {

// Where the direction d from p meets a light; nothing where it passes by.
std::optional<LightPlace> meets(const Emitter& e, const Vec3& p, const Vec3& d) {
  if (e.is_distant()) {
    return covers(e, d) ? std::optional(LightPlace{p, -d}) : std::nullopt;
  }
  const Vec3 to = e.center - p;
  if (e.kind == LightKind::kSphere) {
    const float foot = to.dot(d), off2 = (to - foot * d).squaredNorm();
    if (foot <= 0 || off2 >= sqr(e.radius)) {
      return std::nullopt;
    }
    const Vec3 at = p + d * (foot - std::sqrt(sqr(e.radius) - off2));
    return LightPlace{at, (at - e.center).normalized()};
  }
  const float down = d.dot(e.frame.z);
  if (down >= 0 || to.dot(e.frame.z) >= 0) {
    return std::nullopt;
  }
  const Vec3 at = p + d * (to.dot(e.frame.z) / down), q = at - e.center;
  const bool inside = e.kind == LightKind::kDisk ? q.norm() < e.radius
                                                 : std::abs(q.dot(e.frame.x)) < e.half_width &&
                                                       std::abs(q.dot(e.frame.y)) < e.half_height;
  return inside ? std::optional(LightPlace{at, e.frame.z}) : std::nullopt;
}

// How far samples are from the density that they state, over cells of directions around that to the
// light: chi squared less its expectation, in standard deviations; and the density's integral.
// `bent` spoils the samples, to see that the measure tells.
struct Histogram {
  double deviation = 0, integral = 0;
};
Histogram histogram(const Emitter& e, const Vec3& p, float cone, bool bent) {
  constexpr int kRings = 20, kSides = 24, kWithin = 24, kSamples = 200'000;
  const Frame frame =
      Frame::around(e.is_distant() ? Vec3(-e.frame.z) : Vec3((e.center - p).normalized()));
  std::vector<double> expected(kRings * kSides), found(kRings * kSides);
  const float depth = 1 - std::cos(cone);  // of the cone that holds the light, in 1 - cos
  Histogram out;
  for (int ring = 0; ring < kRings * kWithin; ++ring) {
    for (int side = 0; side < kSides * kWithin; ++side) {
      const float z = 1 - depth * (static_cast<float>(ring) + 0.5f) / (kRings * kWithin),
                  phi = 2 * kPi * (static_cast<float>(side) + 0.5f) / (kSides * kWithin),
                  r = std::sqrt(std::max(0.0f, 1 - z * z));
      const Vec3 d = frame.to_world(Vec3(r * std::cos(phi), r * std::sin(phi), z));
      if (const auto at = meets(e, p, d)) {
        const double part = static_cast<double>(light_pdf(e, p, d, *at)) * depth * 2 * kPiD /
                            (kRings * kWithin * kSides * kWithin);
        expected[static_cast<std::size_t>(ring / kWithin * kSides + side / kWithin)] +=
            part * kSamples;
        out.integral += part;
      }
    }
  }
  Rng rng(31);
  for (int i = 0; i < kSamples; ++i) {
    const float u = static_cast<float>(rng.uniform()), v = static_cast<float>(rng.uniform());
    const LightSample s = sample_toward(e, p, {bent ? std::pow(u, 1.1f) : u, v});
    const Vec3 local = frame.to_local(s.wi);
    const int ring = static_cast<int>((1 - local.z()) / depth * kRings),
              side = static_cast<int>((std::atan2(local.y(), local.x()) / (2 * kPi) + 1) * kSides) %
                     kSides;
    if (s.pdf > 0 && ring < kRings) {
      found[static_cast<std::size_t>(ring * kSides + side)] += 1;
    }
  }
  double chi = 0;
  int cells = 0;
  for (std::size_t i = 0; i < found.size(); ++i) {
    if (expected[i] > 25) {
      // 1.5 %: the light's edge in a cell.
      chi += sqr(found[i] - expected[i]) / (expected[i] + sqr(0.015 * expected[i]));
      ++cells;
    }
  }
  out.deviation = (chi - cells) / std::sqrt(2.0 * cells);
  return out;
}

}  // namespace

TEST_CASE("each kind's density integrates to one and is the histogram of its samples",
          "[emitters][statistical]") {
  struct Case {
    const char* name;
    LightKind kind;
    Vec3 p;
    float cone;
  };
  for (const Case& c : {Case{"sphere", LightKind::kSphere, {0.4f, 0, 0.9f}, 0.4f},
                        {"sphere, near", LightKind::kSphere, {0, 0, 1.65f}, 1.3f},
                        {"disk", LightKind::kDisk, {0.4f, 0, 0.9f}, 0.4f},
                        {"disk, beneath its middle", LightKind::kDisk, {0.05f, 0.02f, 1.9f}, kPi},
                        {"disk, below its rim", LightKind::kDisk, {0.27f, 0, 1.93f}, kPi},
                        {"disk, beside it", LightKind::kDisk, {0.36f, 0.1f, 1.9f}, kPi},
                        {"rectangle", LightKind::kRect, {0.4f, -0.3f, 0.9f}, 0.7f},
                        {"rectangle, near", LightKind::kRect, {0.4f, 0.1f, 1.8f}, kPi},
                        {"sun", LightKind::kSun, {0, 0, 0}, 0.12f},
                        {"sky", LightKind::kSky, {0, 0, 0}, 1.5707f}}) {
    Emitter e = facing_down(c.kind);
    if (c.kind == LightKind::kSky) {
      e.sky = SkyModel::kOvercast;
    }
    INFO(c.name);
    const Histogram h = histogram(e, c.p, c.cone, false), bent = histogram(e, c.p, c.cone, true);
    CHECK(h.integral == Approx(1).epsilon(0.01));
    CHECK(h.deviation < 5);
    CHECK(bent.deviation > 10);
  }
}

TEST_CASE("a disk is sampled without bias from near, inside and beside it",
          "[emitters][statistical]") {
  const Emitter e = facing_down(LightKind::kDisk);
  for (const Vec3& p : {Vec3(0, 0, 1.97f),
                        Vec3(0.2f, 0.1f, 1.9f),
                        Vec3(0.29f, 0, 1.98f),
                        Vec3(0.31f, 0, 1.95f),
                        Vec3(0.45f, 0.1f, 1.85f)}) {
    for (const Vec3& n : {Vec3(Vec3::UnitZ()), Vec3(-0.6f, 0, 0.8f)}) {
      const double exact = exact_illuminance(e, p, n);
      const RunningMoments m = illuminance(e, p, n, 200'000);
      INFO(p.transpose() << ": " << m.mean() << " against " << exact);
      CHECK(std::abs(m.mean() - exact) < kZBound * m.standard_error() + 1e-4 * exact);
      CHECK(m.standard_error() < 0.004 * exact);
    }
  }
}

TEST_CASE("samples of a rectangle are even over its solid angle", "[emitters][statistical]") {
  const Emitter e = facing_down(LightKind::kRect);
  const Vec3 p(0.4f, 0.1f, 1.6f);  // near, so that even over area would be far from even over angle
  // Even over solid angle means all pdfs are equal, and quarters of the unit square fill equal
  // angles.
  Rng rng(9);
  float first = 0;
  for (int i = 0; i < 1000; ++i) {
    const LightSample s =
        sample_toward(e, p, {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    first = i == 0 ? s.pdf : first;
    CHECK(s.pdf == Approx(first));
  }
}

TEST_CASE("skies are sampled in proportion to their luminance", "[emitters][statistical]") {
  Emitter e = facing_down(LightKind::kSky);
  e.sky = GENERATE(SkyModel::kUniform, SkyModel::kOvercast);
  const Vec3 n = Vec3(0.6f, 0, 0.8f);
  Rng rng(5);
  RunningMoments level, tilted;
  float weight = 0;
  for (int i = 0; i < 100'000; ++i) {
    const LightSample s = sample_toward(
        e, Vec3::Zero(), {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    CHECK(light_pdf(e, Vec3::Zero(), s.wi, {}) == Approx(s.pdf).epsilon(1e-4));
    CHECK(covers(e, s.wi));
    weight = i == 0 ? s.weight : weight;
    // Luminance over density is the same everywhere.
    CHECK(s.weight == Approx(weight).epsilon(1e-4));
    level.add(s.weight * s.wi.z());
    tilted.add(s.weight * std::max(0.0f, s.wi.dot(n)));
  }
  CHECK(std::abs(
            z_test(level, 1000 * sky_illuminance_per_luminance(SkyShape{e.sky, 0, Vec3d::UnitZ()}))
                .z) < kZBound);
  if (e.sky == SkyModel::kUniform) {
    CHECK(std::abs(z_test(tilted, 1000 * kPiD * 0.9).z) < kZBound);  // pi L (1 + cos tilt) / 2
  }
  CHECK(seen_luminance(e, -Vec3::UnitZ(), {}) == 0);
  CHECK(seen_luminance(e, Vec3::UnitZ(), {}) == Approx(1000));
}

TEST_CASE("one-sided lights give nothing behind and spread nothing outside their cone",
          "[emitters]") {
  Emitter e = facing_down(LightKind::kDisk);
  CHECK(sample_toward(e, {0, 0, 3}, {0.5f, 0.5f}).weight == 0);
  CHECK(seen_luminance(e, -Vec3::UnitZ(), {}) == 0);
  CHECK(expected_illuminance(e, {0, 0, 3}, -Vec3::UnitZ()) == 0);
  e.half_spread = 0.3f;
  CHECK(seen_luminance(e, Vec3(std::sin(0.31f), 0, std::cos(0.31f)), {}) == 0);
  CHECK(seen_luminance(e, Vec3(std::sin(0.15f), 0, std::cos(0.15f)), {}) ==
        Approx(500).epsilon(1e-4));
  CHECK(expected_illuminance(e, {3, 0, 1}, Vec3::UnitZ()) == 0);
}

TEST_CASE("a light is expected to shine wherever it does", "[emitters]") {
  const LightKind kind = GENERATE(LightKind::kPoint,
                                  LightKind::kSpot,
                                  LightKind::kSphere,
                                  LightKind::kDisk,
                                  LightKind::kRect,
                                  LightKind::kSun);
  Emitter e = facing_down(kind);
  e.intensity = 100;
  e.by_intensity = kind == LightKind::kSpot;  // as all spots of a rig
  e.half_beam = 0.4f;
  e.cos_beam = e.cos_field = std::cos(0.4f);
  e.half_spread = GENERATE(0.0f, 0.5f);
  Rng rng(14);
  int shone = 0;
  for (int i = 0; i < 50'000; ++i) {
    const Vec3 p(static_cast<float>(rng.uniform(-2, 2)),
                 static_cast<float>(rng.uniform(-2, 2)),
                 static_cast<float>(rng.uniform(0, 3)));
    const double z = rng.uniform(-1, 1), phi = rng.uniform(0, 2 * kPiD), r = std::sqrt(1 - z * z);
    const Vec3 n(static_cast<float>(r * std::cos(phi)),
                 static_cast<float>(r * std::sin(phi)),
                 static_cast<float>(z));
    const LightSample s =
        sample_toward(e, p, {static_cast<float>(rng.uniform()), static_cast<float>(rng.uniform())});
    if (s.weight > 0 && s.wi.dot(n) > 1e-4f) {
      ++shone;
      if (!(expected_illuminance(e, p, n) > 0)) {
        FAIL("no light expected at " << p.transpose() << " for " << to_string(kind));
      }
    }
  }
  CHECK(shone > 100);
}
