#include "cli/render_verb.h"

#include "jovilux/base/text.h"
#include "jovilux/render/film.h"
#include "jovilux/units/text.h"

#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/denoise_verb.h"
#include "cli/output.h"
#include "cli/render_pictures.h"
#include "cli/verbs.h"
#include "ranks/ranks.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

}  // namespace

int camera_index(const Rig& rig, const std::string& name) {
  if (rig.cameras.empty()) {
    throw BadInput{{{Severity::kError,
                     "no-camera",
                     {rig.file, 0, 0},
                     "camera",
                     "the rig has no camera",
                     "add a [[camera]] with at and look_at"}}};
  }
  const std::string& wanted = name.empty() ? rig.render.camera : name;
  if (wanted.empty()) {
    return 0;
  }
  std::vector<std::string> names;
  for (const CameraSpec& c : rig.cameras) {
    if (c.name == wanted) {
      return static_cast<int>(names.size());
    }
    names.push_back(c.name);
  }
  throw UsageError(fmt::format(
      "--camera: the rig has no camera \"{}\"; it has {}", printable(name), join_or(names)));
}

int choose_camera(Rig& rig, const std::string& name) {
  const int index = camera_index(rig, name);
  if (!name.empty()) {
    DocumentNode node;
    node.value = name;
    set_at_address(rig.document, "render.camera", std::move(node));
    rig.render.camera = name;
  }
  return index;
}

namespace {

// Size, samples, time and noise.
std::string work_in_words(const Rendered& r) {
  const RenderStats& s = r.stats;
  static constexpr const char* kWhy[] = {
      "all samples taken", "noise reached", "time limit", "interrupted"};
  const double rays = static_cast<double>(s.rays.camera + s.rays.path + s.rays.shadow);
  return fmt::format(
             "{} x {}, {} samples a pixel in {:.1f} s with {} thread{} ({}), {} million rays/s\n",
             r.rig.render.width,
             r.rig.render.height,
             short_number(s.samples_per_pixel, 4),
             s.wall_s,
             s.threads,
             s.threads == 1 ? "" : "s",
             kWhy[static_cast<int>(s.stopped_by)],
             short_number(rays / std::max(1e-9, s.wall_s) / 1e6, 3)) +
         fmt::format("noise: median {}, 95 % of pixels below {}; fireflies {}\n",
                     percent(s.noise.median),
                     percent(s.noise.p95),
                     s.noise.fireflies);
}

// What the figures alone do not tell: steps that ran out, few samples, a black picture.
std::string warnings_in_words(const Rendered& r, const std::string& folder) {
  const RenderStats& s = r.stats;
  std::string out;
  if (s.rays.march.exhausted > 0) {
    out += fmt::format(
        "marching: {} of {} million marches ran out of steps; raise [render] march = {{ max_steps "
        "= {} }}\n",
        s.rays.march.exhausted,
        short_number(static_cast<double>(s.rays.march.marches) / 1e6, 3),
        2 * r.rig.render.march.max_steps);
  }
  out += fmt::format("mean luminance {} cd/m2\n\n", short_number(s.mean_luminance));
  if (s.samples_per_pixel < kBatches && s.samples_per_pixel > 0) {
    out += fmt::format(
        "noise and fireflies of fewer than {} samples a pixel mean little: the spread of "
        "so few tells no error\n\n",
        kBatches);
  }
  if (s.mean_luminance == 0) {
    out += fmt::format(
        "the picture is black: no light was found. What keeps the lights away from a place: "
        "jovilux "
        "why {} --at {},{}\n\n",
        folder,
        r.rig.render.width / 2,
        r.rig.render.height / 2);
  }
  return out;
}

std::string lights_in_words(const RenderStats& s) {
  std::vector<std::vector<std::string>> rows = {{"light", "mean cd/m2", "share", "share of noise"}};
  std::string limits;
  for (const auto& l : s.lights) {
    const bool known = std::isfinite(l.noise_share);
    rows.push_back({l.name,
                    short_number(l.mean_luminance),
                    percent(l.share),
                    known ? percent(l.noise_share) : "-"});
    if (l.clamped > 0) {
      limits +=
          fmt::format("{}: its bounce_limit held back {} cd/m2 in the mean, {} of its light\n",
                      l.name,
                      short_number(l.clamped),
                      percent(l.clamped / (l.clamped + l.mean_luminance)));
    }
  }
  return (rows.size() > 1 ? text_table(rows) + "\n" : "") + limits;
}

// Light that the picture lacks, or has too much of.
std::string losses_in_words(const RenderStats& s) {
  std::string out;
  if (const auto& lost = s.not_finite) {
    out += fmt::format(
        "{} contributions were not finite and are left out, the first at pixel {},{}, sample "
        "{}{}\n",
        short_number(lost->contributions),
        lost->x,
        lost->y,
        lost->sample,
        lost->round > 0 ? fmt::format(" of round {}", lost->round)
                        : fmt::format("; to trace it again: render with --pixel {},{} --sample {}",
                                      lost->x,
                                      lost->y,
                                      lost->sample));
  }
  if (const auto& removed = s.by_bounce_roughness) {
    const double mean = std::max(1e-12, s.mean_luminance);
    out += fmt::format("bounce_roughness {} {} of the picture's light, give or take {}\n",
                       removed->luminance >= 0 ? "takes" : "adds",
                       percent(std::abs(removed->luminance) / mean),
                       percent(removed->standard_error / mean));
  }
  return out;
}

}  // namespace

std::string render_summary(const Rendered& r, const std::string& folder) {
  std::string out = work_in_words(r) + warnings_in_words(r, folder) + lights_in_words(r.stats) +
                    losses_in_words(r.stats);
  if (r.denoising) {
    out += "\n" + denoising_summary(*r.denoising, folder) + "\nas traced:\n";
  }
  return out +
         fmt::format("look at {}\nread    {}\n",
                     (fs::path(folder) / "view.png").string(),
                     (fs::path(folder) / "image.exr").string()) +
         (r.denoising ? "" : fmt::format("clean   jovilux denoise {}\n", folder));
}

Share parse_slice(const std::string& text) {
  const auto slash = text.find('/');
  const auto k = parse_number(text.substr(0, slash)),
             n = slash == std::string::npos ? std::nullopt : parse_number(text.substr(slash + 1));
  constexpr double kMost = 100'000;
  if (!k || !n || *k != std::floor(*k) || *n != std::floor(*n) || *k < 1 || *n < *k || *n > kMost) {
    throw UsageError(fmt::format("--slice: found \"{}\"; expected K/N such as 3/8, K from 1 to N",
                                 printable(text)));
  }
  return {static_cast<int>(*k) - 1, static_cast<int>(*n)};
}

namespace {

Usage usage_of_render() {
  return Usage{
      "render",
      "RIG",
      "Traces the rig and writes into DIR: image.exr (absolute cd/m2, a layer for each light), "
      "view.png,\nstats.json and rig.resolved.toml. Ctrl-C saves what is finished.",
      {{"o,output", "folder for the results; created", "DIR"},
       {"camera",
        "the camera to use; the rig's first by default; with several, each has a folder of its own "
        "in DIR",
        "NAME"},
       {"each-variant",
        "a picture of its own for this variant, in a folder of its own in DIR; repeatable",
        "NAME"},
       {"noise", "stop when 95 % of the pixels are cleaner than this, such as \"2 %\"", "SHARE"},
       {"time-limit",
        "stop after this time, such as 90s or \"5000 ms\"; a bare number is in s; samples go where "
        "they help most",
        "TIME"},
       {"denoise", "also write denoised.exr and view-denoised.png, as jovilux denoise does", ""},
       {"resume",
        "go on with a render that was interrupted or killed in DIR; the picture is the same, bit "
        "for bit",
        ""},
       {"checkpoint",
        "how often to keep what is finished, in DIR/checkpoint.part; 60 s by default",
        "TIME"},
       {"slice",
        "render the K-th of N equal parts into DIR/slice-K-of-N.part, for jovilux merge",
        "K/N"},
       {"frame", "the moment of this frame of [time], as animate renders it", "N"},
       {"pixel", "write nothing: trace one sample of this pixel, and tell what it brings", "X,Y"},
       {"sample", "with --pixel, which; from 0, 0 by default", "N"},
       {"preview",
        "a small look within 2 s: view.png denoised and enlarged, image.exr as it is; no check",
        ""},
       {"force", "replace results of another rig in DIR", ""},
       {"quiet", "no progress and no warnings", ""},
       {"json", "print stats.json to standard output instead of the summary", ""}},
      "",
      "jovilux render demo-out/rig/orchid-house.toml -o demo-out/bench --camera bench --time-limit "
      "20s"}
      .with(picture_options())
      .with(rig_options())
      .with({threads_option()});
}

// Throws UsageError for options that do not go together.
RenderTask task_of(const Arguments& a) {
  RenderTask task;
  task.rig_file = a.positional();
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the results; see jovilux render --help");
  }
  task.folder = *folder;
  task.request = rig_request(a);
  add_picture_overrides(a, task.request);
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
  task.denoise = a.flag("denoise");
  if (const auto limit = a.text("time-limit")) {
    task.time_limit = amount_option("--time-limit", *limit, Dimension::kTime, 1);
  }
  if (const auto every = a.text("checkpoint")) {
    task.checkpoint_every = amount_option("--checkpoint", *every, Dimension::kTime, 1);
  }
  task.resume = a.flag("resume");
  task.request.frame = a.whole("frame", 0, 999'999);
  if (const auto share = a.text("slice")) {
    task.share = parse_slice(*share);
  }
  if (task.preview && (task.resume || task.share || a.flag("checkpoint"))) {
    throw UsageError("--preview is done in 2 s; leave out --resume, --checkpoint and --slice");
  }
  if (task.denoise && (task.preview || task.share)) {
    throw UsageError(
        "--denoise needs the whole picture: a preview is denoised by itself, of slices denoise "
        "what "
        "merge gives");
  }
  task.spread = !task.preview && !task.share;
  if (!Ranks::of_this_run().alone() && !task.spread) {
    throw UsageError("mpirun spreads the whole picture; leave out --slice and --preview");
  }
  return task;
}

}  // namespace

int run_render(int argc, char** argv) {
  const Arguments a(usage_of_render(), argc, argv);
  if (const auto pixel = a.text("pixel")) {
    return replay_one_sample(a, *pixel);
  }
  if (a.flag("sample")) {
    throw UsageError("--sample goes with --pixel X,Y");
  }
  return render_pictures(task_of(a), a.texts("camera"), a.texts("each-variant"), a.flag("json"));
}

}  // namespace jovilux::cli
