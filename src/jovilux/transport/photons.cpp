#include "jovilux/transport/photons.h"

#include "jovilux/base/parallel.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/light_emission.h"
#include "jovilux/transport/surface_vertex.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Of as many places and directions on each light photons are chosen by power.
constexpr std::size_t kCandidates = 2048;
constexpr std::size_t kBlock = 512;

struct Photon {
  Ray ray;
  float power = 0;
};

Vec3 on_sphere(const Vec2& u) { return direction_of(u); }

// Rays that leave one light, with the flux that each stands for. A near light is sampled toward
// from places all around it, a distant one from the middle of the scene.
std::vector<Photon> candidates(const Scene& scene, std::uint32_t index, std::uint32_t seed) {
  std::vector<Photon> out;
  const Emitter& e = scene.emitters[index];
  if (!e.shines() || e.endless) {
    return out;
  }
  const Bounds& world = scene.world.bounds();
  const Vec3 middle = world.empty() ? Vec3(Vec3::Zero()) : world.center();
  const float whole = std::max(0.5f * world.diagonal(), 1e-3f);
  const float radius = 2 * reach_of(e) + 1e-2f * whole;
  for (std::uint32_t i = 0; i < kCandidates; ++i) {
    const Sampler sampler(seed, mix(0x70686f74U, index), i);
    const Vec2 u = sampler.pair(0), v = sampler.pair(1);
    Photon photon;
    if (e.is_distant()) {
      const LightSample light = sample_toward(e, middle, v);
      if (!(light.weight > 0)) {
        continue;
      }
      const Frame frame = Frame::around(light.wi);
      const float r = whole * std::sqrt(u.x()), phi = 2 * kPi * u.y();
      const Vec3 start =
          middle + r * (std::cos(phi) * frame.x + std::sin(phi) * frame.y) + 2 * whole * light.wi;
      photon.ray = {start, Vec3(-light.wi)};
      photon.power = light.weight * kPi * whole * whole;
    } else {
      const Vec3 outward = on_sphere(u), p = e.center + radius * outward;
      const LightSample light = sample_toward(e, p, v);
      const float cosine = -light.wi.dot(outward);
      if (!(light.weight > 0) || !(cosine > 0)) {
        continue;
      }
      const Vec3 place = p + light.distance * light.wi;
      photon.ray = {place - 1e-4f * (light.distance + 1e-3f) * light.wi, Vec3(-light.wi)};
      photon.power = light.weight * cosine * 4 * kPi * radius * radius;
    }
    photon.power /= static_cast<float>(kCandidates);
    if (std::isfinite(photon.power)) {
      out.push_back(photon);
    }
  }
  return out;
}

class PhotonTracer {
 public:
  PhotonTracer(const Scene& scene,
               int bounces,
               bool caustics,
               Rng& random,
               PhotonRecords& out,
               std::vector<PhotonScattering>* scatterings,
               RayCounts& rays)
      : scene_(scene),
        bounces_(bounces),
        caustics_(caustics),
        random_(random),
        out_(out),
        scatterings_(scatterings),
        rays_(rays) {}

  void run(const Photon& photon) {
    int scatterings = 0;
    Ray ray = photon.ray;
    for (int i = 0; i < kMostSteps && scatterings < bounces_; ++i) {
      const Hit hit = scene_.world.closest(ray);
      ++rays_.path;
      if (haze_scatters(ray, hit.found() ? hit.t : kFar, photon.power, scatterings)) {
        if (!goes_on_) {
          return;
        }
        continue;
      }
      if (!hit.found() || !surface_scatters(ray, hit, photon.power, scatterings)) {
        return;
      }
    }
  }

 private:
  static constexpr int kMostSteps = 64;

  float uniform() { return static_cast<float>(random_.uniform()); }
  bool survives(float share) { return uniform() < std::min(share, 0.95f); }

  bool haze_scatters(Ray& ray, float end, float power, int& scatterings) {
    goes_on_ = true;
    if (scene_.hazes.empty()) {
      return false;
    }
    const HazeAlong along(scene_.hazes, ray, end);
    const float t = along.any() ? along.sample(uniform(), random_) : kFar;
    if (!(t < end)) {
      return false;
    }
    const HazeAt at = along.at(t);
    const Vec3 p = ray.at(t);
    if (scatterings > 0) {
      out_.haze.push_back({p, Vec3::Zero(), source_, square_of(-ray.direction), power});
    }
    Vec3 wi;
    const float pdf = at.sample_phase(ray.direction, Vec2(uniform(), uniform()), wi);
    goes_on_ = survives(at.scattering(ray.direction.dot(wi)).mean() / (at.sigma_t() * pdf));
    ray = {p, wi};
    source_ = p;
    ++scatterings;
    return true;
  }

  // False where the photon ends.
  bool surface_scatters(Ray& ray, const Hit& hit, float power, int& scatterings) {
    const SurfacePoint p = scene_.world.point(ray, hit);
    const std::uint32_t number = scene_.surfaces[p.surface].material;
    if (number == kNoIndex) {
      return false;
    }
    const SurfaceModel& material = scene_.materials[number];
    const Vec3 wo = -ray.direction;
    const Vec3 normal = p.normal.dot(wo) >= 0 ? p.normal : Vec3(-p.normal);
    const bool pane = material.is_pane();
    if ((scene_.has_pictures && uniform() >= scene_.pictures[number].covered(p.uv)) ||
        (pane && uniform() >= pane_reflectance(material, std::min(1.0f, normal.dot(wo))))) {
      ray = {World::leave(p, ray.direction), ray.direction};
      return !pane || survives(material.transmittance.mean());
    }
    if (scatterings_ != nullptr && !material.only_mirror()) {
      scatterings_->push_back({p, wo, number, power});
    }
    if (scatterings > 0 && !material.only_mirror()) {
      out_.surfaces.push_back(
          {p.position, cell_normal(material, p.normal, wo), source_, square_of(wo), power});
    }
    const Frame frame = Frame::around(normal);
    Vec3 wi;
    if (pane) {
      wi = ray.direction - 2 * ray.direction.dot(normal) * normal;
    } else {
      const Scattering next = scatter(material,
                                      frame.to_local(wo),
                                      Vec2(uniform(), uniform()),
                                      uniform(),
                                      p.normal.dot(wo) < 0);
      if (!(next.pdf > 0) || (next.mirror && scatterings == 0 && !caustics_) ||
          !survives(next.weight.mean())) {
        return false;
      }
      wi = frame.to_world(next.wi);
    }
    ray = {World::leave(p, wi), wi.normalized()};
    source_ = p.position;
    ++scatterings;
    return true;
  }

  const Scene& scene_;
  int bounces_;
  bool caustics_;
  Rng& random_;
  PhotonRecords& out_;
  std::vector<PhotonScattering>* scatterings_;
  RayCounts& rays_;
  bool goes_on_ = true;
  Vec3 source_ = Vec3::Zero();  // of the last scattering
};

// Lights that shine; of very many, those of an even choice.
std::vector<std::uint32_t> shining_lights(const Scene& scene) {
  constexpr std::size_t kMostLights = 256;
  std::vector<std::uint32_t> lights;
  for (std::uint32_t i = 0; i < scene.emitters.size(); ++i) {
    if (scene.emitters[i].shines()) {
      lights.push_back(i);
    }
  }
  if (const std::size_t step = lights.size() / kMostLights; step > 0) {
    std::vector<std::uint32_t> some;
    for (std::size_t i = 0; i < lights.size(); i += step + 1) {
      some.push_back(lights[i]);
    }
    return some;
  }
  return lights;
}

// About `count` photons, of the candidates of each light: half of them in equal numbers, half in
// proportion to flux. Photons of one light have the same power, its candidates are taken by theirs.
std::vector<Photon> chosen_photons(const std::vector<std::vector<Photon>>& of_light,
                                   std::size_t count) {
  double flux = 0;
  std::vector<double> flux_of(of_light.size());
  std::size_t sending = 0;
  for (std::size_t l = 0; l < of_light.size(); ++l) {
    for (const Photon& p : of_light[l]) {
      flux_of[l] += static_cast<double>(p.power);
    }
    flux += flux_of[l];
    sending += flux_of[l] > 0 ? 1 : 0;
  }
  std::vector<Photon> photons;
  for (std::size_t l = 0; flux > 0 && l < of_light.size(); ++l) {
    if (!(flux_of[l] > 0)) {
      continue;
    }
    const double share = 0.5 / static_cast<double>(sending) + 0.5 * flux_of[l] / flux;
    const auto n = static_cast<std::size_t>(std::ceil(share * static_cast<double>(count)));
    const double step = flux_of[l] / static_cast<double>(n);
    double sum = 0, next = 0.5 * step;
    for (const Photon& p : of_light[l]) {
      sum += static_cast<double>(p.power);
      for (; next < sum; next += step) {
        photons.push_back({p.ray, static_cast<float>(step)});
      }
    }
  }
  return photons;
}

}  // namespace

PhotonRecords trace_photons(const Scene& scene,
                            std::size_t count,
                            int bounces,
                            bool caustics,
                            std::uint32_t seed,
                            RayCounts& rays,
                            std::vector<PhotonScattering>* scatterings) {
  const std::vector<std::uint32_t> lights = shining_lights(scene);
  std::vector<std::vector<Photon>> of_light(lights.size());
  parallel_for(lights.size(),
               [&](std::size_t l) { of_light[l] = candidates(scene, lights[l], seed); });
  const std::vector<Photon> photons = chosen_photons(of_light, count);
  std::vector<PhotonRecords> blocks((photons.size() + kBlock - 1) / kBlock);
  std::vector<std::vector<PhotonScattering>> scattered(blocks.size());
  std::vector<RayCounts> counts(blocks.size());
  parallel_for(blocks.size(), [&](std::size_t b) {
    const MarchCounts march_before = march_counts();
    for (std::size_t i = b * kBlock; i < std::min(photons.size(), (b + 1) * kBlock); ++i) {
      Rng random(mix(mix(seed, 0x70686f74U), static_cast<std::uint32_t>(i)));
      PhotonTracer(scene,
                   bounces,
                   caustics,
                   random,
                   blocks[b],
                   scatterings != nullptr ? &scattered[b] : nullptr,
                   counts[b])
          .run(photons[i]);
    }
    counts[b].march += march_counts() - march_before;
  });
  PhotonRecords out;
  for (std::size_t b = 0; b < blocks.size(); ++b) {
    out.surfaces.insert(out.surfaces.end(), blocks[b].surfaces.begin(), blocks[b].surfaces.end());
    out.haze.insert(out.haze.end(), blocks[b].haze.begin(), blocks[b].haze.end());
    if (scatterings != nullptr) {
      scatterings->insert(scatterings->end(), scattered[b].begin(), scattered[b].end());
    }
    rays += counts[b];
  }
  return out;
}

}  // namespace jovilux
