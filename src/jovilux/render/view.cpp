#include "jovilux/render/view.h"

#include "jovilux/base/statistics.h"
#include "jovilux/color/chromaticity.h"
#include "jovilux/photometry/exposure.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace jovilux {

namespace {

// Where the film curve's shoulder begins, and its power.
constexpr double kStart = 0.4, kPower = (kFilmWhite - kStart) / (1 - kStart);

// The display value from which on eight bits show white.
double clipping_display() { return srgb_decoded(254.5 / 255); }

// The value in front of the curve that gives it.
double clipping_value(const LookSpec& look) {
  return look.studio                            ? look.studio->white()
         : look.curve == LookSpec::Curve::kFilm ? film_curve_undone(clipping_display())
                                                : clipping_display();
}

double white_value(const LookSpec& look) {
  return look.studio ? look.studio->white() : look.curve == LookSpec::Curve::kFilm ? kFilmWhite : 1;
}

}  // namespace

double film_curve(double x) {
  if (x <= kStart) {
    return std::max(0.0, x);
  }
  if (x >= kFilmWhite) {
    return 1;
  }
  return 1 - (1 - kStart) * std::pow((kFilmWhite - x) / (kFilmWhite - kStart), kPower);
}

double film_curve_undone(double y) {
  return y <= kStart ? std::max(0.0, y)
                     : kFilmWhite - (kFilmWhite - kStart) *
                                        std::pow((1 - std::min(1.0, y)) / (1 - kStart), 1 / kPower);
}

View::View(const LookSpec& look, double ev)
    : ev_(ev),
      scale_(0.18 / luminance_at(ev).value),
      white_(white_value(look)),
      curve_(look.curve),
      studio_(look.studio) {
  if (look.white_auto) {
    found_white_ = look.white_balance;
  }
  if (look.white_balance) {
    balance_ = rec709_from_xyz() *
               adaptation(tristimulus(spectrum(*look.white_balance)), from_xy({0.3127, 0.3290})) *
               xyz_from_rec709();
  }
}

Rgb View::display(const Rgb& absolute) const {
  Rgb v = balance_ * absolute * scale_;
  if (studio_ != nullptr) {
    v = studio_->encoded(v);
    for (int c = 0; c < 3; ++c) {
      v[c] = srgb_decoded(std::clamp(v[c], 0.0, 1.0));
    }
    return v;
  }
  for (int c = 0; c < 3; ++c) {
    v[c] = curve_ == LookSpec::Curve::kFilm ? film_curve(v[c]) : std::clamp(v[c], 0.0, 1.0);
  }
  return v;
}

std::optional<Rgb> View::absolute(const Rgb& display) const {
  if (display.maxCoeff() >= clipping_display()) {
    return std::nullopt;
  }
  Rgb v = display;
  if (studio_ != nullptr) {
    const auto undone =
        studio_->linear({srgb_encoded(v[0]), srgb_encoded(v[1]), srgb_encoded(v[2])});
    return undone ? std::optional(Rgb(balance_.inverse() * *undone / scale_)) : std::nullopt;
  }
  for (int c = 0; c < 3; ++c) {
    v[c] = curve_ == LookSpec::Curve::kFilm ? film_curve_undone(v[c]) : v[c];
  }
  return Rgb(balance_.inverse() * v / scale_);
}

std::array<std::uint8_t, 3> View::srgb8(const Rgb& absolute) const {
  const Rgb v = display(absolute);
  std::array<std::uint8_t, 3> out{};
  for (std::size_t c = 0; c < 3; ++c) {
    out[c] = static_cast<std::uint8_t>(std::lround(255 * srgb_encoded(v[static_cast<int>(c)])));
  }
  return out;
}

bool View::clips(const Rgb& absolute) const {
  const auto v = srgb8(absolute);
  return v[0] == 255 || v[1] == 255 || v[2] == 255;
}

namespace {

// Lamps are met first, and reflect nothing.
bool shows_lamp(const Film& film, std::size_t pixel) {
  const float* guide = film.guide(pixel);
  return guide[7] > 0 && guide[0] + guide[1] + guide[2] <= 0;
}

Rgb picture_color(const Film& film, std::size_t pixel) {
  return rec709_from_xyz() * film.mean(pixel).cast<double>();
}

float brightest_channel(const Film& film, std::size_t pixel) {
  return static_cast<float>(picture_color(film, pixel).maxCoeff());
}

// By the picture, lamps left out.
double metered_ev(const LookSpec& look, const Film& film) {
  std::vector<float> lit, brightest;
  lit.reserve(film.pixels());
  brightest.reserve(film.pixels());
  each_pixel(film, [&](std::size_t i) {
    if (const float l = film.luminance(i); l > 0) {
      lit.push_back(l);
      if (!shows_lamp(film, i)) {
        brightest.push_back(brightest_channel(film, i));
      }
    }
  });
  if (lit.empty()) {
    return 0;
  }
  std::sort(lit.begin(), lit.end());
  const std::size_t skip = lit.size() / 20;
  double sum = 0;
  for (std::size_t i = skip; i < lit.size() - skip; ++i) {
    sum += std::log2(lit[i]);
  }
  const double mean = std::exp2(sum / static_cast<double>(lit.size() - 2 * skip));
  const auto bright = static_cast<double>(percentile(std::move(brightest), 1 - kAutoClipped));
  return ev100(Nits{std::max(mean, 0.18 * bright / clipping_value(look))});
}

}  // namespace

double look_ev(const LookSpec& look, const CameraSpec& camera, const Film& film) {
  switch (look.exposure) {
    case LookSpec::Exposure::kCamera:
      return ev100(camera.exposure);
    case LookSpec::Exposure::kFixed:
      return look.ev;
    case LookSpec::Exposure::kAuto:
      break;
  }
  return metered_ev(look, film) - look.brighter;
}

std::optional<White> metered_white(const Film& film) {
  constexpr float kLeastWhiteAlbedo = 0.02f;
  constexpr double kColdest = 1000, kHottest = 40000, kFarthest = 0.05;
  struct Lit {
    float luminance;
    Rgb light;
  };
  std::vector<Lit> lit;
  std::vector<float> luminances;
  each_pixel(film, [&](std::size_t i) {
    const float* guide = film.guide(i);
    const float luminance = film.luminance(i);
    if (!(guide[7] > 0) || !(luminance > 0)) {
      return;
    }
    const Eigen::Vector3f albedo = Eigen::Vector3f(guide[0], guide[1], guide[2]) / guide[7];
    if (!(albedo.minCoeff() >= kLeastWhiteAlbedo)) {
      return;
    }
    lit.push_back({luminance, picture_color(film, i).cwiseQuotient(albedo.cast<double>())});
    luminances.push_back(luminance);
  });
  if (lit.empty()) {
    return std::nullopt;
  }
  const auto most = static_cast<double>(percentile(std::move(luminances), 0.95));
  Xyz sum = Xyz::Zero();
  for (const Lit& pixel : lit) {
    const Xyz light = xyz_from_rec709() * pixel.light;
    if (light.y() > 0) {
      sum += std::min<double>(pixel.luminance, most) / light.y() * light;
    }
  }
  if (!(sum.minCoeff() > 0)) {
    return std::nullopt;
  }
  const Cct found = correlated_color_temperature(sum);
  if (!(std::abs(found.duv) <= kFarthest)) {
    return std::nullopt;
  }
  return White{White::Kind::kPlanck,
               Kelvin{std::round(std::clamp(found.cct.value, kColdest, kHottest))}};
}

View look_view(const LookSpec& look, const CameraSpec& camera, const Film& film) {
  LookSpec seen = look;
  if (look.white_auto && !look.white_balance) {
    seen.white_balance = metered_white(film);
  }
  return View(seen, look_ev(look, camera, film));
}

}  // namespace jovilux
