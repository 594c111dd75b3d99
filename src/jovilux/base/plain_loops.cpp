// What parallel.h declares, on threads of the standard library: for the thread sanitizer, which
// does not see what a task library that was built without it hands from thread to thread.
#include "jovilux/base/parallel.h"

#include <algorithm>
#include <atomic>
#include <exception>
#include <mutex>
#include <thread>
#include <vector>

namespace jovilux {
namespace {

int hardware_threads() {
  return std::max(1, static_cast<int>(std::thread::hardware_concurrency()));
}

// Of the surrounding with_threads; a loop within a loop has its thread for itself.
thread_local int threads_here = hardware_threads();

// Another number of threads while it lives.
class ThreadsHere {
 public:
  explicit ThreadsHere(int threads) : before_(threads_here) { threads_here = threads; }
  ~ThreadsHere() { threads_here = before_; }
  ThreadsHere(const ThreadsHere&) = delete;
  ThreadsHere& operator=(const ThreadsHere&) = delete;

 private:
  int before_;
};

// A loop that several threads run: each takes the next of what is left.
class SharedLoop {
 public:
  SharedLoop(std::size_t count, const std::function<void(std::size_t)>& body)
      : count_(count), body_(body) {}

  void take_turns() {
    const ThreadsHere alone(1);
    for (std::size_t i = next_++; i < count_; i = next_++) {
      try {
        body_(i);
      } catch (...) {
        const std::lock_guard lock(mutex_);
        if (!error_) {
          error_ = std::current_exception();
        }
        next_ = count_;
      }
    }
  }
  void throw_error() const {
    if (error_) {
      std::rethrow_exception(error_);
    }
  }

 private:
  std::size_t count_;
  const std::function<void(std::size_t)>& body_;
  std::atomic<std::size_t> next_{0};
  std::mutex mutex_;
  std::exception_ptr error_;
};

}  // namespace

void with_threads(int threads, const std::function<void()>& work) {
  const ThreadsHere here(threads > 0 ? threads : threads_here);
  work();
}

int available_threads() { return threads_here; }

void parallel_for(std::size_t count, const std::function<void(std::size_t)>& body) {
  SharedLoop loop(count, body);
  std::vector<std::jthread> others(
      std::min(count, static_cast<std::size_t>(std::max(1, threads_here))) - (count > 0 ? 1 : 0));
  for (std::jthread& other : others) {
    other = std::jthread([&loop] { loop.take_turns(); });
  }
  loop.take_turns();
  others.clear();  // waits for them
  loop.throw_error();
}

}  // namespace jovilux
