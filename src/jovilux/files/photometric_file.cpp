#include "jovilux/files/photometric_file.h"

#include "jovilux/base/text.h"
#include "jovilux/files/read_file.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {

Problem photometric_problem(Severity severity,
                            const std::string& path,
                            std::uint32_t line,
                            std::uint32_t column,
                            std::string text,
                            std::string hint) {
  return {severity, "bad-photometry", {path, line, column}, "", std::move(text), std::move(hint)};
}

void check_photometry(PhotometricFile& file,
                      const std::string& path,
                      std::uint32_t line,
                      Problems& problems) {
  CandelaGrid& g = file.grid;
  const auto note = [&](Severity severity, std::string text, std::string hint = "") {
    problems.push_back(
        photometric_problem(severity, path, line, 0, std::move(text), std::move(hint)));
  };
  // What is read can be written: no number of a file is larger, and its factors are multiplied in.
  constexpr double kMostCandela = 1e12;
  const double peak = g.candela.empty() ? 0 : *std::max_element(g.candela.begin(), g.candela.end());
  if (!(peak <= kMostCandela)) {
    note(Severity::kError,
         fmt::format("intensities up to {} cd with all factors; at most {} cd",
                     short_number(peak),
                     short_number(kMostCandela)),
         "see the multiplier and the lumens of the lamps");
    return;
  }
  const auto degrees_text = [](double rad) { return short_number(rad * 180 / kPiD, 6); };
  for (const auto& [name, angles] :
       {std::pair{"vertical", &g.ver_rad}, std::pair{"horizontal", &g.hor_rad}}) {
    for (std::size_t i = 1; i < angles->size(); ++i) {
      if (!((*angles)[i] > (*angles)[i - 1])) {
        note(Severity::kError,
             fmt::format("{} angles: {} follows {}; angles must increase",
                         name,
                         degrees_text((*angles)[i]),
                         degrees_text((*angles)[i - 1])));
        return;
      }
    }
  }
  constexpr double kTurn = 2 * kPiD, kSlack = 1e-6;
  const double lo = g.ver_rad.front(), hi = g.ver_rad.back();
  const bool is_c = g.type == PhotometricType::kC;
  if (is_c ? lo < -kSlack || hi > kPiD + kSlack
           : lo < -kPiD / 2 - kSlack || hi > kPiD / 2 + kSlack) {
    note(Severity::kError,
         fmt::format("vertical angles run from {} to {}; type {} has {}",
                     degrees_text(lo),
                     degrees_text(hi),
                     to_string(g.type),
                     is_c ? "0 to 180" : "-90 to 90"));
    return;
  }
  if (is_c ? g.hor_rad.front() < -kSlack || g.hor_rad.back() > kTurn + kSlack
           : g.hor_rad.front() < -kPiD / 2 - kSlack || g.hor_rad.back() > kPiD / 2 + kSlack) {
    note(Severity::kError,
         fmt::format("horizontal angles run from {} to {}; type {} has {}",
                     degrees_text(g.hor_rad.front()),
                     degrees_text(g.hor_rad.back()),
                     to_string(g.type),
                     is_c ? "0 to 360" : "-90 to 90"));
    return;
  }
  const auto is = [&](double a, double b) { return std::abs(a - b) < 1e-3; };
  if (is_c && !is(lo, 0) && !is(lo, kPiD / 2)) {
    note(Severity::kWarning,
         fmt::format("vertical angles begin at {}; expected 0 or 90", degrees_text(lo)),
         "below it the light is taken as dark");
  }
  if (is_c && !is(hi, kPiD / 2) && !is(hi, kPiD)) {
    note(Severity::kWarning,
         fmt::format("vertical angles end at {}; expected 90 or 180", degrees_text(hi)),
         "beyond it the light is taken as dark");
  }
  std::size_t negative = 0;
  double highest = 0;
  for (double& v : g.candela) {
    if (v < 0) {
      ++negative;
      v = 0;
    }
    highest = std::max(highest, v);
  }
  if (negative > 0) {
    note(Severity::kWarning,
         fmt::format("{} of the intensities are negative", negative),
         "they are taken as 0");
  }
  if (!(highest > 0)) {
    note(Severity::kError, "all intensities are 0");
    return;
  }
  const double flux = LuminousDistribution(g).flux();
  if (!(flux > 0) || !std::isfinite(flux)) {
    note(Severity::kError, "the table gives no flux: its angles enclose no directions");
    return;
  }
  if (file.lamp_lumens > 0) {
    const double share = flux / file.lamp_lumens;
    if (file.stated_efficiency > 0 && std::abs(share / file.stated_efficiency - 1) > 0.03) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm, {} % of the lamps'; the file states {} %",
                       short_number(flux),
                       short_number(100 * share, 3),
                       short_number(100 * file.stated_efficiency, 3)),
           "the table counts");
    } else if (share > 1.03) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm, but the lamps only {} lm",
                       short_number(flux),
                       short_number(file.lamp_lumens)),
           "the table counts; see the multiplier and the lumens a lamp");
    } else if (share < 0.1) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm of the lamps' {} lm: {} %",
                       short_number(flux),
                       short_number(file.lamp_lumens),
                       short_number(100 * share, 2)),
           "the table counts; see the multiplier and the lumens a lamp");
    }
  }
}

Result<PhotometricFile> load_photometric(const std::string& path) {
  const auto text = read_file(path, kMaxPhotometricBytes, "bad-photometry");
  if (!text) {
    return text.problems();
  }
  return file_ending(path) == ".ldt" ? parse_eulumdat(*text, path) : parse_lm63(*text, path);
}

}  // namespace jovilux
