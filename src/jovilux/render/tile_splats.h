#pragma once

#include "jovilux/render/film.h"
#include "jovilux/transport/light_paths.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <iterator>
#include <vector>

namespace jovilux {

/// What light paths bring to a tile in one pass, in the slots that they reach.
struct TileSplats {
  struct Pixel {
    std::array<std::array<float, 3>, kHalves> xyz{};
    std::array<float, kBatches> luminance{};
    float clamped = 0;
  };
  struct Slot {
    std::uint32_t slot;
    std::vector<Pixel> pixels = std::vector<Pixel>(static_cast<std::size_t>(kTile) * kTile);
  };
  std::vector<Slot> slots;

  /// `batch`: of the sample that the light's path belongs to.
  void add(const Splat& s, std::uint32_t batch, const Film& film) {
    const auto parts = static_cast<std::uint32_t>(film.parts());
    const std::uint32_t slot =
        s.layer * parts + (parts > 1 ? static_cast<std::uint32_t>(s.part) : 0);
    auto its =
        std::find_if(slots.begin(), slots.end(), [&](const Slot& one) { return one.slot == slot; });
    if (its == slots.end()) {
      slots.push_back({slot});
      its = std::prev(slots.end());
    }
    const auto width = static_cast<std::uint32_t>(film.width());
    Pixel& p = its->pixels[s.pixel / width % kTile * kTile + s.pixel % width % kTile];
    for (std::size_t c = 0; c < 3; ++c) {
      p.xyz[batch % kHalves][c] += s.xyz[static_cast<Eigen::Index>(c)];
    }
    p.luminance[batch] += s.xyz[1];
    p.clamped += s.clamped;
  }
};

}  // namespace jovilux
