#include "jovilux/judge/rendered_image.h"

#include "jovilux/base/statistics.h"
#include "jovilux/base/text.h"
#include "jovilux/denoise/denoise_kernels.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/files/read_file.h"
#include "jovilux/photometry/exposure.h"
#include "jovilux/render/picture_files.h"
#include "jovilux/rig/document.h"
#include "jovilux/rig/rig.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>
#include <limits>

#include <fmt/format.h>

namespace jovilux {

RenderedImage::RenderedImage() = default;
RenderedImage::RenderedImage(const RenderedImage&) = default;
RenderedImage::RenderedImage(RenderedImage&&) noexcept = default;
RenderedImage& RenderedImage::operator=(const RenderedImage&) = default;
RenderedImage& RenderedImage::operator=(RenderedImage&&) noexcept = default;
RenderedImage::~RenderedImage() = default;

namespace {

namespace fs = std::filesystem;

// Channels of a file and where they go, read together some rows at a time: a compressed block is
// undone once for all of them.
class Planes {
 public:
  explicit Planes(RenderedImage& image) : image_(image) {}

  // Three channels; what is not finite counts as 0 and is told.
  void color(const std::string& stem, std::vector<float>& to, float scale) {
    to.resize(3 * image_.pixels());
    for (std::size_t c = 0; c < 3; ++c) {
      wanted_.push_back({stem + "RGB"[c], to.data() + c, 3, scale, true});
    }
  }
  // The same of signed numbers beside a picture.
  void difference(const std::string& stem, std::vector<float>& to, float scale) {
    color(stem, to, scale);
    for (std::size_t c = 0; c < 3; ++c) {
      wanted_[wanted_.size() - 1 - c].told = false;
    }
  }
  void single(const std::string& name, std::vector<float>& to, float scale) {
    to.resize(image_.pixels());
    wanted_.push_back({name, to.data(), 1, scale, false});
  }

  Problems read(const ExrReader& file) {
    constexpr int kRows = 64;
    std::vector<std::string> names;
    for (const Wanted& w : wanted_) {
      names.push_back(w.name);
    }
    const auto width = static_cast<std::size_t>(image_.width);
    for (int y = 0; y < image_.height; y += kRows) {
      const auto planes = file.read(names, 0, y, image_.width, std::min(kRows, image_.height - y));
      if (!planes) {
        return planes.problems();
      }
      for (std::size_t k = 0; k < wanted_.size(); ++k) {
        take((*planes)[k], wanted_[k], static_cast<std::size_t>(y) * width);
      }
    }
    return {};
  }

 private:
  struct Wanted {
    std::string name;
    float* to;
    std::size_t stride;
    float scale;
    bool told;  // a value that is not finite
  };

  void take(const std::vector<float>& plane, const Wanted& w, std::size_t first) {
    for (std::size_t i = 0; i < plane.size(); ++i) {
      const float v = plane[i] * w.scale;
      const bool finite = std::isfinite(v);
      w.to[(first + i) * w.stride] = finite ? v : 0.0f;
      if (!finite && w.told) {
        image_.not_finite = std::min(image_.not_finite.value_or(first + i), first + i);
      }
    }
  }

  RenderedImage& image_;
  std::vector<Wanted> wanted_;
};

// The layers of lights that a file has, and their parts, without their light.
void add_layers(const ExrReader& file, RenderedImage& out) {
  for (const std::string& c : file.channels()) {
    const auto dots = std::count(c.begin(), c.end(), '.');
    if (!c.starts_with("light.") || !c.ends_with(".R") || (dots != 2 && dots != 3)) {
      continue;
    }
    const std::string stem = c.substr(0, c.size() - 1);
    if (file.has(stem + "G") && file.has(stem + "B")) {
      (dots == 2 ? out.layers : out.parts).push_back({c.substr(6, c.size() - 8), {}, {}});
    }
  }
}

Result<RenderedImage> load_exr_image(const std::string& path, bool layers, bool halves) {
  auto file = ExrReader::open(path);
  if (!file) {
    return file.problems();
  }
  const ExrHeader& header = file->header();
  if (static_cast<std::uint64_t>(header.width) * static_cast<std::uint64_t>(header.height) >
      kMaxImagePixels) {
    return Problem{
        Severity::kError,
        "bad-image",
        {path, 0, 0},
        "",
        fmt::format("{} x {} pixels; at most {}", header.width, header.height, kMaxImagePixels),
        ""};
  }
  RenderedImage out;
  out.width = header.width;
  out.height = header.height;
  out.absolute = file->has_white_luminance();
  for (const char* channel : {"R", "G", "B"}) {
    if (!file->has(channel)) {
      return Problem{Severity::kError,
                     "bad-image",
                     {path, 0, 0},
                     "",
                     fmt::format("has no channel {}", channel),
                     "give an image.exr made by jovilux render"};
    }
  }
  out.denoised = header.texts.contains(kDenoisedAttribute);
  const auto scale = static_cast<float>(out.absolute ? header.white_luminance : 1.0);
  Planes planes(out);
  planes.color("", out.rgb, scale);
  const std::string variance = out.denoised ? "error.V" : "variance.V";
  if (file->has(variance)) {
    planes.single(variance, out.variance, scale * scale);
  }
  if (file->has(kSamplesChannel)) {
    planes.single(kSamplesChannel, out.samples, 1);
  }
  halves = halves && file->has(std::string(kHalvesPrefix) + "R");
  if (halves) {
    planes.difference(kHalvesPrefix, out.half_difference, scale);
  }
  if (layers) {
    add_layers(*file, out);
  }
  for (auto* list : {&out.layers, &out.parts}) {
    for (RenderedImage::Layer& layer : *list) {
      const std::string stem = "light." + layer.name + ".";
      planes.color(stem, layer.rgb, scale);
      if (halves && file->has(kHalvesPrefix + stem + "R")) {
        planes.difference(kHalvesPrefix + stem, layer.half_difference, scale);
      }
    }
  }
  if (Problems p = planes.read(*file); !p.empty()) {
    return p;
  }
  if (auto look = recorded_look(header, path)) {
    out.view = look->view;
    out.bloom = look->bloom;
    out.rig_text = std::move(look->rig_text);
  }
  return out;
}

}  // namespace

std::optional<View> view_of_look(const std::string& text) {
  auto document = parse_toml(text, kLookText);
  if (!document) {
    return std::nullopt;
  }
  const auto rig = read_rig(std::move(*document), kLookText);
  return rig && rig->look.exposure == LookSpec::Exposure::kFixed
             ? std::optional(View(rig->look, rig->look.ev))
             : std::nullopt;
}

std::optional<RecordedLook> recorded_look(const ExrHeader& header, const std::string& file) {
  const auto rig_text = header.texts.find(kRigAttribute);
  const auto ev = header.numbers.find(kEvAttribute);
  if (rig_text == header.texts.end() || ev == header.numbers.end()) {
    return std::nullopt;
  }
  // Names of files count from the picture's folder.
  const std::string source = (fs::path(file).parent_path() / "jovilux:rig").string();
  const auto document = parse_toml(rig_text->second, source);
  if (!document) {
    return std::nullopt;
  }
  DocumentNode look_only;
  for (const DocumentEntry& e : document->table()) {
    if (e.key == "jovilux" || e.key == "look") {
      look_only.table().push_back(e);
    }
  }
  auto rig = read_rig(std::move(look_only), source);
  if (const auto white = header.texts.find(kWhiteAttribute);
      rig && rig->look.white_auto && white != header.texts.end()) {
    rig->look.white_balance = parse_white(white->second);
  }
  return rig ? std::optional(
                   RecordedLook{View(rig->look, ev->second), rig->look.bloom, rig_text->second})
             : std::nullopt;
}

std::string look_of(const RenderedImage& image) {
  const auto document = parse_toml(image.rig_text, "jovilux:rig");
  return document && image.view ? look_text(*document, *image.view) : "";
}

View RenderedImage::shown() const {
  if (view) {
    return *view;
  }
  double sum = 0;
  std::size_t lit = 0;
  for (std::size_t i = 0; i < pixels(); ++i) {
    if (const double l = luminance(i); l > 0) {
      sum += std::log2(l);
      ++lit;
    }
  }
  return View(LookSpec{}, lit > 0 ? ev100(Nits{std::exp2(sum / static_cast<double>(lit))}) : 0);
}

ImageNoise noise_of(const RenderedImage& image) {
  constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();
  if (image.variance.empty()) {
    return {kUnknown, kUnknown};
  }
  const double floor = kNoiseFloor * image.shown().white_luminance();
  std::vector<double> noise(image.pixels());
  for (std::size_t i = 0; i < noise.size(); ++i) {
    noise[i] =
        std::sqrt(static_cast<double>(image.variance[i])) / std::max(image.luminance(i), floor);
  }
  return {percentile(noise, 0.5), percentile(noise, 0.95)};
}

double independent_pixels(double pixels, bool denoised) {
  if (denoised) {
    return std::max(1.0, pixels / kDenoiseOffsets);
  }
  // Of a row of m pixels the mean has 1 + 2 r (1 - 1/m) times the variance that independent ones
  // would leave it.
  const double side = std::sqrt(std::max(1.0, pixels));
  const double in_a_row = 1 + 2 * kTentCorrelation * (1 - 1 / side);
  return pixels / (in_a_row * in_a_row);
}

Problems check_denoised(const std::string& folder) {
  std::error_code ec;
  const std::string file = image_in(folder, true);
  if (file == folder || fs::exists(file, ec) || !fs::exists(image_in(folder), ec)) {
    return {};
  }
  return {{Severity::kError,
           "not-denoised",
           {file, 0, 0},
           "",
           "file not found: the render is not denoised",
           fmt::format("make it with: jovilux denoise {}", printable(folder, 200))}};
}

std::string image_in(const std::string& path, bool denoised) {
  std::error_code ec;
  return fs::is_directory(path, ec)
             ? (fs::path(path) / (denoised ? kDenoisedPicture : "image.exr")).string()
             : path;
}

Result<RenderedImage> load_rendered(const std::string& path,
                                    bool layers,
                                    bool denoised,
                                    bool halves) {
  const std::string file = image_in(path, denoised), ending = file_ending(file);
  if (Problems missing = denoised ? check_denoised(path) : Problems{}; !missing.empty()) {
    return missing;
  }
  if (ending == ".exr") {
    return load_exr_image(file, layers, halves);
  }
  if (ending != ".png" && ending != ".hdr") {
    return Problem{Severity::kError,
                   "bad-image",
                   {path, 0, 0},
                   "",
                   "is neither a render's folder nor an .exr, .png or .hdr file",
                   ""};
  }
  auto image = load_image(file);
  if (!image) {
    return image.problems();
  }
  RenderedImage out;
  out.width = image->width;
  out.height = image->height;
  out.rgb = std::move(image->rgb);
  if (const auto look = image->texts.find(kLookText); look != image->texts.end()) {
    out.shown_by = view_of_look(look->second);
  }
  return out;
}

RenderedImage shrunk(const RenderedImage& image, int width, int height) {
  const double ratio = std::min(
      {1.0, static_cast<double>(width) / image.width, static_cast<double>(height) / image.height});
  RenderedImage out;
  out.width = std::max(1, static_cast<int>(std::lround(image.width * ratio)));
  out.height = std::max(1, static_cast<int>(std::lround(image.height * ratio)));
  out.absolute = image.absolute;
  out.view = image.view;
  out.rgb.assign(3 * out.pixels(), 0.0f);
  for (int y = 0; y < out.height; ++y) {
    for (int x = 0; x < out.width; ++x) {
      // The mean over the pixels that this one covers.
      const int x0 = static_cast<int>(static_cast<std::int64_t>(x) * image.width / out.width),
                x1 = std::max(
                    x0 + 1,
                    static_cast<int>(static_cast<std::int64_t>(x + 1) * image.width / out.width));
      const int y0 = static_cast<int>(static_cast<std::int64_t>(y) * image.height / out.height),
                y1 = std::max(
                    y0 + 1,
                    static_cast<int>(static_cast<std::int64_t>(y + 1) * image.height / out.height));
      std::array<double, 3> sum{};
      for (int v = y0; v < y1; ++v) {
        for (int u = x0; u < x1; ++u) {
          for (std::size_t c = 0; c < 3; ++c) {
            sum[c] +=
                image.rgb[3 * (static_cast<std::size_t>(v) * static_cast<std::size_t>(image.width) +
                               static_cast<std::size_t>(u)) +
                          c];
          }
        }
      }
      for (std::size_t c = 0; c < 3; ++c) {
        out.rgb[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(out.width) +
                     static_cast<std::size_t>(x)) +
                c] = static_cast<float>(sum[c] / ((x1 - x0) * (y1 - y0)));
      }
    }
  }
  return out;
}

}  // namespace jovilux
