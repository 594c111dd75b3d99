#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/metering.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <filesystem>
#include <numeric>

#include "cli/arguments.h"
#include "cli/light_table.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Verdict = MeterReading::Verdict;

const char* unit_of(const MeterReading& r) { return r.luminance ? "cd/m2" : "lx"; }
const char* word(Verdict v) {
  return v == Verdict::kPass ? "pass" : v == Verdict::kFail ? "fail" : "none";
}

// Columns with their units, so that the table stands by itself.
std::string csv(const MeterResult& m, const MeterSpec& meter) {
  std::string out =
      fmt::format("x_m,y_m,z_m,value_{0},standard_error_{0},direct_{0},bounce_{0},haze_{0}",
                  meter.luminance ? "cd_m2" : "lx");
  for (const std::string& name : m.layers) {
    out += "," + csv_field(name);
  }
  for (const std::string& name : m.layers) {
    out += "," + csv_field("standard_error_" + name);
  }
  out += ",settled\n";
  for (const MeterReading& r : m.readings) {
    out += fmt::format("{:.6g},{:.6g},{:.6g},{:.6g},{:.3g},{:.6g},{:.6g},{:.6g}",
                       r.at.x(),
                       r.at.y(),
                       r.at.z(),
                       r.value,
                       r.standard_error,
                       r.direct,
                       r.bounce,
                       r.haze);
    for (const MeterReading::Light& light : r.by_light) {
      out += fmt::format(",{:.6g}", light.value);
    }
    for (const MeterReading::Light& light : r.by_light) {
      out += fmt::format(",{:.3g}", light.standard_error);
    }
    out += r.settled ? ",yes\n" : ",no\n";
  }
  return out;
}

// Where a target is missed: how to find the dimmers that meet it.
std::string way_on(const Rig& rig,
                   const std::vector<MeterResult>& results,
                   const std::string& file) {
  for (const MeterResult& m : results) {
    const bool failed =
        std::any_of(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
          return r.verdict == MeterReading::Verdict::kFail;
        });
    const MeterSpec& meter = rig.meters[m.meter];
    if (failed && meter.target) {
      return fmt::format(
          "\nwhich dimmers meet it: jovilux render {} -o out, then\n"
          "jovilux balance out --target {}=\"{} {}\"\n",
          printable(file, 200),
          meter.name,
          short_number(0.5 * (meter.target->first + meter.target->second)),
          meter.luminance ? "cd/m2" : "lx");
    }
  }
  return "";
}

// The three that bring most: "pendant 320, tube 41".
std::string strongest_lights(const std::vector<std::string>& layers, const MeterReading& r) {
  constexpr std::size_t kShown = 3;
  constexpr double kLeastShare = 0.005;
  std::vector<std::size_t> order(layers.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  // Lights that read alike stay in the rig's order, whichever chance has put ahead.
  const auto as_read = [&](std::size_t l) {
    return parse_number(short_number(r.by_light[l].value, 3)).value_or(0);
  };
  std::stable_sort(order.begin(), order.end(), [&](std::size_t x, std::size_t y) {
    return as_read(x) > as_read(y);
  });
  order.resize(std::min(kShown, order.size()));
  std::string out;
  for (const std::size_t l : order) {
    if (r.by_light[l].value > kLeastShare * r.value) {
      out += fmt::format(
          "{}{} {}", out.empty() ? "" : ", ", layers[l], short_number(r.by_light[l].value, 3));
    }
  }
  return out;
}

// Readings whose error is larger than asked, or that are not there, and what to do.
std::string shortcomings(const std::vector<MeterResult>& results,
                         const MeteringOptions& options,
                         bool interrupted) {
  std::size_t unsettled = 0, missing = 0, dark = 0, most = 0;
  double worst = 0;
  for (const MeterResult& m : results) {
    missing += m.points - m.readings.size();
    for (const MeterReading& r : m.readings) {
      unsettled += r.settled ? 0 : 1;
      dark += r.value == 0 ? 1 : 0;
      most = std::max<std::size_t>(most, r.samples);
      worst = std::max(worst, r.settled || r.value == 0 ? 0 : r.standard_error / r.value);
    }
  }
  std::string out;
  if (interrupted) {
    out += fmt::format("\ninterrupted: {} not measured, {} not as exact as asked\n",
                       counted(missing, "point"),
                       counted(unsettled, "point"));
  } else if (unsettled > 0 && worst <= options.error) {
    out += fmt::format(
        "\n{} not settled after {} samples: too few paths found light to tell its error; more "
        "--samples\n",
        counted(unsettled, "reading"),
        most);
  } else if (unsettled > 0) {
    out += fmt::format(
        "\n{} not within {} % after {} samples; the largest error is {} %: more --samples, or an "
        "--error that will do\n",
        counted(unsettled, "reading"),
        short_number(100 * options.error, 3),
        most,
        short_number(100 * worst, 3));
  }
  if (dark > 0) {
    out += fmt::format(
        "\n{} found no light at all: look with jovilux check whether something stands in the way\n",
        counted(dark, "reading"));
  }
  return out;
}

MeteringOptions metering_options(const Arguments& a) {
  constexpr int kFewest = 1024, kMost = 1 << 30;
  MeteringOptions options;
  options.threads = threads_of(a);
  if (const auto error = a.text("error")) {
    options.error = share_option("--error", *error);
  }
  if (const auto most = a.whole("samples", kFewest, kMost)) {
    options.most_samples = static_cast<std::uint64_t>(*most);
  }
  return options;
}

// Luminance meters measure from this camera's place, at what they are aimed at.
void measure_from(Rig& rig, const std::string& camera) {
  const auto index = static_cast<std::size_t>(camera_index(rig, camera));
  bool any = false;
  for (MeterSpec& m : rig.meters) {
    if (m.luminance && !m.grid) {
      stand_at(m, rig.cameras[index]);
      any = true;
    }
  }
  if (!any) {
    throw UsageError("--camera: the rig has no luminance meter that could stand at a camera");
  }
}

Usage usage_of_meter() {
  return Usage{
      "meter",
      "RIG",
      "Lux and cd/m2 at the rig's [[meter]]s, by paths of their own; no picture is rendered. Exit "
      "status 1 where a\ntarget is missed.",
      {{"meter", "only this one; repeatable", "NAME"},
       {"error", "the standard error to reach, over the value; \"1 %\" by default", "SHARE"},
       {"samples", "at most so many for each point; exit status 1 where they do not do", "N"},
       {"camera", "luminance meters measure from this camera's place", "NAME"},
       {"o,output", "also write DIR/NAME.csv and, of grids, DIR/NAME.png", "DIR"},
       {"force", "replace files in DIR", ""},
       {"quiet", "no progress", ""},
       {"json", "print one JSON document instead", ""}},
      "",
      "jovilux meter demo-out/rig/orchid-house.toml --error \"2 %\""}
      .with(rig_options())
      .with({threads_option()});
}

// Leaves the meters that --meter names. Throws where the rig has none of a name, or none at all.
void choose_meters(Rig& rig, const std::string& rig_file, const std::vector<std::string>& wanted) {
  for (const std::string& name : wanted) {
    meter_named(rig, "--meter", name);
  }
  if (!wanted.empty()) {
    std::erase_if(rig.meters, [&](const MeterSpec& m) {
      return std::find(wanted.begin(), wanted.end(), m.name) == wanted.end();
    });
  }
  if (rig.meters.empty()) {
    throw BadInput{{{Severity::kError,
                     "no-meter",
                     {rig_file, 0, 0},
                     "meter",
                     "the rig has no meter",
                     "add [[meter]] with name, kind = \"illuminance\", at and facing"}}};
  }
}

// Before measuring: a folder that cannot be written is told at once.
void prepare_meter_files(const std::string& folder, const Rig& rig, bool force) {
  std::vector<std::string> files;
  for (const MeterSpec& m : rig.meters) {
    files.push_back(m.name + ".csv");
    if (m.grid) {
      files.push_back(m.name + ".png");
    }
  }
  prepare_files(folder, files, force);
}

void save_readings(const std::string& folder,
                   const Rig& rig,
                   const std::vector<MeterResult>& results) {
  for (const MeterResult& m : results) {
    if (m.readings.empty()) {
      continue;
    }
    const MeterSpec& meter = rig.meters[m.meter];
    write_text_file((fs::path(folder) / (meter.name + ".csv")).string(), csv(m, meter));
    if (meter.grid && m.readings.size() == m.points) {
      figures::grid_figure((fs::path(folder) / (meter.name + ".png")).string(), meter, m);
    }
  }
}

// Whether a reading misses its target, or the error that was asked for.
bool falls_short(const std::vector<MeterResult>& results) {
  return std::any_of(results.begin(), results.end(), [](const MeterResult& m) {
    return std::any_of(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
      return r.verdict == Verdict::kFail || !r.settled;
    });
  });
}

Json to_json(const MeterReading& r,
             const MeterSpec& meter,
             const std::vector<std::string>& layers) {
  Json lights = Json::object(), errors = Json::object();
  for (std::size_t l = 0; l < layers.size(); ++l) {
    lights[layers[l]] = r.by_light[l].value;
    errors[layers[l]] = r.by_light[l].standard_error;
  }
  return {
      {"name", r.name},
      {"kind", r.luminance ? "luminance" : "illuminance"},
      {"at", {r.at.x(), r.at.y(), r.at.z()}},
      {"value", r.value},
      {"unit", unit_of(r)},
      {"standard_error", r.standard_error},
      {"direct", r.direct},
      {"bounce", r.bounce},
      {"haze", r.haze},
      {"by_light", lights},
      {"by_light_standard_error", errors},
      {"samples", r.samples},
      {"settled", r.settled},
      {"target", meter.target ? Json({meter.target->first, meter.target->second}) : Json(nullptr)},
      {"verdict", word(r.verdict)}};
}

Json to_json(const Rig& rig,
             const std::vector<MeterResult>& results,
             const std::vector<std::string>& lost_lights) {
  Json j = {{"meters", Json::array()}};
  for (const MeterResult& m : results) {
    const MeterSpec& meter = rig.meters[m.meter];
    for (const MeterReading& r : m.readings) {
      j["meters"].push_back(to_json(r, meter, m.layers));
    }
    if (meter.grid && m.readings.size() == m.points) {
      j["grids"].push_back({{"name", meter.name},
                            {"average", m.average},
                            {"minimum", m.minimum},
                            {"uniformity", m.uniformity()}});
    }
  }
  j["not_found_in_mirrors"] = lost_lights;
  return j;
}

std::string target_text(const MeterSpec& meter) {
  return meter.target
             ? fmt::format(
                   "{}..{}", short_number(meter.target->first), short_number(meter.target->second))
             : "-";
}

using Rows = std::vector<std::vector<std::string>>;

// A grid's two rows: its average and its minimum.
void append_grid(Rows& rows, const MeterSpec& meter, const MeterResult& m) {
  const auto fails = std::count_if(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
    return r.verdict == Verdict::kFail;
  });
  double worst = 0;
  for (const MeterReading& r : m.readings) {
    worst = std::max(worst, r.standard_error);
  }
  const std::string verdict = !meter.target ? "-"
                              : fails == 0
                                  ? "pass"
                                  : fmt::format("fail, {} of {} points", fails, m.readings.size());
  const std::string unit = unit_of(m.readings[0]);
  rows.push_back({meter.name + " average",
                  short_number(m.average),
                  short_number(worst, 2),
                  unit,
                  "",
                  "",
                  "",
                  target_text(meter),
                  verdict,
                  ""});
  rows.push_back({meter.name + " minimum",
                  short_number(m.minimum),
                  "",
                  unit,
                  "",
                  "",
                  "",
                  "",
                  "",
                  fmt::format("uniformity {}", short_number(m.uniformity(), 2))});
}

std::string readings_table(const Rig& rig, const std::vector<MeterResult>& results) {
  Rows rows = {{"meter",
                "value",
                "\u00b1",
                "unit",
                "direct",
                "bounce",
                "haze",
                "target",
                "verdict",
                "most from"}};
  for (const MeterResult& m : results) {
    const MeterSpec& meter = rig.meters[m.meter];
    if (m.readings.empty()) {
      continue;
    }
    if (meter.grid) {
      append_grid(rows, meter, m);
      continue;
    }
    const MeterReading& r = m.readings[0];
    rows.push_back({r.name,
                    short_number(r.value),
                    short_number(r.standard_error, 2),
                    unit_of(r),
                    short_number(r.direct),
                    short_number(r.bounce),
                    short_number(r.haze),
                    target_text(meter),
                    r.verdict == Verdict::kNone ? "-" : word(r.verdict),
                    strongest_lights(m.layers, r)});
  }
  return text_table(rows);
}

}  // namespace

int run_meter(int argc, char** argv) {
  const Arguments a(usage_of_meter(), argc, argv);
  MeteringOptions options = metering_options(a);
  auto rig = load_rig(a.positional(), rig_request(a));
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  choose_meters(*rig, a.positional(), a.texts("meter"));
  if (const auto camera = a.text("camera")) {
    measure_from(*rig, *camera);
  }
  const auto scene = prepare_scene(*rig);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  const auto folder = a.text("output");
  if (folder) {
    prepare_meter_files(*folder, *rig, a.flag("force"));
  }
  catch_interrupts();
  options.stop = stop_requested;
  std::vector<MeterResult> results;
  {
    ProgressBar bar(a.flag("quiet"));
    options.progress = bar.function();
    results = read_meters(*rig, *scene, options);
  }
  if (folder) {
    save_readings(*folder, *rig, results);
  }
  const std::vector<std::string> lost = lights_lost_in_mirrors(*rig, *scene);
  if (a.flag("json")) {
    print_out(json_text(to_json(*rig, results, lost)));
  } else {
    print_out(readings_table(*rig, results) + shortcomings(results, options, stop_requested()) +
              lost_in_mirrors(
                  lost, "the readings", "that mirrors or glass throw on other surfaces first") +
              way_on(*rig, results, a.positional()));
    if (folder) {
      print_out(fmt::format("\nwrote {}\n", printable(*folder, 200)));
    }
  }
  return stop_requested() ? kInterrupted : falls_short(results) ? kFellShort : kDone;
}

}  // namespace jovilux::cli
