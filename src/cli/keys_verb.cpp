#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/rig/schema_text.h"
#include "jovilux/rig/words.h"

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// Advice about a word that stands for several keys, or for none: by table.
std::vector<const WordHint*> advice_on(std::string_view word) {
  std::vector<const WordHint*> out;
  for (const WordHint& hint : key_words()) {
    if (plain_word(hint.word) == plain_word(word)) {
      out.push_back(&hint);
    }
  }
  return out;
}

std::string joined(const std::vector<std::string_view>& words) {
  std::string out;
  for (const std::string_view w : words) {
    out += (out.empty() ? "" : ", ") + std::string(w);
  }
  return out;
}

// A key for people: where it stands, what it means, what it takes, an example.
std::string block_of(const FoundKey& found) {
  const KeyDescription& k = *found.key;
  const std::string address = address_form(*found.table, k), standard = default_for_people(k);
  std::string out = fmt::format("{}\n    {}\n", address, k.means);
  out += fmt::format("    takes {}", forms_and_range(k));
  out += standard.empty()         ? ""
         : standard == "required" ? "; required"
                                  : fmt::format("; default {}", standard);
  out += "\n";
  if (!k.kinds.empty()) {
    out += fmt::format("    of {} {}\n", found.table->kind_key, joined(k.kinds));
  }
  if (!k.example.empty()) {
    out += fmt::format("    {} = {}\n", k.name, k.example);
  }
  return out;
}

std::string overview_of_tables() {
  std::string out;
  for (const TableDescription& table : rig_schema()) {
    std::string names;
    std::string_view before;
    for (const KeyDescription& k : table.keys) {
      if (k.name != before) {
        names += (names.empty() ? "" : " ") + std::string(k.name);
      }
      before = k.name;
    }
    const std::string title = table.address.empty() ? "rig" : std::string(table.address);
    out += fmt::format("{}: {}\n    {}\n", title, table.means, names);
  }
  return out + "\njovilux keys WORD tells those that have to do with a word, such as shadow\n";
}

Json to_json(const FoundKey& found) {
  const KeyDescription& k = *found.key;
  return {{"address", address_form(*found.table, k)},
          {"table", found.table->address},
          {"key", k.name},
          {"means", k.means},
          {"takes", forms_and_range(k)},
          {"default", default_for_people(k)},
          {"example", k.example},
          {"kinds", k.kinds}};
}

Usage usage_of_keys() {
  return Usage{"keys",
               "WORD",
               "The rig's keys that have to do with a word, in your own terms: \"soft shadow\", "
               "kelvin, fog, intensity.\nWithout a word, all keys by table.",
               {{"json", "print one JSON document instead", ""}},
               "Exit status 1 where no key has to do with the word.",
               "jovilux keys temperature"};
}

}  // namespace

int run_keys(int argc, char** argv) {
  const Arguments arguments(usage_of_keys(), argc, argv);
  const auto word = arguments.optional_positional();
  std::vector<FoundKey> found;
  if (word) {
    found = find_keys(*word);
  } else {
    for (const TableDescription& table : rig_schema()) {
      for (const KeyDescription& k : table.keys) {
        found.push_back({&table, &k});
      }
    }
  }
  const std::vector<const WordHint*> advice =
      word ? advice_on(*word) : std::vector<const WordHint*>{};
  if (arguments.flag("json")) {
    Json j = {{"keys", Json::array()}, {"advice", Json::array()}};
    for (const FoundKey& f : found) {
      j["keys"].push_back(to_json(f));
    }
    for (const WordHint* hint : advice) {
      j["advice"].push_back({{"table", hint->table}, {"advice", hint->hint}});
    }
    print_out(json_text(j));
    return found.empty() && advice.empty() ? kFellShort : kDone;
  }
  if (!word) {
    print_out(overview_of_tables());
    return kDone;
  }
  if (found.empty() && advice.empty()) {
    print_err(fmt::format("no key has to do with \"{}\"; jovilux keys lists all of them\n",
                          printable(*word, 60)));
    return kFellShort;
  }
  std::string out;
  for (const WordHint* hint : advice) {
    out += fmt::format(
        "in a {}: {}\n", hint->table.empty() ? std::string_view("rig") : hint->table, hint->hint);
  }
  for (const FoundKey& f : found) {
    out += (out.empty() ? "" : "\n") + block_of(f);
  }
  print_out(out);
  return kDone;
}

}  // namespace jovilux::cli
