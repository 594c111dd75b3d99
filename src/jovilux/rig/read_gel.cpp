#include "jovilux/base/text.h"
#include "jovilux/rig/read_tables.h"

#include <algorithm>

#include <fmt/format.h>

namespace jovilux {
namespace {

using Points = std::vector<std::pair<double, double>>;

// Increasing wavelengths and their transmittances; empty where one is wrong.
Points read_points(TableReader& r, const DocumentNode& points) {
  Points samples;
  for (const DocumentNode& point : points.array()) {
    const bool pair = point.is_array() && point.array().size() == 2 &&
                      point.array()[0].is_number() && point.array()[1].is_number();
    const double nm = pair ? point.array()[0].number() : 0,
                 t = pair ? point.array()[1].number() : 0;
    if (!pair || !(nm >= 200 && nm <= 2000) || !(t >= 0 && t <= 1)) {
      r.error("points",
              point.place,
              "out-of-range",
              "expected [wavelength in nm, transmittance from 0 to 1]");
      return {};
    }
    if (!samples.empty() && nm <= samples.back().first) {
      r.error("points",
              point.place,
              "out-of-range",
              fmt::format("{} nm follows {} nm; wavelengths must increase",
                          short_number(nm, 6),
                          short_number(samples.back().first, 6)));
      return {};
    }
    samples.emplace_back(nm, t);
  }
  if (samples.size() < 2) {
    r.error("points", points.place, "out-of-range", "a gel needs at least 2 points");
    return {};
  }
  return samples;
}

// Linear between the points, constant beyond them.
void fill_transmittance(const Points& samples, GelSpec& gel) {
  for (std::size_t i = 0; i < kNmCount; ++i) {
    const double nm = kFirstNm + static_cast<double>(i);
    std::size_t j = 0;
    while (j + 2 < samples.size() && samples[j + 1].first < nm) {
      ++j;
    }
    const double t =
        std::clamp((nm - samples[j].first) / (samples[j + 1].first - samples[j].first), 0.0, 1.0);
    gel.transmittance[i] = (1 - t) * samples[j].second + t * samples[j + 1].second;
  }
}

}  // namespace

void read_gel(TableReader& r, const std::string& name, Rig& rig) {
  GelSpec gel;
  gel.name = name;
  gel.place = r.node().place;
  const DocumentNode* points = r.find("points");
  gel.file = r.file("file").value_or("");
  if (points != nullptr && r.has("file")) {
    r.error("points",
            r.node().place,
            "conflict",
            "points and file are both given",
            "leave one of them out");
  } else if (points == nullptr && !r.has("file")) {
    r.missing("points", "points = [[nm, transmittance], ...] or file");
  } else if (points != nullptr && !points->is_array()) {
    r.wrong_type("points", *points);
  } else if (points != nullptr) {
    if (const Points samples = read_points(r, *points); !samples.empty()) {
      fill_transmittance(samples, gel);
    }
  }
  r.finish();
  rig.gels.push_back(std::move(gel));
}

}  // namespace jovilux
