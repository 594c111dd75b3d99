#include "jovilux/judge/animation.h"

#include "jovilux/color/nodes.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/rig/schema.h"
#include "jovilux/scene/light_parts.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr const char* kMoreThanLevels = "keys move more than levels and tints";

// Whether a formula's text uses a variable of one letter.
bool uses(const std::string& formula, char variable) {
  for (std::size_t i = 0; i < formula.size(); ++i) {
    const auto part_of_word = [&](std::size_t k) {
      return k < formula.size() &&
             (std::isalnum(static_cast<unsigned char>(formula[k])) != 0 || formula[k] == '_');
    };
    if (formula[i] == variable && !part_of_word(i + 1) && (i == 0 || !part_of_word(i - 1))) {
      return true;
    }
  }
  return false;
}

void drop(DocumentNode& table, const std::string& key) {
  if (table.is_table()) {
    std::erase_if(table.table(), [&](const DocumentEntry& e) { return e.key == key; });
  }
}

template <class Fn>
void each_table(DocumentNode& root, const char* kind, const Fn& fn) {
  if (DocumentNode* list = root.find(kind); list != nullptr && list->is_array()) {
    for (DocumentNode& item : list->array()) {
      fn(item);
    }
  }
}

// What changes with the moment though no key says so; empty: nothing.
std::string moves_by_itself(const Rig& rig, const std::vector<Rig>& frames) {
  for (const HazeSpec& h : rig.hazes) {
    if (h.clumps && h.clumps->drift.norm() > 0 && h.extinction > 0) {
      return fmt::format("the clumps of \"{}\" drift", h.name);
    }
  }
  for (const LightSpec& l : rig.lights) {
    if (l.tint_by && uses(l.tint_by->formula.text(), 't')) {
      return fmt::format("the color of \"{}\" changes with time", l.name);
    }
  }
  if (const DocumentNode* solids = rig.document.find("solid");
      solids != nullptr && solids->is_array()) {
    for (const DocumentNode& solid : solids->array()) {
      if (const DocumentNode* formula = solid.find("formula");
          formula != nullptr && formula->is_text() && uses(formula->text(), 't')) {
        return "a solid's formula changes with time";
      }
    }
  }
  for (const Rig& f : frames) {
    for (std::size_t i = 0; i < f.lights.size() && i < rig.lights.size(); ++i) {
      if ((f.lights[i].axis - frames[0].lights[i].axis).norm() > 1e-12) {
        return fmt::format("\"{}\" moves by the clock", f.lights[i].name);
      }
    }
  }
  return "";
}

constexpr double kSame = 1e-9;

// Luminance of a tint's channels alone under the light's white, which a tint's level is measured
// by.
std::optional<std::array<double, 3>> tint_factors(const Rgb& tint,
                                                  const std::array<double, 3>& luminances) {
  double y = 0;
  for (std::size_t c = 0; c < 3; ++c) {
    y += tint[static_cast<int>(c)] * luminances[c];
  }
  if (!(y > 0)) {
    return std::nullopt;
  }
  return std::array<double, 3>{tint[0] / y, tint[1] / y, tint[2] / y};
}

// The rig's text at its moment without what the layers of one render can give, and without what
// says which moment it is.
std::string without_levels(const Rig& rig) {
  return levels_aside(rig, {"time", "render.time", "render.seed"});
}

// The rig's text at its moment without the lights' keys that are integrated over the shutter, and
// without tints.
std::string without_integrated(const Rig& rig) {
  Problems ignored;
  DocumentNode now = at_time(rig.document, rig.render.time, ignored);
  const TableDescription* described = table_at("light.any");
  each_table(now, "light", [&](DocumentNode& light) {
    std::erase_if(light.table(), [&](const DocumentEntry& e) {
      const KeyDescription* key = described->find(e.key);
      return key != nullptr && (key->over_time == OverTime::kIntegrated || e.key == "tint");
    });
  });
  for (const char* key : {"look", "meter", "variant", "time", "render"}) {
    drop(now, key);
  }
  return to_toml(now);
}

// The emitters of frames in turn: a scene is prepared anew only where the text changed, for a
// flicker alone changes the level of parts that are known.
class FrameEmitters {
 public:
  explicit FrameEmitters(const Scene& base) : base_(base) {}

  // Null where the frame's files cannot be read.
  std::optional<std::vector<Emitter>> of(const Rig& frame) {
    Problems ignored;
    DocumentNode now = at_time(frame.document, frame.render.time, ignored);
    drop(now, "time");
    drop(now, "render");
    std::string text = to_toml(now);
    if (!scene_ || text != text_) {
      auto scene = prepare_moment(frame, 0, base_, base_.layers);
      if (!scene) {
        return std::nullopt;
      }
      scene_ = std::move(*scene);
      text_ = std::move(text);
    }
    std::vector<Emitter> out;
    for (std::size_t i = 0; i < frame.lights.size(); ++i) {
      out.push_back(make_emitter(frame.lights[i], scene_->lights[i], frame.up));
    }
    return out;
  }

 private:
  const Scene& base_;
  std::optional<Scene> scene_;
  std::string text_;
};

// Fills in the factors of each layer for each frame, as the layer algebra tells them; those of
// lights in plan.split_tints are of their levels alone. Returns why layers do not give the frames
// exactly; empty: they do.
std::string factors_of_frames(const Rig& base,
                              const Scene& scene,
                              const std::vector<Rig>& frames,
                              FramesFromLayers& plan) {
  std::vector<std::string> names;
  for (const std::string& layer : scene.layers) {
    if (layer.find('~') == std::string::npos) {
      names.push_back(layer);
    }
  }
  FrameEmitters emitters(scene);
  for (const Rig& frame : frames) {
    const auto there = emitters.of(frame);
    if (!there) {
      return "the lights' files cannot be read";
    }
    const LayerScaling scaling = layer_scaling(base, scene.emitters, frame, *there, names);
    if (!scaling.possible()) {
      return scaling.obstacle;
    }
    for (const LayerScaling::Layer& layer : scaling.layers) {
      if (!layer.exact) {
        return fmt::format("the color of \"{}\" changes, which its layer gives only nearly",
                           layer.name);
      }
      plan.factors[layer.name].push_back(layer.factor[0]);
    }
    for (std::size_t i = 0; i < base.lights.size(); ++i) {
      if (base.lights[i].split_tint) {
        plan.factors[base.lights[i].name].push_back(level_ratio(scene.emitters[i], (*there)[i]));
      }
    }
  }
  return "";
}

// Why the frames differ by more than levels and tints; empty: they do not.
std::string differ_by_more_than_levels(const Rig& rig, const std::vector<Rig>& frames) {
  if (frames.empty()) {
    return "there are no frames";
  }
  if (std::string why = moves_by_itself(rig, frames); !why.empty()) {
    return why;
  }
  const std::string fixed = without_levels(frames[0]);
  for (const Rig& f : frames) {
    if (without_levels(f) != fixed || f.lights.size() != frames[0].lights.size()) {
      return kMoreThanLevels;
    }
  }
  // An exposure is the mean over the shutter, which a level at one moment is not.
  if (rig.time.open() > 0) {
    const std::string first = without_integrated(frames[0]);
    for (const Rig& f : frames) {
      if (without_integrated(f) != first) {
        return "levels other than dimmers and switches change while the shutter is open";
      }
    }
  }
  return "";
}

// What changes from frame to frame.
struct ChangedLights {
  std::map<std::string, double> brightest;  // highest level, by the light's table
  std::vector<std::string> tinted;          // names of lights
  std::string impossible;                   // why layers cannot give a tint; empty: they can
};

// The pattern of each array of a rig's document.
std::map<std::string, std::string> patterns_of_arrays(DocumentNode& document) {
  std::map<std::string, std::string> out;
  each_table(document, "array", [&](DocumentNode& array) {
    const DocumentNode *name = array.find("name"), *of = array.find("of");
    if (name != nullptr && of != nullptr && name->is_text() && of->is_text()) {
      out[name->text()] = of->text();
    }
  });
  return out;
}

// An array's lights count for its pattern's table.
ChangedLights changed_lights(DocumentNode& document, const std::vector<Rig>& frames) {
  ChangedLights out;
  const std::map<std::string, std::string> pattern_of = patterns_of_arrays(document);
  for (std::size_t i = 0; i < frames[0].lights.size(); ++i) {
    const LightSpec& first = frames[0].lights[i];
    const auto pattern = pattern_of.find(first.layer);
    const std::string table = pattern != pattern_of.end() ? pattern->second : first.name;
    double most = 0, least = 1e300;
    bool tints = false;
    for (const Rig& f : frames) {
      most = std::max(most, f.lights[i].dimmed());
      least = std::min(least, f.lights[i].dimmed());
      tints = tints || f.lights[i].tint != first.tint;
    }
    if (most > least) {
      out.brightest[table] = std::max(out.brightest[table], most);
    }
    if (tints) {
      if (first.cheat.bounce_chroma != 1 || first.layer != first.name ||
          first.shape.kind == LightKind::kDome) {
        out.impossible =
            fmt::format("the tint of \"{}\" changes, which its layers cannot give", first.name);
      } else if (std::any_of(frames.begin(), frames.end(), [&](const Rig& f) {
                   return !f.lights[i].tint;
                 })) {
        out.impossible = fmt::format("the tint of \"{}\" comes and goes", first.name);
      }
      out.tinted.push_back(first.name);
    }
    if (!out.impossible.empty()) {
      break;
    }
  }
  return out;
}

// Sets the lights whose level changes to the highest level that they reach.
void set_to_brightest(DocumentNode& document, const std::map<std::string, double>& brightest) {
  each_table(document, "light", [&](DocumentNode& light) {
    const DocumentNode* name = light.find("name");
    const auto it =
        name != nullptr && name->is_text() ? brightest.find(name->text()) : brightest.end();
    if (it != brightest.end()) {
      drop(light, "flicker");
      DocumentNode on, dimmer;
      on.value = true;
      dimmer.value = std::min(1.0, it->second);
      light.set("on", light.place, on);
      light.set("dimmer", light.place, dimmer);
    }
  });
}

// Divides the factors of a light whose tint changes among its three layers; why not, or empty.
std::string split_factors_of_tint(const Rig& base,
                                  const std::vector<Rig>& frames,
                                  const std::string& name,
                                  FramesFromLayers& plan) {
  const auto at = std::find_if(
      base.lights.begin(), base.lights.end(), [&](const LightSpec& l) { return l.name == name; });
  const auto color = source_color(*at);
  if (!color) {
    return fmt::format("the files of \"{}\" cannot be read", name);
  }
  const LightTable table = light_table(*color->spectrum);
  std::array<double, 3> luminances{};
  for (int c = 0; c < 3; ++c) {
    luminances[static_cast<std::size_t>(c)] =
        static_cast<double>(tint_channel(table, c).row(1).sum());
  }
  const std::vector<double> levels = plan.factors.at(name);
  plan.factors.erase(name);
  for (std::size_t f = 0; f < frames.size(); ++f) {
    const auto parts = tint_factors(
        *frames[f].lights[static_cast<std::size_t>(at - base.lights.begin())].tint, luminances);
    for (std::size_t c = 0; c < 3; ++c) {
      plan.factors[fmt::format("{}~{}", name, c + 1)].push_back(parts ? levels[f] * (*parts)[c]
                                                                      : 0);
    }
  }
  return "";
}

}  // namespace

std::vector<LevelCurve> level_curves(const Rig& rig, const std::vector<double>& moments) {
  constexpr int kPoints = 4000, kInCycle = 4096;
  std::vector<LevelCurve> out;
  if (moments.empty()) {
    return out;
  }
  const double half = rig.time.open() / 2, from = moments.front() - half,
               to = moments.back() + half;
  for (const LightSpec& light : rig.lights) {
    const bool steady_copy = light.copies > 1 && !out.empty() && out.back().name == light.layer &&
                             (!light.flicker || light.flicker->period());
    if (steady_copy) {
      continue;  // as the first copy
    }
    LevelCurve c;
    c.name =
        light.copies > 1 && (!light.flicker || light.flicker->period()) ? light.layer : light.name;
    const auto level = [&](double a, double b) {
      return light.on || !light.on_keys.times.empty() ? light.level_between(a, b) : 0.0;
    };
    const bool constant =
        light.dimmer_keys.times.empty() && light.on_keys.times.empty() && !light.flicker;
    const int points = constant || !(to > from) ? 1 : kPoints;
    for (int i = 0; i <= points; ++i) {
      const double t = from + (to - from) * i / points;
      c.times.push_back(t);
      c.levels.push_back(level(t, t));
    }
    for (const double t : moments) {
      c.in_frames.push_back(level(t - half, t + half));
    }
    c.own = flicker_figures(c.levels);
    if (light.dimmer_keys.times.empty() && light.on_keys.times.empty() && light.flicker &&
        light.flicker->period()) {
      c.cycle_s = *light.flicker->period();
      std::vector<double> cycle = light.flicker->cycle(kInCycle);
      for (double& v : cycle) {
        v *= light.on ? light.dimmer : 0;
      }
      c.own = flicker_figures(cycle);
    }
    c.framed = flicker_figures(c.in_frames);
    c.changes = c.own.most - c.own.least > kSame * c.own.most;
    if (c.own.most > 0) {
      out.push_back(std::move(c));
    }
  }
  return out;
}

std::variant<FramesFromLayers, std::string> frames_from_layers(const Rig& rig,
                                                               const std::vector<Rig>& frames) {
  if (std::string why = differ_by_more_than_levels(rig, frames); !why.empty()) {
    return why;
  }
  FramesFromLayers plan;
  Problems ignored;
  plan.document = at_time(frames[0].document, frames[0].render.time, ignored);
  ChangedLights changed = changed_lights(plan.document, frames);
  if (!changed.impossible.empty()) {
    return changed.impossible;
  }
  set_to_brightest(plan.document, changed.brightest);
  plan.split_tints = std::move(changed.tinted);
  DocumentNode by_lights;
  by_lights.value = std::string("lights");
  if (has_errors(set_at_address(plan.document, "render.layers", by_lights))) {
    return "the rig's layers cannot be set";
  }
  auto base = read_rig(plan.document, rig.file);
  if (!base || base->lights.size() != frames[0].lights.size()) {
    return kMoreThanLevels;
  }
  for (LightSpec& light : base->lights) {
    light.split_tint = std::find(plan.split_tints.begin(), plan.split_tints.end(), light.name) !=
                       plan.split_tints.end();
  }
  const auto scene = prepare_scene(*base);
  if (!scene) {
    return "the lights' files cannot be read";
  }
  if (std::string why = factors_of_frames(*base, *scene, frames, plan); !why.empty()) {
    return why;
  }
  for (const std::string& name : plan.split_tints) {
    if (std::string why = split_factors_of_tint(*base, frames, name, plan); !why.empty()) {
      return why;
    }
  }
  return plan;
}

std::vector<float> frame_of_layers(const RenderedImage& base,
                                   const FramesFromLayers& plan,
                                   std::size_t frame) {
  std::vector<float> out(base.pixels() * 3);
  for (const RenderedImage::Layer& layer : base.layers) {
    const auto known = plan.factors.find(layer.name);
    const float factor =
        known == plan.factors.end() ? 1.0f : static_cast<float>(known->second[frame]);
    if (factor == 0) {
      continue;
    }
    for (std::size_t i = 0; i < out.size(); ++i) {
      out[i] += factor * layer.rgb[i];
    }
  }
  return out;
}

}  // namespace jovilux
