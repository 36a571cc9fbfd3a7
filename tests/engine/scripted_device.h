#pragma once

#include <functional>
#include <memory>
#include <mutex>
#include <string>
#include <vector>

#include "core/base/number_text.h"
#include "engine/engine.h"
#include "support.h"

namespace cruscotto::test {

/// A device that does what the test says: hands over blocks from a list, remembers what its outputs were set to.
class ScriptedDevice : public Device {
public:
    struct Log {
        std::mutex mutex;
        std::vector<std::string> said;
        std::function<void()> hold;  // called behind each setOutput()
        void say(const std::string& s) {
            const std::lock_guard lock(mutex);
            said.push_back(s);
        }
        std::vector<std::string> all() {
            const std::lock_guard lock(mutex);
            return said;
        }
    };
    ScriptedDevice(Log& log, std::function<void(DeviceSink&, std::stop_token)> script, bool takesSettings = true)
        : log_(log), script_(std::move(script)), takesSettings_(takesSettings) {}
    void run(DeviceSink& sink, std::stop_token stop) override {
        log_.say("run");
        script_(sink, stop);
        log_.say("end");
    }
    void setOutput(const std::string& terminal, double value) override {
        log_.say(terminal + "=" + exactNumber(value));
    }
    void allowOutputs(std::uint64_t fellSafe) override {
        if (fellSafe > 0) log_.say("allowed " + std::to_string(fellSafe));
    }
    void sendSafe() override { log_.say("sends what is ready"); }
    bool reconfigure(const JsonText&, const std::vector<TerminalRequest>&) override { return takesSettings_; }
    bool request(const std::vector<TerminalRequest>& terminals) override {
        log_.say("asked for " + std::to_string(terminals.size()));
        return takesRequests;
    }
    bool takesRequests = true;

private:
    Log& log_;
    std::function<void(DeviceSink&, std::stop_token)> script_;
    const bool takesSettings_;
};

/// Kinds of which each device is made by `make`, called with the terminals that are asked for.
template <class Make>
std::shared_ptr<const DeviceKinds> kindsThatAre(Make make) {
    std::vector<DeviceKind> kinds;
    for (const char* key : {"scripted", "sim-io-box"}) {
        DeviceKind& kind = kinds.emplace_back();
        kind.key = key;
        kind.check = [](const JsonText&) -> Result<void> { return {}; };
        kind.make = [make](const DeviceContext& context, const JsonText&, const std::vector<TerminalRequest>& asked) {
            return std::unique_ptr<Device>(make(context, asked));
        };
    }
    return std::make_shared<const DeviceKinds>(std::move(kinds));
}

inline EngineOptions scripted(ScriptedDevice::Log& log, std::function<void(DeviceSink&, std::stop_token)> script) {
    EngineOptions o;
    o.kinds = kindsThatAre(
        [&log, script](const auto&, const auto&) { return std::make_unique<ScriptedDevice>(log, script); });
    return o;
}

inline Bench oneOutput() {
    Bench b;
    b.name = "Test";
    b = withDevice(b, {"box", "Box", "scripted", "", ""});
    SignalSpec s;
    s.id = "drive";
    s.name = "Drive";
    s.device = "box";
    s.terminal = "AO0";
    s.kind = ChannelKind::analogOutput;
    s.output = OutputSpec{0, 10, 3, 0.5};
    b = withSignal(b, s);
    s = {};
    s.id = "in";
    s.name = "In";
    s.device = "box";
    s.terminal = "AI0";
    return withSignal(b, s);
}

}  // namespace cruscotto::test
