#include "jovilux/render/light_paths.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/light_emission.h"
#include "jovilux/render/virtual_lights.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Pairs of dimensions of a path: where it begins, then those of each scattering.
enum LightPathUse : std::uint32_t {
  kCell = 0,
  kExitPlace = 1,
  kChosenLight = 2,
  kOnLight = 3,
  kTracking = 4,
  kFirstVertex = 8
};
constexpr std::uint32_t kPairsPerLightVertex = 4;
enum VertexUse : std::uint32_t {
  kLightPathScatter = 0,
  kLightPathChoices = 1,
  kLens = 2,
  kMask = 3
};
constexpr std::uint32_t kLightPathPanePairs = 1U << 16;

// Cells on the faces of all boxes together, at most about this many.
constexpr std::size_t kMostCells = 1 << 15, kMostGrid = 8;
// Paths of the first round.
constexpr std::size_t kPathsPerCell = 2, kLeastPaths = 1 << 14, kMostPaths = 1 << 16;
// The share of the paths that goes by what lights bring alone, whatever the first round found.
constexpr double kByLightAlone = 0.2;
// The chance to go on after a surface that is no mirror: what comes of it is faint and smooth.
constexpr float kMostGoOn = 0.25f;
// As many paths' worth does a whole box's mean count for in each of its cells.
constexpr double kBoxCounts = 4;

// The light as it shines on boxes: the path's weight has its falloff, zone and links.
Emitter aimed(const Emitter& e) {
  Emitter out = without_place(e);
  out.link_bit = 0;
  if (e.detail != nullptr && e.detail->inside) {
    auto detail = std::make_shared<EmitterDetail>(*out.detail);
    detail->inside.reset();
    out.detail = std::move(detail);
  }
  if (e.cheats.caustics == 0 || e.cheats.gloss == 0 ||
      (!LightPaths::cameras_find(e) && (e.cheats.shadow_color == 1.0f).all())) {
    out.luminance = out.intensity = 0;
  }
  return out;
}

// How much of the light a mirroring surface sends on, for a first guess.
float mirrored(const SurfaceModel& m) {
  if (m.kind == SurfaceKind::kGloss) {
    return 0.05f;
  }
  return m.is_pane() ? 0.1f : 1.0f;
}
bool is_target(const SurfaceModel& m) {
  return (m.has_mirror_part() && m.kind != SurfaceKind::kTranslucent) ||
         LightPaths::begin_on_gloss(m);
}

// A direction as seen from the side that it is on: the surfaces' functions want the first one
// above.
struct Above {
  Vec3 wo, wi;
  bool inside;
};
Above above(const Vec3& wo, const Vec3& wi, bool inside) {
  return wo.z() >= 0 ? Above{wo, wi, inside}
                     : Above{{wo.x(), wo.y(), -wo.z()}, {wi.x(), wi.y(), -wi.z()}, !inside};
}

}  // namespace

LightPaths::LightPaths(const Scene& scene,
                       const Camera& camera,
                       int width,
                       int height,
                       int bounces,
                       std::uint32_t seed,
                       const LightPaths* like)
    : scene_(scene), camera_(camera), width_(width), height_(height), bounces_(bounces) {
  if (bounces_ < 2) {
    return;
  }
  add_targets();
  if (targets_.empty()) {
    return;
  }
  const bool mirrors = std::any_of(targets_.begin(), targets_.end(), [&](const Target& t) {
    const std::uint32_t material = scene_.surfaces[t.surface].material;
    return !begin_on_gloss(scene_.materials[scene_.after_bounce(material)]);
  });
  for (const Emitter& e : scene_.emitters) {
    aims_.push_back(aimed(e));
    if (!mirrors && !gloss_throws(e)) {  // nothing would send its light on
      aims_.back().luminance = aims_.back().intensity = 0;
    }
  }
  clusters_ = LightClusters(aims_);
  std::vector<double> brought(targets_.size() * 6 * grid_ * grid_);
  parallel_for(targets_.size(), [&](std::size_t t) {
    const Target& target = targets_[t];
    const float factor = mirrored(scene_.materials[scene_.surfaces[target.surface].material]);
    for (std::size_t c = target.first_cell; c < target.first_cell + 6 * grid_ * grid_; ++c) {
      const Exit exit = exit_in(target, c, Vec2(0.5f, 0.5f));
      brought[c] =
          exit.area > 0
              ? factor * exit.area *
                    clusters_.total(aims_,
                                    LightQuery::surface(exit.at, exit.inward, ~std::uint64_t{0}))
              : 0;
      if (!std::isfinite(brought[c])) {
        brought[c] = 0;
      }
    }
  });
  const double all = std::accumulate(brought.begin(), brought.end(), 0.0);
  if (!(all > 0)) {
    return;
  }
  // A cell whose middle is dark may be lit at its rim.
  const double least = 0.02 * all / static_cast<double>(brought.size());
  for (std::size_t t = 0; t < targets_.size(); ++t) {
    const auto first = brought.begin() + static_cast<std::ptrdiff_t>(targets_[t].first_cell),
               last = first + static_cast<std::ptrdiff_t>(6 * grid_ * grid_);
    for (auto b = first; b != last; ++b) {
      *b = exit_in(targets_[t], static_cast<std::size_t>(b - brought.begin()), Vec2(0.5f, 0.5f))
                       .area > 0
               ? *b + least
               : 0;
    }
  }
  cells_ = std::move(brought);
  choose_cells_by(cells_);
  constexpr std::uint32_t kFirstStream = 0x66697273U, kTrialStream = 0x74726961U;
  const std::size_t paths = std::clamp(cells_.size() * kPathsPerCell, kLeastPaths, kMostPaths);
  if (like == nullptr) {
    learn(round(seed, kFirstStream, paths));
  } else if (like->by_picture_.size() == cells_.size()) {
    by_picture_ = like->by_picture_;
  }
  if (by_picture_.empty()) {
    return;
  }
  std::vector<double> chances(cells_.size());
  for (std::size_t c = 0; c < cells_.size(); ++c) {
    chances[c] = kByLightAlone * chance_of(c) + (1 - kByLightAlone) * by_picture_[c];
  }
  choose_cells_by(chances);
  if (like == nullptr) {
    trial_ = round(seed, kTrialStream, kLeastPaths);
  }
}

bool LightPaths::begin_on_gloss(const SurfaceModel& m) {
  return (m.kind == SurfaceKind::kMetal || m.kind == SurfaceKind::kGloss) && m.alpha > 0 &&
         !VirtualLights::stand_on(m);
}

double LightPaths::gloss_factor(const SurfaceModel& gloss,
                                const Vec3& local_to_light,
                                const Vec3& local_away,
                                double cos_light,
                                double cos_away,
                                double light_pdf) {
  return cos_light > 0 && cos_away > 0 && light_pdf > 0
             ? cos_light * static_cast<double>(gloss_pdf(gloss, local_to_light, local_away)) /
                   (cos_away * light_pdf)
             : 0;
}

bool LightPaths::only_so() const {
  return any() && std::any_of(aims_.begin(), aims_.end(), [](const Emitter& e) {
           return e.shines() && !cameras_find(e);
         });
}

void LightPaths::add_targets() {
  const std::vector<Bounds> boxes = scene_.world.surface_bounds(scene_.surfaces.size());
  target_of_.assign(scene_.surfaces.size(), kNoIndex);
  for (std::uint32_t s = 0; s < scene_.surfaces.size(); ++s) {
    const std::uint32_t material = scene_.surfaces[s].material;
    if (material == kNoIndex || !is_target(scene_.materials[scene_.after_bounce(material)]) ||
        boxes[s].empty()) {
      continue;
    }
    target_of_[s] = static_cast<std::uint32_t>(targets_.size());
    targets_.push_back({s, target_box(boxes[s]), 0});
  }
  while (grid_ < kMostGrid && targets_.size() * 6 * 4 * grid_ * grid_ <= kMostCells) {
    grid_ *= 2;
  }
  for (std::size_t t = 0; t < targets_.size(); ++t) {
    targets_[t].first_cell = t * 6 * grid_ * grid_;
  }
}

// What is endless ends where twice the size of all bounded things around it does; moved out by a
// rounding, so that all of the surface lies within.
Bounds LightPaths::target_box(const Bounds& own) const {
  Bounds world = scene_.world.bounds();
  if (world.empty()) {
    world.add(Vec3(Vec3::Constant(-1)));
    world.add(Vec3(Vec3::Constant(1)));
  }
  const float reach = std::max(world.diagonal(), 1e-3f);
  Bounds out;
  out.lo = own.lo.cwiseMax(world.lo - Vec3::Constant(reach));
  out.hi = own.hi.cwiseMin(world.hi + Vec3::Constant(reach));
  const Vec3 slack = Vec3::Constant(1e-5f * (1e-2f + out.diagonal())) +
                     4e-7f * out.lo.cwiseAbs().cwiseMax(out.hi.cwiseAbs());
  out.lo -= slack;
  out.hi += slack;
  return out;
}

void LightPaths::choose_cells_by(const std::vector<double>& importance) {
  const double all = std::accumulate(importance.begin(), importance.end(), 0.0);
  cumulative_.assign(importance.size() + 1, 0);
  for (std::size_t c = 0; c < importance.size(); ++c) {
    cumulative_[c + 1] = cumulative_[c] + importance[c] / all;
  }
}

LightPaths::Exit LightPaths::exit_in(const Target& t, std::size_t cell, const Vec2& u) const {
  const std::size_t k = cell - t.first_cell, face = k / (grid_ * grid_), row = k / grid_ % grid_,
                    column = k % grid_;
  const auto axis = static_cast<int>(face / 2), a = (axis + 1) % 3, b = (axis + 2) % 3;
  const bool high = face % 2 == 1;
  const Vec3 side = t.box.hi - t.box.lo;
  const auto n = static_cast<float>(grid_);
  Exit out;
  out.cell = cell;
  out.at[axis] = high ? t.box.hi[axis] : t.box.lo[axis];
  out.at[a] = t.box.lo[a] + side[a] * (static_cast<float>(column) + u.x()) / n;
  out.at[b] = t.box.lo[b] + side[b] * (static_cast<float>(row) + u.y()) / n;
  out.inward = Vec3::Zero();
  out.inward[axis] = high ? -1.0f : 1.0f;
  out.area = static_cast<double>(side[a]) * side[b] / (static_cast<double>(n) * n);
  return out;
}

std::optional<LightPaths::Exit> LightPaths::exit_of(const Target& t,
                                                    const Vec3& from,
                                                    const Vec3& direction) const {
  float nearest = kFar;
  int axis = -1;
  for (int k = 0; k < 3; ++k) {
    if (direction[k] == 0) {
      continue;
    }
    const float d = ((direction[k] > 0 ? t.box.hi[k] : t.box.lo[k]) - from[k]) / direction[k];
    if (d < nearest) {
      nearest = d;
      axis = k;
    }
  }
  if (axis < 0 || !(nearest >= 0)) {
    return std::nullopt;
  }
  const Vec3 at = from + nearest * direction, side = t.box.hi - t.box.lo;
  const int a = (axis + 1) % 3, b = (axis + 2) % 3;
  const auto place = [&](int k) {
    return std::min(grid_ - 1,
                    static_cast<std::size_t>(std::max(
                        0.0f, (at[k] - t.box.lo[k]) / side[k] * static_cast<float>(grid_))));
  };
  const std::size_t face = static_cast<std::size_t>(2 * axis) + (direction[axis] > 0 ? 1 : 0);
  Exit out =
      exit_in(t, t.first_cell + (face * grid_ + place(b)) * grid_ + place(a), Vec2(0.5f, 0.5f));
  out.at = at;
  return out;
}

double LightPaths::density(const LightPathStart& start) const {
  const std::uint32_t target =
      start.surface < target_of_.size() ? target_of_[start.surface] : kNoIndex;
  if (cells_.empty() || target == kNoIndex) {
    return 0;
  }
  const auto exit = exit_of(targets_[target], start.at, -start.toward);
  if (!exit || !(exit->area > 0)) {
    return 0;
  }
  const LightQuery query = LightQuery::surface(exit->at, exit->inward, ~std::uint64_t{0});
  const float total = clusters_.total(aims_, query);
  const float cosine = start.toward.dot(exit->inward);
  if (!(total > 0) || !(cosine > 0)) {
    return 0;
  }
  const Emitter& aim = aims_[start.emitter];
  const double chance = clusters_.chance(aims_, query, start.emitter, total);
  return chance_of(exit->cell) / exit->area * chance *
         static_cast<double>(light_pdf(aim, exit->at, start.toward, start.place, &exit->inward)) /
         static_cast<double>(cosine);
}

// The vertex before, where it is one that virtual lights stand on.
struct LightPaths::Sender {
  bool any = false;
  Vec3 position = Vec3::Zero(), normal = Vec3::UnitZ();
  Vec3 side = Vec3::Zero();  // as of VirtualLights::cluster_at
};

// A path on its way.
struct LightPaths::Walk {
  Sender sender;
  float left = 1;  // of its light, what connections leave to it
  const Emitter* e = nullptr;
  RayCounts* counts = nullptr;
  double scale = 0;  // of its light, over M: lm per unit of throughput
  // R without what the surface seen by the camera adds; 0: the camera's paths do not find it.
  double ratio = 0;
  Spectrum throughput = Spectrum::Ones();
  Arrival how;
  Vec3 local_to_light = Vec3::UnitZ();  // from the surface it is at, in the shading frame
  bool inside = false;
  float tilt = 1;  // |to_light . shading normal| / |to_light . normal|
  Vec2 lens = Vec2::Zero();
  Rng random{0};
};

namespace {

// The normal on the side of what looks at a surface; zero where light from both sides is scattered.
Vec3 eye_side(const SurfaceModel& material, const SurfacePoint& p, const Vec3& to_eye) {
  if (material.scatters_through()) {
    return Vec3::Zero();
  }
  return p.normal.dot(to_eye) >= 0 ? p.normal : Vec3(-p.normal);
}

}  // namespace

void LightPaths::connect(Walk& w,
                         const SurfacePoint& p,
                         const SurfaceModel& material,
                         const Frame& frame,
                         const Vec3& normal,
                         std::vector<Splat>& out) const {
  if (scene_.surfaces[p.surface].held_out) {
    return;
  }
  const auto seen = camera_.film_point(p.position, w.lens);
  if (!seen || !(seen->x > -0.5f) || !(seen->y > -0.5f) ||
      !(seen->x < static_cast<float>(width_) + 0.5f) ||
      !(seen->y < static_cast<float>(height_) + 0.5f)) {
    return;
  }
  const Vec3 local = frame.to_local(seen->toward);
  const float cosine = seen->toward.dot(normal);
  if (cosine * local.z() <= 0 || (local.z() < 0 && !material.scatters_through())) {
    return;  // an interpolated normal's doing, or from behind
  }
  const Above v = above(local, w.local_to_light, w.inside);
  const Spectrum f = reflection(material, v.wo, v.wi, v.inside);
  if (!any_passes(f)) {
    return;
  }
  const double film = camera_.film_density(-seen->toward) * std::abs(cosine) /
                      (static_cast<double>(seen->distance) * seen->distance);
  double weight = 1, ratio = HUGE_VAL;
  const double pdf = reflection_pdf(material, v.wo, v.wi, v.inside);
  if (w.ratio > 0) {
    ratio = w.ratio * std::abs(static_cast<double>(v.wi.z())) / (pdf * film);
    weight = pdf > 0 ? 1 / (1 + 1 / (ratio * ratio)) : 1;
  }
  const double left =
      static_cast<double>(w.left) *
      left_by_connections(w.sender, p.position, eye_side(material, p, seen->toward), pdf);
  const double value = w.scale * film * weight * static_cast<double>(w.tilt) * left;
  if (!(value > 0) || !std::isfinite(value)) {
    return;
  }
  Ray ray{World::leave(p, seen->toward), seen->toward};
  ray.t_max = std::max(0.0f, seen->distance * (1 - 1e-5f) - p.offset);
  ++w.counts->shadow;
  Spectrum passed = passage(scene_, ShadowRule{}, ray, kNoIndex, *w.counts);
  if (!any_passes(passed)) {
    return;
  }
  passed *= haze_passes(scene_, ray, ray.t_max, w.random);
  struct Pixels {
    std::vector<Splat>& out;
    float x, y;
    int width, height;
    float ratio, clamped = 0;
    void add_clamped(std::uint32_t, float luminance) { clamped = luminance; }
    void add(std::uint32_t layer, Part part, const Eigen::Array3f& xyz) {
      const float left = std::floor(x - 0.5f), top = std::floor(y - 0.5f), right = x - 0.5f - left,
                  low = y - 0.5f - top;
      for (int k = 0; k < 4; ++k) {
        const int i = static_cast<int>(left) + k % 2, j = static_cast<int>(top) + k / 2;
        const float share = (k % 2 == 1 ? right : 1 - right) * (k / 2 == 1 ? low : 1 - low);
        if (share > 0 && i >= 0 && j >= 0 && i < width && j < height) {
          out.push_back({static_cast<std::uint32_t>(j) * static_cast<std::uint32_t>(width) +
                             static_cast<std::uint32_t>(i),
                         layer,
                         part,
                         share * xyz,
                         std::exchange(clamped, 0.0f),
                         ratio});
        }
      }
    }
  } pixels{out, seen->x, seen->y, width_, height_, static_cast<float>(ratio)};
  contribute(*w.e, w.throughput * f * passed, static_cast<float>(value), w.how, pixels);
}

float LightPaths::left_by_connections(const Sender& sender,
                                      const Vec3& p,
                                      const Vec3& side,
                                      double pdf) const {
  if (virtual_lights_ == nullptr || !sender.any) {
    return 1;
  }
  const float* const row = virtual_lights_->row_at(p, side, false);
  const std::uint32_t cluster = virtual_lights_->cluster_at(sender.position, sender.side, false);
  if (row == nullptr || cluster == kNoIndex) {
    return 1;
  }
  const Vec3 to = sender.position - p;
  const float d2 = to.squaredNorm();
  const float facing = std::abs(sender.normal.dot(to)) / std::sqrt(d2);
  return 1 - virtual_lights_->share(row, cluster, static_cast<float>(pdf) * facing / d2);
}

std::size_t LightPaths::walk(const Sampler& sampler,
                             double per_sample,
                             std::vector<Splat>& out,
                             RayCounts& counts) const {
  // The first ray.
  const Vec2 which = sampler.pair(kCell);
  const double u = static_cast<double>(which.x()) + static_cast<double>(which.y()) * 0x1p-24;
  const auto after = std::upper_bound(cumulative_.begin() + 1, cumulative_.end() - 1, u);
  const auto cell = static_cast<std::size_t>(after - cumulative_.begin()) - 1;
  const Target& target = targets_[cell / (6 * grid_ * grid_)];
  const Exit exit = exit_in(target, cell, sampler.pair(kExitPlace));
  const double chance = chance_of(cell);
  if (!(chance > 0) || !(exit.area > 0)) {
    return cell;
  }
  const LightChoice choice =
      clusters_.choose(aims_,
                       LightQuery::surface(exit.at, exit.inward, ~std::uint64_t{0}),
                       sampler.single(kChosenLight));
  if (choice.index == kNoIndex) {
    return cell;
  }
  const Emitter& e = scene_.emitters[choice.index];
  const LightSample light =
      sample_toward(aims_[choice.index], exit.at, sampler.pair(kOnLight), &exit.inward);
  const float cosine = light.wi.dot(exit.inward);
  if (!(light.weight > 0) || !(cosine > 0)) {
    return cell;
  }
  Walk w;
  w.e = &e;
  w.counts = &counts;
  if (!scene_.hazes.empty()) {
    const Vec2 tracking = sampler.pair(kTracking);
    w.random = Rng(static_cast<std::uint64_t>(tracking.x() * 0x1p24f) << 24 |
                   static_cast<std::uint64_t>(tracking.y() * 0x1p24f));
  }
  const double place_density = chance / exit.area * static_cast<double>(choice.chance);
  w.scale = static_cast<double>(light.weight) * cosine / place_density / per_sample;
  const bool findable = cameras_find(e);
  if (findable) {
    w.ratio = per_sample * place_density * static_cast<double>(light.pdf) / cosine;
  }
  w.how.rough_before = w.how.caustic = true;
  w.how.colored = light.colored;
  w.how.rgb = light.rgb;

  // From where it enters the box, or from the light in it, to the box's own surface.
  const Vec3 direction = -light.wi;
  float start = 0;
  {
    float enters = -kFar;
    for (int k = 0; k < 3; ++k) {
      if (direction[k] != 0) {
        enters = std::max(
            enters,
            ((direction[k] > 0 ? target.box.lo[k] : target.box.hi[k]) - exit.at[k]) / direction[k]);
      }
    }
    const float short_of = e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f;
    start = std::min(0.0f,
                     std::max(enters, light.distance == kFar ? -kFar : -light.distance * short_of));
  }
  Ray ray{exit.at + start * direction, direction, -start};
  const std::uint32_t body = e.is_distant() ? kNoIndex : scene_.emitter_surface[choice.index];
  const auto throws = [&](std::uint32_t surface) {
    return e.casters == kNoIndex || scene_.casters[e.casters][surface];
  };
  SurfacePoint p;
  SurfaceModel colored;
  const SurfaceModel* material = nullptr;
  for (std::uint32_t panes = 0;; ++panes) {
    const Hit hit = scene_.world.closest(ray);
    ++counts.path;
    if (!hit.found() || panes == kMostPanes) {
      return cell;
    }
    p = scene_.world.point(ray, hit);
    const std::uint32_t m = scene_.surfaces[p.surface].material;
    const bool own = p.surface == target.surface;
    // What throws none of this light's shadows, or not the whole of one, the light passes; what is
    // left of it, passage() tells.
    const bool stands = findable || (throws(p.surface) && !any_passes(e.cheats.shadow_color));
    if (own || (p.surface != body && stands)) {
      if (m == kNoIndex) {
        return cell;
      }
      const bool pane = scene_.materials[m].is_pane();
      const float covered = scene_.pictures[m].covered(p.uv);
      if (own) {
        // What has holes, or lets through straight, may send on the path here or farther on.
        if (!pane && covered >= 1) {
          material = &scene_.materials[m];
          break;
        }
        const float here = pane ? 0.5f * covered : covered;
        if (sampler.single(kLightPathPanePairs + panes) < here) {
          w.scale *= static_cast<double>(covered) / here;
          material = &scene_.materials[m];
          break;
        }
        w.scale /= static_cast<double>(1 - here);
      } else if (!pane && covered >= 1) {
        return cell;
      }
    }
    const float gone = hit.t + p.offset;
    ray.origin = World::leave(p, direction);
    ray.t_max -= gone;
    if (!(ray.t_max > 0)) {
      return cell;
    }
  }
  const Scene::Surface& first = scene_.surfaces[p.surface];
  if (!may_reach(e, p.position, first.links)) {
    return cell;
  }
  w.scale *= static_cast<double>(falloff_at(e, p.position)) * lobe_factors(e.cheats).gloss;
  if (e.detail != nullptr && e.detail->tint) {
    w.how.rgb *= e.detail->tint->at(p.position);
    w.how.colored = true;
  }
  if (!findable && !throws(p.surface)) {
    return cell;  // the light passes it as if it were not there
  }
  if (!findable) {
    w.throughput *= Spectrum(1 - e.cheats.shadow_color);
  }
  if (!(w.scale > 0) || !any_passes(w.throughput)) {
    return cell;
  }
  // Back to the light, as a shadow ray; the stretch within holes and panes of the box's own is
  // weighed by it as well.
  {
    Ray back{World::leave(p, light.wi), light.wi};
    if (!e.is_distant()) {
      const float to_exit = (exit.at - p.position).norm();
      back.t_max = std::max(
          0.0f,
          (light.distance - to_exit) * (e.kind == LightKind::kObject ? 1 - 1e-4f : 1 - 1e-5f) -
              p.offset);
    }
    ++counts.shadow;
    w.throughput *=
        passage(scene_, findable ? ShadowRule{} : ShadowRule::of(scene_, e), back, body, counts);
    if (!any_passes(w.throughput)) {
      return cell;
    }
    w.throughput *= haze_passes(scene_, back, back.t_max, w.random);
    if (material->kind == SurfaceKind::kGlass && !material->thin && p.normal.dot(light.wi) < 0 &&
        !e.is_distant()) {
      w.throughput *= (-back.t_max * material->absorption).exp();
    }
  }

  const Vec3 start_on_light = exit.at + light.wi * (e.is_distant() ? 1 : light.distance);
  const bool carried =
      findable && virtual_lights_ != nullptr && virtual_lights_->carries(e, p.position, light.wi);
  // On from surface to surface.
  const SurfaceModel* within = nullptr;
  Vec3 travel = direction;
  for (int vertex = 1; vertex <= bounces_; ++vertex) {
    const std::uint32_t pairs =
        kFirstVertex + kPairsPerLightVertex * static_cast<std::uint32_t>(vertex);
    const Scene::Surface& surface = scene_.surfaces[p.surface];
    w.how.scatterings = vertex;
    const Vec3 to_light = -travel;
    const Vec3 normal = p.normal.dot(to_light) >= 0 ? p.normal : Vec3(-p.normal);
    Vec3 shading = p.shading_normal.dot(normal) >= 0 ? p.shading_normal : Vec3(-p.shading_normal);
    if (shading.dot(to_light) <= 0) {
      shading = normal;
    }
    const Frame frame = Frame::around(shading);
    w.local_to_light = frame.to_local(to_light);
    w.inside = p.normal.dot(to_light) < 0;
    const float upright = normal.dot(to_light);
    if (!(upright > 0)) {
      return cell;
    }
    w.tilt = w.local_to_light.z() / upright;
    const Scene::Pictures& pictures = scene_.pictures[surface.material];
    if (pictures.color != nullptr) {
      colored = painted(*material, pictures, p.uv);
      material = &colored;
    }
    Vec3 next_direction;
    if (material->is_pane()) {  // straight on is no scattering: only what it mirrors comes here
      w.throughput *= (vertex == 1 ? pane_reflectance(*material, std::min(1.0f, upright)) : 1.0f);
      next_direction = (travel - 2 * travel.dot(normal) * normal).normalized();
      w.sender.any = false;
    } else {
      if (vertex > 1 && !material->only_mirror()) {
        if (e.link_bit != 0 && (surface.links & e.link_bit) == 0) {
          return cell;
        }
        if (camera_.has_lens()) {
          w.lens = sampler.pair(pairs + kLens);
        }
        connect(w, p, *material, frame, normal, out);
      }
      if (vertex == bounces_) {
        return cell;
      }
      // The light goes on to a surface that is no mirror: so the camera's paths meet this one after
      // a bounce.
      if (const std::uint32_t rougher = scene_.after_bounce(surface.material);
          rougher != surface.material) {
        material = &scene_.materials[rougher];
        if (pictures.color != nullptr) {
          colored = painted(*material, pictures, p.uv);
          material = &colored;
        }
      }
      const Vec2 choices = sampler.pair(pairs + kLightPathChoices);
      // The first surface is one of mirrors: what else it does, shadow rays find.
      const bool begins_on_gloss = vertex == 1 && begin_on_gloss(*material);
      const bool forced = vertex == 1 && (material->kind == SurfaceKind::kGloss || begins_on_gloss);
      Scattering next = scatter(*material,
                                w.local_to_light,
                                sampler.pair(pairs + kLightPathScatter),
                                forced ? 0.0f : choices.x(),
                                w.inside);
      if (begins_on_gloss && next.pdf > 0) {
        next.pdf = gloss_pdf(*material, w.local_to_light, next.wi);
        next.weight =
            reflection_lobes(*material, w.local_to_light, next.wi).gloss * (next.wi.z() / next.pdf);
      }
      const bool may_begin = next.mirror || (begins_on_gloss && gloss_throws(e));
      if (!(next.pdf > 0) || (vertex == 1 && !may_begin)) {
        return cell;
      }
      next_direction = frame.to_world(next.wi).normalized();
      const float away = next_direction.dot(normal);
      if (away * next.wi.z() <= 0) {
        return cell;
      }
      // As the camera's paths have it: the cosine is that to the light, of the shading normal; and
      // refraction scales radiance, not flux.
      w.throughput *= next.weight * (forced && next.mirror ? next.pdf : 1.0f) *
                      std::abs(w.tilt * away / next.wi.z());
      if (material->kind == SurfaceKind::kGlass && next.wi.z() < 0) {
        const float n2 = material->eta * material->eta;
        w.throughput *= w.inside ? 1 / n2 : n2;
        within = w.inside ? nullptr : &scene_.materials[surface.material];
      } else if (material->kind == SurfaceKind::kGlass && w.inside) {
        within = &scene_.materials[surface.material];
      }
      if (begins_on_gloss) {
        w.ratio *= gloss_factor(*material,
                                w.local_to_light,
                                next.wi,
                                static_cast<double>(upright),
                                static_cast<double>(away),
                                light_pdf(e, p.position, to_light, {start_on_light}, &normal));
      } else if (!next.mirror) {
        const double pdf = pdf_back(*material, w.local_to_light, next.wi, w.inside);
        w.left *=
            left_by_connections(w.sender, p.position, eye_side(*material, p, next_direction), pdf);
        w.ratio =
            pdf > 0
                ? w.ratio *
                      (static_cast<double>(next.pdf) / std::abs(static_cast<double>(next.wi.z()))) *
                      (static_cast<double>(w.local_to_light.z()) / pdf)
                : 0;
      }
      if (!next.mirror && findable && !(w.ratio > 0)) {
        return cell;
      }
      w.sender = {carried && VirtualLights::stand_on(*material),
                  p.position,
                  normal,
                  eye_side(*material, p, next_direction)};
      if (vertex >= kRouletteFrom || (!next.mirror && !begins_on_gloss)) {
        const float survival = std::min(next.mirror ? 0.95f : kMostGoOn, w.throughput.maxCoeff());
        if (!(choices.y() < survival)) {
          return cell;
        }
        w.throughput /= survival;
      }
    }
    // To the next surface: past holes and straight through panes.
    ray = {World::leave(p, next_direction), next_direction};
    travel = next_direction;
    for (std::uint32_t panes = 0;; ++panes) {
      const Hit hit = scene_.world.closest(ray);
      ++counts.path;
      if (!hit.found() || panes == kMostPanes) {
        return cell;
      }
      if (!scene_.hazes.empty()) {
        w.throughput *= haze_passes(scene_, ray, hit.t, w.random);
      }
      if (within != nullptr) {
        w.throughput *= (-hit.t * within->absorption).exp();
      }
      p = scene_.world.point(ray, hit);
      const std::uint32_t m = scene_.surfaces[p.surface].material;
      if (m == kNoIndex || !any_passes(w.throughput)) {
        return cell;
      }
      material = &scene_.materials[m];
      const Scene::Pictures& behind = scene_.pictures[m];
      const float covered = behind.covered(p.uv);
      const bool pane = material->is_pane();
      const float r =
          covered < 1 || pane
              ? sampler.pair(pairs + kPairsPerLightVertex * 64 * (panes + 1) + kMask).x()
              : 0;
      bool straight = covered < 1 && !(r < covered);
      if (!straight && pane) {
        const float mirrors =
            pane_reflectance(*material, std::min(1.0f, std::abs(p.normal.dot(travel))));
        const float left = covered < 1 ? r / covered : r;
        if (!(left < mirrors)) {
          straight = true;
          w.throughput *=
              behind.color == nullptr ? material->transmittance : painted_color(behind, p.uv);
        }
      }
      if (!straight) {
        break;
      }
      ray = {World::leave(p, travel), travel};
    }
  }
  return cell;
}

void LightPaths::trace(const Sampler& sampler,
                       double per_sample,
                       std::vector<Splat>& out,
                       RayCounts& counts) const {
  walk(sampler, per_sample, out, counts);
}

LightPaths::Round LightPaths::round(std::uint32_t seed,
                                    std::uint32_t stream,
                                    std::size_t paths) const {
  const double per_sample = static_cast<double>(width_) * height_;
  constexpr std::size_t kPathsOfBlock = 512;
  std::vector<Round> blocks((paths + kPathsOfBlock - 1) / kPathsOfBlock);
  parallel_for(blocks.size(), [&](std::size_t b) {
    const MarchCounts march_before = march_counts();
    for (std::size_t i = b * kPathsOfBlock; i < std::min(paths, (b + 1) * kPathsOfBlock); ++i) {
      blocks[b].cells.push_back(
          static_cast<std::uint32_t>(walk(Sampler(seed, stream, static_cast<std::uint32_t>(i)),
                                          per_sample,
                                          blocks[b].splats,
                                          blocks[b].rays)));
      blocks[b].ends.push_back(blocks[b].splats.size());
    }
    blocks[b].rays.march += march_counts() - march_before;
  });
  Round out;
  for (const Round& b : blocks) {
    for (const std::size_t end : b.ends) {
      out.ends.push_back(out.splats.size() + end);
    }
    out.cells.insert(out.cells.end(), b.cells.begin(), b.cells.end());
    out.splats.insert(out.splats.end(), b.splats.begin(), b.splats.end());
    out.rays += b.rays;
  }
  return out;
}

// A cell's chance times the mean of what its paths brought is what it brings to the picture.
void LightPaths::learn(const Round& r) {
  std::vector<double> sum(cells_.size()), sum_of_box(targets_.size());
  std::vector<double> count(cells_.size()), count_of_box(targets_.size());
  for (std::size_t i = 0, k = 0; i < r.cells.size(); ++i) {
    for (; k < r.ends[i]; ++k) {
      sum[r.cells[i]] += std::max(0.0f, r.splats[k].xyz[1]);
    }
    count[r.cells[i]] += 1;
  }
  const std::size_t per_box = 6 * grid_ * grid_;
  for (std::size_t c = 0; c < cells_.size(); ++c) {
    sum_of_box[c / per_box] += sum[c];
    count_of_box[c / per_box] += count[c];
  }
  std::vector<double> brings(cells_.size());
  double total = 0;
  for (std::size_t c = 0; c < cells_.size(); ++c) {
    const std::size_t box = c / per_box;
    const double mean = count_of_box[box] > 0 ? sum_of_box[box] / count_of_box[box] : 0;
    brings[c] = chance_of(c) * (sum[c] + kBoxCounts * mean) / (count[c] + kBoxCounts);
    total += brings[c];
  }
  if (!(total > 0)) {
    return;
  }
  for (double& b : brings) {
    b /= total;
  }
  by_picture_ = std::move(brings);
}

}  // namespace jovilux
