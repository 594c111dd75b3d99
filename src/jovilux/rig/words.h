#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// A word that people write for a key or a value of the rig, and what to write instead.
struct WordHint {
  std::string_view table;  ///< "light", "light.falloff", ...; empty: any table
  std::string_view word;   ///< as it is written, in lower case
  std::string_view hint;   ///< what to do: the key with an example
};

/// All of them: words of earlier versions, and those of the trade at large.
const std::vector<WordHint>& key_words();
/// The same for values of keys that take one of a few words; `table` then is "light.kind", ...
const std::vector<WordHint>& value_words();

/// What to write instead of `word` in the table at `address` ("light.key.falloff"); empty: not
/// known. Capital letters, "-" and "_" make no difference.
std::string hint_for_key(std::string_view address, std::string_view word);
/// The same for a value of the key at `address` ("material.wall.kind").
std::string hint_for_value(std::string_view address, std::string_view word);

}  // namespace jovilux
