#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <nlohmann/json.hpp>

namespace jovilux {

/// A JSON value whose objects keep the order of their keys.
using Json = nlohmann::ordered_json;

/// The value of a JSON text; one that is_discarded() where the text is malformed.
Json parse_json(std::string_view text);

/// The value of a JSON file; null where it cannot be read or is larger than 64 MB,
/// is_discarded() where it is malformed.
Json read_json(const std::string& path);

/// A JSON document of an indent (-1: one line), with a line's end; bytes that are no UTF-8 are
/// replaced.
std::string json_text(const Json& document, int indent = 2);

/// An object's number, text or list of this key; where there is none of that kind NaN, an empty
/// text, an empty list. For values of files, which may hold anything.
double number_in(const Json& object, const char* key);
std::string text_in(const Json& object, const char* key);
Json list_in(const Json& object, const char* key);

/// A number of a JSON document; null where there is none, for JSON has neither infinities nor NaN.
Json number_or_null(double x);
Json number_or_null(const std::optional<double>& x);
/// The value alone of what is a quantity in a unit of its own.
template <class Quantity>
Json number_or_null(const std::optional<Quantity>& q) {
  return q ? number_or_null(q->value) : Json(nullptr);
}

}  // namespace jovilux

// Compiled once, in json.cpp: nearly every command writes JSON. Not the whole class, which has
// readers and writers of binary formats.
extern template class std::vector<jovilux::Json>;
extern template nlohmann::basic_json<nlohmann::ordered_map>::basic_json(const jovilux::Json&);
extern template nlohmann::basic_json<nlohmann::ordered_map>::basic_json(
    jovilux::Json::initializer_list_t, bool, jovilux::Json::value_t);
