#include "jovilux/base/text.h"
#include "jovilux/rig/read_solid.h"
#include "jovilux/rig/read_tables.h"

#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

void read_clumps(TableReader& r, HazeSpec& h) {
  const DocumentNode* node = r.table("clumps");
  if (node == nullptr) {
    return;
  }
  TableReader c = r.within("clumps", *node);
  ClumpsSpec out;
  c.require("size");
  out.size = c.number("size").value_or(out.size);
  out.depth = c.number_or_standard("depth");
  out.drift = c.vector_or_standard("drift");
  out.seed = static_cast<std::uint32_t>(c.whole_or_standard("seed"));
  c.finish();
  h.clumps = out;
}

void read_density(TableReader& r, HazeSpec& h) {
  constexpr double kContrast = 0.05;  // what meteorological visibility leaves (ICAO, WMO)
  const auto visibility = r.number("visibility");
  const auto extinction = r.number("extinction");
  h.extinction_place = r.has("visibility") ? r.place("visibility") : r.place("extinction");
  if (r.has("visibility") && r.has("extinction")) {
    r.error("visibility",
            r.place("visibility"),
            "conflict",
            "visibility and extinction are both given; either says how dense it is",
            "leave one of them out");
  } else if (!r.has("visibility") && !r.has("extinction")) {
    r.missing("visibility", "visibility = \"60 m\" or extinction = \"0.05 /m\"");
  } else if (visibility) {
    h.extinction = -std::log(kContrast) / *visibility;
  } else if (extinction) {
    h.extinction = *extinction;
  }
  h.albedo_place = r.place("albedo");
  if (const DocumentNode* albedo = r.find("albedo")) {
    if (albedo->is_number()) {
      h.albedo = Rgb::Constant(
          r.amount_of(*albedo, "albedo", Dimension::kPercent, kShare).value_or(h.albedo.x()));
    } else if (albedo->is_array() || (albedo->is_text() && albedo->text().starts_with("#"))) {
      h.albedo = r.color_of(*albedo, "albedo", 1).value_or(h.albedo);
    } else {
      r.wrong_type("albedo", *albedo);
    }
  }
  h.anisotropy = r.number_or_standard("anisotropy");
}

void read_emission(TableReader& r, const Place* light_of_its_name, HazeSpec& h) {
  h.emission = r.number_or_standard("emission");
  if (h.emission > 0 && h.extinction == 0) {
    r.error("emission",
            r.place("emission"),
            "conflict",
            "a haze without extinction cannot glow",
            "give it a little extinction");
  }
  if (h.emission > 0 && light_of_its_name != nullptr) {
    r.error("name",
            r.place("name"),
            "duplicate-name",
            fmt::format("glows, and so has a layer of its name; so has the light at {}",
                        to_string(*light_of_its_name)),
            "rename one of them");
  }
}

void read_density_file(TableReader& r, HazeSpec& h) {
  h.file = r.file("file", &h.file_place).value_or("");
  if (r.has("file") && h.clumps) {
    r.error("clumps",
            r.place("clumps"),
            "conflict",
            "clumps and a density file are both given",
            "leave one of them out");
  }
  if (r.has("file")) {
    h.grid_place = read_placement(r);
  }
  h.grid = r.text("grid").value_or("density");
  if (r.has("grid") && !r.has("file")) {
    r.error("grid",
            r.place("grid"),
            "conflict",
            "names a grid of a file, but there is no file",
            "add file = \"mist.vdb\"");
  }
}

}  // namespace

void read_haze(TableReader& r, const std::string& name, const Place* light_of_its_name, Rig& rig) {
  constexpr std::size_t kMostHazes = 16;
  HazeSpec h;
  h.name = name;
  h.place = r.node().place;
  if (!r.has("file")) {  // a file's densities are in a box of their own
    r.require("inside");
  }
  if (const auto inside = r.text("inside"); inside && *inside != "everywhere") {
    h.inside = volume_named(r, "inside", *inside, rig, {"everywhere"});
  }
  read_density(r, h);
  read_clumps(r, h);
  h.scale_height = r.number("scale_height").value_or(0);
  read_emission(r, light_of_its_name, h);
  read_density_file(r, h);
  r.finish("a haze without a file");
  if (rig.hazes.size() == kMostHazes) {
    r.error("name",
            r.place("name"),
            "out-of-range",
            fmt::format("at most {} hazes", kMostHazes),
            "join some of them");
    return;
  }
  rig.hazes.push_back(std::move(h));
}

}  // namespace jovilux
