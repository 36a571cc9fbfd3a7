#include <algorithm>
#include <cmath>

#include "core/analysis/steadiness.h"
#include "core/base/units.h"
#include "core/chain/stage.h"
#include "core/chain/stage_kind.h"
#include "devices/device_kind.h"
#include "engine/engine_state.h"
#include "engine/raw_worth.h"

namespace cruscotto {

namespace {

// Slow signals are looked at over more than a second: there would be nothing to see else.
constexpr double leastLooked = 64;

/// NaN where there are none.
double meanOfRaw(const std::vector<double>& raw) {
    double sum = 0;
    for (const double v : raw) sum += v;
    return sum / static_cast<double>(raw.size());
}

}  // namespace

RawWorth rawWorthOf(const SignalSpec& spec, SampleType type) {
    RawWorth worth;
    const bool counts = type != SampleType::float32 && type != SampleType::float64;
    worth.step = counts ? 1 : 0;
    if (spec.chain.empty()) return worth;
    const Stage& first = spec.chain.front();
    if (stageKey(first) != "counts-to-volts" || first.isOff()) return worth;
    const double codes = std::ldexp(1.0, static_cast<int>(first.number("bits")));
    const double low = first.number("low"), high = first.number("high");
    worth.perStep = (high - low) / codes;
    worth.offset = first.text("coding") == "twos-complement" ? (low + high) / 2 : low;
    worth.unit = "V";
    worth.fullScale = codes / 2;
    return worth;
}

BlockPtr Engine::State::withSuspicions(const Group& group, const BlockPtr& block) const {
    const auto suspect = [this](const Bound& b) {
        return (b.watch && b.watch->suspect()) || (probing && probing->signal == b.spec->id);
    };
    if (std::ranges::none_of(group.bound, suspect)) return block;
    auto marked = std::make_shared<Block>(*block);
    marked->quality.resize(marked->columns.size());
    for (const Bound& b : group.bound)
        if (suspect(b)) marked->quality[b.column].push_back({0, block->size(), Quality::suspect});
    return marked;
}

Engine::State::Bound* Engine::State::boundOf(const std::string& signal) {
    for (auto& [key, group] : groups)
        for (Bound& b : group.bound)
            if (b.spec->id == signal) return &b;
    return nullptr;
}

EvidenceRound::Portion Engine::State::toLookAt(Group& group, const Block& block) const {
    if (!options.evidence) return {};
    const Instant end = block.times.empty() ? block.timeOf(block.size()) : block.times.back();
    const Duration lasts =
        group.group->clocked() ? seconds(static_cast<double>(block.size()) / group.group->rateHz) : Duration{};
    return group.round.next(group.bound.size(), end, lasts);
}

void Engine::State::lookForEvidence(Group& group, const Block& block, EvidenceRound::Portion portion) {
    if (block.group->name.starts_with(outputGroup)) return;
    const Instant at = block.times.empty() ? block.timeOf(block.size()) : block.times.back();
    for (std::size_t i = portion.from; i < portion.to; ++i) {
        Bound& b = group.bound[i];
        if (!b.watch) continue;
        if (probing && probing->signal == b.spec->id) {
            goOnProbing(b, at);  // what it does meanwhile says nothing of the signal
            publishEvidence(b, at);
            continue;
        }
        b.watch->beginLook(at);
        lookAt(group, b, block);
        b.watch->endLook();
        publishEvidence(b, at);
    }
}

double Engine::State::rateOf(const Group& group) {
    if (group.group->clocked()) return group.group->rateHz;
    const std::uint64_t n = group.timeline->count(), over = std::min<std::uint64_t>(n, EvidenceWatch::mostSamples);
    if (over < 2) return group.group->rateHz;
    const auto last = group.timeline->timeOf(n - 1), before = group.timeline->timeOf(n - over);
    if (!last || !before || !(*last > *before)) return group.group->rateHz;
    return static_cast<double>(over - 1) / (*last - *before).seconds();
}

void Engine::State::lookAt(Group& group, Bound& bound, const Block& block) {
    const SignalSpec& spec = *bound.spec;
    const double rate = rateOf(group);
    lookAtReading(bound);
    if (spec.agrees) lookAtPair(bound, spec.agrees->with, *spec.agrees, block);
    for (auto [it, end] = agreedBy.equal_range(spec.id); it != end; ++it)
        lookAtPair(bound, it->second->id, *it->second->agrees, block);
    // What a computed signal's inputs are is said of them; what counts goes on by itself.
    const bool contact = isDigital(spec.kind);
    if (spec.computed || (!contact && spec.kind != ChannelKind::analogInput)) return;
    EvidenceWatch::Stretch stretch;
    stretch.rateHz = rate;
    stretch.dense = [&bound, rate](double time, std::vector<double>& out) {
        const double all = std::max(rate * time, leastLooked);
        const auto every = static_cast<std::size_t>(std::ceil(all / static_cast<double>(EvidenceWatch::mostDense)));
        (void)bound.history->newestRaw(static_cast<std::size_t>(all) / every, every, out);
        return rate / static_cast<double>(every);
    };
    if (contact)
        lookAtContact(bound, stretch);
    else
        lookAtAnalog(group, bound, stretch);
}

void Engine::State::lookAtReading(Bound& bound) {
    const SignalSpec& spec = *bound.spec;
    std::vector<double> newest;
    (void)bound.history->newestRaw(1, 1, newest);
    // What counts or adds up goes on by itself.
    const bool stands = spec.kind == ChannelKind::analogInput && !spec.isState() &&
                        std::ranges::none_of(spec.chain, [](const Stage& s) {
                            return s.kind().group == StageGroup::event || stageKey(s) == "integral";
                        });
    bound.watch->reading(stands ? bound.newestReading : std::nan(""), spec.computed ? Quality::good : bound.newestWorst,
                         newest.empty() ? std::nan("") : newest[0], spec.unit());
}

void Engine::State::lookAtContact(Bound& bound, EvidenceWatch::Stretch& stretch) {
    constexpr double fewHz = 100;
    const auto every = std::max<std::size_t>(1, static_cast<std::size_t>(stretch.rateHz / fewHz));
    const double all = EvidenceWatch::contactSeconds * stretch.rateHz / static_cast<double>(every);
    std::vector<double> few;
    stretch.end = bound.history->newestRaw(static_cast<std::size_t>(std::max(all, leastLooked)), every, few);
    stretch.newest = few;
    bound.watch->contact(stretch);
}

void Engine::State::lookAtAnalog(Group& group, Bound& bound, EvidenceWatch::Stretch& stretch) {
    constexpr std::size_t most = EvidenceWatch::mostSamples;
    const double rate = stretch.rateHz;
    std::vector<double> newest, thinned;
    // and a little of what was looked at before: what stands at the seam has neighbours then
    const double each =
        rate > 2 * static_cast<double>(most) ? static_cast<double>(most) / 2 : static_cast<double>(most);
    const auto asMany = static_cast<std::size_t>(std::clamp(rate + 2 * signs::jumpNeighbours, leastLooked, each));
    stretch.end = bound.history->newestRaw(asMany, 1, newest);
    stretch.newest = newest;
    if (std::ranges::any_of(newest, [](double v) { return !std::isfinite(v); })) return;
    // The mains are seen in a few hundred samples a second.
    const auto stride = std::max<std::size_t>(
        1, static_cast<std::size_t>(std::ceil(rate / static_cast<double>(EvidenceWatch::mostThinned))));
    stretch.thinnedHz = rate / static_cast<double>(stride);
    const auto asManyThinned = static_cast<std::size_t>(stretch.thinnedHz);
    if (stride > 1) {
        (void)bound.history->newestRaw(asManyThinned, stride, thinned);
        stretch.thinned = thinned;
    } else {
        stretch.thinned = stretch.newest;
    }
    const Bound* before = nullptr;
    for (const Bound& b : group.bound)
        if (b.spec->kind == ChannelKind::analogInput && b.column < bound.column &&
            (!before || b.column > before->column))
            before = &b;
    std::vector<double> beforeIt;
    if (before) {
        constexpr std::size_t enough = 256;
        (void)before->history->newestRaw(std::min(enough, asMany), 1, beforeIt);
        stretch.before = beforeIt;
        stretch.beforeName = before->spec->name;
    }
    bound.watch->analog(stretch, [&] {
        std::vector<std::pair<std::string, std::vector<double>>> out;
        for (const Bound& b : group.bound) {
            if (&b == &bound || b.spec->kind != ChannelKind::analogInput) continue;
            out.emplace_back(b.spec->name, std::vector<double>());
            (void)b.history->newestRaw(asManyThinned, stride, out.back().second);
        }
        return out;
    });
}

void Engine::State::lookAtPair(Bound& bound, const std::string& with, const AgreesSpec& how, const Block& block) {
    const SignalSpec* other = bench.signal(with);
    if (!other || bound.newestWorst != Quality::good) return;
    const Instant at = block.times.empty() ? block.timeOf(block.size()) : block.times.back();
    const Reading reads = source.at(with, at);
    const auto same = convertUnit(other->unit(), bound.spec->unit());
    // who names the other says how much, in his own unit
    const SignalSpec* namer = bound.spec->agrees && &how == &*bound.spec->agrees ? bound.spec.get() : other;
    const auto allowed = convertUnit(namer->unit(), bound.spec->unit());
    if (!same || !allowed || severity(reads.quality) > severity(Quality::suspect)) return;
    if (!std::isfinite(reads.value) || !std::isfinite(bound.newestReading)) return;
    bound.watch->pair({other->name, bound.newestReading, reads.value * same->factor + same->offset,
                       how.within * allowed->factor, how.forSeconds, bound.spec->unit()});
}

void Engine::State::publishEvidence(Bound& bound, Instant at) {
    const std::vector<Evidence>& now = bound.watch->evidence();
    source.evidence().set(bound.spec->id, at, now);
    if (!recorder) {
        bound.noted.clear();
        return;
    }
    const auto among = [](const std::vector<Evidence>& all, Doubt doubt) {
        return std::ranges::find(all, doubt, &Evidence::doubt) != all.end();
    };
    for (const Evidence& e : now)
        if (!among(bound.noted, e.doubt))
            recorder->note([at, words = evidenceEvent(bound.spec->id, e)](RunWriter& w) {
                w.addEvent(at, evidenceBegins, words);
            });
    for (const Evidence& e : bound.noted)
        if (!among(now, e.doubt))
            recorder->note([at, words = bound.spec->id + ": " + doubtKind(e.doubt).key](RunWriter& w) {
                w.addEvent(at, evidenceEnds, words);
            });
    bound.noted = now;
}

void Engine::State::forgetEvidence(Group& group) {
    for (Bound& b : group.bound) {
        if (!b.watch) continue;
        if (probing && probing->signal == b.spec->id) endProbing();
        b.watch->forget();
        publishEvidence(b, now());
    }
}

void Engine::State::endProbing() {
    if (!probing) return;
    const bool on = !probing->until;
    const SignalSpec* spec = bench.signal(probing->signal);
    if (on && spec) (void)requestWith(*spec, {}, {});
    probing.reset();
}

bool Engine::State::requestWith(const SignalSpec& spec, const std::string& key, const std::string& choice) {
    const Lock lock(devicesMutex);
    const auto device = devices.find(spec.device);
    if (device == devices.end()) return false;
    auto requests = requestsOf(bench, spec.device);
    for (TerminalRequest& r : requests)
        if (r.terminal == spec.terminal && !choice.empty()) r.setup[key] = choice;
    return device->second->request(requests);
}

void Engine::State::goOnProbing(Bound& bound, Instant at) {
    constexpr Duration acts = milliseconds(800), settles = milliseconds(300);
    std::vector<double> raw;
    if (probing->until) {
        if (at >= *probing->until) probing.reset();
    } else if (at - probing->from >= acts) {
        (void)bound.history->newestRaw(EvidenceWatch::mostSamples / 8, 1, raw);
        (void)requestWith(*bound.spec, {}, {});
        bound.watch->probed(at, probing->how.volts, probing->how.ohms, probing->before, meanOfRaw(raw));
        probing->until = at + settles;
    }
}

void Engine::checkConnection(const std::string& signal) {
    state_->post([this, signal] {
        State& s = *state_;
        State::Bound* bound = s.boundOf(signal);
        if (!bound || !bound->watch || bound->spec->kind != ChannelKind::analogInput || s.probing) return;
        const DeviceSpec* device = s.bench.device(bound->spec->device);
        const DeviceKind* kind = device ? s.kindOf(*device) : nullptr;
        if (!kind || !kind->setup) return;
        const auto settings = kind->setup(device->settings, bound->spec->terminal, requestsOf(s.bench, device->id));
        const TerminalSetting* load = probeAmong(settings, bound->spec->setup);
        if (!load) return;
        std::vector<double> raw;
        (void)bound->history->newestRaw(EvidenceWatch::mostSamples, 1, raw);
        if (s.requestWith(*bound->spec, load->key, load->probe->choice))
            s.probing = State::Probing{signal, *load->probe, meanOfRaw(raw), s.now(), {}};
    });
}

void Engine::tell(const std::string& signal, std::optional<double> value, double allowed) {
    state_->post([this, signal, value, allowed] {
        State& s = *state_;
        State::Bound* bound = s.boundOf(signal);
        if (!bound || !bound->watch) return;
        const Instant now = s.now();
        std::vector<double> readings;
        std::vector<Instant> times;
        constexpr std::size_t most = 20'000;
        (void)s.source.stageSeries(signal, bound->spec->chain.size(), {now - EvidenceWatch::every, now}, most, readings,
                                   times);
        if (readings.empty()) {
            const Reading newest = s.source.at(signal, now);
            readings = {newest.value};
            times = {newest.taken};
        }
        const Steadiness steady = steadinessOf(readings, times);
        bound->watch->told(now, value, steady.mean, steady.noise, allowed, bound->spec->unit());
        s.publishEvidence(*bound, now);
    });
}

}  // namespace cruscotto
