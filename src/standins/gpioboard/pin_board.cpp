#include "standins/gpioboard/pin_board.h"

#include <chrono>
#include <cmath>
#include <vector>

namespace cruscotto {

int PinBoard::analog(int channel, std::uint64_t n) {
    return static_cast<int>(std::lround(512 + 100 * channel * std::sin(static_cast<double>(n) / 20) / 2));
}

namespace {

class BoardTalk : public Conversation {
public:
    explicit BoardTalk(PinBoard& board) : board_(board) {}
    std::string hear(std::string_view bytes) override {
        std::string out;
        for (const char c : bytes) {
            const unsigned v = static_cast<unsigned char>(c);
            if (v >= 0x80 && v != 0xF7) in_.clear();
            in_.push_back(v);
            if (in_[0] == 0xF0
                    ? v == 0xF7
                    : in_[0] == 0xFF || in_[0] == 0xF9 || in_.size() == (in_[0] >= 0xC0 && in_[0] < 0xE0 ? 2U : 3U)) {
                out += obey();
                in_.clear();
            }
            if (in_.size() > 100) in_.clear();
        }
        return board_.faults.silent ? "" : out;
    }
    std::string tick() override {
        if (board_.faults.silent) return {};
        if (board_.faults.endless) return "\xF0" + std::string(300, 'a');
        if (board_.faults.garbage) return "\x01\x02\xE0\xE1\x01";
        std::string out;
        const auto now = std::chrono::steady_clock::now();
        if (now - last_ >= std::chrono::milliseconds(board_.samplingMs)) {
            last_ = now;
            for (unsigned channel = 0; channel < 6; ++channel)
                if (analogs_[channel]) add(out, 0xE0 + channel, PinBoard::analog(static_cast<int>(channel), number_));
            ++number_;
        }
        for (unsigned port = 0; port < 3; ++port) {
            if (!ports_[port]) continue;
            const int level = portLevel(port);
            if (level == shown_[port]) continue;
            shown_[port] = level;
            add(out, 0x90 + port, level);
        }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    static void add(std::string& out, unsigned head, int value) {
        out.push_back(static_cast<char>(head));
        out.push_back(static_cast<char>(value % 128));
        out.push_back(static_cast<char>(value / 128));
    }
    int portLevel(unsigned port) const {
        int level = 0;
        for (unsigned i = 0; i < 8 && port * 8 + i < 20; ++i) {
            const bool pressed = board_.pressed[port * 8 + i];
            const bool high = board_.mode[port * 8 + i] == 11 ? !pressed : pressed;
            level += high ? 1 << i : 0;
        }
        return level;
    }
    std::string obey() {
        const auto arg = [&](std::size_t i) { return i < in_.size() ? in_[i] : 0; };
        if (in_[0] == 0xFF) {
            for (std::size_t pin = 0; pin < board_.level.size(); ++pin) {
                board_.beforeReset[pin] = board_.level[pin].exchange(0);
                board_.mode[pin] = 0;
            }
            ++board_.resets;
        } else if (in_[0] == 0xF4 && arg(1) < 20) {
            board_.mode[arg(1)] = static_cast<int>(arg(2));
            shown_.fill(-1);
        } else if (in_[0] >= 0x90 && in_[0] < 0x93) {
            for (unsigned i = 0; i < 8; ++i)
                if (const unsigned pin = (in_[0] - 0x90) * 8 + i; pin < 20 && board_.mode[pin] == 1)
                    board_.level[pin] = static_cast<int>((arg(1) + 128 * arg(2)) >> i & 1U);
        } else if (in_[0] == 0xF5 && arg(1) < 20 && !board_.faults.earlier) {
            board_.level[arg(1)] = static_cast<int>(arg(2));
        } else if (in_[0] >= 0xE0 && in_[0] < 0xF0) {
            board_.level[in_[0] - 0xE0] = static_cast<int>(arg(1) + 128 * arg(2));
        } else if (in_[0] >= 0xC0 && in_[0] < 0xC6) {
            analogs_[in_[0] - 0xC0] = arg(1) != 0;
        } else if (in_[0] >= 0xD0 && in_[0] < 0xD3) {
            ports_[in_[0] - 0xD0] = arg(1) != 0;
            shown_[in_[0] - 0xD0] = -1;
        } else if (in_[0] == 0xF0) {
            return special();
        }
        return {};
    }
    std::string special() {
        const auto arg = [&](std::size_t i) { return i + 1 < in_.size() ? in_[i] : 0; };
        std::string out = "\xF0";
        switch (arg(1)) {
            case 0x79:
                out += std::string{'\x79', '\x02',
                                   board_.faults.old       ? '\x02'
                                   : board_.faults.earlier ? '\x03'
                                                           : '\x05'};
                for (const char c : std::string("Pin board stand-in")) out += std::string{c, '\0'};
                break;
            case 0x6B:
                out += '\x6C';
                for (int pin = 0; pin < 20; ++pin) {
                    if (pin >= 2)
                        out += board_.faults.earlier ? std::string{'\0', 1, 1, 1} : std::string{'\0', 1, 1, 1, 11, 1};
                    if (pin >= 14) out += std::string{2, 10};
                    if (pin == 3 || pin == 5 || pin == 6 || pin == 9 || pin == 10 || pin == 11)
                        out += std::string{3, static_cast<char>(pin == 11 ? 16 : 8)};
                    if (pin >= 2 && pin < 14) out += std::string{4, 14};
                    if (pin >= 18) out += std::string{6, 1};
                    out += '\x7F';
                }
                break;
            case 0x69:
                out += '\x6A';
                for (int pin = 0; pin < 20; ++pin) out += static_cast<char>(pin < 14 ? 127 : pin - 14);
                break;
            case 0x7A:
                board_.samplingMs = std::max(1, static_cast<int>(arg(2) + 128 * arg(3)));
                return {};
            case 0x6F:
                if (arg(2) < 20) {
                    int level = 0;
                    for (std::size_t i = in_.size() - 2; i >= 3; --i) level = 128 * level + static_cast<int>(in_[i]);
                    board_.level[arg(2)] = level;
                }
                return {};
            case 0x76: {
                if (arg(2) != 0x48) return {};
                out += std::string{'\x77', '\x48', '\0'};
                out += std::string{static_cast<char>(arg(4)), static_cast<char>(arg(5))};
                const int value = 25 * 256 + 64 + static_cast<int>(number_ % 8);
                out += std::string{static_cast<char>(value / 256 % 128), static_cast<char>(value / 256 / 128),
                                   static_cast<char>(value % 256 % 128), static_cast<char>(value % 256 / 128)};
                break;
            }
            default:
                return {};
        }
        return out + '\xF7';
    }

    PinBoard& board_;
    std::vector<unsigned> in_;
    std::array<bool, 6> analogs_{};
    std::array<bool, 3> ports_{};
    std::array<int, 3> shown_{-1, -1, -1};
    std::uint64_t number_ = 0;
    std::chrono::steady_clock::time_point last_;
};

}  // namespace

std::vector<Fault> PinBoardFaults::named() {
    return {fault("silent", silent), fault("old", old), fault("earlier", earlier), fault("endless", endless),
            fault("garbage", garbage)};
}

StandInHost::Begin PinBoard::begin() {
    return [this] { return std::make_unique<BoardTalk>(*this); };
}

}  // namespace cruscotto
