#pragma once

#include <string>

namespace jovilux::cli {

/// The JSON Schema (draft 7) of the rig, as editors' TOML language servers read it.
std::string rig_schema_json();

}  // namespace jovilux::cli
