#include "bench/compare_programs.h"

#include "jovilux/judge/rendered_image.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <stdexcept>

#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

constexpr unsigned kReferenceSeed = 90001;
// Of all pixels, the worst that do not count: single fireflies say little of a picture.
constexpr double kTrimmed = 0.001;
// Pixels darker than this share of the mean count as that bright.
constexpr double kFloor = 0.02;

void run(const std::vector<std::string>& words) {
  std::vector<char*> argv;
  for (const std::string& w : words) {
    argv.push_back(const_cast<char*>(w.c_str()));
  }
  argv.push_back(nullptr);
  pid_t child = 0;
  if (::posix_spawnp(&child, argv[0], nullptr, nullptr, argv.data(), environ) != 0) {
    throw std::runtime_error("cannot start " + words[0]);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  if (!WIFEXITED(status) || WEXITSTATUS(status) != 0) {
    throw std::runtime_error(fmt::format("{} {} failed", words[0], words[2]));
  }
}

std::vector<std::string> render_words(const ProgramComparison& task,
                                      const std::string& program,
                                      const std::string& rig,
                                      const std::string& folder,
                                      double seconds,
                                      unsigned seed) {
  return {program,
          "render",
          rig,
          "-o",
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
}

RenderedImage loaded(const std::string& path) {
  auto image = load_rendered(path, false);
  if (!image) {
    throw std::runtime_error("cannot read " + path);
  }
  return std::move(*image);
}

double squared_error(const RenderedImage& image, const RenderedImage& reference) {
  double mean = 0;
  for (std::size_t i = 0; i < reference.pixels(); ++i) {
    mean += reference.luminance(i) / static_cast<double>(reference.pixels());
  }
  std::vector<double> errors(reference.pixels());
  for (std::size_t i = 0; i < errors.size(); ++i) {
    const double wanted = reference.luminance(i), off = image.luminance(i) - wanted;
    errors[i] = off * off / std::pow(std::max(wanted, kFloor * mean), 2);
  }
  std::sort(errors.begin(), errors.end());
  const auto kept = static_cast<std::size_t>((1 - kTrimmed) * static_cast<double>(errors.size()));
  double sum = 0;
  for (std::size_t i = 0; i < kept; ++i) {
    sum += errors[i];
  }
  return sum / static_cast<double>(kept);
}

}  // namespace

int compare_programs(const ProgramComparison& task) {
  const fs::path scratch =
      fs::temp_directory_path() / fmt::format("jovilux-compare-{}", ::getpid());
  const fs::path references =
      task.references.empty() ? scratch / "references" : fs::path(task.references);
  fs::create_directories(references);
  nlohmann::json out = {{"seconds", task.seconds}, {"rigs", nlohmann::json::array()}};
  double logs = 0;
  std::fprintf(stderr, "%-24s %12s %12s %8s\n", "rig", "before", "after", "ratio");
  for (const std::string& rig : task.rigs) {
    const std::string name = fs::path(rig).stem().string();
    const fs::path reference_file = references / (name + ".exr");
    if (!fs::exists(reference_file)) {
      const fs::path folder = scratch / "reference";
      run(render_words(
          task, task.after, rig, folder.string(), task.reference_seconds, kReferenceSeed));
      fs::copy_file(folder / "image.exr", reference_file);
    }
    const RenderedImage reference = loaded(reference_file.string());
    double before = 0, after = 0;
    for (int round = 0; round < task.rounds; ++round) {
      const auto error_of = [&](const std::string& program) {
        const std::string folder = (scratch / "render").string();
        run(render_words(
            task, program, rig, folder, task.seconds, 11 + static_cast<unsigned>(round)));
        return squared_error(loaded(folder), reference) / task.rounds;
      };
      before += error_of(task.before);
      after += error_of(task.after);
    }
    logs += std::log(before / after);
    std::fprintf(
        stderr, "%-24s %12.3e %12.3e %8.2f\n", name.c_str(), before, after, before / after);
    out["rigs"].push_back(
        {{"rig", name}, {"before", before}, {"after", after}, {"ratio", before / after}});
  }
  const double mean =
      task.rigs.empty() ? 1 : std::exp(logs / static_cast<double>(task.rigs.size()));
  std::fprintf(stderr, "geometric mean of the ratios: %.2f\n", mean);
  out["geometric_mean"] = mean;
  std::printf("%s\n", out.dump(2).c_str());
  std::error_code ignored;
  fs::remove_all(scratch, ignored);
  return 0;
}

}  // namespace jovilux
