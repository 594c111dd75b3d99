#include "figures/levels_figure.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <cmath>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {

namespace {

constexpr std::size_t kMostCurves = 10;

std::vector<double> over(std::vector<double> values, double most) {
  std::for_each(values.begin(), values.end(), [&](double& v) { v /= most; });
  return values;
}

std::string words_of(const LevelCurve& c) {
  return fmt::format("{}: {} to {}; {} % flicker, index {}",
                     c.name,
                     short_number(c.own.least, 3),
                     short_number(c.own.most, 3),
                     short_number(100 * c.own.percent, 3),
                     short_number(c.own.index, 2));
}

// Whether so many cycles lie in the time that is drawn that their lines would run into one another.
bool is_fast(const LevelCurve& c, double duration) {
  constexpr double kMostCycles = 60;
  return c.cycle_s > 0 && duration / c.cycle_s > kMostCycles;
}

// Least and most level of a fast light over stretches of time, as an area. A stretch is a cycle at
// least: a part of one tells where it is in the cycle, and the area would beat.
Curve band_of(const LevelCurve& c, const std::string& color) {
  constexpr std::size_t kStretches = 200;
  Curve out;
  out.color = color;
  const double step = (c.times.back() - c.times.front()) /
                      static_cast<double>(std::max<std::size_t>(2, c.times.size()) - 1);
  const auto in_cycle = static_cast<std::size_t>(step > 0 ? std::ceil(c.cycle_s / step) : 1);
  const std::size_t each = std::max({std::size_t{1}, c.times.size() / kStretches, in_cycle});
  for (std::size_t i = 0; i < c.times.size(); i += each) {
    const std::size_t end = std::min(c.times.size(), i + each + 1),
                      begin = end > each + 1 ? std::min(i, end - each - 1) : 0;
    const auto [least, most] =
        std::minmax_element(c.levels.begin() + static_cast<std::ptrdiff_t>(begin),
                            c.levels.begin() + static_cast<std::ptrdiff_t>(end));
    out.x.push_back(c.times[i]);
    out.y.push_back(*least / c.own.most);
    out.up_to.push_back(*most / c.own.most);
  }
  out.x.push_back(c.times.back());
  out.y.push_back(out.y.back());
  out.up_to.push_back(out.up_to.back());
  return out;
}

// Some cycles of the lights that are faster than the whole can show, in milliseconds.
Plot zoomed(const std::vector<std::pair<const LevelCurve*, std::string>>& fast) {
  constexpr double kCycles = 4;
  Plot plot;
  double slowest = 0;
  for (const auto& [c, color] : fast) {
    slowest = std::max(slowest, c->cycle_s);
  }
  plot.title = fmt::format("{} cycles, zoomed in", short_number(kCycles));
  plot.x_label = "time (ms)";
  plot.legend = "";
  plot.x_max = 1e3 * kCycles * slowest;
  plot.y_max = 1.08;
  for (const auto& [c, color] : fast) {
    Curve line;
    line.color = color;
    line.width = 1.8;
    for (std::size_t i = 0; i < c->times.size(); ++i) {
      const double t = c->times[i] - c->times.front();
      if (t > kCycles * slowest) {
        break;
      }
      line.x.push_back(1e3 * t);
      line.y.push_back(c->levels[i] / c->own.most);
    }
    plot.curves.push_back(std::move(line));
  }
  return plot;
}

Plot at_meters(const std::vector<MeterOverTime>& meters, double from, double to) {
  Plot plot;
  plot.title = "At meters, frame by frame";
  plot.x_label = "time (s)";
  plot.y_label = meters.front().unit;
  plot.legend = "outside top center horizontal";
  plot.x_min = from;
  plot.x_max = to;
  double highest = 0;
  for (std::size_t m = 0; m < meters.size(); ++m) {
    Curve c;
    c.name = fmt::format("{} ({})", meters[m].name, meters[m].unit);
    c.color = curve_color(m);
    c.x = meters[m].times;
    c.y = meters[m].values;
    highest = std::max(highest, *std::max_element(c.y.begin(), c.y.end()));
    plot.curves.push_back(std::move(c));
  }
  plot.y_max = highest > 0 ? 1.08 * highest : 1;
  return plot;
}

}  // namespace

void levels_figure(const std::string& path,
                   const std::vector<LevelCurve>& curves,
                   const std::vector<double>& moments,
                   const std::vector<MeterOverTime>& meters) {
  Canvas canvas;
  constexpr int kTopSpace = 20;
  const int lower = meters.empty() ? 0 : 280;
  const double from = curves.empty() ? moments.front() : curves.front().times.front(),
               to = curves.empty() ? moments.back() : curves.front().times.back();
  Plot plot;
  plot.x_label = meters.empty() ? "time (s)" : "";
  plot.y_label = "level over its highest";
  plot.legend = "outside top center vertical maxrows 4";
  plot.x_min = from;
  plot.x_max = to > from ? to : from + 1;
  plot.y_max = 1.08;
  std::size_t changing = 0;
  std::vector<std::pair<const LevelCurve*, std::string>> fast;
  for (const LevelCurve& c : curves) {
    if (!c.changes || ++changing > kMostCurves) {
      continue;
    }
    const std::string color = curve_color(changing - 1);
    Curve drawn;
    if (is_fast(c, to - from)) {
      drawn = band_of(c, color);
      fast.emplace_back(&c, color);
    } else {
      drawn.x = c.times;
      drawn.y = over(c.levels, c.own.most);
    }
    drawn.name = words_of(c);
    drawn.color = color;
    drawn.width = 1.6;
    plot.curves.push_back(std::move(drawn));
    Curve frames;
    frames.color = color;
    frames.marks = true;
    frames.mark_size = moments.size() > 100 ? 0.5 : 1.0;
    frames.x = moments;
    frames.y = over(c.in_frames, c.own.most);
    plot.curves.push_back(std::move(frames));
  }
  plot.title = changing == 0 ? "No light's level changes"
                             : "Levels of lights; dots: means while a frame's shutter is open";
  if (changing > kMostCurves) {
    plot.title += fmt::format(" ({} of {})", kMostCurves, changing);
  }
  if (changing == 0) {
    plot.curves.push_back({"", {plot.x_min, plot.x_max}, {1, 1}});
  }
  const int upper = kHeight - 2 * kTopSpace - lower, zoom = fast.empty() ? 0 : 340;
  draw(canvas, plot, 20, kTopSpace, kWidth - 40 - zoom, upper);
  if (!fast.empty()) {
    draw(canvas, zoomed(fast), kWidth - 20 - zoom, kTopSpace, zoom, upper);
  }
  if (!meters.empty()) {
    draw(canvas,
         at_meters(meters, plot.x_min, plot.x_max),
         20,
         kHeight - kTopSpace - lower,
         kWidth - 40,
         lower);
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
