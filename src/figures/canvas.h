#pragma once

#include "jovilux/color/rgb.h"

#include <array>
#include <cstdint>
#include <memory>
#include <string>
#include <vector>

namespace jovilux::figures {

/// The size of a figure in pixels.
inline constexpr int kWidth = 1280, kHeight = 800;

/// Where a text stands in its width.
enum class Align { kLeft, kCenter, kRight };

/// A picture to draw on: white, pixels from the top left corner. Throws MachineTrouble where the
/// machine fails.
class Canvas {
 public:
  Canvas(int width = kWidth, int height = kHeight);
  ~Canvas();
  Canvas(const Canvas&) = delete;

  /// One line, shortened in its middle where it is wider than `width`; `size` is in points. Any
  /// bytes may be given.
  void text(double x,
            double y,
            double width,
            const std::string& s,
            double size,
            Align align = Align::kLeft,
            const std::string& color = "#222222",
            bool bold = false);
  /// The width that a line takes.
  double text_width(const std::string& s, double size, bool bold = false) const;
  void fill(double x, double y, double w, double h, const std::string& color);
  void frame(double x, double y, double w, double h, const std::string& color, double line = 1);
  void line(double x0, double y0, double x1, double y1, const std::string& color, double line = 1);
  /// A PNG file as it is, its upper left corner at (x, y).
  void picture(double x, double y, const std::string& png_file);
  /// A PNG file scaled to fit the rectangle, centered in it; returns the rectangle that it takes:
  /// x, y, width, height.
  std::array<double, 4> fitted(double x, double y, double w, double h, const std::string& png_file);
  /// 8-bit RGB pixels, width x height of them, rows from the top, scaled to the rectangle.
  void pixels(double x,
              double y,
              double w,
              double h,
              int width,
              int height,
              const std::vector<std::uint8_t>& rgb);
  /// Writes a PNG, atomically.
  void save(const std::string& path) const;

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// Colors of curves that readers with any color vision tell apart, in order; they repeat after 7.
/// Source: M. Okabe, K. Ito, "Color Universal Design", 2008.
std::string curve_color(std::size_t index);

}  // namespace jovilux::figures
