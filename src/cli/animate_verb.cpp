#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/animation.h"
#include "jovilux/judge/metering.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <variant>

#include "cli/animation_frames.h"
#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/levels_figure.h"
#include "ranks/ranks.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

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

// The rig's file wherever the program is started.
std::string path_of(const Animation& an) {
  std::error_code ec;
  return fs::weakly_canonical(an.rig_file, ec).string();
}

// A folder that holds another rig's animation is not written over unasked.
void refuse_another_rigs(const Animation& an, bool force) {
  const Json known = force ? Json() : read_json((an.dir / "animation.json").string());
  const std::string path = text_in(known, "rig_path");
  const std::string other = path.empty() ? text_in(known, "rig") : path;
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

Usage usage_of_animate() {
  return Usage{
      "animate",
      "RIG",
      "Renders the frames of the rig's [time] into DIR/frames (EXR and PNG), DIR/clip.webp, "
      "DIR/strip.png, and each light's level over\ntime: DIR/levels.png, DIR/levels.csv. Frames "
      "that an earlier run has finished are kept. Where only levels and tints move,\nall frames "
      "come from the layers of one render.",
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
      "seedlings -o flame"}
      .with(picture_options())
      .with(rig_options())
      .with({threads_option()});
}

// What --meter names, each a meter of the rig. Throws UsageError.
std::vector<std::string> meters_asked_for(const Arguments& a, const Rig& rig) {
  std::vector<std::string> names = a.texts("meter");
  for (const std::string& name : names) {
    meter_named(rig, "--meter", name);
  }
  return names;
}

Animation animation_of(const Arguments& a) {
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
  return an;
}

// Throws BadInput for a rig that has errors or no frames.
Rig rig_with_frames(const Animation& an) {
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
  return std::move(*rig);
}

Frame frame_at(const Animation& an, int number) {
  Frame frame;
  frame.number = number;
  frame.at = static_cast<std::size_t>(number - an.rig.time.first);
  frame.time_s = an.rig.time.moment_of(number);
  frame.exr = (an.dir / "frames" / fmt::format("frame.{:04}.exr", number)).string();
  frame.png = (an.dir / "frames" / fmt::format("frame.{:04}.png", number)).string();
  frame.folder = (an.dir / fmt::format("work-{:04}", number)).string();
  return frame;
}

// The rigs of all frames of [time]. Throws BadInput.
std::vector<Rig> rigs_over_time(const Animation& an) {
  std::vector<Rig> rigs;
  const bool own_seed = !an.rig.render.seed_given && !an.request.hold_noise;
  for (int f = an.rig.time.first; f <= an.rig.time.last; ++f) {
    auto at_frame = rig_at(an.rig,
                           an.rig.time.moment_of(f),
                           own_seed ? std::optional(frame_seed(an.rig, f)) : std::nullopt);
    if (!at_frame) {
      throw BadInput{at_frame.problems()};
    }
    rigs.push_back(std::move(*at_frame));
  }
  return rigs;
}

// An animation from its arguments to its results, step by step in the order of the functions.
class AnimateRun {
 public:
  explicit AnimateRun(const Arguments& a)
      : arguments_(a), levels_only_(a.flag("levels-only")), an_(animation_of(a)) {
    an_.rig = rig_with_frames(an_);
    camera_index(an_.rig, an_.camera);
    meter_names_ = meters_asked_for(a, an_.rig);
    const auto [first, last] = a.text("frames") ? frame_range(*a.text("frames"), an_.rig.time)
                                                : std::pair(an_.rig.time.first, an_.rig.time.last);
    for (int f = first; f <= last; ++f) {
      an_.frames.push_back(frame_at(an_, f));
      moments_.push_back(an_.frames.back().time_s);
    }
    an_.rigs = rigs_over_time(an_);
    // The plan is made for all frames of the rig, so that runs over parts of them share it.
    if (!a.flag("exact")) {
      plan_ = frames_from_layers(an_.rig, an_.rigs);
    }
  }

  int run() {
    open_folder();
    FiguresLast drawn;
    catch_interrupts();
    const bool finished = levels_only_ || make_frames();
    if (!Ranks::of_this_run().first()) {
      return finished ? kDone : kInterrupted;
    }
    if (!finished) {
      print_err("interrupted; the same command again goes on\n");
      return kInterrupted;
    }
    if (!levels_only_) {
      clip_ = make_clip(an_);
    }
    curves_ = level_curves(an_.rigs.front(), moments_);
    auto read = meter_curves(an_, meter_names_, by_layers());
    if (!read) {
      print_err(
          "interrupted while the meters were read; the frames are kept: run it again to go on\n");
      return kInterrupted;
    }
    meters_ = std::move(*read);
    write_text_file((an_.dir / "levels.csv").string(), csv(an_, curves_, meters_));
    const std::string document = json_text(json());
    write_text_file((an_.dir / "animation.json").string(), document);
    draw(drawn);
    print_out(arguments_.flag("json") ? document : summary());
    return drawn.finish(kDone);
  }

 private:
  const FramesFromLayers* by_layers() const { return std::get_if<FramesFromLayers>(&plan_); }

  void open_folder() const {
    const bool force = arguments_.flag("force");
    refuse_another_rigs(an_, force);
    prepare_folder(an_.dir.string(), an_.rig, force);
    std::error_code ec;
    fs::create_directories(an_.dir / "frames", ec);
    if (Ranks::of_this_run().first() && !fs::exists(an_.dir / "animation.json", ec)) {
      // Whose folder it is.
      write_text_file((an_.dir / "animation.json").string(),
                      json_text({{"rig", an_.rig_file}, {"rig_path", path_of(an_)}}));
    }
  }

  // False when interrupted.
  bool make_frames() {
    measure_look(an_);
    for (Frame& f : an_.frames) {
      f.there = is_there(an_, f);
      kept_ += f.there ? 1 : 0;
    }
    if (kept_ == an_.frames.size()) {
      return true;
    }
    if (by_layers() != nullptr) {
      const auto base = frames_by_layers(an_, *by_layers());
      base_ = base.value_or(BaseRender{});
      return base.has_value();
    }
    if (!an_.quiet) {
      print_err(fmt::format("each frame is rendered: {}\n", std::get<std::string>(plan_)));
    }
    return frames_one_by_one(an_);
  }

  Json json() const {
    Json j = {
        {"rig", an_.rig_file},
        {"rig_path", path_of(an_)},
        {"rate", an_.rig.time.rate},
        {"shutter", an_.rig.time.shutter},
        {"from_layers", by_layers() != nullptr},
        {"why_not", by_layers() != nullptr ? Json(nullptr) : Json(std::get<std::string>(plan_))},
        {"base_wall_s", base_.seconds},
        {"base_kept", base_.kept},
        {"kept", kept_},
        {"clip", clip_.empty() ? Json(nullptr) : Json(clip_)},
        {"frames", Json::array()},
        {"lights", Json::array()},
        {"meters", Json::array()}};
    for (const Frame& f : an_.frames) {
      j["frames"].push_back({{"frame", f.number},
                             {"time_s", f.time_s},
                             {"exr", f.exr},
                             {"png", f.png},
                             {"wall_s", f.seconds},
                             {"kept", f.there}});
    }
    for (const LevelCurve& c : curves_) {
      j["lights"].push_back({{"name", c.name},
                             {"changes", c.changes},
                             {"cycle_s", c.cycle_s > 0 ? Json(c.cycle_s) : Json(nullptr)},
                             {"over_time", figures_json(c.own)},
                             {"in_frames", figures_json(c.framed)},
                             {"levels", c.in_frames},
                             {"percent_flicker", 100 * c.own.percent},
                             {"flicker_index", c.own.index}});
    }
    for (const MeterCurve& m : meters_) {
      j["meters"].push_back({{"name", m.name},
                             {"unit", m.unit},
                             {"standard_error", m.standard_error},
                             {"values", m.values},
                             {"in_frames", figures_json(m.framed)}});
    }
    return j;
  }

  void draw(FiguresLast& drawn) const {
    if (!levels_only_) {
      drawn.draw([&] { make_strip(an_); });
    }
    std::vector<figures::MeterOverTime> lines;
    for (const MeterCurve& m : meters_) {
      lines.push_back({m.name, m.unit, moments_, m.values});
    }
    drawn.draw([&] {
      figures::levels_figure((an_.dir / "levels.png").string(), curves_, moments_, lines);
    });
  }

  // What changes, a row each.
  std::vector<std::vector<std::string>> changes() const {
    std::vector<std::vector<std::string>> rows = {
        {"light", "level from", "to", "percent flicker", "index", "over", "in frames"}};
    for (const LevelCurve& c : curves_) {
      if (c.changes) {
        rows.push_back({c.name,
                        short_number(c.own.least, 3),
                        short_number(c.own.most, 3),
                        short_number(100 * c.own.percent, 3) + " %",
                        short_number(c.own.index, 3),
                        c.cycle_s > 0 ? "a cycle of " + short_number(1000 * c.cycle_s, 3) + " ms"
                                      : "all frames",
                        short_number(100 * c.framed.percent, 3) + " %"});
      }
    }
    for (const MeterCurve& m : meters_) {
      rows.push_back({m.name,
                      short_number(m.framed.least, 3) + " " + m.unit,
                      short_number(m.framed.most, 3) + " " + m.unit,
                      short_number(100 * m.framed.percent, 3) + " %",
                      short_number(m.framed.index, 3),
                      "all frames",
                      short_number(100 * m.framed.percent, 3) + " %"});
    }
    return rows;
  }

  std::string summary() const {
    std::string text;
    if (!levels_only_) {
      text = fmt::format("frames {} to {} at {} a second: {}, {} kept from before\n\n",
                         an_.frames.front().number,
                         an_.frames.back().number,
                         short_number(an_.rig.time.rate, 4),
                         by_layers() != nullptr
                             ? fmt::format("from one render of {:.1f} s", base_.seconds)
                             : "each rendered",
                         kept_);
    }
    const auto rows = changes();
    text += rows.size() > 1 ? text_table(rows) + "\n" : "no light's level changes\n\n";
    if (!levels_only_) {
      text += fmt::format("look at {}, {}\n",
                          clip_.empty() ? "the frames (no clip yet: some are missing)" : clip_,
                          (an_.dir / "strip.png").string());
    }
    return text + fmt::format("levels  {}, {}\n",
                              (an_.dir / "levels.png").string(),
                              (an_.dir / "levels.csv").string());
  }

  const Arguments& arguments_;
  bool levels_only_;
  Animation an_;
  std::vector<std::string> meter_names_;
  std::vector<double> moments_;  // of the frames [s]
  // Why each frame is rendered, where layers of one render do not give them.
  std::variant<FramesFromLayers, std::string> plan_ = std::string("--exact was given");
  std::size_t kept_ = 0;  // frames from before
  BaseRender base_;
  std::string clip_;
  std::vector<LevelCurve> curves_;
  std::vector<MeterCurve> meters_;
};

}  // namespace

int run_animate(int argc, char** argv) {
  const Arguments a(usage_of_animate(), argc, argv);
  return AnimateRun(a).run();
}

}  // namespace jovilux::cli
