#include "standins/sound/tone.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numbers>

namespace cruscotto {

std::vector<Fault> ToneFaults::named() {
    return {fault("quiet", quiet), fault("flood", flood), fault("clipped", clipped)};
}

int Tone::left(std::uint64_t n, double rate) {
    return static_cast<int>(std::lround(12000 * std::sin(2 * std::numbers::pi * 997 * static_cast<double>(n) / rate)));
}
int Tone::right(std::uint64_t n, double rate) {
    return static_cast<int>(std::lround(3000 * std::sin(2 * std::numbers::pi * 50 * static_cast<double>(n) / rate)));
}

class ToneTalk : public Conversation {
public:
    explicit ToneTalk(Tone& tone) : tone_(tone) {}
    std::string hear(std::string_view) override { return {}; }
    std::string tick() override {
        const auto now = std::chrono::steady_clock::now();
        if (began_.time_since_epoch().count() == 0) began_ = now;
        const double t = std::chrono::duration<double>(now - began_).count();
        auto due = static_cast<std::uint64_t>(t * tone_.rate_ * (1 + tone_.ppm_ * 1e-6));
        if (tone_.faults.quiet) {
            sent_ = due;
            return {};
        }
        if (tone_.faults.flood) due = sent_ + static_cast<std::uint64_t>(tone_.rate_ / 10);
        due = std::min(due, sent_ + 100'000);
        std::string out;
        for (; sent_ < due; ++sent_)
            for (int v : {Tone::left(sent_, tone_.rate_), Tone::right(sent_, tone_.rate_)}) {
                if (tone_.faults.clipped) v = std::clamp(4 * v, -32768, 32767);
                out += static_cast<char>(v);
                out += static_cast<char>(v >> 8);
            }
        return out;
    }
    [[nodiscard]] bool ticks() const override { return true; }

private:
    Tone& tone_;
    std::chrono::steady_clock::time_point began_;
    std::uint64_t sent_ = 0;
};

StandInHost::Begin Tone::begin() {
    return [this] { return std::make_unique<ToneTalk>(*this); };
}

}  // namespace cruscotto
