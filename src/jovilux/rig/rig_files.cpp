#include "jovilux/base/text.h"
#include "jovilux/rig/rig.h"
#include "jovilux/rig/schema.h"

#include <filesystem>
#include <functional>
#include <set>

namespace jovilux {
namespace {

namespace fs = std::filesystem;

// Symbolic links resolved as far as the path is there: what ".." means after a link depends on
// where the link leads.
fs::path resolved_path(const fs::path& path) {
  std::error_code ec;
  fs::path out = fs::weakly_canonical(fs::absolute(path), ec);
  return ec ? fs::absolute(path).lexically_normal() : out;
}

}  // namespace

std::string path_from(const Place& place, const std::string& name) {
  const fs::path given(name);
  if (given.is_absolute() || place.line == 0) {
    return name;
  }
  return (fs::path(place.file).parent_path() / given).string();
}

void take_files_from_folder_of(DocumentNode& document, const std::string& rig_file) {
  each_file_name(document, [&](DocumentNode& name, const KeyDescription&) {
    if (name.place.line == 0 && fs::path(name.text()).is_relative()) {
      name.value = (fs::path(rig_file).parent_path() / name.text()).string();
    }
  });
}

std::vector<std::string> files_of(const Rig& rig) {
  std::set<std::string> files = {rig.file};
  // Whatever a value of the text stands in, down to the last.
  const std::function<void(const DocumentNode&)> places = [&](const DocumentNode& node) {
    if (node.place.line > 0) {
      files.insert(node.place.file);
    }
    if (node.is_table()) {
      for (const DocumentEntry& e : node.table()) {
        places(e.value);
      }
    } else if (node.is_array()) {
      for (const DocumentNode& item : node.array()) {
        places(item);
      }
    }
  };
  places(rig.document);
  DocumentNode document = rig.document;
  each_file_name(document, [&](DocumentNode& name, const KeyDescription&) {
    files.insert(path_from(name.place, name.text()));
  });
  return {files.begin(), files.end()};
}

std::string resolved_toml(const Rig& rig, const std::string& folder) {
  DocumentNode document = rig.document;
  const fs::path kept_in = resolved_path(folder);
  each_file_name(document, [&](DocumentNode& name, const KeyDescription&) {
    const fs::path file = resolved_path(path_from(name.place, name.text()));
    name.value = file.lexically_relative(kept_in).string();
  });
  return "# " + (rig.title.empty() ? std::string("A rig") : printable(rig.title, 200)) +
         ", all includes and overrides applied.\n" + to_toml(document);
}

}  // namespace jovilux
