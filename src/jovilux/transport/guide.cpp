#include "jovilux/transport/guide.h"

#include "jovilux/base/parallel.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <optional>

namespace jovilux {
namespace {

// A cell is halved where it has more records than this, and as many of light that arrives.
constexpr std::size_t kCellRecords = 256, kCellArrivals = 400;
// Where no directions are learned, which take the most records to tell: more scatterings than this,
// and as many shadow rays.
constexpr std::size_t kLightCellRecords = 48, kLightCellArrivals = 200;
// And so many shadow rays for each slot of lights: few of them tell little of what arrives.
constexpr std::size_t kArrivalsOfSlot = 8;
// About so many cells at most: each is compared with all clusters of virtual lights.
constexpr std::size_t kMostLightCells = 3000;
constexpr int kDeepestCell = 22;
// Where photons alone tell directions, a cell with fewer of them guides none.
constexpr std::size_t kLeastPhotonsOfCell = 8;
// Of directions chosen by a tree, this share is even over the sphere.
constexpr float kUniform = 0.05f;
// How many records of a cell its parent's share of arriving light counts for.
constexpr double kParentCounts = 6;
// Shares of directions that a cell may choose by its tree; that with the least second moment is
// taken. The largest leaves enough to surfaces and phase functions for what no record has met.
constexpr std::array<float, 5> kShares = {0, 0.3f, 0.5f, 0.7f, 0.85f};
constexpr std::size_t kFirst = 2;  // before anything is known
// A cell with fewer records that bring light has the share that is best for all cells together.
constexpr std::size_t kTellingRecords = 24;
// Directions are left to surfaces and phase functions where guiding gains less than this (the
// logarithm of a factor): points of a low-discrepancy sequence lose some of their evenness by it.
constexpr double kLeastGain = 0.55;
// Directions are guided where they bring at least this much of what lights do that are sampled
// toward.
constexpr double kLeastPart = 0.5;
// Balls that send light on: so many parts of all photons at most, of which a cell aims at a few
// that bring it at least this share of its light and look small.
constexpr int kBallHalvings = 8, kBallHalvingsOfCell = 12;
constexpr float kMostOfHalves = 0.6f;
constexpr std::size_t kLeastBall = 48, kLeastBallOfCell = 4, kMostTargets = 16;
constexpr double kLeastTarget = 0.01;
constexpr float kWidestTarget = 0.6f;  // radius over distance
// Balls of a few photons grow by this over the root of their number.
constexpr float kBetweenPhotons = 2;
// Radius over distance; narrower cones would be a matter of rounding.
constexpr float kNarrowest = 2e-4f;
// Photons count as far around a cell's records as this share of their box.
constexpr float kBeside = 0.15f;

// How much likelier the directions that bring light become by each share: of what they bring, the
// mean logarithm of the mixed density over the surface's own. By logarithms, not by second moments,
// which a few unlikely paths decide.
struct Likelihoods {
  std::array<double, kShares.size()> of_share{};
  double weight = 0;
  std::size_t count = 0, visits = 0;  // scatterings that brought light, and all

  void add(const ScatteringRecord& r, double most) {
    ++visits;
    if (!(r.guide_pdf > 0) || !(r.own_pdf > 0) || !(r.brought > 0)) {
      return;
    }
    const double w = std::min(static_cast<double>(r.brought), most);
    const double ratio = static_cast<double>(r.guide_pdf) / r.own_pdf;
    for (std::size_t k = 0; k < kShares.size(); ++k) {
      const auto share = static_cast<double>(kShares[k]);
      of_share[k] += w * std::log(share * ratio + 1 - share);
    }
    weight += w;
    ++count;
  }
  // Another cell's, which counts by how often paths come there, not by how bright it is.
  void add(const Likelihoods& o) {
    for (std::size_t k = 0; k < kShares.size() && o.weight > 0; ++k) {
      of_share[k] += static_cast<double>(o.visits) * o.of_share[k] / o.weight;
    }
    weight += o.weight > 0 ? static_cast<double>(o.visits) : 0;
    count += o.count;
    visits += o.visits;
  }
  double bringing() const {
    return visits > 0 ? static_cast<double>(count) / static_cast<double>(visits) : 1;
  }
  bool is_rare() const { return bringing() < 0.2; }
  double gain(std::size_t k) const { return weight > 0 ? of_share[k] / weight : 0; }
  // The best share, or none where even that gains little.
  std::size_t chosen() const {
    const auto k = static_cast<std::size_t>(std::max_element(of_share.begin(), of_share.end()) -
                                            of_share.begin());
    // Where few directions bring anything, little is needed to be better.
    // Where hardly any does, too few have been met to tell: half of the directions are guided.
    if (is_rare()) {
      return std::max(k, kFirst);
    }
    return gain(k) <= kLeastGain * std::min(1.0, 2 * bringing()) ? 0 : k;
  }
};

// Places that scatter light, in balls: halves of halves of where photons were scattered.
class Balls {
 public:
  // `only_apart`: halved only where the halves lie apart.
  explicit Balls(const std::vector<PhotonRecord>& photons, bool only_apart = false)
      : halvings_(only_apart ? kBallHalvingsOfCell : kBallHalvings), only_apart_(only_apart) {
    std::vector<Vec3> places;
    places.reserve(photons.size());
    for (const PhotonRecord& r : photons) {
      places.push_back(r.source);
    }
    nodes_.resize(1);
    halve(0, places, 0);
  }
  std::size_t count() const { return balls_.size(); }
  const GuideTarget& ball(std::size_t number) const { return balls_[number]; }
  // The ball that a place belongs to; none where it lies outside.
  std::optional<std::uint32_t> at(const Vec3& p) const {
    std::uint32_t index = 0;
    while (nodes_[index].axis < 3) {
      index = nodes_[index].child + (p[nodes_[index].axis] >= nodes_[index].cut ? 1 : 0);
    }
    const GuideTarget& b = balls_[nodes_[index].child];
    return (p - b.center).squaredNorm() <= b.radius * b.radius ? std::optional(nodes_[index].child)
                                                               : std::nullopt;
  }

 private:
  struct Node {
    float cut = 0;
    std::uint8_t axis = 3;
    std::uint32_t child = 0;
  };

  // Around the mean of some places, and the box that holds them.
  struct Extent {
    GuideTarget ball;
    Vec3 lo = Vec3::Constant(1e30f), hi = Vec3::Constant(-1e30f);
  };
  static Extent extent_of(std::span<const Vec3> places) {
    Extent out;
    Vec3d mean = Vec3d::Zero();
    for (const Vec3& p : places) {
      out.lo = out.lo.cwiseMin(p);
      out.hi = out.hi.cwiseMax(p);
      mean += p.cast<double>() / static_cast<double>(places.size());
    }
    out.ball.center = mean.cast<float>();
    for (const Vec3& p : places) {
      out.ball.radius = std::max(out.ball.radius, (p - out.ball.center).norm());
    }
    return out;
  }

  void halve(std::uint32_t index, std::span<Vec3> places, int depth) {
    const Extent own = extent_of(places);
    int axis = 0;
    const float longest = places.empty() ? 0 : (own.hi - own.lo).maxCoeff(&axis);
    const std::size_t least = only_apart_ ? kLeastBallOfCell : kLeastBall;
    if (depth < halvings_ && places.size() > least && longest > 0) {
      // In the middle of the box some few that lie apart are left alone.
      const float cut = only_apart_ ? 0.5f * (own.lo[axis] + own.hi[axis]) : own.ball.center[axis];
      const auto middle = std::stable_partition(
          places.begin(), places.end(), [&](const Vec3& p) { return p[axis] < cut; });
      const auto left = static_cast<std::size_t>(middle - places.begin());
      if (left > 0 && left < places.size() && pays(places, left, own.ball.radius)) {
        const auto child = static_cast<std::uint32_t>(nodes_.size());
        nodes_.resize(nodes_.size() + 2);
        nodes_[index] = {cut, static_cast<std::uint8_t>(axis), child};
        halve(child, places.first(left), depth + 1);
        halve(child + 1, places.subspan(left), depth + 1);
        return;
      }
    }
    nodes_[index].child = static_cast<std::uint32_t>(balls_.size());
    balls_.push_back({own.ball.center, own.ball.radius * 1.02f + 1e-6f, 0});
  }
  // Whether the halves fill much less of what is seen of a ball: those of a lamp's image do not,
  // two images do.
  bool pays(std::span<const Vec3> places, std::size_t left, float radius) const {
    return !only_apart_ || sqr(extent_of(places.first(left)).ball.radius) +
                                   sqr(extent_of(places.subspan(left)).ball.radius) <
                               kMostOfHalves * sqr(radius);
  }

  int halvings_;
  bool only_apart_;
  std::vector<Node> nodes_;
  std::vector<GuideTarget> balls_;
};

// The cosine of the cone around a ball as seen from p; -1: p lies in it.
float cone_cosine(const GuideTarget& t, const Vec3& to) {
  const float d2 = to.squaredNorm(), r2 = t.radius * t.radius;
  return d2 > r2 * 1.0001f ? std::sqrt(1 - r2 / d2) : -1.0f;
}

// Rounding of directions.
constexpr float kRim = 2e-7f;

// 1 - cos without cancellation.
float cone_height(const GuideTarget& t, const Vec3& to, float cosine) {
  return cosine < 0 ? 2.0f : t.radius * t.radius / to.squaredNorm() / (1 + cosine);
}

}  // namespace

Vec3 GuideTree::sample(const GuideCell& c, const Vec3& p, Vec2 u, float& pdf) const {
  constexpr float kBelowOne = 0x1.fffffep-1f;
  Vec3 direction;
  if (u.x() < c.by_targets) {
    float v = u.x() / c.by_targets;
    const GuideTarget* t = &targets_[c.first_target];
    const GuideTarget* const last = t + c.target_count - 1;
    for (; t < last && v >= t->weight; ++t) {
      v -= t->weight;
    }
    v = std::clamp(v / t->weight, 0.0f, kBelowOne);
    const Vec3 to = t->center - p;
    const float cosine = cone_cosine(*t, to), height = v * cone_height(*t, to, cosine),
                sine = std::sqrt(std::max(0.0f, height * (2 - height))), phi = 2 * kPi * u.y();
    const Vec3 axis = cosine < 0 ? Vec3(Vec3::UnitZ()) : Vec3(to.normalized());
    direction = Frame::around(axis)
                    .to_world({sine * std::cos(phi), sine * std::sin(phi), 1 - height})
                    .normalized();
  } else {
    u.x() = std::clamp((u.x() - c.by_targets) / (1 - c.by_targets), 0.0f, kBelowOne);
    float by_tree = 0;
    direction = sample_directions(directions_, c.directions, u, by_tree);
  }
  pdf = this->pdf(c, p, direction);
  return direction;
}

float GuideTree::pdf(const GuideCell& c, const Vec3& p, const Vec3& direction) const {
  float by_targets = 0;
  for (std::uint32_t k = c.first_target; k < c.first_target + c.target_count; ++k) {
    const GuideTarget& t = targets_[k];
    const Vec3 to = t.center - p;
    const float cosine = cone_cosine(t, to), along = to.dot(direction);
    // Across the cone's axis, for 1 - cos of a narrow one is all rounding; a rounding wider than
    // the cone that is sampled.
    const float rim = t.radius + kRim * to.norm();
    if (cosine < 0 || (along > 0 && (to - along * direction).squaredNorm() < rim * rim)) {
      by_targets += t.weight / cone_height(t, to, cosine);
    }
  }
  return c.by_targets * by_targets * (0.5f / kPi) +
         (1 - c.by_targets) * directions_pdf(directions_, c.directions, direction);
}

struct GuideTree::Builder {
  GuideTree& tree;
  const std::vector<ScatteringRecord>& scatterings;
  const std::vector<PhotonRecord>& photons;
  const std::vector<LightRecord>& lights;
  const Balls* balls;      // null: of each cell's photons
  std::size_t newest = 0;  // the first of the last round's scatterings
  bool directions = true;
  PhotonCells photon_cells = {};  // where photons alone tell directions
  std::size_t most_records = kCellRecords, most_arrivals = kCellArrivals;
  std::vector<std::uint32_t> order, photon_order, light_order;
  struct Leaf {
    std::size_t begin, end;
    std::size_t photon_begin, photon_end;
    std::size_t light_begin, light_end;
  };
  std::vector<Leaf> leaves;
  struct Arrived {
    double sent = 0, arrived = 0;
    std::size_t count = 0;
  };

  // A tree for each side that has records enough. The last has all other records, and some of each
  // side's, for places where no record was.
  void grow_sides() {
    constexpr std::size_t kLeastOfSide = 128, kSomeOfSide = 8;
    std::array<std::size_t, kSides> counts{};
    for (const ScatteringRecord& r : scatterings) {
      ++counts[side_of(r.normal)];
    }
    for (std::uint32_t side = 0; side < kNoSide; ++side) {
      counts[side] = counts[side] < kLeastOfSide ? 0 : counts[side];
    }
    const auto belongs = [&](const Vec3& normal, std::size_t i, std::uint32_t side) {
      const std::uint32_t own = side_of(normal);
      const bool stands_alone = own != kNoSide && counts[own] > 0;
      return side == kNoSide ? !stands_alone || i % kSomeOfSide == 0 : own == side;
    };
    const auto add = [&](const auto& records,
                         std::uint32_t side,
                         std::vector<std::uint32_t>& to,
                         const auto& normal_of) {
      for (std::size_t i = 0; i < records.size(); ++i) {
        if (belongs(normal_of(records[i]), i, side)) {
          to.push_back(static_cast<std::uint32_t>(i));
        }
      }
    };
    tree.nodes_.resize(kSides);
    for (std::uint32_t side = 0; side < kSides; ++side) {
      if (side != kNoSide && counts[side] == 0) {
        continue;
      }
      const std::size_t begin = order.size(), photon_begin = photon_order.size(),
                        light_begin = light_order.size();
      const auto normal = [](const auto& r) -> const Vec3& { return r.normal; };
      add(scatterings, side, order, normal);
      add(photons, side, photon_order, normal);
      add(lights, side, light_order, normal);
      // Before anything is known, all of a light arrives.
      halve(side,
            begin,
            order.size(),
            photon_begin,
            photon_order.size(),
            light_begin,
            light_order.size(),
            0,
            std::vector<double>(tree.slots_, 1.0));
    }
    for (std::uint32_t side = 0; side < kNoSide; ++side) {
      if (counts[side] == 0) {
        tree.nodes_[side] = tree.nodes_[kNoSide];
      }
    }
  }

  // Halves order[begin, end) by the mean place along the longest side of the records' box.
  void halve(std::uint32_t index,
             std::size_t begin,
             std::size_t end,
             std::size_t photon_begin,
             std::size_t photon_end,
             std::size_t light_begin,
             std::size_t light_end,
             int depth,
             const std::vector<double>& parent) {
    const std::vector<double> share = arrived_share(light_begin, light_end, parent);
    Vec3 lo = Vec3::Constant(1e30f), hi = -lo;
    Vec3d mean = Vec3d::Zero();
    std::size_t arrivals = directions ? photon_end - photon_begin : light_end - light_begin;
    for (std::size_t i = begin; i < end; ++i) {
      arrivals += directions && scatterings[order[i]].arriving > 0 ? 1 : 0;
      const Vec3& p = scatterings[order[i]].p;
      lo = lo.cwiseMin(p);
      hi = hi.cwiseMax(p);
      mean += p.cast<double>();
    }
    const std::size_t count = end - begin;
    int axis = 0;
    const float longest = count > 0 ? (hi - lo).maxCoeff(&axis) : 0;
    if (count > most_records && arrivals > most_arrivals && depth < kDeepestCell && longest > 0) {
      const auto cut = static_cast<float>(mean[axis] / static_cast<double>(count));
      const auto right = [&](const Vec3& p) { return p[axis] >= cut; };
      const auto middle =
          std::stable_partition(order.begin() + static_cast<std::ptrdiff_t>(begin),
                                order.begin() + static_cast<std::ptrdiff_t>(end),
                                [&](std::uint32_t i) { return !right(scatterings[i].p); });
      const auto photon_middle =
          std::stable_partition(photon_order.begin() + static_cast<std::ptrdiff_t>(photon_begin),
                                photon_order.begin() + static_cast<std::ptrdiff_t>(photon_end),
                                [&](std::uint32_t k) { return !right(photons[k].p); });
      const auto light_middle =
          std::stable_partition(light_order.begin() + static_cast<std::ptrdiff_t>(light_begin),
                                light_order.begin() + static_cast<std::ptrdiff_t>(light_end),
                                [&](std::uint32_t i) { return !right(lights[i].p); });
      const auto at = static_cast<std::size_t>(middle - order.begin()),
                 photon_at = static_cast<std::size_t>(photon_middle - photon_order.begin()),
                 light_at = static_cast<std::size_t>(light_middle - light_order.begin());
      if (at > begin && at < end) {
        const auto child = static_cast<std::uint32_t>(tree.nodes_.size());
        tree.nodes_.resize(tree.nodes_.size() + 2);
        tree.nodes_[index] = {cut, static_cast<std::uint8_t>(axis), child};
        halve(child, begin, at, photon_begin, photon_at, light_begin, light_at, depth + 1, share);
        halve(child + 1, at, end, photon_at, photon_end, light_at, light_end, depth + 1, share);
        return;
      }
    }
    tree.nodes_[index].child = static_cast<std::uint32_t>(leaves.size());
    leaves.push_back({begin, end, photon_begin, photon_end, light_begin, light_end});
    for (const double s : share) {
      tree.arrives_.push_back(static_cast<float>(s));
    }
  }

  // Of each slot, what share of its light arrives: the records', with the parent's share in place
  // of a few more.
  std::vector<double> arrived_share(std::size_t begin,
                                    std::size_t end,
                                    const std::vector<double>& parent) const {
    std::vector<Arrived> of_slot(tree.slots_);
    for (std::size_t i = begin; i < end; ++i) {
      const LightRecord& r = lights[light_order[i]];
      Arrived& a = of_slot[r.slot];
      a.sent += static_cast<double>(r.sent);
      a.arrived += static_cast<double>(r.arrived);
      ++a.count;
    }
    std::vector<double> out(tree.slots_);
    for (std::size_t s = 0; s < out.size(); ++s) {
      const Arrived& a = of_slot[s];
      const double seen = a.sent > 0 ? std::min(1.0, a.arrived / a.sent) : 0;
      const auto n = static_cast<double>(a.count);
      out[s] = (n * seen + kParentCounts * parent[s]) / (n + kParentCounts);
    }
    return out;
  }

  void fill_cells() {
    tree.cells_.resize(leaves.size());
    std::vector<std::vector<DirectionNode>> trees(leaves.size());
    std::vector<Likelihoods> likelihoods(leaves.size());
    std::vector<Aim> aims(leaves.size());
    parallel_for(leaves.size(), [&](std::size_t l) {
      std::vector<DirectionSample> samples;
      aims[l] = aim(leaves[l], samples);
      likelihoods[l] = likelihoods_of(leaves[l]);
      add_direction_tree(samples, kUniform, trees[l]);
    });
    Likelihoods all;
    for (const Likelihoods& m : likelihoods) {
      all.add(m);
    }
    const std::size_t common = all.count >= kTellingRecords ? all.chosen() : kFirst;
    double gained = 0;
    for (std::size_t l = 0; l < leaves.size(); ++l) {
      const auto root = static_cast<std::uint32_t>(tree.directions_.size());
      for (DirectionNode n : trees[l]) {
        for (std::uint32_t& child : n.child) {
          child += child != 0 ? root : 0;
        }
        tree.directions_.push_back(n);
      }
      tree.cells_[l].directions = root;
      tree.cells_[l].first_target = static_cast<std::uint32_t>(tree.targets_.size());
      tree.cells_[l].target_count = static_cast<std::uint32_t>(aims[l].targets.size());
      tree.cells_[l].by_targets = aims[l].share;
      tree.targets_.insert(tree.targets_.end(), aims[l].targets.begin(), aims[l].targets.end());
      const Likelihoods& own = likelihoods[l];
      const std::size_t k = own.count >= kTellingRecords ? own.chosen() : common;
      const bool knows = (aims[l].share > 0 || trees[l].size() > 1) && matters(leaves[l]);
      tree.cells_[l].share = knows ? kShares[k] : 0;
      // Of cells where hardly any direction brings light, what is told is too little.
      constexpr double kGainOfRare = 0.5;
      gained += static_cast<double>(own.visits) * (own.is_rare()   ? kGainOfRare
                                                   : own.count > 0 ? own.gain(k)
                                                                   : 0.0);
    }
    constexpr double kUnknown = 2;
    tree.gain_ = all.count >= kTellingRecords ? std::exp(gained / static_cast<double>(all.visits))
                                              : kUnknown;
  }

  // Whether light that directions bring is a good part of what falls on a cell, beside lights that
  // are sampled toward.
  bool matters(const Leaf& leaf) const {
    double brought = 0, lit = 0;
    for (std::size_t i = leaf.begin; i < leaf.end; ++i) {
      brought += static_cast<double>(scatterings[order[i]].arriving);
    }
    for (std::size_t i = leaf.light_begin; i < leaf.light_end; ++i) {
      lit += static_cast<double>(lights[light_order[i]].lit);
    }
    return brought > kLeastPart * lit;
  }

  // Only the newest records had a guide that is like this one.
  Likelihoods likelihoods_of(const Leaf& leaf) const {
    Likelihoods out;
    double sum = 0;
    for (std::size_t i = leaf.begin; i < leaf.end; ++i) {
      sum += order[i] >= newest ? static_cast<double>(scatterings[order[i]].brought) : 0.0;
    }
    constexpr double kMostOfOne = 0.1;
    for (std::size_t i = leaf.begin; i < leaf.end; ++i) {
      if (order[i] >= newest) {
        out.add(scatterings[order[i]], kMostOfOne * sum);
      }
    }
    return out;
  }

  // What a cell aims at.
  struct Aim {
    std::vector<GuideTarget> targets;
    float share = 0;  // of the guide's directions
  };
  // Light that arrives in a cell, and the ball that sent it.
  struct Arrival {
    DirectionSample sample;
    std::optional<std::uint32_t> ball;
  };

  // The targets of a cell; what comes from elsewhere is left in `rest`.
  Aim aim(const Leaf& leaf, std::vector<DirectionSample>& rest) const {
    Vec3 lo = Vec3::Constant(1e30f), hi = -lo;
    const std::optional<Balls> own =
        balls == nullptr ? std::optional(balls_of(leaf)) : std::nullopt;
    const Balls& balls_here = own ? *own : *balls;
    const std::vector<Arrival> arrivals = arrivals_of(leaf, balls_here, lo, hi);
    std::map<std::uint32_t, double> of_ball;
    double all = 0;
    for (const Arrival& a : arrivals) {
      all += static_cast<double>(a.sample.weight);
      if (a.ball) {
        of_ball[*a.ball] += static_cast<double>(a.sample.weight);
      }
    }
    const Vec3 middle = 0.5f * (lo + hi);
    std::vector<std::pair<double, std::uint32_t>> best;
    for (const auto& [ball, weight] : of_ball) {
      const GuideTarget& t = balls_here.ball(ball);
      const bool small = t.radius < kWidestTarget * (t.center - middle).norm();
      if (weight >= kLeastTarget * all && small) {
        best.emplace_back(-weight, ball);
      }
    }
    std::sort(best.begin(), best.end());
    best.resize(std::min(best.size(), kMostTargets));
    Aim out;
    double aimed = 0;
    for (const auto& [weight, ball] : best) {
      aimed -= weight;
    }
    for (const auto& [weight, ball] : best) {
      out.targets.push_back(own && photon_cells.images ? narrower(balls_here, ball, leaf)
                                                       : balls_here.ball(ball));
      out.targets.back().weight = static_cast<float>(-weight / aimed);
    }
    for (const Arrival& a : arrivals) {
      const bool is_aimed_at = a.ball && std::any_of(best.begin(), best.end(), [&](const auto& b) {
                                 return b.second == *a.ball;
                               });
      if (!is_aimed_at || !photon_cells.images) {
        rest.push_back(a.sample);
      }
    }
    // A part is always left to the tree, for what records have not met.
    out.share = all > 0 ? std::min(photon_cells.aimed, static_cast<float>(aimed / all)) : 0;
    return out;
  }

  // A ball's light comes from an image behind or before a curved mirror or glass: the ball, or that
  // around the place which the photons' rays pass nearest to (least squares), if that is narrower.
  GuideTarget narrower(const Balls& balls_here, std::uint32_t ball, const Leaf& leaf) const {
    GuideTarget own = balls_here.ball(ball);
    Eigen::Matrix3d sum = Eigen::Matrix3d::Zero();
    Vec3d wanted = Vec3d::Zero(), middle = Vec3d::Zero();
    std::vector<std::pair<Vec3d, Vec3d>> rays;  // where they fall, and to where they came from
    for (std::size_t i = leaf.photon_begin; i < leaf.photon_end; ++i) {
      const PhotonRecord& r = photons[photon_order[i]];
      if (balls_here.at(r.source) == ball) {
        const Vec3d p = r.p.cast<double>(), d = direction_of(r.place).cast<double>();
        const Eigen::Matrix3d across = Eigen::Matrix3d::Identity() - d * d.transpose();
        sum += across;
        wanted += across * p;
        middle += p;
        rays.emplace_back(p, d);
      }
    }
    const auto count = static_cast<double>(std::max<std::size_t>(rays.size(), 1));
    middle /= count;
    const Vec3d image = sum.ldlt().solve(wanted);
    double radius = 0;
    for (const auto& [p, d] : rays) {
      const Vec3d to = image - p;
      radius = to.dot(d) > 0 ? std::max(radius, (to - to.dot(d) * d).norm()) : HUGE_VAL;
    }
    const double distance = (image - middle).norm(),
                 own_distance = (own.center.cast<double>() - middle).norm();
    if (radius * own_distance < 0.5 * static_cast<double>(own.radius) * distance) {
      own.center = image.cast<float>();
      own.radius = static_cast<float>(radius);
    }
    // What lies between photons and beyond the outermost ones: no path would find it by chance.
    own.radius *= 1 + kBetweenPhotons / static_cast<float>(std::sqrt(count));
    own.radius = std::max(own.radius, kNarrowest * (own.center - middle.cast<float>()).norm());
    return own;
  }

  Balls balls_of(const Leaf& leaf) const {
    std::vector<PhotonRecord> own;
    for (std::size_t i = leaf.photon_begin; i < leaf.photon_end; ++i) {
      own.push_back(photons[photon_order[i]]);
    }
    return Balls(own, true);
  }

  // What a cell's scatterings and photons tell of light that arrives, each as much as it has of it.
  std::vector<Arrival> arrivals_of(const Leaf& leaf,
                                   const Balls& balls_here,
                                   Vec3& lo,
                                   Vec3& hi) const {
    std::vector<Arrival> out, of_photons;
    for (std::size_t i = leaf.begin; i < leaf.end; ++i) {
      const ScatteringRecord& r = scatterings[order[i]];
      lo = lo.cwiseMin(r.p);
      hi = hi.cwiseMax(r.p);
      if (r.arriving > 0) {
        out.push_back({{r.place, r.arriving}, r.met ? balls_here.at(r.source) : std::nullopt});
      }
    }
    const Vec3 beside = Vec3::Constant(kBeside * (hi - lo).maxCoeff());
    lo -= beside;
    hi += beside;
    for (std::size_t i = leaf.photon_begin; i < leaf.photon_end; ++i) {
      const PhotonRecord& r = photons[photon_order[i]];
      if ((r.p.array() >= lo.array()).all() && (r.p.array() <= hi.array()).all()) {
        of_photons.push_back({{r.place, r.power}, balls_here.at(r.source)});
      }
    }
    limit_weights(out);
    scale_to_count(out);
    scale_to_count(of_photons);
    out.insert(out.end(), of_photons.begin(), of_photons.end());
    return out;
  }

  // Their weights made to add up to their number.
  static void scale_to_count(std::vector<Arrival>& samples) {
    double sum = 0;
    for (const Arrival& a : samples) {
      sum += static_cast<double>(a.sample.weight);
    }
    const auto scale =
        static_cast<float>(static_cast<double>(samples.size()) / std::max(sum, 1e-30));
    for (Arrival& a : samples) {
      a.sample.weight *= scale;
    }
  }

  // One sample may not be the whole of a cell: no weight counts for more than a tenth of all.
  static void limit_weights(std::vector<Arrival>& samples) {
    constexpr double kMost = 0.1;
    double sum = 0;
    for (const Arrival& a : samples) {
      sum += static_cast<double>(a.sample.weight);
    }
    for (Arrival& a : samples) {
      a.sample.weight = std::min(a.sample.weight, static_cast<float>(kMost * sum));
    }
  }
};

GuideTree::GuideTree(const std::vector<ScatteringRecord>& scatterings,
                     const std::vector<PhotonRecord>& photons,
                     const std::vector<LightRecord>& lights,
                     std::size_t slots,
                     std::size_t newest,
                     bool directions)
    : slots_(slots) {
  if (scatterings.empty() && lights.empty()) {
    return;
  }
  const Balls balls(photons);
  Builder builder{
      *this,
      scatterings,
      photons,
      lights,
      &balls,
      newest,
      directions,
      {},
      directions ? kCellRecords : std::max(kLightCellRecords, scatterings.size() / kMostLightCells),
      directions ? kCellArrivals : std::max(kLightCellArrivals, kArrivalsOfSlot * slots),
      {},
      {},
      {},
      {}};
  builder.grow_sides();
  if (directions) {
    builder.fill_cells();
  } else {
    cells_.resize(builder.leaves.size());
  }
}

GuideTree GuideTree::of_photons(const std::vector<PhotonRecord>& photons, const PhotonCells& how) {
  GuideTree out;
  if (photons.empty()) {
    return out;
  }
  std::vector<ScatteringRecord> places(photons.size());
  for (std::size_t i = 0; i < photons.size(); ++i) {
    places[i].p = photons[i].p;
    places[i].normal = photons[i].normal;
  }
  Builder builder{
      out, places, photons, {}, nullptr, 0, true, how, how.most, how.most, {}, {}, {}, {}};
  builder.grow_sides();
  builder.fill_cells();
  for (std::size_t l = 0; l < out.cells_.size(); ++l) {
    const auto& leaf = builder.leaves[l];
    const bool tells = leaf.photon_end - leaf.photon_begin >= kLeastPhotonsOfCell;
    out.cells_[l].share = tells ? how.share : 0;
  }
  return out;
}

void GuideTree::forget_directions() {
  for (GuideCell& c : cells_) {
    c.share = 0;
  }
}

void GuideTree::limit_shares(std::span<const float> most) {
  for (std::size_t c = 0; c < cells_.size(); ++c) {
    cells_[c].share = std::min(cells_[c].share, most[c]);
  }
}

std::size_t GuideTree::memory_bytes() const {
  return nodes_.size() * sizeof(Node) + cells_.size() * sizeof(GuideCell) +
         directions_.size() * sizeof(DirectionNode) + targets_.size() * sizeof(GuideTarget) +
         arrives_.size() * sizeof(float);
}

}  // namespace jovilux
