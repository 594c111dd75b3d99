#pragma once

#include "jovilux/judge/rendered_image.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <string>

namespace jovilux::cli {

/// A render that has a layer for each light, with its rig and scene.
struct LayeredRender {
  RenderedImage image;
  Rig rig;
  Scene scene;
};

/// Of a render's folder; `halves`: with the half differences. Throws BadInput.
LayeredRender load_layered(const std::string& folder, bool denoised, bool halves);

}  // namespace jovilux::cli
