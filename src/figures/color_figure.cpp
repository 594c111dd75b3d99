#include "figures/color_figure.h"

#include "jovilux/base/text.h"
#include "jovilux/color/spectra.h"

#include <algorithm>
#include <cmath>
#include <span>

#include "figures/plot.h"
#include <fmt/format.h>

namespace jovilux::figures {
namespace {

struct Uv {
  double u, v;
};
Uv uv_1976(const Xyz& c) {
  const double s = c[0] + 15 * c[1] + 3 * c[2];
  return {4 * c[0] / s, 9 * c[1] / s};
}

// Colors that are drawn; more are in the table only.
constexpr std::size_t kMostColors = 14;
// The colors have a chart of so many pixels, and at most so many leave room for a second one.
constexpr int kChart = 780;
constexpr std::size_t kColorsBesideSecond = 6;

// The chart's edges: round the colors, and round whites at least.
void set_edges(Plot& plot, std::span<const ColorReport> reports) {
  double lo_u = 0.19, hi_u = 0.30, lo_v = 0.46, hi_v = 0.54;
  for (const ColorReport& r : reports) {
    lo_u = std::min(lo_u, r.u_prime);
    hi_u = std::max(hi_u, r.u_prime);
    lo_v = std::min(lo_v, r.v_prime);
    hi_v = std::max(hi_v, r.v_prime);
  }
  const double half = 0.55 * std::max(hi_u - lo_u, hi_v - lo_v) + 0.01;
  plot.x_min = std::max(0.0, 0.5 * (lo_u + hi_u) - half);
  plot.x_max = 0.5 * (lo_u + hi_u) + half;
  plot.y_min = std::max(0.0, 0.5 * (lo_v + hi_v) - half);
  plot.y_max = 0.5 * (lo_v + hi_v) + half;
}

// The spectral colors, closed by the line of purples.
Curve spectral_curve() {
  Curve out{"spectral colors", {}, {}, "#888888", 1.6, 0, false, 1};
  constexpr std::size_t kFrom = 390 - kFirstNm, kTo = 700 - kFirstNm;
  for (std::size_t i = kFrom; i <= kTo; ++i) {
    const Uv p = uv_1976({color_matching(0)[i], color_matching(1)[i], color_matching(2)[i]});
    out.x.push_back(p.u);
    out.y.push_back(p.v);
  }
  out.x.push_back(out.x.front());
  out.y.push_back(out.y.front());
  return out;
}

Curve planckian_curve() {
  Curve out{"Planck's locus, 1000 to 25000 K", {}, {}, "#333333", 2.0, 0, false, 1};
  for (int i = 0; i <= 60; ++i) {
    const Uv p = uv_1976(tristimulus(planck(from_mired(1000 + i / 60.0 * (40 - 1000)))));
    out.x.push_back(p.u);
    out.y.push_back(p.v);
  }
  return out;
}

void add_dot(Plot& plot, const Uv& at, const std::string& color, double size) {
  plot.curves.push_back({"", {at.u}, {at.v}, color, 1, 0, true, size});
}

// The chart round the colors, each with its number.
Plot chart_of(std::span<const ColorReport> reports) {
  Plot plot;
  plot.title = "CIE 1976 chromaticities";
  plot.x_label = "u'";
  plot.y_label = "v'";
  plot.even_scale = true;
  plot.legend = "bottom right";
  set_edges(plot, reports);
  plot.curves = {spectral_curve(), planckian_curve()};
  for (const double t : {2000.0, 2700.0, 4000.0, 6500.0}) {
    const Uv p = uv_1976(tristimulus(planck({t})));
    add_dot(plot, p, "#333333", 0.6);
    plot.labels.push_back({p.u, p.v, fmt::format("{:.0f} K", t), -0.8, 0.9, "#666666"});
  }
  static constexpr double kBeside[4][2] = {{0.9, -0.9}, {1.0, 0.6}, {-0.9, -0.9}, {0.2, -1.5}};
  for (std::size_t i = 0; i < reports.size(); ++i) {
    const Uv p{reports[i].u_prime, reports[i].v_prime};
    add_dot(plot, p, "#ffffff", 2.8);
    add_dot(plot, p, "#111111", 2.4);
    add_dot(plot, p, reports[i].srgb, 1.8);
    plot.labels.push_back(
        {p.u, p.v, std::to_string(i + 1), kBeside[i % 4][0], kBeside[i % 4][1], "#111111"});
  }
  return plot;
}

// Where the colors are among all colors.
Plot chart_of_all(std::span<const ColorReport> reports) {
  Plot plot;
  plot.even_scale = true;
  plot.x_max = 0.64;
  plot.y_max = 0.62;
  plot.legend = "";
  plot.curves = {spectral_curve(), planckian_curve()};
  for (const ColorReport& r : reports) {
    add_dot(plot, {r.u_prime, r.v_prime}, "#111111", 0.8);
  }
  return plot;
}

std::string white_of(const ColorReport& r) {
  std::string out = r.cct_k ? fmt::format("{:.0f} K  Duv {:+.4f}", *r.cct_k, r.duv.value_or(0))
                            : fmt::format("u' {:.4f}  v' {:.4f}", r.u_prime, r.v_prime);
  return r.ra ? out + fmt::format("  Ra {:.0f}", *r.ra) : out;
}

// A color's box with its name and figures, `row` high, the number before its name.
void draw_row(
    Canvas& canvas, const ColorReport& r, std::size_t number, double left, double y, double row) {
  const double box = std::min(row - 10, 64.0);
  canvas.fill(left, y, box, box, r.srgb);
  canvas.frame(left, y, box, box, "#888888");
  const double x = left + 76, w = kWidth - x - 12;
  const std::string name = fmt::format("{}  {}", number, r.spec);
  canvas.text(x, y - 2, w, name, 16, Align::kLeft, "#111111", true);
  canvas.text(x, y + 20, w, white_of(r), 14, Align::kLeft, "#333333");
  constexpr double kWithThirdLine = 60;
  if (row >= kWithThirdLine) {
    const std::string through =
        r.transmittance
            ? fmt::format("lets {} % through  ", short_number(100 * *r.transmittance, 3))
            : "";
    const std::string numbers = fmt::format("x {:.4f}  y {:.4f}  {}", r.xy.x, r.xy.y, r.srgb);
    canvas.text(x, y + 40, w, through + numbers, 13, Align::kLeft, "#555555");
  }
}

}  // namespace

void color_figure(const std::string& path, const std::vector<ColorReport>& reports) {
  Canvas canvas;
  const auto shown = std::span(reports).first(std::min(reports.size(), kMostColors));
  draw(canvas, chart_of(shown), 0, 0, kChart, kHeight);
  if (shown.size() <= kColorsBesideSecond) {
    draw(canvas, chart_of_all(shown), kChart, kHeight - 244, 330, 244);
  }
  constexpr double kLeft = kChart + 16;
  const double row = std::min(
      88.0, (kHeight - 40.0) / static_cast<double>(std::max<std::size_t>(shown.size(), 1)));
  for (std::size_t i = 0; i < shown.size(); ++i) {
    draw_row(canvas, shown[i], i + 1, kLeft, 20 + static_cast<double>(i) * row, row);
  }
  if (reports.size() > shown.size()) {
    canvas.text(kLeft,
                kHeight - 24,
                kWidth - kLeft - 12,
                fmt::format("{} more are in the table only", reports.size() - shown.size()),
                12,
                Align::kLeft,
                "#666666");
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
