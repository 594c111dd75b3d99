#pragma once

#include <string>
#include <vector>

namespace jovilux {

/// Renders each rig small on one thread and prints one line of JSON: how many samples it takes in
/// the time of a fixed piece of work beside it, the yardstick, so that figures of different hours
/// and machines of a kind compare. `commit`: what the line is named by. Throws std::runtime_error
/// at a rig that cannot be read.
int track_rates(const std::string& commit, const std::vector<std::string>& rigs);

/// Prints lines of track_rates() in a file as a table in Markdown, a row for each. Throws
/// std::exception at a file that holds anything else.
int print_rates(const std::string& file);

}  // namespace jovilux
