// Reader of Radiance HDR pictures.
// Source: G. Ward, "Real Pixels", in Graphics Gems II, 1991; the picture format's own description.

#include "jovilux/files/radiance_hdr.h"

#include "jovilux/base/text.h"
#include "jovilux/files/image.h"
#include "jovilux/files/read_file.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <limits>
#include <optional>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

// Reads a file part by part; each part gives a problem, or none.
class HdrReader {
 public:
  HdrReader(const std::string& bytes, const std::string& path) : bytes_(bytes), path_(path) {}

  Result<LinearImage> read() {
    for (const auto part :
         {&HdrReader::read_header, &HdrReader::read_size, &HdrReader::read_rows}) {
      if (auto problem = (this->*part)()) {
        return *std::move(problem);
      }
    }
    return std::move(out_);
  }

 private:
  using Trouble = std::optional<Problem>;

  Trouble fail(std::string what) const { return image_fault(path_, std::move(what)); }
  Trouble damaged(int y) const { return fail(fmt::format("row {} is damaged", y + 1)); }
  Trouble short_file(int y) const {
    return fail(fmt::format("ends in row {} of {}", y + 1, out_.height));
  }
  std::size_t left() const { return bytes_.size() - at_; }
  std::size_t byte(std::size_t i) const { return static_cast<unsigned char>(bytes_[i]); }

  // The next line of the header; false where it has no end.
  bool line(std::string& text) {
    constexpr std::size_t kLongestLine = 4096;
    const auto end = bytes_.find('\n', at_);
    if (end == std::string::npos || end - at_ > kLongestLine) {
      return false;
    }
    text = bytes_.substr(at_, end - at_);
    if (text.ends_with('\r')) {
      text.pop_back();
    }
    at_ = end + 1;
    return true;
  }

  Trouble read_header() {
    constexpr double kMostExposure = 1e30;
    std::string text;
    if (!line(text) || !text.starts_with("#?")) {
      return fail("not a Radiance HDR: it does not begin with #?");
    }
    do {
      if (!line(text)) {
        return fail("the header has no end");
      }
      if (text.starts_with("FORMAT=") && text != "FORMAT=32-bit_rle_rgbe") {
        return fail(fmt::format("{}; only 32-bit_rle_rgbe is read", printable(text)));
      }
      if (text.starts_with("EXPOSURE=")) {
        const auto v = parse_number(std::string_view(text).substr(9));
        if (!v || !(*v > 0)) {
          return fail(fmt::format("{}; expected a number above 0", printable(text)));
        }
        exposure_ *= *v;
      }
    } while (!text.empty());
    if (!(exposure_ >= 1 / kMostExposure && exposure_ <= kMostExposure)) {
      return fail(
          fmt::format("an exposure of {}; expected 1e-30 to 1e30", short_number(exposure_)));
    }
    return {};
  }

  // "-Y height +X width": rows from the top.
  Trouble read_size() {
    std::string text;
    if (!line(text)) {
      return fail("has no size");
    }
    std::array<std::string, 4> words;
    std::size_t n = 0, p = 0;
    while (p < text.size() && n < words.size()) {
      const auto end = std::min(text.find(' ', p), text.size());
      words[n++] = text.substr(p, end - p);
      p = end + 1;
    }
    const auto side = [](const std::string& word) -> int {
      const auto v = parse_number(word);
      return v && *v >= 1 && *v <= 1e6 && *v == std::floor(*v) ? static_cast<int>(*v) : 0;
    };
    out_.height = side(words[1]);
    out_.width = side(words[3]);
    if (n != words.size() || words[0] != "-Y" || words[2] != "+X" || out_.height == 0 ||
        out_.width == 0) {
      return fail(fmt::format("size \"{}\"; expected -Y height +X width", printable(text)));
    }
    const auto w = static_cast<std::uint64_t>(out_.width),
               h = static_cast<std::uint64_t>(out_.height);
    // A compressed row takes at least 4 bytes and 2 for each run of 127 in each of 4 components.
    if (w * h > kMaxImagePixels || h * std::min(4 * w, 4 + 8 * (w / 127)) > left() + 4) {
      return fail(fmt::format(
          "{} x {} pixels do not fit into {} bytes", out_.width, out_.height, bytes_.size()));
    }
    return {};
  }

  Trouble read_rows() {
    const auto w = static_cast<std::size_t>(out_.width);
    out_.rgb.resize(w * static_cast<std::size_t>(out_.height) * 3);
    row_.resize(w * 4);
    for (int y = 0; y < out_.height; ++y) {
      if (left() < 4) {
        return short_file(y);
      }
      const bool by_component = out_.width >= 8 && out_.width < 32768 && byte(at_) == 2 &&
                                byte(at_ + 1) == 2 && byte(at_ + 2) < 128;
      if (auto problem = by_component ? read_row_by_component(y) : read_flat_row(y)) {
        return problem;
      }
      if (!put_row(out_.rgb.data() + static_cast<std::size_t>(y) * w * 3)) {
        return fail("a pixel is brighter than single precision holds");
      }
    }
    return {};
  }

  // Runs of the four components one after the other.
  Trouble read_row_by_component(int y) {
    const auto w = static_cast<std::size_t>(out_.width);
    if ((byte(at_ + 2) << 8 | byte(at_ + 3)) != w) {
      return fail(fmt::format("row {} has another width", y + 1));
    }
    at_ += 4;
    for (std::size_t c = 0; c < 4; ++c) {
      for (std::size_t x = 0; x < w;) {
        if (at_ >= bytes_.size()) {
          return short_file(y);
        }
        const std::size_t code = byte(at_++);
        const bool run = code > 128;
        const std::size_t count = run ? code - 128 : code;
        if (count == 0 || x + count > w || at_ + (run ? 1 : count) > bytes_.size()) {
          return damaged(y);
        }
        for (std::size_t i = 0; i < count; ++i) {
          row_[(x++) * 4 + c] = static_cast<unsigned char>(byte(run ? at_ : at_ + i));
        }
        at_ += run ? 1 : count;
      }
    }
    return {};
  }

  // Pixel by pixel, perhaps with runs of the last one.
  Trouble read_flat_row(int y) {
    const auto w = static_cast<std::size_t>(out_.width);
    int shift = 0;
    for (std::size_t x = 0; x < w; at_ += 4) {
      if (left() < 4) {
        return short_file(y);
      }
      if (byte(at_) != 1 || byte(at_ + 1) != 1 || byte(at_ + 2) != 1) {
        std::memcpy(&row_[x * 4], &bytes_[at_], 4);
        ++x;
        shift = 0;
        continue;
      }
      const std::size_t count = shift < 24 ? byte(at_ + 3) << shift : w + 1;
      if (x == 0 || x + count > w) {
        return damaged(y);
      }
      for (std::size_t i = 0; i < count; ++i, ++x) {
        std::memcpy(&row_[x * 4], &row_[(x - 1) * 4], 4);
      }
      shift += 8;
    }
    return {};
  }

  // Mantissas and their common exponent as numbers; false where one is too large.
  bool put_row(float* to) const {
    for (std::size_t x = 0; x < static_cast<std::size_t>(out_.width); ++x) {
      const unsigned char e = row_[x * 4 + 3];
      const double scale = e == 0 ? 0.0 : std::ldexp(1.0, static_cast<int>(e) - 136) / exposure_;
      if (scale * 256 > static_cast<double>(std::numeric_limits<float>::max())) {
        return false;
      }
      for (std::size_t c = 0; c < 3; ++c) {
        to[x * 3 + c] = static_cast<float>(e == 0 ? 0.0 : (row_[x * 4 + c] + 0.5) * scale);
      }
    }
    return true;
  }

  const std::string& bytes_;
  const std::string& path_;
  std::size_t at_ = 0;
  double exposure_ = 1;
  LinearImage out_;
  std::vector<unsigned char> row_;  // red, green, blue, exponent of each pixel
};

}  // namespace

Result<LinearImage> read_radiance_hdr(const std::string& bytes, const std::string& path) {
  return HdrReader(bytes, path).read();
}

}  // namespace jovilux
