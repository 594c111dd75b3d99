#include "cli/render_pictures.h"

#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/render/exposure_moments.h"

#include <array>
#include <cctype>
#include <filesystem>
#include <fstream>
#include <sstream>
#include <utility>

#include "cli/output.h"
#include "cli/pixel_options.h"
#include "ranks/ranks.h"
#include <fmt/format.h>

namespace jovilux::cli {

namespace fs = std::filesystem;

namespace {

// The pixel of --pixel, in the rig's picture. Throws UsageError.
std::array<int, 2> pixel_in(const std::string& pixel, const Rig& rig) {
  const std::vector<int> place = numbers_of("--pixel", pixel, 2, "X,Y");
  const int x = place[0], y = place[1];
  if (x < 0 || y < 0 || x >= rig.render.width || y >= rig.render.height) {
    throw UsageError(fmt::format("--pixel {},{} is outside the picture of {} x {}",
                                 x,
                                 y,
                                 rig.render.width,
                                 rig.render.height));
  }
  return {x, y};
}

// Traces the sample; its luminance by layer. Throws UsageError and BadInput.
std::pair<ReplayedSample, std::vector<std::string>> traced_again(const Rig& rig,
                                                                 RenderOptions options,
                                                                 const std::array<int, 2>& pixel,
                                                                 int sample) {
  auto scene = prepare_scene(rig, options.camera);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  auto exposure = exposure_moments(rig, *scene, options.camera);
  if (!exposure) {
    throw BadInput{exposure.problems()};
  }
  std::vector<std::string> layers = exposure->moments.empty() ? scene->layers : exposure->layers;
  options.moments = std::move(exposure->moments);
  auto traced = replay_sample(rig, *scene, options, layers.size(), pixel[0], pixel[1], sample);
  if (!traced) {
    throw UsageError(
        fmt::format("--sample {}: with a noise target only each pixel's first samples can be "
                    "traced again",
                    sample));
  }
  return {std::move(*traced), std::move(layers)};
}

}  // namespace

int replay_one_sample(const Arguments& a, const std::string& pixel) {
  RigRequest request = rig_request(a);
  add_picture_overrides(a, request);
  request.frame = a.whole("frame", 0, 999'999);
  if (const auto noise = a.text("noise")) {
    request.overrides.push_back("render.noise=" + *noise);
  }
  auto rig = load_rig(a.positional(), request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  RenderOptions options;
  options.threads = threads_of(a);
  options.camera = choose_camera(*rig, a.text("camera").value_or(""));
  const auto [x, y] = pixel_in(pixel, *rig);
  const int sample = a.whole("sample", 0, rig->render.samples - 1).value_or(0);
  const auto [traced, layers] = traced_again(*rig, std::move(options), {x, y}, sample);
  const auto parts = static_cast<std::size_t>(parts_of(*rig));
  double total = 0;
  Json lights = Json::array();
  std::string lines;
  for (std::size_t l = 0; l < layers.size(); ++l) {
    double luminance = 0;
    for (std::size_t p = 0; p < parts; ++p) {
      luminance += static_cast<double>(traced.luminance[l * parts + p]);
    }
    total += luminance;
    lights.push_back({{"name", layers[l]}, {"luminance_cd_m2", luminance}});
    lines += fmt::format("  {}: {} cd/m2\n", layers[l], short_number(luminance));
  }
  if (a.flag("json")) {
    print_out(json_text({{"x", x},
                         {"y", y},
                         {"sample", sample},
                         {"luminance_cd_m2", total},
                         {"not_finite", traced.not_finite},
                         {"lights", std::move(lights)}}));
    return kDone;
  }
  print_out(fmt::format(
      "pixel {},{}, sample {}: {} cd/m2 by its camera path\n{}{}",
      x,
      y,
      sample,
      short_number(total),
      lines,
      traced.not_finite > 0
          ? fmt::format("{} contributions are not finite and left out\n", traced.not_finite)
          : ""));
  return kDone;
}

namespace {

struct Told {
  int status = kDone;
  std::shared_ptr<const Scene> scene;
  std::string text;  // for standard output
};

// Renders into one folder; what came of it as a summary or as JSON.
Told render_and_tell(const RenderTask& task, bool json) {
  const Ranks& ranks = Ranks::of_this_run();
  Rendered rendered = render_to_folder(task);
  const bool interrupted = rendered.stats.stopped_by == StoppedBy::kSignal;
  if (interrupted && !rendered.film.empty()) {
    const std::string who =
        ranks.alone() ? ""
                      : fmt::format("process {} of {}: one of the processes was lost or stopped; ",
                                    ranks.index() + 1,
                                    ranks.count());
    print_err_of_any_rank(
        fmt::format("{}what is finished is kept in {}; the same command with --resume goes on\n",
                    who,
                    rendered.film));
  }
  if (rendered.was_there) {
    print_err(task.share ? "this slice is finished already\n" : "all samples are there already\n");
    if (task.share) {
      return {kDone, nullptr, ""};
    }
  }
  std::string text;
  if (task.share) {
    const bool finished = rendered.stats.stopped_by == StoppedBy::kSamples;
    if (json) {
      text = json_text({{"film", film_name(*task.share, true)}, {"finished", finished}});
    } else {
      text = fmt::format(
          "{}\n{}\n",
          rendered.film,
          finished ? fmt::format("join all {} with: jovilux merge DIR... -o DIR", task.share->count)
                   : "not finished: the same command with --resume goes on");
    }
  } else if (!ranks.alone() && interrupted) {
    // No picture: the others' tiles are in their own files.
  } else if (rendered.was_there && !json) {
    text = fmt::format("look at {}\n", (fs::path(task.folder) / "view.png").string());
  } else if (json) {
    std::ifstream in(std::filesystem::path(task.folder) / "stats.json");
    std::ostringstream stats;
    stats << in.rdbuf();
    text = stats.str();
  } else {
    text = render_summary(rendered, task.folder);
  }
  return {interrupted ? kInterrupted : kDone, std::move(rendered.scene), std::move(text)};
}

// One picture of several: from a camera, of a variant.
struct Shot {
  std::string camera, variant;  // empty: the rig's
  std::string folder;
};

// A name as one part of a path.
std::string folder_name(std::string name) {
  for (char& c : name) {
    const bool plain = std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '-' || c == '_';
    c = plain ? c : '-';
  }
  return name;
}

// A folder for each camera and variant: DIR/CAMERA, DIR/VARIANT or DIR/CAMERA-VARIANT; DIR itself
// where at most one camera and no variant are given.
std::vector<Shot> shots_of(const std::string& folder,
                           std::vector<std::string> cameras,
                           std::vector<std::string> variants) {
  if (cameras.size() < 2 && variants.empty()) {
    return {{cameras.empty() ? "" : cameras[0], "", folder}};
  }
  if (cameras.empty()) {
    cameras = {""};
  }
  const bool by_camera = cameras.size() > 1;
  if (variants.empty()) {
    variants = {""};
  }
  std::vector<Shot> out;
  for (const std::string& variant : variants) {
    for (const std::string& camera : cameras) {
      std::string name = by_camera ? camera : "";
      name += (name.empty() || variant.empty() ? "" : "-") + variant;
      const std::string path = (fs::path(folder) / folder_name(name)).string();
      for (const Shot& shot : out) {
        if (shot.folder == path) {
          throw UsageError(
              fmt::format("{} would be written twice: give each camera and variant "
                          "once",
                          printable(path)));
        }
      }
      out.push_back({camera, variant, path});
    }
  }
  return out;
}

RigRequest request_of(const RenderTask& task, const Shot& shot) {
  RigRequest out = task.request;
  if (!shot.variant.empty()) {
    out.variants.push_back(shot.variant);
  }
  return out;
}

// Cameras of one variant share its scene. Wrong names are told before anything is rendered.
int render_shots(const RenderTask& common, const std::vector<Shot>& shots, bool json) {
  for (const Shot& shot : shots) {
    const auto rig = load_rig(common.rig_file, request_of(common, shot));
    if (!rig) {
      throw BadInput{rig.problems()};
    }
    camera_index(*rig, shot.camera);
  }
  Json pictures = Json::array();
  RenderTask task = common;
  const Shot* before = nullptr;
  int status = kDone;
  for (const Shot& shot : shots) {
    task.camera = shot.camera;
    task.folder = shot.folder;
    task.request = request_of(common, shot);
    if (before != nullptr && before->variant != shot.variant) {
      task.like.reset();
    }
    Told told = render_and_tell(task, json);
    if (json && !told.text.empty()) {
      pictures.push_back({{"folder", shot.folder}, {"result", parse_json(told.text)}});
    } else if (!json) {
      print_out(fmt::format("{}\n{}\n", shot.folder, told.text));
    }
    status = told.status;
    if (status != kDone) {
      break;
    }
    task.like = std::move(told.scene);
    before = &shot;
  }
  if (json) {
    print_out(json_text({{"pictures", std::move(pictures)}}));
  }
  return status;
}

}  // namespace

int render_pictures(RenderTask task,
                    const std::vector<std::string>& cameras,
                    const std::vector<std::string>& variants,
                    bool json) {
  const std::vector<Shot> shots = shots_of(task.folder, cameras, variants);
  if (shots.size() > 1 || shots[0].folder != task.folder) {
    return render_shots(task, shots, json);
  }
  task.camera = shots[0].camera;
  const Told told = render_and_tell(task, json);
  print_out(told.text);
  return told.status;
}

}  // namespace jovilux::cli
