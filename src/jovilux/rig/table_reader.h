#pragma once

#include "jovilux/base/formula.h"
#include "jovilux/base/problem.h"
#include "jovilux/base/vec.h"
#include "jovilux/color/rgb.h"
#include "jovilux/rig/document.h"
#include "jovilux/rig/schema.h"
#include "jovilux/units/text.h"

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// Reads one table of a rig key by key, each as its description says. Each accessor marks its key
/// as known, returns nothing where the key is absent or wrong, and in the latter case notes a
/// problem that says what was found, what was expected and where. Asking for a key without a
/// description is a bug.
class TableReader {
 public:
  /// `length` is what a bare length stands for, in meters. The address finds the description.
  TableReader(const DocumentNode& table,
              const std::string& address,
              double length,
              Problems& problems)
      : TableReader(table, address, length, problems, table_at(address)) {}
  /// With the description of a table that may stand anywhere.
  TableReader(const DocumentNode& table,
              std::string address,
              double length,
              Problems& problems,
              const TableDescription* described)
      : table_(table),
        address_(std::move(address)),
        length_(length),
        problems_(problems),
        described_(described) {}

  /// The table's kind is known: where kinds take different values of a key, those of this one are
  /// read.
  void set_kind(std::string_view kind) { kind_ = kind; }
  const std::string& kind() const { return kind_; }

  /// The node of a key, marked as known; null where absent.
  const DocumentNode* find(std::string_view key);
  bool has(std::string_view key) const { return table_.find(key) != nullptr; }
  Place place(std::string_view key) const;
  /// Whether the key is there; notes that it is missing, and what is expected, where not.
  bool require(std::string_view key);

  std::optional<bool> flag(std::string_view key);
  std::optional<std::string> text(std::string_view key);
  std::optional<std::vector<std::string>> texts(std::string_view key);
  std::optional<std::int64_t> whole(std::string_view key);
  /// With a unit of the key's dimension, or a bare number where that has an obvious one: lengths in
  /// the scene's unit, angles in degrees, temperatures in kelvin, times in seconds; shares as a
  /// number or "30 %". SI and radians.
  std::optional<double> number(std::string_view key);
  /// As many as the description says, read as number() does.
  std::optional<std::vector<double>> numbers(std::string_view key);
  /// numbers() of a key of three.
  std::optional<Vec3d> vector(std::string_view key);
  /// A unit vector.
  std::optional<Vec3d> direction(std::string_view key);
  /// Linear RGB.
  std::optional<Rgb> color(std::string_view key);
  /// The index of a word in the description's list.
  std::optional<std::size_t> word(std::string_view key);
  /// The name of a file, relative to the working folder: it has one of the description's endings
  /// and is there. `where` gets its place.
  std::optional<std::string> file(std::string_view key, Place* where = nullptr);
  /// A table within this one; null, and a problem, where the key is something else.
  const DocumentNode* table(std::string_view key);
  /// A formula of the variables.
  std::optional<Formula> formula(std::string_view key, const std::vector<std::string>& variables);

  // The same, with the description's default where the key is absent or wrong.
  bool flag_or_standard(std::string_view key);
  double number_or_standard(std::string_view key);
  std::int64_t whole_or_standard(std::string_view key);
  Vec3d vector_or_standard(std::string_view key);
  Rgb color_or_standard(std::string_view key);
  std::size_t word_or_standard(std::string_view key);

  // Of one node of a list or key, with limits of its own.
  std::optional<double> amount_of(const DocumentNode& node,
                                  std::string_view key,
                                  Dimension dimension,
                                  Limits limits);
  std::optional<std::vector<double>> amounts_of(const DocumentNode& node,
                                                std::string_view key,
                                                Dimension dimension,
                                                std::size_t count,
                                                Limits limits);
  std::optional<Rgb> color_of(const DocumentNode& node, std::string_view key, double highest);
  std::optional<std::string> file_of(const DocumentNode& node, std::string_view key);
  /// Whole numbers of a list of `count`; nothing, and no problem, where it is no such list.
  static std::optional<std::vector<std::int64_t>> wholes_of(const DocumentNode& node,
                                                            std::size_t count,
                                                            std::int64_t lo,
                                                            std::int64_t hi);

  void error(std::string_view key,
             const Place& place,
             std::string code,
             std::string text,
             std::string hint = "");
  /// The value is of another type than the description asks for.
  void wrong_type(std::string_view key, const DocumentNode& node);
  void wrong_type(std::string_view key, const DocumentNode& node, std::string_view expected);
  void warning(std::string_view key,
               const Place& place,
               std::string code,
               std::string text,
               std::string hint = "");
  void missing(std::string_view key);
  void missing(std::string_view key, std::string_view expected);
  /// There is nothing of that name; `names` are those that there are.
  void unknown_name(std::string_view key,
                    const Place& place,
                    std::string text,
                    std::string_view name,
                    const std::vector<std::string>& names);

  /// Notes an error for each key that no accessor asked for. `of_kind` ("kind \"point\"") is what
  /// the described keys among them do not go with.
  void finish(const std::string& of_kind = "");

  /// The words, and the forms for people, that a key takes; what to write instead of a word that it
  /// does not take.
  const std::vector<std::string>& words(std::string_view key) const { return describe(key).words; }
  std::string forms(std::string_view key) const { return describe(key).forms(); }
  std::string value_hint(std::string_view key, std::string_view word) const;

  const DocumentNode& node() const { return table_; }
  const std::string& address() const { return address_; }
  double length() const { return length_; }
  Problems& problems() { return problems_; }
  std::string address_of(std::string_view key) const {
    return address_.empty() ? std::string(key) : address_ + "." + std::string(key);
  }
  /// A reader of the table at a key.
  TableReader within(std::string_view key, const DocumentNode& inner) const {
    return {inner, address_of(key), length_, problems_};
  }

 private:
  const DocumentNode& table_;
  std::string address_;
  double length_;
  Problems& problems_;
  const TableDescription* described_;
  std::string kind_;
  std::vector<std::string_view> known_;

  const KeyDescription& describe(std::string_view key) const;
};

/// A name as a part of an address: a plain name as it is; of another the characters that may be
/// there, for messages.
std::string address_part(std::string_view name);

/// Whether a name can be part of an address: letters, digits, "-" and "_", at most 100.
bool is_plain_name(std::string_view name);

}  // namespace jovilux
