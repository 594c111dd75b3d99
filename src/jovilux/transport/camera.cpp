#include "jovilux/transport/camera.h"

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
  const double half_width = std::tan(spec.field_of_view / 2);
  const double pixel = 2 * half_width / width;
  dx_ = (right * pixel).cast<float>();
  dy_ = (down * pixel).cast<float>();
  corner_ = (forward - right * half_width - down * (pixel * height / 2)).cast<float>();
  pixel_area_ = static_cast<double>(dx_.norm()) * static_cast<double>(dy_.norm());
  frame_ = {right.cast<float>(), down.cast<float>(), forward.cast<float>()};
  if (spec.focus) {
    focus_ = static_cast<float>(*spec.focus);
    lens_radius_ = static_cast<float>(spec.lens / (2 * spec.exposure.stop));
  }
}

Vec3 Camera::lens_point(const Vec2& u) const {
  const float r = lens_radius_ * std::sqrt(u.x()), phi = 2 * kPi * u.y();
  return at_ + r * std::cos(phi) * frame_.x + r * std::sin(phi) * frame_.y;
}

Ray Camera::ray(float x, float y, const Vec2& u) const {
  const Vec3 towards = corner_ + x * dx_ + y * dy_;  // has length 1 along the axis
  if (lens_radius_ <= 0) {
    return {at_, towards.normalized()};
  }
  const Vec3 from = lens_point(u);
  return {from, (at_ + focus_ * towards - from).normalized()};
}

Vec2 Camera::offset_in_pixel(const Vec2& place) {
  // Inverse of the cumulative tent.
  const auto tent = [](float u) {
    return u < 0.5f ? std::sqrt(2 * u) - 1 : 1 - std::sqrt(2 - 2 * u);
  };
  return {tent(place.x()), tent(place.y())};
}

Ray Camera::pixel_ray(int x, int y, const Vec2& offset, const Vec2& lens) const {
  return ray(
      static_cast<float>(x) + 0.5f + offset.x(), static_cast<float>(y) + 0.5f + offset.y(), lens);
}

std::optional<Camera::FilmPoint> Camera::film_point(const Vec3& p, const Vec2& u) const {
  const Vec3 from = lens_radius_ > 0 ? lens_point(u) : at_;
  const Vec3 way = p - from;
  const float ahead = way.dot(frame_.z);
  const float distance = way.norm();
  if (!(ahead > 1e-6f * distance)) {
    return std::nullopt;
  }
  // The point of the plane in focus that the ray passes, brought to distance 1; without a lens all
  // planes are.
  const Vec3 towards =
      lens_radius_ > 0 ? Vec3((from + way * (focus_ / ahead) - at_) / focus_) : Vec3(way / ahead);
  const Vec3 on_film = towards - corner_;
  return FilmPoint{on_film.dot(dx_) / dx_.squaredNorm(),
                   on_film.dot(dy_) / dy_.squaredNorm(),
                   -way / distance,
                   distance};
}

double Camera::film_density(const Vec3& direction) const {
  const double cosine = direction.dot(frame_.z);
  return cosine > 0 ? 1 / (pixel_area_ * cosine * cosine * cosine) : 0;
}

}  // namespace jovilux
