#include "jovilux/scene/light_parts.h"

#include "jovilux/base/sampler.h"
#include "jovilux/base/text.h"
#include "jovilux/color/rgb.h"
#include "jovilux/files/image.h"
#include "jovilux/files/spectrum_file.h"

#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <mutex>

#include <fmt/format.h>

namespace jovilux {
namespace {

// What a file's problems say in a rig: where it was named, and by which key.
void keep(Problems& into, const Problems& from, const std::string& address, const Place& named_at) {
  for (Problem p : from) {
    p.address = address;
    const std::string named = "named at " + to_string(named_at);
    p.hint = p.hint.empty() ? named : p.hint + "; " + named;
    into.push_back(std::move(p));
  }
}

// The share of the flux that passes a mask and doors (null: there are none), by 32768 points of a
// low-discrepancy sequence: places and directions in proportion to what the bare source sends.
double passing_share(const SourceShape& s,
                     const Gobo* gobo,
                     const BarnDoors* doors,
                     const ScreenPicture* screen) {
  constexpr std::uint32_t kPoints = 1U << 15;
  const double plane = gobo != nullptr ? static_cast<double>(gobo->distance()) : 0;
  double all = 0, passed = 0;
  for (std::uint32_t i = 0; i < kPoints; ++i) {
    const Sampler sampler(1, 4, i);
    const Vec2 u = sampler.pair(0), v = sampler.pair(1);
    if (s.kind == LightKind::kSun) {  // evenly over the mask, which repeats or is what matters
      const auto& spec = gobo->spec();
      const float x = (u.x() - 0.5f) * static_cast<float>(spec.width * spec.tiles_x),
                  y = (u.y() - 0.5f) * static_cast<float>(spec.height * spec.tiles_y);
      const float c = static_cast<float>(std::cos(spec.rotate)),
                  sn = static_cast<float>(std::sin(spec.rotate));
      all += 1;
      passed += luminance_of(gobo->transmittance(-(c * x + sn * y), -sn * x + c * y));
      continue;
    }
    double theta, weight;
    if (s.by_intensity()) {
      const double widest = s.profile              ? kPiD / 2
                            : s.beam.exponent == 0 ? s.beam.half_beam
                                                   : std::min(kPiD / 2, 2.5 * s.beam.half_field);
      const double cosine = 1 - u.x() * (1 - std::cos(widest));
      theta = std::acos(cosine);
      const double phi = 2 * kPiD * u.y();
      weight =
          s.profile
              ? s.profile->intensity(
                    Vec3d(std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi), cosine)
                        .cast<float>())
              : relative_intensity(s.beam, theta);
    } else {  // by the cosine
      theta = std::asin(std::sqrt(static_cast<double>(u.x())));
      weight = s.half_spread > 0 ? relative_spread(theta, s.half_spread) : 1;
    }
    const double phi = 2 * kPiD * u.y();
    double qx = 0, qy = 0;
    if (s.kind == LightKind::kRect) {
      qx = (v.x() - 0.5) * s.width;
      qy = (v.y() - 0.5) * s.height;
      weight *= s.hot_center > 0 ? hot_center_weighting(
                                       s.kind, s.hot_center, 2 * qx / s.width, 2 * qy / s.height)
                                 : 1;
    } else if (s.radius > 0) {
      const double r = std::sqrt(static_cast<double>(v.x()));
      qx = s.radius * r * std::cos(2 * kPiD * v.y());
      qy = s.radius * r * std::sin(2 * kPiD * v.y());
      weight *= s.hot_center > 0 ? hot_center_weighting(LightKind::kDisk, s.hot_center, r, 0) : 1;
    }
    if (screen != nullptr) {
      weight *= static_cast<double>(luminance_of(
          screen->at(static_cast<float>(2 * qx / s.width), static_cast<float>(2 * qy / s.height))));
    }
    all += weight;
    if (std::cos(theta) > 1e-9) {
      const Vec3d wo(
          std::sin(theta) * std::cos(phi), std::sin(theta) * std::sin(phi), std::cos(theta));
      if (doors != nullptr && !doors->lets_pass(Vec3d(qx, qy, 0).cast<float>(), wo.cast<float>())) {
        continue;
      }
      const double far = plane / wo.z();
      passed +=
          weight * (gobo != nullptr
                        ? luminance_of(gobo->transmittance(static_cast<float>(qx + far * wo.x()),
                                                           static_cast<float>(qy + far * wo.y())))
                        : 1.0);
    }
  }
  return all > 0 ? passed / all : 1;
}

}  // namespace

Result<SourceColor> source_color(const LightSpec& light) {
  SourceColor out;
  Problems problems;
  const auto load =
      [&](const std::string& file, const Place& asked_at, const std::string& address) {
        auto table = load_spectrum(file);
        keep(problems, table.problems(), address, asked_at);
        return table ? *table : NmTable{};
      };
  NmTable emitted =
      !light.spectrum_file.empty()
          ? load(light.spectrum_file, light.spectrum_place, "light." + light.name + ".spectrum")
      : light.spectrum ? *light.spectrum
                       : spectrum(light.white_now());
  NmTable gels;
  gels.value.fill(1);
  for (const GelSpec& gel : light.gels) {
    const NmTable one = gel.file.empty() ? gel.transmittance
                                         : load(gel.file, gel.place, "gel." + gel.name + ".file");
    for (const double t : one.value) {
      if (t > 1) {
        problems.push_back(
            {Severity::kError,
             "bad-spectrum",
             {gel.file, 0, 0},
             "gel." + gel.name + ".file",
             fmt::format("a transmittance of {}; a gel lets through 0 to 1", short_number(t)),
             ""});
        break;
      }
    }
    gels = filtered(gels, one);
  }
  if (has_errors(problems)) {
    return problems;
  }
  out.transmittance = luminous_transmittance(emitted, gels);
  if (out.transmittance > 0) {
    emitted = filtered(emitted, gels);
  }
  out.spectrum = std::make_shared<const NmTable>(emitted);
  return {out, std::move(problems)};
}

std::shared_ptr<const PhotometricFile> LightLoader::profile(const LightSpec& light) {
  const auto known = profiles_.find(light.profile_file);
  if (known != profiles_.end()) {
    return known->second;
  }
  auto file = load_photometric(light.profile_file);
  keep(problems_, file.problems(), "light." + light.name + ".profile", light.profile_place);
  std::shared_ptr<const PhotometricFile> out;
  if (file) {
    out = std::make_shared<PhotometricFile>(std::move(*file));
    distributions_[light.profile_file] = std::make_shared<LuminousDistribution>(out->grid);
  }
  profiles_[light.profile_file] = out;
  return out;
}

// The beam spreads; the source's flux, which the sheet's transmittance then takes its part of,
// stays.
void LightLoader::put_behind_sheet(const LightSpec& light, Radians spread, LightParts& parts) {
  SourceShape& s = parts.shape;
  const std::string key = fmt::format("{} {} {} {} {} {} {}",
                                      light.profile_file,
                                      static_cast<int>(s.kind),
                                      s.beam.half_beam,
                                      s.beam.half_field,
                                      s.half_spread,
                                      s.two_sided,
                                      spread.value);
  auto& beam = diffused_[key];
  if (beam == nullptr) {
    beam = diffused(s, spread);
  }
  if (beam == nullptr || !parts.levels.flux) {
    return;
  }
  s.profile = beam;
  s.half_spread = 0;
  const LevelsOrFault levels =
      source_levels(s, {Output::Kind::kFlux, parts.levels.flux->value, std::nullopt, {}});
  if (levels.levels) {
    parts.levels = *levels.levels;
  }
}

std::shared_ptr<const DomePicture> LightLoader::dome(const LightSpec& light) {
  auto image = load_image(light.image);
  const std::string address = "light." + light.name + ".image";
  keep(problems_, image.problems(), address, light.image_place);
  if (!image) {
    return nullptr;
  }
  auto out = std::make_shared<DomePicture>();
  out->width = image->width;
  out->height = image->height;
  float highest = 0;
  for (std::size_t i = 0; i + 2 < image->rgb.size(); i += 3) {
    out->rgb.emplace_back(image->rgb[i], image->rgb[i + 1], image->rgb[i + 2]);
    highest = std::max(highest, out->rgb.back().maxCoeff());
  }
  if (!(highest > 0)) {
    problems_.push_back(
        {Severity::kError, "bad-image", light.image_place, address, "the picture is black", ""});
    return nullptr;
  }
  if (std::abs(static_cast<double>(out->width) / out->height - 2) > 0.02) {
    problems_.push_back(
        {Severity::kWarning,
         "bad-image",
         light.image_place,
         address,
         fmt::format("{} x {} pixels: not twice as wide as high", out->width, out->height),
         "an equirectangular picture goes all round and from pole to pole"});
  }
  return out;
}

std::shared_ptr<const ScreenPicture> LightLoader::screen(const LightSpec& light) {
  const std::string address = "light." + light.name + ".image";
  const auto image = load_image(light.image);
  keep(problems_, image.problems(), address, light.image_place);
  if (!image) {
    return nullptr;
  }
  auto out = std::make_shared<ScreenPicture>();
  out->width = image->width;
  out->height = image->height;
  double sum = 0;
  for (std::size_t i = 0; i + 2 < image->rgb.size(); i += 3) {
    out->rgb.emplace_back(image->rgb[i], image->rgb[i + 1], image->rgb[i + 2]);
    sum += luminance_of(out->rgb.back());
  }
  if (!(sum > 0)) {
    problems_.push_back(
        {Severity::kError, "bad-image", light.image_place, address, "the picture is black", ""});
    return nullptr;
  }
  const auto mean = static_cast<float>(sum / static_cast<double>(out->rgb.size()));
  for (Eigen::Array3f& pixel : out->rgb) {
    pixel /= mean;
  }
  return out;
}

namespace {

// The mask of that key where a scene still has it, else a new one. Made outside the lock, for its
// loops may run other tasks that ask for masks: two that ask at once may both make it.
template <class Fn>
std::shared_ptr<const Gobo> shared_gobo(const std::string& key, const Fn& make) {
  static std::mutex mutex;
  static std::map<std::string, std::weak_ptr<const Gobo>> known;
  {
    const std::lock_guard lock(mutex);
    std::erase_if(known, [](const auto& entry) { return entry.second.expired(); });
    if (const auto found = known.find(key); found != known.end()) {
      if (auto gobo = found->second.lock()) {
        return gobo;
      }
    }
  }
  std::shared_ptr<const Gobo> gobo = make();
  if (gobo != nullptr) {
    const std::lock_guard lock(mutex);
    known[key] = gobo;
  }
  return gobo;
}

}  // namespace

std::shared_ptr<const Gobo> LightLoader::gobo(const LightSpec& light) {
  const GoboInRig& g = *light.gobo;
  GoboSpec s = g.spec;
  // A light that points straight down has no up to follow: the top of its mask lies north.
  constexpr double kStraight = 1 - 1e-12;
  if (light.axis.dot(rig_.up) < -kStraight) {
    s.rotate += kPiD;
  }
  const std::string key = fmt::format("{}|{}|{}|{}|{}|{}|{}|{}|{}|{}|{}|{}|{}",
                                      g.image,
                                      static_cast<int>(g.pattern),
                                      g.count,
                                      g.open,
                                      s.width,
                                      s.height,
                                      s.distance,
                                      s.tiles_x,
                                      s.tiles_y,
                                      s.soft,
                                      s.rotate,
                                      s.strength,
                                      static_cast<int>(s.surround));
  // Scenes of one rig's moments share their masks, whose integrals take seconds.
  std::error_code ec;
  const auto changed = std::filesystem::last_write_time(g.image, ec);
  return shared_gobo(fmt::format("{}|{}", key, ec ? 0 : changed.time_since_epoch().count()),
                     [&]() -> std::shared_ptr<const Gobo> { return make_gobo(light, g, s); });
}

std::shared_ptr<const Gobo> LightLoader::make_gobo(const LightSpec& light,
                                                   const GoboInRig& g,
                                                   const GoboSpec& s) {
  MaskPicture picture;
  if (g.image.empty()) {
    picture = pattern_picture(g.pattern, g.count, g.open);
  } else {
    auto image = load_image(g.image);
    keep(problems_, image.problems(), "light." + light.name + ".gobo.image", g.place);
    if (!image) {
      return nullptr;
    }
    picture = {image->width, image->height, {}};
    for (std::size_t i = 0; i + 2 < image->rgb.size(); i += 3) {
      picture.rgb.push_back(
          Eigen::Array3f(image->rgb[i], image->rgb[i + 1], image->rgb[i + 2]).min(1.0f));
    }
  }
  return std::make_shared<Gobo>(s, std::move(picture));
}

LightParts LightLoader::parts(const LightSpec& light,
                              std::shared_ptr<const LuminousSurface> surface) {
  Making m{light, {}, std::make_shared<EmitterDetail>()};
  m.out.levels = light.levels;
  m.out.shape = m.light.shape;
  if (!take_color(m) || !take_profile(m) || !take_surface(m, std::move(surface)) ||
      !take_directions(m) || !take_levels(m)) {
    return std::move(m.out);
  }
  if (const auto spread = light.diffusion()) {
    put_behind_sheet(light, *spread, m.out);
    m.detail->profile = m.out.shape.profile;
    m.has_detail = m.has_detail || m.detail->profile != nullptr;
  }
  if (!take_masks(m)) {
    return std::move(m.out);
  }
  take_tint(m);
  if (light.inside) {
    m.has_detail = true;
    m.detail->inside = enclosure_of_(*light.inside);
  }
  if (m.has_detail) {
    m.out.detail = std::move(m.detail);
  }
  return std::move(m.out);
}

// The copies of an array share their color.
bool LightLoader::take_color(Making& m) {
  const bool copy = m.light.copies > 1 && m.light.layer == copied_layer_;
  const auto color = copy ? Result<SourceColor>(copied_color_) : source_color(m.light);
  problems_.insert(problems_.end(), color.problems().begin(), color.problems().end());
  if (!color) {
    return false;
  }
  m.out.color = *color;
  if (m.light.copies > 1 && !copy) {
    copied_layer_ = m.light.layer;
    copied_color_ = *color;
  }
  return true;
}

bool LightLoader::take_profile(Making& m) {
  if (m.light.profile_file.empty()) {
    return true;
  }
  m.out.profile = profile(m.light);
  if (!m.out.profile) {
    return false;
  }
  m.detail->profile = m.out.shape.profile = distributions_[m.light.profile_file];
  m.has_detail = m.levels_by_files = true;
  warn_of_cut_profile(m);
  return true;
}

void LightLoader::warn_of_cut_profile(const Making& m) {
  const SourceShape& shape = m.light.shape;
  const bool flat = shape.kind == LightKind::kDisk || shape.kind == LightKind::kRect ||
                    (shape.kind == LightKind::kSpot && shape.radius > 0);
  const LuminousDistribution& file = *m.out.shape.profile;
  const double lost = 1 - file.flux_in_front() / file.flux();
  if (flat && !shape.two_sided && lost > 0.01) {
    problems_.push_back(
        {Severity::kWarning,
         "profile-cut",
         m.light.profile_place,
         "light." + m.light.name + ".profile",
         fmt::format(
             "{} % of the file's flux goes behind the light, which shines from one side only",
             short_number(100 * lost, 3)),
         shape.kind == LightKind::kSpot
             ? "use kind = \"point\" or \"sphere\""
             : "add two_sided = true, or use kind = \"point\" or \"sphere\""});
  }
}

bool LightLoader::take_surface(Making& m, std::shared_ptr<const LuminousSurface> surface) {
  if (!surface) {
    return true;
  }
  m.out.surface = m.detail->surface = std::move(surface);
  m.out.shape.area = m.detail->surface->area();
  m.has_detail = m.levels_by_files = true;
  if (!(m.out.shape.area > 0)) {
    problems_.push_back({Severity::kError,
                         "out-of-range",
                         m.light.place,
                         "light." + m.light.name + ".object",
                         "the object has no surface that could emit",
                         ""});
    return false;
  }
  return true;
}

// Where the light of a dome's picture and of a general sky comes from.
bool LightLoader::take_directions(Making& m) {
  const SourceShape& shape = m.light.shape;
  const bool general_sky = shape.kind == LightKind::kSky && shape.sky.model == SkyModel::kGeneral;
  if (shape.kind != LightKind::kDome && !general_sky) {
    return true;
  }
  m.has_detail = true;
  constexpr int kSkyRows = 128;
  int width = 2 * kSkyRows, height = kSkyRows;
  if (!general_sky) {
    m.detail->dome = dome(m.light);
    if (!m.detail->dome) {
      return false;
    }
    m.levels_by_files = true;
    width = m.detail->dome->width;
    height = m.detail->dome->height;
    m.out.shape.dome_illuminance = m.detail->dome->level_illuminance();
  }
  m.detail->sky = shape.sky;
  std::vector<double> weight(static_cast<std::size_t>(width) * static_cast<std::size_t>(height));
  double sum = 0;
  for (int row = 0; row < height; ++row) {
    const double solid_angle = cell_solid_angle(width, height, row);
    for (int column = 0; column < width; ++column) {
      const auto i = static_cast<std::size_t>(row) * static_cast<std::size_t>(width) +
                     static_cast<std::size_t>(column);
      const double polar = kPiD * (row + 0.5) / height,
                   azimuth = 2 * kPiD * (column + 0.5) / width - kPiD;
      const double luminance = general_sky
                                   ? relative_sky_luminance(shape.sky,
                                                            {std::sin(polar) * std::sin(azimuth),
                                                             std::sin(polar) * std::cos(azimuth),
                                                             std::cos(polar)})
                                   : luminance_of(m.detail->dome->rgb[i]);
      weight[i] = luminance * solid_angle;
      sum += weight[i];
    }
  }
  m.detail->map = DirectionMap(width, height, weight);
  m.detail->mean_luminance = static_cast<float>(sum / (general_sky ? 2 * kPiD : 4 * kPiD));
  return true;
}

// Levels that only files tell: of a profile, a dome's picture, an object's area.
bool LightLoader::take_levels(Making& m) {
  if (!m.levels_by_files) {
    return true;
  }
  const SourceShape& shape = m.out.shape;
  Output output = m.light.output;
  if (!m.light.output_given) {
    output = {Output::Kind::kFlux, shape.profile->flux(), std::nullopt, {}};
    if (!shape.is_zero_size() && shape.kind != LightKind::kSphere && !shape.two_sided) {
      output.value = shape.profile->flux_in_front();
    }
  }
  const LevelsOrFault levels = source_levels(shape, output);
  if (!levels.levels || (shape.kind == LightKind::kDome && !(levels.levels->dome_factor >= 0))) {
    problems_.push_back({Severity::kError,
                         "wrong-unit",
                         m.light.output_place,
                         "light." + m.light.name + ".output",
                         levels.fault,
                         ""});
    return false;
  }
  m.out.levels = *levels.levels;
  const auto divide = [&](auto& level) {
    if (level) {
      level->value *= m.light.share;
    }
  };
  divide(m.out.levels.flux);
  divide(m.out.levels.intensity);
  divide(m.out.levels.luminance);
  return true;
}

// Pictures on a rect, gobos and barn doors, with what they let through.
bool LightLoader::take_masks(Making& m) {
  const LightSpec& light = m.light;
  EmitterDetail& detail = *m.detail;
  if (light.shape.kind == LightKind::kRect && !light.image.empty()) {
    detail.screen = screen(light);
    if (!detail.screen) {
      return false;
    }
    m.has_detail = true;
  }
  if (light.gobo) {
    detail.gobo = gobo(light);
    if (!detail.gobo) {
      return false;
    }
    m.has_detail = true;
    m.out.gobo_transmittance = passing_share(m.out.shape, detail.gobo.get(), nullptr, nullptr);
  }
  if (light.doors) {
    detail.doors = light.doors->doors;
    m.has_detail = true;
    const double both =
        passing_share(m.out.shape, detail.gobo.get(), &*detail.doors, detail.screen.get());
    m.out.doors_transmittance = m.out.gobo_transmittance > 0 ? both / m.out.gobo_transmittance : 0;
  }
  return true;
}

void LightLoader::take_tint(Making& m) {
  if (!m.light.tint_by) {
    return;
  }
  m.has_detail = true;
  PositionTint tint{m.light.tint_by->formula, {}, Eigen::Array3f::Ones(), rig_.render.time};
  for (const auto& [value, rgb] : m.light.tint_by->ramp) {
    tint.ramp.emplace_back(value, rgb.cast<float>().array());
  }
  const LightTable table = light_table(*m.out.color.spectrum);
  for (int c = 0; c < 3; ++c) {
    tint.luminance[c] = tristimulus(table, spectrum_from_rgb(Rgb(Rgb::Unit(c))), 1.0f)[1];
  }
  m.detail->tint = std::move(tint);
}

namespace {

// The light's axes: z the way it shines, x along a tube; of a dome and a sky from east to north, z
// down.
Mat3d frame_of(const LightSpec& light, LightKind kind, const Vec3d& up) {
  Mat3d frame = aimed(light.axis, up, light.roll);
  if (kind == LightKind::kTube) {
    const Mat3d across = aimed(light.along, up, 0);  // z along the tube: x becomes z
    frame.col(0) = across.col(2);
    frame.col(1) = across.col(0);
    frame.col(2) = across.col(1);
  } else if (kind == LightKind::kDome || kind == LightKind::kSky) {
    const Vec3d east = Vec3d::UnitX(), north = up.cross(east);
    frame.col(0) = std::cos(light.rotate) * east - std::sin(light.rotate) * north;
    frame.col(1) = std::cos(light.rotate) * north + std::sin(light.rotate) * east;
    frame.col(2) = -up;
  }
  return frame;
}

void set_shape(Emitter& e, const SourceShape& s) {
  e.kind = s.kind;
  e.two_sided = s.two_sided;
  e.by_intensity = s.by_intensity();
  e.endless = s.endless;
  e.radius = static_cast<float>(s.radius);
  e.half_width = static_cast<float>((s.kind == LightKind::kTube ? s.length : s.width) / 2);
  e.half_height = static_cast<float>(s.height / 2);
  e.half_spread = static_cast<float>(s.half_spread);
  e.hot_center = static_cast<float>(s.hot_center);
  e.weight_scale = s.hot_center > 0
                       ? static_cast<float>(hot_center_weighting(s.kind, s.hot_center, 0, 0))
                       : 1.0f;
  e.half_beam = static_cast<float>(s.beam.half_beam);
  e.beam_exponent = static_cast<float>(s.beam.exponent);
  e.cos_beam = static_cast<float>(std::cos(s.beam.half_beam));
  e.cos_field = static_cast<float>(std::cos(s.beam.half_field));
  e.sky = s.sky.model;
  e.sin2_disc = static_cast<float>(sqr(std::sin(s.angular_diameter / 2)));
}

// Luminance or intensity, dimmed; of a tube without radius the intensity of a meter.
void set_levels(Emitter& e, const LightSpec& light, const LightParts& parts) {
  const SourceShape& s = parts.shape;
  const double level = light.dimmed() * parts.color.transmittance * parts.camera_fade;
  const bool line = s.kind == LightKind::kTube && s.radius == 0;
  if (s.kind == LightKind::kDome) {
    e.luminance = static_cast<float>(level * parts.levels.dome_factor);
  } else if (line) {
    const double per_meter = parts.levels.flux->value / (kPiD * kPiD) / (s.endless ? 1 : s.length);
    e.intensity = static_cast<float>(level * per_meter);
  } else {
    if (parts.levels.luminance) {
      e.luminance = static_cast<float>(level * parts.levels.luminance->value);
    }
    if (e.is_zero_size() || e.by_intensity) {
      e.intensity = static_cast<float>(level * parts.levels.intensity->value);
    }
  }
}

void set_color(Emitter& e, const LightSpec& light, const LightParts& parts) {
  e.table = light_table(*parts.color.spectrum);
  if (light.split_tint) {
    TintChannels channels;
    for (int c = 0; c < 3; ++c) {
      channels[static_cast<std::size_t>(c)] = tint_channel(e.table, c);
    }
    e.channels = std::make_shared<const TintChannels>(channels);
    e.table = channels[0] + channels[1] + channels[2];
  } else if (light.tint) {
    e.table = tinted(e.table, *light.tint);
  }
}

LightCheats cheats_of(const CheatSpec& c) {
  LightCheats out;
  out.direct = static_cast<float>(c.direct);
  out.diffuse = static_cast<float>(c.diffuse);
  out.gloss = static_cast<float>(c.gloss);
  out.bounce = static_cast<float>(c.bounce);
  out.bounce_chroma = static_cast<float>(c.bounce_chroma);
  out.haze = static_cast<float>(c.haze);
  out.shadow = static_cast<float>(c.shadow);
  out.shadow_color = (1.0f - out.shadow) + out.shadow * spectrum_from_rgb(c.shadow_tint);
  out.caustics = static_cast<float>(c.caustics);
  out.visible = c.visible;
  out.bounce_limit = static_cast<float>(c.bounce_limit.value_or(0));
  return out;
}

}  // namespace

Emitter make_emitter(const LightSpec& light, const LightParts& parts, const Vec3d& up) {
  Emitter e;
  set_shape(e, parts.shape);
  e.center = (parts.surface ? parts.surface->center() : light.at).cast<float>();
  const Mat3d frame = frame_of(light, e.kind, up);
  e.frame = {frame.col(0).cast<float>(), frame.col(1).cast<float>(), frame.col(2).cast<float>()};
  set_levels(e, light, parts);
  set_color(e, light, parts);
  e.falloff = light.falloff;
  e.cheats = cheats_of(light.cheat);
  e.only_sampled = e.is_zero_size() || !light.cheat.visible || light.cheat.shadow != 1 ||
                   (light.cheat.shadow_tint.array() > 0).any();
  e.detail = parts.detail;
  return e;
}

}  // namespace jovilux
