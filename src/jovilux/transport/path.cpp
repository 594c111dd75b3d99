#include "jovilux/transport/path.h"

#include "jovilux/transport/path_tracer.h"

#include <cmath>

namespace jovilux {

PathTracer::PathTracer(const Scene& scene,
                       const Sampler& sampler,
                       const PathOptions& options,
                       LightSink& sink,
                       FirstHit* first,
                       RayCounts& counts)
    : scene_(scene),
      sampler_(sampler),
      options_(options),
      sink_(sink),
      first_(first),
      counts_(counts),
      surface_guide_(options.guide != nullptr && !options.guide->surfaces.empty()
                         ? &options.guide->surfaces
                         : nullptr),
      haze_guide_(options.guide != nullptr && !options.guide->haze.empty() ? &options.guide->haze
                                                                           : nullptr),
      caustic_guide_(options.guide != nullptr && !options.guide->caustics.empty() &&
                             options.recorder == nullptr
                         ? &options.guide->caustics
                         : nullptr),
      late_caustic_guide_(options.guide != nullptr && !options.guide->late_caustics.empty() &&
                                  options.recorder == nullptr
                              ? &options.guide->late_caustics
                              : nullptr),
      haze_lights_(haze_guide_ != nullptr ? options.guide->haze_lights.get() : nullptr),
      skies_(options.guide != nullptr ? options.guide->skies.get() : nullptr),
      virtual_lights_(options.guide != nullptr && options.virtual_set != nullptr
                          ? options.guide->virtual_lights.get()
                          : nullptr) {
  if (!scene.hazes.empty()) {
    random_ = tracking_numbers(sampler.pair(path_dimensions::kTrackingPairs));
  }
}

void PathTracer::run(const Ray& ray) {
  ++counts_.camera;
  State s;
  s.ray = ray;
  brought_before_ = sink_.total();
  follow(s);
  for (std::size_t i = 0; i < branches_.size(); ++i) {  // branches have branches
    Branch branch = branches_[i];
    if (branch.departed) {
      departed_ = branch.departed;
      branch.state.from.material = &*departed_;
    }
    follow(branch.state);
  }
}

// The path to its end.
void PathTracer::follow(State& s) {
  const std::size_t first_waiting = waiting_.size();
  while (step(s)) {
  }
  close_records(first_waiting);
}

// From where the path is to its next scattering; false where it ends.
bool PathTracer::step(State& s) {
  const bool received = options_.receiver != nullptr && s.scatterings == 0;
  const Hit hit = received ? Hit{} : timed([&] { return scene_.world.closest(s.ray); });
  if (!scene_.hazes.empty() && !received) {
    const Next next = through_haze(s, hit.found() ? hit.t : kFar);
    if (next != Next::kSurface) {
      return next == Next::kOn;
    }
  }
  if (options_.recorder != nullptr && hit.found()) {
    record_source(s.ray.at(hit.t));
  }
  if (!hit.found() && !received) {
    meet_distant_lights(s);
    return false;
  }
  if (s.within != nullptr && !received) {
    s.throughput *= (-hit.t * s.within->absorption).exp();
  }
  Vertex v;
  const Next next = arrive(s, hit, received, v);
  return next == Next::kSurface ? scatter_at(s, v) : next == Next::kOn;
}

// Of a light that comes to the path's last place from the unit direction `toward`, the part that
// connections to virtual lights leave to the path.
float PathTracer::left_of_light(const State& s, const Emitter& e, const Vec3& toward) const {
  if (s.left_by_connections == 1) {
    return 1;
  }
  switch (virtual_lights_->covers(e, s.from.p, toward)) {
    case Covers::kNothing:
      return 1;
    case Covers::kFirst:
      return s.left_by_last;
    case Covers::kAll:
      break;
  }
  return s.left_by_connections;
}

// Adds a light's contribution.
void PathTracer::bring(const State& s,
                       const Emitter& e,
                       const Spectrum& through,
                       float luminance,
                       const Arrival& how) {
  const float before = options_.ways != nullptr ? sink_.total() : 0;
  contribute(e, through, luminance, how, sink_);
  if (options_.ways != nullptr) {
    const auto index = static_cast<std::uint32_t>(&e - scene_.emitters.data());
    options_.ways->contributions.push_back(
        {index, e.layer, s.way, way_end_, sink_.total() - before});
  }
}

void PathTracer::meet_distant_lights(const State& s) {
  for (const std::uint32_t index : scene_.distant) {
    if (covers(scene_.emitters[index], s.ray.direction)) {
      meet_light(s, index, {s.ray.origin, Vec3(-s.ray.direction)});
    }
  }
}

// A light met by the ray that left `s.from`.
void PathTracer::meet_light(const State& s, std::uint32_t index, const LightPlace& place) {
  const Emitter& e = scene_.emitters[index];
  const Departure& from = s.from;
  if (from.delta ? !e.cheats.visible : e.only_sampled || from.unshadowed) {
    return;
  }
  float luminance = seen_luminance(e, s.ray.direction, place);
  const bool received = s.scatterings > 0;
  if (!(luminance > 0) || (received && !may_reach(e, from.p, from.links))) {
    return;
  }
  way_end_ = e.is_distant() ? s.ray.at(1) : place.position;
  if (received) {
    luminance *= falloff_at(e, from.p);
  }
  luminance *= met_weight(s, index, place) * left_of_light(s, e, s.ray.direction);
  // Of what gloss throws, the part that paths of light leave to this one.
  float gloss_left = 1;
  if (!from.delta && from.camera_ratio_to_gloss > 0 && LightPaths::gloss_throws(e)) {
    gloss_left = left_by_light_paths(from,
                                     index,
                                     place.position,
                                     *from.material,
                                     {from.wo, from.wi, s.ray.direction},
                                     light_pdf(e, from.p, s.ray.direction, place, &from.n));
  }
  Arrival how{s.scatterings,
              from.rough_before,
              s.hazy,
              false,
              Eigen::Array3f::Ones(),
              received && from.delta && from.rough_before};
  if (e.detail != nullptr) {
    const LightTint tint =
        tint_between(e, received ? from.p : place.position, place.position, s.ray.direction);
    luminance *= tint.gray;
    how.colored = tint.colored;
    how.rgb = tint.rgb;
  }
  const bool on_haze = received && !from.delta && from.material == nullptr;
  const float before = sink_.total();
  if (received && !on_haze) {
    contribute_by_lobes(s, e, luminance, how, gloss_left);
  } else {
    bring(s, e, s.throughput, luminance, how);
  }
  if (!s.rough_before && !s.hazy && !s.by_chance) {
    sink_.add_seen(sink_.total() - before);
  }
  if (options_.recorder != nullptr && !received && !s.hazy) {
    options_.recorder->seen += sink_.total() - before;
  }
}

// Multiple importance sampling of a light that a ray has met: against sampling toward it from where
// the ray left, and after mirrors against paths of light.
float PathTracer::met_weight(const State& s, std::uint32_t index, const LightPlace& place) const {
  const Emitter& e = scene_.emitters[index];
  const Departure& from = s.from;
  if (!from.delta && from.material == nullptr) {
    return haze_weight(s, index, light_pdf(e, from.p, s.ray.direction, place));
  }
  if (!from.delta) {
    const float chance = scene_.light_clusters.chance(
        scene_.emitters, query_of(from), index, from.lights, from.arrives);
    return power_heuristic(from.pdf, chance * light_density(from, index, s.ray.direction, place));
  }
  if (from.camera_ratio > 0 && LightPaths::cameras_find(e)) {
    const JoinedLightPaths& joined = options_.light_paths;
    const double ratio =
        joined.per_sample * from.camera_ratio *
        joined.paths->density({index, place, from.surface, from.p, s.ray.direction});
    return static_cast<float>(1 / (1 + ratio * ratio));
  }
  return 1;
}

// Density with which the light is sampled toward from a surface [1/sr].
float PathTracer::light_density(const Departure& from,
                                std::uint32_t index,
                                const Vec3& wi,
                                const LightPlace& place) const {
  const Emitter& e = scene_.emitters[index];
  const Vec3* const side = from.both_sides ? nullptr : &from.n;
  return from.cell != kNoIndex && skies_ != nullptr && SkyGuide::suits(e)
             ? skies_->pdf(e, index, from.cell, from.p, wi, side)
             : light_pdf(e, from.p, wi, place, side);
}

// Light that a surface has thrown on: its parts apart where the light's cheats tell them apart, or
// the layers do.
void PathTracer::contribute_by_lobes(
    const State& s, const Emitter& e, float luminance, Arrival how, float gloss_left) {
  const Departure& from = s.from;
  const bool gloss_throws = !from.delta && from.rough_before && has_gloss(*from.material) &&
                            (sink_.keeps_parts() || e.cheats.tells_caustics() || gloss_left != 1);
  if (!e.cheats.any_on_reflection() && !gloss_throws) {
    bring(s, e, s.throughput, luminance, how);
    return;
  }
  const LobeFactors f = lobe_factors(e.cheats);
  if (from.delta) {
    bring(s, e, s.throughput, luminance * f.gloss, how);
    return;
  }
  const Lobes lobes = reflection_lobes(*from.material, from.wo, from.wi, from.inside);
  const Spectrum all = lobes.diffuse + lobes.gloss;
  const auto part = [&](const Spectrum& lobe) {
    return Spectrum((all > 0.0f).select(lobe / all.max(1e-30f), 0.0f));
  };
  bring(s, e, s.throughput * part(f.diffuse * lobes.diffuse), luminance, how);
  how.caustic = from.rough_before;
  bring(s, e, s.throughput * part(f.gloss * lobes.gloss), luminance * gloss_left, how);
}

// Of the light that gloss at from.p throws toward the vertex before, the part that the paths of
// light which begin there leave to camera paths. `light_pdf`: with which the place on the light is
// sampled toward from there [1/sr].
float PathTracer::left_by_light_paths(const Departure& from,
                                      std::uint32_t light,
                                      const Vec3& on_light,
                                      const SurfaceModel& material,
                                      const GlossWay& way,
                                      float light_pdf) const {
  const JoinedLightPaths& joined = options_.light_paths;
  const double factor = LightPaths::gloss_factor(material,
                                                 way.local_to_light,
                                                 way.local_away,
                                                 static_cast<double>(from.n.dot(way.to_light)),
                                                 static_cast<double>(from.cos_away),
                                                 static_cast<double>(light_pdf));
  if (!(factor > 0)) {
    return 1;
  }
  const double ratio =
      joined.per_sample * from.camera_ratio_to_gloss * factor *
      joined.paths->density({light, {on_light}, from.surface, from.p, way.to_light});
  return static_cast<float>(1 / (1 + ratio * ratio));
}

// Russian roulette by what surfaces and haze have left of the path. White ones take nothing and end
// nothing: a least share that ends would make long paths in white hollows rare and heavy.
bool PathTracer::survives(State& s, float u) {
  const float survival = std::min(1.0f, s.reflected.maxCoeff());
  if (!(u < survival)) {
    return false;
  }
  s.throughput /= survival;
  s.reflected /= survival;
  return true;
}

void PathTracer::record(std::vector<ScatteringRecord>& list,
                        const ScatteringRecord& r,
                        const Spectrum& before,
                        const Spectrum& after,
                        float cosine) {
  waiting_.push_back({&list, list.size(), sink_.total(), before.mean(), after.mean(), cosine});
  list.push_back(r);
}

// What the last recorded direction has met.
void PathTracer::record_source(const Vec3& p) {
  if (!waiting_.empty()) {
    ScatteringRecord& r = (*waiting_.back().list)[waiting_.back().index];
    if (!r.met) {
      r.source = p;
      r.met = true;
    }
  }
}

// What the path has brought since each of its scatterings.
void PathTracer::close_records(std::size_t first) {
  for (std::size_t i = first; i < waiting_.size(); ++i) {
    const Waiting& w = waiting_[i];
    ScatteringRecord& r = (*w.list)[w.index];
    const float brought = std::max(0.0f, sink_.total() - w.total);
    r.arriving = w.after > 0 && std::isfinite(brought) ? brought / w.after * w.cosine / r.pdf : 0;
    r.brought = w.before > 0 && std::isfinite(brought) ? brought / w.before : 0;
  }
  waiting_.resize(first);
}

void trace_path(const Scene& scene,
                const Ray& ray,
                const Sampler& sampler,
                const PathOptions& options,
                LightSink& sink,
                FirstHit* first,
                RayCounts& counts) {
  PathTracer(scene, sampler, options, sink, first, counts).run(ray);
}

}  // namespace jovilux
