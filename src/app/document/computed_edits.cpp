#include "app/document/computed_edits.h"

#include <algorithm>

#include "core/analysis/measures.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

/// What a formula can call it: the tag where there is one.
std::string nameFor(const SignalSpec& s, const StageSources& others) {
    std::string base;
    for (const char c : s.tag.empty() ? s.id : s.tag)
        base += (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ? c : '_';
    if (base.empty() || (base[0] >= '0' && base[0] <= '9')) base = "s" + base;
    std::string out = base;
    for (int n = 2; std::ranges::any_of(others, [&](const StageSource& o) { return o.name == out; }); ++n)
        out = base + "_" + std::to_string(n);
    return out;
}

/// It needs `id`, itself or by way of others.
bool needs(const Bench& bench, const SignalSpec& signal, const std::string& id, int depth = 0) {
    if (signal.id == id) return true;
    if (depth > 50) return true;
    std::vector<std::string> from;
    for (const NeededSignal& n : neededSignals(signal.chain)) from.push_back(n.id);
    if (signal.computed && !signal.computed->clock.empty()) from.push_back(signal.computed->clock);
    return std::ranges::any_of(from, [&](const std::string& other) {
        const SignalSpec* s = bench.signal(other);
        return s && needs(bench, *s, id, depth + 1);
    });
}

}  // namespace

StageSource nextSource(const Bench& bench, const SignalSpec& signal, const StageSources& has) {
    const auto free = [&](const SignalSpec& s) {
        return !needs(bench, s, signal.id) &&
               std::ranges::none_of(has, [&](const StageSource& h) { return h.signal == s.id; });
    };
    const std::string unit = has.empty() ? "1" : has.front().unit;
    const SignalSpec* found = nullptr;
    for (const auto& s : bench.signals)
        if (free(*s) && convertUnit(s->unit(), unit) && !found) found = s.get();
    for (const auto& s : bench.signals)
        if (free(*s) && !isOutput(s->kind) && !found) found = s.get();
    if (!found) return {"", 0, unit, "x" + std::to_string(has.size() + 1)};
    return {found->id, 0, found->unit(), nameFor(*found, has)};
}

Bench withNewComputed(Bench bench, const std::string& first, const std::string& name, std::string* id) {
    SignalSpec s;
    std::vector<std::string> ids;
    int number = 1;
    for (const auto& other : bench.signals) {
        ids.push_back(other->id);
        number += other->computed ? 1 : 0;
    }
    s.name = name + " " + std::to_string(number);
    s.id = *id = freshId(s.name, ids);
    s.tag = "C" + std::to_string(number);
    s.colour = static_cast<int>(bench.signals.size() % 8);
    s.kind = ChannelKind::computed;
    s.computed = ComputedSpec{};
    StageSources of;
    const SignalSpec* one = bench.signal(first);
    if (one && !isOutput(one->kind)) {
        of.push_back({one->id, 0, one->unit(), nameFor(*one, {})});
        s.computed->clock = one->id;
    } else {
        of.push_back(nextSource(bench, s, {}));
    }
    const StageSource second = nextSource(bench, s, of);
    const bool alike = convertUnit(second.unit, of.front().unit).has_value();
    of.push_back(second);
    s.chain = {Stage::of("combine", {{"how", alike ? "difference" : "product"}, {"of", of}})};
    return withSignal(std::move(bench), std::move(s));
}

Stage otherComputation(const Bench& bench, const Stage& now, const StageKind& kind) {
    StageSources has;
    for (const WantedSource& wanted : sourcesOf(now.switched(true))) {
        StageSource source = *wanted.source;
        if (source.unit.empty()) source.unit = wanted.unit;
        const SignalSpec* s = bench.signal(source.signal);
        source.name = s ? nameFor(*s, has) : "x" + std::to_string(has.size() + 1);
        has.push_back(std::move(source));
    }
    Stage out(kind);
    for (std::size_t f = 0; f < kind.fields.size(); ++f) {
        const StageField& field = kind.fields[f];
        if (field.type == StageField::Type::sources && !has.empty()) {
            out = out.with(f, has);
            if (kind.key == "calculate") out = out.with("formula", has.front().name);
        }
        if (field.type != StageField::Type::source) continue;
        const auto fits = std::ranges::find_if(
            has, [&](const StageSource& s) { return !s.signal.empty() && convertUnit(s.unit, field.unit); });
        if (fits == has.end()) continue;
        out = out.with(f, StageSource{fits->signal, 0, "", ""});
        has.erase(fits);
    }
    if (!checkStage(out, "1"))  // such as a sum of what cannot be added
        out = kind.key == "combine" ? out.with("how", "product") : Stage(kind);
    return out;
}

Bench withKeptMeasure(Bench bench, const std::string& signal, const std::string& against, const std::string& measure,
                      double timeSeconds, std::string* id) {
    const SignalSpec* of = bench.signal(signal);
    const SignalSpec* other = bench.signal(against);
    const MeasureKind* kind = measureKind(measure);
    if (!of || !kind) return bench;
    StageSources sources{{of->id, 0, of->unit(), nameFor(*of, {})}};
    if (kind->group == MeasureGroup::ofTwo && other)
        sources.push_back({other->id, 0, other->unit(), nameFor(*other, sources)});
    constexpr double shortest = 0.05, longest = 3600;
    SignalSpec s;
    std::vector<std::string> ids;
    for (const auto& known : bench.signals) ids.push_back(known->id);
    s.name = kind->title.english() + ": " + of->name;
    s.id = *id = freshId(s.name, ids);
    s.tag = "M" + std::to_string(ids.size() + 1);
    s.colour = static_cast<int>(bench.signals.size() % 8);
    s.kind = ChannelKind::computed;
    s.computed = ComputedSpec{};
    s.computed->clock = of->id;
    s.chain = {Stage::of("measure", {{"measure", measure},
                                     {"time-s", std::clamp(timeSeconds, 0.001, longest)},
                                     {"every-s", std::clamp(timeSeconds, shortest, longest)},
                                     {"of", sources}})};
    return withSignal(std::move(bench), std::move(s));
}

}  // namespace cruscotto
