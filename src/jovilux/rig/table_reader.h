#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/problem.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/rgb.h"
#include "jovilux/rig/document.h"
#include "jovilux/units/text.h"

#include <limits>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// The values that a key accepts, ends included unless `open_lo`.
struct Limits {
  double lo = -std::numeric_limits<double>::max();
  double hi = std::numeric_limits<double>::max();
  bool open_lo = false;

  bool holds(double v) const { return (open_lo ? v > lo : v >= lo) && v <= hi; }
};
inline constexpr Limits kAny{};
inline constexpr Limits kPositive{0, std::numeric_limits<double>::max(), true};
inline constexpr Limits kNotNegative{0};
inline constexpr Limits kShare{0, 1};

/// Reads one table of a rig key by key. Each accessor marks its key as known, returns nothing where
/// the key is absent
/// or wrong, and in the latter case notes a problem that says what was found, what was expected and
/// where.
class TableReader {
 public:
  /// `length` is what a bare length stands for, in meters.
  TableReader(const DocumentNode& table, std::string address, double length, Problems& problems)
      : table_(table), address_(std::move(address)), length_(length), problems_(problems) {}

  /// The node of a key, marked as known; null where absent.
  const DocumentNode* find(std::string_view key);
  bool has(std::string_view key) const { return table_.find(key) != nullptr; }
  Place place(std::string_view key) const;

  std::optional<bool> flag(std::string_view key);
  std::optional<std::string> text(std::string_view key);
  std::optional<std::vector<std::string>> texts(std::string_view key);
  /// A bare number, or "30 %".
  std::optional<double> ratio(std::string_view key, Limits limits);
  std::optional<std::int64_t> integer(std::string_view key, std::int64_t lo, std::int64_t hi);
  /// With a unit of `dimension`, or a bare number where that has an obvious one: lengths in the
  /// scene's unit, angles
  /// in degrees, temperatures in kelvin, times in seconds. SI and radians.
  std::optional<double> quantity(std::string_view key, Dimension dimension, Limits limits);
  /// `count` lengths or angles.
  std::optional<std::vector<double>> quantities(std::string_view key,
                                                Dimension dimension,
                                                std::size_t count,
                                                Limits limits);
  std::optional<Vec3d> position(std::string_view key);
  /// Three numbers, not all 0; returned as a unit vector.
  std::optional<Vec3d> direction(std::string_view key);
  /// Linear RGB: "#rrggbb" or three numbers >= 0, at most `highest`.
  std::optional<Rgb> color(std::string_view key, double highest);
  /// One of a few words; `words` gives the order of the result.
  std::optional<std::size_t> word(std::string_view key, const std::vector<std::string>& words);

  /// The value of one node of a list or key, as quantity() reads it.
  std::optional<double> amount(const DocumentNode& node,
                               std::string_view key,
                               Dimension dimension,
                               Limits limits);

  void error(std::string_view key,
             const Place& place,
             std::string code,
             std::string text,
             std::string hint = "");
  void wrong_type(std::string_view key, const DocumentNode& node, std::string_view expected);
  void warning(std::string_view key,
               const Place& place,
               std::string code,
               std::string text,
               std::string hint = "");
  void missing(std::string_view key, std::string_view expected);

  /// Notes an error for each key that no accessor asked for. `elsewhere` are keys that belong to
  /// another kind than `kind`
  /// ("kind \"point\"").
  void finish(const std::vector<std::string>& elsewhere = {}, const std::string& kind = "");

  const DocumentNode& table() const { return table_; }
  const std::string& address() const { return address_; }
  double length() const { return length_; }
  Problems& problems() { return problems_; }
  std::string address_of(std::string_view key) const {
    return address_.empty() ? std::string(key) : address_ + "." + std::string(key);
  }

 private:
  const DocumentNode& table_;
  std::string address_;
  double length_;
  Problems& problems_;
  std::vector<std::string> known_;
};

/// A formula of the variables, from a key that must be there; `example` shows what is expected.
std::optional<Formula> read_formula(TableReader& r,
                                    std::string_view key,
                                    const std::vector<std::string>& variables,
                                    const char* example);

/// Whether a name can be part of an address: letters, digits, "-" and "_", at most 100.
bool is_plain_name(std::string_view name);

}  // namespace jovilux
