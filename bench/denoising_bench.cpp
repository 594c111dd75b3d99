#include "bench/denoising_bench.h"

#include "jovilux/files/json.h"
#include "jovilux/judge/denoising.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <numeric>
#include <stdexcept>

#include "bench/judged_picture.h"
#include <fmt/format.h>

namespace jovilux {
namespace {

// Squared errors over the square of the reference, each less the reference's own variance.
std::vector<double> squared_errors(const RenderedImage& image, const RenderedImage& reference) {
  double mean = 0;
  for (std::size_t i = 0; i < reference.pixels(); ++i) {
    mean += reference.luminance(i) / static_cast<double>(reference.pixels());
  }
  std::vector<double> out(reference.pixels());
  for (std::size_t i = 0; i < out.size(); ++i) {
    const double l = reference.luminance(i) + kFloor * mean,
                 off = image.luminance(i) - reference.luminance(i);
    out[i] = (off * off - static_cast<double>(reference.variance[i])) / (l * l);
  }
  return out;
}

double mean_of(std::vector<double> errors, double trimmed) {
  std::sort(errors.begin(), errors.end());
  const auto kept = static_cast<std::ptrdiff_t>((1 - trimmed) * static_cast<double>(errors.size()));
  return std::accumulate(errors.begin(), errors.begin() + kept, 0.0) / static_cast<double>(kept);
}

// "shade-64" is the shade.
std::string picture_of(const std::string& folder) {
  const std::string name = std::filesystem::path(folder).filename().string();
  const std::size_t dash = name.rfind('-');
  const bool numbered = dash != std::string::npos && dash + 1 < name.size() &&
                        name.find_first_not_of("0123456789", dash + 1) == std::string::npos;
  return numbered ? name.substr(0, dash) : name;
}

double samples_of_render(const std::string& folder) {
  std::ifstream file(std::filesystem::path(folder) / "stats.json");
  return Json::parse(file).at("samples_per_pixel");
}

Json compare(const std::string& folder, const std::string& reference_folder) {
  auto report = denoise_render(folder);
  if (!report) {
    throw std::runtime_error("cannot denoise " + folder);
  }
  const RenderedImage traced = loaded(folder), reference = loaded(reference_folder),
                      denoised = loaded((std::filesystem::path(folder) / "denoised.exr").string());
  const std::vector<double> before = squared_errors(traced, reference),
                            after = squared_errors(denoised, reference);
  std::vector<double> told(after.size());
  double mean = 0;
  for (std::size_t i = 0; i < told.size(); ++i) {
    mean += reference.luminance(i) / static_cast<double>(told.size());
  }
  for (std::size_t i = 0; i < told.size(); ++i) {
    const double l = reference.luminance(i) + kFloor * mean;
    told[i] = static_cast<double>(denoised.variance[i]) / (l * l);
  }
  std::vector<std::size_t> order(told.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::sort(order.begin(), order.end(), [&](auto a, auto b) { return told[a] < told[b]; });
  std::string tenths;
  for (std::size_t tenth = 0; tenth < 10; ++tenth) {
    double said = 0, is = 0;
    for (std::size_t k = tenth * order.size() / 10; k < (tenth + 1) * order.size() / 10; ++k) {
      said += told[order[k]];
      is += after[order[k]];
    }
    // Where the reference's own noise is larger, the true error is not known.
    tenths += is > 0 ? fmt::format(" {:.2f}", std::sqrt(said / is)) : "    -";
  }
  const double all_told = std::accumulate(told.begin(), told.end(), 0.0),
               all_true = std::accumulate(after.begin(), after.end(), 0.0);
  const double gain = mean_of(before, kTrimmed) / mean_of(after, kTrimmed),
               gain_of_all = mean_of(before, 0) / mean_of(after, 0),
               told_over_true = std::sqrt(all_told / std::max(all_true, 1e-300));
  std::fprintf(stderr,
               "%s\n",
               fmt::format("{:<28} {:8.2f} {:8.2f} {:8.2f} {:6.2f} s  {}",
                           std::filesystem::path(folder).filename().string(),
                           gain,
                           gain_of_all,
                           told_over_true,
                           report->seconds,
                           tenths)
                   .c_str());
  return {{"picture", picture_of(folder)},
          {"samples", std::lround(samples_of_render(folder))},
          {"gain", gain},
          {"gain_of_all", gain_of_all},
          {"told", told_over_true},
          {"seconds", report->seconds}};
}

}  // namespace

int denoising_bench(const std::string& commit, const std::vector<std::string>& pairs) {
  std::fprintf(stderr,
               "%-28s %8s %8s %8s %8s  %s\n",
               "render",
               "better",
               "with all",
               "told",
               "time",
               "told / true by tenths");
  Json renders = Json::array();
  for (std::size_t i = 0; i + 1 < pairs.size(); i += 2) {
    renders.push_back(compare(pairs[i], pairs[i + 1]));
  }
  std::printf(
      "%s\n",
      Json({{"kind", "denoising"}, {"commit", commit}, {"renders", renders}}).dump().c_str());
  return 0;
}

}  // namespace jovilux
