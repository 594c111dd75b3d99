// The whole demo, small: each step's verb on the orchid house.
#include <algorithm>
#include <filesystem>
#include <string>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using namespace jovilux::test;

TEST_CASE("the demo runs each step and leaves each picture that it names", "[cli][demo]") {
  const TemporaryFolder dir;
  const ProgramRun run =
      run_program({"demo", "--quick", "--width", "40", "--json", "-o", dir.path("demo")});
  INFO(run.err);
  REQUIRE(run.status == 0);
  const auto told = run.json();
  const auto& steps = told["steps"];
  CHECK(steps.size() == 22);
  double seconds = 0;
  for (const auto& step : steps) {
    INFO(step["command"].get<std::string>());
    // 1: a meter misses its goal, or noise its target; the verb has done its work.
    const bool judges = step["command"].get<std::string>().starts_with("jovilux meter") ||
                        step["command"].get<std::string>().starts_with("jovilux noise");
    CHECK(step["status"].get<int>() <= (judges ? 1 : 0));
    seconds += step["seconds"].get<double>();
  }
  CHECK(seconds <= told["seconds"].get<double>());
  CHECK(told["pictures"].size() > 15);
  for (const auto& picture : told["pictures"]) {
    INFO(picture["file"].get<std::string>());
    CHECK(std::filesystem::file_size(picture["file"].get<std::string>()) > 500);
  }

  // Its pictures are as wide as asked for, and the others smaller in proportion.
  const auto width_of = [&](const char* folder) {
    return run_program({"show", dir.path("demo") + "/" + folder, "--json"}).json()["width"];
  };
  CHECK(width_of("wide") == 40);
  CHECK(width_of("bench") == 30);

  const ProgramRun again = run_program({"demo", "--quick", "-o", dir.path("demo")});
  CHECK(again.status == 2);
  CHECK(again.err.find("--force") != std::string::npos);
}

TEST_CASE("the demo's width is checked before anything is written", "[cli][demo]") {
  const TemporaryFolder dir;
  for (const char* width : {"31", "3841", "wide"}) {
    const ProgramRun run = run_program({"demo", "--width", width, "-o", dir.path("demo")});
    CHECK(run.status == 2);
    CHECK(run.err.find("--width") != std::string::npos);
    CHECK_FALSE(std::filesystem::exists(dir.path("demo")));
  }
}
