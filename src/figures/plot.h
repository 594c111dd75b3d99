#pragma once

#include "jovilux/files/atomic_file.h"

#include <string>
#include <vector>

#include "figures/canvas.h"

namespace jovilux::figures {

/// A line or marks of a plot. Points whose y (or x) is not finite are left out.
struct Curve {
  std::string name;  ///< in the legend; empty: not there
  std::vector<double> x, y;
  std::string color = "#0072b2";
  double width = 2.6;
  int dash = 0;        ///< 0 solid, 1 dashed, 2 dotted
  bool marks = false;  ///< dots instead of a line
  double mark_size = 1.2;
  /// Not empty: the area between y and this is filled, translucent, instead of a line.
  std::vector<double> up_to = {};
};

/// A word at a place of the plot, beside it.
struct Label {
  double x = 0, y = 0;
  std::string text;
  double right = 0.9, up = 0.6;  ///< how far beside it, in characters
  std::string color = "#111111";
};

/// Axes with their curves, drawn by gnuplot.
struct Plot {
  std::string title, x_label, y_label;
  /// Polar: x in degrees, 0 downwards, y the radius.
  bool log_x = false, log_y = false, polar = false;
  bool even_scale = false;                            ///< a unit of x is as long as one of y
  double x_min = 0, x_max = 0, y_min = 0, y_max = 0;  ///< both equal: as the curves ask
  double y_step = 0;                                  ///< polar: between rings; 0: gnuplot chooses
  std::string legend = "top right";  ///< gnuplot's words for its place; empty: none
  std::vector<Curve> curves;
  std::vector<Label> labels;
};

/// gnuplot is not installed; what() says which package has it.
struct PlotterMissing : MachineTrouble {
  PlotterMissing();
};

/// Whether gnuplot is found in PATH.
bool plotter_is_there();

/// Draws the plot into a rectangle of the canvas. Throws PlotterMissing, and MachineTrouble where
/// gnuplot fails.
void draw(Canvas& canvas, const Plot& plot, int x, int y, int width, int height);

}  // namespace jovilux::figures
