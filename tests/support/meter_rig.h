#pragma once

#include "jovilux/base/statistics.h"
#include "jovilux/base/vec.h"

#include <string>

#include "tests/support/program.h"
#include "tests/support/statistics.h"

namespace jovilux::test {

/// A rig whose camera sees little more than one point of a plane of albedo 0.5 at z = 0; `more` is
/// appended.
std::string looking_at(const Vec3d& from, const Vec3d& at, const std::string& more);

/// Luminance of that plane per lux: 0.5 / pi.
inline constexpr double kPlaneFactor = 0.5 / kPiD;

/// A [[light]] named "l".
std::string light(const std::string& text);

/// The first reading of a rig rendered with a seed, through the built program.
nlohmann::json reading(const TemporaryFolder& dir, const std::string& rig, int seed);

/// Mean luminances over independent scramblings.
RunningMoments luminance(const std::string& text, int seeds = kScramblingsTested);

/// The z-test of a render, with what single precision and the narrow view may add; a relative
/// `bias` must be caught.
void check_luminance(const std::string& text,
                     double exact,
                     double bias = 0.02,
                     int seeds = kScramblingsTested);

}  // namespace jovilux::test
