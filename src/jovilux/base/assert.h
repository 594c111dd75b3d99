#pragma once

#include <stdexcept>
#include <string>

namespace jovilux {

/// Thrown when an invariant of our own code is broken: a bug, never the user's fault.
struct BrokenInvariant : std::logic_error {
  using std::logic_error::logic_error;
};

}  // namespace jovilux

/// States an invariant of our own code; throws BrokenInvariant where it does not hold. Not for
/// inner loops.
#define JOVILUX_ASSERT(condition)                                                                  \
  ((condition)                                                                                     \
       ? void()                                                                                    \
       : throw ::jovilux::BrokenInvariant(std::string(__FILE__) + ":" + std::to_string(__LINE__) + \
                                          ": broken: " #condition))

/// The same for inner loops: compiled in only for Debug builds.
#ifdef JOVILUX_CHECK_HOT
#define JOVILUX_HOT_ASSERT(condition) JOVILUX_ASSERT(condition)
#else
#define JOVILUX_HOT_ASSERT(condition) void()
#endif
