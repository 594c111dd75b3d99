#include "cli/terminal_picture.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux::cli {

std::string terminal_text(const std::vector<std::uint8_t>& rgb, int width, int height) {
  std::string out;
  for (int y = 0; y < height; y += 2) {
    for (int x = 0; x < width; ++x) {
      const auto at = [&](int row) {
        return rgb.data() + 3 * (static_cast<std::size_t>(std::min(row, height - 1)) *
                                     static_cast<std::size_t>(width) +
                                 static_cast<std::size_t>(x));
      };
      const std::uint8_t *top = at(y), *low = at(y + 1);
      out += fmt::format("\x1b[38;2;{};{};{}m\x1b[48;2;{};{};{}m\u2580",
                         top[0],
                         top[1],
                         top[2],
                         low[0],
                         low[1],
                         low[2]);
    }
    out += "\x1b[0m\n";
  }
  return out;
}

std::string terminal_picture(const RenderedImage& image, int width) {
  const View view = image.shown();
  constexpr int kTall = 100'000;
  const RenderedImage small = shrunk(image, width, kTall);
  std::vector<std::uint8_t> rgb;
  for (std::size_t i = 0; i < small.pixels(); ++i) {
    const auto v = view.srgb8(small.color(i));
    rgb.insert(rgb.end(), v.begin(), v.end());
  }
  return terminal_text(rgb, small.width, small.height);
}

}  // namespace jovilux::cli
