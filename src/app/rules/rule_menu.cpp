#include "app/rules/rule_menu.h"

#include <QCoreApplication>
#include <QStyle>
#include <QWidgetAction>
#include <algorithm>
#include <cmath>

#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/bench/rule_edits.h"
#include "core/bench/rule_words.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {

QString tr(const char* words) {
    return QCoreApplication::translate("rules", words);
}

QString conditionTitle(ConditionKind kind) {
    using enum ConditionKind;
    switch (kind) {
        case above:
            return tr("is above");
        case below:
            return tr("is below");
        case inside:
            return tr("is from … to …");
        case outside:
            return tr("is not from … to …");
        case rises:
            return tr("rises through (a moment)");
        case falls:
            return tr("falls through (a moment)");
        case faster:
            return tr("changes faster than");
        case on:
            return tr("is on");
        case off:
            return tr("is off");
        case changes:
            return tr("changes (a moment)");
        case becomes:
            return tr("changes to (a moment)");
        case stale:
            return tr("nothing comes of it");
        case bad:
            return tr("is of bad quality");
        case suspect:
            return tr("is suspect");
        case timeOfDay:
            return tr("it is a time of day (a moment)");
        case every:
            return tr("every so many seconds (a moment)");
        case mark:
            return tr("a mark is set (a moment)");
        case deviceAway:
            return tr("a device cannot be reached");
        case rule:
            return tr("another rule holds");
        case all:
            return tr("and");
        case any:
            return tr("or");
        case no:
            return tr("not");
    }
    return {};
}

QString actionTitle(ActionKind kind) {
    switch (kind) {
        case ActionKind::set:
            return tr("set an output");
        case ActionKind::step:
            return tr("change an output by a step");
        case ActionKind::toggle:
            return tr("switch an output over");
        case ActionKind::ramp:
            return tr("bring an output somewhere, slowly");
        case ActionKind::release:
            return tr("let go of an output");
        case ActionKind::hold:
            return tr("hold an output, whatever else wants");
        case ActionKind::command:
            return tr("tell a device something");
        case ActionKind::alarm:
            return tr("raise an alarm");
        case ActionKind::mark:
            return tr("set a mark");
        case ActionKind::record:
            return tr("begin to record");
        case ActionKind::endRecording:
            return tr("end the recording");
        case ActionKind::keep:
            return tr("keep the last seconds as a run");
        case ActionKind::page:
            return tr("show a page");
        case ActionKind::tone:
            return tr("sound a tone");
        case ActionKind::reset:
            return tr("begin a total anew");
    }
    return {};
}

/// A field in the menu itself: taken on Return. `take` returns what is wrong with it; empty: it was taken.
void addField(QMenu& menu, const QString& label, const QString& text,
              const std::function<QString(const QString&)>& take) {
    auto* holder = new QWidget;
    auto* column = new QVBoxLayout(holder);
    column->setContentsMargins(16, 6, 16, 8);
    column->setSpacing(4);
    auto* caption = new QLabel(label);
    caption->setObjectName("caption");
    auto* field = new QLineEdit(text);
    field->setAccessibleName(label);
    constexpr int wide = 180;
    field->setMinimumWidth(wide);
    column->addWidget(caption);
    column->addWidget(field);
    QObject::connect(field, &QLineEdit::returnPressed, &menu, [&menu, field, caption, take] {
        const QString wrong = take(field->text());
        if (wrong.isEmpty()) {
            menu.close();
            return;
        }
        caption->setText(wrong);
        field->setProperty("wrong", true);
        field->style()->unpolish(field);
        field->style()->polish(field);
    });
    auto* action = new QWidgetAction(&menu);
    action->setDefaultWidget(holder);
    menu.addAction(action);
    field->selectAll();
    field->setFocus();
}

void addNumber(QMenu& menu, const QString& label, double v, double least, const std::function<void(double)>& take) {
    addField(menu, label, shown(exactNumber(v)), [least, take](const QString& typed) {
        double out = 0;
        if (!parseNumber(typed.toStdString(), out)) return tr("A number is expected here");
        if (!(out >= least)) return tr("A number from %1 on is expected here").arg(least);
        take(out);
        return QString();
    });
}

double giveOrTake(double level) {
    return std::max(0.01, std::fabs(level) * 0.02);
}

std::vector<ConditionKind> kindsFor(const SignalSpec* s) {
    using enum ConditionKind;
    if (s && s->isState()) return {on, off, changes, becomes, stale, bad, suspect};
    return {above, below, inside, outside, rises, falls, faster, changes, becomes, stale, bad, suspect};
}

/// Of a long list only those whose words contain what is typed; Return takes the first of them.
void addFind(QMenu& menu) {
    constexpr int many = 12;
    const auto choices = menu.actions();
    if (choices.size() <= many) return;
    auto* holder = new QWidget;
    auto* row = new QVBoxLayout(holder);
    row->setContentsMargins(16, 6, 16, 8);
    auto* field = new QLineEdit;
    field->setPlaceholderText(tr("find"));
    field->setAccessibleName(tr("Find"));
    row->addWidget(field);
    auto* action = new QWidgetAction(&menu);
    action->setDefaultWidget(holder);
    menu.insertAction(choices.front(), action);
    QObject::connect(field, &QLineEdit::textChanged, &menu, [choices](const QString& words) {
        for (QAction* a : choices) a->setVisible(a->text().contains(words.trimmed(), Qt::CaseInsensitive));
    });
    QObject::connect(field, &QLineEdit::returnPressed, &menu, [&menu, choices] {
        const auto first = std::ranges::find_if(choices, [](const QAction* a) { return a->isVisible(); });
        if (first == choices.end()) return;
        menu.close();
        (*first)->trigger();
    });
    field->setFocus();
}

/// The same condition as another kind: what both have is kept.
Condition asKind(const Bench& bench, Condition c, ConditionKind kind) {
    using enum ConditionKind;
    const SignalSpec* s = isOfSignal(c.kind) ? bench.signal(c.of) : nullptr;
    Condition fresh = s ? firstCondition(bench, s->id) : firstCondition(bench, {});
    const bool numbers = isOfSignal(kind) && kind != on && kind != off && kind != bad && kind != suspect &&
                         kind != stale && kind != changes && !(kind == becomes && s && s->isState());
    Condition out;
    out.kind = kind;
    out.forSeconds = isMomentary(kind) ? 0 : c.forSeconds;
    if (isOfSignal(kind)) out.of = s ? c.of : fresh.of;
    const bool had = isOfSignal(c.kind) && c.kind <= faster;
    if (numbers) {
        out.level = had ? c.level : fresh.level;
        out.upper = c.upper > out.level ? c.upper : out.level + std::max(1.0, std::fabs(out.level) * 0.5);
        // Readings seldom are a number exactly.
        out.hysteresis = kind == becomes ? giveOrTake(out.level) : had && kind != faster ? c.hysteresis : 0;
        out.unit = had ? c.unit : fresh.unit;
        if (canMeasure(kind) && had) out.measure = c.measure, out.overSeconds = c.overSeconds;
    }
    if (kind == stale || kind == every || (kind == becomes && !numbers)) out.level = 1;
    if (kind == timeOfDay) out.level = 8 * 3600;
    if (kind == deviceAway && !bench.devices.empty()) out.of = bench.devices.front()->id;
    if (kind == rule && !bench.rules.empty()) out.of = bench.rules.front()->id;
    return out;
}

}  // namespace

Condition firstCondition(const Bench& bench, const std::string& signal) {
    using enum ConditionKind;
    const SignalSpec* s = bench.signal(signal);
    if (!s)
        for (const auto& one : bench.signals)
            if (!one->output) {
                s = one.get();
                break;
            }
    Condition out;
    if (!s) {
        out.kind = every;
        out.level = 10;
        return out;
    }
    out.of = s->id;
    if (s->isState()) {
        out.kind = on;
        return out;
    }
    out.kind = above;
    const auto scale = s->scale;
    out.level = s->limits.high ? *s->limits.high : scale ? scale->low + 0.8 * (scale->high - scale->low) : 1;
    out.unit = s->unit();
    return out;
}

Action firstAction(const Bench& bench, ActionKind kind) {
    Action out;
    out.kind = kind;
    for (const auto& s : bench.signals) {
        if (!s->output) continue;
        const bool digital = isDigital(s->kind);
        const bool suits = kind == ActionKind::toggle                             ? digital
                           : kind == ActionKind::step || kind == ActionKind::ramp ? !digital
                                                                                  : true;
        if (!isOfOutput(kind) || !suits) continue;
        out.on = s->id;
        out.value = kind == ActionKind::step ? 1 : s->output->safe;
        break;
    }
    if (kind == ActionKind::command && !bench.devices.empty()) out.on = bench.devices.front()->id, out.key = "key";
    if (kind == ActionKind::reset) {
        const auto total =
            std::ranges::find_if(bench.signals, [](const auto& s) { return withTotalReset(*s).has_value(); });
        if (total != bench.signals.end()) out.on = (*total)->id;
    }
    if (kind == ActionKind::page && !bench.pages.empty()) out.on = bench.pages.front()->id;
    if (kind == ActionKind::mark || kind == ActionKind::alarm) out.words = tr("what happened").toStdString();
    if (kind == ActionKind::keep) out.seconds = 30;
    if (kind == ActionKind::ramp) out.seconds = 5;
    if (kind == ActionKind::tone) out.value = 880, out.seconds = 1;
    return out;
}

RuleSpec newRule(const Bench& bench, const std::string& signal) {
    RuleSpec out;
    out.when = firstCondition(bench, signal);
    out.then = {firstAction(bench, ActionKind::mark)};
    const SignalSpec* s = bench.signal(out.when.of);
    out.name = (s ? s->name : std::string("Rule"));
    out.then.front().words = s ? s->name + ": {" + s->id + "}" : out.then.front().words;
    std::vector<std::string> taken;
    for (const auto& rule : bench.rules) taken.push_back(rule->id);
    out.id = freshId(out.name, taken);
    return out;
}

void fillRuleMenu(QMenu& menu, const Bench& bench, const RuleSpec& given, const std::string& place,
                  const std::function<void(RuleSpec)>& take) {
    using enum ConditionKind;
    RuleSpec looked = given;
    const RulePlace at = placeIn(looked, place);
    // Each change works on a copy of the rule as it is now.
    const auto changeCondition = [=](const std::function<void(Condition&)>& how) {
        RuleSpec next = given;
        if (const RulePlace there = placeIn(next, place); there.condition) how(*there.condition);
        take(std::move(next));
    };
    const auto changeAction = [=](const std::function<void(Action&)>& how) {
        RuleSpec next = given;
        if (const RulePlace there = placeIn(next, place); there.action) how(*there.action);
        take(std::move(next));
    };
    const auto choice = [&menu](QMenu& in, const QString& words, bool now, std::function<void()> what) {
        QAction* a = in.addAction(words, &menu, std::move(what));
        a->setCheckable(true);
        a->setChecked(now);
    };
    /// A level that was of the readings says nothing of the measure, unless it is in the same unit.
    const auto chooseMeasure = [=, &bench](const std::string& name) {
        changeCondition([&](Condition& now) {
            const SignalSpec* of = bench.signal(now.of);
            constexpr double usualSeconds = 10;
            if (now.measure.empty()) now.overSeconds = usualSeconds;
            now.measure = name;
            if (of && !now.unit.empty() && !convertUnit(now.unit, unitOfCondition(*of, now)))
                now.unit = unitOfCondition(*of, now);
        });
    };
    const auto addMeasures = [=](QMenu& in, const std::string& now) {
        for (const MeasureKind& kind : measureKinds())
            if (ruleCanMeasure(kind))
                choice(in, shown(kind.title), kind.name == now, [=, name = kind.name] { chooseMeasure(name); });
    };
    if (at.condition) {
        const Condition& c = *at.condition;
        const SignalSpec* s = isOfSignal(c.kind) ? bench.signal(c.of) : nullptr;
        const QString unit = s ? shown(unitText(c.unit.empty() ? unitOfCondition(*s, c) : c.unit)) : QString();
        if (at.field == "of" && isOfSignal(c.kind)) {
            for (const auto& one : bench.signals)
                choice(menu, shown(one->name), one->id == c.of, [=, &bench, id = one->id] {
                    const SignalSpec* other = bench.signal(id);
                    const bool same = other && s && other->isState() == s->isState() && other->unit() == s->unit();
                    changeCondition([&](Condition& now) {
                        if (same)
                            now.of = id;
                        else
                            now = firstCondition(bench, id);
                    });
                });
            addFind(menu);
        } else if (at.field == "measure") {
            choice(menu, tr("the reading itself"), false,
                   [=, &bench] { changeCondition([&](Condition& now) { now = firstCondition(bench, now.of); }); });
            addMeasures(menu, c.measure);
        } else if (at.field == "of" && c.kind == deviceAway) {
            for (const auto& one : bench.devices)
                choice(menu, shown(one->name), one->id == c.of,
                       [=, id = one->id] { changeCondition([&](Condition& now) { now.of = id; }); });
        } else if (at.field == "of" && c.kind == ConditionKind::rule) {
            for (const auto& one : bench.rules)
                if (one->id != given.id)
                    choice(menu, shown(one->name), one->id == c.of,
                           [=, id = one->id] { changeCondition([&](Condition& now) { now.of = id; }); });
            addFind(menu);
        } else if (at.field == "of") {
            addField(menu, tr("Words of the mark; empty: any"), shown(c.of), [=](const QString& typed) {
                changeCondition([&](Condition& now) { now.of = typed.toStdString(); });
                return QString();
            });
        } else if (at.field == "kind" && (c.kind == all || c.kind == any)) {
            for (const ConditionKind kind : {all, any})
                choice(menu, conditionTitle(kind), kind == c.kind,
                       [=] { changeCondition([&](Condition& now) { now.kind = kind; }); });
        } else if (at.field == "kind") {
            // What is over at once suppresses nothing.
            const bool lasts = place.starts_with("/suppress/");
            for (const ConditionKind kind : kindsFor(s))
                if (!lasts || !isMomentary(kind))
                    choice(menu, conditionTitle(kind), kind == c.kind,
                           [=, &bench] { changeCondition([&](Condition& now) { now = asKind(bench, now, kind); }); });
            menu.addSeparator();
            for (const ConditionKind kind : {every, timeOfDay, mark, deviceAway, ConditionKind::rule})
                if ((kind != ConditionKind::rule || bench.rules.size() > 1) && !(lasts && isMomentary(kind)))
                    choice(menu, conditionTitle(kind), kind == c.kind,
                           [=, &bench] { changeCondition([&](Condition& now) { now = asKind(bench, now, kind); }); });
        } else if (at.field == "level" && c.kind == becomes && s && s->isState()) {
            for (const double state : {1.0, 0.0})
                choice(menu, stateWord(*s, state), c.level == state,
                       [=] { changeCondition([&](Condition& now) { now.level = state; }); });
        } else if (at.field == "level" && c.kind == timeOfDay) {
            addField(menu, tr("Time of day"),
                     QStringLiteral("%1:%2")
                         .arg(static_cast<int>(c.level) / 3600, 2, 10, QChar('0'))
                         .arg(static_cast<int>(c.level) / 60 % 60, 2, 10, QChar('0')),
                     [=](const QString& typed) {
                         const QTime time = QTime::fromString(typed.trimmed(), typed.count(':') > 1 ? "H:m:s" : "H:m");
                         if (!time.isValid()) return tr("A time is expected here, as 7:30");
                         changeCondition([&](Condition& now) { now.level = QTime(0, 0).secsTo(time); });
                         return QString();
                     });
        } else {
            struct Number {
                const char* field;
                double Condition::*value;
                QString label;
                double least;
            };
            const double any_ = -1e300;
            const QString inUnit = unit.isEmpty() ? QString() : tr(", in ") + unit;
            const bool time = c.kind == stale || c.kind == every;
            for (const Number& n :
                 {Number{"level", &Condition::level, time ? tr("Seconds") : tr("Level") + inUnit, time ? 0.001 : any_},
                  Number{"upper", &Condition::upper, tr("Up to") + inUnit, any_},
                  Number{"hysteresis", &Condition::hysteresis,
                         (c.kind == becomes ? tr("Within ±") : tr("To go back by")) + inUnit, 0},
                  Number{"over", &Condition::overSeconds, tr("Over so many seconds"), 0.001},
                  Number{"for", &Condition::forSeconds, tr("For so many seconds"), 0}})
                if (at.field == n.field)
                    addNumber(menu, n.label, c.*(n.value), n.least, [=, value = n.value](double v) {
                        changeCondition([&](Condition& now) { now.*value = v; });
                    });
        }
        if (!c.parts.empty() || at.field != "kind") return;
        menu.addSeparator();
        if (!isMomentary(c.kind) && c.forSeconds == 0)
            menu.addAction(tr("… for a time"), &menu,
                           [=] { changeCondition([](Condition& now) { now.forSeconds = 1; }); });
        if (canMeasure(c.kind) && c.measure.empty() && s && !s->isState())
            addMeasures(*menu.addMenu(tr("a measure of it")), {});
        if (isOfSignal(c.kind) && c.kind <= falls && c.hysteresis == 0)
            menu.addAction(tr("… with a way to go back"), &menu,
                           [=] { changeCondition([](Condition& now) { now.hysteresis = giveOrTake(now.level); }); });
        if (c.kind == becomes && s && !s->isState() && c.hysteresis == 0)
            menu.addAction(tr("… give or take"), &menu,
                           [=] { changeCondition([](Condition& now) { now.hysteresis = giveOrTake(now.level); }); });
        for (const ConditionKind kind : {all, any})
            menu.addAction(kind == all ? tr("and another condition") : tr("or another condition"), &menu, [=, &bench] {
                changeCondition([&](Condition& now) {
                    Condition group;
                    group.kind = kind;
                    group.parts = {now, firstCondition(bench, now.of)};
                    now = group;
                });
            });
        menu.addAction(tr("the opposite of it"), &menu, [=] {
            changeCondition([](Condition& now) {
                Condition opposite;
                opposite.kind = no;
                opposite.parts = {now};
                now = opposite;
            });
        });
        return;
    }
    if (!at.action) return;
    const Action& a = *at.action;
    if (at.field == "on") {
        const auto add = [&](const std::string& id, const std::string& name) {
            choice(menu, shown(name), id == a.on, [=] { changeAction([&](Action& now) { now.on = id; }); });
        };
        if (isOfOutput(a.kind)) {
            for (const auto& s : bench.signals)
                if (s->output) add(s->id, s->name);
        } else if (a.kind == ActionKind::reset) {
            for (const auto& s : bench.signals)
                if (withTotalReset(*s)) add(s->id, s->name);
        } else if (a.kind == ActionKind::page) {
            for (const auto& p : bench.pages) add(p->id, p->name);
        } else {
            for (const auto& d : bench.devices) add(d->id, d->name);
        }
        addFind(menu);
    } else if (at.field == "kind") {
        for (int k = 0; k <= static_cast<int>(ActionKind::reset); ++k) {
            const auto kind = static_cast<ActionKind>(k);
            if (kind == ActionKind::reset && firstAction(bench, kind).on.empty()) continue;
            choice(menu, actionTitle(kind), kind == a.kind, [=, &bench] {
                changeAction([&](Action& now) {
                    Action next = firstAction(bench, kind);
                    if (isOfOutput(kind) && isOfOutput(now.kind) && bench.signal(now.on)) next.on = now.on;
                    if (!now.words.empty() && !next.words.empty()) next.words = now.words;
                    now = next;
                });
            });
        }
    } else if (at.field == "value") {
        const SignalSpec* s = bench.signal(a.on);
        if (s && isDigital(s->kind)) {
            for (const double v : {1.0, 0.0})
                choice(menu, stateWord(*s, v), a.value == v,
                       [=] { changeAction([&](Action& now) { now.value = v; }); });
        } else {
            addNumber(menu, tr("Value"), a.value, -1e300,
                      [=](double v) { changeAction([&](Action& now) { now.value = v; }); });
        }
    } else if (at.field == "seconds") {
        addNumber(menu, tr("Seconds"), a.seconds, 0.001,
                  [=](double v) { changeAction([&](Action& now) { now.seconds = v; }); });
    } else if (at.field == "words" || at.field == "key") {
        const bool words = at.field == "words";
        addField(menu, words ? tr("Words; {signal} is its reading") : tr("Key"), shown(words ? a.words : a.key),
                 [=](const QString& typed) {
                     if (typed.isEmpty()) return tr("Something is expected here");
                     changeAction([&](Action& now) { (words ? now.words : now.key) = typed.toStdString(); });
                     return QString();
                 });
    } else if (at.field == "priority") {
        for (const auto& [p, title] :
             {std::pair{1, tr("1: at once")}, std::pair{2, tr("2: soon")}, std::pair{3, tr("3: when there is time")}})
            choice(menu, title, a.priority == p, [=, p = p] { changeAction([&](Action& now) { now.priority = p; }); });
    } else if (at.field == "latched") {
        choice(menu, tr("as long as this lasts"), !a.latched,
               [=] { changeAction([](Action& now) { now.latched = false; }); });
        choice(menu, tr("until it is reset by hand"), a.latched,
               [=] { changeAction([](Action& now) { now.latched = true; }); });
    }
}

}  // namespace cruscotto
