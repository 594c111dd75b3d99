#include "figures/canvas.h"

#include "jovilux/base/assert.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/png.h"

#include <algorithm>
#include <array>
#include <cmath>

#include <pango/pangocairo.h>

namespace jovilux::figures {

struct Canvas::Inside {
  cairo_surface_t* surface = nullptr;
  cairo_t* cairo = nullptr;

  ~Inside() {
    cairo_destroy(cairo);
    cairo_surface_destroy(surface);
  }
  void color(const std::string& hex) const {
    const auto byte = [&](std::size_t at) {
      return std::stoi(hex.substr(at, 2), nullptr, 16) / 255.0;
    };
    JOVILUX_ASSERT(hex.size() == 7);
    cairo_set_source_rgb(cairo, byte(1), byte(3), byte(5));
  }
  PangoLayout* layout(const std::string& s, double size, bool bold) const {
    PangoLayout* out = pango_cairo_create_layout(cairo);
    PangoFontDescription* font = pango_font_description_from_string("DejaVu Sans");
    pango_font_description_set_absolute_size(font, size * PANGO_SCALE);
    pango_font_description_set_weight(font, bold ? PANGO_WEIGHT_BOLD : PANGO_WEIGHT_NORMAL);
    pango_layout_set_font_description(out, font);
    pango_font_description_free(font);
    char* valid = g_utf8_make_valid(s.c_str(), static_cast<gssize>(s.size()));
    pango_layout_set_text(out, valid, -1);
    g_free(valid);
    return out;
  }
};

Canvas::Canvas(int width, int height) : inside_(std::make_unique<Inside>()) {
  inside_->surface = cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height);
  inside_->cairo = cairo_create(inside_->surface);
  if (cairo_status(inside_->cairo) != CAIRO_STATUS_SUCCESS) {
    throw MachineTrouble(std::string("drawing a figure: ") +
                         cairo_status_to_string(cairo_status(inside_->cairo)));
  }
  fill(0, 0, width, height, "#ffffff");
}

Canvas::~Canvas() = default;

void Canvas::text(double x,
                  double y,
                  double width,
                  const std::string& s,
                  double size,
                  Align align,
                  const std::string& color,
                  bool bold) {
  PangoLayout* layout = inside_->layout(s, size, bold);
  pango_layout_set_width(layout, static_cast<int>(width * PANGO_SCALE));
  pango_layout_set_ellipsize(layout, PANGO_ELLIPSIZE_MIDDLE);
  pango_layout_set_alignment(layout,
                             align == Align::kLeft     ? PANGO_ALIGN_LEFT
                             : align == Align::kCenter ? PANGO_ALIGN_CENTER
                                                       : PANGO_ALIGN_RIGHT);
  inside_->color(color);
  cairo_move_to(inside_->cairo, x, y);
  pango_cairo_show_layout(inside_->cairo, layout);
  g_object_unref(layout);
}

double Canvas::text_width(const std::string& s, double size, bool bold) const {
  PangoLayout* layout = inside_->layout(s, size, bold);
  int w = 0, h = 0;
  pango_layout_get_size(layout, &w, &h);
  g_object_unref(layout);
  return static_cast<double>(w) / PANGO_SCALE;
}

void Canvas::fill(double x, double y, double w, double h, const std::string& color) {
  inside_->color(color);
  cairo_rectangle(inside_->cairo, x, y, w, h);
  cairo_fill(inside_->cairo);
}

void Canvas::frame(double x, double y, double w, double h, const std::string& color, double line) {
  inside_->color(color);
  cairo_set_line_width(inside_->cairo, line);
  cairo_rectangle(inside_->cairo, x, y, w, h);
  cairo_stroke(inside_->cairo);
}

void Canvas::line(
    double x0, double y0, double x1, double y1, const std::string& color, double line) {
  inside_->color(color);
  cairo_set_line_width(inside_->cairo, line);
  cairo_move_to(inside_->cairo, x0, y0);
  cairo_line_to(inside_->cairo, x1, y1);
  cairo_stroke(inside_->cairo);
}

void Canvas::picture(double x, double y, const std::string& png_file) {
  cairo_surface_t* png = cairo_image_surface_create_from_png(png_file.c_str());
  const cairo_status_t status = cairo_surface_status(png);
  if (status == CAIRO_STATUS_SUCCESS) {
    cairo_set_source_surface(inside_->cairo, png, x, y);
    cairo_paint(inside_->cairo);
  }
  cairo_surface_destroy(png);
  if (status != CAIRO_STATUS_SUCCESS) {
    throw MachineTrouble(png_file + ": " + cairo_status_to_string(status));
  }
}

std::array<double, 4> Canvas::fitted(
    double x, double y, double w, double h, const std::string& png_file) {
  cairo_surface_t* png = cairo_image_surface_create_from_png(png_file.c_str());
  const cairo_status_t status = cairo_surface_status(png);
  std::array<double, 4> out = {x, y, w, h};
  if (status == CAIRO_STATUS_SUCCESS) {
    const double pw = cairo_image_surface_get_width(png), ph = cairo_image_surface_get_height(png),
                 s = std::min(w / pw, h / ph);
    out = {x + (w - s * pw) / 2, y + (h - s * ph) / 2, s * pw, s * ph};
    cairo_save(inside_->cairo);
    cairo_translate(inside_->cairo, out[0], out[1]);
    cairo_scale(inside_->cairo, s, s);
    cairo_set_source_surface(inside_->cairo, png, 0, 0);
    cairo_pattern_set_filter(cairo_get_source(inside_->cairo),
                             s < 1 ? CAIRO_FILTER_GOOD : CAIRO_FILTER_NEAREST);
    cairo_paint(inside_->cairo);
    cairo_restore(inside_->cairo);
  }
  cairo_surface_destroy(png);
  if (status != CAIRO_STATUS_SUCCESS) {
    throw MachineTrouble(png_file + ": " + cairo_status_to_string(status));
  }
  return out;
}

void Canvas::pixels(double x,
                    double y,
                    double w,
                    double h,
                    int width,
                    int height,
                    const std::vector<std::uint8_t>& rgb) {
  JOVILUX_ASSERT(rgb.size() ==
                 3 * static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
  cairo_surface_t* image = cairo_image_surface_create(CAIRO_FORMAT_RGB24, width, height);
  if (cairo_surface_status(image) != CAIRO_STATUS_SUCCESS) {
    const std::string why = cairo_status_to_string(cairo_surface_status(image));
    cairo_surface_destroy(image);
    throw MachineTrouble("drawing a figure: " + why);
  }
  unsigned char* data = cairo_image_surface_get_data(image);
  const int stride = cairo_image_surface_get_stride(image);
  for (int v = 0; v < height; ++v) {
    auto* row = reinterpret_cast<std::uint32_t*>(data + static_cast<std::ptrdiff_t>(v) * stride);
    for (int u = 0; u < width; ++u) {
      const std::uint8_t* p =
          rgb.data() + 3 * (static_cast<std::size_t>(v) * static_cast<std::size_t>(width) +
                            static_cast<std::size_t>(u));
      row[u] =
          static_cast<std::uint32_t>(p[0]) << 16 | static_cast<std::uint32_t>(p[1]) << 8 | p[2];
    }
  }
  cairo_surface_mark_dirty(image);
  cairo_save(inside_->cairo);
  cairo_translate(inside_->cairo, x, y);
  cairo_scale(inside_->cairo, w / width, h / height);
  cairo_set_source_surface(inside_->cairo, image, 0, 0);
  cairo_pattern_set_filter(cairo_get_source(inside_->cairo),
                           w < width ? CAIRO_FILTER_GOOD : CAIRO_FILTER_NEAREST);
  cairo_paint(inside_->cairo);
  cairo_restore(inside_->cairo);
  cairo_surface_destroy(image);
}

void Canvas::save(const std::string& path) const {
  cairo_surface_flush(inside_->surface);
  const int width = cairo_image_surface_get_width(inside_->surface),
            height = cairo_image_surface_get_height(inside_->surface);
  const unsigned char* data = cairo_image_surface_get_data(inside_->surface);
  const int stride = cairo_image_surface_get_stride(inside_->surface);
  std::vector<std::uint8_t> rgb;
  rgb.reserve(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 3);
  for (int y = 0; y < height; ++y) {
    const auto* row =
        reinterpret_cast<const std::uint32_t*>(data + static_cast<std::ptrdiff_t>(y) * stride);
    for (int x = 0; x < width; ++x) {
      rgb.push_back(static_cast<std::uint8_t>(row[x] >> 16));
      rgb.push_back(static_cast<std::uint8_t>(row[x] >> 8));
      rgb.push_back(static_cast<std::uint8_t>(row[x]));
    }
  }
  write_png(path, width, height, rgb);
}

std::string curve_color(std::size_t index) {
  static constexpr std::array<const char*, 7> kColors = {
      "#0072b2", "#d55e00", "#009e73", "#cc79a7", "#56b4e9", "#e69f00", "#000000"};
  return kColors[index % kColors.size()];
}

}  // namespace jovilux::figures
