#include "standins/canbus/pump_bus.h"

#include <array>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <vector>

namespace cruscotto {

std::vector<Fault> PumpBusFaults::named() {
    return {fault("quiet", quiet), fault("garbage", garbage), fault("shortened", shortened), fault("endless", endless)};
}

double PumpBus::speed(std::uint64_t n) {
    return std::round(4 * (1450 + 20 * std::sin(static_cast<double>(n) / 130))) / 4;
}
double PumpBus::current(std::uint64_t n) {
    return std::round(100 * (2.5 * std::sin(static_cast<double>(n) / 90))) / 100;
}
double PumpBus::temperature(std::uint64_t n) {
    return 41.5 + 10 * static_cast<double>(n % 3) + 0.1 * static_cast<double>(n / 3 % 20);
}
float PumpBus::vibration(std::uint64_t n) {
    return 1.5F + 0.5F * std::sin(static_cast<float>(n) / 10);
}

class PumpBusTalk : public Conversation {
public:
    explicit PumpBusTalk(PumpBus& bus) : bus_(bus) {}
    std::string hear(std::string_view bytes) override {
        std::string out;
        for (const char c : bytes) {
            if (c != '\r') {
                if (line_.size() < 200) line_ += c;
                continue;
            }
            if (!line_.empty()) out += obey(std::exchange(line_, {}));
        }
        return out;
    }
    std::string tick() override {
        if (!open_) return {};
        using std::chrono::duration;
        const double t = duration<double>(std::chrono::steady_clock::now() - began_).count() * bus_.rate_;
        std::string out;
        if (bus_.faults.quiet) {
            for (auto& n : next_) n = 0;
            began_ = std::chrono::steady_clock::now();
            return {};
        }
        if (bus_.faults.endless) return std::string(500, 'A');
        if (bus_.faults.garbage) return "t12\rhello\rtZZZ0\rT123\r\at9991FF\r";
        constexpr std::array<double, 3> every{0.01, 0.02, 0.05};
        for (std::size_t i = 0; i < every.size(); ++i)
            for (; static_cast<double>(next_[i]) * every[i] <= t && out.size() < 50'000; ++next_[i]) {
                out += frame(i, next_[i]);
                ++bus_.sent_;
            }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    std::string frame(std::size_t which, std::uint64_t n) {
        std::vector<unsigned> d(8, 0);
        const char* head = "t100";
        if (which == 0) {
            const auto speed = static_cast<unsigned>(std::lround(4 * PumpBus::speed(n)));
            const auto current =
                static_cast<unsigned>(static_cast<int>(std::lround(100 * PumpBus::current(n)))) & 0xffffU;
            d = {speed >> 8 & 0xffU,
                 speed & 0xffU,
                 current & 0xffU,
                 current >> 8,
                 n % 200 < 100 ? 0x05U : 0x02U,
                 0,
                 0,
                 0};
        } else if (which == 1) {
            head = "T18FF5001";
            const auto temperature = static_cast<unsigned>(std::lround(10 * PumpBus::temperature(n)));
            d = {static_cast<unsigned>(n % 3), temperature & 0xffU, temperature >> 8, 0xff};
        } else {
            head = "t200";
            const float v = PumpBus::vibration(n);
            std::uint32_t bits = 0;
            std::memcpy(&bits, &v, 4);
            d = {bits & 0xffU, bits >> 8 & 0xffU, bits >> 16 & 0xffU, bits >> 24};
        }
        if (bus_.faults.shortened) d.pop_back();
        std::string out = head + std::to_string(d.size());
        for (const unsigned byte : d) {
            std::array<char, 4> hex{};
            std::snprintf(hex.data(), hex.size(), "%02x", byte);
            out += hex.data();
        }
        return out + "\r";
    }
    std::string obey(const std::string& line) {
        {
            const Lock lock(bus_.mutex_);
            bus_.told_.push_back(line);
            if (bus_.told_.size() > 2000) bus_.told_.pop_front();
        }
        if (line == "O" || line == "L") {
            if (open_) return "\a";
            open_ = true;
            began_ = std::chrono::steady_clock::now();
            for (auto& n : next_) n = 0;
            return "\r";
        }
        if (line == "C") return std::exchange(open_, false) ? "\r" : "\a";
        if (line[0] == 'S') return line.size() == 2 && !open_ ? "\r" : "\a";
        if (line == "V") return "V1013\r";
        if (line == "t701105" && open_)
            bus_.beatNs_ = std::chrono::steady_clock::now().time_since_epoch() / std::chrono::nanoseconds(1);
        if (line.starts_with("t3004") && line.size() == 13 && open_) {
            bus_.askedSpeed_ = static_cast<double>(std::strtoul(line.substr(5, 2).c_str(), nullptr, 16) +
                                                   256 * std::strtoul(line.substr(7, 2).c_str(), nullptr, 16)) /
                               4;
        }
        return (line[0] == 't' || line[0] == 'T') && open_ ? "z\r" : "\a";
    }

    PumpBus& bus_;
    std::string line_;
    bool open_ = false;
    std::chrono::steady_clock::time_point began_;
    std::array<std::uint64_t, 3> next_{};
};

StandInHost::Begin PumpBus::begin() {
    return [this] { return std::make_unique<PumpBusTalk>(*this); };
}

double PumpBus::askedSpeed() const {
    const std::int64_t now = std::chrono::steady_clock::now().time_since_epoch() / std::chrono::nanoseconds(1);
    constexpr std::int64_t longest = 500'000'000;
    return beatNs_ != 0 && now - beatNs_ > longest ? 0 : askedSpeed_.load();
}

std::vector<std::string> PumpBus::told() const {
    const Lock lock(mutex_);
    return {told_.begin(), told_.end()};
}

}  // namespace cruscotto
