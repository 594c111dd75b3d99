#include "jovilux/base/formula.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/sampler.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <muParser.h>
#include <tbb/enumerable_thread_specific.h>

namespace jovilux {
namespace {

// std::clamp has no meaning for lo > hi, which a rig's formula may ask for.
double clamped(double v, double lo, double hi) { return std::max(lo, std::min(hi, v)); }

double smoothstep(double a, double b, double v) {
  const double t = a == b ? (v < a ? 0.0 : 1.0) : clamped((v - a) / (b - a), 0, 1);
  return t * t * (3 - 2 * t);
}

// Toward the nearest whole number, halves away from 0.
double nearest(double v) { return std::round(v); }
double floor_of(double v) { return std::floor(v); }
double fraction(double v) { return v - std::floor(v); }
// With the sign of b, as floor says: mod(-1, 3) is 2.
double modulo(double a, double b) { return a - b * std::floor(a / b); }
double blend(double a, double b, double t) { return a + (b - a) * t; }
double step_at(double edge, double v) { return v < edge ? 0.0 : 1.0; }
double power(double a, double b) { return std::pow(a, b); }

// A value in -1 .. 1 for a corner of the lattice.
double corner_value(const std::array<std::int64_t, 3>& corner) {
  std::uint32_t bits = 0x6a09e667U;
  for (const std::int64_t c : corner) {
    bits = mix(bits, static_cast<std::uint32_t>(static_cast<std::uint64_t>(c)));
  }
  return 2.0 * unit_float(bits) - 1.0;
}

// Smooth noise in -1 .. 1 of one to three variables, with a period of its own for none: values of
// the corners of a lattice of side 1, blended by 6 u^5 - 15 u^4 + 10 u^3, whose first and second
// derivatives are continuous (K. Perlin, "Improving Noise", SIGGRAPH 2002, for the blend).
double lattice_noise(const double* v, int count) {
  if (count < 1 || count > 3) {
    throw mu::Parser::exception_type("noise takes one to three values");
  }
  std::array<std::int64_t, 3> low = {0, 0, 0};
  std::array<double, 3> weight = {0, 0, 0};
  for (std::size_t i = 0; i < static_cast<std::size_t>(count); ++i) {
    constexpr double kFarthest = 1e15;  // beyond it a double has no fraction to speak of
    const double at = std::isfinite(v[i]) ? clamped(v[i], -kFarthest, kFarthest) : 0;
    const double u = at - std::floor(at);
    low[i] = static_cast<std::int64_t>(std::floor(at));
    weight[i] = u * u * u * (u * (u * 6 - 15) + 10);
  }
  double sum = 0;
  for (int corner = 0; corner < 1 << count; ++corner) {
    std::array<std::int64_t, 3> place = low;
    double share = 1;
    for (std::size_t i = 0; i < static_cast<std::size_t>(count); ++i) {
      const bool upper = ((corner >> i) & 1) != 0;
      place[i] += upper ? 1 : 0;
      share *= upper ? weight[i] : 1 - weight[i];
    }
    sum += share * corner_value(place);
  }
  return sum;
}

// For messages: what a formula may call.
constexpr const char* kFunctions =
    "sin cos tan asin acos atan exp ln log10 sqrt abs sign min max floor round fract mod mix step "
    "clamp smoothstep pow noise";

// A parser of one thread: its variables are bound by address, so it stays where it is.
struct Instance {
  std::vector<double> values;
  mu::Parser parser;

  Instance(const std::string& text, const std::vector<std::string>& variables)
      : values(variables.size()) {
    parser.ClearConst();
    parser.DefineConst("pi", std::numbers::pi);
    parser.DefineConst("tau", 2 * std::numbers::pi);
    parser.DefineFun("clamp", clamped);
    parser.DefineFun("smoothstep", smoothstep);
    parser.DefineFun("floor", floor_of);
    parser.DefineFun("round", nearest);
    parser.DefineFun("fract", fraction);
    parser.DefineFun("mod", modulo);
    parser.DefineFun("mix", blend);
    parser.DefineFun("step", step_at);
    parser.DefineFun("pow", power);
    parser.DefineFun("noise", lattice_noise);
    for (std::size_t i = 0; i < variables.size(); ++i) {
      parser.DefineVar(variables[i], &values[i]);
    }
    parser.SetExpr(text);
    parser.Eval();  // errors surface here, once
  }
  Instance(const Instance&) = delete;
};

}  // namespace

// A parser evaluates in its own memory, so that each thread has one; all share the text.
struct Formula::Inside {
  std::string text;
  std::vector<std::string> variables;
  tbb::enumerable_thread_specific<std::unique_ptr<Instance>> instances;

  Instance& of_this_thread() {
    std::unique_ptr<Instance>& mine = instances.local();
    if (!mine) {
      mine = std::make_unique<Instance>(text, variables);
    }
    return *mine;
  }
};

std::variant<Formula, FormulaFault> Formula::parse(std::string_view text,
                                                   const std::vector<std::string>& variables) {
  // Texts are checked before the parser sees them: its errors for other characters, for texts and
  // for assignments would tell of parts of a language that rigs do not have.
  if (text.size() > kLongest) {
    return FormulaFault{
        fmt::format("{} characters; a formula has at most {}", text.size(), kLongest), 1};
  }
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (static_cast<unsigned char>(c) >= 0x80 ||
        (static_cast<unsigned char>(c) < 0x20 && c != ' ')) {
      return FormulaFault{"a formula is written in plain ASCII", static_cast<int>(i) + 1};
    }
    const auto part_of = [&](std::size_t at, std::string_view set) {
      return at < text.size() && set.find(text[at]) != std::string_view::npos;
    };
    if (c == '"') {
      return FormulaFault{"a formula has no texts", static_cast<int>(i) + 1};
    }
    // A lone = would assign; ==, <=, >= and != compare.
    if (c == '=' && !(part_of(i + 1, "=") || (i > 0 && part_of(i - 1, "=<>!")))) {
      return FormulaFault{"a formula assigns nothing; == compares", static_cast<int>(i) + 1};
    }
  }
  auto inside = std::make_shared<Inside>();
  inside->text = text;
  inside->variables = variables;
  try {
    if (inside->of_this_thread().parser.GetNumResults() != 1) {
      return FormulaFault{"expected a single value", 1};
    }
  } catch (const mu::Parser::exception_type& e) {
    std::string known;
    for (const std::string& v : variables) {
      known += (known.empty() ? "" : ", ") + v;
    }
    const int at = std::clamp(e.GetPos(), 0, static_cast<int>(text.size()));
    switch (e.GetCode()) {
      case mu::ecUNASSIGNABLE_TOKEN:
        return FormulaFault{
            fmt::format("\"{}\" is not known; the variables are {}; the functions are {}",
                        e.GetToken(),
                        known,
                        kFunctions),
            at + 1};
      case mu::ecUNEXPECTED_EOF:
        return FormulaFault{"ends too soon", at + 1};
      default:
        return FormulaFault{fmt::format("cannot be read from \"{}\" on",
                                        std::string(text.substr(static_cast<std::size_t>(at), 20))),
                            at + 1};
    }
  } catch (const std::exception& e) {
    return FormulaFault{e.what(), 1};
  }
  return Formula(std::move(inside));
}

double Formula::operator()(std::span<const double> values) const {
  Instance& mine = inside_->of_this_thread();
  JOVILUX_HOT_ASSERT(values.size() == mine.values.size());
  std::copy(values.begin(), values.end(), mine.values.begin());
  return mine.parser.Eval();
}

const std::string& Formula::text() const { return inside_->text; }

}  // namespace jovilux
