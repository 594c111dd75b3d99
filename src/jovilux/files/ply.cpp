// Our own PLY reader: the loaders that were tried read missing data as zeros or crashed on damaged
// files.
#include "jovilux/base/text.h"
#include "jovilux/files/mesh_file.h"

#include <algorithm>
#include <bit>
#include <charconv>
#include <cmath>
#include <cstring>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

enum class Number { kI8, kU8, kI16, kU16, kI32, kU32, kF32, kF64 };
constexpr std::size_t size_of(Number n) {
  constexpr std::size_t kSizes[] = {1, 1, 2, 2, 4, 4, 4, 8};
  return kSizes[static_cast<std::size_t>(n)];
}

std::optional<Number> number_named(std::string_view name) {
  constexpr std::pair<std::string_view, Number> kNames[] = {{"char", Number::kI8},
                                                            {"int8", Number::kI8},
                                                            {"uchar", Number::kU8},
                                                            {"uint8", Number::kU8},
                                                            {"short", Number::kI16},
                                                            {"int16", Number::kI16},
                                                            {"ushort", Number::kU16},
                                                            {"uint16", Number::kU16},
                                                            {"int", Number::kI32},
                                                            {"int32", Number::kI32},
                                                            {"uint", Number::kU32},
                                                            {"uint32", Number::kU32},
                                                            {"float", Number::kF32},
                                                            {"float32", Number::kF32},
                                                            {"double", Number::kF64},
                                                            {"float64", Number::kF64}};
  for (const auto& [n, number] : kNames) {
    if (n == name) {
      return number;
    }
  }
  return std::nullopt;
}

struct Property {
  std::string name;
  Number type = Number::kF32;
  std::optional<Number> count;  // of a list
};
struct Element {
  std::string name;
  std::uint64_t count = 0;
  std::vector<Property> properties;
};

enum class Encoding { kText, kLittle, kBig };

std::vector<std::string_view> words_of(std::string_view line) {
  std::vector<std::string_view> words;
  while (!(line = trimmed(line)).empty()) {
    words.push_back(line.substr(0, line.find_first_of(" \t")));
    line.remove_prefix(words.back().size());
  }
  return words;
}

// The body of a file, number by number.
class Body {
 public:
  Body(std::string_view bytes, Encoding encoding) : rest_(bytes), encoding_(encoding) {}

  std::optional<double> next(Number type) {
    if (encoding_ == Encoding::kText) {
      const auto begin = rest_.find_first_not_of(" \t\r\n");
      if (begin == std::string_view::npos) {
        return std::nullopt;
      }
      rest_.remove_prefix(begin);
      const std::string_view word = rest_.substr(0, rest_.find_first_of(" \t\r\n"));
      rest_.remove_prefix(word.size());
      if (word == "nan" || word == "NaN" || word == "-nan") {
        return std::nan("");
      }
      return parse_number(word);
    }
    const std::size_t size = size_of(type);
    if (rest_.size() < size) {
      return std::nullopt;
    }
    unsigned char bytes[8];
    std::memcpy(bytes, rest_.data(), size);
    rest_.remove_prefix(size);
    if ((encoding_ == Encoding::kBig) == (std::endian::native == std::endian::little)) {
      std::reverse(bytes, bytes + size);
    }
    const auto as = [&]<class T>(T value) {
      std::memcpy(&value, bytes, sizeof value);
      return static_cast<double>(value);
    };
    switch (type) {
      case Number::kI8:
        return as(std::int8_t{});
      case Number::kU8:
        return as(std::uint8_t{});
      case Number::kI16:
        return as(std::int16_t{});
      case Number::kU16:
        return as(std::uint16_t{});
      case Number::kI32:
        return as(std::int32_t{});
      case Number::kU32:
        return as(std::uint32_t{});
      case Number::kF32:
        return as(float{});
      case Number::kF64:
        return as(double{});
    }
    return std::nullopt;
  }
  std::size_t left() const { return rest_.size(); }
  bool is_text() const { return encoding_ == Encoding::kText; }

 private:
  std::string_view rest_;
  Encoding encoding_;
};

}  // namespace

Result<Mesh> load_ply(const std::string& path) {
  auto bytes = read_mesh_bytes(path);
  if (!bytes) {
    return bytes.problems();
  }
  const std::string_view text = *bytes;
  std::vector<Element> elements;
  Encoding encoding = Encoding::kText;
  bool has_format = false, ended = false;
  std::size_t at = 0;
  std::uint32_t line_number = 0;
  while (!ended) {
    const std::size_t end = text.find('\n', at);
    ++line_number;
    if (end == std::string_view::npos || line_number > 1000) {
      return mesh_problem(path, line_number, "the PLY header has no end");
    }
    const std::string_view line = trimmed(text.substr(at, end - at));
    at = end + 1;
    const auto words = words_of(line);
    const auto fail = [&](const std::string& what) {
      return mesh_problem(path, line_number, what);
    };
    if (line_number == 1) {
      if (line != "ply") {
        return fail("not a PLY file: the first line is not \"ply\"");
      }
    } else if (words.empty() || words[0] == "comment" || words[0] == "obj_info") {
      continue;
    } else if (words[0] == "format" && words.size() == 3) {
      has_format = true;
      if (words[1] == "ascii") {
        encoding = Encoding::kText;
      } else if (words[1] == "binary_little_endian") {
        encoding = Encoding::kLittle;
      } else if (words[1] == "binary_big_endian") {
        encoding = Encoding::kBig;
      } else {
        return fail(fmt::format("unknown format \"{}\"", printable(words[1], 30)));
      }
    } else if (words[0] == "element" && words.size() == 3) {
      Element e;
      e.name = words[1];
      const auto [stop, error] =
          std::from_chars(words[2].data(), words[2].data() + words[2].size(), e.count);
      if (error != std::errc() || stop != words[2].data() + words[2].size()) {
        return fail(fmt::format("\"{}\" is not a number of elements", printable(words[2], 30)));
      }
      elements.push_back(std::move(e));
    } else if (words[0] == "property" && !elements.empty() && words.size() == 3 &&
               number_named(words[1])) {
      elements.back().properties.push_back(
          {std::string(words[2]), *number_named(words[1]), std::nullopt});
    } else if (words[0] == "property" && !elements.empty() && words.size() == 5 &&
               words[1] == "list" && number_named(words[2]) && number_named(words[3])) {
      elements.back().properties.push_back(
          {std::string(words[4]), *number_named(words[3]), number_named(words[2])});
    } else if (words[0] == "end_header") {
      ended = true;
    } else {
      return fail(fmt::format("cannot read \"{}\"", printable(line, 60)));
    }
  }
  if (!has_format) {
    return mesh_problem(path, 0, "the PLY header names no format");
  }
  Body body(text.substr(at), encoding);
  Mesh mesh;
  std::vector<double> list;
  for (const Element& e : elements) {
    // Each element takes some bytes: a count beyond what is left is a lie, found before memory is
    // taken.
    std::size_t least = 0;
    for (const Property& p : e.properties) {
      least += body.is_text() ? 2 : size_of(p.count.value_or(p.type));
    }
    if (e.count > 0 && (least == 0 || e.count > (body.left() + 1) / least)) {
      return mesh_problem(
          path,
          0,
          fmt::format("the header promises {} {} elements; the file is too short for them",
                      e.count,
                      printable(e.name, 20)));
    }
    const bool vertices = e.name == "vertex", faces = e.name == "face";
    int place_of[8] = {-1, -1, -1, -1, -1, -1, -1, -1};  // x y z nx ny nz u v among the properties
    int indices_at = -1;
    constexpr std::string_view kNames[8] = {"x", "y", "z", "nx", "ny", "nz", "u", "v"},
                               kAlso[8] = {"", "", "", "", "", "", "s", "t"};
    for (std::size_t p = 0; p < e.properties.size(); ++p) {
      for (int k = 0; k < 8; ++k) {
        if ((e.properties[p].name == kNames[k] || e.properties[p].name == kAlso[k]) &&
            !e.properties[p].count) {
          place_of[k] = static_cast<int>(p);
        }
      }
      if (e.properties[p].count &&
          (e.properties[p].name == "vertex_indices" || e.properties[p].name == "vertex_index")) {
        indices_at = static_cast<int>(p);
      }
    }
    if (vertices && (place_of[0] < 0 || place_of[1] < 0 || place_of[2] < 0)) {
      return mesh_problem(path, 0, "vertices have no x, y and z");
    }
    if (faces && indices_at < 0) {
      return mesh_problem(path, 0, "faces have no list vertex_indices");
    }
    const bool smooth = vertices && place_of[3] >= 0 && place_of[4] >= 0 && place_of[5] >= 0;
    const bool flat = vertices && place_of[6] >= 0 && place_of[7] >= 0;
    if (vertices) {
      mesh.positions.reserve(e.count);
      if (smooth) {
        mesh.normals.reserve(e.count);
      }
    } else if (faces) {
      mesh.triangles.reserve(e.count);
    }
    for (std::uint64_t i = 0; i < e.count; ++i) {
      double values[8] = {};
      for (std::size_t p = 0; p < e.properties.size(); ++p) {
        const Property& property = e.properties[p];
        const auto cut = [&] {
          return mesh_problem(
              path, 0, fmt::format("ends or is damaged in {} {}", printable(e.name, 20), i));
        };
        if (!property.count) {
          const auto v = body.next(property.type);
          if (!v) {
            return cut();
          }
          for (int k = 0; vertices && k < 8; ++k) {
            if (place_of[k] == static_cast<int>(p)) {
              values[k] = *v;
            }
          }
          continue;
        }
        const auto n = body.next(*property.count);
        if (!n || *n < 0 || *n > static_cast<double>(body.left()) + 1) {
          return cut();
        }
        list.clear();
        for (std::uint64_t k = 0; k < static_cast<std::uint64_t>(*n); ++k) {
          const auto v = body.next(property.type);
          if (!v) {
            return cut();
          }
          list.push_back(*v);
        }
        if (faces && static_cast<int>(p) == indices_at) {
          for (const double v : list) {
            if (!(v >= 0) || v >= static_cast<double>(mesh.positions.size()) ||
                v != std::floor(v)) {
              return mesh_problem(
                  path,
                  0,
                  fmt::format(
                      "face {} names vertex {}; there are {}", i, v, mesh.positions.size()));
            }
          }
          for (std::size_t k = 2; k < list.size(); ++k) {
            mesh.triangles.push_back({static_cast<std::uint32_t>(list[0]),
                                      static_cast<std::uint32_t>(list[k - 1]),
                                      static_cast<std::uint32_t>(list[k])});
          }
        }
      }
      if (vertices) {
        mesh.positions.emplace_back(static_cast<float>(values[0]),
                                    static_cast<float>(values[1]),
                                    static_cast<float>(values[2]));
        if (smooth) {
          mesh.normals.emplace_back(static_cast<float>(values[3]),
                                    static_cast<float>(values[4]),
                                    static_cast<float>(values[5]));
        }
        if (flat) {
          mesh.uvs.emplace_back(static_cast<float>(values[6]), static_cast<float>(values[7]));
        }
      }
    }
  }
  return mesh;
}

}  // namespace jovilux
