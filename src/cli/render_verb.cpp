#include "cli/render_verb.h"

#include <algorithm>
#include <chrono>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>
#include <unistd.h>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/preview.h"
#include "jovilux/units/text.h"

namespace jovilux::cli {
namespace {

int camera_index(const Rig& rig, const std::string& name) {
  if (rig.cameras.empty()) {
    throw BadInput{{{Severity::kError, "no-camera", {rig.file, 0, 0}, "camera", "the rig has no camera", "add a [[camera]] with at and look_at"}}};
  }
  if (name.empty()) {
    return 0;
  }
  std::vector<std::string> names;
  for (const CameraSpec& c : rig.cameras) {
    if (c.name == name) {
      return static_cast<int>(names.size());
    }
    names.push_back(c.name);
  }
  throw UsageError(fmt::format("--camera: the rig has no camera \"{}\"; it has {}", printable(name), join_or(names)));
}

// A picture that cannot fit is refused before anything is begun.
void check_memory(const Rig& rig, const Scene& scene) {
  const double bytes = Film::memory_bytes(rig.render.width, rig.render.height, static_cast<int>(scene.layers.size()), parts_of(rig));
  const double there = static_cast<double>(::sysconf(_SC_PHYS_PAGES)) * static_cast<double>(::sysconf(_SC_PAGESIZE));
  if (bytes > 0.8 * there) {
    const DocumentNode* table = rig.document.find("render");
    const DocumentNode* size = table != nullptr ? table->find("size") : nullptr;
    throw BadInput{{{Severity::kError, "too-large", size != nullptr ? size->place : Place{rig.file, 0, 0}, "render.size",
                     fmt::format("{} x {} pixels with layers for {} lights take {} GB; this machine has {} GB", rig.render.width, rig.render.height,
                                 scene.layers.size(), short_number(bytes / 1e9, 3), short_number(there / 1e9, 3)),
                     "lower size, or use layers = \"none\""}}};
  }
}

}  // namespace

Rendered render_to_folder(const RenderTask& task) {
  const auto start = std::chrono::steady_clock::now();
  auto rig = load_rig(task.rig_file, task.request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  RenderOptions options;
  options.camera = camera_index(*rig, task.camera);
  std::optional<std::pair<int, int>> shown;   // the size that a preview is enlarged to
  if (task.preview) {
    shown = {rig->render.width, rig->render.height};
    shrink_for_preview(rig->render);
    rig->render.noise.reset();
  }
  std::optional<Scene> scene;
  Problems warnings = rig.problems();
  with_threads(task.threads, [&] {
    auto prepared = prepare_scene(*rig, options.camera);
    if (!prepared) {
      throw BadInput{prepared.problems()};
    }
    warnings.insert(warnings.end(), prepared.problems().begin(), prepared.problems().end());
    scene = std::move(*prepared);
    if (task.preview) {
      return;  // a look first: check tells the rest
    }
    const Problems found = check_rig(*rig, *scene, light_reports(*rig, *scene));
    warnings.insert(warnings.end(), found.begin(), found.end());
  });
  check_memory(*rig, *scene);
  prepare_folder(task.folder, task.rig_file, task.force);
  if (!task.quiet) {
    print_problems(warnings);
  }
  catch_interrupts();
  options.threads = task.threads;
  options.time_limit = task.time_limit;
  if (task.preview) {
    // What smoothing and saving take is kept back.
    constexpr double kSaving = 0.8, kLeast = 0.2;
    options.in_haste = true;
    options.time_limit = std::max(kLeast, kPreviewSeconds - kSaving - std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count());
  }
  options.stop = stop_requested;
  std::optional<Render> result;
  {
    ProgressBar bar(task.quiet);
    options.progress = bar.function();
    result = render(*rig, *scene, options);
  }
  save_render(task.folder, *rig, *scene, options, *result, shown);
  return {std::move(*rig), std::move(result->stats), ""};
}

std::string render_summary(const Rendered& r, const std::string& folder) {
  const RenderStats& s = r.stats;
  static constexpr const char* kWhy[] = {"all samples taken", "noise reached", "time limit", "interrupted"};
  const double rays = static_cast<double>(s.rays.camera + s.rays.path + s.rays.shadow);
  std::string out = fmt::format("{} x {}, {} samples a pixel in {:.1f} s with {} thread{} ({}), {} million rays/s\n", r.rig.render.width, r.rig.render.height,
                                short_number(s.samples_per_pixel, 4), s.wall_s, s.threads, s.threads == 1 ? "" : "s", kWhy[static_cast<int>(s.stopped_by)],
                                short_number(rays / std::max(1e-9, s.wall_s) / 1e6, 3));
  const auto percent = [](double v) { return std::isfinite(v) ? short_number(100 * v, 3) + " %" : std::string("unknown"); };
  out += fmt::format("noise: median {}, 95 % of pixels below {}; fireflies {}\n", percent(s.noise.median), percent(s.noise.p95), s.noise.fireflies);
  if (s.rays.march.exhausted > 0) {
    out += fmt::format("marching: {} of {} million marches ran out of steps; raise [render] march = {{ max_steps = {} }}\n", s.rays.march.exhausted, short_number(static_cast<double>(s.rays.march.marches) / 1e6, 3), 2 * r.rig.render.march.max_steps);
  }
  out += fmt::format("mean luminance {} cd/m2\n\n", short_number(s.mean_luminance));
  std::vector<std::vector<std::string>> rows = {{"light", "mean cd/m2", "share", "noise"}};
  for (const auto& l : s.lights) {
    rows.push_back({l.name, short_number(l.mean_luminance), percent(l.share), percent(l.noise)});
  }
  if (rows.size() > 1) {
    out += text_table(rows) + "\n";
  }
  namespace fs = std::filesystem;
  return out + fmt::format("look at {}\nread    {}\n", (fs::path(folder) / "view.png").string(), (fs::path(folder) / "image.exr").string());
}

int run_render(int argc, char** argv) {
  Usage usage{"render", "RIG",
              "Traces the rig and writes into DIR: image.exr (absolute cd/m2, a layer for each light), view.png,\nstats.json and rig.resolved.toml. Ctrl-C saves what is finished.",
              {{"o,output", "folder for the results; created", "DIR"},
               {"camera", "the camera to use; the rig's first by default", "NAME"},
               {"noise", "stop when 95 % of the pixels are cleaner than this, such as \"2 %\"", "SHARE"},
               {"time-limit", "stop after this time, such as 90s or \"5000 ms\"; a bare number is in s", "TIME"},
               {"preview", "a small look within 2 s: view.png smoothed and enlarged, image.exr as it is; no check", ""},
               {"force", "replace results of another rig in DIR", ""},
               {"quiet", "no progress and no warnings", ""},
               {"json", "print stats.json to standard output instead of the summary", ""}},
              "", "jovilux render demo-out/rig/orchid-house.toml -o demo-out/bench --camera bench --time-limit 20s"};
  for (const std::vector<Option>& more : {picture_options(), rig_options()}) {
    usage.options.insert(usage.options.end(), more.begin(), more.end());
  }
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  RenderTask task;
  task.rig_file = a.positional();
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the results; see jovilux render --help");
  }
  task.folder = *folder;
  task.request = rig_request(a);
  add_picture_overrides(a, task.request);
  task.camera = a.text("camera").value_or("");
  task.threads = threads_of(a);
  task.quiet = a.flag("quiet");
  task.force = a.flag("force");
  task.preview = a.flag("preview");
  if (task.preview && (a.flag("time-limit") || a.flag("noise"))) {
    throw UsageError("--preview has a time of its own; leave out --time-limit and --noise");
  }
  if (const auto noise = a.text("noise")) {
    task.request.overrides.push_back("render.noise=" + *noise);
  }
  if (const auto limit = a.text("time-limit")) {
    const auto amount = parse_amount(*limit);
    const auto* t = std::get_if<Amount>(&amount);
    const auto bare = parse_number(*limit);
    if ((t == nullptr || t->dimension != Dimension::kTime) && !bare) {
      throw UsageError(fmt::format("--time-limit: found \"{}\"; expected {}", printable(*limit), expected_units(Dimension::kTime)));
    }
    task.time_limit = bare ? *bare : t->value;
    if (!(*task.time_limit > 0)) {
      throw UsageError("--time-limit: expected a time above 0");
    }
  }
  const Rendered rendered = render_to_folder(task);
  if (a.flag("json")) {
    std::ifstream in(std::filesystem::path(task.folder) / "stats.json");
    std::ostringstream text;
    text << in.rdbuf();
    print_out(text.str());
  } else {
    print_out(render_summary(rendered, task.folder));
  }
  return rendered.stats.stopped_by == StoppedBy::kSignal ? kInterrupted : kDone;
}

}  // namespace jovilux::cli
