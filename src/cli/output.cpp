#include "cli/output.h"

#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/json.h"
#include "jovilux/render/picture_files.h"

#include <algorithm>
#include <cstdio>
#include <filesystem>
#include <fstream>
#include <limits>

#include "cli/arguments.h"
#include "figures/plot.h"
#include "ranks/ranks.h"
#include <fmt/format.h>
#include <unistd.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// What is printed on purpose may be as long as it is.
constexpr std::size_t kAnyLength = std::numeric_limits<std::size_t>::max();

// Characters, not bytes: UTF-8 continuation bytes do not count.
std::size_t shown_width(const std::string& text) {
  return static_cast<std::size_t>(std::count_if(text.begin(), text.end(), [](char c) {
    return (static_cast<unsigned char>(c) & 0xC0) != 0x80;
  }));
}

bool looks_like_number(const std::string& text) {
  return !text.empty() && (std::isdigit(static_cast<unsigned char>(text[0])) || text[0] == '-' ||
                           text[0] == '+' || text[0] == '<');
}

}  // namespace

void print_out(std::string_view text) { print_drawing(terminal_safe(text, kAnyLength)); }

// A full disk or a closed pipe is told: output that is cut short in silence would be read as all of
// it.
void print_drawing(std::string_view text) {
  if (!Ranks::of_this_run().first()) {
    return;
  }
  if (std::fwrite(text.data(), 1, text.size(), stdout) != text.size() || std::fflush(stdout) != 0) {
    throw MachineTrouble("writing to standard output failed");
  }
}

void print_err(std::string_view text) { print_progress(terminal_safe(text)); }

void print_progress(std::string_view text) {
  if (Ranks::of_this_run().first()) {
    print_err_of_any_rank(text);
  }
}

void print_err_of_any_rank(std::string_view text) {
  std::fwrite(text.data(), 1, text.size(), stderr);
}

void print_problems(const Problems& problems) {
  for (const Problem& p : problems) {
    print_err(to_string(p) + "\n");
  }
}

// Columns of numbers are set right, others left; headings follow their column.
std::string text_table(const std::vector<std::vector<std::string>>& rows) {
  std::vector<std::size_t> width;
  std::vector<bool> right;
  for (const auto& row : rows) {
    width.resize(std::max(width.size(), row.size()));
    right.resize(width.size(), true);
  }
  for (std::size_t r = 0; r < rows.size(); ++r) {
    for (std::size_t c = 0; c < rows[r].size(); ++c) {
      width[c] = std::max(width[c], shown_width(rows[r][c]));
      if (r > 0 && !rows[r][c].empty() && !looks_like_number(rows[r][c])) {
        right[c] = false;
      }
    }
  }
  std::string out;
  for (const auto& row : rows) {
    std::string line;
    for (std::size_t c = 0; c < row.size(); ++c) {
      const std::string pad(width[c] - shown_width(row[c]), ' ');
      line += (c > 0 ? "  " : "") + (right[c] ? pad + row[c] : row[c] + pad);
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + "\n";
  }
  return out;
}

namespace {

// Creates a folder, or finds that it can be written.
void make_writable(const std::string& folder) {
  const fs::path dir(folder);
  std::error_code ec;
  const bool existed = fs::is_directory(dir, ec);
  fs::create_directories(dir, ec);
  if (ec) {
    throw UsageError(
        fmt::format("-o {}: the folder cannot be made: {}", printable(folder, 200), ec.message()));
  }
  // The only sure sign that a folder can be written is a file in it, of a name by chance: several
  // machines may look at once.
  std::string probe = (dir / ".jovilux-XXXXXX").string();
  const int file = ::mkstemp(probe.data());
  if (file < 0) {
    if (!existed) {
      fs::remove(dir, ec);
    }
    throw UsageError(fmt::format("-o {}: the folder cannot be written", printable(folder, 200)));
  }
  ::close(file);
  fs::remove(probe, ec);
}

}  // namespace

std::string text_of(const fs::path& file) {
  std::ifstream in(file);
  std::ostringstream out;
  out << in.rdbuf();
  return out.str();
}

namespace {

// A rig's text without what only says how it is rendered and seen.
std::string scene_text(DocumentNode document) {
  std::erase_if(document.table(), [](const DocumentEntry& e) {
    return e.key == "render" || e.key == "look" || e.key == "meter" || e.key == "variant" ||
           e.key == "title";
  });
  return to_toml(document);
}

// Whether a rig's text, as a render kept it, has the scene of this rig.
bool is_one_scene(const std::string& kept, const Rig& rig, const std::string& folder) {
  auto document = parse_toml(kept, "rig.resolved.toml");
  auto mine = parse_toml(resolved_toml(rig, folder), "rig");
  return !kept.empty() && document && mine &&
         scene_text(std::move(*document)) == scene_text(std::move(*mine));
}

// The resolved rig that a picture tells; empty where it tells none. A render that was killed while
// it saved leaves a picture without stats.json.
std::string rig_in_picture(const std::string& file) {
  const auto exr = ExrReader::open(file);
  if (!exr) {
    return "";
  }
  const auto text = exr->header().texts.find(kRigAttribute);
  return text != exr->header().texts.end() ? text->second : "";
}

}  // namespace

bool is_of_rig(const std::string& folder, const std::string& recorded, const Rig& rig) {
  std::error_code ec;
  if (fs::path(recorded).is_absolute() &&
      fs::weakly_canonical(recorded, ec) == fs::weakly_canonical(rig.file, ec)) {
    return true;
  }
  return is_one_scene(text_of(fs::path(folder) / "rig.resolved.toml"), rig, folder);
}

void prepare_folder(const std::string& folder, const Rig& rig, bool force) {
  std::error_code ec;
  const fs::path dir(folder);
  if (fs::exists(dir, ec) && !fs::is_directory(dir, ec)) {
    throw UsageError(fmt::format("-o {}: is a file, not a folder", printable(folder, 200)));
  }
  if (!force && fs::exists(dir / "stats.json", ec)) {
    const Json stats = read_json((dir / "stats.json").string());
    const std::string path = text_in(stats, "rig_path");
    const std::string other = path.empty() ? text_in(stats, "rig") : path;
    if (!is_of_rig(folder, other, rig)) {
      throw UsageError(
          fmt::format("-o {}: the folder holds results of another rig ({}); choose another folder, "
                      "or add --force to replace them",
                      printable(folder, 200),
                      other.empty() ? "unknown" : printable(other, 200)));
    }
  } else if (!force && (fs::exists(dir / "image.exr", ec) || fs::exists(dir / "view.png", ec))) {
    const std::string kept = rig_in_picture((dir / "image.exr").string());
    if (!is_one_scene(kept, rig, folder)) {
      throw UsageError(
          fmt::format("-o {}: the folder holds pictures of {}; choose another folder, "
                      "or add --force to replace them",
                      printable(folder, 200),
                      kept.empty() ? "unknown origin" : "another rig"));
    }
  }
  make_writable(folder);
}

void prepare_files(const std::string& folder, const std::vector<std::string>& names, bool force) {
  std::error_code ec;
  const fs::path dir(folder);
  if (fs::exists(dir, ec) && !fs::is_directory(dir, ec)) {
    throw UsageError(fmt::format("-o {}: is a file, not a folder", printable(folder, 200)));
  }
  for (const std::string& name : names) {
    if (!force && fs::exists(dir / name, ec)) {
      throw UsageError(fmt::format("{} exists; choose another folder, or add --force to replace it",
                                   printable((dir / name).string(), 200)));
    }
  }
  make_writable(folder);
}

FiguresLast::FiguresLast() {
  if (!figures::plotter_is_there()) {
    print_err("warning: " + std::string(figures::PlotterMissing().what()) +
              "; all else is written\n");
  }
}

void FiguresLast::draw(const std::function<void()>& figure) {
  try {
    figure();
  } catch (const figures::PlotterMissing& e) {
    missing_ = e.what();
  }
}

int FiguresLast::finish(int status) const {
  if (missing_.empty()) {
    return status;
  }
  print_err("error: " + missing_ + "; run the same command again once it is there\n");
  return kMachineFailed;
}

}  // namespace jovilux::cli
