#include "jovilux/judge/metering.h"

#include "jovilux/base/parallel.h"
#include "jovilux/render/path.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <chrono>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::uint32_t kScrambled = 16;  // independent ones, whose scatter is the error
constexpr std::uint64_t kFirst = 64;      // samples of each, doubled from there

struct Point {
  const MeterSpec* meter;
  std::uint32_t number;  // of all points, which seeds it
  Vec3d at;
  std::vector<double> sums;  // of layers and parts
  std::array<double, kScrambled> totals{};
  std::uint64_t per_scrambling = 0;
};

class Metering {
 public:
  Metering(const Rig& rig, const Scene& scene, const MeteringOptions& options)
      : rig_(rig), scene_(scene), options_(options), layers_(scene.layers.size()) {}

  std::vector<MeterResult> run() {
    for (const MeterSpec& m : rig_.meters) {
      for (const Vec3d& at : m.points()) {
        points_.push_back({&m,
                           static_cast<std::uint32_t>(points_.size()),
                           at,
                           std::vector<double>(layers_ * kPartsWithHaze),
                           {},
                           0});
      }
    }
    start_ = std::chrono::steady_clock::now();
    with_threads(options_.threads, [&] {
      for (std::uint64_t end = kFirst; !points_.empty(); end *= 2) {
        advance(end);
        worst_ = worst_error();
        known_at_ = end;
        const bool done =
            std::all_of(points_.begin(), points_.end(), [&](const Point& p) { return fine(p); });
        if (done || 2 * end * kScrambled > options_.most_samples ||
            (options_.stop && options_.stop())) {
          break;
        }
      }
    });
    return results();
  }

 private:
  struct Batch {
    std::vector<float> sums;
    float total = 0;
  };

  // All points to `end` samples of each scrambling; those that are fine already stay as they are.
  void advance(std::uint64_t end) {
    std::vector<std::size_t> open;
    for (std::size_t i = 0; i < points_.size(); ++i) {
      if (points_[i].per_scrambling == 0 || !fine(points_[i])) {
        open.push_back(i);
      }
    }
    // Blocks of samples, summed in order afterwards: the same bits for any number of threads.
    constexpr std::uint64_t kBlock = 64;
    const std::uint64_t begin = end == kFirst ? 0 : end / 2,
                        blocks = (end - begin + kBlock - 1) / kBlock;
    std::vector<Batch> batches(open.size() * kScrambled * blocks);
    std::atomic<std::size_t> finished{0};
    const std::size_t told_each = std::max<std::size_t>(1, batches.size() / 64);
    parallel_for(batches.size(), [&](std::size_t job) {
      const Point& p = points_[open[job / (kScrambled * blocks)]];
      const auto scrambling = static_cast<std::uint32_t>(job / blocks % kScrambled);
      Batch& b = batches[job];
      b.sums.assign(layers_ * kPartsWithHaze * 3, 0.0f);
      std::vector<float> luminance(layers_ * kPartsWithHaze);
      RayCounts rays;
      const std::uint64_t from = begin + job % blocks * kBlock;
      for (std::uint64_t s = from; s < std::min(end, from + kBlock); ++s) {
        const Sampler sampler(rig_.render.seed,
                              mix(0x6d657465U ^ p.number, scrambling),
                              static_cast<std::uint32_t>(s));
        LightSink sink(b.sums.data(), luminance.data(), kPartsWithHaze);
        sample(p, sampler, sink, rays);
        b.total += sink.total();
      }
      if (const std::size_t n = ++finished; options_.progress && n % told_each == 0) {
        tell(static_cast<double>(begin) + static_cast<double>(end - begin) *
                                              static_cast<double>(n) /
                                              static_cast<double>(batches.size()));
      }
    });
    for (std::size_t job = 0; job < batches.size(); ++job) {
      Point& p = points_[open[job / (kScrambled * blocks)]];
      const Batch& b = batches[job];
      p.totals[job / blocks % kScrambled] += b.total;
      for (std::size_t k = 0; k < p.sums.size(); ++k) {
        p.sums[k] += b.sums[3 * k + 1];
      }
    }
    for (const std::size_t i : open) {
      points_[i].per_scrambling = end;
    }
  }

  void sample(const Point& p, const Sampler& sampler, LightSink& sink, RayCounts& rays) const {
    const Vec3 facing = p.meter->facing.cast<float>(), at = p.at.cast<float>();
    PathOptions path;
    path.bounces = rig_.render.bounces;
    path.haze_bounces = rig_.render.haze_bounces;
    if (!p.meter->luminance) {
      const Receiver receiver{at, facing};
      PathOptions lit = path;
      lit.receiver = &receiver;
      trace_path(scene_, Ray{at, Vec3(-facing)}, sampler, lit, sink, nullptr, rays);
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

  // The mean and its standard error, as a luminance.
  static std::pair<double, double> estimate(const Point& p) {
    const auto n = static_cast<double>(p.per_scrambling);
    double mean = 0, squares = 0;
    for (const double t : p.totals) {
      mean += t / n / kScrambled;
    }
    for (const double t : p.totals) {
      squares += (t / n - mean) * (t / n - mean);
    }
    return {mean, std::sqrt(squares / (kScrambled - 1) / kScrambled)};
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

  // Errors fall as the root of the samples: so many are needed in all, as far as is known.
  void tell(double samples) const {
    const double ratio = worst_ > 0 ? worst_ / options_.error : 1;
    const double needed = std::clamp(static_cast<double>(known_at_) * ratio * ratio,
                                     static_cast<double>(kFirst),
                                     static_cast<double>(options_.most_samples) / kScrambled);
    Progress p;
    p.done = worst_ > 0 ? std::min(0.99, samples / needed) : 0;
    p.seconds = std::chrono::duration<double>(std::chrono::steady_clock::now() - start_).count();
    p.noise = worst_ > 0 ? worst_ : -1;
    options_.progress(p);
  }

  bool fine(const Point& p) const {
    const auto [mean, error] = estimate(p);
    return error <= options_.error * std::abs(mean);
  }

  std::vector<MeterResult> results() const {
    std::vector<MeterResult> out;
    std::size_t next = 0;
    for (std::size_t m = 0; m < rig_.meters.size(); ++m) {
      const MeterSpec& meter = rig_.meters[m];
      MeterResult result;
      result.meter = m;
      const std::size_t count = meter.points().size();
      for (std::size_t k = 0; k < count; ++k, ++next) {
        const Point& p = points_[next];
        const double scale = meter.luminance ? 1 : kPiD,
                     n = static_cast<double>(p.per_scrambling) * kScrambled;
        const auto [mean, error] = estimate(p);
        MeterReading r;
        r.name = count == 1 ? meter.name
                            : fmt::format("{}[{},{}]",
                                          meter.name,
                                          k % static_cast<std::size_t>(meter.grid->count[0]),
                                          k / static_cast<std::size_t>(meter.grid->count[0]));
        r.luminance = meter.luminance;
        r.at = p.at;
        r.value = scale * mean;
        r.standard_error = scale * error;
        r.samples = p.per_scrambling * kScrambled;
        for (std::size_t l = 0; l < layers_; ++l) {
          const auto part = [&](Part which) {
            return scale * p.sums[l * kPartsWithHaze + static_cast<std::size_t>(which)] / n;
          };
          const double direct = part(Part::kDirect),
                       bounce = part(Part::kBounce) + part(Part::kCaustic),
                       haze = part(Part::kHaze);
          r.direct += direct;
          r.bounce += bounce;
          r.haze += haze;
          r.by_light.emplace_back(scene_.layers[l], direct + bounce + haze);
        }
        if (meter.target) {
          r.verdict = r.value >= meter.target->first && r.value <= meter.target->second
                          ? MeterReading::Verdict::kPass
                          : MeterReading::Verdict::kFail;
        }
        result.average += r.value / static_cast<double>(count);
        result.minimum = result.readings.empty() ? r.value : std::min(result.minimum, r.value);
        result.readings.push_back(std::move(r));
      }
      out.push_back(std::move(result));
    }
    return out;
  }

  const Rig& rig_;
  const Scene& scene_;
  const MeteringOptions& options_;
  std::size_t layers_;
  std::vector<Point> points_;
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

}  // namespace jovilux
