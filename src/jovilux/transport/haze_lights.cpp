#include "jovilux/transport/haze_lights.h"

#include "jovilux/base/parallel.h"

#include <algorithm>

namespace jovilux {
namespace {

constexpr std::size_t kPlacesPerCell = 16;
constexpr double kSameForAll = 0.05;

}  // namespace

HazeLights::HazeLights(const std::vector<Emitter>& lights,
                       const LightClusters& clusters,
                       const GuideTree& haze,
                       const std::vector<ShadingPlace>& places) {
  if (haze.empty() || lights.size() < 2 || lights.size() > kMostLights) {
    return;
  }
  lights_ = lights.size();
  std::vector<std::vector<Vec3>> of_cell(haze.cells());
  for (const ShadingPlace& place : places) {
    of_cell[haze.cell_at(place.position, Vec3::Zero())].push_back(place.position);
  }
  up_to_.resize(haze.cells() * (lights_ + 1));
  parallel_for(haze.cells(), [&](std::size_t cell) {
    const std::vector<Vec3>& all = of_cell[cell];
    const std::span<const float> arrives = haze.arrives(static_cast<std::uint32_t>(cell));
    std::vector<double> brought(lights_, 0.0);
    const std::size_t count = std::min(all.size(), kPlacesPerCell);
    for (std::size_t i = 0; i < count; ++i) {
      const LightQuery query = LightQuery::point(all[i * all.size() / count], ~std::uint64_t{0});
      for (std::uint32_t light = 0; light < lights_; ++light) {
        brought[light] += static_cast<double>(expected(lights[light], query)) *
                          static_cast<double>(arrives[clusters.slot_of(light)]);
      }
    }
    double sum = 0;
    for (const double b : brought) {
      sum += b;
    }
    const double even = 1.0 / static_cast<double>(lights_);
    double up_to = 0;
    float* out = up_to_.data() + cell * (lights_ + 1);
    out[0] = 0;
    for (std::size_t light = 0; light < lights_; ++light) {
      up_to += sum > 0 ? kSameForAll * even + (1 - kSameForAll) * brought[light] / sum : even;
      out[light + 1] = static_cast<float>(up_to);
    }
    out[lights_] = 1;
  });
}

LightChoice HazeLights::choose(std::uint32_t cell, float u) const {
  const float* first = up_to_.data() + cell * (lights_ + 1);
  const float* after = std::upper_bound(first + 1, first + lights_, u);
  LightChoice out;
  out.index = static_cast<std::uint32_t>(after - first) - 1;
  out.chance = after[0] - after[-1];
  return out;
}

}  // namespace jovilux
