#include "jovilux/base/sampler.h"
#include "jovilux/files/exr.h"
#include "jovilux/files/image.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/png.h"

#include <cstring>
#include <filesystem>
#include <limits>

#include "tests/support/program.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::TemporaryFolder;

namespace {

const std::string kTextPly =
    "ply\nformat ascii 1.0\ncomment a square\nelement vertex 4\nproperty float x\nproperty float "
    "y\nproperty float z\nelement face 1\nproperty list uchar int vertex_indices\nend_header\n0 0 "
    "0\n1 0 0\n1 1 0\n0 1 0\n4 0 1 2 3\n";

std::string binary_ply(bool big) {
  std::string out = std::string("ply\nformat binary_") + (big ? "big" : "little") +
                    "_endian 1.0\nelement vertex 3\nproperty float x\nproperty double y\nproperty "
                    "float z\nproperty uchar red\nelement face 1\nproperty list uchar ushort "
                    "vertex_indices\nend_header\n";
  const auto put = [&](auto v) {
    char bytes[sizeof v];
    std::memcpy(bytes, &v, sizeof v);
    if (big) {
      std::reverse(bytes, bytes + sizeof v);
    }
    out.append(bytes, sizeof v);
  };
  for (int i = 0; i < 3; ++i) {
    put(static_cast<float>(i));
    put(static_cast<double>(i * i));
    put(0.5f);
    put(static_cast<unsigned char>(9));
  }
  put(static_cast<unsigned char>(3));
  for (unsigned short i = 0; i < 3; ++i) {
    put(i);
  }
  return out;
}

std::string first_problem(const Result<Mesh>& r) { return r ? "" : r.problems()[0].text; }

}  // namespace

TEST_CASE("an EXR gives back its channels, header and texts", "[files][exr]") {
  const TemporaryFolder dir;
  ExrHeader header;
  header.width = 37;
  header.height = 150;  // more than one band of rows
  header.texts["jovilux:rig"] = "a\nb";
  header.numbers["jovilux:ev100"] = 7.5f;
  const auto value = [](int x, int y) { return static_cast<float>(x * 1000 + y) * 0.37f; };
  const auto row = [&](int y, float* out) {
    for (int x = 0; x < 37; ++x) {
      out[x] = value(x, y);
    }
  };
  const auto huge = [](int, float* out) { std::fill(out, out + 37, 1e9f); };
  write_exr(dir.path("i.exr"),
            header,
            {{"R", ExrChannel::Type::kFloat, row},
             {"h", ExrChannel::Type::kHalf, huge},
             {"object.id", ExrChannel::Type::kIndex, [](int y, float* out) {
                std::fill(out, out + 37, static_cast<float>(y));
              }}});
  auto file = ExrReader::open(dir.path("i.exr"));
  REQUIRE(file);
  CHECK(file->header().width == 37);
  CHECK(file->header().height == 150);
  CHECK(file->has_white_luminance());
  CHECK(file->header().white_luminance == 1);
  CHECK(file->header().texts.at("jovilux:rig") == "a\nb");
  CHECK(file->header().numbers.at("jovilux:ev100") == 7.5f);
  const auto data = file->read({"R", "h", "object.id"}, 3, 60, 5, 80);
  REQUIRE(data);
  CHECK((*data)[0][7 * 5 + 2] == value(5, 67));
  CHECK((*data)[1][0] == 65504.0f);
  CHECK((*data)[2][0] == 60);
}

TEST_CASE("a cropped EXR's pixels stand where its windows say", "[files]") {
  const TemporaryFolder dir;
  const std::string path = dir.path("c.exr");
  write_exr(
      path, ExrHeader{4, 3, 1, {}, {}, {}}, {{"Y", ExrChannel::Type::kFloat, [](int y, float* out) {
                                                for (int x = 0; x < 4; ++x) {
                                                  out[x] = static_cast<float>(10 * y + x + 1);
                                                }
                                              }}});
  // The same pixels in a display window that begins two to the left and one above, or that shows a
  // part of them.
  const auto shown_as = [&](std::int32_t x0, std::int32_t y0, std::int32_t x1, std::int32_t y1) {
    std::string bytes = dir.read("c.exr");
    const std::string name = std::string("displayWindow") + '\0' + "box2i" + '\0';
    const std::size_t at = bytes.find(name) + name.size() + 4;
    const std::int32_t box[] = {x0, y0, x1, y1};
    std::memcpy(bytes.data() + at, box, sizeof box);
    return ExrReader::open(dir.write("d.exr", bytes));
  };
  const auto framed = shown_as(-2, -1, 5, 3);
  REQUIRE(framed);
  CHECK(framed->is_cropped());
  REQUIRE(framed->header().width == 8);
  REQUIRE(framed->header().height == 5);
  const auto all = framed->read({"Y"}, 0, 0, 8, 5);
  REQUIRE(all);
  for (int y = 0; y < 5; ++y) {
    for (int x = 0; x < 8; ++x) {
      const bool there = x >= 2 && x < 6 && y >= 1 && y < 4;
      CHECK((*all)[0][static_cast<std::size_t>(8 * y + x)] ==
            (there ? static_cast<float>(10 * (y - 1) + (x - 2) + 1) : 0.0f));
    }
  }
  const auto part = framed->read({"Y"}, 3, 2, 4, 1);
  REQUIRE(part);
  CHECK((*part)[0] == std::vector<float>{12, 13, 14, 0});
  const auto inner = shown_as(1, 1, 2, 2);
  REQUIRE(inner);
  CHECK_FALSE(inner->is_cropped());
  const auto seen = inner->read({"Y"}, 0, 0, 2, 2);
  REQUIRE(seen);
  CHECK((*seen)[0] == std::vector<float>{12, 13, 22, 23});
  CHECK_FALSE(shown_as(0, 0, 65535, 65535));
  CHECK_FALSE(shown_as(5, 5, 1, 1));
}

TEST_CASE("an EXR is written by as many threads as are allowed", "[files]") {
  const TemporaryFolder dir;
  const auto write = [&] {
    write_exr(
        dir.path("t.exr"),
        ExrHeader{4, 2, 1, {}, {}, {}},
        {{"Y", ExrChannel::Type::kFloat, [](int, float* out) { std::fill_n(out, 4, 1.0f); }}});
    return exr_threads();
  };
  limit_exr_threads(1);
  CHECK(write() == 1);
  limit_exr_threads(3);
  CHECK(write() == 3);
  limit_exr_threads(0);
  CHECK(write() >= 1);
}

TEST_CASE("damaged EXR files are problems, not crashes", "[files][exr]") {
  const TemporaryFolder dir;
  ExrHeader header;
  header.width = header.height = 64;
  write_exr(dir.path("i.exr"), header, {{"R", ExrChannel::Type::kFloat, [](int y, float* out) {
                                           for (std::uint32_t x = 0; x < 64; ++x) {
                                             out[x] =
                                                 unit_float(mix(static_cast<std::uint32_t>(y), x));
                                           }
                                         }}});
  const std::string good = dir.read("i.exr");
  int refused = 0;
  Rng rng(1);
  for (int i = 0; i < 200; ++i) {
    std::string bytes = good;
    if (i % 2 == 0) {
      bytes.resize(rng.next() % bytes.size());
    } else {
      for (int k = 0; k < 20; ++k) {
        bytes[rng.next() % std::min<std::size_t>(bytes.size(), 600)] =
            static_cast<char>(rng.next());
      }
    }
    auto file = ExrReader::open(dir.write("bad.exr", bytes));
    if (!file || !file->has("R") || file->header().width > 4096 || file->header().height > 4096 ||
        !file->read({"R"}, 0, 0, file->header().width, file->header().height)) {
      ++refused;
    }
  }
  CHECK(refused > 100);
  CHECK_FALSE(ExrReader::open(dir.write("text.exr", "hello")));
  CHECK_FALSE(ExrReader::open(dir.path("none.exr")));
}

TEST_CASE("a PNG is tagged sRGB and carries its texts", "[files][png]") {
  const TemporaryFolder dir;
  write_png(dir.path("v.png"), 2, 1, {255, 0, 0, 0, 0, 255}, {{"Title", "two"}});
  const std::string bytes = dir.read("v.png");
  CHECK(bytes.substr(1, 3) == "PNG");
  CHECK(bytes.find("sRGB") != std::string::npos);
  CHECK(bytes.find("two") != std::string::npos);
}

TEST_CASE("PLY files of every encoding are read", "[files][mesh]") {
  const TemporaryFolder dir;
  const auto square = load_mesh(dir.write("s.ply", kTextPly));
  REQUIRE(square);
  CHECK(square->triangles.size() == 2);
  CHECK(square->positions[2] == Vec3(1, 1, 0));
  for (const bool big : {false, true}) {
    const auto mesh = load_mesh(dir.write("b.ply", binary_ply(big)));
    REQUIRE(mesh);
    CHECK(mesh->positions[2] == Vec3(2, 4, 0.5f));
    CHECK(mesh->triangles[0] == std::array<std::uint32_t, 3>{0, 1, 2});
  }
}

TEST_CASE("OBJ faces with normals share vertices and quads are split", "[files][mesh]") {
  const TemporaryFolder dir;
  const auto mesh = load_mesh(dir.write("q.obj",
                                        "# c\nv 0 0 0\nv 1 0 0\nv 1 1 0\nv 0 1 0\nvn 0 0 1\nf 1//1 "
                                        "2//1 3//1 4//1\nf -4//1 -3//1 -2//1\n"));
  REQUIRE(mesh);
  CHECK(mesh->triangles.size() == 3);
  CHECK(mesh->positions.size() == 4);
  CHECK(mesh->normals.size() == 4);
}

TEST_CASE("broken meshes say what is wrong", "[files][mesh]") {
  const TemporaryFolder dir;
  const auto fault = [&](const std::string& name, const std::string& text) {
    return first_problem(load_mesh(dir.write(name, text)));
  };
  CHECK(fault("a.obj", "v 0 0 nan\nv 1 0 0\nv 0 1 0\nf 1 2 3\n")
            .find("\"nan\" is not a finite number") != std::string::npos);
  CHECK(fault("a.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 9\n")
            .find("\"9\" is not one of the 3 vertices") != std::string::npos);
  CHECK(fault("a.obj", "v 0 0 0\n").find("no triangles") != std::string::npos);
  CHECK(fault("a.obj", "v 1 2\n").find("expected at least 3") != std::string::npos);
  CHECK(fault("a.obj", std::string("\x00\x01\x02garbage", 10)).find("zero byte") !=
        std::string::npos);
  CHECK(fault("a.ply", "hello\n").find("not a PLY file") != std::string::npos);
  CHECK(fault("a.ply", "ply\nformat ascii 1.0\n").find("no end") != std::string::npos);
  std::string text = kTextPly;
  CHECK(fault("a.ply", text.replace(text.find("vertex 4"), 8, "vertex 4000000000"))
            .find("too short") != std::string::npos);
  text = kTextPly;
  CHECK(fault("a.ply", text.replace(text.rfind("0 1 2 3"), 7, "0 1 2 7")).find("names vertex 7") !=
        std::string::npos);
  text = kTextPly;
  CHECK(fault("a.ply", text.replace(text.find("1 1 0"), 5, "1 nan 0"))
            .find("vertex 2 is not finite") != std::string::npos);
  CHECK(fault("a.ply", kTextPly.substr(0, kTextPly.size() - 5)).find("ends or is damaged") !=
        std::string::npos);
}

TEST_CASE("a thousand mutated meshes give a mesh or a problem", "[files][mesh]") {
  const TemporaryFolder dir;
  Rng rng(77);
  int read = 0, refused = 0;
  for (int i = 0; i < 1000; ++i) {
    const bool ply = i % 3 != 0;
    std::string bytes = !ply         ? "v 0 0 0\nv 1 0 0\nv 0 1 0\nvn 0 0 1\nf 1//1 2//1 3//1\n"
                        : i % 3 == 1 ? kTextPly
                                     : binary_ply(i % 2 == 0);
    for (int k = 0; k < 3; ++k) {
      const std::size_t at = rng.next() % bytes.size();
      switch (rng.next() % 3) {
        case 0:
          bytes[at] = static_cast<char>(rng.next());
          break;
        case 1:
          bytes.erase(at, 1 + rng.next() % 4);
          break;
        default:
          bytes.insert(at, bytes.substr(rng.next() % bytes.size(), 5));
      }
      if (bytes.empty()) {
        bytes = "x";
      }
    }
    const auto mesh = load_mesh(dir.write(ply ? "m.ply" : "m.obj", bytes));
    if (mesh) {
      ++read;
      CHECK(mesh_fault(*mesh).empty());
    } else {
      ++refused;
      CHECK_FALSE(mesh.problems()[0].text.empty());
    }
  }
  CHECK(read > 0);
  CHECK(refused > 300);
}

TEST_CASE("a face without normals is flat and leaves the others theirs", "[files][mesh]") {
  const TemporaryFolder dir;
  const auto mesh = load_mesh(dir.write(
      "m.obj", "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nvn 0 0.6 0.8\nf 1//1 2//1 3//1\nf 1 2 4\n"));
  REQUIRE(mesh);
  REQUIRE(mesh->triangles.size() == 2);
  REQUIRE(mesh->normals.size() == mesh->positions.size());
  for (const std::uint32_t corner : mesh->triangles[0]) {
    CHECK((mesh->normals[corner] - Vec3(0, 0.6f, 0.8f)).norm() < 1e-6f);
  }
  for (const std::uint32_t corner : mesh->triangles[1]) {
    CHECK((mesh->normals[corner] - Vec3(0, -1, 0)).norm() < 1e-6f);
  }
}

TEST_CASE("a PNG cut short is refused before memory for its picture is taken", "[files]") {
  const TemporaryFolder dir;
  constexpr int kWidth = 300, kHeight = 200;
  write_png(dir.path("p.png"),
            kWidth,
            kHeight,
            std::vector<std::uint8_t>(static_cast<std::size_t>(kWidth) * kHeight * 3, 200));
  const std::string whole = dir.read("p.png");
  CHECK(png_picture_bytes(whole) == kHeight * (3 * kWidth + 1));
  CHECK(png_picture_bytes(whole.substr(0, whole.size() / 2)) < kHeight * (3 * kWidth + 1));
  CHECK(png_picture_bytes("") == 0);
  const auto cut = load_image(dir.write("cut.png", whole.substr(0, whole.size() - 40)));
  REQUIRE(!cut);
  CHECK(cut.problems()[0].text.find("a part of it claims more than its") != std::string::npos);
  // A chunk that claims nearly all of 4 GB, before the picture.
  std::string huge = whole;
  huge.replace(huge.find("IDAT") - 4, 4, "\x7f\xff\xff\xf0");
  CHECK_FALSE(png_chunks_fit(huge));
  CHECK(png_chunks_fit(whole));
  CHECK_FALSE(load_image(dir.write("huge.png", huge)));
}

TEST_CASE("a Radiance picture's exposure leaves finite pixels, or is refused", "[files]") {
  const TemporaryFolder dir;
  const auto with = [&](const std::string& exposure, char exponent) {
    return load_image(dir.write("x.hdr",
                                "#?RADIANCE\nFORMAT=32-bit_rle_rgbe\nEXPOSURE=" + exposure +
                                    "\n\n-Y 1 +X 1\n" + std::string("\x80\x40\x20") + exponent));
  };
  const auto bright = with("0.5", '\x80');
  REQUIRE(bright);
  CHECK(bright->rgb[0] == Approx(1).epsilon(0.01));
  CHECK_FALSE(with("1e-308", '\x80'));
  CHECK_FALSE(with("1e-10", '\xff'));
}

TEST_CASE("an EXR that claims more pixels than its bytes hold takes no memory", "[files]") {
  const TemporaryFolder dir;
  const std::string path = dir.path("a.exr");
  ExrHeader header;
  header.width = 8;
  header.height = 4;
  write_exr(path, header, {{"R", ExrChannel::Type::kFloat, [](int, float* out) {
                              std::fill(out, out + 8, 1.0f);
                            }}});
  CHECK(ExrReader::open(path));
  // The data window's lower right corner, two int32 after the attribute's name, type and size.
  std::string bytes = dir.read("a.exr");
  for (const char* window : {"dataWindow", "displayWindow"}) {
    const std::size_t at = bytes.find(window) + std::string(window).size() + 1 + 6 + 4 + 8;
    bytes.replace(at, 8, std::string("\xff\x3f\0\0\xff\x3f\0\0", 8));  // 16384 x 16384
  }
  const auto huge = ExrReader::open(dir.write("huge.exr", bytes));
  REQUIRE(!huge);
  INFO(huge.problems()[0].text);
  CHECK(huge.problems()[0].text.find("EXR") != std::string::npos);
  // An attribute that claims nearly 2 GB.
  std::string claim = dir.read("a.exr");
  const std::size_t at = claim.find("compression") + 24;
  claim.replace(at, 4, "\xf0\xff\xff\x7f");
  const auto header_of = ExrReader::open(dir.write("claim.exr", claim));
  REQUIRE(!header_of);
  CHECK(header_of.problems()[0].text.find("its header claims") != std::string::npos);
}
