// The inner loops of the denoiser, compiled once for each set of vector instructions and chosen at
// run time: plain loops over a block's pixels, which the compiler vectorizes.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "jovilux/denoise/denoise_kernels.cpp"
#define HWY_DISABLED_TARGETS (HWY_SSSE3 | HWY_AVX3_DL)
#include "jovilux/denoise/denoise_kernels.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <cstring>

#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace jovilux::HWY_NAMESPACE {
namespace {

constexpr int kWide = kDenoiseWidth, kHigh = kDenoiseHeight, kArea = kDenoiseArea;
// Distances at which a weight is zero; the kernel (1 - d/4)^4 follows exp(-d) up to there.
constexpr float kFarthest = 4;
constexpr float kTinyVariance = 1e-20f;

HWY_INLINE float weight_of(float distance) {
  const float t = std::max(0.0f, 1.0f - distance / kFarthest), t2 = t * t;
  return t2 * t2;
}

// Sums over patches of radius `reach`: `in` covers the block and its patches, row by row.
template <int kReach>
HWY_INLINE void patch_sums(const float* HWY_RESTRICT in, float* HWY_RESTRICT out) {
  constexpr int kAcross = kWide + 2 * kReach, kDown = kHigh + 2 * kReach;
  float rows[kDown * kWide];
  for (int r = 0; r < kDown; ++r) {
    const float* HWY_RESTRICT from = in + r * kAcross;
    float* HWY_RESTRICT to = rows + r * kWide;
    for (int c = 0; c < kWide; ++c) {
      float sum = 0;
      for (int k = 0; k <= 2 * kReach; ++k) {
        sum += from[c + k];
      }
      to[c] = sum;
    }
  }
  for (int r = 0; r < kHigh; ++r) {
    for (int c = 0; c < kWide; ++c) {
      float sum = 0;
      for (int k = 0; k <= 2 * kReach; ++k) {
        sum += rows[(r + k) * kWide + c];
      }
      out[r * kWide + c] = sum;
    }
  }
}

// Squared differences of two patches over their variance, less what noise alone makes: 0 in the
// mean where they differ by noise only. Means over the patch and the three channels.
// Source: F. Rousselle, C. Knaus, M. Zwicker, "Adaptive Rendering with Non-Local Means Filtering",
// SIGGRAPH Asia 2012.
template <int kReach>
void patch_distances(const DenoiseGuide& guide, int x, int y, int dx, int dy, float* out) {
  constexpr int kAcross = kWide + 2 * kReach, kDown = kHigh + 2 * kReach;
  constexpr float kMean = 1.0f / ((2 * kReach + 1) * (2 * kReach + 1));
  float differences[kAcross * kDown];
  for (int r = 0; r < kDown; ++r) {
    float* HWY_RESTRICT to = differences + r * kAcross;
    const float* HWY_RESTRICT va = guide.total.at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT vb = guide.total.at(x - kReach + dx, y - kReach + r + dy);
    const float* HWY_RESTRICT ar = guide.color[0].at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT br = guide.color[0].at(x - kReach + dx, y - kReach + r + dy);
    const float* HWY_RESTRICT ag = guide.color[1].at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT bg = guide.color[1].at(x - kReach + dx, y - kReach + r + dy);
    const float* HWY_RESTRICT ab = guide.color[2].at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT bb = guide.color[2].at(x - kReach + dx, y - kReach + r + dy);
    for (int i = 0; i < kAcross; ++i) {
      const float dr = ar[i] - br[i], dg = ag[i] - bg[i], db = ab[i] - bb[i];
      to[i] = (dr * dr + dg * dg + db * db - (va[i] + std::min(va[i], vb[i]))) /
              (va[i] + vb[i] + kTinyVariance);
    }
  }
  patch_sums<kReach>(differences, out);
  for (int p = 0; p < kArea; ++p) {
    out[p] = std::max(0.0f, out[p] * kMean);
  }
}

// Raises distances to the square of the largest difference of features over `tolerances` of theirs.
void add_feature_distances(const DenoiseInputs& in,
                           float tolerances,
                           int x,
                           int y,
                           int dx,
                           int dy,
                           float* HWY_RESTRICT distances) {
  const float scale = 1 / (tolerances * tolerances);
  for (const Plane& f : *in.features) {
    for (int r = 0; r < kHigh; ++r) {
      const float* HWY_RESTRICT a = f.at(x, y + r);
      const float* HWY_RESTRICT b = f.at(x + dx, y + r + dy);
      float* HWY_RESTRICT to = distances + r * kWide;
      for (int i = 0; i < kWide; ++i) {
        const float d = a[i] - b[i];
        to[i] = std::max(to[i], scale * d * d);
      }
    }
  }
}

// Raises distances where the 3 x 3 pixels around differ, in both halves alike, by more than the
// calm of the two places explains: a bright pixel that both halves have is a feature, however large
// its own variance. The product of the halves' differences has the square of the true one as its
// mean; what one half alone has brings little.
void add_outlier_distances(const std::array<Plane, 2>& luminance,
                           const Plane& robust_variance,
                           int x,
                           int y,
                           int dx,
                           int dy,
                           float* HWY_RESTRICT distances) {
  constexpr int kReach = 1, kAcross = kWide + 2 * kReach, kDown = kHigh + 2 * kReach;
  constexpr float kDeviations = 16;
  float squares[kAcross * kDown], sums[kArea];
  for (int r = 0; r < kDown; ++r) {
    const float* HWY_RESTRICT a0 = luminance[0].at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT a1 = luminance[1].at(x - kReach, y - kReach + r);
    const float* HWY_RESTRICT b0 = luminance[0].at(x - kReach + dx, y - kReach + r + dy);
    const float* HWY_RESTRICT b1 = luminance[1].at(x - kReach + dx, y - kReach + r + dy);
    for (int i = 0; i < kAcross; ++i) {
      squares[r * kAcross + i] = (a0[i] - b0[i]) * (a1[i] - b1[i]);
    }
  }
  patch_sums<kReach>(squares, sums);
  for (int r = 0; r < kHigh; ++r) {
    const float* HWY_RESTRICT va = robust_variance.at(x, y + r);
    const float* HWY_RESTRICT vb = robust_variance.at(x + dx, y + r + dy);
    for (int i = 0; i < kWide; ++i) {
      const float d = kFarthest * sums[r * kWide + i] /
                      (kDeviations * kDeviations * 4 * std::min(va[i], vb[i]) + kTinyVariance);
      distances[r * kWide + i] = std::max(distances[r * kWide + i], d);
    }
  }
}

void prefilter(const DenoiseInputs& in,
               const std::array<Plane, 2>& luminance,
               const Plane& robust_variance,
               int x,
               int y,
               DenoiseGuide& out) {
  constexpr float kFeatureTolerances = 2;
  float distances[kArea], weights[kArea] = {};
  std::array<std::array<float, kArea>, 3> sums{}, variances{};
  for (int dy = -kDenoiseRadius; dy <= kDenoiseRadius; ++dy) {
    for (int dx = -kDenoiseRadius; dx <= kDenoiseRadius; ++dx) {
      patch_distances<kDenoisePatch>(*in.guide, x, y, dx, dy, distances);
      add_outlier_distances(luminance, robust_variance, x, y, dx, dy, distances);
      add_feature_distances(in, kFeatureTolerances, x, y, dx, dy, distances);
      for (int r = 0; r < kHigh; ++r) {
        const float* HWY_RESTRICT inside = in.inside->at(x + dx, y + r + dy);
        float* HWY_RESTRICT d = distances + r * kWide;
        for (int i = 0; i < kWide; ++i) {
          d[i] = weight_of(d[i]) * inside[i];
          weights[r * kWide + i] += d[i];
        }
        for (std::size_t c = 0; c < 3; ++c) {
          const float* HWY_RESTRICT q = in.guide->color[c].at(x + dx, y + r + dy);
          const float* HWY_RESTRICT v = in.guide->variance[c].at(x + dx, y + r + dy);
          float* HWY_RESTRICT sum = sums[c].data() + r * kWide;
          float* HWY_RESTRICT variance = variances[c].data() + r * kWide;
          for (int i = 0; i < kWide; ++i) {
            sum[i] += d[i] * q[i];
            variance[i] += d[i] * d[i] * v[i];
          }
        }
      }
    }
  }
  for (std::size_t c = 0; c < 3; ++c) {
    for (int r = 0; r < kHigh; ++r) {
      float* HWY_RESTRICT color = out.color[c].at(x, y + r);
      float* HWY_RESTRICT variance = out.variance[c].at(x, y + r);
      for (int i = 0; i < kWide; ++i) {
        const int p = r * kWide + i;
        const float w = std::max(weights[p], 1e-12f);
        color[i] = sums[c][static_cast<std::size_t>(p)] / w;
        variance[i] = variances[c][static_cast<std::size_t>(p)] / (w * w);
      }
    }
  }
}

void distances_of(const DenoiseInputs& in, int x, int y, float* out) {
  for (int o = 0; o < kDenoiseOffsets; ++o) {
    patch_distances<1>(*in.guide,
                       x,
                       y,
                       o % kDenoiseSide - kDenoiseRadius,
                       o / kDenoiseSide - kDenoiseRadius,
                       out + o * kArea);
  }
}

// The features, then the constant, as regressors.
constexpr int kRegressors = kDenoiseFeatures + 1;
constexpr int kMoments = kRegressors * (kRegressors + 1) / 2;
constexpr int moment(int row, int column) { return row * (row + 1) / 2 + column; }

// Of a row of the block, the differences of features between an offset's pixels and its own.
HWY_INLINE void feature_differences(
    const DenoiseInputs& in, int x, int y, int dx, int dy, float (*HWY_RESTRICT out)[kWide]) {
  for (int k = 0; k < kDenoiseFeatures; ++k) {
    const Plane& f = (*in.features)[static_cast<std::size_t>(k)];
    const float* HWY_RESTRICT a = f.at(x, y);
    const float* HWY_RESTRICT b = f.at(x + dx, y + dy);
    for (int i = 0; i < kWide; ++i) {
      out[k][i] = b[i] - a[i];
    }
  }
}

// Solves M b = (0 .. 0, 1) for each pixel: by Cholesky, where only the back substitution is left.
// `m` is overwritten.
void solve(float (*HWY_RESTRICT m)[kWide], float (*HWY_RESTRICT b)[kWide]) {
  for (int j = 0; j < kRegressors; ++j) {
    for (int k = 0; k < j; ++k) {
      for (int i = 0; i < kWide; ++i) {
        m[moment(j, j)][i] -= m[moment(j, k)][i] * m[moment(j, k)][i];
      }
    }
    for (int i = 0; i < kWide; ++i) {
      m[moment(j, j)][i] = std::sqrt(std::max(m[moment(j, j)][i], 1e-12f));
    }
    for (int r = j + 1; r < kRegressors; ++r) {
      for (int k = 0; k < j; ++k) {
        for (int i = 0; i < kWide; ++i) {
          m[moment(r, j)][i] -= m[moment(r, k)][i] * m[moment(j, k)][i];
        }
      }
      for (int i = 0; i < kWide; ++i) {
        m[moment(r, j)][i] /= m[moment(j, j)][i];
      }
    }
  }
  constexpr int kLast = kRegressors - 1;
  for (int i = 0; i < kWide; ++i) {
    b[kLast][i] = 1 / (m[moment(kLast, kLast)][i] * m[moment(kLast, kLast)][i]);
  }
  for (int j = kLast - 1; j >= 0; --j) {
    for (int i = 0; i < kWide; ++i) {
      float sum = 0;
      for (int r = j + 1; r < kRegressors; ++r) {
        sum += m[moment(r, j)][i] * b[r][i];
      }
      b[j][i] = -sum / m[moment(j, j)][i];
    }
  }
}

// Calls body(offset, dx, dy) for the window of a kernel.
template <class Body>
HWY_INLINE void each_offset(const DenoiseKernel& kernel, const Body& body) {
  for (int dy = -kernel.radius; dy <= kernel.radius; ++dy) {
    for (int dx = -kernel.radius; dx <= kernel.radius; ++dx) {
      body((dy + kDenoiseRadius) * kDenoiseSide + dx + kDenoiseRadius, dx, dy);
    }
  }
}

// The weights of one offset for a row of the block, before the plane.
HWY_INLINE void row_weights(const DenoiseInputs& in,
                            const float* HWY_RESTRICT distances,
                            float scale,
                            int x,
                            int y,
                            float* HWY_RESTRICT out) {
  const float* HWY_RESTRICT inside = in.inside->at(x, y);
  for (int i = 0; i < kWide; ++i) {
    out[i] = weight_of(distances[i] * scale) * inside[i];
  }
}

float scale_of(const DenoiseKernel& kernel) { return 1 / (kernel.strength * kernel.strength); }

// A row's planes by first-order regression on the features. The ridge of one tolerance keeps a
// plane from following differences of features that are no more than their noise.
// Source: B. Bitterli et al., "Nonlinearly Weighted First-order Regression for Denoising Monte
// Carlo Renderings", EGSR 2016.
void regress_row(const DenoiseInputs& in,
                 const DenoiseKernel& kernel,
                 const float* HWY_RESTRICT distances,
                 int x,
                 int y,
                 int row,
                 BlockPlanes& planes) {
  float m[kMoments][kWide] = {}, b[kRegressors][kWide], f[kDenoiseFeatures][kWide], w[kWide];
  each_offset(kernel, [&](int o, int dx, int dy) {
    feature_differences(in, x, y + row, dx, dy, f);
    row_weights(in, distances + o * kArea + row * kWide, scale_of(kernel), x + dx, y + row + dy, w);
    for (int j = 0; j < kDenoiseFeatures; ++j) {
      float weighted[kWide];
      for (int i = 0; i < kWide; ++i) {
        weighted[i] = w[i] * f[j][i];
        m[moment(kDenoiseFeatures, j)][i] += weighted[i];
      }
      for (int k = 0; k <= j; ++k) {
        for (int i = 0; i < kWide; ++i) {
          m[moment(j, k)][i] += weighted[i] * f[k][i];
        }
      }
    }
    for (int i = 0; i < kWide; ++i) {
      m[moment(kDenoiseFeatures, kDenoiseFeatures)][i] += w[i];
    }
  });
  for (int j = 0; j < kDenoiseFeatures; ++j) {
    for (int i = 0; i < kWide; ++i) {
      m[moment(j, j)][i] += m[moment(kDenoiseFeatures, kDenoiseFeatures)][i];
    }
  }
  solve(m, b);
  for (int j = 0; j < kRegressors; ++j) {
    std::memcpy(planes[static_cast<std::size_t>(j)].data() + row * kWide, b[j], sizeof b[j]);
  }
}

void fit(const DenoiseInputs& in,
         const DenoiseKernel& kernel,
         const float* HWY_RESTRICT distances,
         int x,
         int y,
         BlockPlanes& planes) {
  if (kernel.regression) {
    for (int r = 0; r < kHigh; ++r) {
      regress_row(in, kernel, distances, x, y, r, planes);
    }
    return;
  }
  BlockValues& constant = planes[kDenoiseFeatures];
  constant.fill(0);
  each_offset(kernel, [&](int o, int dx, int dy) {
    float w[kWide];
    for (int r = 0; r < kHigh; ++r) {
      row_weights(in, distances + o * kArea + r * kWide, scale_of(kernel), x + dx, y + r + dy, w);
      for (int i = 0; i < kWide; ++i) {
        constant[static_cast<std::size_t>(r * kWide + i)] += w[i];
      }
    }
  });
  for (float& c : constant) {
    c = 1 / std::max(c, 1e-12f);
  }
}

// The weights of one offset for a row of the block, the plane included.
HWY_INLINE void row_kernel(const DenoiseInputs& in,
                           const DenoiseKernel& kernel,
                           const float* HWY_RESTRICT distances,
                           const BlockPlanes& planes,
                           int x,
                           int y,
                           int row,
                           int dx,
                           int dy,
                           float* HWY_RESTRICT out) {
  row_weights(in, distances, scale_of(kernel), x + dx, y + row + dy, out);
  float plane[kWide];
  std::memcpy(plane, planes[kDenoiseFeatures].data() + row * kWide, sizeof plane);
  for (std::size_t k = 0; kernel.regression && k < kDenoiseFeatures; ++k) {
    const float* HWY_RESTRICT a = (*in.features)[k].at(x, y + row);
    const float* HWY_RESTRICT b = (*in.features)[k].at(x + dx, y + row + dy);
    const float* HWY_RESTRICT slope = planes[k].data() + row * kWide;
    for (int i = 0; i < kWide; ++i) {
      plane[i] += slope[i] * (b[i] - a[i]);
    }
  }
  for (int i = 0; i < kWide; ++i) {
    out[i] *= plane[i];
  }
}

void sum(const DenoiseInputs& in,
         const DenoiseKernel& kernel,
         const float* HWY_RESTRICT distances,
         const BlockPlanes& planes,
         const Plane& values,
         int x,
         int y,
         BlockSums& out) {
  for (BlockValues* values_of : {&out.mean, &out.own, &out.beside, &out.corners}) {
    values_of->fill(0);
  }
  each_offset(kernel, [&](int o, int dx, int dy) {
    float k[kWide];
    const int steps = std::abs(dx) + std::abs(dy);
    BlockValues* const near = steps == 0                               ? &out.own
                              : steps == 1                             ? &out.beside
                              : std::abs(dx) == 1 && std::abs(dy) == 1 ? &out.corners
                                                                       : nullptr;
    for (int r = 0; r < kHigh; ++r) {
      row_kernel(in, kernel, distances + o * kArea + r * kWide, planes, x, y, r, dx, dy, k);
      const float* HWY_RESTRICT q = values.at(x + dx, y + r + dy);
      float* HWY_RESTRICT mean = out.mean.data() + r * kWide;
      for (int i = 0; i < kWide; ++i) {
        mean[i] += k[i] * q[i];
      }
      if (near != nullptr) {
        float* HWY_RESTRICT sum = near->data() + r * kWide;
        for (int i = 0; i < kWide; ++i) {
          sum[i] += k[i];
        }
      }
    }
  });
}

void add_weights(const DenoiseInputs& in,
                 const DenoiseKernel& kernel,
                 const float* HWY_RESTRICT distances,
                 const BlockPlanes& planes,
                 const BlockValues& share,
                 int x,
                 int y,
                 float* HWY_RESTRICT weights) {
  each_offset(kernel, [&](int o, int dx, int dy) {
    float k[kWide];
    for (int r = 0; r < kHigh; ++r) {
      row_kernel(in, kernel, distances + o * kArea + r * kWide, planes, x, y, r, dx, dy, k);
      float* HWY_RESTRICT to = weights + o * kArea + r * kWide;
      const float* HWY_RESTRICT s = share.data() + r * kWide;
      for (int i = 0; i < kWide; ++i) {
        to[i] += s[i] * k[i];
      }
    }
  });
}

void channel_sums(const float* HWY_RESTRICT mean_weights,
                  const float* HWY_RESTRICT half_weights,
                  const float* HWY_RESTRICT means,
                  const float* HWY_RESTRICT halves,
                  int width,
                  int height,
                  std::size_t channels,
                  int px,
                  int py,
                  float* HWY_RESTRICT out) {
  for (int dy = std::max(-kDenoiseRadius, -py); dy <= std::min(kDenoiseRadius, height - 1 - py);
       ++dy) {
    for (int dx = std::max(-kDenoiseRadius, -px); dx <= std::min(kDenoiseRadius, width - 1 - px);
         ++dx) {
      const int o = (dy + kDenoiseRadius) * kDenoiseSide + dx + kDenoiseRadius;
      const float a = mean_weights[o], b = half_weights[o];
      if (a == 0 && b == 0) {
        continue;
      }
      const std::size_t q = (static_cast<std::size_t>(py + dy) * static_cast<std::size_t>(width) +
                             static_cast<std::size_t>(px + dx)) *
                            channels;
      const float* HWY_RESTRICT m = means + q;
      const float* HWY_RESTRICT d = halves + q;
      for (std::size_t c = 0; c < channels; ++c) {
        out[c] += a * m[c] + b * d[c];
      }
    }
  }
}

// The sum over i of w_i (w_i + what correlation adds of the eight around i) v_i, whose last factor
// stands for the root of the product of both variances. Rows of weights have a zero on either side.
float passed_variance(
    const float* HWY_RESTRICT weights, const Plane& variances, float correlation, int px, int py) {
  constexpr int kAcross = kDenoiseSide + 2;
  float rows[(kDenoiseSide + 2) * kAcross] = {}, padded[kAcross] = {};
  for (int r = 0; r < kDenoiseSide; ++r) {
    std::memcpy(padded + 1, weights + r * kDenoiseSide, kDenoiseSide * sizeof(float));
    float* HWY_RESTRICT to = rows + (r + 1) * kAcross;
    for (int c = 0; c < kDenoiseSide; ++c) {
      to[c] = padded[c + 1] + correlation * (padded[c] + padded[c + 2]);
    }
  }
  float sums[kDenoiseSide] = {};
  for (int r = 0; r < kDenoiseSide; ++r) {
    const float* HWY_RESTRICT w = weights + r * kDenoiseSide;
    const float* HWY_RESTRICT above = rows + r * kAcross;
    const float* HWY_RESTRICT own = above + kAcross;
    const float* HWY_RESTRICT below = own + kAcross;
    const float* HWY_RESTRICT v = variances.at(px - kDenoiseRadius, py + r - kDenoiseRadius);
    for (int c = 0; c < kDenoiseSide; ++c) {
      sums[c] += w[c] * (own[c] + correlation * (above[c] + below[c])) * v[c];
    }
  }
  float out = 0;
  for (const float sum : sums) {
    out += sum;
  }
  return out;
}

}  // namespace
}  // namespace jovilux::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace jovilux {
namespace {
HWY_EXPORT(prefilter);
HWY_EXPORT(distances_of);
HWY_EXPORT(fit);
HWY_EXPORT(sum);
HWY_EXPORT(add_weights);
HWY_EXPORT(channel_sums);
HWY_EXPORT(passed_variance);
}  // namespace

template <class Source>
void Plane::each_of_border(const Source& source) {
  for (int y = -kPad; y < rows_ - kPad; ++y) {
    for (int x = -kPad; x < stride_ - kPad; ++x) {
      if (x < 0 || y < 0 || x >= width_ || y >= height_) {
        *at(x, y) = source(std::clamp(x, 0, width_ - 1), std::clamp(y, 0, height_ - 1));
      }
    }
  }
}

void Plane::fill_border() {
  each_of_border([this](int x, int y) { return *at(x, y); });
}

void Plane::fill_border(float value) {
  each_of_border([value](int, int) { return value; });
}

void prefilter_block(const DenoiseInputs& in,
                     const std::array<Plane, 2>& luminance,
                     const Plane& robust_variance,
                     int x,
                     int y,
                     DenoiseGuide& out) {
  HWY_DYNAMIC_DISPATCH(prefilter)(in, luminance, robust_variance, x, y, out);
}

void block_distances(const DenoiseInputs& in, int x, int y, std::vector<float>& distances) {
  distances.resize(static_cast<std::size_t>(kDenoiseOffsets) * kDenoiseArea);
  HWY_DYNAMIC_DISPATCH(distances_of)(in, x, y, distances.data());
}

void fit_block(const DenoiseInputs& in,
               const DenoiseKernel& kernel,
               const std::vector<float>& distances,
               int x,
               int y,
               BlockPlanes& planes) {
  HWY_DYNAMIC_DISPATCH(fit)(in, kernel, distances.data(), x, y, planes);
}

void sum_block(const DenoiseInputs& in,
               const DenoiseKernel& kernel,
               const std::vector<float>& distances,
               const BlockPlanes& planes,
               const Plane& values,
               int x,
               int y,
               BlockSums& out) {
  HWY_DYNAMIC_DISPATCH(sum)(in, kernel, distances.data(), planes, values, x, y, out);
}

void add_block_weights(const DenoiseInputs& in,
                       const DenoiseKernel& kernel,
                       const std::vector<float>& distances,
                       const BlockPlanes& planes,
                       const BlockValues& share,
                       int x,
                       int y,
                       std::vector<float>& weights) {
  HWY_DYNAMIC_DISPATCH(add_weights)
  (in, kernel, distances.data(), planes, share, x, y, weights.data());
}

void apply_to_channels(const float* mean_weights,
                       const float* half_weights,
                       const float* means,
                       const float* halves,
                       int width,
                       int height,
                       std::size_t channels,
                       int px,
                       int py,
                       float* out) {
  HWY_DYNAMIC_DISPATCH(channel_sums)
  (mean_weights, half_weights, means, halves, width, height, channels, px, py, out);
}

float variance_let_through(
    const float* weights, const Plane& variances, float correlation, int px, int py) {
  return HWY_DYNAMIC_DISPATCH(passed_variance)(weights, variances, correlation, px, py);
}

}  // namespace jovilux
#endif
