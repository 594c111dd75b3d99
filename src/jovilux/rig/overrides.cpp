#include "jovilux/base/text.h"
#include "jovilux/rig/document.h"

#include <algorithm>
#include <charconv>
#include <optional>

#include <fmt/format.h>

namespace jovilux {
namespace {

// One step of an address: a name, then places in lists.
struct Step {
  std::string name;
  std::vector<std::size_t> places;
};

Problem bad_address(const Place& place,
                    const std::string& address,
                    std::string text,
                    std::string hint = "") {
  return {Severity::kError, "address", place, address, std::move(text), std::move(hint)};
}

// Empty when the address is malformed.
std::vector<Step> steps_of(const std::string& address) {
  std::vector<Step> steps;
  std::size_t begin = 0;
  while (begin <= address.size()) {
    const std::size_t dot = std::min(address.find('.', begin), address.size());
    std::string part = address.substr(begin, dot - begin);
    begin = dot + 1;
    Step step;
    const auto bracket = part.find('[');
    step.name = part.substr(0, bracket);
    std::size_t at = bracket;
    while (at < part.size()) {
      const auto close = part.find(']', at);
      std::size_t index = 0;
      if (part[at] != '[' || close == std::string::npos) {
        return {};
      }
      const auto [end, error] = std::from_chars(part.data() + at + 1, part.data() + close, index);
      if (error != std::errc() || end != part.data() + close) {
        return {};
      }
      step.places.push_back(index);
      at = close + 1;
    }
    if (step.name.empty()) {
      return {};
    }
    steps.push_back(std::move(step));
  }
  return steps;
}

// The nearest of some names, or all of them where they are few.
std::string names_hint(const std::string& name, const std::vector<std::string>& names) {
  constexpr std::size_t kMostNames = 8;
  std::string near = did_you_mean(name, names);
  if (!near.empty() || names.empty() || names.size() > kMostNames) {
    return near;
  }
  return fmt::format("there is {}", join_or(names));
}

std::vector<std::string> names_in(const DocumentNode& list) {
  std::vector<std::string> names;
  for (const DocumentNode& item : list.array()) {
    if (const DocumentNode* name = item.find("name"); name != nullptr && name->is_text()) {
      names.push_back(name->text());
    }
  }
  return names;
}

}  // namespace

namespace {

// An address of this very rig, as an example.
std::string example_address(const DocumentNode& root) {
  const DocumentNode* lights = root.find("light");
  const std::vector<std::string> names =
      lights != nullptr && lights->is_array() ? names_in(*lights) : std::vector<std::string>{};
  return fmt::format("light.{}.output", names.empty() ? "pendant" : printable(names.front(), 40));
}

// Sets the value at an address; without one, removes what is there.
Problems change_at_address(DocumentNode& root,
                           const std::string& address,
                           const Place& place,
                           std::optional<DocumentNode> value) {
  const std::vector<Step> steps = steps_of(address);
  if (steps.size() < 2) {
    return {bad_address(place,
                        printable(address),
                        "not an address",
                        fmt::format("write KIND.NAME.KEY, such as {}, or TABLE.KEY, such as "
                                    "render.samples",
                                    example_address(root)))};
  }
  DocumentNode* node = &root;
  for (std::size_t i = 0; i < steps.size(); ++i) {
    const Step& step = steps[i];
    if (node->is_array()) {  // a list of named tables: the step is a name
      DocumentNode* found = nullptr;
      for (DocumentNode& item : node->array()) {
        const DocumentNode* name = item.find("name");
        if (name != nullptr && name->is_text() && name->text() == step.name) {
          found = &item;
        }
      }
      // light.ARRAY[n].KEY, object.ARRAY[n].KEY: a key of one copy, kept in the array's table
      // `copy`.
      if (found == nullptr && (steps[0].name == "light" || steps[0].name == "object") &&
          step.places.size() == 1) {
        const DocumentNode* arrays = root.find("array");
        const std::vector<std::string> names = arrays != nullptr && arrays->is_array()
                                                   ? names_in(*arrays)
                                                   : std::vector<std::string>{};
        if (std::find(names.begin(), names.end(), step.name) != names.end()) {
          const std::size_t rest = address.find('.', address.find(']'));
          if (rest == std::string::npos) {
            return {bad_address(place, address, "names a copy; a key of it must follow")};
          }
          return change_at_address(
              root,
              fmt::format("array.{}.copy.{}{}", step.name, step.places[0], address.substr(rest)),
              place,
              std::move(value));
        }
      }
      if (found == nullptr) {
        return {
            bad_address(place,
                        address,
                        fmt::format("there is no {} named \"{}\"", steps[i - 1].name, step.name),
                        names_hint(step.name, names_in(*node)))};
      }
      node = found;
      if (i + 1 == steps.size()) {
        return {bad_address(place,
                            address,
                            "names a table; a key of it must follow",
                            fmt::format("such as {}", example_address(root)))};
      }
      continue;
    }
    if (!node->is_table()) {
      return {bad_address(place,
                          address,
                          fmt::format("\"{}\" is {}, not a table", steps[i - 1].name, node->kind()),
                          fmt::format("set {} as a whole", address.substr(0, address.rfind('.'))))};
    }
    const bool last = i + 1 == steps.size();
    DocumentNode* next = node->find(step.name);
    if (next == nullptr && i == 0) {
      std::vector<std::string> kinds;
      for (const DocumentEntry& e : root.table()) {
        kinds.push_back(e.key);
      }
      for (const char* table : {"scene", "render", "look", "time"}) {
        if (std::find(kinds.begin(), kinds.end(), table) == kinds.end()) {
          kinds.emplace_back(table);
        }
      }
      if (step.name != "scene" && step.name != "render" && step.name != "look" &&
          step.name != "time") {
        return {bad_address(place,
                            address,
                            fmt::format("the rig has no \"{}\"", step.name),
                            did_you_mean(step.name, kinds))};
      }
    }
    if (last && !value) {
      if (next == nullptr || !step.places.empty()) {
        return {bad_address(place,
                            address,
                            next == nullptr ? "there is no such key to remove"
                                            : "an item of a list cannot be removed",
                            next == nullptr ? "" : "set the list as a whole")};
      }
      std::erase_if(node->table(), [&](const DocumentEntry& e) { return e.key == step.name; });
      return {};
    }
    if (last && step.places.empty()) {
      node->set(step.name, place, std::move(*value));
      return {};
    }
    if (next == nullptr && !value) {
      return {bad_address(place, address, "there is no such key to remove")};
    }
    if (next == nullptr) {
      if (!step.places.empty()) {
        return {bad_address(place, address, fmt::format("\"{}\" is not a list here", step.name))};
      }
      DocumentNode table;
      table.place = place;
      node->set(step.name, place, std::move(table));
      next = node->find(step.name);
    }
    for (std::size_t k = 0; k < step.places.size(); ++k) {
      if (!next->is_array() || step.places[k] >= next->array().size()) {
        return {bad_address(
            place,
            address,
            next->is_array()
                ? fmt::format(
                      "\"{}\" has {} items; items count from 0", step.name, next->array().size())
                : fmt::format("\"{}\" is {}, not a list", step.name, next->kind()))};
      }
      next = &next->array()[step.places[k]];
    }
    if (last) {
      *next = std::move(*value);
      return {};
    }
    node = next;
  }
  return {};
}

}  // namespace

Problems set_at_address(DocumentNode& root, const std::string& address, DocumentNode value) {
  const Place place = value.place;
  return change_at_address(root, address, place, std::move(value));
}

Problems apply_override(DocumentNode& root, const std::string& assignment) {
  const Place place{"--set " + printable(assignment, 80), 0, 0};
  const auto equals = assignment.find('=');
  if (equals == std::string::npos) {
    return {bad_address(place,
                        "",
                        "expected ADDRESS=VALUE",
                        fmt::format("such as \"{}=800 lm\"", example_address(root)))};
  }
  const std::string address(trimmed(std::string_view(assignment).substr(0, equals)));
  const std::string text(trimmed(std::string_view(assignment).substr(equals + 1)));
  if (text.empty()) {
    return change_at_address(root, address, place, std::nullopt);
  }
  DocumentNode value;
  value.value = text;
  if (const auto parsed = parse_toml("v = " + text + "\n", place.file);
      parsed && parsed->table().size() == 1) {
    value = *parsed->find("v");
  }
  // Every place inside the value is the option itself.
  const auto mark = [&](auto&& self, DocumentNode& node) -> void {
    node.place = place;
    if (node.is_array()) {
      for (DocumentNode& item : node.array()) {
        self(self, item);
      }
    } else if (node.is_table()) {
      for (DocumentEntry& e : node.table()) {
        e.place = place;
        self(self, e.value);
      }
    }
  };
  mark(mark, value);
  return set_at_address(root, address, std::move(value));
}

Problems apply_variant(DocumentNode& root, const std::string& name) {
  const DocumentNode* list = root.find("variant");
  std::vector<std::string> names;
  if (list != nullptr && list->is_array()) {
    names = names_in(*list);
    for (const DocumentNode& item : list->array()) {
      const DocumentNode* its_name = item.find("name");
      if (its_name == nullptr || !its_name->is_text() || its_name->text() != name) {
        continue;
      }
      const DocumentNode *set = item.find("set"), *camera = item.find("camera");
      // Copies: the variant may change the list it is in.
      DocumentNode::Table entries;
      if (set != nullptr && set->is_table()) {
        entries = set->table();
      }
      if (camera != nullptr) {
        entries.insert(entries.begin(), {"render.camera", camera->place, *camera});
      }
      Problems problems;
      for (const DocumentEntry& e : entries) {
        for (Problem& p : set_at_address(root, e.key, e.value)) {
          p.place = e.place;
          problems.push_back(std::move(p));
        }
      }
      return problems;
    }
  }
  const std::string hint = did_you_mean(name, names);
  return {{Severity::kError,
           "unknown-variant",
           {"--variant " + printable(name), 0, 0},
           "",
           names.empty() ? "the rig has no variants"
                         : fmt::format("no such variant; there are {}", join_or(names)),
           hint}};
}

}  // namespace jovilux
