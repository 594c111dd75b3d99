#pragma once

#include <optional>
#include <string>

#include "jovilux/render/renderer.h"

namespace jovilux::cli {

/// What render and demo ask of a rendering.
struct RenderTask {
  std::string rig_file, folder;
  RigRequest request;
  std::string camera;                  ///< empty: the rig's first
  int threads = 0;
  std::optional<double> time_limit;
  bool quiet = false, force = false;
  bool preview = false;                ///< small, smoothed, within kPreviewSeconds of the start
};
inline constexpr double kPreviewSeconds = 2;

/// Loads, renders and saves; throws BadInput before anything is written.
struct Rendered {
  Rig rig;
  RenderStats stats;
  std::string camera;
};
Rendered render_to_folder(const RenderTask& task);

/// The summary that people read: size, samples, time, noise, the lights' shares, the files.
std::string render_summary(const Rendered& rendered, const std::string& folder);

}  // namespace jovilux::cli
