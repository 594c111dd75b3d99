#pragma once

#include "jovilux/judge/color_report.h"

#include <string>
#include <vector>

namespace jovilux::figures {

/// Colors as places on the CIE 1976 chart, beside their swatches and figures. Writes a PNG.
void color_figure(const std::string& path, const std::vector<ColorReport>& reports);

}  // namespace jovilux::figures
