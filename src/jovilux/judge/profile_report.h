#pragma once

#include "jovilux/files/photometric_file.h"
#include "jovilux/photometry/beam.h"

#include <string>

namespace jovilux {

/// A photometric file in figures.
struct ProfileReport {
  std::string file;
  PhotometricFile data;
  LuminousDistribution distribution;
  double flux_lm = 0, flux_in_front_lm = 0, peak_cd = 0, on_axis_cd = 0;
  double beam_deg[2] = {0, 0};   ///< full angle to 50 % of the peak in C0-C180 and C90-C270
  double field_deg[2] = {0, 0};  ///< to 10 %
  Problems faults;

  /// The wider of both planes.
  double beam() const { return beam_deg[0] > beam_deg[1] ? beam_deg[0] : beam_deg[1]; }
  double field() const { return field_deg[0] > field_deg[1] ? field_deg[0] : field_deg[1]; }
};

Result<ProfileReport> profile_report(const std::string& file);

/// The distribution of a spot of beam and field angle with this flux [lm], as a table: 0 outside
/// the hemisphere in front, steps a fortieth of the beam and at most 1 degree, scaled so that its
/// interpolation has the flux exactly.
PhotometricFile designed_profile(const SpotBeam& beam, double flux);

/// "beam=24deg field=38deg flux=1200lm": the file that it asks for, or what is wrong with it.
struct DesignOrFault {
  std::optional<PhotometricFile> file;
  std::string fault;
};
DesignOrFault parse_design(const std::string& text);

}  // namespace jovilux
