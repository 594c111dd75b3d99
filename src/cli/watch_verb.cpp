#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/readings.h"
#include "jovilux/judge/rig_checks.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cmath>
#include <ctime>
#include <filesystem>
#include <map>
#include <mutex>
#include <stop_token>
#include <thread>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/terminal_picture.h"
#include "cli/verbs.h"
#include <fmt/format.h>
#include <poll.h>
#include <sys/inotify.h>
#include <unistd.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// Files with when they were written and how long they are; what is not there is told too.
using Snapshot = std::map<std::string, std::pair<std::int64_t, std::uintmax_t>>;

Snapshot snapshot_of(const std::vector<std::string>& files) {
  Snapshot out;
  for (const std::string& file : files) {
    std::error_code ec;
    const auto time = fs::last_write_time(file, ec);
    const auto size = ec ? 0 : fs::file_size(file, ec);
    out[file] = {ec ? -1 : static_cast<std::int64_t>(time.time_since_epoch().count()),
                 ec ? 0 : size};
  }
  return out;
}

// Tells when something happens in some folders (inotify). Network file systems tell nothing of what
// other machines write, so that files are looked at now and then all the same.
class FolderEvents {
 public:
  FolderEvents() : queue_(::inotify_init1(IN_NONBLOCK | IN_CLOEXEC)) {}
  ~FolderEvents() {
    if (queue_ >= 0) {
      ::close(queue_);
    }
  }
  FolderEvents(const FolderEvents&) = delete;

  // Adds the folders of `files`; ones that are known are not added twice.
  void listen_to(const std::vector<std::string>& files) {
    constexpr std::uint32_t kEvents =
        IN_CLOSE_WRITE | IN_CREATE | IN_DELETE | IN_MOVED_FROM | IN_MOVED_TO;
    for (const std::string& file : files) {
      const fs::path folder = fs::path(file).parent_path();
      const int added = ::inotify_add_watch(
          queue_, folder.empty() ? "." : folder.c_str(), kEvents);  // -1 where there is no queue
      all_heard_ = all_heard_ && added >= 0;
    }
  }
  // Waits for an event, or as long as files may go unlooked at.
  void wait() {
    constexpr int kUnheard = 100, kHeard = 1000;  // [ms]
    constexpr int kStop = 100;                    // the end of the thread is asked for so often
    for (int waited = 0; waited < (all_heard_ ? kHeard : kUnheard); waited += kStop) {
      pollfd ready{queue_, POLLIN, 0};
      if (::poll(&ready, 1, kStop) > 0) {
        std::array<char, 4096> events{};
        while (::read(queue_, events.data(), events.size()) > 0) {
        }
        return;
      }
      if (stopping_) {
        return;
      }
    }
  }
  void stop() { stopping_ = true; }

 private:
  int queue_;
  std::atomic<bool> all_heard_{true};
  std::atomic<bool> stopping_{false};
};

// Looks at files when something happens in their folders, on a thread of its own, so that rendering
// threads ask one flag only.
class FileWatch {
 public:
  FileWatch()
      : thread_([this](const std::stop_token& end) {
          while (!end.stop_requested()) {
            events_.wait();
            const std::lock_guard lock(mutex_);
            if (!changed_ && snapshot_of(files_) != seen_) {
              changed_ = true;
            }
          }
        }) {}
  ~FileWatch() { events_.stop(); }
  FileWatch(const FileWatch&) = delete;

  // What `files` are now is what later ones are held against.
  void look_at(std::vector<std::string> files) {
    const std::lock_guard lock(mutex_);
    files_ = std::move(files);
    events_.listen_to(files_);
    seen_ = snapshot_of(files_);
    changed_ = false;
  }
  // The same, with what they were when reading them began.
  void look_at(std::vector<std::string> files, const Snapshot& before) {
    const std::lock_guard lock(mutex_);
    files_ = std::move(files);
    events_.listen_to(files_);
    seen_ = snapshot_of(files_);
    changed_ = false;
    for (const auto& [file, state] : before) {
      if (const auto now = seen_.find(file); now != seen_.end() && now->second != state) {
        changed_ = true;
      }
    }
  }
  bool changed() const { return changed_; }

 private:
  std::mutex mutex_;
  std::vector<std::string> files_;
  Snapshot seen_;
  std::atomic<bool> changed_{false};
  FolderEvents events_;
  std::jthread thread_;  // last: it ends before what it uses
};

// One of the things that are read in each version.
struct Watched {
  std::string name, unit;
  double value = 0, error = 0;
};

// Points of the whole picture in one that may be smaller.
// A rough picture is smaller: points are scaled to it. The mean of the picture comes last.
std::vector<Watched> read_points(const std::string& folder,
                                 const std::vector<PixelBox>& boxes,
                                 int width,
                                 int height) {
  std::vector<Watched> out;
  const auto size = read_image(image_in(folder), {});
  if (!size) {
    throw BadInput{size.problems()};
  }
  const double sx = static_cast<double>(size->width) / width,
               sy = static_cast<double>(size->height) / height;
  std::vector<PixelBox> here;
  for (const PixelBox& b : boxes) {
    PixelBox s;
    s.x = std::clamp(static_cast<int>(b.x * sx), 0, size->width - 1);
    s.y = std::clamp(static_cast<int>(b.y * sy), 0, size->height - 1);
    s.width = std::clamp(static_cast<int>(std::lround(b.width * sx)), 1, size->width - s.x);
    s.height = std::clamp(static_cast<int>(std::lround(b.height * sy)), 1, size->height - s.y);
    here.push_back(s);
  }
  here.push_back({0, 0, size->width, size->height});
  const auto read = read_image(image_in(folder), here);
  if (!read) {
    throw BadInput{read.problems()};
  }
  for (std::size_t i = 0; i < here.size(); ++i) {
    const Reading& r = read->readings[i];
    out.push_back({i == boxes.size() ? "mean of the picture" : name_of(boxes[i]),
                   "cd/m2",
                   r.luminance,
                   std::isfinite(r.standard_error) ? r.standard_error : 0});
  }
  return out;
}

std::vector<Watched> read_the_meters(const Rig& rig, int camera, int threads, const StopFn& stop) {
  std::vector<Watched> out;
  if (rig.meters.empty()) {
    return out;
  }
  const auto scene = prepare_scene(rig, camera);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  MeteringOptions options;
  options.error = 0.02;
  options.most_samples = 1U << 15;  // a look, within a second
  options.threads = threads;
  options.stop = stop;
  for (const MeterResult& m : read_meters(rig, *scene, options)) {
    if (m.readings.empty()) {
      continue;  // a newer version is there
    }
    const MeterReading& r = m.readings.front();
    out.push_back({rig.meters[m.meter].name,
                   r.luminance ? "cd/m2" : "lx",
                   rig.meters[m.meter].grid ? m.average : r.value,
                   r.standard_error});
  }
  return out;
}

// What check finds in a version, after `out`, what reading it told.
Problems check_warnings(const Rig& rig, Problems out, int camera, int threads) {
  with_threads(threads, [&] {
    const auto scene = prepare_scene(rig, camera);
    if (!scene) {
      throw BadInput{scene.problems()};
    }
    out.insert(out.end(), scene.problems().begin(), scene.problems().end());
    const Problems found = check_rig(rig, *scene, light_reports(rig, *scene));
    out.insert(out.end(), found.begin(), found.end());
  });
  return out;
}

// Tells the warnings of a version that the version before did not have, and how many are gone.
class Warnings {
 public:
  void tell(int version, const Problems& problems, bool json) {
    std::vector<std::string> now;
    Problems fresh;
    for (const Problem& p : problems) {
      // Lines move while a rig is written: the same warning is known by what it says.
      now.push_back(p.code + " " + p.address + " " + p.text);
      if (std::find(known_.begin(), known_.end(), now.back()) == known_.end()) {
        fresh.push_back(p);
      }
    }
    const auto gone = static_cast<std::size_t>(
        std::count_if(known_.begin(), known_.end(), [&now](const std::string& k) {
          return std::find(now.begin(), now.end(), k) == now.end();
        }));
    known_ = std::move(now);
    if (json) {
      Json warnings = Json::array();
      for (const Problem& p : problems) {
        warnings.push_back(to_string(p));
      }
      print_out(json_text({{"version", version}, {"stage", "check"}, {"warnings", warnings}}, -1));
      return;
    }
    print_problems(fresh);
    if (gone > 0) {
      print_out(fmt::format("{} of the version before {} gone\n",
                            counted(gone, "warning"),
                            gone == 1 ? "is" : "are"));
    }
  }

 private:
  std::vector<std::string> known_;
};

std::string clock_now() {
  const std::time_t now = std::time(nullptr);
  std::tm local{};
  ::localtime_r(&now, &local);
  return fmt::format("{:02}:{:02}:{:02}", local.tm_hour, local.tm_min, local.tm_sec);
}

// Readings beside those of the version before; the noise is two standard errors of the difference,
// were the two independent.
std::string changes(const std::vector<Watched>& now, const std::vector<Watched>& before) {
  if (before.empty()) {
    std::vector<std::vector<std::string>> first = {{"", "now"}};
    for (const Watched& w : now) {
      first.push_back({w.name, short_number(w.value) + " " + w.unit});
    }
    return text_table(first);
  }
  // With its sign; what rounds to nothing has none.
  const auto with_sign = [](double v, int digits) {
    const double unit = std::pow(10.0, -digits), rounded = std::round(v / unit) * unit;
    return rounded == 0 ? fmt::format("{:.{}f}", 0.0, digits)
                        : fmt::format("{:+.{}f}", rounded, digits);
  };
  std::vector<std::vector<std::string>> table = {{"", "now", "before", "change", "stops", "noise"}};
  for (const Watched& w : now) {
    const auto was = std::find_if(
        before.begin(), before.end(), [&](const Watched& b) { return b.name == w.name; });
    std::vector<std::string> row = {w.name, short_number(w.value) + " " + w.unit};
    if (was == before.end()) {
      row.insert(row.end(), {"-", "", "", ""});
    } else {
      const double difference = w.value - was->value;
      const double noise = 2 * std::hypot(w.error, was->error);
      row.push_back(short_number(was->value) + " " + w.unit);
      row.push_back(difference == 0  ? "none"
                    : was->value > 0 ? with_sign(100 * difference / was->value, 1) + " %"
                                     : "from 0");
      row.push_back(difference != 0 && was->value > 0 && w.value > 0
                        ? with_sign(std::log2(w.value / was->value), 2)
                        : "");
      row.push_back(was->value > 0 && noise > 0
                        ? fmt::format("\u00b1{} %", short_number(100 * noise / was->value, 2))
                        : "");
    }
    table.push_back(std::move(row));
  }
  return text_table(table);
}

Json to_json(int version,
             const char* stage,
             double seconds,
             const std::vector<Watched>& now,
             const std::vector<Watched>& before) {
  Json j = {{"version", version},
            {"stage", stage},
            {"seconds_since_save", seconds},
            {"readings", Json::array()}};
  for (const Watched& w : now) {
    const auto was = std::find_if(
        before.begin(), before.end(), [&](const Watched& b) { return b.name == w.name; });
    j["readings"].push_back({{"name", w.name},
                             {"unit", w.unit},
                             {"value", w.value},
                             {"standard_error", w.error},
                             {"before", was != before.end() ? Json(was->value) : Json(nullptr)}});
  }
  return j;
}

Usage usage_of_watch() {
  return Usage{
      "watch",
      "RIG",
      "Renders the rig again at each save of it, or of a file that it names: a rough picture "
      "within 2 s, then a finer one, in\nDIR/view.png and DIR/image.exr; says what changed at "
      "points and meters since the version before. Errors are shown, and\nwaited on. Ctrl-C ends "
      "it.",
      {{"o,output", "folder for the picture; created", "DIR"},
       {"at", "read this pixel of the picture; repeatable", "X,Y"},
       {"box", "read the mean over this box; repeatable", "X,Y,W,H"},
       {"meters", "read the rig's meters as well, to 2 % or as well as a second allows", ""},
       {"camera", "the camera to use; the rig's first by default", "NAME"},
       {"rough", "no finer picture after the rough one", ""},
       {"show", "also the picture in the terminal", ""},
       {"width", "of that picture, in characters; 80 by default", "N"},
       {"times", "end after so many versions", "N"},
       {"force", "replace results of another rig in DIR", ""},
       {"quiet", "no progress on the terminal", ""},
       {"json", "one JSON document a line for each picture instead", ""}},
      "",
      "jovilux watch demo-out/rig/orchid-house.toml -o live --at 480,300 --meters"}
      .with(picture_options())
      .with(rig_options())
      .with({threads_option()});
}

RenderTask watch_task(const Arguments& a, const std::string& folder) {
  RenderTask task;
  task.rig_file = a.positional();
  task.folder = folder;
  task.request = rig_request(a);
  add_picture_overrides(a, task.request);
  task.camera = a.text("camera").value_or("");
  task.threads = threads_of(a);
  // A file that keeps what watch tells would fill with lines of progress.
  task.quiet = a.flag("quiet") || ::isatty(STDERR_FILENO) == 0;
  task.check = false;
  task.view_every = 3;
  return task;
}

// One version of the rig after the other, until a signal.
class WatchLoop {
 public:
  WatchLoop(const Arguments& a, const std::string& folder)
      : arguments_(a),
        file_(a.positional()),
        folder_(folder),
        boxes_(pixel_boxes(a)),
        json_(a.flag("json")),
        width_(a.whole("width", 8, 1000).value_or(80)),
        task_(watch_task(a, folder)),
        files_{file_} {
    std::error_code ec;
    if (!fs::exists(file_, ec)) {
      throw BadInput{{{Severity::kError,
                       "missing-file",
                       {file_, 0, 0},
                       "",
                       "file not found",
                       "jovilux new DIR writes a rig to begin with"}}};
    }
    auto rig = load_rig(file_, rig_request(a));
    Rig known;  // a rig that cannot be read yet is known by its path
    known.file = file_;
    prepare_folder(folder_, rig ? *rig : known, a.flag("force"));
    task_.force = true;
    task_.stop = [this] { return watch_.changed(); };
  }

  void run() {
    const int times = arguments_.whole("times", 1, 1'000'000).value_or(0);
    watch_.look_at(files_);
    while (!stop_requested()) {
      ++version_;
      saved_ = std::chrono::steady_clock::now();
      const Snapshot at_start = snapshot_of(files_);
      try {
        show_version(at_start);
      } catch (const BadInput& e) {
        tell_errors(e.problems);
        watch_also(e.problems);
        watch_.look_at(files_, at_start);
      }
      if (version_ == times) {
        return;
      }
      while (!outdated()) {
        std::this_thread::sleep_for(std::chrono::milliseconds(20));
      }
    }
  }

 private:
  bool outdated() const { return stop_requested() || watch_.changed(); }
  double since_save() const {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - saved_).count();
  }

  void show_version(const Snapshot& at_start) {
    watch_.look_at(files_);
    auto rig = load_rig(file_, task_.request);
    if (!rig) {
      // An editor may be between removing the old file and naming the new one.
      std::this_thread::sleep_for(std::chrono::milliseconds(150));
      rig = load_rig(file_, task_.request);
    }
    if (!rig) {
      throw BadInput{rig.problems()};
    }
    files_ = files_of(*rig);
    watch_.look_at(files_, at_start);
    require_boxes(rig->render);
    const int camera = camera_index(*rig, task_.camera);
    show_rough(*rig, camera);
    if (!outdated()) {
      warnings_.tell(version_, check_warnings(*rig, rig.problems(), camera, task_.threads), json_);
    }
    if (!arguments_.flag("rough") && !outdated()) {
      show_finer(*rig);
    }
  }

  void require_boxes(const RenderSpec& picture) const {
    const std::string fault = outside_picture(boxes_, picture.width, picture.height);
    if (fault.empty()) {
      return;
    }
    if (version_ == 1) {
      throw UsageError(fault);
    }
    // The picture has become smaller.
    throw BadInput{{{Severity::kError, "out-of-range", {file_, 0, 0}, "render.size", fault, ""}}};
  }

  void show_rough(const Rig& rig, int camera) {
    RenderTask look = task_;
    look.preview = true;
    constexpr double kRoughBy = 1.4;  // reading the picture and telling it come after
    look.preview_seconds = std::max(1.0, kRoughBy - since_save());
    look.stop = nullptr;  // what is begun is shown: it takes 2 s at most
    render_to_folder(look);
    std::vector<Watched> now = read_points(folder_, boxes_, rig.render.width, rig.render.height);
    const double seconds = since_save();
    if (arguments_.flag("meters")) {
      const auto metered =
          read_the_meters(rig, camera, task_.threads, [this] { return outdated(); });
      now.insert(now.end(), metered.begin(), metered.end());
    }
    if (json_) {
      print_out(json_text(to_json(version_, "rough", seconds, now, rough_before_), -1));
    } else {
      print_out(fmt::format("{}  version {}: rough after {:.1f} s\n{}",
                            clock_now(),
                            version_,
                            seconds,
                            changes(now, rough_before_)));
      draw();
    }
    rough_before_ = std::move(now);
  }

  void show_finer(const Rig& rig) {
    const Rendered finer = render_to_folder(task_);
    if (finer.stats.stopped_by == StoppedBy::kSignal) {
      return;
    }
    std::vector<Watched> now = read_points(folder_, boxes_, rig.render.width, rig.render.height);
    if (json_) {
      print_out(json_text(to_json(version_, "fine", since_save(), now, before_), -1));
    } else {
      print_out(fmt::format("{}  version {}: {} samples a pixel after {:.1f} s, noise {} %\n{}",
                            clock_now(),
                            version_,
                            short_number(finer.stats.samples_per_pixel, 3),
                            since_save(),
                            short_number(100 * finer.stats.noise.p95, 2),
                            changes(now, before_)));
      draw();
    }
    before_ = std::move(now);
  }

  // The picture in the terminal, where it is asked for.
  void draw() const {
    if (arguments_.flag("show")) {
      const auto picture = load_rendered(folder_, false);
      print_drawing(picture ? terminal_picture(*picture, width_) : "");
    }
  }

  void tell_errors(const Problems& problems) const {
    if (json_) {
      Json errors = Json::array();
      for (const Problem& p : problems) {
        errors.push_back(to_string(p));
      }
      print_out(json_text({{"version", version_}, {"stage", "errors"}, {"errors", errors}}, -1));
      return;
    }
    print_problems(problems);
    print_err(fmt::format(
        "{}  version {}: not rendered; the picture is still that of the version before\n",
        clock_now(),
        version_));
  }

  // What is missing may come, what is wrong may be mended: files that errors name are looked at as
  // well.
  void watch_also(const Problems& problems) {
    for (const Problem& p : problems) {
      if (!p.place.file.empty() &&
          std::find(files_.begin(), files_.end(), p.place.file) == files_.end()) {
        files_.push_back(p.place.file);
      }
    }
  }

  const Arguments& arguments_;
  std::string file_, folder_;
  std::vector<PixelBox> boxes_;
  bool json_;
  int width_;  // of the picture in the terminal [characters]
  RenderTask task_;
  std::vector<std::string> files_;  // that the rig is made of
  FileWatch watch_;
  Warnings warnings_;
  int version_ = 0;
  std::chrono::steady_clock::time_point saved_;
  std::vector<Watched> before_, rough_before_;  // readings of the version before
};

}  // namespace

int run_watch(int argc, char** argv) {
  const Arguments a(usage_of_watch(), argc, argv);
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the picture; see jovilux watch --help");
  }
  catch_interrupts();
  WatchLoop(a, *folder).run();
  return kDone;
}

}  // namespace jovilux::cli
