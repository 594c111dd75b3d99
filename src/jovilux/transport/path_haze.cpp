// Haze on a path's way: the light that it scatters once is found in three ways, each with its
// density (HazeWays), and weighed by the power heuristic: a light chosen for the whole ray and a
// place that suits it; a place chosen by what haze takes and a light chosen there; the place where
// the path is scattered and its new direction.

#include "jovilux/transport/path_tracer.h"

#include <array>
#include <cmath>

namespace jovilux {

using namespace path_dimensions;

namespace {

// The camera's path through haze is followed apart behind so many panes at most.
constexpr std::uint32_t kPanesApart = 2;
// It is followed with the chance of what haze takes, but not less than this; the path that goes on
// from the surface behind it with the chance of what haze leaves, so that both cost about one path.
constexpr float kLeastFollowed = 0.1f, kLeastOnward = 0.3f;
// Along the camera's ray through even haze: lights sampled toward from so many places that suit
// them, fewer where choosing among many lights takes long; and so many places by what haze takes.
// With the connections behind haze, two places have 0.8 of the squared error of four after equal
// time (docs/experiments.md, "Splitting in haze").
constexpr std::size_t kSomeLights = 12;
constexpr int kAlongFew = 4, kAlongMany = 2, kPlaces = 2;
constexpr std::uint32_t kPairsPerPlace = 10;

}  // namespace

// The stretch of haze up to `end`: the light that it scatters once, and whether the path goes on to
// the surface or is scattered on its way.
PathTracer::Next PathTracer::through_haze(State& s, float end) {
  const HazeAlong along(scene_.hazes, s.ray, end);
  if (!along.any()) {
    return Next::kSurface;
  }
  const std::uint32_t pairs = kHazePairs + kHazePairsPerPane * s.panes +
                              kHazePairsPerVertex * static_cast<std::uint32_t>(s.scatterings);
  HazeStretch h{along, end, pairs, {}, {}};
  const bool scatters = s.scatterings < options_.bounces && s.in_haze < options_.haze_bounces;
  // From the camera, what lies behind and what is scattered are two paths.
  if (s.scatterings == 0 && s.panes <= kPanesApart) {
    return through_apart(s, h, scatters);
  }
  if (scatters) {
    h.chosen = lights_along(s, h);
  }
  const float t = along.sample(sampler_.pair(pairs + kPlace).x(), random_);
  add_emission(s, along, t);
  if (!(t < end)) {
    return Next::kSurface;
  }
  if (!goes_on_as_mirrored(s)) {
    return Next::kEnd;
  }
  if (!scatters || !scatter_in_haze(s, h, t)) {
    return Next::kEnd;
  }
  ++s.scatterings;
  return Next::kOn;
}

// The camera's ray: it goes on weighed by the transmittance, without chance, and the path that haze
// scatters is one of its own.
PathTracer::Next PathTracer::through_apart(State& s, HazeStretch& h, bool scatters) {
  const float left = h.along.transmittance(h.end, random_), taken = 1 - left;
  const Vec2 u = sampler_.pair(h.pairs + kPlace);
  if (h.along.uneven()) {
    if (scatters) {
      h.chosen = lights_along(s, h);
    }
    const float t = h.along.sample(u.x(), random_);
    add_emission(s, h.along, t);
    if (scatters) {
      scatter_apart(s, h, t);
    }
  } else {
    // In even haze the place is chosen before the end.
    const float followed = std::max(kLeastFollowed, taken);
    if (scatters) {
      h.split = split_of(taken, followed);
      h.chosen = lights_along(s, h);
    }
    add_emission(s, h.along, kFar);
    if (scatters && taken > 0) {
      lights_at_places(s, h);
      if (u.y() < followed) {
        scatter_apart(s, h, h.along.sample(u.x() * taken, random_));
      }
    }
  }
  s.throughput *= left;
  s.onward_chance = std::min(s.onward_chance, std::max(kLeastOnward, left));
  return left > 0 ? Next::kSurface : Next::kEnd;
}

// How often light is looked for on a camera's ray through even haze that takes the part `taken`.
PathTracer::HazeSplit PathTracer::split_of(float taken, float followed) const {
  if (!(taken > 0)) {
    return {};
  }
  if (options_.recorder != nullptr) {  // many paths tell more than many lights on each
    return {1, 1, taken, followed};
  }
  const std::size_t near_lights = scene_.emitters.size() - scene_.distant.size();
  return {near_lights <= kSomeLights ? kAlongFew : kAlongMany, kPlaces, taken, followed};
}

// Beside the path that goes straight on: the one that haze scatters at t, to its end.
void PathTracer::scatter_apart(const State& s, const HazeStretch& h, float t) {
  if (!(t < h.end)) {
    return;
  }
  State scattered = s;
  scattered.throughput *= h.split.taken / h.split.followed;
  scattered.onward_chance = 1;
  if (scatter_in_haze(scattered, h, t)) {
    ++scattered.scatterings;
    follow(scattered);
  }
}

// Lights sampled toward from places that are spread over the ray by what haze takes.
void PathTracer::lights_at_places(const State& s, const HazeStretch& h) {
  const std::uint32_t pairs = kHazeSplitPairs + kSplitPairsPerPane * s.panes;
  const float first = sampler_.single(pairs);
  for (int i = 0; i < h.split.places; ++i) {
    const float u = (static_cast<float>(i) + first) / static_cast<float>(h.split.places);
    const float t = h.along.sample(u * h.split.taken, random_);
    if (!(t < h.end)) {
      continue;
    }
    State place = s;
    place.throughput *= h.split.taken / static_cast<float>(h.split.places);
    const HazeAt at = h.along.at(t);
    arrive_in_haze(place, h, t, at);
    const std::uint32_t own = pairs + 1 + kPairsPerPlace * static_cast<std::uint32_t>(i);
    light_here(place, at, sampler_.pair(own).x(), sampler_.pair(own + 1));
    if (virtual_lights_ != nullptr) {
      place.from.row = virtual_lights_->row_at(place.from.p, Vec3::Zero(), true);
      connect_haze(place, at, kHazeConnections, own + 2);
    }
  }
}

// What the hazes themselves give off on a ray's way; t is where haze extinguishes it.
void PathTracer::add_emission(const State& s, const HazeAlong& along, float t) {
  const auto add = [&](std::size_t haze, float luminance) {
    const float before = options_.ways != nullptr ? sink_.total() : 0;
    sink_.add(scene_.hazes[haze].layer,
              Part::kHaze,
              tristimulus(scene_.emission_table, s.throughput, luminance));
    if (options_.ways != nullptr) {
      options_.ways->contributions.push_back({kNoIndex,
                                              scene_.hazes[haze].layer,
                                              s.way,
                                              s.ray.at(std::min(t, 1.0f)),
                                              sink_.total() - before});
    }
  };
  if (!along.uneven()) {
    along.emission(add);
    return;
  }
  if (t == kFar) {
    return;
  }
  // The place has the density of what is extinguished there: what is given off there over that is
  // the whole, on average.
  const HazeAt here = along.at(t);
  for (std::size_t i = 0; i < scene_.hazes.size(); ++i) {
    const Haze& h = scene_.hazes[i];
    if (h.emission > 0 && here.sigma_t(i) > 0) {
      add(i, h.emission * (here.sigma_t(i) / h.sigma_t) / here.sigma_t());
    }
  }
}

// A light sampled toward from a place in haze: what of it arrives there, weighed.
void PathTracer::light_on_haze(const State& s,
                               std::uint32_t index,
                               const Vec3& p,
                               const LightSample& light,
                               const Spectrum& throughput,
                               float weight) {
  const Emitter& e = scene_.emitters[index];
  if (!(weight > 0) || !any_passes(throughput)) {
    return;
  }
  const Ray shadow{p, light.wi, shadow_end(e, light.distance)};
  const std::uint32_t body = e.is_distant() ? kNoIndex : scene_.emitter_surface[index];
  Spectrum passed = Spectrum::Constant(haze_passes(scene_, shadow, shadow.t_max, random_));
  if (passed[0] > 0 && (e.cheats.shadow_color != 1.0f).any()) {
    ++counts_.shadow;
    passed *=
        timed([&] { return passage(scene_, ShadowRule::of(scene_, e), shadow, body, counts_); });
  }
  if (options_.recorder != nullptr) {
    options_.recorder->haze_lights.push_back({p,
                                              Vec3::Zero(),
                                              scene_.light_clusters.slot_of(index),
                                              light.weight,
                                              light.weight * passed.mean(),
                                              0});
  }
  if (any_passes(passed)) {
    weight *= left_of_light(s, e, light.wi);
    const Arrival how{s.scatterings + 1, s.rough_before, true, light.colored, light.rgb};
    if (options_.ways == nullptr) {
      bring(s, e, throughput * passed, weight, how);
      return;
    }
    way_end_ = p + light.wi * (e.is_distant() ? 1 : light.distance);
    State here = s;  // the place may have been chosen before the path is there
    if (here.way == nullptr || here.way->surface != kNoIndex || here.way->at != p) {
      here.way = with_vertex(s.way, p, Vec3::Zero(), kNoIndex, false);
    }
    bring(here, e, throughput * passed, weight, how);
  }
}

// Light that haze scatters once on a ray's way: a light is chosen first, then a place that suits
// it; `split.along` times. Returns one of the choices.
LightChoice PathTracer::lights_along(const State& s, const HazeStretch& h) {
  const Vec2 which = sampler_.pair(h.pairs + kAlong),
             on_light = sampler_.pair(h.pairs + kAlongLight);
  const auto count = static_cast<std::uint32_t>(h.split.along);
  std::array<float, kAlongFew> u_choice{}, u_place{};
  for (std::uint32_t i = 0; i < count; ++i) {
    // Each place in a part of the ray of its own.
    const Vec2 u = in_strip({which.y(), which.x()}, i, count);
    u_place[i] = u.x();
    u_choice[i] = u.y();
  }
  std::array<LightChoice, kAlongFew> choices;
  scene_.light_clusters.choose_each(scene_.emitters,
                                    LightQuery::along(s.ray, h.end, s.links),
                                    std::span(u_choice).first(count),
                                    std::span(choices).first(count));
  for (std::uint32_t i = 0; i < count; ++i) {
    if (choices[i].index != kNoIndex) {
      light_along(s, h, choices[i], u_place[i], with_other_digits(on_light, i));
    }
  }
  return choices[0];
}

void PathTracer::light_along(const State& s,
                             const HazeStretch& h,
                             const LightChoice& choice,
                             float u_place,
                             const Vec2& u_light) {
  const Emitter& e = scene_.emitters[choice.index];
  const EquiangularSpan span(e.center, s.ray, h.end);
  const float t = span.sample(u_place);
  if (!(t > 0) || !(t < h.end)) {
    return;
  }
  const HazeAt here = h.along.at(t);
  const float sigma_t = here.sigma_t();
  const Vec3 p = s.ray.at(t);
  float left = 1;
  if (!(sigma_t > 0) || !may_reach(e, p, s.links) ||
      (s.from.row != nullptr && !s.from.delta && virtual_lights_->carries(e) &&
       !shadow_ray_survives(s, p, sigma_t, left))) {
    return;
  }
  left = h.along.transmittance(t, random_) * left;
  if (!(left > 0)) {
    return;
  }
  const LightSample light = sample_toward(e, p, u_light);
  if (!(light.weight > 0)) {
    return;
  }
  const float cosine = s.ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1;
  const HazeWays ways = h.split.ways(sigma_t * h.along.likely_transmittance(t));
  const float here_chance = chance_here(p, s.links, choice.index);
  const float by_phase =
      light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(here, p, cosine, light.wi) : 0;
  const float mine = ways.along * choice.chance * span.pdf(t);
  const float weight =
      light.weight * left / mine *
      power_heuristic(mine * direction, ways.here * here_chance * direction, ways.path * by_phase);
  light_on_haze(s, choice.index, p, light, s.throughput * here.scattering(cosine), weight);
}

// Of the light that is scattered at p toward a place which this ray has left, connections have
// their share; where they leave little, few of the shadow rays to the light are traced. `left`: the
// part of what is traced, over its chance.
bool PathTracer::shadow_ray_survives(const State& s, const Vec3& p, float sigma_t, float& left) {
  left = left_by_connections(s, p, Vec3::Zero(), true, sigma_t);
  const float survival = std::sqrt(left);
  left /= std::max(survival, 1e-10f);
  return static_cast<float>(random_.uniform()) < survival;
}

// The weight of a light that a direction chosen in haze has met, against the other ways to it.
// `direction`: the density of sampling toward it [1/sr].
float PathTracer::haze_weight(const State& s, std::uint32_t index, float direction) const {
  const Departure& from = s.from;
  return power_heuristic(from.haze.ways.path * from.pdf,
                         from.haze.ways.here * chance_here(from.p, from.links, index) * direction,
                         along_density(from, index) * direction);
}

// The density with which a place in haze is found by a light chosen for its whole ray [1/m].
float PathTracer::along_density(const Departure& from, std::uint32_t index) const {
  const HazePlace& haze = from.haze;
  const Emitter& e = scene_.emitters[index];
  if (e.is_distant() || !(haze.choice.total > 0)) {
    return 0;
  }
  const float chance = scene_.light_clusters.chance(
      scene_.emitters, LightQuery::along(haze.ray, haze.end, from.links), index, haze.choice);
  return chance > 0
             ? haze.ways.along * chance * EquiangularSpan(e.center, haze.ray, haze.end).pdf(haze.t)
             : 0;
}

// The chance that a light is chosen at a place in haze.
float PathTracer::chance_here(const Vec3& p, std::uint64_t links, std::uint32_t light) const {
  if (scene_.emitters.size() == 1) {
    return 1;
  }
  if (haze_lights_ != nullptr) {
    return haze_lights_->chance(haze_guide_->cell_at(p, Vec3::Zero()), light);
  }
  const LightQuery query = LightQuery::point(p, links);
  const std::span<const float> arrives = haze_arrives(p);
  const LightSet set = scene_.light_clusters.choose_set(scene_.emitters, query, 0.0f, arrives, 0);
  return scene_.light_clusters.chance(scene_.emitters, query, light, set, arrives);
}

std::span<const float> PathTracer::haze_arrives(const Vec3& p) const {
  return haze_guide_ != nullptr ? haze_guide_->arrives(haze_guide_->cell_at(p, Vec3::Zero()))
                                : std::span<const float>();
}

// The density of directions chosen in haze: of the phase function, mixed with the guide's.
float PathTracer::haze_direction_pdf(const HazeAt& at,
                                     const Vec3& p,
                                     float cosine,
                                     const Vec3& wi) const {
  const float own = at.phase_pdf(cosine);
  if (haze_guide_ == nullptr) {
    return own;
  }
  const GuideCell& cell = haze_guide_->cell(haze_guide_->cell_at(p, Vec3::Zero()));
  return cell.share > 0 ? cell.share * haze_guide_->pdf(cell, p, wi) + (1 - cell.share) * own : own;
}

// Haze scatters the path at t; false where it ends.
bool PathTracer::scatter_in_haze(State& s, const HazeStretch& h, float t) {
  Departure& from = s.from;
  const HazeAt at = h.along.at(t);
  const Vec3 p = s.ray.at(t);
  s.left_by_last = 1;
  if (from.row != nullptr && !from.delta &&
      !goes_on_beside_connections(
          s, p, Vec3::Zero(), true, at.sigma_t(), sampler_.pair(h.pairs + kMixture).y())) {
    return false;
  }
  if (options_.recorder != nullptr) {
    record_source(p);
  }
  arrive_in_haze(s, h, t, at);
  if (h.split.places == 0) {
    light_here(s, at, sampler_.pair(h.pairs + kHere).x(), sampler_.pair(h.pairs + kHereLight));
  }
  from.row = virtual_lights_ != nullptr ? virtual_lights_->row_at(p, Vec3::Zero(), true) : nullptr;
  if (h.split.places == 0) {
    connect_haze(s, at, connections(s), virtual_pair(s));
  }
  return turn_in_haze(s, at, h.pairs);
}

// What a place in haze is like for the ways that light is found there, and lights chosen at it.
void PathTracer::arrive_in_haze(State& s, const HazeStretch& h, float t, const HazeAt& at) {
  Departure& from = s.from;
  from.haze = {
      s.ray, h.end, t, h.chosen, h.split.ways(at.sigma_t() * h.along.likely_transmittance(t))};
  from.p = s.ray.at(t);
  from.links = s.links;
  from.rough_before = s.rough_before;
  from.material = nullptr;
  from.camera_ratio_to_gloss = 0;
  from.delta = from.unshadowed = false;
  from.arrives = haze_arrives(from.p);
  from.lights = {};
  s.way = with_vertex(s.way, from.p, Vec3::Zero(), kNoIndex, false);
}

// A light chosen at a place in haze, by u_which; u_light: on it.
void PathTracer::light_here(State& s, const HazeAt& at, float u_which, const Vec2& u_light) {
  Departure& from = s.from;
  LightChoice here;
  if (haze_lights_ != nullptr) {
    here = haze_lights_->choose(haze_guide_->cell_at(from.p, Vec3::Zero()), u_which);
  } else {
    from.lights = scene_.light_clusters.choose_set(
        scene_.emitters, LightQuery::point(from.p, s.links), u_which, from.arrives, 0);
    here = from.lights.other;
  }
  if (here.index == kNoIndex || !may_reach(scene_.emitters[here.index], from.p, s.links)) {
    return;
  }
  const Emitter& e = scene_.emitters[here.index];
  const LightSample light = sample_toward(e, from.p, u_light);
  if (!(light.weight > 0)) {
    return;
  }
  const float cosine = s.ray.direction.dot(light.wi), direction = light.pdf > 0 ? light.pdf : 1;
  const float by_phase =
      light.pdf > 0 && !e.only_sampled ? haze_direction_pdf(at, from.p, cosine, light.wi) : 0;
  const HazeWays& ways = from.haze.ways;
  const float weight = light.weight / here.chance *
                       power_heuristic(ways.here * here.chance * direction,
                                       along_density(from, here.index) * direction,
                                       ways.path * by_phase);
  light_on_haze(
      s, here.index, from.p, light, s.throughput * at.scattering(cosine) / at.sigma_t(), weight);
}

// The direction in which haze scatters the path.
bool PathTracer::turn_in_haze(State& s, const HazeAt& at, std::uint32_t pairs) {
  Departure& from = s.from;
  const GuideCell* cell = haze_guide_ != nullptr
                              ? &haze_guide_->cell(haze_guide_->cell_at(from.p, Vec3::Zero()))
                              : nullptr;
  const float share = cell != nullptr ? cell->share : 0;
  const Vec2 u = sampler_.pair(pairs + kTurn);
  Vec3 wi;
  float own = 0, guided = 0;
  if (share > 0 && sampler_.single(pairs + kMixture) < share) {
    wi = haze_guide_->sample(*cell, from.p, u, guided);
    own = at.phase_pdf(s.ray.direction.dot(wi));
  } else {
    own = at.sample_phase(s.ray.direction, u, wi);
    const bool asked = share > 0 || (cell != nullptr && options_.recorder != nullptr &&
                                     haze_guide_->has_directions());
    guided = asked ? haze_guide_->pdf(*cell, from.p, wi) : 0;
  }
  from.pdf = share > 0 ? share * guided + (1 - share) * own : own;
  from.own_pdf = own;
  const Spectrum before = s.throughput;
  s.throughput *= at.scattering(s.ray.direction.dot(wi)) / (at.sigma_t() * from.pdf);
  if (options_.recorder != nullptr) {
    record(options_.recorder->haze_scatterings,
           {from.p,
            square_of(wi),
            Vec3::Zero(),
            false,
            0,
            0,
            own,
            guided,
            from.pdf,
            Vec3::Zero(),
            s.ray.direction,
            at.mean_cosine()},
           before,
           s.throughput,
           1);
  }
  if (own > 0) {
    s.reflected *= at.scattering(s.ray.direction.dot(wi)) / (at.sigma_t() * own);
  }
  if (s.scatterings + 1 >= kRouletteFrom && !survives(s, sampler_.pair(pairs + kHere).y())) {
    return false;
  }
  ++counts_.path;
  ++s.in_haze;
  s.ray = {from.p, wi};
  from.camera_ratio = 0;
  s.rough_before = s.hazy = true;
  return true;
}

}  // namespace jovilux
