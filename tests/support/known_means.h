#pragma once

#include "jovilux/base/statistics.h"

#include <functional>
#include <string>

namespace jovilux::test {

/// A mean that many pictures have given, with its standard error.
struct KnownMean {
  double value = 0, error = 0;
  double noise = 0;  ///< mean of the pictures' median noise; 0: not asked for

  double mean() const { return value; }
  double standard_error() const { return error; }

  static KnownMean of(const RunningMoments& m, double noise = 0) {
    return {m.mean(), m.standard_error(), noise};
  }
};

/// What plain camera paths give of a scene: the reference that faster ways to find the same light
/// are compared with. To render it takes most of such a test's time and its result hardly ever
/// changes, so tests/truths/plain_means.json keeps the results of long runs.
///
/// `name` is unique; `text` is all that the result depends on (the rig's text, and settings that
/// a test changes after reading it): its hash is kept, so that a test whose scene was changed fails
/// instead of comparing with the mean of another scene.
/// With JOVILUX_MEASURE_MEANS=FILE in the environment, `measure(factor)` runs, with `factor` times
/// the pictures that a test would take, and its result is written to that copy of the file.
KnownMean known_mean(const std::string& name,
                     const std::string& text,
                     const std::function<KnownMean(int factor)>& measure);

}  // namespace jovilux::test
