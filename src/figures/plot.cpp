#include "figures/plot.h"

#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/child_process.h"

#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <filesystem>

#include "figures/scratch.h"
#include <fmt/format.h>

namespace jovilux::figures {
namespace {

// A text in gnuplot's single quotes, where only a quote has a meaning; control characters become
// spaces.
std::string quoted(const std::string& s) {
  std::string out = "'";
  for (const char c : printable(s, 400)) {
    out += c == '\'' ? "''" : std::string(1, c);
  }
  return out + "'";
}

// Whether a point of a curve can be drawn on the plot's axes.
bool is_shown(const Plot& p, double x, double y) {
  return std::isfinite(x) && std::isfinite(y) && !(p.log_x && x <= 0) && !(p.log_y && y <= 0);
}

// The curve's points as the data block $D`number`, an empty line where some are left out. `points`:
// how many there are.
std::string data_block(const Plot& p, std::size_t number, std::size_t& points) {
  const Curve& c = p.curves[number];
  std::string s = fmt::format("$D{} << EOD\n", number);
  bool gap = false;
  points = 0;
  for (std::size_t k = 0; k < c.x.size(); ++k) {
    if (!is_shown(p, c.x[k], c.y[k])) {
      gap = true;
      continue;
    }
    s += fmt::format("{}{:.9g} {:.9g} {:.9g}\n",
                     gap && points > 0 ? "\n" : "",
                     c.x[k],
                     c.y[k],
                     c.up_to.empty() ? c.y[k] : c.up_to[k]);
    gap = false;
    ++points;
  }
  return s + (points == 0 ? "NaN NaN\nEOD\n" : "EOD\n");
}

// Where the picture goes, the frame, the grid, the legend and the title.
std::string page(const Plot& p, const std::string& png, int width, int height) {
  std::string s = fmt::format(
      "set encoding utf8\nset terminal pngcairo size {},{} font 'DejaVu Sans,13' background rgb "
      "'white' noenhanced\nset output {}\n",
      width,
      height,
      quoted(png));
  s += "set border 3 lw 1.2 lc rgb '#555555'\nset tics nomirror out scale 0.7 textcolor rgb "
       "'#333333'\n"
       "set grid xtics ytics mxtics mytics lt 1 lw 0.9 lc rgb '#cfcfcf', lt 1 lw 0.6 lc rgb "
       "'#ececec'\n";
  s += p.legend.empty() ? "unset key\n"
                        : fmt::format(
                              "set key {} box lc rgb '#cccccc' opaque Left reverse samplen 2 "
                              "spacing 1.2 font ',12'\n",
                              p.legend);
  if (!p.title.empty()) {
    s += fmt::format("set title {} font ',15' textcolor rgb '#222222'\n", quoted(p.title));
  }
  return s;
}

std::string polar_axes(const Plot& p) {
  return "set polar\nset angles degrees\nset theta bottom ccw\nset size square\nunset "
         "border\nunset xtics\nunset ytics\nset grid polar 15 lt 1 lw 0.8 lc rgb '#d0d0d0'\n"
         "set ttics ('0\u00b0' 0, '30\u00b0' 30, '60\u00b0' 60, '90\u00b0' 90, '120\u00b0' 120, "
         "'150\u00b0' 150, '180\u00b0' 180, '150\u00b0' 210, '120\u00b0' 240, '90\u00b0' 270, "
         "'60\u00b0' 300, '30\u00b0' 330) font ',12'\nset rtics textcolor rgb '#555555' format "
         "'%g' font ',11'\nset trange [-180:180]\n" +
         fmt::format("set rrange [0:{:.9g}]\n", p.y_max) +
         (p.y_step > 0 ? fmt::format("set rtics {:.9g}\n", p.y_step) : "");
}

// "set xrange .."; of a plot without points, for which gnuplot finds no range, from 1 to 10.
std::string range(const char* axis, double least, double most, bool empty) {
  if (most > least) {
    return fmt::format("set {}range [{:.9g}:{:.9g}]\n", axis, least, most);
  }
  return empty ? fmt::format("set {}range [1:10]\n", axis) : "";
}

std::string cartesian_axes(const Plot& p, bool empty) {
  std::string s =
      fmt::format("set xlabel {}\nset ylabel {}\n", quoted(p.x_label), quoted(p.y_label));
  s += p.log_x ? "set logscale x\nset xtics add (0.05, 0.1, 0.2, 0.5, 1, 2, 5, 10, 20, 50, 100, "
                 "200, 500, 1000)\n"
               : "";
  s += p.log_y ? "set logscale y\nset format y '%.10g'\n" : "";
  s += p.even_scale ? "set size ratio -1\n" : "";
  return s + range("x", p.x_min, p.x_max, empty) + range("y", p.y_min, p.y_max, empty);
}

std::string label_line(const Label& l) {
  return fmt::format(
      "set label {} at {:.9g},{:.9g} {} offset {:.3g},{:.3g} font ',12' textcolor rgb '{}' "
      "front\n",
      quoted(l.text),
      l.x,
      l.y,
      l.right < 0 ? "right" : "left",
      l.right,
      l.up,
      l.color);
}

// A curve in the plot command.
std::string curve_term(const Curve& c, std::size_t number) {
  static constexpr const char* kDashes[] = {"1", "2", "3"};
  const std::string title = c.name.empty() ? "notitle" : "title " + quoted(c.name);
  if (!c.up_to.empty()) {
    return fmt::format(
        "$D{} using 1:2:3 with filledcurves fs transparent solid 0.35 noborder lc rgb '{}' {}",
        number,
        c.color,
        title);
  }
  return fmt::format("$D{} using 1:2 with {} {} lc rgb '{}' {}",
                     number,
                     c.marks ? "points" : "lines",
                     c.marks ? fmt::format("pt 7 ps {:.3g}", c.mark_size)
                             : fmt::format("lw {:.3g} dt {}", c.width, kDashes[c.dash]),
                     c.color,
                     title);
}

std::string script(const Plot& p, const std::string& png, int width, int height) {
  std::string s;
  bool empty = true;
  for (std::size_t i = 0; i < p.curves.size(); ++i) {
    std::size_t points = 0;
    s += data_block(p, i, points);
    empty = empty && points == 0;
  }
  s += page(p, png, width, height) + (p.polar ? polar_axes(p) : cartesian_axes(p, empty));
  for (const Label& l : p.labels) {
    s += label_line(l);
  }
  if (empty && !p.polar) {  // gnuplot draws no axes around nothing
    return s +
           "set label 'nothing above 0 to show' at graph 0.5,0.5 center font ',14' textcolor rgb "
           "'#777777'\nplot NaN notitle\nunset output\n";
  }
  s += "plot ";
  for (std::size_t i = 0; i < p.curves.size(); ++i) {
    s += (i > 0 ? ", " : "") + curve_term(p.curves[i], i);
  }
  return s + "\nunset output\n";
}

}  // namespace

PlotterMissing::PlotterMissing()
    : MachineTrouble("gnuplot is not installed; figures need it (package gnuplot-nox)") {}

bool plotter_is_there() { return is_in_path("gnuplot"); }

void draw(Canvas& canvas, const Plot& plot, int x, int y, int width, int height) {
  const Scratch scratch;
  const std::string png = (scratch.dir / "plot.png").string();
  {
    AtomicFile file((scratch.dir / "plot.gp").string());
    file.write(script(plot, png, width, height));
    file.commit();
  }
  if (!plotter_is_there()) {
    throw PlotterMissing();
  }
  ChildProcess plotter("gnuplot", {"-d", (scratch.dir / "plot.gp").string()});
  std::string said;
  if (plotter.wait(said) != 0) {
    throw MachineTrouble("gnuplot failed: " + printable(std::string(trimmed(said)), 300));
  }
  canvas.picture(x, y, png);
}

}  // namespace jovilux::figures
