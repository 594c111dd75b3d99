#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/rig/rig.h"

namespace jovilux {

/// A thin-lens camera (pinhole without focus). Film points count in pixels, x to the right, y down.
class Camera {
 public:
  Camera(const CameraSpec& spec, const Vec3d& up, int width, int height);
  /// The ray through the film point (x, y), from the lens point chosen by u in [0, 1)^2.
  Ray ray(float x, float y, const Vec2& u) const;
  bool has_lens() const { return lens_radius_ > 0; }

 private:
  Vec3 at_, corner_, dx_, dy_;  ///< corner + x dx + y dy is a film point on the plane at distance 1
  Frame frame_;                 ///< z forwards
  float lens_radius_ = 0, focus_ = 1;
};

}  // namespace jovilux
