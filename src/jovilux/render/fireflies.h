#pragma once

#include <cmath>

namespace jovilux {

/// Visits pixels that a single sample has made bright: their luminance is at least `floor`, their
/// noise (the standard error over the larger of luminance and floor) at least one half, and more
/// than half of their up to eight neighbors have less than a third of their luminance.
/// Callbacks: luminance(x, y), noise(x, y), visit(x, y).
template <class Luminance, class Noise, class Visit>
void each_firefly(int width,
                  int height,
                  double floor,
                  const Luminance& luminance,
                  const Noise& noise,
                  const Visit& visit) {
  for (int y = 0; y < height; ++y) {
    for (int x = 0; x < width; ++x) {
      const double own = luminance(x, y), relative = noise(x, y);
      if (!(relative >= 0.5) || own < floor || !std::isfinite(relative)) {
        continue;
      }
      int neighbors = 0, much_darker = 0;
      for (int v = y - 1; v <= y + 1; ++v) {
        for (int u = x - 1; u <= x + 1; ++u) {
          if ((u != x || v != y) && u >= 0 && v >= 0 && u < width && v < height) {
            ++neighbors;
            much_darker += 3 * luminance(u, v) < own ? 1 : 0;
          }
        }
      }
      if (2 * much_darker > neighbors) {
        visit(x, y);
      }
    }
  }
}

}  // namespace jovilux
