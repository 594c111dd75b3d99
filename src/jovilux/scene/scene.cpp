#include "jovilux/scene/scene.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/spectrum_file.h"

namespace jovilux {
namespace {

// A reflectance table read at the spectral nodes.
Spectrum reflectance_of(const MaterialSpec& m, Problems& problems) {
  const std::string address = "material." + m.name + ".color";
  const auto table = load_spectrum(m.color_file);
  for (Problem p : table.problems()) {
    p.address = address;
    p.hint = "named at " + to_string(m.color_place);
    problems.push_back(std::move(p));
  }
  if (!table) {
    return Spectrum::Zero();
  }
  if (*std::max_element(table->value.begin(), table->value.end()) > 1) {
    problems.push_back({Severity::kError, "bad-spectrum", {m.color_file, 0, 0}, address, "a reflectance above 1; a surface reflects 0 to 1", "named at " + to_string(m.color_place)});
  }
  return spectrum_from_table(*table);
}

SurfaceModel model_of(const MaterialSpec& m, Problems& problems) {
  const Spectrum color = m.color_file.empty() ? spectrum_from_rgb(m.color) : reflectance_of(m, problems);
  const auto roughness = static_cast<float>(m.roughness);
  switch (m.kind) {
    case MaterialSpec::Kind::kMatte: return matte(color, roughness);
    case MaterialSpec::Kind::kMetal: return metal(color, roughness);
    case MaterialSpec::Kind::kGlass:
      return m.thin ? pane(static_cast<float>(m.ior), color) : glass(static_cast<float>(m.ior), spectrum_from_rgb(m.absorption).max(0.0f));
    case MaterialSpec::Kind::kSheet:
      return sheet(color * static_cast<float>(1 - m.through), (m.through_color ? spectrum_from_rgb(*m.through_color) : color) * static_cast<float>(m.through));
    case MaterialSpec::Kind::kGloss:
      return gloss(color, spectrum_from_rgb(m.coat_color), static_cast<float>(m.ior), roughness);
  }
  return {};
}

Shape body_of(const SourceShape& s) {
  Shape out;
  switch (s.form) {
    case Form::kSphere: out.kind = ShapeKind::kSphere; out.a = s.radius; break;
    case Form::kSpot:
    case Form::kDisk: out.kind = ShapeKind::kDisk; out.a = s.radius; break;
    case Form::kTube:  // closed: its ends are dark
      out.kind = ShapeKind::kCylinder;
      out.a = s.radius;
      out.c = s.endless ? HUGE_VAL : s.length / 2;
      out.open = s.endless;
      break;
    default:
      out.kind = ShapeKind::kRect;
      out.a = s.width / 2;
      out.b = s.height / 2;
  }
  return out;
}

}  // namespace

Result<Scene> prepare_scene(const Rig& rig, int camera) {
  Scene scene;
  Problems problems;
  for (const MaterialSpec& m : rig.materials) {
    scene.materials.push_back(model_of(m, problems));
  }
  const auto plain = static_cast<std::uint32_t>(scene.materials.size());
  scene.materials.push_back(matte(Spectrum::Constant(0.5f), 0));
  scene.has_panes = std::any_of(scene.materials.begin(), scene.materials.end(), [](const SurfaceModel& m) { return m.is_pane(); });

  for (const HazeSpec& h : rig.hazes) {
    if (h.extinction > 0) {
      scene.hazes.push_back({static_cast<float>(h.extinction), spectrum_from_rgb(h.albedo), static_cast<float>(h.anisotropy), h.everywhere, h.shape, h.transform.inverse()});
    }
  }
  // The objects that emit, and what of them emits.
  std::vector<int> light_of_object(rig.objects.size(), -1);
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    if (rig.lights[i].object >= 0) {
      light_of_object[static_cast<std::size_t>(rig.lights[i].object)] = static_cast<int>(i);
    }
  }
  std::vector<std::shared_ptr<const LuminousSurface>> luminous(rig.lights.size());
  for (std::size_t i = 0; i < rig.objects.size(); ++i) {
    const ObjectSpec& object = rig.objects[i];
    const int its_light = light_of_object[i];
    const auto surface = static_cast<std::uint32_t>(scene.surfaces.size());
    scene.surfaces.push_back({static_cast<std::uint32_t>(i),
                              object.material < 0 ? plain : static_cast<std::uint32_t>(object.material),
                              kNoIndex});
    if (object.shape) {
      scene.world.add_shape(*object.shape, object.transform, surface);
      if (its_light >= 0) {
        luminous[static_cast<std::size_t>(its_light)] = std::make_shared<LuminousSurface>(*object.shape, object.transform);
      }
      continue;
    }
    auto mesh = load_mesh(object.mesh);
    if (!mesh) {
      for (Problem p : mesh.problems()) {
        p.address = "object." + object.name + ".mesh";
        p.hint = "named at " + to_string(object.mesh_place);
        problems.push_back(std::move(p));
      }
      continue;
    }
    Transform transform = object.transform;
    Mat3d file_axes = Mat3d::Identity() * object.mesh_length;
    if (object.mesh_up == 'y') {  // y up, z towards the viewer, becomes z up
      Mat3d stand;
      stand << 1, 0, 0, 0, 0, -1, 0, 1, 0;
      file_axes = stand * object.mesh_length;
    }
    transform.linear = transform.linear * file_axes;
    transform_mesh(*mesh, transform);
    constexpr float kFarthest = 1e7f;
    bool inside = true;
    for (const Vec3& p : mesh->positions) {
      inside = inside && p.cwiseAbs().maxCoeff() <= kFarthest;
    }
    if (!inside) {
      problems.push_back({Severity::kError, "out-of-range", object.mesh_place, "object." + object.name + ".mesh",
                          "a vertex lies farther than 10000 km from the origin", "see mesh_length and scale"});
      continue;
    }
    if (its_light >= 0) {
      luminous[static_cast<std::size_t>(its_light)] = std::make_shared<LuminousSurface>(*mesh);
    }
    scene.world.add_mesh(std::move(*mesh), surface);
  }

  LightLoader loader(rig, problems);
  std::vector<std::vector<std::uint32_t>> link_lists, caster_lists;
  const auto number_of = [](std::vector<std::vector<std::uint32_t>>& lists, const std::vector<std::uint32_t>& list) {
    const auto known = std::find(lists.begin(), lists.end(), list);
    const auto index = static_cast<std::size_t>(known - lists.begin());
    if (known == lists.end()) {
      lists.push_back(list);
    }
    return index;
  };
  constexpr std::size_t kMostLinkLists = 64;
  for (std::size_t i = 0; i < rig.lights.size(); ++i) {
    const LightSpec& light = rig.lights[i];
    const std::size_t before = problems.size();
    LightParts parts = loader.parts(light, luminous[i]);
    const Problems added(problems.begin() + static_cast<std::ptrdiff_t>(before), problems.end());
    if (has_errors(added) || (light.object >= 0 && !luminous[i])) {
      continue;
    }
    if (light.fade_with_camera && !rig.cameras.empty()) {
      const double d = (rig.cameras.at(static_cast<std::size_t>(camera)).at - light.at).norm();
      parts.camera_fade = reach_window(d, light.fade_with_camera->first, light.fade_with_camera->second);
    }
    Emitter e = make_emitter(light, parts, rig.up);
    const auto index = static_cast<std::uint32_t>(i);
    if (e.shines()) {
      const std::string& layer = light.layer_in(rig.render.layers == RenderSpec::Layers::kGroups);
      const auto known = std::find(scene.layers.begin(), scene.layers.end(), layer);
      e.layer = static_cast<std::uint32_t>(known - scene.layers.begin());
      if (known == scene.layers.end()) {
        scene.layers.push_back(layer);
      }
    }
    if (light.lit) {
      const std::size_t list = number_of(link_lists, *light.lit);
      if (list >= kMostLinkLists) {
        problems.push_back({Severity::kError, "out-of-range", light.place, "light." + light.name, fmt::format("more than {} different lists of linked objects", kMostLinkLists), "use tags, so that lights share them"});
        continue;
      }
      e.link_bit = std::uint64_t{1} << list;
    }
    if (light.casters) {
      e.casters = static_cast<std::uint32_t>(number_of(caster_lists, *light.casters));
    }
    scene.emitter_surface.push_back(kNoIndex);
    if (e.is_distant()) {
      scene.distant.push_back(index);
    } else if (light.object >= 0) {
      if (e.shines()) {
        scene.surfaces[static_cast<std::size_t>(light.object)].emitter = index;
      }
    } else if (!e.is_zero_size() && light.cheat.seen) {
      Transform place;
      if (light.shape.form == Form::kTube) {
        place.linear = aimed(light.along, rig.up, 0);  // a cylinder stands along z
      } else {
        place.linear = aimed(light.axis, rig.up, light.roll);
      }
      place.offset = light.at;
      scene.world.add_shape(body_of(light.shape), place, static_cast<std::uint32_t>(scene.surfaces.size()));
      scene.emitter_surface.back() = static_cast<std::uint32_t>(scene.surfaces.size());
      scene.surfaces.push_back({kNoIndex, kNoIndex, index});
    }
    scene.lights.push_back(std::move(parts));
    scene.emitters.push_back(std::move(e));
  }
  for (Scene::Surface& surface : scene.surfaces) {
    surface.links = 0;
    for (std::size_t list = 0; list < link_lists.size(); ++list) {
      if (surface.object != kNoIndex && std::binary_search(link_lists[list].begin(), link_lists[list].end(), surface.object)) {
        surface.links |= std::uint64_t{1} << list;
      }
    }
  }
  for (const std::vector<std::uint32_t>& list : caster_lists) {
    std::vector<bool> throws(scene.surfaces.size(), false);  // bodies of lights throw none then
    for (const std::uint32_t object : list) {
      throws[object] = true;
    }
    scene.casters.push_back(std::move(throws));
  }
  if (has_errors(problems)) {
    return problems;
  }
  scene.world.build();
  return {std::move(scene), std::move(problems)};
}

}  // namespace jovilux
