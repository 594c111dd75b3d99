#include "jovilux/transport/light_emission.h"

#include "jovilux/base/sampler.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/transport/direction_tree.h"

#include <algorithm>
#include <cmath>
#include <memory>
#include <numeric>

namespace jovilux {
namespace {

// A part of the photons is spread evenly over the cells: their samples may have missed narrow
// beams.
constexpr double kEvenly = 0.05;
// Radius of the sphere around a light, in radii of the light. Seen from there the light is small,
// so that the photons of a cell go nearly the same way. On a near sphere the directions of a
// cell's photons spread by the lamp's size: some lie in a spot's beam, most beside it.
constexpr float kSphere = 24;
// Of cells chosen by importance, this part is still chosen by flux.
constexpr double kByFlux = 0.3;

}  // namespace

std::vector<float> cumulative_of(const std::vector<double>& weights) {
  const double all = std::accumulate(weights.begin(), weights.end(), 0.0);
  std::vector<float> out(weights.size() + 1);
  double sum = 0;
  for (std::size_t i = 0; i < weights.size(); ++i) {
    sum += weights[i] / all;
    out[i + 1] = static_cast<float>(sum);
  }
  out.back() = 1;
  return out;
}

Emitter without_place(const Emitter& e) {
  Emitter out = e;
  out.falloff = Falloff{};
  if (e.detail != nullptr && e.detail->tint) {
    auto detail = std::make_shared<EmitterDetail>(*e.detail);
    detail->tint.reset();
    out.detail = std::move(detail);
  }
  return out;
}

Vec3 clear_of_light(const Emitter& e, const Vec3& p, const LightSample& light) {
  const float start = e.is_zero_size() ? 0.0f : 1e-5f;
  return p + (1 - start) * light.distance * light.wi;
}

LightEmission::LightEmission(const Emitter& aim,
                             float scene_size,
                             std::size_t cells,
                             std::uint32_t samples)
    : radius_(kSphere * reach_of(aim) + 1e-2f * scene_size), side_(cells), power_(cells * cells) {
  const float area = 4 * kPi * radius_ * radius_;
  for (std::size_t c = 0; c < power_.size(); ++c) {
    const Sampler sampler(1, 0x656d6974U, static_cast<std::uint32_t>(c));
    for (std::uint32_t i = 0; i < samples; ++i) {
      const Vec3 out = outward(c, sampler.pair(2 * i));
      const LightSample light =
          sample_toward(aim, aim.center + radius_ * out, sampler.pair(2 * i + 1));
      const float flux = light.weight * std::max(0.0f, -light.wi.dot(out)) * area;
      power_[c] += std::isfinite(flux) ? static_cast<double>(flux) / samples : 0.0;
    }
  }
  const auto count = static_cast<double>(power_.size());
  flux_ = std::accumulate(power_.begin(), power_.end(), 0.0) / count;
  if (!(flux_ > 0)) {
    return;
  }
  for (double& p : power_) {
    p = (1 - kEvenly) * p / (flux_ * count) + kEvenly / count;
  }
  cumulative_ = cumulative_of(power_);
}

void LightEmission::choose_by(const std::vector<double>& importance) {
  const double all = std::accumulate(importance.begin(), importance.end(), 0.0);
  if (!(all > 0)) {
    return;
  }
  std::vector<double> mixed(power_.size());
  for (std::size_t c = 0; c < mixed.size(); ++c) {
    mixed[c] = kByFlux * power_[c] + (1 - kByFlux) * importance[c] / all;
  }
  cumulative_ = cumulative_of(mixed);
}

EmittedPhoton LightEmission::sample(const Emitter& aim,
                                    float u_cell,
                                    const Vec2& u_place,
                                    const Vec2& u_light) const {
  const auto above = std::upper_bound(cumulative_.begin() + 1, cumulative_.end() - 1, u_cell);
  const auto cell = static_cast<std::size_t>(above - cumulative_.begin()) - 1;
  const float chance = cumulative_[cell + 1] - cumulative_[cell];
  const Vec3 out = outward(cell, u_place), p = aim.center + radius_ * out;
  const LightSample light = sample_toward(aim, p, u_light);
  EmittedPhoton photon;
  photon.cell = static_cast<std::uint32_t>(cell);
  const float cosine = -light.wi.dot(out);
  if (!(light.weight > 0) || !(cosine > 0) || !(chance > 0)) {
    return photon;
  }
  const float area = 4 * kPi * radius_ * radius_ / static_cast<float>(power_.size());
  photon.flux = light.weight * cosine * area / chance;
  photon.ray = {clear_of_light(aim, p, light), Vec3(-light.wi)};
  photon.colored = light.colored;
  photon.rgb = light.rgb;
  if (!std::isfinite(photon.flux)) {
    photon.flux = 0;
  }
  return photon;
}

Vec3 LightEmission::outward(std::size_t cell, const Vec2& u) const {
  const auto n = static_cast<float>(side_);
  const auto row = cell / side_, column = cell % side_;
  return direction_of(
      {(static_cast<float>(column) + u.x()) / n, (static_cast<float>(row) + u.y()) / n});
}

}  // namespace jovilux
