#pragma once

#include "jovilux/judge/balance.h"

#include <vector>

namespace jovilux {

/// What a match of levels to a reference picture found.
struct PictureMatch {
  /// Root mean square of what is left over that of the reference, both weighed.
  double residual = 0;
  /// Standard error of each light's `times` by the noise of both pictures, from the scatter over 32
  /// parts of the picture; 0 at a bound; with tints the largest of the channels' factors.
  std::vector<double> errors;
  /// Of each light that ends at its full dimmer though the reference asks for more by over three
  /// standard errors: its `times` in the match without that bound; else 0.
  std::vector<double> beyond_full;
  /// The reference has luminances: the levels are absolute. Else it is taken to be as bright as the
  /// picture.
  bool absolute = false;
  std::size_t clipped = 0;  ///< pixels of the reference that show white and were left out
};

/// Levels that bring a picture nearest to a reference of the same size; sets the lights' `times`
/// or, with `tints`, each channel's `factor`. Cells of the picture are weighed by the brightness of
/// the reference there and by the picture's variance.
///
/// A layer's own noise would draw its level towards 0, for it adds to the squares of the normal
/// matrix. With the half differences D of the layers beside their means M the matrix is
/// M'M - D'D, whose expectation has no noise (errors in variables with independent halves); the
/// same of a reference with halves. A reference without them that is nearer than the noise allows
/// was made of these very samples: the plain matrix is the right one then.
/// `image` may lack half differences; levels are then biased by its noise.
PictureMatch match_picture(const RenderedImage& image,
                           const RenderedImage& reference,
                           bool tints,
                           std::vector<BalancedLight>& lights);

/// A picture as it is shown (a PNG) as luminances: encoding, curve and white balance undone by the
/// look that it tells, else by `look`. Absolute where it tells its exposure. Pixels that are shown
/// white hold NaN.
RenderedImage unshown(const RenderedImage& picture, const View& look);

}  // namespace jovilux
