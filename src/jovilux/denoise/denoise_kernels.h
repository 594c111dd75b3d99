#pragma once

#include <array>
#include <cstddef>
#include <vector>

namespace jovilux {

/// Radius of the window that a pixel is averaged over, its side and its number of pixels; radius of
/// the patches that the guide is made with.
inline constexpr int kDenoiseRadius = 7;
inline constexpr int kDenoiseSide = 2 * kDenoiseRadius + 1;
inline constexpr int kDenoiseOffsets = kDenoiseSide * kDenoiseSide;
inline constexpr int kDenoisePatch = 3;
/// Albedo R, G, B, normal X, Y, Z and the logarithm of the depth, each over its tolerance.
inline constexpr int kDenoiseFeatures = 7;

/// Pictures are denoised in blocks of this size; a block at the right or lower border reaches into
/// the padding.
inline constexpr int kDenoiseWidth = 32, kDenoiseHeight = 16;
inline constexpr int kDenoiseArea = kDenoiseWidth * kDenoiseHeight;

/// One number a pixel, with a border that repeats the outermost pixels: whatever a window and a
/// patch reach is there, without a test for each.
class Plane {
 public:
  static constexpr int kPad = kDenoiseRadius + kDenoisePatch;

  Plane() = default;
  Plane(int width, int height)
      : width_(width),
        height_(height),
        stride_(2 * kPad + (width + kDenoiseWidth - 1) / kDenoiseWidth * kDenoiseWidth),
        rows_(2 * kPad + (height + kDenoiseHeight - 1) / kDenoiseHeight * kDenoiseHeight),
        values_(static_cast<std::size_t>(stride_) * static_cast<std::size_t>(rows_)) {}

  int width() const { return width_; }
  int height() const { return height_; }
  std::ptrdiff_t stride() const { return stride_; }
  float* at(int x, int y) {
    return values_.data() + static_cast<std::ptrdiff_t>(y + kPad) * stride_ + x + kPad;
  }
  const float* at(int x, int y) const { return const_cast<Plane*>(this)->at(x, y); }
  /// Copies the outermost pixels into the border.
  void fill_border();
  /// Writes one value into the border.
  void fill_border(float value);

 private:
  template <class Source>
  void each_of_border(const Source& source);

  int width_ = 0, height_ = 0, stride_ = 0, rows_ = 0;
  std::vector<float> values_;
};

/// A picture that weights are made from: linear RGB with the variance of each channel.
struct DenoiseGuide {
  std::array<Plane, 3> color, variance;
  Plane total;  ///< the sum of the variances

  void add_up();  ///< fills `total`
};

/// How the pixels of a window are weighed: w = exp(-d / strength^2) for a patch distance d, within
/// a radius [pixels].
struct DenoiseKernel {
  float strength;
  int radius;
  bool regression;  ///< a plane over the features is fitted with these weights; else their mean
};
inline constexpr std::array<DenoiseKernel, 3> kDenoiseKernels = {
    {{0.7f, kDenoiseRadius, true}, {1.5f, kDenoiseRadius, true}, {0.5f, 2, false}}};

/// What all blocks have in common.
struct DenoiseInputs {
  const DenoiseGuide* guide;
  const std::array<Plane, kDenoiseFeatures>* features;
  const Plane* inside;  ///< 1 in the picture, 0 in the border
};

/// Numbers for each pixel of a block.
using BlockValues = std::array<float, kDenoiseArea>;
/// A kernel's plane over the features and its constant, for each pixel of a block: the weight of
/// a window's pixel is exp(-d) times what the plane has at the difference of the features. The
/// weights of a window add up to 1.
using BlockPlanes = std::array<BlockValues, kDenoiseFeatures + 1>;

/// Averages the guide over windows: a first, robust estimate that the final weights are made from.
/// `luminance`: of the two halves; `robust_variance`: of the picture's luminance, without outliers.
/// The block's corner is (x, y).
void prefilter_block(const DenoiseInputs& in,
                     const std::array<Plane, 2>& luminance,
                     const Plane& robust_variance,
                     int x,
                     int y,
                     DenoiseGuide& out);

/// Patch distances of the block's pixels to those of their windows, [offset][pixel].
void block_distances(const DenoiseInputs& in, int x, int y, std::vector<float>& distances);

/// Fits the planes of a kernel from these distances.
void fit_block(const DenoiseInputs& in,
               const DenoiseKernel& kernel,
               const std::vector<float>& distances,
               int x,
               int y,
               BlockPlanes& planes);

/// What a kernel makes of a picture: of its weights k_o, the sum of k_o q_o, and the weights of the
/// pixel itself, of the four beside it and of the four at its corners.
struct BlockSums {
  BlockValues mean, own, beside, corners;
};
void sum_block(const DenoiseInputs& in,
               const DenoiseKernel& kernel,
               const std::vector<float>& distances,
               const BlockPlanes& planes,
               const Plane& values,
               int x,
               int y,
               BlockSums& out);

/// Adds a share of the kernel's weights, [offset][pixel], to `weights`.
void add_block_weights(const DenoiseInputs& in,
                       const DenoiseKernel& kernel,
                       const std::vector<float>& distances,
                       const BlockPlanes& planes,
                       const BlockValues& share,
                       int x,
                       int y,
                       std::vector<float>& weights);

/// Adds to out[channel] the sum over the window of pixel (px, py) of a_o mean + b_o half, with a_o
/// of mean_weights and b_o of half_weights [offset]; means and halves are [pixel][channels] of the
/// whole picture.
void apply_to_channels(const float* mean_weights,
                       const float* half_weights,
                       const float* means,
                       const float* halves,
                       int width,
                       int height,
                       std::size_t channels,
                       int px,
                       int py,
                       float* out);

/// The variance that weights [offset] of the window of pixel (px, py) let through, of pixels with
/// these variances. `correlation`: of the noise of pixels side by side; at a corner its square.
float variance_let_through(
    const float* weights, const Plane& variances, float correlation, int px, int py);

}  // namespace jovilux
