#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/rig/assembly.h"
#include "jovilux/rig/read_light.h"
#include "jovilux/rig/read_solid.h"
#include "jovilux/rig/read_tables.h"

#include <algorithm>
#include <map>
#include <set>
#include <tuple>

#include <fmt/format.h>

namespace jovilux {

Rig::Rig() = default;
Rig::Rig(const Rig&) = default;
Rig::Rig(Rig&&) noexcept = default;
Rig& Rig::operator=(const Rig&) = default;
Rig& Rig::operator=(Rig&&) noexcept = default;
Rig::~Rig() = default;

LightSpec::LightSpec() = default;
LightSpec::LightSpec(const LightSpec&) = default;
LightSpec::LightSpec(LightSpec&&) noexcept = default;
LightSpec& LightSpec::operator=(const LightSpec&) = default;
LightSpec& LightSpec::operator=(LightSpec&&) noexcept = default;
LightSpec::~LightSpec() = default;

MaterialSpec::MaterialSpec() = default;
MaterialSpec::MaterialSpec(const MaterialSpec&) = default;
MaterialSpec::MaterialSpec(MaterialSpec&&) noexcept = default;
MaterialSpec& MaterialSpec::operator=(const MaterialSpec&) = default;
MaterialSpec& MaterialSpec::operator=(MaterialSpec&&) noexcept = default;
MaterialSpec::~MaterialSpec() = default;

HazeSpec::HazeSpec() = default;
HazeSpec::HazeSpec(const HazeSpec&) = default;
HazeSpec::HazeSpec(HazeSpec&&) noexcept = default;
HazeSpec& HazeSpec::operator=(const HazeSpec&) = default;
HazeSpec& HazeSpec::operator=(HazeSpec&&) noexcept = default;
HazeSpec::~HazeSpec() = default;

namespace {

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

// Conducts the readers of single tables: which come first, and what they know of one another.
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
    }
    top.whole("jovilux");
    single(top, "time", 1, read_time);
    single(top, "scene", 1, read_scene);
    single(top, "render", rig_.length, read_render);
    // The moment is known once render and time are read: flicker and drift need it.
    move_clock();
    each(top, "material", [&](auto& r, const auto& name) { read_material(r, name, rig_); });
    read_solids(top);
    find_patterns();
    each(top, "assembly", [](auto&, const auto&) {});  // names; their keys are read together
    assemblies_ = read_assemblies(root_, rig_.length, problems_);
    each(top, "object", [&](auto& r, const auto& name) {
      read_object(r, name, rig_);
      move_object(assemblies_.objects, name);
    });
    read_object_arrays();
    each(top, "gel", [&](auto& r, const auto& name) { read_gel(r, name, rig_); });
    each(top, "haze", [&](auto& r, const auto& name) {
      const DocumentNode* light = table_named("light", name);
      read_haze(r, name, light != nullptr ? &light->place : nullptr, rig_);
    });
    each(top, "light", [&](auto& r, const auto& name) {
      auto light = read_light(r, rig_);
      if (light && patterns_.count(name) == 0) {  // a pattern no longer shines itself
        light->name = light->layer = name;
        move_to(assemblies_.lights, name, *light);
        rig_.lights.push_back(std::move(*light));
      }
    });
    each(top, "array", [&](auto& r, const auto& name) { read_light_array(r, name); });
    each(top, "camera", [&](auto& r, const auto& name) { read_camera(r, name, rig_); });
    check_camera();
    each(top, "meter", [&](auto& r, const auto& name) { read_meter(r, name, rig_); });
    each(top, "variant", [&](auto& r, const auto& name) { read_variant(r, name); });
    single(top, "look", rig_.length, read_look);
    top.finish();
    read_levels(keyed_, rig_);
  }

 private:
  static inline const DocumentNode::Array kNone;

  // A table that a rig has once.
  void single(TableReader& top,
              std::string_view key,
              double length,
              void (*read_one)(TableReader&, Rig&)) {
    if (const DocumentNode* node = top.table(key)) {
      TableReader reader(*node, std::string(key), length, problems_);
      read_one(reader, rig_);
    }
  }

  // Each table of a list of named ones; says what is wrong with the list and the names.
  template <class Fn>
  void each(TableReader& top, const std::string& kind, const Fn& read_one) {
    const DocumentNode* list = top.find(kind);
    if (list == nullptr) {
      return;
    }
    if (!list->is_array()) {
      top.wrong_type(kind, *list);
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
      TableReader reader(item, kind + "." + address_part(name), rig_.length, problems_);
      reader.find("name");
      if (name_node == nullptr) {
        reader.missing("name", fmt::format("a name that no other {} has", kind));
      } else if (!name_node->is_text()) {
        reader.wrong_type("name", *name_node);
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

  // The site's clock goes on with the moment of the picture.
  void move_clock() {
    constexpr double kSecondsADay = 86400;
    if (rig_.site && rig_.site->time) {
      rig_.site->time->julian_date += rig_.render.time * rig_.time.clock_speed / kSecondsADay;
    }
  }

  const DocumentNode::Array& list_of(std::string_view kind) const {
    const DocumentNode* list = root_.find(kind);
    return list != nullptr && list->is_array() ? list->array() : kNone;
  }

  // The table of that name in a list of named ones; null where there is none.
  const DocumentNode* table_named(std::string_view kind, std::string_view name) const {
    for (const DocumentNode& item : list_of(kind)) {
      const DocumentNode* its_name = item.find("name");
      if (its_name != nullptr && its_name->is_text() && its_name->text() == name) {
        return &item;
      }
    }
    return nullptr;
  }

  // The names of a list's tables.
  std::vector<std::string> names_in(std::string_view kind) const {
    std::vector<std::string> names;
    for (const DocumentNode& item : list_of(kind)) {
      const DocumentNode* name = item.find("name");
      if (name != nullptr && name->is_text()) {
        names.push_back(name->text());
      }
    }
    return names;
  }

  // The names of lights and objects that arrays copy: found first, for lights are read before
  // arrays.
  void find_patterns() {
    for (const DocumentNode& array : list_of("array")) {
      if (const DocumentNode* of = array.find("of"); of != nullptr && of->is_text()) {
        patterns_.insert(of->text());
      }
    }
  }

  // The table of the object that an array copies: of a name that no light has. Null: a light's.
  const DocumentNode* object_pattern(const DocumentNode& array) const {
    const DocumentNode* of = array.find("of");
    if (of == nullptr || !of->is_text() || table_named("light", of->text()) != nullptr) {
      return nullptr;
    }
    return table_named("object", of->text());
  }

  // The objects that arrays are made of, before what names objects is read. The pattern itself
  // shows no longer.
  void read_object_arrays() {
    std::set<std::string> replaced;
    for (const DocumentNode& array : list_of("array")) {
      const DocumentNode* pattern = object_pattern(array);
      const DocumentNode* name = array.find("name");
      if (pattern != nullptr && name != nullptr && name->is_text()) {
        read_object_array(array, *pattern, *name);
        replaced.insert(array.find("of")->text());
      }
    }
    std::erase_if(rig_.objects, [&](const ObjectSpec& o) {
      return o.array.empty() && replaced.count(o.name) > 0;
    });
  }

  void read_object_array(const DocumentNode& array,
                         const DocumentNode& pattern,
                         const DocumentNode& name_node) {
    const std::string& name = name_node.text();
    TableReader r(array, "array." + address_part(name), rig_.length, problems_);
    r.find("name");
    r.find("of");
    if (const DocumentNode* output = r.find("output")) {
      r.error("output",
              output->place,
              "conflict",
              "copies of an object have no output",
              "leave it out");
    }
    if (const DocumentNode* other = table_named("object", name)) {
      r.error("name",
              name_node.place,
              "duplicate-name",
              fmt::format(
                  "there is an object \"{}\" at {}", printable(name, 40), to_string(other->place)),
              "rename one of them");
    }
    const Copies copies = read_copies(r, pattern, rig_);
    r.finish();
    const bool faulty = has_faults("object." + array.find("of")->text());
    const std::size_t before = problems_.size();
    for (std::size_t i = 0; i < copies.places.size() && !faulty && problems_.size() == before;
         ++i) {
      const std::string copy_name = fmt::format("{}[{}]", name, i);
      TableReader reader(copies.tables[i],
                         fmt::format("object.{}[{}]", address_part(name), i),
                         rig_.length,
                         problems_);
      reader.find("name");
      read_object(reader, copy_name, rig_);
      rig_.objects.back().array = name;
      move_object(assemblies_.objects, array.find("of")->text());
      rig_.objects.back().transform.offset += copies.places[i];
      move_object(assemblies_.arrays, name);
    }
  }

  // Whether something is wrong with a pattern: it has been told, and would be for each copy.
  bool has_faults(const std::string& pattern_address) const {
    return std::any_of(problems_.begin(), problems_.end(), [&](const Problem& p) {
      return p.severity == Severity::kError &&
             (p.address == pattern_address || p.address.starts_with(pattern_address + "."));
    });
  }

  void read_light_array(TableReader& r, const std::string& name) {
    if (object_pattern(r.node()) != nullptr) {
      return;  // read with the objects
    }
    if (const DocumentNode* light = table_named("light", name)) {
      r.error("name",
              r.place("name"),
              "duplicate-name",
              fmt::format("there is a light \"{}\" at {}", name, to_string(light->place)),
              "rename one of them");
    }
    r.require("of");
    const auto of = r.text("of");
    if (!of) {
      return;
    }
    const DocumentNode* pattern = table_named("light", *of);
    if (pattern == nullptr) {
      r.unknown_name("of",
                     r.place("of"),
                     fmt::format("there is no light or object \"{}\"", printable(*of)),
                     *of,
                     names_in("light"));
      return;
    }
    const DocumentNode* single = r.node().find("copy");
    if (single == nullptr && has_faults("light." + address_part(*of))) {
      for (const char* key : {"output", "count", "along"}) {
        r.find(key);
      }
      return;
    }
    const auto in_place = assemblies_.lights.find(*of);
    for (LightSpec& copy :
         read_array(r,
                    name,
                    *pattern,
                    rig_,
                    in_place != assemblies_.lights.end() ? &in_place->second : nullptr)) {
      move_to(assemblies_.arrays, name, copy);
      rig_.lights.push_back(std::move(copy));
    }
  }

  using Placements = std::map<std::string, AssemblyPlacement>;

  // The object that was read last, where an assembly has it.
  void move_object(const Placements& placements, const std::string& name) {
    if (const auto found = placements.find(name);
        found != placements.end() && !rig_.objects.empty()) {
      Transform& own = rig_.objects.back().transform;
      const Transform& outer = found->second.transform;
      own = {outer.linear * own.linear, outer.point(own.offset)};
    }
  }

  void move_to(const Placements& placements, const std::string& name, LightSpec& light) const {
    if (const auto found = placements.find(name); found != placements.end()) {
      move_light(found->second, rig_.up, light);
    }
  }

  // All solids together: one may be made of others that come later.
  void read_solids(TableReader& top) {
    std::vector<SolidDraft> drafts;
    each(top, "solid", [&](auto& r, const auto& name) {
      if (auto draft = read_solid(r, name, rig_)) {
        drafts.push_back(std::move(*draft));
      }
    });
    join_solids(std::move(drafts), rig_, problems_);
  }

  void check_camera() {
    const std::string& camera = rig_.render.camera;
    const std::vector<std::string> names = names_in("camera");
    if (!camera.empty() && std::find(names.begin(), names.end(), camera) == names.end()) {
      TableReader r(*root_.find("render"), "render", 1, problems_);
      r.unknown_name("camera",
                     rig_.render.camera_place,
                     fmt::format("there is no camera \"{}\"", printable(camera, 40)),
                     camera,
                     names);
    }
  }

  void read_variant(TableReader& r, const std::string& name) {
    if (!r.has("camera")) {
      r.require("set");
    }
    r.table("set");
    r.text("camera");
    r.finish();
    rig_.variants.push_back(name);
  }

  const DocumentNode& root_;
  const DocumentNode& keyed_;
  Rig& rig_;
  Problems& problems_;
  std::set<std::string> patterns_;
  Assemblies assemblies_;
};

// render.time as the text has it; 0 where it is not there or wrong, which reading tells.
double moment_in(const DocumentNode& document) {
  const DocumentNode* render = document.find("render");
  Problems ignored;
  if (render == nullptr || !render->is_table()) {
    return 0;
  }
  return TableReader(*render, "render", 1, ignored).number_or_standard("time");
}

// Reads the rig as it is at its moment.
Problems read_at_moment(const DocumentNode& document, double moment, Rig& rig) {
  Problems problems;
  const bool keyed = has_keys(document);
  const DocumentNode now = keyed ? at_time(document, moment, problems) : DocumentNode{};
  RigReader(keyed ? now : document, document, rig, problems).read();
  return problems;
}

// Adds errors at the moments of other keys: a value between two keys may be wrong where both are
// right.
void add_problems_at_keys(const DocumentNode& document, Problems& problems) {
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
}

DocumentNode value_node(auto value) {
  DocumentNode node;
  node.value = value;
  return node;
}

// Sets render.time to that of a frame, and gives the frame a seed of its own where the rig gives
// none: noise that stood still over a clip would look like dirt on the lens.
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
  // Ends included; a lone point stands in the middle.
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

Result<Rig> read_rig(DocumentNode document, const std::string& file) {
  Rig rig;
  rig.file = file;
  Problems problems;
  lift_members(document);
  expand_assembly_arrays(document, problems);
  for (Problem& p : read_at_moment(document, moment_in(document), rig)) {
    problems.push_back(std::move(p));
  }
  add_problems_at_keys(document, problems);
  sort_by_place(problems);
  if (has_errors(problems)) {
    return problems;
  }
  rig.document = std::move(document);
  return {std::move(rig), std::move(problems)};
}

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
  take_files_from_folder_of(*document, file);
  auto rig = read_rig(std::move(*document), file);
  if (!problems.empty()) {
    keep(rig.problems());
    return problems;
  }
  return rig;
}

}  // namespace jovilux
