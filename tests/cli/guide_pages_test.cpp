// The pages of docs/guide: each command runs, and answers in the form that the page shows.
#include <fstream>
#include <regex>
#include <sstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux::test;
namespace fs = std::filesystem;

namespace {

// A fenced block of a page: ```toml potting.toml, ```sh, ```text.
struct Block {
  std::string kind, name, text;
};

std::vector<Block> blocks_of(const fs::path& page) {
  std::ifstream file(page);
  std::vector<Block> out;
  bool inside = false;
  for (std::string line; std::getline(file, line);) {
    if (line.rfind("```", 0) == 0) {
      inside = !inside;
      if (inside) {
        std::istringstream words(line.substr(3));
        out.emplace_back();
        words >> out.back().kind >> out.back().name;
      }
    } else if (inside) {
      out.back().text += line + "\n";
    }
  }
  return out;
}

// The form of an answer: its words, with # for each number and single spaces.
std::vector<std::string> form_of(const std::string& text) {
  static const std::regex number(R"([-+]?\d+(\.\d+)?(e[-+]?\d+)?)"), space(R"(\s+)");
  std::vector<std::string> out;
  std::istringstream lines(text);
  for (std::string line; std::getline(lines, line);) {
    line = std::regex_replace(std::regex_replace(line, number, "#"), space, " ");
    while (!line.empty() && line.back() == ' ') {
      line.pop_back();
    }
    if (const std::size_t first = line.find_first_not_of(' '); first != std::string::npos) {
      out.push_back(line.substr(first));
    }
  }
  return out;
}

// Whether the lines of an answer have a page's form, in which "..." stands for any lines.
bool has_form(const std::vector<std::string>& answer, const std::vector<std::string>& form) {
  std::size_t at = 0;
  bool skip = false;
  for (const std::string& wanted : form) {
    if (wanted == "...") {
      skip = true;
      continue;
    }
    while (skip && at < answer.size() && answer[at] != wanted) {
      ++at;
    }
    if (at == answer.size() || answer[at] != wanted) {
      return false;
    }
    ++at;
    skip = false;
  }
  return skip || at == answer.size();
}

std::vector<std::string> words_of(const std::string& command) {
  std::vector<std::string> out;
  std::string word;
  bool quoted = false;
  for (const char c : command) {
    if (c == '"') {
      quoted = !quoted;
    } else if (c == ' ' && !quoted) {
      if (!word.empty()) {
        out.push_back(word);
      }
      word.clear();
    } else {
      word += c;
    }
  }
  if (!word.empty()) {
    out.push_back(word);
  }
  return out;
}

// Runs a page's commands in a folder of its own; what differs from the page.
std::string differences(const std::vector<Block>& blocks) {
  const TemporaryFolder dir;
  const fs::path before = fs::current_path();
  fs::current_path(dir.path());
  std::string answer, out;
  for (const Block& b : blocks) {
    if (b.kind == "toml" || b.kind == "obj" || b.kind == "yaml") {
      dir.write(b.name, b.text);
    } else if (b.kind == "sh") {
      answer.clear();
      std::istringstream lines(b.text);
      for (std::string line; std::getline(lines, line);) {
        std::vector<std::string> words = words_of(line);
        if (words.empty() || words.front() != "jovilux") {
          out += "not a command of ours: " + line + "\n";
          continue;
        }
        words.erase(words.begin());
        const ProgramRun run = run_program(words);
        answer += run.out;
        if (run.status != 0 && run.status != 1) {  // 1: a target that is not met
          out += line + " ended with " + std::to_string(run.status) + ": " + run.err + "\n";
        }
      }
    } else if (b.kind == "text" && !has_form(form_of(answer), form_of(b.text))) {
      out += "the page shows\n" + b.text + "\nand the program says\n" + answer + "\n";
    }
  }
  fs::current_path(before);
  return out;
}

}  // namespace

TEST_CASE("the guide's commands answer as its pages show", "[cli][guide-pages]") {
  int pages = 0;
  for (const auto& entry : fs::directory_iterator(fs::path(JOVILUX_SOURCE) / "docs" / "guide")) {
    if (entry.path().extension() != ".md" || entry.path().stem() == "index") {
      continue;
    }
    ++pages;
    const std::vector<Block> blocks = blocks_of(entry.path());
    INFO(entry.path().filename().string());
    CHECK(blocks.size() >= 3);
    CHECK(differences(blocks) == "");
  }
  CHECK(pages >= 14);
}

TEST_CASE("a page that shows another form than the program's answer is found",
          "[cli][guide-pages]") {
  const std::vector<std::string> answer =
      form_of("task  450 lm\n\nnoise: median 1.2 %\nlook at x\n");
  CHECK(has_form(answer, form_of("task 9 lm\nnoise: median 40 %\nlook at x\n")));
  CHECK(has_form(answer, form_of("task 9 lm\n...\nlook at x\n")));
  CHECK_FALSE(has_form(answer, form_of("task 9 cd\n...\nlook at x\n")));
  CHECK_FALSE(has_form(answer, form_of("task 9 lm\nlook at x\n")));
  CHECK_FALSE(has_form(answer, form_of("task 9 lm\nnoise: median 40 %\n")));
  const std::vector<Block> wrong = {{"sh", "", "jovilux convert \"800 lm\" --kind point\n"},
                                    {"text", "", "nothing of the kind\n"}};
  CHECK(differences(wrong) != "");
}
