#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/balance.h"
#include "jovilux/judge/comparison.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/picture_match.h"
#include "jovilux/judge/target_levels.h"
#include "jovilux/render/bloom.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/layered_render.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// "NAME=VALUE".
std::pair<std::string, std::string> assignment(const std::string& option, const std::string& text) {
  const auto equals = text.find('=');
  if (equals == std::string::npos || equals == 0) {
    throw UsageError(fmt::format("{}: found \"{}\"; expected NAME=VALUE", option, printable(text)));
  }
  std::string value(trimmed(std::string_view(text).substr(equals + 1)));
  if (value.size() >= 2 && value.front() == '"' && value.back() == '"') {
    value = value.substr(1, value.size() - 2);
  }
  return {std::string(trimmed(std::string_view(text).substr(0, equals))), value};
}

// Throws a usage error that tells why the name has no layer: a group, a light that was off, a slip.
BalancedLight& light_named(std::vector<BalancedLight>& lights,
                           const Rig& rig,
                           const std::string& option,
                           const std::string& name) {
  std::vector<std::string> names;
  for (BalancedLight& l : lights) {
    names.push_back(l.layer);
    if (l.layer == name) {
      return l;
    }
  }
  for (const LightSpec& light : rig.lights) {
    if (light.name == name || light.layer == name) {
      throw UsageError(fmt::format(
          "{}: {}",
          option,
          light.on && light.dimmer > 0
              ? fmt::format("\"{}\" is in the layer \"{}\", together with other lights",
                            printable(name),
                            light.layer_in(rig.render.layers == RenderSpec::Layers::kGroups))
              : fmt::format("\"{}\" was off in the render and has no layer; render it with --set "
                            "light.{}.on=true",
                            printable(name),
                            printable(name))));
    }
  }
  const std::string hint = did_you_mean(name, names);
  throw UsageError(fmt::format("{}: the picture has no layer \"{}\"; {}",
                               option,
                               printable(name),
                               hint.empty() ? "it has " + join_or(names) : hint));
}

// "pendant.haze": the layer's part; nothing where the name is no layer with a part.
std::optional<Part> part_named(const RenderedImage& image,
                               const std::vector<BalancedLight>& lights,
                               const std::string& name) {
  const std::size_t dot = name.rfind('.');
  const auto is_name = [&](const BalancedLight& l) { return l.layer == name.substr(0, dot); };
  if (dot == std::string::npos || std::none_of(lights.begin(), lights.end(), is_name)) {
    return std::nullopt;
  }
  for (std::size_t p = 0; p < kPartNames.size(); ++p) {
    if (name.substr(dot + 1) != kPartNames[p]) {
      continue;
    }
    if (static_cast<Part>(p) == Part::kDirect) {
      throw UsageError(fmt::format(
          "--dim {}: the part also holds the lamp as it is seen, which no key dims alone; dim the "
          "light, or its parts bounce, caustic and haze",
          printable(name)));
    }
    if (std::none_of(image.parts.begin(), image.parts.end(), [&](const auto& part) {
          return part.name == name;
        })) {
      throw UsageError(fmt::format(
          "--dim {}: the picture does not keep that part; render with layers = \"lights+parts\"",
          printable(name)));
    }
    return static_cast<Part>(p);
  }
  return std::nullopt;
}

struct TargetOutcome {
  std::string meter, unit;
  double wanted, got, most;
};

// Dimmers that bring meters to their targets, beside the levels that are given.
std::vector<TargetOutcome> solve_targets(const std::vector<std::string>& targets,
                                         const Rig& whole,
                                         const Scene& scene,
                                         int threads,
                                         std::vector<BalancedLight>& lights) {
  Rig rig = whole;
  rig.meters.clear();
  std::vector<TargetOutcome> out;
  for (const std::string& t : targets) {
    const auto [name, value] = assignment("--target", t);
    const MeterSpec& meter = meter_named(whole, "--target", name);
    rig.meters.push_back(meter);
    out.push_back({name,
                   meter.luminance ? "cd/m2" : "lx",
                   amount_option("--target",
                                 value,
                                 meter.luminance ? Dimension::kLuminance : Dimension::kIlluminance,
                                 0),
                   0,
                   0});
  }
  MeteringOptions options;
  options.error = 0.003;
  options.threads = threads;
  const std::vector<MeterResult> measured = read_meters(rig, scene, options);
  std::vector<double> wanted;
  for (const TargetOutcome& o : out) {
    wanted.push_back(o.wanted);
  }
  const TargetLevels levels = solve_target_levels(measured, wanted, lights);
  for (std::size_t r = 0; r < out.size(); ++r) {
    out[r].got = levels.got[r];
    out[r].most = levels.most[r];
  }
  return out;
}

// "0.5", "1.8", "-1 stops": a factor; a bare number is divided by `level`.
double wanted_factor(const std::string& name, const std::string& value, double level = 1) {
  const auto amount = parse_amount(value);
  if (const auto* stops = std::get_if<Amount>(&amount);
      stops != nullptr && stops->dimension == Dimension::kExposure) {
    constexpr double kMostStops = 20;
    return std::exp2(std::clamp(stops->value, -kMostStops, kMostStops));
  }
  const auto v = parse_number(value);
  constexpr double kMost = 1e6;
  if (!v || *v < 0 || *v > kMost) {
    throw UsageError(fmt::format(
        "--dim {}: found \"{}\"; expected a dimmer from 0 on, such as 0.5, or stops such "
        "as \"-1 stops\"",
        printable(name),
        printable(value)));
  }
  return level > 0 ? *v / level : 0;
}

// What a layer's level becomes, over what it is. A group's and a haze's number is a factor, a
// light's its dimmer.
double wanted_times(const BalancedLight& light, const Rig& rig, const std::string& value) {
  const bool of_light = std::any_of(rig.lights.begin(), rig.lights.end(), [&](const LightSpec& l) {
    return l.layer == light.layer;
  });
  return wanted_factor(light.layer, value, of_light ? light.dimmer : 1);
}

// The levels and tints that --dim, --tint, --solo and --mute give.
void apply_settings(const Arguments& a,
                    const Rig& rig,
                    const RenderedImage& image,
                    std::vector<BalancedLight>& lights) {
  for (const std::string& dim : a.texts("dim")) {
    const auto [name, value] = assignment("--dim", dim);
    if (const auto part = part_named(image, lights, name)) {
      BalancedLight& of = light_named(lights, rig, "--dim", name.substr(0, name.rfind('.')));
      of.part_times[static_cast<std::size_t>(*part)] = wanted_factor(name, value);
      continue;
    }
    BalancedLight& l = light_named(lights, rig, "--dim", name);
    l.times = wanted_times(l, rig, value);
    l.fixed = true;
  }
  for (const std::string& tint : a.texts("tint")) {
    const auto [name, value] = assignment("--tint", tint);
    BalancedLight& l = light_named(lights, rig, "--tint", name);
    const auto color = parse_hex_color(value);
    if (!color || color->maxCoeff() <= 0) {
      throw UsageError(
          fmt::format("--tint {}: found \"{}\"; expected #rrggbb", name, printable(value)));
    }
    l.tint = *color;
  }
  const std::vector<std::string> solo = a.texts("solo");
  for (const std::string& name : solo) {
    light_named(lights, rig, "--solo", name);
  }
  for (BalancedLight& l : lights) {
    if (!solo.empty() && std::find(solo.begin(), solo.end(), l.layer) == solo.end()) {
      l.times = 0;
      l.fixed = true;
    }
  }
  for (const std::string& name : a.texts("mute")) {
    BalancedLight& l = light_named(lights, rig, "--mute", name);
    l.times = 0;
    l.fixed = true;
  }
}

// The rig with these assignments.
Rig rig_with(const Rig& rig, const std::vector<std::string>& assignments) {
  DocumentNode document = rig.document;
  Problems problems;
  for (const std::string& assignment : assignments) {
    for (Problem& p : apply_override(document, assignment)) {
      problems.push_back(std::move(p));
    }
  }
  if (!problems.empty()) {
    throw BadInput{std::move(problems)};
  }
  auto out = read_rig(std::move(document), rig.file);
  if (!out) {
    throw BadInput{out.problems()};
  }
  return std::move(*out);
}

// A rig made of another for new levels, and what the layers make of it.
struct Balanced {
  Rig rig;
  std::vector<std::string> assignments;
  bool exact = true;
};

Balanced balance_rig(const Rig& rig, const Scene& scene, std::vector<BalancedLight>& lights) {
  std::vector<std::string> names;
  for (const BalancedLight& l : lights) {
    names.push_back(l.layer);
  }
  std::vector<std::string> assignments = balance_assignments(rig, lights);
  Rig wanted = rig_with(rig, assignments);
  const auto wanted_scene = prepare_scene(wanted);
  if (!wanted_scene) {
    throw BadInput{wanted_scene.problems()};
  }
  const LayerScaling scaling =
      layer_scaling(rig, scene.emitters, wanted, wanted_scene->emitters, names);
  if (!scaling.possible()) {
    throw UsageError(scaling.obstacle + ": render the rig with these levels instead (--set)");
  }
  for (BalancedLight& l : lights) {
    if (const LayerScaling::Layer* scaled = scaling.find(l.layer)) {
      l.factor = scaled->factor;
      l.part_factors = scaled->part_factors;
    }
  }
  return {std::move(wanted), std::move(assignments), scaling.exact()};
}

// The tints and levels whose layers come as near as they can to wanted factors: the channels of a
// tint are not quite those of its light, so that the way there takes some steps.
void balance_toward(const Rig& rig,
                    const Scene& scene,
                    const std::vector<Rgb>& wanted,
                    std::vector<BalancedLight>& lights) {
  constexpr int kSteps = 8;
  std::vector<Rgb> tints;
  for (std::size_t i = 0; i < lights.size(); ++i) {
    Rgb now = Rgb::Ones();
    for (const LightSpec& l : rig.lights) {
      now = l.layer == lights[i].layer ? l.tint.value_or(Rgb::Ones()) : now;
    }
    tints.push_back(now.cwiseProduct(wanted[i]));
  }
  for (int step = 0; step < kSteps; ++step) {
    for (std::size_t i = 0; i < lights.size(); ++i) {
      const double most = tints[i].maxCoeff();
      if (most > 0 &&
          (wanted[i].array() - wanted[i][0]).abs().maxCoeff() > 1e-6 * wanted[i].maxCoeff()) {
        lights[i].tint = tints[i] / most;
      }
      lights[i].times = wanted[i].maxCoeff() > 0 ? lights[i].times : 0;
    }
    balance_rig(rig, scene, lights);
    for (std::size_t i = 0; i < lights.size(); ++i) {
      const Rgb& got = lights[i].factor;
      if (!(wanted[i].maxCoeff() > 0) || !(got.maxCoeff() > 0)) {
        continue;
      }
      const double level = luminance_of(wanted[i]) / luminance_of(got);
      lights[i].times *= level;
      tints[i] = tints[i].cwiseProduct(
          (wanted[i] / level).cwiseQuotient(got.cwiseMax(1e-6 * got.maxCoeff())));
    }
  }
}

// Levels that bring the picture nearest to another one's.
PictureMatch match_file(const std::string& file,
                        const RenderedImage& image,
                        bool tints,
                        std::vector<BalancedLight>& lights) {
  auto loaded = load_rendered(file, false, false, true);
  if (!loaded) {
    throw BadInput{loaded.problems()};
  }
  RenderedImage reference = std::move(*loaded);
  const bool display_values = image_in(file).ends_with(".png");
  if (display_values) {
    reference = unshown(reference, image.shown());
  }
  if (reference.width != image.width || reference.height != image.height) {
    print_err(fmt::format("warning: {} has {} x {} pixels: resized to {} x {}\n",
                          printable(file, 200),
                          reference.width,
                          reference.height,
                          image.width,
                          image.height));
    reference = resized(reference, image.width, image.height);
  }
  if (!display_values || !(image.bloom > 0)) {
    return match_picture(image, reference, tints, lights);
  }
  // The lens spreads each layer's light by itself.
  RenderedImage bloomed = image;
  for (RenderedImage::Layer& layer : bloomed.layers) {
    bloom(layer.rgb, image.width, image.height, image.bloom);
    if (!layer.half_difference.empty()) {
      bloom(layer.half_difference, image.width, image.height, image.bloom);
    }
  }
  return match_picture(bloomed, reference, tints, lights);
}

// What a match leaves, and what it could not use.
std::string match_summary(const PictureMatch& m, const std::vector<BalancedLight>& lights) {
  std::string out = fmt::format(
      "what is left of the picture: {} % (rms, each place against its own brightness)\n",
      short_number(100 * m.residual, 3));
  for (std::size_t l = 0; l < m.beyond_full.size(); ++l) {
    if (m.beyond_full[l] > 0) {
      out += fmt::format(
          "{}: the reference asks for {} times what it gives at full; raise its output to that\n",
          lights[l].layer,
          short_number(m.beyond_full[l] * lights[l].dimmer, 3));
    }
  }
  if (m.clipped > 0) {
    out += fmt::format("{} white pixels of the reference tell no luminance and were left out\n",
                       m.clipped);
  }
  if (!m.absolute) {
    out +=
        "the reference tells no luminance: the levels are those of a picture as bright as this "
        "one\n";
  }
  return out;
}

Usage usage_of_balance() {
  return Usage{
      "balance",
      "DIR",
      "New levels and colors for the lights of a render, from its layers, without rendering again; "
      "the lines to paste\ninto the rig. With -o the picture that they give.",
      {{"dim",
        "a light's dimmer, or stops from where it is (\"-1 stops\"); above 1 its output; of a "
        "group, a glowing haze or a part (lamp.haze) a factor; repeatable",
        "NAME=0.5"},
       {"tint", "a light's tint, its output kept; repeatable", "NAME=#rrggbb"},
       {"solo", "only this light; repeatable", "NAME"},
       {"mute", "without this light; repeatable", "NAME"},
       {"target", "dimmers that bring a [[meter]] to a value; repeatable", "METER=\"500 lx\""},
       {"match", "dimmers that come nearest to a picture", "FILE"},
       {"tints", "with --match: tints too", ""},
       denoised_option(),
       {"o,output", "folder for image.exr and view.png; created", "DIR"},
       {"force", "replace files there", ""},
       {"json", "print one JSON document instead", ""}},
      "",
      "jovilux balance demo-out/bench --target bench-level=\"500 lx\" --mute lantern -o "
      "demo-out/balanced"}
      .with({threads_option()});
}

// What the lights become, and what it was asked for.
struct BalanceResult {
  std::vector<BalancedLight> lights;
  std::optional<PictureMatch> matched;
  std::vector<TargetOutcome> outcomes;
  Balanced balanced;

  static bool met(const TargetOutcome& o) {
    constexpr double kNear = 0.01;
    return std::abs(o.got - o.wanted) <= kNear * o.wanted;
  }
  bool falls_short() const { return !std::all_of(outcomes.begin(), outcomes.end(), met); }
  // A variant to paste into the rig; empty where nothing changes.
  std::string rig_lines() const {
    std::string lines;
    for (const std::string& assignment : balanced.assignments) {
      const std::size_t equals = assignment.find('=');
      lines +=
          fmt::format("\"{}\" = {}\n", assignment.substr(0, equals), assignment.substr(equals + 1));
    }
    return lines.empty() ? "" : "[[variant]]\nname = \"balanced\"\n[variant.set]\n" + lines;
  }
};

BalanceResult solve(const Arguments& a, LayeredRender& render) {
  if (a.flag("target") && a.flag("match")) {
    throw UsageError("--target and --match are both given; choose one");
  }
  BalanceResult r;
  r.lights = balanced_lights(render.image, render.rig);
  if (a.flag("target")) {
    apply_settings(a, render.rig, render.image, r.lights);
    r.outcomes =
        solve_targets(a.texts("target"), render.rig, render.scene, threads_of(a), r.lights);
  } else if (const auto match = a.text("match")) {
    r.matched = match_file(*match, render.image, a.flag("tints"), r.lights);
    if (a.flag("tints")) {
      std::vector<Rgb> wanted;
      for (const BalancedLight& l : r.lights) {
        wanted.push_back(l.factor);
      }
      balance_toward(render.rig, render.scene, wanted, r.lights);
    }
    for (std::size_t l = 0; l < r.lights.size(); ++l) {
      r.lights[l].error = r.matched->errors[l];
    }
    apply_settings(a, render.rig, render.image, r.lights);
  } else {
    apply_settings(a, render.rig, render.image, r.lights);
  }
  r.balanced = balance_rig(render.rig, render.scene, r.lights);
  return r;
}

// A light's tint as "#rrggbb", its largest channel at full; empty where none is set.
std::string tint_hex(const BalancedLight& l) {
  return l.tint ? hex_color(Rgb(*l.tint / std::max(1e-12, l.tint->maxCoeff()))) : "";
}
// The standard error of a dimmer that was solved for.
std::optional<double> dimmer_error(const BalancedLight& l) {
  return l.error && !l.fixed ? std::optional(l.dimmer * *l.error) : std::nullopt;
}

Json to_json(const BalancedLight& l) {
  Json parts = Json::object();
  for (std::size_t p = 0; p < kPartNames.size(); ++p) {
    if (l.part_times[p] != 1) {
      parts[kPartNames[p]] = l.part_times[p];
    }
  }
  const std::string hex = tint_hex(l);
  return {{"name", l.layer},
          {"dimmer", l.dimmer * l.times},
          {"standard_error", number_or_null(dimmer_error(l))},
          {"was", l.dimmer},
          {"tint", hex.empty() ? Json(nullptr) : Json(hex)},
          {"parts", parts},
          {"factor", {l.factor[0], l.factor[1], l.factor[2]}}};
}

Json to_json(const BalanceResult& r) {
  Json j = {{"lights", Json::array()},
            {"residual", Json::object()},
            {"rig", r.rig_lines()},
            {"exact", r.balanced.exact},
            {"verdict",
             r.outcomes.empty() ? "none"
             : r.falls_short()  ? "fail"
                                : "pass"}};
  for (const BalancedLight& l : r.lights) {
    j["lights"].push_back(to_json(l));
  }
  for (const TargetOutcome& o : r.outcomes) {
    j["residual"][o.meter] = {
        {"wanted", o.wanted}, {"reached", o.got}, {"most", o.most}, {"unit", o.unit}};
  }
  if (const auto& m = r.matched) {
    j["residual"]["picture"] = m->residual;
    j["match"] = {{"absolute", m->absolute}, {"white_pixels_left_out", m->clipped}};
    for (std::size_t l = 0; l < m->beyond_full.size(); ++l) {
      if (m->beyond_full[l] > 0) {
        j["match"]["beyond_full"][r.lights[l].layer] = m->beyond_full[l] * r.lights[l].dimmer;
      }
    }
  }
  return j;
}

std::string lights_table(const std::vector<BalancedLight>& lights) {
  std::vector<std::vector<std::string>> rows = {{"light", "dimmer", "\u00b1", "was", "tint"}};
  for (const BalancedLight& l : lights) {
    const std::string hex = tint_hex(l);
    const auto error = dimmer_error(l);
    rows.push_back({l.layer,
                    short_number(l.dimmer * l.times, 4),
                    error ? short_number(*error, 2) : "-",
                    short_number(l.dimmer, 4),
                    hex.empty() ? "-" : hex});
    for (std::size_t p = 0; p < kPartNames.size(); ++p) {
      if (l.part_times[p] != 1) {
        rows.push_back({fmt::format("{}.{}", l.layer, kPartNames[p]),
                        "x " + short_number(l.part_times[p], 4),
                        "-",
                        "-",
                        "-"});
      }
    }
  }
  return text_table(rows);
}

std::string outcome_line(const TargetOutcome& o) {
  if (BalanceResult::met(o)) {
    return fmt::format("{}: {} {}\n", o.meter, short_number(o.got), o.unit);
  }
  if (o.most < o.wanted) {
    return fmt::format(
        "{}: {} {} cannot be reached: {} with every light at full; more output, or lights nearer\n",
        o.meter,
        short_number(o.wanted),
        o.unit,
        short_number(o.most));
  }
  return fmt::format("{}: {} {} cannot be reached together with the others: {}\n",
                     o.meter,
                     short_number(o.wanted),
                     o.unit,
                     short_number(o.got));
}

std::string to_text(const BalanceResult& r) {
  std::string out = lights_table(r.lights) + "\n";
  for (const TargetOutcome& o : r.outcomes) {
    out += outcome_line(o);
  }
  if (r.matched) {
    out += match_summary(*r.matched, r.lights);
  }
  const std::string lines = r.rig_lines();
  out += lines.empty() ? "nothing changes\n" : "\nfor the rig:\n" + lines;
  if (!r.balanced.exact) {
    out += "\ncolors change: the picture is exact on gray surfaces, near on colored ones\n";
  }
  return out;
}

}  // namespace

int run_balance(int argc, char** argv) {
  const Arguments a(usage_of_balance(), argc, argv);
  LayeredRender render = load_layered(a.positional(), a.flag("denoised"), a.flag("match"));
  const BalanceResult r = solve(a, render);
  const auto folder = a.text("output");
  if (folder) {
    prepare_files(*folder, {"image.exr", "view.png", "rig.resolved.toml"}, a.flag("force"));
    apply_balance(render.image, r.lights);
    save_balanced(*folder, render.image, r.balanced.rig);
  }
  if (a.flag("json")) {
    print_out(json_text(to_json(r)));
  } else {
    print_out(
        to_text(r) +
        (folder ? fmt::format("\nlook at {}\n", (fs::path(*folder) / "view.png").string()) : ""));
  }
  return r.falls_short() ? kFellShort : kDone;
}

}  // namespace jovilux::cli
