#include "core/chain/stages/list.h"

namespace cruscotto::stages {

namespace {

class Inverter : public StageProcessor {
public:
    void run(Stretch& s) override {
        for (double& x : s.values) x = x == 0 ? 1 : 0;
    }
};

}  // namespace

/// Digital: 0 reads as on. A closed switch to ground reads low.
const StageKind& invert() {
    static const StageKind kind{
        .key = "invert",
        .title = CRUSCOTTO_TEXT("Inverted"),
        .group = StageGroup::terminal,
        .sentence = [](const Stage&) { return Text(CRUSCOTTO_TEXT("Low reads as on, high as off.")); },
        .make = [](const Stage&, const std::string&) -> MadeProcessor { return processor<Inverter>(); },
        .suits = [](ChannelKind of) { return of == ChannelKind::digitalInput; },
        .keepsWhole = true,
    };
    return kind;
}

}  // namespace cruscotto::stages
