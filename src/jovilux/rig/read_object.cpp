#include "jovilux/base/text.h"
#include "jovilux/rig/read_solid.h"
#include "jovilux/rig/read_tables.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_object_shape(TableReader& r, const Rig& rig, ObjectSpec& o) {
  const DocumentNode* node = r.table("shape");
  if (node == nullptr) {
    return;
  }
  TableReader s = r.within("shape", *node);
  s.require("kind");
  const auto kind = s.word("kind");
  if (!kind) {
    o.shape = Shape{};  // without a kind nothing can be said of its sizes
    return;
  }
  o.shape = read_shape(s, *kind);
  s.finish(fmt::format("a {}", to_string(o.shape->kind)));
  if (rig.up == Vec3d::UnitY() && o.shape->has_axis()) {
    o.transform.linear = o.transform.linear * up_from_z();
  }
}

void read_object_solid(TableReader& r, const Rig& rig, ObjectSpec& o) {
  const auto solid = r.text("solid");
  if (!solid) {
    return;
  }
  std::vector<std::string> names;
  for (std::size_t i = 0; i < rig.solids.size(); ++i) {
    names.push_back(rig.solids[i].name);
    o.solid = names.back() == *solid ? static_cast<int>(i) : o.solid;
  }
  if (o.solid < 0) {
    r.unknown_name("solid",
                   r.place("solid"),
                   fmt::format("there is no solid \"{}\"", printable(*solid)),
                   *solid,
                   names);
  }
}

void read_mesh(TableReader& r, const Rig& rig, ObjectSpec& o) {
  const DocumentNode* node = r.find("mesh");
  if (node == nullptr) {
    return;
  }
  o.mesh = r.file("mesh", &o.mesh_place).value_or("");
  // Meters and y up are what the standard of glTF says.
  const bool gltf = node->is_text() && has_ending(node->text(), {".glb", ".gltf"});
  o.mesh_length = gltf ? 1 : rig.length;
  o.mesh_up = gltf ? 'y' : 'z';
  if (const auto unit = r.word("mesh_length")) {
    o.mesh_length = meters_of_unit(*unit);
  }
  if (const auto up = r.word("mesh_up")) {
    o.mesh_up = *up == 0 ? 'z' : 'y';
  }
}

void read_object_material(TableReader& r, const Rig& rig, ObjectSpec& o) {
  const auto material = r.text("material");
  if (!material) {
    return;
  }
  std::vector<std::string> names;
  for (std::size_t i = 0; i < rig.materials.size(); ++i) {
    names.push_back(rig.materials[i].name);
    o.material = names.back() == *material ? static_cast<int>(i) : o.material;
  }
  if (o.material < 0) {
    r.unknown_name("material",
                   r.place("material"),
                   fmt::format("there is no material \"{}\"", printable(*material)),
                   *material,
                   names);
  }
}

}  // namespace

double meters_of_unit(std::size_t index) {
  static constexpr double kMeters[] = {1e-3, 1e-2, 1, 1e3, 0.0254, 0.3048};
  return kMeters[index];
}

Transform read_placement(TableReader& r) {
  constexpr Limits kFactor{1e-6, 1e6};
  const Vec3d at = r.vector_or_standard("at"), turn = r.vector_or_standard("rotate");
  Vec3d scale = Vec3d::Ones();
  const DocumentNode* node = r.find("scale");
  if (node != nullptr && node->is_array()) {
    if (const auto v = r.amounts_of(*node, "scale", Dimension::kPercent, 3, kFactor)) {
      scale = Vec3d((*v)[0], (*v)[1], (*v)[2]);
    }
  } else if (node != nullptr) {
    scale = Vec3d::Constant(r.amount_of(*node, "scale", Dimension::kPercent, kFactor).value_or(1));
  }
  return placement(at, turn, scale);
}

void read_object(TableReader& r, const std::string& name, Rig& rig) {
  ObjectSpec o;
  o.name = name;
  o.place = r.node().place;
  const int forms = (r.has("shape") ? 1 : 0) + (r.has("mesh") ? 1 : 0) + (r.has("solid") ? 1 : 0);
  if (forms > 1) {
    r.error("shape",
            r.place("shape"),
            "conflict",
            "more than one of shape, mesh and solid is given",
            "keep one of them");
  } else if (forms == 0) {
    r.missing("shape", "shape = { kind = ... }, mesh = \"file\" or solid = \"name\"");
  }
  o.transform = read_placement(r);
  read_object_solid(r, rig, o);
  read_object_shape(r, rig, o);
  read_mesh(r, rig, o);
  read_object_material(r, rig, o);
  o.seen_by_camera = r.flag_or_standard("seen_by_camera");
  o.throws_shadow = r.flag_or_standard("throws_shadow");
  o.receives_shadow = r.flag_or_standard("receives_shadow");
  o.catches_shadow = r.flag_or_standard("catches_shadow");
  o.tags = r.texts("tags").value_or(std::vector<std::string>{});
  r.finish(r.has("solid") ? "a solid" : "a shape");
  rig.objects.push_back(std::move(o));
}

}  // namespace jovilux
