#include "jovilux/base/text.h"
#include "jovilux/rig/read_tables.h"

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_site(TableReader& r, Rig& rig) {
  const DocumentNode* node = r.table("site");
  if (node == nullptr) {
    return;
  }
  TableReader s = r.within("site", *node);
  Rig::Site out;
  s.require("latitude");
  s.require("longitude");
  out.latitude = s.number("latitude").value_or(0);
  out.longitude = s.number("longitude").value_or(0);
  if (const auto time = s.text("time")) {
    out.time = parse_moment(*time);
    if (!out.time) {
      s.error("time",
              s.place("time"),
              "bad-quantity",
              fmt::format("found \"{}\"; expected {}", printable(*time), s.forms("time")));
    }
  }
  rig.site = out;
  s.finish();
}

void read_size(TableReader& r, RenderSpec& out) {
  constexpr std::int64_t kMostPixels = 32768;
  const DocumentNode* size = r.find("size");
  if (size == nullptr) {
    return;
  }
  if (const auto sides = TableReader::wholes_of(*size, 2, 1, kMostPixels)) {
    out.width = static_cast<int>((*sides)[0]);
    out.height = static_cast<int>((*sides)[1]);
  } else {
    r.error("size", size->place, "out-of-range", fmt::format("expected {}", r.forms("size")));
  }
}

void read_march(TableReader& r, RenderSpec& out) {
  const DocumentNode* node = r.table("march");
  if (node == nullptr) {
    return;
  }
  TableReader m = r.within("march", *node);
  out.march_place = node->place;
  out.march.tolerance = m.number_or_standard("tolerance");
  out.march.max_steps = static_cast<int>(m.whole_or_standard("max_steps"));
  m.finish();
}

}  // namespace

void read_scene(TableReader& r, Rig& rig) {
  rig.title = r.text("title").value_or("");
  rig.length = meters_of_unit(r.word_or_standard("length"));
  rig.up = r.word_or_standard("up") == 0 ? Vec3d::UnitZ() : Vec3d::UnitY();
  read_site(r, rig);
  r.finish();
}

void read_render(TableReader& r, Rig& rig) {
  RenderSpec& out = rig.render;
  read_size(r, out);
  if (const auto samples = r.whole("samples")) {
    out.samples = static_cast<int>(*samples);
    out.samples_given = true;
  }
  if (const auto noise = r.number("noise")) {
    constexpr int kMostForNoise = 1 << 16;  // the noise asked for ends the render
    out.noise = *noise;
    out.samples = out.samples_given ? out.samples : kMostForNoise;
  }
  out.bounces = static_cast<int>(r.whole_or_standard("bounces"));
  out.haze_bounces = static_cast<int>(r.whole("haze_bounces").value_or(out.haze_bounces));
  out.guiding = r.flag_or_standard("guiding");
  out.denoise = r.flag_or_standard("denoise");
  out.light_tracing = r.flag_or_standard("light_tracing");
  if (const auto seed = r.whole("seed")) {
    out.seed = static_cast<std::uint32_t>(*seed);
    out.seed_given = true;
  }
  out.time = r.number_or_standard("time");
  out.camera = r.text("camera").value_or("");
  out.camera_place = r.place("camera");
  out.layers = static_cast<RenderSpec::Layers>(r.word_or_standard("layers"));
  read_march(r, out);
  r.finish();
}

void read_time(TableReader& r, Rig& rig) {
  constexpr std::int64_t kLastFrame = 999'999;
  TimeSpec& out = rig.time;
  out.given = true;
  out.place = r.node().place;
  if (r.require("frames")) {
    const DocumentNode* frames = r.find("frames");
    const auto ends = TableReader::wholes_of(*frames, 2, 0, kLastFrame);
    if (ends && (*ends)[0] <= (*ends)[1]) {
      out.first = static_cast<int>((*ends)[0]);
      out.last = static_cast<int>((*ends)[1]);
    } else {
      r.error("frames",
              frames->place,
              "out-of-range",
              fmt::format("expected [first, last], whole numbers from 0 to {}, the first not above "
                          "the last",
                          kLastFrame));
    }
  }
  out.rate = r.number_or_standard("rate");
  out.start = r.number_or_standard("start");
  out.shutter = r.number_or_standard("shutter");
  out.clock_speed = r.number_or_standard("clock_speed");
  r.finish();
}

}  // namespace jovilux
