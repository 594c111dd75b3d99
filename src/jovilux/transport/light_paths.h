#pragma once

#include "jovilux/emitters/light_clusters.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/photons.h"
#include "jovilux/transport/transport.h"

#include <cstdint>
#include <optional>
#include <utility>
#include <vector>

namespace jovilux {

class VirtualLights;

/// A contribution of a light's path to one pixel.
struct Splat {
  std::uint32_t pixel = 0, layer = 0;
  Part part = Part::kCaustic;
  Eigen::Array3f xyz = Eigen::Array3f::Zero();  ///< absolute, Y in cd/m2
  /// By the light's limit [cd/m2], in the first of the splats of a contribution.
  float clamped = 0;
  float ratio = 0;  ///< R below; infinite where the camera's paths do not find it
};

/// Where a light's path begins on what mirrors or glosses, as the camera's paths find it too.
struct LightPathStart {
  std::uint32_t emitter = kNoIndex;
  LightPlace place;                  ///< on the light
  std::uint32_t surface = kNoIndex;  ///< the number of the first surface that it falls on,
  Vec3 at = Vec3::Zero();            ///< where,
  Vec3 toward = Vec3::UnitZ();       ///< and the unit direction from there to the light
};

/// Paths of light traced from the emitters through mirrors and smooth glass, or by narrow gloss, to
/// surfaces that the camera sees: caustics, which the camera's own paths find by chance, and those
/// of lights without size through mirrors not at all.
///
/// Each mirroring or glossy object has a box. A path begins by a place on the inner side of a box,
/// chosen by what the lights bring there and by what a first round of paths brought to the picture;
/// a light is chosen there (LightClusters) and a place on it (sample_toward); the straight way from
/// the light through the box to that place is the path's first ray. Only what first falls on the
/// box's own object counts, so that a ray belongs to one box; it leaves a box in one place, so that
/// its density is known. From there the path goes on as the surfaces scatter it, and wherever one
/// is no mirror what it throws to the camera is kept. Of gloss, directions are chosen by its lobe
/// alone: what the body below it does, camera paths find well.
///
/// Joined with the camera's paths by multiple importance sampling (power heuristic, E. Veach,
/// "Robust Monte Carlo Methods for Light Transport Simulation", 1997, ch. 8 to 10): where a path
/// has a mirror next to the light, all else that both densities share cancels, and what is left is
/// (docs/physics.md)
///
///     R = M q cos_1 / (p_1 f) prod over i >= 2 of (b_i / a_i) (cos_i / p_i)
///
/// with M paths from lights for each sample of the whole picture, q the density of the first ray
/// [1/(m2 sr)], and for each surface that is no mirror, from the camera on, cos_i the cosine toward
/// the light, a_i the cosine toward the camera, p_i and b_i the densities of scattering toward
/// light and camera; f the density of the camera's samples at the first [1/m2]. Where gloss is next
/// to the light, camera paths sample toward the light from there; then R has the factor
///
///     G = cos_l p_g / (cos_y p_L)
///
/// with cos_l and cos_y the cosines there toward the light and away from it, p_g the density of the
/// gloss's directions and p_L that of sample_toward(), both over solid angle. Of a point light, q
/// and p_L hold the same delta; what is left of their ratio are the squared distances.
/// Both sides find R by the same formula, so their weights 1 / (1 + R^2) and R^2 / (1 + R^2) add up
/// to one.
class LightPaths {
 public:
  /// For the picture of one camera. The scene must stay where it is. `seed` drives the first round;
  /// with `like`, paths of the same rig at another moment, there is none: they begin where those
  /// do.
  LightPaths(const Scene& scene,
             const Camera& camera,
             int width,
             int height,
             int bounces,
             std::uint32_t seed,
             const LightPaths* like = nullptr);

  /// Whether there are mirrors or smooth glass, and lights that shine on them.
  bool any() const { return !cells_.empty(); }
  /// Some paths, with one for each pixel of the picture in mind.
  struct Round {
    std::vector<std::uint32_t> cells;  ///< of each path, where it came from
    std::vector<std::size_t> ends;     ///< of each, of its splats
    std::vector<Splat> splats;
    std::vector<PhotonRecord> caustics;
    RayCounts rays;
  };
  /// A second round, begun where the first one told; empty if that brought nothing to the picture,
  /// and after forget().
  const Round& trial() const { return trial_; }
  void forget() { trial_ = {}; }
  /// Where the light of the first rounds' paths first fell on what is no mirror, of lights that
  /// camera paths find; a source is where the light's image stands in a flat mirror. Moved out.
  std::vector<PhotonRecord> take_caustics() { return std::move(caustics_); }
  /// Whether some light that shines on mirrors is one that the camera's paths do not find.
  bool only_so() const;

  /// Leaves to connections between camera paths and virtual lights their share of the light that
  /// both find; null: all of it is kept. Must outlive the paths.
  void share_with(const VirtualLights* virtual_lights) { virtual_lights_ = virtual_lights; }

  /// One path: its contributions to the picture, each the estimate that the path alone makes of the
  /// pixel, for `per_sample` paths for each sample a pixel. `sampler`: the path's own.
  void trace(const Sampler& sampler,
             double per_sample,
             std::vector<Splat>& out,
             RayCounts& counts) const;

  /// Density q of a path's first ray [1/(m2 sr)]; 0 where none is begun so.
  double density(const LightPathStart& start) const;
  /// The density f of the camera's samples at a surface's point [1/m2]: one a pixel. `cosine`
  /// between the surface's normal and the ray's direction.
  double film_density(const Ray& from_camera, float distance, float cosine) const {
    return camera_.film_density(from_camera.direction) * cosine /
           (static_cast<double>(distance) * distance);
  }
  /// Whether paths begin by the gloss of a material: too wide to be a mirror, too narrow for
  /// virtual lights to stand on.
  static bool begin_on_gloss(const SurfaceModel& m);
  /// Whether they do by that of this light. It must be one that camera paths find: by a size that
  /// they meet, or a point that they sample toward, with shadows as they are.
  static bool gloss_throws(const Emitter& e) {
    return is_point(e) ? e.casters == kNoIndex && (e.cheats.shadow_color == 0.0f).all()
                       : cameras_find(e) && e.kind != LightKind::kObject;
  }
  static bool is_point(const Emitter& e) { return e.is_zero_size() && e.kind != LightKind::kTube; }
  /// The density of sampling toward a place on a light from p, over solid angle [1/sr]. Of a point
  /// it is a delta, which cancels in R: here it has the squared distance, as if the point had 1 m2
  /// that faces p.
  static double pdf_toward(
      const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& place, const Vec3* side) {
    return is_point(e) ? static_cast<double>((place.position - p).squaredNorm())
                       : static_cast<double>(light_pdf(e, p, wi, place, side));
  }
  /// The factor G. Directions in the shading frame of the gloss.
  static double gloss_factor(const SurfaceModel& gloss,
                             const Vec3& local_to_light,
                             const Vec3& local_away,
                             double cos_light,
                             double cos_away,
                             double light_pdf);
  /// Whether camera paths find this light through mirrors: it has a size, and they see it.
  static bool cameras_find(const Emitter& e) { return !e.is_zero_size() && e.cheats.visible; }

 private:
  // The box of a mirroring surface; its faces in cells, low x, high x, low y, ..
  struct Target {
    std::uint32_t surface;
    Bounds box;
    std::size_t first_cell;
  };
  // A place on the inner side of a target's box.
  struct Exit {
    std::size_t cell = 0;
    Vec3 at = Vec3::Zero(), inward = Vec3::UnitZ();
    double area = 0;  // of the cell
  };
  class Walk;

  Bounds target_box(const Bounds& own) const;
  void add_targets();
  void add_aims();
  std::vector<double> brought_by_lights() const;
  void choose_cells_by(const std::vector<double>& importance);
  Round round(std::uint32_t seed, std::uint32_t stream, std::size_t paths) const;
  void learn(const Round& r);
  void add_caustics(Round& r);
  Exit exit_in(const Target& t, std::size_t cell, const Vec2& u) const;
  std::optional<Exit> exit_of(const Target& t, const Vec3& from, const Vec3& direction) const;
  double chance_of(std::size_t cell) const { return cumulative_[cell + 1] - cumulative_[cell]; }

  const Scene& scene_;
  const Camera& camera_;
  int width_, height_, bounces_;
  // The emitters as they shine on boxes: without falloff laws, zones, links.
  std::vector<Emitter> aims_;
  bool mirrors_ = false;  // whether a target is no gloss
  LightClusters clusters_;
  std::vector<Target> targets_;
  std::vector<std::uint32_t> target_of_;  // by surface number
  std::size_t grid_ = 1;                  // cells along each side of a face
  std::vector<double> cells_;             // what lights bring to each
  std::vector<double> cumulative_;        // chances
  std::vector<double> by_picture_;        // what each brought, of the whole; empty: nothing
  Round trial_;
  std::vector<PhotonRecord> caustics_;
  const VirtualLights* virtual_lights_ = nullptr;
};

}  // namespace jovilux
