#include "jovilux/transport/virtual_light_walk.h"

#include "jovilux/transport/light_paths.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace jovilux {
namespace {

constexpr int kMostSteps = 256;
constexpr float kMostSurvival = 0.95f;

// The lobe by which rough glass sends light on: light from within is refracted, and what falls on
// it from outside is mirrored, for the rest goes into the glass, where hardly anything is lit by
// connections. Tilts of facets by the width alpha turn refracted light by (eta - 1) alpha, mirrored
// light by 2 alpha; a phase function of Henyey and Greenstein has the same peak,
// 2 / (4 pi (1 - g)^2) = 1 / (pi width^2).
void set_lobe(VirtualLight& v, const SurfaceModel& glass, bool from_within) {
  constexpr float kLeastWide = 0.02f;
  const float cosine = v.normal.dot(v.to_light);
  const float sin2 = glass.eta * glass.eta * (1 - cosine * cosine);
  float width = 2 * glass.alpha;
  v.lobe = mirrored(-v.to_light, v.normal);
  if (from_within && sin2 < 1) {
    v.lobe = (-glass.eta * v.to_light + (glass.eta * cosine - std::sqrt(1 - sin2)) * v.normal)
                 .normalized();
    width = (glass.eta - 1) * glass.alpha;
  }
  v.g = 1 - std::clamp(width / std::numbers::sqrt2_v<float>, kLeastWide, 1.0f);
}

}  // namespace

void VirtualLightWalk::run(const EmittedPhoton& photon,
                           std::uint32_t emitter,
                           double flux,
                           Rng random,
                           std::vector<VirtualLight>& out) {
  random_ = random;
  ray_ = photon.ray;
  start_flux_ = static_cast<float>(flux);
  flux_ = Spectrum::Constant(start_flux_);
  emitter_ = &scene_.emitters[emitter];
  emitter_index_ = emitter;
  emission_cell_ = photon.cell;
  first_only_ = photon.first_only;
  colored_ = photon.colored;
  rgb_ = photon.rgb;
  hazy_ = caustic_ = false;
  scatterings_ = in_haze_ = 0;
  const std::uint32_t glass = scene_.emitter_glass[emitter];
  within_ = glass == kNoIndex ? nullptr : &scene_.materials[glass];
  const std::uint32_t body = scene_.emitter_surface[emitter];
  // A camera path has at least one scattering of its own.
  const int most = first_only_ ? std::min(1, bounces_ - 1) : bounces_ - 1;
  for (int i = 0; i < kMostSteps && scatterings_ < most; ++i) {
    const Hit hit = scene_.world.closest(ray_);
    ++rays_.path;
    if (thrown_ != nullptr) {
      if (!stretch_ahead(hit.found() ? hit.t : kFar)) {
        return;
      }
    } else if (!scene_.hazes.empty()) {
      const Next next = through_haze(hit.found() ? hit.t : kFar, out);
      if (next == Next::kEnd) {
        return;
      }
      if (next == Next::kOn) {
        continue;
      }
    }
    if (!hit.found()) {
      return;
    }
    const SurfacePoint p = scene_.world.point(ray_, hit);
    if (scatterings_ == 0 && p.surface == body && hit.shape != kNoIndex) {
      ray_.origin = World::leave(p, ray_.direction);  // shadow rays do not see it either
      continue;
    }
    if (within_ != nullptr) {
      flux_ *= (-hit.t * within_->absorption).exp();
    }
    if (!at_surface(p, out)) {
      return;
    }
  }
}

int VirtualLightWalk::follow_mirrors(const EmittedPhoton& photon,
                                     std::uint32_t emitter,
                                     double flux,
                                     Rng random,
                                     std::optional<int> reflected_at,
                                     const Stretch& thrown) {
  thrown_ = &thrown;
  reflected_at_ = reflected_at;
  choices_ = 0;
  std::vector<VirtualLight> none;
  run(photon, emitter, flux, random, none);
  thrown_ = nullptr;
  reflected_at_.reset();
  return choices_;
}

float VirtualLightWalk::choice() {
  constexpr float kNearlyOne = 0x1.fffffep-1f;
  const int number = choices_++;
  if (!reflected_at_) {
    return uniform();
  }
  return number == *reflected_at_ ? 0.0f : kNearlyOne;
}

// Tells the stretch up to `end`, or to where haze takes the photon: then it goes no farther.
bool VirtualLightWalk::stretch_ahead(float end) {
  const float taken =
      scene_.hazes.empty() ? kFar : HazeAlong(scene_.hazes, ray_, end).sample(uniform(), random_);
  if (caustic_ && within_ == nullptr) {
    (*thrown_)(ray_, std::min(end, taken), flux_, {2, false, hazy_, colored_, rgb_, true});
  }
  return !(taken < end);
}

bool VirtualLightWalk::survives() {
  if (thrown_ != nullptr) {
    return any_passes(flux_);
  }
  const float survival = std::min(kMostSurvival, flux_.maxCoeff() / start_flux_);
  if (!(survival > 0) || !(uniform() < survival)) {
    return false;
  }
  flux_ /= survival;
  return true;
}

VirtualLight VirtualLightWalk::virtual_light(const Vec3& p) const {
  VirtualLight v;
  v.position = p;
  v.to_light = -ray_.direction;
  v.flux = flux_;
  v.emitter = emitter_index_;
  v.scatterings = static_cast<std::uint16_t>(scatterings_ + 1);
  v.in_haze = static_cast<std::uint16_t>(in_haze_);
  v.colored = colored_;
  v.rgb = rgb_;
  v.hazy = hazy_;
  v.caustic = caustic_;
  v.emission_cell = emission_cell_;
  v.first_only = first_only_;
  return v;
}

// Where the light itself falls: falloff and tint by position; false where nothing is left.
bool VirtualLightWalk::falls_on(const Vec3& p) {
  if (scatterings_ > 0) {
    return true;
  }
  flux_ *= falloff_at(*emitter_, p);
  if (emitter_->detail != nullptr && emitter_->detail->tint) {
    rgb_ *= emitter_->detail->tint->at(p);
    colored_ = true;
  }
  return any_passes(flux_);
}

VirtualLightWalk::Next VirtualLightWalk::through_haze(float end, std::vector<VirtualLight>& out) {
  const HazeAlong along(scene_.hazes, ray_, end);
  if (!along.any()) {
    return Next::kSurface;
  }
  const float t = along.sample(uniform(), random_);
  if (!(t < end)) {
    return Next::kSurface;
  }
  if (in_haze_ + 1 > haze_bounces_) {
    return Next::kEnd;
  }
  const HazeAt at = along.at(t);
  const Vec3 p = ray_.at(t);
  const float sigma_t = at.sigma_t();
  if (!(sigma_t > 0) || !falls_on(p)) {
    return Next::kEnd;
  }
  VirtualLight v = virtual_light(p);
  v.sigma_t = sigma_t;
  v.g = at.mean_cosine();
  v.in_haze = static_cast<std::uint16_t>(in_haze_ + 1);
  v.hazy = true;
  out.push_back(v);
  hazy_ = true;
  ++in_haze_;
  ++scatterings_;
  Vec3 wi;
  const float pdf = at.sample_phase(ray_.direction, Vec2(uniform(), uniform()), wi);
  if (!(pdf > 0)) {
    return Next::kEnd;
  }
  flux_ *= at.scattering(ray_.direction.dot(wi)) / (sigma_t * pdf);
  ray_ = {p, wi};
  return survives() ? Next::kOn : Next::kEnd;
}

bool VirtualLightWalk::at_surface(const SurfacePoint& p, std::vector<VirtualLight>& out) {
  const Scene::Surface& surface = scene_.surfaces[p.surface];
  if (surface.material == kNoIndex) {
    return false;
  }
  // Camera paths meet all surfaces of a connection after a bounce.
  const std::uint32_t number = scene_.after_bounce(surface.material);
  const Scene::Pictures& pictures = scene_.pictures[surface.material];
  const auto u_mask = [&] { return uniform(); };
  const auto u_pane = [&](float) { return choice(); };
  if (const std::optional<Spectrum> passed = straight_through(
          scene_.materials[number], pictures, p.uv, p.normal.dot(ray_.direction), u_mask, u_pane)) {
    flux_ *= *passed;
    ray_ = {World::leave(p, ray_.direction), ray_.direction};
    return any_passes(flux_);
  }
  if (!falls_on(p.position)) {
    return false;
  }
  const SurfaceModel& material = material_at(scene_, number, pictures, p.uv, painted_);
  const SurfaceSide side = SurfaceSide::of(p.normal, p.shading_normal, -ray_.direction);
  if (thrown_ == nullptr && VirtualLights::stand_on(material)) {
    VirtualLight v = virtual_light(p.position);
    v.normal = side.normal;
    v.shading = p.shading_normal;
    v.uv = p.uv;
    v.offset = p.offset;
    v.material = surface.material;
    if (material.kind == SurfaceKind::kGlass) {
      set_lobe(v, material, p.normal.dot(ray_.direction) > 0);
    }
    out.push_back(v);
  }
  return scatter_at(p, material, side);
}

void VirtualLightWalk::mirror_back(const SurfacePoint& p, const Vec3& normal) {
  const Vec3 back = mirrored(ray_.direction, normal);
  ray_ = {World::leave(p, back), back};
}

bool VirtualLightWalk::scatter_at(const SurfacePoint& p,
                                  const SurfaceModel& material,
                                  const SurfaceSide& side) {
  const Vec3 to_light = -ray_.direction;
  const bool first = scatterings_ == 0;
  ++scatterings_;
  // Light that only LightPaths find through mirrors is theirs alone: camera paths have no rest of
  // it that connections could share with.
  const bool found = thrown_ != nullptr || LightPaths::cameras_find(*emitter_);
  if (material.is_pane()) {
    if (first && !found) {
      return false;
    }
    caustic_ = caustic_ || first;
    mirror_back(p, side.normal);
    return true;
  }
  const Frame frame = Frame::around(side.shading);
  const Vec3 local = frame.to_local(to_light);
  const bool inside = p.normal.dot(to_light) < 0;
  const float upright = side.normal.dot(to_light);
  if (!(upright > 0)) {
    return false;
  }
  const Vec2 u(uniform(), uniform());
  const float u_choice = material.kind == SurfaceKind::kMetal ? uniform() : choice();
  const Scattering next = scatter(material, local, u, u_choice, inside);
  if (!(next.pdf > 0) || (first && next.mirror && !found) || (thrown_ != nullptr && !next.mirror)) {
    return false;
  }
  const Vec3 direction = frame.to_world(next.wi).normalized();
  const float away = direction.dot(side.normal);
  if (!(away * next.wi.z() > 0)) {
    return false;
  }
  // As camera paths have it: the cosine is that to the light, of the shading normal; and refraction
  // scales radiance, not flux.
  flux_ *= next.weight * std::abs(local.z() / upright * away / next.wi.z());
  const bool refracted = next.wi.z() < 0;
  flux_ *= refracted_flux(material, inside, refracted);
  within_ = glass_after(
      scene_.materials[scene_.surfaces[p.surface].material], inside, refracted, within_);
  if (first && next.mirror) {
    caustic_ = true;
  } else if (first && material.kind != SurfaceKind::kDiffuse &&
             material.kind != SurfaceKind::kTranslucent &&
             !choose_lobe(reflection_lobes(material, local, next.wi, inside))) {
    return false;
  }
  ray_ = {World::leave(p, direction), direction};
  return survives();
}

bool VirtualLightWalk::choose_lobe(const Lobes& lobes) {
  const float diffuse = lobes.diffuse.mean(), gloss = lobes.gloss.mean();
  if (!(diffuse + gloss > 0)) {
    return false;
  }
  const float chance = gloss / (diffuse + gloss);
  const Spectrum all = (lobes.diffuse + lobes.gloss).max(1e-30f);
  caustic_ = uniform() < chance;
  flux_ *= caustic_ ? Spectrum(lobes.gloss / all / chance)
                    : Spectrum(lobes.diffuse / all / (1 - chance));
  return true;
}

}  // namespace jovilux
