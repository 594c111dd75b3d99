#include "jovilux/render/renderer.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cmath>
#include <ctime>
#include <limits>
#include <numeric>

#include "jovilux/base/parallel.h"
#include "jovilux/render/camera.h"
#include "jovilux/render/sample_plan.h"
#include "jovilux/render/view.h"

namespace jovilux {
namespace {

constexpr int kTile = 16;

// Inverse of the cumulative tent filter of radius one pixel: where in its filter a sample lies.
float tent(float u) { return u < 0.5f ? std::sqrt(2 * u) - 1 : 1 - std::sqrt(2 - 2 * u); }

double cpu_seconds() { return static_cast<double>(std::clock()) / CLOCKS_PER_SEC; }

// Cumulative sample counts after each pass: a rough picture soon, then passes short enough to stop between.
std::vector<int> pass_ends(int samples, bool in_haste) {
  std::vector<int> ends;
  for (int end = 1; end < samples; end = in_haste && end < 8 ? 2 * end : end == 1 ? 8 : end + std::min(end, 64)) {
    ends.push_back(end);
  }
  ends.push_back(samples);
  return ends;
}

struct TileTally {
  RayCounts rays;
  std::vector<double> slot_variance, slot_noise;  // the same two of the parts of lights
  std::vector<double> light_variance;  // sum over pixels and passes of the weight squared times the variance of a pass's mean
  std::vector<double> light_noise;     // the same of a light's variance over the square of the pixel's level
};

// Some samples for every pixel. `round` 0: the pixel's own sequences go on; else each round has sequences of its own.
struct Pass {
  int begin = 0;                       // of each pixel's samples in those sequences
  std::uint32_t mean = 0;              // samples a pixel
  std::uint32_t weight = 0;            // of this pass's mean in the picture's
  std::uint32_t round = 0;
  std::vector<std::uint32_t> counts;   // samples of each pixel; empty: `mean` each
};
// A target is first measured with this many samples each, then come the rounds. Their samples count four times as much: the
// first ones are too few where it is noisy.
constexpr int kPilotSamples = 16;
constexpr std::uint32_t kRoundWeight = 4;

class Renderer {
 public:
  Renderer(const Rig& rig, const Scene& scene, const RenderOptions& options)
      : rig_(rig), scene_(scene), options_(options),
        camera_spec_(rig.cameras.at(static_cast<std::size_t>(options.camera))),
        camera_(camera_spec_, rig.up, rig.render.width, rig.render.height),
        film_(rig.render.width, rig.render.height, static_cast<int>(scene.layers.size()), parts_of(rig)),
        tiles_x_((film_.width() + kTile - 1) / kTile),
        tiles_y_((film_.height() + kTile - 1) / kTile),
        tallies_(static_cast<std::size_t>(tiles_x_) * tiles_y_) {
    for (TileTally& t : tallies_) {
      t.light_variance.assign(scene.layers.size(), 0.0);
      t.light_noise.assign(scene.layers.size(), 0.0);
      t.slot_variance.assign(static_cast<std::size_t>(film_.slots()), 0.0);
      t.slot_noise = t.slot_variance;
    }
  }

  Render run() {
    start_ = std::chrono::steady_clock::now();
    const double cpu_start = cpu_seconds();
    RenderStats stats;
    with_threads(options_.threads, [&] {
      stats.threads = available_threads();
      stats.stopped_by = passes();
    });
    stats.wall_s = seconds();
    stats.cpu_s = cpu_seconds() - cpu_start;
    stats.history = history_;
    stats.rounds = rounds_;
    summarize(stats);
    return {std::move(film_), std::move(stats)};
  }

 private:
  double seconds() const {
    return std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
  }

  std::uint32_t count_of(std::size_t pixel) const { return pass_.counts.empty() ? pass_.mean : pass_.counts[pixel]; }

  StoppedBy passes() {
    const int samples = rig_.render.samples, even = rig_.render.noise && samples >= kPilotSamples + kScramblings ? kPilotSamples : samples;
    for (const int end : pass_ends(even, options_.in_haste)) {
      const auto more = static_cast<std::uint32_t>(end - taken_);
      pass_ = {taken_, more, more, 0, {}};
      // History: at powers of two, and at the end.
      if (const auto stopped = run_pass((end & (end - 1)) == 0 || end == samples)) {
        return *stopped;
      }
    }
    for (std::uint32_t round = 1; taken_ < samples; ++round) {
      const int left = samples - taken_;
      if (left < kScramblings) {
        break;
      }
      // As many more as the noise tells are needed, a tenth beyond for what that is uncertain; at most twice the sum so far.
      const double times = std::pow(noise_ / *rig_.render.noise, 2) * 1.1 - 1;
      int mean = static_cast<int>(std::clamp(times, 0.0, 1.0) * taken_);
      mean = std::clamp(mean, std::min(left, 2 * kScramblings), left);
      if (left - mean < kScramblings) {
        mean = left;
      }
      const View view(rig_.look, look_ev(rig_.look, camera_spec_, film_));
      std::vector<float> taken(film_.pixels());
      for (std::size_t i = 0; i < taken.size(); ++i) {
        taken[i] = static_cast<float>(film_.taken(i));
      }
      // A multiple of the scramblings, so that each holds the same part of it.
      const std::uint32_t weight = (kRoundWeight * static_cast<std::uint32_t>(mean) + kScramblings / 2) / kScramblings * kScramblings;
      pass_ = {0, static_cast<std::uint32_t>(mean), weight, round,
               share_out(sample_need(film_.width(), film_.height(), noise_of_pixels(film_, view.white_luminance()), taken), mean)};
      if (const auto stopped = run_pass(true)) {
        return *stopped;
      }
    }
    return StoppedBy::kSamples;
  }

  // One pass over the picture; why the render is to stop after it, if it is.
  std::optional<StoppedBy> run_pass(bool told) {
    parallel_for(tallies_.size(), [&](std::size_t tile) { render_tile(tile); });
    if (stop_reason_ != -1) {
      return static_cast<StoppedBy>(stop_reason_.load());
    }
    if (pass_.round > 0) {
      const auto [least, most] = std::minmax_element(pass_.counts.begin(), pass_.counts.end());
      rounds_.push_back({static_cast<double>(pass_.mean), static_cast<double>(*least), static_cast<double>(*most)});
    }
    taken_ += static_cast<int>(pass_.mean);
    ++passes_done_;
    if (taken_ >= kScramblings && (options_.progress || rig_.render.noise || told)) {
      const View view(rig_.look, look_ev(rig_.look, camera_spec_, film_));
      white_ = view.white_luminance();
      const NoiseFigures figures = noise_figures(film_, view.white_luminance());
      noise_ = figures.p95;
      const bool reached = rig_.render.noise && noise_ <= *rig_.render.noise;
      if (told || reached) {
        history_.push_back({static_cast<double>(taken_), seconds(), figures.median, figures.p95});
      }
      if (reached) {
        return StoppedBy::kNoise;
      }
    }
    return std::nullopt;
  }

  bool should_stop() {
    if (stop_reason_ != -1) {
      return true;
    }
    if (options_.stop && options_.stop()) {
      stop_reason_ = static_cast<int>(StoppedBy::kSignal);
    } else if (options_.time_limit && seconds() >= *options_.time_limit) {
      stop_reason_ = static_cast<int>(StoppedBy::kTime);
    }
    return stop_reason_ != -1;
  }

  // All samples of this pass for one tile; kept only when complete.
  void render_tile(std::size_t tile) {
    const int x0 = static_cast<int>(tile) % tiles_x_ * kTile, y0 = static_cast<int>(tile) / tiles_x_ * kTile;
    const int x1 = std::min(film_.width(), x0 + kTile), y1 = std::min(film_.height(), y0 + kTile);
    const auto layers = static_cast<std::size_t>(film_.layers()), slots = static_cast<std::size_t>(film_.slots());
    const auto area = static_cast<std::size_t>((x1 - x0) * (y1 - y0));
    std::vector<float> sums(area * slots * 3), batches(area * kScramblings), guides(area * Film::kGuides);
    std::vector<std::uint32_t> objects(area);
    std::vector<float> by_light(kScramblings * slots);
    TileTally tally;
    tally.light_variance.assign(layers, 0.0);
    tally.light_noise.assign(layers, 0.0);
    tally.slot_variance.assign(slots, 0.0);
    tally.slot_noise.assign(slots, 0.0);
    // Counted by the thread as it goes: no other work runs on it until the tile is done.
    const MarchCounts march_before = march_counts();
    const std::uint64_t media_before = media_step_count();
    std::size_t i = 0;
    for (int y = y0; y < y1; ++y) {
      if (should_stop()) {
        return;
      }
      for (int x = x0; x < x1; ++x, ++i) {
        std::fill(by_light.begin(), by_light.end(), 0.0f);
        render_pixel(x, y, sums.data() + i * slots * 3, batches.data() + i * kScramblings, by_light.data(),
                     guides.data() + i * Film::kGuides, objects[i], tally.rays);
        const std::size_t pixel = film_.pixel(x, y);
        tally_lights(by_light, static_cast<int>(count_of(pixel)), level_after(pixel, batches.data() + i * kScramblings), tally);
      }
    }
    tally.rays.march += march_counts() - march_before;
    tally.rays.media_steps += media_step_count() - media_before;
    i = 0;
    for (int y = y0; y < y1; ++y) {
      for (int x = x0; x < x1; ++x, ++i) {
        const std::size_t pixel = film_.pixel(x, y);
        const std::uint32_t count = count_of(pixel);
        // The round's mean times its weight; exactly the sum where the two are the same.
        const float scale = count == pass_.weight ? 1.0f : static_cast<float>(pass_.weight) / static_cast<float>(count);
        for (std::size_t k = 0; k < slots * 3; ++k) {
          film_.xyz(pixel)[k] += scale * sums[i * slots * 3 + k];
        }
        for (std::size_t k = 0; k < kScramblings; ++k) {
          film_.batch(pixel)[k] += scale * batches[i * kScramblings + k];
        }
        for (std::size_t k = 0; k < Film::kGuides; ++k) {
          film_.guide(pixel)[k] += guides[i * Film::kGuides + k];
        }
        if (pass_.begin == 0 && pass_.round == 0) {
          film_.object(pixel) = objects[i];
        }
        film_.weight(pixel) += pass_.weight;
        film_.taken(pixel) += count;
      }
    }
    TileTally& kept = tallies_[tile];
    kept.rays += tally.rays;
    for (std::size_t l = 0; l < layers; ++l) {
      kept.light_variance[l] += tally.light_variance[l];
      kept.light_noise[l] += tally.light_noise[l];
    }
    for (std::size_t l = 0; l < slots; ++l) {
      kept.slot_variance[l] += tally.slot_variance[l];
      kept.slot_noise[l] += tally.slot_noise[l];
    }
    const double done = ++tiles_done_;
    if (options_.progress) {
      report(done);
    }
  }

  void render_pixel(int x, int y, float* sums, float* batches, float* by_light, float* guides, std::uint32_t& object, RayCounts& rays) {
    const auto slots = static_cast<std::size_t>(film_.slots());
    const auto pixel = static_cast<std::uint32_t>(film_.pixel(x, y));
    const bool first_round = pass_.round == 0;
    const std::uint32_t seed = first_round ? rig_.render.seed : mix(rig_.render.seed, pass_.round);
    const int end = pass_.begin + static_cast<int>(count_of(pixel));
    for (int s = pass_.begin; s < end; ++s) {
      const auto scrambling = static_cast<std::uint32_t>(s % kScramblings);
      const Sampler sampler(seed, mix(pixel, scrambling), static_cast<std::uint32_t>(s / kScramblings));
      const Vec2 place = sampler.pair(0);
      const Vec2 lens = camera_.has_lens() ? sampler.pair(1) : Vec2(0, 0);
      const Ray ray = camera_.ray(static_cast<float>(x) + 0.5f + tent(place.x()), static_cast<float>(y) + 0.5f + tent(place.y()), lens);
      LightSink sink(sums, by_light + scrambling * slots, film_.parts());
      FirstHit first;
      FirstHit* const wanted = first_round && s < Film::kGuideSamples ? &first : nullptr;
      if (options_.time_queries) {
        trace_path<true>(scene_, ray, sampler, rig_.render.bounces, sink, wanted, rays);
      } else {
        trace_path(scene_, ray, sampler, rig_.render.bounces, sink, wanted, rays);
      }
      batches[scrambling] += sink.total();
      if (wanted != nullptr && first.found) {
        const Rgb color = rgb_under_d65(first.albedo);
        for (int c = 0; c < 3; ++c) {
          guides[c] += static_cast<float>(color[c]);
          guides[3 + c] += first.normal[c];
        }
        guides[6] += first.depth;
        guides[7] += 1;
      }
      if (s == 0 && first_round) {
        object = first.found ? first.surface + 1 : 0;
      }
    }
  }

  // The weight squared times the variance of each light's mean over a pixel's n samples of this pass, from its scramblings;
  // a lone sample tells nothing. `level`: what the pixel's noise is measured against; 0 where that is not known yet.
  void tally_lights(const std::vector<float>& by_light, int n, double level, TileTally& into) const {
    if (n < 2) {
      return;
    }
    const auto layers = static_cast<std::size_t>(film_.layers());
    std::array<float, kScramblings> sums{};
    std::array<std::uint32_t, kScramblings> counts{};
    for (int s = pass_.begin; s < pass_.begin + n; ++s) {
      ++counts[static_cast<std::size_t>(s % kScramblings)];
    }
    const auto slots = static_cast<std::size_t>(film_.slots()), parts = static_cast<std::size_t>(film_.parts());
    const auto tally = [&](std::size_t first, std::size_t count) {
      for (std::size_t b = 0; b < kScramblings; ++b) {
        sums[b] = 0;
        for (std::size_t s = first; s < first + count; ++s) {
          sums[b] += by_light[b * slots + s];
        }
      }
      return static_cast<double>(pass_.weight) * pass_.weight * variance_of_mean(sums.data(), counts.data());
    };
    for (std::size_t l = 0; l < layers; ++l) {
      const double variance = tally(l * parts, parts);
      into.light_variance[l] += variance;
      into.light_noise[l] += level > 0 ? variance / (level * level) : 0;
    }
    for (std::size_t s = 0; parts > 1 && s < slots; ++s) {
      const double variance = tally(s, 1);
      into.slot_variance[s] += variance;
      into.slot_noise[s] += level > 0 ? variance / (level * level) : 0;
    }
  }

  // The larger of a pixel's luminance with this pass and the floor of the measure; 0 before the white is known.
  double level_after(std::size_t pixel, const float* batches) const {
    if (!(white_ > 0)) {
      return 0;
    }
    double sum = 0;
    const double scale = static_cast<double>(pass_.weight) / count_of(pixel);
    for (int b = 0; b < kScramblings; ++b) {
      sum += film_.batch(pixel)[b] + scale * batches[b];
    }
    return std::max(sum / (film_.weight(pixel) + pass_.weight), kNoiseFloor * white_);
  }

  void report(double tiles_done) {
    Progress p;
    p.seconds = seconds();
    const double in_pass = (tiles_done - static_cast<double>(tallies_.size()) * passes_done_) / static_cast<double>(tallies_.size());
    p.samples = taken_ + pass_.mean * in_pass;
    p.done = p.samples / rig_.render.samples;
    p.noise = noise_;
    if (rig_.render.noise && noise_ > 0) {
      // Noise falls at least like one over the root of the samples.
      p.done = std::max(p.done, std::min(1.0, sqr(*rig_.render.noise / noise_)));
    }
    if (options_.time_limit) {
      p.done = std::max(p.done, std::min(1.0, p.seconds / *options_.time_limit));
    }
    options_.progress(p);
  }

  void summarize(RenderStats& stats) const {
    double samples = 0, weight = 0, luminance = 0;
    const std::size_t slots = static_cast<std::size_t>(film_.slots());
    std::vector<double> of_layer(static_cast<std::size_t>(film_.layers()));
    for (std::size_t i = 0; i < film_.pixels(); ++i) {
      samples += film_.taken(i);
      weight += film_.weight(i);
      luminance += film_.luminance(i);
      if (film_.weight(i) > 0) {
        for (std::size_t s = 0; s < slots; ++s) {
          of_layer[s / static_cast<std::size_t>(film_.parts())] += film_.slot_mean(i, static_cast<int>(s)).y();
        }
      }
    }
    std::uint32_t least = std::numeric_limits<std::uint32_t>::max(), most = 0;
    for (std::size_t i = 0; i < film_.pixels(); ++i) {
      least = std::min(least, film_.taken(i));
      most = std::max(most, film_.taken(i));
    }
    stats.least_samples = least;
    stats.most_samples = most;
    const auto pixels = static_cast<double>(film_.pixels());
    stats.samples_per_pixel = samples / pixels;
    stats.mean_luminance = luminance / pixels;
    const View view(rig_.look, look_ev(rig_.look, camera_spec_, film_));
    stats.white_luminance = view.white_luminance();
    stats.noise = noise_figures(film_, stats.white_luminance);
    std::vector<double> variance(of_layer.size()), noise(of_layer.size()), slot_variance(slots), slot_noise(slots);
    for (const TileTally& t : tallies_) {
      stats.rays += t.rays;
      for (std::size_t l = 0; l < variance.size(); ++l) {
        variance[l] += t.light_variance[l];
        noise[l] += t.light_noise[l];
      }
      for (std::size_t s = 0; s < slots; ++s) {
        slot_variance[s] += t.slot_variance[s];
        slot_noise[s] += t.slot_noise[s];
      }
    }
    std::vector<std::string> names;
    for (const LightSpec& light : rig_.lights) {
      names.push_back(light.layer_in(rig_.render.layers == RenderSpec::Layers::kGroups));
    }
    for (const HazeSpec& haze : rig_.hazes) {
      if (haze.glow > 0) {
        names.push_back(haze.name);
      }
    }
    for (const std::string& name : names) {
      RenderStats::Light light;
      light.name = name;
      if (std::any_of(stats.lights.begin(), stats.lights.end(), [&](const RenderStats::Light& l) { return l.name == light.name; })) {
        continue;  // copies of one array are one layer, and so is a group
      }
      const auto l = static_cast<std::size_t>(std::find(scene_.layers.begin(), scene_.layers.end(), light.name) - scene_.layers.begin());
      if (l < scene_.layers.size() && samples > 0) {
        light.mean_luminance = of_layer[l] / pixels;
        light.share = stats.mean_luminance > 0 ? light.mean_luminance / stats.mean_luminance : 0;
        // The lone first sample told nothing of the variance: what the others told stands for it too.
        const double n = weight / pixels, told = n - 1;
        const auto noise_of = [&](double sum) {
          const double of_mean = sum / pixels / (n * told);
          return told <= 0 ? std::numeric_limits<double>::quiet_NaN() : stats.mean_luminance > 0 ? std::sqrt(of_mean) / stats.mean_luminance : 0;
        };
        light.noise = noise_of(variance[l]);
        const double all = std::accumulate(noise.begin(), noise.end(), 0.0);
        light.noise_share = all > 0 ? noise[l] / all : std::numeric_limits<double>::quiet_NaN();
        for (std::size_t s = 0; film_.parts() > 1 && s < static_cast<std::size_t>(film_.parts()); ++s) {
          const std::size_t slot = l * static_cast<std::size_t>(film_.parts()) + s;
          light.parts.push_back(noise_of(slot_variance[slot]));
          light.part_shares.push_back(all > 0 ? slot_noise[slot] / all : std::numeric_limits<double>::quiet_NaN());
        }
      }
      stats.lights.push_back(light);
    }
  }

  const Rig& rig_;
  const Scene& scene_;
  const RenderOptions& options_;
  const CameraSpec& camera_spec_;
  Camera camera_;
  Film film_;
  int tiles_x_, tiles_y_;
  std::vector<TileTally> tallies_;
  Pass pass_;
  int taken_ = 0;       // samples a pixel of the passes that are done, in the mean
  int passes_done_ = 0;
  std::vector<RenderStats::Round> rounds_;
  double noise_ = -1;
  double white_ = 0;    // luminance that the view shows as white; 0: not known yet
  std::vector<RenderStats::Moment> history_;
  std::atomic<int> stop_reason_{-1};
  std::atomic<int> tiles_done_{0};
  std::chrono::steady_clock::time_point start_;
};

}  // namespace

int parts_of(const Rig& rig) {
  return rig.render.layers != RenderSpec::Layers::kLightsAndParts ? 1 : rig.hazes.empty() ? kParts : kPartsWithHaze;
}

Render render(const Rig& rig, const Scene& scene, const RenderOptions& options) {
  return Renderer(rig, scene, options).run();
}

}  // namespace jovilux
