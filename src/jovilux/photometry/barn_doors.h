#pragma once

#include "jovilux/base/vec.h"

#include <array>

namespace jovilux {

/// Four opaque leaves hinged on the edges of a light's opening. In the light's frame: the opening
/// lies in the plane z = 0, z is the way the light shines.
struct BarnDoors {
  enum Side { kLeft, kRight, kTop, kBottom };  ///< as seen from behind, along the beam

  float half_width = 0, half_height = 0;  ///< of the opening [m]; above 0
  float length = 0;                       ///< of the leaves, from the hinge to the free edge [m]
  /// Of each leaf [rad]: 0 closed over the opening, pi/2 straight ahead, pi folded back.
  std::array<float, 4> angle{kPi, kPi, kPi, kPi};

  /// Whether light that leaves `from` (near z = 0) along the unit direction `wo` meets no leaf.
  bool lets_pass(const Vec3& from, const Vec3& wo) const;
};

}  // namespace jovilux
