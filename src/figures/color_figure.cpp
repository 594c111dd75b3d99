#include "figures/color_figure.h"

#include "jovilux/base/text.h"
#include "jovilux/color/spectra.h"

#include <algorithm>
#include <cmath>

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

}  // namespace

void color_figure(const std::string& path, const std::vector<ColorReport>& reports) {
  Canvas canvas;
  // The chart shows what is around the colors; a small one beside shows where that is among all
  // colors.
  Plot plot, all;
  plot.title = "CIE 1976 chromaticities";
  plot.x_label = "u'";
  plot.y_label = "v'";
  plot.even_scale = all.even_scale = true;
  all.x_max = 0.64;
  all.y_max = 0.62;
  all.legend = "";
  const std::size_t shown = std::min<std::size_t>(reports.size(), 14);
  double lo_u = 0.19, hi_u = 0.30, lo_v = 0.46, hi_v = 0.54;  // whites
  for (std::size_t i = 0; i < shown; ++i) {
    lo_u = std::min(lo_u, reports[i].u_prime);
    hi_u = std::max(hi_u, reports[i].u_prime);
    lo_v = std::min(lo_v, reports[i].v_prime);
    hi_v = std::max(hi_v, reports[i].v_prime);
  }
  const double half = 0.55 * std::max(hi_u - lo_u, hi_v - lo_v) + 0.01;
  plot.x_min = std::max(0.0, 0.5 * (lo_u + hi_u) - half);
  plot.x_max = 0.5 * (lo_u + hi_u) + half;
  plot.y_min = std::max(0.0, 0.5 * (lo_v + hi_v) - half);
  plot.y_max = 0.5 * (lo_v + hi_v) + half;
  plot.legend = "bottom right";
  Curve spectral{"spectral colors", {}, {}, "#888888", 1.6, 0, false, 1};
  constexpr std::size_t kFrom = 390 - kFirstNm, kTo = 700 - kFirstNm;
  for (std::size_t i = kFrom; i <= kTo; ++i) {
    const Uv p = uv_1976({color_matching(0)[i], color_matching(1)[i], color_matching(2)[i]});
    spectral.x.push_back(p.u);
    spectral.y.push_back(p.v);
  }
  spectral.x.push_back(spectral.x.front());
  spectral.y.push_back(spectral.y.front());
  Curve planckian{"Planck's locus, 1000 to 25000 K", {}, {}, "#333333", 2.0, 0, false, 1};
  for (int i = 0; i <= 60; ++i) {
    const Uv p = uv_1976(tristimulus(planck(from_mired(1000 + i / 60.0 * (40 - 1000)))));
    planckian.x.push_back(p.u);
    planckian.y.push_back(p.v);
  }
  for (Plot* p : {&plot, &all}) {
    p->curves.push_back(spectral);
    p->curves.push_back(planckian);
  }
  for (const double t : {2000.0, 2700.0, 4000.0, 6500.0}) {
    const Uv p = uv_1976(tristimulus(planck({t})));
    plot.curves.push_back({"", {p.u}, {p.v}, "#333333", 1, 0, true, 0.6});
    plot.labels.push_back({p.u, p.v, fmt::format("{:.0f} K", t), -0.8, 0.9, "#666666"});
  }
  static constexpr double kBeside[4][2] = {{0.9, -0.9}, {1.0, 0.6}, {-0.9, -0.9}, {0.2, -1.5}};
  for (std::size_t i = 0; i < shown; ++i) {
    const ColorReport& r = reports[i];
    plot.curves.push_back({"", {r.u_prime}, {r.v_prime}, "#ffffff", 1, 0, true, 2.8});
    plot.curves.push_back({"", {r.u_prime}, {r.v_prime}, "#111111", 1, 0, true, 2.4});
    plot.curves.push_back({"", {r.u_prime}, {r.v_prime}, r.srgb, 1, 0, true, 1.8});
    plot.labels.push_back({r.u_prime,
                           r.v_prime,
                           std::to_string(i + 1),
                           kBeside[i % 4][0],
                           kBeside[i % 4][1],
                           "#111111"});
    all.curves.push_back({"", {r.u_prime}, {r.v_prime}, "#111111", 1, 0, true, 0.8});
  }
  constexpr int kChart = 780;
  draw(canvas, plot, 0, 0, kChart, kHeight);
  const bool room = shown <= 6;
  if (room) {
    draw(canvas, all, kChart, kHeight - 244, 330, 244);
  }

  constexpr double kLeft = kChart + 16;
  const double row =
      std::min(88.0, (kHeight - 40.0) / static_cast<double>(std::max<std::size_t>(shown, 1)));
  double y = 20;
  for (std::size_t i = 0; i < shown; ++i) {
    const ColorReport& r = reports[i];
    const double box = std::min(row - 10, 64.0);
    canvas.fill(kLeft, y, box, box, r.srgb);
    canvas.frame(kLeft, y, box, box, "#888888");
    const double x = kLeft + 76, w = kWidth - x - 12;
    canvas.text(
        x, y - 2, w, fmt::format("{}  {}", i + 1, r.spec), 16, Align::kLeft, "#111111", true);
    std::string figures = fmt::format("u' {:.4f}  v' {:.4f}", r.u_prime, r.v_prime);
    if (r.cct_k) {
      figures = fmt::format("{:.0f} K  Duv {:+.4f}", *r.cct_k, r.duv.value_or(0));
    }
    if (r.ra) {
      figures += fmt::format("  Ra {:.0f}", *r.ra);
    }
    canvas.text(x, y + 20, w, figures, 14, Align::kLeft, "#333333");
    if (row >= 60) {
      canvas.text(x,
                  y + 40,
                  w,
                  (r.transmittance
                       ? fmt::format("lets {} % through  ", short_number(100 * *r.transmittance, 3))
                       : std::string()) +
                      fmt::format("x {:.4f}  y {:.4f}  {}", r.xy.x, r.xy.y, r.srgb),
                  13,
                  Align::kLeft,
                  "#555555");
    }
    y += row;
  }
  if (reports.size() > shown) {
    canvas.text(kLeft,
                kHeight - 24,
                kWidth - kLeft - 12,
                fmt::format("{} more are in the table only", reports.size() - shown),
                12,
                Align::kLeft,
                "#666666");
  }
  canvas.save(path);
}

}  // namespace jovilux::figures
