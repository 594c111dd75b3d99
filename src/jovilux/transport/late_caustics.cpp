#include "jovilux/transport/late_caustics.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/emitters/form_parts.h"
#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/photons.h"
#include "jovilux/transport/surface_vertex.h"

#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

constexpr std::uint32_t kAimedStream = 0x6c617465U;
constexpr std::size_t kAimedBlock = 512;
// Of more pairs of a scattering and an object, an even choice of the scatterings is looked at.
constexpr std::size_t kMostAims = 1 << 22;
// Surfaces on one photon's way that mirrors and panes divide.
constexpr int kMostSurfacesMet = 64;

// Photons of a cell before it is halved: late caustics change from place to place as lamps' do, but
// their light comes from all of what is bright.
constexpr std::size_t kPhotonsOfCell = 128;
// Of the guided directions, those that fill the cones toward the mirrors' balls evenly: where few
// photons fell, a tree of directions has gaps, which leave fireflies. Squared error behind a jar
// (`new --scene jar`, 8 samples; without, 18): 0.8 with none, 0.32, 0.27 and 0.26 with 0.1, 0.3 and
// 0.5.
constexpr float kAimedAtBalls = 0.3f;
// The part of the directions that is guided where late caustics are the part `f` of the light. The
// variance of the rest grows by 1 / (1 - share), that of the caustics falls by 1 / share; half of
// the largest where f has the value of kHalfOfMost. Below the least part a look into the guide
// costs more than it brings.
constexpr float kMostGuided = 0.7f, kHalfOfMost = 0.1f, kLeastCausticPart = 0.02f;
// Learning takes the trial's part of the photons first, and ends where the mean of the shares over
// the places of camera paths is below the least.
constexpr std::size_t kTrialPart = 4;
constexpr double kLeastMeanShare = 0.003;

float guided_share(double f) {
  const float part = std::min(static_cast<float>(f), 1.0f);
  return part < kLeastCausticPart ? 0 : kMostGuided * part / (part + kHalfOfMost);
}

// The ball around an object that mirrors or lets light through smoothly.
struct Target {
  Vec3 center = Vec3::Zero();
  float radius = 0;
};

std::vector<Target> targets_of(const Scene& scene) {
  std::vector<Target> out;
  const std::vector<Bounds> boxes = scene.world.surface_bounds(scene.surfaces.size());
  for (std::size_t s = 0; s < scene.surfaces.size(); ++s) {
    const std::uint32_t material = scene.surfaces[s].material;
    if (material == kNoIndex || boxes[s].empty() || !std::isfinite(boxes[s].diagonal())) {
      continue;
    }
    const SurfaceModel& m = scene.materials[scene.after_bounce(material)];
    if (m.only_mirror() && !m.is_pane()) {
      out.push_back({boxes[s].center(), 0.5f * boxes[s].diagonal()});
    }
  }
  return out;
}

// 1 - cos of the half angle of the cone around a ball that is seen from a distance; 2: from within.
float cone_height(float radius, float distance) {
  const float sine = radius / distance;
  return sine < 1 ? sqr(sine) / (1 + std::sqrt(1 - sqr(sine))) : 2.0f;
}

// What may arrive at a ball of the light that a surface scatters, over all of it: for the choice of
// photons only, and so above 0 wherever some does.
float may_arrive(const PhotonScattering& from, const SurfaceModel& m, const Target& t) {
  const Vec3 to = t.center - from.p.position;
  const float distance = to.norm(), side = from.wo.dot(from.p.normal) < 0 ? -1.0f : 1.0f;
  if (distance <= t.radius) {
    return 1;
  }
  const float upright = side * from.p.normal.dot(to) + t.radius;
  const float cosine = m.lets_through() ? 1 : std::clamp(upright / distance, 0.0f, 1.0f);
  return cosine * sqr(t.radius / distance);
}

struct AimedPhoton {
  std::uint32_t scattering = 0, target = 0;
  float chance = 0;  // expected number of photons of this kind
};

// On its way over mirrors.
struct AimedWalk {
  Ray ray;
  float power = 0;             // [lm]
  Vec3 source = Vec3::Zero();  // of the last mirror
  int mirrors = 0;
};

class LateCaustics {
 public:
  LateCaustics(const Scene& scene, const LateCausticsPlan& plan, RayCounts& rays)
      : scene_(scene), plan_(plan), rays_(rays), targets_(targets_of(scene)) {}

  GuideTree learn(std::span<const ShadingPlace> places) {
    // Rough surface, mirror, rough surface: a camera path is scattered at least three times.
    if (targets_.empty() || plan_.bounces < 3) {
      return {};
    }
    const GuideTree trial = learned_from(plan_.photons / kTrialPart);
    return mean_share(trial, places) < kLeastMeanShare ? GuideTree() : learned_from(plan_.photons);
  }

 private:
  GuideTree learned_from(std::size_t photons) {
    scatterings_.clear();
    chosen_.clear();
    trace_photons(scene_, photons, plan_.bounces, true, plan_.seed, rays_, &scatterings_);
    choose(photons);
    const std::vector<PhotonRecord> arrived = trace();
    GuideTree out =
        GuideTree::of_photons(arrived, {kPhotonsOfCell, kMostGuided, kAimedAtBalls, false});
    if (!out.empty()) {
      out.limit_shares(shares(out, arrived));
    }
    return out;
  }

  static double mean_share(const GuideTree& tree, std::span<const ShadingPlace> places) {
    if (tree.empty() || places.empty()) {
      return 0;
    }
    double sum = 0;
    for (const ShadingPlace& p : places) {
      sum += static_cast<double>(tree.cell(tree.cell_at(p.position, p.normal)).share);
    }
    return sum / static_cast<double>(places.size());
  }

  const SurfaceModel& material(const PhotonScattering& s) const {
    return scene_.materials[s.material];
  }

  // Systematic sampling: so many aimed photons, each pair of a scattering and an object by what may
  // arrive there.
  void choose(std::size_t photons) {
    const std::size_t stride = scatterings_.size() * targets_.size() / kMostAims + 1;
    std::vector<float> weights;
    double all = 0;
    const auto each_pair = [&](const auto& use) {
      for (std::size_t i = 0; i < scatterings_.size(); i += stride) {
        for (std::size_t t = 0; t < targets_.size(); ++t) {
          use(i, t);
        }
      }
    };
    each_pair([&](std::size_t i, std::size_t t) {
      const PhotonScattering& from = scatterings_[i];
      weights.push_back(from.power * may_arrive(from, material(from), targets_[t]));
      all += static_cast<double>(weights.back());
    });
    if (!(all > 0)) {
      return;
    }
    const double step = all / static_cast<double>(photons);
    double sum = 0, next = 0.5 * step;
    std::size_t pair = 0;
    each_pair([&](std::size_t i, std::size_t t) {
      const auto weight = static_cast<double>(weights[pair++]);
      sum += weight;
      for (; next < sum; next += step) {
        chosen_.push_back({static_cast<std::uint32_t>(i),
                           static_cast<std::uint32_t>(t),
                           static_cast<float>(weight / step / static_cast<double>(stride))});
      }
    });
  }

  // What aimed photons leave where they fall, in their order.
  std::vector<PhotonRecord> trace() {
    std::vector<std::vector<PhotonRecord>> blocks((chosen_.size() + kAimedBlock - 1) / kAimedBlock);
    std::vector<RayCounts> counts(blocks.size());
    parallel_for(blocks.size(), [&](std::size_t b) {
      const MarchCounts march_before = march_counts();
      const std::size_t end = std::min(chosen_.size(), (b + 1) * kAimedBlock);
      for (std::size_t i = b * kAimedBlock; i < end; ++i) {
        Rng random(mix(mix(plan_.seed, kAimedStream), static_cast<std::uint32_t>(i)));
        follow(chosen_[i], random, blocks[b], counts[b]);
      }
      counts[b].march += march_counts() - march_before;
    });
    std::vector<PhotonRecord> out;
    for (std::size_t b = 0; b < blocks.size(); ++b) {
      out.insert(out.end(), blocks[b].begin(), blocks[b].end());
      rays_ += counts[b];
    }
    return out;
  }

  // One aimed photon, over mirrors and through glass and panes to what is rough.
  void follow(const AimedPhoton& aimed,
              Rng& random,
              std::vector<PhotonRecord>& out,
              RayCounts& counts) const {
    AimedWalk walk = start(aimed, random);
    for (int step = 0; step < kMostSurfacesMet && walk.power > 0; ++step) {
      const Hit hit = scene_.world.closest(walk.ray);
      ++counts.path;
      if (!hit.found() || !passes(walk, scene_.world.point(walk.ray, hit), random, out)) {
        return;
      }
    }
  }

  // In the cone toward the object's ball, evenly.
  AimedWalk start(const AimedPhoton& aimed, Rng& random) const {
    const PhotonScattering& from = scatterings_[aimed.scattering];
    const Target& target = targets_[aimed.target];
    const Vec3 to = target.center - from.p.position;
    const float distance = to.norm(), height = cone_height(target.radius, distance);
    const Vec3 axis = distance > 0 ? Vec3(to / distance) : Vec3(Vec3::UnitZ());
    const Vec2 u(uniform(random), uniform(random));
    const Vec3 wi = Frame::around(axis).to_world(cone_direction(height, u)).normalized();
    AimedWalk walk;
    walk.ray = {World::leave(from.p, wi), wi};
    walk.power = from.power / aimed.chance * sent(from, wi) * 2 * kPi * height;
    return walk;
  }

  // False where the photon ends: on what is rough it leaves a record if it came over a mirror.
  bool passes(AimedWalk& walk,
              const SurfacePoint& p,
              Rng& random,
              std::vector<PhotonRecord>& out) const {
    const std::uint32_t number = scene_.surfaces[p.surface].material;
    if (number == kNoIndex) {
      return false;
    }
    const SurfaceModel& m = scene_.materials[number];
    const Vec3 wo = -walk.ray.direction;
    const SurfaceSide side = SurfaceSide::of(p.normal, p.shading_normal, wo);
    const auto u = [&] { return uniform(random); };
    const std::optional<Spectrum> straight = straight_through(
        m, scene_.pictures[number], p.uv, wo.dot(side.normal), u, [&](float) { return u(); });
    if (straight) {
      walk.power *= straight->mean();
      walk.ray.origin = World::leave(p, walk.ray.direction);
      return true;
    }
    if (m.only_mirror()) {
      // The rough surfaces at both ends count as well.
      return ++walk.mirrors + 2 <= plan_.bounces && turn(walk, p, m, side, random);
    }
    if (walk.mirrors > 0) {
      out.push_back(
          {p.position, cell_normal(m, p.normal, wo), walk.source, square_of(wo), walk.power});
    }
    return false;
  }

  // At a mirror, or smooth glass that reflects or refracts by chance.
  static bool turn(AimedWalk& walk,
                   const SurfacePoint& p,
                   const SurfaceModel& m,
                   const SurfaceSide& side,
                   Rng& random) {
    const Vec3 wo = -walk.ray.direction;
    Vec3 next = mirrored(walk.ray.direction, side.normal);
    if (!m.is_pane()) {
      const Frame frame = Frame::around(side.shading);
      const bool inside = p.normal.dot(wo) < 0;
      const Vec2 u(uniform(random), uniform(random));
      const Scattering s = scatter(m, frame.to_local(wo), u, uniform(random), inside);
      if (!(s.pdf > 0)) {
        return false;
      }
      walk.power *= s.weight.mean() * refracted_flux(m, inside, s.wi.z() < 0);
      next = frame.to_world(s.wi).normalized();
    }
    walk.source = p.position;
    walk.ray = {World::leave(p, next), next};
    return true;
  }

  static float uniform(Rng& random) { return static_cast<float>(random.uniform()); }

  // Reflection times |cos| toward wi, of the light that fell on a rough surface from wo.
  float sent(const PhotonScattering& from, const Vec3& wi) const {
    const SurfaceModel& m = material(from);
    const SurfaceSide side = SurfaceSide::of(from.p.normal, from.p.shading_normal, from.wo);
    const Frame frame = Frame::around(side.shading);
    const Vec3 local = frame.to_local(wi);
    if (!m.scatters_through() && (local.z() <= 0 || wi.dot(side.normal) <= 0)) {
      return 0;
    }
    const bool inside = from.p.normal.dot(from.wo) < 0;
    return reflection(m, frame.to_local(from.wo), local, inside).mean() * std::abs(local.z());
  }

  // Of each cell's directions, the part to guide, by the late caustics' part of what it gets.
  std::vector<float> shares(const GuideTree& tree, const std::vector<PhotonRecord>& arrived) const {
    std::vector<double> late(tree.cells()), all(tree.cells());
    for (const PhotonRecord& r : arrived) {
      late[tree.cell_at(r.p, r.normal)] += static_cast<double>(r.power);
    }
    for (const PhotonScattering& s : scatterings_) {
      all[tree.cell_at(s.p.position, cell_normal(material(s), s.p.normal, s.wo))] +=
          static_cast<double>(s.power);
    }
    std::vector<float> out(tree.cells());
    for (std::size_t c = 0; c < out.size(); ++c) {
      out[c] = late[c] > 0 ? guided_share(late[c] / std::max(late[c], all[c])) : 0;
    }
    return out;
  }

  const Scene& scene_;
  const LateCausticsPlan& plan_;
  RayCounts& rays_;
  std::vector<Target> targets_;
  std::vector<PhotonScattering> scatterings_;
  std::vector<AimedPhoton> chosen_;
};

}  // namespace

GuideTree learn_late_caustics(const Scene& scene,
                              const LateCausticsPlan& plan,
                              std::span<const ShadingPlace> places,
                              RayCounts& rays) {
  return LateCaustics(scene, plan, rays).learn(places);
}

}  // namespace jovilux
