#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/judge/profile_report.h"

#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "figures/profile_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// Writes the distribution in the format that the file's ending names.
void write_profile(const std::string& path, const PhotometricFile& file, bool force) {
  const std::string ending = file_ending(path);
  if (ending != ".ies" && ending != ".ldt") {
    throw UsageError(
        fmt::format("--to {}: expected a file ending in .ies (LM-63) or .ldt (EULUMDAT)",
                    printable(path, 200)));
  }
  std::error_code ec;
  if (!force && fs::exists(path, ec)) {
    throw UsageError(
        fmt::format("--to {}: exists; choose another name, or add --force to replace it",
                    printable(path, 200)));
  }
  write_text_file(path, ending == ".ldt" ? eulumdat_text(file) : lm63_text(file));
}

Json to_json(const ProfileReport& r) {
  Json j = {{"file", r.file},
            {"format", r.data.format},
            {"flux_lm", r.flux_lm},
            {"flux_in_front_lm", r.flux_in_front_lm},
            {"peak_cd", r.peak_cd},
            {"on_axis_cd", r.on_axis_cd},
            {"beam_deg", r.beam()},
            {"field_deg", r.field()},
            {"beam_by_plane_deg", {r.beam_deg[0], r.beam_deg[1]}},
            {"field_by_plane_deg", {r.field_deg[0], r.field_deg[1]}},
            {"symmetry", to_string(r.data.grid.symmetry)},
            {"photometric_type", to_string(r.data.grid.type)},
            {"lamp_flux_lm", r.data.lamp_lumens > 0 ? Json(r.data.lamp_lumens) : Json(nullptr)},
            {"power_w", r.data.watts > 0 ? Json(r.data.watts) : Json(nullptr)},
            {"faults", Json::array()}};
  for (const Problem& p : r.faults) {
    j["faults"].push_back(
        {{"file", p.place.file}, {"line", p.place.line}, {"message", p.text}, {"hint", p.hint}});
  }
  return j;
}

std::string table_text(const ProfileReport& r) {
  std::vector<std::vector<std::string>> rows = {
      {fs::path(r.file).filename().string(), r.data.format, ""}};
  const auto add = [&](const std::string& what, double v, const std::string& unit) {
    rows.push_back({what, short_number(v), unit});
  };
  add("luminous flux", r.flux_lm, "lm");
  add("of it in front", 100 * r.flux_in_front_lm / r.flux_lm, "%");
  add("peak intensity", r.peak_cd, "cd");
  add("intensity on the axis", r.on_axis_cd, "cd");
  const bool one = r.data.grid.symmetry == PhotometricSymmetry::kRotational &&
                   r.data.grid.type == PhotometricType::kC;
  for (const int plane : {0, 1}) {
    const std::string where = one ? "" : plane == 0 ? ", C0 to C180" : ", C90 to C270";
    if (plane == 0 || !one) {
      add("beam angle" + where, r.beam_deg[plane], "deg");
      add("field angle" + where, r.field_deg[plane], "deg");
    }
  }
  rows.push_back({"symmetry", std::string(to_string(r.data.grid.symmetry)), ""});
  rows.push_back({"table",
                  fmt::format("{} x {}", r.data.grid.hor_rad.size(), r.data.grid.ver_rad.size()),
                  fmt::format("type {}", to_string(r.data.grid.type))});
  if (r.data.lamp_lumens > 0) {
    add("lamps", r.data.lamp_lumens, "lm");
    add("light output ratio", 100 * r.flux_lm / r.data.lamp_lumens, "%");
  } else {
    rows.push_back({"photometry", "absolute", ""});
  }
  if (r.data.watts > 0) {
    add("power", r.data.watts, "W");
    add("efficacy", r.flux_lm / r.data.watts, "lm/W");
  }
  std::string out = (r.data.luminaire.empty() ? "" : printable(r.data.luminaire, 200) + "\n") +
                    text_table(rows) + "\n";
  for (const Problem& p : r.faults) {
    out += to_string(p) + "\n";
  }
  return out + fmt::format("{} fault{}\n", r.faults.size(), r.faults.size() == 1 ? "" : "s");
}

Usage usage_of_profile() {
  return Usage{
      "profile",
      "FILE",
      "Looks into a photometric file, LM-63 (.ies) or EULUMDAT (.ldt): flux, peak, beam and field "
      "angle,\nfaults with their lines. Converts between both formats, and designs new files.",
      {{"o,output", "also draw the polar figure DIR/profile.png", "DIR"},
       {"to", "write the distribution as .ies (LM-63-2019) or .ldt", "FILE"},
       {"design",
        "make a new distribution instead of reading one: \"beam=24deg field=38deg flux=1200lm\"; "
        "needs --to",
        "SPEC"},
       {"force", "replace files that are there", ""},
       {"json", "print one JSON document instead", ""}},
      "Flux is that of the distribution as it is rendered; beam and field angle are full angles to "
      "50 % and\n10 % of the peak. Exit status 1 where the file has faults.",
      "jovilux profile demo-out/rig/heat-lamp.ies -o demo-out/heat-lamp"};
}

}  // namespace

int run_profile(int argc, char** argv) {
  const Arguments a(usage_of_profile(), argc, argv);
  std::string file;
  const auto to = a.text("to");
  if (const auto design = a.text("design")) {
    if (a.optional_positional()) {
      throw UsageError("--design makes a new distribution: leave out FILE");
    }
    if (!to) {
      throw UsageError("--design needs --to FILE, such as --to lamp.ies");
    }
    DesignOrFault made = parse_design(*design);
    if (!made.file) {
      throw UsageError("--design: " + made.fault);
    }
    write_profile(*to, *made.file, a.flag("force"));
    file = *to;
  } else {
    file = a.positional();
  }
  const auto report = profile_report(file);
  if (!report) {
    throw BadInput{report.problems()};
  }
  if (to && !a.text("design")) {
    write_profile(*to, report->data, a.flag("force"));
  }
  std::string figure;
  if (const auto folder = a.text("output")) {
    prepare_files(*folder, {"profile.png"}, a.flag("force"));
    figure = (fs::path(*folder) / "profile.png").string();
    figures::profile_figure(figure, *report);
  }
  if (a.flag("json")) {
    print_out(json_text(to_json(*report)));
  } else {
    print_out(table_text(*report) + (to ? "wrote " + *to + "\n" : "") +
              (figure.empty() ? "" : "wrote " + figure + "\n"));
  }
  return report->faults.empty() ? kDone : kFellShort;
}

}  // namespace jovilux::cli
