#include "jovilux/base/text.h"
#include "jovilux/files/json.h"
#include "jovilux/files/png.h"
#include "jovilux/photometry/exposure.h"

#include <algorithm>
#include <cmath>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/terminal_picture.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

// The bands that the options ask for: of a stop about 18 % gray, or even ones of cd/m2.
figures::FalseColor bands_of(const Arguments& a, const RenderedImage& image) {
  figures::FalseColor out;
  out.gray = luminance_at(image.shown().ev()).value;  // what the view shows as 18 % gray
  out.isolines = !a.flag("plain");
  out.zebra = !a.flag("plain");
  out.bands = a.whole("bands", 2, 40).value_or(12);
  if (const auto range = a.text("range")) {
    const auto dots = range->find("..");
    const auto lo = dots == std::string::npos
                        ? std::nullopt
                        : parse_number(trimmed(std::string_view(*range).substr(0, dots)));
    const auto hi = dots == std::string::npos
                        ? std::nullopt
                        : parse_number(trimmed(std::string_view(*range).substr(dots + 2)));
    if (!lo || !hi || !(*hi > *lo) || *lo < 0) {
      throw UsageError(
          fmt::format("--range: found \"{}\"; expected cd/m2 such as 0..200", printable(*range)));
    }
    out.stops = false;
    out.lowest = *lo;
    out.highest = *hi;
  }
  return out;
}

Usage usage_of_false_color() {
  return {
      "false-color",
      "IMAGE",
      "Luminance in bands of color, of a render's folder or an .exr, .png or .hdr file: "
      "DIR/false-color.png with a\nlegend, lines between bands, stripes where the view clips or is "
      "black, a histogram, and luminance across.",
      {{"o,output", "folder for the figure; created", "DIR"},
       {"bands", "how many; 12 by default, each a stop", "N"},
       {"range", "even bands of cd/m2 instead, such as 0..200", "LO..HI"},
       {"plain", "no lines and no stripes", ""},
       {"pixels", "also write DIR/pixels.png: the bands alone, as large as the picture", ""},
       denoised_option(),
       {"force", "replace files in DIR", ""},
       {"json", "print the share of each band as one JSON document", ""}},
      "",
      "jovilux false-color demo-out/bench -o demo-out/false"};
}

// The picture that is given, denoised where that is asked. Throws BadInput.
RenderedImage picture_given(const Arguments& a) {
  auto image = load_rendered(a.positional(), false, a.flag("denoised"));
  if (!image) {
    throw BadInput{image.problems()};
  }
  return std::move(*image);
}

void draw_bands(const Arguments& a,
                const std::string& folder,
                const RenderedImage& image,
                const figures::FalseColor& f) {
  std::vector<std::string> files = {"false-color.png"};
  if (a.flag("pixels")) {
    files.emplace_back("pixels.png");
  }
  prepare_files(folder, files, a.flag("force"));
  figures::false_color_figure(
      (fs::path(folder) / "false-color.png").string(),
      image,
      f,
      printable(a.positional(), 120) + (image.absolute ? "" : " (its numbers read as cd/m\u00b2)"));
  if (a.flag("pixels")) {
    write_png((fs::path(folder) / "pixels.png").string(),
              image.width,
              image.height,
              figures::false_color_pixels(image, f));
  }
}

// Shares of a picture's pixels: of each band, of those that the view clips, of black ones.
struct BandShares {
  std::vector<double> bands;
  double clipped = 0, crushed = 0;
};

BandShares shares_of(const RenderedImage& image, const figures::FalseColor& f) {
  constexpr int kBlack = 2;  // of 255
  BandShares out;
  out.bands.resize(static_cast<std::size_t>(f.bands));
  const View view = image.shown();
  const double one = 1 / static_cast<double>(image.pixels());
  std::vector<std::size_t> counts(out.bands.size());
  std::size_t clipped = 0, crushed = 0;
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    ++counts[static_cast<std::size_t>(figures::band_of(f, image.luminance(i)))];
    const auto s = view.srgb8(image.color(i));
    clipped += view.clips(image.color(i)) ? 1 : 0;
    crushed += s[0] <= kBlack && s[1] <= kBlack && s[2] <= kBlack ? 1 : 0;
  }
  for (std::size_t b = 0; b < counts.size(); ++b) {
    out.bands[b] = static_cast<double>(counts[b]) * one;
  }
  out.clipped = static_cast<double>(clipped) * one;
  out.crushed = static_cast<double>(crushed) * one;
  return out;
}

Json to_json(const std::string& image, const figures::FalseColor& f, const BandShares& shares) {
  const auto low_end = [&](int b) {
    return f.stops ? f.gray * std::exp2(b - f.bands / 2.0)
                   : f.lowest + (f.highest - f.lowest) * b / f.bands;
  };
  Json j = {{"image", image},
            {"gray_cd_m2", f.gray},
            {"clipped", shares.clipped},
            {"crushed", shares.crushed},
            {"bands", Json::array()}};
  for (int b = 0; b < f.bands; ++b) {
    j["bands"].push_back({{"from_cd_m2", b == 0 ? 0.0 : low_end(b)},
                          {"to_cd_m2", b + 1 == f.bands ? Json(nullptr) : Json(low_end(b + 1))},
                          {"share", shares.bands[static_cast<std::size_t>(b)]},
                          {"color", figures::band_color(b, f.bands)}});
  }
  return j;
}

}  // namespace

int run_false_color(int argc, char** argv) {
  const Arguments a(usage_of_false_color(), argc, argv);
  const RenderedImage image = picture_given(a);
  const figures::FalseColor f = bands_of(a, image);
  const auto folder = a.text("output");
  if (!folder && !a.flag("json")) {
    throw UsageError("missing -o DIR, the folder for the figure; see jovilux false-color --help");
  }
  if (folder) {
    draw_bands(a, *folder, image, f);
  }
  const BandShares shares = shares_of(image, f);
  if (a.flag("json")) {
    print_out(json_text(to_json(a.positional(), f, shares)));
    return kDone;
  }
  print_out(
      fmt::format("18 % gray is {} cd/m2; {} % of the view is clipped, {} % black\nlook at {}\n",
                  short_number(f.gray, 3),
                  short_number(100 * shares.clipped, 3),
                  short_number(100 * shares.crushed, 3),
                  (fs::path(*folder) / "false-color.png").string()));
  return kDone;
}

namespace {

// What is known of a picture that is shown.
Json to_json(const std::string& file, const RenderedImage& image) {
  const View view = image.shown();
  double mean = 0;
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    mean += image.luminance(i) / static_cast<double>(image.pixels());
  }
  return {{"file", file},
          {"width", image.width},
          {"height", image.height},
          {"denoised", image.denoised},
          {"absolute", image.absolute},
          {"mean_luminance_cd_m2", image.absolute ? Json(mean) : nullptr},
          {"mean", mean},
          {"ev100", view.ev()},
          {"white_luminance_cd_m2", view.white_luminance()}};
}

// The picture in bands of a stop, so many characters wide, with their legend.
std::string bands_in_terminal(const RenderedImage& image, int width) {
  constexpr int kMostRows = 100000;
  const RenderedImage small = shrunk(image, width, kMostRows);
  figures::FalseColor f;
  f.gray = luminance_at(image.shown().ev()).value;
  f.isolines = f.zebra = false;
  f.bands = 12;
  std::string out = terminal_text(figures::false_color_pixels(small, f), small.width, small.height);
  for (int b = 0; b < f.bands; ++b) {
    const std::string c = figures::band_color(b, f.bands);
    const auto part = [&](std::size_t i) { return std::stoi(c.substr(i, 2), nullptr, 16); };
    out += fmt::format("\x1b[48;2;{};{};{}m  \x1b[0m {} ",
                       part(1),
                       part(3),
                       part(5),
                       b == 0 ? "<" + short_number(f.gray * std::exp2(1 - f.bands / 2.0), 2)
                              : short_number(f.gray * std::exp2(b - f.bands / 2.0), 2));
  }
  return out + " cd/m2\n";
}

Usage usage_of_show() {
  return Usage{"show",
               "IMAGE",
               "The picture in the terminal, two pixels a character, in 24-bit color: a render's "
               "folder or an .exr, .png or\n.hdr file.",
               {{"width", "in characters; 80 by default", "N"},
                denoised_option(),
                {"false-color", "bands of a stop instead, with their legend", ""},
                {"json", "print one JSON document on the picture instead", ""}},
               "",
               "jovilux show demo-out/bench --width 100"};
}

}  // namespace

int run_show(int argc, char** argv) {
  const Arguments a(usage_of_show(), argc, argv);
  const int width = a.whole("width", 8, 1000).value_or(80);
  const RenderedImage image = picture_given(a);
  const std::string file = image_in(a.positional(), a.flag("denoised"));
  if (a.flag("json")) {
    print_out(json_text(to_json(file, image)));
    return kDone;
  }
  print_drawing(a.flag("false-color") ? bands_in_terminal(image, width)
                                      : terminal_picture(image, width));
  print_out(fmt::format("{}{}\n",
                        printable(file, 200),
                        image.denoised            ? ", denoised"
                        : !image.variance.empty() ? ", as traced"
                                                  : ""));
  return kDone;
}

}  // namespace jovilux::cli
