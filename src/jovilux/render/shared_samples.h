#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/render/film.h"

#include <array>
#include <cstddef>
#include <cstdint>
#include <vector>

namespace jovilux {

/// The samples of a tile in one pass. Each counts for all pixels of its block of kShared x kShared
/// whose filter, a tent, holds its film point, not only for the one that it was taken for. Where
/// samples are independent, a pixel's variance is (2/3)^2 of that of its own samples, at the same
/// mean.
///
/// A sample of batch b at the film point u gives the pixel p the weight of the balance heuristic
/// (E. Veach, L. Guibas, "Optimally Combining Sampling Techniques for Monte Carlo Rendering",
/// SIGGRAPH 1995)
///
///     n_pb w_p(u) / sum over the pixels q of the block of n_qb w_q(u)
///
/// with the tent w and the number n_pb of p's samples in the batch, so that its sums remain those
/// of n_pb samples in the mean, whatever the numbers are. The sum W_h of a pixel's weights in one
/// half differs from the half's number of samples n_h by chance; (W_h - n_h) times what the other
/// half, which is independent, tells of the pixel's mean is taken off: an even picture stays even.
///
/// Points of a low-discrepancy sequence are spread evenly over the lights only if all have the same
/// weight: where light is smooth, own samples alone have less noise. For each slot a block takes
/// the mixture of both sums whose halves differ least, all of its pixels together. Both sums bring
/// the whole block the same light, but for what is taken off, so that its mean hardly depends on
/// the choice.
///
/// Blocks lie in tiles, which are rendered by one thread, process or slice alone.
class SharedSamples {
 public:
  static constexpr int kShared = 8;
  static_assert(kTile % kShared == 0);

  SharedSamples(int width, int height, std::size_t slots);

  /// How many samples a pixel takes, and where in its sequences the first of them lies. For all
  /// pixels, before the first sample.
  void set_count(std::size_t pixel, int begin, int count);

  /// Where a sample leaves its light, [slot][3], zero between samples,
  float* sample() { return sample_.data(); }
  /// and the slots that it has left some in.
  std::vector<std::uint32_t>& touched() { return touched_; }
  /// Adds that sample. `offset`: of its film point from its pixel's center, in (-1, 1)^2 [pixels].
  void add(std::size_t pixel, int batch, const Vec2& offset);

  /// After the last sample.
  void finish();
  /// Sums of a pixel over its samples of each half, [kHalves][slot][3],
  float* sums(std::size_t pixel) { return shared_.data() + pixel * kHalves * slots_ * 3; }
  /// and of luminance over those of each batch, [kBatches].
  float* batches(std::size_t pixel) { return batches_.data() + pixel * kBatches; }

 private:
  using Halves = std::array<float, kHalves>;
  // What a sample gives to a pixel.
  struct Given {
    std::size_t pixel = 0;
    float weight = 0;
  };
  // Of a pixel's neighbors, those in its block.
  enum Neighbor : std::uint8_t { kLeft = 1, kRight = 2, kAbove = 4, kBelow = 8 };

  std::array<Given, 4> given(std::size_t pixel, std::size_t batch, const Vec2& offset) const;
  float* batch(std::vector<float>& of, std::size_t pixel, std::size_t b) const {
    return of.data() + (pixel * kBatches + b) * slots_;
  }
  void keep_even(std::size_t pixel, const Halves& counts, const Halves& weights);
  void mix(std::size_t pixel, const std::vector<float>& own_parts);
  std::size_t block_of(std::size_t pixel) const;

  int width_, height_;
  std::size_t slots_;
  std::vector<float> sample_;
  std::vector<std::uint32_t> touched_;
  std::vector<std::uint8_t> neighbors_;                        // of each pixel: sums of Neighbor
  std::vector<std::array<float, kBatches>> counts_, weights_;  // of each pixel's batches
  // By samples of all pixels, and by a pixel's own; of batches their luminance [batch][slot]. A
  // batch of all slots together would keep what a mixture takes from one of them alone: a variance
  // without the light that it is of.
  std::vector<float> shared_, own_, shared_batches_, own_batches_;
  std::vector<float> batches_;
};

}  // namespace jovilux
