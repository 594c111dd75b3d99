#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/judge/metering.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/bloom.h"

#include <algorithm>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/layered_render.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/verbs.h"
#include "figures/desk_page.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// The lights' group of a layer, where all of them are in one.
std::string group_of(const Rig& rig, const std::string& layer) {
  std::string group;
  bool first = true;
  for (const LightSpec& l : rig.lights) {
    if (l.layer_in(rig.render.layers == RenderSpec::Layers::kGroups) == layer) {
      group = first || group == l.group ? l.group : "";
      first = false;
    }
  }
  return group == layer ? "" : group;
}

std::vector<figures::DeskLight> lights_of(const RenderedImage& image,
                                          const Rig& rig,
                                          const Scene& scene) {
  std::vector<figures::DeskLight> out;
  for (const RenderedImage::Layer& layer : image.layers) {
    figures::DeskLight light;
    light.name = layer.name;
    light.group = group_of(rig, layer.name);
    light.rgb = &layer.rgb;
    light.controls = layer_controls(rig, scene.emitters, layer.name);
    light.addresses = layer_addresses(rig, layer.name);
    out.push_back(std::move(light));
  }
  return out;
}

std::vector<figures::DeskMeter> meters_of(const RenderedImage& image,
                                          const Rig& rig,
                                          const Scene& scene,
                                          double error,
                                          int threads,
                                          bool quiet) {
  std::vector<figures::DeskMeter> out;
  MeteringOptions options;
  options.error = error;
  options.threads = threads;
  options.stop = stop_requested;
  ProgressBar bar(quiet);
  options.progress = bar.function();
  for (const MeterResult& m : read_meters(rig, scene, options)) {
    if (m.readings.empty()) {
      continue;
    }
    const MeterSpec& spec = rig.meters[m.meter];
    figures::DeskMeter meter{spec.name, spec.luminance ? "cd/m\u00b2" : "lx", spec.target, {}};
    for (const RenderedImage::Layer& layer : image.layers) {
      const auto known = std::find(m.layers.begin(), m.layers.end(), layer.name);
      double sum = 0;
      for (const MeterReading& r : m.readings) {  // a grid counts by its average
        sum += known != m.layers.end()
                   ? r.by_light[static_cast<std::size_t>(known - m.layers.begin())].value
                   : 0;
      }
      meter.parts.push_back(sum / static_cast<double>(m.readings.size()));
    }
    out.push_back(std::move(meter));
  }
  return out;
}

Usage usage_of_desk() {
  return Usage{
      "desk",
      "DIR",
      "One page to balance a render by hand: a fader in stops for each light and group, on and "
      "alone, whites and tints,\nexposure and white balance of the view, luminances under the "
      "pointer, the meters beside their targets, and the\nlines for the rig. It needs no other "
      "file and fetches nothing.",
      {{"o,output", "the page to write, such as desk.html", "FILE"},
       {"error", "standard error of the meters, over the value; \"2 %\" by default", "SHARE"},
       {"no-meters", "leave the meters out, which take paths of their own", ""},
       denoised_option(),
       {"quiet", "no progress while the meters are read", ""},
       {"force", "replace FILE", ""},
       {"json", "print one JSON document instead", ""}},
      "Keys: B before, F false color, R reset; arrows move the reading point on the picture.",
      "jovilux desk demo-out/bench -o demo-out/desk.html --denoised"}
      .with({threads_option()});
}

// The page without its lights and meters: the picture's size and how it is shown.
figures::DeskPage page_of(const RenderedImage& image, const Rig& rig, const std::string& title) {
  figures::DeskPage page;
  page.title = rig.title.empty() ? title : rig.title;
  page.width = image.width;
  page.height = image.height;
  page.denoised = image.denoised;
  const View view = image.shown();
  page.film = rig.look.curve == LookSpec::Curve::kFilm;
  page.ev = view.ev();
  page.scale = view.scale();
  page.balance = view.balance();
  if (view.studio() != nullptr) {
    page.cube = baked(*view.studio(), figures::kDeskCubeSide);
  }
  return page;
}

// What was written, and how to have it smaller.
std::string desk_summary(const std::string& path,
                         const figures::DeskPage& page,
                         std::size_t bytes,
                         const std::string& folder) {
  constexpr std::size_t kLarge = 8'000'000;
  return fmt::format("wrote {}: {}, {}, {} MB{}\n",
                     printable(path, 200),
                     counted(page.lights.size(), "light"),
                     counted(page.meters.size(), "meter"),
                     short_number(static_cast<double>(bytes) / 1e6, 3),
                     page.denoised || bytes < kLarge
                         ? ""
                         : fmt::format("\nsmaller and cleaner: jovilux denoise {}, then --denoised",
                                       printable(folder, 200)));
}

}  // namespace

int run_desk(int argc, char** argv) {
  const Arguments a(usage_of_desk(), argc, argv);
  const std::string dir = a.positional();
  const auto file = a.text("output");
  if (!file || file->empty()) {
    throw UsageError("missing -o FILE, the page to write; see jovilux desk --help");
  }
  const double error = a.text("error") ? share_option("--error", *a.text("error")) : 0.02;
  LayeredRender render = load_layered(dir, a.flag("denoised"), false);
  RenderedImage& image = render.image;
  const Rig& rig = render.rig;
  const fs::path path(*file);
  prepare_files(path.has_parent_path() ? path.parent_path().string() : ".",
                {path.filename().string()},
                a.flag("force"));
  catch_interrupts();
  figures::DeskPage page = page_of(image, rig, fs::path(dir).filename().string());
  if (!a.flag("no-meters") && !rig.meters.empty()) {
    page.meters = meters_of(image, rig, render.scene, error, threads_of(a), a.flag("quiet"));
  }
  if (stop_requested()) {
    return kInterrupted;
  }
  for (RenderedImage::Layer& layer : image.layers) {
    bloom(layer.rgb, image.width, image.height, image.bloom);  // the lens spreads each by itself
  }
  page.lights = lights_of(image, rig, render.scene);
  std::size_t bytes = 0;
  with_threads(threads_of(a), [&] { bytes = figures::write_desk(path.string(), page); });
  print_out(a.flag("json") ? json_text({{"page", path.string()},
                                        {"lights", page.lights.size()},
                                        {"meters", page.meters.size()},
                                        {"denoised", page.denoised},
                                        {"bytes", bytes}})
                           : desk_summary(path.string(), page, bytes, dir));
  return kDone;
}

}  // namespace jovilux::cli
