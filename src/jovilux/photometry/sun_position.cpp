#include "jovilux/photometry/sun_position.h"

#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"

#include <cmath>
#include <numbers>
#include <string>

namespace jovilux {
namespace {

// Julian date of a civil date at 0 h (J. Meeus, "Astronomical Algorithms", 2nd ed., chapter 7,
// Gregorian calendar).
double julian_day(int year, int month, int day) {
  if (month <= 2) {
    --year;
    month += 12;
  }
  const int century = year / 100, leap_days = 2 - century + century / 4;  // of the calendar
  return std::floor(365.25 * (year + 4716)) + std::floor(30.6001 * (month + 1)) + day + leap_days -
         1524.5;
}

int days_in(int year, int month) {
  constexpr int kDays[] = {31, 28, 31, 30, 31, 30, 31, 31, 30, 31, 30, 31};
  const bool leap = (year % 4 == 0 && year % 100 != 0) || year % 400 == 0;
  return kDays[month - 1] + (month == 2 && leap ? 1 : 0);
}

// Takes `digits` digits off the front of the text; -1 where they are not there.
int take(std::string_view& text, std::size_t digits) {
  int value = 0;
  for (std::size_t i = 0; i < digits; ++i) {
    if (i >= text.size() || text[i] < '0' || text[i] > '9') {
      return -1;
    }
    value = value * 10 + (text[i] - '0');
  }
  text.remove_prefix(digits);
  return value;
}

bool take_char(std::string_view& text, std::string_view any_of) {
  if (text.empty() || any_of.find(text[0]) == std::string_view::npos) {
    return false;
  }
  text.remove_prefix(1);
  return true;
}

}  // namespace

std::optional<Moment> parse_moment(std::string_view text) {
  text = trimmed(text);
  const int year = take(text, 4);
  if (year < 0 || !take_char(text, "-")) {
    return std::nullopt;
  }
  const int month = take(text, 2);
  if (month < 1 || month > 12 || !take_char(text, "-")) {
    return std::nullopt;
  }
  const int day = take(text, 2);
  if (day < 1 || day > days_in(year, month) || !take_char(text, "Tt ")) {
    return std::nullopt;
  }
  const int hour = take(text, 2);
  if (hour < 0 || hour > 23 || !take_char(text, ":")) {
    return std::nullopt;
  }
  const int minute = take(text, 2);
  double second = 0;
  if (minute < 0 || minute > 59) {
    return std::nullopt;
  }
  if (take_char(text, ":")) {
    // The zone begins with one of these; seconds have digits and a point only.
    const auto end = text.find_first_of("Zz+-");
    const auto s = parse_number(text.substr(0, end));
    if (!s || *s < 0 || *s >= 61) {
      return std::nullopt;
    }
    second = *s;
    text.remove_prefix(std::min(end, text.size()));
  }
  double offset_minutes = 0;
  if (!text.empty() && !take_char(text, "Zz")) {
    const bool west = text[0] == '-';
    if (!take_char(text, "+-")) {
      return std::nullopt;
    }
    const int hours = take(text, 2);
    take_char(text, ":");
    const int minutes = text.empty() ? 0 : take(text, 2);
    if (hours < 0 || hours > 18 || minutes < 0 || minutes > 59) {
      return std::nullopt;
    }
    offset_minutes = (west ? -1 : 1) * (60 * hours + minutes);
  }
  if (!text.empty()) {
    return std::nullopt;
  }
  return Moment{julian_day(year, month, day) +
                (hour + (minute - offset_minutes + second / 60) / 60) / 24};
}

SunPosition sun_position(
    Moment moment, Radians latitude, Radians longitude, double pressure_hpa, double temperature_c) {
  constexpr double kDeltaT = 69;  // seconds from universal to dynamical time around 2020
  const double jd = moment.julian_date;
  const double t = (jd + kDeltaT / 86400 - 2451545) / 36525;
  // Meeus, chapter 25, low accuracy: 0.01 degrees, a fiftieth of the sun's disc.
  const double mean_longitude = 280.46646 + t * (36000.76983 + t * 0.0003032);
  const double m = kDegree * (357.52911 + t * (35999.05029 - t * 0.0001537));
  const double center = (1.914602 - t * (0.004817 + t * 0.000014)) * std::sin(m) +
                        (0.019993 - 0.000101 * t) * std::sin(2 * m) + 0.000289 * std::sin(3 * m);
  const double node = kDegree * (125.04 - 1934.136 * t);
  const double nutation = -0.00478 * std::sin(node);  // in longitude
  const double lambda = kDegree * (mean_longitude + center - 0.00569 + nutation);
  const double epsilon = kDegree * (23.43929111 - 0.0130041667 * t + 0.00256 * std::cos(node));
  const double right_ascension = std::atan2(std::cos(epsilon) * std::sin(lambda), std::cos(lambda));
  const double declination = std::asin(std::sin(epsilon) * std::sin(lambda));
  // Sidereal time at Greenwich (chapter 12), then the hour angle west of the meridian.
  const double tu = (jd - 2451545) / 36525;
  const double sidereal = kDegree * (280.46061837 + 360.98564736629 * (jd - 2451545) +
                                     0.000387933 * tu * tu + nutation * std::cos(epsilon));
  const double hour_angle = sidereal + longitude.value - right_ascension;
  const double phi = latitude.value;
  double elevation = std::asin(std::sin(phi) * std::sin(declination) +
                               std::cos(phi) * std::cos(declination) * std::cos(hour_angle));
  double azimuth =
      std::atan2(std::sin(hour_angle),
                 std::cos(hour_angle) * std::sin(phi) - std::tan(declination) * std::cos(phi)) +
      std::numbers::pi;
  azimuth = std::fmod(azimuth + 4 * std::numbers::pi, 2 * std::numbers::pi);
  elevation -= 8.794 / 3600 * kDegree * std::cos(elevation);  // parallax
  // Refraction lifts the sun at the horizon by more than its own diameter (Saemundsson's formula,
  // chapter 16, scaled by the density of the air).
  const double degrees_up = elevation / kDegree;
  if (pressure_hpa > 0 && degrees_up > -1) {
    const double minutes = 1.02 / std::tan(kDegree * (degrees_up + 10.3 / (degrees_up + 5.11)));
    elevation += minutes / 60 * kDegree * pressure_hpa / 1010 * 283 / (273 + temperature_c);
  }
  return {{elevation}, {azimuth}};
}

Lux clear_sun_illuminance(Radians elevation) {
  const double s = std::sin(elevation.value);
  return {s > 0 ? 127500 * std::exp(-0.21 / s) : 0};
}

}  // namespace jovilux
