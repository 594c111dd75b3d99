#pragma once

#include "jovilux/files/mesh_file.h"
#include "jovilux/geometry/world.h"

#include <string>
#include <vector>

namespace jovilux {

/// Rays through a test mesh: from a camera, after a diffuse bounce, and toward a lamp.
struct TestRays {
  std::vector<Ray> camera, bounce, shadow;
};

/// A mesh of about `triangles` triangles. "room": a closed room with slats and bumpy spheres;
/// "bars": the same with 3000 long thin bars that slant; "field": a height field.
Mesh test_mesh(const std::string& kind, int triangles);

/// About `count` rays of each kind; bounce and shadow rays begin where camera rays hit.
TestRays test_rays(const std::string& kind, const World& world, int count);

/// A mesh in a world of its own. `build_s`: takes the time of the hierarchy [s]. `split`: boxes of
/// triangles are cut where that pays.
World world_of(const Mesh& mesh, double* build_s = nullptr, bool split = true);

/// How many rays hit, and the sum of their distances (not with `any`).
struct QuerySums {
  std::uint64_t hits = 0;
  double distance = 0;
};

/// Asks for the closest hit of each ray, or whether there is any, on the calling thread or, where
/// `threads` is larger than 1, on all of the pool.
QuerySums query(const World& world, const std::vector<Ray>& rays, bool any, int threads);

/// `rays`: what is timed.
struct RayBenchTask {
  std::string mesh, rays;  ///< files
  bool any = false;        ///< only whether something is hit
  bool split = true;       ///< boxes of triangles are cut where that pays
  int threads = 1;
};

/// Times the rays of a file on a mesh, best of three: JSON to stdout, a table to stderr. Returns an
/// exit status. Throws std::runtime_error at a file of rays that is damaged.
int bench_rays(const RayBenchTask& task);

/// `make`: writes a test mesh (PLY) and its rays, PREFIX-camera.rays and so on: float32 x 7,
/// little-endian, of origin, unit direction and largest distance. Returns an exit status.
int make_test_rays(const std::string& kind,
                   const std::string& mesh_file,
                   const std::string& prefix,
                   int triangles,
                   int count);

}  // namespace jovilux
