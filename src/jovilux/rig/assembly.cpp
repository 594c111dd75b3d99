#include "jovilux/rig/assembly.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/read_tables.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <set>

#include <fmt/format.h>

namespace jovilux {
namespace {

const DocumentNode::Array& tables_of(const DocumentNode& root, std::string_view kind) {
  static const DocumentNode::Array kNone;
  const DocumentNode* list = root.find(std::string(kind));
  return list != nullptr && list->is_array() ? list->array() : kNone;
}

std::string text_at(const DocumentNode& table, const std::string& key) {
  const DocumentNode* node = table.is_table() ? table.find(key) : nullptr;
  return node != nullptr && node->is_text() ? node->text() : "";
}

const DocumentNode* named(const DocumentNode& root,
                          std::string_view kind,
                          const std::string& name) {
  for (const DocumentNode& table : tables_of(root, kind)) {
    if (!name.empty() && text_at(table, "name") == name) {
      return &table;
    }
  }
  return nullptr;
}

// What may be a member.
constexpr std::array<const char*, 4> kMemberKinds = {"light", "object", "array", "assembly"};

// "light.bulb" as kind and name; the kind is empty where the address is none of a member's.
std::pair<std::string, std::string> parts_of_member(const std::string& address) {
  const std::size_t dot = address.find('.');
  const std::string kind = dot == std::string::npos ? "" : address.substr(0, dot);
  const bool may = std::find(kMemberKinds.begin(), kMemberKinds.end(), kind) != kMemberKinds.end();
  return {may ? kind : "", dot == std::string::npos ? address : address.substr(dot + 1)};
}

std::vector<std::string> members_of(const DocumentNode& assembly) {
  std::vector<std::string> out;
  const DocumentNode* members = assembly.is_table() ? assembly.find("members") : nullptr;
  if (members != nullptr && members->is_array()) {
    for (const DocumentNode& member : members->array()) {
      if (member.is_text()) {
        out.push_back(member.text());
      }
    }
  }
  return out;
}

// Adds the placements of an assembly's members, of those of nested ones too.
class Placing {
 public:
  Placing(const DocumentNode& root, double length, Problems& problems, Assemblies& out)
      : root_(root), length_(length), problems_(problems), out_(out) {}

  void all() {
    std::set<std::string> nested;
    for (const DocumentNode& assembly : tables_of(root_, "assembly")) {
      for (const std::string& member : members_of(assembly)) {
        if (const auto [kind, name] = parts_of_member(member); kind == "assembly") {
          nested.insert(name);
        }
      }
    }
    for (const DocumentNode& assembly : tables_of(root_, "assembly")) {
      if (nested.count(text_at(assembly, "name")) == 0) {
        place(assembly, {});
      }
    }
    for (const DocumentNode& assembly : tables_of(root_, "assembly")) {
      if (read_.count(&assembly) == 0) {  // a ring, which no other holds
        TableReader r(assembly, address_of(assembly), length_, problems_);
        r.error("members", assembly.place, "conflict", "the assembly holds itself", "leave it out");
      }
    }
  }

 private:
  static std::string address_of(const DocumentNode& assembly) {
    return "assembly." + address_part(text_at(assembly, "name"));
  }

  void place(const DocumentNode& assembly, const AssemblyPlacement& outer) {
    read_.insert(&assembly);
    TableReader r(assembly, address_of(assembly), length_, problems_);
    r.find("name");
    AssemblyPlacement own;
    own.transform = read_placement(r);
    const Vec3d scales = own.transform.linear.colwise().norm();
    own.scale = scales.mean();
    own.even = scales.maxCoeff() - scales.minCoeff() < 1e-9 * own.scale;
    bool written_wrongly = false;
    for (const char* kind : kMemberKinds) {
      if (const DocumentNode* left = r.find(kind)) {  // lift_members took all lists of tables
        r.error(kind,
                left->place,
                "wrong-type",
                fmt::format("found {}; expected members written out", left->kind()),
                fmt::format("write [[assembly.{}]] above the keys of each", kind));
        written_wrongly = true;
      }
    }
    if (!written_wrongly) {
      r.require("members");
    }
    r.texts("members");
    r.finish();
    const AssemblyPlacement whole = outer.after(own);
    for (const std::string& member : members_of(assembly)) {
      place_member(r, member, whole);
    }
  }

  void place_member(TableReader& r, const std::string& member, const AssemblyPlacement& whole) {
    const auto [kind, name] = parts_of_member(member);
    const DocumentNode* table = kind.empty() ? nullptr : named(root_, kind, name);
    const Place at = r.place("members");
    if (table == nullptr) {
      std::vector<std::string> known;
      for (const char* of : kMemberKinds) {
        for (const DocumentNode& t : tables_of(root_, of)) {
          known.push_back(std::string(of) + "." + text_at(t, "name"));
        }
      }
      r.unknown_name("members",
                     at,
                     fmt::format("there is no \"{}\"; a member is light.NAME, object.NAME, "
                                 "array.NAME or assembly.NAME",
                                 printable(member, 60)),
                     member,
                     known);
      return;
    }
    if (!taken_.insert(member).second) {
      r.error("members",
              at,
              "conflict",
              fmt::format("\"{}\" is a member of two assemblies", printable(member, 60)),
              "copy it, or make one assembly a member of the other");
      return;
    }
    if (kind == "assembly") {
      if (read_.count(table) == 0) {
        place(*table, whole);
      }
    } else if (kind == "object") {
      out_.objects[name] = whole;
    } else if (kind == "array") {
      out_.arrays[name] = whole;
      check_light(r, named(root_, "light", text_at(*table, "of")), member, whole);
    } else {
      out_.lights[name] = whole;
      check_light(r, table, member, whole);
    }
  }

  void check_light(TableReader& r,
                   const DocumentNode* light,
                   const std::string& member,
                   const AssemblyPlacement& whole) {
    if (light == nullptr) {
      return;
    }
    const std::string kind = text_at(*light, "kind");
    if (kind == "sun" || kind == "sky" || kind == "dome" || kind == "object") {
      r.error("members",
              r.place("members"),
              "conflict",
              fmt::format("\"{}\" is {}",
                          printable(member, 60),
                          kind == "object" ? "of kind object, which follows its object"
                                           : "everywhere, and has no place to move"),
              kind == "object" ? "name the object instead" : "leave it out");
    } else if (!whole.even) {
      r.error("scale",
              r.place("scale"),
              "out-of-range",
              "lights are scaled alike along all axes",
              "give one number");
    }
  }

  const DocumentNode& root_;
  double length_;
  Problems& problems_;
  Assemblies& out_;
  std::set<const DocumentNode*> read_;
  std::set<std::string> taken_;
};

// The lights and objects that an assembly comes to, those of nested ones too.
void leaves_of(const DocumentNode& root,
               const DocumentNode& assembly,
               std::vector<std::string>& out,
               int depth) {
  constexpr int kDeepest = 20;
  for (const std::string& member : members_of(assembly)) {
    const auto [kind, name] = parts_of_member(member);
    if (kind != "assembly") {
      out.push_back(member);
    } else if (const DocumentNode* inner = named(root, kind, name);
               inner != nullptr && depth < kDeepest) {
      leaves_of(root, *inner, out, depth + 1);
    }
  }
}

}  // namespace

Assemblies read_assemblies(const DocumentNode& root, double length, Problems& problems) {
  Assemblies out;
  Placing(root, length, problems, out).all();
  return out;
}

namespace {

bool holds_tables(const DocumentNode* list) {
  return list != nullptr && list->is_array() &&
         std::all_of(list->array().begin(), list->array().end(), [](const DocumentNode& one) {
           return one.is_table();
         });
}

DocumentNode empty_list(const Place& place) {
  DocumentNode list;
  list.place = place;
  list.value = DocumentNode::Array{};
  return list;
}

// Takes the members of one kind out of an assembly; their addresses are added to its `members`.
DocumentNode::Array taken_members(DocumentNode& assembly, const char* kind) {
  const DocumentNode* list = assembly.find(kind);
  if (!holds_tables(list)) {
    return {};
  }
  DocumentNode::Array out = list->array();
  if (assembly.find("members") == nullptr) {
    assembly.set("members", list->place, empty_list(list->place));
  }
  if (DocumentNode* members = assembly.find("members"); members->is_array()) {
    for (const DocumentNode& member : out) {
      if (const std::string name = text_at(member, "name"); !name.empty()) {
        DocumentNode address;
        address.place = member.place;
        address.value = std::string(kind) + "." + name;
        members->array().push_back(std::move(address));
      }
    }
  }
  std::erase_if(assembly.table(), [&](const DocumentEntry& e) { return e.key == kind; });
  return out;
}

}  // namespace

// Members may be written inside their assembly or by reference: after this all are references.
void lift_members(DocumentNode& root) {
  // Assemblies written inside others come to the end of the list, and are asked in turn.
  for (std::size_t i = 0; i < tables_of(root, "assembly").size(); ++i) {
    for (const char* kind : kMemberKinds) {
      DocumentNode& assembly = root.find("assembly")->array()[i];
      if (!assembly.is_table()) {
        continue;
      }
      DocumentNode::Array members = taken_members(assembly, kind);
      if (members.empty()) {
        continue;
      }
      if (root.find(kind) == nullptr) {
        root.set(kind, members.front().place, empty_list(members.front().place));
      }
      if (DocumentNode* list = root.find(kind); list->is_array()) {
        std::move(members.begin(), members.end(), std::back_inserter(list->array()));
      }
    }
  }
}

void expand_assembly_arrays(DocumentNode& root, Problems& problems) {
  DocumentNode* arrays = root.find("array");
  if (arrays == nullptr || !arrays->is_array() || tables_of(root, "assembly").empty()) {
    return;
  }
  DocumentNode::Array out;
  for (const DocumentNode& array : arrays->array()) {
    const std::string of = text_at(array, "of");
    const DocumentNode* assembly = named(root, "assembly", of);
    // A light or an object of the same name is what the array copies.
    if (assembly == nullptr || named(root, "light", of) != nullptr ||
        named(root, "object", of) != nullptr) {
      out.push_back(array);
      continue;
    }
    const std::string name = text_at(array, "name"), address = "array." + address_part(name);
    std::vector<std::string> leaves;
    leaves_of(root, *assembly, leaves, 0);
    if (array.find("copy") != nullptr) {
      problems.push_back({Severity::kError,
                          "conflict",
                          array.find("copy")->place,
                          address + ".copy",
                          "copies of an assembly have no keys of their own",
                          "give the copy apart, as an assembly of its own"});
    }
    for (const std::string& leaf : leaves) {
      const auto parts = parts_of_member(leaf);
      const auto& kind = parts.first;
      const auto& member = parts.second;
      if (kind == "array") {
        problems.push_back(
            {Severity::kError,
             "conflict",
             array.place,
             address + ".of",
             fmt::format("\"{}\" is an array itself, which has no copies", printable(leaf, 60)),
             "copy lights and objects"});
        continue;
      }
      DocumentNode one = array;
      std::erase_if(one.table(), [&](const DocumentEntry& e) {
        return e.key == "copy" || (kind == "object" && e.key == "output");
      });
      DocumentNode text;
      text.place = array.place;
      text.value = fmt::format("{}-{}", name, member);
      one.set("name", array.place, text);
      text.value = member;
      one.set("of", array.place, text);
      out.push_back(std::move(one));
    }
  }
  arrays->array() = std::move(out);
}

// Moves what stands in an assembly's own space. A uniform scale changes sizes, masks and doors; the
// output is what the lamp sends at that size, so that levels are found anew.
void move_light(const AssemblyPlacement& to, const Vec3d& up, LightSpec& light) {
  const Mat3d turn = to.transform.linear / to.scale;
  const Vec3d across = turn * aimed(light.axis, up, light.roll).col(0);
  light.at = to.transform.point(light.at);
  if (light.aim) {
    light.aim = to.transform.point(*light.aim);
  }
  light.along = turn * light.along;
  SourceShape& s = light.shape;
  const bool directed = s.kind == LightKind::kSpot || s.kind == LightKind::kDisk ||
                        s.kind == LightKind::kRect || !light.profile_file.empty();
  if (directed) {
    light.axis = turn * light.axis;
    const Mat3d level = aimed(light.axis, up, 0);
    light.roll = std::atan2(across.dot(level.col(1)), across.dot(level.col(0)));
  }
  if (to.scale == 1) {
    return;
  }
  for (double* length : {&s.radius, &s.width, &s.height, &s.length}) {
    *length *= to.scale;
  }
  if (light.doors) {
    BarnDoors& doors = light.doors->doors;
    for (float* length : {&doors.half_width, &doors.half_height, &doors.length}) {
      *length *= static_cast<float>(to.scale);
    }
  }
  if (light.gobo) {
    GoboSpec& gobo = light.gobo->spec;
    for (double* length : {&gobo.width, &gobo.height, &gobo.distance, &gobo.soft}) {
      *length *= to.scale;
    }
  }
  if (const LevelsOrFault levels = source_levels(s, light.output); levels.levels) {
    light.levels = *levels.levels;
    const auto divide = [&](auto& level) {
      if (level) {
        level->value *= light.share;
      }
    };
    divide(light.levels.flux);
    divide(light.levels.intensity);
    divide(light.levels.luminance);
  }
}

}  // namespace jovilux
