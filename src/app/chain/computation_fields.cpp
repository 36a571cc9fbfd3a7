// Of a computed signal: what is worked out, when, and from which other signals: a part of the chain drawer.
#include <QComboBox>
#include <QHBoxLayout>
#include <QPushButton>
#include <QToolButton>

#include "app/chain/chain_drawer.h"
#include "app/document/computed_edits.h"
#include "app/widgets/fields.h"
#include "app/widgets/form.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

const StageSources* sourcesIn(const SignalSpec& s, std::size_t stage, std::size_t field) {
    if (stage >= s.chain.size() || field >= s.chain[stage].kind().fields.size()) return nullptr;
    return std::get_if<StageSources>(&s.chain[stage].value(field));
}

}  // namespace

void ChainDrawer::addComputation(QVBoxLayout* column) {
    auto* card = new StageCard(tr("Computed"), column->parentWidget());
    if (session_.isRun()) {
        // Its readings were recorded; how they came about is told.
        QStringList words;
        const auto info = session_.run()->info();
        for (const auto& was : info ? info->computed : std::vector<std::shared_ptr<const SignalSpec>>{}) {
            if (was->id != spec()->id) continue;
            for (const Stage& stage : was->chain) {
                QStringList from;
                for (const WantedSource& wanted : sourcesOf(stage))
                    if (const SignalSpec* s = session_.bench().signal(wanted.source->signal))
                        from << (wanted.source->name.empty()
                                     ? shown(s->name)
                                     : tr("%1 is %2").arg(shown(wanted.source->name), shown(s->name)));
                const QString with = from.isEmpty() ? QString() : tr(" (%1)").arg(from.join(", "));
                words << shown(stageTitle(stage)) + with + ": " + shown(describeStage(stage));
            }
            if (const SignalSpec* clock = session_.bench().signal(was->computed->clock))
                words << tr("Worked out with each sample of %1.").arg(shown(clock->name));
        }
        card->setSentence(words.join('\n'));
        stageCards_.push_back(card);
        column->addWidget(card);
        return;
    }
    const auto change = [this](const QString& effect, auto&& set) {
        SignalSpec next = *spec();
        set(*next.computed);
        if (auto fine = checkNeeded(withSignal(session_.bench(), next), next); !fine)
            return stageCards_[0]->setWrong(shown(fine.error().message));
        edit(effect, std::move(next));
    };
    auto* what = combo(tr("What is worked out"), card);
    std::vector<const StageKind*> kinds;
    for (const StageKind* kind : stageKinds())
        if (kind->group == StageGroup::computation) {
            kinds.push_back(kind);
            what->addItem(shown(kind->title));
        }
    connect(what, &QComboBox::activated, this, [this, kinds](int i) {
        const SignalSpec* now = spec();
        if (!now || &now->chain[0].kind() == kinds[static_cast<std::size_t>(i)]) return;
        SignalSpec next = *now;
        next.chain[0] = otherComputation(session_.bench(), now->chain[0], *kinds[static_cast<std::size_t>(i)]);
        edit(tr("Change computation"), std::move(next));
    });
    showers_.push_back([what, kinds](const SignalSpec& s) {
        const auto it = s.chain.empty() ? kinds.end() : std::ranges::find(kinds, &s.chain[0].kind());
        what->setCurrentIndex(static_cast<int>(it - kinds.begin()));
    });
    card->fields()->addWidget(labelled(tr("What"), what, card));

    auto* clock = combo(tr("When it is worked out"), card);
    std::vector<std::string> ids{""};
    clock->addItem(tr("at a rate of its own"));
    for (const auto& other : session_.bench().signals)
        if (other->id != spec()->id && !isOutput(other->kind)) {
            ids.push_back(other->id);
            clock->addItem(tr("with each sample of %1").arg(shown(other->name)));
        }
    connect(clock, &QComboBox::activated, this, [change, ids](int i) {
        change(tr("Change when it is worked out"),
               [&](ComputedSpec& c) { c.clock = ids[static_cast<std::size_t>(i)]; });
    });
    showers_.push_back([clock, ids](const SignalSpec& s) {
        if (s.computed)
            clock->setCurrentIndex(static_cast<int>(std::ranges::find(ids, s.computed->clock) - ids.begin()));
    });
    card->fields()->addWidget(labelled(tr("When"), clock, card));

    const auto number = [&](const QString& label, double ComputedSpec::*member, double low, double high) {
        numberField(
            *card, label, [member](const SignalSpec& s) { return s.computed ? *s.computed.*member : 0.0; },
            [card, change, member, low, high](double v) {
                if (!(v >= low && v <= high))
                    return card->setWrong(tr("A number from %1 to %2 is expected here.")
                                              .arg(shown(shortNumber(low)), shown(shortNumber(high))));
                card->setWrong({});
                change(tr("Change computation"), [&](ComputedSpec& c) { c.*member = v; });
            });
    };
    if (spec()->computed->clock.empty())
        number(tr("Rate, Hz"), &ComputedSpec::rateHz, slowestComputedHz, fastestComputedHz);
    number(tr("Stale after, s"), &ComputedSpec::oldestSeconds, 0, oldestInputSeconds);
    auto* between = combo(tr("Between two samples of the others"), card);
    between->addItems({tr("the last one holds"), tr("on the line between")});
    connect(between, &QComboBox::activated, this, [change](int i) {
        change(tr("Change computation"), [&](ComputedSpec& c) { c.between = static_cast<ComputedSpec::Between>(i); });
    });
    showers_.push_back([between](const SignalSpec& s) {
        if (s.computed) between->setCurrentIndex(static_cast<int>(s.computed->between));
    });
    card->fields()->addWidget(labelled(tr("Between samples of the others"), between, card));
    showers_.push_back([this, card](const SignalSpec& s) {
        if (!s.computed) return;
        const SignalSpec* of = session_.bench().signal(s.computed->clock);
        const QString when = of ? tr("Worked out with each sample of %1.").arg(shown(of->name))
                                : tr("Worked out %1 times a second.").arg(shown(shortNumber(s.computed->rateHz)));
        card->setSentence(s.computed->oldestSeconds > 0 ? tr("%1 What is older than %2 s makes it stale.")
                                                              .arg(when, shown(shortNumber(s.computed->oldestSeconds)))
                                                        : when);
    });
    stageCards_.push_back(card);
    column->addWidget(card);
}

void ChainDrawer::addSources(StageCard& card, std::size_t i, std::size_t f) {
    const StageField& field = spec()->chain[i].kind().fields[f];
    const std::size_t n = spec()->chain[i].sources(field.key).size();
    for (std::size_t row = 0; row < n; ++row) addSourceRow(card, i, f, row);
    if (!editable() || n >= field.mostRows) return;
    auto* more = new QPushButton(tr("Add a signal"), &card);
    connect(more, &QPushButton::clicked, this, [this, i, f] {
        const StageSources* now = sourcesIn(*spec(), i, f);
        if (!now) return;
        StageSources all = *now;
        all.push_back(nextSource(session_.bench(), *spec(), all));
        editStage(i, spec()->chain[i].with(f, std::move(all)), tr("Add a signal"));
    });
    card.fields()->addWidget(more, 0, Qt::AlignLeft);
}

/// The signal, or a number; the unit in which it is taken; and in a formula its name.
void ChainDrawer::addSourceRow(StageCard& card, std::size_t i, std::size_t f, std::size_t row) {
    const auto source = [i, f, row](const SignalSpec& s) -> StageSource {
        const StageSources* all = sourcesIn(s, i, f);
        return all && row < all->size() ? (*all)[row] : StageSource{};
    };
    const auto set = [this, i, f, row](const StageSource& next) {
        const StageSources* now = sourcesIn(*spec(), i, f);
        if (!now || row >= now->size()) return;
        StageSources all = *now;
        all[row] = next;
        editStage(i, spec()->chain[i].with(f, std::move(all)), tr("Change signal"));
    };
    const StageSource first = source(*spec());
    auto* line = new QWidget(&card);
    auto* fields = new QHBoxLayout(line);
    fields->setContentsMargins(0, 0, 0, 0);
    fields->setSpacing(6);
    if (!first.name.empty()) {
        auto* name = new Field(tr("Name in the formula"), line);
        name->setFixedWidth(52);
        connect(name, &Field::taken, this, [this, source, set](const QString& typed) {
            StageSource next = source(*spec());
            next.name = typed.trimmed().toStdString();
            set(next);
        });
        showers_.push_back([name, source](const SignalSpec& s) { name->show(shown(source(s).name)); });
        fields->addWidget(name);
    }
    auto* from = combo(tr("Signal %1").arg(row + 1), line);
    std::vector<std::string> ids{""};
    from->addItem(tr("a fixed value"));
    for (const auto& other : session_.bench().signals)
        if (other->id != spec()->id) {
            ids.push_back(other->id);
            from->addItem(shown(other->name));
        }
    connect(from, &QComboBox::activated, this, [this, ids, source, set](int c) {
        StageSource next = source(*spec());
        next.signal = ids[static_cast<std::size_t>(c)];
        const SignalSpec* other = session_.bench().signal(next.signal);
        if (other && !convertUnit(other->unit(), next.unit)) next.unit = other->unit();
        set(next);
    });
    // What is too long for the panel is cut in the box, and whole in its list.
    from->setMinimumWidth(60);
    from->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
    fields->addWidget(from, 1);
    if (first.signal.empty()) {
        auto* constant = new Field(tr("Fixed value"), line);
        constant->setFixedWidth(64);
        connect(constant, &Field::taken, this, [this, constant, source, set](const QString& typed) {
            double v = 0;
            const bool fine = parseNumber(typed.toStdString(), v);
            constant->markWrong(!fine, fine ? QString() : tr("A number is expected here"));
            StageSource next = source(*spec());
            next.constant = v;
            if (fine) set(next);
        });
        showers_.push_back([constant, source](const SignalSpec& s) { constant->show(exactText(source(s).constant)); });
        fields->addWidget(constant);
    }
    auto* unit = combo(tr("Unit in which it is taken"), line);
    std::vector<std::string> units = compatibleUnits(first.unit);
    if (units.empty()) units = {first.unit};
    for (const std::string& u : units) unit->addItem(u == "1" ? tr("no unit") : shown(unitText(u)));
    connect(unit, &QComboBox::activated, this, [this, units, source, set](int c) {
        StageSource next = source(*spec());
        next.unit = units[static_cast<std::size_t>(c)];
        set(next);
    });
    unit->setFixedWidth(82);
    fields->addWidget(unit);
    const bool more = sourcesIn(*spec(), i, f)->size() > spec()->chain[i].kind().fields[f].fewestRows;
    if (more && editable()) {
        auto* away = closeButton(tr("Take signal %1 out").arg(row + 1));
        away->setFixedWidth(26);
        away->setStyleSheet("padding: 4px 0;");
        connect(away, &QToolButton::clicked, this, [this, i, f, row] {
            const StageSources* now = sourcesIn(*spec(), i, f);
            if (!now || row >= now->size()) return;
            StageSources all = *now;
            all.erase(all.begin() + static_cast<std::ptrdiff_t>(row));
            editStage(i, spec()->chain[i].with(f, std::move(all)), tr("Take a signal out"));
        });
        fields->addWidget(away);
    }
    showers_.push_back([from, unit, ids, units, source](const SignalSpec& s) {
        const StageSource now = source(s);
        from->setCurrentIndex(static_cast<int>(std::ranges::find(ids, now.signal) - ids.begin()));
        unit->setCurrentIndex(static_cast<int>(std::ranges::find(units, now.unit) - units.begin()));
    });
    card.fields()->addWidget(line);
}

void ChainDrawer::addReset(StageCard& card, std::size_t i, std::size_t f) {
    if (!editable()) return;
    auto* back = new QPushButton(shown(spec()->chain[i].kind().fields[f].title), &card);
    back->setToolTip(tr("Begins anew now; what was recorded before stays as it was"));
    connect(back, &QPushButton::clicked, this, [this, i, f] {
        const Stage& stage = spec()->chain[i];
        editStage(i, stage.with(f, std::get<double>(stage.value(f)) + 1), tr("Set back"));
    });
    place(card.fields(), back);
}

}  // namespace cruscotto
