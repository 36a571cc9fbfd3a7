#pragma once

#include <atomic>
#include <map>
#include <memory>
#include <optional>
#include <stop_token>
#include <string>
#include <vector>

#include "core/base/result.h"
#include "core/bench/bench.h"
#include "core/control/pattern.h"
#include "core/signal/block.h"
#include "devices/device_status.h"
#include "devices/terminal_setup.h"
#include "devices/wire.h"

namespace cruscotto {

/// Where a device hands over what it measures. May be called from the device's thread only.
class DeviceSink {
public:
    virtual ~DeviceSink() = default;
    /// Blocks of one group come in time order. Never blocks when the bench runs in real time; may wait for the rest of
    /// the pipeline when it runs as fast as possible.
    virtual void deliver(BlockPtr block) = 0;
    virtual void report(DeviceStatus status) = 0;
    /// Nothing of this group is read any more; its last value is old until its next block comes.
    virtual void quiet(const std::shared_ptr<const ScanGroup>& /*group*/) {}
    /// Now, on the bench's time axis.
    [[nodiscard]] virtual Instant now() const = 0;
};

enum class Pace { realTime, asFastAsPossible };

struct DeviceContext {
    std::string id;  ///< in the bench
    Pace pace = Pace::realTime;
    /// Deliver exactly what lies before this instant and then stop by itself (for devices that make their own time).
    std::optional<Instant> until;
    /// What passes on the link is told here while it is open. Never null where an engine runs the device.
    std::shared_ptr<WireTap> wire{};
    /// Nothing is driven, and nothing is sent but what reading needs.
    bool atRest = false;
    /// When whoever sets the outputs was last at work, in nanoseconds of the steady clock. A device that drives outputs
    /// puts them to their safe values when that is longer ago than `longestHang`. Null: it is not looked at.
    std::shared_ptr<const std::atomic<std::int64_t>> pulse{};
    static constexpr std::int64_t longestHang = 3'000'000'000;
};

/// One connected thing. Constructed from its settings; run() is called once, on a thread of its own.
class Device {
public:
    virtual ~Device() = default;
    /// Measures until stopped (or, in a context with an end, until that). What it throws ends the device, not the
    /// program.
    virtual void run(DeviceSink& sink, std::stop_token stop) = 0;
    /// Any thread. A value out of the output's range is clamped to it; an unknown terminal is ignored.
    virtual void setOutput(const std::string& terminal, double value) = 0;
    /// Any thread. How many values the output can play by itself; 0: it is told value by value.
    [[nodiscard]] virtual std::size_t mostPlayed(const std::string& /*terminal*/) const { return 0; }
    /// Any thread. The output plays all of this by itself from now on, until its next setOutput() or a failure; how the
    /// device refuses it is said as for a value. False: it cannot, not now or not so many.
    virtual bool playByItself(const std::string& /*terminal*/, const PlayedList& /*list*/) { return false; }
    /// Any thread, first before run(): what each output is put to when nobody watches over it. A device that has been
    /// told this puts its outputs there by itself when its link fails, and then takes no setOutput() until
    /// allowOutputs(): what was decided before the failure was known must not reach it afterwards.
    virtual void setSafeValues(const std::map<std::string, double>& /*byTerminal*/) {}
    /// Any thread: whoever sets the outputs knows of the first `fellSafe` failures (DeviceStatus).
    virtual void allowOutputs(std::uint64_t /*fellSafe*/) {}
    /// The thread of run(), behind it, where that was ended by an exception: sends what is kept ready for a crash.
    virtual void sendSafe() {}
    /// Any thread. Writes a parameter of the device's own; how that went is said with the parameter.
    virtual void setParameter(const std::string& /*key*/, const std::string& /*value*/) {}
    /// Any thread. Takes new settings over without a stop; false if the device must be made anew for them.
    virtual bool reconfigure(const JsonText& settings, const std::vector<TerminalRequest>& terminals) = 0;
    /// Any thread. The bench asks for other terminals, or other ranges, than before; false if the device must be made
    /// anew for them. What delivers all it has need not care.
    virtual bool request(const std::vector<TerminalRequest>& /*terminals*/) { return true; }
};

}  // namespace cruscotto
