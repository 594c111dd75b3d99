#pragma once

#include "jovilux/judge/rendered_image.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <Eigen/Core>
#include <array>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// A layer of a picture: what its lights shall become, and what that makes of it.
struct BalancedLight {
  std::string layer;
  double dimmer = 1;         ///< as the rig of the picture has it
  double times = 1;          ///< wanted: its level, over what it is
  std::optional<Rgb> tint;   ///< wanted
  Rgb factor = Rgb::Ones();  ///< of the layer, channel by channel (LayerScaling)
  bool fixed = false;        ///< its level is given: solving leaves it
  /// Wanted of each Part, over what it is, beside `times`: the light's cheats.
  std::array<double, kPartNames.size()> part_times{1, 1, 1, 1};
  std::array<double, kPartNames.size()> part_factors{1, 1, 1, 1};  ///< beside `factor`
  /// Standard error of a solved `times`.
  std::optional<double> error;
};

/// The assignments that make of a rig what the lights shall become, in their order.
std::vector<std::string> balance_assignments(const Rig& rig,
                                             const std::vector<BalancedLight>& lights);

/// The lights of a picture's layers, as its rig has them.
std::vector<BalancedLight> balanced_lights(const RenderedImage& image, const Rig& rig);

/// The picture as the sum of its layers times their factors, in their order: factors of 1 give it
/// back to the bit. Its variance is that of the picture times the largest factor squared: no
/// variance of each layer is known, and this is never too small.
void apply_balance(RenderedImage& image, const std::vector<BalancedLight>& lights);

/// Writes image.exr (the picture, its layers and their parts), view.png and rig.resolved.toml of
/// the rig that it stands for into an existing folder; a stats.json and a denoised picture that are
/// there go, for they are of another render. Throws MachineTrouble.
void save_balanced(const std::string& folder, const RenderedImage& image, const Rig& rig);

}  // namespace jovilux
