#pragma once

#include <linux/counter.h>

#include <vector>

#include "standins/cabinet/cabinet_computer.h"
#include "standins/cabinet/local_node.h"

namespace cruscotto {

/// A counter that answers as the kernel's counter character device does: count 0 tells of each change and of each
/// hundredth (threshold), count 1 of each turn (index). One at a time may have it. One thread.
class MadeCounter : public NodeTalk {
public:
    explicit MadeCounter(const CabinetFaults& faults) : faults_(faults) {}
    /// That happened then (CLOCK_MONOTONIC).
    void happens(unsigned count, std::uint8_t event, std::uint64_t value, std::int64_t stampNs);

    int open(int holder) override;
    Answer control(int holder, std::uint64_t request, std::string& argument) override;
    void closed(int holder) override;
    [[nodiscard]] bool mute() const override { return faults_.mute; }

private:
    const CabinetFaults& faults_;
    int holder_ = -1;
    bool on_ = false;
    std::vector<counter_watch> asked_;
};

}  // namespace cruscotto
