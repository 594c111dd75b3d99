#include "jovilux/files/density_file.h"

#include "jovilux/base/text.h"
#include "jovilux/files/child_process.h"

#include <algorithm>
#include <array>
#include <cerrno>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <optional>
#include <vector>

#include <fmt/format.h>
#include <unistd.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

Problem density_fault(const std::string& path, std::string text, std::string hint = "") {
  return {Severity::kError, "bad-density", {path, 0, 0}, "", std::move(text), std::move(hint)};
}

// What a program sends, as it comes.
class Stream {
 public:
  explicit Stream(int fd) : fd_(fd) {}
  bool read(void* to, std::size_t bytes) {
    auto* at = static_cast<char*>(to);
    while (bytes > 0) {
      const ssize_t n = ::read(fd_, at, bytes);
      if (n < 0 && errno == EINTR) {
        continue;
      }
      if (n <= 0) {
        return false;
      }
      at += n;
      bytes -= static_cast<std::size_t>(n);
    }
    return true;
  }

 private:
  int fd_;
};

}  // namespace

std::optional<DensityGrid> read_density_stream(int fd,
                                               const Transform& place,
                                               std::uint64_t most_bytes) {
  // A stream of our own between the reader's process and this one: a damaged .vdb file may end that
  // process, and not a render.
  Stream in(fd);
  std::array<char, 4> magic{};
  std::array<double, 12> rows{};
  std::array<std::int32_t, 3> first{}, blocks{};
  std::uint64_t count = 0;
  if (!in.read(magic.data(), 4) || std::memcmp(magic.data(), "JVDG", 4) != 0 ||
      !in.read(rows.data(), sizeof rows) || !in.read(first.data(), sizeof first) ||
      !in.read(blocks.data(), sizeof blocks) || !in.read(&count, sizeof count)) {
    return std::nullopt;
  }
  Transform t;
  bool good = true;
  for (int r = 0; r < 3; ++r) {
    for (int c = 0; c < 4; ++c) {
      const double v = rows[static_cast<std::size_t>(4 * r + c)];
      good = good && std::isfinite(v);
      (c < 3 ? t.linear(r, c) : t.offset[r]) = v;
    }
  }
  // As a double: the product of three hostile numbers overflows an integer.
  double slots = 1;
  for (const std::int32_t b : blocks) {
    good = good && b > 0;
    slots *= b;
  }
  // A block is 8^3 floats (2048 bytes), a slot of the index up to 8; more than the limit is refused
  // before it is taken.
  if (!good || !(std::abs(t.linear.determinant()) > 1e-30) ||
      slots * 8 + static_cast<double>(count) * 2048 > static_cast<double>(most_bytes) ||
      static_cast<double>(count) > slots) {
    return std::nullopt;
  }
  t.linear = place.linear * t.linear;
  t.offset = place.point(t.offset);
  DensityGrid out(t, first, blocks);
  std::vector<bool> seen(static_cast<std::size_t>(slots), false);
  for (std::uint64_t i = 0; i < count; ++i) {
    std::array<std::int32_t, 3> at{}, block{};
    std::array<float, 512> values{};
    if (!in.read(at.data(), sizeof at) || !in.read(values.data(), sizeof values)) {
      return std::nullopt;
    }
    // Blocks stand on a lattice of 8 points, each at most once.
    for (std::size_t k = 0; k < 3; ++k) {
      const std::int64_t from = static_cast<std::int64_t>(at[k]) - first[k];
      if (from < 0 || from % 8 != 0 || from / 8 >= blocks[k]) {
        return std::nullopt;
      }
      block[k] = static_cast<std::int32_t>(from / 8);
    }
    const auto slot = (static_cast<std::size_t>(block[2]) * static_cast<std::size_t>(blocks[1]) +
                       static_cast<std::size_t>(block[1])) *
                          static_cast<std::size_t>(blocks[0]) +
                      static_cast<std::size_t>(block[0]);
    if (seen[slot]) {
      return std::nullopt;
    }
    seen[slot] = true;
    out.set_block(block, values.data());
  }
  out.finish();
  return out;
}

Result<DensityGrid> load_density_grid(const std::string& path,
                                      const std::string& grid,
                                      const Transform& place) {
  std::error_code ec;
  const fs::path reader = fs::read_symlink("/proc/self/exe", ec).parent_path() / "jovilux-vdb";
  if (ec || !fs::exists(reader, ec)) {
    return density_fault(path,
                         "this build reads no .vdb files: the program jovilux-vdb is not beside it",
                         "install libopenvdb-dev and build again");
  }
  const std::uint64_t size = fs::file_size(path, ec);
  if (ec) {
    return density_fault(path, "cannot be read");
  }
  // Sparse grids unpack to many times their file: the limit grows with it, within what a
  // workstation has.
  constexpr std::uint64_t kLeast = 256ULL << 20, kMost = 8ULL << 30;
  const std::uint64_t limit = std::min(kMost, kLeast + 64 * std::min<std::uint64_t>(size, kMost));
  ChildProcess program(reader.string(), {path, grid, std::to_string(limit >> 20)});
  std::optional<DensityGrid> read = read_density_stream(program.output(), place, limit);
  program.close_output();
  std::string said;
  const int status = program.wait(said);
  if (!read || status != 0) {
    if (status == 2) {
      return density_fault(path, said.empty() ? "cannot be read" : printable(said, 300));
    }
    return density_fault(path,
                         "damaged, or not a .vdb file: reading it was stopped",
                         fmt::format("it may take {} MB and 60 s", limit >> 20));
  }
  return std::move(*read);
}

}  // namespace jovilux
