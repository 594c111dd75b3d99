#include "bench/compare_programs.h"

#include "jovilux/files/child_process.h"
#include "jovilux/files/json.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <sstream>
#include <stdexcept>

#include "bench/judged_picture.h"
#include "bench/squared_error.h"
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

constexpr unsigned kReferenceSeed = 90001;

void run(const std::vector<std::string>& words) {
  ChildProcess program(words[0], {words.begin() + 1, words.end()});
  std::array<char, 4096> ignored{};
  while (::read(program.output(), ignored.data(), ignored.size()) > 0) {
  }
  std::string said;
  if (program.wait(said) != 0) {
    throw std::runtime_error(fmt::format("{} {} failed: {}", words[0], words[2], said));
  }
}

std::vector<std::string> render_words(const ProgramComparison& task,
                                      const std::string& program,
                                      const std::string& rig,
                                      const std::string& folder,
                                      double seconds,
                                      unsigned seed) {
  std::vector<std::string> words = {program, "render"};
  std::istringstream options(rig);
  for (std::string word; options >> word;) {
    words.push_back(word);
  }
  const std::vector<std::string> rest = {"-o",
                                         folder,
                                         "--force",
                                         "--json",
                                         "--quiet",
                                         "--samples",
                                         "1000000",
                                         "--set",
                                         fmt::format("render.seed={}", seed),
                                         "--threads",
                                         std::to_string(task.threads),
                                         "--time-limit",
                                         fmt::format("{}s", seconds)};
  words.insert(words.end(), rest.begin(), rest.end());
  return words;
}

// A short name of a rig with its options, fit for a file: "orchid-house --camera wide".
std::string name_of(const std::string& rig) {
  const std::size_t space = rig.find(' ');
  std::string name = fs::path(rig.substr(0, space)).stem().string();
  for (const char c : space == std::string::npos ? "" : rig.substr(space)) {
    name += c == ' ' || c == '/' ? '_' : c;
  }
  return name;
}

// A rig with its options, without the size: "orchid-house --camera wide".
std::string scene_of(const std::string& rig) {
  std::istringstream words(rig);
  std::string word, out;
  for (bool first = true; words >> word; first = false) {
    if (word == "--size") {
      words >> word;
    } else {
      out += first ? fs::path(word).stem().string() : " " + word;
    }
  }
  return out;
}

// "160 x 90" where the options say so, or the rig's own.
std::string size_of(const std::string& rig) {
  std::istringstream words(rig);
  for (std::string word; words >> word;) {
    if (word == "--size" && words >> word) {
      return fmt::format(
          "{} x {}", word.substr(0, word.find('x')), word.substr(word.find('x') + 1));
    }
  }
  return "own size";
}

double samples_of(const fs::path& folder) {
  const double samples =
      number_in(read_json((folder / "stats.json").string()), "samples_per_pixel");
  return std::isfinite(samples) ? samples : 0;
}

// What one program's renders of a rig come to: squared error and samples a pixel, in the mean.
struct Side {
  double error = 0, samples = 0;
};

}  // namespace

int compare_programs(const ProgramComparison& task) {
  const fs::path scratch =
      fs::temp_directory_path() / fmt::format("jovilux-compare-{}", ::getpid());
  const fs::path references =
      task.references.empty() ? scratch / "references" : fs::path(task.references);
  fs::create_directories(references);
  Json out = {{"kind", "gain"},
              {"before", task.before_commit},
              {"after", task.after_commit},
              {"seconds", task.seconds},
              {"threads", task.threads},
              {"rigs", Json::array()}};
  double logs = 0;
  std::fprintf(stderr, "%-24s %12s %12s %8s\n", "rig", "before", "after", "ratio");
  for (const std::string& rig : task.rigs) {
    const std::string name = name_of(rig);
    const fs::path reference_file = references / (name + ".exr");
    if (!fs::exists(reference_file)) {
      const fs::path folder = scratch / "reference";
      run(render_words(
          task, task.after, rig, folder.string(), task.reference_seconds, kReferenceSeed));
      fs::copy_file(folder / "image.exr", reference_file);
    }
    const RenderedImage reference = loaded(reference_file.string());
    Side before, after;
    for (int round = 0; round < task.rounds; ++round) {
      const auto judge = [&](const std::string& program, Side& side) {
        const std::string folder = (scratch / "render").string();
        run(render_words(
            task, program, rig, folder, task.seconds, 11 + static_cast<unsigned>(round)));
        side.error += squared_error(loaded(folder), reference) / task.rounds;
        side.samples += samples_of(folder) / task.rounds;
      };
      judge(task.before, before);
      judge(task.after, after);
    }
    const double ratio = before.error / after.error;
    logs += std::log(ratio);
    std::fprintf(stderr,
                 "%-24s %12.3e %12.3e %8.2f   samples %.1f, %.1f\n",
                 name.c_str(),
                 before.error,
                 after.error,
                 ratio,
                 before.samples,
                 after.samples);
    out["rigs"].push_back({{"scene", scene_of(rig)},
                           {"size", size_of(rig)},
                           {"before", before.error},
                           {"after", after.error},
                           {"ratio", ratio},
                           {"samples_before", before.samples},
                           {"samples_after", after.samples}});
  }
  const double mean =
      task.rigs.empty() ? 1 : std::exp(logs / static_cast<double>(task.rigs.size()));
  std::fprintf(stderr, "geometric mean of the ratios: %.2f\n", mean);
  out["geometric_mean"] = mean;
  std::printf("%s\n", out.dump().c_str());
  std::error_code ignored;
  fs::remove_all(scratch, ignored);
  return 0;
}

}  // namespace jovilux
