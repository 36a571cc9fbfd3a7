// What can be typed and chosen in a stage, made from the fields that its kind declares: a part of the chain drawer.
#include <QComboBox>
#include <QDate>
#include <QPushButton>
#include <cmath>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

/// The field's text in the signal as it is now; empty where the chain is no longer as it was.
std::string textIn(const SignalSpec& s, std::size_t stage, std::size_t field) {
    if (stage >= s.chain.size() || field >= s.chain[stage].kind().fields.size()) return {};
    const auto* text = std::get_if<std::string>(&s.chain[stage].value(field));
    return text ? *text : std::string();
}

}  // namespace

bool ChainDrawer::capture(std::size_t i, const StageCapture& what) {
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
    // No more digits than can be read.
    Stage next = spec()->chain[i].with(what.field, QString::number(taken.means[i], 'g', 9).toDouble());
    const QString day = QDate::currentDate().toString(Qt::ISODate);
    const QString note = taken.samples > 1
                             ? tr("captured %1, mean of %n readings", {}, static_cast<int>(taken.samples)).arg(day)
                             : tr("captured %1").arg(day);
    if (!what.note.empty()) next = next.with(what.note, note.toStdString());
    editStage(i, next, tr("Capture point"));
    return true;
}

void ChainDrawer::addChoice(StageCard& card, std::size_t i, std::size_t f, const QStringList& words,
                            const std::vector<std::string>& kept) {
    const QString label = shown(spec()->chain[i].kind().fields[f].title);
    auto* box = combo(label, &card);
    box->addItems(words);
    connect(box, &QComboBox::activated, this, [this, i, f, kept, label](int c) {
        editStage(i, spec()->chain[i].with(f, kept[static_cast<std::size_t>(c)]), tr("Change %1").arg(label.toLower()));
    });
    showers_.push_back([box, kept, i, f](const SignalSpec& s) {
        box->setCurrentIndex(static_cast<int>(std::ranges::find(kept, textIn(s, i, f)) - kept.begin()));
    });
    place(card.fields(), labelled(label, box, &card));
}

void ChainDrawer::addStageField(StageCard& card, std::size_t i, std::size_t f) {
    const Stage& stage = spec()->chain[i];
    const StageField& field = stage.kind().fields[f];
    const QString title = shown(field.title);
    const QString effect = tr("Change %1").arg(title.toLower());
    switch (field.type) {
        case StageField::Type::number:
        case StageField::Type::whole: {
            const QString label = field.unit.empty() ? title : title + ", " + shown(unitText(field.unit));
            Field* typed = numberField(
                card, label,
                [i, f](const SignalSpec& s) {
                    if (i >= s.chain.size() || f >= s.chain[i].kind().fields.size()) return 0.0;
                    const auto* number = std::get_if<double>(&s.chain[i].value(f));
                    return number ? *number : 0.0;
                },
                [this, i, f, effect](double v) { editStage(i, spec()->chain[i].with(f, v), effect); });
            typed->setObjectName(shown(field.key));
            return;
        }
        case StageField::Type::choice: {
            QStringList words;
            std::vector<std::string> kept;
            for (const StageField::Choice& c : field.choices) {
                words << shown(c.title);
                kept.push_back(c.key);
            }
            return addChoice(card, i, f, words, kept);
        }
        case StageField::Type::likeUnit: {
            QStringList words;
            const auto units = compatibleUnits(unitBefore(spec()->chain, i, spec()->kind));
            for (const std::string& u : units) words << shown(unitText(u));
            return addChoice(card, i, f, words, units);
        }
        case StageField::Type::signal: {
            QStringList words{tr("none")};
            std::vector<std::string> kept{""};
            for (const auto& other : session_.bench().signals)
                if (other->id != spec()->id) {
                    words << shown(other->name);
                    kept.push_back(other->id);
                }
            return addChoice(card, i, f, words, kept);
        }
        case StageField::Type::unit:
        case StageField::Type::formula:
        case StageField::Type::note:
            break;
    }
    const bool isUnit = field.type == StageField::Type::unit;
    addField(
        card, title,
        [i, f, isUnit](const SignalSpec& s) {
            const std::string text = textIn(s, i, f);
            return shown(isUnit && i < s.chain.size() ? unitText(text) : text);
        },
        [this, i, f, isUnit, effect](const QString& typed) {
            if (!spec() || i >= spec()->chain.size()) return;
            const std::string text = typed.toStdString();
            editStage(i, spec()->chain[i].with(f, isUnit ? unitFromTyped(text) : text), effect);
        });
}

void ChainDrawer::addStageFields(StageCard& card, std::size_t i) {
    const StageKind& kind = spec()->chain[i].kind();
    for (std::size_t f = 0; f < kind.fields.size(); ++f) addStageField(card, i, f);
    if (!editable()) return;
    for (const StageCapture& c : kind.captures) {
        auto* take = new QPushButton(shown(c.title), &card);
        take->setToolTip(tr("Takes the mean, over the last second, of what comes into this stage"));
        connect(take, &QPushButton::clicked, this, [this, i, &c, &card] {
            if (!capture(i, c)) return;
            auto* next = card.findChild<Field*>(shown(c.typedNext));
            next->setFocus();  // what it was in truth is typed next
            next->selectAll();
        });
        place(card.fields(), take);
    }
}

}  // namespace cruscotto
