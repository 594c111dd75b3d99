#include "figures/sheet_figure.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <fstream>

#include <fmt/format.h>

namespace jovilux::figures {
namespace {

constexpr double kMargin = 28;

std::vector<std::uint8_t> shown_pixels(const RenderedImage& image, const View& view) {
  std::vector<std::uint8_t> out;
  out.reserve(3 * image.pixels());
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    const auto v = view.srgb8(image.color(i));
    out.insert(out.end(), v.begin(), v.end());
  }
  return out;
}

// Where a picture of some size goes in a rectangle.
std::array<double, 4> fit(double x, double y, double w, double h, const RenderedImage& image) {
  const double s = std::min(w / image.width, h / image.height);
  return {x + (w - s * image.width) / 2, y, s * image.width, s * image.height};
}

std::array<double, 3> mixed(const std::vector<std::array<double, 3>>& stops, double t) {
  const double at = std::clamp(t, 0.0, 1.0) * static_cast<double>(stops.size() - 1);
  const auto i = std::min(static_cast<std::size_t>(at), stops.size() - 2);
  const double f = at - static_cast<double>(i);
  return {stops[i][0] + f * (stops[i + 1][0] - stops[i][0]),
          stops[i][1] + f * (stops[i + 1][1] - stops[i][1]),
          stops[i][2] + f * (stops[i + 1][2] - stops[i][2])};
}

// Lightness rises from end to end, blue to yellow: told apart without red and green.
const std::vector<std::array<double, 3>> kRising = {
    {22, 20, 70}, {38, 62, 132}, {52, 112, 140}, {92, 158, 128}, {170, 196, 96}, {246, 232, 140}};
// Two sides of a gray: blue darker, orange brighter.
const std::vector<std::array<double, 3>> kTwoSided = {
    {0, 60, 130}, {70, 130, 190}, {228, 228, 228}, {220, 140, 60}, {140, 60, 0}};

std::string hex(const std::array<double, 3>& c) {
  return fmt::format("#{:02x}{:02x}{:02x}",
                     static_cast<int>(std::lround(c[0])),
                     static_cast<int>(std::lround(c[1])),
                     static_cast<int>(std::lround(c[2])));
}

// Width over height of a PNG, from its header; that of a usual picture where there is none.
double png_aspect(const std::string& file) {
  std::array<unsigned char, 24> header{};
  std::ifstream in(file, std::ios::binary);
  in.read(reinterpret_cast<char*>(header.data()), static_cast<std::streamsize>(header.size()));
  const auto number = [&](std::size_t at) {
    return static_cast<double>((static_cast<std::uint32_t>(header[at]) << 24) |
                               (static_cast<std::uint32_t>(header[at + 1]) << 16) |
                               (static_cast<std::uint32_t>(header[at + 2]) << 8) | header[at + 3]);
  };
  const double width = number(16), height = number(20);
  return in && width > 0 && height > 0 ? width / height : 16.0 / 9;
}

}  // namespace

void sheet_figure(const std::string& path,
                  const std::string& title,
                  const std::vector<SheetCell>& cells,
                  int columns) {
  const int n = static_cast<int>(cells.size());
  constexpr double kLabel = 44, kGap = 14;
  const double top = 58, high = kHeight - top - 16, wide = kWidth - 2 * kMargin;
  // As wide as high, of the first picture; all of a sheet are alike.
  const double aspect = n > 0 ? png_aspect(cells.front().png) : 1;
  if (columns <= 0) {  // the most picture
    double best = 0;
    for (int c = 1; c <= n; ++c) {
      const int rows = (n + c - 1) / c;
      const double w = (wide - kGap * (c - 1)) / c, h = (high - kGap * (rows - 1)) / rows - kLabel,
                   size = std::min(w, h * aspect);
      if (size > best) {
        best = size;
        columns = c;
      }
    }
  }
  columns = std::max(1, columns);
  const int rows = (n + columns - 1) / columns;
  const double w = (wide - kGap * (columns - 1)) / columns,
               h = std::min(w / aspect, (high - kGap * (rows - 1)) / rows - kLabel);
  // No higher than its rows.
  const double used = top + rows * (h + kLabel) + (rows - 1) * kGap + 16;
  Canvas canvas(kWidth, static_cast<int>(std::ceil(std::min<double>(used, kHeight))));
  canvas.text(kMargin, 18, wide, title, 20, Align::kLeft, "#222222", true);
  for (int i = 0; i < n; ++i) {
    const SheetCell& c = cells[static_cast<std::size_t>(i)];
    const int row = i / columns;
    const double x = kMargin + i % columns * (w + kGap), y = top + row * (h + kLabel + kGap);
    const auto at = canvas.fitted(x, y, w, h, c.png);
    if (c.marked) {
      canvas.frame(at[0] - 2, at[1] - 2, at[2] + 4, at[3] + 4, "#d55e00", 4);
    }
    canvas.text(x, at[1] + at[3] + 5, w, c.title, 14, Align::kCenter, "#222222", true);
    canvas.text(
        x, at[1] + at[3] + 23, w, c.note, 12, Align::kCenter, c.marked ? "#a04400" : "#555555");
  }
  canvas.save(path);
}

void plot_figure(const std::string& path, const Plot& plot) {
  Canvas canvas;
  draw(canvas, plot, 20, 20, kWidth - 40, kHeight - 40);
  canvas.save(path);
}

void comparison_figure(const std::string& path,
                       const RenderedImage& a,
                       const RenderedImage& b,
                       const Comparison& c,
                       const std::string& name_a,
                       const std::string& name_b) {
  Canvas canvas;
  const View view = a.shown();
  const double w = (kWidth - 3 * kMargin) / 2, h = 300;
  const auto place = [&](int column, int row) {
    return std::array<double, 2>{kMargin + column * (w + kMargin), 52 + row * (h + 74)};
  };
  const auto draw_one = [&](int column,
                            int row,
                            const std::vector<std::uint8_t>& pixels,
                            const std::string& title,
                            const std::string& note) {
    const auto [x, y] = place(column, row);
    const auto at = fit(x, y, w, h, a);
    canvas.pixels(at[0], at[1], at[2], at[3], a.width, a.height, pixels);
    canvas.text(x, y - 24, w, title, 15, Align::kCenter, "#222222", true);
    canvas.text(x, y + at[3] + 6, w, note, 12, Align::kCenter, "#555555");
    return at;
  };
  const auto first = shown_pixels(a, view), second = shown_pixels(b, view);
  draw_one(0, 0, first, "A: " + name_a, fmt::format("mean {} cd/m\u00b2", short_number(c.mean_a)));
  draw_one(1,
           0,
           second,
           "B: " + name_b,
           fmt::format("mean {} cd/m\u00b2, shown with A's exposure", short_number(c.mean_b)));
  std::vector<std::uint8_t> split = first;
  for (int y = 0; y < a.height; ++y) {
    for (int x = a.width / 2; x < a.width; ++x) {
      const std::size_t i = 3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(a.width) +
                                 static_cast<std::size_t>(x));
      std::copy_n(second.begin() + static_cast<std::ptrdiff_t>(i),
                  3,
                  split.begin() + static_cast<std::ptrdiff_t>(i));
    }
  }
  const auto at = draw_one(0, 1, split, "A | B", "left half A, right half B");
  canvas.line(at[0] + at[2] / 2, at[1], at[0] + at[2] / 2, at[1] + at[3], "#ffffff", 1.5);
  // Stops, on a scale of whole ones that holds nearly all.
  const double reach = std::max(0.5, std::ceil(2 * c.p95_stops) / 2);
  std::vector<std::uint8_t> stops;
  for (const float s : c.stops) {
    for (const double v : mixed(kTwoSided, 0.5 + 0.5 * s / reach)) {
      stops.push_back(static_cast<std::uint8_t>(std::lround(v)));
    }
  }
  const auto map = draw_one(1, 1, stops, "B against A, in stops", "");
  const double legend = map[1] + map[3] + 10;
  constexpr int kSteps = 120;
  for (int i = 0; i < kSteps; ++i) {
    canvas.fill(map[0] + 60 + i * (map[2] - 120) / kSteps,
                legend,
                (map[2] - 120) / kSteps + 1,
                12,
                hex(mixed(kTwoSided, (i + 0.5) / kSteps)));
  }
  canvas.text(map[0],
              legend - 2,
              54,
              fmt::format("\u2212{}", short_number(reach)),
              12,
              Align::kRight,
              "#555555");
  canvas.text(map[0] + map[2] - 54,
              legend - 2,
              54,
              fmt::format("+{}", short_number(reach)),
              12,
              Align::kLeft,
              "#555555");
  canvas.text(map[0], legend + 14, map[2], "0", 12, Align::kCenter, "#555555");
  canvas.save(path);
}

int band_of(const FalseColor& f, double luminance) {
  if (f.stops) {
    const double s = luminance > 0 ? std::log2(luminance / f.gray) : -1e9;
    // 18 % gray lies in the middle of a band, not where two meet.
    return std::clamp(static_cast<int>(std::floor(s + 0.5)) + f.bands / 2, 0, f.bands - 1);
  }
  return std::clamp(
      static_cast<int>(std::floor((luminance - f.lowest) / (f.highest - f.lowest) * f.bands)),
      0,
      f.bands - 1);
}

std::string band_color(int band, int bands) {
  return hex(mixed(kRising, bands > 1 ? static_cast<double>(band) / (bands - 1) : 0.5));
}

std::vector<std::uint8_t> false_color_pixels(const RenderedImage& image, const FalseColor& f) {
  std::vector<int> bands(image.pixels());
  for (std::size_t i = 0; i < bands.size(); ++i) {
    bands[i] = band_of(f, image.luminance(i));
  }
  // Lines follow the picture's forms, not its noise: bands of a mean over a neighborhood, of
  // logarithms so that no single bright pixel counts for many.
  std::vector<int> smooth;
  if (f.isolines) {
    const int r = std::max(2, image.width / 90);
    const auto w = static_cast<std::size_t>(image.width),
               h = static_cast<std::size_t>(image.height);
    std::vector<double> rows(image.pixels()), logs(image.pixels());
    for (std::size_t i = 0; i < logs.size(); ++i) {
      logs[i] = std::log2(std::max(image.luminance(i), 1e-4 * f.gray));
    }
    // Running sums, first along rows, then along columns.
    for (std::size_t y = 0; y < h; ++y) {
      for (std::size_t x = 0; x < w; ++x) {
        double sum = 0;
        int n = 0;
        for (int d = -r; d <= r; ++d) {
          const auto u = static_cast<std::ptrdiff_t>(x) + d;
          if (u >= 0 && u < static_cast<std::ptrdiff_t>(w)) {
            sum += logs[y * w + static_cast<std::size_t>(u)];
            ++n;
          }
        }
        rows[y * w + x] = sum / n;
      }
    }
    smooth.resize(image.pixels());
    for (std::size_t y = 0; y < h; ++y) {
      for (std::size_t x = 0; x < w; ++x) {
        double sum = 0;
        int n = 0;
        for (int d = -r; d <= r; ++d) {
          const auto v = static_cast<std::ptrdiff_t>(y) + d;
          if (v >= 0 && v < static_cast<std::ptrdiff_t>(h)) {
            sum += rows[static_cast<std::size_t>(v) * w + x];
            ++n;
          }
        }
        smooth[y * w + x] = band_of(f, std::exp2(sum / n));
      }
    }
  }
  const View view = image.shown();
  std::vector<std::uint8_t> out;
  out.reserve(3 * bands.size());
  for (int y = 0; y < image.height; ++y) {
    for (int x = 0; x < image.width; ++x) {
      const std::size_t i = static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) +
                            static_cast<std::size_t>(x);
      auto c = mixed(kRising, f.bands > 1 ? static_cast<double>(bands[i]) / (f.bands - 1) : 0.5);
      if (f.zebra && (x + y) / 3 % 2 == 0) {
        const auto shown = view.srgb8(image.color(i));
        if (view.clips(image.color(i))) {
          c = {213, 94, 0};
        } else if (shown[0] <= 2 && shown[1] <= 2 && shown[2] <= 2) {
          c = {0, 0, 0};
        }
      }
      if (f.isolines && x + 1 < image.width && y + 1 < image.height &&
          (smooth[i] != smooth[i + 1] ||
           smooth[i] != smooth[i + static_cast<std::size_t>(image.width)])) {
        // A line is a pixel wide: thick in a small picture, where it must not hide the bands.
        constexpr double kWhite = 250, kFullWidth = 900;
        const double opacity = std::clamp(image.width / kFullWidth, 0.45, 1.0);
        for (double& v : c) {
          v += opacity * (kWhite - v);
        }
      }
      for (const double v : c) {
        out.push_back(static_cast<std::uint8_t>(std::lround(v)));
      }
    }
  }
  return out;
}

namespace {

// Shares of a picture's pixels in the bands of false color, and at the ends of its view.
struct BandCounts {
  std::vector<std::size_t> in_band;
  std::size_t clipped = 0, crushed = 0, pixels = 0;

  std::string percent(std::size_t count) const {
    return fmt::format("{:.1f} %",
                       100.0 * static_cast<double>(count) / static_cast<double>(pixels));
  }
};

BandCounts count_bands(const RenderedImage& image, const FalseColor& f) {
  constexpr int kBlack = 2;  // of 255
  BandCounts out;
  out.in_band.resize(static_cast<std::size_t>(f.bands));
  out.pixels = image.pixels();
  const View view = image.shown();
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    ++out.in_band[static_cast<std::size_t>(band_of(f, image.luminance(i)))];
    const auto s = view.srgb8(image.color(i));
    out.clipped += view.clips(image.color(i)) ? 1 : 0;
    out.crushed += s[0] <= kBlack && s[1] <= kBlack && s[2] <= kBlack ? 1 : 0;
  }
  return out;
}

// The luminances of a band: "below 1.2", "1.2 to 2.4", "19 and more".
std::string range_of_band(const FalseColor& f, int band) {
  const int from_middle = band - f.bands / 2;
  const double lo = f.stops ? f.gray * std::exp2(from_middle - 0.5)
                            : f.lowest + (f.highest - f.lowest) * band / f.bands,
               hi = f.stops ? 2 * lo : lo + (f.highest - f.lowest) / f.bands;
  return band == 0             ? "below " + short_number(hi, 3)
         : band == f.bands - 1 ? short_number(lo, 3) + " and more"
                               : short_number(lo, 3) + " to " + short_number(hi, 3);
}

// The bands beside the picture, brightest above, each with its luminances and share.
void band_legend(Canvas& canvas, double x, const FalseColor& f, const BandCounts& counts) {
  const double step = std::min(34.0, 460.0 / f.bands);
  canvas.text(x,
              54,
              300,
              f.stops ? "stops from 18 % gray, cd/m\u00b2, share" : "cd/m\u00b2, share",
              13,
              Align::kLeft,
              "#555555");
  for (int b = 0; b < f.bands; ++b) {
    const double y = 80 + (f.bands - 1 - b) * step, text_y = y + step / 2 - 10;
    canvas.fill(x, y, 34, step - 2, band_color(b, f.bands));
    const int from_middle = b - f.bands / 2;
    if (f.stops) {
      const char* sign = from_middle < 0 ? "\u2212" : from_middle > 0 ? "+" : "";
      canvas.text(x + 42,
                  text_y,
                  60,
                  fmt::format("{}{}", sign, std::abs(from_middle)),
                  13,
                  Align::kRight,
                  "#222222");
    }
    canvas.text(
        x + (f.stops ? 112 : 46), text_y, 130, range_of_band(f, b), 13, Align::kLeft, "#222222");
    canvas.text(x + 230,
                text_y,
                74,
                counts.percent(counts.in_band[static_cast<std::size_t>(b)]),
                13,
                Align::kRight,
                "#555555");
  }
  const double below = 80 + f.bands * step + 10;
  canvas.fill(x, below, 34, 16, "#d55e00");
  canvas.text(x + 46,
              below - 2,
              260,
              "striped: clipped in the view, " + counts.percent(counts.clipped),
              13);
  canvas.fill(x, below + 24, 34, 16, "#000000");
  canvas.text(
      x + 46, below + 22, 260, "striped: black in the view, " + counts.percent(counts.crushed), 13);
}

// How much of the picture has which luminance.
Plot luminance_histogram(const RenderedImage& image, double gray) {
  constexpr int kBins = 96;
  constexpr double kReach = 10;  // stops
  Plot plot;
  plot.x_label = "stops from 18 % gray";
  plot.y_label = "% of pixels";
  plot.legend = "";
  std::vector<double> counts(kBins);
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    const double s = image.luminance(i) > 0 ? std::log2(image.luminance(i) / gray) : -kReach;
    counts[static_cast<std::size_t>(
        std::clamp((s + kReach) / (2 * kReach) * kBins, 0.0, kBins - 1.0))] +=
        100.0 / static_cast<double>(image.pixels());
  }
  Curve bars;
  for (int b = 0; b < kBins; ++b) {
    const double lo = -kReach + 2 * kReach * b / kBins, hi = -kReach + 2 * kReach * (b + 1) / kBins,
                 count = counts[static_cast<std::size_t>(b)];
    bars.x.insert(bars.x.end(), {lo, hi});
    bars.y.insert(bars.y.end(), {count, count});
  }
  plot.curves = {bars};
  plot.x_min = -kReach;
  plot.x_max = kReach;
  return plot;
}

// Luminance over the picture's width: what columns have in their middle and at their ends.
Plot luminance_waveform(const RenderedImage& image) {
  Plot plot;
  plot.x_label = "column of the picture";
  plot.y_label = "cd/m\u00b2";
  plot.log_y = true;
  plot.legend = "outside top center horizontal";
  Curve lo, mid, hi;
  lo.name = "5 %";
  mid.name = "median of the column";
  hi.name = "95 %";
  lo.color = curve_color(4);
  hi.color = curve_color(1);
  std::vector<double> column(static_cast<std::size_t>(image.height));
  for (int u = 0; u < image.width; u += std::max(1, image.width / 300)) {
    for (int v = 0; v < image.height; ++v) {
      column[static_cast<std::size_t>(v)] =
          image.luminance(static_cast<std::size_t>(v) * static_cast<std::size_t>(image.width) +
                          static_cast<std::size_t>(u));
    }
    std::sort(column.begin(), column.end());
    for (auto [curve, share] : {std::pair{&lo, 0.05}, std::pair{&mid, 0.5}, std::pair{&hi, 0.95}}) {
      curve->x.push_back(u);
      curve->y.push_back(
          column[static_cast<std::size_t>(share * static_cast<double>(column.size() - 1))]);
    }
  }
  plot.curves = {hi, mid, lo};
  plot.x_min = 0;
  plot.x_max = std::max(1, image.width - 1);
  return plot;
}

}  // namespace

void false_color_figure(const std::string& path,
                        const RenderedImage& image,
                        const FalseColor& f,
                        const std::string& title) {
  Canvas canvas;
  canvas.text(kMargin, 16, kWidth - 2 * kMargin, title, 19, Align::kLeft, "#222222", true);
  const double w = 890, h = 500;
  const auto at = fit(kMargin, 54, w, h, image);
  canvas.pixels(
      at[0], at[1], at[2], at[3], image.width, image.height, false_color_pixels(image, f));
  band_legend(canvas, kMargin + w + 26, f, count_bands(image, f));
  draw(canvas, luminance_histogram(image, f.gray), 10, 566, 610, 226);
  draw(canvas, luminance_waveform(image), 640, 566, 630, 226);
  canvas.save(path);
}

namespace {

// Each pixel's noise on a scale of halvings and doublings about the target, with its legend.
void noise_map(Canvas& canvas, const RenderedImage& image, const NoiseReport& r) {
  constexpr double kReach = 5;  // doublings
  std::vector<std::uint8_t> pixels;
  for (const float n : r.map) {
    const double t = n > 0 ? 0.5 + 0.5 * std::log2(n / r.target) / kReach : 0;
    for (const double v : mixed(kRising, t)) {
      pixels.push_back(static_cast<std::uint8_t>(std::lround(v)));
    }
  }
  const auto at = fit(kMargin, 52, 800, 450, image);
  canvas.pixels(at[0], at[1], at[2], at[3], image.width, image.height, pixels);
  constexpr std::size_t kMarked = 200;
  for (std::size_t i = 0; i < std::min(kMarked, r.fireflies.size()); ++i) {
    const double x = at[0] + (r.fireflies[i].x + 0.5) * at[2] / image.width,
                 y = at[1] + (r.fireflies[i].y + 0.5) * at[3] / image.height;
    canvas.frame(x - 4, y - 4, 8, 8, "#d55e00", 1.2);
  }
  constexpr int kSteps = 100;
  const double y = at[1] + at[3] + 12;
  for (int i = 0; i < kSteps; ++i) {
    canvas.fill(at[0] + 60 + i * (at[2] - 120) / kSteps,
                y,
                (at[2] - 120) / kSteps + 1,
                12,
                hex(mixed(kRising, (i + 0.5) / kSteps)));
  }
  const auto label = [&](double text_y, const std::string& text, Align align) {
    canvas.text(at[0], text_y, at[2], text, 12, align, "#555555");
  };
  label(y + 14, short_number(100 * r.target / 32, 2) + " %", Align::kLeft);
  label(y + 14, "the target", Align::kCenter);
  label(y + 14, short_number(100 * r.target * 32, 3) + " %", Align::kRight);
  label(y + 32,
        fmt::format("noise of each pixel; framed: {}",
                    r.fireflies.size() > kMarked ? fmt::format("the {} worst fireflies", kMarked)
                                                 : "fireflies"),
        Align::kCenter);
}

// A bar for each light by its share of the noise, divided among its parts where these are known.
void noise_of_lights(Canvas& canvas, const NoiseReport& r) {
  const double x = 870, wide = kWidth - x - kMargin;
  canvas.text(x, 52, wide, "share of the noise", 14, Align::kLeft, "#222222", true);
  double row = 80;
  const std::array<std::string, 4> part_colors = {
      curve_color(0), curve_color(1), curve_color(2), curve_color(4)};
  std::vector<NoiseReport::Light> lights = r.by_light;
  std::stable_sort(lights.begin(), lights.end(), [](const auto& a, const auto& b) {
    return a.noise_share > b.noise_share;
  });
  for (const NoiseReport::Light& l : lights) {
    if (l.noise_share < 0.002 || row > 440) {
      break;
    }
    canvas.text(x, row, 150, l.name, 13);
    double from = x + 156;
    const double length = (wide - 156 - 60) * l.noise_share;
    const bool by_part = !l.noise_parts.empty() &&
                         std::all_of(l.noise_parts.begin(), l.noise_parts.end(), [](double p) {
                           return std::isfinite(p);
                         });
    if (!by_part) {
      canvas.fill(from, row + 2, std::max(1.0, length), 14, "#777777");
    }
    for (std::size_t p = 0; by_part && p < l.noise_parts.size(); ++p) {
      canvas.fill(from, row + 2, length * l.noise_parts[p], 14, part_colors[p]);
      from += length * l.noise_parts[p];
    }
    canvas.text(
        x, row, wide, short_number(100 * l.noise_share, 3) + " %", 13, Align::kRight, "#555555");
    row += 24;
  }
  if (r.by_light.empty() || r.by_light[0].parts.empty()) {
    return;
  }
  for (std::size_t p = 0; p < kPartNames.size(); ++p) {
    const double part_x = x + 80 * static_cast<double>(p);
    canvas.fill(part_x, row + 12, 12, 12, part_colors[p]);
    canvas.text(part_x + 18, row + 8, 62, kPartNames[p], 13, Align::kLeft, "#555555");
  }
}

// The noise over the samples so far, and as it is expected to go on.
Plot noise_history(const NoiseReport& r) {
  Plot plot;
  plot.x_label = "samples a pixel";
  plot.y_label = "noise [%]";
  plot.log_x = plot.log_y = true;
  plot.legend = "outside right top";
  Curve p95, median, goal, ahead;
  p95.name = "95 % of pixels below";
  median.name = "median";
  median.color = curve_color(4);
  goal.name = "target";
  goal.color = "#d55e00";
  goal.dash = 1;
  ahead.name = fmt::format("95 %, as samples^-{:.2f}", r.order);
  ahead.dash = 2;
  for (const auto& m : r.history) {
    p95.x.push_back(m.samples);
    p95.y.push_back(100 * m.p95);
    median.x.push_back(m.samples);
    median.y.push_back(100 * m.median);
  }
  const double last =
      std::isfinite(r.samples_needed) ? std::max(r.samples_needed, r.samples) : r.samples;
  for (int i = 0; i <= 20; ++i) {
    const double s = r.samples * std::pow(last / r.samples, i / 20.0);
    ahead.x.push_back(s);
    ahead.y.push_back(100 * r.p95 * std::pow(s / r.samples, -r.order));
  }
  goal.x = {r.history.front().samples, last};
  goal.y = {100 * r.target, 100 * r.target};
  // A lone moment is no line.
  plot.curves = r.history.size() > 1 ? std::vector<Curve>{p95, median, ahead, goal}
                                     : std::vector<Curve>{ahead, goal};
  return plot;
}

}  // namespace

void noise_figure(const std::string& path,
                  const RenderedImage& image,
                  const NoiseReport& r,
                  const std::string& title) {
  constexpr int kMapEnd = 572;
  // Of few samples there is no history yet, and no empty page in its place.
  Canvas canvas(kWidth, r.history.empty() ? kMapEnd : kHeight);
  canvas.text(kMargin,
              16,
              kWidth - 2 * kMargin,
              fmt::format("{}: median {} %, 95 % below {} %, target {} %, {} fireflies",
                          title,
                          short_number(100 * r.median, 3),
                          short_number(100 * r.p95, 3),
                          short_number(100 * r.target, 3),
                          r.fireflies.size()),
              18,
              Align::kLeft,
              "#222222",
              true);
  noise_map(canvas, image, r);
  noise_of_lights(canvas, r);
  if (!r.history.empty()) {
    draw(canvas, noise_history(r), 10, kMapEnd, kWidth - 20, 222);
  }
  canvas.save(path);
}

namespace {

// Where the grid lies, how sure its values are, and what a frame means.
std::string grid_note(const MeterSpec& meter, const MeterResult& result, const std::string& unit) {
  const auto least_sure = std::max_element(result.readings.begin(),
                                           result.readings.end(),
                                           [](const MeterReading& a, const MeterReading& b) {
                                             return a.standard_error < b.standard_error;
                                           });
  std::string note = fmt::format(
      "from ({}, {}, {}) m, lower left, to ({}, {}, {}) m; standard error at most {} {}",
      short_number(meter.grid->from.x()),
      short_number(meter.grid->from.y()),
      short_number(meter.grid->from.z()),
      short_number(meter.grid->to.x()),
      short_number(meter.grid->to.y()),
      short_number(meter.grid->to.z()),
      short_number(least_sure->standard_error, 2),
      unit);
  if (meter.target) {
    note += fmt::format("; framed: outside {} to {} {}",
                        short_number(meter.target->first),
                        short_number(meter.target->second),
                        unit);
  }
  return note;
}

struct GridCell {
  double x, y, width, height;  // [pixels]
};

// A value in a cell whose color rises with its share of the grid's range.
void draw_cell(
    Canvas& canvas, const MeterReading& r, double share, const GridCell& cell, double size) {
  canvas.fill(cell.x, cell.y, cell.width - 1, cell.height - 1, hex(mixed(kRising, share)));
  const std::string color = share > 0.55 ? "#111111" : "#ffffff";
  canvas.text(cell.x,
              cell.y + cell.height / 2 - size,
              cell.width - 1,
              short_number(r.value, 3),
              size,
              Align::kCenter,
              color,
              true);
  if (r.verdict == MeterReading::Verdict::kFail) {
    canvas.frame(cell.x + 2, cell.y + 2, cell.width - 5, cell.height - 5, "#d55e00", 3);
  }
}

}  // namespace

void grid_figure(const std::string& path, const MeterSpec& meter, const MeterResult& result) {
  constexpr double kTop = 64, kBelow = 48;  // title, note
  const int nx = meter.grid->count[0], ny = meter.grid->count[1];
  const double w = kWidth - 2 * kMargin, h = kHeight - 150, cw = w / nx,
               ch = std::min(h / ny, cw * 1.2);
  // No higher than its cells: a row of points leaves no empty page below it.
  Canvas canvas(kWidth, static_cast<int>(std::ceil(kTop + ny * ch + kBelow)));
  const std::string unit = meter.luminance ? "cd/m\u00b2" : "lx";
  canvas.text(kMargin,
              18,
              kWidth - 2 * kMargin,
              fmt::format("{}: {} x {} points, average {} {}, minimum {}, uniformity U\u2080 {}",
                          meter.name,
                          nx,
                          ny,
                          short_number(result.average, 3),
                          unit,
                          short_number(result.minimum, 3),
                          short_number(result.uniformity(), 2)),
              19,
              Align::kLeft,
              "#222222",
              true);
  double lo = HUGE_VAL, hi = 0;
  for (const MeterReading& r : result.readings) {
    lo = std::min(lo, r.value);
    hi = std::max(hi, r.value);
  }
  const double size = std::clamp(std::min(cw / 5, ch / 3), 7.0, 18.0);
  for (int v = 0; v < ny; ++v) {
    for (int u = 0; u < nx; ++u) {
      const MeterReading& r = result.readings[static_cast<std::size_t>(v * nx + u)];
      const double share = hi > lo ? (r.value - lo) / (hi - lo) : 0.5;
      // The second axis upwards.
      draw_cell(canvas, r, share, {kMargin + u * cw, kTop + (ny - 1 - v) * ch, cw, ch}, size);
    }
  }
  canvas.text(
      kMargin, kTop + ny * ch + 14, w, grid_note(meter, result, unit), 14, Align::kLeft, "#444444");
  canvas.save(path);
}

}  // namespace jovilux::figures
