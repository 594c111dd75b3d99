#pragma once

#include <cmath>
#include <optional>

#include <nlohmann/json.hpp>

namespace jovilux::cli {

/// A number of a JSON document; null where there is none, for JSON has neither infinities nor NaN.
inline nlohmann::ordered_json number_or_null(double x) {
  return std::isfinite(x) ? nlohmann::ordered_json(x) : nlohmann::ordered_json(nullptr);
}
inline nlohmann::ordered_json number_or_null(const std::optional<double>& x) {
  return x ? number_or_null(*x) : nlohmann::ordered_json(nullptr);
}
/// The value alone of what is a quantity in a unit of its own.
template <class Quantity>
nlohmann::ordered_json number_or_null(const std::optional<Quantity>& q) {
  return q ? number_or_null(q->value) : nlohmann::ordered_json(nullptr);
}

}  // namespace jovilux::cli
