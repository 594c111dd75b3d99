// jovilux_bench: rates of the hot parts, each run printing one line of JSON and a table to stderr.
// See docs/performance.md.
#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/geometry/world.h"
#include "jovilux/render/renderer.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <map>
#include <string>
#include <vector>

#include "bench/compare_programs.h"
#include "bench/connections_bench.h"
#include "bench/denoising_bench.h"
#include "bench/loaded_rig.h"
#include "bench/sampling.h"
#include "bench/squared_error.h"
#include "bench/track.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux {
namespace {

using Json = nlohmann::ordered_json;
using Clock = std::chrono::steady_clock;

constexpr const char* kHelp =
    "jovilux_bench: rates of the hot parts: a line of JSON, and a table to standard error\n\n"
    "  rays --mesh F.ply --rays F.rays [--any] [--whole] [--threads N]   ray queries on a mesh, "
    "best of three; a ray is\n"
    "                                  float32 x 7, little-endian: origin, unit direction, t max; "
    "--whole: no\n"
    "                                  box of a triangle is cut\n"
    "  make --kind room|bars|field --mesh F.ply --rays PREFIX [--triangles N] [--count N]\n"
    "                                  a test mesh and its camera, bounce and shadow rays: "
    "PREFIX-camera.rays ...\n"
    "  march                           marched solids, and a marched sphere against the analytic "
    "one\n"
    "  lights [--samples N]            direct light of each form, and through masks: variance x "
    "time against points\n"
    "                                  spread evenly; what choosing one of many lamps adds\n"
    "  haze [--samples N]              light that haze scatters along a ray: the same\n"
    "  scenes DIR [--seconds S] [--reference S] [--threads N]   error of each rig of a folder "
    "after equal times\n"
    "  render RIG [--threads N] [--set ADDRESS=VALUE]   samples/s of a rig and the share of time "
    "in ray queries\n"
    "  connections RIG   what camera paths are connected to: learning, sets, choices/s, and how "
    "many arrive\n"
    "  denoising RENDER REFERENCE ...   what denoising brings, and whether the error it tells is "
    "true\n"
    "  compare-programs OLD NEW RIG... [--seconds S] [--rounds N] [--reference S] [--references "
    "DIR] "
    "[--threads N]\n"
    "                                  squared error of two programs after equal times, and its "
    "ratio\n"
    "  squared-error REFERENCE RENDER...   error of renders, of each of their layers and parts, "
    "and in the worst pixels\n"
    "  track COMMIT RIG...             samples of each rig in the time of a fixed piece of work "
    "beside "
    "it; see bench/track.sh\n"
    "  rates FILE                      lines of track as a table in Markdown\n";

// A table to standard error: what stands in the first row heads the columns.
void print_table(const std::vector<std::vector<std::string>>& rows) {
  std::vector<std::size_t> widths(rows.front().size());
  for (const auto& row : rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      widths[c] = std::max(widths[c], row[c].size());
    }
  }
  std::string out;
  for (const auto& row : rows) {
    for (std::size_t c = 0; c < row.size(); ++c) {
      out += fmt::format("{:<{}}", row[c], c + 1 < row.size() ? widths[c] + 2 : 0);
    }
    out += '\n';
  }
  std::fputs(out.c_str(), stderr);
}
std::string number(double v) { return fmt::format("{:.3g}", v); }

double seconds_since(Clock::time_point start) {
  return std::chrono::duration<double>(Clock::now() - start).count();
}

struct Options {
  std::map<std::string, std::vector<std::string>> values;
  std::vector<std::string> words;
  std::string one(const std::string& name, const std::string& otherwise = "") const {
    const auto it = values.find(name);
    return it == values.end() ? otherwise : it->second.back();
  }
  int whole(const std::string& name, int otherwise) const {
    return static_cast<int>(parse_number(one(name)).value_or(otherwise));
  }
};

Options options_of(int argc, char** argv) {
  Options out;
  for (int i = 2; i < argc; ++i) {
    const std::string word = argv[i];
    if (word == "--any" || word == "--whole") {
      out.values[word.substr(2)];
    } else if (word.starts_with("--") && i + 1 < argc) {
      out.values[word.substr(2)].push_back(argv[++i]);
    } else {
      out.words.push_back(word);
    }
  }
  return out;
}

std::vector<Ray> load_rays(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  std::vector<char> bytes((std::istreambuf_iterator<char>(in)), {});
  if (bytes.empty() || bytes.size() % 28 != 0) {
    throw std::runtime_error(path + ": expected rays of 28 bytes each");
  }
  std::vector<Ray> rays(bytes.size() / 28);
  for (std::size_t i = 0; i < rays.size(); ++i) {
    float v[7];
    std::memcpy(v, bytes.data() + i * 28, 28);
    rays[i] = {Vec3(v[0], v[1], v[2]), Vec3(v[3], v[4], v[5]), v[6]};
  }
  return rays;
}

void save_rays(const std::string& path, const std::vector<Ray>& rays) {
  std::ofstream out(path, std::ios::binary);
  for (const Ray& r : rays) {
    const float v[7] = {r.origin.x(),
                        r.origin.y(),
                        r.origin.z(),
                        r.direction.x(),
                        r.direction.y(),
                        r.direction.z(),
                        r.t_max};
    out.write(reinterpret_cast<const char*>(v), sizeof v);
  }
}

World world_of(const Mesh& mesh, double* build_s = nullptr, bool split = true) {
  World world;
  const auto start = Clock::now();
  world.add_mesh(mesh, 0);
  world.build(split);
  if (build_s != nullptr) {
    *build_s = seconds_since(start);
  }
  return world;
}

int bench_rays(const Options& o) {
  auto mesh = load_mesh(o.one("mesh"));
  if (!mesh) {
    std::fprintf(stderr, "%s\n", to_string(mesh.problems()[0]).c_str());
    return 2;
  }
  const std::vector<Ray> rays = load_rays(o.one("rays"));
  const bool any = o.values.count("any") > 0;
  const int threads = o.whole("threads", 1);
  Json j;
  with_threads(threads, [&] {
    double build_s = 0;
    const std::size_t triangles = mesh->triangles.size();
    const World world = world_of(*mesh, &build_s, o.values.count("whole") == 0);
    mesh->positions = {};
    mesh->triangles = {};
    constexpr std::size_t kBlock = 4096;
    const std::size_t blocks = (rays.size() + kBlock - 1) / kBlock;
    double best = 1e30;
    std::vector<std::uint64_t> hits(blocks);
    std::vector<double> sums(blocks);
    for (int run = 0; run < 3; ++run) {
      const auto start = Clock::now();
      const auto work = [&](std::size_t b) {
        hits[b] = 0;
        sums[b] = 0;
        for (std::size_t i = b * kBlock; i < std::min(rays.size(), (b + 1) * kBlock); ++i) {
          if (any) {
            hits[b] += world.blocked(rays[i]) ? 1 : 0;
          } else if (const Hit hit = world.closest(rays[i]); hit.found()) {
            ++hits[b];
            sums[b] += hit.t;
          }
        }
      };
      if (threads == 1) {
        for (std::size_t b = 0; b < blocks; ++b) {
          work(b);
        }
      } else {
        parallel_for(blocks, work);
      }
      best = std::min(best, seconds_since(start));
    }
    std::uint64_t hit_count = 0;
    double sum_t = 0;
    for (std::size_t b = 0; b < blocks; ++b) {
      hit_count += hits[b];
      sum_t += sums[b];
    }
    j = {{"rays", rays.size()},
         {"hits", hit_count},
         {"sum_t", sum_t},
         {"build_s", build_s},
         {"seconds", best},
         {"mrays_per_s", static_cast<double>(rays.size()) / best / 1e6},
         {"triangles", triangles},
         {"boxes", world.box_count()},
         {"bytes_per_triangle",
          static_cast<double>(world.memory_bytes()) / static_cast<double>(triangles)},
         {"instructions", World::instruction_set()}};
  });
  std::printf("%s\n", j.dump().c_str());
  print_table(
      {{"rays", "million/s", "build s", "triangles", "boxes", "bytes/triangle", "instructions"},
       {std::filesystem::path(o.one("rays")).stem().string() + (any ? " (any)" : ""),
        number(j["mrays_per_s"]),
        number(j["build_s"]),
        std::to_string(j["triangles"].get<std::size_t>()),
        std::to_string(j["boxes"].get<std::size_t>()),
        number(j["bytes_per_triangle"]),
        j["instructions"].get<std::string>()}});
  return 0;
}

// A closed room with slats and bumpy spheres, the same with 3000 long thin bars that slant, or a
// height field; all of about `triangles` triangles.
Mesh test_mesh(const std::string& kind, int triangles) {
  Mesh mesh;
  const auto grid = [&](int nu, int nv, const auto& at) {
    const auto base = static_cast<std::uint32_t>(mesh.positions.size());
    for (int i = 0; i <= nu; ++i) {
      for (int k = 0; k <= nv; ++k) {
        mesh.positions.push_back(at(static_cast<float>(i) / static_cast<float>(nu),
                                    static_cast<float>(k) / static_cast<float>(nv)));
      }
    }
    const auto row = static_cast<std::uint32_t>(nv + 1);
    for (std::uint32_t i = 0; i < static_cast<std::uint32_t>(nu); ++i) {
      for (std::uint32_t k = 0; k < static_cast<std::uint32_t>(nv); ++k) {
        const std::uint32_t a = base + i * row + k;
        mesh.triangles.push_back({a, a + row, a + row + 1});
        mesh.triangles.push_back({a, a + row + 1, a + 1});
      }
    }
  };
  if (kind == "field") {
    const int n = static_cast<int>(std::sqrt(triangles / 2.0));
    grid(n, n, [](float u, float v) {
      const float x = 10 * u - 5, y = 10 * v - 5;
      return Vec3(x,
                  y,
                  0.4f * std::sin(2.1f * x) * std::cos(1.7f * y) + 0.1f * std::sin(11 * x + 3 * y) +
                      0.03f * std::sin(37 * y - 13 * x));
    });
    return mesh;
  }
  const Vec3 half(4, 3, 1.5f);
  for (int axis = 0; axis < 3; ++axis) {
    for (const float side : {-1.0f, 1.0f}) {
      grid(20, 20, [&](float u, float v) {
        Vec3 p;
        p[axis] = side * half[axis];
        p[(axis + 1) % 3] = (2 * u - 1) * half[(axis + 1) % 3];
        p[(axis + 2) % 3] = (2 * v - 1) * half[(axis + 2) % 3];
        return p;
      });
    }
  }
  for (int i = 0; i < 40; ++i) {
    const float x = -3.9f + 0.2f * static_cast<float>(i);
    grid(2, 2, [&](float u, float v) {
      return Vec3(x + 0.1f * u, 2.5f + 0.1f * u, -1.4f + 2.8f * v);
    });
  }
  Rng rng(7);
  const auto inside = [&] {
    return Vec3(static_cast<float>(rng.uniform(-3.9, 3.9)),
                static_cast<float>(rng.uniform(-2.9, 2.4)),
                static_cast<float>(rng.uniform(-1.4, 1.4)));
  };
  for (int i = 0; i < 3000 && kind == "bars"; ++i) {
    const Vec3 from = inside(), to = inside(),
               side = 0.01f * Frame::around((to - from).normalized()).x,
               up = 0.01f * Frame::around((to - from).normalized()).y;
    grid(1, 4, [&](float u, float v) {
      const float phi = 2 * kPi * v;
      return Vec3(from + u * (to - from) + std::cos(phi) * side + std::sin(phi) * up);
    });
  }
  const int each = static_cast<int>(
      std::sqrt((triangles - static_cast<int>(mesh.triangles.size())) / 200 / 2.0));
  for (int s = 0; s < 200; ++s) {
    const Vec3 center(static_cast<float>(rng.uniform(-3.5, 3.5)),
                      static_cast<float>(rng.uniform(-2.5, 2.2)),
                      static_cast<float>(rng.uniform(-1.3, 1.2)));
    const auto radius = static_cast<float>(rng.uniform(0.08, 0.3));
    grid(each, each, [&](float u, float v) {
      const float theta = kPi * u, phi = 2 * kPi * v;
      const float r = radius * (1 + 0.08f * std::sin(9 * theta) * std::sin(8 * phi));
      return Vec3(center + r * Vec3(std::sin(theta) * std::cos(phi),
                                    std::sin(theta) * std::sin(phi),
                                    std::cos(theta)));
    });
  }
  return mesh;
}

void save_ply(const std::string& path, const Mesh& mesh) {
  std::ofstream out(path, std::ios::binary);
  out << "ply\nformat binary_little_endian 1.0\nelement vertex " << mesh.positions.size()
      << "\nproperty float x\nproperty float y\nproperty float z\nelement face "
      << mesh.triangles.size() << "\nproperty list uchar int vertex_indices\nend_header\n";
  for (const Vec3& p : mesh.positions) {
    out.write(reinterpret_cast<const char*>(p.data()), 12);
  }
  for (const auto& t : mesh.triangles) {
    out.put(3);
    out.write(reinterpret_cast<const char*>(t.data()), 12);
  }
}

int make(const Options& o) {
  const std::string kind = o.one("kind", "room");
  const bool room = kind != "field";
  const int count = o.whole("count", 1'000'000);
  const Mesh mesh = test_mesh(kind, o.whole("triangles", 1'200'000));
  save_ply(o.one("mesh"), mesh);
  const World world = world_of(mesh);
  const Vec3 eye = room ? Vec3(-3.6f, -2.6f, 0.4f) : Vec3(-5.5f, -4, 3);
  const Vec3 lamp = room ? Vec3(0.5f, 0.3f, 1.35f) : Vec3(2, 3, 4);
  const Vec3 z = (Vec3(0.3f, 0.4f, room ? -0.2f : 0.0f) - eye).normalized(),
             x = z.cross(Vec3::UnitZ()).normalized(), y = x.cross(z);
  std::vector<Ray> camera, bounce, shadow;
  const int side = static_cast<int>(std::sqrt(static_cast<double>(count)));
  for (int row = 0; row < side; ++row) {
    for (int col = 0; col < side; ++col) {
      const Sampler sampler(1, static_cast<std::uint32_t>(row * side + col), 0);
      const Vec2 u = sampler.pair(0), b = sampler.pair(1);
      const float sx = 1.2f * ((static_cast<float>(col) + u.x()) / static_cast<float>(side) - 0.5f),
                  sy = 1.2f * ((static_cast<float>(row) + u.y()) / static_cast<float>(side) - 0.5f);
      const Ray ray{eye, (z + sx * x - sy * y).normalized()};
      camera.push_back(ray);
      const Hit hit = world.closest(ray);
      if (!hit.found()) {
        continue;
      }
      const SurfacePoint p = world.point(ray, hit);
      const Vec3 n = p.normal.dot(ray.direction) < 0 ? p.normal : Vec3(-p.normal);
      const float r = std::sqrt(b.x()), phi = 2 * kPi * b.y();
      const Vec3 wi =
          Frame::around(n).to_world({r * std::cos(phi), r * std::sin(phi), std::sqrt(1 - b.x())});
      bounce.push_back({World::leave(p, wi), wi});
      const Vec3 to = lamp - p.position;
      shadow.push_back({World::leave(p, to), to.normalized(), to.norm() * 0.9999f});
    }
  }
  const std::string prefix = o.one("rays", "test");
  save_rays(prefix + "-camera.rays", camera);
  save_rays(prefix + "-bounce.rays", bounce);
  save_rays(prefix + "-shadow.rays", shadow);
  std::printf("%s\n",
              Json({{"triangles", mesh.triangles.size()},
                    {"camera", camera.size()},
                    {"bounce", bounce.size()},
                    {"shadow", shadow.size()}})
                  .dump()
                  .c_str());
  return 0;
}

int bench_render(const Options& o) {
  if (o.words.empty()) {
    std::fputs(kHelp, stderr);
    return 2;
  }
  RigRequest request;
  if (const auto it = o.values.find("set"); it != o.values.end()) {
    request.overrides = it->second;
  }
  const auto loaded = loaded_or_told(o.words[0], request);
  if (!loaded) {
    return 2;
  }
  const Rig& rig = loaded->rig;
  const Scene& scene = loaded->scene;
  RenderOptions options;
  options.threads = o.whole("threads", 0);
  const Render plain = render(rig, scene, options);
  options.time_queries = true;
  const Render timed = render(rig, scene, options);
  // What two readings of the clock cost, to be taken off each query.
  constexpr int kReadings = 1'000'000;
  const auto start = Clock::now();
  for (int i = 0; i < kReadings; ++i) {
    static_cast<void>(Clock::now());
  }
  const double reading_s = seconds_since(start) / kReadings;
  const RayCounts& n = timed.stats.rays;
  const double rays = static_cast<double>(n.camera + n.path + n.shadow);
  const double query_s = static_cast<double>(n.query_ns) * 1e-9 - rays * reading_s;
  const double samples = plain.stats.samples_per_pixel * rig.render.width * rig.render.height;
  const double other_s =
      timed.stats.cpu_s - static_cast<double>(n.query_ns) * 1e-9 - rays * reading_s;
  std::printf("%s\n",
              Json({{"rig", o.words[0]},
                    {"threads", plain.stats.threads},
                    {"samples", samples},
                    {"seconds", plain.stats.wall_s},
                    {"samples_per_s", samples / plain.stats.wall_s},
                    {"rays", rays},
                    {"mrays_per_s", rays / plain.stats.wall_s / 1e6},
                    {"march_steps_per_march",
                     n.march.marches > 0
                         ? static_cast<double>(n.march.steps) / static_cast<double>(n.march.marches)
                         : 0.0},
                    {"media_steps_per_ray", static_cast<double>(n.media_steps) / rays},
                    {"query_share", query_s / (query_s + other_s)},
                    {"instructions", World::instruction_set()}})
                  .dump()
                  .c_str());
  print_table({{"rig", "threads", "samples/s", "million rays/s", "in ray queries", "steps/march"},
               {std::filesystem::path(o.words[0]).stem().string(),
                std::to_string(plain.stats.threads),
                number(samples / plain.stats.wall_s),
                number(rays / plain.stats.wall_s / 1e6),
                number(100 * query_s / (query_s + other_s)) + " %",
                n.march.marches > 0 ? number(static_cast<double>(n.march.steps) /
                                             static_cast<double>(n.march.marches))
                                    : "-"}});
  return 0;
}

SolidNode node(SolidKind kind, double a, double b = 1, double c = 1, double d = 0) {
  SolidNode n;
  n.kind = kind;
  n.a = a;
  n.b = b;
  n.c = c;
  n.d = d;
  return n;
}

// Rays towards a thing of about 1 m in a world of its own, half of which meet it.
Json bench_march(const std::string& name, const World& world, double* seconds) {
  constexpr int kRays = 200'000;
  std::vector<Ray> rays;
  Rng rng(1);
  const auto around = [&](double reach) {
    return Vec3(static_cast<float>(rng.uniform(-reach, reach)),
                static_cast<float>(rng.uniform(-reach, reach)),
                static_cast<float>(rng.uniform(-reach, reach)));
  };
  for (int i = 0; i < kRays; ++i) {
    const Vec3 o = 3 * around(1).normalized();
    rays.push_back({o, (around(0.6) - o).normalized()});
  }
  double best = 1e30;
  std::uint64_t hits = 0;
  MarchCounts spent;
  for (int run = 0; run < 5; ++run) {
    const auto start = Clock::now();
    const MarchCounts before = march_counts();
    hits = 0;
    for (const Ray& ray : rays) {
      hits += world.closest(ray).found() ? 1 : 0;
    }
    spent = march_counts() - before;
    best = std::min(best, seconds_since(start));
  }
  *seconds = best;
  return {{"name", name},
          {"hits", hits},
          {"mrays_per_s", kRays / best / 1e6},
          {"steps_per_march",
           spent.marches > 0 ? static_cast<double>(spent.steps) / static_cast<double>(spent.marches)
                             : 0.0},
          {"out_of_steps", spent.exhausted}};
}

// A marched sphere against the analytic one, and marched solids of several kinds, one thread.
int bench_solids() {
  const auto placed = [](const std::vector<SolidNode>& nodes) {
    World world;
    world.add_solid(std::make_shared<Solid>(std::get<Solid>(
                        Solid::compile(nodes, static_cast<std::uint32_t>(nodes.size() - 1)))),
                    {},
                    0,
                    {});
    world.build();
    return world;
  };
  World analytic;
  analytic.add_shape({ShapeKind::kSphere, 0.5}, {}, 0);
  analytic.build();
  SolidNode menger = node(SolidKind::kFractal, 0.5);
  SolidNode julia = menger;
  julia.fractal = FractalKind::kJulia;
  julia.iterations = 9;
  SolidNode pot = node(SolidKind::kUnion, 1), hollowed = node(SolidKind::kSubtract, 1),
            foot = node(SolidKind::kCylinder, 0.3, 1, 0.1),
            rim = node(SolidKind::kTorus, 0.42, 0.05),
            hollow = node(SolidKind::kCapsule, 0.35, 1, 0.6);
  foot.place.offset = Vec3d(0, 0, -0.35);
  rim.place.offset = Vec3d(0, 0, 0.35);
  hollow.place.offset = Vec3d(0, 0, 0.5);
  pot.of = {0, 1, 2};
  pot.blend = 0.15;
  hollowed.of = {3, 4};
  hollowed.blend = 0.03;
  double base = 0, marched = 0, other = 0;
  Json all = Json::array();
  all.push_back(bench_march("analytic sphere", analytic, &base));
  all.push_back(bench_march("marched sphere", placed({node(SolidKind::kSphere, 0.5)}), &marched));
  all.push_back(
      bench_march("blended pot",
                  placed({node(SolidKind::kSphere, 0.42), foot, rim, pot, hollow, hollowed}),
                  &other));
  all.push_back(bench_march("menger 4", placed({menger}), &other));
  all.push_back(bench_march("julia 9", placed({julia}), &other));
  std::printf("%s\n",
              Json({{"solids", all}, {"marched_over_analytic", marched / base}}).dump().c_str());
  std::vector<std::vector<std::string>> rows = {{"solid", "million rays/s", "steps/march"}};
  for (const Json& one : all) {
    rows.push_back({one["name"].get<std::string>(),
                    number(one["mrays_per_s"]),
                    number(one["steps_per_march"])});
  }
  print_table(rows);
  return 0;
}

int run(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "";
  const Options o = options_of(argc, argv);
  if (what == "rays") {
    return bench_rays(o);
  }
  if (what == "march") {
    return bench_solids();
  }
  if (what == "make") {
    return make(o);
  }
  if (what == "lights" || what == "haze") {
    const int samples = std::clamp(o.whole("samples", 1 << 18), 16, 1 << 24);
    return what == "lights" ? bench_lights(samples) : bench_haze(samples);
  }
  if (what == "scenes" && !o.words.empty()) {
    return bench_scenes(o.words[0],
                        parse_number(o.one("seconds")).value_or(2),
                        parse_number(o.one("reference")).value_or(60),
                        o.whole("threads", 0));
  }
  if (what == "render") {
    return bench_render(o);
  }
  if (what == "connections" && o.words.size() == 1) {
    return bench_connections(o.words[0]);
  }
  if (what == "denoising" && o.words.size() >= 2) {
    return denoising_bench(o.words);
  }
  if (what == "squared-error" && o.words.size() >= 2) {
    return squared_errors(o.words[0], {o.words.begin() + 1, o.words.end()});
  }
  if (what == "track" && o.words.size() >= 2) {
    return track_rates(o.words[0], {o.words.begin() + 1, o.words.end()});
  }
  if (what == "rates" && o.words.size() == 1) {
    return print_rates(o.words[0]);
  }
  if (what == "compare-programs" && o.words.size() >= 3) {
    ProgramComparison task;
    task.before = o.words[0];
    task.after = o.words[1];
    task.rigs.assign(o.words.begin() + 2, o.words.end());
    task.seconds = parse_number(o.one("seconds")).value_or(task.seconds);
    task.reference_seconds = parse_number(o.one("reference")).value_or(task.reference_seconds);
    task.references = o.one("references");
    task.threads = o.whole("threads", task.threads);
    task.rounds = o.whole("rounds", task.rounds);
    return compare_programs(task);
  }
  std::fputs(kHelp, what == "--help" ? stdout : stderr);
  return what == "--help" ? 0 : 2;
}

}  // namespace
}  // namespace jovilux

int main(int argc, char** argv) {
  try {
    return jovilux::run(argc, argv);
  } catch (const std::exception& e) {
    std::fprintf(stderr, "failed: %s\n", e.what());
    return 4;
  }
}
