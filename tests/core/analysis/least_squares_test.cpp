#include "core/analysis/least_squares.h"

#include <gtest/gtest.h>

#include <cmath>
#include <fstream>
#include <random>

#include "core/analysis/steadiness.h"
#include "where.h"

namespace cruscotto {
namespace {

constexpr double nineDigits = 1e-9;

void near(double is, double certified, const char* what) {
    EXPECT_NEAR(is, certified, nineDigits * std::fabs(certified)) << what;
}

/// NIST StRD, linear regression: Norris, 36 points.
TEST(LeastSquares, FitsTheReferenceLineToNineDigits) {
    std::ifstream file(std::string(test::sourceFolder) + "/tests/core/analysis/regression_norris.csv");
    std::vector<double> x, y;
    for (std::string row; std::getline(file, row);) {
        double a = 0, b = 0;
        if (std::sscanf(row.c_str(), "%lf,%lf", &a, &b) == 2) x.push_back(a), y.push_back(b);
    }
    ASSERT_EQ(x.size(), 36U);
    const auto fit = fitPolynomial(x, y, {}, {});
    ASSERT_TRUE(fit.ok());
    const PolynomialFit& f = fit.value();
    near(f.coefficients[0], -0.262323073774029, "b0");
    near(f.coefficients[1], 1.00211681802045, "b1");
    near(f.standardUncertainties[0], 0.232818234301152, "s(b0)");
    near(f.standardUncertainties[1], 0.429796848199937e-03, "s(b1)");
    near(f.residualStandardDeviation, 0.884796396144373, "s");
    EXPECT_EQ(f.degreesOfFreedom, 34);
}

/// The polynomials of degree 5 over x = 0 ... 20 that such programs are judged by: exact by their formula.
TEST(LeastSquares, FitsPolynomialsOfDegreeFiveToNineDigits) {
    for (const double step : {1.0, 0.1}) {
        std::vector<double> x, y, b;
        for (int k = 0; k <= 5; ++k) b.push_back(std::pow(step, k));
        for (int i = 0; i <= 20; ++i) {
            x.push_back(i);
            double sum = 0;
            for (std::size_t k = b.size(); k-- > 0;) sum = sum * i + b[k];
            y.push_back(sum);
        }
        const auto fit = fitPolynomial(x, y, {}, {5, false, false});
        ASSERT_TRUE(fit.ok());
        for (std::size_t k = 0; k <= 5; ++k) near(fit.value().coefficients[k], b[k], "coefficient");
    }
}

TEST(LeastSquares, HoldsWhatIsNotLookedFor) {
    const std::vector<double> x{1, 2, 3, 4}, y{1.9, 4.1, 6.1, 7.9};
    const auto through = fitPolynomial(x, y, {}, {1, false, true}).value();
    EXPECT_EQ(through.coefficients[0], 0);
    EXPECT_EQ(through.standardUncertainties[0], 0);
    // sum(xy) / sum(xx)
    EXPECT_NEAR(through.coefficients[1], (1.9 + 8.2 + 18.3 + 31.6) / 30, 1e-15);
    EXPECT_EQ(through.degreesOfFreedom, 3);
    const auto offset = fitPolynomial(x, y, {}, {1, true, false}).value();
    EXPECT_EQ(offset.coefficients[1], 1);
    EXPECT_NEAR(offset.coefficients[0], (0.9 + 2.1 + 3.1 + 3.9) / 4, 1e-15);
    EXPECT_NEAR(offset.residuals[0], 1.9 - (1 + 2.5), 1e-15);
}

TEST(LeastSquares, AWeightedPointCountsByItsUncertainty) {
    // An offset only: the weighted mean of the differences, 1/u^2 each, with u = 1 / sqrt(sum of the weights).
    const std::vector<double> x{0, 0, 0}, y{1, 1.1, 2}, u{0.1, 0.1, 1};
    const auto fit = fitPolynomial(x, y, u, {1, true, false}).value();
    EXPECT_NEAR(fit.coefficients[0], (100 * 1 + 100 * 1.1 + 2) / 201., 1e-12);
    EXPECT_NEAR(fit.standardUncertainties[0], 1 / std::sqrt(201.), 1e-12);
    // Points that scatter by more than is said widen it: the Birge ratio.
    const std::vector<double> far{1, 3, 2};
    EXPECT_GT(fitPolynomial(x, far, u, {1, true, false}).value().standardUncertainties[0], 5 / std::sqrt(201.));
}

/// A line through n points with scatter s: s sqrt(1/n + (x - mean)^2 / Sxx).
TEST(LeastSquares, TellsHowWellTheCurveIsKnown) {
    const std::vector<double> x{0, 1, 2, 3, 4}, y{0.1, 0.9, 2.1, 2.9, 4.1};
    const auto fit = fitPolynomial(x, y, {}, {}).value();
    for (const double at : {0., 2., 7.})
        EXPECT_NEAR(fit.standardUncertainty(at),
                    fit.residualStandardDeviation * std::sqrt(1. / 5 + (at - 2) * (at - 2) / 10), 1e-12);
}

TEST(LeastSquares, TooFewPointsAreSaid) {
    const std::vector<double> two{1, 1}, y{2, 3};
    EXPECT_FALSE(fitPolynomial(two, y, {}, {}).ok()) << "two at one place tell no slope";
    EXPECT_TRUE(fitPolynomial(two, y, {}, {1, true, false}).ok());
    const std::vector<double> nan{1, std::nan("")};
    EXPECT_FALSE(fitPolynomial(nan, y, {}, {}).ok());
    EXPECT_NEAR(studentT95(4), 2.776, 1e-9);
    EXPECT_NEAR(studentT95(1e9), 1.96, 1e-3);
    EXPECT_GT(studentT95(27), studentT95(28));
}

TEST(Steadiness, TellsNoiseFromDriftAndKnowsWhatNeighboursShare) {
    std::mt19937 random(5);
    std::normal_distribution<double> noise(0, 0.1);
    std::vector<double> calm, moving, slow;
    std::vector<Instant> times;
    double state = 0;
    for (int i = 0; i < 2000; ++i) {
        times.push_back(Instant{i * 1'000'000LL});
        calm.push_back(5 + noise(random));
        moving.push_back(5 + 0.001 * i + noise(random));
        state = 0.95 * state + noise(random) * std::sqrt(1 - 0.95 * 0.95);
        slow.push_back(state);
    }
    const Steadiness a = steadinessOf(calm, times), b = steadinessOf(moving, times), c = steadinessOf(slow, times);
    EXPECT_NEAR(a.mean, 5, 0.01);
    EXPECT_NEAR(a.noise, 0.1, 0.01);
    EXPECT_TRUE(a.settled);
    EXPECT_NEAR(a.standardUncertainty, 0.1 / std::sqrt(2000.), 0.001);
    EXPECT_NEAR(b.drift, 2, 0.05);
    EXPECT_FALSE(b.settled);
    EXPECT_NEAR(b.noise, 0.1, 0.01) << "the drift is no noise";
    // Correlated by 0.95 from one to the next: (1 + 0.95) / (1 - 0.95) = 39 times fewer are independent.
    EXPECT_NEAR(c.standardUncertainty / a.standardUncertainty, std::sqrt(39.), 2.5);
}

}  // namespace
}  // namespace cruscotto
