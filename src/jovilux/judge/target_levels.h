#pragma once

#include "jovilux/judge/balance.h"
#include "jovilux/judge/metering.h"

#include <vector>

namespace jovilux {

/// What meters show with solved levels, and with every light that is not fixed at full; in the
/// meters' units.
struct TargetLevels {
  std::vector<double> got, most;
};

/// Levels (`times`, with their standard errors) of the lights that are not fixed, which bring the
/// meters to the wanted values, > 0, changing as little as will do; at most full dimmers. A grid
/// counts by its average. `measured`: one result for each wanted value, with the lights as
/// rendered.
TargetLevels solve_target_levels(const std::vector<MeterResult>& measured,
                                 const std::vector<double>& wanted,
                                 std::vector<BalancedLight>& lights);

}  // namespace jovilux
