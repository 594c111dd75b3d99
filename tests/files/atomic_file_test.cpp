// Files that are whole or not there.
#include "jovilux/files/atomic_file.h"

#include <chrono>
#include <csignal>
#include <filesystem>
#include <fstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fcntl.h>
#include <sys/file.h>
#include <sys/resource.h>
#include <unistd.h>

using namespace jovilux;
using namespace jovilux::test;
namespace fs = std::filesystem;

namespace {

// Makes a file look as if it had been written a minute ago.
void make_old(const std::string& file) {
  fs::last_write_time(file, fs::file_time_type::clock::now() - std::chrono::minutes(1));
}

// While it lives, files of this process may not grow over so many bytes.
class FileLimit {
 public:
  explicit FileLimit(rlim_t bytes) {
    ::getrlimit(RLIMIT_FSIZE, &before_);
    const rlimit limit{bytes, before_.rlim_max};
    ::setrlimit(RLIMIT_FSIZE, &limit);
    handler_ = std::signal(SIGXFSZ, SIG_IGN);
  }
  ~FileLimit() {
    ::setrlimit(RLIMIT_FSIZE, &before_);
    std::signal(SIGXFSZ, handler_);
  }

 private:
  rlimit before_{};
  void (*handler_)(int) = SIG_DFL;
};

}  // namespace

TEST_CASE("a file has its final name when it is whole, and not before", "[files][atomic]") {
  const TemporaryFolder dir;
  const std::string path = dir.write("a.txt", "before");
  {
    AtomicFile file(path);
    CHECK(file.path() == path);
    file.write("some text");
    CHECK(file.position() == 9);
    file.seek(5);
    file.write("more");
    CHECK(dir.read("a.txt") == "before");
    CHECK(dir.files().size() == 2);
    file.commit();
  }
  CHECK(dir.read("a.txt") == "some more");
  CHECK(dir.files() == std::vector<std::string>{"a.txt"});
  // Without commit() nothing changes and nothing remains.
  {
    AtomicFile file(path);
    file.write("lost");
  }
  CHECK(dir.read("a.txt") == "some more");
  CHECK(dir.files() == std::vector<std::string>{"a.txt"});
  // Two at once do not meet: the last one that commits stays.
  AtomicFile one(path), two(path);
  one.write("one");
  two.write("two");
  two.commit();
  one.commit();
  CHECK(dir.read("a.txt") == "one");
  CHECK(dir.files() == std::vector<std::string>{"a.txt"});
  write_text_file(path, "");
  CHECK(dir.read("a.txt").empty());
}

TEST_CASE("a folder that is not there and a full disk are told, and the old file stays",
          "[files][atomic]") {
  const TemporaryFolder dir;
  CHECK_THROWS_AS(AtomicFile(dir.path("none/a.txt")), MachineTrouble);
  CHECK_THROWS_WITH(AtomicFile(dir.path("none/a.txt")),
                    Catch::Contains("none/a.txt") && Catch::Contains("No such file"));
  const std::string path = dir.write("a.txt", "before");
  {
    const FileLimit limit(1000);
    const std::string large(100'000, 'x');
    CHECK_THROWS_AS(write_text_file(path, large), MachineTrouble);
  }
  CHECK(dir.read("a.txt") == "before");
  CHECK(dir.files() == std::vector<std::string>{"a.txt"});
  write_text_file(path, "after");
  CHECK(dir.read("a.txt") == "after");
}

TEST_CASE("leftovers of killed processes go, but what is new, locked or of another file stays",
          "[files][atomic]") {
  const TemporaryFolder dir;
  const std::string path = dir.write("image.exr", "picture");
  const auto left = [&](const std::string& name, bool old) {
    const std::string file = dir.write(name, "half");
    if (old) {
      make_old(file);
    }
    return file;
  };
  left("image.exr.0123456789abcdef.tmp", true);
  const std::string fresh = left("image.exr.0000000000000001.tmp", false);
  const std::string locked = left("image.exr.0000000000000002.tmp", true);
  left("view.png.0123456789abcdef.tmp", true);    // of another file
  left("image.exr.0123456789abcdef.tmpx", true);  // none of ours
  left("image.exr.0123456789.tmp", true);         // digits are missing
  left("image.exrs.0123456789abcdef.tmp", true);  // a longer name
  const int descriptor = ::open(locked.c_str(), O_RDONLY);
  REQUIRE(descriptor >= 0);
  REQUIRE(::flock(descriptor, LOCK_EX) == 0);
  remove_leftovers(path);
  CHECK_FALSE(fs::exists(dir.path("image.exr.0123456789abcdef.tmp")));
  CHECK(fs::exists(fresh));
  CHECK(fs::exists(locked));
  CHECK(dir.files().size() == 7);
  CHECK(dir.read("image.exr") == "picture");
  // Unlocked it is nobody's any more.
  ::close(descriptor);
  remove_leftovers(path);
  CHECK_FALSE(fs::exists(locked));
  // One that is being written is locked from the start on.
  AtomicFile writing(path);
  writing.write("new");
  for (const std::string& name : dir.files()) {
    if (name.ends_with(".tmp") && name.starts_with("image.exr.")) {
      make_old(dir.path(name));
    }
  }
  make_old(fresh);
  remove_leftovers(path);
  CHECK_FALSE(fs::exists(fresh));
  writing.commit();
  CHECK(dir.read("image.exr") == "new");
  remove_leftovers(dir.path("none/image.exr"));  // a folder that is not there holds none
}

TEST_CASE("a symbolic link under a temporary name is not followed", "[files][atomic]") {
  const TemporaryFolder dir;
  const std::string precious = dir.write("precious.txt", "keep");
  make_old(precious);
  fs::create_symlink(precious, dir.path("a.txt.0123456789abcdef.tmp"));
  remove_leftovers(dir.path("a.txt"));
  CHECK(dir.read("precious.txt") == "keep");
  // A link under the final name is replaced, not written through.
  fs::create_symlink(precious, dir.path("a.txt"));
  write_text_file(dir.path("a.txt"), "new");
  CHECK(dir.read("precious.txt") == "keep");
  CHECK(dir.read("a.txt") == "new");
}
