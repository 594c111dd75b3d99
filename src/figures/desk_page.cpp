#include "figures/desk_page.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/color/chromaticity.h"
#include "jovilux/color/sources_by_name.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"

#include <algorithm>
#include <cmath>
#include <cstdint>
#include <memory>

#include "figures/report_page.h"
#include "figures/sheet_figure.h"
#include <fmt/format.h>
#include <glib.h>
#include <zlib.h>

namespace jovilux::figures {
namespace {

constexpr int kSteps = 1022;        // between the least and the largest value
constexpr double kBelowWhite = 17;  // stops under which nothing shows, even raised by the fader
constexpr double kMostStops = 26;

const std::string& desk_template() {
  static const std::string text = [] {
    struct Embedded {
      const char* name;
      std::string_view text;
    };
    static constexpr Embedded kFiles[] = {
#include "desk_page.inc"
    };
    return std::string(kFiles[0].text);
  }();
  return text;
}

// The median edge detector of LOCO-I (Weinberger, Seroussi, Sapiro 2000).
int predicted(const std::vector<int>& plane, std::size_t i, std::size_t width) {
  const bool left = i % width > 0, above = i >= width;
  const int a = left    ? plane[i - 1]
                : above ? plane[i - width]
                        : 0,
            b = above ? plane[i - width] : a, corner = left && above ? plane[i - width - 1] : b;
  return corner >= std::max(a, b)   ? std::min(a, b)
         : corner <= std::min(a, b) ? std::max(a, b)
                                    : a + b - corner;
}

std::string deflated(const std::vector<unsigned char>& bytes) {
  uLongf size = ::compressBound(static_cast<uLong>(bytes.size()));
  std::string out(size, '\0');
  const int status = ::compress2(reinterpret_cast<Bytef*>(out.data()),
                                 &size,
                                 bytes.data(),
                                 static_cast<uLong>(bytes.size()),
                                 Z_BEST_COMPRESSION);
  if (status != Z_OK) {
    throw MachineTrouble("writing a page: a layer cannot be compressed");
  }
  out.resize(size);
  return out;
}

std::string base64(const std::string& bytes) {
  const std::unique_ptr<gchar, void (*)(gpointer)> text(
      g_base64_encode(reinterpret_cast<const guchar*>(bytes.data()), bytes.size()), g_free);
  return text.get();
}

// As the view's white balance shows it: there channels do not cancel, so that an error of each is
// one of what is shown.
std::vector<float> balanced(const std::vector<float>& rgb, const Eigen::Matrix3d& balance) {
  std::vector<float> out(rgb.size());
  const Eigen::Matrix3f m = balance.cast<float>();
  for (std::size_t i = 0; i < rgb.size(); i += 3) {
    Eigen::Map<Eigen::Vector3f>(out.data() + i) =
        m * Eigen::Map<const Eigen::Vector3f>(rgb.data() + i);
  }
  return out;
}

Json rows_of(const Eigen::Matrix3d& m) {
  Json out = Json::array();
  for (int r = 0; r < 3; ++r) {
    out.push_back({m(r, 0), m(r, 1), m(r, 2)});
  }
  return out;
}

// [kelvin, X, Y, Z] of whites, Y = 1.
Json whites() {
  constexpr int kColdest = 1000, kHottest = 12000, kStep = 250;
  Json out = Json::array();
  for (int kelvin = kColdest; kelvin <= kHottest; kelvin += kStep) {
    if (const auto white = parse_white(fmt::format("{} K", kelvin))) {
      const Xyz xyz = tristimulus(spectrum(*white));
      out.push_back({kelvin, xyz[0] / xyz[1], 1, xyz[2] / xyz[1]});
    }
  }
  return out;
}

Json bands() {
  constexpr int kBands = 12;
  Json out = Json::array();
  for (int b = 0; b < kBands; ++b) {
    const std::string hex = band_color(b, kBands);
    const auto part = [&hex](std::size_t i) { return std::stoi(hex.substr(i, 2), nullptr, 16); };
    out.push_back({part(1), part(3), part(5)});
  }
  return out;
}

Json triple(const Rgb& c) { return {c[0], c[1], c[2]}; }

Json slide_of(const LayerControls& controls) {
  Json out = Json::array();
  for (const auto& [stops, factor] : controls.slide) {
    out.push_back({stops, factor[0], factor[1], factor[2]});
  }
  return out;
}

// In 16 bits, which a browser reads in its own order: little-endian everywhere.
Json cube_of(const std::vector<float>& cube) {
  if (cube.empty()) {
    return nullptr;
  }
  std::vector<unsigned char> bytes;
  bytes.reserve(2 * cube.size());
  for (const float v : cube) {
    const auto step = static_cast<unsigned>(std::lround(65535 * v));
    bytes.push_back(static_cast<unsigned char>(step & 0xff));
    bytes.push_back(static_cast<unsigned char>(step >> 8));
  }
  return {{"side", kDeskCubeSide},
          {"steepness", kBakedSteepness},
          {"end", kBakedEnd},
          {"axes", rows_of(rec2020_from_rec709())},
          {"values", base64({bytes.begin(), bytes.end()})}};
}

Json json_of(const DeskPage& page, const std::vector<DeskLayer>& layers) {
  const Xyz d65 = from_xy({0.3127, 0.3290});
  Json j = {{"title", page.title},
            {"width", page.width},
            {"height", page.height},
            {"denoised", page.denoised},
            {"film", page.film},
            {"ev", page.ev},
            {"scale", page.scale},
            {"balance", rows_of(page.balance)},
            {"rgbOfXyz", rows_of(rec709_from_xyz())},
            {"d65", {d65[0], d65[1], d65[2]}},
            {"luminances", kLuminances},
            {"whites", whites()},
            {"bands", bands()},
            {"cube", cube_of(page.cube)},
            {"groups", Json::array()},
            {"lights", Json::array()},
            {"meters", Json::array()}};
  for (std::size_t l = 0; l < page.lights.size(); ++l) {
    const DeskLight& light = page.lights[l];
    Json addresses = Json::array();
    for (const LayerAddress& a : light.addresses) {
      addresses.push_back({{"address", a.address},
                           {"key", a.emission ? "emission" : "dimmer"},
                           {"dimmer", a.dimmer},
                           {"value", a.value},
                           {"unit", a.unit}});
    }
    j["lights"].push_back({{"name", light.name},
                           {"group", light.group},
                           {"source", triple(light.controls.source)},
                           {"bare", triple(light.controls.bare)},
                           {"tint", triple(light.controls.tint)},
                           {"tinted",
                            {triple(light.controls.tinted[0]),
                             triple(light.controls.tinted[1]),
                             triple(light.controls.tinted[2])}},
                           {"whiteIsFree", light.controls.white_is_free},
                           {"tintIsFree", light.controls.tint_is_free},
                           {"lock", light.controls.level_lock},
                           {"least", layers[l].least},
                           {"range", layers[l].range},
                           {"addresses", addresses},
                           {"slide", slide_of(light.controls)}});
    if (!light.group.empty() &&
        std::find(j["groups"].begin(), j["groups"].end(), light.group) == j["groups"].end()) {
      j["groups"].push_back(light.group);
    }
  }
  for (const DeskMeter& m : page.meters) {
    j["meters"].push_back(
        {{"name", m.name},
         {"unit", m.unit},
         {"target", m.target ? Json({m.target->first, m.target->second}) : Json(nullptr)},
         {"parts", m.parts}});
  }
  return j;
}

// JSON inside a script element: no end tag may stand in a text.
std::string inside_script(const Json& j) {
  std::string out;
  for (const char c : json_text(j, -1)) {
    out += c == '<' ? std::string("\\u003c") : std::string(1, c);
  }
  return out;
}

}  // namespace

DeskLayer desk_layer(const std::vector<float>& rgb, int width, int height, double white) {
  const std::size_t pixels = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
  JOVILUX_ASSERT(rgb.size() == 3 * pixels);
  DeskLayer out;
  double most = 1e-30;
  for (const float v : rgb) {
    most = std::max(most, static_cast<double>(std::abs(v)));
  }
  out.least = std::max(white * std::exp2(-kBelowWhite), most * std::exp2(-kMostStops));
  out.range = std::max(1.0, std::log2(most / out.least));
  const auto step_of = [&out](float v) {
    const double size = std::abs(static_cast<double>(v));
    const int step =
        !(size >= out.least)
            ? 0
            : 1 + static_cast<int>(std::lround(std::log2(size / out.least) / out.range * kSteps));
    return v < 0 ? -step : step;
  };
  out.planes.resize(6 * pixels);
  std::vector<int> green(pixels), plane(pixels);
  for (std::size_t c = 0; c < 3; ++c) {  // green first, red and blue beside it
    const std::size_t channel = c == 0 ? 1 : c == 1 ? 0 : 2;
    for (std::size_t i = 0; i < pixels; ++i) {
      plane[i] = step_of(rgb[3 * i + channel]) - (c == 0 ? 0 : green[i]);
    }
    for (std::size_t i = 0; i < pixels; ++i) {
      const int d = plane[i] - predicted(plane, i, static_cast<std::size_t>(width));
      const auto z = static_cast<std::uint32_t>(d >= 0 ? 2 * d : -2 * d - 1);
      out.planes[2 * c * pixels + i] = static_cast<unsigned char>(z & 0xff);
      out.planes[(2 * c + 1) * pixels + i] = static_cast<unsigned char>(z >> 8);
    }
    if (c == 0) {
      green = plane;
    }
  }
  return out;
}

std::size_t write_desk(const std::string& path, const DeskPage& page) {
  std::vector<DeskLayer> layers(page.lights.size());
  std::vector<std::string> packed(page.lights.size());
  parallel_for(page.lights.size(), [&](std::size_t l) {
    layers[l] = desk_layer(
        balanced(*page.lights[l].rgb, page.balance), page.width, page.height, 1 / page.scale);
    packed[l] = base64(deflated(layers[l].planes));
    layers[l].planes.clear();
  });
  std::string scripts;
  for (std::size_t l = 0; l < packed.size(); ++l) {
    scripts +=
        fmt::format("<script type=\"text/plain\" id=\"layer-{}\">", l) + packed[l] + "</script>\n";
  }
  std::string out = desk_template();
  const auto put = [&out](const std::string& mark, const std::string& text) {
    const std::size_t at = out.find(mark);
    JOVILUX_ASSERT(at != std::string::npos);
    out.replace(at, mark.size(), text);
  };
  put("@TITLE@", html_text(page.title));
  put("@LAYERS@", scripts);
  put("@DATA@", inside_script(json_of(page, layers)));
  write_text_file(path, out);
  return out.size();
}

}  // namespace jovilux::figures
