#include "jovilux/transport/light_path_walk.h"

#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/light_emission.h"
#include "jovilux/transport/virtual_lights.h"

#include <algorithm>
#include <cmath>
#include <utility>

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
constexpr std::uint32_t kLightPathPanePairs = 1U << 16, kMaskPairsApart = 64;

// The image of a distant light is told as so far away [m].
constexpr float kFarthestImage = 1e4f;

// The chance to go on after a surface that is no mirror: what comes of it is faint and smooth.
constexpr float kMostGoOn = 0.25f;

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

// A place on the film as the sink of one contribution: shared among the four nearest pixels by how
// near each is, so that the mean over a pixel is that of a camera path's.
struct FilmPlace {
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
};

}  // namespace

LightPaths::Walk::Walk(const LightPaths& paths,
                       const Sampler& sampler,
                       double per_sample,
                       std::vector<Splat>& out,
                       RayCounts& counts,
                       std::vector<PhotonRecord>* caustics)
    : paths_(paths),
      scene_(paths.scene_),
      sampler_(sampler),
      per_sample_(per_sample),
      out_(out),
      counts_(counts),
      caustics_(caustics) {}

std::size_t LightPaths::Walk::run() {
  if (!choose_first_ray() || !reach_target() || !fall_on_target() || !look_back()) {
    return exit_.cell;
  }
  start_on_light_ = exit_.at + light_.wi * (emitter_->is_distant() ? 1 : light_.distance);
  findable_ = findable_ || point_on_gloss();
  ratio_ = findable_ ? start_ratio_ : 0;
  carried_ = findable_ && paths_.virtual_lights_ != nullptr
                 ? paths_.virtual_lights_->covers(*emitter_, p_.position, light_.wi)
                 : Covers::kNothing;
  length_ = std::min((start_on_light_ - p_.position).norm(), kFarthestImage);
  if (emitter_->is_distant()) {
    length_ = kFarthestImage;
  }
  for (vertex_ = 1; vertex_ <= paths_.bounces_; ++vertex_) {
    if (!at_vertex() || !next_surface()) {
      break;
    }
  }
  return exit_.cell;
}

// A cell of a box's faces, a light as it is seen from there, and a place on that light.
bool LightPaths::Walk::choose_first_ray() {
  const Vec2 which = sampler_.pair(kCell);
  const double u = static_cast<double>(which.x()) + static_cast<double>(which.y()) * 0x1p-24;
  const std::vector<double>& cumulative = paths_.cumulative_;
  const auto after = std::upper_bound(cumulative.begin() + 1, cumulative.end() - 1, u);
  const auto cell = static_cast<std::size_t>(after - cumulative.begin()) - 1;
  target_ = &paths_.targets_[cell / (6 * paths_.grid_ * paths_.grid_)];
  exit_ = paths_.exit_in(*target_, cell, sampler_.pair(kExitPlace));
  const double chance = paths_.chance_of(cell);
  if (!(chance > 0) || !(exit_.area > 0)) {
    return false;
  }
  const LightChoice choice =
      paths_.clusters_.choose(paths_.aims_,
                              LightQuery::surface(exit_.at, exit_.inward, ~std::uint64_t{0}),
                              sampler_.single(kChosenLight));
  if (choice.index == kNoIndex) {
    return false;
  }
  emitter_ = &scene_.emitters[choice.index];
  body_ = emitter_->is_distant() ? kNoIndex : scene_.emitter_surface[choice.index];
  const std::uint32_t glass = scene_.emitter_glass[choice.index];
  within_ = glass == kNoIndex ? nullptr : &scene_.materials[glass];
  light_ =
      sample_toward(paths_.aims_[choice.index], exit_.at, sampler_.pair(kOnLight), &exit_.inward);
  const float cosine = light_.wi.dot(exit_.inward);
  if (!(light_.weight > 0) || !(cosine > 0)) {
    return false;
  }
  if (!scene_.hazes.empty()) {
    random_ = tracking_numbers(sampler_.pair(kTracking));
  }
  const double place_density = chance / exit_.area * static_cast<double>(choice.chance);
  scale_ = static_cast<double>(light_.weight) * cosine / place_density / per_sample_;
  findable_ = cameras_find(*emitter_);
  const double pdf = is_point(*emitter_) ? static_cast<double>(light_.distance) * light_.distance
                                         : static_cast<double>(light_.pdf);  // as pdf_toward()
  start_ratio_ = per_sample_ * place_density * pdf / cosine;
  how_.rough_before = how_.caustic = true;
  how_.colored = light_.colored;
  how_.rgb = light_.rgb;
  return true;
}

// Whether the path begins with a point's light on gloss, from where camera paths sample toward it.
bool LightPaths::Walk::point_on_gloss() const {
  const std::uint32_t material = scene_.surfaces[p_.surface].material;
  return is_point(*emitter_) && gloss_throws(*emitter_) &&
         begin_on_gloss(scene_.materials[scene_.after_bounce(material)]);
}

// From where the first ray enters the box, or from the light in it, to the place in its face.
Ray LightPaths::Walk::through_box() const {
  const Vec3 direction = -light_.wi;
  float enters = -kFar;
  for (int k = 0; k < 3; ++k) {
    if (direction[k] != 0) {
      enters =
          std::max(enters,
                   ((direction[k] > 0 ? target_->box.lo[k] : target_->box.hi[k]) - exit_.at[k]) /
                       direction[k]);
    }
  }
  const float to_light =
      light_.distance == kFar ? -kFar : -light_.distance * short_of_light(*emitter_);
  const float start = std::min(0.0f, std::max(enters, to_light));
  return {exit_.at + start * direction, direction, -start};
}

bool LightPaths::Walk::throws_shadow(std::uint32_t surface) const {
  return emitter_->casters == kNoIndex || scene_.casters[emitter_->casters][surface];
}

// The first ray goes through the box to the box's own surface.
bool LightPaths::Walk::reach_target() {
  Ray ray = through_box();
  travel_ = ray.direction;
  for (std::uint32_t panes = 0;; ++panes) {
    const Hit hit = scene_.world.closest(ray);
    ++counts_.path;
    if (!hit.found() || panes == kMostPanes) {
      return false;
    }
    p_ = scene_.world.point(ray, hit);
    const Meeting meeting = meet_in_box(panes);
    if (meeting != Meeting::kPassed) {
      return meeting == Meeting::kTarget;
    }
    ray.origin = World::leave(p_, ray.direction);
    ray.t_max -= hit.t + p_.offset;
    if (!(ray.t_max > 0)) {
      return false;
    }
  }
}

LightPaths::Walk::Meeting LightPaths::Walk::meet_in_box(std::uint32_t panes) {
  const std::uint32_t m = scene_.surfaces[p_.surface].material;
  const bool own = p_.surface == target_->surface;
  // What throws none of this light's shadows, or not the whole of one, the light passes; what is
  // left of it, passage() tells.
  const bool stands =
      findable_ || (throws_shadow(p_.surface) && !any_passes(emitter_->cheats.shadow_color));
  if (!own && (p_.surface == body_ || !stands)) {
    return Meeting::kPassed;
  }
  if (m == kNoIndex) {
    return Meeting::kBlocked;
  }
  const bool pane = scene_.materials[m].is_pane();
  const float covered = scene_.pictures[m].covered(p_.uv);
  const bool closed = !pane && covered >= 1;
  if (!own) {
    return closed ? Meeting::kBlocked : Meeting::kPassed;
  }
  if (!closed) {
    // What has holes, or lets through straight, may send on the path here or farther on.
    const float here = pane ? 0.5f * covered : covered;
    if (!(sampler_.single(kLightPathPanePairs + panes) < here)) {
      scale_ /= static_cast<double>(1 - here);
      return Meeting::kPassed;
    }
    scale_ *= static_cast<double>(covered) / here;
  }
  material_ = &scene_.materials[m];
  return Meeting::kTarget;
}

// What the light brings to the target's surface by its falloff, links, tints and cheats.
bool LightPaths::Walk::fall_on_target() {
  const Emitter& e = *emitter_;
  if (!may_reach(e, p_.position, scene_.surfaces[p_.surface].links)) {
    return false;
  }
  scale_ *= static_cast<double>(falloff_at(e, p_.position)) * lobe_factors(e.cheats).gloss;
  if (e.detail != nullptr && e.detail->tint) {
    how_.rgb *= e.detail->tint->at(p_.position);
    how_.colored = true;
  }
  if (!findable_) {
    if (!throws_shadow(p_.surface)) {
      return false;  // the light passes the surface as if it were not there
    }
    throughput_ *= Spectrum(1 - e.cheats.shadow_color);
  }
  return scale_ > 0 && any_passes(throughput_);
}

// The glass between the target and the light; null: none. Glass blocks shadow rays, so a target of
// another material that the light falls on straight lies in the same glass as the light.
const SurfaceModel* LightPaths::Walk::glass_to_light() const {
  if (material_->kind == SurfaceKind::kGlass) {
    return !material_->thin && p_.normal.dot(light_.wi) < 0 ? material_ : nullptr;
  }
  return within_;
}

// What passes from the light to the target, by a shadow ray; the stretch within holes and panes of
// the target's own is weighed by it as well.
bool LightPaths::Walk::look_back() {
  const Emitter& e = *emitter_;
  Ray back{World::leave(p_, light_.wi), light_.wi};
  if (!e.is_distant()) {
    const float to_exit = (exit_.at - p_.position).norm();
    back.t_max =
        std::max(0.0f, (light_.distance - to_exit) * short_of_light(*emitter_) - p_.offset);
  }
  ++counts_.shadow;
  throughput_ *=
      passage(scene_, findable_ ? ShadowRule{} : ShadowRule::of(scene_, e), back, body_, counts_);
  if (!any_passes(throughput_)) {
    return false;
  }
  throughput_ *= haze_passes(scene_, back, back.t_max, random_);
  if (const SurfaceModel* const glass = glass_to_light(); glass != nullptr && !e.is_distant()) {
    throughput_ *= (-back.t_max * glass->absorption).exp();
  }
  return true;
}

// At a surface: what it throws to the camera, and the direction in which the path goes on.
bool LightPaths::Walk::at_vertex() {
  pairs_ = kFirstVertex + kPairsPerLightVertex * static_cast<std::uint32_t>(vertex_);
  how_.scatterings = vertex_;
  const Vec3 to_light = -travel_;
  side_ = SurfaceSide::of(p_.normal, p_.shading_normal, to_light);
  frame_ = Frame::around(side_.shading);
  local_to_light_ = frame_.to_local(to_light);
  inside_ = p_.normal.dot(to_light) < 0;
  upright_ = side_.normal.dot(to_light);
  if (!(upright_ > 0)) {
    return false;
  }
  tilt_ = local_to_light_.z() / upright_;
  take_material(scene_.surfaces[p_.surface].material);
  if (material_->is_pane()) {  // straight on is no scattering: only what it mirrors comes here
    throughput_ *= vertex_ == 1 ? pane_reflectance(*material_, std::min(1.0f, upright_)) : 1.0f;
    travel_ = mirrored(travel_, side_.normal);
    sender_.any = false;
    return true;
  }
  return show_to_camera() && vertex_ < paths_.bounces_ && scatter_on();
}

void LightPaths::Walk::take_material(std::uint32_t number) {
  material_ = &material_at(
      scene_, number, scene_.pictures[scene_.surfaces[p_.surface].material], p_.uv, colored_);
}

// Where light that mirrors and smooth glass have sent on first falls on something else. Its source
// is told as the image that a flat mirror shows: as far behind the place as the light has come.
void LightPaths::Walk::record_caustic() {
  if (caustics_ == nullptr || !findable_) {
    return;
  }
  const Vec3 to_light = -travel_;
  caustics_->push_back({p_.position,
                        cell_normal(*material_, p_.normal, to_light),
                        p_.position + length_ * to_light,
                        square_of(to_light),
                        static_cast<float>(scale_) * throughput_.mean()});
  caustics_ = nullptr;  // what comes after is no caustic's first fall
}

bool LightPaths::Walk::show_to_camera() {
  if (vertex_ == 1 || material_->only_mirror()) {
    return true;
  }
  record_caustic();
  const std::uint64_t link = emitter_->link_bit;
  if (link != 0 && (scene_.surfaces[p_.surface].links & link) == 0) {
    return false;
  }
  if (paths_.camera_.has_lens()) {
    lens_ = sampler_.pair(pairs_ + kLens);
  }
  connect();
  return true;
}

void LightPaths::Walk::connect() {
  if (scene_.surfaces[p_.surface].held_out) {
    return;
  }
  const auto width = static_cast<float>(paths_.width_), height = static_cast<float>(paths_.height_);
  const auto seen = paths_.camera_.film_point(p_.position, lens_);
  if (!seen || !(seen->x > -0.5f) || !(seen->y > -0.5f) || !(seen->x < width + 0.5f) ||
      !(seen->y < height + 0.5f)) {
    return;
  }
  const Vec3 local = frame_.to_local(seen->toward);
  const float cosine = seen->toward.dot(side_.normal);
  if (cosine * local.z() <= 0 || (local.z() < 0 && !material_->scatters_through())) {
    return;  // an interpolated normal's doing, or from behind
  }
  const Above v = above(local, local_to_light_, inside_);
  const Spectrum f = reflection(*material_, v.wo, v.wi, v.inside);
  if (!any_passes(f)) {
    return;
  }
  const double film = paths_.camera_.film_density(-seen->toward) * std::abs(cosine) /
                      (static_cast<double>(seen->distance) * seen->distance);
  double weight = 1, ratio = HUGE_VAL;
  const double pdf = reflection_pdf(*material_, v.wo, v.wi, v.inside);
  if (ratio_ > 0) {
    ratio = ratio_ * std::abs(static_cast<double>(v.wi.z())) / (pdf * film);
    weight = pdf > 0 ? 1 / (1 + 1 / (ratio * ratio)) : 1;
  }
  const double left = static_cast<double>(left_) *
                      left_by_connections(cell_normal(*material_, p_.normal, seen->toward), pdf);
  const double value = scale_ * film * weight * static_cast<double>(tilt_) * left;
  if (!(value > 0) || !std::isfinite(value)) {
    return;
  }
  Ray ray{World::leave(p_, seen->toward), seen->toward};
  ray.t_max = std::max(0.0f, seen->distance * (1 - 1e-5f) - p_.offset);
  ++counts_.shadow;
  Spectrum passed = passage(scene_, ShadowRule{}, ray, kNoIndex, counts_);
  if (!any_passes(passed)) {
    return;
  }
  passed *= haze_passes(scene_, ray, ray.t_max, random_);
  FilmPlace place{out_, seen->x, seen->y, paths_.width_, paths_.height_, static_cast<float>(ratio)};
  contribute(*emitter_, throughput_ * f * passed, static_cast<float>(value), how_, place);
}

float LightPaths::Walk::left_by_connections(const Vec3& side, double pdf) const {
  const VirtualLights* const lights = paths_.virtual_lights_;
  if (lights == nullptr || !sender_.any) {
    return 1;
  }
  const float* const row = lights->row_at(p_.position, side, false);
  const std::uint32_t cluster = lights->cluster_at(sender_.position, sender_.side, false);
  if (row == nullptr || cluster == kNoIndex) {
    return 1;
  }
  const Vec3 to = sender_.position - p_.position;
  const float d2 = to.squaredNorm();
  const float facing = std::abs(sender_.normal.dot(to)) / std::sqrt(d2);
  return 1 - lights->share(row, cluster, static_cast<float>(pdf) * facing / d2);
}

// The direction in which a surface that is no pane sends the light on.
bool LightPaths::Walk::scatter_on() {
  // The light goes on to a surface that is no mirror: so the camera's paths meet this one after a
  // bounce.
  const Scene::Surface& surface = scene_.surfaces[p_.surface];
  if (const std::uint32_t rougher = scene_.after_bounce(surface.material);
      rougher != surface.material) {
    take_material(rougher);
  }
  const Vec2 choices = sampler_.pair(pairs_ + kLightPathChoices);
  // The first surface is one of mirrors: what else it does, shadow rays find.
  const bool begins_on_gloss = vertex_ == 1 && begin_on_gloss(*material_);
  const bool forced = vertex_ == 1 && (material_->kind == SurfaceKind::kGloss || begins_on_gloss);
  Scattering next = scatter(*material_,
                            local_to_light_,
                            sampler_.pair(pairs_ + kLightPathScatter),
                            forced ? 0.0f : choices.x(),
                            inside_);
  if (begins_on_gloss && next.pdf > 0) {
    next.pdf = gloss_pdf(*material_, local_to_light_, next.wi);
    next.weight =
        reflection_lobes(*material_, local_to_light_, next.wi).gloss * (next.wi.z() / next.pdf);
  }
  const bool may_begin = next.mirror || (begins_on_gloss && gloss_throws(*emitter_));
  if (!(next.pdf > 0) || (vertex_ == 1 && !may_begin)) {
    return false;
  }
  const Vec3 onward = frame_.to_world(next.wi).normalized();
  const float away = onward.dot(side_.normal);
  if (away * next.wi.z() <= 0) {
    return false;
  }
  // As the camera's paths have it: the cosine is that to the light, of the shading normal; and
  // refraction scales radiance, not flux.
  throughput_ *= next.weight * (forced && next.mirror ? next.pdf : 1.0f) *
                 std::abs(tilt_ * away / next.wi.z());
  const bool refracted = next.wi.z() < 0;
  throughput_ *= refracted_flux(*material_, inside_, refracted);
  within_ = glass_after(scene_.materials[surface.material], inside_, refracted, within_);
  if (!weigh_scattering(next, onward, away, begins_on_gloss)) {
    return false;
  }
  travel_ = onward;
  return vertex_ >= kRouletteFrom || (!next.mirror && !begins_on_gloss)
             ? survives(next.mirror ? 0.95f : kMostGoOn, choices.y())
             : true;
}

bool LightPaths::Walk::survives(float most, float u) {
  const float survival = std::min(most, throughput_.maxCoeff());
  if (!(u < survival)) {
    return false;
  }
  throughput_ /= survival;
  return true;
}

// The vertex's factors of R, and of what connections leave; false where camera paths would not
// find the path's light, though they could find the light itself.
bool LightPaths::Walk::weigh_scattering(const Scattering& next,
                                        const Vec3& onward,
                                        float away,
                                        bool begins_on_gloss) {
  const Vec3 eye = cell_normal(*material_, p_.normal, onward);
  if (begins_on_gloss) {
    const Vec3 to_light = -travel_;
    ratio_ *= gloss_factor(
        *material_,
        local_to_light_,
        next.wi,
        static_cast<double>(upright_),
        static_cast<double>(away),
        pdf_toward(*emitter_, p_.position, to_light, {start_on_light_}, &side_.normal));
  } else if (!next.mirror) {
    const double pdf = pdf_back(*material_, local_to_light_, next.wi, inside_);
    left_ *= left_by_connections(eye, pdf);
    ratio_ =
        pdf > 0 ? ratio_ *
                      (static_cast<double>(next.pdf) / std::abs(static_cast<double>(next.wi.z()))) *
                      (static_cast<double>(local_to_light_.z()) / pdf)
                : 0;
  }
  const bool carried = carried_ == Covers::kAll || (carried_ == Covers::kFirst && vertex_ == 1);
  sender_ = {carried && VirtualLights::stand_on(*material_), p_.position, side_.normal, eye};
  return next.mirror || !findable_ || ratio_ > 0;
}

// To the next surface that is not passed straight: past holes and through panes.
bool LightPaths::Walk::next_surface() {
  Ray ray{World::leave(p_, travel_), travel_};
  for (std::uint32_t panes = 0;; ++panes) {
    const Hit hit = scene_.world.closest(ray);
    ++counts_.path;
    if (!hit.found() || panes == kMostPanes) {
      return false;
    }
    if (!scene_.hazes.empty()) {
      throughput_ *= haze_passes(scene_, ray, hit.t, random_);
    }
    if (within_ != nullptr) {
      throughput_ *= (-hit.t * within_->absorption).exp();
    }
    length_ = std::min(length_ + hit.t, kFarthestImage);
    p_ = scene_.world.point(ray, hit);
    const std::uint32_t m = scene_.surfaces[p_.surface].material;
    if (m == kNoIndex || !any_passes(throughput_)) {
      return false;
    }
    material_ = &scene_.materials[m];
    // One number serves mask and pane: what the mask leaves of it is even again.
    const auto u = [&] {
      return sampler_.pair(pairs_ + kPairsPerLightVertex * kMaskPairsApart * (panes + 1) + kMask)
          .x();
    };
    const std::optional<Spectrum> passed = straight_through(
        *material_, scene_.pictures[m], p_.uv, p_.normal.dot(travel_), u, [&](float covered) {
          return covered < 1 ? u() / covered : u();
        });
    if (!passed) {
      return true;
    }
    throughput_ *= *passed;
    ray = {World::leave(p_, travel_), travel_};
  }
}

}  // namespace jovilux
