#include "jovilux/base/vec.h"
#include "jovilux/rig/schema.h"
#include "jovilux/units/quantity.h"

namespace jovilux {
namespace {

TableDescription camera_keys() {
  TableDescription t{"camera", "a camera", "", {}, {}};
  t.keys = {
      key("name", "what --camera calls it")
          .text()
          .over(OverTime::kNever)
          .shown("\"wide\"")
          .needed(),
      key("at", "its place")
          .position()
          .expects("a position [x, y, z]")
          .shown("[3.2, -4.1, 1.7]")
          .called("position, location, translate, eye, from")
          .needed(),
      key("look_at", "the point that it looks at")
          .position()
          .expects("the point that it looks at")
          .shown("[0, 0, 0.9]")
          .called("target, aim, rotation, direction, interest")
          .needed(),
      key("lens", "its focal length; with sensor it sets the angle of view")
          .length({1e-4, 10})
          .expects("a length with its unit, such as \"28 mm\"")
          .with_unit()
          .shown("\"28 mm\"")
          .called("focal_length, zoom"),
      key("sensor", "the width of its sensor")
          .length({1e-4, 10})
          .expects("a length with its unit, such as \"36 mm\"")
          .with_unit()
          .shown("\"24 mm\"")
          .otherwise("\"36 mm\"")
          .called("film_back, aperture_width, filmback"),
      key("field_of_view", "instead of lens, the horizontal angle of view")
          .angle({0.001 * kDegree, 170 * kDegree})
          .shown("\"60 deg\"")
          .otherwise("\"50 deg\"")
          .called("view, fov, angle, angle_of_view"),
      key("stop", "f-number")
          .number({0.1, 1000})
          .shown("8")
          .otherwise("4")
          .called("fstop, f_stop, aperture, iris"),
      key("shutter", "for how long it is open, for its exposure")
          .quantity(Dimension::kTime, {1e-7, 1e6})
          .shown("\"1/30 s\"")
          .otherwise("\"1/60 s\"")
          .called("shutter_speed, exposure_time"),
      key("iso", "the sensor's speed")
          .number({0.1, 1e7})
          .shown("400")
          .otherwise("100")
          .called("sensitivity, gain"),
      key("focus",
          "the distance in focus, for a depth of field by the stop; without it everything "
          "is sharp")
          .length(kPositive)
          .shown("\"4.2 m\"")
          .otherwise_text("everything sharp")
          .called("focus_distance, dof, depth_of_field, blur"),
  };
  return t;
}

TableDescription look_keys() {
  TableDescription t{"look", "how view.png is made; image.exr stays absolute", "", {}, {}};
  t.keys = {
      key("exposure",
          "auto: by the picture, lamps left out, and some stops brighter or darker; camera: by "
          "stop, shutter and iso; or a fixed one, at ISO 100")
          .other()
          .over(OverTime::kBlended)
          .expects("\"camera\", \"auto\", \"auto+1\" or \"EV n\" (-40 to 40)")
          .shown("\"EV 9\"")
          .otherwise("\"auto\"")
          .called("ev, brightness"),
      key("white_balance", "the white that shall look white")
          .other()
          .expects(
              "\"3200 K\" (1000 to 100000), \"D6504\", \"daylight 5600 K\" or \"auto\", that of "
              "the light on what is seen")
          .shown("\"3200 K\"")
          .otherwise_text("D65")
          .called("temperature, white, wb, kelvin"),
      key("curve", "film has a shoulder and a toe, linear clips")
          .word({"film", "linear"})
          .shown("\"linear\"")
          .otherwise("\"film\"")
          .called("tone, tonemap, tone_mapping"),
      key("transform",
          "instead of curve, a view of a studio's own OpenColorIO configuration, in pictures, "
          "pages and clips; an optional part of the program")
          .table()
          .expects("{ config = \"file.ocio\", display = \"...\", view = \"...\" }")
          .shown("{ config = \"studio.ocio\" }")
          .called("ocio, opencolorio, lut, display, view, color_management"),
      key("bloom", "the share of light that the lens spreads: halos round lamps, in the view only")
          .number({0, 0.9})
          .shown("0.02")
          .otherwise("0")
          .called("glare, glow, halo"),
  };
  return t;
}

TableDescription transform_keys() {
  TableDescription t{"look.transform", "a view transform of a studio's own", "", {}, {}};
  t.keys = {
      key("config", "the configuration")
          .file({".ocio"})
          .over(OverTime::kNever)
          .shown("\"studio.ocio\"")
          .needed(),
      key("display", "one of its displays")
          .text()
          .over(OverTime::kNever)
          .shown("\"sRGB\"")
          .otherwise_text("its first"),
      key("view", "a view of that display")
          .text()
          .over(OverTime::kNever)
          .shown("\"Film\"")
          .otherwise_text("the display's first"),
      key("look", "one of its looks, instead of those of the view")
          .text()
          .over(OverTime::kNever)
          .shown("\"warm\"")
          .otherwise_text("the view's"),
      key("input", "its color space that is linear with Rec.709's primaries and a white of D65")
          .text()
          .over(OverTime::kNever)
          .shown("\"lin_rec709\"")
          .otherwise_text("by its role aces_interchange"),
  };
  return t;
}

TableDescription meter_keys() {
  TableDescription t{"meter", "measures light at a place", "kind", {}, {}};
  t.keys = {
      key("name", "what reports and targets call it")
          .text()
          .over(OverTime::kNever)
          .shown("\"bench-level\"")
          .needed(),
      key("kind", "lx on a small plane, or cd/m2 of what it is pointed at")
          .word({"illuminance", "luminance"})
          .over(OverTime::kNever)
          .shown("\"illuminance\"")
          .called("type, lux, unit")
          .needed(),
      key("at", "its place")
          .position()
          .expects("a position [x, y, z], or grid = { from, to, count }")
          .shown("[0, 0, 0.83]")
          .called("position, location"),
      key("camera", "instead of at, the camera from whose place it measures")
          .text()
          .over(OverTime::kNever)
          .shown("\"wide\"")
          .of({"luminance"})
          .called("from, viewpoint, eye"),
      key("on", "the object that it lies on: lights that are not linked to it bring nothing")
          .text()
          .over(OverTime::kNever)
          .shown("\"bench\"")
          .of({"illuminance"})
          .called("object, surface, link"),
      key("facing", "the way it looks")
          .direction()
          .shown("[0, 1, 0]")
          .otherwise_text("up")
          .called("normal, toward, direction"),
      key("aim", "instead of facing, a point that it looks at")
          .position()
          .shown("[0, 1, 0.5]")
          .called("target, look_at"),
      key("field", "the full angle that it averages over")
          .angle({1e-5, kPiD})
          .shown("\"2 deg\"")
          .otherwise("\"1 deg\"")
          .of({"luminance"})
          .called("angle, acceptance, spot"),
      key("target", "the lowest and the highest value that will do")
          .other()
          .over(OverTime::kStepped)
          .expects("[\"450 lx\", \"550 lx\"]")
          .shown("[\"450 lx\", \"550 lx\"]")
          .of({"illuminance"})
          .called("goal, range, limit"),
      key("target", "the lowest and the highest value that will do")
          .other()
          .over(OverTime::kStepped)
          .expects("[\"80 cd/m2\", \"120 cd/m2\"]")
          .shown("[\"80 cd/m2\", \"120 cd/m2\"]")
          .of({"luminance"}),
      key("grid", "instead of at, many places: averages and uniformity")
          .table()
          .expects("{ from = [x, y, z], to = [x, y, z], count = [8, 5] }")
          .shown("{ from = [-1, -0.5, 0.83], to = [1, 0.5, 0.83], count = [3, 2] }")
          .called("uniformity, area, plane"),
  };
  return t;
}

TableDescription grid_keys() {
  TableDescription t{"meter.grid", "a meter's places, corners included", "", {}, {}};
  t.keys = {
      key("from", "a corner")
          .position()
          .expects("a corner [x, y, z]")
          .shown("[-1, -0.5, 0.83]")
          .needed(),
      key("to", "the corner across")
          .position()
          .expects("a corner [x, y, z]")
          .shown("[1, 0.5, 0.83]")
          .needed(),
      key("count", "along the first and the second axis in which the corners differ")
          .other()
          .over(OverTime::kNever)
          .expects("two whole numbers from 1 to 200, such as [8, 5]")
          .shown("[3, 2]")
          .called("resolution, number")
          .needed(),
  };
  return t;
}

}  // namespace

std::vector<TableDescription> picture_tables() {
  return {camera_keys(), look_keys(), transform_keys(), meter_keys(), grid_keys()};
}

}  // namespace jovilux
