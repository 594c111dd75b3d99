#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/rgb.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// The UsdLux lights of a stage in USD's text format, in world space: meters, z up.
struct UsdStage {
  struct Light {
    enum class Kind { kSphere, kDisk, kRect, kCylinder, kDistant, kDome } kind = Kind::kSphere;
    std::string name;
    Vec3d at = Vec3d::Zero();
    Mat3d frame = Mat3d::Identity();  ///< unit columns; it shines along -z, a cylinder lies along x
    double radius = 0.5, width = 1, height = 1, length = 1;  ///< [m]
    double angle = 0.53;                                     ///< of a distant light, full [degrees]
    /// Intensity, exposure and normalization together: of a surface its luminance [cd/m2], of a
    /// distant light its illuminance [lx], of a dome the factor on its picture, or its luminance.
    double level = 0;
    Rgb color = Rgb::Ones();       ///< linear Rec.709
    std::optional<double> kelvin;  ///< where the color temperature is enabled
    bool normalized = false, as_point = false, as_line = false;
    std::optional<double> cone_angle;  ///< half angle [degrees]
    double cone_softness = 0;          ///< share of that angle over which it falls to nothing
    std::string texture, profile;      ///< files as the stage names them; empty: none
  };
  std::vector<Light> lights;
  std::size_t meshes = 0;  ///< prims that are not read
};

/// Reads a .usda file: SphereLight, DiskLight, RectLight, CylinderLight, DistantLight and DomeLight
/// with their transforms, as the schemas of OpenUSD's UsdLux and UsdGeom define them; the default
/// time's values. Layers that are referenced, and light in time samples, are not followed; warnings
/// say so. Any bytes at all give a stage or problems. The file may have at most 64 MiB.
Result<UsdStage> load_usd_lights(const std::string& path);

}  // namespace jovilux
