#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/scene/scene.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// The light without what depends on where it falls: falloff and tint by position.
Emitter without_place(const Emitter& e);

/// The place that was chosen on a light from p, clear of the light's own surface by the rounding of
/// the distance: where a ray to p begins.
Vec3 clear_of_light(const Emitter& e, const Vec3& p, const LightSample& light);

/// Of weights (>= 0, not all 0), 0 and then their share of the sum up to each: the last is 1.
std::vector<float> cumulative_of(const std::vector<double>& weights);

/// A photon as it leaves its light.
struct EmittedPhoton {
  Ray ray;         ///< from the light's surface
  float flux = 0;  ///< [lm] of all photons that were sampled like it; 0: nothing is emitted there
  bool colored = false;
  Eigen::Array3f rgb = Eigen::Array3f::Ones();
  std::uint32_t cell = 0;   ///< where it crosses the sphere around the light
  bool first_only = false;  ///< only its first scattering sends light on
};

/// Emission sampling of one light of finite size: a photon is the ray from a place on the light
/// through a place on a sphere around it, whose cells are chosen by the flux that crosses them.
/// Every ray of a light crosses that sphere once, so the estimate has the light's whole flux.
/// Without the light's falloff and its tint by position, which depend on where the photon falls.
class LightEmission {
 public:
  LightEmission() = default;
  /// `aim`: the light without falloff and tint by position; `scene_size` [m]; `cells` along one
  /// side of the square of directions, a power of two; `samples`: so many estimate the flux of each
  /// cell. Flux that they miss is emitted by few photons, each with much of it.
  LightEmission(const Emitter& aim, float scene_size, std::size_t cells, std::uint32_t samples = 8);

  /// Mean flux of the emitted light [lm], as far as the cells' samples tell.
  double flux() const { return flux_; }
  std::size_t cells() const { return cumulative_.empty() ? 0 : cumulative_.size() - 1; }
  /// The chance that a photon comes from a cell.
  double chance(std::size_t cell) const {
    return static_cast<double>(cumulative_[cell + 1] - cumulative_[cell]);
  }
  /// Chooses cells by `importance` (one a cell, >= 0) instead, for a part of all photons.
  void choose_by(const std::vector<double>& importance);
  /// A photon by u, v and w in [0, 1)^2.
  EmittedPhoton sample(const Emitter& aim,
                       float u_cell,
                       const Vec2& u_place,
                       const Vec2& u_light) const;

 private:
  Vec3 outward(std::size_t cell, const Vec2& u) const;

  float radius_ = 0;
  std::size_t side_ = 0;
  double flux_ = 0;
  std::vector<double> power_;      // of each cell, relative
  std::vector<float> cumulative_;  // chances of the cells up to each
};

}  // namespace jovilux
