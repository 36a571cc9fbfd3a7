#pragma once

#include "core/history/history_source.h"
#include "core/history/timeline.h"
#include "support.h"

namespace cruscotto::test {

/// One signal, "in", that was read for so long.
struct ReadSignal {
    template <class F>
    ReadSignal(double rateHz, double time, F&& f)
        : bench(test::oneSignal()), timeline(std::make_shared<Timeline>(4096)), end(Instant{} + seconds(time)) {
        const auto n = static_cast<std::size_t>(rateHz * time);
        std::vector<double> values(n);
        for (std::size_t i = 0; i < n; ++i) values[i] = f(static_cast<double>(i) / rateHz);
        auto history = std::make_shared<SignalHistory>(timeline, SampleType::float64, HistorySize{1 << 21, 1 << 12});
        timeline->append(*test::clockedBlock(test::oneChannelGroup(rateHz), 0, {}, values));
        history->append(values, {values, {}});
        source.set("in", history, {}, ChannelKind::analogInput);
        source.setExtent({Instant{}, end});
    }
    Bench bench;
    HistorySource source;
    std::shared_ptr<Timeline> timeline;
    Instant end;
};

}  // namespace cruscotto::test
