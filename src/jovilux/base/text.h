#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// The whole of `text` as a finite number (spaces around it allowed); nothing where it is not one.
std::optional<double> parse_number(std::string_view text);

/// `text` without white space at its ends.
std::string_view trimmed(std::string_view text);

/// Levenshtein distance with transpositions of neighbours counted as one edit.
int edit_distance(std::string_view a, std::string_view b);

/// The candidate nearest to `word` when it is near enough to be what was meant (at most a third of
/// the letters wrong, at least one letter right, or its beginning); empty otherwise.
std::string nearest_name(std::string_view word, const std::vector<std::string>& candidates);

/// `did you mean "X"?` for the nearest candidate; empty where none is near.
std::string did_you_mean(std::string_view word, const std::vector<std::string>& candidates);

/// A value for people: `digits` significant digits, no exponent between 1e-4 and 1e7, no trailing
/// zeros.
std::string short_number(double value, int digits = 4);

/// A share of 1 as "12.5 %", three significant digits; "unknown" where it is not finite.
std::string percent(double share);

/// The text cut to `limit` bytes at a character's border, control characters shown as spaces: safe
/// to print.
std::string printable(std::string_view text, std::size_t limit = 60);

/// A text whose lines end as they are, safe for a terminal: other control characters, C1 and bytes
/// that are no UTF-8 included, are shown as "?"; lines are cut to `limit` bytes.
std::string terminal_safe(std::string_view text, std::size_t limit = 4000);

/// A field of a CSV file (RFC 4180): in quotes, inner quotes doubled, where it has a comma, a quote
/// or the end of a line.
std::string csv_field(std::string_view text);

/// "a, b or c".
std::string join_or(const std::vector<std::string>& words);
/// "a, b and c".
std::string join_and(const std::vector<std::string>& words);
/// "1 point", "2 points".
std::string counted(std::size_t count, const std::string& noun);

}  // namespace jovilux
