#pragma once

#include <functional>

namespace jovilux {

/// How far long work has come, told to whoever watches.
struct Progress {
  double done = 0;     ///< 0..1
  double seconds = 0;  ///< since the start
  double noise = -1;   ///< p95 noise so far; negative: not known
  double samples = 0;  ///< samples per pixel so far, where that applies
};

/// Called from any thread, not too often; must return quickly.
using ProgressFn = std::function<void(const Progress&)>;
/// Asked between pieces of work; true stops the work, which keeps what is finished.
using StopFn = std::function<bool()>;

}  // namespace jovilux
