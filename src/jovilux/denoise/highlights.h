#pragma once

#include "jovilux/denoise/denoise.h"
#include "jovilux/denoise/denoise_kernels.h"

#include <cstddef>
#include <vector>

namespace jovilux {

/// Small images of lights, such as a lamp's in a jar: pixels whose luminance is mostly that of
/// lights that are seen (NoisyPicture::seen), and is more than twice the median of the 5 x 5
/// around. Few samples meet them. That is how finely a pixel was sampled, and tells nothing of the
/// light around: averaging would smear them, and among fireflies they would be lowered.
class Highlights {
 public:
  Highlights() = default;
  /// Takes them out of the picture: the mean of the other pixels around takes their places.
  /// `luminance`: of the picture; below `floor` [cd/m2] a tenth of that counts as dark.
  Highlights(NoisyPicture& picture, const Plane& luminance, float floor);

  bool any() const { return !places_.empty(); }
  /// Puts them into the denoised picture as they were, with their variance as the error.
  void put_back(DenoisedPicture& picture) const;

 private:
  void fill(NoisyPicture& picture, int x, int y, const Plane& ordinary) const;

  std::size_t channels_ = 0;
  std::vector<std::size_t> places_;        // pixels
  std::vector<float> values_, variances_;  // [place][channels], [place]
};

}  // namespace jovilux
