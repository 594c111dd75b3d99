#include "jovilux/transport/light_paths.h"

#include "jovilux/base/parallel.h"
#include "jovilux/transport/light_emission.h"
#include "jovilux/transport/light_path_walk.h"
#include "jovilux/transport/virtual_lights.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Cells on the faces of all boxes together, at most about this many.
constexpr std::size_t kMostCells = 1 << 15, kMostGrid = 8;
// Paths of the first round.
constexpr std::size_t kPathsPerCell = 2, kLeastPaths = 1 << 14, kMostPaths = 1 << 16;
// The share of the paths that goes by what lights bring alone, whatever the first round found.
constexpr double kByLightAlone = 0.2;
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
float mirrored_part(const SurfaceModel& m) {
  if (m.kind == SurfaceKind::kGloss) {
    return 0.05f;
  }
  return m.is_pane() ? 0.1f : 1.0f;
}
bool is_target(const SurfaceModel& m) {
  return (m.has_mirror_part() && m.kind != SurfaceKind::kTranslucent) ||
         LightPaths::begin_on_gloss(m);
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
  add_aims();
  cells_ = brought_by_lights();
  if (cells_.empty()) {
    return;
  }
  choose_cells_by(cells_);
  constexpr std::uint32_t kFirstStream = 0x66697273U, kTrialStream = 0x74726961U;
  const std::size_t paths = std::clamp(cells_.size() * kPathsPerCell, kLeastPaths, kMostPaths);
  if (like == nullptr) {
    Round first = round(seed, kFirstStream, paths);
    learn(first);
    add_caustics(first);
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
    add_caustics(trial_);
  }
}

// The lights as they shine on boxes; dark where nothing would send their light on.
void LightPaths::add_aims() {
  mirrors_ = std::any_of(targets_.begin(), targets_.end(), [&](const Target& t) {
    const std::uint32_t material = scene_.surfaces[t.surface].material;
    return !begin_on_gloss(scene_.materials[scene_.after_bounce(material)]);
  });
  for (const Emitter& e : scene_.emitters) {
    aims_.push_back(aimed(e));
    if (!mirrors_ && !gloss_throws(e)) {
      aims_.back().luminance = aims_.back().intensity = 0;
    }
  }
  clusters_ = LightClusters(aims_);
}

// What the lights bring to each cell of the boxes' faces; empty: nothing.
std::vector<double> LightPaths::brought_by_lights() const {
  const std::size_t of_box = 6 * grid_ * grid_;
  const Vec2 middle(0.5f, 0.5f);
  std::vector<double> brought(targets_.size() * of_box);
  parallel_for(targets_.size(), [&](std::size_t t) {
    const Target& target = targets_[t];
    const float factor = mirrored_part(scene_.materials[scene_.surfaces[target.surface].material]);
    for (std::size_t c = target.first_cell; c < target.first_cell + of_box; ++c) {
      const Exit exit = exit_in(target, c, middle);
      const LightQuery query = LightQuery::surface(exit.at, exit.inward, ~std::uint64_t{0});
      const double b = exit.area > 0 ? factor * exit.area * clusters_.total(aims_, query) : 0;
      brought[c] = std::isfinite(b) ? b : 0;
    }
  });
  const double all = std::accumulate(brought.begin(), brought.end(), 0.0);
  if (!(all > 0)) {
    return {};
  }
  // A cell whose middle is dark may be lit at its rim.
  const double least = 0.02 * all / static_cast<double>(brought.size());
  for (std::size_t c = 0; c < brought.size(); ++c) {
    brought[c] = exit_in(targets_[c / of_box], c, middle).area > 0 ? brought[c] + least : 0;
  }
  return brought;
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
  return any() && mirrors_ && std::any_of(aims_.begin(), aims_.end(), [](const Emitter& e) {
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
         pdf_toward(aim, exit->at, start.toward, start.place, &exit->inward) /
         static_cast<double>(cosine);
}

void LightPaths::trace(const Sampler& sampler,
                       double per_sample,
                       std::vector<Splat>& out,
                       RayCounts& counts) const {
  Walk(*this, sampler, per_sample, out, counts).run();
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
          static_cast<std::uint32_t>(Walk(*this,
                                          Sampler(seed, stream, static_cast<std::uint32_t>(i)),
                                          per_sample,
                                          blocks[b].splats,
                                          blocks[b].rays,
                                          &blocks[b].caustics)
                                         .run()));
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
    out.caustics.insert(out.caustics.end(), b.caustics.begin(), b.caustics.end());
    out.rays += b.rays;
  }
  return out;
}

// Each round's paths bring all of the light.
void LightPaths::add_caustics(Round& r) {
  for (PhotonRecord& photon : r.caustics) {
    photon.power /= static_cast<float>(r.cells.size());
    caustics_.push_back(photon);
  }
  r.caustics.clear();
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
