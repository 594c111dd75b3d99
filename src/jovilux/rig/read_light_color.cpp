#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"

#include <cmath>
#include <filesystem>
#include <span>

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_white(TableReader& r, LightSpec& light) {
  const DocumentNode* white = r.find("white");
  if (white == nullptr) {
    return;
  }
  const auto parsed = white->is_text()     ? parse_white(white->text())
                      : white->is_number() ? parse_white(fmt::format("{} K", white->number()))
                                           : std::nullopt;
  if (parsed) {
    light.white = *parsed;
  } else {
    r.error("white",
            white->place,
            "bad-quantity",
            fmt::format("found {}; expected {}",
                        white->is_text() ? "\"" + printable(white->text()) + "\""
                                         : std::string(white->kind()),
                        r.forms("white")),
            white->is_text() ? did_you_mean(white->text(), white_names()) : "");
  }
}

void read_spectrum(TableReader& r, LightSpec& light) {
  const auto name = r.text("spectrum");
  if (!name) {
    return;
  }
  light.spectrum_place = r.place("spectrum");
  if (r.has("white")) {
    r.error("spectrum",
            light.spectrum_place,
            "conflict",
            "white and spectrum are both given; one of them is the source's color",
            "leave one of them out");
  }
  if (!std::filesystem::path(*name).extension().empty()) {
    light.spectrum_file = r.file("spectrum").value_or("");
  } else if (const auto named = spectrum_named(*name)) {
    light.spectrum = std::make_shared<const NmTable>(*named);
  } else {
    r.error("spectrum",
            light.spectrum_place,
            "unknown-word",
            fmt::format("found \"{}\"; expected {}", printable(*name), r.forms("spectrum")),
            did_you_mean(*name, spectrum_names()));
  }
}

void read_dim_to_warm(TableReader& r, LightSpec& light) {
  light.dim_to_warm = r.number("dim_to_warm");
  if (light.dim_to_warm && (r.has("spectrum") || light.white.kind != White::Kind::kPlanck)) {
    r.error("dim_to_warm",
            r.place("dim_to_warm"),
            "conflict",
            "only a white in kelvin slides with its dimmer",
            "give white = \"2700 K\"");
  }
}

// Only what has a beam can be spread.
void check_diffusion(TableReader& r, const DocumentNode& gel, const LightSpec& light) {
  const SourceShape& s = light.shape;
  const bool flat = s.kind == LightKind::kDisk || s.kind == LightKind::kRect;
  if (s.kind == LightKind::kSpot || !light.profile_file.empty() || r.has("profile") ||
      (flat && r.has("spread"))) {
    return;
  }
  r.error("gel",
          gel.place,
          "conflict",
          fmt::format("\"{}\" spreads a beam, and this light has none", printable(gel.text())),
          flat ? "it shines as a diffuser does already; give it a spread, or leave the sheet out"
               : "use kind = \"spot\" or a profile, or leave the sheet out");
}

void read_gels(TableReader& r, const Rig& rig, LightSpec& light) {
  const DocumentNode* gel = r.find("gel");
  if (gel == nullptr) {
    return;
  }
  const auto one = [&](const DocumentNode& node) {
    if (!node.is_text()) {
      r.wrong_type("gel", node, "a gel's name or \"#rrggbb\"");
      return;
    }
    if (const auto color = parse_hex_color(node.text())) {
      light.gels.push_back({node.text(), node.place, spectrum_over_nm(*color), "", std::nullopt});
      return;
    }
    std::vector<std::string> names;
    for (const GelSpec& g : rig.gels) {
      if (g.name == node.text()) {
        light.gels.push_back(g);
        return;
      }
      names.push_back(g.name);
    }
    if (const auto shift = gel_by_effect(node.text())) {
      light.gels.push_back({node.text(), node.place, *shift, "", std::nullopt});
      return;
    }
    if (const auto sheet = diffusion_gel(node.text())) {
      GelSpec spread{node.text(), node.place, {}, "", sheet};
      spread.transmittance.value.fill(sheet->transmittance);
      check_diffusion(r, node, light);
      light.gels.push_back(std::move(spread));
      return;
    }
    if (node.text().find("diffusion") != std::string::npos) {
      r.error("gel",
              node.place,
              "bad-quantity",
              fmt::format("found \"{}\"; expected the spread of a parallel beam behind the sheet, "
                          "5 to 120 deg, and at will the share of the light that passes",
                          printable(node.text())),
              "write \"diffusion 20 deg\" or \"diffusion 20 deg 70 %\"");
      return;
    }
    for (std::string& effect : gel_effects()) {
      names.push_back(std::move(effect));
    }
    r.unknown_name("gel",
                   node.place,
                   fmt::format("there is no gel \"{}\"", printable(node.text())),
                   node.text(),
                   names);
  };
  if (gel->is_array()) {
    for (const DocumentNode& node : gel->array()) {
      one(node);
    }
  } else {
    one(*gel);
  }
}

void read_tint(TableReader& r, LightSpec& light) {
  light.tint = r.color("tint");
  if (light.tint && !(light.tint->maxCoeff() > 0)) {
    r.error("tint",
            r.place("tint"),
            "out-of-range",
            "a black tint has no color to give",
            "use dimmer or on = false to darken a light");
    light.tint.reset();
  }
}

// Values and colors, the values increasing; empty where one is wrong.
std::vector<std::pair<double, Rgb>> read_ramp(TableReader& t) {
  std::vector<std::pair<double, Rgb>> colors;
  const DocumentNode* ramp = t.find("ramp");
  if (ramp == nullptr || !ramp->is_array() || ramp->array().empty()) {
    t.missing("ramp");
    return colors;
  }
  for (const DocumentNode& point : ramp->array()) {
    if (!point.is_array() || point.array().size() != 2 || !point.array()[0].is_number()) {
      t.error("ramp", point.place, "wrong-type", "expected [value, color]");
      return {};
    }
    const auto color = t.color_of(point.array()[1], "ramp", 1e6);
    if (!color) {
      return {};
    }
    if (!(color->maxCoeff() > 0)) {
      t.error("ramp",
              point.place,
              "out-of-range",
              "black has no color to give: a tint keeps the light's level",
              "use a gobo or a dimmer to darken");
      return {};
    }
    if (!colors.empty() && point.array()[0].number() <= colors.back().first) {
      t.error("ramp", point.place, "out-of-range", "the values of a ramp must increase");
      return {};
    }
    colors.emplace_back(point.array()[0].number(), *color);
  }
  return colors;
}

void read_tint_by(TableReader& r, LightSpec& light) {
  const DocumentNode* node = r.table("tint_by");
  if (node == nullptr) {
    return;
  }
  if (light.tint) {
    r.error("tint_by",
            node->place,
            "conflict",
            "tint and tint_by are both given; one of them colors the light",
            "leave one of them out");
  }
  TableReader t = r.within("tint_by", *node);
  const auto formula = t.formula("formula", {"x", "y", "z", "t"});
  auto colors = read_ramp(t);
  t.finish();
  if (formula && !colors.empty()) {
    light.tint_by = TintByPosition{*formula, std::move(colors)};
  }
}

}  // namespace

void read_color(TableReader& r, const Rig& rig, LightSpec& light) {
  if (light.shape.kind != LightKind::kDome) {
    read_white(r, light);
    read_spectrum(r, light);
    read_dim_to_warm(r, light);
  }
  read_gels(r, rig, light);
  read_tint(r, light);
  read_tint_by(r, light);
}

namespace {

// A level is finite and not below 0: asked at every quarter of a second of the first minute.
void check_level_formula(TableReader& f, const Formula& formula) {
  for (int i = 0; i <= 240; ++i) {
    const double t = i / 4.0, v = formula(std::span<const double>(&t, 1));
    if (!std::isfinite(v) || v < 0) {
      f.error("formula",
              f.place("formula"),
              std::isfinite(v) ? "out-of-range" : "divides-by-zero",
              fmt::format("gives {} at t = {} s; a level is finite and not below 0",
                          std::isfinite(v) ? short_number(v) : std::string("no number"),
                          short_number(t)),
              v < 0 ? "wrap it in max(0, ...)" : "");
      return;
    }
  }
}

}  // namespace

std::optional<Flicker> read_flicker(TableReader& r) {
  const DocumentNode* node = r.table("flicker");
  if (node == nullptr) {
    return std::nullopt;
  }
  using Wave = Flicker::Wave;
  TableReader f = r.within("flicker", *node);
  Flicker out;
  f.require("wave");
  const auto wave = f.word("wave");
  if (wave) {
    f.set_kind(f.words("wave")[*wave]);
  }
  out.wave = static_cast<Wave>(wave.value_or(0));
  if (out.wave == Wave::kFormula) {
    out.rate = f.number("rate").value_or(1);
    out.formula = f.formula("formula", {"t"});
    if (out.formula) {
      check_level_formula(f, *out.formula);
    }
  } else {
    f.require("rate");
    out.rate = f.number("rate").value_or(1);
    out.depth = f.number_or_standard("depth");
    out.phase = f.number_or_standard("phase");
  }
  if (out.wave == Wave::kSquare) {
    out.duty = f.number_or_standard("duty");
  }
  if (out.wave == Wave::kFlame || out.wave == Wave::kStrike) {
    out.seed = static_cast<std::uint32_t>(f.whole_or_standard("seed"));
  }
  f.finish(wave ? fmt::format("wave \"{}\"", f.kind()) : "this wave");
  if (!wave || (out.wave == Wave::kFormula && !out.formula)) {
    return std::nullopt;
  }
  return out;
}

}  // namespace jovilux
