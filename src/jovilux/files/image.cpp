#include "jovilux/files/image.h"

#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/png.h"
#include "jovilux/files/radiance_hdr.h"
#include "jovilux/files/read_file.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <limits>

#include <fmt/format.h>
#include <png.h>

namespace jovilux {

Problem image_fault(const std::string& path, std::string text) {
  return {Severity::kError, "bad-image", {path, 0, 0}, "", std::move(text), ""};
}

namespace {

Result<std::string> bytes_of(const std::string& path) {
  return read_file(path, 4ULL << 30, "bad-image");
}

// The number of bytes that the rows of a picture unpack to at least, by the depth and color type in
// a PNG's header.
std::uint64_t least_picture_bytes(const std::string& bytes,
                                  std::uint64_t width,
                                  std::uint64_t height) {
  constexpr std::size_t kDepth = 24, kColorType = 25;
  const auto depth = static_cast<unsigned char>(bytes[kDepth]);
  const int type = static_cast<unsigned char>(bytes[kColorType]);
  const std::uint64_t channels = type == PNG_COLOR_TYPE_RGB          ? 3
                                 : type == PNG_COLOR_TYPE_RGB_ALPHA  ? 4
                                 : type == PNG_COLOR_TYPE_GRAY_ALPHA ? 2
                                                                     : 1;
  return width * height * channels * depth / 8 + height;
}

Result<LinearImage> load_png(const std::string& path, bool encoded) {
  const auto bytes = bytes_of(path);
  return bytes ? load_png_bytes(*bytes, path, encoded) : Result<LinearImage>(bytes.problems());
}

Result<LinearImage> load_radiance_hdr(const std::string& path) {
  const auto bytes = bytes_of(path);
  return bytes ? read_radiance_hdr(*bytes, path) : Result<LinearImage>(bytes.problems());
}

Result<LinearImage> load_exr(const std::string& path) {
  auto reader = ExrReader::open(path);
  if (!reader) {
    return reader.problems();
  }
  const ExrHeader& h = reader->header();
  if (static_cast<std::uint64_t>(h.width) * static_cast<std::uint64_t>(h.height) >
      kMaxImagePixels) {
    return image_fault(
        path, fmt::format("{} x {} pixels; at most {}", h.width, h.height, kMaxImagePixels));
  }
  // Y alone is a gray picture; beside R, G and B it is one more layer.
  const bool gray = !reader->has("R") && reader->has("Y");
  if (!gray && !(reader->has("R") && reader->has("G") && reader->has("B"))) {
    return image_fault(path, "has no channels R, G, B");
  }
  const auto planes =
      reader->read(gray ? std::vector<std::string>{"Y"} : std::vector<std::string>{"R", "G", "B"},
                   0,
                   0,
                   h.width,
                   h.height);
  if (!planes) {
    return planes.problems();
  }
  LinearImage out{h.width, h.height, {}};
  const std::size_t pixels = (*planes)[0].size();
  out.rgb.resize(pixels * 3);
  // A picture that states its white luminance is in cd/m2 after this factor.
  const auto scale = static_cast<float>(reader->has_white_luminance() ? h.white_luminance : 1.0);
  std::size_t broken = 0;
  for (std::size_t i = 0; i < pixels; ++i) {
    for (std::size_t c = 0; c < 3; ++c) {
      const float v = (*planes)[gray ? 0 : c][i] * scale;
      broken += std::isfinite(v) ? 0 : 1;
      out.rgb[i * 3 + c] = std::isfinite(v) ? std::max(0.0f, v) : 0.0f;
    }
  }
  Problems warnings;
  if (broken > 0) {
    warnings.push_back({Severity::kWarning,
                        "bad-image",
                        {path, 0, 0},
                        "",
                        fmt::format("{} values are not finite", broken),
                        "they are taken as 0"});
  }
  return {std::move(out), std::move(warnings)};
}

}  // namespace

Result<LinearImage> load_png_bytes(const std::string& bytes,
                                   const std::string& path,
                                   bool encoded) {
  struct Reader {
    png_image image{};
    ~Reader() { png_image_free(&image); }
  } reader;
  png_image& image = reader.image;
  image.version = PNG_IMAGE_VERSION;
  if (bytes.starts_with("\x89PNG") && !png_chunks_fit(bytes)) {
    return image_fault(
        path,
        fmt::format("damaged PNG: a part of it claims more than its {} bytes hold", bytes.size()));
  }
  if (png_image_begin_read_from_memory(&image, bytes.data(), bytes.size()) == 0) {
    return image_fault(path,
                       fmt::format("not a PNG that can be read: {}", printable(image.message)));
  }
  if (static_cast<std::uint64_t>(image.width) * image.height > kMaxImagePixels) {
    return image_fault(
        path,
        fmt::format("{} x {} pixels; at most {}", image.width, image.height, kMaxImagePixels));
  }
  // No memory for what is not there.
  if (png_picture_bytes(bytes) < least_picture_bytes(bytes, image.width, image.height)) {
    return image_fault(
        path,
        fmt::format("damaged PNG: claims {} x {} pixels, more than its {} bytes hold",
                    image.width,
                    image.height,
                    bytes.size()));
  }
  const std::map<std::string, std::string> texts = png_texts(bytes);
  const bool deep = (image.format & PNG_FORMAT_FLAG_LINEAR) != 0;
  LinearImage out{static_cast<int>(image.width), static_cast<int>(image.height), {}, texts};
  const auto read = [&](auto& pixels) {
    return png_image_finish_read(&image, nullptr, pixels.data(), 0, nullptr) != 0;
  };
  if (deep) {
    image.flags |= encoded ? PNG_IMAGE_FLAG_16BIT_sRGB : 0U;
    image.format = PNG_FORMAT_LINEAR_RGB_ALPHA;  // 16 bit, linear, multiplied by alpha
    std::vector<png_uint_16> pixels(PNG_IMAGE_SIZE(image) / sizeof(png_uint_16));
    if (!read(pixels)) {
      return image_fault(path, fmt::format("damaged PNG: {}", printable(image.message)));
    }
    out.rgb.reserve(pixels.size() / 4 * 3);
    for (std::size_t i = 0; i < pixels.size(); ++i) {
      if (i % 4 != 3) {
        out.rgb.push_back(static_cast<float>(pixels[i]) / 65535.0f);
      }
    }
  } else {
    // As they are in the file; the library's own decoding is a power of 2.2.
    image.format = PNG_FORMAT_RGBA;
    std::array<float, 256> value{};
    for (std::size_t i = 0; i < value.size(); ++i) {
      const double v = static_cast<double>(i) / 255;
      value[i] = static_cast<float>(encoded ? srgb_decoded(v) : v);
    }
    std::vector<png_byte> pixels(PNG_IMAGE_SIZE(image));
    if (!read(pixels)) {
      return image_fault(path, fmt::format("damaged PNG: {}", printable(image.message)));
    }
    out.rgb.reserve(pixels.size() / 4 * 3);
    for (std::size_t i = 0; i < pixels.size(); ++i) {
      if (i % 4 != 3) {
        out.rgb.push_back(value[pixels[i]] * static_cast<float>(pixels[i / 4 * 4 + 3]) / 255.0f);
      }
    }
  }
  return out;
}

Result<LinearImage> load_image(const std::string& path, bool encoded) {
  const std::string ending = file_ending(path);
  return ending == ".png"   ? load_png(path, encoded)
         : ending == ".hdr" ? load_radiance_hdr(path)
                            : load_exr(path);
}

}  // namespace jovilux
