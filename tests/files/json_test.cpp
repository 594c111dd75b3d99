// JSON in one place: what is read from files that may hold anything, and what is written.
#include "jovilux/files/json.h"

#include <cmath>
#include <limits>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

TEST_CASE("malformed JSON is discarded, and a missing file is null", "[files][json]") {
  const TemporaryFolder dir;
  CHECK(parse_json("{\"a\": 1").is_discarded());
  CHECK(parse_json("").is_discarded());
  CHECK(read_json(dir.path("none.json")).is_null());
  CHECK(read_json(dir.write("bad.json", "[1, 2")).is_discarded());
  CHECK(read_json(dir.write("good.json", "{\"b\": 2, \"a\": [1]}")) ==
        parse_json("{\"b\":2,\"a\":[1]}"));
}

TEST_CASE("values of another kind count as missing", "[files][json]") {
  const Json j = parse_json(R"({"n": 2.5, "whole": 3, "t": "x", "l": [1, 2], "null": null})");
  CHECK(number_in(j, "n") == 2.5);
  CHECK(number_in(j, "whole") == 3);
  CHECK(text_in(j, "t") == "x");
  CHECK(list_in(j, "l").size() == 2);
  for (const char* key : {"t", "l", "null", "missing"}) {
    CHECK(std::isnan(number_in(j, key)));
  }
  for (const char* key : {"n", "l", "null", "missing"}) {
    CHECK(text_in(j, key).empty());
  }
  for (const char* key : {"n", "t", "null", "missing"}) {
    CHECK(list_in(j, key).empty());
    CHECK(list_in(j, key).is_array());
  }
  // What is no object has no keys.
  for (const Json& other : {Json(), Json(1), Json("n"), Json::array({1}), parse_json("{")}) {
    CHECK(std::isnan(number_in(other, "n")));
    CHECK(text_in(other, "t").empty());
    CHECK(list_in(other, "l").empty());
  }
}

TEST_CASE("JSON is written in the order of its keys, without bytes or numbers it cannot have",
          "[files][json]") {
  constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
  const Json j = {{"z", number_or_null(kNone)},
                  {"a", number_or_null(1.5)},
                  {"i", number_or_null(std::numeric_limits<double>::infinity())},
                  {"o", number_or_null(std::optional<double>())},
                  {"bytes",
                   "a\xff"
                   "b"}};
  CHECK(json_text(j, -1) ==
        "{\"z\":null,\"a\":1.5,\"i\":null,\"o\":null,\"bytes\":\"a\xEF\xBF\xBD"
        "b\"}\n");
  CHECK(json_text({{"a", 1}}) == "{\n  \"a\": 1\n}\n");
  CHECK(parse_json(json_text(j)) == parse_json(json_text(j, -1)));
}
