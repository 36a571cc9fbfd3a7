#pragma once

#include <string>

#include "engine/engine.h"

namespace cruscotto::cli {

/// Does what the bench's rules want that is not the engine's to do, as far as a command without a window can.
class RuleRequests {
public:
    /// `run`: the file that is being recorded, beside which what rules keep is written; empty: none is.
    /// `endsDevices`: whoever ends the recording ends them with it, at once; not where outputs are to be made safe.
    RuleRequests(Engine& engine, Bench bench, std::string run = {}, bool endsDevices = false)
        : engine_(engine), bench_(std::move(bench)), run_(std::move(run)), endsDevices_(endsDevices) {}
    /// What they have wanted since the last time; then an engine that waits for that goes on. True where one of them
    /// ends the recording.
    bool obey();

private:
    void keep(const std::string& rule, Instant at, double lasts);
    Engine& engine_;
    Bench bench_;
    const std::string run_;
    const bool endsDevices_;
    int kept_ = 0;
};

}  // namespace cruscotto::cli
