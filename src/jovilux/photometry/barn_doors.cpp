#include "jovilux/photometry/barn_doors.h"

#include <cmath>

namespace jovilux {
namespace {

// The two coordinates of a vector that a leaf's cross-section is drawn in, and the one along its
// hinge.
struct Across {
  float out, along, ahead;  // from the middle to the hinge's side, along the hinge, z
};

Across across(const Vec3& v, BarnDoors::Side side) {
  switch (side) {
    case BarnDoors::kLeft:
      return {v.x(), v.y(), v.z()};
    case BarnDoors::kRight:
      return {-v.x(), v.y(), v.z()};
    case BarnDoors::kTop:
      return {v.y(), v.x(), v.z()};
    case BarnDoors::kBottom:
      break;
  }
  return {-v.y(), v.x(), v.z()};
}

}  // namespace

bool BarnDoors::lets_pass(const Vec3& from, const Vec3& wo) const {
  constexpr float kBack = -1e-6f;  // a closed leaf lies in the plane that the light leaves
  for (const Side side : {kLeft, kRight, kTop, kBottom}) {
    const float opened = angle[side];
    const bool upright = side == kLeft || side == kRight;
    const float hinge = upright ? half_width : half_height,
                half_hinge = upright ? half_height : half_width;
    const Across p = across(from, side), d = across(wo, side);
    // The leaf goes from the hinge along (-cos, sin) of (out, ahead); its normal is (sin, cos).
    const float sine = std::sin(opened), cosine = std::cos(opened);
    const float toward = d.out * sine + d.ahead * cosine;
    if (toward == 0) {
      continue;
    }
    const float t = ((hinge - p.out) * sine - p.ahead * cosine) / toward;
    if (!(t >= kBack)) {
      continue;
    }
    const float out = p.out + t * d.out, ahead = p.ahead + t * d.ahead,
                along = p.along + t * d.along;
    const float on_leaf = -(out - hinge) * cosine + ahead * sine;
    if (on_leaf >= 0 && on_leaf <= length && std::abs(along) <= half_hinge) {
      return false;
    }
  }
  return true;
}

}  // namespace jovilux
