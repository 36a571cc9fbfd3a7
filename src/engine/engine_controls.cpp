// Controls at work: readings and time go through them, what they want goes to the outputs' arbiter as a rule's wish.
#include <fmt/format.h>

#include <algorithm>
#include <thread>

#include "core/bench/control_file.h"
#include "engine/engine_state.h"
#include "engine/run_source.h"

namespace cruscotto {

namespace {

/// The readings of a run's stretch, by seconds from its beginning; empty where they cannot be read.
std::vector<std::pair<double, double>> playedOf(const PlayedSpec& played) {
    RunSource run(played.run);
    while (!run.state().done && !run.state().error) std::this_thread::sleep_for(std::chrono::milliseconds(2));
    std::vector<std::pair<double, double>> out;
    if (run.state().error) return out;
    const Instant begin = run.extent().from, from = begin + seconds(played.from), to = begin + seconds(played.to);
    const Reading first = run.at(played.signal, from);
    if (first.quality != Quality::gap && std::isfinite(first.value)) out.emplace_back(0.0, first.value);
    std::vector<Point> points;
    run.points(played.signal, {from, to}, mostPlayedPoints, points);
    for (const Point& p : points)
        if (p.t > from && p.t < to && std::isfinite(p.value) && (out.empty() || p.value != out.back().second))
            out.emplace_back((p.t - from).seconds(), p.value);
    return out;
}

}  // namespace

void Engine::State::keepInStep() {
    inStep =
        options.pace == Pace::asFastAsPossible && (rules.evaluator || !bench.controls.empty() ||
                                                   (procedure ? !procedure->over() : options.procedure.has_value()));
}

void Engine::State::arrangeControls() {
    std::vector<Controlling> before = std::exchange(controls, {});
    if (before.empty() && bench.controls.empty()) return;
    const Instant at = now();
    rulesChanged = true;
    std::map<std::string, std::map<std::size_t, double>> held;  // by controls that go on
    const auto place = [&](RuleWishes& all, RuleWishes& kept, std::size_t was, std::size_t is) {
        for (auto& [output, wishes] : all)
            if (const auto it = wishes.find(controlPlace(was)); it != wishes.end())
                kept[output][controlPlace(is)] = it->second;
    };
    RuleWishes wishes, holds;
    std::set<std::string> kept;
    for (std::size_t i = 0; i < bench.controls.size(); ++i) {
        const auto spec = std::make_shared<const ControlSpec>(controlAsRead(bench, *bench.controls[i]));
        Controlling c;
        const auto was = std::ranges::find_if(before, [&](const Controlling& b) {
            return b.controller && b.controller->spec().id == spec->id && b.controller->spec().output == spec->output;
        });
        if (spec->enabled) {
            const bool reads = spec->kind == ControlKind::play && spec->played.shape == PlayedSpec::Shape::run;
            const bool asBefore = was != before.end() && was->controller->spec().played == spec->played &&
                                  was->controller->spec().kind == spec->kind;
            if (reads && !asBefore && options.pace == Pace::realTime) {
                c.waits = spec;
                c.played = std::async(std::launch::async, playedOf, spec->played);
            } else {
                c.controller = std::make_unique<Controller>(
                    spec, at, reads && !asBefore ? playedOf(spec->played) : std::vector<std::pair<double, double>>{});
            }
            if (c.controller && was != before.end()) {
                c.controller->goOn(*was->controller);
                c.noted = was->noted;
                c.refused = asBefore && was->refused;
                if (const auto own = playing.find(spec->output); own != playing.end() && !asBefore)
                    own->second.clear();  // it plays something else now
                const auto old = static_cast<std::size_t>(was - before.begin());
                place(rules.wishes, wishes, old, i);
                place(rules.holds, holds, old, i);
                kept.insert(spec->id);
            }
            for (const auto& signal : bench.signals) {
                if (!c.controller || !c.controller->looksAt(signal->id)) continue;
                const Reading r = source.at(signal->id, at);
                if (r.quality == Quality::gap || !std::isfinite(r.value)) continue;
                const QualityInterval all{0, 1, r.quality};
                c.controller->feed(
                    signal->id, std::span(&r.value, 1), [&](std::size_t) { return r.taken; },
                    std::span(&all, r.quality == Quality::good ? 0U : 1U));
            }
        }
        controls.push_back(std::move(c));
    }
    for (const auto& [output, control] : playing) rules.outputsToLook.insert(output);  // it may be nobody's now
    for (const Controlling& b : before)
        if (b.controller && !kept.contains(b.controller->spec().id)) {
            rules.latched.erase(b.controller->spec().id);
            alarms.clear(b.controller->spec().id, at);
        }
    for (const auto& [all, now_] : {std::pair{&rules.wishes, &wishes}, std::pair{&rules.holds, &holds}}) {
        for (auto& [output, of] : *all)
            if (std::erase_if(of, [](const auto& wish) { return wish.first >= controlPlace(0); }))
                rules.outputsToLook.insert(output);
        for (auto& [output, of] : *now_) {
            (*all)[output].insert(of.begin(), of.end());
            rules.outputsToLook.insert(output);
        }
    }
    keepInStep();
}

void Engine::State::noteFailed(std::size_t i) {
    const ControlSpec& spec = *bench.controls[i];
    const ControlState& state = controls[i].controller->state();
    controls[i].noted = true;
    const SignalSpec* output = bench.signal(spec.output);
    rules.holds[spec.output][controlPlace(i)] = output && output->output ? output->output->safe : 0;
    rules.latched.insert(spec.id);
    rules.outputsToLook.insert(spec.output);
    alarms.raise(spec.id, 1, spec.name + ": " + state.why.english(), now(), {spec.output, spec.readBack});
    rulesChanged = true;
    if (recorder)
        recorder->note([at = now(), words = spec.name + ": " + state.why.english()](RunWriter& w) {
            w.addEvent(at, "control", words);
        });
}

void Engine::State::driveControls(Instant t) {
    if (controls.empty()) return;
    std::vector<std::size_t> changed;
    for (std::size_t i = 0; i < controls.size(); ++i) {
        Controlling& c = controls[i];
        if (c.waits && c.played.wait_for(std::chrono::seconds(0)) == std::future_status::ready) {
            c.controller = std::make_unique<Controller>(c.waits, t, c.played.get());
            c.waits.reset();
        }
        if (!c.controller) continue;
        const ControlSpec& spec = c.controller->spec();
        const SignalSpec* output = bench.signal(spec.output);
        if (!output || !output->output) continue;
        const auto state = arbiter.state(spec.output);
        const auto wishes = rules.wishes.find(spec.output);
        const bool first =
            wishes != rules.wishes.end() && !wishes->second.empty() && wishes->second.begin()->first == controlPlace(i);
        OutputNow is;
        is.value = state ? state->value : output->output->start;
        is.mine = state && state->holder == OutputHolder::rule && first;
        is.state = isDigital(output->kind);
        is.low = is.state ? 0 : output->output->low;
        is.high = is.state ? 1 : output->output->high;
        is.safe = output->output->safe;
        const auto before = c.controller->state().wants;
        const bool wasOver = c.controller->state().over;
        const Text wasWhy = c.controller->state().why;
        c.controller->advance(t, is);
        const ControlState& now_ = c.controller->state();
        if (now_.failed && !c.noted) noteFailed(i);
        rulesChanged = rulesChanged || now_.over != wasOver || !(now_.why == wasWhy);
        if (now_.wants && (now_.wants != before || !first)) {
            rules.wishes[spec.output][controlPlace(i)] = *now_.wants;
            rules.outputsToLook.insert(spec.output);
            changed.push_back(i);
        }
    }
    settleOutputs();
    for (const std::size_t i : changed) handOver(i, t);
}

bool Engine::State::holdsOutput(std::size_t i) const {
    const std::string& output = bench.controls[i]->output;
    const auto state = arbiter.state(output);
    const auto wishes = rules.wishes.find(output);
    return state && state->holder == OutputHolder::rule && wishes != rules.wishes.end() && !wishes->second.empty() &&
           wishes->second.begin()->first == controlPlace(i);
}

void Engine::State::handOver(std::size_t i, Instant t) {
    Controlling& c = controls[i];
    const SignalSpec* output = bench.signal(bench.controls[i]->output);
    if (c.refused || !output || playing.contains(output->id) || !holdsOutput(i) || options.pace != Pace::realTime)
        return;
    if (!devicesMutex.try_lock()) return;  // at its next value
    const Lock lock(devicesMutex, std::adopt_lock);
    if (!isDriven(*output)) return;
    Running& device = *devices.at(output->device);
    const std::size_t most = device.mostPlayed(output->terminal);
    if (most < 2) return;
    auto list = c.controller->rest(t, most);
    if (!list || list->size() < 2) return;
    for (auto& [value, stays] : *list)
        value = isDigital(output->kind) ? (value > 0.5 ? 1.0 : 0.0)
                                        : std::clamp(value, output->output->low, output->output->high);
    if (device.playByItself(output->terminal, *list)) playing[output->id] = bench.controls[i]->id;
}

bool Engine::State::playsByItself(const SignalSpec& output) {
    const auto it = playing.find(output.id);
    if (it == playing.end()) return false;
    for (std::size_t i = 0; i < controls.size(); ++i)
        if (bench.controls[i]->id == it->second && bench.controls[i]->output == output.id && controls[i].controller &&
            holdsOutput(i) && !controls[i].controller->state().over)
            return true;
    playing.erase(it);
    return false;
}

void Engine::State::endPlaying(const SignalSpec& output) {
    if (!playing.contains(output.id) || playsByItself(output)) return;
    const auto state = arbiter.state(output.id);
    if (state && isDriven(output)) devices.at(output.device)->setOutput(output.terminal, state->value);
}

void Engine::State::listRefused(const std::string& device, const std::string& terminal) {
    for (std::size_t i = 0; i < controls.size(); ++i) {
        const ControlSpec& spec = *bench.controls[i];
        const SignalSpec* output = bench.signal(spec.output);
        const auto it = playing.find(spec.output);
        if (!output || output->device != device || output->terminal != terminal || it == playing.end() ||
            it->second != spec.id)
            continue;
        controls[i].refused = true;
        it->second.clear();  // nobody's
        endPlaying(*output);
        if (recorder)
            recorder->note([at = now(), words = spec.name + ": told value by value"](RunWriter& w) {
                w.addEvent(at, "control", words);
            });
    }
}

std::vector<ControlReport> Engine::State::reportControls() const {
    std::vector<ControlReport> out;
    for (std::size_t i = 0; i < controls.size(); ++i) {
        ControlReport r{bench.controls[i]->id, {}};
        if (controls[i].controller) {
            r.state = controls[i].controller->state();
            const auto state = arbiter.state(bench.controls[i]->output);
            const auto own = playing.find(bench.controls[i]->output);
            r.byDevice = own != playing.end() && own->second == r.id;
            r.holds = state && state->holder == OutputHolder::rule && r.state.wants == state->value;
        }
        out.push_back(std::move(r));
    }
    return out;
}

std::vector<ControlReport> Engine::controlReports() const {
    const Lock lock(state_->mutex);
    return state_->controlReports;
}

}  // namespace cruscotto
