#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/light_clusters.h"
#include "jovilux/geometry/world.h"
#include "jovilux/optics/haze.h"
#include "jovilux/optics/picture.h"
#include "jovilux/optics/surface.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/light_parts.h"

#include <algorithm>
#include <map>
#include <memory>
#include <string>
#include <vector>

namespace jovilux {

/// A rig made ready for rays: immutable, shared by all threads.
struct Scene {
  // Defined in one source, so that copying it is compiled once.
  Scene();
  Scene(const Scene&);
  Scene(Scene&&) noexcept;
  Scene& operator=(const Scene&);
  Scene& operator=(Scene&&) noexcept;
  ~Scene();

  /// What a surface number of the world stands for: an object of the rig, or the body of a light.
  /// An object that emits has both: it reflects as well.
  struct Surface {
    std::uint32_t object = kNoIndex;
    std::uint32_t material = kNoIndex;
    std::uint32_t emitter = kNoIndex;
    /// Bits of the lists of linked objects that it belongs to.
    std::uint64_t links = ~std::uint64_t{0};
    bool seen_by_camera = true;
    bool receives_shadow = true;  ///< else the direct light of all lamps reaches it
    bool held_out = false;        ///< black where the camera sees it
  };
  World world;
  std::vector<Surface> surfaces;
  std::vector<SurfaceModel> materials;
  /// By material: the one that a path meets after a surface that is no mirror. The same one, or
  /// one with its bounce_roughness.
  std::vector<std::uint32_t> bounce_materials;
  std::uint32_t after_bounce(std::uint32_t material) const {
    return material < bounce_materials.size() ? bounce_materials[material] : material;
  }
  bool has_bounce_materials = false;  ///< some material differs so
  /// Pictures on a material.
  struct Pictures {
    std::shared_ptr<const Picture> color, mask;
    Vec2 tile = Vec2::Ones();
    /// Sheet: factors of its color on what is reflected and, 0 if that has a color of its own, let
    /// through.
    float reflected = 1, transmittance = 0;

    bool any() const { return color != nullptr || mask != nullptr; }
    /// How much of the surface is there, 0..1.
    float covered(const Vec2& uv) const {
      return mask == nullptr
                 ? 1.0f
                 : std::clamp(
                       luminance_of(mask->at(uv.cwiseProduct(tile)).array().eval()), 0.0f, 1.0f);
    }
  };
  std::vector<Pictures> pictures;  ///< one for each material
  /// Some material lets light straight through: panes, masks.
  bool has_openings = false;
  bool has_unshadowed = false;  ///< some surface receives no shadow
  bool has_pictures = false;
  std::vector<Haze> hazes;
  LightTable emission_table;  ///< of their glow: D65
  /// One for each light of the rig, in its order, the dark ones too.
  std::vector<Emitter> emitters;
  LightClusters light_clusters;    ///< of the emitters
  std::vector<LightParts> lights;  ///< of each light, what its files told
  /// Of each emitter, the surface number of its body; kNoIndex without.
  std::vector<std::uint32_t> emitter_surface;
  /// Of each emitter, the absorbing glass around its middle (number of the material); kNoIndex
  /// without, and of distant lights and objects.
  std::vector<std::uint32_t> emitter_glass;
  std::vector<std::uint32_t> distant;  ///< the emitters that rays which leave the world may see
  /// Lists of surfaces that throw shadows; Emitter::casters points here.
  std::vector<std::vector<bool>> casters;
  std::map<int, std::shared_ptr<World>> holders;  ///< of meshes that hold haze or lights, by object
  /// Of each light that an object is, else null.
  std::vector<std::shared_ptr<const LuminousSurface>> luminous;
  /// Of each haze of the rig that a file tells, else null.
  std::vector<std::shared_ptr<const DensityGrid>> grids;
  std::size_t object_surfaces = 0;  ///< the first so many surfaces are objects'
  /// Names of the lights that shine, then of the hazes that glow; Emitter::layer points here.
  std::vector<std::string> layers;
};

/// Loads all files and builds the hierarchy. Problems of files carry the file's place and the rig's
/// address. `camera` is the index of the one that lights with fade_with_camera fade with.
Result<Scene> prepare_scene(const Rig& rig, int camera = 0);

/// The same rig at another moment: meshes, materials, pictures and densities are those of `like`,
/// and meshes stay where they are there; the layers are `layers`, whether or not their lights shine
/// now.
Result<Scene> prepare_moment(const Rig& rig,
                             int camera,
                             const Scene& like,
                             const std::vector<std::string>& layers);

}  // namespace jovilux
