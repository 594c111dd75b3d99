#include "jovilux/photometry/gobo.h"

#include <algorithm>
#include <cmath>

#include "jovilux/base/parallel.h"
#include "jovilux/base/assert.h"
#include "jovilux/base/sampler.h"

namespace jovilux {
namespace {

constexpr int kSide = 1024;
// An edge blurred by a Gaussian of standard deviation s goes from 10 % to 90 % over 2.5631 s.
constexpr double kSoftPerDeviation = 2.5631031310892007;

// The share of [a, b] inside the open part [0, open) of each unit interval.
double covered(double a, double b, double open) {
  const auto up_to = [&](double v) { return std::floor(v) * open + std::min(open, v - std::floor(v)); };
  return (up_to(b) - up_to(a)) / (b - a);
}

std::vector<float> leaves(int count, double open) {
  std::vector<float> out(static_cast<std::size_t>(kSide) * kSide, 1.0f);
  Rng rng(0x1eafULL);
  const double length = 1.6 / count, width = 0.42 * length, area = 0.33 * length * width;  // of a leaf, about
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
        float& pixel = out[static_cast<std::size_t>((py + dy + 2 * kSide) % kSide) * kSide + static_cast<std::size_t>((px + dx + 2 * kSide) % kSide)];
        clear -= pixel * per_pixel;
        pixel = 0;
      }
    }
  }
  return out;
}

// One direction of a Gaussian blur; what repeats goes round, what does not is continued by its edge.
void blur(MaskPicture& picture, double deviation, bool along_x, bool wraps) {
  const int reach = static_cast<int>(std::ceil(4 * deviation));
  if (deviation < 0.05) {
    return;
  }
  std::vector<float> weight;
  float sum = 0;
  for (int i = -reach; i <= reach; ++i) {
    weight.push_back(static_cast<float>(std::exp(-0.5 * sqr(i / deviation))));
    sum += weight.back();
  }
  const int n = along_x ? picture.width : picture.height, lines = along_x ? picture.height : picture.width;
  const auto index = [&](int line, int i) { return static_cast<std::size_t>(along_x ? line * picture.width + i : i * picture.width + line); };
  parallel_for(static_cast<std::size_t>(lines), [&](std::size_t line_number) {
    const int line = static_cast<int>(line_number);
    // The line with what is beyond its ends, so that no place needs a question.
    std::vector<Eigen::Array3f> row(static_cast<std::size_t>(n + 2 * reach));
    for (int i = -reach; i < n + reach; ++i) {
      const int at = wraps ? (i % n + n) % n : std::clamp(i, 0, n - 1);
      row[static_cast<std::size_t>(i + reach)] = picture.rgb[index(line, at)];
    }
    for (int i = 0; i < n; ++i) {
      Eigen::Array3f total = Eigen::Array3f::Zero();
      for (std::size_t k = 0; k < weight.size(); ++k) {
        total += weight[k] * row[static_cast<std::size_t>(i) + k];
      }
      picture.rgb[index(line, i)] = total / sum;
    }
  });
}

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
      const double lo = static_cast<double>(i) * count / kSide - 0.5 * (1 - share), hi = static_cast<double>(i + 1) * count / kSide - 0.5 * (1 - share);
      return covered(lo, hi, share);
    };
    for (int y = 0; y < kSide; ++y) {
      for (int x = 0; x < kSide; ++x) {
        double t = 0;
        switch (pattern) {
          case GoboPattern::kSlats: t = bars(y, open); break;
          case GoboPattern::kGrid: t = bars(x, side) * bars(y, side); break;
          default: {
            constexpr int kSub = 4;
            for (int s = 0; s < kSub * kSub; ++s) {
              const double u = (x + (s % kSub + 0.5) / kSub) * count / kSide, v = (y + (s / kSub + 0.5) / kSub) * count / kSide;
              t += std::hypot(u - std::floor(u) - 0.5, v - std::floor(v) - 0.5) < radius ? 1.0 / (kSub * kSub) : 0.0;
            }
          }
        }
        gray[static_cast<std::size_t>(y) * kSide + static_cast<std::size_t>(x)] = static_cast<float>(t);
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
  JOVILUX_ASSERT(picture_.width > 0 && picture_.height > 0 && picture_.rgb.size() == static_cast<std::size_t>(picture_.width) * static_cast<std::size_t>(picture_.height));
  cos_turn_ = static_cast<float>(std::cos(spec.turn));
  sin_turn_ = static_cast<float>(std::sin(spec.turn));
  for (const Eigen::Array3f& p : picture_.rgb) {
    colored_ = colored_ || p.maxCoeff() - p.minCoeff() > 1e-4f;
  }
  if (spec.soft > 0) {
    const double deviation = spec.soft / kSoftPerDeviation;
    blur(picture_, std::min(deviation / spec.width, 1.0) * picture_.width, true, spec.surround == GoboSurround::kRepeat || spec.tiles_x > 1);
    blur(picture_, std::min(deviation / spec.height, 1.0) * picture_.height, false, spec.surround == GoboSurround::kRepeat || spec.tiles_y > 1);
    edge_ = static_cast<float>(std::sqrt(2.0) * deviation);
  }
}

Eigen::Array3f Gobo::transmittance(float x, float y) const {
  // Seen from the light, right is -x; turned back by `turn`.
  const float right = -x;
  const float u = cos_turn_ * right - sin_turn_ * y, v = sin_turn_ * right + cos_turn_ * y;
  const auto half_x = static_cast<float>(0.5 * spec_.width * spec_.tiles_x), half_y = static_cast<float>(0.5 * spec_.height * spec_.tiles_y);
  float inside = 1;  // of the mask, 0 outside
  if (spec_.surround != GoboSurround::kRepeat) {
    const auto within = [&](float q, float half) {
      return edge_ > 0 ? 0.5f * (std::erf((half - q) / edge_) + std::erf((half + q) / edge_)) : (std::abs(q) <= half ? 1.0f : 0.0f);
    };
    inside = within(u, half_x) * within(v, half_y);
  }
  const float around = spec_.surround == GoboSurround::kClear ? 1.0f : 0.0f;
  Eigen::Array3f t = Eigen::Array3f::Constant(around);
  if (inside > 1e-6f) {
    // Tiles run from the left and top edges.
    const float s = (u + half_x) / static_cast<float>(spec_.width), r = (half_y - v) / static_cast<float>(spec_.height);
    const float px = (s - std::floor(s)) * static_cast<float>(picture_.width) - 0.5f, py = (r - std::floor(r)) * static_cast<float>(picture_.height) - 0.5f;
    const int x0 = static_cast<int>(std::floor(px)), y0 = static_cast<int>(std::floor(py));
    const float fx = px - static_cast<float>(x0), fy = py - static_cast<float>(y0);
    const auto pixel = [&](int i, int j) -> const Eigen::Array3f& {
      i = (i + picture_.width) % picture_.width;
      j = (j + picture_.height) % picture_.height;
      return picture_.rgb[static_cast<std::size_t>(j) * static_cast<std::size_t>(picture_.width) + static_cast<std::size_t>(i)];
    };
    const Eigen::Array3f mask = (1 - fy) * ((1 - fx) * pixel(x0, y0) + fx * pixel(x0 + 1, y0)) + fy * ((1 - fx) * pixel(x0, y0 + 1) + fx * pixel(x0 + 1, y0 + 1));
    t = inside * mask + (1 - inside) * around;
  }
  return 1 - static_cast<float>(spec_.strength) * (1 - t);
}

}  // namespace jovilux
