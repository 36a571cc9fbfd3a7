#pragma once

#include <atomic>
#include <chrono>
#include <cstdint>
#include <deque>
#include <optional>
#include <string>
#include <vector>

#include "core/base/guarded.h"
#include "standins/fault.h"
#include "standins/stand_in_host.h"

namespace cruscotto {

/// What can be made to go wrong with the meter. Any thread.
struct MeterFaults {
    std::atomic<bool> silent{false};
    std::atomic<bool> endless{false};      ///< its answers never end
    std::atomic<bool> giantBlock{false};   ///< a block that promises 900 MB
    std::atomic<bool> wrongLength{false};  ///< a block longer than it says
    std::atomic<int> answersAfterMs{0};
    std::atomic<bool> identifiesAtOnce{false};  ///< however late its other answers are: out of order
    std::atomic<bool> plain{false};             ///< knows neither *OPT? nor INSTrument:CATalog?
    std::vector<Fault> named();
};

/// A meter with a source and a switch unit of six channels, that speaks as IEEE 488.2 asks for: *IDN?, *RST, *CLS,
/// *OPC?, SYSTem:ERRor?, VOLTage <v>, VOLTage?, VOLTage:MODE FIXed|LIST, LIST:VOLTage <v,...>, LIST:DWELl <s,...> (each
/// at most 100 of them, 1 ms to 60 s), INITiate, ABORt (what the list was at then stays until the mode is FIXed),
/// MEASure:VOLTage?, FETCh? (volts, amperes), READ? (@101:106), CURVe? (a block of 500 i16), OVERload?, *OPT?,
/// INSTrument:CATalog?. Everything else is in its error queue.
class BenchMeter {
public:
    StandInHost::Begin begin();
    /// The answer with its end, or nothing.
    std::string answer(std::string message);
    /// What it gives now.
    [[nodiscard]] double source() const;
    /// Lists that have been begun.
    [[nodiscard]] int lists() const { return lists_; }
    static constexpr const char* identity = "Cruscotto,Bench meter stand-in,0,1.0";

    MeterFaults faults;

private:
    const std::chrono::steady_clock::time_point began_ = std::chrono::steady_clock::now();
    using Clock = std::chrono::steady_clock;
    /// Of the source: "" where it was understood, else the error.
    std::string setSource(const std::string& head, const std::string& tail);

    std::atomic<int> lists_{0};
    mutable Mutex mutex_;
    double source_ GUARDED_BY(mutex_) = 5;
    bool listMode_ GUARDED_BY(mutex_) = false;
    std::vector<double> listed_ GUARDED_BY(mutex_), dwells_ GUARDED_BY(mutex_);
    std::optional<Clock::time_point> begun_ GUARDED_BY(mutex_), ended_ GUARDED_BY(mutex_);
    std::deque<std::string> errors_ GUARDED_BY(mutex_);
};

}  // namespace cruscotto
