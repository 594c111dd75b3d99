#pragma once

#include "jovilux/base/progress.h"

#include <atomic>
#include <chrono>
#include <mutex>
#include <string>

namespace jovilux::cli {

/// Shows progress on stderr: one live line on a terminal, a plain line every five seconds
/// elsewhere. Cheap to call from any thread.
class ProgressBar {
 public:
  explicit ProgressBar(bool quiet);
  ~ProgressBar();
  ProgressFn function();

  /// The text of a line, without control codes: share done, time left, samples, noise.
  static std::string line(const Progress& p, bool bar);

 private:
  void show(const Progress& p);

  bool quiet_, live_;
  bool shown_ = false;
  std::mutex mutex_;
  std::chrono::steady_clock::time_point next_;
};

/// Sets a handler so that Ctrl-C asks for a stop; a second one, not just the first come twice, ends
/// the program at once. stop_requested is what
/// RenderOptions::stop asks.
void catch_interrupts();
bool stop_requested();

}  // namespace jovilux::cli
