#include "devices/computer/computer_device.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "core/base/number_text.h"
#include "core/base/parsed.h"
#include "devices/computer/sensor_tree.h"
#include "devices/kernel_file.h"
#include "devices/link/link_driver.h"

namespace cruscotto {

namespace {

constexpr Duration lookAgainEvery = milliseconds(2000);

struct ComputerSettings {
    std::string root = "/";
    double everySeconds = 1;
};

Result<ComputerSettings> computerSettings(const JsonText& json) {
    ComputerSettings out;
    SettingsReader settings(json);
    out.root = settings.word("root", "/");
    if (out.root.empty()) return failure("\"root\" must be a folder; / is this computer.");
    out.everySeconds = settings.number("every-s", 1, 0.001, 86400);
    if (auto read = settings.result(); !read) return read.error();
    return out;
}

class Computer : public LinkDriver {
public:
    Computer(DeviceContext context, ComputerSettings settings, const std::vector<TerminalRequest>& requests)
        : LinkDriver(std::move(context), {}), settings_(std::move(settings)) {
        want(requests);
    }
    bool request(const std::vector<TerminalRequest>& requests) override {
        requestLater(requests);
        return true;
    }

protected:
    std::optional<ByteLink::Failure> open() override {
        sensors_ = findKernelSensors(settings_.root);
        if (!sensors_.empty()) return std::nullopt;
        return ByteLink::Failure{LinkState::absent,
                                 text(CRUSCOTTO_TEXT("Under {0} the kernel offers no sensors: neither sys/class/hwmon "
                                                     "nor sys/bus/iio nor sys/bus/counter "
                                                     "has any. A module for them may have to be loaded."),
                                      settings_.root)};
    }
    void close() override {}
    void wake() override {}
    [[nodiscard]] Text lostSentence() const override {
        return CRUSCOTTO_TEXT("The sensors are gone. They are looked for again; the gap is kept.");
    }

    End talk(const std::stop_token& stop) override {
        Instant due = now(), looked = due;
        offer();
        while (!stop.stop_requested()) {
            if (const auto requests = newRequests()) {
                want(*requests);
                offer();
                due = now();
            }
            Text problem;
            std::size_t good = 0;
            for (Wanted& w : reading_) {
                const auto value = readKernelNumber(w.path);
                if (!value) {
                    // Between two looks it may have gone; a sensor that sleeps cannot be read for a while.
                    if (w.lastGood) w.scan->away(*w.lastGood, w.name + " could not be read.");
                    if (problem.empty()) problem = text(CRUSCOTTO_TEXT("{0} cannot be read now"), w.name);
                    continue;
                }
                const Instant at = now();
                w.scan->add(at, std::span(&*value, 1));
                w.lastGood = at;
                ++good;
            }
            if (problem.empty() && !missing_.empty()) problem = missing_.front();
            deliver();
            status().lines += good;
            if (!reading_.empty() && good == 0) {
                if (findKernelSensors(settings_.root).empty()) return End::lost;
                setState(LinkState::silent,
                         reading_.size() == 1
                             ? text(CRUSCOTTO_TEXT("{0} is there, but cannot be read now. It is tried again."),
                                    reading_.front().name)
                             : text(CRUSCOTTO_TEXT("None of the {0} sensors can be read now. They are tried again."),
                                    reading_.size()));
            } else if (!problem.empty())
                setLive(text(CRUSCOTTO_TEXT("{0} sensors are there, but {1}. The rest goes on."), sensors_.size(),
                             problem.english()));
            else
                setLive(text(CRUSCOTTO_TEXT("{0} sensors are there; {1} of them are read."), sensors_.size(),
                             reading_.size()));
            reportSometimes();
            due = std::max(due + seconds(settings_.everySeconds), now());
            pauseUnlessAsked(stop, due - now());
            if (now() - looked >= lookAgainEvery) {
                looked = now();
                auto again = findKernelSensors(settings_.root);
                if (again.empty()) return End::lost;
                if (again != sensors_) {
                    sensors_ = std::move(again);
                    offer();
                }
            }
        }
        return End::stopped;
    }

private:
    struct Wanted {
        std::string name, path;
        ScanBuffer* scan = nullptr;
        std::optional<Instant> lastGood{};
    };

    void want(const std::vector<TerminalRequest>& requests) {
        wanted_.clear();
        for (const TerminalRequest& r : requests) wanted_[r.terminal] = r.setup;
        for (const Wanted& w : reading_)
            if (!wanted_.contains(w.name) && w.lastGood) w.scan->away(*w.lastGood, w.name + " was not asked for.");
        std::erase_if(reading_, [&](const Wanted& w) { return !wanted_.contains(w.name); });
    }
    void offer() {
        status().found.clear();
        for (const KernelSensor& s : sensors_) status().found.push_back(s.info);
        sink().report(status());
        missing_.clear();
        std::erase_if(reading_, [&](const Wanted& w) {
            return std::ranges::none_of(sensors_, [&](const KernelSensor& s) { return s.info.terminal == w.name; });
        });
        for (const auto& [name, setup] : wanted_) {
            const auto s = std::ranges::find(sensors_, name, [](const KernelSensor& k) { return k.info.terminal; });
            if (s == sensors_.end()) {
                missing_.push_back(text(CRUSCOTTO_TEXT("there is no {0}"), name));
                continue;
            }
            if (const Text wrong = setScale(*s, setup); !wrong.empty()) {
                // Counts of another scale would be wrong readings.
                missing_.push_back(wrong);
                const auto was = std::ranges::find(reading_, name, &Wanted::name);
                if (was == reading_.end()) continue;
                if (was->lastGood) was->scan->away(*was->lastGood, wrong.english());
                reading_.erase(was);
                continue;
            }
            const auto there = std::ranges::find(reading_, name, &Wanted::name);
            if (there != reading_.end()) {
                there->path = s->path;
                continue;
            }
            ScanBuffer*& scan = scans_[name];
            if (!scan) scan = &addScan(name, {{name, s->info.type, s->info.kind}});
            reading_.push_back({name, s->path, scan});
        }
    }

    /// Empty, or why a count is not worth what the bench wants.
    Text setScale(const KernelSensor& sensor, const TerminalSetup& setup) {
        if (sensor.scales.empty()) return {};
        const std::string asked = chosen(setup, sensorSettings(sensor).front());
        double wanted = 0;
        const bool known = parsed(asked, wanted);
        if (asked.empty() || (known && wanted == sensor.scaleNow)) return {};
        const auto refused = [&](const std::string& why) {
            return text(CRUSCOTTO_TEXT("the scale of {0} is {1} and cannot be made {2} ({3})"), sensor.info.terminal,
                        shortNumber(sensor.scaleNow), asked, why);
        };
        if (!known) return refused("it is no number");
        if (atRest()) return refused("nothing is sent to the device until it may be driven");
        if (const int error = writeKernelFile(settings_.root, sensor.scalePath, asked + "\n"); error != 0)
            return refused(std::strerror(error));
        const auto now = findKernelSensors(settings_.root);
        const auto again = std::ranges::find(now, sensor.scalePath, &KernelSensor::scalePath);
        if (again != now.end() && again->scaleNow == wanted) return {};
        return refused("the kernel left it as it was");
    }

    const ComputerSettings settings_;
    std::map<std::string, TerminalSetup> wanted_;
    std::vector<KernelSensor> sensors_;
    std::vector<Wanted> reading_;
    std::vector<Text> missing_;  // what of them is not as the bench wants it
    std::map<std::string, ScanBuffer*> scans_;
};

std::optional<KernelSensor> sensorAt(const JsonText& json, const std::string& terminal) {
    const auto settings = computerSettings(json);
    if (!settings) return {};
    for (KernelSensor& s : findKernelSensors(settings.value().root))
        if (s.info.terminal == terminal) return std::move(s);
    return {};
}

}  // namespace

DeviceKind computerKind() {
    DeviceKind kind;
    kind.key = "computer";
    kind.title = CRUSCOTTO_TEXT("This computer's own sensors");
    kind.name = CRUSCOTTO_TEXT("This computer");
    using Type = SettingInfo::Type;
    kind.rateKey = "every-s";
    kind.settings = {
        {"every-s", CRUSCOTTO_TEXT("Read every, in s"), Type::number, {}, "1", {}},
        {"root",
         CRUSCOTTO_TEXT("Tree"),
         Type::text,
         {},
         "/",
         CRUSCOTTO_TEXT("/ is this computer; a copied tree can be examined too.")},
    };
    kind.terminals = [](const JsonText&) { return std::vector<TerminalInfo>{}; };
    kind.setup = [](const JsonText& json, const std::string& terminal, const std::vector<TerminalRequest>&) {
        const auto sensor = sensorAt(json, terminal);
        return sensor ? sensorSettings(*sensor) : std::vector<TerminalSetting>{};
    };
    kind.chain = [](const JsonText& json, const TerminalRequest& request) {
        const auto sensor = sensorAt(json, request.terminal);
        return sensor ? sensorChain(*sensor, request.setup) : ChainSpec{};
    };
    kind.writesSetup = true;
    kind.check = checkedBy<computerSettings>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        return std::make_unique<Computer>(context, settingsBy<computerSettings>(json), requests);
    };
    return kind;
}

}  // namespace cruscotto
