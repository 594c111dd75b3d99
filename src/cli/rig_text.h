#pragma once

#include "jovilux/base/vec.h"

#include <string>
#include <vector>

namespace jovilux::cli {

/// A text as it stands between the quotes of TOML.
std::string in_quotes(const std::string& text);

/// A name for the rig: what is not a letter, digit, - or _ becomes -; unique among those given,
/// which it joins. `otherwise` where nothing is left.
std::string plain_name(const std::string& wanted,
                       const std::string& otherwise,
                       std::vector<std::string>& given);

/// "[x, y, z]".
std::string triple(const Vec3d& p);

}  // namespace jovilux::cli
