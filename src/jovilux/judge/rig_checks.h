#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

namespace jovilux {

/// The mistakes that would waste a render, found by looking at the rig and by some thousand rays:
/// warnings with the place in the rig and what to do.
Problems check_rig(const Rig& rig, const Scene& scene, const std::vector<LightReport>& reports);

}  // namespace jovilux
