#include "jovilux/judge/target_levels.h"

#include "jovilux/judge/bounded_fit.h"

#include <Eigen/Core>
#include <algorithm>
#include <cmath>

namespace jovilux {
namespace {

// The levels that meters ask for: what one unit of each light brings to each meter, over its
// target.
struct TargetSystem {
  Eigen::MatrixXd A, errors;  // meters x lights; standard errors
  Eigen::VectorXd upper;

  // Levels, with those of fixed lights as they are.
  Eigen::VectorXd solve(const Eigen::MatrixXd& light,
                        const std::vector<BalancedLight>& lights) const;
};

Eigen::VectorXd TargetSystem::solve(const Eigen::MatrixXd& light,
                                    const std::vector<BalancedLight>& lights) const {
  Eigen::MatrixXd free = light;
  Eigen::VectorXd missing = Eigen::VectorXd::Ones(light.rows());
  for (Eigen::Index l = 0; l < light.cols(); ++l) {
    if (const BalancedLight& b = lights[static_cast<std::size_t>(l)]; b.fixed) {
      missing -= b.times * light.col(l);
      free.col(l).setZero();
    }
  }
  // Of all that will do, what changes least; each light counts by what it brings, so that those
  // that bring the same light are scaled alike.
  constexpr double kStay = 1e-5;
  Eigen::VectorXd x = bounded_least_squares(
      free, missing, upper, kStay * (free.colwise().sum().transpose().array() + 1e-6).matrix());
  for (Eigen::Index l = 0; l < light.cols(); ++l) {
    if (const BalancedLight& b = lights[static_cast<std::size_t>(l)]; b.fixed) {
      x[l] = b.times;
    }
  }
  return x;
}

TargetSystem target_system(const std::vector<MeterResult>& measured,
                           const std::vector<double>& wanted,
                           const std::vector<BalancedLight>& lights) {
  const auto rows = static_cast<Eigen::Index>(wanted.size()),
             n = static_cast<Eigen::Index>(lights.size());
  TargetSystem out{
      Eigen::MatrixXd::Zero(rows, n), Eigen::MatrixXd::Zero(rows, n), Eigen::VectorXd::Zero(n)};
  for (Eigen::Index r = 0; r < rows; ++r) {
    const MeterResult& m = measured[static_cast<std::size_t>(r)];
    const double scale =
        1 / (static_cast<double>(m.readings.size()) * wanted[static_cast<std::size_t>(r)]);
    for (Eigen::Index l = 0; l < n; ++l) {
      const auto layer =
          std::find(m.layers.begin(), m.layers.end(), lights[static_cast<std::size_t>(l)].layer);
      if (layer == m.layers.end()) {
        continue;
      }
      const auto k = static_cast<std::size_t>(layer - m.layers.begin());
      double squares = 0;
      for (const MeterReading& reading : m.readings) {  // a grid counts by its average
        out.A(r, l) += scale * reading.by_light[k].value;
        squares += reading.by_light[k].standard_error * reading.by_light[k].standard_error;
      }
      out.errors(r, l) = scale * std::sqrt(squares);
    }
  }
  for (Eigen::Index l = 0; l < n; ++l) {
    const double d = lights[static_cast<std::size_t>(l)].dimmer;
    out.upper[l] = d > 0 ? 1 / d : 0;
  }
  return out;
}

// Standard errors of the levels: each reading moved by its own error, one after the other.
Eigen::VectorXd level_errors(const TargetSystem& system,
                             const Eigen::VectorXd& levels,
                             const std::vector<BalancedLight>& lights) {
  Eigen::VectorXd squares = Eigen::VectorXd::Zero(levels.size());
  for (Eigen::Index r = 0; r < system.A.rows(); ++r) {
    for (Eigen::Index l = 0; l < system.A.cols(); ++l) {
      Eigen::MatrixXd moved = system.A;
      moved(r, l) += system.errors(r, l);
      squares += (system.solve(moved, lights) - levels).cwiseAbs2();
    }
  }
  return squares.cwiseSqrt();
}

}  // namespace

TargetLevels solve_target_levels(const std::vector<MeterResult>& measured,
                                 const std::vector<double>& wanted,
                                 std::vector<BalancedLight>& lights) {
  const TargetSystem system = target_system(measured, wanted, lights);
  const Eigen::VectorXd levels = system.solve(system.A, lights),
                        errors = level_errors(system, levels, lights);
  Eigen::VectorXd at_most = system.upper;
  for (std::size_t l = 0; l < lights.size(); ++l) {
    const auto i = static_cast<Eigen::Index>(l);
    if (lights[l].fixed) {
      at_most[i] = lights[l].times;
    } else {
      lights[l].times = levels[i];
      lights[l].error = errors[i];
    }
  }
  const Eigen::VectorXd got = system.A * levels, most = system.A * at_most;
  TargetLevels out;
  for (std::size_t r = 0; r < wanted.size(); ++r) {
    out.got.push_back(got[static_cast<Eigen::Index>(r)] * wanted[r]);
    out.most.push_back(most[static_cast<Eigen::Index>(r)] * wanted[r]);
  }
  return out;
}

}  // namespace jovilux
