#include "jovilux/base/text.h"
#include "jovilux/rig/read_tables.h"

#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kSamePlace = 1e-9;  // [m]

void read_lens(TableReader& r, CameraSpec& c) {
  c.sensor = r.number_or_standard("sensor");
  const auto lens = r.number("lens");
  const auto field_of_view = r.number("field_of_view");
  if (r.has("lens") && r.has("field_of_view")) {
    r.error("field_of_view",
            r.place("field_of_view"),
            "conflict",
            "lens and field_of_view are both given; either sets the angle of view",
            "leave one of them out");
  }
  if (lens) {
    c.lens = *lens;
    c.field_of_view = 2 * std::atan(c.sensor / (2 * *lens));
  } else {
    c.field_of_view = field_of_view.value_or(c.field_of_view);
    c.lens = c.sensor / (2 * std::tan(c.field_of_view / 2));
  }
}

void read_facing(TableReader& r, const Rig& rig, MeterSpec& m) {
  if (!r.has("aim")) {
    m.facing = r.direction("facing").value_or(rig.up);
    return;
  }
  const auto aim = r.vector("aim");
  if (r.has("facing")) {
    r.direction("facing");
    r.error("aim",
            r.place("aim"),
            "conflict",
            "aim and facing are both given; either says which way it looks",
            "leave one of them out");
  } else if (aim && !((*aim - m.at).norm() > kSamePlace)) {
    r.error("aim",
            r.place("aim"),
            "zero-direction",
            "the meter is at the point that it aims at",
            "move one of them");
  } else if (aim) {
    m.aim = aim;
    m.facing = (*aim - m.at).normalized();
  }
}

// The object that an illuminance meter lies on.
void read_on(TableReader& r, const Rig& rig, MeterSpec& m) {
  const auto on = r.text("on");
  if (!on) {
    return;
  }
  std::vector<std::string> names;
  for (const ObjectSpec& o : rig.objects) {
    names.push_back(o.name);
  }
  if (std::find(names.begin(), names.end(), *on) == names.end()) {
    r.unknown_name(
        "on", r.place("on"), fmt::format("there is no object \"{}\"", printable(*on)), *on, names);
  }
  m.on = *on;
}

// The camera from whose place a luminance meter measures.
void read_camera_of(TableReader& r, const Rig& rig, MeterSpec& m) {
  const auto name = r.text("camera");
  if (!name) {
    return;
  }
  if (r.has("at") || r.has("grid")) {
    r.error("camera",
            r.place("camera"),
            "conflict",
            "camera and a place are both given; either says where it measures from",
            "leave one of them out");
  }
  std::vector<std::string> names;
  for (const CameraSpec& c : rig.cameras) {
    names.push_back(c.name);
    if (c.name == *name) {
      m.camera = *name;
      stand_at(m, c);
    }
  }
  if (m.camera.empty()) {
    r.unknown_name("camera",
                   r.place("camera"),
                   fmt::format("there is no camera \"{}\"", printable(*name)),
                   *name,
                   names);
  }
}

void read_target(TableReader& r, MeterSpec& m) {
  const DocumentNode* target = r.find("target");
  if (target == nullptr) {
    return;
  }
  if (!target->is_array() || target->array().size() != 2) {
    r.wrong_type("target", *target);
    return;
  }
  const Dimension unit = m.luminance ? Dimension::kLuminance : Dimension::kIlluminance;
  const auto lo = r.amount_of(target->array()[0], "target", unit, kNotNegative),
             hi = r.amount_of(target->array()[1], "target", unit, kNotNegative);
  if (lo && hi && *hi < *lo) {
    r.error("target",
            target->place,
            "out-of-range",
            "the first value is the lowest that will do, the second the highest",
            "exchange them");
  } else if (lo && hi) {
    m.target = std::pair(*lo, *hi);
  }
}

void read_grid(TableReader& r, MeterSpec& m) {
  const DocumentNode* node = r.table("grid");
  if (node == nullptr) {
    return;
  }
  TableReader g = r.within("grid", *node);
  MeterSpec::Grid out;
  g.require("from");
  g.require("to");
  const auto from = g.vector("from"), to = g.vector("to");
  out.from = from.value_or(out.from);
  out.to = to.value_or(out.to);
  const DocumentNode* count = g.find("count");
  constexpr std::int64_t kMostAlong = 200;
  const auto wholes =
      count != nullptr ? TableReader::wholes_of(*count, 2, 1, kMostAlong) : std::nullopt;
  if (wholes) {
    out.count = {static_cast<int>((*wholes)[0]), static_cast<int>((*wholes)[1])};
  } else {
    g.error("count",
            count != nullptr ? count->place : node->place,
            count != nullptr ? "out-of-range" : "missing-key",
            fmt::format("{}expected {}", count != nullptr ? "" : "is missing; ", g.forms("count")));
  }
  int differ = 0;
  for (int i = 0; i < 3; ++i) {
    differ += out.from[i] != out.to[i] ? 1 : 0;
  }
  if (from && to && (differ == 0 || differ > 2)) {
    g.error("to",
            g.place("to"),
            "out-of-range",
            "the corners must differ along one or two axes",
            "give two corners of a level or upright rectangle");
  }
  if (from && to && wholes && differ == 1 && out.count[1] > 1) {
    g.error(
        "count",
        g.place("count"),
        "out-of-range",
        fmt::format("the corners differ along one axis: the second of [{}, {}] would measure the "
                    "same points again",
                    out.count[0],
                    out.count[1]),
        fmt::format("write count = [{}, 1]", std::max(out.count[0], out.count[1])));
  }
  g.finish();
  m.grid = out;
}

// "auto", "auto+1", "auto -0.5 stops": the stops that are added to what is metered; nothing where
// the text is none of these.
std::optional<double> stops_beside_auto(std::string_view text) {
  constexpr std::string_view kAuto = "auto";
  constexpr double kMost = 20;
  if (!text.starts_with(kAuto)) {
    return std::nullopt;
  }
  text = trimmed(text.substr(kAuto.size()));
  if (text.empty()) {
    return 0;
  }
  if (text[0] != '+' && text[0] != '-') {
    return std::nullopt;
  }
  for (const std::string_view unit : {"stops", "stop"}) {
    if (text.ends_with(unit)) {
      text = trimmed(text.substr(0, text.size() - unit.size()));
    }
  }
  if (text.starts_with('+')) {
    text.remove_prefix(1);
  }
  const auto stops = parse_number(trimmed(text));
  return stops && std::abs(*stops) <= kMost ? stops : std::nullopt;
}

void read_exposure(TableReader& r, LookSpec& look) {
  constexpr double kMostEv = 40;
  const DocumentNode* node = r.find("exposure");
  if (node == nullptr) {
    return;
  }
  const std::string text = node->is_text() ? node->text() : "";
  const auto ev = parse_amount(text);
  if (text == "camera") {
    look.exposure = LookSpec::Exposure::kCamera;
  } else if (const auto brighter = stops_beside_auto(text)) {
    look.exposure = LookSpec::Exposure::kAuto;
    look.brighter = *brighter;
  } else if (const auto* a = std::get_if<Amount>(&ev); a != nullptr &&
                                                       a->dimension == Dimension::kExposure &&
                                                       std::abs(a->value) <= kMostEv) {
    look.exposure = LookSpec::Exposure::kFixed;
    look.ev = a->value;
  } else if (node->is_number()) {
    r.error("exposure",
            node->place,
            "missing-unit",
            fmt::format("found {} without a unit; expected {}",
                        short_number(node->number(), 6),
                        r.forms("exposure")),
            fmt::format("write \"EV {}\"", short_number(node->number(), 6)));
  } else if (!node->is_text()) {
    r.wrong_type("exposure", *node);
  } else {
    r.error("exposure",
            node->place,
            "unknown-word",
            fmt::format("found \"{}\"; expected {}", printable(text), r.forms("exposure")),
            did_you_mean(text, {"camera", "auto"}));
  }
}

}  // namespace

void read_camera(TableReader& r, const std::string& name, Rig& rig) {
  CameraSpec c;
  c.name = name;
  c.place = r.node().place;
  r.require("at");
  r.require("look_at");
  const auto at = r.vector("at"), look_at = r.vector("look_at");
  c.at = at.value_or(c.at);
  c.look_at = look_at.value_or(c.look_at);
  if (at && look_at && !((c.look_at - c.at).norm() > kSamePlace)) {
    r.error("look_at",
            r.place("look_at"),
            "zero-direction",
            "the camera is at the point that it looks at",
            "move one of them");
  }
  read_lens(r, c);
  c.exposure.stop = r.number_or_standard("stop");
  c.exposure.shutter = {r.number_or_standard("shutter")};
  c.exposure.iso = r.number_or_standard("iso");
  c.focus = r.number("focus");
  r.finish();
  rig.cameras.push_back(std::move(c));
}

void read_meter(TableReader& r, const std::string& name, Rig& rig) {
  MeterSpec m;
  m.name = name;
  m.place = r.node().place;
  r.require("kind");
  const auto kind = r.word("kind");
  m.luminance = kind.value_or(0) == 1;
  if (kind) {
    r.set_kind(r.words("kind")[*kind]);
  }
  if (r.has("at") && r.has("grid")) {
    r.error(
        "at", r.place("grid"), "conflict", "at and grid are both given", "leave one of them out");
  } else if (!r.has("grid") && !(m.luminance && r.has("camera"))) {
    r.require("at");
  }
  m.at = r.vector("at").value_or(m.at);
  if (m.luminance) {
    read_camera_of(r, rig, m);
  } else {
    read_on(r, rig, m);
  }
  if (m.camera.empty() || r.has("aim") || r.has("facing")) {
    read_facing(r, rig, m);
  }
  if (m.luminance) {
    m.field = r.number_or_standard("field");
  }
  read_target(r, m);
  read_grid(r, m);
  r.finish("an illuminance meter");
  rig.meters.push_back(std::move(m));
}

void stand_at(MeterSpec& meter, const CameraSpec& camera) {
  meter.at = camera.at;
  const Vec3d way = meter.aim.value_or(camera.look_at) - meter.at;
  if (way.norm() > kSamePlace) {
    meter.facing = way.normalized();
  }
}

namespace {

void read_transform(TableReader& r, LookSpec& look) {
  const DocumentNode* node = r.table("transform");
  if (node == nullptr) {
    return;
  }
  TableReader t = r.within("transform", *node);
  t.require("config");
  Place place;
  StudioTransformSpec spec;
  const auto config = t.file("config", &place);
  spec.display = t.text("display").value_or("");
  spec.view = t.text("view").value_or("");
  spec.look = t.text("look").value_or("");
  spec.input = t.text("input").value_or("");
  t.finish();
  if (r.has("curve")) {
    r.error("curve",
            r.place("curve"),
            "conflict",
            "curve and transform are both given; either makes the picture",
            "leave one of them out");
  }
  if (!config || config->empty()) {
    return;
  }
  spec.config = *config;
  auto opened = StudioTransform::open(spec);
  if (auto* transform = std::get_if<std::shared_ptr<const StudioTransform>>(&opened)) {
    look.studio = std::move(*transform);
    return;
  }
  const StudioTransformFault& fault = std::get<StudioTransformFault>(opened);
  const std::string value = t.text(fault.key).value_or("");
  if (!fault.known.empty()) {
    t.unknown_name(fault.key,
                   t.place(fault.key),
                   fmt::format("\"{}\" {}", printable(value, 60), printable(fault.text, 300)),
                   value,
                   fault.known);
  } else {
    t.error(fault.key,
            t.has(fault.key) ? t.place(fault.key) : node->place,
            "bad-transform",
            printable(fault.text, 400),
            fault.hint);
  }
}

}  // namespace

void read_look(TableReader& r, Rig& rig) {
  constexpr double kColdest = 1000;  // [K]
  LookSpec& look = rig.look;
  read_exposure(r, look);
  if (const DocumentNode* white = r.find("white_balance");
      white != nullptr && white->is_text() && white->text() == "auto") {
    look.white_auto = true;
  } else if (white != nullptr) {
    const auto parsed = white->is_text()     ? parse_white(white->text())
                        : white->is_number() ? parse_white(fmt::format("{} K", white->number()))
                                             : std::nullopt;
    if (parsed && parsed->temperature.value >= kColdest) {
      look.white_balance = *parsed;
    } else {
      r.error("white_balance",
              white->place,
              "bad-quantity",
              fmt::format("expected {}", r.forms("white_balance")));
    }
  }
  look.curve = r.word_or_standard("curve") == 0 ? LookSpec::Curve::kFilm : LookSpec::Curve::kLinear;
  read_transform(r, look);
  look.bloom = r.number_or_standard("bloom");
  r.finish();
}

}  // namespace jovilux
