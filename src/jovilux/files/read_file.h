#pragma once

#include "jovilux/base/problem.h"

#include <cstdint>
#include <string>

namespace jovilux {

/// The whole of a file of at most `most` bytes; a problem with `code` where it is missing, too
/// large or cannot be read.
Result<std::string> read_file(const std::string& path, std::uint64_t most, const std::string& code);

/// The ending of a file's name in lower case: ".ies"; empty without one.
std::string file_ending(const std::string& path);

}  // namespace jovilux
