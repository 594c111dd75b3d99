#include "jovilux/base/text.h"
#include "jovilux/base/vec.h"
#include "jovilux/files/photometric_file.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include <fmt/format.h>

namespace jovilux {
namespace {

constexpr double kFoot = 0.3048;

struct Line {
  std::string_view text;
  std::uint32_t number = 0;
};

// The lines of a file, whatever ends them: LF, CRLF or CR.
std::vector<Line> lines_of(std::string_view text) {
  std::vector<Line> out;
  std::uint32_t number = 1;
  std::size_t begin = 0;
  for (std::size_t i = 0; i <= text.size(); ++i) {
    if (i == text.size() || text[i] == '\n' || text[i] == '\r') {
      out.push_back({text.substr(begin, i - begin), number++});
      if (i + 1 < text.size() && text[i] == '\r' && text[i + 1] == '\n') {
        ++i;
      }
      begin = i + 1;
    }
  }
  return out;
}

// The numbers of the lines from one on, apart by spaces, tabs or commas.
class Numbers {
 public:
  Numbers(const std::vector<Line>& lines, std::size_t first, const std::string& path)
      : lines_(lines), line_(first), path_(path) {}

  // The next number; nothing, and a fault, where there is none.
  std::optional<double> next(std::string_view what) {
    if (fault_) {
      return std::nullopt;
    }
    while (line_ < lines_.size()) {
      const std::string_view text = lines_[line_].text;
      while (at_ < text.size() && separates(text[at_])) {
        ++at_;
      }
      if (at_ == text.size()) {
        ++line_;
        at_ = 0;
        continue;
      }
      const std::size_t begin = at_;
      while (at_ < text.size() && !separates(text[at_])) {
        ++at_;
      }
      std::string_view word = text.substr(begin, at_ - begin);
      if (word.size() > 1 && word[0] == '+') {
        word.remove_prefix(1);
      }
      const auto value = parse_number(word);
      if (!value || std::abs(*value) > 1e12) {
        fault_ = photometric_problem(
            Severity::kError,
            path_,
            lines_[line_].number,
            static_cast<std::uint32_t>(begin) + 1,
            fmt::format("found \"{}\"; expected {}", printable(word, 40), what));
        return std::nullopt;
      }
      ++count_;
      return value;
    }
    fault_ = photometric_problem(Severity::kError,
                                 path_,
                                 lines_.empty() ? 0 : lines_.back().number,
                                 0,
                                 fmt::format("the file ends where {} is expected", what));
    return std::nullopt;
  }

  // `count` numbers; says at which of them the file ends.
  std::optional<std::vector<double>> next(std::size_t count, std::string_view what) {
    std::vector<double> out;
    out.reserve(std::min<std::size_t>(count, 4096));
    for (std::size_t i = 0; i < count; ++i) {
      const auto v = next(fmt::format("{} {} of {}", what, i + 1, count));
      if (!v) {
        return std::nullopt;
      }
      out.push_back(*v);
    }
    return out;
  }

  // Whether anything but white space follows.
  bool more() const {
    for (std::size_t l = line_, from = at_; l < lines_.size(); ++l, from = 0) {
      for (std::size_t i = from; i < lines_[l].text.size(); ++i) {
        if (!separates(lines_[l].text[i]) && lines_[l].text[i] != '\x1a') {
          return true;
        }
      }
    }
    return false;
  }

  std::uint32_t line() const {
    return line_ < lines_.size() ? lines_[line_].number : lines_.empty() ? 0 : lines_.back().number;
  }
  const std::optional<Problem>& fault() const { return fault_; }

 private:
  static bool separates(char c) {
    return c == ' ' || c == '\t' || c == ',' || c == '\v' || c == '\f' || c == '\0';
  }

  const std::vector<Line>& lines_;
  std::size_t line_, at_ = 0, count_ = 0;
  const std::string& path_;
  std::optional<Problem> fault_;
};

bool starts_with_word(std::string_view text, std::string_view word) {
  return text.size() >= word.size() &&
         std::equal(word.begin(), word.end(), text.begin(), [](char a, char b) {
           return a == std::toupper(static_cast<unsigned char>(b));
         });
}

// The symmetry that the horizontal angles of a table show; nothing where they fit none.
std::optional<PhotometricSymmetry> symmetry_of(const CandelaGrid& g) {
  using S = PhotometricSymmetry;
  const auto is = [](double rad, double deg) { return std::abs(rad / kDegree - deg) < 0.05; };
  const double first = g.hor_rad.front(), last = g.hor_rad.back();
  if (g.type != PhotometricType::kC) {
    if (g.hor_rad.size() < 2) {
      return std::nullopt;
    }
    return is(first, 0) ? (is(g.ver_rad.front(), 0) ? S::kQuadrant : S::kBilateral) : S::kNone;
  }
  if (g.hor_rad.size() == 1) {
    return S::kRotational;
  }
  if (is(first, 0) && is(last, 90)) {
    return S::kQuadrant;
  }
  if (is(first, 0) && is(last, 180)) {
    return S::kBilateral;
  }
  if (is(first, 90) && is(last, 270)) {
    return S::kBilateral90;
  }
  return last > 180.5 * kDegree ? std::optional(S::kNone) : std::nullopt;
}

}  // namespace

Result<PhotometricFile> parse_lm63(std::string_view text, const std::string& path) {
  PhotometricFile out;
  Problems problems;
  const auto fail = [&](std::uint32_t line, std::string what, std::string hint = "") {
    problems.push_back(
        photometric_problem(Severity::kError, path, line, 0, std::move(what), std::move(hint)));
    return problems;
  };
  const auto warn = [&](std::uint32_t line, std::string what, std::string hint = "") {
    problems.push_back(
        photometric_problem(Severity::kWarning, path, line, 0, std::move(what), std::move(hint)));
  };
  const std::vector<Line> lines = lines_of(text);
  // The format's first line; the oldest has none.
  static constexpr std::pair<std::string_view, std::string_view> kFormats[] = {
      {"IES:LM-63-2019", "LM-63-2019"},
      {"IESNA:LM-63-2002", "LM-63-2002"},
      {"IESNA:LM-63-1995", "LM-63-1995"},
      {"IESNA91", "LM-63-1991"}};
  out.format = "LM-63-1986";
  std::string_view head = lines.empty() ? std::string_view() : trimmed(lines[0].text);
  if (head.starts_with("\xef\xbb\xbf")) {
    head.remove_prefix(3);
  }
  bool known = false;
  for (const auto& [line, name] : kFormats) {
    if (starts_with_word(head, line)) {
      out.format = name;
      known = true;
    }
  }
  if (!known && starts_with_word(head, "IES")) {
    warn(1,
         fmt::format("found \"{}\"; no edition of LM-63 is called so", printable(head, 40)),
         "it is read as the edition of 2002");
    out.format = "LM-63-2002";
  }
  // Keywords until TILT.
  std::size_t tilt = lines.size();
  bool has_test = false, has_maker = false;
  for (std::size_t i = 0; i < lines.size() && tilt == lines.size(); ++i) {
    const std::string_view line = trimmed(lines[i].text);
    if (starts_with_word(line, "TILT")) {
      tilt = i;
      break;
    }
    if (!line.starts_with("[")) {
      continue;
    }
    const auto close = line.find(']');
    if (close == std::string_view::npos) {
      warn(lines[i].number, fmt::format("the keyword \"{}\" has no ]", printable(line, 30)));
      continue;
    }
    const std::string_view key = line.substr(1, close - 1);
    const std::string value = printable(trimmed(line.substr(close + 1)), 200);
    const auto is = [&](std::string_view name) {
      return key.size() == name.size() && starts_with_word(key, name);
    };
    has_test = has_test || is("TEST");
    has_maker = has_maker || is("MANUFAC");
    std::string* field = is("TEST")        ? &out.test
                         : is("MANUFAC")   ? &out.maker
                         : is("LUMINAIRE") ? &out.luminaire
                         : is("LUMCAT")    ? &out.catalog
                         : is("LAMP")      ? &out.lamp
                                           : nullptr;
    if (field != nullptr) {
      *field = value;
    }
  }
  if (tilt == lines.size()) {
    return fail(lines.empty() ? 0 : lines.back().number,
                "there is no TILT= line: not an LM-63 file, or cut short");
  }
  if (out.format != "LM-63-1986" && (!has_test || !has_maker)) {
    warn(1,
         fmt::format("the keyword{} {} {} missing",
                     has_test == has_maker ? "s" : "",
                     has_test    ? "[MANUFAC]"
                     : has_maker ? "[TEST]"
                                 : "[TEST] and [MANUFAC]",
                     has_test == has_maker ? "are" : "is"));
  }
  std::string_view tilt_text = trimmed(lines[tilt].text);
  const auto equals = tilt_text.find('=');
  tilt_text =
      equals == std::string_view::npos ? std::string_view() : trimmed(tilt_text.substr(equals + 1));
  Numbers numbers(lines, tilt + 1, path);
  double tilt_factor = 1;
  if (starts_with_word(tilt_text, "INCLUDE")) {
    numbers.next("the lamp's position in the luminaire (1, 2 or 3)");
    const auto count = numbers.next("the number of tilt angles");
    if (count && !(*count >= 1 && *count <= 1000 && *count == std::floor(*count))) {
      return fail(numbers.line(),
                  fmt::format("{} tilt angles; expected a whole number from 1 to 1000",
                              short_number(*count)));
    }
    const auto n = static_cast<std::size_t>(count.value_or(0));
    const auto angles = numbers.next(n, "tilt angle");
    const auto factors = numbers.next(n, "tilt factor");
    for (std::size_t i = 0; angles && factors && i < n; ++i) {
      if (std::abs((*angles)[i]) < 1e-6 && (*factors)[i] > 0) {
        tilt_factor = (*factors)[i];  // as the luminaire hangs in its file
      }
    }
  } else if (!starts_with_word(tilt_text, "NONE")) {
    warn(lines[tilt].number,
         fmt::format("TILT={}: only NONE and INCLUDE are read", printable(tilt_text, 40)),
         "the factor is taken as 1");
  }
  const auto head_values = numbers.next(10, "number");
  const std::uint32_t line = numbers.line();
  const auto rest = numbers.next(3, "ballast factor, ballast-lamp factor, watts: number");
  if (!head_values || !rest) {
    problems.push_back(*numbers.fault());
    return problems;
  }
  const std::vector<double>& h = *head_values;
  const auto whole = [](double v, double lo, double hi) {
    return v >= lo && v <= hi && v == std::floor(v);
  };
  if (!whole(h[3], 2, 100'000) || !whole(h[4], 1, 100'000) ||
      h[3] * h[4] > static_cast<double>(kMaxCandelaValues)) {
    return fail(line,
                fmt::format("{} vertical and {} horizontal angles; expected whole numbers, at "
                            "least 2 and 1, at most {} values together",
                            short_number(h[3], 9),
                            short_number(h[4], 9),
                            kMaxCandelaValues));
  }
  if (!whole(h[5], 1, 3)) {
    return fail(
        line,
        fmt::format("photometric type {}; expected 1 (C), 2 (B) or 3 (A)", short_number(h[5])));
  }
  if (!whole(h[6], 1, 2)) {
    warn(line,
         fmt::format("units type {}; expected 1 (feet) or 2 (meters)", short_number(h[6])),
         "sizes are taken as meters");
  }
  double factor = h[2] * (*rest)[0] * tilt_factor;
  if (out.format == "LM-63-1986" || out.format == "LM-63-1991") {
    // The ballast-lamp photometric factor; later editions keep the place for other uses.
    factor *= (*rest)[1];
  }
  if (!(factor > 0)) {
    return fail(line,
                fmt::format("multiplier {} and ballast factors {}, {}: the intensities would be 0",
                            short_number(h[2]),
                            short_number((*rest)[0]),
                            short_number((*rest)[1])));
  }
  out.lamps = static_cast<int>(std::clamp(h[0], 1.0, 1e6));
  if (h[1] > 0) {
    out.lamp_lumens = out.lamps * h[1];
  } else if (h[1] != -1) {
    warn(line,
         fmt::format("{} lumens a lamp; expected a flux, or -1 for absolute photometry",
                     short_number(h[1])),
         "the table counts");
  }
  const double unit = h[6] == 1 ? kFoot : 1;
  out.width = h[7] * unit;
  out.length = h[8] * unit;
  out.height = h[9] * unit;
  out.watts = std::max(0.0, (*rest)[2]);

  CandelaGrid& g = out.grid;
  g.type = h[5] == 1 ? PhotometricType::kC : h[5] == 2 ? PhotometricType::kB : PhotometricType::kA;
  const auto vertical = numbers.next(static_cast<std::size_t>(h[3]), "vertical angle");
  const std::uint32_t angles_line = numbers.line();
  const auto horizontal = numbers.next(static_cast<std::size_t>(h[4]), "horizontal angle");
  const std::uint32_t last_angles_line = numbers.line();
  const auto candela = numbers.next(static_cast<std::size_t>(h[3] * h[4]), "intensity");
  if (numbers.fault()) {
    problems.push_back(*numbers.fault());
    return problems;
  }
  if (numbers.more()) {
    warn(numbers.line(),
         "more values follow the table",
         "they are left out; see the numbers of angles");
  }
  const auto radians = [](std::vector<double> v) {
    for (double& a : v) {
      a *= kDegree;
    }
    return v;
  };
  g.ver_rad = radians(*vertical);
  g.hor_rad = radians(*horizontal);
  g.candela = *candela;
  for (double& v : g.candela) {
    v *= factor;
  }
  check_photometry(out, path, angles_line, problems);
  if (has_errors(problems)) {
    return problems;
  }
  const auto symmetry = symmetry_of(g);
  if (!symmetry) {
    return fail(last_angles_line,
                fmt::format("horizontal angles run from {} to {}; {}",
                            short_number(g.hor_rad.front() / kDegree, 6),
                            short_number(g.hor_rad.back() / kDegree, 6),
                            g.type == PhotometricType::kC
                                ? "expected 0 alone, 0 to 90, 0 to 180, 90 to 270 or 0 to 360"
                                : "expected at least two, from -90 or 0 to 90"));
  }
  g.symmetry = *symmetry;
  if (g.type == PhotometricType::kC && g.symmetry == PhotometricSymmetry::kRotational &&
      std::abs(g.hor_rad[0]) > 1e-6) {
    g.hor_rad[0] = 0;
    warn(last_angles_line, "the only horizontal angle is not 0", "it is taken as 0");
  }
  // The flux over the whole of it, now that its symmetry is known.
  Problems again;
  check_photometry(out, path, angles_line, again);
  for (Problem& p : again) {
    const bool said = std::any_of(
        problems.begin(), problems.end(), [&](const Problem& q) { return q.text == p.text; });
    if (!said) {
      problems.push_back(std::move(p));
    }
  }
  if (has_errors(problems)) {
    return problems;
  }
  return {std::move(out), std::move(problems)};
}

std::string lm63_text(const PhotometricFile& f) {
  const CandelaGrid& g = f.grid;
  const auto keyword =
      [](std::string_view key, const std::string& value, std::string_view otherwise) {
        return fmt::format(
            "[{}] {}\n", key, value.empty() ? std::string(otherwise) : printable(value, 240));
      };
  std::string out = "IES:LM-63-2019\n";
  out += keyword("TEST", f.test, "none");
  out += keyword("TESTLAB", "", "none");
  out += keyword("ISSUEDATE", "", "unknown");
  out += keyword("MANUFAC", f.maker, "unknown");
  if (!f.catalog.empty()) {
    out += keyword("LUMCAT", f.catalog, "");
  }
  if (!f.luminaire.empty()) {
    out += keyword("LUMINAIRE", f.luminaire, "");
  }
  if (!f.lamp.empty()) {
    out += keyword("LAMP", f.lamp, "");
  }
  out += "TILT=NONE\n";
  const int type = g.type == PhotometricType::kC ? 1 : g.type == PhotometricType::kB ? 2 : 3;
  out += fmt::format("{} {:.10g} 1 {} {} {} 2 {:.6g} {:.6g} {:.6g}\n",
                     f.lamps,
                     f.lamp_lumens > 0 ? f.lamp_lumens / f.lamps : -1.0,
                     g.ver_rad.size(),
                     g.hor_rad.size(),
                     type,
                     f.width,
                     f.length,
                     f.height);
  out += fmt::format("1 1 {:.6g}\n", f.watts);
  const auto list = [&](const double* v, std::size_t count, double scale) {
    for (std::size_t i = 0; i < count; ++i) {
      out += fmt::format("{:.8g}{}", v[i] * scale, i + 1 == count || i % 10 == 9 ? "\n" : " ");
    }
  };
  list(g.ver_rad.data(), g.ver_rad.size(), 180 / kPiD);
  list(g.hor_rad.data(), g.hor_rad.size(), 180 / kPiD);
  for (std::size_t h = 0; h < g.hor_rad.size(); ++h) {
    list(g.candela.data() + h * g.ver_rad.size(), g.ver_rad.size(), 1);
  }
  return out;
}

}  // namespace jovilux
