// One signal with its chain, as it stands in a bench: refused with a reason, or it works on whatever comes in, with as
// many readings as samples, and the same however that is cut.
#include "core/bench/bench.h"
#include "core/chain/stage_kind.h"

#include <cmath>
#include <cstdlib>
#include <string>

extern "C" int LLVMFuzzerTestOneInput(const unsigned char* data, std::size_t size) {
    using namespace cruscotto;
    const auto read = signalFromJson({reinterpret_cast<const char*>(data), size});
    if (!read) return read.error().english().empty() ? std::abort(), 0 : 0;
    const SignalSpec& s = read.value();
    if (!checkChain(s.chain, s.kind) || rememberedSamples(s.chain) > 100'000) return 0;
    for (const Stage& stage : s.chain) (void)describeStage(stage);
    const double inf = std::numeric_limits<double>::infinity(), none = std::nan("");
    const std::vector<double> raw{0, 1, -1, 603, 1e300, -1e300, none, inf, -inf, 0.5, 4294967295.0, 12, 12, 0};
    std::vector<Instant> times;
    for (std::size_t i = 0; i < raw.size(); ++i) times.push_back({static_cast<std::int64_t>(i * i) * 10'000'000});
    const auto run = [&](std::size_t part) {
        auto chain = ChainEvaluator::make(s.chain, s.kind);
        std::vector<double> out;
        if (!chain) return out;
        const std::size_t needs = neededSignals(s.chain).size();
        Readings readings;
        for (std::size_t i = 0; i < raw.size(); i += part) {
            const std::size_t end = std::min(raw.size(), i + part);
            const std::vector<double> values(raw.begin() + std::ptrdiff_t(i), raw.begin() + std::ptrdiff_t(end));
            const std::vector<Instant> when(times.begin() + std::ptrdiff_t(i), times.begin() + std::ptrdiff_t(end));
            const std::vector<std::span<const double>> needed(needs, std::span<const double>(values));
            chain.value().process(values, when, readings, needed);
            if (readings.values.size() != values.size()) std::abort();
            for (const QualityInterval& q : readings.quality)
                if (q.begin > q.end || q.end > values.size()) std::abort();
            out.insert(out.end(), readings.values.begin(), readings.values.end());
        }
        return out;
    };
    const auto whole = run(raw.size()), cut = run(3);
    for (std::size_t i = 0; i < whole.size(); ++i)
        if (whole[i] != cut[i] && !(std::isnan(whole[i]) && std::isnan(cut[i]))) std::abort();
    return 0;
}
