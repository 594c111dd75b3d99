#include "cli/render_verb.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/render/exposure_moments.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/preview.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "cli/arguments.h"
#include "cli/denoise_verb.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_pictures.h"
#include "cli/verbs.h"
#include "ranks/ranks.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <unistd.h>

namespace jovilux::cli {
namespace {

using Json = nlohmann::ordered_json;

namespace fs = std::filesystem;

// A picture that cannot fit is refused before anything is begun.
void check_memory(const Rig& rig, std::size_t layers) {
  const double bytes = Film::memory_bytes(
      rig.render.width, rig.render.height, static_cast<int>(layers), parts_of(rig));
  // What is too large for the memory goes to a file, but for some numbers of each pixel.
  constexpr double kBesides = 40;
  const double memory =
      static_cast<double>(::sysconf(_SC_PHYS_PAGES)) * static_cast<double>(::sysconf(_SC_PAGESIZE));
  const std::string folder = Film::file_folder();
  std::error_code ec;
  const fs::space_info space = fs::space(folder, ec);
  const bool in_file = bytes > Film::most_in_memory(),
             too_many = kBesides * rig.render.width * rig.render.height > 0.8 * memory;
  if (too_many || (in_file && (ec || bytes > static_cast<double>(space.available)))) {
    const DocumentNode* table = rig.document.find("render");
    const DocumentNode* size = table != nullptr ? table->find("size") : nullptr;
    throw BadInput{
        {{Severity::kError,
          "too-large",
          size != nullptr ? size->place : Place{rig.file, 0, 0},
          "render.size",
          fmt::format("{} x {} pixels with layers for {} lights take {} GB; this machine has {} GB "
                      "of memory, {} has {} GB of room",
                      rig.render.width,
                      rig.render.height,
                      layers,
                      short_number(bytes / 1e9, 3),
                      short_number(memory / 1e9, 3),
                      folder,
                      short_number(ec ? 0.0 : static_cast<double>(space.available) / 1e9, 3)),
          "lower size, use layers = \"none\", or name a folder with room in TMPDIR"}}};
  }
}

// Meshes, pictures and profiles must be those that the kept film was made of; the rig's own text is
// compared as such.
void check_unchanged(const Rig& rig, const std::string& film) {
  std::error_code ec;
  const auto kept = fs::last_write_time(film, ec);
  for (const std::string& file : files_of(rig)) {
    const auto changed = fs::last_write_time(file, ec);
    if (!ec && changed > kept && fs::path(file).extension() != ".toml") {
      throw BadInput{{{Severity::kError,
                       "changed-file",
                       {file, 0, 0},
                       "",
                       fmt::format("has changed since {} was written", printable(film, 200)),
                       "render without --resume to begin anew"}}};
    }
  }
}

}  // namespace

namespace {

// Processes that go on together must have stopped at the same place; with a fixed number of samples
// each goes on alone.
void agree_on_start(
    const Ranks& ranks, const Rig& rig, std::size_t layers, RenderState& state, bool quiet) {
  if (!rig.render.noise) {
    return;
  }
  const std::string mine = fmt::format("{} {}", state.passes_done, state.taken);
  const auto all = ranks.exchange(mine, stop_requested);
  if (all && std::all_of(all->begin(), all->end(), [&](const std::string& other) {
        return other == mine;
      })) {
    return;
  }
  if (state.passes_done > 0 && !quiet) {
    print_err("the processes had stopped in different rounds: beginning anew\n");
  }
  state = RenderState(rig.render.width, rig.render.height, layers, parts_of(rig));
}

}  // namespace

namespace {

using Clock = std::chrono::steady_clock;

// Of a preview's time, what is kept back for the rest [s].
constexpr double kDenoisingAndSaving = 1.25, kSmoothingAndSaving = 0.8;

double preview_limit(const RenderTask& task, Clock::time_point start, double kept_back) {
  constexpr double kLeast = 0.2;
  return std::max(kLeast,
                  task.preview_seconds - kept_back -
                      std::chrono::duration<double>(Clock::now() - start).count());
}

// Makes a preview's picture smaller until all of it has some samples in the time that is left, by
// the rate of a tiny one: a small picture that is whole says more than a third of a large one.
void fit_preview(Rig& rig,
                 const Scene& scene,
                 const RenderOptions& options,
                 std::size_t layers,
                 double seconds) {
  constexpr int kTrialWidth = 64, kLeastWidth = 48;
  constexpr double kSamples = 4, kSure = 0.7;
  Rig trial = rig;
  const double shape = static_cast<double>(rig.render.height) / rig.render.width;
  const auto height_of = [&](int width) {
    return std::max(1, static_cast<int>(std::lround(width * shape)));
  };
  trial.render.width = std::min(rig.render.width, kTrialWidth);
  trial.render.height = height_of(trial.render.width);
  trial.render.samples = 1;
  trial.render.guiding = false;
  const auto start = Clock::now();
  render_on(trial,
            scene,
            options,
            RenderState(trial.render.width, trial.render.height, layers, parts_of(trial)));
  const double took = std::chrono::duration<double>(Clock::now() - start).count();
  const double a_second = trial.render.width * trial.render.height / std::max(1e-6, took);
  const double affordable = std::max(0.0, seconds - took) * kSure * a_second / kSamples;
  const double share = affordable / (static_cast<double>(rig.render.width) * rig.render.height);
  if (share < 1) {
    const int width = static_cast<int>(std::lround(rig.render.width * std::sqrt(share)));
    rig.render.width = std::clamp(width, std::min(kLeastWidth, rig.render.width), rig.render.width);
    rig.render.height = height_of(rig.render.width);
  }
}

}  // namespace

namespace {

// A finished render of the very rig with more samples is not replaced unasked.
void refuse_to_shorten(const RenderTask& task, const Rig& rig) {
  const auto stats =
      nlohmann::json::parse(text_of(fs::path(task.folder) / "stats.json"), nullptr, false);
  if (task.force || task.resume || task.share || !stats.is_object() || rig.render.noise) {
    return;
  }
  const auto number = [&stats](const char* key) {  // a file may hold anything
    return stats.contains(key) && stats[key].is_number() ? stats[key].get<double>() : 0.0;
  };
  const double samples = task.preview ? 1 : rig.render.samples, kept = number("samples_per_pixel");
  const bool whole =
      stats.value("width", 0) >= rig.render.width && stats.value("height", 0) >= rig.render.height;
  const auto without_samples = [](const std::string& text) {
    auto document = parse_toml(text, "rig");
    if (!document) {
      return text;
    }
    if (DocumentNode* render = document->find("render"); render != nullptr && render->is_table()) {
      std::erase_if(render->table(), [](const DocumentEntry& e) { return e.key == "samples"; });
    }
    return to_toml(*document);
  };
  if (whole && kept > samples &&
      without_samples(text_of(fs::path(task.folder) / "rig.resolved.toml")) ==
          without_samples(resolved_toml(rig, task.folder))) {
    throw UsageError(
        fmt::format("-o {}: the folder holds this very rig with {} samples a pixel, more than "
                    "asked now; choose "
                    "another folder, or add --force to replace it",
                    printable(task.folder, 200),
                    short_number(kept)));
  }
}

}  // namespace

bool holds_finished(const std::string& folder, const Rig& rig) {
  const std::string stats = text_of(fs::path(folder) / "stats.json");
  const auto ended_by = [&](const char* reason) {
    return stats.find(fmt::format("\"stopped_by\": \"{}\"", reason)) != std::string::npos;
  };
  return (ended_by("samples") || ended_by("noise")) &&
         text_of(fs::path(folder) / "rig.resolved.toml") == resolved_toml(rig, folder);
}

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

// Keeps what is finished; where that cannot be written says so, and the kept one stays as it was.
void keep_or_warn(const std::string& film, const FilmLabel& label, const RenderState& state) {
  try {
    save_state(film, label, state);
  } catch (const MachineTrouble& e) {
    print_err_of_any_rank(
        fmt::format("warning: what is finished could not be kept ({}); the render goes on, but "
                    "cannot be resumed from here\n",
                    printable(e.what(), 300)));
  }
}

}  // namespace

std::string film_name(Share share, bool slice) {
  return !slice && share.whole() ? "checkpoint.part"
                                 : fmt::format("slice-{}-of-{}.part", share.index + 1, share.count);
}

Rendered render_to_folder(const RenderTask& task) {
  const auto start = std::chrono::steady_clock::now();
  auto rig = task.document ? read_rig(*task.document, task.rig_file)
                           : load_rig(task.rig_file, task.request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  for (LightSpec& light : rig->lights) {
    light.split_tint = std::find(task.split_tints.begin(), task.split_tints.end(), light.name) !=
                       task.split_tints.end();
  }
  RenderOptions options;
  options.camera = choose_camera(*rig, task.camera);
  const Ranks& ranks = Ranks::of_this_run();
  const bool spread = task.spread && !ranks.alone();
  options.in_parts = task.resume;
  options.share = spread ? Share{ranks.index(), ranks.count()} : task.share.value_or(Share{});
  if (task.ev && rig->look.exposure == LookSpec::Exposure::kAuto) {
    rig->look.exposure = LookSpec::Exposure::kFixed;
    rig->look.ev = *task.ev;
  }
  if (task.white && rig->look.white_auto) {
    rig->look.white_balance = task.white;
  }
  if (task.share && rig->render.noise) {
    throw UsageError(
        "--slice needs a fixed number of samples: adaptive sampling needs the whole picture; set "
        "samples and leave out noise");
  }
  const std::string film =
      (fs::path(task.folder) / film_name(options.share, task.share.has_value())).string();
  const bool denoise = (task.denoise || rig->render.denoise) && !task.preview && !task.share;
  if (task.resume && !task.share && holds_finished(task.folder, *rig)) {
    std::optional<DenoisingReport> denoising;
    if (denoise && ranks.first() && !fs::exists(fs::path(task.folder) / kDenoisedPicture)) {
      with_threads(task.threads, [&] { denoising = denoise_folder(task.folder); });
    }
    return {std::move(*rig), {}, "", true, "", std::move(denoising)};
  }
  std::optional<PreviewLook> shown;
  if (task.preview) {
    shown = PreviewLook{rig->render.width, rig->render.height, false};
    shrink_for_preview(rig->render);
    rig->render.noise.reset();
    rig->render.light_tracing = false;  // its first round alone takes a good part of the time
  }
  std::shared_ptr<Scene> scene;
  std::vector<std::string> layers;  // of the film
  Problems warnings = rig.problems();
  with_threads(task.threads, [&] {
    auto prepared = task.like ? prepare_moment(*rig, options.camera, *task.like, task.like->layers)
                              : prepare_scene(*rig, options.camera);
    if (!prepared) {
      throw BadInput{prepared.problems()};
    }
    warnings.insert(warnings.end(), prepared.problems().begin(), prepared.problems().end());
    scene = std::make_shared<Scene>(std::move(*prepared));
    auto exposure = exposure_moments(*rig, *scene, options.camera);
    if (!exposure) {
      throw BadInput{exposure.problems()};
    }
    if (!exposure->moments.empty()) {
      options.moments = std::move(exposure->moments);
      layers = std::move(exposure->layers);
    } else {
      layers = scene->layers;
    }
    if (task.preview || !task.check) {
      return;  // a look first: check tells the rest
    }
    const Problems found = check_rig(*rig, *scene, light_reports(*rig, *scene));
    warnings.insert(warnings.end(), found.begin(), found.end());
  });
  if (task.preview) {
    options.threads = task.threads;
    fit_preview(
        *rig, *scene, options, layers.size(), preview_limit(task, start, kSmoothingAndSaving));
  }
  check_memory(*rig, layers.size());
  prepare_folder(task.folder, *rig, task.force);
  refuse_to_shorten(task, *rig);
  for (const char* name : {"image.exr",
                           "view.png",
                           "stats.json",
                           "rig.resolved.toml",
                           "denoised.exr",
                           "view-denoised.png"}) {
    remove_leftovers((fs::path(task.folder) / name).string());
  }
  remove_leftovers(film);
  if (!task.quiet) {
    print_problems(warnings);
  }
  catch_interrupts();
  options.threads = task.threads;
  if (task.time_limit) {  // starting counts as well; a first look at the picture is always taken
    constexpr double kLeast = 0.05;
    const double taken = std::chrono::duration<double>(Clock::now() - start).count();
    options.time_limit = std::max(kLeast, *task.time_limit - taken);
  }
  if (task.preview) {
    options.in_haste = true;
    // With enough samples to denoise, more of them bring less than that.
    options.time_limit = preview_limit(task, start, kSmoothingAndSaving);
    options.enough =
        RenderOptions::Enough{kDenoisedFrom, preview_limit(task, start, kDenoisingAndSaving)};
  }
  options.stop = [&task] { return stop_requested() || (task.stop && task.stop()); };
  FilmLabel label{to_toml(rig->document),
                  rig->cameras[static_cast<std::size_t>(options.camera)].name,
                  layers,
                  options.share,
                  false};
  RenderState state(rig->render.width, rig->render.height, layers.size(), parts_of(*rig));
  std::error_code ec;
  if (task.resume && fs::exists(film, ec)) {
    const auto kept = load_state(film, label, state);
    if (!kept) {
      throw BadInput{kept.problems()};
    }
    if (kept->share.index != options.share.index || kept->share.count != options.share.count) {
      throw BadInput{
          {{Severity::kError,
            "bad-film",
            {film, 0, 0},
            "",
            fmt::format("holds slice {} of {}", kept->share.index + 1, kept->share.count),
            "give the file back its name"}}};
    }
    check_unchanged(*rig, film);
    if (kept->finished && task.share) {
      return {std::move(*rig), {}, "", true, film};
    }
    if (!task.quiet) {
      print_err(fmt::format("going on after {} samples a pixel\n", state.taken));
    }
  } else if (task.resume && !task.quiet && task.check) {
    print_err("nothing is kept from before: beginning anew\n");
  }
  if (spread) {
    agree_on_start(ranks, *rig, layers.size(), state, task.quiet);
    options.exchange = [&ranks, &options](const std::string& mine) {
      return ranks.exchange(mine, options.stop);
    };
  }
  if (!task.preview && !task.stop) {
    options.checkpoint_every = task.checkpoint_every;
    // A disk that is full now may have room later, and the picture needs no checkpoint.
    options.checkpoint = [&](const RenderState& s) { keep_or_warn(film, label, s); };
  }
  if (task.view_every) {
    options.checkpoint_every = *task.view_every;
    options.checkpoint = [&](const RenderState& s) {
      save_view_so_far(task.folder, *rig, options.camera, s.film);
    };
  }
  std::optional<Render> result;
  {
    ProgressBar bar(task.quiet);
    options.progress = bar.function();
    result = render_on(*rig, *scene, options, std::move(state));
    if (shown) {
      shown->denoised = result->stats.least_samples >= kDenoisedFrom;
    }
  }
  const StoppedBy why = result->stats.stopped_by;
  const bool interrupted = why == StoppedBy::kSignal;
  if (interrupted && task.stop) {
    return {std::move(*rig), std::move(result->stats), "", false, ""};
  }
  RenderStats stats = result->stats;
  std::optional<DenoisingReport> denoising;
  if (task.share || (interrupted && !task.preview) || (task.resume && why == StoppedBy::kTime)) {
    label.finished = task.share && why == StoppedBy::kSamples;
    if (task.share) {
      save_state(film, label, result->state);
    } else {
      keep_or_warn(film, label, result->state);
    }
  }
  if (task.share || (spread && interrupted)) {
    if (ranks.first()) {
      write_text_file((fs::path(task.folder) / "rig.resolved.toml").string(),
                      resolved_toml(*rig, task.folder));
    }
  } else if (!spread || ranks.first()) {
    save_render(task.folder, *rig, label.layers, options, *result, shown);
    if (!interrupted && !(task.resume && why == StoppedBy::kTime)) {
      fs::remove(film, ec);  // not before the picture is there
    }
    if (denoise && !interrupted) {
      result.reset();  // its memory is needed
      with_threads(task.threads, [&] { denoising = denoise_folder(task.folder); });
    }
  }
  return {std::move(*rig),
          std::move(stats),
          "",
          false,
          fs::exists(film, ec) ? film : "",
          std::move(denoising),
          std::move(scene)};
}

// Variances come from this many independent scramblings.
constexpr int kFewSamples = 8;

std::string render_summary(const Rendered& r, const std::string& folder) {
  const RenderStats& s = r.stats;
  static constexpr const char* kWhy[] = {
      "all samples taken", "noise reached", "time limit", "interrupted"};
  const double rays = static_cast<double>(s.rays.camera + s.rays.path + s.rays.shadow);
  std::string out = fmt::format(
      "{} x {}, {} samples a pixel in {:.1f} s with {} thread{} ({}), {} million rays/s\n",
      r.rig.render.width,
      r.rig.render.height,
      short_number(s.samples_per_pixel, 4),
      s.wall_s,
      s.threads,
      s.threads == 1 ? "" : "s",
      kWhy[static_cast<int>(s.stopped_by)],
      short_number(rays / std::max(1e-9, s.wall_s) / 1e6, 3));
  const auto percent = [](double v) {
    return std::isfinite(v) ? short_number(100 * v, 3) + " %" : std::string("unknown");
  };
  out += fmt::format("noise: median {}, 95 % of pixels below {}; fireflies {}\n",
                     percent(s.noise.median),
                     percent(s.noise.p95),
                     s.noise.fireflies);
  if (s.rays.march.exhausted > 0) {
    out += fmt::format(
        "marching: {} of {} million marches ran out of steps; raise [render] march = {{ max_steps "
        "= {} }}\n",
        s.rays.march.exhausted,
        short_number(static_cast<double>(s.rays.march.marches) / 1e6, 3),
        2 * r.rig.render.march.max_steps);
  }
  out += fmt::format("mean luminance {} cd/m2\n\n", short_number(s.mean_luminance));
  if (s.samples_per_pixel < kFewSamples && s.samples_per_pixel > 0) {
    out += fmt::format(
        "noise and fireflies of fewer than {} samples a pixel mean little: the spread of "
        "so few tells no error\n\n",
        kFewSamples);
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
  std::vector<std::vector<std::string>> rows = {{"light", "mean cd/m2", "share", "noise"}};
  for (const auto& l : s.lights) {
    rows.push_back({l.name, short_number(l.mean_luminance), percent(l.share), percent(l.noise)});
  }
  if (rows.size() > 1) {
    out += text_table(rows) + "\n";
  }
  for (const auto& l : s.lights) {
    if (l.clamped > 0) {
      out += fmt::format("{}: its bounce_limit held back {} cd/m2 in the mean, {} of its light\n",
                         l.name,
                         short_number(l.clamped),
                         percent(l.clamped / (l.clamped + l.mean_luminance)));
    }
  }
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

int run_render(int argc, char** argv) {
  Usage usage{
      "render",
      "RIG",
      "Traces the rig and writes into DIR: image.exr (absolute cd/m2, a layer for each light), "
      "view.png,\nstats.json and rig.resolved.toml. Ctrl-C saves what is finished.",
      {{"o,output", "folder for the results; created", "DIR"},
       {"camera",
        "the camera to use; the rig's first by default; with several, each has a folder of its "
        "own in DIR",
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
      "20s"};
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
  if (const auto pixel = a.text("pixel")) {
    return replay_one_sample(a, *pixel);
  }
  if (a.flag("sample")) {
    throw UsageError("--sample goes with --pixel X,Y");
  }
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
  const Ranks& ranks = Ranks::of_this_run();
  task.spread = !task.preview && !task.share;
  if (!ranks.alone() && !task.spread) {
    throw UsageError("mpirun spreads the whole picture; leave out --slice and --preview");
  }
  return render_pictures(task, a.texts("camera"), a.texts("each-variant"), a.flag("json"));
}

}  // namespace jovilux::cli
