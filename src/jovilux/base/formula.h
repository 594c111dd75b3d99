#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <variant>
#include <vector>

namespace jovilux {

/// Why a text is no formula; `column` counts from 1 within the text.
struct FormulaFault {
  std::string text;
  int column = 1;
};

/// A user's expression of named variables, parsed once a thread: + - * / ^, comparisons, c ? a : b,
/// sin, cos, exp, sqrt, abs, min, max ..., floor, round, fract, mod(a, b) with the sign of b,
/// mix(a, b, t), step(edge, v), clamp(v, lo, hi), smoothstep(a, b, v), pow, noise of one to three
/// values in -1 .. 1, the constants pi and tau. Cheap to copy; calls may run on all threads at once
/// without locks.
class Formula {
 public:
  /// The longest text that is read [bytes]; it bounds the depth of nesting too.
  static constexpr std::size_t kLongest = 1024;

  static std::variant<Formula, FormulaFault> parse(std::string_view text,
                                                   const std::vector<std::string>& variables);

  /// The value; not finite where the expression has none (1/0). `values`: one for each variable, in
  /// order.
  double operator()(std::span<const double> values) const;
  const std::string& text() const;

 private:
  struct Inside;
  explicit Formula(std::shared_ptr<Inside> inside) : inside_(std::move(inside)) {}
  std::shared_ptr<Inside> inside_;
};

}  // namespace jovilux
