// jovilux_bench: rates of the hot parts, each run printing one line of JSON and a table to stderr.
// See docs/performance.md.
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/render/renderer.h"

#include <algorithm>
#include <chrono>
#include <cstdio>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

#include "bench/bench_output.h"
#include "bench/compare_programs.h"
#include "bench/connections_bench.h"
#include "bench/denoising_bench.h"
#include "bench/loaded_rig.h"
#include "bench/march_bench.h"
#include "bench/measurement_tables.h"
#include "bench/ray_bench.h"
#include "bench/sampling.h"
#include "bench/squared_error.h"
#include "bench/track.h"

namespace jovilux {
namespace {

using Clock = std::chrono::steady_clock;

constexpr const char* kHelp =
    "jovilux_bench: rates of the hot parts: a line of JSON, and a table to standard error\n\n"
    "  rays --mesh F.ply --rays F.rays [--any] [--whole] [--threads N]   ray queries on a mesh, "
    "best of three; a ray is\n"
    "                                  float32 x 7, little-endian: origin, unit direction, t max; "
    "--whole: no\n"
    "                                  box of a triangle is cut\n"
    "  make --kind room|bars|field --mesh F.ply --rays PREFIX [--triangles N] [--count N]\n"
    "                                  a test mesh and its camera, bounce and shadow rays: "
    "PREFIX-camera.rays ...\n"
    "  march                           marched solids, and a marched sphere against the analytic "
    "one\n"
    "  lights [--samples N]            direct light of each form, and through masks: variance x "
    "time against points\n"
    "                                  spread evenly; what choosing one of many lamps adds\n"
    "  haze [--samples N]              light that haze scatters along a ray: the same\n"
    "  scenes DIR [--seconds S] [--reference S] [--threads N]   error of each rig of a folder "
    "after equal times\n"
    "  render RIG [--threads N] [--set ADDRESS=VALUE]   samples/s of a rig and the share of time "
    "in ray queries\n"
    "  connections RIG   what camera paths are connected to: learning, sets, choices/s, and how "
    "many arrive\n"
    "  denoising COMMIT RENDER REFERENCE ...   what denoising brings, and whether the error it "
    "tells is "
    "true\n"
    "  compare-programs OLD NEW RIG... [--before-commit A] [--after-commit B] [--seconds S] "
    "[--rounds N] [--reference S]\n"
    "                                  [--references DIR] [--threads N]   squared error of two "
    "programs after equal\n"
    "                                  times, and its ratio\n"
    "  squared-error REFERENCE RENDER...   error of renders, of each of their layers and parts, "
    "and in the worst pixels\n"
    "  track COMMIT RIG... [--triangles N] [--runs N]   the main rates in the time of a fixed "
    "piece of work beside "
    "them; see bench/track.sh\n"
    "  tables FILE                     lines of track, compare-programs and denoising as tables in "
    "Markdown\n";

struct Options {
  std::map<std::string, std::vector<std::string>> values;
  std::vector<std::string> words;
  std::string one(const std::string& name, const std::string& otherwise = "") const {
    const auto it = values.find(name);
    return it == values.end() ? otherwise : it->second.back();
  }
  int whole(const std::string& name, int otherwise) const {
    return static_cast<int>(parse_number(one(name)).value_or(otherwise));
  }
};

Options options_of(int argc, char** argv) {
  Options out;
  for (int i = 2; i < argc; ++i) {
    const std::string word = argv[i];
    if (word == "--any" || word == "--whole") {
      out.values[word.substr(2)];
    } else if (word.starts_with("--") && i + 1 < argc) {
      out.values[word.substr(2)].push_back(argv[++i]);
    } else {
      out.words.push_back(word);
    }
  }
  return out;
}

int bench_render(const Options& o) {
  if (o.words.empty()) {
    std::fputs(kHelp, stderr);
    return 2;
  }
  RigRequest request;
  if (const auto it = o.values.find("set"); it != o.values.end()) {
    request.overrides = it->second;
  }
  const auto loaded = loaded_or_told(o.words[0], request);
  if (!loaded) {
    return 2;
  }
  const Rig& rig = loaded->rig;
  const Scene& scene = loaded->scene;
  RenderOptions options;
  options.threads = o.whole("threads", 0);
  const Render plain = render(rig, scene, options);
  options.time_queries = true;
  const Render timed = render(rig, scene, options);
  // What two readings of the clock cost, to be taken off each query.
  constexpr int kReadings = 1'000'000;
  const auto start = Clock::now();
  for (int i = 0; i < kReadings; ++i) {
    static_cast<void>(Clock::now());
  }
  const double reading_s = seconds_since(start) / kReadings;
  const RayCounts& n = timed.stats.rays;
  const double rays = static_cast<double>(n.camera + n.path + n.shadow);
  const double query_s = static_cast<double>(n.query_ns) * 1e-9 - rays * reading_s;
  const double samples = plain.stats.samples_per_pixel * rig.render.width * rig.render.height;
  const double other_s =
      timed.stats.cpu_s - static_cast<double>(n.query_ns) * 1e-9 - rays * reading_s;
  std::printf("%s\n",
              Json({{"rig", o.words[0]},
                    {"threads", plain.stats.threads},
                    {"samples", samples},
                    {"seconds", plain.stats.wall_s},
                    {"samples_per_s", samples / plain.stats.wall_s},
                    {"rays", rays},
                    {"mrays_per_s", rays / plain.stats.wall_s / 1e6},
                    {"march_steps_per_march",
                     n.march.marches > 0
                         ? static_cast<double>(n.march.steps) / static_cast<double>(n.march.marches)
                         : 0.0},
                    {"media_steps_per_ray", static_cast<double>(n.media_steps) / rays},
                    {"query_share", query_s / (query_s + other_s)},
                    {"instructions", World::instruction_set()}})
                  .dump()
                  .c_str());
  print_table({{"rig", "threads", "samples/s", "million rays/s", "in ray queries", "steps/march"},
               {std::filesystem::path(o.words[0]).stem().string(),
                std::to_string(plain.stats.threads),
                three_digits(samples / plain.stats.wall_s),
                three_digits(rays / plain.stats.wall_s / 1e6),
                three_digits(100 * query_s / (query_s + other_s)) + " %",
                n.march.marches > 0 ? three_digits(static_cast<double>(n.march.steps) /
                                                   static_cast<double>(n.march.marches))
                                    : "-"}});
  return 0;
}

int run(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "";
  const Options o = options_of(argc, argv);
  if (what == "rays") {
    RayBenchTask task;
    task.mesh = o.one("mesh");
    task.rays = o.one("rays");
    task.any = o.values.count("any") > 0;
    task.split = o.values.count("whole") == 0;
    task.threads = o.whole("threads", 1);
    return bench_rays(task);
  }
  if (what == "march") {
    return bench_solids();
  }
  if (what == "make") {
    return make_test_rays(o.one("kind", "room"),
                          o.one("mesh"),
                          o.one("rays", "test"),
                          o.whole("triangles", 1'200'000),
                          o.whole("count", 1'000'000));
  }
  if (what == "lights" || what == "haze") {
    const int samples = std::clamp(o.whole("samples", 1 << 18), 16, 1 << 24);
    return what == "lights" ? bench_lights(samples) : bench_haze(samples);
  }
  if (what == "scenes" && !o.words.empty()) {
    return bench_scenes(o.words[0],
                        parse_number(o.one("seconds")).value_or(2),
                        parse_number(o.one("reference")).value_or(60),
                        o.whole("threads", 0));
  }
  if (what == "render") {
    return bench_render(o);
  }
  if (what == "connections" && o.words.size() == 1) {
    return bench_connections(o.words[0]);
  }
  if (what == "denoising" && o.words.size() >= 3) {
    return denoising_bench(o.words[0], {o.words.begin() + 1, o.words.end()});
  }
  if (what == "squared-error" && o.words.size() >= 2) {
    return squared_errors(o.words[0], {o.words.begin() + 1, o.words.end()});
  }
  if (what == "track" && o.words.size() >= 2) {
    TrackTask task;
    task.commit = o.words[0];
    task.rigs.assign(o.words.begin() + 1, o.words.end());
    task.triangles = o.whole("triangles", task.triangles);
    task.runs = o.whole("runs", task.runs);
    return track_rates(task);
  }
  if (what == "tables" && o.words.size() == 1) {
    return print_measurement_tables(o.words[0]);
  }
  if (what == "compare-programs" && o.words.size() >= 3) {
    ProgramComparison task;
    task.before = o.words[0];
    task.after = o.words[1];
    task.before_commit = o.one("before-commit", o.words[0]);
    task.after_commit = o.one("after-commit", o.words[1]);
    task.rigs.assign(o.words.begin() + 2, o.words.end());
    task.seconds = parse_number(o.one("seconds")).value_or(task.seconds);
    task.reference_seconds = parse_number(o.one("reference")).value_or(task.reference_seconds);
    task.references = o.one("references");
    task.threads = o.whole("threads", task.threads);
    task.rounds = o.whole("rounds", task.rounds);
    return compare_programs(task);
  }
  std::fputs(kHelp, what == "--help" ? stdout : stderr);
  return what == "--help" ? 0 : 2;
}

}  // namespace
}  // namespace jovilux

int main(int argc, char** argv) {
  try {
    return jovilux::run(argc, argv);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "failed: %s\n", e.what());
    return 4;
  }
}
