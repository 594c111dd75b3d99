#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "jovilux/render/renderer.h"
#include "jovilux/rig/rig.h"

namespace jovilux {

/// Header texts and numbers of our EXR files.
inline constexpr const char* kRigAttribute = "jovilux:rig";
inline constexpr const char* kEvAttribute = "jovilux:ev100";
inline constexpr const char* kCameraAttribute = "jovilux:camera";
/// Channel of how many samples each pixel took, where they were not all alike.
inline constexpr const char* kSamplesChannel = "samples.N";
inline constexpr const char* kSamplesAttribute = "jovilux:samples_per_pixel";

/// Writes image.exr, view.png, stats.json and rig.resolved.toml into an existing folder, each atomically and
/// stats.json last. `preview`: view.png is smoothed and enlarged to this width and height. Throws MachineTrouble.
void save_render(const std::string& folder, const Rig& rig, const std::vector<std::string>& layers, const RenderOptions& options, const Render& render,
                 std::optional<std::pair<int, int>> preview = std::nullopt);

/// stats.json as text (docs/commands.md).
std::string stats_json(const Rig& rig, const RenderStats& stats, int width, int height);

}  // namespace jovilux
