#include "jovilux/judge/light_ways.h"

#include "jovilux/base/parallel.h"
#include "jovilux/judge/metering.h"
#include "jovilux/transport/path.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <unordered_map>

namespace jovilux {
namespace {

constexpr std::uint32_t kScrambled = 64;  // independent ones, whose scatter is the error
constexpr std::size_t kWholeSteps = 3;    // ways of more steps are told by some of them

// A way as numbers: its light, then its steps from the eye to the light.
using Key = std::vector<std::uint32_t>;
struct KeyHash {
  std::size_t operator()(const Key& key) const {
    std::uint64_t h = 1469598103934665603ULL;  // FNV-1a
    for (const std::uint32_t k : key) {
      h = (h ^ k) * 1099511628211ULL;
    }
    return h;
  }
};

// What one scrambling's paths brought by one way.
struct WaySum {
  double luminance = 0, length = 0;  // the length weighed by luminance
  float brightest = 0;
  std::vector<Vec3d> path;  // of the brightest contribution, from the eye to the light
};
using WaySums = std::unordered_map<Key, WaySum, KeyHash>;

// Over all scramblings.
struct WayTotal {
  double sum = 0, squares = 0, length = 0;
  float brightest = 0;
  std::vector<Vec3d> path;
};

// Names of objects and lights by number; an array's copies share one.
class Names {
 public:
  Names(const Rig& rig, const Scene& scene) : rig_(rig), scene_(scene) {
    for (const ObjectSpec& o : rig.objects) {
      of_object_.push_back(number(o.array.empty() ? o.name : o.array));
    }
    std::vector<std::string> hazes;
    for (const HazeSpec& h : rig.hazes) {
      if (h.extinction > 0) {
        hazes.push_back(h.name);
      }
    }
    haze_ = number(hazes.size() == 1 ? hazes[0] : "haze");
  }

  std::uint32_t number(const std::string& name) {
    const auto found = std::find(names_.begin(), names_.end(), name);
    if (found != names_.end()) {
      return static_cast<std::uint32_t>(found - names_.begin());
    }
    names_.push_back(name);
    return static_cast<std::uint32_t>(names_.size() - 1);
  }
  const std::string& name(std::uint32_t number) const { return names_[number]; }
  std::uint32_t haze() const { return haze_; }
  std::uint32_t of_surface(std::uint32_t surface) const {
    const std::uint32_t object = scene_.surfaces[surface].object;
    return object != kNoIndex ? of_object_[object] : haze_;
  }
  std::string of_body(std::uint32_t surface) const {
    const Scene::Surface& s = scene_.surfaces[surface];
    return s.object != kNoIndex    ? name(of_object_[s.object])
           : s.emitter != kNoIndex ? rig_.lights[s.emitter].layer
                                   : std::string();
  }

 private:
  const Rig& rig_;
  const Scene& scene_;
  std::vector<std::string> names_;
  std::vector<std::uint32_t> of_object_;
  std::uint32_t haze_ = 0;
};

class WayTracer {
 public:
  WayTracer(const Rig& rig, const Scene& scene, const PixelBox& box, const WayOptions& options)
      : rig_(rig),
        scene_(scene),
        box_(box),
        options_(options),
        camera_(rig.cameras[static_cast<std::size_t>(options.camera)],
                rig.up,
                rig.render.width,
                rig.render.height),
        names_(rig, scene) {}

  WayReport run() {
    WayReport out;
    out.box = box_;
    out.eye = rig_.cameras[static_cast<std::size_t>(options_.camera)].at;
    with_threads(options_.threads, [&] {
      trace(out);
      look(out);
    });
    out.lost = lights_lost_in_mirrors(rig_, scene_);
    return out;
  }

 private:
  Ray ray_of(const Sampler& sampler) const {
    // A pixel of the box, evenly, and a place in its filter: what the pixels of the picture show.
    const Vec2 film = sampler.pair(0);
    const float across = film.x() * static_cast<float>(box_.width),
                down = film.y() * static_cast<float>(box_.height);
    const int x = std::min(static_cast<int>(across), box_.width - 1),
              y = std::min(static_cast<int>(down), box_.height - 1);
    const Vec2 place(across - static_cast<float>(x), down - static_cast<float>(y));
    return camera_.pixel_ray(
        box_.x + x, box_.y + y, Camera::offset_in_pixel(place), sampler.pair(1));
  }

  // ---- ways ----

  void trace(WayReport& out) {
    const std::uint64_t each = std::max<std::uint64_t>(1, options_.samples / kScrambled);
    std::vector<WaySums> sums(kScrambled);
    std::vector<std::uint64_t> taken(kScrambled);
    parallel_for(kScrambled, [&](std::size_t scrambling) {
      WayRecorder recorder;
      const std::size_t layers = scene_.layers.size();
      std::vector<float> sums_xyz(layers * 3), luminance(layers);
      PathOptions path;
      path.bounces = rig_.render.bounces;
      path.haze_bounces = rig_.render.haze_bounces;
      path.ways = &recorder;
      RayCounts rays;
      constexpr std::uint64_t kAsk = 256;  // samples between two looks at the clock
      for (std::uint64_t s = 0; s < each; ++s) {
        if (s % kAsk == 0 && options_.stop && options_.stop()) {
          break;
        }
        const Sampler sampler(rig_.render.seed,
                              mix(0x77617973U, static_cast<std::uint32_t>(scrambling)),
                              static_cast<std::uint32_t>(s));
        const Ray ray = ray_of(sampler);
        LightSink sink(sums_xyz.data(), luminance.data(), 1);
        recorder.clear();
        trace_path(scene_, ray, sampler, path, sink, nullptr, rays);
        for (const WayRecorder::Contribution& c : recorder.contributions) {
          add(sums[scrambling], ray.origin, c);
        }
        ++taken[scrambling];
      }
    });
    out.samples = 0;
    for (const std::uint64_t n : taken) {
      out.samples += n;
      out.interrupted = out.interrupted || n < each;
    }
    rank(sums, taken, out);
  }

  std::uint32_t light_of(const WayRecorder::Contribution& c) const {
    return c.emitter != kNoIndex ? c.emitter
                                 : static_cast<std::uint32_t>(rig_.lights.size()) + c.layer;
  }
  std::string light_name(std::uint32_t light) const {
    return light < rig_.lights.size() ? rig_.lights[light].layer
                                      : scene_.layers[light - rig_.lights.size()];
  }

  static WayStep kind_of(const WayVertex& v, const Vec3& to_eye, const Vec3& to_light) {
    if (v.surface == kNoIndex) {
      return WayStep::kScattered;
    }
    const bool one_side = (to_eye - v.at).dot(v.normal) * (to_light - v.at).dot(v.normal) >= 0;
    return !one_side ? WayStep::kThrough : v.mirror ? WayStep::kMirrored : WayStep::kReflected;
  }

  void add(WaySums& sums, const Vec3& eye, const WayRecorder::Contribution& c) const {
    if (!(c.luminance > 0)) {
      return;
    }
    std::vector<const WayVertex*> chain;  // from the eye
    for (const WayVertex* v = c.last; v != nullptr; v = v->before) {
      chain.push_back(v);
    }
    std::reverse(chain.begin(), chain.end());
    Key key = {first_of_layer(light_of(c))};
    double length = 0;
    const bool distant = c.emitter != kNoIndex && scene_.emitters[c.emitter].is_distant();
    for (std::size_t i = 0; i < chain.size(); ++i) {
      const WayVertex& v = *chain[i];
      const Vec3 before = i == 0 ? eye : chain[i - 1]->at,
                 after = i + 1 == chain.size() ? c.end : chain[i + 1]->at;
      length += static_cast<double>((v.at - before).norm());
      const std::uint32_t name =
          v.surface == kNoIndex ? names_.haze() : names_.of_surface(v.surface);
      key.push_back(name * 4 + static_cast<std::uint32_t>(kind_of(v, before, after)));
    }
    const Vec3 last = chain.empty() ? eye : chain.back()->at;
    length += distant ? 0 : static_cast<double>((c.end - last).norm());
    if (chain.size() > kWholeSteps) {  // two steps before the eye, the one at the light
      key = {key[0], key[1], key[2], kSomeMore, key.back()};
    }
    WaySum& sum = sums[key];
    sum.luminance += c.luminance;
    sum.length += c.luminance * length;
    if (c.luminance > sum.brightest) {
      sum.brightest = c.luminance;
      sum.path = {eye.cast<double>()};
      for (const WayVertex* v : chain) {
        sum.path.emplace_back(v->at.cast<double>());
      }
      sum.path.emplace_back(c.end.cast<double>());
    }
  }

  // The first light of the same layer: an array's copies are one.
  std::uint32_t first_of_layer(std::uint32_t light) const {
    for (std::uint32_t i = 0; i < light && i < rig_.lights.size(); ++i) {
      if (light < rig_.lights.size() && rig_.lights[i].layer == rig_.lights[light].layer) {
        return i;
      }
    }
    return light;
  }

  void rank(const std::vector<WaySums>& sums,
            const std::vector<std::uint64_t>& taken,
            WayReport& out) const {
    std::map<Key, WayTotal> totals;  // in the keys' order: the same for any number of threads
    double all = 0, all_squares = 0, count = 0;
    for (std::size_t k = 0; k < sums.size(); ++k) {
      if (taken[k] == 0) {
        continue;
      }
      ++count;
      double mean = 0;
      for (const auto& [key, sum] : std::map<Key, WaySum>(sums[k].begin(), sums[k].end())) {
        const double own = sum.luminance / static_cast<double>(taken[k]);
        WayTotal& total = totals[key];
        total.sum += own;
        total.squares += own * own;
        total.length += sum.length / static_cast<double>(taken[k]);
        if (sum.brightest > total.brightest) {
          total.brightest = sum.brightest;
          total.path = sum.path;
        }
        mean += own;
      }
      all += mean;
      all_squares += mean * mean;
    }
    const auto error_of = [count](double sum, double squares) {
      return count > 1 ? std::sqrt(std::max(0.0, squares - sum * sum / count) / (count - 1) / count)
                       : 0.0;
    };
    out.luminance = count > 0 ? all / count : 0;
    out.standard_error = error_of(all, all_squares);
    double variances = 0;
    for (auto& [key, total] : totals) {
      LightWay way = way_of(key);
      way.luminance = total.sum / count;
      way.standard_error = error_of(total.sum, total.squares);
      way.share = out.luminance > 0 ? way.luminance / out.luminance : 0;
      way.length = total.sum > 0 ? total.length / total.sum : 0;
      way.path.assign(total.path.rbegin(), total.path.rend());
      variances += way.standard_error * way.standard_error;
      out.ways.push_back(std::move(way));
    }
    for (LightWay& way : out.ways) {
      way.noise_share = variances > 0 ? way.standard_error * way.standard_error / variances : 0;
    }
    std::stable_sort(out.ways.begin(), out.ways.end(), [](const LightWay& a, const LightWay& b) {
      return a.luminance > b.luminance;
    });
  }

  LightWay way_of(const Key& key) const {
    LightWay out;
    out.light = light_name(key[0]);
    for (std::size_t i = key.size() - 1; i > 0; --i) {
      if (key[i] == kSomeMore) {
        out.more_steps = 1;
      } else {
        out.steps.push_back({names_.name(key[i] / 4), static_cast<WayStep>(key[i] % 4)});
      }
    }
    return out;
  }

  // ---- what is seen, and what stands before it ----

  // The first surface that is no pane; nothing where the ray leaves the scene.
  std::optional<std::pair<SurfacePoint, float>> first_surface(Ray ray) const {
    constexpr int kMostPanes = 16;
    float way = 0;
    for (int i = 0; i < kMostPanes; ++i) {
      const Hit hit = scene_.world.closest(ray);
      if (!hit.found()) {
        return std::nullopt;
      }
      const SurfacePoint p = scene_.world.point(ray, hit);
      way += hit.t;
      const std::uint32_t material = scene_.surfaces[p.surface].material;
      if (material == kNoIndex || !scene_.materials[material].is_pane()) {
        return std::pair(p, way);
      }
      ray.origin = World::leave(p, ray.direction);
    }
    return std::nullopt;
  }

  void look(WayReport& out) const {
    constexpr std::uint32_t kLooks = 128;
    struct Seen {
      int count = 0;
      Vec3d at = Vec3d::Zero(), normal = Vec3d::Zero();
      double distance = 0;
    };
    std::map<std::string, Seen> seen;
    std::vector<Tally> tallies(rig_.lights.size());
    for (std::uint32_t k = 0; k < kLooks; ++k) {
      const Sampler sampler(rig_.render.seed, 0x6c6f6f6bU, k);
      const Ray ray = ray_of(sampler);
      const auto first = first_surface(ray);
      if (!first) {
        continue;
      }
      const auto& [p, distance] = *first;
      const Vec3 normal = p.normal.dot(ray.direction) <= 0 ? p.normal : Vec3(-p.normal);
      Seen& s = seen[names_.of_body(p.surface)];
      ++s.count;
      s.at += p.position.cast<double>();
      s.normal += normal.cast<double>();
      s.distance += static_cast<double>(distance);
      const Scene::Surface& surface = scene_.surfaces[p.surface];
      const bool both_sides =
          surface.material != kNoIndex && scene_.materials[surface.material].scatters_through();
      for (std::size_t l = 0; l < rig_.lights.size(); ++l) {
        ask(l, p, normal, both_sides, surface.links, sampler.pair(2), tallies[l]);
      }
    }
    int most = 0;
    for (const auto& [name, s] : seen) {
      if (s.count > most) {
        most = s.count;
        out.seen = name;
        out.place = s.at / s.count;
        out.normal = s.normal.normalized();
        out.distance = s.distance / s.count;
      }
    }
    if (most > 0) {
      tell_arrivals(tallies, out);
    }
  }

  struct Blocker {
    int count = 0;
    Vec3d at = Vec3d::Zero();
  };
  struct Tally {
    int asked = 0, off = 0, unlinked = 0, behind = 0, free = 0, blocked = 0;
    int away = 0, aside = 0, masked = 0, beyond = 0;  // sends nothing there, and why
    double passes = 0;                                // haze, of those that are free
    double distance = 0, range = 0;                   // of the last one beyond
    std::map<std::string, Blocker> blockers;

    int dark() const { return away + aside + masked + beyond; }

    void operator+=(const Tally& o) {
      asked += o.asked;
      off += o.off;
      unlinked += o.unlinked;
      behind += o.behind;
      away += o.away;
      aside += o.aside;
      masked += o.masked;
      beyond += o.beyond;
      passes += o.passes;
      if (o.beyond > 0) {
        distance = o.distance;
        range = o.range;
      }
      free += o.free;
      blocked += o.blocked;
      for (const auto& [name, b] : o.blockers) {
        blockers[name].count += b.count;
        blockers[name].at += b.at;
      }
    }
  };

  // One place on a light, asked from a place that the pixel shows.
  void ask(std::size_t index,
           const SurfacePoint& p,
           const Vec3& normal,
           bool both_sides,
           std::uint64_t links,
           const Vec2& u,
           Tally& tally) const {
    const Emitter& e = scene_.emitters[index];
    ++tally.asked;
    if (!e.shines()) {
      ++tally.off;
      return;
    }
    if (!may_reach(e, p.position, links)) {
      ++tally.unlinked;
      return;
    }
    const LightSample sample = sample_toward(e, p.position, u, both_sides ? nullptr : &normal);
    if (!both_sides && sample.distance > 0 && sample.wi.dot(normal) <= 0) {
      ++tally.behind;
      return;
    }
    if (!(sample.weight > 0)) {
      tell_dark(e, p.position, u, both_sides ? nullptr : &normal, tally);
      return;
    }
    Ray shadow{World::leave(p, sample.wi), sample.wi};
    const std::uint32_t body = e.is_distant() ? kNoIndex : scene_.emitter_surface[index];
    shadow.t_max = e.is_distant() ? shadow.t_max : sample.distance * (1 - 1e-4f) - p.offset;
    RayCounts rays;
    if ((passage(scene_, ShadowRule::of(scene_, e), shadow, body, rays) > 0.0f).any()) {
      ++tally.free;
      Rng random(static_cast<std::uint64_t>(tally.asked));
      tally.passes += static_cast<double>(haze_passes(scene_, shadow, shadow.t_max, random));
      return;
    }
    ++tally.blocked;
    if (const auto first = first_blocker(e, shadow, body)) {
      Blocker& b = tally.blockers[names_.of_body(first->surface)];
      ++b.count;
      b.at += first->position.cast<double>();
    }
  }

  // Why a light that could reach a place sends nothing there.
  static void tell_dark(
      const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side, Tally& tally) {
    const float distance = e.is_distant() ? 0 : (e.center - p).norm();
    if (e.falloff.has_range && !e.is_distant() && !(falloff_at(e, p) > 0)) {
      ++tally.beyond;
      tally.distance = static_cast<double>(distance);
      tally.range = static_cast<double>(e.falloff.range_end);
      return;
    }
    const bool has_axis =
        e.kind == LightKind::kSpot || e.kind == LightKind::kDisk || e.kind == LightKind::kRect;
    if (has_axis && !e.two_sided && (p - e.center).dot(e.frame.z) < 0) {
      ++tally.away;
      return;
    }
    if (e.detail != nullptr && e.detail->gobo) {
      Emitter bare = e;
      auto detail = std::make_shared<EmitterDetail>(*e.detail);
      detail->gobo.reset();
      bare.detail = std::move(detail);
      if (sample_toward(bare, p, u, side).weight > 0) {
        ++tally.masked;
        return;
      }
    }
    // A lamp without a beam sends nothing only where all of it lies below the surface's horizon.
    const bool has_beam =
        has_axis || (e.detail != nullptr && (e.detail->profile || e.detail->doors));
    ++(has_beam ? tally.aside : tally.behind);
  }

  // The first surface on a shadow ray that is no pane, not the light itself and throws its shadows.
  std::optional<SurfacePoint> first_blocker(const Emitter& e, Ray ray, std::uint32_t body) const {
    constexpr int kMostPassed = 16;
    const std::vector<bool>* casters = e.casters != kNoIndex ? &scene_.casters[e.casters] : nullptr;
    for (int i = 0; i < kMostPassed; ++i) {
      const Hit hit = scene_.world.closest(ray);
      if (!hit.found()) {
        return std::nullopt;
      }
      const SurfacePoint p = scene_.world.point(ray, hit);
      const std::uint32_t material = scene_.surfaces[p.surface].material;
      const bool pane = material != kNoIndex && scene_.materials[material].is_pane();
      if (!pane && p.surface != body && (casters == nullptr || (*casters)[p.surface])) {
        return p;
      }
      ray.t_max -= hit.t;
      ray.origin = World::leave(p, ray.direction);
    }
    return std::nullopt;
  }

  void tell_arrivals(const std::vector<Tally>& tallies, WayReport& out) const {
    std::vector<std::string> order;
    std::map<std::string, Tally> of_layer;
    for (std::size_t l = 0; l < tallies.size(); ++l) {
      const std::string& layer = rig_.lights[l].layer;
      if (of_layer.find(layer) == of_layer.end()) {
        order.push_back(layer);
      }
      of_layer[layer] += tallies[l];
    }
    using Why = LightArrival::Why;
    for (const std::string& layer : order) {
      const Tally& t = of_layer[layer];
      LightArrival a;
      a.light = layer;
      a.blocked = t.blocked + t.free > 0
                      ? static_cast<double>(t.blocked) / static_cast<double>(t.blocked + t.free)
                      : 0;
      a.haze_takes = t.free > 0 ? 1 - t.passes / t.free : 0;
      a.distance = t.distance;
      a.range = t.range;
      const int most_away = std::max({t.away, t.aside, t.masked, t.beyond});
      a.why = t.free > 0                                        ? Why::kArrives
              : t.blocked > 0                                   ? Why::kBlocked
              : t.unlinked >= std::max({t.behind, t.dark(), 1}) ? Why::kNotLinked
              : t.behind >= std::max(t.dark(), 1)               ? Why::kBehind
              : t.dark() == 0                                   ? Why::kOff
              : t.beyond == most_away                           ? Why::kBeyondRange
              : t.masked == most_away                           ? Why::kInGobosDark
              : t.away == most_away                             ? Why::kFacesAway
                                                                : Why::kOutsideBeam;
      int most = 0;
      for (const auto& [name, b] : t.blockers) {
        if (b.count > most) {
          most = b.count;
          a.blocker = name;
          a.at = b.at / b.count;
        }
      }
      out.arrivals.push_back(std::move(a));
    }
  }

  static constexpr std::uint32_t kSomeMore = 0xffffffffU;

  const Rig& rig_;
  const Scene& scene_;
  PixelBox box_;
  const WayOptions& options_;
  Camera camera_;
  Names names_;
};

}  // namespace

const char* words(WayStep step) {
  static constexpr const char* kWords[] = {
      "reflected by", "mirrored by", "through", "scattered in"};
  return kWords[static_cast<std::size_t>(step)];
}

WayReport light_ways(const Rig& rig,
                     const Scene& scene,
                     const PixelBox& box,
                     const WayOptions& options) {
  return WayTracer(rig, scene, box, options).run();
}

}  // namespace jovilux
