#include "jovilux/base/formula.h"

#include "jovilux/base/assert.h"

#include <algorithm>
#include <cmath>
#include <numbers>

#include <fmt/format.h>
#include <muParser.h>
#include <tbb/enumerable_thread_specific.h>

namespace jovilux {
namespace {

double clamped(double v, double lo, double hi) { return std::max(lo, std::min(hi, v)); }

double smoothstep(double a, double b, double v) {
  const double t = a == b ? (v < a ? 0.0 : 1.0) : clamped((v - a) / (b - a), 0, 1);
  return t * t * (3 - 2 * t);
}

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
    for (std::size_t i = 0; i < variables.size(); ++i) {
      parser.DefineVar(variables[i], &values[i]);
    }
    parser.SetExpr(text);
    parser.Eval();  // errors surface here, once
  }
  Instance(const Instance&) = delete;
};

}  // namespace

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
            fmt::format("\"{}\" is not known; the variables are {}", e.GetToken(), known), at + 1};
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
