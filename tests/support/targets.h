#pragma once

#include "jovilux/geometry/world.h"

#include <hwy/targets.h>

namespace jovilux::test {

/// Runs `body` on each set of vector instructions that this machine has, with its name.
template <class Body>
void on_each_target(const Body& body) {
  for (const std::int64_t target : hwy::SupportedAndGeneratedTargets()) {
    hwy::SetSupportedTargetsForTest(target);
    hwy::GetChosenTarget().Update(hwy::SupportedTargets());
    body(World::instruction_set());
  }
  hwy::SetSupportedTargetsForTest(0);
  hwy::GetChosenTarget().Update(hwy::SupportedTargets());
}

}  // namespace jovilux::test
