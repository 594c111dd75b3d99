#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/light_ways.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/picture_files.h"

#include <cmath>
#include <filesystem>
#include <optional>

#include "cli/arguments.h"
#include "cli/light_table.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include "figures/ways_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Why = LightArrival::Why;

constexpr std::size_t kShownWays = 10;

std::string point(const Vec3d& p) {
  return fmt::format(
      "({}, {}, {})", short_number(p.x(), 3), short_number(p.y(), 3), short_number(p.z(), 3));
}

const char* word(Why why) {
  static constexpr const char* kWords[] = {"arrives",
                                           "off",
                                           "not-linked",
                                           "behind",
                                           "faces-away",
                                           "outside-beam",
                                           "in-gobos-dark",
                                           "beyond-range",
                                           "blocked"};
  return kWords[static_cast<std::size_t>(why)];
}

Json coordinates(const Vec3d& p) { return {p.x(), p.y(), p.z()}; }

Json to_json(const WayReport& r, const std::optional<Reading>& picture) {
  Json ways = Json::array(), arrivals = Json::array();
  for (const LightWay& w : r.ways) {
    Json steps = Json::array(), path = Json::array();
    for (const LightWay::Step& s : w.steps) {
      steps.push_back({{"object", s.name}, {"kind", words(s.kind)}});
    }
    for (const Vec3d& p : w.path) {
      path.push_back(coordinates(p));
    }
    ways.push_back({{"light", w.light},
                    {"steps", steps},
                    {"more_steps", w.more_steps > 0},
                    {"luminance", w.luminance},
                    {"standard_error", w.standard_error},
                    {"share", w.share},
                    {"noise_share", w.noise_share},
                    {"length_m", w.length},
                    {"path", path}});
  }
  for (const LightArrival& a : r.arrivals) {
    arrivals.push_back({{"light", a.light},
                        {"why", word(a.why)},
                        {"blocked", a.blocked},
                        {"haze_takes", a.haze_takes},
                        {"by", a.blocker.empty() ? Json(nullptr) : Json(a.blocker)},
                        {"at", a.blocker.empty() ? Json(nullptr) : coordinates(a.at)},
                        {"text", figures::arrival_in_words(a)}});
  }
  return {{"box", {r.box.x, r.box.y, r.box.width, r.box.height}},
          {"luminance", r.luminance},
          {"standard_error", r.standard_error},
          {"picture",
           picture ? Json({{"luminance", picture->luminance},
                           {"standard_error", number_or_null(picture->standard_error)}})
                   : Json(nullptr)},
          {"seen", r.seen.empty() ? Json(nullptr) : Json(r.seen)},
          {"distance_m", r.distance},
          {"place", coordinates(r.place)},
          {"samples", r.samples},
          {"ways", ways},
          {"lights", arrivals},
          {"not_found_in_mirrors", r.lost}};
}

std::string table_of(const WayReport& r) {
  std::vector<std::vector<std::string>> table = {
      {"share", "cd/m2", "\u00b1", "of the noise", "length", "way from the light to the eye"}};
  double rest = 1, rest_noise = 1;
  for (std::size_t k = 0; k < std::min(kShownWays, r.ways.size()); ++k) {
    const LightWay& w = r.ways[k];
    table.push_back({figures::percent_text(w.share),
                     short_number(w.luminance, 3),
                     short_number(w.standard_error, 2),
                     figures::percent_text(w.noise_share),
                     short_number(w.length, 3) + " m",
                     figures::way_in_words(w)});
    rest -= w.share;
    rest_noise -= w.noise_share;
  }
  if (r.ways.size() > kShownWays) {
    table.push_back({figures::percent_text(std::max(0.0, rest)),
                     short_number(std::max(0.0, rest) * r.luminance, 3),
                     "",
                     figures::percent_text(std::max(0.0, rest_noise)),
                     "",
                     fmt::format("{} other ways", r.ways.size() - kShownWays)});
  }
  return text_table(table);
}

std::string in_words(const WayReport& r, const std::optional<Reading>& picture) {
  const std::string where =
      (r.box.width == 1 && r.box.height == 1 ? "pixel " : "box ") + name_of(r.box);
  std::string out = fmt::format("{}: {} \u00b1 {} cd/m2",
                                where,
                                short_number(r.luminance),
                                short_number(r.standard_error, 2));
  out +=
      r.seen.empty()
          ? "; the ray meets nothing\n"
          : fmt::format(
                " on {}, {} m away at {}\n", r.seen, short_number(r.distance, 3), point(r.place));
  if (picture) {
    out += fmt::format("in the picture: {}{} cd/m2\n",
                       short_number(picture->luminance),
                       std::isfinite(picture->standard_error)
                           ? " \u00b1 " + short_number(picture->standard_error, 2)
                           : "");
  }
  out += "\n";
  out += r.ways.empty() ? "no light comes here\n" : table_of(r);
  std::string hindered;
  for (const LightArrival& a : r.arrivals) {
    if (a.why != Why::kArrives || a.blocked >= 0.05 || a.haze_takes >= 0.05) {
      hindered += fmt::format("  {}: {}\n", a.light, figures::arrival_in_words(a));
    }
  }
  if (!hindered.empty()) {
    out += "\nlights that do not reach that place directly, or only in part:\n" + hindered;
  }
  return out + lost_in_mirrors(r.lost, "it", "by mirrors and through glass");
}

// The box that is asked for, inside the picture.
PixelBox asked_box(const Arguments& a, const Rig& rig) {
  const std::vector<PixelBox> boxes = pixel_boxes(a);
  if (boxes.size() != 1) {
    throw UsageError(boxes.empty() ? "missing --at X,Y, the pixel to explain; or --box X,Y,W,H"
                                   : "several pixels are given; explain one at a time");
  }
  if (const std::string fault = outside_picture(boxes, rig.render.width, rig.render.height);
      !fault.empty()) {
    throw UsageError(fault);
  }
  return boxes[0];
}

Usage usage_of_why() {
  return Usage{
      "why",
      "DIR|RIG",
      "Where the light at a pixel comes from: its ways from the lights over the objects to the "
      "eye, ranked, each with\nits share of the light and of the noise; and what keeps the other "
      "lights away. Of a render's folder, or of a rig.",
      {{"at", "the pixel, counted from 0 at the top left", "X,Y"},
       {"box", "instead, the mean over a box of pixels", "X,Y,W,H"},
       {"camera", "the camera to look from; the render's, or the rig's first by default", "NAME"},
       {"samples", "paths to trace; 131072 by default", "N"},
       {"o,output", "also draw the ways over the picture and in plan: DIR/ways.png", "DIR"},
       {"force", "replace DIR/ways.png", ""},
       {"quiet", "no progress", ""},
       {"json", "print one JSON document instead", ""}},
      "",
      "jovilux why demo-out/bench --at 300,260 -o demo-out/why"}
      .with(rig_options())
      .with({threads_option()});
}

// The view in a render's folder, the denoised one where there is one; empty: none.
std::string view_in(const fs::path& folder) {
  std::error_code ec;
  for (const fs::path& view : {folder / kDenoisedView, folder / "view.png"}) {
    if (fs::exists(view, ec)) {
      return view.string();
    }
  }
  return "";
}

}  // namespace

int run_why(int argc, char** argv) {
  const Arguments a(usage_of_why(), argc, argv);
  std::error_code ec;
  const fs::path given = a.positional();
  const bool rendered = fs::is_directory(given, ec);
  auto rig =
      load_rig(rendered ? (given / "rig.resolved.toml").string() : given.string(), rig_request(a));
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  const std::string name = a.text("camera").value_or("");
  WayOptions options;
  options.camera = choose_camera(*rig, name);
  options.threads = threads_of(a);
  constexpr int kFewest = 1024, kMost = 1 << 30;
  options.samples =
      static_cast<std::uint64_t>(a.whole("samples", kFewest, kMost).value_or(1 << 17));
  const PixelBox box = asked_box(a, *rig);
  std::string figure;
  if (const auto folder = a.text("output")) {
    prepare_files(*folder, {"ways.png"}, a.flag("force"));
    figure = (fs::path(*folder) / "ways.png").string();
  }
  const auto scene = prepare_scene(*rig, options.camera);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  // What the picture shows there, where it is of this camera and this rig.
  const bool same =
      rendered && name.empty() && a.texts("set").empty() && a.texts("variant").empty();
  std::optional<Reading> picture;
  if (same) {
    if (const auto read = read_image(image_in(given.string()), {box})) {
      picture = read->readings[0];
    }
  }
  catch_interrupts();
  options.stop = stop_requested;
  const WayReport report = light_ways(*rig, *scene, box, options);
  if (!figure.empty()) {
    figures::ways_figure(figure, report, *rig, *scene, options.camera, same ? view_in(given) : "");
  }
  if (a.flag("json")) {
    print_out(json_text(to_json(report, picture)));
  } else {
    print_out(in_words(report, picture) +
              (figure.empty() ? "" : fmt::format("\nlook at {}\n", figure)));
  }
  return report.interrupted ? kInterrupted : kDone;
}

}  // namespace jovilux::cli
