// make_vdb FILE KIND: writes a density grid of 5 cm cells around the origin. constant: 1 within 0.7
// m on each axis; cloud: a ball of 0.7 m that thins towards its edge; level-set, tiles, none: what
// is no density.
#include <cmath>
#include <string>

#include <openvdb/openvdb.h>

int main(int argc, char** argv) {
  if (argc != 3) {
    return 2;
  }
  const std::string kind = argv[2];
  openvdb::initialize();
  auto grid = openvdb::FloatGrid::create(kind == "level-set" ? 1.0f : 0.0f);
  grid->setName("density");
  grid->setGridClass(openvdb::GRID_FOG_VOLUME);
  grid->setTransform(openvdb::math::Transform::createLinearTransform(0.05));
  if (kind == "tiles") {
    grid->fill(openvdb::CoordBBox(openvdb::Coord(0), openvdb::Coord(4095)), 1.0f);
  } else if (kind != "none") {
    auto values = grid->getAccessor();
    for (int z = -14; z <= 14; ++z) {
      for (int y = -14; y <= 14; ++y) {
        for (int x = -14; x <= 14; ++x) {
          const float d = kind == "constant"
                              ? 1.0f
                              : 1.0f - std::sqrt(static_cast<float>(x * x + y * y + z * z)) / 14.0f;
          if (d > 0) {
            values.setValue({x, y, z}, d);
          }
        }
      }
    }
  }
  openvdb::io::File file(argv[1]);
  file.write({grid});
  file.close();
}
