#pragma once

#include "jovilux/base/problem.h"

#include <string>
#include <utility>

namespace jovilux {

/// What checks of a rig that reads without errors find, in the order of finding: the base of the
/// classes that look.
class CheckWarnings {
 protected:
  /// `code`: for programs; `hint`: what to do about it.
  void warn(std::string code,
            const Place& place,
            std::string address,
            std::string text,
            std::string hint) {
    problems_.push_back({Severity::kWarning,
                         std::move(code),
                         place,
                         std::move(address),
                         std::move(text),
                         std::move(hint)});
  }

  Problems problems_;
};

}  // namespace jovilux
