#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/judge/light_export.h"

#include <algorithm>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/render_verb.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {

namespace fs = std::filesystem;

namespace {

// A file for each light that has a place: "hall.ies" becomes "hall-NAME.ies".
int export_distributions(const Rig& rig,
                         const Scene& scene,
                         const fs::path& path,
                         const Arguments& a) {
  std::vector<std::string> names, texts, notes;
  const std::vector<ExportedLight> lights = exported_lights(rig, scene);
  for (const ExportedLight& light : lights) {
    const auto index = static_cast<std::size_t>(light.light - rig.lights.data());
    if (const auto text = light_as_lm63(light, scene.emitters[index])) {
      std::string name = light.name;
      std::replace(name.begin(), name.end(), '[', '-');
      std::erase(name, ']');
      names.push_back(fmt::format("{}-{}.ies", path.stem().string(), name));
      texts.push_back(*text);
    } else {
      notes.push_back(light.name + ": is dark or everywhere, and has no distribution");
    }
  }
  const fs::path folder = path.has_parent_path() ? path.parent_path() : fs::path(".");
  prepare_files(folder.string(), names, a.flag("force"));
  for (std::size_t i = 0; i < names.size(); ++i) {
    write_text_file((folder / names[i]).string(), texts[i]);
  }
  if (a.flag("json")) {
    print_out(json_text({{"files", names}, {"folder", folder.string()}, {"notes", notes}}));
    return kDone;
  }
  std::string out =
      fmt::format("wrote {} into {}\n", counted(names.size(), "distribution"), folder.string());
  for (const std::string& note : notes) {
    out += "  " + note + "\n";
  }
  print_out(out);
  return kDone;
}

Usage usage_of_export() {
  return Usage{"export",
               "RIG",
               "The rig's lights in world space and real units, as they shine, for other tools: "
               "glTF with KHR_lights_punctual,\nUsdLux in USD's text format, or a schedule. What "
               "has no counterpart becomes the nearest, with a note.",
               {{"o,output",
                 "the file to write: lights.gltf, lights.usda or lights.csv; with lights.ies each "
                 "light's distribution, lights-NAME.ies",
                 "FILE"},
                {"force", "replace FILE", ""},
                {"json", "print one JSON document instead", ""}},
               "",
               "jovilux export demo-out/rig/orchid-house.toml -o demo-out/lights.usda"}
      .with(rig_options());
}

}  // namespace

int run_export(int argc, char** argv) {
  const Arguments a(usage_of_export(), argc, argv);
  const auto file = a.text("output");
  const std::string ending = file ? file_ending(*file) : "";
  if (ending != ".gltf" && ending != ".usda" && ending != ".csv" && ending != ".ies") {
    throw UsageError(
        "-o FILE: expected a name that ends with .gltf, .usda, .csv or .ies; see jovilux export "
        "--help");
  }
  const auto rig = load_rig(a.positional(), rig_request(a));
  if (!rig) {
    throw BadInput{rig.problems()};
  }
  const auto scene = prepare_scene(*rig);
  if (!scene) {
    throw BadInput{scene.problems()};
  }
  const fs::path path(*file);
  if (ending == ".ies") {
    return export_distributions(*rig, *scene, path, a);
  }
  prepare_files(path.has_parent_path() ? path.parent_path().string() : ".",
                {path.filename().string()},
                a.flag("force"));
  const std::vector<ExportedLight> lights = exported_lights(*rig, *scene);
  const LightFile out = ending == ".csv" ? lights_as_csv(lights)
                        : ending == ".gltf"
                            ? lights_as_gltf(lights, rig->up)
                            : lights_as_usda(lights, rig->up, path.parent_path().string());
  write_text_file(path.string(), out.text);
  if (a.flag("json")) {
    print_out(
        json_text({{"file", path.string()}, {"lights", lights.size()}, {"notes", out.notes}}));
    return kDone;
  }
  std::string text = fmt::format("wrote {}: {}\n", path.string(), counted(lights.size(), "light"));
  for (const std::string& note : out.notes) {
    text += "  " + note + "\n";
  }
  print_out(text);
  return kDone;
}

}  // namespace jovilux::cli
