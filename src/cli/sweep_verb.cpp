#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
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
#include <sstream>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/pixel_options.h"
#include "cli/render_verb.h"
#include "cli/sweep_range.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

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

Usage usage_of_sweep() {
  return Usage{"sweep",
               "RIG",
               "Renders the rig for each value of one or two parameters and sets the results side "
               "by side: DIR/sheet.png,\nDIR/curves.png, DIR/readings.csv, and a folder for each. "
               "What an earlier run has finished is kept.",
               {{"vary",
                 "\"ADDRESS = A .. B / N\", \"... / N log\" for even ratios, or \"ADDRESS = V1, "
                 "V2, ...\"; twice for a table",
                 "RANGE"},
                {"o,output", "folder for the results; created", "DIR"},
                {"at", "also read this pixel in each; repeatable", "X,Y"},
                {"box", "also read the mean over this box; repeatable", "X,Y,W,H"},
                {"camera", "the camera to use; the rig's first by default", "NAME"},
                {"exact",
                 "render each value, also where one render's layers give it (levels of lights; "
                 "colors, nearly)",
                 ""},
                {"denoised", "denoise each picture and judge that", ""},
                {"force", "replace results of another rig or sweep in DIR", ""},
                {"quiet", "no progress and no warnings", ""},
                {"json", "print one JSON document instead", ""}},
               "",
               "jovilux sweep demo-out/rig/orchid-house.toml --vary \"haze.mist.extinction = 0.02 "
               "/m .. 0.6 /m / 5 log\" --size 320x180 -o mist"}
      .with(picture_options())
      .with(rig_options())
      .with({threads_option()});
}

// One point for each value of the first parameter, row by row over those of the second.
std::vector<Point> points_of(const std::vector<SweptParameter>& parameters,
                             const std::string& folder) {
  std::vector<Point> points;
  const std::size_t rows = parameters.size() > 1 ? parameters[1].values.size() : 1;
  for (std::size_t v = 0; v < rows; ++v) {
    for (std::size_t u = 0; u < parameters[0].values.size(); ++u) {
      Point p;
      p.at = {u};
      p.overrides = {parameters[0].address + "=" + parameters[0].values[u]};
      p.name = fmt::format("{:02}", u + 1);
      if (parameters.size() > 1) {
        p.at.push_back(v);
        p.overrides.push_back(parameters[1].address + "=" + parameters[1].values[v]);
        p.name += fmt::format("-{:02}", v + 1);
      }
      p.folder = (fs::path(folder) / p.name).string();
      points.push_back(std::move(p));
    }
  }
  return points;
}

// The share of a picture's light that haze scattered to the camera; NaN in the dark.
double share_from_haze(const RenderedImage& image) {
  double from_haze = 0, total = 0;
  for (const RenderedImage::Layer& part : image.parts) {
    double sum = 0;
    for (std::size_t k = 0; k < image.pixels(); ++k) {
      sum += luminance_of(&part.rgb[3 * k]);
    }
    total += sum;
    from_haze += part.name.ends_with(".haze") ? sum : 0;
  }
  return total > 0 ? from_haze / total : std::nan("");
}

// The 95th percentile of noise that a folder's stats.json tells; NaN where it tells none.
double noise_in_stats(const std::string& folder) {
  const Json stats = read_json((fs::path(folder) / "stats.json").string());
  return stats.contains("noise") ? number_in(stats["noise"], "p95") : std::nan("");
}

// Whether haze lets through so little that `check` warns of it.
bool is_drowned(const Rig& rig) {
  const auto scene = prepare_scene(rig);
  if (!scene) {
    return false;
  }
  const Problems found = check_rig(rig, *scene, light_reports(rig, *scene));
  return std::any_of(
      found.begin(), found.end(), [](const Problem& w) { return w.code == "haze-too-dense"; });
}

// A sweep from its arguments to its results, step by step in the order of the functions.
class Sweep {
 public:
  explicit Sweep(const Arguments& a)
      : arguments_(a),
        camera_(a.text("camera").value_or("")),
        denoised_(a.flag("denoised")),
        boxes_(pixel_boxes(a)),
        request_(rig_request(a)) {
    const auto folder = a.text("output");
    if (!folder || folder->empty()) {
      throw UsageError("missing -o DIR, the folder for the results; see jovilux sweep --help");
    }
    folder_ = *folder;
    for (const std::string& v : a.texts("vary")) {
      parameters_.push_back(parse_sweep(v));
    }
    if (parameters_.empty() || parameters_.size() > 2) {
      throw UsageError(
          "expected one or two --vary, such as --vary \"light.key.dimmer = 0.1 .. 1 / 5\"");
    }
    add_picture_overrides(a, request_);
    points_ = points_of(parameters_, folder_);
  }

  int run() {
    read_rigs();
    // Where layers of one picture give all others, only that one is rendered.
    open_folder();
    if (!arguments_.flag("exact")) {
      plan_ = layer_plan(rigs_, camera_);
    }
    if (!make_pictures()) {
      return kInterrupted;
    }
    // The table first: it needs no program that draws.
    write_text_file(in_folder("readings.csv"), csv(parameters_, points_));
    draw_sheet();
    if (has_curves()) {
      draw_curves();
    }
    print_out(arguments_.flag("json") ? json() : summary());
    return drawn_.finish(kDone);
  }

 private:
  std::string in_folder(const char* file) const { return (fs::path(folder_) / file).string(); }
  std::size_t columns() const { return parameters_[0].values.size(); }
  bool has_curves() const { return !parameters_[0].numbers.empty() && columns() > 1; }
  bool by_layers() const { return !plan_.scalings.empty(); }
  bool is_approximate() const { return !plan_.exact && derived_ > 0; }
  // Of a picture that is made from layers, the layers were denoised.
  bool judged_denoised(const Point& p) const { return denoised_ && !p.derived; }

  // All rigs are read before the first is rendered: an error in the last one is told at once.
  void read_rigs() {
    for (const Point& p : points_) {
      RigRequest of_this = request_;
      of_this.overrides.insert(of_this.overrides.end(), p.overrides.begin(), p.overrides.end());
      auto rig = load_rig(arguments_.positional(), of_this);
      if (!rig) {
        throw BadInput{rig.problems()};
      }
      if (const std::string fault = outside_picture(boxes_, rig->render.width, rig->render.height);
          !fault.empty()) {
        throw UsageError(fault);
      }
      choose_camera(*rig, camera_);
      rigs_.push_back(std::move(*rig));
    }
  }

  void open_folder() {
    std::error_code ec;
    fs::create_directories(folder_, ec);
    if (ec || !fs::is_directory(folder_)) {
      throw UsageError(fmt::format("{}: the folder cannot be made", printable(folder_, 200)));
    }
    make_room(folder_, points_, rigs_, arguments_.flag("force"));
  }

  // False: a signal stopped it.
  bool make_pictures() {
    if (by_layers() && !render(plan_.base)) {
      return false;
    }
    for (std::size_t i = 0; i < points_.size(); ++i) {
      if (by_layers()) {
        if (i != plan_.base) {
          derive(i);
        }
      } else if (!render(i)) {
        return false;
      }
      judge(i);
    }
    return true;
  }

  // False: a signal stopped it.
  bool render(std::size_t i) {
    Point& p = points_[i];
    if (holds_finished(p.folder, rigs_[i]) &&
        (!denoised_ || fs::exists(fs::path(p.folder) / kDenoisedPicture))) {
      p.kept = true;
      ++kept_;
      return true;
    }
    RenderTask task;
    task.rig_file = arguments_.positional();
    task.folder = p.folder;
    task.request = request_;
    task.request.overrides.insert(
        task.request.overrides.end(), p.overrides.begin(), p.overrides.end());
    task.camera = camera_;
    task.threads = threads_of(arguments_);
    task.quiet = arguments_.flag("quiet");
    task.force = arguments_.flag("force");
    task.denoise = denoised_;
    if (!task.quiet) {
      print_err(fmt::format("{} of {}: {}\n", i + 1, points_.size(), fmt::join(p.overrides, ", ")));
    }
    const Rendered done = render_to_folder(task);
    ++rendered_;
    return done.stats.stopped_by != StoppedBy::kSignal;
  }

  // The picture of a point from the layers of the one that was rendered.
  void derive(std::size_t i) {
    Point& p = points_[i];
    const auto base = load_rendered(points_[plan_.base].folder, true, denoised_);
    if (!base) {
      throw BadInput{base.problems()};
    }
    RenderedImage image = *base;
    std::vector<BalancedLight> lights(image.layers.size());
    for (std::size_t l = 0; l < lights.size(); ++l) {
      lights[l].factor = plan_.scalings[i].factor_of(image.layers[l].name);
    }
    apply_balance(image, lights);
    std::error_code ec;
    fs::create_directories(p.folder, ec);
    save_balanced(p.folder, image, rigs_[i]);
    p.derived = true;
    ++derived_;
  }

  // Readings and noise of a point's picture.
  void judge(std::size_t i) {
    Point& p = points_[i];
    const auto image = load_rendered(p.folder, true, judged_denoised(p));
    if (!image) {
      throw BadInput{image.problems()};
    }
    std::vector<PixelBox> all = boxes_;
    all.push_back({0, 0, image->width, image->height});
    const auto read = read_image(image_in(p.folder, judged_denoised(p)), all);
    if (!read) {
      throw BadInput{read.problems()};
    }
    p.mean = read->readings.back().luminance;
    p.readings.assign(read->readings.begin(), read->readings.end() - 1);
    p.p95 = denoised_ || (p.derived && !image->variance.empty()) ? noise_of(*image).p95
                                                                 : noise_in_stats(p.folder);
    p.has_haze = std::any_of(rigs_[i].hazes.begin(), rigs_[i].hazes.end(), [](const HazeSpec& h) {
      return h.extinction > 0;
    });
    p.from_haze = share_from_haze(*image);
    p.drowned = p.has_haze && is_drowned(rigs_[i]);
  }

  std::string title() const {
    return parameters_.size() > 1
               ? parameters_[0].address + " (across) and " + parameters_[1].address + " (down)"
               : parameters_[0].address;
  }

  figures::SheetCell cell(const Point& p) const {
    figures::SheetCell c;
    c.png = (fs::path(p.folder) / (judged_denoised(p) ? kDenoisedView : "view.png")).string();
    c.title = shown(parameters_[0], p.at[0]);
    if (parameters_.size() > 1) {
      c.title += "  \u00b7  " + shown(parameters_[1], p.at[1]);
    }
    c.note = fmt::format("mean {} cd/m\u00b2", short_number(p.mean, 3));
    if (p.has_haze && std::isfinite(p.from_haze)) {
      c.note += fmt::format(", {} % from haze", short_number(100 * p.from_haze, 2));
    }
    if (p.drowned) {
      c.note = "drowned: under 2 % of what lies ahead is left";
      c.marked = true;
    }
    return c;
  }

  void draw_sheet() {
    std::vector<figures::SheetCell> cells;
    for (const Point& p : points_) {
      cells.push_back(cell(p));
    }
    drawn_.draw([&] {
      figures::sheet_figure(in_folder("sheet.png"),
                            title(),
                            cells,
                            parameters_.size() > 1 ? static_cast<int>(columns()) : 0);
    });
  }

  // A reading over the first parameter, for the value `row` of the second; beyond the boxes: the
  // picture's mean.
  figures::Curve curve(std::size_t row, std::size_t reading) const {
    figures::Curve c;
    if (reading == boxes_.size()) {
      c.name = "mean of the picture";
    } else {
      const PixelBox& b = boxes_[reading];
      c.name = (b.width == 1 && b.height == 1 ? "pixel " : "box ") + name_of(b);
    }
    if (parameters_.size() > 1) {
      c.name += ", " + shown(parameters_[1], row);
    }
    for (std::size_t u = 0; u < columns(); ++u) {
      const Point& p = points_[row * columns() + u];
      c.x.push_back(parameters_[0].numbers[u]);
      c.y.push_back(reading == boxes_.size() ? p.mean : p.readings[reading].luminance);
    }
    return c;
  }

  void draw_curves() {
    const SweptParameter& across = parameters_[0];
    figures::Plot plot;
    plot.title = title();
    plot.x_label = across.address + (across.unit.empty() ? "" : " [" + across.unit + "]");
    plot.y_label = "luminance [cd/m\u00b2]";
    plot.log_x = across.logarithmic;
    plot.legend = "outside right top";
    double least = HUGE_VAL, most = 0;
    for (std::size_t row = 0; row < points_.size() / columns(); ++row) {
      for (std::size_t reading = 0; reading <= boxes_.size(); ++reading) {
        figures::Curve c = curve(row, reading);
        c.color = figures::curve_color(plot.curves.size());
        for (const double y : c.y) {
          least = y > 0 ? std::min(least, y) : least;
          most = std::max(most, y);
        }
        plot.curves.push_back(std::move(c));
      }
    }
    plot.log_y = most > 20 * least;
    drawn_.draw([&] { figures::plot_figure(in_folder("curves.png"), plot); });
  }

  std::string json() const {
    Json j = {{"parameters", Json::array()},
              {"rendered", rendered_},
              {"kept", kept_},
              {"from_layers", derived_},
              {"approximate", is_approximate()},
              {"points", Json::array()}};
    for (const SweptParameter& p : parameters_) {
      j["parameters"].push_back({{"address", p.address}, {"values", p.values}, {"unit", p.unit}});
    }
    for (const Point& p : points_) {
      Json one = {{"folder", p.folder},
                  {"at", p.at},
                  {"mean_luminance_cd_m2", p.mean},
                  {"noise_p95", number_or_null(p.p95)},
                  {"share_from_haze", number_or_null(p.from_haze)},
                  {"drowned", p.drowned},
                  {"readings", Json::array()}};
      for (const Reading& r : p.readings) {
        one["readings"].push_back({{"x", r.box.x},
                                   {"y", r.box.y},
                                   {"width", r.box.width},
                                   {"height", r.box.height},
                                   {"luminance_cd_m2", r.luminance},
                                   {"standard_error_cd_m2", number_or_null(r.standard_error)}});
      }
      j["points"].push_back(one);
    }
    return json_text(j);
  }

  std::string summary() const {
    std::vector<std::vector<std::string>> table = {{"folder"}};
    for (const SweptParameter& p : parameters_) {
      table[0].push_back(p.address);
    }
    table[0].insert(table[0].end(), {"mean cd/m2", "noise p95"});
    for (const PixelBox& b : boxes_) {
      table[0].push_back(name_of(b));
    }
    for (const Point& p : points_) {
      std::vector<std::string> row = {p.name};
      for (std::size_t k = 0; k < parameters_.size(); ++k) {
        row.push_back(shown(parameters_[k], p.at[k]));
      }
      row.insert(
          row.end(),
          {short_number(p.mean), std::isfinite(p.p95) ? short_number(100 * p.p95, 3) + " %" : "-"});
      for (const Reading& r : p.readings) {
        row.push_back(short_number(r.luminance));
      }
      table.push_back(std::move(row));
    }
    return text_table(table) +
           fmt::format("\n{} rendered, {} from layers, {} kept from before\nlook at {}{}\n",
                       rendered_,
                       derived_,
                       kept_,
                       in_folder("sheet.png"),
                       has_curves() ? ", " + in_folder("curves.png") : "") +
           (is_approximate() ? "tints from layers are exact on gray, near on colored surfaces; "
                               "--exact renders each\n"
                             : "");
  }

  const Arguments& arguments_;
  std::string folder_, camera_;
  bool denoised_;
  std::vector<PixelBox> boxes_;
  RigRequest request_;
  std::vector<SweptParameter> parameters_;
  std::vector<Point> points_;
  std::vector<Rig> rigs_;  // of the points
  LayerPlan plan_;
  int rendered_ = 0, kept_ = 0, derived_ = 0;
  FiguresLast drawn_;
};

}  // namespace

int run_sweep(int argc, char** argv) {
  const Arguments a(usage_of_sweep(), argc, argv);
  return Sweep(a).run();
}

}  // namespace jovilux::cli
