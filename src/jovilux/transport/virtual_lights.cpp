#include "jovilux/transport/virtual_lights.h"

#include "jovilux/base/parallel.h"
#include "jovilux/emitters/mask_window.h"
#include "jovilux/transport/cell_places.h"
#include "jovilux/transport/cluster_cut.h"
#include "jovilux/transport/virtual_light_walk.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace jovilux {
namespace {

// Virtual lights are divided until each cluster has one part in so many of their weight, or so few
// members.
constexpr std::size_t kSurfaceClusters = 256, kHazeClusters = 128, kLeastOfCluster = 16;
constexpr int kDeepest = 24;
// Pairs of a cell's places and a cluster's virtual lights that are looked at: so many at most, and
// of all cells together.
constexpr std::size_t kMostPairs = 3, kMostPlaces = 32;
// Of the light that a place in haze receives, the part weighed by the phase function for the
// direction of a camera path that was scattered there. The rest is weighed alike from all sides,
// since other camera paths arrive from other directions.
constexpr float kByPhase = 0.5f;
// Looks by which a cell expects what a cluster brings; rays ask of some of them.
constexpr std::uint32_t kLooks = 4;
constexpr std::size_t kPairsOfAll = 600'000;
// Cells that less than this part of the clusters' light reaches look again with a ray each time: so
// often at a cluster at most, and so often in all.
constexpr double kHidden = 0.3, kMostAgain = 64, kMostOfCell = 16384;
// Of so many cells next to it, itself included, a cell learns what it sees.
constexpr std::size_t kNeighbors = 8;
// What neighbors see counts for so many rays, and what all cells see for part of one; and for this
// part of the whole however many rays a cell has: from another place in it, what a neighbor sees
// may be seen.
constexpr double kNeighborRays = 2, kAllRays = 0.5, kAllShare = 0.3, kNeighborPart = 0.4;
// The least part of a cluster's light that is expected to arrive, in choosing among candidates.
constexpr double kLeastArrival = 0.01;
// A part of all connections is chosen as if nothing stood in the way.
constexpr double kUnoccluded = 0.05;
// And a part by distance and flux alone: no cluster that could bring anything is left out.
constexpr double kByDistance = 0.02;
// Photons of a light by its flux and by number; by what its light brings to cells.
constexpr double kChosenByFlux = 0.3;
// Of the weights by which virtual lights are divided into clusters, the part of their number.
constexpr double kByNumber = 0.2;
// Of the cells, one in so many looks at the first clusters.
constexpr std::size_t kFirstLook = 4;
// About so many virtual lights of a set are kept.
constexpr double kKeptLights = 4096;
constexpr std::size_t kPlacesPerBlock = 256;
// Rays by which distant lights learn where their light enters, of all of them together; and from
// how far their rays come, relative to the scene.
constexpr std::size_t kDistantTries = 1 << 18;
constexpr float kFarOut = 1e4f;
constexpr std::uint32_t kDistantStream = 0x64697374U;
constexpr std::uint32_t kTrainingStream = 0x76706c74U, kPictureStream = 0x76706c73U;

// Samples that estimate the flux of emission cells: of all lights together, and the least and the
// most of one cell.
constexpr std::size_t kEmissionSamples = 1 << 18, kLeastOfEmissionCell = 8,
                      kMostOfEmissionCell = 64;

// Emission cells of a light along one side of its square of directions. With few lights each has
// many training photons, which tell in small cells which of its directions matter (those between
// slats, for example). With more than 32 a cell gets too few photons to learn from.
std::size_t emission_cells(std::size_t lights) {
  return lights <= 4 ? 32 : lights <= 64 ? 16 : lights <= 512 ? 8 : 2;
}

// The box of all bounded surfaces and of all haze: light from far enters it from outside. Nothing
// where haze has no end, for then light enters nowhere.
std::optional<Bounds> entry_box(const Scene& scene) {
  Bounds box = scene.world.bounds();
  for (const Haze& h : scene.hazes) {
    const Bounds of_haze = h.inside ? h.inside->bounds() : Bounds::everywhere();
    if (of_haze.diagonal() >= kFar) {
      return std::nullopt;
    }
    box.add(of_haze);
  }
  return box;
}

// Lights with declared departures that depend on the way from light to surface, or on the camera
// path, are left to camera paths; all are, where some surface receives no shadow.
bool can_carry(const Scene& scene, const Emitter& e, bool distant) {
  const LightCheats& c = e.cheats;
  const bool may_come = !e.is_distant() || (distant && !MaskWindow::suits(e));
  return !scene.has_unshadowed && may_come && !e.endless && e.link_bit == 0 &&
         e.casters == kNoIndex && !(c.shadow_color > 0.0f).any() && c.bounce_limit == 0 &&
         !c.any_on_reflection() && (e.detail == nullptr || !e.detail->inside);
}

double flux_of(const std::variant<LightEmission, DistantEmission>& emission) {
  return std::visit([](const auto& e) { return e.flux(); }, emission);
}

// What a place sends on or takes in of the direction `to` (unit), as a diffuse surface or even
// haze would, 1/sr.
float facing(const Vec3& normal, const Vec3& to) {
  return normal.isZero() ? 0.25f / kPi : std::max(0.0f, normal.dot(to)) / kPi;
}

}  // namespace

DirectionLanes directions_to(const VirtualLightLanes& y,
                             const Vec3& p,
                             VirtualLightLanes::Floats& d2) {
  const auto along = [&](int axis) {
    return VirtualLightLanes::each([&](std::size_t i) { return y.lights[i]->position[axis]; }) -
           p[axis];
  };
  const VirtualLightLanes::Floats to_x = along(0), to_y = along(1), to_z = along(2);
  d2 = to_x * to_x + to_y * to_y + to_z * to_z;
  const VirtualLightLanes::Floats inverse = 1 / VirtualLightLanes::square_root(d2);
  return {to_x * inverse, to_y * inverse, to_z * inverse};
}

// On surfaces, where most stand, in all lanes at once.
SentLanes sent_in_lanes(const VirtualLightLanes& y,
                        const DirectionLanes& wi,
                        const VirtualLightLanes::Floats& d2) {
  using Floats = VirtualLightLanes::Floats;
  const auto normals = [&](int axis) {
    return VirtualLightLanes::each([&](std::size_t i) { return y.lights[i]->normal[axis]; });
  };
  const Floats flux = VirtualLightLanes::each([&](std::size_t i) { return y.lights[i]->flux; });
  const Floats cosine =
      VirtualLightLanes::absolute(normals(0) * wi.x + normals(1) * wi.y + normals(2) * wi.z);
  SentLanes out{cosine, flux * cosine / (kPi * d2)};
  for (std::uint32_t i = 0; i < VirtualLightLanes::kCount; ++i) {
    if (!y.lights[i]->is_diffuse()) {
      out.facing[i] = y.lights[i]->facing(wi.at(i));
      out.brought[i] = flux[i] * y.lights[i]->sent(wi.at(i), d2[i]);
    }
  }
  return out;
}

VirtualLightSketch VirtualLightSketch::of(const VirtualLight& y) {
  const bool haze = y.is_in_haze(), diffuse = !haze && y.lobe.isZero();
  // g is never rounded to 1 or -1: the phase function would be 0 in all directions but one.
  constexpr float kMost = kGScale - 1;
  return {y.position,
          haze      ? Vec3(y.sigma_t * y.to_light)
          : diffuse ? y.normal
                    : Vec3(-y.lobe),
          y.flux.mean(),
          y.scatterings,
          static_cast<std::uint8_t>(std::min<int>(y.in_haze, 255)),
          diffuse
              ? kDiffuse
              : static_cast<std::int8_t>(std::lround(std::clamp(kGScale * y.g, -kMost, kMost)))};
}

std::vector<bool> VirtualLights::could_carry(const Scene& scene, bool distant) {
  distant = distant && entry_box(scene).has_value();
  std::vector<bool> out(scene.layers.size(), true);
  for (const Emitter& e : scene.emitters) {
    for (std::uint32_t l = e.layer;
         e.layer != kNoIndex && l < e.layer + (e.channels != nullptr ? 3U : 1U);
         ++l) {
      out[l] = out[l] && (!e.shines() || can_carry(scene, e, distant));
    }
  }
  return out;
}

bool VirtualLights::could_carry_all(const Scene& scene, bool distant) {
  distant = distant && entry_box(scene).has_value();
  return std::all_of(
             scene.emitters.begin(),
             scene.emitters.end(),
             [&](const Emitter& e) { return !e.shines() || can_carry(scene, e, distant); }) &&
         std::none_of(
             scene.hazes.begin(), scene.hazes.end(), [](const Haze& h) { return h.emission > 0; });
}

bool VirtualLights::stand_on(const SurfaceModel& m) {
  // Glass of a roughness of 0.2 and more: its lobes are known where virtual lights are chosen.
  constexpr float kWideGloss = 0.25f, kWideGlass = 0.04f;
  switch (m.kind) {
    case SurfaceKind::kDiffuse:
    case SurfaceKind::kTranslucent:
      return true;
    case SurfaceKind::kMetal:
    case SurfaceKind::kGloss:
      return m.alpha >= kWideGloss;
    case SurfaceKind::kGlass:
      return m.alpha >= kWideGlass;
  }
  return false;
}

struct VirtualLights::Builder {
  VirtualLights& v;
  std::vector<VirtualLight> lights;
  std::vector<double> weights;  // of each, for clusters
  std::size_t pairs = kMostPairs;
  double again = 0;  // looks of each cell that hardly any light reaches

  // What a cell knows of one cluster.
  struct Seen {
    float expected = 0;                   // of all looks together, unoccluded,
    float near = 0;                       // and by its distance alone
    std::uint16_t looks = 0;              // so many,
    std::uint16_t rays = 0, arrived = 0;  // and whether something stood in the way
  };
  struct Cell {
    std::vector<std::uint32_t> places;
    std::vector<Seen> seen;  // of each cluster
    bool hidden = false;     // hardly any of the clusters' light arrives
  };
  // One look from a cell at a virtual light.
  struct Look {
    std::uint32_t light = 0;
    float brings = 0;  // unoccluded
    bool arrives = false;
  };

  // Divides until a cluster has little weight or few members.
  void divide(std::uint32_t index,
              std::span<const ClusterMember> all,
              std::span<std::uint32_t> members,
              double least,
              int depth) {
    double whole = 0;
    for (const std::uint32_t m : members) {
      whole += weights[m];
    }
    const bool is_large = depth < kDeepest && members.size() > kLeastOfCluster && whole > least;
    const std::optional<ClusterCut> cut = is_large ? cut_cluster(all, members) : std::nullopt;
    if (!cut) {
      make_cluster(index, members);
      return;
    }
    const auto child = static_cast<std::uint32_t>(v.nodes_.size());
    v.nodes_.resize(v.nodes_.size() + 2);
    v.nodes_[index] = {cut->at, cut->axis, child};
    divide(child, all, members.first(cut->first), least, depth + 1);
    divide(child + 1, all, members.subspan(cut->first), least, depth + 1);
  }

  void make_cluster(std::uint32_t index, std::span<const std::uint32_t> members) {
    v.nodes_[index].child = static_cast<std::uint32_t>(v.clusters_++);
    for (const std::uint32_t m : members) {
      lights[m].cluster = v.nodes_[index].child;
    }
    v.density_.push_back(1 / size_of(members));
  }

  // Area over which a cluster's places are spread, volume in haze: as if they were spread evenly
  // over a box with their covariance.
  float size_of(std::span<const std::uint32_t> members) const {
    Vec3d mean = Vec3d::Zero();
    for (const std::uint32_t m : members) {
      mean += lights[m].position.cast<double>() / static_cast<double>(members.size());
    }
    Mat3d scatter = Mat3d::Zero();
    for (const std::uint32_t m : members) {
      const Vec3d d = lights[m].position.cast<double>() - mean;
      scatter += d * d.transpose() / static_cast<double>(members.size());
    }
    const double whole = std::max(1e-3, static_cast<double>(v.scene_.world.bounds().diagonal()));
    Vec3d side = Eigen::SelfAdjointEigenSolver<Mat3d>(scatter).eigenvalues();
    side = (12 * side.cwiseMax(0.0)).cwiseSqrt().cwiseMax(1e-3 * whole);
    const bool haze = !members.empty() && lights[members[0]].is_in_haze();
    return static_cast<float>(side[2] * side[1] * (haze ? side[0] : 1.0));
  }

  void make_clusters() {
    v.nodes_.clear();
    v.density_.clear();
    v.clusters_ = 0;
    v.haze_root_ = kNoIndex;
    std::vector<std::uint32_t> on_surfaces, in_haze;
    std::vector<ClusterMember> all;
    for (std::uint32_t i = 0; i < lights.size(); ++i) {
      all.push_back({lights[i].position, v.side_of(lights[i]), weights[i]});
      (lights[i].is_in_haze() ? in_haze : on_surfaces).push_back(i);
    }
    const auto least = [&](const std::vector<std::uint32_t>& members, std::size_t clusters) {
      double whole = 0;
      for (const std::uint32_t m : members) {
        whole += weights[m];
      }
      return whole / static_cast<double>(clusters);
    };
    v.nodes_.resize(1);
    divide(0, all, on_surfaces, least(on_surfaces, kSurfaceClusters), 0);
    if (!in_haze.empty()) {
      v.haze_root_ = static_cast<std::uint32_t>(v.nodes_.size());
      v.nodes_.emplace_back();
      divide(v.haze_root_, all, in_haze, least(in_haze, kHazeClusters), 0);
    }
  }

  // Looks from one of a cell's places at one of a cluster's virtual lights. `number`: a hash that
  // chooses both; `ask`: by a ray as well.
  Look look(Seen& seen,
            const Cell& cell,
            const std::vector<ShadingPlace>& places,
            const VirtualLightSet& set,
            std::size_t cluster,
            std::uint32_t number,
            bool ask,
            RayCounts& rays) const {
    const std::uint32_t first = set.begin[cluster], count = set.begin[cluster + 1] - first;
    Look out{first + number % count};
    const VirtualLight& y = set.lights[out.light];
    const ShadingPlace& x = places[cell.places[(number >> 16) % cell.places.size()]];
    const Vec3 to = y.position - x.position;
    const float d2 = std::max(to.squaredNorm(), 0.25f / v.density_[cluster]);
    const Vec3 wi = to.normalized();
    const float near = y.flux.mean() / d2 * static_cast<float>(count);
    out.brings = near * received_at(x, wi) * sent_by(y, -wi);
    ++seen.looks;
    seen.near += near;
    seen.expected += out.brings;
    if (out.brings > 0 && ask) {
      ++seen.rays;
      out.arrives = passes(x, y, wi, rays);
      if (out.arrives) {
        ++seen.arrived;
      }
    }
    return out;
  }

  bool passes(const ShadingPlace& x, const VirtualLight& y, const Vec3& wi, RayCounts& rays) const {
    const Vec3 from = ray_start(x),
               end = y.position - std::copysign(y.offset, y.normal.dot(wi)) * y.normal,
               way = end - from;
    const float distance = way.norm();
    ++rays.shadow;
    const Spectrum passed = passage(
        v.scene_, ShadowRule{}, Ray{from, way / distance, distance * (1 - 1e-5f)}, kNoIndex, rays);
    return (passed > 0.0f).any();
  }

  // Looks from a cell's places at some virtual lights of each cluster. `arrivals`: of virtual
  // lights, what arrives; added to.
  void look_at_all(Cell& cell,
                   const std::vector<ShadingPlace>& places,
                   const VirtualLightSet& set,
                   std::uint32_t number,
                   std::vector<std::pair<std::uint32_t, float>>& arrivals,
                   RayCounts& rays) const {
    cell.seen.assign(v.clusters_, {});
    if (cell.places.empty()) {
      return;
    }
    double sent = 0, arrived = 0;
    for (std::uint32_t k = 0; k < v.clusters_; ++k) {
      Seen& seen = cell.seen[k];
      for (std::uint32_t i = 0; i < kLooks && set.begin[k] < set.begin[k + 1]; ++i) {
        const bool ask = seen.rays < pairs;
        const Look l = look(seen, cell, places, set, k, mix(mix(number, k), i), ask, rays);
        sent += ask ? static_cast<double>(l.brings) : 0.0;
        if (l.arrives) {
          arrived += static_cast<double>(l.brings);
          arrivals.emplace_back(l.light, l.brings);
        }
      }
    }
    cell.hidden = arrived < kHidden * sent;
  }

  // A cell that hardly any light reaches looks again, as what few rays told of it is chance: at all
  // clusters, and most at those that are likely to bring much.
  void look_again(Cell& cell,
                  const std::vector<double>& neighbors,
                  const std::vector<ShadingPlace>& places,
                  const VirtualLightSet& set,
                  std::uint32_t number,
                  RayCounts& rays) const {
    std::vector<double> weight(v.clusters_);
    double all = 0;
    for (std::size_t k = 0; k < v.clusters_; ++k) {
      weight[k] = brings(cell.seen[k], neighbors[k]);
      all += weight[k];
    }
    const double each = 0.5 * again / static_cast<double>(v.clusters_);
    for (std::uint32_t k = 0; k < v.clusters_; ++k) {
      const double by_weight = all > 0 ? 0.5 * again * weight[k] / all : 0;
      const auto asked = static_cast<std::uint32_t>(std::min(kMostAgain, each + by_weight));
      for (std::uint32_t i = 0; i < asked && set.begin[k] < set.begin[k + 1]; ++i) {
        look(cell.seen[k], cell, places, set, k, mix(mix(number, k), kLooks + i), true, rays);
      }
    }
  }

  // What a cluster brings to a cell: unoccluded, times the part that is expected to arrive.
  static double brings(const Seen& s, double neighbors) {
    return expected(s) * arrival(s, neighbors);
  }
  static double arrival(const Seen& s, double neighbors) {
    const double own = (s.arrived + kNeighborRays * neighbors) / (s.rays + kNeighborRays);
    return (1 - kNeighborPart) * own + kNeighborPart * neighbors;
  }
  static double expected(const Seen& s) {
    return s.looks > 0 ? static_cast<double>(s.expected) / s.looks : 0;
  }

  // What a shading place receives from wi, 1/sr: as facing(), in haze partly by the phase function.
  static float received_at(const ShadingPlace& x, const Vec3& wi) {
    return x.travel.isZero() ? facing(x.normal, wi)
                             : kByPhase * henyey_greenstein(x.travel.dot(wi), x.g) +
                                   (1 - kByPhase) * facing(Vec3::Zero(), wi);
  }

  // As facing(), of a virtual light: a sheet sends light on to both sides.
  float sent_by(const VirtualLight& y, const Vec3& to) const {
    if (y.is_in_haze()) {
      return henyey_greenstein(-to.dot(y.to_light), y.g);
    }
    if (!y.lobe.isZero()) {
      return henyey_greenstein(to.dot(y.lobe), y.g);
    }
    const bool both = v.scene_.materials[y.material].kind == SurfaceKind::kTranslucent;
    return facing(both && y.normal.dot(to) < 0 ? Vec3(-y.normal) : y.normal, to);
  }

  // Chances of a cell's clusters, and of each the part that is expected to arrive.
  void add_row(const Cell& cell,
               const std::vector<double>& neighbors,
               float* row,
               float* arrives) const {
    std::vector<double> weight(v.clusters_);
    double all = 0, unoccluded = 0, near = 0;
    const auto near_of = [](const Seen& s) {
      return s.looks > 0 ? static_cast<double>(s.near) / s.looks : 0;
    };
    for (std::size_t k = 0; k < v.clusters_; ++k) {
      const Seen& s = cell.seen[k];
      weight[k] = brings(s, neighbors[k]);
      all += weight[k];
      unoccluded += expected(s);
      near += near_of(s);
    }
    double sum = 0;
    for (std::size_t k = 0; k < v.clusters_; ++k) {
      if (all > 0) {
        sum += (1 - kUnoccluded - kByDistance) * weight[k] / all +
               kUnoccluded * expected(cell.seen[k]) / unoccluded +
               kByDistance * near_of(cell.seen[k]) / near;
      }
      row[k + 1] = static_cast<float>(sum);
      arrives[k] = static_cast<float>(std::max(kLeastArrival, arrival(cell.seen[k], neighbors[k])));
    }
  }

  // Of each cluster, the share of its light that arrives in these cells.
  std::vector<double> seen_by(const std::vector<Cell>& cells,
                              const std::vector<std::uint32_t>& numbers) const {
    std::vector<double> out(v.clusters_);
    for (std::size_t k = 0; k < v.clusters_; ++k) {
      double sent = kAllRays, arrived = kAllShare * kAllRays;
      for (const std::uint32_t c : numbers) {
        sent += cells[c].seen[k].rays;
        arrived += cells[c].seen[k].arrived;
      }
      out[k] = arrived / sent;
    }
    return out;
  }

  // Rows of one tree's cells; of every `step`th, where nothing but `useful` is wanted.
  void learn(const GuideTree& tree,
             std::size_t step,
             const std::vector<ShadingPlace>& places,
             const VirtualLightSet& set,
             std::size_t first_row,
             std::vector<double>& useful,
             RayCounts& rays) const {
    const std::vector<std::vector<std::uint32_t>> of_cells =
        places_by_cell(tree, places, kMostPlaces);
    std::vector<Cell> cells(tree.cells());
    for (std::size_t c = 0; c < cells.size(); ++c) {
      cells[c].places = of_cells[c];
    }
    std::vector<std::vector<std::pair<std::uint32_t, float>>> arrivals(cells.size());
    std::vector<RayCounts> counts(cells.size());
    parallel_for((cells.size() + step - 1) / step, [&](std::size_t group) {
      const std::size_t c = group * step;
      look_at_all(cells[c], places, set, static_cast<std::uint32_t>(c), arrivals[c], counts[c]);
    });
    for (std::size_t c = 0; c < cells.size(); ++c) {
      rays += counts[c];
      double all = 0;
      for (const auto& [light, e] : arrivals[c]) {
        all += static_cast<double>(e);
      }
      for (const auto& [light, e] : arrivals[c]) {
        useful[light] += static_cast<double>(e) / all;
      }
    }
    if (step > 1) {
      return;
    }
    counts.assign(cells.size(), {});
    const std::vector<std::vector<std::uint32_t>> neighbors =
        neighbors_of(of_cells, places, kNeighbors);
    std::vector<std::vector<double>> seen(cells.size());
    const auto ask_neighbors = [&] {
      parallel_for(cells.size(), [&](std::size_t c) { seen[c] = seen_by(cells, neighbors[c]); });
    };
    ask_neighbors();
    parallel_for(cells.size(), [&](std::size_t c) {
      if (cells[c].hidden) {
        look_again(cells[c], seen[c], places, set, static_cast<std::uint32_t>(c), counts[c]);
      }
    });
    ask_neighbors();
    parallel_for(cells.size(), [&](std::size_t c) {
      add_row(cells[c],
              seen[c],
              v.rows_.data() + (first_row + c) * (v.clusters_ + 1),
              v.arrives_.data() + (first_row + c) * v.clusters_);
    });
    for (const RayCounts& c : counts) {
      rays += c;
    }
  }

  // Virtual lights' weights for clusters: by number, and by what their cluster brings to cells.
  void weigh_by(const VirtualLightSet& set, const std::vector<double>& useful) {
    std::vector<double> of_cluster(v.clusters_);
    double all = 0;
    for (std::size_t i = 0; i < useful.size(); ++i) {
      of_cluster[set.lights[i].cluster] += useful[i];
      all += useful[i];
    }
    lights = set.lights;
    const auto count = static_cast<double>(lights.size());
    weights.assign(lights.size(), 1.0);
    for (std::size_t i = 0; i < lights.size() && all > 0; ++i) {
      const std::uint32_t k = lights[i].cluster;
      const auto members = static_cast<double>(set.begin[k + 1] - set.begin[k]);
      weights[i] = kByNumber + (1 - kByNumber) * of_cluster[k] / all * count / members;
    }
  }

  // The part of each cluster's virtual lights that a set keeps.
  void keep_by(const VirtualLightSet& set, const std::vector<double>& useful) {
    std::vector<double> of_cluster(v.clusters_);
    double all = 0;
    for (std::size_t i = 0; i < useful.size(); ++i) {
      of_cluster[set.lights[i].cluster] += useful[i];
      all += useful[i];
    }
    const double part =
        static_cast<double>(v.plan_.paths) / static_cast<double>(v.plan_.training_paths);
    v.kept_.assign(v.clusters_, 1.0f);
    for (std::size_t k = 0; k < v.clusters_ && all > 0; ++k) {
      const double traced = part * static_cast<double>(set.begin[k + 1] - set.begin[k]);
      const double wanted =
          kKeptLights * (0.1 / static_cast<double>(v.clusters_) + 0.9 * of_cluster[k] / all);
      v.kept_[k] = static_cast<float>(std::clamp(wanted / std::max(traced, 1.0), 0.02, 1.0));
    }
  }

  // Lights, and cells of their emission, by what arrived of them: with the chance p before, and the
  // squares of what single virtual lights brought, by sqrt(p sum of squares). For least variance
  // the density goes with the root of the second moment, not with the mean: rare bright ones count
  // more.
  void choose_emission_by(const VirtualLightSet& set, const std::vector<double>& useful) {
    std::vector<double> of_light(v.emitters_.size());
    std::vector<std::vector<double>> of_cell(v.emitters_.size());
    for (std::size_t l = 0; l < v.emitters_.size(); ++l) {
      of_cell[l].resize(std::visit([](const auto& e) { return e.cells(); }, v.emission_[l]));
    }
    for (std::size_t i = 0; i < useful.size(); ++i) {
      const std::size_t l = v.place_of_[set.lights[i].emitter];
      of_light[l] += sqr(useful[i]);
      of_cell[l][set.lights[i].emission_cell] += sqr(useful[i]);
    }
    double all = 0, before = 0;
    for (std::size_t l = 0; l < of_light.size(); ++l) {
      of_light[l] = std::sqrt((v.light_cumulative_[l] - before) * of_light[l]);
      before = v.light_cumulative_[l];
      all += of_light[l];
    }
    if (!(all > 0)) {
      return;
    }
    double sum = 0;
    before = 0;
    for (std::size_t l = 0; l < of_light.size(); ++l) {
      const double own = v.light_cumulative_[l] - before;
      before = v.light_cumulative_[l];
      sum += kChosenByFlux * own + (1 - kChosenByFlux) * of_light[l] / all;
      v.light_cumulative_[l] = sum;
      std::visit(
          [&](auto& emission) {
            for (std::size_t c = 0; c < of_cell[l].size(); ++c) {
              of_cell[l][c] = std::sqrt(emission.chance(c) * of_cell[l][c]);
            }
            emission.choose_by(of_cell[l]);
          },
          v.emission_[l]);
    }
  }
};

VirtualLights::VirtualLights(const Scene& scene,
                             const Guide& guide,
                             const std::vector<ShadingPlace>& surfaces,
                             const std::vector<ShadingPlace>& haze,
                             const Plan& plan,
                             RayCounts& rays)
    : scene_(scene), guide_(guide), plan_(plan), carried_(scene.emitters.size()) {
  if (plan.bounces < 2 || guide.surfaces.empty()) {
    return;
  }
  if (const std::optional<Bounds> box = entry_box(scene)) {
    entry_ = *box;
  } else {
    plan_.distant = false;
  }
  choose_lights(surfaces, haze, rays);
  if (!emitters_.empty()) {
    learn_rows(surfaces, haze, rays);
  }
}

// The lights that photons begin at, their emission, and the chance of each: half by flux, half the
// same for all, so that a faint light near the camera is not forgotten.
void VirtualLights::choose_lights(const std::vector<ShadingPlace>& surfaces,
                                  const std::vector<ShadingPlace>& haze,
                                  RayCounts& rays) {
  const std::size_t all = scene_.emitters.size();
  aims_.resize(all);
  place_of_.assign(all, kNoIndex);
  carries_all_ = could_carry_all(scene_, plan_.distant);
  std::vector<std::uint32_t> shining;
  for (std::uint32_t i = 0; i < all; ++i) {
    const Emitter& e = scene_.emitters[i];
    if (e.shines() && can_carry(scene_, e, plan_.distant)) {
      shining.push_back(i);
      carried_[i] = 1;
      aims_[i] = without_place(e);
    }
  }
  std::vector<Emission> emission = emission_of(shining, surfaces, haze, rays);
  double flux = 0;
  for (std::size_t l = 0; l < shining.size(); ++l) {
    const double of_light = flux_of(emission[l]);
    if (of_light > 0) {
      place_of_[shining[l]] = static_cast<std::uint32_t>(emitters_.size());
      emitters_.push_back(shining[l]);
      flux += of_light;
      light_cumulative_.push_back(of_light);
      emission_.push_back(std::move(emission[l]));
    }
  }
  double sum = 0;
  for (double& c : light_cumulative_) {
    sum += 0.5 * c / flux + 0.5 / static_cast<double>(emitters_.size());
    c = sum;
  }
}

std::vector<VirtualLights::Emission> VirtualLights::emission_of(
    const std::vector<std::uint32_t>& shining,
    const std::vector<ShadingPlace>& surfaces,
    const std::vector<ShadingPlace>& haze,
    RayCounts& rays) const {
  if (shining.empty()) {
    // Suns and skies alone, in haze without end that lets nothing of them through.
    return {};
  }
  const float size = std::max(1e-3f, scene_.world.bounds().diagonal());
  const std::size_t side = emission_cells(shining.size());
  const auto samples = static_cast<std::uint32_t>(
      std::clamp<std::size_t>(kEmissionSamples / (shining.size() * side * side),
                              kLeastOfEmissionCell,
                              kMostOfEmissionCell));
  const auto from_far = static_cast<std::size_t>(std::count_if(
      shining.begin(), shining.end(), [&](std::uint32_t i) { return aims_[i].is_distant(); }));
  const std::size_t tries = kDistantTries / std::max<std::size_t>(from_far, 1);
  std::vector<Emission> out(shining.size());
  parallel_for(shining.size(), [&](std::size_t l) {
    if (!aims_[shining[l]].is_distant()) {
      out[l] = LightEmission(aims_[shining[l]], 0.5f * size, side, samples);
    }
  });
  if (from_far > 0) {
    std::vector<ShadingPlace> places = surfaces;
    places.insert(places.end(), haze.begin(), haze.end());
    for (std::size_t l = 0; l < shining.size(); ++l) {
      if (aims_[shining[l]].is_distant()) {
        out[l] = distant_emission(shining[l], tries, places, rays);
      }
    }
  }
  return out;
}

// Clusters of the virtual lights of training, and for each cell of places their chances: first by
// some of the cells, to tell which virtual lights matter, then by all.
void VirtualLights::learn_rows(const std::vector<ShadingPlace>& surfaces,
                               const std::vector<ShadingPlace>& haze,
                               RayCounts& rays) {
  Builder builder{*this,
                  trace_paths(plan_.seed, kTrainingStream, plan_.training_paths, rays),
                  {},
                  kMostPairs,
                  0};
  if (builder.lights.empty()) {
    return;
  }
  builder.weights.assign(builder.lights.size(), 1.0);
  const std::size_t rows = guide_.surfaces.cells() + guide_.haze.cells();
  VirtualLightSet set;
  std::vector<double> useful;
  for (const std::size_t step : {kFirstLook, std::size_t{1}}) {
    builder.make_clusters();
    set = sorted(builder.lights);
    const std::size_t cells = rows / step;
    builder.pairs = std::clamp<std::size_t>(
        kPairsOfAll / std::max<std::size_t>(cells * clusters_, 1), 1, kMostPairs);
    builder.again = std::min(kMostOfCell, plan_.looks / static_cast<double>(cells));
    rows_.assign(rows * (clusters_ + 1), 0.0f);
    arrives_.assign(rows * clusters_, 0.0f);
    useful.assign(set.lights.size(), 0.0);
    builder.learn(guide_.surfaces, step, surfaces, set, 0, useful, rays);
    if (!guide_.haze.empty()) {
      builder.learn(guide_.haze, step, haze, set, guide_.surfaces.cells(), useful, rays);
    }
    builder.weigh_by(set, useful);
  }
  fill_bins();
  builder.keep_by(set, useful);
  builder.choose_emission_by(set, useful);
}

// Shadow rays from places of camera paths toward a distant light: by which of them it arrives.
std::vector<DistantArrival> VirtualLights::distant_arrivals(std::uint32_t emitter,
                                                            std::size_t tries,
                                                            const Vec3& middle,
                                                            const std::vector<ShadingPlace>& places,
                                                            RayCounts& rays) const {
  const Emitter& aim = aims_[emitter];
  std::vector<std::vector<DistantArrival>> blocks((tries + kPlacesPerBlock - 1) / kPlacesPerBlock);
  std::vector<RayCounts> counts(blocks.size());
  parallel_for(blocks.size(), [&](std::size_t b) {
    for (std::size_t i = b * kPlacesPerBlock; i < std::min(tries, (b + 1) * kPlacesPerBlock); ++i) {
      const Sampler sampler(
          plan_.seed, mix(kDistantStream, emitter), static_cast<std::uint32_t>(i));
      const auto number =
          static_cast<std::size_t>(sampler.single(0) * static_cast<float>(places.size()));
      const ShadingPlace& x = places[std::min(number, places.size() - 1)];
      const Vec2 u = sampler.pair(1);
      const LightSample light = DistantEmission::direction(aim, u);
      const float brings = x.normal.isZero() ? 0.25f : std::max(0.0f, x.normal.dot(light.wi));
      if (!(light.weight > 0) || !(brings > 0)) {
        continue;
      }
      ++counts[b].shadow;
      const Ray ray{ray_start(x), light.wi};
      Rng random(static_cast<std::uint64_t>(mix(plan_.seed, emitter)) << 32 | i);
      const float weight = light.weight * brings * haze_passes(scene_, ray, kFar, random) *
                           passage(scene_, ShadowRule{}, ray, kNoIndex, counts[b]).mean();
      if (weight > 0 && std::isfinite(weight)) {
        blocks[b].push_back({DistantEmission::ray_of(aim, middle, x.position, light.wi), weight});
      }
    }
  });
  std::vector<DistantArrival> out;
  for (std::size_t b = 0; b < blocks.size(); ++b) {
    out.insert(out.end(), blocks[b].begin(), blocks[b].end());
    rays += counts[b];
  }
  return out;
}

DistantEmission VirtualLights::distant_emission(std::uint32_t emitter,
                                                std::size_t tries,
                                                const std::vector<ShadingPlace>& places,
                                                RayCounts& rays) const {
  // About the middle of the places, by each coordinate: few far ones do not move it.
  Vec3 middle = Vec3::Zero();
  for (int k = 0; k < 3 && !places.empty(); ++k) {
    std::vector<float> along;
    along.reserve(places.size());
    for (const ShadingPlace& s : places) {
      along.push_back(s.position[k]);
    }
    const auto half = along.begin() + static_cast<std::ptrdiff_t>(along.size() / 2);
    std::nth_element(along.begin(), half, along.end());
    middle[k] = *half;
  }
  return {aims_[emitter], middle, distant_arrivals(emitter, tries, middle, places, rays)};
}

Covers VirtualLights::covers(const Emitter& e, const Vec3& p, const Vec3& toward) const {
  const std::uint32_t place = place_of_[static_cast<std::size_t>(&e - scene_.emitters.data())];
  if (place == kNoIndex) {
    return Covers::kNothing;
  }
  return e.is_distant() ? std::get<DistantEmission>(emission_[place]).covers(e, p, toward)
                        : Covers::kAll;
}

bool VirtualLights::enters(EmittedPhoton& photon, RayCounts& rays) const {
  const Bounds& box = entry_;
  const Vec3 toward = -photon.ray.direction, plane = photon.ray.origin;
  float outside = 0;  // from the plane on, beyond all bounded surfaces and all haze
  if (!box.empty()) {
    outside = (box.center() - plane).dot(toward) + 0.51f * box.diagonal();
  }
  photon.ray.origin = plane + outside * toward;
  if (!scene_.world.has_endless()) {
    return true;
  }
  // An endless floor is met far out by flat light. The place is found from afar, and the ray begins
  // a little before it: so near that its rounding is small.
  const float far = outside + kFarOut * (1 + box.diagonal() + (plane - box.center()).norm());
  const Ray from_far{plane + far * toward, photon.ray.direction};
  ++rays.path;
  const Hit hit = scene_.world.closest(from_far);
  if (!hit.found()) {
    return false;
  }
  photon.ray.origin = plane + std::max(outside, far - hit.t + 1e-5f * far) * toward;
  return true;
}

void VirtualLights::fill_bins() {
  const std::size_t rows = rows_.size() / (clusters_ + 1);
  bins_.assign(rows * (kBins + 1), 0);
  parallel_for(rows, [&](std::size_t r) {
    const float* const row = rows_.data() + r * (clusters_ + 1);
    std::uint32_t cluster = 0;
    for (std::uint32_t bin = 0; bin < kBins; ++bin) {
      while (cluster + 1 < clusters_ && row[cluster + 1] <= static_cast<float>(bin) / kBins) {
        ++cluster;
      }
      bins_[r * (kBins + 1) + bin] = static_cast<std::uint16_t>(cluster);
    }
    bins_[r * (kBins + 1) + kBins] = static_cast<std::uint16_t>(clusters_ - 1);
  });
}

std::uint32_t VirtualLights::cluster_at(const Vec3& y, const Vec3& side, bool in_haze) const {
  std::uint32_t index = in_haze ? haze_root_ : 0;
  if (index == kNoIndex) {
    return kNoIndex;
  }
  while (nodes_[index].axis < Node::kLeaf) {
    const Node& n = nodes_[index];
    index = n.child + (coordinate(y, side, n.axis) >= n.cut ? 1 : 0);
  }
  return nodes_[index].child;
}

const float* VirtualLights::row_at(const Vec3& p, const Vec3& normal, bool in_haze) const {
  const GuideTree& tree = in_haze ? guide_.haze : guide_.surfaces;
  if (tree.empty()) {
    return nullptr;
  }
  const std::size_t row = tree.cell_at(p, normal) + (in_haze ? guide_.surfaces.cells() : 0);
  const float* const out = rows_.data() + row * (clusters_ + 1);
  return out[clusters_] > 0 ? out : nullptr;
}

std::vector<VirtualLight> VirtualLights::trace_paths(std::uint32_t seed,
                                                     std::uint32_t stream,
                                                     std::size_t paths,
                                                     RayCounts& rays) const {
  std::vector<std::vector<VirtualLight>> blocks((paths + kPlacesPerBlock - 1) / kPlacesPerBlock);
  std::vector<RayCounts> counts(blocks.size());
  // Systematic choice of lights: as many photons of each as its share, with one random number.
  const double start = static_cast<double>(unit_float(mix(mix(seed, stream), 0x6c696768U)));
  parallel_for(blocks.size(), [&](std::size_t b) {
    const MarchCounts march_before = march_counts();
    VirtualLightWalk walk(scene_, plan_.bounces, plan_.haze_bounces, counts[b]);
    for (std::size_t i = b * kPlacesPerBlock; i < std::min(paths, (b + 1) * kPlacesPerBlock); ++i) {
      const double u = (static_cast<double>(i) + start) / static_cast<double>(paths);
      const auto above =
          std::upper_bound(light_cumulative_.begin(), light_cumulative_.end() - 1, u);
      const auto l = static_cast<std::size_t>(above - light_cumulative_.begin());
      const double chance = light_cumulative_[l] - (l > 0 ? light_cumulative_[l - 1] : 0.0);
      const Sampler sampler(seed, stream, static_cast<std::uint32_t>(i));
      const Emitter& aim = aims_[emitters_[l]];
      EmittedPhoton photon = std::visit(
          [&](const auto& emission) {
            return emission.sample(aim, sampler.single(0), sampler.pair(1), sampler.pair(2));
          },
          emission_[l]);
      if (!(photon.flux > 0) || !(chance > 0) || (aim.is_distant() && !enters(photon, counts[b]))) {
        continue;
      }
      const Rng random(static_cast<std::uint64_t>(mix(mix(seed, stream), 0x77616c6bU)) << 32 | i);
      walk.run(photon,
               emitters_[l],
               static_cast<double>(photon.flux) / (chance * static_cast<double>(paths)),
               random,
               blocks[b]);
    }
    counts[b].march += march_counts() - march_before;
  });
  std::vector<VirtualLight> out;
  for (std::size_t b = 0; b < blocks.size(); ++b) {
    out.insert(out.end(), blocks[b].begin(), blocks[b].end());
    rays += counts[b];
  }
  return out;
}

VirtualLightSet VirtualLights::trace(std::uint32_t seed,
                                     std::uint32_t sample,
                                     RayCounts& rays) const {
  std::vector<VirtualLight> lights =
      trace_paths(seed, mix(kPictureStream, sample), plan_.paths, rays);
  for (VirtualLight& v : lights) {
    v.cluster = cluster_at(v.position, side_of(v), v.is_in_haze());
  }
  // Few are kept where little comes from, each for as many more: what is chosen among stays in the
  // caches. In haze where learning met none they are left to camera paths.
  std::uint32_t index = 0;
  std::erase_if(lights, [&](VirtualLight& v) {
    ++index;
    if (v.cluster == kNoIndex) {
      return true;
    }
    const float kept = kept_[v.cluster];
    if (!(unit_float(mix(mix(seed, sample), mix(index, 0x74686e6eU))) < kept)) {
      return true;
    }
    v.flux /= kept;
    return false;
  });
  return sorted(lights);
}

Vec3 VirtualLights::side_of(const VirtualLight& y) const {
  const bool either = y.is_in_haze() || scene_.materials[y.material].scatters_through();
  return either ? Vec3(Vec3::Zero()) : y.normal;
}

VirtualLightSet VirtualLights::sorted(const std::vector<VirtualLight>& lights) const {
  VirtualLightSet out;
  out.begin.assign(clusters_ + 1, 0);
  for (const VirtualLight& v : lights) {
    ++out.begin[v.cluster + 1];
  }
  std::partial_sum(out.begin.begin(), out.begin.end(), out.begin.begin());
  std::vector<std::uint32_t> next(out.begin.begin(), out.begin.end() - 1);
  out.lights.resize(lights.size());
  for (const VirtualLight& v : lights) {
    out.lights[next[v.cluster]++] = v;
  }
  out.sketches.reserve(lights.size());
  for (const VirtualLight& v : out.lights) {
    out.sketches.push_back(VirtualLightSketch::of(v));
  }
  return out;
}

}  // namespace jovilux
