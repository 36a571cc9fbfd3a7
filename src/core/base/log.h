#pragma once

#include <string>

#include "core/base/result.h"

namespace cruscotto {

/// The log file for when something goes wrong in the field: $XDG_STATE_HOME/cruscotto/cruscotto.log (or
/// ~/.local/state/...), 1 MiB, three old ones kept; empty, and then nothing is logged, where there is no home. Before
/// logTo() has succeeded, what is logged goes nowhere.
/// All may be called from any thread.
std::string defaultLogPath();
Result<void> logTo(const std::string& path);
void logInfo(const std::string& line);
void logWarning(const std::string& line);

}  // namespace cruscotto
