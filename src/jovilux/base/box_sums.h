#pragma once

#include <vector>

namespace jovilux {

/// Sums over the pixels within `reach` of each along x and y, cut off at the picture's edges, of
/// values [pixel] row by row. Replaces the values. width * height must be their number.
void box_sums(int width, int height, int reach, std::vector<float>& values);

}  // namespace jovilux
