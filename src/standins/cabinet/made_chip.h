#pragma once

#include <linux/gpio.h>

#include <array>
#include <functional>
#include <map>
#include <vector>

#include "standins/cabinet/cabinet_computer.h"
#include "standins/cabinet/local_node.h"

namespace cruscotto {

/// A chip of eight lines that answers as the kernel's GPIO character device does (uAPI v2). One thread.
class MadeChip : public NodeTalk {
public:
    static constexpr unsigned lines = 8;
    enum Line : unsigned { guardDoor, shaftMark, lampSeen, stopChain, lamp, pump, kernels, nameless };
    /// `advance` has happen what has not until now: called before anybody is told where a line stands.
    MadeChip(const CabinetFaults& faults, std::function<void()> advance)
        : faults_(faults), advance_(std::move(advance)) {}

    /// An input's level changed then (CLOCK_MONOTONIC).
    void level(Line line, bool high, std::int64_t stampNs);
    /// So many changes of it that nobody is told of.
    void swallow(Line line, unsigned changes) { lines_[line].swallow += changes; }
    /// What an output is driven to; `otherwise` while nobody drives it.
    [[nodiscard]] bool driven(Line line, bool otherwise) const;
    /// How long a line must stand still until it is believed.
    [[nodiscard]] std::int64_t debounceNs(Line line) const;

    int open(int holder) override;
    Answer control(int holder, std::uint64_t request, std::string& argument) override;
    void handedOver(int by, int holder) override;
    void closed(int holder) override;
    [[nodiscard]] bool mute() const override { return faults_.mute; }

private:
    struct Held {
        gpio_v2_line_request request{};
        std::uint32_t number = 0;
    };
    struct Each {
        bool high = false;
        bool driven = false;  // as the wire has it
        std::uint32_t number = 0;
        unsigned swallow = 0;
    };
    [[nodiscard]] std::uint64_t flagsOf(const gpio_v2_line_request& request, unsigned index) const;
    /// Who has it, and as which of his lines.
    [[nodiscard]] std::pair<int, unsigned> holderOf(unsigned line) const;
    int giveLines(gpio_v2_line_request& request);
    int about(gpio_v2_line_info& info) const;

    const CabinetFaults& faults_;
    const std::function<void()> advance_;
    std::array<Each, lines> lines_{};
    std::map<int, Held> held_;
    gpio_v2_line_request next_{};
};

}  // namespace cruscotto
