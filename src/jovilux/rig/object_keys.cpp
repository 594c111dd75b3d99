#include "jovilux/geometry/shapes.h"
#include "jovilux/geometry/solid.h"
#include "jovilux/rig/schema.h"

namespace jovilux {
namespace {

// What objects, solids and assemblies are placed by.
KeyDescription position(std::string_view means, std::string_view example) {
  return key("at", means)
      .position()
      .shown(example)
      .otherwise("[0, 0, 0]")
      .called("position, location, translate");
}
KeyDescription rotation() {
  return key("rotate", "about x, y and z in that order")
      .list(3, Dimension::kAngle)
      .shown("[0, 0, 15]")
      .otherwise("[0, 0, 0]")
      .called("turn, rotation, orientation");
}

TableDescription object_keys() {
  TableDescription t{"object", "a thing in the scene: a shape, a mesh or a solid", "", {}, {}};
  t.keys = {
      key("name", "what lights, addresses and lists call it")
          .text()
          .over(OverTime::kNever)
          .shown("\"bench\"")
          .needed(),
      key("shape", "its form, centered on its origin")
          .table()
          .expects("{ kind = ... }, mesh = \"file\" or solid = \"name\"")
          .shown("{ kind = \"box\", size = [2, 0.6, 0.05] }")
          .called("kind, type, size, radius, primitive, geometry"),
      key("mesh", "instead of a shape, a file; one that several objects name is kept once")
          .file({".obj", ".ply", ".gltf", ".glb"})
          .shown("\"pot.obj\"")
          .called("file, model, geometry"),
      key("solid", "instead of a shape, the name of a [[solid]]")
          .text()
          .over(OverTime::kNever)
          .shown("\"frame\"")
          .called("sdf, implicit"),
      key("mesh_length", "what the file's unit is")
          .word({"mm", "cm", "m", "km", "in", "ft"})
          .over(OverTime::kNever)
          .shown("\"cm\"")
          .otherwise_text("the scene's; of glTF m")
          .called("unit, units, scale"),
      key("mesh_up", "the axis of the file that points up")
          .word({"z", "y"})
          .over(OverTime::kNever)
          .shown("\"y\"")
          .otherwise_text("z; of glTF y")
          .called("up_axis"),
      position("its place", "[0, 0, 0.8]"),
      rotation(),
      key("scale", "a factor, or one for each axis")
          .other()
          .expects("a number, or [x, y, z]")
          .shown("[1, 1, 2]")
          .otherwise("1")
          .called("size"),
      key("material", "the name of a [[material]]")
          .text()
          .shown("\"cedar\"")
          .otherwise_text("diffuse, 0.5; of glTF the file's own")
          .called("shader, color, surface"),
      key("tags", "words by which lights' lists name several objects: tag:plants")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"plants\"]")
          .called("tag, group, set, layer"),
      key("seen_by_camera", "false: the camera looks through it; mirrors and light do not")
          .flag()
          .shown("false")
          .otherwise("true")
          .called("visible, hidden, hide, primary, visibility"),
      key("throws_shadow", "false: the direct light of all lamps passes it; it still reflects")
          .flag()
          .shown("false")
          .otherwise("true")
          .called("shadow, shadows, occlude, block"),
      key("receives_shadow",
          "false: the direct light of all lamps reaches it, whatever stands between; light after "
          "bounces is shadowed as ever")
          .flag()
          .shown("false")
          .otherwise("true")
          .called("receives, receive, receive_shadows"),
      key("catches_shadow",
          "true: it stands for a real surface; the command shadow tells what the other objects do "
          "to the light on it")
          .flag()
          .shown("true")
          .otherwise("false")
          .called("catcher, shadow_catcher, matte, holdout, stand_in"),
  };
  return t;
}

// Sizes of shapes; solids of the same kinds have them too.
std::vector<KeyDescription> sizes() {
  return {
      key("size", "the lengths of its sides")
          .list(3, Dimension::kLength, kPositive)
          .expects("[x, y, z]")
          .shown("[2, 0.6, 0.05]")
          .of({"box", "box-edges", "rounded-box", "formula"})
          .called("width, height, depth, dimensions"),
      key("size", "its sides, in z = 0; with y up, upright towards the south")
          .list(2, Dimension::kLength, kPositive)
          .expects("[width, height]")
          .shown("[1, 0.5]")
          .of({"rect"}),
      key("radius", "half of its diameter")
          .length(kPositive)
          .expects("a length such as \"11 cm\"")
          .shown("\"11 cm\"")
          .of({"sphere", "disk", "cylinder", "capsule"})
          .called("diameter, width"),
      key("radius", "of the bottom; the top is a point, or [bottom, top]")
          .other()
          .expects("a length such as \"11 cm\"")
          .shown("[\"20 cm\", \"8 cm\"]")
          .of({"cone"}),
      key("radius", "of the ring and of its tube, the larger first")
          .list(2, Dimension::kLength, kPositive)
          .expects("[ring, tube]")
          .shown("[\"50 cm\", \"10 cm\"]")
          .of({"torus"}),
      key("height", "along its axis")
          .length(kPositive)
          .expects("a length such as \"24 cm\"")
          .shown("\"24 cm\"")
          .of({"cylinder", "cone", "capsule"})
          .called("length"),
  };
}

TableDescription shape_keys() {
  TableDescription t{
      "object.shape", "an analytic shape, centered on the object's origin", "kind", {}, {}};
  t.keys = {
      key("kind",
          "the shape. plane is endless; plane, rect and disk lie level, cylinder, cone "
          "and torus stand along up")
          .word(shape_kind_names())
          .over(OverTime::kNever)
          .shown("\"box\"")
          .called("type, cube, quad, ball")
          .needed(),
  };
  t.add(sizes());
  t.add({key("open", "leaves out the caps")
             .flag()
             .shown("true")
             .otherwise("false")
             .of({"cylinder", "cone"})
             .called("caps, uncapped")});
  return t;
}

std::vector<KeyDescription> solids_of_solids() {
  return {
      key("of", "the solids that it is made of; of subtract the first, less the others")
          .texts()
          .over(OverTime::kNever)
          .expects("the names of at least two solids")
          .shown("[\"a\", \"b\"]")
          .of({"union", "subtract", "intersect"})
          .called("children, operands, solids"),
      key("of", "the solid that it is made of")
          .other()
          .over(OverTime::kNever)
          .expects("the name of a solid")
          .shown("\"a\"")
          .of({"repeat", "twist", "shell"}),
      key("blend", "how far the fillet between them reaches")
          .length(kNotNegative)
          .shown("\"4 cm\"")
          .otherwise("0")
          .of({"union", "subtract", "intersect"})
          .called("smooth, fillet, smooth_union"),
      key("spacing",
          "the distances between copies; 0: not along this axis. A copy must fit into "
          "its cell")
          .list(3, Dimension::kLength, kNotNegative)
          .expects("the distances between copies, [x, y, z]; 0 on axes without")
          .shown("[0.3, 0.3, 0]")
          .of({"repeat"})
          .called("every, distance, period"),
      key("count", "how many each way, centered; 0: without end")
          .other()
          .over(OverTime::kNever)
          .expects("three whole numbers [x, y, z]; 0 repeats without end")
          .shown("[3, 2, 0]")
          .otherwise("[0, 0, 0]")
          .of({"repeat"})
          .called("number, copies"),
      key("per_meter", "the angle about z of a meter along it")
          .angle()
          .expects("an angle such as \"90 deg\"")
          .shown("\"90 deg\"")
          .of({"twist"})
          .called("twist, angle"),
      key("thickness", "of the wall within the surface")
          .length(kPositive)
          .expects("a length such as \"2 cm\"")
          .shown("\"1 cm\"")
          .of({"shell"})
          .called("wall"),
      key("fractal", "which one")
          .word({"menger", "sierpinski", "julia"})
          .over(OverTime::kNever)
          .shown("\"menger\"")
          .of({"fractal"}),
      key("size", "of the cube that holds it")
          .length(kPositive)
          .expects("a length such as \"2 cm\"")
          .shown("\"60 cm\"")
          .of({"fractal"}),
      key("iterations", "how often it repeats itself")
          .whole(1, 20)
          .shown("3")
          .otherwise_text("8; of menger 4")
          .of({"fractal"})
          .called("depth, level"),
      key("constant", "the quaternion of a julia")
          .other()
          .expects("the four parts of a quaternion, each from -2 to 2")
          .shown("[-0.2, 0.6, 0.2, 0.1]")
          .of({"fractal"}),
      key("formula", "of x, y and z in meters and t in seconds: negative inside")
          .other()
          .over(OverTime::kNever)
          .expects("a formula such as \"sqrt(x^2+y^2+z^2)-0.3\"")
          .shown("\"sqrt(x^2+y^2+z^2)-0.3\"")
          .of({"formula"})
          .called("expression, sdf"),
      key("slope", "how much the formula rises in a meter at most")
          .number({1e-6, 1e6})
          .shown("1.5")
          .otherwise("1")
          .of({"formula"})
          .called("lipschitz, gradient"),
  };
}

TableDescription solid_keys() {
  TableDescription t{"solid",
                     "an implicit surface, traced by its distance. An object shows one; lights and "
                     "haze may be held in one without showing it",
                     "kind",
                     {},
                     {}};
  t.keys = {
      key("name", "what objects, lights, haze and other solids call it")
          .text()
          .over(OverTime::kNever)
          .shown("\"niche\"")
          .needed(),
      key("kind",
          "the form; it may be left out with a formula. box-edges: the edges of a box; "
          "capsule: height from tip to tip; rounded-box: rounding is the radius of its "
          "edges; shell: a wall within the surface")
          .word(solid_kind_names())
          .over(OverTime::kNever)
          .shown("\"box\"")
          .called("type, sdf, boolean, csg")
          .needed(),
  };
  t.add(sizes());
  t.add({
      key("open", "goes with shapes alone: a solid encloses a volume")
          .flag()
          .shown("false")
          .otherwise("false")
          .of({"cylinder", "cone"}),
      key("bar", "the thickness of the bars along the edges")
          .length(kPositive)
          .expects("a length such as \"2 cm\"")
          .shown("\"2 cm\"")
          .of({"box-edges"})
          .called("thickness, width"),
      key("rounding", "the radius of its edges")
          .length(kPositive)
          .expects("a length such as \"2 cm\"")
          .shown("\"2 cm\"")
          .of({"rounded-box"})
          .called("round, bevel, fillet, radius"),
  });
  t.add(solids_of_solids());
  t.add({position("its place", "[0, 0, 0.8]"), rotation()});
  return t;
}

TableDescription assembly_keys() {
  TableDescription t{"assembly",
                     "lights and objects that are placed, turned and scaled together, about the "
                     "assembly's own origin",
                     "",
                     {},
                     {}};
  t.keys = {
      key("name", "what addresses, arrays and other assemblies call it")
          .text()
          .over(OverTime::kNever)
          .shown("\"pendant\"")
          .needed(),
      key("members",
          "addresses of lights, objects, arrays and other assemblies; not needed where all of "
          "them are written inside")
          .texts()
          .over(OverTime::kNever)
          .shown("[\"light.bulb\", \"object.shade\"]")
          .called("children, of, parts"),
      key("light", "members written inside: [[assembly.light]] above the keys of each")
          .tables()
          .over(OverTime::kNever)
          .shown("[{ name = \"candle\", kind = \"point\", at = [0, 0, 0.1], output = \"12 lm\" }]"),
      key("object", "the same of objects")
          .tables()
          .over(OverTime::kNever)
          .shown("[{ name = \"saucer\", shape = { kind = \"disk\", radius = 0.06 } }]"),
      key("array", "the same of arrays")
          .tables()
          .over(OverTime::kNever)
          .shown("[{ name = \"bulbs\", of = \"bulb\", count = 2, output = \"total\", "
                 "along = { path = \"line\", from = [0, 0, 0], to = [1, 0, 0] } }]"),
      key("assembly", "the same of assemblies")
          .tables()
          .over(OverTime::kNever)
          .shown("[{ name = \"inner\", members = [\"light.bulb\"] }]"),
      position("where its origin stands", "[0, 0, 2.1]"),
      rotation(),
      key("scale",
          "a factor, or one for each axis where no light is a member; sizes of lights "
          "follow, their lumens stay")
          .other()
          .expects("a number, or [x, y, z]")
          .shown("1.5")
          .otherwise("1")
          .called("size"),
  };
  return t;
}

TableDescription array_keys() {
  TableDescription t{"array", "copies of a light or an object, in one layer", "", {}, {}};
  t.keys = {
      key("name", "what the copies are called: name[0], name[1]")
          .text()
          .over(OverTime::kNever)
          .shown("\"ridge-bulbs\"")
          .needed(),
      key("of", "the light, object or assembly that is copied; it no longer shows itself")
          .text()
          .over(OverTime::kNever)
          .expects("the name of the light, object or assembly to copy")
          .shown("\"bulb\"")
          .called("source, pattern, instance")
          .needed(),
      key("count", "how many")
          .whole(1, 100'000)
          .over(OverTime::kNever)
          .expects("how many copies")
          .shown("34")
          .called("number, copies, amount"),
      key("along", "where they stand; the pattern's own at is added")
          .table()
          .expects("{ path = \"line\" | \"circle\" | \"helix\" | \"grid\" | \"points\", ... }")
          .shown("{ path = \"line\", from = [-2, 0, 2.9], to = [2, 0, 2.9] }")
          .called("path, distribute, layout")
          .needed(),
      key("output", "total: the light's output is divided among the copies; each: multiplied")
          .word({"total", "each"})
          .over(OverTime::kNever)
          .expects("\"total\" (the light's output is divided among the copies) or \"each\"")
          .shown("\"total\"")
          .called("intensity, divide, brightness"),
      key("copy", "keys of single copies by number, as light.NAME[3].dimmer sets them")
          .table()
          .shown("{ 1 = { dimmer = 0.5 } }")
          .called("override, single"),
  };
  return t;
}

TableDescription path_keys() {
  TableDescription t{"array.along", "where copies stand", "path", {}, {}};
  t.keys = {
      key("path",
          "line and helix: in the middles of count equal parts; circle: evenly round; "
          "grid: centered on at; points: there")
          .word({"line", "circle", "helix", "grid", "points"})
          .over(OverTime::kNever)
          .expects("line, circle, helix, grid or points")
          .shown("\"line\"")
          .called("type, kind, mode")
          .needed(),
      key("from", "its start")
          .position()
          .expects("a position [x, y, z]")
          .shown("[-2, 0, 2.9]")
          .of({"line"})
          .called("start"),
      key("to", "its end")
          .position()
          .expects("a position [x, y, z]")
          .shown("[2, 0, 2.9]")
          .of({"line"})
          .called("end"),
      key("at", "its center; of a helix its start")
          .position()
          .shown("[0, 0, 1]")
          .otherwise("[0, 0, 0]")
          .of({"circle", "helix", "grid"})
          .called("center, position"),
      key("axis", "about which it goes")
          .direction()
          .shown("[0, 1, 0]")
          .otherwise_text("up")
          .of({"circle", "helix"}),
      key("radius", "of a turn")
          .length(kPositive)
          .expects("a length such as \"9 cm\"")
          .shown("\"9 cm\"")
          .of({"circle", "helix"}),
      key("pitch", "the rise of a turn")
          .length(kNotNegative)
          .expects("the rise of a turn, such as \"6 cm\"")
          .shown("\"6 cm\"")
          .of({"helix"})
          .called("rise, height"),
      key("turns", "how many")
          .number(kPositive)
          .expects("a number")
          .shown("3.5")
          .of({"helix"})
          .called("revolutions, loops"),
      key("spacing", "the distances between copies")
          .list(3, Dimension::kLength, {-1e7, 1e7})
          .expects("[x, y, z], the distances between copies")
          .shown("[0.3, 0.3, 0]")
          .of({"grid"})
          .called("every, distance, step"),
      key("cells", "how many each way")
          .list(3, Dimension::kPercent, {1, 1000})
          .over(OverTime::kNever)
          .expects("[x, y, z], how many copies each way")
          .shown("[2, 2, 1]")
          .of({"grid"})
          .called("count, number"),
      key("points", "a place for each copy")
          .other()
          .expects("[[x, y, z], ...]")
          .shown("[[0, 0, 1], [1, 0, 1]]")
          .of({"points"})
          .called("positions, places"),
  };
  return t;
}

}  // namespace

std::vector<TableDescription> object_tables() {
  return {object_keys(), shape_keys(), solid_keys(), assembly_keys(), array_keys(), path_keys()};
}

}  // namespace jovilux
