#include <cmath>
#include <filesystem>

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/verbs.h"
#include "jovilux/base/text.h"
#include "jovilux/judge/readings.h"

namespace jovilux::cli {
using Json = nlohmann::ordered_json;

int run_read(int argc, char** argv) {
  const Usage usage{"read", "IMAGE",
                    "Reads luminances off an image.exr as a spot meter would: cd/m2 with standard error, linear RGB, EV100,\nclipping in the view, and each light's part. Pixels count from 0 at the top left.",
                    {{"at", "a pixel; repeatable", "X,Y"},
                     {"box", "the mean over a box of pixels; repeatable", "X,Y,W,H"},
                     {"line", "each pixel of a line from one pixel to another", "X0,Y0,X1,Y1"},
                     {"json", "print one JSON document instead", ""}},
                    "Without --at, --box and --line the whole picture is read as one box.",
                    "jovilux read demo-out/bench/image.exr --at 480,300 --box 200,320,8,8"};
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  std::string path = a.positional();
  std::error_code ec;
  if (std::filesystem::is_directory(path, ec)) {
    path = (std::filesystem::path(path) / "image.exr").string();  // a render's folder
  }
  std::vector<PixelBox> boxes = pixel_boxes(a);
  for (const std::string& line : a.texts("line")) {
    const auto n = numbers_of("--line", line, 4, "X0,Y0,X1,Y1");
    for (const int v : n) {
      if (v < 0 || v > 65535) {
        throw UsageError(fmt::format("--line: {} is outside any picture", v));
      }
    }
    const auto pixels = pixels_of_line(n[0], n[1], n[2], n[3]);
    boxes.insert(boxes.end(), pixels.begin(), pixels.end());
  }
  const bool whole = boxes.empty();
  if (whole) {
    const auto size = read_image(path, {});
    if (!size) {
      throw BadInput{size.problems()};
    }
    boxes.push_back({0, 0, size->width, size->height});
  }
  const auto result = read_image(path, boxes);
  if (!result) {
    throw BadInput{result.problems()};
  }
  const auto known = [](double v) { return std::isfinite(v) ? Json(v) : Json(nullptr); };
  if (a.flag("json")) {
    Json j = {{"image", path}, {"width", result->width}, {"height", result->height}, {"absolute", result->absolute}, {"readings", Json::array()}};
    for (const Reading& r : result->readings) {
      Json layers = Json::object();
      for (const auto& [name, luminance] : r.layers) {
        layers[name] = {{"luminance_cd_m2", luminance}};
      }
      Json one = {{"x", r.box.x}, {"y", r.box.y}, {"width", r.box.width}, {"height", r.box.height}, {"luminance_cd_m2", r.luminance},
                  {"rgb", {r.rgb[0], r.rgb[1], r.rgb[2]}}, {"standard_error_cd_m2", known(r.standard_error)}, {"ev100", known(r.ev100)},
                  {"clipped", result->has_view ? Json(r.clipped > 0) : Json(nullptr)}, {"clipped_share", result->has_view ? Json(r.clipped) : Json(nullptr)}, {"layers", layers}};
      j["readings"].push_back(one);
    }
    print_out(j.dump(2) + "\n");
    return kDone;
  }
  std::vector<std::vector<std::string>> rows = {{"pixel", "cd/m2", "\u00b1", "EV100", "R", "G", "B", "clipped"}};
  // The lights that matter somewhere, brightest first; the rest is summed up.
  constexpr std::size_t kShownLights = 5;
  std::vector<std::pair<double, std::string>> brightest;
  for (std::size_t l = 0; !result->readings.empty() && l < result->readings[0].layers.size(); ++l) {
    double most = 0;
    for (const Reading& r : result->readings) {
      most = std::max(most, r.luminance > 0 ? r.layers[l].second / r.luminance : 0);
    }
    brightest.emplace_back(most, result->readings[0].layers[l].first);
  }
  std::stable_sort(brightest.begin(), brightest.end(), [](const auto& x, const auto& y) { return x.first > y.first; });
  const std::size_t shown = std::min(kShownLights, brightest.size());
  for (std::size_t l = 0; l < shown; ++l) {
    rows[0].push_back(brightest[l].second);
  }
  if (brightest.size() > shown) {
    rows[0].push_back(fmt::format("{} others", brightest.size() - shown));
  }
  for (const Reading& r : result->readings) {
    std::string name = fmt::format("{},{}", r.box.x, r.box.y);
    if (r.box.width != 1 || r.box.height != 1) {
      name += fmt::format(",{},{}", r.box.width, r.box.height);
    }
    std::vector<std::string> row = {name, short_number(r.luminance), short_number(r.standard_error, 2), std::isfinite(r.ev100) ? fmt::format("{:.2f}", r.ev100) : "-",
                                    short_number(r.rgb[0]), short_number(r.rgb[1]), short_number(r.rgb[2]),
                                    !result->has_view ? "unknown" : r.clipped == 0 ? "no" : r.box.width * r.box.height == 1 ? "yes" : short_number(100 * r.clipped, 3) + " %"};
    double rest = 0;
    for (const auto& [light, luminance] : r.layers) {
      rest += luminance;
    }
    for (std::size_t l = 0; l < shown; ++l) {
      for (const auto& [light, luminance] : r.layers) {
        if (light == brightest[l].second) {
          row.push_back(short_number(luminance));
          rest -= luminance;
        }
      }
    }
    if (brightest.size() > shown) {
      row.push_back(short_number(rest > 1e-6 * r.luminance ? rest : 0));
    }
    rows.push_back(std::move(row));
  }
  std::string out = text_table(rows);
  if (!result->absolute) {
    out += "\nThe file does not say what luminance its numbers stand for: read as cd/m2.\n";
  }
  print_out(out);
  return kDone;
}

}  // namespace jovilux::cli
