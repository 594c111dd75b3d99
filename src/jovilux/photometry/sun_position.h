#pragma once

#include "jovilux/units/quantity.h"

#include <optional>
#include <string_view>

namespace jovilux {

/// A moment in universal time, as a Julian date.
struct Moment {
  double julian_date = 0;
};

/// Reads "2026-11-23T07:40:00+00:00", "2026-11-23 07:40Z" (seconds may be left out; without an
/// offset: universal time).
/// Nothing for another text or a date that does not exist.
std::optional<Moment> parse_moment(std::string_view text);

/// The sun's place in the sky. Azimuth runs from north through east.
struct SunPosition {
  Radians elevation, azimuth;
};

/// Where the sun stands for latitude (north positive) and longitude (east positive), seen from sea
/// level; accurate to 0.01 degrees between 1950 and 2050. Refraction raises it where pressure_hpa >
/// 0 and it is not below -1 degree.
/// Source: J. Meeus, Astronomical Algorithms, 2nd ed., chapters 12, 16 and 25.
SunPosition sun_position(Moment moment,
                         Radians latitude,
                         Radians longitude,
                         double pressure_hpa = 0,
                         double temperature_c = 10);

/// Illuminance of the clear sun on a surface facing it: 127.5 klx exp(-0.21 m), m = 1 /
/// sin(elevation) the air mass;
/// 0 below the horizon. Source: IES Lighting Handbook, daylight availability, clear sky.
Lux clear_sun_illuminance(Radians elevation);

}  // namespace jovilux
