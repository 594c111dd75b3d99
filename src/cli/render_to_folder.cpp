#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/render/exposure_moments.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/preview.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/denoise_verb.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "ranks/ranks.h"
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux::cli {
namespace {

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

using Clock = std::chrono::steady_clock;

// Of a preview's time, what is kept back for the rest [s].
constexpr double kDenoisingAndSaving = 1.25, kSmoothingAndSaving = 0.8;

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

// A finished render of the very rig with more samples is not replaced unasked.
void refuse_to_shorten(const RenderTask& task, const Rig& rig) {
  const Json stats = read_json((fs::path(task.folder) / "stats.json").string());
  if (task.force || task.resume || task.share || !stats.is_object() || rig.render.noise) {
    return;
  }
  const double samples = task.preview ? 1 : rig.render.samples,
               kept = number_in(stats, "samples_per_pixel");
  const bool whole = number_in(stats, "width") >= rig.render.width &&
                     number_in(stats, "height") >= rig.render.height;
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

bool holds_finished(const std::string& folder, const Rig& rig) {
  const std::string stats = text_of(fs::path(folder) / "stats.json");
  const auto ended_by = [&](const char* reason) {
    return stats.find(fmt::format("\"stopped_by\": \"{}\"", reason)) != std::string::npos;
  };
  return (ended_by("samples") || ended_by("noise")) &&
         text_of(fs::path(folder) / "rig.resolved.toml") == resolved_toml(rig, folder);
}

std::string film_name(Share share, bool slice) {
  return !slice && share.whole() ? "checkpoint.part"
                                 : fmt::format("slice-{}-of-{}.part", share.index + 1, share.count);
}

namespace {

// A render from its task to its files, step by step in the order of the functions.
class FolderRender {
 public:
  // `start`: when reading the rig began.
  FolderRender(const RenderTask& task, Clock::time_point start, Rig rig, Problems warnings)
      : start_(start),
        task_(task),
        rig_(std::move(rig)),
        warnings_(std::move(warnings)),
        spread_(task.spread && !ranks_.alone()) {
    apply_task();
    film_ = (fs::path(task_.folder) / film_name(options_.share, task_.share.has_value())).string();
    denoise_ = (task_.denoise || rig_.render.denoise) && !task_.preview && !task_.share;
  }

  Rendered run() {
    if (task_.resume && !task_.share && holds_finished(task_.folder, rig_)) {
      return finished_before();
    }
    if (task_.preview) {
      become_preview();
    }
    with_threads(task_.threads, [&] { prepare(); });
    options_.threads = task_.threads;
    if (task_.preview) {
      fit_preview(rig_, *scene_, options_, layers_.size(), preview_limit(kSmoothingAndSaving));
    }
    open_folder();
    if (!task_.quiet) {
      print_problems(warnings_);
    }
    catch_interrupts();
    set_limits();
    label_ = {to_toml(rig_.document),
              rig_.cameras[static_cast<std::size_t>(options_.camera)].name,
              layers_,
              options_.share,
              false};
    RenderState state(rig_.render.width, rig_.render.height, layers_.size(), parts_of(rig_));
    if (!take_up(state)) {
      return {std::move(rig_), {}, "", true, film_};  // the slice is finished
    }
    set_exchange(state);
    set_checkpoints();
    return save(render(std::move(state)));
  }

 private:
  double preview_limit(double kept_back) const {
    constexpr double kLeast = 0.2;
    return std::max(kLeast, task_.preview_seconds - kept_back - seconds());
  }
  double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

  // What the task says of the rig and of how it is rendered.
  void apply_task() {
    for (LightSpec& light : rig_.lights) {
      light.split_tint =
          std::find(task_.split_tints.begin(), task_.split_tints.end(), light.name) !=
          task_.split_tints.end();
    }
    options_.camera = choose_camera(rig_, task_.camera);
    options_.in_parts = task_.resume;
    options_.share =
        spread_ ? Share{ranks_.index(), ranks_.count()} : task_.share.value_or(Share{});
    if (task_.ev && rig_.look.exposure == LookSpec::Exposure::kAuto) {
      rig_.look.exposure = LookSpec::Exposure::kFixed;
      rig_.look.ev = *task_.ev;
    }
    if (task_.white && rig_.look.white_auto) {
      rig_.look.white_balance = task_.white;
    }
    if (task_.share && rig_.render.noise) {
      throw UsageError(
          "--slice needs a fixed number of samples: adaptive sampling needs the whole picture; set "
          "samples and leave out noise");
    }
  }

  // Of a render that an earlier run has finished only a denoised picture may be missing.
  Rendered finished_before() {
    std::optional<DenoisingReport> denoising;
    if (denoise_ && ranks_.first() && !fs::exists(fs::path(task_.folder) / kDenoisedPicture)) {
      with_threads(task_.threads, [&] { denoising = denoise_folder(task_.folder); });
    }
    return {std::move(rig_), {}, "", true, "", denoising};
  }

  void become_preview() {
    look_ = PreviewLook{rig_.render.width, rig_.render.height, false};
    shrink_for_preview(rig_.render);
    rig_.render.noise.reset();
    rig_.render.light_tracing = false;  // its first round alone takes a good part of the time
  }

  // The scene, the film's layers, what is to be warned of.
  void prepare() {
    auto prepared = task_.like
                        ? prepare_moment(rig_, options_.camera, *task_.like, task_.like->layers)
                        : prepare_scene(rig_, options_.camera);
    if (!prepared) {
      throw BadInput{prepared.problems()};
    }
    warnings_.insert(warnings_.end(), prepared.problems().begin(), prepared.problems().end());
    scene_ = std::make_shared<Scene>(std::move(*prepared));
    auto exposure = exposure_moments(rig_, *scene_, options_.camera);
    if (!exposure) {
      throw BadInput{exposure.problems()};
    }
    if (exposure->moments.empty()) {
      layers_ = scene_->layers;
    } else {
      options_.moments = std::move(exposure->moments);
      layers_ = std::move(exposure->layers);
    }
    if (task_.preview || !task_.check) {
      return;  // a look first: check tells the rest
    }
    const Problems found = check_rig(rig_, *scene_, light_reports(rig_, *scene_));
    warnings_.insert(warnings_.end(), found.begin(), found.end());
  }

  void open_folder() const {
    check_memory(rig_, layers_.size());
    prepare_folder(task_.folder, rig_, task_.force);
    refuse_to_shorten(task_, rig_);
    for (const char* name : {"image.exr",
                             "view.png",
                             "stats.json",
                             "rig.resolved.toml",
                             "denoised.exr",
                             "view-denoised.png"}) {
      remove_leftovers((fs::path(task_.folder) / name).string());
    }
    remove_leftovers(film_);
  }

  // Starting counts as well; a first look at the picture is always taken.
  void set_limits() {
    if (task_.time_limit) {
      constexpr double kLeast = 0.05;
      options_.time_limit = std::max(kLeast, *task_.time_limit - seconds());
    }
    if (task_.preview) {
      options_.in_haste = true;
      // With enough samples to denoise, more of them bring less than that.
      options_.time_limit = preview_limit(kSmoothingAndSaving);
      options_.enough = RenderOptions::Enough{kDenoisedFrom, preview_limit(kDenoisingAndSaving)};
    }
    options_.stop = [this] { return stop_requested() || (task_.stop && task_.stop()); };
  }

  // Goes on with what is kept of an interrupted render. False: it is a slice that is finished.
  bool take_up(RenderState& state) const {
    std::error_code ec;
    if (!task_.resume) {
      return true;
    }
    if (!fs::exists(film_, ec)) {
      if (!task_.quiet && task_.check) {
        print_err("nothing is kept from before: beginning anew\n");
      }
      return true;
    }
    const auto kept = load_state(film_, label_, state);
    if (!kept) {
      throw BadInput{kept.problems()};
    }
    if (kept->share.index != options_.share.index || kept->share.count != options_.share.count) {
      throw BadInput{
          {{Severity::kError,
            "bad-film",
            {film_, 0, 0},
            "",
            fmt::format("holds slice {} of {}", kept->share.index + 1, kept->share.count),
            "give the file back its name"}}};
    }
    check_unchanged(rig_, film_);
    if (kept->finished && task_.share) {
      return false;
    }
    if (!task_.quiet) {
      print_err(fmt::format("going on after {} samples a pixel\n", state.taken));
    }
    return true;
  }

  void set_exchange(RenderState& state) {
    if (spread_) {
      agree_on_start(ranks_, rig_, layers_.size(), state, task_.quiet);
      options_.exchange = [this](const std::string& mine) {
        return ranks_.exchange(mine, options_.stop);
      };
    }
  }

  void set_checkpoints() {
    if (!task_.preview && !task_.stop) {
      options_.checkpoint_every = task_.checkpoint_every;
      // A disk that is full now may have room later, and the picture needs no checkpoint.
      options_.checkpoint = [this](const RenderState& s) { keep_or_warn(film_, label_, s); };
    }
    if (task_.view_every) {
      options_.checkpoint_every = *task_.view_every;
      options_.checkpoint = [this](const RenderState& s) {
        save_view_so_far(task_.folder, rig_, options_.camera, s.film);
      };
    }
  }

  Render render(RenderState&& state) {
    ProgressBar bar(task_.quiet);
    options_.progress = bar.function();
    return render_on(rig_, *scene_, options_, std::move(state));
  }

  Rendered save(Render&& render) {
    const StoppedBy why = render.stats.stopped_by;
    const bool interrupted = why == StoppedBy::kSignal;
    if (interrupted && task_.stop) {
      return {std::move(rig_), std::move(render.stats), "", false, ""};
    }
    // A picture that is to be gone on with is kept as it is.
    const bool goes_on = task_.resume && why == StoppedBy::kTime;
    if (task_.share) {
      label_.finished = why == StoppedBy::kSamples;
      save_state(film_, label_, render.state);
    } else if ((interrupted && !task_.preview) || goes_on) {
      keep_or_warn(film_, label_, render.state);
    }
    Rendered done{std::move(rig_), render.stats, "", false, "", std::nullopt, scene_};
    if (task_.share || (spread_ && interrupted)) {
      if (ranks_.first()) {
        write_text_file((fs::path(task_.folder) / "rig.resolved.toml").string(),
                        resolved_toml(done.rig, task_.folder));
      }
    } else if (!spread_ || ranks_.first()) {
      done.denoising = save_picture(done.rig, std::move(render), interrupted || goes_on);
    }
    std::error_code ec;
    done.film = fs::exists(film_, ec) ? film_ : "";
    return done;
  }

  std::optional<DenoisingReport> save_picture(const Rig& rig, Render&& render, bool keep_film) {
    const bool interrupted = render.stats.stopped_by == StoppedBy::kSignal;
    {
      const Render ended = std::move(render);  // denoising needs its memory
      if (look_) {
        look_->denoised = ended.stats.least_samples >= kDenoisedFrom;
      }
      save_render(task_.folder, rig, layers_, options_, ended, look_);
    }
    std::error_code ec;
    if (!keep_film) {
      fs::remove(film_, ec);  // not before the picture is there
    }
    std::optional<DenoisingReport> denoising;
    if (denoise_ && !interrupted) {
      with_threads(task_.threads, [&] { denoising = denoise_folder(task_.folder); });
    }
    return denoising;
  }

  Clock::time_point start_;
  const RenderTask& task_;
  const Ranks& ranks_ = Ranks::of_this_run();
  Rig rig_;
  Problems warnings_;
  bool spread_;  // over the processes that mpirun has started
  RenderOptions options_;
  std::string film_;  // the file that keeps what is finished
  bool denoise_ = false;
  std::optional<PreviewLook> look_;
  std::shared_ptr<Scene> scene_;
  std::vector<std::string> layers_;  // of the film
  FilmLabel label_;
};

}  // namespace

Rendered render_to_folder(const RenderTask& task) {
  const auto start = Clock::now();
  auto rig = task.document ? read_rig(*task.document, task.rig_file)
                           : load_rig(task.rig_file, task.request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  const Problems warnings = rig.problems();
  return FolderRender(task, start, std::move(*rig), warnings).run();
}

}  // namespace jovilux::cli
