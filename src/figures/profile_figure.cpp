#include "figures/profile_figure.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <string>
#include <utility>
#include <vector>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {

namespace {

constexpr double kTableLeft = 884, kTableValues = 1060;  // of the table: names and values [pixels]

// One half plane stands for all.
bool has_one_plane(const ProfileReport& r) {
  return r.data.grid.symmetry == PhotometricSymmetry::kRotational &&
         r.data.grid.type == PhotometricType::kC;
}

// Intensities over the angle to the axis, of the half plane at `turn` and of the one opposite.
Curve plane_curve(const ProfileReport& r, double turn) {
  Curve out;
  for (int i = -360; i <= 360; ++i) {
    const double angle = i * 0.5, rad = std::abs(angle) * kPiD / 180,
                 around = turn + (angle < 0 ? kPiD : 0);
    const Vec3d direction(
        std::sin(rad) * std::cos(around), std::sin(rad) * std::sin(around), std::cos(rad));
    out.x.push_back(angle);
    out.y.push_back(r.distribution.intensity(direction.cast<float>()));
  }
  return out;
}

// A round number of rings.
double ring_step(double highest) {
  const double step = std::pow(10, std::floor(std::log10(highest)));
  for (const double k : {0.2, 0.25, 0.5, 1.0, 2.0}) {
    if (highest / (k * step) <= 5.5) {
      return k * step;
    }
  }
  return step;
}

Plot polar_plot(const ProfileReport& r) {
  Plot plot;
  plot.polar = true;
  plot.legend = "at screen 0.99, screen 0.99 right top";
  const bool one_plane = has_one_plane(r);
  double highest = 0;
  for (int plane = 0; plane < (one_plane ? 1 : 2); ++plane) {
    Curve c = plane_curve(r, plane * kPiD / 2);
    c.name = one_plane ? "all planes" : plane == 0 ? "C0 to C180" : "C90 to C270";
    c.color = curve_color(static_cast<std::size_t>(plane));
    highest = std::max(highest, *std::max_element(c.y.begin(), c.y.end()));
    plot.curves.push_back(std::move(c));
  }
  plot.y_step = ring_step(highest);
  plot.y_max = std::ceil(highest / plot.y_step * 1.0001) * plot.y_step;
  return plot;
}

// Names and values of the table.
std::vector<std::pair<std::string, std::string>> rows_of(const ProfileReport& r) {
  const bool one_plane = has_one_plane(r);
  const auto pair = [&](const double(&v)[2]) {
    return one_plane ? short_number(v[0], 3) + " deg"
                     : fmt::format("{} x {} deg", short_number(v[0], 3), short_number(v[1], 3));
  };
  const PhotometricFile& data = r.data;
  std::vector<std::pair<std::string, std::string>> out = {
      {"flux", short_number(r.flux_lm) + " lm"},
      {"flux in front", fmt::format("{} %", short_number(100 * r.flux_in_front_lm / r.flux_lm, 3))},
      {"peak", short_number(r.peak_cd) + " cd"},
      {"on the axis", short_number(r.on_axis_cd) + " cd"},
      {"beam (50 %)", pair(r.beam_deg)},
      {"field (10 %)", pair(r.field_deg)},
      {"symmetry", std::string(to_string(data.grid.symmetry))},
      {"table",
       fmt::format("{} x {}, type {}",
                   data.grid.hor_rad.size(),
                   data.grid.ver_rad.size(),
                   to_string(data.grid.type))}};
  if (data.lamp_lumens > 0) {
    out.emplace_back("lamps", short_number(data.lamp_lumens) + " lm");
    out.emplace_back("light output ratio",
                     short_number(100 * r.flux_lm / data.lamp_lumens, 3) + " %");
  } else {
    out.emplace_back("photometry", "absolute");
  }
  if (data.watts > 0) {
    out.emplace_back("power", short_number(data.watts) + " W");
    out.emplace_back("efficacy", short_number(r.flux_lm / data.watts, 3) + " lm/W");
  }
  out.emplace_back("faults", r.faults.empty() ? "none" : std::to_string(r.faults.size()));
  return out;
}

}  // namespace

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
  draw(canvas, polar_plot(r), 0, 84, 860, kHeight - 84 - 30);
  canvas.text(28,
              kHeight - 34,
              820,
              "luminous intensity (cd) over the angle to the axis; 0 degrees is the way the "
              "luminaire shines",
              14,
              Align::kLeft,
              "#333333");
  double y = 110;
  for (const auto& [what, value] : rows_of(r)) {
    canvas.text(kTableLeft, y, kTableValues - kTableLeft - 8, what, 15, Align::kLeft, "#555555");
    canvas.text(
        kTableValues, y, kWidth - kTableValues - 20, value, 15, Align::kLeft, "#111111", true);
    y += 30;
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
