#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/noise_report.h"
#include "jovilux/render/film.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

Usage usage_of_noise() {
  return Usage{
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
      "jovilux noise demo-out/bench --target \"5 %\" -o demo-out/noise"}
      .with({threads_option()});
}

// What the changes that the report proposes do, the best first. Returns the noise of the small
// picture as the rig is; nothing where a signal stopped it.
std::optional<double> measure_changes(const Arguments& a, NoiseReport& r) {
  catch_interrupts();
  ProgressBar bar(a.flag("quiet"));
  const auto before =
      try_changes(a.positional(), r.changes, threads_of(a), stop_requested, bar.function());
  if (!before) {
    throw BadInput{before.problems()};
  }
  if (stop_requested()) {
    return std::nullopt;
  }
  std::stable_sort(r.changes.begin(), r.changes.end(), [](const auto& x, const auto& y) {
    return x.p95 < y.p95;
  });
  return *before;
}

// `trial`: the noise of the small picture that the changes were tried on.
Json to_json(const NoiseReport& r, const std::optional<double>& trial) {
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
  j["denoised"] = r.denoised ? Json{{"median", number_or_null(r.denoised->median)},
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
  return j;
}

std::string denoised_line(const NoiseReport& r, const std::string& folder) {
  if (!r.denoised) {
    return r.of_denoised ? ""
                         : fmt::format(
                               "denoised: not yet; jovilux denoise {} tells what that "
                               "leaves\n",
                               printable(folder, 120));
  }
  const bool samples_known =
      r.denoised->p95 > r.target && std::isfinite(r.denoised->samples_needed);
  return fmt::format("denoised: median {}, 95 % of the pixels below {}{}\n",
                     percent(r.denoised->median),
                     percent(r.denoised->p95),
                     samples_known
                         ? fmt::format("; about {} samples a pixel for {}",
                                       short_number(std::ceil(r.denoised->samples_needed), 2),
                                       percent(r.target))
                         : "");
}

std::string fireflies_line(const NoiseReport& r) {
  constexpr std::size_t kShown = 5;
  std::string out = fmt::format("fireflies: {}", r.fireflies.size());
  for (std::size_t i = 0; i < std::min(kShown, r.fireflies.size()); ++i) {
    const auto& f = r.fireflies[i];
    out += fmt::format("{}{},{} ({} x)",
                       i == 0 ? ", brightest at " : ", ",
                       f.x,
                       f.y,
                       std::isfinite(f.times) ? short_number(f.times, 2) : "all");
  }
  return out + "\n";
}

// The parts are shares of the light's noise, as the advice has them.
std::string lights_table(const NoiseReport& r) {
  constexpr double kLeastShare = 0.001;
  std::vector<std::vector<std::string>> rows = {
      {"light", "share of noise", "of variance", "direct", "bounce", "caustic", "haze"}};
  std::vector<NoiseReport::Light> lights = r.by_light;
  std::stable_sort(lights.begin(), lights.end(), [](const auto& x, const auto& y) {
    return x.noise_share > y.noise_share;
  });
  for (const auto& l : lights) {
    if (l.share < kLeastShare && l.noise_share < kLeastShare) {
      continue;
    }
    const auto part = [&](std::size_t p) {
      return l.noise_parts.empty() ? std::string("-") : percent(l.noise_parts[p]);
    };
    rows.push_back(
        {l.name, percent(l.noise_share), percent(l.share), part(0), part(1), part(2), part(3)});
  }
  return rows.size() > 1 ? text_table(rows) + "\n" : "";
}

std::string changes_table(const NoiseReport& r, const std::optional<double>& trial) {
  if (r.changes.empty()) {
    return "";
  }
  constexpr double kHelps = 0.97;  // of the noise without the change
  std::vector<std::vector<std::string>> rows = {{"setting", "95 % below", "", "why"}};
  for (const auto& c : r.changes) {
    rows.push_back({c.address + " = " + c.value,
                    trial ? percent(c.p95) : "-",
                    !trial                    ? ""
                    : c.p95 < kHelps * *trial ? "helps"
                                              : "of no use",
                    c.why});
  }
  return (trial ? fmt::format("\nchanges to the rig, each measured on a small picture (95 % of its "
                              "pixels below {} as it is):\n",
                              percent(*trial))
                : "\nchanges to the rig that may help; --try measures each:\n") +
         text_table(rows);
}

std::string to_text(const NoiseReport& r,
                    const std::optional<double>& trial,
                    const std::string& folder) {
  std::string out = fmt::format("{}: median {}, 95 % of the pixels below {}; target {}\n",
                                r.of_denoised ? "denoised, error left" : "noise",
                                percent(r.median),
                                percent(r.p95),
                                percent(r.target)) +
                    denoised_line(r, folder);
  if (r.samples < kBatches) {
    out += fmt::format("fewer than {} samples a pixel: these figures mean little\n", kBatches);
  }
  out += fireflies_line(r) + "\n" + lights_table(r);
  for (const std::string& advice : r.advice) {
    out += "- " + advice + "\n";
  }
  return out + changes_table(r, trial);
}

}  // namespace

int run_noise(int argc, char** argv) {
  const Arguments a(usage_of_noise(), argc, argv);
  const double target = a.text("target") ? share_option("--target", *a.text("target")) : 0.02;
  auto report = report_noise(a.positional(), target);
  if (!report) {
    throw BadInput{report.problems()};
  }
  std::optional<double> trial;
  if (a.flag("try") && !report->changes.empty()) {
    trial = measure_changes(a, *report);
    if (!trial) {
      return kInterrupted;
    }
  }
  const auto folder = a.text("output");
  const std::string png = (fs::path(folder.value_or("")) / "noise.png").string();
  if (folder) {
    const auto image = load_rendered(a.positional(), false);
    if (!image) {
      throw BadInput{image.problems()};
    }
    prepare_files(*folder, {"noise.png"}, a.flag("force"));
    figures::noise_figure(png, *image, *report, printable(a.positional(), 120));
  }
  if (a.flag("json")) {
    print_out(json_text(to_json(*report, trial)));
  } else {
    print_out(to_text(*report, trial, a.positional()) +
              (folder ? fmt::format("\nlook at {}\n", png) : ""));
  }
  return report->p95 <= report->target && !report->black ? kDone : kFellShort;
}

}  // namespace jovilux::cli
