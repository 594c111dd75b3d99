#include "jovilux/render/distant_emission.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Rays of the tail among all.
constexpr double kTail = 0.05;
// Of the tree's rays, those that are shared out evenly over its cells: arrivals may have missed
// some.
constexpr double kEvenlyOverCells = 0.1;
// Of rays chosen by importance, this part is still chosen by arrivals.
constexpr double kByArrivals = 0.6;
constexpr std::size_t kMostDistantCells = 4096;
// A cell is halved where it holds so many arrivals and that makes them likelier by so much (the
// logarithm of their likelihood).
constexpr std::size_t kLeastArrivals = 8;
constexpr double kLeastCutGain = 3;
// What a cell holds counts a little more than its arrivals, so that an empty one has a density.
constexpr double kCellPrior = 0.5;
constexpr float kDistantOneLess = 0x1.fffffep-1f;

}  // namespace

double DistantEmission::Cell::volume() const {
  return std::accumulate(
      size.begin(), size.end(), 1.0, [](double v, float s) { return v * static_cast<double>(s); });
}

struct DistantEmission::Builder {
  DistantEmission& tree;
  std::vector<Point> points;
  std::vector<double> weights;  // their mean is 1
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
    for (std::uint32_t axis = 0; axis < Node::kLeaf; ++axis) {
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
  // it the part w / V is useful; least variance of such rare events takes densities ~ the root of
  // their frequency. Chances ~ w would leave cells that few rays pass with the light of hundreds in
  // each (a room with a window: 3.4 times the squared error).
  template <class Tasks>
  void make_cells(const Tasks& leaves) {
    std::vector<double> chances;
    double all = 0;
    for (const auto& leaf : leaves) {
      tree.nodes_[leaf.node].child = static_cast<std::uint32_t>(tree.cells_.size());
      tree.cells_.push_back(leaf.cell);
      double weight = kCellPrior;
      for (const std::uint32_t m : leaf.members) {
        weight += weights[m];
      }
      chances.push_back(std::sqrt(weight * leaf.cell.volume()));
      all += chances.back();
    }
    for (double& c : chances) {
      c = (1 - kEvenlyOverCells) * c / all + kEvenlyOverCells / static_cast<double>(chances.size());
    }
    tree.chances_ = chances;
    tree.set_chances(std::move(chances));
  }
};

DistantEmission::DistantEmission(const Emitter& aim,
                                 const Vec3& middle,
                                 float scale,
                                 std::span<const DistantArrival> arrivals)
    : middle_(middle), scale_(scale) {
  if (!arrivals.empty()) {
    Vec2 lo = arrivals[0].ray.across, hi = lo;
    double all = 0;
    for (const DistantArrival& a : arrivals) {
      lo = lo.cwiseMin(a.ray.across);
      hi = hi.cwiseMax(a.ray.across);
      all += static_cast<double>(a.weight);
    }
    // Beyond the outermost arrivals others may lie.
    side_ = 1.1f * std::max((hi - lo).maxCoeff(), 1e-3f * scale);
    corner_ = 0.5f * (lo + hi) - Vec2::Constant(0.5f * side_);
    Builder builder{*this, {}, {}};
    for (const DistantArrival& a : arrivals) {
      builder.points.push_back(point_of(a.ray));
      builder.weights.push_back(static_cast<double>(a.weight) *
                                static_cast<double>(arrivals.size()) / all);
    }
    builder.build();
  }
  // Of the light's own weights, those at the middles of a grid of u.
  constexpr int kGrid = 16;
  double luminance = 0;  // [cd/m2] times solid angle
  for (int i = 0; i < kGrid * kGrid; ++i) {
    const Vec2 u((static_cast<float>(i % kGrid) + 0.5f) / kGrid,
                 (static_cast<float>(i / kGrid) + 0.5f) / kGrid);
    const auto weight = static_cast<double>(sample_toward(aim, middle, u).weight);
    luminance += std::isfinite(weight) ? weight / (kGrid * kGrid) : 0.0;
  }
  double area = static_cast<double>(kPi) * sqr(static_cast<double>(scale));
  if (any_cells()) {
    std::vector<std::size_t> order(cells_.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
      return chances_[a] / cells_[a].volume() > chances_[b] / cells_[b].volume();
    });
    double part = 0, volume = 0;
    for (std::size_t i = 0; i < order.size() && part < 0.9; ++i) {
      part += chances_[order[i]];
      volume += cells_[order[i]].volume();
    }
    area = volume * sqr(static_cast<double>(side_));
  }
  flux_ = luminance * area;
}

Vec2 DistantEmission::across(const Vec3& middle, const Vec3& p, const Vec3& toward) {
  const Frame frame = Frame::around(toward);
  const Vec3 local = frame.to_local(p - middle);
  return {local.x(), local.y()};
}

void DistantEmission::set_chances(std::vector<double> chances) {
  const double all = std::accumulate(chances.begin(), chances.end(), 0.0);
  cumulative_.assign(chances.size() + 1, 0.0f);
  double sum = 0;
  for (std::size_t i = 0; i < chances.size(); ++i) {
    sum += chances[i] / all;
    cumulative_[i + 1] = static_cast<float>(sum);
  }
  cumulative_.back() = 1;
}

void DistantEmission::choose_by(const std::vector<double>& importance) {
  const double all = std::accumulate(
      importance.begin(), importance.begin() + static_cast<std::ptrdiff_t>(cells_.size()), 0.0);
  if (!(all > 0)) {
    return;
  }
  std::vector<double> mixed(chances_.size());
  for (std::size_t c = 0; c < mixed.size(); ++c) {
    mixed[c] = kByArrivals * chances_[c] + (1 - kByArrivals) * importance[c] / all;
  }
  set_chances(std::move(mixed));
}

DistantEmission::Point DistantEmission::point_of(const DistantRay& ray) const {
  const Vec2 place = (ray.across - corner_) / side_;
  return {ray.u.x(), ray.u.y(), place.x(), place.y()};
}

std::size_t DistantEmission::cell_at(const Point& p) const {
  std::uint32_t index = 0;
  while (nodes_[index].axis != Node::kLeaf) {
    const Node& n = nodes_[index];
    index = n.child + (p[n.axis] >= n.cut ? 1 : 0);
  }
  return nodes_[index].child;
}

double DistantEmission::tail_density(const Vec2& across) const {
  const double r2 = static_cast<double>(across.squaredNorm()) / sqr(static_cast<double>(scale_));
  return 1 / (2 * kPiD * sqr(static_cast<double>(scale_)) * std::pow(1 + r2, 1.5));
}

double DistantEmission::density(const DistantRay& ray) const {
  const double tail = tail_density(ray.across);
  if (!any_cells()) {
    return tail;
  }
  const Point p = point_of(ray);
  if (!(std::min(p[2], p[3]) >= 0) || !(std::max(p[2], p[3]) < 1)) {
    return kTail * tail;
  }
  const std::size_t cell = cell_at(p);
  const double chance = static_cast<double>(cumulative_[cell + 1] - cumulative_[cell]);
  return kTail * tail +
         (1 - kTail) * chance / (cells_[cell].volume() * sqr(static_cast<double>(side_)));
}

EmittedPhoton DistantEmission::sample(const Emitter& aim,
                                      float u_cell,
                                      const Vec2& u_place,
                                      const Vec2& u_light) const {
  DistantRay ray{u_light, Vec2::Zero()};
  EmittedPhoton photon;
  photon.cell = static_cast<std::uint32_t>(cells_.size());
  constexpr auto kTailChance = static_cast<float>(kTail);
  if (!any_cells() || u_cell < kTailChance) {
    // The part within r of the middle is 1 - (1 + r^2 / s^2)^(-1/2).
    const float left = 1 - u_place.x();
    const float r = scale_ * std::sqrt(std::max(0.0f, 1 / (left * left) - 1)),
                azimuth = 2 * kPi * u_place.y();
    ray.across = r * Vec2(std::cos(azimuth), std::sin(azimuth));
  } else {
    const float u = std::min((u_cell - kTailChance) / (1 - kTailChance), kDistantOneLess);
    const auto above = std::upper_bound(cumulative_.begin() + 1, cumulative_.end() - 1, u);
    const auto c = static_cast<std::size_t>(above - cumulative_.begin()) - 1;
    const Cell& cell = cells_[c];
    photon.cell = static_cast<std::uint32_t>(c);
    const auto within = [&](std::size_t axis, float v) {
      return std::min(cell.lo[axis] + v * cell.size[axis], kDistantOneLess);
    };
    ray.u = {within(0, u_light.x()), within(1, u_light.y())};
    ray.across = corner_ + side_ * Vec2(within(2, u_place.x()), within(3, u_place.y()));
  }
  const LightSample light = sample_toward(aim, middle_, ray.u);
  const double density = this->density(ray);
  if (!(light.weight > 0) || !(density > 0)) {
    return photon;
  }
  photon.flux = static_cast<float>(static_cast<double>(light.weight) / density);
  const Frame frame = Frame::around(light.wi);
  photon.ray = {middle_ + ray.across.x() * frame.x + ray.across.y() * frame.y, Vec3(-light.wi)};
  photon.colored = light.colored;
  photon.rgb = light.rgb;
  if (!std::isfinite(photon.flux)) {
    photon.flux = 0;
  }
  return photon;
}

}  // namespace jovilux
