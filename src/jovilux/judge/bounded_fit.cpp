// Matrix decompositions of any size take long to compile: they are used here alone, and one kind of
// them. lazyProduct() goes without the blocked products of large matrices, for the same reason.
#include "jovilux/judge/bounded_fit.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <utility>
#include <vector>

namespace jovilux {
namespace {

using Eigen::MatrixXd;
using Eigen::VectorXd;
using Eigenvalues = Eigen::SelfAdjointEigenSolver<MatrixXd>;

// The shortest x that makes |matrix x - right| least; `matrix`: symmetric, without negative
// eigenvalues.
VectorXd shortest_solution(const MatrixXd& matrix, const VectorXd& right) {
  constexpr double kZero = 1e-13;  // eigenvalues over the largest one
  const Eigenvalues eigen(matrix);
  const double least = kZero * eigen.eigenvalues().maxCoeff();
  VectorXd along = eigen.eigenvectors().transpose().lazyProduct(right);
  for (Eigen::Index i = 0; i < along.size(); ++i) {
    const double value = eigen.eigenvalues()[i];
    along[i] = value > least ? along[i] / value : 0.0;
  }
  return eigen.eigenvectors().lazyProduct(along);
}

// The symmetric matrix with those eigenvectors and other eigenvalues.
MatrixXd with_eigenvalues(const Eigenvalues& eigen, const VectorXd& values) {
  const MatrixXd scaled = eigen.eigenvectors() * values.asDiagonal();
  return scaled.lazyProduct(eigen.eigenvectors().transpose());
}

// Minimizes x'G x / 2 - g'x over [0, upper] by active sets: what is free is solved for exactly;
// what leaves its bounds is held there, and let go where the slope calls it back, one at a time, so
// that no set comes twice.
class ActiveSets {
 public:
  ActiveSets(MatrixXd G, VectorXd g, const VectorXd& upper)
      : G_(std::move(G)),
        g_(std::move(g)),
        upper_(upper),
        x_(VectorXd::Ones(G_.cols()).cwiseMin(upper)),
        held_(static_cast<std::size_t>(G_.cols()), false) {}

  VectorXd run() {
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
  VectorXd free_minimum(const std::vector<Eigen::Index>& open) const {
    VectorXd out = x_;
    if (!open.empty()) {
      const MatrixXd part = G_(open, open);
      const VectorXd now = x_(open), pull = g_ - G_.lazyProduct(x_);
      const VectorXd right = VectorXd(pull(open)) + part.lazyProduct(now);
      out(open) = shortest_solution(part, right);
    }
    return out;
  }

  // Goes towards the free minimum as far as all stay within their bounds, and holds the first that
  // would not; false where all do.
  bool step_and_hold() {
    const std::vector<Eigen::Index> open = free_unknowns();
    const VectorXd target = free_minimum(open);
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
    const VectorXd slope = G_.lazyProduct(x_) - g_;
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

  MatrixXd G_;
  VectorXd g_;
  const VectorXd& upper_;
  VectorXd x_;
  std::vector<bool> held_;
};

}  // namespace

VectorXd bounded_quadratic(const MatrixXd& G,
                           const VectorXd& g,
                           const VectorXd& upper,
                           const VectorXd& ridge) {
  MatrixXd with_ridge = G;
  with_ridge.diagonal() += ridge;
  return ActiveSets(std::move(with_ridge), g + ridge, upper).run();
}

VectorXd bounded_least_squares(const MatrixXd& A,
                               const VectorXd& b,
                               const VectorXd& upper,
                               const VectorXd& ridge) {
  return bounded_quadratic(
      A.transpose().lazyProduct(A), A.transpose().lazyProduct(b), upper, ridge);
}

MatrixXd made_positive(const MatrixXd& G, double& least) {
  constexpr double kLeast = 1e-6;
  const Eigenvalues eigen(G);
  least = kLeast * std::max(1e-300, eigen.eigenvalues().maxCoeff());
  return with_eigenvalues(eigen, eigen.eigenvalues().cwiseMax(least));
}

VectorXd sandwich_errors(const MatrixXd& G, const MatrixXd& scatter) {
  const Eigenvalues eigen(G);
  const MatrixXd inverse = with_eigenvalues(eigen, eigen.eigenvalues().cwiseInverse()),
                 half = inverse.lazyProduct(scatter);
  return half.cwiseProduct(inverse.transpose()).rowwise().sum().cwiseSqrt();
}

}  // namespace jovilux
