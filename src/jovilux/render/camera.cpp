#include "jovilux/render/camera.h"

#include <cmath>

namespace jovilux {

Camera::Camera(const CameraSpec& spec, const Vec3d& up, int width, int height) {
  const Vec3d forward = (spec.look_at - spec.at).normalized();
  Vec3d right = forward.cross(up);
  if (right.norm() < 1e-9) {  // straight up or down: any level direction
    right = forward.cross(std::abs(up.z()) > 0.5 ? Vec3d::UnitY() : Vec3d::UnitZ());
  }
  right.normalize();
  const Vec3d down = forward.cross(right);
  at_ = spec.at.cast<float>();
  const double half_width = std::tan(spec.view / 2);
  const double pixel = 2 * half_width / width;
  dx_ = (right * pixel).cast<float>();
  dy_ = (down * pixel).cast<float>();
  corner_ = (forward - right * half_width - down * (pixel * height / 2)).cast<float>();
  frame_ = {right.cast<float>(), down.cast<float>(), forward.cast<float>()};
  if (spec.focus) {
    focus_ = static_cast<float>(*spec.focus);
    lens_radius_ = static_cast<float>(spec.lens / (2 * spec.exposure.stop));
  }
}

Ray Camera::ray(float x, float y, const Vec2& u) const {
  const Vec3 towards = corner_ + x * dx_ + y * dy_;  // has length 1 along the axis
  if (lens_radius_ <= 0) {
    return {at_, towards.normalized()};
  }
  const float r = lens_radius_ * std::sqrt(u.x()), phi = 2 * kPi * u.y();
  const Vec3 from = at_ + r * std::cos(phi) * frame_.x + r * std::sin(phi) * frame_.y;
  return {from, (at_ + focus_ * towards - from).normalized()};
}

}  // namespace jovilux
