#pragma once

#include "jovilux/judge/light_ways.h"

#include <string>

namespace jovilux::figures {

/// The strongest ways of light over the picture and in plan, with their shares, and what keeps
/// lights away. `picture`: the view's PNG; empty: an elevation instead. Writes a PNG of 1280 x 800.
void ways_figure(const std::string& path,
                 const WayReport& report,
                 const Rig& rig,
                 const Scene& scene,
                 int camera,
                 const std::string& picture);

/// "pendant → through shade → bench": a way in words.
std::string way_in_words(const LightWay& way);
/// "12.3 %"; of less than a twentieth of one "< 0.05 %".
std::string percent_text(double share);
/// "blocked by shelf at (0.1, 0.2, 1.4)": why a light does not arrive, or that it does.
std::string arrival_in_words(const LightArrival& arrival);

}  // namespace jovilux::figures
