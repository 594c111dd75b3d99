#include "jovilux/geometry/mesh.h"

#include <Eigen/Dense>

#include <fmt/format.h>

namespace jovilux {

std::string mesh_fault(const Mesh& mesh) {
  if (mesh.triangles.empty()) {
    return "holds no triangles";
  }
  if (!mesh.uvs.empty() && mesh.uvs.size() != mesh.positions.size()) {
    return fmt::format(
        "has {} places on pictures for {} vertices", mesh.uvs.size(), mesh.positions.size());
  }
  if (!mesh.normals.empty() && mesh.normals.size() != mesh.positions.size()) {
    return fmt::format(
        "has {} normals for {} vertices", mesh.normals.size(), mesh.positions.size());
  }
  for (std::size_t i = 0; i < mesh.positions.size(); ++i) {
    if (!mesh.positions[i].allFinite()) {
      return fmt::format("vertex {} is not finite", i);
    }
  }
  for (std::size_t t = 0; t < mesh.triangles.size(); ++t) {
    for (const std::uint32_t v : mesh.triangles[t]) {
      if (v >= mesh.positions.size()) {
        return fmt::format(
            "triangle {} names vertex {}; there are {}", t, v, mesh.positions.size());
      }
    }
  }
  return {};
}

void transform_mesh(Mesh& mesh, const Transform& transform) {
  // Normals move by the inverse transpose, so that they stay square to the surface under uneven
  // scaling.
  const Mat3d normal_map = transform.linear.inverse().transpose();
  for (Vec3& p : mesh.positions) {
    p = transform.point(p.cast<double>()).cast<float>();
  }
  for (Vec3& n : mesh.normals) {
    const Vec3d moved = normal_map * n.cast<double>();
    n = moved.norm() > 0 ? Vec3(moved.normalized().cast<float>()) : Vec3(Vec3::UnitZ());
  }
}

}  // namespace jovilux
