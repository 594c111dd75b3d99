#pragma once

#include "jovilux/transport/haze_lights.h"
#include "jovilux/transport/path.h"
#include "jovilux/transport/sky_guide.h"
#include "jovilux/transport/surface_vertex.h"
#include "jovilux/transport/virtual_lights.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

namespace jovilux {

/// Pairs of dimensions of a path's sampler; see Sampler.
namespace path_dimensions {

// Of one scattering.
inline constexpr std::uint32_t kPairsPerVertex = 4;
enum Use : std::uint32_t { kLight = 0, kScatter = 1, kChoices = 2, kRoulette = 3 };
// Of the haze before a scattering; far from the others, whose points stay what they are without
// haze. Passing a pane is no scattering, but the stretch of haze behind it has pairs of its own.
inline constexpr std::uint32_t kHazePairs = 1U << 20, kHazePairsPerVertex = 8,
                               kHazePairsPerPane = 1U << 14;
enum HazeUse : std::uint32_t {
  kAlong = 0,
  kAlongLight = 1,
  kPlace = 2,
  kHere = 3,
  kHereLight = 4,
  kTurn = 5,
  kMixture = 6
};
inline constexpr std::uint32_t kPanePairs = 1U << 24, kMaskPairs = kPanePairs + kMostPanes,
                               kTrackingPairs = kMaskPairs + kMostPanes,
                               kCertainLightPairs = kTrackingPairs + 1, kLightPairsPerVertex = 4,
                               kVirtualLightPairs = 1U << 27, kVirtualPairsPerVertex = 8,
                               kHazeSplitPairs = 1U << 28, kSplitPairsPerPane = 128,
                               kProbePairs = 1U << 29,
                               // One for each branch: nothing else may use the number that its
    // roulette takes, for its chance follows what the others brought.
    kBranchPairs = 1U << 30;
static_assert(kHazePairs + kMostPanes * kHazePairsPerPane < kPanePairs);

}  // namespace path_dimensions

/// One camera path, and those that branch off it: see trace_path(). Internal to path*.cpp.
///
/// A path is a State that step() takes from one scattering to the next: through haze
/// (path_haze.cpp), to a surface (path_surfaces.cpp). At each scattering lights are sampled toward,
/// virtual lights are connected (path_connections.cpp), and a direction is chosen. What the
/// scattering knew stays in State::from, so that a light which the next ray meets can be weighed
/// against the other ways to find it (path.cpp).
class PathTracer {
 public:
  PathTracer(const Scene& scene,
             const Sampler& sampler,
             const PathOptions& options,
             LightSink& sink,
             FirstHit* first,
             RayCounts& counts);

  void run(const Ray& ray);

 private:
  // ---- what a path is ----

  // In how many ways a place in haze is found, each with its density; see path_haze.cpp.
  struct HazeWays {
    float along = 1;  // lights chosen for the whole ray, so many
    float here = 0;   // density of places where a light is chosen, of all of them [1/m]
    float path = 0;   // of the place where the path is scattered [1/m]
  };

  // A place where haze scattered: the ray, its end and the distance along it [m], a choice among
  // the lights along it, and the densities of finding the place.
  struct HazePlace {
    Ray ray;
    float end = 0, t = 0;
    LightChoice choice;
    HazeWays ways;
  };

  // What the last scattering knew, to weigh a light that the next ray meets.
  struct Departure {
    Vec3 p = Vec3::Zero(), n = Vec3::UnitZ();
    float pdf = 0;                   // of the direction, however it was chosen [1/sr],
    float own_pdf = 0;               // and by the surface's or the haze's own density
    LightSet lights;                 // that were sampled toward at p,
    std::span<const float> arrives;  // chosen by what arrives of them
    std::uint32_t cell = kNoIndex;   // of the guide
    bool both_sides = false;         // a translucent surface, which lights behind it reach as well
    bool delta = true;               // camera or mirror: no light was sampled toward
    bool rough_before = false;       // before it lies a surface that is no mirror
    std::uint64_t links = ~std::uint64_t{0};  // lists of linked objects that hold all surfaces
    const SurfaceModel* material = nullptr;   // null: haze
    const float* row = nullptr;  // chances of clusters of virtual lights; null: none were asked
    bool inside = false;         // glass, left from within
    bool unshadowed = false;  // a surface that receives no shadow: lights are sampled toward alone
    std::uint32_t surface = kNoIndex;
    // R / (M q) of LightPaths up to here: the factor of R that the camera path's own densities
    // give; 0: no light path could be this path. And that factor for light paths that begin by the
    // gloss of the surface; 0: none do.
    double camera_ratio = 0, camera_ratio_to_gloss = 0;
    HazePlace haze;
    Vec3 wo = Vec3::UnitZ(), wi = Vec3::UnitZ();  // in the shading frame
    float cos_away = 1;                           // of wo to the surface's own normal
  };

  // A path on its way.
  struct State {
    Ray ray;
    Spectrum throughput = Spectrum::Ones();
    // The part of the flux that surfaces and haze leave, with each direction's own density whatever
    // chose it. Roulette goes by it: a direction chosen because it brings much has little
    // throughput, and so has a path within glass.
    Spectrum reflected = Spectrum::Ones();
    Departure from;
    // Lists of linked objects that hold all rough surfaces so far.
    std::uint64_t links = ~std::uint64_t{0};
    bool rough_before = false;
    bool hazy = false;                     // haze has scattered it
    bool by_chance = false;                // an unlikely reflection or transmission was chosen
    const SurfaceModel* within = nullptr;  // the glass that the ray runs in
    std::uint32_t panes = 0;               // that it has passed
    float to_panes = 0;  // from the camera to the last pane that it looked through [m]
    int scatterings = 0, in_haze = 0;
    float onward_chance = 1;  // to go on from the first surface
    // Of a camera's ray that smooth glass or coats divide: the share of the light that this branch
    // has.
    float branch_share = 1;
    // Of a camera's ray that panes, glass or coats have mirrored: the share that they mirror, by
    // which it goes on from the first surface that it meets, mirrors and glass left out (see
    // chance_of_mirrored), and the pair of dimensions that decides.
    float mirrored_chance = 1;
    std::uint32_t mirrored_pair = 0;
    // Of the light of emitters that virtual lights carry, the part that connections have left to
    // this path: those of all its edges, and those of its last edge alone (Covers::kFirst). And the
    // chance that it has gone on beside connections so far.
    float left_by_connections = 1, left_by_last = 1, chance_beside_connections = 1;
    const WayVertex* way = nullptr;  // its scatterings, where they are recorded
  };

  // A path that has left another one at a pane, glass or coat, followed once that one has ended.
  // `departed`: the material that its departure names, where that is departed_.
  struct Branch {
    State state;
    std::optional<SurfaceModel> departed;
  };

  // A surface that a path has met.
  struct Vertex {
    SurfacePoint p;
    const Scene::Surface* surface;
    const SurfaceModel* material;
    Vec3 wo;  // unit, to where the path comes from
    SurfaceSide side;
    float distance = 0;  // from where the ray began
    bool colored = false;
    // Below: of surfaces that are no panes.
    bool inside = false, both_sides = false;
    Frame frame{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
    Vec3 local_wo;
    std::array<Vec2, path_dimensions::kPairsPerVertex> points;  // by path_dimensions::Use
    Vec2 choices;                          // points[kChoices], as far as they are left
    const GuideTree* guide = nullptr;      // of directions; `cell` is one of its,
    const GuideCell* cell = nullptr;       // null: nothing is known
    const DirectionTree* beams = nullptr;  // of a receiver, in place of a cell
    std::span<const float> arrives;
    float guided_share = 0;  // of directions chosen by the guide or the beams

    // Lights that matter are on this side; null: on both.
    const Vec3* light_side() const { return both_sides ? nullptr : &side.normal; }
    // The side by which the guide and virtual lights know it; zero: both.
    Vec3 guide_side() const { return both_sides ? Vec3(Vec3::Zero()) : side.normal; }
    // Whether light from wi is scattered to where the path comes from.
    bool receives_from(const Vec3& wi, const Vec3& local_wi) const {
      const float upright = wi.dot(side.normal);
      return both_sides ? local_wi.z() * upright > 0 : local_wi.z() > 0 && upright > 0;
    }
  };

  // A direction that was chosen at a surface, with the densities of the surface's own choice and of
  // the guide's [1/sr].
  struct Turn {
    Scattering next;
    Vec3 wi = Vec3::UnitZ();
    float own = 0, guided = 0;
  };

  // What a surface throws to where the path comes from: gloss apart where that counts as a caustic.
  struct Thrown {
    Spectrum rest = Spectrum::Zero(), caustic = Spectrum::Zero();
  };

  // Directions at a glossy surface: to where its light goes and from where it comes, in the shading
  // frame, and to the light in the world.
  struct GlossWay {
    Vec3 local_away, local_to_light, to_light;
  };

  // How often light on haze is looked for along one ray.
  struct HazeSplit {
    int along = 1, places = 0;  // 0: where the path is scattered
    float taken = 1;            // what haze takes of the light up to the end of the ray,
    float followed = 1;         // and the chance that the path which it scatters is followed

    // Of a place where light is extinguished with density `p` [1/m].
    HazeWays ways(float p) const {
      return {static_cast<float>(along),
              p / taken * static_cast<float>(std::max(places, 1)),
              p / taken * followed};
    }
  };

  // The stretch of haze that a ray runs through, and how light is looked for on it.
  struct HazeStretch {
    const HazeAlong& along;
    float end;            // [m]
    std::uint32_t pairs;  // of dimensions
    HazeSplit split;
    LightChoice chosen;  // one of those along it
  };

  // What a vertex would do with light from one direction: the density with which a path would
  // choose it [1/sr], and what the choice among virtual lights weighs it with: |cos| on a surface,
  // the phase function in haze.
  struct Reception {
    float pdf = 0, factor = 0;
  };
  // The same of several directions.
  struct ReceptionLanes {
    VirtualLightLanes::Floats pdf, factor;
  };

  // What one record waits for: what its path brings from here on.
  struct Waiting {
    std::vector<ScatteringRecord>* list;
    std::size_t index;
    float total, before, after, cosine;
  };

  enum class Next { kSurface, kOn, kEnd };

  // ---- steps, and lights that rays meet: path.cpp ----

  void follow(State& s);
  bool step(State& s);
  template <class Query>
  auto timed(const Query& query) {
    if (!options_.times_queries) {
      return query();
    }
    const auto start = std::chrono::steady_clock::now();
    auto result = query();
    counts_.query_ns +=
        static_cast<std::uint64_t>((std::chrono::steady_clock::now() - start).count());
    return result;
  }
  float left_of_light(const State& s, const Emitter& e, const Vec3& toward) const;
  void bring(const State& s,
             const Emitter& e,
             const Spectrum& through,
             float luminance,
             const Arrival& how);
  const WayVertex* with_vertex(const WayVertex* way,
                               const Vec3& at,
                               const Vec3& normal,
                               std::uint32_t surface,
                               bool mirror) {
    return options_.ways == nullptr
               ? nullptr
               : &options_.ways->vertices.emplace_back(WayVertex{way, at, normal, surface, mirror});
  }
  void meet_distant_lights(const State& s);
  void meet_light(const State& s, std::uint32_t index, const LightPlace& place);
  float met_weight(const State& s, std::uint32_t index, const LightPlace& place) const;
  float light_density(const Departure& from,
                      std::uint32_t index,
                      const Vec3& wi,
                      const LightPlace& place) const;
  static LightQuery query_of(const Departure& from) {
    return from.both_sides ? LightQuery::point(from.p, from.links)
                           : LightQuery::surface(from.p, from.n, from.links);
  }
  void contribute_by_lobes(
      const State& s, const Emitter& e, float luminance, Arrival how, float gloss_left);
  float left_by_light_paths(const Departure& from,
                            std::uint32_t light,
                            const Vec3& on_light,
                            const SurfaceModel& material,
                            const GlossWay& way,
                            float light_pdf) const;
  static bool survives(State& s, float u);

  // ---- haze: path_haze.cpp ----

  Next through_haze(State& s, float end);
  Next through_apart(State& s, HazeStretch& h, bool scatters);
  HazeSplit split_of(float taken, float followed) const;
  void scatter_apart(const State& s, const HazeStretch& h, float t);
  void lights_at_places(const State& s, const HazeStretch& h);
  void add_emission(const State& s, const HazeAlong& along, float t);
  void light_on_haze(const State& s,
                     std::uint32_t index,
                     const Vec3& p,
                     const LightSample& light,
                     const Spectrum& throughput,
                     float weight);
  LightChoice lights_along(const State& s, const HazeStretch& h);
  void light_along(const State& s,
                   const HazeStretch& h,
                   const LightChoice& choice,
                   float u_place,
                   const Vec2& u_light);
  bool shadow_ray_survives(const State& s, const Vec3& p, float sigma_t, float& left);
  float haze_weight(const State& s, std::uint32_t index, float direction) const;
  float along_density(const Departure& from, std::uint32_t index) const;
  float chance_here(const Vec3& p, std::uint64_t links, std::uint32_t light) const;
  std::span<const float> haze_arrives(const Vec3& p) const;
  float haze_direction_pdf(const HazeAt& at, const Vec3& p, float cosine, const Vec3& wi) const;
  bool scatter_in_haze(State& s, const HazeStretch& h, float t);
  void arrive_in_haze(State& s, const HazeStretch& h, float t, const HazeAt& at);
  void light_here(State& s, const HazeAt& at, float u_which, const Vec2& u_light);
  bool turn_in_haze(State& s, const HazeAt& at, std::uint32_t pairs);

  // ---- surfaces: path_surfaces.cpp ----

  Next arrive(State& s, const Hit& hit, bool received, Vertex& v);
  bool is_cut_out(const State& s, const Vertex& v, const Scene::Pictures* pictures) const;
  void take_material(const State& s, Vertex& v, bool received, const Scene::Pictures* pictures);
  Next straight_on(State& s, const Vertex& v);
  Next at_pane(State& s, const Vertex& v);
  bool mirror_back(State& s, const Vertex& v);
  bool scatter_at(State& s, Vertex& v);
  std::uint32_t look_up_guide(Vertex& v) const;
  void look_up_caustics(const State& s, Vertex& v) const;
  void sample_lights(State& s, const Vertex& v);
  void light_at(const State& s, const Vertex& v, std::uint32_t index, float chance, const Vec2& u);
  Thrown thrown_of(
      const State& s, const Vertex& v, const Emitter& e, const Vec3& local_wi, bool joined) const;
  const SurfaceModel* glass_toward(const State& s, const Vertex& v, const Vec3& local_wi) const;
  Spectrum passes_to(const State& s,
                     const Vertex& v,
                     const Emitter& e,
                     std::uint32_t index,
                     const LightSample& light,
                     const Vec3& local_wi);
  void probe_lights(const State& s, const Vertex& v);
  Vec3 guided_direction(const Vertex& v, const Vec2& u, float& pdf) const;
  float guided_pdf(const Vertex& v, const Vec3& wi) const;
  float direction_pdf(const Vertex& v, const Vec3& local_wi, const Vec3& wi) const;
  Turn turn(const Vertex& v) const;
  bool leave_surface(State& s, Vertex& v);
  float mirrored_apart(State& s, Vertex& v);
  void follow_later(State branch);
  float chance_of_mirrored(const State& s) const;
  bool goes_on_as_mirrored(State& s) const;
  bool depart(State& s, const Vertex& v, const Turn& turn);
  void leave_by(Departure& from, const Vertex& v, const Turn& turn);
  void update_camera_ratio(State& s, const Vertex& v, const Vec3& local_wi, float own) const;

  // ---- connections to virtual lights: path_connections.cpp ----

  // Connections at the first vertex of a camera path, at later ones, and at each of the places
  // where even haze scatters its first ray: the camera's ray and all before it are shared by them.
  // The best of 2, 4, 6 and 8 at equal time (docs/experiments.md, "Connections").
  // The first surface behind haze has fewer: the haze before it is connected as well.
  static constexpr int kFirstConnections = 6, kBehindHaze = 3, kLaterConnections = 2,
                       kHazeConnections = 4;
  static_assert(kFirstConnections <= static_cast<int>(VirtualLights::kMostChosen) &&
                kHazeConnections <= static_cast<int>(VirtualLights::kMostChosen));

  int connections(const State& s) const {
    return s.rough_before         ? kLaterConnections
           : scene_.hazes.empty() ? kFirstConnections
                                  : kBehindHaze;
  }
  static std::uint32_t virtual_pair(const State& s) {
    return path_dimensions::kVirtualLightPairs +
           path_dimensions::kVirtualPairsPerVertex * static_cast<std::uint32_t>(s.scatterings);
  }
  bool goes_on_beside_connections(
      State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing, float u) const;
  float left_by_connections(
      const State& s, const Vec3& p, const Vec3& side, bool in_haze, float facing) const;
  bool may_connect(const State& s, const VirtualLightSketch& y, int in_haze) const;
  template <class Receive, class ReceiveEach, class Arrive>
  void connect_vertex(const State& s,
                      int in_haze,
                      int count,
                      std::uint32_t first_pair,
                      const Receive& reception,
                      const ReceiveEach& receptions,
                      const Arrive& arrive);
  ReceptionLanes receptions(const Vertex& v, const DirectionLanes& wi) const;
  void connect_surface(const State& s, const Vertex& v);
  void connect_haze(const State& s, const HazeAt& at, int count, std::uint32_t first_pair);
  void connect(const State& s,
               const VirtualLight& y,
               const Vec3& x,
               const Vec3& from,
               const Spectrum& scattered,
               float weight,
               bool in_haze);
  Lobes sent_lobes(const VirtualLight& y, const Vec3& wi);
  Lobes sent_by_haze(const VirtualLight& y, const Vec3& wi, const Vec3& from) const;

  // ---- records for learning: path.cpp ----

  void record(std::vector<ScatteringRecord>& list,
              const ScatteringRecord& r,
              const Spectrum& before,
              const Spectrum& after,
              float cosine);
  void record_source(const Vec3& p);
  void close_records(std::size_t first);

  const Scene& scene_;
  const Sampler& sampler_;
  const PathOptions& options_;
  LightSink& sink_;
  FirstHit* first_;
  RayCounts& counts_;
  const GuideTree* surface_guide_;
  const GuideTree* haze_guide_;
  const GuideTree* caustic_guide_;
  const GuideTree* late_caustic_guide_;
  const HazeLights* haze_lights_;
  const SkyGuide* skies_;
  const VirtualLights* virtual_lights_;
  Rng random_{0};  // for tracking through uneven haze
  // The material met last, where a picture colors it; the one that the path left, for panes may lie
  // between; and that of a virtual light. Optional: a path is made for each sample, and materials
  // are large.
  std::optional<SurfaceModel> colored_, departed_, sender_;
  std::vector<Branch> branches_;
  float brought_before_ = 0;     // by other paths, in the sink
  Vec3 way_end_ = Vec3::Zero();  // on the light that is brought next, where ways are recorded
  std::vector<Waiting> waiting_;
};

}  // namespace jovilux
