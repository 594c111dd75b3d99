#include "jovilux/files/child_process.h"

#include "jovilux/files/atomic_file.h"

#include <array>
#include <cerrno>
#include <cstdlib>
#include <sstream>

#include <boost/process/args.hpp>
#include <boost/process/child.hpp>
#include <boost/process/io.hpp>
#include <boost/process/pipe.hpp>
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux {
namespace {

namespace bp = boost::process;

// The file of a name without a slash that PATH leads to; empty where there is none. (The library's
// own search would need one more package to link.)
std::string found_in_path(const std::string& program) {
  const char* path = std::getenv("PATH");
  std::istringstream folders(path != nullptr ? path : "");
  for (std::string folder; std::getline(folders, folder, ':');) {
    std::string file = (folder.empty() ? "." : folder) + "/" + program;
    if (::access(file.c_str(), X_OK) == 0) {
      return file;
    }
  }
  return "";
}

}  // namespace

struct ChildProcess::Inside {
  bp::pipe out, err;
  bp::child child;
};

ChildProcess::ChildProcess(const std::string& program, const std::vector<std::string>& words)
    : inside_(std::make_unique<Inside>()) {
  const std::string path =
      program.find('/') == std::string::npos ? found_in_path(program) : program;
  if (path.empty()) {
    throw MachineTrouble(program + " is not installed");
  }
  try {
    inside_->child = bp::child(path,
                               bp::args = words,
                               bp::std_in<bp::null, bp::std_out> inside_->out,
                               bp::std_err > inside_->err);
  } catch (const bp::process_error& e) {
    throw MachineTrouble(fmt::format("{} cannot be run: {}", program, e.code().message()));
  }
}

// A child that nobody waits for would outlive a failed read of its output.
ChildProcess::~ChildProcess() {
  std::error_code ec;
  if (inside_->child.running(ec)) {
    inside_->child.terminate(ec);
  }
}

int ChildProcess::output() const { return inside_->out.native_source(); }

void ChildProcess::close_output() { inside_->out.close(); }

// What is said is bounded; a program that writes more is stopped by its closed pipe.
int ChildProcess::wait(std::string& said) {
  constexpr std::size_t kMostSaid = 1000;
  std::array<char, 256> text{};
  while (said.size() < kMostSaid) {
    const ssize_t n = ::read(inside_->err.native_source(), text.data(), text.size());
    if (n < 0 && errno == EINTR) {
      continue;
    }
    if (n <= 0) {
      break;
    }
    said.append(text.data(), static_cast<std::size_t>(n));
  }
  inside_->err.close();
  std::error_code ec;
  inside_->child.wait(ec);
  const int status = inside_->child.native_exit_code();
  return WIFEXITED(status) ? WEXITSTATUS(status) : -1;
}

bool is_in_path(const std::string& program) { return !found_in_path(program).empty(); }

}  // namespace jovilux
