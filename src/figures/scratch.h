#pragma once

#include <filesystem>

namespace jovilux::figures {

/// A temporary folder of its own, gone with all that is in it. Throws MachineTrouble where none can
/// be made.
struct Scratch {
  std::filesystem::path dir;
  Scratch();
  ~Scratch();
  Scratch(const Scratch&) = delete;
  Scratch& operator=(const Scratch&) = delete;
};

}  // namespace jovilux::figures
