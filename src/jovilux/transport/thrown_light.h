#pragma once

#include "jovilux/scene/scene.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <optional>
#include <vector>

namespace jovilux {

/// A small plane that receives light by the cosine, on its front.
struct ReceivingPlane {
  Vec3 at = Vec3::Zero();
  Vec3 normal = Vec3::UnitZ();  ///< unit
};

/// Whether ThrownLight can find what mirrors throw of a light: a point or a spot without size,
/// without departures that depend on the way.
bool can_be_thrown(const Scene& scene, const Emitter& e);

/// The beams in which one light without size comes to a place by mirrors and smooth glass alone: no
/// path from there meets the light, and a path from the light hardly ever meets the place. The
/// light's directions are divided into cells, as equal parts of the sphere. A cell is divided again
/// where the rays of its corners, thrown on by mirrors, pass the place within the distance that
/// they have from each other; until that distance is small beside the way from the last mirror.
/// What then passes a small disk around the place is counted (density estimation; H. W. Jensen,
/// "Global Illumination using Photon Maps", EGWR 1996), of photons from the cells found.
///
/// A mirror that fills less than about a degree from the light may be missed, and so are ways on
/// which glass reflects more than once.
class ThrownLight {
 public:
  /// The scene must stay where it is. `bounces`: the most mirrors on a way.
  ThrownLight(const Scene& scene,
              std::uint32_t emitter,
              const ReceivingPlane& plane,
              int bounces,
              std::uint32_t seed);

  /// Whether any light was found to come.
  bool any() const { return !cells_.empty(); }
  /// Adds what about so many photons bring to the sink, as the luminance of a white diffuse surface
  /// in the plane [cd/m2]; batches are independent.
  void add(std::uint32_t batch, std::uint32_t photons, LightSink& sink) const;

 private:
  // A part of the square of directions (direction_of()).
  struct Cell {
    Vec2 lo = Vec2::Zero();
    float side = 1;
    float spread_before = 0;  // Verdict::spread of the cell that was divided [m]
  };
  // Where a thrown ray comes nearest to the place: seen from there, and from how far it was thrown.
  struct Approach {
    Vec3 offset = Vec3::Zero();
    float thrown_from = 0;
  };
  template <class Use>
  int follow(const Vec2& direction,
             std::uint64_t seed,
             std::optional<int> reflected_at,
             double solid_angle,
             const Use& use) const;
  // What a cell's rays tell.
  struct Verdict {
    bool matters = false, fine = false;
    float spread = 0;  // the largest distance between its rays where they come nearest [m]
    int choices = 0;  // between reflection and transmission, the most of a ray
  };
  Verdict judge(const Cell& cell, int level, int reflected_at) const;
  Verdict judge(const Cell& cell, int level) const;

  const Scene& scene_;
  Emitter aim_;  // without falloff and tint by position
  std::uint32_t emitter_;
  ReceivingPlane plane_;
  int bounces_;
  std::uint32_t seed_;
  std::vector<Cell> cells_;
};

}  // namespace jovilux
