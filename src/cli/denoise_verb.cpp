#include "cli/denoise_verb.h"

#include "jovilux/base/parallel.h"
#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/denoising.h"
#include "jovilux/judge/rendered_image.h"

#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

}  // namespace

DenoisingReport denoise_folder(const std::string& folder) {
  auto report = denoise_render(folder);
  if (!report) {
    throw BadInput{report.problems()};
  }
  return *report;
}

std::string denoising_summary(const DenoisingReport& r, const std::string& folder) {
  const fs::path dir = fs::path(image_in(folder)).parent_path();
  std::string out = fmt::format("denoised {} x {}{} in {:.1f} s\n",
                                r.width,
                                r.height,
                                r.layers == 0   ? ""
                                : r.layers == 1 ? ", 1 layer"
                                                : fmt::format(", {} layers", r.layers),
                                r.seconds);
  out += fmt::format("noise as traced:        median {}, 95 % of pixels below {}\n",
                     percent(r.median_before),
                     percent(r.p95_before));
  out += fmt::format("error left, with bias:  median {}, 95 % of pixels below {}\n",
                     percent(r.median),
                     percent(r.p95));
  if (r.outliers > 0) {
    out += fmt::format(
        "outliers (what one sample made bright) spread over their surroundings: {}, with {} of "
        "the picture's light\n",
        r.outliers,
        percent(r.spread));
  }
  return out + fmt::format("look at {}\nread    {}\n",
                           (dir / "view-denoised.png").string(),
                           (dir / "denoised.exr").string());
}

namespace {

Usage usage_of_denoise() {
  return Usage{
      "denoise",
      "DIR",
      "Removes the noise of a render and tells the error that is left: DIR/denoised.exr, with the "
      "layers of image.exr\nand error.V, the squared error expected in each pixel, and "
      "DIR/view-denoised.png. image.exr and view.png stay as traced.",
      {{"json", "print the figures as one JSON document", ""}},
      "The denoised layers add up to the denoised picture. Other verbs take it with --denoised.",
      "jovilux denoise demo-out/bench"}
      .with({threads_option()});
}

}  // namespace

int run_denoise(int argc, char** argv) {
  const Arguments a(usage_of_denoise(), argc, argv);
  const std::string folder = a.positional();
  DenoisingReport r;
  with_threads(threads_of(a), [&] { r = denoise_folder(folder); });
  if (!a.flag("json")) {
    print_out(denoising_summary(r, folder));
    return kDone;
  }
  const Json j = {{"version", 1},
                  {"width", r.width},
                  {"height", r.height},
                  {"layers", r.layers},
                  {"seconds", r.seconds},
                  {"traced", {{"median", r.median_before}, {"p95", r.p95_before}}},
                  {"denoised", {{"median", r.median}, {"p95", r.p95}}},
                  {"outliers", r.outliers},
                  {"spread_share", r.spread}};
  print_out(json_text(j));
  return kDone;
}

}  // namespace jovilux::cli
