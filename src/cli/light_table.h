#pragma once

#include "jovilux/judge/light_report.h"

#include <string>
#include <vector>

namespace jovilux::cli {

/// Reports with one of each array's copies, its first, named "bulbs[0..11]".
std::vector<LightReport> one_of_each(const std::vector<LightReport>& reports);

/// The lights in real units, a row each below a row of headings; copies of an array in one row.
std::vector<std::vector<std::string>> light_table(const std::vector<LightReport>& reports);

/// What gels and gobos take, a sentence each.
std::vector<std::string> losses(const std::vector<LightReport>& reports);

/// Each departure from physics with its size: "lamp.cheat.visible = false: ..."; of lights, then of
/// objects, an array as one.
std::vector<std::string> departures(const Rig& rig, const std::vector<LightReport>& reports);

/// That light of lamps without size is not in `what`, and the cure; empty without such lamps.
/// `how`: what mirrors and glass do to that light.
std::string lost_in_mirrors(const std::vector<std::string>& names,
                            const std::string& what,
                            const std::string& how);

}  // namespace jovilux::cli
