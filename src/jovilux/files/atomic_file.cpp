#include "jovilux/files/atomic_file.h"

#include <cerrno>
#include <chrono>
#include <cstring>
#include <filesystem>
#include <random>
#include <vector>

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/file.h>
#include <unistd.h>

namespace jovilux {
namespace {

constexpr std::string_view kEnding = ".tmp";
constexpr std::size_t kDigits = 16;

std::uint64_t random_number() {
  std::random_device device;
  return std::uint64_t{device()} << 32 | device();
}

// Whether nobody writes a temporary file any more: it is unlocked, and a second
// old: a new one may not be locked yet.
bool is_abandoned(const std::filesystem::path& file) {
  std::error_code ec;
  const auto changed = std::filesystem::last_write_time(file, ec);
  if (ec || std::filesystem::file_time_type::clock::now() - changed < std::chrono::seconds(1)) {
    return false;
  }
  const int descriptor = ::open(file.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW);
  if (descriptor < 0) {
    return false;
  }
  const bool unlocked = ::flock(descriptor, LOCK_EX | LOCK_NB) == 0;
  ::close(descriptor);
  return unlocked;
}

}  // namespace

// Exclusive creation (mode "x"): a file that another writer has made is never opened.
AtomicFile::AtomicFile(std::string path) : path_(std::move(path)) {
  // Names by chance, opened exclusively: processes of several machines, whose numbers may be equal,
  // write into one folder.
  constexpr int kTries = 8;
  for (int i = 0; i < kTries && file_ == nullptr; ++i) {
    temporary_ = fmt::format("{}.{:016x}{}", path_, random_number(), kEnding);
    file_ = std::fopen(temporary_.c_str(), "wbx");
    if (file_ == nullptr && errno != EEXIST) {
      break;
    }
  }
  if (file_ == nullptr) {
    temporary_.clear();
    fail();
  }
  // Held until the file is closed: what is locked is being written.
  ::flock(::fileno(file_), LOCK_EX | LOCK_NB);
}

AtomicFile::~AtomicFile() {
  if (file_ != nullptr) {
    std::fclose(file_);
  }
  if (!temporary_.empty()) {
    std::remove(temporary_.c_str());
  }
}

void AtomicFile::fail() const {
  throw MachineTrouble(fmt::format("writing {}: {}", path_, std::strerror(errno)));
}

void AtomicFile::write(const void* data, std::size_t size) {
  if (size > 0 && std::fwrite(data, 1, size, file_) != size) {
    fail();
  }
}

std::uint64_t AtomicFile::position() const { return static_cast<std::uint64_t>(::ftello(file_)); }

void AtomicFile::seek(std::uint64_t position) {
  if (::fseeko(file_, static_cast<off_t>(position), SEEK_SET) != 0) {
    fail();
  }
}

// The order matters: data on disk, closed, and only then under its final name, so that a reader
// sees the old file or the whole new one.
void AtomicFile::commit() {
  // A file system may report a full disk only when the data leaves the cache.
  const bool written = std::fflush(file_) == 0 && ::fsync(::fileno(file_)) == 0;
  const int reason = errno;
  const bool closed = std::fclose(file_) == 0;
  file_ = nullptr;
  if (!written || !closed) {
    errno = written ? errno : reason;
    fail();
  }
  // POSIX replaces an existing file in one step.
  if (std::rename(temporary_.c_str(), path_.c_str()) != 0) {
    fail();
  }
  temporary_.clear();
}

// Only names of our own form are touched: a user's file that begins alike stays.
void remove_leftovers(const std::string& path) {
  namespace fs = std::filesystem;
  const fs::path file(path);
  const std::string begin = file.filename().string() + ".";
  std::error_code ec;
  std::vector<fs::path> left;
  for (const auto& entry :
       fs::directory_iterator(file.parent_path().empty() ? "." : file.parent_path(), ec)) {
    const std::string name = entry.path().filename().string();
    if (name.size() == begin.size() + kDigits + kEnding.size() && name.starts_with(begin) &&
        name.ends_with(kEnding) && is_abandoned(entry.path())) {
      left.push_back(entry.path());
    }
  }
  for (const fs::path& l : left) {
    fs::remove(l, ec);
  }
}

void write_text_file(const std::string& path, std::string_view text) {
  AtomicFile file(path);
  file.write(text);
  file.commit();
}

}  // namespace jovilux
