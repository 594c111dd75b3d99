#pragma once

#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

struct KeyDescription;

/// A word that people write for a key or a value of the rig, and what to write instead, where more
/// is to be said than the example of one key.
struct WordHint {
  std::string_view table;  ///< "light", "light.falloff", "light/point" (a kind); empty: any table
  std::string_view word;   ///< as it is written, in lower case
  std::string_view hint;   ///< what to do: the key with an example
};

/// Words of earlier versions, and words of the trade that stand for several keys or for none.
const std::vector<WordHint>& key_words();
/// The same for values of keys that take one of a few words; `table` then is "light.kind", ...
const std::vector<WordHint>& value_words();

/// A word without capital letters, "-", "_" and spaces, which make no difference.
std::string plain_word(std::string_view word);
/// Whether practitioners call a key so.
bool is_called(const KeyDescription& key, std::string_view word);

/// What to write instead of `word` in the table at `address` ("light.key.falloff"), whose kind may
/// be known; empty: not known.
std::string hint_for_key(std::string_view address, std::string_view kind, std::string_view word);
/// The same for a value of the key at `address` ("material.wall.kind").
std::string hint_for_value(std::string_view address, std::string_view word);

}  // namespace jovilux
