#include "jovilux/photometry/distribution.h"

#include "jovilux/base/interpolation.h"
#include "jovilux/base/sampler.h"
#include "jovilux/photometry/gobo.h"
#include "jovilux/photometry/sky.h"
#include "jovilux/photometry/sources.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

// I(theta) in the same table for each of some planes.
template <class F>
CandelaGrid table_of(const F& intensity,
                     double step_deg,
                     double last_deg,
                     PhotometricSymmetry symmetry,
                     const std::vector<double>& planes_deg) {
  CandelaGrid g{PhotometricType::kC, symmetry, {}, {}, {}};
  for (const double c : planes_deg) {
    g.hor_rad.push_back(c * kDegree);
  }
  for (int i = 0; i * step_deg <= last_deg + 1e-9; ++i) {
    g.ver_rad.push_back(i * step_deg * kDegree);
  }
  for (const double c : g.hor_rad) {
    for (const double v : g.ver_rad) {
      g.candela.push_back(intensity(c, v));
    }
  }
  return g;
}

Vec3 direction(double c, double v) {
  return Vec3d(std::sin(v) * std::cos(c), std::sin(v) * std::sin(c), std::cos(v)).cast<float>();
}

}  // namespace

TEST_CASE("a table of cos^4 has 2 pi / 5 lumens a candela of its peak",
          "[photometry][distribution]") {
  const auto [step, tolerance] =
      GENERATE(std::pair{5.0, 2e-3}, std::pair{2.5, 5e-4}, std::pair{1.0, 1e-4});
  const LuminousDistribution d(
      table_of([](double, double v) { return 1000 * std::pow(std::cos(std::min(v, kPiD / 2)), 4); },
               step,
               90,
               PhotometricSymmetry::kRotational,
               {0}));
  CHECK(d.flux() == Approx(1000 * 2 * kPiD / 5).epsilon(tolerance));
  CHECK(d.flux_in_front() == Approx(d.flux()));
  CHECK(d.peak() == 1000);
  CHECK(d.on_axis() == Approx(1000));
  // cos^4 falls to a share f at acos(f^(1/4)).
  CHECK(d.full_angle(0, 0.5) == Approx(2 * std::acos(std::pow(0.5, 0.25))).epsilon(1e-2));
}

TEST_CASE("each symmetry of a table tells the same whole distribution",
          "[photometry][distribution]") {
  // Even in both planes, so that every symmetry can hold it.
  const auto intensity = [](double c, double v) {
    return 500 * std::pow(std::abs(std::cos(v)), 2.0) *
           (1 + 0.5 * std::cos(2 * c) * sqr(std::sin(v)));
  };
  const auto steps = [](double from, double to, double step) {
    std::vector<double> out;
    for (double a = from; a <= to + 1e-9; a += step) {
      out.push_back(a);
    }
    return out;
  };
  const LuminousDistribution none(
      table_of(intensity, 5, 180, PhotometricSymmetry::kNone, steps(0, 345, 15)));
  const LuminousDistribution closed(
      table_of(intensity, 5, 180, PhotometricSymmetry::kNone, steps(0, 360, 15)));
  const LuminousDistribution bilateral(
      table_of(intensity, 5, 180, PhotometricSymmetry::kBilateral, steps(0, 180, 15)));
  const LuminousDistribution across(
      table_of(intensity, 5, 180, PhotometricSymmetry::kBilateral90, steps(90, 270, 15)));
  const LuminousDistribution quadrant(
      table_of(intensity, 5, 180, PhotometricSymmetry::kQuadrant, steps(0, 90, 15)));
  Rng rng(3);
  for (int i = 0; i < 500; ++i) {
    const Vec3 d = direction(rng.uniform(0, 2 * kPiD), rng.uniform(0, kPiD));
    const float expected = none.intensity(d);
    for (const LuminousDistribution* other : {&closed, &bilateral, &across, &quadrant}) {
      CHECK(other->intensity(d) == Approx(expected).epsilon(1e-4).margin(1e-3));
    }
  }
  CHECK(quadrant.flux() == Approx(none.flux()).epsilon(1e-6));
  CHECK(none.flux() == Approx(500 * 4 * kPiD / 3).epsilon(2e-3));  // the cosine of 2 C has no mean
  CHECK(none.flux_in_front() == Approx(none.flux() / 2).epsilon(1e-3));
}

TEST_CASE("an asymmetric table is read in its own direction", "[photometry][distribution]") {
  // All towards C = 90.
  CandelaGrid g =
      table_of([](double c, double v) { return std::max(0.0, std::sin(c)) * std::sin(v) * 100; },
               10,
               180,
               PhotometricSymmetry::kNone,
               {0, 45, 90, 135, 180, 225, 270, 315});
  const LuminousDistribution d(g);
  CHECK(d.intensity(Vec3::UnitY()) == Approx(100).epsilon(1e-3));
  CHECK(d.intensity(-Vec3::UnitY()) == 0);
  CHECK(d.intensity(Vec3::UnitX()) == Approx(0).margin(1e-3));
}

TEST_CASE("type A and B tables point their two angles as LM-63 says",
          "[photometry][distribution]") {
  const PhotometricType type = GENERATE(PhotometricType::kA, PhotometricType::kB);
  CandelaGrid g{type, PhotometricSymmetry::kNone, {}, {}, {}};
  for (int i = -18; i <= 18; ++i) {
    g.hor_rad.push_back(i * 5 * kDegree);
    g.ver_rad.push_back(i * 5 * kDegree);
  }
  const double h0 = 20 * kDegree, v0 = 10 * kDegree;
  const auto along = [&](double h, double v) {
    return type == PhotometricType::kA
               ? Vec3d(std::sin(h) * std::cos(v), std::sin(v), std::cos(h) * std::cos(v))
               : Vec3d(std::sin(h), std::cos(h) * std::sin(v), std::cos(h) * std::cos(v));
  };
  const Vec3d axis = along(h0, v0);
  for (const double h : g.hor_rad) {
    for (const double v : g.ver_rad) {
      g.candela.push_back(1000 * std::pow(std::max(0.0, along(h, v).dot(axis)), 20));
    }
  }
  const LuminousDistribution d(g);
  CHECK(d.intensity(axis.cast<float>()) == Approx(1000).epsilon(1e-3));
  CHECK(d.intensity(along(20 * kDegree, 10 * kDegree).cast<float>()) >
        d.intensity(along(10 * kDegree, 20 * kDegree).cast<float>()));
  CHECK(d.flux() == Approx(1000 * 2 * kPiD / 21).epsilon(0.01));  // cos^20 about its axis
}

TEST_CASE("monotone cubics pass through their points and never overshoot",
          "[base][interpolation]") {
  const MonotoneCubic f({0, 1, 2, 3, 5}, {1, 0.4, 0.4, 0.35, 0});
  for (const auto& [x, y] : {std::pair{0.0, 1.0},
                             {1.0, 0.4},
                             {2.0, 0.4},
                             {3.0, 0.35},
                             {5.0, 0.0},
                             {-1.0, 1.0},
                             {9.0, 0.0}}) {
    CHECK(f(x) == Approx(y).margin(1e-12));
  }
  for (double x = 0; x < 5; x += 0.01) {
    CHECK(f(x + 0.01) <= f(x) + 1e-12);
    CHECK(f(x) >= 0);
  }
  const MonotoneCubic line({0, 1, 4}, {2, 4, 10});
  CHECK(line(2.5) == Approx(7));
}

TEST_CASE("CIE general skies give their published figures", "[photometry][sky]") {
  const auto towards = [](double elevation_deg) {
    return Vec3d(0, std::cos(elevation_deg * kDegree), std::sin(elevation_deg * kDegree));
  };
  SECTION("type 5 is the uniform sky, type 1 nearly the traditional overcast one") {
    CHECK(sky_illuminance_per_luminance({SkyModel::kGeneral, 5, towards(30)}) ==
          Approx(kPiD).epsilon(1e-7));
    CHECK(sky_illuminance_per_luminance({SkyModel::kGeneral, 1, towards(30)}) ==
          Approx(7 * kPiD / 9).epsilon(0.02));
  }
  SECTION("each is 1 at the zenith, positive above the horizon and dark below") {
    for (int type = 1; type <= 15; ++type) {
      const SkyShape sky{SkyModel::kGeneral, type, towards(35)};
      CHECK(relative_sky_luminance(sky, Vec3d::UnitZ()) == Approx(1));
      for (int i = 0; i < 200; ++i) {
        const Vec3d d = Vec3d(std::cos(i * 0.7), std::sin(i * 0.7), 0.01 + i / 200.0).normalized();
        CHECK(relative_sky_luminance(sky, d) > 0);
      }
      CHECK(relative_sky_luminance(sky, Vec3d(0, 1, -0.1).normalized()) == 0);
      CHECK(knows_sun(type) == (type != 1 && type != 3 && type != 5));
    }
  }
  SECTION("the clear sky is brightest at its sun and by far less so opposite") {
    const SkyShape sky{SkyModel::kGeneral, 12, towards(40)};
    CHECK(relative_sky_luminance(sky, towards(40)) > relative_sky_luminance(sky, towards(70)));
    // By the formula of ISO 15469, worked out by hand: chi = 0, Z = 50.
    const double at_sun = (1 + 10 * (1 - std::exp(-1.5 * kPiD)) + 0.45) *
                          (1 - std::exp(-0.32 / std::sin(40 * kDegree)));
    const double zenith = (1 + 10 * (std::exp(-3 * 50 * kDegree) - std::exp(-1.5 * kPiD)) +
                           0.45 * sqr(std::cos(50 * kDegree))) *
                          (1 - std::exp(-0.32));
    CHECK(relative_sky_luminance(sky, towards(40)) == Approx(at_sun / zenith).epsilon(1e-9));
  }
}

TEST_CASE("tubes follow the line's closed form, the endless tube and each other",
          "[photometry][tube]") {
  // Far away a thin tube is its line.
  const double L = 11000, R = 0.001;
  const Vec3d A(-0.6, 0, 2), B(0.6, 0, 2), P(0.9, 0.5, 0), n = Vec3d(0.2, 0, 1).normalized();
  const double line = tube_illuminance(L * 2 * R, A, B, 0, P, n);
  // Its mantle lies up to R nearer.
  CHECK(tube_illuminance(L, A, B, R, P, n) == Approx(line).epsilon(R / 2));
  CHECK(tube_illuminance(L * 100, A, B, R / 100, P, n) == Approx(line).epsilon(R / 200));
  // A very long one is endless: E = Phi' / (2 pi d), thick or thin.
  const double d = GENERATE(0.2, 1.0, 3.0);
  const double flux = 900;
  CHECK(tube_illuminance(
            flux / (kPiD * kPiD), {-1e5, 0, 0}, {1e5, 0, 0}, 0, {0, 0, -d}, Vec3d::UnitZ()) ==
        Approx(endless_tube_illuminance(flux, d)).epsilon(1e-8));
  CHECK(tube_illuminance(flux / (kPiD * kPiD * 0.1),
                         {-1e5, 0, 0},
                         {1e5, 0, 0},
                         0.05,
                         {0, 0, -d},
                         Vec3d::UnitZ()) ==
        Approx(endless_tube_illuminance(flux, d)).epsilon(1e-7));
  CHECK(tube_illuminance(1, A, B, 0.3, {0, 0.1, 2}, n) == 0);  // inside
}

TEST_CASE("every new form converts its units there and back", "[photometry][sources]") {
  SourceShape s;
  SECTION("tube") {
    s.kind = LightKind::kTube;
    s.length = 1.2;
    s.radius = GENERATE(0.0, 0.013);
  }
  SECTION("weighted sphere") {
    s.kind = LightKind::kSphere;
    s.radius = 0.1;
    s.hot_center = 2;
  }
  SECTION("weighted rect, two-sided") {
    s.kind = LightKind::kRect;
    s.width = 0.4;
    s.height = 0.2;
    s.hot_center = 1.5;
    s.two_sided = true;
  }
  SECTION("lens") {
    s.kind = LightKind::kSpot;
    s.beam = spot_beam(degrees(24), degrees(40));
    s.radius = 0.05;
  }
  const SourceLevels l = *source_levels(s, {Output::Kind::kFlux, 1000, {}, {}}).levels;
  CHECK(source_levels(s, {Output::Kind::kIntensity, l.intensity->value, {}, {}})
            .levels->flux->value == Approx(1000));
  const double e = illuminance_on_axis(s, l, 2).value;
  CHECK(source_levels(s, {Output::Kind::kIlluminance, e, Meters{2}, {}}).levels->flux->value ==
        Approx(1000));
  // Far away it is a point: E d^2 -> I.
  CHECK(illuminance_on_axis(s, l, 200).value * 200 * 200 ==
        Approx(l.intensity->value).epsilon(1e-4));
}

TEST_CASE("center weights keep the mean", "[photometry][sources]") {
  const double w = GENERATE(0.5, 1.0, 4.0);
  double disk = 0, rect = 0;
  constexpr int kSide = 400;
  for (int i = 0; i < kSide; ++i) {
    for (int j = 0; j < kSide; ++j) {
      const double x = (i + 0.5) / kSide, y = (j + 0.5) / kSide;
      rect += hot_center_weighting(LightKind::kRect, w, x, y) / (kSide * kSide);
      // Even over the disk's area.
      disk += hot_center_weighting(LightKind::kDisk, w, std::sqrt(x), 0) / (kSide * kSide);
    }
  }
  CHECK(rect == Approx(1).epsilon(2e-3));
  CHECK(disk == Approx(1).epsilon(2e-3));
}

TEST_CASE("patterns let through the share that they say", "[photometry][gobo]") {
  const auto pattern =
      GENERATE(GoboPattern::kSlats, GoboPattern::kGrid, GoboPattern::kDots, GoboPattern::kLeaves);
  const int count = GENERATE(3, 14);
  const double open = GENERATE(0.2, 0.45);
  const MaskPicture p = pattern_picture(pattern, count, open);
  double sum = 0;
  float lowest = 1, highest = 0;
  for (const auto& t : p.rgb) {
    lowest = std::min(lowest, t[0]);
    highest = std::max(highest, t[0]);
    sum += t[0];
  }
  CHECK(lowest >= 0);
  CHECK(highest <= 1);
  CHECK(sum / static_cast<double>(p.rgb.size()) ==
        Approx(open).margin(pattern == GoboPattern::kLeaves ? 0.01 : 2e-3));
}

TEST_CASE("a gobo lies where its size, turn and tiles say", "[photometry][gobo]") {
  // Left half clear, right half dark, as seen from the light.
  MaskPicture half{2, 1, {Eigen::Array3f::Ones(), Eigen::Array3f::Zero()}};
  GoboSpec spec;
  spec.width = 2;
  spec.height = 1;
  const auto at = [&](const GoboSpec& s, float x, float y) {
    return Gobo(s, half).transmittance(x, y)[0];
  };
  CHECK(at(spec, 0.5f, 0) == Approx(1));  // x is to the left
  CHECK(at(spec, -0.5f, 0) == Approx(0));
  CHECK(at(spec, 1.5f, 0) == 0);  // its frame
  CHECK(at(spec, 0.5f, 0.7f) == 0);
  spec.surround = GoboSurround::kClear;
  CHECK(at(spec, 1.5f, 0) == 1);
  spec.surround = GoboSurround::kRepeat;
  CHECK(at(spec, 1.5f, 0) == Approx(0));
  spec.surround = GoboSurround::kDark;
  spec.tiles_x = 2;  // from -2 to 2: clear, dark, clear, dark
  CHECK(at(spec, 1.5f, 0) == Approx(1));
  CHECK(at(spec, 0.5f, 0) == Approx(0));
  spec.tiles_x = 1;
  spec.strength = 0.25;
  CHECK(at(spec, -0.5f, 0) == Approx(0.75));
  spec.strength = 1;
  spec.height = 2;
  spec.rotate = kPiD / 2;  // clockwise: what was left is up
  CHECK(at(spec, 0, 0.5f) == Approx(1));
  CHECK(at(spec, 0, -0.5f) == Approx(0));
  // A soft edge goes from 10 % to 90 % over `soft`.
  MaskPicture fine{400, 1, std::vector<Eigen::Array3f>(400, Eigen::Array3f::Ones())};
  for (std::size_t i = 200; i < 400; ++i) {
    fine.rgb[i].setZero();
  }
  GoboSpec soft;
  soft.width = 2;
  soft.soft = 0.2;
  const Gobo g(soft, fine);
  CHECK(g.transmittance(0.1f, 0)[0] == Approx(0.9).margin(0.01));
  CHECK(g.transmittance(-0.1f, 0)[0] == Approx(0.1).margin(0.01));
}
