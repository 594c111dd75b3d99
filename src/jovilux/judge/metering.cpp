#include "jovilux/judge/metering.h"

#include "jovilux/base/parallel.h"
#include "jovilux/emitters/light_form.h"
#include "jovilux/transport/path.h"
#include "jovilux/transport/thrown_light.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <limits>
#include <memory>
#include <utility>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::uint32_t kScrambledPaths = 16;  // independent ones, whose scatter is the error
constexpr std::uint64_t kFirst = 64;           // samples of each, doubled from there
// Of each at least: rare light must have had a chance. With 64 of each, a meter of the demo had not
// met a lamp's image, a sixth of its light, and was certain of the rest.
constexpr std::uint64_t kLeastPaths = 512;
// Photons of each scrambling for light that mirrors throw, at first and at most.
constexpr std::uint32_t kFewPhotons = 1 << 9, kManyPhotons = 1 << 17;
// Lamps whose radius is more than this share of their distance are met by paths in mirrors as they
// are: by one of a thousand in the mean.
constexpr float kSmallLamp = 0.03f;
// Of the directions toward such lamps, spread over all; the others down to a 4^16th of the sphere,
// which a lamp of 0.3 mm in radius fills at 10 m.
constexpr float kSpreadEvenly = 0.05f;
constexpr int kAimedHalvings = 16;

bool has_mirrors(const Scene& scene) {
  return std::any_of(scene.materials.begin(), scene.materials.end(), [](const SurfaceModel& m) {
    return m.only_mirror() && !m.is_pane();
  });
}

// One point of a meter, with all that its paths have told so far.
struct Point {
  const MeterSpec* meter;
  std::uint32_t number;     // of all points, which seeds it
  std::uint32_t first = 0;  // number of its meter's first point
  Vec3d at;
  Receiver receiver;              // illuminance: the plane
  std::vector<double> sums;       // of layers and parts
  std::vector<double> of_layers;  // of each layer, its scramblings
  std::array<double, kScrambledPaths> totals{};
  // Beside the paths: what mirrors throw of lights without size, of layers and parts; of layers by
  // batches, and of all.
  std::vector<std::shared_ptr<const ThrownLight>> beams;
  std::vector<double> thrown, thrown_of_layers;
  std::array<double, kScrambledPaths> thrown_totals{};
  std::vector<DirectionSample> toward_lamps;                         // small ones, by mirrors
  double least = std::numeric_limits<double>::infinity(), most = 0;  // of all samples
  std::uint64_t per_scrambling = 0;

  void forget_paths() {
    std::fill(sums.begin(), sums.end(), 0.0);
    std::fill(of_layers.begin(), of_layers.end(), 0.0);
    totals.fill(0);
    least = std::numeric_limits<double>::infinity();
    most = 0;
    per_scrambling = 0;
  }
};

// A lamp that paths from meters may have to be aimed at, through mirrors.
struct AimedLamp {
  std::uint32_t emitter = kNoIndex;
  float intensity = 0;                     // about the largest [cd]
  std::shared_ptr<const ThrownRays> rays;  // traced where they are asked for
};

class Metering {
 public:
  Metering(const Rig& rig, const Scene& scene, const MeteringOptions& options)
      : rig_(rig), scene_(scene), options_(options), layers_(scene.layers.size()) {}

  std::vector<MeterResult> run() {
    start_ = std::chrono::steady_clock::now();
    for (const MeterSpec& meter : rig_.meters) {
      all_points_ += meter.points().size();
    }
    std::vector<MeterResult> out;
    with_threads(options_.threads, [&] {
      trace_thrown_rays();
      for (std::size_t m = 0; m < rig_.meters.size(); ++m) {
        out.push_back(result_of(m));
      }
    });
    return out;
  }

 private:
  // The meter's points some at a time: only those have sums in memory.
  MeterResult result_of(std::size_t m) {
    constexpr std::size_t kAtOnce = 256;
    const MeterSpec& meter = rig_.meters[m];
    const std::vector<Vec3d> places = meter.points();
    const auto first = static_cast<std::uint32_t>(finished_);
    MeterResult result;
    result.meter = m;
    result.layers = scene_.layers;
    result.points = places.size();
    for (std::size_t begin = 0; begin < places.size(); begin += kAtOnce) {
      points_.clear();
      for (std::size_t k = begin; k < std::min(places.size(), begin + kAtOnce); ++k) {
        points_.push_back(point_of(meter, places[k], first, k));
      }
      parallel_for(points_.size(), [&](std::size_t i) { find_thrown_light(points_[i]); });
      measure();
      measure_again(aim_at_small_lamps());
      parallel_for(points_.size(), [&](std::size_t i) { refine_thrown_light(points_[i]); });
      for (const Point& p : points_) {
        if (p.per_scrambling > 0) {
          result.readings.push_back(reading_of(p, places.size()));
        }
      }
      finished_ += points_.size();
    }
    for (const MeterReading& r : result.readings) {
      result.average += r.value / static_cast<double>(result.readings.size());
      result.minimum = &r == &result.readings.front() ? r.value : std::min(result.minimum, r.value);
    }
    return result;
  }

  Point point_of(const MeterSpec& meter,
                 const Vec3d& at,
                 std::uint32_t first,
                 std::size_t k) const {
    Point p;
    p.meter = &meter;
    p.number = first + static_cast<std::uint32_t>(k);
    p.first = first;
    p.at = at;
    p.receiver.at = at.cast<float>();
    p.receiver.normal = meter.facing.cast<float>();
    if (const Scene::Surface* object = surface_of(meter.on)) {
      p.receiver.surface.links = object->links;
      p.receiver.surface.receives_shadow = object->receives_shadow;
    }
    p.sums.assign(layers_ * kPartsWithHaze, 0);
    p.of_layers.assign(layers_ * kScrambledPaths, 0);
    p.thrown.assign(layers_ * kPartsWithHaze, 0);
    p.thrown_of_layers.assign(layers_ * kScrambledPaths, 0);
    return p;
  }

  // Of the object of that name; null: a meter that lies on none is lit by all lights.
  const Scene::Surface* surface_of(const std::string& object) const {
    for (const Scene::Surface& s : scene_.surfaces) {
      if (!object.empty() && s.object != kNoIndex && rig_.objects[s.object].name == object) {
        return &s;
      }
    }
    return nullptr;
  }

  void trace_thrown_rays() {
    const bool any_illuminance = std::any_of(
        rig_.meters.begin(), rig_.meters.end(), [](const MeterSpec& m) { return !m.luminance; });
    if (!any_illuminance || !has_mirrors(scene_)) {
      return;
    }
    for (std::uint32_t l = 0; l < scene_.emitters.size() && !stopped(); ++l) {
      const Emitter& e = scene_.emitters[l];
      if (can_be_thrown(scene_, e)) {
        thrown_rays_.emplace_back(scene_, l, rig_.render.bounces, rig_.render.seed);
      } else if (can_be_aimed_at(e)) {
        aimed_.push_back({l, brightest_intensity(e), nullptr});
      }
    }
  }

  // Light that no path from the meter meets: its beams, and what few photons tell of them.
  void find_thrown_light(Point& p) const {
    if (p.meter->luminance) {
      return;
    }
    for (const ThrownRays& rays : thrown_rays_) {
      if (stopped()) {
        return;
      }
      auto light = std::make_shared<const ThrownLight>(
          rays, ReceivingPlane{p.receiver.at, p.receiver.normal});
      if (light->any()) {
        p.beams.push_back(std::move(light));
      }
    }
    add_thrown_light(p, kFewPhotons);
  }

  // Lamps so small that hardly any direction by the cosine meets them in mirrors: that none has
  // done so is no sign that none would. Where they could matter, and photons find that they come,
  // paths are aimed there. Returns the numbers of these points.
  std::vector<std::size_t> aim_at_small_lamps() {
    for (AimedLamp& lamp : aimed_) {
      std::vector<std::size_t> points;
      for (std::size_t i = 0; i < points_.size(); ++i) {
        if (could_be_missed(lamp, points_[i])) {
          points.push_back(i);
        }
      }
      if (points.empty() || stopped()) {
        continue;
      }
      if (lamp.rays == nullptr) {
        lamp.rays = std::make_shared<const ThrownRays>(
            scene_, lamp.emitter, rig_.render.bounces, rig_.render.seed);
      }
      parallel_for(points.size(), [&](std::size_t k) {
        Point& p = points_[points[k]];
        const ThrownLight light(*lamp.rays, {p.receiver.at, p.receiver.normal});
        light.add_directions(p.toward_lamps);
      });
    }
    std::vector<std::size_t> aimed;
    for (std::size_t i = 0; i < points_.size() && !stopped(); ++i) {
      if (Point& p = points_[i]; !p.toward_lamps.empty()) {
        p.receiver.beams = std::make_shared<const DirectionTree>(
            std::exchange(p.toward_lamps, {}), kSpreadEvenly, kAimedHalvings);
        aimed.push_back(i);
      }
    }
    return aimed;
  }

  // Some points from the start. Those at which it is stopped keep what they had.
  void measure_again(const std::vector<std::size_t>& points) {
    std::vector<Point> before;
    for (const std::size_t i : points) {
      before.push_back(points_[i]);
      points_[i].forget_paths();
    }
    if (!points.empty()) {
      measure();
    }
    for (std::size_t k = 0; k < points.size(); ++k) {
      if (points_[points[k]].per_scrambling == 0) {
        points_[points[k]] = std::move(before[k]);
      }
    }
  }

  // A lamp of small angle whose light by a flat mirror would be a part of the reading.
  bool could_be_missed(const AimedLamp& lamp, const Point& p) const {
    if (p.meter->luminance || p.per_scrambling == 0) {
      return false;
    }
    const Emitter& e = scene_.emitters[lamp.emitter];
    const float distance = (p.receiver.at - e.center).norm();
    const bool small = reach_of(e) < kSmallLamp * distance;
    const auto illuminance = static_cast<double>(lamp.intensity / sqr(distance));
    return small && illuminance > options_.error * kPiD * estimate(p).first;
  }

  // In place of what fewer photons told.
  void add_thrown_light(Point& p, std::uint32_t photons) const {
    p.thrown.assign(layers_ * kPartsWithHaze, 0);
    p.thrown_of_layers.assign(layers_ * kScrambledPaths, 0);
    for (std::uint32_t b = 0; b < kScrambledPaths; ++b) {
      std::vector<float> sums(layers_ * kPartsWithHaze * 3), luminance(layers_ * kPartsWithHaze);
      LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
      for (const auto& light : p.beams) {
        light->add(b, photons, sink);
      }
      p.thrown_totals[b] = sink.total();
      for (std::size_t k = 0; k < luminance.size(); ++k) {
        const auto value = static_cast<double>(luminance[k]);
        p.thrown[k] += value / kScrambledPaths;
        p.thrown_of_layers[k / kPartsWithHaze * kScrambledPaths + b] += value;
      }
    }
  }

  // As many photons as leave the whole error as small as asked.
  void refine_thrown_light(Point& p) const {
    for (std::uint32_t photons = 4 * kFewPhotons; photons <= kManyPhotons; photons *= 4) {
      if (p.beams.empty() || fine(p) || stopped()) {
        return;
      }
      add_thrown_light(p, photons);
    }
  }

  // Samples are doubled until each point is as exact as asked, or there are as many as allowed.
  void measure() {
    for (std::uint64_t end = kFirst;; end *= 2) {
      if (stopped() || !advance(end)) {
        return;
      }
      worst_ = worst_error();
      known_at_ = end;
      const bool done = std::all_of(
          points_.begin(), points_.end(), [&](const Point& p) { return fine_by_paths(p); });
      if (done || 2 * end * kScrambledPaths > options_.most_samples) {
        return;
      }
    }
  }

  bool stopped() const { return options_.stop && options_.stop(); }

  // Some samples of one scrambling at one point: sums of luminance.
  struct Batch {
    std::vector<float> sums;  // of layers and parts
    float total = 0, least = std::numeric_limits<float>::infinity(), most = 0;
  };

  // All points to `end` samples of each scrambling; those that are fine already stay as they are.
  // False where it was stopped: the points that are not through stay as they were.
  bool advance(std::uint64_t end) {
    std::vector<std::size_t> open;
    const std::uint64_t begin = end == kFirst ? 0 : end / 2;
    for (std::size_t i = 0; i < points_.size(); ++i) {
      const Point& p = points_[i];
      if (p.per_scrambling == begin && (begin == 0 || !fine_by_paths(p))) {
        open.push_back(i);
      }
    }
    // Blocks of samples, summed in order afterwards: the same bits for any number of threads. Some
    // thousands of blocks at a time bound the memory.
    constexpr std::size_t kBlocksAtOnce = 8192;
    const std::uint64_t blocks = (end - begin + kBlock - 1) / kBlock;
    const std::size_t jobs = open.size() * kScrambledPaths * blocks;
    std::vector<Batch> batches(std::min(jobs, kBlocksAtOnce));
    Point next;  // the point whose blocks are being summed
    for (std::size_t wave = 0; wave < jobs; wave += batches.size()) {
      const std::size_t count = std::min(batches.size(), jobs - wave);
      parallel_for(count, [&](std::size_t k) {
        if (!stopped()) {
          const std::size_t job = wave + k;
          batches[k] = batch_of(points_[open[job / (kScrambledPaths * blocks)]],
                                static_cast<std::uint32_t>(job / blocks % kScrambledPaths),
                                begin + job % blocks * kBlock,
                                end);
        }
      });
      if (stopped()) {
        return false;
      }
      for (std::size_t k = 0; k < count; ++k) {
        const std::size_t job = wave + k, of_point = job % (kScrambledPaths * blocks);
        Point& p = points_[open[job / (kScrambledPaths * blocks)]];
        if (of_point == 0) {
          next = p;
        }
        add(next, batches[k], of_point / blocks);
        if (of_point + 1 == kScrambledPaths * blocks) {
          next.per_scrambling = end;
          p = std::move(next);
        }
      }
      if (options_.progress) {
        tell(static_cast<double>(begin) + static_cast<double>(end - begin) *
                                              static_cast<double>(wave + count) /
                                              static_cast<double>(jobs));
      }
    }
    return true;
  }

  static constexpr std::uint64_t kBlock = 64;

  Batch batch_of(const Point& p,
                 std::uint32_t scrambling,
                 std::uint64_t from,
                 std::uint64_t end) const {
    Batch b;
    std::vector<float> sums(layers_ * kPartsWithHaze * 3), luminance(layers_ * kPartsWithHaze);
    RayCounts rays;
    for (std::uint64_t s = from; s < std::min(end, from + kBlock); ++s) {
      const Sampler sampler(
          rig_.render.seed, mix(0x6d657465U ^ p.number, scrambling), static_cast<std::uint32_t>(s));
      LightSink sink(sums.data(), luminance.data(), kPartsWithHaze);
      sample(p, sampler, sink, rays);
      b.total += sink.total();
      b.least = std::min(b.least, sink.total());
      b.most = std::max(b.most, sink.total());
    }
    b.sums.resize(layers_ * kPartsWithHaze);
    for (std::size_t k = 0; k < b.sums.size(); ++k) {
      b.sums[k] = sums[3 * k + 1];
    }
    return b;
  }

  static void add(Point& p, const Batch& b, std::size_t scrambling) {
    p.totals[scrambling] += b.total;
    p.least = std::min(p.least, static_cast<double>(b.least));
    p.most = std::max(p.most, static_cast<double>(b.most));
    for (std::size_t k = 0; k < p.sums.size(); ++k) {
      p.sums[k] += b.sums[k];
      p.of_layers[k / kPartsWithHaze * kScrambledPaths + scrambling] += b.sums[k];
    }
  }

  void sample(const Point& p, const Sampler& sampler, LightSink& sink, RayCounts& rays) const {
    const Vec3 facing = p.receiver.normal, at = p.receiver.at;
    PathOptions path;
    path.bounces = rig_.render.bounces;
    path.haze_bounces = rig_.render.haze_bounces;
    if (!p.meter->luminance) {
      path.receiver = &p.receiver;
      trace_path(scene_, Ray{at, Vec3(-facing)}, sampler, path, sink, nullptr, rays);
      return;
    }
    const Vec2 u = sampler.pair(0);
    const auto least = static_cast<float>(std::cos(p.meter->field / 2));
    const float cosine = 1 - u.x() * (1 - least),
                sine = std::sqrt(std::max(0.0f, 1 - cosine * cosine)), phi = 2 * kPi * u.y();
    const Ray ray{at,
                  Frame::around(facing)
                      .to_world({sine * std::cos(phi), sine * std::sin(phi), cosine})
                      .normalized()};
    trace_path(scene_, ray, sampler, path, sink, nullptr, rays);
  }

  // The mean of scramblings' sums of n samples each, and its standard error.
  static std::pair<double, double> mean_and_error(const double* sums, double n) {
    double mean = 0, squares = 0;
    for (std::uint32_t s = 0; s < kScrambledPaths; ++s) {
      mean += sums[s] / n / kScrambledPaths;
    }
    for (std::uint32_t s = 0; s < kScrambledPaths; ++s) {
      squares += (sums[s] / n - mean) * (sums[s] / n - mean);
    }
    return {mean, std::sqrt(squares / (kScrambledPaths - 1) / kScrambledPaths)};
  }

  // What paths bring, and its standard error, as a luminance.
  static std::pair<double, double> paths_estimate(const Point& p) {
    const auto n = static_cast<double>(p.per_scrambling);
    auto [mean, error] = mean_and_error(p.totals.data(), n);
    // Stratified counts agree exactly where the true count lies between two whole numbers: the
    // deviation of an even distribution over one sample, 1 / sqrt(12).
    constexpr double kAlike = 1e-6, kDiffer = 1e-3;
    if (error <= kAlike * mean && p.most - p.least > kDiffer * mean) {
      error = (p.most - p.least) / n / std::sqrt(12.0);
    }
    return {mean, error};
  }
  // The mean of all and its standard error.
  static std::pair<double, double> estimate(const Point& p) {
    const auto [paths, paths_error] = paths_estimate(p);
    const auto [thrown, thrown_error] = mean_and_error(p.thrown_totals.data(), 1);
    return {paths + thrown, std::hypot(paths_error, thrown_error)};
  }
  // The largest error over the value; of a meter without light nothing is known.
  double worst_error() const {
    double worst = 0;
    for (const Point& p : points_) {
      const auto [mean, error] = estimate(p);
      worst = std::max(worst, mean != 0 ? error / std::abs(mean) : 0.0);
    }
    return worst;
  }

  // Errors fall as the root of the samples: so many are needed at these points, as far as is known.
  void tell(double samples) const {
    const double ratio = worst_ > 0 ? worst_ / options_.error : 1;
    const double needed = std::clamp(static_cast<double>(known_at_) * ratio * ratio,
                                     static_cast<double>(kFirst),
                                     static_cast<double>(options_.most_samples) / kScrambledPaths);
    const double share = worst_ > 0 ? std::min(0.99, samples / needed) : 0;
    Progress p;
    p.done = (static_cast<double>(finished_) + share * static_cast<double>(points_.size())) /
             static_cast<double>(all_points_);
    p.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
    p.noise = worst_ > 0 ? worst_ : -1;
    options_.progress(p);
  }

  // Whether there are paths enough.
  bool fine_by_paths(const Point& p) const {
    const auto [paths, error] = paths_estimate(p);
    if (!(paths > 0)) {
      return p.per_scrambling >= kLeastPaths;
    }
    // Who limits the samples to fewer than that takes what they tell.
    const std::uint64_t least = std::min(kLeastPaths, options_.most_samples / kScrambledPaths);
    return p.per_scrambling >= least && error <= options_.error * estimate(p).first;
  }
  bool fine(const Point& p) const {
    const auto [mean, error] = estimate(p);
    return fine_by_paths(p) && error <= options_.error * mean;
  }

  MeterReading reading_of(const Point& p, std::size_t count) const {
    const MeterSpec& meter = *p.meter;
    const double scale = meter.luminance ? 1 : kPiD,
                 per_scrambling = static_cast<double>(p.per_scrambling),
                 n = per_scrambling * kScrambledPaths;
    const auto [mean, error] = estimate(p);
    MeterReading r;
    r.name = meter.name;
    if (count > 1) {
      const auto along = static_cast<std::uint32_t>(meter.grid->count[0]);
      const std::uint32_t k = p.number - p.first;
      r.name = fmt::format("{}[{},{}]", meter.name, k % along, k / along);
    }
    r.luminance = meter.luminance;
    r.at = p.at;
    r.value = scale * mean;
    r.standard_error = scale * error;
    r.samples = p.per_scrambling * kScrambledPaths;
    r.settled = fine(p);
    for (std::size_t l = 0; l < layers_; ++l) {
      const auto part = [&](Part which) {
        const std::size_t slot = l * kPartsWithHaze + static_cast<std::size_t>(which);
        return scale * (p.sums[slot] / n + p.thrown[slot]);
      };
      const double direct = part(Part::kDirect),
                   bounce = part(Part::kBounce) + part(Part::kCaustic), haze = part(Part::kHaze);
      r.direct += direct;
      r.bounce += bounce;
      r.haze += haze;
      const double by_paths =
                       mean_and_error(&p.of_layers[l * kScrambledPaths], per_scrambling).second,
                   by_thrown = mean_and_error(&p.thrown_of_layers[l * kScrambledPaths], 1).second;
      r.by_light.push_back({direct + bounce + haze, scale * std::hypot(by_paths, by_thrown)});
    }
    if (meter.target) {
      r.verdict = r.value >= meter.target->first && r.value <= meter.target->second
                      ? MeterReading::Verdict::kPass
                      : MeterReading::Verdict::kFail;
    }
    return r;
  }

  const Rig& rig_;
  const Scene& scene_;
  const MeteringOptions& options_;
  std::size_t layers_;
  // Lights without size, whose thrown light is added to that of paths; others, at which paths are
  // aimed.
  std::vector<ThrownRays> thrown_rays_;
  std::vector<AimedLamp> aimed_;
  std::vector<Point> points_;  // that are being measured
  std::size_t finished_ = 0, all_points_ = 0;
  std::chrono::steady_clock::time_point start_;
  double worst_ = 0;            // relative error of the noisiest point, after known_at_ samples
  std::uint64_t known_at_ = 0;  // of each scrambling
};

}  // namespace

std::vector<MeterResult> read_meters(const Rig& rig,
                                     const Scene& scene,
                                     const MeteringOptions& options) {
  return Metering(rig, scene, options).run();
}

std::vector<std::string> lights_lost_in_mirrors(const Rig& rig, const Scene& scene) {
  std::vector<std::string> out;
  for (std::size_t l = 0; has_mirrors(scene) && l < rig.lights.size(); ++l) {
    if (rig.lights[l].on && rig.lights[l].dimmer > 0 && scene.emitters[l].is_zero_size()) {
      out.push_back(rig.lights[l].name);
    }
  }
  return out;
}

}  // namespace jovilux
