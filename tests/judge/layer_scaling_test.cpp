// What layers say of another rig: the rig that is written renders the picture that is shown.
#include "jovilux/judge/layer_scaling.h"

#include "jovilux/judge/balance.h"
#include "jovilux/render/renderer.h"
#include "jovilux/rig/schema.h"

#include "tests/support/program.h"
#include "tests/support/rigs.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// A gray floor and wall, which reflect all channels alike: scaled colors are exact there.
std::string room(const std::string& lights) {
  return "[render]\nsize = [12, 8]\nsamples = 64\nbounces = 3\nguiding = false\nlight_tracing = "
         "false\n[[camera]]\nname = 'c'\nat = [0, -4, 1.5]\nlook_at = [0, 0, 0.5]\n"
         "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n"
         "[[object]]\nname = 'wall'\nshape = { kind = 'box', size = [6, 0.2, 3] }\nat = [0, 1.5, "
         "1.5]\n" +
         lights;
}

std::string lamp(const std::string& name, const std::string& more) {
  return fmt::format(
      "[[light]]\nname = '{}'\nkind = 'sphere'\nradius = 0.1\nat = [0.3, -0.5, 1.6]\noutput = "
      "'800 lm'\n{}\n",
      name,
      more);
}

Rig with(const Rig& rig, const std::vector<std::string>& assignments) {
  DocumentNode document = rig.document;
  for (const std::string& a : assignments) {
    const Problems problems = apply_override(document, a);
    INFO(a << (problems.empty() ? "" : to_string(problems[0])));
    REQUIRE(problems.empty());
  }
  auto out = read_rig(std::move(document), rig.file);
  for (const Problem& p : out.problems()) {
    INFO(to_string(p));
    REQUIRE(p.severity == Severity::kWarning);
  }
  return std::move(*out);
}

// Mean XYZ of each layer over the picture.
std::map<std::string, Eigen::Vector3d> layer_means(const Rig& rig) {
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  RenderOptions options;
  options.threads = 1;
  const Render made = render(rig, *scene, options);
  std::map<std::string, Eigen::Vector3d> out;
  for (int slot = 0; slot < made.film().slots(); ++slot) {
    Eigen::Vector3d sum = Eigen::Vector3d::Zero();
    for (std::size_t p = 0; p < made.film().pixels(); ++p) {
      sum += made.film().slot_mean(p, slot).cast<double>();
    }
    const std::string& layer = scene->layers[static_cast<std::size_t>(slot / made.film().parts())];
    out.try_emplace(layer, Eigen::Vector3d::Zero()).first->second +=
        sum / static_cast<double>(made.film().pixels());
  }
  return out;
}

LayerScaling scaling_between(const Rig& from, const Rig& to) {
  const auto a = prepare_scene(from), b = prepare_scene(to);
  REQUIRE((a && b));
  return layer_scaling(from, a->emitters, to, b->emitters, a->layers);
}

// The scaled layers of one render against a render of the other rig.
void check_agreement(const Rig& from, const Rig& to) {
  const LayerScaling scaling = scaling_between(from, to);
  INFO(scaling.obstacle);
  REQUIRE(scaling.possible());
  const auto before = layer_means(from), after = layer_means(to);
  for (const auto& [name, xyz] : before) {
    const Eigen::Vector3d rgb = rec709_from_xyz() * xyz,
                          wanted = after.count(name) > 0
                                       ? Eigen::Vector3d(rec709_from_xyz() * after.at(name))
                                       : Eigen::Vector3d::Zero(),
                          got = rgb.cwiseProduct(scaling.factor_of(name).matrix());
    INFO(name << ": " << got.transpose() << " against " << wanted.transpose());
    // One lamp's paths are the same whatever its level; of several the choice among them differs.
    CHECK((got - wanted).norm() <= (before.size() > 1 ? 0.06 : 0.004) * (wanted.norm() + 1e-9));
  }
}

}  // namespace

TEST_CASE("a rig with other levels and colors has the picture that the layers give",
          "[judge][layers]") {
  const std::pair<const char*, std::string> kLamps[] = {
      {"plain", lamp("l", "")},
      {"warm", lamp("l", "white = '2700 K'")},
      {"tinted", lamp("l", "tint = '#ffb070'")},
      {"gelled", lamp("l", "gel = '#ffd9a0'\nwhite = '3200 K'")},
      {"dimmed", lamp("l", "dimmer = 0.4")},
      {"filament", lamp("l", "white = '2700 K'\ndim_to_warm = '1800 K'")},
      {"flickering",
       lamp("l", "flicker = { wave = 'sine', rate = '3 Hz', depth = 0.6, phase = 60 }")},
      {"by a spectrum", lamp("l", "spectrum = 'cie-f11'")}};
  const std::vector<std::vector<std::string>> kChanges = {
      {"light.l.dimmer=0.3"},
      {"light.l.dimmer=1", "light.l.output=\"1900 lm\""},
      {"light.l.tint=\"#9fc4ff\""},
      {"light.l.tint=\"#ffc890\"", "light.l.dimmer=0.5"},
      {"light.l.gel=\"#ffe0b8\""},
      {"light.l.on=false"}};
  for (const auto& [name, text] : kLamps) {
    const Rig rig = rig_of(room(text));
    for (const auto& change : kChanges) {
      INFO(name << ", " << change.front());
      const Rig other = with(rig, change);
      CHECK(levels_aside(rig) == levels_aside(other));
      check_agreement(rig, other);
    }
  }
}

TEST_CASE("every key that scales or tints a layer does so alone and in pairs", "[judge][layers]") {
  // A value for each such key of a lamp's table: a key that is added must be added here.
  const std::map<std::string, std::string> values = {
      {"output", "\"1900 lm\""},
      {"white", "\"2900 K\""},
      {"spectrum", "\"led-4000\""},
      {"dim_to_warm", "\"1800 K\""},
      {"gel", "[\"half cool\", \"#ffe0b8\"]"},
      {"tint", "\"#9fc4ff\""},
      {"dimmer", "\"-1 stops\""},
      {"on", "false"},
      {"flicker", "{ wave = \"sine\", rate = \"3 Hz\", depth = 0.6, phase = 60 }"}};
  std::vector<std::string> changes;
  for (const KeyDescription& key : table_at("light.any")->keys) {
    if (key.effect == LayerEffect::kOther || !key.goes_with("sphere")) {
      continue;
    }
    INFO(key.name);
    const auto value = values.find(std::string(key.name));
    REQUIRE(value != values.end());
    changes.push_back(fmt::format("light.l.{}={}", key.name, value->second));
  }
  REQUIRE(changes.size() >= values.size());
  const std::string own = lamp("l", "white = '3400 K'\ndimmer = 0.8");
  std::string in_group =
      room(lamp("l", "white = '3400 K'\ndimmer = 0.8\ngroup = 'g'") + lamp("other", "group = 'h'"));
  in_group.insert(in_group.find("guiding"), "layers = 'groups'\n");
  // Alone, copied by an array, as a group beside another, and beside haze that glows.
  const std::pair<const char*, std::string> scenes[] = {
      {"alone", room(own)},
      {"array",
       room(own + "[[array]]\nname = 'row'\nof = 'l'\noutput = 'total'\ncount = 2\nalong = { path "
                  "= 'line', from = [-1, 0, 0], to = [1, 0, 0] }\n")},
      {"group", in_group},
      {"haze",
       room(own + "[[haze]]\nname = 'glow'\ninside = 'everywhere'\nextinction = '0.01 "
                  "/m'\nemission = '2 cd/m2'\n")}};
  int agreed = 0;
  for (const auto& [scene, text] : scenes) {
    const Rig rig = rig_of(text);
    for (std::size_t a = 0; a < changes.size(); ++a) {
      for (std::size_t b = a; b < changes.size(); ++b) {
        DocumentNode document = rig.document;
        REQUIRE(apply_override(document, changes[a]).empty());
        REQUIRE((a == b || apply_override(document, changes[b]).empty()));
        const auto other = read_rig(std::move(document), rig.file);
        INFO(scene << ": " << changes[a] << ", " << changes[b]);
        if (!other) {  // a spectrum beside the white that the lamp has
          CHECK((changes[a] + changes[b]).find("spectrum") != std::string::npos);
          continue;
        }
        CHECK(levels_aside(rig) == levels_aside(*other));
        check_agreement(rig, *other);
        ++agreed;
      }
    }
  }
  CHECK(agreed >= 4 * 36);
  // A spectrum replaces the white.
  const Rig bare = rig_of(room(lamp("l", "")));
  check_agreement(bare, with(bare, {"light.l.spectrum=\"led-4000\"", "light.l.dimmer=0.3"}));
}

TEST_CASE("levels of arrays, groups and glowing haze are set where the rig has them",
          "[judge][layers]") {
  const std::string row =
      lamp("bulb", "") +
      "[[array]]\nname = 'row'\nof = 'bulb'\noutput = 'total'\ncount = 3\nalong = { path = 'line', "
      "from = [-1, 0, 0], to = [1, 0, 0] }\ncopy = { 1 = { dimmer = 0.2 } }\n";
  const std::pair<std::string, std::string> kLayers[] = {
      {row, "row"},
      {lamp("a", "group = 'g'") + lamp("b", "group = 'g'\ndimmer = 0.5") +
           "[[light]]\nname = "
           "'other'\nkind = 'point'\nat = [-1, -1, 2]\noutput = '300 lm'\n",
       "g"},
      {"[[haze]]\nname = 'glow'\ninside = 'everywhere'\nextinction = '0.01 /m'\nemission = '2 "
       "cd/m2'\n",
       "glow"}};
  for (const auto& [text, layer] : kLayers) {
    std::string rig_text = room(text);
    if (layer == "g") {
      rig_text.insert(rig_text.find("guiding"), "layers = 'groups'\n");
    }
    const Rig rig = rig_of(rig_text);
    for (const double times : {0.5, 0.0, 3.0}) {
      INFO(layer << " times " << times);
      const std::vector<std::string> assignments = assignments_of_level(rig, layer, times);
      REQUIRE_FALSE(assignments.empty());
      const Rig other = with(rig, assignments);
      const LayerScaling scaling = scaling_between(rig, other);
      INFO(scaling.obstacle);
      REQUIRE(scaling.possible());
      CHECK(scaling.exact());
      CHECK(scaling.factor_of(layer)[1] == Approx(times).margin(1e-4));
      CHECK(levels_aside(rig) == levels_aside(other));
      check_agreement(rig, other);
    }
  }
}

TEST_CASE("what layers cannot tell is said", "[judge][layers]") {
  const Rig limited = rig_of(room(lamp("l", "cheat = { bounce_limit = '5 cd/m2' }")));
  CHECK(scaling_between(limited, with(limited, {"light.l.dimmer=0.5"}))
            .obstacle.find("bounce_limit") != std::string::npos);
  CHECK(scaling_between(limited, with(limited, {"light.l.on=false"})).possible());
  CHECK(scaling_between(limited, limited).possible());
  const Rig dark = rig_of(room(lamp("l", "on = false") + lamp("k", "")));
  CHECK(scaling_between(dark, with(dark, {"light.l.on=true"})).obstacle.find("was off") !=
        std::string::npos);
  // A dimmer of one copy: the layer holds all of them.
  const Rig row = rig_of(
      room(lamp("bulb", "") +
           "[[array]]\nname = 'row'\nof = 'bulb'\noutput = 'each'\ncount = 2\nalong = { path = "
           "'line', from = [-1, 0, 0], to = [1, 0, 0] }\n"));
  CHECK(
      scaling_between(row, with(row, {"light.row[1].dimmer=0.5"})).obstacle.find("share a layer") !=
      std::string::npos);
  CHECK(levels_aside(row) != levels_aside(with(row, {"light.bulb.radius=0.2"})));
  CHECK(levels_aside(row) != levels_aside(with(row, {"light.bulb.near_softening=0.2"})));
}

TEST_CASE("balance shows what its rig renders", "[cli][balance]") {
  const TemporaryFolder dir;
  const std::string text =
      "jovilux = 1\n[render]\nsize = [16, 12]\nsamples = 64\n[[camera]]\nname = 'c'\nat = [0, -4, "
      "1.5]\nlook_at = [0, 0, 0.5]\n[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\n" +
      lamp("warm", "white = '2700 K'") +
      lamp("torch", "flicker = { wave = 'sine', rate = '3 Hz', depth = 0.5, phase = 90 }");
  const std::string rig = dir.write("r.toml", text);
  REQUIRE(run_program({"render", rig, "-o", dir.path("out"), "--quiet"}).status == 0);
  const auto mean = [&](const std::string& folder) {
    return run_program({"read", dir.path(folder), "--box", "0,0,16,12", "--json"})
        .json()["readings"][0];
  };
  const std::vector<std::vector<std::string>> kSettings = {
      {"--tint", "warm=#a0c0ff"},
      {"--dim", "torch=0.5"},
      {"--dim", "warm=-1 stops"},
      {"--dim", "warm=2", "--mute", "torch"},
      {"--solo", "torch", "--dim", "torch=+1 stops"}};
  int number = 0;
  for (const auto& settings : kSettings) {
    INFO(settings[0] << " " << settings[1]);
    const std::string name = fmt::format("b{}", ++number);
    std::vector<std::string> words = {"balance", dir.path("out"), "-o", dir.path(name), "--json"};
    words.insert(words.end(), settings.begin(), settings.end());
    const ProgramRun run = run_program(words);
    INFO(run.out << run.err);
    REQUIRE(run.status == 0);
    REQUIRE(run_program({"render",
                         dir.path(name + "/rig.resolved.toml"),
                         "-o",
                         dir.path(name + "-r"),
                         "--quiet"})
                .status == 0);
    const auto shown = mean(name), rendered = mean(name + "-r");
    for (int c = 0; c < 3; ++c) {
      CHECK(shown["rgb"][c].get<double>() ==
            Approx(rendered["rgb"][c].get<double>()).epsilon(0.03));
    }
    CHECK(shown["standard_error_cd_m2"].is_number());  // the variance is carried
  }
  // What has no layer is named.
  dir.write("off.toml", text + lamp("spare", "on = false"));
  REQUIRE(run_program({"render", dir.path("off.toml"), "-o", dir.path("off"), "--quiet"}).status ==
          0);
  const ProgramRun off = run_program({"balance", dir.path("off"), "--dim", "spare=0.5"});
  CHECK(off.status == 2);
  CHECK(off.err.find("\"spare\" was off in the render") != std::string::npos);
}
