#pragma once

#include "jovilux/emitters/emitter.h"

#include <array>
#include <cstddef>

namespace jovilux {

/// Up to kMost plain lights as columns of numbers, so that what each could bring is told for eight
/// or sixteen at once: the estimates of expected_illuminance, expected_fluence and expected_along,
/// within roundings. Plain is a point, sphere, spot, disk or rectangle without profile, mask,
/// doors, spread, links or room of its own, with a physical falloff.
class LightBoard {
 public:
  static constexpr std::size_t kMost = 64;
  /// Columns are read in groups of so many at most; the values of a query fill whole groups, 0
  /// where there is no light. Divides kMost.
  static constexpr std::size_t kGroup = 16;
  using Values = std::array<float, kMost>;

  /// A light's numbers, each in a column of its own.
  struct Columns {
    std::size_t count = 0;
    /// Place [m], axis (the way it shines), radius of the ball that holds the light [m].
    Values x{}, y{}, z{}, axis_x{}, axis_y{}, axis_z{}, reach{};
    Values power{};  ///< the highest intensity [cd]; 0: no light
    /// The steps of a spot's beam (BeamSteps); of other lights the first holds everywhere.
    Values cos_beam{}, cos_field{}, in_beam{}, in_field{}, outside{};
    Values cos_behind{};  ///< nothing shines where the cosine to the axis is not above this
    Values lambert{};     ///< 1: the cosine at the light counts
    Values both_sides{};  ///< 1: shines to both sides of its plane
    Values widens{};      ///< 1: the beam is widened by what the light fills
  };

  static bool holds(const Emitter& e);

  /// e: one that the board holds; size() < kMost. The light's index is the size before.
  void add(const Emitter& e);

  std::size_t size() const { return columns_.count; }

  /// To the upper side of a surface at p with unit normal n [lx].
  void illuminances(const Vec3& p, const Vec3& n, Values& out) const;
  /// To haze at p [lx].
  void fluences(const Vec3& p, Values& out) const;
  /// To haze along a ray (unit direction) up to `end` [m].
  void along(const Ray& ray, float end, Values& out) const;

 private:
  Columns columns_;
};

}  // namespace jovilux
