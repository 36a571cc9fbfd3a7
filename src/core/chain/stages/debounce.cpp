#include "core/chain/stages/list.h"
#include "core/chain/stages/stage_parts.h"

namespace cruscotto::stages {

namespace {

class Debounce : public StageProcessor {
public:
    explicit Debounce(Duration time) : time_(time) {}
    void run(Stretch& s) override {
        for (std::size_t i = 0; i < s.values.size(); ++i) {
            const Instant now = s.times[i];
            const bool on = s.values[i] > 0.5;
            if (!known_) {
                known_ = true;
                state_ = last_ = on;
                since_ = now;
            }
            if (on != last_) {
                last_ = on;
                since_ = now;
            }
            if (now - since_ >= time_) state_ = last_;
            s.values[i] = state_ ? 1 : 0;
        }
    }
    void reset() override { known_ = false; }

private:
    Duration time_;
    Instant since_;
    bool known_ = false, state_ = false, last_ = false;
};

}  // namespace

/// Digital: a state counts when it has stayed for the time; contacts that bounce make one change of many.
const StageKind& debounce() {
    static const StageKind kind{
        .key = "debounce",
        .title = CRUSCOTTO_TEXT("De-bounced"),
        .group = StageGroup::filter,
        .fields = {{.key = "time-s",
                    .title = CRUSCOTTO_TEXT("Stays for"),
                    .first = 0.01,
                    .unit = "s",
                    .low = 0,
                    .high = 100}},
        .sentence =
            [](const Stage& s) {
                return text(CRUSCOTTO_TEXT("A state counts when it has stayed for {0} s, and is that much later."),
                            number(s.number("time-s")));
            },
        .make = [](const Stage& s, const std::string&) -> MadeProcessor {
            return processor<Debounce>(seconds(s.number("time-s")));
        },
        .memory = [](const Stage&) -> StageMemory { return {.time = wholePast}; },
        .suits = [](ChannelKind of) { return of == ChannelKind::digitalInput; },
        .keepsWhole = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
