#pragma once

#include "jovilux/judge/profile_report.h"

#include <string>

namespace jovilux::figures {

/// The intensities over the angle to the axis, in two planes, beside the file's figures. Writes a
/// PNG.
void profile_figure(const std::string& path, const ProfileReport& report);

}  // namespace jovilux::figures
