#pragma once

#include <string>
#include <vector>

namespace jovilux::cli {

/// A small plain rig made for trying one light.
struct TestScene {
  std::string name;
  std::string what;  ///< a line: what it shows
  std::string rig;   ///< its TOML
  /// Where one looks: "x,y" of the picture, in the order of `read_what`.
  std::vector<std::string> read_at;
  std::string read_what;  ///< "the balls at 0.5, 1, 2 and 4 m"
  std::string then;       ///< what to try next
};

const std::vector<TestScene>& test_scenes();

/// The rig that `new` writes where no scene is named.
std::string starter_rig();

}  // namespace jovilux::cli
