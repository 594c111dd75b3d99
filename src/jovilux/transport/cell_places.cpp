#include "jovilux/transport/cell_places.h"

#include "jovilux/base/parallel.h"

#include <algorithm>
#include <utility>

namespace jovilux {

std::vector<std::vector<std::uint32_t>> places_by_cell(const GuideTree& tree,
                                                       const std::vector<ShadingPlace>& places,
                                                       std::size_t most) {
  std::vector<std::vector<std::uint32_t>> out(tree.cells());
  for (std::uint32_t i = 0; i < places.size(); ++i) {
    std::vector<std::uint32_t>& cell = out[tree.cell_at(places[i].position, places[i].normal)];
    if (cell.size() < most) {
      cell.push_back(i);
    }
  }
  return out;
}

std::vector<std::vector<std::uint32_t>> neighbors_of(
    const std::vector<std::vector<std::uint32_t>>& cells,
    const std::vector<ShadingPlace>& places,
    std::size_t count) {
  constexpr float kAlike = 0.5f;  // of the squared distance of mean normals
  std::vector<ShadingPlace> middles(cells.size());
  for (std::size_t c = 0; c < cells.size(); ++c) {
    const auto members = static_cast<float>(cells[c].size());
    for (const std::uint32_t i : cells[c]) {
      middles[c].position += places[i].position / members;
      middles[c].normal += places[i].normal / members;
    }
  }
  std::vector<std::vector<std::uint32_t>> out(cells.size());
  parallel_for(cells.size(), [&](std::size_t c) {
    std::vector<std::pair<float, std::uint32_t>> others;
    for (std::uint32_t o = 0; o < cells.size(); ++o) {
      const bool alike = (middles[o].normal - middles[c].normal).squaredNorm() < kAlike;
      if (alike && !cells[o].empty()) {
        others.emplace_back((middles[o].position - middles[c].position).squaredNorm(), o);
      }
    }
    const std::size_t nearest = std::min(count, others.size());
    std::partial_sort(
        others.begin(), others.begin() + static_cast<std::ptrdiff_t>(nearest), others.end());
    for (std::size_t i = 0; i < nearest; ++i) {
      out[c].push_back(others[i].second);
    }
  });
  return out;
}

}  // namespace jovilux
