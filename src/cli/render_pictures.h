#pragma once

#include <string>
#include <vector>

#include "cli/arguments.h"
#include "cli/render_verb.h"

namespace jovilux::cli {

/// Renders a task for each of these cameras and variants and says what came of it; returns the exit
/// status. At most one camera and no variant: into the task's folder; else each picture has a
/// folder of its own below it, and cameras of one variant share the scene. Wrong names are told
/// before anything is rendered.
int render_pictures(RenderTask task,
                    const std::vector<std::string>& cameras,
                    const std::vector<std::string>& variants,
                    bool json);

/// Traces one sample of a pixel ("X,Y") of the render that the same words without --pixel begin
/// with, and prints what it brings.
int replay_one_sample(const Arguments& arguments, const std::string& pixel);

}  // namespace jovilux::cli
