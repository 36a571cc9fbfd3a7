// Limits of a signal, and the alarm that they are.
#include <QComboBox>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/bench/rule_words.h"

namespace cruscotto {

void ChainDrawer::addLimits(QVBoxLayout* column) {
    auto* card = new StageCard(tr("Limits"), column->parentWidget());
    const auto end = [&](const QString& label, std::optional<double> Limits::*member) {
        auto* field = new Field(label, card);
        field->setPlaceholderText(tr("none"));
        connect(field, &Field::taken, this, [this, field, member](const QString& text) {
            double v = 0;
            const bool none = text.trimmed().isEmpty();
            const bool fine = none || parseNumber(text.toStdString(), v);
            field->markWrong(!fine, fine ? QString() : tr("A number, or nothing for no limit"));
            if (!fine) return;
            SignalSpec next = *spec();
            next.limits.*member = none ? std::nullopt : std::optional(v);
            if (next.limits.low && next.limits.high && *next.limits.low >= *next.limits.high)
                return limitsCard_->setWrong(tr("The low limit must be less than the high one."));
            limitsCard_->setWrong({});
            edit(tr("Change limits"), std::move(next));
        });
        showers_.push_back([field, member](const SignalSpec& s) {
            field->show(s.limits.*member ? exactText(*(s.limits.*member)) : QString());
        });
        place(card->fields(), labelled(label, field, card));
    };
    end(tr("Low"), &Limits::low);
    end(tr("High"), &Limits::high);
    addLimitAlarm(*card);
    auto* decimals = new Field(tr("Decimals"), card);
    decimals->setPlaceholderText(tr("by uncertainty"));
    decimals->setToolTip(
        tr("Of its readings on screen: by its uncertainty, unless a number stands here. Exports keep all."));
    connect(decimals, &Field::taken, this, [this, decimals](const QString& text) {
        bool fine = true;
        const int n = text.trimmed().isEmpty() ? -1 : text.toInt(&fine);
        decimals->markWrong(!fine || n > 9, tr("0 to 9, or nothing"));
        if (!fine || n > 9) return;
        SignalSpec next = *spec();
        next.decimals = n < 0 ? std::nullopt : std::optional(n);
        edit(tr("Change decimals"), std::move(next));
    });
    showers_.push_back(
        [decimals](const SignalSpec& s) { decimals->show(s.decimals ? QString::number(*s.decimals) : QString()); });
    place(card->fields(), labelled(tr("Decimals"), decimals, card));
    if (!session_.isRun()) addAgreement(*card);
    limitsCard_ = card;
    column->addWidget(card);
}

void ChainDrawer::addLimitAlarm(StageCard& card) {
    auto* alarm = new Choice(&card);
    alarm->setAccessibleName(tr("Alarm"));
    alarm->addItems({tr("no alarm"), tr("urgent (1)"), tr("soon (2)"), tr("to be known (3)")});
    alarm->setToolTip(tr("Whether a reading outside the limits raises an alarm, and of which priority"));
    connect(alarm, &QComboBox::activated, this, [this](int priority) {
        SignalSpec next = *spec();
        if (priority == 0) {
            next.alarm.reset();
        } else {
            if (!next.limits.low && !next.limits.high)
                limitsCard_->setWrong(tr("There is no limit yet that could be passed."));
            if (!next.alarm) next.alarm.emplace();
            next.alarm->priority = priority;
        }
        edit(tr("Change the alarm of limits"), std::move(next));
    });
    showers_.push_back([alarm](const SignalSpec& s) { alarm->setCurrentIndex(s.alarm ? s.alarm->priority : 0); });
    place(card.fields(), labelled(tr("Alarm"), alarm, &card));
    const std::tuple<QString, QString, double LimitAlarm::*> more[] = {
        {tr("Deadband"), tr("So far inside its limit a reading must be before the alarm returns"),
         &LimitAlarm::deadband},
        {tr("After (s)"), tr("So long it must be outside before the alarm is raised"), &LimitAlarm::onDelay},
        {tr("Returns after (s)"), tr("So long it must be inside before the alarm returns"), &LimitAlarm::offDelay}};
    for (const auto& [label, hint, member] : more) {
        auto* field = new Field(label, &card);
        field->setToolTip(hint);
        connect(field, &Field::taken, this, [this, field, member = member](const QString& typed) {
            double v = 0;
            const bool fine = parseNumber(typed.toStdString(), v) && v >= 0 && v <= 1e6;
            field->markWrong(!fine, fine ? QString() : tr("A number from 0 on"));
            SignalSpec next = *spec();
            if (!fine || !next.alarm) return;
            (*next.alarm).*member = v;
            edit(tr("Change the alarm of limits"), std::move(next));
        });
        QWidget* row = labelled(label, field, &card);
        showers_.push_back([field, row, member = member](const SignalSpec& s) {
            row->setVisible(s.alarm.has_value());
            if (s.alarm) field->show(exactText((*s.alarm).*member));
        });
        place(card.fields(), row);
    }
    addSuppression(card);
}

void ChainDrawer::addSuppression(StageCard& card) {
    auto* choice = new Choice(&card);
    choice->setAccessibleName(tr("No alarm while"));
    choice->setToolTip(
        tr("Suppressed by design, as for a pump that is off. What takes more words is said by a rule, which stands "
           "here."));
    QWidget* row = labelled(tr("No alarm while"), choice, &card);
    connect(choice, &QComboBox::activated, this, [this, choice](int i) {
        SignalSpec next = *spec();
        if (!next.alarm || i < 0) return;
        next.alarm->suppress = choice->itemData(i).value<std::optional<Condition>>();
        edit(tr("Change the alarm of limits"), std::move(next));
    });
    showers_.push_back([this, choice, row](const SignalSpec& s) {
        row->setVisible(s.alarm.has_value());
        if (!s.alarm) return;
        const Bench& bench = session_.bench();
        choice->clear();
        const auto add = [&](const QString& words, const std::optional<Condition>& condition) {
            choice->addItem(words, QVariant::fromValue(condition));
            if (condition == s.alarm->suppress) choice->setCurrentIndex(choice->count() - 1);
        };
        add(tr("– (never suppressed)"), std::nullopt);
        for (const auto& other : bench.signals)
            if (other->isState() && other->id != s.id)
                for (const ConditionKind kind : {ConditionKind::off, ConditionKind::on}) {
                    const Condition condition{.kind = kind, .of = other->id};
                    add(shown(conditionWords(bench, condition)), condition);
                }
        for (const auto& rule : bench.rules) {
            const Condition condition{.kind = ConditionKind::rule, .of = rule->id};
            add(shown(conditionWords(bench, condition)), condition);
        }
        if (s.alarm->suppress && !choice->currentData().value<std::optional<Condition>>())
            add(shown(conditionWords(bench, *s.alarm->suppress)), s.alarm->suppress);
    });
    place(card.fields(), row);
}

}  // namespace cruscotto
