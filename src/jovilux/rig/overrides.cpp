#include "jovilux/base/text.h"
#include "jovilux/rig/document.h"

#include <algorithm>
#include <array>
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

// The steps of KIND.NAME.KEY or TABLE.KEY[n]; empty where the address is malformed.
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

// An address of this very rig, as an example.
std::string example_address(const DocumentNode& root) {
  const DocumentNode* lights = root.find("light");
  const std::vector<std::string> names =
      lights != nullptr && lights->is_array() ? names_in(*lights) : std::vector<std::string>{};
  return fmt::format("light.{}.output", names.empty() ? "pendant" : printable(names.front(), 40));
}

Problems change_at_address(DocumentNode& root,
                           const std::string& address,
                           const Place& place,
                           std::optional<DocumentNode> value);

// Follows an address through the document step by step, and changes the node that it leads to.
// Lists of named tables are followed by name, other lists by number.
class AddressedChange {
 public:
  AddressedChange(DocumentNode& root,
                  const std::string& address,
                  const Place& place,
                  std::optional<DocumentNode> value)
      : root_(root),
        address_(address),
        place_(place),
        steps_(steps_of(address)),
        value_(std::move(value)) {}

  Problems make() {
    if (steps_.size() < 2) {
      return {bad_address(place_,
                          printable(address_),
                          "not an address",
                          fmt::format("write KIND.NAME.KEY, such as {}, or TABLE.KEY, such as "
                                      "render.samples",
                                      example_address(root_)))};
    }
    DocumentNode* node = &root_;
    for (std::size_t i = 0; i < steps_.size(); ++i) {
      const Step& step = steps_[i];
      if (node->is_array()) {
        DocumentNode* const named = item_named(*node, step.name);
        if (named == nullptr) {
          return in_copy_of_array(*node, i);
        }
        if (i + 1 == steps_.size()) {
          return fail("names a table; a key of it must follow",
                      fmt::format("such as {}", example_address(root_)));
        }
        node = named;
        continue;
      }
      if (!node->is_table()) {
        return fail(fmt::format("\"{}\" is {}, not a table", steps_[i - 1].name, node->kind()),
                    fmt::format("set {} as a whole", address_.substr(0, address_.rfind('.'))));
      }
      DocumentNode* next = node->find(step.name);
      if (next == nullptr && i == 0) {
        if (Problems problems = check_first_step(step); !problems.empty()) {
          return problems;
        }
      }
      if (i + 1 == steps_.size()) {
        return change(*node, step, next);
      }
      if (next == nullptr) {
        if (Problems problems = add_table(*node, step); !problems.empty()) {
          return problems;
        }
        next = node->find(step.name);
      }
      if (Problems problems = go_to_item(next, step); !problems.empty()) {
        return problems;
      }
      node = next;
    }
    return {};
  }

 private:
  Problems fail(std::string text, std::string hint = "") const {
    return {bad_address(place_, address_, std::move(text), std::move(hint))};
  }

  // The item of a list of named tables; null where none has the name.
  static DocumentNode* item_named(DocumentNode& list, const std::string& name) {
    DocumentNode* found = nullptr;
    for (DocumentNode& item : list.array()) {
      const DocumentNode* its = item.find("name");
      if (its != nullptr && its->is_text() && its->text() == name) {
        found = &item;
      }
    }
    return found;
  }

  // light.ARRAY[n].KEY, object.ARRAY[n].KEY: a key of one copy, kept in the array's table `copy`.
  Problems in_copy_of_array(const DocumentNode& list, std::size_t i) {
    const Step& step = steps_[i];
    const bool may_be =
        (steps_[0].name == "light" || steps_[0].name == "object") && step.places.size() == 1;
    const DocumentNode* arrays = root_.find("array");
    const std::vector<std::string> names = may_be && arrays != nullptr && arrays->is_array()
                                               ? names_in(*arrays)
                                               : std::vector<std::string>{};
    if (std::find(names.begin(), names.end(), step.name) == names.end()) {
      return fail(fmt::format("there is no {} named \"{}\"", steps_[i - 1].name, step.name),
                  names_hint(step.name, names_in(list)));
    }
    const std::size_t rest = address_.find('.', address_.find(']'));
    if (rest == std::string::npos) {
      return fail("names a copy; a key of it must follow");
    }
    return change_at_address(
        root_,
        fmt::format("array.{}.copy.{}{}", step.name, step.places[0], address_.substr(rest)),
        place_,
        std::move(value_));
  }

  // Tables that a rig need not have may be begun; lists of named tables may not.
  Problems check_first_step(const Step& step) const {
    constexpr std::array<std::string_view, 4> kTables = {"scene", "render", "look", "time"};
    if (std::find(kTables.begin(), kTables.end(), step.name) != kTables.end()) {
      return {};
    }
    std::vector<std::string> kinds(kTables.begin(), kTables.end());
    for (const DocumentEntry& e : root_.table()) {
      if (std::find(kinds.begin(), kinds.end(), e.key) == kinds.end()) {
        kinds.push_back(e.key);
      }
    }
    return fail(fmt::format("the rig has no \"{}\"", step.name), did_you_mean(step.name, kinds));
  }

  // The last step: sets or removes.
  Problems change(DocumentNode& table, const Step& step, DocumentNode* node) {
    if (!value_) {
      if (node == nullptr) {
        return fail("there is no such key to remove");
      }
      if (!step.places.empty()) {
        return fail("an item of a list cannot be removed", "set the list as a whole");
      }
      // Removed, a key takes its standard value: --set ADDRESS= undoes what the file says.
      std::erase_if(table.table(), [&](const DocumentEntry& e) { return e.key == step.name; });
      return {};
    }
    if (step.places.empty()) {
      table.set(step.name, place_, std::move(*value_));
      return {};
    }
    if (node == nullptr) {
      return fail(fmt::format("\"{}\" is not a list here", step.name));
    }
    if (Problems problems = go_to_item(node, step); !problems.empty()) {
      return problems;
    }
    *node = std::move(*value_);
    return {};
  }

  Problems add_table(DocumentNode& node, const Step& step) {
    if (!value_) {
      return fail("there is no such key to remove");
    }
    if (!step.places.empty()) {
      return fail(fmt::format("\"{}\" is not a list here", step.name));
    }
    DocumentNode table;
    table.place = place_;
    node.set(step.name, place_, std::move(table));
    return {};
  }

  Problems go_to_item(DocumentNode*& node, const Step& step) const {
    for (const std::size_t item : step.places) {
      if (!node->is_array()) {
        return fail(fmt::format("\"{}\" is {}, not a list", step.name, node->kind()));
      }
      if (item >= node->array().size()) {
        return fail(fmt::format(
            "\"{}\" has {} items; items count from 0", step.name, node->array().size()));
      }
      node = &node->array()[item];
    }
    return {};
  }

  DocumentNode& root_;
  const std::string& address_;
  const Place& place_;
  const std::vector<Step> steps_;
  std::optional<DocumentNode> value_;
};

// Sets the value at an address; without one, removes what is there.
Problems change_at_address(DocumentNode& root,
                           const std::string& address,
                           const Place& place,
                           std::optional<DocumentNode> value) {
  return AddressedChange(root, address, place, std::move(value)).make();
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
  // A value that is TOML keeps its type; any other text is taken as it stands, so that a shell
  // needs no second pair of quotes.
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
