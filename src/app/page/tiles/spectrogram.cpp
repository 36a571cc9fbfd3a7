#include "app/page/tiles/spectrogram.h"

#include <algorithm>
#include <cmath>

#include "app/widgets/theme.h"

namespace cruscotto {

namespace {

constexpr std::size_t mostSamplesOfRow = std::size_t{1} << 18;

/// Of the samples that end at `end`; no lines where they are not held, or not evenly there.
Spectrum rowAt(const Source& source, const Spectrogram::How& how, Instant end) {
    std::vector<Point> points;
    const Span span{end - seconds(1 / how.resolutionHz), end};
    if (!source.points(how.signal, span, mostSamplesOfRow, points)) return {};
    std::erase_if(points, [&](const Point& p) { return p.t < span.from || p.t > end; });
    constexpr std::size_t fewest = 16;
    if (points.size() < fewest) return {};
    std::vector<double> x(points.size());
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (!std::isfinite(points[i].value)) return {};
        x[i] = points[i].value;
    }
    const double rate = static_cast<double>(x.size() - 1) / (points.back().t - points.front().t).seconds();
    constexpr double whole = 0.95;  // of less than a whole row its lines lie elsewhere
    if (static_cast<double>(x.size()) < whole * rate / how.resolutionHz) return {};
    return spectrumOf(x, rate, fastLength(x.size()), how.window, 1);
}

/// From the ground through blue to the ink: lightness alone tells more from less.
QColor colourFor(double fraction) {
    const Theme& t = theme();
    const auto mix = [](const QColor& a, const QColor& b, double part) {
        return QColor::fromRgbF(static_cast<float>(a.redF() + (b.redF() - a.redF()) * part),
                                static_cast<float>(a.greenF() + (b.greenF() - a.greenF()) * part),
                                static_cast<float>(a.blueF() + (b.blueF() - a.blueF()) * part));
    };
    constexpr double middle = 0.6;
    return fraction < middle ? mix(t.ground, t.signal.front(), fraction / middle)
                             : mix(t.signal.front(), t.ink, (fraction - middle) / (1 - middle));
}

}  // namespace

bool Spectrogram::update(const Source& source, const How& how, Span span, std::size_t rows) {
    const Duration width{std::max<std::int64_t>(
        1, (span.to - span.from).ns / std::max<std::int64_t>(1, static_cast<std::int64_t>(rows)))};
    if (how != how_ || width != width_) rows_.clear();
    how_ = how;
    width_ = width;
    last_ = span.to.ns / width.ns;
    first_ = last_ - static_cast<std::int64_t>(rows) + 1;
    ++revision_;
    std::erase_if(rows_, [&](const auto& row) { return row.first < first_ || row.first > last_; });
    const auto tell = [this](bool all) {
        highest_ = 0;
        for (const auto& [n, row] : rows_) highest_ = std::max(highest_, row.highest);
        return all;
    };
    constexpr double atOnce = 300'000;  // samples that are looked at
    double looked = 0;
    for (std::int64_t n = last_; n >= first_; --n) {
        if (rows_.contains(n)) continue;
        if (looked > atOnce) return tell(false);
        Spectrum s = rowAt(source, how, Instant{n * width.ns});
        looked += 2.0 * static_cast<double>(s.power.size()) + 100;
        const double most = s.power.size() > 1 ? *std::max_element(s.power.begin() + 1, s.power.end()) : 0;
        rows_[n] = {s.stepHz, most, std::move(s.power)};
    }
    return tell(true);
}

QImage Spectrogram::picture(int width, const std::function<double(double)>& hzAt, double low, double high) const {
    const int height = static_cast<int>(last_ - first_ + 1);
    QImage out(std::max(1, width), std::max(1, height), QImage::Format_ARGB32_Premultiplied);
    out.fill(Qt::transparent);
    constexpr int shades = 256;
    std::vector<QRgb> table;
    for (int i = 0; i < shades; ++i) table.push_back(colourFor(i / (shades - 1.0)).rgb());
    std::vector<double> edges;
    for (int x = 0; x <= width; ++x) edges.push_back(hzAt(x));
    const double decades = std::log10(high / low);
    for (const auto& [n, row] : rows_) {
        if (row.power.empty() || n < first_ || n > last_) continue;
        auto* line = reinterpret_cast<QRgb*>(out.scanLine(static_cast<int>(last_ - n)));
        const auto lines = static_cast<double>(row.power.size());
        for (int x = 0; x < width; ++x) {
            // the highest of the lines in the pixel, or the one that it lies on
            const double from = std::round(edges[static_cast<std::size_t>(x)] / row.stepHz);
            const double to = std::max(from + 1, std::round(edges[static_cast<std::size_t>(x) + 1] / row.stepHz));
            if (from < 1 || from >= lines) continue;
            double most = 0;
            for (auto i = static_cast<std::size_t>(from); i < static_cast<std::size_t>(std::min(to, lines)); ++i)
                most = std::max(most, row.power[i]);
            const double fraction = most > 0 ? std::clamp(std::log10(most / low) / decades, 0.0, 1.0) : 0;
            line[x] = table[static_cast<std::size_t>(fraction * (shades - 1))];
        }
    }
    return out;
}

}  // namespace cruscotto
