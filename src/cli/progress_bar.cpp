#include "cli/progress_bar.h"

#include <atomic>
#include <csignal>
#include <cstdlib>
#include <ctime>
#include <string_view>

#include "cli/output.h"
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux::cli {
namespace {

// What the signal handler touches and all threads ask.
std::atomic<bool> interrupt_requested{false};
static_assert(std::atomic<bool>::is_always_lock_free);  // a handler may use it
timespec first_interrupt{};

void on_interrupt(int signal) {
  timespec now{};
  ::clock_gettime(CLOCK_MONOTONIC, &now);  // may be called in a handler
  if (!interrupt_requested.exchange(true)) {
    first_interrupt = now;
    return;
  }
  // A second Ctrl-C does not ask. The same one may come twice: to the process, and to its group.
  const double since = static_cast<double>(now.tv_sec - first_interrupt.tv_sec) +
                       1e-9 * static_cast<double>(now.tv_nsec - first_interrupt.tv_nsec);
  constexpr double kTwice = 0.3;
  if (since > kTwice) {
    std::signal(signal, SIG_DFL);
    std::raise(signal);
  }
}

std::string shown_time(double s) {
  return s < 90     ? fmt::format("{:.0f} s", s)
         : s < 5400 ? fmt::format("{:.0f} min", s / 60)
                    : fmt::format("{:.1f} h", s / 3600);
}

}  // namespace

// A first signal asks the render to save what is finished; a second one ends the process.
void catch_interrupts() {
  std::signal(SIGINT, on_interrupt);
  std::signal(SIGTERM, on_interrupt);
  std::signal(SIGHUP, on_interrupt);   // the terminal is gone; what is finished is not
  std::signal(SIGXCPU, on_interrupt);  // the processor time that was granted is used up
}

bool stop_requested() { return interrupt_requested; }

ProgressBar::ProgressBar(bool quiet) : quiet_(quiet) {
  const char* term = std::getenv("TERM");
  // A bar for people; logs and CI get a line now and then.
  live_ = ::isatty(STDERR_FILENO) != 0 && std::getenv("CI") == nullptr && term != nullptr &&
          std::string_view(term) != "dumb";
  next_ = std::chrono::steady_clock::now() +
          (live_ ? std::chrono::milliseconds(200) : std::chrono::seconds(5));
}

ProgressBar::~ProgressBar() {
  if (shown_ && live_) {
    print_progress("\r\x1b[K");
  }
}

ProgressFn ProgressBar::function() {
  if (quiet_) {
    return {};
  }
  return [this](const Progress& p) { show(p); };
}

std::string ProgressBar::line(const Progress& p, bool bar) {
  std::string text;
  if (bar) {
    constexpr int kWidth = 28;
    const int full = static_cast<int>(p.done * kWidth);
    text += "[" + std::string(static_cast<std::size_t>(full), '=') +
            std::string(static_cast<std::size_t>(kWidth - full), ' ') + "] ";
  }
  text += fmt::format("{:3.0f} %", 100 * p.done);
  if (p.done > 0.01) {
    text += fmt::format("  {} left", shown_time(p.seconds * (1 - p.done) / p.done));
  }
  if (p.samples > 0) {  // of each pixel; meters have none
    text += fmt::format("  {:.0f} samples", p.samples);
  }
  if (p.noise >= 0) {
    text += fmt::format("  noise {:.1f} %", 100 * p.noise);
  }
  return text;
}

void ProgressBar::show(const Progress& p) {
  // Never make a worker wait for the terminal.
  const std::unique_lock lock(mutex_, std::try_to_lock);
  const auto now = std::chrono::steady_clock::now();
  if (!lock || now < next_) {
    return;
  }
  next_ = now + (live_ ? std::chrono::milliseconds(200) : std::chrono::seconds(5));
  shown_ = true;
  print_progress(live_ ? "\r" + line(p, true) + "\x1b[K" : line(p, false) + "\n");
}

}  // namespace jovilux::cli
