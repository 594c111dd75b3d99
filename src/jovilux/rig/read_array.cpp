#include "jovilux/base/text.h"
#include "jovilux/rig/read_light.h"

#include <cmath>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::int64_t kMostCopies = 100'000;

using Places = std::vector<Vec3d>;

// Places in the middles of `count` equal parts of a line, as the tube that the copies imitate
// shines.
Places along_line(TableReader& r, std::int64_t count) {
  Places out;
  r.require("from");
  r.require("to");
  const auto from = r.vector("from"), to = r.vector("to");
  for (std::int64_t i = 0; from && to && i < count; ++i) {
    out.push_back(*from +
                  (*to - *from) * ((static_cast<double>(i) + 0.5) / static_cast<double>(count)));
  }
  return out;
}

// Evenly round a circle, or in the middles of `count` equal parts of a helix.
Places round_axis(TableReader& r, const Vec3d& up, bool helix, std::int64_t count) {
  Places out;
  const Vec3d at = r.vector_or_standard("at");
  const Vec3d axis = r.direction("axis").value_or(up);
  r.require("radius");
  const auto radius = r.number("radius");
  const Mat3d frame = aimed(axis, Vec3d::UnitZ(), 0);
  double pitch = 0, turns = 1;
  if (helix) {
    r.require("pitch");
    r.require("turns");
    pitch = r.number("pitch").value_or(0);
    turns = r.number("turns").value_or(1);
  }
  for (std::int64_t i = 0; radius && i < count; ++i) {
    const double u =
        (static_cast<double>(i) + (helix ? 0.5 : 0.0)) / static_cast<double>(count) * turns;
    const double phi = 2 * kPiD * u;
    out.push_back(at + frame * Vec3d(*radius * std::cos(phi), *radius * std::sin(phi), pitch * u));
  }
  return out;
}

// Centered on `at`.
Places in_grid(TableReader& r, std::optional<std::int64_t> count) {
  Places out;
  const Vec3d at = r.vector_or_standard("at");
  r.require("spacing");
  r.require("cells");
  const auto step = r.vector("spacing");
  const auto cells = r.vector("cells");
  if (!step || !cells) {
    return out;
  }
  std::int64_t size[3];
  for (int a = 0; a < 3; ++a) {
    size[a] = std::llround((*cells)[a]);
  }
  const std::int64_t all = size[0] * size[1] * size[2];
  if (all > kMostCopies || (count && all != *count)) {
    r.error("cells",
            r.place("cells"),
            "out-of-range",
            fmt::format(
                "{} copies; expected {}",
                all,
                count ? fmt::format("count = {}", *count) : fmt::format("at most {}", kMostCopies)),
            count ? "leave count out" : "");
    return out;
  }
  const auto middle = [](std::int64_t i, std::int64_t of) {
    return static_cast<double>(i) - static_cast<double>(of - 1) / 2;
  };
  for (std::int64_t z = 0; z < size[2]; ++z) {
    for (std::int64_t y = 0; y < size[1]; ++y) {
      for (std::int64_t x = 0; x < size[0]; ++x) {
        const Vec3d cell(middle(x, size[0]), middle(y, size[1]), middle(z, size[2]));
        out.push_back(at + cell.cwiseProduct(*step));
      }
    }
  }
  return out;
}

Places at_points(TableReader& r, std::optional<std::int64_t> count) {
  Places out;
  const DocumentNode* points = r.find("points");
  if (points == nullptr || !points->is_array()) {
    r.missing("points");
    return out;
  }
  for (const DocumentNode& point : points->array()) {
    if (const auto p = r.amounts_of(point, "points", Dimension::kLength, 3, {-1e7, 1e7})) {
      out.push_back(Vec3d((*p)[0], (*p)[1], (*p)[2]));
    }
  }
  if (count && *count != static_cast<std::int64_t>(points->array().size())) {
    r.error("points",
            points->place,
            "conflict",
            fmt::format("{} points for count = {}", points->array().size(), *count),
            "leave count out");
  }
  return out;
}

// The copies' places along a path; empty where an error leaves them unknown.
Places places_along(TableReader& r, const Vec3d& up, std::optional<std::int64_t> count) {
  enum class Path : std::uint8_t { kLine, kCircle, kHelix, kGrid, kPoints };
  r.require("path");
  const auto path = r.word("path");
  if (!path) {
    return {};
  }
  r.set_kind(r.words("path")[*path]);
  Places out;
  switch (static_cast<Path>(*path)) {
    case Path::kLine:
      out = along_line(r, count.value_or(0));
      break;
    case Path::kCircle:
    case Path::kHelix:
      out = round_axis(r, up, static_cast<Path>(*path) == Path::kHelix, count.value_or(0));
      break;
    case Path::kGrid:
      out = in_grid(r, count);
      break;
    case Path::kPoints:
      out = at_points(r, count);
      break;
  }
  r.finish(fmt::format("path \"{}\"", r.kind()));
  return out;
}

// Tells numbers of copies that there are not.
void check_single_copies(TableReader& r, const DocumentNode& single, std::size_t copies) {
  for (const DocumentEntry& e : single.table()) {
    const auto index = parse_number(e.key);
    if (!index || *index < 0 || *index >= static_cast<double>(copies) ||
        *index != std::floor(*index)) {
      r.error("copy",
              e.place,
              "out-of-range",
              fmt::format("there is no copy [{}]; copies run from 0 to {}",
                          printable(e.key, 20),
                          static_cast<std::int64_t>(copies) - 1));
    }
  }
}

}  // namespace

Copies read_copies(TableReader& r, const DocumentNode& pattern, const Rig& rig) {
  Copies out;
  const auto count = r.whole("count");
  const DocumentNode* along = r.find("along");
  if (along == nullptr || !along->is_table()) {
    r.missing("along");
  } else {
    TableReader path = r.within("along", *along);
    if (!count && !r.has("count") && (path.has("from") || path.has("radius"))) {
      r.missing("count");
    }
    out.places = places_along(path, rig.up, count);
  }
  const DocumentNode* single = r.table("copy");
  if (single != nullptr) {
    check_single_copies(r, *single, out.places.size());
  }
  // Each copy is the pattern's table with its own keys put over it, and is read like any other.
  for (std::size_t i = 0; i < out.places.size(); ++i) {
    const DocumentNode* own = single != nullptr ? single->find(std::to_string(i)) : nullptr;
    DocumentNode table = pattern;
    if (own != nullptr && own->is_table()) {
      for (const DocumentEntry& e : own->table()) {
        table.set(e.key, e.place, e.value);
      }
    }
    out.tables.push_back(std::move(table));
    out.own.push_back(own);
  }
  return out;
}

std::vector<LightSpec> read_array(TableReader& r,
                                  const std::string& name,
                                  const DocumentNode& pattern,
                                  const Rig& rig,
                                  const AssemblyPlacement* assembly) {
  enum class Share : std::uint8_t { kTotal, kEach };
  std::vector<LightSpec> copies;
  r.require("output");
  const auto word = r.word("output");
  r.find("of");
  const Copies all = read_copies(r, pattern, rig);
  r.finish();
  const std::vector<Vec3d>& places = all.places;
  for (std::size_t i = 0; i < places.size() && word; ++i) {
    const DocumentNode* own = all.own[i];
    const std::string copy_name = fmt::format("{}[{}]", name, i);
    TableReader reader(all.tables[i],
                       fmt::format("light.{}[{}]", address_part(name), i),
                       r.length(),
                       r.problems());
    reader.find("name");
    auto light = read_light(reader, rig);
    if (!light) {
      break;  // the same fault would be told for each copy
    }
    const LightKind kind = light->shape.kind;
    if (is_distant(kind) || kind == LightKind::kObject) {
      r.error("of",
              r.place("of"),
              "wrong-type",
              fmt::format("a {} has no copies: {}",
                          to_string(kind),
                          is_distant(kind) ? "it is everywhere" : "its object is one"));
      break;
    }
    light->name = copy_name;
    light->layer = name;
    light->copies = static_cast<int>(places.size());
    light->copies_place = r.place("output");
    if (light->flicker && (own == nullptr || own->find("flicker") == nullptr)) {
      light->flicker->seed += static_cast<std::uint32_t>(i);  // no two flames are alike
    }
    if (assembly != nullptr) {
      move_light(*assembly, rig.up, *light);
    }
    light->at += places[i];
    if (light->aim) {
      *light->aim += places[i];
    }
    const bool own_output = own != nullptr && own->find("output") != nullptr;
    // The pattern's output is that of all copies together: each has its share.
    if (static_cast<Share>(*word) == Share::kTotal && !own_output) {
      const double share = light->share = 1.0 / static_cast<double>(places.size());
      const auto divide = [share](auto& level) {
        if (level) {
          level->value *= share;
        }
      };
      divide(light->levels.flux);
      divide(light->levels.intensity);
      divide(light->levels.luminance);
    }
    copies.push_back(std::move(*light));
  }
  return copies;
}

}  // namespace jovilux
