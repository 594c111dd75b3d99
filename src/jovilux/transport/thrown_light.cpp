#include "jovilux/transport/thrown_light.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/transport/light_emission.h"
#include "jovilux/transport/virtual_light_walk.h"

#include <array>
#include <cmath>
#include <optional>

namespace jovilux {
namespace {

// After so many halvings a cell is taken as it is.
constexpr int kMostHalvings = 12;
// Cells of which only some rays are thrown lie at a mirror's edge: divided so often where they come
// within so many disks. So do cells whose rays go different ways; from then on cells matter only
// where their rays draw together, by this factor at least at each halving, or hit the disk.
constexpr int kEdgeHalvings = 2;
constexpr float kEdgeReach = 20, kDrawTogether = 0.8f;
// A cell matters where the place lies within so many times the distance between its rays; first
// divisions, whose rays may go very different ways, reach farther. Rays stand at 0.2 and 0.8 of a
// side: no point of an even footprint lies farther from one than half of that distance.
constexpr float kReachOfSpread = 1, kFirstReachOfSpread = 2;
// With more cells than so many the last ones are taken as they are: more photons miss the disk.
// Where photons only tell directions, fewer do.
constexpr std::size_t kMostBeams = 1 << 13, kMostBeamsOfDirections = 1 << 11;
// Radius of the disk that counts, over the way from the last mirror: its light is even to the
// square of that. Where photons only tell directions, the light's own radius counts instead.
constexpr float kDisk = 0.01f, kDiskOfDirections = 1e-4f;
// A cell is fine enough where its rays lie as near to each other, over the disk's radius.
constexpr float kFine = 0.5f;
// By how much of the light's radius the disk grows, and by how much where beams are looked for:
// these are found from one place of the light, and photons leave it at any.
constexpr float kDiskOfLight = 0.5f, kReachOfLight = 1.5f;
// The light's side toward a direction is that which is seen from so many times its radius.
constexpr float kFarFromLight = 1000;
// By so much, relative and in meters, a surface may end a ray before the plane that lies on it.
constexpr float kRounding = 1e-4f;

}  // namespace

bool can_be_thrown(const Scene& scene, const Emitter& e) {
  return e.shines() && e.is_zero_size() && e.kind != LightKind::kTube && e.layer != kNoIndex &&
         VirtualLights::could_carry(scene, false)[e.layer];
}

bool can_be_aimed_at(const Emitter& e) {
  return e.shines() && !e.is_distant() && !e.is_zero_size() && !e.only_sampled &&
         e.layer != kNoIndex && e.cheats.visible;
}

float brightest_intensity(const Emitter& e) {
  constexpr int kDirections = 256;
  const Emitter aim = without_place(e);
  const float distance = std::max(1.0f, kFarFromLight * reach_of(aim));
  float most = 0;
  for (std::uint32_t i = 0; i < kDirections; ++i) {
    const Vec3 way = direction_of(Sampler(1, 0x62726967U, i).pair(0));
    const LightSample light = sample_toward(aim, aim.center + distance * way, {0.5f, 0.5f});
    most = std::max(most, light.weight * sqr(distance));
  }
  return most;
}

ThrownRays::ThrownRays(const Scene& scene, std::uint32_t emitter, int bounces, std::uint32_t seed)
    : scene_(scene),
      aim_(without_place(scene.emitters[emitter])),
      reach_(reach_of(aim_)),
      disk_(reach_ > 0 ? kDiskOfDirections : kDisk),
      emitter_(emitter),
      bounces_(bounces),
      seed_(seed),
      first_(static_cast<std::size_t>(kFirstCells) * kFirstCells),
      kept_(std::make_unique<std::array<Kept, kKeptParts>>()) {
  constexpr float kSide = 1.0f / kFirstCells;
  parallel_for(kFirstCells, [&](std::size_t row) {
    for (std::size_t column = 0; column < kFirstCells; ++column) {
      const Vec2 corner(static_cast<float>(column), static_cast<float>(row));
      first_[row * kFirstCells + column] = traced({kSide * corner, kSide});
    }
  });
}

Vec2 ThrownRays::ray_of(const Cell& cell, std::uint32_t ray) {
  const Vec2 corner(static_cast<float>(ray & 1U), static_cast<float>(ray >> 1U));
  return cell.lo + cell.side * (Vec2::Constant(0.2f) + 0.6f * corner);
}

ThrownRays::Traced ThrownRays::traced(const Cell& cell) const {
  Traced out;
  for (std::uint32_t way = 0; way < kWays; ++way) {
    std::uint32_t met = 0;
    for (std::uint32_t ray = 0; ray < kRays; ++ray) {
      out.begin[way * kRays + ray] = static_cast<std::uint32_t>(out.stretches.size());
      if (way > out.choices) {
        continue;
      }
      const int choices = follow(ray_of(cell, ray),
                                 Vec2::Constant(0.5f),
                                 seed_,
                                 static_cast<int>(way) - 1,
                                 1,
                                 [&](const Ray& r, float end, const Spectrum&, const Arrival&) {
                                   out.stretches.push_back({r.origin, r.direction, end});
                                 });
      met = std::max(met, static_cast<std::uint32_t>(choices));
    }
    out.choices = way == 0 ? std::min(met, kMostChoices) : out.choices;
  }
  out.begin.back() = static_cast<std::uint32_t>(out.stretches.size());
  return out;
}

const ThrownRays::Traced& ThrownRays::kept(const Cell& cell, int halvings, Traced& own) const {
  const auto column = static_cast<std::uint64_t>(std::lround(cell.lo.x() / cell.side)),
             row = static_cast<std::uint64_t>(std::lround(cell.lo.y() / cell.side));
  if (halvings == 0) {
    return first_[row * kFirstCells + column];
  }
  const std::uint64_t key = static_cast<std::uint64_t>(halvings) << 48U | row << 24U | column;
  Kept& part = (*kept_)[(row * kFirstCells + column) % kKeptParts];
  {
    const std::scoped_lock lock(part.lock);
    if (const auto it = part.cells.find(key); it != part.cells.end()) {
      return *it->second;
    }
  }
  own = traced(cell);
  const std::scoped_lock lock(part.lock);
  if (part.cells.size() >= kMostKeptOfPart) {
    return own;
  }
  // Another thread may have been faster, with the same result.
  return *part.cells.try_emplace(key, std::make_unique<const Traced>(own)).first->second;
}

template <class Use>
int ThrownRays::follow(const Vec2& direction,
                       const Vec2& on_light,
                       std::uint64_t seed,
                       std::optional<int> reflected_at,
                       double solid_angle,
                       const Use& use) const {
  EmittedPhoton photon;
  const Vec3 way = direction_of(direction);
  const float distance = std::max(1.0f, kFarFromLight * reach_);
  const Vec3 eye = aim_.center + distance * way;
  const LightSample light = sample_toward(aim_, eye, on_light);
  if (!(light.weight > 0)) {
    return 0;
  }
  photon.ray = {reach_ > 0 ? clear_of_light(aim_, eye, light) : aim_.center, way};
  photon.colored = light.colored;
  photon.rgb = light.rgb;
  RayCounts rays;
  VirtualLightWalk walk(scene_, bounces_ + 1, 0, rays);
  return walk.follow_mirrors(photon,
                             emitter_,
                             static_cast<double>(light.weight * sqr(distance)) * solid_angle,
                             Rng(seed),
                             reflected_at,
                             use);
}

ThrownLight::ThrownLight(const ThrownRays& rays, const ReceivingPlane& plane)
    : rays_(rays), plane_(plane) {
  find_beams();
}

void ThrownLight::find_beams() {
  constexpr std::uint32_t kFirstCells = ThrownRays::kFirstCells;
  constexpr float kSide = 1.0f / kFirstCells;
  const std::size_t most = rays_.reach_ > 0 ? kMostBeamsOfDirections : kMostBeams;
  std::vector<Cell> open;
  for (std::uint32_t k = 0; k < kFirstCells * kFirstCells; ++k) {
    const std::uint32_t column = k % kFirstCells, row = k / kFirstCells;
    const Vec2 corner(static_cast<float>(column), static_cast<float>(row));
    open.push_back({kSide * corner, kSide});
  }
  for (int level = 0; !open.empty(); ++level) {
    std::vector<Cell> next;
    for (const Cell& cell : open) {
      const Verdict verdict = judge(cell, level);
      if (!verdict.matters) {
        continue;
      }
      if (verdict.fine || level == kMostHalvings) {
        cells_.push_back(cell);
        continue;
      }
      const float half = 0.5f * cell.side;
      for (int k = 0; k < 4; ++k) {
        next.push_back(
            {cell.lo + half * Vec2(static_cast<float>(k & 1), static_cast<float>(k >> 1)),
             half,
             verdict.spread,
             verdict.ways});
      }
    }
    if (next.size() + cells_.size() > most) {
      cells_.insert(cells_.end(), next.begin(), next.end());
      return;
    }
    open = std::move(next);
  }
}

// What four rays of a cell tell on one of its ways. `traced`: where the rays are known already.
ThrownLight::Verdict ThrownLight::judge(const Cell& cell,
                                        int level,
                                        std::uint32_t way,
                                        const ThrownRays::Traced* traced) const {
  std::array<std::optional<Approach>, ThrownRays::kRays> nearest;
  Verdict out;
  std::size_t thrown = 0;
  for (std::uint32_t k = 0; k < nearest.size(); ++k) {
    const auto use = [&](const Vec3& origin, const Vec3& direction, float end) {
      if (!(direction.dot(plane_.normal) < 0)) {
        return;  // from behind
      }
      const float t = std::clamp((plane_.at - origin).dot(direction), 0.0f, end);
      const Vec3 offset = origin + t * direction - plane_.at;
      if (!nearest[k] || offset.squaredNorm() < nearest[k]->offset.squaredNorm()) {
        nearest[k] = Approach{offset, t};
      }
    };
    if (traced != nullptr) {
      const std::uint32_t slot = way * ThrownRays::kRays + k;
      for (std::uint32_t i = traced->begin[slot]; i < traced->begin[slot + 1]; ++i) {
        const ThrownRays::Stretch& s = traced->stretches[i];
        use(s.origin, s.direction, s.end);
      }
    } else {
      rays_.follow(ThrownRays::ray_of(cell, k),
                   Vec2::Constant(0.5f),
                   rays_.seed_,
                   static_cast<int>(way) - 1,
                   1,
                   [&](const Ray& ray, float end, const Spectrum&, const Arrival&) {
                     use(ray.origin, ray.direction, end);
                   });
    }
    thrown += nearest[k] ? 1 : 0;
  }
  if (thrown == 0) {
    return out;
  }
  float least = kFar, spread = 0, disk = 0;  // the disk that counts
  for (const auto& a : nearest) {
    for (const auto& b : nearest) {
      spread = a && b ? std::max(spread, (a->offset - b->offset).norm()) : spread;
    }
    least = a ? std::min(least, a->offset.norm()) : least;
    disk = a ? std::max(disk, rays_.disk_ * a->thrown_from + kDiskOfLight * rays_.reach_) : disk;
  }
  const float reached = disk + (kReachOfLight - kDiskOfLight) * rays_.reach_;
  const bool at_edge =
      thrown < nearest.size() && level < kEdgeHalvings && least < kEdgeReach * reached;
  const bool smooth = level <= kEdgeHalvings || spread < kDrawTogether * cell.spread_before;
  out.matters =
      at_edge ||
      least < reached +
                  (smooth ? (level <= kEdgeHalvings ? kFirstReachOfSpread : kReachOfSpread) * spread
                          : 0.0f);
  out.spread = out.matters ? spread : 0;
  out.fine = thrown == nearest.size() && spread < kFine * disk;
  return out;
}

// The verdict on a cell over its ways: way 0 is transmitted by all glass, way k is reflected at the
// k-th choice between reflection and transmission.
ThrownLight::Verdict ThrownLight::judge(const Cell& cell, int level) const {
  // The first divisions judge all ways: a cell's four rays may miss a mirror's or a pane's edge.
  // Deeper cells inherit the ways that mattered, one in six to thirty, which saves most rays.
  static_assert(kEdgeHalvings == ThrownRays::kKeptHalvings);
  const bool all_ways = level <= kEdgeHalvings;
  ThrownRays::Traced own;
  const ThrownRays::Traced* traced = all_ways ? &rays_.kept(cell, level, own) : nullptr;
  Verdict out;
  out.fine = true;
  const std::uint32_t most = all_ways ? traced->choices : ThrownRays::kMostChoices;
  for (std::uint32_t way = 0; way <= most; ++way) {
    if (!all_ways && !(cell.ways >> way & 1U)) {
      continue;
    }
    const Verdict of_way = judge(cell, level, way, traced);
    out.fine = out.fine && (of_way.fine || !of_way.matters);
    out.matters = out.matters || of_way.matters;
    out.ways |= static_cast<std::uint8_t>(of_way.matters ? 1U << way : 0);
    out.spread = std::max(out.spread, of_way.spread);
  }
  return out;
}

template <class Use>
void ThrownLight::each_arrival(std::uint32_t batch, std::uint32_t photons, const Use& use) const {
  const std::uint32_t of_cell = std::max<std::uint32_t>(
      photons / static_cast<std::uint32_t>(std::max<std::size_t>(cells_.size(), 1)), 1);
  std::uint32_t number = 0;
  for (const Cell& cell : cells_) {
    const double solid_angle = 4 * kPiD * sqr(static_cast<double>(cell.side)) / of_cell;
    for (std::uint32_t i = 0; i < of_cell; ++i) {
      const Sampler sampler(rays_.seed_, mix(0x7468726fU, batch), number++);
      const auto arrive = [&](const Ray& ray, float end, const Spectrum& flux, const Arrival& how) {
        const float cosine = -ray.direction.dot(plane_.normal);
        if (!(cosine > 0)) {
          return;
        }
        // Where it crosses the plane. A plane that lies on a surface ends the ray, to a rounding.
        const float t = (ray.origin - plane_.at).dot(plane_.normal) / cosine,
                    radius =
                        rays_.disk_ * (plane_.at - ray.origin).norm() + kDiskOfLight * rays_.reach_;
        if (t > 0 && t < end * (1 + kRounding) + kRounding &&
            (ray.at(t) - plane_.at).squaredNorm() < radius * radius) {
          use(ray, radius, flux, how);
        }
      };
      rays_.follow(cell.lo + cell.side * sampler.pair(0),
                   sampler.pair(1),
                   static_cast<std::uint64_t>(mix(mix(rays_.seed_, batch), number)) << 32 | i,
                   std::nullopt,
                   solid_angle,
                   arrive);
    }
  }
}

void ThrownLight::add(std::uint32_t batch, std::uint32_t photons, LightSink& sink) const {
  const Emitter& e = rays_.scene_.emitters[rays_.emitter_];
  each_arrival(
      batch, photons, [&](const Ray&, float radius, const Spectrum& flux, const Arrival& how) {
        contribute(e, flux, 1 / (kPi * kPi * radius * radius), how, sink);
      });
}

void ThrownLight::add_directions(std::vector<DirectionSample>& out) const {
  // So many arrivals lie close enough; an image of which most is hidden may have fewer.
  constexpr std::size_t kArrivals = 500;
  constexpr std::uint32_t kPhotons = 1 << 13, kMostBatches = 4;
  // The kernel fills what lies between photons: a direction that is met by none would be chosen so
  // seldom that its light comes in lumps.
  constexpr int kOfKernel = 8;
  const Vec3 light = rays_.aim_.center;
  Rng random(rays_.seed_);
  const auto spread = [&](const Ray& ray, float radius, const Spectrum& flux, const Arrival&) {
    const Vec3 back = -ray.direction;
    // The disk as seen from the light's image, for a single flat mirror.
    const float angle = radius / ((ray.origin - plane_.at).norm() + (ray.origin - light).norm());
    const Frame frame = Frame::around(back);
    for (int k = 0; k < kOfKernel; ++k) {
      const auto r = angle * static_cast<float>(std::sqrt(random.uniform()));
      const auto phi = static_cast<float>(2 * kPiD * random.uniform());
      const Vec3 near = frame.to_world({r * std::cos(phi), r * std::sin(phi), 1}).normalized();
      out.push_back({square_of(near), flux.mean() / kOfKernel});
    }
  };
  const std::size_t enough = any() ? out.size() + kArrivals * kOfKernel : 0;
  for (std::uint32_t batch = 0; batch < kMostBatches && out.size() < enough; ++batch) {
    each_arrival(batch, kPhotons, spread);
  }
}

}  // namespace jovilux
