// What many devices at once cost. The stand-ins run in a process of their own, so that only the bench is counted:
// load_bench [SECONDS]
#include <fmt/format.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <csignal>
#include <cstdlib>
#include <filesystem>
#include <nlohmann/json.hpp>
#include <thread>

#include "core/base/json_text.h"
#include "core/chain/common_stages.h"
#include "engine/engine.h"
#include "standins/rack/cold_store_rack.h"
#include "standins/stand_in_host.h"

namespace {

using namespace cruscotto;
using Clock = std::chrono::steady_clock;

double monotonicSeconds() {
    return std::chrono::duration<double>(Clock::now().time_since_epoch()).count();
}

double cpuSeconds() {
    rusage u{};
    getrusage(RUSAGE_SELF, &u);
    const auto s = [](const timeval& t) {
        return static_cast<double>(t.tv_sec) + 1e-6 * static_cast<double>(t.tv_usec);
    };
    return s(u.ru_utime) + s(u.ru_stime);
}

/// A board that prints the time, a hundred times a second: how late a line is read can be told from it.
class ClockBoard : public Conversation {
public:
    std::string hear(std::string_view) override { return {}; }
    std::string tick() override {
        const auto now = Clock::now();
        std::string out;
        if (next_.time_since_epoch().count() == 0 || now - next_ > std::chrono::seconds(1)) next_ = now;
        for (; next_ <= now; next_ += std::chrono::milliseconds(10))
            out += fmt::format("{:.6f} {}\n", monotonicSeconds(), number_++);
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    Clock::time_point next_;
    std::uint64_t number_ = 0;
};

/// Extended frames, 8 bytes each, as many as 90 % of 1 Mbit/s carry (about 6,900 a second), in which the time stands.
class FullBus : public Conversation {
public:
    std::string hear(std::string_view bytes) override {
        if (bytes.find('O') != std::string_view::npos) open_ = true;
        return {};
    }
    std::string tick() override {
        if (!open_) return {};
        const auto now = Clock::now();
        std::string out;
        if (next_.time_since_epoch().count() == 0 || now - next_ > std::chrono::seconds(1)) next_ = now;
        for (; next_ <= now; next_ += std::chrono::microseconds(145)) {
            const auto us = static_cast<std::uint64_t>(monotonicSeconds() * 1e6);
            out += fmt::format("T18FF{:02X}018{:08X}{:08X}\r", number_ % 50, number_, static_cast<std::uint32_t>(us));
            ++number_;
        }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    bool open_ = false;
    Clock::time_point next_;
    std::uint64_t number_ = 0;
};

SignalSpec signalFor(const std::string& device, const std::string& terminal) {
    SignalSpec s;
    s.id = device + "-" + terminal;
    s.name = s.id;
    s.device = device;
    s.terminal = terminal;
    s.kind = ChannelKind::analogInput;
    s.chain = {slopeOffset(1, 0, "1")};
    return s;
}

struct Load {
    const char* name;
    std::function<std::vector<std::unique_ptr<StandInHost>>(const std::string& folder)> serve;
    std::function<Bench(const std::vector<std::string>& addresses)> bench;
    std::string clock;      ///< the signals whose readings tell the time, by the end of their names
    double clockWraps = 0;  ///< after so many seconds; 0: never
    double everySeconds =
        0;  ///< where nothing tells the time: a reading is late by what is more than this since the last
};

void measure(const Load& load, double forSeconds) {
    const std::string folder =
        (std::filesystem::temp_directory_path() / fmt::format("cruscotto-load-{}", getpid())).string();
    std::filesystem::create_directories(folder);
    int pipe[2] = {};
    if (::pipe(pipe) != 0) return;
    const pid_t child = fork();
    if (child == 0) {
        const auto hosts = load.serve(folder);
        std::string all;
        for (const auto& host : hosts) all += host->address() + "\n";
        if (write(pipe[1], all.data(), all.size()) < 0) _exit(1);
        close(pipe[1]);
        while (true) pause();
    }
    close(pipe[1]);
    std::string text;
    char bytes[4096];
    for (ssize_t n = 0; (n = read(pipe[0], bytes, sizeof bytes)) > 0;) text.append(bytes, static_cast<std::size_t>(n));
    close(pipe[0]);
    std::vector<std::string> addresses;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t end = text.find('\n', at);
        addresses.push_back(text.substr(at, end - at));
        at = end + 1;
    }
    const Bench bench = load.bench(addresses);
    auto engine = Engine::start(bench);
    const double offset = monotonicSeconds() - engine->now().seconds();
    std::this_thread::sleep_for(std::chrono::seconds(2));
    const double cpu = cpuSeconds(), wall = monotonicSeconds();
    std::this_thread::sleep_for(std::chrono::duration<double>(forSeconds));
    const double usedCpu = cpuSeconds() - cpu, took = monotonicSeconds() - wall;
    const Instant from{seconds(wall - offset).ns}, to{seconds(wall - offset + took).ns};
    std::size_t samples = 0, rejected = 0, signals = 0;
    std::vector<double> late;
    for (const auto& s : bench.signals) {
        std::vector<Point> points;
        if (!engine->source().points(s->id, {from, to}, 2'000'000, points)) continue;
        samples += points.size();
        ++signals;
        if (load.everySeconds > 0)
            for (std::size_t i = 1; i < points.size(); ++i)
                late.push_back(std::max(0.0, (points[i].t - points[i - 1].t).seconds() - load.everySeconds));
        if (load.clock.empty() || !s->id.ends_with(load.clock)) continue;
        for (const Point& p : points) {
            double sent = p.value;
            const double seen = p.t.seconds() + offset;
            if (load.clockWraps > 0) sent += std::round((seen - sent) / load.clockWraps) * load.clockWraps;
            if (std::isfinite(sent)) late.push_back(seen - sent);
        }
    }
    for (const auto& [device, status] : engine->deviceStatus()) rejected += status.rejected;
    // By turns with nobody and with somebody who looks at the wire of the first device, as the window does.
    const auto tap = engine->wire(bench.devices.front()->id);
    std::uint64_t next = 0, messages = 0;
    double share[2] = {};
    constexpr int turns = 4;
    for (int turn = 0; turn < 2 * turns; ++turn) {
        const bool open = turn % 2 == 1;
        if (open) tap->open();
        const double turnCpu = cpuSeconds(), turnWall = monotonicSeconds();
        while (monotonicSeconds() - turnWall < forSeconds / 4) {
            std::this_thread::sleep_for(std::chrono::milliseconds(200));
            if (!open) continue;
            for (const auto& m : tap->since(next)) next = m->number + 1, ++messages;
        }
        share[open] += (cpuSeconds() - turnCpu) / (monotonicSeconds() - turnWall) / turns;
        if (open) tap->close();
    }
    engine->stop();
    kill(child, SIGKILL);
    waitpid(child, nullptr, 0);
    std::filesystem::remove_all(folder);
    std::ranges::sort(late);
    fmt::print("{}: {:.1f} % of a core, {:.0f} samples/s of {} signals, {} skipped, {} lost in the queue", load.name,
               100 * usedCpu / took, static_cast<double>(samples) / took, signals, rejected, engine->lostSamples());
    if (!late.empty())
        fmt::print(", late by {:.1f} ms (p99), {:.1f} ms (worst)", 1e3 * late[late.size() * 99 / 100],
                   1e3 * late.back());
    fmt::print("\n    by turns: {:.1f} % of a core, {:.1f} % with the wire of one looked at ({:.0f} messages/s)\n",
               100 * share[0], 100 * share[1], static_cast<double>(messages) / (turns * forSeconds / 4));
    std::fflush(stdout);
}

}  // namespace

int main(int argc, char** argv) {
    const double forSeconds = argc > 1 ? std::atof(argv[1]) : 10;
    const auto serialBoards = [](const std::string& folder) {
        std::vector<std::unique_ptr<StandInHost>> hosts;
        for (int i = 0; i < 64; ++i)
            hosts.push_back(std::move(
                StandInHost::onPty([] { return std::make_unique<ClockBoard>(); }, fmt::format("{}/{}", folder, i))
                    .value()));
        return hosts;
    };
    measure({"64 serial boards with 100 lines a second each", serialBoards,
             [](const std::vector<std::string>& addresses) {
                 Bench bench;
                 for (std::size_t i = 0; i < addresses.size(); ++i) {
                     const std::string id = fmt::format("board{}", i);
                     bench =
                         withDevice(bench, {id, id, "serial-line-board",
                                            jsonText(nlohmann::json{{"port", addresses[i]}, {"field-count", 2}}), ""});
                     for (const char* terminal : {"1", "2"}) bench = withSignal(bench, signalFor(id, terminal));
                 }
                 return bench;
             },
             "-1"},
            forSeconds);
    const auto racks = [](const std::string&) {
        static std::vector<std::unique_ptr<ColdStoreRack>> all;
        std::vector<std::unique_ptr<StandInHost>> hosts;
        for (int i = 0; i < 20; ++i) {
            all.push_back(std::make_unique<ColdStoreRack>());
            hosts.push_back(std::move(StandInHost::onLoopback(all.back()->onTcp()).value()));
        }
        return hosts;
    };
    measure(
        {"20 Modbus racks with 50 requests a second each", racks,
         [](const std::vector<std::string>& addresses) {
             Bench bench;
             for (std::size_t i = 0; i < addresses.size(); ++i) {
                 const std::string id = fmt::format("rack{}", i);
                 nlohmann::json points;
                 for (int n = 0; n < 8; ++n) points[fmt::format("AI{}", n)] = fmt::format("input {} i16", n);
                 bench = withDevice(
                     bench,
                     {id, id, "modbus",
                      jsonText(nlohmann::json{{"address", addresses[i]}, {"every-s", 0.02}, {"points", points}}), ""});
                 for (int n = 0; n < 8; ++n) bench = withSignal(bench, signalFor(id, fmt::format("AI{}", n)));
             }
             return bench;
         },
         "", 0, 0.02},
        forSeconds);
    const std::string dbc =
        (std::filesystem::temp_directory_path() / fmt::format("cruscotto-load-{}.dbc", getpid())).string();
    {
        FILE* f = std::fopen(dbc.c_str(), "w");
        for (unsigned i = 0; i < 50; ++i)
            fmt::print(f,
                       "BO_ {} M{}: 8 X\n SG_ count : 7|32@0+ (1,0) [0|0] \"\" X\n SG_ time : 39|32@0+ (0.000001,0) "
                       "[0|0] \"s\" X\n\n",
                       (0x18FF0001U | i << 8) | 0x80000000U, i);
        std::fclose(f);
    }
    measure({"A CAN bus of 1 Mbit/s at 90 %, through an adapter",
             [](const std::string& folder) {
                 std::vector<std::unique_ptr<StandInHost>> hosts;
                 hosts.push_back(std::move(
                     StandInHost::onPty([] { return std::make_unique<FullBus>(); }, folder + "/bus").value()));
                 return hosts;
             },
             [&](const std::vector<std::string>& addresses) {
                 Bench bench = withDevice(
                     {}, {"bus", "bus", "can",
                          jsonText(nlohmann::json{{"address", addresses[0]}, {"bit-rate", 1000000}, {"database", dbc}}),
                          ""});
                 for (int i = 0; i < 50; ++i)
                     for (const char* s : {"count", "time"}) {
                         SignalSpec spec = signalFor("bus", fmt::format("M{}.{}", i, s));
                         if (s[0] == 't') spec.chain = {slopeOffset(1e-6, 0, "s")};
                         bench = withSignal(bench, spec);
                     }
                 return bench;
             },
             ".time", 4294.967296},
            forSeconds);
    std::filesystem::remove(dbc);
    return 0;
}
