// docs/commands.md and the program's own help name the same verbs and options.
#include <filesystem>
#include <fstream>
#include <map>
#include <regex>
#include <set>
#include <sstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux::test;
namespace fs = std::filesystem;

namespace {

std::string file_text(const fs::path& path) {
  std::ifstream in(path);
  std::ostringstream out;
  out << in.rdbuf();
  return out.str();
}

std::set<std::string> options_in(const std::string& text) {
  static const std::regex option("--[a-z][a-z-]*");
  std::set<std::string> out;
  for (std::sregex_iterator it(text.begin(), text.end(), option), end; it != end; ++it) {
    out.insert(it->str());
  }
  return out;
}

// What the help's list of options names, one line each.
std::set<std::string> options_of_help(const std::string& help) {
  static const std::regex line("^ +(?:-[a-z], )?(--[a-z][a-z-]*)");
  std::set<std::string> out;
  std::istringstream lines(help);
  for (std::string l; std::getline(lines, l);) {
    std::smatch found;
    if (std::regex_search(l, found, line)) {
      out.insert(found[1]);
    }
  }
  return out;
}

// Of each verb the heading of its section and the text below.
std::map<std::string, std::pair<std::string, std::string>> sections() {
  std::map<std::string, std::pair<std::string, std::string>> out;
  std::istringstream lines(file_text(fs::path(JOVILUX_SOURCE) / "docs" / "commands.md"));
  std::string verb;
  for (std::string l; std::getline(lines, l);) {
    if (l.rfind("## ", 0) == 0) {
      verb = l.substr(3, l.find(' ', 3) - 3);
      out[verb].first = l;
    } else if (!verb.empty()) {
      out[verb].second += l + "\n";
    }
  }
  out.erase("Rules");
  return out;
}

// Told once for all verbs, under "Rules for every verb".
const std::set<std::string> kEveryVerb = {
    "--output", "--set", "--variant", "--threads", "--json", "--help", "--force", "--quiet"};

}  // namespace

TEST_CASE("the docs of verbs and the help of the program name the same options", "[cli][docs]") {
  const auto docs = sections();
  const ProgramRun all = run_program({"--help"});
  REQUIRE(all.status == 0);
  int verbs = 0;
  for (const auto& [verb, section] : docs) {
    INFO(verb);
    CHECK(all.out.find("\n  " + verb + " ") != std::string::npos);
    const ProgramRun run = run_program({verb, "--help"});
    REQUIRE(run.status == 0);
    ++verbs;
    const std::set<std::string> of_help = options_of_help(run.out),
                                of_section = options_in(section.first + section.second);
    for (const std::string& option : of_help) {
      INFO(option << " is in the help and not in the docs");
      CHECK((kEveryVerb.count(option) > 0 || of_section.count(option) > 0));
    }
    for (const std::string& option : options_in(section.first)) {
      INFO(option << " is in the heading of the docs and not in the help");
      CHECK(of_help.count(option) > 0);
    }
  }
  CHECK(verbs >= 25);
}
