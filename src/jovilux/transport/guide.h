#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/emitters/light_clusters.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/photons.h"

#include <array>
#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace jovilux {

/// What one scattering of a training path tells: from where light came, and how well directions
/// were chosen.
struct ScatteringRecord {
  Vec3 p = Vec3::Zero();
  Vec2 place = Vec2::Zero();   ///< of the direction toward the light, in square_of()
  Vec3 source = Vec3::Zero();  ///< what the path met there, where anything
  bool met = false;
  float arriving = 0;   ///< estimate of luminance x cosine / density; haze: luminance / density
  float brought = 0;    ///< estimate of what came through the scattering, over its density
  float own_pdf = 0;    ///< of the surface or the phase function, for that direction [1/sr]
  float guide_pdf = 0;  ///< of the guide that the path had; 0: it had none
  float pdf = 0;        ///< that it was chosen with
  Vec3 normal = Vec3::Zero();  ///< on the eye's side; zero in haze, and of what is lit from behind
  Vec3 travel = Vec3::Zero();  ///< in haze the unit direction in which the ray came,
  float g = 0;                 ///< and the mean cosine of scattering there
};

/// A place where camera paths were scattered.
struct ShadingPlace {
  Vec3 position = Vec3::Zero();
  Vec3 normal = Vec3::Zero();  ///< on the eye's side; zero: lit from both sides, or haze
  Vec3 travel = Vec3::Zero();  ///< in haze the unit direction in which a camera path came; zero
                               ///< on surfaces, and where it is not known
  float g = 0;                 ///< in haze the mean cosine of scattering
};

/// What one light sampled toward tells: how much of it arrived.
struct LightRecord {
  Vec3 p = Vec3::Zero();
  Vec3 normal = Vec3::Zero();  ///< as of ScatteringRecord
  std::uint32_t slot = 0;      ///< LightClusters::slot_of
  float sent = 0;              ///< what would arrive if nothing stood in the way,
  float arrived = 0;           ///< and what does,
  float lit = 0;               ///< over the chance that it was sampled toward
};

/// What is known of light around a place: a leaf of GuideTree.
struct GuideCell {
  std::uint32_t directions = 0;    ///< root of its tree of directions
  std::uint32_t first_target = 0;  ///< of its targets,
  std::uint32_t target_count = 0;  ///< so many
  float by_targets = 0;            ///< share of the guide's directions that go to targets
  float share = 0;                 ///< of all directions, those that the guide chooses, 0..1
};

/// A ball that sends light on to a cell: directions toward it from any place p fill the cone around
/// it evenly. So a near one is aimed at from where p is, not from the middle of the cell.
struct GuideTarget {
  Vec3 center = Vec3::Zero();
  float radius = 0;
  float weight = 0;  ///< its part of the cell's targets; they add up to 1
};

/// How GuideTree::of_photons() divides its cells and guides directions there.
struct PhotonCells {
  std::size_t most = 256;  ///< a cell of more photons is halved
  float share = 0.5f;      ///< of a cell's directions, those that are guided
  float aimed = 0.9f;      ///< of these, those that go to targets, at most
  /// Whether the light is that of small lamps: targets are narrowed to their images, and the tree
  /// of directions holds the rest. Otherwise it holds all, and targets fill its gaps.
  bool images = true;
};

/// Cells of space with what arrives in each: directions that light comes from, and of each slot of
/// lights the share that arrives. Immutable once built; shared by all threads.
///
/// Cells halve the records' places until each holds some hundreds. Sources: T. Müller, M. Gross,
/// J. Novák, "Practical Path Guiding for Efficient Light-Transport Simulation", CGF 36(4), 2017,
/// for cells and directions; P. Vévoda, I. Kondapaneni, J. Křivánek, "Bayesian online regression
/// for adaptive direct illumination sampling", ACM TOG 37(4), 2018, for lights by what arrives.
class GuideTree {
 public:
  GuideTree() = default;
  /// `photons` tell directions only, where scatterings lie around them; `slots`: of lights;
  /// `newest`: the first of the last round's scatterings, which tell how well directions were
  /// chosen.
  /// Without `directions`, cells know of lights only. The records' order is part of the result.
  GuideTree(const std::vector<ScatteringRecord>& scatterings,
            const std::vector<PhotonRecord>& photons,
            const std::vector<LightRecord>& lights,
            std::size_t slots,
            std::size_t newest,
            bool directions = true);
  /// Directions by photons alone, in cells of the photons' places; each aims at balls that its own
  /// photons tell.
  static GuideTree of_photons(const std::vector<PhotonRecord>& photons,
                              const PhotonCells& how = {});

  bool empty() const { return cells_.empty(); }
  std::size_t cells() const { return cells_.size(); }
  bool has_directions() const { return !directions_.empty(); }
  /// The number of the cell that holds p, on a surface with this normal on the eye's side (zero in
  /// haze, and where light from both sides is scattered); places beyond the records' belong to the
  /// nearest cells.
  std::uint32_t cell_at(const Vec3& p, const Vec3& normal) const {
    std::uint32_t index = side_of(normal);
    while (nodes_[index].axis < 3) {
      const Node& n = nodes_[index];
      index = n.child + (p[n.axis] >= n.cut ? 1 : 0);
    }
    return nodes_[index].child;
  }
  const GuideCell& cell(std::uint32_t number) const { return cells_[number]; }
  /// Of each slot, the share of the light that arrives in the cell, in (0, 1].
  std::span<const float> arrives(std::uint32_t number) const {
    return std::span<const float>(arrives_).subspan(number * slots_, slots_);
  }
  /// A direction from a place in the cell, by u in [0, 1)^2; `pdf` per steradian.
  Vec3 sample(const GuideCell& c, const Vec3& p, Vec2 u, float& pdf) const;
  float pdf(const GuideCell& c, const Vec3& p, const Vec3& direction) const;
  /// By what factor the cells' shares make directions that bring light likelier, in the geometric
  /// mean, as far as records tell; 1: they do not.
  double gain() const { return gain_; }
  /// Leaves all directions to surfaces and phase functions.
  void forget_directions();
  /// No cell guides more than most[number] of its directions.
  void limit_shares(std::span<const float> most);
  std::size_t memory_bytes() const;

 private:
  struct Node {
    float cut = 0;
    std::uint8_t axis = 3;    // 3: a leaf
    std::uint32_t child = 0;  // the first of two, or the cell
  };
  struct Builder;
  // Surfaces that face six ways have trees of their own, for the two sides of a wall know nothing
  // of each other; the last is for what faces no way, and for sides with few records.
  static constexpr std::uint32_t kSides = 7, kNoSide = 6;
  static std::uint32_t side_of(const Vec3& normal) {
    int axis = 0;
    if (!(normal.cwiseAbs().maxCoeff(&axis) > 0)) {
      return kNoSide;
    }
    return static_cast<std::uint32_t>(2 * axis + (normal[axis] < 0 ? 1 : 0));
  }

  std::vector<Node> nodes_;  // from the roots of all sides on
  std::vector<GuideCell> cells_;
  std::vector<DirectionNode> directions_;
  std::vector<GuideTarget> targets_;
  std::vector<float> arrives_;
  std::size_t slots_ = 0;
  double gain_ = 1;
};

class HazeLights;
class SkyGuide;
class VirtualLights;
struct Scene;

/// What has been learned before a picture of how light goes in a scene: at surfaces, and in haze.
struct Guide {
  GuideTree surfaces, haze;
  /// From where light comes by mirrors and smooth glass alone, for surfaces that the camera sees in
  /// mirrors and through glass: there neither paths of light nor shadow rays find it.
  GuideTree caustics;
  /// The same of light that something rough has scattered before, for all rough surfaces that the
  /// camera sees; empty where camera paths are not connected, for then `surfaces` tells it.
  GuideTree late_caustics;
  /// Light paths that camera paths are connected to; null: none.
  std::shared_ptr<const VirtualLights> virtual_lights;
  /// Which lights are sampled toward from places in haze; null: by LightClusters.
  std::shared_ptr<const HazeLights> haze_lights;
  /// By which directions skies and domes are sampled toward from surfaces; null: by their own.
  std::shared_ptr<const SkyGuide> skies;
  /// What a camera path usually brings, lights that it sees straight left out [cd/m2]: the middle
  /// one of means over the picture.
  float usual_luminance = 0;
  int rounds = 0;           ///< of learning,
  std::uint64_t paths = 0;  ///< with so many paths in all
  double seconds = 0;       ///< that learning took
};

/// Where training paths leave their records; one for each of a round's blocks.
struct GuideRecorder {
  std::vector<ScatteringRecord> surface_scatterings, haze_scatterings;
  std::vector<LightRecord> surface_lights, haze_lights;
  double seen =
      0;  ///< luminance of lights seen straight from the camera, summed over paths [cd/m2]
};

}  // namespace jovilux
