#include "jovilux/base/formula.h"

#include "jovilux/base/text.h"

#include <cmath>

#include <catch2/catch.hpp>

using namespace jovilux;

namespace {

double value_of(const std::string& text, double x = 0, double y = 0) {
  auto parsed = Formula::parse(text, {"x", "y"});
  INFO(text);
  REQUIRE(std::holds_alternative<Formula>(parsed));
  const double v[] = {x, y};
  return std::get<Formula>(parsed)(v);
}

}  // namespace

TEST_CASE("formulas have the functions that shaders have", "[base][formula]") {
  CHECK(value_of("floor(-1.5)") == -2);
  CHECK(value_of("fract(-1.25)") == 0.75);
  CHECK(value_of("mod(-1, 3)") == 2);
  CHECK(value_of("mod(7.5, 2)") == 1.5);
  CHECK(value_of("round(2.5)") == 3);
  CHECK(value_of("round(-2.5)") == -3);
  CHECK(value_of("mix(2, 4, 0.25)") == 2.5);
  CHECK(value_of("pow(2, 10)") == 1024);
  CHECK(value_of("step(1, 0.9)") == 0);
  CHECK(value_of("step(1, 1)") == 1);
  CHECK(value_of("clamp(x, 0, 1)", 3) == 1);
}

TEST_CASE("noise is smooth, bounded, without a mean, and the same each time", "[base][formula]") {
  double sum = 0, squares = 0, steepest = 0, before = value_of("noise(x)", -100);
  constexpr int kSteps = 20000;
  for (int i = 0; i < kSteps; ++i) {
    const double x = -100 + 0.01 * (i + 1), v = value_of("noise(x)", x);
    sum += v;
    squares += v * v;
    steepest = std::max(steepest, std::abs(v - before));
    before = v;
    CHECK(std::abs(v) <= 1);
  }
  // 201 knots even in -1 .. 1: their mean has a standard deviation of 0.04, their square is 1/3, of
  // which blending leaves about 0.8.
  CHECK(std::abs(sum / kSteps) < 0.16);
  CHECK(squares / kSteps == Approx(0.26).margin(0.08));
  CHECK(steepest < 0.01 * 2 * 15.0 / 8 + 1e-9);  // the steepest slope of the blend is 15/8
  CHECK(value_of("noise(x, y)", 1.5, 2.5) == value_of("noise(x, y)", 1.5, 2.5));
  CHECK(value_of("noise(x, y)", 1.5, 2.5) != value_of("noise(x, y)", 2.5, 1.5));
  CHECK(value_of("noise(x, y, 3)", 4, 5) == value_of("noise(x, y, 3)", 4, 5));
  const auto four = Formula::parse("noise(x, y, 1, 2)", {"x", "y"});
  CHECK(std::holds_alternative<FormulaFault>(four));
}

TEST_CASE("an unknown name in a formula lists the functions", "[base][formula]") {
  const auto parsed = Formula::parse("2 * ceil(x)", {"x"});
  REQUIRE(std::holds_alternative<FormulaFault>(parsed));
  const std::string text = std::get<FormulaFault>(parsed).text;
  CHECK(text.find("the variables are x") != std::string::npos);
  CHECK(text.find("smoothstep") != std::string::npos);
}

TEST_CASE("fields of CSV are quoted where they must be", "[base][text]") {
  CHECK(csv_field("plain text") == "plain text");
  CHECK(csv_field("a,b") == "\"a,b\"");
  CHECK(csv_field("a \"b\"") == "\"a \"\"b\"\"\"");
  CHECK(csv_field("a\nb") == "\"a\nb\"");
}
