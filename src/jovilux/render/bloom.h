#pragma once

#include <vector>

namespace jovilux {

/// Spreads a share of a picture's light as a lens does: a halo whose luminance falls with the cube
/// of the distance from its source, in three widths (0.2, 1 and 5 % of the picture's width, a third
/// of the share each, none below 1.6 pixels),
///
///     k(r) = a / (2 pi (r^2 + a^2)^1.5), whose transform is exp(-2 pi a f)
///
/// The picture is taken to go on mirrored beyond its edges, so that its energy stays. `rgb`: width
/// x height x 3, linear;
/// share in [0, 1].
void bloom(std::vector<float>& rgb, int width, int height, double share);

}  // namespace jovilux
