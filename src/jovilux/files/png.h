#pragma once

#include <cstdint>
#include <map>
#include <string>
#include <vector>

namespace jovilux {

/// Writes 8-bit RGB (row by row from the top, 3 bytes a pixel) as a PNG tagged sRGB, atomically.
/// `texts` become text
/// chunks. Throws MachineTrouble.
void write_png(const std::string& path,
               int width,
               int height,
               const std::vector<std::uint8_t>& rgb,
               const std::map<std::string, std::string>& texts = {});

}  // namespace jovilux
