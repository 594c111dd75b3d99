#include "jovilux/files/photometric_file.h"

#include "jovilux/base/sampler.h"

#include <cmath>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A small file of type C: 4 vertical angles, one plane.
std::string small(
    const std::string& head = "IESNA:LM-63-2002\n[TEST] 7\n[MANUFAC] Orchid House Lamps\n",
    const std::string& tilt = "TILT=NONE\n") {
  return head + tilt + "1 1000 1 4 1 1 2 0.1 0.1 0\n1 1 12\n0 30 60 90\n0\n400 300 100 0\n";
}

std::string asymmetric(PhotometricSymmetry symmetry) {
  PhotometricFile f;
  f.maker = "Orchid House Lamps";
  f.luminaire = "Wall washer";
  f.lamp_lumens = 2000;
  f.watts = 21;
  f.length = 0.6;
  f.width = 0.1;
  CandelaGrid& g = f.grid;
  g.symmetry = symmetry;
  double from = 0, to = 345;
  switch (symmetry) {
    case PhotometricSymmetry::kRotational:
      to = 0;
      break;
    case PhotometricSymmetry::kQuadrant:
      to = 90;
      break;
    case PhotometricSymmetry::kBilateral:
      to = 180;
      break;
    case PhotometricSymmetry::kBilateral90:
      from = 90;
      to = 270;
      break;
    case PhotometricSymmetry::kNone:
      break;
  }
  for (double c = from; c <= to; c += 15) {
    g.hor_rad.push_back(c * kDegree);
  }
  for (int v = 0; v <= 36; ++v) {
    g.ver_rad.push_back(v * 5 * kDegree);
  }
  const auto lobe = [&](double c, double v) {
    switch (symmetry) {
      case PhotometricSymmetry::kRotational:
        return 1.0;
      case PhotometricSymmetry::kQuadrant:
        return 1 + 0.4 * std::cos(2 * c) * std::sin(v);
      case PhotometricSymmetry::kBilateral:
        return 1 + 0.4 * std::cos(c) * std::sin(v);
      case PhotometricSymmetry::kBilateral90:
        return 1 + 0.4 * std::sin(c) * std::sin(v);
      case PhotometricSymmetry::kNone:
        return 1 + 0.3 * std::sin(c) * std::sin(v) + 0.2 * std::cos(c) * std::sin(v);
    }
    return 0.0;
  };
  for (const double c : g.hor_rad) {
    for (const double v : g.ver_rad) {
      g.candela.push_back(300 * sqr(0.5 + 0.5 * std::cos(v)) * lobe(c, v));
    }
  }
  return lm63_text(f);
}

std::string problem_text(const Problems& problems) {
  std::string out;
  for (const Problem& p : problems) {
    out += to_string(p) + "\n";
  }
  return out;
}

}  // namespace

TEST_CASE("every edition of LM-63 is read", "[files][photometry]") {
  for (const auto& [head, format] : {std::pair<std::string, std::string>{
                                         "IES:LM-63-2019\n[TEST] 7\n[MANUFAC] a\n", "LM-63-2019"},
                                     {"IESNA:LM-63-2002\n[TEST] 7\n[MANUFAC] a\n", "LM-63-2002"},
                                     {"IESNA:LM-63-1995\n[TEST] 7\n[MANUFAC] a\n", "LM-63-1995"},
                                     {"IESNA91\n[TEST] 7\n[MANUFAC] a\n", "LM-63-1991"},
                                     {"An orchid lamp\nmade in 1985\n", "LM-63-1986"}}) {
    INFO(head);
    const auto file = parse_lm63(small(head), "small.ies");
    REQUIRE(file);
    CHECK(file->format == format);
    CHECK(problem_text(file.problems()) == "");
    CHECK(file->grid.candela == std::vector<double>{400, 300, 100, 0});
    CHECK(file->watts == 12);
    CHECK(file->lamp_lumens == 1000);
  }
}

TEST_CASE("odd spacing, commas, line ends and missing keywords do not hinder",
          "[files][photometry]") {
  const auto plain = parse_lm63(small(), "a.ies");
  REQUIRE(plain);
  std::string crlf, cr, commas = small();
  for (const char c : small()) {
    crlf += c == '\n' ? "\r\n" : std::string(1, c);
    cr += c == '\n' ? '\r' : c;
  }
  commas =
      "IESNA:LM-63-2002\n[TEST] 7\n[MANUFAC] a\nTILT = NONE\n 1,1000,\t1 4,1 1 2 .1\n\n 1e-1 0 1.0 "
      "+1 12\n0,30\n60 90 0\n4.0E2, 300 100\n 0 \x1a";
  for (const std::string& text : {crlf, cr, commas}) {
    const auto file = parse_lm63(text, "a.ies");
    INFO(problem_text(file.problems()));
    REQUIRE(file);
    CHECK(file->grid.candela == plain->grid.candela);
    CHECK(file.problems().empty());
  }
  const auto bare = parse_lm63(small("IESNA:LM-63-2002\n"), "a.ies");
  REQUIRE(bare);
  CHECK(problem_text(bare.problems()) ==
        "a.ies:1: warning: the keywords [TEST] and [MANUFAC] are missing\n");
}

TEST_CASE("multipliers, ballast, tilt and feet are applied", "[files][photometry]") {
  const auto file = parse_lm63(
      "IESNA91\n[TEST] 7\n[MANUFAC] a\nTILT=INCLUDE\n1\n3\n0 45 90\n0.9 0.8 0.7\n2 500 2.5 4 1 1 1 "
      "1 2 0.5\n0.8 0.5 12\n0 30 60 90\n0\n400 300 100 0\n",
      "a.ies");
  INFO(problem_text(file.problems()));
  REQUIRE(file);
  CHECK(file->grid.candela[0] == Approx(400 * 2.5 * 0.8 * 0.5 * 0.9));
  CHECK(file->lamp_lumens == 1000);
  CHECK(file->width == Approx(0.3048));
  CHECK(file->length == Approx(0.6096));
  // Editions after 1991 keep the second factor's place for other uses.
  const auto later = parse_lm63(
      "IESNA:LM-63-1995\n[TEST] 7\n[MANUFAC] a\nTILT=NONE\n1 1000 1 4 1 1 2 0 0 0\n0.8 0.5 12\n0 "
      "30 60 90\n0\n400 300 100 0\n",
      "a.ies");
  REQUIRE(later);
  CHECK(later->grid.candela[0] == Approx(320));
}

TEST_CASE("faults in LM-63 files are told with their places", "[files][photometry]") {
  const auto fault = [](std::string from, std::string to) {
    std::string text = small();
    text.replace(text.find(from), from.size(), to);
    return problem_text(parse_lm63(text, "a.ies").problems());
  };
  CHECK(fault("TILT=NONE\n", "") ==
        "a.ies:9: error: there is no TILT= line: not an LM-63 file, or cut short\n");
  CHECK(fault("400 300 100 0", "400 300 x 0") ==
        "a.ies:9:9: error: found \"x\"; expected intensity 3 of 4\n");
  CHECK(fault("400 300 100 0\n", "400 300\n") ==
        "a.ies:10: error: the file ends where intensity 3 of 4 is expected\n");
  CHECK(fault("0 30 60 90", "0 30 25 90") ==
        "a.ies:7: error: vertical angles: 25 follows 30; angles must increase\n");
  CHECK(fault("1 1000 1 4 1 1", "1 1000 1 4 1 5") ==
        "a.ies:5: error: photometric type 5; expected 1 (C), 2 (B) or 3 (A)\n");
  CHECK(fault("1 1000 1 4", "1 1000 0 4").find("the intensities would be 0") != std::string::npos);
  CHECK(fault("1 1000 1 4 1", "1 1000 1 1e9 1").find("vertical and 1 horizontal angles") !=
        std::string::npos);
  CHECK(fault("400 300 100 0", "0 0 0 0").find("all intensities are 0") != std::string::npos);
  CHECK(fault("400 300 100 0", "-4 300 100 0")
            .find("1 of the intensities are negative; they are taken as 0") != std::string::npos);
  CHECK(fault("1 1000 1", "1 100 1").find("but the lamps only 100 lm") != std::string::npos);
  CHECK(fault("100 0\n", "100 0 7 7\n").find("more values follow the table") != std::string::npos);
  CHECK(fault("0 30 60 90", "0 30 60 80").find("vertical angles end at 80; expected 90 or 180") !=
        std::string::npos);
}

TEST_CASE(
    "factors beyond what a file's numbers may be are refused, so that what is read can be written",
    "[files][photometry]") {
  std::string text = small();
  text.replace(text.find("1 1000 1 4"), 10, "1 1000 4294967295 4");
  const auto refused = parse_lm63(text, "x.ies");
  REQUIRE(!refused);
  CHECK(refused.problems().back().text.find("intensities up to 1.718e+12 cd") != std::string::npos);
  text.replace(text.find("4294967295"), 10, "1e9");
  const auto read = parse_lm63(text, "x.ies");
  REQUIRE(read);
  CHECK(parse_lm63(lm63_text(*read), "y.ies"));
}

TEST_CASE("EULUMDAT and LM-63 tell the same distribution within 0.1 %, for all symmetries",
          "[files][photometry]") {
  const auto symmetry = GENERATE(PhotometricSymmetry::kRotational,
                                 PhotometricSymmetry::kQuadrant,
                                 PhotometricSymmetry::kBilateral,
                                 PhotometricSymmetry::kBilateral90,
                                 PhotometricSymmetry::kNone);
  INFO(to_string(symmetry));
  const auto first = parse_lm63(asymmetric(symmetry), "a.ies");
  INFO(problem_text(first.problems()));
  REQUIRE(first);
  CHECK(first->grid.symmetry == symmetry);
  const auto second = parse_eulumdat(eulumdat_text(*first), "b.ldt");
  INFO(problem_text(second.problems()));
  REQUIRE(second);
  CHECK(second.problems().empty());
  const auto third = parse_lm63(lm63_text(*second), "c.ies");
  REQUIRE(third);
  const LuminousDistribution a(first->grid), b(second->grid), c(third->grid);
  CHECK(b.flux() == Approx(a.flux()).epsilon(1e-5));
  CHECK(second->grid.symmetry == symmetry);
  CHECK(second->lamp_lumens == Approx(2000));
  CHECK(second->watts == Approx(21));
  CHECK(second->length == Approx(0.6));
  Rng rng(5);
  for (int i = 0; i < 300; ++i) {
    const double z = rng.uniform(-1, 1), phi = rng.uniform(0, 2 * kPiD), r = std::sqrt(1 - z * z);
    const Vec3 d = Vec3d(r * std::cos(phi), r * std::sin(phi), z).cast<float>();
    CHECK(b.intensity(d) == Approx(a.intensity(d)).epsilon(1e-3).margin(1e-3 * a.peak()));
    CHECK(c.intensity(d) == Approx(a.intensity(d)).epsilon(1e-3).margin(1e-3 * a.peak()));
  }
}

TEST_CASE("types A and B become EULUMDAT by resampling", "[files][photometry]") {
  PhotometricFile f;
  f.grid = {GENERATE(PhotometricType::kA, PhotometricType::kB),
            PhotometricSymmetry::kQuadrant,
            {},
            {},
            {}};
  for (int i = 0; i <= 18; ++i) {
    f.grid.hor_rad.push_back(i * 5 * kDegree);
    f.grid.ver_rad.push_back(i * 5 * kDegree);
  }
  for (const double h : f.grid.hor_rad) {
    for (const double v : f.grid.ver_rad) {
      f.grid.candela.push_back(1000 * std::pow(std::cos(h) * std::cos(v), 3));
    }
  }
  const auto back = parse_lm63(lm63_text(f), "a.ies");
  INFO(problem_text(back.problems()));
  REQUIRE(back);
  CHECK(back->grid.symmetry == PhotometricSymmetry::kQuadrant);
  const auto ldt = parse_eulumdat(eulumdat_text(*back), "a.ldt");
  INFO(problem_text(ldt.problems()));
  REQUIRE(ldt);
  CHECK(LuminousDistribution(ldt->grid).flux() ==
        Approx(LuminousDistribution(f.grid).flux()).epsilon(5e-3));
}

TEST_CASE("40 photometric files broken by mutation give findings or clear errors",
          "[files][photometry][hostile]") {
  int read = 0, refused = 0, silent = 0;
  for (const bool eulumdat : {false, true}) {
    const auto good = parse_lm63(asymmetric(PhotometricSymmetry::kQuadrant), "a.ies");
    REQUIRE(good);
    const std::string original =
        eulumdat ? eulumdat_text(*good) : asymmetric(PhotometricSymmetry::kQuadrant);
    const auto flux = LuminousDistribution(good->grid).flux();
    for (std::uint64_t seed = 1; seed <= 20; ++seed) {
      Rng rng(seed);
      std::string text = original;
      const auto somewhere = [&] {
        return static_cast<std::size_t>(rng.uniform() * static_cast<double>(text.size()));
      };
      switch (seed % 5) {
        case 0:
          text.resize(somewhere());
          break;  // cut short
        // A piece lost.
        case 1:
          text.erase(somewhere(), 40);
          break;
        case 2:
          for (int i = 0; i < 12; ++i) {
            // Bytes flipped.
            text[somewhere()] = static_cast<char>(rng.next() & 0xff);
          }
          break;
        // Foreign words.
        case 3:
          text.insert(somewhere(), "\n-1e300 nan 99999999\n");
          break;
        default: {
          const std::size_t at = somewhere();
          // A piece doubled.
          text.insert(at, text.substr(at, 60));
        }
      }
      const auto file =
          eulumdat ? parse_eulumdat(text, "broken.ldt") : parse_lm63(text, "broken.ies");
      if (!file) {
        ++refused;
        CHECK(has_errors(file.problems()));
        CHECK(file.problems().back().text.size() > 10);
        continue;
      }
      ++read;
      const LuminousDistribution d(file->grid);
      CHECK(std::isfinite(d.flux()));
      CHECK(d.flux() > 0);
      // Without a word, the light may not be another one.
      if (file.problems().empty() && std::abs(d.flux() / flux - 1) > 0.25) {
        ++silent;
      }
    }
  }
  CHECK(read + refused == 40);
  CHECK(refused >= 15);
  CHECK(silent == 0);
}
