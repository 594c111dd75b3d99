#include "jovilux/judge/noise_report.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <limits>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "jovilux/base/text.h"
#include "jovilux/files/read_file.h"
#include "jovilux/render/sample_plan.h"

namespace jovilux {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

double number_in(const nlohmann::json& j, const char* key) { return j.is_object() && j.contains(key) && j[key].is_number() ? j[key].get<double>() : kNone; }

double percentile(std::vector<float> v, double share) {
  if (v.empty()) {
    return 0;
  }
  const auto at = static_cast<std::ptrdiff_t>(share * static_cast<double>(v.size() - 1));
  std::nth_element(v.begin(), v.begin() + at, v.end());
  return v[static_cast<std::size_t>(at)];
}

// Pixels that one sample has made bright, as the render counts them.
std::vector<NoiseReport::Firefly> fireflies_of(const RenderedImage& image, double white) {
  std::vector<NoiseReport::Firefly> out;
  std::vector<double> around;
  for (int y = 0; y < image.height; ++y) {
    for (int x = 0; x < image.width; ++x) {
      around.clear();
      for (int v = -1; v <= 1; ++v) {
        for (int u = -1; u <= 1; ++u) {
          if ((u != 0 || v != 0) && x + u >= 0 && y + v >= 0 && x + u < image.width && y + v < image.height) {
            around.push_back(image.luminance(static_cast<std::size_t>(y + v) * static_cast<std::size_t>(image.width) + static_cast<std::size_t>(x + u)));
          }
        }
      }
      const std::size_t n = around.size();
      if (n == 0) {
        continue;
      }
      const std::size_t i = static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) + static_cast<std::size_t>(x);
      std::sort(around.begin(), around.end());
      const double median = n % 2 == 1 ? around[n / 2] : 0.5 * (around[n / 2 - 1] + around[n / 2]), mine = image.luminance(i);
      if (mine > 3 * median && mine > kNoiseFloor * white && std::sqrt(image.variance[i]) >= 0.5 * mine) {
        out.push_back({x, y, median > 0 ? mine / median : std::numeric_limits<double>::infinity()});
      }
    }
  }
  std::sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.times > b.times; });
  return out;
}

void advise(NoiseReport& r, bool has_parts) {
  if (r.p95 <= r.target) {
    r.advice.push_back(fmt::format("clean enough: 95 % of the pixels are below {} %", short_number(100 * r.target, 3)));
    return;
  }
  if (std::isfinite(r.samples_needed)) {
    r.advice.push_back(fmt::format("[render] noise = \"{} %\": about {} samples a pixel where they are shared out by noise, {} s on this machine", short_number(100 * r.target, 3), static_cast<long long>(std::ceil(r.samples_needed)), short_number(r.seconds_needed, 2)));
    r.advice.push_back(fmt::format("or [render] samples = {} for every pixel: noise falls as samples to the power -{:.2f} here", static_cast<long long>(std::ceil(r.even_samples_needed)), r.order));
  }
  if (r.by_light.empty()) {
    return;
  }
  const NoiseReport::Light& worst = r.by_light.front();
  r.advice.push_back(fmt::format("\"{}\" makes {} % of the variance: without it (light.{}.on = false) the picture would be that much cleaner", worst.name, short_number(100 * worst.share, 3), worst.name));
  if (!has_parts) {
    r.advice.push_back("render with [render] layers = \"lights+parts\" to see whether its direct, bounced or haze light does");
    return;
  }
  const auto part = static_cast<std::size_t>(std::max_element(worst.parts.begin(), worst.parts.end()) - worst.parts.begin());
  if (part == 0) {
    r.advice.push_back(fmt::format("its direct light: measure a larger source with  jovilux sweep RIG --vary \"light.{}.radius = ...\"", worst.name));
  } else if (part == 1) {
    r.advice.push_back(fmt::format("its light after bounces: it shines on something near or through glass and mirrors; measure  --vary \"light.{}.cushion = 0 cm .. 10 cm / 3\"  and  --vary \"render.bounces = 1 .. 6 / 6\"", worst.name));
  } else {
    r.advice.push_back(fmt::format("its light in haze: measure a thinner haze, or  --vary \"light.{}.cheat.haze = 0 .. 1 / 3\"", worst.name));
  }
}

}  // namespace

double order_of(const std::vector<NoiseReport::Moment>& history) {
  std::vector<std::pair<double, double>> logs;
  for (const NoiseReport::Moment& m : history) {
    if (m.samples > 0 && m.p95 > 0 && std::isfinite(m.p95)) {
      logs.emplace_back(std::log(m.samples), std::log(m.p95));
    }
  }
  if (logs.size() < 3) {
    return 0.5;
  }
  // A line through the last four.
  const std::size_t first = logs.size() > 4 ? logs.size() - 4 : 0;
  double sx = 0, sy = 0, sxx = 0, sxy = 0;
  const auto n = static_cast<double>(logs.size() - first);
  for (std::size_t i = first; i < logs.size(); ++i) {
    sx += logs[i].first / n;
    sy += logs[i].second / n;
  }
  for (std::size_t i = first; i < logs.size(); ++i) {
    sxx += (logs[i].first - sx) * (logs[i].first - sx);
    sxy += (logs[i].first - sx) * (logs[i].second - sy);
  }
  return sxx > 0 ? std::clamp(-sxy / sxx, 0.35, 1.0) : 0.5;
}

Result<NoiseReport> report_noise(const std::string& folder, double target) {
  auto image = load_rendered(folder, false);
  if (!image) {
    return image.problems();
  }
  if (image->variance.empty()) {
    return Problem{Severity::kError, "no-variance", {image_in(folder), 0, 0}, "", "does not tell its noise", "give a folder made by jovilux render"};
  }
  NoiseReport out;
  out.target = target;
  const std::string stats_file = (std::filesystem::path(image_in(folder)).parent_path() / "stats.json").string();
  nlohmann::json stats;
  if (const auto text = read_file(stats_file, 64U << 20, "bad-stats")) {
    stats = nlohmann::json::parse(*text, nullptr, false);
  }
  const double given = number_in(stats, "white_luminance_cd_m2"), white = std::isfinite(given) ? given : image->shown().white_luminance();
  for (std::size_t i = 0; i < image->pixels(); ++i) {
    out.map.push_back(static_cast<float>(std::sqrt(image->variance[i]) / std::max(image->luminance(i), kNoiseFloor * white)));
  }
  out.median = percentile(out.map, 0.5);
  out.p95 = percentile(out.map, 0.95);
  out.fireflies = fireflies_of(*image, white);
  out.samples = number_in(stats, "samples_per_pixel");
  out.seconds = number_in(stats, "wall_s");
  if (stats.is_object() && stats.contains("history") && stats["history"].is_array()) {
    for (const auto& m : stats["history"]) {
      out.history.push_back({number_in(m, "samples"), number_in(m, "seconds"), number_in(m, "median"), number_in(m, "p95")});
    }
  }
  out.even = image->samples.empty();
  const std::vector<float> taken = out.even ? std::vector<float>(out.map.size(), static_cast<float>(out.samples)) : image->samples;
  const SamplesForTarget plain = samples_for_target(image->width, image->height, out.map, taken, target);
  if (out.even) {
    // As its history goes on; sharing out saves the part that the map tells.
    out.order = order_of(out.history);
    out.even_samples_needed = out.samples * std::pow(out.p95 / target, 1 / out.order);
    out.samples_needed = out.even_samples_needed * std::min(1.0, plain.shared / plain.even);
  } else {
    out.even_samples_needed = plain.even;
    out.samples_needed = out.samples * std::pow(out.p95 / target, 1 / out.order);
  }
  out.seconds_needed = out.seconds * out.samples_needed / out.samples;
  bool has_parts = false;
  double total = 0;
  if (stats.is_object() && stats.contains("lights") && stats["lights"].is_array()) {
    for (const auto& l : stats["lights"]) {
      const double noise = number_in(l, "noise");
      if (!l.is_object() || !l.contains("name") || !l["name"].is_string() || !std::isfinite(noise)) {
        continue;
      }
      NoiseReport::Light light{printable(l["name"].get<std::string>(), 100), noise * noise, {}};
      total += light.share;
      if (l.contains("noise_by_part") && l["noise_by_part"].is_object()) {
        double sum = 0;
        for (const char* part : {"direct", "bounce", "haze"}) {
          const double v = number_in(l["noise_by_part"], part);
          light.parts.push_back(std::isfinite(v) ? v * v : 0);
          sum += light.parts.back();
        }
        for (double& p : light.parts) {
          p = sum > 0 ? p / sum : 0;
        }
        has_parts = true;
      }
      out.by_light.push_back(std::move(light));
    }
  }
  for (NoiseReport::Light& l : out.by_light) {
    l.share = total > 0 ? l.share / total : 0;
  }
  std::stable_sort(out.by_light.begin(), out.by_light.end(), [](const auto& a, const auto& b) { return a.share > b.share; });
  advise(out, has_parts);
  return out;
}

}  // namespace jovilux
