#include "jovilux/base/vec.h"
#include "jovilux/photometry/gobo.h"
#include "jovilux/photometry/sources.h"
#include "jovilux/rig/schema.h"
#include "jovilux/units/quantity.h"

namespace jovilux {
namespace {

using Kinds = std::vector<std::string_view>;

const Kinds kPlaced = {"point", "spot", "sphere", "disk", "rect", "tube", "object"};
const Kinds kAtAPoint = {"point", "spot", "sphere", "disk", "rect", "tube"};
const Kinds kFlat = {"disk", "rect"};
const Kinds kProfiled = {"point", "spot", "sphere", "disk", "rect"};
const Kinds kColored = {"point", "spot", "sphere", "disk", "rect", "tube", "object", "sun", "sky"};

TableDescription source_and_place() {
  TableDescription t{"light", "a lamp, the sun, a sky", "kind", {}, {}};
  t.keys = {
      key("name", "what other tables, addresses and layers call it; no other light has it")
          .text()
          .over(OverTime::kNever)
          .shown("\"bench-pendant\"")
          .needed(),
      key("kind", "the form of the source; the table of kinds says what each takes")
          .word(light_kind_names())
          .over(OverTime::kNever)
          .shown("\"disk\"")
          .called("form, type, shape")
          .needed(),
      key("output", "what leaves the bare source, before dimmer, gel and gobo")
          .other()
          .expects("a text with its unit: lm, cd, cd/m2, lx at a distance, W at lm/W")
          .shown("\"800 lm\"")
          .called("intensity, brightness, energy, lumens, lumen, flux, power, watts, candela, "
                  "nits, luminance, lux, illuminance, exposure, strength, wattage")
          .does(LayerEffect::kScales)
          .needed(),
      key("at", "its place; of an endless tube a point of its axis")
          .position()
          .expects("a position [x, y, z]")
          .shown("[0, 0, 2.4]")
          .of(kAtAPoint)
          .called("position, pos, location, origin, translate, translation"),
      key("aim", "the point that it faces; of point and sphere with a profile")
          .position()
          .expects("a point to face, or toward = [x, y, z], a direction")
          .shown("[0.3, 0, 0.8]")
          .of(kProfiled)
          .called("target, look_at, point_at, rotation, rotate, orientation"),
      key("toward", "instead of aim, the direction in which it shines; of a sun, its light's way")
          .direction()
          .expects("[x, y, z], the way its light travels; or elevation and azimuth; or [scene] "
                   "site with latitude, longitude and time")
          .shown("[0.2, 0.3, -1]")
          .of({"point", "spot", "sphere", "disk", "rect", "sun", "sky"})
          .called("direction, dir, normal"),
      key("roll", "turns it about its axis: a rect's width, a gobo, a profile's planes")
          .angle()
          .shown("\"15 deg\"")
          .otherwise("0")
          .of({"point", "spot", "sphere", "disk", "rect", "sun"})
          .called("turn, spin"),
  };
  return t;
}

std::vector<KeyDescription> sizes_of_lamps() {
  return {
      key("radius", "half of its diameter: the larger, the softer its shadows")
          .length(kPositive)
          .expects("a length such as \"11 cm\"")
          .shown("\"11 cm\"")
          .of({"sphere", "disk"})
          .called("diameter, shadow_softness, softness, soft, penumbra, width"),
      key("radius", "of its lens: 0 throws hard shadows")
          .length(kNotNegative)
          .shown("\"4 cm\"")
          .otherwise("0")
          .of({"spot"}),
      key("radius", "of the tube; 0 is an ideal line that is not seen")
          .length(kNotNegative)
          .expects("a length such as \"13 mm\"; 0 is an ideal line")
          .shown("\"13 mm\"")
          .of({"tube"}),
      key("size", "its sides: the larger, the softer its shadows")
          .list(2, Dimension::kLength, kPositive)
          .expects("[width, height]")
          .shown("[\"60 cm\", \"40 cm\"]")
          .of({"rect"})
          .called("width, height, area, shadow_softness, softness"),
      key("beam", "the full angle to 50 % of the peak")
          .angle({0.01 * kDegree, kPiD, false})
          .expects("the full angle to 50 %, such as \"24 deg\"")
          .shown("\"24 deg\"")
          .of({"spot"})
          .called("cone_angle, cone, beam_angle, angle, hotspot"),
      key("field", "the full angle to 10 % of the peak; equal to the beam: a hard edge")
          .angle({0.01 * kDegree, kPiD, false})
          .shown("\"38 deg\"")
          .otherwise_text("the beam")
          .of({"spot"})
          .called("field_angle, penumbra, soft_edge, edge, outer_angle, inner_angle"),
      key("spread", "the full angle within which the surface emits")
          .angle({kDegree, kPiD})
          .shown("\"120 deg\"")
          .otherwise("180")
          .of(kFlat)
          .called("angle, directionality, grid, honeycomb, egg_crate"),
      key("two_sided", "whether the back emits as well")
          .flag()
          .shown("true")
          .otherwise("false")
          .of({"disk", "rect", "object"})
          .called("double_sided, both_sides"),
      key("hot_center",
          "how much the luminance gathers in the middle: (w + 1)(1 - ρ²)^w of its "
          "mean on a disk; the flux stays")
          .number({0, 100})
          .shown("1.5")
          .otherwise("0")
          .of({"sphere", "disk", "rect"})
          .called("center_weight, hotspot, gradient"),
      key("from", "its start")
          .position()
          .expects("a position [x, y, z]; or endless = true with at and along")
          .shown("[-1, 0, 2.4]")
          .of({"tube"})
          .called("start, length"),
      key("to", "its end")
          .position()
          .expects("a position [x, y, z]; or endless = true with at and along")
          .shown("[1, 0, 2.4]")
          .of({"tube"})
          .called("end, length"),
      key("endless", "whether it has no ends; then at and along place it")
          .flag()
          .shown("true")
          .otherwise("false")
          .of({"tube"})
          .called("infinite"),
      key("along", "the direction of an endless tube's axis")
          .direction()
          .expects("[x, y, z], the direction of its axis")
          .shown("[1, 0.2, 0]")
          .of({"tube"}),
      key("object", "the object whose surface emits, to the side of its normals")
          .text()
          .over(OverTime::kNever)
          .expects("the name of the object whose surface emits")
          .shown("\"shade\"")
          .of({"object"})
          .called("mesh, geometry"),
  };
}

// The sun, skies and domes.
std::vector<KeyDescription> distant_lights() {
  return {
      key("elevation", "of the sun above the horizon")
          .angle({-kPiD / 2, kPiD / 2})
          .expects("degrees; azimuth from north through east")
          .shown("\"12 deg\"")
          .of({"sun", "sky"})
          .called("altitude, height, pitch"),
      key("azimuth", "of the sun, from north (+y; with y up, -z) through east (+x)")
          .angle()
          .expects("degrees; azimuth from north through east")
          .shown("\"130 deg\"")
          .of({"sun", "sky"})
          .called("heading, yaw, bearing"),
      key("angular_diameter", "the angle that its disc fills: the larger, the softer its shadows")
          .angle({0.01 * kDegree, kPiD / 2})
          .shown("\"1 deg\"")
          .otherwise("\"0.533 deg\"")
          .of({"sun"})
          .called("disc, angle, size, softness, shadow_softness"),
      key("model", "how its luminance is spread; clear is CIE general sky 12")
          .word({"uniform", "overcast", "clear"})
          .expects("uniform, overcast or clear; or cie = 1 .. 15")
          .shown("\"overcast\"")
          .of({"sky"})
          .called("type, sky_model, turbidity, cloud"),
      key("cie", "instead of model, the type of sky by ISO 15469")
          .whole(1, 15)
          .shown("13")
          .of({"sky"}),
      key("image", "an equirectangular picture all around: its top is up, its middle column north")
          .file({".exr", ".hdr"})
          .expects("an equirectangular .exr or .hdr file")
          .shown("\"sky.exr\"")
          .of({"dome"})
          .called("texture, map, hdri, environment, panorama"),
      key("image", "the luminance over the rect: a screen, a window's view; output is its mean")
          .file({".png", ".exr", ".hdr"})
          .shown("\"screen.png\"")
          .of({"rect"})
          .over(OverTime::kStepped)
          .called("texture, map, video, screen, slide, picture"),
      key("rotate", "turns the dome clockwise, seen from above")
          .angle()
          .shown("\"40 deg\"")
          .otherwise("0")
          .of({"dome"})
          .called("turn, rotation"),
  };
}

std::vector<KeyDescription> color_and_level() {
  return {
      key("white", "the color of the source: Planck's in kelvin or mired, or CIE daylight")
          .other()
          .expects(
              "\"2700 K\" (500 to 100000), \"D6504\", \"daylight 6500 K\" (4000 to 25000) or a "
              "name such as \"candle\"")
          .shown("\"2700 K\"")
          .otherwise("\"D6504\"")
          .of(kColored)
          .called("temperature, color_temperature, kelvin, cct, mired, color, colour")
          .does(LayerEffect::kTints),
      key("spectrum",
          "instead of white: a CIE illuminant, an LED mix of our own, or a file of nm "
          "and power")
          .text()
          .file({".csv", ".spdx"})
          .expects("cie-a, cie-c, cie-d50 .. cie-d65, cie-f1 .. cie-f12, led-2200 .. led-6500, or "
                   "a .csv or .spdx file")
          .shown("\"cie-f11\"")
          .of(kColored)
          .called("spd, spectral, cri, color")
          .does(LayerEffect::kTints),
      key("dim_to_warm",
          "with a white in kelvin, the color slides down with the dimmer as a "
          "filament's does, T = T₀ dimmer^(0.42/3.4), not below this")
          .quantity(Dimension::kTemperature, {500, 100000})
          .shown("\"1800 K\"")
          .of(kColored)
          .called("warm_dim")
          .does(LayerEffect::kTints),
      key("gel", "filters in its beam: their luminous transmittance is taken from the level")
          .other()
          .over(OverTime::kStepped)
          .expects("a gel's name, \"#rrggbb\", an effect such as \"half warm\", \"+60 mired\" or "
                   "\"diffusion 20 deg\", or a list of them")
          .shown("\"#ffd9a0\"")
          .called("color_filter, filter, gels, color, colour, correction, warming, cooling")
          .does(LayerEffect::kTints),
      key("tint", "a color of the same luminous output")
          .color(1e6)
          .shown("\"#ffb070\"")
          .called("color, colour, rgb, hue")
          .does(LayerEffect::kTints),
      key("tint_by", "the tint by the place of the lit point")
          .table()
          .expects("{ formula = \"...\", ramp = [[value, color], ...] }")
          .shown("{ formula = \"z / 2.6\", ramp = [[0, \"#ffd9a0\"], [1, \"#c8e6b4\"]] }")
          .called("color_ramp, gradient"),
      key("dimmer", "linear in light; half is a stop less")
          .number(kShare)
          .in_stops()
          .expects("a share from 0 to 1, or stops such as \"-1.5 stops\"; above 0 stops the lamp "
                   "gives more than its output")
          .over(OverTime::kIntegrated)
          .shown("0.5")
          .otherwise("1")
          .called("multiplier, level, scale, intensity, gain, exposure")
          .does(LayerEffect::kScales),
      key("on", "false switches it off; its body stays in the scene")
          .flag()
          .over(OverTime::kIntegrated)
          .shown("false")
          .otherwise("true")
          .called("enabled, off, active, mute")
          .does(LayerEffect::kScales),
      key("body",
          "false: while it is off its body is not there either, throws no shadow and "
          "encloses nothing")
          .flag()
          .shown("false")
          .otherwise("true")
          .called("visible, geometry"),
      key("flicker", "its level over time")
          .table()
          .expects("{ wave = \"sine\", rate = \"3 Hz\", depth = \"30 %\" }")
          .shown("{ wave = \"sine\", rate = \"3 Hz\", depth = \"30 %\" }")
          .called("strobe, pulse, blink")
          .does(LayerEffect::kScales),
  };
}

std::vector<KeyDescription> shaping_and_reach() {
  return {
      key("profile",
          "a photometric file; its nadir goes along the axis, its C0 plane along the "
          "width. output may be left out: the file's lumens")
          .file({".ies", ".ldt"})
          .shown("\"lamp.ies\"")
          .of(kProfiled)
          .called("ies, ies_file, photometry, ldt, eulumdat, distribution"),
      key("gobo", "a mask in the beam")
          .table()
          .expects("{ image = \"file.png\" or pattern = \"slats\", size = [w, h], at = distance }")
          .shown("{ pattern = \"slats\", size = [\"1 m\", \"1 m\"], at = \"1.5 m\" }")
          .of({"spot", "disk", "rect", "sun"})
          .called("texture, map, mask, cookie, pattern, shadow_mask"),
      key("barn_doors", "four leaves on the edges of its opening, which cut the beam")
          .table()
          .expects("{ left = angle, right = angle, top = angle, bottom = angle, length = ... }")
          .shown("{ left = \"60 deg\", right = \"60 deg\" }")
          .of({"spot", "disk", "rect"})
          .called("barn_door, flags, flag, shutters, shutter, cutters, cutter"),
      key("falloff", "the law by which its light falls with distance, as a word or a table")
          .table()
          .expects("inverse-square, none, linear, polynomial, points or formula, or a table with "
                   "law")
          .shown("{ law = \"linear\", zero_at = \"6 m\" }")
          .otherwise("\"inverse-square\"")
          .of(kPlaced)
          .called("decay, attenuation, distance"),
      key("near_softening", "softens the near field: 1/d² becomes 1/(d² + near_softening²)")
          .length(kNotNegative)
          .shown("\"12 cm\"")
          .otherwise("0")
          .of(kPlaced)
          .called("cushion, near_clamp, hot_spot, firefly, fireflies, near_attenuation"),
      key("range", "full up to the first distance, fades to nothing at the second")
          .list(2, Dimension::kLength, kNotNegative)
          .shown("[\"2.8 m\", \"4.2 m\"]")
          .of(kPlaced)
          .called("reach, cutoff, far_attenuation, max_distance, decay_range"),
      key("inside", "the solid or closed object in which alone it works; it costs nothing outside")
          .text()
          .shown("\"house\"")
          .of(kPlaced)
          .called("zone, volume, bounds, region"),
      key("fade_with_camera", "fades out with its distance from the camera")
          .list(2, Dimension::kLength, kNotNegative)
          .shown("[\"14 m\", \"18 m\"]")
          .of(kPlaced)
          .called("lod, max_draw_distance, camera_distance"),
      key("only", "the objects that get light from it, directly and after bounces")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"bench\", \"tag:plants\"]")
          .called("include, link, light_linking, linking"),
      key("skip", "the objects that get no light from it")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"bench\", \"tag:plants\"]")
          .called("exclude, link, light_linking, linking"),
      key("shadow_only", "the objects that throw its shadows; bodies of other lights throw none")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"bench\", \"tag:plants\"]")
          .called("shadow_linking, cast_shadows, shadows"),
      key("shadow_skip", "the objects that throw none of its shadows")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"bench\", \"tag:plants\"]")
          .called("shadow_linking, cast_shadows, shadows"),
      key("group", "with layers = \"groups\" the lights of a group share a layer")
          .text()
          .over(OverTime::kNever)
          .shown("\"practicals\"")
          .called("light_group, layer"),
      key("cheat", "factors that depart from physics, each listed by check")
          .table()
          .expects("{ direct, diffuse, gloss, bounce, bounce_chroma, caustics, haze, shadow, "
                   "shadow_tint, bounce_limit, visible }")
          .shown("{ shadow = 0.5 }")
          .called("shadows, shadow, shadow_color, specular, diffuse, volumetric, visible, "
                  "contribution"),
  };
}

TableDescription falloff_keys() {
  TableDescription t{
      "light.falloff", "how light falls with the distance d from its center", "law", {}, {}};
  t.keys = {
      key("law",
          "inverse-square is physics; the others depart from it, and check tells by how "
          "much")
          .word({"inverse-square", "none", "linear", "polynomial", "points", "formula"})
          .over(OverTime::kNever)
          .shown("\"linear\"")
          .called("type, kind, decay, mode")
          .needed(),
      key("matches_at", "the distance at which the law gives what the inverse square gives")
          .length(kPositive)
          .shown("\"2 m\"")
          .otherwise("\"1 m\"")
          .called("match, start, reference_distance"),
      key("zero_at", "where the light ends")
          .length(kPositive)
          .expects("the length at which the light ends")
          .shown("\"6 m\"")
          .of({"linear"})
          .called("end, cutoff, far"),
      key("constant", "of 1/(constant + linear d + quadratic d²)")
          .number({-1e9, 1e9})
          .expects("constant, linear and quadratic of 1/(constant + linear d + quadratic d^2)")
          .shown("0.4")
          .otherwise("0")
          .of({"polynomial"})
          .called("a"),
      key("linear", "of the same")
          .number({-1e9, 1e9})
          .shown("0.25")
          .otherwise("0")
          .of({"polynomial"})
          .called("b"),
      key("quadratic", "of the same")
          .number({-1e9, 1e9})
          .shown("0.6")
          .otherwise("0")
          .of({"polynomial"})
          .called("c"),
      key("points", "distances and factors, joined by a monotone cubic")
          .other()
          .over(OverTime::kNever)
          .expects("[[\"0 m\", 1], [\"5 m\", 0]]: distances and factors")
          .shown("[[\"0 m\", 1], [\"5 m\", 0]]")
          .of({"points"})
          .called("curve, ramp"),
      key("formula", "of d in meters")
          .other()
          .over(OverTime::kNever)
          .expects("a formula such as \"1/(1+d)^2\"")
          .shown("\"1/(1+d)^2\"")
          .of({"formula"})
          .called("expression"),
  };
  return t;
}

TableDescription door_keys() {
  TableDescription t{"light.barn_doors",
                     "leaves hinged on the edges of the opening; sides as seen from behind the "
                     "light, along its beam. What they keep is lost from its lumens",
                     "",
                     {},
                     {}};
  constexpr std::string_view kSides[] = {"left", "right", "top", "bottom"};
  for (const std::string_view side : kSides) {
    t.keys.push_back(key(side, "how far the leaf is open: 0 closed, 90 deg straight ahead")
                         .angle({0, kPiD})
                         .shown("\"60 deg\"")
                         .otherwise("\"180 deg\""));
  }
  t.keys.push_back(key("length", "of a leaf, from its hinge to its free edge")
                       .length(kPositive)
                       .shown("\"15 cm\"")
                       .otherwise_text("half of the opening's shorter side"));
  t.keys.push_back(key("size", "of the opening")
                       .list(2, Dimension::kLength, kPositive)
                       .expects("[width, height] of the opening")
                       .shown("[\"2 m\", \"2 m\"]")
                       .otherwise_text("the light's; of a spot without a lens 20 cm")
                       .called("width, height"));
  return t;
}

TableDescription gobo_keys() {
  TableDescription t{"light.gobo",
                     "a mask square to the axis of a spot, disk, rect or sun; what lies between "
                     "light and mask is not touched",
                     "",
                     {},
                     {}};
  t.keys = {
      key("image",
          "a picture whose white lets light through; its top is up, or, where the light "
          "points straight up or down, north: +y (with y up, -z)")
          .file({".png", ".exr"})
          .shown("\"leaf.png\"")
          .called("file, texture, map"),
      key("pattern", "instead of an image, a pattern made by formula")
          .word(gobo_pattern_names())
          .shown("\"slats\"")
          .called("type, kind"),
      key("size", "of the whole mask, its repeats included")
          .list(2, Dimension::kLength, kPositive)
          .expects("[width, height] of the mask")
          .shown("[\"1 m\", \"1 m\"]")
          .called("scale, width, height")
          .needed(),
      key("at", "its distance from the light along the axis; from the scene's origin towards a sun")
          .length(kPositive)
          .expects("its distance from the light, along the axis")
          .shown("\"1.5 m\"")
          .called("distance, offset")
          .needed(),
      key("count", "of a pattern's slats, cells or dots across")
          .whole(1, 200)
          .shown("14")
          .otherwise("8")
          .called("number, frequency"),
      key("open", "the share of a pattern that lets light through")
          .number({0.01, 1})
          .shown("0.45")
          .otherwise("0.5")
          .called("density, fill, duty"),
      key("tile", "how often the mask repeats within its size, across and up")
          .list(2, Dimension::kPercent, {1, 1000})
          .expects("[across, up], how often it repeats")
          .shown("[3, 1]")
          .otherwise("[1, 1]")
          .called("repeat, tiling"),
      key("soft", "the width over which an edge goes from 10 to 90 %")
          .length(kNotNegative)
          .shown("\"1 cm\"")
          .otherwise("0")
          .called("blur, softness"),
      key("rotate", "clockwise, seen from the light")
          .angle()
          .shown("15")
          .otherwise("0")
          .called("turn, rotation, angle"),
      key("strength", "0 lets everything through")
          .number(kShare)
          .shown("0.8")
          .otherwise("1")
          .called("opacity, intensity, mix"),
      key("surround", "what lies around the mask")
          .word({"dark", "clear", "repeat"})
          .shown("\"clear\"")
          .otherwise_text("dark; of a sun repeat")
          .called("border, outside, extend"),
  };
  return t;
}

TableDescription flicker_keys() {
  TableDescription t{"light.flicker", "a light's level over time", "wave", {}, {}};
  t.keys = {
      key("wave", "the course of a cycle; the table of waves tells each")
          .word({"sine", "square", "mains", "flame", "strike", "formula"})
          .over(OverTime::kNever)
          .shown("\"sine\"")
          .called("type, kind, shape")
          .needed(),
      key("rate", "cycles a second; of flame half of the fastest change")
          .quantity(Dimension::kFrequency, {1e-6, 1e6})
          .over(OverTime::kNever)
          .expects("a frequency such as \"3 Hz\"")
          .shown("\"3 Hz\"")
          .called("frequency, speed"),
      key("depth", "the percent flicker of sine, square and mains, the swing of flame")
          .number(kShare)
          .shown("\"30 %\"")
          .otherwise("1")
          .of({"sine", "square", "mains", "flame", "strike"})
          .called("amount, amplitude"),
      key("phase", "where in its cycle it is at 0 s")
          .angle()
          .shown("\"90 deg\"")
          .otherwise("0")
          .of({"sine", "square", "mains", "flame", "strike"})
          .called("offset"),
      key("duty", "the share of a cycle for which it is high")
          .number({0.001, 0.999})
          .over(OverTime::kNever)
          .shown("0.3")
          .otherwise("0.5")
          .of({"square"})
          .called("duty_cycle, width"),
      key("seed", "of its chance; copies of an array each have their own")
          .whole(0, kMostSeed)
          .over(OverTime::kNever)
          .shown("3")
          .otherwise("1")
          .of({"flame", "strike"})
          .called("random"),
      key("formula", "the level, of t in seconds")
          .other()
          .over(OverTime::kNever)
          .expects("a formula such as \"0.8 + 0.2*sin(tau*3*t)\"")
          .shown("\"0.8 + 0.2*sin(tau*3*t)\"")
          .of({"formula"})
          .called("expression"),
  };
  return t;
}

TableDescription cheat_keys() {
  constexpr Limits kFactor{0, 1000};
  TableDescription t{
      "light.cheat", "departures from physics; check lists each in figures", "", {}, {}};
  t.keys = {
      key("direct", "a factor on the light where it first falls on a surface or on haze")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1"),
      key("diffuse", "a factor on the diffuse part of the reflection that the light falls on")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1"),
      key("gloss", "a factor on its glossy part; mirrors count as gloss")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1")
          .called("specular, highlight, reflection"),
      key("bounce", "a factor on the light after a bounce, caustics apart")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1")
          .called("indirect, gi"),
      key("bounce_chroma",
          "a factor on the chroma of all light after a bounce, luminance kept: 0 "
          "is neutral; above 1 no channel goes below 0")
          .number({0, 10})
          .shown("0.5")
          .otherwise("1")
          .called("bounce_saturation, color_bleeding, saturation"),
      key("caustics", "a factor on the light that gloss, glass and mirrors throw on other surfaces")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1"),
      key("haze", "a factor on its light that haze scatters, also after surfaces")
          .number(kFactor)
          .shown("0.5")
          .otherwise("1")
          .called("volume, volumetric, fog, god_rays"),
      key("shadow", "the opacity of its shadows")
          .number(kShare)
          .shown("0.5")
          .otherwise("1")
          .called("shadow_density, shadow_strength, density"),
      key("shadow_tint", "the color of the light that passes in its shadows")
          .color(1)
          .shown("\"#404858\"")
          .otherwise("\"#000000\"")
          .called("shadow_color"),
      key("bounce_limit",
          "the most that one path of its bounced light adds to a sample; render "
          "tells how much light that takes")
          .quantity(Dimension::kLuminance, {1e-6, 1e12})
          .over(OverTime::kNever)
          .shown("\"50 cd/m2\"")
          .otherwise_text("no limit")
          .called("clamp, firefly, fireflies, indirect_clamp"),
      key("visible",
          "false: cameras and mirrors do not see its surface, and its body throws no "
          "shadow")
          .flag()
          .shown("false")
          .otherwise("true")
          .called("seen, camera_visible, invisible"),
  };
  return t;
}

TableDescription tint_by_keys() {
  TableDescription t{"light.tint_by", "a light's tint by the place of the lit point", "", {}, {}};
  t.keys = {
      key("formula", "of the lit point's x, y and z in meters and of t in seconds")
          .other()
          .over(OverTime::kNever)
          .expects("a formula such as \"z / 2.6\"")
          .shown("\"z / 2.6\"")
          .called("expression")
          .needed(),
      key("ramp", "the colors at increasing values of the formula, linear between them")
          .other()
          .over(OverTime::kNever)
          .expects("[[value, \"#rrggbb\"], ...]")
          .shown("[[0, \"#ffd9a0\"], [1, \"#c8e6b4\"]]")
          .called("colors, gradient")
          .needed(),
  };
  return t;
}

TableDescription gel_keys() {
  TableDescription t{"gel",
                     "a filter: it is multiplied into its light's spectrum at each nanometer, and "
                     "check shows what share of the light it lets through",
                     "",
                     {},
                     {}};
  t.keys = {
      key("name", "what a light's gel calls it")
          .text()
          .over(OverTime::kNever)
          .shown("\"straw\"")
          .needed(),
      key("points", "wavelengths in nm and transmittances, linear between them, constant beyond")
          .other()
          .over(OverTime::kNever)
          .expects("[[nm, transmittance], ...]")
          .shown("[[400, 0.1], [500, 0.4], [580, 0.9], [700, 0.95]]")
          .called("curve, transmittance, color"),
      key("file", "instead of points")
          .file({".csv", ".spdx"})
          .shown("\"straw.csv\"")
          .called("path"),
  };
  return t;
}

}  // namespace

std::vector<TableDescription> light_tables() {
  TableDescription light = source_and_place();
  for (const auto& more :
       {sizes_of_lamps(), distant_lights(), color_and_level(), shaping_and_reach()}) {
    light.add(more);
  }
  return {std::move(light),
          falloff_keys(),
          gobo_keys(),
          door_keys(),
          flicker_keys(),
          cheat_keys(),
          tint_by_keys(),
          gel_keys()};
}

}  // namespace jovilux
