#pragma once

#include <filesystem>
#include <string>
#include <vector>

#include <nlohmann/json.hpp>

namespace jovilux::test {

/// A folder of its own that vanishes with the test.
class TemporaryFolder {
 public:
  TemporaryFolder();
  ~TemporaryFolder();
  std::string path(const std::string& name = "") const { return (dir_ / name).string(); }
  /// Writes a file and returns its path.
  std::string write(const std::string& name, const std::string& text) const;
  std::string read(const std::string& name) const;
  /// Names of all files below it, sorted.
  std::vector<std::string> files() const;

 private:
  std::filesystem::path dir_;
};

/// What the built program did.
struct ProgramRun {
  int status = -1;  ///< exit status; -1 when a signal ended it
  std::string out, err;
  nlohmann::json json() const { return nlohmann::json::parse(out); }
};

/// Runs the built program with these words, without a shell. `file_limit` bytes, if above 0, is the
/// largest file it may write; `interrupt_after_ms`, if above 0, sends SIGINT after that time.
ProgramRun run_program(const std::vector<std::string>& words,
                       long file_limit = 0,
                       int interrupt_after_ms = 0);
/// Runs another program of the build by its path.
ProgramRun run_other(const std::string& program,
                     const std::vector<std::string>& words,
                     long file_limit = 0,
                     int interrupt_after_ms = 0);

}  // namespace jovilux::test
