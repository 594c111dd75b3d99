#pragma once

#include "jovilux/color/rgb.h"
#include "jovilux/render/film.h"
#include "jovilux/rig/rig.h"
#include "jovilux/scene/scene.h"

#include <array>
#include <string>
#include <vector>

namespace jovilux {

// What the layers of one render can say of another rig. Light adds up: a layer is the light of its
// emitters, and scales with what leaves them. So a rig that differs from the rendered one in the
// levels and colors of lights alone has the picture whose layers are multiplied by the ratio of
// what leaves each, channel by channel: exactly where the spectrum only gets stronger or weaker,
// nearly where its shape changes (exactly again on gray surfaces).

/// The factors of a render's layers that give another rig's picture.
struct LayerScaling {
  struct Layer {
    std::string name;
    Rgb factor = Rgb::Ones();
    bool exact = true;  ///< the spectrum keeps its shape
    /// Of each Part, beside `factor`: what the lights' cheats on them make of it.
    std::array<double, kPartNames.size()> part_factors{1, 1, 1, 1};
  };
  std::vector<Layer> layers;
  /// Why the layers do not give the picture; empty: they do.
  std::string obstacle;

  bool possible() const { return obstacle.empty(); }
  bool exact() const;
  /// Of the layer of that name; null where there is none.
  const Layer* find(const std::string& layer) const;
  /// Of the layer of that name; 1 where there is none.
  Rgb factor_of(const std::string& layer) const;
};

/// Factors per layer that turn the layers `names` of a render of `rendered` into those of a render
/// of `wanted`; `from` and `to` are the emitters of the two scenes. The caller makes sure that the
/// rigs differ only in keys that levels_aside() leaves out.
LayerScaling layer_scaling(const Rig& rendered,
                           const std::vector<Emitter>& from,
                           const Rig& wanted,
                           const std::vector<Emitter>& to,
                           const std::vector<std::string>& names);

/// A rig's text at its moment without the keys that only scale or color what leaves a light, as
/// their descriptions say, without haze's emission, look and what names variants: two rigs of one
/// such text have pictures whose layers scale into each other.
/// Keys of `also` ("time", "render.seed") are left out too.
std::string levels_aside(const Rig& rig, const std::vector<std::string>& also = {});

/// The ratio of what leaves two states of one light, by their levels alone: tints and whites, which
/// the emitters' tables hold, are not looked at. 0 where one of them is dark.
double level_ratio(const Emitter& from, const Emitter& to);

/// Assignments that bring a layer's level to `times` what it is: dimmers up to 1 and, beyond, the
/// outputs; of a haze its emission. An array's copies with dimmers of their own, and the lights of
/// a group, each change by the same factor.
std::vector<std::string> assignments_of_level(const Rig& rig,
                                              const std::string& layer,
                                              double times);

/// Assignments that bring a part of a layer to `times` what it is: the lights' cheats on it. Empty
/// where no key has to do with that part alone (kDirect: it holds the lamp as it is seen, too).
std::vector<std::string> assignments_of_part(const Rig& rig,
                                             const std::string& layer,
                                             Part part,
                                             double times);

/// The lights of a layer, by where their keys stand: "light.pendant", of an array its pattern and
/// the copies that have the key on their own.
std::vector<std::string> addresses_of_layer(const Rig& rig,
                                            const std::string& layer,
                                            const std::string& key);

/// Where a layer's level stands in the rig, and what it is there.
struct LayerAddress {
  std::string address;    ///< "light.pendant", "haze.spray"
  bool emission = false;  ///< of a haze that glows
  double dimmer = 1;
  double value = 0;  ///< of the output, or the emission [cd/m2]
  std::string unit;  ///< of the value; empty: the output is no number with a unit
};
std::vector<LayerAddress> layer_addresses(const Rig& rig, const std::string& layer);

/// What can be made of a layer's color and level by keys of its lights. Colors are linear Rec.709
/// of luminance 1.
struct LayerControls {
  Rgb source = Rgb::Ones();  ///< what leaves the lights
  Rgb bare = Rgb::Ones();    ///< the same without their tint
  Rgb tint = Rgb::Ones();    ///< that the rig gives them
  /// The colors that tints of red, green and blue alone make of `bare`, in one scale: a tint's
  /// color is their sum, weighed by it.
  std::array<Rgb, 3> tinted{Rgb::UnitX(), Rgb::UnitY(), Rgb::UnitZ()};
  /// Whether a white in kelvin, and a tint, mean one color for all of the layer: not with a
  /// spectrum or gels (white), nor where whites slide with levels or lights differ (both).
  bool white_is_free = false, tint_is_free = false;
  /// Why the layer tells only its lights off and as they are; empty: any level.
  std::string level_lock;
  /// Where the white slides with the level (dim_to_warm): what the channels become over those as
  /// rendered, luminance kept, for levels of so many stops from where it is, rising; else empty.
  std::vector<std::pair<double, Rgb>> slide;
};
LayerControls layer_controls(const Rig& rig,
                             const std::vector<Emitter>& emitters,
                             const std::string& layer);

/// The dimmer of a layer's lights as the rig has it, at its moment; of lights that differ, the
/// first's.
double dimmer_of_layer(const Rig& rig, const std::string& layer);

}  // namespace jovilux
