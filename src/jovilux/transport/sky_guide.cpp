#include "jovilux/transport/sky_guide.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/scene/scene.h"
#include "jovilux/transport/cell_places.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

constexpr std::uint32_t kSkyStream = 0x736b7967U;
// Rounds of shadow rays, and rays of each cell in a round.
constexpr std::uint32_t kSkyRounds = 3, kMostRaysOfRound = 128, kLeastRaysOfRound = 8;
constexpr std::size_t kMostPlacesOfCell = 32, kNearCells = 8;
// Of the rays of later rounds, those that go where others arrived.
constexpr float kTowardArrivals = 0.75f;
// What neighbors' arrivals count beside a cell's own.
constexpr float kOfNeighbor = 0.25f;
// The density of a tree that is the same for all directions.
constexpr float kEvenDirections = 0.05f;
// The most of a cell's directions that its tree chooses, where hardly any of the light arrives;
// none where this part of it does.
constexpr float kMostByTree = 0.9f, kWideOpen = 0.35f, kHardlyAny = 0.1f;

}  // namespace

float SkyDirections::mixed(const Vec3& wi, float own) const {
  return share > 0 ? share * directions_pdf(nodes, root, wi) + (1 - share) * own : own;
}

LightSample SkyDirections::sample(const Emitter& e,
                                  const Vec3& p,
                                  const Vec2& u,
                                  const Vec3* side) const {
  constexpr float kBelowOne = 0x1.fffffep-1f;
  if (!(share > 0)) {
    return sample_toward(e, p, u, side);
  }
  if (u.x() >= share) {
    const float left = std::min((u.x() - share) / (1 - share), kBelowOne);
    LightSample out = sample_toward(e, p, {left, u.y()}, side);
    if (out.weight > 0) {
      const float pdf = mixed(out.wi, out.pdf);
      out.weight *= out.pdf / pdf;
      out.pdf = pdf;
    }
    return out;
  }
  LightSample out;
  float by_tree = 0;
  out.wi = sample_directions(nodes, root, {std::min(u.x() / share, kBelowOne), u.y()}, by_tree);
  out.pdf = share * by_tree + (1 - share) * light_pdf(e, p, out.wi, {p}, side);
  const float luminance = covers(e, out.wi) ? seen_luminance(e, out.wi, {p}) : 0;
  if (!(luminance > 0) || !(out.pdf > 0)) {
    return {};
  }
  out.distance = kFar;
  out.weight = luminance / out.pdf;
  if (e.detail != nullptr) {
    const LightTint tint = tint_between(e, p, p, out.wi);
    out.weight *= tint.gray;
    out.colored = tint.colored;
    out.rgb = tint.rgb;
  }
  return out;
}

// Learns the cells of one light.
struct SkyGuide::Builder {
  const Scene& scene;
  const Emitter& e;
  const std::vector<ShadingPlace>& places;
  const std::vector<std::vector<std::uint32_t>>& cells;
  const std::vector<std::vector<std::uint32_t>>& neighbors;
  const std::vector<float>& shares;  // of directions that trees are to choose
  std::uint32_t seed;

  // Of each cell, what arrived in the last round; and the tree of what did before.
  std::vector<std::vector<DirectionSample>> arrivals{cells.size()};
  std::vector<std::vector<DirectionNode>> trees{cells.size()};

  // A ray from one of the cell's places.
  void ask(std::size_t cell, const Sampler& sampler, RayCounts& rays) {
    const std::vector<std::uint32_t>& members = cells[cell];
    const auto number =
        static_cast<std::size_t>(sampler.single(0) * static_cast<float>(members.size()));
    const ShadingPlace& x = places[members[std::min(number, members.size() - 1)]];
    const Vec3* const side = x.normal.isZero() ? nullptr : &x.normal;
    const SkyDirections directions{trees[cell], 0, trees[cell].empty() ? 0 : kTowardArrivals};
    const LightSample light = directions.sample(e, x.position, sampler.pair(1), side);
    const float cosine = side == nullptr ? 0.25f : std::max(0.0f, x.normal.dot(light.wi));
    if (!(light.weight > 0) || !(cosine > 0)) {
      return;
    }
    ++rays.shadow;
    const Ray shadow{ray_start(x), light.wi};
    const float arrives = light.weight * cosine *
                          passage(scene, ShadowRule::of(scene, e), shadow, kNoIndex, rays).mean();
    if (arrives > 0 && std::isfinite(arrives)) {
      arrivals[cell].push_back({square_of(light.wi), arrives});
    }
  }

  // What arrived in a cell and beside it in the last round.
  std::vector<DirectionSample> arrivals_around(std::size_t cell) const {
    std::vector<DirectionSample> out;
    for (const std::uint32_t n : neighbors[cell]) {
      for (DirectionSample s : arrivals[n]) {
        s.weight *= n == cell ? 1.0f : kOfNeighbor;
        out.push_back(s);
      }
    }
    return out;
  }

  // Trees of what arrived in the last round; none where nothing did.
  void plant() {
    parallel_for(cells.size(), [&](std::size_t c) {
      trees[c].clear();
      if (std::vector<DirectionSample> around = arrivals_around(c);
          shares[c] > 0 && !around.empty()) {
        add_direction_tree(around, kEvenDirections, trees[c]);
      }
    });
  }

  void learn(std::uint32_t rays_of_round, RayCounts& rays) {
    std::vector<RayCounts> counts(cells.size());
    for (std::uint32_t round = 0; round < kSkyRounds; ++round) {
      if (round > 0) {
        plant();
        // Rays of the first round have few hits, each of a large weight.
        arrivals.assign(cells.size(), {});
      }
      parallel_for(cells.size(), [&](std::size_t c) {
        const std::uint32_t stream = mix(mix(kSkyStream, static_cast<std::uint32_t>(c)), round);
        for (std::uint32_t i = 0; i < rays_of_round && shares[c] > 0; ++i) {
          ask(c, Sampler(seed, stream, i), counts[c]);
        }
      });
    }
    for (const RayCounts& c : counts) {
      rays += c;
    }
  }
};

SkyGuide::SkyGuide(const Scene& scene,
                   const GuideTree& tree,
                   const std::vector<ShadingPlace>& surfaces,
                   double most_rays,
                   std::uint32_t seed,
                   RayCounts& rays)
    : first_cell_(scene.emitters.size(), kNoIndex) {
  if (tree.empty()) {
    return;
  }
  const std::vector<std::vector<std::uint32_t>> cells =
      places_by_cell(tree, surfaces, kMostPlacesOfCell);
  std::vector<std::vector<std::uint32_t>> neighbors;
  for (const std::uint32_t light : scene.distant) {
    if (!scene.emitters[light].shines() || !suits(scene.emitters[light])) {
      continue;
    }
    const std::vector<float> shares = shares_of(scene, tree, cells, light);
    const auto shaded = static_cast<double>(
        std::count_if(shares.begin(), shares.end(), [](float s) { return s > 0; }));
    const double of_round = most_rays / (shaded * kSkyRounds);
    if (!(shaded > 0) || of_round < kLeastRaysOfRound) {
      continue;
    }
    if (neighbors.empty()) {
      neighbors = neighbors_of(cells, surfaces, kNearCells);
    }
    Builder builder{
        scene, scene.emitters[light], surfaces, cells, neighbors, shares, mix(seed, light)};
    builder.learn(
        static_cast<std::uint32_t>(std::min(of_round, static_cast<double>(kMostRaysOfRound))),
        rays);
    most_rays -= shaded * kSkyRounds * std::min<double>(of_round, kMostRaysOfRound);
    first_cell_[light] = static_cast<std::uint32_t>(cells_.size());
    builder.plant();
    for (std::size_t c = 0; c < cells.size(); ++c) {
      cells_.push_back(add_tree(builder.trees[c], shares[c]));
    }
  }
}

// A cell with a tree of its own, whose nodes go to the end of all.
SkyGuide::Cell SkyGuide::add_tree(const std::vector<DirectionNode>& tree, float share) {
  if (tree.empty()) {
    return {};
  }
  const auto root = static_cast<std::uint32_t>(nodes_.size());
  for (DirectionNode n : tree) {
    for (std::uint32_t& child : n.child) {
      child += child == 0 ? 0 : root;
    }
    nodes_.push_back(n);
  }
  return {root, share};
}

// Of each cell, the share of directions toward a light that a tree is to choose.
std::vector<float> SkyGuide::shares_of(const Scene& scene,
                                       const GuideTree& tree,
                                       const std::vector<std::vector<std::uint32_t>>& cells,
                                       std::uint32_t light) {
  const std::uint32_t slot = scene.light_clusters.slot_of(light);
  std::vector<float> out(cells.size(), 0.0f);
  for (std::uint32_t c = 0; c < cells.size(); ++c) {
    const float arrives = tree.arrives(c)[slot];
    if (!cells[c].empty()) {
      out[c] =
          kMostByTree * std::clamp((kWideOpen - arrives) / (kWideOpen - kHardlyAny), 0.0f, 1.0f);
    }
  }
  return out;
}

LightSample SkyGuide::sample(const Emitter& e,
                             std::uint32_t emitter,
                             std::uint32_t cell,
                             const Vec3& p,
                             const Vec2& u,
                             const Vec3* side) const {
  return directions_of(emitter, cell).sample(e, p, u, side);
}

float SkyGuide::pdf(const Emitter& e,
                    std::uint32_t emitter,
                    std::uint32_t cell,
                    const Vec3& p,
                    const Vec3& wi,
                    const Vec3* side) const {
  return directions_of(emitter, cell).mixed(wi, light_pdf(e, p, wi, {p}, side));
}

}  // namespace jovilux
