#include "tests/fuzz/readers.h"

#include "jovilux/files/density_file.h"
#include "jovilux/files/gltf.h"
#include "jovilux/files/image.h"
#include "jovilux/files/mesh_file.h"
#include "jovilux/files/photometric_file.h"
#include "jovilux/files/spectrum_file.h"
#include "jovilux/files/usd_lights.h"
#include "jovilux/judge/rendered_image.h"
#include "jovilux/render/render_state.h"
#include "jovilux/rig/rig.h"

#include <cmath>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <string>
#include <string_view>

#include <fcntl.h>
#include <unistd.h>

namespace jovilux::fuzz {
namespace {

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

void picture(const Result<LinearImage>& image) {
  expect_told(image);
  for (std::size_t i = 0; image && i < image->rgb.size(); ++i) {
    expect(image->rgb[i] >= 0 && std::isfinite(image->rgb[i]));
  }
}

void rendered(const Result<RenderedImage>& image) {
  expect_told(image);
  for (std::size_t i = 0; image && i < image->rgb.size(); ++i) {
    expect(std::isfinite(image->rgb[i]));
  }
}

void scene(const Result<GltfScene>& file) {
  expect_told(file);
  for (std::size_t i = 0; file && i < file->parts.size(); ++i) {
    expect(mesh_fault(file->parts[i].mesh).empty());
    expect(file->parts[i].material < static_cast<int>(file->materials.size()));
  }
  for (std::size_t i = 0; file && i < file->lights.size(); ++i) {
    expect(std::isfinite(file->lights[i].intensity) && file->lights[i].intensity >= 0);
  }
}

void stage(const Result<UsdStage>& file) {
  expect_told(file);
  for (std::size_t i = 0; file && i < file->lights.size(); ++i) {
    expect(std::isfinite(file->lights[i].level) && file->lights[i].color.allFinite());
  }
}

// A slice of a render of 20 x 12 pixels, with one light.
void slice(const std::string& path) {
  const auto label = film_label(path);
  expect_told(label);
  if (!label) {
    return;
  }
  RenderState state(20, 12, 1, 1);
  const auto loaded = load_state(path, *label, state);
  expect_told(loaded);
  for (std::size_t i = 0; loaded && i < static_cast<std::size_t>(20 * 12); ++i) {
    expect(state.film.slot_mean(i, 0).allFinite());
  }
}

void density(const std::string& path) {
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  expect(fd >= 0);
  const auto grid = read_density_stream(fd, Transform{}, 64U << 20);
  ::close(fd);
  for (int i = 0; grid && i < 64; ++i) {
    const float v = grid->at({0.3f * static_cast<float>(i), 0.2f, 0.1f});
    expect(v >= 0 && std::isfinite(v));
  }
}

// "ADDRESS=VALUE" on a small rig, as --set takes it.
void override_of(std::string_view assignment) {
  static const DocumentNode kRig = *parse_toml(
      "jovilux = 1\n[[light]]\nname = 'a'\nkind = 'disk'\nat = [0, 0, 2]\nradius = '9 cm'\n"
      "output = '1 lm'\n[[camera]]\nname = 'c'\nat = [0, -3, 1]\nlook_at = [0, 0, 0]\n",
      "rig.toml");
  DocumentNode document = kRig;
  if (!has_errors(apply_override(document, std::string(assignment)))) {
    expect_told(read_rig(std::move(document), "rig.toml"));
  }
}

}  // namespace

void read(std::string_view target, std::string_view bytes) {
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
    picture(load_image(as_file(bytes, ".hdr")));
  } else if (target == "png") {
    picture(load_image(as_file(bytes, ".png")));
  } else if (target == "exr") {
    rendered(load_rendered(as_file(bytes, ".exr"), true));
  } else if (target == "gltf") {
    scene(load_gltf(as_file(bytes, ".gltf")));
  } else if (target == "glb") {
    scene(load_gltf(as_file(bytes, ".glb")));
  } else if (target == "usda") {
    stage(load_usd_lights(as_file(bytes, ".usda")));
  } else if (target == "slice") {
    slice(as_file(bytes, ".part"));
  } else if (target == "density") {
    density(as_file(bytes, ".stream"));
  } else if (target == "set") {
    override_of(bytes);
  } else {
    std::abort();
  }
}

}  // namespace jovilux::fuzz

#ifdef JOVILUX_FUZZ_TARGET
extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  jovilux::fuzz::read(JOVILUX_FUZZ_TARGET, {reinterpret_cast<const char*>(data), size});
  return 0;
}
#endif
