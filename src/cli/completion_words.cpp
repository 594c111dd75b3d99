#include "cli/completion_words.h"

#include "jovilux/rig/document.h"
#include "jovilux/rig/schema.h"

#include <algorithm>
#include <filesystem>
#include <optional>

#include "cli/arguments.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

using Words = std::vector<std::string>;

// "o,output" as {"-o", "--output"}.
Words spellings(const Option& option) {
  const auto comma = option.names.find(',');
  if (comma == std::string::npos) {
    return {"--" + option.names};
  }
  return {"-" + option.names.substr(0, comma), "--" + option.names.substr(comma + 1)};
}

// The rig that is named on the line, with its includes; nothing where none can be read.
std::optional<DocumentNode> rig_on_line(const Words& words) {
  for (const std::string& word : words) {
    std::error_code ec;
    if (word.ends_with(".toml") && std::filesystem::is_regular_file(word, ec)) {
      auto document = load_document(word);
      if (document) {
        return std::move(*document);
      }
    }
  }
  return std::nullopt;
}

// The names of a list's tables: of lights, of cameras.
Words names_in(const DocumentNode& rig, std::string_view kind) {
  Words out;
  const DocumentNode* list = rig.find(kind);
  if (list == nullptr || !list->is_array()) {
    return out;
  }
  for (const DocumentNode& item : list->array()) {
    const DocumentNode* name = item.find("name");
    if (name != nullptr && name->is_text()) {
      out.push_back(name->text());
    }
  }
  return out;
}

// The keys of a table after an address that ends in a dot; of one that holds a table, both it and
// its inside.
Words keys_of_table(const TableDescription& table, const std::string& address) {
  Words out;
  for (const KeyDescription& key : table.keys) {
    const std::string whole = address + std::string(key.name);
    if (key.type == ValueType::kTable && table_at(whole) != nullptr) {
      out.push_back(fmt::format("{}.\t{}", whole, key.means));
    }
    if (key.name != "name" && (out.empty() || !out.back().starts_with(whole + "="))) {
      out.push_back(fmt::format("{}=\t{}", whole, key.means));
    }
  }
  return out;
}

// Addresses step by step: light. , light.pendant. , light.pendant.output= .
Words addresses(const std::string& typed, const std::optional<DocumentNode>& rig) {
  const std::size_t dot = typed.rfind('.');
  if (dot == std::string::npos) {
    Words out;
    for (const KeyDescription& key : rig_schema().front().keys) {
      if (key.type == ValueType::kTable || key.type == ValueType::kTables) {
        out.push_back(fmt::format("{}.\t{}", key.name, key.means));
      }
    }
    return out;
  }
  const std::string before = typed.substr(0, dot);
  if (is_list_of_tables(before)) {
    Words out;
    for (const std::string& name : rig ? names_in(*rig, before) : Words{}) {
      out.push_back(fmt::format("{}.{}.", before, name));
    }
    return out;
  }
  const TableDescription* table = table_at(before);
  return table != nullptr && !table->address.empty() ? keys_of_table(*table, before + ".")
                                                     : Words{};
}

// The words that an option's value may be, by what the value is called.
Words values_of(const Option& option,
                const std::string& typed,
                const std::optional<DocumentNode>& rig) {
  if (option.value == "ADDRESS=VALUE" || option.value.starts_with("ADDRESS")) {
    return addresses(typed, rig);
  }
  const std::string name = spellings(option).back().substr(2);
  if (rig && (name == "camera" || name == "variant" || name == "light")) {
    return names_in(*rig, name);
  }
  return {};
}

Words verb_names() {
  Words out;
  for (const Verb& verb : all_verbs()) {
    out.push_back(fmt::format("{}\t{}", verb.name, verb.line));
  }
  return out;
}

Words option_names(const Usage& usage) {
  Words out;
  for (const Option& option : usage.options) {
    out.push_back(fmt::format("{}\t{}", spellings(option).back(), option.help));
  }
  out.push_back("--help\tthis verb's options and an example");
  return out;
}

// What may stand at the end of the line, whatever has been typed of it.
Words candidates(const Words& words) {
  const std::string& typed = words.back();
  if (words.size() <= 2) {
    return verb_names();
  }
  const auto verb = std::find_if(
      all_verbs().begin(), all_verbs().end(), [&](const Verb& v) { return v.name == words[1]; });
  if (verb == all_verbs().end()) {
    return {};
  }
  if (verb->name == "completion") {
    return {"bash", "zsh", "fish", "man"};
  }
  const Usage usage = usage_of(*verb);
  for (const Option& option : usage.options) {
    const Words known = spellings(option);
    if (!option.value.empty() &&
        std::find(known.begin(), known.end(), words[words.size() - 2]) != known.end()) {
      return values_of(option, typed, rig_on_line(words));
    }
  }
  return typed.starts_with("-") ? option_names(usage) : Words{};
}

}  // namespace

std::vector<std::string> completions(const std::vector<std::string>& words) {
  if (words.size() < 2) {
    return verb_names();
  }
  Words out;
  for (std::string& candidate : candidates(words)) {
    if (candidate.starts_with(words.back())) {
      out.push_back(std::move(candidate));
    }
  }
  return out;
}

}  // namespace jovilux::cli
