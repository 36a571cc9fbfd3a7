#include "devices/simbox/box_terminals.h"

#include <algorithm>
#include <cmath>

#include "core/base/number_text.h"

namespace cruscotto::simbox {

namespace {

constexpr std::array halfRanges{0.02, 0.1, 0.2, 1.0, 5.0, 10.0};
constexpr double wholeNetwork = 100'000, networkSteps = 256;
constexpr double leastLoad = 400, mostLoad = 100'000;
constexpr Scale fixedRange{-10, 10}, excitedRange{-0.2, 0.2};

template <class Names>
std::optional<std::size_t> indexIn(const Names& names, const std::string& terminal) {
    const auto it = std::ranges::find(names, terminal);
    return it == std::end(names) ? std::nullopt : std::optional(static_cast<std::size_t>(it - std::begin(names)));
}

const TerminalRequest* asked(const std::vector<TerminalRequest>& all, const char* terminal) {
    const auto it = std::ranges::find(all, std::string(terminal), &TerminalRequest::terminal);
    return it == all.end() ? nullptr : &*it;
}

std::string wordOf(const TerminalRequest* request, const std::string& key, const std::string& otherwise) {
    if (!request) return otherwise;
    const auto it = request->setup.find(key);
    const auto* words = it == request->setup.end() ? nullptr : std::get_if<std::string>(&it->second);
    return words ? *words : otherwise;
}

double numberOf(const TerminalRequest* request, const std::string& key, double otherwise) {
    if (!request) return otherwise;
    const auto it = request->setup.find(key);
    const auto* number = it == request->setup.end() ? nullptr : std::get_if<double>(&it->second);
    return number ? *number : otherwise;
}

bool isFirst(std::size_t input) {
    return input % 2 == 0;
}
std::size_t partnerOf(std::size_t input) {
    return isFirst(input) ? input + 1 : input - 1;
}
std::string pairedName(std::size_t first) {
    return std::string(analogNames.at(first)) + "-" + analogNames.at(first + 1);
}
bool isDifferential(const std::vector<TerminalRequest>& all, std::size_t first) {
    return wordOf(asked(all, analogNames.at(first)), "mode", "single") == "differential";
}

std::vector<TerminalSetting> analogSettings(std::size_t i, const std::vector<TerminalRequest>& all) {
    if (i >= pairedInputs) return {};
    const std::size_t partner = partnerOf(i);
    const TerminalRequest* own = asked(all, analogNames.at(i));
    const TerminalRequest* other = asked(all, analogNames.at(partner));
    const bool taken = !isFirst(i) && isDifferential(all, partner);
    TerminalSetting mode{"mode", CRUSCOTTO_TEXT("Input"), {{"single", CRUSCOTTO_TEXT("against ground")}}, "single"};
    if (taken)
        mode.choices[0].blocked =
            text(CRUSCOTTO_TEXT("taken: {0} is the other half of {1}. Set {2} against ground, or use another input."),
                 analogNames.at(i), pairedName(partner), analogNames.at(partner));
    if (isFirst(i)) {
        mode.choices.push_back({"differential", text(CRUSCOTTO_TEXT("less {0}"), analogNames.at(partner))});
        if (other)
            mode.choices[1].blocked =
                text(CRUSCOTTO_TEXT("{0} is used as an input of its own."), analogNames.at(partner));
    }
    std::vector<TerminalSetting> out{std::move(mode)};
    TerminalSetting load{"load",
                         CRUSCOTTO_TEXT("Load"),
                         {{"none", CRUSCOTTO_TEXT("none")},
                          {"up", CRUSCOTTO_TEXT("up to 5 V")},
                          {"down", CRUSCOTTO_TEXT("down to ground")}},
                         "none"};
    const std::string partners = wordOf(other, "load", "none");
    for (auto& choice : load.choices)
        if (partners != "none" && choice.key != "none" && choice.key != partners)
            choice.blocked =
                text(CRUSCOTTO_TEXT("a pair shares its kind of load, and {0} goes {1}."), analogNames.at(partner),
                     partners == "up" ? std::string("up to 5 V") : std::string("down to ground"));
    constexpr double usualOhms = 10'000;
    load.probe = TerminalSetting::Probe{partners == "down" ? "down" : "up", partners == "down" ? 0 : supplyVolts,
                                        nearestLoad(usualOhms)};
    out.push_back(std::move(load));
    if (wordOf(own, "load", "none") != "none") {
        TerminalSetting ohms{"load-ohm", CRUSCOTTO_TEXT("Load, asked for")};
        ohms.number = 10'000;
        ohms.low = leastLoad;
        ohms.high = mostLoad;
        ohms.unit = "Ohm";
        const double asks = numberOf(own, "load-ohm", ohms.number);
        ohms.note = text(CRUSCOTTO_TEXT("The nearest to {0} Ω that the network can do is {1} Ω."), shortNumber(asks),
                         shortNumber(std::round(nearestLoad(asks))));
        out.push_back(std::move(ohms));
    }
    out.push_back(
        {"excitation",
         CRUSCOTTO_TEXT("Current"),
         {{"off", CRUSCOTTO_TEXT("off")}, {"0.1mA", CRUSCOTTO_TEXT("0.1 mA")}, {"1mA", CRUSCOTTO_TEXT("1 mA")}},
         "off"});
    return out;
}

}  // namespace

double nearestLoad(double ohms) {
    const double step = wholeNetwork / networkSteps;
    return std::clamp(std::round(ohms / step), 1.0, networkSteps) * step;
}

std::vector<Scale> boxRanges(const std::string& terminal, const std::vector<TerminalRequest>& all) {
    const auto i = indexIn(analogNames, terminal);
    if (!i) return {};
    if (*i < pairedInputs && !isFirst(*i)) {
        // The second input of a pair has no amplifier of its own but the one for measuring resistances.
        if (wordOf(asked(all, analogNames.at(*i)), "excitation", "off") != "off") return {excitedRange, fixedRange};
        return {fixedRange};
    }
    std::vector<Scale> out;
    for (const double half : halfRanges) out.push_back({-half, half});
    return out;
}

std::vector<TerminalSetting> boxSettings(const std::string& terminal, const std::vector<TerminalRequest>& all) {
    if (const auto i = indexIn(analogNames, terminal)) return analogSettings(*i, all);
    if (indexIn(inputNames, terminal))
        return {{"sense",
                 CRUSCOTTO_TEXT("Sense"),
                 {{"high", CRUSCOTTO_TEXT("on when high")}, {"low", CRUSCOTTO_TEXT("on when low")}},
                 "high"},
                {"pull-up",
                 CRUSCOTTO_TEXT("Pull-up"),
                 {{"on", CRUSCOTTO_TEXT("on")}, {"off", CRUSCOTTO_TEXT("off")}},
                 "on"},
                {"filter",
                 CRUSCOTTO_TEXT("Filter"),
                 {{"none", CRUSCOTTO_TEXT("none")},
                  {"0.1ms", CRUSCOTTO_TEXT("0.1 ms")},
                  {"1ms", CRUSCOTTO_TEXT("1 ms")},
                  {"10ms", CRUSCOTTO_TEXT("10 ms")}},
                 "none"}};
    const auto counter = indexIn(counterNames, terminal);
    if (!counter) return {};
    const bool quadrature = wordOf(asked(all, "CTR0"), "mode", "pulses") == "quadrature";
    TerminalSetting mode{"mode", CRUSCOTTO_TEXT("Counts"), {{"pulses", CRUSCOTTO_TEXT("pulses")}}, "pulses"};
    if (*counter == 0) {
        mode.choices.push_back({"quadrature", CRUSCOTTO_TEXT("encoder with CTR1")});
        if (asked(all, "CTR1")) mode.choices[1].blocked = CRUSCOTTO_TEXT("CTR1 is used as a counter of its own.");
    } else if (quadrature) {
        mode.choices[0].blocked =
            CRUSCOTTO_TEXT("taken: CTR1 is the second track of the encoder at CTR0. Let CTR0 count pulses first.");
    }
    std::vector<TerminalSetting> out{std::move(mode)};
    if (!quadrature)
        out.push_back({"edge",
                       CRUSCOTTO_TEXT("Edge"),
                       {{"rising", CRUSCOTTO_TEXT("rising")}, {"falling", CRUSCOTTO_TEXT("falling")}},
                       "rising"});
    return out;
}

BoxSetup boxSetup(const std::vector<TerminalRequest>& all) {
    BoxSetup out;
    for (std::size_t i = 0; i < analogNames.size(); ++i) {
        const TerminalRequest* request = asked(all, analogNames.at(i));
        AnalogSetup& a = out.analog.at(i);
        if (request && request->range) a.range = *request->range;
        if (i >= pairedInputs) continue;
        a.differential = isFirst(i) && isDifferential(all, i);
        const std::string load = wordOf(request, "load", "none");
        a.load = load == "up"     ? AnalogSetup::Load::up
                 : load == "down" ? AnalogSetup::Load::down
                                  : AnalogSetup::Load::none;
        a.loadOhms = nearestLoad(numberOf(request, "load-ohm", 10'000));
        const std::string current = wordOf(request, "excitation", "off");
        a.excitationAmps = current == "1mA" ? 1e-3 : current == "0.1mA" ? 1e-4 : 0;
    }
    for (std::size_t i = 0; i < inputNames.size(); ++i) {
        const TerminalRequest* request = asked(all, inputNames.at(i));
        DigitalSetup& d = out.digital.at(i);
        d.inverted = wordOf(request, "sense", "high") == "low";
        d.pullUp = wordOf(request, "pull-up", "on") == "on";
        const std::string filter = wordOf(request, "filter", "none");
        d.filterSeconds = filter == "10ms" ? 0.01 : filter == "1ms" ? 0.001 : filter == "0.1ms" ? 0.0001 : 0;
    }
    for (std::size_t i = 0; i < counterNames.size(); ++i) {
        const TerminalRequest* request = asked(all, counterNames.at(i));
        out.counter.at(i) = {wordOf(request, "edge", "rising") == "falling",
                             i == 0 && wordOf(request, "mode", "pulses") == "quadrature"};
    }
    return out;
}

std::vector<TerminalInfo> boxTerminals() {
    std::vector<TerminalInfo> out;
    for (const char* name : analogNames)
        out.push_back({name, ChannelKind::analogInput, SampleType::int16, boxRanges(name, {}), 16});
    for (const char* name : counterNames) out.push_back({name, ChannelKind::counterInput, SampleType::uint32, {}, 32});
    for (const char* name : inputNames) out.push_back({name, ChannelKind::digitalInput, SampleType::bit, {}, 1});
    for (const char* name : outputNames) {
        const bool analog = name[0] == 'A';
        out.push_back({name,
                       analog ? ChannelKind::analogOutput : ChannelKind::digitalOutput,
                       SampleType::float64,
                       {},
                       analog ? 16 : 1});
    }
    return out;
}

Text boxSentence(const std::string& terminal, const std::vector<TerminalRequest>& all) {
    const BoxSetup setup = boxSetup(all);
    if (const auto i = indexIn(analogNames, terminal)) {
        if (*i >= pairedInputs)
            return CRUSCOTTO_TEXT("The box's own temperature sensor at its terminals, 10 mV per °C.");
        const AnalogSetup& a = setup.analog.at(*i);
        const std::string range = shortNumber(a.range.high);
        std::string more;
        if (a.load != AnalogSetup::Load::none)
            more += fmt::format(", {} Ω {}", shortNumber(std::round(a.loadOhms)),
                                a.load == AnalogSetup::Load::up ? "up to 5 V" : "down to ground");
        if (a.excitationAmps > 0) more += fmt::format(", {} mA sent through it", shortNumber(a.excitationAmps * 1000));
        return a.differential
                   ? text(CRUSCOTTO_TEXT("Measures {0} less {1}, up to ±{2} V{3}."), terminal, analogNames.at(*i + 1),
                          range, more)
                   : text(CRUSCOTTO_TEXT("Measures {0} against ground, up to ±{1} V{2}."), terminal, range, more);
    }
    if (const auto i = indexIn(inputNames, terminal)) {
        const DigitalSetup& d = setup.digital.at(*i);
        return text(
            CRUSCOTTO_TEXT("On when {0}, {1} pull-up{2}."), d.inverted ? std::string("low") : std::string("high"),
            d.pullUp ? std::string("with") : std::string("without"),
            d.filterSeconds > 0
                ? fmt::format("; what is shorter than {} ms is passed over", shortNumber(d.filterSeconds * 1000))
                : std::string());
    }
    if (const auto i = indexIn(counterNames, terminal)) {
        const CounterSetup& c = setup.counter.at(*i);
        return c.quadrature
                   ? text(CRUSCOTTO_TEXT("Counts all four edges of an encoder's lines, up and down, with CTR1."))
                   : text(CRUSCOTTO_TEXT("Counts {0} edges."),
                          c.falling ? std::string("falling") : std::string("rising"));
    }
    return {};
}

}  // namespace cruscotto::simbox
