#pragma once

#include <cstdio>
#include <stdexcept>
#include <string>
#include <string_view>

namespace jovilux {

/// The machine could not do its part: what was attempted, on which file, and the system's reason.
struct MachineTrouble : std::runtime_error {
  using std::runtime_error::runtime_error;
};

/// A file written under a temporary name beside its final one and renamed by commit(): never half a
/// file under its final name. Without commit() nothing remains. All functions throw MachineTrouble,
/// a full disk included.
class AtomicFile {
 public:
  explicit AtomicFile(std::string path);
  ~AtomicFile();
  AtomicFile(const AtomicFile&) = delete;
  AtomicFile& operator=(const AtomicFile&) = delete;

  void write(const void* data, std::size_t size);
  void write(std::string_view text) { write(text.data(), text.size()); }
  std::uint64_t position() const;
  void seek(std::uint64_t position);
  void commit();
  const std::string& path() const { return path_; }

 private:
  [[noreturn]] void fail() const;

  std::string path_, temporary_;
  std::FILE* file_ = nullptr;
};

/// Removes what processes that were killed have left of this file under temporary names.
void remove_leftovers(const std::string& path);

void write_text_file(const std::string& path, std::string_view text);

}  // namespace jovilux
