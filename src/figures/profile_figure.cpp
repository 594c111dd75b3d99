#include "figures/profile_figure.h"

#include "jovilux/base/text.h"

#include <cmath>
#include <filesystem>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {

void profile_figure(const std::string& path, const ProfileReport& r) {
  Canvas canvas;
  const std::string name = std::filesystem::path(r.file).filename().string();
  canvas.text(28, 20, kWidth - 56, name, 22, Align::kLeft, "#111111", true);
  canvas.text(
      28,
      52,
      kWidth - 56,
      r.data.luminaire.empty() ? r.data.format : r.data.luminaire + "  (" + r.data.format + ")",
      15,
      Align::kLeft,
      "#444444");

  Plot plot;
  plot.polar = true;
  plot.legend = "at screen 0.99, screen 0.99 right top";
  double highest = 0;
  const bool one_plane = r.data.grid.symmetry == PhotometricSymmetry::kRotational &&
                         r.data.grid.type == PhotometricType::kC;
  for (int plane = 0; plane < (one_plane ? 1 : 2); ++plane) {
    Curve c;
    c.name = one_plane ? "all planes" : plane == 0 ? "C0 to C180" : "C90 to C270";
    c.color = curve_color(static_cast<std::size_t>(plane));
    for (int i = -360; i <= 360; ++i) {
      const double angle = i * 0.5, rad = std::abs(angle) * kPiD / 180;
      const double turn = plane * kPiD / 2 + (angle < 0 ? kPiD : 0);
      const double v = r.distribution.intensity(
          Vec3d(std::sin(rad) * std::cos(turn), std::sin(rad) * std::sin(turn), std::cos(rad))
              .cast<float>());
      c.x.push_back(angle);
      c.y.push_back(v);
      highest = std::max(highest, v);
    }
    plot.curves.push_back(std::move(c));
  }
  // A round number of rings.
  const double step = std::pow(10, std::floor(std::log10(highest)));
  double ring = step;
  for (const double k : {0.2, 0.25, 0.5, 1.0, 2.0}) {
    if (highest / (k * step) <= 5.5) {
      ring = k * step;
      break;
    }
  }
  plot.y_max = std::ceil(highest / ring * 1.0001) * ring;
  plot.y_step = ring;
  draw(canvas, plot, 0, 84, 860, kHeight - 84 - 30);
  canvas.text(28,
              kHeight - 34,
              820,
              "luminous intensity (cd) over the angle to the axis; 0 degrees is the way the "
              "luminaire shines",
              14,
              Align::kLeft,
              "#333333");

  double y = 110;
  constexpr double kLeft = 884, kValue = 1060;
  const auto row = [&](const std::string& what, const std::string& value) {
    canvas.text(kLeft, y, kValue - kLeft - 8, what, 15, Align::kLeft, "#555555");
    canvas.text(kValue, y, kWidth - kValue - 20, value, 15, Align::kLeft, "#111111", true);
    y += 30;
  };
  row("flux", short_number(r.flux_lm) + " lm");
  row("flux in front", fmt::format("{} %", short_number(100 * r.flux_in_front_lm / r.flux_lm, 3)));
  row("peak", short_number(r.peak_cd) + " cd");
  row("on the axis", short_number(r.on_axis_cd) + " cd");
  const auto pair = [&](const double(&v)[2]) {
    return one_plane ? short_number(v[0], 3) + " deg"
                     : fmt::format("{} x {} deg", short_number(v[0], 3), short_number(v[1], 3));
  };
  row("beam (50 %)", pair(r.beam_deg));
  row("field (10 %)", pair(r.field_deg));
  row("symmetry", std::string(to_string(r.data.grid.symmetry)));
  row("table",
      fmt::format("{} x {}, type {}",
                  r.data.grid.hor_rad.size(),
                  r.data.grid.ver_rad.size(),
                  to_string(r.data.grid.type)));
  if (r.data.lamp_lumens > 0) {
    row("lamps", short_number(r.data.lamp_lumens) + " lm");
    row("light output ratio", short_number(100 * r.flux_lm / r.data.lamp_lumens, 3) + " %");
  } else {
    row("photometry", "absolute");
  }
  if (r.data.watts > 0) {
    row("power", short_number(r.data.watts) + " W");
    row("efficacy", short_number(r.flux_lm / r.data.watts, 3) + " lm/W");
  }
  row("faults", r.faults.empty() ? "none" : std::to_string(r.faults.size()));
  canvas.save(path);
}

}  // namespace jovilux::figures
