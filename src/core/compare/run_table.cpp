#include "core/compare/run_table.h"

#include <algorithm>
#include <cmath>

namespace cruscotto {

Result<std::vector<RunTableRow>> runTable(const std::vector<std::pair<const Bench*, LaidOver>>& runs,
                                          const std::string& signal, const std::string& against, Span span,
                                          Progress* progress) {
    std::vector<StretchMeasures> all;
    bool any = false, state = false;
    for (const auto& [bench, run] : runs) {
        if (progress) {
            progress->advance(all.size(), runs.size());
            if (progress->cancelled()) return std::vector<RunTableRow>();
        }
        const SignalSpec* s = bench->signal(signal);
        const std::string with = bench->signal(against) ? against : std::string();
        auto measured = s ? measuresOver(*bench, *run.source, signal, with, run.own(span)) : StretchMeasures{};
        any = any || s;
        state = state || (s && s->isState());
        all.push_back(measured ? std::move(measured.value()) : StretchMeasures{});
    }
    if (!any) return failure("None of the runs has a signal \"{0}\".", signal);
    std::vector<RunTableRow> out;
    const auto take = [&](const MeasureKind& kind) {
        RunTableRow row;
        row.measure = kind.name;
        double sum = 0, squares = 0;
        row.least = row.greatest = row.deviation = row.mean = std::nan("");
        for (StretchMeasures& of : all) {
            const auto it = of.all.find(kind.name);
            Measure m = it == of.all.end()
                            ? Measure{std::nan(""), "1", -1, CRUSCOTTO_TEXT("this run does not have the signal")}
                            : it->second;
            // Numbers in two units have no mean.
            const bool counts = m.whyNot.empty() && std::isfinite(m.value) && (!row.values || m.unit == row.unit);
            if (counts) {
                row.unit = m.unit;
                ++row.values;
                sum += m.value;
                row.least = std::fmin(row.least, m.value);
                row.greatest = std::fmax(row.greatest, m.value);
            }
            row.of.push_back(std::move(m));
        }
        if (!row.values) return;
        row.mean = sum / static_cast<double>(row.values);
        for (const Measure& m : row.of)
            if (m.whyNot.empty() && std::isfinite(m.value) && m.unit == row.unit)
                squares += (m.value - row.mean) * (m.value - row.mean);
        if (row.values > 1) row.deviation = std::sqrt(squares / static_cast<double>(row.values - 1));
        out.push_back(std::move(row));
    };
    for (const MeasureKind& kind : measureKinds())
        if (measureFits(kind, state)) take(kind);
    if (!against.empty())
        for (const MeasureKind& kind : measureKindsOfTwo()) take(kind);
    return out;
}

}  // namespace cruscotto
