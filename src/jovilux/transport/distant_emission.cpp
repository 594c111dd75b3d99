#include "jovilux/transport/distant_emission.h"

#include "jovilux/base/sampler.h"
#include "jovilux/transport/direction_tree.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Of rays chosen by importance, this part is still chosen by arrivals.
constexpr double kByArrivals = 0.6;
// Nothing is emitted from cells whose photons would stand for so many times the light of usual ones
// (harmonic mean over what arrives): their light is left to camera paths. Photons that stand for
// more than the lesser factor end at their first scattering. docs/experiments.md has what other
// factors give.
constexpr double kHeaviestFirst = 160, kHeaviestAll = 10;
// Arrivals that each cell holds beside those found, so that a cell without any has a chance.
constexpr double kCellPrior = 0.5;
constexpr std::size_t kMostDistantCells = 4096;
// A cell is halved where it holds so many arrivals and that makes them likelier by so much (the
// logarithm of their likelihood).
constexpr std::size_t kLeastArrivals = 8;
constexpr double kLeastCutGain = 3;
// Photons by which a light's flux is found.
constexpr std::uint32_t kFluxSamples = 1024;
constexpr float kDistantOneLess = 0x1.fffffep-1f;

}  // namespace

double DistantEmission::Cell::volume() const {
  return std::accumulate(
      size.begin(), size.end(), 1.0, [](double v, float s) { return v * static_cast<double>(s); });
}

struct DistantEmission::Builder {
  DistantEmission& tree;
  std::vector<Point> points;
  std::vector<double> weights;   // their mean is 1
  std::uint32_t first_axis = 0;  // 2 where directions are all the same
  struct Cut {
    double gain = 0;
    std::uint32_t axis = Node::kLeaf;
    float at = 0;
  };

  // The gain in log-likelihood of dividing a cell's arrivals at one place.
  static double gain(double below, double above, double part) {
    const double all = below + above;
    const auto term = [&](double weight, double size) {
      return weight > 0 ? weight * std::log(weight / (all * size)) : 0.0;
    };
    return term(below, part) + term(above, 1 - part);
  }

  Cut best_cut(std::span<const std::uint32_t> members, const Cell& cell) const {
    // Near both ends as well: a window fills a small part of a cell.
    constexpr std::array<double, 7> kCuts = {
        1.0 / 16, 1.0 / 8, 1.0 / 4, 1.0 / 2, 3.0 / 4, 7.0 / 8, 15.0 / 16};
    Cut best{kLeastCutGain, Node::kLeaf, 0};
    for (std::uint32_t axis = first_axis; axis < Node::kLeaf; ++axis) {
      std::array<double, kCuts.size()> below{};
      double all = 0;
      for (const std::uint32_t m : members) {
        const double x = static_cast<double>(points[m][axis] - cell.lo[axis]) /
                         static_cast<double>(cell.size[axis]);
        all += weights[m];
        for (std::size_t k = 0; k < kCuts.size(); ++k) {
          below[k] += x < kCuts[k] ? weights[m] : 0.0;
        }
      }
      for (std::size_t k = 0; k < kCuts.size(); ++k) {
        const float at = cell.lo[axis] + cell.size[axis] * static_cast<float>(kCuts[k]);
        const bool divides = at > cell.lo[axis] && at < cell.lo[axis] + cell.size[axis];
        if (const double g = gain(below[k], all - below[k], kCuts[k]); divides && g > best.gain) {
          best = {g, axis, at};
        }
      }
    }
    return best;
  }

  void build() {
    struct Task {
      std::uint32_t node;
      std::vector<std::uint32_t> members;
      Cell cell;
      Cut cut;
    };
    const auto least = [](const Task& a, const Task& b) {
      return a.cut.gain < b.cut.gain || (a.cut.gain == b.cut.gain && a.node > b.node);
    };
    const auto cut_of = [&](const Task& t) {
      return t.members.size() >= kLeastArrivals ? best_cut(t.members, t.cell) : Cut{};
    };
    Task root{0, std::vector<std::uint32_t>(points.size()), {{0, 0, 0, 0}, {1, 1, 1, 1}}, {}};
    std::iota(root.members.begin(), root.members.end(), 0U);
    root.cut = cut_of(root);
    tree.nodes_.resize(1);
    std::vector<Task> heap, leaves;
    heap.push_back(std::move(root));
    // The cut that gains most comes first.
    while (!heap.empty()) {
      std::pop_heap(heap.begin(), heap.end(), least);
      Task t = std::move(heap.back());
      heap.pop_back();
      if (t.cut.axis == Node::kLeaf || heap.size() + leaves.size() + 2 > kMostDistantCells) {
        leaves.push_back(std::move(t));
        continue;
      }
      const auto child = static_cast<std::uint32_t>(tree.nodes_.size());
      tree.nodes_.resize(tree.nodes_.size() + 2);
      tree.nodes_[t.node] = {t.cut.at, t.cut.axis, child};
      const std::uint32_t axis = t.cut.axis;
      Task low{child, {}, t.cell, {}}, high{child + 1, {}, t.cell, {}};
      low.cell.size[axis] = t.cut.at - t.cell.lo[axis];
      high.cell.lo[axis] = t.cut.at;
      high.cell.size[axis] = t.cell.lo[axis] + t.cell.size[axis] - t.cut.at;
      for (const std::uint32_t m : t.members) {
        (points[m][axis] >= t.cut.at ? high : low).members.push_back(m);
      }
      for (Task* part : {&low, &high}) {
        part->cut = cut_of(*part);
        heap.push_back(std::move(*part));
        std::push_heap(heap.begin(), heap.end(), least);
      }
    }
    make_cells(leaves);
  }

  // A cell of volume V that holds the share w of what arrives has the chance sqrt(w V). Of a ray in
  // it the part ~ w / V is useful; least variance of such rare events takes densities ~ the root of
  // their frequency. Chances ~ w would leave cells that few rays pass with the light of hundreds in
  // each (a room with a window: 3.4 times the squared error).
  template <class Tasks>
  void make_cells(const Tasks& leaves) {
    std::vector<double> held;
    double all = 0;
    for (const auto& leaf : leaves) {
      double weight = 0;
      for (const std::uint32_t m : leaf.members) {
        weight += weights[m];
      }
      held.push_back(weight);
      all += weight;
    }
    // What a photon of each cell would stand for; and the harmonic mean of that over what arrives,
    // which few heavy ones do not raise.
    std::vector<double> chances(leaves.size()), flux(leaves.size());
    double per_flux = 0;
    for (std::size_t i = 0; i < leaves.size(); ++i) {
      const double volume = leaves[i].cell.volume();
      chances[i] = std::sqrt((held[i] + kCellPrior) * volume);
      flux[i] = volume / chances[i];
      per_flux += held[i] / all / flux[i];
    }
    const double usual = 1 / per_flux;
    for (std::size_t i = 0; i < leaves.size(); ++i) {
      std::uint32_t& cell = tree.nodes_[leaves[i].node].child;
      cell = kNoIndex;
      if (flux[i] <= kHeaviestFirst * usual) {
        cell = static_cast<std::uint32_t>(tree.cells_.size());
        tree.cells_.push_back(leaves[i].cell);
        tree.cells_.back().first_only = flux[i] > kHeaviestAll * usual;
        tree.chances_.push_back(chances[i]);
      }
    }
  }
};

DistantEmission::DistantEmission(const Emitter& aim,
                                 const Vec3& middle,
                                 std::span<const DistantArrival> arrivals)
    : middle_(middle) {
  if (arrivals.empty()) {
    return;
  }
  Vec2 lo = arrivals[0].ray.across, hi = lo;
  double all = 0;
  for (const DistantArrival& a : arrivals) {
    lo = lo.cwiseMin(a.ray.across);
    hi = hi.cwiseMax(a.ray.across);
    all += static_cast<double>(a.weight);
  }
  side_ = std::max(1.01f * (hi - lo).maxCoeff(), 1e-6f);
  corner_ = 0.5f * (lo + hi) - Vec2::Constant(0.5f * side_);
  Builder builder{*this, {}, {}, aim.kind == LightKind::kSun ? 2U : 0U};
  for (const DistantArrival& a : arrivals) {
    builder.points.push_back(point_of(a.ray));
    builder.weights.push_back(static_cast<double>(a.weight) * static_cast<double>(arrivals.size()) /
                              all);
  }
  builder.build();
  cumulative_ = cumulative_of(chances_);
  for (std::uint32_t i = 0; i < kFluxSamples; ++i) {
    const Sampler sampler(1, 0x64666c78U, i);
    flux_ +=
        static_cast<double>(sample(aim, sampler.single(0), sampler.pair(1), sampler.pair(2)).flux) /
        kFluxSamples;
  }
}

LightSample DistantEmission::direction(const Emitter& aim, const Vec2& u) {
  return sample_toward(aim, Vec3::Zero(), u);
}

DistantRay DistantEmission::ray_of(const Emitter& aim,
                                   const Vec3& middle,
                                   const Vec3& p,
                                   const Vec3& toward) {
  DistantRay out;
  const Vec3 local = Frame::around(toward).to_local(p - middle);
  out.across = {local.x(), local.y()};
  if (aim.kind != LightKind::kSun) {
    out.direction = square_of(toward);
  }
  return out;
}

void DistantEmission::choose_by(const std::vector<double>& importance) {
  const double all = std::accumulate(importance.begin(), importance.end(), 0.0),
               learned = std::accumulate(chances_.begin(), chances_.end(), 0.0);
  if (!(all > 0)) {
    return;
  }
  std::vector<double> mixed(chances_.size());
  for (std::size_t c = 0; c < mixed.size(); ++c) {
    mixed[c] = kByArrivals * chances_[c] / learned + (1 - kByArrivals) * importance[c] / all;
  }
  cumulative_ = cumulative_of(mixed);
}

DistantEmission::Point DistantEmission::point_of(const DistantRay& ray) const {
  const Vec2 place = (ray.across - corner_) / side_;
  return {ray.direction.x(), ray.direction.y(), place.x(), place.y()};
}

Covers DistantEmission::covers(const Emitter& aim, const Vec3& p, const Vec3& toward) const {
  if (cells_.empty()) {
    return Covers::kNothing;
  }
  const Point point = point_of(ray_of(aim, middle_, p, toward));
  if (!(std::min(point[2], point[3]) >= 0) || !(std::max(point[2], point[3]) < 1)) {
    return Covers::kNothing;
  }
  std::uint32_t index = 0;
  while (nodes_[index].axis != Node::kLeaf) {
    const Node& n = nodes_[index];
    index = n.child + (point[n.axis] >= n.cut ? 1 : 0);
  }
  const std::uint32_t cell = nodes_[index].child;
  return cell == kNoIndex          ? Covers::kNothing
         : cells_[cell].first_only ? Covers::kFirst
                                   : Covers::kAll;
}

EmittedPhoton DistantEmission::sample(const Emitter& aim,
                                      float u_cell,
                                      const Vec2& u_place,
                                      const Vec2& u_light) const {
  EmittedPhoton photon;
  if (cells_.empty()) {
    return photon;
  }
  const auto above = std::upper_bound(cumulative_.begin() + 1, cumulative_.end() - 1, u_cell);
  const auto number = static_cast<std::size_t>(above - cumulative_.begin()) - 1;
  const Cell& cell = cells_[number];
  photon.cell = static_cast<std::uint32_t>(number);
  photon.first_only = cell.first_only;
  const auto within = [&](std::size_t axis, float v) {
    return std::min(cell.lo[axis] + v * cell.size[axis], kDistantOneLess);
  };
  const bool sun = aim.kind == LightKind::kSun;
  LightSample light;
  if (sun) {
    light = direction(aim, u_light);
  } else {
    // Evenly over the cell's directions: 4 pi over the whole square.
    light.wi = direction_of({within(0, u_light.x()), within(1, u_light.y())});
    light.weight =
        jovilux::covers(aim, light.wi) ? 4 * kPi * seen_luminance(aim, light.wi, {middle_}) : 0.0f;
    if (aim.detail != nullptr && light.weight > 0) {
      const LightTint tint = tint_between(aim, middle_, middle_, light.wi);
      light.weight *= tint.gray;
      light.colored = tint.colored;
      light.rgb = tint.rgb;
    }
  }
  const double chance = this->chance(number);
  if (!(light.weight > 0) || !(chance > 0)) {
    return photon;
  }
  photon.flux = static_cast<float>(static_cast<double>(light.weight) * cell.volume() *
                                   sqr(static_cast<double>(side_)) / chance);
  const Vec2 across = corner_ + side_ * Vec2(within(2, u_place.x()), within(3, u_place.y()));
  const Frame frame = Frame::around(light.wi);
  photon.ray = {middle_ + across.x() * frame.x + across.y() * frame.y, Vec3(-light.wi)};
  photon.colored = light.colored;
  photon.rgb = light.rgb;
  if (!std::isfinite(photon.flux)) {
    photon.flux = 0;
  }
  return photon;
}

}  // namespace jovilux
