#include "jovilux/units/text.h"

#include <type_traits>

#include <catch2/catch.hpp>

using namespace jovilux;

static_assert(Meters{1.5} / millimeters(1) == 1500.0);
static_assert(!std::is_invocable_v<std::plus<>, Meters, Lux>);  // a sum of both is an error

namespace {

double value(const char* text) { return std::get<Amount>(parse_amount(text)).value; }
std::string fault(const char* text) { return std::get<UnitFault>(parse_amount(text)).text; }

}  // namespace

TEST_CASE("units by the names that people say lead to the unit", "[units]") {
  const std::pair<const char*, const char*> kCalled[] = {{"800 lumens", "write \"800 lm\""},
                                                         {"120 Candela", "write \"120 cd\""},
                                                         {"3000 nits", "write \"3000 nt\""},
                                                         {"40 watts", "write \"40 W\""}};
  for (const auto& [text, hint] : kCalled) {
    INFO(text);
    const auto parsed = parse_amount(text);
    REQUIRE(std::holds_alternative<UnitFault>(parsed));
    CHECK(std::get<UnitFault>(parsed).hint == hint);
  }
  CHECK(std::get<Amount>(parse_amount("1.2 kHz")).value == 1200);
}

TEST_CASE("every accepted unit reads as its SI value", "[units]") {
  CHECK(value("1350 lm") == 1350);
  CHECK(value("1.35klm") == Approx(1350));
  CHECK(value("12cm") == Approx(0.12));
  CHECK(value("3 ft") == Approx(0.9144));
  CHECK(value("2 in") == Approx(0.0508));
  CHECK(value("90 deg") == Approx(1.5707963267948966));
  CHECK(value("90\u00b0") == Approx(1.5707963267948966));
  CHECK(value("0.05 /m") == 0.05);
  CHECK(value("2 /km") == Approx(0.002));
  CHECK(value("370 mired") == Approx(2702.7027));
  CHECK(value("10 fc") == Approx(107.6391));
  CHECK(value("3 kcd/m\u00b2") == Approx(3000));
  CHECK(value("3 nt") == 3);
  CHECK(value("1/60 s") == Approx(1.0 / 60));
  CHECK(value("EV 9") == 9);
  CHECK(value("-2 stops") == -2);
  CHECK(value("30 %") == Approx(0.3));
  CHECK(value("1e3 lx") == 1000);
}

TEST_CASE("a wrong quantity says what is wrong and the nearest unit", "[units]") {
  CHECK(fault("12") == "\"12\" has no unit");
  CHECK(fault("lm 12").find("does not start with a number") != std::string::npos);
  CHECK(fault("12 lmm") == "\"12 lmm\": unknown unit \"lmm\"");
  CHECK(std::get<UnitFault>(parse_amount("12 lmm")).hint == "did you mean \"lm\"?");
  CHECK(fault("1/0 s").find("divides by zero") != std::string::npos);
  CHECK(fault("0 mired").find("above 0") != std::string::npos);
}

TEST_CASE("an output names its distance or efficacy where it needs one", "[units]") {
  const Output lx = std::get<Output>(parse_output("500 lx @ 2 m"));
  CHECK(lx.kind == Output::Kind::kIlluminance);
  CHECK(lx.distance->value == 2);
  const Output w = std::get<Output>(parse_output("18 W@105 lm/W"));
  CHECK(w.kind == Output::Kind::kPower);
  CHECK(w.efficacy.value == 105);
  CHECK(std::holds_alternative<UnitFault>(parse_output("500 lx")));
  CHECK(std::holds_alternative<Output>(parse_output("500 lx", true)));
  CHECK(std::holds_alternative<UnitFault>(parse_output("18 W")));
  CHECK(std::holds_alternative<UnitFault>(parse_output("18 lm @ 2 m")));
  CHECK(std::holds_alternative<UnitFault>(parse_output("-3 lm")));
  CHECK(std::holds_alternative<UnitFault>(parse_output("3 m")));
}

TEST_CASE("lengths are shown in the unit that reads best", "[units]") {
  CHECK(readable_length(0.002) == "2 mm");
  CHECK(readable_length(0.11) == "11 cm");
  CHECK(readable_length(2.5) == "2.5 m");
  CHECK(readable_length(12000) == "12 km");
}
