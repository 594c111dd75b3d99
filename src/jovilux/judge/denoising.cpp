#include "jovilux/judge/denoising.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/denoise/denoise.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/picture_files.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <filesystem>
#include <limits>

#include <fmt/format.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

// The traced picture of a file as two halves with its features.
struct TracedPicture {
  NoisyPicture picture;
  // Of each layer its name and its slots; one nameless layer where the render keeps none.
  struct Layer {
    std::string name;
    std::vector<std::string> parts;  // empty: the layer is one slot
  };
  std::vector<Layer> layers;
};

// The layers of a file and their parts, in the order of their channels.
std::vector<TracedPicture::Layer> layers_in(const ExrReader& file) {
  std::vector<TracedPicture::Layer> out;
  const std::string prefix = "light.";
  for (const std::string& c : file.channels()) {
    if (!c.starts_with(prefix) || !c.ends_with(".R")) {
      continue;
    }
    const std::string name = c.substr(prefix.size(), c.size() - prefix.size() - 2);
    const auto dot = name.find('.');
    const std::string light = name.substr(0, dot);
    auto its = std::find_if(out.begin(), out.end(), [&](const auto& l) { return l.name == light; });
    if (its == out.end()) {
      out.push_back({light, {}});
      its = std::prev(out.end());
    }
    if (dot != std::string::npos) {
      its->parts.push_back(name.substr(dot + 1));
    }
  }
  if (out.empty()) {
    out.push_back({"", {}});
  }
  return out;
}

// The stem of a slot's channels: "", "light.NAME." or "light.NAME.PART.".
std::vector<std::string> stems_of(const std::vector<TracedPicture::Layer>& layers) {
  std::vector<std::string> out;
  for (const TracedPicture::Layer& l : layers) {
    const std::string stem = l.name.empty() ? "" : "light." + l.name + ".";
    if (l.parts.empty()) {
      out.push_back(stem);
    }
    for (const std::string& part : l.parts) {
      out.push_back(stem + part + ".");
    }
  }
  return out;
}

// What a channel of the file fills: every `stride`-th number from `to` on.
struct Wanted {
  std::string name;
  float* to;
  std::size_t stride;
  float scale;
  float unknown;  // instead of what is not a number, or negative where that cannot be
  bool signed_numbers;
};

// Reads all channels in bands of rows: a file of scan lines is unpacked once only.
Problems read_channels(const ExrReader& file, const std::vector<Wanted>& wanted) {
  constexpr int kRows = 64;
  const ExrHeader& header = file.header();
  std::vector<std::string> names;
  for (const Wanted& w : wanted) {
    names.push_back(w.name);
  }
  for (int y = 0; y < header.height; y += kRows) {
    const int rows = std::min(kRows, header.height - y);
    const auto planes = file.read(names, 0, y, header.width, rows);
    if (!planes) {
      return planes.problems();
    }
    const std::size_t first = static_cast<std::size_t>(y) * static_cast<std::size_t>(header.width);
    parallel_for(wanted.size(), [&](std::size_t c) {
      const Wanted& w = wanted[c];
      const std::vector<float>& plane = (*planes)[c];
      for (std::size_t i = 0; i < plane.size(); ++i) {
        const float v = plane[i];
        const bool known = std::isfinite(v) && (w.signed_numbers || v >= 0);
        w.to[(first + i) * w.stride] = known ? v * w.scale : w.unknown;
      }
    });
  }
  return {};
}

Problems check_channels(const ExrReader& file,
                        const std::vector<std::string>& stems,
                        const std::string& path) {
  std::vector<std::string> wanted = {
      "variance.V", kHalfVariance[0], kHalfVariance[1], "depth.Z", "albedo.R", "normal.X"};
  for (const std::string& stem : stems) {
    for (const char* letter : {"R", "G", "B"}) {
      wanted.push_back(stem + letter);
      wanted.push_back(kHalvesPrefix + stem + letter);
    }
  }
  for (const std::string& name : wanted) {
    if (!file.has(name)) {
      return {Problem{Severity::kError,
                      "no-halves",
                      {path, 0, 0},
                      "",
                      fmt::format("has no channel {}, which denoising needs", name),
                      "render the rig again with this version"}};
    }
  }
  return {};
}

Result<TracedPicture> traced_from(const ExrReader& file, const std::string& path) {
  const ExrHeader& header = file.header();
  if (static_cast<std::uint64_t>(header.width) * static_cast<std::uint64_t>(header.height) >
      kMaxImagePixels) {
    return Problem{Severity::kError, "bad-image", {path, 0, 0}, "", "is too large", ""};
  }
  TracedPicture out;
  out.layers = layers_in(file);
  const std::vector<std::string> stems = stems_of(out.layers);
  if (Problems p = check_channels(file, stems, path); !p.empty()) {
    return p;
  }
  NoisyPicture& n = out.picture;
  n.width = header.width;
  n.height = header.height;
  n.slots = stems.size();
  n.mean.resize(n.pixels() * n.slots * 3);
  n.halves.resize(n.mean.size());
  n.albedo.resize(n.pixels() * 3);
  n.normal.resize(n.pixels() * 3);
  const auto scale = static_cast<float>(file.has_white_luminance() ? header.white_luminance : 1.0);
  constexpr float kUnknown = std::numeric_limits<float>::infinity();
  std::vector<Wanted> wanted;
  const auto colors = [&wanted](const std::string& stem,
                                const char* letters,
                                std::vector<float>& to,
                                std::size_t first,
                                std::size_t stride,
                                float times) {
    for (std::size_t c = 0; c < 3; ++c) {
      wanted.push_back({stem + letters[c], to.data() + first + c, stride, times, 0, true});
    }
  };
  for (std::size_t s = 0; s < stems.size(); ++s) {
    colors(stems[s], "RGB", n.mean, 3 * s, 3 * n.slots, scale);
    colors(kHalvesPrefix + stems[s], "RGB", n.halves, 3 * s, 3 * n.slots, scale);
  }
  colors("albedo.", "RGB", n.albedo, 0, 3, 1);
  colors("normal.", "XYZ", n.normal, 0, 3, 1);
  const auto plane = [&](const std::string& name, std::vector<float>& to, float times) {
    to.resize(n.pixels());
    wanted.push_back({name, to.data(), 1, times, kUnknown, false});
  };
  plane("depth.Z", n.depth, 1);
  plane("variance.V", n.variance, scale * scale);
  if (file.has(kSeenChannel)) {  // not of pictures of earlier versions
    n.seen.resize(n.pixels());
    wanted.push_back({kSeenChannel, n.seen.data(), 1, scale, 0, false});
  }
  for (std::size_t h = 0; h < 2; ++h) {
    plane(kHalfVariance[h], n.half_variance[h], scale * scale);
  }
  if (Problems p = read_channels(file, wanted); !p.empty()) {
    return p;
  }
  return out;
}

Result<ExrReader> open_traced(const std::string& folder) {
  const std::string path = image_in(folder);
  auto file = ExrReader::open(path);
  if (file && file->header().texts.contains(kDenoisedAttribute)) {
    return Problem{Severity::kError,
                   "denoised",
                   {path, 0, 0},
                   "",
                   "is denoised already",
                   "give the folder of the render, or its image.exr"};
  }
  return file;
}

// The color of a pixel as the sums over its layers, and these over their parts, in single
// precision and in their order.
struct Sums {
  const TracedPicture& traced;
  const std::vector<float>& mean;

  float slot(std::size_t pixel, std::size_t slot, std::size_t c) const {
    return mean[(pixel * traced.picture.slots + slot) * 3 + c];
  }
  float layer(std::size_t pixel, std::size_t first, std::size_t count, std::size_t c) const {
    float sum = 0;
    for (std::size_t s = first; s < first + count; ++s) {
      sum += slot(pixel, s, c);
    }
    return sum;
  }
  float picture(std::size_t pixel, std::size_t c) const {
    float sum = 0;
    std::size_t first = 0;
    for (const TracedPicture::Layer& l : traced.layers) {
      const std::size_t count = std::max<std::size_t>(1, l.parts.size());
      sum += layer(pixel, first, count, c);
      first += count;
    }
    return sum;
  }
};

template <class Fn>
void add_channel(std::vector<ExrChannel>& to, const std::string& name, int width, const Fn& value) {
  to.push_back({name, ExrChannel::Type::kFloat, [width, value](int y, float* out) {
                  for (int x = 0; x < width; ++x) {
                    out[x] = value(static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
                                   static_cast<std::size_t>(x));
                  }
                }});
}

void write_denoised(const std::string& path,
                    const ExrHeader& from,
                    const Sums& sums,
                    const std::vector<float>& error) {
  std::vector<ExrChannel> channels;
  const int width = from.width;
  const auto add = [&](const std::string& stem, const auto& color) {
    for (std::size_t c = 0; c < 3; ++c) {
      add_channel(
          channels, stem + "RGB"[c], width, [color, c](std::size_t i) { return color(i, c); });
    }
  };
  add("", [&sums](std::size_t i, std::size_t c) { return sums.picture(i, c); });
  add_channel(channels, "error.V", width, [&error](std::size_t i) { return error[i]; });
  std::size_t first = 0;
  for (const TracedPicture::Layer& l : sums.traced.layers) {
    const std::size_t count = std::max<std::size_t>(1, l.parts.size());
    if (!l.name.empty()) {
      add("light." + l.name + ".", [&sums, first, count](std::size_t i, std::size_t c) {
        return sums.layer(i, first, count, c);
      });
    }
    for (std::size_t p = 0; p < l.parts.size(); ++p) {
      add("light." + l.name + "." + l.parts[p] + ".",
          [&sums, slot = first + p](std::size_t i, std::size_t c) {
            return sums.slot(i, slot, c);
          });
    }
    first += count;
  }
  ExrHeader header;
  header.width = width;
  header.height = from.height;
  header.white_luminance = 1;
  header.texts = from.texts;
  header.numbers = from.numbers;
  header.texts[kDenoisedAttribute] = "yes";
  write_exr(path, header, channels);
}

// The picture of these sums, to be judged and shown.
RenderedImage image_of(const Sums& sums,
                       const ExrHeader& header,
                       const std::string& file,
                       std::vector<float> variance) {
  RenderedImage out;
  out.width = header.width;
  out.height = header.height;
  out.rgb.resize(3 * out.pixels());
  for (std::size_t i = 0; i < out.rgb.size(); ++i) {
    out.rgb[i] = sums.picture(i / 3, i % 3);
  }
  out.variance = std::move(variance);
  if (auto look = recorded_look(header, file)) {
    out.view = look->view;
    out.bloom = look->bloom;
    out.rig_text = std::move(look->rig_text);
  }
  return out;
}

// What the denoiser and this function hold at once must fit into the memory.
Problems check_memory(const ExrReader& file, const std::string& path) {
  // Measured: 900 bytes a pixel with 10 slots, each of which has three numbers a channel.
  constexpr double kEach = 540, kSlot = 36, kShare = 2.4;  // of a third of the memory
  const ExrHeader& header = file.header();
  const double bytes = static_cast<double>(header.width) * header.height *
                       (kEach + kSlot * static_cast<double>(stems_of(layers_in(file)).size()));
  if (bytes <= kShare * Film::most_in_memory()) {
    return {};
  }
  return {
      Problem{Severity::kError,
              "too-large",
              {path, 0, 0},
              "",
              fmt::format("{} x {} pixels with these layers take {} GB to denoise; this machine "
                          "has {} GB of memory",
                          header.width,
                          header.height,
                          short_number(bytes / 1e9, 3),
                          short_number(3 * Film::most_in_memory() / 1e9, 3)),
              "render smaller, or with layers = \"none\""}};
}

}  // namespace

Result<DenoisingReport> denoise_render(const std::string& folder) {
  const auto file = open_traced(folder);
  if (!file) {
    return file.problems();
  }
  const std::string path = image_in(folder);
  if (Problems p = check_memory(*file, path); !p.empty()) {
    return p;
  }
  auto traced = traced_from(*file, path);
  if (!traced) {
    return traced.problems();
  }
  const ExrHeader header = file->header();
  DenoisingReport out;
  out.width = header.width;
  out.height = header.height;
  out.layers = traced->layers.front().name.empty() ? 0 : traced->layers.size();
  const ImageNoise before =
      noise_of(image_of({*traced, traced->picture.mean}, header, path, traced->picture.variance));
  NoisyPicture noisy = std::move(traced->picture);
  traced->picture = {};
  traced->picture.slots = noisy.slots;  // what the sums go by
  const auto start = std::chrono::steady_clock::now();
  const DenoisedPicture denoised = denoise(std::move(noisy));
  out.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start).count();
  const Sums sums{*traced, denoised.mean};
  RenderedImage image = image_of(sums, header, path, denoised.error);
  const ImageNoise after = noise_of(image);
  out.median_before = before.median;
  out.p95_before = before.p95;
  out.median = after.median;
  out.p95 = after.p95;
  out.outliers = denoised.outliers;
  out.spread = denoised.spread;
  const fs::path into = fs::path(path).parent_path();
  const View view = image.shown();
  write_view((into / kDenoisedView).string(),
             view,
             image.bloom,
             std::move(image.rgb),
             image.width,
             image.height,
             look_of(image));
  write_denoised((into / kDenoisedPicture).string(), header, sums, denoised.error);
  return out;
}

}  // namespace jovilux
