#pragma once

#include "core/run/run_reader.h"
#include "engine/recorder.h"
#include "support.h"

namespace cruscotto::test {

/// A recorder on a file of its own, fed with numbered blocks of one signal.
struct Feed {
    TempFolder folder;
    std::string path;
    std::shared_ptr<ScanGroup> group = oneChannelGroup(1000);
    std::unique_ptr<Recorder> recorder;
    std::uint64_t next = 0;

    explicit Feed(RecorderLimits limits = {}, Pace pace = Pace::realTime, const std::string& name = "a.run")
        : path(folder.file(name)) {
        std::filesystem::create_directories(std::filesystem::path(path).parent_path());
        const Bench bench = oneSignal();
        auto writer = RunWriter::create(path, bench, {});
        if (!writer) throw std::runtime_error(writer.error().english());
        recorder = std::make_unique<Recorder>(std::move(writer.value()), path, Instant{}, pace, limits,
                                              Recorder::Beginning{bench, {}});
    }
    void add(std::size_t n) {
        std::vector<double> v(n);
        for (std::size_t i = 0; i < n; ++i) v[i] = static_cast<double>(next + i);
        recorder->add(clockedBlock(group, next, {static_cast<std::int64_t>(next) * 1'000'000}, std::move(v)),
                      std::make_shared<std::vector<RecordedColumn>>(1, RecordedColumn{0, "in"}));
        next += n;
    }
    std::unique_ptr<RunReader> read() const {
        auto reader = RunReader::open(path);
        if (!reader) throw std::runtime_error(reader.error().english());
        return std::move(reader.value());
    }
    [[nodiscard]] bool allWritten() const {
        return eventually([&] { return recorder->status().samples == next && recorder->status().problem.empty(); });
    }
    [[nodiscard]] bool said(const std::string& words) const {
        return eventually([&] { return recorder->status().problem.english().find(words) != std::string::npos; });
    }
};

}  // namespace cruscotto::test
