#pragma once

#include "jovilux/judge/falloff_study.h"

#include <string>

namespace jovilux::figures {

/// The curves against distance over a strip of patches: a gray wall facing each light, pushed back.
/// Writes a PNG.
void falloff_figure(const std::string& path, const FalloffStudy& study);

}  // namespace jovilux::figures
