#pragma once

#include "jovilux/scene/scene.h"
#include "jovilux/transport/distant_emission.h"
#include "jovilux/transport/guide.h"
#include "jovilux/transport/light_emission.h"
#include "jovilux/transport/transport.h"

#include <array>
#include <cmath>
#include <cstdint>
#include <limits>
#include <span>
#include <variant>
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
  /// Mean cosine of haze's scattering; of glass, that of its light to the lobe's axis.
  float g = 0;
  Vec3 lobe = Vec3::Zero();  ///< unit axis of what rough glass sends on; zero: no lobe
  Spectrum flux;             ///< that arrived [lm]
  std::uint32_t emitter = kNoIndex;
  std::uint32_t material = kNoIndex;  ///< kNoIndex: in haze
  std::uint32_t cluster = 0;
  std::uint16_t scatterings = 1;  ///< of its path, this one included,
  std::uint16_t in_haze = 0;      ///< and those by haze
  bool colored = false;
  bool hazy = false;        ///< haze scattered it on its way
  bool caustic = false;     ///< gloss or a mirror threw it, on which the light itself fell
  bool first_only = false;  ///< as of EmittedPhoton
  Eigen::Array3f rgb = Eigen::Array3f::Ones();
  std::uint32_t emission_cell = 0;

  bool is_in_haze() const { return material == kNoIndex; }
};

/// What choosing among virtual lights looks at: half of a cache line.
struct VirtualLightSketch {
  Vec3 position;
  /// In haze sigma_t times the unit direction to its light [1/m]; of a lobe the unit vector against
  /// its axis.
  Vec3 normal;
  float flux;  ///< mean over wavelengths [lm]
  std::uint16_t scatterings;
  std::uint8_t in_haze;
  std::int8_t scaled_g;  ///< of haze and lobes the mean cosine times kGScale; else kDiffuse

  static constexpr std::int8_t kGScale = 127, kDiffuse = -128;

  static VirtualLightSketch of(const VirtualLight& y);
  bool is_diffuse() const { return scaled_g == kDiffuse; }
  /// Factor from a density over solid angle times 1/d2 to one over area (|cos|; 1 for a lobe, whose
  /// surface the sketch does not know), in haze over volume (sigma_t).
  float facing(const Vec3& wi) const {
    return is_diffuse() ? std::abs(normal.dot(wi)) : normal.norm();
  }
  /// What it sends, for one lumen, to a place at the squared distance d2 [m2]; `wi`: unit direction
  /// from that place [1/(m2 sr)]. By the phase function in haze and of lobes.
  float sent(const Vec3& wi, float d2) const {
    return (is_diffuse() ? std::abs(normal.dot(wi)) / kPi
                         : henyey_greenstein(normal.dot(wi) / normal.norm(),
                                             static_cast<float>(scaled_g) / kGScale)) /
           d2;
  }
};
static_assert(sizeof(VirtualLightSketch) == 32);

/// Virtual lights that are looked at together: one in each lane of vector instructions. (Eigen's
/// choices between two arrays are made number by number.)
struct VirtualLightLanes {
  static constexpr std::uint32_t kCount = 4;
  using Floats [[gnu::vector_size(kCount * sizeof(float))]] = float;

  std::array<const VirtualLightSketch*, kCount> lights;
  std::array<std::uint32_t, kCount> clusters;
  Floats chances;  ///< of the clusters in the cell

  /// value(i) of each lane. All four in one expression, so that they are put together in a register
  /// and not by four writes to memory, which a wide read would have to wait for.
  template <class Value>
  static Floats each(const Value& value) {
    return Floats{value(0), value(1), value(2), value(3)};
  }
  static Floats absolute(const Floats& x) { return x < 0 ? -x : x; }
  static Floats square_root(const Floats& x) {
    const Eigen::Array<float, kCount, 1> roots =
        Eigen::Array<float, kCount, 1>(x[0], x[1], x[2], x[3]).sqrt();
    return each([&](Eigen::Index i) { return roots[i]; });
  }
};

/// Unit directions, one in each lane.
struct DirectionLanes {
  VirtualLightLanes::Floats x, y, z;

  VirtualLightLanes::Floats dot(const Vec3& v) const { return x * v.x() + y * v.y() + z * v.z(); }
  Vec3 at(std::uint32_t lane) const { return {x[lane], y[lane], z[lane]}; }
};

/// From p to virtual lights; d2: squared distances [m2]. Not numbers where one lies at p.
DirectionLanes directions_to(const VirtualLightLanes& y,
                             const Vec3& p,
                             VirtualLightLanes::Floats& d2);

/// VirtualLightSketch::facing(), and its flux times sent(), of each lane.
struct SentLanes {
  VirtualLightLanes::Floats facing, brought;
};
SentLanes sent_in_lanes(const VirtualLightLanes& y,
                        const DirectionLanes& wi,
                        const VirtualLightLanes::Floats& d2);

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
/// and the rest, 1 - share, to the camera path that goes on; p is the surface's or the haze's own
/// density, even where a guide chooses the direction. Both add up to all of the light
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
    /// Looks at clusters, a ray each, that all cells share; those that hardly any light reaches
    /// take their part.
    double looks = 0;
    bool distant = false;  ///< whether light from no finite distance is carried as well
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
  /// What is carried of the ray through p from the unit direction `toward` the light: of distant
  /// lights, not all rays are.
  Covers covers(const Emitter& e, const Vec3& p, const Vec3& toward) const;
  /// Whether camera paths find nothing but carried lights.
  bool carries_all() const { return carries_all_; }
  /// The least chance that a camera path goes on beside all its connections together. Rays of
  /// distant lights that are not carried are left to such paths: without it these would be rare and
  /// heavy.
  float least_survival() const { return plan_.distant ? 0.3f : 0.0f; }
  /// Of each layer, whether all its lights can be carried, with or without the distant ones; and
  /// whether all that shines can.
  static std::vector<bool> could_carry(const Scene& scene, bool distant);
  static bool could_carry_all(const Scene& scene, bool distant);
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
  /// The same in lanes.
  VirtualLightLanes::Floats share(const VirtualLightLanes& y,
                                  const VirtualLightLanes::Floats& by_direction) const {
    const VirtualLightLanes::Floats densities =
        VirtualLightLanes::each([&](std::size_t i) { return density_[y.clusters[i]]; });
    const VirtualLightLanes::Floats p_c = kPreference * y.chances * densities,
                                    r = by_direction / p_c;
    return p_c > 0 ? 1 / (1 + r * r) : VirtualLightLanes::Floats{};
  }
  /// The cluster of a place that sends light on; `side`: its normal where that light leaves, zero
  /// in haze and on what scatters light through.
  std::uint32_t cluster_at(const Vec3& y, const Vec3& side, bool in_haze) const;

  /// `count` virtual lights of a set (1 .. kMostChosen), each chosen among candidates in proportion
  /// to `target` (resampled importance sampling; J. Talbot et al., "Importance Resampling for
  /// Global Illumination", EGSR 2005) times the part of its cluster's light that is expected to
  /// arrive: without it a candidate that is hidden, and therefore unlikely, outweighs all others.
  /// All candidates are spread evenly over the row's chances.
  /// target(VirtualLightLanes) >= 0 in each lane; what is not a number counts as 0.
  /// use(light, weight) is called for each that was chosen, with the weight over its chance of
  /// being so, divided by `count`.
  template <class Target, class Use>
  void choose_each(const VirtualLightSet& set,
                   const float* row,
                   std::uint32_t count,
                   const Vec2& u,
                   float u_choice,
                   const Target& target,
                   const Use& use) const;
  static constexpr std::uint32_t kMostChosen = 8;
  /// A target for choose_each() from target(sketch) of a single light.
  template <class Target>
  static auto one_by_one(const Target& target) {
    return [target](const VirtualLightLanes& y) {
      return VirtualLightLanes::each([&](std::size_t i) { return target(*y.lights[i]); });
    };
  }

  std::size_t memory_bytes() const {
    return (rows_.size() + arrives_.size()) * sizeof(float) + bins_.size() * sizeof(std::uint16_t) +
           nodes_.size() * sizeof(Node) + density_.size() * sizeof(float);
  }

 private:
  using Emission = std::variant<LightEmission, DistantEmission>;
  static constexpr std::uint32_t kCandidates = VirtualLightLanes::kCount, kBins = 64;
  // Connections are preferred by this factor: one shadow ray finds the whole of what y sends on,
  // where a direction goes on with a path that has noise of its own.
  static constexpr float kPreference = 32;
  struct Node {
    float cut = 0;
    std::uint8_t axis = kLeaf;  // as of ClusterCut
    std::uint32_t child = 0;    // the first of two, or the cluster

    static constexpr std::uint8_t kLeaf = 6;
  };
  struct Builder;
  // A virtual light that may be chosen, and how many its cluster has; 0: none.
  struct Candidate {
    std::uint32_t cluster, index, of_cluster;
  };
  // One that was chosen; kNoIndex: none brings anything.
  struct Pick {
    std::uint32_t light;
    float weight;
  };

  void choose_lights(const std::vector<ShadingPlace>& surfaces,
                     const std::vector<ShadingPlace>& haze,
                     RayCounts& rays);
  std::vector<Emission> emission_of(const std::vector<std::uint32_t>& shining,
                                    const std::vector<ShadingPlace>& surfaces,
                                    const std::vector<ShadingPlace>& haze,
                                    RayCounts& rays) const;
  void learn_rows(const std::vector<ShadingPlace>& surfaces,
                  const std::vector<ShadingPlace>& haze,
                  RayCounts& rays);
  DistantEmission distant_emission(std::uint32_t emitter,
                                   std::size_t tries,
                                   const std::vector<ShadingPlace>& places,
                                   RayCounts& rays) const;
  std::vector<DistantArrival> distant_arrivals(std::uint32_t emitter,
                                               std::size_t tries,
                                               const Vec3& middle,
                                               const std::vector<ShadingPlace>& places,
                                               RayCounts& rays) const;
  // Moves the ray of a distant light to where it enters the scene; false where something beyond
  // hides that.
  bool enters(EmittedPhoton& photon, RayCounts& rays) const;
  Candidate candidate(const VirtualLightSet& set,
                      const float* row,
                      const std::uint16_t* bins,
                      float u_cluster,
                      float u_place) const;
  // One of kCandidates, in proportion to its target over its chance. `arrives`: of the row.
  template <class Target>
  Pick pick(const VirtualLightSet& set,
            const float* row,
            const float* arrives,
            const Candidate* candidates,
            float u,
            const Target& target) const;
  std::vector<VirtualLight> trace_paths(std::uint32_t seed,
                                        std::uint32_t sample,
                                        std::size_t paths,
                                        RayCounts& rays) const;
  std::size_t row_number(const float* row) const {
    return static_cast<std::size_t>(row - rows_.data()) / (clusters_ + 1);
  }
  // The cluster whose chances hold v in [0, 1): the one where the part of the row begins that holds
  // v, or a later one of that part, by a search without branches.
  std::uint32_t cluster_of_chance(const float* row, const std::uint16_t* bins, float v) const {
    const auto bin = static_cast<std::size_t>(v * kBins);
    const float* first = row + 1 + bins[bin];
    std::size_t left = static_cast<std::size_t>(bins[bin + 1] - bins[bin]);
    while (left > 0) {
      const std::size_t half = (left + 1) / 2;
      first += half * static_cast<std::size_t>(first[half - 1] <= v);  // no branch: half go wrong
      left -= half;
    }
    return static_cast<std::uint32_t>(first - row - 1);
  }
  // The `side` of a virtual light for cluster_at().
  Vec3 side_of(const VirtualLight& y) const;
  void fill_bins();
  VirtualLightSet sorted(const std::vector<VirtualLight>& lights) const;

  const Scene& scene_;
  const Guide& guide_;
  Plan plan_;
  Bounds entry_;  // of all bounded surfaces and all haze: where light from far enters
  std::vector<std::uint8_t> carried_;
  std::vector<std::uint32_t> place_of_;  // of each emitter among those below; kNoIndex: none
  bool carries_all_ = true;
  std::vector<Emitter> aims_;             // without falloff and tint by position
  std::vector<std::uint32_t> emitters_;   // that are carried
  std::vector<Emission> emission_;        // of these,
  std::vector<double> light_cumulative_;  // with chances up to each
  std::vector<Node> nodes_;               // of clusters on surfaces from 0 on
  std::uint32_t haze_root_ = kNoIndex;
  std::size_t clusters_ = 0;
  std::vector<float> density_;  // 1 / size of each cluster
  std::vector<float> kept_;     // the part of each cluster's virtual lights that sets keep
  std::vector<float> rows_;     // of cells of surfaces, then of haze; clusters_ + 1 each
  // Of each row and cluster, the part of the cluster's light that is expected to arrive.
  std::vector<float> arrives_;
  // Of each row, the clusters where its parts of equal chance begin, and the last cluster.
  std::vector<std::uint16_t> bins_;
};

inline VirtualLights::Candidate VirtualLights::candidate(const VirtualLightSet& set,
                                                         const float* row,
                                                         const std::uint16_t* bins,
                                                         float u_cluster,
                                                         float u_place) const {
  const std::uint32_t cluster = cluster_of_chance(row, bins, u_cluster), first = set.begin[cluster],
                      count = set.begin[cluster + 1] - first;
  if (count == 0) {
    return {cluster, 0, 0};
  }
  const auto place = static_cast<std::uint32_t>(u_place * static_cast<float>(count));
  return {cluster, first + std::min(place, count - 1), count};
}

template <class Target>
VirtualLights::Pick VirtualLights::pick(const VirtualLightSet& set,
                                        const float* row,
                                        const float* arrives,
                                        const Candidate* candidates,
                                        float u,
                                        const Target& target) const {
  using Floats = VirtualLightLanes::Floats;
  VirtualLightLanes lanes;
  for (std::size_t m = 0; m < kCandidates; ++m) {
    lanes.lights[m] = &set.sketches[candidates[m].index];
    lanes.clusters[m] = candidates[m].cluster;
  }
  lanes.chances = VirtualLightLanes::each(
      [&](std::size_t m) { return row[lanes.clusters[m] + 1] - row[lanes.clusters[m]]; });
  const Floats arriving =
      VirtualLightLanes::each([&](std::size_t m) { return arrives[lanes.clusters[m]]; });
  const Floats of_cluster = VirtualLightLanes::each(
      [&](std::size_t m) { return static_cast<float>(candidates[m].of_cluster); });
  const Floats targets = target(lanes) * arriving;
  const Floats w = targets * of_cluster / lanes.chances;
  // What cannot be chosen has no weight, nor has what is not a number.
  const Floats weights = ((lanes.chances > 0) & (w > 0)) ? w : Floats{};
  static_assert(kCandidates == 4);
  const float first = weights[0], two = first + weights[1], three = two + weights[2],
              sum = three + weights[3];
  if (!(sum > std::numeric_limits<float>::min())) {
    return {kNoIndex, 0};
  }
  // The one that holds u of the sum: by counting, for branches would be predicted wrongly. u < 1
  // leaves the product below the sum, but for numbers so small that they have fewer digits.
  const float place = u * sum;
  const auto chosen = static_cast<std::uint32_t>(first <= place) +
                      static_cast<std::uint32_t>(two <= place) +
                      static_cast<std::uint32_t>(three <= place);
  return {candidates[chosen].index, sum / (kCandidates * targets[chosen])};
}

template <class Target, class Use>
void VirtualLights::choose_each(const VirtualLightSet& set,
                                const float* row,
                                std::uint32_t count,
                                const Vec2& u,
                                float u_choice,
                                const Target& target,
                                const Use& use) const {
  constexpr float kGolden = 0.618034f, kOneLess = 0x1.fffffep-1f;
  constexpr std::size_t kCacheLine = 64;
  std::array<Candidate, kMostChosen * kCandidates> candidates;  // NOLINT: filled before use
  std::array<Pick, kMostChosen> picks;                          // NOLINT: filled before use
  const std::size_t number = row_number(row);
  const std::uint16_t* const bins = bins_.data() + number * (kBins + 1);
  const float* const arrives = arrives_.data() + number * clusters_;
  if (set.lights.empty()) {
    return;
  }
  // All candidates are fetched before the first is looked at, and all that are chosen before the
  // first is used: most lie in no near cache.
  for (std::uint32_t i = 0; i < count; ++i) {
    const Vec2 strip = in_strip(u, i, count);
    for (std::uint32_t m = 0; m < kCandidates; ++m) {
      const float place = strip.y() + static_cast<float>(m) * kGolden;
      Candidate& c = candidates[i * kCandidates + m];
      c = candidate(set,
                    row,
                    bins,
                    std::min((static_cast<float>(m) + strip.x()) / kCandidates, kOneLess),
                    place - static_cast<float>(static_cast<int>(place)));
      __builtin_prefetch(set.sketches.data() + c.index);
      __builtin_prefetch(arrives + c.cluster);
    }
  }
  for (std::uint32_t i = 0; i < count; ++i) {
    picks[i] = pick(set,
                    row,
                    arrives,
                    candidates.data() + i * kCandidates,
                    with_other_digits({u_choice, 0}, i).x(),
                    target);
    if (picks[i].light != kNoIndex) {
      const auto* const bytes = reinterpret_cast<const char*>(&set.lights[picks[i].light]);
      for (std::size_t at = 0; at < sizeof(VirtualLight); at += kCacheLine) {
        __builtin_prefetch(bytes + at);
      }
    }
  }
  for (std::uint32_t i = 0; i < count; ++i) {
    if (picks[i].light != kNoIndex) {
      use(set.lights[picks[i].light], picks[i].weight / static_cast<float>(count));
    }
  }
}

}  // namespace jovilux
