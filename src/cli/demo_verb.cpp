#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

struct DemoFile {
  const char* name;
  const char* text;
};
constexpr DemoFile kFiles[] = {
#include "demo_files.inc"
};

// Runs a verb as a user would, after showing the line that does it.
int step(const std::string& what, const std::vector<std::string>& words, int (*verb)(int, char**)) {
  std::string line = "jovilux";
  for (const std::string& w : words) {
    line += " " + (w.find(' ') == std::string::npos ? w : "\"" + w + "\"");
  }
  print_out(fmt::format("\n== {}\n$ {}\n", what, line));
  std::vector<std::string> copy = words;
  std::vector<char*> argv;
  for (std::string& w : copy) {
    argv.push_back(w.data());
  }
  return verb(static_cast<int>(argv.size()), argv.data());
}

}  // namespace

int run_demo(int argc, char** argv) {
  Usage usage{
      "demo",
      "",
      "Writes the orchid house, a made-up glasshouse before sunrise, and runs the whole loop on "
      "it: check,\nconvert, color, profile, falloff, render, read, meter, false-color, noise, "
      "sweep, compare, balance, animate, report. Each step shows the command that does it.",
      {{"o,output", "folder for the rig and the results; demo-out by default", "DIR"},
       {"quick", "small pictures, few samples: under a minute on two cores", ""},
       {"force", "replace what an earlier demo left in DIR", ""}},
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
  for (const DemoFile& file : kFiles) {
    write_text_file((rig_dir / file.name).string(), file.text);
  }
  const std::string rig = (rig_dir / "orchid-house.toml").string();
  print_out(fmt::format("wrote {} and {} files that it includes\n", rig, std::size(kFiles) - 1));

  std::vector<std::string> common = {"--force"};
  if (const auto threads = a.text("threads")) {
    common.insert(common.end(), {"--threads", *threads});
  }
  if (a.flag("quick")) {
    common.insert(common.end(), {"--size", "400x225", "--samples", "12"});
  }
  const auto render_step =
      [&](const std::string& what, const std::string& out, const std::vector<std::string>& words) {
        std::vector<std::string> all = {"render", rig, "-o", (dir / out).string()};
        all.insert(all.end(), common.begin(), common.end());
        all.insert(all.end(), words.begin(), words.end());
        return step(what, all, run_render);
      };
  const std::string misty_size = a.flag("quick") ? "288x162" : "480x270",
                    misty_samples = a.flag("quick") ? "8" : "32";
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
            "The house", "wide", {"--camera", "wide"}},
        {"The bench, with the direct and the bounced light of each lamp apart",
         "bench",
         {"--camera", "bench", "--set", "render.layers=\"lights+parts\""}},
        {"The same bench as work light",
         "bench-work-light",
         {"--camera", "bench", "--variant", "work-light"}},
        {"The house at dawn", "wide-dawn", {"--camera", "wide", "--variant", "dawn"}},
        {"The house in mist",
         "wide-misty",
         {"--camera",
          "wide",
          "--variant",
          "misty",
          "--size",
          misty_size,
          "--samples",
          misty_samples}}}) {
    status = std::max(status, render_step(what, out, words));
    if (status == kInterrupted) {
      return status;
    }
  }
  // Places in shares of the picture: the same things whatever its size.
  const double w = a.flag("quick") ? 400 : 960, h = a.flag("quick") ? 225 : 540;
  const auto at = [&](double x, double y) { return fmt::format("{:.0f},{:.0f}", x * w, y * h); };
  const auto box = [&](double x, double y, double size) {
    return fmt::format("{:.0f},{:.0f},{:.0f},{:.0f}", x * w, y * h, size * w, size * w);
  };
  step("What a spot meter reads: the gray card, the wall near and far from its spot",
       {"read",
        (dir / "bench" / "image.exr").string(),
        "--box",
        box(0.80, 0.52, 0.02),
        "--at",
        at(0.5, 0.1),
        "--at",
        at(0.2, 0.1)},
       run_read);
  step("The lux that the bench gets",
       {"meter",
        rig,
        "--error",
        a.flag("quick") ? "4 %" : "2 %",
        "-o",
        (dir / "meters").string(),
        "--force"},
       run_meter);
  step("Luminance in bands of a stop",
       {"false-color", (dir / "bench").string(), "-o", (dir / "false-color").string(), "--force"},
       run_false_color);
  std::vector<std::string> noise = {"noise",
                                    (dir / "bench").string(),
                                    "--target",
                                    "5 %",
                                    "-o",
                                    (dir / "noise").string(),
                                    "--force"};
  if (!a.flag("quick")) {
    noise.emplace_back("--try");  // a render for each change that it proposes
  }
  step("Where the noise is, and who makes it", noise, run_noise);
  step(
      "A softer near field: the pendant's near_softening, read on the bench below it and on the "
      "far floor",
      {"sweep",     rig,
       "--camera",  "wide",
       "--vary",    "light.pendant.near_softening = 0 m .. 5 m / 6",
       "--set",     "light.yard.on=false",
       "--set",     "light.heat-lamp.on=false",
       "--set",     "light.lantern.on=false",
       "--size",    a.flag("quick") ? "144x81" : "288x162",
       "--samples", a.flag("quick") ? "8" : "32",
       "--box",     a.flag("quick") ? "67,46,4,2" : "135,93,8,4",
       "--box",     a.flag("quick") ? "20,65,10,5" : "40,130,20,10",
       "-o",        (dir / "near_softening").string(),
       "--quiet"},
      run_sweep);
  step("Work light against the evening",
       {"compare",
        (dir / "bench").string(),
        (dir / "bench-work-light").string(),
        "--names",
        "evening,work light",
        "-o",
        (dir / "compare").string(),
        "--force"},
       run_compare);
  step("500 lx on the bench, without rendering again",
       {"balance",
        (dir / "bench-work-light").string(),
        "--target",
        "bench-level=500 lx",
        "-o",
        (dir / "balanced").string(),
        "--force"},
       run_balance);
  step("Two seconds of the lantern's flame, all frames from one render",
       {"animate",
        rig,
        "--camera",
        "wide",
        "--meter",
        "seedlings",
        "--size",
        a.flag("quick") ? "208x117" : "480x270",
        "--samples",
        a.flag("quick") ? "6" : "64",
        "-o",
        (dir / "flame").string(),
        "--force",
        "--quiet"},
       run_animate);
  if (!a.flag("quick")) {
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
  step("All of it on one page",
       {"report",
        dir.string(),
        "--error",
        a.flag("quick") ? "10 %" : "2 %",
        "-o",
        (dir / "report.html").string(),
        "--force"},
       run_report);
  print_out(fmt::format(
      "\nDone. Open these pictures:\n  {0}/wide/view.png\n  {0}/bench/view.png\n  "
      "{0}/bench-work-light/view.png\n  {0}/wide-dawn/view.png\n  {0}/wide-misty/view.png\n  "
      "{0}/heat-lamp/profile.png\n  {0}/falloff/falloff.png\n  {0}/color/color.png\n  "
      "{0}/meters/bench-field.png\n  {0}/false-color/false-color.png\n  {0}/noise/noise.png\n  "
      "{0}/compare/compare.png\n  {0}/balanced/view.png\n  {0}/near_softening/sheet.png\n  "
      "{0}/flame/strip.png\n  {0}/flame/levels.png\n  {0}/report.html\n",
      dir.string()));
  return status;
}

}  // namespace jovilux::cli
