#include "jovilux/base/parallel.h"

#include <optional>

#include <tbb/blocked_range.h>
#include <tbb/global_control.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

namespace jovilux {

// Two limits: the arena bounds what runs at once, the global control how many threads are started.
void with_threads(int threads, const std::function<void()>& work) {
  if (threads <= 0) {
    work();
    return;
  }
  const tbb::global_control cap(tbb::global_control::max_allowed_parallelism,
                                static_cast<std::size_t>(threads));
  tbb::task_arena arena(threads);
  arena.execute([&] { work(); });
}

int available_threads() {
  const auto cap = tbb::global_control::active_value(tbb::global_control::max_allowed_parallelism);
  return std::min(static_cast<int>(cap), tbb::this_task_arena::max_concurrency());
}

// One index a task: bodies differ in cost by far more than a task's overhead.
void parallel_for(std::size_t count, const std::function<void(std::size_t)>& body) {
  tbb::parallel_for(
      tbb::blocked_range<std::size_t>(0, count, 1),
      [&](const tbb::blocked_range<std::size_t>& range) {
        for (std::size_t i = range.begin(); i != range.end(); ++i) {
          body(i);
        }
      },
      tbb::simple_partitioner());
}

}  // namespace jovilux
