#include "standins/frameboard/weather_board.h"

#include <chrono>
#include <cmath>
#include <cstring>

namespace cruscotto {

namespace {

/// Bit by bit, as small boards do it.
unsigned remainder(const std::string& bytes, unsigned bits, unsigned polynomial, unsigned preset, bool lowestFirst) {
    unsigned r = preset;
    const unsigned top = 1U << (bits - 1), all = (top << 1) - 1;
    for (const char c : bytes) {
        const auto byte = static_cast<unsigned char>(c);
        for (int i = 0; i < 8; ++i) {
            const bool bit = (lowestFirst ? byte >> i & 1 : byte >> (7 - i) & 1) != 0;
            const bool out = (lowestFirst ? r & 1U : r & top) != 0;
            r = lowestFirst ? r >> 1 : r << 1 & all;
            if (bit != out) r ^= polynomial;
        }
    }
    return r;
}

std::string low(std::uint64_t v, int bytes) {
    std::string out;
    for (int i = 0; i < bytes; ++i) out += static_cast<char>(v >> (8 * i));
    return out;
}
std::string high(std::uint64_t v, int bytes) {
    std::string out;
    for (int i = bytes - 1; i >= 0; --i) out += static_cast<char>(v >> (8 * i));
    return out;
}

std::string stuffed(const std::string& bytes) {
    std::string out;
    std::size_t i = 0;
    while (true) {
        const std::size_t zero = std::min(bytes.find('\0', i), bytes.size());
        const std::size_t n = std::min<std::size_t>(zero - i, 254);
        out += static_cast<char>(n + 1);
        out += bytes.substr(i, n);
        i += n;
        if (n == 254 && i < bytes.size()) continue;
        if (i >= bytes.size()) break;
        ++i;
    }
    return out + '\0';
}

std::string escaped(const std::string& bytes) {
    std::string out;
    for (const char c : bytes) {
        if (c == '\xc0')
            out += "\xdb\xdc";
        else if (c == '\xdb')
            out += "\xdb\xdd";
        else
            out += c;
    }
    return out + '\xc0';
}

}  // namespace

std::vector<Fault> WeatherFaults::named() {
    return {fault("wrong-check-sum", wrongCheckSum), fault("noise", noise), fault("endless", endless),
            fault("quiet", quiet)};
}

double WeatherBoard::temperature(std::uint64_t n) {
    return std::round(10 * (4 + 9 * std::sin(static_cast<double>(n) / 60))) / 10;
}
double WeatherBoard::wind(std::uint64_t n) {
    return static_cast<float>(3.2 + 1.9 * std::sin(static_cast<double>(n) / 37) +
                              0.2 * std::sin(static_cast<double>(n) / 3));
}
unsigned WeatherBoard::rain(std::uint64_t n) {
    return static_cast<unsigned>(240 + n / 5) & 0xffffU;
}

std::string WeatherBoard::frame(const WeatherOptions& options, std::uint64_t n) {
    std::uint32_t wind = 0;
    const auto speed = static_cast<float>(WeatherBoard::wind(n));
    std::memcpy(&wind, &speed, 4);
    std::string values = low(firstStamp + 10 * n, 4);
    values += low(static_cast<std::uint64_t>(std::lround(10 * temperature(n))), 2);
    values += low(static_cast<std::uint64_t>(std::lround(70 + 15 * std::sin(static_cast<double>(n) / 90))), 1);
    values += low(wind, 4);
    if (options.format != WeatherOptions::Format::lengthFirst || n % 4 != 3) values += high(rain(n), 2);
    values += low((n / 300 % 2) | 0xb0U, 1);
    switch (options.format) {
        case WeatherOptions::Format::fixed: {
            const std::string all = "\xa5\x3c" + values;
            return all + low(remainder(all, 16, 0xA001, 0xFFFF, true), 2);
        }
        case WeatherOptions::Format::lengthFirst: {
            const std::string all = low(values.size(), 1) + values;
            return '\x7e' + all + high(remainder(all, 16, 0x1021, 0xFFFF, false), 2);
        }
        case WeatherOptions::Format::cobs:
            return stuffed(values + low(remainder(values, 8, 0x07, 0, false), 1));
        case WeatherOptions::Format::slip:
            return escaped(values + high(remainder(values, 16, 0x1021, 0, false), 2));
    }
    return values;
}

class WeatherTalk : public Conversation {
public:
    explicit WeatherTalk(WeatherBoard& board) : board_(board) {}
    std::string hear(std::string_view bytes) override {
        heard_ += bytes;
        if (const auto at = heard_.rfind("\xa5W"); at != std::string::npos && at + 2 < heard_.size())
            board_.heater_ = static_cast<unsigned char>(heard_[at + 2]);
        if (heard_.size() > 64) heard_.erase(0, heard_.size() - 8);
        return {};
    }
    std::string tick() override {
        using Clock = std::chrono::steady_clock;
        const auto now = Clock::now();
        if (board_.faults.endless) return std::string("\xa5\x3c\xff\x03", 4) + std::string(300, 'A');
        if (next_.time_since_epoch().count() == 0) next_ = now;
        // While nobody listens, its time goes on.
        if (const auto missed = (now - next_) / std::chrono::milliseconds(10); missed > 500) {
            number_ += static_cast<std::uint64_t>(missed);
            next_ += missed * std::chrono::milliseconds(10);
        }
        std::string out;
        for (; next_ <= now; next_ += std::chrono::milliseconds(10)) {
            if (board_.faults.quiet) continue;
            std::string frame = WeatherBoard::frame(board_.options_, number_++);
            if (board_.faults.wrongCheckSum) frame[frame.size() - 2] = static_cast<char>(frame[frame.size() - 2] ^ 1);
            if (board_.faults.noise && number_ % 3 == 0) out += "\xa5?\x01";
            out += frame;
        }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    WeatherBoard& board_;
    std::string heard_;
    std::chrono::steady_clock::time_point next_;
    std::uint64_t number_ = 0;
};

StandInHost::Begin WeatherBoard::begin() {
    return [this] { return std::make_unique<WeatherTalk>(*this); };
}

}  // namespace cruscotto
