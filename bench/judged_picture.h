#pragma once

#include "jovilux/judge/rendered_image.h"

#include <stdexcept>
#include <string>
#include <utility>

namespace jovilux {

/// Of all pixels, the worst that do not count: single fireflies say little of a picture.
inline constexpr double kTrimmed = 0.001;
/// Pixels darker than this share of the mean count as that bright.
inline constexpr double kFloor = 0.02;

/// The picture of a file or render folder. Throws std::runtime_error.
inline RenderedImage loaded(const std::string& path) {
  auto image = load_rendered(path, false);
  if (!image) {
    throw std::runtime_error("cannot read " + path);
  }
  return std::move(*image);
}

}  // namespace jovilux
