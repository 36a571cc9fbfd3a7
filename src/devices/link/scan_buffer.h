#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

#include "devices/device.h"

namespace cruscotto {

/// Samples of channels that are read together at times of their own, until they are handed over as a block. Confined to
/// one thread.
class ScanBuffer {
public:
    /// Each column has its channel's type; what is added is converted to it: rounded where it is whole, held at its
    /// ends.
    ScanBuffer(std::string device, std::string name, std::vector<Channel> channels);
    /// One value a channel. A time before the one before it gets that time, a nanosecond later. Not a number, and what
    /// a quality says: marked so.
    void add(Instant at, std::span<const double> values, std::span<const Quality> qualities = {});
    /// Between `since`, or the last sample where that is later, and the next sample nothing was measured; before the
    /// first sample that is no gap. Precondition: what was added has been delivered.
    void away(Instant since, const std::string& cause, Quality quality = Quality::gap);
    /// A block of what was added since the last time, where anything was; and that nothing more comes, where that was
    /// said.
    void deliver(DeviceSink& sink);
    [[nodiscard]] const ScanGroup& group() const { return *group_; }

private:
    std::shared_ptr<const ScanGroup> group_;
    std::uint64_t next_ = 0;
    std::optional<Instant> last_;
    std::optional<Gap> gap_;     // before what is held
    std::optional<Gap> coming_;  // its end is the next sample
    bool quiet_ = false;         // which is to be told
    std::vector<Instant> times_;
    std::vector<Samples> columns_;
    std::vector<std::vector<QualityInterval>> quality_;
};

}  // namespace cruscotto
