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

/// A layer of a picture as a rig's light: where its dimmer and tint are set, and what they are.
struct BalancedLight {
  std::string layer;
  /// "light.pendant", of an array its pattern's; empty where the rig does not tell.
  std::string address;
  double dimmer = 1;         ///< in the picture
  Rgb factor = Rgb::Ones();  ///< of the layer, channel by channel
  bool fixed = false;        ///< its level is given: solving leaves it

  /// What the factor makes of the dimmer: by luminance of a neutral layer.
  double new_dimmer() const { return dimmer * level(); }
  double level() const {
    return 0.21263901 * factor[0] + 0.71516868 * factor[1] + 0.07219232 * factor[2];
  }
  bool tinted() const { return (factor.array() - factor[0]).abs().maxCoeff() > 1e-9; }
};

/// The color of a light, linear Rec.709, up to a factor that its output sets: the channels of its
/// layer change with it, exactly
/// on gray surfaces, nearly on colored ones. Nothing where no light of the layer's name shines.
std::optional<Rgb> color_of_light(const Scene& scene, const std::string& layer);

/// The lights of a picture's layers, as its rig has them.
std::vector<BalancedLight> balanced_lights(const RenderedImage& image, const Rig& rig);

/// The picture as the sum of its layers times their factors, in their order: factors of 1 give it
/// back to the bit.
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
