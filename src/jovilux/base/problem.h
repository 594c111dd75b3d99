#pragma once

#include "jovilux/base/assert.h"

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace jovilux {

/// A place in the user's text. Line and column count from 1, columns in bytes; 0 is unknown.
struct Place {
  std::string file;
  std::uint32_t line = 0;
  std::uint32_t column = 0;
};

/// "file:line:column", leaving out what is unknown.
std::string to_string(const Place& place);

enum class Severity { kWarning, kError };

/// Something the user can mend. Returned, never thrown.
struct Problem {
  Severity severity = Severity::kError;
  std::string code;  ///< stable name for scripts, such as "unknown-key"
  Place place;
  std::string address;  ///< in the rig: "light.bench-pendant.output"; empty for other files
  std::string text;     ///< what was being read: what was found; what was expected, with its unit
  std::string hint;     ///< what to do, such as the nearest valid name; may be empty
};

using Problems = std::vector<Problem>;

/// A list of this problem alone.
Problems one_problem(Problem problem);

/// True where at least one of the problems is an error.
bool has_errors(const Problems& problems);

/// "file:line:column: error: address: text; hint", one line.
std::string to_string(const Problem& p);

/// A value, or the problems that prevented it. With a value, problems() holds warnings only.
template <class T>
class [[nodiscard]] Result {
 public:
  // NOLINTNEXTLINE(google-explicit-constructor): returned as a value.
  Result(T value, Problems warnings = {})
      : value_(std::move(value)), problems_(std::move(warnings)) {}
  Result(Problems problems)  // NOLINT(google-explicit-constructor): returned as a failure
      : problems_(std::move(problems)) {
    JOVILUX_ASSERT(has_errors(problems_));
  }
  Result(Problem problem)  // NOLINT(google-explicit-constructor)
      : Result(one_problem(std::move(problem))) {}

  explicit operator bool() const { return value_.has_value(); }
  T& operator*() { return value(); }
  const T& operator*() const { return value(); }
  T* operator->() { return &value(); }
  const T* operator->() const { return &value(); }
  const Problems& problems() const { return problems_; }

  /// The value; asking a failure for it is a bug.
  T& value() {
    JOVILUX_ASSERT(value_.has_value());
    return *value_;
  }
  const T& value() const {
    JOVILUX_ASSERT(value_.has_value());
    return *value_;
  }

 private:
  std::optional<T> value_;
  Problems problems_;
};

}  // namespace jovilux

// Compiled once, in problem.cpp: nearly every source returns problems.
extern template class std::vector<jovilux::Problem>;
