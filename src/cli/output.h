#pragma once

#include "jovilux/base/problem.h"

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

void print_out(std::string_view text);
void print_err(std::string_view text);
/// Of processes that mpirun has started, only the first prints; this is for what each has to tell.
void print_err_of_any_rank(std::string_view text);
/// One line each to stderr.
void print_problems(const Problems& problems);

/// Left-aligned text columns, numbers (anything that starts with a digit, sign or "-")
/// right-aligned; two spaces
/// between columns. The first row is the header.
std::string text_table(const std::vector<std::vector<std::string>>& rows);

/// Makes an output folder ready: creates it, refuses one that holds results of another rig unless
/// forced, one that
/// cannot be written. Throws UsageError.
void prepare_folder(const std::string& folder, const std::string& rig_file, bool force);

/// The same for a verb that writes a few named files: creates the folder, refuses files that are
/// there already unless
/// forced. Throws UsageError.
void prepare_files(const std::string& folder, const std::vector<std::string>& names, bool force);

}  // namespace jovilux::cli
