#include "cli/test_scenes.h"

#include <cmath>

#include <fmt/format.h>

namespace jovilux::cli {
namespace {

std::string head(const std::string& title,
                 const std::string& camera,
                 int bounces,
                 const std::string& exposure = "auto") {
  return fmt::format(R"(jovilux = 1

[scene]
title  = "{}"
length = "m"

[[camera]]
name    = "front"
{}
[look]
exposure = "{}"

[render]
size    = [480, 300]
samples = 32
bounces = {}

)",
                     title,
                     camera,
                     exposure,
                     bounces);
}

TestScene distances() {
  std::string rig =
      "# Four balls at doubling distances from one light: each should get a quarter of the light "
      "of the one before.\n" +
      head("Four balls at doubling distances",
           "at      = [0, -1.1, 2.0]\nlook_at = [0.12, 1.3, 0.82]\nview    = \"56 deg\"\n",
           1,
           "EV 5.5");
  rig += R"([[material]]
name  = "gray"
kind  = "matte"
color = [0.5, 0.5, 0.5]

[[material]]
name  = "dark"
kind  = "matte"
color = [0.02, 0.02, 0.02]

[[object]]
name     = "floor"
shape    = { kind = "plane" }
material = "dark"

# The light to try: change its form, output, falloff, cushion, reach
[[light]]
name   = "lamp"
form   = "point"
at     = [0, 0, 1]
output = "1000 lm"
white  = "4000 K"
)";
  // A fan, so that none stands in another's light; the near side of each ball is at its distance.
  constexpr double kRadius = 0.12;
  constexpr double kAngles[] = {140, 108, 84, 74};
  constexpr const char* kNames[] = {"50cm", "1m", "2m", "4m"};
  double d = 0.5;
  for (std::size_t i = 0; i < 4; ++i) {
    const double angle = kAngles[i];
    const double a = angle * 3.14159265358979 / 180;
    rig += fmt::format(R"(
[[object]]
name     = "ball-{0}"
shape    = {{ kind = "sphere", radius = {1} }}
at       = [{2:.4f}, {3:.4f}, 1]
material = "gray"
)",
                       kNames[i],
                       kRadius,
                       (d + kRadius) * std::cos(a),
                       (d + kRadius) * std::sin(a));
    d *= 2;
  }
  return {"distances",
          "four balls at doubling distances: read how a light weakens",
          rig,
          {"108,214", "154,142", "248,80", "319,28"},
          "the lit sides of the balls at 0.5, 1, 2 and 4 m",
          "try --set light.lamp.falloff=none, or a cushion"};
}

TestScene wall() {
  std::string rig =
      "# An object before a wall. One key sets the wall's distance from the light: object.wall.at, "
      "its second number.\n" +
      head("An object before a wall",
           "at      = [-2.6, -2.2, 1.7]\nlook_at = [0.1, 1.3, 0.75]\nview    = \"52 deg\"\n",
           4);
  rig += R"([[material]]
name  = "gray"
kind  = "matte"
color = [0.5, 0.5, 0.5]

[[material]]
name  = "terracotta"
kind  = "matte"
color = "#a5603c"

[[object]]
name     = "floor"
shape    = { kind = "plane" }
material = "gray"

# Push it back:  --set object.wall.at="[0, 4, 1.5]"
[[object]]
name     = "wall"
shape    = { kind = "rect", size = [8, 3] }
at       = [0, 2, 1.5]
turn     = [90, 0, 0]
material = "gray"

[[object]]
name     = "pot"
shape    = { kind = "cone", radius = ["14 cm", "20 cm"], height = "40 cm" }
at       = [0, 1, 0.75]
material = "terracotta"

[[object]]
name     = "stand"
shape    = { kind = "cylinder", radius = "4 cm", height = "55 cm" }
at       = [0, 1, 0.275]
material = "gray"

# The light to try: a larger radius softens the pot's shadow, a falloff changes the wall against the pot
[[light]]
name   = "lamp"
form   = "disk"
at     = [0, 0, 0.95]
toward = [0, 1, 0]
radius = "5 cm"
output = "800 lm"
white  = "3000 K"
)";
  return {"wall",
          "an object before a wall whose distance is one key: read the wall near and far",
          rig,
          {"253,156", "108,88", "186,158"},
          "the pot, the wall, and the wall in the pot's shadow",
          "push the wall back: --set object.wall.at=\"[0, 4, 1.5]\""};
}

TestScene card() {
  std::string rig =
      "# A gray card, a chrome ball and a white corner: level, reflection and bounce of one light "
      "at a glance.\n" +
      head("Gray card, chrome ball, white corner",
           "at      = [0.1, -2.3, 0.95]\nlook_at = [0.05, 0.2, 0.42]\nview    = \"46 deg\"\n",
           6);
  rig += R"([[material]]
name  = "white"
kind  = "matte"
color = [0.8, 0.8, 0.8]

[[material]]
name  = "gray-18"
kind  = "matte"
color = [0.18, 0.18, 0.18]

[[material]]
name      = "chrome"
kind      = "metal"
color     = [0.55, 0.56, 0.56]
roughness = 0

[[object]]
name     = "floor"
shape    = { kind = "rect", size = [2, 2] }
material = "white"

[[object]]
name     = "back"
shape    = { kind = "rect", size = [2, 1.4] }
at       = [0, 1, 0.7]
turn     = [90, 0, 0]
material = "white"

[[object]]
name     = "side"
shape    = { kind = "rect", size = [1.4, 2] }
at       = [-1, 0, 0.7]
turn     = [0, 90, 0]
material = "white"

[[object]]
name     = "card"
shape    = { kind = "rect", size = [0.3, 0.42] }
at       = [-0.35, 0.1, 0.3]
turn     = [80, 0, 0]
material = "gray-18"

[[object]]
name     = "ball"
shape    = { kind = "sphere", radius = 0.22 }
at       = [0.4, 0.1, 0.22]
material = "chrome"

# The light to try
[[light]]
name   = "lamp"
form   = "rect"
at     = [0.9, -1.2, 1.8]
aim    = [0, 0.2, 0.2]
size   = ["60 cm", "40 cm"]
output = "2000 lm"
white  = "5600 K"
cheat  = { caustics = "off" }       # what the ball throws on the walls takes thousands of samples; take this away to see it
)";
  return {"card",
          "gray card, chrome ball and white corner: level, reflection and bounce",
          rig,
          {"148,181", "329,183", "56,160"},
          "the card, the lamp in the ball, the corner",
          "turn the light: --set light.lamp.aim=\"[-1, 1, 0.5]\", or change its white and gel"};
}

TestScene string() {
  std::string rig =
      "# A string of bulbs on a helix beside the tube that it imitates: the same lumens on the "
      "same length.\n" +
      head("A string of bulbs and the tube that it imitates",
           "at      = [0, -3.2, 1.1]\nlook_at = [0, 0.3, 0.85]\nview    = \"52 deg\"\n",
           3);
  rig += R"([[material]]
name  = "gray"
kind  = "matte"
color = [0.5, 0.5, 0.5]

[[object]]
name     = "floor"
shape    = { kind = "plane" }
material = "gray"

[[object]]
name     = "wall"
shape    = { kind = "rect", size = [5, 2.4] }
at       = [0, 0.6, 1.2]
turn     = [90, 0, 0]
material = "gray"

# Something between both, so that neither lights the other's half
[[object]]
name     = "screen"
shape    = { kind = "box", size = [0.02, 1.2, 2.4] }
at       = [0, 0, 1.2]
material = "gray"

[[object]]
name     = "post"
shape    = { kind = "cylinder", radius = "5 cm", height = "150 cm" }
at       = [-0.9, 0, 0.75]
material = "gray"

[[object]]
name     = "post-of-tube"
shape    = { kind = "cylinder", radius = "5 cm", height = "20 cm" }
at       = [0.9, 0, 0.1]
material = "gray"

[[light]]
name   = "bulb"
form   = "sphere"
at     = [0, 0, 0]
radius = "1.2 cm"
output = "800 lm"
white  = "2300 K"

# The bulbs to try: count, radius, pitch and turns; output = "total" divides the 800 lm among them
[[array]]
name   = "string"
of     = "bulb"
count  = 21
along  = { path = "helix", at = [-0.9, 0, 0.2], axis = [0, 0, 1], radius = "9 cm", pitch = "24 cm", turns = 5 }
output = "total"

[[light]]
name   = "tube"
form   = "tube"
from   = [0.9, 0, 0.2]
to     = [0.9, 0, 1.4]
radius = "2 cm"
output = "800 lm"
white  = "2300 K"
)";
  return {"string",
          "bulbs on a helix beside the tube that they imitate: read both halves of the wall",
          rig,
          {"56,158", "424,158"},
          "the wall beside the string and beside the tube, at the same height",
          "try --set array.string.count=7"};
}

TestScene slats() {
  std::string rig =
      "# An opening with slats and a wall behind it: how soft shadows are follows from the sun's "
      "disc and from distance.\n" +
      head("An opening with slats",
           "at      = [-1.9, -2.6, 1.7]\nlook_at = [0.55, 0.4, 0.75]\nview    = \"56 deg\"\n",
           4,
           "EV 12.5");
  rig += R"([[material]]
name  = "gray"
kind  = "matte"
color = [0.5, 0.5, 0.5]

[[material]]
name  = "cedar"
kind  = "matte"
color = "#8a5a38"

[[object]]
name     = "floor"
shape    = { kind = "plane" }
material = "gray"

[[object]]
name     = "wall"
shape    = { kind = "rect", size = [4, 2.6] }
at       = [0.4, 1.2, 1.3]
turn     = [90, 0, 0]
material = "gray"

# The wall with the opening, to the right: below, above, and on both sides of it
[[object]]
name  = "below"
shape = { kind = "box", size = [0.1, 5.2, 0.7] }
at    = [1.9, -1.4, 0.35]

[[object]]
name  = "above"
shape = { kind = "box", size = [0.1, 5.2, 0.8] }
at    = [1.9, -1.4, 2.2]

[[object]]
name  = "left"
shape = { kind = "box", size = [0.1, 1.0, 1.1] }
at    = [1.9, 0.7, 1.25]

[[object]]
name  = "right"
shape = { kind = "box", size = [0.1, 3.0, 1.1] }
at    = [1.9, -2.5, 1.25]

[[object]]
name  = "ceiling"
shape = { kind = "box", size = [5, 5.4, 0.1] }
at    = [-0.5, -1.4, 2.65]

[[object]]
name  = "behind-the-camera"
shape = { kind = "box", size = [5, 0.1, 2.6] }
at    = [-0.5, -4, 1.3]

# The light to try: a larger disc softens the stripes; or a gobo instead of the slats
[[light]]
name      = "sun"
form      = "sun"
elevation = 22
azimuth   = 150
output    = "40 klx"
white     = "4800 K"

[[light]]
name   = "sky"
form   = "sky"
model  = "uniform"
output = "4 klx"
white  = "daylight 7500 K"
)";
  for (int i = 0; i < 8; ++i) {
    rig += fmt::format(R"(
[[object]]
name     = "slat-{}"
shape    = {{ kind = "box", size = [0.08, 1.2, 0.012] }}
at       = [1.9, -0.4, {:.4f}]
turn     = [0, 25, 0]
material = "cedar"
tags     = ["slats"]
)",
                       i + 1,
                       0.7 + (i + 0.5) * 1.1 / 8);
  }
  return {"slats",
          "an opening with slats and a wall behind: read the stripes",
          rig,
          {"227,136", "227,142"},
          "a stripe of light and one of shade",
          "try --set light.sun.disc=\"3 deg\""};
}

}  // namespace

const std::vector<TestScene>& test_scenes() {
  static const std::vector<TestScene> kScenes = {distances(), wall(), card(), string(), slats()};
  return kScenes;
}

}  // namespace jovilux::cli
