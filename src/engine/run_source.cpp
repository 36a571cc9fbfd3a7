#include "engine/run_source.h"

#include <algorithm>

namespace cruscotto {

RunSource::RunSource(std::string path, std::size_t memoryBytes) : path_(std::move(path)), memoryBytes_(memoryBytes) {
    thread_ = std::jthread([this](const std::stop_token& stop) { read(stop); });
}

RunSource::~RunSource() {
    thread_.request_stop();
    thread_.join();
}

RunSource::State RunSource::state() const {
    const std::lock_guard lock(stateMutex_);
    return state_;
}

std::shared_ptr<const RunInfo> RunSource::info() const {
    const std::lock_guard lock(stateMutex_);
    return info_;
}

void RunSource::read(const std::stop_token& stop) {
    auto opened = RunReader::open(path_);
    if (!opened) {
        const std::lock_guard lock(stateMutex_);
        state_.error = opened.error();
        state_.done = true;
        return;
    }
    RunReader& reader = *opened.value();
    const RunInfo& info = reader.info();
    setExtent(info.span);
    if (!info.anchors.empty()) setAnchor(info.anchors.front());
    std::uint64_t total = 0;
    for (const RunSignal& s : info.signals) total += s.samples;
    // 16 bytes a sample: raw and reading. Every signal gives up the same share where they do not all fit.
    const double share = std::min(
        1.0, static_cast<double>(memoryBytes_) / (16.0 * static_cast<double>(std::max<std::uint64_t>(1, total))));
    {
        const std::lock_guard lock(stateMutex_);
        info_ = std::make_shared<const RunInfo>(info);
        state_.opened = true;
        if (share < 1)
            state_.samplesSince =
                Instant{info.span.to.ns -
                        static_cast<std::int64_t>(static_cast<double>((info.span.to - info.span.from).ns) * share / 2)};
    }
    std::uint64_t done = 0, damaged = 0;
    for (const RunGroup& group : info.groups) {
        RunReplay replay(reader, group.id);
        const auto& signals = replay.signals();
        auto timeline =
            std::make_shared<Timeline>(group.rateHz > 0 ? 65536 : std::max<std::uint64_t>(1, group.samples));
        std::vector<std::shared_ptr<SignalHistory>> histories;
        for (const RunSignal* s : signals) {
            HistorySize size;
            size.samples =
                std::max<std::size_t>(64, static_cast<std::size_t>(static_cast<double>(group.samples) * share));
            if (share < 1) size.samples = std::bit_floor(size.samples);
            size.buckets = group.samples / bucketSamples(1) + 1;
            histories.push_back(std::make_shared<SignalHistory>(timeline, size));
            set(s->key, histories.back(), s->current().chain, s->current().kind);
        }
        RunReplay::Step step;
        std::vector<double> raw;
        while (!stop.stop_requested() && replay.next(step)) {
            timeline->append(*step.block);
            for (std::size_t i = 0; i < signals.size(); ++i) {
                raw.clear();
                appendAsDouble(step.block->columns[i], raw);
                histories[i]->append(raw, step.readings[i]);
                done += raw.size();
            }
            const std::lock_guard lock(stateMutex_);
            state_.fraction = static_cast<double>(done) / static_cast<double>(std::max<std::uint64_t>(1, total));
        }
        damaged += replay.damagedBlocks();
    }
    const std::lock_guard lock(stateMutex_);
    state_.damagedBlocks = damaged;
    state_.fraction = 1;
    state_.done = true;
}

}  // namespace cruscotto
