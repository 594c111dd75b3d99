#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/nodes.h"
#include "jovilux/emitters/direction_map.h"
#include "jovilux/emitters/luminous_surface.h"
#include "jovilux/geometry/enclosure.h"
#include "jovilux/geometry/ray.h"
#include "jovilux/photometry/barn_doors.h"
#include "jovilux/photometry/distribution.h"
#include "jovilux/photometry/falloff.h"
#include "jovilux/photometry/gobo.h"
#include "jovilux/photometry/sources.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

namespace jovilux {

/// A color over the position of the lit point: a formula of x, y, z [m] and t [s] looked up in a
/// ramp, its luminance under the light's own white made 1.
struct PositionTint {
  Formula formula;
  /// Value and linear RGB, values increasing, at least 1.
  std::vector<std::pair<double, Eigen::Array3f>> ramp;
  /// Of (1, 0, 0), (0, 1, 0), (0, 0, 1) under the light's table.
  Eigen::Array3f luminance = Eigen::Array3f::Ones();
  double time_s = 0;

  Eigen::Array3f at(const Vec3& p) const;
};

/// The luminance over a rect: a picture of linear Rec.709 values whose mean luminance is 1, row by
/// row from the top, as one sees it who faces the light.
struct ScreenPicture {
  int width = 0, height = 0;
  std::vector<Eigen::Array3f> rgb;  ///< >= 0, finite

  /// The pixel at x, y in [-1, 1] of the light's frame; y upwards.
  const Eigen::Array3f& at(float x, float y) const {
    const auto index = [](float share, int count) {
      return std::clamp(static_cast<int>(share * static_cast<float>(count)), 0, count - 1);
    };
    return rgb[static_cast<std::size_t>(index(0.5f * (1 - y), height)) *
                   static_cast<std::size_t>(width) +
               static_cast<std::size_t>(index(0.5f * (1 + x), width))];
  }
};

/// What only some lights have. Immutable, shared by the copies of an array.
struct EmitterDetail {
  std::shared_ptr<const LuminousDistribution> profile;
  std::shared_ptr<const LuminousSurface> surface;  ///< object
  std::shared_ptr<const DomePicture> dome;
  SkyShape sky;              ///< general sky, in the frame east, north, up
  DirectionMap map;          ///< dome and general sky
  float mean_luminance = 0;  ///< of both, before the emitter's factor
  std::shared_ptr<const Gobo> gobo;
  std::optional<BarnDoors> doors;
  std::shared_ptr<const ScreenPicture> screen;  ///< rect
  std::optional<PositionTint> tint;
  std::optional<Enclosure> inside;  ///< what the light is held to
};

/// The tables of a tint's channels, each in a layer of its own: their sum is the light with a tint
/// of (1, 1, 1).
using TintChannels = std::array<LightTable, 3>;

/// Declared departures from physics in what a light does; each is 1, or as here, by default.
struct LightCheats {
  float direct = 1;              ///< factor on its light at the first scattering
  float diffuse = 1, gloss = 1;  ///< on diffuse and glossy reflection of its light
  float bounce = 1;              ///< on its light after a bounce, caustics apart
  float bounce_chroma = 1;       ///< on the chroma of all its light after a bounce
  float caustics = 1;            ///< on what gloss and mirrors throw on other surfaces
  float haze = 1;                ///< of its light that haze scatters, wherever on its way
  float shadow = 1;              ///< opacity of its shadows
  Spectrum shadow_color = Spectrum::Zero();  ///< what they let through instead
  bool visible = true;                       ///< by the camera and in mirrors
  /// The most that one path of its bounced light adds to a sample [cd/m2]; 0: no limit.
  float bounce_limit = 0;

  /// Whether the parts of a reflection have factors of their own.
  bool any_on_reflection() const { return diffuse != 1 || gloss != 1 || tells_caustics(); }
  /// Whether light that gloss throws on other surfaces has a factor of its own.
  bool tells_caustics() const { return caustics != bounce; }
};

/// A light made ready for rays. Plain data, immutable, shared by all threads. SI and photometric
/// units.
struct Emitter {
  LightKind kind = LightKind::kPoint;
  bool two_sided = false;
  /// A profile or a spot's beam: luminance follows from `intensity`.
  bool by_intensity = false;
  bool endless = false;  ///< tube
  /// Nothing but sampling finds it: a light without size, one that cameras and mirrors do not see,
  /// one whose shadows are not those of the world.
  bool only_sampled = false;
  Vec3 center = Vec3::Zero();
  /// Z is the axis: the way it shines (sun, sky: downwards); a tube lies along x.
  Frame frame{Vec3::UnitX(), Vec3::UnitY(), Vec3::UnitZ()};
  float radius = 0;                        ///< sphere, disk, tube, lens of a spot [m]
  float half_width = 0, half_height = 0;   ///< rect; tube: half of its length [m]
  float half_spread = 0;                   ///< disk, rect [rad]; 0 is Lambert
  float hot_center = 0;                    ///< disk, rect, sphere
  float weight_scale = 1;                  ///< hot_center_weighting in the middle
  float half_beam = 0, beam_exponent = 0;  ///< spot [rad], see SpotBeam
  /// Spot: cosines of half of beam and field, for choosing among lights.
  float cos_beam = 1, cos_field = 1;
  float sin2_disc = 0;  ///< sun: sin^2 of half of its angular diameter
  SkyModel sky = SkyModel::kUniform;
  /// Mean along the normal; at the zenith [cd/m2]; dome: a factor; dimmed.
  float luminance = 0;
  /// Of a point, or at the peak of a beam or profile [cd]; of a line [cd/m]; dimmed.
  float intensity = 0;
  LightTable table = LightTable::Zero();
  Falloff falloff;
  LightCheats cheats;
  std::uint64_t link_bit = 0;        ///< the bit of its list of linked objects; 0: linked to all
  std::uint32_t casters = kNoIndex;  ///< the list of objects that throw its shadows; kNoIndex: all
  std::uint32_t layer = kNoIndex;    ///< where in the film its light is kept
  std::shared_ptr<const EmitterDetail> detail;  ///< may be null
  /// Null but where they go to layers `layer` to `layer` + 2.
  std::shared_ptr<const TintChannels> channels;

  bool is_zero_size() const {
    return kind == LightKind::kPoint ||
           ((kind == LightKind::kSpot || kind == LightKind::kTube) && radius == 0);
  }
  bool is_distant() const { return jovilux::is_distant(kind); }
  bool shines() const { return luminance > 0 || intensity > 0; }
  /// Flat surfaces: one side; a sphere: the disc that it shows.
  float area() const {
    return kind == LightKind::kRect ? 4 * half_width * half_height : kPi * radius * radius;
  }
};

/// A place on a light, chosen to be seen from a point p.
struct LightSample {
  Vec3 wi = Vec3::Zero();  ///< unit, from p towards the light
  float distance = 0;      ///< from p to the place [m]; kFar for distant lights
  /// L w / pdf, or I w / d^2 of a light without size [lx]; 0: nothing arrives.
  float weight = 0;
  /// Over solid angle [1/sr]; 0 for lights without size, which nothing else can find.
  float pdf = 0;
  bool colored = false;  ///< `rgb` differs from gray: gobo, dome, tint by position
  Eigen::Array3f rgb = Eigen::Array3f::Ones();  ///< multiplies the light's color
};

/// Chooses a place by u in [0, 1)^2: spheres and suns evenly over the solid angle they fill, skies
/// and domes by their luminance, for a surface that lies on `side` (unit normal; null: haze and
/// sheets, which light reaches from everywhere) above its horizon only, domes and general skies
/// there also by the cosine; rectangles as spherical rectangles (evenly over their area where they
/// look small), tubes by the angles around and along them, disks seen from near in strips by the
/// angles they fill, else, like objects, by their area (a disk's by its hot center).
/// Source for rectangles: C. Urena, M. Fajardo, A. King, "An Area-Preserving Parametrization for
/// Spherical Rectangles", CGF 32(4), 2013.
LightSample sample_toward(const Emitter& e,
                          const Vec3& p,
                          const Vec2& u,
                          const Vec3* side = nullptr);

/// A place of a light's surface that a ray has met; of a distant light only the direction counts.
struct LightPlace {
  Vec3 position = Vec3::Zero(), normal = Vec3::UnitZ();
};

/// Density with which sample_toward(e, p, ., side) chooses the unit direction wi [1/sr], for a wi
/// that meets the light at `at`.
float light_pdf(const Emitter& e,
                const Vec3& p,
                const Vec3& wi,
                const LightPlace& at,
                const Vec3* side = nullptr);

/// Luminance of the light's surface seen along the unit direction `along` (from the eye to the
/// light) [cd/m2], without falloff; 0 from behind.
float seen_luminance(const Emitter& e, const Vec3& along, const LightPlace& at);

/// What masks and tints make of the light that goes from `place` to p, along wi from p: a gray
/// factor, and a color where one is left.
struct LightTint {
  float gray = 1;
  bool colored = false;
  Eigen::Array3f rgb = Eigen::Array3f::Ones();
};
LightTint tint_between(const Emitter& e, const Vec3& p, const Vec3& place, const Vec3& wi);

/// Whether a distant light fills the unit direction `along` (away from the eye).
bool covers(const Emitter& e, const Vec3& along);

/// The falloff factor for light that arrives at p: of the distance to the light's center, of an
/// endless tube to its axis.
float falloff_at(const Emitter& e, const Vec3& p);

/// Whether the light may reach p at all: its inside, and its links among `links`, the bits of the
/// lists that the path's surfaces belong to.
inline bool may_reach(const Emitter& e, const Vec3& p, std::uint64_t links) {
  return (e.link_bit == 0 || (links & e.link_bit) != 0) &&
         (e.detail == nullptr || !e.detail->inside ||
          e.detail->inside->contains_or_touches(p.cast<double>()));
}

/// The mean of max(0, x) over cosines x even in [c - s, c + s]; above 0 where one of them is.
inline float mean_cosine(float c, float s) {
  return c >= s ? c : c <= -s ? 0 : (c + s) * (c + s) / (4 * s);
}

/// A spot's beam in three steps by the cosine to its axis: enough for choosing among lights, and
/// never 0 inside it.
struct BeamSteps {
  float cos_beam, cos_field;         ///< cosines of the half angles of beam and field
  float in_beam, in_field, outside;  ///< shares of the highest intensity

  float at(float cos_axis) const {
    return cos_axis >= cos_beam ? in_beam : cos_axis >= cos_field ? in_field : outside;
  }
};
BeamSteps beam_steps(const Emitter& spot);

/// An estimate of the illuminance that the light could bring to p [lx], for choosing among lights:
/// above 0 wherever the light may contribute to the upper side of a surface with unit normal n, 0
/// where it surely does not.
float expected_illuminance(const Emitter& e,
                           const Vec3& p,
                           const Vec3& n,
                           std::uint64_t links = ~std::uint64_t{0});

/// The same for haze at p, which light reaches from all sides.
float expected_fluence(const Emitter& e, const Vec3& p, std::uint64_t links);

/// Distances along a ray (unit direction) that suit a light near it: even in the angle around the
/// light's center.
/// Source: C. Kulla, M. Fajardo, "Importance Sampling Techniques for Path Tracing in Participating
/// Media", CGF 31(4), 2012.
struct EquiangularSpan {
  float nearest = 0;          ///< distance along the ray to the place nearest to the center
  float apart = 0;            ///< from there to the center, at least a rounding
  float first = 0, last = 0;  ///< angles of both ends of the ray around the center [rad]

  EquiangularSpan(const Vec3& center, const Ray& ray, float end);
  float sample(float u) const { return nearest + apart * std::tan(first + u * (last - first)); }
  float pdf(float t) const {
    return apart / ((last - first) * (apart * apart + (t - nearest) * (t - nearest)));
  }
};
/// An estimate of what a light brings to even haze along a ray up to `end`; 0 for distant lights.
float expected_along(const Emitter& e, const Ray& ray, float end, std::uint64_t links);

}  // namespace jovilux
