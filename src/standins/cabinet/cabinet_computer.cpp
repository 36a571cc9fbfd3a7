#include "standins/cabinet/cabinet_computer.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <numbers>

#include "standins/cabinet/made_chip.h"
#include "standins/cabinet/made_counter.h"

namespace cruscotto {

namespace fs = std::filesystem;

namespace {

constexpr double fullTurns = 25, flowPulsesATurn = 1.6, doorEvery = 12, doorOpenFor = 2;
constexpr std::int64_t ms = 1'000'000;

std::int64_t monotonicNs() {
    timespec t{};
    clock_gettime(CLOCK_MONOTONIC, &t);
    return t.tv_sec * 1'000'000'000 + t.tv_nsec;
}

std::string firstLine(const std::string& path) {
    std::ifstream file(path);
    std::string out;
    std::getline(file, out);
    return out;
}

double noise(std::uint64_t n) {  // -1 to 1, the same for the same number
    n = (n ^ (n >> 30)) * 0xbf58476d1ce4e5b9ULL;
    n = (n ^ (n >> 27)) * 0x94d049bb133111ebULL;
    return static_cast<double>((n ^ (n >> 31)) >> 11) / static_cast<double>(std::uint64_t{1} << 52) - 1;
}

int volts12(double volts) {
    return static_cast<int>(std::clamp(std::lround(volts / 3.3 * 4095), 0L, 4095L));
}

}  // namespace

std::vector<Fault> CabinetFaults::named() {
    return {fault("forbidden", forbidden), fault("busy", busy),
            fault("mute", mute),           fault("still", still),
            fault("asleep", asleep),       fault("hurried", hurried),
            fault("edgeless", edgeless),   fault("unreadable", unreadable)};
}

int CabinetComputer::pressureCounts(double bar) {
    return volts12(0.5 + bar);
}

/// The tree while it is there, and what happens in it.
class CabinetComputer::Machine {
public:
    Machine(const std::string& root, CabinetFaults& faults, State& state)
        : root_(root),
          faults_(faults),
          state_(state),
          chip_(faults, [this] { advance(monotonicNs()); }),
          counter_(faults) {
        for (const char* folder :
             {"sys", "sys/class", "sys/class/hwmon", "sys/class/hwmon/hwmon0", "sys/class/tty", "sys/bus",
              "sys/bus/iio", "sys/bus/iio/devices", "sys/bus/iio/devices/iio:device0",
              "sys/bus/iio/devices/iio:device0/scan_elements", "sys/bus/iio/devices/iio:device0/buffer",
              "sys/bus/iio/devices/iio:device0/trigger", "sys/bus/iio/devices/trigger0", "sys/bus/counter",
              "sys/bus/counter/devices", "sys/bus/counter/devices/counter0", "sys/bus/counter/devices/counter0/count0",
              "sys/bus/counter/devices/counter0/count1", "dev"})
            makeFolder(folder);
        const std::string hwmon = "sys/class/hwmon/hwmon0/", counter = "sys/bus/counter/devices/counter0/";
        put(hwmon + "name", "cabinet");
        put(hwmon + "temp1_label", "processor");
        put(hwmon + "temp2_label", "air in the cabinet");
        put(hwmon + "fan1_label", "cabinet fan");
        put(hwmon + "in0_label", "24 V supply");
        put(iio_ + "name", "adc");
        put(iio_ + "in_voltage_scale", "0.805860806");
        put(iio_ + "in_voltage0_label", "outlet pressure");
        put(iio_ + "in_voltage1_label", "vibration");
        put(iio_ + "sampling_frequency", "200");
        put(iio_ + "buffer/enable", "0");
        put(iio_ + "buffer/length", "2");
        put(iio_ + "trigger/current_trigger", "");
        put("sys/bus/iio/devices/trigger0/name", "timer");
        for (const auto& [element, type, index] :
             {std::tuple{"voltage0", "le:u12/16>>4", "0"}, std::tuple{"voltage1", "le:u12/16>>4", "1"},
              std::tuple{"timestamp", "le:s64/64>>0", "2"}}) {
            const std::string at = iio_ + "scan_elements/in_" + element;
            put(at + "_type", type);
            put(at + "_index", index);
            put(at + "_en", "0");
        }
        put(counter + "name", "pulses");
        put(counter + "count0/name", "flow");
        put(counter + "count1/name", "shaft turns");
        measure();
        writeFiles();
        const std::string pipe = root_ + "/dev/iio:device0";
        if (mkfifo(pipe.c_str(), 0600) == 0) made_.push_back(pipe);
        scans_ = ::open(pipe.c_str(), O_RDWR | O_NONBLOCK | O_CLOEXEC);
        lines_ = std::make_unique<LocalNode>(root_ + "/dev/gpiochip0", chip_);
        counts_ = std::make_unique<LocalNode>(root_ + "/dev/counter0", counter_);
        began_ = at_ = monotonicNs();
        doorAt_ = began_ + static_cast<std::int64_t>(doorEvery * 1e9 / 4);
        chip_.level(MadeChip::stopChain, true, began_);
        chip_.level(MadeChip::guardDoor, true, began_);
        files_ = std::jthread([this](const std::stop_token& stop) {
            while (!stop.stop_requested()) {
                writeFiles();
                std::unique_lock lock(shownMutex_);
                filesWait_.wait_for(lock, stop, std::chrono::milliseconds(50), [] { return false; });
            }
        });
    }
    ~Machine() {
        files_ = {};  // it has ended before what it writes is taken away
        lines_.reset();
        counts_.reset();
        if (scans_ >= 0) close(scans_);
        for (auto path = made_.rbegin(); path != made_.rend(); ++path) remove(path->c_str());
    }
    Machine(const Machine&) = delete;
    Machine& operator=(const Machine&) = delete;
    [[nodiscard]] bool whole() const { return lines_->there() && counts_->there() && scans_ >= 0; }

    void step() {
        const std::int64_t now = monotonicNs();
        advance(now);
        if (now - hurriedAt_ > 1000 * ms) {
            hurriedAt_ = now;
            if (faults_.hurried) chip_.swallow(MadeChip::shaftMark, 3);
        }
        if (now - measuredAt_ > 50 * ms) {
            measuredAt_ = now;
            measure();
        }
        if (now - lookedAt_ > 20 * ms) {
            lookedAt_ = now;
            look();
        }
        scan(now);
        lines_->serve();  // after what has happened until now
        counts_->serve();
    }

private:
    void advance(std::int64_t now) {
        state_.lamp = chip_.driven(MadeChip::lamp, false);
        state_.pump = chip_.driven(MadeChip::pump, true);
        chip_.level(MadeChip::lampSeen, state_.lamp, now);
        // By slices in which nothing passes twice, however late this comes.
        at_ = std::max(at_, now - 1000 * ms);
        while (at_ < now) {
            const std::int64_t end = std::min(now, at_ + ms);
            turn(end);
            at_ = end;
        }
        door(now);
    }

    void makeFolder(const std::string& name) {
        const std::string path = root_ + "/" + name;
        if (mkdir(path.c_str(), 0755) == 0) made_.push_back(path);
    }
    /// Whole or not at all, as the kernel's files are.
    void put(const std::string& name, const std::string& text) {
        const std::string path = root_ + "/" + name, fresh = root_ + "/dev/.new";
        {
            std::ofstream file(fresh, std::ios::binary);
            file << text << '\n';
        }
        if (rename(fresh.c_str(), path.c_str()) == 0 && std::ranges::find(made_, path) == made_.end())
            made_.push_back(path);
    }

    /// The shaft runs up and down in a second; its mark passes once a turn and is there for a tenth of it.
    void turn(std::int64_t now) {
        const double dt = static_cast<double>(now - at_) * 1e-9;
        const double from = state_.turnsPerSecond, aim = state_.pump ? fullTurns : 0;
        state_.turnsPerSecond = std::abs(aim - from) < 0.01 ? aim : from + (aim - from) * std::min(1., 2 * dt);
        const auto crosses = [&](double& at, double by, const auto& happens) {
            const double before = at;
            at += by;
            for (double next = std::floor(before) + 1; next <= at; ++next)
                happens(now - static_cast<std::int64_t>((at - next) / by * dt * 1e9));
        };
        const double turns = state_.turnsPerSecond * dt;
        if (turns <= 0) return;
        double end = angle_ - 0.1;  // the mark has gone by
        crosses(end, turns, [&](std::int64_t t) { chip_.level(MadeChip::shaftMark, false, t); });
        crosses(angle_, turns, [&](std::int64_t t) {
            chip_.level(MadeChip::shaftMark, true, t);
            counter_.happens(1, COUNTER_EVENT_INDEX, ++state_.turns, t);
        });
        crosses(flow_, turns * flowPulsesATurn, [&](std::int64_t t) {
            counter_.happens(0, COUNTER_EVENT_CHANGE_OF_STATE, ++state_.flowPulses, t);
            if (state_.flowPulses % 100 == 0) counter_.happens(0, COUNTER_EVENT_THRESHOLD, state_.flowPulses, t);
        });
    }

    /// High while shut. It bounces for three milliseconds, unless that is asked to be left out.
    void door(std::int64_t now) {
        if (now < doorAt_) return;
        doorShut_ = !doorShut_;
        if (chip_.debounceNs(MadeChip::guardDoor) < 3 * ms)
            for (const std::int64_t bounce : {0, 1, 2})
                chip_.level(MadeChip::guardDoor, (bounce % 2 == 0) == doorShut_, doorAt_ + bounce * ms);
        chip_.level(MadeChip::guardDoor, doorShut_, doorAt_ + 3 * ms);
        doorAt_ += static_cast<std::int64_t>((doorShut_ ? doorEvery - doorOpenFor : doorOpenFor) * 1e9);
    }

    [[nodiscard]] double bar() const { return 2.2 * std::pow(state_.turnsPerSecond / fullTurns, 2); }
    [[nodiscard]] double vibration() const {
        return 1.65 + state_.turnsPerSecond / fullTurns * 0.4 * std::sin(2 * std::numbers::pi * angle_);
    }

    /// What the files show next.
    struct Shown {
        double processor = 0, air = 0, supply = 0, bar = 0, vibration = 0;
        std::uint32_t flowPulses = 0, turns = 0;
    };
    void measure() {
        const double t = static_cast<double>(at_ - began_) * 1e-9;
        state_.processor = 48 + 4 * std::sin(t / 20) + 0.3 * noise(++drawn_);
        state_.outletBar = bar();
        const double supply = 24.05 - (state_.pump ? 0.35 : 0) + 0.02 * noise(++drawn_);
        const std::lock_guard lock(shownMutex_);
        shown_ = {
            state_.processor, 31.5 + 1.5 * std::sin(t / 60), supply, state_.outletBar, vibration(), state_.flowPulses,
            state_.turns};
    }
    /// Disks may be slow, and nothing else waits for them: on a thread of its own.
    void writeFiles() {
        Shown s;
        {
            const std::lock_guard lock(shownMutex_);
            s = shown_;
        }
        const auto whole = [](double v) { return std::to_string(std::lround(v)); };
        const std::string hwmon = "sys/class/hwmon/hwmon0/", counts = "sys/bus/counter/devices/counter0/";
        put(hwmon + "temp1_input", faults_.asleep ? "" : whole(s.processor * 1000));
        put(hwmon + "temp2_input", whole(s.air * 1000));
        put(hwmon + "fan1_input", whole(1400 + 60 * (s.processor - 45)));
        put(hwmon + "in0_input", whole(s.supply * 1000));
        put(iio_ + "in_voltage0_raw", std::to_string(pressureCounts(s.bar)));
        put(iio_ + "in_voltage1_raw", std::to_string(volts12(s.vibration)));
        put(counts + "count0/count", std::to_string(s.flowPulses));
        put(counts + "count1/count", std::to_string(s.turns));
    }

    /// What somebody wrote into the files that set up the buffer.
    void look() {
        const bool enabled = firstLine(root_ + "/" + iio_ + "buffer/enable") == "1";
        const double rate = std::strtod(firstLine(root_ + "/" + iio_ + "sampling_frequency").c_str(), nullptr);
        rate_ = std::clamp(rate, 0.1, 10'000.);
        triggered_ = firstLine(root_ + "/" + iio_ + "trigger/current_trigger") == "timer";
        for (std::size_t i = 0; i < on_.size(); ++i)
            on_[i] = firstLine(root_ + "/" + iio_ + "scan_elements/in_" + elements[i] + "_en") == "1";
        if (enabled && !enabled_) nextScan_ = at_;
        if (!enabled && enabled_) {  // what was not fetched is gone
            std::array<char, 4096> rest;
            while (read(scans_, rest.data(), rest.size()) > 0) continue;
        }
        enabled_ = enabled;
    }

    void scan(std::int64_t now) {
        if (!enabled_ || !triggered_ || faults_.still) {
            nextScan_ = now;
            return;
        }
        const auto every = static_cast<std::int64_t>(1e9 / rate_);
        for (; nextScan_ <= now; nextScan_ += every) {
            std::string bytes;
            for (std::size_t i = 0; i < 2; ++i) {
                if (!on_[i]) continue;
                const int raw = i == 0 ? pressureCounts(bar() + 0.01 * noise(++drawn_))
                                       : volts12(vibration() + 0.01 * noise(++drawn_));
                bytes += static_cast<char>(raw << 4);
                bytes += static_cast<char>(raw >> 4);
            }
            if (on_[2]) {
                bytes.resize((bytes.size() + 7) / 8 * 8);
                // The kernel's own stamps are of the wall clock.
                timespec wall{};
                clock_gettime(CLOCK_REALTIME, &wall);
                const std::int64_t stamp = wall.tv_sec * 1'000'000'000 + wall.tv_nsec - (now - nextScan_);
                for (int i = 0; i < 8; ++i) bytes += static_cast<char>(stamp >> (8 * i));
            }
            if (!bytes.empty() && write(scans_, bytes.data(), bytes.size()) > 0) ++state_.scans;
        }
    }

    static constexpr std::array<const char*, 3> elements{"voltage0", "voltage1", "timestamp"};
    const std::string root_, iio_ = "sys/bus/iio/devices/iio:device0/";
    CabinetFaults& faults_;
    State& state_;
    std::vector<std::string> made_;
    MadeChip chip_;
    MadeCounter counter_;
    std::unique_ptr<LocalNode> lines_, counts_;
    int scans_ = -1;
    std::int64_t began_ = 0, at_ = 0, doorAt_ = 0, measuredAt_ = 0, lookedAt_ = 0, hurriedAt_ = 0, nextScan_ = 0;
    bool doorShut_ = true, enabled_ = false, triggered_ = false;
    std::array<bool, 3> on_{};
    double rate_ = 200, angle_ = 0, flow_ = 0;
    std::uint64_t drawn_ = 0;
    std::mutex shownMutex_;
    std::condition_variable_any filesWait_;
    Shown shown_;
    std::jthread files_;
};

CabinetComputer::CabinetComputer(std::string folder) : folder_(std::move(folder)) {}

Result<std::unique_ptr<CabinetComputer>> CabinetComputer::open(const std::string& folder) {
    std::error_code ec;
    const std::string path = fs::absolute(folder, ec).lexically_normal().string();
    if (ec || path.size() > 80) return failure("The folder's path is too long; 80 bytes are the most.");
    if (fs::exists(path, ec) && (!fs::is_directory(path, ec) || !fs::is_empty(path, ec)))
        return failure("{0} is there already, and not an empty folder. Name one that is to be made.", path);
    fs::create_directories(path, ec);
    if (ec) return failure("{0} cannot be made ({1}).", path, ec.message());
    auto out = std::unique_ptr<CabinetComputer>(new CabinetComputer(path));
    CabinetComputer* c = out.get();
    c->thread_ = std::jthread([c](const std::stop_token& stop) { c->work(stop); });
    std::unique_lock lock(c->mutex_);
    c->changed_.wait(lock, [c] { return c->there_ || !c->wanted_; });
    if (!c->there_) return failure("What belongs into {0} cannot be made there. Is the disk full?", path);
    return out;
}

CabinetComputer::~CabinetComputer() {
    thread_.request_stop();
    if (thread_.joinable()) thread_.join();
    std::error_code ec;
    fs::remove(folder_, ec);  // an empty one only
}

CabinetComputer::State CabinetComputer::state() const {
    const std::lock_guard lock(mutex_);
    return state_;
}

void CabinetComputer::unplug() {
    std::unique_lock lock(mutex_);
    wanted_ = false;
    changed_.notify_all();
    changed_.wait(lock, [this] { return !there_; });
}

void CabinetComputer::plug() {
    std::unique_lock lock(mutex_);
    wanted_ = true;
    changed_.notify_all();
    changed_.wait(lock, [this] { return there_ || !wanted_; });
}

void CabinetComputer::work(const std::stop_token& stop) {
    State state;
    std::unique_ptr<Machine> machine;
    std::unique_lock lock(mutex_);
    while (!stop.stop_requested()) {
        const bool wanted = wanted_;
        lock.unlock();
        if (wanted && !machine) machine = std::make_unique<Machine>(folder_, faults, state);
        if (machine && (!wanted || !machine->whole())) machine.reset();
        if (machine) machine->step();
        lock.lock();
        state_ = state;
        if (wanted && !machine) wanted_ = false;
        if (there_ != (machine != nullptr) || wanted != wanted_) {
            there_ = machine != nullptr;
            changed_.notify_all();
        }
        changed_.wait_for(lock, stop, std::chrono::milliseconds(machine ? 1 : 100),
                          [&] { return wanted_ != (machine != nullptr); });
    }
}

}  // namespace cruscotto
