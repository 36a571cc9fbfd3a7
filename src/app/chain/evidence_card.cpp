// What speaks for and against a reading, and what can be asked of it: a part of the chain drawer.
#include <QComboBox>
#include <QPushButton>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/theme.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/parsed.h"
#include "core/base/units.h"
#include "devices/device_kind.h"

namespace cruscotto {

namespace {

/// Rich text: the word, how sure and since when on one line, the grounds below, what to do below that.
QString saidOf(const std::vector<Evidence>& evidence, Instant now) {
    QStringList parts;
    for (const Evidence& e : evidence) {
        const DoubtKind& kind = doubtKind(e.doubt);
        const bool good = e.doubt == Doubt::connected;
        const auto sentence = [](const QString& words) {
            return (words.left(1).toUpper() + words.mid(1)).toHtmlEscaped();
        };
        const double past = (now - e.since).seconds();
        QString said =
            QStringLiteral(
                "<p style=\"margin:0 0 6px 0\"><span style=\"color:%1\">%2</span> <b>%3</b> "
                "<span style=\"color:%4\">· %5, %6</span><br>%7")
                .arg(good ? theme().ink.name() : theme().amber.name(),
                     good         ? QStringLiteral("●")
                     : kind.aloud ? QStringLiteral("▲")
                                  : QStringLiteral("△"),
                     sentence(shown(kind.word)), theme().muted.name(), shown(surenessWord(e.sure)).toHtmlEscaped(),
                     past < 1 ? ChainDrawer::tr("just now")
                              : ChainDrawer::tr("for %1 s").arg(shown(shortNumber(std::floor(past)))),
                     sentence(shown(e.grounds)));
        if (!kind.remedy.empty())
            said += QStringLiteral("<br><span style=\"color:%1\">%2</span>")
                        .arg(theme().muted.name(), shown(kind.remedy).toHtmlEscaped());
        parts << said + QStringLiteral("</p>");
    }
    return parts.join(QString());
}

}  // namespace

void ChainDrawer::addEvidence(QVBoxLayout* column) {
    const SignalSpec* s = spec();
    auto* card = new StageCard(tr("Evidence"), column->parentWidget());
    evidence_ = new QLabel(card);
    evidence_->setObjectName("evidence");
    evidence_->setAccessibleName(tr("Evidence"));
    evidence_->setWordWrap(true);
    evidence_->setTextFormat(Qt::RichText);
    evidence_->setTextInteractionFlags(Qt::TextSelectableByMouse);
    card->fields()->addWidget(evidence_);
    column->addWidget(card);
    if (session_.isRun() || s->isState() || isDigital(s->kind)) return;
    auto* told = new Field(tr("Where it should stand now"), card);
    told->setPlaceholderText(tr("as 0"));
    told->setToolTip(
        tr("What it must read at this moment, by what you have connected: the last second is held against "
           "it. Nothing takes that back."));
    connect(told, &Field::taken, this, [this, told](const QString& text) {
        double v = 0;
        const bool none = text.trimmed().isEmpty();
        const bool fine = none || parseNumber(text.toStdString(), v);
        told->markWrong(!fine, tr("A number, or nothing"));
        const SignalSpec* now = spec();
        if (!fine || !now || !session_.engine()) return;
        session_.engine()->tell(now->id, none ? std::nullopt : std::optional(v), session_.expandedOf(*now));
    });
    place(card->fields(),
          labelled(unitText(s->unit()).empty() ? tr("It is now at")
                                               : tr("It is now at, in %1").arg(shown(unitText(s->unit()))),
                   told, card));
    const DeviceSpec* device = session_.bench().device(s->device);
    const DeviceKind* kind = device ? deviceKind(device->kind) : nullptr;
    if (s->kind != ChannelKind::analogInput || !kind || !kind->setup) return;
    const auto settings = kind->setup(device->settings, s->terminal, requestsOf(session_.bench(), device->id));
    const TerminalSetting* load = probeAmong(settings, s->setup);
    if (!load) return;
    auto* check = new QPushButton(tr("Check the connection"), card);
    check->setObjectName("checkConnection");
    check->setToolTip(tr("Pulls the input to %1 V through %2 kΩ for two seconds, and looks whether anything holds it.")
                          .arg(shown(shortNumber(load->probe->volts)), shown(threeDigits(load->probe->ohms / 1000))));
    connect(check, &QPushButton::clicked, this, [this] {
        if (const SignalSpec* now = spec(); now && session_.engine()) session_.engine()->checkConnection(now->id);
    });
    place(card->fields(), labelled(tr("Is anything there?"), check, card));
}

void ChainDrawer::showEvidence(Instant t) {
    const SignalSpec* s = spec();
    if (!evidence_ || !s) return;
    const auto evidence = session_.source().evidenceAt(s->id, t);
    const QString said = evidence.empty() ? tr("Nothing speaks against this reading.") : saidOf(evidence, t);
    if (said != evidence_->text()) evidence_->setText(said);
}

void ChainDrawer::addAgreement(StageCard& card) {
    const SignalSpec* s = spec();
    std::vector<std::string> ids{""};
    auto* with = combo(tr("Should agree with"), &card);
    with->addItem(tr("no other signal"));
    for (const auto& other : session_.bench().signals) {
        if (other->id == s->id || other->isState() || isOutput(other->kind)) continue;
        if (!convertUnit(other->unit(), s->unit())) continue;
        ids.push_back(other->id);
        with->addItem(shown(other->name));
    }
    if (ids.size() == 1) {
        delete with;
        return;
    }
    with->setToolTip(tr("Another signal that should read the same. Where the two differ, both chains say so."));
    connect(with, &QComboBox::activated, this, [this, ids](int i) {
        SignalSpec next = *spec();
        constexpr double share = 0.05;  // of the scale, to begin with
        const Scale scale = session_.seen().scaleOf(next);
        if (i <= 0)
            next.agrees.reset();
        else if (next.agrees)
            next.agrees->with = ids[static_cast<std::size_t>(i)];
        else
            next.agrees =
                AgreesSpec{ids[static_cast<std::size_t>(i)], std::max(share * (scale.high - scale.low), 1e-9)};
        edit(tr("Change what it should agree with"), std::move(next));
    });
    place(card.fields(), labelled(tr("Should agree with"), with, &card));
    const auto number = [&](const QString& label, double AgreesSpec::*member, bool above) {
        auto* field = new Field(label, &card);
        connect(field, &Field::taken, this, [this, field, member, above](const QString& text) {
            double v = 0;
            SignalSpec next = *spec();
            constexpr double most = 86400;
            const bool fine = parseNumber(text.toStdString(), v) && (above ? v > 0 : v >= 0 && v <= most);
            field->markWrong(!fine, above ? tr("A number above 0") : tr("Seconds, 0 to 86400"));
            if (!fine || !next.agrees) return;
            (*next.agrees).*member = v;
            edit(tr("Change what it should agree with"), std::move(next));
        });
        place(card.fields(), labelled(label, field, &card));
        return field;
    };
    auto* within =
        number(unitText(s->unit()).empty() ? tr("within") : tr("within, in %1").arg(shown(unitText(s->unit()))),
               &AgreesSpec::within, true);
    auto* seconds = number(tr("else, after s"), &AgreesSpec::forSeconds, false);
    seconds->setToolTip(tr("They may differ for so long before it is said."));
    showers_.push_back([with, within, seconds, ids](const SignalSpec& now) {
        const auto at = now.agrees ? std::ranges::find(ids, now.agrees->with) : ids.begin();
        with->setCurrentIndex(at == ids.end() ? 0 : static_cast<int>(at - ids.begin()));
        within->parentWidget()->setVisible(now.agrees.has_value());
        seconds->parentWidget()->setVisible(now.agrees.has_value());
        if (!now.agrees) return;
        within->show(shown(shortNumber(now.agrees->within)));
        seconds->show(shown(shortNumber(now.agrees->forSeconds)));
    });
}

}  // namespace cruscotto
