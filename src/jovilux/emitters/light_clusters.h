#pragma once

#include "jovilux/emitters/emitter.h"
#include "jovilux/emitters/light_board.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace jovilux {

/// What lights are chosen for: a side of a surface, haze (or a translucent surface, lit from both
/// sides) at a point, or haze along a ray.
struct LightQuery {
  enum class Kind { kSurface, kPoint, kRay } kind = Kind::kPoint;
  Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
  Ray ray;
  float end = kFar;
  std::uint64_t links = ~std::uint64_t{0};

  static LightQuery surface(const Vec3& p, const Vec3& n, std::uint64_t links) {
    return {Kind::kSurface, p, n, {}, kFar, links};
  }
  static LightQuery point(const Vec3& p, std::uint64_t links) {
    return {Kind::kPoint, p, Vec3::UnitZ(), {}, kFar, links};
  }
  static LightQuery along(const Ray& ray, float end, std::uint64_t links) {
    return {Kind::kRay, ray.origin, Vec3::UnitZ(), ray, end, links};
  }
};

/// What a light could bring: expected_illuminance, expected_fluence or expected_along.
float expected(const Emitter& e, const LightQuery& query);

/// A light chosen among many.
struct LightChoice {
  std::uint32_t index = kNoIndex;  ///< kNoIndex: none was found
  float chance = 0;                ///< that it was chosen
  // What LightClusters::chance needs:
  float total = 0;  ///< of what all could bring
  float faint = 0;  ///< lights below are judged by a bound; 0: none
};

/// Lights to sample toward at one place: some for certain, and one chosen among the others.
struct LightSet {
  static constexpr std::size_t kMostCertain = 3;
  std::array<std::uint32_t, kMostCertain> certain{};
  std::size_t certain_count = 0;
  LightChoice
      other;        ///< its chance includes `asked`; its total is what LightClusters::chance needs
  float asked = 1;  ///< chance that another light is sampled toward at all
  float least = 0;  ///< added to each slot's arriving share, so that no light starves

  bool is_certain(std::uint32_t light) const {
    const auto end = certain.begin() + certain_count;
    return std::find(certain.begin(), end, light) != end;
  }
};

/// Lights sorted by place, direction and power. Choosing one looks at some tens of estimates
/// however many there are: first among the lights that stand alone (of the sky, endless, with a law
/// of their own), the lights nearby, and clusters of lights seen from afar, each by what it could
/// bring; in a cluster down the tree by what each side could bring at most; at the end among few
/// lights, by what each could bring. Up to `all_alone` lights all stand alone:
/// the choice is then in proportion to what each could bring.
/// Source: A. Conty Estevez, C. Kulla, "Importance Sampling of Many Lights with Adaptive Tree
/// Splitting", PACMCGIT 1(2), 2018, for the bounds of clusters.
class LightClusters {
 public:
  LightClusters() = default;
  explicit LightClusters(const std::vector<Emitter>& lights, std::size_t all_alone = kAllAlone);

  static constexpr std::size_t kAllAlone = 48;

  /// `lights` here and below: those that it was made from. u in [0, 1).
  LightChoice choose(const std::vector<Emitter>& lights, const LightQuery& query, float u) const;
  /// The same for several u at once: the lights are looked at once. `out` is as long as `u`.
  void choose_each(const std::vector<Emitter>& lights,
                   const LightQuery& query,
                   std::span<const float> u,
                   std::span<LightChoice> out) const;
  /// The chance that choose finds this light, for a query whose total is known (> 0).
  float chance(const std::vector<Emitter>& lights,
               const LightQuery& query,
               std::uint32_t light,
               float total) const;
  /// The same from any of that query's choices.
  float chance(const std::vector<Emitter>& lights,
               const LightQuery& query,
               std::uint32_t light,
               const LightChoice& choice) const;
  /// The same where it is known what share of each slot's light arrives: a light is chosen in
  /// proportion to what it could bring times that share, and for a small part without it. Up to
  /// `most_certain` lights that bring much are sampled toward for certain.
  LightSet choose_set(const std::vector<Emitter>& lights,
                      const LightQuery& query,
                      float u,
                      std::span<const float> arrives,
                      std::size_t most_certain) const;
  /// The expected number of samples toward a light of this set: a whole number for the certain
  /// ones, a chance for the others.
  float chance(const std::vector<Emitter>& lights,
               const LightQuery& query,
               std::uint32_t light,
               const LightSet& set,
               std::span<const float> arrives) const;
  /// Lights are told apart in so many groups, by power and place, for what arrives of each.
  std::size_t slots() const { return slots_; }
  std::uint32_t slot_of(std::uint32_t light) const { return slot_[light]; }

  /// The sum that choose divides by.
  float total(const std::vector<Emitter>& lights, const LightQuery& query) const;

  std::size_t memory_bytes() const {
    return nodes_.size() * sizeof(Node) +
           (alone_.size() + order_.size() + 2 * place_.size()) * sizeof(std::uint32_t);
  }

 private:
  static constexpr std::size_t kLeaf = 4, kDeepest = 96;

  // A cluster: a ball that holds the lights, a cone that holds their axes and how far around it
  // they shine.
  struct Node {
    Vec3 center = Vec3::Zero();
    float radius = 0;
    // Of the box around the lights, which lies around the center.
    Vec3 half = Vec3::Zero();
    Vec3 mean = Vec3::Zero();                           // of the places, by power
    Eigen::Matrix3f scatter = Eigen::Matrix3f::Zero();  // their covariance [m^2]
    bool flat_axes = false;                             // all shine by the cosine around one axis
    Vec3 axis = Vec3::UnitZ();
    float cos_axes = 1, sin_axes = 0;    // half of the cone of axes
    float cos_around = -1;               // farthest direction from an axis that light goes
    float power = 0;                     // sum of the highest intensities [cd]
    std::uint64_t links = 0;             // lists that let some of them reach
    bool unlinked = false;               // some of them reach all
    std::uint32_t first = 0, count = 0;  // of order_; count 0: an inner node
    std::uint32_t children = 0;          // the first of two
    std::uint32_t parent = kNoIndex;
  };
  struct Builder;

  float estimate(const Node& node, const LightQuery& query) const;
  bool could_reach(const Node& node, const LightQuery& query) const;
  bool is_near(const Node& node, const LightQuery& query) const;
  // Whether a node is looked into rather than taken as a whole.
  bool is_open(std::uint32_t node, const LightQuery& query, bool by_slot) const {
    return (by_slot && node_slot_[node] == kNoIndex) || is_near(nodes_[node], query);
  }
  // A light that stands alone, or a cluster (light: kNoIndex), and what it is expected to bring.
  struct Entry {
    float x;
    std::uint32_t light, node;
    float arrives;
  };
  // Moves the largest of the entries, `most` >= 1 of them, that bring much of `total` to the lights
  // of `set` that are sampled toward for certain.
  void take_certain(
      std::span<Entry> entries, float total, bool by_slot, std::size_t most, LightSet& set) const;
  // The entry at `target` of the sum `total`, and a light of it.
  LightChoice picked(std::span<const Entry> entries,
                     float target,
                     float total,
                     const std::vector<Emitter>& lights,
                     const LightQuery& query) const;
  struct Entries;
  // All that could bring something, with the share of each slot's light that arrives (empty: 1);
  // valid until the thread looks again.
  Entries& look_at_all(const std::vector<Emitter>& lights,
                       const LightQuery& query,
                       std::span<const float> arrives) const;
  // Puts the lights that stand alone on the board as far as it holds them.
  void lay_out_alone(const std::vector<Emitter>& lights);
  void number_slots(std::size_t lights);
  LightChoice down_from(std::uint32_t node,
                        float v,
                        const std::vector<Emitter>& lights,
                        const LightQuery& query) const;
  float chance_below(std::uint32_t light,
                     const std::vector<Emitter>& lights,
                     const LightQuery& query,
                     bool by_slot,
                     float own,
                     std::uint32_t& top) const;

  // Of a light that stands alone and is not on the board: its ball and highest intensity [cd];
  // power 0: it is always looked at in full.
  struct Rough {
    Vec3 center = Vec3::Zero();
    float reach = 0, power = 0;
  };
  static float rough_value(const Rough& r, const LightQuery& query);
  // Lights whose rough value is below this are chosen by it: next to the brightest here they matter
  // so little that a full look is not worth its time. The result depends on the query only.
  // `brightest`: what the brightest light of the board could bring.
  float faint_below(const std::vector<Emitter>& lights,
                    const LightQuery& query,
                    float brightest) const;
  // What the lights of the board could bring; the highest of it.
  float look_at_board(const LightQuery& query, LightBoard::Values& values) const;
  // What a light that stands alone is chosen by.
  float alone_value(const std::vector<Emitter>& lights,
                    std::uint32_t light,
                    const LightQuery& query,
                    float faint) const;

  // The only light that shines, where it stands alone and may reach every place.
  std::uint32_t sole_ = kNoIndex;
  std::vector<std::uint32_t> alone_, order_;
  // Of the lights that stand alone: those of the board by their columns there, and the others.
  LightBoard board_;
  std::vector<std::uint32_t> on_board_, off_board_;
  std::vector<std::uint32_t> board_slots_;  // of each column
  std::vector<std::uint32_t> column_;       // of each light; kNoIndex: it is not on the board
  std::vector<Rough> rough_;                // of each light
  std::size_t rough_count_ = 0;
  std::vector<std::uint32_t> place_;  // of each light, its leaf; kNoIndex: it stands alone
  std::vector<Node> nodes_;
  std::size_t slots_ = 0;
  std::vector<std::uint32_t> slot_;       // of each light
  std::vector<std::uint32_t> node_slot_;  // of each node; kNoIndex: its lights have several
};

}  // namespace jovilux
