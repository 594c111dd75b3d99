#include "bench/squared_error.h"

#include "jovilux/files/json.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdio>
#include <numeric>
#include <span>
#include <stdexcept>

#include "bench/judged_picture.h"

namespace jovilux {
namespace {

// What each pixel's error is relative to: its squared luminance in the reference.
std::vector<double> levels_of(const RenderedImage& reference) {
  double mean = 0;
  for (std::size_t i = 0; i < reference.pixels(); ++i) {
    mean += reference.luminance(i) / static_cast<double>(reference.pixels());
  }
  std::vector<double> out(reference.pixels());
  for (std::size_t i = 0; i < out.size(); ++i) {
    out[i] = std::pow(std::max(reference.luminance(i), kFloor * mean), 2);
  }
  return out;
}

// Of each pixel's luminance in `rgb` against that in `wanted` (3 a pixel), over its level.
std::vector<double> squared_of(const std::vector<float>& rgb,
                               const std::vector<float>& wanted,
                               const std::vector<double>& levels) {
  std::vector<double> out(levels.size());
  for (std::size_t i = 0; i < out.size(); ++i) {
    const double off = luminance_of(&rgb[3 * i]) - luminance_of(&wanted[3 * i]);
    out[i] = off * off / levels[i];
  }
  return out;
}

// The pixels whose error decides, the worst first, with their luminances [cd/m2] and the layer or
// part that is farthest off.
Json worst_pixels(const RenderedImage& image,
                  const RenderedImage& reference,
                  const std::vector<double>& squared) {
  constexpr std::size_t kListed = 24;
  std::vector<std::size_t> order(squared.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  const std::size_t listed = std::min(kListed, order.size());
  std::partial_sort(order.begin(),
                    order.begin() + static_cast<std::ptrdiff_t>(listed),
                    order.end(),
                    [&](std::size_t a, std::size_t b) { return squared[a] > squared[b]; });
  const auto& layers = image.parts.empty() ? image.layers : image.parts;
  const auto& wanted = image.parts.empty() ? reference.layers : reference.parts;
  const auto width = static_cast<std::size_t>(image.width);
  Json out = Json::array();
  for (const std::size_t i : std::span(order).first(listed)) {
    double most = 0;
    std::string name;
    for (std::size_t k = 0; k < std::min(layers.size(), wanted.size()); ++k) {
      const double off =
          std::abs(luminance_of(&layers[k].rgb[3 * i]) - luminance_of(&wanted[k].rgb[3 * i]));
      if (off > most) {
        most = off;
        name = layers[k].name;
      }
    }
    out.push_back({{"x", i % width},
                   {"y", i / width},
                   {"error", squared[i]},
                   {"is", image.luminance(i)},
                   {"wanted", reference.luminance(i)},
                   {"by", name}});
  }
  return out;
}

// The mean over the pixels without the worst; `worst`: of the kept ones, what the worst hundredth
// and twentieth have of the whole.
double trimmed_mean(std::vector<double>& squared, std::array<double, 2>* worst = nullptr) {
  std::sort(squared.begin(), squared.end());
  const auto kept = static_cast<std::size_t>((1 - kTrimmed) * static_cast<double>(squared.size()));
  const auto sum_from = [&](double part) {
    double sum = 0;
    for (auto i = static_cast<std::size_t>(part * static_cast<double>(kept)); i < kept; ++i) {
      sum += squared[i];
    }
    return sum;
  };
  const double sum = sum_from(0);
  if (worst != nullptr && sum > 0) {
    *worst = {sum_from(0.99) / sum, sum_from(0.95) / sum};
  }
  return sum / static_cast<double>(kept);
}

double layer_error(const RenderedImage::Layer& layer,
                   const RenderedImage::Layer& wanted,
                   const std::vector<double>& levels) {
  std::vector<double> squared = squared_of(layer.rgb, wanted.rgb, levels);
  return trimmed_mean(squared);
}

}  // namespace

double squared_error(const RenderedImage& image, const RenderedImage& reference) {
  const std::vector<double> levels = levels_of(reference);
  const std::vector<double> squared = squared_of(image.rgb, reference.rgb, levels);
  std::vector<std::size_t> order(levels.size());
  std::iota(order.begin(), order.end(), std::size_t{0});
  std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
    return squared[a] < squared[b];
  });
  order.resize(static_cast<std::size_t>((1 - kTrimmed) * static_cast<double>(order.size())));
  double sum = 0;
  for (const std::size_t i : order) {
    const double of_reference =
        reference.variance.empty() ? 0.0 : static_cast<double>(reference.variance[i]) / levels[i];
    sum += squared[i] - of_reference;
  }
  return std::max(sum, 0.0) / static_cast<double>(order.size());
}

int squared_errors(const std::string& reference_path, const std::vector<std::string>& renders) {
  const auto with_layers = [](const std::string& path) {
    auto image = load_rendered(path, true);
    if (!image) {
      throw std::runtime_error("cannot read " + path);
    }
    return std::move(*image);
  };
  const RenderedImage reference = with_layers(reference_path);
  const std::vector<double> levels = levels_of(reference);
  Json out = Json::array();
  for (const std::string& path : renders) {
    const RenderedImage image = with_layers(path);
    if (image.pixels() != reference.pixels()) {
      throw std::runtime_error(path + " has another size than the reference");
    }
    std::vector<double> squared = squared_of(image.rgb, reference.rgb, levels);
    const Json worst_first = worst_pixels(image, reference, squared);
    std::array<double, 2> worst{};
    trimmed_mean(squared, &worst);
    Json row = {{"render", path},
                {"error", squared_error(image, reference)},
                {"median", squared[squared.size() / 2]},
                {"in_worst_hundredth", worst[0]},
                {"in_worst_twentieth", worst[1]}};
    for (const auto& [images, wanted] :
         {std::pair(&image.layers, &reference.layers), std::pair(&image.parts, &reference.parts)}) {
      for (std::size_t k = 0; k < std::min(images->size(), wanted->size()); ++k) {
        row["layers"][(*images)[k].name] = layer_error((*images)[k], (*wanted)[k], levels);
      }
    }
    row["worst_pixels"] = worst_first;
    out.push_back(row);
  }
  std::printf("%s\n", out.dump(2).c_str());
  return 0;
}

}  // namespace jovilux
