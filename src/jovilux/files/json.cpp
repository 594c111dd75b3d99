#include "jovilux/files/json.h"

#include "jovilux/files/read_file.h"

#include <cmath>
#include <limits>

template class std::vector<jovilux::Json>;
template nlohmann::basic_json<nlohmann::ordered_map>::basic_json(const jovilux::Json&);
template nlohmann::basic_json<nlohmann::ordered_map>::basic_json(jovilux::Json::initializer_list_t,
                                                                 bool,
                                                                 jovilux::Json::value_t);

namespace jovilux {

// No exception for damaged text: the result is then of the type "discarded", which no reader takes
// for an object.
Json parse_json(std::string_view text) { return Json::parse(text, nullptr, false); }

Json read_json(const std::string& path) {
  const auto text = read_file(path, 64U << 20, "bad-json");
  return text ? parse_json(*text) : Json();
}

// Bytes that are not UTF-8, as in paths, become U+FFFD: a report is written whatever a file is
// called.
std::string json_text(const Json& document, int indent) {
  return document.dump(indent, ' ', false, Json::error_handler_t::replace) + "\n";
}

double number_in(const Json& object, const char* key) {
  return object.is_object() && object.contains(key) && object[key].is_number()
             ? object[key].get<double>()
             : std::numeric_limits<double>::quiet_NaN();
}

std::string text_in(const Json& object, const char* key) {
  return object.is_object() && object.contains(key) && object[key].is_string()
             ? object[key].get<std::string>()
             : std::string();
}

Json list_in(const Json& object, const char* key) {
  return object.is_object() && object.contains(key) && object[key].is_array() ? object[key]
                                                                              : Json::array();
}

// JSON has no NaN and no infinity.
Json number_or_null(double x) { return std::isfinite(x) ? Json(x) : Json(nullptr); }

Json number_or_null(const std::optional<double>& x) {
  return x ? number_or_null(*x) : Json(nullptr);
}

}  // namespace jovilux
