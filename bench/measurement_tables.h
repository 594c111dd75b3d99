#pragma once

#include <string>

namespace jovilux {

/// `tables`: what track, compare-programs and denoising have printed, lines of JSON in a file, as
/// tables in Markdown, each after its caption: rates, a row for each commit; the gain over an
/// older program, a row for each scene and a column for each length and size; what denoising
/// brings, a row for each picture and a column for each number of samples. Of the same scene under
/// the same conditions the last line counts. Throws std::exception at a file that holds anything
/// else.
int print_measurement_tables(const std::string& file);

}  // namespace jovilux
