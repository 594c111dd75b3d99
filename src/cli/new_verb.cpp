#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/gltf.h"
#include "jovilux/files/json.h"
#include "jovilux/files/read_file.h"
#include "jovilux/files/usd_lights.h"

#include <algorithm>
#include <cctype>
#include <cmath>
#include <cstdint>
#include <filesystem>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/rig_schema_json.h"
#include "cli/rig_text.h"
#include "cli/test_scenes.h"
#include "cli/usd_rig.h"
#include "cli/verbs.h"
#include <fmt/format.h>

namespace jovilux::cli {
namespace {

namespace fs = std::filesystem;

constexpr const char* kSchemaFile = "rig.schema.json";

// Writes a rig whose first line names the schema that editors check it by, and the schema. A file
// of that name that is not ours stays as it is.
void write_rig(const std::filesystem::path& file, const std::string& text) {
  constexpr std::uint64_t kMostBytes = 4U << 20;
  const std::string schema_file = (file.parent_path() / kSchemaFile).string();
  const auto present = read_file(schema_file, kMostBytes, "unreadable-file");
  std::error_code ec;
  const bool ours = present && present->find("\"title\": \"Jovilux rig\"") != std::string::npos;
  if (ours || !std::filesystem::exists(schema_file, ec)) {
    write_text_file(schema_file, rig_schema_json());
  }
  write_text_file(file.string(), fmt::format("#:schema {}\n{}", kSchemaFile, text));
}

// y up becomes z up.
Vec3d standing(const Vec3d& p) { return {p.x(), -p.z(), p.y()}; }
std::string light_text(const GltfScene::Light& l, const std::string& name) {
  using GltfKind = GltfScene::Light::Kind;
  std::string out = fmt::format("\n[[light]]\nname   = \"{}\"\n", name);
  if (l.kind == GltfKind::kDirectional) {
    out += fmt::format(
        "kind   = \"sun\"                        # KHR_lights_punctual: a direction, so no disc; "
        "0.533 deg is the sun's\ntoward = {}\noutput = \"{:.6g} lx\"\n",
        triple(standing(l.toward)),
        l.intensity);
  } else if (l.kind == GltfKind::kPoint) {
    out += fmt::format("kind   = \"point\"\nat     = {}\noutput = \"{:.6g} cd\"\n",
                       triple(standing(l.at)),
                       l.intensity);
  } else {
    // The extension's cone falls as the square of (cos - cos outer) / (cos inner - cos outer):
    // where it is 50 % and 10 %.
    const double ci = std::cos(l.inner), co = std::cos(l.outer);
    const auto full_angle = [&](double share) {
      return 2 * std::acos(std::clamp(co + std::sqrt(share) * (ci - co), -1.0, 1.0)) * 180 / kPiD;
    };
    out += fmt::format(
        "kind   = \"spot\"\nat     = {}\naim    = {}\nbeam   = {:.6g}                        # 50 "
        "% of the peak; the file's cone is {:.4g} to {:.4g} deg\nfield  = {:.6g}                   "
        "     # 10 %\noutput = \"{:.6g} cd\"\n",
        triple(standing(l.at)),
        triple(standing(l.at + l.toward)),
        full_angle(0.5),
        2 * l.inner * 180 / kPiD,
        2 * l.outer * 180 / kPiD,
        full_angle(0.1),
        l.intensity);
  }
  if (l.color != Rgb::Ones()) {
    out += fmt::format("tint   = [{:.6g}, {:.6g}, {:.6g}]\n", l.color[0], l.color[1], l.color[2]);
  }
  if (l.range > 0) {
    out += fmt::format(
        "# the file ends its light at {:.4g} m; light does not: range = [\"{:.4g} m\", \"{:.4g} "
        "m\"]\n",
        l.range,
        0.7 * l.range,
        l.range);
  }
  return out;
}

// A rig around a glTF file; `mesh` is the file's name as the rig gives it.
std::string rig_from(const GltfScene& scene, const std::string& mesh, const std::string& source) {
  Vec3d lo = Vec3d::Constant(HUGE_VAL), hi = -lo;
  std::size_t triangles = 0;
  for (const GltfScene::Part& p : scene.parts) {
    triangles += p.mesh.triangles.size();
    for (const Vec3& v : p.mesh.positions) {
      lo = lo.cwiseMin(standing(v.cast<double>()));
      hi = hi.cwiseMax(standing(v.cast<double>()));
    }
  }
  const bool some = !scene.parts.empty();
  const Vec3d center = some ? Vec3d(0.5 * (lo + hi)) : Vec3d(Vec3d::Zero());
  const double size = some ? (hi - lo).norm() : 1;
  std::string out = fmt::format(
      "# From {}: {} triangles, {} of its lights, {} of its cameras.\njovilux = "
      "1\n\n[scene]\ntitle  = \"{}\"\nlength = \"m\"\n\n[render]\nsize    = [960, 540]\nsamples = "
      "64\n\n[look]\nexposure = \"auto\"\n",
      source,
      triangles,
      scene.lights.size(),
      scene.cameras.size(),
      source);
  std::vector<std::string> cameras, lights;
  for (const GltfScene::Camera& c : scene.cameras) {
    const double field_of_view = 2 * std::atan(std::tan(c.view / 2) * 16.0 / 9) * 180 / kPiD;
    out += fmt::format(
        "\n[[camera]]\nname    = \"{}\"\nat      = {}\nlook_at = {}\nfield_of_view = {:.5g}\n",
        plain_name(c.name, "camera", cameras),
        triple(standing(c.at)),
        triple(standing(c.at + c.toward * std::max(1e-3, size))),
        std::clamp(field_of_view, 0.01, 169.0));
  }
  if (scene.cameras.empty()) {
    out += fmt::format(
        "\n[[camera]]                          # the file has none: all of it, from the "
        "front\nname    = \"front\"\nat      = {}\nlook_at = {}\nfield_of_view = 40\n",
        triple(center + std::max(size, 1e-3) * Vec3d(0.45, -1.25, 0.45)),
        triple(center));
  }
  if (some) {
    out += fmt::format(
        "\n[[object]]\nname = \"scene\"                       # with the file's own materials; "
        "give it a material to replace them\nmesh = \"{}\"\n",
        mesh);
  }
  for (const GltfScene::Light& l : scene.lights) {
    out += light_text(l, plain_name(l.name, "light", lights));
  }
  if (scene.lights.empty()) {
    out +=
        "\n[[light]]                           # the file has none\nname   = \"sky\"\nkind   = "
        "\"sky\"\nmodel  = \"overcast\"\noutput = \"10000 lx\"\n";
  }
  return out;
}

void make_folder(const std::filesystem::path& dir) {
  std::error_code ec;
  std::filesystem::create_directories(dir, ec);
  if (ec || !std::filesystem::is_directory(dir)) {
    throw UsageError(fmt::format("{}: the folder cannot be made{}",
                                 printable(dir.string(), 200),
                                 ec ? ": " + ec.message() : ""));
  }
}

// A rig of the lights of a stage in USD's text format.
int new_from_usd(const std::string& source,
                 const std::filesystem::path& dir,
                 const std::filesystem::path& file,
                 bool json) {
  const auto stage = load_usd_lights(source);
  for (const Problem& p : stage.problems()) {
    print_err(to_string(p) + "\n");
  }
  if (!stage) {
    return kBadInput;
  }
  make_folder(dir);
  // Files of the stage as the rig names them.
  const auto named = [&](const std::string& asset) {
    std::error_code ec;
    const fs::path whole = fs::absolute(fs::path(source).parent_path() / asset, ec);
    return fs::proximate(whole, fs::absolute(dir, ec), ec).generic_string();
  };
  write_rig(file,
            rig_from_usd(*stage, printable(fs::path(source).filename().string(), 100), named));
  const std::string check = "jovilux check " + file.string();
  print_out(json ? json_text({{"wrote", file.string()},
                              {"lights", stage->lights.size()},
                              {"meshes_left_out", stage->meshes},
                              {"next", check}})
                 : fmt::format("wrote {}: {} lights{}\nnext: {}\n",
                               file.string(),
                               stage->lights.size(),
                               stage->meshes > 0
                                   ? fmt::format("; {} meshes are left out: give the rig an "
                                                 "[[object]] with a mesh file",
                                                 stage->meshes)
                                   : "",
                               check));
  return kDone;
}

int new_from(const std::string& source,
             const std::filesystem::path& dir,
             const std::filesystem::path& file,
             bool json) {
  const std::string ending = file_ending(source);
  if (ending == ".usda") {
    return new_from_usd(source, dir, file, json);
  }
  if (ending != ".glb" && ending != ".gltf") {
    throw UsageError(
        fmt::format("--from {}: expected a .glb, .gltf or .usda file", printable(source, 200)));
  }
  const auto scene = load_gltf(source);
  for (const Problem& p : scene.problems()) {
    print_err(to_string(p) + "\n");
  }
  if (!scene) {
    return kBadInput;
  }
  make_folder(dir);
  std::error_code ec;
  const std::string mesh =
      fs::proximate(fs::absolute(source), fs::absolute(dir), ec).generic_string();
  write_rig(file,
            rig_from(*scene,
                     in_quotes(mesh),
                     in_quotes(printable(fs::path(source).filename().string(), 100))));
  if (json) {
    print_out(json_text({{"wrote", file.string()},
                         {"lights", scene->lights.size()},
                         {"cameras", scene->cameras.size()},
                         {"mesh", source},
                         {"next", "jovilux check " + file.string()}}));
    return kDone;
  }
  print_out(
      fmt::format("wrote {}: {} lights, {} cameras; the mesh stays in {}\nnext: jovilux check "
                  "{}\nthen: jovilux render {} -o {}\n",
                  file.string(),
                  scene->lights.size(),
                  scene->cameras.size(),
                  printable(source, 200),
                  file.string(),
                  file.string(),
                  (dir / "out").string()));
  return kDone;
}

Usage usage_of_new() {
  std::string scenes;
  for (const TestScene& t : test_scenes()) {
    scenes += fmt::format("  {:<10} {}\n", t.name, t.what);
  }
  return {
      "new",
      "DIR",
      "Writes DIR/rig.toml: a small commented rig that renders at once. DIR is created; a rig that "
      "is\nthere already is kept unless --force is given. With --from, the rig is made around a "
      "glTF file: its mesh with its\nmaterials, its cameras, its KHR_lights_punctual lights in "
      "candela and lux; or of the UsdLux lights of a stage in USD's text format.",
      {{"scene", "a plain scene made for trying one light instead; see below", "NAME"},
       {"from", "a .glb or .gltf file to make the rig around, or a .usda file's lights", "FILE"},
       {"force", "replace DIR/rig.toml", ""},
       {"json", "print one JSON document instead", ""}},
      "Scenes:\n" + scenes,
      "jovilux new row --scene row"};
}

// Throws UsageError where there is none of this name.
const TestScene& scene_named(const std::string& name) {
  std::vector<std::string> names;
  for (const TestScene& t : test_scenes()) {
    if (t.name == name) {
      return t;
    }
    names.push_back(t.name);
  }
  const std::string hint = did_you_mean(name, names);
  throw UsageError(fmt::format("--scene: found \"{}\"; expected {}{}",
                               printable(name),
                               join_or(names),
                               hint.empty() ? "" : "; " + hint));
}

// The rig's file in the folder that is asked for. Throws UsageError where it may not be written.
fs::path file_for(const fs::path& dir, bool force) {
  if (dir.extension() == ".toml") {
    throw UsageError(fmt::format("{} names a file; name the folder for rig.toml, such as {}",
                                 printable(dir.string(), 200),
                                 printable(fs::path(dir).replace_extension().string(), 200)));
  }
  fs::path file = dir / "rig.toml";
  std::error_code ec;
  if (fs::exists(file, ec) && !force) {
    throw UsageError(fmt::format("{} exists; choose another folder, or add --force to replace it",
                                 printable(file.string(), 200)));
  }
  return file;
}

int new_starter(const fs::path& file, const std::string& render, bool json) {
  write_rig(file, starter_rig());
  print_out(json ? json_text({{"wrote", file.string()}, {"next", render}})
                 : fmt::format("wrote {}\nnext: {}\n", file.string(), render));
  return kDone;
}

int new_scene(const TestScene& scene,
              const fs::path& file,
              const std::string& render,
              const std::string& out,
              bool json) {
  std::string read = "jovilux read " + out;
  for (const std::string& at : scene.read_at) {
    read += " --at " + at;
  }
  write_rig(file,
            fmt::format("# {}\n#   {}\n#   {}\n#   reads {}; {}\n",
                        scene.what,
                        render,
                        read,
                        scene.read_what,
                        scene.then) +
                scene.rig);
  if (json) {
    print_out(json_text({{"wrote", file.string()},
                         {"next", render},
                         {"then", read},
                         {"reads", scene.read_what},
                         {"try", scene.then}}));
    return kDone;
  }
  print_out(fmt::format("wrote {}\nnext: {}\nthen: {}\n      reads {}\n      {}\n",
                        file.string(),
                        render,
                        read,
                        scene.read_what,
                        scene.then));
  return kDone;
}

}  // namespace

int run_new(int argc, char** argv) {
  const Arguments a(usage_of_new(), argc, argv);
  const auto name = a.text("scene"), from = a.text("from");
  const TestScene* const scene = name ? &scene_named(*name) : nullptr;
  const fs::path dir(a.positional()), file = file_for(dir, a.flag("force"));
  const bool json = a.flag("json");
  if (from) {
    if (scene != nullptr) {
      throw UsageError("--from and --scene are both given; choose one");
    }
    return new_from(*from, dir, file, json);
  }
  make_folder(dir);
  const std::string out = (dir / "out").string(),
                    render = fmt::format("jovilux render {} -o {}", file.string(), out);
  return scene == nullptr ? new_starter(file, render, json)
                          : new_scene(*scene, file, render, out, json);
}

}  // namespace jovilux::cli
