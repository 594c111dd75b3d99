#pragma once

#include <array>
#include <cstdint>

namespace jovilux {

/// What of a light a contribution is: seen or after one scattering; after more; after more, and a
/// mirror or gloss on which it fell threw it on a surface that is no mirror; or on a path that haze
/// scattered.
enum class Part : std::uint8_t { kDirect, kBounce, kCaustic, kHaze };
inline constexpr std::array<const char*, 4> kPartNames = {"direct", "bounce", "caustic", "haze"};
/// How many of them a picture without haze has, and one with haze.
inline constexpr int kParts = 3, kPartsWithHaze = 4;

}  // namespace jovilux
