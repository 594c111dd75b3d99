// One fuzz target: the reader that JOVILUX_FUZZ_TARGET names, fed with any bytes. It may refuse
// them with problems; it may not crash, hang, leak, or give a value that its own promises exclude.
#include "jovilux/files/image.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/photometric_file.h"
#include "jovilux/files/spectrum_file.h"
#include "jovilux/rig/rig.h"

#include <cmath>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <string_view>

#include <unistd.h>

namespace {

using namespace jovilux;

void expect(bool holds) {
  if (!holds) {
    std::abort();
  }
}

// The bytes as a file with this ending, in memory where the machine has such a place.
const std::string& as_file(std::string_view bytes, const char* ending) {
  static const std::string kPath =
      (::access("/dev/shm", W_OK) == 0 ? std::string("/dev/shm") : std::string("/tmp")) +
      "/jovilux-fuzz-" + std::to_string(::getpid()) + ending;
  std::FILE* file = std::fopen(kPath.c_str(), "wb");
  expect(file != nullptr);
  std::fwrite(bytes.data(), 1, bytes.size(), file);
  std::fclose(file);
  return kPath;
}

template <class T>
void expect_told(const Result<T>& r) {
  expect(r ? !has_errors(r.problems()) : has_errors(r.problems()));
}

void photometry(const Result<PhotometricFile>& file) {
  expect_told(file);
  if (!file) {
    return;
  }
  const LuminousDistribution d(file->grid);
  expect(std::isfinite(d.flux()) && d.flux() > 0);
  for (int i = 0; i < 64; ++i) {
    const float z = 1 - 2 * (static_cast<float>(i) + 0.5f) / 64, r = std::sqrt(1 - z * z),
                a = 2.4f * static_cast<float>(i);
    const float v = d.intensity({r * std::cos(a), r * std::sin(a), z});
    expect(v >= 0 && std::isfinite(v));
  }
  // What was read can be written and read again.
  expect(static_cast<bool>(parse_lm63(lm63_text(*file), "again.ies")));
}

void mesh(const Result<Mesh>& m) {
  expect_told(m);
  expect(!m || mesh_fault(*m).empty());
}

void spectrum(const Result<NmTable>& t) {
  expect_told(t);
  for (std::size_t i = 0; t && i < kNmCount; ++i) {
    expect((*t)[i] >= 0 && std::isfinite((*t)[i]));
  }
}

void run(std::string_view target, std::string_view bytes) {
  if (target == "rig") {
    const auto document = parse_toml(bytes, "rig.toml");
    expect_told(document);
    if (document) {
      expect_told(read_rig(*document, "rig.toml"));
    }
  } else if (target == "lm63") {
    photometry(parse_lm63(bytes, "fuzz.ies"));
  } else if (target == "eulumdat") {
    photometry(parse_eulumdat(bytes, "fuzz.ldt"));
  } else if (target == "csv") {
    spectrum(load_spectrum(as_file(bytes, ".csv")));
  } else if (target == "spdx") {
    spectrum(load_spectrum(as_file(bytes, ".spdx")));
  } else if (target == "obj") {
    mesh(load_mesh(as_file(bytes, ".obj")));
  } else if (target == "ply") {
    mesh(load_mesh(as_file(bytes, ".ply")));
  } else if (target == "hdr") {
    const auto image = load_image(as_file(bytes, ".hdr"));
    expect_told(image);
    for (std::size_t i = 0; image && i < image->rgb.size(); ++i) {
      expect(image->rgb[i] >= 0 && std::isfinite(image->rgb[i]));
    }
  } else {
    std::abort();
  }
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  run(JOVILUX_FUZZ_TARGET, {reinterpret_cast<const char*>(data), size});
  return 0;
}
