#include "jovilux/judge/balance.h"

#include "jovilux/base/assert.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/exr.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/render/picture_files.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

namespace jovilux {

std::vector<BalancedLight> balanced_lights(const RenderedImage& image, const Rig& rig) {
  std::vector<BalancedLight> out;
  for (const RenderedImage::Layer& layer : image.layers) {
    BalancedLight b;
    b.layer = layer.name;
    b.dimmer = dimmer_of_layer(rig, layer.name);
    out.push_back(std::move(b));
  }
  return out;
}

std::vector<std::string> balance_assignments(const Rig& rig,
                                             const std::vector<BalancedLight>& lights) {
  std::vector<std::string> out;
  constexpr double kSame = 1e-9;
  for (const BalancedLight& light : lights) {
    if (std::abs(light.times - 1) > kSame) {
      for (std::string& assignment : assignments_of_level(rig, light.layer, light.times)) {
        out.push_back(std::move(assignment));
      }
    }
    for (std::size_t p = 0; p < kPartNames.size(); ++p) {
      if (std::abs(light.part_times[p] - 1) > kSame) {
        for (std::string& assignment :
             assignments_of_part(rig, light.layer, static_cast<Part>(p), light.part_times[p])) {
          out.push_back(std::move(assignment));
        }
      }
    }
    if (light.tint) {
      for (const std::string& address : addresses_of_layer(rig, light.layer, "tint")) {
        out.push_back(fmt::format("{}.tint=[{:.6g}, {:.6g}, {:.6g}]",
                                  address,
                                  (*light.tint)[0],
                                  (*light.tint)[1],
                                  (*light.tint)[2]));
      }
    }
  }
  return out;
}

namespace {

void multiply(std::vector<float>& rgb, const Rgb& factor) {
  const std::array<float, 3> f = {
      static_cast<float>(factor[0]), static_cast<float>(factor[1]), static_cast<float>(factor[2])};
  for (std::size_t i = 0; i < rgb.size(); ++i) {
    rgb[i] *= f[i % 3];
  }
}

// A layer whose parts have factors of their own: their sum.
void scale_parts(RenderedImage& image, const BalancedLight& light, std::vector<float>& layer) {
  std::fill(layer.begin(), layer.end(), 0.0f);
  for (std::size_t p = 0; p < kPartNames.size(); ++p) {
    for (RenderedImage::Layer& part : image.parts) {
      if (part.name == light.layer + "." + kPartNames[p]) {
        multiply(part.rgb, light.factor * light.part_factors[p]);
        for (std::size_t i = 0; i < layer.size(); ++i) {
          layer[i] += part.rgb[i];
        }
      }
    }
  }
}

double largest_factor(const BalancedLight& light) {
  return light.factor.maxCoeff() *
         *std::max_element(light.part_factors.begin(), light.part_factors.end());
}

bool keeps(const BalancedLight& b) {
  return b.factor == Rgb(Rgb::Ones()) &&
         std::all_of(b.part_factors.begin(), b.part_factors.end(), [](double f) { return f == 1; });
}

}  // namespace

void apply_balance(RenderedImage& image, const std::vector<BalancedLight>& lights) {
  JOVILUX_ASSERT(lights.size() == image.layers.size());
  if (std::all_of(lights.begin(), lights.end(), keeps)) {
    return;
  }
  double most = 0;
  for (std::size_t l = 0; l < lights.size(); ++l) {
    const bool by_parts = std::any_of(lights[l].part_factors.begin(),
                                      lights[l].part_factors.end(),
                                      [](double f) { return f != 1; });
    if (by_parts) {
      scale_parts(image, lights[l], image.layers[l].rgb);
    } else {
      multiply(image.layers[l].rgb, lights[l].factor);
      for (RenderedImage::Layer& part : image.parts) {
        if (part.name.substr(0, part.name.rfind('.')) == lights[l].layer) {
          multiply(part.rgb, lights[l].factor);
        }
      }
    }
    most = std::max(most, largest_factor(lights[l]));
  }
  for (float& v : image.variance) {
    v *= static_cast<float>(most * most);
  }
  std::fill(image.rgb.begin(), image.rgb.end(), 0.0f);
  for (const RenderedImage::Layer& layer : image.layers) {
    for (std::size_t i = 0; i < image.rgb.size(); ++i) {
      image.rgb[i] += layer.rgb[i];
    }
  }
}

void save_balanced(const std::string& folder, const RenderedImage& image, const Rig& rig) {
  namespace fs = std::filesystem;
  const std::string rig_text = resolved_toml(rig, folder);
  const fs::path dir(folder);
  std::vector<ExrChannel> channels;
  const auto add = [&](const std::string& stem,
                       const std::vector<float>& rgb,
                       ExrChannel::Type type) {
    for (std::size_t c = 0; c < 3; ++c) {
      channels.push_back(
          {stem + "RGB"[c], type, [&image, &rgb, c](int y, float* out) {
             for (int x = 0; x < image.width; ++x) {
               out[x] =
                   rgb[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) +
                            static_cast<std::size_t>(x)) +
                       c];
             }
           }});
    }
  };
  add("", image.rgb, ExrChannel::Type::kFloat);
  for (const RenderedImage::Layer& layer : image.layers) {
    add("light." + layer.name + ".", layer.rgb, ExrChannel::Type::kFloat);
  }
  for (const RenderedImage::Layer& part : image.parts) {
    add("light." + part.name + ".", part.rgb, ExrChannel::Type::kFloat);
  }
  if (!image.variance.empty()) {
    channels.push_back({image.denoised ? "error.V" : "variance.V",
                        ExrChannel::Type::kFloat,
                        [&image](int y, float* out) {
                          const auto row =
                              image.variance.begin() + static_cast<std::ptrdiff_t>(y) * image.width;
                          std::copy(row, row + image.width, out);
                        }});
  }
  const View view = image.shown();
  ExrHeader header;
  header.width = image.width;
  header.height = image.height;
  header.texts[kRigAttribute] = rig_text;
  if (image.denoised) {
    header.texts[kDenoisedAttribute] = "yes";
  }
  tell_look(header, view);
  write_exr((dir / "image.exr").string(), header, channels);
  write_view((dir / "view.png").string(),
             view,
             image.bloom,
             image.rgb,
             image.width,
             image.height,
             look_text(rig.document, view),
             rig.title);
  write_text_file((dir / "rig.resolved.toml").string(), rig_text);
  std::error_code ec;
  for (const char* of_another : {"stats.json", kDenoisedPicture, kDenoisedView}) {
    fs::remove(dir / of_another, ec);
  }
}

}  // namespace jovilux
