#include "jovilux/base/text.h"

#include <catch2/catch.hpp>

using namespace jovilux;

TEST_CASE("only whole finite numbers are numbers", "[base][text]") {
  CHECK(parse_number("2.5") == 2.5);
  CHECK(parse_number(" +1e3 ") == 1000);
  CHECK(parse_number("-.5") == -0.5);
  for (const char* bad : {"", " ", "2abc", "nan", "inf", "1e999", "0x10", "1,5", "--1"}) {
    INFO(bad);
    CHECK_FALSE(parse_number(bad));
  }
}

TEST_CASE("edit distance counts insertions, deletions, changes and exchanged neighbours as one",
          "[base][text]") {
  CHECK(edit_distance("", "abc") == 3);
  CHECK(edit_distance("falloff", "falloff") == 0);
  CHECK(edit_distance("faloff", "falloff") == 1);
  CHECK(edit_distance("fallfof", "falloff") == 1);
  CHECK(edit_distance("output", "ouptut") == 1);
  CHECK(edit_distance("kitten", "sitting") == 3);
}

TEST_CASE("the nearest name is offered only when it is near", "[base][text]") {
  const std::vector<std::string> names = {"falloff", "dimmer", "output"};
  CHECK(did_you_mean("fallof", names) == "did you mean \"falloff\"?");
  CHECK(did_you_mean("dimer", names) == "did you mean \"dimmer\"?");
  CHECK(did_you_mean("banana", names).empty());
  CHECK(nearest_name(std::string(5000, 'x'), names).empty());
}

TEST_CASE("numbers for people have four digits and no idle zeros", "[base][text]") {
  CHECK(short_number(19.89437) == "19.89");
  CHECK(short_number(1350) == "1350");
  CHECK(short_number(37994.6) == "37995");
  CHECK(short_number(0.5) == "0.5");
  CHECK(short_number(0) == "0");
  CHECK(short_number(1.6e9) == "1.6e+09");
  CHECK(short_number(-0.000123456) == "-0.0001235");
}

TEST_CASE("printable text holds no control characters and ends at a character's border",
          "[base][text]") {
  CHECK(printable("a\x1b[31mb\n") == "a [31mb ");
  CHECK(printable("\u00e4\u00e4\u00e4", 3) == "\u00e4...");
  CHECK(join_or({"a", "b", "c"}) == "a, b or c");
}
