#pragma once

#include <span>
#include <vector>

#include "core/base/result.h"

/// Linear least squares, for the fits of calibrations.
namespace cruscotto {

/// A polynomial fitted to points, y = sum of coefficients[k] x^k.
struct PolynomialFit {
    std::vector<double> coefficients;             ///< b0, b1 ...; those that are held are among them
    std::vector<double> standardUncertainties;    ///< one for each, 0 for one that is held
    std::vector<std::vector<double>> covariance;  ///< of the coefficients, square, in the same order
    std::vector<double> residuals;                ///< y less the polynomial, one for each point
    double residualStandardDeviation = 0;         ///< sqrt(sum of squares / degrees of freedom); 0 without any
    int degreesOfFreedom = 0;
    [[nodiscard]] double at(double x) const;
    /// Of the polynomial at x, by the law of propagation (GUM, JCGM 100:2008, 5.2.2).
    [[nodiscard]] double standardUncertainty(double x) const;
};

/// Which coefficients are looked for: the others are held.
struct PolynomialForm {
    int degree = 1;            ///< at most 9
    bool offsetOnly = false;   ///< b1 is held at 1, and b0 looked for
    bool throughZero = false;  ///< b0 is held at 0
};

/// The least-squares polynomial through points, by Householder QR on x moved and scaled to -1 ... 1, in extended
/// precision. `u`: standard uncertainties of the y, in their unit; where all are given and above 0 each point counts by
/// 1/u^2, and the covariance is of those (GUM H.3 has the unweighted case), widened by the Birge ratio where the points
/// scatter by more; else by the residuals. Errors: fewer points that differ in x than coefficients; a number that is
/// not finite.
Result<PolynomialFit> fitPolynomial(std::span<const double> x, std::span<const double> y, std::span<const double> u,
                                    const PolynomialForm& form);

/// Student's t for a level of confidence of 95 %, two-sided (GUM table G.2, interpolated by 1/dof). 1.96 for none
/// below 1.
double studentT95(double degreesOfFreedom);

}  // namespace cruscotto
