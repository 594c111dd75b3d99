// The folders' order of dependency (docs/architecture.md), held against the #include lines.
#include <filesystem>
#include <fstream>
#include <map>
#include <regex>
#include <string>

#include <catch2/catch.hpp>

namespace {

namespace fs = std::filesystem;

const std::vector<std::string> kOrder = {"base",
                                         "units",
                                         "color",
                                         "photometry",
                                         "geometry",
                                         "optics",
                                         "emitters",
                                         "rig",
                                         "files",
                                         "scene",
                                         "denoise",
                                         "transport",
                                         "render",
                                         "judge",
                                         "figures",
                                         "ranks",
                                         "cli",
                                         "vdb"};

int rank_of(const std::string& folder) {
  const auto at = std::find(kOrder.begin(), kOrder.end(), folder);
  return at == kOrder.end() ? -1 : static_cast<int>(at - kOrder.begin());
}

// What an include line of our own names: its folder; empty for others.
std::string included_folder(const std::string& line) {
  static const std::regex kInclude(R"(^\s*#\s*include\s*"(?:jovilux/)?([a-z]+)/)");
  std::smatch match;
  return std::regex_search(line, match, kInclude) ? match[1].str() : "";
}

// The fault of one line in a file of `folder`, or empty.
std::string fault(const std::string& folder, const std::string& line) {
  const std::string other = included_folder(line);
  if (other.empty()) {
    return "";
  }
  if (rank_of(other) < 0) {
    return "unknown folder " + other;
  }
  return rank_of(other) > rank_of(folder) ? folder + " looks up to " + other : "";
}

}  // namespace

TEST_CASE("no file includes a folder above its own", "[structure]") {
  const fs::path src = fs::path(JOVILUX_SOURCE) / "src";
  int files = 0, includes = 0;
  for (const auto& entry : fs::recursive_directory_iterator(src)) {
    if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") {
      continue;
    }
    ++files;
    const std::string folder = entry.path().parent_path().filename().string();
    INFO(entry.path());
    REQUIRE(rank_of(folder) >= 0);
    std::ifstream in(entry.path());
    for (std::string line; std::getline(in, line);) {
      includes += included_folder(line).empty() ? 0 : 1;
      CHECK(fault(folder, line) == "");
    }
  }
  CHECK(files > 50);
  CHECK(includes > 100);
}

TEST_CASE("the structural test rejects an include that looks up", "[structure]") {
  CHECK(fault("geometry", "#include \"jovilux/emitters/emitter.h\"") != "");
  CHECK(fault("judge", "#include \"cli/output.h\"") != "");
  CHECK(fault("rig", "#include \"jovilux/base/text.h\"") == "");
  CHECK(fault("base", "#include <vector>") == "");
}

TEST_CASE("the core neither prints nor parses arguments", "[structure]") {
  const std::regex forbidden(R"(\b(printf|puts|fputs|cout|cerr|cxxopts|getopt)\b)");
  for (const auto& entry :
       fs::recursive_directory_iterator(fs::path(JOVILUX_SOURCE) / "src" / "jovilux")) {
    if (entry.path().extension() != ".h" && entry.path().extension() != ".cpp") {
      continue;
    }
    std::ifstream in(entry.path());
    for (std::string line; std::getline(in, line);) {
      INFO(entry.path() << ": " << line);
      CHECK_FALSE(std::regex_search(line, forbidden));
    }
  }
}

TEST_CASE("no name of a test holds a semicolon, which would split it in two that never run",
          "[structure]") {
  const std::regex name(R"re(TEST_CASE\("([^"]*)")re");
  int names = 0;
  for (const auto& entry : fs::recursive_directory_iterator(fs::path(JOVILUX_SOURCE) / "tests")) {
    if (entry.path().extension() != ".cpp") {
      continue;
    }
    std::ifstream in(entry.path());
    for (std::string line; std::getline(in, line);) {
      std::smatch match;
      if (std::regex_search(line, match, name)) {
        ++names;
        INFO(entry.path() << ": " << match[1].str());
        CHECK(match[1].str().find(';') == std::string::npos);
      }
    }
  }
  CHECK(names > 200);
}
