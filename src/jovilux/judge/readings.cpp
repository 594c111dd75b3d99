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
namespace {

Problem image_fault(const std::string& path, std::string code, std::string text, std::string hint) {
  return {Severity::kError, std::move(code), {path, 0, 0}, "", std::move(text), std::move(hint)};
}

// The channels that readings are made of: the picture's, its error's where that is there, and three
// of each light.
struct ReadChannels {
  std::vector<std::string> names = {"R", "G", "B"};
  bool has_error = false;
  std::vector<std::string> lights;

  std::size_t first_of_light(std::size_t light) const { return (has_error ? 4 : 3) + 3 * light; }
};

ReadChannels channels_in(const ExrReader& file, const std::string& error) {
  ReadChannels out;
  out.has_error = file.has(error);
  if (out.has_error) {
    out.names.push_back(error);
  }
  for (const std::string& c : file.channels()) {
    // light.NAME.R, not the parts light.NAME.direct.R
    if (c.starts_with("light.") && c.ends_with(".R") && std::count(c.begin(), c.end(), '.') == 2) {
      const std::string stem = c.substr(0, c.size() - 1);
      if (file.has(stem + "G") && file.has(stem + "B")) {
        out.lights.push_back(c.substr(6, c.size() - 8));
        for (const char* letter : {"R", "G", "B"}) {
          out.names.push_back(stem + letter);
        }
      }
    }
  }
  return out;
}

std::optional<Problem> outside(const std::string& path,
                               const PixelBox& box,
                               int width,
                               int height) {
  if (box.x >= 0 && box.y >= 0 && box.width >= 1 && box.height >= 1 && box.x <= width - box.width &&
      box.y <= height - box.height) {
    return std::nullopt;
  }
  return image_fault(
      path,
      "out-of-range",
      box.width == 1 && box.height == 1
          ? fmt::format("pixel {},{} is outside the picture", box.x, box.y)
          : fmt::format(
                "box {},{},{},{} is not inside the picture", box.x, box.y, box.width, box.height),
      fmt::format("x runs from 0 to {}, y from 0 (top) to {}", width - 1, height - 1));
}

// A box's reading from its values, [channel][pixel]. `scale`: of the file's numbers [cd/m2].
Reading reading_of(const PixelBox& box,
                   const std::vector<std::vector<float>>& data,
                   const ReadChannels& channels,
                   double scale,
                   bool denoised,
                   const std::optional<View>& view) {
  Reading r;
  r.box = box;
  const std::size_t n = data[0].size();
  const auto count = static_cast<double>(n);
  double variance = 0;
  std::size_t clipped = 0;
  for (std::size_t i = 0; i < n; ++i) {
    const Rgb rgb = Rgb(data[0][i], data[1][i], data[2][i]) * scale;
    r.rgb += rgb / count;
    clipped += view && view->clips(rgb) ? 1 : 0;
    variance +=
        channels.has_error ? data[3][i] * scale * scale : std::numeric_limits<double>::quiet_NaN();
  }
  const Eigen::Vector3d y = xyz_from_rec709().row(1);
  r.luminance = y.dot(r.rgb);
  r.standard_error = std::sqrt(variance / count / independent_pixels(count, denoised));
  r.ev100 = r.luminance > 0 ? ev100(Nits{r.luminance}) : -std::numeric_limits<double>::infinity();
  r.clipped = static_cast<double>(clipped) / count;
  for (std::size_t l = 0; l < channels.lights.size(); ++l) {
    double sum = 0;
    for (int c = 0; c < 3; ++c) {
      for (const float v : data[channels.first_of_light(l) + static_cast<std::size_t>(c)]) {
        sum += y[c] * v;
      }
    }
    r.layers.emplace_back(channels.lights[l], sum * scale / count);
  }
  return r;
}

}  // namespace

Result<ImageReadings> read_image(const std::string& path, const std::vector<PixelBox>& boxes) {
  auto file = ExrReader::open(path);
  if (!file) {
    return file.problems();
  }
  for (const char* channel : {"R", "G", "B"}) {
    if (!file->has(channel)) {
      return image_fault(path,
                         "bad-image",
                         fmt::format("has no channel {}", channel),
                         "read an image.exr made by jovilux render");
    }
  }
  ImageReadings out;
  out.width = file->header().width;
  out.height = file->header().height;
  out.absolute = file->has_white_luminance();
  out.denoised = file->header().texts.contains(kDenoisedAttribute);
  const auto look = recorded_look(file->header(), path);
  const std::optional<View> view = look ? std::optional(look->view) : std::nullopt;
  out.has_view = view.has_value();
  const ReadChannels channels = channels_in(*file, out.denoised ? "error.V" : "variance.V");
  out.has_error = channels.has_error;
  for (const PixelBox& box : boxes) {
    if (auto fault = outside(path, box, out.width, out.height)) {
      return std::move(*fault);
    }
    const auto data = file->read(channels.names, box.x, box.y, box.width, box.height);
    if (!data) {
      return data.problems();
    }
    out.readings.push_back(
        reading_of(box, *data, channels, file->header().white_luminance, out.denoised, view));
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
