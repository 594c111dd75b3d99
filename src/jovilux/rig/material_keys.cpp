#include "jovilux/rig/schema.h"

namespace jovilux {
namespace {

std::vector<KeyDescription> by_kind() {
  return {
      key("color",
          "what it reflects; of gloss its base, of metal along the normal, of a thin pane "
          "its tint")
          .other()
          .file({".csv", ".png", ".exr", ".hdr"})
          .expects("\"#rrggbb\", three linear values [r, g, b] from 0 to 1, a picture (.png, .exr, "
                   ".hdr), or a .csv file of wavelengths in nm and reflectances")
          .shown("[0.4, 0.3, 0.2]")
          .otherwise_text("0.5; of panes white")
          .called("albedo, base_color, diffuse, reflectance, texture, map, diffuse_color, paint"),
      key("roughness", "0 is smooth; of diffuse 0 is Lambert's")
          .number(kShare)
          .shown("0.3")
          .otherwise("0")
          .of({"diffuse", "glass"})
          .called("glossiness, smoothness"),
      key("roughness", "0 is a mirror")
          .number(kShare)
          .shown("0.3")
          .otherwise("0.2")
          .of({"metal", "gloss"}),
      key("ior", "the index of refraction of its coat")
          .number({1.01, 4})
          .shown("1.6")
          .otherwise("1.5")
          .of({"gloss", "glass"})
          .called("refraction, index, fresnel"),
      key("ior", "with absorption, n of its index n + i k: a number, or a table over wavelength")
          .other()
          .file({".csv"})
          .expects("a number, or a .csv file of wavelengths in nm and values")
          .shown("1.2")
          .of({"metal"}),
      key("absorption", "with ior, k of its index n + i k: a number, or a table over wavelength")
          .other()
          .file({".csv"})
          .expects("a number, or a .csv file of wavelengths in nm and values")
          .shown("2.4")
          .of({"metal"})
          .called("k, extinction"),
      key("absorption", "what a meter of it absorbs")
          .other()
          .expects("\"0.5 /m\", a number per meter, or one for each of [r, g, b]")
          .shown("\"2 /m\"")
          .otherwise("0")
          .of({"glass"})
          .called("color, tint, attenuation, density, transmission_color"),
      key("thin", "a pane, which light and shadow rays pass straight; passing one is no bounce")
          .flag()
          .shown("true")
          .otherwise("false")
          .of({"glass"})
          .called("pane, thin_walled, window"),
      key("coat_color", "the transmittance of its coat")
          .color(1)
          .shown("[0.9, 0.95, 1]")
          .otherwise("[1, 1, 1]")
          .of({"gloss"})
          .called("specular_color, clearcoat"),
      key("transmittance", "the share of its color that goes to the other side")
          .number(kShare)
          .shown("0.4")
          .otherwise("0.5")
          .of({"translucent"})
          .called("through, transmission, translucency"),
      key("transmitted_color", "the color of what goes to the other side")
          .color(1)
          .shown("\"#ffd9a0\"")
          .otherwise_text("its color")
          .of({"translucent"})
          .called("through_color"),
      key("bounce_roughness",
          "the least roughness for paths that come from a surface which is no "
          "mirror: what it throws on others is blurred and less noisy. It "
          "departs from physics: check warns of it, and render measures how "
          "much light it takes")
          .number({0.05, 1})
          .shown("0.5")
          .otherwise_text("none")
          .of({"metal", "gloss", "glass"})
          .called("caustics, fireflies, blur"),
  };
}

}  // namespace

std::vector<TableDescription> material_tables() {
  TableDescription t{"material", "what a surface is made of", "kind", {}, {}};
  t.keys = {
      key("name", "what an object's material calls it")
          .text()
          .over(OverTime::kNever)
          .shown("\"cedar\"")
          .needed(),
      key("kind",
          "diffuse; metal; gloss: a base under a clear coat; glass; translucent: a thin "
          "diffuse transmitter, lampshade, leaf, paper")
          .word({"diffuse", "metal", "gloss", "glass", "translucent"})
          .over(OverTime::kNever)
          .expects("diffuse, metal, gloss, glass or translucent")
          .shown("\"diffuse\"")
          .called("type, bsdf, shader, metallic, metalness, specular, plastic")
          .needed(),
  };
  t.add(by_kind());
  t.add({
      key("encoding", "whether a PNG's values are encoded for a display; EXR and HDR never are")
          .word({"srgb", "linear"})
          .shown("\"linear\"")
          .otherwise("\"srgb\"")
          .called("colorspace, color_space, gamma"),
      key("mask",
          "a picture that cuts the surface out where it is black or transparent, for eyes "
          "and shadows")
          .file({".png", ".exr", ".hdr"})
          .expects("a picture's file name")
          .shown("\"leaf.png\"")
          .called("opacity, alpha, cutout"),
      key("tile", "how often its pictures repeat, across and up")
          .list(2, Dimension::kPercent, {0, 1e6, true})
          .expects("[across, up], how often the picture repeats, each above 0")
          .shown("[3, 1]")
          .otherwise("[1, 1]")
          .called("repeat, scale, uv_scale"),
  });
  return {std::move(t)};
}

}  // namespace jovilux
