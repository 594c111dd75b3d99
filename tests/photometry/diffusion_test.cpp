// Beams behind diffusion sheets.
#include "jovilux/photometry/diffusion.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

constexpr double kDegreeOfSheet = kPiD / 180;

Vec3 at_angle(double theta, double c = 0.3) {
  return Vec3d(std::sin(theta) * std::cos(c), std::sin(theta) * std::sin(c), std::cos(theta))
      .cast<float>();
}

double kappa_of(double spread_deg) {
  return std::log(2.0) / (1 - std::cos(spread_deg * kDegreeOfSheet / 2));
}

}  // namespace

TEST_CASE("a narrow beam behind a sheet has the sheet's own lobe", "[photometry][diffusion]") {
  SourceShape spot;
  spot.kind = LightKind::kSpot;
  spot.beam = spot_beam({0.5 * kDegreeOfSheet}, {0.5 * kDegreeOfSheet});
  for (const double spread : {10.0, 40.0}) {
    const auto beam = diffused(spot, {spread * kDegreeOfSheet});
    REQUIRE(beam);
    const double kappa = kappa_of(spread);
    for (double deg = 0; deg < spread; deg += spread / 8) {
      CHECK(beam->intensity(at_angle(deg * kDegreeOfSheet)) / beam->on_axis() ==
            Approx(std::exp(kappa * (std::cos(deg * kDegreeOfSheet) - 1))).epsilon(0.005));
    }
    CHECK(beam->full_angle(0, 0.5) / kDegreeOfSheet == Approx(spread).epsilon(0.01));
  }
}

TEST_CASE("a profile of a von Mises-Fisher lobe behind a sheet has a closed form",
          "[photometry][diffusion]") {
  // The product of both exponentials, over the sphere: 4 pi sinh(R) / R, R = |k1 z + k2 w|.
  constexpr double kFirst = 1.2;
  CandelaGrid table{PhotometricType::kC, PhotometricSymmetry::kRotational, {0}, {}, {}};
  for (int deg = 0; deg <= 180; deg += 2) {
    table.ver_rad.push_back(deg * kDegreeOfSheet);
    table.candela.push_back(std::exp(kFirst * (std::cos(deg * kDegreeOfSheet) - 1)));
  }
  SourceShape source;
  source.kind = LightKind::kPoint;
  source.profile = std::make_shared<LuminousDistribution>(table);
  const auto behind = diffused(source, {30 * kDegreeOfSheet});
  REQUIRE(behind);
  const double second = kappa_of(30);
  for (const double deg : {0.0, 20.0, 60.0, 110.0, 170.0}) {
    const double r = std::hypot(kFirst + second * std::cos(deg * kDegreeOfSheet),
                                second * std::sin(deg * kDegreeOfSheet));
    const double exact = std::exp(r - kFirst - second) / r * second * (1 - std::exp(-2 * r)) /
                         (1 - std::exp(-2 * second));
    CHECK(behind->intensity(at_angle(deg * kDegreeOfSheet)) == Approx(exact).epsilon(0.005));
  }
  CHECK(behind->flux() == Approx(source.profile->flux()).epsilon(0.003));
}

TEST_CASE("what a sheet spreads of a front light stays in front, and what is even stays so",
          "[photometry][diffusion]") {
  SourceShape spot;
  spot.kind = LightKind::kSpot;
  spot.beam = spot_beam({60 * kDegreeOfSheet}, {90 * kDegreeOfSheet});
  const auto wide = diffused(spot, {120 * kDegreeOfSheet});
  REQUIRE(wide);
  CHECK(wide->intensity(at_angle(100 * kDegreeOfSheet)) == 0);
  CHECK(wide->flux_in_front() == Approx(wide->flux()).epsilon(1e-6));
  SourceShape rect;
  rect.kind = LightKind::kRect;
  CHECK(diffused(rect, {30 * kDegreeOfSheet}) == nullptr);
}

TEST_CASE("a diffusion gel is told by its spread and its loss", "[photometry][diffusion]") {
  const auto sheet = diffusion_gel("diffusion 20 deg 70 %");
  REQUIRE(sheet);
  CHECK(sheet->spread.value == Approx(20 * kDegreeOfSheet));
  CHECK(sheet->transmittance == Approx(0.7));
  CHECK(diffusion_gel("diffusion 0.35 rad")->transmittance == 1);
  for (const char* wrong : {"diffusion",
                            "diffusion 20",
                            "diffusion 2 deg",
                            "diffusion 130 deg",
                            "diffusion 20 deg 170 %",
                            "diffusion 20 deg %",
                            "diffusion 20 m",
                            "spread 20 deg"}) {
    CAPTURE(wrong);
    CHECK_FALSE(diffusion_gel(wrong));
  }
}
