#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/image.h"
#include "jovilux/geometry/mesh.h"

#include <memory>
#include <string>
#include <vector>

namespace jovilux {

/// What a glTF 2.0 file holds of use here, in its own space: meters, y up.
struct GltfScene {
  /// Base material: of metallic-roughness.
  struct Material {
    std::string name;
    Rgb color = Rgb::Ones();
    double metallic = 1, roughness = 1;
    /// Of the base color; multiplied by `color` already; null without.
    std::shared_ptr<LinearImage> picture;
  };
  /// Triangles of one material, moved by their nodes.
  struct Part {
    Mesh mesh;
    int material = -1;
  };
  /// KHR_lights_punctual.
  struct Light {
    enum class Kind { kPoint, kSpot, kDirectional } kind = Kind::kPoint;
    std::string name;
    Rgb color = Rgb::Ones();
    double intensity = 1;                ///< cd; directional: lx
    double range = 0;                    ///< [m]; 0: endless
    double inner = 0, outer = kPiD / 4;  ///< half angles [rad]
    Vec3d at = Vec3d::Zero(), toward = -Vec3d::UnitZ();
  };
  struct Camera {
    std::string name;
    Vec3d at = Vec3d::Zero(), toward = -Vec3d::UnitZ();
    double view = 0.7, aspect = 1.5;  ///< vertical angle [rad]; width over height
  };
  std::vector<Material> materials;
  std::vector<Part> parts;
  std::vector<Light> lights;
  std::vector<Camera> cameras;
};

/// Reads .gltf (with the files beside it that it names) or .glb. All views and indices are checked;
/// the whole has at most a million vertices and triangles and 8 for each byte, and at most
/// kMaxGltfItems. Any bytes at all give a scene or problems; warnings name what is passed over.
Result<GltfScene> load_gltf(const std::string& path);
inline constexpr std::size_t kMaxGltfItems = 100'000'000;

}  // namespace jovilux
