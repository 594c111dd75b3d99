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

bool is_whole(double v, double lo, double hi) { return v >= lo && v <= hi && v == std::floor(v); }

// Reads a file part by part; each part returns false where the file cannot be read, with the error
// among problems_.
class Lm63Reader {
 public:
  Lm63Reader(std::string_view text, const std::string& path)
      : path_(path), lines_(lines_of(text)) {}

  Result<PhotometricFile> read() {
    read_format();
    if (!read_keywords()) {
      return std::move(problems_);
    }
    Numbers numbers(lines_, tilt_line_ + 1, path_);
    if (!read_tilt(numbers) || !read_head(numbers) || !read_table(numbers) || !check()) {
      return std::move(problems_);
    }
    return {std::move(out_), std::move(problems_)};
  }

 private:
  bool fail(std::uint32_t line, std::string what) {
    problems_.push_back(photometric_problem(Severity::kError, path_, line, 0, std::move(what), ""));
    return false;
  }
  bool fail(const Numbers& numbers) {
    problems_.push_back(*numbers.fault());
    return false;
  }
  void warn(std::uint32_t line, std::string what, std::string hint = "") {
    problems_.push_back(
        photometric_problem(Severity::kWarning, path_, line, 0, std::move(what), std::move(hint)));
  }

  // The format's first line; the oldest has none.
  void read_format() {
    static constexpr std::pair<std::string_view, std::string_view> kFormats[] = {
        {"IES:LM-63-2019", "LM-63-2019"},
        {"IESNA:LM-63-2002", "LM-63-2002"},
        {"IESNA:LM-63-1995", "LM-63-1995"},
        {"IESNA91", "LM-63-1991"}};
    out_.format = "LM-63-1986";
    std::string_view head = lines_.empty() ? std::string_view() : trimmed(lines_[0].text);
    if (head.starts_with("\xef\xbb\xbf")) {
      head.remove_prefix(3);
    }
    for (const auto& [line, name] : kFormats) {
      if (starts_with_word(head, line)) {
        out_.format = name;
        return;
      }
    }
    if (starts_with_word(head, "IES")) {
      warn(1,
           fmt::format("found \"{}\"; no edition of LM-63 is called so", printable(head, 40)),
           "it is read as the edition of 2002");
      out_.format = "LM-63-2002";
    }
  }

  // Keywords until TILT.
  bool read_keywords() {
    bool has_test = false, has_maker = false;
    for (tilt_line_ = 0; tilt_line_ < lines_.size(); ++tilt_line_) {
      const std::string_view line = trimmed(lines_[tilt_line_].text);
      if (starts_with_word(line, "TILT")) {
        break;
      }
      if (line.starts_with("[")) {
        const std::string* const field = read_keyword(line, lines_[tilt_line_].number);
        has_test = has_test || field == &out_.test;
        has_maker = has_maker || field == &out_.maker;
      }
    }
    if (tilt_line_ == lines_.size()) {
      return fail(lines_.empty() ? 0 : lines_.back().number,
                  "there is no TILT= line: not an LM-63 file, or cut short");
    }
    if (out_.format != "LM-63-1986" && (!has_test || !has_maker)) {
      warn(1,
           fmt::format("the keyword{} {} {} missing",
                       has_test == has_maker ? "s" : "",
                       has_test    ? "[MANUFAC]"
                       : has_maker ? "[TEST]"
                                   : "[TEST] and [MANUFAC]",
                       has_test == has_maker ? "are" : "is"));
    }
    return true;
  }

  // "[KEY] value"; the field that it fills, null: none.
  std::string* read_keyword(std::string_view line, std::uint32_t number) {
    const auto close = line.find(']');
    if (close == std::string_view::npos) {
      warn(number, fmt::format("the keyword \"{}\" has no ]", printable(line, 30)));
      return nullptr;
    }
    const std::string_view key = line.substr(1, close - 1);
    const auto is = [&](std::string_view name) {
      return key.size() == name.size() && starts_with_word(key, name);
    };
    std::string* const field = is("TEST")        ? &out_.test
                               : is("MANUFAC")   ? &out_.maker
                               : is("LUMINAIRE") ? &out_.luminaire
                               : is("LUMCAT")    ? &out_.catalog
                               : is("LAMP")      ? &out_.lamp
                                                 : nullptr;
    if (field != nullptr) {
      *field = printable(trimmed(line.substr(close + 1)), 200);
    }
    return field;
  }

  bool read_tilt(Numbers& numbers) {
    std::string_view text = trimmed(lines_[tilt_line_].text);
    const auto equals = text.find('=');
    text = equals == std::string_view::npos ? std::string_view() : trimmed(text.substr(equals + 1));
    if (starts_with_word(text, "INCLUDE")) {
      return read_tilt_factors(numbers);
    }
    if (!starts_with_word(text, "NONE")) {
      warn(lines_[tilt_line_].number,
           fmt::format("TILT={}: only NONE and INCLUDE are read", printable(text, 40)),
           "the factor is taken as 1");
    }
    return true;
  }

  // The factor at the angle 0, as the luminaire hangs in its file.
  bool read_tilt_factors(Numbers& numbers) {
    numbers.next("the lamp's position in the luminaire (1, 2 or 3)");
    const auto count = numbers.next("the number of tilt angles");
    if (count && !is_whole(*count, 1, 1000)) {
      return fail(numbers.line(),
                  fmt::format("{} tilt angles; expected a whole number from 1 to 1000",
                              short_number(*count)));
    }
    const auto n = static_cast<std::size_t>(count.value_or(0));
    const auto angles = numbers.next(n, "tilt angle");
    const auto factors = numbers.next(n, "tilt factor");
    for (std::size_t i = 0; angles && factors && i < n; ++i) {
      if (std::abs((*angles)[i]) < 1e-6 && (*factors)[i] > 0) {
        factor_ = (*factors)[i];
      }
    }
    return true;
  }

  // Lamps, lumens a lamp, multiplier, numbers of vertical and horizontal angles, photometric type,
  // units type, width, length, height; ballast factor, ballast-lamp factor, watts.
  bool read_head(Numbers& numbers) {
    const auto head = numbers.next(10, "number");
    const std::uint32_t line = numbers.line();
    const auto rest = numbers.next(3, "ballast factor, ballast-lamp factor, watts: number");
    if (!head || !rest) {
      return fail(numbers);
    }
    const double lumens = (*head)[1], multiplier = (*head)[2], type = (*head)[5],
                 units = (*head)[6], ballast = (*rest)[0], ballast_lamp = (*rest)[1];
    if (!read_counts((*head)[3], (*head)[4], line)) {
      return false;
    }
    if (!is_whole(type, 1, 3)) {
      return fail(
          line,
          fmt::format("photometric type {}; expected 1 (C), 2 (B) or 3 (A)", short_number(type)));
    }
    out_.grid.type = type == 1   ? PhotometricType::kC
                     : type == 2 ? PhotometricType::kB
                                 : PhotometricType::kA;
    if (!is_whole(units, 1, 2)) {
      warn(line,
           fmt::format("units type {}; expected 1 (feet) or 2 (meters)", short_number(units)),
           "sizes are taken as meters");
    }
    factor_ *= multiplier * ballast;
    if (out_.format == "LM-63-1986" || out_.format == "LM-63-1991") {
      // The ballast-lamp photometric factor; later editions keep the place for other uses.
      factor_ *= ballast_lamp;
    }
    if (!(factor_ > 0)) {
      return fail(
          line,
          fmt::format("multiplier {} and ballast factors {}, {}: the intensities would be 0",
                      short_number(multiplier),
                      short_number(ballast),
                      short_number(ballast_lamp)));
    }
    out_.lamps = static_cast<int>(std::clamp((*head)[0], 1.0, 1e6));
    if (lumens > 0) {
      out_.lamp_lumens = out_.lamps * lumens;
    } else if (lumens != -1) {
      warn(line,
           fmt::format("{} lumens a lamp; expected a flux, or -1 for absolute photometry",
                       short_number(lumens)),
           "the table counts");
    }
    const double unit = units == 1 ? kFoot : 1;
    out_.width = (*head)[7] * unit;
    out_.length = (*head)[8] * unit;
    out_.height = (*head)[9] * unit;
    out_.watts = std::max(0.0, (*rest)[2]);
    return true;
  }

  bool read_counts(double vertical, double horizontal, std::uint32_t line) {
    if (!is_whole(vertical, 2, 100'000) || !is_whole(horizontal, 1, 100'000) ||
        vertical * horizontal > static_cast<double>(kMaxCandelaValues)) {
      return fail(line,
                  fmt::format("{} vertical and {} horizontal angles; expected whole numbers, at "
                              "least 2 and 1, at most {} values together",
                              short_number(vertical, 9),
                              short_number(horizontal, 9),
                              kMaxCandelaValues));
    }
    vertical_ = static_cast<std::size_t>(vertical);
    horizontal_ = static_cast<std::size_t>(horizontal);
    return true;
  }

  bool read_table(Numbers& numbers) {
    const auto vertical = numbers.next(vertical_, "vertical angle");
    angles_line_ = numbers.line();
    const auto horizontal = numbers.next(horizontal_, "horizontal angle");
    last_angles_line_ = numbers.line();
    const auto candela = numbers.next(vertical_ * horizontal_, "intensity");
    if (numbers.fault()) {
      return fail(numbers);
    }
    if (numbers.more()) {
      warn(numbers.line(),
           "more values follow the table",
           "they are left out; see the numbers of angles");
    }
    const auto scaled = [](std::vector<double> values, double factor) {
      for (double& v : values) {
        v *= factor;
      }
      return values;
    };
    out_.grid.ver_rad = scaled(*vertical, kDegree);
    out_.grid.hor_rad = scaled(*horizontal, kDegree);
    out_.grid.candela = scaled(*candela, factor_);
    return true;
  }

  bool check() {
    check_photometry(out_, path_, angles_line_, problems_);
    if (has_errors(problems_)) {
      return false;
    }
    CandelaGrid& g = out_.grid;
    const auto symmetry = symmetry_of(g);
    if (!symmetry) {
      return fail(last_angles_line_,
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
      warn(last_angles_line_, "the only horizontal angle is not 0", "it is taken as 0");
    }
    // The flux over the whole of it, now that its symmetry is known.
    Problems again;
    check_photometry(out_, path_, angles_line_, again);
    for (Problem& p : again) {
      const bool said = std::any_of(
          problems_.begin(), problems_.end(), [&](const Problem& q) { return q.text == p.text; });
      if (!said) {
        problems_.push_back(std::move(p));
      }
    }
    return !has_errors(problems_);
  }

  const std::string& path_;
  const std::vector<Line> lines_;
  PhotometricFile out_;
  Problems problems_;
  std::size_t tilt_line_ = 0;                  // among lines_
  std::size_t vertical_ = 0, horizontal_ = 0;  // numbers of angles
  double factor_ = 1;                          // on the table's intensities
  std::uint32_t angles_line_ = 0, last_angles_line_ = 0;
};

}  // namespace

Result<PhotometricFile> parse_lm63(std::string_view text, const std::string& path) {
  return Lm63Reader(text, path).read();
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
