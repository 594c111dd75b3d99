#include "cli/animation_frames.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/files/webp.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/preview.h"

#include <algorithm>
#include <chrono>
#include <cmath>

#include "cli/output.h"
#include "cli/progress_bar.h"
#include "figures/sheet_figure.h"
#include "ranks/ranks.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

// By a rough picture of the middle frame.
View measured_view(const Animation& an) {
  Rig rig = an.rigs[an.rigs.size() / 2];
  shrink_for_preview(rig.render);
  constexpr int kRough = 16;
  rig.render.samples = kRough;
  rig.render.noise.reset();
  RenderOptions options;
  options.camera = camera_index(rig, an.camera);
  options.threads = an.threads;
  options.stop = stop_requested;
  const auto scene = prepare_scene(rig, options.camera);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  const Render r = render(rig, *scene, options);
  return look_view(rig.look, rig.cameras[static_cast<std::size_t>(options.camera)], r.film());
}

double ev_of(const Animation& an, const Rig& rig) {
  const CameraSpec& camera = rig.cameras[static_cast<std::size_t>(camera_index(rig, an.camera))];
  return rig.look.exposure == LookSpec::Exposure::kAuto
             ? an.ev.value_or(0)
             : look_ev(rig.look, camera, Film(1, 1, 0, 1));
}

// A render that belongs to an animation, in a folder of its own; an earlier run's is gone on with.
RenderTask task_in(const Animation& an, const std::string& folder) {
  RenderTask task;
  task.rig_file = an.rig_file;
  task.folder = folder;
  task.camera = an.camera;
  task.threads = an.threads;
  task.force = true;
  task.resume = true;
  task.check = false;
  task.denoise = an.denoised;
  return task;
}

RenderTask task_of_frame(const Animation& an, const Frame& f) {
  RenderTask task = task_in(an, f.folder);
  task.request = an.request;
  task.request.frame = f.number;
  task.quiet = true;
  task.ev = an.ev;
  task.white = an.rig.look.white_auto ? an.white : std::nullopt;
  return task;
}

// Moves a frame's pictures from the folder where it was rendered to the frames.
void keep_frame(const Animation& an, const Frame& f) {
  std::error_code ec;
  fs::rename(fs::path(f.folder) / (an.denoised ? kDenoisedView : "view.png"), f.png, ec);
  if (!ec) {
    fs::rename(fs::path(f.folder) / (an.denoised ? kDenoisedPicture : "image.exr"), f.exr, ec);
  }
  if (ec) {
    throw MachineTrouble(fmt::format("moving {} to {}: {}", f.folder, f.exr, ec.message()));
  }
  fs::remove_all(f.folder, ec);
}

}  // namespace

std::string Animation::rig_text(const Frame& f) const {
  return resolved_toml(rig_of(f), (dir / "frames").string());
}

bool is_there(const Animation& an, const Frame& f) {
  std::error_code ec;
  if (!fs::exists(f.exr, ec) || !fs::exists(f.png, ec)) {
    return false;
  }
  const auto exr = ExrReader::open(f.exr);
  if (!exr) {
    return false;
  }
  const auto text = exr->header().texts.find(kRigAttribute);
  return text != exr->header().texts.end() && text->second == an.rig_text(f) &&
         exr->header().texts.contains(kDenoisedAttribute) == an.denoised;
}

void measure_look(Animation& an) {
  const bool exposure = an.rig.look.exposure == LookSpec::Exposure::kAuto;
  if (!exposure && !an.rig.look.white_auto) {
    return;
  }
  const View found = measured_view(an);
  if (exposure) {
    an.ev = found.ev();
  }
  an.white = found.found_white().value_or(White{});  // D65 where the middle frame shows no light
  for (Rig& rig : an.rigs) {
    if (rig.look.white_auto) {
      rig.look.white_balance = an.white;
    }
  }
}

std::optional<BaseRender> frames_by_layers(Animation& an, const FramesFromLayers& plan) {
  RenderTask task = task_in(an, (an.dir / "layers").string());
  task.document = plan.document;
  task.split_tints = plan.split_tints;
  task.quiet = an.quiet;
  task.spread = true;
  const auto start = std::chrono::steady_clock::now();
  if (!an.quiet) {
    print_err(fmt::format("one render gives all {} frames: levels and tints act on its layers\n",
                          an.frames.size()));
  }
  const Rendered base = render_to_folder(task);
  const BaseRender made{seconds_since(start), base.was_there};
  if (!base.was_there && base.stats.stopped_by == StoppedBy::kSignal) {
    return std::nullopt;
  }
  const Ranks& ranks = Ranks::of_this_run();
  if (!ranks.first()) {
    return made;
  }
  const auto image = load_rendered(task.folder, true, an.denoised);
  if (!image) {
    throw BadInput{image.problems()};
  }
  with_threads(an.threads, [&] {
    parallel_for(an.frames.size(), [&](std::size_t i) {
      Frame& f = an.frames[i];
      if (f.there || stop_requested()) {
        return;
      }
      const auto began = std::chrono::steady_clock::now();
      save_picture(f.exr,
                   f.png,
                   an.rig_of(f),
                   an.rig_text(f),
                   ev_of(an, an.rig_of(f)),
                   frame_of_layers(*image, plan, f.at),
                   an.denoised);
      f.seconds = seconds_since(began);
    });
  });
  return stop_requested() ? std::nullopt : std::optional(made);
}

bool frames_one_by_one(Animation& an) {
  const Ranks& ranks = Ranks::of_this_run();
  std::vector<Frame*> mine;
  for (std::size_t i = 0; i < an.frames.size(); ++i) {
    if (!an.frames[i].there &&
        static_cast<int>(i % static_cast<std::size_t>(ranks.count())) == ranks.index()) {
      mine.push_back(&an.frames[i]);
    }
  }
  const auto start = std::chrono::steady_clock::now();
  std::size_t done = 0;
  for (Frame* const frame : mine) {
    Frame& f = *frame;
    const auto began = std::chrono::steady_clock::now();
    const Rendered done_now = render_to_folder(task_of_frame(an, f));
    if (!done_now.was_there && done_now.stats.stopped_by == StoppedBy::kSignal) {
      return false;
    }
    f.seconds = seconds_since(began);
    keep_frame(an, f);
    ++done;
    if (!an.quiet) {
      const double each = seconds_since(start) / static_cast<double>(done);
      print_err(fmt::format("frame {}: {} of {}, {:.1f} s each, {:.0f} s left\n",
                            f.number,
                            done,
                            mine.size(),
                            each,
                            each * static_cast<double>(mine.size() - done)));
    }
  }
  return ranks.exchange("done", stop_requested).has_value();
}

std::string make_clip(const Animation& an) {
  const TimeSpec& time = an.rig.time;
  const auto png_of = [&](int number) {
    return (an.dir / "frames" / fmt::format("frame.{:04}.png", number)).string();
  };
  std::error_code ec;
  for (int f = time.first; f <= time.last; ++f) {
    if (!fs::exists(png_of(f), ec)) {
      return "";
    }
  }
  std::string path = (an.dir / "clip.webp").string();
  std::optional<WebpClip> clip;
  const auto ms = [&](int frames) {
    return static_cast<int>(std::lround(1000.0 * frames / time.rate));
  };
  for (int f = time.first; f <= time.last; ++f) {
    const auto image = load_image(png_of(f), false);
    if (!image) {
      throw BadInput{image.problems()};
    }
    if (!clip) {
      if (std::max(image->width, image->height) > kMostWebpSide) {
        return "";
      }
      clip.emplace(path, image->width, image->height);
    }
    std::vector<std::uint8_t> bytes(image->rgb.size());
    std::transform(image->rgb.begin(), image->rgb.end(), bytes.begin(), [](float v) {
      return static_cast<std::uint8_t>(std::lround(255 * std::clamp(v, 0.0f, 1.0f)));
    });
    clip->add(bytes, ms(f - time.first));
  }
  clip->finish(ms(time.last - time.first + 1));
  return path;
}

void make_strip(const Animation& an) {
  constexpr std::size_t kMost = 9;
  std::vector<figures::SheetCell> cells;
  const std::size_t n = an.frames.size(), shown = std::min(n, kMost);
  for (std::size_t k = 0; k < shown; ++k) {
    const Frame& f = an.frames[shown > 1 ? k * (n - 1) / (shown - 1) : 0];
    cells.push_back(
        {f.png, fmt::format("frame {}", f.number), fmt::format("{:.3f} s", f.time_s), false});
  }
  figures::sheet_figure((an.dir / "strip.png").string(),
                        an.rig.title.empty() ? "Frames over time" : an.rig.title,
                        cells,
                        0);
}

}  // namespace jovilux::cli
