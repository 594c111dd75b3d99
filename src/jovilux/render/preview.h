#pragma once

#include "jovilux/render/film.h"
#include "jovilux/rig/rig.h"

#include <vector>

namespace jovilux {

/// The size of a quick look: at most kPreviewPixels, of the same shape.
inline constexpr double kPreviewPixels = 57600;
void shrink_for_preview(RenderSpec& render);

/// Samples a pixel from which a preview is denoised (jovilux/denoise/denoise.h): each batch
/// has one then. Of fewer, the halves tell too little, and smoothing shows more.
inline constexpr double kDenoisedFrom = kBatches;

/// Linear Rec.709 of a film [cd/m2], 3 a pixel, with its noise smoothed where albedo, normal and
/// depth tell that a surface goes on and where luminances differ by no more than noise explains.
/// For looking at, not for reading. `hazy`: what lies beyond all surfaces is smoothed too, for it
/// is haze before the sky; else the sky stays as it is.
/// Source: H. Dammertz et al., "Edge-Avoiding A-Trous Wavelet Transform for fast Global
/// Illumination Filtering", HPG 2010.
std::vector<float> smoothed(const Film& film, bool hazy = false);

/// Pixels, 3 values each, enlarged bilinearly.
std::vector<float> enlarged(
    const std::vector<float>& rgb, int width, int height, int to_width, int to_height);

}  // namespace jovilux
