#pragma once

#include "jovilux/scene/scene.h"
#include "jovilux/transport/direction_tree.h"
#include "jovilux/transport/transport.h"

#include <array>
#include <cstdint>
#include <memory>
#include <mutex>
#include <optional>
#include <unordered_map>
#include <vector>

namespace jovilux {

/// A small plane that receives light by the cosine, on its front.
struct ReceivingPlane {
  Vec3 at = Vec3::Zero();
  Vec3 normal = Vec3::UnitZ();  ///< unit
};

/// Whether ThrownLight can find what mirrors throw of a light: a point or a spot without size,
/// without departures that depend on the way.
bool can_be_thrown(const Scene& scene, const Emitter& e);

/// Whether ThrownLight can tell from where a light comes by mirrors: one of finite size, which
/// paths meet there, but so seldom where it is small that they need to be told.
bool can_be_aimed_at(const Emitter& e);

/// About the largest luminous intensity of a light, over some hundred directions [cd]; without its
/// falloff.
float brightest_intensity(const Emitter& e);

/// What mirrors and smooth glass throw of one light in all directions, for any place.
class ThrownRays {
 public:
  /// The scene must stay where it is. `bounces`: the most mirrors on a way.
  ThrownRays(const Scene& scene, std::uint32_t emitter, int bounces, std::uint32_t seed);

 private:
  friend class ThrownLight;
  // A part of the square of directions (direction_of()).
  struct Cell {
    Vec2 lo = Vec2::Zero();
    float side = 1;
    float spread_before = 0;  // ThrownLight::Verdict::spread of the cell that was divided [m]
    std::uint8_t ways = 0;    // bit k: way k mattered for the parent cell
  };
  struct Stretch {
    Vec3 origin, direction;
    float end;
  };
  // Cells along one side of the square before any is divided: the rays of each lie about a degree
  // apart. Each has four rays on each of its ways: without reflection by glass, and with one at
  // each of so many choices.
  static constexpr std::uint32_t kFirstCells = 128, kRays = 4, kMostChoices = 6,
                                 kWays = kMostChoices + 1;

  // The rays of a cell on all of its ways.
  struct Traced {
    std::vector<Stretch> stretches;  // by way and ray
    std::array<std::uint32_t, kWays * kRays + 1> begin{};
    std::uint32_t choices = 0;  // between reflection and transmission, the most of a ray
  };
  // What was traced of divided cells: all places look at the same ones.
  struct Kept {
    std::mutex lock;
    std::unordered_map<std::uint64_t, std::unique_ptr<const Traced>> cells;
  };
  // Cells divided so often are kept, in so many parts that seldom wait for each other; a cell takes
  // about 1 kB.
  static constexpr int kKeptHalvings = 2;
  static constexpr std::size_t kKeptParts = 64, kMostKeptOfPart = 1 << 9;

  static Vec2 ray_of(const Cell& cell, std::uint32_t ray);
  Traced traced(const Cell& cell) const;
  // Of a cell after so many halvings, kKeptHalvings at most. `own` holds what is not kept, and must
  // outlive the reference.
  const Traced& kept(const Cell& cell, int halvings, Traced& own) const;
  // A photon in a direction of the square, from a place on the light chosen by `on_light` in
  // [0, 1)^2; use(ray, end, flux, how) is called for each stretch that a mirror has thrown it
  // along. Returns how often it was reflected or let through by choice.
  template <class Use>
  int follow(const Vec2& direction,
             const Vec2& on_light,
             std::uint64_t seed,
             std::optional<int> reflected_at,
             double solid_angle,
             const Use& use) const;

  const Scene& scene_;
  Emitter aim_;  // without falloff and tint by position
  float reach_;  // of the light around its center [m]
  float disk_;   // that counts, its radius over the way from the last mirror
  std::uint32_t emitter_;
  int bounces_;
  std::uint32_t seed_;
  std::vector<Traced> first_;  // cells, by row
  std::unique_ptr<std::array<Kept, kKeptParts>> kept_;
};

/// The beams in which one light comes to a place by mirrors and smooth glass alone: no path from
/// there meets a light without size, hardly any a small one, and a path from the light hardly ever
/// meets the place. The
/// light's directions are divided into cells, as equal parts of the sphere. A cell is divided again
/// where the rays of its corners, thrown on by mirrors, pass the place within the distance that
/// they have from each other; until that distance is small beside the way from the last mirror.
/// What then passes a small disk around the place is counted (density estimation; H. W. Jensen,
/// "Global Illumination using Photon Maps", EGWR 1996), of photons from the cells found.
///
/// A mirror that fills less than about a degree from the light may be missed, and so are ways on
/// which glass reflects more than once.
class ThrownLight {
 public:
  /// The rays must stay where they are.
  ThrownLight(const ThrownRays& rays, const ReceivingPlane& plane);

  /// Whether any light was found to come.
  bool any() const { return !cells_.empty(); }
  /// Adds what about so many photons bring to the sink, as the luminance of a white diffuse surface
  /// in the plane [cd/m2]; batches are independent. For lights without size: of others the disk is
  /// wider by half of their radius, and the mean not exact.
  void add(std::uint32_t batch, std::uint32_t photons, LightSink& sink) const;
  /// Adds directions toward the light, as photons come from there: where paths from the plane may
  /// find it. None where no light comes.
  void add_directions(std::vector<DirectionSample>& out) const;

 private:
  using Cell = ThrownRays::Cell;
  // Where a thrown ray comes nearest to the place: seen from there, and from how far it was thrown.
  struct Approach {
    Vec3 offset = Vec3::Zero();
    float thrown_from = 0;
  };
  // What a cell's rays tell.
  struct Verdict {
    bool matters = false, fine = false;
    float spread = 0;       // the largest distance between its rays where they come nearest [m]
    std::uint8_t ways = 0;  // bit k: way k matters
  };
  Verdict judge(const Cell& cell,
                int level,
                std::uint32_t way,
                const ThrownRays::Traced* traced) const;
  Verdict judge(const Cell& cell, int level) const;
  void find_beams();
  // use(ray, radius of the disk [m], flux, how) is called for each photon that comes.
  template <class Use>
  void each_arrival(std::uint32_t batch, std::uint32_t photons, const Use& use) const;

  const ThrownRays& rays_;
  ReceivingPlane plane_;
  std::vector<Cell> cells_;
};

}  // namespace jovilux
