#pragma once

#include "jovilux/judge/denoising.h"

#include <string>

namespace jovilux::cli {

/// Denoises the render in a folder; throws BadInput where it keeps no halves.
DenoisingReport denoise_folder(const std::string& folder);

/// What people read about it.
std::string denoising_summary(const DenoisingReport& report, const std::string& folder);

}  // namespace jovilux::cli
