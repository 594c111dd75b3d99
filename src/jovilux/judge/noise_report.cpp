#include "jovilux/judge/noise_report.h"

#include "jovilux/base/statistics.h"
#include "jovilux/base/text.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/render/fireflies.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/sample_plan.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <limits>

#include <fmt/format.h>

namespace jovilux {
namespace {

// Pixels that one sample has made bright, as the render counts them; each against the median of its
// neighbors.
std::vector<NoiseReport::Firefly> fireflies_of(const RenderedImage& image, double white) {
  std::vector<NoiseReport::Firefly> out;
  const double floor = std::max(kNoiseFloor * white, 1e-12);
  const auto at = [&](int x, int y) {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) +
           static_cast<std::size_t>(x);
  };
  const auto luminance = [&](int x, int y) { return image.luminance(at(x, y)); };
  each_firefly(
      image.width,
      image.height,
      floor,
      luminance,
      [&](int x, int y) {
        return std::sqrt(static_cast<double>(image.variance[at(x, y)])) /
               std::max(luminance(x, y), floor);
      },
      [&](int x, int y) {
        std::vector<double> around;
        for (int v = std::max(y - 1, 0); v <= std::min(y + 1, image.height - 1); ++v) {
          for (int u = std::max(x - 1, 0); u <= std::min(x + 1, image.width - 1); ++u) {
            if (u != x || v != y) {
              around.push_back(luminance(u, v));
            }
          }
        }
        const double median = percentile(around, 0.5);
        out.push_back(
            {x,
             y,
             median > 0 ? luminance(x, y) / median : std::numeric_limits<double>::infinity()});
      });
  std::sort(out.begin(), out.end(), [](const auto& a, const auto& b) { return a.times > b.times; });
  return out;
}

// A length as a rig has it: "10 cm".
std::string length_text(double m) {
  return m < 0.01 ? fmt::format("\"{} mm\"", short_number(1000 * m, 3))
                  : fmt::format("\"{} cm\"", short_number(100 * m, 3));
}

// Whether a light's output is in cd/m2: a larger source would give more light.
bool given_as_luminance(const Rig& rig, const std::string& name) {
  const DocumentNode* lights = rig.document.find("light");
  if (lights == nullptr || !lights->is_array()) {
    return false;
  }
  for (const DocumentNode& l : lights->array()) {
    const DocumentNode *its = l.find("name"), *output = l.find("output");
    if (its != nullptr && its->is_text() && its->text() == name) {
      return output != nullptr && output->is_text() &&
             output->text().find("cd/m") != std::string::npos;
    }
  }
  return false;
}

// A setting to try, unless another light has asked for it.
void add_change(NoiseReport& r,
                const std::string& address,
                const std::string& value,
                const std::string& why) {
  if (std::none_of(r.changes.begin(), r.changes.end(), [&](const auto& c) {
        return c.address == address;
      })) {
    r.changes.push_back({address, value, why, 0});
  }
}

// Which part of the light makes the noise, in words, `whose` being "NAME makes 40 % of the noise".
std::string part_in_words(Part part, const std::string& whose, const std::string& share) {
  switch (part) {
    case Part::kDirect:
      return fmt::format(
          "{}, {} % of it by its direct light, from soft shadows, highlights and the "
          "choice among lights: more samples are the cure",
          whose,
          share);
    case Part::kCaustic:
      return fmt::format(
          "{}, {} % of it by its caustics, what gloss, glass and mirrors throw on other surfaces",
          whose,
          share);
    case Part::kHaze:
      return fmt::format("{}, {} % of it by its light in haze", whose, share);
    default:
      return fmt::format(
          "{}, {} % of it by its light after bounces: what it shines on closely "
          "shows up in few paths",
          whose,
          share);
  }
}

// A softer or larger source, and a limit to what one path brings.
void change_light(NoiseReport& r, const LightSpec& light, const Rig& rig) {
  const std::string address = "light." + light.name;
  if (!is_distant(light.shape.kind)) {
    const double radius = light.shape.radius;
    const double near_softening = std::max({0.05, 3 * radius, 2.0 * light.falloff.near_softening});
    add_change(
        r,
        address + ".near_softening",
        length_text(near_softening),
        "tames the bright spot on what is near it; a departure from physics that check tells");
    if ((light.shape.kind == LightKind::kSphere || light.shape.kind == LightKind::kDisk) &&
        radius > 0 && !given_as_luminance(rig, light.name)) {
      add_change(
          r, address + ".radius", length_text(2 * radius), "a larger source of the same output");
    }
  }
  if (!r.fireflies.empty() && !light.cheat.bounce_limit && r.white > 0) {
    add_change(r,
               address + ".cheat.bounce_limit",
               fmt::format("\"{} cd/m2\"", short_number(4 * r.white, 2)),
               "holds each path of its bounced light to four times the white; render tells how "
               "much that takes away");
  }
}

// What would lower the noise of a light's part. `light`: null where the rig does not have it.
void add_changes(NoiseReport& r, Part part, const LightSpec* light, const Rig* rig) {
  if (part == Part::kDirect) {
    return;
  }
  if (part == Part::kHaze) {
    if (light != nullptr) {
      add_change(r,
                 "light." + light->name + ".cheat.haze",
                 short_number(0.5 * light->cheat.haze),
                 "half of it in the haze; a thinner haze does the same for all lights");
    }
    return;
  }
  if (part == Part::kCaustic) {
    if (rig != nullptr && !rig->render.light_tracing) {
      add_change(r,
                 "render.light_tracing",
                 "true",
                 "traces paths from the lights through glass and mirrors, not from the camera "
                 "alone");
    }
    if (light != nullptr) {
      add_change(r,
                 "light." + light->name + ".cheat.caustics",
                 "0",
                 "without what gloss, glass and mirrors throw on other surfaces");
    }
  }
  if (light != nullptr) {
    change_light(r, *light, *rig);
  }
  if (rig != nullptr && rig->render.bounces > 1) {
    add_change(r,
               "render.bounces",
               std::to_string(rig->render.bounces / 2),
               "fewer scatterings: less of the bounced light, and less of its noise");
  }
}

// What would help against one light's noise, told by its direct, bounced, caustic and haze light.
void advise_on(NoiseReport& r,
               const NoiseReport::Light& worst,
               const std::string& whose,
               const std::vector<double>& parts,
               bool has_parts,
               const Rig* rig) {
  if (!has_parts || parts.empty()) {
    r.advice.push_back(whose +
                       "; render with [render] layers = \"lights+parts\" to see whether its "
                       "direct, bounced, caustic or haze light does");
    return;
  }
  const auto index = std::max_element(parts.begin(), parts.end()) - parts.begin();
  const auto part = static_cast<Part>(index);
  r.advice.push_back(
      part_in_words(part, whose, short_number(100 * parts[static_cast<std::size_t>(index)], 3)));
  const LightSpec* light = nullptr;
  for (std::size_t i = 0; rig != nullptr && i < rig->lights.size(); ++i) {
    light = rig->lights[i].name == worst.name ? &rig->lights[i] : light;
  }
  add_changes(r, part, light, rig);
}

void advise(NoiseReport& r, bool has_parts, const Rig* rig) {
  if (r.p95 <= r.target) {
    r.advice.push_back(
        r.black ? std::string("the picture is black: no light was found, so that nothing is "
                              "known of its noise; jovilux why tells what keeps the lights "
                              "away")
                : fmt::format("clean enough: 95 % of the pixels are below {} %",
                              short_number(100 * r.target, 3)));
    return;
  }
  if (std::isfinite(r.samples_needed) && std::isfinite(r.even_samples_needed)) {
    r.advice.push_back(
        fmt::format("[render] noise = \"{} %\": about {:.0f} samples a pixel where they are shared "
                    "out by noise, {} s on this machine",
                    short_number(100 * r.target, 3),
                    std::ceil(r.samples_needed),
                    short_number(r.seconds_needed, 2)));
    r.advice.push_back(
        fmt::format("or [render] samples = {:.0f} for every pixel: noise falls as samples to the "
                    "power -{:.2f} here",
                    std::ceil(r.even_samples_needed),
                    r.order));
  }
  if (r.by_light.empty()) {
    return;
  }
  // The light that the measure suffers from most, and the one with most variance where that is
  // another.
  const NoiseReport::Light& first =
      *std::max_element(r.by_light.begin(), r.by_light.end(), [](const auto& a, const auto& b) {
        return a.noise_share < b.noise_share;
      });
  advise_on(
      r,
      first,
      fmt::format(
          "\"{}\" makes {} % of the noise", first.name, short_number(100 * first.noise_share, 3)),
      first.noise_parts,
      has_parts,
      rig);
  const NoiseReport::Light& second = r.by_light.front();
  if (second.name != first.name && second.share > 0.5) {
    advise_on(r,
              second,
              fmt::format("\"{}\" makes {} % of the variance in cd/m2, in bright places",
                          second.name,
                          short_number(100 * second.share, 3)),
              second.parts,
              has_parts,
              rig);
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

Result<double> try_changes(const std::string& folder,
                           std::vector<NoiseReport::Change>& changes,
                           int threads,
                           const StopFn& stop,
                           const ProgressFn& progress) {
  constexpr double kPixels = 40000;
  constexpr int kSamples = 64;
  const std::string image = image_in(folder),
                    rig_file =
                        (std::filesystem::path(image).parent_path() / "rig.resolved.toml").string();
  std::string camera;
  if (const auto file = ExrReader::open(image)) {
    const auto name = file->header().texts.find(kCameraAttribute);
    camera = name != file->header().texts.end() ? name->second : "";
  }
  std::size_t rendered = 0;
  const auto start = std::chrono::steady_clock::now();
  const auto noise_with = [&](const std::vector<std::string>& overrides) -> Result<double> {
    RigRequest request;
    request.overrides = overrides;
    auto rig = load_rig(rig_file, request);
    if (!rig) {
      return rig.problems();
    }
    RenderOptions options;
    for (std::size_t c = 0; c < rig->cameras.size(); ++c) {
      options.camera = rig->cameras[c].name == camera ? static_cast<int>(c) : options.camera;
    }
    const double shrink = std::min(
        1.0, std::sqrt(kPixels / (static_cast<double>(rig->render.width) * rig->render.height)));
    rig->render.width = std::max(1, static_cast<int>(rig->render.width * shrink));
    rig->render.height = std::max(1, static_cast<int>(rig->render.height * shrink));
    rig->render.samples = std::min(rig->render.samples, kSamples);
    rig->render.noise.reset();
    rig->render.layers = RenderSpec::Layers::kLights;
    const auto scene = prepare_scene(*rig, options.camera);
    if (!scene) {
      return scene.problems();
    }
    options.threads = threads;
    options.stop = stop;
    if (progress) {
      options.progress = [&](const Progress& of_one) {
        Progress all = of_one;
        all.done =
            (static_cast<double>(rendered) + of_one.done) / static_cast<double>(changes.size() + 1);
        all.seconds =
            std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
        progress(all);
      };
    }
    return render(*rig, *scene, options).stats.noise.p95;
  };
  auto before = noise_with({});
  for (std::size_t i = 0; before && i < changes.size() && !(stop && stop()); ++i) {
    ++rendered;
    const auto with = noise_with({changes[i].address + "=" + changes[i].value});
    if (!with) {
      return with.problems();
    }
    changes[i].p95 = *with;
  }
  return before;
}

namespace {

// Each pixel's noise, and what they come to.
void measure_pixels(NoiseReport& out, const RenderedImage& image) {
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    const double noise =
        std::sqrt(image.variance[i]) / std::max(image.luminance(i), kNoiseFloor * out.white);
    // A file may hold anything.
    out.map.push_back(noise >= 0 ? static_cast<float>(noise)
                                 : std::numeric_limits<float>::infinity());
  }
  out.black = std::all_of(image.rgb.begin(), image.rgb.end(), [](float v) { return v == 0; });
  out.median = percentile(out.map, 0.5);
  out.p95 = percentile(out.map, 0.95);
  out.fireflies = fireflies_of(image, out.white);
}

void read_history(NoiseReport& out, const Json& stats) {
  constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
  const auto above_zero = [](double v) { return v > 0 ? v : kNone; };
  out.samples = above_zero(number_in(stats, "samples_per_pixel"));
  out.seconds = above_zero(number_in(stats, "wall_s"));
  for (const auto& m : list_in(stats, "history")) {
    const NoiseReport::Moment moment{number_in(m, "samples"),
                                     number_in(m, "seconds"),
                                     number_in(m, "median"),
                                     number_in(m, "p95")};
    if (moment.samples > 0 && moment.p95 > 0) {
      out.history.push_back(moment);
    }
  }
}

// Samples and seconds that the target takes.
void forecast(NoiseReport& out, const RenderedImage& image) {
  out.even = image.samples.empty();
  const std::vector<float> taken =
      out.even ? std::vector<float>(out.map.size(), static_cast<float>(out.samples))
               : image.samples;
  const SamplesForTarget plain =
      samples_for_target(image.width, image.height, out.map, taken, out.target);
  if (out.even) {
    // As its history goes on; sharing out saves the part that the map tells.
    out.order = order_of(out.history);
    out.even_samples_needed = out.samples * std::pow(out.p95 / out.target, 1 / out.order);
    out.samples_needed = out.even_samples_needed * std::min(1.0, plain.shared / plain.even);
  } else {
    out.even_samples_needed = plain.even;
    out.samples_needed = out.samples * std::pow(out.p95 / out.target, 1 / out.order);
  }
  out.seconds_needed = out.seconds * out.samples_needed / out.samples;
}

// What denoising leaves, where there is a denoised picture beside.
Problems measure_denoised(NoiseReport& out, const std::string& folder) {
  std::error_code ec;
  if (!std::filesystem::exists(image_in(folder, true), ec) || image_in(folder, true) == folder) {
    return {};
  }
  const auto denoised = load_rendered(folder, false, true);
  if (!denoised) {
    return denoised.problems();
  }
  // The error that is left falls more slowly than noise. Measured over eight scenes from 16 to 64
  // samples: its 95th percentile as samples to minus 0.26 to 0.8, 0.43 in the median.
  constexpr double kOrder = 0.43;
  const ImageNoise left = noise_of(*denoised);
  out.denoised = NoiseReport::Denoised{
      left.median, left.p95, out.samples * std::pow(left.p95 / out.target, 1 / kOrder)};
  return {};
}

// The parts of a light's variance, of 1 together; empty where they are not told.
std::vector<double> shares_of_parts(const Json& light, const char* key, bool squared) {
  std::vector<double> out;
  if (!light.contains(key) || !light[key].is_object()) {
    return out;
  }
  double sum = 0;
  for (const char* part : kPartNames) {
    const double v = number_in(light[key], part);
    out.push_back(!std::isfinite(v) ? 0 : squared ? v * v : v);
    sum += out.back();
  }
  for (double& p : out) {
    p = sum > 0 ? p / sum : 0;
  }
  return out;
}

// Each light's share of the variance, the largest first; whether the parts of some are told.
bool read_lights(NoiseReport& out, const Json& stats) {
  bool has_parts = false;
  double total = 0;
  for (const auto& l : list_in(stats, "lights")) {
    const double noise = number_in(l, "noise");
    if (!l.is_object() || !l.contains("name") || !l["name"].is_string() || !std::isfinite(noise)) {
      continue;
    }
    NoiseReport::Light light{printable(l["name"].get<std::string>(), 100),
                             noise * noise,
                             number_in(l, "noise_share"),
                             shares_of_parts(l, "noise_by_part", true),
                             shares_of_parts(l, "noise_share_by_part", false)};
    total += light.share;
    has_parts = has_parts || !light.noise_parts.empty();
    out.by_light.push_back(std::move(light));
  }
  for (NoiseReport::Light& l : out.by_light) {
    l.share = total > 0 ? l.share / total : 0;
    // Too few samples to tell.
    l.noise_share = std::isfinite(l.noise_share) ? l.noise_share : l.share;
  }
  std::stable_sort(out.by_light.begin(), out.by_light.end(), [](const auto& a, const auto& b) {
    return a.share > b.share;
  });
  return has_parts;
}

}  // namespace

Result<NoiseReport> report_noise(const std::string& folder, double target) {
  const auto image = load_rendered(folder, false);
  if (!image) {
    return image.problems();
  }
  if (image->variance.empty()) {
    return Problem{Severity::kError,
                   "no-variance",
                   {image_in(folder), 0, 0},
                   "",
                   "does not tell its noise",
                   "give a folder made by jovilux render"};
  }
  const Json stats =
      read_json((std::filesystem::path(image_in(folder)).parent_path() / "stats.json").string());
  NoiseReport out;
  out.target = target;
  out.of_denoised = image->denoised;
  const double given = number_in(stats, "white_luminance_cd_m2");
  out.white = std::isfinite(given) ? given : image->shown().white_luminance();
  measure_pixels(out, *image);
  read_history(out, stats);
  forecast(out, *image);
  if (Problems problems = measure_denoised(out, folder); !problems.empty()) {
    return problems;
  }
  const bool has_parts = read_lights(out, stats);
  const auto rig = load_rig(
      (std::filesystem::path(image_in(folder)).parent_path() / "rig.resolved.toml").string(), {});
  advise(out, has_parts, rig ? &*rig : nullptr);
  return out;
}

}  // namespace jovilux
