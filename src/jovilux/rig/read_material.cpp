#include "jovilux/base/text.h"
#include "jovilux/rig/read_tables.h"

#include <filesystem>

#include <fmt/format.h>

namespace jovilux {
namespace {

using Kind = MaterialSpec::Kind;

bool is_table_file(const std::string& file) { return has_ending(file, {".csv"}); }

bool is_picture_file(const std::string& file) { return has_ending(file, {".png", ".exr", ".hdr"}); }

void read_picture(TableReader& r,
                  std::string_view key,
                  const DocumentNode& node,
                  PictureSpec& out) {
  out.place = node.place;
  out.file = path_from(node.place, node.text());
  out.srgb = has_ending(node.text(), {".png"});
  r.file_of(node, key);  // tells what is wrong with it
}

void read_material_color(TableReader& r, MaterialSpec& m) {
  const DocumentNode* color = r.find("color");
  m.color_place = r.place("color");
  if (color == nullptr) {
    return;
  }
  if (color->is_text() && is_table_file(color->text())) {
    m.color_file = r.file("color").value_or("");
  } else if (color->is_text() && is_picture_file(color->text())) {
    read_picture(r, "color", *color, m.picture);
  } else if (color->is_text() && !color->text().starts_with("#")) {
    r.error("color",
            color->place,
            "unknown-word",
            fmt::format("found \"{}\"; expected {}", printable(color->text()), r.forms("color")));
  } else if (!color->is_text() && !color->is_array()) {
    r.wrong_type("color", *color);
  } else {
    m.color = r.color_of(*color, "color", 1).value_or(m.color);
  }
}

void read_mask_and_tile(TableReader& r, MaterialSpec& m) {
  if (const DocumentNode* mask = r.find("mask"); mask != nullptr && mask->is_text()) {
    read_picture(r, "mask", *mask, m.mask);
    m.mask.srgb = false;  // a share, not a color
  } else if (mask != nullptr) {
    r.wrong_type("mask", *mask);
  }
  if (const auto encoding = r.word("encoding")) {
    m.picture.srgb = *encoding == 0;
    if (m.picture.file.empty()) {
      r.error("encoding",
              r.place("encoding"),
              "conflict",
              "says how a picture is encoded, but the color is no picture",
              "remove it, or write color = \"picture.png\"");
    }
  }
  if (const DocumentNode* tile = r.find("tile")) {
    if (const auto times = r.numbers("tile")) {
      m.tile = {(*times)[0], (*times)[1]};
    }
    if (m.picture.file.empty() && m.mask.file.empty()) {
      r.error("tile",
              tile->place,
              "conflict",
              "repeats a picture, but neither color nor mask is one",
              "remove it, or write color = \"picture.png\"");
    }
  }
}

// One of a metal's two: a number, or a table over wavelength.
void read_index_part(TableReader& r,
                     std::string_view key,
                     double lo,
                     double& value,
                     std::string& file,
                     Place& place) {
  constexpr double kMost = 50;
  const DocumentNode* node = r.find(key);
  if (node == nullptr) {
    return;
  }
  place = node->place;
  if (node->is_text() && is_table_file(node->text())) {
    file = r.file(key).value_or("");
  } else if (node->is_number()) {
    value = r.amount_of(*node, key, Dimension::kPercent, {lo, kMost}).value_or(1);
  } else {
    r.wrong_type(key, *node);
  }
}

// A metal's index n + i k.
void read_index(TableReader& r, MaterialSpec& m) {
  read_index_part(r, "ior", 1e-3, m.ior, m.ior_file, m.ior_place);
  read_index_part(r, "absorption", 0, m.extinction, m.extinction_file, m.extinction_place);
  const bool n = r.has("ior"), k = r.has("absorption");
  m.by_index = n || k;
  if (n != k) {
    r.error(n ? "ior" : "absorption",
            n ? m.ior_place : m.extinction_place,
            "missing-key",
            "a metal's index needs both ior (n) and absorption (k)",
            "or give its color");
  } else if (m.by_index && r.has("color")) {
    r.error("color",
            m.color_place,
            "conflict",
            "color and an index are both given; either says what the metal reflects",
            "leave one of them out");
  }
}

// Per meter: "0.5 /m", a bare number, or one for each of red, green and blue.
Rgb read_absorption(TableReader& r) {
  constexpr Limits kPerMeter{0, 1e6};
  const DocumentNode* node = r.find("absorption");
  if (node == nullptr) {
    return Rgb::Zero();
  }
  if (node->is_array()) {
    return r.color_of(*node, "absorption", kPerMeter.hi).value_or(Rgb::Zero());
  }
  const Dimension dimension = node->is_number() ? Dimension::kPercent : Dimension::kExtinction;
  return Rgb::Constant(r.amount_of(*node, "absorption", dimension, kPerMeter).value_or(0));
}

void read_glass(TableReader& r, MaterialSpec& m) {
  m.ior = r.number_or_standard("ior");
  m.thin = r.flag_or_standard("thin");
  if (!m.thin) {
    m.absorption = read_absorption(r);
    m.roughness = r.number_or_standard("roughness");
  }
  if (!r.has("color")) {
    m.color = Rgb::Ones();
  } else if (!m.thin) {
    r.error("color",
            m.color_place,
            "wrong-type",
            "solid glass is colored by what it absorbs",
            "give absorption = [0.5, 0.1, 0.4] per meter; or thin = true for a pane with a color");
  }
}

void read_kind(TableReader& r, MaterialSpec& m) {
  switch (m.kind) {
    case Kind::kDiffuse:
      m.roughness = r.number_or_standard("roughness");
      break;
    case Kind::kMetal:
      m.roughness = r.number_or_standard("roughness");
      read_index(r, m);
      break;
    case Kind::kGloss:
      m.roughness = r.number_or_standard("roughness");
      m.ior = r.number_or_standard("ior");
      m.coat_color = r.color_or_standard("coat_color");
      break;
    case Kind::kGlass:
      read_glass(r, m);
      break;
    case Kind::kTranslucent:
      m.transmittance = r.number_or_standard("transmittance");
      m.transmitted_color = r.color("transmitted_color");
      break;
  }
  if (m.kind == Kind::kMetal || m.kind == Kind::kGloss || (m.kind == Kind::kGlass && !m.thin)) {
    m.bounce_roughness = r.number("bounce_roughness").value_or(0);
    m.bounce_place = r.place("bounce_roughness");
  }
}

}  // namespace

void read_material(TableReader& r, const std::string& name, Rig& rig) {
  MaterialSpec m;
  m.name = name;
  m.place = r.node().place;
  r.require("kind");
  const auto kind = r.word("kind");
  m.kind = static_cast<Kind>(kind.value_or(0));
  const std::string kind_name = r.words("kind")[kind.value_or(0)];
  if (kind) {
    r.set_kind(kind_name);
  }
  read_material_color(r, m);
  read_mask_and_tile(r, m);
  if (kind) {  // without one nothing can be said of its keys
    read_kind(r, m);
    r.finish(m.kind == Kind::kGlass && m.thin ? "a thin pane"
                                              : fmt::format("kind \"{}\"", kind_name));
  }
  rig.materials.push_back(std::move(m));
}

}  // namespace jovilux
