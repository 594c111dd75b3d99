#include "bench/track.h"

#include "jovilux/base/sampler.h"
#include "jovilux/render/renderer.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <numeric>
#include <stdexcept>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux {
namespace {

using Json = nlohmann::ordered_json;

// Square roots, and steps through 32 MB in no order: what rays are made of. Returns a value that
// depends on all of it.
double yardstick_work(const std::vector<std::uint32_t>& next) {
  double sum = 0;
  std::uint32_t at = 0;
  for (int i = 0; i < 3'000'000; ++i) {
    at = next[at];
    sum += std::sqrt(static_cast<double>(at) + sum * 1e-9);
  }
  return sum;
}

// [s]
double yardstick_seconds() {
  static const std::vector<std::uint32_t> kNext = [] {
    std::vector<std::uint32_t> order(8U << 20);
    std::iota(order.begin(), order.end(), 0U);
    Rng rng(1);
    for (std::size_t i = order.size() - 1; i > 0; --i) {  // one cycle through all (Sattolo)
      std::swap(order[i], order[static_cast<std::size_t>(rng.uniform() * static_cast<double>(i))]);
    }
    return order;
  }();
  const auto start = std::chrono::steady_clock::now();
  volatile double kept = yardstick_work(kNext);
  static_cast<void>(kept);
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

}  // namespace

int track_rates(const std::string& commit, const std::vector<std::string>& rigs) {
  constexpr int kRuns = 3;
  Json rates = Json::object();
  for (const std::string& file : rigs) {
    RigRequest request;
    request.overrides = {"render.size=[96, 54]", "render.samples=16"};
    const auto rig = load_rig(file, request);
    const auto scene = rig ? prepare_scene(*rig) : Result<Scene>(rig.problems());
    if (!scene) {
      throw std::runtime_error(to_string(scene.problems()[0]));
    }
    RenderOptions options;
    options.threads = 1;
    double best = 0;
    for (int run = 0; run < kRuns; ++run) {
      const double before = yardstick_seconds();
      const Render done = render(*rig, *scene, options);
      const double yardstick = 0.5 * (before + yardstick_seconds());
      const double samples = done.stats.samples_per_pixel * rig->render.width * rig->render.height;
      best = std::max(best, samples * yardstick / done.stats.wall_s);
    }
    rates[std::filesystem::path(file).stem().string()] = std::round(best);
  }
  std::printf("%s\n", Json({{"commit", commit}, {"samples_per_yardstick", rates}}).dump().c_str());
  return 0;
}

int print_rates(const std::string& file) {
  std::ifstream in(file);
  if (!in) {
    throw std::runtime_error("cannot open " + file);
  }
  std::vector<Json> lines;
  std::vector<std::string> scenes;  // in the order of their first line
  for (std::string line; std::getline(in, line);) {
    lines.push_back(Json::parse(line));
    for (const auto& [scene, rate] : lines.back().at("samples_per_yardstick").items()) {
      if (std::find(scenes.begin(), scenes.end(), scene) == scenes.end()) {
        scenes.push_back(scene);
      }
    }
  }
  std::string head = "| commit |", rule = "| --- |", rows;
  for (const std::string& scene : scenes) {
    head += " " + scene + " |";
    rule += " --- |";
  }
  for (const Json& line : lines) {
    rows += "| " + line.at("commit").get<std::string>() + " |";
    for (const std::string& scene : scenes) {
      const Json& rates = line["samples_per_yardstick"];
      rows += rates.contains(scene) ? fmt::format(" {:.0f} |", rates[scene].get<double>()) : " - |";
    }
    rows += "\n";
  }
  std::printf("%s\n%s\n%s", head.c_str(), rule.c_str(), rows.c_str());
  return 0;
}

}  // namespace jovilux
