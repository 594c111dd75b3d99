#include "jovilux/photometry/gobo.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/color/rgb.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <cstdint>

namespace jovilux {
namespace {

// Pixels across a pattern's tile: of 200 bars, the most, each has five together with its gap.
constexpr int kSide = 1024;
// An edge blurred by a Gaussian of standard deviation s goes from 10 % to 90 % over 2.5631 s.
constexpr double kSoftPerDeviation = 2.5631031310892007;

// The share of [a, b] inside the open part [0, open) of each unit interval.
double covered(double a, double b, double open) {
  const auto up_to = [&](double v) {
    return std::floor(v) * open + std::min(open, v - std::floor(v));
  };
  return (up_to(b) - up_to(a)) / (b - a);
}

// Leaves fall at random until the wanted share is open; the seed is fixed, since a rig's picture
// may not differ from one machine to the next.
std::vector<float> leaves(int count, double open) {
  std::vector<float> out(static_cast<std::size_t>(kSide) * kSide, 1.0f);
  Rng rng(0x1eafULL);
  // Of a leaf, about.
  const double length = 1.6 / count, width = 0.42 * length, area = 0.33 * length * width;
  double clear = 1;
  const double per_pixel = 1.0 / (static_cast<double>(kSide) * kSide);
  for (int leaf = 0; leaf < 400'000 && clear > open + 0.002; ++leaf) {
    const double cx = rng.uniform(), cy = rng.uniform(), turn = 2 * kPiD * rng.uniform();
    // The last leaves are small enough not to cover too much.
    const double size = std::min(0.7 + 0.6 * rng.uniform(), std::sqrt(0.7 * (clear - open) / area));
    const double c = std::cos(turn), s = std::sin(turn), half = 0.5 * length * size;
    const int reach = static_cast<int>(std::ceil(half * kSide)) + 1;
    const int px = static_cast<int>(cx * kSide), py = static_cast<int>(cy * kSide);
    for (int dy = -reach; dy <= reach; ++dy) {
      for (int dx = -reach; dx <= reach; ++dx) {
        const double x = static_cast<double>(dx) / kSide, y = static_cast<double>(dy) / kSide;
        const double u = (c * x + s * y) / half, v = (-s * x + c * y) / (0.5 * width * size);
        // A blade: widest in its first half, pointed at both ends.
        const double blade = std::abs(u) < 1 ? std::pow(1 - u * u, 0.9) * (1 - 0.25 * u) : 0;
        if (std::abs(v) > blade) {
          continue;
        }
        float& pixel = out[static_cast<std::size_t>((py + dy + 2 * kSide) % kSide) * kSide +
                           static_cast<std::size_t>((px + dx + 2 * kSide) % kSide)];
        clear -= pixel * per_pixel;
        pixel = 0;
      }
    }
  }
  return out;
}

// Gaussian weights of the places from -reach to reach, whose sum is `sum`.
struct BlurKernel {
  explicit BlurKernel(double deviation) : reach(static_cast<int>(std::ceil(4 * deviation))) {
    for (int i = -reach; i <= reach; ++i) {
      weight.push_back(static_cast<float>(std::exp(-0.5 * sqr(i / deviation))));
      sum += weight.back();
    }
  }
  int reach;
  std::vector<float> weight;
  float sum = 0;
};

// One direction of a separable Gaussian blur. A mask that repeats goes round, one that does not is
// continued by its edge. Without `colored` all channels are alike and one is computed.
void blur(MaskPicture& picture, double deviation, bool along_x, bool wraps, bool colored) {
  // Below a twentieth of a pixel the neighbors' weight is exp(-200).
  if (deviation < 0.05) {
    return;
  }
  const BlurKernel kernel(deviation);
  const int n = along_x ? picture.width : picture.height,
            lines = along_x ? picture.height : picture.width, reach = kernel.reach;
  const auto index = [&](int line, int i) {
    return static_cast<std::size_t>(along_x ? line * picture.width + i : i * picture.width + line);
  };
  parallel_for(static_cast<std::size_t>(lines), [&](std::size_t line_number) {
    const int line = static_cast<int>(line_number);
    // The line with what is beyond its ends, so that no place needs a question; a channel at a
    // time, so that neighboring places are summed up by one vector instruction.
    std::vector<float> row(static_cast<std::size_t>(n + 2 * reach)),
        total(static_cast<std::size_t>(n));
    for (int channel = 0; channel < (colored ? 3 : 1); ++channel) {
      for (int i = -reach; i < n + reach; ++i) {
        const int at = wraps ? (i % n + n) % n : std::clamp(i, 0, n - 1);
        row[static_cast<std::size_t>(i + reach)] = picture.rgb[index(line, at)][channel];
      }
      std::fill(total.begin(), total.end(), 0.0f);
      for (std::size_t k = 0; k < kernel.weight.size(); ++k) {
        const float weight = kernel.weight[k];
        const float* from = row.data() + k;
        for (std::size_t i = 0; i < total.size(); ++i) {
          total[i] += weight * from[i];
        }
      }
      for (int i = 0; i < n; ++i) {
        const float mean = total[static_cast<std::size_t>(i)] / kernel.sum;
        Eigen::Array3f& pixel = picture.rgb[index(line, i)];
        if (colored) {
          pixel[channel] = mean;
        } else {
          pixel = Eigen::Array3f::Constant(mean);
        }
      }
    }
  });
}

// An edge blurred over a softness of `edge` leaves less than 2e-6 of the mask at kEdgeReach times
// `edge` beyond it (see Gobo::transmittance).
constexpr double kEdgeReach = 3.4;
double edge_of(const GoboSpec& spec) { return std::sqrt(2.0) * spec.soft / kSoftPerDeviation; }

}  // namespace

std::vector<std::string> gobo_pattern_names() { return {"slats", "grid", "dots", "leaves"}; }

MaskPicture pattern_picture(GoboPattern pattern, int count, double open) {
  JOVILUX_ASSERT(count >= 1 && count <= 200 && open >= 0 && open <= 1);
  MaskPicture out{kSide, kSide, {}};
  std::vector<float> gray;
  if (pattern == GoboPattern::kLeaves) {
    gray = leaves(count, open);
  } else {
    gray.resize(static_cast<std::size_t>(kSide) * kSide);
    const double side = std::sqrt(open), radius = std::sqrt(std::min(open, kPiD / 4) / kPiD);
    // Bars start half a bar in, so that the tile is symmetric.
    const auto bars = [&](int i, double share) {
      const double lo = static_cast<double>(i) * count / kSide - 0.5 * (1 - share),
                   hi = static_cast<double>(i + 1) * count / kSide - 0.5 * (1 - share);
      return covered(lo, hi, share);
    };
    for (int y = 0; y < kSide; ++y) {
      for (int x = 0; x < kSide; ++x) {
        double t = 0;
        switch (pattern) {
          case GoboPattern::kSlats:
            t = bars(y, open);
            break;
          case GoboPattern::kGrid:
            t = bars(x, side) * bars(y, side);
            break;
          default: {
            constexpr int kSub = 4;
            for (int s = 0; s < kSub * kSub; ++s) {
              const int row = s / kSub;
              const double u = (x + (s % kSub + 0.5) / kSub) * count / kSide,
                           v = (y + (row + 0.5) / kSub) * count / kSide;
              t += std::hypot(u - std::floor(u) - 0.5, v - std::floor(v) - 0.5) < radius
                       ? 1.0 / (kSub * kSub)
                       : 0.0;
            }
          }
        }
        gray[static_cast<std::size_t>(y) * kSide + static_cast<std::size_t>(x)] =
            static_cast<float>(t);
      }
    }
  }
  out.rgb.reserve(gray.size());
  for (const float g : gray) {
    out.rgb.push_back(Eigen::Array3f::Constant(g));
  }
  return out;
}

Gobo::Gobo(const GoboSpec& spec, MaskPicture picture) : spec_(spec), picture_(std::move(picture)) {
  JOVILUX_ASSERT(picture_.width > 0 && picture_.height > 0 &&
                 picture_.rgb.size() == static_cast<std::size_t>(picture_.width) *
                                            static_cast<std::size_t>(picture_.height));
  cos_turn_ = static_cast<float>(std::cos(spec.rotate));
  sin_turn_ = static_cast<float>(std::sin(spec.rotate));
  for (const Eigen::Array3f& p : picture_.rgb) {
    colored_ = colored_ || p.maxCoeff() - p.minCoeff() > 1e-4f;
  }
  if (spec.soft > 0) {
    // A blur as wide as the mask leaves next to nothing of it: width and work end there.
    const double deviation = spec.soft / kSoftPerDeviation;
    blur(picture_,
         std::min(deviation / spec.width, 1.0) * picture_.width,
         true,
         spec.surround == GoboSurround::kRepeat || spec.tiles_x > 1,
         colored_);
    blur(picture_,
         std::min(deviation / spec.height, 1.0) * picture_.height,
         false,
         spec.surround == GoboSurround::kRepeat || spec.tiles_y > 1,
         colored_);
    edge_ = static_cast<float>(edge_of(spec));
  }
  sums_ = MaskSums(spec, picture_);
  const double c = std::cos(spec.rotate), s = std::sin(spec.rotate);
  // As in transmittance: right = -x, turned back, from the upper left corner.
  to_tiles_ << -c / spec.width, -s / spec.width, s / spec.height, -c / spec.height;
  tiles_offset_ << 0.5 * spec.tiles_x, 0.5 * spec.tiles_y;
}

// A summed-area table (F. Crow, "Summed-area tables for texture mapping", SIGGRAPH 1984) of the
// mask's luminance: the mean over any rectangle takes four look-ups, and a place within a rectangle
// is sampled in proportion to the mask by two searches.
MaskSums::MaskSums(const GoboSpec& spec, const MaskPicture& picture)
    : surround_(spec.surround),
      strength_(spec.strength),
      complete_(spec.surround != GoboSurround::kClear || !(spec.soft > 0)),
      s_last_(spec.tiles_x),
      r_last_(spec.tiles_y) {
  columns_ = std::min(picture.width, kSide);
  rows_ = std::min(picture.height, kSide);
  // Beyond a dark mask's border nothing passes but what its soft edge lets through.
  if (surround_ == GoboSurround::kDark) {
    const double s = std::ceil(kEdgeReach * edge_of(spec) / spec.width * columns_) / columns_,
                 r = std::ceil(kEdgeReach * edge_of(spec) / spec.height * rows_) / rows_;
    s_first_ -= s;
    s_last_ += s;
    r_first_ -= r;
    r_last_ += r;
  }
  const auto pixel = [&](int x, int y) {
    x = (x + picture.width) % picture.width;
    y = (y + picture.height) % picture.height;
    return static_cast<double>(luminance_of(
        picture.rgb[static_cast<std::size_t>(y) * static_cast<std::size_t>(picture.width) +
                    static_cast<std::size_t>(x)]));
  };
  // A pixel covers one cell, or parts of two.
  struct Part {
    int cell;
    double share;
  };
  const auto parts = [](int i, int pixels, int cells) {
    const double from = static_cast<double>(i) * cells / pixels,
                 to = static_cast<double>(i + 1) * cells / pixels;
    const int first = std::min(cells - 1, static_cast<int>(from)),
              second = std::min(cells - 1, first + 1);
    const double in_first = std::min(to, first + 1.0) - from;
    return std::array<Part, 2>{Part{first, in_first},
                               Part{second, std::max(0.0, to - from - in_first)}};
  };
  const auto stride = static_cast<std::size_t>(columns_) + 1;
  sums_.assign(stride * (static_cast<std::size_t>(rows_) + 1), 0.0);
  std::vector<double> row(static_cast<std::size_t>(picture.width));
  for (int y = 0; y < picture.height; ++y) {
    // The mean over a pixel of what is interpolated between the pixels' middles: 1/8, 3/4, 1/8 both
    // ways.
    for (int x = 0; x < picture.width; ++x) {
      row[static_cast<std::size_t>(x)] =
          0.125 * (pixel(x, y - 1) + pixel(x, y + 1)) + 0.75 * pixel(x, y);
    }
    for (int x = 0; x < picture.width; ++x) {
      const auto left = static_cast<std::size_t>((x + picture.width - 1) % picture.width),
                 right = static_cast<std::size_t>((x + 1) % picture.width);
      const double mean =
          0.125 * (row[left] + row[right]) + 0.75 * row[static_cast<std::size_t>(x)];
      for (const Part& i : parts(y, picture.height, rows_)) {
        for (const Part& k : parts(x, picture.width, columns_)) {
          sums_[static_cast<std::size_t>(i.cell + 1) * stride +
                static_cast<std::size_t>(k.cell + 1)] += mean * i.share * k.share;
        }
      }
    }
  }
  const double cell = 1 / (static_cast<double>(columns_) * rows_);
  // Sums along the row, added to those of the rows above.
  for (std::size_t i = 1; i <= static_cast<std::size_t>(rows_); ++i) {
    double along = 0;
    for (std::size_t k = 1; k <= static_cast<std::size_t>(columns_); ++k) {
      along += sums_[i * stride + k] * cell;
      sums_[i * stride + k] = sums_[(i - 1) * stride + k] + along;
    }
  }
}

namespace {

// std::floor is a call without SSE 4.1; this is for values that fit an integer.
double whole(double v) {
  const auto i = static_cast<double>(static_cast<std::int64_t>(v));
  return i > v ? i - 1 : i;
}

// Sums of a tile's cells, by places in cells.
struct Tile {
  const double* sums;
  std::size_t columns, rows;

  struct Place {
    std::size_t cell;
    double beyond;  // of the cell's first edge, in cells
  };
  static Place place(double v, std::size_t cells) {
    const auto i = std::min(static_cast<std::size_t>(v), cells - 1);
    return {i, v - static_cast<double>(i)};
  }
  Place column(double v) const { return place(v, columns); }
  Place row(double v) const { return place(v, rows); }
  // The sum up to a column along the upper edge of a row of cells.
  double at_edge(Place x, std::size_t edge) const {
    const double* line = sums + edge * (columns + 1) + x.cell;
    return line[0] + x.beyond * (line[1] - line[0]);
  }
  double at(Place x, Place y) const {
    const double upper = at_edge(x, y.cell);
    return upper + y.beyond * (at_edge(x, y.cell + 1) - upper);
  }
};

// The inverse of a cumulative sum: the place in [first, last] where `sum`, which grows from 0 at
// `first` and is straight between whole numbers, reaches `target`. sum(k, true) is told that k is
// whole, so that the search over edges needs no interpolation.
template <class Sum>
double reach(double first, double last, double target, const Sum& sum) {
  auto low = static_cast<std::int64_t>(whole(first)),
       high = static_cast<std::int64_t>(std::ceil(last));
  while (high - low > 1) {
    const std::int64_t middle = low + (high - low) / 2;
    (sum(static_cast<double>(middle), true) <= target ? low : high) = middle;
  }
  const double a = std::max(first, static_cast<double>(low)),
               b = std::min(last, static_cast<double>(high));
  const double at_a = sum(a, false), at_b = sum(b, false);
  return at_b > at_a ? std::clamp(a + (target - at_a) / (at_b - at_a) * (b - a), a, b)
                     : 0.5 * (a + b);
}

}  // namespace

// The sum from the corner of the tiles' plane, as if the mask repeated forever.
double MaskSums::whole_tiles(double s, double r) const {
  const double ks = whole(s), kr = whole(r);
  const Tile tile{
      sums_.data(), static_cast<std::size_t>(columns_), static_cast<std::size_t>(rows_)};
  const auto x = tile.column((s - ks) * columns_);
  const auto y = tile.row((r - kr) * rows_);
  double sum = tile.at(x, y);
  if (ks != 0) {
    sum += ks * tile.at(tile.column(columns_), y);
  }
  if (kr != 0) {
    sum += kr * tile.at_edge(x, tile.rows);
  }
  return ks != 0 && kr != 0 ? sum + ks * kr * sums_.back() : sum;
}

double MaskSums::up_to(double s, double r) const {
  const double free = s * r;
  double masked = 0;
  if (surround_ == GoboSurround::kRepeat) {
    masked = whole_tiles(s, r);
  } else {
    const double cs = std::clamp(s, s_first_, s_last_), cr = std::clamp(r, r_first_, r_last_);
    masked = whole_tiles(cs, cr);
    masked = surround_ == GoboSurround::kClear ? free - (cs * cr - masked) : masked;
  }
  return strength_ * masked + (1 - strength_) * free;
}

// Whether a rectangle lies within one tile of the mask, and the tile's corner: nearly all queries
// do, and save the sums over whole tiles.
bool MaskSums::in_one_tile(double s0, double s1, double r0, double r1, double& s, double& r) const {
  s = whole(s0);
  r = whole(r0);
  return s1 <= s + 1 && r1 <= r + 1 &&
         (surround_ == GoboSurround::kRepeat ||
          (s0 >= s_first_ && s1 <= s_last_ && r0 >= r_first_ && r1 <= r_last_));
}

double MaskSums::over(double s0, double s1, double r0, double r1) const {
  double s, r, sum;
  if (in_one_tile(s0, s1, r0, r1, s, r)) {
    const Tile tile{
        sums_.data(), static_cast<std::size_t>(columns_), static_cast<std::size_t>(rows_)};
    const auto x0 = tile.column((s0 - s) * columns_), x1 = tile.column((s1 - s) * columns_);
    const auto y0 = tile.row((r0 - r) * rows_), y1 = tile.row((r1 - r) * rows_);
    sum = strength_ * ((tile.at(x1, y1) - tile.at(x0, y1)) - (tile.at(x1, y0) - tile.at(x0, y0))) +
          (1 - strength_) * (s1 - s0) * (r1 - r0);
  } else {
    sum = (up_to(s1, r1) - up_to(s0, r1)) - (up_to(s1, r0) - up_to(s0, r0));
  }
  return std::max(0.0, sum);
}

double MaskSums::at(double s, double r) const {
  double t = surround_ == GoboSurround::kClear ? 1 : 0;
  if (surround_ == GoboSurround::kRepeat ||
      (s >= s_first_ && s < s_last_ && r >= r_first_ && r < r_last_)) {
    const auto stride = static_cast<std::size_t>(columns_) + 1;
    const auto i = std::min(static_cast<std::size_t>((s - whole(s)) * columns_),
                            static_cast<std::size_t>(columns_) - 1);
    const auto k = std::min(static_cast<std::size_t>((r - whole(r)) * rows_),
                            static_cast<std::size_t>(rows_) - 1);
    const double* upper = &sums_[k * stride + i];
    const double* lower = upper + stride;
    t = std::max(0.0, (lower[1] - lower[0]) - (upper[1] - upper[0])) * columns_ * rows_;
  }
  return 1 - strength_ * (1 - t);
}

double MaskSums::along_row(double s0, double s1, double r) const {
  const double row = whole(r * rows_);
  return over(s0, s1, row / rows_, (row + 1) / rows_) * rows_;
}

// A row is chosen in proportion to what its part between s0 and s1 lets pass; then split_row()
// chooses the place along it.
double MaskSums::split_rows(double s0, double s1, double r0, double r1, double u) const {
  double s, r;
  if (in_one_tile(s0, s1, r0, r1, s, r)) {
    const Tile tile{
        sums_.data(), static_cast<std::size_t>(columns_), static_cast<std::size_t>(rows_)};
    const auto x0 = tile.column((s0 - s) * columns_), x1 = tile.column((s1 - s) * columns_);
    const double first = (r0 - r) * rows_, last = (r1 - r) * rows_,
                 open = (1 - strength_) * (s1 - s0) / rows_;
    const auto up = [&](double v, bool is_edge) {
      const auto edge = static_cast<std::size_t>(v);
      const double masked = is_edge ? tile.at_edge(x1, edge) - tile.at_edge(x0, edge)
                                    : tile.at(x1, tile.row(v)) - tile.at(x0, tile.row(v));
      return strength_ * masked + open * (v - first);
    };
    const double before = up(first, false);
    return r + reach(first, last, u * (up(last, false) - before), [&](double v, bool is_edge) {
                 return up(v, is_edge) - before;
               }) / rows_;
  }
  const auto up = [&](double v) { return up_to(s1, v / rows_) - up_to(s0, v / rows_); };
  const double first = r0 * rows_, last = r1 * rows_, before = up(first);
  return reach(
             first, last, u * (up(last) - before), [&](double v, bool) { return up(v) - before; }) /
         rows_;
}

double MaskSums::split_row(double s0, double s1, double r, double u) const {
  const double row = whole(r * rows_), r0 = row / rows_, r1 = (row + 1) / rows_;
  double s, top;
  // A quarter within the row, so that rounding at its edges does not tell two tiles.
  if (in_one_tile(s0, s1, (row + 0.25) / rows_, (row + 0.75) / rows_, s, top)) {
    const auto edge = static_cast<std::size_t>(row - top * rows_);
    const std::size_t stride = static_cast<std::size_t>(columns_) + 1;
    const double *upper = &sums_[edge * stride], *lower = upper + stride;
    const Tile tile{
        sums_.data(), static_cast<std::size_t>(columns_), static_cast<std::size_t>(rows_)};
    const double first = (s0 - s) * columns_, last = (s1 - s) * columns_,
                 open = (1 - strength_) / (static_cast<double>(rows_) * columns_);
    const auto up = [&](double v, bool is_edge) {
      double masked;
      if (is_edge) {
        const auto i = static_cast<std::size_t>(v);
        masked = lower[i] - upper[i];
      } else {
        masked = tile.at_edge(tile.column(v), edge + 1) - tile.at_edge(tile.column(v), edge);
      }
      return strength_ * masked + open * (v - first);
    };
    const double before = up(first, false);
    return s + reach(first, last, u * (up(last, false) - before), [&](double v, bool is_edge) {
                 return up(v, is_edge) - before;
               }) / columns_;
  }
  const auto up = [&](double v) { return up_to(v / columns_, r1) - up_to(v / columns_, r0); };
  const double first = s0 * columns_, last = s1 * columns_, before = up(first);
  return reach(
             first, last, u * (up(last) - before), [&](double v, bool) { return up(v) - before; }) /
         columns_;
}

// What a sample carries is interpolated between pixels, while MaskSums chooses by cells. Both have
// the same mean, and a cell that is chosen with the wrong weight costs noise, not truth.
Eigen::Array3f Gobo::transmittance(float x, float y) const {
  // Seen from the light, right is -x; turned back by `turn`.
  const float right = -x;
  const float u = cos_turn_ * right - sin_turn_ * y, v = sin_turn_ * right + cos_turn_ * y;
  const auto half_x = static_cast<float>(0.5 * spec_.width * spec_.tiles_x),
             half_y = static_cast<float>(0.5 * spec_.height * spec_.tiles_y);
  float inside = 1;  // of the mask, 0 outside
  if (spec_.surround != GoboSurround::kRepeat) {
    const auto within = [&](float q, float half) {
      return edge_ > 0 ? 0.5f * (std::erf((half - q) / edge_) + std::erf((half + q) / edge_))
                       : (std::abs(q) <= half ? 1.0f : 0.0f);
    };
    inside = within(u, half_x) * within(v, half_y);
  }
  const float around = spec_.surround == GoboSurround::kClear ? 1.0f : 0.0f;
  Eigen::Array3f t = Eigen::Array3f::Constant(around);
  if (inside > 1e-6f) {
    // Tiles run from the left and top edges.
    const float s = (u + half_x) / static_cast<float>(spec_.width),
                r = (half_y - v) / static_cast<float>(spec_.height);
    const float px = (s - std::floor(s)) * static_cast<float>(picture_.width) - 0.5f,
                py = (r - std::floor(r)) * static_cast<float>(picture_.height) - 0.5f;
    const int x0 = static_cast<int>(std::floor(px)), y0 = static_cast<int>(std::floor(py));
    const float fx = px - static_cast<float>(x0), fy = py - static_cast<float>(y0);
    const auto pixel = [&](int i, int j) -> const Eigen::Array3f& {
      i = (i + picture_.width) % picture_.width;
      j = (j + picture_.height) % picture_.height;
      return picture_.rgb[static_cast<std::size_t>(j) * static_cast<std::size_t>(picture_.width) +
                          static_cast<std::size_t>(i)];
    };
    const Eigen::Array3f mask = (1 - fy) * ((1 - fx) * pixel(x0, y0) + fx * pixel(x0 + 1, y0)) +
                                fy * ((1 - fx) * pixel(x0, y0 + 1) + fx * pixel(x0 + 1, y0 + 1));
    t = inside * mask + (1 - inside) * around;
  }
  return 1 - static_cast<float>(spec_.strength) * (1 - t);
}

}  // namespace jovilux
