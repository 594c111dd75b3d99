#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/rig/schema_text.h"

#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/rig_schema_json.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// A value of TOML as one of JSON.
Json to_json(const DocumentNode& node) {
  return std::visit(
      [](const auto& v) -> Json {
        using Value = std::decay_t<decltype(v)>;
        if constexpr (std::is_same_v<Value, DocumentNode::Array>) {
          Json items = Json::array();
          for (const DocumentNode& item : v) {
            items.push_back(to_json(item));
          }
          return items;
        } else if constexpr (std::is_same_v<Value, DocumentNode::Table>) {
          Json table = Json::object();
          for (const DocumentEntry& e : v) {
            table[e.key] = to_json(e.value);
          }
          return table;
        } else {
          return v;
        }
      },
      node.value);
}

Json array_of(Json items, std::size_t count) {
  Json j = {{"type", "array"}, {"items", std::move(items)}};
  if (count > 0) {
    j["minItems"] = count;
    j["maxItems"] = count;
  }
  return j;
}

// A number where that has an obvious unit, or a text with one.
Json amount(const KeyDescription& key) {
  Json types = Json::array({"string"});
  if (key.bare) {
    types.push_back("number");
  }
  return {{"type", types}};
}

Json schema_of_table(const TableDescription& table);

// The table that a key holds; null where it has no description.
const TableDescription* table_within(const TableDescription& table, const KeyDescription& key) {
  const std::string address =
      (table.address.empty() ? "" : std::string(table.address) + ".") + std::string(key.name);
  for (const TableDescription& t : rig_schema()) {
    if (t.address == address) {
      return &t;
    }
  }
  return nullptr;
}

Json schema_of_value(const TableDescription& table, const KeyDescription& key) {
  switch (key.type) {
    case ValueType::kFlag:
      return {{"type", "boolean"}};
    case ValueType::kText:
      return {{"type", "string"}};
    case ValueType::kTexts:
      return array_of({{"type", "string"}}, 0);
    case ValueType::kWhole:
      return {{"type", "integer"},
              {"minimum", static_cast<std::int64_t>(key.limits.lo)},
              {"maximum", static_cast<std::int64_t>(key.limits.hi)}};
    case ValueType::kNumber:
      return amount(key);
    case ValueType::kNumbers:
      return array_of(amount(key), key.count);
    case ValueType::kDirection:
      return array_of({{"type", "number"}}, key.count);
    case ValueType::kColor:
      return {{"anyOf",
               {{{"type", "string"}, {"pattern", "^#[0-9a-fA-F]{6}$"}},
                array_of({{"type", "number"}}, key.count)}}};
    case ValueType::kWord:
      return {{"enum", key.words}};
    case ValueType::kTable: {
      const TableDescription* inner = table_within(table, key);
      Json j = inner != nullptr ? schema_of_table(*inner) : Json{{"type", "object"}};
      // A law of falloff may be a word as well.
      return key.standard_node.is_text() ? Json{{"anyOf", {{{"type", "string"}}, std::move(j)}}}
                                         : j;
    }
    case ValueType::kTables: {
      const TableDescription* inner = table_within(table, key);
      // Members written inside an assembly are what the rig's own lists hold.
      return inner != nullptr
                 ? array_of(schema_of_table(*inner), 0)
                 : array_of({{"$ref", fmt::format("#/properties/{}/items", key.name)}}, 0);
    }
    case ValueType::kOther:
      return Json::object();
  }
  return Json::object();
}

std::string description_of(const TableDescription& table, const KeyDescription& key) {
  std::string out = std::string(key.means);
  const std::string forms = forms_and_range(key), standard = default_for_people(key),
                    kinds = table.kinds_with(key.name);
  out += fmt::format("\nTakes {}.", forms);
  out += standard.empty() || key.required ? "" : fmt::format(" Default: {}.", standard);
  out += kinds.empty() ? "" : fmt::format(" Of {}.", kinds);
  return out;
}

// Keys that several kinds take differently are told once, with all that they may be.
Json schema_of_table(const TableDescription& table) {
  Json properties = Json::object();
  Json required = Json::array();
  for (const KeyDescription& key : table.keys) {
    const std::string name(key.name);
    Json value = schema_of_value(table, key);
    if (key.over_time != OverTime::kNever && !value.empty()) {
      value = {{"anyOf", {std::move(value), {{"$ref", "#/definitions/keyed"}}}}};
    }
    if (properties.contains(name)) {
      Json& present = properties[name];
      Json of_other_kind = {{"anyOf", {present["anyOf"], std::move(value)}}};
      Json any = Json::array();
      for (Json& one : of_other_kind["anyOf"]) {
        if (one.is_array()) {
          any.insert(any.end(), one.begin(), one.end());
        } else {
          any.push_back(std::move(one));
        }
      }
      present["anyOf"] = std::move(any);
      continue;
    }
    Json property = {{"description", description_of(table, key)}};
    if (!key.example.empty()) {
      const auto example = parse_toml(fmt::format("v = {}\n", key.example), "example");
      property["examples"] = Json::array({to_json(*example->find("v"))});
    }
    if (table.by_name.at(key.name).size() > 1) {
      property["anyOf"] = Json::array({std::move(value)});
    } else {
      property.update(value);
    }
    properties[name] = std::move(property);
    // Files that others include have no version, a profile no output, a formula no kind.
    if (key.required && !table.address.empty() &&
        !(table.address == "light" && key.name == "output") &&
        !(table.address == "solid" && key.name == "kind")) {
      required.push_back(name);
    }
  }
  Json j = {{"type", "object"},
            {"description", table.means},
            {"properties", std::move(properties)},
            {"additionalProperties", false}};
  if (!required.empty()) {
    j["required"] = std::move(required);
  }
  return j;
}

Json keyed_schema() {
  for (const TableDescription& table : rig_schema()) {
    if (table.address == "keyed") {
      Json j = schema_of_table(table);
      j["required"] = {"keys"};
      return j;
    }
  }
  return Json::object();
}

// Rewrites the key tables of a page; the exit status.
int update_page(const std::string& file) {
  const auto page = read_file(file, kMaxRigBytes, "unreadable-file");
  if (!page) {
    throw BadInput{page.problems()};
  }
  const auto updated = with_key_tables(*page, file);
  if (!updated) {
    throw BadInput{updated.problems()};
  }
  if (*updated == *page) {
    print_out(fmt::format("{}: its key tables are true\n", file));
    return kDone;
  }
  write_text_file(file, *updated);
  print_out(fmt::format("{}: key tables rewritten\n", file));
  return kDone;
}

}  // namespace

std::string rig_schema_json() {
  Json j = {{"$schema", "http://json-schema.org/draft-07/schema#"}, {"title", "Jovilux rig"}};
  j.update(schema_of_table(rig_schema().front()));
  j["definitions"] = {{"keyed", keyed_schema()}};
  return json_text(j, 1);
}

namespace {

Usage usage_of_schema() {
  return Usage{
      "schema",
      "",
      "A JSON Schema of the rig file, for editors that check and complete TOML: write\n#:schema "
      "rig.schema.json on the first line of a rig, as jovilux new does.",
      {{"o,output", "write it to a file instead of the terminal", "FILE"},
       {"force", "replace a file that is there", ""},
       {"pages", "rewrite the key tables of a Markdown page, between its marks", "FILE.md"}},
      "A page's tables stand between <!-- keys: TABLE --> and <!-- end of keys -->.",
      "jovilux schema -o rig.schema.json"};
}

}  // namespace

int run_schema(int argc, char** argv) {
  const Arguments arguments(usage_of_schema(), argc, argv);
  if (const auto page = arguments.text("pages")) {
    return update_page(*page);
  }
  const auto file = arguments.text("output");
  if (!file) {
    print_out(rig_schema_json());
    return kDone;
  }
  const std::filesystem::path path(*file);
  prepare_files(path.has_parent_path() ? path.parent_path().string() : ".",
                {path.filename().string()},
                arguments.flag("force"));
  write_text_file(*file, rig_schema_json());
  print_out(fmt::format("{} written: #:schema {} on a rig's first line names it\n", *file, *file));
  return kDone;
}

}  // namespace jovilux::cli
