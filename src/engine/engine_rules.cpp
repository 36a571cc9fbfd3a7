// Rules at work: readings and time go through their evaluator, what they want goes to the outputs' arbiter.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "core/base/log.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_words.h"
#include "core/bench/seen_readings.h"
#include "core/bench/tile_settings.h"
#include "core/rules/rehearsal.h"
#include "engine/engine_state.h"

namespace cruscotto {

namespace {
constexpr Duration rampStep = milliseconds(5);
}  // namespace

void Engine::State::arrangeRules() {
    std::vector<std::shared_ptr<const RuleSpec>> asRead;
    for (const auto& rule : bench.rules) asRead.push_back(std::make_shared<const RuleSpec>(ruleAsRead(bench, *rule)));
    for (RuleSpec& rule : alarmRules(bench)) asRead.push_back(std::make_shared<const RuleSpec>(std::move(rule)));
    std::vector<std::string> suppresses;
    for (std::size_t i = 0, all = asRead.size(); i < all; ++i)
        if (const RuleSpec rule = *asRead[i]; rule.suppress && rule.enabled) {
            RuleSpec made;
            made.id = "suppresses " + rule.id;
            made.when = *rule.suppress;
            asRead.push_back(std::make_shared<const RuleSpec>(std::move(made)));
            suppresses.push_back(rule.id);
        }
    const bool same = rules.evaluator && std::ranges::equal(asRead, rules.evaluator->rules(),
                                                            [](const auto& a, const auto& b) { return *a == *b; });
    if (same || (asRead.empty() && !rules.evaluator)) return;
    // A rule that is as it was goes on as it stands, with what it wants; what the others wanted goes.
    std::map<std::size_t, std::size_t> nowAt;  // by its place before
    if (rules.evaluator)
        for (std::size_t was = 0; was < rules.evaluator->rules().size(); ++was)
            for (std::size_t is = 0; is < asRead.size(); ++is)
                if (*rules.evaluator->rules()[was] == *asRead[is]) nowAt[was] = is;
    for (RuleWishes* all : {&rules.wishes, &rules.holds})
        for (auto& [output, wishes] : *all) {
            rules.outputsToLook.insert(output);
            std::map<std::size_t, double> kept;
            for (const auto& [was, value] : wishes)
                if (was >= controlPlace(0))
                    kept[was] = value;
                else if (const auto is = nowAt.find(was); is != nowAt.end())
                    kept[is->second] = value;
            wishes = std::move(kept);
        }
    std::erase_if(rules.ramps, [&](const Ramp& ramp) { return !ramp.ofProcedure && !nowAt.contains(ramp.rule); });
    for (Ramp& ramp : rules.ramps)
        if (!ramp.ofProcedure) ramp.rule = nowAt.at(ramp.rule);
    std::erase_if(rules.pending, [&](const RuleFiring& firing) { return !nowAt.contains(firing.rule); });
    for (RuleFiring& firing : rules.pending) firing.rule = nowAt.at(firing.rule);
    std::vector<std::string> done(asRead.size());
    for (const auto& [was, is] : nowAt) done[is] = rules.done[was];
    const Instant at = now();
    const auto before = std::exchange(rules.evaluator, std::nullopt);
    // An interlock that holds is not let go of because it is edited: it holds on, unless the new one finds no reason.
    std::vector<std::size_t> heldOn;
    const auto holds = [](const Action& a) { return a.kind == ActionKind::hold; };
    if (before)
        for (std::size_t was = 0; was < before->rules().size(); ++was) {
            if (nowAt.contains(was)) continue;
            const RuleSpec& old = *before->rules()[was];
            const auto is = std::ranges::find_if(asRead, [&](const auto& r) {
                return r->id == old.id && r->enabled && std::ranges::any_of(r->then, holds);
            });
            if (before->state(was).holds && std::ranges::any_of(old.then, holds) && is != asRead.end())
                heldOn.push_back(static_cast<std::size_t>(is - asRead.begin()));
            else
                alarms.clear(old.id, at);
        }
    std::erase_if(rules.latched, [&](const std::string& id) {
        return !bench.control(id) &&
               std::ranges::none_of(asRead, [&](const auto& rule) { return rule->id == id && rule->enabled; });
    });
    rules.done = std::move(done);
    for (const std::string& id : rules.suppresses)
        if (std::ranges::find(suppresses, id) == suppresses.end()) alarms.suppress(id, false, at);
    rules.suppresses = std::move(suppresses);
    rules.own = asRead.size() - rules.suppresses.size();
    rulesChanged = true;
    keepInStep();
    if (asRead.empty()) return;
    rules.evaluator.emplace(asRead, at, source.anchor());
    for (const std::size_t i : heldOn) {
        rules.evaluator->takeOver(i);
        for (const Action& a : asRead[i]->then)
            if (holds(a)) {
                rules.holds[a.on][i] = a.value;
                rules.outputsToLook.insert(a.on);
            }
    }
    seed(*rules.evaluator, at);
    rules.evaluator->settle(at);
    if (before) rules.evaluator->goOn(*before, nowAt);
    for (std::size_t i = 0; i < asRead.size(); ++i)
        if (rules.latched.contains(asRead[i]->id))
            for (const Action& a : asRead[i]->then)
                if (a.kind == ActionKind::hold && a.latched) rules.holds[a.on][i] = a.value;
    // Before any output is looked at: one that is held on must not be let go for a moment.
    for (const RuleFiring& firing : rules.evaluator->take()) fire(firing);
}

void Engine::State::seed(RuleEvaluator& evaluator, Instant at) {
    for (const auto& signal : bench.signals) {
        if (!evaluator.looksAt(signal->id)) continue;
        const Reading r = source.at(signal->id, at);
        if (r.quality == Quality::gap || !std::isfinite(r.value)) continue;
        evaluator.begin(signal->id, r.value, at, r.quality);
    }
    {
        const Lock lock(mutex);
        for (const auto& [device, status] : statuses) evaluator.device(device, !reachable(status.state), at);
    }
}

void Engine::State::loseInRules(const std::string& signal) {
    const Instant at = now();
    if (rules.evaluator) rules.evaluator->lose(signal, at);
    if (procedure) procedure->lose(signal, at);
    for (const Controlling& c : controls)
        if (c.controller) c.controller->lose(signal, at);
}

bool Engine::State::reachable(LinkState state) {
    return state == LinkState::live || state == LinkState::starting;
}

void Engine::State::feedRules(const SignalSpec& spec, const Block& block) {
    const auto timeOf = [&](std::size_t i) { return block.timeOf(i); };
    if (rules.evaluator && rules.evaluator->looksAt(spec.id))
        rules.evaluator->feed(spec.id, readings.values, timeOf, readings.quality);
    if (procedure) procedure->feed(spec.id, readings.values, timeOf, readings.quality);
    for (const Controlling& c : controls)
        if (c.controller && c.controller->looksAt(spec.id))
            c.controller->feed(spec.id, readings.values, timeOf, readings.quality);
}

std::string Engine::State::readingsOf(const RuleSpec& rule) const {
    std::string out;
    for (const std::string& id : signalsOf(rule)) {
        const SignalSpec* s = bench.signal(id);
        if (!s) continue;
        const double v = source.at(id, now()).value;
        const std::string unit = unitText(s->unit());
        out += (out.empty() ? "" : ", ") + s->name + " " +
               (s->isState() ? (v > 0.5 ? "on" : "off") : shortNumber(v) + (unit.empty() ? "" : " " + unit));
    }
    return out;
}

void Engine::State::fireRules() {
    if (!rules.evaluator) return;
    // Rules that set each other off again and again leave the rest of the engine its time.
    constexpr int mostAtOnce = 200;
    for (int i = 0; i < mostAtOnce; ++i) {
        for (RuleFiring& firing : rules.evaluator->take()) rules.pending.push_back(firing);
        if (rules.pending.empty()) return;
        const RuleFiring firing = rules.pending.front();
        rules.pending.pop_front();
        fire(firing);
        settleOutputs();
    }
}

void Engine::State::fire(const RuleFiring& firing) {
    const RuleSpec& rule = *rules.evaluator->rules()[firing.rule];
    rulesChanged = true;
    if (firing.rule >= rules.own)
        return alarms.suppress(rules.suppresses.at(firing.rule - rules.own), firing.holds, firing.at);
    const auto& actions = firing.holds ? rule.then : rule.otherwise;
    if (!firing.holds) {
        endRule(firing.rule, rule);
        settleOutputs();
    }
    std::string did;
    for (const Action& a : actions) {
        did += (did.empty() ? "" : ", ") + actionWords(bench, a);
        actOn(firing, rule, a);
    }
    rules.done[firing.rule] = did;
    const std::string with = readingsOf(rule);
    const std::string words = rule.name + (firing.holds ? " holds" : " no longer holds") +
                              (with.empty() ? "" : " (" + with + ")") + (did.empty() ? "" : ": " + did);
    if (recorder) recorder->note([at = firing.at, words](RunWriter& w) { w.addEvent(at, "rule", words); });
}

/// What it had set goes back; a latched interlock stays.
void Engine::State::endRule(std::size_t i, const RuleSpec& rule) {
    for (auto& [output, wishes] : rules.wishes)
        if (wishes.erase(i)) rules.outputsToLook.insert(output);
    for (auto& [output, holds] : rules.holds)
        if (!rules.latched.contains(rule.id) && holds.erase(i)) rules.outputsToLook.insert(output);
    std::erase_if(rules.ramps, [&](const Ramp& ramp) { return !ramp.ofProcedure && ramp.rule == i; });
    alarms.clear(rule.id, now());
}

void Engine::State::actOn(const RuleFiring& firing, const RuleSpec& rule, const Action& a) {
    const SignalSpec* s = isOfOutput(a.kind) ? bench.signal(a.on) : nullptr;
    const auto ofRules = [](const auto& wish) { return wish.first < controlPlace(0); };
    const auto stands = [&] {
        const auto state = arbiter.state(a.on);
        return state ? state->value : s && s->output ? s->output->start : 0;
    };
    const auto wish = [&](double v) {
        std::erase_if(rules.ramps, [&](const Ramp& ramp) {
            return !ramp.ofProcedure && ramp.output == a.on && ramp.rule >= firing.rule;
        });
        // Of a momentary rule the newest word counts.
        if (firing.momentary) std::erase_if(rules.wishes[a.on], ofRules);
        rules.wishes[a.on][firing.rule] = v;
        rules.outputsToLook.insert(a.on);
    };
    switch (a.kind) {
        case ActionKind::set:
            wish(a.value);
            break;
        case ActionKind::step:
            wish(stands() + a.value);
            break;
        case ActionKind::toggle:
            wish(stands() > 0.5 ? 0 : 1);
            break;
        case ActionKind::ramp: {
            const double from = stands();
            wish(from);
            rules.ramps.push_back({firing.rule, a.on, from, a.value, now(), a.seconds});
            break;
        }
        case ActionKind::release:
            std::erase_if(rules.wishes[a.on], ofRules);
            std::erase_if(rules.ramps, [&](const Ramp& ramp) { return !ramp.ofProcedure && ramp.output == a.on; });
            rules.outputsToLook.insert(a.on);
            break;
        case ActionKind::hold:
            rules.holds[a.on][firing.rule] = a.value;
            if (a.latched) rules.latched.insert(rule.id);
            rules.outputsToLook.insert(a.on);
            break;
        case ActionKind::alarm:
            alarms.raise(rule.id, a.priority,
                         filledWords(a.words, [&](const std::string& id) { return readingText(id); }), firing.at,
                         signalsOf(rule));
            if (firing.momentary) alarms.clear(rule.id, firing.at);
            break;
        case ActionKind::mark: {
            const std::string words = filledWords(a.words, [&](const std::string& id) { return readingText(id); });
            {
                const Lock lock(mutex);
                marks.push_back({firing.at, words});
            }
            if (recorder) recorder->note([at = firing.at, words](RunWriter& w) { w.addMark(at, words); });
            rules.evaluator->mark(words, firing.at, &firing);
            break;
        }
        case ActionKind::command:
            post([this, a] {
                const Lock lock(devicesMutex);
                const auto to = devices.find(a.on);
                if (to != devices.end() && !outputsEnded && !rests(to->second->spec))
                    to->second->with([a](Device& d) { d.setParameter(a.key, a.words); });
            });
            break;
        default: {
            const Lock lock(mutex);
            constexpr std::size_t mostRequests = 100;
            if (ruleRequests.size() >= mostRequests) break;
            ruleRequests.push_back({rule.id, a, firing.at});
            requestsAwaited = options.requestsAwaited && inStep;
        }
    }
}

std::string Engine::State::readingText(const std::string& signal) const {
    const SignalSpec* s = bench.signal(signal);
    if (!s) return "{" + signal + "}";
    const double v = source.at(signal, now()).value;
    if (s->isState()) {
        const std::string& own = v > 0.5 ? s->onWord : s->offWord;
        return !own.empty() ? own : v > 0.5 ? "on" : "off";
    }
    const std::string unit = unitText(s->unit());
    const auto scale = expectedScale(*s);
    return (scale ? cruscotto::readingText(v, decimalsFor(scale->low, scale->high)) : threeDigits(v)) +
           (unit.empty() ? "" : " " + unit);
}

void Engine::State::askAs(const SignalSpec& spec, OutputHolder holder, const RuleWishes& all) {
    const auto it = all.find(spec.id);
    if (it == all.end() || it->second.empty()) {
        if (arbiter.asks(spec.id, holder)) send(spec, arbiter.release(spec.id, holder));
        return;
    }
    const auto& first = *it->second.begin();
    const double v = isDigital(spec.kind) ? (first.second > 0.5 ? 1.0 : 0.0)
                                          : std::clamp(first.second, spec.output->low, spec.output->high);
    const auto now_ = arbiter.state(spec.id);
    if (arbiter.asks(spec.id, holder) && now_ && now_->holder == holder && now_->value == v) return;
    ask(spec, holder, v, Text(wisher(holder, first.first)));
}

std::string Engine::State::wisher(OutputHolder holder, std::size_t place) const {
    if (holder == OutputHolder::procedure) return procedure ? procedure->report(now()).name : std::string();
    if (place >= controlPlace(0)) {
        const std::size_t i = place - controlPlace(0);
        return i < bench.controls.size() ? bench.controls[i]->name : std::string();
    }
    return rules.evaluator ? rules.evaluator->rules()[place]->name : std::string();
}

void Engine::State::askRules(const SignalSpec& spec) {
    askAs(spec, OutputHolder::interlock, rules.holds);
    askAs(spec, OutputHolder::procedure, procedureWishes);
    askAs(spec, OutputHolder::rule, rules.wishes);
    endPlaying(spec);
}

void Engine::State::driveRules() {
    fireRules();
    for (Ramp& ramp : rules.ramps) {
        const double part = std::clamp((now() - ramp.began).seconds() / ramp.seconds, 0.0, 1.0);
        const double v = ramp.from + part * (ramp.to - ramp.from);
        RuleWishes& all = ramp.ofProcedure ? procedureWishes : rules.wishes;
        if (const auto wishes = all.find(ramp.output); wishes != all.end())
            if (const auto own = wishes->second.find(ramp.rule); own != wishes->second.end() && own->second != v) {
                own->second = v;
                rules.outputsToLook.insert(ramp.output);
            }
        ramp.over = part >= 1;
    }
    std::erase_if(rules.ramps, [](const Ramp& ramp) { return ramp.over; });
    settleOutputs();
}

void Engine::State::settleOutputs() {
    if (rules.outputsToLook.empty()) return;
    // Whoever starts or stops devices is not waited for: this is done at the next occasion, a few milliseconds on.
    if (!devicesMutex.try_lock()) return;
    const Lock lock(devicesMutex, std::adopt_lock);
    const auto wanted = std::exchange(rules.outputsToLook, {});  // setting one is a sample too, and may fire rules
    for (const std::string& output : wanted)
        if (const SignalSpec* spec = bench.signal(output); spec && spec->output) askRules(*spec);
}

std::optional<Duration> Engine::State::untilRules() const {
    if (options.pace == Pace::asFastAsPossible) return std::nullopt;
    if (!rules.outputsToLook.empty() || !rules.pending.empty()) return milliseconds(1);
    std::optional<Duration> out;
    if (!rules.ramps.empty()) out = rampStep;
    const auto until = [&](std::optional<Instant> at, Duration least = {}) {
        if (!at) return;
        const Duration left{std::max(least.ns, (*at - now()).ns)};
        if (!out || left < *out) out = left;
    };
    if (rules.evaluator) until(rules.evaluator->nextDeadline());
    for (const Controlling& c : controls) {
        if (c.controller) until(c.controller->nextDeadline());
        if (c.waits) until(now() + milliseconds(20));
    }
    if (procedure && !procedure->over()) until(procedure->nextDeadline(), milliseconds(1));
    return out;
}

void Engine::State::passRules(Instant t) {
    if (rules.evaluator) rules.evaluator->advance(t);
    driveRules();
    driveControls(t);
    driveProcedure(t);
    publishRules(t);
    publishProcedure(t);
}

void Engine::State::publishRules(Instant t) {
    constexpr Duration often = milliseconds(100);
    if (!rules.evaluator && controls.empty() && ruleReportsMade == 0) return;
    noteAlarms();
    if (!rulesChanged && t - rulesPublished < often && t >= rulesPublished) return;
    rulesChanged = false;
    rulesPublished = t;
    std::vector<RuleReport> made;
    if (rules.evaluator)
        for (std::size_t i = 0; i < rules.own; ++i) {
            const RuleSpec& rule = *rules.evaluator->rules()[i];
            made.push_back({rule.id, rules.evaluator->state(i), rules.done[i], rules.latched.contains(rule.id)});
        }
    std::vector<ControlReport> followed = reportControls();
    ruleReportsMade = made.size() + followed.size();
    const Lock lock(mutex);
    ruleReports = std::move(made);
    controlReports = std::move(followed);
    alarmsNow = alarms.list(t);
}

void Engine::State::noteAlarms() {
    std::vector<AlarmEvent> events = alarms.takeEvents();
    if (events.empty()) return;
    rulesChanged = true;
    if (recorder)
        for (const AlarmEvent& e : events)
            recorder->note([at = e.at, words = alarmEventText(e)](RunWriter& w) { w.addEvent(at, "alarm", words); });
    const Lock lock(mutex);
    journaled += events.size();
    for (AlarmEvent& e : events) alarmJournal.push_back(std::move(e));
    while (alarmJournal.size() > mostJournal) alarmJournal.pop_front();
}

std::vector<AlarmEvent> Engine::alarmJournal() const {
    const Lock lock(state_->mutex);
    return {state_->alarmJournal.begin(), state_->alarmJournal.end()};
}

std::uint64_t Engine::alarmsJournaled() const {
    const Lock lock(state_->mutex);
    return state_->journaled;
}

std::vector<RuleReport> Engine::ruleReports() const {
    const Lock lock(state_->mutex);
    return state_->ruleReports;
}

std::vector<RuleRequest> Engine::takeRuleRequests() {
    const Lock lock(state_->mutex);
    return std::exchange(state_->ruleRequests, {});
}

void Engine::requestsObeyed() {
    state_->post([s = state_.get()] {
        const Lock lock(s->mutex);
        s->requestsAwaited = s->requestsAwaited && !s->ruleRequests.empty();
    });
}

std::vector<Alarm> Engine::alarms() const {
    const Lock lock(state_->mutex);
    return state_->alarmsNow;
}

void Engine::acknowledgeAlarm(const std::string& rule, const std::string& person, const std::string& comment) {
    state_->post([this, rule, person, comment] {
        State& s = *state_;
        const Instant at = s.now();
        if (s.alarms.acknowledge(rule, person, comment, at)) s.rulesChanged = true;
    });
}

void Engine::shelveAlarm(const std::string& rule, Duration forTime, const std::string& person,
                         const std::string& comment) {
    state_->post([this, rule, forTime, person, comment] {
        const Instant at = state_->now();
        state_->alarms.shelve(rule, at + forTime, person, comment, at);
        state_->rulesChanged = true;
    });
}

bool Engine::resetRule(const std::string& id) {
    bool done = false;
    state_->call([&] {
        State& s = *state_;
        const auto latch = s.rules.latched.find(id);
        if (latch == s.rules.latched.end()) return;
        for (std::size_t i = 0; i < s.controls.size(); ++i)
            if (s.bench.controls[i]->id == id && s.controls[i].controller) {
                for (auto& [output, holds] : s.rules.holds)
                    if (holds.erase(State::controlPlace(i))) s.rules.outputsToLook.insert(output);
                s.controls[i].controller->reset(s.now());
                s.controls[i].noted = false;
                s.alarms.clear(id, s.now());
            }
        for (std::size_t i = 0; s.rules.evaluator && i < s.rules.evaluator->rules().size(); ++i) {
            if (s.rules.evaluator->rules()[i]->id != id) continue;
            if (s.rules.evaluator->state(i).holds) return;  // what it guards against is still there
            for (auto& [output, holds] : s.rules.holds)
                if (holds.erase(i)) s.rules.outputsToLook.insert(output);
        }
        s.rules.latched.erase(latch);
        s.rulesChanged = done = true;
        if (s.recorder)
            s.recorder->note([at = s.now(), id](RunWriter& w) { w.addEvent(at, "rule", id + " was reset by hand"); });
        s.driveRules();
    });
    return done;
}

bool Engine::releaseOutput(const std::string& signal) {
    bool found = false;
    state_->call([&] {
        State& s = *state_;
        const SignalSpec* spec = s.bench.signal(signal);
        if (!spec || !spec->output) return;
        const Lock lock(s.devicesMutex);
        found = s.arbiter.asks(signal, OutputHolder::hand);
        if (found) s.send(*spec, s.arbiter.release(signal, OutputHolder::hand));
    });
    return found;
}

}  // namespace cruscotto
