#include <filesystem>

#include <fmt/format.h>

#include "cli/arguments.h"
#include "cli/output.h"
#include "cli/test_scenes.h"
#include "cli/verbs.h"
#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

namespace jovilux::cli {
namespace {

constexpr std::string_view kStarter = R"(# A potting table under one lamp. Check it:   jovilux check rig.toml
# Render it:   jovilux render rig.toml -o out      then look at out/view.png
jovilux = 1

[scene]
title  = "A potting table under one lamp"
length = "m"                        # what bare lengths mean

[[camera]]
name    = "front"
at      = [1.6, -2.4, 1.6]
look_at = [0, 0, 0.85]
view    = "42 deg"                  # horizontal

[look]
exposure = "auto"                   # or "EV 6", or "camera" with stop, shutter and iso of the camera

[render]
size    = [640, 400]
samples = 64                        # per pixel; or noise = "3 %" to stop when it is clean

# What reflects
[[material]]
name  = "wood"
kind  = "matte"
color = "#8a5a38"

[[material]]
name      = "glaze"
kind      = "gloss"                 # a clear coat over a matte base
color     = "#2f6f62"
roughness = 0.15

[[object]]
name  = "floor"
shape = { kind = "plane" }

[[object]]
name     = "table"
shape    = { kind = "box", size = [1.4, 0.7, 0.05] }
at       = [0, 0, 0.75]
material = "wood"

[[object]]
name     = "pot"
shape    = { kind = "cone", radius = ["7 cm", "10 cm"], height = "18 cm" }
at       = [0.15, 0, 0.865]
material = "glaze"

# What shines: try output = "80 cd" or "300 lx @ 1 m", white = "4000 K", radius = "20 cm" for softer shadows
[[light]]
name   = "lamp"
form   = "disk"
at     = [-0.4, -0.2, 1.9]
aim    = [0, 0, 0.8]
radius = "9 cm"
output = "800 lm"
white  = "2700 K"
dimmer = 1.0

[[light]]
name   = "window"
form   = "rect"
at     = [-2.2, 0.6, 1.6]
aim    = [0, 0, 0.8]
size   = ["90 cm", "120 cm"]
output = "250 cd/m2"
white  = "D6504"
)";

}  // namespace

int run_new(int argc, char** argv) {
  std::string scenes;
  std::vector<std::string> names;
  for (const TestScene& t : test_scenes()) {
    scenes += fmt::format("  {:<10} {}\n", t.name, t.what);
    names.push_back(t.name);
  }
  const Usage usage{"new", "DIR", "Writes DIR/rig.toml: a small commented rig that renders at once. DIR is created; a rig that is\nthere already is kept unless --force is given.",
                    {{"scene", "a plain scene made for trying one light instead; see below", "NAME"}, {"force", "replace DIR/rig.toml", ""}}, "Scenes:\n" + scenes, "jovilux new balls --scene distances"};
  const Arguments a(usage, argc, argv);
  if (a.help_wanted()) {
    print_out(a.help_text());
    return kDone;
  }
  const TestScene* scene = nullptr;
  if (const auto name = a.text("scene")) {
    for (const TestScene& t : test_scenes()) {
      scene = t.name == *name ? &t : scene;
    }
    if (scene == nullptr) {
      const std::string hint = did_you_mean(*name, names);
      throw UsageError(fmt::format("--scene: found \"{}\"; expected {}{}", printable(*name), join_or(names), hint.empty() ? "" : "; " + hint));
    }
  }
  namespace fs = std::filesystem;
  const fs::path dir(a.positional()), file = dir / "rig.toml";
  std::error_code ec;
  if (fs::exists(file, ec) && !a.flag("force")) {
    throw UsageError(fmt::format("{} exists; choose another folder, or add --force to replace it", printable(file.string(), 200)));
  }
  fs::create_directories(dir, ec);
  if (ec || !fs::is_directory(dir)) {
    throw UsageError(fmt::format("{}: the folder cannot be made{}", printable(dir.string(), 200), ec ? ": " + ec.message() : ""));
  }
  const std::string out = (dir / "out").string();
  const std::string render = fmt::format("jovilux render {} -o {}", file.string(), out);
  if (scene == nullptr) {
    write_text_file(file.string(), kStarter);
    print_out(fmt::format("wrote {}\nnext: {}\n", file.string(), render));
    return kDone;
  }
  std::string read = "jovilux read " + out;
  for (const std::string& at : scene->read_at) {
    read += " --at " + at;
  }
  write_text_file(file.string(), fmt::format("# {}\n#   {}\n#   {}\n#   reads {}; {}\n", scene->what, render, read, scene->read_what, scene->then) + scene->rig);
  print_out(fmt::format("wrote {}\nnext: {}\nthen: {}\n      reads {}\n      {}\n", file.string(), render, read, scene->read_what, scene->then));
  return kDone;
}

}  // namespace jovilux::cli
