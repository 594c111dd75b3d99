#include "jovilux/files/mesh_file.h"

#include "jovilux/files/read_file.h"

namespace jovilux {

Problem mesh_problem(const std::string& path, std::uint32_t line, std::string text) {
  return {Severity::kError, "bad-mesh", {path, line, 0}, "", std::move(text), ""};
}

Result<std::string> read_mesh_bytes(const std::string& path) {
  return read_file(path, kMaxMeshBytes, "bad-mesh");
}

Result<Mesh> load_mesh(const std::string& path) {
  auto mesh = file_ending(path) == ".ply" ? load_ply(path) : load_obj(path);
  if (mesh) {
    if (const std::string fault = mesh_fault(*mesh); !fault.empty()) {
      return mesh_problem(path, 0, fault);
    }
  }
  return mesh;
}

}  // namespace jovilux
