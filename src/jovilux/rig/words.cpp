#include "jovilux/rig/words.h"

#include <array>
#include <cctype>

namespace jovilux {
namespace {

// Tables whose second part of the address is a name of the user's.
constexpr std::array<std::string_view, 12> kNamed = {"light",
                                                     "object",
                                                     "material",
                                                     "solid",
                                                     "haze",
                                                     "camera",
                                                     "meter",
                                                     "gel",
                                                     "array",
                                                     "variant",
                                                     "assembly",
                                                     "group"};

// "light.key[3].falloff" as "light.falloff": the kind of table, whatever its name.
std::string kind_of_table(std::string_view address) {
  std::string out;
  std::size_t number = 0;
  bool named = false;
  while (!address.empty()) {
    const std::size_t dot = address.find('.');
    std::string_view part = address.substr(0, dot);
    address = dot == std::string_view::npos ? std::string_view() : address.substr(dot + 1);
    part = part.substr(0, part.find('['));
    if (number == 0) {
      for (const std::string_view kind : kNamed) {
        named = named || kind == part;
      }
    }
    if (!(named && number == 1)) {
      out += (out.empty() ? "" : ".") + std::string(part);
    }
    ++number;
  }
  return out;
}

std::string plain(std::string_view word) {
  std::string out;
  for (const char c : word) {
    if (c != '-' && c != '_') {
      out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    }
  }
  return out;
}

std::string found_in(const std::vector<WordHint>& words,
                     const std::string& table,
                     std::string_view word) {
  const std::string wanted = plain(word);
  std::string anywhere;
  for (const WordHint& w : words) {
    if (plain(w.word) != wanted) {
      continue;
    }
    if (w.table == table) {
      return std::string(w.hint);
    }
    if (w.table.empty()) {
      anywhere = w.hint;
    }
  }
  return anywhere;
}

}  // namespace

const std::vector<WordHint>& key_words() {
  static const std::vector<WordHint> kWords = {
      // A light's kind, place and size.
      {"light", "form", "write kind = \"disk\": form is now kind"},
      {"light",
       "type",
       "write kind = \"point\", \"spot\", \"sphere\", \"disk\", \"rect\", \"tube\", \"object\", "
       "\"sun\", \"sky\" or \"dome\""},
      {"light", "shape", "write kind = \"disk\" (or rect, sphere, tube) and its size"},
      {"light", "position", "write at = [x, y, z]"},
      {"light", "pos", "write at = [x, y, z]"},
      {"light", "location", "write at = [x, y, z]"},
      {"light", "origin", "write at = [x, y, z]"},
      {"light", "translate", "write at = [x, y, z]"},
      {"light", "translation", "write at = [x, y, z]"},
      {"light", "target", "write aim = [x, y, z], the point to face"},
      {"light", "look_at", "write aim = [x, y, z], the point to face"},
      {"light", "point_at", "write aim = [x, y, z], the point to face"},
      {"light", "direction", "write toward = [0, 0, -1], or aim = [x, y, z], the point to face"},
      {"light",
       "rotation",
       "write aim = [x, y, z], the point to face, or toward = [x, y, z]; roll turns about that "
       "axis"},
      {"light",
       "rotate",
       "write aim = [x, y, z], the point to face, or toward = [x, y, z]; roll turns about that "
       "axis"},
      {"light", "turn", "write rotate on a dome; elsewhere aim = [x, y, z] and roll"},
      {"light", "width", "write size = [width, height]"},
      {"light", "height", "write size = [width, height]"},
      {"light", "diameter", "write radius = \"6 cm\", half of it"},
      {"light", "length", "a tube has from = [x, y, z] and to = [x, y, z]"},
      {"light", "disc", "write angular_diameter = \"0.533 deg\""},
      {"light",
       "angle",
       "write beam = \"30 deg\" and field = \"50 deg\" on a spot, angular_diameter on a sun, "
       "spread on disk and rect"},
      {"light",
       "cone_angle",
       "write beam = \"30 deg\" (to 50 % of the peak) and field = \"50 deg\" (to 10 %), both full "
       "angles"},
      {"light",
       "cone",
       "write beam = \"30 deg\" (to 50 % of the peak) and field = \"50 deg\" (to 10 %), both full "
       "angles"},
      {"light", "beam_angle", "write beam = \"30 deg\", the full angle to 50 % of the peak"},
      {"light", "field_angle", "write field = \"50 deg\", the full angle to 10 % of the peak"},
      {"light",
       "penumbra",
       "on a spot, beam and field set the soft edge; a radius makes the shadow soft"},
      {"light", "soft_edge", "on a spot, beam and field set the soft edge"},
      {"light",
       "shadow_softness",
       "give the light its true size: radius = \"6 cm\" or size = [0.4, 0.3]"},
      {"light", "softness", "give the light its true size: radius = \"6 cm\" or size = [0.4, 0.3]"},
      {"light", "barn_door", "a rect between the lamp and the scene cuts its light off"},
      {"light", "center_weight", "write hot_center = 1.5"},
      // Level and color.
      {"light",
       "intensity",
       "write output = \"800 lm\" (or \"120 cd\", \"3000 cd/m2\", \"500 lx @ 2 m\")"},
      {"light",
       "brightness",
       "write output = \"800 lm\" (or \"120 cd\", \"3000 cd/m2\", \"500 lx @ 2 m\")"},
      {"light", "power", "write output = \"18 W @ 105 lm/W\", or lumens: output = \"800 lm\""},
      {"light", "watts", "write output = \"18 W @ 105 lm/W\", or lumens: output = \"800 lm\""},
      {"light", "energy", "write output = \"800 lm\""},
      {"light", "lumens", "write output = \"800 lm\""},
      {"light", "lumen", "write output = \"800 lm\""},
      {"light", "flux", "write output = \"800 lm\""},
      {"light", "candela", "write output = \"120 cd\""},
      {"light", "nits", "write output = \"3000 cd/m2\""},
      {"light", "luminance", "write output = \"3000 cd/m2\""},
      {"light", "lux", "write output = \"500 lx @ 2 m\"; on sun and sky \"500 lx\""},
      {"light", "illuminance", "write output = \"500 lx @ 2 m\"; on sun and sky \"500 lx\""},
      {"light",
       "exposure",
       "write output in real units, output = \"800 lm\"; dimmer = 0.5 is one stop less"},
      {"light", "multiplier", "write dimmer = 0.5, linear in light"},
      {"light", "level", "write dimmer = 0.5, linear in light"},
      {"light", "scale", "write dimmer = 0.5, linear in light; the size is radius or size"},
      {"light", "enabled", "write on = false"},
      {"light", "off", "write on = false"},
      {"light", "color", "write white = \"2700 K\", tint = \"#ffb070\" or gel = \"name\""},
      {"light", "colour", "write white = \"2700 K\", tint = \"#ffb070\" or gel = \"name\""},
      {"light", "temperature", "write white = \"2700 K\""},
      {"light", "color_temperature", "write white = \"2700 K\""},
      {"light", "kelvin", "write white = \"2700 K\""},
      {"light", "cct", "write white = \"2700 K\""},
      {"light", "mired", "write white = \"370 mired\""},
      {"light", "color_filter", "write gel = \"name\" of a [[gel]], or gel = \"#ffd9a0\""},
      {"light", "gels", "write gel = [\"a\", \"b\"]"},
      // Falloff.
      {"light", "cushion", "write near_softening = \"12 cm\": cushion is now near_softening"},
      {"light", "reach", "write range = [\"2.8 m\", \"4.2 m\"]: reach is now range"},
      {"light",
       "decay",
       "write falloff = { law = \"none\" } or another law; without it light falls by the inverse "
       "square"},
      {"light",
       "attenuation",
       "write falloff = { law = \"linear\", zero_at = \"4.5 m\" } or another law; without it light "
       "falls by the inverse square"},
      {"light",
       "cutoff",
       "write range = [\"2.8 m\", \"4.2 m\"], which fades instead of cutting off"},
      {"light", "near_clamp", "write near_softening = \"12 cm\""},
      {"light.falloff", "match", "write matches_at = \"1.2 m\": match is now matches_at"},
      {"light.falloff", "a", "write constant = 0.4, linear = 0.25, quadratic = 0.6"},
      {"light.falloff", "b", "write constant = 0.4, linear = 0.25, quadratic = 0.6"},
      {"light.falloff", "c", "write constant = 0.4, linear = 0.25, quadratic = 0.6"},
      {"light.falloff", "type", "write law = \"linear\""},
      {"light.falloff", "kind", "write law = \"linear\""},
      {"light.falloff", "end", "write zero_at = \"4.5 m\""},
      // Shaping and where it works.
      {"light", "ies", "write profile = \"lamp.ies\""},
      {"light", "ies_file", "write profile = \"lamp.ies\""},
      {"light", "photometry", "write profile = \"lamp.ies\""},
      {"light",
       "texture",
       "a dome has image = \"sky.exr\"; a mask in the beam is gobo = { image = \"leaf.png\", size "
       "= [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light",
       "map",
       "a dome has image = \"sky.exr\"; a mask in the beam is gobo = { image = \"leaf.png\", size "
       "= [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light",
       "mask",
       "write gobo = { image = \"leaf.png\", size = [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light",
       "cookie",
       "write gobo = { image = \"leaf.png\", size = [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light", "zone", "write inside = \"solid or object\": zone is now inside"},
      {"light", "include", "write only = [\"object\", \"tag:name\"]"},
      {"light", "exclude", "write skip = [\"object\", \"tag:name\"]"},
      {"light", "link", "write only = [\"object\", \"tag:name\"], or skip"},
      {"light", "shadows", "write cheat = { shadow = 0 }, or shadow_skip = [\"object\"]"},
      {"light", "cast_shadows", "write cheat = { shadow = 0 }, or shadow_skip = [\"object\"]"},
      {"light", "shadow", "write cheat = { shadow = 0.5 }"},
      {"light", "shadow_color", "write cheat = { shadow_tint = \"#404040\" }"},
      {"light", "visible", "write cheat = { visible = false }"},
      {"light", "diffuse", "write cheat = { diffuse = 0.5 }"},
      {"light", "specular", "write cheat = { gloss = 0.5 }"},
      {"light", "volumetric", "write cheat = { haze = 0.5 }"},
      {"light.cheat", "seen", "write visible = false: seen is now visible"},
      {"light.cheat",
       "bounce_saturation",
       "write bounce_chroma = 0.5: bounce_saturation is now bounce_chroma"},
      {"light.cheat", "specular", "write gloss = 0.5"},
      {"light.cheat", "indirect", "write bounce = 0.5"},
      {"light.cheat", "volume", "write haze = 0.5"},
      {"light.gobo", "turn", "write rotate = 15: turn is now rotate"},
      {"light.gobo", "repeat", "write tile = [3, 1]"},
      {"light.gobo", "blur", "write soft = \"2 cm\""},
      {"light.flicker", "frequency", "write rate = \"3 Hz\""},
      {"light.flicker", "speed", "write rate = \"3 Hz\""},
      {"light.flicker", "amount", "write depth = \"30 %\""},
      {"light.flicker", "amplitude", "write depth = \"30 %\""},
      // Objects, solids, materials.
      {"object", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
      {"solid", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
      {"haze", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
      {"object", "rotation", "write rotate = [0, 0, 15], degrees about x, y and z"},
      {"object", "position", "write at = [x, y, z]"},
      {"object", "location", "write at = [x, y, z]"},
      {"object", "translate", "write at = [x, y, z]"},
      {"object", "file", "write mesh = \"pot.obj\""},
      {"object",
       "kind",
       "write shape = { kind = \"box\", size = [1, 1, 1] }, mesh = \"pot.obj\" or solid = "
       "\"name\""},
      {"object",
       "type",
       "write shape = { kind = \"box\", size = [1, 1, 1] }, mesh = \"pot.obj\" or solid = "
       "\"name\""},
      {"object", "size", "write it in the shape: shape = { kind = \"box\", size = [1, 1, 1] }"},
      {"object", "radius", "write it in the shape: shape = { kind = \"sphere\", radius = 0.5 }"},
      {"object", "tag", "write tags = [\"glass\"]"},
      {"object",
       "color",
       "an object has a material: [[material]] with name, kind = \"diffuse\" and color, then "
       "material = \"name\""},
      {"object", "shader", "write material = \"name\" of a [[material]]"},
      {"solid", "position", "write at = [x, y, z]"},
      {"solid", "rotation", "write rotate = [0, 0, 15]"},
      {"solid", "every", "write spacing = [0.3, 0.3, 0]: every is now spacing"},
      {"solid", "round", "write rounding = \"2 cm\": round is now rounding"},
      {"solid", "type", "write kind = \"box\""},
      {"solid", "expression", "write kind = \"formula\" and formula = \"...\""},
      {"array.along", "every", "write spacing = [0.3, 0.3, 0]: every is now spacing"},
      {"material", "type", "write kind = \"diffuse\""},
      {"material", "through", "write transmittance = 0.4: through is now transmittance"},
      {"material",
       "through_color",
       "write transmitted_color = \"#ffd9a0\": through_color is now transmitted_color"},
      {"material",
       "transmission",
       "write kind = \"glass\", or kind = \"translucent\" with transmittance = 0.4"},
      {"material", "albedo", "write color = [0.5, 0.5, 0.5]"},
      {"material", "base_color", "write color = [0.5, 0.5, 0.5]"},
      {"material", "diffuse", "write kind = \"diffuse\" and color = [0.5, 0.5, 0.5]"},
      {"material", "reflectance", "write color = [0.5, 0.5, 0.5]"},
      {"material", "texture", "write color = \"picture.png\""},
      {"material", "map", "write color = \"picture.png\""},
      {"material", "metallic", "write kind = \"metal\""},
      {"material", "metalness", "write kind = \"metal\""},
      {"material", "specular", "write kind = \"gloss\" with ior = 1.5 and roughness"},
      {"material", "glossiness", "write roughness = 0.2: 0 is a mirror"},
      {"material", "opacity", "write mask = \"picture.png\", or kind = \"glass\" with thin = true"},
      {"material", "alpha", "write mask = \"picture.png\", or kind = \"glass\" with thin = true"},
      {"material", "emission", "a light of kind = \"object\" makes an object shine"},
      {"material", "refraction", "write ior = 1.5"},
      // Haze.
      {"haze",
       "falloff_height",
       "write scale_height = \"1.2 m\": falloff_height is now scale_height"},
      {"haze", "glow", "write emission = \"0.1 cd/m2\": glow is now emission"},
      {"haze", "density", "write visibility = \"60 m\", or extinction = \"0.05 /m\""},
      {"haze", "scattering", "write extinction = \"0.05 /m\" and albedo = 0.96"},
      {"haze",
       "absorption",
       "write extinction = \"0.05 /m\" and albedo = 0.5: what is not scattered is absorbed"},
      {"haze", "color", "write albedo = [0.96, 0.95, 0.93]"},
      {"haze", "g", "write anisotropy = 0.5, the mean cosine"},
      {"haze", "phase", "write anisotropy = 0.5, the mean cosine"},
      {"haze", "zone", "write inside = \"solid or object\""},
      {"haze", "noise", "write clumps = { size = \"40 cm\", depth = 0.6 }"},
      {"haze", "turbulence", "write clumps = { size = \"40 cm\", depth = 0.6 }"},
      // Camera, look, render.
      {"camera", "view", "write field_of_view = \"60 deg\": view is now field_of_view"},
      {"camera", "fov", "write field_of_view = \"60 deg\", horizontal"},
      {"camera", "focal_length", "write lens = \"28 mm\""},
      {"camera", "position", "write at = [x, y, z]"},
      {"camera", "location", "write at = [x, y, z]"},
      {"camera", "target", "write look_at = [x, y, z]"},
      {"camera", "aim", "write look_at = [x, y, z]"},
      {"camera", "rotation", "write look_at = [x, y, z]"},
      {"camera", "fstop", "write stop = 4.0"},
      {"camera", "aperture", "write stop = 4.0"},
      {"camera", "focus_distance", "write focus = \"4.2 m\""},
      {"camera", "shutter_speed", "write shutter = \"1/60 s\""},
      {"camera", "resolution", "write size = [960, 540] in [render]"},
      {"look", "tone", "write curve = \"film\" or \"linear\""},
      {"look", "tonemap", "write curve = \"film\" or \"linear\""},
      {"look", "ev", "write exposure = \"EV 9\""},
      {"look", "glare", "write bloom = 0.02"},
      {"render", "light_paths", "write light_tracing = true: light_paths is now light_tracing"},
      {"render", "resolution", "write size = [960, 540]"},
      {"render", "width", "write size = [960, 540]"},
      {"render", "height", "write size = [960, 540]"},
      {"render", "spp", "write samples = 256"},
      {"render", "quality", "write samples = 256, or noise = \"2 %\""},
      {"render", "depth", "write bounces = 6"},
      {"render", "max_bounces", "write bounces = 6"},
      {"meter", "position", "write at = [x, y, z]"},
      {"meter", "normal", "write facing = [0, 0, 1]"},
      {"meter", "toward", "write facing = [0, 0, 1]"},
      {"scene", "units", "write length = \"cm\", what bare lengths mean"},
      {"scene", "unit", "write length = \"cm\", what bare lengths mean"},
      {"scene", "up_axis", "write up = \"y\""},
      {"", "lights", "write [[light]], a table for each light"},
      {"", "objects", "write [[object]], a table for each object"},
      {"", "materials", "write [[material]], a table for each material"},
      {"", "cameras", "write [[camera]], a table for each camera"},
      {"", "meters", "write [[meter]], a table for each meter"},
      {"", "fog", "write [[haze]] with visibility = \"60 m\""},
      {"", "volume", "write [[haze]] with visibility = \"60 m\""},
      {"", "atmosphere", "write [[haze]] with visibility = \"60 m\""},
      {"", "version", "write jovilux = 1"},
  };
  return kWords;
}

const std::vector<WordHint>& value_words() {
  static const std::vector<WordHint> kWords = {
      {"light.kind", "area", "write kind = \"rect\" with size, or \"disk\" with radius"},
      {"light.kind", "quad", "write kind = \"rect\" with size"},
      {"light.kind", "directional", "write kind = \"sun\""},
      {"light.kind", "distant", "write kind = \"sun\""},
      {"light.kind", "environment", "write kind = \"dome\" with image, or \"sky\""},
      {"light.kind", "hdri", "write kind = \"dome\" with image"},
      {"light.kind", "ies", "write kind = \"point\" with profile = \"lamp.ies\""},
      {"light.kind", "mesh", "write kind = \"object\" with object = \"name\""},
      {"light.kind", "cylinder", "write kind = \"tube\" with from, to and radius"},
      {"light.kind", "line", "write kind = \"tube\" with from, to and radius = 0"},
      {"light.kind", "bulb", "write kind = \"sphere\" with radius"},
      {"light.flicker.wave", "rectified", "write wave = \"mains\": rectified is now mains"},
      {"material.kind", "matte", "write kind = \"diffuse\": matte is now diffuse"},
      {"material.kind", "lambert", "write kind = \"diffuse\""},
      {"material.kind", "sheet", "write kind = \"translucent\": sheet is now translucent"},
      {"material.kind", "mirror", "write kind = \"metal\" with roughness = 0"},
      {"material.kind", "plastic", "write kind = \"gloss\""},
      {"material.kind", "glossy", "write kind = \"gloss\""},
      {"material.kind", "dielectric", "write kind = \"glass\""},
      {"material.kind", "emissive", "a light of kind = \"object\" makes an object shine"},
      {"solid.kind", "frame", "write kind = \"box-edges\": frame is now box-edges"},
      {"solid.kind", "round-box", "write kind = \"rounded-box\" with rounding"},
      {"object.shape.kind", "cube", "write kind = \"box\""},
      {"object.shape.kind", "quad", "write kind = \"rect\""},
      {"object.shape.kind", "ball", "write kind = \"sphere\""},
      {"object.shape.kind", "disc", "write kind = \"disk\""},
      {"light.falloff", "quadratic", "write falloff = \"inverse-square\""},
      {"light.falloff", "physical", "write falloff = \"inverse-square\""},
      {"light.falloff.law", "quadratic", "write law = \"inverse-square\""},
      {"light.falloff", "constant", "write falloff = { law = \"none\" }"},
  };
  return kWords;
}

std::string hint_for_key(std::string_view address, std::string_view word) {
  return found_in(key_words(), kind_of_table(address), word);
}

std::string hint_for_value(std::string_view address, std::string_view word) {
  return found_in(value_words(), kind_of_table(address), word);
}

}  // namespace jovilux
