#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/files/webp.h"
#include "jovilux/judge/animation.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/preview.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <map>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include "figures/levels_figure.h"
#include "figures/sheet_figure.h"
#include "ranks/ranks.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

double seconds_since(std::chrono::steady_clock::time_point start) {
  return std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
}

struct Frame {
  int number = 0;
  double time_s = 0;
  std::size_t at = 0;            // among all of the rig's
  std::string exr, png, folder;  // folder: where it is rendered
  bool there = false;            // from before
  double seconds = 0;            // that it took
};

// Everything that the steps share.
struct Animation {
  std::string rig_file, camera;
  fs::path dir;
  RigRequest request;
  int threads = 0;
  bool quiet = false, denoised = false;
  Rig rig;                     // at the first frame
  std::vector<Frame> frames;   // to be made
  std::vector<Rig> rigs;       // of all frames of [time]
  std::optional<double> ev;    // of an automatic exposure
  std::optional<White> white;  // of an automatic white

  const Rig& rig_of(const Frame& f) const { return rigs[f.at]; }
  std::string rig_text(const Frame& f) const {
    return resolved_toml(rig_of(f), (dir / "frames").string());
  }
};

// "10..20" or "12" within the rig's frames.
std::pair<int, int> frame_range(const std::string& text, const TimeSpec& time) {
  const auto dots = text.find("..");
  const auto first = parse_number(text.substr(0, dots)),
             last = dots == std::string::npos ? first : parse_number(text.substr(dots + 2));
  if (!first || !last || *first != std::floor(*first) || *last != std::floor(*last) ||
      *first < time.first || *last > time.last || *last < *first) {
    throw UsageError(fmt::format("--frames: found \"{}\"; expected A..B within {}..{}",
                                 printable(text),
                                 time.first,
                                 time.last));
  }
  return {static_cast<int>(*first), static_cast<int>(*last)};
}

// Whether a frame's files are there and of this rig.
bool is_there(const Frame& f, const std::string& rig_text, bool denoised) {
  std::error_code ec;
  if (!fs::exists(f.exr, ec) || !fs::exists(f.png, ec)) {
    return false;
  }
  const auto exr = ExrReader::open(f.exr);
  if (!exr) {
    return false;
  }
  const auto text = exr->header().texts.find(kRigAttribute);
  return text != exr->header().texts.end() && text->second == rig_text &&
         exr->header().texts.contains(kDenoisedAttribute) == denoised;
}

// An automatic exposure is measured once, on a rough picture of the middle frame: else it would
// undo what the lights do.
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

// What `auto` finds in the middle frame holds for all of them.
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

double ev_of(const Animation& an, const Rig& rig) {
  const CameraSpec& camera = rig.cameras[static_cast<std::size_t>(camera_index(rig, an.camera))];
  return rig.look.exposure == LookSpec::Exposure::kAuto
             ? an.ev.value_or(0)
             : look_ev(rig.look, camera, Film(1, 1, 0, 1));
}

// All frames from one render; false when interrupted.
bool frames_by_layers(Animation& an,
                      const FramesFromLayers& plan,
                      double& base_seconds,
                      bool& base_kept) {
  RenderTask task;
  task.rig_file = an.rig_file;
  task.document = plan.document;
  task.split_tints = plan.split_tints;
  task.folder = (an.dir / "layers").string();
  task.camera = an.camera;
  task.threads = an.threads;
  task.quiet = an.quiet;
  task.force = true;
  task.resume = true;
  task.check = false;
  task.spread = true;
  task.denoise = an.denoised;
  const auto start = std::chrono::steady_clock::now();
  if (!an.quiet) {
    print_err(fmt::format("one render gives all {} frames: levels and tints act on its layers\n",
                          an.frames.size()));
  }
  const Rendered base = render_to_folder(task);
  base_kept = base.was_there;
  base_seconds = seconds_since(start);
  if (!base.was_there && base.stats.stopped_by == StoppedBy::kSignal) {
    return false;
  }
  const Ranks& ranks = Ranks::of_this_run();
  if (!ranks.first()) {
    return true;
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
  return !stop_requested();
}

// Frame by frame, each from its own render; processes of mpirun take them in turn. False when
// interrupted.
bool frames_one_by_one(Animation& an) {
  const Ranks& ranks = Ranks::of_this_run();
  std::size_t done = 0, mine = 0;
  for (std::size_t i = 0; i < an.frames.size(); ++i) {
    mine +=
        i % static_cast<std::size_t>(ranks.count()) == static_cast<std::size_t>(ranks.index()) &&
                !an.frames[i].there
            ? 1
            : 0;
  }
  const auto start = std::chrono::steady_clock::now();
  for (std::size_t i = 0; i < an.frames.size(); ++i) {
    Frame& f = an.frames[i];
    if (f.there ||
        i % static_cast<std::size_t>(ranks.count()) != static_cast<std::size_t>(ranks.index())) {
      continue;
    }
    RenderTask task;
    task.rig_file = an.rig_file;
    task.request = an.request;
    task.request.frame = f.number;
    task.folder = f.folder;
    task.camera = an.camera;
    task.threads = an.threads;
    task.quiet = true;
    task.force = true;
    task.resume = true;
    task.check = false;
    task.ev = an.ev;
    task.white = an.rig.look.white_auto ? an.white : std::nullopt;
    task.denoise = an.denoised;
    const auto began = std::chrono::steady_clock::now();
    const Rendered done_now = render_to_folder(task);
    if (!done_now.was_there && done_now.stats.stopped_by == StoppedBy::kSignal) {
      return false;
    }
    f.seconds = seconds_since(began);
    std::error_code ec;
    fs::rename(fs::path(f.folder) / (an.denoised ? kDenoisedView : "view.png"), f.png, ec);
    if (!ec) {
      fs::rename(fs::path(f.folder) / (an.denoised ? kDenoisedPicture : "image.exr"), f.exr, ec);
    }
    if (ec) {
      throw MachineTrouble(fmt::format("moving {} to {}: {}", f.folder, f.exr, ec.message()));
    }
    fs::remove_all(f.folder, ec);
    ++done;
    if (!an.quiet) {
      const double each = seconds_since(start) / static_cast<double>(done);
      print_err(fmt::format("frame {}: {} of {}, {:.1f} s each, {:.0f} s left\n",
                            f.number,
                            done,
                            mine,
                            each,
                            each * static_cast<double>(mine - done)));
    }
  }
  return ranks.exchange("done", stop_requested).has_value();
}

// What a meter shows over time: [frame], and by light.
struct MeterCurve {
  std::string name, unit;
  std::vector<double> values;
  double standard_error = 0;  // of the largest value
  FlickerFigures framed;
};

void add_reading(MeterCurve& c, const MeterResult& m) {
  double squares = 0;
  for (const MeterReading& r : m.readings) {
    squares += r.standard_error * r.standard_error;
    c.unit = r.luminance ? "cd/m2" : "lx";
  }
  c.standard_error =
      std::max(c.standard_error, std::sqrt(squares) / static_cast<double>(m.readings.size()));
}

// By one reading of each light where levels alone change, else by one of each frame. Nothing where
// it was interrupted: values that have not settled are none.
std::optional<std::vector<MeterCurve>> meter_curves(const Animation& an,
                                                    const std::vector<std::string>& names,
                                                    const FramesFromLayers* plan) {
  std::vector<MeterCurve> out;
  const auto only = [&](Rig& rig, const std::string& name) {
    std::erase_if(rig.meters, [&](const MeterSpec& m) { return m.name != name; });
  };
  MeteringOptions options;
  options.threads = an.threads;
  options.stop = stop_requested;
  for (const std::string& name : names) {
    MeterCurve c;
    c.name = name;
    const auto read = [&](Rig rig) {
      only(rig, name);
      if (plan != nullptr) {
        for (LightSpec& light : rig.lights) {
          light.split_tint =
              std::find(plan->split_tints.begin(), plan->split_tints.end(), light.name) !=
              plan->split_tints.end();
        }
      }
      const auto scene = prepare_scene(rig, camera_index(rig, an.camera));
      if (!scene) {
        throw BadInput{scene.problems()};
      }
      return read_meters(rig, *scene, options)[0];
    };
    if (plan != nullptr) {
      // By light, once.
      auto base = read_rig(plan->document, an.rig_file);
      const MeterResult m = read(*base);
      if (stop_requested()) {
        return std::nullopt;
      }
      const double points = static_cast<double>(m.readings.size());
      for (const Frame& frame : an.frames) {
        double sum = 0;  // a grid counts by its average
        for (const MeterReading& r : m.readings) {
          for (std::size_t l = 0; l < m.layers.size(); ++l) {
            const auto known = plan->factors.find(m.layers[l]);
            sum += r.by_light[l].value / points *
                   (known == plan->factors.end() ? 1 : known->second[frame.at]);
          }
        }
        c.values.push_back(sum);
      }
      add_reading(c, m);
    } else {
      for (const Frame& frame : an.frames) {
        const MeterResult m = read(an.rig_of(frame));
        if (stop_requested()) {
          return std::nullopt;
        }
        c.values.push_back(m.average);
        add_reading(c, m);
      }
    }
    c.framed = flicker_figures(c.values);
    out.push_back(std::move(c));
  }
  return out;
}

std::string csv(const Animation& an,
                const std::vector<LevelCurve>& curves,
                const std::vector<MeterCurve>& meters) {
  std::string out = "frame,time_s";
  for (const LevelCurve& c : curves) {
    out += "," + csv_field(c.name);
  }
  for (const MeterCurve& m : meters) {
    out += "," + csv_field(m.name + " " + m.unit);
  }
  out += "\n";
  for (std::size_t f = 0; f < an.frames.size(); ++f) {
    out += fmt::format("{},{:.9g}", an.frames[f].number, an.frames[f].time_s);
    for (const LevelCurve& c : curves) {
      out += fmt::format(",{:.9g}", c.in_frames[f]);
    }
    for (const MeterCurve& m : meters) {
      out += fmt::format(",{:.6g}", m.values[f]);
    }
    out += "\n";
  }
  return out;
}

// The clip, once all frames of the rig's [time] are there. Returns its path; empty where some are
// missing.
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
  const std::string path = (an.dir / "clip.webp").string();
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

// The rig's file wherever the program is started.
std::string path_of(const Animation& an) {
  std::error_code ec;
  return fs::weakly_canonical(an.rig_file, ec).string();
}

// A folder that holds another rig's animation is not written over unasked.
void refuse_another_rigs(const Animation& an, bool force) {
  std::ifstream in(an.dir / "animation.json");
  const auto known = in && !force ? Json::parse(in, nullptr, false) : Json();
  const auto text = [&known](const char* key) {  // a file may hold anything
    return known.is_object() && known.contains(key) && known[key].is_string()
               ? known[key].get<std::string>()
               : std::string();
  };
  const std::string path = text("rig_path"), other = path.empty() ? text("rig") : path;
  if (!other.empty() && !is_of_rig(an.dir.string(), other, an.rig)) {
    throw UsageError(
        fmt::format("-o {}: the folder holds the animation of another rig ({}); choose another "
                    "folder, or add --force to replace it",
                    printable(an.dir.string(), 200),
                    printable(other, 200)));
  }
}

Json figures_json(const FlickerFigures& f) {
  return {{"least", f.least},
          {"most", f.most},
          {"mean", f.mean},
          {"percent_flicker", 100 * f.percent},
          {"flicker_index", f.index}};
}

}  // namespace

int run_animate(int argc, char** argv) {
  Usage usage{
      "animate",
      "RIG",
      "Renders the frames of the rig's [time] into DIR/frames (EXR and PNG), "
      "DIR/clip.webp, DIR/strip.png, and each light's level over\n"
      "time: DIR/levels.png, DIR/levels.csv. Frames that an earlier run has finished are "
      "kept. Where only levels and tints move,\n"
      "all frames come from the layers of one render.",
      {{"o,output", "folder for the results; created", "DIR"},
       {"frames", "only these; the clip is made once all are there", "A..B"},
       {"meter", "also the reading of this meter over time; repeatable", "NAME"},
       {"camera", "the camera to use; the rig's first by default", "NAME"},
       {"hold-noise",
        "the same noise in all frames; by default it differs, unless the rig gives a seed",
        ""},
       {"denoised", "denoise what is rendered, and make the clip of that; holds the noise", ""},
       {"exact", "render each frame, also where one render's layers give them", ""},
       {"levels-only", "no frames: levels and meters alone", ""},
       {"force", "replace results of another rig in DIR", ""},
       {"quiet", "no progress and no warnings", ""},
       {"json", "print one JSON document instead", ""}},
      "mpirun -n N jovilux animate ... shares the frames out.",
      "jovilux animate demo-out/rig/orchid-house.toml --size 320x180 --samples 16 --meter "
      "seedlings -o flame"};
  for (const std::vector<Option>& more : {picture_options(), rig_options()}) {
    usage.options.insert(usage.options.end(), more.begin(), more.end());
  }
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the results; see jovilux animate --help");
  }
  Animation an;
  an.rig_file = a.positional();
  an.camera = a.text("camera").value_or("");
  an.dir = *folder;
  an.threads = threads_of(a);
  an.quiet = a.flag("quiet");
  an.denoised = a.flag("denoised");
  an.request = rig_request(a);
  // Denoising leaves blotches: held still, they do not flicker.
  an.request.hold_noise = a.flag("hold-noise") || an.denoised;
  add_picture_overrides(a, an.request);
  auto rig = load_rig(an.rig_file, an.request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  if (!rig->time.given) {
    throw BadInput{
        {{Severity::kError,
          "missing-key",
          {an.rig_file, 0, 0},
          "time",
          "the rig has no frames",
          "add [time] with frames = [1, 48] and rate = 24; or --set \"time.frames=[1, 48]\""}}};
  }
  if (!an.quiet) {
    print_problems(rig.problems());
  }
  an.rig = std::move(*rig);
  camera_index(an.rig, an.camera);
  for (const std::string& name : a.texts("meter")) {
    std::vector<std::string> names;
    for (const MeterSpec& m : an.rig.meters) {
      names.push_back(m.name);
    }
    if (std::find(names.begin(), names.end(), name) == names.end()) {
      const std::string hint = did_you_mean(name, names);
      throw UsageError(fmt::format("--meter: the rig has no meter \"{}\"{}",
                                   printable(name),
                                   hint.empty() ? "" : "; " + hint));
    }
  }
  const auto [first, last] = a.text("frames") ? frame_range(*a.text("frames"), an.rig.time)
                                              : std::pair(an.rig.time.first, an.rig.time.last);
  std::vector<double> moments;
  for (int f = first; f <= last; ++f) {
    Frame frame;
    frame.number = f;
    frame.at = static_cast<std::size_t>(f - an.rig.time.first);
    frame.time_s = an.rig.time.moment_of(f);
    frame.exr = (an.dir / "frames" / fmt::format("frame.{:04}.exr", f)).string();
    frame.png = (an.dir / "frames" / fmt::format("frame.{:04}.png", f)).string();
    frame.folder = (an.dir / fmt::format("work-{:04}", f)).string();
    an.frames.push_back(frame);
    moments.push_back(frame.time_s);
  }
  for (int f = an.rig.time.first; f <= an.rig.time.last; ++f) {
    const bool own_seed = !an.rig.render.seed_given && !an.request.hold_noise;
    auto there = rig_at(an.rig,
                        an.rig.time.moment_of(f),
                        own_seed ? std::optional(frame_seed(an.rig, f)) : std::nullopt);
    if (!there) {
      throw BadInput{there.problems()};
    }
    an.rigs.push_back(std::move(*there));
  }
  // The plan is made for all frames of the rig, so that runs over parts of them share it.
  std::variant<FramesFromLayers, std::string> plan = std::string("--exact was given");
  if (!a.flag("exact")) {
    plan = frames_from_layers(an.rig, an.rigs);
  }
  auto* by_layers = std::get_if<FramesFromLayers>(&plan);
  const Ranks& ranks = Ranks::of_this_run();
  refuse_another_rigs(an, a.flag("force"));
  prepare_folder(*folder, an.rig, a.flag("force"));
  std::error_code ec;
  fs::create_directories(an.dir / "frames", ec);
  if (ranks.first() && !fs::exists(an.dir / "animation.json", ec)) {
    // Whose folder it is.
    write_text_file((an.dir / "animation.json").string(),
                    json_text({{"rig", an.rig_file}, {"rig_path", path_of(an)}}));
  }
  FiguresLast drawn;
  catch_interrupts();
  bool finished = true, base_kept = false;
  double base_seconds = 0;
  std::size_t kept = 0;
  if (!a.flag("levels-only")) {
    measure_look(an);
    for (std::size_t i = 0; i < an.frames.size(); ++i) {
      an.frames[i].there = is_there(an.frames[i], an.rig_text(an.frames[i]), an.denoised);
      kept += an.frames[i].there ? 1 : 0;
    }
    if (kept < an.frames.size()) {
      if (by_layers == nullptr && !an.quiet) {
        print_err(fmt::format("each frame is rendered: {}\n", std::get<std::string>(plan)));
      }
      finished = by_layers != nullptr ? frames_by_layers(an, *by_layers, base_seconds, base_kept)
                                      : frames_one_by_one(an);
    }
  }
  if (!ranks.first()) {
    return finished ? kDone : kInterrupted;
  }
  if (!finished) {
    print_err("interrupted; the same command again goes on\n");
    return kInterrupted;
  }
  std::string clip;
  if (!a.flag("levels-only")) {
    clip = make_clip(an);
  }
  const std::vector<LevelCurve> curves = level_curves(an.rigs.front(), moments);
  const auto read = meter_curves(an, a.texts("meter"), by_layers);
  if (!read) {
    print_err(
        "interrupted while the meters were read; the frames are kept: run it again to go on\n");
    return kInterrupted;
  }
  const std::vector<MeterCurve>& meters = *read;
  write_text_file((an.dir / "levels.csv").string(), csv(an, curves, meters));
  std::vector<figures::MeterOverTime> meter_lines;
  for (const MeterCurve& m : meters) {
    meter_lines.push_back({m.name, m.unit, moments, m.values});
  }
  Json j = {{"rig", an.rig_file},
            {"rig_path", path_of(an)},
            {"rate", an.rig.time.rate},
            {"shutter", an.rig.time.shutter},
            {"from_layers", by_layers != nullptr},
            {"why_not", by_layers != nullptr ? Json(nullptr) : Json(std::get<std::string>(plan))},
            {"base_wall_s", base_seconds},
            {"base_kept", base_kept},
            {"kept", kept},
            {"clip", clip.empty() ? Json(nullptr) : Json(clip)},
            {"frames", Json::array()},
            {"lights", Json::array()},
            {"meters", Json::array()}};
  for (const Frame& f : an.frames) {
    j["frames"].push_back({{"frame", f.number},
                           {"time_s", f.time_s},
                           {"exr", f.exr},
                           {"png", f.png},
                           {"wall_s", f.seconds},
                           {"kept", f.there}});
  }
  for (const LevelCurve& c : curves) {
    Json one = {{"name", c.name},
                {"changes", c.changes},
                {"cycle_s", c.cycle_s > 0 ? Json(c.cycle_s) : Json(nullptr)},
                {"over_time", figures_json(c.own)},
                {"in_frames", figures_json(c.framed)},
                {"levels", c.in_frames}};
    one["percent_flicker"] = 100 * c.own.percent;
    one["flicker_index"] = c.own.index;
    j["lights"].push_back(one);
  }
  for (const MeterCurve& m : meters) {
    j["meters"].push_back({{"name", m.name},
                           {"unit", m.unit},
                           {"standard_error", m.standard_error},
                           {"values", m.values},
                           {"in_frames", figures_json(m.framed)}});
  }
  write_text_file((an.dir / "animation.json").string(), json_text(j));
  if (!a.flag("levels-only")) {
    drawn.draw([&] { make_strip(an); });
  }
  drawn.draw([&] {
    figures::levels_figure((an.dir / "levels.png").string(), curves, moments, meter_lines);
  });
  if (a.flag("json")) {
    print_out(json_text(j));
    return drawn.finish(kDone);
  }
  std::vector<std::vector<std::string>> table = {
      {"light", "level from", "to", "percent flicker", "index", "over", "in frames"}};
  for (const LevelCurve& c : curves) {
    if (c.changes) {
      table.push_back(
          {c.name,
           short_number(c.own.least, 3),
           short_number(c.own.most, 3),
           short_number(100 * c.own.percent, 3) + " %",
           short_number(c.own.index, 3),
           c.cycle_s > 0 ? "a cycle of " + short_number(1000 * c.cycle_s, 3) + " ms" : "all frames",
           short_number(100 * c.framed.percent, 3) + " %"});
    }
  }
  for (const MeterCurve& m : meters) {
    table.push_back({m.name,
                     short_number(m.framed.least, 3) + " " + m.unit,
                     short_number(m.framed.most, 3) + " " + m.unit,
                     short_number(100 * m.framed.percent, 3) + " %",
                     short_number(m.framed.index, 3),
                     "all frames",
                     short_number(100 * m.framed.percent, 3) + " %"});
  }
  std::string text;
  if (!a.flag("levels-only")) {
    text =
        fmt::format("frames {} to {} at {} a second: {}, {} kept from before\n\n",
                    first,
                    last,
                    short_number(an.rig.time.rate, 4),
                    by_layers != nullptr ? fmt::format("from one render of {:.1f} s", base_seconds)
                                         : "each rendered",
                    kept);
  }
  text += table.size() > 1 ? text_table(table) + "\n" : "no light's level changes\n\n";
  if (!a.flag("levels-only")) {
    text += fmt::format("look at {}, {}\n",
                        clip.empty() ? "the frames (no clip yet: some are missing)" : clip,
                        (an.dir / "strip.png").string());
  }
  text += fmt::format(
      "levels  {}, {}\n", (an.dir / "levels.png").string(), (an.dir / "levels.csv").string());
  print_out(text);
  return drawn.finish(kDone);
}

}  // namespace jovilux::cli
