#pragma once

#include "jovilux/judge/denoising.h"
#include "jovilux/render/renderer.h"

#include <memory>
#include <optional>
#include <string>

namespace jovilux::cli {

/// What render and demo ask of a rendering.
struct RenderTask {
  std::string rig_file, folder;
  RigRequest request;
  std::string camera;  ///< empty: the rig's first
  int threads = 0;
  std::optional<double> time_limit;
  bool quiet = false, force = false;
  bool preview = false;  ///< small, smoothed, within preview_seconds
  /// Go on from what an interrupted render has kept; nothing to do where all is there.
  bool resume = false;
  std::optional<Share> share;            ///< render these tiles only, into slice-K-of-N.part
  double checkpoint_every = 60;          ///< [s]
  double preview_seconds = 2;            ///< from the start of render_to_folder
  std::optional<double> view_every;      ///< keep view.png up to date so often [s]
  bool denoise = false;                  ///< as [render] denoise = true
  bool spread = false;                   ///< over the processes that mpirun has started
  std::optional<DocumentNode> document;  ///< the rig itself, instead of what rig_file holds
  std::vector<std::string> split_tints;  ///< lights to render with LightSpec::split_tint
  bool check = true;                     ///< look for mistakes in the rig as well
  /// Asked besides Ctrl-C; may be empty; then an interrupted render leaves nothing.
  StopFn stop;
  std::optional<double> ev;    ///< instead of an automatic exposure
  std::optional<White> white;  ///< instead of an automatic white
  /// The scene of the same rig from another camera, whose meshes and pictures serve again; null:
  /// none.
  std::shared_ptr<const Scene> like;
};

/// Loads, renders and saves; throws BadInput before anything is written.
struct Rendered {
  Rig rig;
  RenderStats stats;
  std::string camera;
  bool was_there = false;  ///< finished before: nothing was rendered, stats are empty
  /// The film file that keeps what is finished; empty: there is none.
  std::string film;
  std::optional<DenoisingReport> denoising = std::nullopt;  ///< where the rig asks for it
  std::shared_ptr<const Scene> scene = nullptr;  ///< that was rendered; null where nothing was
};
Rendered render_to_folder(const RenderTask& task);

/// The name of the file that keeps what is finished of a render, or of one slice of it, which 1/1
/// is as well.
std::string film_name(Share share, bool slice);

/// Whether a folder holds the finished render of exactly this rig.
bool holds_finished(const std::string& folder, const Rig& rig);

/// The index of a camera by name; where `name` is empty that of [render] camera, or else the first.
/// Throws UsageError or BadInput.
int camera_index(const Rig& rig, const std::string& name);
/// The same; a name that is given becomes the rig's [render] camera, so that the resolved rig shows
/// what was rendered.
int choose_camera(Rig& rig, const std::string& name);

/// The summary that people read: size, samples, time, noise, the lights' shares, the files.
std::string render_summary(const Rendered& rendered, const std::string& folder);

}  // namespace jovilux::cli
