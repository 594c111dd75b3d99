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

// The columns of an element that a mesh takes.
struct Columns {
  enum Use : std::size_t { kX, kY, kZ, kNormalX, kNormalY, kNormalZ, kU, kV, kUses };
  std::vector<std::optional<Use>> of;  // by property
  std::array<bool, kUses> has{};
  std::optional<std::size_t> indices;  // the property that lists a face's vertices

  explicit Columns(const Element& e) : of(e.properties.size()) {
    constexpr std::array<std::string_view, kUses> kNames = {
        "x", "y", "z", "nx", "ny", "nz", "u", "v"};
    for (std::size_t p = 0; p < e.properties.size(); ++p) {
      const Property& property = e.properties[p];
      if (property.count) {
        if (property.name == "vertex_indices" || property.name == "vertex_index") {
          indices = p;
        }
        continue;
      }
      const std::string_view name = property.name == "s"   ? std::string_view("u")
                                    : property.name == "t" ? std::string_view("v")
                                                           : std::string_view(property.name);
      const auto found = std::find(kNames.begin(), kNames.end(), name);
      if (found != kNames.end()) {
        of[p] = static_cast<Use>(found - kNames.begin());
        has[*of[p]] = true;
      }
    }
  }
  bool has_position() const { return has[kX] && has[kY] && has[kZ]; }
  bool has_normal() const { return has[kNormalX] && has[kNormalY] && has[kNormalZ]; }
  bool has_uv() const { return has[kU] && has[kV]; }
};

// Reads a file part by part; each part gives a problem, or none.
class PlyReader {
 public:
  PlyReader(std::string_view text, const std::string& path) : text_(text), path_(path) {}

  Result<Mesh> read() {
    if (auto problem = read_header()) {
      return *std::move(problem);
    }
    Body body(text_.substr(at_), encoding_);
    for (const Element& e : elements_) {
      if (auto problem = read_element(e, body)) {
        return *std::move(problem);
      }
    }
    return std::move(mesh_);
  }

 private:
  using Trouble = std::optional<Problem>;
  static constexpr std::uint32_t kMostHeaderLines = 1000;

  Trouble fail(const std::string& what, std::uint32_t line = 0) const {
    return mesh_problem(path_, line, what);
  }

  Trouble read_header() {
    bool has_format = false;
    for (std::uint32_t number = 1;; ++number) {
      const std::size_t end = text_.find('\n', at_);
      if (end == std::string_view::npos || number > kMostHeaderLines) {
        return fail("the PLY header has no end", number);
      }
      const std::string_view line = trimmed(text_.substr(at_, end - at_));
      at_ = end + 1;
      const auto words = words_of(line);
      if (number == 1) {
        if (line != "ply") {
          return fail("not a PLY file: the first line is not \"ply\"", number);
        }
      } else if (words.empty() || words[0] == "comment" || words[0] == "obj_info") {
        continue;
      } else if (words[0] == "end_header") {
        return has_format ? Trouble() : fail("the PLY header names no format");
      } else if (auto problem = read_header_line(line, words, number, has_format)) {
        return problem;
      }
    }
  }

  Trouble read_header_line(std::string_view line,
                           const std::vector<std::string_view>& words,
                           std::uint32_t number,
                           bool& has_format) {
    if (words[0] == "format" && words.size() == 3) {
      has_format = true;
      return read_format(words[1], number);
    }
    if (words[0] == "element" && words.size() == 3) {
      return read_element_line(words[1], words[2], number);
    }
    if (words[0] == "property" && !elements_.empty()) {
      std::vector<Property>& properties = elements_.back().properties;
      if (words.size() == 3 && number_named(words[1])) {
        properties.push_back({std::string(words[2]), *number_named(words[1]), std::nullopt});
        return {};
      }
      if (words.size() == 5 && words[1] == "list" && number_named(words[2]) &&
          number_named(words[3])) {
        properties.push_back(
            {std::string(words[4]), *number_named(words[3]), number_named(words[2])});
        return {};
      }
    }
    return fail(fmt::format("cannot read \"{}\"", printable(line, 60)), number);
  }

  Trouble read_format(std::string_view name, std::uint32_t number) {
    if (name == "ascii") {
      encoding_ = Encoding::kText;
    } else if (name == "binary_little_endian") {
      encoding_ = Encoding::kLittle;
    } else if (name == "binary_big_endian") {
      encoding_ = Encoding::kBig;
    } else {
      return fail(fmt::format("unknown format \"{}\"", printable(name, 30)), number);
    }
    return {};
  }

  Trouble read_element_line(std::string_view name, std::string_view count, std::uint32_t number) {
    Element e;
    e.name = name;
    const auto [stop, error] = std::from_chars(count.data(), count.data() + count.size(), e.count);
    if (error != std::errc() || stop != count.data() + count.size()) {
      return fail(fmt::format("\"{}\" is not a number of elements", printable(count, 30)), number);
    }
    elements_.push_back(std::move(e));
    return {};
  }

  Trouble read_element(const Element& e, Body& body) {
    // Each element takes some bytes: a count beyond what is left is a lie, found before memory is
    // taken.
    std::size_t least = 0;
    for (const Property& p : e.properties) {
      least += body.is_text() ? 2 : size_of(p.count.value_or(p.type));
    }
    if (e.count > 0 && (least == 0 || e.count > (body.left() + 1) / least)) {
      return fail(fmt::format("the header promises {} {} elements; the file is too short for them",
                              e.count,
                              printable(e.name, 20)));
    }
    const Columns columns(e);
    const bool vertices = e.name == "vertex", faces = e.name == "face";
    if (vertices && !columns.has_position()) {
      return fail("vertices have no x, y and z");
    }
    if (faces && !columns.indices) {
      return fail("faces have no list vertex_indices");
    }
    if (vertices) {
      mesh_.positions.reserve(e.count);
      mesh_.normals.reserve(columns.has_normal() ? e.count : 0);
    } else if (faces) {
      mesh_.triangles.reserve(e.count);
    }
    for (std::uint64_t i = 0; i < e.count; ++i) {
      if (!read_row(e, columns, body)) {
        return fail(fmt::format("ends or is damaged in {} {}", printable(e.name, 20), i));
      }
      if (vertices) {
        add_vertex(columns);
      } else if (auto problem = faces ? add_face(i) : Trouble()) {
        return problem;
      }
    }
    return {};
  }

  // The values of one element: numbers by their use, and the vertices of a face.
  bool read_row(const Element& e, const Columns& columns, Body& body) {
    for (std::size_t p = 0; p < e.properties.size(); ++p) {
      const Property& property = e.properties[p];
      if (!property.count) {
        const auto v = body.next(property.type);
        if (!v) {
          return false;
        }
        if (columns.of[p]) {
          values_[*columns.of[p]] = *v;
        }
        continue;
      }
      const auto n = body.next(*property.count);
      if (!n || *n < 0 || *n > static_cast<double>(body.left()) + 1) {
        return false;
      }
      const bool kept = columns.indices == p;
      if (kept) {
        face_.clear();
      }
      for (std::uint64_t k = 0; k < static_cast<std::uint64_t>(*n); ++k) {
        const auto v = body.next(property.type);
        if (!v) {
          return false;
        }
        if (kept) {
          face_.push_back(*v);
        }
      }
    }
    return true;
  }

  Vec3 three(Columns::Use first) const {
    return {static_cast<float>(values_[first]),
            static_cast<float>(values_[first + 1]),
            static_cast<float>(values_[first + 2])};
  }

  void add_vertex(const Columns& columns) {
    mesh_.positions.push_back(three(Columns::kX));
    if (columns.has_normal()) {
      mesh_.normals.push_back(three(Columns::kNormalX));
    }
    if (columns.has_uv()) {
      mesh_.uvs.emplace_back(static_cast<float>(values_[Columns::kU]),
                             static_cast<float>(values_[Columns::kV]));
    }
  }

  // A face as a fan of triangles.
  Trouble add_face(std::uint64_t number) {
    for (const double v : face_) {
      if (!(v >= 0) || v >= static_cast<double>(mesh_.positions.size()) || v != std::floor(v)) {
        return fail(fmt::format(
            "face {} names vertex {}; there are {}", number, v, mesh_.positions.size()));
      }
    }
    for (std::size_t k = 2; k < face_.size(); ++k) {
      mesh_.triangles.push_back({static_cast<std::uint32_t>(face_[0]),
                                 static_cast<std::uint32_t>(face_[k - 1]),
                                 static_cast<std::uint32_t>(face_[k])});
    }
    return {};
  }

  std::string_view text_;
  const std::string& path_;
  std::size_t at_ = 0;  // where the next line of the header begins, then the body
  Encoding encoding_ = Encoding::kText;
  std::vector<Element> elements_;
  Mesh mesh_;
  std::array<double, Columns::kUses> values_{};  // of the element read last,
  std::vector<double> face_;                     // and its list of vertices
};

}  // namespace

Result<Mesh> load_ply(const std::string& path) {
  const auto bytes = read_mesh_bytes(path);
  if (!bytes) {
    return bytes.problems();
  }
  return PlyReader(*bytes, path).read();
}

}  // namespace jovilux
