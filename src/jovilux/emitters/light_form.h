#pragma once

#include "jovilux/emitters/emitter.h"

#include <cstddef>

namespace jovilux {

/// The directions into which a light shines: up to `around` from axes that lie up to `half` from
/// `axis` [rad].
struct ShiningCone {
  Vec3 axis = Vec3::UnitZ();
  float half = kPi;
  float around = kPi;
};

/// What one form of light does, bare: without masks, tints, links and departures, which emitter.cpp
/// and expected_light.cpp add for all forms alike. A new form is one record more.
struct LightForm {
  /// A place chosen by u in [0, 1)^2 as seen from p, for a surface on `side`; see sample_toward().
  LightSample (*sample)(const Emitter& e, const Vec3& p, const Vec2& u, const Vec3* side);
  /// Density of `sample` over solid angle [1/sr]; see light_pdf().
  float (*pdf)(
      const Emitter& e, const Vec3& p, const Vec3& wi, const LightPlace& at, const Vec3* side);
  /// Along a direction from an eye [cd/m2]; see seen_luminance().
  float (*luminance)(const Emitter& e, const Vec3& along, const LightPlace& at);
  /// An estimate of what it brings to a surface with unit normal n at p [lx], without falloff; see
  /// expected_illuminance().
  float (*expected_illuminance)(const Emitter& e, const Vec3& p, const Vec3& n);
  /// About the highest intensity [cd]; 0 of distant lights.
  float (*peak_intensity)(const Emitter& e);
  /// Radius of the ball around its center that holds it [m]; 0 without size, 0 of distant lights.
  float (*reach)(const Emitter& e);
  ShiningCone (*shining_cone)(const Emitter& e);
  /// Whether a distant light fills the unit direction `along`, away from the eye.
  bool (*covers)(const Emitter& e, const Vec3& along);
};

extern const LightForm kPointForm, kSpotForm, kSphereForm, kDiskForm, kRectForm, kTubeForm,
    kObjectForm, kSunForm, kSkyForm, kDomeForm;

inline const LightForm& form_of(const Emitter& e) {
  static constexpr const LightForm* kForms[] = {&kPointForm,  // in the order of LightKind
                                                &kSpotForm,
                                                &kSphereForm,
                                                &kDiskForm,
                                                &kRectForm,
                                                &kTubeForm,
                                                &kObjectForm,
                                                &kSunForm,
                                                &kSkyForm,
                                                &kDomeForm};
  return *kForms[static_cast<std::size_t>(e.kind)];
}

/// Radius of the ball around its center that holds a light [m]; 0 for a light without size and for
/// a distant one.
inline float reach_of(const Emitter& e) { return form_of(e).reach(e); }

/// Functions that several records share.
inline ShiningCone shines_everywhere(const Emitter&) { return {}; }
inline bool covers_nothing(const Emitter&, const Vec3&) { return false; }
inline float no_reach(const Emitter&) { return 0; }

}  // namespace jovilux
