#pragma once

#include "jovilux/judge/rendered_image.h"

#include <cstdint>
#include <string>
#include <vector>

namespace jovilux::cli {

/// Pixels (8-bit RGB, rows from the top) as text for a terminal with 24-bit color: two rows a line,
/// upper half blocks.
std::string terminal_text(const std::vector<std::uint8_t>& rgb, int width, int height);

/// A picture as it is to be seen, `width` characters wide.
std::string terminal_picture(const RenderedImage& image, int width);

}  // namespace jovilux::cli
