#pragma once

#include "jovilux/base/problem.h"
#include "jovilux/photometry/distribution.h"

#include <string>
#include <string_view>

namespace jovilux {

/// What an ANSI/IES LM-63 or EULUMDAT file says. Intensities are in cd with all factors applied,
/// angles in rad, lengths in m.
struct PhotometricFile {
  std::string format;  ///< "LM-63-2002", "EULUMDAT", ...
  std::string maker, luminaire, catalog, lamp, test;
  CandelaGrid grid;
  double lamp_lumens = 0;  ///< of all lamps; 0: absolute photometry, the table alone counts
  int lamps = 1;
  double watts = 0;              ///< 0: not stated
  double stated_efficiency = 0;  ///< EULUMDAT's light output ratio, 0..1; 0: not stated
  /// Of the luminous opening; width < 0: round, its diameter.
  double width = 0, length = 0, height = 0;
};

/// The largest photometric file that is read [bytes], and the most values in its table.
inline constexpr std::uint64_t kMaxPhotometricBytes = 16ULL << 20;
inline constexpr std::size_t kMaxCandelaValues = 1'000'000;

/// Reads ".ies" (LM-63 of 1986, 1991, 1995, 2002, 2019) or ".ldt" (EULUMDAT) by its ending. A file
/// that contradicts itself but can be read gives warnings with their places; problems() of the
/// result holds them.
Result<PhotometricFile> load_photometric(const std::string& path);

/// `path` is for messages. Any bytes at all give a distribution or problems.
Result<PhotometricFile> parse_lm63(std::string_view text, const std::string& path);
Result<PhotometricFile> parse_eulumdat(std::string_view text, const std::string& path);

/// The file's text in LM-63-2019. In EULUMDAT, types A and B are resampled to type C planes each 5
/// degrees; with lamp lumens unknown, the distribution's own flux stands for them.
std::string lm63_text(const PhotometricFile& file);
std::string eulumdat_text(const PhotometricFile& file);

/// A problem in a photometric file.
Problem photometric_problem(Severity severity,
                            const std::string& path,
                            std::uint32_t line,
                            std::uint32_t column,
                            std::string text,
                            std::string hint = "");

/// What holds for both formats: angles that increase, known symmetries, intensities of at least 0
/// and somewhere above it, flux against the lamps'. Adds to `problems`; an error means that the
/// grid has no meaning.
void check_photometry(PhotometricFile& file,
                      const std::string& path,
                      std::uint32_t line,
                      Problems& problems);

}  // namespace jovilux
