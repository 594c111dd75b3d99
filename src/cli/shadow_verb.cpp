#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/json.h"
#include "jovilux/files/png.h"
#include "jovilux/judge/shadow_study.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/progress_bar.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

constexpr const char* kExr = "shadow.exr";
constexpr const char* kPng = "shadow.png";

void write_pictures(const std::string& folder, const ShadowStudy& s) {
  std::vector<ExrChannel> channels;
  add_rgb_channels(channels, "", s.factor, s.width);
  add_rgb_channels(channels, "without.", s.without, s.width);
  add_rgb_channels(channels, "objects.", s.objects, s.width);
  channels.push_back(
      {"error.Y", ExrChannel::Type::kFloat, [&s](int y, float* row) {
         std::copy_n(s.error.data() + static_cast<std::ptrdiff_t>(y) * s.width, s.width, row);
       }});
  ExrHeader header;
  header.width = s.width;
  header.height = s.height;
  header.white_luminance = 0;  // a factor
  write_exr((fs::path(folder) / kExr).string(), header, channels);
  std::vector<std::uint8_t> bytes;
  bytes.reserve(s.factor.size());
  for (const float f : s.factor) {
    const double shown = std::clamp(static_cast<double>(f), 0.0, 1.0);
    bytes.push_back(static_cast<std::uint8_t>(std::lround(255 * srgb_encoded(shown))));
  }
  write_png((fs::path(folder) / kPng).string(), s.width, s.height, bytes);
}

Json to_json(const ShadowStudy& s) {
  const auto row = [](const ShadowStudy::Left& left) {
    return Json{{"without_cd_m2", left.without}, {"with_cd_m2", left.with}, {"left", left.share()}};
  };
  Json all = row(s.all), lights = Json::array();
  all["standard_error"] = s.all.standard_error;
  for (const ShadowStudy::Left& light : s.lights) {
    Json one = {{"name", light.light}};
    one.update(row(light));
    lights.push_back(std::move(one));
  }
  return {{"width", s.width},
          {"height", s.height},
          {"caught", s.caught},
          {"all", std::move(all)},
          {"lights", std::move(lights)},
          {"darkest",
           s.darkest_x < 0 ? Json(nullptr)
                           : Json{{"left", s.darkest}, {"x", s.darkest_x}, {"y", s.darkest_y}}}};
}

std::string table_of(const ShadowStudy& s) {
  std::vector<std::vector<std::string>> rows = {{"light", "cd/m2 without", "with", "left"}};
  for (const ShadowStudy::Left& light : s.lights) {
    rows.push_back({light.light,
                    short_number(light.without),
                    short_number(light.with),
                    light.without > 0 ? percent(light.share()) : "-"});
  }
  rows.push_back(
      {"all",
       short_number(s.all.without),
       short_number(s.all.with),
       fmt::format("{} \u00b1 {}", percent(s.all.share()), percent(s.all.standard_error))});
  return text_table(rows);
}

Usage usage_of_shadow() {
  std::vector<Option> options = {{"o,output", "folder for shadow.exr and shadow.png", "DIR"},
                                 {"camera", "camera by name; without it, the first", "NAME"},
                                 {"force", "replace files that are there", ""},
                                 {"quiet", "no progress", ""},
                                 {"json", "print one JSON document instead", ""},
                                 threads_option()};
  for (auto more : {rig_options(), picture_options()}) {
    options.insert(options.end(), more.begin(), more.end());
  }
  return {
      "shadow",
      "RIG",
      "What the light on surfaces with catches_shadow = true would be without the other objects, "
      "and what is\nleft of it with them: the factor by which a photograph of the real place is "
      "multiplied.",
      options,
      "Renders three pictures: all, the same with the objects black where the camera sees them, "
      "and without\nthem. shadow.exr holds the factor as R, G, B (its error as error.Y), the light "
      "without the objects as\nwithout.R.., and what is added for the objects as objects.R.., in "
      "cd/m2:\nphotograph * factor + objects. Objects that are lamps stay.",
      "jovilux shadow plate.toml -o shadow"};
}

// What people read after the pictures.
std::string summary_of(const ShadowStudy& s, const std::string& folder) {
  std::string caught = fmt::format("surfaces that catch fill {} of the picture", percent(s.caught));
  if (s.darkest_x >= 0) {
    caught += fmt::format("; darkest {} at {},{}", percent(s.darkest), s.darkest_x, s.darkest_y);
  }
  return fmt::format("{}\n{}\n\nlook at {}\nread    jovilux read {} --at X,Y\n",
                     table_of(s),
                     caught,
                     printable((fs::path(folder) / kPng).string(), 200),
                     printable((fs::path(folder) / kExr).string(), 200));
}

}  // namespace

int run_shadow(int argc, char** argv) {
  const Arguments a(usage_of_shadow(), argc, argv);
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the pictures; see jovilux shadow --help");
  }
  RigRequest request = rig_request(a);
  add_picture_overrides(a, request);
  auto rig = load_rig(a.positional(), request);
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  RenderOptions render;
  render.threads = threads_of(a);
  render.camera = choose_camera(*rig, a.text("camera").value_or(""));
  prepare_files(*folder, {kExr, kPng}, a.flag("force"));
  catch_interrupts();
  render.stop = stop_requested;
  ProgressBar bar(a.flag("quiet") || a.flag("json"));
  render.progress = bar.function();
  const auto told = [&](int picture) {
    static constexpr const char* kNames[] = {"all", "the surfaces alone", "without the objects"};
    if (!a.flag("quiet") && !a.flag("json")) {
      print_err(fmt::format("{} of 3: {}\n", picture + 1, kNames[picture]));
    }
  };
  const auto study = study_shadow(*rig, render, told);
  if (!study) {
    throw BadInput{study.problems()};
  }
  if (!study->finished) {
    print_err("stopped; nothing was written\n");
    return kInterrupted;
  }
  write_pictures(*folder, *study);
  print_out(a.flag("json") ? json_text(to_json(*study)) : summary_of(*study, *folder));
  return kDone;
}

}  // namespace jovilux::cli
