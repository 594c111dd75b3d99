#pragma once

#include "jovilux/base/problem.h"

#include <map>
#include <string>
#include <vector>

namespace jovilux {

/// A picture of linear Rec.709 values, row by row from the top, 3 floats a pixel; finite, negative
/// ones made 0.
struct LinearImage {
  int width = 0, height = 0;
  std::vector<float> rgb;
  std::map<std::string, std::string> texts = {};  ///< a PNG's text chunks
};

/// The most pixels of a picture that is read.
inline constexpr std::uint64_t kMaxImagePixels = 1ULL << 27;

/// An error in a picture file.
Problem image_fault(const std::string& path, std::string text);

/// Reads a PNG (8 or 16 bits, its encoding undone unless `encoded` is false, transparent parts
/// black), an EXR (R, G, B; or Y; times its
/// whiteLuminance) or a Radiance HDR (divided by its EXPOSURE) by its ending. Any bytes at all give
/// a picture or problems.
Result<LinearImage> load_image(const std::string& path, bool encoded = true);

/// The same of a PNG's bytes; `path` is for messages.
Result<LinearImage> load_png_bytes(const std::string& bytes,
                                   const std::string& path,
                                   bool encoded = true);

}  // namespace jovilux
