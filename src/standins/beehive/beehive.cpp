#include "standins/beehive/beehive.h"

#include <poll.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <condition_variable>
#include <thread>
#include <utility>

#include "sim/pump_bench.h"
#include "standins/pseudo_terminal.h"

namespace cruscotto {

std::vector<Fault> BeehiveFaults::named() {
    return {fault("silent", silent), fault("garbage", garbage), fault("endless", endless)};
}

Result<std::unique_ptr<Beehive>> Beehive::open(const BeehiveOptions& options) {
    auto hive = std::unique_ptr<Beehive>(new Beehive);
    hive->options_ = options;
    hive->heater_ = options.heater;
    if (auto plugged = hive->plug(); !plugged) return plugged.error();
    return hive;
}

Result<void> Beehive::plug() {
    auto pty = openPseudoTerminal(options_.link);
    if (!pty) return pty.error();
    master_ = pty.value().master;
    path_ = pty.value().path;
    return {};
}

void Beehive::unplug() {
    removeLink(options_.link, path_);
    if (master_ >= 0) ::close(std::exchange(master_, -1));
}

Beehive::~Beehive() {
    unplug();
}

std::string Beehive::line(const BeehiveOptions& options, std::uint64_t number) {
    sim::Noise noise(options.seed * 0x9E3779B9ULL + number);
    const double t = static_cast<double>(number) / options.linesPerSecond;
    const double day = std::sin(t / 40);
    const double weight = 31.4 + 0.35 * day + 0.0008 * t + 0.012 * noise.normal();
    const double brood = 34.8 + 0.25 * std::sin(t / 23) + 0.04 * noise.normal() + 0.02 * options.heater;
    const double humidity = 61 + 3 * std::sin(t / 57) + 0.4 * noise.normal();
    const auto bees = static_cast<unsigned>(number * 3 + number / 7 + (number / 100) * (number % 100) / 50) % 65536;
    switch (options.format) {
        case BeehiveOptions::Format::labelled:
            return fmt::format("weight {:.2f} T={:.1f} rh={:.0f} bees {}", weight, brood, humidity, bees);
        case BeehiveOptions::Format::hex:
            return fmt::format("H{:04X}{:04X}{:02X}{:04X}", static_cast<unsigned>(std::lround(weight * 100)),
                               static_cast<unsigned>(std::lround(brood * 10)) & 0xffffU,
                               static_cast<unsigned>(std::lround(humidity)), bees);
        case BeehiveOptions::Format::delimited:
            break;
    }
    return fmt::format("{:.2f} {:.1f} {:.0f} {}", weight, brood, humidity, bees);
}

bool Beehive::send(const std::string& bytes) {
    pollfd p{master_, POLLOUT, 0};
    if (poll(&p, 1, 0) < 0 || (p.revents & POLLHUP)) return false;
    return ::write(master_, bytes.data(), bytes.size()) == static_cast<ssize_t>(bytes.size());
}

std::string Beehive::hear() {
    std::array<char, 4096> bytes;
    const ssize_t n = ::read(master_, bytes.data(), bytes.size());
    const std::string heard = n > 0 ? std::string(bytes.data(), static_cast<std::size_t>(n)) : "";
    for (const char c : heard) {
        if (c == '?' && options_.asked) sendLine();
        if (c == '\n' || c == '\r') {
            if (command_.starts_with('H')) heater_ = std::clamp(std::strtod(command_.c_str() + 1, nullptr), 0., 100.);
            command_.clear();
        } else if (command_.size() < 32) {
            command_ += c;
        }
    }
    return heard;
}

bool Beehive::sendLine() {
    BeehiveOptions now = options_;
    now.heater = heater_;
    std::string bytes = line(now, number_++) + "\r\n";
    if (faults.silent) return true;
    if (faults.endless) bytes.resize(bytes.size() - 2);
    if (faults.garbage)
        for (char& c : bytes) c = static_cast<char>(c ^ 0xb5);
    const unsigned theirs = options_.baud == 0 ? 0 : listenersSpeed(master_);
    return send(theirs == 0 || theirs == options_.baud ? bytes : heardAt(bytes, options_.baud, theirs));
}

void Beehive::run(const std::atomic<bool>& stop) {
    const auto every = std::chrono::nanoseconds(static_cast<std::int64_t>(1e9 / options_.linesPerSecond));
    auto next = std::chrono::steady_clock::now();
    while (!stop) {
        if (faults.unplugged != (master_ < 0)) {
            if (faults.unplugged)
                unplug();
            else
                (void)plug();  // where it fails it is tried again with the next line
        }
        if (!options_.asked) sendLine();
        next += every;
        for (auto now = std::chrono::steady_clock::now(); now < next && !stop; now = std::chrono::steady_clock::now()) {
            pollfd p{master_, POLLIN, 0};
            const auto wait = std::chrono::duration_cast<std::chrono::milliseconds>(next - now).count();
            if (poll(&p, 1, static_cast<int>(std::min<long>(wait + 1, 100))) > 0 && (p.revents & POLLHUP))
                std::this_thread::sleep_until(std::min(next, now + std::chrono::milliseconds(20)));  // nobody is there
            hear();
        }
    }
}

}  // namespace cruscotto
