#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/geometry/transform.h"
#include "jovilux/optics/density.h"

#include <cstdint>
#include <optional>
#include <string>

namespace jovilux {

/// Reads a grid of a .vdb file, moved by `place`. The program jovilux-vdb beside this one does the
/// reading, with limits of time and memory (256 MB and 64 times the file's size, at most 8 GB), and
/// sends it here:
///
///     "JVDG"; 12 doubles, the rows [linear | offset] from lattice to world; 3 int32, where the
///     lattice begins; 3 int32, its
///     blocks of 8 on each axis; uint64, how many blocks follow; each 3 int32, its first point, and
///     512 floats, x fastest
///
/// Any bytes at all give a grid or problems.
Result<DensityGrid> load_density_grid(const std::string& path,
                                      const std::string& grid,
                                      const Transform& place);

/// The grid that such a stream holds; nothing where it does not hold a whole one, or one that takes
/// more than `most_bytes`.
std::optional<DensityGrid> read_density_stream(int fd,
                                               const Transform& place,
                                               std::uint64_t most_bytes);

}  // namespace jovilux
