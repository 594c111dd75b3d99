#pragma once

#include "jovilux/rig/rig.h"

#include <string>

#include <catch2/catch.hpp>

namespace jovilux::test {

/// The rig of a text without its first line; requires that it has no errors.
inline Rig rig_of(const std::string& text) {
  auto document = parse_toml("jovilux = 1\n" + text, "rig.toml");
  REQUIRE(document);
  auto rig = read_rig(std::move(*document), "rig.toml");
  for (const Problem& p : rig.problems()) {
    INFO(to_string(p));
    REQUIRE(p.severity == Severity::kWarning);
  }
  REQUIRE(rig);
  return std::move(*rig);
}

}  // namespace jovilux::test
