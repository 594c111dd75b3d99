#include "jovilux/base/quadrature.h"
#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/rig/read_light.h"
#include "jovilux/rig/read_solid.h"
#include "jovilux/rig/rig.h"
#include "jovilux/rig/table_reader.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <functional>
#include <map>
#include <set>
#include <tuple>

#include <fmt/format.h>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

// In the order of reading: by file, as included, then by place in it.
void sort_by_place(Problems& problems) {
  std::map<std::string, int> order;
  for (const Problem& p : problems) {
    order.emplace(p.place.file, static_cast<int>(order.size()));
  }
  std::stable_sort(problems.begin(), problems.end(), [&](const Problem& a, const Problem& b) {
    return std::tuple(order[a.place.file], a.place.line, a.place.column) <
           std::tuple(order[b.place.file], b.place.line, b.place.column);
  });
}

class RigReader {
 public:
  /// `root` as it is at one moment, `keyed` as it was written.
  RigReader(const DocumentNode& root, const DocumentNode& keyed, Rig& rig, Problems& problems)
      : root_(root), keyed_(keyed), rig_(rig), problems_(problems) {}

  void read() {
    TableReader top(root_, "", 1, problems_);
    if (!top.has("jovilux")) {
      top.error("jovilux",
                {root_.place.file, 1, 1},
                "missing-key",
                "is missing; expected the format version",
                "write jovilux = 1 at the top");
    } else {
      top.integer("jovilux", 1, 1);
    }
    read_time(top);
    read_scene(top);
    read_render(top);
    if (rig_.site && rig_.site->time) {
      constexpr double kSecondsADay = 86400;
      // Its clock goes on.
      rig_.site->time->julian_date += rig_.render.time * rig_.time.clock_speed / kSecondsADay;
    }
    each(top, "material", [&](TableReader& r, const std::string& name) { read_material(r, name); });
    read_solids(top);
    find_patterns();
    each(top, "object", [&](TableReader& r, const std::string& name) { read_object(r, name); });
    read_object_arrays();
    each(top, "gel", [&](TableReader& r, const std::string& name) { read_gel(r, name); });
    each(top, "haze", [&](TableReader& r, const std::string& name) { read_haze(r, name); });
    each(top, "light", [&](TableReader& r, const std::string& name) {
      auto light = read_light(r, rig_);
      if (light && patterns_.count(name) == 0) {  // a pattern no longer shines itself
        light->name = light->layer = name;
        rig_.lights.push_back(std::move(*light));
      }
    });
    each(top, "array", [&](TableReader& r, const std::string& name) { read_copies(r, name); });
    each(top, "camera", [&](TableReader& r, const std::string& name) { read_camera(r, name); });
    each(top, "meter", [&](TableReader& r, const std::string& name) { read_meter(r, name); });
    each(top, "variant", [&](TableReader& r, const std::string& name) { read_variant(r, name); });
    read_look(top);
    top.finish();
    read_levels();
  }

 private:
  static inline const DocumentNode::Array kNone;

  // Each table of a list of named ones; says what is wrong with the list and the names.
  template <class Fn>
  void each(TableReader& top, const std::string& kind, const Fn& read_one) {
    const DocumentNode* list = top.find(kind);
    if (list == nullptr) {
      return;
    }
    if (!list->is_array()) {
      top.wrong_type(kind, *list, fmt::format("[[{}]] tables", kind));
      return;
    }
    std::map<std::string, Place> seen;
    int number = 0;
    for (const DocumentNode& item : list->array()) {
      ++number;
      if (!item.is_table()) {
        top.wrong_type(kind, item, fmt::format("a [[{}]] table", kind));
        continue;
      }
      const DocumentNode* name_node = item.find("name");
      std::string name = fmt::format("{}-{}", kind, number);
      if (name_node != nullptr && name_node->is_text()) {
        name = name_node->text();
      }
      TableReader reader(item, kind + "." + printable(name, 40), rig_.length, problems_);
      reader.find("name");
      if (name_node == nullptr) {
        reader.missing("name", fmt::format("a name that no other {} has", kind));
      } else if (!name_node->is_text()) {
        reader.wrong_type("name", *name_node, "a text");
      } else if (!is_plain_name(name)) {
        reader.error("name",
                     name_node->place,
                     "bad-name",
                     fmt::format("found \"{}\"; a name is made of letters, digits, - and _",
                                 printable(name, 40)));
      } else if (const auto [at, fresh] = seen.emplace(name, name_node->place); !fresh) {
        reader.error(
            "name",
            name_node->place,
            "duplicate-name",
            fmt::format("there is another {} \"{}\" at {}", kind, name, to_string(at->second)),
            "rename one of them");
      }
      read_one(reader, name);
    }
  }

  void read_scene(TableReader& top) {
    const DocumentNode* node = top.find("scene");
    if (node == nullptr) {
      return;
    }
    if (!node->is_table()) {
      top.wrong_type("scene", *node, "a [scene] table");
      return;
    }
    TableReader r(*node, "scene", 1, problems_);
    rig_.title = r.text("title").value_or("");
    static const std::vector<std::string> kUnits = {"mm", "cm", "m", "km", "in", "ft"};
    static constexpr double kMeters[] = {1e-3, 1e-2, 1, 1e3, 0.0254, 0.3048};
    if (const auto unit = r.word("length", kUnits)) {
      rig_.length = kMeters[*unit];
    }
    if (const auto up = r.word("up", {"z", "y"})) {
      rig_.up = *up == 0 ? Vec3d::UnitZ() : Vec3d::UnitY();
    }
    if (const DocumentNode* site = r.find("site")) {
      if (!site->is_table()) {
        r.wrong_type("site", *site, "{ latitude, longitude, time }");
      } else {
        TableReader s(*site, "scene.site", 1, problems_);
        Rig::Site out;
        const auto latitude = s.quantity("latitude", Dimension::kAngle, {-kPiD / 2, kPiD / 2});
        const auto longitude = s.quantity("longitude", Dimension::kAngle, {-kPiD, kPiD});
        for (const char* key : {"latitude", "longitude"}) {
          if (!s.has(key)) {
            s.missing(key, "degrees, north and east positive");
          }
        }
        if (const auto time = s.text("time")) {
          out.time = parse_moment(*time);
          if (!out.time) {
            s.error(
                "time",
                s.place("time"),
                "bad-quantity",
                fmt::format(
                    "found \"{}\"; expected a date and time such as \"2026-11-23T07:40:00+00:00\"",
                    printable(*time)));
          }
        }
        out.latitude = latitude.value_or(0);
        out.longitude = longitude.value_or(0);
        rig_.site = out;
        s.finish();
      }
    }
    r.finish();
  }

  void read_material(TableReader& r, const std::string& name) {
    MaterialSpec m;
    m.name = name;
    m.place = r.table().place;
    m.color_place = r.place("color");
    const DocumentNode* kind = r.find("kind");
    if (kind == nullptr) {
      r.missing("kind", "diffuse, metal, gloss, glass or translucent");
    } else if (const auto k =
                   r.word("kind", {"diffuse", "metal", "gloss", "glass", "translucent"})) {
      m.kind = static_cast<MaterialSpec::Kind>(*k);
    }
    if (const DocumentNode* color = r.find("color");
        color != nullptr && color->is_text() && color->text().ends_with(".csv")) {
      m.color_file = path_from(color->place, color->text());
      std::error_code ec;
      if (!fs::is_regular_file(m.color_file, ec)) {
        r.error("color",
                color->place,
                "missing-file",
                fmt::format("file not found: {}", printable(m.color_file, 200)));
      }
    } else if (color != nullptr && color->is_text() && !color->text().starts_with("#")) {
      read_picture(r, "color", *color, m.picture);
    } else {
      m.color = r.color("color", 1).value_or(m.color);
    }
    using Kind = MaterialSpec::Kind;
    if (const DocumentNode* mask = r.find("mask"); mask != nullptr && mask->is_text()) {
      read_picture(r, "mask", *mask, m.mask);
      m.mask.srgb = false;  // a share, not a color
    } else if (mask != nullptr) {
      r.wrong_type("mask", *mask, "a picture's file name");
    }
    if (const auto encoding = r.word("encoding", {"srgb", "linear"})) {
      m.picture.srgb = *encoding == 0;
      if (m.picture.file.empty()) {
        r.error("encoding",
                r.place("encoding"),
                "conflict",
                "says how a picture is encoded, but the color is no picture");
      }
    }
    if (const DocumentNode* tile = r.find("tile")) {
      const bool pair = tile->is_array() && tile->array().size() == 2 &&
                        tile->array()[0].is_number() && tile->array()[1].is_number();
      if (!pair || !(tile->array()[0].number() > 0) || !(tile->array()[1].number() > 0) ||
          tile->array()[0].number() > 1e6 || tile->array()[1].number() > 1e6) {
        r.error("tile",
                tile->place,
                "out-of-range",
                "expected [across, up], how often the picture repeats, each above 0");
      } else {
        m.tile = {tile->array()[0].number(), tile->array()[1].number()};
      }
      if (m.picture.file.empty() && m.mask.file.empty()) {
        r.error("tile",
                tile->place,
                "conflict",
                "repeats a picture, but neither color nor mask is one");
      }
    }
    std::vector<std::string> elsewhere = {"thin",
                                          "transmittance",
                                          "transmitted_color",
                                          "coat_color",
                                          "ior",
                                          "absorption",
                                          "roughness",
                                          "bounce_roughness"};
    if (m.kind == Kind::kDiffuse || m.kind == Kind::kMetal || m.kind == Kind::kGloss) {
      m.roughness = r.ratio("roughness", kShare).value_or(m.kind == Kind::kDiffuse ? 0.0 : 0.2);
    }
    switch (m.kind) {
      case Kind::kDiffuse:
        break;
      case Kind::kMetal:
        read_index(r, m);
        break;
      case Kind::kGloss:
        m.ior = r.ratio("ior", {1.01, 4}).value_or(1.5);
        m.coat_color = r.color("coat_color", 1).value_or(Rgb::Ones());
        break;
      case Kind::kGlass:
        m.ior = r.ratio("ior", {1.01, 4}).value_or(1.5);
        m.thin = r.flag("thin").value_or(false);
        if (!m.thin) {
          read_absorption(r, m);
          m.roughness = r.ratio("roughness", kShare).value_or(0);
        }
        if (!r.has("color")) {
          m.color = Rgb::Ones();
        } else if (!m.thin) {
          r.error("color",
                  m.color_place,
                  "wrong-type",
                  "solid glass is colored by what it absorbs",
                  "give absorption = [0.5, 0.1, 0.4] per meter; or thin = true for a pane with a "
                  "color");
        }
        break;
      case Kind::kTranslucent:
        m.transmittance = r.ratio("transmittance", kShare).value_or(0.5);
        m.transmitted_color = r.color("transmitted_color", 1);
        break;
    }
    if (m.kind == Kind::kMetal || m.kind == Kind::kGloss || (m.kind == Kind::kGlass && !m.thin)) {
      m.bounce_roughness = r.ratio("bounce_roughness", {0.05, 1}).value_or(0);
      m.bounce_place = r.place("bounce_roughness");
    }
    static constexpr const char* kKinds[] = {"kind \"diffuse\"",
                                             "kind \"metal\"",
                                             "kind \"gloss\"",
                                             "kind \"glass\"",
                                             "kind \"translucent\""};
    r.finish(elsewhere, kKinds[static_cast<int>(m.kind)]);
    material_names_.push_back(name);
    rig_.materials.push_back(m);
  }

  void read_picture(TableReader& r,
                    std::string_view key,
                    const DocumentNode& node,
                    PictureSpec& out) {
    const std::string ending = fs::path(node.text()).extension().string();
    std::error_code ec;
    out.place = node.place;
    out.file = path_from(node.place, node.text());
    if (ending != ".png" && ending != ".exr" && ending != ".hdr") {
      r.error(key,
              node.place,
              "unknown-word",
              fmt::format("found \"{}\"; expected a picture ending in .png, .exr or .hdr",
                          printable(node.text())),
              key == "color" ? "or \"#rrggbb\", three linear values, a .csv file of wavelengths in "
                               "nm and reflectances"
                             : "");
    } else if (!fs::is_regular_file(out.file, ec)) {
      r.error(key,
              node.place,
              "missing-file",
              fmt::format("file not found: {}", printable(out.file, 200)));
    }
    out.srgb = ending == ".png";
  }

  // A metal's index n + i k: numbers, or tables over wavelength.
  static void read_index(TableReader& r, MaterialSpec& m) {
    const auto one =
        [&](std::string_view key, double lo, double& value, std::string& file, Place& place) {
          const DocumentNode* node = r.find(key);
          if (node == nullptr) {
            return;
          }
          place = node->place;
          if (node->is_text() && node->text().ends_with(".csv")) {
            file = path_from(node->place, node->text());
            std::error_code ec;
            if (!fs::is_regular_file(file, ec)) {
              r.error(key,
                      node->place,
                      "missing-file",
                      fmt::format("file not found: {}", printable(file, 200)));
            }
          } else if (node->is_number()) {
            value = r.ratio(key, {lo, 50}).value_or(1);
          } else {
            r.wrong_type(key, *node, "a number, or a .csv file of wavelengths in nm and values");
          }
        };
    one("ior", 1e-3, m.ior, m.ior_file, m.ior_place);
    one("absorption", 0, m.extinction, m.extinction_file, m.extinction_place);
    m.by_index = r.has("ior") || r.has("absorption");
    if (r.has("ior") != r.has("absorption")) {
      r.error(r.has("ior") ? "ior" : "absorption",
              r.has("ior") ? m.ior_place : m.extinction_place,
              "missing-key",
              "a metal's index needs both ior (n) and absorption (k)",
              "or give its color");
    } else if (m.by_index && r.has("color")) {
      r.error("color",
              m.color_place,
              "conflict",
              "color and an index are both given; either says what the metal reflects");
    }
  }

  // Per meter: "0.5 /m", a bare number, or one for each of red, green and blue.
  static void read_absorption(TableReader& r, MaterialSpec& m) {
    const DocumentNode* node = r.find("absorption");
    if (node != nullptr && node->is_array()) {
      m.absorption = r.color("absorption", 1e6).value_or(Rgb::Zero());
    } else if (node != nullptr && node->is_number()) {
      m.absorption = Rgb::Constant(r.ratio("absorption", {0, 1e6}).value_or(0));
    } else if (node != nullptr) {
      m.absorption =
          Rgb::Constant(r.quantity("absorption", Dimension::kExtinction, {0, 1e6}).value_or(0));
    }
  }

  // The lights that arrays are made of.
  void find_patterns() {
    const DocumentNode* arrays = root_.find("array");
    for (const DocumentNode& array :
         arrays != nullptr && arrays->is_array() ? arrays->array() : DocumentNode::Array{}) {
      if (const DocumentNode* of = array.find("of"); of != nullptr && of->is_text()) {
        patterns_.insert(of->text());
      }
    }
  }

  // The table of that name in a list of named ones; null where there is none.
  const DocumentNode* table_named(std::string_view list_name, const DocumentNode* name) const {
    const DocumentNode* list = root_.find(list_name);
    for (const DocumentNode& item :
         list != nullptr && list->is_array() && name != nullptr && name->is_text() ? list->array()
                                                                                   : kNone) {
      const DocumentNode* its_name = item.find("name");
      if (its_name != nullptr && its_name->is_text() && its_name->text() == name->text()) {
        return &item;
      }
    }
    return nullptr;
  }
  // Whether an array is one of objects: of a name that no light has.
  const DocumentNode* object_pattern(const DocumentNode& array) const {
    const DocumentNode* of = array.find("of");
    return table_named("light", of) == nullptr ? table_named("object", of) : nullptr;
  }

  // The objects that arrays are made of, before what names objects is read. The pattern itself
  // shows no longer.
  void read_object_arrays() {
    const DocumentNode* arrays = root_.find("array");
    std::set<std::string> replaced;
    for (const DocumentNode& array :
         arrays != nullptr && arrays->is_array() ? arrays->array() : kNone) {
      const DocumentNode* pattern = object_pattern(array);
      const DocumentNode* name_node = array.find("name");
      if (pattern == nullptr || name_node == nullptr || !name_node->is_text()) {
        continue;
      }
      const std::string& name = name_node->text();
      TableReader r(array, "array." + printable(name, 40), rig_.length, problems_);
      r.find("name");
      r.find("of");
      if (const DocumentNode* output = r.find("output")) {
        r.error("output",
                output->place,
                "conflict",
                "copies of an object have no output",
                "leave it out");
      }
      if (table_named("object", name_node) != nullptr) {
        r.error("name",
                name_node->place,
                "duplicate-name",
                fmt::format("there is an object \"{}\"", printable(name, 40)),
                "rename one of them");
      }
      const Copies copies = jovilux::read_copies(r, *pattern);
      r.finish();
      // What is wrong with the pattern has been told, and would be for each copy.
      const std::string pattern_address = "object." + array.find("of")->text();
      const bool faulty = std::any_of(problems_.begin(), problems_.end(), [&](const Problem& p) {
        return p.severity == Severity::kError &&
               (p.address == pattern_address || p.address.starts_with(pattern_address + "."));
      });
      const std::size_t before = problems_.size();
      for (std::size_t i = 0; i < copies.places.size() && !faulty && problems_.size() == before;
           ++i) {
        const std::string copy_name = fmt::format("{}[{}]", name, i);
        TableReader reader(copies.tables[i], "object." + copy_name, rig_.length, problems_);
        reader.find("name");
        const std::size_t objects = rig_.objects.size();
        read_object(reader, copy_name);
        if (rig_.objects.size() > objects) {
          rig_.objects.back().array = name;
          rig_.objects.back().transform.offset += copies.places[i];
        }
      }
      replaced.insert(array.find("of")->text());
    }
    std::erase_if(rig_.objects, [&](const ObjectSpec& o) {
      return o.array.empty() && replaced.count(o.name) > 0;
    });
  }

  void read_copies(TableReader& r, const std::string& name) {
    if (object_pattern(r.table()) != nullptr) {
      return;  // read with the objects
    }
    const DocumentNode* of = r.find("of");
    const DocumentNode* lights = root_.find("light");
    const DocumentNode* pattern = nullptr;
    std::vector<std::string> names;
    for (const DocumentNode& light :
         lights != nullptr && lights->is_array() ? lights->array() : DocumentNode::Array{}) {
      const DocumentNode* its_name = light.find("name");
      if (its_name != nullptr && its_name->is_text()) {
        names.push_back(its_name->text());
        if (names.back() == name) {
          r.error("name",
                  r.place("name"),
                  "duplicate-name",
                  fmt::format("there is a light \"{}\" at {}", name, to_string(its_name->place)),
                  "rename one of them");
        }
        if (of != nullptr && of->is_text() && names.back() == of->text()) {
          pattern = &lights->array()[names.size() - 1];
        }
      } else {
        names.emplace_back();
      }
    }
    if (of == nullptr) {
      r.missing("of", "the name of the light or object to copy");
    } else if (pattern == nullptr) {
      r.error("of",
              of->place,
              "unknown-name",
              fmt::format("there is no light or object \"{}\"",
                          of->is_text() ? printable(of->text()) : ""),
              of->is_text() ? did_you_mean(of->text(), names) : "");
    } else {
      for (LightSpec& copy : read_array(r, name, *pattern, rig_)) {
        rig_.lights.push_back(std::move(copy));
      }
    }
  }

  void read_gel(TableReader& r, const std::string& name) {
    GelSpec gel;
    gel.name = name;
    gel.place = r.table().place;
    const DocumentNode* points = r.find("points");
    const auto file = r.text("file");
    if ((points != nullptr) == r.has("file")) {
      r.error("points",
              r.table().place,
              points != nullptr ? "conflict" : "missing-key",
              points != nullptr
                  ? "points and file are both given"
                  : "is missing; expected points = [[nm, transmittance], ...] or file");
    } else if (file) {
      gel.file = path_from(r.place("file"), *file);
      std::error_code ec;
      if (!fs::is_regular_file(gel.file, ec)) {
        r.error("file",
                r.place("file"),
                "missing-file",
                fmt::format("file not found: {}", printable(gel.file, 200)));
      }
    } else if (points != nullptr && !points->is_array()) {
      r.wrong_type("points", *points, "[[nm, transmittance], ...]");
    } else if (points != nullptr) {
      read_gel_points(r, *points, gel);
    }
    r.finish();
    rig_.gels.push_back(std::move(gel));
  }

  // Linear between the points, constant beyond them.
  static void read_gel_points(TableReader& r, const DocumentNode& points, GelSpec& gel) {
    std::vector<std::pair<double, double>> samples;
    for (const DocumentNode& point : points.array()) {
      const bool pair = point.is_array() && point.array().size() == 2 &&
                        point.array()[0].is_number() && point.array()[1].is_number();
      const double nm = pair ? point.array()[0].number() : 0,
                   t = pair ? point.array()[1].number() : 0;
      if (!pair || !(nm >= 200 && nm <= 2000) || !(t >= 0 && t <= 1)) {
        r.error("points",
                point.place,
                "out-of-range",
                "expected [wavelength in nm, transmittance from 0 to 1]");
        return;
      }
      if (!samples.empty() && nm <= samples.back().first) {
        r.error("points",
                point.place,
                "out-of-range",
                fmt::format("{} nm follows {} nm; wavelengths must increase",
                            short_number(nm, 6),
                            short_number(samples.back().first, 6)));
        return;
      }
      samples.emplace_back(nm, t);
    }
    if (samples.size() < 2) {
      r.error("points", points.place, "out-of-range", "a gel needs at least 2 points");
      return;
    }
    for (std::size_t i = 0; i < kNmCount; ++i) {
      const double nm = kFirstNm + static_cast<double>(i);
      std::size_t j = 0;
      while (j + 2 < samples.size() && samples[j + 1].first < nm) {
        ++j;
      }
      const double t =
          std::clamp((nm - samples[j].first) / (samples[j + 1].first - samples[j].first), 0.0, 1.0);
      gel.transmittance[i] = (1 - t) * samples[j].second + t * samples[j + 1].second;
    }
  }

  // All solids together: one may be made of others that come later.
  void read_solids(TableReader& top) {
    std::vector<SolidDraft> drafts;
    each(top, "solid", [&](TableReader& r, const std::string& name) {
      if (auto draft = read_solid(r, name)) {
        drafts.push_back(std::move(*draft));
      }
    });
    join_solids(std::move(drafts), rig_, problems_);
  }

  void read_haze(TableReader& r, const std::string& name) {
    HazeSpec h;
    h.name = name;
    h.place = r.table().place;
    const auto inside = r.text("inside");
    if (!inside) {
      if (!r.has("inside")) {
        r.missing("inside", "\"everywhere\", or the name of a solid or closed object");
      }
    } else if (*inside != "everywhere") {
      h.inside = volume_named(r, "inside", *inside, rig_, {"everywhere"});
    }
    const auto visibility = r.quantity("visibility", Dimension::kLength, kPositive);
    const auto extinction = r.quantity("extinction", Dimension::kExtinction, kNotNegative);
    h.extinction_place = r.has("visibility") ? r.place("visibility") : r.place("extinction");
    if (r.has("visibility") == r.has("extinction")) {
      r.error("visibility",
              r.has("visibility") ? r.place("visibility") : r.table().place,
              r.has("visibility") ? "conflict" : "missing-key",
              r.has("visibility")
                  ? "visibility and extinction are both given; either says how dense it is"
                  : "is missing; expected visibility = \"60 m\" or extinction = \"0.05 /m\"");
    } else if (visibility) {
      h.extinction = -std::log(0.05) / *visibility;  // a contrast of 5 %
    } else if (extinction) {
      h.extinction = *extinction;
    }
    h.albedo_place = r.place("albedo");
    if (const DocumentNode* albedo = r.find("albedo"); albedo != nullptr && albedo->is_number()) {
      h.albedo = Rgb::Constant(r.ratio("albedo", kShare).value_or(0.95));
    } else {
      h.albedo = r.color("albedo", 1).value_or(h.albedo);
    }
    h.anisotropy = r.ratio("anisotropy", {-0.95, 0.95}).value_or(0);
    read_clumps(r, h);
    if (const auto height = r.quantity("scale_height", Dimension::kLength, kPositive)) {
      h.scale_height = *height;
    }
    h.emission = r.quantity("emission", Dimension::kLuminance, kNotNegative).value_or(0);
    if (h.emission > 0 && h.extinction == 0) {
      r.error("emission",
              r.place("emission"),
              "conflict",
              "a haze without extinction cannot glow",
              "give it a little extinction");
    }
    if (const auto file = r.text("file")) {
      h.file_place = r.place("file");
      h.file = path_from(h.file_place, *file);
      std::error_code ec;
      if (!file->ends_with(".vdb")) {
        r.error("file",
                h.file_place,
                "unknown-word",
                fmt::format("found \"{}\"; expected a file ending in .vdb", printable(*file)));
      } else if (!fs::is_regular_file(h.file, ec)) {
        r.error("file",
                h.file_place,
                "missing-file",
                fmt::format("file not found: {}", printable(h.file, 200)));
      }
      if (h.clumps) {
        r.error("clumps",
                r.place("clumps"),
                "conflict",
                "clumps and a density file are both given",
                "leave one of them out");
      }
    }
    if (!h.file.empty()) {
      h.grid_place = read_placement(r);
    }
    h.grid = r.text("grid").value_or("density");
    if (r.has("grid") && h.file.empty()) {
      r.error("grid",
              r.place("grid"),
              "conflict",
              "names a grid of a file, but there is no file",
              "add file = \"mist.vdb\"");
    }
    for (const DocumentNode* lights = root_.find("light");
         h.emission > 0 && lights != nullptr && lights->is_array();) {
      for (const DocumentNode& light : lights->array()) {
        if (const DocumentNode* other = light.find("name");
            other != nullptr && other->is_text() && other->text() == name) {
          r.error("name",
                  r.place("name"),
                  "duplicate-name",
                  fmt::format("glows, and so has a layer of its name; so has the light at {}",
                              to_string(other->place)),
                  "rename one of them");
        }
      }
      break;
    }
    r.finish({"at", "rotate", "scale"}, "a haze without a file");
    constexpr std::size_t kMostHazes = 16;
    if (rig_.hazes.size() == kMostHazes) {
      r.error("name", r.place("name"), "out-of-range", fmt::format("at most {} hazes", kMostHazes));
      return;
    }
    rig_.hazes.push_back(std::move(h));
  }

  static void read_clumps(TableReader& r, HazeSpec& h) {
    const DocumentNode* node = r.find("clumps");
    if (node == nullptr) {
      return;
    }
    if (!node->is_table()) {
      r.wrong_type(
          "clumps", *node, "{ size = \"40 cm\", depth = 0.6, drift = [x, y, z], seed = 1 }");
      return;
    }
    TableReader c(*node, r.address_of("clumps"), r.length(), r.problems());
    ClumpsSpec out;
    if (!c.has("size")) {
      c.missing("size", "a length such as \"40 cm\"");
    }
    out.size = c.quantity("size", Dimension::kLength, {1e-4, 1e5}).value_or(out.size);
    out.depth = c.ratio("depth", kShare).value_or(out.depth);
    if (const auto drift = c.position("drift")) {
      out.drift = *drift;
    }
    out.seed = static_cast<std::uint32_t>(c.integer("seed", 0, 0xffffffffLL).value_or(1));
    c.finish();
    h.clumps = out;
  }

  // at, turn, scale.
  static Transform read_placement(TableReader& r) {
    const Vec3d at = r.position("at").value_or(Vec3d::Zero());
    Vec3d turn = Vec3d::Zero(), scale = Vec3d::Ones();
    if (const auto v = r.quantities("rotate", Dimension::kAngle, 3, kAny)) {
      turn = Vec3d((*v)[0], (*v)[1], (*v)[2]);
    }
    const Limits factors{1e-6, 1e6};
    if (const DocumentNode* s = r.find("scale"); s != nullptr && s->is_array()) {
      if (const auto v = r.quantities("scale", Dimension::kPercent, 3, factors)) {
        scale = Vec3d((*v)[0], (*v)[1], (*v)[2]);
      }
    } else if (const auto v = r.ratio("scale", factors)) {
      scale = Vec3d::Constant(*v);
    }
    return placement(at, turn, scale);
  }

  void read_object(TableReader& r, const std::string& name) {
    ObjectSpec o;
    o.name = name;
    o.place = r.table().place;
    const DocumentNode* shape = r.find("shape");
    const auto mesh = r.text("mesh");
    const auto solid = r.text("solid");
    if ((shape != nullptr) + r.has("mesh") + r.has("solid") != 1) {
      r.error(
          "shape",
          shape != nullptr ? shape->place : r.table().place,
          shape != nullptr ? "conflict" : "missing-key",
          shape != nullptr
              ? "more than one of shape, mesh and solid is given"
              : "is missing; expected shape = { kind = ... }, mesh = \"file\" or solid = \"name\"");
    }
    if (solid) {
      std::vector<std::string> names;
      for (std::size_t i = 0; i < rig_.solids.size(); ++i) {
        names.push_back(rig_.solids[i].name);
        o.solid = names.back() == *solid ? static_cast<int>(i) : o.solid;
      }
      if (o.solid < 0) {
        r.error("solid",
                r.place("solid"),
                "unknown-name",
                fmt::format("there is no solid \"{}\"", printable(*solid)),
                did_you_mean(*solid, names));
      }
    }
    if (shape != nullptr && shape->is_table()) {
      TableReader s(*shape, r.address_of("shape"), rig_.length, problems_);
      const std::size_t before = problems_.size();
      o.shape = read_shape(s);
      if (problems_.size() == before) {  // without a kind nothing can be said of its sizes
        s.finish({"size", "radius", "height", "open"},
                 fmt::format("a {}", to_string(o.shape->kind)));
      }
    } else if (shape != nullptr) {
      r.wrong_type("shape", *shape, "a table such as { kind = \"box\", size = [1, 1, 1] }");
    }
    if (mesh) {
      o.mesh_place = r.place("mesh");
      o.mesh = path_from(o.mesh_place, *mesh);
      std::error_code ec;
      const std::string ending = fs::path(*mesh).extension().string();
      const bool gltf = ending == ".glb" || ending == ".gltf";
      if (!gltf && ending != ".obj" && ending != ".ply") {
        r.error("mesh",
                o.mesh_place,
                "unknown-word",
                fmt::format("found \"{}\"; expected a file ending in .obj, .ply, .gltf or .glb",
                            printable(*mesh)));
      } else if (!fs::is_regular_file(o.mesh, ec)) {
        r.error("mesh",
                o.mesh_place,
                "missing-file",
                fmt::format("file not found: {}", printable(o.mesh, 200)));
      }
      static const std::vector<std::string> kUnits = {"mm", "cm", "m", "km", "in", "ft"};
      static constexpr double kMeters[] = {1e-3, 1e-2, 1, 1e3, 0.0254, 0.3048};
      o.mesh_length = gltf ? 1 : rig_.length;  // meters and y up are what that standard says
      o.mesh_up = gltf ? 'y' : 'z';
      if (const auto unit = r.word("mesh_length", kUnits)) {
        o.mesh_length = kMeters[*unit];
      }
      if (const auto up = r.word("mesh_up", {"z", "y"})) {
        o.mesh_up = *up == 0 ? 'z' : 'y';
      }
    }
    o.transform = read_placement(r);
    if (const auto material = r.text("material")) {
      const auto found = std::find(material_names_.begin(), material_names_.end(), *material);
      if (found == material_names_.end()) {
        r.error("material",
                r.place("material"),
                "unknown-name",
                fmt::format("there is no material \"{}\"", printable(*material)),
                did_you_mean(*material, material_names_));
      } else {
        o.material = static_cast<int>(found - material_names_.begin());
      }
    }
    o.tags = r.texts("tags").value_or(std::vector<std::string>{});
    r.finish({"mesh_length", "mesh_up"}, solid ? "a solid" : "a shape");
    rig_.objects.push_back(std::move(o));
  }

  void read_meter(TableReader& r, const std::string& name) {
    MeterSpec m;
    m.name = name;
    m.place = r.table().place;
    if (!r.has("kind")) {
      r.missing("kind", "illuminance or luminance");
    } else if (const auto kind = r.word("kind", {"illuminance", "luminance"})) {
      m.luminance = *kind == 1;
    }
    if (r.has("at") == r.has("grid")) {
      r.error("at",
              r.has("at") ? r.place("grid") : r.table().place,
              r.has("at") ? "conflict" : "missing-key",
              r.has("at")
                  ? "at and grid are both given"
                  : "is missing; expected a position [x, y, z], or grid = { from, to, count }");
    }
    m.at = r.position("at").value_or(m.at);
    if (r.has("aim")) {
      const auto aim = r.position("aim");
      if (r.has("facing")) {
        r.error("aim",
                r.place("aim"),
                "conflict",
                "aim and facing are both given; either says which way it looks");
      } else if (aim && !((*aim - m.at).norm() > 1e-9)) {
        r.error(
            "aim", r.place("aim"), "zero-direction", "the meter is at the point that it aims at");
      } else if (aim) {
        m.facing = (*aim - m.at).normalized();
      }
    } else {
      m.facing = r.direction("facing").value_or(rig_.up);
    }
    if (m.luminance) {
      m.field = r.quantity("field", Dimension::kAngle, {1e-5, kPiD}).value_or(m.field);
    }
    if (const DocumentNode* target = r.find("target")) {
      const Dimension unit = m.luminance ? Dimension::kLuminance : Dimension::kIlluminance;
      const bool pair = target->is_array() && target->array().size() == 2;
      const auto lo = pair ? r.amount(target->array()[0], "target", unit, kNotNegative)
                           : std::nullopt,
                 hi = pair ? r.amount(target->array()[1], "target", unit, kNotNegative)
                           : std::nullopt;
      if (!pair) {
        r.wrong_type("target",
                     *target,
                     m.luminance ? "[\"80 cd/m2\", \"120 cd/m2\"]" : "[\"450 lx\", \"550 lx\"]");
      } else if (lo && hi && *hi < *lo) {
        r.error("target",
                target->place,
                "out-of-range",
                "the first value is the lowest that will do, the second the highest");
      } else if (lo && hi) {
        m.target = std::pair(*lo, *hi);
      }
    }
    if (const DocumentNode* grid = r.find("grid"); grid != nullptr && !grid->is_table()) {
      r.wrong_type("grid", *grid, "{ from = [x, y, z], to = [x, y, z], count = [8, 5] }");
    } else if (grid != nullptr) {
      TableReader g(*grid, r.address_of("grid"), r.length(), r.problems());
      MeterSpec::Grid out;
      const auto from = g.position("from"), to = g.position("to");
      for (const char* key : {"from", "to"}) {
        if (!g.has(key)) {
          g.missing(key, "a corner [x, y, z]");
        }
      }
      out.from = from.value_or(out.from);
      out.to = to.value_or(out.to);
      const DocumentNode* count = g.find("count");
      bool good = count != nullptr && count->is_array() && count->array().size() == 2;
      for (std::size_t i = 0; good && i < 2; ++i) {
        const auto* v = std::get_if<std::int64_t>(&count->array()[i].value);
        good = v != nullptr && *v >= 1 && *v <= 200;
        out.count[i] = good ? static_cast<int>(*v) : 1;
      }
      if (!good) {
        g.error("count",
                count != nullptr ? count->place : grid->place,
                "out-of-range",
                "expected two whole numbers from 1 to 200, such as [8, 5]");
      }
      int differ = 0;
      for (int i = 0; i < 3; ++i) {
        differ += out.from[i] != out.to[i] ? 1 : 0;
      }
      if (from && to && (differ == 0 || differ > 2)) {
        g.error("to",
                g.place("to"),
                "out-of-range",
                "the corners must differ along one or two axes",
                "give two corners of a level or upright rectangle");
      }
      g.finish();
      m.grid = out;
    }
    r.finish({"field"}, "an illuminance meter");
    rig_.meters.push_back(std::move(m));
  }

  void read_camera(TableReader& r, const std::string& name) {
    CameraSpec c;
    c.name = name;
    c.place = r.table().place;
    const auto at = r.position("at"), look_at = r.position("look_at");
    if (!at && !r.has("at")) {
      r.missing("at", "a position [x, y, z]");
    }
    if (!look_at && !r.has("look_at")) {
      r.missing("look_at", "the point that it looks at");
    }
    c.at = at.value_or(c.at);
    c.look_at = look_at.value_or(c.look_at);
    if (at && look_at && !((c.look_at - c.at).norm() > 1e-9)) {
      r.error("look_at",
              r.place("look_at"),
              "zero-direction",
              "the camera is at the point that it looks at",
              "move one of them");
    }
    // Lens and sensor are in the camera's own scale: a bare number is in millimeters nowhere, so
    // units are asked for.
    const auto sensor = r.quantity("sensor", Dimension::kLength, {1e-4, 10});
    c.sensor = sensor.value_or(0.036);
    const auto lens = r.quantity("lens", Dimension::kLength, {1e-4, 10});
    const auto field_of_view =
        r.quantity("field_of_view", Dimension::kAngle, {0.001 * kPiD / 180, 170 * kPiD / 180});
    if (r.has("lens") && r.has("field_of_view")) {
      r.error("field_of_view",
              r.place("field_of_view"),
              "conflict",
              "lens and field_of_view are both given; either sets the angle of view");
    }
    if (lens) {
      c.lens = *lens;
      c.field_of_view = 2 * std::atan(c.sensor / (2 * *lens));
    } else {
      c.field_of_view = field_of_view.value_or(c.field_of_view);
      c.lens = c.sensor / (2 * std::tan(c.field_of_view / 2));
    }
    c.exposure.stop = r.ratio("stop", {0.1, 1000}).value_or(4);
    c.exposure.shutter = {r.quantity("shutter", Dimension::kTime, {1e-7, 1e6}).value_or(1.0 / 60)};
    c.exposure.iso = r.ratio("iso", {0.1, 1e7}).value_or(100);
    c.focus = r.quantity("focus", Dimension::kLength, kPositive);
    r.finish();
    rig_.cameras.push_back(c);
  }

  void read_variant(TableReader& r, const std::string& name) {
    const DocumentNode* set = r.find("set");
    if (set == nullptr) {
      r.missing("set", "{ \"ADDRESS\" = value, ... }");
    } else if (!set->is_table()) {
      r.wrong_type("set", *set, "{ \"ADDRESS\" = value, ... }");
    }
    r.finish();
    rig_.variants.push_back(name);
  }

  void read_look(TableReader& top) {
    const DocumentNode* node = top.find("look");
    if (node == nullptr) {
      return;
    }
    if (!node->is_table()) {
      top.wrong_type("look", *node, "a [look] table");
      return;
    }
    TableReader r(*node, "look", rig_.length, problems_);
    LookSpec& look = rig_.look;
    if (const auto exposure = r.text("exposure")) {
      const auto ev = parse_amount(*exposure);
      if (*exposure == "camera") {
        look.exposure = LookSpec::Exposure::kCamera;
      } else if (*exposure == "auto") {
        look.exposure = LookSpec::Exposure::kAuto;
      } else if (const auto* a = std::get_if<Amount>(&ev);
                 a != nullptr && a->dimension == Dimension::kExposure && std::abs(a->value) <= 40) {
        look.exposure = LookSpec::Exposure::kFixed;
        look.ev = a->value;
      } else {
        r.error("exposure",
                r.place("exposure"),
                "unknown-word",
                fmt::format("found \"{}\"; expected \"camera\", \"auto\" or \"EV n\" (-40 to 40)",
                            printable(*exposure)),
                did_you_mean(*exposure, {"camera", "auto"}));
      }
    }
    if (const DocumentNode* white = r.find("white_balance")) {
      const auto parsed = white->is_text()     ? parse_white(white->text())
                          : white->is_number() ? parse_white(fmt::format("{} K", white->number()))
                                               : std::nullopt;
      if (parsed && parsed->temperature.value >= 1000) {
        look.white_balance = *parsed;
      } else {
        r.error("white_balance",
                white->place,
                "bad-quantity",
                "expected \"3200 K\" (1000 to 100000), \"D6504\" or \"daylight 5600 K\"");
      }
    }
    if (const auto curve = r.word("curve", {"film", "linear"})) {
      look.curve = *curve == 0 ? LookSpec::Curve::kFilm : LookSpec::Curve::kLinear;
    }
    look.bloom = r.ratio("bloom", {0, 0.9}).value_or(0);
    r.finish();
  }

  void read_time(TableReader& top) {
    const DocumentNode* node = top.find("time");
    if (node == nullptr) {
      return;
    }
    if (!node->is_table()) {
      top.wrong_type("time", *node, "a [time] table");
      return;
    }
    TableReader r(*node, "time", 1, problems_);
    TimeSpec& out = rig_.time;
    out.given = true;
    out.place = node->place;
    const DocumentNode* frames = r.find("frames");
    if (frames == nullptr) {
      r.missing("frames", "[first, last]");
    } else {
      const auto whole = [&](std::size_t i) {
        return frames->is_array() && frames->array().size() == 2
                   ? std::get_if<std::int64_t>(&frames->array()[i].value)
                   : nullptr;
      };
      const auto *first = whole(0), *last = whole(1);
      constexpr std::int64_t kMost = 999'999;
      if (first == nullptr || last == nullptr || *first < 0 || *last < *first || *last > kMost) {
        r.error(
            "frames",
            frames->place,
            "out-of-range",
            fmt::format(
                "expected [first, last], whole numbers from 0 to {}, the first not above the last",
                kMost));
      } else {
        out.first = static_cast<int>(*first);
        out.last = static_cast<int>(*last);
      }
    }
    out.rate = r.ratio("rate", {1e-3, 1e5}).value_or(24);
    out.start = r.quantity("start", Dimension::kTime, {-1e6, 1e6}).value_or(0);
    out.shutter = r.ratio("shutter", kShare).value_or(0.5);
    out.clock_speed = r.ratio("clock_speed", {-1e6, 1e6}).value_or(1);
    r.finish();
  }

  // What keys and flickers make of the lights' levels while the shutter is open.
  void read_levels() {
    const double from = rig_.render.time - rig_.time.open() / 2,
                 to = rig_.render.time + rig_.time.open() / 2;
    struct LevelKeys {
      KeyedNumber dimmer, on;
    };
    std::map<std::string, LevelKeys> keys;  // by light, then by array
    for (const char* kind : {"light", "array"}) {
      const DocumentNode* list = keyed_.find(kind);
      for (const DocumentNode& item :
           list != nullptr && list->is_array() ? list->array() : DocumentNode::Array{}) {
        const DocumentNode *name = item.find("name"), *of = item.find("of"),
                           *dimmer = item.find("dimmer"), *on = item.find("on");
        if (name == nullptr || !name->is_text()) {
          continue;
        }
        if (of != nullptr && of->is_text()) {
          keys[name->text()] = LevelKeys(keys[of->text()]);
        } else {
          keys[name->text()] = {dimmer != nullptr ? keyed_number(*dimmer) : KeyedNumber{},
                                on != nullptr ? keyed_number(*on) : KeyedNumber{}};
        }
      }
    }
    for (LightSpec& light : rig_.lights) {
      // A copy whose dimmer or switch is its own does not follow its pattern's keys.
      const LevelKeys& its = keys[light.layer];
      constexpr double kSame = 1e-9;
      if (!its.dimmer.times.empty() &&
          std::abs(its.dimmer(rig_.render.time) - light.dimmer) < kSame) {
        light.dimmer_keys = its.dimmer;
      }
      if (!its.on.times.empty() && (its.on(rig_.render.time) > 0) == light.on) {
        light.on_keys = its.on;
        if (light.dimmer_keys.times.empty()) {
          // The level when it is on, whatever it is now.
          light.dimmer_keys = {{0}, {light.dimmer}, KeyedNumber::Ease::kHold};
        }
      }
      if (light.dimmer_keys.times.empty() && light.on_keys.times.empty() && !light.flicker) {
        continue;
      }
      const double level = light.level_between(from, to);
      if (!light.dimmer_keys.times.empty() || !light.on_keys.times.empty()) {
        LightSpec steady = light;
        steady.flicker.reset();
        light.dimmer = steady.level_between(from, to);
        light.on = light.on || (!light.on_keys.times.empty() && light.dimmer > 0);
      }
      light.flicker_level = !light.flicker     ? 1
                            : light.dimmer > 0 ? level / light.dimmer
                                               : light.flicker->mean(from, to);
    }
  }

  void read_render(TableReader& top) {
    const DocumentNode* node = top.find("render");
    if (node == nullptr) {
      return;
    }
    if (!node->is_table()) {
      top.wrong_type("render", *node, "a [render] table");
      return;
    }
    TableReader r(*node, "render", rig_.length, problems_);
    RenderSpec& out = rig_.render;
    if (const DocumentNode* size = r.find("size")) {
      const auto side = [](const DocumentNode& n) {
        const auto* v = std::get_if<std::int64_t>(&n.value);
        return v != nullptr && *v >= 1 && *v <= 32768 ? static_cast<int>(*v) : 0;
      };
      if (!size->is_array() || size->array().size() != 2 || side(size->array()[0]) == 0 ||
          side(size->array()[1]) == 0) {
        r.error("size",
                size->place,
                "out-of-range",
                "expected [width, height] in pixels, each a whole number from 1 to 32768");
      } else {
        out.width = side(size->array()[0]);
        out.height = side(size->array()[1]);
      }
    }
    if (const auto samples = r.integer("samples", 1, 1 << 20)) {
      out.samples = static_cast<int>(*samples);
      out.samples_given = true;
    }
    if (const auto noise = r.ratio("noise", {1e-5, 1})) {
      out.noise = *noise;
      if (!out.samples_given) {
        out.samples = 1 << 16;  // at most; the noise asked for ends the render
      }
    }
    if (const auto bounces = r.integer("bounces", 0, 1000)) {
      out.bounces = static_cast<int>(*bounces);
    }
    if (const auto bounces = r.integer("haze_bounces", 0, 1000)) {
      out.haze_bounces = static_cast<int>(*bounces);
    }
    out.guiding = r.flag("guiding").value_or(true);
    out.denoise = r.flag("denoise").value_or(false);
    out.light_tracing = r.flag("light_tracing").value_or(true);
    if (const auto seed = r.integer("seed", 0, 0xffffffffLL)) {
      out.seed = static_cast<std::uint32_t>(*seed);
      out.seed_given = true;
    }
    out.time = r.quantity("time", Dimension::kTime, {-1e6, 1e6}).value_or(0);
    if (const auto word = r.word("layers", {"none", "lights", "lights+parts", "groups"})) {
      out.layers = static_cast<RenderSpec::Layers>(*word);
    }
    if (const DocumentNode* march = r.find("march"); march != nullptr && !march->is_table()) {
      r.wrong_type("march", *march, "{ tolerance = \"0.2 mm\", max_steps = 512 }");
    } else if (march != nullptr) {
      TableReader m(*march, "render.march", rig_.length, problems_);
      out.march_place = march->place;
      out.march.tolerance =
          m.quantity("tolerance", Dimension::kLength, {1e-8, 1}).value_or(out.march.tolerance);
      out.march.max_steps =
          static_cast<int>(m.integer("max_steps", 8, 1 << 20).value_or(out.march.max_steps));
      m.finish();
    }
    r.finish();
  }

  const DocumentNode& root_;
  const DocumentNode& keyed_;
  Rig& rig_;
  Problems& problems_;
  std::vector<std::string> material_names_;
  std::set<std::string> patterns_;
};

}  // namespace

std::vector<Vec3d> MeterSpec::points() const {
  if (!grid) {
    return {at};
  }
  std::vector<int> axes;
  for (int i = 0; i < 3; ++i) {
    if (grid->from[i] != grid->to[i]) {
      axes.push_back(i);
    }
  }
  std::vector<Vec3d> out;
  const auto share = [](int i, int count) {
    return count > 1 ? static_cast<double>(i) / (count - 1) : 0.5;
  };
  for (int v = 0; v < grid->count[1]; ++v) {
    for (int u = 0; u < grid->count[0]; ++u) {
      Vec3d p = grid->from;
      for (std::size_t k = 0; k < axes.size(); ++k) {
        const double t = k == 0 ? share(u, grid->count[0]) : share(v, grid->count[1]);
        p[axes[k]] += t * (grid->to[axes[k]] - grid->from[axes[k]]);
      }
      out.push_back(p);
    }
  }
  return out;
}

std::string path_from(const Place& place, const std::string& name) {
  const fs::path given(name);
  if (given.is_absolute() || place.line == 0) {
    return name;
  }
  return (fs::path(place.file).parent_path() / given).string();
}

double LightSpec::level_between(double from, double to) const {
  const double length = to - from;
  const auto dimmed_at = [&](double t) {
    return (dimmer_keys.times.empty() ? dimmer : dimmer_keys(t)) *
           (on_keys.times.empty() ? 1 : on_keys(t));
  };
  if (!(length > 0)) {
    return dimmed_at(from) * (flicker ? flicker->level(from) : 1);
  }
  if (dimmer_keys.times.empty() && on_keys.times.empty()) {
    return dimmer * (flicker ? flicker->mean(from, to) : 1);
  }
  // From key to key; with a flicker in steps short enough that the dimmer hardly changes over one.
  std::vector<double> corners = {from};
  for (const KeyedNumber* keys : {&dimmer_keys, &on_keys}) {
    std::copy_if(
        keys->times.begin(), keys->times.end(), std::back_inserter(corners), [&](double t) {
          return t > from && t < to;
        });
  }
  corners.push_back(to);
  std::sort(corners.begin(), corners.end());
  double sum = 0;
  for (std::size_t i = 0; i + 1 < corners.size(); ++i) {
    if (!flicker) {
      sum += integral(dimmed_at, corners[i], corners[i + 1], 1);  // exact: cubic between keys
      continue;
    }
    constexpr int kSteps = 256;
    const double step = (corners[i + 1] - corners[i]) / kSteps;
    for (int k = 0; k < kSteps; ++k) {
      const double a = corners[i] + k * step;
      sum += dimmed_at(a + step / 2) * flicker->mean(a, a + step) * step;
    }
  }
  return sum / length;
}

namespace {

// render.time as the text has it; 0 where it is not there or wrong, which reading tells.
double moment_in(const DocumentNode& document) {
  const DocumentNode* render = document.find("render");
  Problems ignored;
  if (render == nullptr || !render->is_table()) {
    return 0;
  }
  return TableReader(*render, "render", 1, ignored)
      .quantity("time", Dimension::kTime, kAny)
      .value_or(0);
}

// Reads the rig as it is at its moment.
Problems read_at_moment(const DocumentNode& document, double moment, Rig& rig) {
  Problems problems;
  const bool keyed = has_keys(document);
  const DocumentNode now = keyed ? at_time(document, moment, problems) : DocumentNode{};
  RigReader(keyed ? now : document, document, rig, problems).read();
  return problems;
}

}  // namespace

Result<Rig> read_rig(DocumentNode document, const std::string& file) {
  Rig rig;
  rig.file = file;
  Problems problems = read_at_moment(document, moment_in(document), rig);
  // What is wrong at other keys is told as well.
  constexpr std::size_t kMostKeys = 200;
  std::vector<double> times = key_times(document);
  times.resize(std::min(times.size(), kMostKeys));
  for (const double t : times) {
    Rig other;
    for (Problem& p : read_at_moment(document, t, other)) {
      const bool known = std::any_of(problems.begin(), problems.end(), [&](const Problem& q) {
        return q.place.file == p.place.file && q.place.line == p.place.line &&
               q.place.column == p.place.column && q.code == p.code;
      });
      if (!known && p.severity == Severity::kError) {
        problems.push_back(std::move(p));
      }
    }
  }
  sort_by_place(problems);
  if (has_errors(problems)) {
    return problems;
  }
  rig.document = std::move(document);
  return {std::move(rig), std::move(problems)};
}

namespace {

DocumentNode value_node(auto value) {
  DocumentNode node;
  node.value = value;
  return node;
}

// Sets render.time to that of a frame, and a seed of its own where none is given.
Problems go_to_frame(DocumentNode& document, const std::string& file, int frame, bool hold_noise) {
  const DocumentNode* time = document.find("time");
  if (time == nullptr) {
    return {{Severity::kError,
             "missing-key",
             {file, 0, 0},
             "time",
             "the rig has no frames",
             "add [time] with frames = [first, last] and rate"}};
  }
  Rig rig;
  Problems problems = read_at_moment(document, moment_in(document), rig);
  if (has_errors(problems)) {
    return {};  // reading the rig tells them
  }
  if (frame < rig.time.first || frame > rig.time.last) {
    return {{Severity::kError,
             "out-of-range",
             rig.time.place,
             "time.frames",
             fmt::format("there is no frame {}; frames run from {} to {}",
                         frame,
                         rig.time.first,
                         rig.time.last),
             ""}};
  }
  Problems out = set_at_address(document, "render.time", value_node(rig.time.moment_of(frame)));
  if (!rig.render.seed_given && !hold_noise) {
    const Problems more = set_at_address(
        document, "render.seed", value_node(static_cast<std::int64_t>(frame_seed(rig, frame))));
    out.insert(out.end(), more.begin(), more.end());
  }
  return out;
}

}  // namespace

std::uint32_t frame_seed(const Rig& rig, int frame) {
  return mix(rig.render.seed, static_cast<std::uint32_t>(frame));
}

Result<Rig> rig_at(const Rig& rig, double moment, std::optional<std::uint32_t> seed) {
  Rig out;
  out.file = rig.file;
  DocumentNode document = rig.document;
  Problems problems = set_at_address(document, "render.time", value_node(moment));
  if (seed && !has_errors(problems)) {
    problems =
        set_at_address(document, "render.seed", value_node(static_cast<std::int64_t>(*seed)));
  }
  if (!has_errors(problems)) {
    problems = read_at_moment(document, moment, out);
  }
  if (has_errors(problems)) {
    return problems;
  }
  out.document = std::move(document);
  return {std::move(out), {}};
}

std::vector<std::string> files_of(const Rig& rig) {
  std::set<std::string> files = {rig.file};
  const auto add = [&](const std::string& file) {
    if (!file.empty()) {
      files.insert(file);
    }
  };
  // Whatever a value of the text stands in, down to the last.
  const std::function<void(const DocumentNode&)> places = [&](const DocumentNode& node) {
    if (node.place.line > 0) {
      add(node.place.file);
    }
    if (node.is_table()) {
      for (const DocumentEntry& e : node.table()) {
        places(e.value);
      }
    } else if (node.is_array()) {
      for (const DocumentNode& item : node.array()) {
        places(item);
      }
    }
  };
  places(rig.document);
  for (const LightSpec& l : rig.lights) {
    add(l.profile_file);
    add(l.image);
    add(l.spectrum_file);
    add(l.gobo ? l.gobo->image : "");
  }
  for (const GelSpec& g : rig.gels) {
    add(g.file);
  }
  for (const MaterialSpec& m : rig.materials) {
    for (const std::string& file :
         {m.color_file, m.picture.file, m.mask.file, m.ior_file, m.extinction_file}) {
      add(file);
    }
  }
  for (const ObjectSpec& o : rig.objects) {
    add(o.mesh);
  }
  for (const HazeSpec& h : rig.hazes) {
    add(h.file);
  }
  return {files.begin(), files.end()};
}

Result<Rig> load_rig(const std::string& file, const RigRequest& request) {
  auto document = load_document(file);
  if (!document) {
    return document.problems();
  }
  Problems problems;
  const auto keep = [&](Problems more) {
    problems.insert(problems.end(), more.begin(), more.end());
  };
  for (const std::string& variant : request.variants) {
    keep(apply_variant(*document, variant));
  }
  for (const std::string& assignment : request.overrides) {
    keep(apply_override(*document, assignment));
  }
  if (request.frame) {
    keep(go_to_frame(*document, file, *request.frame, request.hold_noise));
  }
  auto rig = read_rig(std::move(*document), file);
  if (!problems.empty()) {
    keep(rig.problems());
    return problems;
  }
  return rig;
}

std::string resolved_toml(const Rig& rig, const std::string& folder) {
  DocumentNode document = rig.document;
  const auto relocate_one = [&](DocumentNode* name) {
    if (name != nullptr && name->is_text() && !name->text().starts_with("cie-") &&
        !name->text().starts_with("led-")) {
      const fs::path file = fs::absolute(path_from(name->place, name->text())).lexically_normal();
      name->value = file.lexically_relative(fs::absolute(folder).lexically_normal()).string();
    }
  };
  const auto relocate = [&](const char* kind, const char* key) {
    DocumentNode* list = document.find(kind);
    for (std::size_t i = 0; list != nullptr && i < list->array().size(); ++i) {
      relocate_one(list->array()[i].find(key));
    }
  };
  const auto relocate_colors = [&] {
    DocumentNode* list = document.find("material");
    for (std::size_t i = 0; list != nullptr && i < list->array().size(); ++i) {
      DocumentNode* color = list->array()[i].find("color");
      if (color != nullptr && color->is_text() && !color->text().starts_with("#")) {
        relocate_one(color);
      }
    }
  };
  relocate("object", "mesh");
  relocate("material", "mask");
  relocate("material", "ior");
  relocate("material", "absorption");
  relocate("haze", "file");
  relocate("gel", "file");
  relocate_colors();
  relocate("light", "spectrum");
  relocate("light", "profile");
  relocate("light", "image");
  DocumentNode* lights = document.find("light");
  for (std::size_t i = 0; lights != nullptr && i < lights->array().size(); ++i) {
    if (DocumentNode* gobo = lights->array()[i].find("gobo"); gobo != nullptr && gobo->is_table()) {
      relocate_one(gobo->find("image"));
    }
  }
  return "# " + (rig.title.empty() ? std::string("A rig") : printable(rig.title, 200)) +
         ", all includes and overrides applied.\n" + to_toml(document);
}

}  // namespace jovilux
