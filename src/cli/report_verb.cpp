#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/judge/falloff_study.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/noise_report.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/photometry/exposure.h"
#include "jovilux/render/picture_files.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/light_table.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/falloff_figure.h"
#include "figures/report_page.h"
#include "figures/scratch.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using figures::PageSection;
using figures::PageTable;

constexpr std::size_t kMostPictures = 24, kMostCurves = 6;

std::string percent_or_dash(double v) { return std::isfinite(v) ? percent(v) : "-"; }

// A finished render, or a picture that balance or sweep made of one, which has no stats.json.
bool is_render(const fs::path& folder) {
  std::error_code ec;
  return fs::is_regular_file(folder / "view.png", ec) &&
         fs::is_regular_file(folder / "image.exr", ec) &&
         fs::is_regular_file(folder / "rig.resolved.toml", ec);
}

// The folder itself, or the renders in it, by name; of `denoised` ones those made from layers only
// where they are denoised.
std::vector<fs::path> renders_in(const fs::path& folder, bool denoised) {
  if (is_render(folder)) {
    return {folder};
  }
  std::vector<fs::path> out;
  std::error_code ec;
  for (fs::directory_iterator it(folder, ec), end; !ec && it != end; it.increment(ec)) {
    const bool from_layers = !fs::exists(it->path() / "stats.json", ec);
    const bool left_out = denoised && from_layers && !fs::exists(it->path() / kDenoisedPicture, ec);
    if (is_render(it->path()) && !left_out) {
      out.push_back(it->path());
    }
  }
  std::sort(out.begin(), out.end());
  return out;
}

// One picture with what is told of it, and its rig's variant where that is not the first's.
struct Shown {
  fs::path folder;
  std::string name;
  Json stats;
  Rig rig;
};

// What stats.json would say of a picture made from layers.
Json stats_of_picture(const fs::path& folder) {
  const auto image = load_rendered(folder.string(), true);
  if (!image) {
    throw BadInput{image.problems()};
  }
  const auto mean_of = [&](const std::vector<float>& rgb) {
    double sum = 0;
    for (std::size_t i = 0; i < image->pixels(); ++i) {
      sum += luminance_of(&rgb[3 * i]);
    }
    return sum / static_cast<double>(image->pixels());
  };
  const double mean = mean_of(image->rgb);
  Json out = {{"rig", (folder / "rig.resolved.toml").string()},
              {"from_layers", true},
              {"width", image->width},
              {"height", image->height},
              {"mean_luminance_cd_m2", mean},
              {"lights", Json::array()}};
  if (!image->variance.empty()) {
    out["noise"] = {{"p95", noise_of(*image).p95}};
  }
  for (const RenderedImage::Layer& layer : image->layers) {
    const double of_layer = mean_of(layer.rgb);
    out["lights"].push_back({{"name", layer.name},
                             {"mean_luminance_cd_m2", of_layer},
                             {"share", mean > 0 ? of_layer / mean : 0}});
  }
  return out;
}

Json stats_in(const fs::path& folder) {
  std::error_code ec;
  if (!fs::exists(folder / "stats.json", ec)) {
    return stats_of_picture(folder);
  }
  const auto text = read_file((folder / "stats.json").string(), 64U << 20, "bad-stats");
  if (!text) {
    throw BadInput{text.problems()};
  }
  Json out = parse_json(*text);
  if (!out.is_object()) {
    throw BadInput{{{Severity::kError,
                     "bad-stats",
                     {(folder / "stats.json").string(), 0, 0},
                     "",
                     "is not the stats.json of a render",
                     "render the rig again"}}};
  }
  return out;
}

Shown load_shown(const fs::path& folder) {
  Shown out;
  out.folder = folder;
  out.name = fs::absolute(folder).lexically_normal().filename().string();
  if (out.name.empty()) {
    out.name = folder.parent_path().filename().string();
  }
  out.stats = stats_in(folder);
  auto rig = load_rig((folder / "rig.resolved.toml").string(), {});
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  out.rig = std::move(*rig);
  return out;
}

std::string caption(const Shown& s, bool denoised) {
  const Json noise = s.stats.contains("noise") ? s.stats["noise"] : Json();
  double p95 = number_in(noise, "p95");
  if (denoised) {
    const auto image = load_rendered(s.folder.string(), false, true);
    if (!image) {
      throw BadInput{image.problems()};
    }
    p95 = noise_of(*image).p95;
  }
  const double samples = number_in(s.stats, "samples_per_pixel");
  // A number and its sign stay on one line.
  std::string share = percent_or_dash(p95);
  if (const auto space = share.rfind(' '); space != std::string::npos) {
    share.replace(space, 1, "\u00a0");
  }
  return fmt::format("{}{}: {} x {}, {}, mean {} cd/m\u00b2, 95\u00a0% of the pixels within {}",
                     denoised ? "Denoised. " : "",
                     s.name,
                     short_number(number_in(s.stats, "width"), 6),
                     short_number(number_in(s.stats, "height"), 6),
                     std::isfinite(samples) ? short_number(samples) + " samples a pixel"
                                            : "from the layers of a render",
                     short_number(number_in(s.stats, "mean_luminance_cd_m2"), 3),
                     share);
}

// What each light gives to each picture.
PageTable shares(const std::vector<Shown>& shown) {
  PageTable t;
  t.rows.push_back({"light"});
  std::vector<std::string> names;
  for (const Shown& s : shown) {
    t.rows[0].push_back(s.name);
    for (const Json& l : list_in(s.stats, "lights")) {
      const std::string name = text_in(l, "name");
      if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end()) {
        names.push_back(name);
      }
    }
  }
  for (const std::string& name : names) {
    t.rows.push_back({name});
    for (const Shown& s : shown) {
      std::string cell = "-";
      for (const Json& l : list_in(s.stats, "lights")) {
        if (text_in(l, "name") == name) {
          cell = percent_or_dash(number_in(l, "share"));
        }
      }
      t.rows.back().push_back(cell);
    }
  }
  return t;
}

PageSection realism(const Rig& rig,
                    const Problems& found,
                    const std::vector<LightReport>& reports) {
  PageSection out;
  out.title = "Is it real?";
  const auto cheats = departures(rig, reports);
  out.paragraphs.push_back(cheats.empty() ? "No departures from physics."
                                          : fmt::format("{} departure{} from physics:",
                                                        cheats.size(),
                                                        cheats.size() == 1 ? "" : "s"));
  out.points = cheats;
  const auto warnings = std::count_if(found.begin(), found.end(), [](const Problem& p) {
    return p.severity == Severity::kWarning;
  });
  out.points.push_back(
      warnings == 0
          ? "check finds no mistakes"
          : fmt::format("check finds {} thing{} to look at:", warnings, warnings == 1 ? "" : "s"));
  for (const Problem& p : found) {
    out.points.push_back(fmt::format("{}: {}{}",
                                     p.address.empty() ? p.code : p.address,
                                     p.text,
                                     p.hint.empty() ? "" : ". " + p.hint));
  }
  return out;
}

PageSection metered(const Rig& rig,
                    const Scene& scene,
                    double error,
                    int threads,
                    bool quiet,
                    const fs::path& scratch) {
  PageSection out;
  out.title = "Meters";
  MeteringOptions options;
  options.error = error;
  options.threads = threads;
  options.stop = stop_requested;
  PageTable t;
  t.rows.push_back(
      {"meter", "value", "\u00b1", "unit", "direct", "bounce", "haze", "target", "verdict"});
  std::size_t grids = 0;
  std::vector<MeterResult> results;
  {
    ProgressBar bar(quiet);
    options.progress = bar.function();
    results = read_meters(rig, scene, options);
  }
  for (const MeterResult& m : results) {
    const MeterSpec& meter = rig.meters[m.meter];
    const std::string unit = meter.luminance ? "cd/m2" : "lx",
                      target = meter.target ? fmt::format("{} to {}",
                                                          short_number(meter.target->first),
                                                          short_number(meter.target->second))
                                            : "-";
    const auto fails =
        std::count_if(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
          return r.verdict == MeterReading::Verdict::kFail;
        });
    const std::string verdict = !meter.target ? "-"
                                : fails == 0  ? "pass"
                                : m.readings.size() == 1
                                    ? "fail"
                                    : fmt::format("fail at {} of {}", fails, m.readings.size());
    if (meter.grid) {
      t.rows.push_back({meter.name + ", average",
                        short_number(m.average),
                        "",
                        unit,
                        "",
                        "",
                        "",
                        target,
                        verdict});
      t.rows.push_back(
          {fmt::format("{}, minimum (uniformity {})", meter.name, short_number(m.uniformity(), 2)),
           short_number(m.minimum),
           "",
           unit,
           "",
           "",
           "",
           "",
           ""});
      const std::string png = (scratch / fmt::format("grid{}.png", grids++)).string();
      figures::grid_figure(png, meter, m);
      out.figures.push_back({png, "Values of the grid " + meter.name, meter.name});
      continue;
    }
    const MeterReading& r = m.readings[0];
    t.rows.push_back({r.name,
                      short_number(r.value),
                      short_number(r.standard_error, 2),
                      unit,
                      short_number(r.direct),
                      short_number(r.bounce),
                      short_number(r.haze),
                      target,
                      verdict});
  }
  out.tables.push_back(std::move(t));
  out.paragraphs.push_back(fmt::format(
      "By paths of their own, to a standard error of {} of each value.", percent_or_dash(error)));
  return out;
}

PageSection noisy(const std::vector<Shown>& shown, double target, const fs::path& scratch) {
  PageSection out;
  out.title = "Noise";
  PageTable t;
  t.rows.push_back({"picture",
                    "samples",
                    "median",
                    "95 % within",
                    "fireflies",
                    "most from",
                    fmt::format("samples for {}", percent_or_dash(target))});
  const Shown* worst = nullptr;
  double most = -1;
  for (const Shown& s : shown) {
    const auto r = report_noise(s.folder.string(), target);
    if (!r) {
      throw BadInput{r.problems()};
    }
    const auto noisiest =
        std::max_element(r->by_light.begin(), r->by_light.end(), [](const auto& x, const auto& y) {
          return x.noise_share < y.noise_share;
        });
    t.rows.push_back(
        {s.name,
         short_number(r->samples),
         percent_or_dash(r->median),
         percent_or_dash(r->p95),
         std::to_string(r->fireflies.size()),
         r->by_light.empty()
             ? "-"
             : fmt::format("{}, {}", noisiest->name, percent_or_dash(noisiest->noise_share)),
         r->p95 <= target                   ? "enough"
         : std::isfinite(r->samples_needed) ? short_number(std::ceil(r->samples_needed))
                                            : "-"});
    if (r->p95 > most) {
      most = r->p95;
      worst = &s;
      out.points = r->advice;
    }
  }
  out.tables.push_back(std::move(t));
  if (worst != nullptr) {
    const auto report = report_noise(worst->folder.string(), target);
    const auto image = load_rendered(worst->folder.string(), false);
    if (report && image) {
      const std::string png = (scratch / "noise.png").string();
      figures::noise_figure(png, *image, *report, worst->name);
      out.figures.push_back({png,
                             "Map of the noise, its fall over samples, and the lights that make it",
                             shown.size() > 1 ? "The noisiest: " + worst->name : worst->name});
    }
  }
  return out;
}

// The folders of the pictures that a page shows. Throws UsageError or BadInput where there is none,
// too many, or one that was not denoised.
std::vector<fs::path> folders_to_show(const fs::path& folder, bool denoised) {
  auto folders = renders_in(folder, denoised);
  if (folders.empty()) {
    throw UsageError(
        fmt::format("{}: holds no finished render; give a folder made by jovilux render, or one "
                    "with such folders in it",
                    printable(folder.string(), 200)));
  }
  if (folders.size() > kMostPictures) {
    throw UsageError(fmt::format("{}: holds {} renders; a page takes at most {}",
                                 printable(folder.string(), 200),
                                 folders.size(),
                                 kMostPictures));
  }
  for (const fs::path& f : folders) {
    if (Problems missing = denoised ? check_denoised(f.string()) : Problems{}; !missing.empty()) {
      throw BadInput{std::move(missing)};
    }
  }
  return folders;
}

PageSection views(const std::vector<Shown>& shown, bool denoised) {
  PageSection out;
  out.title = shown.size() == 1 ? "Picture" : "Pictures";
  for (const Shown& s : shown) {
    out.figures.push_back({(s.folder / (denoised ? kDenoisedView : "view.png")).string(),
                           "The picture " + s.name,
                           caption(s, denoised)});
  }
  return out;
}

// Luminance of a picture, in bands about its own gray.
PageSection luminance_bands(const Shown& shown, bool denoised, const fs::path& scratch) {
  const auto image = load_rendered(shown.folder.string(), false, denoised);
  if (!image) {
    throw BadInput{image.problems()};
  }
  figures::FalseColor bands;
  bands.gray = luminance_at(image->shown().ev()).value;
  const std::string png = (scratch / "bands.png").string();
  figures::false_color_figure(png, *image, bands, shown.name);
  PageSection out;
  out.title = "Luminance";
  out.figures.push_back({png,
                         "Luminance in bands of a stop, its histogram and waveform",
                         fmt::format("{}: luminance in bands of a stop about {} cd/m\u00b2, the "
                                     "luminance shown as 18 % gray",
                                     shown.name,
                                     short_number(bands.gray, 3))});
  return out;
}

PageSection bare_sources(const std::vector<LightReport>& reports) {
  PageSection out;
  out.title = "Lights";
  out.paragraphs.push_back("What leaves each bare source, and the lux on what it is aimed at.");
  out.tables.push_back({light_table(reports)});
  out.points = losses(reports);
  return out;
}

PageSection shares_of_picture(const std::vector<Shown>& shown) {
  PageSection out;
  out.title = "What each gives";
  out.paragraphs.push_back("Share of the mean luminance.");
  out.tables.push_back(shares(shown));
  return out;
}

// The strongest lights over distance, by what they bring to their subjects; nothing where none has
// a subject.
std::optional<PageSection> curves(const Rig& rig,
                                  const Scene& scene,
                                  const std::vector<LightReport>& reports,
                                  const fs::path& scratch) {
  std::vector<std::pair<double, FalloffSubject>> strongest;
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& l = rig.lights[i];
    if ((l.copies > 1 && !l.name.ends_with("[0]")) || !l.on || l.dimmer <= 0) {
      continue;
    }
    if (auto subject = falloff_subject(rig, scene, i)) {
      const auto& intensity = reports[i].levels.intensity;
      strongest.emplace_back(intensity ? intensity->value * subject->remaining : 0,
                             std::move(*subject));
    }
  }
  if (strongest.empty()) {
    return std::nullopt;
  }
  std::stable_sort(strongest.begin(), strongest.end(), [](const auto& x, const auto& y) {
    return x.first > y.first;
  });
  std::vector<FalloffSubject> subjects;
  for (std::size_t i = 0; i < std::min(kMostCurves, strongest.size()); ++i) {
    subjects.push_back(std::move(strongest[i].second));
  }
  const std::string png = (scratch / "falloff.png").string();
  figures::falloff_figure(png, study_falloff(subjects, 8));
  PageSection out;
  out.title = "Curves";
  out.figures.push_back(
      {png,
       "Illuminance of the strongest lights against distance",
       strongest.size() > kMostCurves
           ? fmt::format(
                 "The {} strongest of {} lights on their axes", kMostCurves, strongest.size())
           : "The lights on their axes"});
  return out;
}

// A rig's scene, and what is to be said of its lights and of the whole.
struct JudgedRig {
  Scene scene;
  std::vector<LightReport> reports;
  Problems found;
};

JudgedRig judge(const Rig& rig, int threads) {
  std::optional<JudgedRig> out;
  with_threads(threads, [&] {
    auto prepared = prepare_scene(rig);
    if (!prepared) {
      throw BadInput{prepared.problems()};
    }
    Problems found = prepared.problems();
    std::vector<LightReport> reports = light_reports(rig, *prepared);
    const Problems more = check_rig(rig, *prepared, reports);
    found.insert(found.end(), more.begin(), more.end());
    out = JudgedRig{std::move(*prepared), std::move(reports), std::move(found)};
  });
  return std::move(*out);
}

Usage usage_of_report() {
  return Usage{
      "report",
      "DIR",
      "One HTML page of a render, or of all renders in a folder: pictures, the lights in real "
      "units, departures from\nphysics, meters, noise, curves. It needs no other file and fetches "
      "nothing.",
      {{"o,output", "the page to write, such as report.html", "FILE"},
       {"title", "its heading; the rig's title by default", "TEXT"},
       {"error", "standard error of the meters, over the value; \"2 %\" by default", "SHARE"},
       {"target",
        "the noise that 95 % of the pixels are to stay below; \"2 %\" by default",
        "SHARE"},
       denoised_option(),
       {"quiet", "no progress while the meters are read", ""},
       {"force", "replace FILE", ""},
       {"json", "print one JSON document instead", ""}},
      "Lights, meters and curves are those of the first picture's rig.",
      "jovilux report demo-out/bench -o demo-out/report.html"}
      .with({threads_option()});
}

std::string page_summary(const std::string& page,
                         std::size_t pictures,
                         std::size_t lights,
                         std::size_t meters,
                         std::uintmax_t bytes) {
  return fmt::format("wrote {}: {}, {}, {}, {} MB\n",
                     page,
                     counted(pictures, "picture"),
                     counted(lights, "light"),
                     counted(meters, "meter"),
                     short_number(static_cast<double>(bytes) / 1e6, 2));
}

}  // namespace

int run_report(int argc, char** argv) {
  const Arguments a(usage_of_report(), argc, argv);
  const auto file = a.text("output");
  if (!file || file->empty()) {
    throw UsageError("missing -o FILE, the page to write; see jovilux report --help");
  }
  const double error = a.text("error") ? share_option("--error", *a.text("error")) : 0.02,
               target = a.text("target") ? share_option("--target", *a.text("target")) : 0.02;
  const bool denoised = a.flag("denoised");
  const auto folders = folders_to_show(a.positional(), denoised);
  const fs::path page(*file);
  prepare_files(page.has_parent_path() ? page.parent_path().string() : ".",
                {page.filename().string()},
                a.flag("force"));
  std::vector<Shown> shown;
  for (const fs::path& f : folders) {
    shown.push_back(load_shown(f));
  }
  const Shown& first = shown.front();
  const figures::Scratch scratch;
  catch_interrupts();
  const JudgedRig judged = judge(first.rig, threads_of(a));
  std::vector<PageSection> sections = {views(shown, denoised),
                                       luminance_bands(first, denoised, scratch.dir),
                                       bare_sources(judged.reports),
                                       shares_of_picture(shown),
                                       realism(first.rig, judged.found, judged.reports)};
  if (!first.rig.meters.empty()) {
    sections.push_back(
        metered(first.rig, judged.scene, error, threads_of(a), a.flag("quiet"), scratch.dir));
  }
  sections.push_back(noisy(shown, target, scratch.dir));
  if (auto over_distance = curves(first.rig, judged.scene, judged.reports, scratch.dir)) {
    sections.push_back(std::move(*over_distance));
  }
  if (stop_requested()) {
    return kInterrupted;
  }
  figures::write_page(
      page.string(),
      a.text("title").value_or(first.rig.title.empty() ? first.name : first.rig.title),
      fmt::format("Rig {}, seed {}. Made by Jovilux from the files of {}.",
                  printable(fs::path(text_in(first.stats, "rig")).filename().string(), 200),
                  first.rig.render.seed,
                  counted(shown.size(), "render")),
      sections);
  std::error_code ec;
  const std::size_t lights = one_of_each(judged.reports).size(), meters = first.rig.meters.size();
  const std::uintmax_t bytes = fs::file_size(page, ec);
  if (a.flag("json")) {
    Json pictures = Json::array();
    for (const Shown& s : shown) {
      pictures.push_back(s.folder.string());
    }
    print_out(json_text({{"page", page.string()},
                         {"pictures", pictures},
                         {"lights", lights},
                         {"meters", meters},
                         {"bytes", bytes}}));
  } else {
    print_out(page_summary(page.string(), shown.size(), lights, meters, bytes));
  }
  return kDone;
}

}  // namespace jovilux::cli
