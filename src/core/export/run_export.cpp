#include "core/export/run_export.h"

#include <algorithm>

namespace cruscotto {

Result<std::vector<const RunSignal*>> chosenSignals(const RunInfo& info, const std::vector<std::string>& names) {
    std::vector<const RunSignal*> out;
    const auto take = [&](const RunSignal* s) {
        if (std::find(out.begin(), out.end(), s) == out.end()) out.push_back(s);
    };
    if (names.empty()) {
        for (const auto& spec : info.bench.signals)
            if (const RunSignal* s = info.signal(spec->id)) take(s);
        for (const RunSignal& s : info.signals) take(&s);
    }
    for (const std::string& wanted : names) {
        const auto it = std::find_if(info.signals.begin(), info.signals.end(), [&](const RunSignal& s) {
            return s.key == wanted || s.current().name == wanted || s.current().tag == wanted;
        });
        if (it == info.signals.end()) {
            std::string all;
            for (const RunSignal& s : info.signals) all += (all.empty() ? "" : ", ") + s.key;
            return failure("This run has no signal \"{0}\". It has: {1}.", wanted, all);
        }
        take(&*it);
    }
    return out;
}

std::uint64_t beginResult(const std::vector<const RunSignal*>& chosen, ExportResult& result) {
    std::uint64_t total = 0;
    for (const RunSignal* s : chosen) {
        result.samples.push_back({s->key, 0});
        total += s->samples;
    }
    return total;
}

Span chosenSpan(const RunInfo& info, const ExportOptions& options) {
    return {info.span.from + options.from.value_or(Duration{0}),
            options.to ? info.span.from + *options.to : info.span.to};
}

Result<ExportResult> exportRun(const std::string& runPath, const std::string& path, const ExportOptions& options,
                               Progress& progress) {
    if (path.ends_with(".h5") || path.ends_with(".hdf5")) return exportHdf5(runPath, path, options, progress);
    return exportCsv(runPath, path, options, progress);
}

}  // namespace cruscotto
