#pragma once

#include "jovilux/denoise/denoise.h"
#include "jovilux/render/film.h"

namespace jovilux {

/// A film as the denoiser takes it: the picture alone, as one slot of linear Rec.709 [cd/m2].
NoisyPicture noisy_picture(const Film& film);

}  // namespace jovilux
