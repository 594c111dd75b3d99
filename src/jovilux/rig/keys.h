#pragma once

#include "jovilux/rig/document.h"

#include <string>
#include <vector>

namespace jovilux {

// Values over time. Wherever a rig has a number, a quantity, a color or a list of numbers, it may
// have instead
//
//     { keys = [[time, value], ...], ease = "linear" | "smooth" | "hold" }
//
// times increasing, in seconds ("2 s", "40 ms", bare numbers). Before the first and after the last
// key the value stays.
// `smooth` slows down at each key: 3 u^2 - 2 u^3 between two. `hold` keeps each value until the
// next key; so it is with flags, and other texts must say so.

/// A rig's text as it is at one moment.
///
/// Each keyed value of `root` but those of variants, [time] and render.time is replaced by what it
/// is at `t` [s]. Quantities keep the unit of the key before; colors are blended in linear light.
/// Problems name the place of the key.
DocumentNode at_time(const DocumentNode& root, double t, Problems& problems);

/// Whether a node is such a value.
bool is_keyed(const DocumentNode& node);

/// Whether any value in the tree is keyed.
bool has_keys(const DocumentNode& root);

/// All times of keys in the tree, increasing, each once [s]; those that cannot be read are left
/// out.
std::vector<double> key_times(const DocumentNode& root);

/// Whether a keyed value is not the same all the way from one moment to another [s].
bool varies_between(const DocumentNode& keyed, double from, double to);

/// Keyed plain numbers ready to be asked often: a dimmer over time.
struct KeyedNumber {
  std::vector<double> times, values;
  enum class Ease { kLinear, kSmooth, kHold } ease = Ease::kLinear;

  double operator()(double t) const;
};
/// Of a keyed node whose values are numbers, shares ("30 %") or flags (0, 1); empty where one is
/// not.
KeyedNumber keyed_number(const DocumentNode& keyed);

}  // namespace jovilux
