#pragma once

#include "jovilux/judge/comparison.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/noise_report.h"
#include "jovilux/judge/rendered_image.h"

#include <cstdint>
#include <string>
#include <vector>

#include "figures/plot.h"

namespace jovilux::figures {

/// One picture of a contact sheet: a PNG file, what it is called, what is to be said of it.
struct SheetCell {
  std::string png, title, note;
  bool marked = false;  ///< drawn with a warning's frame
};

/// Pictures in rows of `columns` (0: as fits best), a title above. Writes a PNG of 1280 x 800.
void sheet_figure(const std::string& path,
                  const std::string& title,
                  const std::vector<SheetCell>& cells,
                  int columns);

/// A plot alone on a page.
void plot_figure(const std::string& path, const Plot& plot);

/// Two pictures as they are shown, the second over the first's right half, and how the second
/// differs in stops.
void comparison_figure(const std::string& path,
                       const RenderedImage& a,
                       const RenderedImage& b,
                       const Comparison& c,
                       const std::string& name_a,
                       const std::string& name_b);

/// How luminance is told by color.
struct FalseColor {
  double lowest = 0, highest = 1;  ///< [cd/m2]
  bool stops = true;               ///< bands of a stop about 18 % gray; else even bands of cd/m2
  double gray = 1;                 ///< luminance that is shown as 18 % gray
  int bands = 10;
  bool isolines = true, zebra = true;
};
/// The band of a luminance, 0 .. bands - 1.
int band_of(const FalseColor& f, double luminance);
/// The color of a band: dark blue over green to light yellow, brighter from band to band, for every
/// kind of color vision.
std::string band_color(int band, int bands);
/// The picture's pixels in bands' colors, 8-bit RGB, with lines between bands and stripes where the
/// view clips or is black.
std::vector<std::uint8_t> false_color_pixels(const RenderedImage& image, const FalseColor& f);
/// The picture in false color, its legend, a histogram of stops and the luminance over the
/// picture's width.
void false_color_figure(const std::string& path,
                        const RenderedImage& image,
                        const FalseColor& f,
                        const std::string& title);

/// The map of noise, how it fell over samples with the target, and the lights' shares of the
/// variance.
void noise_figure(const std::string& path,
                  const RenderedImage& image,
                  const NoiseReport& report,
                  const std::string& title);

/// The points of a grid of meters in color with their values; average, minimum, uniformity.
void grid_figure(const std::string& path, const MeterSpec& meter, const MeterResult& result);

}  // namespace jovilux::figures
