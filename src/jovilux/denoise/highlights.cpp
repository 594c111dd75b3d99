#include "jovilux/denoise/highlights.h"

#include "jovilux/denoise/picture_planes.h"

#include <algorithm>

namespace jovilux {
namespace {

constexpr int kAround = 2;  // reach of the surroundings [pixels]

// The luminance that a pixel has of lights that are seen: by its own samples; or, where it has
// samples in common with its neighbors (SharedSamples), what their tents give it in the mean.
Plane seen_luminance(const NoisyPicture& picture) {
  constexpr float kOwn = 2.0f / 3, kBeside = 1.0f / 6;
  const Plane seen = plane_of(picture.width, picture.height, [&](int x, int y) {
    return picture.seen[static_cast<std::size_t>(y) * static_cast<std::size_t>(picture.width) +
                        static_cast<std::size_t>(x)];
  });
  const auto along = [](float before, float own, float after) {
    return kOwn * own + kBeside * (before + after);
  };
  const Plane across = plane_of(picture.width, picture.height, [&](int x, int y) {
    return along(*seen.at(x - 1, y), *seen.at(x, y), *seen.at(x + 1, y));
  });
  return plane_of(picture.width, picture.height, [&](int x, int y) {
    return std::max(*seen.at(x, y),
                    along(*across.at(x, y - 1), *across.at(x, y), *across.at(x, y + 1)));
  });
}

}  // namespace

Highlights::Highlights(NoisyPicture& picture, const Plane& luminance, float floor)
    : channels_(3 * picture.slots) {
  constexpr float kBrighter = 2, kMostly = 0.5f, kDark = 0.1f;
  if (picture.seen.empty()) {
    return;
  }
  const Plane seen = seen_luminance(picture), middle = median(luminance, kAround);
  const Plane ordinary = plane_of(picture.width, picture.height, [&](int x, int y) {
    const float value = *luminance.at(x, y);
    const bool shows_light = *seen.at(x, y) >= kMostly * value;
    const bool stands_out = value > kBrighter * std::max(*middle.at(x, y), kDark * floor);
    return shows_light && stands_out ? 0.0f : 1.0f;
  });
  for (int y = 0; y < picture.height; ++y) {
    for (int x = 0; x < picture.width; ++x) {
      if (*ordinary.at(x, y) == 0) {
        const std::size_t pixel =
            static_cast<std::size_t>(y) * static_cast<std::size_t>(picture.width) +
            static_cast<std::size_t>(x);
        const float* const from = picture.mean.data() + pixel * channels_;
        places_.push_back(pixel);
        values_.insert(values_.end(), from, from + channels_);
        variances_.push_back(picture.variance[pixel]);
        fill(picture, x, y, ordinary);
      }
    }
  }
}

// With the mean of the ordinary pixels around: these stay as they are, so that the order is all the
// same. Among nothing but highlights it stays as it is.
void Highlights::fill(NoisyPicture& picture, int x, int y, const Plane& ordinary) const {
  const auto pixel_at = [&](int u, int v) {
    return static_cast<std::size_t>(v) * static_cast<std::size_t>(picture.width) +
           static_cast<std::size_t>(u);
  };
  std::vector<std::size_t> around;
  for (int v = std::max(0, y - kAround); v <= std::min(picture.height - 1, y + kAround); ++v) {
    for (int u = std::max(0, x - kAround); u <= std::min(picture.width - 1, x + kAround); ++u) {
      if (*ordinary.at(u, v) != 0) {
        around.push_back(pixel_at(u, v));
      }
    }
  }
  if (around.empty()) {
    return;
  }
  const std::size_t place = pixel_at(x, y);
  const auto take_mean = [&](std::vector<float>& of, std::size_t each) {
    for (std::size_t c = 0; c < each; ++c) {
      double sum = 0;
      for (const std::size_t q : around) {
        sum += static_cast<double>(of[q * each + c]);
      }
      of[place * each + c] = static_cast<float>(sum / static_cast<double>(around.size()));
    }
  };
  take_mean(picture.mean, channels_);
  take_mean(picture.halves, channels_);
  take_mean(picture.variance, 1);
  for (std::vector<float>& of_half : picture.half_variance) {
    take_mean(of_half, 1);
  }
}

void Highlights::put_back(DenoisedPicture& picture) const {
  for (std::size_t k = 0; k < places_.size(); ++k) {
    std::copy_n(
        values_.data() + k * channels_, channels_, picture.mean.data() + places_[k] * channels_);
    picture.error[places_[k]] = variances_[k];
  }
}

}  // namespace jovilux
