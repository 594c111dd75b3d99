#include "cli/sweep_range.h"

#include "jovilux/base/text.h"

#include <cmath>

#include "cli/arguments.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// "0.5 /m" as 0.5 and "/m"; nothing where it does not begin with a number.
// From the longest prefix down: "1e3 m" is a thousand, not one.
std::optional<std::pair<double, std::string>> split_number(std::string_view text) {
  text = trimmed(text);
  for (std::size_t n = text.size(); n > 0; --n) {
    if (const auto v = parse_number(text.substr(0, n))) {
      return std::pair(*v, std::string(trimmed(text.substr(n))));
    }
  }
  return std::nullopt;
}

// At commas outside of quotes and brackets.
std::vector<std::string> listed(std::string_view text) {
  std::vector<std::string> out(1);
  int depth = 0;
  char quote = 0;
  for (const char c : text) {
    if (quote != 0) {
      quote = c == quote ? '\0' : quote;
    } else if (c == '"' || c == '\'') {
      quote = c;
    } else if (c == '[' || c == '{') {
      ++depth;
    } else if (c == ']' || c == '}') {
      --depth;
    } else if (c == ',' && depth == 0) {
      out.emplace_back();
      continue;
    }
    out.back() += c;
  }
  for (std::string& s : out) {
    s = std::string(trimmed(s));
  }
  return out;
}

std::string unquoted(const std::string& s) {
  return s.size() >= 2 && (s.front() == '"' || s.front() == '\'') && s.back() == s.front()
             ? s.substr(1, s.size() - 2)
             : s;
}

constexpr int kMostValues = 100;

// The values of a list, with their numbers where all are numbers of one unit.
void take_list(SweptParameter& out, std::string_view values) {
  out.values = listed(values);
  for (const std::string& v : out.values) {
    if (v.empty()) {
      throw std::invalid_argument("a value is empty");
    }
    const auto number = split_number(unquoted(v));
    if (!number || (!out.numbers.empty() && number->second != out.unit)) {
      out.numbers.clear();
      out.unit.clear();
      break;
    }
    out.numbers.push_back(number->first);
    out.unit = number->second;
  }
  if (out.values.size() > kMostValues) {
    throw std::invalid_argument(fmt::format("at most {} values", kMostValues));
  }
}

// "10 lm / 5" as its first part and the count. The last slash begins the count where a number
// follows; else it is a unit's.
int take_count(std::string_view& to) {
  const auto slash = to.rfind('/');
  const auto count =
      slash == std::string_view::npos ? std::nullopt : parse_number(trimmed(to.substr(slash + 1)));
  if (!count) {
    return 5;
  }
  if (*count != std::floor(*count) || *count < 2 || *count > kMostValues) {
    throw std::invalid_argument(
        fmt::format("the count of values is a whole number from 2 to {}", kMostValues));
  }
  to = trimmed(to.substr(0, slash));
  return static_cast<int>(*count);
}

// "FROM .. TO / COUNT log", `dots` where it has its dots.
void take_range(SweptParameter& out, std::string_view values, std::size_t dots) {
  if (values.ends_with("log")) {
    out.logarithmic = true;
    values = trimmed(values.substr(0, values.size() - 3));
  }
  std::string_view to = trimmed(values.substr(dots + 2));
  const int count = take_count(to);
  auto a = split_number(unquoted(std::string(trimmed(values.substr(0, dots))))),
       b = split_number(unquoted(std::string(to)));
  if (!a || !b) {
    throw std::invalid_argument("expected numbers on both sides of ..");
  }
  if (a->second.empty()) {
    a->second = b->second;
  }
  if (a->second != b->second) {
    throw std::invalid_argument("both ends need the same unit");
  }
  if (out.logarithmic && !(a->first > 0 && b->first > 0)) {
    throw std::invalid_argument("even ratios need ends above 0");
  }
  out.unit = a->second;
  for (int i = 0; i < count; ++i) {
    const double t = static_cast<double>(i) / (count - 1);
    const double between = out.logarithmic ? a->first * std::pow(b->first / a->first, t)
                                           : a->first + t * (b->first - a->first);
    // The number is read back from its text, so that curves and rigs have the same one.
    const double v = i + 1 == count ? b->first : between;
    const std::string number = fmt::format("{:.6g}", v);
    out.numbers.push_back(parse_number(number).value_or(v));
    out.values.push_back(out.unit.empty() ? number : fmt::format("\"{} {}\"", number, out.unit));
  }
}

}  // namespace

SweptParameter parse_sweep(const std::string& text) {
  try {
    const auto equals = text.find('=');
    const std::string_view address = trimmed(std::string_view(text).substr(0, equals));
    if (equals == std::string::npos || address.empty()) {
      throw std::invalid_argument("expected ADDRESS = VALUES");
    }
    SweptParameter out;
    out.address = std::string(address);
    const std::string_view values = trimmed(std::string_view(text).substr(equals + 1));
    const auto dots = values.find("..");
    if (dots == std::string_view::npos) {
      take_list(out, values);
    } else {
      take_range(out, values, dots);
    }
    return out;
  } catch (const std::invalid_argument& e) {
    throw UsageError(
        fmt::format("--vary \"{}\": {}; write \"light.key.dimmer = 0.1 .. 1 / 5\" or "
                    "\"light.key.white = 2700 K, 4000 K\"",
                    printable(text, 120),
                    e.what()));
  }
}

}  // namespace jovilux::cli
