#include "figures/ways_figure.h"

#include "jovilux/base/text.h"
#include "jovilux/transport/camera.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <optional>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {
std::string percent_text(double share) {
  constexpr double kLeast = 0.0005;
  return share > 0 && share < kLeast ? "< 0.05 %"
                                     : short_number(100 * share, share < 0.1 ? 2 : 3) + " %";
}

namespace {

constexpr std::size_t kDrawn = 5;  // ways
constexpr int kWaysMargin = 28, kTop = 64, kPictureWidth = 720, kPictureHeight = 410;

struct Rectangle {
  double x, y, w, h;
};

// The part of a line inside a rectangle (Liang and Barsky 1984); nothing where it misses it.
std::optional<std::array<double, 4>> clipped(
    const Rectangle& r, double x0, double y0, double x1, double y1) {
  double from = 0, to = 1;
  const double dx = x1 - x0, dy = y1 - y0;
  for (const auto& [p, q] : {std::pair(-dx, x0 - r.x),
                             std::pair(dx, r.x + r.w - x0),
                             std::pair(-dy, y0 - r.y),
                             std::pair(dy, r.y + r.h - y0)}) {
    if (p == 0 && q < 0) {
      return std::nullopt;
    }
    if (p != 0) {
      (p < 0 ? from : to) = p < 0 ? std::max(from, q / p) : std::min(to, q / p);
    }
  }
  if (from >= to) {
    return std::nullopt;
  }
  return std::array{x0 + from * dx, y0 + from * dy, x0 + to * dx, y0 + to * dy};
}

// The ways over the picture: their vertices as the camera sees them.
void draw_over_picture(Canvas& canvas,
                       const WayReport& report,
                       const Rig& rig,
                       int camera_index,
                       const std::string& picture) {
  const auto at = canvas.fitted(kWaysMargin, kTop, kPictureWidth, kPictureHeight, picture);
  const Rectangle frame{at[0], at[1], at[2], at[3]};
  const Camera camera(rig.cameras[static_cast<std::size_t>(camera_index)],
                      rig.up,
                      rig.render.width,
                      rig.render.height);
  const double scale = frame.w / rig.render.width;
  const auto seen = [&](const Vec3d& p) -> std::optional<std::array<double, 2>> {
    const auto film = camera.film_point(p.cast<float>(), Vec2(0.5f, 0.5f));
    return film ? std::optional(
                      std::array<double, 2>{frame.x + scale * static_cast<double>(film->x),
                                            frame.y + scale * static_cast<double>(film->y)})
                : std::nullopt;
  };
  for (std::size_t k = std::min(kDrawn, report.ways.size()); k-- > 0;) {
    const LightWay& way = report.ways[k];
    // The last vertex is the eye itself, which sees the one before it.
    for (std::size_t i = 0; i + 2 < way.path.size(); ++i) {
      const auto a = seen(way.path[i]), b = seen(way.path[i + 1]);
      if (!a || !b) {
        continue;
      }
      if (const auto line = clipped(frame, (*a)[0], (*a)[1], (*b)[0], (*b)[1])) {
        canvas.line((*line)[0], (*line)[1], (*line)[2], (*line)[3], "#ffffff", 4.5);
        canvas.line((*line)[0], (*line)[1], (*line)[2], (*line)[3], curve_color(k), 2.5);
      }
    }
  }
  const double least = 9;
  const double w = std::max(least, scale * report.box.width),
               h = std::max(least, scale * report.box.height),
               x = frame.x + scale * (report.box.x + 0.5 * report.box.width) - w / 2,
               y = frame.y + scale * (report.box.y + 0.5 * report.box.height) - h / 2;
  canvas.frame(x - 1, y - 1, w + 2, h + 2, "#000000", 3);
  canvas.frame(x, y, w, h, "#ffffff", 1.5);
}

// Which coordinates a plan (from above) and an elevation (from the front) show.
struct Projection {
  int across, upward;
  const char *x_label, *y_label;
};

Projection plan_of(const Rig& rig) {
  return std::abs(rig.up.z()) > 0.5 ? Projection{0, 1, "x [m]", "y [m]"}
                                    : Projection{0, 2, "x [m]", "z [m]"};
}
Projection elevation_of(const Rig& rig) {
  return std::abs(rig.up.z()) > 0.5 ? Projection{0, 2, "x [m]", "z [m]"}
                                    : Projection{0, 1, "x [m]", "y [m]"};
}

// The ways among the outlines of the objects.
Plot projected(const WayReport& report,
               const Scene& scene,
               const Projection& projection,
               const std::string& title) {
  Plot plot;
  plot.title = title;
  plot.x_label = projection.x_label;
  plot.y_label = projection.y_label;
  plot.even_scale = true;
  plot.legend = "";
  double lo_x = HUGE_VAL, hi_x = -HUGE_VAL, lo_y = HUGE_VAL, hi_y = -HUGE_VAL;
  const auto reach = [&](const Vec3d& p) {
    lo_x = std::min(lo_x, p[projection.across]);
    hi_x = std::max(hi_x, p[projection.across]);
    lo_y = std::min(lo_y, p[projection.upward]);
    hi_y = std::max(hi_y, p[projection.upward]);
  };
  reach(report.eye);
  reach(report.place);
  for (std::size_t k = 0; k < std::min(kDrawn, report.ways.size()); ++k) {
    for (const Vec3d& p : report.ways[k].path) {
      reach(p);
    }
  }
  const double margin = 0.12 * std::max({hi_x - lo_x, hi_y - lo_y, 0.5});
  plot.x_min = lo_x - margin;
  plot.x_max = hi_x + margin;
  plot.y_min = lo_y - margin;
  plot.y_max = hi_y + margin;
  for (const Bounds& b : scene.world.surface_bounds(scene.surfaces.size())) {
    const double x0 = b.lo[projection.across], x1 = b.hi[projection.across],
                 y0 = b.lo[projection.upward], y1 = b.hi[projection.upward];
    const bool shown = std::isfinite(x0) && std::isfinite(x1) && std::isfinite(y0) &&
                       std::isfinite(y1) && x0 <= x1 && x1 > plot.x_min && x0 < plot.x_max &&
                       y1 > plot.y_min && y0 < plot.y_max;
    if (shown) {
      plot.curves.push_back(
          {"", {x0, x1, x1, x0, x0}, {y0, y0, y1, y1, y0}, "#bbbbbb", 1, 0, false, 1, {}});
    }
  }
  for (std::size_t k = std::min(kDrawn, report.ways.size()); k-- > 0;) {
    Curve c;
    for (const Vec3d& p : report.ways[k].path) {
      c.x.push_back(p[projection.across]);
      c.y.push_back(p[projection.upward]);
    }
    c.color = curve_color(k);
    // A light's name once, above and below by turns: lights may hang close to each other.
    const std::string& light = report.ways[k].light;
    const bool named = std::any_of(report.ways.begin(),
                                   report.ways.begin() + static_cast<std::ptrdiff_t>(k),
                                   [&light](const LightWay& w) { return w.light == light; });
    if (!named) {
      plot.labels.push_back(
          {c.x.front(), c.y.front(), light, 0.9, k % 2 == 0 ? 0.6 : -0.8, c.color});
    }
    plot.curves.push_back(std::move(c));
  }
  const auto mark = [&](const Vec3d& p, const std::string& word, double beside) {
    plot.curves.push_back(
        {"", {p[projection.across]}, {p[projection.upward]}, "#111111", 1, 0, true, 1.4, {}});
    plot.labels.push_back(
        {p[projection.across], p[projection.upward], word, beside, -0.8, "#111111"});
  };
  mark(report.eye, "eye", 0.9);
  if (!report.seen.empty()) {
    mark(report.place, report.seen, -0.9);
  }
  return plot;
}

void draw_list(Canvas& canvas, const WayReport& report, double y) {
  constexpr double kLine = 24, kSize = 14;
  const double right = kWidth - kWaysMargin;
  canvas.text(kWaysMargin, y, 400, "ways of the light", kSize, Align::kLeft, "#222222", true);
  canvas.text(780, y, 110, "of the light", kSize, Align::kRight, "#666666");
  canvas.text(900, y, 110, "of the noise", kSize, Align::kRight, "#666666");
  canvas.text(1020, y, 110, "cd/m\u00b2", kSize, Align::kRight, "#666666");
  canvas.text(1140, y, right - 1140, "length", kSize, Align::kRight, "#666666");
  double rest = 1;
  for (std::size_t k = 0; k < std::min(kDrawn, report.ways.size()); ++k) {
    const LightWay& w = report.ways[k];
    y += kLine;
    rest -= w.share;
    canvas.fill(kWaysMargin, y + 3, 14, 12, curve_color(k));
    canvas.text(kWaysMargin + 24, y, 740, way_in_words(w), kSize);
    canvas.text(780, y, 110, percent_text(w.share), kSize, Align::kRight);
    canvas.text(900, y, 110, percent_text(w.noise_share), kSize, Align::kRight);
    canvas.text(1020, y, 110, short_number(w.luminance, 3), kSize, Align::kRight);
    canvas.text(1140, y, right - 1140, short_number(w.length, 3) + " m", kSize, Align::kRight);
  }
  if (report.ways.size() > kDrawn) {
    y += kLine;
    canvas.text(kWaysMargin + 24,
                y,
                740,
                fmt::format("{} other ways", report.ways.size() - kDrawn),
                kSize,
                Align::kLeft,
                "#666666");
    canvas.text(780, y, 110, percent_text(std::max(0.0, rest)), kSize, Align::kRight, "#666666");
  }
  y += kLine + 8;
  for (const LightArrival& a : report.arrivals) {
    const bool partly = a.why == LightArrival::Why::kArrives && a.blocked < 0.05;
    if (!partly && a.why != LightArrival::Why::kOff && y < kHeight - kLine) {
      canvas.text(kWaysMargin,
                  y,
                  kWidth - 2 * kWaysMargin,
                  a.light + ": " + arrival_in_words(a),
                  kSize,
                  Align::kLeft,
                  "#444444");
      y += kLine;
    }
  }
}

}  // namespace

std::string way_in_words(const LightWay& way) {
  std::string out = way.light;
  if (way.steps.empty()) {
    return out + ", seen itself";
  }
  for (std::size_t i = 0; i < way.steps.size(); ++i) {
    const LightWay::Step& s = way.steps[i];
    out += " \u2192 ";
    out += s.kind == WayStep::kReflected ? s.name : fmt::format("{} {}", words(s.kind), s.name);
    if (i == 0 && way.more_steps > 0) {
      out += " \u2192 \u2026";
    }
  }
  return out;
}

std::string arrival_in_words(const LightArrival& a) {
  using Why = LightArrival::Why;
  const std::string blocked = fmt::format("{} at ({}, {}, {})",
                                          a.blocker.empty() ? "something" : a.blocker,
                                          short_number(a.at.x(), 3),
                                          short_number(a.at.y(), 3),
                                          short_number(a.at.z(), 3));
  switch (a.why) {
    case Why::kArrives: {
      std::string out = "arrives";
      if (a.blocked >= 0.005) {
        out += fmt::format("; {} of it blocked by {}", percent_text(a.blocked), blocked);
      }
      if (a.haze_takes >= 0.005) {
        out += fmt::format("; haze takes {} of the rest", percent_text(a.haze_takes));
      }
      return out;
    }
    case Why::kOff:
      return "is off";
    case Why::kNotLinked:
      return "is not linked to what is seen there (only, skip, inside)";
    case Why::kBehind:
      return "stands behind the surface that is seen there";
    case Why::kFacesAway:
      return "faces away from there";
    case Why::kOutsideBeam:
      return "sends nothing there: outside its beam";
    case Why::kInGobosDark:
      return "sends nothing there: in the dark of its gobo";
    case Why::kBeyondRange:
      return fmt::format("ends {} m from it; the place lies at {} m (range)",
                         short_number(a.range, 3),
                         short_number(a.distance, 3));
    case Why::kBlocked:
      return "is blocked by " + blocked;
  }
  return "";
}

void ways_figure(const std::string& path,
                 const WayReport& report,
                 const Rig& rig,
                 const Scene& scene,
                 int camera,
                 const std::string& picture) {
  Canvas canvas;
  canvas.text(kWaysMargin,
              16,
              kWidth - 2 * kWaysMargin,
              fmt::format("{},{}: {} \u00b1 {} cd/m\u00b2{}",
                          report.box.x,
                          report.box.y,
                          short_number(report.luminance),
                          short_number(report.standard_error, 2),
                          report.seen.empty() ? "" : " on " + report.seen),
              19,
              Align::kLeft,
              "#222222",
              true);
  if (picture.empty()) {
    draw(canvas,
         projected(report, scene, elevation_of(rig), "from the front"),
         kWaysMargin,
         kTop,
         kPictureWidth,
         kPictureHeight);
  } else {
    draw_over_picture(canvas, report, rig, camera, picture);
  }
  draw(canvas,
       projected(report, scene, plan_of(rig), "from above"),
       kWaysMargin + kPictureWidth + 12,
       kTop - 20,
       kWidth - 2 * kWaysMargin - kPictureWidth - 12,
       kPictureHeight + 40);
  draw_list(canvas, report, kTop + kPictureHeight + 30);
  canvas.save(path);
}

}  // namespace jovilux::figures
