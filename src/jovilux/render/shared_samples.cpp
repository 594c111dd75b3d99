#include "jovilux/render/shared_samples.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// From this part of a pixel's own samples on they are taken alone. A pixel that one sample has made
// far too bright stays alone then, where a small part for its neighbors would show in all of them.
constexpr double kOwnAlone = 0.5;

// How far the halves of a block's pixels are apart, relative to their means: squares of own sums,
// of shared sums, and their products.
struct Scatter {
  double own = 0, shared = 0, both = 0;

  // Means of a pixel's halves by both sums. What a neighbor alone gives a dark pixel counts: its
  // halves could not be farther apart.
  void add(const std::array<float, kHalves>& by_own, const std::array<float, kHalves>& by_shared) {
    const auto apart = [](const std::array<float, kHalves>& halves) {
      const double a = static_cast<double>(halves[0]), b = static_cast<double>(halves[1]);
      return a + b > 0 ? std::clamp((a - b) / (a + b), -1.0, 1.0) : 0.0;
    };
    const double off_own = apart(by_own), off_shared = apart(by_shared);
    own += off_own * off_own;
    shared += off_shared * off_shared;
    both += off_own * off_shared;
  }
  // The part a of own sums for which a own + (1 - a) shared scatters least.
  float own_part() const {
    const double apart = own + shared - 2 * both;
    const double part = apart > 0 ? std::clamp((shared - both) / apart, 0.0, 1.0) : 1;
    return part >= kOwnAlone ? 1.0f : static_cast<float>(part);
  }
};

// Of one half, the sum of its batches of a pixel.
float sum_of_half(const float* batches, std::size_t half) {
  float sum = 0;
  for (std::size_t b = half; b < kBatches; b += kHalves) {
    sum += batches[b];
  }
  return sum;
}

}  // namespace

SharedSamples::SharedSamples(int width, int height, std::size_t slots)
    : width_(width), height_(height), slots_(slots), sample_(slots * 3) {
  const auto area = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  neighbors_.reserve(area);
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const bool left = x % kShared > 0, right = (x + 1) % kShared > 0 && x + 1 < width,
                 above = y % kShared > 0, below = (y + 1) % kShared > 0 && y + 1 < height;
      neighbors_.push_back(static_cast<std::uint8_t>((left ? kLeft : 0) | (right ? kRight : 0) |
                                                     (above ? kAbove : 0) | (below ? kBelow : 0)));
    }
  }
  counts_.resize(area);
  weights_.resize(area);
  shared_.resize(area * kHalves * slots * 3);
  own_.resize(shared_.size());
  shared_batches_.resize(area * kBatches * slots);
  own_batches_.resize(shared_batches_.size());
  batches_.resize(area * kBatches);
}

void SharedSamples::set_count(std::size_t pixel, int begin, int count) {
  for (int s = begin; s < begin + count; ++s) {
    ++counts_[pixel][static_cast<std::size_t>(batch_of(s, begin, count))];
  }
}

// Blocks of pixels keep to themselves, so that tiles can be rendered in any order.
std::size_t SharedSamples::block_of(std::size_t pixel) const {
  const int x = static_cast<int>(pixel) % width_, y = static_cast<int>(pixel) / width_;
  return static_cast<std::size_t>(y / kShared * ((width_ + kShared - 1) / kShared) + x / kShared);
}

// The pixels of the block around a film point, with weights that add up to 1; some may be 0. Called
// for each sample: neighbors that lie in another block are found by a bit, not by divisions.
std::array<SharedSamples::Given, 4> SharedSamples::given(std::size_t pixel,
                                                         std::size_t batch,
                                                         const Vec2& offset) const {
  const bool to_left = offset.x() < 0, to_above = offset.y() < 0;
  const std::uint8_t neighbors = neighbors_[pixel];
  // Whether the film point is in the tent of a pixel beside its own, and of one above or below.
  const bool beside = (neighbors & (to_left ? kLeft : kRight)) != 0,
             below = (neighbors & (to_above ? kAbove : kBelow)) != 0;
  const auto row = static_cast<std::size_t>(width_);
  const std::size_t next = to_left ? pixel - 1 : pixel + 1,
                    other_row = to_above ? pixel - row : pixel + row;
  const std::size_t in_row = beside ? next : pixel, in_column = below ? other_row : pixel;
  const float across = std::abs(offset.x()), down = std::abs(offset.y());
  const float of_row = beside ? across : 0, of_column = below ? down : 0;
  const std::array<std::size_t, 4> pixels = {pixel, in_row, in_column, in_column + in_row - pixel};
  const std::array<float, 4> tents = {
      (1 - across) * (1 - down), of_row * (1 - down), (1 - across) * of_column, of_row * of_column};
  std::array<Given, 4> out;
  float sum = 0;
  for (std::size_t k = 0; k < 4; ++k) {
    out[k] = {pixels[k], tents[k] * counts_[pixels[k]][batch]};
    sum += out[k].weight;
  }
  if (!(sum > 0)) {  // on the rim of its own tent
    out[0].weight = 1;
    return out;
  }
  for (Given& g : out) {
    g.weight /= sum;
  }
  return out;
}

void SharedSamples::add(std::size_t pixel, int batch_number, const Vec2& offset) {
  const auto b = static_cast<std::size_t>(batch_number), half = b % kHalves, each = slots_ * 3;
  for (const auto& [p, weight] : given(pixel, b, offset)) {
    if (!(weight > 0)) {
      continue;
    }
    weights_[p][b] += weight;
    float* const to = shared_.data() + (p * kHalves + half) * each;
    float* const of_batch = batch(shared_batches_, p, b);
    for (const std::uint32_t slot : touched_) {
      of_batch[slot] += weight * sample_[slot * 3 + 1];
      for (std::size_t c = slot * 3; c < slot * 3 + 3; ++c) {
        to[c] += weight * sample_[c];
      }
    }
  }
  float* const own = own_.data() + (pixel * kHalves + half) * each;
  float* const of_batch = batch(own_batches_, pixel, b);
  for (const std::uint32_t slot : touched_) {
    of_batch[slot] += sample_[slot * 3 + 1];
    for (std::size_t c = slot * 3; c < slot * 3 + 3; ++c) {
      own[c] += sample_[c];
      sample_[c] = 0;
    }
  }
  touched_.clear();
}

// Takes off what the pixel's weights are beyond its numbers of samples.
void SharedSamples::keep_even(std::size_t pixel, const Halves& counts, const Halves& weights) {
  const std::size_t each = slots_ * 3;
  float* const shared = sums(pixel);
  for (std::size_t b = 0; b < kBatches; ++b) {
    const std::size_t other = 1 - b % kHalves;
    const float beyond = (weights_[pixel][b] - counts_[pixel][b]) / weights[other];
    float* const of_batch = batch(shared_batches_, pixel, b);
    for (std::size_t s = 0; s < slots_; ++s) {
      of_batch[s] -= beyond * shared[other * each + s * 3 + 1];
    }
  }
  const Halves beyond = {(weights[0] - counts[0]) / weights[1],
                         (weights[1] - counts[1]) / weights[0]};
  for (std::size_t c = 0; c < each; ++c) {
    const float first = shared[c], second = shared[each + c];
    shared[c] -= beyond[0] * second;
    shared[each + c] -= beyond[1] * first;
  }
}

// Takes each slot's mixture.
void SharedSamples::mix(std::size_t pixel, const std::vector<float>& own_parts) {
  float* const shared = sums(pixel);
  const float* const own = own_.data() + pixel * kHalves * slots_ * 3;
  const auto mixed = [&](std::size_t slot, float of_own, float of_shared) {
    return own_parts[slot] * of_own + (1 - own_parts[slot]) * of_shared;
  };
  for (std::size_t k = 0; k < kHalves * slots_ * 3; ++k) {
    shared[k] = mixed(k / 3 % slots_, own[k], shared[k]);
  }
  for (std::size_t b = 0; b < kBatches; ++b) {
    const float *const of_own = batch(own_batches_, pixel, b), *const of_shared =
                                                                   batch(shared_batches_, pixel, b);
    float sum = 0;
    for (std::size_t s = 0; s < slots_; ++s) {
      sum += mixed(s, of_own[s], of_shared[s]);
    }
    batches(pixel)[b] = sum;
  }
}

// Mixtures are chosen for each block and layer: all of its pixels together tell how far their
// samples scatter, which one pixel's halves do not.
void SharedSamples::finish() {
  if (counts_.empty()) {
    return;
  }
  const std::size_t blocks = block_of(counts_.size() - 1) + 1;
  std::vector<Scatter> scatter(blocks * slots_);
  for (std::size_t p = 0; p < counts_.size(); ++p) {
    const Halves counts = {sum_of_half(counts_[p].data(), 0), sum_of_half(counts_[p].data(), 1)},
                 weights = {sum_of_half(weights_[p].data(), 0), sum_of_half(weights_[p].data(), 1)};
    // Where a half has no samples, nothing tells the other's mean: such a pixel has no say in the
    // mixture, and a block of such pixels keeps to own samples.
    if (!(counts[0] > 0 && counts[1] > 0 && weights[0] > 0 && weights[1] > 0)) {
      continue;
    }
    keep_even(p, counts, weights);
    const std::size_t block = block_of(p);
    for (std::size_t s = 0; s < slots_; ++s) {
      const float *const own = own_.data() + (p * kHalves * slots_ + s) * 3 + 1, *const shared =
                                                                                     sums(p) +
                                                                                     s * 3 + 1;
      const std::size_t second = slots_ * 3;
      scatter[block * slots_ + s].add({own[0] / counts[0], own[second] / counts[1]},
                                      {shared[0] / counts[0], shared[second] / counts[1]});
    }
  }
  std::vector<std::vector<float>> own_parts(blocks, std::vector<float>(slots_));
  for (std::size_t k = 0; k < scatter.size(); ++k) {
    own_parts[k / slots_][k % slots_] = scatter[k].own_part();
  }
  for (std::size_t p = 0; p < counts_.size(); ++p) {
    mix(p, own_parts[block_of(p)]);
  }
}

}  // namespace jovilux
