#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/rig/rig.h"

#include <optional>

namespace jovilux {

/// A thin-lens camera (pinhole without focus). Film points count in pixels, x to the right, y down.
class Camera {
 public:
  Camera(const CameraSpec& spec, const Vec3d& up, int width, int height);
  /// The ray through the film point (x, y), from the lens point chosen by u in [0, 1)^2.
  Ray ray(float x, float y, const Vec2& u) const;
  bool has_lens() const { return lens_radius_ > 0; }
  /// The film point of a sample, from its pixel's center, in [-1, 1)^2: chosen by `place` in
  /// [0, 1)^2 in proportion to the pixel's filter, a tent of radius one pixel.
  static Vec2 offset_in_pixel(const Vec2& place);
  /// A ray for a sample of the pixel (x, y) with that film point.
  Ray pixel_ray(int x, int y, const Vec2& offset, const Vec2& lens) const;

  /// How the camera sees a point in front of it, from the lens point chosen by u.
  struct FilmPoint {
    float x, y;      ///< film point, in the picture or beside it
    Vec3 toward;     ///< unit, from the point to the lens point
    float distance;  ///< [m]
  };
  std::optional<FilmPoint> film_point(const Vec3& p, const Vec2& u) const;
  /// Pixels per steradian around a ray's unit direction (away from the camera): 1 / (a cos^3), with
  /// a the area of a pixel at distance 1 and the angle to the axis.
  double film_density(const Vec3& direction) const;

 private:
  Vec3 at_, corner_, dx_, dy_;  ///< corner + x dx + y dy is a film point on the plane at distance 1
  Frame frame_;                 ///< z forwards
  double pixel_area_ = 1;       // at distance 1
  float lens_radius_ = 0, focus_ = 1;
  Vec3 lens_point(const Vec2& u) const;
};

}  // namespace jovilux
