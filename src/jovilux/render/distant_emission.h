#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/render/light_emission.h"

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

/// The numbers that tell a ray of a distant light: u in [0, 1)^2 by which sample_toward() chooses
/// its direction, and where it crosses the plane through a middle perpendicular to that [m].
struct DistantRay {
  Vec2 u = Vec2::Zero();
  Vec2 across = Vec2::Zero();
};

/// A ray by which a distant light reached a place that matters to a picture, for learning.
struct DistantArrival {
  DistantRay ray;
  float weight = 0;  ///< what it brings, > 0
};

/// Emission sampling of one distant light: rays of parallel light that fall on a scene of any
/// size. Most rays of a sky fall on roofs and fields; few pass a window. So rays are chosen by a
/// density tree over their four numbers, which is learned from rays that arrived where camera paths
/// are scattered: cells are halved where that makes the arrivals likelier. A part of the rays has a
/// density ~ (1 + r^2 / s^2)^(-3/2) over the whole plane (r from the middle, s the scale): it
/// covers an endless floor, and what a ray brings from far does not grow with r, since it falls
/// with the cube of the distance at least (grazing light of a level floor).
///
/// Source: P. Ram, A. Gray, "Density Estimation Trees", KDD 2011, for trees of densities; here they
/// are divided by likelihood.
class DistantEmission {
 public:
  DistantEmission() = default;
  /// `middle`: about which `across` is measured; `scale` [m], > 0: how far about it the scene lies;
  /// without arrivals, rays are chosen by the tail alone.
  DistantEmission(const Emitter& aim,
                  const Vec3& middle,
                  float scale,
                  std::span<const DistantArrival> arrivals);

  /// Where a ray that comes from the unit direction `toward` the light through p crosses.
  static Vec2 across(const Vec3& middle, const Vec3& p, const Vec3& toward);

  /// Flux through the part of the tree that holds nine tenths of the arrivals [lm]; of the tail
  /// within one scale where there are none.
  double flux() const { return flux_; }
  /// Cells of the tree, and one for what lies beyond.
  std::size_t cells() const { return chances_.size() + 1; }
  /// Chooses cells by `importance` (one a cell, >= 0) as well.
  void choose_by(const std::vector<double>& importance);
  /// A photon by numbers in [0, 1). Its ray begins in the plane through the middle; VirtualLights
  /// moves that to where the light enters the scene.
  EmittedPhoton sample(const Emitter& aim,
                       float u_cell,
                       const Vec2& u_place,
                       const Vec2& u_light) const;
  /// Density of rays over u and across [1/m2].
  double density(const DistantRay& ray) const;

 private:
  using Point = std::array<float, 4>;  // u, and across in the tree's square, all in [0, 1)
  struct Node {
    float cut = 0;
    std::uint32_t axis = kLeaf;  // of a point
    std::uint32_t child = 0;     // the first of two, or the cell

    static constexpr std::uint32_t kLeaf = 4;
  };
  struct Cell {
    Point lo, size;
    double volume() const;
  };
  struct Builder;

  bool any_cells() const { return !cells_.empty(); }
  Point point_of(const DistantRay& ray) const;
  std::size_t cell_at(const Point& p) const;
  double tail_density(const Vec2& across) const;
  void set_chances(std::vector<double> chances);

  Vec3 middle_ = Vec3::Zero();
  float scale_ = 1;
  Vec2 corner_ = Vec2::Zero();  // of the tree's square,
  float side_ = 1;              // and its side [m]
  double flux_ = 0;
  std::vector<Node> nodes_;
  std::vector<Cell> cells_;
  std::vector<double> chances_;    // of cells, learned from arrivals,
  std::vector<float> cumulative_;  // and as they are chosen, up to each
};

}  // namespace jovilux
