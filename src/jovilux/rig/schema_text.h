#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/rig/schema.h"

#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// "light.NAME.falloff.zero_at": where a key stands, for people.
std::string address_form(const TableDescription& table, const KeyDescription& key);

/// What a key takes, with its range, for people: "a length (mm, cm, m, km, in, ft) above 0".
std::string forms_and_range(const KeyDescription& key);

/// The default of a key for people; empty where it has none.
std::string default_for_people(const KeyDescription& key);

/// A table of Markdown with a row for each key.
std::string key_table(const TableDescription& table);

/// A page of Markdown whose key tables, between the lines `<!-- keys: light -->` and
/// `<!-- end of keys -->`, are those of the descriptions. A mark that names no table, or has no
/// end, is a problem with its line.
Result<std::string> with_key_tables(const std::string& page, const std::string& file);

/// A key that has to do with a word.
struct FoundKey {
  const TableDescription* table = nullptr;
  const KeyDescription* key = nullptr;
};

/// The keys that have to do with a word, the nearest first: those of that name, those that
/// practitioners call so, those whose values or text have the word.
std::vector<FoundKey> find_keys(std::string_view word);

}  // namespace jovilux
