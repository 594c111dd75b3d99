#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

namespace jovilux {

/// Mistakes of where things stand, as warnings with their places: faces of different objects in one
/// plane, faces of a volume in the plane of a surface, lamps that reach into an object, lamps that
/// are enclosed or hidden by the body of one that is off, light that falls only on what no camera
/// sees.
Problems placement_checks(const Rig& rig, const Scene& scene);

}  // namespace jovilux
