#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/emitters/emitter.h"
#include "jovilux/files/photometric_file.h"
#include "jovilux/rig/rig.h"

#include <functional>
#include <map>
#include <memory>
#include <string>

namespace jovilux {

/// A source's spectrum behind its gels, and what share of its luminous flux they let through.
struct SourceColor {
  std::shared_ptr<const NmTable> spectrum;  ///< behind its gels; an array's copies share it
  double transmittance = 1;
};

/// What of a light only files and the scene tell.
struct LightParts {
  SourceColor color;
  SourceShape shape;    ///< with profile, area and dome
  SourceLevels levels;  ///< of the bare source, the share of an array's copy included
  /// Share of the flux that passes the mask, all of it taken to meet it.
  double gobo_transmittance = 1;
  /// Of what passes the mask, the share that barn doors let through.
  double doors_transmittance = 1;
  double camera_fade = 1;                          ///< what fade_with_camera leaves
  std::shared_ptr<const PhotometricFile> profile;  ///< of the bare source
  std::shared_ptr<const LuminousSurface> surface;
  std::shared_ptr<const EmitterDetail> detail;  ///< may be null

  /// What dimmer, gels, gobo and fading leave of the bare source.
  double remaining(const LightSpec& light) const {
    return light.dimmed() * color.transmittance * gobo_transmittance * doors_transmittance *
           camera_fade;
  }
};

/// Reads what lights name, each file once.
class LightLoader {
 public:
  using EnclosureOf = std::function<std::optional<Enclosure>(const VolumeSpec&)>;

  /// `enclosure_of` makes the volumes that hold lights. Problems are added to `problems`, with the
  /// files' places.
  LightLoader(const Rig& rig, Problems& problems, EnclosureOf enclosure_of)
      : rig_(rig), problems_(problems), enclosure_of_(std::move(enclosure_of)) {}

  /// The parts of a light; `surface` is its object's, where it has one.
  LightParts parts(const LightSpec& light, std::shared_ptr<const LuminousSurface> surface);

 private:
  // A light on its way to its parts. Steps return false where a problem ends it.
  struct Making {
    const LightSpec& light;
    LightParts out;
    std::shared_ptr<EmitterDetail> detail;
    bool has_detail = false;       // something in it is needed
    bool levels_by_files = false;  // only files tell the levels
  };
  bool take_color(Making& m);
  bool take_profile(Making& m);
  bool take_surface(Making& m, std::shared_ptr<const LuminousSurface> surface);
  bool take_directions(Making& m);
  bool take_levels(Making& m);
  bool take_masks(Making& m);
  void take_tint(Making& m);
  void warn_of_cut_profile(const Making& m);

  std::shared_ptr<const PhotometricFile> profile(const LightSpec& light);
  void put_behind_sheet(const LightSpec& light, Radians spread, LightParts& parts);
  std::shared_ptr<const DomePicture> dome(const LightSpec& light);
  std::shared_ptr<const ScreenPicture> screen(const LightSpec& light);
  std::shared_ptr<const Gobo> gobo(const LightSpec& light);
  std::shared_ptr<const Gobo> make_gobo(const LightSpec& light,
                                        const GoboInRig& in_rig,
                                        const GoboSpec& spec);

  const Rig& rig_;
  Problems& problems_;
  EnclosureOf enclosure_of_;
  std::map<std::string, std::shared_ptr<const PhotometricFile>> profiles_;
  std::map<std::string, std::shared_ptr<const LuminousDistribution>> distributions_;
  /// Of diffused beams, by light and what shapes it.
  std::map<std::string, std::shared_ptr<const LuminousDistribution>> diffused_;
  std::string copied_layer_;  // the array whose copies come now
  SourceColor copied_color_;
};

/// Reads the files that a light's spectrum and gels name; problems carry the files' places.
Result<SourceColor> source_color(const LightSpec& light);

/// The emitter that a light of the rig becomes; layer, links and casters stay unset.
Emitter make_emitter(const LightSpec& light, const LightParts& parts, const Vec3d& up);

}  // namespace jovilux
