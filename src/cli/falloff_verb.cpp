#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/falloff_study.h"
#include "jovilux/rig/table_reader.h"
#include "jovilux/scene/scene.h"

#include <cmath>
#include <filesystem>
#include <sstream>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/rig_text.h"
#include "cli/verbs.h"
#include "figures/falloff_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// As a text of TOML.
std::string quoted_value(const std::string& text) { return '"' + in_quotes(text) + '"'; }

// 0m:1,2m:0.4 as a list of points.
std::string points_in_rig(const std::string& value) {
  std::istringstream points(value);
  std::string out = "[";
  for (std::string point; std::getline(points, point, ',');) {
    const auto colon = point.find(':');
    const std::string share = colon == std::string::npos ? "" : point.substr(colon + 1);
    out += fmt::format("[{}, {}],",
                       quoted_value(point.substr(0, colon)),
                       parse_number(share) ? share : quoted_value(share));
  }
  return out + "]";
}

// A key's value as a rig has it.
std::string value_in_rig(const std::string& key, const std::string& value) {
  if (key == "points") {
    return points_in_rig(value);
  }
  if (key == "range") {
    const auto dots = value.find("..");
    return fmt::format("[{}, {}]",
                       quoted_value(value.substr(0, dots)),
                       quoted_value(dots == std::string::npos ? value : value.substr(dots + 2)));
  }
  return key != "formula" && parse_number(value) ? value : quoted_value(value);
}

// A rig with one light, from "linear zero_at=6m matches_at=2m": the law's name, then keys as in a
// rig. Throws UsageError.
std::string rig_of_law(const std::string& law, const std::string& output) {
  std::istringstream words(law);
  std::string name, keys, light_keys, word;
  words >> name;
  while (words >> word) {
    const auto equals = word.find('=');
    if (equals == std::string::npos || equals == 0) {
      throw UsageError(
          fmt::format("--law \"{}\": found \"{}\"; expected a law and keys, such as \"linear "
                      "zero_at=6m matches_at=2m\"",
                      printable(law),
                      printable(word)));
    }
    const std::string key = word.substr(0, equals),
                      value = value_in_rig(key, word.substr(equals + 1));
    if (!is_plain_name(key)) {
      throw UsageError(
          fmt::format("--law \"{}\": \"{}\" is not a key", printable(law), printable(key)));
    }
    if (key == "near_softening" || key == "range") {  // keys of the light itself
      light_keys += fmt::format("{} = {}\n", key, value);
    } else {
      keys += fmt::format(", {} = {}", key, value);
    }
  }
  std::string plain;
  for (const char c : name) {
    plain += std::isalnum(static_cast<unsigned char>(c)) || c == '-' ? c : ' ';
  }
  return fmt::format(
      "jovilux = 1\n[[light]]\nname = \"law\"\nkind = \"point\"\nat = [0, 0, 0]\noutput = "
      "\"{}\"\nfalloff = {{ law = \"{}\"{} }}\n{}",
      output,
      plain,
      keys,
      light_keys);
}

// A light with this law. Throws UsageError and BadInput.
FalloffSubject subject_of(const std::string& law, const std::string& output) {
  const auto document = parse_toml(rig_of_law(law, output), "--law");
  if (!document) {
    throw UsageError(
        fmt::format("--law \"{}\": cannot be read; write a law and keys, such as \"linear "
                    "zero_at=6m matches_at=2m\"",
                    printable(law)));
  }
  const auto rig = read_rig(*document, "--law");
  if (!rig) {
    Problems problems = rig.problems();
    for (Problem& p : problems) {
      p.place = {"--law \"" + printable(law) + "\"", 0, 0};
      p.address = p.address.starts_with("light.law.") ? p.address.substr(10) : p.address;
    }
    throw BadInput{problems};
  }
  const LightSpec& l = rig->lights[0];
  return {law, l.shape, l.levels, 1, l.falloff};
}

std::vector<FalloffSubject> subjects_of(const Rig& rig,
                                        const Scene& scene,
                                        const std::vector<std::string>& wanted) {
  std::vector<FalloffSubject> out;
  std::vector<std::string> names;
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& l = rig.lights[i];
    names.push_back(l.name);
    const bool asked = std::find(wanted.begin(), wanted.end(), l.name) != wanted.end();
    const auto subject = falloff_subject(rig, scene, i);
    if (asked && !subject) {
      throw UsageError(fmt::format("--light {}: {}",
                                   l.name,
                                   is_distant(l.shape.kind)
                                       ? "a light of the sky has no falloff"
                                       : "an object's light has no axis; see jovilux check"));
    }
    const bool later_copy = l.copies > 1 && !l.name.ends_with("[0]");
    if (asked || (wanted.empty() && subject && !later_copy)) {
      out.push_back(*subject);
    }
  }
  for (const std::string& w : wanted) {
    if (std::find(names.begin(), names.end(), w) == names.end()) {
      const std::string hint = did_you_mean(w, names);
      throw UsageError(fmt::format(
          "--light: the rig has no light \"{}\"{}", printable(w), hint.empty() ? "" : "; " + hint));
    }
  }
  return out;
}

std::string csv_text(const FalloffStudy& study) {
  std::string out = "distance_m";
  for (const FalloffCurveReport& c : study.curves) {
    out += "," + csv_field(c.name + " lx") + "," + csv_field(c.name + " times physics");
  }
  out += "\n";
  for (std::size_t i = 0; i < study.distance_m.size(); ++i) {
    out += fmt::format("{:.6g}", study.distance_m[i]);
    for (const FalloffCurveReport& c : study.curves) {
      out += std::isfinite(c.illuminance_lx[i])
                 ? fmt::format(",{:.6g},{:.6g}", c.illuminance_lx[i], c.factor[i])
                 : ",,";
    }
    out += "\n";
  }
  return out;
}

// The lights and laws to compare.
std::vector<FalloffSubject> all_subjects(const Arguments& a) {
  const auto file = a.optional_positional();
  if (!file && a.texts("law").empty()) {
    throw UsageError("nothing to show; give a RIG, or --law, such as --law none");
  }
  std::vector<FalloffSubject> subjects;
  if (file) {
    const auto rig = load_rig(*file, rig_request(a));
    if (!rig) {
      throw BadInput{rig.problems()};
    }
    const auto scene = prepare_scene(*rig);
    if (!scene) {
      throw BadInput{scene.problems()};
    }
    subjects = subjects_of(*rig, *scene, a.texts("light"));
  }
  const std::string output = a.text("light-output").value_or("1000 lm");
  if (std::holds_alternative<UnitFault>(parse_output(output)) ||
      output.find('"') != std::string::npos) {
    throw UsageError(
        fmt::format("--light-output: found \"{}\"; expected lm, cd, lx @ distance or W @ lm/W",
                    printable(output)));
  }
  for (const std::string& law : a.texts("law")) {
    subjects.push_back(subject_of(law, output));
  }
  if (subjects.empty()) {
    throw UsageError("the rig has no light with a falloff; give --law");
  }
  return subjects;
}

Json falloff_json(const FalloffStudy& study) {
  Json j = {{"curves", Json::array()}};
  for (const FalloffCurveReport& c : study.curves) {
    Json curve = {{"name", c.name},
                  {"law", c.law},
                  {"departure", departure_words(c)},
                  {"agrees_from_m", c.agrees_from},
                  {"agrees_to_m", c.agrees_to},
                  {"largest_factor", number_or_null(c.largest_factor)},
                  {"largest_at_m", c.largest_at},
                  {"smallest_factor", c.smallest_factor},
                  {"smallest_at_m", c.smallest_at},
                  {"points", Json::array()}};
    for (std::size_t i = 0; i < study.distance_m.size(); i += 8) {
      curve["points"].push_back({{"distance_m", study.distance_m[i]},
                                 {"illuminance_lx", number_or_null(c.illuminance_lx[i])},
                                 {"physical_lx", number_or_null(c.physical_lx[i])},
                                 {"factor", number_or_null(c.factor[i])}});
    }
    j["curves"].push_back(std::move(curve));
  }
  return j;
}

// The table's distances double up to the last.
std::vector<std::size_t> shown_distances(const FalloffStudy& study, double to) {
  std::vector<std::size_t> shown;
  for (int i = 5; i >= 0; --i) {
    const double d = to / std::pow(2.0, i);
    std::size_t best = 0;
    for (std::size_t k = 0; k < study.distance_m.size(); ++k) {
      if (std::abs(std::log(study.distance_m[k] / d)) <
          std::abs(std::log(study.distance_m[best] / d))) {
        best = k;
      }
    }
    shown.push_back(best);
  }
  return shown;
}

std::string falloff_text(const FalloffStudy& study, double to) {
  const std::vector<std::size_t> shown = shown_distances(study, to);
  std::vector<std::vector<std::string>> rows = {{"lux on the axis at"}};
  for (const std::size_t i : shown) {
    rows[0].push_back(readable_length(study.distance_m[i]));
  }
  std::vector<std::vector<std::string>> departures = {{"", "law", "against physics"}};
  for (const FalloffCurveReport& c : study.curves) {
    rows.push_back({c.name});
    for (const std::size_t i : shown) {
      rows.back().push_back(
          std::isfinite(c.illuminance_lx[i]) ? short_number(c.illuminance_lx[i], 3) : "inside");
    }
    departures.push_back({c.name, c.law, departure_words(c)});
  }
  return text_table(rows) + "\n" + text_table(departures);
}

Usage usage_of_falloff() {
  return Usage{
      "falloff",
      "[RIG]",
      "How a light weakens with distance: lux on its axis, on a surface facing it, against the "
      "inverse square.\nThe lights of a rig, or laws to compare, or both.",
      {{"light", "only this light of the rig; repeatable", "NAME"},
       {"law",
        "a law on a point, such as none, \"linear zero_at=6m matches_at=2m\", \"polynomial "
        "constant=0.4 linear=0.25 quadratic=0.6\",\n\"points points=0m:1,5m:0\", \"formula "
        "formula=1/(1+d)^2\"; with near_softening=30cm, range=2.8m..4.2m; repeatable",
        "LAW"},
       {"light-output", "of the point that laws are put on; 1000 lm by default", "OUTPUT"},
       {"to", "the farthest distance; 8 m by default", "LENGTH"},
       {"o,output", "also write DIR/falloff.png and DIR/falloff.csv", "DIR"},
       {"force", "replace files in DIR", ""},
       {"json", "print one JSON document instead", ""}},
      "Without a law the curve is exact also near large sources; the inverse square is that of the "
      "light seen\nfrom far away. A law keeps the level at its matches_at distance.",
      "jovilux falloff --law none --law \"linear zero_at=6m matches_at=2m\" --to 8m -o out"}
      .with(rig_options());
}

}  // namespace

int run_falloff(int argc, char** argv) {
  const Arguments a(usage_of_falloff(), argc, argv);
  const double to = a.text("to") ? amount_option("--to", *a.text("to"), Dimension::kLength, 1) : 8;
  if (to > 1e5) {
    throw UsageError("--to: at most 100 km");
  }
  const FalloffStudy study = study_falloff(all_subjects(a), to);
  const auto folder = a.text("output");
  if (folder) {
    prepare_files(*folder, {"falloff.png", "falloff.csv"}, a.flag("force"));
    figures::falloff_figure((fs::path(*folder) / "falloff.png").string(), study);
    write_text_file((fs::path(*folder) / "falloff.csv").string(), csv_text(study));
  }
  if (a.flag("json")) {
    print_out(json_text(falloff_json(study)));
    return kDone;
  }
  print_out(falloff_text(study, to));
  if (folder) {
    print_out(fmt::format("\nwrote {0}/falloff.png\nwrote {0}/falloff.csv\n", *folder));
  }
  return kDone;
}

}  // namespace jovilux::cli
