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
  // std::from_chars reads no sign of plus, and no locale changes what it reads.
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

// Optimal string alignment: insertions, deletions, changes, and swaps of neighbors, which are the
// commonest slip of the hand.
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
  // The distance is quadratic in the length; a word this long is no slip.
  if (word.size() > 100) {
    return {};
  }
  std::string best;
  int best_distance = 1 << 20;
  for (const std::string& c : candidates) {
    const int d = edit_distance(word, c);
    // A third of the letters may be wrong; or the word is what a name begins with.
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
  // Beyond these the digits of a plain number would be zeros.
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

std::string percent(double share) {
  return std::isfinite(share) ? short_number(100 * share, 3) + " %" : "unknown";
}

namespace {

// The bytes of the UTF-8 character that begins a text; 0: it begins with none.
std::size_t character_size(std::string_view text) {
  const auto first = static_cast<unsigned char>(text[0]);
  const std::size_t size = first < 0x80                     ? 1
                           : first >= 0xC2 && first <= 0xDF ? 2
                           : first >= 0xE0 && first <= 0xEF ? 3
                           : first >= 0xF0 && first <= 0xF4 ? 4
                                                            : 0;
  if (size == 0 || size > text.size()) {
    return 0;
  }
  for (std::size_t i = 1; i < size; ++i) {
    if ((static_cast<unsigned char>(text[i]) & 0xC0) != 0x80) {
      return 0;
    }
  }
  return size;
}

// C0 and C1 (ECMA-48), DEL.
bool is_control(std::string_view character) {
  const auto first = static_cast<unsigned char>(character[0]);
  return first < 0x20 || first == 0x7f ||
         (first == 0xC2 && static_cast<unsigned char>(character[1]) < 0xA0);
}

// Calls fn(character, whether it may be shown) for each.
template <class Fn>
void each_character(std::string_view text, const Fn& fn) {
  // A byte that begins no character stands for itself, and is not shown.
  while (!text.empty()) {
    const std::size_t size = character_size(text);
    const std::string_view character = text.substr(0, std::max<std::size_t>(1, size));
    fn(character, size > 0 && !is_control(character));
    text.remove_prefix(character.size());
  }
}

}  // namespace

std::string printable(std::string_view text, std::size_t limit) {
  const bool cut = text.size() > limit;
  if (cut) {
    // Never within a character: bytes 10xxxxxx continue one.
    std::size_t end = limit;
    while (end > 0 && (static_cast<unsigned char>(text[end]) & 0xC0) == 0x80) {
      --end;
    }
    text = text.substr(0, end);
  }
  std::string out;
  each_character(
      text, [&out](std::string_view character, bool shown) { out += shown ? character : " "; });
  return cut ? out + "..." : out;
}

std::string terminal_safe(std::string_view text, std::size_t limit) {
  std::string out;
  std::size_t line = 0;
  each_character(text, [&](std::string_view character, bool shown) {
    if (character == "\n") {
      out += line > limit ? "...\n" : "\n";
      line = 0;
      return;
    }
    line += character.size();
    if (line <= limit) {
      out += shown || character == "\t" ? character : "?";
    }
  });
  return line > limit ? out + "..." : out;
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

namespace {

std::string join(const std::vector<std::string>& words, const char* last) {
  std::string out;
  for (std::size_t i = 0; i < words.size(); ++i) {
    out += i == 0 ? "" : i + 1 == words.size() ? last : ", ";
    out += words[i];
  }
  return out;
}

}  // namespace

std::string join_or(const std::vector<std::string>& words) { return join(words, " or "); }

std::string join_and(const std::vector<std::string>& words) { return join(words, " and "); }

std::string counted(std::size_t count, const std::string& noun) {
  return std::to_string(count) + " " + noun + (count == 1 ? "" : "s");
}

}  // namespace jovilux
