#include "bench/ray_bench.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/sampler.h"
#include "jovilux/files/json.h"

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <stdexcept>

#include "bench/bench_output.h"

namespace jovilux {
namespace {

using SteadyClock = std::chrono::steady_clock;

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

}  // namespace

World world_of(const Mesh& mesh, double* build_s, bool split) {
  World world;
  const auto start = SteadyClock::now();
  world.add_mesh(mesh, 0);
  world.build(split);
  if (build_s != nullptr) {
    *build_s = seconds_since(start);
  }
  return world;
}

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

TestRays test_rays(const std::string& kind, const World& world, int count) {
  const bool room = kind != "field";
  const Vec3 eye = room ? Vec3(-3.6f, -2.6f, 0.4f) : Vec3(-5.5f, -4, 3);
  const Vec3 lamp = room ? Vec3(0.5f, 0.3f, 1.35f) : Vec3(2, 3, 4);
  const Vec3 z = (Vec3(0.3f, 0.4f, room ? -0.2f : 0.0f) - eye).normalized(),
             x = z.cross(Vec3::UnitZ()).normalized(), y = x.cross(z);
  TestRays out;
  const int side = static_cast<int>(std::sqrt(static_cast<double>(count)));
  for (int row = 0; row < side; ++row) {
    for (int col = 0; col < side; ++col) {
      const Sampler sampler(1, static_cast<std::uint32_t>(row * side + col), 0);
      const Vec2 u = sampler.pair(0), b = sampler.pair(1);
      const float sx = 1.2f * ((static_cast<float>(col) + u.x()) / static_cast<float>(side) - 0.5f),
                  sy = 1.2f * ((static_cast<float>(row) + u.y()) / static_cast<float>(side) - 0.5f);
      const Ray ray{eye, (z + sx * x - sy * y).normalized()};
      out.camera.push_back(ray);
      const Hit hit = world.closest(ray);
      if (!hit.found()) {
        continue;
      }
      const SurfacePoint p = world.point(ray, hit);
      const Vec3 n = p.normal.dot(ray.direction) < 0 ? p.normal : Vec3(-p.normal);
      const float r = std::sqrt(b.x()), phi = 2 * kPi * b.y();
      const Vec3 wi =
          Frame::around(n).to_world({r * std::cos(phi), r * std::sin(phi), std::sqrt(1 - b.x())});
      out.bounce.push_back({World::leave(p, wi), wi});
      const Vec3 to = lamp - p.position;
      out.shadow.push_back({World::leave(p, to), to.normalized(), to.norm() * 0.9999f});
    }
  }
  return out;
}

QuerySums query(const World& world, const std::vector<Ray>& rays, bool any, int threads) {
  constexpr std::size_t kBlock = 4096;
  const std::size_t blocks = (rays.size() + kBlock - 1) / kBlock;
  std::vector<QuerySums> of_block(blocks);
  const auto work = [&](std::size_t b) {
    QuerySums sums;
    for (std::size_t i = b * kBlock; i < std::min(rays.size(), (b + 1) * kBlock); ++i) {
      if (any) {
        sums.hits += world.blocked(rays[i]) ? 1 : 0;
      } else if (const Hit hit = world.closest(rays[i]); hit.found()) {
        ++sums.hits;
        sums.distance += hit.t;
      }
    }
    of_block[b] = sums;
  };
  if (threads == 1) {
    for (std::size_t b = 0; b < blocks; ++b) {
      work(b);
    }
  } else {
    parallel_for(blocks, work);
  }
  QuerySums all;
  for (const QuerySums& sums : of_block) {
    all.hits += sums.hits;
    all.distance += sums.distance;
  }
  return all;
}

int bench_rays(const RayBenchTask& task) {
  auto mesh = load_mesh(task.mesh);
  if (!mesh) {
    std::fprintf(stderr, "%s\n", to_string(mesh.problems()[0]).c_str());
    return 2;
  }
  const std::vector<Ray> rays = load_rays(task.rays);
  Json j;
  with_threads(task.threads, [&] {
    double build_s = 0;
    const std::size_t triangles = mesh->triangles.size();
    const World world = world_of(*mesh, &build_s, task.split);
    mesh->positions = {};
    mesh->triangles = {};
    QuerySums sums;
    const double best =
        least_seconds(3, [&] { sums = query(world, rays, task.any, task.threads); });
    j = {{"rays", rays.size()},
         {"hits", sums.hits},
         {"sum_t", sums.distance},
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
       {std::filesystem::path(task.rays).stem().string() + (task.any ? " (any)" : ""),
        three_digits(j["mrays_per_s"]),
        three_digits(j["build_s"]),
        std::to_string(j["triangles"].get<std::size_t>()),
        std::to_string(j["boxes"].get<std::size_t>()),
        three_digits(j["bytes_per_triangle"]),
        j["instructions"].get<std::string>()}});
  return 0;
}

int make_test_rays(const std::string& kind,
                   const std::string& mesh_file,
                   const std::string& prefix,
                   int triangles,
                   int count) {
  const Mesh mesh = test_mesh(kind, triangles);
  save_ply(mesh_file, mesh);
  const TestRays rays = test_rays(kind, world_of(mesh), count);
  save_rays(prefix + "-camera.rays", rays.camera);
  save_rays(prefix + "-bounce.rays", rays.bounce);
  save_rays(prefix + "-shadow.rays", rays.shadow);
  std::printf("%s\n",
              Json({{"triangles", mesh.triangles.size()},
                    {"camera", rays.camera.size()},
                    {"bounce", rays.bounce.size()},
                    {"shadow", rays.shadow.size()}})
                  .dump()
                  .c_str());
  return 0;
}

}  // namespace jovilux
