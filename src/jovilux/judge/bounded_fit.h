#pragma once

#include <Eigen/Core>

namespace jovilux {

/// x in [0, upper] that makes x'G x / 2 - g'x + sum of ridge_i (x_i - 1)^2 / 2 least, by active
/// sets. `G`: symmetric, without negative eigenvalues.
Eigen::VectorXd bounded_quadratic(const Eigen::MatrixXd& G,
                                  const Eigen::VectorXd& g,
                                  const Eigen::VectorXd& upper,
                                  const Eigen::VectorXd& ridge);

/// x in [0, upper] that makes |A x - b|^2 + sum of ridge_i (x_i - 1)^2 least. `A`: rows x unknowns.
Eigen::VectorXd bounded_least_squares(const Eigen::MatrixXd& A,
                                      const Eigen::VectorXd& b,
                                      const Eigen::VectorXd& upper,
                                      const Eigen::VectorXd& ridge);

/// The symmetric matrix G with its small and negative eigenvalues, which noise makes, raised to
/// 1e-6 of the largest one; that bound is written to `least`.
Eigen::MatrixXd made_positive(const Eigen::MatrixXd& G, double& least);

/// The roots of the diagonal of G^-1 scatter G^-1, the sandwich estimate of standard errors
/// (H. White, "A heteroskedasticity-consistent covariance matrix estimator", Econometrica 48,
/// 1980). `G`: symmetric, with positive eigenvalues; `scatter`: sum of the scores' outer products.
Eigen::VectorXd sandwich_errors(const Eigen::MatrixXd& G, const Eigen::MatrixXd& scatter);

}  // namespace jovilux
