#include "jovilux/files/mesh_file.h"

#include <filesystem>
#include <fstream>

#include <fmt/format.h>

namespace jovilux {

Problem mesh_problem(const std::string& path, std::uint32_t line, std::string text) {
  return {Severity::kError, "bad-mesh", {path, line, 0}, "", std::move(text), ""};
}

Result<std::string> read_mesh_bytes(const std::string& path) {
  std::error_code ec;
  const auto size = std::filesystem::file_size(path, ec);
  if (ec || !std::filesystem::is_regular_file(path, ec)) {
    return mesh_problem(path, 0, "file not found");
  }
  if (size > kMaxMeshBytes) {
    return mesh_problem(path, 0, fmt::format("{} bytes; a mesh file holds at most {}", size, kMaxMeshBytes));
  }
  std::string bytes(size, '\0');
  std::ifstream in(path, std::ios::binary);
  in.read(bytes.data(), static_cast<std::streamsize>(size));
  if (!in || static_cast<std::uint64_t>(in.gcount()) != size) {
    return mesh_problem(path, 0, "cannot be read");
  }
  return bytes;
}

Result<Mesh> load_mesh(const std::string& path) {
  auto mesh = std::filesystem::path(path).extension() == ".ply" ? load_ply(path) : load_obj(path);
  if (mesh) {
    if (const std::string fault = mesh_fault(*mesh); !fault.empty()) {
      return mesh_problem(path, 0, fault);
    }
  }
  return mesh;
}

}  // namespace jovilux
