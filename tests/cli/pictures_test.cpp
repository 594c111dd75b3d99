// Pictures on surfaces, masks, glTF files and the lens's halo, through the built program.
#include "jovilux/base/sampler.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/gltf.h"
#include "jovilux/files/png.h"
#include "jovilux/render/bloom.h"

#include <cmath>
#include <cstring>

#include "tests/support/meter_rig.h"
#include <catch2/catch.hpp>
#include <fmt/format.h>

using namespace jovilux;
using namespace jovilux::test;

namespace {

// Four quarters: red, green above; blue, gray below.
std::vector<std::uint8_t> quarters(int size) {
  std::vector<std::uint8_t> out;
  for (int y = 0; y < size; ++y) {
    for (int x = 0; x < size; ++x) {
      const bool right = x >= size / 2, low = y >= size / 2;
      const std::array<std::uint8_t, 3> c =
          low ? (right ? std::array<std::uint8_t, 3>{128, 128, 128}
                       : std::array<std::uint8_t, 3>{0, 0, 200})
              : (right ? std::array<std::uint8_t, 3>{0, 200, 0}
                       : std::array<std::uint8_t, 3>{200, 0, 0});
      out.insert(out.end(), c.begin(), c.end());
    }
  }
  return out;
}

// A square of 2 m in z = 0, seen from above with +y up in the picture, lit by 1000 lx of D65.
std::string seen_from_above(const std::string& material, const std::string& object) {
  return "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-0.0001,3]\nlook_at=[0,0,0]\nfield_of_view='40 "
         "deg'\n[render]\nsize=[40,40]\nsamples=64\nbounces=1\n[[material]]\nname='m'\n" +
         material + "\n[[object]]\nname='o'\nmaterial='m'\n" + object +
         "\n[[light]]\nname='l'\nkind='sun'\ntoward=[0,0,-1]\noutput='1000 lx'\n";
}

std::vector<std::array<double, 3>> colors(const TemporaryFolder& dir,
                                          const std::string& text,
                                          const std::vector<std::string>& at) {
  const ProgramRun run = run_program(
      {"render", dir.write("r.toml", text), "-o", dir.path("out"), "--quiet", "--force"});
  INFO(run.err);
  REQUIRE(run.status == 0);
  std::vector<std::string> words = {"read", dir.path("out"), "--json"};
  for (const std::string& a : at) {
    words.insert(words.end(), {"--at", a});
  }
  std::vector<std::array<double, 3>> out;
  const nlohmann::json read = run_program(words).json();
  for (const auto& r : read["readings"]) {
    out.push_back({r["rgb"][0], r["rgb"][1], r["rgb"][2]});
  }
  return out;
}

const std::string kSquare = "shape={kind='rect', size=[2,2]}\n";
const std::vector<std::string> kQuarters = {"12,12", "28,12", "12,28", "28,28"};

// A little glTF: one square of 2 m in the y = 0 plane of its own space, facing up; a spot and a
// point light, a camera.
std::string glb(const std::string& patch_from = "", const std::string& patch_to = "") {
  std::vector<float> positions = {-1, 0, 1, 1, 0, 1, 1, 0, -1, -1, 0, -1},
                     uvs = {0, 1, 1, 1, 1, 0, 0, 0};
  std::vector<std::uint16_t> indices = {0, 1, 2, 0, 2, 3};
  std::string bin(48 + 32 + 12, '\0');
  std::memcpy(bin.data(), positions.data(), 48);
  std::memcpy(bin.data() + 48, uvs.data(), 32);
  std::memcpy(bin.data() + 80, indices.data(), 12);
  std::string json = R"({"asset":{"version":"2.0"},"extensionsUsed":["KHR_lights_punctual"],
"extensions":{"KHR_lights_punctual":{"lights":[
{"type":"spot","name":"lamp","intensity":120,"color":[1,0.8,0.6],
"spot":{"innerConeAngle":0.2,"outerConeAngle":0.5}},
{"type":"point","name":"bulb","intensity":50,"range":4},{"type":"directional","intensity":900}]}},
"scene":0,"scenes":[{"nodes":[0,1,2,3,4]}],
"nodes":[{"mesh":0,"translation":[0,0.5,0]},
{"name":"lamp","translation":[1,2,3],"rotation":[-0.70710678,0,0,0.70710678],
"extensions":{"KHR_lights_punctual":{"light":0}}},
{"name":"bulb","translation":[0,1,-2],
"extensions":{"KHR_lights_punctual":{"light":1}}},
{"extensions":{"KHR_lights_punctual":{"light":2}}},
{"name":"eye","translation":[0,1,4],"camera":0}],
"cameras":[{"type":"perspective","perspective":{"yfov":0.6,"znear":0.1,"aspectRatio":1.5}}],
"materials":[{"name":"painted",
"pbrMetallicRoughness":{"baseColorFactor":[0.2,0.5,0.8,1],"metallicFactor":0,"roughnessFactor":1}}],
"meshes":[{"primitives":[{"attributes":{"POSITION":0,"TEXCOORD_0":1},"indices":2,"material":0}]}],
"buffers":[{"byteLength":92}],
"bufferViews":[{"buffer":0,"byteOffset":0,"byteLength":48},
{"buffer":0,"byteOffset":48,"byteLength":32},
{"buffer":0,"byteOffset":80,"byteLength":12}],
"accessors":[
{"bufferView":0,"componentType":5126,"count":4,"type":"VEC3","min":[-1,0,-1],"max":[1,0,1]},
{"bufferView":1,"componentType":5126,"count":4,"type":"VEC2"},
{"bufferView":2,"componentType":5123,"count":6,"type":"SCALAR"}]})";
  if (!patch_from.empty()) {
    const auto at = json.find(patch_from);
    REQUIRE(at != std::string::npos);
    json.replace(at, patch_from.size(), patch_to);
  }
  json.resize((json.size() + 3) / 4 * 4, ' ');
  const auto word = [](std::uint32_t v) {
    return std::string(reinterpret_cast<const char*>(&v), 4);
  };
  return "glTF" + word(2) +
         word(static_cast<std::uint32_t>(12 + 8 + json.size() + 8 + bin.size())) +
         word(static_cast<std::uint32_t>(json.size())) + "JSON" + json +
         word(static_cast<std::uint32_t>(bin.size())) + std::string("BIN\0", 4) + bin;
}

}  // namespace

TEST_CASE("a picture colors a surface, the right way up, with its encoding undone",
          "[cli][picture]") {
  const TemporaryFolder dir;
  write_png(dir.path("q.png"), 32, 32, quarters(32));
  const double gray = srgb_decoded(128 / 255.0) * 1000 / kPiD,
               bright = srgb_decoded(200 / 255.0) * 1000 / kPiD;
  const auto seen =
      colors(dir, seen_from_above("kind='diffuse'\ncolor='q.png'", kSquare), kQuarters);
  CHECK(seen[0][0] == Approx(bright).epsilon(0.01));
  CHECK(seen[0][1] < 0.02 * bright);
  CHECK(seen[1][1] == Approx(bright).epsilon(0.01));
  CHECK(seen[2][2] == Approx(bright).epsilon(0.01));
  CHECK(seen[3][0] == Approx(gray).epsilon(0.01));
  const auto linear = colors(
      dir, seen_from_above("kind='diffuse'\ncolor='q.png'\nencoding='linear'", kSquare), kQuarters);
  CHECK(linear[3][0] == Approx(128 / 255.0 * 1000 / kPiD).epsilon(0.01));
  // Twice across: the left half shows the whole picture.
  const auto tiled = colors(dir,
                            seen_from_above("kind='diffuse'\ncolor='q.png'\ntile=[2,1]", kSquare),
                            {"8,12", "16,12"});
  CHECK(tiled[0][0] == Approx(bright).epsilon(0.01));
  CHECK(tiled[1][1] == Approx(bright).epsilon(0.01));
  // The same through the places that a mesh gives, and from above on a box and a solid (meters: one
  // picture a meter).
  dir.write("s.obj",
            "v -1 -1 0\nv 1 -1 0\nv 1 1 0\nv -1 1 0\nvt 0 0\nvt 1 0\nvt 1 1\nvt 0 1\nf 1/1 2/2 3/3 "
            "4/4\n");
  const auto meshed =
      colors(dir, seen_from_above("kind='diffuse'\ncolor='q.png'", "mesh='s.obj'"), kQuarters);
  const auto boxed = colors(
      dir,
      seen_from_above("kind='diffuse'\ncolor='q.png'", "shape={kind='box', size=[2,2,0.001]}"),
      kQuarters);
  // A solid has none of its own: meters about its origin, so that half a picture a meter, once over
  // 2 m, begins in the middle.
  const auto solid =
      colors(dir,
             seen_from_above("kind='diffuse'\ncolor='q.png'\ntile=[0.5,0.5]",
                             "solid='s'\n[[solid]]\nname='s'\nkind='box'\nsize=[2,2,0.001]"),
             kQuarters);
  for (std::size_t i = 0; i < 4; ++i) {
    for (std::size_t c = 0; c < 3; ++c) {
      CHECK(meshed[i][c] == Approx(seen[i][c]).epsilon(0.01).margin(0.5));
      CHECK(boxed[i][c] == Approx(seen[i][c]).epsilon(0.01).margin(0.5));
    }
  }
  CHECK(solid[0][1] == Approx(seen[3][1]).epsilon(0.01).margin(0.5));
  CHECK(solid[3][0] == Approx(seen[0][0]).epsilon(0.01).margin(0.5));
}

TEST_CASE("a mask cuts a surface out, for eyes and for shadows", "[cli][picture]") {
  const TemporaryFolder dir;
  std::vector<std::uint8_t> half(16 * 16 * 3, 0);
  for (std::size_t i = 0; i < half.size(); ++i) {
    half[i] = i / 3 % 16 < 8 ? 255 : 0;  // the left half is there
  }
  write_png(dir.path("m.png"), 16, 16, half);
  const std::string floor = "\n[[object]]\nname='floor'\nshape={kind='plane'}\nat=[0,0,-0.5]\n";
  const auto seen =
      colors(dir,
             seen_from_above("kind='diffuse'\ncolor=[0.8,0.8,0.8]\nmask='m.png'", kSquare + floor),
             {"12,20", "28,20"});
  CHECK(seen[0][1] == Approx(0.8 * 1000 / kPiD).epsilon(0.01));
  CHECK(seen[1][1] == Approx(0.5 * 1000 / kPiD).epsilon(0.01));  // the floor, lit through the cut
  // A gray mask halves what is there: half of 0.8, half of a floor that gets half of the light.
  write_png(dir.path("m.png"), 2, 2, std::vector<std::uint8_t>(12, 128));
  const double there = 128 / 255.0,
               got = (there * 0.8 + (1 - there) * (1 - there) * 0.5) * 1000 / kPiD;
  const ProgramRun run = run_program({"render",
                                      dir.path("r.toml"),
                                      "-o",
                                      dir.path("out"),
                                      "--quiet",
                                      "--force",
                                      "--set",
                                      "render.samples=256"});
  REQUIRE(run.status == 0);
  const auto r = run_program({"read", dir.path("out"), "--json", "--box", "14,14,12,12"})
                     .json()["readings"][0];
  CHECK(std::abs(r["luminance_cd_m2"].get<double>() - got) <
        5 * r["standard_error_cd_m2"].get<double>() + 0.002 * got);
  CHECK(r["standard_error_cd_m2"].get<double>() < 0.01 * got);
}

TEST_CASE("what a mask cuts out of a luminous object is dark", "[cli][picture]") {
  const TemporaryFolder dir;
  std::vector<std::uint8_t> half(16 * 16 * 3, 0);
  for (std::size_t i = 0; i < half.size(); ++i) {
    half[i] = i / 3 % 16 < 8 ? 255 : 0;  // the left half is there
  }
  write_png(dir.path("m.png"), 16, 16, half);
  const std::string above =
      "[[meter]]\nname='m'\nkind='illuminance'\nat=[0.3,0.1,0.8]\nfacing=[0,0,"
      "-1]\n";
  const auto lux = [&](const std::string& lights) {
    const std::string rig =
        dir.write("lux.toml", "jovilux = 1\n[render]\nbounces=0\n" + lights + above);
    const auto report = run_program({"meter", rig, "--error", "0.3 %", "--json"}).json();
    return report["meters"][0]["value"].get<double>();
  };
  const std::string cut =
      "[[material]]\nname='k'\nkind='diffuse'\ncolor=[0,0,0]\nmask='m.png'\n[[object]]\nname='o'\n"
      "material='k'\n" +
      std::string(kSquare) + "\n";
  const auto object = [](const std::string& output) {
    return "[[light]]\nname='l'\nkind='object'\nobject='o'\noutput='" + output + "'\n";
  };
  // The left half is a rect of 1 m x 2 m.
  const auto rect = [](const std::string& output) {
    return "[[light]]\nname='l'\nkind='rect'\nat=[-0.5,0,0]\naim=[-0.5,0,1]\nsize=[1,2]\noutput='" +
           output + "'\n";
  };
  const double like_rect = lux(rect("100 cd/m2"));
  CHECK(lux(cut + object("100 cd/m2")) == Approx(like_rect).epsilon(0.015));
  // Lumens are those of what is left.
  CHECK(lux(cut + object("500 lm")) == Approx(lux(rect("500 lm"))).epsilon(0.015));
  // The eye sees the light on one side and what lies behind on the other.
  const auto seen = colors(
      dir,
      seen_from_above("kind='diffuse'\ncolor=[0,0,0]\nmask='m.png'", kSquare) +
          "[[light]]\nname='glow'\nkind='object'\nobject='o'\noutput='100 cd/m2'\nwhite='D65'\n",
      {"12,20", "28,20"});
  CHECK(seen[0][1] == Approx(100).epsilon(0.01));
  CHECK(seen[1][1] == 0);
}

TEST_CASE("pictures that are none are told with their place", "[cli][picture]") {
  const TemporaryFolder dir;
  const auto told = [&](const std::string& material) {
    const ProgramRun run =
        run_program({"check", dir.write("r.toml", seen_from_above(material, kSquare))});
    return run.out + run.err;
  };
  dir.write("t.txt", "x");
  dir.write("bad.png", "\x89PNG no picture");
  CHECK(told("kind='diffuse'\ncolor='none.png'").find("file not found") != std::string::npos);
  CHECK(told("kind='diffuse'\ncolor='t.txt'").find("a picture (.png, .exr, .hdr)") !=
        std::string::npos);
  CHECK(told("kind='diffuse'\ncolor='bad.png'").find("named at") != std::string::npos);
  // A header that claims far more pixels than the file could hold, with its check sum right.
  write_png(dir.path("small.png"), 1, 1, {1, 2, 3});
  std::string huge = dir.read("small.png");
  // 11009 a side: bytes 16..19 are the width, 20..23 the height.
  huge[18] = huge[22] = static_cast<char>(0x2b);
  std::uint32_t crc = 0xffffffffU;
  for (std::size_t i = 12; i < 29; ++i) {
    crc ^= static_cast<unsigned char>(huge[i]);
    for (int k = 0; k < 8; ++k) {
      crc = crc >> 1 ^ ((crc & 1U) != 0 ? 0xedb88320U : 0U);
    }
  }
  for (std::size_t i = 0; i < 4; ++i) {
    huge[29 + i] = static_cast<char>(~crc >> (24 - 8 * i));
  }
  dir.write("huge.png", huge);
  CHECK(told("kind='diffuse'\ncolor='huge.png'").find("more than its") != std::string::npos);
  CHECK(told("kind='diffuse'\nmask=[1,2]").find("a picture's file name") != std::string::npos);
  CHECK(told("kind='diffuse'\ntile=[3,1]").find("neither color nor mask") != std::string::npos);
}

TEST_CASE("a glTF file is an object with its own material, and a rig with its lights and camera",
          "[cli][gltf]") {
  const TemporaryFolder dir;
  const std::string file = dir.write("s.glb", glb());
  const auto loaded = load_gltf(file);
  REQUIRE(loaded);
  REQUIRE(loaded->parts.size() == 1);
  CHECK(loaded->parts[0].mesh.triangles.size() == 2);
  CHECK(loaded->parts[0].mesh.positions[0].y() == 0.5f);
  CHECK(loaded->parts[0].mesh.uvs[0] == Vec2(0, 0));
  CHECK(loaded->materials[0].color == Rgb(0.2, 0.5, 0.8));
  REQUIRE(loaded->lights.size() == 3);
  CHECK((loaded->lights[0].toward - Vec3d(0, -1, 0)).norm() < 1e-6);
  // y up in the file, z up here; a roughness of 1 is nearly diffuse under its coat.
  const auto seen = colors(
      dir,
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-0.0001,3]\nlook_at=[0,0,0]\nfield_of_view='40 "
      "deg'\n[render]\nsize=[40,40]\nsamples=64\nbounces=1\n[[object]]\nname='o'\nmesh='s."
      "glb'\n[[light]]\nname='l'\nkind='sun'\ntoward=[0,0,-1]\noutput='1000 lx'\n",
      {"20,20"});
  CHECK(seen[0][2] > 2.5 * seen[0][0]);
  CHECK(seen[0][1] > 1.5 * seen[0][0]);
  CHECK(seen[0][1] == Approx(0.5 * 1000 / kPiD).epsilon(0.15));

  const ProgramRun made = run_program({"new", dir.path("rig"), "--from", file});
  INFO(made.err << dir.read("rig/rig.toml"));
  REQUIRE(made.status == 0);
  const ProgramRun check = run_program({"check", dir.path("rig/rig.toml"), "--json"});
  INFO(check.out);
  REQUIRE(check.status == 0);
  const auto lights = check.json()["lights"];
  REQUIRE(lights.size() == 3);
  std::map<std::string, nlohmann::json> by_name;
  for (const auto& l : lights) {
    by_name[l["name"]] = l;
  }
  CHECK(by_name.at("lamp")["peak_cd"].get<double>() == Approx(120));
  CHECK(by_name.at("bulb")["peak_cd"].get<double>() == Approx(50));
  CHECK(by_name.at("bulb")["flux_lm"].get<double>() == Approx(50 * 4 * kPiD));
  const std::string text = dir.read("rig/rig.toml");
  CHECK(text.find("at     = [1, -3, 2]") != std::string::npos);
  CHECK(text.find("aim    = [1, -3, 1]") != std::string::npos);
  CHECK(text.find("900 lx") != std::string::npos);
  CHECK(text.find("tint   = [1, 0.8, 0.6]") != std::string::npos);
  CHECK(text.find("ends its light at 4 m") != std::string::npos);
  CHECK(text.find("name    = \"eye\"") != std::string::npos);
  CHECK(run_program({"render",
                     dir.path("rig/rig.toml"),
                     "-o",
                     dir.path("o2"),
                     "--quiet",
                     "--set",
                     "render.size=[32,18]",
                     "--set",
                     "render.samples=4"})
            .status == 0);
  CHECK(run_program({"new", dir.path("rig2"), "--from", dir.path("rig/rig.toml")}).status == 2);
}

TEST_CASE("glTF files that contradict themselves are refused, whatever their bytes",
          "[cli][gltf]") {
  const TemporaryFolder dir;
  const auto told = [&](const std::string& from, const std::string& to) {
    const auto r = load_gltf(dir.write("s.glb", glb(from, to)));
    return r ? std::string("read") : r.problems().front().text;
  };
  CHECK(told("\"count\":4,\"type\":\"VEC3\"", "\"count\":4000000,\"type\":\"VEC3\"")
            .find("reaches beyond") != std::string::npos);
  CHECK(told("\"count\":6", "\"count\":60").find("reaches beyond") != std::string::npos);
  CHECK(told("\"bufferView\":2,\"componentType\":5123",
             "\"bufferView\":0,\"componentType\":5123") != "read");
  CHECK(told("\"nodes\":[0,1,2,3,4]", "\"nodes\":[0,1,0]").find("more than one parent") !=
        std::string::npos);
  CHECK(told("\"mesh\":0,\"translation\"", "\"mesh\":0,\"children\":[0],\"translation\"")
            .find("more than one parent") != std::string::npos);
  CHECK(told("\"light\":1", "\"light\":9").find("no light 9") != std::string::npos);
  CHECK(told("\"innerConeAngle\":0.2", "\"innerConeAngle\":0.9").find("out of range") !=
        std::string::npos);
  const std::string good = glb();
  Rng rng(12);
  int read = 0, refused = 0;
  for (int i = 0; i < 3000; ++i) {
    std::string bad = good;
    for (std::uint64_t k = 0; k <= rng.next() % 6; ++k) {
      bad[rng.next() % bad.size()] = static_cast<char>(rng.next());
    }
    if (i % 5 == 0) {
      bad.resize(rng.next() % bad.size());
    }
    const auto r = load_gltf(dir.write("s.glb", bad));
    (r ? read : refused) += 1;
    if (!r) {
      CHECK_FALSE(r.problems().empty());
    }
  }
  CHECK(refused > 1000);
  CHECK(read + refused == 3000);
}

TEST_CASE("bloom keeps the light, spreads it as its kernel says, and leaves the EXR alone",
          "[render][bloom]") {
  constexpr int kW = 400, kH = 300;
  std::vector<float> rgb(kW * kH * 3, 0.0f);
  rgb[3 * (150 * kW + 200) + 1] = 1000;
  bloom(rgb, kW, kH, 0.3);
  double sum = 0;
  for (int i = 0; i < kW * kH; ++i) {
    sum += rgb[static_cast<std::size_t>(3 * i + 1)];
  }
  CHECK(sum == Approx(1000).epsilon(1e-4));
  // At 40 pixels: the widest kernel, 20 pixels, and what the two narrower ones still give.
  double k = 0;
  for (const double a : {1.6, 0.01 * kW, 0.05 * kW}) {
    k += a / (2 * kPiD * std::pow(40.0 * 40 + a * a, 1.5)) / 3;
  }
  // About what comes back from the edges.
  const double mirrored = 0.3 * 1000 * (0.05 * kW) / (2 * kPiD * std::pow(260.0, 3)) / 3 * 6;
  CHECK(rgb[3 * (150 * kW + 240) + 1] == Approx(0.3 * 1000 * k).margin(2 * mirrored));
  CHECK(rgb[3 * (150 * kW + 200)] == Approx(0).margin(1e-4));

  const TemporaryFolder dir;
  const std::string rig =
      seen_from_above("kind='diffuse'\ncolor=[0.5,0.5,0.5]", "shape={kind='rect', size=[0.2,0.2]}");
  const auto plain = colors(dir, rig, {"20,20"});
  const std::string view = dir.read("out/view.png");
  const auto haloed = colors(dir, rig + "[look]\nbloom=0.4\n", {"20,20"});
  CHECK(plain[0] == haloed[0]);
  CHECK(dir.read("out/view.png") != view);
}

TEST_CASE("a metal's index is read from tables, and told where it cannot be", "[cli][metal]") {
  const TemporaryFolder dir;
  dir.write("n.csv", "400 1.5\n700 0.2\n");
  dir.write("k.csv", "400 1.9\n700 3.8\n");
  const auto told = [&](const std::string& material) {
    const ProgramRun run =
        run_program({"check", dir.write("r.toml", seen_from_above(material, kSquare))});
    return run.out + run.err;
  };
  CHECK(told("kind='metal'\nior='n.csv'\nabsorption='k.csv'\nroughness=0.4").find("0 errors") !=
        std::string::npos);
  CHECK(told("kind='metal'\nior='n.csv'").find("needs both") != std::string::npos);
  CHECK(told("kind='metal'\nior=0.2\nabsorption=3\ncolor=[1,1,1]")
            .find("either says what the metal reflects") != std::string::npos);
  dir.write("n.csv", "500 1.5\n600 0.2\n");
  CHECK(
      told("kind='metal'\nior='n.csv'\nabsorption='k.csv'").find("are needed from 420 to 680 nm") !=
      std::string::npos);
  // A mirror of gold's colors: red above blue.
  dir.write("n.csv", "400 1.5\n700 0.2\n");
  const auto seen = colors(
      dir,
      "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-0.0001,3]\nlook_at=[0,0,0]\nfield_of_view='40 "
      "deg'\n[render]\nsize=[40,40]\nsamples=64\nbounces=2\n[[material]]\nname='m'\nkind='metal'"
      "\nior='n.csv'\nabsorption='k.csv'\nroughness=0\n[[object]]\nname='o'\nmaterial='m'\n" +
          kSquare + "[[light]]\nname='sky'\nkind='sky'\nmodel='uniform'\noutput='1000 cd/m2'\n",
      {"20,20"});
  CHECK(seen[0][0] > 1.5 * seen[0][2]);
  CHECK(seen[0][0] < 1000);
}

TEST_CASE("a file's name may hold a quote, an option its value without a space", "[cli][gltf]") {
  const TemporaryFolder dir;
  const std::string file = dir.write("a \"pot\".glb", glb());
  REQUIRE(run_program({"new", dir.path("n"), "--from", file}).status == 0);
  const ProgramRun check = run_program({"check", dir.path("n/rig.toml"), "--json"});
  INFO(check.out << check.err << dir.read("n/rig.toml"));
  CHECK(check.json()["errors"].empty());
  REQUIRE(run_program({"render",
                       dir.path("n/rig.toml"),
                       "-o" + dir.path("out"),
                       "--size",
                       "8x6",
                       "--samples",
                       "1",
                       "--quiet"})
              .status == 0);
  CHECK_FALSE(dir.read("out/image.exr").empty());
}
