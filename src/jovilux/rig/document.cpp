#include "jovilux/rig/document.h"

#include "jovilux/base/text.h"
#include "jovilux/rig/assembly.h"
#include "jovilux/rig/schema.h"
#include "jovilux/units/text.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <sstream>

#include <fmt/format.h>

namespace jovilux {

DocumentNode::DocumentNode() : value(Table{}) {}
DocumentNode::DocumentNode(const DocumentNode&) = default;
DocumentNode::DocumentNode(DocumentNode&&) noexcept = default;
DocumentNode& DocumentNode::operator=(const DocumentNode&) = default;
DocumentNode& DocumentNode::operator=(DocumentNode&&) noexcept = default;
DocumentNode::~DocumentNode() = default;

namespace {

namespace fs = std::filesystem;

constexpr std::size_t kMaxIncludeDepth = 32;

Problem error_at(const Place& place, std::string code, std::string text, std::string hint = "") {
  return {Severity::kError, std::move(code), place, "", std::move(text), std::move(hint)};
}

// Reads a file of at most kMaxRigBytes.
Result<std::string> read_text(const std::string& file, const Place& asked_at) {
  std::error_code ec;
  const fs::path path(file);
  if (!fs::exists(path, ec) || ec) {
    return error_at(asked_at,
                    "missing-file",
                    fmt::format("file not found: {}", printable(file, 200)),
                    asked_at.line == 0 ? "jovilux new DIR writes a rig to begin with" : "");
  }
  if (!fs::is_regular_file(path, ec)) {
    return error_at(asked_at, "not-a-file", fmt::format("not a file: {}", printable(file, 200)));
  }
  const auto size = fs::file_size(path, ec);
  if (ec || size > kMaxRigBytes) {
    return error_at(
        asked_at,
        "file-too-large",
        fmt::format(
            "{}: {} bytes; a rig file holds at most {}", printable(file, 200), size, kMaxRigBytes),
        "keep meshes and pictures in files of their own");
  }
  std::ifstream in(path, std::ios::binary);
  std::ostringstream text;
  text << in.rdbuf();
  if (!in) {
    return error_at(
        asked_at, "unreadable-file", fmt::format("cannot read {}", printable(file, 200)));
  }
  return text.str();
}

// Merges two documents key by key; `from` wins. Lists of named tables, such as [[light]], are
// joined, as their descriptions say; all other lists are values.
void merge(DocumentNode& into, DocumentNode from, const std::string& address) {
  for (DocumentEntry& entry : from.table()) {
    DocumentNode* present = into.find(entry.key);
    const std::string inner = address.empty() ? entry.key : address + "." + entry.key;
    if (present == nullptr) {
      into.table().push_back(std::move(entry));
    } else if (present->is_table() && entry.value.is_table()) {
      merge(*present, std::move(entry.value), inner);
    } else if (is_list_of_tables(inner) && present->is_array() && entry.value.is_array()) {
      auto& target = present->array();
      std::move(entry.value.array().begin(), entry.value.array().end(), std::back_inserter(target));
    } else {
      present->place = entry.value.place;
      *present = std::move(entry.value);
    }
  }
}

class Loader {
 public:
  Problems problems;

  DocumentNode load(const std::string& file, const Place& asked_at) {
    DocumentNode empty;
    empty.place.file = file;
    std::error_code ec;
    const fs::path canonical = fs::weakly_canonical(file, ec);
    // By canonical paths: a cycle may run through links.
    if (std::find(chain_.begin(), chain_.end(), canonical) != chain_.end()) {
      problems.push_back(error_at(asked_at,
                                  "include-cycle",
                                  fmt::format("{} includes itself", printable(file, 200)),
                                  "remove one of the includes"));
      return empty;
    }
    if (chain_.size() >= kMaxIncludeDepth) {
      problems.push_back(
          error_at(asked_at,
                   "include-depth",
                   fmt::format("includes are nested deeper than {}", kMaxIncludeDepth),
                   "include the files side by side"));
      return empty;
    }
    auto text = read_text(file, asked_at);
    if (!text) {
      problems.insert(problems.end(), text.problems().begin(), text.problems().end());
      return empty;
    }
    auto parsed = parse_toml(*text, file);
    if (!parsed) {
      problems.insert(problems.end(), parsed.problems().begin(), parsed.problems().end());
      return empty;
    }
    chain_.push_back(canonical);
    DocumentNode out = std::move(*parsed);
    if (const DocumentNode* include = out.find("include")) {
      DocumentNode base;
      base.place = out.place;
      if (!include->is_array()) {
        problems.push_back(error_at(
            include->place,
            "wrong-type",
            fmt::format("include: found {}; expected a list of file names", include->kind())));
      } else {
        for (const DocumentNode& name : include->array()) {
          if (!name.is_text()) {
            problems.push_back(
                error_at(name.place,
                         "wrong-type",
                         fmt::format("include: found {}; expected a file name", name.kind())));
            continue;
          }
          const fs::path next = fs::path(file).parent_path() / name.text();
          merge(base, load(next.string(), name.place), "");
        }
      }
      merge(base, std::move(out), "");
      out = std::move(base);
    }
    chain_.pop_back();
    auto& table = out.table();
    std::erase_if(table, [](const DocumentEntry& e) { return e.key == "include"; });
    return out;
  }

 private:
  std::vector<fs::path> chain_;
};

}  // namespace

double DocumentNode::number() const {
  if (const auto* i = std::get_if<std::int64_t>(&value)) {
    return static_cast<double>(*i);
  }
  return std::get<double>(value);
}

const DocumentNode* DocumentNode::find(std::string_view key) const {
  if (const auto* entries = std::get_if<Table>(&value)) {
    for (const DocumentEntry& e : *entries) {
      if (e.key == key) {
        return &e.value;
      }
    }
  }
  return nullptr;
}

DocumentNode* DocumentNode::find(std::string_view key) {
  return const_cast<DocumentNode*>(std::as_const(*this).find(key));
}

void DocumentNode::set(std::string_view key, const Place& key_place, DocumentNode node) {
  if (DocumentNode* present = find(key)) {
    *present = std::move(node);
  } else {
    table().push_back({std::string(key), key_place, std::move(node)});
  }
}

std::string_view DocumentNode::kind() const {
  switch (value.index()) {
    case 0:
      return "true or false";
    case 1:
    case 2:
      return "a number";
    case 3:
      return "a text";
    case 4:
      return "a list";
    default:
      return "a table";
  }
}

Result<DocumentNode> load_document(const std::string& file) {
  Loader loader;
  DocumentNode root = loader.load(file, Place{file, 0, 0});
  if (has_errors(loader.problems)) {
    return loader.problems;
  }
  lift_members(root);  // so that addresses find them
  return root;
}

// "+1 stops" and the like; the search spares most texts the parser.
std::optional<double> stops_in(const DocumentNode& node) {
  if (!node.is_text() || node.text().find("stop") == std::string::npos) {
    return std::nullopt;
  }
  const auto parsed = parse_amount(node.text());
  const auto* amount = std::get_if<Amount>(&parsed);
  return amount != nullptr && amount->dimension == Dimension::kExposure
             ? std::optional(amount->value)
             : std::nullopt;
}

}  // namespace jovilux
