#include <cmath>

#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class PulseTimes : public StageProcessor {
public:
    PulseTimes(const std::string& what, double silence) : what_(what), silence_(seconds(silence)) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            const bool on = s.values[i] > 0.5;
            if (known_ && on != on_) edge(now, on);
            if (!known_) edgeAt_ = now;
            known_ = true;
            on_ = on;
            if (now - edgeAt_ > silence_) {
                forget();
                edgeAt_ = now - silence_ - Duration{1};
            }
            s.values[i] = reading();
        }
    }
    void reset() override {
        known_ = false;
        forget();
    }

private:
    void edge(Instant now, bool rises) {
        std::optional<double>& ended = rises ? off_ : onFor_;
        if (edges_ > 0) ended = static_cast<double>((now - edgeAt_).ns) * 1e-9;  // the first one began unseen
        edgeAt_ = now;
        if (edges_ < 3) ++edges_;
    }
    void forget() {
        edges_ = 0;
        onFor_.reset();
        off_.reset();
    }
    [[nodiscard]] double reading() const {
        const double none = std::nan("");
        if (what_ == "on-time") return onFor_.value_or(none);
        if (what_ == "off-time") return off_.value_or(none);
        if (!onFor_ || !off_) return none;
        return what_ == "period" ? *onFor_ + *off_ : 100 * *onFor_ / (*onFor_ + *off_);
    }

    std::string what_;
    Duration silence_;
    Instant edgeAt_;
    std::optional<double> onFor_, off_;
    int edges_ = 0;
    bool known_ = false, on_ = false;
};

}  // namespace

/// Of a digital input that pulses (IEC 60469): how long it was on or off the last time, the period, or the share of the
/// time that it is on. As fine as its samples. No reading without an edge for the silence.
const StageKind& pulseTimes() {
    static const StageKind kind{
        .key = "pulse-times",
        .title = CRUSCOTTO_TEXT("Pulse width, period, duty"),
        .group = StageGroup::sensor,
        .fields = {{.key = "what",
                    .title = CRUSCOTTO_TEXT("What"),
                    .type = StageField::Type::choice,
                    .first = "on-time",
                    .choices = {{"on-time", CRUSCOTTO_TEXT("width (on)")},
                                {"off-time", CRUSCOTTO_TEXT("width (off)")},
                                {"period", CRUSCOTTO_TEXT("period")},
                                {"duty", CRUSCOTTO_TEXT("duty")}}},
                   {.key = "silence-s",
                    .title = CRUSCOTTO_TEXT("Silence"),
                    .first = 5.0,
                    .unit = "s",
                    .low = 0,
                    .high = 1e6,
                    .aboveLow = true}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("Of the last pulse; without an edge for {0} s there is no reading."),
                            number(s.number("silence-s")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<PulseTimes>(s.text("what"), s.number("silence-s"));
        },
        .unitAfter = [](const Stage& s,
                        const std::string&) { return std::string(s.text("what") == "duty" ? "%" : "s"); },
        .memory = [](const Stage& s) -> StageMemory {
            return {.samples = 1, .time = seconds(3 * s.number("silence-s"))};
        },
        .ownErrors = [](const Stage& s, const StageMoment& m) -> std::vector<UncertaintyContribution> {
            if (s.text("what") == "duty" || m.interval.ns <= 0) return {};
            // between two edges, each of them evenly spread over a sample
            return {{CRUSCOTTO_TEXT("edges known to one sample"), m.interval.seconds() / std::sqrt(6.0)}};
        },
        .suits = [](ChannelKind of) { return of == ChannelKind::digitalInput; },
        .reach = [](const Stage&, const std::optional<Scale>&) -> std::optional<Scale> { return std::nullopt; },
        .gives = StageKind::Gives::number,
    };
    return kind;
}

}  // namespace cruscotto::stages
