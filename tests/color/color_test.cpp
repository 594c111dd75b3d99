#include "jovilux/base/sampler.h"
#include "jovilux/color/chromaticity.h"
#include "jovilux/color/nodes.h"
#include "jovilux/color/rgb.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

constexpr double kTableDigits = 2e-4;  // the CIE tables have 4 digits in x and y

}  // namespace

TEST_CASE("whites have the chromaticities that the CIE gives", "[color]") {
  struct Known {
    const char* name;
    double x, y;
  };
  for (const Known k : {Known{"A", 0.44758, 0.40745},
                        {"D65", 0.31272, 0.32903},
                        {"D50", 0.34567, 0.35850},
                        {"F2", 0.37207, 0.37512},
                        {"F11", 0.38054, 0.37692}}) {
    const Xy xy = chromaticity(tristimulus(*cie_illuminant(k.name)));
    INFO(k.name);
    CHECK(xy.x == Approx(k.x).margin(kTableDigits));
    CHECK(xy.y == Approx(k.y).margin(kTableDigits));
  }
  CHECK_FALSE(cie_illuminant("F13"));
}

TEST_CASE("correlated color temperature inverts the Planck locus", "[color]") {
  const double t = GENERATE(1200.0, 2700.0, 4000.0, 6500.0, 12000.0, 40000.0);
  const Cct c = correlated_color_temperature(tristimulus(planck({t})));
  CHECK(c.cct.value == Approx(t).epsilon(1e-4));
  CHECK(std::abs(c.duv) < 1e-6);
}

TEST_CASE("Duv is positive above the locus and the temperature is found off it", "[color]") {
  // (T, Duv) -> x, y computed apart: tests/truths/truths.json
  const Cct above =
      correlated_color_temperature(from_xy({0.46511628625725476, 0.42002946438074795}));
  CHECK(above.cct.value == Approx(2700).epsilon(1e-3));
  CHECK(above.duv == Approx(0.003).margin(1e-5));
  const Cct below = correlated_color_temperature(from_xy({0.3770355475333946, 0.3641880074009563}));
  CHECK(below.cct.value == Approx(4000).epsilon(1e-3));
  CHECK(below.duv == Approx(-0.005).margin(1e-5));
}

TEST_CASE("the color rendering index of known illuminants is the published one", "[color]") {
  CHECK(color_rendering_index(*cie_illuminant("A")) == Approx(100).margin(0.1));
  CHECK(std::round(color_rendering_index(*cie_illuminant("F2"))) == 64);
  CHECK(std::round(color_rendering_index(*cie_illuminant("F11"))) == 83);
  CHECK(color_rendering_index(cie_daylight({6504})) > 99.5);
}

TEST_CASE("whites are read as rigs write them", "[color]") {
  CHECK(parse_white("2700 K")->kind == White::Kind::kPlanck);
  CHECK(parse_white("370.37 mired")->temperature.value == Approx(2700).epsilon(1e-4));
  CHECK(parse_white("D6504")->kind == White::Kind::kDaylight);
  CHECK(parse_white("D65")->temperature.value == Approx(6503.6).epsilon(1e-4));
  CHECK(parse_white("daylight 5600 K")->temperature.value == 5600);
  for (const char* bad : {"", "2700", "D2", "daylight 3000 K", "100 K", "warm", "D", "2700 lm"}) {
    INFO(bad);
    CHECK_FALSE(parse_white(bad));
  }
}

TEST_CASE("whites have names, from warm to cold", "[color]") {
  double before = 0;
  for (const NamedWhite& w : named_whites()) {
    INFO(w.name);
    const auto read = parse_white(w.name);
    REQUIRE(read);
    CHECK(read->temperature == w.white.temperature);
    CHECK(read->temperature.value > before);
    before = read->temperature.value;
  }
  CHECK(parse_white("candle")->temperature.value == 1900);
  CHECK(parse_white("overcast")->kind == White::Kind::kDaylight);
}

TEST_CASE("a gel by its effect shifts reciprocal temperatures and lets through what Wien says",
          "[color]") {
  // Closed form: the ratio at two wavelengths is exp(-c2 mired (1/a - 1/b)).
  const NmTable warm = mired_shift(kFullShift);
  const auto at = [&](const NmTable& t, int nm) { return t[static_cast<std::size_t>(nm) - 360]; };
  REQUIRE(kFirstNm == 360);
  CHECK(at(warm, 450) / at(warm, 600) ==
        Approx(std::exp(-1.4388e-2 * kFullShift * 1e-6 * (1 / 450e-9 - 1 / 600e-9))));
  CHECK(at(warm, 700) == Approx(1));
  CHECK(*std::max_element(warm.value.begin(), warm.value.end()) <= 1);
  // Over a black body the shift of the correlated temperature is the one that is named, as near
  // as Wien's law is to Planck's.
  const auto filtered = [](double t, const NmTable& gel) {
    return correlated_color_temperature(tristimulus(planck({t}), gel)).cct.value;
  };
  CHECK(filtered(5500, warm) == Approx(3200).epsilon(0.02));
  CHECK(filtered(3200, *gel_by_effect("full cool")) == Approx(5500).epsilon(0.05));
  CHECK(1e6 / filtered(4000, *gel_by_effect("half warm")) ==
        Approx(250 + kFullShift / 2).epsilon(0.02));
  CHECK(gel_by_effect("-60 mired")->value == mired_shift(-60).value);
  CHECK(gel_by_effect("+60 mired")->value == mired_shift(60).value);
  for (const char* bad : {"", "warm", "half", "mired", "x mired", "501 mired", "half  warm"}) {
    INFO(bad);
    CHECK_FALSE(gel_by_effect(bad));
  }
}

TEST_CASE("a light's table gives its own white exactly and the published table for equal energy",
          "[color][nodes]") {
  const NmTable source = GENERATE(planck({2700}), cie_daylight({6504}), *cie_illuminant("F11"));
  const LightTable table = light_table(source);
  constexpr double kSinglePrecision = 2e-6;
  const Xyz direct = tristimulus(table, Spectrum::Ones(), 1).matrix().cast<double>();
  CHECK((direct - tristimulus(source)).norm() < kSinglePrecision);
  CHECK(table.row(1).sum() == Approx(1).margin(kSinglePrecision));

  NmTable equal;
  equal.value.fill(1);
  const LightTable e = light_table(equal);
  // Entries of the study's own table, which interpolates the color-matching functions in another
  // way.
  constexpr double kInterpolation = 5e-4;
  CHECK(e(0, 0) == Approx(0.04744266).margin(kInterpolation));
  CHECK(e(0, 8) == Approx(0.2514833).margin(kInterpolation));
  CHECK(e(1, 6) == Approx(0.2140864).margin(kInterpolation));
  CHECK(e(2, 2) == Approx(0.3067068).margin(kInterpolation));
}

TEST_CASE("a reflectance in RGB survives the way through the nodes under D65", "[color][nodes]") {
  Rng rng(3);
  // The basis is exact for the study's D65, which ends at 380 and 780 nm.
  constexpr double kStudy = 2e-3;
  for (int i = 0; i < 200; ++i) {
    const Rgb rgb(rng.uniform(), rng.uniform(), rng.uniform());
    const Spectrum s = spectrum_from_rgb(rgb);
    CHECK((rgb_under_d65(s) - rgb).cwiseAbs().maxCoeff() < kStudy);
    CHECK(s.minCoeff() >= 0);
    CHECK(s.maxCoeff() <= 1.0f + 1e-6f);
  }
}

TEST_CASE("twelve nodes agree with the product at every nanometer", "[color][nodes]") {
  // A warm lamp and a fluorescent one on the CIE's test colors: the study's own claim, held to its
  // 95th percentile.
  for (const NmTable& source : {planck({2700}), *cie_illuminant("F11"), cie_daylight({6504})}) {
    const LightTable table = light_table(source);
    for (int i = 1; i <= 14; ++i) {
      const NmTable r = test_color(i);
      const Xyz exact = tristimulus(source, r),
                nodes = tristimulus(table, spectrum_from_table(r), 1).matrix().cast<double>();
      INFO("sample " << i);
      CHECK((nodes - exact).norm() < 0.006);
    }
  }
}

TEST_CASE("a tint changes the color and not the luminance", "[color][nodes]") {
  const LightTable white = light_table(planck({3000}));
  const LightTable red = tinted(white, Rgb(1, 0.1, 0.1));
  CHECK(red.row(1).sum() == Approx(1).margin(1e-6));
  CHECK(chromaticity(red.rowwise().sum().matrix().cast<double>()).x >
        chromaticity(white.rowwise().sum().matrix().cast<double>()).x + 0.05);
  const LightTable same = tinted(white, Rgb(3, 3, 3));
  CHECK((same - white).abs().maxCoeff() < 1e-5f);
}

TEST_CASE("sRGB encoding, its inverse and hex colors agree", "[color][rgb]") {
  for (const double v : {0.0, 0.001, 0.0031308, 0.18, 0.5, 1.0, 2.5, -0.2}) {
    CHECK(srgb_decoded(srgb_encoded(v)) == Approx(v).margin(1e-9));
  }
  CHECK(srgb_encoded(0.2140411) == Approx(0.5).margin(1e-6));
  CHECK(hex_color(*parse_hex_color("#ffb070")) == "#ffb070");
  CHECK(hex_color(*parse_hex_color("#fb7")) == "#ffbb77");
  for (const char* bad : {"", "ffb070", "#ffb07", "#gggggg", "#ffb0700"}) {
    CHECK_FALSE(parse_hex_color(bad));
  }
}

TEST_CASE("adaptation maps one white to the other and back", "[color][rgb]") {
  const Xyz a = tristimulus(planck({3200})), b = from_xy({0.3127, 0.3290});
  CHECK((adaptation(a, b) * a - b).norm() < 1e-12);
  CHECK((adaptation(b, a) * adaptation(a, b) - Eigen::Matrix3d::Identity()).norm() < 1e-12);
  CHECK((rec709_from_xyz() * xyz_from_rec709() - Eigen::Matrix3d::Identity()).norm() < 1e-12);
  CHECK((rec709_from_xyz() * from_xy({0.3127, 0.3290}) - Rgb(1, 1, 1)).norm() < 1e-12);
}
