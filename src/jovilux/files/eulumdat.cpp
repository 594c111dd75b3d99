#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"
#include "jovilux/files/photometric_file.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

// The lines of the file in turn: one value each.
class Lines {
 public:
  Lines(std::string_view text, const std::string& path) : rest_(text), path_(path) {}

  std::string_view text() {
    if (rest_.empty() && !fault_) {
      fault_ = photometric_problem(Severity::kError, path_, number_, 0, "the file ends too soon");
    }
    if (fault_) {
      return {};
    }
    ++number_;
    const auto end = rest_.find_first_of("\r\n");
    const std::string_view line = rest_.substr(0, end);
    if (end == std::string_view::npos) {
      rest_ = {};
    } else {
      rest_.remove_prefix(
          end + (rest_[end] == '\r' && end + 1 < rest_.size() && rest_[end + 1] == '\n' ? 2 : 1));
    }
    return trimmed(line);
  }

  double number(std::string_view what) {
    std::string word(text());
    std::replace(word.begin(), word.end(), ',', '.');  // decimal commas
    const auto value = parse_number(word.starts_with("+") ? std::string_view(word).substr(1)
                                                          : std::string_view(word));
    if (!fault_ && (!value || std::abs(*value) > 1e12)) {
      fault_ =
          photometric_problem(Severity::kError,
                              path_,
                              number_,
                              1,
                              fmt::format("found \"{}\"; expected {}", printable(word, 40), what));
    }
    return fault_ ? 0 : *value;
  }

  int whole(std::string_view what, int lo, int hi) {
    const double v = number(what);
    if (!fault_ && !(v >= lo && v <= hi && v == std::floor(v))) {
      fault_ =
          photometric_problem(Severity::kError,
                              path_,
                              number_,
                              1,
                              fmt::format("found {}; expected {}, a whole number from {} to {}",
                                          short_number(v, 9),
                                          what,
                                          lo,
                                          hi));
    }
    return fault_ ? lo : static_cast<int>(v);
  }

  std::uint32_t line() const { return number_; }
  const std::optional<Problem>& fault() const { return fault_; }

 private:
  std::string_view rest_;
  const std::string& path_;
  std::uint32_t number_ = 0;
  std::optional<Problem> fault_;
};

}  // namespace

// Source: A. Stockmar, "EULUMDAT - ein Leuchtendatenformat fuer den europaeischen
// Beleuchtungsplaner", 1990.
Result<PhotometricFile> parse_eulumdat(std::string_view text, const std::string& path) {
  PhotometricFile out;
  out.format = "EULUMDAT";
  Lines in(text, path);
  Problems problems;
  out.maker = printable(in.text(), 200);
  in.whole("the type of luminaire", 0, 3);
  const int symmetry = in.whole("the symmetry", 0, 4);
  const int planes = in.whole("the number of C planes", 1, 721);
  in.number("the distance of C planes");
  const int gammas = in.whole("the number of gamma angles", 2, 721);
  in.number("the distance of gamma angles");
  out.test = printable(in.text(), 200);
  out.luminaire = printable(in.text(), 200);
  out.catalog = printable(in.text(), 200);
  in.text();  // file name
  in.text();  // date and user
  in.number("the luminaire's length");
  in.number("the luminaire's width");
  in.number("the luminaire's height");
  const double length = in.number("the length of the luminous area") / 1000;
  const double width = in.number("the width of the luminous area") / 1000;
  for (int i = 0; i < 4; ++i) {
    out.height = std::max(out.height, in.number("a height of the luminous area") / 1000);
  }
  in.number("the downward share of the flux");
  const double efficiency = in.number("the light output ratio") / 100;
  const double factor = in.number("the conversion factor");
  in.number("the tilt during measurement");
  const int sets = in.whole("the number of lamp sets", 1, 20);
  bool absolute = false;
  for (int s = 0; s < sets && !in.fault(); ++s) {
    const double count = in.number("the number of lamps");
    const std::string_view lamp = in.text();
    const double flux = in.number("the flux of the lamps");
    in.text();  // color temperature
    in.text();  // color rendering
    const double watts = in.number("the watts of the lamps");
    if (s == 0) {  // the sets are alternatives or add up; files add them up
      out.lamps = static_cast<int>(std::clamp(std::abs(count), 1.0, 1e6));
      out.lamp = printable(lamp, 200);
    }
    absolute = absolute || count < 0;
    out.lamp_lumens += flux;
    out.watts += std::max(0.0, watts);
  }
  const std::uint32_t lamps_line = in.line();
  for (int i = 0; i < 10; ++i) {
    in.number("a direct ratio");
  }
  if (in.fault()) {
    problems.push_back(*in.fault());
    return problems;
  }
  if (symmetry >= 2 && planes % (symmetry == 4 ? 4 : 2) != 0) {
    problems.push_back(photometric_problem(
        Severity::kError,
        path,
        4,
        1,
        fmt::format("{} C planes cannot have the symmetry {}; expected a multiple of {}",
                    planes,
                    symmetry,
                    symmetry == 4 ? 4 : 2)));
    return problems;
  }
  if (symmetry == 3 && planes % 4 != 0) {
    problems.push_back(photometric_problem(
        Severity::kError,
        path,
        4,
        1,
        fmt::format("{} C planes cannot have the symmetry 3; expected a multiple of 4", planes)));
    return problems;
  }
  std::vector<double> c(static_cast<std::size_t>(planes));
  for (double& v : c) {
    v = in.number("a C angle") * kDegree;
  }
  CandelaGrid& g = out.grid;
  for (int i = 0; i < gammas; ++i) {
    g.ver_rad.push_back(in.number("a gamma angle") * kDegree);
  }
  const std::uint32_t angles_line = in.line();
  // The planes that are listed: first (from 0) and how many.
  int first = 0, listed = planes;
  switch (symmetry) {
    case 1:
      listed = 1;
      g.symmetry = PhotometricSymmetry::kRotational;
      break;
    case 2:
      listed = planes / 2 + 1;
      g.symmetry = PhotometricSymmetry::kBilateral;
      break;
    case 3:
      first = 3 * planes / 4;
      listed = planes / 2 + 1;
      g.symmetry = PhotometricSymmetry::kBilateral90;
      break;
    case 4:
      listed = planes / 4 + 1;
      g.symmetry = PhotometricSymmetry::kQuadrant;
      break;
    default:
      g.symmetry = planes == 1 ? PhotometricSymmetry::kRotational : PhotometricSymmetry::kNone;
      break;
  }
  if (static_cast<std::size_t>(listed) * static_cast<std::size_t>(gammas) > kMaxCandelaValues) {
    problems.push_back(photometric_problem(
        Severity::kError,
        path,
        4,
        1,
        fmt::format("{} x {} intensities; at most {}", listed, gammas, kMaxCandelaValues)));
    return problems;
  }
  if (out.lamp_lumens <= 0) {
    problems.push_back(
        photometric_problem(Severity::kError,
                            path,
                            lamps_line,
                            0,
                            fmt::format("the lamps have {} lm; intensities are in cd/klm of them",
                                        short_number(out.lamp_lumens))));
    return problems;
  }
  if (!(factor > 0)) {
    problems.push_back(
        photometric_problem(Severity::kWarning,
                            path,
                            24,
                            1,
                            fmt::format("the conversion factor is {}", short_number(factor)),
                            "it is taken as 1"));
  }
  const double candela_per_value = out.lamp_lumens / 1000 * (factor > 0 ? factor : 1);
  std::vector<std::vector<double>> rows;
  for (int p = 0; p < listed; ++p) {
    std::vector<double> row(static_cast<std::size_t>(gammas));
    for (double& v : row) {
      v = in.number("an intensity") * candela_per_value;
    }
    rows.push_back(std::move(row));
    if (in.fault()) {
      problems.push_back(*in.fault());
      return problems;
    }
  }
  if (symmetry == 3) {
    // C270 over C0 to C90, told as C90 to C270: what mirrors at this plane is the same on both of
    // its sides.
    for (int p = listed; p-- > 0;) {
      const double at = c[static_cast<std::size_t>((first + p) % planes)];
      const double signed_angle = at > kPiD * 1.25 ? at - 2 * kPiD : at;  // -90 .. 90
      g.hor_rad.push_back(kPiD - signed_angle);
      g.candela.insert(g.candela.end(),
                       rows[static_cast<std::size_t>(p)].begin(),
                       rows[static_cast<std::size_t>(p)].end());
    }
  } else {
    for (int p = 0; p < listed; ++p) {
      g.hor_rad.push_back(
          g.symmetry == PhotometricSymmetry::kRotational ? 0 : c[static_cast<std::size_t>(p)]);
      g.candela.insert(g.candela.end(),
                       rows[static_cast<std::size_t>(p)].begin(),
                       rows[static_cast<std::size_t>(p)].end());
    }
  }
  out.length = length;
  out.width = width == 0 ? -length : width;
  out.stated_efficiency = absolute ? 0 : efficiency;
  // The symmetry that the file states asks for planes that end where it mirrors.
  const auto ends_at = [&](double lo, double hi) {
    return std::abs(g.hor_rad.front() - lo * kDegree) < 1e-3 &&
           std::abs(g.hor_rad.back() - hi * kDegree) < 1e-3;
  };
  if ((symmetry == 2 && !ends_at(0, 180)) || (symmetry == 3 && !ends_at(90, 270)) ||
      (symmetry == 4 && !ends_at(0, 90))) {
    problems.push_back(photometric_problem(
        Severity::kError,
        path,
        angles_line,
        0,
        fmt::format("the listed C planes run from {} to {}; the symmetry {} asks for {}",
                    short_number(g.hor_rad.front() / kDegree, 6),
                    short_number(g.hor_rad.back() / kDegree, 6),
                    symmetry,
                    symmetry == 2   ? "0 to 180"
                    : symmetry == 3 ? "270 over 0 to 90"
                                    : "0 to 90")));
    return problems;
  }
  check_photometry(out, path, angles_line, problems);
  if (absolute) {
    out.lamp_lumens = 0;
  }
  if (has_errors(problems)) {
    return problems;
  }
  return {std::move(out), std::move(problems)};
}

std::string eulumdat_text(const PhotometricFile& f) {
  const LuminousDistribution whole(f.grid);
  CandelaGrid g = f.grid;
  const bool resample = g.type != PhotometricType::kC;
  // All planes are named in the file, even those that its symmetry leaves out: evenly apart where
  // they are.
  std::vector<double> planes;
  if (resample) {
    g = CandelaGrid{PhotometricType::kC, PhotometricSymmetry::kNone, {}, {}, {}};
    for (int i = 0; i < 72; ++i) {
      g.hor_rad.push_back(i * 5 * kDegree);
    }
    for (int i = 0; i <= 72; ++i) {
      g.ver_rad.push_back(i * 2.5 * kDegree);
    }
    for (const double c : g.hor_rad) {
      for (const double v : g.ver_rad) {
        g.candela.push_back(
            whole.intensity(Vec3d(std::sin(v) * std::cos(c), std::sin(v) * std::sin(c), std::cos(v))
                                .cast<float>()));
      }
    }
  }
  int symmetry = 0;
  std::vector<std::size_t> order;  // rows of g in the file's order
  for (std::size_t h = 0; h < g.hor_rad.size(); ++h) {
    order.push_back(h);
  }
  const auto& hor = g.hor_rad;
  switch (g.symmetry) {
    case PhotometricSymmetry::kRotational:
      symmetry = 1;
      for (int i = 0; i < 24; ++i) {
        planes.push_back(i * 15 * kDegree);
      }
      break;
    case PhotometricSymmetry::kQuadrant:
      symmetry = 4;
      for (const double a : hor) planes.push_back(a);
      for (std::size_t i = hor.size() - 1; i-- > 0;) planes.push_back(kPiD - hor[i]);
      for (std::size_t i = 1; i < hor.size(); ++i) planes.push_back(kPiD + hor[i]);
      for (std::size_t i = hor.size() - 1; i-- > 1;) planes.push_back(2 * kPiD - hor[i]);
      break;
    case PhotometricSymmetry::kBilateral:
      symmetry = 2;
      for (const double a : hor) planes.push_back(a);
      for (std::size_t i = hor.size() - 1; i-- > 1;) planes.push_back(2 * kPiD - hor[i]);
      break;
    case PhotometricSymmetry::kBilateral90: {
      // The format counts planes in quarters; where the listed ones have no plane at 180, or uneven
      // halves, all are told.
      symmetry = 0;
      order.clear();
      std::vector<std::pair<double, std::size_t>> all;
      for (std::size_t i = 0; i < hor.size(); ++i) {
        all.emplace_back(hor[i], i);
        const double mirrored = std::fmod(kPiD - hor[i] + 2 * kPiD, 2 * kPiD);
        if (i > 0 && i + 1 < hor.size()) {
          all.emplace_back(mirrored, i);
        }
      }
      std::sort(all.begin(), all.end());
      if (all.size() % 4 == 0 && hor.size() == all.size() / 2 + 1 &&
          std::abs(all[0].first) < 1e-6) {
        symmetry = 3;
        for (const auto& [a, i] : all) planes.push_back(a);
        // C270, .. C0, .. C90 are the mirrors of 270 .. 90.
        for (std::size_t k = 0; k < hor.size(); ++k) order.push_back(hor.size() - 1 - k);
      } else {
        for (const auto& [a, i] : all) {
          planes.push_back(a);
          order.push_back(i);
        }
      }
      break;
    }
    case PhotometricSymmetry::kNone:
      for (std::size_t i = 0; i < hor.size(); ++i) {
        if (hor[i] < 2 * kPiD - 1e-6) {
          planes.push_back(hor[i]);
        } else {
          order.pop_back();  // a closing plane repeats the first
        }
      }
      break;
  }
  const auto step = [](const std::vector<double>& v) {
    for (std::size_t i = 2; i < v.size(); ++i) {
      if (std::abs((v[i] - v[i - 1]) - (v[1] - v[0])) > 1e-6) {
        return 0.0;  // the format's word for uneven steps
      }
    }
    return v.size() > 1 ? (v[1] - v[0]) / kDegree : 0.0;
  };
  const bool absolute = !(f.lamp_lumens > 0);
  const double lumens = absolute ? whole.flux() : f.lamp_lumens;
  std::string out;
  const auto text = [&](const std::string& s, std::size_t limit) {
    out += printable(s, limit) + "\r\n";
  };
  const auto number = [&](double v) { out += fmt::format("{:.8g}\r\n", v); };
  text(f.maker.empty() ? "unknown" : f.maker, 78);
  number(f.width < 0 || g.symmetry == PhotometricSymmetry::kRotational ? 1
         : f.length > 3 * f.width                                      ? 2
                                                                       : 3);
  number(symmetry);
  number(static_cast<double>(planes.size()));
  number(step(planes));
  number(static_cast<double>(g.ver_rad.size()));
  number(step(g.ver_rad));
  text(f.test, 78);
  text(f.luminaire, 78);
  text(f.catalog, 78);
  text("", 8);
  text("", 78);
  const bool round = f.width <= 0;
  const double length = round ? std::max(std::abs(f.width), std::abs(f.length)) : f.length,
               width = round ? 0 : f.width;
  for (const double v :
       {length, width, f.height, length, width, f.height, f.height, f.height, f.height}) {
    number(std::abs(v) * 1000);
  }
  number(100 * whole.flux_in_front() / whole.flux());
  number(100 * whole.flux() / lumens);
  number(1);
  number(0);
  number(1);
  number(absolute ? -1 : f.lamps);
  text(f.lamp.empty() ? "unknown" : f.lamp, 40);
  number(lumens);
  text("-", 16);
  text("-", 6);
  number(f.watts);
  for (int i = 0; i < 10; ++i) {
    number(0);
  }
  for (const double a : planes) {
    number(a / kDegree);
  }
  for (const double a : g.ver_rad) {
    number(a / kDegree);
  }
  for (const std::size_t h : order) {
    for (std::size_t v = 0; v < g.ver_rad.size(); ++v) {
      number(g.at(h, v) * 1000 / lumens);
    }
  }
  return out;
}

}  // namespace jovilux
