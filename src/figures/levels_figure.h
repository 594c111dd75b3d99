#pragma once

#include "jovilux/judge/animation.h"

#include <string>
#include <vector>

namespace jovilux::figures {

/// A meter's reading at each frame.
struct MeterOverTime {
  std::string name, unit;
  std::vector<double> times, values;
};

/// The level of each light that changes, finely and as dots what each frame holds, with its percent
/// flicker and flicker index;
/// below, meters' readings. `moments` are the frames' [s]. Writes a PNG of 1280 x 800.
void levels_figure(const std::string& path,
                   const std::vector<LevelCurve>& curves,
                   const std::vector<double>& moments,
                   const std::vector<MeterOverTime>& meters);

}  // namespace jovilux::figures
