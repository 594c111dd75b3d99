#include "bench/sampling.h"

#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"
#include "jovilux/base/statistics.h"
#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/emitters/light_clusters.h"
#include "jovilux/files/json.h"
#include "jovilux/render/renderer.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <filesystem>
#include <functional>
#include <vector>

#include "bench/loaded_rig.h"
#include <fmt/format.h>

namespace jovilux {
namespace {

using Clock = std::chrono::steady_clock;

// Mean, variance of one sample, and time of one sample.
struct Measured {
  double mean = 0, variance = 0, ns = 0;
};

Measured measure(int samples, const std::function<double(const Vec2&, float)>& estimate) {
  Rng rng(17);
  RunningMoments m;
  std::vector<Vec2> u;
  std::vector<float> more;
  for (int i = 0; i < samples; ++i) {
    u.emplace_back(static_cast<float>(rng.uniform(0, 1)), static_cast<float>(rng.uniform(0, 1)));
    more.push_back(static_cast<float>(rng.uniform(0, 1)));
  }
  for (int i = 0; i < samples; ++i) {
    m.add(estimate(u[static_cast<std::size_t>(i)], more[static_cast<std::size_t>(i)]));
  }
  double best = 1e30;
  volatile double kept = 0;  // so that nothing is left out
  for (int run = 0; run < 3; ++run) {
    double sum = 0;
    const auto start = Clock::now();
    for (int i = 0; i < samples; ++i) {
      sum += estimate(u[static_cast<std::size_t>(i)], more[static_cast<std::size_t>(i)]);
    }
    best = std::min(best, std::chrono::duration<double, std::nano>(Clock::now() - start).count());
    kept = kept + sum;
  }
  return {m.mean(), sqr(m.standard_error()) * samples, best / samples};
}

Emitter emitter_of(const std::string& light) {
  auto document = parse_toml("jovilux = 1\n[[light]]\nname = \"l\"\n" + light, "bench");
  auto rig = read_rig(std::move(*document), "bench");
  const auto scene = prepare_scene(*rig);
  return scene->emitters.at(0);
}

// A point spread evenly over a light's surface, with its area.
struct EvenPoint {
  Vec3 at, normal;
  double area = 0;
};
EvenPoint even_point(const Emitter& e, const Vec2& u) {
  if (e.kind == LightKind::kSphere) {
    const float z = 1 - 2 * u.x(), r = std::sqrt(std::max(0.0f, 1 - z * z)), phi = 2 * kPi * u.y();
    const Vec3 n(r * std::cos(phi), r * std::sin(phi), z);
    return {e.center + e.radius * n, n, 4 * kPiD * sqr(static_cast<double>(e.radius))};
  }
  if (e.kind == LightKind::kDisk) {
    const float r = e.radius * std::sqrt(u.x()), phi = 2 * kPi * u.y();
    return {e.center + e.frame.to_world(Vec3(r * std::cos(phi), r * std::sin(phi), 0)),
            e.frame.z,
            e.area()};
  }
  if (e.kind == LightKind::kTube) {
    const float phi = 2 * kPi * u.y();
    const Vec3 n = e.frame.to_world(Vec3(0, std::cos(phi), std::sin(phi)));
    return {e.center + e.frame.to_world(Vec3((2 * u.x() - 1) * e.half_width, 0, 0)) + e.radius * n,
            n,
            4 * kPiD * static_cast<double>(e.radius) * e.half_width};
  }
  return {e.center + e.frame.to_world(
                         Vec3((2 * u.x() - 1) * e.half_width, (2 * u.y() - 1) * e.half_height, 0)),
          e.frame.z,
          e.area()};
}

void table_line(const std::string& text) { std::fputs((text + "\n").c_str(), stderr); }

// A light above the origin, and the illuminance that it brings there.
struct LitPlace {
  const char *name, *light;
  double exact;  // [lx], on the side of n; 0: no closed form
  Vec3 n = Vec3::UnitZ();
};

std::vector<LitPlace> lit_places() {
  const double k1 = 1 / (4 * kPiD);
  return {
      {"sphere, far", "kind='sphere'\nradius=0.1\nat=[0,0,2]\noutput='1000 lm'\n", 1000 * k1 / 4},
      {"sphere, near",
       "kind='sphere'\nradius=0.1\nat=[0,0,0.15]\noutput='1000 lm'\n",
       1000 * k1 / sqr(0.15)},
      {"disk, far",
       "kind='disk'\nradius=0.2\nat=[0,0,2]\naim=[0,0,0]\noutput='5000 cd/m2'\n",
       kPiD * 5000 * 0.04 / (0.04 + 4)},
      {"disk, near",
       "kind='disk'\nradius=0.5\nat=[0,0,0.1]\naim=[0,0,0]\noutput='5000 cd/m2'\n",
       kPiD * 5000 * 0.25 / (0.25 + 0.01)},
      // From its middle: four times a corner's (Lambert).
      {"rectangle, near",
       "kind='rect'\nsize=[1,1]\nat=[0,0,0.3]\naim=[0,0,0]\noutput='5000 cd/m2'\n",
       4 * 5000 / 2.0 * 2 * (0.5 / std::hypot(0.5, 0.3)) * std::atan(0.5 / std::hypot(0.5, 0.3))},
      {"tube, near",
       "kind='tube'\nradius=0.013\nfrom=[-0.6,0,0.2]\nto=[0.6,0,0.2]\noutput='3350 lm'\n",
       0},
      {"sky, uniform", "kind='sky'\nmodel='uniform'\noutput='5000 lx'\n", 5000},
      {"sky, on a wall", "kind='sky'\nmodel='uniform'\noutput='5000 lx'\n", 2500, Vec3::UnitX()},
      {"CIE sky 3, on a wall", "kind='sky'\ncie=3\noutput='5000 lx'\n", 0, Vec3::UnitX()},
      {"rectangle, masked",
       "kind='rect'\nsize=[0.5,0.5]\nat=[0,0,2]\naim=[0,0,0]\noutput='5000 "
       "cd/m2'\ngobo={pattern='dots', count=12, open=0.3, size=['1 m','1 m'], at='1 m'}\n",
       0},
      {"disk, masked",
       "kind='disk'\nradius=0.3\nat=[0,0,2]\naim=[0,0,0]\noutput='5000 "
       "cd/m2'\ngobo={pattern='leaves', count=8, open=0.25, size=['1 m','1 m'], at='1 m', "
       "rotate=20}\n",
       0},
      {"sun, masked",
       "kind='sun'\ntoward=[0.3,0,-1]\noutput='50000 lx'\ngobo={pattern='slats', count=16, "
       "open=0.3, size=['10 cm','10 cm'], at='3 m'}\n",
       0},
  };
}

// The light sampled as paths do.
Measured measure_sampling(const Emitter& e, const Vec3& n, int samples) {
  const Vec3 p = Vec3::Zero();
  return measure(samples, [&](const Vec2& u, float) {
    const LightSample s = sample_toward(e, p, u, &n);
    return s.weight > 0
               ? static_cast<double>(s.weight * luminance_of(s.rgb)) * std::max(0.0f, s.wi.dot(n))
               : 0.0;
  });
}

// The same by points that are spread evenly over its area, its disc or the half of all directions.
Measured measure_evenly(const Emitter& e, const Vec3& n, int samples) {
  const Vec3 p = Vec3::Zero();
  const auto passes = [&](const Vec3& place, const Vec3& wi) {
    const LightTint t = tint_between(e, p, place, wi);
    return static_cast<double>(t.gray * luminance_of(t.rgb));
  };
  const auto in_disc = [&](const Vec2& u) {
    const float z = 1 - u.x() * (1 - std::sqrt(1 - e.sin2_disc)), r = std::sqrt(1 - z * z),
                phi = 2 * kPi * u.y();
    const Vec3 wi = Frame::around(-e.frame.z).to_world({r * std::cos(phi), r * std::sin(phi), z});
    return static_cast<double>(e.luminance) * std::max(0.0f, wi.dot(n)) * 2 * kPiD *
           (1 - std::sqrt(1 - static_cast<double>(e.sin2_disc))) * passes(p, wi);
  };
  const auto over_directions = [&](const Vec2& u) {
    const float z = u.x(), r = std::sqrt(1 - z * z), phi = 2 * kPi * u.y();
    const Vec3 wi = Frame::around(n).to_world({r * std::cos(phi), r * std::sin(phi), z});
    return covers(e, wi) ? static_cast<double>(seen_luminance(e, wi, {p, Vec3(-wi)})) * z * 2 * kPiD
                         : 0.0;
  };
  const auto over_area = [&](const Vec2& u) {
    const EvenPoint s = even_point(e, u);
    const Vec3 way = s.at - p;
    const float d2 = way.squaredNorm();
    const Vec3 wi = way / std::sqrt(d2);
    const float facing = -wi.dot(s.normal);
    return facing > 0 ? static_cast<double>(seen_luminance(e, wi, {s.at, s.normal})) *
                            std::max(0.0f, wi.dot(n)) * facing / d2 * s.area * passes(s.at, wi)
                      : 0.0;
  };
  return measure(samples, [&](const Vec2& u, float) {
    return e.kind == LightKind::kSun ? in_disc(u)
           : e.is_distant()          ? over_directions(u)
                                     : over_area(u);
  });
}

double noise_of(const Measured& m) { return std::sqrt(m.variance) / m.mean; }

// Sampling toward lights against even points: noise, time, and the gain of both together.
Json measured_lights(int samples) {
  Json out = Json::array();
  table_line(fmt::format("{:<20} {:>10} {:>10} {:>12} {:>12} {:>8} {:>8} {:>8}",
                         "light",
                         "lx",
                         "exact",
                         "noise",
                         "evenly",
                         "ns",
                         "evenly",
                         "gain"));
  for (const LitPlace& c : lit_places()) {
    const Emitter e = emitter_of(c.light);
    const Measured ours = measure_sampling(e, c.n, samples), even = measure_evenly(e, c.n, samples);
    const double gain = ours.variance > 1e-12 * sqr(ours.mean)
                            ? even.variance * even.ns / (ours.variance * ours.ns)
                            : -1;
    out.push_back({{"light", c.name},
                   {"illuminance_lx", ours.mean},
                   {"exact_lx", c.exact > 0 ? Json(c.exact) : Json(nullptr)},
                   {"evenly_lx", even.mean},
                   {"noise_of_a_sample", noise_of(ours)},
                   {"evenly_noise", noise_of(even)},
                   {"ns", ours.ns},
                   {"evenly_ns", even.ns},
                   {"gain", gain < 0 ? Json(nullptr) : Json(gain)}});
    table_line(fmt::format("{:<20} {:>10.4g} {:>10} {:>12} {:>12} {:>8.1f} {:>8.1f} {:>8}",
                           c.name,
                           ours.mean,
                           c.exact > 0 ? fmt::format("{:.4g}", c.exact) : "-",
                           percent(noise_of(ours)),
                           percent(noise_of(even)),
                           ours.ns,
                           even.ns,
                           gain < 0 ? "exact" : fmt::format("{:.3g}", gain)));
  }
  return out;
}

// A square of small spheres a meter apart, a meter above the floor.
std::vector<Emitter> lamps_over_floor(int side) {
  std::vector<Emitter> lamps;
  for (int i = 0; i < side * side; ++i) {
    Emitter e;
    e.kind = LightKind::kSphere;
    e.radius = 0.02f;
    e.luminance = 1000;
    e.center = Vec3(static_cast<float>(i % side) - 0.5f * static_cast<float>(side - 1),
                    static_cast<float>(i / side) - 0.5f * static_cast<float>(side - 1),
                    1);
    lamps.push_back(e);
  }
  return lamps;
}

// What choosing one of many lamps adds to the noise, nothing throwing shadows.
Json measured_choices(int samples) {
  Json out = Json::array();
  table_line(
      fmt::format("\n{:<20} {:>12} {:>12} {:>8}", "lamps over a floor", "noise", "blindly", "ns"));
  for (const int side : {3, 32, 100}) {
    const std::vector<Emitter> lamps = lamps_over_floor(side);
    const LightClusters tree(lamps);
    double variance = 0, blind = 0, ns = 0;
    constexpr int kPlaces = 16;
    for (int k = 0; k < kPlaces; ++k) {
      const auto query = LightQuery::surface(
          Vec3(0.13f * static_cast<float>(k) - 1, 0.5f - 0.09f * static_cast<float>(k), 0),
          Vec3::UnitZ(),
          ~std::uint64_t{0});
      const Measured m = measure(std::max(1000, samples / kPlaces), [&](const Vec2& u, float) {
        const LightChoice choice = tree.choose(lamps, query, u.x());
        return choice.index == kNoIndex
                   ? 0.0
                   : static_cast<double>(expected(lamps[choice.index], query)) / choice.chance;
      });
      double sum = 0, squares = 0;
      for (const Emitter& e : lamps) {
        sum += static_cast<double>(expected(e, query));
        squares += sqr(static_cast<double>(expected(e, query)));
      }
      variance += m.variance / sqr(m.mean) / kPlaces;
      blind += (static_cast<double>(lamps.size()) * squares / sqr(sum) - 1) / kPlaces;
      ns += m.ns / kPlaces;
    }
    out.push_back({{"lamps", side * side},
                   {"noise_of_a_choice", std::sqrt(variance)},
                   {"blind_noise", std::sqrt(blind)},
                   {"ns", ns}});
    table_line(fmt::format("{:<20} {:>12} {:>12} {:>8.1f}",
                           side * side,
                           percent(std::sqrt(variance)),
                           percent(std::sqrt(blind)),
                           ns));
  }
  return out;
}

}  // namespace

int bench_lights(int samples) {
  const Json lights = measured_lights(samples), choices = measured_choices(samples);
  std::printf(
      "%s\n",
      Json({{"samples", samples}, {"lights", lights}, {"choices", choices}}).dump().c_str());
  return 0;
}

int bench_haze(int samples) {
  struct Case {
    const char* name;
    double apart, sigma;  // lamp to ray [m], extinction [1/m]
  };
  // A lamp of 1 cd beside the middle of a ray of 10 m.
  constexpr double kLong = 10;
  Json all = Json::array();
  table_line(fmt::format("{:<26} {:>12} {:>12} {:>10} {:>10} {:>12} {:>10} {:>10}",
                         "lamp",
                         "cd/m2",
                         "exact",
                         "noise",
                         "evenly",
                         "by passage",
                         "gain",
                         "gain"));
  for (const Case& c : {Case{"10 cm beside, thin haze", 0.1, 0.02},
                        Case{"1 m beside, thin haze", 1, 0.02},
                        Case{"10 cm beside, dense haze", 0.1, 0.6},
                        Case{"1 m beside, dense haze", 1, 0.6}}) {
    const Vec3 lamp(static_cast<float>(kLong / 2), static_cast<float>(c.apart), 0);
    const Ray ray{Vec3::Zero(), Vec3::UnitX()};
    const EquiangularSpan span(lamp, ray, static_cast<float>(kLong));
    const auto scattered = [&](double t) {
      const double d2 = sqr(t - kLong / 2) + sqr(c.apart);
      return c.sigma * std::exp(-c.sigma * (t + std::sqrt(d2))) / (4 * kPiD * d2);
    };
    const double exact =
        integral(scattered, 0, kLong / 2, 512) + integral(scattered, kLong / 2, kLong, 512);
    const Measured angular = measure(samples, [&](const Vec2& u, float) {
      const float t = span.sample(u.x());
      return t > 0 && t < kLong ? scattered(t) / span.pdf(t) : 0.0;
    });
    const Measured even =
        measure(samples, [&](const Vec2& u, float) { return scattered(kLong * u.x()) * kLong; });
    const double all_of_it = 1 - std::exp(-c.sigma * kLong);
    const Measured passage = measure(samples, [&](const Vec2& u, float) {
      const double t = -std::log(1 - u.x() * all_of_it) / c.sigma;
      return scattered(t) * all_of_it / (c.sigma * std::exp(-c.sigma * t));
    });
    // As rendering joins them: one sample of each, by the power heuristic.
    const Measured joined = measure(samples, [&](const Vec2& u, float) {
      const auto weighed = [&](double t, bool by_angle) {
        if (!(t > 0) || !(t < kLong)) {
          return 0.0;
        }
        const double a = span.pdf(static_cast<float>(t)),
                     b = c.sigma * std::exp(-c.sigma * t) / all_of_it;
        return scattered(t) * (by_angle ? a : b) / (a * a + b * b);
      };
      return weighed(span.sample(u.x()), true) +
             weighed(-std::log(1 - u.y() * all_of_it) / c.sigma, false);
    });
    const auto noise = [](const Measured& m) { return std::sqrt(m.variance) / m.mean; };
    const auto gain = [&](const Measured& other) {
      return other.variance * other.ns / (joined.variance * joined.ns);
    };
    all.push_back({{"lamp", c.name},
                   {"luminance_cd_m2", joined.mean},
                   {"exact_cd_m2", exact},
                   {"noise_of_a_sample", noise(joined)},
                   {"angle_alone_noise", noise(angular)},
                   {"evenly_noise", noise(even)},
                   {"by_passage_noise", noise(passage)},
                   {"gain_over_evenly", gain(even)},
                   {"gain_over_passage", gain(passage)}});
    table_line(fmt::format("{:<26} {:>12.5g} {:>12.5g} {:>10} {:>10} {:>12} {:>10.3g} {:>10.3g}",
                           c.name,
                           joined.mean,
                           exact,
                           percent(noise(joined)),
                           percent(noise(even)),
                           percent(noise(passage)),
                           gain(even),
                           gain(passage)));
  }
  std::printf("%s\n", Json({{"samples", samples}, {"rays", all}}).dump().c_str());
  return 0;
}

int bench_scenes(const std::string& folder, double seconds, double reference, int threads) {
  std::vector<std::string> files;
  std::error_code ec;
  for (const auto& entry : std::filesystem::directory_iterator(folder, ec)) {
    if (entry.path().extension() == ".toml") {
      files.push_back(entry.path().string());
    }
  }
  std::sort(files.begin(), files.end());
  if (ec || files.empty()) {
    std::fprintf(stderr, "%s: no rigs there\n", folder.c_str());
    return 2;
  }
  Json all = Json::array();
  table_line(fmt::format("{:<12} {:>9} {:>9} {:>9} {:>11} {:>10}",
                         "scene",
                         "samples",
                         "error",
                         "p95",
                         "fireflies",
                         "of a second"));
  for (const std::string& file : files) {
    auto loaded = loaded_or_told(file);
    if (!loaded) {
      return 2;
    }
    Rig& rig = loaded->rig;
    const Scene& scene = loaded->scene;
    rig.render.samples = 1 << 20;
    RenderOptions options;
    options.threads = threads;
    const auto for_time = [&](double time, std::uint32_t seed) {
      rig.render.seed = seed;
      options.time_limit = time;
      options.in_haste = time < 1;
      return render(rig, scene, options);
    };
    const Render truth = for_time(reference, 999), run = for_time(seconds, 1);
    // Relative to the truth and a hundredth of the mean; the brightest thousandth counts as its
    // limit, or lamps alone would tell.
    double squares = 0;
    std::vector<double> errors;
    for (std::size_t i = 0; i < run.film().pixels(); ++i) {
      const double t = truth.film().luminance(i),
                   e = (run.film().luminance(i) - t) / (t + 0.01 * truth.stats.mean_luminance);
      errors.push_back(e * e);
    }
    std::sort(errors.begin(), errors.end());
    const double limit = errors[errors.size() - 1 - errors.size() / 1000];
    for (const double e : errors) {
      squares += std::min(e, limit) / static_cast<double>(errors.size());
    }
    const double rms = std::sqrt(squares), of_a_second = rms * std::sqrt(run.stats.wall_s);
    const std::string name = std::filesystem::path(file).stem().string();
    all.push_back({{"scene", name},
                   {"seconds", run.stats.wall_s},
                   {"reference_s", truth.stats.wall_s},
                   {"samples_per_pixel", run.stats.samples_per_pixel},
                   {"relative_rms", rms},
                   {"p95", run.stats.noise.p95},
                   {"fireflies", run.stats.noise.fireflies},
                   {"rms_at_one_second", of_a_second}});
    table_line(fmt::format("{:<12} {:>9.1f} {:>9} {:>9} {:>11} {:>10}",
                           name,
                           run.stats.samples_per_pixel,
                           percent(rms),
                           percent(run.stats.noise.p95),
                           run.stats.noise.fireflies,
                           percent(of_a_second)));
  }
  std::printf("%s\n", Json({{"seconds", seconds}, {"scenes", all}}).dump().c_str());
  return 0;
}

}  // namespace jovilux
