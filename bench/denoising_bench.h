#pragma once

#include <string>
#include <vector>

namespace jovilux {

/// `denoising`: denoises renders and prints, of each, how many times less squared error the
/// picture has against a reference of another seed, and how the error that is told compares with
/// the true one: its root mean square, and that of each tenth of the pixels by told error.
/// Relative to the reference's luminance; the reference's own variance is taken off. `pairs`: a
/// render's folder, named PICTURE or PICTURE-SAMPLES, and its reference's, in turn. One line of
/// JSON to stdout, for measurement_tables.h, named by `commit`; a table to stderr.
int denoising_bench(const std::string& commit, const std::vector<std::string>& pairs);

}  // namespace jovilux
