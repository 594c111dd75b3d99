#include "jovilux/rig/table_reader.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/rig.h"
#include "jovilux/rig/words.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

namespace jovilux {
namespace {

// The factor of a bare number of a dimension; 0 where a unit must be written: a length has the
// rig's unit, but 800 may be lumens or candela.
double bare_factor(Dimension dimension, double length) {
  switch (dimension) {
    case Dimension::kLength:
      return length;
    case Dimension::kAngle:
      return kPiD / 180;
    case Dimension::kTemperature:
    case Dimension::kTime:
    case Dimension::kPercent:
      return 1;
    default:
      return 0;
  }
}

std::string shown_number(double v) { return short_number(v, 6); }

std::string shown_value(const DocumentNode& node) {
  if (node.is_text()) {
    return "\"" + printable(node.text()) + "\"";
  }
  if (node.is_number()) {
    return shown_number(node.number());
  }
  return std::string(node.kind());
}

}  // namespace

bool is_plain_name(std::string_view name) {
  return !name.empty() && name.size() <= 100 && std::all_of(name.begin(), name.end(), [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_';
  });
}

// Names of a file may hold anything; addresses are typed in a shell.
std::string address_part(std::string_view name) {
  constexpr std::size_t kShown = 40;
  if (is_plain_name(name)) {
    return std::string(name);
  }
  std::string out(name.substr(0, kShown));
  for (char& c : out) {
    c = is_plain_name(std::string_view(&c, 1)) ? c : '-';
  }
  return out.empty() ? "-" : out;
}

const KeyDescription& TableReader::describe(std::string_view key) const {
  JOVILUX_ASSERT(described_ != nullptr);
  const KeyDescription* found = described_->find(key, kind_);
  JOVILUX_ASSERT(found != nullptr);
  return *found;
}

// Each key that is asked for is known, so that finish() finds those that nobody reads.
const DocumentNode* TableReader::find(std::string_view key) {
  known_.push_back(describe(key).name);
  return table_.find(key);
}

Place TableReader::place(std::string_view key) const {
  const DocumentNode* node = table_.find(key);
  return node != nullptr ? node->place : table_.place;
}

bool TableReader::require(std::string_view key) {
  if (!has(key)) {
    missing(key);
    return false;
  }
  return true;
}

void TableReader::error(std::string_view key,
                        const Place& place,
                        std::string code,
                        std::string text,
                        std::string hint) {
  problems_.push_back({Severity::kError,
                       std::move(code),
                       place,
                       address_of(key),
                       std::move(text),
                       std::move(hint)});
}

void TableReader::warning(std::string_view key,
                          const Place& place,
                          std::string code,
                          std::string text,
                          std::string hint) {
  problems_.push_back({Severity::kWarning,
                       std::move(code),
                       place,
                       address_of(key),
                       std::move(text),
                       std::move(hint)});
}

void TableReader::wrong_type(std::string_view key, const DocumentNode& node) {
  wrong_type(key, node, describe(key).forms());
}

// A table of keyframes where the key cannot change is told as such: its type is right elsewhere.
void TableReader::wrong_type(std::string_view key,
                             const DocumentNode& node,
                             std::string_view expected) {
  if (node.is_table() && node.find("keys") != nullptr &&
      describe(key).over_time == OverTime::kNever) {
    error(key,
          node.place,
          "wrong-type",
          fmt::format("found keys, but it cannot change over time; expected {}", expected));
    return;
  }
  error(key,
        node.place,
        "wrong-type",
        fmt::format("found {}; expected {}", shown_value(node), expected));
}

void TableReader::missing(std::string_view key) { missing(key, describe(key).forms()); }

void TableReader::missing(std::string_view key, std::string_view expected) {
  error(key, table_.place, "missing-key", fmt::format("is missing; expected {}", expected));
}

void TableReader::unknown_name(std::string_view key,
                               const Place& place,
                               std::string text,
                               std::string_view name,
                               const std::vector<std::string>& names) {
  std::string hint = did_you_mean(name, names);
  // A few names are listed; of many the near ones help more.
  constexpr std::size_t kMostNames = 8;
  if (hint.empty() && !names.empty() && names.size() <= kMostNames) {
    hint = fmt::format("there is {}", join_or(names));
  }
  error(key, place, "unknown-name", std::move(text), std::move(hint));
}

std::optional<bool> TableReader::flag(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (const auto* v = std::get_if<bool>(&node->value)) {
    return *v;
  }
  wrong_type(key, *node);
  return std::nullopt;
}

std::optional<std::string> TableReader::text(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (node->is_text()) {
    return node->text();
  }
  wrong_type(key, *node);
  return std::nullopt;
}

std::optional<std::vector<std::string>> TableReader::texts(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  std::vector<std::string> out;
  bool good = node->is_array();
  if (good) {
    for (const DocumentNode& item : node->array()) {
      good = good && item.is_text();
      out.push_back(item.is_text() ? item.text() : "");
    }
  }
  if (!good) {
    wrong_type(key, *node, "a list of texts");
    return std::nullopt;
  }
  return out;
}

std::optional<std::int64_t> TableReader::whole(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  const KeyDescription& described = describe(key);
  const auto* v = std::get_if<std::int64_t>(&node->value);
  if (v == nullptr || !described.limits.holds(static_cast<double>(*v))) {
    error(key,
          node->place,
          v != nullptr ? "out-of-range" : "wrong-type",
          fmt::format("found {}; expected {}", shown_value(*node), described.values()));
    return std::nullopt;
  }
  return *v;
}

namespace {

// What a scene in single precision holds: squares and cubes of lengths and squares of luminances
// stay finite. `above_zero`: a size, of which a nanometer is the least that is told from nothing.
Limits range_of(Dimension dimension, bool above_zero) {
  constexpr double kFarthest = 1e9, kSmallest = 1e-9;  // [m]
  constexpr double kBrightest = 1e15, kMostNumber = 1e30;
  constexpr double kDensest = 1e6;  // [1/m]
  switch (dimension) {
    case Dimension::kLength:
      return {above_zero ? kSmallest : -kFarthest, kFarthest};
    case Dimension::kFlux:
    case Dimension::kIntensity:
    case Dimension::kIlluminance:
    case Dimension::kLuminance:
    case Dimension::kPower:
    case Dimension::kFluxPerLength:
      return {-kBrightest, kBrightest};
    case Dimension::kExtinction:
      return {0, kDensest};
    default:
      return {-kMostNumber, kMostNumber};
  }
}

// The narrower of what the key asks and what a scene holds, with the key's own lower end where that
// is the higher one.
Limits narrowed(Limits asked, Limits range) {
  const bool own_lo = asked.lo >= range.lo;
  return {own_lo ? asked.lo : range.lo, std::min(asked.hi, range.hi), own_lo && asked.open_lo};
}

}  // namespace

std::optional<double> TableReader::amount_of(const DocumentNode& node,
                                             std::string_view key,
                                             Dimension dimension,
                                             Limits limits) {
  const double factor = bare_factor(dimension, length_);
  const std::string expected =
      dimension == Dimension::kPercent ? "a number" : expected_units(dimension);
  double value = 0;
  double shown_factor = dimension == Dimension::kAngle ? kPiD / 180 : 1;
  if (node.is_number()) {
    if (factor == 0) {
      error(key,
            node.place,
            "missing-unit",
            fmt::format("found {} without a unit; expected {}", shown_value(node), expected));
      return std::nullopt;
    }
    value = node.number() * factor;
    shown_factor = dimension == Dimension::kLength ? factor : shown_factor;
  } else if (node.is_text()) {
    const auto parsed = parse_amount(node.text());
    if (const auto* fault = std::get_if<UnitFault>(&parsed)) {
      // A bare number as text is as good as one.
      const auto number = parse_number(node.text());
      if (!number || factor == 0) {
        error(key,
              node.place,
              "bad-quantity",
              fmt::format("{}; expected {}", fault->text, expected),
              fault->hint);
        return std::nullopt;
      }
      value = *number * factor;
    } else {
      const Amount found = std::get<Amount>(parsed);
      if (found.dimension != dimension) {
        error(key,
              node.place,
              "wrong-unit",
              fmt::format("found {}; expected {}", shown_value(node), expected));
        return std::nullopt;
      }
      value = found.value;
    }
  } else {
    wrong_type(key, node, expected);
    return std::nullopt;
  }
  if (!std::isfinite(value)) {
    error(key,
          node.place,
          "not-finite",
          fmt::format("found {}; expected a finite number", shown_value(node)));
    return std::nullopt;
  }
  // What the key asks is told before what a scene can hold: the first is what its author can look
  // up.
  if (limits.holds(value)) {
    limits = narrowed(limits, range_of(dimension, limits.open_lo && limits.lo == 0));
  }
  if (!limits.holds(value)) {
    const std::string_view unit = dimension == Dimension::kAngle ? " degrees"
                                  : dimension == Dimension::kLength
                                      ? (shown_factor == 1 ? " m" : "")
                                  : dimension == Dimension::kTemperature                     ? " K"
                                  : dimension == Dimension::kTime                            ? " s"
                                  : dimension == Dimension::kExtinction && shown_factor == 1 ? " /m"
                                                                                             : "";
    error(key,
          node.place,
          "out-of-range",
          fmt::format("found {}; expected {}{}",
                      shown_value(node),
                      shown_limits(limits, shown_factor),
                      unit));
    return std::nullopt;
  }
  return value;
}

std::optional<std::vector<double>> TableReader::amounts_of(const DocumentNode& node,
                                                           std::string_view key,
                                                           Dimension dimension,
                                                           std::size_t count,
                                                           Limits limits) {
  if (!node.is_array() || node.array().size() != count) {
    const std::string found =
        node.is_array() ? fmt::format("a list of {}", node.array().size()) : shown_value(node);
    error(key,
          node.place,
          "wrong-type",
          fmt::format("found {}; expected a list of {}, each {}",
                      found,
                      count,
                      dimension == Dimension::kPercent ? "a number" : expected_units(dimension)));
    return std::nullopt;
  }
  std::vector<double> out;
  for (const DocumentNode& item : node.array()) {
    if (const auto v = amount_of(item, key, dimension, limits)) {
      out.push_back(*v);
    }
  }
  return out.size() == count ? std::optional(out) : std::nullopt;
}

std::optional<Rgb> TableReader::color_of(const DocumentNode& node,
                                         std::string_view key,
                                         double highest) {
  if (node.is_text()) {
    if (auto c = parse_hex_color(node.text())) {
      return c;
    }
    error(key,
          node.place,
          "bad-color",
          fmt::format("found {}; expected \"#rrggbb\" or three linear values", shown_value(node)));
    return std::nullopt;
  }
  if (!node.is_array()) {
    wrong_type(key, node, "\"#rrggbb\" or three linear values [r, g, b]");
    return std::nullopt;
  }
  const auto v = amounts_of(node, key, Dimension::kPercent, 3, {0, highest});
  return v ? std::optional(Rgb((*v)[0], (*v)[1], (*v)[2])) : std::nullopt;
}

std::optional<std::vector<std::int64_t>> TableReader::wholes_of(const DocumentNode& node,
                                                                std::size_t count,
                                                                std::int64_t lo,
                                                                std::int64_t hi) {
  if (!node.is_array() || node.array().size() != count) {
    return std::nullopt;
  }
  std::vector<std::int64_t> out;
  for (const DocumentNode& item : node.array()) {
    const auto* v = std::get_if<std::int64_t>(&item.value);
    if (v == nullptr || *v < lo || *v > hi) {
      return std::nullopt;
    }
    out.push_back(*v);
  }
  return out;
}

std::optional<std::string> TableReader::file_of(const DocumentNode& node, std::string_view key) {
  const KeyDescription& described = describe(key);
  std::string file = path_from(node.place, node.text());
  std::error_code ec;
  if (!has_ending(node.text(), described.endings)) {
    std::vector<std::string> words(described.endings.begin(), described.endings.end());
    error(key,
          node.place,
          "unknown-word",
          fmt::format(
              "found \"{}\"; expected a file ending in {}", printable(node.text()), join_or(words)),
          described.type == ValueType::kOther ? fmt::format("or {}", described.takes) : "");
  } else if (!std::filesystem::is_regular_file(file, ec)) {
    error(key,
          node.place,
          "missing-file",
          fmt::format("file not found: {}", printable(file, 200)),
          node.place.line == 0 ? "names on the command line are relative to the rig's folder" : "");
  } else {
    return file;
  }
  return std::nullopt;
}

std::optional<double> TableReader::number(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  const KeyDescription& described = describe(key);
  if (node->is_number() && !described.bare) {
    error(
        key,
        node->place,
        "missing-unit",
        fmt::format("found {} without a unit; expected {}", shown_value(*node), described.forms()),
        fmt::format("write \"{} mm\"", shown_number(node->number())));
    return std::nullopt;
  }
  if (const auto stops = described.stops ? stops_in(*node) : std::nullopt) {
    constexpr int kLeastStops = -30, kMostStops = 6;
    if (!(*stops >= kLeastStops && *stops <= kMostStops)) {
      error(key,
            node->place,
            "out-of-range",
            fmt::format(
                "found {}; expected {} to {} stops", shown_value(*node), kLeastStops, kMostStops));
      return std::nullopt;
    }
    return std::exp2(*stops);
  }
  if (described.stops && node->is_number() && node->number() > described.limits.hi) {
    error(
        key,
        node->place,
        "out-of-range",
        fmt::format("found {}; expected {}", shown_value(*node), shown_limits(described.limits, 1)),
        fmt::format("write \"{:+.3g} stops\" if the lamp is to give more than its output",
                    std::log2(node->number())));
    return std::nullopt;
  }
  return amount_of(*node, key, described.dimension, described.limits);
}

std::optional<std::vector<double>> TableReader::numbers(std::string_view key) {
  const DocumentNode* node = find(key);
  const KeyDescription& described = describe(key);
  return node == nullptr
             ? std::nullopt
             : amounts_of(*node, key, described.dimension, described.count, described.limits);
}

std::optional<Vec3d> TableReader::vector(std::string_view key) {
  const auto v = numbers(key);
  return v ? std::optional(Vec3d((*v)[0], (*v)[1], (*v)[2])) : std::nullopt;
}

std::optional<Vec3d> TableReader::direction(std::string_view key) {
  const auto v = vector(key);
  if (!v) {
    return std::nullopt;
  }
  if (!(v->norm() > 1e-12)) {
    error(key,
          place(key),
          "zero-direction",
          "found a direction of length 0; expected three numbers, not all 0");
    return std::nullopt;
  }
  return v->normalized();
}

std::optional<Rgb> TableReader::color(std::string_view key) {
  const DocumentNode* node = find(key);
  return node == nullptr ? std::nullopt : color_of(*node, key, describe(key).limits.hi);
}

std::optional<std::size_t> TableReader::word(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  const std::vector<std::string>& words = describe(key).words;
  if (node->is_text()) {
    const auto at = std::find(words.begin(), words.end(), node->text());
    if (at != words.end()) {
      return static_cast<std::size_t>(at - words.begin());
    }
    const std::string hint = value_hint(key, node->text());
    error(key,
          node->place,
          "unknown-word",
          fmt::format("found {}; expected {}", shown_value(*node), join_or(words)),
          hint.empty() ? did_you_mean(node->text(), words) : hint);
    return std::nullopt;
  }
  wrong_type(key, *node, join_or(words));
  return std::nullopt;
}

std::string TableReader::value_hint(std::string_view key, std::string_view word) const {
  return hint_for_value(address_of(key), word);
}

std::optional<std::string> TableReader::file(std::string_view key, Place* where) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (where != nullptr) {
    *where = node->place;
  }
  if (!node->is_text()) {
    wrong_type(key, *node);
    return std::nullopt;
  }
  return file_of(*node, key);
}

const DocumentNode* TableReader::table(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node != nullptr && !node->is_table()) {
    wrong_type(key, *node);
    return nullptr;
  }
  return node;
}

std::optional<Formula> TableReader::formula(std::string_view key,
                                            const std::vector<std::string>& variables) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    missing(key);
    return std::nullopt;
  }
  if (!node->is_text()) {
    wrong_type(key, *node);
    return std::nullopt;
  }
  auto parsed = Formula::parse(node->text(), variables);
  if (const auto* fault = std::get_if<FormulaFault>(&parsed)) {
    error(key,
          node->place,
          "bad-formula",
          fmt::format(
              "\"{}\", character {}: {}", printable(node->text()), fault->column, fault->text));
    return std::nullopt;
  }
  return std::get<Formula>(std::move(parsed));
}

bool TableReader::flag_or_standard(std::string_view key) {
  const auto v = flag(key);
  return v ? *v : std::get<bool>(describe(key).standard_node.value);
}

double TableReader::number_or_standard(std::string_view key) {
  const auto v = number(key);
  if (v) {
    return *v;
  }
  const KeyDescription& described = describe(key);
  return *amount_of(described.standard_node, key, described.dimension, kAny);
}

std::int64_t TableReader::whole_or_standard(std::string_view key) {
  const auto v = whole(key);
  return v ? *v : std::get<std::int64_t>(describe(key).standard_node.value);
}

Vec3d TableReader::vector_or_standard(std::string_view key) {
  if (const auto v = vector(key)) {
    return *v;
  }
  const KeyDescription& described = describe(key);
  const auto v = *amounts_of(described.standard_node, key, described.dimension, 3, kAny);
  return {v[0], v[1], v[2]};
}

Rgb TableReader::color_or_standard(std::string_view key) {
  const auto v = color(key);
  return v ? *v : *color_of(describe(key).standard_node, key, describe(key).limits.hi);
}

std::size_t TableReader::word_or_standard(std::string_view key) {
  if (const auto v = word(key)) {
    return *v;
  }
  const KeyDescription& described = describe(key);
  const auto at =
      std::find(described.words.begin(), described.words.end(), described.standard_node.text());
  JOVILUX_ASSERT(at != described.words.end());
  return static_cast<std::size_t>(at - described.words.begin());
}

void TableReader::finish(const std::string& of_kind) {
  for (const DocumentEntry& e : table_.table()) {
    if (std::find(known_.begin(), known_.end(), e.key) != known_.end()) {
      continue;
    }
    const std::string shown = printable(e.key, 40);
    std::string hint = hint_for_key(address_, kind_, e.key);
    if (described_ != nullptr && described_->find(e.key) != nullptr) {
      const std::string kinds = described_->kinds_with(e.key);
      if (hint.empty()) {
        hint = kinds.empty() ? "remove it" : fmt::format("remove it; it goes with {}", kinds);
      }
      error(shown,
            e.place,
            "unknown-key",
            fmt::format(
                "\"{}\" does not go with {}", shown, of_kind.empty() ? "this table" : of_kind),
            hint);
    } else {
      const std::vector<std::string> near(known_.begin(), known_.end());
      error(shown,
            e.place,
            "unknown-key",
            fmt::format("unknown key \"{}\"", shown),
            hint.empty() ? did_you_mean(e.key, near) : hint);
    }
  }
}

}  // namespace jovilux
