#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/rig_checks.h"

#include <filesystem>

#include "cli/arguments.h"
#include "cli/light_table.h"
#include "cli/output.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

Json to_json(const Problem& p) {
  return {{"code", p.code},
          {"file", p.place.file},
          {"line", p.place.line},
          {"column", p.place.column},
          {"address", p.address},
          {"message", p.text},
          {"hint", p.hint}};
}

Json to_json(const LightReport& r) {
  Json j = {{"name", r.name},
            {"kind", to_string(r.kind)},
            {"flux_lm", r.levels.per_meter ? Json(nullptr) : number_or_null(r.levels.flux)},
            {"flux_lm_per_m", r.levels.per_meter ? number_or_null(r.levels.flux) : Json(nullptr)},
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
            {"diffused_beam_deg",
             r.diffused ? Json{r.diffused->beam * 180 / kPiD, r.diffused->field * 180 / kPiD}
                        : Json(nullptr)},
            {"gobo_transmittance", r.gobo_transmittance},
            {"doors_transmittance", r.doors_transmittance},
            {"camera_fade", r.camera_fade},
            {"elevation_deg", nullptr},
            {"azimuth_deg", nullptr},
            {"subject", nullptr},
            {"cheats", Json::array()}};
  if (r.stand) {
    j["elevation_deg"] = r.stand->elevation * 180 / kPiD;
    j["azimuth_deg"] = r.stand->azimuth * 180 / kPiD;
  }
  if (r.subject) {
    j["subject"] = {
        {"object", r.subject->object},
        {"distance_m", is_distant(r.kind) ? Json(nullptr) : Json(r.subject->distance_m)},
        {"illuminance_lx", r.subject->illuminance_lx},
        {"falloff_factor", r.subject->falloff_factor}};
  }
  for (const auto& c : r.cheats) {
    j["cheats"].push_back({{"key", c.key}, {"value", c.value}, {"effect", c.effect}});
  }
  return j;
}

Usage usage_of_check() {
  return Usage{"check",
               "RIG",
               "Finds errors and mistakes in a rig before time is spent on rendering it, and lists "
               "each light in\nreal units: what leaves the bare source, its dimmer, and the lux it "
               "brings to its subject.",
               {{"strict", "exit status 1 on warnings too", ""},
                {"json", "print one JSON document instead", ""}},
               "",
               "jovilux check demo-out/rig/orchid-house.toml"}
      .with(rig_options())
      .with(
          {{"camera", "the camera whose distance fades lights; the rig's first by default", "NAME"},
           threads_option()});
}

// What the checks found.
struct Found {
  std::string title;
  Problems errors, warnings;
  std::vector<LightReport> reports;
  std::vector<std::string> departed;

  void add(const Problems& problems) {
    for (const Problem& p : problems) {
      (p.severity == Severity::kError ? errors : warnings).push_back(p);
    }
  }
};

Found found_in(const std::string& file, const Arguments& arguments) {
  Found out;
  const auto rig = load_rig(file, rig_request(arguments));
  out.add(rig.problems());
  if (!rig) {
    return out;
  }
  out.title = rig->title;
  const auto scene = prepare_scene(
      *rig, rig->cameras.empty() ? 0 : camera_index(*rig, arguments.text("camera").value_or("")));
  out.add(scene.problems());
  if (scene) {
    out.reports = light_reports(*rig, *scene);
    out.departed = departures(*rig, out.reports);
    out.add(check_rig(*rig, *scene, out.reports));
  }
  return out;
}

Json to_json(const Found& found) {
  Json j = {{"errors", Json::array()}, {"warnings", Json::array()}, {"lights", Json::array()}};
  for (const Problem& p : found.errors) {
    j["errors"].push_back(to_json(p));
  }
  for (const Problem& p : found.warnings) {
    j["warnings"].push_back(to_json(p));
  }
  for (const LightReport& r : found.reports) {
    j["lights"].push_back(to_json(r));
  }
  j["departures"] = found.departed;
  return j;
}

// The table of the lights, what takes light of them, and where they leave physics.
std::string lights_text(const Found& found, const std::string& file) {
  std::string out =
      (found.title.empty() ? file : found.title) + "\n\n" + text_table(light_table(found.reports));
  for (const std::string& loss : losses(found.reports)) {
    out += "\n" + loss;
  }
  out += out.ends_with("\n") ? "" : "\n";
  std::string cheats;
  for (const std::string& cheat : found.departed) {
    cheats += "  " + cheat + "\n";
  }
  return out + (cheats.empty() ? "\nNo departures from physics.\n"
                               : "\nDepartures from physics:\n" + cheats);
}

std::string found_in_words(const Found& found, const std::string& file) {
  std::string out = found.reports.empty() ? "" : lights_text(found, file);
  if (!(found.errors.empty() && found.warnings.empty()) && !out.empty()) {
    out += "\n";
  }
  for (const Problems* list : {&found.errors, &found.warnings}) {
    for (const Problem& p : *list) {
      Problem first = p;  // the advice on a line of its own
      first.hint.clear();
      out += to_string(first) + "\n" + (p.hint.empty() ? "" : "    " + p.hint + "\n");
    }
  }
  return out + fmt::format("\n{} error{}, {} warning{}\n",
                           found.errors.size(),
                           found.errors.size() == 1 ? "" : "s",
                           found.warnings.size(),
                           found.warnings.size() == 1 ? "" : "s");
}

}  // namespace

int run_check(int argc, char** argv) {
  const Arguments arguments(usage_of_check(), argc, argv);
  const std::string file = arguments.positional();
  std::error_code ec;
  if (!std::filesystem::is_regular_file(file, ec)) {
    throw UsageError(
        fmt::format("{}: {}",
                    printable(file, 200),
                    std::filesystem::exists(file, ec)
                        ? "not a file"
                        : "file not found; jovilux new DIR writes a rig to begin with"));
  }
  Found found;
  with_threads(threads_of(arguments), [&] { found = found_in(file, arguments); });
  print_out(arguments.flag("json") ? json_text(to_json(found)) : found_in_words(found, file));
  const bool falls_short =
      !found.errors.empty() || (arguments.flag("strict") && !found.warnings.empty());
  return falls_short ? kFellShort : kDone;
}

}  // namespace jovilux::cli
