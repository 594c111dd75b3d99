#include "tests/support/program.h"

#include <algorithm>
#include <csignal>
#include <cstdlib>
#include <fstream>
#include <sstream>
#include <stdexcept>

#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

namespace jovilux::test {

namespace fs = std::filesystem;

TemporaryFolder::TemporaryFolder() {
  std::string pattern = (fs::temp_directory_path() / "jovilux-test-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) {
    throw std::runtime_error("no temporary folder");
  }
  dir_ = pattern;
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code ec;
  fs::remove_all(dir_, ec);
}

std::string TemporaryFolder::write(const std::string& name, const std::string& text) const {
  const fs::path file = dir_ / name;
  fs::create_directories(file.parent_path());
  std::ofstream(file, std::ios::binary) << text;
  return file.string();
}

std::string TemporaryFolder::read(const std::string& name) const {
  std::ifstream in(dir_ / name, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

std::vector<std::string> TemporaryFolder::files() const {
  std::vector<std::string> names;
  for (const auto& entry : fs::recursive_directory_iterator(dir_)) {
    if (entry.is_regular_file()) {
      names.push_back(fs::relative(entry.path(), dir_).string());
    }
  }
  std::sort(names.begin(), names.end());
  return names;
}

ProgramRun run_program(const std::vector<std::string>& words,
                       long file_limit,
                       int interrupt_after_ms) {
  return run_other(JOVILUX_PROGRAM, words, file_limit, interrupt_after_ms);
}

ProgramRun run_other(const std::string& program,
                     const std::vector<std::string>& words,
                     long file_limit,
                     int interrupt_after_ms) {
  const TemporaryFolder io;
  const std::string out = io.path("out"), err = io.path("err");
  std::fflush(nullptr);  // or the child writes the parent's buffers once more
  const pid_t child = ::fork();
  if (child == 0) {
    std::vector<std::string> copy = words;
    std::vector<char*> argv = {const_cast<char*>(program.c_str())};
    for (std::string& w : copy) {
      argv.push_back(w.data());
    }
    argv.push_back(nullptr);
    if (std::freopen(out.c_str(), "wb", stdout) == nullptr ||
        std::freopen(err.c_str(), "wb", stderr) == nullptr ||
        std::freopen("/dev/null", "rb", stdin) == nullptr) {
      ::_exit(126);
    }
    if (file_limit > 0) {
      const rlimit limit{static_cast<rlim_t>(file_limit), static_cast<rlim_t>(file_limit)};
      ::setrlimit(RLIMIT_FSIZE, &limit);
    }
    ::execv(program.c_str(), argv.data());
    ::_exit(127);
  }
  if (interrupt_after_ms > 0) {
    ::usleep(static_cast<useconds_t>(interrupt_after_ms) * 1000);
    ::kill(child, SIGINT);
  }
  int state = 0;
  ::waitpid(child, &state, 0);
  ProgramRun run;
  run.status = WIFEXITED(state) ? WEXITSTATUS(state) : -1;
  run.out = io.read("out");
  run.err = io.read("err");
  return run;
}

}  // namespace jovilux::test
