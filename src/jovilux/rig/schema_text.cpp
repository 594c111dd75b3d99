#include "jovilux/rig/schema_text.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/words.h"

#include <algorithm>
#include <cctype>
#include <iterator>
#include <sstream>

#include <fmt/format.h>

namespace jovilux {
namespace {

// A cell of a table: bars would end it.
std::string cell(std::string text) {
  std::size_t at = 0;
  while ((at = text.find('|', at)) != std::string::npos) {
    text.replace(at, 1, "\\|");
    at += 2;
  }
  return text;
}

std::string code(std::string_view text) { return text.empty() ? "" : fmt::format("`{}`", text); }

std::string joined(const std::vector<std::string_view>& words) {
  std::string out;
  for (const std::string_view w : words) {
    out += (out.empty() ? "" : " ") + std::string(w);
  }
  return out;
}

// The kinds that take a key: those that do, or those that do not where these are fewer.
std::string kinds_for_people(const TableDescription& table, const KeyDescription& key) {
  if (key.kinds.empty()) {
    return "all";
  }
  std::vector<std::string_view> others;
  const KeyDescription* kind = table.find(table.kind_key);
  if (kind != nullptr) {
    std::copy_if(kind->words.begin(),
                 kind->words.end(),
                 std::back_inserter(others),
                 [&](const std::string& word) { return !key.goes_with(word); });
  }
  return others.size() < key.kinds.size() && !others.empty() ? "all but " + joined(others)
                                                             : joined(key.kinds);
}

std::string in_lower_case(std::string_view text) {
  std::string out(text);
  std::transform(out.begin(), out.end(), out.begin(), [](unsigned char c) {
    return static_cast<char>(std::tolower(c));
  });
  return out;
}

// Whether a text has the word, at the beginning of one of its own.
bool has_word(std::string_view text, std::string_view word) {
  const std::string all = in_lower_case(text), wanted = in_lower_case(word);
  for (auto at = all.find(wanted); at != std::string::npos; at = all.find(wanted, at + 1)) {
    if (at == 0 || std::isalnum(static_cast<unsigned char>(all[at - 1])) == 0) {
      return true;
    }
  }
  return false;
}

// How near a key is to a word: 0 is its name; negative: it has nothing to do with it.
int rank_of(const KeyDescription& key, std::string_view word) {
  if (plain_word(key.name) == plain_word(word)) {
    return 0;
  }
  if (is_called(key, word)) {
    return 1;
  }
  if (has_word(key.name, word) || has_word(key.also, word)) {
    return 2;
  }
  const bool a_value = std::any_of(key.words.begin(), key.words.end(), [&](const auto& w) {
    return plain_word(w) == plain_word(word);
  });
  if (a_value) {
    return 3;
  }
  return has_word(key.means, word) || has_word(key.takes, word) ? 4 : -1;
}

}  // namespace

std::string address_form(const TableDescription& table, const KeyDescription& key) {
  std::string address(table.address);
  const std::size_t dot = address.find('.');
  const std::string first = address.substr(0, dot);
  if (is_list_of_tables(first)) {
    address = first + ".NAME" + (dot == std::string::npos ? "" : address.substr(dot));
  }
  return (address.empty() ? "" : address + ".") + std::string(key.name);
}

std::string forms_and_range(const KeyDescription& key) {
  std::string out = key.forms();
  if (key.type == ValueType::kNumber || key.type == ValueType::kNumbers) {
    const double factor = key.dimension == Dimension::kAngle ? kPiD / 180 : 1;
    const bool position = key.dimension == Dimension::kLength && key.limits.lo < 0;
    const std::string range = position ? "" : shown_limits(key.limits, factor);
    if (!range.empty()) {
      out += ", " + range + (key.dimension == Dimension::kAngle ? " degrees" : "");
    }
  }
  return out;
}

std::string default_for_people(const KeyDescription& key) {
  if (key.required) {
    return "required";
  }
  return key.standard.empty() ? std::string(key.standard_text) : std::string(key.standard);
}

std::string key_table(const TableDescription& table) {
  const bool by_kind = std::any_of(
      table.keys.begin(), table.keys.end(), [](const auto& k) { return !k.kinds.empty(); });
  const std::string of = by_kind ? fmt::format(" of {} |", code(table.kind_key)) : "";
  std::string out = fmt::format("| key |{} means | takes | such as | default |\n", of);
  out += fmt::format("| --- |{} --- | --- | --- | --- |\n", by_kind ? " --- |" : "");
  for (const KeyDescription& k : table.keys) {
    const std::string standard = default_for_people(k);
    out += fmt::format("| `{}` |{} {} | {} | {} | {} |\n",
                       k.name,
                       by_kind ? fmt::format(" {} |", kinds_for_people(table, k)) : "",
                       cell(std::string(k.means)),
                       cell(forms_and_range(k)),
                       code(cell(std::string(k.example))),
                       k.required || k.standard.empty() ? standard : code(standard));
  }
  return out;
}

Result<std::string> with_key_tables(const std::string& page, const std::string& file) {
  constexpr std::string_view kBegin = "<!-- keys: ", kBeginEnd = " -->",
                             kEnd = "<!-- end of keys -->";
  std::istringstream lines(page);
  std::string out, line;
  std::uint32_t number = 0, opened = 0;
  while (std::getline(lines, line)) {
    ++number;
    if (opened > 0) {
      if (line == kEnd) {
        out += line + "\n";
        opened = 0;
      }
      continue;
    }
    out += line + "\n";
    if (!line.starts_with(kBegin) || !line.ends_with(kBeginEnd)) {
      continue;
    }
    const std::string address =
        line.substr(kBegin.size(), line.size() - kBegin.size() - kBeginEnd.size());
    const auto& schema = rig_schema();
    const auto found = std::find_if(
        schema.begin(), schema.end(), [&](const auto& t) { return t.address == address; });
    if (found == schema.end()) {
      return Problem{Severity::kError,
                     "unknown-name",
                     {file, number, 1},
                     "",
                     fmt::format("the rig has no table \"{}\"", printable(address)),
                     "see jovilux keys"};
    }
    out += key_table(*found);
    opened = number;
  }
  if (opened > 0) {
    return Problem{Severity::kError,
                   "missing-key",
                   {file, opened, 1},
                   "",
                   "the keys that begin here have no end",
                   fmt::format("write {}", kEnd)};
  }
  return out;
}

namespace {

bool same(const FoundKey& a, const FoundKey& b) { return a.key == b.key; }

// Of several words: the keys that have to do with all of them, or else with any.
std::vector<FoundKey> find_keys_of_words(std::string_view words) {
  std::vector<FoundKey> all, any;
  bool first = true;
  std::istringstream in{std::string(words)};
  for (std::string word; in >> word; first = false) {
    const std::vector<FoundKey> found = find_keys(word);
    const auto among = [](const std::vector<FoundKey>& list) {
      return [&list](const FoundKey& f) {
        return std::any_of(list.begin(), list.end(), [&](const FoundKey& o) { return same(f, o); });
      };
    };
    if (first) {
      all = found;
    } else {
      std::erase_if(all, [&](const FoundKey& f) { return !among(found)(f); });
    }
    std::copy_if(found.begin(), found.end(), std::back_inserter(any), [&](const FoundKey& f) {
      return !among(any)(f);
    });
  }
  return all.empty() ? any : all;
}

}  // namespace

std::vector<FoundKey> find_keys(std::string_view word) {
  word = trimmed(word);
  if (word.empty()) {
    return {};
  }
  std::vector<std::pair<int, FoundKey>> ranked;
  for (const TableDescription& table : rig_schema()) {
    for (const KeyDescription& key : table.keys) {
      if (const int rank = rank_of(key, word); rank >= 0) {
        ranked.push_back({rank, {&table, &key}});
      }
    }
  }
  std::stable_sort(
      ranked.begin(), ranked.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
  // What merely mentions the word is told only where nothing is nearer.
  constexpr int kMentioned = 4;
  std::vector<FoundKey> out;
  for (const auto& [rank, found] : ranked) {
    if (rank < kMentioned || ranked.front().first == kMentioned) {
      out.push_back(found);
    }
  }
  return out.empty() && word.find(' ') != std::string_view::npos ? find_keys_of_words(word) : out;
}

}  // namespace jovilux
