#include "core/procedure/procedure_run.h"

#include <algorithm>
#include <array>
#include <cmath>

#include "core/base/number_text.h"
#include "core/base/units.h"

namespace cruscotto {

namespace {
/// For readings of the end of a stretch to come, when its time is over.
constexpr Duration lateReadings = milliseconds(1000);
constexpr int mostStepsAtOnce = 200;
}  // namespace

const char* stepVerdictName(StepVerdict verdict) {
    constexpr std::array names{"none", "passed", "failed", "undone"};
    return names.at(static_cast<std::size_t>(verdict));
}

ProcedureRun::ProcedureRun(ProcedureSpec spec, ProcedureWorld& world, Instant from)
    : spec_(std::move(spec)), world_(world), plan_(plannedSteps(spec_)) {
    report_.id = spec_.id;
    report_.name = spec_.name;
    report_.state = RunState::running;
    report_.began = from;
    for (const PlannedStep& p : plan_) {
        StepResult r;
        r.number = stepNumber(p.path);
        r.turn = p.turn;
        r.row = p.row;
        r.words = world_.words(*p.step, {p.row.begin(), p.row.end()});
        report_.steps.push_back(std::move(r));
    }
    if (plan_.empty()) conclude({}, from);
}

void ProcedureRun::feed(const std::string& signal, std::span<const double> values, const RuleEvaluator::TimeOf& timeOf,
                        std::span<const QualityInterval> quality) {
    if (until_ && until_->looksAt(signal)) until_->feed(signal, values, timeOf, quality);
}

void ProcedureRun::lose(const std::string& signal, Instant at) {
    if (until_) until_->lose(signal, at);
}

void ProcedureRun::device(const std::string& id, bool away, Instant at) {
    if (until_) until_->device(id, away, at);
}

void ProcedureRun::mark(const std::string& words, Instant at) {
    if (until_) until_->mark(words, at);
}

std::optional<double> ProcedureRun::amount(const Amount& a) const {
    if (a.name.empty()) return a.value;
    const auto it = known_.find(a.name);
    return it == known_.end() || !std::isfinite(it->second) ? std::nullopt : std::optional(it->second);
}

void ProcedureRun::judge(StepValue& v, const std::optional<Amount>& low, const std::optional<Amount>& high) const {
    if (!low && !high) return;
    v.verdict = StepVerdict::failed;
    for (const auto& [limit, known] : {std::pair{&low, &v.low}, std::pair{&high, &v.high}})
        if (*limit) {
            *known = amount(**limit);
            if (!*known) v.why = text(CRUSCOTTO_TEXT("Its limit {0} is not known."), (*limit)->name);
        }
    if (!v.why.empty() || !std::isfinite(v.value)) return;
    const std::string unit = unitText(v.unit);
    const auto said = [&](double x) { return shortNumber(x) + (unit.empty() ? "" : " " + unit); };
    if (v.low && v.value < *v.low)
        v.why = text(CRUSCOTTO_TEXT("{0} is below {1}."), said(v.value), said(*v.low));
    else if (v.high && v.value > *v.high)
        v.why = text(CRUSCOTTO_TEXT("{0} is above {1}."), said(v.value), said(*v.high));
    else
        v.verdict = StepVerdict::passed;
}

void ProcedureRun::begin(Instant now) {
    begun_ = true;
    stepBegan_ = now;
    ++revision_;
    const ProcedureStep& s = now_();
    for (const auto& [name, value] : plan_[report_.at].row) known_[name] = value;
    StepResult& r = result();
    if (!r.began) r.began = now;
    r.words = world_.words(s, known_);
    if (s.kind == StepKind::wait) {
        auto rule = std::make_shared<RuleSpec>();
        rule->id = spec_.id;
        rule->when = s.until;
        untilRule_ = std::move(rule);
        until_.emplace(std::vector{untilRule_}, now);
        world_.seed(*until_, now);
    }
    if (s.kind != StepKind::ask) return;
    report_.state = RunState::asking;
    if (const auto known = world_.answer(s, r.number))
        if (const auto taken = answer(*known, now); !taken) {
            report_.state = RunState::running;
            done(StepVerdict::failed, now, taken.error().message);
        }
}

bool ProcedureRun::waited(Instant now) {
    until_->advance(now);
    for (const RuleFiring& firing : until_->take())
        if (firing.holds) {
            done(StepVerdict::passed, now);
            return true;
        }
    if (now_().seconds > 0 && now - stepBegan_ >= seconds(now_().seconds)) {
        done(StepVerdict::failed, now,
             text(CRUSCOTTO_TEXT("It did not come to that within {0} s."), shortNumber(now_().seconds)));
        return true;
    }
    return false;
}

bool ProcedureRun::measuredOver(Instant now) {
    const ProcedureStep& s = now_();
    if (s.seconds > 0) {
        stretch_ = Span{stepBegan_, stepBegan_ + seconds(s.seconds)};
        if (now < stretch_->to) return false;
    }
    if (!stretch_) {
        done(StepVerdict::failed, now, CRUSCOTTO_TEXT("There is no time to measure over: nothing was held before."));
        return true;
    }
    if (now < stretch_->to + lateReadings)
        for (const ProcedureMeasure& m : s.take)
            for (const std::string& signal : {m.signal, m.against})
                if (!signal.empty())
                    if (const auto to = world_.readTo(signal); !to || *to < stretch_->to) return false;
    const auto measures = world_.measured(s.take, *stretch_);
    if (!measures) return false;
    StepVerdict verdict = StepVerdict::none;
    Text why;
    StepResult& r = result();
    r.values.clear();
    for (std::size_t i = 0; i < s.take.size(); ++i) {
        const ProcedureMeasure& m = s.take[i];
        const Measure& got = measures->at(i);
        StepValue v;
        v.name = world_.measureWords(m);
        v.signal = m.signal;
        v.value = got.value;
        v.unit = got.unit;
        v.u = got.u;
        v.why = got.whyNot;
        v.note = got.note;
        if (got.whyNot.empty() && !m.unit.empty() && m.unit != got.unit) {
            if (const auto in = convertUnit(got.unit, m.unit)) {
                v.value = v.value * in->factor + in->offset;
                if (v.u >= 0) v.u *= std::fabs(in->factor);
                v.unit = m.unit;
            } else {
                v.why = text(CRUSCOTTO_TEXT("It is in {0}, which is no unit of the same kind as {1}."),
                             unitText(got.unit), unitText(m.unit));
            }
        }
        if (!v.why.empty()) v.value = std::nan("");
        if (!m.name.empty()) known_[m.name] = v.value;
        judge(v, m.low, m.high);
        if (v.verdict == StepVerdict::failed || (verdict == StepVerdict::none && v.verdict == StepVerdict::passed)) {
            if (v.verdict == StepVerdict::failed && why.empty())
                why = text(CRUSCOTTO_TEXT("{0}: {1}"), v.name, v.why.english());
            verdict = v.verdict;
        }
        r.values.push_back(std::move(v));
    }
    done(verdict, now, std::move(why));
    return true;
}

bool ProcedureRun::step(Instant now) {
    const ProcedureStep& s = now_();
    switch (s.kind) {
        case StepKind::set: {
            const auto value = amount(s.amount);
            const Text why =
                value ? world_.set(s.on, *value, s.seconds) : text(CRUSCOTTO_TEXT("{0} is not known."), s.amount.name);
            done(why.empty() ? StepVerdict::passed : StepVerdict::failed, now, why);
            return true;
        }
        case StepKind::wait:
            return waited(now);
        case StepKind::hold:
            stretch_ = Span{stepBegan_, stepBegan_ + seconds(s.seconds)};
            if (now < stretch_->to) return false;
            done(StepVerdict::passed, now);
            return true;
        case StepKind::measure:
            return measuredOver(now);
        case StepKind::mark:
            world_.mark(s.words, now);
            done(StepVerdict::passed, now);
            return true;
        case StepKind::command:
            world_.command(s.on, s.key, s.words);
            done(StepVerdict::passed, now);
            return true;
        default:
            return false;  // a question waits for its answer
    }
}

void ProcedureRun::done(StepVerdict verdict, Instant now, Text why) {
    StepResult& r = result();
    r.verdict = verdict;
    r.ended = now;
    r.why = std::move(why);
    until_.reset();
    begun_ = false;
    ++revision_;
    world_.note(r, now);
    const bool ends = verdict == StepVerdict::failed && now_().endsIfFailed;
    if (!ends) ++report_.at;
    if (ends || report_.at == plan_.size()) conclude({}, now);
}

void ProcedureRun::conclude(Text why, Instant now) {
    until_.reset();
    report_.at = std::min(report_.at, report_.steps.empty() ? 0 : report_.steps.size() - 1);
    report_.state = RunState::ended;
    report_.ended = now;
    const auto any = [&](StepVerdict v) {
        return std::ranges::any_of(report_.steps, [&](const StepResult& r) { return r.verdict == v; });
    };
    report_.verdict = any(StepVerdict::failed)                   ? StepVerdict::failed
                      : !why.empty() || any(StepVerdict::undone) ? StepVerdict::undone
                                                                 : StepVerdict::passed;
    report_.why = std::move(why);
    ++revision_;
}

void ProcedureRun::advance(Instant now) {
    for (int i = 0; i < mostStepsAtOnce && report_.state == RunState::running; ++i) {
        if (const Text why = world_.taken(); !why.empty()) {
            if (!begun_) begin(now);
            result().verdict = StepVerdict::failed;
            result().ended = now;
            result().why = why;
            world_.note(result(), now);
            conclude(why, now);
            return;
        }
        if (!begun_) begin(now);
        if (!begun_) continue;  // a question that was answered at once
        if (report_.state != RunState::running || !step(now)) return;
    }
}

std::optional<Instant> ProcedureRun::nextDeadline() const {
    if (report_.state != RunState::running) return std::nullopt;
    if (!begun_) return report_.began;
    const ProcedureStep& s = now_();
    if (s.kind == StepKind::wait) {
        auto out = until_->nextDeadline();
        if (s.seconds > 0)
            if (const Instant most = stepBegan_ + seconds(s.seconds); !out || most < *out) out = most;
        return out;
    }
    if (s.kind == StepKind::hold) return stepBegan_ + seconds(s.seconds);
    // Behind its end readings are waited for, and the measures of them.
    constexpr Duration look = milliseconds(5);
    if (s.kind == StepKind::measure) return stepBegan_ + seconds(s.seconds) + look;
    return std::nullopt;
}

Result<void> ProcedureRun::answer(const std::string& words, Instant now) {
    if (report_.state != RunState::asking) return failure("Nothing is asked now.");
    const ProcedureStep& s = now_();
    StepVerdict verdict = StepVerdict::passed;
    Text why;
    if (s.answer == ProcedureStep::Answer::number) {
        StepValue v;
        v.name = s.name.empty() ? std::string("answer") : s.name;
        v.unit = s.unit;
        if (!parseNumber(words, v.value) || !std::isfinite(v.value))
            return failure("\"{0}\" is no number. A number is asked for.", words);
        if (!s.name.empty()) known_[s.name] = v.value;
        judge(v, s.low, s.high);
        if (v.verdict == StepVerdict::failed) verdict = v.verdict, why = v.why;
        result().values = {v};
    } else if (s.answer == ProcedureStep::Answer::yesNo) {
        if (words != "yes" && words != "no") return failure("The answer is yes or no, not \"{0}\".", words);
        if (words == "no") verdict = StepVerdict::failed, why = CRUSCOTTO_TEXT("The answer was no.");
    }
    report_.state = RunState::running;
    done(verdict, now, std::move(why));
    return {};
}

void ProcedureRun::pause(bool paused, Instant now) {
    if (paused && report_.state == RunState::running) {
        report_.state = RunState::paused;
        ++revision_;
    } else if (!paused && report_.state == RunState::paused) {
        report_.state = RunState::running;
        if (begun_) begin(now);
        ++revision_;
    }
}

void ProcedureRun::end(Text why, Instant now) {
    if (over()) return;
    if (begun_) {
        result().ended = now;
        result().why = why;
        world_.note(result(), now);
    }
    conclude(std::move(why), now);
}

ProcedureReport ProcedureRun::report(Instant now) const {
    ProcedureReport out = report_;
    if (out.state == RunState::running && begun_ && now_().seconds > 0)
        out.remains = std::max(Duration{0}, stepBegan_ + seconds(now_().seconds) - now);
    return out;
}

}  // namespace cruscotto
