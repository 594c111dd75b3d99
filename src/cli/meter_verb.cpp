#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/judge/metering.h"

#include <algorithm>
#include <cmath>
#include <csignal>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using Verdict = MeterReading::Verdict;

const char* unit_of(const MeterReading& r) { return r.luminance ? "cd/m2" : "lx"; }
const char* word(Verdict v) {
  return v == Verdict::kPass ? "pass" : v == Verdict::kFail ? "fail" : "none";
}

std::string csv(const MeterResult& m, const MeterSpec& meter) {
  std::string out =
      fmt::format("x_m,y_m,z_m,value_{0},standard_error_{0},direct_{0},bounce_{0},haze_{0}",
                  meter.luminance ? "cd_m2" : "lx");
  for (const auto& [name, value] : m.readings.front().by_light) {
    out += "," + csv_field(name);
  }
  out += "\n";
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
    for (const auto& [name, value] : r.by_light) {
      out += fmt::format(",{:.6g}", value);
    }
    out += "\n";
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

}  // namespace

int run_meter(int argc, char** argv) {
  Usage usage{
      "meter",
      "RIG",
      "Lux and cd/m2 at the rig's [[meter]]s, by paths of their own; no picture is rendered. Exit "
      "status 1 where a\ntarget is missed.",
      {{"meter", "only this one; repeatable", "NAME"},
       {"error", "the standard error to reach, over the value; \"1 %\" by default", "SHARE"},
       {"o,output", "also write DIR/NAME.csv and, of grids, DIR/NAME.png", "DIR"},
       {"force", "replace files in DIR", ""},
       {"quiet", "no progress", ""},
       {"json", "print one JSON document instead", ""}},
      "",
      "jovilux meter demo-out/rig/orchid-house.toml --error \"2 %\""};
  for (Option& o : rig_options()) {
    usage.options.push_back(std::move(o));
  }
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  MeteringOptions options;
  options.threads = threads_of(a);
  if (const auto error = a.text("error")) {
    options.error = share_option("--error", *error);
  }
  auto rig = load_rig(a.positional(), rig_request(a));
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  std::vector<std::string> names;
  for (const MeterSpec& m : rig->meters) {
    names.push_back(m.name);
  }
  for (const std::string& wanted : a.texts("meter")) {
    if (std::find(names.begin(), names.end(), wanted) == names.end()) {
      const std::string hint = did_you_mean(wanted, names);
      throw UsageError(fmt::format("--meter: the rig has no meter \"{}\"{}",
                                   printable(wanted),
                                   hint.empty() ? "" : "; " + hint));
    }
  }
  if (const auto only = a.texts("meter"); !only.empty()) {
    std::erase_if(rig->meters, [&](const MeterSpec& m) {
      return std::find(only.begin(), only.end(), m.name) == only.end();
    });
  }
  if (rig->meters.empty()) {
    throw BadInput{{{Severity::kError,
                     "no-meter",
                     {a.positional(), 0, 0},
                     "meter",
                     "the rig has no meter",
                     "add [[meter]] with name, kind = \"illuminance\", at and facing"}}};
  }
  const auto scene = prepare_scene(*rig);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  const auto folder = a.text("output");
  if (folder) {
    std::vector<std::string> files;
    for (const MeterSpec& m : rig->meters) {
      files.push_back(m.name + ".csv");
      if (m.grid) {
        files.push_back(m.name + ".png");
      }
    }
    prepare_files(*folder, files, a.flag("force"));
  }
  catch_interrupts();
  options.stop = stop_requested;
  std::vector<MeterResult> results;
  {
    ProgressBar bar(a.flag("quiet"));
    options.progress = bar.function();
    results = read_meters(*rig, *scene, options);
  }
  bool missed = false;
  for (const MeterResult& m : results) {
    const MeterSpec& meter = rig->meters[m.meter];
    missed = missed || std::any_of(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
               return r.verdict == Verdict::kFail;
             });
    if (folder) {
      write_text_file((fs::path(*folder) / (meter.name + ".csv")).string(), csv(m, meter));
      if (meter.grid) {
        figures::grid_figure((fs::path(*folder) / (meter.name + ".png")).string(), meter, m);
      }
    }
  }
  if (a.flag("json")) {
    Json j = {{"meters", Json::array()}};
    for (const MeterResult& m : results) {
      const MeterSpec& meter = rig->meters[m.meter];
      for (const MeterReading& r : m.readings) {
        Json lights = Json::object();
        for (const auto& [name, value] : r.by_light) {
          lights[name] = value;
        }
        j["meters"].push_back(
            {{"name", r.name},
             {"kind", r.luminance ? "luminance" : "illuminance"},
             {"at", {r.at.x(), r.at.y(), r.at.z()}},
             {"value", r.value},
             {"unit", unit_of(r)},
             {"standard_error", r.standard_error},
             {"direct", r.direct},
             {"bounce", r.bounce},
             {"haze", r.haze},
             {"by_light", lights},
             {"samples", r.samples},
             {"target",
              meter.target ? Json({meter.target->first, meter.target->second}) : Json(nullptr)},
             {"verdict", word(r.verdict)}});
      }
      if (meter.grid) {
        j["grids"].push_back({{"name", meter.name},
                              {"average", m.average},
                              {"minimum", m.minimum},
                              {"uniformity", m.uniformity()}});
      }
    }
    print_out(j.dump(2) + "\n");
    return stop_requested() ? kInterrupted : missed ? kFellShort : kDone;
  }
  std::vector<std::vector<std::string>> table = {{"meter",
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
    const MeterSpec& meter = rig->meters[m.meter];
    const std::string target = meter.target ? fmt::format("{}..{}",
                                                          short_number(meter.target->first),
                                                          short_number(meter.target->second))
                                            : "-";
    if (meter.grid) {
      const auto fails =
          std::count_if(m.readings.begin(), m.readings.end(), [](const MeterReading& r) {
            return r.verdict == Verdict::kFail;
          });
      double worst = 0;
      for (const MeterReading& r : m.readings) {
        worst = std::max(worst, r.standard_error);
      }
      table.push_back({meter.name + " average",
                       short_number(m.average),
                       short_number(worst, 2),
                       unit_of(m.readings[0]),
                       "",
                       "",
                       "",
                       target,
                       meter.target
                           ? fails == 0
                                 ? "pass"
                                 : fmt::format("fail, {} of {} points", fails, m.readings.size())
                           : "-",
                       ""});
      table.push_back({meter.name + " minimum",
                       short_number(m.minimum),
                       "",
                       unit_of(m.readings[0]),
                       "",
                       "",
                       "",
                       "",
                       "",
                       fmt::format("uniformity {}", short_number(m.uniformity(), 2))});
      continue;
    }
    const MeterReading& r = m.readings[0];
    auto lights = r.by_light;
    std::stable_sort(lights.begin(), lights.end(), [](const auto& x, const auto& y) {
      return x.second > y.second;
    });
    std::string most;
    for (std::size_t l = 0; l < std::min<std::size_t>(3, lights.size()); ++l) {
      if (lights[l].second > 0.005 * r.value) {
        most += fmt::format("{}{} {}",
                            most.empty() ? "" : ", ",
                            lights[l].first,
                            short_number(lights[l].second, 3));
      }
    }
    table.push_back({r.name,
                     short_number(r.value),
                     short_number(r.standard_error, 2),
                     unit_of(r),
                     short_number(r.direct),
                     short_number(r.bounce),
                     short_number(r.haze),
                     target,
                     r.verdict == Verdict::kNone ? "-" : word(r.verdict),
                     most});
  }
  print_out(text_table(table) + way_on(*rig, results, a.positional()));
  if (folder) {
    print_out(fmt::format("\nwrote {}\n", printable(*folder, 200)));
  }
  return stop_requested() ? kInterrupted : missed ? kFellShort : kDone;
}

}  // namespace jovilux::cli
