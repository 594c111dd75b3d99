#pragma once

#include "jovilux/photometry/sources.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// One light in every unit.
struct Conversion {
  SourceLevels levels;
  struct At {
    double distance_m = 0;
    /// On a surface facing it, on its axis; empty inside the source.
    std::optional<double> illuminance_lx;
  };
  std::vector<At> illuminance;
  std::optional<double> power_w;  ///< where an efficacy is known
  std::optional<double> efficacy_lm_w;
  /// Of an incident meter at the first distance (of the sun: anywhere).
  std::optional<double> ev100;
  std::optional<double> ev100_surface;  ///< of a spot meter on the luminous surface
};

struct ConversionOrFault {
  std::optional<Conversion> conversion;
  std::string fault;
};

/// `distances` in meters, each > 0, at least one; `efficacy` in lm/W, 0 for none.
ConversionOrFault convert_light(const SourceShape& shape,
                                const Output& output,
                                const std::vector<double>& distances,
                                double efficacy);

}  // namespace jovilux
