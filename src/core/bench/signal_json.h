#pragma once

#include "core/bench/json_fields.h"

/// Signals with their chains, outputs and what is kept of them, as the bench file has them (docs/bench-format.md).
namespace cruscotto {

nlohmann::ordered_json signalJson(const SignalSpec& signal);
/// `where` is the JSON pointer of it, for the problems.
SignalSpec readSignal(const nlohmann::ordered_json& json, const std::string& where, std::vector<Problem>& problems);

}  // namespace cruscotto
