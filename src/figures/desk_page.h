#pragma once

#include "jovilux/color/studio_transform.h"
#include "jovilux/judge/layer_scaling.h"

#include <Eigen/Core>
#include <array>
#include <optional>
#include <string>
#include <vector>

namespace jovilux::figures {

/// A layer of the picture, and the light that it is of.
struct DeskLight {
  std::string name, group;                  ///< group: empty for none
  const std::vector<float>* rgb = nullptr;  ///< linear Rec.709 [cd/m2], 3 a pixel, from the top
  LayerControls controls;
  std::vector<LayerAddress> addresses;
};

struct DeskMeter {
  std::string name, unit;
  std::optional<std::pair<double, double>> target;
  std::vector<double> parts;  ///< of each light, as rendered
};

struct DeskPage {
  std::string title;
  int width = 0, height = 0;
  bool denoised = false, film = true;
  double ev = 0, scale = 1;  ///< of the view: display value in front of the curve per cd/m2
  Eigen::Matrix3d balance = Eigen::Matrix3d::Identity();
  /// A studio's own transform instead of the curve, as baked() gives it with kDeskCubeSide; empty:
  /// none.
  std::vector<float> cube;
  std::vector<DeskLight> lights;
  std::vector<DeskMeter> meters;
};

inline constexpr int kDeskCubeSide = 65;

/// Writes one self-contained page with a fader for each light, atomically, and returns its size in
/// bytes. Layers are held in the view's white balance by their signs and 1023 steps of their
/// logarithm over at most 26 stops, which is at most 0.9 % of a value, and deflated. Throws
/// MachineTrouble.
std::size_t write_desk(const std::string& path, const DeskPage& page);

/// For tests: a layer as the page holds it, deflated, and the least value and range [stops] of its
/// steps.
struct DeskLayer {
  double least = 1, range = 1;
  std::vector<unsigned char> planes;  ///< before deflating: low and high bytes, three channels
};
DeskLayer desk_layer(const std::vector<float>& rgb, int width, int height, double white);

}  // namespace jovilux::figures
