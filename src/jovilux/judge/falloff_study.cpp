#include "jovilux/judge/falloff_study.h"

#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

#include <cmath>
#include <limits>

#include <fmt/format.h>

namespace jovilux {

std::string law_words(const Falloff& f) {
  std::string out(to_string(f.law));
  switch (f.law) {
    case FalloffLaw::kLinear:
      out += fmt::format(", zero at {}", readable_length(f.zero_at));
      break;
    case FalloffLaw::kPolynomial:
      out += fmt::format(", 1/({} + {} d + {} d^2)",
                         short_number(f.constant),
                         short_number(f.linear),
                         short_number(f.quadratic));
      break;
    case FalloffLaw::kPoints:
      out += fmt::format(", {} points", std::get<0>(f.curve->law).x().size());
      break;
    case FalloffLaw::kFormula:
      out += ", " + printable(std::get<1>(f.curve->law).text());
      break;
    default:
      break;
  }
  if (f.law != FalloffLaw::kInverseSquare) {
    out += fmt::format(", matches_at {}", readable_length(f.matches_at));
  }
  if (f.near_softening > 0) {
    out += fmt::format(", near_softening {}", readable_length(f.near_softening));
  }
  if (f.has_range) {
    out += fmt::format(
        ", range {} to {}", readable_length(f.range_start), readable_length(f.range_end));
  }
  return out;
}

// Lights that have a distance: the sun, skies and luminous objects have none that is one number.
std::optional<FalloffSubject> falloff_subject(const Rig& rig,
                                              const Scene& scene,
                                              std::size_t light) {
  const LightSpec& l = rig.lights[light];
  if (is_distant(l.shape.kind) || l.shape.kind == LightKind::kObject) {
    return std::nullopt;
  }
  const LightParts& parts = scene.lights[light];
  const double dimmer = l.on && l.dimmer > 0 ? l.dimmer : 1;
  return FalloffSubject{
      l.name,
      parts.shape,
      parts.levels,
      dimmer * parts.color.transmittance * parts.gobo_transmittance * parts.doors_transmittance,
      l.falloff};
}

namespace {

// The distance at which a law that is above 0 at `lit` and 0 at `dark` [m] ends.
double end_of(const Falloff& law, double lit, double dark) {
  if (law.has_range && law.range_end > lit && law.range_end <= dark) {
    return law.range_end;
  }
  if (law.law == FalloffLaw::kLinear && law.zero_at > lit && law.zero_at <= dark) {
    return law.zero_at;
  }
  constexpr int kHalvings = 40;
  for (int i = 0; i < kHalvings; ++i) {
    const double middle = 0.5 * (lit + dark);
    (falloff_weight(law, middle) > 0 ? lit : dark) = middle;
  }
  return dark;
}

}  // namespace

FalloffStudy study_falloff(const std::vector<FalloffSubject>& subjects, double to) {
  FalloffStudy out;
  // Steps of a 24th of a doubling, back from the end: the distances that halve it are among them.
  constexpr int kStepsPerDoubling = 24;
  const int steps =
      static_cast<int>(std::ceil(std::log2(to / std::min(0.05, to / 100)) * kStepsPerDoubling));
  for (int i = steps; i >= 0; --i) {
    out.distance_m.push_back(to * std::exp2(-static_cast<double>(i) / kStepsPerDoubling));
  }
  constexpr double kUnknown = std::numeric_limits<double>::quiet_NaN();
  for (const FalloffSubject& s : subjects) {
    FalloffCurveReport c;
    c.name = s.name;
    c.law = law_words(s.law);
    const bool is_round = s.shape.kind == LightKind::kSphere || s.shape.kind == LightKind::kTube;
    // Far away every bounded source is a point.
    const double size =
        std::max({s.shape.radius, s.shape.width, s.shape.height, s.shape.length, 0.01});
    const double far = 1e4 * size;
    const double intensity = s.shape.endless ? 0
                                             : illuminance_on_axis(s.shape, s.levels, far).value *
                                                   far * far * s.remaining;
    double run_from = 0;
    std::size_t run = 0, best = 0;
    for (std::size_t i = 0; i < out.distance_m.size(); ++i) {
      const double d = out.distance_m[i];
      const bool inside = is_round && d <= s.shape.radius;
      const double physical =
          inside ? kUnknown : illuminance_on_axis(s.shape, s.levels, d).value * s.remaining;
      const double factor = falloff_weight(s.law, d);
      c.physical_lx.push_back(physical);
      c.illuminance_lx.push_back(physical * factor);
      c.factor.push_back(factor);
      if (!s.shape.endless) {
        c.inverse_square_lx.push_back(intensity / (d * d));
      }
      if (factor > c.largest_factor || i == 0) {
        c.largest_factor = factor;
        c.largest_at = d;
      }
      if (factor < c.smallest_factor || i == 0) {
        c.smallest_factor = factor;
        c.smallest_at = d;
      }
      if (factor > 0) {
        c.ends_at = 0;
      } else if (c.ends_at == 0) {
        c.ends_at = i > 0 ? end_of(s.law, out.distance_m[i - 1], d) : d;
      }
      // The longest stretch of distances within 5 % of physics: where the law can be trusted.
      if (std::abs(factor - 1) <= 0.05) {
        if (run == 0) {
          run_from = d;
        }
        if (++run > best) {
          best = run;
          c.agrees_from = run_from;
          c.agrees_to = d;
        }
      } else {
        run = 0;
      }
    }
    out.curves.push_back(std::move(c));
  }
  return out;
}

std::string departure_words(const FalloffCurveReport& c) {
  if (c.largest_factor < 1.0005 && c.smallest_factor > 0.9995) {
    return "physical at every distance";
  }
  std::string out = c.agrees_to > c.agrees_from ? fmt::format("within 5 % of physics from {} to {}",
                                                              readable_length(c.agrees_from),
                                                              readable_length(c.agrees_to))
                    : c.agrees_from > 0
                        ? fmt::format("equals physics at {}", readable_length(c.agrees_from))
                        : std::string("nowhere within 5 % of physics");
  if (c.largest_factor > 1.05) {
    out += fmt::format(
        "; {} times at {}", short_number(c.largest_factor, 3), readable_length(c.largest_at));
  }
  if (c.ends_at > 0) {
    out += fmt::format("; nothing from {} on", readable_length(c.ends_at));
  } else if (c.smallest_factor < 0.95) {
    out += fmt::format(
        "; {} times at {}", short_number(c.smallest_factor, 3), readable_length(c.smallest_at));
  }
  return out;
}

}  // namespace jovilux
