#include "jovilux/base/text.h"
#include "jovilux/judge/noise_report.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/json_numbers.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux::cli {

int run_noise(int argc, char** argv) {
  Usage usage{
      "noise",
      "DIR",
      "Where the noise of a render is and which light makes it; the samples and the time that a "
      "target takes.",
      {{"target",
        "the noise that 95 % of the pixels are to stay below; \"2 %\" by default",
        "SHARE"},
       {"try",
        "measure what each proposed change does, by small renders: at most 40,000 pixels, 64 "
        "samples",
        ""},
       {"o,output", "also write DIR/noise.png: the map, the convergence, the lights", "DIR"},
       {"force", "replace files there", ""},
       {"quiet", "no progress while changes are tried", ""},
       {"json", "print one JSON document instead", ""}},
      "A pixel's noise is its standard error over the larger of its luminance and 2 % of the "
      "view's white.",
      "jovilux noise demo-out/bench --target \"5 %\" -o demo-out/noise"};
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const double target = a.text("target") ? share_option("--target", *a.text("target")) : 0.02;
  auto report = report_noise(a.positional(), target);
  if (!report) {
    throw BadInput{report.problems()};
  }
  NoiseReport& r = *report;
  std::optional<double> trial;  // of a small picture as the rig is
  if (a.flag("try") && !r.changes.empty()) {
    catch_interrupts();
    ProgressBar bar(a.flag("quiet"));
    const auto before =
        try_changes(a.positional(), r.changes, threads_of(a), stop_requested, bar.function());
    if (!before) {
      throw BadInput{before.problems()};
    }
    if (stop_requested()) {
      return kInterrupted;
    }
    trial = *before;
    std::stable_sort(r.changes.begin(), r.changes.end(), [](const auto& x, const auto& y) {
      return x.p95 < y.p95;
    });
  }
  namespace fs = std::filesystem;
  if (const auto folder = a.text("output")) {
    const auto image = load_rendered(a.positional(), false);
    if (!image) {
      throw BadInput{image.problems()};
    }
    prepare_files(*folder, {"noise.png"}, a.flag("force"));
    figures::noise_figure(
        (fs::path(*folder) / "noise.png").string(), *image, r, printable(a.positional(), 120));
  }
  const auto percent = [](double v) { return short_number(100 * v, 3) + " %"; };
  if (a.flag("json")) {
    using Json = nlohmann::ordered_json;
    Json j = {{"median", r.median},
              {"p95", r.p95},
              {"target", r.target},
              {"samples_per_pixel", number_or_null(r.samples)},
              {"samples_needed", number_or_null(r.samples_needed)},
              {"seconds_needed", number_or_null(r.seconds_needed)},
              {"even_samples_needed", number_or_null(r.even_samples_needed)},
              {"even", r.even},
              {"order", r.order},
              {"fireflies", Json::array()},
              {"by_light", Json::array()},
              {"history", Json::array()},
              {"advice", r.advice},
              {"changes", Json::array()}};
    j["denoised"] = r.denoised
                        ? Json{{"median", number_or_null(r.denoised->median)},
                               {"p95", number_or_null(r.denoised->p95)},
                               {"samples_needed", number_or_null(r.denoised->samples_needed)}}
                        : Json(nullptr);
    for (const auto& c : r.changes) {
      j["changes"].push_back({{"address", c.address},
                              {"value", c.value},
                              {"why", c.why},
                              {"trial_p95", trial ? Json(c.p95) : Json(nullptr)},
                              {"trial_p95_before", trial ? Json(*trial) : Json(nullptr)}});
    }
    for (const auto& f : r.fireflies) {
      j["fireflies"].push_back({{"x", f.x}, {"y", f.y}, {"times", number_or_null(f.times)}});
    }
    for (const auto& l : r.by_light) {
      Json one = {
          {"name", l.name}, {"share_of_variance", l.share}, {"share_of_noise", l.noise_share}};
      for (std::size_t p = 0; p < kPartNames.size(); ++p) {
        one[kPartNames[p]] = l.parts.empty() ? Json(nullptr) : Json(l.parts[p]);
        one["noise_by_part"][kPartNames[p]] =
            l.noise_parts.empty() ? Json(nullptr) : Json(l.noise_parts[p]);
      }
      j["by_light"].push_back(one);
    }
    for (const auto& m : r.history) {
      j["history"].push_back({{"samples", number_or_null(m.samples)},
                              {"seconds", number_or_null(m.seconds)},
                              {"median", number_or_null(m.median)},
                              {"p95", number_or_null(m.p95)}});
    }
    print_out(json_text(j));
    return r.p95 <= r.target && !r.black ? kDone : kFellShort;
  }
  std::string out = fmt::format("{}: median {}, 95 % of the pixels below {}; target {}\n",
                                r.of_denoised ? "denoised, error left" : "noise",
                                percent(r.median),
                                percent(r.p95),
                                percent(r.target));
  if (r.denoised) {
    out += fmt::format("denoised: median {}, 95 % of the pixels below {}",
                       percent(r.denoised->median),
                       percent(r.denoised->p95));
    out += r.denoised->p95 <= r.target ? "\n"
           : std::isfinite(r.denoised->samples_needed)
               ? fmt::format("; about {} samples a pixel for {}\n",
                             short_number(std::ceil(r.denoised->samples_needed), 2),
                             percent(r.target))
               : "\n";
  } else if (!r.of_denoised) {
    out += fmt::format("denoised: not yet; jovilux denoise {} tells what that leaves\n",
                       printable(a.positional(), 120));
  }
  constexpr int kFewSamples = 8;  // variances come from so many independent scramblings
  if (r.samples < kFewSamples) {
    out += fmt::format("fewer than {} samples a pixel: these figures mean little\n", kFewSamples);
  }
  out += fmt::format("fireflies: {}", r.fireflies.size());
  for (std::size_t i = 0; i < std::min<std::size_t>(5, r.fireflies.size()); ++i) {
    const auto& f = r.fireflies[i];
    out += fmt::format("{}{},{} ({} x)",
                       i == 0 ? ", brightest at " : ", ",
                       f.x,
                       f.y,
                       std::isfinite(f.times) ? short_number(f.times, 2) : "all");
  }
  out += "\n\n";
  std::vector<std::vector<std::string>> table = {
      {"light", "share of noise", "of variance", "direct", "bounce", "caustic", "haze"}};
  // The parts are shares of the light's noise, as the advice below has them.
  std::vector<NoiseReport::Light> lights = r.by_light;
  std::stable_sort(lights.begin(), lights.end(), [](const auto& x, const auto& y) {
    return x.noise_share > y.noise_share;
  });
  for (const auto& l : lights) {
    if (l.share < 0.001 && l.noise_share < 0.001) {
      continue;
    }
    const auto part = [&](std::size_t p) {
      return l.noise_parts.empty() ? std::string("-") : percent(l.noise_parts[p]);
    };
    table.push_back(
        {l.name, percent(l.noise_share), percent(l.share), part(0), part(1), part(2), part(3)});
  }
  out += table.size() > 1 ? text_table(table) + "\n" : "";
  for (const std::string& advice : r.advice) {
    out += "- " + advice + "\n";
  }
  if (!r.changes.empty()) {
    out += trial ? fmt::format(
                       "\nchanges to the rig, each measured on a small picture (95 % of its pixels "
                       "below {} as it is):\n",
                       percent(*trial))
                 : "\nchanges to the rig that may help; --try measures each:\n";
    std::vector<std::vector<std::string>> changes = {{"setting", "95 % below", "", "why"}};
    for (const auto& c : r.changes) {
      changes.push_back({c.address + " = " + c.value,
                         trial ? percent(c.p95) : "-",
                         !trial                  ? ""
                         : c.p95 < 0.97 * *trial ? "helps"
                                                 : "of no use",
                         c.why});
    }
    out += text_table(changes);
  }
  if (const auto folder = a.text("output")) {
    out += fmt::format("\nlook at {}\n", (fs::path(*folder) / "noise.png").string());
  }
  print_out(out);
  return r.p95 <= r.target && !r.black ? kDone : kFellShort;
}

}  // namespace jovilux::cli
