#pragma once

#include <deque>
#include <functional>
#include <map>
#include <optional>
#include <string>

#include "core/base/level.h"
#include "engine/recorder.h"

namespace cruscotto {

/// A recording that takes only shots: from some time before a trigger to some time after it.
struct ShotPlan {
    std::string signal;  ///< whose level triggers; empty: none does
    double level = 0;
    double hysteresis = 0;
    bool falling = false;       ///< triggers on the way down, not up
    bool onMark = false;        ///< a mark triggers
    std::optional<Instant> at;  ///< this moment triggers, once
    Duration before = seconds(1);
    Duration after = seconds(1);
    int most = 1;  ///< shots; 0: until the recording is stopped
    /// What is kept while waiting; where it does not hold `before`, a shot begins later.
    std::size_t memoryBytes = std::size_t{256} << 20;
};

/// Lets those blocks through that belong to a shot, cut to the sample. Confined to one thread.
class ShotGate {
public:
    struct Part {
        BlockPtr block;
        Recorder::Columns columns;
        std::vector<RecordedBucket> buckets;
    };
    using Take = std::function<void(Part)>;
    ShotGate(ShotPlan plan, Take take)
        : plan_(std::move(plan)), detector_(plan_.level, plan_.hysteresis), take_(std::move(take)) {}

    /// New readings of a signal, before the block that they come from is passed.
    void look(const std::string& signal, const Readings& readings, const Block& block);
    void trigger(Instant at);
    void pass(Part part);

    [[nodiscard]] int shots() const { return shots_; }
    /// Time of the last trigger.
    [[nodiscard]] Instant triggeredAt() const { return triggeredAt_; }
    /// Behind this instant all shots have been taken and nothing more will come; nothing while shots are still due.
    [[nodiscard]] std::optional<Instant> completeFrom() const {
        return plan_.most > 0 && shots_ >= plan_.most ? std::optional(until_ + seconds(0.5)) : std::nullopt;
    }
    [[nodiscard]] const ShotPlan& plan() const { return plan_; }

private:
    void give(const Part& part);
    void keep(Part part);

    const ShotPlan plan_;
    LevelDetector detector_;
    const Take take_;
    std::deque<Part> waiting_;
    std::size_t waitingBytes_ = 0;
    int shots_ = 0;
    Instant triggeredAt_;
    Instant from_{std::numeric_limits<std::int64_t>::max()};   // of the newest shot
    Instant until_{std::numeric_limits<std::int64_t>::min()};  // half open
    struct Last {
        Instant end;
        std::uint64_t next = 0;
    };
    std::map<std::pair<std::string, std::string>, Last> last_;  // what was recorded last, by group
};

}  // namespace cruscotto
