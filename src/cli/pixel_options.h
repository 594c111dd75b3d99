#pragma once

#include "jovilux/judge/readings.h"

#include <string>
#include <vector>

#include "cli/arguments.h"

namespace jovilux::cli {

/// Whole numbers between commas; throws UsageError, which shows `form`, where there are not `count`
/// of them.
std::vector<int> numbers_of(const std::string& option,
                            const std::string& text,
                            std::size_t count,
                            const std::string& form);

/// The pixels and boxes of --at and --box.
std::vector<PixelBox> pixel_boxes(const Arguments& arguments);

}  // namespace jovilux::cli
