// A path at surfaces: panes and what masks cut out, which it passes straight; lights sampled toward
// (next-event estimation); the direction in which it goes on.

#include "jovilux/transport/path_tracer.h"

#include <array>
#include <cmath>

namespace jovilux {

using namespace path_dimensions;

namespace {

// A camera's ray goes both ways at so many panes at most.
constexpr std::uint32_t kPanesBothWays = 2;
// Of a camera's ray that glass divides, a branch of a smaller share is chosen by chance: two
// reflections by glass have 0.04 x 0.04 of the light.
constexpr float kLeastBranch = 1e-3f;
// An image by way of a choice that was less likely is left to chance (State::by_chance).
constexpr float kLikely = 0.5f;
// Lights that a path which is recorded asks for what arrives of them, at each surface.
constexpr std::uint32_t kProbes = 3;

// The part of a cell's share of guided directions that suits a surface: its own lobe is the better
// the narrower it is.
float guided_part(const SurfaceModel& m) {
  constexpr float kNarrow = 0.04f, kWide = 0.3f;
  if (m.kind == SurfaceKind::kDiffuse || m.kind == SurfaceKind::kTranslucent) {
    return 1;
  }
  const float wide = std::clamp((m.alpha - kNarrow) / (kWide - kNarrow), 0.0f, 1.0f);
  return m.kind == SurfaceKind::kGloss ? 0.6f + 0.4f * wide : wide;
}

SurfacePoint place_of(const Receiver& r) {
  SurfacePoint out;
  out.position = r.at;
  out.normal = out.shading_normal = r.normal;
  out.offset = 1e-6f * (1 + r.at.cwiseAbs().maxCoeff());
  return out;
}

const SurfaceModel& white_receiver() {
  static const SurfaceModel model = diffuse_surface(Spectrum::Ones(), 0);
  return model;
}

}  // namespace

// What the ray has met: a surface to scatter at, one that lets it straight on, or its end.
PathTracer::Next PathTracer::arrive(State& s, const Hit& hit, bool received, Vertex& v) {
  v.p = received ? place_of(*options_.receiver) : scene_.world.point(s.ray, hit);
  v.surface = received ? &options_.receiver->surface : &scene_.surfaces[v.p.surface];
  v.distance = hit.t;
  const bool from_camera = s.scatterings == 0 && !s.hazy;
  const Scene::Pictures* pictures =
      scene_.has_pictures && !received && v.surface->material != kNoIndex
          ? &scene_.pictures[v.surface->material]
          : nullptr;
  if ((from_camera && !v.surface->seen_by_camera) || is_cut_out(s, v, pictures)) {
    return straight_on(s, v);
  }
  if (from_camera && v.surface->held_out) {
    return Next::kEnd;
  }
  if (v.surface->emitter != kNoIndex) {
    meet_light(s, v.surface->emitter, {v.p.position, v.p.normal});
    if (v.surface->material == kNoIndex) {  // the bodies of lights are black to other light
      if (first_ != nullptr && from_camera) {
        *first_ = {true, Spectrum::Zero(), v.p.normal, s.to_panes + hit.t, v.p.surface};
      }
      return Next::kEnd;
    }
  }
  take_material(s, v, received, pictures);
  v.wo = -s.ray.direction;
  v.side = SurfaceSide::of(v.p.normal, v.p.shading_normal, v.wo);
  if (first_ != nullptr && s.scatterings == 0) {
    *first_ = {true,
               albedo(*v.material, std::max(0.0f, v.side.shading.dot(v.wo))),
               v.side.shading,
               s.to_panes + hit.t,
               v.p.surface};
  }
  if (v.material->is_pane()) {
    return at_pane(s, v);
  }
  // Mirrors and glass only turn the ray: they cost little, and a lamp may be seen in them.
  if (!v.material->only_mirror() && !goes_on_as_mirrored(s)) {
    return Next::kEnd;
  }
  return s.scatterings < options_.bounces ? Next::kSurface : Next::kEnd;
}

// What a mask cuts out neither reflects nor emits.
bool PathTracer::is_cut_out(const State& s,
                            const Vertex& v,
                            const Scene::Pictures* pictures) const {
  if (pictures == nullptr || pictures->mask == nullptr) {
    return false;
  }
  const float covered = pictures->covered(v.p.uv);
  return covered < 1 && !(sampler_.single(kMaskPairs + s.panes) < covered);
}

void PathTracer::take_material(const State& s,
                               Vertex& v,
                               bool received,
                               const Scene::Pictures* pictures) {
  if (received) {
    constexpr float kByBeams = 0.5f;
    v.material = &white_receiver();
    v.beams = options_.receiver->beams.get();
    v.guided_share = v.beams != nullptr ? kByBeams : 0;
    return;
  }
  const std::uint32_t number = s.rough_before && !options_.as_they_are
                                   ? scene_.after_bounce(v.surface->material)
                                   : v.surface->material;
  v.material = pictures == nullptr ? &scene_.materials[number]
                                   : &material_at(scene_, number, *pictures, v.p.uv, colored_);
  v.colored = pictures != nullptr && pictures->color != nullptr;
}

// The ray goes straight on, as shadow rays do: no scattering, and lights are weighed as without the
// surface.
PathTracer::Next PathTracer::straight_on(State& s, const Vertex& v) {
  if (++s.panes == kMostPanes) {
    return Next::kEnd;
  }
  if (s.scatterings == 0) {
    s.to_panes += v.distance;
  }
  s.ray = {World::leave(v.p, s.ray.direction), s.ray.direction};
  return Next::kOn;
}

// Straight on or back, by chance; of a camera's ray both, so that a lamp whose image a pane shows
// is met by every sample. What else the pane mirrors goes on with the chance of being mirrored.
PathTracer::Next PathTracer::at_pane(State& s, const Vertex& v) {
  const float mirrored = pane_reflectance(*v.material, std::min(1.0f, v.side.normal.dot(v.wo)));
  const Spectrum transmittance = v.material->transmittance;
  const std::uint32_t pair = kPanePairs + s.panes;
  const bool both = s.scatterings == 0 && s.panes < kPanesBothWays && options_.recorder == nullptr;
  if (both) {
    State back = s;
    back.throughput *= mirrored;
    back.reflected *= mirrored;
    back.mirrored_chance *= mirrored;
    if (mirror_back(back, v)) {
      follow_later(back);
    }
    s.throughput *= 1 - mirrored;
  } else if (sampler_.single(pair) < mirrored) {
    s.by_chance = s.by_chance || mirrored < kLikely;
    return mirror_back(s, v) ? Next::kOn : Next::kEnd;
  }
  s.throughput *= transmittance;
  if (first_ != nullptr && s.scatterings == 0) {
    first_->found = false;  // what lies behind it counts
  }
  return straight_on(s, v);
}

// False where the path ends.
bool PathTracer::mirror_back(State& s, const Vertex& v) {
  if (++s.panes == kMostPanes || s.scatterings >= options_.bounces) {
    return false;
  }
  s.from.p = v.p.position;
  s.from.n = v.side.normal;
  s.from.links = s.links & v.surface->links;
  s.from.rough_before = s.rough_before;
  s.from.delta = true;
  s.left_by_last = 1;
  s.from.surface = v.p.surface;
  s.way = with_vertex(s.way, v.p.position, v.side.normal, v.p.surface, true);
  ++counts_.path;
  const Vec3 back = mirrored(s.ray.direction, v.side.normal);
  s.ray = {World::leave(v.p, back), back};
  ++s.scatterings;
  return true;
}

// Lights and directions at a surface that is no pane; false where the path ends.
bool PathTracer::scatter_at(State& s, Vertex& v) {
  const SurfaceModel& material = *v.material;
  v.inside = v.p.normal.dot(v.wo) < 0;  // glass
  v.both_sides = material.scatters_through();
  v.frame = Frame::around(v.side.shading);
  v.local_wo = v.frame.to_local(v.wo);
  v.points = sampler_.four_pairs(kCameraPairs +
                                 kPairsPerVertex * static_cast<std::uint32_t>(s.scatterings));
  v.choices = v.points[kChoices];
  const std::uint32_t cell = look_up_guide(v);
  look_up_caustics(s, v);
  // A mirror counts where light falls on it, not where it shows another surface.
  Departure& from = s.from;
  s.left_by_last = 1;
  if (from.row != nullptr && !from.delta && VirtualLights::stand_on(material) &&
      !goes_on_beside_connections(s,
                                  v.p.position,
                                  v.guide_side(),
                                  false,
                                  std::abs(v.side.normal.dot(v.wo)),
                                  v.points[kRoulette].y())) {
    return false;
  }
  from.row = nullptr;
  from.links = s.links & v.surface->links;
  from.rough_before = s.rough_before;
  from.camera_ratio_to_gloss = options_.light_paths.paths != nullptr && s.rough_before &&
                                       LightPaths::begin_on_gloss(material)
                                   ? from.camera_ratio
                                   : 0;
  from.cos_away = v.side.normal.dot(v.wo);
  from.p = v.p.position;
  from.n = v.side.normal;
  from.surface = v.p.surface;
  from.lights = {};
  from.arrives = v.arrives;
  from.cell = cell;
  s.way = with_vertex(s.way, v.p.position, v.side.normal, v.p.surface, material.only_mirror());
  if (!material.only_mirror()) {
    sample_lights(s, v);
    if (options_.recorder != nullptr) {
      probe_lights(s, v);
    }
    if (virtual_lights_ != nullptr) {
      from.row = virtual_lights_->row_at(v.p.position, v.guide_side(), false);
      connect_surface(s, v);
    }
  }
  return leave_surface(s, v);
}

// What the guide knows of the place; the number of its cell, kNoIndex: nothing.
std::uint32_t PathTracer::look_up_guide(Vertex& v) const {
  if (surface_guide_ == nullptr || v.material->only_mirror()) {
    return kNoIndex;
  }
  const std::uint32_t cell = surface_guide_->cell_at(v.p.position, v.guide_side());
  v.guide = surface_guide_;
  v.cell = &surface_guide_->cell(cell);
  v.arrives = surface_guide_->arrives(cell);
  v.guided_share = v.cell->share > 0 ? v.cell->share * guided_part(*v.material) : 0;
  return cell;
}

// At the first surface that is no mirror: directions from which mirrors and glass send light there.
// Straight from the lights, where mirrors or glass have turned the camera's ray: paths of light
// cannot end on the film by way of mirrors, so that only a path which meets the light finds it. And
// anywhere what something rough has scattered before (late caustics).
void PathTracer::look_up_caustics(const State& s, Vertex& v) const {
  const SurfaceModel& material = *v.material;
  if (s.rough_before || s.hazy || material.only_mirror()) {
    return;
  }
  const auto look_up = [&](const GuideTree* guide) {
    if (guide == nullptr) {
      return false;
    }
    const GuideCell& cell = guide->cell(guide->cell_at(v.p.position, v.guide_side()));
    const float share = cell.share * guided_part(material);
    if (share > 0) {
      v.guide = guide;
      v.cell = &cell;
      v.guided_share = share;
    }
    return share > 0;
  };
  const bool found = s.scatterings > 0 && look_up(caustic_guide_);
  // A smooth coat goes both ways of a camera's ray, which guiding would end.
  const bool smooth_coat = material.kind == SurfaceKind::kGloss && material.alpha == 0;
  if (!found && v.guided_share == 0 && !smooth_coat) {
    look_up(late_caustic_guide_);
  }
}

void PathTracer::sample_lights(State& s, const Vertex& v) {
  Departure& from = s.from;
  from.both_sides = v.both_sides;
  const std::size_t most_certain = s.rough_before ? 0 : LightSet::kMostCertain;
  from.lights = scene_.light_clusters.choose_set(
      scene_.emitters, query_of(from), v.choices.x(), v.arrives, most_certain);
  std::uint32_t drawn = 0;
  const auto next_point = [&] {
    const std::uint32_t pair = kCertainLightPairs +
                               kLightPairsPerVertex * static_cast<std::uint32_t>(s.scatterings) +
                               drawn;
    return drawn++ == 0 ? v.points[kLight] : sampler_.pair(pair);
  };
  for (std::size_t k = 0; k < from.lights.certain_count; ++k) {
    light_at(s, v, from.lights.certain[k], 1, next_point());
  }
  if (const LightChoice& other = from.lights.other; other.index != kNoIndex) {
    light_at(s, v, other.index, other.chance, next_point());
  }
}

// A light sampled toward from a surface; `chance`: how often that is done, in the mean.
void PathTracer::light_at(
    const State& s, const Vertex& v, std::uint32_t index, float chance, const Vec2& u) {
  const Emitter& e = scene_.emitters[index];
  const Vec3* const side = v.light_side();
  const LightSample light = s.from.cell != kNoIndex && skies_ != nullptr && SkyGuide::suits(e)
                                ? skies_->sample(e, index, s.from.cell, v.p.position, u, side)
                                : sample_toward(e, v.p.position, u, side);
  const Vec3 local_wi = v.frame.to_local(light.wi);
  if (!(light.weight > 0) || !v.receives_from(light.wi, local_wi)) {
    return;
  }
  const float facing = std::abs(local_wi.z());
  float weight = light.weight * facing / chance;
  if (light.pdf > 0 && !e.only_sampled && v.surface->receives_shadow) {
    weight *= power_heuristic(chance * light.pdf, direction_pdf(v, local_wi, light.wi));
  }
  const Vec3 on_light = v.p.position + light.wi * (e.is_distant() ? 1 : light.distance);
  const bool joined = s.from.camera_ratio_to_gloss > 0 && LightPaths::gloss_throws(e) &&
                      (light.pdf > 0 || LightPaths::is_point(e));
  Thrown thrown = thrown_of(s, v, e, local_wi, joined);
  if (joined && any_passes(thrown.caustic)) {
    thrown.caustic *=
        left_by_light_paths(s.from,
                            index,
                            on_light,
                            *v.material,
                            {v.local_wo, local_wi, light.wi},
                            static_cast<float>(LightPaths::pdf_toward(
                                e, v.p.position, light.wi, {on_light}, &v.side.normal)));
  }
  if (!(weight > 0) || !any_passes(thrown.rest + thrown.caustic)) {
    return;
  }
  const Spectrum passed = passes_to(s, v, e, index, light, local_wi);
  if (options_.recorder != nullptr) {
    const float sent = light.weight * facing;
    options_.recorder->surface_lights.push_back({v.p.position,
                                                 v.guide_side(),
                                                 scene_.light_clusters.slot_of(index),
                                                 sent,
                                                 sent * passed.mean(),
                                                 sent * passed.mean() / chance});
  }
  if (any_passes(passed)) {
    way_end_ = on_light;
    weight *= left_of_light(s, e, light.wi);
    Arrival how{s.scatterings + 1, s.rough_before, s.hazy, light.colored, light.rgb};
    bring(s, e, s.throughput * thrown.rest * passed, weight, how);
    if (any_passes(thrown.caustic)) {
      how.caustic = true;
      bring(s, e, s.throughput * thrown.caustic * passed, weight, how);
    }
  }
}

// What the surface does with a light's direction, by the light's cheats: by gloss on another
// surface apart, where that is kept apart. `joined`: paths of light find it too.
PathTracer::Thrown PathTracer::thrown_of(
    const State& s, const Vertex& v, const Emitter& e, const Vec3& local_wi, bool joined) const {
  const bool apart = s.rough_before && has_gloss(*v.material) &&
                     (sink_.keeps_parts() || e.cheats.tells_caustics() || joined);
  if (!apart && !e.cheats.any_on_reflection()) {
    return {reflection(*v.material, v.local_wo, local_wi, v.inside), Spectrum::Zero()};
  }
  const Lobes lobes = reflection_lobes(*v.material, v.local_wo, local_wi, v.inside);
  const LobeFactors factors = lobe_factors(e.cheats);
  Thrown out;
  out.rest = factors.diffuse * lobes.diffuse;
  (apart ? out.caustic : out.rest) += factors.gloss * lobes.gloss;
  return out;
}

// The glass in which a ray from the surface runs; null: none. (A meter's surface is none of the
// scene's.)
const SurfaceModel* PathTracer::glass_toward(const State& s,
                                             const Vertex& v,
                                             const Vec3& local_wi) const {
  return v.material->kind != SurfaceKind::kGlass
             ? s.within
             : glass_after(
                   scene_.materials[v.surface->material], v.inside, local_wi.z() < 0, s.within);
}

// What is left of a light on its way to the surface.
Spectrum PathTracer::passes_to(const State& s,
                               const Vertex& v,
                               const Emitter& e,
                               std::uint32_t index,
                               const LightSample& light,
                               const Vec3& local_wi) {
  Ray shadow{World::leave(v.p, light.wi), light.wi};
  std::uint32_t body = kNoIndex;
  if (!e.is_distant()) {
    shadow.t_max = shadow_end(e, light.distance) - v.p.offset;
    body = scene_.emitter_surface[index];
  }
  Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
  // A light without shadows asks no ray, nor does a surface without.
  if (shadow.t_max > 0 && passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any() &&
      v.surface->receives_shadow) {
    ++counts_.shadow;
    passed *=
        timed([&] { return passage(scene_, ShadowRule::of(scene_, e), shadow, body, counts_); });
  }
  if (const SurfaceModel* const glass = glass_toward(s, v, local_wi);
      glass != nullptr && !e.is_distant()) {
    passed *= (-light.distance * glass->absorption).exp();
  }
  return passed;
}

// Shadow rays that tell what arrives of more lights than the path samples toward.
void PathTracer::probe_lights(const State& s, const Vertex& v) {
  const std::size_t probes = std::min<std::size_t>(kProbes, scene_.emitters.size() / 4);
  const auto pair_of = [&](std::size_t i) {
    return kProbePairs + 2 * (kProbes * static_cast<std::uint32_t>(s.scatterings) +
                              static_cast<std::uint32_t>(i));
  };
  std::array<float, kProbes> u{};
  for (std::size_t i = 0; i < probes; ++i) {
    u[i] = sampler_.single(pair_of(i));
  }
  std::array<LightChoice, kProbes> choices;
  scene_.light_clusters.choose_each(scene_.emitters,
                                    query_of(s.from),
                                    std::span(u).first(probes),
                                    std::span(choices).first(probes));
  for (std::size_t i = 0; i < probes; ++i) {
    const std::uint32_t index = choices[i].index;
    if (index == kNoIndex) {
      return;
    }
    const Emitter& e = scene_.emitters[index];
    const LightSample light =
        sample_toward(e, v.p.position, sampler_.pair(pair_of(i) + 1), v.light_side());
    const Vec3 local_wi = v.frame.to_local(light.wi);
    if (light.weight > 0 && v.receives_from(light.wi, local_wi)) {
      const float sent = light.weight * std::abs(local_wi.z());
      options_.recorder->surface_lights.push_back(
          {v.p.position,
           v.guide_side(),
           scene_.light_clusters.slot_of(index),
           sent,
           sent * passes_to(s, v, e, index, light, local_wi).mean(),
           0});
    }
  }
}

Vec3 PathTracer::guided_direction(const Vertex& v, const Vec2& u, float& pdf) const {
  return v.beams != nullptr ? v.beams->sample(u, pdf)
                            : v.guide->sample(*v.cell, v.p.position, u, pdf);
}

float PathTracer::guided_pdf(const Vertex& v, const Vec3& wi) const {
  return v.beams != nullptr ? v.beams->pdf(wi) : v.guide->pdf(*v.cell, v.p.position, wi);
}

// The density of directions chosen at a surface, without a mirror part: its own, mixed with the
// guide's.
float PathTracer::direction_pdf(const Vertex& v, const Vec3& local_wi, const Vec3& wi) const {
  const float own = reflection_pdf(*v.material, v.local_wo, local_wi, v.inside),
              share = v.guided_share;
  return share > 0 ? share * guided_pdf(v, wi) + (1 - share) * own : own;
}

// A direction chosen at a surface, by itself or by the guide.
PathTracer::Turn PathTracer::turn(const Vertex& v) const {
  const SurfaceModel& material = *v.material;
  const float share = v.guided_share;
  const Vec2 u = v.points[kScatter];
  Turn out;
  Scattering& next = out.next;
  if (share > 0 && v.choices.y() < share) {
    out.wi = guided_direction(v, u, out.guided);
    next.wi = v.frame.to_local(out.wi);
    out.own = reflection_pdf(material, v.local_wo, next.wi, v.inside);
    next.pdf = share * out.guided + (1 - share) * out.own;
    next.weight =
        reflection(material, v.local_wo, next.wi, v.inside) * (std::abs(next.wi.z()) / next.pdf);
    return out;
  }
  next = scatter(material, v.local_wo, u, (v.choices.y() - share) / (1 - share), v.inside);
  out.wi = v.frame.to_world(next.wi);
  out.own = next.pdf;
  if (next.mirror) {
    next.weight /= 1 - share;
    return out;
  }
  const bool asked = share > 0 || (v.cell != nullptr && options_.recorder != nullptr &&
                                   surface_guide_->has_directions());
  out.guided = asked && next.pdf > 0 ? guided_pdf(v, out.wi) : 0;
  if (share > 0 && next.pdf > 0) {
    next.pdf = share * out.guided + (1 - share) * out.own;
    next.weight *= out.own / next.pdf;
  }
  return out;
}

// The next direction at a surface; false where the path ends.
bool PathTracer::leave_surface(State& s, Vertex& v) {
  const float mirrored = mirrored_apart(s, v);
  // What is left to choose from has 1 - mirrored of the chances.
  v.choices.y() = mirrored + (1 - mirrored) * v.choices.y();
  Turn next = turn(v);
  next.next.weight *= 1 - mirrored;
  s.by_chance = s.by_chance || (mirrored == 0 && next.next.mirror && next.next.pdf < kLikely);
  return depart(s, v, next);
}

// Splitting: what smooth glass or a coat mirrors of a ray that comes from the camera, directly or
// by mirrors and glass, is a path apart, as at panes. So each sample meets the lamp whose image is
// seen in it. Returns the chance of being mirrored; 0: not apart.
float PathTracer::mirrored_apart(State& s, Vertex& v) {
  const SurfaceModel& material = *v.material;
  const bool may_be = material.alpha == 0 && (material.kind == SurfaceKind::kGlass ||
                                              material.kind == SurfaceKind::kGloss);
  if (!may_be || s.rough_before || v.guided_share > 0 || s.hazy || options_.recorder != nullptr) {
    return 0;
  }
  Turn mirror;
  mirror.next = scatter(material, v.local_wo, v.points[kScatter], 0.0f, v.inside);
  const float chance = mirror.own = mirror.next.pdf;
  if (!mirror.next.mirror || !(mirror.next.wi.z() > 0) || !(chance > 0) || !(chance < 1) ||
      !(s.branch_share * chance >= kLeastBranch)) {
    return 0;
  }
  mirror.next.weight *= chance;
  mirror.wi = v.frame.to_world(mirror.next.wi);
  State back = s;
  back.branch_share *= chance;
  back.mirrored_chance *= chance;
  s.branch_share *= 1 - chance;
  if (depart(back, v, mirror)) {
    follow_later(back);
  }
  return chance;
}

void PathTracer::follow_later(State branch) {
  branch.mirrored_pair = kBranchPairs + static_cast<std::uint32_t>(branches_.size());
  const bool of_this_place = departed_ && branch.from.material == &*departed_;
  branches_.push_back({branch, of_this_place ? departed_ : std::nullopt});
}

// Roulette by expected contribution: the share that was mirrored, times what a path usually brings
// over what the sample has brought so far. Where it is dark behind a pane, the image in the pane is
// all that is seen. Unbiased: what was brought does not depend on the number that decides.
float PathTracer::chance_of_mirrored(const State& s) const {
  const float usual = options_.guide != nullptr ? options_.guide->usual_luminance : 0,
              brought = sink_.total() - brought_before_;
  return usual > brought
             ? std::min(1.0f, s.mirrored_chance * usual / std::max(brought, 1e-6f * usual))
             : s.mirrored_chance;
}

// The roulette of a branch that panes, glass or coats have mirrored, where it is first scattered by
// anything else; false where the branch ends.
bool PathTracer::goes_on_as_mirrored(State& s) const {
  if (s.mirrored_chance == 1) {
    return true;
  }
  const float chance = chance_of_mirrored(s);
  if (!(sampler_.single(s.mirrored_pair) < chance)) {
    return false;
  }
  s.throughput /= chance;
  s.reflected /= chance;
  s.mirrored_chance = 1;
  return true;
}

// The path goes on in a direction that was chosen; false where it ends.
bool PathTracer::depart(State& s, const Vertex& v, const Turn& turn) {
  const SurfaceModel& material = *v.material;
  const Scattering& next = turn.next;
  if (!(next.pdf > 0)) {
    return false;
  }
  const Spectrum before = s.throughput;
  s.throughput *= next.weight;
  if (options_.recorder != nullptr && !next.mirror) {
    record(options_.recorder->surface_scatterings,
           {v.p.position,
            square_of(turn.wi),
            Vec3::Zero(),
            false,
            0,
            0,
            turn.own,
            turn.guided,
            next.pdf,
            v.guide_side(),
            Vec3::Zero(),
            0},
           before,
           s.throughput,
           std::abs(next.wi.z()));
  }
  const float away = turn.wi.dot(v.side.normal);
  const bool to_its_side =
      material.lets_through() ? away * next.wi.z() > 0 : away > 0 && next.wi.z() > 0;
  if (!to_its_side || !any_passes(s.throughput)) {
    return false;  // to the other side than meant: an interpolated normal's doing, or the guide's
  }
  if (material.kind == SurfaceKind::kGlass) {
    s.within =
        glass_after(scene_.materials[v.surface->material], v.inside, next.wi.z() < 0, s.within);
  }
  leave_by(s.from, v, turn);
  if (options_.light_paths.paths != nullptr && !next.mirror) {
    update_camera_ratio(s, v, next.wi, turn.own);
  }
  s.reflected *= next.mirror    ? next.weight * (1 - v.guided_share)
                 : turn.own > 0 ? Spectrum(next.weight * (next.pdf / turn.own))
                                : Spectrum::Zero();
  // Glass lessens the radiance on its way in and gives it back on the way out: no loss.
  s.reflected *= refracted_flux(material, v.inside, next.wi.z() < 0);
  if (s.onward_chance < 1) {
    if (!(v.points[kRoulette].x() < s.onward_chance)) {
      return false;
    }
    s.throughput /= s.onward_chance;
    s.onward_chance = 1;
  } else if (v.guided_share > 0 && v.guide != surface_guide_) {
    // Roulette begins anew: the light that is looked for lies behind mirrors or glass. Its least
    // share, for a direction whose own density is all rounding.
    s.reflected /= std::max(s.reflected.maxCoeff(), 1e-30f);
  } else if (s.scatterings + 1 >= kRouletteFrom && s.mirrored_chance == 1 &&
             !survives(s, v.points[kRoulette].x())) {
    return false;
  }
  ++counts_.path;
  s.ray = {World::leave(v.p, turn.wi), turn.wi.normalized()};
  if (!next.mirror) {
    s.links = s.from.links;
    s.rough_before = true;
  }
  ++s.scatterings;
  return true;
}

void PathTracer::leave_by(Departure& from, const Vertex& v, const Turn& turn) {
  const Scattering& next = turn.next;
  from.pdf = next.pdf;
  from.own_pdf = turn.own;
  from.delta = next.mirror;
  from.material = v.material;
  if (v.colored) {
    departed_ = *v.material;
    from.material = &*departed_;
  }
  from.wo = v.local_wo;
  from.wi = next.wi;
  from.inside = v.inside;
  from.unshadowed = !v.surface->receives_shadow;
}

// The factor of R that a scattering adds, for the way that LightPaths would find from the other
// end. By the surfaces' own densities, as they have them: weights add up to one whatever both sides
// agree on.
void PathTracer::update_camera_ratio(State& s,
                                     const Vertex& v,
                                     const Vec3& local_wi,
                                     float own) const {
  Departure& from = s.from;
  if (!(own > 0)) {
    from.camera_ratio = 0;
    return;
  }
  const double onward = static_cast<double>(std::abs(local_wi.z())) / static_cast<double>(own);
  if (s.scatterings == 0) {
    from.camera_ratio = s.hazy
                            ? 0
                            : onward / options_.light_paths.paths->film_density(
                                           s.ray, s.to_panes + v.distance, v.side.normal.dot(v.wo));
  } else if (from.camera_ratio > 0) {
    from.camera_ratio *=
        onward * static_cast<double>(pdf_back(*v.material, v.local_wo, local_wi, v.inside)) /
        static_cast<double>(v.local_wo.z());
  }
}

}  // namespace jovilux
