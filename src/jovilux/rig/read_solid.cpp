#include "jovilux/rig/read_solid.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/read_light.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux {

Shape read_shape(TableReader& r) {
  Shape s;
  const auto kind = r.word("kind", shape_kind_names());
  if (!kind) {
    if (!r.has("kind")) {
      r.missing("kind", join_or(shape_kind_names()));
    }
    return s;
  }
  s.kind = *parse_shape_kind(shape_kind_names()[*kind]);
  const auto radius = [&]() -> double {
    const auto v = r.quantity("radius", Dimension::kLength, kPositive);
    if (!v && !r.has("radius")) {
      r.missing("radius", "a length such as \"11 cm\"");
    }
    return v.value_or(1);
  };
  const auto radii = [&](Limits limits, std::string_view what) {
    const auto v = r.quantities("radius", Dimension::kLength, 2, limits);
    if (!v && !r.has("radius")) {
      r.missing("radius", what);
    }
    return v.value_or(std::vector<double>{1, 0.25});
  };
  switch (s.kind) {
    case ShapeKind::kBox: {
      const auto size = r.quantities("size", Dimension::kLength, 3, kPositive);
      if (size) {
        s.a = (*size)[0] / 2;
        s.b = (*size)[1] / 2;
        s.c = (*size)[2] / 2;
      } else if (!r.has("size")) {
        r.missing("size", "[x, y, z]");
      }
      break;
    }
    case ShapeKind::kRect: {
      const auto size = r.quantities("size", Dimension::kLength, 2, kPositive);
      if (size) {
        s.a = (*size)[0] / 2;
        s.b = (*size)[1] / 2;
      } else if (!r.has("size")) {
        r.missing("size", "[width, height]");
      }
      break;
    }
    case ShapeKind::kSphere:
    case ShapeKind::kDisk:
      s.a = radius();
      break;
    case ShapeKind::kPlane:
      break;
    case ShapeKind::kCylinder:
    case ShapeKind::kCone: {
      const DocumentNode* node = r.find("radius");
      if (s.kind == ShapeKind::kCone && node != nullptr && node->is_array()) {
        const auto v = radii(kNotNegative, "[bottom, top]");
        s.a = v[0];
        s.b = v[1];
        if (s.a + s.b <= 0) {
          r.error("radius", node->place, "out-of-range", "both radii are 0");
        }
      } else {
        s.a = radius();
        s.b = 0;
      }
      const auto height = r.quantity("height", Dimension::kLength, kPositive);
      if (!height && !r.has("height")) {
        r.missing("height", "a length such as \"24 cm\"");
      }
      s.c = height.value_or(1) / 2;
      s.open = r.flag("open").value_or(false);
      break;
    }
    case ShapeKind::kTorus: {
      const auto v = radii(kPositive, "[ring, tube]");
      s.a = v[0];
      s.b = v[1];
      if (s.b > s.a) {
        r.error("radius",
                r.place("radius"),
                "out-of-range",
                "the tube is thicker than the ring",
                "write [ring, tube], the larger first");
      }
      break;
    }
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
  if (const auto size = r.quantities("size", Dimension::kLength, 3, kPositive)) {
    n.a = (*size)[0] / 2;
    n.b = (*size)[1] / 2;
    n.c = (*size)[2] / 2;
  } else if (!r.has("size")) {
    r.missing("size", "[x, y, z]");
  }
}

double read_length(TableReader& r, std::string_view key, double otherwise) {
  const auto v = r.quantity(key, Dimension::kLength, kPositive);
  if (!v && !r.has(key)) {
    r.missing(key, "a length such as \"2 cm\"");
  }
  return v.value_or(otherwise);
}

void read_children(TableReader& r, SolidDraft& draft, bool several) {
  const DocumentNode* of = r.find("of");
  draft.of_place = r.place("of");
  if (of == nullptr) {
    r.missing("of", several ? "the names of at least two solids" : "the name of a solid");
  } else if (of->is_text() && !several) {
    draft.of = {of->text()};
  } else if (const auto names = r.texts("of")) {
    draft.of = *names;
    if (several ? names->size() < 2 : names->size() != 1) {
      r.error(
          "of",
          of->place,
          "out-of-range",
          several ? "expected the names of at least two solids" : "expected the name of one solid");
    }
  }
}

void read_repeat(TableReader& r, SolidNode& n) {
  if (const auto every = r.quantities("spacing", Dimension::kLength, 3, kNotNegative)) {
    n.spacing = Vec3d((*every)[0], (*every)[1], (*every)[2]);
    if (n.spacing.isZero()) {
      r.error("spacing",
              r.place("spacing"),
              "out-of-range",
              "all three distances are 0: nothing repeats");
    }
  } else if (!r.has("spacing")) {
    r.missing("spacing", "the distances between copies, [x, y, z]; 0 on axes without");
  }
  const DocumentNode* count = r.find("count");
  if (count == nullptr) {
    return;
  }
  bool good = count->is_array() && count->array().size() == 3;
  for (std::size_t i = 0; good && i < 3; ++i) {
    const auto* v = std::get_if<std::int64_t>(&count->array()[i].value);
    good = v != nullptr && *v >= 0 && *v <= 1000000;
    n.count[i] = good ? static_cast<int>(*v) : 0;
  }
  if (!good) {
    r.error("count",
            count->place,
            "out-of-range",
            "expected three whole numbers [x, y, z]; 0 repeats without end");
  }
}

void read_fractal(TableReader& r, SolidNode& n) {
  const auto which = r.word("fractal", {"menger", "sierpinski", "julia"});
  if (!which && !r.has("fractal")) {
    r.missing("fractal", "menger, sierpinski or julia");
  }
  n.fractal = static_cast<FractalKind>(which.value_or(0));
  n.a = n.b = n.c = read_length(r, "size", 1) / 2;
  n.iterations = static_cast<int>(
      r.integer("iterations", 1, 20).value_or(n.fractal == FractalKind::kMenger ? 4 : 8));
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
            "expected the four parts of a quaternion, each from -2 to 2");
  }
}

void read_formula_solid(TableReader& r, SolidNode& n) {
  n.formula = read_formula(r, "formula", {"x", "y", "z", "t"}, "sqrt(x^2+y^2+z^2)-0.3");
  n.slope = r.ratio("slope", {1e-6, 1e6}).value_or(1);
  n.a = 0;
  if (r.has("size")) {
    read_size(r, n);
  }
}

}  // namespace

std::optional<SolidDraft> read_solid(TableReader& r, const std::string& name) {
  SolidDraft draft;
  SolidNode& n = draft.solid.node;
  draft.solid.name = name;
  draft.solid.place = r.table().place;
  const std::size_t before = r.problems().size();
  std::optional<std::size_t> kind;
  if (!r.has("kind") && r.has("formula")) {
    kind = static_cast<std::size_t>(SolidKind::kFormula);
  } else if (!(kind = r.word("kind", solid_kind_names())) && !r.has("kind")) {
    r.missing("kind", join_or(solid_kind_names()) + "; or a formula");
  }
  if (!kind) {
    return std::nullopt;
  }
  n.kind = static_cast<SolidKind>(*kind);
  switch (n.kind) {
    case SolidKind::kSphere:
    case SolidKind::kBox:
    case SolidKind::kPlane:
    case SolidKind::kTorus:
    case SolidKind::kCylinder:
    case SolidKind::kCone: {
      const Shape s = read_shape(r);
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
      break;
    }
    case SolidKind::kFrame:
      read_size(r, n);
      n.d = read_length(r, "bar", 0.1);
      if (n.d > 2 * std::min({n.a, n.b, n.c})) {
        r.error("bar", r.place("bar"), "out-of-range", "the bars are thicker than the frame");
      }
      break;
    case SolidKind::kCapsule:
      n.a = read_length(r, "radius", 0.1);
      n.c = read_length(r, "height", 1) / 2;
      if (n.c < n.a && r.has("height")) {
        r.error("height",
                r.place("height"),
                "out-of-range",
                "is less than twice the radius: the round ends would overlap",
                "use a sphere");
      }
      break;
    case SolidKind::kRoundBox:
      read_size(r, n);
      n.d = read_length(r, "rounding", 0.1);
      if (n.d > std::min({n.a, n.b, n.c})) {
        r.error("rounding",
                r.place("rounding"),
                "out-of-range",
                "is more than half of the shortest side");
      }
      break;
    case SolidKind::kUnion:
    case SolidKind::kSubtract:
    case SolidKind::kIntersect:
      read_children(r, draft, true);
      n.blend = r.quantity("blend", Dimension::kLength, kNotNegative).value_or(0);
      break;
    case SolidKind::kRepeat:
      read_children(r, draft, false);
      read_repeat(r, n);
      break;
    case SolidKind::kTwist: {
      read_children(r, draft, false);
      const auto rate = r.quantity("per_meter", Dimension::kAngle, kAny);
      if (!rate && !r.has("per_meter")) {
        r.missing("per_meter", "an angle such as \"90 deg\"");
      }
      n.d = rate.value_or(0);
      break;
    }
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
  const Vec3d at = r.position("at").value_or(Vec3d::Zero());
  Vec3d turn = Vec3d::Zero();
  if (const auto v = r.quantities("rotate", Dimension::kAngle, 3, kAny)) {
    turn = Vec3d((*v)[0], (*v)[1], (*v)[2]);
  }
  n.place = placement(at, turn, Vec3d::Ones());
  r.finish({"size",
            "radius",
            "height",
            "open",
            "bar",
            "rounding",
            "of",
            "blend",
            "spacing",
            "count",
            "per_meter",
            "thickness",
            "fractal",
            "iterations",
            "constant",
            "formula",
            "slope"},
           fmt::format("a {}", to_string(n.kind)));
  if (r.problems().size() != before) {
    return std::nullopt;
  }
  draft.solid.shape = shape_like(n);
  return draft;
}

void join_solids(std::vector<SolidDraft> drafts, Rig& rig, Problems& problems) {
  std::vector<std::string> names;
  for (const SolidDraft& d : drafts) {
    names.push_back(d.solid.name);
  }
  const auto fail = [&](const SolidDraft& d,
                        const Place& place,
                        const char* key,
                        std::string code,
                        std::string text,
                        std::string hint) {
    problems.push_back({Severity::kError,
                        std::move(code),
                        place,
                        "solid." + d.solid.name + key,
                        std::move(text),
                        std::move(hint)});
  };
  bool whole = true;
  for (SolidDraft& d : drafts) {
    for (const std::string& child : d.of) {
      const auto found = std::find(names.begin(), names.end(), child);
      if (found == names.end()) {
        fail(d,
             d.of_place,
             ".of",
             "unknown-name",
             fmt::format("there is no solid \"{}\"", printable(child)),
             did_you_mean(child, names));
        whole = false;
      } else {
        d.solid.node.of.push_back(static_cast<std::uint32_t>(found - names.begin()));
      }
    }
  }
  // Depth first; a solid met again while its children are being visited is made of itself.
  enum class State : std::uint8_t { kNew, kOpen, kDone };
  std::vector<State> state(drafts.size(), State::kNew);
  for (std::size_t start = 0; whole && start < drafts.size(); ++start) {
    struct Visit {
      std::size_t solid, next;
    };
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
        fail(drafts[v.solid],
             drafts[v.solid].of_place,
             ".of",
             "circle",
             fmt::format("is made of \"{}\", which is made of it", names[child]),
             "");
        whole = false;
        stack.clear();
      } else if (state[child] == State::kNew) {
        stack.push_back({child, 0});
      }
    }
  }
  std::vector<SolidNode> nodes;
  for (const SolidDraft& d : drafts) {
    nodes.push_back(d.solid.node);
  }
  for (std::size_t i = 0; i < drafts.size(); ++i) {
    if (whole) {
      auto compiled = Solid::compile(nodes, static_cast<std::uint32_t>(i), rig.render.time);
      if (const std::string* fault = std::get_if<std::string>(&compiled)) {
        fail(drafts[i], drafts[i].solid.place, "", "bad-solid", *fault, "");
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
  r.error(key,
          r.place(key),
          "unknown-name",
          fmt::format("there is no solid or closed object \"{}\"", printable(name)),
          did_you_mean(name, names));
  return std::nullopt;
}

}  // namespace jovilux
