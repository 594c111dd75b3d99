#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/color_report.h"

#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "figures/color_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

Usage usage_of_color() {
  return Usage{
      "color",
      "SPEC...",
      "Whites, spectra, gels and colors in the figures of colorimetry. SPEC is \"2700 K\", candle, "
      "D65, \"daylight 5600 K\",\ncie-a .. cie-f12, led-2200 .. led-6500, a .csv or .spdx file, "
      "\"#ffb070\", or a gel of --rig.",
      {{"rig", "the rig whose gels may be named", "RIG"},
       {"under", "the source that gels and colors are looked at under; D65 by default", "SPEC"},
       {"o,output", "also draw the chart DIR/color.png", "DIR"},
       {"force", "replace files in DIR", ""},
       {"json", "print one JSON document instead", ""}},
      "Ra is the CIE general color rendering index. A gel's and a color's transmittance is "
      "luminous.",
      "jovilux color \"2700 K\" cie-f11 led-3000 straw --rig demo-out/rig/orchid-house.toml"}
      .with(rig_options());
}

// What the command asks for: a report for each SPEC. Throws BadInput with all that is wrong.
std::vector<ColorReport> wanted_reports(const Arguments& a) {
  std::optional<Rig> rig;
  if (const auto file = a.text("rig")) {
    auto loaded = load_rig(*file, rig_request(a));
    if (!loaded) {
      throw BadInput{loaded.problems()};
    }
    rig = std::move(*loaded);
  }
  const auto illuminant = source_of(a.text("under").value_or("cie-d65"));
  if (!illuminant) {
    throw BadInput{illuminant.problems()};
  }
  std::vector<ColorReport> reports;
  Problems problems;
  for (const std::string& spec : a.positionals()) {
    auto report = color_report(spec, rig ? &*rig : nullptr, *illuminant);
    if (report) {
      reports.push_back(std::move(*report));
    } else {
      problems.insert(problems.end(), report.problems().begin(), report.problems().end());
    }
  }
  if (!problems.empty()) {
    throw BadInput{problems};
  }
  return reports;
}

Json to_json(const ColorReport& r) {
  const auto known = [](const std::optional<double>& v) { return v ? Json(*v) : Json(nullptr); };
  return {{"spec", r.spec},
          {"x", r.xy.x},
          {"y", r.xy.y},
          {"u_prime", r.u_prime},
          {"v_prime", r.v_prime},
          {"cct_k", known(r.cct_k)},
          {"duv", known(r.duv)},
          {"mired", r.cct_k ? Json(1e6 / *r.cct_k) : Json(nullptr)},
          {"ra", known(r.ra)},
          {"transmittance", known(r.transmittance)},
          {"linear_rgb", {r.linear_rgb[0], r.linear_rgb[1], r.linear_rgb[2]}},
          {"srgb", r.srgb}};
}

std::vector<std::vector<std::string>> table_of(const std::vector<ColorReport>& reports) {
  std::vector<std::vector<std::string>> rows = {{"",
                                                 "x",
                                                 "y",
                                                 "u'",
                                                 "v'",
                                                 "K",
                                                 "Duv",
                                                 "mired",
                                                 "Ra",
                                                 "transm.",
                                                 "linear R",
                                                 "G",
                                                 "B",
                                                 "sRGB"}};
  const auto fixed = [](double v, int digits) { return fmt::format("{:.{}f}", v, digits); };
  for (const ColorReport& r : reports) {
    rows.push_back({r.spec,
                    fixed(r.xy.x, 4),
                    fixed(r.xy.y, 4),
                    fixed(r.u_prime, 4),
                    fixed(r.v_prime, 4),
                    r.cct_k ? fixed(*r.cct_k, 0) : "-",
                    r.duv ? fmt::format("{:+.4f}", *r.duv) : "-",
                    r.cct_k ? fixed(1e6 / *r.cct_k, 0) : "-",
                    r.ra ? fixed(*r.ra, 0) : "-",
                    r.transmittance ? short_number(100 * *r.transmittance, 3) + " %" : "-",
                    fixed(r.linear_rgb[0], 3),
                    fixed(r.linear_rgb[1], 3),
                    fixed(r.linear_rgb[2], 3),
                    r.srgb});
  }
  return rows;
}

}  // namespace

int run_color(int argc, char** argv) {
  const Arguments a(usage_of_color(), argc, argv);
  const std::vector<ColorReport> reports = wanted_reports(a);
  std::string written;
  if (const auto folder = a.text("output")) {
    prepare_files(*folder, {"color.png"}, a.flag("force"));
    written = (std::filesystem::path(*folder) / "color.png").string();
    figures::color_figure(written, reports);
  }
  if (a.flag("json")) {
    Json j = {{"colors", Json::array()}};
    for (const ColorReport& r : reports) {
      j["colors"].push_back(to_json(r));
    }
    print_out(json_text(j));
    return kDone;
  }
  print_out(text_table(table_of(reports)) +
            (written.empty() ? "" : fmt::format("wrote {}\n", written)));
  return kDone;
}

}  // namespace jovilux::cli
