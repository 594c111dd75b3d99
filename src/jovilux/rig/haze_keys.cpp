#include "jovilux/rig/schema.h"

namespace jovilux {
namespace {

TableDescription haze_keys() {
  TableDescription t{"haze", "haze, mist, smoke; what overlaps adds up, at most 16", "", {}, {}};
  t.keys = {
      key("name", "what errors call it, and its layer where it glows")
          .text()
          .over(OverTime::kNever)
          .shown("\"mist\"")
          .needed(),
      key("inside",
          "everywhere, or the solid or closed object that holds it; a file's own box "
          "holds it where this is left out")
          .text()
          .over(OverTime::kNever)
          .expects("\"everywhere\", or the name of a solid or closed object")
          .shown("\"everywhere\"")
          .called("zone, volume, bounds, region, container"),
      key("visibility", "meteorological: the distance at which a contrast of 5 % is left")
          .length(kPositive)
          .shown("\"60 m\"")
          .called("density, fog, distance"),
      key("extinction",
          "instead of visibility, how much light a meter takes out of a beam; of an "
          "uneven haze where its density is 1")
          .quantity(Dimension::kExtinction, kNotNegative)
          .shown("\"0.05 /m\"")
          .called("density, scattering, sigma, sigma_t"),
      key("albedo", "the share of the extinction that is scattered; the rest is absorbed")
          .other()
          .expects("a number from 0 to 1, or a color")
          .shown("[0.96, 0.95, 0.93]")
          .otherwise("0.95")
          .called("color, absorption, scattering, scatter_color"),
      key("anisotropy", "the mean cosine of scattering; 0: evenly, above 0: forward")
          .number({-0.95, 0.95})
          .shown("0.5")
          .otherwise("0")
          .called("asymmetry, g, phase, forward"),
      key("clumps", "unevenness; the mean is the density without it")
          .table()
          .expects("{ size = \"40 cm\", depth = 0.6, drift = [x, y, z], seed = 1 }")
          .shown("{ size = \"40 cm\", depth = 0.6 }")
          .called("noise, turbulence, detail"),
      key("scale_height", "thins by 1/e for each of this above height 0; as dense as said below it")
          .length(kPositive)
          .shown("\"1.2 m\"")
          .otherwise_text("none: it does not thin")
          .called("falloff_height, height_falloff, ground_fog"),
      key("emission", "the luminance that it adds each meter where its density is 1")
          .quantity(Dimension::kLuminance, kNotNegative)
          .shown("\"2 cd/m2\"")
          .otherwise("\"0 cd/m2\"")
          .called("glow, emissive"),
      key("file", "densities, times the extinction")
          .file({".vdb"})
          .shown("\"mist.vdb\"")
          .called("vdb, path, openvdb"),
      key("grid", "the name of the densities in the file")
          .text()
          .over(OverTime::kNever)
          .shown("\"density\"")
          .otherwise("\"density\"")
          .called("field, channel"),
      key("at", "of the file's origin")
          .position()
          .shown("[0, 0, 0.5]")
          .otherwise("[0, 0, 0]")
          .called("position, location"),
      key("rotate", "of the file, about x, y and z in that order")
          .list(3, Dimension::kAngle)
          .shown("[0, 0, 15]")
          .otherwise("[0, 0, 0]")
          .called("turn, rotation"),
      key("scale", "of the file: a factor, or one for each axis")
          .other()
          .expects("a number, or [x, y, z]")
          .shown("[1, 1, 2]")
          .otherwise("1")
          .called("size"),
  };
  return t;
}

TableDescription clumps_keys() {
  TableDescription t{"haze.clumps", "a haze's unevenness", "", {}, {}};
  t.keys = {
      key("size", "of the largest clumps")
          .length({1e-4, 1e5})
          .expects("a length such as \"40 cm\"")
          .shown("\"40 cm\"")
          .called("scale, frequency")
          .needed(),
      key("depth", "0 is even; 1 goes from nothing to twice the density")
          .number(kShare)
          .shown("0.6")
          .otherwise("0.5")
          .called("contrast, amount, strength"),
      key("drift", "how far it moves in a second; at time 0 it has not moved")
          .position()
          .shown("[0.1, 0, 0.02]")
          .otherwise("[0, 0, 0]")
          .called("wind, velocity, speed"),
      key("seed", "of its chance").whole(0, kMostSeed).shown("7").otherwise("1").called("random"),
  };
  return t;
}

}  // namespace

std::vector<TableDescription> haze_tables() { return {haze_keys(), clumps_keys()}; }

}  // namespace jovilux
