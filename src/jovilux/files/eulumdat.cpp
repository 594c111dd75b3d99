#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"
#include "jovilux/files/photometric_file.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <utility>
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
    // Files of German programs have decimal commas.
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

// Reads a file part by part; each part returns false where the file cannot be read, with the error
// among problems_.
// Source: A. Stockmar, "EULUMDAT - ein Leuchtendatenformat fuer den europaeischen
// Beleuchtungsplaner", 1990.
class EulumdatReader {
 public:
  EulumdatReader(std::string_view text, const std::string& path) : path_(path), in_(text, path) {}

  Result<PhotometricFile> read() {
    out_.format = "EULUMDAT";
    read_luminaire();
    read_lamps();
    if (!fits_symmetry() || !read_angles() || !read_table() || !check()) {
      return std::move(problems_);
    }
    return {std::move(out_), std::move(problems_)};
  }

 private:
  // Lines with numbers of their own in the format.
  static constexpr std::uint32_t kPlanesLine = 4, kFactorLine = 24;

  bool fail(std::uint32_t line, std::uint32_t column, std::string what) {
    problems_.push_back(
        photometric_problem(Severity::kError, path_, line, column, std::move(what), ""));
    return false;
  }
  bool fault() {
    if (in_.fault()) {
      problems_.push_back(*in_.fault());
    }
    return in_.fault().has_value();
  }

  void read_luminaire() {
    out_.maker = printable(in_.text(), 200);
    in_.whole("the type of luminaire", 0, 3);
    symmetry_ = in_.whole("the symmetry", 0, 4);
    planes_ = in_.whole("the number of C planes", 1, 721);
    in_.number("the distance of C planes");
    gammas_ = in_.whole("the number of gamma angles", 2, 721);
    in_.number("the distance of gamma angles");
    out_.test = printable(in_.text(), 200);
    out_.luminaire = printable(in_.text(), 200);
    out_.catalog = printable(in_.text(), 200);
    in_.text();  // file name
    in_.text();  // date and user
    in_.number("the luminaire's length");
    // Lengths are in millimeters. A width of 0 stands for a round area, which is told as a negative
    // one.
    in_.number("the luminaire's width");
    in_.number("the luminaire's height");
    out_.length = in_.number("the length of the luminous area") / 1000;
    const double width = in_.number("the width of the luminous area") / 1000;
    out_.width = width == 0 ? -out_.length : width;
    for (int i = 0; i < 4; ++i) {
      out_.height = std::max(out_.height, in_.number("a height of the luminous area") / 1000);
    }
    in_.number("the downward share of the flux");
    out_.stated_efficiency = in_.number("the light output ratio") / 100;
    factor_ = in_.number("the conversion factor");
    in_.number("the tilt during measurement");
  }

  void read_lamps() {
    const int sets = in_.whole("the number of lamp sets", 1, 20);
    for (int s = 0; s < sets && !in_.fault(); ++s) {
      const double count = in_.number("the number of lamps");
      const std::string_view lamp = in_.text();
      const double flux = in_.number("the flux of the lamps");
      in_.text();  // color temperature
      in_.text();  // color rendering
      const double watts = in_.number("the watts of the lamps");
      if (s == 0) {  // the sets are alternatives or add up; files add them up
        out_.lamps = static_cast<int>(std::clamp(std::abs(count), 1.0, 1e6));
        out_.lamp = printable(lamp, 200);
      }
      // A negative number of lamps stands for a table in cd, whatever the lamps have.
      absolute_ = absolute_ || count < 0;
      out_.lamp_lumens += flux;
      out_.watts += std::max(0.0, watts);
    }
    lamps_line_ = in_.line();
    // The direct ratios of rooms are passed over: they follow from the table.
    for (int i = 0; i < 10; ++i) {
      in_.number("a direct ratio");
    }
    if (absolute_) {
      out_.stated_efficiency = 0;
    }
  }

  bool fits_symmetry() {
    if (fault()) {
      return false;
    }
    const int multiple = symmetry_ >= 3 ? 4 : symmetry_ == 2 ? 2 : 1;
    if (planes_ % multiple != 0) {
      return fail(kPlanesLine,
                  1,
                  fmt::format("{} C planes cannot have the symmetry {}; expected a multiple of {}",
                              planes_,
                              symmetry_,
                              multiple));
    }
    return true;
  }

  bool read_angles() {
    c_.resize(static_cast<std::size_t>(planes_));
    for (double& v : c_) {
      v = in_.number("a C angle") * kDegree;
    }
    for (int i = 0; i < gammas_; ++i) {
      out_.grid.ver_rad.push_back(in_.number("a gamma angle") * kDegree);
    }
    angles_line_ = in_.line();
    take_listed_planes();
    if (static_cast<std::size_t>(listed_) * static_cast<std::size_t>(gammas_) > kMaxCandelaValues) {
      return fail(
          kPlanesLine,
          1,
          fmt::format("{} x {} intensities; at most {}", listed_, gammas_, kMaxCandelaValues));
    }
    return true;
  }

  // The planes that are listed: first_ (from 0) and how many.
  void take_listed_planes() {
    PhotometricSymmetry& s = out_.grid.symmetry;
    switch (symmetry_) {
      case 1:
        listed_ = 1;
        s = PhotometricSymmetry::kRotational;
        break;
      case 2:
        listed_ = planes_ / 2 + 1;
        s = PhotometricSymmetry::kBilateral;
        break;
      case 3:
        first_ = 3 * planes_ / 4;
        listed_ = planes_ / 2 + 1;
        s = PhotometricSymmetry::kBilateral90;
        break;
      case 4:
        listed_ = planes_ / 4 + 1;
        s = PhotometricSymmetry::kQuadrant;
        break;
      default:
        listed_ = planes_;
        s = planes_ == 1 ? PhotometricSymmetry::kRotational : PhotometricSymmetry::kNone;
        break;
    }
  }

  bool read_table() {
    if (out_.lamp_lumens <= 0) {
      return fail(lamps_line_,
                  0,
                  fmt::format("the lamps have {} lm; intensities are in cd/klm of them",
                              short_number(out_.lamp_lumens)));
    }
    if (!(factor_ > 0)) {
      problems_.push_back(
          photometric_problem(Severity::kWarning,
                              path_,
                              kFactorLine,
                              1,
                              fmt::format("the conversion factor is {}", short_number(factor_)),
                              "it is taken as 1"));
    }
    const double candela_per_value = out_.lamp_lumens / 1000 * (factor_ > 0 ? factor_ : 1);
    std::vector<std::vector<double>> rows(static_cast<std::size_t>(listed_));
    for (std::vector<double>& row : rows) {
      row.resize(static_cast<std::size_t>(gammas_));
      for (double& v : row) {
        v = in_.number("an intensity") * candela_per_value;
      }
      if (fault()) {
        return false;
      }
    }
    put_planes(rows);
    return true;
  }

  void put_planes(const std::vector<std::vector<double>>& rows) {
    CandelaGrid& g = out_.grid;
    const auto put = [&](double angle, int row) {
      const std::vector<double>& values = rows[static_cast<std::size_t>(row)];
      g.hor_rad.push_back(angle);
      g.candela.insert(g.candela.end(), values.begin(), values.end());
    };
    if (symmetry_ != 3) {
      for (int p = 0; p < listed_; ++p) {
        put(g.symmetry == PhotometricSymmetry::kRotational ? 0 : c_[static_cast<std::size_t>(p)],
            p);
      }
      return;
    }
    // C270 over C0 to C90, told as C90 to C270: what mirrors at this plane is the same on both of
    // its sides.
    for (int p = listed_; p-- > 0;) {
      const double at = c_[static_cast<std::size_t>((first_ + p) % planes_)];
      const double signed_angle = at > kPiD * 1.25 ? at - 2 * kPiD : at;  // -90 .. 90
      put(kPiD - signed_angle, p);
    }
  }

  bool check() {
    // The symmetry that the file states asks for planes that end where it mirrors.
    const CandelaGrid& g = out_.grid;
    const auto ends_at = [&](double lo, double hi) {
      return std::abs(g.hor_rad.front() - lo * kDegree) < 1e-3 &&
             std::abs(g.hor_rad.back() - hi * kDegree) < 1e-3;
    };
    if ((symmetry_ == 2 && !ends_at(0, 180)) || (symmetry_ == 3 && !ends_at(90, 270)) ||
        (symmetry_ == 4 && !ends_at(0, 90))) {
      return fail(angles_line_,
                  0,
                  fmt::format("the listed C planes run from {} to {}; the symmetry {} asks for {}",
                              short_number(g.hor_rad.front() / kDegree, 6),
                              short_number(g.hor_rad.back() / kDegree, 6),
                              symmetry_,
                              symmetry_ == 2   ? "0 to 180"
                              : symmetry_ == 3 ? "270 over 0 to 90"
                                               : "0 to 90"));
    }
    check_photometry(out_, path_, angles_line_, problems_);
    if (absolute_) {
      out_.lamp_lumens = 0;
    }
    return !has_errors(problems_);
  }

  const std::string& path_;
  Lines in_;
  PhotometricFile out_;
  Problems problems_;
  int symmetry_ = 0, planes_ = 0, gammas_ = 0;
  int first_ = 0, listed_ = 0;  // of the planes
  std::vector<double> c_;       // angles of all planes [rad]
  double factor_ = 1;           // of conversion
  bool absolute_ = false;       // the table is in cd, whatever the lamps have
  std::uint32_t lamps_line_ = 0, angles_line_ = 0;
};

// What the format's list of planes says of a grid: the number of its symmetry, the angles of all
// planes, also of those that the symmetry leaves out, and the rows of the grid in the file's order.
struct ListedPlanes {
  int symmetry = 0;
  std::vector<double> planes;  // [rad]
  std::vector<std::size_t> order;
};

// The format counts planes in quarters; where the listed ones have no plane at 180, or uneven
// halves, all are told.
ListedPlanes planes_about_90(const std::vector<double>& hor) {
  ListedPlanes out;
  std::vector<std::pair<double, std::size_t>> all;
  for (std::size_t i = 0; i < hor.size(); ++i) {
    all.emplace_back(hor[i], i);
    if (i > 0 && i + 1 < hor.size()) {
      all.emplace_back(std::fmod(kPiD - hor[i] + 2 * kPiD, 2 * kPiD), i);
    }
  }
  std::sort(all.begin(), all.end());
  for (const auto& [angle, row] : all) {
    out.planes.push_back(angle);
    out.order.push_back(row);
  }
  if (all.size() % 4 == 0 && hor.size() == all.size() / 2 + 1 && std::abs(all[0].first) < 1e-6) {
    out.symmetry = 3;
    // C270, .. C0, .. C90 are the mirrors of 270 .. 90.
    out.order.resize(hor.size());
    std::iota(out.order.rbegin(), out.order.rend(), std::size_t{0});
  }
  return out;
}

ListedPlanes listed_planes(const CandelaGrid& g) {
  const std::vector<double>& hor = g.hor_rad;
  ListedPlanes out;
  out.order.resize(hor.size());
  std::iota(out.order.begin(), out.order.end(), std::size_t{0});
  const auto mirrored = [&](double about, std::size_t from, std::size_t to) {
    for (std::size_t i = from; i-- > to;) {
      out.planes.push_back(about - hor[i]);
    }
  };
  switch (g.symmetry) {
    case PhotometricSymmetry::kRotational:
      out.symmetry = 1;
      for (int i = 0; i < 24; ++i) {
        out.planes.push_back(i * 15 * kDegree);
      }
      break;
    case PhotometricSymmetry::kQuadrant:
      out.symmetry = 4;
      out.planes = hor;
      mirrored(kPiD, hor.size() - 1, 0);
      for (std::size_t i = 1; i < hor.size(); ++i) {
        out.planes.push_back(kPiD + hor[i]);
      }
      mirrored(2 * kPiD, hor.size() - 1, 1);
      break;
    case PhotometricSymmetry::kBilateral:
      out.symmetry = 2;
      out.planes = hor;
      mirrored(2 * kPiD, hor.size() - 1, 1);
      break;
    case PhotometricSymmetry::kBilateral90:
      return planes_about_90(hor);
    case PhotometricSymmetry::kNone:
      for (const double angle : hor) {
        if (angle < 2 * kPiD - 1e-6) {
          out.planes.push_back(angle);
        } else {
          out.order.pop_back();  // a closing plane repeats the first
        }
      }
      break;
  }
  return out;
}

// A grid of types A and B in planes of type C each 5 degrees.
CandelaGrid in_c_planes(const LuminousDistribution& whole) {
  CandelaGrid g{PhotometricType::kC, PhotometricSymmetry::kNone, {}, {}, {}};
  for (int i = 0; i < 72; ++i) {
    g.hor_rad.push_back(i * 5 * kDegree);
  }
  for (int i = 0; i <= 72; ++i) {
    g.ver_rad.push_back(i * 2.5 * kDegree);
  }
  for (const double c : g.hor_rad) {
    for (const double v : g.ver_rad) {
      const Vec3d direction(std::sin(v) * std::cos(c), std::sin(v) * std::sin(c), std::cos(v));
      g.candela.push_back(whole.intensity(direction.cast<float>()));
    }
  }
  return g;
}

// The distance of angles [deg]; 0, the format's word for uneven steps.
double even_step(const std::vector<double>& v) {
  for (std::size_t i = 2; i < v.size(); ++i) {
    if (std::abs((v[i] - v[i - 1]) - (v[1] - v[0])) > 1e-6) {
      return 0;
    }
  }
  return v.size() > 1 ? (v[1] - v[0]) / kDegree : 0.0;
}

// One value a line.
class LineWriter {
 public:
  void text(const std::string& s, std::size_t limit) { out_ += printable(s, limit) + "\r\n"; }
  void number(double v) { out_ += fmt::format("{:.8g}\r\n", v); }
  std::string out() { return std::move(out_); }

 private:
  std::string out_;
};

// The lengths of luminaire and luminous area, and the heights of the latter.
void write_sizes(LineWriter& out, const PhotometricFile& f) {
  const bool round = f.width <= 0;
  const double length = round ? std::max(std::abs(f.width), std::abs(f.length)) : f.length,
               width = round ? 0 : f.width;
  for (const double v :
       {length, width, f.height, length, width, f.height, f.height, f.height, f.height}) {
    out.number(std::abs(v) * 1000);
  }
}

}  // namespace

Result<PhotometricFile> parse_eulumdat(std::string_view text, const std::string& path) {
  return EulumdatReader(text, path).read();
}

std::string eulumdat_text(const PhotometricFile& f) {
  const LuminousDistribution whole(f.grid);
  const CandelaGrid g = f.grid.type == PhotometricType::kC ? f.grid : in_c_planes(whole);
  const ListedPlanes listed = listed_planes(g);
  const bool absolute = !(f.lamp_lumens > 0);
  const double lumens = absolute ? whole.flux() : f.lamp_lumens;
  LineWriter out;
  out.text(f.maker.empty() ? "unknown" : f.maker, 78);
  out.number(f.width < 0 || g.symmetry == PhotometricSymmetry::kRotational ? 1
             : f.length > 3 * f.width                                      ? 2
                                                                           : 3);
  out.number(listed.symmetry);
  out.number(static_cast<double>(listed.planes.size()));
  out.number(even_step(listed.planes));
  out.number(static_cast<double>(g.ver_rad.size()));
  out.number(even_step(g.ver_rad));
  out.text(f.test, 78);
  out.text(f.luminaire, 78);
  out.text(f.catalog, 78);
  out.text("", 8);   // file name
  out.text("", 78);  // date and user
  write_sizes(out, f);
  out.number(100 * whole.flux_in_front() / whole.flux());
  out.number(100 * whole.flux() / lumens);
  out.number(1);  // conversion factor
  out.number(0);  // tilt
  out.number(1);  // lamp sets
  out.number(absolute ? -1 : f.lamps);
  out.text(f.lamp.empty() ? "unknown" : f.lamp, 40);
  out.number(lumens);
  out.text("-", 16);
  out.text("-", 6);
  out.number(f.watts);
  for (int i = 0; i < 10; ++i) {
    out.number(0);  // direct ratios
  }
  for (const auto* const angles : {&listed.planes, &g.ver_rad}) {
    for (const double a : *angles) {
      out.number(a / kDegree);
    }
  }
  for (const std::size_t h : listed.order) {
    for (std::size_t v = 0; v < g.ver_rad.size(); ++v) {
      out.number(g.at(h, v) * 1000 / lumens);
    }
  }
  return out.out();
}

}  // namespace jovilux
