#pragma once

#include "jovilux/base/vec.h"
#include "jovilux/rig/document.h"
#include "jovilux/units/text.h"

#include <cstdint>
#include <functional>
#include <limits>
#include <string>
#include <string_view>
#include <unordered_map>
#include <vector>

namespace jovilux {

/// The largest seed of chance that a key takes.
inline constexpr double kMostSeed = 0xffffffffLL;

// The rig's keys, each described once. The reader, its errors, the docs, the editor's schema, the
// shell's completion, `jovilux keys`, the files that a rig names, includes and values over time
// all ask these descriptions.

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

/// "0 to 1", "above 0": for people, in units of `factor`; empty where nothing is refused.
std::string shown_limits(Limits limits, double factor);

/// What a key's value is.
enum class ValueType : std::uint8_t {
  kFlag,
  kText,
  kTexts,      ///< a list of texts
  kWhole,      ///< a whole number
  kNumber,     ///< a number or quantity of `dimension`
  kNumbers,    ///< a list of `count` of them
  kDirection,  ///< three numbers, not all 0
  kColor,      ///< "#rrggbb" or three linear values up to `limits.hi`
  kWord,       ///< one of `words`
  kTable,      ///< a table with a description of its own
  kTables,     ///< a list of named tables with a description of their own
  kOther,      ///< what `takes` says
};

/// What a key does over time where its value is { keys = ... }.
enum class OverTime : std::uint8_t {
  kNever,       ///< it may not be keyed
  kStepped,     ///< each value holds until the next key
  kBlended,     ///< taken at the moment of the picture
  kIntegrated,  ///< its mean while the shutter is open, exactly
};

/// What a key of a light does to the light's layer.
enum class LayerEffect : std::uint8_t {
  kOther,
  kScales,  ///< a factor on the layer
  kTints,   ///< a factor on each channel
};

/// All that is known of a key. Made by key() and the setters, which return the description itself.
struct KeyDescription {
  std::string_view name;
  std::string_view means;  ///< a line, without a full stop
  ValueType type = ValueType::kOther;
  Dimension dimension = Dimension::kPercent;
  std::size_t count = 0;
  Limits limits = kAny;
  std::vector<std::string> words;
  std::string_view takes;                 ///< the accepted forms, for errors and docs
  std::string_view example;               ///< TOML, valid wherever the key is
  std::string_view standard;              ///< TOML of the value without the key; empty: none
  std::string_view standard_text;         ///< of a default that is no value: "the scene's"
  std::vector<std::string_view> kinds;    ///< which kinds take it; empty: all
  std::vector<std::string_view> endings;  ///< of the files that it may name
  std::string_view also;                  ///< a practitioner's words for it, by commas
  OverTime over_time = OverTime::kNever;
  LayerEffect effect = LayerEffect::kOther;
  bool required = false;
  bool bare = true;            ///< whether a bare number has an obvious unit
  bool stops = false;          ///< a share that may be written in stops: "-1.5 stops"
  DocumentNode standard_node;  ///< `standard`, read

  KeyDescription flag() &&;
  KeyDescription text() &&;
  KeyDescription texts() &&;
  KeyDescription whole(double lo, double hi) &&;
  KeyDescription number(Limits accepted = kAny) &&;
  KeyDescription quantity(Dimension of, Limits accepted = kAny) &&;
  KeyDescription length(Limits accepted) && {
    return std::move(*this).quantity(Dimension::kLength, accepted);
  }
  KeyDescription angle(Limits accepted = kAny) && {
    return std::move(*this).quantity(Dimension::kAngle, accepted);
  }
  KeyDescription list(std::size_t length, Dimension of, Limits accepted = kAny) &&;
  KeyDescription position() &&;
  KeyDescription direction() &&;
  KeyDescription color(double highest) &&;
  KeyDescription word(std::vector<std::string> accepted) &&;
  KeyDescription table() &&;
  KeyDescription tables() &&;
  KeyDescription other() &&;
  KeyDescription file(std::vector<std::string_view> accepted) &&;

  KeyDescription expects(std::string_view forms) &&;
  KeyDescription shown(std::string_view toml) &&;
  KeyDescription otherwise(std::string_view toml) &&;
  KeyDescription otherwise_text(std::string_view text_for_people) &&;
  KeyDescription of(std::vector<std::string_view> accepted) &&;
  KeyDescription called(std::string_view other_words) &&;
  KeyDescription over(OverTime how) &&;
  KeyDescription does(LayerEffect to_layer) &&;
  KeyDescription needed() &&;
  KeyDescription in_stops() &&;
  /// A bare number is refused: several units are as obvious.
  KeyDescription with_unit() &&;

  bool goes_with(std::string_view kind) const;
  /// What the key takes, for people: "a length (mm, cm, m, km, in, ft) above 0".
  std::string forms() const;
  /// "[x, y, z]" of places, whose numbers would mean nothing; of others the example.
  std::string_view form_or_example() const;
  /// What the key takes, by type and limits alone, without a text of its own.
  std::string values() const;
  bool names_file() const { return !endings.empty(); }
};

/// Begins a description.
KeyDescription key(std::string_view name, std::string_view means);

/// A table of the rig.
struct TableDescription {
  std::string_view address;   ///< without names: "", "light", "light.falloff"
  std::string_view means;     ///< a line
  std::string_view kind_key;  ///< the key that decides which others go; empty: none
  std::vector<KeyDescription> keys;

  /// Adds keys after those that are there.
  void add(std::vector<KeyDescription> more);

  /// The description of a key; where several kinds give it different values, that of `kind`, or
  /// the first. Null: there is none.
  const KeyDescription* find(std::string_view key, std::string_view kind = "") const;

  /// The kinds that take a key, for people: "spot, disk or rect"; empty where all do.
  std::string kinds_with(std::string_view key) const;

  /// Keys by name; made by rig_schema().
  std::unordered_map<std::string_view, std::vector<std::size_t>> by_name;
};

/// All tables, in the order of the docs; the first is the rig itself.
const std::vector<TableDescription>& rig_schema();

/// Whether a rig has a list of named tables of that name: [[light]].
bool is_list_of_tables(std::string_view name);

/// "light.key[3].falloff" as "light.falloff": the kind of table, whatever its name.
std::string kind_of_table(std::string_view address);

/// The description of the table at an address ("light.pendant.falloff"). Null: there is none.
const TableDescription* table_at(std::string_view address);
/// The same for a key at an address ("light.pendant.falloff.law"), of whatever kind.
const KeyDescription* key_at(std::string_view address);

/// Calls `fn` for each text of a rig that may name a file: values of keys that name files, those
/// over time, those of single copies of an array and those that variants set. Whether a text does
/// name one is told by its ending.
void each_file_name(DocumentNode& root,
                    const std::function<void(DocumentNode&, const KeyDescription&)>& fn);

/// Whether a file's name ends in one of these, whatever the case of its letters.
bool has_ending(std::string_view file, const std::vector<std::string_view>& endings);

// The descriptions, a file for each kind of table.
std::vector<TableDescription> light_tables();
std::vector<TableDescription> object_tables();
std::vector<TableDescription> material_tables();
std::vector<TableDescription> haze_tables();
std::vector<TableDescription> picture_tables();
std::vector<TableDescription> scene_tables();

}  // namespace jovilux
