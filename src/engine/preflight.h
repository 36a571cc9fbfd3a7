#pragma once

#include <map>
#include <optional>
#include <string>
#include <vector>

#include "core/bench/bench.h"
#include "core/history/source.h"
#include "devices/device_status.h"

namespace cruscotto {

/// What is to be looked at before it counts, with what to do about it.
struct PreflightFinding {
    enum class Grade { good, amber, red } grade = Grade::good;
    std::string about;  ///< id of the signal or device; empty: the bench
    std::string name;   ///< what it is called
    std::string topic;  ///< "connected", "plausible", "range", "noise", "calibration", "rate", "link", "disk", "time"
    Text words, remedy;
};
const char* gradeWord(PreflightFinding::Grade grade);

/// What of the bench and its computer is known besides the readings.
struct PreflightFacts {
    std::map<std::string, DeviceStatus> devices;
    std::string today;                       ///< as 2026-11-29
    std::optional<std::uint64_t> freeBytes;  ///< where runs go
    double bytesPerSecond = 0;               ///< that a recording takes
    std::uint64_t lost = 0;                  ///< samples that never came through
};

/// One list over the last `span` before `now`, worst first: each signal connected, plausible, its range used, its
/// noise, calibrated until, its rate achieved; the devices' links; disk and time.
std::vector<PreflightFinding> preflight(const Bench& bench, const Source& source, Instant now, Duration span,
                                        const PreflightFacts& facts);
PreflightFinding::Grade worstOf(const std::vector<PreflightFinding>& findings);

}  // namespace cruscotto
