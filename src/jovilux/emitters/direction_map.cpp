#include "jovilux/emitters/direction_map.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/assert.h"

namespace jovilux {

double cell_solid_angle(int width, int height, int row) { return 2 * kPiD / width * (std::cos(kPiD * row / height) - std::cos(kPiD * (row + 1) / height)); }

double cell_level_projection(int width, int height, int row) {
  const double t0 = std::min(kPiD / 2, kPiD * row / height), t1 = std::min(kPiD / 2, kPiD * (row + 1) / height);
  return 2 * kPiD / width * 0.5 * (sqr(std::sin(t1)) - sqr(std::sin(t0)));
}

DirectionMap::DirectionMap(int width, int height, const std::vector<double>& weight) : width_(width), height_(height) {
  const auto w = static_cast<std::size_t>(width), h = static_cast<std::size_t>(height);
  JOVILUX_ASSERT(width > 0 && height > 0 && weight.size() == w * h);
  rows_.assign(h + 1, 0.0);
  columns_.assign(h * (w + 1), 0.0);
  density_.resize(w * h);
  for (std::size_t r = 0; r < h; ++r) {
    double* c = columns_.data() + r * (w + 1);
    for (std::size_t i = 0; i < w; ++i) {
      c[i + 1] = c[i] + weight[r * w + i];
    }
    rows_[r + 1] = rows_[r] + c[w];
  }
  const double total = rows_[h];
  JOVILUX_ASSERT(total > 0);
  for (std::size_t r = 0; r < h; ++r) {
    const double solid_angle = cell_solid_angle(width, height, static_cast<int>(r));
    for (std::size_t i = 0; i < w; ++i) {
      density_[r * w + i] = static_cast<float>(weight[r * w + i] / total / solid_angle);
    }
  }
}

Vec3 DirectionMap::sample(const Vec2& u, float& pdf) const {
  const auto w = static_cast<std::size_t>(width_);
  // The interval that holds a share of the total, and how far into it.
  const auto find = [](const double* first, const double* last, double share, double& inside) {
    const double target = share * *(last - 1);
    const double* at = std::upper_bound(first + 1, last - 1, target) - 1;
    while (at[1] <= at[0] && at > first) {
      --at;  // an empty interval at the very end
    }
    inside = std::clamp((target - at[0]) / (at[1] - at[0]), 0.0, 1.0);
    return static_cast<std::size_t>(at - first);
  };
  double v = 0, s = 0;
  const std::size_t row = find(rows_.data(), rows_.data() + rows_.size(), u.y(), v);
  const double* columns = columns_.data() + row * (w + 1);
  const std::size_t column = find(columns, columns + w + 1, u.x(), s);
  pdf = density_[row * w + column];
  const double c0 = std::cos(kPiD * static_cast<double>(row) / height_), c1 = std::cos(kPiD * static_cast<double>(row + 1) / height_);
  const double z = c0 + (c1 - c0) * v, r = std::sqrt(std::max(0.0, 1 - z * z));
  const double azimuth = 2 * kPiD * (static_cast<double>(column) + s) / width_ - kPiD;
  return Vec3d(r * std::sin(azimuth), r * std::cos(azimuth), z).cast<float>();
}

std::size_t DirectionMap::cell(const Vec3& d) const {
  const float polar = std::atan2(std::hypot(d.x(), d.y()), d.z());
  const float azimuth = std::atan2(d.x(), d.y());
  const int row = std::clamp(static_cast<int>(polar / kPi * static_cast<float>(height_)), 0, height_ - 1);
  const int column = std::clamp(static_cast<int>((azimuth + kPi) / (2 * kPi) * static_cast<float>(width_)), 0, width_ - 1);
  return static_cast<std::size_t>(row) * static_cast<std::size_t>(width_) + static_cast<std::size_t>(column);
}

float luminance_of(const Eigen::Array3f& rgb) { return 0.2126390f * rgb[0] + 0.7151687f * rgb[1] + 0.0721923f * rgb[2]; }

double DomePicture::level_illuminance() const {
  double sum = 0;
  for (int r = 0; r < height; ++r) {
    const double projection = cell_level_projection(width, height, r);
    for (int c = 0; projection > 0 && c < width; ++c) {
      sum += projection * luminance_of(rgb[static_cast<std::size_t>(r) * static_cast<std::size_t>(width) + static_cast<std::size_t>(c)]);
    }
  }
  return sum;
}

}  // namespace jovilux
