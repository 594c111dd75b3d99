#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/readings.h"
#include "jovilux/judge/rendered_image.h"

#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// The lights that matter somewhere, brightest first; the rest is summed up.
constexpr std::size_t kShownLights = 5;

struct ReadImage {
  std::string name, path;
  ImageReadings readings;
};

Json to_json(const ReadImage& image) {
  const ImageReadings& result = image.readings;
  Json j = {{"image", image.path},
            {"width", result.width},
            {"height", result.height},
            {"absolute", result.absolute},
            {"denoised", result.denoised},
            {"readings", Json::array()}};
  for (const Reading& r : result.readings) {
    Json layers = Json::object();
    for (const auto& [name, luminance] : r.layers) {
      layers[name] = {{"luminance_cd_m2", luminance}};
    }
    Json one = {{"x", r.box.x},
                {"y", r.box.y},
                {"width", r.box.width},
                {"height", r.box.height},
                {"luminance_cd_m2", r.luminance},
                {"rgb", {r.rgb[0], r.rgb[1], r.rgb[2]}},
                {"standard_error_cd_m2", number_or_null(r.standard_error)},
                {"ev100", number_or_null(r.ev100)},
                {"clipped", result.has_view ? Json(r.clipped > 0) : Json(nullptr)},
                {"clipped_share", result.has_view ? Json(r.clipped) : Json(nullptr)},
                {"layers", layers}};
    j["readings"].push_back(one);
  }
  return j;
}

std::vector<std::string> brightest_lights(const std::vector<ReadImage>& images) {
  std::vector<std::pair<double, std::string>> lights;
  for (const ReadImage& image : images) {
    for (const Reading& r : image.readings.readings) {
      for (const auto& layer : r.layers) {
        auto it = std::find_if(
            lights.begin(), lights.end(), [&](const auto& l) { return l.second == layer.first; });
        if (it == lights.end()) {
          it = lights.insert(lights.end(), {0.0, layer.first});
        }
        it->first = std::max(it->first, r.luminance > 0 ? layer.second / r.luminance : 0);
      }
    }
  }
  std::stable_sort(
      lights.begin(), lights.end(), [](const auto& x, const auto& y) { return x.first > y.first; });
  std::vector<std::string> out;
  for (const auto& l : lights) {
    out.push_back(l.second);
  }
  return out;
}

double light_in(const Reading& r, const std::string& name) {
  for (const auto& [light, luminance] : r.layers) {
    if (light == name) {
      return luminance;
    }
  }
  return 0;
}

std::vector<std::vector<std::string>> table_of(const std::vector<ReadImage>& images) {
  std::vector<std::vector<std::string>> rows = {
      {"pixel", "cd/m2", "\u00b1", "EV100", "R", "G", "B", "clipped"}};
  const bool several = images.size() > 1;
  if (several) {
    rows[0].insert(rows[0].begin() + 1, "image");
    rows[0].insert(rows[0].begin() + 4, "stops");  // against the first image
  }
  const std::vector<std::string> lights = brightest_lights(images);
  const std::size_t shown = std::min(kShownLights, lights.size());
  rows[0].insert(
      rows[0].end(), lights.begin(), lights.begin() + static_cast<std::ptrdiff_t>(shown));
  if (lights.size() > shown) {
    rows[0].push_back(fmt::format("{} others", lights.size() - shown));
  }
  for (std::size_t k = 0; k < images.front().readings.readings.size(); ++k) {
    for (const ReadImage& image : images) {
      const ImageReadings& result = image.readings;
      const Reading& r = result.readings[k];
      std::string name = fmt::format("{},{}", r.box.x, r.box.y);
      if (r.box.width != 1 || r.box.height != 1) {
        name += fmt::format(",{},{}", r.box.width, r.box.height);
      }
      std::vector<std::string> row = {name,
                                      short_number(r.luminance),
                                      short_number(r.standard_error, 2),
                                      std::isfinite(r.ev100) ? fmt::format("{:.2f}", r.ev100) : "-",
                                      short_number(r.rgb[0]),
                                      short_number(r.rgb[1]),
                                      short_number(r.rgb[2]),
                                      !result.has_view ? "unknown"
                                      : r.clipped == 0 ? "no"
                                      : r.box.width * r.box.height == 1
                                          ? "yes"
                                          : short_number(100 * r.clipped, 3) + " %"};
      if (several) {
        const double first = images.front().readings.readings[k].luminance;
        row.insert(row.begin() + 1, image.name);
        row.insert(row.begin() + 4,
                   &image == &images.front() || !(first > 0) || !(r.luminance > 0)
                       ? "-"
                       : fmt::format("{:+.2f}", std::log2(r.luminance / first)));
      }
      double rest = 0;
      for (const auto& [light, luminance] : r.layers) {
        rest += luminance;
      }
      for (std::size_t l = 0; l < shown; ++l) {
        const double luminance = light_in(r, lights[l]);
        row.push_back(short_number(luminance));
        rest -= luminance;
      }
      if (lights.size() > shown) {
        row.push_back(short_number(rest > 1e-6 * r.luminance ? rest : 0));
      }
      rows.push_back(std::move(row));
    }
  }
  return rows;
}

// The luminance along a line, and what the lights give to it where one picture is read.
void line_figure(const std::string& path,
                 const std::string& line,
                 const std::vector<ReadImage>& images,
                 std::size_t first,
                 std::size_t count) {
  figures::Plot plot;
  plot.title = "Luminance from pixel to pixel: " + line;
  plot.x_label = "pixel of the line";
  plot.y_label = "luminance [cd/m\u00b2]";
  plot.legend = "outside right top";
  double least = HUGE_VAL, most = 0;
  const auto add = [&](const std::string& name, const auto& value) {
    figures::Curve c;
    c.name = name;
    c.color = figures::curve_color(plot.curves.size());
    c.width = plot.curves.size() < images.size() ? 2.6 : 1.4;
    c.dash = static_cast<int>(plot.curves.size() / 7 % 3);
    for (std::size_t i = 0; i < count; ++i) {
      c.x.push_back(static_cast<double>(i));
      c.y.push_back(value(first + i));
    }
    plot.curves.push_back(std::move(c));
  };
  for (const ReadImage& image : images) {
    add(images.size() > 1 ? image.name : "all lights",
        [&](std::size_t i) { return image.readings.readings[i].luminance; });
    for (const double y : plot.curves.back().y) {
      least = y > 0 ? std::min(least, y) : least;
      most = std::max(most, y);
    }
  }
  if (images.size() == 1) {
    std::vector<std::string> lights = brightest_lights(images);
    lights.resize(std::min(kShownLights, lights.size()));
    for (const std::string& light : lights) {
      add(light, [&](std::size_t i) { return light_in(images[0].readings.readings[i], light); });
    }
  }
  plot.x_max = static_cast<double>(count > 1 ? count - 1 : 1);
  plot.log_y = most > 30 * least;
  if (plot.log_y) {  // a light that gives nothing somewhere does not stretch the axis
    plot.y_max = 2 * most;
    plot.y_min = least / 4;
  }
  figures::plot_figure(path, plot);
}

std::string csv_text(const std::vector<ReadImage>& images) {
  std::string out = "image,x,y,width,height,luminance_cd_m2,standard_error_cd_m2,R,G,B";
  const std::vector<std::string> lights = brightest_lights(images);
  for (const std::string& light : lights) {
    out += "," + csv_field(light);
  }
  out += "\n";
  for (const ReadImage& image : images) {
    for (const Reading& r : image.readings.readings) {
      out += fmt::format(
          "{},{},{},{},{},{:.6g},{},{:.6g},{:.6g},{:.6g}",
          csv_field(image.name),
          r.box.x,
          r.box.y,
          r.box.width,
          r.box.height,
          r.luminance,
          std::isfinite(r.standard_error) ? fmt::format("{:.3g}", r.standard_error) : "",
          r.rgb[0],
          r.rgb[1],
          r.rgb[2]);
      for (const std::string& light : lights) {
        out += fmt::format(",{:.6g}", light_in(r, light));
      }
      out += "\n";
    }
  }
  return out;
}

Usage usage_of_read() {
  return {
      "read",
      "IMAGE...",
      "Reads luminances off an image.exr as a spot meter would: cd/m2 with standard error, linear "
      "RGB, EV100,\nclipping in the view, and each light's part. Several images at once are set "
      "beside each other, with stops\nagainst the first. Pixels count from 0 at the top left.",
      {{"at", "a pixel; repeatable", "X,Y"},
       {"box", "the mean over a box of pixels; repeatable", "X,Y,W,H"},
       {"line", "each pixel of a line from one pixel to another; repeatable", "X0,Y0,X1,Y1"},
       {"o,output", "also write DIR/readings.csv and, of lines, the profile DIR/line-1.png", "DIR"},
       {"force", "replace files in DIR", ""},
       denoised_option(),
       {"json", "print one JSON document instead", ""}},
      "Without --at, --box and --line the whole picture is read as one box.",
      "jovilux read demo-out/bench/image.exr --at 480,300 --box 200,320,8,8"};
}

// A line of pixels: which of the boxes that are read they are.
struct PixelLine {
  std::string text;
  std::size_t first, count;
};

// The lines that are asked for, whose pixels are added to the boxes. Throws UsageError.
std::vector<PixelLine> pixel_lines(const Arguments& a, std::vector<PixelBox>& boxes) {
  std::vector<PixelLine> lines;
  for (const std::string& line : a.texts("line")) {
    const auto n = numbers_of("--line", line, 4, "X0,Y0,X1,Y1");
    for (const int v : n) {
      if (v < 0 || v > 65535) {
        throw UsageError(fmt::format("--line: {} is outside any picture", v));
      }
    }
    const auto pixels = pixels_of_line(n[0], n[1], n[2], n[3]);
    lines.push_back(
        {fmt::format("{},{} to {},{}", n[0], n[1], n[2], n[3]), boxes.size(), pixels.size()});
    boxes.insert(boxes.end(), pixels.begin(), pixels.end());
  }
  return lines;
}

// A picture at the boxes; without any, the whole of it as one. Throws BadInput.
ReadImage read_given(const std::string& given, bool denoised, std::vector<PixelBox> boxes) {
  ReadImage image;
  image.path = image_in(given, denoised);
  image.name = printable(given, 120);
  if (Problems missing = denoised ? check_denoised(given) : Problems{}; !missing.empty()) {
    throw BadInput{std::move(missing)};
  }
  if (boxes.empty()) {
    const auto size = read_image(image.path, {});
    if (!size) {
      throw BadInput{size.problems()};
    }
    boxes.push_back({0, 0, size->width, size->height});
  }
  auto result = read_image(image.path, boxes);
  if (!result) {
    throw BadInput{result.problems()};
  }
  image.readings = std::move(*result);
  return image;
}

void write_readings(const std::string& folder,
                    bool force,
                    const std::vector<PixelLine>& lines,
                    const std::vector<ReadImage>& images) {
  std::vector<std::string> files = {"readings.csv"};
  for (std::size_t i = 0; i < lines.size(); ++i) {
    files.push_back(fmt::format("line-{}.png", i + 1));
  }
  prepare_files(folder, files, force);
  for (std::size_t i = 0; i < lines.size(); ++i) {
    const PixelLine& line = lines[i];
    line_figure(
        (fs::path(folder) / files[i + 1]).string(), line.text, images, line.first, line.count);
  }
  write_text_file((fs::path(folder) / "readings.csv").string(), csv_text(images));
}

Json to_json(const std::vector<ReadImage>& images) {
  if (images.size() == 1) {
    return to_json(images[0]);
  }
  Json j{{"images", Json::array()}};
  for (const ReadImage& image : images) {
    j["images"].push_back(to_json(image));
  }
  return j;
}

}  // namespace

int run_read(int argc, char** argv) {
  const Arguments a(usage_of_read(), argc, argv);
  std::vector<PixelBox> boxes = pixel_boxes(a);
  const std::vector<PixelLine> lines = pixel_lines(a, boxes);
  std::vector<ReadImage> images;
  for (const std::string& given : a.positionals()) {
    images.push_back(read_given(given, a.flag("denoised"), boxes));
  }
  if (const auto folder = a.text("output")) {
    write_readings(*folder, a.flag("force"), lines, images);
  }
  if (a.flag("json")) {
    print_out(json_text(to_json(images)));
    return kDone;
  }
  std::string out = text_table(table_of(images));
  for (const ReadImage& image : images) {
    if (!image.readings.absolute) {
      out += fmt::format("\n{} does not say what luminance its numbers stand for: read as cd/m2.\n",
                         images.size() > 1 ? image.name : std::string("The file"));
    }
  }
  if (const auto folder = a.text("output")) {
    out += lines.empty() ? fmt::format("\nwrote {}/readings.csv\n", *folder)
                         : fmt::format("\nlook at {}/line-1.png\n", *folder);
  }
  print_out(out);
  return kDone;
}

}  // namespace jovilux::cli
