#pragma once

#include "jovilux/photometry/falloff.h"
#include "jovilux/photometry/sources.h"
#include "jovilux/scene/scene.h"

#include <optional>
#include <string>
#include <vector>

namespace jovilux {

/// A light whose falloff is to be looked at, along its axis.
struct FalloffSubject {
  std::string name;
  SourceShape shape;
  SourceLevels levels;
  double remaining = 1;  ///< what dimmer, gels and gobo leave
  Falloff law;
};

/// A light of a rig; nothing where it has no axis (of the sky, an object's). Lights that are off
/// show what they would do.
std::optional<FalloffSubject> falloff_subject(const Rig& rig,
                                              const Scene& scene,
                                              std::size_t light);

/// One light over distance, on a surface facing it.
struct FalloffCurveReport {
  std::string name, law;  ///< "none, matches_at 2 m"
  /// With its law; at each distance of the study; NaN inside the source.
  std::vector<double> illuminance_lx;
  std::vector<double> physical_lx;  ///< without
  std::vector<double>
      inverse_square_lx;       ///< of its intensity as seen from far away; empty for endless tubes
  std::vector<double> factor;  ///< illuminance over the physical one
  /// [m], the widest stretch with the factor within 5 % of 1; both 0: nowhere.
  double agrees_from = 0, agrees_to = 0;
  double largest_factor = 1, largest_at = 0, smallest_factor = 1, smallest_at = 0;
  /// [m], from where on nothing is left; 0: never, within the study.
  double ends_at = 0;
};

struct FalloffStudy {
  std::vector<double> distance_m;  ///< increasing, evenly apart in their logarithms
  std::vector<FalloffCurveReport> curves;
};

/// From about 5 cm (or a hundredth of `to`) to `to` > 0 [m]; 24 distances a doubling, the halves of
/// `to` among them.
FalloffStudy study_falloff(const std::vector<FalloffSubject>& subjects, double to);

/// A law in words: "polynomial, 1/(1 + 0.1 d + 0.1 d^2), matches_at 2 m", with near_softening and
/// range.
std::string law_words(const Falloff& f);

/// Where and by how much a law departs from physics, in a sentence.
std::string departure_words(const FalloffCurveReport& curve);

}  // namespace jovilux
