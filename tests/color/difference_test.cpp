#include "jovilux/color/difference.h"

#include "jovilux/color/nodes.h"
#include "jovilux/color/sources_by_name.h"

#include <catch2/catch.hpp>

using namespace jovilux;

TEST_CASE("color differences are the published ones", "[color][difference]") {
  struct Pair {
    Lab a, b;
    double difference;
  };
  // Sharma, Wu and Dalal 2005, table 1.
  for (const Pair& p : {Pair{{50, 2.6772, -79.7751}, {50, 0, -82.7485}, 2.0425},
                        {{50, 3.1571, -77.2803}, {50, 0, -82.7485}, 2.8615},
                        {{50, -1.3802, -84.2814}, {50, 0, -82.7485}, 1.0000},
                        {{50, 0, 0}, {50, -1, 2}, 2.3669},
                        {{50, 2.49, -0.001}, {50, -2.49, 0.0009}, 7.1792},
                        {{50, 2.5, 0}, {50, 0, -2.5}, 4.3065},
                        {{50, 2.5, 0}, {73, 25, -18}, 27.1492},
                        {{50, 2.5, 0}, {61, -5, 29}, 22.8977},
                        {{50, 2.5, 0}, {56, -27, -3}, 31.9030},
                        {{50, 2.5, 0}, {58, 24, 15}, 19.4535}}) {
    CHECK(delta_e_2000(p.a, p.b) == Approx(p.difference).margin(6e-5));
    CHECK(delta_e_2000(p.b, p.a) == Approx(p.difference).margin(6e-5));
    CHECK(delta_e_2000(p.a, p.a) == 0);
  }
}

TEST_CASE("a gel over an LED on red and other surfaces agrees with the 1 nm product",
          "[color][nodes]") {
  NmTable straw;  // as the demo's gel
  const double nm[5] = {400, 480, 540, 580, 700}, t[5] = {0.18, 0.35, 0.70, 0.88, 0.92};
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double at = std::clamp(kFirstNm + static_cast<double>(i), nm[0], nm[4]);
    std::size_t j = 0;
    while (j < 3 && nm[j + 1] < at) {
      ++j;
    }
    straw[i] = t[j] + (t[j + 1] - t[j]) * (at - nm[j]) / (nm[j + 1] - nm[j]);
  }
  const NmTable light =
      filtered(*spectrum_named(GENERATE("led-3000", "led-5000", "cie-a", "cie-f11")), straw);
  const LightTable table = light_table(light);
  const int sample = GENERATE(9, 1, 10, 11, 12, 13);  // 9 is the strong red
  const NmTable surface = test_color(sample);
  const Xyz exact = tristimulus(light, surface), white = tristimulus(light);
  const Xyz carried = tristimulus(table, spectrum_from_table(surface), static_cast<float>(white[1]))
                          .matrix()
                          .cast<double>();
  INFO("test color " << sample);
  CHECK(delta_e_2000(lab(carried, white), lab(exact, white)) < 0.5);
}
