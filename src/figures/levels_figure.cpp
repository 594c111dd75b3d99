#include "figures/levels_figure.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <cmath>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {

void levels_figure(const std::string& path,
                   const std::vector<LevelCurve>& curves,
                   const std::vector<double>& moments,
                   const std::vector<MeterOverTime>& meters) {
  Canvas canvas;
  constexpr std::size_t kMostCurves = 10;
  constexpr int kTop = 20;
  const int lower = meters.empty() ? 0 : 300;
  Plot plot;
  plot.title = "Level of each light that changes, over its highest";
  plot.x_label = meters.empty() ? "time (s)" : "";
  plot.y_label = "level over its highest";
  plot.legend = "outside right top";
  std::size_t changing = 0;
  for (const LevelCurve& c : curves) {
    if (!c.changes) {
      continue;
    }
    if (++changing > kMostCurves) {
      continue;
    }
    const std::string color = curve_color(changing - 1);
    Curve line;
    line.name = fmt::format("{}: {} to {}; {} % flicker, index {}",
                            c.name,
                            short_number(c.own.least, 3),
                            short_number(c.own.most, 3),
                            short_number(100 * c.own.percent, 3),
                            short_number(c.own.index, 2));
    line.color = color;
    line.width = 1.6;
    line.x = c.times;
    const auto over_most = [&](std::vector<double> v) {
      std::for_each(v.begin(), v.end(), [&](double& x) { x /= c.own.most; });
      return v;
    };
    line.y = over_most(c.levels);
    plot.curves.push_back(std::move(line));
    Curve frames;
    frames.color = color;
    frames.marks = true;
    frames.mark_size = moments.size() > 100 ? 0.5 : 1.0;
    frames.x = moments;
    frames.y = over_most(c.in_frames);
    plot.curves.push_back(std::move(frames));
  }
  const double from = curves.empty() ? moments.front() : curves.front().times.front(),
               to = curves.empty() ? moments.back() : curves.front().times.back();
  plot.x_min = from;
  plot.x_max = to > from ? to : from + 1;
  plot.y_max = 1.08;
  if (changing > 0) {
    plot.title += "; dots: its mean while a frame's shutter is open";
  }
  if (changing > kMostCurves) {
    plot.title += fmt::format(" ({} of {} shown)", kMostCurves, changing);
  }
  if (changing == 0) {
    plot.title = "No light's level changes";
    plot.curves.push_back({"", {plot.x_min, plot.x_max}, {1, 1}});
  }
  draw(canvas, plot, 20, kTop, kWidth - 40, kHeight - 2 * kTop - lower);
  if (!meters.empty()) {
    Plot below;
    below.title = "At meters, frame by frame";
    below.x_label = "time (s)";
    below.y_label = meters.front().unit;
    below.legend = "outside right top";
    below.x_min = plot.x_min;
    below.x_max = plot.x_max;
    double highest = 0;
    for (std::size_t m = 0; m < meters.size(); ++m) {
      Curve c;
      c.name = fmt::format("{} ({})", meters[m].name, meters[m].unit);
      c.color = curve_color(m);
      c.x = meters[m].times;
      c.y = meters[m].values;
      highest = std::max(highest, *std::max_element(c.y.begin(), c.y.end()));
      below.curves.push_back(std::move(c));
    }
    below.y_max = highest > 0 ? 1.08 * highest : 1;
    draw(canvas, below, 20, kHeight - kTop - lower, kWidth - 40, lower);
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
