#pragma once

#include "jovilux/geometry/ray.h"
#include "jovilux/geometry/transform.h"

#include <array>
#include <cstdint>
#include <string>
#include <vector>

namespace jovilux {

/// Triangles over shared vertices. `normals` is empty or has one unit vector a vertex; `uvs` is
/// empty or has one place on pictures a vertex, v upwards.
struct Mesh {
  std::vector<Vec3> positions;
  std::vector<Vec3> normals;
  std::vector<Vec2> uvs;
  std::vector<std::array<std::uint32_t, 3>> triangles;
};

/// The first fault that makes a mesh unusable, or empty: no triangles, an index out of range, a
/// coordinate that is not finite, normals of another number than positions.
std::string mesh_fault(const Mesh& mesh);

/// Positions and normals moved by `transform`; normals stay unit vectors.
void transform_mesh(Mesh& mesh, const Transform& transform);

}  // namespace jovilux
