#include "jovilux/rig/table_reader.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/words.h"

#include <algorithm>
#include <cctype>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

// What a bare number of a dimension stands for; 0 where a unit must be written.
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

std::string shown_limits(Limits limits, double factor) {
  const bool lo = limits.lo > -1e300, hi = limits.hi < 1e300;
  if (lo && hi) {
    return fmt::format(
        "{} to {}", shown_number(limits.lo / factor), shown_number(limits.hi / factor));
  }
  if (lo) {
    return fmt::format(
        "{} {}", limits.open_lo ? "above" : "at least", shown_number(limits.lo / factor));
  }
  return fmt::format("at most {}", shown_number(limits.hi / factor));
}

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

// A formula of some variables; says what is wrong with it.
std::optional<Formula> read_formula(TableReader& r,
                                    std::string_view key,
                                    const std::vector<std::string>& variables,
                                    const char* example) {
  const auto text = r.text(key);
  if (!text) {
    if (!r.has(key)) {
      r.missing(key, fmt::format("a formula such as \"{}\"", example));
    }
    return std::nullopt;
  }
  auto parsed = Formula::parse(*text, variables);
  if (const auto* fault = std::get_if<FormulaFault>(&parsed)) {
    r.error(key,
            r.place(key),
            "bad-formula",
            fmt::format("\"{}\", character {}: {}", printable(*text), fault->column, fault->text));
    return std::nullopt;
  }
  return std::get<Formula>(std::move(parsed));
}

bool is_plain_name(std::string_view name) {
  return !name.empty() && name.size() <= 100 && std::all_of(name.begin(), name.end(), [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '-' || c == '_';
  });
}

const DocumentNode* TableReader::find(std::string_view key) {
  known_.emplace_back(key);
  return table_.find(key);
}

Place TableReader::place(std::string_view key) const {
  const DocumentNode* node = table_.find(key);
  return node != nullptr ? node->place : table_.place;
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

void TableReader::wrong_type(std::string_view key,
                             const DocumentNode& node,
                             std::string_view expected) {
  error(key,
        node.place,
        "wrong-type",
        fmt::format("found {}; expected {}", shown_value(node), expected));
}

void TableReader::missing(std::string_view key, std::string_view expected) {
  error(key, table_.place, "missing-key", fmt::format("is missing; expected {}", expected));
}

std::optional<bool> TableReader::flag(std::string_view key) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (const auto* v = std::get_if<bool>(&node->value)) {
    return *v;
  }
  wrong_type(key, *node, "true or false");
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
  wrong_type(key, *node, "a text");
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

std::optional<double> TableReader::ratio(std::string_view key, Limits limits) {
  return quantity(key, Dimension::kPercent, limits);
}

std::optional<std::int64_t> TableReader::integer(std::string_view key,
                                                 std::int64_t lo,
                                                 std::int64_t hi) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  const auto* v = std::get_if<std::int64_t>(&node->value);
  if (v == nullptr || *v < lo || *v > hi) {
    error(
        key,
        node->place,
        v != nullptr ? "out-of-range" : "wrong-type",
        fmt::format("found {}; expected a whole number from {} to {}", shown_value(*node), lo, hi));
    return std::nullopt;
  }
  return *v;
}

std::optional<double> TableReader::amount(const DocumentNode& node,
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
      const auto bare = parse_number(node.text());
      if (!bare || factor == 0) {
        error(key,
              node.place,
              "bad-quantity",
              fmt::format("{}; expected {}", fault->text, expected),
              fault->hint);
        return std::nullopt;
      }
      value = *bare * factor;
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
  if (!limits.holds(value)) {
    const std::string_view unit = dimension == Dimension::kAngle ? " degrees"
                                  : dimension == Dimension::kLength
                                      ? (shown_factor == 1 ? " m" : "")
                                  : dimension == Dimension::kTemperature ? " K"
                                  : dimension == Dimension::kTime        ? " s"
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

std::optional<double> TableReader::quantity(std::string_view key,
                                            Dimension dimension,
                                            Limits limits) {
  const DocumentNode* node = find(key);
  return node == nullptr ? std::nullopt : amount(*node, key, dimension, limits);
}

std::optional<std::vector<double>> TableReader::quantities(std::string_view key,
                                                           Dimension dimension,
                                                           std::size_t count,
                                                           Limits limits) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (!node->is_array() || node->array().size() != count) {
    const std::string found =
        node->is_array() ? fmt::format("a list of {}", node->array().size()) : shown_value(*node);
    error(key,
          node->place,
          "wrong-type",
          fmt::format("found {}; expected a list of {}, each {}",
                      found,
                      count,
                      dimension == Dimension::kPercent ? "a number" : expected_units(dimension)));
    return std::nullopt;
  }
  std::vector<double> out;
  for (const DocumentNode& item : node->array()) {
    if (const auto v = amount(item, key, dimension, limits)) {
      out.push_back(*v);
    }
  }
  return out.size() == count ? std::optional(out) : std::nullopt;
}

std::optional<Vec3d> TableReader::position(std::string_view key) {
  const auto v = quantities(key, Dimension::kLength, 3, {-1e7, 1e7});
  return v ? std::optional(Vec3d((*v)[0], (*v)[1], (*v)[2])) : std::nullopt;
}

std::optional<Vec3d> TableReader::direction(std::string_view key) {
  const auto v = quantities(key, Dimension::kPercent, 3, {-1e9, 1e9});
  if (!v) {
    return std::nullopt;
  }
  const Vec3d d((*v)[0], (*v)[1], (*v)[2]);
  if (!(d.norm() > 1e-12)) {
    error(key,
          place(key),
          "zero-direction",
          "found a direction of length 0; expected three numbers, not all 0");
    return std::nullopt;
  }
  return d.normalized();
}

std::optional<Rgb> TableReader::color(std::string_view key, double highest) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (node->is_text()) {
    if (const auto c = parse_hex_color(node->text())) {
      return c;
    }
    error(key,
          node->place,
          "bad-color",
          fmt::format("found {}; expected \"#rrggbb\" or three linear values", shown_value(*node)));
    return std::nullopt;
  }
  const auto v = quantities(key, Dimension::kPercent, 3, {0, highest});
  return v ? std::optional(Rgb((*v)[0], (*v)[1], (*v)[2])) : std::nullopt;
}

std::optional<std::size_t> TableReader::word(std::string_view key,
                                             const std::vector<std::string>& words) {
  const DocumentNode* node = find(key);
  if (node == nullptr) {
    return std::nullopt;
  }
  if (node->is_text()) {
    const auto at = std::find(words.begin(), words.end(), node->text());
    if (at != words.end()) {
      return static_cast<std::size_t>(at - words.begin());
    }
    const std::string hint = hint_for_value(address_of(key), node->text());
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

void TableReader::finish(const std::vector<std::string>& elsewhere, const std::string& kind) {
  for (const DocumentEntry& e : table_.table()) {
    if (std::find(known_.begin(), known_.end(), e.key) != known_.end()) {
      continue;
    }
    const std::string shown = printable(e.key, 40);
    const std::string hint = hint_for_key(address_, e.key);
    if (std::find(elsewhere.begin(), elsewhere.end(), e.key) != elsewhere.end()) {
      error(shown,
            e.place,
            "unknown-key",
            fmt::format("\"{}\" does not go with {}", shown, kind),
            hint.empty() ? "remove it" : hint);
    } else {
      error(shown,
            e.place,
            "unknown-key",
            fmt::format("unknown key \"{}\"", shown),
            hint.empty() ? did_you_mean(e.key, known_) : hint);
    }
  }
}

}  // namespace jovilux
