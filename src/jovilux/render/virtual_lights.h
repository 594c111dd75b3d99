#pragma once

#include "jovilux/render/guide.h"
#include "jovilux/render/light_emission.h"
#include "jovilux/render/transport.h"
#include "jovilux/scene/scene.h"

#include <array>
#include <cmath>
#include <cstdint>
#include <span>
#include <vector>

namespace jovilux {

/// A place where a light's path was scattered: it sends on what arrived there, as a light of its
/// own (virtual point light). On a surface, or in haze.
struct VirtualLight {
  Vec3 position = Vec3::Zero();
  Vec3 normal = Vec3::Zero(), shading = Vec3::Zero();  ///< on the light's side; zero in haze
  Vec3 to_light = Vec3::Zero();                        ///< unit, where its light came from
  Vec2 uv = Vec2::Zero();
  float offset = 0;   ///< how far a ray starts off the surface [m]
  float sigma_t = 0;  ///< of the haze there [1/m]
  Spectrum flux;      ///< that arrived [lm]
  std::uint32_t emitter = kNoIndex;
  std::uint32_t material = kNoIndex;  ///< kNoIndex: in haze
  std::uint32_t cluster = 0;
  std::uint16_t scatterings = 1;  ///< of its path, this one included,
  std::uint16_t in_haze = 0;      ///< and those by haze
  bool colored = false;
  bool hazy = false;     ///< haze scattered it on its way
  bool caustic = false;  ///< gloss or a mirror threw it, on which the light itself fell
  Eigen::Array3f rgb = Eigen::Array3f::Ones();
  std::uint32_t emission_cell = 0;

  bool is_in_haze() const { return material == kNoIndex; }
};

/// What choosing among virtual lights looks at: half of a cache line.
struct VirtualLightSketch {
  Vec3 position;
  Vec3 normal;  ///< in haze (sigma_t, 0, 0)
  float flux;   ///< mean over wavelengths [lm]
  std::uint16_t scatterings;
  std::uint8_t in_haze;
  bool is_in_haze;
};

/// The virtual lights of one sample of all pixels, in the order of their clusters.
struct VirtualLightSet {
  std::vector<VirtualLight> lights;
  std::vector<VirtualLightSketch> sketches;  ///< of each of them
  std::vector<std::uint32_t> begin;          ///< of each cluster, and the end
};

/// Connections of camera paths to paths of light (bidirectional path tracing with a cache of light
/// vertices, which are chosen by what they bring to a cell of space, occlusion included).
///
/// The light that goes from a place y, where a light's path was scattered, to a place x of a camera
/// path is found in two ways: x is connected to y, or the camera path happens to go from x to y.
/// A share of the light, which depends on x and y only, is left to connections:
///
///     share = p_c^2 / (p_c^2 + p_d^2),  p_c = 32 P(cluster of y | cell of x) / size of the
///     cluster,
///     p_d = p(direction from x to y) |cos_y| / d^2;  of y in haze  p(direction) sigma_t(y) / d^2
///
/// and the rest, 1 - share, to the camera path that goes on. Both add up to all of the light
/// whatever p_c and p_d are, so clusters, chances and their sizes may be rough; near places, where
/// connections have large peaks, are left to directions. Light that a mirror throws and camera
/// paths cannot find (of lights without size or not visible) is left to LightPaths.
///
/// Sources: A. Keller, "Instant Radiosity", SIGGRAPH 1997; T. Kollig, A. Keller, "Illumination in
/// the Presence of Weak Singularities", MCQMC 2004, for a share by geometry alone; T. Davidovic et
/// al., "Progressive Light Transport Simulation on the GPU: Survey and Improvements", ACM TOG
/// 33(3), 2014, for caches of light vertices; P. Vevoda, J. Krivanek, "Adaptive direct illumination
/// sampling", SIGGRAPH Asia 2016 posters, for clusters by cells.
class VirtualLights {
 public:
  /// How paths are limited, and how many paths of light a set has.
  struct Plan {
    int bounces = 6, haze_bounces = 6;
    std::uint32_t seed = 1;
    std::size_t paths = 1 << 13, training_paths = 1 << 14;
  };
  /// Learns clusters, and by rays from `surfaces` and `haze` (places of camera paths, in cells of
  /// the guide) which clusters reach each cell. The scene and the guide must stay where they are.
  VirtualLights(const Scene& scene,
                const Guide& guide,
                const std::vector<ShadingPlace>& surfaces,
                const std::vector<ShadingPlace>& haze,
                const Plan& plan,
                RayCounts& rays);

  /// Whether there is anything to connect to.
  bool any() const { return !rows_.empty() && clusters_ > 0; }
  /// Whether a light's paths are traced; of others, camera paths find all light.
  bool carries(const Emitter& e) const {
    return carried_[static_cast<std::size_t>(&e - scene_.emitters.data())] != 0;
  }
  /// Whether camera paths find nothing but carried lights.
  bool carries_all() const { return carries_all_; }
  /// Of each layer, whether all its lights can be carried; and whether all that shines can.
  static std::vector<bool> could_carry(const Scene& scene);
  static bool could_carry_all(const Scene& scene);
  /// Whether virtual lights stand on a material: one that scatters widely, without a mirror part.
  static bool stand_on(const SurfaceModel& m);

  /// The set of one sample of the picture. The result depends on the arguments only.
  VirtualLightSet trace(std::uint32_t seed, std::uint32_t sample, RayCounts& rays) const;

  /// The cumulative chances of all clusters in the cell of a place; null: nothing is known.
  /// `normal`: as of GuideTree::cell_at.
  const float* row_at(const Vec3& p, const Vec3& normal, bool in_haze) const;
  /// The share of the light from y to a place with this row that connections have.
  /// `by_direction`: p_d [1/m2], in haze [1/m3].
  float share(const float* row, std::uint32_t cluster, float by_direction) const {
    const float p_c = kPreference * (row[cluster + 1] - row[cluster]) * density_[cluster];
    if (!(p_c > 0)) {
      return 0;
    }
    const float r = by_direction / p_c;
    return 1 / (1 + r * r);
  }
  std::uint32_t cluster_at(const Vec3& y, bool in_haze) const;

  /// One virtual light of a set, chosen among candidates in proportion to `target` (resampled
  /// importance sampling; J. Talbot et al., "Importance Resampling for Global Illumination", EGSR
  /// 2005). `weight`: over its chance; 0: none brings anything. target(sketch, cluster) >= 0.
  template <class Target>
  const VirtualLight* choose(const VirtualLightSet& set,
                             const float* row,
                             const Vec2& u,
                             float u_choice,
                             float& weight,
                             const Target& target) const;

  std::size_t memory_bytes() const {
    return rows_.size() * sizeof(float) + nodes_.size() * sizeof(Node) +
           density_.size() * sizeof(float);
  }

 private:
  static constexpr std::uint32_t kCandidates = 4;
  // Connections are preferred by this factor: one shadow ray finds the whole of what y sends on,
  // where a direction goes on with a path that has noise of its own.
  static constexpr float kPreference = 32;
  struct Node {
    float cut = 0;
    std::uint8_t axis = 3;    // 3: a leaf
    std::uint32_t child = 0;  // the first of two, or the cluster
  };
  struct Builder;

  std::vector<VirtualLight> trace_paths(std::uint32_t seed,
                                        std::uint32_t sample,
                                        std::size_t paths,
                                        RayCounts& rays) const;
  // The cluster whose chances hold v in [0, 1): a search without branches.
  std::uint32_t cluster_of_chance(const float* row, float v) const {
    const float* first = row + 1;
    std::size_t left = clusters_ - 1;  // the last one takes all that is left
    while (left > 0) {
      const std::size_t half = (left + 1) / 2;
      first += first[half - 1] <= v ? half : 0;
      left -= half;
    }
    return static_cast<std::uint32_t>(first - row - 1);
  }
  VirtualLightSet sorted(std::vector<VirtualLight> lights) const;

  const Scene& scene_;
  const Guide& guide_;
  Plan plan_;
  std::vector<std::uint8_t> carried_;
  bool carries_all_ = true;
  std::vector<Emitter> aims_;             // without falloff and tint by position
  std::vector<std::uint32_t> emitters_;   // that are carried
  std::vector<LightEmission> emission_;   // of these,
  std::vector<double> light_cumulative_;  // with chances up to each
  std::vector<Node> nodes_;               // of clusters on surfaces from 0 on
  std::uint32_t haze_root_ = kNoIndex;
  std::size_t clusters_ = 0;
  std::vector<float> density_;  // 1 / size of each cluster
  std::vector<float> kept_;     // the part of each cluster's virtual lights that sets keep
  std::vector<float> rows_;     // of cells of surfaces, then of haze; clusters_ + 1 each
};

template <class Target>
const VirtualLight* VirtualLights::choose(const VirtualLightSet& set,
                                          const float* row,
                                          const Vec2& u,
                                          float u_choice,
                                          float& weight,
                                          const Target& target) const {
  constexpr float kGolden = 0.618034f, kOneLess = 0x1.fffffep-1f;
  std::array<std::uint32_t, kCandidates> cluster, index, count;  // NOLINT: filled before use
  // All candidates are fetched before the first is looked at: most lie in no cache.
  for (std::uint32_t m = 0; m < kCandidates; ++m) {
    const float v = std::min((static_cast<float>(m) + u.x()) / kCandidates, kOneLess);
    const std::uint32_t k = cluster_of_chance(row, v);
    float place = u.y() + static_cast<float>(m) * kGolden;
    place -= std::floor(place);
    cluster[m] = k;
    count[m] = set.begin[k + 1] - set.begin[k];
    index[m] = set.begin[k] + static_cast<std::uint32_t>(place * static_cast<float>(count[m]));
    index[m] = std::min(index[m], set.begin[k + 1] - (count[m] > 0 ? 1 : 0));
    if (count[m] > 0) {
      __builtin_prefetch(&set.sketches[index[m]]);
    }
  }
  std::uint32_t chosen = kNoIndex;
  float sum = 0, chosen_target = 0;
  for (std::uint32_t m = 0; m < kCandidates; ++m) {
    const float chance = row[cluster[m] + 1] - row[cluster[m]];
    if (count[m] == 0 || !(chance > 0)) {
      continue;
    }
    const float f = target(set.sketches[index[m]], cluster[m]),
                w = f * static_cast<float>(count[m]) / chance;
    if (!(w > 0)) {
      continue;
    }
    sum += w;
    // Reservoir of one; what is left of u_choice serves the next candidate.
    const float take = w / sum;
    if (u_choice < take) {
      chosen = index[m];
      chosen_target = f;
      u_choice = std::min(u_choice / take, kOneLess);
    } else {
      u_choice = std::min((u_choice - take) / (1 - take), kOneLess);
    }
  }
  if (chosen == kNoIndex) {
    weight = 0;
    return nullptr;
  }
  weight = sum / kCandidates / chosen_target;
  return &set.lights[chosen];
}

}  // namespace jovilux
