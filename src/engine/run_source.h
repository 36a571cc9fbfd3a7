#pragma once

#include <atomic>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>

#include "core/history.h"
#include "core/run_reader.h"

namespace cruscotto {

/// A recorded run as a Source: read on a thread of its own, through the chains it was recorded with, into histories
/// that can be looked at while they fill. All members may be called from any thread.
class RunSource : public HistorySource {
public:
    /// Begins to read. `memoryBytes` bounds what single samples may take; of a longer run the oldest part is then shown
    /// from summaries of 64 samples, and state().samplesSince says from when on all of them are there.
    explicit RunSource(std::string path, std::size_t memoryBytes = std::size_t{1} << 30);
    /// Stops reading, if it has not ended.
    ~RunSource() override;

    struct State {
        bool opened = false;  ///< info() can be asked for
        bool done = false;
        double fraction = 0;
        std::uint64_t damagedBlocks = 0;
        std::optional<Instant> samplesSince;  ///< where it is not the beginning
        std::optional<Error> error;
    };
    [[nodiscard]] State state() const;
    /// Precondition: state().opened.
    [[nodiscard]] std::shared_ptr<const RunInfo> info() const;

private:
    void read(const std::stop_token& stop);

    const std::string path_;
    const std::size_t memoryBytes_;
    mutable std::mutex stateMutex_;  // guards what follows
    State state_;
    std::shared_ptr<const RunInfo> info_;
    std::jthread thread_;
};

}  // namespace cruscotto
