// Hostile and broken input: a clear error, exit status 2, nothing written; a full disk, exit status
// 4.
#include "jovilux/base/sampler.h"

#include <filesystem>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <sys/stat.h>
#include <unistd.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

const std::string kRig =
    "jovilux = "
    "1\n[[camera]]\nname='c'\nat=[0,-2,1]\nlook_at=[0,0,0]\n[[light]]\nname='l'\nkind='point'\nat=["
    "0,0,2]\noutput='100 lm'\n[render]\nsize=[64,64]\nsamples=4\n";

std::string with_mesh(const std::string& file) {
  return kRig + "[[object]]\nname='o'\nmesh='" + file + "'\n";
}

// Renders a rig that must be refused: status 2, an error that says `text`, no output folder.
void refused(const TemporaryFolder& dir, const std::string& rig, const std::string& text) {
  const ProgramRun r = run_program({"render", rig, "-o", dir.path("out"), "--quiet"});
  INFO(r.err);
  CHECK(r.status == 2);
  CHECK(r.err.find("error: ") != std::string::npos);
  CHECK(r.err.find(text) != std::string::npos);
  CHECK(r.out.empty());
  CHECK_FALSE(std::filesystem::exists(dir.path("out")));
}

}  // namespace

TEST_CASE("truncated and random bytes as rig are refused", "[cli][hostile]") {
  const TemporaryFolder dir;
  Rng rng(5);
  for (int i = 0; i < 20; ++i) {
    std::string bytes(200, '\0');
    for (char& c : bytes) {
      c = static_cast<char>(rng.next());
    }
    refused(dir, dir.write("r.toml", bytes), "r.toml");
  }
  refused(dir, dir.write("r.toml", kRig.substr(0, kRig.find("output=") + 9)), "r.toml:10:");
  refused(dir, dir.write("r.toml", ""), "jovilux: is missing");
  refused(dir, dir.path("none.toml"), "file not found");
  refused(dir, dir.path(""), "not a file");
}

TEST_CASE("meshes that are truncated, random, not finite, out of range or empty are refused",
          "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", with_mesh("m.obj"));
  refused(dir, rig, "r.toml:16:6: error: object.o.mesh: file not found");
  dir.write("m.obj", "v 0 0 0\nv 1 0 0\nv 0 nan 0\nf 1 2 3\n");
  refused(dir, rig, "m.obj:3: error: object.o.mesh: \"nan\" is not a finite number");
  dir.write("m.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 4\n");
  refused(dir, rig, "m.obj:4: error");
  dir.write("m.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\n");
  refused(dir, rig, "holds no triangles");
  const std::string ply = dir.write("p.toml", with_mesh("m.ply"));
  dir.write("m.ply",
            "ply\nformat binary_little_endian 1.0\nelement vertex 3000000000\nproperty float "
            "x\nproperty float y\nproperty float z\nend_header\nxx");
  refused(dir, ply, "too short");
  Rng rng(3);
  std::string bytes(500, '\0');
  for (char& c : bytes) {
    c = static_cast<char>(rng.next());
  }
  dir.write("m.ply", bytes);
  refused(dir, ply, "m.ply");
  dir.write("m.obj", bytes);
  refused(dir, rig, "m.obj");
}

TEST_CASE("damaged pictures are refused by read", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml", kRig + "[[object]]\nname='f'\nshape={kind='plane'}\n");
  REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--quiet"}).status == 0);
  const std::string whole = dir.read("o/image.exr");
  for (const std::size_t size :
       {std::size_t(0), std::size_t(3), std::size_t(100), whole.size() / 2, whole.size() - 50}) {
    const ProgramRun r = run_program({"read", dir.write("cut.exr", whole.substr(0, size))});
    INFO(size << ": " << r.err);
    CHECK(r.status == 2);
    CHECK(r.err.find("cut.exr: error: ") != std::string::npos);
  }
  CHECK(run_program({"read", dir.write("x.exr", "random bytes, not a picture")}).status == 2);
}

TEST_CASE("ten thousand nested includes are refused", "[cli][hostile]") {
  const TemporaryFolder dir;
  for (int i = 0; i < 10'000; ++i) {
    dir.write("d" + std::to_string(i) + ".toml",
              "include = ['d" + std::to_string(i + 1) + ".toml']\n");
  }
  refused(dir, dir.path("d0.toml"), "includes are nested deeper than");
}

TEST_CASE("pictures that no machine holds are refused", "[cli][hostile]") {
  const TemporaryFolder dir;
  std::string rig = kRig;
  refused(dir,
          dir.write("r.toml", rig.replace(rig.find("[64,64]"), 7, "[1000000000, 1000000000]")),
          "r.toml:12:6: error: render.size");
  rig = kRig;
  refused(dir,
          dir.write("r.toml", rig.replace(rig.find("[64,64]"), 7, "[32768, 32768]")),
          "this machine has");
}

TEST_CASE("folders that cannot be written are refused before rendering", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRig);
  dir.write("file", "x");
  for (const std::string& out :
       {dir.path("file"), dir.path("file/below"), std::string("/proc/jovilux-test")}) {
    const ProgramRun r = run_program({"render", rig, "-o", out, "--quiet"});
    INFO(r.err);
    CHECK(r.status == 2);
    CHECK(r.err.find("-o ") != std::string::npos);
  }
  CHECK(dir.read("file") == "x");
  if (::geteuid() != 0) {  // root may write anywhere
    std::filesystem::create_directory(dir.path("closed"));
    ::chmod(dir.path("closed").c_str(), 0500);
    CHECK(run_program({"render", rig, "-o", dir.path("closed"), "--quiet"}).status == 2);
  }
}

TEST_CASE("a disk that fills up is said plainly and leaves no half file", "[cli][hostile]") {
  const TemporaryFolder dir;
  std::string text = kRig;
  text.replace(text.find("[64,64]"), 7, "[256,256]");
  const std::string rig =
      dir.write("r.toml", text + "[[object]]\nname='f'\nshape={kind='plane'}\n");
  const ProgramRun r = run_program({"render", rig, "-o", dir.path("o"), "--quiet"}, 20'000);
  INFO(r.err);
  CHECK(r.status == 4);
  CHECK(r.err.find("failed: writing ") != std::string::npos);
  CHECK(r.err.find("image.exr") != std::string::npos);
  CHECK(dir.files() == std::vector<std::string>{"r.toml"});
}

TEST_CASE("without the plotting program all but figures is written, and it is told at the start",
          "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", kRig + "[time]\nframes=[1,2]\n");
  const auto without = [&](std::vector<std::string> words) {
    words.insert(words.begin(), {"PATH=/nowhere", JOVILUX_PROGRAM});
    words.emplace_back("--quiet");
    return run_other("/usr/bin/env", words);
  };
  const ProgramRun swept =
      without({"sweep", rig, "--vary", "light.l.dimmer = 0.5 .. 1 / 2", "-o", dir.path("sweep")});
  INFO(swept.err);
  CHECK(swept.status == 4);
  CHECK(swept.err.starts_with("warning: gnuplot is not installed"));
  CHECK(swept.err.find("\nerror: gnuplot is not installed") != std::string::npos);
  CHECK(swept.out.find("mean cd/m2") != std::string::npos);
  CHECK(dir.read("sweep/readings.csv").find("0.5") != std::string::npos);
  CHECK_FALSE(std::filesystem::exists(dir.path("sweep/curves.png")));
  const ProgramRun animated = without({"animate", rig, "-o", dir.path("clip")});
  INFO(animated.err);
  CHECK(animated.status == 4);
  CHECK(animated.err.find("warning: gnuplot") != std::string::npos);
  CHECK(dir.read("clip/levels.csv").find("frame") != std::string::npos);
  CHECK(dir.read("clip/animation.json").find("frame.0002.png") != std::string::npos);
}
