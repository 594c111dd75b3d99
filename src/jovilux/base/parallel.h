#pragma once

#include <cstddef>
#include <functional>

namespace jovilux {

/// Runs `work` with at most `threads` threads (0: all of the machine's) and waits for it.
void with_threads(int threads, const std::function<void()>& work);

/// The number of threads that parallel loops would use here.
int available_threads();

/// Calls body(i) for i in [0, count), in any order, on the threads of the surrounding with_threads.
/// The first exception stops the loop and is thrown here.
void parallel_for(std::size_t count, const std::function<void(std::size_t)>& body);

}  // namespace jovilux
