#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/read_file.h"
#include "jovilux/judge/balance.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/judge/light_report.h"
#include "jovilux/judge/readings.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/judge/rig_checks.h"
#include "jovilux/render/picture_files.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <fstream>
#include <sstream>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/render_verb.h"
#include "cli/sweep_range.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>
#include <nlohmann/json.hpp>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

struct Point {
  std::vector<std::size_t> at;  // of each parameter's values
  std::vector<std::string> overrides;
  std::string folder, name;
  bool rendered = false, kept = false;  // kept: found finished from before
  bool derived = false;                 // from the layers of another point
  double mean = 0, p95 = 0, from_haze = 0;
  bool has_haze = false, drowned = false;
  std::vector<Reading> readings;
};

// What a value looks like beside others.
std::string shown(const SweptParameter& p, std::size_t i) {
  if (!p.numbers.empty()) {
    return short_number(p.numbers[i], 3) + (p.unit.empty() ? "" : " " + p.unit);
  }
  return p.values[i];
}

std::string csv(const std::vector<SweptParameter>& parameters, const std::vector<Point>& points) {
  std::string out = "folder";
  for (const SweptParameter& p : parameters) {
    out += "," + csv_field(p.address + (p.unit.empty() ? "" : " [" + p.unit + "]"));
  }
  out += ",mean_cd_m2,noise_p95,share_from_haze";
  for (std::size_t r = 0; r < points.front().readings.size(); ++r) {
    const PixelBox& b = points.front().readings[r].box;
    out += fmt::format(
        ",\"{}x{} at {},{} cd/m2\",\"standard error cd/m2\"", b.width, b.height, b.x, b.y);
  }
  out += "\n";
  for (const Point& p : points) {
    out += csv_field(p.name);
    for (std::size_t k = 0; k < parameters.size(); ++k) {
      out += "," + csv_field(parameters[k].numbers.empty()
                                 ? parameters[k].values[p.at[k]]
                                 : fmt::format("{:.6g}", parameters[k].numbers[p.at[k]]));
    }
    out += fmt::format(",{:.6g},{:.4g},{:.4g}", p.mean, p.p95, p.from_haze);
    for (const Reading& r : p.readings) {
      out += fmt::format(",{:.6g},{:.3g}", r.luminance, r.standard_error);
    }
    out += "\n";
  }
  return out;
}

// What one render serves: rigs that differ in levels and colors of lights alone.
struct LayerPlan {
  std::size_t base = 0;  // the point to render
  // Of each point; empty: each point is to be rendered.
  std::vector<LayerScaling> scalings;
  bool exact = true;
};

LayerPlan layer_plan(const std::vector<Rig>& rigs, const std::string& camera) {
  LayerPlan plan;
  const std::string fixed = levels_aside(rigs[0]);
  const bool same = std::all_of(rigs.begin(), rigs.end(), [&](const Rig& rig) {
    return rig.render.layers != RenderSpec::Layers::kNone && levels_aside(rig) == fixed;
  });
  if (!same) {
    return plan;
  }
  std::vector<std::vector<Emitter>> emitters;
  std::vector<std::vector<std::string>> layers;
  std::vector<std::pair<double, std::size_t>> brightest;
  for (std::size_t i = 0; i < rigs.size(); ++i) {
    const auto scene = prepare_scene(rigs[i], camera_index(rigs[i], camera));
    if (!scene) {
      return plan;  // rendering it tells why
    }
    double level = 0;
    for (const Emitter& e : scene->emitters) {
      level += e.luminance + e.intensity;
    }
    brightest.emplace_back(-level, i);
    emitters.push_back(scene->emitters);
    layers.push_back(scene->layers);
  }
  // What is rendered must hold all that the others show: the brightest that does.
  std::stable_sort(brightest.begin(), brightest.end());
  for (const auto& [level, base] : brightest) {
    std::vector<LayerScaling> scalings;
    for (std::size_t i = 0; i < rigs.size(); ++i) {
      scalings.push_back(
          layer_scaling(rigs[base], emitters[base], rigs[i], emitters[i], layers[base]));
      if (!scalings.back().possible()) {
        break;
      }
    }
    if (scalings.back().possible()) {
      plan.base = base;
      plan.exact = std::all_of(
          scalings.begin(), scalings.end(), [](const LayerScaling& s) { return s.exact(); });
      plan.scalings = std::move(scalings);
      return plan;
    }
  }
  return plan;
}

}  // namespace

namespace {

// Refuses a folder that holds results of another rig, or of a sweep with other folders, which would
// stand beside these as if they belonged to them; with `force` these are removed.
void make_room(const std::string& folder,
               const std::vector<Point>& points,
               const std::vector<Rig>& rigs,
               bool force) {
  std::error_code ec;
  for (std::size_t i = 0; i < points.size(); ++i) {
    if (fs::exists(points[i].folder, ec)) {
      prepare_folder(points[i].folder, rigs[i], force);
    }
  }
  std::vector<fs::path> stale;
  for (const fs::directory_entry& entry : fs::directory_iterator(folder, ec)) {
    const bool ours = std::any_of(points.begin(), points.end(), [&](const Point& p) {
      return fs::path(p.folder).filename() == entry.path().filename();
    });
    if (!ours && entry.is_directory(ec) && fs::exists(entry.path() / "image.exr", ec) &&
        fs::exists(entry.path() / "rig.resolved.toml", ec)) {
      stale.push_back(entry.path());
    }
  }
  if (!stale.empty() && !force) {
    throw UsageError(
        fmt::format("-o {}: the folder holds results of another sweep ({}); choose another folder, "
                    "or add --force to remove them",
                    printable(folder, 200),
                    printable(stale.front().filename().string(), 60)));
  }
  for (const fs::path& dir : stale) {
    fs::remove_all(dir, ec);
  }
}

}  // namespace

int run_sweep(int argc, char** argv) {
  Usage usage{
      "sweep",
      "RIG",
      "Renders the rig for each value of one or two parameters and sets the results side by side: "
      "DIR/sheet.png,\nDIR/curves.png, DIR/readings.csv, and a folder for each. What an earlier "
      "run has finished is kept.",
      {{"vary",
        "\"ADDRESS = A .. B / N\", \"... / N log\" for even ratios, or \"ADDRESS = V1, V2, ...\"; "
        "twice for a table",
        "RANGE"},
       {"o,output", "folder for the results; created", "DIR"},
       {"at", "also read this pixel in each; repeatable", "X,Y"},
       {"box", "also read the mean over this box; repeatable", "X,Y,W,H"},
       {"camera", "the camera to use; the rig's first by default", "NAME"},
       {"exact",
        "render each value, also where one render's layers give it (levels of lights; colors, "
        "nearly)",
        ""},
       {"denoised", "denoise each picture and judge that", ""},
       {"force", "replace results of another rig or sweep in DIR", ""},
       {"quiet", "no progress and no warnings", ""},
       {"json", "print one JSON document instead", ""}},
      "",
      "jovilux sweep demo-out/rig/orchid-house.toml --vary \"haze.mist.extinction = 0.02 /m .. "
      "0.6 /m / 5 log\" --size 320x180 -o mist"};
  for (const std::vector<Option>& more : {picture_options(), rig_options()}) {
    usage.options.insert(usage.options.end(), more.begin(), more.end());
  }
  usage.options.push_back(threads_option());
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const auto folder = a.text("output");
  if (!folder || folder->empty()) {
    throw UsageError("missing -o DIR, the folder for the results; see jovilux sweep --help");
  }
  std::vector<SweptParameter> parameters;
  for (const std::string& v : a.texts("vary")) {
    parameters.push_back(parse_sweep(v));
  }
  if (parameters.empty() || parameters.size() > 2) {
    throw UsageError(
        "expected one or two --vary, such as --vary \"light.key.dimmer = 0.1 .. 1 / 5\"");
  }
  const bool denoised = a.flag("denoised");
  std::vector<PixelBox> boxes = pixel_boxes(a);
  RigRequest request = rig_request(a);
  add_picture_overrides(a, request);
  std::vector<Point> points;
  const std::size_t columns = parameters[0].values.size(),
                    rows = parameters.size() > 1 ? parameters[1].values.size() : 1;
  for (std::size_t v = 0; v < rows; ++v) {
    for (std::size_t u = 0; u < columns; ++u) {
      Point p;
      p.at = {u};
      p.overrides = {parameters[0].address + "=" + parameters[0].values[u]};
      p.name = fmt::format("{:02}", u + 1);
      if (parameters.size() > 1) {
        p.at.push_back(v);
        p.overrides.push_back(parameters[1].address + "=" + parameters[1].values[v]);
        p.name += fmt::format("-{:02}", v + 1);
      }
      p.folder = (fs::path(*folder) / p.name).string();
      points.push_back(std::move(p));
    }
  }
  // All rigs are read before the first is rendered: an error in the last one is told at once.
  std::vector<Rig> rigs;
  for (const Point& p : points) {
    RigRequest of_this = request;
    of_this.overrides.insert(of_this.overrides.end(), p.overrides.begin(), p.overrides.end());
    auto rig = load_rig(a.positional(), of_this);
    if (!rig) {
      throw BadInput{rig.problems()};
    }
    for (const PixelBox& b : boxes) {
      if (b.x < 0 || b.y < 0 || b.width < 1 || b.height < 1 || b.x > rig->render.width - b.width ||
          b.y > rig->render.height - b.height) {
        throw UsageError(fmt::format("{},{},{},{} is not inside the picture of {} x {} pixels",
                                     b.x,
                                     b.y,
                                     b.width,
                                     b.height,
                                     rig->render.width,
                                     rig->render.height));
      }
    }
    choose_camera(*rig, a.text("camera").value_or(""));
    rigs.push_back(std::move(*rig));
  }
  std::error_code ec;
  fs::create_directories(*folder, ec);
  if (ec || !fs::is_directory(*folder)) {
    throw UsageError(fmt::format("{}: the folder cannot be made", printable(*folder, 200)));
  }
  make_room(*folder, points, rigs, a.flag("force"));
  const LayerPlan plan =
      a.flag("exact") ? LayerPlan{} : layer_plan(rigs, a.text("camera").value_or(""));
  const bool by_layers = !plan.scalings.empty();
  const std::size_t brightest = plan.base;
  int rendered = 0, kept = 0, derived = 0;
  const auto render_point = [&](std::size_t i) {
    Point& p = points[i];
    if (holds_finished(p.folder, rigs[i]) &&
        (!denoised || fs::exists(fs::path(p.folder) / kDenoisedPicture))) {
      p.kept = true;
      ++kept;
      return true;
    }
    RenderTask task;
    task.rig_file = a.positional();
    task.folder = p.folder;
    task.request = request;
    task.request.overrides.insert(
        task.request.overrides.end(), p.overrides.begin(), p.overrides.end());
    task.camera = a.text("camera").value_or("");
    task.threads = threads_of(a);
    task.quiet = a.flag("quiet");
    task.force = a.flag("force");
    task.denoise = denoised;
    if (!task.quiet) {
      print_err(fmt::format(
          "{} of {}: {}\n",
          i + 1,
          points.size(),
          p.overrides.size() > 1 ? p.overrides[0] + ", " + p.overrides[1] : p.overrides[0]));
    }
    const Rendered done = render_to_folder(task);
    ++rendered;
    return done.stats.stopped_by != StoppedBy::kSignal;
  };
  FiguresLast drawn;
  if (by_layers && !render_point(brightest)) {
    return kInterrupted;
  }
  for (std::size_t i = 0; i < points.size(); ++i) {
    Point& p = points[i];
    if (by_layers && i != brightest) {
      const auto base = load_rendered(points[brightest].folder, true, denoised);
      if (!base) {
        throw BadInput{base.problems()};
      }
      RenderedImage image = *base;
      std::vector<BalancedLight> lights(image.layers.size());
      for (std::size_t l = 0; l < lights.size(); ++l) {
        lights[l].factor = plan.scalings[i].factor_of(image.layers[l].name);
      }
      apply_balance(image, lights);
      fs::create_directories(p.folder, ec);
      save_balanced(p.folder, image, rigs[i]);
      p.derived = true;
      ++derived;
    } else if (!(by_layers && i == brightest) && !render_point(i)) {
      return kInterrupted;
    }
    // What came of it.
    const auto image = load_rendered(p.folder, true, denoised && !p.derived);
    if (!image) {
      throw BadInput{image.problems()};
    }
    std::vector<PixelBox> all = boxes;
    all.push_back({0, 0, image->width, image->height});
    const auto read = read_image(image_in(p.folder, denoised && !p.derived), all);
    if (!read) {
      throw BadInput{read.problems()};
    }
    p.mean = read->readings.back().luminance;
    p.readings.assign(read->readings.begin(), read->readings.end() - 1);
    const std::string stats = text_of(fs::path(p.folder) / "stats.json");
    const Json parsed = Json::parse(stats, nullptr, false);
    p.p95 = denoised || (p.derived && !image->variance.empty()) ? noise_of(*image).p95
            : parsed.is_object() && parsed.contains("noise") && parsed["noise"]["p95"].is_number()
                ? parsed["noise"]["p95"].get<double>()
                : std::nan("");
    p.has_haze = std::any_of(rigs[i].hazes.begin(), rigs[i].hazes.end(), [](const HazeSpec& h) {
      return h.extinction > 0;
    });
    double from_haze = 0, total = 0;
    for (const RenderedImage::Layer& part : image->parts) {
      double sum = 0;
      for (std::size_t k = 0; k < image->pixels(); ++k) {
        sum += luminance_of(&part.rgb[3 * k]);
      }
      total += sum;
      from_haze += part.name.ends_with(".haze") ? sum : 0;
    }
    p.from_haze = total > 0 ? from_haze / total : std::nan("");
    if (p.has_haze) {
      if (const auto scene = prepare_scene(rigs[i])) {
        const Problems found = check_rig(rigs[i], *scene, light_reports(rigs[i], *scene));
        p.drowned = std::any_of(found.begin(), found.end(), [](const Problem& w) {
          return w.code == "haze-too-dense";
        });
      }
    }
  }
  // The sheet, the curves, the table.
  std::vector<figures::SheetCell> cells;
  for (const Point& p : points) {
    figures::SheetCell c;
    c.png = (fs::path(p.folder) / (denoised && !p.derived ? kDenoisedView : "view.png")).string();
    c.title = shown(parameters[0], p.at[0]);
    if (parameters.size() > 1) {
      c.title += "  \u00b7  " + shown(parameters[1], p.at[1]);
    }
    c.note = fmt::format("mean {} cd/m\u00b2", short_number(p.mean, 3));
    if (p.has_haze && std::isfinite(p.from_haze)) {
      c.note += fmt::format(", {} % from haze", short_number(100 * p.from_haze, 2));
    }
    if (p.drowned) {
      c.note = "drowned: under 2 % of what lies ahead is left";
      c.marked = true;
    }
    cells.push_back(std::move(c));
  }
  std::string title = parameters[0].address;
  if (parameters.size() > 1) {
    title += " (across) and " + parameters[1].address + " (down)";
  }
  write_text_file((fs::path(*folder) / "readings.csv").string(), csv(parameters, points));
  drawn.draw([&] {
    figures::sheet_figure((fs::path(*folder) / "sheet.png").string(),
                          title,
                          cells,
                          parameters.size() > 1 ? static_cast<int>(columns) : 0);
  });
  const bool curves = !parameters[0].numbers.empty() && columns > 1;
  if (curves) {
    figures::Plot plot;
    plot.title = title;
    plot.x_label =
        parameters[0].address + (parameters[0].unit.empty() ? "" : " [" + parameters[0].unit + "]");
    plot.y_label = "luminance [cd/m\u00b2]";
    plot.log_x = parameters[0].logarithmic;
    plot.legend = "outside right top";
    double least = HUGE_VAL, most = 0;
    for (std::size_t v = 0; v < rows; ++v) {
      for (std::size_t r = 0; r <= boxes.size(); ++r) {
        figures::Curve c;
        c.color = figures::curve_color(plot.curves.size());
        c.name =
            r == boxes.size() ? "mean of the picture"
            : boxes[r].width == 1 && boxes[r].height == 1
                ? fmt::format("pixel {},{}", boxes[r].x, boxes[r].y)
                : fmt::format(
                      "box {},{},{},{}", boxes[r].x, boxes[r].y, boxes[r].width, boxes[r].height);
        if (rows > 1) {
          c.name += ", " + shown(parameters[1], v);
        }
        for (std::size_t u = 0; u < columns; ++u) {
          const Point& p = points[v * columns + u];
          c.x.push_back(parameters[0].numbers[u]);
          c.y.push_back(r == boxes.size() ? p.mean : p.readings[r].luminance);
          least = c.y.back() > 0 ? std::min(least, c.y.back()) : least;
          most = std::max(most, c.y.back());
        }
        plot.curves.push_back(std::move(c));
      }
    }
    plot.log_y = most > 20 * least;
    drawn.draw([&] { figures::plot_figure((fs::path(*folder) / "curves.png").string(), plot); });
  }
  if (a.flag("json")) {
    Json j = {{"parameters", Json::array()},
              {"rendered", rendered},
              {"kept", kept},
              {"from_layers", derived},
              {"approximate", !plan.exact && derived > 0},
              {"points", Json::array()}};
    for (const SweptParameter& p : parameters) {
      j["parameters"].push_back({{"address", p.address}, {"values", p.values}, {"unit", p.unit}});
    }
    for (const Point& p : points) {
      Json one = {
          {"folder", p.folder},
          {"at", p.at},
          {"mean_luminance_cd_m2", p.mean},
          {"noise_p95", std::isfinite(p.p95) ? Json(p.p95) : Json(nullptr)},
          {"share_from_haze", std::isfinite(p.from_haze) ? Json(p.from_haze) : Json(nullptr)},
          {"drowned", p.drowned},
          {"readings", Json::array()}};
      for (const Reading& r : p.readings) {
        one["readings"].push_back(
            {{"x", r.box.x},
             {"y", r.box.y},
             {"width", r.box.width},
             {"height", r.box.height},
             {"luminance_cd_m2", r.luminance},
             {"standard_error_cd_m2",
              std::isfinite(r.standard_error) ? Json(r.standard_error) : Json(nullptr)}});
      }
      j["points"].push_back(one);
    }
    print_out(json_text(j));
    return drawn.finish(kDone);
  }
  std::vector<std::vector<std::string>> table = {{"folder"}};
  for (const SweptParameter& p : parameters) {
    table[0].push_back(p.address);
  }
  table[0].insert(table[0].end(), {"mean cd/m2", "noise p95"});
  for (const PixelBox& b : boxes) {
    table[0].push_back(b.width == 1 && b.height == 1
                           ? fmt::format("{},{}", b.x, b.y)
                           : fmt::format("{},{},{},{}", b.x, b.y, b.width, b.height));
  }
  for (const Point& p : points) {
    std::vector<std::string> row = {p.name};
    for (std::size_t k = 0; k < parameters.size(); ++k) {
      row.push_back(shown(parameters[k], p.at[k]));
    }
    row.insert(
        row.end(),
        {short_number(p.mean), std::isfinite(p.p95) ? short_number(100 * p.p95, 3) + " %" : "-"});
    for (const Reading& r : p.readings) {
      row.push_back(short_number(r.luminance));
    }
    table.push_back(std::move(row));
  }
  print_out(
      text_table(table) +
      fmt::format("\n{} rendered, {} from layers, {} kept from before\nlook at {}{}\n",
                  rendered,
                  derived,
                  kept,
                  (fs::path(*folder) / "sheet.png").string(),
                  curves ? ", " + (fs::path(*folder) / "curves.png").string() : "") +
      (!plan.exact && derived > 0
           ? "tints from layers are exact on gray, near on colored surfaces; --exact renders each\n"
           : ""));
  return drawn.finish(kDone);
}

}  // namespace jovilux::cli
