#include "jovilux/render/renderer.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/sample_plan.h"
#include "jovilux/render/shared_samples.h"
#include "jovilux/render/tile_splats.h"
#include "jovilux/render/view.h"
#include "jovilux/transport/camera.h"
#include "jovilux/transport/guide_training.h"
#include "jovilux/transport/light_path_plan.h"
#include "jovilux/transport/light_paths.h"
#include "jovilux/transport/virtual_lights.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <bit>
#include <chrono>
#include <cmath>
#include <ctime>
#include <limits>
#include <memory>
#include <mutex>
#include <numeric>
#include <shared_mutex>
#include <utility>

namespace jovilux {
namespace {

double cpu_seconds() { return static_cast<double>(std::clock()) / CLOCKS_PER_SEC; }

// Cumulative sample counts after each pass: a rough picture soon, then passes short enough to stop
// between.
std::vector<int> pass_ends(int samples, bool in_haste) {
  std::vector<int> ends;
  for (int end = 1; end < samples; end = in_haste && end < 8 ? 2 * end
                                         : end == 1          ? 8
                                                             : end + std::min(end, 64)) {
    ends.push_back(end);
  }
  ends.push_back(samples);
  return ends;
}

// A target is first measured with this many samples each, then come the rounds. Their samples count
// four times as much: the first ones are too few where it is noisy.
constexpr int kPilotSamples = 16;
constexpr std::uint32_t kRoundWeight = 4;
// With a time limit, so many samples each tell where more of them are worth most.
constexpr int kPilotOfLimit = kBatches;
// Of the samples that the rate so far promises within the limit: the share that is counted on.
constexpr double kSureOfRate = 0.95;
// Sets of virtual lights kept at once, multiples of kBatches: of a pass, one for each
// sample; of a round, whose pixels have different numbers of samples, so many that few serve twice.
constexpr int kVirtualSets = 16;
constexpr std::uint32_t kVirtualSetsOfRound = 128;
// One in so many samples tells what bounce_roughness does.
constexpr int kComparedEvery = 16;

// Whether a noise target may end a render: pixels without light tell no noise, and light that comes
// in rare lumps is in few of them. The mean of the picture must be known to the target, by the
// pixels' variances, and surfaces that are dark in more than a twentieth of the picture must have
// had so many samples.
bool light_is_found(const Film& film, double target, int taken) {
  constexpr double kDarkShare = 0.05;
  constexpr int kDarkSamples = 64;
  double variance = 0, light = 0;
  std::size_t dark = 0;
  for (std::size_t i = 0; i < film.pixels(); ++i) {
    const double luminance = film.luminance(i);
    variance += film.variance_of_halves(i);
    light += luminance;
    dark += !(luminance > 0) && film.guide(i)[7] > 0 ? 1 : 0;
  }
  const bool many_dark =
      static_cast<double>(dark) > kDarkShare * static_cast<double>(film.pixels());
  return std::sqrt(variance) <= target * light && (!many_dark || taken >= kDarkSamples);
}

class Renderer {
 public:
  Renderer(const Rig& rig, const Scene& scene, const RenderOptions& options, RenderState from)
      : rig_(rig),
        options_(options),
        camera_spec_(rig.cameras.at(static_cast<std::size_t>(options.camera))),
        s_(std::move(from)),
        film_(s_.film) {
    if (options.moments.empty()) {
      views_.push_back(
          {&scene, Camera(camera_spec_, rig.up, rig.render.width, rig.render.height), {}});
    }
    for (const RenderOptions::Moment& m : options.moments) {
      views_.push_back(
          {m.scene.get(), Camera(m.camera, rig.up, rig.render.width, rig.render.height), {}});
    }
    for (std::size_t t = 0; t < s_.tiles(); ++t) {
      own_tiles_ += options.share.holds(t) ? 1 : 0;
      own_done_ += options.share.holds(t) && s_.in_pass && s_.tile_done[t] != 0 ? 1 : 0;
    }
    tiles_done_ = own_done_ + s_.passes_done * own_tiles_;
    found_by_cameras_.assign(static_cast<std::size_t>(film_.layers()), true);
    for (const Emitter& e : views_.front().scene->emitters) {
      for (std::uint32_t l = e.layer;
           e.layer != kNoIndex && l < e.layer + (e.channels != nullptr ? 3U : 1U);
           ++l) {
        found_by_cameras_[l] = found_by_cameras_[l] && LightPaths::cameras_find(e);
      }
    }
    wall_before_ = s_.wall_s;
    cpu_before_ = s_.cpu_s;
  }

  Render run(const std::vector<std::string>& layers) {
    start_ = last_checkpoint_ = std::chrono::steady_clock::now();
    cpu_start_ = cpu_seconds();
    StoppedBy stopped_by = StoppedBy::kSamples;
    int threads = 0;
    with_threads(options_.threads, [&] {
      threads = available_threads();
      s_.threads = std::max(s_.threads, threads);
      prepare_light_paths();
      prepare_guide();
      began_s_ = seconds_now();
      stopped_by = passes();
    });
    tell_time();
    RenderStats stats = stats_of(rig_, options_.camera, layers, s_);
    stats.threads = threads;
    stats.stopped_by = stopped_by;
    return {std::move(s_), std::move(stats)};
  }

  // A sample of the pixels' own sequences, traced alone.
  std::optional<ReplayedSample> replay(int x, int y, int sample) {
    std::optional<ReplayedSample> out;
    start_ = std::chrono::steady_clock::now();
    with_threads(options_.threads, [&] {
      if (sample >= even_samples()) {
        return;
      }
      prepare_light_paths();
      prepare_guide();
      while (next_pass() && sample >= s_.taken + static_cast<int>(s_.pass.mean)) {
        s_.taken += static_cast<int>(s_.pass.mean);
        ++s_.passes_done;
      }
      begin_pass();
      const PixelSampling sampling(rig_.render.seed,
                                   static_cast<std::uint32_t>(x),
                                   static_cast<std::uint32_t>(y),
                                   sample_bits_);
      const Sampler sampler = sampling.sample(static_cast<std::uint32_t>(sample % kHalves),
                                              static_cast<std::uint32_t>(sample / kHalves));
      const MomentView& view = views_[moment_of(sampler)];
      std::vector<float> sums(static_cast<std::size_t>(film_.slots()) * 3);
      std::vector<double> clamped(static_cast<std::size_t>(film_.layers()));
      out.emplace();
      out->luminance.resize(static_cast<std::size_t>(film_.slots()));
      LightSink sink(sums.data(), out->luminance.data(), film_.parts(), clamped.data());
      RayCounts rays;
      trace_path(*view.scene,
                 camera_ray(view, sampler, x, y, film_offset(sampler)),
                 sampler,
                 sample_options(view, sample - s_.pass.begin),
                 sink,
                 nullptr,
                 rays);
      out->not_finite = sink.not_finite();
    });
    return out;
  }

 private:
  // Where and when samples are taken from.
  struct MomentView {
    const Scene* scene;
    Camera camera;
    JoinedLightPaths light_paths;
  };

  double seconds() const {
    return wall_before_ +
           std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
  }
  double seconds_now() const { return seconds() - wall_before_; }

  void tell_time() {
    s_.wall_s = seconds();
    s_.cpu_s = cpu_before_ + cpu_seconds() - cpu_start_;
  }

  std::uint32_t count_of(std::size_t pixel) const {
    return s_.pass.counts.empty() ? s_.pass.mean : s_.pass.counts[pixel];
  }

  // What a pixel's samples of this pass count, all together.
  std::uint32_t weight_of(std::size_t pixel) const {
    return s_.pass.goes_on_unevenly() ? s_.pass.counts[pixel] : s_.pass.weight;
  }
  // Where in its sequences a pixel goes on.
  int begin_of(std::size_t pixel) const {
    return s_.pass.goes_on_unevenly() ? static_cast<int>(film_.taken(pixel)) : s_.pass.begin;
  }

  // Of the pixels' own sequences, or of a round's.
  std::uint32_t seed_of_sequences() const {
    return s_.pass.round == 0 || s_.pass.goes_on_unevenly() ? rig_.render.seed
                                                            : mix(rig_.render.seed, s_.pass.round);
  }

  StoppedBy passes() {
    if (options_.exchange && s_.passes_done > 0 && !s_.in_pass) {
      if (const auto stopped = join(false)) {
        return *stopped;
      }
    }
    while (s_.in_pass || next_pass()) {
      if (const auto stopped = run_pass()) {
        return *stopped;
      }
    }
    return StoppedBy::kSamples;
  }

  // Samples that all pixels take alike.
  int even_samples() const {
    const int samples = rig_.render.samples;
    return rig_.render.noise && samples >= kPilotSamples + kBatches ? kPilotSamples : samples;
  }

  bool target_is_reached() const {
    return rig_.render.noise && s_.noise <= *rig_.render.noise &&
           light_is_found(film_, *rig_.render.noise, s_.taken);
  }

  // Whether a time limit may decide what a pass consists of: where the render is of one piece.
  bool fits_passes_to_time() const {
    return options_.time_limit && !options_.in_parts && !options_.in_haste &&
           options_.share.whole() && !options_.exchange;
  }

  // Whether samples go where they lower the squared error most: with a time limit, once the first
  // samples have told where, unless there is time for all of them.
  bool shares_time() const {
    if (!fits_passes_to_time() || rig_.render.noise || s_.taken < kPilotOfLimit) {
      return false;
    }
    if (rig_.render.samples - s_.taken < kBatches) {
      return false;
    }
    constexpr double kSurely = 0.8;
    return is_uneven() || samples_left() < (rig_.render.samples - s_.taken) / kSurely;
  }

  // How many more samples a pixel the time limit is likely to allow, by the rate so far.
  double samples_left() const {
    const double left = limit_now() - (seconds_now() - unlimited_s_);
    const double a_sample = (seconds_now() - began_s_) / s_.taken;
    return std::max(0.0, left / a_sample);
  }

  // As many samples as there are so far, or as the time allows: where that is less than one for
  // each batch, some pixels get none.
  void plan_shared_pass() {
    const double left = std::min<double>(samples_left(), rig_.render.samples - s_.taken);
    // What would be left after a doubling is taken along, less what the rate may be off.
    constexpr double kLastPass = 1.6;
    const double mean = left < kLastPass * s_.taken ? kSureOfRate * left : s_.taken;
    const int step = mean < kBatches ? kHalves : kBatches;
    const auto more =
        static_cast<std::uint32_t>(std::max(step, static_cast<int>(mean) / step * step));
    const View view = look_view(rig_.look, camera_spec_, film_);
    std::vector<float> taken(film_.pixels());
    for (std::size_t i = 0; i < taken.size(); ++i) {
      taken[i] = static_cast<float>(film_.taken(i));
    }
    const std::vector<float> deviation = deviation_around(
        film_.width(), film_.height(), own_noise_of_pixels(film_, view.white_luminance()), taken);
    go_on_unevenly(more, share_more(deviation, taken, more));
  }

  // What a pixel has not yet taken of the rig's number of samples: its sequences are as long.
  std::uint32_t room_of(std::size_t pixel) const {
    const int room = rig_.render.samples - static_cast<int>(film_.taken(pixel));
    return static_cast<std::uint32_t>(std::max(0, room / kBatches * kBatches));
  }

  void go_on_unevenly(std::uint32_t mean, std::vector<std::uint32_t> counts) {
    for (std::size_t i = 0; i < counts.size(); ++i) {
      counts[i] = std::min(counts[i], room_of(i));
    }
    const auto round = static_cast<std::uint32_t>(s_.rounds.size() + 1);
    s_.pass = {s_.taken, mean, 0, round, std::move(counts)};
  }

  bool is_uneven() const { return !s_.rounds.empty() && !rig_.render.noise; }

  // Of a render that a time limit had made uneven and that goes on without one: brings all pixels
  // to the rig's number of samples; false where they have it.
  bool plan_evening_pass() {
    std::vector<std::uint32_t> counts(film_.pixels());
    double sum = 0;
    for (std::size_t i = 0; i < counts.size(); ++i) {
      counts[i] = room_of(i);
      sum += counts[i];
    }
    const double mean = sum / static_cast<double>(counts.size());
    const auto multiples = static_cast<std::uint32_t>(std::ceil(mean / kBatches));
    go_on_unevenly(multiples * kBatches, std::move(counts));
    return sum > 0;
  }

  // The samples that each pixel has after the next pass of those that all take alike.
  int even_pass_end(int even) const {
    const std::vector<int> ends = pass_ends(even, options_.in_haste);
    int end = *std::upper_bound(ends.begin(), ends.end(), s_.taken);
    if (connects()) {  // so many sets of virtual lights are kept at once
      end = std::min(end, s_.taken + kVirtualSets);
    }
    // What a time limit cuts off would leave a part of the picture with a fraction of the samples.
    if (fits_passes_to_time() && s_.taken > 0) {
      end = std::min(end, s_.taken + std::max(1, static_cast<int>(kSureOfRate * samples_left())));
    }
    return end;
  }

  // Plans what comes next from what there is; false where all is done.
  bool next_pass() {
    if (s_.noise >= 0 && target_is_reached()) {
      return false;  // a render that had ended is gone on with
    }
    const int samples = rig_.render.samples, even = even_samples();
    if (shares_time()) {
      plan_shared_pass();
    } else if (is_uneven()) {
      if (!plan_evening_pass()) {
        return false;
      }
    } else if (s_.taken < even) {
      const auto more = static_cast<std::uint32_t>(even_pass_end(even) - s_.taken);
      s_.pass = {s_.taken, more, more, 0, {}};
    } else {
      const int left = samples - s_.taken;
      if (left < kBatches || even == samples) {
        return false;
      }
      // As many more as the noise tells are needed, a tenth beyond for what that is uncertain; at
      // most twice the sum so far, which is taken where noise tells nothing: light is still
      // missing.
      const bool by_noise = s_.noise > *rig_.render.noise;
      const double times = by_noise ? std::pow(s_.noise / *rig_.render.noise, 2) * 1.1 - 1 : 1;
      int mean = static_cast<int>(std::clamp(times, 0.0, 1.0) * s_.taken);
      mean = std::clamp(mean, std::min(left, 2 * kBatches), left);
      if (left - mean < kBatches) {
        mean = left;
      }
      const View view = look_view(rig_.look, camera_spec_, film_);
      std::vector<float> taken(film_.pixels());
      for (std::size_t i = 0; i < taken.size(); ++i) {
        taken[i] = static_cast<float>(film_.taken(i));
      }
      // A multiple of kBatches, so that each batch holds the same part of it.
      const std::uint32_t weight =
          (kRoundWeight * static_cast<std::uint32_t>(mean) + kBatches / 2) / kBatches * kBatches;
      s_.pass = {0,
                 static_cast<std::uint32_t>(mean),
                 weight,
                 static_cast<std::uint32_t>(s_.rounds.size() + 1),
                 share_out(sample_need(film_.width(),
                                       film_.height(),
                                       noise_of_pixels(film_, view.white_luminance()),
                                       taken),
                           mean)};
    }
    s_.in_pass = true;
    std::fill(s_.tile_done.begin(), s_.tile_done.end(), std::uint8_t{0});
    return true;
  }

  // What all samples of a pass share.
  void begin_pass() {
    const std::uint32_t largest =
        s_.pass.round == 0 || s_.pass.goes_on_unevenly()
            ? static_cast<std::uint32_t>(even_samples())
            : *std::max_element(s_.pass.counts.begin(), s_.pass.counts.end());
    sample_bits_ = static_cast<unsigned>(std::bit_width((largest + kHalves - 1) / kHalves - 1));
    trace_virtual_lights();
  }

  // One pass over the picture; why the render is to stop after it, if it is.
  std::optional<StoppedBy> run_pass() {
    begin_pass();
    const std::size_t at_once = tiles_at_once();
    for (std::size_t first = 0; first < s_.tiles() && stop_reason_ == -1; first += at_once) {
      const std::size_t last = std::min(s_.tiles(), first + at_once);
      const auto waits = [&](std::size_t tile) {
        return options_.share.holds(tile) && s_.tile_done[tile] == 0;
      };
      bool any = false;
      for (std::size_t tile = first; tile < last; ++tile) {
        any = any || waits(tile);
      }
      if (!any) {
        continue;
      }
      trace_light_paths(first, last);
      parallel_for(last - first, [&](std::size_t i) {
        if (waits(first + i)) {
          render_tile(first + i);
        }
      });
    }
    splats_.clear();
    const auto reason = static_cast<StoppedBy>(stop_reason_.load());
    const bool stopping = stop_reason_ != -1;
    if (stopping && (reason == StoppedBy::kSignal || !options_.exchange)) {
      return reason;
    }
    const int end = s_.taken + static_cast<int>(s_.pass.mean), even = even_samples();
    const bool last =
        end >= rig_.render.samples || (rig_.render.samples - end < kBatches && end >= even);
    if (options_.exchange && (stopping || rig_.render.noise || last)) {
      if (const auto stopped = join(stopping)) {
        return *stopped;
      }
    }
    if (s_.pass.round > 0) {
      const auto [least, most] = std::minmax_element(s_.pass.counts.begin(), s_.pass.counts.end());
      s_.rounds.push_back({static_cast<double>(s_.pass.mean),
                           static_cast<double>(*least),
                           static_cast<double>(*most)});
    }
    s_.taken = end;
    ++s_.passes_done;
    s_.in_pass = false;
    if (options_.share.index == 0) {
      s_.tallies[0].rays += light_path_rays_;
    }
    light_path_rays_ = {};
    // History: at powers of two, after each round, and at the end; of a slice, of its own pixels.
    const bool whole = options_.share.whole() || (options_.exchange && (rig_.render.noise || last));
    const bool told = (whole || !options_.exchange) &&
                      (s_.pass.round > 0 || (end & (end - 1)) == 0 || end == rig_.render.samples);
    if (s_.taken >= kBatches) {
      const View view = look_view(rig_.look, camera_spec_, film_);
      s_.white = view.white_luminance();
      const NoiseFigures figures = noise_figures(film_, view.white_luminance(), !whole);
      s_.noise = figures.p95;
      const bool reached = target_is_reached();
      if (told || reached) {
        s_.history.push_back(
            {static_cast<double>(s_.taken), seconds(), figures.median, figures.p95});
      }
      if (reached) {
        return StoppedBy::kNoise;
      }
    }
    return std::nullopt;
  }

  // Takes in the tiles of the other processes. Why the render is to stop: one of them is lost, or
  // one of them stops.
  std::optional<StoppedBy> join(bool stopping) {
    const auto all = options_.exchange((stopping ? "s" : "-") + packed_tiles(s_, options_.share));
    if (!all) {
      return StoppedBy::kSignal;
    }
    for (int i = 0; i < options_.share.count; ++i) {
      const std::string& bytes = (*all)[static_cast<std::size_t>(i)];
      stopping = stopping || bytes.starts_with('s');
      if (i != options_.share.index &&
          (bytes.empty() || !unpack_tiles(bytes.substr(1), {i, options_.share.count}, s_))) {
        return StoppedBy::kSignal;  // as where the process is lost: what is here is kept
      }
    }
    return stopping ? std::optional(StoppedBy::kTime) : std::nullopt;
  }

  // From the thread that finishes a tile when it is time.
  void keep_checkpoint() {
    if (!options_.checkpoint || checkpointing_.exchange(true)) {
      return;
    }
    const auto now = std::chrono::steady_clock::now();
    if (std::chrono::duration<double>(now - last_checkpoint_).count() >=
        options_.checkpoint_every) {
      const std::unique_lock lock(commits_);
      tell_time();
      options_.checkpoint(s_);
      last_checkpoint_ = std::chrono::steady_clock::now();
    }
    checkpointing_ = false;
  }

  double limit_now() const {
    const auto& enough = options_.enough;
    return enough && s_.taken >= enough->samples ? std::min(enough->seconds, *options_.time_limit)
                                                 : *options_.time_limit;
  }

  bool should_stop() {
    if (stop_reason_ != -1) {
      return true;
    }
    if (options_.stop && options_.stop()) {
      stop_reason_ = static_cast<int>(StoppedBy::kSignal);
    } else if (options_.in_haste && s_.passes_done == 0) {
      return false;  // the first look is of all of the picture, however long that takes
    } else if (options_.time_limit && seconds_now() - unlimited_s_ >= limit_now()) {
      stop_reason_ = static_cast<int>(StoppedBy::kTime);
    }
    return stop_reason_ != -1;
  }

  // The work on one tile in one pass, until it is put into the film.
  struct TileWork {
    std::size_t tile;
    int x0, y0, x1, y1;
    SharedSamples shared;
    std::vector<float> guides;           // of each pixel
    std::vector<std::uint32_t> objects;  // the same
    std::vector<double> clamped;         // of each pixel's layers
    std::vector<float> scratch;          // of compare_roughness
    TileTally tally;

    std::size_t area() const { return static_cast<std::size_t>((x1 - x0) * (y1 - y0)); }
    // Calls body(number in the tile, x, y) for each pixel.
    template <class Body>
    void each(const Body& body) const {
      std::size_t i = 0;
      for (int y = y0; y < y1; ++y) {
        for (int x = x0; x < x1; ++x, ++i) {
          body(i, x, y);
        }
      }
    }
  };

  TileWork begin_tile(std::size_t tile) const {
    const int x0 = static_cast<int>(tile) % s_.tiles_across() * kTile,
              y0 = static_cast<int>(tile) / s_.tiles_across() * kTile;
    const int x1 = std::min(film_.width(), x0 + kTile), y1 = std::min(film_.height(), y0 + kTile);
    const auto layers = static_cast<std::size_t>(film_.layers()),
               slots = static_cast<std::size_t>(film_.slots());
    TileWork w{tile,
               x0,
               y0,
               x1,
               y1,
               SharedSamples(x1 - x0, y1 - y0, slots),
               {},
               {},
               {},
               {},
               TileTally(layers, slots)};
    w.guides.resize(w.area() * Film::kGuides);
    w.objects.resize(w.area());
    w.clamped.resize(w.area() * layers);
    w.each([&](std::size_t i, int x, int y) {
      const std::size_t pixel = film_.pixel(x, y);
      w.shared.set_count(i, begin_of(pixel), static_cast<int>(count_of(pixel)));
    });
    return w;
  }

  // All samples of this pass for one tile; kept only when complete.
  void render_tile(std::size_t tile) {
    TileWork w = begin_tile(tile);
    // Counted by the thread as it goes: no other work runs on it until the tile is done.
    const MarchCounts march_before = march_counts();
    const std::uint64_t media_before = media_step_count();
    std::size_t i = 0;
    for (int y = w.y0; y < w.y1; ++y) {
      if (should_stop()) {
        return;
      }
      for (int x = w.x0; x < w.x1; ++x, ++i) {
        render_pixel(w, x, y, i);
      }
    }
    w.shared.finish();
    w.each([&](std::size_t at, int x, int y) { gather_pixel(w, at, x, y); });
    w.tally.rays.march += march_counts() - march_before;
    w.tally.rays.media_steps += media_step_count() - media_before;
    {
      const std::shared_lock lock(commits_);
      w.each([&](std::size_t at, int x, int y) { commit_pixel(w, at, film_.pixel(x, y)); });
      s_.tallies[tile].add(w.tally);
      s_.tile_done[tile] = 1;
      film_.rest(tile, 1);
    }
    keep_checkpoint();
    const double done = ++tiles_done_;
    if (options_.progress) {
      report(done);
    }
  }

  // Adds what light paths bring, and what the pixel tells of the lights' noise.
  void gather_pixel(TileWork& w, std::size_t at, int x, int y) {
    const auto layers = static_cast<std::size_t>(film_.layers());
    const std::size_t pixel = film_.pixel(x, y);
    double* const clamped = w.clamped.data() + at * layers;
    add_splats(w.tile,
               static_cast<std::size_t>((y - w.y0) * kTile + x - w.x0),
               pixel,
               w.shared.sums(at),
               w.shared.batches(at),
               clamped);
    const std::uint32_t count = count_of(pixel);
    if (count == 0) {
      return;
    }
    for (std::size_t l = 0; l < layers; ++l) {
      w.tally.clamped[l] += clamped[l] * weight_of(pixel) / count;
    }
    tally_lights(w.shared.sums(at),
                 pixel,
                 static_cast<int>(count),
                 level_after(pixel, w.shared.batches(at)),
                 w.tally);
  }

  void commit_pixel(TileWork& w, std::size_t at, std::size_t pixel) {
    const std::uint32_t count = count_of(pixel), weight = weight_of(pixel);
    // The round's mean times its weight; exactly the sum where the two are the same.
    const float scale =
        count == weight ? 1.0f : static_cast<float>(weight) / static_cast<float>(count);
    const auto slots = static_cast<std::size_t>(film_.slots());
    for (std::size_t k = 0; k < slots * 3 * kHalves; ++k) {
      film_.xyz(pixel)[k] += scale * w.shared.sums(at)[k];
    }
    for (std::size_t k = 0; k < kBatches; ++k) {
      film_.batch(pixel)[k] += scale * w.shared.batches(at)[k];
    }
    for (std::size_t k = 0; k < Film::kGuides; ++k) {
      film_.guide(pixel)[k] += w.guides[at * Film::kGuides + k];
    }
    if (s_.pass.begin == 0 && s_.pass.round == 0) {
      film_.object(pixel) = w.objects[at];
    }
    film_.weight(pixel) += weight;
    film_.taken(pixel) += count;
  }

  // All samples of this pass for one pixel, number `i` of its tile.
  void render_pixel(TileWork& w, int x, int y, std::size_t i) {
    const bool first_round = s_.pass.round == 0;
    const std::size_t pixel = film_.pixel(x, y);
    double* const clamped = w.clamped.data() + i * static_cast<std::size_t>(film_.layers());
    const int begin = begin_of(pixel), end = begin + static_cast<int>(count_of(pixel));
    const PixelSampling sampling(seed_of_sequences(),
                                 static_cast<std::uint32_t>(x),
                                 static_cast<std::uint32_t>(y),
                                 sample_bits_);
    for (int s = begin; s < end; ++s) {
      const auto half = static_cast<std::uint32_t>(s % kHalves);
      const Sampler sampler = sampling.sample(half, static_cast<std::uint32_t>(s / kHalves));
      const MomentView& view = views_[moment_of(sampler)];
      const Vec2 offset = film_offset(sampler);
      const Ray ray = camera_ray(view, sampler, x, y, offset);
      LightSink sink(w.shared.sample(), w.shared.touched(), film_.parts(), clamped);
      FirstHit first;
      FirstHit* const wanted =
          (first_round || s_.pass.goes_on_unevenly()) && s < Film::kGuideSamples ? &first : nullptr;
      const PathOptions path = sample_options(view, s - begin);
      trace_path(*view.scene, ray, sampler, path, sink, wanted, w.tally.rays);
      w.shared.add(i, batch_of(s, begin, end - begin), offset);
      w.guides[i * Film::kGuides + 8] += sink.seen();
      if (sink.not_finite() > 0) {
        TileTally lost;
        lost.not_finite = {static_cast<double>(sink.not_finite()),
                           static_cast<double>(x),
                           static_cast<double>(y),
                           static_cast<double>(s),
                           static_cast<double>(s_.pass.round)};
        w.tally.add(lost);
      }
      if (view.scene->has_bounce_materials && s % kComparedEvery == 0) {
        compare_roughness(*view.scene, ray, sampler, w.scratch, w.tally);
      }
      if (wanted != nullptr && first.found) {
        add_guides(first, w.guides.data() + i * Film::kGuides);
      }
      if (s == 0 && first_round) {
        w.objects[i] = first.found ? first.surface + 1 : 0;
      }
    }
  }

  static void add_guides(const FirstHit& first, float* guides) {
    const Rgb color = rgb_under_d65(first.albedo);
    for (int c = 0; c < 3; ++c) {
      guides[c] += static_cast<float>(color[c]);
      guides[3 + c] += first.normal[c];
    }
    guides[6] += first.depth;
    guides[7] += 1;
  }

  static Vec2 film_offset(const Sampler& sampler) {
    return Camera::offset_in_pixel(sampler.pair(0));
  }
  static Ray camera_ray(
      const MomentView& view, const Sampler& sampler, int x, int y, const Vec2& offset) {
    const Vec2 lens = view.camera.has_lens() ? sampler.pair(1) : Vec2(0, 0);
    return view.camera.pixel_ray(x, y, offset, lens);
  }

  // Of a pixel's k-th sample of the pass, with its set of virtual lights.
  PathOptions sample_options(const MomentView& view, int k) const {
    PathOptions out = path_options(view);
    out.times_queries = options_.time_queries;
    if (!virtual_sets_.empty()) {
      out.virtual_set = &virtual_sets_[static_cast<std::size_t>(k) % virtual_sets_.size()];
    }
    return out;
  }

  // One sample with bounce_roughness and without, by the same choices.
  void compare_roughness(const Scene& scene,
                         const Ray& ray,
                         const Sampler& sampler,
                         std::vector<float>& scratch,
                         TileTally& tally) const {
    const auto slots = static_cast<std::size_t>(film_.slots()),
               parts = static_cast<std::size_t>(film_.parts());
    scratch.assign(slots * 5, 0.0f);
    float* const with = scratch.data() + 3 * slots;
    float* const without = with + slots;
    LightSink rough(scratch.data(), with, film_.parts()),
        plain(scratch.data(), without, film_.parts());
    PathOptions path;
    path.bounces = rig_.render.bounces;
    path.haze_bounces = rig_.render.haze_bounces;
    trace_path(scene, ray, sampler, path, rough, nullptr, tally.rays);
    path.as_they_are = true;
    trace_path(scene, ray, sampler, path, plain, nullptr, tally.rays);
    double removed = 0;
    for (std::size_t s = 0; s < slots; ++s) {
      removed += found_by_cameras_[s / parts]
                     ? static_cast<double>(without[s]) - static_cast<double>(with[s])
                     : 0.0;
    }
    tally.roughened[0] += 1;
    tally.roughened[1] += removed;
    tally.roughened[2] += removed * removed;
  }

  PathOptions path_options(const MomentView& view) const {
    PathOptions out;
    out.bounces = rig_.render.bounces;
    out.haze_bounces = rig_.render.haze_bounces;
    out.light_paths = view.light_paths;
    out.guide = guide_.get();
    return out;
  }

  // What is learned before the picture: the same for all slices, processes and resumed renders.
  // With a time limit, for as many samples as the limit is likely to allow.
  void prepare_guide() {
    if (!rig_.render.guiding || s_.tiles() == 0) {
      return;
    }
    const MomentView& view = views_[views_.size() / 2];
    TrainingPlan plan;
    plan.width = film_.width();
    plan.height = film_.height();
    plan.seed = rig_.render.seed;
    // A noise target may be reached soon: two rounds.
    plan.samples = rig_.render.noise ? kTargetTrainingSamples
                                     : static_cast<double>(film_.pixels()) * rig_.render.samples;
    plan.rounds = s_.guide_rounds;
    plan.connects = views_.size() == 1;
    plan.caustics = std::exchange(caustics_, {});
    if (options_.time_limit && !options_.in_parts) {
      constexpr double kSamplesASecond = 3e5, kShortest = 2;
      plan.most_seconds = 0.2 + 0.1 * *options_.time_limit;
      plan.samples = *options_.time_limit < kShortest
                         ? 0
                         : std::min(plan.samples, kSamplesASecond * *options_.time_limit);
    }
    const bool learned_before = s_.guide_rounds > 0;
    RayCounts rays;
    guide_ = learn_guide(*view.scene, view.camera, path_options(view), plan, rays);
    if (!learned_before && options_.share.index == 0) {
      s_.tallies[0].rays += rays;
    }
    if (guide_ == nullptr) {
      return;
    }
    // A render in parts learns in each of them: that may not be all that a part does.
    unlimited_s_ = options_.in_parts ? guide_->seconds : 0;
    for (const auto& paths : light_paths_) {
      paths->share_with(guide_->virtual_lights.get());
    }
    s_.guide_rounds = guide_->rounds;
    s_.guide_paths = guide_->paths;
    s_.guide_s = guide_->seconds;
  }

  bool connects() const { return guide_ != nullptr && guide_->virtual_lights != nullptr; }

  // The virtual lights of this pass: a set for each of its samples; where pixels have different
  // numbers of samples, those beyond kVirtualSetsOfRound begin again with the first set.
  void trace_virtual_lights() {
    virtual_sets_.clear();
    if (!connects()) {
      return;
    }
    const std::uint32_t seed =
        s_.pass.round == 0 ? rig_.render.seed : mix(rig_.render.seed, s_.pass.round);
    const std::uint32_t most =
        s_.pass.counts.empty() ? s_.pass.mean
                               : *std::max_element(s_.pass.counts.begin(), s_.pass.counts.end());
    const std::uint32_t count = s_.pass.round == 0 ? most : std::min(most, kVirtualSetsOfRound);
    for (std::uint32_t k = 0; k < count && !should_stop(); ++k) {
      virtual_sets_.push_back(guide_->virtual_lights->trace(
          seed, static_cast<std::uint32_t>(s_.pass.begin) + k, light_path_rays_));
    }
  }

  void prepare_light_paths() {
    // Paths from the lights are shadowed everywhere: camera paths alone know of what is not.
    if (!rig_.render.light_tracing || s_.tiles() == 0 || views_.front().scene->has_unshadowed) {
      return;
    }
    // All moments' paths begin where those of the middle one do, which is like the others.
    const std::size_t middle = views_.size() / 2;
    light_paths_.resize(views_.size());
    const auto paths_of = [&](std::size_t v, const LightPaths* like) {
      light_paths_[v] = std::make_unique<LightPaths>(*views_[v].scene,
                                                     views_[v].camera,
                                                     film_.width(),
                                                     film_.height(),
                                                     rig_.render.bounces,
                                                     rig_.render.seed,
                                                     like);
    };
    paths_of(middle, nullptr);
    double per_pixel = light_paths_per_pixel(*views_[middle].scene,
                                             views_[middle].camera,
                                             *light_paths_[middle],
                                             film_.width(),
                                             film_.height(),
                                             rig_.render.bounces,
                                             rig_.render.seed);
    light_paths_[middle]->forget();
    caustics_ = light_paths_[middle]->take_caustics();
    for (std::size_t v = 0; v < views_.size(); ++v) {
      if (v != middle) {
        paths_of(v, light_paths_[middle].get());
        // A light that is off in the middle of the exposure may shine at another moment.
        per_pixel =
            std::max(per_pixel, light_paths_[v]->only_so() ? kLeastLightPathsPerPixel : 0.0);
      }
    }
    if (!(per_pixel > 0)) {
      light_paths_.clear();
      return;
    }
    paths_per_sample_ =
        static_cast<std::uint64_t>(std::ceil(static_cast<double>(film_.pixels()) * per_pixel));
    for (std::size_t v = 0; v < views_.size(); ++v) {
      views_[v].light_paths = {light_paths_[v].get(), static_cast<double>(paths_per_sample_)};
    }
  }

  // How many sets of light paths this pass has, each of paths_per_sample_: where pixels have
  // different numbers of samples, as many for each batch, or in a small pass for each half.
  std::uint32_t light_path_sets() const {
    if (s_.pass.round == 0) {
      return s_.pass.mean;
    }
    const std::uint32_t step = s_.pass.mean < kBatches ? kHalves : kBatches;
    return (s_.pass.mean + step - 1) / step * step;
  }

  // For how many tiles what paths from lights bring may wait at once, if it came to all of them
  // from all lights.
  std::size_t tiles_at_once() const {
    if (light_paths_.empty()) {
      return s_.tiles();
    }
    const double parts = film_.parts() > kParts ? 2 : 1;  // caustic, haze
    const double of_tile = parts * film_.layers() * kTile * kTile * sizeof(TileSplats::Pixel);
    return static_cast<std::size_t>(
        std::clamp(options_.light_path_memory / of_tile, 1.0, static_cast<double>(s_.tiles())));
  }

  // The paths from lights of this pass: what they bring to each tile from `first_tile` on waits for
  // the tile to be rendered. All of them in every process that has a share; summed in their order,
  // so that no thread changes a bit.
  void trace_light_paths(std::size_t first_tile, std::size_t last_tile) {
    splats_.clear();
    if (light_paths_.empty()) {
      return;
    }
    splats_.resize(s_.tiles());
    constexpr std::uint32_t kLightStream = 0x6c696768U;
    constexpr std::uint64_t kJob = 2048, kJobs = 256;
    constexpr std::size_t kBands = 32;
    struct BatchSplat {
      Splat splat;
      std::uint32_t batch;
    };
    const int sets = static_cast<int>(light_path_sets());
    const std::uint64_t all = static_cast<std::uint64_t>(sets) * paths_per_sample_;
    const std::uint32_t seed = seed_of_sequences();
    std::vector<std::array<std::vector<BatchSplat>, kBands>> jobs(kJobs);
    std::vector<RayCounts> rays(kJobs);
    for (std::uint64_t begin = 0; begin < all; begin += kJob * kJobs) {
      const std::uint64_t count = std::min(kJobs, (all - begin + kJob - 1) / kJob);
      parallel_for(count, [&](std::size_t j) {
        for (auto& band : jobs[j]) {
          band.clear();
        }
        rays[j] = {};
        if (should_stop()) {
          return;
        }
        const MarchCounts march_before = march_counts();
        const std::uint64_t media_before = media_step_count();
        std::vector<Splat> splats;
        const std::uint64_t first = begin + j * kJob;
        for (std::uint64_t i = first; i < std::min(all, first + kJob); ++i) {
          const std::uint64_t set =
              static_cast<std::uint64_t>(s_.pass.begin) + i / paths_per_sample_;
          const auto half = static_cast<std::uint32_t>(set % kHalves);
          const auto batch =
              static_cast<std::uint32_t>(batch_of(static_cast<int>(set), s_.pass.begin, sets));
          // A sequence has 2^32 points; further ones come from another of the same half.
          const std::uint64_t point = set / kHalves * paths_per_sample_ + i % paths_per_sample_;
          const std::uint32_t stream = mix(kLightStream, half),
                              beyond = static_cast<std::uint32_t>(point >> 32);
          const Sampler sampler(
              seed, beyond == 0 ? stream : mix(stream, beyond), static_cast<std::uint32_t>(point));
          splats.clear();
          light_paths_[moment_of(sampler)]->trace(
              sampler, static_cast<double>(paths_per_sample_), splats, rays[j]);
          for (const Splat& s : splats) {
            if (const std::size_t tile = tile_of(s.pixel); tile >= first_tile && tile < last_tile &&
                                                           options_.share.holds(tile) &&
                                                           s_.tile_done[tile] == 0) {
              jobs[j][tile % kBands].push_back({s, batch});
            }
          }
        }
        rays[j].march += march_counts() - march_before;
        rays[j].media_steps += media_step_count() - media_before;
      });
      if (stop_reason_ != -1) {
        return;
      }
      parallel_for(kBands, [&](std::size_t band) {
        for (std::uint64_t j = 0; j < count; ++j) {
          for (const BatchSplat& b : jobs[j][band]) {
            splats_[tile_of(b.splat.pixel)].add(b.splat, b.batch, film_);
          }
        }
      });
      for (std::uint64_t j = 0; j < count; ++j) {
        light_path_rays_ += rays[j];
      }
    }
  }

  // Which of the exposure's moments a sample sees: each half's samples are spread evenly over
  // them.
  std::size_t moment_of(const Sampler& sampler) const {
    constexpr std::uint32_t kMomentPair = 1U << 30;
    return views_.size() == 1
               ? 0
               : std::min(views_.size() - 1,
                          static_cast<std::size_t>(sampler.single(kMomentPair) *
                                                   static_cast<float>(views_.size())));
  }

  std::size_t tile_of(std::uint32_t pixel) const {
    const auto width = static_cast<std::uint32_t>(film_.width());
    return static_cast<std::size_t>(pixel / width / kTile) *
               static_cast<std::size_t>(s_.tiles_across()) +
           pixel % width / kTile;
  }

  // What light paths brought to a pixel, as if its samples of this pass had: `i` of the tile's
  // pixels, `at` in the tile's square.
  void add_splats(std::size_t tile,
                  std::size_t at,
                  std::size_t pixel,
                  float* sums,
                  float* batches,
                  double* clamped) const {
    if (splats_.empty()) {
      return;
    }
    const auto slots = static_cast<std::size_t>(film_.slots());
    const float scale = static_cast<float>(count_of(pixel)) / static_cast<float>(light_path_sets());
    for (const TileSplats::Slot& slot : splats_[tile].slots) {
      const TileSplats::Pixel& p = slot.pixels[at];
      clamped[slot.slot / static_cast<std::size_t>(film_.parts())] +=
          static_cast<double>(scale * p.clamped);
      for (std::size_t half = 0; half < kHalves; ++half) {
        for (std::size_t c = 0; c < 3; ++c) {
          sums[(half * slots + slot.slot) * 3 + c] += scale * p.xyz[half][c];
        }
      }
      for (std::size_t b = 0; b < kBatches; ++b) {
        batches[b] += scale * p.luminance[b];
      }
    }
  }

  // The weight squared times the variance of each light's mean over a pixel's n samples of this
  // pass, from its halves;
  // a lone sample tells nothing. `level`: what the pixel's noise is measured against; 0 where that
  // is not known yet.
  // `by_light`: sums of XYZ, [kHalves][slot][3].
  void tally_lights(
      const float* by_light, std::size_t pixel, int n, double level, TileTally& into) const {
    if (n < 2) {
      return;
    }
    const auto layers = static_cast<std::size_t>(film_.layers());
    std::array<double, kHalves> sums{}, counts{};
    const int begin = begin_of(pixel);
    for (std::size_t half = 0; half < kHalves; ++half) {
      const int first = begin % kHalves;  // whose turn it is
      const auto its_samples = (n + (static_cast<int>(half) == first ? 1 : 0)) / kHalves;
      counts[half] = its_samples;
    }
    const auto slots = static_cast<std::size_t>(film_.slots()),
               parts = static_cast<std::size_t>(film_.parts());
    const auto tally = [&](std::size_t first, std::size_t count) {
      for (std::size_t half = 0; half < kHalves; ++half) {
        sums[half] = 0;
        for (std::size_t s = first; s < first + count; ++s) {
          sums[half] += static_cast<double>(by_light[(half * slots + s) * 3 + 1]);
        }
      }
      return sqr(static_cast<double>(weight_of(pixel))) * variance_of_halves(sums, counts);
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

  // The larger of a pixel's luminance with this pass and the floor of the measure; 0 before the
  // white is known.
  double level_after(std::size_t pixel, const float* batches) const {
    if (!(s_.white > 0) || count_of(pixel) == 0) {
      return 0;
    }
    double sum = 0;
    const double scale = static_cast<double>(weight_of(pixel)) / count_of(pixel);
    for (int b = 0; b < kBatches; ++b) {
      sum += film_.batch(pixel)[b] + scale * batches[b];
    }
    return std::max(sum / (film_.weight(pixel) + weight_of(pixel)), kNoiseFloor * s_.white);
  }

  void report(double tiles_done) {
    Progress p;
    p.seconds = seconds();
    const double in_pass = (tiles_done - static_cast<double>(own_tiles_) * s_.passes_done) /
                           static_cast<double>(std::max(1, own_tiles_));
    p.samples = s_.taken + s_.pass.mean * in_pass;
    p.done = p.samples / rig_.render.samples;
    p.noise = s_.noise;
    if (rig_.render.noise && s_.noise > 0) {
      // Noise falls at least like one over the root of the samples.
      p.done = std::max(p.done, std::min(1.0, sqr(*rig_.render.noise / s_.noise)));
    }
    if (options_.time_limit) {
      p.done = std::max(p.done, std::min(1.0, seconds_now() / *options_.time_limit));
    }
    options_.progress(p);
  }

  const Rig& rig_;
  const RenderOptions& options_;
  const CameraSpec& camera_spec_;
  RenderState s_;
  Film& film_;  // of s_
  std::vector<MomentView> views_;
  // Of each layer, whether camera paths find all of its lights.
  std::vector<bool> found_by_cameras_;
  std::vector<std::unique_ptr<LightPaths>> light_paths_;  // of the views; empty: none
  std::vector<PhotonRecord> caustics_;  // where their light falls, until it is learned from
  std::uint64_t paths_per_sample_ = 0;
  // A half's samples of a pixel in this round are at most 2 to this power.
  unsigned sample_bits_ = 0;
  std::vector<TileSplats> splats_;  // of this pass, by tile
  RayCounts light_path_rays_;
  std::vector<VirtualLightSet> virtual_sets_;  // of this pass, one for each of its samples
  std::shared_ptr<const Guide> guide_;         // null: nothing is known of where light goes
  double began_s_ = 0;                         // when the first pass began
  double unlimited_s_ = 0;                     // of learning, which the time limit does not count
  int own_tiles_ = 0, own_done_ = 0;
  double wall_before_ = 0, cpu_before_ = 0, cpu_start_ = 0;
  // Shared by tiles that are put into the film, held by a checkpoint.
  std::shared_mutex commits_;
  std::atomic<bool> checkpointing_{false};
  std::chrono::steady_clock::time_point last_checkpoint_;
  std::atomic<int> stop_reason_{-1};
  std::atomic<int> tiles_done_{0};
  std::chrono::steady_clock::time_point start_;
};

}  // namespace

Render render_on(const Rig& rig,
                 const Scene& scene,
                 const RenderOptions& options,
                 RenderState from) {
  return Renderer(rig, scene, options, std::move(from))
      .run(options.moments.empty() ? scene.layers : options.moments.front().scene->layers);
}

std::optional<ReplayedSample> replay_sample(const Rig& rig,
                                            const Scene& scene,
                                            const RenderOptions& options,
                                            std::size_t layers,
                                            int x,
                                            int y,
                                            int sample) {
  RenderState state(rig.render.width, rig.render.height, layers, parts_of(rig));
  return Renderer(rig, scene, options, std::move(state)).replay(x, y, sample);
}

Render render(const Rig& rig, const Scene& scene, const RenderOptions& options) {
  return render_on(
      rig,
      scene,
      options,
      RenderState(rig.render.width, rig.render.height, scene.layers.size(), parts_of(rig)));
}

}  // namespace jovilux
