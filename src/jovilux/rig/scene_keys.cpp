#include "jovilux/rig/schema.h"
#include "jovilux/units/quantity.h"

namespace jovilux {
namespace {

TableDescription top_keys() {
  TableDescription t{"", "the rig", "", {}, {}};
  t.keys = {
      key("jovilux", "the format's version, required at the top")
          .whole(1, 1)
          .over(OverTime::kNever)
          .expects("the format version")
          .shown("1")
          .called("version, format")
          .needed(),
      key("include",
          "files that are read before this one, relative to it: lists of tables are "
          "joined, the included ones first; all else the including file replaces")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"set.toml\"]")
          .called("import, use, source"),
      key("scene", "units, up, place on earth")
          .table()
          .expects("a [scene] table")
          .called("world, units"),
      key("render", "size, samples, bounces")
          .table()
          .expects("a [render] table")
          .called("settings, output"),
      key("look", "how view.png is made").table().expects("a [look] table").called("tone, view"),
      key("time", "frames").table().expects("a [time] table").called("animation, frames"),
      key("camera", "a camera").tables().called("cameras, view"),
      key("light", "a light").tables().called("lights, lamp"),
      key("array", "copies of a light or object").tables().called("copies, instances, duplicate"),
      key("assembly", "lights and objects that move together")
          .tables()
          .called("groups, parent, rig, fixture, null, prefab"),
      key("gel", "a filter").tables().called("gels, filter"),
      key("object", "an object").tables().called("objects, mesh, geometry"),
      key("solid", "an implicit surface").tables().called("solids, sdf, implicit"),
      key("material", "a material").tables().called("materials, shader"),
      key("haze", "haze, mist, smoke, dust")
          .tables()
          .called("fog, volume, atmosphere, mist, smoke, dust, density, god_rays, light_shafts"),
      key("meter", "a meter").tables().called("meters, probe, sensor, lux_meter"),
      key("variant", "a set of changes by name").tables().called("variants, option, take"),
  };
  return t;
}

TableDescription scene_keys() {
  TableDescription t{"scene", "units, up, the place on earth", "", {}, {}};
  t.keys = {
      key("title", "what reports and pictures call it")
          .text()
          .over(OverTime::kNever)
          .shown("\"Orchid house before sunrise\"")
          .otherwise("\"\""),
      key("length", "what bare lengths mean")
          .word({"mm", "cm", "m", "km", "in", "ft"})
          .over(OverTime::kNever)
          .shown("\"cm\"")
          .otherwise("\"m\"")
          .called("units, unit, scale"),
      key("up", "the axis that points up. North is +y (with y up, -z), east is +x")
          .word({"z", "y"})
          .over(OverTime::kNever)
          .shown("\"y\"")
          .otherwise("\"z\"")
          .called("up_axis, north, axis"),
      key("site", "the place on earth and the time, for sun and sky")
          .table()
          .expects("{ latitude, longitude, time }")
          .shown("{ latitude = 52.1, longitude = -9.5, time = \"2026-11-23T07:40:00+00:00\" }")
          .called("location, place, date"),
  };
  return t;
}

TableDescription site_keys() {
  TableDescription t{"scene.site", "the place on earth and the time, for sun and sky", "", {}, {}};
  t.keys = {
      key("latitude", "north positive")
          .angle({-kPiD / 2, kPiD / 2})
          .expects("degrees, north and east positive")
          .shown("52.1")
          .needed(),
      key("longitude", "east positive")
          .angle({-kPiD, kPiD})
          .expects("degrees, north and east positive")
          .shown("-9.5")
          .needed(),
      key("time", "date, time and their distance from UTC")
          .text()
          .over(OverTime::kNever)
          .expects("a date and time such as \"2026-11-23T07:40:00+00:00\"")
          .shown("\"2026-11-23T07:40:00+00:00\"")
          .called("date, clock"),
  };
  return t;
}

TableDescription render_keys() {
  TableDescription t{"render", "how the picture is rendered", "", {}, {}};
  t.keys = {
      key("size", "of the picture in pixels")
          .other()
          .over(OverTime::kNever)
          .expects("[width, height] in pixels, each a whole number from 1 to 32768")
          .shown("[640, 360]")
          .otherwise("[960, 540]")
          .called("resolution, width, height"),
      key("samples", "per pixel; with noise, at most")
          .whole(1, 1 << 20)
          .over(OverTime::kNever)
          .shown("256")
          .otherwise_text("64; with noise 65536")
          .called("spp, quality, subdivs"),
      key("noise", "the render stops when 95 % of the pixels are this clean")
          .number({1e-5, 1})
          .over(OverTime::kNever)
          .shown("\"2 %\"")
          .otherwise_text("none")
          .called("quality, threshold, grain"),
      key("bounces", "scatterings after the camera; 1 is direct light only")
          .whole(0, 1000)
          .over(OverTime::kNever)
          .shown("8")
          .otherwise("6")
          .called("depth, max_bounces, gi"),
      key("haze_bounces", "the same of scatterings in haze alone")
          .whole(0, 1000)
          .over(OverTime::kNever)
          .shown("6")
          .otherwise_text("as many as bounces")
          .called("volume_bounces"),
      key("denoise", "also writes the denoised picture and its error")
          .flag()
          .over(OverTime::kNever)
          .shown("true")
          .otherwise("false")
          .called("denoiser, clean, smooth"),
      key("guiding", "learns before the picture which light arrives where; paths go by that")
          .flag()
          .over(OverTime::kNever)
          .shown("false")
          .otherwise("true")
          .called("path_guiding"),
      key("light_tracing",
          "traces caustics from the lights as well: by mirrors, glass and narrow gloss")
          .flag()
          .over(OverTime::kNever)
          .shown("false")
          .otherwise("true")
          .called("light_paths, caustics, photons, bidirectional"),
      key("seed", "of the noise; frames have seeds of their own where it is not given")
          .whole(0, kMostSeed)
          .over(OverTime::kNever)
          .shown("7")
          .otherwise("1")
          .called("random"),
      key("time", "the moment that the picture shows: keys, t of formulas, the drift of clumps")
          .quantity(Dimension::kTime, {-1e6, 1e6})
          .over(OverTime::kNever)
          .shown("\"0.5 s\"")
          .otherwise("0")
          .called("frame, moment"),
      key("camera", "which camera is rendered")
          .text()
          .over(OverTime::kNever)
          .expects("the name of a camera")
          .shown("\"wide\"")
          .otherwise_text("the first"),
      key("layers", "which layers image.exr keeps; a group's lights share one")
          .word({"none", "lights", "lights+parts", "groups"})
          .over(OverTime::kNever)
          .shown("\"lights+parts\"")
          .otherwise("\"lights\"")
          .called("passes, light_groups"),
      key("march", "how marched solids are met")
          .table()
          .expects("{ tolerance = \"0.2 mm\", max_steps = 512 }")
          .shown("{ tolerance = \"0.5 mm\", max_steps = 300 }")
          .called("ray_marching, steps"),
  };
  return t;
}

TableDescription march_keys() {
  TableDescription t{"render.march",
                     "how marched solids are met: nothing thinner than the tolerance is sure to be "
                     "met; a ray that runs out of steps ends where it is, and stats.json counts "
                     "them",
                     "",
                     {},
                     {}};
  t.keys = {
      key("tolerance", "how near counts as met")
          .length({1e-8, 1})
          .over(OverTime::kNever)
          .shown("\"0.5 mm\"")
          .otherwise("\"0.2 mm\"")
          .called("epsilon, threshold, precision"),
      key("max_steps", "of a ray")
          .whole(8, 1 << 20)
          .over(OverTime::kNever)
          .shown("300")
          .otherwise("512")
          .called("iterations, steps"),
  };
  return t;
}

TableDescription time_keys() {
  TableDescription t{"time", "frames, for animate and render --frame", "", {}, {}};
  t.keys = {
      key("frames", "the first and the last")
          .other()
          .over(OverTime::kNever)
          .expects("[first, last]")
          .shown("[1, 48]")
          .called("range, start, end, length")
          .needed(),
      key("rate", "frames a second")
          .number({1e-3, 1e5})
          .over(OverTime::kNever)
          .shown("25")
          .otherwise("24")
          .called("fps, frame_rate"),
      key("start", "the moment of the first frame")
          .quantity(Dimension::kTime, {-1e6, 1e6})
          .over(OverTime::kNever)
          .shown("\"1 s\"")
          .otherwise("0"),
      key("shutter", "the share of a frame for which the shutter is open, half before its moment")
          .number(kShare)
          .over(OverTime::kNever)
          .shown("0.25")
          .otherwise("0.5")
          .called("motion_blur"),
      key("clock_speed", "seconds of the site's clock in each second: 1800 for a sunrise")
          .number({-1e6, 1e6})
          .over(OverTime::kNever)
          .shown("1800")
          .otherwise("1"),
  };
  return t;
}

TableDescription variant_keys() {
  TableDescription t{"variant", "changes by name, for --variant", "", {}, {}};
  t.keys = {
      key("name", "what --variant calls it")
          .text()
          .over(OverTime::kNever)
          .shown("\"work-light\"")
          .needed(),
      key("set", "values by address")
          .table()
          .expects("{ \"ADDRESS\" = value, ... }")
          .shown("{ \"render.samples\" = 16 }")
          .called("override, values"),
      key("camera", "the camera that it is seen from; it becomes [render] camera")
          .text()
          .over(OverTime::kNever)
          .shown("\"bench\"")
          .called("view, shot"),
  };
  return t;
}

TableDescription keyed_keys() {
  TableDescription t{"keyed", "a value over time, wherever a value may change", "", {}, {}};
  t.keys = {
      key("keys", "times and values, times increasing")
          .other()
          .over(OverTime::kNever)
          .expects("[[time, value], ...], such as [[\"0 s\", 0], [\"2 s\", 1]]")
          .shown("[[\"0 s\", 0], [\"2 s\", 1]]")
          .called("keyframes, animation, curve"),
      key("ease", "between two keys: straight, slow at both, or not at all")
          .word({"linear", "smooth", "hold"})
          .over(OverTime::kNever)
          .shown("\"smooth\"")
          .otherwise("\"linear\"")
          .called("interpolation, easing"),
  };
  return t;
}

}  // namespace

std::vector<TableDescription> scene_tables() {
  return {top_keys(),
          scene_keys(),
          site_keys(),
          render_keys(),
          march_keys(),
          time_keys(),
          variant_keys(),
          keyed_keys()};
}

}  // namespace jovilux
