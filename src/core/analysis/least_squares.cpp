#include "core/analysis/least_squares.h"

#include <Eigen/QR>
#include <algorithm>
#include <array>
#include <cmath>

namespace cruscotto {

namespace {

using Matrix = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic>;
using Vector = Eigen::Matrix<long double, Eigen::Dynamic, 1>;

/// The matrix that turns coefficients over u = (x - centre) / half into those over x.
Matrix backFromScaled(int degree, long double centre, long double half) {
    Matrix out = Matrix::Zero(degree + 1, degree + 1);
    // u^k = sum over j of (k over j) x^j (-centre)^(k-j) / half^k
    for (int k = 0; k <= degree; ++k) {
        long double binomial = 1;
        for (int j = k; j >= 0; --j) {
            out(j, k) = binomial * std::pow(-centre, static_cast<long double>(k - j)) /
                        std::pow(half, static_cast<long double>(k));
            binomial = binomial * j / (k - j + 1);
        }
    }
    return out;
}

std::size_t distinct(std::span<const double> x) {
    std::vector<double> sorted(x.begin(), x.end());
    std::ranges::sort(sorted);
    return static_cast<std::size_t>(std::unique(sorted.begin(), sorted.end()) - sorted.begin());
}

}  // namespace

double PolynomialFit::at(double x) const {
    double y = 0;
    for (std::size_t k = coefficients.size(); k-- > 0;) y = y * x + coefficients[k];
    return y;
}

double PolynomialFit::standardUncertainty(double x) const {
    // In extended precision: the terms of a high degree cancel.
    long double sum = 0, xi = 1;
    for (const auto& row : covariance) {
        long double xj = 1;
        for (const double c : row) {
            sum += xi * xj * c;
            xj *= x;
        }
        xi *= x;
    }
    return std::sqrt(static_cast<double>(std::max(sum, 0.0L)));
}

Result<PolynomialFit> fitPolynomial(std::span<const double> x, std::span<const double> y, std::span<const double> u,
                                    const PolynomialForm& form) {
    const std::size_t n = x.size();
    const auto finite = [](double v) { return std::isfinite(v); };
    if (y.size() != n || form.degree < 0 || form.degree > 9) return failure("The points do not fit together.");
    if (!std::ranges::all_of(x, finite) || !std::ranges::all_of(y, finite))
        return failure("A point has a number that is not finite.");
    const int first = form.throughZero ? 1 : 0, last = form.offsetOnly ? 0 : form.degree;
    const int wanted = last - first + 1;
    const std::size_t different =
        form.throughZero && wanted == 1
            ? static_cast<std::size_t>(std::ranges::any_of(x, [](double v) { return v != 0; }))
            : distinct(x);
    if (n < static_cast<std::size_t>(wanted) || different < static_cast<std::size_t>(wanted))
        return failure("{0} points that differ are needed; there are {1}.", wanted, std::min(n, different));

    // Moved and scaled where that helps; where b0 is held the origin has to stay.
    long double low = x[0], high = x[0];
    for (const double v : x) low = std::min<long double>(low, v), high = std::max<long double>(high, v);
    const bool move = !form.throughZero && last > 0;
    const long double centre = move ? (low + high) / 2 : 0;
    long double half = move ? (high - low) / 2 : std::max(std::fabs(low), std::fabs(high));
    if (half == 0) half = 1;

    const bool weighted = u.size() == n && std::ranges::all_of(u, [](double v) { return v > 0; });
    const auto rows = static_cast<Eigen::Index>(n);
    Matrix a(rows, wanted);
    Vector b(rows);
    for (Eigen::Index i = 0; i < rows; ++i) {
        const auto at = static_cast<std::size_t>(i);
        const long double w = weighted ? 1.0L / u[at] : 1.0L, s = (x[at] - centre) / half;
        for (int k = 0; k < wanted; ++k) a(i, k) = w * std::pow(s, static_cast<long double>(first + k));
        b(i) = w * (static_cast<long double>(y[at]) - (form.offsetOnly ? x[at] : 0.0L));
    }
    const Eigen::HouseholderQR<Matrix> qr(a);
    const Vector scaled = qr.solve(b);
    const Matrix r = qr.matrixQR().topRows(wanted).triangularView<Eigen::Upper>();
    const Matrix rInverse = r.triangularView<Eigen::Upper>().solve(Matrix::Identity(wanted, wanted));
    const long double squares = (a * scaled - b).squaredNorm();

    PolynomialFit out;
    const int degree = std::max(last, form.offsetOnly ? 1 : last);
    Matrix back = Matrix::Zero(degree + 1, wanted);
    back.topRows(last + 1) = backFromScaled(last, centre, half).middleCols(first, wanted);
    Vector found = back * scaled;
    if (form.offsetOnly) found(1) += 1;
    out.degreesOfFreedom = static_cast<int>(n) - wanted;
    // What the weights do not explain is in the scatter; without weights the scatter is all that is known.
    long double variance = out.degreesOfFreedom > 0 ? squares / out.degreesOfFreedom : 0;
    if (weighted) variance = std::max(variance, 1.0L);
    const Matrix covariance = back * (rInverse * rInverse.transpose()) * back.transpose() * variance;
    for (int k = 0; k <= degree; ++k) {
        out.coefficients.push_back(static_cast<double>(found(k)));
        out.standardUncertainties.push_back(std::sqrt(static_cast<double>(std::max(covariance(k, k), 0.0L))));
        auto& row = out.covariance.emplace_back();
        for (int j = 0; j <= degree; ++j) row.push_back(static_cast<double>(covariance(k, j)));
    }
    long double plain = 0;
    for (std::size_t i = 0; i < n; ++i) {
        long double fitted = 0;
        for (int k = degree; k >= 0; --k) fitted = fitted * x[i] + found(k);
        out.residuals.push_back(static_cast<double>(y[i] - fitted));
        plain += (y[i] - fitted) * (y[i] - fitted);
    }
    if (out.degreesOfFreedom > 0)
        out.residualStandardDeviation = std::sqrt(static_cast<double>(plain / out.degreesOfFreedom));
    return out;
}

double studentT95(double degreesOfFreedom) {
    if (!(degreesOfFreedom >= 1)) return 1.96;
    static constexpr std::array<std::pair<double, double>, 26> table{
        {{1, 12.706}, {2, 4.303},  {3, 3.182},  {4, 2.776},  {5, 2.571},  {6, 2.447},  {7, 2.365},
         {8, 2.306},  {9, 2.262},  {10, 2.228}, {11, 2.201}, {12, 2.179}, {13, 2.160}, {14, 2.145},
         {15, 2.131}, {16, 2.120}, {17, 2.110}, {18, 2.101}, {19, 2.093}, {20, 2.086}, {25, 2.060},
         {30, 2.042}, {35, 2.030}, {40, 2.021}, {50, 2.009}, {100, 1.984}}};
    if (degreesOfFreedom >= 100) return 1.96 + (table.back().second - 1.96) * 100 / degreesOfFreedom;
    const auto above = std::ranges::upper_bound(table, degreesOfFreedom, {}, &std::pair<double, double>::first);
    const auto& [n0, t0] = *(above - 1);
    if (above == table.end()) return t0;
    const auto& [n1, t1] = *above;
    return t0 + (t1 - t0) * (1 / degreesOfFreedom - 1 / n0) / (1 / n1 - 1 / n0);
}

}  // namespace cruscotto
