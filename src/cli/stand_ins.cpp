#include <poll.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <thread>

#include "cli/commands.h"
#include "cli/say.h"

#include "standins/beehive/beehive.h"
#include "standins/cabinet/cabinet_computer.h"
#include "standins/canbus/pump_bus.h"
#include "standins/frameboard/weather_board.h"
#include "standins/gpioboard/pin_board.h"
#include "standins/iolink/sensor_master.h"
#include "standins/meter/bench_meter.h"
#include "standins/rack/cold_store_rack.h"
#include "standins/sound/tone.h"

namespace cruscotto::cli {

namespace {

std::string namesOf(const std::vector<Fault>& faults) {
    std::string out;
    for (const Fault& f : faults) out += (out.empty() ? "" : ", ") + f.name;
    return out;
}

/// Faults that are switched on from the beginning, and by typing their names while it runs.
class FaultSwitches {
public:
    explicit FaultSwitches(std::vector<Fault> faults) : faults_(std::move(faults)), on_(faults_.size()) {}
    void add(Fault fault) {
        faults_.push_back(std::move(fault));
        on_.push_back(false);
    }
    /// False if there is none of that name, which is said.
    bool turn(const std::string& name) {
        const auto it = std::ranges::find(faults_, name, &Fault::name);
        if (it == faults_.end()) {
            (void)complain(fmt::format("\"{}\" is no fault of this stand-in. It has: {}.", name, namesOf(faults_)),
                           wrongUsage);
            return false;
        }
        const auto i = static_cast<std::size_t>(it - faults_.begin());
        on_[i] = !on_[i];
        it->set(on_[i]);
        return true;
    }
    /// Until the command is interrupted.
    void listen() {
        bool open = true;
        std::string typed;
        while (!interrupted()) {
            pollfd in{STDIN_FILENO, POLLIN, 0};
            if (poll(&in, open ? 1 : 0, 20) <= 0 || (in.revents & (POLLIN | POLLHUP)) == 0) continue;
            // In the background of a terminal reading would stop the whole process.
            if (isatty(STDIN_FILENO) && tcgetpgrp(STDIN_FILENO) != getpgrp()) {
                std::this_thread::sleep_for(std::chrono::milliseconds(20));
                continue;
            }
            std::array<char, 256> bytes;
            const ssize_t n = read(STDIN_FILENO, bytes.data(), bytes.size());
            open = n > 0;
            for (ssize_t i = 0; i < n; ++i) {
                const char c = bytes[static_cast<std::size_t>(i)];
                if (c != '\n') {
                    if (typed.size() < 100) typed += c;
                } else if (const std::string name = std::exchange(typed, {}); !name.empty() && turn(name)) {
                    const auto which = std::ranges::find(faults_, name, &Fault::name) - faults_.begin();
                    say(fmt::format("{}: {}", name, on_[static_cast<std::size_t>(which)] ? "on" : "off"));
                }
            }
        }
    }

private:
    std::vector<Fault> faults_;
    std::vector<bool> on_;
};

}  // namespace

std::string standInFaults(const std::string& name) {
    if (name == "beehive") return namesOf(BeehiveFaults{}.named());
    if (name == "rack") return namesOf(RackFaults{}.named());
    if (name == "meter") return namesOf(MeterFaults{}.named());
    if (name == "weather") return namesOf(WeatherFaults{}.named());
    if (name == "sensors") return namesOf(MasterFaults{}.named());
    if (name == "tone") return namesOf(ToneFaults{}.named());
    if (name == "bus") return namesOf(PumpBusFaults{}.named());
    if (name == "pins") return namesOf(PinBoardFaults{}.named());
    if (name == "computer") return namesOf(CabinetFaults{}.named());
    return {};
}

int beehive(const StandInOptions& options) {
    BeehiveOptions o;
    using Format = BeehiveOptions::Format;
    o.format = options.format == "labelled" ? Format::labelled
               : options.format == "hex"    ? Format::hex
                                            : Format::delimited;
    o.linesPerSecond = options.linesPerSecond;
    o.seed = options.seed;
    o.link = options.link;
    o.asked = options.asked;
    o.baud = options.baud;
    auto hive = Beehive::open(o);
    if (!hive) return complain(hive.error().english(), failed);
    FaultSwitches switches(hive.value()->faults.named());
    if (!options.link.empty()) switches.add(fault("unplugged", hive.value()->faults.unplugged));
    for (const std::string& name : options.faults)
        if (!switches.turn(name)) return wrongUsage;
    say(options.link.empty() ? hive.value()->path() : options.link);
    const std::jthread board([&] { hive.value()->run(stopFlag()); });
    switches.listen();
    return ok;
}

namespace {

int serve(const HostedOptions& options, std::vector<Fault> faults, const StandInHost::Begin& onPty,
          const StandInHost::Begin& onTcp) {
    FaultSwitches switches(std::move(faults));
    std::unique_ptr<StandInHost> host;
    // A pseudo terminal that is plugged in again has another name: without a link nobody finds it.
    if (options.port || !options.link.empty())
        switches.add({"unplugged", [&host](bool on) {
                          if (host) on ? host->unplug() : host->plug();
                      }});
    for (const std::string& name : options.faults)
        if (!switches.turn(name)) return wrongUsage;
    auto opened = options.port ? StandInHost::onLoopback(onTcp, static_cast<std::uint16_t>(*options.port))
                               : StandInHost::onPty(onPty, options.link);
    if (!opened) return complain(opened.error().english(), failed);
    host = std::move(opened.value());
    say(host->address());
    switches.listen();
    return ok;
}
/// What is on no serial line.
HostedOptions onPort(HostedOptions options) {
    if (!options.port) options.port = 0;
    return options;
}

}  // namespace

int rack(const HostedOptions& options) {
    ColdStoreRack rack;
    return serve(options, rack.faults.named(), rack.onSerial(), rack.onTcp());
}
int meter(const HostedOptions& options) {
    BenchMeter meter;
    return serve(options, meter.faults.named(), meter.begin(), meter.begin());
}
int weather(const HostedOptions& options) {
    WeatherBoard board({});
    return serve(options, board.faults.named(), board.begin(), board.begin());
}
int sensors(const HostedOptions& options) {
    SensorMaster master;
    return serve(onPort(options), master.faults.named(), master.begin(), master.begin());
}
int tone(const HostedOptions& options) {
    Tone tone;
    return serve(onPort(options), tone.faults.named(), tone.begin(), tone.begin());
}
int pumpBus(const HostedOptions& options) {
    PumpBus bus(options.times);
    return serve(options, bus.faults.named(), bus.begin(), bus.begin());
}
int pinBoard(const HostedOptions& options) {
    PinBoard board;
    return serve(options, board.faults.named(), board.begin(), board.begin());
}
int cabinet(const CabinetOptions& options) {
    auto computer = CabinetComputer::open(options.folder);
    if (!computer) return complain(computer.error().english(), failed);
    CabinetComputer& c = *computer.value();
    FaultSwitches switches(c.faults.named());
    switches.add({"unplugged", [&c](bool on) { on ? c.unplug() : c.plug(); }});
    for (const std::string& name : options.faults)
        if (!switches.turn(name)) return wrongUsage;
    say(c.folder());
    switches.listen();
    return ok;
}

}  // namespace cruscotto::cli
