#include "jovilux/judge/layer_scaling.h"

#include "jovilux/base/text.h"
#include "jovilux/color/spectra.h"
#include "jovilux/rig/schema.h"
#include "jovilux/scene/light_parts.h"

#include <algorithm>
#include <cmath>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kSameFactor = 1e-4;  // emitters hold floats

// What leaves an emitter, up to a factor that its form sets.
double level_of(const Emitter& e) { return e.luminance > 0 ? e.luminance : e.intensity; }

Rgb color_of(const Emitter& e) {
  return Rgb(rec709_from_xyz() *
             tristimulus(e.table, Spectrum::Ones(), 1.0f).matrix().cast<double>());
}

// The ratio of one node of the tables, where all nodes have it: the spectrum keeps its shape.
std::optional<double> common_ratio(const LightTable& from, const LightTable& to) {
  const double most = from.abs().maxCoeff();
  std::optional<double> ratio;
  for (Eigen::Index i = 0; i < from.size(); ++i) {
    const double a = from.data()[i], b = to.data()[i];
    if (std::abs(a) < 1e-6 * most && std::abs(b) < 1e-6 * most) {
      continue;
    }
    const double r = a != 0 ? b / a : HUGE_VAL;
    if (ratio && !(std::abs(r - *ratio) <= kSameFactor * std::abs(*ratio))) {
      return std::nullopt;
    }
    ratio = ratio.value_or(r);
  }
  return ratio && std::isfinite(*ratio) ? ratio : std::nullopt;
}

using PartFactors = std::array<double, kPartNames.size()>;

struct Change {
  Rgb factor = Rgb::Ones();
  bool exact = true;
  std::string obstacle;
  PartFactors parts{1, 1, 1, 1};
};

// The cheat that a part is in proportion to; null: none.
const float* cheat_on(const LightCheats& cheats, Part part) {
  return part == Part::kBounce    ? &cheats.bounce
         : part == Part::kCaustic ? &cheats.caustics
         : part == Part::kHaze    ? &cheats.haze
                                  : nullptr;
}

// What changed cheats make of a light's parts. Light that haze scatters falls under the cheats on
// bounces as well, so that these are in proportion to a part only without haze.
void change_parts(
    const Emitter& from, const Emitter& to, bool haze, const std::string& name, Change& out) {
  for (const Part part : {Part::kBounce, Part::kCaustic, Part::kHaze}) {
    const float a = *cheat_on(from.cheats, part), b = *cheat_on(to.cheats, part);
    if (a == b) {
      continue;
    }
    const char* part_name = kPartNames[static_cast<std::size_t>(part)];
    if (part != Part::kHaze && haze) {
      out.obstacle =
          fmt::format("\"{}.{}\" is not all of the light under that key: haze scatters some of it",
                      name,
                      part_name);
    } else if (from.cheats.bounce_limit > 0) {
      out.obstacle = fmt::format(
          "\"{}\" has a bounce_limit: what that takes is not in proportion to its level", name);
    } else if (!(a > 0)) {
      out.obstacle = fmt::format("\"{}.{}\" was off in the render", name, part_name);
    } else {
      out.parts[static_cast<std::size_t>(part)] = static_cast<double>(b) / a;
    }
  }
}

Change change_of(const Emitter& from, const Emitter& to, const std::string& name) {
  Change out;
  if (!from.shines() || (from.table == 0).all()) {
    if (to.shines() && (to.table != 0).any()) {
      out.obstacle = fmt::format("\"{}\" was off in the render: its layer holds nothing", name);
    }
    return out;
  }
  const double level = level_ratio(from, to);
  if (const auto ratio = common_ratio(from.table, to.table)) {
    out.factor = Rgb::Constant(level * *ratio);
  } else if (level > 0) {
    // A channel that the layer hardly has cannot be made more of.
    constexpr double kEnough = 0.02;
    const Rgb a = color_of(from), b = color_of(to).cwiseMax(0);
    if (a.minCoeff() < kEnough * a.maxCoeff()) {
      out.obstacle = fmt::format(
          "\"{}\" has a color that lacks a channel: the layer does not tell another", name);
      return out;
    }
    out.factor = level * b.cwiseQuotient(a);
    out.exact = false;
  } else {
    out.factor = Rgb::Zero();
  }
  const bool changed = (out.factor - Rgb::Ones()).cwiseAbs().maxCoeff() > kSameFactor;
  if (changed && out.factor.maxCoeff() > 0 && from.cheats.bounce_limit > 0) {
    out.obstacle = fmt::format(
        "\"{}\" has a bounce_limit: what that takes is not in proportion to its level", name);
  }
  return out;
}

// Of a haze that glows: its emission.
std::optional<double> emission_ratio(const Rig& from, const Rig& to, const std::string& layer) {
  for (std::size_t i = 0; i < from.hazes.size() && i < to.hazes.size(); ++i) {
    if (from.hazes[i].name == layer && from.hazes[i].emission > 0) {
      return to.hazes[i].emission / from.hazes[i].emission;
    }
  }
  return std::nullopt;
}

bool by_groups(const Rig& rig) { return rig.render.layers == RenderSpec::Layers::kGroups; }

// The array of that name in the rig's text; null where there is none.
const DocumentNode* array_named(const Rig& rig, const std::string& name) {
  const DocumentNode* arrays = rig.document.find("array");
  if (arrays == nullptr || !arrays->is_array()) {
    return nullptr;
  }
  for (const DocumentNode& array : arrays->array()) {
    const DocumentNode* its_name = array.find("name");
    if (its_name != nullptr && its_name->is_text() && its_name->text() == name) {
      return &array;
    }
  }
  return nullptr;
}

// How many arrays copy a light: where there are several, its keys are not one array's alone.
int arrays_of(const Rig& rig, const std::string& pattern) {
  const DocumentNode* arrays = rig.document.find("array");
  int count = 0;
  if (arrays != nullptr && arrays->is_array()) {
    for (const DocumentNode& array : arrays->array()) {
      const DocumentNode* of = array.find("of");
      count += of != nullptr && of->is_text() && of->text() == pattern ? 1 : 0;
    }
  }
  return count;
}

// "1350 lm" as 1350 and "lm"; nothing where it does not begin with a number.
std::optional<std::pair<double, std::string>> number_and_unit(const std::string& text) {
  constexpr std::size_t kLongest = 40;
  std::size_t end = 0;
  for (std::size_t n = 1; n <= text.size() && n <= kLongest; ++n) {
    end = parse_number(trimmed(std::string_view(text).substr(0, n))) ? n : end;
  }
  const auto value = parse_number(trimmed(std::string_view(text).substr(0, end)));
  return value ? std::optional(
                     std::pair(*value, std::string(trimmed(std::string_view(text).substr(end)))))
               : std::nullopt;
}

// "1350 lm" times 2 as "2700 lm"; empty where it has no number to multiply.
std::string scaled_output(const std::string& text, double times) {
  const auto parts = number_and_unit(text);
  return parts ? fmt::format("{:.6g} {}", parts->first * times, parts->second) : "";
}

// A key of the table at an address such as "light.pendant" or "light.row[3]".
const DocumentNode* key_in(const Rig& rig, const std::string& address, const std::string& key) {
  const std::string name = address.substr(address.find('.') + 1);
  const std::size_t bracket = name.find('[');
  if (bracket != std::string::npos) {
    const DocumentNode* array = array_named(rig, name.substr(0, bracket));
    const DocumentNode* copies = array != nullptr ? array->find("copy") : nullptr;
    const DocumentNode* copy =
        copies != nullptr ? copies->find(name.substr(bracket + 1, name.size() - bracket - 2))
                          : nullptr;
    return copy != nullptr ? copy->find(key) : nullptr;
  }
  const DocumentNode* lights = rig.document.find("light");
  if (lights != nullptr && lights->is_array()) {
    for (const DocumentNode& light : lights->array()) {
      const DocumentNode* its_name = light.find("name");
      if (its_name != nullptr && its_name->is_text() && its_name->text() == name) {
        return light.find(key);
      }
    }
  }
  return nullptr;
}

// The light that a layer's address stands for, as it is at the rig's moment.
const LightSpec* light_at(const Rig& rig, const std::string& address) {
  const std::string name = address.substr(address.find('.') + 1);
  for (const LightSpec& l : rig.lights) {
    if (l.name == name) {
      return &l;
    }
  }
  for (const LightSpec& l : rig.lights) {  // a pattern: a copy that has no dimmer of its own
    const DocumentNode* array =
        l.copies > 0 && l.name != l.layer ? array_named(rig, l.layer) : nullptr;
    const DocumentNode* of = array != nullptr ? array->find("of") : nullptr;
    if (of != nullptr && of->is_text() && of->text() == name &&
        key_in(rig, "light." + l.name, "dimmer") == nullptr &&
        key_in(rig, "light." + l.name, "output") == nullptr) {
      return &l;
    }
  }
  return nullptr;
}

bool alike(const Change& change, const LayerScaling::Layer& layer) {
  for (std::size_t p = 0; p < layer.part_factors.size(); ++p) {
    if (std::abs(change.parts[p] - layer.part_factors[p]) >
        kSameFactor * (1 + layer.part_factors[p])) {
      return false;
    }
  }
  return (change.factor - layer.factor).cwiseAbs().maxCoeff() <=
         kSameFactor * (1 + layer.factor.maxCoeff());
}

}  // namespace

bool LayerScaling::exact() const {
  return std::all_of(layers.begin(), layers.end(), [](const Layer& l) { return l.exact; });
}

const LayerScaling::Layer* LayerScaling::find(const std::string& layer) const {
  const auto found =
      std::find_if(layers.begin(), layers.end(), [&](const Layer& l) { return l.name == layer; });
  return found != layers.end() ? &*found : nullptr;
}

Rgb LayerScaling::factor_of(const std::string& layer) const {
  const Layer* found = find(layer);
  return found != nullptr ? found->factor : Rgb(Rgb::Ones());
}

LayerScaling layer_scaling(const Rig& rendered,
                           const std::vector<Emitter>& from,
                           const Rig& wanted,
                           const std::vector<Emitter>& to,
                           const std::vector<std::string>& names) {
  LayerScaling out;
  if (from.size() != to.size()) {
    out.obstacle = "the rigs have different lights";
    return out;
  }
  for (const std::string& name : names) {
    LayerScaling::Layer layer{name, Rgb::Ones(), true};
    bool known = false;
    const auto take = [&](const Change& change) {
      if (!change.obstacle.empty()) {
        out.obstacle = change.obstacle;
      } else if (known && !alike(change, layer)) {
        out.obstacle =
            fmt::format("the lights of \"{}\" share a layer and change by different factors", name);
      } else {
        layer.factor = change.factor;
        layer.part_factors = change.parts;
        layer.exact = layer.exact && change.exact;
        known = true;
      }
    };
    for (std::size_t i = 0; i < from.size(); ++i) {
      if (rendered.lights[i].layer_in(by_groups(rendered)) == name) {
        const bool dark = !from[i].shines() || (from[i].table == 0).all();
        Change change = change_of(from[i], to[i], rendered.lights[i].name);
        change_parts(from[i], to[i], !rendered.hazes.empty(), rendered.lights[i].name, change);
        if (!dark || !change.obstacle.empty()) {  // what is dark in both has no factor
          take(change);
        }
      }
    }
    if (const auto ratio = emission_ratio(rendered, wanted, name)) {
      take({Rgb::Constant(*ratio), true, "", {1, 1, 1, 1}});
    }
    if (!out.obstacle.empty()) {
      return out;
    }
    out.layers.push_back(std::move(layer));
  }
  // A light that had no layer and shines now.
  for (std::size_t i = 0; i < from.size(); ++i) {
    const std::string& layer = rendered.lights[i].layer_in(by_groups(rendered));
    if (std::find(names.begin(), names.end(), layer) == names.end() && to[i].shines() &&
        !from[i].shines()) {
      out.obstacle =
          fmt::format("\"{}\" was off in the render: it has no layer", rendered.lights[i].name);
    }
  }
  return out;
}

double level_ratio(const Emitter& from, const Emitter& to) {
  return from.shines() && to.shines() ? level_of(to) / level_of(from) : 0;
}

namespace {

// The gels of a light's table that spread its beam, by their text.
std::vector<std::string> diffusion_sheets(const DocumentNode& light) {
  std::vector<std::string> out;
  const auto one = [&](const DocumentNode& gel) {
    if (gel.is_text() && diffusion_gel(gel.text())) {
      out.push_back(gel.text());
    }
  };
  if (const DocumentNode* gel = light.find("gel"); gel != nullptr && gel->is_array()) {
    std::for_each(gel->array().begin(), gel->array().end(), one);
  } else if (gel != nullptr) {
    one(*gel);
  }
  return out;
}

}  // namespace

std::string levels_aside(const Rig& rig, const std::vector<std::string>& also) {
  Problems ignored;
  DocumentNode now = at_time(rig.document, rig.render.time, ignored);
  const TableDescription* light_keys = table_at("light.any");
  const auto drop_levels = [&](DocumentNode& light) {
    if (light.is_table()) {
      const std::vector<std::string> sheets = diffusion_sheets(light);
      std::erase_if(light.table(), [&](const DocumentEntry& e) {
        const KeyDescription* key = light_keys->find(e.key);
        return key != nullptr && key->effect != LayerEffect::kOther;
      });
      if (!sheets.empty()) {  // sheets shape the beam, which no factor of a layer tells
        DocumentNode left;
        left.value = join_and(sheets);
        light.set("gel", light.place, std::move(left));
      }
    }
  };
  const auto each = [&](const char* list_name, const auto& fn) {
    if (DocumentNode* list = now.find(list_name); list != nullptr && list->is_array()) {
      for (DocumentNode& item : list->array()) {
        fn(item);
      }
    }
  };
  each("light", drop_levels);
  each("array", [&](DocumentNode& array) {
    if (DocumentNode* copies = array.find("copy"); copies != nullptr && copies->is_table()) {
      for (DocumentEntry& copy : copies->table()) {
        drop_levels(copy.value);
      }
    }
  });
  each("haze", [](DocumentNode& haze) {
    std::erase_if(haze.table(), [](const DocumentEntry& e) { return e.key == "emission"; });
  });
  std::erase_if(now.table(), [](const DocumentEntry& e) {
    return e.key == "look" || e.key == "meter" || e.key == "variant";
  });
  for (const std::string& address : also) {
    const std::size_t dot = address.find('.');
    DocumentNode* table = dot == std::string::npos ? &now : now.find(address.substr(0, dot));
    if (table != nullptr && table->is_table()) {
      const std::string key = dot == std::string::npos ? address : address.substr(dot + 1);
      std::erase_if(table->table(), [&](const DocumentEntry& e) { return e.key == key; });
    }
  }
  return to_toml(now);
}

std::vector<std::string> addresses_of_layer(const Rig& rig,
                                            const std::string& layer,
                                            const std::string& key) {
  std::vector<std::string> out;
  const auto add = [&](const std::string& address) {
    if (std::find(out.begin(), out.end(), address) == out.end()) {
      out.push_back(address);
    }
  };
  for (const LightSpec& l : rig.lights) {
    if (l.layer_in(by_groups(rig)) != layer) {
      continue;
    }
    const DocumentNode* array = l.name != l.layer ? array_named(rig, l.layer) : nullptr;
    const DocumentNode* of = array != nullptr ? array->find("of") : nullptr;
    const bool own = of == nullptr || !of->is_text() || arrays_of(rig, of->text()) > 1 ||
                     key_in(rig, "light." + l.name, key) != nullptr;
    add("light." + (own ? l.name : of->text()));
  }
  return out;
}

std::vector<LayerAddress> layer_addresses(const Rig& rig, const std::string& layer) {
  std::vector<LayerAddress> out;
  for (const std::string& address : addresses_of_layer(rig, layer, "dimmer")) {
    const LightSpec* light = light_at(rig, address);
    if (light == nullptr) {
      continue;
    }
    LayerAddress a{address, false, light->dimmer, 0, ""};
    const DocumentNode* output = key_in(rig, address, "output");
    if (output != nullptr && output->is_text()) {
      if (const auto parts = number_and_unit(output->text())) {
        a.value = parts->first;
        a.unit = parts->second;
      }
    } else if (light->levels.flux) {
      a.value = light->levels.flux->value;
      a.unit = "lm";
    }
    out.push_back(std::move(a));
  }
  for (const HazeSpec& h : rig.hazes) {
    if (h.name == layer && h.emission > 0) {
      out.push_back({"haze." + h.name, true, 1, h.emission, "cd/m2"});
    }
  }
  return out;
}

namespace {

Rgb of_luminance_one(const Rgb& color) {
  const Rgb positive = color.cwiseMax(1e-6);
  return positive / luminance_of(positive);
}

// Without its tint, as its dimmer makes its white.
std::optional<Rgb> bare_color(LightSpec light, double dimmer) {
  light.dimmer = std::min(1.0, dimmer);
  const auto color = source_color(light);
  return color ? std::optional(of_luminance_one(rec709_from_xyz() * tristimulus(*color->spectrum)))
               : std::nullopt;
}

std::vector<std::pair<double, Rgb>> slide_of(const LightSpec& light) {
  constexpr double kLeast = -12, kMost = 4, kStep = 0.25;  // stops
  std::vector<std::pair<double, Rgb>> out;
  const auto now = bare_color(light, light.dimmer);
  for (double stops = kLeast; now && light.dimmer > 0 && stops <= kMost; stops += kStep) {
    if (const auto then = bare_color(light, light.dimmer * std::exp2(stops))) {
      out.emplace_back(stops, then->cwiseQuotient(*now));
    }
  }
  return out;
}

}  // namespace

LayerControls layer_controls(const Rig& rig,
                             const std::vector<Emitter>& emitters,
                             const std::string& layer) {
  LayerControls out;
  const LightSpec* first = nullptr;
  const Emitter* first_emitter = nullptr;
  bool alike = true, slides_alike = true, limited = false;
  for (std::size_t i = 0; i < rig.lights.size() && i < emitters.size(); ++i) {
    const LightSpec& light = rig.lights[i];
    if (light.layer_in(by_groups(rig)) != layer || !emitters[i].shines()) {
      continue;
    }
    limited = limited || light.cheat.bounce_limit.has_value();
    if (first == nullptr) {
      first = &light;
      first_emitter = &emitters[i];
      continue;
    }
    const auto ratio = common_ratio(first_emitter->table, emitters[i].table);
    alike = alike && ratio && std::abs(*ratio - 1) <= kSameFactor;
    slides_alike = slides_alike && light.dim_to_warm == first->dim_to_warm &&
                   (!light.dim_to_warm || std::abs(light.dimmer - first->dimmer) <= kSameFactor);
  }
  if (first == nullptr) {
    return out;  // a haze that glows
  }
  out.source = of_luminance_one(color_of(*first_emitter));
  out.bare = bare_color(*first, first->dimmer).value_or(out.source);
  out.tint = first->tint.value_or(Rgb::Ones());
  if (const auto color = source_color(*first)) {
    const LightTable table = light_table(*color->spectrum);
    for (std::size_t c = 0; c < out.tinted.size(); ++c) {
      out.tinted[c] = rec709_from_xyz() *
                      tristimulus(tint_channel(table, static_cast<int>(c)), Spectrum::Ones(), 1.0f)
                          .matrix()
                          .cast<double>();
    }
  }
  // A channel that the layer hardly has cannot be made more of.
  constexpr double kEnough = 0.02;
  out.tint_is_free =
      alike && !first->dim_to_warm && out.source.minCoeff() >= kEnough * out.source.maxCoeff();
  out.white_is_free =
      out.tint_is_free && first->gels.empty() && !first->spectrum && first->spectrum_file.empty();
  out.level_lock = limited        ? "its bounce_limit takes what is not in proportion to its level"
                   : slides_alike ? ""
                                  : "the whites of its lamps slide apart";
  if (first->dim_to_warm && out.level_lock.empty()) {
    out.slide = slide_of(*first);
  }
  return out;
}

double dimmer_of_layer(const Rig& rig, const std::string& layer) {
  for (const std::string& address : addresses_of_layer(rig, layer, "dimmer")) {
    if (const LightSpec* light = light_at(rig, address)) {
      return light->dimmer;
    }
  }
  return 1;
}

std::vector<std::string> assignments_of_level(const Rig& rig,
                                              const std::string& layer,
                                              double times) {
  std::vector<std::string> out;
  const std::vector<std::string> addresses = addresses_of_layer(rig, layer, "dimmer");
  // Beyond full the lamps themselves give more, all of the layer by one factor: copies share the
  // output of their pattern.
  double beyond = 1;
  for (const std::string& address : addresses) {
    if (const LightSpec* light = light_at(rig, address)) {
      beyond = std::max(beyond, light->dimmer * times);
    }
  }
  for (const std::string& address : addresses) {
    if (const LightSpec* light = light_at(rig, address)) {
      out.push_back(fmt::format("{}.dimmer={:.6g}", address, light->dimmer * times / beyond));
    }
  }
  for (const std::string& address :
       beyond > 1 ? addresses_of_layer(rig, layer, "output") : std::vector<std::string>{}) {
    const DocumentNode* output = key_in(rig, address, "output");
    const LightSpec* light = light_at(rig, address);
    // Without an output, the lumens of its file.
    const std::string text = output != nullptr && output->is_text()
                                 ? scaled_output(output->text(), beyond)
                             : light != nullptr && light->levels.flux
                                 ? fmt::format("{:.6g} lm", light->levels.flux->value * beyond)
                                 : "";
    if (!text.empty()) {
      out.push_back(fmt::format("{}.output=\"{}\"", address, text));
    }
  }
  for (const HazeSpec& h : rig.hazes) {
    if (h.name == layer && h.emission > 0) {
      out.push_back(fmt::format("haze.{}.emission=\"{:.6g} cd/m2\"", h.name, h.emission * times));
    }
  }
  return out;
}

std::vector<std::string> assignments_of_part(const Rig& rig,
                                             const std::string& layer,
                                             Part part,
                                             double times) {
  std::vector<std::string> out;
  for (const std::string& address : addresses_of_layer(rig, layer, "cheat")) {
    const LightSpec* light = light_at(rig, address);
    if (light == nullptr || part == Part::kDirect) {
      continue;
    }
    const auto [key, value] = part == Part::kBounce ? std::pair("bounce", light->cheat.bounce)
                              : part == Part::kCaustic
                                  ? std::pair("caustics", light->cheat.caustics)
                                  : std::pair("haze", light->cheat.haze);
    out.push_back(fmt::format("{}.cheat.{}={:.6g}", address, key, value * times));
  }
  return out;
}

}  // namespace jovilux
