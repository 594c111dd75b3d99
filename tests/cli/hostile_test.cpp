// Values that overflow, files made to harm, pictures without light: found by mutated inputs, kept.
#include "jovilux/base/sampler.h"

#include <cmath>
#include <cstring>
#include <filesystem>

#include "tests/support/program.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>
#include <sys/stat.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

namespace fs = std::filesystem;

std::string rig_with(const std::string& more,
                     const std::string& lamp = "kind='point'\nat=[0,0,2]\noutput='100 lm'\n") {
  return "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-2,1]\nlook_at=[0,0,0]\n[render]\nsize=[48,32]\n"
         "samples=8\n[[object]]\nname='floor'\nshape={kind='plane'}\n[[light]]\nname='l'\n" +
         lamp + more;
}

// check refuses it within seconds, and says what the value may be.
void out_of_range(const TemporaryFolder& dir, const std::string& rig, const std::string& text) {
  const ProgramRun r = run_program({"check", dir.write("r.toml", rig)});
  INFO(r.out << r.err);
  CHECK(r.status == 1);
  CHECK(r.out.find("error: ") != std::string::npos);
  CHECK(r.out.find(text) != std::string::npos);
}

}  // namespace

TEST_CASE("quantities that single precision does not hold are out of range", "[cli][hostile]") {
  const TemporaryFolder dir;
  out_of_range(dir,
               rig_with("[[object]]\nname='o'\nshape={kind='box', size=[1.2, 1.2, 1e308]}\n"),
               "found 1e+308; expected 1e-09 to 1e+09");
  out_of_range(dir,
               rig_with("", "kind='sphere'\nradius='1e308 cm'\nat=[0,0,2]\noutput='9 lm'\n"),
               "light.l.radius");
  out_of_range(dir,
               rig_with("", "kind='point'\nat=[0,0,2]\noutput='1e39 cd'\n"),
               "at most 1e+15 cd can be rendered");
  out_of_range(dir,
               rig_with("", "kind='sphere'\nradius='1e-8 m'\nat=[0,0,2]\noutput='800 lm'\n"),
               "make the light larger");
  out_of_range(dir,
               rig_with("[[haze]]\nname='h'\ninside='everywhere'\nextinction='1e39 /m'\n"),
               "expected 0 to 1000000");
  // Work on a gobo is bounded by what it can show.
  const std::string spot =
      "kind='spot'\nat=[0,0,2]\naim=[0,0,0]\nbeam='20 deg'\nfield='30 "
      "deg'\noutput='100 cd'\n";
  out_of_range(dir,
               rig_with("", spot + "gobo={pattern='slats', size=['1 m', '1e-6 m'], at='1 m'}\n"),
               "at most 1000 times");
  out_of_range(dir,
               rig_with("",
                        spot + "gobo={pattern='slats', size=['1 m', '1 m'], at='1 m', soft='1e5 "
                               "cm'}\n"),
               "write at most \"2 m\"");
  // What lies within is taken.
  CHECK(run_program({"check",
                     dir.write("good.toml",
                               rig_with("",
                                        spot + "gobo={pattern='slats', size=['1 m', '5 cm'], "
                                               "at='1 m', soft='1 cm'}\n"))})
            .status == 0);
}

TEST_CASE("a picture without light is said to be black, and drawn", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("r.toml", rig_with("", "kind='point'\nat=[0,0,-2]\noutput='100 lm'\n"));
  const ProgramRun render = run_program({"render", rig, "-o", dir.path("b"), "--quiet"});
  REQUIRE(render.status == 0);
  CHECK(render.out.find("the picture is black") != std::string::npos);
  const ProgramRun bands = run_program({"false-color", dir.path("b"), "-o", dir.path("f")});
  INFO(bands.err);
  CHECK(bands.status == 0);
  const ProgramRun report =
      run_program({"report", dir.path("b"), "-o", dir.path("b.html"), "--quiet"});
  INFO(report.err);
  CHECK(report.status == 0);
  const ProgramRun noise = run_program({"noise", dir.path("b")});
  CHECK(noise.status == 1);
  CHECK(noise.out.find("no light was found") != std::string::npos);
  const ProgramRun why = run_program({"why", dir.path("b"), "--at", "24,20", "--samples", "1024"});
  CHECK(why.out.find("no light comes here") != std::string::npos);
  CHECK(why.out.find("l: stands behind the surface") != std::string::npos);
}

TEST_CASE("a noise target does not pass a picture whose light is hardly found", "[cli][hostile]") {
  const TemporaryFolder dir;
  // A closed dark box around the camera's view, lit through a hole of 4 mm.
  std::string walls;
  for (const auto& [at, size] : {std::pair("[0,2,1]", "[4,0.1,4]"),
                                 std::pair("[0,-3,1]", "[4,0.1,4]"),
                                 std::pair("[2,0,1]", "[0.1,6,4]"),
                                 std::pair("[-2,0,1]", "[0.1,6,4]"),
                                 std::pair("[1.002,0,3]", "[2,6,0.1]"),
                                 std::pair("[-1.002,0,3]", "[2,6,0.1]")}) {
    walls += fmt::format(
        "[[object]]\nname='w{}'\nat={}\nshape={{kind='box', size={}}}\n", walls.size(), at, size);
  }
  const std::string rig =
      dir.write("r.toml", rig_with(walls, "kind='sun'\ntoward=[0,0.3,-1]\noutput='50000 lx'\n"));
  const ProgramRun run = run_program({"render",
                                      rig,
                                      "-o",
                                      dir.path("o"),
                                      "--quiet",
                                      "--noise",
                                      "5 %",
                                      "--samples",
                                      "256",
                                      "--set",
                                      "render.guiding=false",
                                      "--json"});
  INFO(run.out << run.err);
  REQUIRE(run.status == 0);
  CHECK(run.json()["samples_per_pixel"].get<double>() >= 64);
}

TEST_CASE("damaged pictures and slices are bad input, and take no memory", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml", rig_with(""));
  REQUIRE(run_program({"render", rig, "-o", dir.path("o"), "--quiet"}).status == 0);
  REQUIRE(run_program({"render", rig, "-o", dir.path("s"), "--slice", "1/1", "--quiet"}).status ==
          0);
  // A slice of one is joined like others.
  REQUIRE(run_program({"merge", dir.path("s"), "-o", dir.path("m"), "--quiet"}).status == 0);
  CHECK(dir.read("m/image.exr") == dir.read("o/image.exr"));
  const std::string picture = dir.read("o/image.exr"), slice = dir.read("s/slice-1-of-1.part");
  Rng rng(7);
  for (int i = 0; i < 24; ++i) {
    std::string exr = picture, part = slice;
    for (int k = 0; k < 4; ++k) {
      exr[static_cast<std::size_t>(rng.uniform() * static_cast<double>(exr.size()))] ^= 0x41;
    }
    part[8 + static_cast<std::size_t>(rng.uniform() * 200)] ^= static_cast<char>(1 << i % 8);
    const ProgramRun read = run_program({"read", dir.write("x.exr", exr)});
    CHECK((read.status == 0 || read.status == 2));
    dir.write("p/slice-1-of-1.part", part);
    const ProgramRun merge =
        run_program({"merge", dir.path("p"), "-o", dir.path("pm"), "--force", "--quiet"});
    INFO(merge.err);
    CHECK(merge.status == 2);
  }
}

TEST_CASE("what names and titles hold does not steer the terminal", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string title = "\\u001b]0;owned\\u0007\\u009b31m";
  const std::string rig =
      dir.write("r.toml",
                "jovilux = 1\n[scene]\ntitle = \"" + title + "\"\n" +
                    rig_with("", "kind='point'\nat=[0,0,2]\noutput=\"\\u001b[2J\\u009b31m lm\"\n")
                        .substr(12));
  const ProgramRun check = run_program({"check", rig});
  for (const std::string& text : {check.out, check.err}) {
    CHECK(text.find('\x1b') == std::string::npos);
    CHECK(text.find("\xc2\x9b") == std::string::npos);
    CHECK(text.find('\x07') == std::string::npos);
  }
  CHECK(check.out.find("output") != std::string::npos);
  // A line of an error is no longer than a page, whatever the text that is wrong.
  const ProgramRun longest =
      run_program({"show", dir.path(std::string(200, 'x') + "/" + std::string(50'000, 'y'))});
  CHECK(longest.status == 2);
  CHECK(longest.err.size() < 10'000);
}

TEST_CASE("names with dots, brackets or a hundred letters are told or taken", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string array =
      "[[array]]\nname='{}'\nof='l'\noutput='each'\ncount=2\nalong={{path='line', from=[0,0,1], "
      "to=[1,0,1]}}\n";
  for (const std::string name : {"a.b", "a[0]", "", ".", "x y", "\u00e9t\u00e9"}) {
    INFO("'" << name << "'");
    for (const std::string& more :
         {fmt::format("[[object]]\nname='{}'\nshape={{kind='plane'}}\n", name),
          fmt::format("[[object]]\nname='{}'\nshape=5\n", name),
          fmt::format(fmt::runtime(array), name)}) {
      const ProgramRun run = run_program({"check", dir.write("r.toml", rig_with(more))});
      INFO(run.out << run.err);
      CHECK(run.status == 1);
      CHECK(run.out.find("a name is made of letters") != std::string::npos);
    }
  }
  const std::string hundred(100, 'n');
  for (const std::string& more :
       {fmt::format("[[object]]\nname='{}'\nshape={{kind='sphere', radius=0.1}}\nat=[0,0,1]\n",
                    hundred),
        fmt::format(fmt::runtime(array), hundred)}) {
    const ProgramRun run = run_program({"check", dir.write("r.toml", rig_with(more))});
    INFO(run.out << run.err);
    CHECK(run.status == 0);
  }
}

TEST_CASE("folders whose names are no UTF-8 work, in JSON as well", "[cli][hostile]") {
  const TemporaryFolder dir;
  const std::string odd = dir.path("f\xff\xfelder");
  const std::string rig = dir.write("r.toml", rig_with(""));
  const ProgramRun render = run_program({"render", rig, "-o", odd, "--quiet", "--json"});
  INFO(render.err);
  CHECK(render.status == 0);
  CHECK(run_program({"render", rig, "-o", odd, "--quiet", "--json"}).status == 0);
  for (const std::vector<std::string>& words :
       {std::vector<std::string>{"show", odd, "--json"},
        {"read", odd, "--json"},
        {"noise", odd, "--json"},
        {"balance", odd, "--json"},
        {"why", odd, "--at", "3,3", "--samples", "1024", "--json"},
        {"compare", odd, odd, "--json"}}) {
    const ProgramRun run = run_program(words);
    INFO(words[0] << run.err);
    CHECK(run.status <= 1);
    CHECK_FALSE(run.json().empty());
  }
}

TEST_CASE("a glTF file reads no more than its own folder, and no view beyond its buffer",
          "[cli][hostile]") {
  const TemporaryFolder dir;
  const auto gltf = [](const std::string& uri, const std::string& image) {
    return R"({"asset":{"version":"2.0"},"buffers":[{"byteLength":36,"uri":")" + uri +
           R"("}],"bufferViews":[{"buffer":0,"byteLength":36},{"buffer":0,"byteOffset":30,)"
           R"("byteLength":1000000}],"accessors":[{"bufferView":0,"componentType":5126,"count":3,)"
           R"("type":"VEC3","min":[0,0,0],"max":[1,1,0]}],)" +
           image +
           R"("meshes":[{"primitives":[{"attributes":{"POSITION":0}}]}],"nodes":[{"mesh":0}],)"
           R"("scenes":[{"nodes":[0]}],"scene":0})";
  };
  std::string triangle(36, '\0');
  const float corners[9] = {0, 0, 0, 1, 0, 0, 0, 1, 0};
  std::memcpy(triangle.data(), corners, 36);
  dir.write("in/t.bin", triangle);
  dir.write("secret.bin", triangle);
  REQUIRE(::mkfifo(dir.path("in/pipe.bin").c_str(), 0600) == 0);
  const auto checked = [&](const std::string& text) {
    dir.write("in/m.gltf", text);
    return run_program(
        {"check", dir.write("in/r.toml", rig_with("[[object]]\nname='m'\nmesh='m.gltf'\n"))});
  };
  CHECK(checked(gltf("t.bin", "")).status == 0);
  const ProgramRun outside = checked(gltf("../secret.bin", ""));
  CHECK(outside.status == 1);
  CHECK(outside.out.find("not in the folder") != std::string::npos);
  CHECK(checked(gltf("pipe.bin", "")).status == 1);
  CHECK(checked(gltf("/etc/passwd", "")).status == 1);
  const ProgramRun view = checked(
      gltf("t.bin",
           R"("images":[{"bufferView":1,"mimeType":"image/png"}],"textures":[{"source":0}],)"
           R"("materials":[{"pbrMetallicRoughness":{"baseColorTexture":{"index":0}}}],)"));
  INFO(view.out);
  CHECK(view.status == 1);
}

TEST_CASE("a stats.json that holds other kinds of values is rendered over and reported",
          "[cli][hostile][json]") {
  const TemporaryFolder dir;
  const std::string rig = dir.write("r.toml",
                                    "jovilux = 1\n[render]\nsize = [24, 16]\nsamples = "
                                    "2\n[[camera]]\nname = 'c'\nat = [0, -3, 1]\n"
                                    "look_at = [0, 0, 0]\n[[object]]\nname = 'floor'\nshape = { "
                                    "kind = 'plane' }\n[[light]]\nname "
                                    "= 'l'\nkind = 'point'\nat = [0, 0, 2]\noutput = '800 lm'\n");
  const std::vector<std::string> render = {"render", rig, "-o", dir.path("out"), "--quiet"};
  REQUIRE(run_program(render).status == 0);
  for (const char* stats : {R"({"width": "x", "height": [1], "samples_per_pixel": "many"})",
                            R"({"rig": 3, "noise": "n", "lights": 5})",
                            "[1, 2]",
                            "{"}) {
    INFO(stats);
    dir.write("out/stats.json", stats);
    const ProgramRun again = run_program(render);
    INFO(again.err);
    CHECK(again.status == 0);
  }
  dir.write("out/stats.json", R"({"width": "x", "noise": "n", "lights": 5})");
  const ProgramRun report = run_program({"report", dir.path("out"), "-o", dir.path("report.html")});
  INFO(report.err);
  CHECK(report.status == 0);
}
