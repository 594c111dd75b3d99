#include "figures/falloff_figure.h"

#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cmath>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {
namespace {

// A value of a curve between its distances.
double at_distance(const FalloffStudy& study, const std::vector<double>& values, double d) {
  const auto next = std::lower_bound(study.distance_m.begin(), study.distance_m.end(), d);
  const auto i = static_cast<std::size_t>(
      std::clamp<std::ptrdiff_t>(next - study.distance_m.begin(),
                                 1,
                                 static_cast<std::ptrdiff_t>(study.distance_m.size()) - 1));
  const double t = std::clamp(
      (d - study.distance_m[i - 1]) / (study.distance_m[i] - study.distance_m[i - 1]), 0.0, 1.0);
  return (1 - t) * values[i - 1] + t * values[i];
}

}  // namespace

void falloff_figure(const std::string& path, const FalloffStudy& study) {
  Canvas canvas;
  const double to = study.distance_m.back();
  const std::size_t rows = std::min<std::size_t>(study.curves.size(), 7);
  const int row_height = rows > 4 ? 30 : 42;
  const int strip_height = static_cast<int>(rows) * row_height + 84;
  const int plot_height = kHeight - strip_height;

  Plot plot;
  plot.title = "Illuminance on the axis, on a surface facing the light";
  plot.x_label = "distance (m)";
  plot.y_label = "illuminance (lx)";
  plot.log_x = plot.log_y = true;
  plot.x_min = study.distance_m.front();
  plot.x_max = to;
  plot.legend = "outside top center horizontal";
  double highest = 0;
  for (std::size_t i = 0; i < rows; ++i) {
    const FalloffCurveReport& c = study.curves[i];
    for (const double v : c.illuminance_lx) {
      highest = std::isfinite(v) ? std::max(highest, v) : highest;
    }
    for (const double v : c.physical_lx) {
      highest = std::isfinite(v) ? std::max(highest, v) : highest;
    }
  }
  if (!(highest > 0)) {
    highest = 1;
  }
  plot.y_max = std::pow(10, std::ceil(std::log10(highest * 1.2)));
  plot.y_min = plot.y_max * 1e-6;
  bool dashes = false;
  for (std::size_t i = 0; i < rows; ++i) {
    const FalloffCurveReport& c = study.curves[i];
    const bool physical = c.largest_factor < 1.0005 && c.smallest_factor > 0.9995;
    dashes = dashes || !physical;
    if (!physical) {
      plot.curves.push_back(
          {"", study.distance_m, c.physical_lx, curve_color(i), 1.4, 1, false, 1});
    }
    plot.curves.push_back(
        {c.name, study.distance_m, c.illuminance_lx, curve_color(i), 2.8, 0, false, 1});
  }
  if (rows > 0 && !study.curves[0].inverse_square_lx.empty()) {
    plot.curves.push_back({"inverse square",
                           study.distance_m,
                           study.curves[0].inverse_square_lx,
                           "#777777",
                           1.6,
                           2,
                           false,
                           1});
  }
  if (dashes) {
    plot.curves.push_back({"without its law", {}, {}, "#555555", 1.4, 1, false, 1});
  }
  draw(canvas, plot, 0, 0, kWidth, plot_height);

  // The strip: distances double from the right.
  constexpr int kPatches = 8, kLeft = 330, kRight = 24;
  std::vector<double> distances;
  for (int i = kPatches - 1; i >= 0; --i) {
    distances.push_back(to / std::pow(2.0, i));
  }
  const double width = static_cast<double>(kWidth - kLeft - kRight) / kPatches;
  double top = plot_height + 4;
  // One exposure for all rows: the geometric mean of the patches is a gray card at 18 %.
  double logs = 0, reference = 0;
  int counted = 0;
  for (std::size_t i = 0; i < rows; ++i) {
    for (const double d : distances) {
      const double v = at_distance(study, study.curves[i].illuminance_lx, d);
      if (std::isfinite(v) && v > 0) {
        logs += std::log(v);
        ++counted;
      }
    }
  }
  if (counted > 0) {
    reference = std::exp(logs / counted);
  }
  canvas.text(kLeft,
              top,
              kWidth - kLeft - kRight,
              "A gray wall pushed back, one exposure for all; lux in the patches",
              14,
              Align::kLeft,
              "#222222");
  top += 24;
  for (std::size_t r = 0; r < rows; ++r) {
    const FalloffCurveReport& c = study.curves[r];
    canvas.fill(14, top + row_height / 2.0 - 6, 22, 5, curve_color(r));
    canvas.text(44, top + row_height / 2.0 - 10, kLeft - 54, c.name, 13);
    for (int p = 0; p < kPatches; ++p) {
      const double lx =
          at_distance(study, c.illuminance_lx, distances[static_cast<std::size_t>(p)]);
      const double shown =
          std::isfinite(lx) && reference > 0 ? std::clamp(0.18 * lx / reference, 0.0, 1.0) : 0;
      const double x = kLeft + p * width;
      canvas.fill(x, top, width - 2, row_height - 4, hex_color(Rgb::Constant(shown)));
      canvas.frame(x, top, width - 2, row_height - 4, "#999999");
      const std::string label = !std::isfinite(lx) ? "inside" : lx <= 0 ? "0" : short_number(lx, 3);
      canvas.text(x,
                  top + row_height / 2.0 - 11,
                  width - 2,
                  label,
                  13,
                  Align::kCenter,
                  shown > 0.2 ? "#000000" : "#ffffff");
    }
    top += row_height;
  }
  for (int p = 0; p < kPatches; ++p) {
    canvas.text(kLeft + p * width,
                top,
                width - 2,
                readable_length(distances[static_cast<std::size_t>(p)]),
                13,
                Align::kCenter,
                "#333333");
  }
  if (study.curves.size() > rows) {
    canvas.text(14,
                top + 22,
                kWidth - 28,
                fmt::format("{} more lights are in the table only", study.curves.size() - rows),
                12,
                Align::kLeft,
                "#666666");
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
