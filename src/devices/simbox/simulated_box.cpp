#include "devices/simbox/simulated_box.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <condition_variable>

#include "core/base/guarded.h"
#include "devices/settings_reader.h"
#include "sim/pump_bench.h"

namespace cruscotto {

namespace {

using sim::PumpBench;

constexpr std::array analogNames{"AI0", "AI1", "AI2-AI3", "AI4", "AI5", "AI6", "AI7", "CJ"};
constexpr std::array counterNames{"CTR0", "CTR1"};
constexpr std::array inputNames{"DI0", "DI1", "DI2", "DI3"};
constexpr std::array faultNames{"broken-outlet-wire", "clipped-vibration", "hum",
                                "stalled-shaft",      "dry-running",       "away"};
constexpr std::array halfRanges{0.02, 0.1, 0.2, 1.0, 5.0, 10.0};
constexpr Scale widest{-10, 10};
constexpr Duration boxHolds = milliseconds(2000);

struct Fault {
    std::size_t which = 0;
    double from = 0;
    double to = 1e18;
};

struct PumpBoxSettings {
    std::uint64_t seed = 1;
    double rate = 1000;
    std::vector<Fault> faults;
    [[nodiscard]] bool on(std::size_t fault, double t) const {
        return std::any_of(faults.begin(), faults.end(),
                           [&](const Fault& f) { return f.which == fault && t >= f.from && t < f.to; });
    }
};

Result<PumpBoxSettings> pumpBoxSettings(const JsonText& json) {
    PumpBoxSettings s;
    SettingsReader settings(json);
    const auto& j = settings.json();
    if (const auto it = j.find("seed"); it != j.end()) {
        if (!it->is_number_unsigned()) return failure("\"seed\" must be a whole number, 0 or more.");
        s.seed = it->get<std::uint64_t>();
    }
    s.rate = settings.number("rate-hz", s.rate, 100, 200'000);
    if (const auto it = j.find("faults"); it != j.end()) {
        if (!it->is_array()) return failure("\"faults\" must be a list.");
        for (const auto& f : *it) {
            Fault fault;
            const std::string name = f.is_string() ? f.get<std::string>()
                                     : f.is_object() && f.contains("fault") && f["fault"].is_string()
                                         ? f["fault"].get<std::string>()
                                         : "";
            const auto known = std::find(faultNames.begin(), faultNames.end(), name);
            if (known == faultNames.end())
                return failure(
                    "There is no fault \"{0}\". Use broken-outlet-wire, clipped-vibration, hum, stalled-shaft, "
                    "dry-running or away.",
                    name);
            fault.which = static_cast<std::size_t>(known - faultNames.begin());
            if (f.is_object()) {
                for (const auto& [key, to] : {std::pair("from-s", &fault.from), std::pair("to-s", &fault.to)})
                    if (f.contains(key)) {
                        if (!f[key].is_number()) return failure("\"{0}\" must be a number of seconds.", key);
                        *to = f[key].get<double>();
                    }
            }
            s.faults.push_back(fault);
        }
    }
    if (auto read = settings.result(); !read) return read.error();
    return s;
}

class SimulatedBox : public Device {
public:
    SimulatedBox(DeviceContext context, PumpBoxSettings settings, const std::vector<TerminalRequest>& terminals)
        : context_(std::move(context)), bench_(settings.seed), shared_{std::move(settings), {}, {}} {
        takeRanges(terminals);
    }

    void run(DeviceSink& sink, std::stop_token stop) override {
        sink.report({LinkState::live, text(CRUSCOTTO_TEXT("The box answers and measures.")), 0, 0, 0, {}});
        PumpBoxSettings settings;
        std::array<Scale, analogNames.size()> ranges;
        {
            const Lock lock(mutex_);
            settings = shared_.settings;
        }
        const double rate = settings.rate;
        makeGroups(rate);
        const auto perBlock =
            static_cast<std::uint64_t>(std::max(1.0, context_.pace == Pace::realTime ? rate / 100 : rate / 10));
        const auto last = context_.until ? static_cast<std::uint64_t>(std::llround(context_.until->seconds() * rate))
                                         : ~std::uint64_t{0};
        std::uint64_t tick = 0;
        if (context_.pace == Pace::realTime)  // begin with what is measured now; the time before was never ours
            tick = (static_cast<std::uint64_t>(std::max(0.0, sink.now().seconds()) * rate) + 9) / 10 * 10;
        const std::uint64_t firstTick = tick;
        std::optional<std::uint64_t> awaySince;
        std::array<std::optional<Gap>, 3> gaps;

        while (!stop.stop_requested() && tick < last) {
            const std::uint64_t end = std::min(last, tick + perBlock);
            if (context_.pace == Pace::realTime && !sleepUntil(sink, timeOf(end, rate), stop)) break;
            if (context_.pace == Pace::realTime && sink.now() - timeOf(end, rate) > boxHolds) {
                const auto held = static_cast<std::uint64_t>((sink.now() - boxHolds).seconds() * rate) / 10 * 10;
                gaps = gapsOf(tick, held, rate, "The box's buffer ran over before it was fetched.");
                tick = held;
                continue;
            }
            {
                const Lock lock(mutex_);
                settings = shared_.settings;
                ranges = shared_.ranges;
                bench_.driveVolts = shared_.outputs[0];
                bench_.valveOpen = shared_.outputs[1] > 0.5;
                bench_.beacon = shared_.outputs[2] > 0.5;
            }
            const double t = static_cast<double>(tick) / rate;
            bench_.faults = {settings.on(0, t), settings.on(1, t), settings.on(2, t), settings.on(3, t),
                             settings.on(4, t)};
            const bool away = settings.on(5, t);
            auto blocks = measure(tick, end, rate, ranges, firstTick);
            if (away && !awaySince) {
                awaySince = tick;
                sink.report({LinkState::lost,
                             text(CRUSCOTTO_TEXT("The box does not answer any more. Its readings go on by themselves "
                                                 "when it is back; check its cable and its supply.")),
                             0,
                             0,
                             0,
                             {}});
            }
            if (!away) {
                if (awaySince) {
                    gaps = gapsOf(*awaySince, tick, rate, "The box did not answer.");
                    awaySince.reset();
                    sink.report(
                        {LinkState::live, text(CRUSCOTTO_TEXT("The box is back and measures again.")), 0, 0, 0, {}});
                }
                for (std::size_t g = 0; g < blocks.size(); ++g) {
                    if (!blocks[g]->size()) continue;
                    blocks[g]->gapBefore = std::exchange(gaps[g], std::nullopt);
                    sink.deliver(std::move(blocks[g]));
                }
            }
            tick = end;
        }
        // Where the bench time asked for has been made, the box just stands still.
        if (stop.stop_requested())
            sink.report({LinkState::stopped,
                         text(CRUSCOTTO_TEXT("Stopped; its outputs are at their safe values.")),
                         0,
                         0,
                         0,
                         {}});
    }

    void setOutput(const std::string& terminal, double value) override {
        const Lock lock(mutex_);
        if (terminal == "AO0") shared_.outputs[0] = std::clamp(value, 0.0, 10.0);
        if (terminal == "DO0") shared_.outputs[1] = value > 0.5;
        if (terminal == "DO1") shared_.outputs[2] = value > 0.5;
    }

    bool reconfigure(const JsonText& json, const std::vector<TerminalRequest>& terminals) override {
        auto settings = pumpBoxSettings(json);
        const Lock lock(mutex_);
        if (!settings || settings.value().seed != shared_.settings.seed ||
            settings.value().rate != shared_.settings.rate)
            return false;
        shared_.settings = std::move(settings.value());
        takeRanges(terminals);
        return true;
    }
    bool request(const std::vector<TerminalRequest>& terminals) override {
        const Lock lock(mutex_);
        takeRanges(terminals);
        return true;
    }

private:
    void takeRanges(const std::vector<TerminalRequest>& terminals) HOLDING(mutex_) {
        shared_.ranges.fill(widest);
        for (const TerminalRequest& t : terminals)
            for (std::size_t i = 0; i < analogNames.size(); ++i)
                if (t.terminal == analogNames[i] && t.range) shared_.ranges[i] = *t.range;
    }

    static Instant timeOf(std::uint64_t tick, double rate) {
        return {std::llround(static_cast<double>(tick) / rate * 1e9)};
    }

    /// What is missing of each group when nothing came of the ticks [from, to).
    static std::array<std::optional<Gap>, 3> gapsOf(std::uint64_t from, std::uint64_t to, double rate,
                                                    const char* cause) {
        std::array<std::optional<Gap>, 3> out;
        for (std::size_t g = 0; g < out.size(); ++g) {
            const std::uint64_t every = g == 2 ? 10 : 1;
            const auto lost = (to + every - 1) / every - (from + every - 1) / every;
            out[g] = Gap{timeOf(from, rate), timeOf(to, rate), lost, cause};
        }
        return out;
    }

    bool sleepUntil(DeviceSink& sink, Instant when, std::stop_token& stop) {
        Lock lock(sleepMutex_);
        const auto wait = std::chrono::nanoseconds((when - sink.now()).ns);
        if (wait.count() > 0) sleeper_.wait_for(lock, stop, wait, [] { return false; });
        return !stop.stop_requested();
    }

    void makeGroups(double rate) {
        const auto make = [&](const char* name, double hz, const auto& names, SampleType type, ChannelKind kind) {
            auto group = std::make_shared<ScanGroup>();
            group->device = context_.id;
            group->name = name;
            group->rateHz = hz;
            for (const char* terminal : names) group->channels.push_back({terminal, type, kind});
            return group;
        };
        groups_ = {make("analog", rate, analogNames, SampleType::int16, ChannelKind::analogInput),
                   make("digital", rate, inputNames, SampleType::bit, ChannelKind::digitalInput),
                   make("counter", rate / 10, counterNames, SampleType::uint32, ChannelKind::counterInput)};
    }

    /// Ticks [begin, end) of the three groups; the counters take part in every tenth tick.
    std::array<std::shared_ptr<Block>, 3> measure(std::uint64_t begin, std::uint64_t end, double rate,
                                                  const std::array<Scale, analogNames.size()>& ranges,
                                                  std::uint64_t firstTick) {
        const auto n = static_cast<std::size_t>(end - begin);
        std::array<std::vector<std::int16_t>, analogNames.size()> analog;
        std::array<std::vector<std::uint8_t>, inputNames.size()> digital;
        std::array<std::vector<std::uint32_t>, counterNames.size()> counter;
        for (auto& column : analog) column.reserve(n);
        for (auto& column : digital) column.reserve(n);
        std::uint64_t firstCounter = 0;
        for (std::uint64_t tick = begin; tick < end; ++tick) {
            bench_.step(1 / rate);
            for (std::size_t i = 0; i < analog.size(); ++i) {
                const double step = (ranges[i].high - ranges[i].low) / 65536;
                const double middle = (ranges[i].high + ranges[i].low) / 2;
                analog[i].push_back(static_cast<std::int16_t>(
                    std::clamp(std::floor((bench_.volts()[i] - middle) / step + 0.5), -32768.0, 32767.0)));
            }
            for (std::size_t i = 0; i < digital.size(); ++i) digital[i].push_back(bench_.levels()[i] ? 1 : 0);
            if (tick % 10 == 0) {
                if (counter[0].empty()) firstCounter = tick / 10;
                for (std::size_t i = 0; i < counter.size(); ++i) counter[i].push_back(bench_.pulses()[i]);
            }
        }
        std::array<std::shared_ptr<Block>, 3> out;
        for (std::size_t g = 0; g < out.size(); ++g) {
            out[g] = std::make_shared<Block>();
            out[g]->group = groups_[g];
            out[g]->firstIndex = g == 2 ? firstCounter - firstTick / 10 : begin - firstTick;
            out[g]->t0 = timeOf(g == 2 ? firstCounter * 10 : begin, rate);
            out[g]->dtNs = (g == 2 ? 10 : 1) * 1e9 / rate;
        }
        for (auto& column : analog) out[0]->columns.emplace_back(std::move(column));
        for (auto& column : digital) out[1]->columns.emplace_back(std::move(column));
        for (auto& column : counter) out[2]->columns.emplace_back(std::move(column));
        return out;
    }

    const DeviceContext context_;
    PumpBench bench_;                                         // the run thread's own
    std::array<std::shared_ptr<const ScanGroup>, 3> groups_;  // the run thread's own
    Mutex sleepMutex_;
    std::condition_variable_any sleeper_;
    Mutex mutex_;
    struct {
        PumpBoxSettings settings;
        std::array<Scale, analogNames.size()> ranges;
        std::array<double, 3> outputs;
    } shared_ GUARDED_BY(mutex_);
};

std::vector<TerminalInfo> pumpBoxTerminals(const JsonText&) {
    std::vector<Scale> ranges;
    for (const double half : halfRanges) ranges.push_back({-half, half});
    std::vector<TerminalInfo> out;
    for (const char* name : analogNames) out.push_back({name, ChannelKind::analogInput, SampleType::int16, ranges, 16});
    for (const char* name : counterNames) out.push_back({name, ChannelKind::counterInput, SampleType::uint32, {}, 32});
    for (const char* name : inputNames) out.push_back({name, ChannelKind::digitalInput, SampleType::bit, {}, 1});
    out.push_back({"AO0", ChannelKind::analogOutput, SampleType::float64, {}, 16});
    out.push_back({"DO0", ChannelKind::digitalOutput, SampleType::float64, {}, 1});
    out.push_back({"DO1", ChannelKind::digitalOutput, SampleType::float64, {}, 1});
    return out;
}

}  // namespace

DeviceKind simulatedBoxKind() {
    DeviceKind kind;
    kind.key = "sim-io-box";
    kind.simulated = true;
    kind.title = CRUSCOTTO_TEXT("Simulated I/O box with a pump bench");
    kind.name = CRUSCOTTO_TEXT("I/O box");
    kind.settings = {
        {"rate-hz",
         CRUSCOTTO_TEXT("Rate in Hz"),
         SettingInfo::Type::number,
         {},
         "1000",
         CRUSCOTTO_TEXT("Samples a second of the analog and digital inputs; the counters are read at a tenth of it.")},
        {"seed",
         CRUSCOTTO_TEXT("Seed"),
         SettingInfo::Type::number,
         {},
         "1",
         CRUSCOTTO_TEXT("The same seed makes the same noise.")},
    };
    for (const char* fault : faultNames)
        kind.settings.push_back(
            {std::string("faults/") + fault, Text(fault), SettingInfo::Type::flag, {}, "false", {}});
    kind.terminals = pumpBoxTerminals;
    kind.check = [](const JsonText& json) -> Result<void> {
        auto settings = pumpBoxSettings(json);
        if (!settings) return settings.error();
        return {};
    };
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        auto settings = pumpBoxSettings(json);
        return std::make_unique<SimulatedBox>(context, settings ? std::move(settings.value()) : PumpBoxSettings{},
                                              requests);
    };
    return kind;
}

}  // namespace cruscotto
