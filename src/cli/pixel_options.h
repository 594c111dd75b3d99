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

/// "X,Y" of a pixel, "X,Y,W,H" of a box.
std::string name_of(const PixelBox& box);
/// What is wrong with the first box that is not inside a picture of this size; empty where all are.
std::string outside_picture(const std::vector<PixelBox>& boxes, int width, int height);

}  // namespace jovilux::cli
