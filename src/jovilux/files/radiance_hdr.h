#pragma once

#include "jovilux/files/image.h"

#include <string>

namespace jovilux {

/// A Radiance HDR (RGBE) of its bytes, divided by its EXPOSURE. `path` is for messages. Any bytes
/// at all give a picture or problems.
Result<LinearImage> read_radiance_hdr(const std::string& bytes, const std::string& path);

}  // namespace jovilux
