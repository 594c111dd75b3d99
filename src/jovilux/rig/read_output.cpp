#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"

#include <algorithm>
#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

// "clear": what a clear sky lets through of the sun, by its elevation.
void read_clear_sun(TableReader& r, const Rig& rig, const DocumentNode& output, LightSpec& light) {
  const double up = -light.axis.dot(rig.up);
  light.output = {Output::Kind::kIlluminance,
                  clear_sun_illuminance({std::asin(std::clamp(up, -1.0, 1.0))}).value,
                  std::nullopt,
                  {}};
  const Output& stated = light.output;
  light.levels = *source_levels(light.shape, stated).levels;
  if (up <= 0) {
    r.warning("output",
              output.place,
              "sun-below-horizon",
              "the sun is below the horizon: it gives no light",
              "see elevation, toward, or the site's time");
  }
}

// The levels of a source whose sizes are known. What only files can tell stands for 1 here: the
// unit is right or wrong all the same.
bool find_levels(TableReader& r, const DocumentNode& output, LightSpec& light) {
  SourceShape source = light.shape;
  if (source.kind == LightKind::kObject) {
    source.area = 1;
  }
  if (!light.profile_file.empty()) {
    static const auto kEven = std::make_shared<LuminousDistribution>(
        CandelaGrid{PhotometricType::kC, PhotometricSymmetry::kRotational, {0}, {0, kPiD}, {1, 1}});
    source.profile = kEven;
  }
  const LevelsOrFault levels = source_levels(source, light.output);
  if (!levels.levels) {
    r.error("output",
            output.place,
            "wrong-unit",
            fmt::format("found \"{}\": {}", printable(output.text()), levels.fault));
    return false;
  }
  constexpr double kBrightest = 1e15;  // whose square single precision holds
  const SourceLevels& found = *levels.levels;
  for (const auto& [value, unit] :
       {std::pair(found.luminance ? found.luminance->value : 0.0, "cd/m2"),
        std::pair(found.intensity ? found.intensity->value : 0.0, "cd")}) {
    if (!(std::abs(value) <= kBrightest)) {
      r.error("output",
              output.place,
              "out-of-range",
              fmt::format("found \"{}\", which is {:.3g} {}; at most {:g} {} can be rendered",
                          printable(output.text()),
                          value,
                          unit,
                          kBrightest,
                          unit),
              "lower the output, or make the light larger");
      return false;
    }
  }
  const bool final = source.kind != LightKind::kObject && source.kind != LightKind::kDome &&
                     light.profile_file.empty();
  light.levels = final ? *levels.levels : SourceLevels{};
  return true;
}

}  // namespace

bool read_output(TableReader& r, const Rig& rig, bool sizes_known, LightSpec& light) {
  const LightKind kind = light.shape.kind;
  const std::string units = output_units(kind);
  const DocumentNode* output = r.find("output");
  light.output_place = r.place("output");
  if (output == nullptr) {
    light.output_given = false;
    if (!r.has("profile")) {
      r.missing("output", units);
      return false;
    }
    return sizes_known;
  }
  if (!output->is_text()) {
    const bool bare = output->is_number();
    r.error("output",
            output->place,
            bare ? "missing-unit" : "wrong-type",
            fmt::format("found {}; an output is a text with its unit: {}",
                        bare ? short_number(output->number(), 6) + " without a unit"
                             : std::string(output->kind()),
                        units),
            bare && !is_distant(kind)
                ? fmt::format("write \"{} lm\"", short_number(output->number(), 6))
                : "");
    return false;
  }
  if (kind == LightKind::kDome && output->text() == "as-is") {
    light.output.kind = Output::Kind::kAsIs;
    return sizes_known;
  }
  if (kind == LightKind::kSun && output->text() == "clear") {
    read_clear_sun(r, rig, *output, light);
    return sizes_known;
  }
  const auto parsed = parse_output(output->text(), is_distant(kind));
  if (const auto* fault = std::get_if<UnitFault>(&parsed)) {
    r.error("output",
            output->place,
            "bad-quantity",
            fmt::format("{}; expected {}", fault->text, units),
            fault->hint);
    return false;
  }
  light.output = std::get<Output>(parsed);
  light.efficacy = light.output.efficacy.value;
  return sizes_known && find_levels(r, *output, light);
}

}  // namespace jovilux
