#pragma once

#include <string>

namespace jovilux {

/// Connections to virtual lights in a rig, one thread: how long it takes to learn them, to trace a
/// set and to choose from it, and how many of those that are chosen nothing stands in the way of.
/// JSON to stdout, a table to stderr. Returns an exit status; 2 where the rig cannot be read or has
/// no light that is worth connecting to.
int bench_connections(const std::string& file);

}  // namespace jovilux
