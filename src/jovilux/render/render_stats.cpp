#include "jovilux/render/render_stats.h"

#include "jovilux/render/view.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numeric>

namespace jovilux {
namespace {

constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();

// Sums over the picture, of layers or of their parts: the variance of each light's mean, and that
// over the square of the pixel's level.
struct NoiseSums {
  std::vector<double> variance, noise;

  explicit NoiseSums(std::size_t count) : variance(count), noise(count) {}
  void add(std::size_t i, double of_mean, double level) {
    variance[i] += of_mean;
    noise[i] += level > 0 ? of_mean / sqr(level) : 0;
  }
  void add(const std::vector<double>& of_variance, const std::vector<double>& of_noise) {
    for (std::size_t i = 0; i < variance.size(); ++i) {
      variance[i] += of_variance[i];
      noise[i] += of_noise[i];
    }
  }
};

class StatsBuilder {
 public:
  StatsBuilder(const Rig& rig,
               int camera,
               const std::vector<std::string>& layers,
               const RenderState& state)
      : rig_(rig),
        camera_(camera),
        names_(layers),
        state_(state),
        film_(state.film),
        parts_(static_cast<std::size_t>(film_.parts())),
        pixels_(static_cast<double>(film_.pixels())),
        layer_light_(static_cast<std::size_t>(film_.layers())),
        clamped_(layer_light_.size()),
        layers_(layer_light_.size()),
        slots_(static_cast<std::size_t>(film_.slots())),
        uneven_(!state.rounds.empty() && !rig.render.noise) {}

  RenderStats build() {
    stats_.wall_s = state_.wall_s;
    stats_.cpu_s = state_.cpu_s;
    stats_.history = state_.history;
    stats_.rounds = state_.rounds;
    stats_.guide_rounds = state_.guide_rounds;
    stats_.guide_paths = state_.guide_paths;
    stats_.guide_s = state_.guide_s;
    sum_pixels();
    const View view = look_view(rig_.look, rig_.cameras[static_cast<std::size_t>(camera_)], film_);
    stats_.white_luminance = view.white_luminance();
    stats_.noise = noise_figures(film_, stats_.white_luminance);
    sum_tallies();
    settle_light_noise();
    all_noise_ = std::accumulate(layers_.noise.begin(), layers_.noise.end(), 0.0);
    add_lights();
    return std::move(stats_);
  }

 private:
  void sum_pixels() {
    double luminance = 0;
    std::uint32_t least = std::numeric_limits<std::uint32_t>::max(), most = 0;
    each_pixel(film_, [&](std::size_t i) {
      least = std::min(least, film_.taken(i));
      most = std::max(most, film_.taken(i));
      samples_ += film_.taken(i);
      weight_ += film_.weight(i);
      luminance += film_.luminance(i);
      if (film_.weight(i) > 0) {
        for (std::size_t s = 0; s < slots_.noise.size(); ++s) {
          layer_light_[s / parts_] += film_.slot_mean(i, static_cast<int>(s)).y();
        }
      }
    });
    stats_.least_samples = least;
    stats_.most_samples = most;
    stats_.samples_per_pixel = samples_ / pixels_;
    stats_.mean_luminance = luminance / pixels_;
  }

  void sum_tallies() {
    std::array<double, 3> roughened{};
    for (const TileTally& t : state_.tallies) {
      stats_.rays += t.rays;
      add_not_finite(t.not_finite);
      for (std::size_t k = 0; k < roughened.size(); ++k) {
        roughened[k] += t.roughened[k];
      }
      for (std::size_t l = 0; l < clamped_.size(); ++l) {
        clamped_[l] += t.clamped[l];
      }
      layers_.add(t.light_variance, t.light_noise);
      slots_.add(t.slot_variance, t.slot_noise);
    }
    // The mean difference that bounce_roughness makes, and its standard error.
    if (const double n = roughened[0]; n > 1) {
      const double mean = roughened[1] / n;
      stats_.by_bounce_roughness = {
          mean, std::sqrt(std::max(0.0, roughened[2] / n - mean * mean) / (n - 1))};
    }
  }

  // lost: how many, and x, y, sample and round of the first of them.
  void add_not_finite(const std::vector<double>& lost) {
    if (!(lost[0] > 0)) {
      return;
    }
    if (!stats_.not_finite) {
      stats_.not_finite = {0,
                           static_cast<int>(lost[1]),
                           static_cast<int>(lost[2]),
                           static_cast<int>(lost[3]),
                           static_cast<int>(lost[4])};
    }
    stats_.not_finite->contributions += lost[0];
  }

  // Where pixels have different numbers of samples, the halves tell the lights' noise; after a lone
  // pass as well, for the white, which shares of the noise are measured by, was not known
  // meanwhile.
  void settle_light_noise() {
    const bool untold = std::accumulate(layers_.noise.begin(), layers_.noise.end(), 0.0) == 0;
    if (!uneven_ && !untold) {
      return;
    }
    NoiseSums layers(layers_.noise.size()), slots(slots_.noise.size());
    each_pixel(film_, [&](std::size_t i) {
      const double level =
          std::max<double>(film_.luminance(i), kNoiseFloor * stats_.white_luminance);
      for (std::size_t l = 0; l < layers.noise.size(); ++l) {
        double whole = 0;
        for (std::size_t s = l * parts_; s < (l + 1) * parts_; ++s) {
          const double half = film_.half_difference(i, static_cast<int>(s)).y();
          whole += half;
          slots.add(s, sqr(half), level);
        }
        layers.add(l, sqr(whole), level);
      }
    });
    layers_.noise = std::move(layers.noise);
    slots_.noise = std::move(slots.noise);
    if (uneven_) {
      layers_.variance = std::move(layers.variance);
      slots_.variance = std::move(slots.variance);
    }
  }

  // All of the rig's, in its order. Copies of one array are one layer, and so is a group.
  void add_lights() {
    for (const LightSpec& light : rig_.lights) {
      add_light(light.layer_in(rig_.render.layers == RenderSpec::Layers::kGroups));
    }
    for (const HazeSpec& haze : rig_.hazes) {
      if (haze.emission > 0) {
        add_light(haze.name);
      }
    }
  }

  void add_light(const std::string& name) {
    if (std::any_of(stats_.lights.begin(), stats_.lights.end(), [&](const RenderStats::Light& l) {
          return l.name == name;
        })) {
      return;
    }
    RenderStats::Light light;
    light.name = name;
    const auto l =
        static_cast<std::size_t>(std::find(names_.begin(), names_.end(), name) - names_.begin());
    if (l < names_.size() && samples_ > 0) {
      tell_of_layer(l, light);
    }
    stats_.lights.push_back(std::move(light));
  }

  void tell_of_layer(std::size_t l, RenderStats::Light& light) const {
    const double level = stats_.mean_luminance;
    light.mean_luminance = layer_light_[l] / pixels_;
    light.clamped = clamped_[l] / weight_;
    light.share = level > 0 ? light.mean_luminance / level : 0;
    light.noise = noise_of(layers_.variance[l]);
    light.noise_share = share_of(layers_.noise[l]);
    for (std::size_t s = l * parts_; parts_ > 1 && s < (l + 1) * parts_; ++s) {
      light.parts.push_back(noise_of(slots_.variance[s]));
      light.part_shares.push_back(share_of(slots_.noise[s]));
    }
  }

  // The root of the mean variance over the picture's level.
  double noise_of(double variance) const {
    // The lone first sample told nothing of the variance: what the others told stands for it too.
    const double n = weight_ / pixels_, told = n - 1;
    if (told <= 0) {
      return kUnknown;
    }
    const double of_mean = uneven_ ? variance / pixels_ : variance / pixels_ / (n * told);
    return stats_.mean_luminance > 0 ? std::sqrt(of_mean) / stats_.mean_luminance : 0;
  }
  double share_of(double noise) const { return all_noise_ > 0 ? noise / all_noise_ : kUnknown; }

  const Rig& rig_;
  const int camera_;
  const std::vector<std::string>& names_;  // of layers
  const RenderState& state_;
  const Film& film_;
  const std::size_t parts_;  // of each layer
  const double pixels_;
  double samples_ = 0, weight_ = 0, all_noise_ = 0;
  std::vector<double> layer_light_, clamped_;  // sums over pixels
  NoiseSums layers_, slots_;
  const bool uneven_;  // pixels have different numbers of samples
  RenderStats stats_;
};

}  // namespace

int parts_of(const Rig& rig) {
  return rig.render.layers != RenderSpec::Layers::kLightsAndParts ? 1
         : rig.hazes.empty()                                      ? kParts
                                                                  : kPartsWithHaze;
}

RenderStats stats_of(const Rig& rig,
                     int camera,
                     const std::vector<std::string>& layers,
                     const RenderState& state) {
  return StatsBuilder(rig, camera, layers, state).build();
}

}  // namespace jovilux
