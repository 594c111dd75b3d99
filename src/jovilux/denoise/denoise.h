#pragma once

#include <array>
#include <cstddef>
#include <vector>

namespace jovilux {

/// A traced picture as two independent halves of its samples, with what is known of its surfaces.
///
///     mean        linear RGB of each slot (a layer, or a part of one) [pixel][3 slots], cd/m2; the
///                 picture is the sum of the slots
///     halves      half the difference of the two halves' means: these are mean + halves and
///                 mean - halves; zero where a lone sample tells nothing
///     variance    of the picture's mean luminance [(cd/m2)^2]; infinite where it is not known
///     half_variance  of each half's mean luminance, from its own samples alone; infinite so
///     albedo      [pixel][3] in [0, 1]
///     normal      [pixel][3], mean of unit vectors
///     depth       [m]; infinite where nothing was met
///     seen        luminance of the lights that the pixel's own samples show, directly or as
///                 images in mirrors and glass [cd/m2]; empty where that is not known
struct NoisyPicture {
  int width = 0, height = 0;
  std::size_t slots = 0;
  std::vector<float> mean, halves;
  std::vector<float> variance;
  std::array<std::vector<float>, 2> half_variance;
  std::vector<float> albedo, normal, depth, seen;

  std::size_t pixels() const {
    return static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  }
};

/// What denoising makes of a picture.
struct DenoisedPicture {
  std::vector<float> mean;   ///< as NoisyPicture's
  std::vector<float> error;  ///< expected squared error of the luminance, with bias [(cd/m2)^2]
  std::size_t outliers = 0;  ///< halves of pixels whose excess was spread
  double spread = 0;         ///< the share of the picture's light that these held
};

/// Removes noise and tells what error is left.
///
/// Weights come from one half and average the other, and the other way round: they are
/// independent of the noise that they average (but for step 2). They are found once for the picture
/// and hold for all slots, so that denoised slots add up to the denoised picture and a layer times
/// a factor gives its denoised layer times that factor. The steps:
///
///  0. Highlights are left out of all that follows and stay as traced, with their variance as the
///     error: small images of lights, which few samples meet, are no fireflies however large these
///     samples are. What lies around takes their places.
///  1. A pixel that one half has far brighter than all around, and than the other half has around
///     there (a firefly), is lowered; what it had more is spread over the pixels around, in
///     proportion to theirs. No energy is lost.
///  2. A weighted mean of each half gives the guide that weights are made from. Only here does a
///     half look at the other: a bright pixel that both have is a lamp, and none of the noise.
///  3. Kernels of several strengths, by first-order regression on albedo, normal and depth.
///  4. Stein's unbiased estimate of each kernel's squared error, exact here as the weights do not
///     depend on the pixel's own noise; its mean over the neighborhood chooses the strength,
///     with no smoothing at all among the choices.
///  5. The error that is told: the variance that the weights let through, and what the estimates
///     tell beyond it.
///
/// Deterministic for any number of threads.
/// Sources: Rousselle, Manzi, Zwicker, "Robust Denoising using Feature and Color Information",
/// Pacific Graphics 2013 (selection by SURE); Bitterli et al., EGSR 2016 (regression, halves).
DenoisedPicture denoise(NoisyPicture picture);

}  // namespace jovilux
