#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/transport/light_emission.h"

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

/// The numbers that tell a ray of a distant light: its direction toward the light in square_of(),
/// and where it crosses the plane through a middle that is perpendicular to it [m].
struct DistantRay {
  Vec2 direction = Vec2::Constant(0.5f);  ///< (0.5, 0.5) for a sun, whose rays are nearly parallel
  Vec2 across = Vec2::Zero();
};

/// A ray by which a distant light reached a place that matters to a picture, for learning.
struct DistantArrival {
  DistantRay ray;
  float weight = 0;  ///< what it brings, > 0
};

/// What of a ray's light is emitted: nothing, what its first scattering sends on, or all.
enum class Covers : std::uint8_t { kNothing, kFirst, kAll };

/// Emission sampling of one distant light by a density tree over the four numbers of its rays: most
/// rays of a sky fall on roofs and fields, few pass a window. The tree is learned from rays that
/// arrived where camera paths are scattered; a cell is divided where that makes the arrivals
/// likelier. No ray is emitted from a cell with few arrivals for its size: its photons would stand
/// for the light of hundreds. Photons of cells between these and ordinary ones end where they fall:
/// a single heavy photon of wide sunlit ground that happens to bounce into a room outshines all
/// others there. covers() tells this of each ray, so that what is not emitted can be left to camera
/// paths.
///
/// Source: P. Ram, A. Gray, "Density Estimation Trees", KDD 2011, for trees of densities; here they
/// are divided by likelihood.
class DistantEmission {
 public:
  DistantEmission() = default;
  /// `middle`: about which `across` is measured.
  DistantEmission(const Emitter& aim, const Vec3& middle, std::span<const DistantArrival> arrivals);

  /// A direction toward the light, the same from everywhere, by u in [0, 1)^2.
  static LightSample direction(const Emitter& aim, const Vec2& u);
  /// The ray through p that comes from the unit direction `toward` the light.
  static DistantRay ray_of(const Emitter& aim,
                           const Vec3& middle,
                           const Vec3& p,
                           const Vec3& toward);

  /// Flux of the rays that may be emitted, as far as samples tell [lm].
  double flux() const { return flux_; }
  std::size_t cells() const { return cells_.size(); }
  /// The chance that a photon comes from a cell.
  double chance(std::size_t cell) const {
    return static_cast<double>(cumulative_[cell + 1] - cumulative_[cell]);
  }
  /// Chooses cells by `importance` (one a cell, >= 0) as well.
  void choose_by(const std::vector<double>& importance);
  /// A photon by numbers in [0, 1). Its ray begins in the plane through the middle; VirtualLights
  /// moves that to where the light enters the scene.
  EmittedPhoton sample(const Emitter& aim,
                       float u_cell,
                       const Vec2& u_place,
                       const Vec2& u_light) const;
  /// Whether the ray through p may be emitted, which comes from the unit direction `toward` the
  /// light.
  Covers covers(const Emitter& aim, const Vec3& p, const Vec3& toward) const;

 private:
  using Point = std::array<float, 4>;  // direction, and across in the tree's square, in [0, 1)
  struct Node {
    float cut = 0;
    std::uint32_t axis = kLeaf;  // of a point
    std::uint32_t child = 0;     // the first of two, or the cell; kNoIndex: none is emitted there

    static constexpr std::uint32_t kLeaf = 4;
  };
  struct Cell {
    Point lo, size;
    bool first_only = false;
    double volume() const;
  };
  struct Builder;

  Point point_of(const DistantRay& ray) const;

  Vec3 middle_ = Vec3::Zero();
  Vec2 corner_ = Vec2::Zero();  // of the tree's square,
  float side_ = 1;              // and its side [m]
  double flux_ = 0;
  std::vector<Node> nodes_;
  std::vector<Cell> cells_;        // from which rays are emitted,
  std::vector<double> chances_;    // with what is learned from arrivals,
  std::vector<float> cumulative_;  // and as they are chosen, up to each
};

}  // namespace jovilux
