// What can be typed and chosen in each kind of stage: a part of the chain drawer.
#include <QComboBox>
#include <QDate>
#include <QPushButton>
#include <cmath>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"

namespace cruscotto {

bool ChainDrawer::capturePoint(std::size_t i, double TwoPoints::*member) {
    const Instant t = session_.shownAt();
    const Source& source = session_.source();
    const std::string id = signal_.toStdString();
    const Quality quality = source.at(id, t).quality;
    StageMeans taken;
    if (severity(quality) < severity(Quality::openSensor)) {
        taken = source.stageMeans(id, {t - seconds(1), t + Duration{1}});
        if (taken.samples == 0) taken = {source.stagesAt(id, t), 1};  // a slow one
    }
    if (i >= taken.means.size() || std::isnan(taken.means[i])) {
        stageCards_[i + 1]->setWrong(tr("There is no reading to take now."));
        return false;
    }
    auto next = std::get<TwoPoints>(spec()->chain[i]);
    next.*member = QString::number(taken.means[i], 'g', 9).toDouble();  // no more than can be read
    const QString day = QDate::currentDate().toString(Qt::ISODate);
    next.note =
        (taken.samples > 1 ? tr("captured %1, mean of %n readings", {}, static_cast<int>(taken.samples)).arg(day)
                           : tr("captured %1").arg(day))
            .toStdString();
    editStage(i, next, tr("Capture point"));
    return true;
}

void ChainDrawer::addStageFields(StageCard& card, std::size_t i) {
    // A number inside the stage, by a pointer to the member that holds it.
    const auto number = [&]<class S, class N>(const QString& label, N S::*member) {
        return numberField(
            card, label,
            [i, member](const SignalSpec& s) {
                return i < s.chain.size() && std::holds_alternative<S>(s.chain[i])
                           ? static_cast<double>(std::get<S>(s.chain[i]).*member)
                           : 0.0;
            },
            [this, i, member, label](double v) {
                S next = std::get<S>(spec()->chain[i]);
                next.*member = static_cast<N>(std::is_integral_v<N> ? std::clamp(v, -1e9, 1e9) : v);
                editStage(i, next, tr("Change %1").arg(label.toLower()));
            });
    };
    const Stage& stage = spec()->chain[i];
    if (std::holds_alternative<CountsToVolts>(stage)) {
        number(tr("Bits"), &CountsToVolts::bits);
        auto* coding = combo(tr("Coding"), &card);
        coding->addItems({tr("two's complement"), tr("unipolar")});
        connect(coding, &QComboBox::activated, this, [this, i](int c) {
            auto next = std::get<CountsToVolts>(spec()->chain[i]);
            next.coding = c ? CountsToVolts::Coding::unipolar : CountsToVolts::Coding::twosComplement;
            editStage(i, next, tr("Change coding"));
        });
        showers_.push_back([coding, i](const SignalSpec& s) {
            if (i < s.chain.size())
                if (const auto* c = std::get_if<CountsToVolts>(&s.chain[i]))
                    coding->setCurrentIndex(c->coding == CountsToVolts::Coding::unipolar);
        });
        place(card.fields(), labelled(tr("Coding"), coding, &card));
        number(tr("From, V"), &CountsToVolts::low);
        number(tr("To, V"), &CountsToVolts::high);
    } else if (std::holds_alternative<SlopeOffset>(stage)) {
        number(tr("Slope"), &SlopeOffset::slope);
        number(tr("Offset"), &SlopeOffset::offset);
        unitField(
            card, i, [](const Stage& s) { return std::get<SlopeOffset>(s).unit; },
            [](Stage& s, std::string u) { std::get<SlopeOffset>(s).unit = std::move(u); });
    } else if (std::holds_alternative<TwoPoints>(stage)) {
        const auto capture = [&](const QString& label, double TwoPoints::*member, Field* is) {
            auto* take = new QPushButton(label, &card);
            take->setToolTip(tr("Takes the mean, over the last second, of what comes into this stage"));
            connect(take, &QPushButton::clicked, this, [this, i, member, is] {
                if (!capturePoint(i, member)) return;
                is->setFocus();  // what it was in truth is typed next
                is->selectAll();
            });
            place(card.fields(), take);
        };
        number(tr("Point 1: in"), &TwoPoints::x1);
        Field* first = number(tr("Point 1: is"), &TwoPoints::y1);
        number(tr("Point 2: in"), &TwoPoints::x2);
        Field* second = number(tr("Point 2: is"), &TwoPoints::y2);
        if (editable()) {
            capture(tr("Capture point 1"), &TwoPoints::x1, first);
            capture(tr("Capture point 2"), &TwoPoints::x2, second);
        }
        unitField(
            card, i, [](const Stage& s) { return std::get<TwoPoints>(s).unit; },
            [](Stage& s, std::string u) { std::get<TwoPoints>(s).unit = std::move(u); });
        addField(
            card, tr("Date and reference"),
            [i](const SignalSpec& s) {
                return i < s.chain.size() && std::holds_alternative<TwoPoints>(s.chain[i])
                           ? shown(std::get<TwoPoints>(s.chain[i]).note)
                           : QString();
            },
            [this, i](const QString& text) {
                auto next = std::get<TwoPoints>(spec()->chain[i]);
                next.note = text.toStdString();
                editStage(i, next, tr("Change note"));
            });
    } else if (std::holds_alternative<Formula>(stage)) {
        addField(
            card, tr("Formula over x"),
            [i](const SignalSpec& s) {
                return i < s.chain.size() && std::holds_alternative<Formula>(s.chain[i])
                           ? shown(std::get<Formula>(s.chain[i]).text)
                           : QString();
            },
            [this, i](const QString& text) {
                auto next = std::get<Formula>(spec()->chain[i]);
                next.text = text.toStdString();
                editStage(i, next, tr("Change formula"));
            });
        unitField(
            card, i, [](const Stage& s) { return std::get<Formula>(s).unit; },
            [](Stage& s, std::string u) { std::get<Formula>(s).unit = std::move(u); });
    } else if (std::holds_alternative<MovingMean>(stage)) {
        number(tr("Samples"), &MovingMean::samples);
    } else if (std::holds_alternative<ConvertUnit>(stage)) {
        auto* unit = combo(tr("Unit"), &card);
        std::string before = rawUnit(spec()->kind);
        for (std::size_t k = 0; k < i; ++k) before = unitAfter(spec()->chain[k], before);
        const auto units = compatibleUnits(before);
        for (const std::string& u : units) unit->addItem(shown(unitText(u)));
        connect(unit, &QComboBox::activated, this, [this, i, units](int c) {
            editStage(i, ConvertUnit{units[static_cast<std::size_t>(c)]}, tr("Change unit"));
        });
        showers_.push_back([unit, units, i](const SignalSpec& s) {
            if (i < s.chain.size())
                if (const auto* c = std::get_if<ConvertUnit>(&s.chain[i]))
                    unit->setCurrentIndex(
                        static_cast<int>(std::find(units.begin(), units.end(), c->unit) - units.begin()));
        });
        place(card.fields(), labelled(tr("Unit"), unit, &card));
    } else if (std::holds_alternative<ValidRange>(stage)) {
        number(tr("From"), &ValidRange::low);
        number(tr("To"), &ValidRange::high);
    } else if (std::holds_alternative<PulseCounter>(stage)) {
        auto* mode = combo(tr("Reads as"), &card);
        mode->addItems({tr("frequency"), tr("turns a minute"), tr("count")});
        connect(mode, &QComboBox::activated, this, [this, i](int m) {
            auto next = std::get<PulseCounter>(spec()->chain[i]);
            next.mode = static_cast<PulseCounter::Mode>(m);
            editStage(i, next, tr("Change counter"));
        });
        showers_.push_back([mode, i](const SignalSpec& s) {
            if (i < s.chain.size())
                if (const auto* c = std::get_if<PulseCounter>(&s.chain[i]))
                    mode->setCurrentIndex(static_cast<int>(c->mode));
        });
        place(card.fields(), labelled(tr("Reads as"), mode, &card));
        number(tr("Pulses per turn"), &PulseCounter::pulsesPerTurn);
        number(tr("Silence, s"), &PulseCounter::silenceSeconds);
        number(tr("Gate, s"), &PulseCounter::gateSeconds);
    }
}

}  // namespace cruscotto
