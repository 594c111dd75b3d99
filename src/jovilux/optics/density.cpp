#include "jovilux/optics/density.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// The sum of three octaves seldom comes near its ends; contrast brings clumps and gaps out.
constexpr float kContrast = 2;
constexpr std::array<float, 3> kOctaves = {4.0f / 7, 2.0f / 7, 1.0f / 7};

float lattice_value(int x, int y, int z, std::uint32_t seed) {
  const std::uint32_t h = mix(mix(mix(static_cast<std::uint32_t>(x), static_cast<std::uint32_t>(y)),
                                  static_cast<std::uint32_t>(z)),
                              seed);
  return 2 * unit_float(h) - 1;
}

// The lattice cell of a place, and the place in it.
struct Cell {
  int x, y, z;
  Vec3 f;
};
Cell cell_of(const Vec3& p) {
  const Vec3 low(std::floor(p.x()), std::floor(p.y()), std::floor(p.z()));
  return {static_cast<int>(low.x()), static_cast<int>(low.y()), static_cast<int>(low.z()), p - low};
}

float octave(const Vec3& p, std::uint32_t seed) {
  const Cell c = cell_of(p);
  // A quintic step: its second derivative is 0 at cell walls, where a cubic's shows as creases.
  const auto smooth = [](float t) { return t * t * t * (t * (6 * t - 15) + 10); };
  const float u = smooth(c.f.x()), v = smooth(c.f.y()), w = smooth(c.f.z());
  const auto row = [&](int dy, int dz) {
    const float a = lattice_value(c.x, c.y + dy, c.z + dz, seed),
                b = lattice_value(c.x + 1, c.y + dy, c.z + dz, seed);
    return a + u * (b - a);
  };
  const float a = row(0, 0), b = row(1, 0), d = row(0, 1), e = row(1, 1);
  const float low = a + v * (b - a), high = d + v * (e - d);
  return low + w * (high - low);
}

// Coordinates beyond this are not places of a scene, and would overflow a lattice's numbers.
Vec3 in_reach(const Vec3& p) { return p.cwiseMax(-1e8f).cwiseMin(1e8f); }

// Where a ray leaves the cell of edge `side` (about the origin's lattice) that it is in at t.
float cell_end(const Vec3& origin, const Vec3& direction, float t, float side) {
  const Vec3 p = origin + t * direction;
  float end = kFar;
  for (int i = 0; i < 3; ++i) {
    if (direction[i] != 0) {
      const float wall = side * (std::floor(p[i] / side) + (direction[i] > 0 ? 1.0f : 0.0f));
      end = std::min(end, (wall - origin[i]) / direction[i]);
    }
  }
  // A step past the wall by more than a rounding, so that the next query is in the next cell.
  return std::max(end, t) + 2e-6f * (std::abs(t) + side);
}

}  // namespace

float clump_noise(const Vec3& at, std::uint32_t seed) {
  Vec3 p = in_reach(at);
  float sum = 0;
  for (std::size_t i = 0; i < kOctaves.size(); ++i) {
    sum += kOctaves[i] * octave(p, seed + static_cast<std::uint32_t>(i));
    p *= 2;
  }
  return std::clamp(kContrast * sum, -1.0f, 1.0f);
}

float clump_bound(const Vec3& at, std::uint32_t seed) {
  const Cell c = cell_of(in_reach(at));
  float highest = -1;
  // Interpolation never exceeds its corners: the highest of eight bounds the first octave, and the
  // finer octaves add at most their weights.
  for (int i = 0; i < 8; ++i) {
    highest =
        std::max(highest, lattice_value(c.x + (i & 1), c.y + (i >> 1 & 1), c.z + (i >> 2), seed));
  }
  return std::clamp(kContrast * (kOctaves[0] * highest + kOctaves[1] + kOctaves[2]), -1.0f, 1.0f);
}

DensityGrid::DensityGrid(const Transform& to_world,
                         const std::array<int, 3>& first,
                         const std::array<int, 3>& blocks)
    : to_lattice_(to_world.inverse()),
      first_(first),
      blocks_(blocks),
      index_(static_cast<std::size_t>(blocks[0]) * static_cast<std::size_t>(blocks[1]) *
                 static_cast<std::size_t>(blocks[2]),
             -1) {}

void DensityGrid::set_block(const std::array<int, 3>& block, const float* values) {
  constexpr std::size_t kCells = kSide * kSide * kSide;
  std::int32_t& where = index_[slot(block[0], block[1], block[2])];
  JOVILUX_ASSERT(where == -1);
  where = static_cast<std::int32_t>(values_.size() / kCells);
  for (std::size_t i = 0; i < kCells; ++i) {
    // A file's values are hostile until checked: what is no density is none.
    values_.push_back(std::isfinite(values[i]) && values[i] > 0 ? values[i] : 0.0f);
  }
}

float DensityGrid::value(int x, int y, int z) const {
  x -= first_[0];
  y -= first_[1];
  z -= first_[2];
  if (x < 0 || y < 0 || z < 0 || x >= blocks_[0] * kSide || y >= blocks_[1] * kSide ||
      z >= blocks_[2] * kSide) {
    return 0;
  }
  const std::int32_t block = index_[slot(x / kSide, y / kSide, z / kSide)];
  if (block < 0) {
    return 0;
  }
  return values_[static_cast<std::size_t>(block) * kSide * kSide * kSide +
                 static_cast<std::size_t>(((z % kSide) * kSide + y % kSide) * kSide + x % kSide)];
}

void DensityGrid::finish() {
  // A block's bound covers the places between its points and its neighbors' points.
  bounds_.assign(index_.size(), 0.0f);
  const auto raise = [&](int bx, int by, int bz, float v) {
    if (bx >= 0 && by >= 0 && bz >= 0 && bx < blocks_[0] && by < blocks_[1] && bz < blocks_[2]) {
      float& b = bounds_[slot(bx, by, bz)];
      b = std::max(b, v);
    }
  };
  for (int bz = 0; bz < blocks_[2]; ++bz) {
    for (int by = 0; by < blocks_[1]; ++by) {
      for (int bx = 0; bx < blocks_[0]; ++bx) {
        const std::int32_t block = index_[slot(bx, by, bz)];
        if (block < 0) {
          continue;
        }
        const float* v = values_.data() + static_cast<std::size_t>(block) * kSide * kSide * kSide;
        for (int z = 0; z < kSide; ++z) {
          for (int y = 0; y < kSide; ++y) {
            for (int x = 0; x < kSide; ++x) {
              const float here = v[(z * kSide + y) * kSide + x];
              if (here <= 0) {
                continue;
              }
              highest_ = std::max(highest_, here);
              // A point at the lower side of its block is a corner of cells of the block below.
              for (int i = 0; i < 8; ++i) {
                const int dx = i & 1, dy = i >> 1 & 1, dz = i >> 2;
                if ((dx == 0 || x == 0) && (dy == 0 || y == 0) && (dz == 0 || z == 0)) {
                  raise(bx - dx, by - dy, bz - dz, here);
                }
              }
            }
          }
        }
      }
    }
  }
}

float DensityGrid::at(const Vec3& p) const {
  const Vec3 q = to_lattice_.point(p.cast<double>()).cast<float>();
  if (!(q.cwiseAbs().maxCoeff() < 1e8f)) {
    return 0;
  }
  const Cell c = cell_of(q);
  const auto row = [&](int dy, int dz) {
    const float a = value(c.x, c.y + dy, c.z + dz), b = value(c.x + 1, c.y + dy, c.z + dz);
    return a + c.f.x() * (b - a);
  };
  const float a = row(0, 0), b = row(1, 0), d = row(0, 1), e = row(1, 1);
  const float low = a + c.f.y() * (b - a), high = d + c.f.y() * (e - d);
  return low + c.f.z() * (high - low);
}

float DensityGrid::bound(const Ray& ray, float t, float& end) const {
  // In the lattice, moved so that blocks begin at multiples of their side; one cell more below,
  // whose upper corners are points.
  Vec3 origin = to_lattice_.point(ray.origin.cast<double>()).cast<float>();
  const Vec3 direction = to_lattice_.vector(ray.direction.cast<double>()).cast<float>();
  origin -= Vec3(
      static_cast<float>(first_[0]), static_cast<float>(first_[1]), static_cast<float>(first_[2]));
  float enter = t, leave = kFar;
  for (int i = 0; i < 3; ++i) {
    const float lo = -1, hi = static_cast<float>(blocks_[static_cast<std::size_t>(i)] * kSide);
    if (direction[i] == 0) {
      leave = origin[i] < lo || origin[i] > hi ? -kFar : leave;
      continue;
    }
    const float a = (lo - origin[i]) / direction[i], b = (hi - origin[i]) / direction[i];
    enter = std::max(enter, std::min(a, b));
    leave = std::min(leave, std::max(a, b));
  }
  if (!(enter < leave)) {
    end = kFar;
    return 0;
  }
  if (enter > t) {
    end = enter;
    return 0;
  }
  end = cell_end(origin, direction, t, kSide);
  const Vec3 p = origin + 0.5f * (t + std::min(end, t + 1e6f)) * direction;
  const auto block = [&](int i) {
    return std::clamp(
        static_cast<int>(std::floor(p[i] / kSide)), -1, blocks_[static_cast<std::size_t>(i)]);
  };
  const int x = block(0), y = block(1), z = block(2);
  if (x >= 0 && y >= 0 && z >= 0 && x < blocks_[0] && y < blocks_[1] && z < blocks_[2]) {
    return bounds_[slot(x, y, z)];
  }
  return highest_;  // the outermost half cells
}

std::uint64_t& media_step_count() {
  thread_local std::uint64_t count = 0;
  return count;
}

float HazeDensity::at(const Vec3& p) const {
  ++media_step_count();
  float d = grid != nullptr ? grid->at(p) : 1.0f;
  if (d > 0 && scale_height > 0) {
    d *= std::exp(-std::max(0.0f, up.dot(p)) / scale_height);
  }
  if (d > 0 && clumps) {
    d *= 1 + clumps->depth * clump_noise((p - clumps->moved) / clumps->size, clumps->seed);
  }
  return d;
}

float HazeDensity::bound(const Ray& ray, float t, float reach, float& end) const {
  constexpr float kThin = 12;  // heights above which next to nothing is left
  end = reach;
  float factor = 1;
  if (scale_height > 0) {
    // Height changes evenly along a ray: the lower end of the stretch is the densest.
    const float rise = up.dot(ray.direction), h = up.dot(ray.origin) + t * rise;
    if (h > kThin * scale_height) {
      end = rise < 0 ? std::min(reach, t + (h - kThin * scale_height) / -rise + 1e-6f * (1 + t))
                     : reach;
      const float highest =
          (grid != nullptr ? grid->highest() : 1.0f) * (clumps ? 1 + clumps->depth : 1.0f);
      return highest * std::exp(-kThin);
    }
    if (std::abs(rise) > 1e-6f) {
      end = std::min(end, t + scale_height / std::abs(rise));
    }
    const float lowest = rise < 0 && end < kFar ? h + (end - t) * rise : h;
    factor *= std::exp(-std::max(0.0f, lowest) / scale_height);
  }
  if (grid != nullptr) {
    float until = end;
    factor *= grid->bound(ray, t, until);
    end = std::min(end, until);
  }
  if (clumps && !clumps->local_bounds) {
    factor *= 1 + clumps->depth;
  } else if (clumps) {
    const Vec3 origin = (ray.origin - clumps->moved) / clumps->size;
    const float until = cell_end(origin, ray.direction, t / clumps->size, 1) * clumps->size;
    const float middle = 0.5f * (t + until) / clumps->size;
    factor *= 1 + clumps->depth * clump_bound(origin + middle * ray.direction, clumps->seed);
    end = std::min(end, until);
  }
  return factor;
}

}  // namespace jovilux
