#include "jovilux/emitters/direction_map.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/color/rgb.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// Normals fall in the cells of a cube's faces. A choice for each cell leaves out what no normal of
// the cell sees.
constexpr int kNormalSide = 8;
constexpr std::size_t kNormals = 6 * kNormalSide * kNormalSide;

std::size_t normal_cell(const Vec3& n) {
  int axis = 0;
  const float most = n.cwiseAbs().maxCoeff(&axis);
  const auto place = [&](float v) {
    return std::clamp(static_cast<int>((v / most + 1) * 0.5f * kNormalSide), 0, kNormalSide - 1);
  };
  const int face = 2 * axis + (n[axis] < 0 ? 1 : 0);
  return static_cast<std::size_t>((face * kNormalSide + place(n[(axis + 1) % 3])) * kNormalSide +
                                  place(n[(axis + 2) % 3]));
}
// A direction of the cell; u and v in [0, 1].
Vec3d in_normal_cell(std::size_t cell, double u, double v) {
  const auto k = static_cast<int>(cell);
  const int face = k / (kNormalSide * kNormalSide), axis = face / 2;
  Vec3d n;
  n[axis] = face % 2 == 0 ? 1 : -1;
  n[(axis + 1) % 3] = 2 * (k / kNormalSide % kNormalSide + u) / kNormalSide - 1;
  n[(axis + 2) % 3] = 2 * (k % kNormalSide + v) / kNormalSide - 1;
  return n.normalized();
}

Vec3d direction_at(double polar, double azimuth) {
  return {
      std::sin(polar) * std::sin(azimuth), std::sin(polar) * std::cos(azimuth), std::cos(polar)};
}

// A cone that holds a patch of directions.
struct Cone {
  Vec3d axis;
  double half;  // [rad]
};
double angle_of(const Vec3d& a, const Vec3d& b) { return std::atan2(a.cross(b).norm(), a.dot(b)); }

// The interval of cumulative weights that holds a share of what lies between the first and the
// last, and how far into it.
std::size_t find_share(const double* first, const double* last, double share, double& inside) {
  const double target = *first + share * (*(last - 1) - *first);
  const double* at = std::upper_bound(first + 1, last - 1, target) - 1;
  while (at[1] <= at[0] && at > first) {
    --at;  // an empty interval at the very end
  }
  inside = at[1] > at[0] ? std::clamp((target - at[0]) / (at[1] - at[0]), 0.0, 1.0) : 0.0;
  return static_cast<std::size_t>(at - first);
}

}  // namespace

// Rows are polar angles, columns azimuths: a cell's solid angle depends on its row alone.
double cell_solid_angle(int width, int height, int row) {
  return 2 * kPiD / width * (std::cos(kPiD * row / height) - std::cos(kPiD * (row + 1) / height));
}

double cell_level_projection(int width, int height, int row) {
  const double t0 = std::min(kPiD / 2, kPiD * row / height),
               t1 = std::min(kPiD / 2, kPiD * (row + 1) / height);
  return 2 * kPiD / width * 0.5 * (sqr(std::sin(t1)) - sqr(std::sin(t0)));
}

DirectionMap::DirectionMap(int width, int height, const std::vector<double>& weight)
    : width_(width), height_(height) {
  const auto w = static_cast<std::size_t>(width), h = static_cast<std::size_t>(height);
  JOVILUX_ASSERT(width > 0 && height > 0 && weight.size() == w * h);
  rows_.assign(h + 1, 0.0);
  columns_.assign(h * (w + 1), 0.0);
  density_.resize(w * h);
  // Two-dimensional inversion: rows by their sums, then columns within the row.
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
  add_blocks();
}

Vec3 DirectionMap::sample(const Vec2& u, float& pdf) const {
  const auto w = static_cast<std::size_t>(width_);
  double v = 0, s = 0;
  const std::size_t row = find_share(rows_.data(), rows_.data() + rows_.size(), u.y(), v);
  const double* columns = columns_.data() + row * (w + 1);
  const std::size_t column = find_share(columns, columns + w + 1, u.x(), s);
  pdf = density_[row * w + column];
  return direction_in(row, column, s, v);
}

// A direction in a cell, even over its solid angle; s and v in [0, 1).
Vec3 DirectionMap::direction_in(std::size_t row, std::size_t column, double s, double v) const {
  const double c0 = std::cos(kPiD * static_cast<double>(row) / height_),
               c1 = std::cos(kPiD * static_cast<double>(row + 1) / height_);
  const double z = c0 + (c1 - c0) * v, r = std::sqrt(std::max(0.0, 1 - z * z));
  const double azimuth = 2 * kPiD * (static_cast<double>(column) + s) / width_ - kPiD;
  return Vec3d(r * std::sin(azimuth), r * std::cos(azimuth), z).cast<float>();
}

DirectionMap::Part DirectionMap::rows_of(std::size_t block) const {
  const std::size_t j = block / across_, h = static_cast<std::size_t>(height_);
  return {j * h / down_, (j + 1) * h / down_};
}
DirectionMap::Part DirectionMap::columns_of(std::size_t block) const {
  const std::size_t i = block % across_, w = static_cast<std::size_t>(width_);
  return {i * w / across_, (i + 1) * w / across_};
}

// Blocks of cells are weighed by the cosine to a normal: at most 512 of them for each of 384
// normals, where the cells of a large picture would take gigabytes.
void DirectionMap::add_blocks() {
  const auto w = static_cast<std::size_t>(width_), h = static_cast<std::size_t>(height_);
  across_ = std::min<std::size_t>(32, w);
  down_ = std::min<std::size_t>(16, h);
  const std::size_t blocks = across_ * down_;
  block_rows_.assign(across_ * (h + 1), 0.0);
  for (std::size_t i = 0; i < across_; ++i) {
    const Part columns = columns_of(i);
    for (std::size_t r = 0; r < h; ++r) {
      const double* c = columns_.data() + r * (w + 1);
      block_rows_[i * (h + 1) + r + 1] =
          block_rows_[i * (h + 1) + r] + (c[columns.last] - c[columns.first]);
    }
  }
  std::vector<Cone> cones(blocks);
  std::vector<double> weight(blocks);
  constexpr int kSteps = 8;
  for (std::size_t b = 0; b < blocks; ++b) {
    const Part rows = rows_of(b), columns = columns_of(b);
    const double t0 = kPiD * static_cast<double>(rows.first) / height_,
                 t1 = kPiD * static_cast<double>(rows.last) / height_;
    const double a0 = 2 * kPiD * static_cast<double>(columns.first) / width_ - kPiD,
                 a1 = 2 * kPiD * static_cast<double>(columns.last) / width_ - kPiD;
    cones[b].axis = direction_at((t0 + t1) / 2, (a0 + a1) / 2);
    for (int i = 0; i <= kSteps; ++i) {
      for (int k = 0; k <= kSteps; ++k) {
        cones[b].half = std::max(
            cones[b].half,
            angle_of(cones[b].axis,
                     direction_at(t0 + (t1 - t0) * i / kSteps, a0 + (a1 - a0) * k / kSteps)));
      }
    }
    // What lies between the places looked at is nearer than that to one.
    cones[b].half += std::max(t1 - t0, a1 - a0) / kSteps;
    const double* of_rows = block_rows_.data() + b % across_ * (h + 1);
    weight[b] = of_rows[rows.last] - of_rows[rows.first];
  }
  above_.assign(kNormals * (blocks + 1), 0.0);
  parallel_for(kNormals, [&](std::size_t n) {
    Cone normals{in_normal_cell(n, 0.5, 0.5), 0};
    for (const double v : {0.0, 1.0}) {
      for (const double u : {0.0, 1.0}) {
        normals.half = std::max(normals.half, angle_of(normals.axis, in_normal_cell(n, u, v)));
      }
    }
    normals.half += 1e-4;  // a normal on the edge between two cells
    double* sum = above_.data() + n * (blocks + 1);
    for (std::size_t b = 0; b < blocks; ++b) {
      const double between = angle_of(normals.axis, cones[b].axis),
                   nearest = between - normals.half - cones[b].half;
      // The most that the cosine may be counts a little, so that nothing is missed where the middle
      // is below the horizon.
      constexpr double kMostCounts = 0.2;
      const double cosine =
          nearest >= kPiD / 2 ? 0
                              : (1 - kMostCounts) * std::max(0.0, std::cos(between)) +
                                    kMostCounts * std::max(1e-3, std::cos(std::max(0.0, nearest)));
      sum[b + 1] = sum[b] + weight[b] * cosine;
    }
  });
}

Vec3 DirectionMap::sample_above(const Vec3& n, const Vec2& u, float& pdf) const {
  const std::size_t blocks = across_ * down_, w = static_cast<std::size_t>(width_),
                    h = static_cast<std::size_t>(height_);
  const double* sum = above_.data() + normal_cell(n) * (blocks + 1);
  pdf = 0;
  if (!(sum[blocks] > 0)) {
    return Vec3::UnitZ();
  }
  double in_block = 0, v = 0, s = 0;
  const std::size_t block = find_share(sum, sum + blocks + 1, u.y(), in_block);
  const Part rows = rows_of(block), columns = columns_of(block);
  const double* of_rows = block_rows_.data() + block % across_ * (h + 1);
  const std::size_t row =
      rows.first + find_share(of_rows + rows.first, of_rows + rows.last + 1, in_block, v);
  const double* of_columns = columns_.data() + row * (w + 1);
  const std::size_t column =
      columns.first +
      find_share(of_columns + columns.first, of_columns + columns.last + 1, u.x(), s);
  const double chance = (sum[block + 1] - sum[block]) / sum[blocks],
               weight = of_rows[rows.last] - of_rows[rows.first];
  pdf = static_cast<float>(chance * rows_.back() / weight *
                           static_cast<double>(density_[row * w + column]));
  return direction_in(row, column, s, v);
}

float DirectionMap::pdf_above(const Vec3& n, const Vec3& d) const {
  const std::size_t blocks = across_ * down_, w = static_cast<std::size_t>(width_),
                    h = static_cast<std::size_t>(height_);
  const std::size_t at = cell(d), row = at / w, column = at % w;
  // The block whose rows and columns hold the cell.
  const std::size_t j = ((row + 1) * down_ - 1) / h, i = ((column + 1) * across_ - 1) / w,
                    block = j * across_ + i;
  const double* sum = above_.data() + normal_cell(n) * (blocks + 1);
  const Part rows = rows_of(block);
  const double* of_rows = block_rows_.data() + i * (h + 1);
  const double chance = sum[block + 1] - sum[block],
               weight = of_rows[rows.last] - of_rows[rows.first];
  return chance > 0 && weight > 0 ? static_cast<float>(chance / sum[blocks] * rows_.back() /
                                                       weight * static_cast<double>(density_[at]))
                                  : 0.0f;
}

float DirectionMap::projected(const Vec3& n) const {
  const std::size_t blocks = across_ * down_;
  return static_cast<float>(above_[normal_cell(n) * (blocks + 1) + blocks] / rows_.back());
}

// atan2 keeps the digits of directions near the poles.
std::size_t DirectionMap::cell(const Vec3& d) const {
  const float polar = std::atan2(std::hypot(d.x(), d.y()), d.z());
  const float azimuth = std::atan2(d.x(), d.y());
  const int row =
      std::clamp(static_cast<int>(polar / kPi * static_cast<float>(height_)), 0, height_ - 1);
  const int column = std::clamp(
      static_cast<int>((azimuth + kPi) / (2 * kPi) * static_cast<float>(width_)), 0, width_ - 1);
  return static_cast<std::size_t>(row) * static_cast<std::size_t>(width_) +
         static_cast<std::size_t>(column);
}

double DomePicture::level_illuminance() const {
  double sum = 0;
  for (int r = 0; r < height; ++r) {
    const double projection = cell_level_projection(width, height, r);
    for (int c = 0; projection > 0 && c < width; ++c) {
      sum += projection *
             luminance_of(rgb[static_cast<std::size_t>(r) * static_cast<std::size_t>(width) +
                              static_cast<std::size_t>(c)]);
    }
  }
  return sum;
}

}  // namespace jovilux
