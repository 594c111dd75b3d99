#include "jovilux/base/text.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/json.h"
#include "jovilux/judge/comparison.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <utility>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/verbs.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

// A file without pixels for all of its picture: they count as black.
void tell_cropped(const std::string& path) {
  if (std::filesystem::path(path).extension() != ".exr") {
    return;
  }
  if (const auto reader = ExrReader::open(path); reader && reader->is_cropped()) {
    print_err(
        fmt::format("warning: {} has pixels for a part of its picture only; the others count "
                    "as black\n",
                    printable(path, 200)));
  }
}

bool is_display(const std::string& path) {
  return std::filesystem::path(path).extension() == ".png";
}

// A picture for display beside one of luminances: its white clips, and it has an exposure and a
// curve.
void tell_display(const std::string& path, const RenderedImage& image) {
  constexpr float kWhite = 254.5f / 255;
  std::size_t clipped = 0;
  for (std::size_t i = 0; i < image.pixels(); ++i) {
    const float* const rgb = &image.rgb[3 * i];
    clipped += std::max({rgb[0], rgb[1], rgb[2]}) >= kWhite ? 1 : 0;
  }
  print_err(fmt::format(
      "warning: {} is for display: it has an exposure and a curve, and {} % of its pixels are "
      "clipped at white; compare image.exr to judge luminances\n",
      printable(path, 200),
      short_number(100.0 * static_cast<double>(clipped) / static_cast<double>(image.pixels()), 2)));
}

Usage usage_of_compare() {
  return {"compare",
          "A B...",
          "How picture B differs from A, each a render's folder or an .exr, .png or .hdr file: in "
          "stops, in color, and\nwhether by more than their noise.",
          {{"o,output", "also write DIR/compare.png: both, a split view, the difference", "DIR"},
           {"names", "what to call them, such as \"before,after\"", "A,B"},
           denoised_option(),
           {"same-exposure", "first bring B to the mean luminance of A, and say by how much", ""},
           {"max", "exit with 1 where 95 % of the pixels differ by more stops than this", "STOPS"},
           {"force", "replace files in DIR", ""},
           {"json", "print one JSON document instead", ""}},
          "z is the difference of the mean luminances over its standard error: above 4 it is no "
          "chance.",
          "jovilux compare demo-out/wide demo-out/misty -o demo-out/compare"};
}

// Throws BadInput for a pixel that holds no number.
void require_finite(const std::string& name, const RenderedImage& image) {
  if (const auto pixel = image.not_finite) {
    const auto width = static_cast<std::size_t>(image.width);
    throw BadInput{
        {{Severity::kError,
          "not-finite",
          {image_in(name), 0, 0},
          "",
          fmt::format("pixel {},{} holds no finite value", *pixel % width, *pixel / width),
          "nothing can be compared with it: render again, or mend the file"}}};
  }
}

// The two pictures, the second as large as the first; tells what sets them apart.
std::pair<RenderedImage, RenderedImage> load_both(const std::vector<std::string>& names,
                                                  bool denoised) {
  auto first = load_rendered(names[0], false, denoised),
       second = load_rendered(names[1], false, denoised);
  Problems problems = first.problems();
  problems.insert(problems.end(), second.problems().begin(), second.problems().end());
  if (!first || !second) {
    throw BadInput{problems};
  }
  print_problems(problems);
  require_finite(names[0], *first);
  require_finite(names[1], *second);
  if (second->width != first->width || second->height != first->height) {
    print_err(fmt::format("warning: {} has {} x {} pixels: resized to {} x {}\n",
                          printable(names[1], 200),
                          second->width,
                          second->height,
                          first->width,
                          first->height));
    *second = resized(*second, first->width, first->height);
  }
  tell_cropped(names[0]);
  tell_cropped(names[1]);
  if (second->absolute != first->absolute) {
    if (is_display(names[0])) {
      tell_display(names[0], *first);
    } else if (is_display(names[1])) {
      tell_display(names[1], *second);
    } else {
      print_err("warning: only one of the two says what luminance its numbers stand for\n");
    }
  }
  return {std::move(*first), std::move(*second)};
}

// Brings b to the mean luminance of a; the factor that does.
double bring_to_mean(const RenderedImage& a, RenderedImage& b) {
  double sum_a = 0, sum_b = 0;
  for (std::size_t i = 0; i < b.pixels(); ++i) {
    sum_a += a.luminance(i);
    sum_b += b.luminance(i);
  }
  const double factor = sum_a > 0 && sum_b > 0 ? sum_a / sum_b : 1;
  for (float& v : b.rgb) {
    v *= static_cast<float>(factor);
  }
  for (float& v : b.variance) {
    v *= static_cast<float>(factor * factor);
  }
  return factor;
}

std::pair<std::string, std::string> names_to_show(const Arguments& a) {
  const auto names = a.text("names");
  if (!names) {
    return {a.positionals()[0], a.positionals()[1]};
  }
  const auto comma = names->find(',');
  if (comma == std::string::npos) {
    throw UsageError("--names: expected two names with a comma between them");
  }
  return {names->substr(0, comma), names->substr(comma + 1)};
}

Json to_json(const std::vector<std::string>& names, const Comparison& c, double exposure) {
  return {{"a", names[0]},
          {"b", names[1]},
          {"exposure_stops", std::log2(exposure)},
          {"mean_stops", c.mean_stops},
          {"p95_stops", c.p95_stops},
          {"max_stops", c.max_stops},
          {"delta_e_mean", c.delta_e_mean},
          {"delta_e_p95", c.delta_e_p95},
          {"rmse_cd_m2", c.rmse},
          {"mean_a_cd_m2", c.mean_a},
          {"mean_b_cd_m2", c.mean_b},
          {"z", number_or_null(c.z)},
          {"share_beyond_noise", number_or_null(c.beyond_noise)}};
}

std::string to_text(const Comparison& c, double exposure) {
  constexpr double kNoChance = 4;  // standard errors
  const auto signed_number = [](double v) { return (v >= 0 ? "+" : "") + short_number(v, 3); };
  std::string out = exposure == 1
                        ? ""
                        : fmt::format("exposure        B was brought to A's mean by {} stops\n",
                                      signed_number(std::log2(exposure)));
  out += fmt::format(
      "mean luminance  {} and {} cd/m2{}\n",
      short_number(c.mean_a),
      short_number(c.mean_b),
      c.mean_a > 0 && c.mean_b > 0
          ? fmt::format(": B is {} stops", signed_number(std::log2(c.mean_b / c.mean_a)))
          : "");
  out +=
      fmt::format("pixel by pixel  B is {} stops on average: dark places count as much as bright\n",
                  signed_number(c.mean_stops));
  out += fmt::format(
      "in stops        95 % of the pixels differ by less than {}, none by more than {}\n",
      short_number(c.p95_stops, 3),
      short_number(c.max_stops, 3));
  out += fmt::format("in color        \u0394E2000 {} on average, 95 % below {}\n",
                     short_number(c.delta_e_mean, 3),
                     short_number(c.delta_e_p95, 3));
  out += fmt::format("rms             {} cd/m2\n", short_number(c.rmse, 3));
  return out + (std::isnan(c.z)
                    ? std::string("noise           one of the two does not tell its own\n")
                    : fmt::format("noise           z = {}: the means differ by {} than noise "
                                  "explains; {} % of the pixels by more than 3 standard errors\n",
                                  short_number(c.z, 3),
                                  std::abs(c.z) > kNoChance ? "more" : "no more",
                                  short_number(100 * c.beyond_noise, 3)));
}

}  // namespace

int run_compare(int argc, char** argv) {
  const Arguments a(usage_of_compare(), argc, argv);
  if (a.positionals().size() != 2) {
    throw UsageError("expected two pictures; see jovilux compare --help");
  }
  const auto max = a.number("max", 0, 100);
  const auto [name_a, name_b] = names_to_show(a);
  auto [first, second] = load_both(a.positionals(), a.flag("denoised"));
  // Differences of the whole are set aside where that is asked for.
  const double exposure = a.flag("same-exposure") ? bring_to_mean(first, second) : 1;
  constexpr double kDark = 1e-5;  // of the white
  const Comparison c = compare_images(first, second, kDark * first.shown().white_luminance());
  const auto folder = a.text("output");
  const std::string png = (std::filesystem::path(folder.value_or("")) / "compare.png").string();
  if (folder) {
    prepare_files(*folder, {"compare.png"}, a.flag("force"));
    figures::comparison_figure(png, first, second, c, name_a, name_b);
  }
  print_out(a.flag("json")
                ? json_text(to_json(a.positionals(), c, exposure))
                : to_text(c, exposure) + (folder ? fmt::format("\nlook at {}\n", png) : ""));
  return max && c.p95_stops > *max ? kFellShort : kDone;
}

}  // namespace jovilux::cli
