#include "jovilux/base/quadrature.h"
#include "jovilux/base/vec.h"
#include "jovilux/photometry/exposure.h"
#include "jovilux/photometry/falloff.h"
#include "jovilux/photometry/sources.h"
#include "jovilux/photometry/sun_position.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

Falloff law(FalloffLaw l, float match) {
  Falloff f;
  f.law = l;
  f.matches_at = match;
  f.zero_at = 8;
  f.constant = 0.4f;
  f.linear = 0.25f;
  f.quadratic = 0.6f;
  return f;
}

}  // namespace

TEST_CASE("every law keeps the level at its match distance", "[photometry][falloff]") {
  const auto l = GENERATE(
      FalloffLaw::kInverseSquare, FalloffLaw::kNone, FalloffLaw::kLinear, FalloffLaw::kPolynomial);
  const float match = GENERATE(0.5f, 1.0f, 3.0f);
  CHECK(falloff_weight(law(l, match), match) == Approx(1.0f).epsilon(1e-6));
}

TEST_CASE("laws are what their formulas say", "[photometry][falloff]") {
  for (const double d : {0.1, 0.7, 2.0, 5.0}) {
    const double physical = 1 / (d * d);
    const auto level = [&](const Falloff& f) { return falloff_weight(f, d) * physical; };
    CHECK(level(law(FalloffLaw::kNone, 2)) == Approx(0.25));
    CHECK(level(law(FalloffLaw::kLinear, 2)) == Approx((1 - d / 8) / (1 - 2.0 / 8) / 4));
    const double at_match = 0.4 + 0.25 * 2 + 0.6 * 4;
    CHECK(level(law(FalloffLaw::kPolynomial, 2)) ==
          Approx(at_match / (0.4 + 0.25 * d + 0.6 * d * d) / 4));
    Falloff near_softening;
    near_softening.near_softening = 0.3f;
    CHECK(level(near_softening) == Approx(1 / (d * d + 0.09)));
  }
  CHECK(falloff_weight(law(FalloffLaw::kLinear, 2), 9.0) == 0);
}

TEST_CASE("reach is 1 up to its start, 0 from its end, smooth and half between",
          "[photometry][falloff]") {
  Falloff f;
  f.has_range = true;
  f.range_start = 5;
  f.range_end = 7;
  CHECK(falloff_weight(f, 4.999) == 1);
  CHECK(falloff_weight(f, 6.0) == Approx(0.5));
  CHECK(falloff_weight(f, 7.0) == 0);
  CHECK(falloff_weight(f, 5.001) > 0.999998);  // no hard edge: the slope begins at 0
  f.range_start = f.range_end = 3;
  CHECK(falloff_weight(f, 2.99) == 1);
  CHECK(falloff_weight(f, 3.01) == 0);
}

TEST_CASE("the roots that make a polynomial law divide by zero are found",
          "[photometry][falloff]") {
  CHECK_FALSE(polynomial_root(0.4, 0.25, 0.6));
  CHECK_FALSE(polynomial_root(1, 0, 0));
  CHECK(*polynomial_root(0, 1, 1) == 0);
  CHECK(*polynomial_root(1, -0.5, 0) == Approx(2));
  CHECK(*polynomial_root(-2, 1, 0) == Approx(2));  // below 0 up to there
  CHECK(*polynomial_root(-1, 0, 0) == 0);          // below 0 everywhere
  CHECK(*polynomial_root(6, -5, 1) == Approx(2));  // (d - 2)(d - 3)
  CHECK(*polynomial_root(1, 0, -0.25) == Approx(2));
  CHECK_FALSE(polynomial_root(1, -1, 1));
}

TEST_CASE("a spot has half its peak at half its beam and a tenth at half its field",
          "[photometry][beam]") {
  const SpotBeam b = spot_beam(degrees(24), degrees(50));
  CHECK(relative_intensity(b, 0) == 1);
  CHECK(relative_intensity(b, degrees(12).value) == Approx(0.5));
  CHECK(relative_intensity(b, degrees(25).value) == Approx(0.1));
  const SpotBeam hard = spot_beam(degrees(30), degrees(30));
  CHECK(relative_intensity(hard, degrees(14.99).value) == 1);
  CHECK(relative_intensity(hard, degrees(15.01).value) == 0);
  CHECK(flux_per_candela(hard) == Approx(2 * kPiD * (1 - std::cos(degrees(15).value))));
}

TEST_CASE("spread ends smoothly at its edge and keeps the lumens", "[photometry][beam]") {
  const double half = degrees(20).value;
  CHECK(relative_spread(0, half) == 1);
  CHECK(relative_spread(half, half) == 0);
  CHECK(relative_spread(half * 0.999, half) < 1e-5);
  // Against plain midpoint sums.
  double sum = 0;
  constexpr int kCells = 20000;
  for (int i = 0; i < kCells; ++i) {
    const double t = (i + 0.5) / kCells * half;
    sum += relative_spread(t, half) * std::sin(t) * std::cos(t) * half / kCells;
  }
  CHECK(projected_solid_angle_of_spread(half) == Approx(2 * kPiD * sum).epsilon(1e-6));
  CHECK(projected_solid_angle_of_spread(0) == kPiD);
}

TEST_CASE("the same light in every unit is the same light", "[photometry][sources]") {
  SourceShape s;
  s.kind = GENERATE(
      LightKind::kPoint, LightKind::kSpot, LightKind::kSphere, LightKind::kDisk, LightKind::kRect);
  s.radius = 0.11;
  s.width = 0.6;
  s.height = 0.3;
  s.beam = spot_beam(degrees(24), degrees(38));
  s.half_spread = GENERATE(0.0, 0.7);
  const SourceLevels first = *source_levels(s, {Output::Kind::kFlux, 1350, {}, {}}).levels;
  const auto same = [&](const Output& output) {
    const SourceLevels again = *source_levels(s, output).levels;
    CHECK(again.flux->value == Approx(1350).epsilon(1e-9));
  };
  same({Output::Kind::kIntensity, first.intensity->value, {}, {}});
  same({Output::Kind::kPower, 13.5, {}, {100}});
  same({Output::Kind::kIlluminance, illuminance_on_axis(s, first, 0.4).value, Meters{0.4}, {}});
  if (first.luminance) {
    same({Output::Kind::kLuminance, first.luminance->value, {}, {}});
    // Far away a source is a point of its intensity.
    CHECK(illuminance_on_axis(s, first, 200).value * 4e4 ==
          Approx(first.intensity->value).epsilon(1e-4));
  } else {
    CHECK_FALSE(source_levels(s, {Output::Kind::kLuminance, 100, {}, {}}).levels);
  }
}

TEST_CASE("near a disk with spread the closed sum agrees with a fine grid over its area",
          "[photometry][sources]") {
  SourceShape s;
  s.kind = LightKind::kDisk;
  s.radius = 0.3;
  s.half_spread = degrees(35).value;
  const SourceLevels levels = *source_levels(s, {Output::Kind::kLuminance, 1000, {}, {}}).levels;
  const double d = 0.25;
  double sum = 0;
  constexpr int kCells = 400;
  for (int i = 0; i < kCells; ++i) {
    for (int j = 0; j < kCells; ++j) {
      const double x = (2 * (i + 0.5) / kCells - 1) * s.radius,
                   y = (2 * (j + 0.5) / kCells - 1) * s.radius;
      if (x * x + y * y <= s.radius * s.radius) {
        const double r2 = x * x + y * y + d * d, c = d / std::sqrt(r2);
        sum += 1000 * relative_spread(std::acos(c), s.half_spread) * c * c / r2 *
               sqr(2 * s.radius / kCells);
      }
    }
  }
  CHECK(illuminance_on_axis(s, levels, d).value == Approx(sum).epsilon(1e-3));
}

TEST_CASE("the sun near the zenith is right as a direction, where azimuth alone says little",
          "[photometry][sun]") {
  // truths.json: sun_singapore_equinox, zenith 1.335735 deg, azimuth 189.546172 deg
  const SunPosition s =
      sun_position(*parse_moment("2024-03-20T13:13:00+08:00"), degrees(1.3521), degrees(103.8198));
  const auto direction = [](double zenith, double azimuth) {
    return Vec3d(std::sin(zenith) * std::sin(azimuth),
                 std::sin(zenith) * std::cos(azimuth),
                 std::cos(zenith));
  };
  const Vec3d got = direction(kPiD / 2 - s.elevation.value, s.azimuth.value);
  const Vec3d want = direction(degrees(1.335735478464926).value, degrees(189.54617232752878).value);
  CHECK(in_degrees({std::atan2(got.cross(want).norm(), got.dot(want))}) < 0.01);
}

TEST_CASE("moments are read with their offset and refused when there is no such date",
          "[photometry][sun]") {
  CHECK(parse_moment("2000-01-01T12:00:00Z")->julian_date == 2451545);
  CHECK(parse_moment("2000-01-01 14:00+02:00")->julian_date == 2451545);
  CHECK(parse_moment("2000-01-01T07:00:00-05:00")->julian_date == 2451545);
  CHECK(parse_moment("2024-02-29T00:00Z"));
  for (const char* bad : {"",
                          "2023-02-29T00:00Z",
                          "2023-13-01T00:00Z",
                          "2023-01-01",
                          "2023-01-01T24:00Z",
                          "2023-01-01T10:61Z",
                          "2023-01-01T10:00+99:00",
                          "2023-01-01T10:00Zx"}) {
    INFO(bad);
    CHECK_FALSE(parse_moment(bad));
  }
}

TEST_CASE("a sky in lux and in luminance is the same sky", "[photometry][sky]") {
  SourceShape s;
  s.kind = LightKind::kSky;
  s.sky.model = GENERATE(SkyModel::kUniform, SkyModel::kOvercast);
  const double per = s.sky.model == SkyModel::kUniform ? kPiD : 7 * kPiD / 9;
  CHECK(source_levels(s, {Output::Kind::kLuminance, 100, {}, {}}).levels->illuminance->value ==
        Approx(100 * per));
  CHECK(
      source_levels(s, {Output::Kind::kIlluminance, 100 * per, {}, {}}).levels->luminance->value ==
      Approx(100));
  CHECK_FALSE(source_levels(s, {Output::Kind::kFlux, 100, {}, {}}).levels);
}

TEST_CASE("exposure values follow ISO 2720", "[photometry][exposure]") {
  CHECK(ev100(Nits{4096}) == Approx(15));
  CHECK(ev100(Lux{2.5}) == Approx(0));
  CHECK(luminance_at(15).value == Approx(4096));
  CHECK(ev100(CameraExposure{16, {1.0 / 125}, 100}) == Approx(14.966).margin(1e-3));
}
