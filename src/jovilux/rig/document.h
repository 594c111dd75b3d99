#pragma once

#include "jovilux/base/problem.h"

#include <cstdint>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace jovilux {

struct DocumentEntry;

/// A value of a rig file with its place: what TOML can say, in the file's order. Dates are kept as
/// text.
struct DocumentNode {
  using Array = std::vector<DocumentNode>;
  using Table = std::vector<DocumentEntry>;

  /// An empty table at first.
  std::variant<bool, std::int64_t, double, std::string, Array, Table> value;
  Place place;

  DocumentNode();
  DocumentNode(const DocumentNode&);
  DocumentNode(DocumentNode&&) noexcept;
  DocumentNode& operator=(const DocumentNode&);
  DocumentNode& operator=(DocumentNode&&) noexcept;
  ~DocumentNode();

  bool is_table() const { return std::holds_alternative<Table>(value); }
  bool is_array() const { return std::holds_alternative<Array>(value); }
  bool is_text() const { return std::holds_alternative<std::string>(value); }
  bool is_number() const {
    return std::holds_alternative<std::int64_t>(value) || std::holds_alternative<double>(value);
  }
  Table& table() { return std::get<Table>(value); }
  const Table& table() const { return std::get<Table>(value); }
  Array& array() { return std::get<Array>(value); }
  const Array& array() const { return std::get<Array>(value); }
  const std::string& text() const { return std::get<std::string>(value); }
  /// Of an integer or a float.
  double number() const;

  /// The entry of a table, or null.
  const DocumentNode* find(std::string_view key) const;
  DocumentNode* find(std::string_view key);
  /// Replaces or appends an entry of a table.
  void set(std::string_view key, const Place& key_place, DocumentNode node);

  /// "a number", "a text", ...: what the node is, for messages.
  std::string_view kind() const;
};

struct DocumentEntry {
  std::string key;
  Place place;
  DocumentNode value;
};

/// The largest rig file that is read [bytes].
inline constexpr std::size_t kMaxRigBytes = 16U << 20;

/// Reads TOML 1.0. Errors have the place where reading stopped.
Result<DocumentNode> parse_toml(std::string_view text, const std::string& file);

/// Reads a rig file and, before it, the files that it includes (each at most once in a chain, 32
/// deep): tables are merged, the including file's values win; lists of named tables are joined, the
/// included ones first.
Result<DocumentNode> load_document(const std::string& file);

/// The stops that a text such as "-1.5 stops" tells; nothing where a value is no such text.
std::optional<double> stops_in(const DocumentNode& node);

/// TOML text of a document: plain values first, then tables, then arrays of tables.
std::string to_toml(const DocumentNode& root);

/// Sets the value at an address such as "light.pendant.output", "render.samples" or
/// "camera.wide.at[2]" (from 0).
/// Tables on the way are made where they are missing. The value comes with the place that errors
/// shall name.
Problems set_at_address(DocumentNode& root, const std::string& address, DocumentNode value);

/// Applies "ADDRESS=VALUE" from the command line; VALUE is read as TOML, or taken as text where it
/// is not. "ADDRESS=" removes the key.
Problems apply_override(DocumentNode& root, const std::string& assignment);

/// Applies the `set` table of a variant.
Problems apply_variant(DocumentNode& root, const std::string& name);

}  // namespace jovilux
