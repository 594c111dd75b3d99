#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"

#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <optional>
#include <span>
#include <sstream>
#include <utility>

#include <fmt/format.h>
#include <tiny_obj_loader.h>

namespace jovilux {
namespace {

// The library reads what it does not understand as zeros: numbers and indices are looked through
// first.
std::optional<Problem> fault_in(const std::string& text, const std::string& path) {
  std::uint32_t line_number = 0;
  std::int64_t vertices = 0;
  std::size_t begin = 0;
  while (begin < text.size()) {
    ++line_number;
    const std::size_t end = std::min(text.find('\n', begin), text.size());
    std::string_view line = trimmed(std::string_view(text).substr(begin, end - begin));
    begin = end + 1;
    if (line.find('\0') != std::string_view::npos) {
      return mesh_problem(path, line_number, "not an OBJ file: it holds a zero byte");
    }
    const bool is_vertex = line.starts_with("v "), is_normal = line.starts_with("vn ");
    const bool is_face = line.starts_with("f ");
    if (!is_vertex && !is_normal && !is_face) {
      continue;
    }
    vertices += is_vertex ? 1 : 0;
    line.remove_prefix(is_normal ? 3 : 2);
    int words = 0;
    while (!(line = trimmed(line)).empty()) {
      const std::string_view word = line.substr(0, line.find_first_of(" \t"));
      line.remove_prefix(word.size());
      ++words;
      if (is_face) {
        std::int64_t index = 0;
        const auto [stop, error] = std::from_chars(word.data(), word.data() + word.size(), index);
        const bool clean =
            error == std::errc() && (stop == word.data() + word.size() || *stop == '/');
        // Indices count from 1, or backward from the last vertex so far as negative numbers; 0
        // names no vertex.
        if (!clean || index == 0 || index > vertices || -index > vertices) {
          return mesh_problem(path,
                              line_number,
                              fmt::format("face: \"{}\" is not one of the {} vertices above it",
                                          printable(word, 20),
                                          vertices));
        }
      } else if (words <= 3 && !parse_number(word)) {
        return mesh_problem(
            path, line_number, fmt::format("\"{}\" is not a finite number", printable(word, 20)));
      }
    }
    if (words < 3) {
      return mesh_problem(path, line_number, fmt::format("{} values; expected at least 3", words));
    }
  }
  return std::nullopt;
}

// A file's faces as a mesh of ours, each of whose vertices is a triple of theirs: place, normal,
// texture coordinates.
class ObjMesh {
 public:
  explicit ObjMesh(const tinyobj::ObjReader& reader)
      : reader_(reader), attributes_(reader.GetAttrib()) {}

  // Whether all faces name vertices that are there; what is wrong else. Notes whether any face has
  // normals, and all have texture coordinates.
  std::optional<std::string> fault() {
    const std::size_t vertex_count = attributes_.vertices.size() / 3,
                      uv_count = attributes_.texcoords.size() / 2;
    has_uvs_ = uv_count > 0;
    for (const tinyobj::shape_t& shape : reader_.GetShapes()) {
      for (const tinyobj::index_t& i : shape.mesh.indices) {
        if (i.vertex_index < 0 || static_cast<std::size_t>(i.vertex_index) >= vertex_count) {
          return fmt::format(
              "a face names vertex {}; there are {}", i.vertex_index + 1, vertex_count);
        }
        smooth_ = smooth_ || has_normal(i);
        has_uvs_ = has_uvs_ && i.texcoord_index >= 0 &&
                   static_cast<std::size_t>(i.texcoord_index) < uv_count;
      }
    }
    return std::nullopt;
  }

  Mesh mesh() {
    for (const tinyobj::shape_t& shape : reader_.GetShapes()) {
      for (std::size_t t = 0; t + 2 < shape.mesh.indices.size(); t += 3) {
        add_face(std::span(shape.mesh.indices).subspan(t).first<3>());
      }
    }
    return std::move(mesh_);
  }

 private:
  using Face = std::span<const tinyobj::index_t, 3>;

  bool has_normal(const tinyobj::index_t& i) const {
    return i.normal_index >= 0 &&
           static_cast<std::size_t>(i.normal_index) < attributes_.normals.size() / 3;
  }
  Vec3 position(const tinyobj::index_t& i) const {
    const float* v = attributes_.vertices.data() + 3 * static_cast<std::size_t>(i.vertex_index);
    return {v[0], v[1], v[2]};
  }
  // A face without normals among others is flat; the others keep theirs.
  Vec3 normal(const Face& face, const tinyobj::index_t& i) const {
    if (has_normal(i)) {
      const float* n = attributes_.normals.data() + 3 * static_cast<std::size_t>(i.normal_index);
      return {n[0], n[1], n[2]};
    }
    const Vec3 across =
        (position(face[1]) - position(face[0])).cross(position(face[2]) - position(face[0]));
    return across.norm() > 0 ? Vec3(across.normalized()) : Vec3::UnitZ();
  }

  void add_face(const Face& face) {
    std::array<std::uint32_t, 3> corners{};
    for (std::size_t k = 0; k < 3; ++k) {
      const tinyobj::index_t& i = face[k];
      // The flat normal of a face is its own: no other face shares its corners.
      const std::size_t n = !smooth_ ? 0
                            : has_normal(i)
                                ? static_cast<std::size_t>(i.normal_index)
                                : attributes_.normals.size() / 3 + mesh_.triangles.size(),
                        uv = has_uvs_ ? static_cast<std::size_t>(i.texcoord_index) : 0;
      const auto [at, fresh] =
          seen_.emplace(std::array{static_cast<std::size_t>(i.vertex_index), n, uv},
                        static_cast<std::uint32_t>(mesh_.positions.size()));
      if (fresh) {
        mesh_.positions.push_back(position(i));
        if (smooth_) {
          mesh_.normals.push_back(normal(face, i));
        }
        if (has_uvs_) {
          mesh_.uvs.emplace_back(attributes_.texcoords[2 * uv], attributes_.texcoords[2 * uv + 1]);
        }
      }
      corners[k] = at->second;
    }
    mesh_.triangles.push_back(corners);
  }

  const tinyobj::ObjReader& reader_;
  const tinyobj::attrib_t& attributes_;
  bool smooth_ = false, has_uvs_ = false;
  std::map<std::array<std::size_t, 3>, std::uint32_t> seen_;
  Mesh mesh_;
};

}  // namespace

Result<Mesh> load_obj(const std::string& path) {
  auto text = read_mesh_bytes(path);
  if (!text) {
    return text.problems();
  }
  if (auto fault = fault_in(*text, path)) {
    return *fault;
  }
  tinyobj::ObjReaderConfig config;
  config.triangulate = true;
  config.vertex_color = false;
  tinyobj::ObjReader reader;
  if (!reader.ParseFromString(*text, "", config)) {
    return mesh_problem(path, 0, "not a readable OBJ file: " + printable(reader.Error(), 160));
  }
  ObjMesh faces(reader);
  if (const auto fault = faces.fault()) {
    return mesh_problem(path, 0, *fault);
  }
  return faces.mesh();
}

}  // namespace jovilux
