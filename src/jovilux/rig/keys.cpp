#include "jovilux/rig/keys.h"

#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/rig/table_reader.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <optional>
#include <set>

#include <fmt/format.h>

namespace jovilux {
namespace {

using Ease = KeyedNumber::Ease;

// What goes between two keys: how far it is from one to the other, 0 to 1.
double eased(double u, Ease ease) {
  switch (ease) {
    case Ease::kLinear:
      return u;
    case Ease::kSmooth:
      return u * u * (3 - 2 * u);
    case Ease::kHold:
      return u < 1 ? 0 : 1;
  }
  return u;
}

// "1350 lm" as "", 1350, "lm": the first number of a text and what is round it.
struct NumberInText {
  std::string before, after;
  double value = 0;
};
std::optional<NumberInText> number_in(const std::string& text) {
  std::size_t at = 0;
  while (at < text.size() && std::isdigit(static_cast<unsigned char>(text[at])) == 0) {
    ++at;
  }
  if (at > 0 && text[at - 1] == '.') {
    --at;
  }
  if (at > 0 && (text[at - 1] == '-' || text[at - 1] == '+')) {
    --at;
  }
  std::size_t end = at;
  std::optional<double> value;
  // The longest that is a number: 1e3, -0.5.
  for (std::size_t e = at + 1; e <= text.size() && e - at <= 40; ++e) {
    if (e > at && std::isspace(static_cast<unsigned char>(text[e - 1])) != 0) {
      break;
    }
    if (const auto v = parse_number(std::string_view(text).substr(at, e - at))) {
      value = v;
      end = e;
    }
  }
  if (!value) {
    return std::nullopt;
  }
  return NumberInText{
      std::string(trimmed(text.substr(0, at))), std::string(trimmed(text.substr(end))), *value};
}

// A unit that parse_amount reads as 1 of a dimension.
const char* coherent_unit(Dimension d) {
  switch (d) {
    case Dimension::kLength:
      return "m";
    case Dimension::kAngle:
      return "rad";
    case Dimension::kFlux:
      return "lm";
    case Dimension::kIntensity:
      return "cd";
    case Dimension::kIlluminance:
      return "lx";
    case Dimension::kLuminance:
      return "cd/m2";
    case Dimension::kPower:
      return "W";
    case Dimension::kEfficacy:
      return "lm/W";
    case Dimension::kFluxPerLength:
      return "lm/m";
    case Dimension::kTemperature:
      return "K";
    case Dimension::kTime:
      return "s";
    case Dimension::kFrequency:
      return "Hz";
    case Dimension::kExtinction:
      return "/m";
    case Dimension::kExposure:
      return "EV";
    case Dimension::kPercent:
      return "";
  }
  return "";
}

double between(double a, double b, double u) { return a + (b - a) * u; }

std::string with_unit(double value, Dimension dimension) {
  return dimension == Dimension::kExposure ? fmt::format("EV {}", value)
                                           : fmt::format("{} {}", value, coherent_unit(dimension));
}

// The value between two keys of one kind each; nothing where they have no common form. Arguments:
// both values, and u in (0, 1).
using Blend = std::optional<decltype(DocumentNode::value)>;

// Levels in stops go from one to the other as light does, not as its logarithm.
Blend blended_levels(const DocumentNode& a, const DocumentNode& b, double u) {
  const auto level = [](const DocumentNode& n) {
    const auto stops = stops_in(n);
    return stops           ? std::optional(std::exp2(*stops))
           : n.is_number() ? std::optional(n.number())
                           : std::nullopt;
  };
  const auto from = level(a), to = level(b);
  if (!from || !to) {
    return std::nullopt;
  }
  const double light = between(*from, *to, u);
  if (light > 1) {
    return fmt::format("{} stops", std::log2(light));
  }
  return light;
}

std::optional<Rgb> hex_color_of(const DocumentNode& n) {
  return n.is_text() ? parse_hex_color(n.text()) : std::nullopt;
}

Blend blended_colors(const DocumentNode& a, const DocumentNode& b, double u) {
  const auto color = [](const DocumentNode& n) -> std::optional<Rgb> {
    if (auto hex = hex_color_of(n)) {
      return hex;
    }
    const bool three = n.is_array() && n.array().size() == 3 &&
                       std::all_of(n.array().begin(),
                                   n.array().end(),
                                   [](const DocumentNode& channel) { return channel.is_number(); });
    return three ? std::optional(
                       Rgb(n.array()[0].number(), n.array()[1].number(), n.array()[2].number()))
                 : std::nullopt;
  };
  const auto from = color(a), to = color(b);
  if (!from || !to) {
    return std::nullopt;
  }
  DocumentNode::Array rgb;
  for (int c = 0; c < 3; ++c) {
    DocumentNode channel;
    channel.place = a.place;
    channel.value = between((*from)[c], (*to)[c], u);
    rgb.push_back(std::move(channel));
  }
  return rgb;
}

Blend blended_texts(const std::string& a, const std::string& b, double u) {
  if (a == b) {
    return a;
  }
  const auto x = number_in(a), y = number_in(b);
  if (x && y && x->before == y->before && x->after == y->after) {
    return x->before + (x->before.empty() ? "" : " ") +
           fmt::format("{}", between(x->value, y->value, u)) + (x->after.empty() ? "" : " ") +
           x->after;
  }
  // Different units of one dimension meet in its coherent unit.
  const auto p = parse_amount(a), q = parse_amount(b);
  const auto *from = std::get_if<Amount>(&p), *to = std::get_if<Amount>(&q);
  if (from != nullptr && to != nullptr && from->dimension == to->dimension) {
    return with_unit(between(from->value, to->value, u), from->dimension);
  }
  return std::nullopt;
}

// A bare number beside a quantity: a share beside percent, or 0 of any unit.
Blend blended_with_number(const DocumentNode& a, const DocumentNode& b, double u) {
  const DocumentNode &text = a.is_text() ? a : b, &number = a.is_text() ? b : a;
  const auto parsed = parse_amount(text.text());
  const auto* amount = std::get_if<Amount>(&parsed);
  if (amount == nullptr || (amount->dimension != Dimension::kPercent && number.number() != 0)) {
    return std::nullopt;
  }
  const double value = between(
      a.is_text() ? amount->value : a.number(), b.is_text() ? amount->value : b.number(), u);
  if (*coherent_unit(amount->dimension) == '\0') {
    return value;
  }
  return with_unit(value, amount->dimension);
}

std::optional<DocumentNode> blended(const DocumentNode& a, const DocumentNode& b, double u);

Blend blended_arrays(const DocumentNode& a, const DocumentNode& b, double u) {
  DocumentNode::Array out = a.array();
  for (std::size_t i = 0; i < out.size(); ++i) {
    auto item = blended(a.array()[i], b.array()[i], u);
    if (!item) {
      return std::nullopt;
    }
    out[i] = std::move(*item);
  }
  return out;
}

Blend blended_value(const DocumentNode& a, const DocumentNode& b, double u) {
  if (a.is_number() && b.is_number()) {
    return between(a.number(), b.number(), u);
  }
  if (stops_in(a) || stops_in(b)) {
    return blended_levels(a, b, u);
  }
  if (hex_color_of(a) || hex_color_of(b)) {
    return blended_colors(a, b, u);
  }
  if (a.is_text() && b.is_text()) {
    return blended_texts(a.text(), b.text(), u);
  }
  if ((a.is_number() && b.is_text()) || (a.is_text() && b.is_number())) {
    return blended_with_number(a, b, u);
  }
  if (a.is_array() && b.is_array() && a.array().size() == b.array().size()) {
    return blended_arrays(a, b, u);
  }
  return std::nullopt;
}

// The value that is the share u of the way from a to b; nothing where the two cannot be blended.
std::optional<DocumentNode> blended(const DocumentNode& a, const DocumentNode& b, double u) {
  if (u <= 0) {
    return a;
  }
  if (u >= 1) {
    return b;
  }
  Blend value = blended_value(a, b, u);
  if (!value) {
    return std::nullopt;
  }
  DocumentNode out = a;
  out.value = std::move(*value);
  return out;
}

struct Keys {
  std::vector<double> times;
  std::vector<const DocumentNode*> values;
  Ease ease = Ease::kLinear;

  // The key at or before t, and how far it is from there to the next.
  std::pair<std::size_t, double> at(double t) const {
    const auto next =
        static_cast<std::size_t>(std::upper_bound(times.begin(), times.end(), t) - times.begin());
    if (next == 0) {
      return {0, 0};
    }
    if (next == times.size()) {
      return {next - 1, 0};
    }
    return {next - 1, (t - times[next - 1]) / (times[next] - times[next - 1])};
  }
};

// Nothing where something is wrong, which is told.
std::optional<Keys> read_keys(const DocumentNode& node,
                              const std::string& address,
                              Problems& problems) {
  Keys out;
  TableReader r(node, address, 1, problems, table_at("keyed"));
  const std::size_t before = problems.size();
  out.ease = static_cast<Ease>(r.word_or_standard("ease"));
  const DocumentNode* keys = r.find("keys");
  r.finish();
  if (!keys->is_array() || keys->array().empty()) {
    r.wrong_type("keys", *keys);
    return std::nullopt;
  }
  for (const DocumentNode& key : keys->array()) {
    if (!key.is_array() || key.array().size() != 2) {
      r.error("keys", key.place, "wrong-type", "expected [time, value], such as [\"2 s\", 1]");
      return std::nullopt;
    }
    const auto t = r.amount_of(key.array()[0], "keys", Dimension::kTime, {-1e6, 1e6});
    if (!t) {
      return std::nullopt;
    }
    if (!out.times.empty() && *t <= out.times.back()) {
      r.error("keys",
              key.place,
              "out-of-range",
              fmt::format("{} s follows {} s; times must increase",
                          short_number(*t, 6),
                          short_number(out.times.back(), 6)));
      return std::nullopt;
    }
    if (key.array()[1].is_table()) {
      r.wrong_type(
          "keys", key.array()[1], "a value: a number, a quantity, a color or a list of numbers");
      return std::nullopt;
    }
    out.times.push_back(*t);
    out.values.push_back(&key.array()[1]);
  }
  // Flags switch; there is nothing between true and false.
  const bool flags = std::all_of(out.values.begin(), out.values.end(), [](const DocumentNode* v) {
    return std::holds_alternative<bool>(v->value);
  });
  if (flags) {
    out.ease = Ease::kHold;
  }
  for (std::size_t i = 1; i < out.values.size() && out.ease != Ease::kHold; ++i) {
    if (!blended(*out.values[i - 1], *out.values[i], 0.5)) {
      r.error("keys",
              out.values[i]->place,
              "wrong-type",
              "there is nothing between this value and the one before",
              "write both in the same form, or ease = \"hold\"");
      return std::nullopt;
    }
  }
  if (problems.size() > before) {
    return std::nullopt;
  }
  return out;
}

// Calls fn for each keyed node of the tree that may be one, with its address. Variants are left
// out: they are values to set, not yet part of the rig.
template <class Node, class Fn>
void each_keyed(Node& node, const std::string& address, const Fn& fn, int depth = 0) {
  constexpr int kDeepest = 64;  // the TOML reader allows less
  if (depth > kDeepest) {
    return;
  }
  if (node.is_table() && is_keyed(node)) {
    fn(node, address);
    return;
  }
  if (node.is_table()) {
    for (auto& e : node.table()) {
      const std::string of = address.empty() ? e.key : address + "." + e.key;
      const KeyDescription* described = key_at(of);
      const bool holds_more = described == nullptr || described->type == ValueType::kTable ||
                              described->type == ValueType::kTables;
      if ((depth == 0 && e.key == "variant") ||
          (!holds_more && described->over_time == OverTime::kNever)) {
        continue;
      }
      each_keyed(e.value, of, fn, depth + 1);
    }
  } else if (node.is_array()) {
    std::size_t i = 0;
    for (auto& item : node.array()) {
      const DocumentNode* name = item.find("name");
      each_keyed(item,
                 address + (name != nullptr && name->is_text() ? "." + printable(name->text(), 40)
                                                               : fmt::format("[{}]", i)),
                 fn,
                 depth + 1);
      ++i;
    }
  }
}

}  // namespace

bool is_keyed(const DocumentNode& node) { return node.is_table() && node.find("keys") != nullptr; }

DocumentNode at_time(const DocumentNode& root, double t, Problems& problems) {
  DocumentNode out = root;
  each_keyed(out, "", [&](DocumentNode& node, const std::string& address) {
    const DocumentNode keyed = node;  // it is written over
    const auto keys = read_keys(keyed, address, problems);
    if (!keys) {
      // The first value stands in, so that the rest of the rig is checked.
      const DocumentNode* list = keyed.find("keys");
      if (list->is_array() && !list->array().empty() && list->array()[0].is_array() &&
          list->array()[0].array().size() == 2) {
        node = list->array()[0].array()[1];
      }
      return;
    }
    const auto [i, u] = keys->at(t);
    node = u > 0 && keys->ease != Ease::kHold
               ? *blended(*keys->values[i], *keys->values[i + 1], eased(u, keys->ease))
               : *keys->values[i];
  });
  return out;
}

bool has_keys(const DocumentNode& root) {
  bool found = false;
  each_keyed(root, "", [&](const DocumentNode&, const std::string&) { found = true; });
  return found;
}

std::vector<double> key_times(const DocumentNode& root) {
  std::set<double> times;
  each_keyed(root, "", [&](const DocumentNode& node, const std::string& address) {
    Problems ignored;
    if (const auto keys = read_keys(node, address, ignored)) {
      times.insert(keys->times.begin(), keys->times.end());
    }
  });
  return {times.begin(), times.end()};
}

// Compared as text: nodes of equal text are equal, whatever their places in the file.
bool varies_between(const DocumentNode& keyed, double from, double to) {
  Problems ignored;
  const auto keys = read_keys(keyed, "", ignored);
  if (!keys) {
    return false;
  }
  const auto text = [](const DocumentNode& node) {
    DocumentNode root;
    root.set("v", {}, node);
    return to_toml(root);
  };
  const auto [first, ignored_u] = keys->at(from);
  const auto [last, u] = keys->at(to);
  const std::size_t end =
      std::min(last + (keys->ease != Ease::kHold && u > 0 ? 1 : 0), keys->values.size() - 1);
  for (std::size_t i = first; i < end; ++i) {
    if (text(*keys->values[i]) != text(*keys->values[i + 1])) {
      return true;
    }
  }
  return false;
}

double KeyedNumber::operator()(double t) const {
  const auto next =
      static_cast<std::size_t>(std::upper_bound(times.begin(), times.end(), t) - times.begin());
  if (next == 0) {
    return values.front();
  }
  if (next == times.size()) {
    return values.back();
  }
  const double u = (t - times[next - 1]) / (times[next] - times[next - 1]);
  return values[next - 1] + (values[next] - values[next - 1]) * eased(u, ease);
}

KeyedNumber keyed_number(const DocumentNode& keyed) {
  KeyedNumber out;
  Problems ignored;
  const auto keys = is_keyed(keyed) ? read_keys(keyed, "", ignored) : std::nullopt;
  if (!keys) {
    return out;
  }
  out.ease = keys->ease;
  out.times = keys->times;
  TableReader r(keyed, "", 1, ignored, table_at("keyed"));
  for (const DocumentNode* v : keys->values) {
    if (const auto* on = std::get_if<bool>(&v->value)) {
      out.values.push_back(*on ? 1 : 0);
      continue;
    }
    const auto stops = stops_in(*v);
    const auto number = stops ? std::optional(std::exp2(*stops))
                              : r.amount_of(*v, "keys", Dimension::kPercent, kAny);
    if (!number) {
      return {};
    }
    out.values.push_back(*number);
  }
  return out;
}

}  // namespace jovilux
