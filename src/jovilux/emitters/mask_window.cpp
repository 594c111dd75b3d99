#include "jovilux/emitters/mask_window.h"

#include <algorithm>
#include <cmath>

namespace jovilux {

bool mask_crossing(
    const Emitter& e, const Vec3& p, const Vec3& place, const Vec3& wi, float& x, float& y) {
  const float plane = e.detail->gobo->distance();
  if (e.is_distant()) {  // the plane stands `plane` from the scene's origin towards the sun
    const float height = -p.dot(e.frame.z), rise = -wi.dot(e.frame.z);
    if (height >= plane || !(rise > 0)) {
      return false;
    }
    const Vec3 at = p + wi * ((plane - height) / rise);
    x = at.dot(e.frame.x);
    y = at.dot(e.frame.y);
    return true;
  }
  const float hp = (p - e.center).dot(e.frame.z), hq = (place - e.center).dot(e.frame.z);
  if (hp <= plane || hq >= plane) {
    return false;
  }
  const Vec3 at = place + (p - place) * ((plane - hq) / (hp - hq)) - e.center;
  x = at.dot(e.frame.x);
  y = at.dot(e.frame.y);
  return true;
}

MaskWindow::MaskWindow(const Emitter& e, const Vec3& p, Detail detail) : light_(e) {
  const std::optional<Seen> seen = e.is_distant() ? seen_of_sun(p) : seen_of_lamp(p);
  if (!seen) {
    return;
  }
  sums_ = &e.detail->gobo->sums();
  crossed_ = true;
  place_window(*seen);
  if (detail == Detail::kRough) {
    const Eigen::Vector2d half = std::sqrt(area_ / (4 * half_.prod())) * half_;
    total_ = sums_->over(center_.x() - half.x(),
                         center_.x() + half.x(),
                         center_.y() - half.y(),
                         center_.y() + half.y());
    return;
  }
  measure_strips();
  choose_share(seen->unevenness);
}

// Of the sun's disc, as far above the mask as p lies below it.
std::optional<MaskWindow::Seen> MaskWindow::seen_of_sun(const Vec3& p) {
  const Vec3d x = light_.frame.x.cast<double>(), y = light_.frame.y.cast<double>(),
              z = light_.frame.z.cast<double>(), at = p.cast<double>();
  p_ = {x.dot(at), y.dot(at)};
  height_ = static_cast<double>(light_.detail->gobo->distance()) + z.dot(at);
  if (!(height_ > 0)) {
    return std::nullopt;
  }
  const auto sin2 = static_cast<double>(light_.sin2_disc);
  return Seen{1, height_ * std::sqrt(sin2 / (1 - sin2)), p_, 0};
}

std::optional<MaskWindow::Seen> MaskWindow::seen_of_lamp(const Vec3& p) {
  const Emitter& e = light_;
  const Vec3d x = e.frame.x.cast<double>(), y = e.frame.y.cast<double>(),
              z = e.frame.z.cast<double>(), d = (p - e.center).cast<double>();
  const auto plane = static_cast<double>(e.detail->gobo->distance()),
             radius = static_cast<double>(e.radius);
  p_ = {x.dot(d), y.dot(d)};
  height_ = z.dot(d);
  if (!(height_ > plane)) {
    return std::nullopt;
  }
  // Square over square, of cos / d^2 at the nearest and the farthest place.
  const double reach = e.kind == LightKind::kRect ? std::hypot(static_cast<double>(e.half_width),
                                                               static_cast<double>(e.half_height))
                                                  : radius,
               off = p_.norm();
  const double nearest = sqr(height_) + sqr(std::max(0.0, off - reach)),
               farthest = sqr(height_) + sqr(off + reach);
  const double k = plane / height_;
  return Seen{1 - k, radius, k * p_, sqr(sqr(farthest / nearest) - 1) / 12};
}

// Where on the mask the light is seen, in tiles.
void MaskWindow::place_window(const Seen& seen) {
  const Gobo& gobo = *light_.detail->gobo;
  round_ = light_.kind != LightKind::kRect;
  to_tiles_ = seen.scale * gobo.to_tiles();
  center_ = gobo.to_tiles() * seen.shift + gobo.tiles_offset();
  if (round_) {  // a turned circle is a circle
    const auto& spec = gobo.spec();
    half_ = seen.scale * seen.radius * Eigen::Vector2d(1 / spec.width, 1 / spec.height);
    area_ = kPiD * half_.prod();
  } else {
    const Eigen::Vector2d a = to_tiles_.col(0) * static_cast<double>(light_.half_width),
                          b = to_tiles_.col(1) * static_cast<double>(light_.half_height);
    corners_ = {center_ + a + b, center_ + a - b, center_ - a - b, center_ - a + b};
    half_ = a.cwiseAbs() + b.cwiseAbs();
    area_ = 4 * std::abs(a.x() * b.y() - a.y() * b.x());
  }
}

// What comes through strips that cover the window.
void MaskWindow::measure_strips() {
  const bool upright = !round_ && (area_ > 3.999 * half_.prod());
  count_ = upright ? 1 : kStrips;
  double strips_area = 0;
  const double from = center_.y() - half_.y(), step = 2 * half_.y() / count_;
  for (int i = 0; i < count_; ++i) {
    const double r0 = from + i * step, r1 = r0 + step;
    Strip& strip = strips_[static_cast<std::size_t>(i)];
    std::tie(strip.s0, strip.s1) = widest(r0, r1);
    strip.weight = sums_->over(strip.s0, strip.s1, r0, r1);
    total_ += strip.weight;
    strips_area += (strip.s1 - strip.s0) * step;
  }
  area_ = std::max(strips_area, 1e-300);
  total_ = total_ < 1e-9 * area_ ? 0 : total_;  // roundings of differences
}

// How often places are chosen by the mask: by the variance that it makes, beside that of what the
// places send. Within a cell of it all is even; one that passes nearly everything needs no choice.
void MaskWindow::choose_share(double unevenness) {
  const double open = total_ / area_;
  if (open > 0.98 || !(open > 0) ||
      (half_.x() * sums_->columns() < 0.25 && half_.y() * sums_->rows() < 0.25)) {
    return;
  }
  const double by_mask = 1 / open - 1;  // relative variance of a mask of holes
  const double share = by_mask / (by_mask + unevenness);
  share_ = share < 0.05 ? 0.0f : share < 0.98 ? static_cast<float>(share) : 1.0f;
  share_ = sums_->is_complete() ? share_ : std::min(share_, 0.9f);
}

// Where the window lies in the row at r, in tiles.
std::pair<double, double> MaskWindow::chord(double r) const {
  if (round_) {
    const double v = (r - center_.y()) / half_.y(),
                 half = half_.x() * std::sqrt(std::max(0.0, 1 - v * v));
    return {center_.x() - half, center_.x() + half};
  }
  double s0 = HUGE_VAL, s1 = -HUGE_VAL;
  for (std::size_t i = 0; i < 4; ++i) {
    const Eigen::Vector2d &a = corners_[i], &b = corners_[(i + 1) % 4];
    if ((r < a.y() && r < b.y()) || (r > a.y() && r > b.y())) {
      continue;
    }
    const bool level = std::abs(b.y() - a.y()) < 1e-12 * half_.y();
    const double t = level ? 0 : std::clamp((r - a.y()) / (b.y() - a.y()), 0.0, 1.0);
    for (const double s :
         {a.x() + t * (b.x() - a.x()), level ? b.x() : a.x() + t * (b.x() - a.x())}) {
      s0 = std::min(s0, s);
      s1 = std::max(s1, s);
    }
  }
  return s0 <= s1 ? std::pair{s0, s1} : std::pair{center_.x(), center_.x()};
}

std::pair<double, double> MaskWindow::widest(double r0, double r1) const {
  if (round_) {
    return chord(std::clamp(center_.y(), r0, r1));
  }
  auto [s0, s1] = chord(r0);
  const auto other = chord(r1);
  s0 = std::min(s0, other.first);
  s1 = std::max(s1, other.second);
  for (const Eigen::Vector2d& c : corners_) {
    if (c.y() >= r0 && c.y() <= r1) {
      s0 = std::min(s0, c.x());
      s1 = std::max(s1, c.x());
    }
  }
  return {s0, s1};
}

// Over the light's plane: the row by the strip's width, the place in the row by the window's own.
double MaskWindow::density(const Eigen::Vector2d& tile,
                           const Strip& strip,
                           double s0,
                           double s1) const {
  const double row = sums_->along_row(s0, s1, tile.y());
  const double tiles = row > 0 ? sums_->along_row(strip.s0, strip.s1, tile.y()) / total_ *
                                     sums_->at(tile.x(), tile.y()) / row
                               : 0;
  return tiles * std::abs(to_tiles_.determinant());
}

std::pair<Eigen::Vector2d, double> MaskWindow::place(const Vec2& u) const {
  double v = static_cast<double>(u.x()) * total_;
  std::size_t chosen = 0;
  for (std::size_t i = 0; i < static_cast<std::size_t>(count_); ++i) {
    if (!(strips_[i].weight > 0)) {
      continue;
    }
    chosen = i;
    if (v < strips_[i].weight) {
      break;
    }
    v -= strips_[i].weight;
  }
  const Strip& strip = strips_[chosen];
  const double step = 2 * half_.y() / count_,
               r0 = center_.y() - half_.y() + static_cast<double>(chosen) * step;
  const double r =
      sums_->split_rows(strip.s0, strip.s1, r0, r0 + step, std::clamp(v / strip.weight, 0.0, 1.0));
  const auto [s0, s1] = chord(r);
  const Eigen::Vector2d tile(sums_->split_row(s0, s1, r, static_cast<double>(u.y())), r);
  return {to_tiles_.inverse() * (tile - center_), density(tile, strip, s0, s1)};
}

double MaskWindow::density(const Eigen::Vector2d& q) const {
  const Eigen::Vector2d tile = to_tiles_ * q + center_;
  const double down = (tile.y() - (center_.y() - half_.y())) / (2 * half_.y());
  if (!(down >= 0 && down <= 1) || !(total_ > 0)) {
    return 0;
  }
  const auto [s0, s1] = chord(tile.y());
  if (tile.x() < s0 || tile.x() > s1) {
    return 0;
  }
  return density(
      tile,
      strips_[static_cast<std::size_t>(std::min(static_cast<int>(down * count_), count_ - 1))],
      s0,
      s1);
}

Eigen::Vector2d MaskWindow::seen(const Vec3& wi, const Vec3& at) const {
  const Vec3d x = light_.frame.x.cast<double>(), y = light_.frame.y.cast<double>(),
              z = light_.frame.z.cast<double>();
  if (light_.is_distant()) {
    const Vec3d way = wi.cast<double>();
    return Eigen::Vector2d(x.dot(way), y.dot(way)) * (height_ / -z.dot(way));
  }
  const Vec3d d = (at - light_.center).cast<double>();
  return {x.dot(d), y.dot(d)};
}

}  // namespace jovilux
