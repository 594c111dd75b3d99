#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/color/rgb.h"

#include <map>
#include <string>
#include <utility>
#include <vector>

namespace jovilux {

/// A rectangle of pixels; a point is 1 x 1.
struct PixelBox {
  int x = 0, y = 0, width = 1, height = 1;
};

/// What a spot meter reads off a picture, averaged over a box.
struct Reading {
  PixelBox box;
  Rgb rgb = Rgb::Zero();      ///< absolute linear Rec.709
  double luminance = 0;       ///< cd/m2
  double standard_error = 0;  ///< cd/m2; NaN where the picture does not tell
  double ev100 = 0;           ///< reflected-light meter; -infinite where dark
  /// Share of the pixels that the view shows at their highest value.
  double clipped = 0;
  /// Luminance of each light's layer [cd/m2], in the file's order.
  std::vector<std::pair<std::string, double>> layers;
};

/// The readings of a picture and what holds for all of them.
struct ImageReadings {
  int width = 0, height = 0;
  bool absolute = true;   ///< the file says what luminance its numbers stand for
  bool denoised = false;  ///< made by denoise: its errors are those that it tells
  bool has_error = true;  ///< it has our variance channel, or that of a denoised picture
  bool has_view = true;   ///< it has our exposure, so that clipping is known
  std::vector<Reading> readings;
};

/// Reads boxes of an EXR; a box outside the picture is a problem.
Result<ImageReadings> read_image(const std::string& path, const std::vector<PixelBox>& boxes);

/// The pixels of a straight line from (x0, y0) to (x1, y1), ends included, one for each step of the
/// longer side.
std::vector<PixelBox> pixels_of_line(int x0, int y0, int x1, int y1);

}  // namespace jovilux
