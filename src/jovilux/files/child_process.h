#pragma once

#include <memory>
#include <string>
#include <vector>

namespace jovilux {

/// Another program that runs beside this one, without a shell; its standard input is empty. One
/// that still runs is killed when this ends.
class ChildProcess {
 public:
  /// `program`: a path, or a name that is looked for in PATH. Throws MachineTrouble where it cannot
  /// be run.
  ChildProcess(const std::string& program, const std::vector<std::string>& words);
  ~ChildProcess();
  ChildProcess(const ChildProcess&) = delete;
  ChildProcess& operator=(const ChildProcess&) = delete;

  /// What it prints, as a file descriptor; -1 once it is closed.
  int output() const;
  /// Ends a program that has more to say.
  void close_output();
  /// Waits for its end; `said`: up to 1000 bytes of its errors. The exit status, or -1 where a
  /// signal ended it.
  int wait(std::string& said);

 private:
  struct Inside;
  std::unique_ptr<Inside> inside_;
};

/// Whether a program of this name is found in PATH.
bool is_in_path(const std::string& program);

}  // namespace jovilux
