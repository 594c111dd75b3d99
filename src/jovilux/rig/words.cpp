#include "jovilux/rig/words.h"

#include "jovilux/rig/schema.h"

#include <cctype>

#include <fmt/format.h>

namespace jovilux {
namespace {

// Whether a word is one of a list by commas.
bool is_among(std::string_view list, const std::string& wanted) {
  while (!list.empty()) {
    const std::size_t comma = list.find(',');
    std::string_view one = list.substr(0, comma);
    one.remove_prefix(std::min(one.find_first_not_of(' '), one.size()));
    if (plain_word(one) == wanted) {
      return true;
    }
    list = comma == std::string_view::npos ? std::string_view() : list.substr(comma + 1);
  }
  return false;
}

// What stands for the word in this table, or in any.
std::string found_in(const std::vector<WordHint>& words,
                     const std::string& table,
                     const std::string& wanted) {
  std::string anywhere;
  for (const WordHint& w : words) {
    if (plain_word(w.word) != wanted) {
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

std::string plain_word(std::string_view word) {
  std::string out;
  for (const char c : word) {
    if (c != '-' && c != '_' && c != ' ') {
      out += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    }
  }
  return out;
}

bool is_called(const KeyDescription& key, std::string_view word) {
  return is_among(key.also, plain_word(word));
}

const std::vector<WordHint>& key_words() {
  static const std::vector<WordHint> kWords = {
      {"light", "form", "write kind = \"disk\": form is now kind"},
      {"light",
       "type",
       "write kind = \"point\", \"spot\", \"sphere\", \"disk\", \"rect\", \"tube\", \"object\", "
       "\"sun\", \"sky\" or \"dome\""},
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
      {"light", "length", "a tube has from = [x, y, z] and to = [x, y, z]"},
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
      {"light",
       "penumbra",
       "on a spot, beam and field set the soft edge; a radius makes the shadow soft"},
      {"light", "soft_edge", "on a spot, beam and field set the soft edge"},
      {"light",
       "shadow_softness",
       "give the light its true size: radius = \"6 cm\" or size = [0.4, 0.3]"},
      {"light", "softness", "give the light its true size: radius = \"6 cm\" or size = [0.4, 0.3]"},
      {"light", "barn_door", "a rect between the lamp and the scene cuts its light off"},
      {"light", "power", "write output = \"18 W @ 105 lm/W\", or lumens: output = \"800 lm\""},
      {"light", "watts", "write output = \"18 W @ 105 lm/W\", or lumens: output = \"800 lm\""},
      {"light", "lux", "write output = \"500 lx @ 2 m\"; on sun and sky \"500 lx\""},
      {"light", "illuminance", "write output = \"500 lx @ 2 m\"; on sun and sky \"500 lx\""},
      {"light",
       "exposure",
       "write output in real units, output = \"800 lm\"; dimmer = 0.5 is one stop less"},
      {"light", "scale", "write dimmer = 0.5, linear in light; the size is radius or size"},
      {"light", "color", "write white = \"2700 K\", tint = \"#ffb070\" or gel = \"name\""},
      {"light", "colour", "write white = \"2700 K\", tint = \"#ffb070\" or gel = \"name\""},
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
      {"light.falloff", "match", "write matches_at = \"1.2 m\": match is now matches_at"},
      {"light.falloff", "b", "write constant = 0.4, linear = 0.25, quadratic = 0.6"},
      {"light.falloff", "c", "write constant = 0.4, linear = 0.25, quadratic = 0.6"},
      {"light",
       "texture",
       "a dome has image = \"sky.exr\"; a mask in the beam is gobo = { image = \"leaf.png\", size "
       "= [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light",
       "map",
       "a dome has image = \"sky.exr\"; a mask in the beam is gobo = { image = \"leaf.png\", size "
       "= [\"1 m\", \"1 m\"], at = \"1.5 m\" }"},
      {"light", "zone", "write inside = \"solid or object\": zone is now inside"},
      {"light", "link", "write only = [\"object\", \"tag:name\"], or skip"},
      {"light", "shadows", "write cheat = { shadow = 0 }, or shadow_skip = [\"object\"]"},
      {"light", "cast_shadows", "write cheat = { shadow = 0 }, or shadow_skip = [\"object\"]"},
      {"light.cheat", "seen", "write visible = false: seen is now visible"},
      {"light.cheat",
       "bounce_saturation",
       "write bounce_chroma = 0.5: bounce_saturation is now bounce_chroma"},
      {"light.gobo", "turn", "write rotate = 15: turn is now rotate"},
      {"object", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
      {"solid", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
      {"haze", "turn", "write rotate = [0, 0, 15]: turn is now rotate"},
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
      {"object",
       "color",
       "an object has a material: [[material]] with name, kind = \"diffuse\" and color, then "
       "material = \"name\""},
      {"solid", "every", "write spacing = [0.3, 0.3, 0]: every is now spacing"},
      {"solid", "round", "write rounding = \"2 cm\": round is now rounding"},
      {"solid", "expression", "write kind = \"formula\" and formula = \"...\""},
      {"array.along", "every", "write spacing = [0.3, 0.3, 0]: every is now spacing"},
      {"material", "through", "write transmittance = 0.4: through is now transmittance"},
      {"material",
       "through_color",
       "write transmitted_color = \"#ffd9a0\": through_color is now transmitted_color"},
      {"material",
       "transmission",
       "write kind = \"glass\", or kind = \"translucent\" with transmittance = 0.4"},
      {"material", "diffuse", "write kind = \"diffuse\" and color = [0.5, 0.5, 0.5]"},
      {"material", "glossiness", "write roughness = 0.2: 0 is a mirror"},
      {"material", "opacity", "write mask = \"picture.png\", or kind = \"glass\" with thin = true"},
      {"material", "alpha", "write mask = \"picture.png\", or kind = \"glass\" with thin = true"},
      {"material", "emission", "a light of kind = \"object\" makes an object shine"},
      {"haze",
       "falloff_height",
       "write scale_height = \"1.2 m\": falloff_height is now scale_height"},
      {"haze", "glow", "write emission = \"0.1 cd/m2\": glow is now emission"},
      {"haze", "density", "write visibility = \"60 m\", or extinction = \"0.05 /m\""},
      {"haze",
       "absorption",
       "write extinction = \"0.05 /m\" and albedo = 0.5: what is not scattered is absorbed"},
      {"haze", "zone", "write inside = \"solid or object\""},
      {"camera", "view", "write field_of_view = \"60 deg\": view is now field_of_view"},
      {"camera", "resolution", "write size = [960, 540] in [render]"},
      {"look", "tone", "write curve = \"film\" or \"linear\""},
      {"look", "tonemap", "write curve = \"film\" or \"linear\""},
      {"render", "light_paths", "write light_tracing = true: light_paths is now light_tracing"},
      {"render", "quality", "write samples = 256, or noise = \"2 %\""},
      {"", "lights", "write [[light]], a table for each light"},
      {"", "objects", "write [[object]], a table for each object"},
      {"", "materials", "write [[material]], a table for each material"},
      {"", "cameras", "write [[camera]], a table for each camera"},
      {"", "meters", "write [[meter]], a table for each meter"},
      {"", "fog", "write [[haze]] with visibility = \"60 m\""},
      {"", "volume", "write [[haze]] with visibility = \"60 m\""},
      {"", "atmosphere", "write [[haze]] with visibility = \"60 m\""},
      {"light/point", "radius", "write kind = \"sphere\": a point has no size"},
      {"light/point",
       "size",
       "write kind = \"sphere\" with radius, or \"rect\" with size: a point has no size"},
      {"light/point",
       "aim",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/point",
       "toward",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/point",
       "roll",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/sphere",
       "aim",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/sphere",
       "toward",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/sphere",
       "roll",
       "it shines all around; a profile has an axis, and kind = \"spot\" a beam"},
      {"light/rect", "radius", "write size = [width, height]"},
      {"light/sphere", "size", "write radius = \"11 cm\""},
      {"light/disk", "size", "write radius = \"11 cm\", or kind = \"rect\""},
      {"light/sun",
       "at",
       "a sun is everywhere: write toward = [x, y, z], or elevation and azimuth"},
      {"light/sun", "aim", "write toward = [x, y, z], or elevation and azimuth"},
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

std::string hint_for_key(std::string_view address, std::string_view kind, std::string_view word) {
  const std::string table = kind_of_table(address), wanted = plain_word(word);
  std::string hint =
      kind.empty() ? "" : found_in(key_words(), fmt::format("{}/{}", table, kind), wanted);
  if (!hint.empty()) {
    return hint;
  }
  hint = found_in(key_words(), table, wanted);
  const TableDescription* described = hint.empty() ? table_at(address) : nullptr;
  if (described == nullptr) {
    return hint;
  }
  for (const KeyDescription& key : described->keys) {
    if (key.goes_with(kind) && is_called(key, word)) {
      return key.type == ValueType::kTables
                 ? fmt::format(
                       "write [[{}{}]], a table for each",
                       described->address.empty() ? "" : std::string(described->address) + ".",
                       key.name)
                 : fmt::format("write {} = {}", key.name, key.form_or_example());
    }
  }
  return "";
}

std::string hint_for_value(std::string_view address, std::string_view word) {
  return found_in(value_words(), kind_of_table(address), plain_word(word));
}

}  // namespace jovilux
