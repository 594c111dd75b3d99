#include "jovilux/base/text.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <cstdlib>

#include <fmt/format.h>

namespace jovilux {

std::string_view trimmed(std::string_view text) {
  constexpr std::string_view kSpace = " \t\r\n";
  const auto first = text.find_first_not_of(kSpace);
  if (first == std::string_view::npos) {
    return {};
  }
  return text.substr(first, text.find_last_not_of(kSpace) - first + 1);
}

std::optional<double> parse_number(std::string_view text) {
  text = trimmed(text);
  if (!text.empty() && text.front() == '+') {
    text.remove_prefix(1);
  }
  double value = 0;
  const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
  if (text.empty() || error != std::errc() || end != text.data() + text.size() ||
      !std::isfinite(value)) {
    return std::nullopt;
  }
  return value;
}

int edit_distance(std::string_view a, std::string_view b) {
  const std::size_t n = b.size();
  std::vector<int> before(n + 1), last(n + 1), row(n + 1);
  for (std::size_t j = 0; j <= n; ++j) {
    last[j] = static_cast<int>(j);
  }
  for (std::size_t i = 1; i <= a.size(); ++i) {
    row[0] = static_cast<int>(i);
    for (std::size_t j = 1; j <= n; ++j) {
      const int change = a[i - 1] == b[j - 1] ? 0 : 1;
      row[j] = std::min({last[j] + 1, row[j - 1] + 1, last[j - 1] + change});
      if (i > 1 && j > 1 && a[i - 1] == b[j - 2] && a[i - 2] == b[j - 1]) {
        row[j] = std::min(row[j], before[j - 2] + 1);
      }
    }
    before.swap(last);
    last.swap(row);
  }
  return last[n];
}

std::string nearest_name(std::string_view word, const std::vector<std::string>& candidates) {
  if (word.size() > 100) {
    return {};
  }
  std::string best;
  int best_distance = 1 << 20;
  for (const std::string& c : candidates) {
    const int d = edit_distance(word, c);
    const int limit = std::max<int>(1, static_cast<int>(std::max(word.size(), c.size())) / 3);
    const bool some_letter_right = d < static_cast<int>(std::max(word.size(), c.size()));
    const bool begins = word.size() >= 2 && c.starts_with(word);
    if (((d <= limit && some_letter_right) || begins) && d < best_distance) {
      best = c;
      best_distance = d;
    }
  }
  return best;
}

std::string did_you_mean(std::string_view word, const std::vector<std::string>& candidates) {
  const std::string name = nearest_name(word, candidates);
  return name.empty() ? std::string() : fmt::format("did you mean \"{}\"?", name);
}

std::string short_number(double value, int digits) {
  if (!std::isfinite(value)) {
    return std::isnan(value) ? "unknown" : value > 0 ? "infinite" : "-infinite";
  }
  if (value == 0) {
    return "0";
  }
  const double magnitude = std::abs(value);
  if (magnitude < 1e-4 || magnitude >= 1e7) {
    return fmt::format("{:.{}g}", value, digits);
  }
  const int before_point = static_cast<int>(std::floor(std::log10(magnitude))) + 1;
  std::string text = fmt::format("{:.{}f}", value, std::max(0, digits - before_point));
  if (text.find('.') != std::string::npos) {
    text.erase(text.find_last_not_of('0') + 1);
    if (text.back() == '.') {
      text.pop_back();
    }
  }
  return text;
}

std::string printable(std::string_view text, std::size_t limit) {
  const bool cut = text.size() > limit;
  if (cut) {
    std::size_t end = limit;
    while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0) == 0x80) {
      --end;
    }
    text = text.substr(0, end);
  }
  std::string out(text);
  for (char& c : out) {
    if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f) {
      c = ' ';
    }
  }
  return cut ? out + "..." : out;
}

std::string csv_field(std::string_view text) {
  if (text.find_first_of(",\"\r\n") == std::string_view::npos) {
    return std::string(text);
  }
  std::string out = "\"";
  for (const char c : text) {
    out += c == '"' ? "\"\"" : std::string(1, c);
  }
  return out + "\"";
}

std::string join_or(const std::vector<std::string>& words) {
  std::string out;
  for (std::size_t i = 0; i < words.size(); ++i) {
    out += i == 0 ? "" : i + 1 == words.size() ? " or " : ", ";
    out += words[i];
  }
  return out;
}

}  // namespace jovilux
