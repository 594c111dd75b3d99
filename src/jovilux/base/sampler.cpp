// Several points of a sampler at once, compiled once for each set of vector instructions and chosen
// at run time: integers alone, so that all have the same bits.
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
using FourInts [[gnu::vector_size(16)]] = std::int32_t;
using FourFloats [[gnu::vector_size(16)]] = float;

// As reverse_bits(std::uint32_t).
HWY_INLINE FourWords reversed(FourWords x) {
  x = (x >> 16U) | (x << 16U);
  x = ((x >> 8U) & 0x00ff00ffU) | ((x & 0x00ff00ffU) << 8U);
  return reverse_bits_of_bytes(x);
}

// As unit_float().
HWY_INLINE FourFloats unit_floats(FourWords bits) {
  return __builtin_convertvector(FourInts(bits >> 8U), FourFloats) * 0x1p-24f;
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
  const FourFloats x =
      unit_floats(reversed(owen_scramble_reversed(shuffled, mix(key ^ Sampler::kOfFirst))));
  const FourFloats y = unit_floats(reversed(
      owen_scramble_reversed(sobol_second_reversed(shuffled), mix(key ^ Sampler::kOfSecond))));
  const FourFloats two = __builtin_shufflevector(x, y, 0, 4, 1, 5),
                   more = __builtin_shufflevector(x, y, 2, 6, 3, 7);
  __builtin_memcpy(out, &two, sizeof(two));
  __builtin_memcpy(out + 4, &more, sizeof(more));
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
