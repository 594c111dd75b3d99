// TOML text to and from documents. The only file that includes the TOML library.
#define TOML_HEADER_ONLY 0
#include "jovilux/base/text.h"
#include "jovilux/rig/document.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <sstream>

#include <fmt/format.h>
#include <toml++/toml.h>

namespace jovilux {
namespace {

// The parser recurses once a dotted level: more than this in one key is refused before it runs.
constexpr int kMaxDots = 64;

Place place_of(const toml::source_region& source, const std::string& file) {
  return {file, source.begin.line, source.begin.column};
}

DocumentNode converted(const toml::node& node, const std::string& file) {
  DocumentNode out;
  out.place = place_of(node.source(), file);
  if (const auto* table = node.as_table()) {
    DocumentNode::Table entries;
    for (const auto& [key, value] : *table) {
      entries.push_back(
          {std::string(key.str()), place_of(key.source(), file), converted(value, file)});
    }
    // The library sorts by name; the file's order is what people read.
    std::stable_sort(
        entries.begin(), entries.end(), [](const DocumentEntry& a, const DocumentEntry& b) {
          return std::pair(a.place.line, a.place.column) < std::pair(b.place.line, b.place.column);
        });
    out.value = std::move(entries);
  } else if (const auto* array = node.as_array()) {
    DocumentNode::Array items;
    for (const auto& value : *array) {
      items.push_back(converted(value, file));
    }
    out.value = std::move(items);
  } else if (const auto* text = node.as_string()) {
    out.value = text->get();
  } else if (const auto* integer = node.as_integer()) {
    out.value = integer->get();
  } else if (const auto* number = node.as_floating_point()) {
    out.value = number->get();
  } else if (const auto* flag = node.as_boolean()) {
    out.value = flag->get();
  } else {
    // Dates and times become text; the keys that take one read it themselves.
    std::ostringstream date;
    node.visit([&](const auto& v) {
      if constexpr (toml::is_date<decltype(v)> || toml::is_time<decltype(v)> ||
                    toml::is_date_time<decltype(v)>) {
        date << v.get();
      }
    });
    out.value = date.str();
  }
  return out;
}

// The line whose dotted key is too deep, or 0.
// Counted by hand, since the parser's own recursion is what overflows.
std::uint32_t too_deep_line(std::string_view text) {
  std::uint32_t line = 1;
  int dots = 0;
  for (const char c : text) {
    if (c == '\n') {
      ++line;
      dots = 0;
    } else if (c == '.') {
      if (++dots > kMaxDots) {
        return line;
      }
    } else if (c == ',' || c == '[' || c == ']' || c == '{' || c == '}' || c == '=' || c == '#') {
      dots = 0;
    }
  }
  return 0;
}

// What to write where a line has a number with a unit and no quotes: output = 800 lm.
std::string hint_for_line(std::string_view text, std::uint32_t line) {
  for (std::uint32_t i = 1; i < line && !text.empty(); ++i) {
    const std::size_t end = text.find('\n');
    text = end == std::string_view::npos ? std::string_view() : text.substr(end + 1);
  }
  const std::string_view whole = text.substr(0, text.find('\n'));
  const std::size_t equals = whole.find('=');
  if (equals == std::string_view::npos) {
    return "";
  }
  const std::string_view key = trimmed(whole.substr(0, equals));
  std::string_view value = trimmed(whole.substr(equals + 1));
  value = trimmed(value.substr(0, value.find_first_of("#,}")));
  // Whether the value begins as a number and goes on with letters.
  const std::size_t unit = value.find_first_not_of("+-.0123456789eE/ ");
  const bool number_first =
      !value.empty() && (std::isdigit(static_cast<unsigned char>(value[0])) != 0 ||
                         value[0] == '-' || value[0] == '+' || value[0] == '.');
  if (!number_first || unit == std::string_view::npos ||
      value.find_first_of("\"'[]{") != std::string_view::npos) {
    return "";
  }
  std::string_view number = trimmed(value.substr(0, unit));
  return fmt::format("a value with a unit is a text: write {} = \"{} {}\"",
                     printable(key, 40),
                     printable(number, 40),
                     printable(value.substr(unit), 40));
}

// A text as a TOML basic string.
std::string quoted(const std::string& text) {
  std::string out = "\"";
  for (const char c : text) {
    switch (c) {
      case '"':
        out += "\\\"";
        break;
      case '\\':
        out += "\\\\";
        break;
      case '\n':
        out += "\\n";
        break;
      case '\t':
        out += "\\t";
        break;
      case '\r':
        out += "\\r";
        break;
      default:
        if (static_cast<unsigned char>(c) < 0x20 || c == 0x7f) {
          out += fmt::format("\\u{:04X}", static_cast<unsigned char>(c));
        } else {
          out += c;
        }
    }
  }
  return out + "\"";
}

std::string key_text(const std::string& key) {
  const bool bare = !key.empty() && std::all_of(key.begin(), key.end(), [](char c) {
    return std::isalnum(static_cast<unsigned char>(c)) || c == '_' || c == '-';
  });
  return bare ? key : quoted(key);
}

std::string value_text(const DocumentNode& node) {
  if (const auto* flag = std::get_if<bool>(&node.value)) {
    return *flag ? "true" : "false";
  }
  if (const auto* integer = std::get_if<std::int64_t>(&node.value)) {
    return fmt::format("{}", *integer);
  }
  if (const auto* number = std::get_if<double>(&node.value)) {
    if (!std::isfinite(*number)) {
      return std::isnan(*number) ? "nan" : *number > 0 ? "inf" : "-inf";
    }
    // A number with a fraction stays one when it is read again.
    std::string text = fmt::format("{}", *number);
    return text.find_first_of(".e") == std::string::npos ? text + ".0" : text;
  }
  if (node.is_text()) {
    return quoted(node.text());
  }
  std::string out = node.is_array() ? "[" : "{ ";
  std::string_view separator;
  if (node.is_array()) {
    for (const DocumentNode& item : node.array()) {
      out += separator;
      out += value_text(item);
      separator = ", ";
    }
    return out + "]";
  }
  for (const DocumentEntry& e : node.table()) {
    out += separator;
    out += key_text(e.key) + " = " + value_text(e.value);
    separator = ", ";
  }
  return out + " }";
}

bool is_table_list(const DocumentNode& node) {
  return node.is_array() && !node.array().empty() &&
         std::all_of(node.array().begin(), node.array().end(), [](const DocumentNode& n) {
           return n.is_table();
         });
}

}  // namespace

Result<DocumentNode> parse_toml(std::string_view text, const std::string& file) {
  // A byte order mark, as some editors write.
  if (text.starts_with("\xef\xbb\xbf")) {
    text.remove_prefix(3);
  }
  const auto fail = [&](Place place, std::string_view what) {
    return Problem{Severity::kError, "toml", std::move(place), "", printable(what, 160), ""};
  };
  if (const auto zero = text.find('\0'); zero != std::string_view::npos) {
    const auto line =
        static_cast<std::uint32_t>(1 + std::count(text.begin(), text.begin() + zero, '\n'));
    return fail({file, line, 0}, "not a text file: it holds a zero byte");
  }
  // Checked before the parser runs, which recurses for each level of a dotted key.
  if (const std::uint32_t line = too_deep_line(text)) {
    return fail({file, line, 0}, fmt::format("a dotted key is deeper than {} levels", kMaxDots));
  }
  try {
    const toml::table root = toml::parse(text, std::string_view(file));
    return converted(root, file);
  } catch (const toml::parse_error& e) {
    Problem problem = fail(place_of(e.source(), file), e.description());
    problem.hint = hint_for_line(text, problem.place.line);
    return problem;
  }
}

// Plain keys first: after a table's heading they would belong to it.
std::string to_toml(const DocumentNode& root) {
  std::string out;
  const auto write_plain = [&](const DocumentNode& table) {
    for (const DocumentEntry& e : table.table()) {
      out += key_text(e.key) + " = " + value_text(e.value) + "\n";
    }
  };
  for (const DocumentEntry& e : root.table()) {
    if (!e.value.is_table() && !is_table_list(e.value)) {
      out += key_text(e.key) + " = " + value_text(e.value) + "\n";
    }
  }
  for (const DocumentEntry& e : root.table()) {
    if (e.value.is_table()) {
      out += "\n[" + key_text(e.key) + "]\n";
      write_plain(e.value);
    } else if (is_table_list(e.value)) {
      for (const DocumentNode& item : e.value.array()) {
        out += "\n[[" + key_text(e.key) + "]]\n";
        write_plain(item);
      }
    }
  }
  return out;
}

}  // namespace jovilux
