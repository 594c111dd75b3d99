#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_profile(TableReader& r, LightSpec& light) {
  if (!r.has("profile")) {
    return;
  }
  light.profile_file = r.file("profile", &light.profile_place).value_or("");
  for (const char* key : {"beam", "field", "spread"}) {
    if (r.has(key)) {
      r.error(key,
              r.place(key),
              "conflict",
              fmt::format("{} and profile are both given; either shapes the light", key),
              "leave one of them out");
      r.find(key);
    }
  }
}

void read_pattern(TableReader& g, GoboInRig& out) {
  out.count = static_cast<int>(g.whole_or_standard("count"));
  out.open = g.number_or_standard("open");
  // Dots that touch: more than a quarter of pi would overlap.
  constexpr double kTouchingDots = kPiD / 4;
  if (out.pattern == GoboPattern::kDots && out.open > kTouchingDots) {
    g.error("open",
            g.place("open"),
            "out-of-range",
            fmt::format("found {}; dots touch at {}",
                        short_number(out.open, 6),
                        short_number(kTouchingDots, 6)),
            "use grid, or at most 0.785");
  }
}

void read_mask(TableReader& g, bool of_sun, GoboSpec& spec) {
  g.require("size");
  if (const auto size = g.numbers("size")) {
    spec.width = (*size)[0];
    spec.height = (*size)[1];
  }
  if (!g.has("at")) {
    g.missing("at",
              of_sun ? "its distance from the scene's origin towards the sun"
                     : "its distance from the light, along the axis");
  }
  spec.distance = g.number("at").value_or(1);
  // As on surfaces: the mask repeats within its size.
  if (const auto tile = g.numbers("tile")) {
    spec.tiles_x = static_cast<int>(std::llround((*tile)[0]));
    spec.tiles_y = static_cast<int>(std::llround((*tile)[1]));
    spec.width /= spec.tiles_x;
    spec.height /= spec.tiles_y;
  }
  spec.soft = g.number_or_standard("soft");
  spec.rotate = g.number_or_standard("rotate");
  spec.strength = g.number_or_standard("strength");
  spec.surround = of_sun ? GoboSurround::kRepeat : GoboSurround::kDark;
  if (const auto surround = g.word("surround")) {
    spec.surround = static_cast<GoboSurround>(*surround);
  }
}

// The work on a mask grows with the ratios of its lengths; beyond these it shows nothing more.
void check_proportions(TableReader& g, const GoboSpec& spec) {
  constexpr double kLongest = 1000, kSoftest = 2;
  const double longer = std::max(spec.width, spec.height),
               shorter = std::min(spec.width, spec.height);
  if (longer > kLongest * shorter) {
    g.error("size",
            g.place("size"),
            "out-of-range",
            fmt::format("one side is {} times the other; at most {} times",
                        short_number(longer / shorter, 3),
                        kLongest),
            fmt::format("write at least \"{} m\"", short_number(longer / kLongest, 3)));
  } else if (spec.soft > kSoftest * shorter) {
    g.error(
        "soft",
        g.place("soft"),
        "out-of-range",
        fmt::format("found {} m for a pattern of {} m; from twice that on nothing is left of it",
                    short_number(spec.soft, 3),
                    short_number(shorter, 3)),
        fmt::format("write at most \"{} m\", or leave the gobo out and use strength",
                    short_number(kSoftest * shorter, 3)));
  }
}

void read_gobo(TableReader& r, LightSpec& light) {
  const DocumentNode* gobo = r.table("gobo");
  if (gobo == nullptr) {
    return;
  }
  TableReader g = r.within("gobo", *gobo);
  GoboInRig out;
  out.place = gobo->place;
  const bool has_image = g.has("image");
  if (has_image == g.has("pattern")) {
    g.error("image",
            gobo->place,
            has_image ? "conflict" : "missing-key",
            has_image ? "image and pattern are both given"
                      : "is missing; expected image = \"file.png\", or pattern = " +
                            join_or(gobo_pattern_names()),
            has_image ? "leave one of them out" : "");
  }
  if (has_image) {
    out.image = g.file("image").value_or("");
  }
  if (const auto pattern = g.word("pattern")) {
    out.pattern = static_cast<GoboPattern>(*pattern);
    read_pattern(g, out);
  }
  read_mask(g, light.shape.kind == LightKind::kSun, out.spec);
  check_proportions(g, out.spec);
  g.finish("an image");
  light.gobo = std::move(out);
}

// The opening of barn doors is the light's own where it has a size; a point gets one of 20 cm.
void read_doors(TableReader& r, LightSpec& light) {
  const DocumentNode* node = r.table("barn_doors");
  if (node == nullptr) {
    return;
  }
  TableReader d = r.within("barn_doors", *node);
  BarnDoorsInRig out;
  out.place = node->place;
  BarnDoors& doors = out.doors;
  const SourceShape& s = light.shape;
  double width = s.kind == LightKind::kRect ? s.width : 2 * s.radius,
         height = s.kind == LightKind::kRect ? s.height : 2 * s.radius;
  if (const auto size = d.numbers("size")) {
    if ((*size)[0] < width || (*size)[1] < height) {
      d.error("size",
              d.place("size"),
              "out-of-range",
              "the opening is smaller than the light",
              "leave size out: it is the light's own then");
    }
    width = (*size)[0];
    height = (*size)[1];
  } else if (!(width > 0)) {
    constexpr double kOfPoint = 0.2;
    width = height = kOfPoint;
  }
  doors.half_width = static_cast<float>(width / 2);
  doors.half_height = static_cast<float>(height / 2);
  doors.length = static_cast<float>(d.number("length").value_or(std::min(width, height) / 2));
  static constexpr const char* kSides[] = {"left", "right", "top", "bottom"};
  for (std::size_t side = 0; side < 4; ++side) {
    doors.angle[side] = static_cast<float>(d.number_or_standard(kSides[side]));
  }
  d.finish();
  light.doors = std::move(out);
}

}  // namespace

void read_shaping(TableReader& r, LightSpec& light) {
  const LightKind kind = light.shape.kind;
  SourceShape& made = light.shape;
  const bool flat = kind == LightKind::kDisk || kind == LightKind::kRect;
  if (flat || kind == LightKind::kObject) {
    made.two_sided = r.flag_or_standard("two_sided");
  }
  if (flat || kind == LightKind::kSphere) {
    made.hot_center = r.number_or_standard("hot_center");
  }
  if (flat) {
    // Under a degree the integrals of the beam say less than its author means by a surface.
    if (const auto spread = r.number("spread")) {
      made.half_spread = *spread / 2;
    }
  }
  if (flat || kind == LightKind::kSphere || kind == LightKind::kPoint || kind == LightKind::kSpot) {
    read_profile(r, light);
  }
  if (flat || kind == LightKind::kSpot || kind == LightKind::kSun) {
    read_gobo(r, light);
  }
  if (kind == LightKind::kRect || kind == LightKind::kDisk || kind == LightKind::kSpot) {
    read_doors(r, light);
  }
}

}  // namespace jovilux
