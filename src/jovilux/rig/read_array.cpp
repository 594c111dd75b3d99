#include "jovilux/base/text.h"
#include "jovilux/rig/read_light.h"

#include <cmath>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr std::int64_t kMostCopies = 100'000;

// The copies' places along a path; empty where an error leaves them unknown. Lines and helices are
// divided into `count`
// equal parts with a copy in the middle of each, as the tube that they imitate would shine.
std::vector<Vec3d> places_along(TableReader& r, std::optional<std::int64_t> count) {
  std::vector<Vec3d> out;
  const auto path = r.word("path", {"line", "circle", "helix", "grid", "points"});
  if (!path) {
    if (!r.has("path")) {
      r.missing("path", "line, circle, helix, grid or points");
    }
    return out;
  }
  const auto needed = [&](std::string_view key, std::string_view expected) {
    if (!r.has(key)) {
      r.missing(key, expected);
    }
  };
  const std::int64_t n = count.value_or(0);
  if (*path == 0) {
    const auto from = r.position("from"), to = r.position("to");
    needed("from", "a position [x, y, z]");
    needed("to", "a position [x, y, z]");
    for (std::int64_t i = 0; from && to && i < n; ++i) {
      out.push_back(*from +
                    (*to - *from) * ((static_cast<double>(i) + 0.5) / static_cast<double>(n)));
    }
  } else if (*path == 1 || *path == 2) {
    const Vec3d at = r.position("at").value_or(Vec3d::Zero());
    const Vec3d axis = r.direction("axis").value_or(Vec3d::UnitZ());
    const auto radius = r.quantity("radius", Dimension::kLength, kPositive);
    needed("radius", "a length such as \"9 cm\"");
    const Mat3d frame = aimed(axis, Vec3d::UnitZ(), 0);
    double pitch = 0, turns = 1;
    if (*path == 2) {
      const auto p = r.quantity("pitch", Dimension::kLength, kNotNegative);
      const auto t = r.ratio("turns", kPositive);
      needed("pitch", "the rise of a turn, such as \"6 cm\"");
      needed("turns", "a number");
      pitch = p.value_or(0);
      turns = t.value_or(1);
    }
    for (std::int64_t i = 0; radius && i < n; ++i) {
      const double u =
          (static_cast<double>(i) + (*path == 2 ? 0.5 : 0.0)) / static_cast<double>(n) * turns;
      const double phi = 2 * kPiD * u;
      out.push_back(at +
                    frame * Vec3d(*radius * std::cos(phi), *radius * std::sin(phi), pitch * u));
    }
  } else if (*path == 3) {
    const Vec3d at = r.position("at").value_or(Vec3d::Zero());
    const auto step = r.quantities("spacing", Dimension::kLength, 3, {-1e7, 1e7});
    const auto cells = r.quantities("cells", Dimension::kPercent, 3, {1, 1000});
    needed("spacing", "[x, y, z], the distances between copies");
    needed("cells", "[x, y, z], how many copies each way");
    if (step && cells) {
      std::int64_t size[3];
      for (std::size_t a = 0; a < 3; ++a) {
        size[a] = std::llround((*cells)[a]);
      }
      if (size[0] * size[1] * size[2] > kMostCopies ||
          (count && size[0] * size[1] * size[2] != n)) {
        r.error("cells",
                r.place("cells"),
                "out-of-range",
                fmt::format(
                    "{} copies; expected {}",
                    size[0] * size[1] * size[2],
                    count ? fmt::format("count = {}", n) : fmt::format("at most {}", kMostCopies)));
        return out;
      }
      for (std::int64_t z = 0; z < size[2]; ++z) {  // centered on `at`
        for (std::int64_t y = 0; y < size[1]; ++y) {
          for (std::int64_t x = 0; x < size[0]; ++x) {
            const auto middle = [](std::int64_t i, std::int64_t of) {
              return static_cast<double>(i) - static_cast<double>(of - 1) / 2;
            };
            out.push_back(at + Vec3d(middle(x, size[0]) * (*step)[0],
                                     middle(y, size[1]) * (*step)[1],
                                     middle(z, size[2]) * (*step)[2]));
          }
        }
      }
    }
  } else {
    const DocumentNode* points = r.find("points");
    if (points == nullptr || !points->is_array()) {
      r.missing("points", "[[x, y, z], ...]");
      return out;
    }
    for (const DocumentNode& point : points->array()) {
      DocumentNode holder;
      holder.place = point.place;
      holder.set("points", point.place, point);
      TableReader one(holder, r.address(), r.length(), r.problems());
      if (const auto p = one.position("points")) {
        out.push_back(*p);
      }
    }
    if (count && n != static_cast<std::int64_t>(out.size())) {
      r.error("points",
              points->place,
              "conflict",
              fmt::format("{} points for count = {}", out.size(), n));
    }
  }
  r.finish({"from", "to", "at", "axis", "radius", "pitch", "turns", "spacing", "cells", "points"},
           "this path");
  return out;
}

}  // namespace

Copies read_copies(TableReader& r, const DocumentNode& pattern) {
  Copies out;
  const auto count = r.integer("count", 1, kMostCopies);
  const DocumentNode* along = r.find("along");
  const DocumentNode* single = r.find("copy");
  if (along == nullptr || !along->is_table()) {
    r.missing("along", "{ path = \"line\" | \"circle\" | \"helix\" | \"grid\" | \"points\", ... }");
  } else {
    TableReader path(*along, r.address_of("along"), r.length(), r.problems());
    if (!count && (path.has("from") || path.has("radius"))) {
      r.missing("count", "how many copies");
    }
    out.places = places_along(path, count);
  }
  for (const DocumentEntry& e :
       single != nullptr && single->is_table() ? single->table() : DocumentNode::Table{}) {
    const auto index = parse_number(e.key);
    if (!index || *index < 0 || *index >= static_cast<double>(out.places.size()) ||
        *index != std::floor(*index)) {
      r.error("copy",
              e.place,
              "out-of-range",
              fmt::format("there is no copy [{}]; copies run from 0 to {}",
                          printable(e.key, 20),
                          static_cast<std::int64_t>(out.places.size()) - 1));
    }
  }
  for (std::size_t i = 0; i < out.places.size(); ++i) {
    const DocumentNode* own = single != nullptr ? single->find(std::to_string(i)) : nullptr;
    DocumentNode table = pattern;
    for (const DocumentEntry& e :
         own != nullptr && own->is_table() ? own->table() : DocumentNode::Table{}) {
      table.set(e.key, e.place, e.value);
    }
    out.tables.push_back(std::move(table));
    out.own.push_back(own);
  }
  return out;
}

std::vector<LightSpec> read_array(TableReader& r,
                                  const std::string& name,
                                  const DocumentNode& pattern,
                                  const Rig& rig) {
  std::vector<LightSpec> copies;
  const auto how = r.word("output", {"total", "each"});
  if (!r.has("output")) {
    r.missing("output", "\"total\" (the light's output is divided among the copies) or \"each\"");
  }
  r.find("of");
  const Copies all = read_copies(r, pattern);
  r.finish();
  const std::vector<Vec3d>& places = all.places;
  for (std::size_t i = 0; i < places.size() && how; ++i) {
    const DocumentNode* own = all.own[i];
    const std::string copy_name = fmt::format("{}[{}]", name, i);
    TableReader reader(all.tables[i], "light." + copy_name, r.length(), r.problems());
    reader.find("name");
    auto light = read_light(reader, rig);
    if (!light) {
      break;  // the same fault would be told for each copy
    }
    if (is_distant(light->shape.kind) || light->shape.kind == LightKind::kObject) {
      r.error(
          "of",
          r.place("of"),
          "wrong-type",
          fmt::format("a {} has no copies: {}",
                      to_string(light->shape.kind),
                      is_distant(light->shape.kind) ? "it is everywhere" : "its object is one"));
      break;
    }
    light->name = copy_name;
    light->layer = name;
    light->copies = static_cast<int>(places.size());
    light->copies_place = r.place("output");
    if (light->flicker && (own == nullptr || own->find("flicker") == nullptr)) {
      light->flicker->seed += static_cast<std::uint32_t>(i);  // no two flames are alike
    }
    light->at += places[i];
    if (light->aim) {
      *light->aim += places[i];
    }
    if (*how == 0 && (own == nullptr || own->find("output") == nullptr)) {
      const double share = light->share = 1.0 / static_cast<double>(places.size());
      const auto divide = [&](auto& level) {
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
