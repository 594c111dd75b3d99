// jovilux-vdb FILE GRID MEGABYTES: writes the density grid of a .vdb file to stdout in the form
// that jovilux/files/density_file.h describes. A program of its own, because a damaged file can
// make the library that reads it hang or ask for any amount of memory: both are limited here.
#include <array>
#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <string>

#include <openvdb/openvdb.h>
#include <sys/resource.h>

namespace {

// A reader of a file of some size that works for longer has been led astray.
constexpr rlim_t kSeconds = 60;

template <class T>
void put(const T& value) {
  if (std::fwrite(&value, sizeof value, 1, stdout) != 1) {
    std::exit(3);
  }
}

int fail(const std::string& text) {
  std::string plain;
  for (const char c : text.substr(0, 200)) {
    plain += c >= ' ' && c < 127 ? c : ' ';
  }
  std::fprintf(stderr, "%s", plain.c_str());
  return 2;
}

int run(const std::string& path, const std::string& name, std::uint64_t limit) {
  openvdb::initialize();
  openvdb::io::File file(path);
  file.open(false);
  if (!file.hasGrid(name)) {
    std::string names;
    for (auto it = file.beginName(); it != file.endName(); ++it) {
      names += (names.empty() ? "" : ", ") + it.gridName();
    }
    return fail("has no grid \"" + name + "\"; it holds: " + (names.empty() ? "none" : names));
  }
  const auto grid = openvdb::gridPtrCast<openvdb::FloatGrid>(file.readGrid(name));
  if (!grid) {
    return fail("the grid \"" + name + "\" does not hold single floats");
  }
  if (!grid->transform().isLinear()) {
    return fail("the grid \"" + name + "\" lies in a frustum; only straight grids are read");
  }
  if (grid->background() != 0.0f || grid->getGridClass() == openvdb::GRID_LEVEL_SET) {
    return fail("the grid \"" + name + "\" is no density: it is not 0 outside");
  }
  const auto box = grid->evalActiveVoxelBoundingBox();
  if (box.empty()) {
    return fail("the grid \"" + name + "\" is empty");
  }
  std::array<std::int32_t, 3> first{}, blocks{};
  double slots = 1;
  for (int i = 0; i < 3; ++i) {
    const std::int64_t lo = box.min()[i] & ~7,
                       hi = (static_cast<std::int64_t>(box.max()[i]) | 7) + 1;
    first[i] = static_cast<std::int32_t>(lo);
    blocks[i] = static_cast<std::int32_t>((hi - lo) / 8);
    slots *= static_cast<double>(blocks[i]);
  }
  // Tiles of one value become blocks too: no more of them than the memory holds.
  const double bytes = static_cast<double>(grid->activeVoxelCount()) * 4 + slots * 8;
  if (bytes > static_cast<double>(limit) / 4) {
    return fail("the grid \"" + name + "\" has " + std::to_string(grid->activeVoxelCount()) +
                " points over " + std::to_string(blocks[0] * 8LL) + " x " +
                std::to_string(blocks[1] * 8LL) + " x " + std::to_string(blocks[2] * 8LL) +
                "; that is more than " + std::to_string(limit >> 20) + " MB hold");
  }
  grid->tree().voxelizeActiveTiles();
  std::fwrite("JVDG", 1, 4, stdout);
  // For row vectors.
  const openvdb::Mat4d m = grid->transform().baseMap()->getAffineMap()->getMat4();
  for (int r = 0; r < 3; ++r) {
    for (int c = 0; c < 4; ++c) {
      put(m(c, r));
    }
  }
  put(first);
  put(blocks);
  put(static_cast<std::uint64_t>(grid->tree().leafCount()));
  for (auto leaf = grid->tree().cbeginLeaf(); leaf; ++leaf) {
    const openvdb::Coord o = leaf->origin();
    put(std::array<std::int32_t, 3>{o.x(), o.y(), o.z()});
    std::array<float, 512> values{};
    for (int x = 0; x < 8; ++x) {
      for (int y = 0; y < 8; ++y) {
        for (int z = 0; z < 8; ++z) {
          values[static_cast<std::size_t>((z * 8 + y) * 8 + x)] =
              leaf->getValue(openvdb::Coord(o.x() + x, o.y() + y, o.z() + z));
        }
      }
    }
    put(values);
  }
  return std::fflush(stdout) == 0 ? 0 : 3;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr,
                 "usage: jovilux-vdb FILE GRID MEGABYTES; jovilux runs it to read density files\n");
    return 2;
  }
  const std::uint64_t limit = std::strtoull(argv[3], nullptr, 10) << 20;
  const rlimit memory{limit, limit}, time{kSeconds, kSeconds}, core{0, 0};
  setrlimit(RLIMIT_CORE, &core);
  setrlimit(RLIMIT_CPU, &time);
#ifndef JOVILUX_UNLIMITED  // sanitizers reserve far more than they use
  setrlimit(RLIMIT_AS, &memory);
#endif
  try {
    return run(argv[1], argv[2], limit);
  } catch (const std::bad_alloc&) {
    return fail("needs more memory than a file of its size should: damaged");
  } catch (const std::exception& e) {
    return fail(std::string(e.what()));
  }
}
