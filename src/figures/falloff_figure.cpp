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

namespace {

// The highest finite illuminance of the first curves, with their laws or without; 1 where all is
// dark.
double highest_illuminance(const FalloffStudy& study, std::size_t curves) {
  double highest = 0;
  for (std::size_t i = 0; i < curves; ++i) {
    const FalloffCurveReport& c = study.curves[i];
    for (const std::vector<double>* values : {&c.illuminance_lx, &c.physical_lx}) {
      for (const double v : *values) {
        highest = std::isfinite(v) ? std::max(highest, v) : highest;
      }
    }
  }
  return highest > 0 ? highest : 1;
}

Plot falloff_plot(const FalloffStudy& study, std::size_t curves) {
  Plot plot;
  plot.title = "Illuminance on the axis, on a surface facing the light";
  plot.x_label = "distance (m)";
  plot.y_label = "illuminance (lx)";
  plot.log_x = plot.log_y = true;
  plot.x_min = study.distance_m.front();
  plot.x_max = study.distance_m.back();
  plot.legend = "outside top center horizontal";
  plot.y_max = std::pow(10, std::ceil(std::log10(highest_illuminance(study, curves) * 1.2)));
  plot.y_min = plot.y_max * 1e-6;
  bool dashes = false;
  for (std::size_t i = 0; i < curves; ++i) {
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
  if (curves > 0 && !study.curves[0].inverse_square_lx.empty()) {
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
  return plot;
}

// Gray walls at distances that double from the right, a row for each light, in one exposure.
class GrayWalls {
 public:
  GrayWalls(const FalloffStudy& study, std::size_t rows, int row_height)
      : study_(study), rows_(rows), row_height_(row_height) {
    for (int i = kPatches - 1; i >= 0; --i) {
      distances_.push_back(study.distance_m.back() / std::pow(2.0, i));
    }
    // The geometric mean of the patches is a gray card at 18 %.
    double logs = 0;
    int counted = 0;
    for (std::size_t i = 0; i < rows; ++i) {
      for (const double d : distances_) {
        const double v = at_distance(study, study.curves[i].illuminance_lx, d);
        if (std::isfinite(v) && v > 0) {
          logs += std::log(v);
          ++counted;
        }
      }
    }
    reference_ = counted > 0 ? std::exp(logs / counted) : 0;
  }

  void draw_on(Canvas& canvas, double top) const {
    canvas.text(kLeft,
                top,
                kWidth - kLeft - kRight,
                "A gray wall pushed back, one exposure for all; lux in the patches",
                14,
                Align::kLeft,
                "#222222");
    top += 24;
    for (std::size_t row = 0; row < rows_; ++row) {
      draw_row(canvas, row, top);
      top += row_height_;
    }
    for (std::size_t p = 0; p < distances_.size(); ++p) {
      canvas.text(left_of(p),
                  top,
                  kPatchWidth - 2,
                  readable_length(distances_[p]),
                  13,
                  Align::kCenter,
                  "#333333");
    }
    if (study_.curves.size() > rows_) {
      canvas.text(14,
                  top + 22,
                  kWidth - 28,
                  fmt::format("{} more lights are in the table only", study_.curves.size() - rows_),
                  12,
                  Align::kLeft,
                  "#666666");
    }
  }

 private:
  static constexpr int kPatches = 8, kLeft = 330, kRight = 24;
  static constexpr double kPatchWidth = static_cast<double>(kWidth - kLeft - kRight) / kPatches;

  static double left_of(std::size_t patch) {
    return kLeft + static_cast<double>(patch) * kPatchWidth;
  }

  void draw_row(Canvas& canvas, std::size_t row, double top) const {
    const FalloffCurveReport& c = study_.curves[row];
    canvas.fill(14, top + row_height_ / 2.0 - 6, 22, 5, curve_color(row));
    canvas.text(44, top + row_height_ / 2.0 - 10, kLeft - 54, c.name, 13);
    for (std::size_t p = 0; p < distances_.size(); ++p) {
      const double lx = at_distance(study_, c.illuminance_lx, distances_[p]);
      const double shown =
          std::isfinite(lx) && reference_ > 0 ? std::clamp(0.18 * lx / reference_, 0.0, 1.0) : 0;
      canvas.fill(
          left_of(p), top, kPatchWidth - 2, row_height_ - 4, hex_color(Rgb::Constant(shown)));
      canvas.frame(left_of(p), top, kPatchWidth - 2, row_height_ - 4, "#999999");
      canvas.text(left_of(p),
                  top + row_height_ / 2.0 - 11,
                  kPatchWidth - 2,
                  !std::isfinite(lx) ? "inside"
                  : lx <= 0          ? "0"
                                     : short_number(lx, 3),
                  13,
                  Align::kCenter,
                  shown > 0.2 ? "#000000" : "#ffffff");
    }
  }

  const FalloffStudy& study_;
  std::size_t rows_;
  int row_height_;
  std::vector<double> distances_;
  double reference_ = 0;  // lux of 18 % gray
};

}  // namespace

void falloff_figure(const std::string& path, const FalloffStudy& study) {
  Canvas canvas;
  const std::size_t rows = std::min<std::size_t>(study.curves.size(), 7);
  const int row_height = rows > 4 ? 30 : 42;
  const int plot_height = kHeight - (static_cast<int>(rows) * row_height + 84);
  draw(canvas, falloff_plot(study, rows), 0, 0, kWidth, plot_height);
  GrayWalls(study, rows, row_height).draw_on(canvas, plot_height + 4);
  canvas.save(path);
}

}  // namespace jovilux::figures
