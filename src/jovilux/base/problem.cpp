#include "jovilux/base/problem.h"

template class std::vector<jovilux::Problem>;

namespace jovilux {

std::string to_string(const Place& place) {
  std::string text = place.file;
  if (place.line > 0) {
    text += ":" + std::to_string(place.line);
    if (place.column > 0) {
      text += ":" + std::to_string(place.column);
    }
  }
  return text;
}

bool has_errors(const Problems& problems) {
  for (const Problem& p : problems) {
    if (p.severity == Severity::kError) {
      return true;
    }
  }
  return false;
}

std::string to_string(const Problem& p) {
  std::string text = to_string(p.place);
  text += text.empty() ? "" : ": ";
  text += p.severity == Severity::kError ? "error: " : "warning: ";
  text += p.address.empty() ? p.text : p.address + ": " + p.text;
  return p.hint.empty() ? text : text + "; " + p.hint;
}

Problems one_problem(Problem problem) {
  Problems out;
  out.push_back(std::move(problem));
  return out;
}

}  // namespace jovilux
