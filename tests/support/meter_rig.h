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

/// Renders of a rig that are compared with a formula. Each is a process and takes longer than its
/// few samples, so that more samples in fewer renders tell the same error in less time.
inline constexpr int kRendersCompared = 12;
/// Standard errors of their mean that chance exceeds once in a million (Student's t, 11 degrees of
/// freedom).
inline constexpr double kRendersBound = 9.5;

/// Mean luminances over independent scramblings.
RunningMoments luminance(const std::string& text, int seeds = kRendersCompared);

/// The z-test of a render, with what single precision and the narrow view may add; a relative
/// `bias` must be caught.
void check_luminance(const std::string& text,
                     double exact,
                     double bias = 0.02,
                     int seeds = kRendersCompared);

}  // namespace jovilux::test
