// Levels at which something happens, as lines that are dragged: limits of signals and levels of rules.
#include <algorithm>
#include <cmath>

#include "app/page/tiles/plot_library.h"
#include "app/page/tiles/trace_tile.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/units.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_file.h"

namespace cruscotto {

namespace {

constexpr double near = 5;  ///< pixels
constexpr Duration mostRehearsed = milliseconds(600'000);

bool isLevel(ConditionKind kind) {
    using enum ConditionKind;
    return kind == above || kind == below || kind == rises || kind == falls;
}

/// Calls each(condition, its place) for the conditions that have one level.
template <class Each>
void eachLevel(const Condition& c, std::vector<std::size_t>& place, const Each& each) {
    if (isLevel(c.kind)) each(c, place);
    for (std::size_t i = 0; i < c.parts.size(); ++i) {
        place.push_back(i);
        eachLevel(c.parts[i], place, each);
        place.pop_back();
    }
}

Condition* partOf(RuleSpec& rule, const std::vector<std::size_t>& place) {
    Condition* c = &rule.when;
    for (const std::size_t i : place) {
        if (i >= c->parts.size()) return nullptr;
        c = &c->parts[i];
    }
    return c;
}

}  // namespace

void TraceTile::addThresholds(const Lane& lane, const SignalSpec& s) {
    const auto add = [&](double v, Qt::PenStyle style) -> Threshold& {
        auto* item = new QCPItemStraightLine(plot_);
        item->setClipAxisRect(lane.rect);
        for (QCPItemPosition* p : item->positions())
            p->setAxes(lane.rect->axis(QCPAxis::atBottom), lane.rect->axis(QCPAxis::atLeft));
        item->point1->setCoords(-1, v);
        item->point2->setCoords(0, v);
        item->setPen(QPen(theme().red, 1, style));
        Threshold& t = thresholds_.emplace_back();
        t.line = item;
        t.lane = &lane;
        t.signal = s.id;
        t.value = v;
        return t;
    };
    for (const auto member : {&Limits::low, &Limits::high})
        if (s.limits.*member) add(*(s.limits.*member), Qt::DotLine).limit = member;
    for (const auto& rule : session_.bench().rules) {
        if (!rule->enabled) continue;
        const RuleSpec read = ruleAsRead(session_.bench(), *rule);
        std::vector<std::size_t> place;
        eachLevel(read.when, place, [&](const Condition& c, const std::vector<std::size_t>& at) {
            if (c.of != s.id) return;
            Threshold& t = add(c.level, Qt::DashDotLine);
            t.rule = rule->id;
            t.part = at;
        });
    }
}

void TraceTile::showThresholds() {
    for (const Threshold& t : thresholds_) plot_->removeItem(t.line);
    thresholds_.clear();
    dragged_.reset();
    if (thresholdWords_) thresholdWords_->setVisible(false);
    for (const auto& lane : lanes_)
        if (!lane->key.difference && !lane->key.states)
            for (const Line& line : lane->lines) addThresholds(*lane, *shown_[line.shownIndex].spec);
}

std::optional<std::size_t> TraceTile::thresholdAt(QPointF at) const {
    std::optional<std::size_t> out;
    double nearest = near;
    for (std::size_t i = 0; i < thresholds_.size(); ++i) {
        const Threshold& t = thresholds_[i];
        if (!t.lane->rect->rect().contains(at.toPoint())) continue;
        const double away = std::fabs(t.lane->rect->axis(QCPAxis::atLeft)->coordToPixel(t.value) - at.y());
        if (away >= nearest) continue;
        nearest = away;
        out = i;
    }
    return out;
}

RuleSpec TraceTile::ruleOf(const Threshold& t) const {
    RuleSpec out;
    if (const RuleSpec* rule = session_.bench().rule(t.rule)) {
        out = ruleAsRead(session_.bench(), *rule);
        if (Condition* c = partOf(out, t.part)) c->level = t.value;
        return out;
    }
    out.id = t.signal;
    out.when.kind = t.limit == &Limits::high ? ConditionKind::above : ConditionKind::below;
    out.when.of = t.signal;
    out.when.level = t.value;
    return out;
}

void TraceTile::dragThreshold(double y) {
    Threshold& t = thresholds_.at(*dragged_);
    const Scale scale = laneScale(*t.lane);
    t.value = std::clamp(t.lane->rect->axis(QCPAxis::atLeft)->pixelToCoord(y), scale.low, scale.high);
    t.line->point1->setCoords(-1, t.value);
    t.line->point2->setCoords(0, t.value);
    sayThreshold({});
    const Instant end = session_.end();
    Instant from = session_.source().extent().from;
    if (session_.engine()) from = std::max(session_.engine()->heldSince(), end - mostRehearsed);
    std::vector<RehearsedMark> marks;
    for (const Mark& mark : session_.marks()) marks.push_back({mark.at, mark.words});
    session_.rehearsing().ask([rules = std::vector{std::make_shared<const RuleSpec>(ruleOf(t))},
                               &source = session_.source(), span = Span{from, end}, marks](Progress& progress) {
        return Rehearsal{span, rehearse(rules, source, span, marks, &progress)};
    });
}

void TraceTile::sayThreshold(const QString& more) {
    const Threshold& t = thresholds_.at(*dragged_);
    const SignalSpec* s = session_.bench().signal(t.signal);
    const RuleSpec* rule = session_.bench().rule(t.rule);
    if (!thresholdWords_) {
        thresholdWords_ = new QCPItemText(plot_);
        thresholdWords_->setPositionAlignment(Qt::AlignRight | Qt::AlignBottom);
        thresholdWords_->setPadding(QMargins(6, 2, 6, 2));
        thresholdWords_->setFont(uiFont(12, QFont::Medium));
    }
    thresholdWords_->setVisible(true);
    thresholdWords_->setColor(theme().ink);
    thresholdWords_->setBrush(theme().panel);
    thresholdWords_->position->setType(QCPItemPosition::ptAbsolute);
    thresholdWords_->position->setCoords(t.lane->rect->right() - 6,
                                         t.lane->rect->axis(QCPAxis::atLeft)->coordToPixel(t.value) - 3);
    const QString at = s ? session_.numberText(*s, t.value) + QStringLiteral(" ") + unitOf(*s) : QString();
    thresholdWords_->setText((rule ? shown(rule->name) : tr("Limit")) + QStringLiteral("  ") + at +
                             (more.isEmpty() ? QString() : QStringLiteral("  ·  ") + more));
    plot_->replot(QCustomPlot::rpQueuedReplot);
}

void TraceTile::dropThreshold() {
    if (!dragged_) return;
    const Threshold t = thresholds_.at(*dragged_);
    dragged_.reset();
    if (thresholdWords_) thresholdWords_->setVisible(false);
    const Bench& bench = session_.bench();
    const SignalSpec* s = bench.signal(t.signal);
    const RuleSpec* rule = bench.rule(t.rule);
    if (!s) return;
    if (rule) {
        RuleSpec next = *rule;
        Condition* c = partOf(next, t.part);
        const auto in = c && !c->unit.empty() ? convertUnit(s->unit(), c->unit) : std::nullopt;
        if (!c) return;
        c->level = in ? t.value * in->factor + in->offset : t.value;
        std::vector<Problem> problems;
        const Bench with = withRule(bench, next);
        checkRules(with, problems);
        if (problems.empty()) session_.edit(tr("Move the level of %1").arg(shown(rule->name)), with);
        return;
    }
    SignalSpec next = *s;
    next.limits.*t.limit = t.value;
    if (next.limits.low && next.limits.high && *next.limits.low >= *next.limits.high) return showThresholds();
    session_.edit(tr("Move a limit of %1").arg(shown(s->name)), withSignal(bench, next));
}

}  // namespace cruscotto
