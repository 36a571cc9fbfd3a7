#include "core/compare/band.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

double BandLimits::halfWidth(const BandPlace& place) const {
    return spreads * std::sqrt(1 + 1 / static_cast<double>(std::max<std::size_t>(1, place.runs))) * place.spread +
           allowance;
}

RunBand bandOf(const std::string& signal, const std::vector<LaidOver>& runs, const ColumnRequest& places) {
    RunBand out{places, std::vector<BandPlace>(places.n)};
    struct Sums {
        double mean = 0, squares = 0;
    };
    std::vector<Sums> sums(places.n);
    std::vector<Column> columns;
    for (const LaidOver& run : runs) {
        run.source->columns(signal, {places.from - run.shift, places.width, places.n}, columns);
        std::optional<double> stands;  // what it was, where readings come slower than the places
        for (std::size_t i = 0; i < std::min(columns.size(), places.n); ++i) {
            if (columns[i].summary.count > 0)
                stands = columns[i].summary.mean;
            else if (columns[i].broken())
                stands.reset();
            const Instant begin = columns[i].begin + run.shift;
            if (!stands || begin - run.shift >= run.source->extent().to) continue;
            const double before = sums[i].mean;
            ++out.at[i].runs;
            sums[i].mean += (*stands - before) / static_cast<double>(out.at[i].runs);
            sums[i].squares += (*stands - before) * (*stands - sums[i].mean);
        }
    }
    const std::size_t around = places.n / 50;
    double squares = 0, freedom = 0;  // of the places around
    const auto count = [&](std::size_t i, double sign) {
        if (out.at[i].runs < 2) return;
        squares += sign * sums[i].squares;
        freedom += sign * static_cast<double>(out.at[i].runs - 1);
    };
    for (std::size_t i = 0; i < std::min(around, places.n); ++i) count(i, 1);
    for (std::size_t i = 0; i < places.n; ++i) {
        if (i + around < places.n) count(i + around, 1);
        if (i > around) count(i - around - 1, -1);
        const bool known = out.at[i].runs >= 2 && freedom > 0;
        out.at[i].mean = known ? sums[i].mean : std::nan("");
        out.at[i].spread = known ? std::sqrt(std::max(0.0, squares) / freedom) : 0;
    }
    return out;
}

BandVerdict judgedBy(const RunBand& band, const BandLimits& limits, const Source& source, const std::string& signal) {
    BandVerdict out;
    std::vector<Column> columns;
    source.columns(signal, band.places, columns);
    std::size_t outside = 0;
    std::optional<double> stands;
    for (std::size_t i = 0; i < std::min(columns.size(), band.at.size()); ++i) {
        const BandPlace& place = band.at[i];
        if (columns[i].summary.count > 0)
            stands = columns[i].summary.mean;
        else if (columns[i].broken())
            stands.reset();
        if (!stands || std::isnan(place.mean) || columns[i].begin >= source.extent().to) continue;
        ++out.judged;
        const double off = *stands - place.mean;
        const double beyond = std::fabs(off) - limits.halfWidth(place);
        if (beyond <= 0) continue;
        ++outside;
        if (!out.firstOutside) out.firstOutside = columns[i].begin;
        if (beyond <= std::fabs(out.farthest)) continue;
        out.farthest = std::copysign(beyond, off);
        out.farthestAt = columns[i].begin;
    }
    if (out.judged) out.outsideShare = static_cast<double>(outside) / static_cast<double>(out.judged);
    out.fine = out.outsideShare <= limits.outside;
    return out;
}

Text verdictText(const BandVerdict& verdict, const std::string& unit, Instant zero) {
    if (verdict.judged == 0) return CRUSCOTTO_TEXT("it and the band do not meet in time");
    const double percent = 100 * verdict.outsideShare;
    if (percent == 0) return CRUSCOTTO_TEXT("inside the band all the time");
    const std::string in = unitText(unit);
    const std::string by = threeDigits(std::fabs(verdict.farthest)) + (in.empty() || in == "1" ? "" : " " + in);
    const std::string at = threeDigits((verdict.farthestAt - zero).seconds());
    return verdict.farthest > 0
               ? text(CRUSCOTTO_TEXT("outside for {0} % of the time, above it by {1} at most, at {2} s"),
                      threeDigits(percent), by, at)
               : text(CRUSCOTTO_TEXT("outside for {0} % of the time, below it by {1} at most, at {2} s"),
                      threeDigits(percent), by, at);
}

}  // namespace cruscotto
