#include "cli/pixel_options.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <charconv>

#include <fmt/format.h>

namespace jovilux::cli {

std::vector<int> numbers_of(const std::string& option,
                            const std::string& text,
                            std::size_t count,
                            const std::string& form) {
  std::vector<int> out;
  std::size_t begin = 0;
  while (begin <= text.size()) {
    const std::size_t end = std::min(text.find(',', begin), text.size());
    const std::string_view word = trimmed(std::string_view(text).substr(begin, end - begin));
    int value = 0;
    const auto [stop, error] = std::from_chars(word.data(), word.data() + word.size(), value);
    if (word.empty() || error != std::errc() || stop != word.data() + word.size()) {
      break;
    }
    out.push_back(value);
    begin = end + 1;
  }
  if (out.size() != count || begin <= text.size()) {
    throw UsageError(fmt::format(
        "{}: found \"{}\"; expected {} in whole pixels", option, printable(text), form));
  }
  return out;
}

std::vector<PixelBox> pixel_boxes(const Arguments& arguments) {
  std::vector<PixelBox> out;
  for (const std::string& at : arguments.texts("at")) {
    const auto n = numbers_of("--at", at, 2, "X,Y");
    out.push_back({n[0], n[1], 1, 1});
  }
  for (const std::string& box : arguments.texts("box")) {
    const auto n = numbers_of("--box", box, 4, "X,Y,W,H");
    out.push_back({n[0], n[1], n[2], n[3]});
  }
  return out;
}

std::string name_of(const PixelBox& box) {
  return box.width == 1 && box.height == 1
             ? fmt::format("{},{}", box.x, box.y)
             : fmt::format("{},{},{},{}", box.x, box.y, box.width, box.height);
}

std::string outside_picture(const std::vector<PixelBox>& boxes, int width, int height) {
  for (const PixelBox& b : boxes) {
    if (b.x < 0 || b.y < 0 || b.width < 1 || b.height < 1 || b.x > width - b.width ||
        b.y > height - b.height) {
      return fmt::format(
          "{} is not inside the picture of {} x {} pixels", name_of(b), width, height);
    }
  }
  return "";
}

}  // namespace jovilux::cli
