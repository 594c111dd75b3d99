#include "jovilux/judge/color_report.h"

#include "jovilux/base/text.h"
#include "jovilux/color/nodes.h"
#include "jovilux/files/spectrum_file.h"

#include <cmath>
#include <filesystem>

#include <fmt/format.h>

namespace jovilux {
namespace {

Problem unknown(const std::string& spec, const Rig* rig) {
  std::vector<std::string> names = spectrum_names();
  if (rig != nullptr) {
    for (const GelSpec& g : rig->gels) {
      names.push_back(g.name);
    }
  }
  return {Severity::kError,
          "unknown-name",
          {},
          "",
          fmt::format("\"{}\" is not a white, spectrum, file, color or gel", printable(spec)),
          [&] {
            const std::string near = did_you_mean(spec, names);
            return near.empty() ? std::string(
                                      "write \"2700 K\", D65, cie-f11, led-3000, file.csv or "
                                      "\"#ffb070\"; gels need --rig RIG")
                                : near;
          }()};
}

bool is_spectrum_file(const std::string& spec) {
  return spec.ends_with(".csv") || spec.ends_with(".spdx");
}

void add_chromaticity(ColorReport& r, const Xyz& xyz) {
  r.xy = chromaticity(xyz);
  const Uv uv = uv_1960(xyz);
  r.u_prime = uv.u;
  r.v_prime = 1.5 * uv.v;
  const Cct cct = correlated_color_temperature(xyz);
  if (std::abs(cct.duv) <= 0.05) {
    r.cct_k = cct.cct.value;
    r.duv = cct.duv;
  }
}

// What the illuminant looks like through a filter.
void look_through(ColorReport& r, const Xyz& xyz, const NmTable& illuminant) {
  r.srgb = "#000000";
  if (*r.transmittance > 0) {
    add_chromaticity(r, xyz);
    r.linear_rgb =
        rec709_from_xyz() * adaptation(tristimulus(illuminant), from_xy({0.3127, 0.3290})) * xyz;
    r.srgb = hex_color(r.linear_rgb);
  }
}

}  // namespace

Result<NmTable> source_of(const std::string& spec) {
  if (is_spectrum_file(spec)) {
    return load_spectrum(spec);
  }
  if (const auto white = parse_white(spec)) {
    return spectrum(*white);
  }
  if (const auto named = spectrum_named(spec)) {
    return *named;
  }
  return unknown(spec, nullptr);
}

Result<ColorReport> color_report(const std::string& spec,
                                 const Rig* rig,
                                 const NmTable& illuminant) {
  ColorReport r;
  r.spec = spec;
  // By the nodes, which give back a color exactly under D65.
  if (const auto color = parse_hex_color(spec)) {
    r.kind = ColorReport::Kind::kFilter;
    const Xyz xyz =
        tristimulus(light_table(illuminant), spectrum_from_rgb(*color), 1).matrix().cast<double>();
    r.transmittance = xyz[1];
    look_through(r, xyz, illuminant);
    return r;
  }
  std::optional<NmTable> filter = gel_by_effect(spec);
  for (const GelSpec& gel : rig != nullptr ? rig->gels : std::vector<GelSpec>{}) {
    if (gel.name == spec) {
      if (gel.file.empty()) {
        filter = gel.transmittance;
      } else {
        auto table = load_spectrum(gel.file);
        if (!table) {
          return table.problems();
        }
        filter = *table;
      }
    }
  }
  if (filter) {
    r.kind = ColorReport::Kind::kFilter;
    r.transmittance = luminous_transmittance(illuminant, *filter);
    look_through(r, tristimulus(illuminant, *filter), illuminant);
    return r;
  }
  auto source = source_of(spec);
  if (!source) {
    return is_spectrum_file(spec) ? source.problems() : Problems{unknown(spec, rig)};
  }
  const Xyz xyz = tristimulus(*source);
  add_chromaticity(r, xyz);
  if (r.cct_k) {
    r.ra = color_rendering_index(*source);
  }
  r.linear_rgb = rec709_from_xyz() * xyz;
  r.srgb = hex_color(r.linear_rgb / r.linear_rgb.maxCoeff());
  return r;
}

}  // namespace jovilux
