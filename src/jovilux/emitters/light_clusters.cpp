#include "jovilux/emitters/light_clusters.h"

#include "jovilux/emitters/light_form.h"
#include "jovilux/emitters/luminous_surface.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <utility>

namespace jovilux {
namespace {

// The least share of a light's highest intensity that it counts with in directions where it hardly
// shines.
constexpr float kLeastShare = 0.02f;
constexpr float kRounding = 1e-3f;  // on cosines of bounds
constexpr float kNear = 3;          // clusters nearer than this many of their radii are opened
// Slots of lights that stand alone, and of the clusters.
constexpr std::size_t kAloneSlots = 64, kClusterSlots = 32;
// The part of the choice that is made without what is known to arrive: knowledge may be wrong, and
// a light that could bring something must keep a chance.
constexpr float kWithoutArrival = 0.05f;
// A light that brings this share of all is sampled toward for certain where that is asked for.
constexpr float kCertainShare = 0.04f;
// Lights are certain where together they bring at least this share.
constexpr float kLeastCovered = 0.6f;
// The others are asked with this many times their share, and not less than this.
constexpr float kOthersAsked = 8, kOthersLeast = 0.25f;

// The share of its expectation that a light is chosen by. In a slot of many lights some arrive and
// others do not, so that what one choice brings scatters: the best share is the root of the second
// moment, which is the expectation's square times what arrives.
float share_to_choose(float arrives, bool in_group) {
  return in_group ? std::sqrt(arrives) : arrives;
}

// Whether the tree's bound by distance and direction does not hold for a light.
bool stands_alone(const Emitter& e) {
  return e.is_distant() || e.endless || e.falloff.law != FalloffLaw::kInverseSquare;
}

// The smallest cone around two cones of axes.
ShiningCone joined(const ShiningCone& a, const ShiningCone& b) {
  if (b.half > a.half) {
    return joined(b, a);
  }
  ShiningCone out;
  out.around = std::max(a.around, b.around);
  const float between = std::acos(std::clamp(a.axis.dot(b.axis), -1.0f, 1.0f));
  if (std::min(between + b.half, kPi) <= a.half) {
    out.axis = a.axis;
    out.half = a.half;
    return out;
  }
  out.half = 0.5f * (a.half + between + b.half);
  const Vec3 turn = a.axis.cross(b.axis);
  if (out.half >= kPi || turn.squaredNorm() < 1e-12f) {
    out.half = kPi;
    out.axis = a.axis;
    return out;
  }
  out.axis = Eigen::AngleAxisf(out.half - a.half, turn.normalized()) * a.axis;
  return out;
}

struct Angle {
  float cosine, sine;
};
// max(0, a - b), both in [0, pi].
Angle less(Angle a, Angle b) {
  return a.cosine >= b.cosine
             ? Angle{1, 0}
             : Angle{a.cosine * b.cosine + a.sine * b.sine, a.sine * b.cosine - a.cosine * b.sine};
}

// The mean of n.v a.v / |v|^m over places v, by their mean and covariance, to second order; n and a
// are left out where null, and m is 2 and one more for each. The second derivatives of 1 / |v|^m
// are m (m + 2) v v^T / |v|^(m + 4) - m / |v|^(m + 2). The result is kept within a quarter and four
// times of what the mean place alone gives: a series of two terms may be far off near the cluster.
float mean_over(const Vec3& v, const Eigen::Matrix3f& covariance, const Vec3* n, const Vec3* a) {
  const float m = 2.0f + (n != nullptr ? 1.0f : 0.0f) + (a != nullptr ? 1.0f : 0.0f);
  const float inverse = 1 / v.squaredNorm();
  const Vec3 cv = covariance * v;
  const float nv = n != nullptr ? n->dot(v) : 1.0f, av = a != nullptr ? a->dot(v) : 1.0f;
  float sum =
      nv * av * (1 + 0.5f * m * inverse * ((m + 2) * v.dot(cv) * inverse - covariance.trace()));
  if (n != nullptr) {
    sum -= m * inverse * n->dot(cv) * av;
  }
  if (a != nullptr) {
    sum -= m * inverse * a->dot(cv) * nv;
  }
  if (n != nullptr && a != nullptr) {
    sum += n->dot(covariance * *a);
  }
  const float power = m == 3 ? inverse * std::sqrt(inverse) : m == 2 ? inverse : inverse * inverse;
  return power * std::clamp(sum, 0.25f * nv * av, 4 * nv * av);
}

float half_area(const Bounds& b) { return b.empty() ? 0 : b.half_area(); }

}  // namespace

float expected(const Emitter& e, const LightQuery& q) {
  switch (q.kind) {
    case LightQuery::Kind::kSurface:
      return expected_illuminance(e, q.p, q.n, q.links);
    case LightQuery::Kind::kPoint:
      return expected_fluence(e, q.p, q.links);
    case LightQuery::Kind::kRay:
      return expected_along(e, q.ray, q.end, q.links);
  }
  return 0;
}

struct LightClusters::Builder {
  LightClusters& tree;
  const std::vector<Emitter>& lights;
  struct Item {
    std::uint32_t light;
    Vec3 center;
    Bounds box;
    ShiningCone directions;
    float power;
  };
  std::vector<Item> items;

  // The measure of directions that a cluster lights, of the surface-area orientation heuristic
  // (Conty Estevez and Kulla 2018).
  static float spread(const ShiningCone& d) {
    const float whole = std::min(kPi, d.half + d.around);
    return 2 * kPi * (1 - std::cos(d.half)) +
           0.5f * kPi *
               (2 * whole * std::sin(d.half) - std::cos(d.half - 2 * whole) -
                2 * d.half * std::sin(d.half) + std::cos(d.half));
  }

  struct Sum {
    Bounds box;
    ShiningCone directions;
    float power = 0;
    bool any = false;
    void add(const Bounds& b, const ShiningCone& d, float p) {
      box.add(b);
      directions = any ? joined(directions, d) : d;
      power += p;
      any = true;
    }
    void add(const Sum& o) {
      if (o.any) {
        add(o.box, o.directions, o.power);
      }
    }
    // Power times area times solid angle: what a split should keep small.
    float cost() const {
      return any ? power * std::max(half_area(box), 1e-12f) * std::max(spread(directions), 1e-3f)
                 : 0;
    }
  };

  // What estimate() asks of a node: its ball and box, its cone of axes, and the mean and covariance
  // of its lights' places, weighted by power.
  void describe(Node& n, const Sum& all, std::size_t begin, std::size_t end) const {
    n.center = all.box.center();
    n.radius = 0.5f * all.box.diagonal();
    n.half = 0.5f * (all.box.hi - all.box.lo);
    n.axis = all.directions.axis;
    n.cos_axes = std::cos(all.directions.half);
    n.sin_axes = std::sin(all.directions.half);
    n.cos_around = std::cos(all.directions.around);
    n.power = all.power;
    Vec3d mean = Vec3d::Zero();
    Mat3d second = Mat3d::Zero();
    double power = 0;
    bool lambert = true;
    for (std::size_t i = begin; i < end; ++i) {
      mean += static_cast<double>(items[i].power) * items[i].center.cast<double>();
      power += static_cast<double>(items[i].power);
      const Emitter& e = lights[items[i].light];
      lambert = lambert && !e.by_intensity && !e.two_sided && e.half_spread == 0 &&
                (e.kind == LightKind::kDisk || e.kind == LightKind::kRect);
    }
    mean = power > 0 ? Vec3d(mean / power) : n.center.cast<double>();
    for (std::size_t i = begin; i < end; ++i) {
      const Vec3d d = items[i].center.cast<double>() - mean;
      second += (power > 0 ? static_cast<double>(items[i].power) / power : 0) * d * d.transpose();
    }
    n.mean = mean.cast<float>();
    n.scatter = second.cast<float>();
    n.flat_axes = lambert && n.cos_axes > 0.9998f;
  }

  void fill(std::uint32_t index,
            std::size_t begin,
            std::size_t end,
            std::uint32_t parent,
            std::size_t depth) {
    Sum all;
    Bounds centers;
    std::uint64_t links = 0;
    bool unlinked = false;
    for (std::size_t i = begin; i < end; ++i) {
      all.add(items[i].box, items[i].directions, items[i].power);
      centers.add(items[i].center);
      const std::uint64_t bit = lights[items[i].light].link_bit;
      links |= bit;
      unlinked = unlinked || bit == 0;
    }
    Node& n = tree.nodes_[index];
    describe(n, all, begin, end);
    n.links = links;
    n.unlinked = unlinked;
    n.parent = parent;
    n.first = static_cast<std::uint32_t>(begin);
    n.count = static_cast<std::uint32_t>(end - begin);
    if (end - begin <= kLeaf) {
      for (std::size_t i = begin; i < end; ++i) {
        tree.order_[i] = items[i].light;
        tree.place_[items[i].light] = index;
      }
      return;
    }
    // Past half of the depth ranges are halved: 2^48 lights fit below.
    const std::size_t middle =
        depth < kDeepest / 2 ? split(begin, end, centers) : begin + (end - begin) / 2;
    const auto children = static_cast<std::uint32_t>(tree.nodes_.size());
    tree.nodes_.resize(tree.nodes_.size() + 2);
    tree.nodes_[index].children = children;
    tree.nodes_[index].count = 0;
    fill(children, begin, middle, index, depth + 1);
    fill(children + 1, middle, end, index, depth + 1);
  }

  // The split of least cost over bins of the centers along each axis; else the middle.
  std::size_t split(std::size_t begin, std::size_t end, const Bounds& centers) {
    constexpr int kBins = 12;
    const Vec3 extent = centers.hi - centers.lo;
    float best = kFar;
    int axis = -1, cut = 0;
    const auto bin_of = [&](const Item& item, int a) {
      return std::min(kBins - 1,
                      static_cast<int>(kBins * (item.center[a] - centers.lo[a]) / extent[a]));
    };
    for (int a = 0; a < 3; ++a) {
      if (!(extent[a] > 1e-9f)) {
        continue;
      }
      std::array<Sum, kBins> bins;
      for (std::size_t i = begin; i < end; ++i) {
        bins[static_cast<std::size_t>(bin_of(items[i], a))].add(
            items[i].box, items[i].directions, items[i].power);
      }
      std::array<float, kBins> right{};
      Sum sum;
      for (int b = kBins - 1; b > 0; --b) {
        sum.add(bins[static_cast<std::size_t>(b)]);
        right[static_cast<std::size_t>(b)] = sum.any ? sum.cost() : kFar;
      }
      sum = Sum();
      // Long thin boxes are worse than their area tells: the cost is scaled by the longest side.
      const float longest = extent.maxCoeff();
      for (int b = 1; b < kBins; ++b) {
        sum.add(bins[static_cast<std::size_t>(b - 1)]);
        const float cost =
            sum.any ? (sum.cost() + right[static_cast<std::size_t>(b)]) * longest / extent[a]
                    : kFar;
        if (cost < best) {
          best = cost;
          axis = a;
          cut = b;
        }
      }
    }
    auto middle = items.begin() + static_cast<std::ptrdiff_t>(begin + (end - begin) / 2);
    if (axis >= 0) {
      const auto at = std::partition(items.begin() + static_cast<std::ptrdiff_t>(begin),
                                     items.begin() + static_cast<std::ptrdiff_t>(end),
                                     [&](const Item& item) { return bin_of(item, axis) < cut; });
      const auto left = static_cast<std::size_t>(at - items.begin()) - begin;
      // A side of next to nothing would make the tree deep.
      if (left * 64 >= end - begin && (end - begin - left) * 64 >= end - begin && left > 0 &&
          left < end - begin) {
        return begin + left;
      }
      std::nth_element(items.begin() + static_cast<std::ptrdiff_t>(begin),
                       middle,
                       items.begin() + static_cast<std::ptrdiff_t>(end),
                       [axis](const Item& x, const Item& y) {
                         return x.center[axis] < y.center[axis] ||
                                (x.center[axis] == y.center[axis] && x.light < y.light);
                       });
    }
    return begin + (end - begin) / 2;
  }
};

LightClusters::LightClusters(const std::vector<Emitter>& lights, std::size_t all_alone)
    : place_(lights.size(), kNoIndex) {
  Builder builder{*this, lights, {}};
  std::size_t shining = 0;
  for (const Emitter& e : lights) {
    shining += e.shines() ? 1 : 0;
  }
  for (std::uint32_t i = 0; i < lights.size(); ++i) {
    const Emitter& e = lights[i];
    if (!e.shines()) {
      continue;
    }
    if (shining <= all_alone || stands_alone(e)) {
      alone_.push_back(i);
      continue;
    }
    const float reach = reach_of(e);
    Bounds box;
    box.add(Vec3(e.center - Vec3::Constant(reach)));
    box.add(Vec3(e.center + Vec3::Constant(reach)));
    builder.items.push_back(
        {i, e.center, box, form_of(e).shining_cone(e), form_of(e).peak_intensity(e)});
  }
  // One lamp alone: its choice is certain, and no expectation need be computed.
  if (shining == 1 && builder.items.empty()) {
    const Emitter& e = lights[alone_.front()];
    if (!e.is_distant() && e.link_bit == 0 && (e.detail == nullptr || !e.detail->inside)) {
      sole_ = alone_.front();
    }
  }
  lay_out_alone(lights);
  if (builder.items.empty()) {
    number_slots(lights.size());
    return;
  }
  order_.resize(builder.items.size());
  nodes_.reserve(2 * builder.items.size() / kLeaf + 2);
  nodes_.resize(1);
  builder.fill(0, 0, builder.items.size(), kNoIndex, 1);
  number_slots(lights.size());
}

// Plain lights go to the board, whose expectations are computed side by side; others keep a ball
// and a power, by which a faint one is told without its own expectation.
void LightClusters::lay_out_alone(const std::vector<Emitter>& lights) {
  rough_.resize(lights.size());
  column_.assign(lights.size(), kNoIndex);
  for (const std::uint32_t i : alone_) {
    const Emitter& e = lights[i];
    if (LightBoard::holds(e) && board_.size() < LightBoard::kMost) {
      column_[i] = static_cast<std::uint32_t>(board_.size());
      board_.add(e);
      on_board_.push_back(i);
      continue;
    }
    off_board_.push_back(i);
    if (!stands_alone(e) && e.falloff.is_physical() && e.link_bit == 0 &&
        (e.detail == nullptr || !e.detail->inside)) {
      rough_[i] = {e.center, reach_of(e), form_of(e).peak_intensity(e)};
      ++rough_count_;
    }
  }
}

// Alone lights have slots in their order; the tree is cut where its nodes have most power and size.
void LightClusters::number_slots(std::size_t lights) {
  slot_.assign(lights, 0);
  const std::size_t alone = std::min(alone_.size(), kAloneSlots);
  for (std::size_t i = 0; i < alone_.size(); ++i) {
    slot_[alone_[i]] = static_cast<std::uint32_t>(i * alone / alone_.size());
  }
  for (const std::uint32_t light : on_board_) {
    board_slots_.push_back(slot_[light]);
  }
  slots_ = std::max<std::size_t>(alone, 1);
  node_slot_.assign(nodes_.size(), kNoIndex);
  if (nodes_.empty()) {
    return;
  }
  std::vector<std::uint32_t> cut = {0};
  const auto size = [&](std::uint32_t n) {
    return nodes_[n].count == 0 ? nodes_[n].power * nodes_[n].radius : -1.0f;
  };
  while (cut.size() < kClusterSlots) {
    const auto largest =
        std::max_element(cut.begin(), cut.end(), [&](std::uint32_t a, std::uint32_t b) {
          return size(a) < size(b);
        });
    if (!(size(*largest) > 0)) {
      break;
    }
    const std::uint32_t children = nodes_[*largest].children;
    *largest = children;
    cut.push_back(children + 1);
  }
  for (std::size_t k = 0; k < cut.size(); ++k) {
    std::vector<std::uint32_t> below = {cut[k]};
    while (!below.empty()) {
      const std::uint32_t n = below.back();
      below.pop_back();
      node_slot_[n] = static_cast<std::uint32_t>(alone + k);
      if (nodes_[n].count == 0) {
        below.push_back(nodes_[n].children);
        below.push_back(nodes_[n].children + 1);
      }
      for (std::uint32_t i = nodes_[n].first; i < nodes_[n].first + nodes_[n].count; ++i) {
        slot_[order_[i]] = node_slot_[n];
      }
    }
  }
  slots_ = alone + cut.size();
}

// A bound that keeps whole clusters behind a surface out of the choice.
bool LightClusters::could_reach(const Node& n, const LightQuery& q) const {
  if (!n.unlinked && (q.links & n.links) == 0) {
    return false;
  }
  return q.kind != LightQuery::Kind::kSurface ||
         q.n.dot(n.center - q.p) + n.radius * (1 + kRounding) > 0;
}

// What a cluster could bring: its power over the squared distance, times bounds of the cosines at
// the surface and at the lights.
float LightClusters::estimate(const Node& n, const LightQuery& q) const {
  if (!n.unlinked && (q.links & n.links) == 0) {
    return 0;
  }
  if (q.kind == LightQuery::Kind::kRay) {
    const EquiangularSpan span(n.center, q.ray, q.end);
    const float apart = std::max(span.apart, 0.5f * n.radius + 1e-6f);
    // Around a cluster that the ray runs through the angle is whole.
    const float angle = span.apart < n.radius ? kPi : span.last - span.first;
    return angle > 0 ? n.power * angle / apart : 0;
  }
  const Vec3 to = n.center - q.p;
  const float d2 = to.squaredNorm(), r2 = n.radius * n.radius,
              near2 = std::max(d2, 0.25f * r2 + 1e-12f);
  if (d2 <= r2 * 1.0001f || d2 < 1e-20f) {
    return n.power / near2;
  }
  const bool surface = q.kind == LightQuery::Kind::kSurface;
  if (d2 > 2.25f * r2 && (n.cos_axes <= -1 || n.flat_axes)) {
    // Where all of it lies in front of the surface, and the surface in front of all of it, no
    // cosine is cut off.
    const Vec3 away = -n.axis;
    const auto in_front = [&](const Vec3& side) {
      const float height = to.dot(side) - side.cwiseAbs().dot(n.half);
      return height > 0 && height * height > kRounding * kRounding * d2;
    };
    if ((!surface || in_front(q.n)) && (!n.flat_axes || in_front(away))) {
      return n.power *
             mean_over(
                 n.mean - q.p, n.scatter, surface ? &q.n : nullptr, n.flat_axes ? &away : nullptr);
    }
  }
  const float d = std::sqrt(d2);
  const Vec3 wi = to / d;
  const float sine = std::min(1.0f, n.radius / d * 1.0005f);
  const Angle widened{std::sqrt(std::max(0.0f, 1 - sine * sine)) - kRounding, sine};
  float factor = 1;
  if (surface) {
    factor = mean_cosine(q.n.dot(wi), sine + kRounding);
    if (factor <= 0) {
      return 0;
    }
  }
  if (n.cos_axes > -1) {
    const float c = std::clamp(-n.axis.dot(wi), -1.0f, 1.0f);
    const Angle off =
        less(less({c, std::sqrt(std::max(0.0f, 1 - c * c))}, {n.cos_axes, n.sin_axes}), widened);
    if (off.cosine < n.cos_around - kRounding) {
      return 0;
    }
    // How far the directions to the lights, and their axes, spread around the middle.
    const float spread = n.cos_axes * widened.cosine > n.sin_axes * sine
                             ? std::min(1.0f, n.sin_axes * widened.cosine + n.cos_axes * sine)
                             : 1.0f;
    factor *= std::max(mean_cosine(c, spread + kRounding),
                       kLeastShare * std::max(off.cosine, kLeastShare));
  }
  return n.power * factor / near2;
}

bool LightClusters::is_near(const Node& n, const LightQuery& q) const {
  const Vec3 to = n.center - (q.kind == LightQuery::Kind::kRay ? q.ray.origin : q.p);
  float d2 = to.squaredNorm();
  if (q.kind == LightQuery::Kind::kRay) {
    const float t = std::clamp(to.dot(q.ray.direction), 0.0f, q.end);
    d2 = (to - t * q.ray.direction).squaredNorm();
  }
  return d2 < kNear * kNear * n.radius * n.radius;
}

// The highest illuminance that the light could bring, in haze along the ray.
float LightClusters::rough_value(const Rough& r, const LightQuery& query) {
  Vec3 to = r.center - query.p;
  if (query.kind != LightQuery::Kind::kRay) {
    const float d = std::max(to.norm() - r.reach, 0.5f * r.reach + 1e-6f);
    return r.power / (d * d);
  }
  to -= std::clamp(to.dot(query.ray.direction), 0.0f, query.end) * query.ray.direction;
  const float d = std::max(to.norm() - r.reach, 0.5f * r.reach + 1e-6f);
  return r.power / d * std::min(kPi, query.end / d);
}

float LightClusters::look_at_board(const LightQuery& query, LightBoard::Values& values) const {
  if (board_.size() == 0) {
    return 0;
  }
  switch (query.kind) {
    case LightQuery::Kind::kSurface:
      board_.illuminances(query.p, query.n, values);
      break;
    case LightQuery::Kind::kPoint:
      board_.fluences(query.p, values);
      break;
    case LightQuery::Kind::kRay:
      board_.along(query.ray, query.end, values);
      break;
  }
  // Only lights that are not on the board are judged by the brightest of it.
  return rough_count_ == 0
             ? 0
             : *std::max_element(values.begin(),
                                 values.begin() + static_cast<std::ptrdiff_t>(board_.size()));
}

float LightClusters::faint_below(const std::vector<Emitter>& lights,
                                 const LightQuery& query,
                                 float brightest) const {
  constexpr std::size_t kFew = 8;
  constexpr float kFaint = 1.0f / 256, kSure = 0.1f;
  if (rough_count_ == 0) {
    return 0;
  }
  float limit = kFaint * brightest;
  if (rough_count_ < kFew) {
    return limit;
  }
  // The two that may be brightest: a beam may pass by.
  std::uint32_t first = kNoIndex, second = kNoIndex;
  float highest = 0, next = 0;
  for (const std::uint32_t light : off_board_) {
    if (const Rough& r = rough_[light]; r.power > 0) {
      const float value = rough_value(r, query);
      if (value > highest) {
        second = first;
        next = highest;
        first = light;
        highest = value;
      } else if (value > next) {
        second = light;
        next = value;
      }
    }
  }
  for (const auto& [light, value] : {std::pair(first, highest), std::pair(second, next)}) {
    if (light != kNoIndex) {
      const float whole = expected(lights[light], query);
      limit = whole > kSure * value ? std::max(limit, kFaint * whole) : limit;
    }
  }
  return limit;
}

float LightClusters::alone_value(const std::vector<Emitter>& lights,
                                 std::uint32_t light,
                                 const LightQuery& query,
                                 float faint) const {
  if (column_[light] != kNoIndex) {
    LightBoard::Values values;  // NOLINT: filled before use
    look_at_board(query, values);
    return values[column_[light]];
  }
  if (faint > 0 && rough_[light].power > 0) {
    if (const float value = rough_value(rough_[light], query); value < faint) {
      return value;
    }
  }
  return expected(lights[light], query);
}

// All that a choice is made among, in memory that a thread fetches once.
struct LightClusters::Entries {
  std::vector<Entry> storage;
  std::size_t count = 0;
  float all = 0, arriving = 0;  // sums of what they could bring, and of what arrives of it
  float faint = 0;              // what lights off the board were judged below

  std::span<Entry> filled() { return std::span(storage).first(count); }

  void add(float x, std::uint32_t light, std::uint32_t node, float arrives) {
    if (!(x > 0)) {
      return;
    }
    if (count == storage.size()) {
      storage.resize(2 * count + 1);
    }
    storage[count++] = {x, light, node, arrives};
    all += x;
    arriving += x * arrives;
  }

  // The lights of the board, of which most bring something: the first entries.
  void add_board(const LightBoard::Values& values,
                 std::span<const std::uint32_t> lights,
                 std::span<const std::uint32_t> slots,
                 std::span<const float> arrives) {
    if (storage.size() < lights.size()) {
      storage.resize(lights.size());
    }
    // Sums and places in registers: what is stored might lie anywhere, for all the compiler knows.
    Entry* next = storage.data();
    const float* share_of = arrives.empty() ? nullptr : arrives.data();
    float sum = 0, sum_arriving = 0;
    for (std::size_t k = 0; k < lights.size(); ++k) {
      const float x = values[k] > 0 ? values[k] : 0.0f;  // one that is not a number, too
      const float share = share_of != nullptr ? share_of[slots[k]] : 1.0f;
      *next = {x, lights[k], kNoIndex, share};
      next += x > 0 ? 1 : 0;
      sum += x;
      sum_arriving += x * share;
    }
    count = static_cast<std::size_t>(next - storage.data());
    all = sum;
    arriving = sum_arriving;
  }
};

LightClusters::Entries& LightClusters::look_at_all(const std::vector<Emitter>& lights,
                                                   const LightQuery& query,
                                                   std::span<const float> arrives) const {
  thread_local Entries out;
  out.count = 0;
  out.all = out.arriving = 0;
  const bool by_slot = !arrives.empty();
  const auto share = [&](std::uint32_t slot) { return by_slot ? arrives[slot] : 1.0f; };
  LightBoard::Values values;  // NOLINT: filled before use
  out.faint = faint_below(lights, query, look_at_board(query, values));
  out.add_board(values, on_board_, board_slots_, arrives);
  for (const std::uint32_t light : off_board_) {
    out.add(alone_value(lights, light, query, out.faint), light, kNoIndex, share(slot_[light]));
  }
  if (nodes_.empty()) {
    return out;
  }
  std::array<std::uint32_t, kDeepest + 2> stack;  // NOLINT: filled before use
  std::size_t top = 0;
  stack[top++] = 0;
  while (top > 0) {
    const std::uint32_t index = stack[--top];
    const Node& node = nodes_[index];
    if (!is_open(index, query, by_slot)) {
      out.add(estimate(node, query), kNoIndex, index, by_slot ? arrives[node_slot_[index]] : 1.0f);
    } else if (!could_reach(node, query)) {
      continue;
    } else if (node.count == 0) {
      stack[top++] = node.children;
      stack[top++] = node.children + 1;
    } else {
      for (std::uint32_t k = node.first; k < node.first + node.count; ++k) {
        const std::uint32_t light = order_[k];
        out.add(expected(lights[light], query), light, kNoIndex, share(slot_[light]));
      }
    }
  }
  return out;
}

float LightClusters::total(const std::vector<Emitter>& lights, const LightQuery& query) const {
  return look_at_all(lights, query, {}).all;
}

LightChoice LightClusters::choose(const std::vector<Emitter>& lights,
                                  const LightQuery& query,
                                  float u) const {
  return choose_set(lights, query, u, {}, 0).other;
}

void LightClusters::take_certain(
    std::span<Entry> entries, float total, bool by_slot, std::size_t most, LightSet& set) const {
  // Few lights are all sampled toward, unless it is known that they bring nothing.
  const bool few = !by_slot && entries.size() <= LightSet::kMostCertain + 1;
  const float least = few ? 0 : kCertainShare * total;
  most = std::min(most, LightSet::kMostCertain);
  std::array<Entry*, LightSet::kMostCertain> largest{};  // in falling order
  std::size_t count = 0;
  for (Entry& e : entries) {
    if (!(e.x >= least) || !(e.x > 0) || e.light == kNoIndex ||
        (count == most && !(e.x > largest[most - 1]->x))) {
      continue;
    }
    std::size_t at = std::min(count, most - 1);
    for (; at > 0 && e.x > largest[at - 1]->x; --at) {
      largest[at] = largest[at - 1];
    }
    largest[at] = &e;
    count = std::min(count + 1, most);
  }
  float covered = 0;
  for (std::size_t k = 0; k < count; ++k) {
    covered += largest[k]->x;
  }
  if (!(covered >= kLeastCovered * total)) {
    return;  // they are the lesser part: their rays are better spent on all
  }
  for (std::size_t k = 0; k < count; ++k) {
    set.certain[k] = largest[k]->light;
    largest[k]->x = 0;  // taken out of the choice
  }
  set.certain_count = count;
}

LightSet LightClusters::choose_set(const std::vector<Emitter>& lights,
                                   const LightQuery& query,
                                   float u,
                                   std::span<const float> arrives,
                                   std::size_t most_certain) const {
  LightSet out;
  if (sole_ != kNoIndex) {  // nothing to choose: whether it brings something its sample tells
    if (most_certain > 0) {
      out.certain[out.certain_count++] = sole_;
    } else {
      out.other = {sole_, 1, 1, 0};
    }
    return out;
  }
  Entries& looked = look_at_all(lights, query, arrives);
  const std::span<Entry> entries = looked.filled();
  const bool by_slot = !arrives.empty();
  out.other.faint = looked.faint;
  if (!(looked.all > 0)) {
    return out;
  }
  float total = looked.all;
  if (by_slot) {
    out.least = kWithoutArrival * looked.arriving / looked.all;
    total = 0;
    for (Entry& e : entries) {
      const bool in_group = !nodes_.empty() && (e.light == kNoIndex || place_[e.light] != kNoIndex);
      e.x *= share_to_choose(e.arrives, in_group) + out.least;
      total += e.x;
    }
  }
  float rest = total;
  if (most_certain > 0) {
    take_certain(entries, total, by_slot, most_certain, out);
  }
  if (out.certain_count > 0) {  // summed anew: what is left may be small
    rest = 0;
    for (const Entry& e : entries) {
      rest += e.x;
    }
    // Without knowledge of what arrives, those that could bring much may bring nothing.
    out.asked = by_slot ? std::clamp(kOthersAsked * rest / total, kOthersLeast, 1.0f) : 1.0f;
  }
  out.other.total = rest;
  if (!(rest > 0) || !(u < out.asked)) {
    return out;
  }
  constexpr float kOneLess = 0x1.fffffep-1f;
  const float target = std::min(u / out.asked, kOneLess) * rest;
  out.other = picked(entries, target, rest, lights, query);
  out.other.faint = looked.faint;
  out.other.chance *= out.asked;
  return out;
}

void LightClusters::choose_each(const std::vector<Emitter>& lights,
                                const LightQuery& query,
                                std::span<const float> u,
                                std::span<LightChoice> out) const {
  if (sole_ != kNoIndex) {
    std::fill(out.begin(), out.end(), LightChoice{sole_, 1, 1, 0});
    return;
  }
  Entries& looked = look_at_all(lights, query, {});
  constexpr float kOneLess = 0x1.fffffep-1f;
  for (std::size_t i = 0; i < u.size(); ++i) {
    const float target = std::min(u[i], kOneLess) * looked.all;
    out[i] =
        looked.all > 0 ? picked(looked.filled(), target, looked.all, lights, query) : LightChoice{};
    out[i].faint = looked.faint;
  }
}

LightChoice LightClusters::picked(std::span<const Entry> entries,
                                  float target,
                                  float total,
                                  const std::vector<Emitter>& lights,
                                  const LightQuery& query) const {
  constexpr float kOneLess = 0x1.fffffep-1f;
  float sum = 0, below = 0;
  const Entry* chosen = nullptr;
  for (const Entry& e : entries) {
    if (!(e.x > 0)) {
      continue;
    }
    below = sum;
    sum += e.x;
    chosen = &e;
    if (target < sum) {
      break;
    }
  }
  LightChoice out;
  out.total = total;
  out.chance = chosen->x / total;
  if (chosen->light != kNoIndex) {
    out.index = chosen->light;
    return out;
  }
  // What is left of the random number, fresh for the way down.
  const float v = std::clamp((target - below) / chosen->x, 0.0f, kOneLess);
  const LightChoice in_cluster = down_from(chosen->node, v, lights, query);
  out.index = in_cluster.index;
  out.chance *= in_cluster.chance;
  return out;
}

LightChoice LightClusters::down_from(std::uint32_t node,
                                     float v,
                                     const std::vector<Emitter>& lights,
                                     const LightQuery& query) const {
  constexpr float kOneLess = 0x1.fffffep-1f;
  LightChoice out;
  out.chance = 1;
  while (nodes_[node].count == 0) {
    const std::uint32_t first = nodes_[node].children;
    const float a = estimate(nodes_[first], query), b = estimate(nodes_[first + 1], query);
    if (!(a + b > 0)) {
      return out;
    }
    const float left = a / (a + b);
    if (v < left) {
      node = first;
      out.chance *= left;
      v = std::min(v / left, kOneLess);
    } else {
      node = first + 1;
      out.chance *= 1 - left;
      v = std::clamp((v - left) / (1 - left), 0.0f, kOneLess);
    }
  }
  std::array<float, kLeaf> each{};
  float all = 0;
  const Node& leaf = nodes_[node];
  for (std::uint32_t k = 0; k < leaf.count; ++k) {
    each[k] = expected(lights[order_[leaf.first + k]], query);
    all += each[k];
  }
  if (!(all > 0)) {
    return out;
  }
  float rest = v * all, chosen = 0;
  for (std::uint32_t k = 0; k < leaf.count; ++k) {
    if (each[k] <= 0) {
      continue;
    }
    out.index = order_[leaf.first + k];
    chosen = each[k];
    if (rest < each[k]) {
      break;
    }
    rest -= each[k];
  }
  out.chance *= chosen / all;
  return out;
}

// The chance that the way down from an entry ends at the light, whose expectation is `own`; `top`
// is the entry's node, kNoIndex where the light is an entry itself.
float LightClusters::chance_below(std::uint32_t light,
                                  const std::vector<Emitter>& lights,
                                  const LightQuery& query,
                                  bool by_slot,
                                  float own,
                                  std::uint32_t& top) const {
  top = kNoIndex;
  std::array<std::uint32_t, kDeepest + 1> way;  // NOLINT: from the leaf up to the root
  std::size_t length = 0;
  for (std::uint32_t node = place_[light]; node != kNoIndex; node = nodes_[node].parent) {
    way[length++] = node;
  }
  // Down through what is open; then by the shares of each side.
  std::size_t at = length;
  while (at > 0 && is_open(way[at - 1], query, by_slot)) {
    if (!could_reach(nodes_[way[at - 1]], query)) {
      return 0;
    }
    --at;
  }
  if (at == 0) {
    return 1;
  }
  top = way[at - 1];
  float chance = 1;
  for (; at > 1; --at) {
    const std::uint32_t first = nodes_[way[at - 1]].children;
    const float a = estimate(nodes_[first], query), b = estimate(nodes_[first + 1], query);
    if (!(a + b > 0)) {
      return 0;
    }
    const float left = a / (a + b);
    chance *= way[at - 2] == first ? left : 1 - left;
  }
  float all = 0;
  const Node& leaf = nodes_[way[0]];
  for (std::uint32_t k = 0; k < leaf.count; ++k) {
    all += expected(lights[order_[leaf.first + k]], query);
  }
  return chance * own / all;
}

float LightClusters::chance(const std::vector<Emitter>& lights,
                            const LightQuery& query,
                            std::uint32_t light,
                            float total) const {
  LightChoice choice;
  choice.total = total;
  if (sole_ == kNoIndex) {
    LightBoard::Values values;  // NOLINT: filled before use
    choice.faint = faint_below(lights, query, look_at_board(query, values));
  }
  return chance(lights, query, light, choice);
}

float LightClusters::chance(const std::vector<Emitter>& lights,
                            const LightQuery& query,
                            std::uint32_t light,
                            const LightChoice& choice) const {
  LightSet set;
  set.other = choice;
  return chance(lights, query, light, set, {});
}

float LightClusters::chance(const std::vector<Emitter>& lights,
                            const LightQuery& query,
                            std::uint32_t light,
                            const LightSet& set,
                            std::span<const float> arrives) const {
  if (set.is_certain(light)) {
    return 1;
  }
  if (!(set.other.total > 0)) {
    return 0;
  }
  if (light == sole_) {
    return 1;
  }
  const float own = place_[light] == kNoIndex ? alone_value(lights, light, query, set.other.faint)
                                              : expected(lights[light], query);
  const bool by_slot = !arrives.empty();
  const float factor =
      (by_slot ? share_to_choose(arrives[slot_[light]], place_[light] != kNoIndex) + set.least
               : 1.0f) *
      set.asked / set.other.total;
  if (place_[light] == kNoIndex || !(own > 0)) {
    return factor * own;
  }
  std::uint32_t top = kNoIndex;
  const float below = chance_below(light, lights, query, by_slot, own, top);
  return factor * below * (top == kNoIndex ? own : estimate(nodes_[top], query));
}

}  // namespace jovilux
