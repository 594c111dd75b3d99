#pragma once

#include "jovilux/base/vec.h"

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>

namespace jovilux {

/// A 32-bit mixing function: every input bit changes every output bit with probability near 1/2.
/// Source: C. Wellons, "Prospecting for Hash Functions" (lowbias32), 2018; public-domain constants.
/// Word, here and below: std::uint32_t, or a vector of them, each for itself.
template <class Word>
[[gnu::always_inline]] constexpr Word mix(Word x) {
  x ^= x >> 16U;
  x *= 0x7feb352dU;
  x ^= x >> 15U;
  x *= 0x846ca68bU;
  x ^= x >> 16U;
  return x;
}
constexpr std::uint32_t mix(std::uint32_t a, std::uint32_t b) {
  return mix(a ^ (mix(b) + 0x9e3779b9U + (a << 6) + (a >> 2)));
}

/// The 24 highest bits as a float in [0, 1).
constexpr float unit_float(std::uint32_t bits) { return static_cast<float>(bits >> 8) * 0x1p-24f; }

/// Owen scrambling of a bit-reversed index: each bit is flipped by a hash of the bits above it.
/// Source: B. Burley, "Practical Hash-based Owen Scrambling", JCGT 9(4), 2020, with the constants
/// of N. Vegdahl, 2021.
template <class Word>
[[gnu::always_inline]] constexpr Word owen_scramble_reversed(Word x, Word seed) {
  x ^= x * 0x3d20adeaU;
  x += seed;
  x *= (seed >> 16U) | 1U;
  x ^= x * 0x05526c56U;
  x ^= x * 0x53a22864U;
  return x;
}
/// The bits of each byte of x from the other end.
template <class Word>
[[gnu::always_inline]] constexpr Word reverse_bits_of_bytes(Word x) {
  x = ((x >> 4U) & 0x0f0f0f0fU) | ((x & 0x0f0f0f0fU) << 4U);
  x = ((x >> 2U) & 0x33333333U) | ((x & 0x33333333U) << 2U);
  return ((x >> 1U) & 0x55555555U) | ((x & 0x55555555U) << 1U);
}
/// The bits of x from the other end.
constexpr std::uint32_t reverse_bits(std::uint32_t x) {
  return reverse_bits_of_bytes(__builtin_bswap32(x));
}
/// Second dimension of the Sobol' sequence, x / 2^32, with the bits of x from the other end. Its
/// direction numbers, of the polynomial x + 1, are the rows of Pascal's triangle modulo 2: digit j
/// is the parity of the index's digits k whose C(k, j) is odd, which are those whose binary digits
/// hold all of j's (E. Lucas, 1878). One step for each binary digit of j. The first dimension is
/// reverse_bits(index).
template <class Word>
[[gnu::always_inline]] constexpr Word sobol_second_reversed(Word index) {
  index ^= index >> 1U & 0x55555555U;
  index ^= index >> 2U & 0x33333333U;
  index ^= index >> 4U & 0x0f0f0f0fU;
  index ^= index >> 8U & 0x00ff00ffU;
  return index ^ index >> 16U;
}
constexpr std::uint32_t sobol_second(std::uint32_t index) {
  return reverse_bits(sobol_second_reversed(index));
}

/// Owen-scrambled Sobol' points in [0, 1)^2, padded: each pair of dimensions is a (0,2)-sequence
/// with its own shuffling and scrambling, so that pairs are independent of each other and of those
/// of other pixels.
///
/// A value depends on (seed, stream, index, dimension) only. `stream` is the pixel (and which of
/// its scramblings).
class Sampler {
 public:
  Sampler(std::uint32_t seed, std::uint32_t stream, std::uint32_t index)
      : base_(mix(mix(seed, 0x51ed270bU), stream)), reversed_index_(reverse_bits(index)) {}

  /// What tells apart the scramblings of a pair's index and of its two coordinates.
  static constexpr std::uint32_t kOfIndex = 0xa511e9b3U, kOfFirst = 0x63d83595U,
                                 kOfSecond = 0x1b56c4e9U;

  /// The point of dimensions (2 pair, 2 pair + 1).
  Vec2 pair(std::uint32_t pair_number) const {
    const std::uint32_t key = mix(base_, pair_number);
    const std::uint32_t shuffled = shuffled_index(key);
    return {first(key, shuffled),
            unit_float(reverse_bits(
                owen_scramble_reversed(sobol_second_reversed(shuffled), mix(key ^ kOfSecond))))};
  }
  /// The points of four pairs that follow each other, as pair() has them: hashes of several pairs
  /// side by side in vector instructions, which take about as long as one.
  std::array<Vec2, 4> four_pairs(std::uint32_t first_pair) const;
  /// The first coordinate of a pair, for a lone dimension: a scrambled radical inverse.
  float single(std::uint32_t pair_number) const {
    const std::uint32_t key = mix(base_, pair_number);
    return first(key, shuffled_index(key));
  }

 private:
  std::uint32_t shuffled_index(std::uint32_t key) const {
    return reverse_bits(owen_scramble_reversed(reversed_index_, mix(key ^ kOfIndex)));
  }
  // The radical inverse is the index reversed, and scrambling begins by reversing: the two cancel.
  static float first(std::uint32_t key, std::uint32_t shuffled) {
    return unit_float(reverse_bits(owen_scramble_reversed(shuffled, mix(key ^ kOfFirst))));
  }

  std::uint32_t base_, reversed_index_;
};

/// Point i of `count` made of one: each in a strip of its own, so that points which are spread
/// evenly over the square (a net) are so in each strip as well; y with other digits in each.
inline Vec2 in_strip(const Vec2& u, std::uint32_t i, std::uint32_t count) {
  constexpr float kOneLess = 0x1.fffffep-1f;
  const auto y = static_cast<std::uint32_t>(u.y() * 0x1p24f) ^ (reverse_bits(i) >> 8);
  return {std::min((static_cast<float>(i) + u.x()) / static_cast<float>(count), kOneLess),
          static_cast<float>(y) * 0x1p-24f};
}

/// Point i made of one, anywhere in the square: independent of the strip that in_strip() chose.
inline Vec2 with_other_digits(const Vec2& u, std::uint32_t i) {
  const auto x = static_cast<std::uint32_t>(u.x() * 0x1p24f) ^ (reverse_bits(i) >> 8),
             y = static_cast<std::uint32_t>(u.y() * 0x1p24f) ^ (sobol_second(i) >> 8);
  return {static_cast<float>(x) * 0x1p-24f, static_cast<float>(y) * 0x1p-24f};
}

/// The bits of x and y in turns, those of x first: pixels of a square of 2^k that begins at a
/// multiple of 2^k follow each other.
constexpr std::uint64_t interleaved(std::uint32_t x, std::uint32_t y) {
  const auto spread = [](std::uint64_t v) {
    v = (v | v << 16) & 0x0000ffff0000ffffULL;
    v = (v | v << 8) & 0x00ff00ff00ff00ffULL;
    v = (v | v << 4) & 0x0f0f0f0f0f0f0f0fULL;
    v = (v | v << 2) & 0x3333333333333333ULL;
    return (v | v << 1) & 0x5555555555555555ULL;
  };
  return spread(x) | spread(y) << 1;
}

/// The points of a pixel's samples, of which it takes at most 2^bits, as part of one sequence for
/// the whole picture, in which pixels follow each other by squares in squares: the samples of a
/// pixel, of four neighbors, of sixteen .. are each spread evenly, so that errors differ from pixel
/// to pixel and cancel over a few of them (blue noise).
/// Source: A. Ahmed, P. Wonka, "Screen-Space Blue-Noise Diffusion of Monte Carlo Sampling Error via
/// Hierarchical Ordering of Pixels", ACM TOG 39(6), 2020.
class PixelSampling {
 public:
  PixelSampling(std::uint32_t seed, std::uint32_t x, std::uint32_t y, unsigned bits)
      : seed_(seed), first_(interleaved(x, y) << bits) {}
  /// `stream`: which of the pixel's scramblings.
  Sampler sample(std::uint32_t stream, std::uint32_t index) const {
    const std::uint64_t at = first_ + index;
    return {
        seed_, mix(static_cast<std::uint32_t>(at >> 32), stream), static_cast<std::uint32_t>(at)};
  }

 private:
  std::uint32_t seed_;
  std::uint64_t first_;
};

/// A small generator of independent numbers, the same on every machine, for tests, benchmarks and
/// checks.
class Rng {
 public:
  explicit Rng(std::uint64_t seed) : state_(seed * 0x9e3779b97f4a7c15ULL + 1) {}
  /// Source: S. Vigna, splitmix64, public domain, 2015.
  std::uint64_t next() {
    std::uint64_t z = (state_ += 0x9e3779b97f4a7c15ULL);
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    return z ^ (z >> 31);
  }
  /// In [0, 1).
  double uniform() { return static_cast<double>(next() >> 11) * 0x1p-53; }
  double uniform(double lo, double hi) { return lo + (hi - lo) * uniform(); }

 private:
  std::uint64_t state_;
};

}  // namespace jovilux
