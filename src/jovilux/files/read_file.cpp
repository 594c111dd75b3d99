#include "jovilux/files/read_file.h"

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <fstream>

#include <fmt/format.h>

namespace jovilux {

Result<std::string> read_file(const std::string& path,
                              std::uint64_t most,
                              const std::string& code) {
  const auto fault = [&](std::string text) {
    return Problem{Severity::kError, code, {path, 0, 0}, "", std::move(text), ""};
  };
  std::error_code ec;
  const auto size = std::filesystem::file_size(path, ec);
  if (ec || !std::filesystem::is_regular_file(path, ec)) {
    return fault("file not found");
  }
  if (size > most) {
    return fault(fmt::format("{} bytes; a file of this kind holds at most {}", size, most));
  }
  std::string bytes(size, '\0');
  std::ifstream in(path, std::ios::binary);
  in.read(bytes.data(), static_cast<std::streamsize>(size));
  if (!in || static_cast<std::uint64_t>(in.gcount()) != size) {
    return fault("cannot be read");
  }
  return bytes;
}

std::string file_ending(const std::string& path) {
  std::string ending = std::filesystem::path(path).extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) {
    return static_cast<char>(std::tolower(c));
  });
  return ending;
}

}  // namespace jovilux
