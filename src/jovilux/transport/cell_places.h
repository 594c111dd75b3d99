#pragma once

#include "jovilux/transport/guide.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// Of each cell of a guide, the numbers of the first `most` places that lie in it.
std::vector<std::vector<std::uint32_t>> places_by_cell(const GuideTree& tree,
                                                       const std::vector<ShadingPlace>& places,
                                                       std::size_t most);

/// Of each cell, at most `count` cells nearest to it that face as it does, itself included; none of
/// those without places. By the means of the cells' places and normals.
std::vector<std::vector<std::uint32_t>> neighbors_of(
    const std::vector<std::vector<std::uint32_t>>& cells,
    const std::vector<ShadingPlace>& places,
    std::size_t count);

/// Where a ray leaves a place: clear of its surface.
inline Vec3 ray_start(const ShadingPlace& x) {
  return x.position + 1e-4f * (1 + x.position.cwiseAbs().maxCoeff()) * x.normal;
}

}  // namespace jovilux
