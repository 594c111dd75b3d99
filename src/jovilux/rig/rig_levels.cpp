#include "jovilux/base/quadrature.h"
#include "jovilux/rig/read_tables.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace jovilux {
namespace {

// A light's dimmer and switch over time; empty where they are not keyed.
struct LevelKeys {
  KeyedNumber dimmer, on;
};

// By light, then by array, whose copies follow their pattern.
std::map<std::string, LevelKeys> level_keys(const DocumentNode& keyed) {
  std::map<std::string, LevelKeys> keys;
  const auto number = [](const DocumentNode* node) {
    return node != nullptr ? keyed_number(*node) : KeyedNumber{};
  };
  for (const char* kind : {"light", "array"}) {
    const DocumentNode* list = keyed.find(kind);
    if (list == nullptr || !list->is_array()) {
      continue;
    }
    for (const DocumentNode& item : list->array()) {
      const DocumentNode *name = item.find("name"), *of = item.find("of");
      if (name == nullptr || !name->is_text()) {
        continue;
      }
      keys[name->text()] = of != nullptr && of->is_text()
                               ? LevelKeys(keys[of->text()])
                               : LevelKeys{number(item.find("dimmer")), number(item.find("on"))};
    }
  }
  return keys;
}

// The keys that a light follows. A copy whose dimmer or switch is its own does not follow its
// pattern's: it is told by its value at the moment of the picture.
void follow(const LevelKeys& keys, double moment, LightSpec& light) {
  constexpr double kSame = 1e-9;
  if (!keys.dimmer.times.empty() && std::abs(keys.dimmer(moment) - light.dimmer) < kSame) {
    light.dimmer_keys = keys.dimmer;
  }
  if (!keys.on.times.empty() && (keys.on(moment) > 0) == light.on) {
    light.on_keys = keys.on;
    if (light.dimmer_keys.times.empty()) {
      // The level when it is on, whatever it is now.
      light.dimmer_keys = {{0}, {light.dimmer}, KeyedNumber::Ease::kHold};
    }
  }
}

}  // namespace

std::optional<Radians> LightSpec::diffusion() const {
  std::optional<Radians> out;
  for (const GelSpec& gel : gels) {
    if (gel.diffusion) {
      out = out ? spread_of_both(*out, gel.diffusion->spread) : gel.diffusion->spread;
    }
  }
  return out;
}

double LightSpec::level_between(double from, double to) const {
  const double length = to - from;
  const auto dimmed_at = [&](double t) {
    return (dimmer_keys.times.empty() ? dimmer : dimmer_keys(t)) *
           (on_keys.times.empty() ? 1 : on_keys(t));
  };
  if (!(length > 0)) {
    return dimmed_at(from) * (flicker ? flicker->level(from) : 1);
  }
  if (dimmer_keys.times.empty() && on_keys.times.empty()) {
    return dimmer * (flicker ? flicker->mean(from, to) : 1);
  }
  // From key to key; with a flicker in steps short enough that the dimmer hardly changes over one.
  std::vector<double> corners = {from};
  for (const KeyedNumber* keys : {&dimmer_keys, &on_keys}) {
    std::copy_if(
        keys->times.begin(), keys->times.end(), std::back_inserter(corners), [&](double t) {
          return t > from && t < to;
        });
  }
  corners.push_back(to);
  std::sort(corners.begin(), corners.end());
  double sum = 0;
  for (std::size_t i = 0; i + 1 < corners.size(); ++i) {
    if (!flicker) {
      sum += integral(dimmed_at, corners[i], corners[i + 1], 1);  // exact: cubic between keys
      continue;
    }
    constexpr int kSteps = 256;
    const double step = (corners[i + 1] - corners[i]) / kSteps;
    for (int k = 0; k < kSteps; ++k) {
      const double a = corners[i] + k * step;
      sum += dimmed_at(a + step / 2) * flicker->mean(a, a + step) * step;
    }
  }
  return sum / length;
}

void read_levels(const DocumentNode& keyed, Rig& rig) {
  const double from = rig.render.time - rig.time.open() / 2,
               to = rig.render.time + rig.time.open() / 2;
  std::map<std::string, LevelKeys> keys = level_keys(keyed);
  for (LightSpec& light : rig.lights) {
    follow(keys[light.layer], rig.render.time, light);
    const bool is_keyed = !light.dimmer_keys.times.empty() || !light.on_keys.times.empty();
    if (!is_keyed && !light.flicker) {
      continue;
    }
    const double level = light.level_between(from, to);
    if (is_keyed) {
      LightSpec steady = light;
      steady.flicker.reset();
      light.dimmer = steady.level_between(from, to);
      light.on = light.on || (!light.on_keys.times.empty() && light.dimmer > 0);
    }
    light.flicker_level = !light.flicker     ? 1
                          : light.dimmer > 0 ? level / light.dimmer
                                             : light.flicker->mean(from, to);
  }
}

}  // namespace jovilux
