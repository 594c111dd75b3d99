#pragma once

#include "jovilux/judge/animation.h"
#include "jovilux/render/view.h"

#include <filesystem>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "cli/render_verb.h"

namespace jovilux::cli {

/// A frame of an animation and where it lies.
struct Frame {
  int number = 0;
  double time_s = 0;
  std::size_t at = 0;    ///< among all of the rig's
  std::string exr, png;  ///< files
  std::string folder;    ///< where it is rendered
  bool there = false;    ///< from before
  double seconds = 0;    ///< that it took
};

/// Everything that the steps of an animation share.
struct Animation {
  std::string rig_file, camera;
  std::filesystem::path dir;
  RigRequest request;
  int threads = 0;
  bool quiet = false, denoised = false;
  Rig rig;                     ///< at the first frame
  std::vector<Frame> frames;   ///< to be made
  std::vector<Rig> rigs;       ///< of all frames of [time]
  std::optional<double> ev;    ///< of an automatic exposure
  std::optional<White> white;  ///< of an automatic white

  const Rig& rig_of(const Frame& f) const { return rigs[f.at]; }
  /// The rig of a frame as its picture records it.
  std::string rig_text(const Frame& f) const;
};

/// Whether a frame's files are there, of this rig, and denoised or as traced as asked.
bool is_there(const Animation& an, const Frame& f);

/// What `auto` exposure and white find in the middle frame holds for all of them: measured for each
/// frame, an exposure would undo what the lights do. Throws BadInput.
void measure_look(Animation& an);

/// The render that all frames came from.
struct BaseRender {
  double seconds = 0;
  bool kept = false;  ///< from an earlier run
};
/// All frames from one render; nothing when interrupted.
std::optional<BaseRender> frames_by_layers(Animation& an, const FramesFromLayers& plan);
/// Frame by frame, each from its own render; processes of mpirun take them in turn. False when
/// interrupted.
bool frames_one_by_one(Animation& an);

/// The clip, once all frames of the rig's [time] are there. Returns its path; empty where some are
/// missing.
std::string make_clip(const Animation& an);
/// strip.png: up to nine frames side by side.
void make_strip(const Animation& an);

}  // namespace jovilux::cli
