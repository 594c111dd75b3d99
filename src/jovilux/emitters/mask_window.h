#pragma once

#include "jovilux/emitters/emitter.h"

#include <array>
#include <optional>
#include <utility>

namespace jovilux {

/// Where the ray of light from `place` to p, along wi from p, crosses the plane of the light's mask
/// [m, in the frame's x and
/// y]; false where the mask does not lie between them.
bool mask_crossing(
    const Emitter& e, const Vec3& p, const Vec3& place, const Vec3& wi, float& x, float& y);

/// The part of a mask through which a point p sees a light of some size: a disk, a rectangle, a
/// spot's lens or the sun's disc cast onto the mask's plane. Chooses places on the light by what
/// the mask lets through, so that the edge of a mask's shadow is as quiet as a place in the open. q
/// is the place in the light's plane in its frame's x and y [m]; of the sun, where the ray crosses
/// the mask's plane, from where the sun's axis through p does.
class MaskWindow {
 public:
  /// kRough: for open() only, of a square as large where the window is round.
  enum class Detail { kFull, kRough };
  MaskWindow(const Emitter& e, const Vec3& p, Detail detail = Detail::kFull);

  /// Whether there are masks of lights like this to choose places by.
  static bool suits(const Emitter& e) {
    return e.detail != nullptr && e.detail->gobo &&
           (e.is_distant() || ((e.kind == LightKind::kRect || e.kind == LightKind::kDisk ||
                                e.kind == LightKind::kSpot) &&
                               !e.is_zero_size()));
  }

  /// Nothing comes through at all.
  bool dark() const { return crossed_ && !(total_ > 0); }
  /// The share of the window that lets light through, in [0, 1]; 1 where no mask lies between.
  float open() const { return crossed_ ? static_cast<float>(std::min(1.0, total_ / area_)) : 1.0f; }
  /// The share of samples that choosing by the mask should get, in [0, 1]: the rest is chosen as if
  /// there were no mask, for what lies nearer or shines more. 0 where the mask makes no difference
  /// within the window.
  float share() const { return share_; }
  /// Chooses a place by u in [0, 1)^2, with the density of it; only with a share above 0.
  std::pair<Eigen::Vector2d, double> place(const Vec2& u) const;
  /// Density with which place() chooses q [1/m^2]; 0 outside of the light.
  double density(const Eigen::Vector2d& q) const;

  /// The place that the unit direction wi from p sees, where `at` is on the light.
  Eigen::Vector2d seen(const Vec3& wi, const Vec3& at) const;
  /// From p to the mask's plane along the axis; the sun's only.
  double height() const { return height_; }

 private:
  static constexpr int kStrips = 6;

  struct Strip {
    double s0 = 0, s1 = 0, weight = 0;
  };

  // How the light is seen on the mask: places on it times `scale`, moved by `shift` [m]; the radius
  // of a round one [m]; the relative variance of what its places send.
  struct Seen {
    double scale, radius;
    Eigen::Vector2d shift;
    double unevenness;
  };

  std::optional<Seen> seen_of_sun(const Vec3& p);
  std::optional<Seen> seen_of_lamp(const Vec3& p);
  void place_window(const Seen& seen);
  void measure_strips();
  void choose_share(double unevenness);
  std::pair<double, double> chord(double r) const;
  std::pair<double, double> widest(double r0, double r1) const;
  double density(const Eigen::Vector2d& tile, const Strip& strip, double s0, double s1) const;

  const Emitter& light_;
  const MaskSums* sums_ = nullptr;
  Eigen::Vector2d p_ = Eigen::Vector2d::Zero();
  double height_ = 0;
  bool crossed_ = false, round_ = false;
  Eigen::Matrix2d to_tiles_ = Eigen::Matrix2d::Identity();  // of q
  Eigen::Vector2d center_ = Eigen::Vector2d::Zero();        // of the window, in tiles
  // Of an ellipse, or of the box around a rectangle.
  Eigen::Vector2d half_ = Eigen::Vector2d::Zero();
  std::array<Eigen::Vector2d, 4> corners_{};  // of a rectangle, around
  std::array<Strip, kStrips> strips_{};
  int count_ = 0;
  double area_ = 0, total_ = 0;  // [tiles^2]
  float share_ = 0;
};

}  // namespace jovilux
