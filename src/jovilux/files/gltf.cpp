#include "jovilux/files/gltf.h"

#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/read_file.h"
#include "jovilux/geometry/transform.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <functional>
#include <limits>
#include <optional>

#include <fmt/format.h>
#include <tiny_gltf.h>

namespace jovilux {
namespace {

using tinygltf::Accessor;
using tinygltf::Model;

struct Fault {
  std::string text;
};

// The values of an accessor as floats, `components` of each; integers normalized where the file
// says so.
class Reader {
 public:
  explicit Reader(const Model& model) : model_(model) {}

  const Accessor& accessor(int index, const char* what) const {
    if (index < 0 || static_cast<std::size_t>(index) >= model_.accessors.size()) {
      throw Fault{fmt::format("{}: there is no accessor {}", what, index)};
    }
    const Accessor& a = model_.accessors[static_cast<std::size_t>(index)];
    if (a.sparse.isSparse) {
      throw Fault{fmt::format("{}: sparse accessors are not read", what)};
    }
    if (a.bufferView < 0 || static_cast<std::size_t>(a.bufferView) >= model_.bufferViews.size()) {
      throw Fault{fmt::format("{}: accessor {} has no buffer view", what, index)};
    }
    const tinygltf::BufferView& view = model_.bufferViews[static_cast<std::size_t>(a.bufferView)];
    if (view.buffer < 0 || static_cast<std::size_t>(view.buffer) >= model_.buffers.size()) {
      throw Fault{fmt::format("{}: accessor {} has no buffer", what, index)};
    }
    const int parts = tinygltf::GetNumComponentsInType(static_cast<std::uint32_t>(a.type)),
              bytes =
                  tinygltf::GetComponentSizeInBytes(static_cast<std::uint32_t>(a.componentType));
    const int stride = a.ByteStride(view);
    const std::size_t size = model_.buffers[static_cast<std::size_t>(view.buffer)].data.size();
    const std::size_t item = parts > 0 && bytes > 0
                                 ? static_cast<std::size_t>(parts) * static_cast<std::size_t>(bytes)
                                 : 0;
    const bool inside = item > 0 && stride > 0 && a.count > 0 && view.byteOffset <= size &&
                        a.byteOffset <= size && view.byteOffset + a.byteOffset + item <= size &&
                        a.count - 1 <= (size - item - view.byteOffset - a.byteOffset) /
                                           static_cast<std::size_t>(stride);
    if (!inside) {
      throw Fault{fmt::format("{}: accessor {} reaches beyond its buffer", what, index)};
    }
    return a;
  }

  std::vector<float> floats(int index, int components, const char* what) const {
    const Accessor& a = accessor(index, what);
    if (tinygltf::GetNumComponentsInType(static_cast<std::uint32_t>(a.type)) != components) {
      throw Fault{
          fmt::format("{}: accessor {} does not hold {} values a vertex", what, index, components)};
    }
    const bool is_float = a.componentType == TINYGLTF_COMPONENT_TYPE_FLOAT,
               byte = a.componentType == TINYGLTF_COMPONENT_TYPE_UNSIGNED_BYTE,
               pair = a.componentType == TINYGLTF_COMPONENT_TYPE_UNSIGNED_SHORT;
    if (!is_float && !((byte || pair) && a.normalized)) {
      throw Fault{
          fmt::format("{}: accessor {} holds neither floats nor normalized integers", what, index)};
    }
    std::vector<float> out;
    out.reserve(a.count * static_cast<std::size_t>(components));
    each(a, [&](const unsigned char* p) {
      for (int k = 0; k < components; ++k) {
        float v = 0;
        if (is_float) {
          std::memcpy(&v, p + 4 * k, 4);
        } else if (pair) {
          std::uint16_t i = 0;
          std::memcpy(&i, p + 2 * k, 2);
          v = static_cast<float>(i) / 65535.0f;
        } else {
          v = static_cast<float>(p[k]) / 255.0f;
        }
        out.push_back(v);
      }
    });
    return out;
  }

  std::vector<std::uint32_t> indices(int index) const {
    const Accessor& a = accessor(index, "indices");
    const int bytes =
        tinygltf::GetComponentSizeInBytes(static_cast<std::uint32_t>(a.componentType));
    if (a.type != TINYGLTF_TYPE_SCALAR || a.componentType == TINYGLTF_COMPONENT_TYPE_FLOAT ||
        a.componentType == TINYGLTF_COMPONENT_TYPE_DOUBLE || bytes > 4) {
      throw Fault{fmt::format("accessor {} does not hold indices", index)};
    }
    std::vector<std::uint32_t> out;
    out.reserve(a.count);
    each(a, [&](const unsigned char* p) {
      std::uint32_t v = 0;
      std::memcpy(&v, p, static_cast<std::size_t>(bytes));  // little-endian, as the format is
      out.push_back(v);
    });
    return out;
  }

 private:
  template <class Fn>
  void each(const Accessor& a, const Fn& fn) const {
    const tinygltf::BufferView& view = model_.bufferViews[static_cast<std::size_t>(a.bufferView)];
    const auto& data = model_.buffers[static_cast<std::size_t>(view.buffer)].data;
    const auto stride = static_cast<std::size_t>(a.ByteStride(view));
    const unsigned char* p = data.data() + view.byteOffset + a.byteOffset;
    for (std::size_t i = 0; i < a.count; ++i) {
      fn(p + i * stride);
    }
  }

  const Model& model_;
};

Transform place_of(const tinygltf::Node& n) {
  Transform t;
  if (n.matrix.size() == 16) {
    for (int r = 0; r < 3; ++r) {
      for (int c = 0; c < 4; ++c) {
        const double v = n.matrix[static_cast<std::size_t>(4 * c + r)];
        (c < 3 ? t.linear(r, c) : t.offset[r]) = v;
      }
    }
    return t;
  }
  if (n.rotation.size() == 4) {
    const Eigen::Quaterniond q(n.rotation[3], n.rotation[0], n.rotation[1], n.rotation[2]);
    if (q.norm() > 1e-9) {
      t.linear = q.normalized().toRotationMatrix();
    }
  }
  if (n.scale.size() == 3) {
    t.linear *= Vec3d(n.scale[0], n.scale[1], n.scale[2]).asDiagonal();
  }
  if (n.translation.size() == 3) {
    t.offset = Vec3d(n.translation[0], n.translation[1], n.translation[2]);
  }
  return t;
}

class Importer {
 public:
  Importer(const std::string& path,
           std::size_t file_bytes,
           const Model& model,
           const std::vector<std::string>& images)
      : path_(path), model_(model), reader_(model), images_(images) {
    std::size_t bytes = file_bytes;
    for (const tinygltf::Buffer& b : model.buffers) {
      bytes += b.data.size();
    }
    // Nodes may show one mesh many times: so many, but not without end.
    most_items_ = std::min(kMaxGltfItems, 1'000'000 + 8 * bytes);
  }

  GltfScene run() {
    for (const tinygltf::Material& m : model_.materials) {
      out_.materials.push_back(material(m));
    }
    const auto scene = static_cast<std::size_t>(std::max(0, model_.defaultScene));
    std::vector<int> roots;
    if (scene < model_.scenes.size()) {
      roots = model_.scenes[scene].nodes;
    } else {
      for (std::size_t i = 0; i < model_.nodes.size(); ++i) {
        roots.push_back(static_cast<int>(i));
      }
    }
    std::vector<bool> seen(model_.nodes.size(), false);
    // A forest: no node has two parents, so that each is visited once.
    std::vector<std::pair<int, Transform>> open;
    for (auto r = roots.rbegin(); r != roots.rend(); ++r) {
      open.emplace_back(*r, Transform{});
    }
    while (!open.empty()) {
      const auto [index, above] = open.back();
      open.pop_back();
      if (index < 0 || static_cast<std::size_t>(index) >= model_.nodes.size()) {
        throw Fault{fmt::format("there is no node {}", index)};
      }
      if (seen[static_cast<std::size_t>(index)]) {
        if (scene < model_.scenes.size()) {
          throw Fault{fmt::format("node {} has more than one parent", index)};
        }
        continue;
      }
      seen[static_cast<std::size_t>(index)] = true;
      const tinygltf::Node& n = model_.nodes[static_cast<std::size_t>(index)];
      const Transform own = place_of(n);
      const Transform here{above.linear * own.linear, above.point(own.offset)};
      if (!here.linear.allFinite() || !here.offset.allFinite()) {
        throw Fault{fmt::format("node {} has a place that is not finite", index)};
      }
      node(n, here);
      for (auto child = n.children.rbegin(); child != n.children.rend(); ++child) {
        open.emplace_back(*child, here);
      }
    }
    return std::move(out_);
  }

  Problems warnings;

 private:
  void warn(const std::string& text) {
    if (std::none_of(
            warnings.begin(), warnings.end(), [&](const Problem& p) { return p.text == text; })) {
      warnings.push_back({Severity::kWarning, "gltf-part", {path_, 0, 0}, "", text, ""});
    }
  }

  GltfScene::Material material(const tinygltf::Material& m) {
    GltfScene::Material out;
    const tinygltf::PbrMetallicRoughness& p = m.pbrMetallicRoughness;
    out.name = m.name;
    for (std::size_t c = 0; c < 3 && c < p.baseColorFactor.size(); ++c) {
      out.color[static_cast<int>(c)] = share(p.baseColorFactor[c]);
    }
    out.metallic = share(p.metallicFactor);
    out.roughness = share(p.roughnessFactor);
    const int texture = p.baseColorTexture.index;
    if (texture < 0) {
      return out;
    }
    if (static_cast<std::size_t>(texture) >= model_.textures.size()) {
      throw Fault{fmt::format("there is no texture {}", texture)};
    }
    const int image = model_.textures[static_cast<std::size_t>(texture)].source;
    if (image < 0 || static_cast<std::size_t>(image) >= images_.size() ||
        p.baseColorTexture.texCoord != 0) {
      warn(
          fmt::format("the picture of material \"{}\" is passed over: it has no source, or uses a "
                      "second set of places",
                      printable(m.name, 60)));
      return out;
    }
    const std::string& bytes = images_[static_cast<std::size_t>(image)];
    if (!bytes.starts_with("\x89PNG")) {
      warn(fmt::format("the picture of material \"{}\" is passed over: only PNG is read",
                       printable(m.name, 60)));
      return out;
    }
    auto picture = load_png_bytes(bytes, path_);
    if (!picture) {
      throw Fault{picture.problems().front().text};
    }
    picture_pixels_ +=
        static_cast<std::uint64_t>(picture->width) * static_cast<std::uint64_t>(picture->height);
    if (picture_pixels_ > kMaxImagePixels) {
      throw Fault{fmt::format("its materials' pictures have more than {} pixels together",
                              kMaxImagePixels)};
    }
    out.picture = std::make_shared<LinearImage>(std::move(*picture));
    for (std::size_t i = 0; i < out.picture->rgb.size(); ++i) {
      out.picture->rgb[i] *= static_cast<float>(out.color[static_cast<int>(i % 3)]);
    }
    return out;
  }

  static double share(double v) { return std::isfinite(v) ? std::clamp(v, 0.0, 1.0) : 0.0; }

  // A node stands for a mesh, a light, a camera, or several of them.
  void node(const tinygltf::Node& n, const Transform& here) {
    if (n.mesh >= 0) {
      if (static_cast<std::size_t>(n.mesh) >= model_.meshes.size()) {
        throw Fault{fmt::format("there is no mesh {}", n.mesh)};
      }
      for (const tinygltf::Primitive& p :
           model_.meshes[static_cast<std::size_t>(n.mesh)].primitives) {
        primitive(p, here);
      }
    }
    if (n.skin >= 0) {
      warn("skins are passed over: meshes stand as they are stored");
    }
    if (const auto found = n.extensions.find("KHR_lights_punctual");
        found != n.extensions.end() && found->second.IsObject() && found->second.Has("light") &&
        found->second.Get("light").IsInt()) {
      light(found->second.Get("light").GetNumberAsInt(), n, here);
    }
    if (n.camera >= 0 && static_cast<std::size_t>(n.camera) < model_.cameras.size()) {
      const tinygltf::Camera& c = model_.cameras[static_cast<std::size_t>(n.camera)];
      if (c.type == "perspective") {
        GltfScene::Camera out;
        out.name = !n.name.empty() ? n.name : c.name;
        out.at = here.offset;
        out.toward = direction(here);
        out.view = std::clamp(c.perspective.yfov, 0.001, 3.0);
        out.aspect = c.perspective.aspectRatio > 0.01 && c.perspective.aspectRatio < 100
                         ? c.perspective.aspectRatio
                         : 1.5;
        out_.cameras.push_back(out);
      }
    }
  }

  // The way a light or camera looks: -z of its node.
  static Vec3d direction(const Transform& here) {
    const Vec3d d = -here.linear.col(2);
    return d.norm() > 1e-12 ? Vec3d(d.normalized()) : Vec3d(-Vec3d::UnitZ());
  }

  void light(int index, const tinygltf::Node& n, const Transform& here) {
    if (index < 0 || static_cast<std::size_t>(index) >= model_.lights.size()) {
      throw Fault{fmt::format("there is no light {}", index)};
    }
    const tinygltf::Light& l = model_.lights[static_cast<std::size_t>(index)];
    GltfScene::Light out;
    if (l.type != "point" && l.type != "spot" && l.type != "directional") {
      throw Fault{
          fmt::format("light {}: the type \"{}\" is not known", index, printable(l.type, 40))};
    }
    out.kind = l.type == "point"  ? GltfScene::Light::Kind::kPoint
               : l.type == "spot" ? GltfScene::Light::Kind::kSpot
                                  : GltfScene::Light::Kind::kDirectional;
    out.name = !n.name.empty() ? n.name : l.name;
    for (std::size_t c = 0; c < 3 && c < l.color.size(); ++c) {
      out.color[static_cast<int>(c)] = share(l.color[c]);
    }
    const bool angles = l.spot.innerConeAngle >= 0 &&
                        l.spot.outerConeAngle > l.spot.innerConeAngle &&
                        l.spot.outerConeAngle <= kPiD / 2 + 1e-6;
    if (!(l.intensity >= 0) || !std::isfinite(l.intensity) || !(l.range >= 0) ||
        !std::isfinite(l.range) || (out.kind == GltfScene::Light::Kind::kSpot && !angles)) {
      throw Fault{fmt::format("light {}: intensity, range or cone out of range", index)};
    }
    out.intensity = l.intensity;
    out.range = l.range;
    out.inner = l.spot.innerConeAngle;
    out.outer = l.spot.outerConeAngle;
    out.at = here.offset;
    out.toward = direction(here);
    out_.lights.push_back(out);
  }

  void primitive(const tinygltf::Primitive& p, const Transform& here) {
    const int mode = p.mode < 0 ? TINYGLTF_MODE_TRIANGLES : p.mode;
    if (mode != TINYGLTF_MODE_TRIANGLES && mode != TINYGLTF_MODE_TRIANGLE_STRIP &&
        mode != TINYGLTF_MODE_TRIANGLE_FAN) {
      warn("points and lines are passed over");
      return;
    }
    const auto position = p.attributes.find("POSITION");
    if (position == p.attributes.end()) {
      warn("a primitive without positions is passed over");
      return;
    }
    GltfScene::Part part;
    part.material =
        p.material >= 0 && static_cast<std::size_t>(p.material) < model_.materials.size()
            ? p.material
            : -1;
    const std::vector<float> xyz = reader_.floats(position->second, 3, "positions");
    items_ += xyz.size() / 3;
    std::vector<std::uint32_t> corners;
    if (p.indices >= 0) {
      corners = reader_.indices(p.indices);
    } else {
      corners.resize(xyz.size() / 3);
      for (std::size_t i = 0; i < corners.size(); ++i) {
        corners[i] = static_cast<std::uint32_t>(i);
      }
    }
    items_ += corners.size() / 3;
    if (items_ > most_items_) {
      throw Fault{
          fmt::format("more than {} vertices and triangles, meshes counted wherever they stand: "
                      "too many for a file of its size",
                      most_items_)};
    }
    for (std::size_t i = 0; i + 2 < xyz.size(); i += 3) {
      part.mesh.positions.emplace_back(xyz[i], xyz[i + 1], xyz[i + 2]);
    }
    if (const auto normal = p.attributes.find("NORMAL"); normal != p.attributes.end()) {
      const std::vector<float> n = reader_.floats(normal->second, 3, "normals");
      for (std::size_t i = 0; i + 2 < n.size(); i += 3) {
        part.mesh.normals.emplace_back(n[i], n[i + 1], n[i + 2]);
      }
    }
    if (const auto uv = p.attributes.find("TEXCOORD_0"); uv != p.attributes.end()) {
      const std::vector<float> t = reader_.floats(uv->second, 2, "texture coordinates");
      for (std::size_t i = 0; i + 1 < t.size(); i += 2) {
        part.mesh.uvs.emplace_back(t[i], 1 - t[i + 1]);  // theirs run down
      }
    }
    const std::size_t step = mode == TINYGLTF_MODE_TRIANGLES ? 3 : 1;
    // A strip turns every second triangle over; a fan's triangles share their first corner.
    for (std::size_t i = 0; i + 2 < corners.size(); i += step) {
      if (mode == TINYGLTF_MODE_TRIANGLE_FAN) {
        part.mesh.triangles.push_back({corners[0], corners[i + 1], corners[i + 2]});
      } else {
        const bool odd = mode == TINYGLTF_MODE_TRIANGLE_STRIP && i % 2 == 1;
        part.mesh.triangles.push_back(
            {corners[i + (odd ? 1 : 0)], corners[i + (odd ? 0 : 1)], corners[i + 2]});
      }
    }
    // Checked twice: a node may move finite corners beyond what is finite.
    if (const std::string fault = mesh_fault(part.mesh); !fault.empty()) {
      throw Fault{"a mesh " + fault};
    }
    transform_mesh(part.mesh, here);
    if (const std::string fault = mesh_fault(part.mesh); !fault.empty()) {
      throw Fault{"a mesh, moved by its node, " + fault};
    }
    out_.parts.push_back(std::move(part));
  }

  const std::string& path_;
  const Model& model_;
  Reader reader_;
  const std::vector<std::string>& images_;
  GltfScene out_;
  std::size_t most_items_, items_ = 0;
  std::uint64_t picture_pixels_ = 0;
};

// What the loader's callbacks need: where the file's own files are, and the pictures' bytes.
struct Sources {
  std::filesystem::path folder;
  const Model* model = nullptr;
  std::vector<std::string> images;
};

// A regular file in the folder of the glTF file or below it: a file from elsewhere may name any
// other, or a pipe that never ends.
bool is_own_file(const std::string& file, const Sources& sources) {
  std::error_code ec;
  const std::filesystem::path whole = std::filesystem::canonical(file, ec);
  if (ec || !std::filesystem::is_regular_file(whole, ec)) {
    return false;
  }
  const std::filesystem::path inside = whole.lexically_relative(sources.folder);
  return !inside.empty() && *inside.begin() != "..";
}

bool read_own_file(std::vector<unsigned char>* out,
                   std::string* err,
                   const std::string& file,
                   void* user) {
  if (!is_own_file(file, *static_cast<const Sources*>(user))) {
    *err += "the file " + printable(file, 100) + " is not in the folder of the glTF file; ";
    return false;
  }
  const auto bytes = read_mesh_bytes(file);
  if (!bytes) {
    *err += bytes.problems().front().text + "; ";
    return false;
  }
  out->assign(bytes->begin(), bytes->end());
  return true;
}

// Keeps a picture's bytes; those of a view must lie inside its buffer, which the loader does not
// check.
bool keep_image(tinygltf::Image* image,
                int index,
                std::string* err,
                std::string*,
                int,
                int,
                const unsigned char* data,
                int size,
                void* user) {
  constexpr int kMostImages = 100'000;
  auto& sources = *static_cast<Sources*>(user);
  if (index < 0 || index >= kMostImages || size < 0) {
    *err += "too many pictures; ";
    return false;
  }
  if (image->bufferView >= 0) {
    const auto& view = sources.model->bufferViews[static_cast<std::size_t>(image->bufferView)];
    const std::size_t all =
        sources.model->buffers[static_cast<std::size_t>(view.buffer)].data.size();
    if (view.byteOffset > all || view.byteLength > all - view.byteOffset) {
      *err += fmt::format("the view of picture {} lies outside its buffer; ", index);
      return false;
    }
  }
  sources.images.resize(std::max(sources.images.size(), static_cast<std::size_t>(index) + 1));
  sources.images[static_cast<std::size_t>(index)].assign(reinterpret_cast<const char*>(data),
                                                         static_cast<std::size_t>(size));
  return true;
}

// Whether braces and brackets are nested deeper than any exporter nests them: the loader's parser
// recurses, and a stack has an end.
bool too_deep(const std::string& json) {
  int depth = 0;
  bool text = false;
  for (std::size_t i = 0; i < json.size(); ++i) {
    if (text) {
      i += json[i] == '\\' ? 1 : 0;
      text = json[i] != '"';
    } else if (json[i] == '"') {
      text = true;
    } else if (json[i] == '{' || json[i] == '[') {
      if (++depth > 200) {
        return true;
      }
    } else if (json[i] == '}' || json[i] == ']') {
      --depth;
    }
  }
  return false;
}

}  // namespace

Result<GltfScene> load_gltf(const std::string& path) {
  const auto bytes = read_mesh_bytes(path);
  if (!bytes) {
    return bytes.problems();
  }
  // The loader reads no file by itself: all that it opens goes through is_own_file().
  tinygltf::TinyGLTF loader;
  Model model;
  std::string err, warn;
  const std::string folder =
      path.find('/') == std::string::npos ? "." : path.substr(0, path.rfind('/') + 1);
  std::error_code ec;
  Sources sources{std::filesystem::canonical(folder, ec), &model, {}};
  loader.SetImageLoader(keep_image, &sources);
  loader.SetFsCallbacks({[](const std::string& file, void*) {
                           std::error_code none;  // what it is, reading it says
                           return std::filesystem::exists(file, none);
                         },
                         [](const std::string& file, void*) { return file; },
                         read_own_file,
                         nullptr,
                         &sources});
  try {
    bool good = false;
    if (bytes->size() > std::numeric_limits<std::uint32_t>::max()) {
      return mesh_problem(path, 0, "is larger than 4 GB");
    }
    const auto size = static_cast<unsigned>(bytes->size());
    if (file_ending(path) == ".glb") {
      std::uint32_t length = 0;
      if (bytes->size() >= 20) {
        std::memcpy(&length, bytes->data() + 12, 4);
      }
      if (bytes->size() < 20 || length > bytes->size() - 20 ||
          too_deep(bytes->substr(20, length))) {
        return mesh_problem(path, 0, "is damaged, or not a GLB file");
      }
      good = loader.LoadBinaryFromMemory(
          &model, &err, &warn, reinterpret_cast<const unsigned char*>(bytes->data()), size, folder);
    } else {
      if (too_deep(*bytes)) {
        return mesh_problem(path, 0, "is nested too deeply for a glTF file");
      }
      good = loader.LoadASCIIFromString(&model, &err, &warn, bytes->data(), size, folder);
    }
    if (!good) {
      return mesh_problem(path, 0, "not a glTF file that can be read: " + printable(err, 200));
    }
    Importer importer(path, bytes->size(), model, sources.images);
    GltfScene out = importer.run();
    return {std::move(out), std::move(importer.warnings)};
  } catch (const Fault& f) {
    return mesh_problem(path, 0, f.text);
  } catch (const std::bad_alloc&) {
    throw;
  } catch (const std::exception& e) {
    return mesh_problem(path, 0, "not a glTF file that can be read: " + printable(e.what(), 200));
  }
}

}  // namespace jovilux
