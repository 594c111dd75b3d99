#include "cli/light_table.h"

#include "jovilux/base/text.h"
#include "jovilux/units/text.h"

#include <fmt/format.h>

namespace jovilux::cli {
namespace {

std::string cell(const std::optional<double>& v) { return v ? short_number(*v) : "-"; }
template <class Quantity>
std::string cell(const std::optional<Quantity>& q) {
  return q ? short_number(q->value) : "-";
}

bool later_copy(const LightReport& r) { return r.name.ends_with("]") && !r.name.ends_with("[0]"); }

}  // namespace

std::vector<LightReport> one_of_each(const std::vector<LightReport>& reports) {
  std::vector<LightReport> out;
  for (std::size_t i = 0; i < reports.size(); ++i) {
    out.push_back(reports[i]);
    const std::string& name = reports[i].name;
    if (const auto bracket = name.find('['); bracket != std::string::npos) {
      const std::string stem = name.substr(0, bracket + 1);
      std::size_t copies = 1;
      while (i + 1 < reports.size() && reports[i + 1].name.starts_with(stem)) {
        ++i;
        ++copies;
      }
      out.back().name = fmt::format("{}0..{}]", stem, copies - 1);
    }
  }
  return out;
}

std::vector<std::vector<std::string>> light_table(const std::vector<LightReport>& reports) {
  std::vector<std::vector<std::string>> rows = {{"light",
                                                 "kind",
                                                 "lm",
                                                 "peak cd",
                                                 "cd/m2",
                                                 "lm/W",
                                                 "K",
                                                 "dimmer",
                                                 "lx at subject",
                                                 "subject"}};
  for (const LightReport& r : one_of_each(reports)) {
    std::string at = "-", where;
    if (r.subject) {
      at = short_number(r.subject->illuminance_lx);
      where =
          is_distant(r.kind)
              ? r.subject->object
              : fmt::format("{}, {}", r.subject->object, readable_length(r.subject->distance_m));
    }
    rows.push_back({r.name,
                    std::string(to_string(r.kind)),
                    cell(r.levels.flux) + (r.levels.per_meter && r.levels.flux ? " /m" : ""),
                    cell(r.levels.intensity),
                    cell(r.levels.luminance),
                    cell(r.efficacy_lm_w),
                    r.cct_k ? short_number(*r.cct_k) : "-",
                    r.dimmed == 0 ? "off" : short_number(r.dimmed),
                    at,
                    where});
  }
  return rows;
}

std::vector<std::string> losses(const std::vector<LightReport>& reports) {
  std::vector<std::string> out;
  for (const LightReport& r : reports) {
    if (later_copy(r)) {
      continue;
    }
    if (r.stand) {
      out.push_back(fmt::format("{}: stands at an elevation of {} deg, an azimuth of {} deg",
                                r.name,
                                short_number(r.stand->elevation * 180 / kPiD, 3),
                                short_number(r.stand->azimuth * 180 / kPiD, 3)));
    }
    if (r.gel_transmittance < 1) {
      out.push_back(fmt::format("{}: its gels let {} % of the light through",
                                r.name,
                                short_number(100 * r.gel_transmittance, 3)));
    }
    if (r.diffused) {
      out.push_back(fmt::format("{}: behind its sheet the beam is {} deg wide, its field {} deg",
                                r.name,
                                short_number(r.diffused->beam * 180 / kPiD, 3),
                                short_number(r.diffused->field * 180 / kPiD, 3)));
    }
    if (r.gobo_transmittance < 1) {
      const std::string lumens =
          r.levels.flux
              ? fmt::format(": {} lm of {} lm",
                            short_number(r.levels.flux->value * r.dimmed * r.gel_transmittance *
                                         r.gobo_transmittance),
                            short_number(r.levels.flux->value * r.dimmed * r.gel_transmittance))
              : "";
      out.push_back(fmt::format("{}: its gobo lets {} % of the light through{}",
                                r.name,
                                short_number(100 * r.gobo_transmittance, 3),
                                lumens));
    }
    if (r.doors_transmittance < 1) {
      const double before = r.dimmed * r.gel_transmittance * r.gobo_transmittance;
      out.push_back(fmt::format(
          "{}: its barn doors let {} % of the light through{}",
          r.name,
          short_number(100 * r.doors_transmittance, 3),
          r.levels.flux
              ? fmt::format(": {} lm of {} lm",
                            short_number(r.levels.flux->value * before * r.doors_transmittance),
                            short_number(r.levels.flux->value * before))
              : ""));
    }
  }
  return out;
}

std::vector<std::string> departures(const Rig& rig, const std::vector<LightReport>& reports) {
  std::vector<std::string> out;
  for (const LightReport& r : reports) {
    for (const auto& c : r.cheats) {
      if (!later_copy(r)) {
        out.push_back(fmt::format("{}.{} = {}: {}", r.name, c.key, c.value, c.effect));
      }
    }
  }
  for (const ObjectSpec& o : rig.objects) {
    if (!o.array.empty() && !o.name.ends_with("[0]")) {
      continue;
    }
    const std::string& name = o.array.empty() ? o.name : o.array;
    if (!o.throws_shadow) {
      out.push_back(name + ".throws_shadow = false: the direct light of all lamps passes it");
    }
    if (!o.receives_shadow) {
      out.push_back(name +
                    ".receives_shadow = false: the direct light of all lamps reaches it, whatever "
                    "stands between");
    }
    if (!o.seen_by_camera) {
      out.push_back(name + ".seen_by_camera = false: the camera looks through it");
    }
  }
  return out;
}

std::string lost_in_mirrors(const std::vector<std::string>& names,
                            const std::string& what,
                            const std::string& how) {
  return names.empty()
             ? ""
             : fmt::format(
                   "\nnot in {}: the light of {} {}, for lamps without size cannot be met "
                   "there; give them a radius\n",
                   what,
                   join_and(names),
                   how);
}

}  // namespace jovilux::cli
