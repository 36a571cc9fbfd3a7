#include "core/analysis/sine_fit.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <unsupported/Eigen/FFT>
#include <vector>

namespace cruscotto {

namespace {

constexpr double fullTurn = 2 * std::numbers::pi;

/// The parameters a, b, c and, with the frequency, its step: y = a cos wt + b sin wt + c.
struct Step {
    Eigen::VectorXd x;
    Eigen::MatrixXd covariance;  // times the variance of the residual
    double squares = 0;
};

Step leastSquares(std::span<const double> y, std::span<const double> t, double hz, const Step* before) {
    const auto n = static_cast<Eigen::Index>(y.size());
    const Eigen::Index columns = before ? 4 : 3;
    Eigen::MatrixXd m(n, columns);
    Eigen::VectorXd v(n);
    for (Eigen::Index i = 0; i < n; ++i) {
        const double at = t[static_cast<std::size_t>(i)], angle = fullTurn * hz * at;
        m(i, 0) = std::cos(angle);
        m(i, 1) = std::sin(angle);
        m(i, 2) = 1;
        if (before) m(i, 3) = at * (-before->x[0] * std::sin(angle) + before->x[1] * std::cos(angle));
        v[i] = y[static_cast<std::size_t>(i)];
    }
    Step out;
    const Eigen::HouseholderQR<Eigen::MatrixXd> qr(m);
    out.x = qr.solve(v);
    out.squares = (v - m * out.x).squaredNorm();
    const Eigen::MatrixXd r = qr.matrixQR().topRows(columns).triangularView<Eigen::Upper>();
    const Eigen::MatrixXd inverse = r.triangularView<Eigen::Upper>().solve(Eigen::MatrixXd::Identity(columns, columns));
    out.covariance = inverse * inverse.transpose();
    return out;
}

SineFit fitOf(const Step& step, double hz, std::size_t n) {
    SineFit out;
    const double a = step.x[0], b = step.x[1];
    out.amplitude = std::hypot(a, b);
    out.phase = std::atan2(-b, a);
    out.offset = step.x[2];
    out.hz = hz;
    out.residualRms = std::sqrt(step.squares / static_cast<double>(n));
    const auto columns = static_cast<std::size_t>(step.x.size());
    if (n <= columns || !(out.amplitude > 0)) return out;
    const double variance = step.squares / static_cast<double>(n - columns);
    const Eigen::MatrixXd& c = step.covariance;
    const auto along = [&](double da, double db) {
        return std::sqrt(std::max(0.0, variance * (da * da * c(0, 0) + 2 * da * db * c(0, 1) + db * db * c(1, 1))));
    };
    out.uAmplitude = along(a / out.amplitude, b / out.amplitude);
    out.uPhase = along(b / (out.amplitude * out.amplitude), -a / (out.amplitude * out.amplitude));
    out.uOffset = std::sqrt(variance * c(2, 2));
    if (columns == 4) out.uHz = std::sqrt(variance * c(3, 3)) / fullTurn;
    return out;
}

/// The frequency of the tallest line, as samples at an even pace have it.
double tallestLine(std::span<const double> y, double rate) {
    constexpr std::size_t most = std::size_t{1} << 20;
    y = y.first(std::min(y.size(), most));
    std::size_t n = 1;
    while (n < 2 * y.size()) n *= 2;
    double mean = 0;
    for (const double v : y) mean += v / static_cast<double>(y.size());
    std::vector<double> padded(n, 0);
    for (std::size_t i = 0; i < y.size(); ++i) {
        // Hann: a line far from a bin does not spill over
        const double window =
            0.5 - 0.5 * std::cos(fullTurn * (static_cast<double>(i) + 0.5) / static_cast<double>(y.size()));
        padded[i] = (y[i] - mean) * window;
    }
    std::vector<std::complex<double>> lines;
    Eigen::FFT<double> fft;
    fft.fwd(lines, padded);
    std::size_t best = 1;
    for (std::size_t k = 1; k < n / 2; ++k)
        if (std::norm(lines[k]) > std::norm(lines[best])) best = k;
    double shift = 0;
    if (best > 1 && best + 1 < n / 2) {
        const double l = std::log(std::norm(lines[best - 1]) + 1e-300), m = std::log(std::norm(lines[best]) + 1e-300),
                     r = std::log(std::norm(lines[best + 1]) + 1e-300);
        if (const double bend = l - 2 * m + r; bend < 0) shift = 0.5 * (l - r) / bend;
    }
    return (static_cast<double>(best) + shift) * rate / static_cast<double>(n);
}

}  // namespace

SineFit sineAt(std::span<const double> values, std::span<const double> seconds, double hz) {
    return fitOf(leastSquares(values, seconds, hz, nullptr), hz, values.size());
}

std::optional<SineFit> sineThrough(std::span<const double> values, std::span<const double> seconds) {
    constexpr std::size_t fewest = 8;
    constexpr int mostSteps = 30;
    if (values.size() < fewest || seconds.size() != values.size()) return {};
    const auto [low, high] = std::ranges::minmax(values);
    const double length = seconds.back() - seconds.front();
    if (!(high > low) || !(length > 0)) return {};
    double hz = tallestLine(values, static_cast<double>(values.size() - 1) / length);
    if (!(hz * length > 0.7)) return {};
    Step step = leastSquares(values, seconds, hz, nullptr);
    for (int i = 0; i < mostSteps; ++i) {
        Step next = leastSquares(values, seconds, hz, &step);
        const double by = next.x[3] / fullTurn;
        step = std::move(next);
        if (!std::isfinite(by)) return {};
        // not farther than the line is wide
        hz += std::clamp(by, -0.5 / length, 0.5 / length);
        if (!(hz > 0)) return {};
        if (std::fabs(by) < 1e-13 * hz) break;
    }
    if (hz * length < 0.95) return {};
    SineFit out = fitOf(step, hz, values.size());
    // amplitude and phase belong to the frequency that came out last
    const SineFit at = sineAt(values, seconds, hz);
    out.amplitude = at.amplitude;
    out.phase = at.phase;
    out.offset = at.offset;
    out.residualRms = at.residualRms;
    return out;
}

double harmonicsRms(std::span<const double> values, std::span<const double> seconds, const SineFit& sine, int last) {
    const double rate = static_cast<double>(values.size() - 1) / (seconds.back() - seconds.front());
    std::vector<double> rest(values.size());
    for (std::size_t i = 0; i < values.size(); ++i)
        rest[i] = values[i] - sine.offset - sine.amplitude * std::cos(fullTurn * sine.hz * seconds[i] + sine.phase);
    double squares = 0;
    for (int k = 2; k <= last && k * sine.hz < rate / 2; ++k) {
        const double a = sineAt(rest, seconds, k * sine.hz).amplitude;
        squares += a * a / 2;
    }
    return std::sqrt(squares);
}

}  // namespace cruscotto
