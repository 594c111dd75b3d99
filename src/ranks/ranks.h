#pragma once

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// The processes that mpirun has started to work on one task, numbered from 0. Without mpirun, or
/// in a program built without Open MPI, there is one.
class Ranks {
 public:
  /// Joins them at first; leaves them when the program ends by main's return.
  static const Ranks& of_this_run();

  int index() const { return index_; }
  int count() const { return count_; }
  bool alone() const { return count_ == 1; }
  bool first() const { return index_ == 0; }

  /// Gives `mine` to all and returns what all gave, by number. Waits for them; nothing where `stop`
  /// is true before they have come. All must call it equally often.
  std::optional<std::vector<std::string>> exchange(const std::string& mine,
                                                   const std::function<bool()>& stop) const;

  /// Ends this process's part: call with main's status before it returns. After an interruption,
  /// when others may be lost, the process ends here; after bad input or a failure of the machine
  /// the others are told to stop.
  void leave(int status) const;

 private:
  Ranks();
  int index_ = 0, count_ = 1;
};

}  // namespace jovilux
