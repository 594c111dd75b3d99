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

namespace {

// What is found in a photometric file, with its place.
class PhotometryChecks {
 public:
  PhotometryChecks(PhotometricFile& file,
                   const std::string& path,
                   std::uint32_t line,
                   Problems& problems)
      : file_(file), grid_(file.grid), path_(path), line_(line), problems_(problems) {}

  void run() {
    if (!peak_is_in_range() || !angles_increase() || !angles_are_of_the_type()) {
      return;
    }
    ends_of_vertical_angles();
    if (!has_light()) {
      return;
    }
    const double flux = LuminousDistribution(grid_).flux();
    if (!(flux > 0) || !std::isfinite(flux)) {
      note(Severity::kError, "the table gives no flux: its angles enclose no directions");
    } else if (file_.lamp_lumens > 0) {
      lumens_of_lamps(flux);
    }
  }

 private:
  static constexpr double kSlack = 1e-6;  // radians

  void note(Severity severity, std::string text, std::string hint = "") {
    problems_.push_back(
        photometric_problem(severity, path_, line_, 0, std::move(text), std::move(hint)));
  }
  static std::string degrees_text(double rad) { return short_number(rad * 180 / kPiD, 6); }
  bool is_type_c() const { return grid_.type == PhotometricType::kC; }

  // What is read can be written: no number of a file is larger, and its factors are multiplied in.
  bool peak_is_in_range() {
    constexpr double kMostCandela = 1e12;
    const double peak =
        grid_.candela.empty() ? 0 : *std::max_element(grid_.candela.begin(), grid_.candela.end());
    if (peak <= kMostCandela) {
      return true;
    }
    note(Severity::kError,
         fmt::format("intensities up to {} cd with all factors; at most {} cd",
                     short_number(peak),
                     short_number(kMostCandela)),
         "see the multiplier and the lumens of the lamps");
    return false;
  }

  bool angles_increase() {
    for (const auto& [name, angles] :
         {std::pair{"vertical", &grid_.ver_rad}, std::pair{"horizontal", &grid_.hor_rad}}) {
      for (std::size_t i = 1; i < angles->size(); ++i) {
        if (!((*angles)[i] > (*angles)[i - 1])) {
          note(Severity::kError,
               fmt::format("{} angles: {} follows {}; angles must increase",
                           name,
                           degrees_text((*angles)[i]),
                           degrees_text((*angles)[i - 1])));
          return false;
        }
      }
    }
    return true;
  }

  // Whether angles lie within the range of the file's type, which is told in degrees as `range`.
  bool lie_within(const char* name,
                  const std::vector<double>& angles,
                  double least,
                  double most,
                  const char* range) {
    if (angles.front() >= least - kSlack && angles.back() <= most + kSlack) {
      return true;
    }
    note(Severity::kError,
         fmt::format("{} angles run from {} to {}; type {} has {}",
                     name,
                     degrees_text(angles.front()),
                     degrees_text(angles.back()),
                     to_string(grid_.type),
                     range));
    return false;
  }
  bool angles_are_of_the_type() {
    constexpr double kQuarter = kPiD / 2;
    const bool c = is_type_c();
    return lie_within("vertical",
                      grid_.ver_rad,
                      c ? 0 : -kQuarter,
                      c ? kPiD : kQuarter,
                      c ? "0 to 180" : "-90 to 90") &&
           lie_within("horizontal",
                      grid_.hor_rad,
                      c ? 0 : -kQuarter,
                      c ? 2 * kPiD : kQuarter,
                      c ? "0 to 360" : "-90 to 90");
  }

  void ends_of_vertical_angles() {
    const double lo = grid_.ver_rad.front(), hi = grid_.ver_rad.back();
    const auto is = [](double a, double b) { return std::abs(a - b) < 1e-3; };
    // A table of one hemisphere begins or ends at 90 degrees.
    if (is_type_c() && !is(lo, 0) && !is(lo, kPiD / 2)) {
      note(Severity::kWarning,
           fmt::format("vertical angles begin at {}; expected 0 or 90", degrees_text(lo)),
           "below it the light is taken as dark");
    }
    if (is_type_c() && !is(hi, kPiD / 2) && !is(hi, kPiD)) {
      note(Severity::kWarning,
           fmt::format("vertical angles end at {}; expected 90 or 180", degrees_text(hi)),
           "beyond it the light is taken as dark");
    }
  }

  // Negative intensities become 0.
  bool has_light() {
    std::size_t negative = 0;
    double highest = 0;
    for (double& v : grid_.candela) {
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
    }
    return highest > 0;
  }

  void lumens_of_lamps(double flux) {
    const double share = flux / file_.lamp_lumens;
    // 3 % are allowed for rounded values and for interpolation between few angles.
    if (file_.stated_efficiency > 0 && std::abs(share / file_.stated_efficiency - 1) > 0.03) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm, {} % of the lamps'; the file states {} %",
                       short_number(flux),
                       short_number(100 * share, 3),
                       short_number(100 * file_.stated_efficiency, 3)),
           "the table counts");
    } else if (share > 1.03) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm, but the lamps only {} lm",
                       short_number(flux),
                       short_number(file_.lamp_lumens)),
           "the table counts; see the multiplier and the lumens a lamp");
    } else if (share < 0.1) {
      note(Severity::kWarning,
           fmt::format("the table gives {} lm of the lamps' {} lm: {} %",
                       short_number(flux),
                       short_number(file_.lamp_lumens),
                       short_number(100 * share, 2)),
           "the table counts; see the multiplier and the lumens a lamp");
    }
  }

  PhotometricFile& file_;
  CandelaGrid& grid_;
  const std::string& path_;
  std::uint32_t line_;
  Problems& problems_;
};

}  // namespace

void check_photometry(PhotometricFile& file,
                      const std::string& path,
                      std::uint32_t line,
                      Problems& problems) {
  PhotometryChecks(file, path, line, problems).run();
}

Result<PhotometricFile> load_photometric(const std::string& path) {
  const auto text = read_file(path, kMaxPhotometricBytes, "bad-photometry");
  if (!text) {
    return text.problems();
  }
  return file_ending(path) == ".ldt" ? parse_eulumdat(*text, path) : parse_lm63(*text, path);
}

}  // namespace jovilux
