#pragma once

#include <span>

#include "core/base/result.h"

namespace cruscotto {

/// How a signal answers a step of an output: as a delay and one time constant (a first-order process with dead time).
struct StepResponse {
    double gain = 0;         ///< what the signal changes, per what the output changed
    double deadSeconds = 0;  ///< before it begins to
    double tauSeconds = 0;   ///< until it has come 63.2 % of the way from there
    double rest = 0;         ///< standard deviation of what the fit leaves, over what it changed
};

/// By the times at which it has come 28.3 % and 63.2 % of the way (Smith 1957). `seconds` ascending, the step at 0; the
/// readings before it are where it began, those of the last tenth where it ended. Errors: too little before or after,
/// or the signal did not answer beyond its noise, or has not settled.
Result<StepResponse> fitStep(std::span<const double> seconds, std::span<const double> values, double outputChange);

/// Settings of a proportional-integral control for it (the SIMC rules, Skogestad 2003, tau_c = dead time or a tenth of
/// tau, whichever is longer).
struct ProposedControl {
    double gain = 0;  ///< with the sign of the process taken out
    double integralSeconds = 0;
    bool reverse = false;
};
ProposedControl proposeControl(const StepResponse& response);

}  // namespace cruscotto
