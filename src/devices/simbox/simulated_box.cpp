#include "devices/simbox/simulated_box.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <condition_variable>

#include "core/base/guarded.h"
#include "devices/settings_reader.h"
#include "devices/simbox/box_terminals.h"
#include "sim/scene.h"

namespace cruscotto {

namespace {

using namespace simbox;

constexpr std::string_view awayFault = "away";
constexpr Duration boxHolds = milliseconds(2000);

struct Fault {
    std::string which;
    double from = 0;
    double to = 1e18;
};

struct BoxSettings {
    std::string scene = "pump";
    std::uint64_t seed = 1;
    double rate = 1000;
    double sieveHz = 0;  ///< 0: by its own programme
    std::vector<Fault> faults;
    /// Those that are on at t seconds.
    [[nodiscard]] std::vector<std::string_view> on(double t) const {
        std::vector<std::string_view> out;
        for (const Fault& f : faults)
            if (t >= f.from && t < f.to) out.push_back(f.which);
        return out;
    }
};

Result<BoxSettings> boxSettingsOf(const JsonText& json) {
    BoxSettings s;
    SettingsReader settings(json);
    const auto& j = settings.json();
    if (const auto it = j.find("seed"); it != j.end()) {
        if (!it->is_number_unsigned()) return failure("\"seed\" must be a whole number, 0 or more.");
        s.seed = it->get<std::uint64_t>();
    }
    s.scene = settings.word("scene", s.scene.c_str());
    if (!sim::makeScene(s.scene, 0)) return failure("There is no scene \"{0}\". Use pump or seed-sorter.", s.scene);
    s.rate = settings.number("rate-hz", s.rate, 100, 200'000);
    s.sieveHz = settings.number("sieve-hz", 0, 0, 100);
    if (const auto it = j.find("faults"); it != j.end()) {
        if (!it->is_array()) return failure("\"faults\" must be a list.");
        for (const auto& f : *it) {
            Fault fault;
            const std::string name = f.is_string() ? f.get<std::string>()
                                     : f.is_object() && f.contains("fault") && f["fault"].is_string()
                                         ? f["fault"].get<std::string>()
                                         : "";
            const auto possible = sim::sceneFaults(s.scene);
            if (name != awayFault && std::ranges::find(possible, name) == possible.end()) {
                std::string all;
                for (const std::string_view one : possible) all += std::string(one) + ", ";
                return failure("There is no fault \"{0}\". Use {1}or away.", name, all);
            }
            fault.which = name;
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
    SimulatedBox(DeviceContext context, BoxSettings settings, const std::vector<TerminalRequest>& terminals)
        : context_(std::move(context)),
          scene_(sim::makeScene(settings.scene, settings.seed)),
          shared_{std::move(settings), {}, {}} {
        shared_.setup = boxSetup(terminals);
    }

    void run(DeviceSink& sink, std::stop_token stop) override {
        sink.report({LinkState::live, text(CRUSCOTTO_TEXT("The box answers and measures.")), 0, 0, 0, {}});
        BoxSettings settings;
        BoxSetup setup;
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
                setup = shared_.setup;
                const auto& o = shared_.outputs;
                scene_->drive(o[0], {o[1] > 0.5, o[2] > 0.5, o[3] > 0.5, o[4] > 0.5});
            }
            const double t = static_cast<double>(tick) / rate;
            const auto faults = settings.on(t);
            scene_->setFaults(faults);
            scene_->shake(settings.sieveHz > 0 ? std::optional(settings.sieveHz) : std::nullopt);
            const bool away = std::ranges::find(faults, awayFault) != faults.end();
            auto blocks = measure(tick, end, rate, setup, firstTick);
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
        const auto output = std::ranges::find(outputNames, terminal);
        if (output == outputNames.end()) return;
        shared_.outputs.at(static_cast<std::size_t>(output - outputNames.begin())) = terminal[0] == 'A'
                                                                                         ? std::clamp(value, 0.0, 10.0)
                                                                                     : value > 0.5 ? 1.0
                                                                                                   : 0.0;
    }

    bool reconfigure(const JsonText& json, const std::vector<TerminalRequest>& terminals) override {
        auto settings = boxSettingsOf(json);
        const Lock lock(mutex_);
        if (!settings || settings.value().seed != shared_.settings.seed ||
            settings.value().scene != shared_.settings.scene || settings.value().rate != shared_.settings.rate)
            return false;
        shared_.settings = std::move(settings.value());
        shared_.setup = boxSetup(terminals);
        return true;
    }
    bool request(const std::vector<TerminalRequest>& terminals) override {
        const Lock lock(mutex_);
        shared_.setup = boxSetup(terminals);
        return true;
    }

private:
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
                                                  const BoxSetup& setup, std::uint64_t firstTick) {
        const auto n = static_cast<std::size_t>(end - begin);
        std::array<std::vector<std::int16_t>, analogNames.size()> analog;
        std::array<std::vector<std::uint8_t>, inputNames.size()> digital;
        std::array<std::vector<std::uint32_t>, counterNames.size()> counter;
        for (auto& column : analog) column.reserve(n);
        for (auto& column : digital) column.reserve(n);
        std::uint64_t firstCounter = 0;
        for (std::uint64_t tick = begin; tick < end; ++tick) {
            scene_->step(1 / rate);
            const auto volts = voltsAt(setup);
            for (std::size_t i = 0; i < analog.size(); ++i) {
                const Scale& range = setup.analog[i].range;
                const double step = (range.high - range.low) / 65536;
                const double middle = (range.high + range.low) / 2;
                analog[i].push_back(static_cast<std::int16_t>(
                    std::clamp(std::floor((volts[i] - middle) / step + 0.5), -32768.0, 32767.0)));
            }
            const auto contacts = scene_->contacts();
            for (std::size_t i = 0; i < digital.size(); ++i)
                digital[i].push_back(filters_[i].step(levelAt(contacts[i], setup.digital[i]), 1 / rate,
                                                      setup.digital[i].filterSeconds) != setup.digital[i].inverted
                                         ? 1
                                         : 0);
            if (tick % 10 == 0) {
                if (counter[0].empty()) firstCounter = tick / 10;
                const auto counts = countsAt(setup);
                for (std::size_t i = 0; i < counter.size(); ++i) counter[i].push_back(counts[i]);
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

    /// Volts at each input, with what its setup makes of what hangs on it.
    [[nodiscard]] std::array<double, analogNames.size()> voltsAt(const BoxSetup& setup) const {
        const auto sources = scene_->sources();
        std::array<double, analogNames.size()> out{};
        for (std::size_t i = 0; i < sources.size(); ++i) {
            const AnalogSetup& a = setup.analog[i];
            double amps = sources[i].volts / sources[i].ohms + a.excitationAmps;  // Norton's equivalent
            double siemens = 1 / sources[i].ohms;
            if (a.load != AnalogSetup::Load::none) {
                siemens += 1 / a.loadOhms;
                amps += a.load == AnalogSetup::Load::up ? supplyVolts / a.loadOhms : 0;
            }
            out[i] = amps / siemens;
        }
        for (std::size_t i = 0; i < sources.size(); i += 2)
            if (setup.analog[i].differential) out[i] -= out[i + 1];
        out.back() = scene_->boxTemperature() * 0.01;
        return out;
    }

    bool levelAt(const sim::Contact& contact, const DigitalSetup& d) {
        if (!contact.toGround) return contact.closed;
        if (contact.closed) return false;
        return d.pullUp || (floating_.bits() & 1);  // nothing holds it
    }

    [[nodiscard]] std::array<std::uint32_t, 2> countsAt(const BoxSetup& setup) const {
        const sim::Pulses pulses = scene_->pulses();
        const auto count = [](double edges) {
            return static_cast<std::uint32_t>(static_cast<std::int64_t>(std::floor(edges)));
        };
        const auto edges = [](double lines, const CounterSetup& c) { return c.falling ? lines + 0.5 : lines; };
        if (setup.counter[0].quadrature)
            return {count(pulses.encoder ? 4 * pulses.first : pulses.first - pulses.second), 0};
        return {count(edges(pulses.first, setup.counter[0])),
                count(edges(pulses.second - (pulses.encoder ? 0.25 : 0), setup.counter[1]))};
    }

    /// A level counts when it has stayed for the filter's time.
    struct LevelFilter {
        bool out = false, known = false;
        double since = 0;
        bool step(bool level, double dt, double time) {
            since = known && level != out ? since + dt : 0;
            if (!known || since >= time) out = level;
            known = true;
            return out;
        }
    };

    const DeviceContext context_;
    std::unique_ptr<sim::Scene> scene_;                       // the run thread's own
    std::array<LevelFilter, inputNames.size()> filters_;      // the same
    sim::Noise floating_{7};                                  // the same
    std::array<std::shared_ptr<const ScanGroup>, 3> groups_;  // the run thread's own
    Mutex sleepMutex_;
    std::condition_variable_any sleeper_;
    Mutex mutex_;
    struct {
        BoxSettings settings;
        BoxSetup setup;
        std::array<double, outputNames.size()> outputs;
    } shared_ GUARDED_BY(mutex_);
};

}  // namespace

DeviceKind simulatedBoxKind() {
    DeviceKind kind;
    kind.key = "sim-io-box";
    kind.simulated = true;
    kind.title = CRUSCOTTO_TEXT("Simulated I/O box with a pump bench or a seed sorter");
    kind.name = CRUSCOTTO_TEXT("I/O box");
    kind.rateKey = "rate-hz";
    kind.settings = {
        {"scene",
         CRUSCOTTO_TEXT("What is wired to it"),
         SettingInfo::Type::choice,
         {"pump", "seed-sorter"},
         "pump",
         CRUSCOTTO_TEXT("The plant that is simulated.")},
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
        {"sieve-hz",
         CRUSCOTTO_TEXT("Sieve shaken at, in Hz"),
         SettingInfo::Type::number,
         {},
         "0",
         CRUSCOTTO_TEXT("Of the seed sorter; 0: up and down between 3 and 40 Hz by itself.")},
    };
    std::vector<std::string> faults;
    for (const char* scene : {"pump", "seed-sorter"})
        for (const std::string_view fault : sim::sceneFaults(scene))
            if (std::ranges::find(faults, fault) == faults.end()) faults.emplace_back(fault);
    faults.emplace_back(awayFault);
    for (const std::string& fault : faults)
        kind.settings.push_back({"faults/" + fault, Text(fault), SettingInfo::Type::flag, {}, "false", {}});
    kind.terminals = [](const JsonText&) { return boxTerminals(); };
    kind.setup = [](const JsonText&, const std::string& terminal, const std::vector<TerminalRequest>& all) {
        return boxSettings(terminal, all);
    };
    kind.ranges = boxRanges;
    kind.setupSentence = [](const JsonText&, const std::string& terminal, const std::vector<TerminalRequest>& all) {
        return boxSentence(terminal, all);
    };
    kind.check = checkedBy<boxSettingsOf>;
    kind.make = [](const DeviceContext& context, const JsonText& json,
                   const std::vector<TerminalRequest>& requests) -> std::unique_ptr<Device> {
        return std::make_unique<SimulatedBox>(context, settingsBy<boxSettingsOf>(json), requests);
    };
    return kind;
}

}  // namespace cruscotto
