#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/color/spectra.h"

#include <string>

namespace jovilux {

/// Reads a spectrum by its file's ending: .csv (wavelength in nm and value on each line, separated
/// by comma, semicolon or space; lines that begin with # and one header line are passed over) or
/// .spdx (ANSI/IES TM-27-14). Wavelengths must increase, values must not be negative and must not
/// all be 0 where the eye sees; at least two lines. Linear between the given wavelengths, 0
/// outside.
Result<NmTable> load_spectrum(const std::string& path);

/// The largest spectrum file that is read [bytes].
inline constexpr std::uint64_t kMaxSpectrumBytes = 4U << 20;

}  // namespace jovilux
