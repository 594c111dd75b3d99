#include "jovilux/rig/read_solid.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/read_light.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_height(TableReader& r, Shape& s) {
  r.require("height");
  s.c = r.number("height").value_or(1) / 2;
  s.open = r.flag_or_standard("open");
}

// One radius, to a point, or [bottom, top].
void read_cone(TableReader& r, Shape& s) {
  r.require("radius");
  const DocumentNode* node = r.find("radius");
  s.a = 1;
  s.b = 0;
  if (node == nullptr) {
    return;
  }
  if (!node->is_array()) {
    s.a = r.amount_of(*node, "radius", Dimension::kLength, kPositive).value_or(1);
    return;
  }
  const auto radii = r.amounts_of(*node, "radius", Dimension::kLength, 2, kNotNegative);
  s.a = radii ? (*radii)[0] : 1;
  s.b = radii ? (*radii)[1] : 0;
  if (s.a + s.b <= 0) {
    r.error("radius",
            node->place,
            "out-of-range",
            "both radii are 0",
            "write [bottom, top], one of them above 0");
  }
}

void read_torus(TableReader& r, Shape& s) {
  r.require("radius");
  if (const auto radii = r.numbers("radius")) {
    s.a = (*radii)[0];
    s.b = (*radii)[1];
    if (s.b > s.a) {
      r.error("radius",
              r.place("radius"),
              "out-of-range",
              "the tube is thicker than the ring",
              "write [ring, tube], the larger first");
    }
  }
}

}  // namespace

Shape read_shape(TableReader& r, std::size_t kind) {
  Shape s;
  s.kind = *parse_shape_kind(shape_kind_names()[kind]);
  r.set_kind(shape_kind_names()[kind]);
  const auto radius = [&] {
    r.require("radius");
    return r.number("radius").value_or(1);
  };
  switch (s.kind) {
    case ShapeKind::kBox:
      r.require("size");
      if (const auto size = r.vector("size")) {
        s.a = size->x() / 2;
        s.b = size->y() / 2;
        s.c = size->z() / 2;
      }
      break;
    case ShapeKind::kRect:
      r.require("size");
      if (const auto size = r.numbers("size")) {
        s.a = (*size)[0] / 2;
        s.b = (*size)[1] / 2;
      }
      break;
    case ShapeKind::kSphere:
    case ShapeKind::kDisk:
      s.a = radius();
      break;
    case ShapeKind::kPlane:
      break;
    case ShapeKind::kCylinder:
      s.a = radius();
      s.b = 0;
      read_height(r, s);
      break;
    case ShapeKind::kCone:
      read_cone(r, s);
      read_height(r, s);
      break;
    case ShapeKind::kTorus:
      read_torus(r, s);
      break;
  }
  return s;
}

namespace {

// The closed shape that a solid is the same as.
std::optional<Shape> shape_like(const SolidNode& n) {
  Shape s;
  s.a = n.a;
  s.b = n.b;
  s.c = n.c;
  switch (n.kind) {
    case SolidKind::kSphere:
      s.kind = ShapeKind::kSphere;
      return s;
    case SolidKind::kBox:
      s.kind = ShapeKind::kBox;
      return s;
    case SolidKind::kPlane:
      s.kind = ShapeKind::kPlane;
      return s;
    case SolidKind::kTorus:
      s.kind = ShapeKind::kTorus;
      return s;
    case SolidKind::kCylinder:
      s.kind = ShapeKind::kCylinder;
      return s;
    case SolidKind::kCone:
      s.kind = ShapeKind::kCone;
      return s;
    default:
      return std::nullopt;
  }
}

// [x, y, z] as half extents.
void read_size(TableReader& r, SolidNode& n) {
  r.require("size");
  if (const auto size = r.vector("size")) {
    n.a = size->x() / 2;
    n.b = size->y() / 2;
    n.c = size->z() / 2;
  }
}

double read_length(TableReader& r, std::string_view key, double otherwise) {
  r.require(key);
  return r.number(key).value_or(otherwise);
}

void read_children(TableReader& r, SolidDraft& draft, bool several) {
  const DocumentNode* of = r.find("of");
  draft.of_place = r.place("of");
  if (of == nullptr) {
    r.missing("of");
  } else if (of->is_text() && !several) {
    draft.of = {of->text()};
  } else if (const auto names = r.texts("of")) {
    draft.of = *names;
    if (several ? names->size() < 2 : names->size() != 1) {
      r.error("of", of->place, "out-of-range", fmt::format("expected {}", r.forms("of")));
    }
  }
}

void read_repeat(TableReader& r, SolidNode& n) {
  r.require("spacing");
  if (const auto spacing = r.vector("spacing")) {
    n.spacing = *spacing;
    if (n.spacing.isZero()) {
      r.error("spacing",
              r.place("spacing"),
              "out-of-range",
              "all three distances are 0: nothing repeats");
    }
  }
  const DocumentNode* count = r.find("count");
  if (count == nullptr) {
    return;
  }
  constexpr std::int64_t kMostPerAxis = 1'000'000;
  if (const auto wholes = TableReader::wholes_of(*count, 3, 0, kMostPerAxis)) {
    for (std::size_t i = 0; i < 3; ++i) {
      n.count[i] = static_cast<int>((*wholes)[i]);
    }
  } else {
    r.error("count", count->place, "out-of-range", fmt::format("expected {}", r.forms("count")));
  }
}

void read_fractal(TableReader& r, SolidNode& n) {
  r.require("fractal");
  n.fractal = static_cast<FractalKind>(r.word("fractal").value_or(0));
  n.a = n.b = n.c = read_length(r, "size", 1) / 2;
  const int usual = n.fractal == FractalKind::kMenger ? 4 : 8;
  n.iterations = static_cast<int>(r.whole("iterations").value_or(usual));
  if (n.fractal != FractalKind::kJulia) {
    return;
  }
  const DocumentNode* constant = r.find("constant");
  if (constant == nullptr) {
    return;
  }
  bool good = constant->is_array() && constant->array().size() == 4;
  for (std::size_t i = 0; good && i < 4; ++i) {
    good = constant->array()[i].is_number() && std::abs(constant->array()[i].number()) <= 2;
    n.constant[i] = good ? constant->array()[i].number() : 0;
  }
  if (!good) {
    r.error("constant",
            constant->place,
            "out-of-range",
            fmt::format("expected {}", r.forms("constant")));
  }
}

void read_formula_solid(TableReader& r, SolidNode& n) {
  n.formula = r.formula("formula", {"x", "y", "z", "t"});
  n.slope = r.number_or_standard("slope");
  n.a = 0;
  if (r.has("size")) {
    read_size(r, n);
  }
}

void read_box_edges(TableReader& r, SolidNode& n) {
  read_size(r, n);
  n.d = read_length(r, "bar", 0.1);
  if (n.d > 2 * std::min({n.a, n.b, n.c})) {
    r.error("bar", r.place("bar"), "out-of-range", "the bars are thicker than the frame");
  }
}

void read_capsule(TableReader& r, SolidNode& n) {
  n.a = read_length(r, "radius", 0.1);
  n.c = read_length(r, "height", 1) / 2;
  if (n.c < n.a && r.has("height")) {
    r.error("height",
            r.place("height"),
            "out-of-range",
            "is less than twice the radius: the round ends would overlap",
            "use a sphere");
  }
}

void read_rounded_box(TableReader& r, SolidNode& n) {
  read_size(r, n);
  n.d = read_length(r, "rounding", 0.1);
  if (n.d > std::min({n.a, n.b, n.c})) {
    r.error(
        "rounding", r.place("rounding"), "out-of-range", "is more than half of the shortest side");
  }
}

// Of the same form as an analytic shape, and closed.
void read_shape_solid(TableReader& r, std::string_view kind, SolidNode& n) {
  const std::vector<std::string> names = shape_kind_names();
  const auto found = std::find(names.begin(), names.end(), kind);
  const Shape s = read_shape(r, static_cast<std::size_t>(found - names.begin()));
  n.a = s.a;
  n.b = s.b;
  n.c = s.c;
  if (s.open) {
    r.error("open",
            r.place("open"),
            "conflict",
            "a solid encloses a volume; it cannot be open",
            "use shell with a thickness");
  }
}

void read_form(TableReader& r, SolidDraft& draft) {
  SolidNode& n = draft.solid.node;
  switch (n.kind) {
    case SolidKind::kSphere:
    case SolidKind::kBox:
    case SolidKind::kPlane:
    case SolidKind::kTorus:
    case SolidKind::kCylinder:
    case SolidKind::kCone:
      read_shape_solid(r, to_string(n.kind), n);
      break;
    case SolidKind::kFrame:
      read_box_edges(r, n);
      break;
    case SolidKind::kCapsule:
      read_capsule(r, n);
      break;
    case SolidKind::kRoundBox:
      read_rounded_box(r, n);
      break;
    case SolidKind::kUnion:
    case SolidKind::kSubtract:
    case SolidKind::kIntersect:
      read_children(r, draft, true);
      n.blend = r.number_or_standard("blend");
      break;
    case SolidKind::kRepeat:
      read_children(r, draft, false);
      read_repeat(r, n);
      break;
    case SolidKind::kTwist:
      read_children(r, draft, false);
      r.require("per_meter");
      n.d = r.number("per_meter").value_or(0);
      break;
    case SolidKind::kShell:
      read_children(r, draft, false);
      n.d = read_length(r, "thickness", 0.01);
      break;
    case SolidKind::kFractal:
      read_fractal(r, n);
      break;
    case SolidKind::kFormula:
      read_formula_solid(r, n);
      break;
  }
}

// Whether z is the axis or the normal of a form, which follows the scene's up.
bool has_axis(SolidKind kind) {
  return kind == SolidKind::kSphere || kind == SolidKind::kPlane || kind == SolidKind::kTorus ||
         kind == SolidKind::kCylinder || kind == SolidKind::kCone || kind == SolidKind::kCapsule;
}

}  // namespace

std::optional<SolidDraft> read_solid(TableReader& r, const std::string& name, const Rig& rig) {
  SolidDraft draft;
  SolidNode& n = draft.solid.node;
  draft.solid.name = name;
  draft.solid.place = r.node().place;
  const std::size_t before = r.problems().size();
  std::optional<std::size_t> kind;
  if (!r.has("kind") && r.has("formula")) {
    kind = static_cast<std::size_t>(SolidKind::kFormula);
  } else if (!(kind = r.word("kind")) && !r.has("kind")) {
    r.missing("kind", r.forms("kind") + "; or a formula");
  }
  if (!kind) {
    return std::nullopt;
  }
  n.kind = static_cast<SolidKind>(*kind);
  r.set_kind(to_string(n.kind));
  read_form(r, draft);
  n.place = placement(r.vector_or_standard("at"), r.vector_or_standard("rotate"), Vec3d::Ones());
  if (rig.up == Vec3d::UnitY() && has_axis(n.kind)) {
    n.place.linear = n.place.linear * up_from_z();
  }
  r.finish(fmt::format("a {}", to_string(n.kind)));
  if (r.problems().size() != before) {
    return std::nullopt;
  }
  draft.solid.shape = shape_like(n);
  return draft;
}

namespace {

Problem solid_fault(const SolidDraft& draft,
                    const Place& place,
                    const char* key,
                    std::string code,
                    std::string text,
                    std::string hint = "") {
  return {Severity::kError,
          std::move(code),
          place,
          "solid." + draft.solid.name + key,
          std::move(text),
          std::move(hint)};
}

// Puts numbers in the place of the names of what solids are made of; false where one is unknown.
bool number_children(std::vector<SolidDraft>& drafts,
                     const std::vector<std::string>& names,
                     Problems& problems) {
  bool all_known = true;
  for (SolidDraft& d : drafts) {
    for (const std::string& child : d.of) {
      const auto found = std::find(names.begin(), names.end(), child);
      if (found == names.end()) {
        problems.push_back(solid_fault(d,
                                       d.of_place,
                                       ".of",
                                       "unknown-name",
                                       fmt::format("there is no solid \"{}\"", printable(child)),
                                       did_you_mean(child, names)));
        all_known = false;
      } else {
        d.solid.node.of.push_back(static_cast<std::uint32_t>(found - names.begin()));
      }
    }
  }
  return all_known;
}

// A solid that is made of itself, and what it is made of there. Depth first: a solid met again
// while its children are being visited closes a circle.
std::optional<std::pair<std::size_t, std::size_t>> circle_in(
    const std::vector<SolidDraft>& drafts) {
  enum class State : std::uint8_t { kNew, kOpen, kDone };
  struct Visit {
    std::size_t solid, next;
  };
  std::vector<State> state(drafts.size(), State::kNew);
  for (std::size_t start = 0; start < drafts.size(); ++start) {
    std::vector<Visit> stack = {{start, 0}};
    while (!stack.empty()) {
      Visit& v = stack.back();
      const std::vector<std::uint32_t>& of = drafts[v.solid].solid.node.of;
      state[v.solid] = v.next < of.size() ? State::kOpen : State::kDone;
      if (v.next >= of.size()) {
        stack.pop_back();
        continue;
      }
      const std::size_t child = of[v.next++];
      if (state[child] == State::kOpen) {
        return std::pair{v.solid, child};
      }
      if (state[child] == State::kNew) {
        stack.push_back({child, 0});
      }
    }
  }
  return std::nullopt;
}

}  // namespace

void join_solids(std::vector<SolidDraft> drafts, Rig& rig, Problems& problems) {
  std::vector<std::string> names;
  for (const SolidDraft& d : drafts) {
    names.push_back(d.solid.name);
  }
  bool whole = number_children(drafts, names, problems);
  if (const auto circle = whole ? circle_in(drafts) : std::nullopt) {
    const SolidDraft& d = drafts[circle->first];
    problems.push_back(
        solid_fault(d,
                    d.of_place,
                    ".of",
                    "circle",
                    fmt::format("is made of \"{}\", which is made of it", names[circle->second])));
    whole = false;
  }
  std::vector<SolidNode> nodes;
  for (const SolidDraft& d : drafts) {
    nodes.push_back(d.solid.node);
  }
  for (std::size_t i = 0; i < drafts.size(); ++i) {
    if (whole) {
      auto compiled = Solid::compile(nodes, static_cast<std::uint32_t>(i), rig.render.time);
      if (const std::string* fault = std::get_if<std::string>(&compiled)) {
        problems.push_back(solid_fault(drafts[i], drafts[i].solid.place, "", "bad-solid", *fault));
      } else {
        drafts[i].solid.compiled = std::make_shared<Solid>(std::move(std::get<Solid>(compiled)));
      }
    }
    rig.solids.push_back(std::move(drafts[i].solid));
  }
}

std::optional<VolumeSpec> volume_named(TableReader& r,
                                       std::string_view key,
                                       const std::string& name,
                                       const Rig& rig,
                                       const std::vector<std::string>& more) {
  std::vector<std::string> names = more;
  for (const Rig::Solid& s : rig.solids) {
    names.push_back(s.name);
    if (s.name == name) {
      return VolumeSpec{name, s.shape, s.shape ? nullptr : s.compiled, -1, s.node.place};
    }
  }
  for (std::size_t i = 0; i < rig.objects.size(); ++i) {
    const ObjectSpec& o = rig.objects[i];
    names.push_back(o.name);
    if (o.name != name) {
      continue;
    }
    if (o.shape && !o.shape->closed()) {
      r.error(key,
              r.place(key),
              "wrong-type",
              fmt::format("\"{}\" encloses no volume", printable(name)),
              "use a box, sphere, closed cylinder or cone, torus, closed mesh, or a solid");
      return std::nullopt;
    }
    if (o.shape) {
      return VolumeSpec{name, o.shape, nullptr, -1, o.transform};
    }
    if (o.solid >= 0) {
      const Rig::Solid& s = rig.solids[static_cast<std::size_t>(o.solid)];
      Transform t = o.transform;
      t.offset = o.transform.point(s.node.place.offset);
      t.linear = o.transform.linear * s.node.place.linear;
      return VolumeSpec{name, s.shape, s.shape ? nullptr : s.compiled, -1, t};
    }
    return VolumeSpec{name, std::nullopt, nullptr, static_cast<int>(i), {}};
  }
  r.unknown_name(key,
                 r.place(key),
                 fmt::format("there is no solid or closed object \"{}\"", printable(name)),
                 name,
                 names);
  return std::nullopt;
}

}  // namespace jovilux
