#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/problem.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/rgb.h"
#include "jovilux/color/sources_by_name.h"
#include "jovilux/color/spectra.h"
#include "jovilux/color/studio_transform.h"
#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/solid.h"
#include "jovilux/geometry/transform.h"
#include "jovilux/photometry/barn_doors.h"
#include "jovilux/photometry/diffusion.h"
#include "jovilux/photometry/exposure.h"
#include "jovilux/photometry/falloff.h"
#include "jovilux/photometry/flicker.h"
#include "jovilux/photometry/gobo.h"
#include "jovilux/photometry/sources.h"
#include "jovilux/photometry/sun_position.h"
#include "jovilux/rig/document.h"
#include "jovilux/rig/keys.h"

#include <array>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace jovilux {

// The typed rig: every value in SI and photometric units and radians, checked one by one. What the
// user wrote stays reachable by the places.

/// A filter: its transmittance over wavelength, or a file that holds it.
struct GelSpec {
  std::string name;
  Place place;
  NmTable transmittance;
  /// Path relative to the working folder; empty where the rig holds the values.
  std::string file;
  std::optional<Diffusion> diffusion;  ///< of a sheet that spreads the beam
};

/// A mask in a beam: a picture from a file, or a pattern.
struct GoboInRig {
  GoboSpec spec;
  Place place;
  std::string image;  ///< path relative to the working folder; empty with a pattern
  GoboPattern pattern = GoboPattern::kSlats;
  int count = 8;
  double open = 0.5;
};

/// Leaves that cut a beam: BarnDoors in a light's frame.
struct BarnDoorsInRig {
  BarnDoors doors;
  Place place;
};

/// Color by the position of the lit point.
struct TintByPosition {
  Formula formula;  ///< of x, y, z [m], t [s]
  std::vector<std::pair<double, Rgb>> ramp;
};

/// A light's `cheat` table.
struct CheatSpec {
  double direct = 1, diffuse = 1, gloss = 1, bounce = 1, bounce_chroma = 1, caustics = 1;
  double haze = 1, shadow = 1;
  Rgb shadow_tint = Rgb::Zero();
  bool visible = true;
  /// The most that one path of its bounced light adds to a sample [cd/m2].
  std::optional<double> bounce_limit;
};

/// What a solid or closed object encloses: a closed shape, a marched solid, or an object's mesh.
struct VolumeSpec {
  std::string name;
  std::optional<Shape> shape;
  std::shared_ptr<const Solid> solid;
  int object = -1;      ///< whose mesh it is
  Transform transform;  ///< of shape and solid, to the world
};

struct LightSpec {
  // Defined in one source, so that copying it is compiled once.
  LightSpec();
  LightSpec(const LightSpec&);
  LightSpec(LightSpec&&) noexcept;
  LightSpec& operator=(const LightSpec&);
  LightSpec& operator=(LightSpec&&) noexcept;
  ~LightSpec();

  std::string name;   ///< a copy's: "helix[3]"
  std::string layer;  ///< what the film keeps it under: its own name, a copy's array
  Place place;        ///< of its table
  Place output_place, falloff_place;
  SourceShape shape;
  Vec3d at = Vec3d::Zero();
  std::optional<Vec3d> aim;      ///< the point it faces, where one was given
  Vec3d axis = -Vec3d::UnitZ();  ///< unit: the way it shines (sun: the way its light travels)
  double roll = 0;
  Vec3d along = Vec3d::UnitX();  ///< tube: unit, from its start to its end
  Output output;
  bool output_given = true;  ///< false: a profile's own lumens
  double share = 1;          ///< of the output: one of an array's copies that divide it
  int copies = 1;            ///< of the array that it belongs to
  Place copies_place;        ///< of that array's output
  /// Of the bare source, share included; empty until files are read (profile, object, dome).
  SourceLevels levels;
  std::string profile_file;  ///< path relative to the working folder
  Place profile_place;
  int object = -1;    ///< object: its index
  std::string image;  ///< dome: path relative to the working folder
  Place image_place;
  double rotate = 0;  ///< dome [rad], clockwise from above
  std::optional<GoboInRig> gobo;
  std::optional<BarnDoorsInRig> doors;
  std::optional<TintByPosition> tint_by;
  /// Indices of the objects it lights; nothing: all.
  std::optional<std::vector<std::uint32_t>> lit;
  /// Of those that throw its shadows; nothing: all.
  std::optional<std::vector<std::uint32_t>> casters;
  std::optional<VolumeSpec> inside;
  /// Full up to the first distance, gone at the second.
  std::optional<std::pair<double, double>> fade_with_camera;
  std::string group;
  CheatSpec cheat;
  Place cheat_place;
  double efficacy = 0;  ///< lm/W where the output is in W; 0: unknown
  White white;
  /// Instead of the white, by name; null: none. An array's copies share it.
  std::shared_ptr<const NmTable> spectrum;
  std::string spectrum_file;  ///< or in a file, relative to the working folder
  Place spectrum_place;
  /// [K], what the white slides towards as the dimmer goes to 0.
  std::optional<double> dim_to_warm;
  std::vector<GelSpec> gels;  ///< in the order of the light's way
  /// Of its diffusion sheets together.
  std::optional<Radians> diffusion() const;
  std::optional<Rgb> tint;
  /// For rendering: three layers, one for each channel of any tint, instead of one.
  bool split_tint = false;
  double dimmer = 1;                 ///< keyed: its mean while the shutter is open
  KeyedNumber dimmer_keys, on_keys;  ///< empty where they are not keyed; on_keys 0 or 1
  std::optional<Flicker> flicker;
  /// What the flicker makes of the dimmed level, in the mean while the shutter is open.
  double flicker_level = 1;
  bool on = true;
  bool body = true;  ///< false: while it is off its body is not there either
  Falloff falloff;

  /// Where the film keeps its light, as the rig asks for layers.
  const std::string& layer_in(bool groups) const {
    return groups && !group.empty() ? group : layer;
  }
  /// What is left of the bare source's level.
  double dimmed() const { return on ? dimmer * flicker_level : 0.0; }
  /// The same in the mean from one moment to another [s], or at one: the dimmer's keys times the
  /// flicker.
  double level_between(double from, double to) const;
  /// The white at its dimmer's level, as a filament's.
  White white_now() const {
    return dim_to_warm ? White{White::Kind::kPlanck,
                               filament_temperature(white.temperature, {*dim_to_warm}, dimmer)}
                       : white;
  }
};

/// Noise on a haze's density.
struct ClumpsSpec {
  double size = 0.4;            ///< of the largest clumps [m]
  double depth = 0.5;           ///< 0 even .. 1 down to nothing and up to twice as much
  Vec3d drift = Vec3d::Zero();  ///< [m/s]
  std::uint32_t seed = 1;
};

/// Haze, everywhere or inside a volume.
struct HazeSpec {
  // Defined in one source, so that copying it is compiled once.
  HazeSpec();
  HazeSpec(const HazeSpec&);
  HazeSpec(HazeSpec&&) noexcept;
  HazeSpec& operator=(const HazeSpec&);
  HazeSpec& operator=(HazeSpec&&) noexcept;
  ~HazeSpec();

  std::string name;
  Place place, extinction_place, albedo_place, file_place;
  std::optional<VolumeSpec> inside;  ///< nothing: everywhere
  double extinction = 0;             ///< [1/m]; of an uneven haze where its density is 1
  Rgb albedo = Rgb::Constant(0.95);
  double anisotropy = 0;
  std::optional<ClumpsSpec> clumps;
  /// Thins by 1/e for each of this above height 0 [m]; 0: does not.
  double scale_height = 0;
  /// Luminance that it adds each meter where its density is 1 [cd/m2 per m].
  double emission = 0;
  std::string file;      ///< density grid, path relative to the working folder
  std::string grid;      ///< its name in the file
  Transform grid_place;  ///< of the file's space in the world

  bool uneven() const { return clumps || scale_height > 0 || !file.empty(); }
};

/// A picture on a surface.
struct PictureSpec {
  std::string file;  ///< path relative to the working folder; empty: none
  Place place;
  /// Whether its values are encoded for a display; EXR and HDR never are.
  bool srgb = true;
};

struct MaterialSpec {
  // Defined in one source, so that copying it is compiled once.
  MaterialSpec();
  MaterialSpec(const MaterialSpec&);
  MaterialSpec(MaterialSpec&&) noexcept;
  MaterialSpec& operator=(const MaterialSpec&);
  MaterialSpec& operator=(MaterialSpec&&) noexcept;
  ~MaterialSpec();

  std::string name;
  Place place, color_place, bounce_place;
  enum class Kind { kDiffuse, kMetal, kGloss, kGlass, kTranslucent } kind = Kind::kDiffuse;
  Rgb color = Rgb::Constant(0.5);
  /// A reflectance table instead, path relative to the working folder.
  std::string color_file;
  PictureSpec picture;  ///< or a picture
  PictureSpec mask;     ///< cuts the surface out where it is black
  /// How often pictures repeat over a unit of a surface's places on them.
  std::array<double, 2> tile = {1, 1};
  Rgb coat_color = Rgb::Ones();
  double roughness = 0;
  /// Metal, gloss, solid glass: the least roughness where it throws light on what is no mirror.
  double bounce_roughness = 0;
  double ior = 1.5;
  double extinction = 0;  ///< metal: k of the index n + i k, where it is not from a file
  std::string ior_file, extinction_file;  ///< metal: tables of n and k over wavelength
  Place ior_place, extinction_place;
  bool by_index = false;                 ///< metal: reflects by n and k instead of a color
  bool thin = false;                     ///< glass: a pane
  Rgb absorption = Rgb::Zero();          ///< glass [1/m]
  double transmittance = 0;              ///< sheet: share that it lets through
  std::optional<Rgb> transmitted_color;  ///< of that; its color where not given
};

struct ObjectSpec {
  std::string name;
  std::string array;  ///< the [[array]] whose copy it is; empty: none
  Place place, mesh_place;
  std::optional<Shape> shape;
  /// Path of a file, relative to the working folder; empty with a shape or solid.
  std::string mesh;
  int solid = -1;          ///< index
  double mesh_length = 1;  ///< meters that a unit of the file stands for
  char mesh_up = 'z';
  Transform transform;
  int material = -1;  ///< index; -1 is diffuse 0.5
  std::vector<std::string> tags;
  bool seen_by_camera = true;  ///< else only in mirrors, through glass and by its light
  bool throws_shadow = true;   ///< else it keeps no lamp's direct light away
  /// Else the direct light of all lamps reaches it, whatever stands between.
  bool receives_shadow = true;
  bool catches_shadow = false;  ///< stands for a real surface, on which shadow measures the others
  /// What a study of shadows changes: left out of the scene, or black where the camera sees it.
  bool absent = false, held_out = false;
};

/// A meter: what it measures, where.
struct MeterSpec {
  std::string name;
  Place place;
  bool luminance = false;  ///< cd/m2 of what it is pointed at; else lx on a plane
  Vec3d at = Vec3d::Zero();
  Vec3d facing = Vec3d::UnitZ();  ///< unit
  /// Illuminance: the object that it lies on, whose linked lights it measures; empty: all lights.
  std::string on;
  std::string camera;        ///< luminance: it measures from this camera's place; empty: from `at`
  std::optional<Vec3d> aim;  ///< the point that it looks at, where given
  double field = 0.0174532925;  ///< luminance: full angle that it averages over [rad]
  std::optional<std::pair<double, double>> target;
  struct Grid {
    Vec3d from = Vec3d::Zero(), to = Vec3d::Zero();
    /// Points along the first and the second axis that they differ in, ends included.
    std::array<int, 2> count = {1, 1};
  };
  std::optional<Grid> grid;

  /// Where it measures: one point, or the grid's, row by row.
  std::vector<Vec3d> points() const;
};

struct CameraSpec {
  std::string name;
  Place place;
  Vec3d at = Vec3d(0, -5, 1.5);
  Vec3d look_at = Vec3d::Zero();
  double field_of_view = 50 * kPiD / 180;  ///< horizontal angle of view
  double lens = 0;                         ///< focal length [m]
  double sensor = 0.036;                   ///< width [m]
  CameraExposure exposure;
  std::optional<double> focus;  ///< distance in focus [m]; nothing: no depth of field
};

struct LookSpec {
  enum class Exposure { kAuto, kCamera, kFixed } exposure = Exposure::kAuto;
  double ev = 0;                       ///< EV100, with kFixed
  double brighter = 0;                 ///< than metered [stops], with kAuto
  std::optional<White> white_balance;  ///< nothing: D65, or what white_auto finds
  bool white_auto = false;             ///< the white of the light that falls on what is seen
  enum class Curve { kFilm, kLinear } curve = Curve::kFilm;
  std::shared_ptr<const StudioTransform> studio;  ///< instead of the curve; null: none
  double bloom = 0;                               ///< share of the light that the lens spreads
};

struct RenderSpec {
  int width = 960, height = 540;
  int samples = 64;
  bool samples_given = false;
  std::optional<double> noise;  ///< target of the p95 noise
  int bounces = 6;
  int haze_bounces = 1000;    ///< the same of scatterings by haze alone
  bool denoise = false;       ///< also write the denoised picture
  bool guiding = true;        ///< learn before the picture where light goes
  bool light_tracing = true;  ///< trace caustics from the lights as well
  std::uint32_t seed = 1;
  bool seed_given = false;  ///< then all frames of an animation share it
  enum class Layers { kNone, kLights, kLightsAndParts, kGroups } layers = Layers::kLights;
  MarchSettings march;
  Place march_place;
  /// The moment that the picture shows [s]: formulas' t, keys, the drift of clumps.
  double time = 0;
  std::string camera;  ///< by name; empty: the first
  Place camera_place;
};

/// Frames over time.
struct TimeSpec {
  bool given = false;
  Place place;
  int first = 1, last = 1;
  double rate = 24;  ///< frames a second
  double start = 0;  ///< moment of the first frame [s]
  /// Share of a frame for which the shutter is open, half before the frame's moment, half after.
  double shutter = 0;
  double clock_speed = 1;  ///< seconds of the site's clock in each second

  /// The moment in the middle of a frame's exposure [s].
  double moment_of(int frame) const { return start + (frame - first) / rate; }
  /// For how long the shutter is open [s].
  double open() const { return shutter / rate; }
};

struct Rig {
  // Defined in one source, so that copying it is compiled once.
  Rig();
  Rig(const Rig&);
  Rig(Rig&&) noexcept;
  Rig& operator=(const Rig&);
  Rig& operator=(Rig&&) noexcept;
  ~Rig();

  std::string file;  ///< as named by the user
  std::string title;
  double length = 1;  ///< meters of a bare length
  Vec3d up = Vec3d::UnitZ();
  struct Site {
    double latitude = 0, longitude = 0;  ///< [rad], north and east positive
    std::optional<Moment> time;
  };
  std::optional<Site> site;
  std::vector<CameraSpec> cameras;
  std::vector<LightSpec> lights;
  std::vector<ObjectSpec> objects;
  std::vector<MaterialSpec> materials;
  std::vector<HazeSpec> hazes;
  std::vector<MeterSpec> meters;
  std::vector<GelSpec> gels;
  struct Solid {
    std::string name;
    Place place;
    SolidNode node;
    std::optional<Shape> shape;  ///< the same as a closed shape, where there is one
    std::shared_ptr<const jovilux::Solid> compiled;  ///< without its own place
  };
  std::vector<Solid> solids;
  std::vector<std::string> variants;
  LookSpec look;
  RenderSpec render;
  TimeSpec time;
  DocumentNode document;  ///< resolved: includes and overrides applied
};

/// Moves a meter to a camera's place; it keeps its aim or looks where the camera looks.
void stand_at(MeterSpec& meter, const CameraSpec& camera);

/// What is asked of a rig besides its text.
struct RigRequest {
  std::vector<std::string> variants;  ///< applied in order
  /// "ADDRESS=VALUE", applied after the variants; "ADDRESS=" removes a key.
  std::vector<std::string> overrides;
  /// Of [time]: sets render.time, and a seed of its own where the rig gives none.
  std::optional<int> frame = std::nullopt;
  bool hold_noise = false;  ///< one seed for all frames
};

/// Reads a rig: all errors of all its files are returned together, each with its place. A result's
/// problems() holds the warnings that reading alone can give.
Result<Rig> load_rig(const std::string& file, const RigRequest& request = {});

/// A rig as it is at another moment [s], and with another seed where one is given.
Result<Rig> rig_at(const Rig& rig, double moment, std::optional<std::uint32_t> seed = std::nullopt);

/// The seed of a frame whose rig gives none.
std::uint32_t frame_seed(const Rig& rig, int frame);

/// The files that a rig is made of and names: itself, what it includes, meshes, pictures, profiles.
/// Each once.
std::vector<std::string> files_of(const Rig& rig);

/// A file that a rig names at `place`: relative to the file that names it; where no file does (a
/// value of the command line, after take_files_from_folder_of()), to the working folder.
std::string path_from(const Place& place, const std::string& name);

/// Makes the names of files that came from the command line relative to the rig's folder, as those
/// in the rig are.
void take_files_from_folder_of(DocumentNode& document, const std::string& rig_file);

/// Types an already loaded document; `file` is for messages.
Result<Rig> read_rig(DocumentNode document, const std::string& file);

/// The resolved rig as one TOML text. File names in it are made relative to `folder`, where it will
/// be kept.
std::string resolved_toml(const Rig& rig, const std::string& folder);

}  // namespace jovilux
