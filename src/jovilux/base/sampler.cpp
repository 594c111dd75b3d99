// Several points of a sampler at once, compiled once for each set of vector instructions and chosen
// at run time: integers alone, so that all have the same bits.

// Eight words are split in two where instructions have four; none is passed on to other sources.
#pragma GCC diagnostic ignored "-Wpsabi"
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "jovilux/base/sampler.cpp"
#define HWY_DISABLED_TARGETS (HWY_SSSE3 | HWY_AVX3 | HWY_AVX3_DL)
#include "jovilux/base/sampler.h"

#include <hwy/foreach_target.h>
#include <hwy/highway.h>

HWY_BEFORE_NAMESPACE();
namespace jovilux::HWY_NAMESPACE {
namespace {

using FourWords [[gnu::vector_size(16)]] = std::uint32_t;
using EightWords [[gnu::vector_size(32)]] = std::uint32_t;
using EightInts [[gnu::vector_size(32)]] = std::int32_t;
using EightFloats [[gnu::vector_size(32)]] = float;

// As reverse_bits(std::uint32_t).
template <class Words>
HWY_INLINE Words reversed(Words x) {
  x = (x >> 16U) | (x << 16U);
  x = ((x >> 8U) & 0x00ff00ffU) | ((x & 0x00ff00ffU) << 8U);
  return reverse_bits_of_bytes(x);
}

// Sampler::pair() of four pairs, x and y in turns. `base`, `reversed_index`: the sampler's.
void FourPairs(std::uint32_t base,
               std::uint32_t reversed_index,
               std::uint32_t first_pair,
               float* out) {
  const FourWords pairs = FourWords{0, 1, 2, 3} + first_pair;
  const FourWords key =
      mix((FourWords{} + base) ^ (mix(pairs) + (0x9e3779b9U + (base << 6) + (base >> 2))));
  const FourWords shuffled =
      reversed(owen_scramble_reversed(FourWords{} + reversed_index, mix(key ^ Sampler::kOfIndex)));
  // The first coordinates in the lower half, the second ones in the upper half.
  const EightWords keys = __builtin_shufflevector(key, key, 0, 1, 2, 3, 0, 1, 2, 3);
  const EightWords digits =
      __builtin_shufflevector(shuffled, sobol_second_reversed(shuffled), 0, 1, 2, 3, 4, 5, 6, 7);
  constexpr std::uint32_t kX = Sampler::kOfFirst, kY = Sampler::kOfSecond;
  const EightWords bits = reversed(
      owen_scramble_reversed(digits, mix(keys ^ EightWords{kX, kX, kX, kX, kY, kY, kY, kY})));
  const EightFloats points = __builtin_convertvector(EightInts(bits >> 8U), EightFloats) * 0x1p-24f;
  const EightFloats in_turns = __builtin_shufflevector(points, points, 0, 4, 1, 5, 2, 6, 3, 7);
  __builtin_memcpy(out, &in_turns, sizeof(in_turns));
}

}  // namespace
}  // namespace jovilux::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace jovilux {
namespace {

HWY_EXPORT(FourPairs);

}  // namespace

std::array<Vec2, 4> Sampler::four_pairs(std::uint32_t first_pair) const {
  std::array<Vec2, 4> out;
  HWY_DYNAMIC_DISPATCH(FourPairs)(base_, reversed_index_, first_pair, out[0].data());
  return out;
}

}  // namespace jovilux
#endif
