#include "cli/rig_text.h"

#include <algorithm>
#include <cctype>

#include <fmt/format.h>

namespace jovilux::cli {

std::string in_quotes(const std::string& text) {
  std::string out;
  for (const char c : text) {
    out += c == '"' || c == '\\'                 ? std::string("\\") + c
           : static_cast<unsigned char>(c) < ' ' ? std::string("?")
                                                 : std::string(1, c);
  }
  return out;
}

std::string plain_name(const std::string& wanted,
                       const std::string& otherwise,
                       std::vector<std::string>& given) {
  std::string out;
  for (const char c : wanted.substr(0, 60)) {
    out += std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-' || c == '_' ? c : '-';
  }
  if (out.find_first_not_of('-') == std::string::npos) {
    out = otherwise;
  }
  std::string unique = out;
  for (int i = 2; std::find(given.begin(), given.end(), unique) != given.end(); ++i) {
    unique = fmt::format("{}-{}", out, i);
  }
  given.push_back(unique);
  return unique;
}

std::string triple(const Vec3d& p) {
  return fmt::format("[{:.6g}, {:.6g}, {:.6g}]", p.x() + 0.0, p.y() + 0.0, p.z() + 0.0);
}

}  // namespace jovilux::cli
