#pragma once

#include "jovilux/files/usd_lights.h"

#include <functional>
#include <string>

namespace jovilux::cli {

/// A rig's text with the lights of a stage, a floor below them and a camera that sees it. `source`:
/// the stage's name, for people; `named`: a file of the stage as the rig is to name it.
std::string rig_from_usd(const UsdStage& stage,
                         const std::string& source,
                         const std::function<std::string(const std::string&)>& named);

}  // namespace jovilux::cli
