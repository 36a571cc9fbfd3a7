// What stages are called, say of themselves, and what units they give; what they calculate is in chain.cpp.
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/overload.h"
#include "core/base/units.h"
#include "core/chain/chain.h"

namespace cruscotto {

const char* stageKey(const Stage& stage) {
    return std::visit(Overload{
                          [](const CountsToVolts&) { return "counts-to-volts"; },
                          [](const SlopeOffset&) { return "slope-offset"; },
                          [](const TwoPoints&) { return "two-points"; },
                          [](const Formula&) { return "formula"; },
                          [](const MovingMean&) { return "moving-mean"; },
                          [](const ConvertUnit&) { return "convert-unit"; },
                          [](const ValidRange&) { return "valid-range"; },
                          [](const Invert&) { return "invert"; },
                          [](const PulseCounter&) { return "pulse-counter"; },
                      },
                      stage);
}

Text stageTitle(const Stage& stage) {
    return std::visit(Overload{
                          [](const CountsToVolts&) -> Text { return CRUSCOTTO_TEXT("Counts to volts"); },
                          [](const SlopeOffset&) -> Text { return CRUSCOTTO_TEXT("Slope and offset"); },
                          [](const TwoPoints&) -> Text { return CRUSCOTTO_TEXT("Two points"); },
                          [](const Formula&) -> Text { return CRUSCOTTO_TEXT("Formula"); },
                          [](const MovingMean&) -> Text { return CRUSCOTTO_TEXT("Moving mean"); },
                          [](const ConvertUnit&) -> Text { return CRUSCOTTO_TEXT("Other unit"); },
                          [](const ValidRange&) -> Text { return CRUSCOTTO_TEXT("Valid range"); },
                          [](const Invert&) -> Text { return CRUSCOTTO_TEXT("Inverted"); },
                          [](const PulseCounter&) -> Text { return CRUSCOTTO_TEXT("Pulse counter"); },
                      },
                      stage);
}

Text describeStage(const Stage& stage) {
    const auto number = [](double v) { return (v < 0 ? "\u2212" : "") + shortNumber(std::fabs(v)); };
    return std::visit(
        Overload{
            [&](const CountsToVolts& s) {
                const double levels = std::ldexp(1.0, s.bits), count = (s.high - s.low) / levels;
                const bool small = count < 1e-4;
                return text(CRUSCOTTO_TEXT("{0} bits make {1} levels over {2} to {3} V: one count is {4} {5}."), s.bits,
                            static_cast<std::int64_t>(levels), number(s.low), number(s.high),
                            number(count * (small ? 1e6 : 1e3)), small ? "µV" : "mV");
            },
            [&](const SlopeOffset& s) {
                return text(CRUSCOTTO_TEXT("Times {0}, plus {1}, gives {2}."), number(s.slope), number(s.offset),
                            s.unit == "1" ? std::string("the reading") : unitText(s.unit));
            },
            [&](const TwoPoints& s) {
                return text(CRUSCOTTO_TEXT("The line through {0} → {1} and {2} → {3} {4}."), number(s.x1), number(s.y1),
                            number(s.x2), number(s.y2), unitText(s.unit));
            },
            [&](const Formula& s) {
                return text(CRUSCOTTO_TEXT("Works out a formula over x, the value from the stage above, in {0}."),
                            s.unit == "1" ? std::string("no unit") : unitText(s.unit));
            },
            [&](const MovingMean& s) {
                return text(CRUSCOTTO_TEXT("Averages the last {0} samples: calmer, but later."), s.samples);
            },
            [&](const ConvertUnit& s) {
                return text(CRUSCOTTO_TEXT("Says the same quantity in {0}."), unitText(s.unit));
            },
            [&](const ValidRange& s) {
                return text(CRUSCOTTO_TEXT("Marks readings below {0} or above {1} as out of range."), number(s.low),
                            number(s.high));
            },
            [&](const Invert&) { return Text(CRUSCOTTO_TEXT("Low reads as on, high as off.")); },
            [&](const PulseCounter& s) {
                switch (s.mode) {
                    case PulseCounter::Mode::count:
                        return Text(CRUSCOTTO_TEXT("Counts the pulses since the bench began to measure."));
                    case PulseCounter::Mode::rpm:
                        return text(CRUSCOTTO_TEXT(
                                        "{0} pulses are one turn; without a pulse for {1} s the shaft stands still."),
                                    number(s.pulsesPerTurn), number(s.silenceSeconds));
                    case PulseCounter::Mode::frequency:
                        break;
                }
                return text(CRUSCOTTO_TEXT("Pulses a second; without a pulse for {0} s it reads 0."),
                            number(s.silenceSeconds));
            },
        },
        stage);
}

std::string unitAfter(const Stage& stage, const std::string& before) {
    return std::visit(Overload{
                          [](const CountsToVolts&) -> std::string { return "V"; },
                          [](const SlopeOffset& s) { return s.unit; },
                          [](const TwoPoints& s) { return s.unit; },
                          [](const Formula& s) { return s.unit; },
                          [&](const MovingMean&) { return before; },
                          [](const ConvertUnit& s) { return s.unit; },
                          [&](const ValidRange&) { return before; },
                          [&](const Invert&) { return before; },
                          [](const PulseCounter& s) -> std::string {
                              switch (s.mode) {
                                  case PulseCounter::Mode::rpm:
                                      return "{rpm}";
                                  case PulseCounter::Mode::count:
                                      return "{pulses}";
                                  case PulseCounter::Mode::frequency:
                                      break;
                              }
                              return "Hz";
                          },
                      },
                      stage);
}

std::string rawUnit(ChannelKind kind) {
    switch (kind) {
        case ChannelKind::analogInput:
            return "{counts}";
        case ChannelKind::counterInput:
            return "{pulses}";
        case ChannelKind::analogOutput:
            return "V";
        case ChannelKind::digitalInput:
        case ChannelKind::digitalOutput:
            break;
    }
    return "1";
}

std::string readingUnit(const ChainSpec& chain, ChannelKind kind) {
    std::string unit = rawUnit(kind);
    for (const Stage& stage : chain) unit = unitAfter(stage, unit);
    return unit;
}

}  // namespace cruscotto
