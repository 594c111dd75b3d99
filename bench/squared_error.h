#pragma once

#include "jovilux/judge/rendered_image.h"

#include <string>
#include <vector>

namespace jovilux {

/// Mean squared error of luminances, relative to the reference's (not below kFloor of its mean),
/// without the worst kTrimmed of the pixels; the reference's own variance is taken off, for it is
/// no error of the picture that is judged.
double squared_error(const RenderedImage& image, const RenderedImage& reference);

/// `squared-error`: the error of each render against the reference, with what each layer and part
/// has of it and how much of it lies in the worst pixels. JSON to stdout. Returns an exit status.
int squared_errors(const std::string& reference, const std::vector<std::string>& renders);

}  // namespace jovilux
