#pragma once

#include "jovilux/files/exr.h"
#include "jovilux/render/renderer.h"
#include "jovilux/render/view.h"
#include "jovilux/rig/rig.h"

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jovilux {

/// Header texts and numbers of our EXR files.
inline constexpr const char* kRigAttribute = "jovilux:rig";
inline constexpr const char* kEvAttribute = "jovilux:ev100";
inline constexpr const char* kWhiteAttribute = "jovilux:white";  ///< that "auto" has found
inline constexpr const char* kCameraAttribute = "jovilux:camera";
/// Channel of how many samples each pixel took, where they were not all alike.
inline constexpr const char* kSamplesChannel = "samples.N";
/// Before the names of channels that hold half the difference of the two halves' means: "halves.R"
/// of the picture, "halves.light.NAME.R" of a layer.
inline constexpr const char* kHalvesPrefix = "halves.";
/// The luminance of the lights that a pixel shows, directly or as images (Film::seen()).
inline constexpr const char* kSeenChannel = "seen.V";
/// Files of a denoised render, beside image.exr and view.png.
inline constexpr const char* kDenoisedPicture = "denoised.exr";
inline constexpr const char* kDenoisedView = "view-denoised.png";
/// Text in the header of a denoised picture.
inline constexpr const char* kDenoisedAttribute = "jovilux:denoised";
/// Channels of the variance of each half's mean luminance [(cd/m2)^2].
inline constexpr const char* kHalfVariance[] = {"halves.even.V", "halves.odd.V"};
inline constexpr const char* kSamplesAttribute = "jovilux:samples_per_pixel";

/// How a preview is shown: its size, and denoised rather than smoothed.
struct PreviewLook {
  int width = 0, height = 0;
  bool denoised = false;
};

/// Writes image.exr, view.png, stats.json and rig.resolved.toml into an existing folder, each
/// atomically and stats.json last. `preview`: view.png is made clean and enlarged. Throws
/// MachineTrouble.
void save_render(const std::string& folder,
                 const Rig& rig,
                 const std::vector<std::string>& layers,
                 const RenderOptions& options,
                 const Render& render,
                 const std::optional<PreviewLook>& preview = std::nullopt);

/// The text chunk of a view.png that holds its look as a rig's text: what undoes the view.
inline constexpr const char* kLookText = "jovilux-look";
/// A rig's [look] with the exposure and the white that were found, as TOML.
std::string look_text(const DocumentNode& rig, const View& view);
/// Adds what recorded_look() needs of a view beside the rig.
void tell_look(ExrHeader& header, const View& view);

/// Writes a picture as it is to be seen, its lens included: linear Rec.709 [cd/m2], 3 a pixel, as
/// an 8-bit PNG, atomically; `bloom`: the lens's share; `look`: the look's text. Returns its bytes.
/// Throws MachineTrouble.
std::vector<std::uint8_t> write_view(const std::string& path,
                                     const View& view,
                                     double bloom,
                                     std::vector<float> rgb,
                                     int width,
                                     int height,
                                     const std::string& look,
                                     const std::string& title = "");

/// Writes view.png of a film that is not finished, atomically.
void save_view_so_far(const std::string& folder, const Rig& rig, int camera, const Film& film);

/// Writes a picture alone, linear Rec.709 in cd/m2, 3 a pixel: an EXR with the rig's text, and the
/// PNG that the look makes of it at an EV100, whose bytes are returned (8-bit sRGB). Throws
/// MachineTrouble.
std::vector<std::uint8_t> save_picture(const std::string& exr,
                                       const std::string& png,
                                       const Rig& rig,
                                       const std::string& rig_text,
                                       double ev,
                                       const std::vector<float>& rgb,
                                       bool denoised = false);

/// stats.json as text (docs/commands.md).
std::string stats_json(const Rig& rig, const RenderStats& stats, int width, int height);

}  // namespace jovilux
