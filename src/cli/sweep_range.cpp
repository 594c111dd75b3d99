#include "cli/sweep_range.h"

#include "jovilux/base/text.h"

#include <cmath>

#include "cli/arguments.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// "0.5 /m" as 0.5 and "/m"; nothing where it does not begin with a number.
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

}  // namespace

SweptParameter parse_sweep(const std::string& text) {
  const auto fault = [&](const std::string& what) {
    return UsageError(
        fmt::format("--vary \"{}\": {}; write \"light.key.dimmer = 0.1 .. 1 / 5\" or "
                    "\"light.key.white = 2700 K, 4000 K\"",
                    printable(text, 120),
                    what));
  };
  const auto equals = text.find('=');
  if (equals == std::string::npos || trimmed(std::string_view(text).substr(0, equals)).empty()) {
    throw fault("expected ADDRESS = VALUES");
  }
  SweptParameter out;
  out.address = std::string(trimmed(std::string_view(text).substr(0, equals)));
  std::string_view values = trimmed(std::string_view(text).substr(equals + 1));
  const auto dots = values.find("..");
  if (dots == std::string_view::npos) {
    out.values = listed(values);
    for (const std::string& v : out.values) {
      if (v.empty()) {
        throw fault("a value is empty");
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
    if (out.values.size() > 100) {
      throw fault("at most 100 values");
    }
    return out;
  }
  if (values.ends_with("log")) {
    out.logarithmic = true;
    values = trimmed(values.substr(0, values.size() - 3));
  }
  std::string_view to = trimmed(values.substr(dots + 2));
  int count = 5;
  // The last slash begins the count where a number follows; else it is a unit's.
  if (const auto slash = to.rfind('/'); slash != std::string_view::npos) {
    if (const auto n = parse_number(trimmed(to.substr(slash + 1)))) {
      if (*n != std::floor(*n) || *n < 2 || *n > 100) {
        throw fault("the count of values is a whole number from 2 to 100");
      }
      count = static_cast<int>(*n);
      to = trimmed(to.substr(0, slash));
    }
  }
  auto a = split_number(unquoted(std::string(trimmed(values.substr(0, dots))))),
       b = split_number(unquoted(std::string(to)));
  if (!a || !b) {
    throw fault("expected numbers on both sides of ..");
  }
  if (a->second.empty()) {
    a->second = b->second;
  }
  if (a->second != b->second) {
    throw fault("both ends need the same unit");
  }
  if (out.logarithmic && !(a->first > 0 && b->first > 0)) {
    throw fault("even ratios need ends above 0");
  }
  out.unit = a->second;
  for (int i = 0; i < count; ++i) {
    const double t = static_cast<double>(i) / (count - 1);
    const double v = out.logarithmic ? a->first * std::pow(b->first / a->first, t)
                                     : a->first + t * (b->first - a->first);
    out.numbers.push_back(i + 1 == count ? b->first : v);
    const std::string number = fmt::format("{:.6g}", out.numbers.back());
    out.values.push_back(out.unit.empty() ? number : fmt::format("\"{} {}\"", number, out.unit));
    out.numbers.back() = parse_number(number).value_or(out.numbers.back());
  }
  return out;
}

}  // namespace jovilux::cli
