#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/geometry/mesh.h"

#include <string>

namespace jovilux {

/// Reads an OBJ or PLY file by its ending. The mesh is faultless (mesh_fault is empty); polygons
/// are made triangles.
/// Any bytes at all give a mesh or problems with their place in the file.
Result<Mesh> load_mesh(const std::string& path);

Result<Mesh> load_obj(const std::string& path);
Result<Mesh> load_ply(const std::string& path);

/// The largest mesh file that is read [bytes].
inline constexpr std::uint64_t kMaxMeshBytes = 4ULL << 30;

/// The whole of a file of at most kMaxMeshBytes.
Result<std::string> read_mesh_bytes(const std::string& path);

/// A problem in a mesh file.
Problem mesh_problem(const std::string& path, std::uint32_t line, std::string text);

}  // namespace jovilux
