#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/transport/guide.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

struct Scene;

/// Directions toward a sky or dome: a share of them by a tree of directions, the rest as
/// sample_toward() chooses them, so that none is left out.
struct SkyDirections {
  std::span<const DirectionNode> nodes;
  std::uint32_t root = 0;
  float share = 0;  ///< by the tree, 0..1; 0: there need be none

  /// As sample_toward(e, p, u, side), with the density of the mixture.
  LightSample sample(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side) const;
  /// The density of the mixture [1/sr], `own` that of sample_toward() alone.
  float mixed(const Vec3& wi, float own) const;
};

/// From which directions the light of skies and domes arrives in each cell of the guide. A place in
/// a room sees a window's part of the sky; of directions chosen by the sky's luminance alone, most
/// end at a wall. A share of the cell's directions is chosen by a tree of what arrived at its
/// places; it is 0 where a third of the light or more arrives.
///
/// Learned in rounds of shadow rays: each round after the first asks mostly where rays of the cell
/// and of its neighbors arrived in the rounds before.
class SkyGuide {
 public:
  SkyGuide() = default;
  /// `surfaces`: where camera paths were scattered, in the cells of `tree`; `most_rays`: shadow
  /// rays of all rounds together, about.
  SkyGuide(const Scene& scene,
           const GuideTree& tree,
           const std::vector<ShadingPlace>& surfaces,
           double most_rays,
           std::uint32_t seed,
           RayCounts& rays);

  /// Whether some cell chooses directions so.
  bool any() const { return !nodes_.empty(); }
  /// Whether there are trees for a light.
  static bool suits(const Emitter& e) {
    return e.kind == LightKind::kSky || e.kind == LightKind::kDome;
  }

  /// As sample_toward(e, p, u, side), e the scene's emitter number `emitter`, p in `cell`.
  LightSample sample(const Emitter& e,
                     std::uint32_t emitter,
                     std::uint32_t cell,
                     const Vec3& p,
                     const Vec2& u,
                     const Vec3* side) const;
  /// Its density over solid angle [1/sr], as light_pdf().
  float pdf(const Emitter& e,
            std::uint32_t emitter,
            std::uint32_t cell,
            const Vec3& p,
            const Vec3& wi,
            const Vec3* side) const;

  std::size_t memory_bytes() const {
    return nodes_.size() * sizeof(DirectionNode) + cells_.size() * sizeof(Cell) +
           first_cell_.size() * sizeof(std::uint32_t);
  }

 private:
  struct Cell {
    std::uint32_t root = 0;
    float share = 0;  // of directions that the tree chooses
  };
  struct Builder;

  SkyDirections directions_of(std::uint32_t emitter, std::uint32_t cell) const {
    const std::uint32_t first = first_cell_[emitter];
    const Cell c = first == kNoIndex ? Cell{} : cells_[first + cell];
    return {nodes_, c.root, c.share};
  }
  Cell add_tree(const std::vector<DirectionNode>& tree, float share);
  static std::vector<float> shares_of(const Scene& scene,
                                      const GuideTree& tree,
                                      const std::vector<std::vector<std::uint32_t>>& cells,
                                      std::uint32_t light);

  std::vector<std::uint32_t> first_cell_;  // of each emitter; kNoIndex: none
  std::vector<Cell> cells_;
  std::vector<DirectionNode> nodes_;
};

}  // namespace jovilux
