#pragma once

#include "jovilux/color/rgb.h"

#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

namespace jovilux {

/// What names a view transform of an OpenColorIO configuration. Empty names are the
/// configuration's own defaults.
struct StudioTransformSpec {
  std::string config;         ///< path of the configuration
  std::string display, view;  ///< the view's own looks are part of it
  std::string look;           ///< looks instead of the view's own; "" keeps them
  /// The color space of the configuration that is linear Rec.709 with a white of D65; empty: found
  /// by the configuration's role aces_interchange.
  std::string input;
};

/// Why a transform cannot be made: the key at fault ("config", "display", "view", "look" or
/// "input"), and what there is instead.
struct StudioTransformFault {
  std::string key, text, hint;
  std::vector<std::string> known;  ///< names that the key takes
};

/// A view transform of a studio's own, by OpenColorIO (an optional part of the program). Immutable;
/// may be asked by several threads.
class StudioTransform {
 public:
  /// Opens the configuration. A fault where the part is not built in, the file cannot be read, or a
  /// name is not in it.
  static std::variant<std::shared_ptr<const StudioTransform>, StudioTransformFault> open(
      const StudioTransformSpec& spec);
  /// Whether the program was built with OpenColorIO.
  static bool is_built_in();
  virtual ~StudioTransform() = default;

  /// What the display is sent, 0..1 each, of linear Rec.709 (0.18 is the gray of the exposure).
  virtual Rgb encoded(const Rgb& linear) const = 0;
  /// The other way round; nothing where the transform has no inverse.
  virtual std::optional<Rgb> linear(const Rgb& encoded) const = 0;
  /// The smallest gray that is shown as the whitest that any gray is; at most 2^16.
  double white() const;
  const StudioTransformSpec& spec() const { return spec_; }

 protected:
  explicit StudioTransform(StudioTransformSpec spec) : spec_(std::move(spec)) {}

 private:
  StudioTransformSpec spec_;
};

/// Linear Rec.709 to linear Rec.2020 (ITU-R BT.2087): the axes of baked(), in which the colors of
/// lamps have no negative part.
Eigen::Matrix3d rec2020_from_rec709();

/// A transform as a cube of values, for programs that have no OpenColorIO: of linear Rec.2020 x,
/// `side` steps along each axis of log2(1 + kBakedSteepness x) / log2(1 + kBakedSteepness
/// kBakedEnd), red fastest, three encoded values in [0, 1] each.
inline constexpr double kBakedSteepness = 65536, kBakedEnd = 64;
std::vector<float> baked(const StudioTransform& transform, int side);

}  // namespace jovilux
