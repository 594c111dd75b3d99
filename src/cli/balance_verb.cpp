#include "jovilux/base/text.h"
#include "jovilux/judge/balance.h"
#include "jovilux/judge/comparison.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/judge/metering.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

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

double luminance(const Rgb& rgb) {
  return 0.21263901 * rgb[0] + 0.71516868 * rgb[1] + 0.07219232 * rgb[2];
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
    std::vector<std::string> names;
    const MeterSpec* found = nullptr;
    for (const MeterSpec& m : whole.meters) {
      names.push_back(m.name);
      found = m.name == name ? &m : found;
    }
    if (found == nullptr) {
      const std::string hint = did_you_mean(name, names);
      throw UsageError(fmt::format("--target: the rig has no meter \"{}\"{}",
                                   printable(name),
                                   hint.empty() ? "" : "; " + hint));
    }
    rig.meters.push_back(*found);
    out.push_back({name,
                   found->luminance ? "cd/m2" : "lx",
                   amount_option("--target",
                                 value,
                                 found->luminance ? Dimension::kLuminance : Dimension::kIlluminance,
                                 0),
                   0,
                   0});
  }
  MeteringOptions options;
  options.error = 0.003;
  options.threads = threads;
  const std::vector<MeterResult> measured = read_meters(rig, scene, options);
  const auto rows = static_cast<Eigen::Index>(out.size()),
             n = static_cast<Eigen::Index>(lights.size());
  Eigen::MatrixXd A = Eigen::MatrixXd::Zero(rows, n);
  Eigen::VectorXd b(rows), upper(n);
  for (Eigen::Index r = 0; r < rows; ++r) {
    const MeterResult& m = measured[static_cast<std::size_t>(r)];
    for (const MeterReading& reading : m.readings) {  // a grid counts by its average
      for (const auto& [name, value] : reading.by_light) {
        for (Eigen::Index l = 0; l < n; ++l) {
          if (lights[static_cast<std::size_t>(l)].layer == name) {
            A(r, l) += value / static_cast<double>(m.readings.size()) /
                       out[static_cast<std::size_t>(r)].wanted;
          }
        }
      }
    }
    b[r] = 1;
  }
  // What lights of a given level bring is there already.
  Eigen::VectorXd given = Eigen::VectorXd::Zero(rows);
  for (Eigen::Index l = 0; l < n; ++l) {
    if (const BalancedLight& light = lights[static_cast<std::size_t>(l)]; light.fixed) {
      given += light.times * A.col(l);
      A.col(l).setZero();
    }
  }
  for (Eigen::Index l = 0; l < n; ++l) {
    const double d = lights[static_cast<std::size_t>(l)].dimmer;
    upper[l] = d > 0 ? 1 / d : 0;
  }
  // Of all that will do, what changes least; each light counts by what it brings, so that those
  // that bring the same light
  // are scaled alike.
  constexpr double kStay = 1e-5;
  const Eigen::VectorXd x = bounded_least_squares(
      A, b - given, upper, kStay * (A.colwise().sum().transpose().array() + 1e-6).matrix());
  const Eigen::VectorXd got = given + A * x, most = given + A * upper;
  for (Eigen::Index r = 0; r < rows; ++r) {
    TargetOutcome& o = out[static_cast<std::size_t>(r)];
    o.got = got[r] * o.wanted;
    o.most = most[r] * o.wanted;
  }
  for (Eigen::Index l = 0; l < n; ++l) {
    if (BalancedLight& light = lights[static_cast<std::size_t>(l)]; !light.fixed) {
      light.times = x[l];
    }
  }
  return out;
}

// "0.5", "1.8", "-1 stops": what a layer's level becomes, over what it is. A group's and a haze's
// number is a factor, a light's its dimmer.
double wanted_times(const BalancedLight& light, const Rig& rig, const std::string& value) {
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
        light.layer,
        printable(value)));
  }
  const bool of_light = std::any_of(rig.lights.begin(), rig.lights.end(), [&](const LightSpec& l) {
    return l.layer == light.layer;
  });
  return !of_light ? *v : light.dimmer > 0 ? *v / light.dimmer : 0;
}

// The levels and tints that --dim, --tint, --solo and --mute give.
void apply_settings(const Arguments& a, const Rig& rig, std::vector<BalancedLight>& lights) {
  for (const std::string& dim : a.texts("dim")) {
    const auto [name, value] = assignment("--dim", dim);
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
    l.factor = scaling.factor_of(l.layer);
  }
  return {std::move(wanted), std::move(assignments), scaling.exact()};
}

// The tints and levels whose layers come as near as they can to wanted factors: the channels of a
// tint are not quite those of its light, so that the way there takes some steps.
Balanced balance_toward(const Rig& rig,
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
  Balanced best = balance_rig(rig, scene, lights);
  for (int step = 0; step < kSteps; ++step) {
    for (std::size_t i = 0; i < lights.size(); ++i) {
      const double most = tints[i].maxCoeff();
      if (most > 0 &&
          (wanted[i].array() - wanted[i][0]).abs().maxCoeff() > 1e-6 * wanted[i].maxCoeff()) {
        lights[i].tint = tints[i] / most;
      }
      lights[i].times = wanted[i].maxCoeff() > 0 ? lights[i].times : 0;
    }
    best = balance_rig(rig, scene, lights);
    for (std::size_t i = 0; i < lights.size(); ++i) {
      const Rgb& got = lights[i].factor;
      if (!(wanted[i].maxCoeff() > 0) || !(got.maxCoeff() > 0)) {
        continue;
      }
      const double level = luminance(wanted[i]) / luminance(got);
      lights[i].times *= level;
      tints[i] = tints[i].cwiseProduct(
          (wanted[i] / level).cwiseQuotient(got.cwiseMax(1e-6 * got.maxCoeff())));
    }
  }
  return balance_rig(rig, scene, lights);
}

}  // namespace

int run_balance(int argc, char** argv) {
  Usage usage{
      "balance",
      "DIR",
      "New levels and colors for the lights of a render, from its layers, without rendering again; "
      "the lines to paste\ninto the rig. With -o the picture that they give.",
      {{"dim",
        "a light's dimmer, or stops from where it is (\"-1 stops\"); above 1 its output; of a "
        "group or "
        "a glowing haze a factor; repeatable",
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
      "demo-out/balanced"};
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const std::string dir = a.positional();
  auto loaded = load_rendered(dir, true, a.flag("denoised"));
  if (!loaded) {
    throw BadInput{loaded.problems()};
  }
  RenderedImage& image = *loaded;
  if (image.layers.empty()) {
    throw BadInput{{{Severity::kError,
                     "no-layers",
                     {image_in(dir), 0, 0},
                     "",
                     "holds no layers of lights",
                     "render with layers = \"lights\""}}};
  }
  std::error_code ec;
  const std::string rig_file =
      (fs::path(image_in(dir)).parent_path() / "rig.resolved.toml").string();
  const auto rig = load_rig(rig_file);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  std::vector<BalancedLight> lights = balanced_lights(image, *rig);
  std::optional<double> residual;
  std::vector<TargetOutcome> outcomes;
  if (a.flag("target") && a.flag("match")) {
    throw UsageError("--target and --match are both given; choose one");
  }
  const auto scene = prepare_scene(*rig);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  std::optional<Balanced> balanced;
  if (a.flag("target")) {
    apply_settings(a, *rig, lights);
    outcomes = solve_targets(a.texts("target"), *rig, *scene, threads_of(a), lights);
  } else if (const auto match = a.text("match")) {
    auto reference = load_rendered(*match, false);
    if (!reference) {
      throw BadInput{reference.problems()};
    }
    RenderedImage r = std::move(*reference);
    if (r.width != image.width || r.height != image.height) {
      print_err(fmt::format("warning: {} has {} x {} pixels: resized to {} x {}\n",
                            printable(*match, 200),
                            r.width,
                            r.height,
                            image.width,
                            image.height));
      r = resized(r, image.width, image.height);
    }
    residual = match_reference(image, r, a.flag("tints"), lights);
    if (a.flag("tints")) {
      std::vector<Rgb> wanted;
      for (const BalancedLight& l : lights) {
        wanted.push_back(l.factor);
      }
      balanced = balance_toward(*rig, *scene, wanted, lights);
    }
    apply_settings(a, *rig, lights);
  } else {
    apply_settings(a, *rig, lights);
  }
  balanced = balance_rig(*rig, *scene, lights);
  std::string lines;
  std::vector<std::vector<std::string>> table = {{"light", "dimmer", "was", "tint"}};
  Json json_lights = Json::array();
  for (const BalancedLight& l : lights) {
    const std::string hex =
        l.tint ? hex_color(Rgb(*l.tint / std::max(1e-12, l.tint->maxCoeff()))) : "";
    const double wanted = l.dimmer * l.times;
    table.push_back(
        {l.layer, short_number(wanted, 4), short_number(l.dimmer, 4), hex.empty() ? "-" : hex});
    json_lights.push_back({{"name", l.layer},
                           {"dimmer", wanted},
                           {"was", l.dimmer},
                           {"tint", hex.empty() ? Json(nullptr) : Json(hex)},
                           {"factor", {l.factor[0], l.factor[1], l.factor[2]}}});
  }
  if (!balanced->assignments.empty()) {
    lines = "[[variant]]\nname = \"balanced\"\n[variant.set]\n";
    for (const std::string& assignment : balanced->assignments) {
      const std::size_t equals = assignment.find('=');
      lines +=
          fmt::format("\"{}\" = {}\n", assignment.substr(0, equals), assignment.substr(equals + 1));
    }
  }
  if (const auto folder = a.text("output")) {
    prepare_files(*folder, {"image.exr", "view.png", "rig.resolved.toml"}, a.flag("force"));
    apply_balance(image, lights);
    save_balanced(*folder, image, resolved_toml(balanced->rig, *folder));
  }
  const bool short_of = std::any_of(outcomes.begin(), outcomes.end(), [](const TargetOutcome& o) {
    return std::abs(o.got - o.wanted) > 0.01 * o.wanted;
  });
  if (a.flag("json")) {
    Json j = {{"lights", json_lights},
              {"residual", Json::object()},
              {"rig", lines},
              {"exact", balanced->exact}};
    for (const TargetOutcome& o : outcomes) {
      j["residual"][o.meter] = {
          {"wanted", o.wanted}, {"reached", o.got}, {"most", o.most}, {"unit", o.unit}};
    }
    if (residual) {
      j["residual"]["picture"] = *residual;
    }
    print_out(j.dump(2) + "\n");
    return short_of ? kFellShort : kDone;
  }
  std::string out = text_table(table) + "\n";
  for (const TargetOutcome& o : outcomes) {
    out += std::abs(o.got - o.wanted) <= 0.01 * o.wanted
               ? fmt::format("{}: {} {}\n", o.meter, short_number(o.got), o.unit)
           : o.most < o.wanted
               ? fmt::format(
                     "{}: {} {} cannot be reached: {} with every light at full; more output, or "
                     "lights nearer\n",
                     o.meter,
                     short_number(o.wanted),
                     o.unit,
                     short_number(o.most))
               : fmt::format("{}: {} {} cannot be reached together with the others: {}\n",
                             o.meter,
                             short_number(o.wanted),
                             o.unit,
                             short_number(o.got));
  }
  if (residual) {
    out += fmt::format(
        "what is left of the picture: {} % (rms, each pixel against its own brightness)\n",
        short_number(100 * *residual, 3));
  }
  out += lines.empty() ? "nothing changes\n" : "\nfor the rig:\n" + lines;
  if (!balanced->exact) {
    out += "\ncolors change: the picture is exact on gray surfaces, near on colored ones\n";
  }
  if (const auto folder = a.text("output")) {
    out += fmt::format("\nlook at {}\n", (fs::path(*folder) / "view.png").string());
  }
  print_out(out);
  return short_of ? kFellShort : kDone;
}

}  // namespace jovilux::cli
