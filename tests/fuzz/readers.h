#pragma once

#include <string_view>

namespace jovilux::fuzz {

/// Feeds one reader with any bytes: rig, set, lm63, eulumdat, csv, spdx, obj, ply, hdr, png, exr,
/// gltf, glb, usda, slice or density. It may refuse them with problems; it may not crash, hang,
/// leak, or give a value that its own promises exclude: that aborts.
void read(std::string_view target, std::string_view bytes);

}  // namespace jovilux::fuzz
