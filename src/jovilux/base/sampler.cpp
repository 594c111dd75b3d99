#include "jovilux/base/sampler.h"

#include <array>

namespace jovilux {
namespace {

// Direction numbers of the polynomial x + 1: row k is row k - 1 xor itself shifted (Pascal's
// triangle modulo 2).
// A byte of the index at a time: the generator matrix is linear over bits, so four lookups give the
// number.
constexpr auto kSecond = [] {
  std::array<std::array<std::uint32_t, 256>, 4> table{};
  std::array<std::uint32_t, 32> v{};
  v[0] = 0x80000000U;
  for (std::size_t k = 1; k < 32; ++k) {
    v[k] = v[k - 1] ^ (v[k - 1] >> 1);
  }
  for (std::size_t byte = 0; byte < 4; ++byte) {
    for (std::size_t value = 0; value < 256; ++value) {
      for (std::size_t bit = 0; bit < 8; ++bit) {
        if (value >> bit & 1U) {
          table[byte][value] ^= v[8 * byte + bit];
        }
      }
    }
  }
  return table;
}();

}  // namespace

std::uint32_t sobol_second(std::uint32_t index) {
  return kSecond[0][index & 255U] ^ kSecond[1][index >> 8 & 255U] ^ kSecond[2][index >> 16 & 255U] ^
         kSecond[3][index >> 24];
}

}  // namespace jovilux
