// The descriptions of the rig's keys: whole, true to the docs, and all that the program needs.
#include "jovilux/rig/schema.h"

#include "jovilux/color/studio_transform.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/png.h"
#include "jovilux/render/renderer.h"
#include "jovilux/rig/rig.h"
#include "jovilux/rig/schema_text.h"
#include "jovilux/rig/words.h"

#include <fstream>
#include <sstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

std::string page(const std::string& name) {
  std::ifstream in(std::string(JOVILUX_SOURCE) + "/docs/" + name);
  std::ostringstream text;
  text << in.rdbuf();
  return text.str();
}

// The kinds that decide which keys a table has; "" where it has none.
std::vector<std::string> kinds_of(const TableDescription& table) {
  const KeyDescription* kind = table.kind_key.empty() ? nullptr : table.find(table.kind_key);
  return kind != nullptr ? kind->words : std::vector<std::string>{""};
}

}  // namespace

TEST_CASE("every key is described: a line, an example that TOML reads, kinds that there are",
          "[rig][schema]") {
  for (const TableDescription& table : rig_schema()) {
    const std::vector<std::string> kinds = kinds_of(table);
    for (const KeyDescription& key : table.keys) {
      INFO(address_form(table, key));
      CHECK_FALSE(key.means.empty());
      CHECK_FALSE(key.means.ends_with('.'));
      const bool whole_table = key.type == ValueType::kTables || table.address.empty();
      CHECK((whole_table || !key.example.empty()));
      CHECK((key.example.empty() || parse_toml(fmt::format("v = {}\n", key.example), "example")));
      for (const std::string_view kind : key.kinds) {
        const bool of_shape_and_solid = table.address == "object.shape" || table.address == "solid";
        CHECK((of_shape_and_solid || std::find(kinds.begin(), kinds.end(), kind) != kinds.end()));
      }
      for (const KeyDescription& other : table.keys) {
        for (const std::string& kind : kinds) {
          CHECK((&other == &key || other.name != key.name || !other.goes_with(kind) ||
                 !key.goes_with(kind)));
        }
      }
      // A solid is never open; the usual grid of a file is the one that is there to be tried.
      const bool only_one = address_form(table, key) == "solid.NAME.open" ||
                            address_form(table, key) == "haze.NAME.grid";
      CHECK((whole_table || only_one || key.example != key.standard));
    }
  }
}

TEST_CASE("the docs' tables of keys are those of the descriptions", "[rig][schema][docs]") {
  const std::string text = page("rig.md");
  REQUIRE(text.size() > 1000);
  const auto updated = with_key_tables(text, "docs/rig.md");
  REQUIRE(updated);
  INFO("jovilux schema --pages docs/rig.md rewrites them");
  CHECK((*updated == text));  // without printing both
  // Every table is there.
  for (const TableDescription& table : rig_schema()) {
    INFO(table.address);
    CHECK((table.address.empty() ||
           text.find(fmt::format("<!-- keys: {} -->", table.address)) != std::string::npos));
  }
  CHECK(with_key_tables("<!-- keys: lamp -->\n<!-- end of keys -->\n", "p.md").problems()[0].text ==
        "the rig has no table \"lamp\"");
  CHECK_FALSE(with_key_tables("<!-- keys: light -->\n| a |\n", "p.md"));
  // What stands between the marks goes, what stands outside stays.
  const auto short_page =
      with_key_tables("a\n<!-- keys: gel -->\nold\n<!-- end of keys -->\nb\n", "p.md");
  REQUIRE(short_page);
  CHECK(short_page->starts_with("a\n<!-- keys: gel -->\n| key |"));
  CHECK(short_page->ends_with("<!-- end of keys -->\nb\n"));
  CHECK(short_page->find("old") == std::string::npos);
}

TEST_CASE("a lighting director's words lead to the key", "[rig][schema][words]") {
  const std::pair<const char*, const char*> kWords[] = {{"intensity", "light.NAME.output"},
                                                        {"lumens", "light.NAME.output"},
                                                        {"lux", "light.NAME.output"},
                                                        {"temperature", "light.NAME.white"},
                                                        {"kelvin", "light.NAME.white"},
                                                        {"position", "light.NAME.at"},
                                                        {"rotation", "object.NAME.rotate"},
                                                        {"target", "light.NAME.aim"},
                                                        {"cone angle", "light.NAME.beam"},
                                                        {"attenuation", "light.NAME.falloff"},
                                                        {"decay", "light.NAME.falloff"},
                                                        {"barn-door", "light.NAME.barn_doors"},
                                                        {"texture", "material.NAME.color"},
                                                        {"cookie", "light.NAME.gobo"},
                                                        {"fog", "haze"},
                                                        {"density", "haze.NAME.visibility"},
                                                        {"soft shadow", "light.NAME.radius"},
                                                        {"hot spot", "light.NAME.near_softening"},
                                                        {"near clamp", "light.NAME.near_softening"},
                                                        {"fireflies", "light.NAME.near_softening"},
                                                        {"falloff", "light.NAME.falloff"}};
  for (const auto& [word, address] : kWords) {
    INFO(word);
    const std::vector<FoundKey> found = find_keys(word);
    CHECK(std::any_of(found.begin(), found.end(), [&](const FoundKey& f) {
      return address_form(*f.table, *f.key) == address;
    }));
  }
  CHECK(find_keys("zzz").empty());
  CHECK(find_keys("").empty());
  CHECK(hint_for_key("light.l", "point", "intensity").starts_with("write output = \"800 lm\""));
  CHECK(hint_for_key("light.l", "point", "radius").find("kind = \"sphere\"") != std::string::npos);
  CHECK(hint_for_key("camera.c", "", "FOV") == "write field_of_view = \"60 deg\"");
}

namespace {

// A whole rig around one key: the table under test, with `line` in place of the keys that it would
// contradict, and what it needs beside it.
class RigAround {
 public:
  std::string with(const std::string& address,
                   const std::string& kind,
                   const KeyDescription& key) const {
    const std::string name(key.name), example(key.example);
    const std::string line = name + " = " + example + "\n";
    if (address == "scene") {
      return rig("", "", "", "[scene]\n" + line + render());
    }
    if (address == "scene.site") {
      const std::string rest = (name != "latitude" ? "latitude = 10\n" : "") +
                               std::string(name != "longitude" ? "longitude = 20\n" : "");
      return rig(light("sun", "", "", name == "time" ? "toward" : ""),
                 "",
                 "",
                 "[scene.site]\n" + rest + line + render());
    }
    if (address == "render") {
      return rig("", "", "", render({name}) + line);
    }
    if (address == "render.march") {
      return rig("", "", "", render() + "[render.march]\n" + line);
    }
    if (address == "look") {
      return rig("", "", "", render() + "[look]\n" + line);
    }
    if (address == "look.transform") {
      const std::string rest = (name == "config" ? "" : "config = 'studio.ocio'\n") +
                               std::string(name == "input" ? "" : "input = 'lin_rec709'\n");
      return rig("", "", "", render() + "[look.transform]\n" + rest + line);
    }
    if (address == "time") {
      return rig(
          "", "", "", render() + "[time]\n" + (name == "frames" ? "" : "frames = [1, 3]\n") + line);
    }
    if (address == "variant") {
      return rig("",
                 "",
                 "",
                 render() + "[[variant]]\n" + (name == "name" ? "" : "name = 'v'\n") +
                     (name == "set" ? "" : "set = { 'render.bounces' = 2 }\n") + line);
    }
    if (address == "keyed") {
      return rig(
          light("point",
                "",
                "[light.dimmer]\n" + (name == "keys" ? line : "keys = [[0, 0], [1, 1]]\n" + line)),
          "",
          "",
          render());
    }
    if (address == "light") {
      return rig(light(kind, line, "", name), "", "", render());
    }
    if (address == "light.falloff") {
      const std::string law = name == "law" ? "" : fmt::format("law = '{}'\n", kind);
      return rig(light("point", "", "[light.falloff]\n" + law + line + parameters_of(kind, name)),
                 "",
                 "",
                 render());
    }
    if (address == "light.gobo") {
      std::string rest = name == "image" || name == "pattern" ? "" : "pattern = 'slats'\n";
      rest += name == "size" ? "" : "size = [1, 1]\n";
      rest += name == "at" ? "" : "at = 0.5\n";
      return rig(light("spot", "", "[light.gobo]\n" + rest + line), "", "", render());
    }
    if (address == "assembly") {
      return rig(light("point", "", ""),
                 "",
                 "",
                 render() + "[[assembly]]\n" + (name == "name" ? "" : "name = 'a'\n") +
                     (name == "members" ? "" : "members = ['light.l', 'object.shade']\n") + line +
                     "[[light]]\nname = 'bulb'\nkind = 'point'\nat = [0, 0, 1]\noutput = '9 lm'\n");
    }
    if (address == "light.barn_doors") {
      return rig(light("rect", "", "[light.barn_doors]\n" + line), "", "", render());
    }
    if (address == "light.flicker") {
      std::string rest = name == "wave" ? "" : fmt::format("wave = '{}'\n", kind);
      rest += name == "rate" ? "" : "rate = '3 Hz'\n";
      rest += kind == "formula" && name != "formula" ? "formula = '0.5'\n" : "";
      return rig(light("point", "", "[light.flicker]\n" + rest + line), "", "", render());
    }
    if (address == "light.cheat") {
      return rig(light("point", "", "[light.cheat]\n" + line), "", "", render());
    }
    if (address == "light.tint_by") {
      const std::string rest =
          name == "formula" ? "ramp = [[0, '#ff0000'], [1, '#00ff00']]\n" : "formula = 'x'\n";
      return rig(light("point", "", "[light.tint_by]\n" + rest + line), "", "", render());
    }
    if (address == "gel") {
      const std::string rest = (name == "name" ? "" : "name = 'straw'\n") +
                               std::string(name == "name" ? "file = 'straw.csv'\n" : "");
      return rig(
          light("point", "gel = 'straw'\n", ""), "", "", render() + "[[gel]]\n" + rest + line);
    }
    if (address == "camera") {
      const std::string rest = (name == "name" ? "" : "name = 'c'\n") +
                               std::string(name == "at" ? "" : "at = [0, -4, 1]\n") +
                               (name == "look_at" ? "" : "look_at = [0, 0, 1]\n");
      return rig("", "[[camera]]\n" + rest + line, "", render());
    }
    if (address == "meter" || address == "meter.grid") {
      return rig("", "", "", render() + meter(address, kind, name, line));
    }
    if (address == "object") {
      return rig("", "", "", render() + object(name, line));
    }
    if (address == "object.shape") {
      return rig("",
                 "",
                 "",
                 render() + "[[object]]\nname = 'it'\nat = [0, 0, 1]\n[object.shape]\n" +
                     (name == "kind" ? "size = [1, 1, 1]\n" : fmt::format("kind = '{}'\n", kind)) +
                     sizes_of(kind, name) + line);
    }
    if (address == "solid") {
      return rig("", "", "", render() + solid(kind, name, line));
    }
    if (address == "array") {
      return rig(light("point", "", ""), "", "", render() + array(name, line));
    }
    if (address == "array.along") {
      const std::string path = name == "path" ? "line" : kind;
      return rig(light("point", "", ""),
                 "",
                 "",
                 render() + "[[array]]\nname = 'row'\nof = 'l'\noutput = 'each'\n" +
                     (path == "points" || path == "grid" ? "" : "count = 3\n") + "[array.along]\n" +
                     (name == "path" ? "" : fmt::format("path = '{}'\n", path)) +
                     places_of(path, name) + line);
    }
    if (address == "material") {
      return rig("", "", material(kind, name, line), render());
    }
    if (address == "haze" || address == "haze.clumps") {
      return rig("", "", "", render() + haze(address, name, line));
    }
    return "";
  }

 private:
  static std::string render(const std::vector<std::string>& without = {}) {
    std::string out = "[render]\n";
    const std::pair<const char*, const char*> kKeys[] = {{"size", "[6, 4]"},
                                                         {"samples", "2"},
                                                         {"bounces", "3"},
                                                         {"guiding", "false"},
                                                         {"light_tracing", "false"}};
    for (const auto& [key, value] : kKeys) {
      if (std::find(without.begin(), without.end(), key) == without.end()) {
        out += fmt::format("{} = {}\n", key, value);
      }
    }
    return out;
  }

  // The base has a camera, a material, some objects, a solid and a light for what refers to them.
  static std::string rig(std::string lights,
                         std::string cameras,
                         std::string materials,
                         const std::string& rest) {
    if (lights.empty()) {
      lights = light("point", "", "");
    }
    if (cameras.empty()) {
      cameras = "[[camera]]\nname = 'wide'\nat = [0, -4, 1]\nlook_at = [0, 0, 1]\n";
    }
    if (materials.empty()) {
      materials = "[[material]]\nname = 'cedar'\nkind = 'diffuse'\ncolor = '#808080'\n";
    }
    // A top-level table may not follow a table of a list's last item: [render] and the like first.
    const std::size_t table = rest.find("[[");
    const std::string single = rest.substr(0, table),
                      listed = table == std::string::npos ? "" : rest.substr(table);
    return "jovilux = 1\n" + single + cameras + materials +
           "[[object]]\nname = 'floor'\nshape = { kind = 'plane' }\nmaterial = 'cedar'\n"
           "[[object]]\nname = 'bench'\nshape = { kind = 'box', size = [1, 1, 0.2] }\nat = [0, 0, "
           "0.5]\ntags = ['plants']\n"
           "[[object]]\nname = 'shade'\nshape = { kind = 'sphere', radius = 0.2 }\nat = [1, 0, 1]\n"
           "[[object]]\nname = 'house'\nshape = { kind = 'box', size = [9, 9, 9] }\nmaterial = "
           "'air'\n[[material]]\nname = 'air'\nkind = 'glass'\nthin = true\n"
           "[[solid]]\nname = 'a'\nkind = 'sphere'\nradius = 0.1\n"
           "[[solid]]\nname = 'b'\nkind = 'box'\nsize = [0.2, 0.2, 0.2]\n"
           "[[solid]]\nname = 'frame'\nkind = 'sphere'\nradius = 0.3\n" +
           lights + listed;
  }

  // A light of a kind, with `line` and the tables of `more`, without what `key` stands instead of.
  static std::string light(const std::string& kind,
                           std::string line,
                           const std::string& more,
                           const std::string& key = "") {
    std::map<std::string, std::string> keys = {{"name", "'l'"}, {"kind", "'" + kind + "'"}};
    const auto put = [&](std::initializer_list<std::pair<const char*, const char*>> list) {
      for (const auto& [k, v] : list) {
        keys[k] = v;
      }
    };
    if (kind == "point" || kind == "sphere" || kind == "spot" || kind == "disk" || kind == "rect") {
      put({{"at", "[0, 0, 2]"}, {"output", "'800 lm'"}});
    }
    if (kind == "spot" || kind == "disk" || kind == "rect") {
      put({{"aim", "[0.2, 0, 0]"}});
    }
    if (kind == "sphere" || kind == "disk") {
      put({{"radius", "0.1"}});
    } else if (kind == "rect") {
      put({{"size", "[0.3, 0.2]"}});
    } else if (kind == "spot") {
      put({{"beam", "20"}});
    } else if (kind == "tube") {
      put({{"from", "[-1, 0, 2]"},
           {"to", "[1, 0, 2]"},
           {"radius", "0.02"},
           {"output", "'800 lm'"}});
    } else if (kind == "object") {
      put({{"object", "'shade'"}, {"output", "'800 lm'"}});
    } else if (kind == "sun") {
      put({{"toward", "[0, 1, -1]"}, {"output", "'clear'"}});
    } else if (kind == "sky") {
      put({{"model", "'clear'"}, {"elevation", "30"}, {"azimuth", "100"}, {"output", "'900 lx'"}});
    } else if (kind == "dome") {
      put({{"image", "'sky.exr'"}, {"output", "'500 lx'"}});
    }
    // What a key stands instead of, and what it needs beside it.
    const bool round = kind == "point" || kind == "sphere";
    if (key == "toward") {
      for (const char* k : {"aim", "elevation", "azimuth"}) {
        keys.erase(k);
      }
    }
    if (key == "elevation" || key == "azimuth") {
      keys.erase("toward");
      keys[key == "elevation" ? "azimuth" : "elevation"] = "20";
    }
    if (round && (key == "aim" || key == "toward" || key == "roll")) {
      keys["profile"] = "'lamp.ies'";
    }
    if (key == "profile") {
      keys.erase("beam");
    }
    if (key == "model" || key == "cie") {
      keys.erase("model");
      keys.erase(key == "model" ? "elevation" : "");
      keys.erase(key == "model" ? "azimuth" : "");
    }
    if (kind == "tube" && (key == "at" || key == "along" || key == "endless")) {
      keys.erase("from");
      keys.erase("to");
      put({{"endless", "true"},
           {"at", "[0, 0, 2]"},
           {"along", "[1, 0, 0]"},
           {"output", "'500 lm/m'"}});
    }
    if (key == "output" && (kind == "sun" || kind == "sky" || kind == "dome")) {
      line = "output = '700 lx'\n";  // the example is lumens
    }
    if (key == "dim_to_warm") {
      put({{"white", "'2700 K'"}, {"dimmer", "0.5"}});
    }
    if (key == "body") {
      keys["on"] = "false";
    }
    keys.erase(key);
    std::string out = "[[light]]\n";
    for (const auto& [k, v] : keys) {
      out += k + " = " + v + "\n";
    }
    return out + line + more;
  }

  static std::string parameters_of(const std::string& law, const std::string& key) {
    const std::string its = key == "law" ? "linear" : law;
    return its == "linear" && key != "zero_at"        ? "zero_at = 9\n"
           : its == "polynomial" && key != "constant" ? "constant = 1\n"
           : its == "points" && key != "points"       ? "points = [[0, 1], [9, 0.1]]\n"
           : its == "formula" && key != "formula"     ? "formula = '1/(1+d)'\n"
                                                      : "";
  }

  static std::string meter(const std::string& address,
                           const std::string& kind,
                           const std::string& key,
                           const std::string& line) {
    std::string out = "[[meter]]\n";
    const bool of_grid = address == "meter.grid";
    out += !of_grid && key == "name" ? "" : "name = 'm'\n";
    out += !of_grid && key == "kind"
               ? ""
               : fmt::format("kind = '{}'\n", kind.empty() ? "illuminance" : kind);
    if (of_grid) {
      out += "[meter.grid]\n";
      out += key == "from" ? "" : "from = [-1, -0.4, 0.83]\n";
      out += key == "to" ? "" : "to = [1, 0, 0.83]\n";
      out += key == "count" ? "" : "count = [2, 1]\n";
    } else if (key != "at" && key != "grid" && key != "camera") {
      out += "at = [0, 0, 0.8]\n";
    }
    return out + line;
  }

  static std::string object(const std::string& key, const std::string& line) {
    std::string out = "[[object]]\n";
    out += key == "name" ? "" : "name = 'it'\n";
    if (key == "mesh_length" || key == "mesh_up") {
      out += "mesh = 'pot.obj'\n";
    } else if (key != "shape" && key != "mesh" && key != "solid") {
      out += "shape = { kind = 'cone', radius = 0.2, height = 0.4 }\n";
    }
    // A name that the base has not.
    return out + (key == "name" ? "name = 'other'\n" : line);
  }

  static std::string sizes_of(const std::string& kind, const std::string& key) {
    const std::pair<const char*, std::vector<std::pair<const char*, const char*>>> kSizes[] = {
        {"box", {{"size", "[1, 1, 1]"}}},
        {"box-edges", {{"size", "[1, 1, 1]"}, {"bar", "0.05"}}},
        {"rounded-box", {{"size", "[1, 1, 1]"}, {"rounding", "0.02"}}},
        {"rect", {{"size", "[1, 1]"}}},
        {"sphere", {{"radius", "0.3"}}},
        {"disk", {{"radius", "0.3"}}},
        {"cylinder", {{"radius", "0.3"}, {"height", "0.8"}}},
        {"capsule", {{"radius", "0.1"}, {"height", "0.8"}}},
        {"cone", {{"radius", "0.3"}, {"height", "0.8"}}},
        {"torus", {{"radius", "[0.4, 0.1]"}}}};
    std::string out;
    for (const auto& [of, sizes] : kSizes) {
      for (const auto& [size, value] : sizes) {
        out +=
            kind == of && key != size && key != "kind" ? fmt::format("{} = {}\n", size, value) : "";
      }
    }
    return out;
  }

  static std::string solid(const std::string& kind,
                           const std::string& key,
                           const std::string& line) {
    const std::string its = key == "kind" ? "box" : kind;
    std::string out = "[[solid]]\n";
    out += key == "name" ? "" : "name = 'it'\n";
    out += key == "kind" ? "size = [1, 1, 1]\n" : fmt::format("kind = '{}'\n", its);
    out += sizes_of(its, key);
    const auto add = [&](const char* of, const char* k, const char* v) {
      out += its == of && key != k ? fmt::format("{} = {}\n", k, v) : "";
    };
    for (const char* several : {"union", "subtract", "intersect"}) {
      add(several, "of", "['a', 'b']");
    }
    for (const char* one : {"repeat", "twist", "shell"}) {
      add(one, "of", "'b'");
    }
    add("repeat", "spacing", "[0.5, 0.5, 0]");
    add("twist", "per_meter", "20");
    add("shell", "thickness", "0.02");
    add("fractal", "fractal", key == "constant" ? "'julia'" : "'menger'");
    add("fractal", "size", "0.5");
    add("formula", "formula", "'sqrt(x^2+y^2+z^2)-0.2'");
    return out + line + "[[object]]\nname = 'shown'\nsolid = '" + (key == "name" ? "niche" : "it") +
           "'\nat = [0, 0, 1]\n";
  }

  static std::string places_of(const std::string& path, const std::string& key) {
    std::string out;
    const auto add = [&](const char* of, const char* k, const char* v) {
      out += path == of && key != k ? fmt::format("{} = {}\n", k, v) : "";
    };
    add("line", "from", "[-1, 0, 0]");
    add("line", "to", "[1, 0, 0]");
    for (const char* turning : {"circle", "helix"}) {
      add(turning, "radius", "0.4");
    }
    add("helix", "pitch", "0.1");
    add("helix", "turns", "2");
    add("grid", "spacing", "[0.2, 0.2, 0]");
    add("grid", "cells", "[2, 1, 1]");
    add("points", "points", "[[0, 0, 0], [0.5, 0, 0]]");
    return out;
  }

  static std::string array(const std::string& key, const std::string& line) {
    std::string out = "[[array]]\n";
    out += key == "name" ? "" : "name = 'row'\n";
    out += key == "of" ? "" : "of = 'l'\n";
    out += key == "count" ? "" : "count = 3\n";
    out += key == "output" ? "" : "output = 'each'\n";
    out += key == "along" ? "" : "along = { path = 'line', from = [-1, 0, 0], to = [1, 0, 0] }\n";
    return out + (key == "of" ? "of = 'l'\n" : line);
  }

  static std::string material(const std::string& kind,
                              const std::string& key,
                              const std::string& line) {
    std::string out = "[[material]]\n";
    out += key == "name" ? "" : "name = 'cedar'\n";
    out += key == "kind" ? "" : fmt::format("kind = '{}'\n", kind);
    out += key == "encoding" || key == "tile"
               ? (kind == "glass" ? "mask = 'leaf.png'\n" : "color = 'leaf.png'\n")
               : "";
    out += kind == "glass" && (key == "color") ? "thin = true\n" : "";
    out += kind == "metal" && key == "ior" ? "absorption = 2\n" : "";
    out += kind == "metal" && key == "absorption" ? "ior = 1.2\n" : "";
    if (key == "encoding" && kind == "glass") {
      out = "[[material]]\nname = 'cedar'\nkind = 'glass'\nthin = true\ncolor = 'leaf.png'\n";
    }
    return out + line;
  }

  static std::string haze(const std::string& address,
                          const std::string& key,
                          const std::string& line) {
    const bool clumps = address == "haze.clumps";
    std::string out = "[[haze]]\n";
    out += !clumps && key == "name" ? "" : "name = 'mist'\n";
    out += !clumps && key == "inside" ? "" : "inside = 'everywhere'\n";
    out += !clumps && (key == "visibility" || key == "extinction") ? "" : "visibility = '60 m'\n";
    out += key == "grid" || key == "at" || key == "rotate" || key == "scale" ? "file = 'mist.vdb'\n"
                                                                             : "";
    if (clumps) {
      out += "[haze.clumps]\n";
      out += key == "size" ? "" : "size = 0.4\n";
    }
    return out + line;
  }
};

// What a render holds, to the bit.
std::vector<float> picture_of(const Rig& rig) {
  const auto scene = prepare_scene(rig);
  for (const Problem& p : scene.problems()) {
    INFO(to_string(p));
    CHECK(p.severity == Severity::kWarning);
  }
  if (!scene) {
    return {};
  }
  RenderOptions options;
  options.threads = 1;
  const Render made = render(rig, *scene, options);
  const Film& film = made.film();
  std::vector<float> out = {static_cast<float>(film.width()), static_cast<float>(film.layers())};
  for (std::size_t pixel = 0; pixel < film.pixels(); ++pixel) {
    for (int slot = 0; slot < film.slots(); ++slot) {
      const Eigen::Vector3f mean = film.slot_mean(pixel, slot);
      out.insert(out.end(), mean.data(), mean.data() + 3);
    }
  }
  return out;
}

// Files of the names that the examples have.
void write_example_files(const TemporaryFolder& dir) {
  dir.write("in/pot.obj", "v 0 0 0\nv 1 0 0\nv 0 1 1\nf 1 2 3\n");
  dir.write("in/studio.ocio",
            "ocio_profile_version: 2\nsearch_path: \"\"\nroles: {default: lin_rec709, "
            "aces_interchange: lin_rec709}\ndisplays:\n  sRGB:\n"
            "    - !<View> {name: Film, colorspace: screen}\nlooks:\n  - !<Look>\n    name: warm\n"
            "    process_space: lin_rec709\n    transform: !<ExponentTransform> {value: 1.1}\n"
            "colorspaces:\n  - !<ColorSpace> {name: lin_rec709, bitdepth: 32f}\n"
            "  - !<ColorSpace>\n    name: screen\n"
            "    from_scene_reference: !<ExponentTransform> {value: 0.45}\n");
  dir.write("in/straw.csv", "400,0.1\n500,0.4\n700,0.9\n");
  dir.write("in/set.toml", "");
  dir.write("in/lamp.ies",
            "IESNA:LM-63-2002\n[TEST] none\n[MANUFAC] none\nTILT=NONE\n1 1000 1 3 1 1 2 0 0 0\n"
            "1 1 0\n0 45 90\n0\n1000 500 0\n");
  write_png(dir.path("in/screen.png"), 1, 2, {255, 255, 255, 90, 200, 90});
  write_png(dir.path("in/leaf.png"), 2, 2, {255, 255, 255, 90, 200, 90, 0, 0, 0, 255, 0, 0});
  write_exr(dir.path("in/sky.exr"),
            ExrHeader{4, 2, 1, {}, {}, {}},
            {{"R",
              ExrChannel::Type::kFloat,
              [](int y, float* out) { std::fill_n(out, 4, 1.0f + static_cast<float>(y)); }},
             {"G", ExrChannel::Type::kFloat, [](int, float* out) { std::fill_n(out, 4, 1.0f); }},
             {"B", ExrChannel::Type::kFloat, [](int, float* out) { std::fill_n(out, 4, 2.0f); }}});
}

// Density files are read by a program beside the built one, not beside this: their keys are tried
// through it, where density files are tested.
bool can_be_tried(const std::string& address, std::string_view key) {
  if (address == "look.transform" || (address == "look" && key == "transform")) {
    return StudioTransform::is_built_in();
  }
  return address != "haze" ||
         (key != "file" && key != "grid" && key != "at" && key != "rotate" && key != "scale");
}

}  // namespace

TEST_CASE("each documented key, set, stays in the resolved rig to the bit of the picture",
          "[rig][schema][slow]") {
  const TemporaryFolder dir;
  write_example_files(dir);
  const RigAround around;
  int tried = 0;
  for (const TableDescription& table : rig_schema()) {
    const std::string address(table.address);
    for (const std::string& kind : kinds_of(table)) {
      for (const KeyDescription& key : table.keys) {
        // The example of the key that tells the kind is of one kind.
        const bool other_kind = key.name == table.kind_key && key.example != "\"" + kind + "\"";
        if (address.empty() || other_kind || !key.goes_with(kind) ||
            !can_be_tried(address, key.name)) {
          continue;
        }
        const std::string text = around.with(address, kind, key);
        INFO(fmt::format("{} {}.{} = {}\n{}", kind, address, key.name, key.example, text));
        dir.write("in/rig.toml", text);
        const auto rig = load_rig(dir.path("in/rig.toml"));
        std::string problems;
        for (const Problem& p : rig.problems()) {
          problems += to_string(p) + "\n";
        }
        INFO(problems);
        CHECK(rig);
        if (!rig) {
          continue;
        }
        dir.write("far/away/rig.toml", resolved_toml(*rig, dir.path("far/away")));
        const auto again = load_rig(dir.path("far/away/rig.toml"));
        REQUIRE(again);
        CHECK(picture_of(*again) == picture_of(*rig));
        ++tried;
      }
    }
  }
  CHECK(tried > 300);
}
