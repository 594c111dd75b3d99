#include "jovilux/base/assert.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <cstddef>
#include <cstdlib>
#include <filesystem>
#include <memory>
#include <numeric>
#include <string_view>
#include <utility>
#include <vector>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

struct DemoFile {
  const char* name;
  std::string_view text;
};
constexpr DemoFile kFiles[] = {
#include "demo_files.inc"
};

// Pictures are 16:9, told by their width [pixels], and have so many samples a pixel.
struct PictureScale {
  int width, samples;

  std::string size() const { return fmt::format("{}x{}", width, height()); }
  int height() const { return (width * 9 + 8) / 16; }
  double all_samples() const { return double(width) * height() * samples; }
};

// How much the demo renders.
struct Scale {
  PictureScale house, other, sweep, flame;  // other: the bench and the variants
  // Time limits [s] of the house, the bench, the work light, the dawn and the shafts: on a slow
  // machine their pictures have fewer samples. 0: none.
  std::array<int, 5> limits;
  const char *meter_error, *page_error, *why_samples;
  bool denoised, animations, trials;
};
constexpr Scale kQuick = {{320, 8},
                          {240, 8},
                          {128, 8},
                          {192, 6},
                          {10, 7, 6, 4, 10},
                          "4 %",
                          "10 %",
                          "16384",
                          true,
                          false,
                          false};
constexpr Scale kUsual = {{400, 8},
                          {288, 8},
                          {128, 6},
                          {224, 6},
                          {14, 9, 8, 6, 12},
                          "4 %",
                          "8 %",
                          "131072",
                          true,
                          false,
                          false};
constexpr Scale kFull = {
    {960, 64}, {960, 64}, {288, 32}, {480, 64}, {}, "2 %", "2 %", "131072", false, true, true};

// All pictures larger or smaller, the house `width` pixels wide. Larger ones get as much more time.
Scale with_width(Scale scale, int width) {
  constexpr int kNarrowest = 24;
  const double factor = static_cast<double>(width) / scale.house.width;
  for (PictureScale* picture : {&scale.house, &scale.other, &scale.sweep, &scale.flame}) {
    picture->width = std::max(kNarrowest, static_cast<int>(std::lround(factor * picture->width)));
  }
  for (int& limit : scale.limits) {
    limit = static_cast<int>(std::lround(limit * std::max(1.0, factor * factor)));
  }
  return scale;
}

// What decides how long a step takes: nothing that --quick and --full change, or the size of its
// pictures and their samples.
enum class Work { kFixed, kHouse, kOther, kSweep, kFlame };
struct Step {
  float seconds;  // of the usual demo, measured on two cores of a busy machine
  Work work;
};
constexpr Step kSteps[] = {
    {0.9f, Work::kFixed},  // check
    {0.8f, Work::kFixed},  // check, the mistakes
    {0, Work::kFixed},     // convert
    {0.5f, Work::kFixed},  // color
    {0.3f, Work::kFixed},  // profile
    {1, Work::kFixed},     // falloff
    {19, Work::kHouse},    // render: the house
    {13, Work::kOther},    // render: the bench
    {10, Work::kOther},    // render: work light
    {8, Work::kOther},     // render: dawn
    {14, Work::kOther},    // render: shafts
    {0.1f, Work::kFixed},  // read
    {5, Work::kFixed},     // meter
    {0.5f, Work::kFixed},  // false-color
    {1.2f, Work::kOther},  // noise
    {2.3f, Work::kFixed},  // why
    {14, Work::kSweep},    // sweep
    {0.5f, Work::kOther},  // compare
    {2.6f, Work::kOther},  // balance
    {5, Work::kFixed},     // desk
    {14, Work::kFlame},    // animate
    {10, Work::kFixed},    // report
};
// The clips of --full. Not measured: the house's seconds, scaled by the pixels and samples of the
// clips' frames.
constexpr Step kClips[] = {{820, Work::kFixed}, {200, Work::kFixed}};

// Of each step, in seconds.
std::vector<double> expected_seconds(const Scale& scale) {
  const auto times = [&](Work work) {
    const auto of = [&](PictureScale Scale::*picture) {
      return (scale.*picture).all_samples() / (kUsual.*picture).all_samples();
    };
    switch (work) {
      case Work::kHouse:
        return of(&Scale::house);
      case Work::kOther:
        return of(&Scale::other);
      case Work::kSweep:
        return of(&Scale::sweep);
      case Work::kFlame:
        return of(&Scale::flame);
      case Work::kFixed:
        break;
    }
    return 1.0;
  };
  std::vector<Step> steps(std::begin(kSteps), std::end(kSteps));
  if (scale.animations) {  // before the last step
    steps.insert(steps.end() - 1, std::begin(kClips), std::end(kClips));
  }
  std::vector<double> out;
  for (const Step& step : steps) {
    out.push_back(static_cast<double>(step.seconds) * times(step.work));
  }
  return out;
}

// Sends what is printed to the standard error while one lives: the standard output stays free for
// one JSON document.
class OutputAside {
 public:
  OutputAside() : kept_(::dup(STDOUT_FILENO)) {
    std::fflush(stdout);
    ::dup2(STDERR_FILENO, STDOUT_FILENO);
  }
  ~OutputAside() {
    std::fflush(stdout);
    ::dup2(kept_, STDOUT_FILENO);
    ::close(kept_);
  }
  OutputAside(const OutputAside&) = delete;
  OutputAside& operator=(const OutputAside&) = delete;

 private:
  int kept_;
};

std::string duration_text(double seconds) {
  constexpr double kMoment = 1.5, kMinutes = 90;
  return seconds < kMoment    ? "a moment"
         : seconds < kMinutes ? fmt::format("about {:.0f} s", seconds)
                              : fmt::format("about {:.0f} min", seconds / 60);
}

// Runs verbs as a user would, after showing the line that does it.
class Tour {
 public:
  // `expected`: seconds of each step.
  explicit Tour(std::vector<double> expected) : expected_(std::move(expected)) {}

  // [{"step", "command", "status", "seconds"}]
  const Json& done() const { return done_; }

  int step(const std::string& what,
           const std::vector<std::string>& words,
           int (*verb)(int, char**)) {
    std::string line = "jovilux";
    for (const std::string& w : words) {
      line += " " + (w.find(' ') == std::string::npos ? w : "\"" + w + "\"");
    }
    print_out(fmt::format("\n== {} of {}, after {:.0f} s, takes {}: {}\n$ {}\n",
                          done_.size() + 1,
                          expected_.size(),
                          seconds(),
                          forecast(),
                          what,
                          line));
    std::vector<std::string> copy = words;
    std::vector<char*> argv;
    for (std::string& w : copy) {
      argv.push_back(w.data());
    }
    const auto begun = Clock::now();
    const int status = verb(static_cast<int>(argv.size()), argv.data());
    done_.push_back({{"step", what},
                     {"command", line},
                     {"status", status},
                     {"seconds", std::chrono::duration<double>(Clock::now() - begun).count()}});
    return status;
  }
  // How long all steps take.
  std::string whole() const {
    return duration_text(std::accumulate(expected_.begin(), expected_.end(), 0.0));
  }
  double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

 private:
  using Clock = std::chrono::steady_clock;

  // The expected seconds of the step that begins, times how much slower or faster than expected the
  // steps before it were.
  std::string forecast() const {
    constexpr double kEnoughKnown = 5;  // seconds: the first steps are too short to tell
    JOVILUX_ASSERT(done_.size() < expected_.size());
    const auto at = expected_.begin() + static_cast<std::ptrdiff_t>(done_.size());
    const double known = std::accumulate(expected_.begin(), at, 0.0),
                 pace = known > kEnoughKnown ? seconds() / known : 1, step = pace * *at;
    return duration_text(step);
  }

  std::vector<double> expected_;
  Json done_ = Json::array();
  Clock::time_point start_ = Clock::now();
};

// The pictures that the demo leaves, each with what it shows.
std::vector<std::pair<std::string, std::string>> pictures(bool denoised) {
  const std::string view = denoised ? "view-denoised.png" : "view.png";
  return {{"wide/" + view, "the glasshouse before sunrise"},
          {"bench/" + view, "its bench, layer by layer"},
          {"bench-work-light/" + view, "the bench under the work panel"},
          {"wide-dawn/" + view, "the house at dawn"},
          {"shafts/" + view, "shafts of the yard's light in mist"},
          {"heat-lamp/profile.png", "the heat lamp's photometric file"},
          {"falloff/falloff.png", "pendant and indicator over distance"},
          {"color/color.png", "its whites, gels and spectra"},
          {"meters/bench-field.png", "lux over the bench"},
          {"false-color/false-color.png", "luminance in bands of a stop"},
          {"noise/noise.png", "where the noise is, and from which light"},
          {"why/ways.png", "the ways of light to the blue pot"},
          {"compare/compare.png", "evening against work light"},
          {"balanced/view.png", "500 lx on the bench, without rendering again"},
          {"desk.html", "a fader for each lamp"},
          {"near_softening/sheet.png", "a parameter in six steps"},
          {"flame/strip.png", "frames of the lantern's flame"},
          {"flame/levels.png", "its level over time, and its flicker"},
          {"report.html", "all of it on one page"}};
}

// The loop on the orchid house, in the order of the functions.
class Demo {
 public:
  Demo(const Arguments& a, const Scale& scale)
      : scale_(scale),
        dir_(a.text("output").value_or("demo-out")),
        rig_(in_dir("rig/orchid-house.toml")),
        tour_(expected_seconds(scale)) {
    common_ = {"--force"};
    if (const auto threads = a.text("threads")) {
      common_.insert(common_.end(), {"--threads", *threads});
    }
    if (scale_.denoised) {
      common_.emplace_back("--denoise");
    }
  }

  // The exit status.
  int run() {
    write_rig();
    lamps_alone();
    if (!pictures_of_house()) {
      return status_;
    }
    readings();
    noise_and_ways();
    changes();
    pages_and_clips();
    return status_;
  }

  // What stands where and how long it took.
  Json json() const {
    Json j = {{"rig", rig_}, {"seconds", tour_.seconds()}, {"steps", tour_.done()}};
    for (const auto& [name, shows] : pictures(scale_.denoised)) {
      j["pictures"].push_back({{"file", in_dir(name)}, {"shows", shows}});
    }
    return j;
  }
  std::string summary() const {
    std::vector<std::vector<std::string>> rows = {{"picture", "what it shows"}};
    for (const auto& [name, shows] : pictures(scale_.denoised)) {
      rows.push_back({in_dir(name), shows});
    }
    return fmt::format("\nDone after {:.0f} s. Open these:\n", tour_.seconds()) + text_table(rows);
  }

 private:
  using Words = std::vector<std::string>;
  using Verb = int (*)(int, char**);

  std::string in_dir(const std::string& name) const { return (dir_ / name).string(); }
  int step(const std::string& what, const Words& words, Verb verb) {
    return tour_.step(what, words, verb);
  }
  // The same, of what there is denoised.
  int clean_step(const std::string& what, Words words, Verb verb) {
    if (scale_.denoised) {
      words.emplace_back("--denoised");
    }
    return tour_.step(what, words, verb);
  }
  int render_step(const std::string& what, const std::string& out, const Words& words) {
    Words all = {"render", rig_, "-o", in_dir(out)};
    all.insert(all.end(), common_.begin(), common_.end());
    all.insert(all.end(), words.begin(), words.end());
    return step(what, all, run_render);
  }

  // The words of a verb that looks at a picture: its folder comes first.
  Words picture(const std::string& name, Words words) const {
    words.insert(words.begin() + 1, in_dir(name));
    return words;
  }
  // Places in shares of the picture: the same things whatever its size.
  std::string at(double x, double y) const {
    return fmt::format("{:.0f},{:.0f}", x * scale_.other.width, y * scale_.other.height());
  }
  static std::string box(
      const PictureScale& picture, double x, double y, double across, double down) {
    const double width = picture.width, height = picture.height();
    return fmt::format("{:.0f},{:.0f},{:.0f},{:.0f}",
                       x * width,
                       y * height,
                       std::max(1.0, across * width),
                       std::max(1.0, down * height));
  }

  void write_rig() const {
    for (const DemoFile& file : kFiles) {
      write_text_file((dir_ / "rig" / file.name).string(), file.text);
    }
    print_out(fmt::format("wrote {} and {} files that it includes; {} on two cores to come\n",
                          rig_,
                          std::size(kFiles) - 1,
                          tour_.whole()));
  }

  void lamps_alone() {
    status_ =
        step("Is the rig sound, and how much light is each lamp?", {"check", rig_}, run_check);
    step("The mistakes that check catches", {"check", rig_, "--variant", "mistakes"}, run_check);
    step("The pendant in every unit",
         {"convert", "1350 lm", "--kind", "sphere", "--radius", "3cm", "--at", "1m"},
         run_convert);
    step("The colors of its sources",
         {"color",
          "2700 K",
          "1900 K",
          "led-3000",
          "straw",
          "cie-f11",
          "D65",
          "--rig",
          rig_,
          "-o",
          in_dir("color"),
          "--force"},
         run_color);
    step("What the heat lamp's photometric file says",
         {"profile", in_dir("rig/heat-lamp.ies"), "-o", in_dir("heat-lamp"), "--force"},
         run_profile);
    step("How the pendant and the indicator weaken, beside laws that bend physics",
         {"falloff",
          rig_,
          "--light",
          "pendant",
          "--light",
          "indicator",
          "--law",
          "none",
          "--law",
          "linear zero_at=6m matches_at=2m",
          "--to",
          "4m",
          "-o",
          in_dir("falloff"),
          "--force"},
         run_falloff);
  }

  // A picture of the house: its folder, and what its render is asked for besides.
  struct HousePicture {
    const char *what, *out;
    Words words;
  };
  std::vector<HousePicture> house_pictures() const {
    return {{"The house", "wide", {"--camera", "wide"}},
            {"The bench, with the direct and the bounced light of each lamp apart",
             "bench",
             {"--camera", "bench", "--set", "render.layers=\"lights+parts\""}},
            {"The same bench as work light",
             "bench-work-light",
             {"--camera", "bench", "--variant", "work-light"}},
            {"The house at dawn", "wide-dawn", {"--camera", "wide", "--variant", "dawn"}},
            {"Thin mist against a lamp in the yard", "shafts", {"--variant", "shafts"}}};
  }

  // False: a signal stopped it.
  bool pictures_of_house() {
    const std::vector<HousePicture> all = house_pictures();
    JOVILUX_ASSERT(all.size() == scale_.limits.size());
    for (std::size_t i = 0; i < all.size(); ++i) {
      Words words = all[i].words;
      const PictureScale& picture = i == 0 ? scale_.house : scale_.other;
      words.insert(words.end(), {"--size", picture.size()});
      words.insert(words.end(), {"--samples", std::to_string(picture.samples)});
      if (scale_.limits[i] > 0) {
        words.insert(words.end(), {"--time-limit", fmt::format("{}s", scale_.limits[i])});
      }
      status_ = std::max(status_, render_step(all[i].what, all[i].out, words));
      if (status_ == kInterrupted) {
        return false;
      }
    }
    return true;
  }

  void readings() {
    clean_step("What a spot meter reads: the gray card, the wall near and far from its spot",
               picture("bench",
                       {"read",
                        "--box",
                        box(scale_.other, 0.80, 0.52, 0.02, 0.036),
                        "--at",
                        at(0.5, 0.1),
                        "--at",
                        at(0.2, 0.1)}),
               run_read);
    step("The lux that the bench gets",
         {"meter", rig_, "--error", scale_.meter_error, "-o", in_dir("meters"), "--force"},
         run_meter);
    clean_step("Luminance in bands of a stop",
               picture("bench", {"false-color", "-o", in_dir("false-color"), "--force"}),
               run_false_color);
  }

  void noise_and_ways() {
    std::vector<std::string> words = {
        "noise", in_dir("bench"), "--target", "5 %", "-o", in_dir("noise"), "--force"};
    if (scale_.trials) {
      words.emplace_back("--try");  // a render for each change that it proposes
    }
    step("Where the noise is, and who makes it", words, run_noise);
    step("Where the light on the blue pot comes from",
         picture("bench",
                 {"why",
                  "--at",
                  at(0.62, 0.66),
                  "--samples",
                  scale_.why_samples,
                  "-o",
                  in_dir("why"),
                  "--force",
                  "--quiet"}),
         run_why);
  }

  // A parameter, a pair of pictures, levels.
  void changes() {
    clean_step(
        "A softer near field: the pendant's near_softening, read on the bench below it and on the "
        "far floor",
        {"sweep",     rig_,
         "--camera",  "wide",
         "--vary",    "light.pendant.near_softening = 0 cm .. 40 cm / 6",
         "--set",     "light.yard.on=false",
         "--set",     "light.heat-lamp.on=false",
         "--set",     "light.lantern.on=false",
         "--size",    scale_.sweep.size(),
         "--samples", std::to_string(scale_.sweep.samples),
         "--box",     box(scale_.sweep, 0.469, 0.574, 0.028, 0.025),
         "--box",     box(scale_.sweep, 0.139, 0.802, 0.069, 0.062),
         "-o",        in_dir("near_softening"),
         "--quiet"},
        run_sweep);
    clean_step("Work light against the evening",
               picture("bench",
                       {"compare",
                        in_dir("bench-work-light"),
                        "--names",
                        "evening,work light",
                        "-o",
                        in_dir("compare"),
                        "--force"}),
               run_compare);
    clean_step(
        "500 lx on the bench, without rendering again",
        picture("bench-work-light",
                {"balance", "--target", "bench-level=500 lx", "-o", in_dir("balanced"), "--force"}),
        run_balance);
  }

  void pages_and_clips() {
    clean_step("The same by hand: a page with a fader for each lamp",
               picture("bench",
                       {"desk",
                        "-o",
                        in_dir("desk.html"),
                        "--error",
                        scale_.page_error,
                        "--force",
                        "--quiet"}),
               run_desk);
    clean_step("Two seconds of the lantern's flame, all frames from one render",
               {"animate",
                rig_,
                "--camera",
                "wide",
                "--meter",
                "seedlings",
                "--size",
                scale_.flame.size(),
                "--samples",
                std::to_string(scale_.flame.samples),
                "-o",
                in_dir("flame"),
                "--force",
                "--quiet"},
               run_animate);
    if (scale_.animations) {
      clips();
    }
    clean_step("All of it on one page",
               {"report",
                dir_.string(),
                "--error",
                scale_.page_error,
                "-o",
                in_dir("report.html"),
                "--force"},
               run_report);
  }

  void clips() {
    step("Sunrise, a frame at a time",
         {"animate",
          rig_,
          "--camera",
          "wide",
          "--variant",
          "sunrise",
          "--set",
          "time.frames=[1, 12]",
          "--set",
          "time.rate=6",
          "--size",
          "320x180",
          "--samples",
          "48",
          "-o",
          in_dir("sunrise"),
          "--force",
          "--quiet"},
         run_animate);
    step("The mist drifts",
         {"animate",   rig_,
          "--camera",  "wide",
          "--variant", "misty",
          "--set",     "time.frames=[1, 6]",
          "--set",     "time.rate=1",
          "--set",     "haze.spray.clumps.drift=[-0.2, 0, 0.08]",
          "--size",    "240x135",
          "--samples", "24",
          "-o",        in_dir("drift"),
          "--force",   "--quiet"},
         run_animate);
  }

  Scale scale_;
  fs::path dir_;
  std::string rig_;
  Words common_;  // options of each render
  Tour tour_;
  int status_ = kDone;  // of the check and the renders
};

Usage usage_of_demo() {
  return Usage{
      "demo",
      "",
      "Writes the orchid house, a made-up glasshouse before sunrise, and runs the whole loop on "
      "it: check,\nconvert, color, profile, falloff, render, read, meter, false-color, noise, why, "
      "sweep, compare, balance, desk, animate, report. Each step shows the command that does it.",
      {{"o,output", "folder for the rig and the results; demo-out by default", "DIR"},
       {"quick", "small pictures, few samples: about a minute and a half on two cores", ""},
       {"full", "larger pictures of 64 samples as traced, three clips: an hour or two", ""},
       {"width",
        "width of the house's picture in pixels, 32 to 3840; the others in proportion",
        "N"},
       {"force", "replace what an earlier demo left in DIR", ""},
       {"json", "print one JSON document; what the steps print goes to the standard error", ""}},
      "",
      "jovilux demo -o demo-out --quick"}
      .with({threads_option()});
}

// Makes the folder; throws UsageError where it holds a demo already.
void prepare_demo_folder(const fs::path& dir, bool force) {
  std::error_code ec;
  if (!force && fs::exists(dir / "rig" / "orchid-house.toml", ec)) {
    throw UsageError(fmt::format(
        "{} holds a demo already; choose another folder with -o, or add --force to replace it",
        printable(dir.string(), 200)));
  }
  fs::create_directories(dir / "rig", ec);
  if (ec) {
    throw UsageError(fmt::format(
        "-o {}: the folder cannot be made: {}", printable(dir.string(), 200), ec.message()));
  }
}

}  // namespace

int run_demo(int argc, char** argv) {
  const Arguments a(usage_of_demo(), argc, argv);
  if (a.flag("quick") && a.flag("full")) {
    throw UsageError("--quick and --full are both given; choose one");
  }
  Scale scale = a.flag("quick") ? kQuick : a.flag("full") ? kFull : kUsual;
  if (const auto width = a.whole("width", 32, 3840)) {
    scale = with_width(scale, *width);
  }
  prepare_demo_folder(a.text("output").value_or("demo-out"), a.flag("force"));
  Demo demo(a, scale);
  auto aside = a.flag("json") ? std::make_unique<OutputAside>() : nullptr;
  const int status = demo.run();
  aside.reset();
  if (a.flag("json") && status != kInterrupted) {
    print_out(json_text(demo.json()));
  } else if (status != kInterrupted) {
    print_out(demo.summary());
  }
  return status;
}

}  // namespace jovilux::cli
