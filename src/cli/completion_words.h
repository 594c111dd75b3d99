#pragma once

#include <string>
#include <vector>

namespace jovilux::cli {

/// What may stand where the last of `words` is being typed, words[0] being the program: verbs,
/// options, values of options, addresses after --set, names of the rig that a word before names.
/// A candidate that is not the whole of a word ends with "." or "="; after a tab a line about it
/// may follow. Empty: a file's name, or nothing known.
std::vector<std::string> completions(const std::vector<std::string>& words);

}  // namespace jovilux::cli
