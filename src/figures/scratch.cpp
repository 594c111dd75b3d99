#include "figures/scratch.h"

#include "jovilux/files/atomic_file.h"

#include <cstdlib>
#include <string>

namespace jovilux::figures {

Scratch::Scratch() {
  std::string pattern = (std::filesystem::temp_directory_path() / "jovilux-figure-XXXXXX").string();
  if (::mkdtemp(pattern.data()) == nullptr) {
    throw MachineTrouble("drawing a figure: no temporary folder can be made in " +
                         std::filesystem::temp_directory_path().string());
  }
  dir = pattern;
}

Scratch::~Scratch() {
  std::error_code ec;
  std::filesystem::remove_all(dir, ec);
}

}  // namespace jovilux::figures
