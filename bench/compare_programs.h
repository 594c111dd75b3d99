#pragma once

#include <string>
#include <vector>

namespace jovilux {

/// What is compared: two builds of the program on a list of rigs.
struct ProgramComparison {
  std::string before, after;                ///< the programs
  std::string before_commit, after_commit;  ///< what the measurement names them by
  /// Each a file, with options of `render` after it where wanted: "house.toml --camera wide".
  std::vector<std::string> rigs;
  double seconds = 6;              ///< for each render
  double reference_seconds = 120;  ///< for a reference, where `references` has none
  std::string references;          ///< folder that keeps them, RIG.exr; made where it is not there
  int threads = 2;
  int rounds = 1;  ///< renders of each program and rig, in turns, each of its seed
};

/// `compare-programs`: renders each rig by both programs in turn for the same time, and prints the
/// squared error of each against a long reference of another seed: relative to the pixel, without
/// the worst thousandth and without the reference's own variance; the ratio of both, and the
/// geometric mean of all ratios. One line of JSON to stdout, for measurement_tables.h, a table to
/// stderr. Returns an exit status.
int compare_programs(const ProgramComparison& task);

}  // namespace jovilux
