// What can be typed and chosen in a stage, made from the fields that its kind declares: a part of the chain drawer.
#include <QComboBox>
#include <QDate>
#include <QFileDialog>
#include <QPushButton>
#include <QRegularExpression>
#include <cmath>

#include "app/chain/chain_drawer.h"
#include "app/widgets/fields.h"
#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/base/units.h"
#include "core/base/whole_file.h"
#include "core/chain/calibration_sheet.h"
#include "core/chain/stage_kind.h"

namespace cruscotto {

namespace {

/// The field's text in the signal as it is now; empty where the chain is no longer as it was.
std::string textIn(const SignalSpec& s, std::size_t stage, std::size_t field) {
    if (stage >= s.chain.size() || field >= s.chain[stage].kind().fields.size()) return {};
    const auto* text = std::get_if<std::string>(&s.chain[stage].value(field));
    return text ? *text : std::string();
}

/// Long words have a row of their own.
void placeChoice(StageCard& card, const QString& label, QComboBox* box, const QStringList& words) {
    constexpr int beside = 13;
    const bool isLong = std::ranges::any_of(words, [](const QString& w) { return w.size() > beside; });
    QWidget* holder = labelled(label, box, &card);
    if (isLong)
        card.fields()->addWidget(holder);
    else
        place(card.fields(), holder);
}

QString textOf(const StageTable& rows) {
    QStringList lines;
    for (const auto& row : rows) {
        QStringList numbers;
        for (const double v : row) numbers << exactText(v);
        lines << numbers.join("  ");
    }
    return lines.join('\n');
}

/// The first columns of each line of a CSV file: apart by commas, semicolons, tabs or blanks, with decimal commas where
/// commas do not part. Lines that do not begin with a number are passed over.
Result<StageTable> tableFromCsv(const std::string& content, std::size_t columns) {
    StageTable rows;
    const QString all = QString::fromStdString(content);
    const bool semicolons = all.contains(';') || all.contains('\t');
    for (const QString& line : all.split(QRegularExpression("[\r\n]+"), Qt::SkipEmptyParts)) {
        const QStringList cells = line.split(QRegularExpression(semicolons ? "[;\t]" : "[,\\s]+"), Qt::SkipEmptyParts);
        std::vector<double> row;
        for (const QString& cell : cells) {
            double v = 0;
            if (row.size() == columns || !parseNumber(cell.trimmed().remove('"').replace(',', '.').toStdString(), v))
                break;
            row.push_back(v);
        }
        if (row.empty()) continue;
        if (row.size() < columns)
            return failure("A row has {0} numbers instead of {1}: {2}", row.size(), columns,
                           line.left(40).toStdString());
        rows.push_back(std::move(row));
    }
    if (rows.empty()) return failure("No row of {0} numbers is in this file. Is it a table?", columns);
    return rows;
}

/// Rows as they are typed or pasted from a spreadsheet; of one column also all in a line. Nothing where they do not
/// read.
std::optional<StageTable> rowsTyped(const QString& typed, std::size_t columns) {
    StageTable rows;
    for (const QString& line : typed.split('\n')) {
        std::vector<double> row;
        for (const QString& cell : line.split(QRegularExpression("[\\s;]+"), Qt::SkipEmptyParts)) {
            double v = 0;
            if (!parseNumber(cell.toStdString(), v)) return std::nullopt;
            row.push_back(v);
        }
        if (columns == 1)
            for (const double v : row) rows.push_back({v});
        else if (!row.empty())
            rows.push_back(std::move(row));
    }
    return rows;
}

}  // namespace

/// A source is chosen from the signals that read in such a unit, or typed as a number.
void ChainDrawer::addSource(StageCard& card, std::size_t i, std::size_t f) {
    const StageField& field = spec()->chain[i].kind().fields[f];
    const QString title = shown(field.title);
    const QString effect = tr("Change %1").arg(title.toLower());
    auto* from = combo(title, &card);
    std::vector<std::string> ids{""};
    from->addItem(tr("a fixed value"));
    for (const auto& other : session_.bench().signals)
        if (other->id != spec()->id && convertUnit(other->unit(), field.unit)) {
            from->addItem(shown(other->name));
            ids.push_back(other->id);
        }
    const auto source = [i, f](const SignalSpec& s) -> StageSource {
        const bool there = i < s.chain.size() && f < s.chain[i].kind().fields.size();
        const auto* now = there ? std::get_if<StageSource>(&s.chain[i].value(f)) : nullptr;
        return now ? *now : StageSource{};
    };
    connect(from, &QComboBox::activated, this, [this, i, f, ids, source, effect](int c) {
        StageSource next = source(*spec());
        next.signal = ids[static_cast<std::size_t>(c)];
        editStage(i, spec()->chain[i].with(f, next), effect);
    });
    QStringList names;
    for (int k = 0; k < from->count(); ++k) names << from->itemText(k);
    placeChoice(card, title, from, names);
    Field* constant = numberField(
        card, tr("Fixed, %1").arg(shown(unitText(field.unit))),
        [source, unit = field.unit](const SignalSpec& s) {
            const StageSource now = source(s);
            const auto in = convertUnit(now.unit.empty() ? unit : now.unit, unit);
            return in ? now.constant * in->factor + in->offset : now.constant;
        },
        [this, i, f, source, effect](double v) {
            StageSource next = source(*spec());
            next.constant = v;
            next.unit.clear();
            editStage(i, spec()->chain[i].with(f, next), effect);
        });
    showers_.push_back([from, constant, ids, source](const SignalSpec& s) {
        const StageSource now = source(s);
        const auto at = std::ranges::find(ids, now.signal);
        from->setCurrentIndex(at == ids.end() ? -1 : static_cast<int>(at - ids.begin()));
        constant->parentWidget()->setVisible(now.signal.empty());
    });
}

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
        cardOf(i)->setWrong(tr("There is no reading to take now."));
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
    placeChoice(card, label, box, words);
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
        case StageField::Type::source:
            return addSource(card, i, f);
        case StageField::Type::sources:
            return addSources(card, i, f);
        case StageField::Type::resets:
            return addReset(card, i, f);
        case StageField::Type::list:
        case StageField::Type::table: {
            auto* lines = new LinesField(title, {}, &card);
            connect(lines, &LinesField::taken, this, [this, i, f, effect, title](const QString& typed) {
                if (const auto rows = rowsTyped(typed, spec()->chain[i].kind().fields[f].columns))
                    editStage(i, spec()->chain[i].with(f, *rows), effect);
                else
                    cardOf(i)->setWrong(
                        tr("%1: one row a line, its numbers apart by blanks, tabs or semicolons.").arg(title));
            });
            showers_.push_back([lines, i, f](const SignalSpec& s) {
                if (i >= s.chain.size() || f >= s.chain[i].kind().fields.size() || lines->hasFocus()) return;
                if (const auto* rows = std::get_if<StageTable>(&s.chain[i].value(f))) lines->show(textOf(*rows));
            });
            card.fields()->addWidget(labelled(title, lines, &card));
            if (!editable() || field.type != StageField::Type::table) return;
            auto* file = new QPushButton(tr("From a CSV file…"), &card);
            file->setToolTip(
                tr("Its first columns, a row a line; lines that are no numbers, such as headings, are passed over"));
            connect(file, &QPushButton::clicked, this, [this, i, f, effect] {
                const QString path =
                    QFileDialog::getOpenFileName(this, tr("Table from a CSV file"), session_.folderToShow(),
                                                 tr("Tables (*.csv *.txt *.tsv);;All files (*)"));
                if (path.isEmpty()) return;
                const auto content = readWholeFile(path.toStdString(), std::size_t{4} << 20);
                const auto rows = content ? tableFromCsv(content.value(), spec()->chain[i].kind().fields[f].columns)
                                          : Result<StageTable>(content.error());
                if (!rows) return cardOf(i)->setWrong(shown(rows.error().message));
                editStage(i, spec()->chain[i].with(f, rows.value()), effect);
            });
            card.fields()->addWidget(file, 0, Qt::AlignLeft);
            return;
        }
        case StageField::Type::points:
        case StageField::Type::sheets:
            return;  // on the stage's own page
        case StageField::Type::unit:
        case StageField::Type::formula:
        case StageField::Type::note:
            break;
    }
    const bool isUnit = field.type == StageField::Type::unit;
    Field* typed = addField(
        card, title,
        [i, f, isUnit](const SignalSpec& s) {
            const std::string text = textIn(s, i, f);
            return shown(isUnit && i < s.chain.size() ? unitText(text) : text);
        },
        [this, i, f, isUnit, effect](const QString& words) {
            if (!spec() || i >= spec()->chain.size()) return;
            const std::string text = words.toStdString();
            const bool found = words.trimmed().isEmpty() && spec()->chain[i].kind().group == StageGroup::computation;
            editStage(i, spec()->chain[i].with(f, isUnit && !found ? unitFromTyped(text) : text), effect);
        });
    if (isUnit && stage.kind().group == StageGroup::computation) typed->setPlaceholderText(tr("worked out"));
}

void ChainDrawer::addStageFields(StageCard& card, std::size_t i) {
    const StageKind& kind = spec()->chain[i].kind();
    if (kind.ownPage) {
        auto* state = new QLabel(&card);
        state->setObjectName("muted");
        state->setWordWrap(true);
        showers_.push_back([this, state, i](const SignalSpec& s) {
            if (i < s.chain.size() && s.chain[i].kind().ownPage)
                state->setText(shown(calibrationState(sheetOf(s.chain[i]), session_.today())));
        });
        auto* open = new QPushButton(tr("Open the sheet…"), &card);
        connect(open, &QPushButton::clicked, this, [this] { Q_EMIT sheetAsked(signal_); });
        card.fields()->addWidget(state);
        card.fields()->addWidget(open, 0, Qt::AlignLeft);
        return;
    }
    for (std::size_t f = 0; f < kind.fields.size(); ++f)
        if (matters(spec()->chain[i], kind.fields[f])) addStageField(card, i, f);
    if (!editable()) return;
    for (const StageCapture& c : kind.captures) {
        auto* take = new QPushButton(shown(c.title), &card);
        take->setToolTip(tr("Takes the mean, over the last second, of what comes into this stage"));
        connect(take, &QPushButton::clicked, this, [this, i, &c, &card] {
            if (!capture(i, c) || c.typedNext.empty()) return;
            auto* next = card.findChild<Field*>(shown(c.typedNext));
            next->setFocus();  // what it was in truth is typed next
            next->selectAll();
        });
        place(card.fields(), take);
        if (!c.typedNext.empty()) continue;
        auto* back = new QPushButton(tr("Take it back"), &card);
        connect(back, &QPushButton::clicked, this, [this, i, &c] {
            const Stage first(spec()->chain[i].kind());
            Stage next = spec()->chain[i].with(c.field, first.number(c.field));
            if (!c.note.empty()) next = next.with(c.note, std::string());
            editStage(i, next, tr("Take it back"));
        });
        place(card.fields(), back);
    }
}

}  // namespace cruscotto
