#pragma once

#include <atomic>
#include <cstdint>

#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong. Any thread.
struct ToneFaults {
    std::atomic<bool> quiet{false};    ///< nothing is sent
    std::atomic<bool> flood{false};    ///< a hundred times as many as there should be
    std::atomic<bool> clipped{false};  ///< too loud
    std::vector<Fault> named();
};

/// A sound input's stream: a bearing's hum on the left, its lamp at mains frequency on the right; signed 16-bit
/// samples, the lower byte first, from a sample clock that is off by so many parts per million.
class Tone {
public:
    explicit Tone(double rate = 48000, double ppm = 0) : rate_(rate), ppm_(ppm) {}
    StandInHost::Begin begin();
    ToneFaults faults;
    static int left(std::uint64_t n, double rate);
    static int right(std::uint64_t n, double rate);

private:
    friend class ToneTalk;
    const double rate_, ppm_;
};

}  // namespace cruscotto
