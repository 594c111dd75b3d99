// The benchmark program: it measures what it says on files that anyone can make.
#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux::test;

namespace {

void put(std::string& bytes, const std::vector<float>& values) {
  for (const float v : values) {
    char raw[4];
    std::memcpy(raw, &v, 4);
    bytes.append(raw, 4);
  }
}

}  // namespace

TEST_CASE("rays of a file are counted and their distances summed", "[cli][bench]") {
  const TemporaryFolder dir;
  // A square at z = 1 seen from z = 0: two rays meet it, one passes by, one ends before it.
  const std::string mesh =
      dir.write("m.ply",
                "ply\nformat ascii 1.0\nelement vertex 4\nproperty float x\nproperty float "
                "y\nproperty float z\nelement face 1\nproperty list uchar int "
                "vertex_indices\nend_header\n-1 -1 1\n1 -1 1\n1 1 1\n-1 1 1\n4 0 1 2 3\n");
  std::string rays;
  put(rays, {0, 0, 0, 0, 0, 1, 100});
  put(rays, {0.5f, 0.25f, -1, 0, 0, 1, 100});
  put(rays, {5, 0, 0, 0, 0, 1, 100});
  put(rays, {0, 0, 0, 0, 0, 1, 0.5f});
  const std::string file = dir.write("m.rays", rays);
  const auto j = run_other(JOVILUX_BENCH_PROGRAM, {"rays", "--mesh", mesh, "--rays", file}).json();
  CHECK(j["rays"] == 4);
  CHECK(j["hits"] == 2);
  CHECK(j["sum_t"].get<double>() == Approx(3));
  for (const char* key : {"build_s", "seconds", "mrays_per_s"}) {
    CHECK(j[key].get<double>() > 0);
  }
  const auto any = run_other(JOVILUX_BENCH_PROGRAM,
                             {"rays", "--mesh", mesh, "--rays", file, "--any", "--threads", "2"})
                       .json();
  CHECK(any["hits"] == 2);
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"rays", "--mesh", "none.ply", "--rays", file}).status ==
        2);
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"rays", "--mesh", mesh, "--rays", mesh}).status == 4);
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {}).status == 2);
}

TEST_CASE("the test meshes and a whole render are measured", "[cli][bench]") {
  const TemporaryFolder dir;
  const std::string mesh = dir.path("room.ply"), rays = dir.path("room");
  REQUIRE(run_other(JOVILUX_BENCH_PROGRAM,
                    {"make",
                     "--kind",
                     "room",
                     "--mesh",
                     mesh,
                     "--rays",
                     rays,
                     "--triangles",
                     "20000",
                     "--count",
                     "10000"})
              .status == 0);
  const auto camera =
      run_other(JOVILUX_BENCH_PROGRAM, {"rays", "--mesh", mesh, "--rays", rays + "-camera.rays"})
          .json();
  CHECK(camera["hits"] == 10000);  // the room is closed: no ray leaves it
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"rays", "--mesh", mesh, "--rays", rays + "-bounce.rays"})
            .json()["hits"] == 10000);
  const std::string rig =
      dir.write("r.toml",
                "jovilux = "
                "1\n[[camera]]\nname='c'\nat=[0,-2,1]\nlook_at=[0,0,0]\n[[object]]\nname='f'"
                "\nshape={kind='plane'}\n[[light]]\nname='l'\nkind='point'\nat=[0,0,2]\noutput='"
                "100 lm'\n[render]\nsize=[64,64]\nsamples=16\n");
  const auto whole = run_other(JOVILUX_BENCH_PROGRAM, {"render", rig, "--threads", "1"}).json();
  CHECK(whole["samples"] == 64 * 64 * 16);
  CHECK(whole["query_share"].get<double>() > 0);
  CHECK(whole["query_share"].get<double>() < 1);
}

TEST_CASE("light sampling is measured against known answers, and points spread evenly agree",
          "[cli][bench]") {
  const auto j = run_other(JOVILUX_BENCH_PROGRAM, {"lights", "--samples", "40000"}).json();
  REQUIRE(j["lights"].size() == 12);
  int gains = 0;
  for (const auto& l : j["lights"]) {
    INFO(l.dump());
    const double lx = l["illuminance_lx"], noise = l["noise_of_a_sample"], even = l["evenly_lx"],
                 even_noise = l["evenly_noise"];
    CHECK(std::abs(lx - even) < 5 * std::hypot(noise * lx, even_noise * even) / 200 + 1e-4 * lx);
    if (!l["exact_lx"].is_null()) {
      CHECK(std::abs(lx - l["exact_lx"].get<double>()) < 5 * noise * lx / 200 + 1e-3 * lx);
    }
    gains += noise < 0.5 * even_noise ? 1 : 0;
  }
  CHECK(gains >= 10);
  REQUIRE(j["choices"].size() == 3);
  for (const auto& c : j["choices"]) {
    INFO(c.dump());
    CHECK(c["noise_of_a_choice"].get<double>() <
          (c["lamps"] < 24 ? 0.001 : 0.2 * c["blind_noise"].get<double>()));
  }
}

TEST_CASE("connections are measured: nearly all arrive in a closed room, fewer between partitions",
          "[cli][bench]") {
  const auto of_scene = [](const std::string& name) {
    return run_other(
        JOVILUX_BENCH_PROGRAM,
        {"connections", std::string(JOVILUX_SOURCE) + "/bench/scenes/" + name + ".toml"});
  };
  const auto room = of_scene("room").json(), partitions = of_scene("partitions").json();
  for (const auto& j : {room, partitions}) {
    INFO(j.dump());
    CHECK(j["lights_of_set"].get<double>() > 100);
    CHECK(j["choices_per_s"].get<double>() > 0);
  }
  CHECK(room["arrived_share"].get<double>() > 0.8);
  CHECK(room["arrived_share"].get<double>() < 1);
  CHECK(partitions["arrived_share"].get<double>() < 0.6);
  const auto open = of_scene("open");
  CHECK(open.status == 2);
  CHECK(open.err.find("not connected") != std::string::npos);
}

TEST_CASE("haze along a ray is measured against its integral", "[cli][bench]") {
  const auto j = run_other(JOVILUX_BENCH_PROGRAM, {"haze", "--samples", "40000"}).json();
  REQUIRE(j["rays"].size() == 4);
  for (const auto& r : j["rays"]) {
    INFO(r.dump());
    const double value = r["luminance_cd_m2"], exact = r["exact_cd_m2"],
                 noise = r["noise_of_a_sample"];
    CHECK(std::abs(value - exact) < 5 * noise * value / 200);
    CHECK(noise < r["evenly_noise"].get<double>());
    CHECK(noise < r["by_passage_noise"].get<double>());
  }
}

TEST_CASE("the bench's scenes are sound, and their error after a time is told", "[cli][bench]") {
  const std::filesystem::path scenes = std::filesystem::path(JOVILUX_SOURCE) / "bench" / "scenes";
  int rigs = 0;
  for (const auto& entry : std::filesystem::directory_iterator(scenes)) {
    if (entry.path().extension() == ".toml") {
      ++rigs;
      INFO(entry.path());
      CHECK(run_program({"check", entry.path().string()}).status == 0);
    }
  }
  CHECK(rigs == 25);
  const TemporaryFolder dir;
  std::filesystem::copy_file(scenes / "room.toml", dir.path("room.toml"));
  const auto j = run_other(JOVILUX_BENCH_PROGRAM,
                           {"scenes", dir.path(), "--seconds", "0.3", "--reference", "1.5"})
                     .json();
  REQUIRE(j["scenes"].size() == 1);
  CHECK(j["scenes"][0]["relative_rms"].get<double>() > 0);
  CHECK(j["scenes"][0]["samples_per_pixel"].get<double>() >= 1);
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"scenes", dir.path("none")}).status == 2);
}

TEST_CASE("rates are told in the time of a fixed piece of work, named by their commit",
          "[cli][bench]") {
  const TemporaryFolder dir;
  const std::string rig =
      dir.write("lone.toml",
                "jovilux = 1\n[[camera]]\nname='c'\nat=[0,-2,1]\nlook_at=[0,0,"
                "0]\n[[light]]\nname='l'\nkind='point'\nat=[0,0,2]\noutput='100 "
                "lm'\n[[object]]\nname='o'\nshape={kind='plane'}\n");
  const auto j = run_other(JOVILUX_BENCH_PROGRAM,
                           {"track", "abc123", rig, "--triangles", "20000", "--runs", "1"})
                     .json();
  CHECK(j["kind"] == "rates");
  CHECK(j["commit"] == "abc123");
  CHECK(j["rates"]["samples"]["lone"].get<double>() > 1000);
  CHECK(j["rates"]["pixels denoised"]["lone"].get<double>() > 100);
  CHECK(j["rates"]["choices of virtual lights"].empty());  // nothing to connect to
  CHECK(j["rates"]["rays through meshes"].size() == 6);
  CHECK(j["rates"]["rays toward marched solids"].size() == 5);
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"track", "abc123", dir.path("none.toml")}).status == 4);
}

TEST_CASE(
    "measurements become tables, and docs/performance.md has those of bench/measurements.jsonl",
    "[cli][bench][docs]") {
  const TemporaryFolder dir;
  const auto gain = [](const std::string& size, const std::string& ratio_and_samples) {
    return R"({"kind":"gain","before":"a1","after":"b2","seconds":6,"threads":2,"rigs":[)"
           R"({"scene":"door","size":")" +
           size + R"(","ratio":)" + ratio_and_samples + "}]}\n";
  };
  const std::string lines = dir.write(
      "m.jsonl",
      R"({"kind":"rates","commit":"a1","rates":{"samples":{"open":1200.0},"rays":{"room":7}}}
{"kind":"rates","commit":"b2","rates":{"samples":{"open":1300.4,"shade":70}}}
)" + gain("160 x 90", "4.56,\"samples_before\":10,\"samples_after\":7.25") +
          gain("own size", "12.34,\"samples_before\":9,\"samples_after\":6") +
          gain("160 x 90", "5,\"samples_before\":10,\"samples_after\":7") +
          R"({"kind":"denoising","commit":"b2","renders":[)"
          R"({"picture":"door","samples":64,"gain":5.25,"gain_of_all":40.5,"told":0.9}]})"
          "\n");
  CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"tables", lines}).out ==
        R"(Samples in the time of the yardstick:

| commit | open | shade |
| --- | --- | --- |
| a1 | 1200 | - |
| b2 | 1300 | 70 |

Rays in the time of the yardstick:

| commit | room |
| --- | --- |
| a1 | 7 |

Squared error of a1 over that of b2 after equal time, 2 threads (samples a pixel of both):

| scene | 160 x 90, 6 s | own size, 6 s |
| --- | --- | --- |
| door | 5 (10, 7) | 12.3 (9, 6) |

Squared error of b2 before denoising over that after it, told error over the true one:

| picture | 64 samples |
| --- | --- |
| door | 5.25 (40.50), 0.90 |
)");
  for (const char* bad : {"{}", R"({"kind":"guess"})"}) {
    CHECK(run_other(JOVILUX_BENCH_PROGRAM, {"tables", dir.write("no.jsonl", bad)}).status == 4);
  }
  const std::string tables =
      run_other(JOVILUX_BENCH_PROGRAM, {"tables", JOVILUX_SOURCE "/bench/measurements.jsonl"}).out;
  std::ifstream in(JOVILUX_SOURCE "/docs/performance.md");
  const std::string text((std::istreambuf_iterator<char>(in)), {});
  CHECK(tables.size() > 500);
  CHECK(text.find(tables) != std::string::npos);
  CHECK(std::count(text.begin(), text.end(), '|') == std::count(tables.begin(), tables.end(), '|'));
}
