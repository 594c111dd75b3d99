#include "jovilux/denoise/denoise.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/statistics.h"
#include "jovilux/color/rgb.h"
#include "jovilux/denoise/denoise_kernels.h"
#include "jovilux/denoise/highlights.h"
#include "jovilux/denoise/picture_planes.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <functional>
#include <limits>

namespace jovilux {
namespace {

// Pixels darker than this share of the picture's mean are judged as if they had it.
constexpr float kFloor = 0.02f;
// Tolerances of albedo, normal and the logarithm of the depth.
constexpr float kAlbedo = 0.03f, kNormal = 0.1f, kDepth = 0.03f;
constexpr float kNothingMet = 10;  // logarithm of its depth

class Denoiser {
 public:
  explicit Denoiser(NoisyPicture picture)
      : in_(std::move(picture)), width_(in_.width), height_(in_.height), channels_(3 * in_.slots) {}

  DenoisedPicture run() {
    out_.mean.assign(in_.mean.size(), 0.0f);
    out_.error.assign(in_.pixels(), 0.0f);
    if (channels_ == 0) {
      return std::move(out_);
    }
    settle_variances();
    measure();
    highlights_ = Highlights(in_, mean_luminance_, floor_);
    if (highlights_.any()) {
      mean_luminance_ = plane([&](std::size_t i) { return luminance(in_.mean, i); });
    }
    cap_fireflies();
    correlate();
    describe();
    make_guides();
    analyze();
    choose();
    apply();
    tell_error();
    bound_error();
    spread_fireflies();
    highlights_.put_back(out_);
    return std::move(out_);
  }

 private:
  static constexpr std::size_t kKernels = kDenoiseKernels.size();

  std::size_t at(int x, int y) const {
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(width_) +
           static_cast<std::size_t>(x);
  }
  template <class Fn>
  Plane plane(const Fn& value) const {
    return plane_of(width_, height_, [&](int x, int y) { return value(at(x, y)); });
  }
  float color(const std::vector<float>& values, std::size_t pixel, std::size_t c) const {
    return color_in(values, in_.slots, pixel, c);
  }
  float luminance(const std::vector<float>& values, std::size_t pixel) const {
    return luminance_in(values, in_.slots, pixel);
  }
  static float sign(std::size_t half) { return half == 0 ? 1.0f : -1.0f; }
  Plane half_luminance(std::size_t half) const {
    return plane([&](std::size_t i) {
      return luminance(in_.mean, i) + sign(half) * luminance(in_.halves, i);
    });
  }

  int blocks_across() const { return (width_ + kDenoiseWidth - 1) / kDenoiseWidth; }
  int blocks_down() const { return (height_ + kDenoiseHeight - 1) / kDenoiseHeight; }
  BlockPlanes& planes_of(int x0, int y0, std::size_t half, std::size_t kernel) {
    const int block = y0 / kDenoiseHeight * blocks_across() + x0 / kDenoiseWidth;
    return planes_[static_cast<std::size_t>(block)][half][kernel];
  }
  // Calls body(x, y) for the corners of the blocks.
  void each_block(const std::function<void(int, int)>& body) const {
    const int across = blocks_across();
    parallel_for(static_cast<std::size_t>(across * blocks_down()), [&](std::size_t i) {
      body(static_cast<int>(i) % across * kDenoiseWidth,
           static_cast<int>(i) / across * kDenoiseHeight);
    });
  }
  // Calls body(pixel of the block, x, y) for its pixels that lie in the picture.
  template <class Body>
  void each_of_block(int x0, int y0, const Body& body) const {
    for (int r = 0; r < kDenoiseHeight && y0 + r < height_; ++r) {
      for (int c = 0; c < kDenoiseWidth && x0 + c < width_; ++c) {
        body(static_cast<std::size_t>(r * kDenoiseWidth + c), x0 + c, y0 + r);
      }
    }
  }

  // Of a few samples the batches tell no variance: then the difference of the halves stands
  // for it, and of a lone sample the square of the mean around.
  void settle_variances() {
    bool known = true;
    for (std::size_t i = 0; i < in_.pixels() && known; ++i) {
      known = std::isfinite(in_.variance[i]) && std::isfinite(in_.half_variance[0][i]) &&
              std::isfinite(in_.half_variance[1][i]);
    }
    if (known) {
      return;
    }
    const Plane mean = box_mean(plane([&](std::size_t i) { return luminance(in_.mean, i); }), 2);
    const Plane squares = box_mean(plane([&](std::size_t i) {
                                     const float d = luminance(in_.halves, i);
                                     return d * d;
                                   }),
                                   2);
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        const std::size_t i = at(x, y);
        const float d2 = *squares.at(x, y), m = *mean.at(x, y), half = d2 > 0 ? 2 * d2 : 2 * m * m;
        for (std::vector<float>& v : in_.half_variance) {
          v[i] = std::isfinite(v[i]) ? v[i] : half;
        }
        in_.variance[i] = std::isfinite(in_.variance[i]) ? in_.variance[i] : half / 2;
      }
    }
  }

  void measure() {
    mean_luminance_ = plane([&](std::size_t i) { return luminance(in_.mean, i); });
    double sum = 0;
    for (std::size_t i = 0; i < in_.pixels(); ++i) {
      sum += static_cast<double>(luminance(in_.mean, i));
    }
    mean_ = static_cast<float>(sum / static_cast<double>(in_.pixels()));
    constexpr float kDarkest = 1e-15f;  // its square is no zero
    floor_ = std::max(kFloor * mean_, kDarkest);
  }

  // Step 1: pixels that one half has made far brighter than all around, and than the other half has
  // around there, are lowered to that; what they had more waits to be spread.
  void cap_fireflies() {
    constexpr int kReach = 3;
    constexpr float kBrighter = 3, kDark = 0.1f;
    // Where the other half is bright as well there is a feature. A highlight that few samples meet
    // may differ so much between the halves; what differs by more is a firefly beside it.
    constexpr float kBrighterThanOther = 2;
    const Plane level = trimmed_mean(mean_luminance_, kReach);
    const std::array<Plane, 2> halves = {half_luminance(0), half_luminance(1)};
    const auto kept_of = [&](std::size_t half, int x, int y) {
      const float value = *halves[half].at(x, y);
      float cap = kBrighter * std::max(*level.at(x, y), kDark * floor_), other = 0;
      for (int v = y - 1; v <= y + 1 && value > cap; ++v) {
        for (int u = x - 1; u <= x + 1; ++u) {
          other = std::max(other, *halves[1 - half].at(u, v));
        }
      }
      cap = other > cap ? kBrighterThanOther * other : cap;
      return value > cap ? cap / value : 1.0f;
    };
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        const std::array<float, 2> kept = {kept_of(0, x, y), kept_of(1, x, y)};
        if (kept[0] < 1 || kept[1] < 1) {
          cap(x, y, kept);
        }
      }
    }
    if (!fireflies_.empty()) {
      mean_luminance_ = plane([&](std::size_t i) { return luminance(in_.mean, i); });
    }
  }

  // Pixels side by side may have samples in common (SharedSamples): the correlation of their noise,
  // by the differences of the halves around; of pixels at a corner its square. At most that of
  // tents.
  void correlate() {
    constexpr int kReach = 16;
    constexpr auto kMost = static_cast<float>(kTentCorrelation);
    const Plane off = plane([&](std::size_t i) {
      const float level = std::max(luminance(in_.mean, i), floor_);
      return std::clamp(luminance(in_.halves, i) / level, -1.0f, 1.0f);
    });
    const auto product = [&](int x, int y) {
      const float beside =
          *off.at(x - 1, y) + *off.at(x + 1, y) + *off.at(x, y - 1) + *off.at(x, y + 1);
      return *off.at(x, y) * beside / 4;
    };
    const Plane products = box_mean(plane_of(width_, height_, product), kReach),
                squares = box_mean(plane_of(width_,
                                            height_,
                                            [&](int x, int y) {
                                              const float d = *off.at(x, y);
                                              return d * d;
                                            }),
                                   kReach);
    correlation_ = plane_of(width_, height_, [&](int x, int y) {
      const float square = *squares.at(x, y);
      return square > 0 ? std::clamp(*products.at(x, y) / square, 0.0f, kMost) : 0.0f;
    });
  }

  void cap(int x, int y, const std::array<float, 2>& kept) {
    const std::size_t i = at(x, y);
    Firefly f{x, y, luminance(in_.mean, i), excess_.size()};
    for (std::size_t c = 0; c < channels_; ++c) {
      float& mean = in_.mean[i * channels_ + c];
      float& half = in_.halves[i * channels_ + c];
      const float a = kept[0] * (mean + half), b = kept[1] * (mean - half);
      excess_.push_back(mean - (a + b) / 2);
      mean = (a + b) / 2;
      half = (a - b) / 2;
    }
    f.luminance -= luminance(in_.mean, i);
    for (std::size_t h = 0; h < 2; ++h) {
      in_.half_variance[h][i] *= kept[h] * kept[h];
      out_.outliers += kept[h] < 1 ? 1 : 0;
    }
    in_.variance[i] = (in_.half_variance[0][i] + in_.half_variance[1][i]) / 4;
    fireflies_.push_back(f);
  }

  void describe() {
    for (std::size_t c = 0; c < 3; ++c) {
      features_[c] = plane([&](std::size_t i) { return in_.albedo[3 * i + c] / kAlbedo; });
      features_[3 + c] = plane([&](std::size_t i) { return in_.normal[3 * i + c] / kNormal; });
    }
    features_[6] = plane([&](std::size_t i) {
      const float d = in_.depth[i];
      return (std::isfinite(d) ? std::log(std::max(d, 1e-3f)) : kNothingMet) / kDepth;
    });
    inside_ = plane([](std::size_t) { return 1.0f; });
    inside_.fill_border(0);
    variance_ = plane([&](std::size_t i) { return in_.variance[i]; });
    half_luminance_ = {half_luminance(0), half_luminance(1)};
  }

  // The variance of the luminance around each pixel without outliers.
  Plane robust_variance() const {
    constexpr int kReach = 2;
    constexpr float kOutlier = 10;
    const Plane middle = median(variance_, kReach), mean = box_mean(variance_, kReach);
    return box_mean(plane_of(width_,
                             height_,
                             [&](int x, int y) {
                               const float usual =
                                   *middle.at(x, y) > 0 ? *middle.at(x, y) : *mean.at(x, y);
                               return std::min(*variance_.at(x, y), kOutlier * usual);
                             }),
                    kReach);
  }

  // Step 2.
  void make_guides() {
    const Plane robust = robust_variance(), smooth = box_mean(variance_, 1);
    const auto squares = [&](const std::function<float(std::size_t)>& half) {
      return box_mean(plane([&](std::size_t i) { return half(i) * half(i); }), 3);
    };
    const Plane of_luminance = squares([&](std::size_t i) { return luminance(in_.halves, i); });
    std::array<Plane, 3> channel_variance;
    for (std::size_t c = 0; c < 3; ++c) {
      // The luminance's variance is known best; the halves tell how that of a channel compares.
      const Plane of_channel = squares([&](std::size_t i) { return color(in_.halves, i, c); });
      channel_variance[c] = plane_of(width_, height_, [&](int x, int y) {
        constexpr float kMost = 10, kNone = 1e-20f;
        const float ratio = (*of_channel.at(x, y) + kNone) / (*of_luminance.at(x, y) + kNone);
        return 2 * *smooth.at(x, y) * std::min(kMost, ratio);
      });
    }
    for (std::size_t h = 0; h < 2; ++h) {
      DenoiseGuide raw, filtered;
      for (std::size_t c = 0; c < 3; ++c) {
        raw.color[c] = plane([&](std::size_t i) {
          return color(in_.mean, i, c) + sign(h) * color(in_.halves, i, c);
        });
        raw.variance[c] = channel_variance[c];
        filtered.color[c] = Plane(width_, height_);
        filtered.variance[c] = Plane(width_, height_);
      }
      raw.add_up();
      const DenoiseInputs inputs{&raw, &features_, &inside_};
      each_block(
          [&](int x, int y) { prefilter_block(inputs, half_luminance_, robust, x, y, filtered); });
      for (std::size_t c = 0; c < 3; ++c) {
        filtered.color[c].fill_border();
        filtered.variance[c] = box_mean(filtered.variance[c], 1);
      }
      filtered.add_up();
      guides_[h] = std::move(filtered);
    }
  }

  // Step 3: what each kernel makes of the luminance, and the estimate of its squared error.
  void analyze() {
    for (std::size_t k = 0; k < kKernels; ++k) {
      for (std::size_t h = 0; h < 2; ++h) {
        averaged_[k][h] = Plane(width_, height_);
      }
      estimate_[k] = Plane(width_, height_);
    }
    planes_.resize(static_cast<std::size_t>(blocks_across() * blocks_down()));
    each_block([&](int x0, int y0) {
      std::vector<float> distances;
      BlockSums sums;
      for (std::size_t h = 0; h < 2; ++h) {
        const DenoiseInputs inputs{&guides_[h], &features_, &inside_};
        block_distances(inputs, x0, y0, distances);
        for (std::size_t k = 0; k < kKernels; ++k) {
          BlockPlanes& planes = planes_of(x0, y0, h, k);
          fit_block(inputs, kDenoiseKernels[k], distances, x0, y0, planes);
          sum_block(
              inputs, kDenoiseKernels[k], distances, planes, half_luminance_[1 - h], x0, y0, sums);
          each_of_block(x0, y0, [&](std::size_t p, int x, int y) {
            // Stein's estimate with weights that the half averaged has no part in. What they let
            // through of the pixel's own noise comes by its neighbors as well.
            const float off = sums.mean[p] - *half_luminance_[1 - h].at(x, y),
                        v = in_.half_variance[1 - h][at(x, y)], r = *correlation_.at(x, y),
                        own = sums.own[p] + r * (sums.beside[p] + r * sums.corners[p]);
            *averaged_[k][h].at(x, y) = sums.mean[p];
            *estimate_[k].at(x, y) += (off * off - v + 2 * v * own) / 2;
          });
        }
      }
    });
    for (std::size_t k = 0; k < kKernels; ++k) {
      for (int y = 0; y < height_; ++y) {
        for (int x = 0; x < width_; ++x) {
          // E((F1 + F2)/2 - c)^2 from those of F1 and F2 and from their difference.
          const float d = *averaged_[k][0].at(x, y) - *averaged_[k][1].at(x, y);
          *estimate_[k].at(x, y) -= d * d / 4;
        }
      }
      averaged_[k] = {};
    }
  }

  // Step 4: the kernel of least error in the neighborhood, as a share of each.
  void choose() {
    constexpr int kErrorReach = 4, kChoiceReach = 2, kLevelReach = 2;
    const Plane middle = median(mean_luminance_, kLevelReach),
                around = box_mean(mean_luminance_, kLevelReach);
    const Plane level = plane_of(width_, height_, [&](int x, int y) {
      return std::max(
          {std::min(2 * *middle.at(x, y), *around.at(x, y)), floor_, *mean_luminance_.at(x, y)});
    });
    std::array<Plane, kKernels + 1> relative;  // the last: no smoothing
    for (std::size_t k = 0; k <= kKernels; ++k) {
      relative[k] = box_mean(plane_of(width_,
                                      height_,
                                      [&](int x, int y) {
                                        const float l = *level.at(x, y);
                                        return error_of(k, x, y) / (l * l);
                                      }),
                             kErrorReach);
    }
    for (std::size_t k = 0; k <= kKernels; ++k) {
      share_[k] = box_mean(plane_of(width_,
                                    height_,
                                    [&](int x, int y) {
                                      for (std::size_t j = 0; j <= kKernels; ++j) {
                                        const float a = *relative[k].at(x, y),
                                                    b = *relative[j].at(x, y);
                                        if (b < a || (b == a && j < k)) {
                                          return 0.0f;
                                        }
                                      }
                                      return 1.0f;
                                    }),
                           kChoiceReach);
    }
    keep_fitting_shares(relative);
  }

  // The estimated squared error of a kernel at one pixel; of the last, the pixel's variance.
  float error_of(std::size_t kernel, int x, int y) const {
    return kernel < kKernels ? *estimate_[kernel].at(x, y) : *variance_.at(x, y);
  }

  float guide_luminance(std::size_t half, int x, int y) const {
    const std::array<Plane, 3>& color = guides_[half].color;
    return luminance_of(Eigen::Array3f(*color[0].at(x, y), *color[1].at(x, y), *color[2].at(x, y)));
  }

  // The error that is left: the variance that the weights let through, which is known, and the
  // square of the bias, which the estimates tell as a mean over the neighborhood. That mean
  // scatters by more than a clean place has; it is drawn toward the mean over a wide neighborhood,
  // which is counted no higher than the variance as traced: beside noise, a clean place is clean.
  // Both are compared over the luminance that the guides have: a dark pixel beside a lamp is dark
  // there.
  void tell_error() {
    constexpr int kReach = 4, kWideReach = 16;
    constexpr float kOfWide = 0.4f;
    const Plane level = plane_of(width_, height_, [&](int x, int y) {
      const float guide = std::min(guide_luminance(0, x, y), guide_luminance(1, x, y));
      return std::max({guide, floor_, *mean_luminance_.at(x, y)});
    });
    const auto mean_over_level = [&](const auto& error) {
      return box_mean(plane_of(width_,
                               height_,
                               [&](int x, int y) {
                                 const float l = *level.at(x, y);
                                 return error(x, y) / (l * l);
                               }),
                      kReach);
    };
    // What the estimates tell beyond the variance that comes through: the square of the bias.
    const Plane bias = mean_over_level([&](int x, int y) {
      float error = -*let_through_.at(x, y);
      for (std::size_t k = 0; k <= kKernels; ++k) {
        const float share = *share_[k].at(x, y);
        error += share > 0 ? share * error_of(k, x, y) : 0;
      }
      return error;
    });
    const Plane traced = mean_over_level([&](int x, int y) { return *variance_.at(x, y); });
    const Plane wide = box_mean(bias, kWideReach);
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        const float l = *level.at(x, y), around = std::min(*wide.at(x, y), *traced.at(x, y)),
                    mixed = (1 - kOfWide) * *bias.at(x, y) + kOfWide * around;
        out_.error[at(x, y)] = std::max(mixed, 0.0f) * l * l + *let_through_.at(x, y);
      }
    }
    estimate_ = {};
  }

  // A neighbor's choice counts where the kernel is not much worse here than the best.
  void keep_fitting_shares(const std::array<Plane, kKernels + 1>& relative) {
    constexpr float kWorse = 2;
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        float best = std::numeric_limits<float>::infinity(), sum = 0;
        for (const Plane& r : relative) {
          best = std::min(best, *r.at(x, y));
        }
        for (std::size_t k = 0; k <= kKernels; ++k) {
          const float mine = *relative[k].at(x, y);
          float& share = *share_[k].at(x, y);
          share = mine <= kWorse * std::max(best, 0.0f) || mine == best ? share : 0.0f;
          sum += share;
        }
        for (Plane& share : share_) {
          *share.at(x, y) = sum > 0 ? *share.at(x, y) / sum : 0.0f;
        }
        if (!(sum > 0)) {
          *share_[kKernels].at(x, y) = 1;  // errors beyond all numbers: the pixel stays as it is
        }
      }
    }
  }

  void apply() {
    let_through_ = Plane(width_, height_);
    each_block([&](int x0, int y0) {
      std::vector<float> distances;
      std::array<std::vector<float>, 2> total;
      for (std::size_t h = 0; h < 2; ++h) {
        const DenoiseInputs inputs{&guides_[h], &features_, &inside_};
        total[h].assign(static_cast<std::size_t>(kDenoiseOffsets) * kDenoiseArea, 0.0f);
        block_distances(inputs, x0, y0, distances);
        for (std::size_t k = 0; k <= kKernels; ++k) {
          add_share(inputs, h, k, distances, x0, y0, total[h]);
        }
      }
      std::array<float, kDenoiseOffsets> mean_weights{}, half_weights{};
      each_of_block(x0, y0, [&](std::size_t p, int x, int y) {
        // (w1 (m - d) + w2 (m + d)) / 2.
        for (std::size_t o = 0; o < kDenoiseOffsets; ++o) {
          const float a = total[0][o * kDenoiseArea + p], b = total[1][o * kDenoiseArea + p];
          mean_weights[o] = (a + b) / 2;
          half_weights[o] = (b - a) / 2;
        }
        apply_to_channels(mean_weights.data(),
                          half_weights.data(),
                          in_.mean.data(),
                          in_.halves.data(),
                          width_,
                          height_,
                          channels_,
                          x,
                          y,
                          out_.mean.data() + at(x, y) * channels_);
        const float r = *correlation_.at(x, y);
        *let_through_.at(x, y) = variance_let_through(mean_weights.data(), variance_, r, x, y) +
                                 variance_let_through(half_weights.data(), variance_, r, x, y);
      });
    });
  }

  // By |a + b|^2 <= 2 |a|^2 + 2 |b|^2 the expected error is at most twice the variance as traced
  // and twice the square of what denoising changed. Twice that bounds what a neighborhood's mean
  // tells, which beside a lamp may be its neighbors' alone.
  void bound_error() {
    constexpr float kSlack = 4;
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        const std::size_t i = at(x, y);
        const float change = luminance(out_.mean, i) - *mean_luminance_.at(x, y);
        out_.error[i] = std::min(out_.error[i], kSlack * (*variance_.at(x, y) + change * change));
      }
    }
  }

  // Adds the share of kernel k in the block's pixels; the last kernel is the pixel itself.
  void add_share(const DenoiseInputs& inputs,
                 std::size_t half,
                 std::size_t k,
                 const std::vector<float>& distances,
                 int x0,
                 int y0,
                 std::vector<float>& total) {
    BlockValues share{};
    float most = 0;
    each_of_block(x0, y0, [&](std::size_t p, int x, int y) {
      share[p] = *share_[k].at(x, y);
      most = std::max(most, share[p]);
    });
    if (k == kKernels) {
      for (std::size_t p = 0; p < kDenoiseArea; ++p) {
        total[kDenoiseOffsets / 2 * kDenoiseArea + p] += share[p];
      }
    } else if (most > 0) {
      add_block_weights(
          inputs, kDenoiseKernels[k], distances, planes_of(x0, y0, half, k), share, x0, y0, total);
    }
  }

  // What was taken from fireflies, over their surroundings in proportion to the luminance there:
  // at most 3 % of it for each; the rest over the whole picture.
  void spread_fireflies() {
    constexpr float kMost = 0.03f, kBrightest = 4;
    if (fireflies_.empty()) {
      return;
    }
    const Plane level =
        plane([&](std::size_t i) { return std::max(0.0f, luminance(out_.mean, i)); });
    double spread = 0;
    for (Firefly& f : fireflies_) {
      spread += static_cast<double>(f.luminance);
    }
    out_.spread =
        mean_ > 0 ? spread / (static_cast<double>(mean_) * static_cast<double>(in_.pixels())) : 0.0;
    // The sum of the weights around each firefly.
    parallel_for(fireflies_.size(), [&](std::size_t i) {
      Firefly& f = fireflies_[i];
      f.most = kBrightest * std::max(*level.at(f.x, f.y), 0.1f * floor_);
      for (int y = std::max(0, f.y - kSpread); y <= std::min(height_ - 1, f.y + kSpread); ++y) {
        f.weights += row_weight(f, level, y);
      }
      f.local = f.weights > 0 ? std::min(1.0f, kMost * f.weights / f.luminance) : 0.0f;
    });
    parallel_for(static_cast<std::size_t>(height_),
                 [&](std::size_t row) { spread_over_row(level, static_cast<int>(row)); });
    spread_rest(level);
  }

  struct Firefly {
    int x, y;
    float luminance;     // what it had more
    std::size_t excess;  // of its channels in excess_
    float most = 0;      // a receiver counts as at most that bright
    float weights = 0, local = 0;
  };
  static constexpr int kSpread = 20;

  float receiver_weight(const Firefly& f, const Plane& level, int x, int y) const {
    constexpr float kTolerances = 3;
    const auto dx = static_cast<float>(x - f.x), dy = static_cast<float>(y - f.y);
    const float distance = (dx * dx + dy * dy) / (kSpread * kSpread);
    if (distance >= 1) {
      return 0;
    }
    float features = 0;
    for (const Plane& p : features_) {
      const float d = (*p.at(x, y) - *p.at(f.x, f.y)) / kTolerances;
      features = std::max(features, d * d);
    }
    const float t = std::max(0.0f, 1 - features / 4);
    return t * t * t * t * (1 - distance) * std::min(*level.at(x, y), f.most);
  }
  float row_weight(const Firefly& f, const Plane& level, int y) const {
    float sum = 0;
    for (int x = std::max(0, f.x - kSpread); x <= std::min(width_ - 1, f.x + kSpread); ++x) {
      sum += receiver_weight(f, level, x, y);
    }
    return sum;
  }
  void spread_over_row(const Plane& level, int y) {
    std::vector<float> added(static_cast<std::size_t>(width_));
    for (const Firefly& f : fireflies_) {
      if (std::abs(f.y - y) >= kSpread || f.local == 0) {
        continue;
      }
      for (int x = std::max(0, f.x - kSpread); x <= std::min(width_ - 1, f.x + kSpread); ++x) {
        const float share = f.local * receiver_weight(f, level, x, y) / f.weights;
        if (share == 0) {
          continue;
        }
        float* to = out_.mean.data() + at(x, y) * channels_;
        for (std::size_t c = 0; c < channels_; ++c) {
          to[c] += share * excess_[f.excess + c];
        }
        added[static_cast<std::size_t>(x)] += share * f.luminance;
      }
    }
    for (int x = 0; x < width_; ++x) {
      const float a = added[static_cast<std::size_t>(x)];
      out_.error[at(x, y)] += a * a;
    }
  }
  void spread_rest(const Plane& level) {
    constexpr float kBrightest = 4;
    std::vector<double> rest(channels_);
    double rest_luminance = 0, weights = 0;
    for (const Firefly& f : fireflies_) {
      for (std::size_t c = 0; c < channels_; ++c) {
        rest[c] += static_cast<double>((1 - f.local) * excess_[f.excess + c]);
      }
      rest_luminance += static_cast<double>((1 - f.local) * f.luminance);
    }
    const auto weight = [&](int x, int y) { return std::min(*level.at(x, y), kBrightest * mean_); };
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        weights += static_cast<double>(weight(x, y));
      }
    }
    if (!(weights > 0) || rest_luminance == 0) {
      return;
    }
    for (int y = 0; y < height_; ++y) {
      for (int x = 0; x < width_; ++x) {
        const double share = static_cast<double>(weight(x, y)) / weights;
        float* to = out_.mean.data() + at(x, y) * channels_;
        for (std::size_t c = 0; c < channels_; ++c) {
          to[c] += static_cast<float>(share * rest[c]);
        }
        const auto added = static_cast<float>(share * rest_luminance);
        out_.error[at(x, y)] += added * added;
      }
    }
  }

  NoisyPicture in_;
  DenoisedPicture out_;
  int width_, height_;
  std::size_t channels_;
  float mean_ = 0, floor_ = 0;
  Plane correlation_;
  Plane mean_luminance_, variance_, inside_;
  std::array<Plane, 2> half_luminance_;
  std::array<Plane, kDenoiseFeatures> features_;
  std::array<DenoiseGuide, 2> guides_;
  std::array<std::array<Plane, 2>, kKernels> averaged_;
  std::vector<std::array<std::array<BlockPlanes, kKernels>, 2>> planes_;  // of each block
  std::array<Plane, kKernels> estimate_;
  Plane let_through_;  // the variance that is left of what was traced
  std::array<Plane, kKernels + 1> share_;
  Highlights highlights_;
  std::vector<Firefly> fireflies_;
  std::vector<float> excess_;  // [firefly][channels]
};

}  // namespace

void DenoiseGuide::add_up() {
  total = plane_of(color[0].width(), color[0].height(), [&](int x, int y) {
    return *variance[0].at(x, y) + *variance[1].at(x, y) + *variance[2].at(x, y);
  });
}

DenoisedPicture denoise(NoisyPicture picture) { return Denoiser(std::move(picture)).run(); }

}  // namespace jovilux
