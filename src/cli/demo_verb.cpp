#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <string_view>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <unistd.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

struct DemoFile {
  const char* name;
  std::string_view text;
};
constexpr DemoFile kFiles[] = {
#include "demo_files.inc"
};

// How much the demo renders.
struct Scale {
  const char *size, *samples;              // of the house
  const char *other_size, *other_samples;  // of the bench and the variants
  const char *sweep_size, *sweep_samples;
  const char *flame_size, *flame_samples;
  const char *meter_error, *page_error, *why_samples;
  bool denoised, animations, trials;
};
constexpr Scale kQuick = {"320x180",
                          "8",
                          "240x135",
                          "8",
                          "128x72",
                          "8",
                          "192x108",
                          "6",
                          "4 %",
                          "10 %",
                          "16384",
                          true,
                          false,
                          false};
constexpr Scale kUsual = {"448x252",
                          "10",
                          "336x189",
                          "10",
                          "128x72",
                          "6",
                          "256x144",
                          "12",
                          "3 %",
                          "5 %",
                          "131072",
                          true,
                          false,
                          false};
constexpr Scale kFull = {"960x540",
                         "64",
                         "960x540",
                         "64",
                         "288x162",
                         "32",
                         "480x270",
                         "64",
                         "2 %",
                         "2 %",
                         "131072",
                         false,
                         true,
                         true};

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

// Runs verbs as a user would, after showing the line that does it.
class Tour {
 public:
  explicit Tour(int steps) : steps_(steps) {}

  // [{"step", "command", "status", "seconds"}]
  const Json& done() const { return done_; }

  int step(const std::string& what,
           const std::vector<std::string>& words,
           int (*verb)(int, char**)) {
    std::string line = "jovilux";
    for (const std::string& w : words) {
      line += " " + (w.find(' ') == std::string::npos ? w : "\"" + w + "\"");
    }
    ++step_;
    print_out(fmt::format("\n== {} of {}, after {:.0f} s: {}\n$ {}\n",
                          step_,
                          steps_,
                          std::chrono::duration<double>(Clock::now() - start_).count(),
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
  double seconds() const { return std::chrono::duration<double>(Clock::now() - start_).count(); }

 private:
  using Clock = std::chrono::steady_clock;
  int steps_, step_ = 0;
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

}  // namespace

int run_demo(int argc, char** argv) {
  Usage usage{
      "demo",
      "",
      "Writes the orchid house, a made-up glasshouse before sunrise, and runs the whole loop on "
      "it: check,\nconvert, color, profile, falloff, render, read, meter, false-color, noise, "
      "why, sweep, compare, balance, desk, animate, report. Each step shows the command that does "
      "it.",
      {{"o,output", "folder for the rig and the results; demo-out by default", "DIR"},
       {"quick", "small pictures, few samples: a minute and a half on two cores", ""},
       {"full", "larger pictures of 64 samples as traced, three clips; several times as long", ""},
       {"force", "replace what an earlier demo left in DIR", ""},
       {"json", "print one JSON document; what the steps print goes to the standard error", ""}},
      "",
      "jovilux demo -o demo-out --quick"};
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const fs::path dir(a.text("output").value_or("demo-out"));
  const fs::path rig_dir = dir / "rig";
  std::error_code ec;
  if (!a.flag("force") && fs::exists(rig_dir / "orchid-house.toml", ec)) {
    throw UsageError(fmt::format(
        "{} holds a demo already; choose another folder with -o, or add --force to replace it",
        printable(dir.string(), 200)));
  }
  fs::create_directories(rig_dir, ec);
  if (ec) {
    throw UsageError(fmt::format(
        "-o {}: the folder cannot be made: {}", printable(dir.string(), 200), ec.message()));
  }
  if (a.flag("quick") && a.flag("full")) {
    throw UsageError("--quick and --full are both given; choose one");
  }
  std::optional<OutputAside> aside;
  if (a.flag("json")) {
    aside.emplace();
  }
  const Scale& scale = a.flag("quick") ? kQuick : a.flag("full") ? kFull : kUsual;
  constexpr int kSteps = 22, kClips = 2;
  Tour tour(kSteps + (scale.animations ? kClips : 0));
  const auto step = [&tour](const std::string& what,
                            const std::vector<std::string>& words,
                            int (*verb)(int, char**)) { return tour.step(what, words, verb); };
  // The same, of what there is denoised.
  const auto clean_step =
      [&](const std::string& what, std::vector<std::string> words, int (*verb)(int, char**)) {
        if (scale.denoised) {
          words.emplace_back("--denoised");
        }
        return tour.step(what, words, verb);
      };
  for (const DemoFile& file : kFiles) {
    write_text_file((rig_dir / file.name).string(), file.text);
  }
  const std::string rig = (rig_dir / "orchid-house.toml").string();
  print_out(fmt::format("wrote {} and {} files that it includes\n", rig, std::size(kFiles) - 1));

  std::vector<std::string> common = {"--force"};
  if (const auto threads = a.text("threads")) {
    common.insert(common.end(), {"--threads", *threads});
  }
  if (scale.denoised) {
    common.emplace_back("--denoise");
  }
  const auto render_step =
      [&](const std::string& what, const std::string& out, const std::vector<std::string>& words) {
        std::vector<std::string> all = {"render", rig, "-o", (dir / out).string()};
        all.insert(all.end(), common.begin(), common.end());
        all.insert(all.end(), words.begin(), words.end());
        return step(what, all, run_render);
      };
  int status =
      step("Is the rig sound, and how much light is each lamp?", {"check", rig}, run_check);
  step("The mistakes that check catches", {"check", rig, "--variant", "mistakes"}, run_check);
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
        rig,
        "-o",
        (dir / "color").string(),
        "--force"},
       run_color);
  step("What the heat lamp's photometric file says",
       {"profile",
        (rig_dir / "heat-lamp.ies").string(),
        "-o",
        (dir / "heat-lamp").string(),
        "--force"},
       run_profile);
  step("How the pendant and the indicator weaken, beside laws that bend physics",
       {"falloff",
        rig,
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
        (dir / "falloff").string(),
        "--force"},
       run_falloff);
  for (const auto& [what, out, words] :
       {std::tuple<std::string, std::string, std::vector<std::string>>{
            "The house",
            "wide",
            {"--camera", "wide", "--size", scale.size, "--samples", scale.samples}},
        {"The bench, with the direct and the bounced light of each lamp apart",
         "bench",
         {"--camera",
          "bench",
          "--size",
          scale.other_size,
          "--samples",
          scale.other_samples,
          "--set",
          "render.layers=\"lights+parts\""}},
        {"The same bench as work light",
         "bench-work-light",
         {"--camera",
          "bench",
          "--variant",
          "work-light",
          "--size",
          scale.other_size,
          "--samples",
          scale.other_samples}},
        {"The house at dawn",
         "wide-dawn",
         {"--camera",
          "wide",
          "--variant",
          "dawn",
          "--size",
          scale.other_size,
          "--samples",
          scale.other_samples}},
        {"Thin mist against a lamp in the yard",
         "shafts",
         {"--variant", "shafts", "--size", scale.other_size, "--samples", scale.other_samples}}}) {
    status = std::max(status, render_step(what, out, words));
    if (status == kInterrupted) {
      return status;
    }
  }
  // Places in shares of the picture: the same things whatever its size.
  const double w = std::atof(scale.other_size), h = w * 9 / 16;
  const auto picture = [&](const std::string& name, std::vector<std::string> words) {
    words.insert(words.begin() + 1, (dir / name).string());
    return words;
  };
  const auto at = [&](double x, double y) { return fmt::format("{:.0f},{:.0f}", x * w, y * h); };
  const auto box = [&](double x, double y, double size) {
    return fmt::format("{:.0f},{:.0f},{:.0f},{:.0f}", x * w, y * h, size * w, size * w);
  };
  const auto sweep_box = [&](double x, double y, double across, double down) {
    const double sw = std::atof(scale.sweep_size), sh = sw * 9 / 16;
    return fmt::format("{:.0f},{:.0f},{:.0f},{:.0f}", x * sw, y * sh, across * sw, down * sh);
  };
  clean_step(
      "What a spot meter reads: the gray card, the wall near and far from its spot",
      picture("bench",
              {"read", "--box", box(0.80, 0.52, 0.02), "--at", at(0.5, 0.1), "--at", at(0.2, 0.1)}),
      run_read);
  step("The lux that the bench gets",
       {"meter", rig, "--error", scale.meter_error, "-o", (dir / "meters").string(), "--force"},
       run_meter);
  clean_step("Luminance in bands of a stop",
             picture("bench", {"false-color", "-o", (dir / "false-color").string(), "--force"}),
             run_false_color);
  std::vector<std::string> noise = {"noise",
                                    (dir / "bench").string(),
                                    "--target",
                                    "5 %",
                                    "-o",
                                    (dir / "noise").string(),
                                    "--force"};
  if (scale.trials) {
    noise.emplace_back("--try");  // a render for each change that it proposes
  }
  step("Where the noise is, and who makes it", noise, run_noise);
  step("Where the light on the blue pot comes from",
       picture("bench",
               {"why",
                "--at",
                at(0.62, 0.66),
                "--samples",
                scale.why_samples,
                "-o",
                (dir / "why").string(),
                "--force",
                "--quiet"}),
       run_why);
  clean_step(
      "A softer near field: the pendant's near_softening, read on the bench below it and on the "
      "far floor",
      {"sweep",     rig,
       "--camera",  "wide",
       "--vary",    "light.pendant.near_softening = 0 cm .. 40 cm / 6",
       "--set",     "light.yard.on=false",
       "--set",     "light.heat-lamp.on=false",
       "--set",     "light.lantern.on=false",
       "--size",    scale.sweep_size,
       "--samples", scale.sweep_samples,
       "--box",     sweep_box(0.469, 0.574, 0.028, 0.025),
       "--box",     sweep_box(0.139, 0.802, 0.069, 0.062),
       "-o",        (dir / "near_softening").string(),
       "--quiet"},
      run_sweep);
  clean_step("Work light against the evening",
             picture("bench",
                     {"compare",
                      (dir / "bench-work-light").string(),
                      "--names",
                      "evening,work light",
                      "-o",
                      (dir / "compare").string(),
                      "--force"}),
             run_compare);
  clean_step("500 lx on the bench, without rendering again",
             picture("bench-work-light",
                     {"balance",
                      "--target",
                      "bench-level=500 lx",
                      "-o",
                      (dir / "balanced").string(),
                      "--force"}),
             run_balance);
  clean_step("The same by hand: a page with a fader for each lamp",
             picture("bench",
                     {"desk",
                      "-o",
                      (dir / "desk.html").string(),
                      "--error",
                      scale.page_error,
                      "--force",
                      "--quiet"}),
             run_desk);
  clean_step("Two seconds of the lantern's flame, all frames from one render",
             {"animate",
              rig,
              "--camera",
              "wide",
              "--meter",
              "seedlings",
              "--size",
              scale.flame_size,
              "--samples",
              scale.flame_samples,
              "-o",
              (dir / "flame").string(),
              "--force",
              "--quiet"},
             run_animate);
  if (scale.animations) {
    step("Sunrise, a frame at a time",
         {"animate",
          rig,
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
          (dir / "sunrise").string(),
          "--force",
          "--quiet"},
         run_animate);
    step("The mist drifts",
         {"animate",   rig,
          "--camera",  "wide",
          "--variant", "misty",
          "--set",     "time.frames=[1, 6]",
          "--set",     "time.rate=1",
          "--set",     "haze.spray.clumps.drift=[-0.2, 0, 0.08]",
          "--size",    "240x135",
          "--samples", "24",
          "-o",        (dir / "drift").string(),
          "--force",   "--quiet"},
         run_animate);
  }
  clean_step("All of it on one page",
             {"report",
              dir.string(),
              "--error",
              scale.page_error,
              "-o",
              (dir / "report.html").string(),
              "--force"},
             run_report);
  if (a.flag("json")) {
    aside.reset();
    Json j = {{"rig", rig}, {"seconds", tour.seconds()}, {"steps", tour.done()}};
    for (const auto& [name, shows] : pictures(scale.denoised)) {
      j["pictures"].push_back({{"file", (dir / name).string()}, {"shows", shows}});
    }
    print_out(json_text(j));
    return status;
  }
  print_out(fmt::format("\nDone after {:.0f} s. Open these:\n", tour.seconds()));
  std::vector<std::vector<std::string>> rows = {{"picture", "what it shows"}};
  for (const auto& [name, shows] : pictures(scale.denoised)) {
    rows.push_back({(dir / name).string(), shows});
  }
  print_out(text_table(rows));
  return status;
}

}  // namespace jovilux::cli
