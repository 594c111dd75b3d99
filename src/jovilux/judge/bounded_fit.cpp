// Matrix decompositions of any size take some 15 s to compile: they are used here alone.
#include "jovilux/judge/bounded_fit.h"

#include <Eigen/Dense>
#include <algorithm>
#include <utility>
#include <vector>

namespace jovilux {
namespace {

// Minimizes x'G x / 2 - g'x over [0, upper] by active sets: what is free is solved for exactly;
// what leaves its bounds is held there, and let go where the slope calls it back, one at a time, so
// that no set comes twice.
class ActiveSets {
 public:
  ActiveSets(Eigen::MatrixXd G, Eigen::VectorXd g, const Eigen::VectorXd& upper)
      : G_(std::move(G)),
        g_(std::move(g)),
        upper_(upper),
        x_(Eigen::VectorXd::Ones(G_.cols()).cwiseMin(upper)),
        held_(static_cast<std::size_t>(G_.cols()), false) {}

  Eigen::VectorXd run() {
    for (Eigen::Index round = 0; round < 20 * G_.cols() + 20; ++round) {
      if (!step_and_hold() && !let_go()) {
        break;
      }
    }
    return x_;
  }

 private:
  bool is_held(Eigen::Index i) const { return held_[static_cast<std::size_t>(i)]; }

  std::vector<Eigen::Index> free_unknowns() const {
    std::vector<Eigen::Index> out;
    for (Eigen::Index i = 0; i < G_.cols(); ++i) {
      if (!is_held(i) && G_(i, i) > 0) {
        out.push_back(i);
      }
    }
    return out;
  }

  // The minimum over the free unknowns, the others staying as they are.
  Eigen::VectorXd free_minimum(const std::vector<Eigen::Index>& open) const {
    Eigen::VectorXd out = x_;
    if (!open.empty()) {
      const Eigen::MatrixXd part = G_(open, open);
      const Eigen::VectorXd right = (g_ - G_ * x_)(open) + part * x_(open);
      const Eigen::VectorXd solved = part.completeOrthogonalDecomposition().solve(right);
      out(open) = solved;
    }
    return out;
  }

  // Goes towards the free minimum as far as all stay within their bounds, and holds the first that
  // would not; false where all do.
  bool step_and_hold() {
    const std::vector<Eigen::Index> open = free_unknowns();
    const Eigen::VectorXd target = free_minimum(open);
    double step = 1;
    Eigen::Index first = -1;
    for (const Eigen::Index i : open) {
      const double bound = std::clamp(target[i], 0.0, upper_[i]);
      if (bound != target[i]) {
        const double share = (bound - x_[i]) / (target[i] - x_[i]);
        if (share < step) {
          step = share;
          first = i;
        }
      }
    }
    x_ += step * (target - x_);
    if (first < 0) {
      return false;
    }
    x_[first] = target[first] < 0 ? 0 : upper_[first];
    held_[static_cast<std::size_t>(first)] = true;
    return true;
  }

  // Lets go of the unknown that the slope pulls back most; false where none is pulled.
  bool let_go() {
    const Eigen::VectorXd slope = G_ * x_ - g_;
    Eigen::Index freed = -1;
    double steepest = 1e-12 * (1 + g_.cwiseAbs().maxCoeff());
    for (Eigen::Index i = 0; i < G_.cols(); ++i) {
      const double pull = !is_held(i) ? 0 : x_[i] <= 0 ? -slope[i] : slope[i];
      if (pull > steepest && upper_[i] > 0) {
        steepest = pull;
        freed = i;
      }
    }
    if (freed < 0) {
      return false;
    }
    held_[static_cast<std::size_t>(freed)] = false;
    return true;
  }

  Eigen::MatrixXd G_;
  Eigen::VectorXd g_;
  const Eigen::VectorXd& upper_;
  Eigen::VectorXd x_;
  std::vector<bool> held_;
};

}  // namespace

Eigen::VectorXd bounded_quadratic(const Eigen::MatrixXd& G,
                                  const Eigen::VectorXd& g,
                                  const Eigen::VectorXd& upper,
                                  const Eigen::VectorXd& ridge) {
  Eigen::MatrixXd with_ridge = G;
  with_ridge.diagonal() += ridge;
  return ActiveSets(std::move(with_ridge), g + ridge, upper).run();
}

Eigen::VectorXd bounded_least_squares(const Eigen::MatrixXd& A,
                                      const Eigen::VectorXd& b,
                                      const Eigen::VectorXd& upper,
                                      const Eigen::VectorXd& ridge) {
  return bounded_quadratic(A.transpose() * A, A.transpose() * b, upper, ridge);
}

Eigen::MatrixXd made_positive(const Eigen::MatrixXd& G, double& least) {
  constexpr double kLeast = 1e-6;
  const Eigen::SelfAdjointEigenSolver<Eigen::MatrixXd> eigen(G);
  least = kLeast * std::max(1e-300, eigen.eigenvalues().maxCoeff());
  return eigen.eigenvectors() * eigen.eigenvalues().cwiseMax(least).asDiagonal() *
         eigen.eigenvectors().transpose();
}

Eigen::VectorXd sandwich_errors(const Eigen::MatrixXd& G, const Eigen::MatrixXd& scatter) {
  const Eigen::MatrixXd inverse = G.inverse();
  return (inverse * scatter * inverse).diagonal().cwiseSqrt();
}

}  // namespace jovilux
