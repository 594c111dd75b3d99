#include "jovilux/judge/readings.h"

#include "jovilux/files/exr.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/photometry/exposure.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/render/view.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
Result<ImageReadings> read_image(const std::string& path, const std::vector<PixelBox>& boxes) {
  auto file = ExrReader::open(path);
  if (!file) {
    return file.problems();
  }
  const auto fail = [&](std::string code, std::string text, std::string hint) {
    return Problem{
        Severity::kError, std::move(code), {path, 0, 0}, "", std::move(text), std::move(hint)};
  };
  for (const char* channel : {"R", "G", "B"}) {
    if (!file->has(channel)) {
      return fail("bad-image",
                  fmt::format("has no channel {}", channel),
                  "read an image.exr made by jovilux render");
    }
  }
  ImageReadings out;
  out.width = file->header().width;
  out.height = file->header().height;
  out.absolute = file->has_white_luminance();
  out.denoised = file->header().texts.contains(kDenoisedAttribute);
  const std::string error = out.denoised ? "error.V" : "variance.V";
  out.has_error = file->has(error);
  const auto look = recorded_look(file->header(), path);
  const std::optional<View> view = look ? std::optional(look->view) : std::nullopt;
  out.has_view = view.has_value();

  std::vector<std::string> channels = {"R", "G", "B"};
  if (out.has_error) {
    channels.push_back(error);
  }
  const std::size_t first_layer = channels.size();
  std::vector<std::string> lights;
  for (const std::string& c : file->channels()) {
    // light.NAME.R, not the parts light.NAME.direct.R
    if (c.starts_with("light.") && c.ends_with(".R") && std::count(c.begin(), c.end(), '.') == 2) {
      const std::string stem = c.substr(0, c.size() - 1);
      if (file->has(stem + "G") && file->has(stem + "B")) {
        lights.push_back(c.substr(6, c.size() - 8));
        for (const char* letter : {"R", "G", "B"}) {
          channels.push_back(stem + letter);
        }
      }
    }
  }
  const Eigen::Vector3d y = xyz_from_rec709().row(1);
  const double scale = file->header().white_luminance;
  for (const PixelBox& box : boxes) {
    if (box.x < 0 || box.y < 0 || box.width < 1 || box.height < 1 ||
        box.x > out.width - box.width || box.y > out.height - box.height) {
      return fail(
          "out-of-range",
          box.width == 1 && box.height == 1
              ? fmt::format("pixel {},{} is outside the picture", box.x, box.y)
              : fmt::format("box {},{},{},{} is not inside the picture",
                            box.x,
                            box.y,
                            box.width,
                            box.height),
          fmt::format("x runs from 0 to {}, y from 0 (top) to {}", out.width - 1, out.height - 1));
    }
    const auto data = file->read(channels, box.x, box.y, box.width, box.height);
    if (!data) {
      return data.problems();
    }
    Reading r;
    r.box = box;
    const std::size_t n = (*data)[0].size();
    double variance = 0;
    std::size_t clipped = 0;
    for (std::size_t i = 0; i < n; ++i) {
      const Rgb rgb = Rgb((*data)[0][i], (*data)[1][i], (*data)[2][i]) * scale;
      r.rgb += rgb / static_cast<double>(n);
      clipped += view && view->clips(rgb) ? 1 : 0;
      variance +=
          out.has_error ? (*data)[3][i] * scale * scale : std::numeric_limits<double>::quiet_NaN();
    }
    r.luminance = y.dot(r.rgb);
    r.standard_error = std::sqrt(variance / static_cast<double>(n) /
                                 independent_pixels(static_cast<double>(n), out.denoised));
    r.ev100 = r.luminance > 0 ? ev100(Nits{r.luminance}) : -std::numeric_limits<double>::infinity();
    r.clipped = static_cast<double>(clipped) / static_cast<double>(n);
    for (std::size_t l = 0; l < lights.size(); ++l) {
      double sum = 0;
      for (int c = 0; c < 3; ++c) {
        const auto& values = (*data)[first_layer + 3 * l + static_cast<std::size_t>(c)];
        for (const float v : values) {
          sum += y[c] * v;
        }
      }
      r.layers.emplace_back(lights[l], sum * scale / static_cast<double>(n));
    }
    out.readings.push_back(std::move(r));
  }
  return out;
}

std::vector<PixelBox> pixels_of_line(int x0, int y0, int x1, int y1) {
  const int steps = std::max(std::abs(x1 - x0), std::abs(y1 - y0));
  std::vector<PixelBox> out;
  for (int i = 0; i <= steps; ++i) {
    const double t = steps > 0 ? static_cast<double>(i) / steps : 0;
    out.push_back({static_cast<int>(std::lround(x0 + t * (x1 - x0))),
                   static_cast<int>(std::lround(y0 + t * (y1 - y0))),
                   1,
                   1});
  }
  return out;
}

}  // namespace jovilux
