#include "jovilux/judge/color_report.h"

#include "jovilux/color/nodes.h"
#include "jovilux/files/spectrum_file.h"

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

TEST_CASE("LED mixes lie on the Planck locus at their temperature", "[color][judge]") {
  const double t = GENERATE(2200.0, 2700.0, 3000.0, 4000.0, 6500.0);
  const Cct c = correlated_color_temperature(tristimulus(led_mix({t})));
  CHECK(c.cct.value == Approx(t).epsilon(1e-4));
  CHECK(std::abs(c.duv) < 1e-6);
  const double ra = color_rendering_index(led_mix({t}));
  CHECK(ra > 75);
  CHECK(ra < 95);
}

TEST_CASE("a color under D65 reports itself, a filter its luminous transmittance", "[judge]") {
  const auto color = color_report("#ffb070", nullptr, *cie_illuminant("D65"));
  REQUIRE(color);
  CHECK(color->srgb == "#ffb070");
  CHECK(*color->transmittance ==
        Approx(0.2126 * 1 + 0.7152 * srgb_decoded(176 / 255.0) + 0.0722 * srgb_decoded(112 / 255.0))
            .epsilon(2e-3));
  NmTable half;
  half.value.fill(0.5);
  CHECK(luminous_transmittance(planck({2700}), half) == Approx(0.5));
  // Grayish red.
  CHECK(luminous_transmittance(planck({2700}), test_color(1)) >
        luminous_transmittance(cie_daylight({6504}), test_color(1)));
  CHECK_FALSE(color_report("no-such-thing", nullptr, half));
}

TEST_CASE("a gel over an LED on a red surface agrees with the product at every nanometer",
          "[color][judge]") {
  // u'v' here, a finer sieve than the eye's: 0.002 is hard to see.
  const NmTable led = led_mix({4000});
  const NmTable gel = spectrum_over_nm(*parse_hex_color("#ffb060"));
  const NmTable red = test_color(9);
  const Xyz exact = tristimulus(filtered(led, gel), red);
  const Xyz nodes = tristimulus(light_table(filtered(led, gel)), spectrum_from_table(red), 1)
                        .matrix()
                        .cast<double>();
  const Uv a = uv_1960(exact), b = uv_1960(nodes);
  CHECK(std::hypot(a.u - b.u, 1.5 * (a.v - b.v)) < 0.002);
  CHECK(nodes[1] == Approx(exact[1]).epsilon(0.01));
}

TEST_CASE("a filament warms as it is dimmed, down to where it is told to stop", "[color]") {
  CHECK(filament_temperature({2700}, {1800}, 1).value == 2700);
  CHECK(filament_temperature({2700}, {1800}, 0.1).value ==
        Approx(2700 * std::pow(0.1, 0.42 / 3.4)));
  CHECK(filament_temperature({2700}, {1800}, 0.001).value == 1800);
  CHECK(filament_temperature({2700}, {1800}, 0).value == 1800);
  CHECK(filament_temperature({2700}, {3500}, 0.5).value == 2700);  // no lamp gets colder
}

TEST_CASE("spectra are read from CSV and TM-27, and their faults have a line", "[files]") {
  const TemporaryFolder dir;
  const auto csv =
      load_spectrum(dir.write("a.csv", "# ours\nnm; power\n400; 0.5\n500, 1\n700\t0\n"));
  REQUIRE(csv);
  CHECK((*csv)[450 - kFirstNm] == Approx(0.75));
  CHECK((*csv)[390 - kFirstNm] == 0);
  const auto spdx = load_spectrum(dir.write(
      "a.spdx",
      "<?xml version=\"1.0\"?>\n<IESTM2714 xmlns=\"iestm2714\" "
      "version=\"1.0\">\n<Header/>\n<SpectralDistribution>\n<SpectralQuantity>flux</"
      "SpectralQuantity>\n<SpectralData wavelength=\"400\">1</SpectralData>\n<SpectralData "
      "wavelength=\"600\">3</SpectralData>\n</SpectralDistribution>\n</IESTM2714>\n"));
  REQUIRE(spdx);
  CHECK((*spdx)[500 - kFirstNm] == Approx(2));
  const auto fault = [&](const std::string& name, const std::string& text) {
    const auto r = load_spectrum(dir.write(name, text));
    return r ? std::string() : to_string(r.problems()[0]);
  };
  CHECK(
      fault("b.csv", "400 1\n390 2\n").find("b.csv:2: error: wavelengths: 390 nm follows 400 nm") !=
      std::string::npos);
  CHECK(fault("b.csv", "400 1\nx y\n").find("b.csv:2: error") != std::string::npos);
  CHECK(fault("b.csv", "400 1\n500 -2\n").find("negative") != std::string::npos);
  CHECK(fault("b.csv", "0.4 1\n0.7 2\n").find("they are in nanometers") != std::string::npos);
  CHECK(fault("b.csv", "400 1\n").find("at least 2") != std::string::npos);
  CHECK(fault("b.csv", "400 0\n700 0\n").find("no visible light") != std::string::npos);
  CHECK(fault("b.spdx", "<a><b></a>").find("not XML") != std::string::npos);
  CHECK(fault("b.spdx", "<a/>").find("no SpectralDistribution") != std::string::npos);
}

TEST_CASE("color prints what it is asked for, and says what is near an unknown name", "[cli]") {
  const auto j = test::run_program({"color", "2700 K", "cie-f11", "--json"}).json()["colors"];
  CHECK(j[0]["x"].get<double>() == Approx(0.45986).margin(1e-4));
  CHECK(j[0]["mired"].get<double>() == Approx(370.37).epsilon(1e-3));
  CHECK(std::round(j[1]["ra"].get<double>()) == 83);
  CHECK(j[1]["transmittance"].is_null());
  const auto bad = test::run_program({"color", "cie-f111"});
  CHECK(bad.status == 2);
  CHECK(bad.err.find("did you mean \"cie-f11\"?") != std::string::npos);
}
