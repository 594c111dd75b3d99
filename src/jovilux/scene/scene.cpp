#include "jovilux/scene/scene.h"

#include "jovilux/base/text.h"
#include "jovilux/color/sources_by_name.h"
#include "jovilux/files/density_file.h"
#include "jovilux/files/gltf.h"
#include "jovilux/files/image.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/spectrum_file.h"

#include <algorithm>
#include <cmath>
#include <map>

#include <fmt/format.h>

namespace jovilux {

Scene::Scene() = default;
Scene::Scene(const Scene&) = default;
Scene::Scene(Scene&&) noexcept = default;
Scene& Scene::operator=(const Scene&) = default;
Scene& Scene::operator=(Scene&&) noexcept = default;
Scene::~Scene() = default;

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
  // A spectrum file is judged by its brightest wavelength: what is above 1 anywhere makes energy.
  if (*std::max_element(table->value.begin(), table->value.end()) > 1) {
    problems.push_back({Severity::kError,
                        "bad-spectrum",
                        {m.color_file, 0, 0},
                        address,
                        "a reflectance above 1; a surface reflects 0 to 1",
                        "named at " + to_string(m.color_place)});
  }
  return spectrum_from_table(*table);
}

// A metal's n or k at the nodes; `least` keeps n away from 0.
Spectrum index_of(const MaterialSpec& m,
                  const std::string& file,
                  double value,
                  const Place& place,
                  const char* key,
                  float least,
                  Problems& problems) {
  if (file.empty()) {
    return Spectrum::Constant(static_cast<float>(value));
  }
  const std::string address = "material." + m.name + "." + key;
  const auto table = load_spectrum(file);
  for (Problem p : table.problems()) {
    p.address = address;
    p.hint = "named at " + to_string(place);
    problems.push_back(std::move(p));
  }
  if (!table) {
    return Spectrum::Ones();
  }
  const Spectrum out = spectrum_from_table(*table);
  if (!(out >= least).all() || (out > 50.0f).any()) {
    problems.push_back({Severity::kError,
                        "bad-spectrum",
                        {file, 0, 0},
                        address,
                        fmt::format("values from {} to 50 are needed from 420 to 680 nm", least),
                        "named at " + to_string(place)});
  }
  return out.max(least).min(50.0f);
}

std::shared_ptr<const Picture> picture_of(const MaterialSpec& m,
                                          const PictureSpec& spec,
                                          const char* key,
                                          Problems& problems) {
  if (spec.file.empty()) {
    return nullptr;
  }
  auto image = load_image(spec.file, spec.srgb);
  for (Problem p : image.problems()) {
    p.address = "material." + m.name + "." + key;
    p.hint = "named at " + to_string(spec.place);
    problems.push_back(std::move(p));
  }
  return image ? std::make_shared<Picture>(image->width, image->height, std::move(image->rgb))
               : nullptr;
}

SurfaceModel model_of(const MaterialSpec& m, double roughness_given, Problems& problems) {
  const Spectrum color =
      m.color_file.empty() ? spectrum_from_rgb(m.color) : reflectance_of(m, problems);
  const auto roughness = static_cast<float>(roughness_given);
  switch (m.kind) {
    case MaterialSpec::Kind::kDiffuse:
      return diffuse_surface(color, roughness);
    case MaterialSpec::Kind::kMetal:
      if (m.by_index) {
        return metal_of_index(
            index_of(m, m.ior_file, m.ior, m.ior_place, "ior", 0.001f, problems),
            index_of(
                m, m.extinction_file, m.extinction, m.extinction_place, "absorption", 0, problems),
            roughness);
      }
      return metal(color, roughness);
    case MaterialSpec::Kind::kGlass:
      return m.thin ? pane(static_cast<float>(m.ior), color)
                    : glass(static_cast<float>(m.ior),
                            spectrum_from_rgb(m.absorption).max(0.0f),
                            roughness);
    case MaterialSpec::Kind::kTranslucent:
      return translucent_surface(
          color * static_cast<float>(1 - m.transmittance),
          (m.transmitted_color ? spectrum_from_rgb(*m.transmitted_color) : color) *
              static_cast<float>(m.transmittance));
    case MaterialSpec::Kind::kGloss:
      return gloss(color, spectrum_from_rgb(m.coat_color), static_cast<float>(m.ior), roughness);
  }
  return {};
}

Scene::Pictures pictures_of(const MaterialSpec& m, Problems& problems) {
  Scene::Pictures out;
  out.color = picture_of(m, m.picture, "color", problems);
  out.mask = picture_of(m, m.mask, "mask", problems);
  out.tile = Vec2(static_cast<float>(m.tile[0]), static_cast<float>(m.tile[1]));
  if (m.kind == MaterialSpec::Kind::kTranslucent) {
    out.reflected = static_cast<float>(1 - m.transmittance);
    out.transmittance = m.transmitted_color ? 0.0f : static_cast<float>(m.transmittance);
  } else if (m.kind == MaterialSpec::Kind::kGlass) {
    out.transmittance = 1;  // a pane's tint
  }
  return out;
}

// What is seen of a light: the shape of its luminous surface.
Shape body_of(const SourceShape& s) {
  Shape out;
  switch (s.kind) {
    case LightKind::kSphere:
      out.kind = ShapeKind::kSphere;
      out.a = s.radius;
      break;
    case LightKind::kSpot:
    case LightKind::kDisk:
      out.kind = ShapeKind::kDisk;
      out.a = s.radius;
      break;
    case LightKind::kTube:  // closed: its ends are dark
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

// A mesh of one material; `material` is the file's own, where it has one.
struct MeshPart {
  Mesh mesh;
  std::shared_ptr<const GltfScene::Material> material;
};

// Meshes of one light become one luminous surface; a part without texture coordinates gets zeros,
// so that the lists stay as long as the positions.
void append(Mesh& to, const Mesh& more) {
  const auto first = static_cast<std::uint32_t>(to.positions.size());
  if (!more.uvs.empty() || !to.uvs.empty()) {
    to.uvs.resize(to.positions.size(), Vec2::Zero());
    to.uvs.insert(to.uvs.end(), more.uvs.begin(), more.uvs.end());
    to.uvs.resize(to.positions.size() + more.positions.size(), Vec2::Zero());
  }
  to.positions.insert(to.positions.end(), more.positions.begin(), more.positions.end());
  for (const auto& t : more.triangles) {
    to.triangles.push_back({t[0] + first, t[1] + first, t[2] + first});
  }
}

// What the mask of a surface's material leaves of it.
Cover cover_of(const Scene& scene, std::uint32_t surface) {
  const Scene::Pictures& pictures = scene.pictures[scene.surfaces[surface].material];
  return pictures.mask == nullptr
             ? Cover{}
             : Cover([pictures](const Vec2& uv) { return pictures.covered(uv); });
}

std::vector<MeshPart> mesh_parts(const ObjectSpec& object, Problems& problems) {
  std::vector<MeshPart> out;
  const auto note = [&](const Problems& found) {
    for (Problem p : found) {
      p.address = "object." + object.name + ".mesh";
      p.hint = "named at " + to_string(object.mesh_place);
      problems.push_back(std::move(p));
    }
  };
  if (!object.mesh.ends_with(".glb") && !object.mesh.ends_with(".gltf")) {
    auto mesh = load_mesh(object.mesh);
    note(mesh.problems());
    if (mesh) {
      out.push_back({std::move(*mesh), nullptr});
    }
    return out;
  }
  auto file = load_gltf(object.mesh);
  note(file.problems());
  if (!file) {
    return out;
  }
  std::vector<std::shared_ptr<const GltfScene::Material>> materials;
  for (GltfScene::Material& m : file->materials) {
    materials.push_back(std::make_shared<GltfScene::Material>(std::move(m)));
  }
  for (GltfScene::Part& p : file->parts) {
    out.push_back({std::move(p.mesh),
                   p.material >= 0 ? materials[static_cast<std::size_t>(p.material)] : nullptr});
  }
  if (out.empty()) {
    note({{Severity::kError, "bad-mesh", {object.mesh, 0, 0}, "", "holds no triangles", ""}});
  }
  return out;
}

// A mesh that several objects show: its triangles once, in the file's own axes and lengths, and the
// materials of its parts.
struct SharedMesh {
  std::size_t objects = 0;
  bool looked_at = false;
  std::shared_ptr<const TriangleSet> triangles;  // null: each object has triangles of its own
  std::vector<std::shared_ptr<const GltfScene::Material>> materials;
  // Of the materials in the scene; kNoIndex: not added yet.
  std::vector<std::uint32_t> numbers;
  // Of a small mesh, so that its file is read once as well.
  std::vector<MeshPart> parts;
};
// Copies that save fewer triangles than this are not worth a way through a second hierarchy for
// each ray.
constexpr std::size_t kLeastSaved = 100'000;

void look_at(SharedMesh& shared, const std::vector<MeshPart>& parts) {
  shared.looked_at = true;
  std::size_t triangles = 0;
  for (const MeshPart& part : parts) {
    triangles += part.mesh.triangles.size();
  }
  if ((shared.objects - 1) * triangles < kLeastSaved) {
    shared.parts = parts;
    return;
  }
  auto set = std::make_shared<TriangleSet>();
  for (std::uint32_t i = 0; i < parts.size(); ++i) {
    set->add(parts[i].mesh, i);
    shared.materials.push_back(parts[i].material);
  }
  // Built once, in the file's own axes; objects differ by their transforms.
  set->build();
  shared.triangles = std::move(set);
  shared.numbers.assign(parts.size(), kNoIndex);
}

// Whether all of a box lies within reach once it is moved.
bool within_reach(const Bounds& box, const Transform& transform, double farthest) {
  for (int corner = 0; corner < 8; ++corner) {
    const Vec3d p((corner & 1) != 0 ? box.hi.x() : box.lo.x(),
                  (corner & 2) != 0 ? box.hi.y() : box.lo.y(),
                  (corner & 4) != 0 ? box.hi.z() : box.lo.z());
    if (!(transform.point(p).cwiseAbs().maxCoeff() <= farthest)) {
      return false;
    }
  }
  return true;
}

// Metallic-roughness as what is nearest to it here: a metal, or a coat of index 1.5 over a diffuse
// base.
void add_file_material(Scene& scene, const GltfScene::Material& m) {
  const Spectrum color = spectrum_from_rgb(m.color);
  const auto roughness = static_cast<float>(m.roughness);
  scene.materials.push_back(m.metallic >= 0.5 ? metal(color, roughness)
                                              : gloss(color, Spectrum::Ones(), 1.5f, roughness));
  scene.pictures.emplace_back();
  if (m.picture != nullptr) {
    scene.pictures.back().color =
        std::make_shared<Picture>(m.picture->width, m.picture->height, m.picture->rgb);
    scene.has_pictures = true;
  }
}

// The materials that bounces meet instead of the rig's own: rougher ones, which cost less noise
// (see bounce_roughness).
void add_bounce_materials(Scene& scene, const Rig& rig) {
  for (std::uint32_t i = 0; i < rig.materials.size(); ++i) {
    const MaterialSpec& m = rig.materials[i];
    scene.bounce_materials.push_back(i);
    if (m.bounce_roughness > m.roughness) {
      Problems told;  // with the material itself
      scene.bounce_materials.back() = static_cast<std::uint32_t>(scene.materials.size());
      scene.materials.push_back(model_of(m, m.bounce_roughness, told));
      scene.pictures.push_back(scene.pictures[i]);
      scene.has_bounce_materials = true;
    }
  }
}

void add_haze(Scene& scene,
              const Rig& rig,
              const HazeSpec& h,
              std::optional<Enclosure> inside,
              std::shared_ptr<const DensityGrid> known,
              Problems& problems) {
  scene.grids.push_back(known);
  if (!(h.extinction > 0)) {
    return;
  }
  Haze out;
  out.sigma_t = static_cast<float>(h.extinction);
  out.albedo = spectrum_from_rgb(h.albedo);
  out.g = static_cast<float>(h.anisotropy);
  out.inside = std::move(inside);
  out.emission = static_cast<float>(h.emission);
  out.density.up = rig.up.cast<float>();
  out.density.scale_height = static_cast<float>(h.scale_height);
  if (h.clumps) {
    // Cell by cell where a clump takes much of the light; else one bound for all costs less.
    out.density.clumps = HazeDensity::Clumps{static_cast<float>(h.clumps->size),
                                             static_cast<float>(h.clumps->depth),
                                             (rig.render.time * h.clumps->drift).cast<float>(),
                                             h.clumps->seed,
                                             h.extinction * h.clumps->size > 0.25};
  }
  if (known != nullptr) {
    out.density.grid = std::move(known);
  } else if (!h.file.empty()) {
    auto grid = load_density_grid(h.file, h.grid, h.grid_place);
    for (Problem p : grid.problems()) {
      p.address = "haze." + h.name + ".file";
      p.hint = (p.hint.empty() ? "" : p.hint + "; ") + ("named at " + to_string(h.file_place));
      problems.push_back(std::move(p));
    }
    if (!grid) {
      return;
    }
    out.density.grid = std::make_shared<DensityGrid>(std::move(*grid));
    scene.grids.back() = out.density.grid;
  }
  scene.hazes.push_back(std::move(out));
}

// The objects that throw a light's shadows; with kNoIndex at its end the bodies of lights do too.
// Nothing: all do.
std::optional<std::vector<std::uint32_t>> objects_throwing(const Rig& rig, const LightSpec& light) {
  std::vector<std::uint32_t> out;
  if (light.casters) {
    for (const std::uint32_t object : *light.casters) {
      if (rig.objects[object].throws_shadow) {
        out.push_back(object);
      }
    }
    return out;
  }
  for (std::size_t i = 0; i < rig.objects.size(); ++i) {
    if (rig.objects[i].throws_shadow) {
      out.push_back(static_cast<std::uint32_t>(i));
    }
  }
  if (out.size() == rig.objects.size()) {
    return std::nullopt;
  }
  out.push_back(kNoIndex);
  return out;
}

}  // namespace

namespace {

// Where meshes are moved to: as the object stands, in meters, z up.
Transform placed(const ObjectSpec& object) {
  Transform out = object.transform;
  Mat3d file_axes = Mat3d::Identity() * object.mesh_length;
  if (object.mesh_up == 'y') {  // y up, z towards the viewer, becomes z up
    Mat3d stand;
    stand << 1, 0, 0, 0, 0, -1, 0, 1, 0;
    file_axes = stand * object.mesh_length;
  }
  out.linear = out.linear * file_axes;
  return out;
}

// Lists that are the same are one.
std::size_t number_of(std::vector<std::vector<std::uint32_t>>& lists,
                      const std::vector<std::uint32_t>& list) {
  const auto known = std::find(lists.begin(), lists.end(), list);
  const auto index = static_cast<std::size_t>(known - lists.begin());
  if (known == lists.end()) {
    lists.push_back(list);
  }
  return index;
}

// Makes a scene of a rig, step by step. With `like`: see prepare_moment.
class SceneBuilder {
 public:
  SceneBuilder(const Rig& rig, int camera, const Scene* like)
      : rig_(rig), camera_(camera), like_(like), light_of_object_(rig.objects.size(), -1) {
    for (std::size_t i = 0; i < rig.lights.size(); ++i) {
      if (rig.lights[i].object >= 0) {
        light_of_object_[static_cast<std::size_t>(rig.lights[i].object)] = static_cast<int>(i);
      }
    }
  }

  Result<Scene> built(const std::vector<std::string>& layers) {
    scene_.layers = layers;
    scene_.emission_table = light_table(*spectrum_named("cie-d65"));
    add_materials();
    make_holders();
    add_objects();
    if (!has_errors(problems_)) {
      add_meshes();
      add_copies();
      scene_.object_surfaces = scene_.surfaces.size();
      add_hazes();
    }
    add_lights();
    if (has_errors(problems_)) {
      return problems_;
    }
    scene_.light_clusters = LightClusters(scene_.emitters);
    give_hazes_layers();
    link_surfaces();
    if (!scene_.has_pictures) {
      scene_.world.skip_places();
    }
    scene_.world.build();
    if (scene_.has_openings) {
      scene_.world.mark_passable(passable_surfaces());
    }
    find_glass_around_emitters();
    return {std::move(scene_), std::move(problems_)};
  }

 private:
  // An object that shows a mesh which others show too.
  struct Copy {
    SharedMesh* mesh;
    Transform transform;
    std::uint32_t object;
  };

  void add_materials() {
    if (like_ != nullptr) {
      scene_.materials = like_->materials;
      scene_.pictures = like_->pictures;
      scene_.bounce_materials = like_->bounce_materials;
      scene_.has_bounce_materials = like_->has_bounce_materials;
    } else {
      for (const MaterialSpec& m : rig_.materials) {
        scene_.materials.push_back(model_of(m, m.roughness, problems_));
        scene_.pictures.push_back(pictures_of(m, problems_));
      }
      scene_.materials.push_back(diffuse_surface(Spectrum::Constant(0.5f), 0));
      scene_.pictures.emplace_back();
      add_bounce_materials(scene_, rig_);
    }
    for (std::size_t i = 0; i < scene_.materials.size(); ++i) {
      scene_.has_openings = scene_.has_openings || scene_.materials[i].is_pane() ||
                            scene_.pictures[i].mask != nullptr;
      scene_.has_pictures = scene_.has_pictures || scene_.pictures[i].any();
    }
  }

  // By surface number: whether shadow rays pass, all or in part.
  std::vector<bool> passable_surfaces() const {
    std::vector<bool> out;
    for (const Scene::Surface& s : scene_.surfaces) {
      out.push_back(s.material != kNoIndex && (scene_.materials[s.material].is_pane() ||
                                               scene_.pictures[s.material].mask != nullptr));
    }
    return out;
  }

  // The meshes that hold haze or lights, each in a world of its own.
  void make_holders() {
    if (like_ != nullptr) {
      scene_.holders = like_->holders;
      scene_.world.share_meshes(like_->world);
      return;
    }
    const auto hold = [&](const std::optional<VolumeSpec>& volume) {
      if (volume && volume->object >= 0) {
        scene_.holders[volume->object] = std::make_shared<World>();
      }
    };
    for (const HazeSpec& h : rig_.hazes) {
      hold(h.inside);
    }
    for (const LightSpec& l : rig_.lights) {
      hold(l.inside);
    }
  }

  std::optional<Enclosure> enclosure_of(const VolumeSpec& v) const {
    if (v.shape) {
      return Enclosure(*v.shape, v.transform);
    }
    return v.solid != nullptr ? Enclosure(v.solid, v.transform, rig_.render.march)
                              : Enclosure(scene_.holders.at(v.object));
  }

  void add_objects() {
    const auto plain = static_cast<std::uint32_t>(rig_.materials.size());
    scene_.luminous.resize(rig_.lights.size());
    // Counted first: whether a mesh is shared decides where its triangles go.
    for (std::size_t i = 0; i < rig_.objects.size(); ++i) {
      const ObjectSpec& object = rig_.objects[i];
      if (!object.absent && !object.shape && object.solid < 0 && light_of_object_[i] < 0 &&
          scene_.holders.count(static_cast<int>(i)) == 0) {
        ++shared_meshes_[object.mesh].objects;
      }
    }
    for (std::uint32_t i = 0; i < rig_.objects.size(); ++i) {
      const int material = rig_.objects[i].material;
      scene_.surfaces.push_back(
          {i, material < 0 ? plain : static_cast<std::uint32_t>(material), kNoIndex});
      if (!rig_.objects[i].absent) {
        add_object(i);
      }
    }
  }

  // What of an object emits; null where it is no light.
  std::shared_ptr<const LuminousSurface>* luminous_of(std::uint32_t object) {
    const int light = light_of_object_[object];
    return light < 0 ? nullptr : &scene_.luminous[static_cast<std::size_t>(light)];
  }

  // The surface of an object has the object's number.
  void add_object(std::uint32_t i) {
    const ObjectSpec& object = rig_.objects[i];
    auto* const luminous = luminous_of(i);
    if (object.shape) {
      scene_.world.add_shape(*object.shape, object.transform, i);
      if (luminous != nullptr) {
        *luminous =
            std::make_shared<LuminousSurface>(*object.shape, object.transform, cover_of(scene_, i));
      }
    } else if (object.solid >= 0) {
      const Rig::Solid& solid = rig_.solids[static_cast<std::size_t>(object.solid)];
      const Transform& own = solid.node.place;
      scene_.world.add_solid(
          solid.compiled,
          {object.transform.linear * own.linear, object.transform.point(own.offset)},
          i,
          rig_.render.march);
    } else if (like_ == nullptr) {
      add_mesh_object(i);
    } else if (luminous != nullptr) {
      *luminous = like_->luminous[static_cast<std::size_t>(light_of_object_[i])];
    }
  }

  // Reads the mesh of an object, or takes it from one that shows it too; meshes_ and copies_ keep
  // what comes into the world once all objects are known.
  void add_mesh_object(std::uint32_t i) {
    const ObjectSpec& object = rig_.objects[i];
    const auto holder = scene_.holders.find(static_cast<int>(i));
    const bool held = holder != scene_.holders.end();
    auto* const luminous = luminous_of(i);
    SharedMesh* const shared =
        luminous != nullptr || held ? nullptr : &shared_meshes_.at(object.mesh);
    const bool known = shared != nullptr && shared->triangles != nullptr;
    auto parts = known                                         ? std::vector<MeshPart>{}
                 : shared != nullptr && !shared->parts.empty() ? shared->parts
                                                               : mesh_parts(object, problems_);
    if (parts.empty() && !known) {
      return;
    }
    const Transform transform = placed(object);
    if (shared != nullptr && shared->objects > 1 && !shared->looked_at) {
      look_at(*shared, parts);
    }
    // Beyond this floats have steps of a meter.
    constexpr float kFarthest = 1e7f;
    bool inside = true;
    if (shared != nullptr && shared->triangles != nullptr) {
      parts.clear();
      inside = within_reach(shared->triangles->bounds(), transform, kFarthest);
      copies_.push_back({shared, transform, i});
    }
    Mesh whole;
    for (MeshPart& part : parts) {
      transform_mesh(part.mesh, transform);
      for (const Vec3& p : part.mesh.positions) {
        inside = inside && p.cwiseAbs().maxCoeff() <= kFarthest;
      }
      if (luminous != nullptr) {
        append(whole, part.mesh);
      }
      if (held) {
        holder->second->add_mesh(part.mesh, 0);
      }
    }
    if (!inside) {
      mesh_error(object,
                 "out-of-range",
                 "a vertex lies farther than 10000 km from the origin",
                 "see mesh_length and scale");
      return;
    }
    if (luminous != nullptr) {
      *luminous = std::make_shared<LuminousSurface>(std::move(whole), cover_of(scene_, i));
    }
    if (held) {
      holder->second->build();
    }
    for (MeshPart& part : parts) {
      triangles_ += part.mesh.triangles.size();
      meshes_.push_back({std::move(part), i});
    }
    if (std::string fault = too_many_triangles(triangles_); !fault.empty()) {
      mesh_error(object, "too-large", std::move(fault), "");
    }
  }

  void mesh_error(const ObjectSpec& object, const char* code, std::string text, const char* hint) {
    problems_.push_back({Severity::kError,
                         code,
                         object.mesh_place,
                         "object." + object.name + ".mesh",
                         std::move(text),
                         hint});
  }

  // Puts the parts of meshes into the world: those of the object's own material, and one surface
  // more for each material that the file brings.
  void add_meshes() {
    for (auto& [part, object] : meshes_) {
      std::uint32_t surface = object;
      if (part.material != nullptr && rig_.objects[object].material < 0 &&
          light_of_object_[object] < 0) {
        surface = static_cast<std::uint32_t>(scene_.surfaces.size());
        scene_.surfaces.push_back(
            {object, static_cast<std::uint32_t>(scene_.materials.size()), kNoIndex});
        add_file_material(scene_, *part.material);
      }
      scene_.world.add_mesh(part.mesh, surface);
      part.mesh = {};
    }
    meshes_.clear();
  }

  // A copy has the file's materials, added once, and a surface of its own for each.
  void add_copies() {
    for (const Copy& copy : copies_) {
      std::vector<std::uint32_t> surfaces;
      for (std::size_t part = 0; part < copy.mesh->materials.size(); ++part) {
        surfaces.push_back(copy.object);
        if (const auto& material = copy.mesh->materials[part];
            material != nullptr && rig_.objects[copy.object].material < 0) {
          std::uint32_t& number = copy.mesh->numbers[part];
          if (number == kNoIndex) {
            number = static_cast<std::uint32_t>(scene_.materials.size());
            add_file_material(scene_, *material);
          }
          surfaces.back() = static_cast<std::uint32_t>(scene_.surfaces.size());
          scene_.surfaces.push_back({copy.object, number, kNoIndex});
        }
      }
      scene_.world.add_copy(copy.mesh->triangles, copy.transform, std::move(surfaces));
    }
    if (like_ != nullptr) {
      scene_.surfaces.insert(
          scene_.surfaces.end(),
          like_->surfaces.begin() + static_cast<std::ptrdiff_t>(scene_.surfaces.size()),
          like_->surfaces.begin() + static_cast<std::ptrdiff_t>(like_->object_surfaces));
    }
  }

  void add_hazes() {
    for (const HazeSpec& h : rig_.hazes) {
      add_haze(scene_,
               rig_,
               h,
               h.inside ? enclosure_of(*h.inside) : std::nullopt,
               like_ != nullptr ? like_->grids[scene_.grids.size()] : nullptr,
               problems_);
    }
  }

  void add_lights() {
    LightLoader loader(
        rig_, problems_, [this](const VolumeSpec& volume) { return enclosure_of(volume); });
    for (std::uint32_t i = 0; i < rig_.lights.size(); ++i) {
      const LightSpec& light = rig_.lights[i];
      const std::size_t before = problems_.size();
      LightParts parts = loader.parts(light, scene_.luminous[i]);
      const Problems added(problems_.begin() + static_cast<std::ptrdiff_t>(before),
                           problems_.end());
      if (!has_errors(added) && (light.object < 0 || scene_.luminous[i])) {
        add_light(i, std::move(parts));
      }
    }
  }

  void add_light(std::uint32_t index, LightParts parts) {
    const LightSpec& light = rig_.lights[index];
    // A light that fades with the camera's distance is scaled once for each scene: the camera does
    // not move within one.
    if (light.fade_with_camera && !rig_.cameras.empty()) {
      const double d = (rig_.cameras.at(static_cast<std::size_t>(camera_)).at - light.at).norm();
      parts.camera_fade =
          range_window(d, light.fade_with_camera->first, light.fade_with_camera->second);
    }
    Emitter e = make_emitter(light, parts, rig_.up);
    if (e.shines()) {
      e.layer = layer_of(light);
    }
    if (light.lit) {
      constexpr std::size_t kMostLinkLists = 64;
      const std::size_t list = number_of(link_lists_, *light.lit);
      // A bit for each list of linked objects: a query asks by one mask.
      if (list >= kMostLinkLists) {
        problems_.push_back(
            {Severity::kError,
             "out-of-range",
             light.place,
             "light." + light.name,
             fmt::format("more than {} different lists of linked objects", kMostLinkLists),
             "use tags, so that lights share them"});
        return;
      }
      e.link_bit = std::uint64_t{1} << list;
    }
    if (const auto throwing = objects_throwing(rig_, light)) {
      e.casters = static_cast<std::uint32_t>(number_of(caster_lists_, *throwing));
      e.only_sampled = true;  // a path that meets such an object would not find the light behind it
    }
    scene_.emitter_surface.push_back(kNoIndex);
    if (e.is_distant()) {
      scene_.distant.push_back(index);
    } else if (light.object >= 0) {
      if (e.shines()) {
        scene_.surfaces[static_cast<std::size_t>(light.object)].emitter = index;
      }
    } else if (!e.is_zero_size() && light.cheat.visible && (light.on || light.body)) {
      add_body(light, index);
    }
    scene_.lights.push_back(std::move(parts));
    scene_.emitters.push_back(std::move(e));
  }

  // The layer of a light that shines; a new one where no light before it has the same.
  std::uint32_t layer_of(const LightSpec& light) {
    const std::string layer =
        light.split_tint ? light.name + "~1"
                         : light.layer_in(rig_.render.layers == RenderSpec::Layers::kGroups);
    const auto known = std::find(scene_.layers.begin(), scene_.layers.end(), layer);
    const auto number = static_cast<std::uint32_t>(known - scene_.layers.begin());
    if (known == scene_.layers.end()) {
      scene_.layers.push_back(layer);
      if (light.split_tint) {
        scene_.layers.insert(scene_.layers.end(), {light.name + "~2", light.name + "~3"});
      }
    }
    return number;
  }

  // The body of a light with a size: it is seen, and throws shadows of other lights.
  void add_body(const LightSpec& light, std::uint32_t index) {
    Transform place;
    place.linear = light.shape.kind == LightKind::kTube
                       ? aimed(light.along, rig_.up, 0)  // a cylinder stands along z
                       : aimed(light.axis, rig_.up, light.roll);
    place.offset = light.at;
    const auto surface = static_cast<std::uint32_t>(scene_.surfaces.size());
    scene_.world.add_shape(body_of(light.shape), place, surface);
    scene_.emitter_surface.back() = surface;
    scene_.surfaces.push_back({kNoIndex, kNoIndex, index});
  }

  void find_glass_around_emitters() {
    scene_.emitter_glass.assign(scene_.emitters.size(), kNoIndex);
    if (std::none_of(scene_.materials.begin(), scene_.materials.end(), absorbs)) {
      return;
    }
    for (std::size_t i = 0; i < scene_.emitters.size(); ++i) {
      const Emitter& e = scene_.emitters[i];
      if (!e.is_distant() && e.kind != LightKind::kObject) {
        scene_.emitter_glass[i] = absorbing_glass_around(e.center);
      }
    }
  }

  // By a ray in any direction: the first surface of glass on it is left from within.
  std::uint32_t absorbing_glass_around(const Vec3& p) const {
    constexpr int kMostSurfaces = 64;
    Ray ray{p, Vec3(0.36f, 0.48f, 0.8f)};
    for (int i = 0; i < kMostSurfaces; ++i) {
      const Hit hit = scene_.world.closest(ray);
      if (!hit.found()) {
        break;
      }
      const SurfacePoint at = scene_.world.point(ray, hit);
      const std::uint32_t material = scene_.surfaces[at.surface].material;
      if (material != kNoIndex && scene_.materials[material].kind == SurfaceKind::kGlass &&
          !scene_.materials[material].thin) {
        const bool within = at.normal.dot(ray.direction) > 0;
        return within && absorbs(scene_.materials[material]) ? material : kNoIndex;
      }
      ray.origin = World::leave(at, ray.direction);
    }
    return kNoIndex;
  }

  static bool absorbs(const SurfaceModel& m) {
    return m.kind == SurfaceKind::kGlass && !m.thin && any_passes(m.absorption);
  }

  void give_hazes_layers() {
    for (std::size_t i = 0, glowing = 0; i < rig_.hazes.size(); ++i) {
      if (!(rig_.hazes[i].extinction > 0)) {
        continue;
      }
      Haze& haze = scene_.hazes[glowing++];
      if (haze.emission > 0) {
        const auto at = std::find(scene_.layers.begin(), scene_.layers.end(), rig_.hazes[i].name);
        haze.layer = static_cast<std::uint32_t>(at - scene_.layers.begin());
        if (at == scene_.layers.end()) {
          scene_.layers.push_back(rig_.hazes[i].name);
        }
      }
    }
  }

  // Which lights reach each surface, and which surfaces throw each light's shadows.
  void link_surfaces() {
    for (Scene::Surface& surface : scene_.surfaces) {
      surface.links = 0;
      if (surface.object != kNoIndex) {
        const ObjectSpec& object = rig_.objects[surface.object];
        surface.seen_by_camera = object.seen_by_camera;
        surface.receives_shadow = object.receives_shadow;
        surface.held_out = object.held_out;
        scene_.has_unshadowed = scene_.has_unshadowed || !object.receives_shadow;
      }
      for (std::size_t list = 0; list < link_lists_.size(); ++list) {
        if (surface.object != kNoIndex &&
            std::binary_search(
                link_lists_[list].begin(), link_lists_[list].end(), surface.object)) {
          surface.links |= std::uint64_t{1} << list;
        }
      }
    }
    for (const std::vector<std::uint32_t>& list : caster_lists_) {
      std::vector<bool> throws(scene_.surfaces.size(), false);
      for (std::size_t i = 0; i < throws.size(); ++i) {
        throws[i] = std::binary_search(list.begin(), list.end(), scene_.surfaces[i].object);
      }
      scene_.casters.push_back(std::move(throws));
    }
  }

  const Rig& rig_;
  const int camera_;
  const Scene* const like_;
  Scene scene_;
  Problems problems_;
  std::vector<int> light_of_object_;  // -1: it does not emit
  std::map<std::string, SharedMesh> shared_meshes_;
  std::vector<std::pair<MeshPart, std::uint32_t>> meshes_;  // with their objects
  std::vector<Copy> copies_;
  std::size_t triangles_ = 0;  // of meshes_
  std::vector<std::vector<std::uint32_t>> link_lists_, caster_lists_;
};

}  // namespace

Result<Scene> prepare_scene(const Rig& rig, int camera) {
  return SceneBuilder(rig, camera, nullptr).built({});
}

Result<Scene> prepare_moment(const Rig& rig,
                             int camera,
                             const Scene& like,
                             const std::vector<std::string>& layers) {
  return SceneBuilder(rig, camera, &like).built(layers);
}

}  // namespace jovilux
