#include "core/rules/rule_evaluator.h"

#include <algorithm>
#include <ctime>

namespace cruscotto {

namespace {
/// Rules that look at rules are followed so far; a bench has no circles.
constexpr int deepestRule = 32;

/// What an open sensor or a lost link gives is no reading. One that is clipped or out of range is: it lies beyond.
bool isReading(Quality q) {
    return severity(q) <= severity(Quality::clipped);
}
std::shared_ptr<StageProcessor> measureOf(const Condition& c) {
    if (c.measure.empty() || !canMeasure(c.kind)) return nullptr;
    constexpr double often = 10, atMost = 0.05;
    const Stage stage = Stage::of("measure", {{"measure", c.measure},
                                              {"time-s", c.overSeconds},
                                              {"every-s", std::max(c.overSeconds / often, atMost)},
                                              {"of", StageSources{{.signal = c.of, .unit = "1"}}}});
    auto made = stage.kind().make(stage, "1");
    return made ? std::shared_ptr(std::move(made.value())) : nullptr;
}
}  // namespace

RuleEvaluator::RuleEvaluator(std::vector<std::shared_ptr<const RuleSpec>> rules, Instant from, WallAnchor wall)
    : rules_(std::move(rules)), now_(from), wall_(wall) {
    for (std::size_t i = 0; i < rules_.size(); ++i) {
        Rule rule;
        rule.state.since = from;
        rule.momentary = isMomentary(rules_[i]->when.kind) && !rules_[i]->until;
        rule.when = grow(rules_[i]->when, i);
        if (rules_[i]->until) rule.until = grow(*rules_[i]->until, i);
        of_.push_back(std::move(rule));
    }
    for (std::size_t n = 0; n < nodes_.size(); ++n) {
        Node& node = nodes_[n];
        const Condition& c = *node.condition;
        node.heard = from;
        node.measure = measureOf(c);
        if (isOfSignal(c.kind) && rules_[node.rule]->enabled) leavesOf_[c.of].push_back(n);
        if (c.kind == ConditionKind::rule)
            for (std::size_t i = 0; i < rules_.size(); ++i)
                if (rules_[i]->id == c.of) of_[i].dependents.push_back(node.rule);
        if (c.kind == ConditionKind::every) node.next = from + seconds(c.level);
        if (c.kind == ConditionKind::timeOfDay) node.next = nextTimeOfDay(c.level, from);
        if (c.kind == ConditionKind::stale || c.kind == ConditionKind::deviceAway) node.is = Truth::no;
        if (rules_[node.rule]->enabled && (c.forSeconds > 0 || c.kind == ConditionKind::stale ||
                                           c.kind == ConditionKind::every || c.kind == ConditionKind::timeOfDay))
            timed_.push_back(n);
    }
}

std::size_t RuleEvaluator::grow(const Condition& condition, std::size_t rule) {
    const std::size_t at = nodes_.size();
    nodes_.emplace_back();
    nodes_[at].condition = &condition;
    nodes_[at].rule = rule;
    std::vector<std::size_t> parts;
    for (const Condition& part : condition.parts) parts.push_back(grow(part, rule));
    nodes_[at].parts = std::move(parts);
    return at;
}

std::optional<Instant> RuleEvaluator::nextTimeOfDay(double secondsOfDay, Instant after) const {
    constexpr std::int64_t second = 1'000'000'000;
    const std::int64_t unixNs = wall_.unixNs + (after - wall_.at).ns;
    auto whole = static_cast<std::time_t>(unixNs / second);
    std::tm local{};
    if (!localtime_r(&whole, &local)) return std::nullopt;
    for (int day = 0; day < 3; ++day) {
        std::tm then = local;
        then.tm_mday += day;
        then.tm_hour = then.tm_min = 0;
        then.tm_sec = static_cast<int>(secondsOfDay);
        then.tm_isdst = -1;
        const std::time_t at = std::mktime(&then);
        const Instant t = after + Duration{static_cast<std::int64_t>(at) * second - unixNs};
        if (t > after) return t;
    }
    return std::nullopt;
}

bool RuleEvaluator::staysWithin(const Node& node, Extent e) {
    const Condition& c = *node.condition;
    const double h = c.hysteresis;
    if (!(std::isfinite(e.low) && std::isfinite(e.high)) || node.is == Truth::unknown) return false;
    const bool yes = node.is == Truth::yes;
    switch (c.kind) {
        case ConditionKind::above:
            return yes ? e.low >= c.level - h : e.high <= c.level;
        case ConditionKind::below:
            return yes ? e.high <= c.level + h : e.low >= c.level;
        case ConditionKind::inside:
            return yes && e.low >= c.level - h && e.high <= c.upper + h;
        case ConditionKind::outside:
            return !yes && e.low >= c.level && e.high <= c.upper;
        case ConditionKind::on:
            return yes ? e.low > 0.5 : e.high <= 0.5;
        case ConditionKind::off:
            return yes ? e.high <= 0.5 : e.low > 0.5;
        case ConditionKind::rises:
            return node.armed ? e.high < c.level : e.low >= c.level - h && e.low >= c.level;
        case ConditionKind::falls:
            return node.armed ? e.low > c.level : e.high <= c.level + h && e.high <= c.level;
        default:
            return false;
    }
}

void RuleEvaluator::scan(std::size_t n, std::span<const double> values, const TimeOf& timeOf,
                         std::span<const QualityInterval> quality, Extent extent) {
    Node& node = nodes_[n];
    const Condition& c = *node.condition;
    Truth is = node.is;
    const auto become = [&](Truth now, std::size_t i, bool pulse = false) {
        if (now == is && !pulse) return;
        is = now;
        changes_.push_back({timeOf(i), n, now, pulse});
    };
    const auto whether = [](bool v) { return v ? Truth::yes : Truth::no; };
    const double h = c.hysteresis;
    std::vector<std::pair<std::size_t, std::size_t>> unusable;
    for (const QualityInterval& q : quality)
        if (!isReading(q.quality)) unusable.emplace_back(q.begin, q.end);
    if (unusable.empty() && staysWithin(node, extent)) return;
    const auto usable = [&](std::size_t i) {
        return std::isfinite(values[i]) &&
               std::ranges::none_of(unusable, [&](const auto& span) { return i >= span.first && i < span.second; });
    };
    const auto each = [&](auto&& judge) {
        const bool anyUnusable = !unusable.empty();
        for (std::size_t i = 0; i < values.size(); ++i) {
            if (anyUnusable ? !usable(i) : !std::isfinite(values[i])) {
                become(Truth::unknown, i);
                node.armed = false;
                continue;
            }
            judge(values[i], i);
        }
    };
    switch (c.kind) {
        case ConditionKind::above:
            each([&](double v, std::size_t i) {
                become(whether(is == Truth::yes ? v >= c.level - h : v > c.level), i);
            });
            break;
        case ConditionKind::below:
            each([&](double v, std::size_t i) {
                become(whether(is == Truth::yes ? v <= c.level + h : v < c.level), i);
            });
            break;
        case ConditionKind::inside:
            each([&](double v, std::size_t i) {
                const double wider = is == Truth::yes ? h : 0;
                become(whether(v >= c.level - wider && v <= c.upper + wider), i);
            });
            break;
        case ConditionKind::outside:
            each([&](double v, std::size_t i) {
                const double narrower = is == Truth::yes ? h : 0;
                become(whether(v < c.level + narrower || v > c.upper - narrower), i);
            });
            break;
        case ConditionKind::rises:
        case ConditionKind::falls: {
            const double sign = c.kind == ConditionKind::rises ? 1 : -1;
            each([&](double v, std::size_t i) {
                const double turned = sign * v, level = sign * c.level;
                if (turned < level && turned <= level - h) node.armed = true;
                const bool through = node.armed && turned >= level;
                if (through) node.armed = false;
                become(Truth::no, i, through);
            });
            break;
        }
        case ConditionKind::faster:
            each([&](double v, std::size_t i) {
                const Instant t = timeOf(i);
                // As many of the past as tell the rate to a twentieth of the time.
                constexpr double kept = 20;
                if (node.past.empty() || (t - node.past.back().first).seconds() >= c.overSeconds / kept)
                    node.past.emplace_back(t, v);
                while (node.past.size() > 1 && (t - node.past[1].first).seconds() >= c.overSeconds)
                    node.past.pop_front();
                const double lasted = (t - node.past.front().first).seconds();
                if (lasted < c.overSeconds) return become(Truth::unknown, i);
                become(whether(std::fabs(v - node.past.front().second) / lasted > c.level), i);
            });
            break;
        case ConditionKind::on:
            each([&](double v, std::size_t i) { become(whether(v > 0.5), i); });
            break;
        case ConditionKind::off:
            each([&](double v, std::size_t i) { become(whether(v <= 0.5), i); });
            break;
        case ConditionKind::changes:
            each([&](double v, std::size_t i) {
                const bool moved = std::isfinite(node.last) && std::fabs(v - node.last) > h;
                if (moved || !std::isfinite(node.last)) node.last = v;
                become(Truth::no, i, moved);
            });
            break;
        case ConditionKind::becomes: {
            // Numbers that were worked out seldom meet another to the last bit.
            const double within = std::max(h, 1e-9 * std::fabs(c.level));
            each([&](double v, std::size_t i) {
                const bool is_ = std::fabs(v - c.level) <= within;
                const bool moved = is_ && node.armed;
                node.armed = !is_;
                become(Truth::no, i, moved);
            });
            break;
        }
        case ConditionKind::stale:
            become(Truth::no, 0);
            changes_.push_back({timeOf(values.size() - 1), n, Truth::no, false});  // heard of then
            break;
        case ConditionKind::bad:
        case ConditionKind::suspect: {
            const int worst = severity(c.kind == ConditionKind::bad ? Quality::outOfRange : Quality::suspect);
            for (std::size_t i = 0; i < values.size(); ++i) {
                bool wrong = !std::isfinite(values[i]);
                for (const QualityInterval& q : quality)
                    wrong = wrong || (i >= q.begin && i < q.end && severity(q.quality) >= worst);
                become(whether(wrong), i);
            }
            break;
        }
        default:
            break;
    }
}

std::vector<double> RuleEvaluator::measured(Node& node, std::span<const double> values, const TimeOf& timeOf,
                                            std::span<const QualityInterval> quality) {
    std::vector<double> readings(values.begin(), values.end());
    for (const QualityInterval& q : quality)
        if (!isReading(q.quality))
            for (std::size_t i = q.begin; i < std::min(q.end, readings.size()); ++i) readings[i] = std::nan("");
    std::vector<Instant> at(values.size());
    for (std::size_t i = 0; i < at.size(); ++i) at[i] = timeOf(i);
    const SampleTimes times{nullptr, &at};
    const StageInput input{readings};
    std::vector<double> out(values.size());
    std::vector<QualityInterval> doubts;
    Stretch stretch{out, times, doubts, std::span(&input, 1)};
    node.measure->run(stretch);
    return out;
}

RuleEvaluator::Extent RuleEvaluator::extentOf(std::span<const double> values) {
    Extent extent{values[0], values[0]};
    for (const double v : values) {
        // One that is no number makes the extent none.
        extent.low = v < extent.low ? v : v == v ? extent.low : v;
        extent.high = v > extent.high ? v : v == v ? extent.high : v;
        if (v != v) break;
    }
    return extent;
}

void RuleEvaluator::feed(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
                         std::span<const QualityInterval> quality) {
    feedLeaves(signal, values, timeOf, quality, true);
}

void RuleEvaluator::begin(const std::string& signal, double value, Instant at, Quality quality) {
    const QualityInterval all{0, 1, quality};
    feedLeaves(
        signal, std::span(&value, 1), [at](std::size_t) { return at; },
        std::span(&all, quality == Quality::good ? 0U : 1U), false);
}

void RuleEvaluator::feedLeaves(const std::string& signal, std::span<const double> values, const TimeOf& timeOf,
                               std::span<const QualityInterval> quality, bool measuresToo) {
    const auto leaves = leavesOf_.find(signal);
    if (leaves == leavesOf_.end() || values.empty()) return;
    changes_.clear();
    const Extent extent = extentOf(values);
    for (const std::size_t n : leaves->second) {
        if (!nodes_[n].measure) {
            scan(n, values, timeOf, quality, extent);
            continue;
        }
        if (!measuresToo) continue;
        const std::vector<double> measures = measured(nodes_[n], values, timeOf, quality);
        scan(n, measures, timeOf, {}, extentOf(measures));
    }
    if (changes_.empty()) return;
    std::ranges::stable_sort(changes_, {}, &Change::at);
    const auto changes = std::exchange(changes_, {});
    for (const Change& change : changes) {
        runOut(change.at);
        apply(change);
    }
}

void RuleEvaluator::apply(const Change& change) {
    Node& node = nodes_[change.node];
    if (node.condition->kind == ConditionKind::stale) node.heard = std::max(node.heard, change.at);
    node.is = change.is;
    node.pulse = change.pulse;
    update(node.rule, std::max(change.at, now_));
    nodes_[change.node].pulse = false;
}

void RuleEvaluator::lose(const std::string& signal, Instant at) {
    const auto leaves = leavesOf_.find(signal);
    if (leaves == leavesOf_.end()) return;
    runOut(at);
    for (const std::size_t n : leaves->second) {
        Node& node = nodes_[n];
        const ConditionKind kind = node.condition->kind;
        if (kind == ConditionKind::stale) continue;  // runs out by itself
        node.is = kind == ConditionKind::bad || kind == ConditionKind::suspect ? Truth::yes : Truth::unknown;
        node.armed = false;
        node.past.clear();
        if (node.measure) node.measure->reset();
        update(node.rule, std::max(at, now_));
    }
}

void RuleEvaluator::device(const std::string& id, bool away, Instant at) {
    runOut(at);
    for (std::size_t n = 0; n < nodes_.size(); ++n) {
        Node& node = nodes_[n];
        if (node.condition->kind != ConditionKind::deviceAway || node.condition->of != id) continue;
        node.is = away ? Truth::yes : Truth::no;
        update(node.rule, std::max(at, now_));
    }
}

void RuleEvaluator::mark(const std::string& words, Instant at, const RuleFiring* by) {
    constexpr int mostInARow = 8;
    if (by && by->marksBefore >= mostInARow) return;
    runOut(at);
    marksBefore_ = by ? by->marksBefore + 1 : 0;
    for (std::size_t n = 0; n < nodes_.size(); ++n) {
        const Condition& c = *nodes_[n].condition;
        if (c.kind == ConditionKind::mark && words.find(c.of) != std::string::npos) apply({at, n, Truth::no, true});
    }
    marksBefore_ = 0;
}

RuleEvaluator::Truth RuleEvaluator::judge(std::size_t n, Instant at) {
    Node& node = nodes_[n];
    const Condition& c = *node.condition;
    Truth out = Truth::unknown;
    switch (c.kind) {
        case ConditionKind::all:
        case ConditionKind::any: {
            // One that decides is enough; without one, what is not known leaves it open.
            const Truth decides = c.kind == ConditionKind::all ? Truth::no : Truth::yes;
            bool decided = false, open = false;
            for (const std::size_t part : node.parts) {
                const Truth is = judge(part, at);
                decided = decided || is == decides;
                open = open || is == Truth::unknown;
            }
            out = decided ? decides : open ? Truth::unknown : decides == Truth::no ? Truth::yes : Truth::no;
            break;
        }
        case ConditionKind::no: {
            const Truth is = node.parts.empty() ? Truth::unknown : judge(node.parts.front(), at);
            out = is == Truth::unknown ? is : is == Truth::yes ? Truth::no : Truth::yes;
            break;
        }
        case ConditionKind::rule:
            out = Truth::unknown;
            for (std::size_t i = 0; i < rules_.size(); ++i)
                if (rules_[i]->id == c.of) out = of_[i].state.holds ? Truth::yes : Truth::no;
            break;
        default:
            out = isMomentary(c.kind) ? (node.pulse ? Truth::yes : Truth::no) : node.is;
    }
    if (out != Truth::yes) {
        node.since.reset();
        node.reported = false;
        return out;
    }
    if (!node.since) node.since = of_[node.rule].takenOver ? at - seconds(c.forSeconds) : at;
    return c.forSeconds > 0 && at - *node.since < seconds(c.forSeconds) ? Truth::no : Truth::yes;
}

void RuleEvaluator::update(std::size_t i, Instant at, int depth) {
    Rule& rule = of_[i];
    if (!rules_[i]->enabled || depth > deepestRule) return;
    const Truth is = judge(rule.when, at);
    const bool when = is == Truth::yes;
    // Not known yet is no reason to end.
    if (rule.takenOver && (!rule.settled || (is == Truth::unknown && !rule.until))) return;
    rule.takenOver = false;
    const auto turn = [&](bool holds, bool momentary = false) {
        rule.state.holds = holds;
        rule.state.since = at;
        if (holds) {
            rule.state.fired = at;
            ++rule.state.count;
        }
        firings_.push_back({i, holds, at, momentary, marksBefore_});
        for (const std::size_t dependent : rule.dependents) update(dependent, at, depth + 1);
    };
    if (!rule.state.holds) {
        if (!when) return;
        if (rule.momentary) {
            turn(true, true);
            rule.state.holds = false;
            for (const std::size_t dependent : rule.dependents) update(dependent, at, depth + 1);
            return;
        }
        turn(true);
        // The time for which its end must hold counts from here.
        if (rule.until) {
            forgetTimes(*rule.until);
            (void)judge(*rule.until, at);
        }
        return;
    }
    // An interlock that held stays while nobody knows: a lost device must not let go of what it guards.
    const bool guards =
        std::ranges::any_of(rules_[i]->then, [](const Action& a) { return a.kind == ActionKind::hold; });
    const bool over = rule.until ? judge(*rule.until, at) == Truth::yes : guards ? is == Truth::no : !when;
    if (!over) return;
    if (rule.until) forgetTimes(*rule.until);
    turn(false);
}

void RuleEvaluator::forgetTimes(std::size_t node) {
    nodes_[node].since.reset();
    nodes_[node].reported = false;
    for (const std::size_t part : nodes_[node].parts) forgetTimes(part);
}

std::optional<Instant> RuleEvaluator::deadlineOf(const Node& node) const {
    const Condition& c = *node.condition;
    if (c.kind == ConditionKind::every || c.kind == ConditionKind::timeOfDay) return node.next;
    if (c.kind == ConditionKind::stale && node.is == Truth::no) return node.heard + seconds(c.level);
    if (c.forSeconds > 0 && node.since && !node.reported) return *node.since + seconds(c.forSeconds);
    return std::nullopt;
}

std::optional<Instant> RuleEvaluator::nextDeadline() const {
    std::optional<Instant> out;
    for (const std::size_t n : timed_)
        if (const auto at = deadlineOf(nodes_[n]); at && (!out || *at < *out)) out = at;
    return out;
}

void RuleEvaluator::runOut(Instant to) {
    constexpr int mostAtOnce = 1'000'000;
    for (int i = 0; i < mostAtOnce; ++i) {
        std::size_t first = nodes_.size();
        std::optional<Instant> earliest;
        for (const std::size_t n : timed_)
            if (const auto at = deadlineOf(nodes_[n]); at && *at <= to && (!earliest || *at < *earliest)) {
                earliest = at;
                first = n;
            }
        if (!earliest) break;
        now_ = std::max(now_, *earliest);
        Node& node = nodes_[first];
        const Condition& c = *node.condition;
        if (c.kind == ConditionKind::every || c.kind == ConditionKind::timeOfDay) {
            node.next = c.kind == ConditionKind::every ? std::optional(*earliest + seconds(std::max(c.level, 1e-3)))
                                                       : nextTimeOfDay(c.level, *earliest);
            apply({*earliest, first, Truth::no, true});
        } else if (c.kind == ConditionKind::stale && node.is == Truth::no) {
            node.is = Truth::yes;
            update(node.rule, *earliest);
        } else {
            node.reported = true;
            update(node.rule, *earliest);
        }
    }
    now_ = std::max(now_, to);
}

void RuleEvaluator::goOn(const RuleEvaluator& before, const std::map<std::size_t, std::size_t>& nowAt) {
    for (const auto& [was, is] : nowAt) {
        // Rules that are alike have grown the same nodes, in the same order.
        const auto nodeOf = [](const RuleEvaluator& of, std::size_t rule) { return of.of_[rule].when; };
        const std::size_t from = nodeOf(before, was), to = nodeOf(*this, is);
        for (std::size_t k = 0; from + k < before.nodes_.size() && before.nodes_[from + k].rule == was; ++k) {
            Node next = before.nodes_[from + k];
            Node& node = nodes_[to + k];
            next.condition = node.condition;
            next.rule = is;
            next.parts = node.parts;
            node = std::move(next);
        }
        of_[is].state = before.of_[was].state;
    }
    std::erase_if(firings_, [&](const RuleFiring& firing) {
        return std::ranges::any_of(nowAt, [&](const auto& place) { return place.second == firing.rule; });
    });
}

void RuleEvaluator::takeOver(std::size_t i) {
    Rule& rule = of_[i];
    if (!rules_[i]->enabled || rule.momentary) return;
    rule.takenOver = rule.state.holds = true;
    rule.state.fired = rule.state.since;
    rule.state.count = 1;
}

void RuleEvaluator::settle(Instant at) {
    for (std::size_t i = 0; i < of_.size(); ++i) {
        of_[i].settled = true;
        if (of_[i].takenOver) update(i, at);
    }
}

void RuleEvaluator::advance(Instant now) {
    runOut(now);
}

RuleState RuleEvaluator::state(std::size_t rule) const {
    RuleState out = of_.at(rule).state;
    const Rule& of = of_[rule];
    const std::size_t n = out.holds && of.until ? *of.until : of.when;
    const Node& node = nodes_[n];
    if (node.since && node.condition->forSeconds > 0 && !node.reported)
        out.remains = *node.since + seconds(node.condition->forSeconds) - now_;
    return out;
}

}  // namespace cruscotto
