#include "jovilux/render/preview.h"

#include "jovilux/base/parallel.h"
#include "jovilux/color/rgb.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Edge-avoiding smoothing in rounds of growing steps (H. Dammertz et al., "Edge-Avoiding A-Trous
// Wavelet Transform for fast Global Illumination Filtering", HPG 2010).
constexpr int kRounds = 4;  // of steps 1, 2, 4, 8
constexpr float kLeastAlbedo = 0.02f;
constexpr float kFirefly = 4;  // times what the pixels around have
// Standard errors that two pixels of one surface may differ by.
constexpr float kDifference = 3;

struct Pixel {
  Eigen::Array3f light = Eigen::Array3f::Zero();  // the picture over the albedo
  Eigen::Array3f albedo = Eigen::Array3f::Ones();
  Eigen::Vector3f normal = Eigen::Vector3f::Zero();
  float depth = 0, variance = 0;
  bool surface = false;
};

// Light is smoothed apart from the albedo, whose texture stays sharp.
// With haze, what lies beyond all surfaces is haze before the sky, which goes on as a surface does.
std::vector<Pixel> pixels_of(const Film& film, bool hazy) {
  constexpr float kBeyond = 1e6f;  // [m]
  std::vector<Pixel> out(film.pixels());
  const FilmVariance variance = film_variance(film);
  for (std::size_t i = 0; i < out.size(); ++i) {
    Pixel& p = out[i];
    p.light = (rec709_from_xyz() * film.mean(i).cast<double>()).cast<float>().array();
    const float* guide = film.guide(i);
    const float met = guide[7],
                taken =
                    static_cast<float>(std::min<std::uint32_t>(film.taken(i), Film::kGuideSamples));
    p.surface = met > 0 && met >= 0.5f * taken && guide[0] + guide[1] + guide[2] > 0;
    if (p.surface) {
      p.albedo = (Eigen::Map<const Eigen::Array3f>(guide) / met).max(kLeastAlbedo);
      p.normal = Eigen::Map<const Eigen::Vector3f>(guide + 3).normalized();
      p.depth = guide[6] / met;
      p.light /= p.albedo;
    } else if (hazy && met == 0) {
      p.surface = true;
      p.normal = Eigen::Vector3f::UnitZ();
      p.depth = kBeyond;
    }
    const float v = variance.whole[i], a = luminance_of(p.albedo);
    p.variance = v / (a * a);  // infinite with one sample
  }
  return out;
}

// Few samples tell little of their variance: it is averaged over 5 x 5 pixels of surfaces. Where no
// pixel tells, the square of their mean stands for it.
void settle_variance(std::vector<Pixel>& pixels, int width, int height) {
  constexpr int kSpread = 2;
  const std::vector<Pixel> before = pixels;
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < width; ++x) {
      float light = 0, variance = 0, all = 0, told = 0;
      for (int v = std::max(0, y - kSpread); v <= std::min(height - 1, y + kSpread); ++v) {
        for (int u = std::max(0, x - kSpread); u <= std::min(width - 1, x + kSpread); ++u) {
          const Pixel& q = before[static_cast<std::size_t>(v) * static_cast<std::size_t>(width) +
                                  static_cast<std::size_t>(u)];
          if (!q.surface) {
            continue;
          }
          light += luminance_of(q.light);
          all += 1;
          if (std::isfinite(q.variance)) {
            variance += q.variance;
            told += 1;
          }
        }
      }
      Pixel& p = pixels[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
                        static_cast<std::size_t>(x)];
      p.variance = std::isfinite(p.variance) && told > 0 ? variance / told
                   : all > 0                             ? light * light / (all * all)
                                                         : 0;
    }
  });
}

// Pixels far brighter than those around are lowered to them: a preview has few samples, and one
// firefly would spread over all pixels that a round reaches. The energy is lost in the preview
// alone.
void tame_fireflies(std::vector<Pixel>& pixels, int width, int height) {
  const std::vector<Pixel> before = pixels;
  parallel_for(static_cast<std::size_t>(height), [&](std::size_t row) {
    const int y = static_cast<int>(row);
    for (int x = 0; x < width; ++x) {
      std::array<float, 8> around{};
      std::size_t n = 0;
      for (int v = std::max(0, y - 1); v <= std::min(height - 1, y + 1); ++v) {
        for (int u = std::max(0, x - 1); u <= std::min(width - 1, x + 1); ++u) {
          const Pixel& q = before[static_cast<std::size_t>(v) * static_cast<std::size_t>(width) +
                                  static_cast<std::size_t>(u)];
          if ((u != x || v != y) && q.surface) {
            around[n++] = luminance_of(q.light);
          }
        }
      }
      Pixel& p = pixels[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
                        static_cast<std::size_t>(x)];
      if (n < 4 || !p.surface) {
        continue;
      }
      // The median of those around, or their mean without the brightest: of few samples many are
      // dark.
      const auto end = around.begin() + static_cast<std::ptrdiff_t>(n);
      std::partial_sort(around.begin(), end, end);
      const float mean =
          std::accumulate(
              around.begin(), around.begin() + static_cast<std::ptrdiff_t>(n - 1), 0.0f) /
          static_cast<float>(n - 1);
      const float usual = std::max(around[n / 2], mean), mine = luminance_of(p.light);
      if (mine > kFirefly * usual && mine > 0) {
        const float factor = kFirefly * usual / mine;
        p.light *= factor;
        p.variance *= factor * factor;
      }
    }
  });
}

}  // namespace

void shrink_for_preview(RenderSpec& render) {
  const double ratio = std::min(
      1.0, std::sqrt(kPreviewPixels / (static_cast<double>(render.width) * render.height)));
  render.width = std::max(1, static_cast<int>(std::lround(render.width * ratio)));
  render.height = std::max(1, static_cast<int>(std::lround(render.height * ratio)));
}

std::vector<float> smoothed(const Film& film, bool hazy) {
  const int width = film.width(), height = film.height();
  std::vector<Pixel> pixels = pixels_of(film, hazy), next = pixels;
  tame_fireflies(pixels, width, height);
  settle_variance(pixels, width, height);
  static constexpr std::array<float, 5> kKernel = {
      1.0f / 16, 4.0f / 16, 6.0f / 16, 4.0f / 16, 1.0f / 16};
  for (int round = 0; round < kRounds; ++round) {
    const int step = 1 << round;
    next = pixels;
    parallel_for(static_cast<std::size_t>(height), [&](std::size_t row) {
      const int y = static_cast<int>(row);
      for (int x = 0; x < width; ++x) {
        const std::size_t i = static_cast<std::size_t>(y) * static_cast<std::size_t>(width) +
                              static_cast<std::size_t>(x);
        const Pixel& p = pixels[i];
        if (!p.surface) {
          continue;  // the sky and lights are sharp
        }
        const float mine = luminance_of(p.light);
        Eigen::Array3f sum = Eigen::Array3f::Zero();
        float weights = 0, variance = 0;
        for (int dy = -2; dy <= 2; ++dy) {
          for (int dx = -2; dx <= 2; ++dx) {
            const int u = x + dx * step, v = y + dy * step;
            if (u < 0 || v < 0 || u >= width || v >= height) {
              continue;
            }
            const Pixel& q = pixels[static_cast<std::size_t>(v) * static_cast<std::size_t>(width) +
                                    static_cast<std::size_t>(u)];
            if (!q.surface) {
              continue;
            }
            const float aligned = std::max(0.0f, p.normal.dot(q.normal)),
                        apart = std::abs(p.depth - q.depth) /
                                (0.02f * p.depth * static_cast<float>(step) + 1e-6f);
            const float differs = luminance_of(Eigen::Array3f((p.albedo - q.albedo).abs())) / 0.05f;
            const float unlike =
                std::abs(mine - luminance_of(q.light)) /
                (kDifference * std::sqrt(p.variance + q.variance) + 1e-6f * mine + 1e-12f);
            const float w = kKernel[static_cast<std::size_t>(dx + 2)] *
                            kKernel[static_cast<std::size_t>(dy + 2)] * std::pow(aligned, 32.0f) *
                            std::exp(-apart - differs * differs - unlike * unlike);
            sum += w * q.light;
            variance += w * w * q.variance;
            weights += w;
          }
        }
        next[i].light = sum / weights;
        next[i].variance = variance / (weights * weights);
      }
    });
    std::swap(pixels, next);
  }
  std::vector<float> out(3 * pixels.size());
  for (std::size_t i = 0; i < pixels.size(); ++i) {
    Eigen::Map<Eigen::Array3f>(out.data() + 3 * i) =
        pixels[i].surface ? Eigen::Array3f(pixels[i].light * pixels[i].albedo) : pixels[i].light;
  }
  return out;
}

std::vector<float> enlarged(
    const std::vector<float>& rgb, int width, int height, int to_width, int to_height) {
  std::vector<float> out(3 * static_cast<std::size_t>(to_width) *
                         static_cast<std::size_t>(to_height));
  const auto place = [](int i, int from, int to, int& first, float& share) {
    const float at = std::clamp(
        (static_cast<float>(i) + 0.5f) * static_cast<float>(from) / static_cast<float>(to) - 0.5f,
        0.0f,
        static_cast<float>(from - 1));
    first = std::min(static_cast<int>(at), std::max(0, from - 2));
    share = at - static_cast<float>(first);
  };
  for (int y = 0; y < to_height; ++y) {
    int v = 0;
    float fy = 0;
    place(y, height, to_height, v, fy);
    for (int x = 0; x < to_width; ++x) {
      int u = 0;
      float fx = 0;
      place(x, width, to_width, u, fx);
      for (std::size_t c = 0; c < 3; ++c) {
        const auto at = [&](int a, int b) {
          return rgb[3 * (static_cast<std::size_t>(std::min(b, height - 1)) *
                              static_cast<std::size_t>(width) +
                          static_cast<std::size_t>(std::min(a, width - 1))) +
                     c];
        };
        out[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(to_width) +
                 static_cast<std::size_t>(x)) +
            c] = (1 - fy) * ((1 - fx) * at(u, v) + fx * at(u + 1, v)) +
                 fy * ((1 - fx) * at(u, v + 1) + fx * at(u + 1, v + 1));
      }
    }
  }
  return out;
}

}  // namespace jovilux
