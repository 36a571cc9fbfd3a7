#pragma once

#include "core/run/run_reader.h"
#include "devices/device_kind.h"

namespace cruscotto {

/// The kind "recorded-run": plays a run's raw samples with their timing, faster or slower, once or again and again, so
/// that pages and rules can be tried on what was recorded.
DeviceKind replayKind();

/// The bench of a run with each of its devices played from the run. What drove outputs is read as an input.
struct ReplayOptions {
    double speed = 1;  ///< 2: twice as fast
    bool loop = false;
};
Bench replayBench(const RunInfo& run, const std::string& runPath, const ReplayOptions& options);

}  // namespace cruscotto
