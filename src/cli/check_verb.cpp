#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/units/text.h"

namespace jovilux::cli {
namespace {

using Json = nlohmann::ordered_json;

template <class Quantity>
Json number_or_null(const std::optional<Quantity>& q) {
  return q ? Json(q->value) : Json(nullptr);
}
Json number_or_null(const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); }

Json to_json(const Problem& p) {
  return {{"code", p.code}, {"file", p.place.file}, {"line", p.place.line}, {"column", p.place.column},
          {"address", p.address}, {"message", p.text}, {"hint", p.hint}};
}

Json to_json(const LightReport& r) {
  Json j = {{"name", r.name},
            {"form", to_string(r.form)},
            {"flux_lm", number_or_null(r.levels.flux)},
            {"peak_cd", number_or_null(r.levels.intensity)},
            {"luminance_cd_m2", number_or_null(r.levels.luminance)},
            {"illuminance_lx", number_or_null(r.levels.illuminance)},
            {"efficacy_lm_w", number_or_null(r.efficacy_lm_w)},
            {"cct_k", number_or_null(r.cct_k)},
            {"duv", r.duv},
            {"x", r.xy.x},
            {"y", r.xy.y},
            {"dimmer", r.dimmed},
            {"gel_transmittance", r.gel_transmittance},
            {"gobo_transmittance", r.gobo_transmittance},
            {"camera_fade", r.camera_fade},
            {"subject", nullptr},
            {"cheats", Json::array()}};
  if (r.subject) {
    j["subject"] = {{"object", r.subject->object},
                    {"distance_m", is_distant(r.form) ? Json(nullptr) : Json(r.subject->distance_m)},
                    {"illuminance_lx", r.subject->illuminance_lx},
                    {"falloff_factor", r.subject->falloff_factor}};
  }
  for (const auto& c : r.cheats) {
    j["cheats"].push_back({{"key", c.key}, {"value", c.value}, {"effect", c.effect}});
  }
  return j;
}

std::string cell(const std::optional<double>& v) { return v ? short_number(*v) : "-"; }
template <class Quantity>
std::string cell(const std::optional<Quantity>& q) {
  return q ? short_number(q->value) : "-";
}

std::string light_table_text(const std::vector<LightReport>& reports) {
  std::vector<std::vector<std::string>> rows = {{"light", "form", "lm", "peak cd", "cd/m2", "lm/W", "K", "dimmer", "lx at subject", "subject"}};
  for (std::size_t i = 0; i < reports.size(); ++i) {
    const LightReport& r = reports[i];
    // Copies of an array: the first stands for all.
    std::string shown = r.name;
    if (const auto bracket = r.name.find('['); bracket != std::string::npos) {
      const std::string stem = r.name.substr(0, bracket + 1);
      std::size_t copies = 1;
      while (i + 1 < reports.size() && reports[i + 1].name.starts_with(stem)) {
        ++i;
        ++copies;
      }
      shown = fmt::format("{}0..{}]", stem, copies - 1);
    }
    std::string at = "-", where;
    if (r.subject) {
      at = short_number(r.subject->illuminance_lx);
      where = is_distant(r.form) ? r.subject->object : fmt::format("{}, {}", r.subject->object, readable_length(r.subject->distance_m));
    }
    rows.push_back({shown, std::string(to_string(r.form)), cell(r.levels.flux), cell(r.levels.intensity), cell(r.levels.luminance), cell(r.efficacy_lm_w),
                    r.cct_k ? short_number(*r.cct_k) : "-", r.dimmed == 0 ? "off" : short_number(r.dimmed), at, where});
  }
  return text_table(rows);
}

}  // namespace

int run_check(int argc, char** argv) {
  Usage usage{"check", "RIG", "Finds errors and mistakes in a rig before time is spent on rendering it, and lists each light in\nreal units: what leaves the bare source, its dimmer, and the lux it brings to its subject.",
              {{"strict", "exit status 1 on warnings too", ""}, {"json", "print one JSON document instead", ""}}, "", "jovilux check demo-out/rig/orchid-house.toml"};
  for (Option& o : rig_options()) {
    usage.options.push_back(std::move(o));
  }
  usage.options.push_back(threads_option());
  const Arguments arguments(usage, argc, argv);
  if (arguments.help_wanted()) {
    print_out(arguments.help_text());
    return kDone;
  }
  const std::string file = arguments.positional();
  std::error_code ec;
  if (!std::filesystem::is_regular_file(file, ec)) {
    throw UsageError(fmt::format("{}: {}", printable(file, 200), std::filesystem::exists(file, ec) ? "not a file" : "file not found"));
  }
  Problems problems;
  std::vector<LightReport> reports;
  std::string title;
  with_threads(threads_of(arguments), [&] {
    const auto rig = load_rig(file, rig_request(arguments));
    problems = rig.problems();
    if (!rig) {
      return;
    }
    title = rig->title;
    const auto scene = prepare_scene(*rig);
    problems.insert(problems.end(), scene.problems().begin(), scene.problems().end());
    if (scene) {
      reports = light_reports(*rig, *scene);
      const Problems found = check_rig(*rig, *scene, reports);
      problems.insert(problems.end(), found.begin(), found.end());
    }
  });
  Problems errors, warnings;
  for (const Problem& p : problems) {
    (p.severity == Severity::kError ? errors : warnings).push_back(p);
  }
  if (arguments.flag("json")) {
    Json j = {{"errors", Json::array()}, {"warnings", Json::array()}, {"lights", Json::array()}};
    for (const Problem& p : errors) {
      j["errors"].push_back(to_json(p));
    }
    for (const Problem& p : warnings) {
      j["warnings"].push_back(to_json(p));
    }
    for (const LightReport& r : reports) {
      j["lights"].push_back(to_json(r));
    }
    print_out(j.dump(2, ' ', false, Json::error_handler_t::replace) + "\n");
  } else {
    std::string out;
    if (!reports.empty()) {
      out += (title.empty() ? file : title) + "\n\n" + light_table_text(reports);
      for (const LightReport& r : reports) {
        const bool later_copy = r.name.ends_with("]") && !r.name.ends_with("[0]");
        if (later_copy) {
          continue;
        }
        if (r.gel_transmittance < 1) {
          out += fmt::format("\n{}: its gels let {} % of the light through", r.name, short_number(100 * r.gel_transmittance, 3));
        }
        if (r.gobo_transmittance < 1) {
          const std::string lumens = r.levels.flux ? fmt::format(": {} lm of {} lm", short_number(r.levels.flux->value * r.dimmed * r.gel_transmittance * r.gobo_transmittance), short_number(r.levels.flux->value * r.dimmed * r.gel_transmittance)) : "";
          out += fmt::format("\n{}: its gobo lets {} % of the light through{}", r.name, short_number(100 * r.gobo_transmittance, 3), lumens);
        }
      }
      out += out.ends_with("\n") ? "" : "\n";
      std::string cheats;
      for (const LightReport& r : reports) {
        if (r.name.ends_with("]") && !r.name.ends_with("[0]")) {
          continue;  // the first copy stands for all
        }
        for (const auto& c : r.cheats) {
          cheats += fmt::format("  {}.{} = {}: {}\n", r.name, c.key, c.value, c.effect);
        }
      }
      out += cheats.empty() ? "\nNo departures from physics.\n" : "\nDepartures from physics:\n" + cheats;
    }
    if (!problems.empty() && !out.empty()) {
      out += "\n";
    }
    for (const Problems* list : {&errors, &warnings}) {
      for (const Problem& p : *list) {
        Problem first = p;  // the advice on a line of its own
        first.hint.clear();
        out += to_string(first) + "\n" + (p.hint.empty() ? "" : "    " + p.hint + "\n");
      }
    }
    out += fmt::format("\n{} error{}, {} warning{}\n", errors.size(), errors.size() == 1 ? "" : "s", warnings.size(), warnings.size() == 1 ? "" : "s");
    print_out(out);
  }
  return !errors.empty() || (arguments.flag("strict") && !warnings.empty()) ? kFellShort : kDone;
}

}  // namespace jovilux::cli
