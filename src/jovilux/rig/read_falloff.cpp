#include "jovilux/base/text.h"
#include "jovilux/rig/read_light_parts.h"

#include <cmath>

#include <fmt/format.h>

namespace jovilux {
namespace {

// The lengths and factors of the law "points".
std::shared_ptr<FalloffCurve> read_points(TableReader& f) {
  const DocumentNode* points = f.find("points");
  if (points == nullptr || !points->is_array()) {
    f.missing("points");
    return nullptr;
  }
  std::vector<double> x, y;
  for (const DocumentNode& point : points->array()) {
    const bool pair = point.is_array() && point.array().size() == 2 && point.array()[1].is_number();
    if (!pair || !(point.array()[1].number() >= 0 && point.array()[1].number() <= 1e9)) {
      f.error("points", point.place, "out-of-range", "expected [distance, factor >= 0]");
      return nullptr;
    }
    const auto d = f.amount_of(point.array()[0], "points", Dimension::kLength, kNotNegative);
    if (!d) {
      return nullptr;
    }
    if (!x.empty() && *d <= x.back()) {
      f.error("points",
              point.place,
              "out-of-range",
              fmt::format("{} follows {}; distances must increase",
                          readable_length(*d),
                          readable_length(x.back())));
      return nullptr;
    }
    x.push_back(*d);
    y.push_back(point.array()[1].number());
  }
  if (x.size() < 2) {
    f.error("points", points->place, "out-of-range", "a law needs at least 2 points");
    return nullptr;
  }
  return std::make_shared<FalloffCurve>(FalloffCurve{MonotoneCubic(std::move(x), std::move(y))});
}

// A law is finite and not below 0 from 1 mm to 1 km.
std::shared_ptr<FalloffCurve> read_written_law(TableReader& f) {
  const auto formula = f.formula("formula", {"d"});
  if (!formula) {
    return nullptr;
  }
  for (int i = 0; i <= 240; ++i) {
    const double d = std::pow(10.0, -3 + i / 40.0), v = (*formula)(std::span<const double>(&d, 1));
    if (!std::isfinite(v) || v < 0) {
      f.error("formula",
              f.place("formula"),
              std::isfinite(v) ? "out-of-range" : "divides-by-zero",
              fmt::format("gives {} at d = {}; a law is finite and not below 0",
                          std::isfinite(v) ? short_number(v) : std::string("no number"),
                          readable_length(d)),
              v < 0 ? "wrap it in max(0, ...)" : "");
      return nullptr;
    }
  }
  return std::make_shared<FalloffCurve>(FalloffCurve{*formula});
}

// The laws that a user draws or writes; the level at `matches_at` must be above 0.
void read_curve(TableReader& f, Falloff& out) {
  const FalloffLaw law = out.law;
  out.law = FalloffLaw::kInverseSquare;  // until it is whole
  auto curve = law == FalloffLaw::kPoints ? read_points(f) : read_written_law(f);
  if (!curve) {
    return;
  }
  const double level = (*curve)(out.matches_at);
  if (!(level > 0)) {
    f.error("matches_at",
            f.place("matches_at"),
            "out-of-range",
            fmt::format("the law is 0 at matches_at = {}: there is no level to keep",
                        readable_length(out.matches_at)),
            "choose a matches_at where the law is above 0");
    return;
  }
  out.law = law;
  out.curve_at_match = static_cast<float>(level);
  out.curve = std::move(curve);
}

void read_linear(TableReader& f, Falloff& out) {
  f.require("zero_at");
  const auto zero = f.number("zero_at");
  if (zero && *zero <= out.matches_at) {
    f.error("zero_at",
            f.place("zero_at"),
            "out-of-range",
            fmt::format("{} is not beyond matches_at = {}: the level there would be 0",
                        readable_length(*zero),
                        readable_length(out.matches_at)),
            "raise zero_at or lower matches_at");
  }
  out.zero_at = static_cast<float>(zero.value_or(2 * out.matches_at));
}

void read_polynomial(TableReader& f, Falloff& out) {
  out.constant = static_cast<float>(f.number_or_standard("constant"));
  out.linear = static_cast<float>(f.number_or_standard("linear"));
  out.quadratic = static_cast<float>(f.number_or_standard("quadratic"));
  const char* way_on = "use a positive constant, linear and quadratic";
  if (!f.has("constant") && !f.has("linear") && !f.has("quadratic")) {
    f.missing("constant");
  } else if (out.constant == 0 && out.linear == 0 && out.quadratic == 0) {
    f.error("constant",
            f.place("constant"),
            "divides-by-zero",
            "constant, linear and quadratic are all 0: the law divides by zero everywhere",
            "give constant = 1");
  } else if (const auto root = polynomial_root(out.constant, out.linear, out.quadratic)) {
    if (*root > 0) {
      f.error("constant",
              f.node().place,
              "divides-by-zero",
              fmt::format("constant + linear d + quadratic d^2 is 0 at d = {}: the law divides by "
                          "zero there",
                          readable_length(*root)),
              way_on);
    } else if (out.constant < 0) {
      f.error("constant",
              f.node().place,
              "out-of-range",
              "constant + linear d + quadratic d^2 is below 0 at the lamp: a law is not negative",
              way_on);
    } else if (out.linear < 0 || (out.linear == 0 && out.quadratic < 0)) {
      f.error("linear",
              f.node().place,
              "divides-by-zero",
              "constant + linear d + quadratic d^2 is below 0 just beside the lamp",
              way_on);
    } else if (out.linear != 0) {  // d^2 alone is the inverse square itself
      f.warning("constant",
                f.place("constant"),
                "divides-by-zero",
                "constant = 0: the law divides by zero at the lamp and has no bound near it",
                "give constant > 0, or a near_softening to the light");
    }
  }
}

// A law by its word alone, which has no parameters.
FalloffLaw read_law_word(TableReader& r, const DocumentNode& node) {
  const std::vector<std::string>& laws = r.within("falloff", node).words("law");
  const auto found = std::find(laws.begin(), laws.end(), node.text());
  if (found == laws.end()) {
    const std::string hint = r.value_hint("falloff", node.text());
    r.error("falloff",
            node.place,
            "unknown-word",
            fmt::format("found \"{}\"; expected {}", printable(node.text()), join_or(laws)),
            hint.empty() ? did_you_mean(node.text(), laws) : hint);
    return FalloffLaw::kInverseSquare;
  }
  const FalloffLaw law = *parse_falloff_law(*found);
  static constexpr std::pair<FalloffLaw, const char*> kExamples[] = {
      {FalloffLaw::kLinear, "write falloff = { law = \"linear\", zero_at = \"6 m\" }"},
      {FalloffLaw::kPolynomial,
       "write falloff = { law = \"polynomial\", constant = 0.4, linear = 0.25, quadratic = 0.6 }"},
      {FalloffLaw::kPoints,
       "write falloff = { law = \"points\", points = [[\"0 m\", 1], [\"5 m\", 0]] }"},
      {FalloffLaw::kFormula, "write falloff = { law = \"formula\", formula = \"1/(1+d)^2\" }"}};
  for (const auto& [law_with_parameters, example] : kExamples) {
    if (law == law_with_parameters) {
      r.error("falloff",
              node.place,
              "missing-key",
              fmt::format("the {} law has parameters", node.text()),
              example);
      return FalloffLaw::kInverseSquare;
    }
  }
  return law;
}

void read_law_table(TableReader& f, Falloff& out) {
  if (f.require("law")) {
    if (const auto index = f.word("law")) {
      const std::string& word = f.words("law")[*index];
      out.law = *parse_falloff_law(word);
      f.set_kind(word);
    }
  }
  out.matches_at = static_cast<float>(f.number_or_standard("matches_at"));
  switch (out.law) {
    case FalloffLaw::kLinear:
      read_linear(f, out);
      break;
    case FalloffLaw::kPolynomial:
      read_polynomial(f, out);
      break;
    case FalloffLaw::kPoints:
    case FalloffLaw::kFormula:
      read_curve(f, out);
      break;
    case FalloffLaw::kInverseSquare:
    case FalloffLaw::kNone:
      break;
  }
  if (!f.kind().empty()) {
    f.finish(fmt::format("law \"{}\"", f.kind()));
  }
}

}  // namespace

Falloff read_falloff(TableReader& r) {
  Falloff out;
  const DocumentNode* node = r.find("falloff");
  if (node != nullptr && node->is_text()) {
    out.law = read_law_word(r, *node);
  } else if (node != nullptr && node->is_table()) {
    TableReader f = r.within("falloff", *node);
    read_law_table(f, out);
  } else if (node != nullptr) {
    r.wrong_type("falloff", *node);
  }
  out.near_softening = static_cast<float>(r.number_or_standard("near_softening"));
  if (const auto range = r.numbers("range")) {
    out.has_range = true;
    out.range_start = static_cast<float>((*range)[0]);
    out.range_end = static_cast<float>((*range)[1]);
    if ((*range)[1] < (*range)[0] || !((*range)[1] > 0)) {
      r.error("range",
              r.place("range"),
              "out-of-range",
              "the second length ends the fade: it must be above 0 and not below the first");
    }
  }
  return out;
}

}  // namespace jovilux
