#include "cli/layered_render.h"

#include <filesystem>

#include "cli/output.h"

namespace jovilux::cli {

LayeredRender load_layered(const std::string& folder, bool denoised, bool halves) {
  auto image = load_rendered(folder, true, denoised, halves);
  if (!image) {
    throw BadInput{image.problems()};
  }
  if (image->layers.empty()) {
    throw BadInput{{{Severity::kError,
                     "no-layers",
                     {image_in(folder), 0, 0},
                     "",
                     "holds no layers of lights",
                     "render with layers = \"lights\""}}};
  }
  auto rig = load_rig(
      (std::filesystem::path(image_in(folder)).parent_path() / "rig.resolved.toml").string());
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  auto scene = prepare_scene(*rig);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  return {std::move(*image), std::move(*rig), std::move(*scene)};
}

}  // namespace jovilux::cli
