#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"

#include <charconv>
#include <cmath>
#include <map>
#include <sstream>

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
  const tinyobj::attrib_t& attributes = reader.GetAttrib();
  const std::size_t vertex_count = attributes.vertices.size() / 3,
                    normal_count = attributes.normals.size() / 3,
                    uv_count = attributes.texcoords.size() / 2;
  Mesh mesh;
  // A face without normals among others is flat; the others keep theirs.
  const auto has_normal = [&](const tinyobj::index_t& i) {
    return i.normal_index >= 0 && static_cast<std::size_t>(i.normal_index) < normal_count;
  };
  bool smooth = false, flat = uv_count > 0;
  for (const tinyobj::shape_t& shape : reader.GetShapes()) {
    for (const tinyobj::index_t& i : shape.mesh.indices) {
      if (i.vertex_index < 0 || static_cast<std::size_t>(i.vertex_index) >= vertex_count) {
        return mesh_problem(
            path,
            0,
            fmt::format("a face names vertex {}; there are {}", i.vertex_index + 1, vertex_count));
      }
      smooth = smooth || has_normal(i);
      flat = flat && i.texcoord_index >= 0 && static_cast<std::size_t>(i.texcoord_index) < uv_count;
    }
  }
  // A vertex of ours is a triple of theirs.
  std::map<std::array<std::size_t, 3>, std::uint32_t> seen;
  for (const tinyobj::shape_t& shape : reader.GetShapes()) {
    for (std::size_t t = 0; t + 2 < shape.mesh.indices.size(); t += 3) {
      std::array<std::uint32_t, 3> corners{};
      const auto corner_at = [&](std::size_t k) {
        const auto v = static_cast<std::size_t>(shape.mesh.indices[t + k].vertex_index);
        return Vec3(attributes.vertices[3 * v],
                    attributes.vertices[3 * v + 1],
                    attributes.vertices[3 * v + 2]);
      };
      for (std::size_t k = 0; k < 3; ++k) {
        const tinyobj::index_t& i = shape.mesh.indices[t + k];
        const auto v = static_cast<std::size_t>(i.vertex_index);
        // The flat normal of a face is its own: no other face shares its corners.
        const auto n = !smooth         ? 0
                       : has_normal(i) ? static_cast<std::size_t>(i.normal_index)
                                       : normal_count + mesh.triangles.size();
        const auto uv = flat ? static_cast<std::size_t>(i.texcoord_index) : 0;
        const auto [at, fresh] =
            seen.emplace(std::array{v, n, uv}, static_cast<std::uint32_t>(mesh.positions.size()));
        if (fresh) {
          mesh.positions.push_back(corner_at(k));
          if (smooth && !has_normal(i)) {
            const Vec3 across = (corner_at(1) - corner_at(0)).cross(corner_at(2) - corner_at(0));
            mesh.normals.push_back(across.norm() > 0 ? Vec3(across.normalized()) : Vec3::UnitZ());
          } else if (smooth) {
            mesh.normals.emplace_back(attributes.normals[3 * n],
                                      attributes.normals[3 * n + 1],
                                      attributes.normals[3 * n + 2]);
          }
          if (flat) {
            mesh.uvs.emplace_back(attributes.texcoords[2 * uv], attributes.texcoords[2 * uv + 1]);
          }
        }
        corners[k] = at->second;
      }
      mesh.triangles.push_back(corners);
    }
  }
  return mesh;
}

}  // namespace jovilux
