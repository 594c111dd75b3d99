#include "jovilux/files/image.h"

#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/png.h"
#include "jovilux/files/read_file.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <limits>

#include <fmt/format.h>
#include <png.h>

namespace jovilux {
namespace {

Problem image_fault(const std::string& path, std::string text) {
  return {Severity::kError, "bad-image", {path, 0, 0}, "", std::move(text), ""};
}

Result<std::string> bytes_of(const std::string& path) {
  return read_file(path, 4ULL << 30, "bad-image");
}

// What the rows of a picture unpack to at least, by the depth and color type of a PNG's header.
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

// Source: G. Ward, "Real Pixels", in Graphics Gems II, 1991; the picture format's own description.
Result<LinearImage> load_hdr(const std::string& path) {
  const auto read = bytes_of(path);
  if (!read) {
    return read.problems();
  }
  const std::string& b = *read;
  std::size_t at = 0;
  const auto line = [&](std::string& out) {
    const auto end = b.find('\n', at);
    if (end == std::string::npos || end - at > 4096) {
      return false;
    }
    out = b.substr(at, end - at);
    if (out.ends_with('\r')) {
      out.pop_back();
    }
    at = end + 1;
    return true;
  };
  std::string text;
  if (!line(text) || !text.starts_with("#?")) {
    return image_fault(path, "not a Radiance HDR: it does not begin with #?");
  }
  double exposure = 1;
  while (true) {
    if (!line(text)) {
      return image_fault(path, "the header has no end");
    }
    if (text.empty()) {
      break;
    }
    if (text.starts_with("FORMAT=") && text != "FORMAT=32-bit_rle_rgbe") {
      return image_fault(path, fmt::format("{}; only 32-bit_rle_rgbe is read", printable(text)));
    }
    if (text.starts_with("EXPOSURE=")) {
      const auto v = parse_number(std::string_view(text).substr(9));
      if (!v || !(*v > 0)) {
        return image_fault(path, fmt::format("{}; expected a number above 0", printable(text)));
      }
      exposure *= *v;
    }
  }
  constexpr double kMostExposure = 1e30;
  if (!(exposure >= 1 / kMostExposure && exposure <= kMostExposure)) {
    return image_fault(
        path, fmt::format("an exposure of {}; expected 1e-30 to 1e30", short_number(exposure)));
  }
  if (!line(text)) {
    return image_fault(path, "has no size");
  }
  // "-Y height +X width": rows from the top.
  int height = 0, width = 0;
  {
    std::array<std::string, 4> words;
    std::size_t n = 0, p = 0;
    while (p < text.size() && n < 4) {
      const auto end = std::min(text.find(' ', p), text.size());
      words[n++] = text.substr(p, end - p);
      p = end + 1;
    }
    const auto h = parse_number(words[1]), w = parse_number(words[3]);
    if (n != 4 || words[0] != "-Y" || words[2] != "+X" || !h || !w || *h < 1 || *w < 1 ||
        *h > 1e6 || *w > 1e6 || *h != std::floor(*h) || *w != std::floor(*w)) {
      return image_fault(path,
                         fmt::format("size \"{}\"; expected -Y height +X width", printable(text)));
    }
    height = static_cast<int>(*h);
    width = static_cast<int>(*w);
  }
  const auto w = static_cast<std::size_t>(width);
  // A compressed row takes at least 4 bytes and 2 for each run of 127 in each of 4 components.
  if (static_cast<std::uint64_t>(w) * static_cast<std::uint64_t>(height) > kMaxImagePixels ||
      static_cast<std::uint64_t>(height) * std::min<std::uint64_t>(4 * w, 4 + 8 * (w / 127)) >
          b.size() - at + 4) {
    return image_fault(
        path, fmt::format("{} x {} pixels do not fit into {} bytes", width, height, b.size()));
  }
  LinearImage out{width, height, std::vector<float>(w * static_cast<std::size_t>(height) * 3)};
  std::vector<unsigned char> row(w * 4);
  const auto byte = [&](std::size_t i) { return static_cast<unsigned char>(b[i]); };
  for (int y = 0; y < height; ++y) {
    const auto short_file = [&] {
      return image_fault(path, fmt::format("ends in row {} of {}", y + 1, height));
    };
    if (b.size() - at < 4) {
      return short_file();
    }
    if (width >= 8 && width < 32768 && byte(at) == 2 && byte(at + 1) == 2 && byte(at + 2) < 128) {
      if (static_cast<int>(byte(at + 2)) << 8 != (width & 0xff00) ||
          byte(at + 3) != (width & 0xff)) {
        return image_fault(path, fmt::format("row {} has another width", y + 1));
      }
      at += 4;
      for (std::size_t c = 0; c < 4; ++c) {
        for (std::size_t x = 0; x < w;) {
          if (at >= b.size()) {
            return short_file();
          }
          const std::size_t code = byte(at++);
          const bool run = code > 128;
          const std::size_t count = run ? code - 128 : code;
          if (count == 0 || x + count > w || at + (run ? 1 : count) > b.size()) {
            return image_fault(path, fmt::format("row {} is damaged", y + 1));
          }
          for (std::size_t i = 0; i < count; ++i) {
            row[(x++) * 4 + c] = byte(run ? at : at + i);
          }
          at += run ? 1 : count;
        }
      }
    } else {  // flat, perhaps with runs of the last pixel
      int shift = 0;
      for (std::size_t x = 0; x < w;) {
        if (b.size() - at < 4) {
          return short_file();
        }
        if (byte(at) == 1 && byte(at + 1) == 1 && byte(at + 2) == 1) {
          const std::size_t count =
              shift < 24 ? static_cast<std::size_t>(byte(at + 3)) << shift : w + 1;
          if (x == 0 || x + count > w) {
            return image_fault(path, fmt::format("row {} is damaged", y + 1));
          }
          for (std::size_t i = 0; i < count; ++i, ++x) {
            std::memcpy(&row[x * 4], &row[(x - 1) * 4], 4);
          }
          shift += 8;
        } else {
          std::memcpy(&row[x * 4], &b[at], 4);
          ++x;
          shift = 0;
        }
        at += 4;
      }
    }
    float* to = out.rgb.data() + static_cast<std::size_t>(y) * w * 3;
    for (std::size_t x = 0; x < w; ++x) {
      const unsigned char e = row[x * 4 + 3];
      const double scale = e == 0 ? 0.0 : std::ldexp(1.0, static_cast<int>(e) - 136) / exposure;
      if (scale * 256 > static_cast<double>(std::numeric_limits<float>::max())) {
        return image_fault(path, "a pixel is brighter than single precision holds");
      }
      for (std::size_t c = 0; c < 3; ++c) {
        to[x * 3 + c] = static_cast<float>(e == 0 ? 0.0 : (row[x * 4 + c] + 0.5) * scale);
      }
    }
  }
  return out;
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
         : ending == ".hdr" ? load_hdr(path)
                            : load_exr(path);
}

}  // namespace jovilux
