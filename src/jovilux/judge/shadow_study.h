#pragma once

#include "jovilux/render/renderer.h"
#include "jovilux/rig/rig.h"

#include <functional>
#include <string>
#include <vector>

namespace jovilux {

/// What objects do to the light on the surfaces that catch their shadows.
///
/// With the objects O taken away, a picture W is left; with them, and black where the camera sees
/// one of O first, a picture C. Then C / W is what a photograph of the real place, in the place of
/// W, is multiplied by, and the whole picture P gives O's own light, P - C, to be added:
///
///     photograph * (C / W) + (P - C)
///
/// At an edge that O covers in part the factor holds that as well. Objects that are lamps stay.
struct ShadowStudy {
  int width = 0, height = 0;
  /// Linear Rec.709, 3 a pixel: W and P - C [cd/m2], and C / W, which is 1 where W is black.
  std::vector<float> without, objects, factor;
  /// Standard error of the factor's luminance, of each pixel.
  std::vector<float> error;
  /// What is left of the light on the catching surfaces, where the camera sees them: all of it, and
  /// that of each layer.
  struct Left {
    std::string light;             ///< empty: all
    double without = 0, with = 0;  ///< mean luminance [cd/m2]
    double standard_error = 0;     ///< of with / without; of a layer 0: not told
    double share() const { return without > 0 ? with / without : 1; }
  };
  Left all;
  std::vector<Left> lights;
  /// The pixel of the least factor among those whose error is below a tenth.
  double darkest = 1;
  int darkest_x = -1, darkest_y = -1;
  double caught = 0;     ///< share of the pixels where a catching surface is seen
  bool finished = true;  ///< false: stopped before the last picture was whole
};

/// Renders the three pictures one after the other with the options' camera. `told` is called with
/// 0, 1, 2 before each. Problems: files that cannot be read; no object that catches, or none that
/// could throw.
Result<ShadowStudy> study_shadow(const Rig& rig,
                                 const RenderOptions& options,
                                 const std::function<void(int)>& told);

}  // namespace jovilux
