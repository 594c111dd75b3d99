#include "jovilux/rig/schema.h"

#include "jovilux/base/text.h"

#include <algorithm>
#include <cctype>
#include <filesystem>
#include <iterator>

#include <fmt/format.h>

namespace jovilux {

KeyDescription key(std::string_view name, std::string_view means) {
  KeyDescription k;
  k.name = name;
  k.means = means;
  return k;
}

KeyDescription KeyDescription::flag() && {
  type = ValueType::kFlag;
  over_time = OverTime::kStepped;
  return std::move(*this);
}

KeyDescription KeyDescription::text() && {
  type = ValueType::kText;
  over_time = OverTime::kStepped;
  return std::move(*this);
}

KeyDescription KeyDescription::texts() && {
  type = ValueType::kTexts;
  over_time = OverTime::kStepped;
  return std::move(*this);
}

KeyDescription KeyDescription::whole(double lo, double hi) && {
  type = ValueType::kWhole;
  limits = {lo, hi};
  over_time = OverTime::kStepped;
  return std::move(*this);
}

KeyDescription KeyDescription::number(Limits accepted) && {
  return std::move(*this).quantity(Dimension::kPercent, accepted);
}

KeyDescription KeyDescription::quantity(Dimension of, Limits accepted) && {
  type = ValueType::kNumber;
  dimension = of;
  limits = accepted;
  over_time = OverTime::kBlended;
  return std::move(*this);
}

KeyDescription KeyDescription::list(std::size_t length, Dimension of, Limits accepted) && {
  type = ValueType::kNumbers;
  dimension = of;
  count = length;
  limits = accepted;
  over_time = OverTime::kBlended;
  return std::move(*this);
}

KeyDescription KeyDescription::position() && {
  constexpr double kFarthest = 1e7;  // [m]
  return std::move(*this).list(3, Dimension::kLength, {-kFarthest, kFarthest});
}

KeyDescription KeyDescription::direction() && {
  type = ValueType::kDirection;
  count = 3;
  limits = {-1e9, 1e9};
  over_time = OverTime::kBlended;
  return std::move(*this);
}

KeyDescription KeyDescription::color(double highest) && {
  type = ValueType::kColor;
  count = 3;
  limits = {0, highest};
  over_time = OverTime::kBlended;
  return std::move(*this);
}

KeyDescription KeyDescription::word(std::vector<std::string> accepted) && {
  type = ValueType::kWord;
  words = std::move(accepted);
  over_time = OverTime::kStepped;
  return std::move(*this);
}

KeyDescription KeyDescription::table() && {
  type = ValueType::kTable;
  return std::move(*this);
}

KeyDescription KeyDescription::tables() && {
  type = ValueType::kTables;
  return std::move(*this);
}

KeyDescription KeyDescription::other() && {
  type = ValueType::kOther;
  over_time = OverTime::kBlended;
  return std::move(*this);
}

KeyDescription KeyDescription::file(std::vector<std::string_view> accepted) && {
  if (type == ValueType::kOther && over_time == OverTime::kNever) {
    type = ValueType::kText;
    over_time = OverTime::kStepped;
  }
  endings = std::move(accepted);
  return std::move(*this);
}

KeyDescription KeyDescription::expects(std::string_view forms) && {
  takes = forms;
  return std::move(*this);
}

KeyDescription KeyDescription::shown(std::string_view toml) && {
  example = toml;
  return std::move(*this);
}

KeyDescription KeyDescription::otherwise(std::string_view toml) && {
  standard = toml;
  return std::move(*this);
}

KeyDescription KeyDescription::otherwise_text(std::string_view text_for_people) && {
  standard_text = text_for_people;
  return std::move(*this);
}

KeyDescription KeyDescription::of(std::vector<std::string_view> accepted) && {
  kinds = std::move(accepted);
  return std::move(*this);
}

KeyDescription KeyDescription::called(std::string_view other_words) && {
  also = other_words;
  return std::move(*this);
}

KeyDescription KeyDescription::over(OverTime how) && {
  over_time = how;
  return std::move(*this);
}

KeyDescription KeyDescription::does(LayerEffect to_layer) && {
  effect = to_layer;
  return std::move(*this);
}

KeyDescription KeyDescription::in_stops() && {
  stops = true;
  return std::move(*this);
}

KeyDescription KeyDescription::needed() && {
  required = true;
  return std::move(*this);
}

KeyDescription KeyDescription::with_unit() && {
  bare = false;
  return std::move(*this);
}

bool KeyDescription::goes_with(std::string_view kind) const {
  return kinds.empty() || kind.empty() ||
         std::find(kinds.begin(), kinds.end(), kind) != kinds.end();
}

std::string shown_limits(Limits limits, double factor) {
  constexpr double kAsGoodAsAny = 2e9;
  const bool lo = limits.lo > -kAsGoodAsAny, hi = limits.hi < kAsGoodAsAny;
  const auto shown = [&](double v) { return short_number(v / factor, 6); };
  if (lo && hi) {
    return fmt::format(
        "{}{} to {}", limits.open_lo ? "above " : "", shown(limits.lo), shown(limits.hi));
  }
  if (lo) {
    return fmt::format("{} {}", limits.open_lo ? "above" : "at least", shown(limits.lo));
  }
  return hi ? fmt::format("at most {}", shown(limits.hi)) : "";
}

std::string KeyDescription::forms() const { return takes.empty() ? values() : std::string(takes); }

std::string_view KeyDescription::form_or_example() const {
  const bool place = type == ValueType::kNumbers && dimension == Dimension::kLength && count == 3;
  return place && limits.lo < 0 ? "[x, y, z]" : example;
}

std::string KeyDescription::values() const {
  const bool ratio = dimension == Dimension::kPercent;
  switch (type) {
    case ValueType::kFlag:
      return "true or false";
    case ValueType::kText:
      return endings.empty()
                 ? "a text"
                 : fmt::format("a file ending in {}",
                               join_or(std::vector<std::string>(endings.begin(), endings.end())));
    case ValueType::kTexts:
      return "a list of texts";
    case ValueType::kWhole:
      if (limits.lo == limits.hi) {
        return fmt::format("{}", static_cast<std::int64_t>(limits.lo));
      }
      return fmt::format("a whole number from {} to {}",
                         static_cast<std::int64_t>(limits.lo),
                         static_cast<std::int64_t>(limits.hi));
    case ValueType::kNumber:
      return ratio ? "a number" : expected_units(dimension);
    case ValueType::kNumbers:
      return fmt::format(
          "a list of {}, each {}", count, ratio ? "a number" : expected_units(dimension));
    case ValueType::kDirection:
      return "a direction [x, y, z]";
    case ValueType::kColor:
      return "\"#rrggbb\" or three linear values [r, g, b]";
    case ValueType::kWord:
      return join_or(words);
    case ValueType::kTable:
      return "a table";
    case ValueType::kTables:
      return fmt::format("[[{}]] tables", name);
    case ValueType::kOther:
      return "a value";
  }
  return "";
}

std::string TableDescription::kinds_with(std::string_view key) const {
  std::vector<std::string> out;
  const auto found = by_name.find(key);
  for (const std::size_t i : found == by_name.end() ? std::vector<std::size_t>{} : found->second) {
    if (keys[i].kinds.empty()) {
      return "";
    }
    out.insert(out.end(), keys[i].kinds.begin(), keys[i].kinds.end());
  }
  return join_or(out);
}

void TableDescription::add(std::vector<KeyDescription> more) {
  std::move(more.begin(), more.end(), std::back_inserter(keys));
}

const KeyDescription* TableDescription::find(std::string_view key, std::string_view kind) const {
  const auto found = by_name.find(key);
  if (found == by_name.end()) {
    return nullptr;
  }
  for (const std::size_t i : found->second) {
    if (keys[i].goes_with(kind)) {
      return &keys[i];
    }
  }
  return &keys[found->second.front()];
}

const std::vector<TableDescription>& rig_schema() {
  static const std::vector<TableDescription> kTables = [] {
    std::vector<TableDescription> all;
    for (auto tables : {scene_tables(),
                        light_tables(),
                        object_tables(),
                        material_tables(),
                        haze_tables(),
                        picture_tables()}) {
      std::move(tables.begin(), tables.end(), std::back_inserter(all));
    }
    for (TableDescription& table : all) {
      for (std::size_t i = 0; i < table.keys.size(); ++i) {
        KeyDescription& k = table.keys[i];
        table.by_name[k.name].push_back(i);
        if (!k.standard.empty()) {
          k.standard_node = *parse_toml(fmt::format("v = {}\n", k.standard), "standard")->find("v");
        }
      }
    }
    return all;
  }();
  return kTables;
}

bool is_list_of_tables(std::string_view name) {
  static const std::vector<std::string_view> kNames = [] {
    std::vector<std::string_view> out;
    for (const KeyDescription& key : rig_schema().front().keys) {
      if (key.type == ValueType::kTables) {
        out.push_back(key.name);
      }
    }
    return out;
  }();
  return std::find(kNames.begin(), kNames.end(), name) != kNames.end();
}

std::string kind_of_table(std::string_view address) {
  std::string out;
  std::size_t number = 0;
  bool named = false;
  bool copy = false;
  while (!address.empty()) {
    const std::size_t dot = address.find('.');
    std::string_view part = address.substr(0, dot);
    address = dot == std::string_view::npos ? std::string_view() : address.substr(dot + 1);
    part = part.substr(0, part.find('['));
    if (number == 0) {
      named = is_list_of_tables(part);
    }
    // The number of a copy in array.NAME.copy.NUMBER stands for a name as well.
    if (!(named && number == 1) && !(copy && number == 3)) {
      out += (out.empty() ? "" : ".") + std::string(part);
    }
    copy = copy || (number == 2 && out == "array.copy");
    ++number;
  }
  return out;
}

const TableDescription* table_at(std::string_view address) {
  static const std::unordered_map<std::string_view, const TableDescription*> kByAddress = [] {
    std::unordered_map<std::string_view, const TableDescription*> out;
    for (const TableDescription& table : rig_schema()) {
      out.emplace(table.address, &table);
    }
    return out;
  }();
  const auto found = kByAddress.find(kind_of_table(address));
  return found == kByAddress.end() ? nullptr : found->second;
}

const KeyDescription* key_at(std::string_view address) {
  const std::size_t dot = address.rfind('.');
  const TableDescription* table =
      table_at(dot == std::string_view::npos ? std::string_view() : address.substr(0, dot));
  std::string_view name = dot == std::string_view::npos ? address : address.substr(dot + 1);
  return table != nullptr ? table->find(name.substr(0, name.find('['))) : nullptr;
}

bool has_ending(std::string_view file, const std::vector<std::string_view>& endings) {
  std::string ending = std::filesystem::path(file).extension().string();
  std::transform(ending.begin(), ending.end(), ending.begin(), [](unsigned char c) {
    return static_cast<char>(std::tolower(c));
  });
  return std::find(endings.begin(), endings.end(), ending) != endings.end();
}

namespace {

using FileFn = std::function<void(DocumentNode&, const KeyDescription&)>;

// The value of a key, or all values of it over time.
void files_of_value(DocumentNode& value, const KeyDescription& described, const FileFn& fn) {
  if (value.is_text()) {
    if (has_ending(value.text(), described.endings)) {
      fn(value, described);
    }
    return;
  }
  DocumentNode* keys = value.is_table() ? value.find("keys") : nullptr;
  if (keys == nullptr || !keys->is_array()) {
    return;
  }
  for (DocumentNode& moment : keys->array()) {
    if (moment.is_array() && moment.array().size() == 2) {
      files_of_value(moment.array()[1], described, fn);
    }
  }
}

void files_of_table(DocumentNode& node, const std::string& address, const FileFn& fn);

// A value at an address: a file's name, a table with more of them, or neither.
void files_at(DocumentNode& value, const std::string& address, const FileFn& fn) {
  const KeyDescription* described = key_at(address);
  if (described == nullptr || !described->names_file()) {
    files_of_table(value, address, fn);
    return;
  }
  files_of_value(value, *described, fn);
  // What another kind of the same table takes there: a text with one of its endings alone.
  const std::size_t dot = address.rfind('.');
  const TableDescription* table =
      dot == std::string::npos ? nullptr : table_at(address.substr(0, dot));
  if (table == nullptr) {
    return;
  }
  for (const KeyDescription& other : table->keys) {
    if (&other != described && other.name == described->name && other.names_file()) {
      KeyDescription rest = other;
      std::erase_if(rest.endings, [&](std::string_view ending) {
        return std::find(described->endings.begin(), described->endings.end(), ending) !=
               described->endings.end();
      });
      files_of_value(value, rest, fn);
    }
  }
}

void files_of_table(DocumentNode& node, const std::string& address, const FileFn& fn) {
  if (!node.is_table()) {
    return;
  }
  const std::string table = kind_of_table(address);
  if (table == "array.copy") {  // of lights or of objects: both are tried
    for (DocumentEntry& copy : node.table()) {
      files_of_table(copy.value, "light.copy", fn);
      files_of_table(copy.value, "object.copy", fn);
    }
    return;
  }
  for (DocumentEntry& e : node.table()) {
    if (table == "variant.set") {
      files_at(e.value, e.key, fn);
    } else {
      files_at(e.value, address.empty() ? e.key : address + "." + e.key, fn);
    }
  }
}

}  // namespace

void each_file_name(DocumentNode& root, const FileFn& fn) {
  if (!root.is_table()) {
    return;
  }
  for (DocumentEntry& e : root.table()) {
    if (e.value.is_array()) {
      for (DocumentNode& item : e.value.array()) {
        files_of_table(item, e.key + ".name", fn);
      }
    } else {
      files_at(e.value, e.key, fn);
    }
  }
}

}  // namespace jovilux
