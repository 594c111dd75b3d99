#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/rig/rig.h"

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux::cli {

/// Exit statuses of every command.
enum ExitStatus { kDone = 0, kFellShort = 1, kBadInput = 2, kInterrupted = 3, kMachineFailed = 4 };

/// Bad input whose problems were printed already or are printed on the way out; nothing was
/// written.
struct BadInput {
  Problems problems;
};

/// Control characters of names and titles are shown as "?".
void print_out(std::string_view text);
/// The same with the escape sequences of a picture or progress that we made ourselves.
void print_drawing(std::string_view text);
void print_progress(std::string_view text);
void print_err(std::string_view text);
/// Of processes that mpirun has started, only the first prints; this is for what each has to tell.
void print_err_of_any_rank(std::string_view text);
/// One line each to stderr.
void print_problems(const Problems& problems);

/// Left-aligned text columns, numbers (anything that starts with a digit, sign or "-")
/// right-aligned; two spaces between columns. The first row is the header.
std::string text_table(const std::vector<std::vector<std::string>>& rows);

/// A file's bytes; empty where it cannot be read.
std::string text_of(const std::filesystem::path& file);

/// Whether results in a folder are of this rig: of the same file, edited or not, wherever the
/// program was started; or of a rig with the same scene under another path. `recorded` is the
/// file's path as the results tell it.
bool is_of_rig(const std::string& folder, const std::string& recorded, const Rig& rig);

/// Makes an output folder ready: creates it, refuses one that holds results of another rig unless
/// forced, one that cannot be written. Throws UsageError.
void prepare_folder(const std::string& folder, const Rig& rig, bool force);

/// The figures of a verb that takes long: what needs none is written and told first, and a missing
/// plotting program is told before the work begins.
class FiguresLast {
 public:
  /// Warns where the plotting program is missing.
  FiguresLast();
  /// Draws now, or keeps the reason why that is not possible for finish().
  void draw(const std::function<void()>& figure);
  /// The verb's exit status: `status`, or kMachineFailed with its reason where figures are missing.
  int finish(int status) const;

 private:
  std::string missing_;
};

/// The same for a verb that writes a few named files: creates the folder, refuses files that are
/// there already unless forced. Throws UsageError.
void prepare_files(const std::string& folder, const std::vector<std::string>& names, bool force);

}  // namespace jovilux::cli
