#include "jovilux/files/atomic_file.h"

#include <algorithm>
#include <cctype>
#include <cerrno>
#include <csignal>
#include <cstring>
#include <filesystem>
#include <vector>

#include <fmt/format.h>
#include <unistd.h>

namespace jovilux {

AtomicFile::AtomicFile(std::string path)
    : path_(std::move(path)), temporary_(fmt::format("{}.{}.part", path_, ::getpid())) {
  file_ = std::fopen(temporary_.c_str(), "wbx");
  // Left by a process of the same number that was killed.
  if (file_ == nullptr && errno == EEXIST) {
    std::remove(temporary_.c_str());
    file_ = std::fopen(temporary_.c_str(), "wbx");
  }
  if (file_ == nullptr) {
    fail();
  }
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
  if (std::fwrite(data, 1, size, file_) != size) {
    fail();
  }
}

std::uint64_t AtomicFile::position() const { return static_cast<std::uint64_t>(::ftello(file_)); }

void AtomicFile::seek(std::uint64_t position) {
  if (::fseeko(file_, static_cast<off_t>(position), SEEK_SET) != 0) {
    fail();
  }
}

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
  if (std::rename(temporary_.c_str(), path_.c_str()) != 0) {
    fail();
  }
  temporary_.clear();
}

void remove_leftovers(const std::string& path) {
  namespace fs = std::filesystem;
  const fs::path file(path);
  const std::string begin = file.filename().string() + ".", end = ".part";
  std::error_code ec;
  std::vector<fs::path> left;
  for (const auto& entry :
       fs::directory_iterator(file.parent_path().empty() ? "." : file.parent_path(), ec)) {
    const std::string name = entry.path().filename().string();
    if (name.size() > begin.size() + end.size() && name.starts_with(begin) && name.ends_with(end)) {
      const std::string number = name.substr(begin.size(), name.size() - begin.size() - end.size());
      const bool digits =
          number.size() < 10 && std::all_of(number.begin(), number.end(), [](unsigned char c) {
            return std::isdigit(c) != 0;
          });
      if (digits && ::kill(std::stoi(number), 0) != 0 && errno == ESRCH) {
        left.push_back(entry.path());
      }
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
