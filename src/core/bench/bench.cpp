#include "core/bench/bench.h"

#include "core/base/units.h"
#include "core/bench/control_file.h"
#include "core/bench/procedure_file.h"
#include "core/bench/rule_edits.h"
#include "core/chain/stage_kind.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace cruscotto {

Verdict verdictOf(const Limits& limits, double reading) {
    if ((!limits.low && !limits.high) || std::isnan(reading)) return Verdict::none;
    if (limits.low && reading < *limits.low) return Verdict::low;
    if (limits.high && reading > *limits.high) return Verdict::high;
    return Verdict::within;
}

namespace {

template <class T>
const T* findById(const std::vector<std::shared_ptr<const T>>& parts, const std::string& id) {
    for (const auto& part : parts)
        if (part->id == id) return part.get();
    return nullptr;
}

template <class T>
void put(std::vector<std::shared_ptr<const T>>& parts, T part) {
    for (auto& old : parts)
        if (old->id == part.id) {
            if (!(*old == part)) old = std::make_shared<const T>(std::move(part));
            return;
        }
    parts.push_back(std::make_shared<const T>(std::move(part)));
}

template <class T>
void take(std::vector<std::shared_ptr<const T>>& parts, const std::string& id) {
    std::erase_if(parts, [&](const auto& part) { return part->id == id; });
}

template <class T>
bool sameParts(const std::vector<std::shared_ptr<const T>>& a, const std::vector<std::shared_ptr<const T>>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](const auto& x, const auto& y) { return x == y || *x == *y; });
}

void dropFromPages(Bench& bench, const std::string& signal) {
    for (auto& page : bench.pages) {
        PageSpec changed = *page;
        for (TileSpec& tile : changed.tiles) std::erase(tile.signals, signal);
        std::erase_if(changed.tiles, [](const TileSpec& tile) { return tile.signals.empty(); });
        if (!(changed == *page)) page = std::make_shared<const PageSpec>(std::move(changed));
    }
    if (bench.ribbonSignal == signal) bench.ribbonSignal.clear();
}

}  // namespace

const SignalSpec* Bench::signal(const std::string& id) const {
    return findById(signals, id);
}
const DeviceSpec* Bench::device(const std::string& id) const {
    return findById(devices, id);
}
const PageSpec* Bench::page(const std::string& id) const {
    return findById(pages, id);
}
const RuleSpec* Bench::rule(const std::string& id) const {
    return findById(rules, id);
}
const ProcedureSpec* Bench::procedure(const std::string& id) const {
    return findById(procedures, id);
}
const ControlSpec* Bench::control(const std::string& id) const {
    return findById(controls, id);
}

bool sameBench(const Bench& a, const Bench& b) {
    return a.name == b.name && a.notes == b.notes && a.recording == b.recording && a.ribbonSignal == b.ribbonSignal &&
           a.windowSeconds == b.windowSeconds && a.coverage == b.coverage && a.extra == b.extra &&
           a.expected == b.expected && sameParts(a.rules, b.rules) && sameParts(a.controls, b.controls) &&
           sameParts(a.procedures, b.procedures) && sameParts(a.devices, b.devices) &&
           sameParts(a.signals, b.signals) && sameParts(a.pages, b.pages);
}

namespace {
bool sameMeasure(const ExpectedMeasure& a, const ExpectedMeasure& b) {
    return a.signal == b.signal && a.against == b.against && a.measure == b.measure;
}
}  // namespace

const ExpectedMeasure* expectedOf(const Bench& bench, const std::string& signal, const std::string& against,
                                  const std::string& measure) {
    ExpectedMeasure like;
    like.signal = signal;
    like.against = against;
    like.measure = measure;
    const auto it = std::ranges::find_if(bench.expected, [&](const auto& e) { return sameMeasure(e, like); });
    return it == bench.expected.end() ? nullptr : &*it;
}

Bench withExpected(Bench bench, const ExpectedMeasure& expected) {
    const auto it = std::ranges::find_if(bench.expected, [&](const auto& e) { return sameMeasure(e, expected); });
    if (it == bench.expected.end())
        bench.expected.push_back(expected);
    else
        *it = expected;
    return bench;
}

Bench withoutExpected(Bench bench, const ExpectedMeasure& like) {
    std::erase_if(bench.expected, [&](const auto& e) { return sameMeasure(e, like); });
    return bench;
}

Bench withSignal(Bench bench, SignalSpec signal) {
    const std::string id = signal.id;
    put(bench.signals, std::move(signal));
    // What reads in another kind of unit now cannot be held against what it should agree with any more.
    for (auto& s : bench.signals) {
        if (!s->agrees || (s->id != id && s->agrees->with != id) || !bench.signal(s->agrees->with)) continue;
        if (checkAgrees(bench, *s)) continue;
        SignalSpec alone = *s;
        alone.agrees.reset();
        s = std::make_shared<const SignalSpec>(std::move(alone));
    }
    return bench;
}

Bench withoutSignal(Bench bench, const std::string& id) {
    for (const auto& dependent : dependentsOf(bench, id)) {
        SignalSpec next = *dependent;
        for (Stage& stage : next.chain)
            for (const Stage on = stage.switched(true); const WantedSource& wanted : sourcesOf(on)) {
                if (wanted.source->signal != id) continue;
                const auto* first = std::get_if<StageSource>(&stage.kind().fields[wanted.field].first);
                stage =
                    withSource(stage, wanted, first ? *first : StageSource{"", 0, wanted.unit, wanted.source->name});
            }
        if (next.computed && next.computed->clock == id) next.computed->clock.clear();
        bench = withSignal(std::move(bench), std::move(next));
    }
    take(bench.signals, id);
    for (auto& signal : bench.signals) {
        if (!signal->agrees || signal->agrees->with != id) continue;
        SignalSpec alone = *signal;
        alone.agrees.reset();
        signal = std::make_shared<const SignalSpec>(std::move(alone));
    }
    dropFromPages(bench, id);
    std::erase_if(bench.expected, [&](const ExpectedMeasure& e) { return e.signal == id || e.against == id; });
    bench = withoutStepsOf(withoutControlsOf(std::move(bench), id), id);
    return withoutRulesOf(std::move(bench), id);
}

Bench withDevice(Bench bench, DeviceSpec device) {
    put(bench.devices, std::move(device));
    return bench;
}

Bench withoutDevice(Bench bench, const std::string& id) {
    take(bench.devices, id);
    bench = withoutStepsOf(withoutRulesOf(std::move(bench), id), id);
    const auto signals = bench.signals;
    for (const auto& signal : signals)
        if (signal->device == id && !signal->computed) bench = withoutSignal(std::move(bench), signal->id);
    // What was computed from nothing else is of no use any more, nor what was computed from that.
    for (bool again = true; again;) {
        again = false;
        for (const auto& signal : signals) {
            const SignalSpec* now = signal->computed ? bench.signal(signal->id) : nullptr;
            if (!now || !neededSignals(now->chain).empty() || neededSignals(signal->chain).empty()) continue;
            bench = withoutSignal(std::move(bench), signal->id);
            again = true;
        }
    }
    return bench;
}

Bench withPage(Bench bench, PageSpec page) {
    put(bench.pages, std::move(page));
    return bench;
}

Bench withoutPage(Bench bench, const std::string& id) {
    take(bench.pages, id);
    return withoutRulesOf(std::move(bench), id);
}

Bench withTile(Bench bench, const std::string& page, TileSpec tile) {
    const PageSpec* old = bench.page(page);
    if (!old) return bench;
    PageSpec changed = *old;
    const auto it =
        std::find_if(changed.tiles.begin(), changed.tiles.end(), [&](const TileSpec& t) { return t.id == tile.id; });
    if (it != changed.tiles.end())
        *it = std::move(tile);
    else
        changed.tiles.push_back(std::move(tile));
    return withPage(std::move(bench), std::move(changed));
}

Bench withoutTile(Bench bench, const std::string& page, const std::string& tile) {
    const PageSpec* old = bench.page(page);
    if (!old) return bench;
    PageSpec changed = *old;
    std::erase_if(changed.tiles, [&](const TileSpec& t) { return t.id == tile; });
    return withPage(std::move(bench), std::move(changed));
}

std::string freshId(const std::string& name, const std::vector<std::string>& taken) {
    std::string base;
    for (const char c : name) {
        if ((c >= 'a' && c <= 'z') || (c >= '0' && c <= '9'))
            base += c;
        else if (c >= 'A' && c <= 'Z')
            base += static_cast<char>(c - 'A' + 'a');
        else if (!base.empty() && base.back() != '-')
            base += '-';
    }
    while (!base.empty() && base.back() == '-') base.pop_back();
    if (base.empty()) base = "item";
    const std::set<std::string> used(taken.begin(), taken.end());
    std::string id = base;
    for (int n = 2; used.contains(id); ++n) id = base + "-" + std::to_string(n);
    return id;
}

bool showIn(SignalSpec& signal, const std::string& unit) {
    const std::string before = signal.unit();
    const auto in = convertUnit(before, unit);
    if (!in || signal.output || signal.isState()) return false;
    const auto converts = [](const Stage& s) { return stageKey(s) == "convert-unit"; };
    ChainSpec chain = signal.chain;
    if (!chain.empty() && converts(chain.back())) chain.pop_back();
    if (readingUnit(chain, signal.kind) != unit) chain.push_back(Stage::of("convert-unit", {{"unit", unit}}));
    if (!checkChain(chain, signal.kind)) return false;
    signal.chain = std::move(chain);
    const auto convert = [&](double& v) { v = v * in->factor + in->offset; };
    if (signal.limits.low) convert(*signal.limits.low);
    if (signal.limits.high) convert(*signal.limits.high);
    if (signal.scale) convert(signal.scale->low), convert(signal.scale->high);
    if (signal.alarm) signal.alarm->deadband *= std::fabs(in->factor);
    if (signal.agrees) signal.agrees->within *= std::fabs(in->factor);
    return true;
}

bool takeChain(SignalSpec& signal, const SignalSpec& of) {
    if (signal.output || signal.computed || signal.id == of.id || signal.kind != of.kind) return signal.id == of.id;
    ChainSpec chain = of.chain;
    if (signal.range)
        for (Stage& stage : chain) stage = withRange(stage, *signal.range);
    if (!checkChain(chain, signal.kind)) return false;
    signal.chain = std::move(chain);
    return true;
}

std::vector<std::string> neededUnits(const Bench& bench, const SignalSpec& signal) {
    std::vector<std::string> out;
    for (const NeededSignal& needed : neededSignals(signal.chain)) {
        const SignalSpec* other = bench.signal(needed.id);
        out.push_back(other ? other->unit() : needed.unit);
    }
    return out;
}

std::vector<std::shared_ptr<const SignalSpec>> dependentsOf(const Bench& bench, const std::string& id) {
    std::vector<std::shared_ptr<const SignalSpec>> out;
    for (const auto& signal : bench.signals)
        if ((signal->computed && signal->computed->clock == id) ||
            std::ranges::any_of(neededSignals(signal->chain), [&](const NeededSignal& n) { return n.id == id; }))
            out.push_back(signal);
    return out;
}

Result<void> checkAgrees(const Bench& bench, const SignalSpec& signal) {
    if (!signal.agrees) return {};
    const SignalSpec* other = bench.signal(signal.agrees->with);
    if (!other)
        return failure("{0} should agree with the signal \"{1}\", which is not there.", signal.name,
                       signal.agrees->with);
    if (other->id == signal.id) return failure("{0} agrees with itself always. Name another signal.", signal.name);
    if (!convertUnit(other->unit(), signal.unit()))
        return failure("{0} reads in {1} and {2} in {3}: whether they agree cannot be told.", signal.name,
                       unitText(signal.unit()), other->name, unitText(other->unit()));
    return {};
}

Result<void> checkNeeded(const Bench& bench, const SignalSpec& signal) {
    for (const NeededSignal& needed : neededSignals(signal.chain)) {
        const SignalSpec* other = bench.signal(needed.id);
        if (!other) return failure("{0} needs the signal \"{1}\", which is not there.", signal.name, needed.id);
        if (!convertUnit(other->unit(), needed.unit))
            return failure("{0} needs {1} in {2}, and it reads in {3}.", signal.name, other->name,
                           unitText(needed.unit), unitText(other->unit()));
    }
    if (signal.computed && (signal.chain.empty() || signal.chain[0].kind().group != StageGroup::computation))
        return failure("{0} is computed: its chain begins with a computation, such as \"combine\" or \"calculate\".",
                       signal.name);
    if (signal.computed && !signal.computed->clock.empty()) {
        const SignalSpec* clock = bench.signal(signal.computed->clock);
        if (!clock)
            return failure("{0} is worked out on the clock of \"{1}\", which is not there.", signal.name,
                           signal.computed->clock);
        if (isOutput(clock->kind))
            return failure("{0} is worked out on the clock of {1}, and an output has none. Take an input.", signal.name,
                           clock->name);
    }
    // Everything that it needs, and what that needs.
    std::set<std::string> reached;
    std::vector<std::string> open{signal.id};
    for (bool first = true; !open.empty(); first = false) {
        const std::string id = open.back();
        open.pop_back();
        if (!first && id == signal.id)
            return failure("{0} needs itself, by way of what it needs. Take one of these sources away.", signal.name);
        const SignalSpec* at = id == signal.id ? &signal : bench.signal(id);
        if (!at || !reached.insert(id).second) continue;
        for (const NeededSignal& needed : neededSignals(at->chain)) open.push_back(needed.id);
        if (at->computed && !at->computed->clock.empty()) open.push_back(at->computed->clock);
    }
    return {};
}

}  // namespace cruscotto
