#pragma once

#include "jovilux/judge/rendered_image.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <Eigen/Core>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// x in [0, upper] that makes |A x - b|^2 + sum of ridge_i (x_i - 1)^2 least, by active sets. `A`:
/// rows x unknowns.
Eigen::VectorXd bounded_least_squares(const Eigen::MatrixXd& A,
                                      const Eigen::VectorXd& b,
                                      const Eigen::VectorXd& upper,
                                      const Eigen::VectorXd& ridge);

/// A layer of a picture: what its lights shall become, and what that makes of it.
struct BalancedLight {
  std::string layer;
  double dimmer = 1;         ///< as the rig of the picture has it
  double times = 1;          ///< wanted: its level, over what it is
  std::optional<Rgb> tint;   ///< wanted
  Rgb factor = Rgb::Ones();  ///< of the layer, channel by channel (LayerScaling)
  bool fixed = false;        ///< its level is given: solving leaves it
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

/// Writes image.exr (the picture and its layers), view.png and rig.resolved.toml into an existing
/// folder; a stats.json and
/// a denoised picture that are there go, for they are of another render. Throws MachineTrouble.
void save_balanced(const std::string& folder,
                   const RenderedImage& image,
                   const std::string& rig_text);

/// Factors that bring the picture nearest to a reference of the same size, exposure of the
/// reference included where it is
/// not absolute; `tints`: each channel on its own. Returns the root mean square of what is left
/// over that of the reference.
double match_reference(const RenderedImage& image,
                       const RenderedImage& reference,
                       bool tints,
                       std::vector<BalancedLight>& lights);

}  // namespace jovilux
