#include "app/device/parameter_list.h"

#include <QComboBox>
#include <QLabel>
#include <algorithm>

#include "app/widgets/fields.h"
#include "app/widgets/words.h"

namespace cruscotto {

ParameterList::ParameterList(QWidget* parent) : QWidget(parent) {
    setAccessibleName(tr("Settings in the device"));
    column_ = new QVBoxLayout(this);
    column_->setContentsMargins(0, 8, 0, 0);
    column_->setSpacing(4);
    difference_ = new QWidget(this);
    auto* difference = new QVBoxLayout(difference_);
    difference->setContentsMargins(0, 0, 0, 4);
    differenceText_ = new QLabel;
    differenceText_->setObjectName("wrong");
    differenceText_->setWordWrap(true);
    difference->addWidget(differenceText_);
    auto* both = new QHBoxLayout;
    auto* write = new QPushButton(tr("Write the bench's"));
    connect(write, &QPushButton::clicked, this, [this] {
        for (const DeviceParameter& p : shown_)
            if (p.differs()) Q_EMIT writeAsked(shown(p.key), shown(*p.wanted));
    });
    auto* keep = new QPushButton(tr("Keep the device's"));
    connect(keep, &QPushButton::clicked, this, &ParameterList::keepAsked);
    both->addWidget(write);
    both->addWidget(keep);
    both->addStretch();
    difference->addLayout(both);
    difference_->hide();
    hide();
}

void ParameterList::build(const std::vector<DeviceParameter>& parameters) {
    rows_.clear();
    while (QLayoutItem* item = column_->takeAt(0)) {
        if (item->widget()) item->widget()->deleteLater();
        if (item->layout())
            while (QLayoutItem* inner = item->layout()->takeAt(0)) {
                if (inner->widget()) inner->widget()->deleteLater();
                delete inner;
            }
        delete item;
    }
    auto* caption = new QLabel(tr("Settings in the device"));
    caption->setObjectName("caption");
    column_->addWidget(caption);
    for (const DeviceParameter& p : parameters) {
        Row row{};
        QString name = p.title.empty() ? shown(p.key) : shown(p.title);
        if (!p.unit.empty()) name = tr("%1, in %2").arg(name, shown(p.unit));
        row.caption = new QLabel(name);
        row.caption->setObjectName("caption");
        row.caption->setToolTip(shown(p.key));
        row.caption->setWordWrap(true);
        column_->addWidget(row.caption);
        if (!p.choices.empty()) {
            row.choice = new Choice;
            row.choice->setAccessibleName(name);
            for (const std::string& c : p.choices) row.choice->addItem(shown(c));
            row.choice->setEnabled(p.writable);
            row.sure = new QPushButton(tr("Do it all the same"));
            row.sure->hide();
            row.leave = new QPushButton(tr("Leave it"));
            row.leave->hide();
            connect(row.leave, &QPushButton::clicked, this, [this, i = rows_.size()] { leave(i); });
            connect(row.choice, &QComboBox::activated, this, [this, i = rows_.size()] { choose(i); });
            connect(row.sure, &QPushButton::clicked, this, [this, i = rows_.size()] { write(i); });
            column_->addWidget(row.choice);
        } else {
            row.field = new Field(name, this);
            row.field->setEnabled(p.writable);
            connect(row.field, &Field::taken, this, [this, i = rows_.size()](const QString& text) {
                rows_[i].field->markWrong(false);
                ask(i, text.trimmed());
            });
            column_->addWidget(row.field);
        }
        row.note = new QLabel;
        row.note->setWordWrap(true);
        column_->addWidget(row.note);
        if (row.sure) {
            auto* both = new QHBoxLayout;
            both->addWidget(row.sure);
            both->addWidget(row.leave);
            both->addStretch();
            column_->addLayout(both);
        }
        rows_.push_back(row);
    }
}

void ParameterList::choose(std::size_t i) {
    Row& row = rows_[i];
    const DeviceParameter& p = shown_[i];
    if (std::ranges::find(p.warned, row.choice->currentText().toStdString()) == p.warned.end()) return write(i);
    row.note->setText(shown(p.warning));
    row.note->show();
    row.sure->show();
    row.leave->show();
}

void ParameterList::leave(std::size_t i) {
    Row& row = rows_[i];
    for (QWidget* w :
         {static_cast<QWidget*>(row.sure), static_cast<QWidget*>(row.leave), static_cast<QWidget*>(row.note)})
        w->hide();
    row.choice->setCurrentIndex(shown_[i].there ? row.choice->findText(shown(*shown_[i].there)) : -1);
}

void ParameterList::write(std::size_t i) {
    const QString value = rows_[i].choice->currentText();
    leave(i);
    ask(i, value);
}

void ParameterList::ask(std::size_t i, const QString& value) {
    rows_[i].asked = value;
    note(i);
    Q_EMIT writeAsked(shown(shown_[i].key), value);
}

void ParameterList::note(std::size_t i) {
    const DeviceParameter& p = shown_[i];
    QLabel* label = rows_[i].note;
    QString note;
    const bool asked = !rows_[i].asked.isEmpty(), wrong = !asked && (!p.problem.empty() || p.differs());
    if (asked)
        note = tr("Sent: %1. Not answered yet.").arg(rows_[i].asked);
    else if (!p.problem.empty())
        note = shown(p.problem);
    else if (p.differs())
        note = tr("The bench wants %1.").arg(shown(*p.wanted));
    else if (!p.done.empty())
        note = tr("%1, at %2.").arg(shown(p.done), rows_[i].answered);
    else if (!p.there && p.readable)
        note = tr("Not read yet.");
    label->setText(note);
    label->setObjectName(wrong ? "wrong" : "muted");
    label->style()->unpolish(label);
    label->style()->polish(label);
    label->setVisible(!note.isEmpty());
}

void ParameterList::show(const std::vector<DeviceParameter>& parameters,
                         const std::function<QString(Instant)>& timeOf) {
    if (parameters == shown_) return;
    const bool same = std::ranges::equal(parameters, shown_, [](const DeviceParameter& a, const DeviceParameter& b) {
        return a.key == b.key && a.choices == b.choices && a.title == b.title;
    });
    const auto before = std::exchange(shown_, parameters);
    if (!same) build(parameters);
    setVisible(!parameters.empty());
    if (parameters.empty()) return;
    QStringList differ;
    for (const DeviceParameter& p : parameters)
        if (p.differs())
            differ << tr("%1 is %2, the bench wants %3").arg(shown(p.key), shown(*p.there), shown(*p.wanted));
    constexpr qsizetype mostNamed = 3;
    const qsizetype more = differ.size() - mostNamed;
    if (more > 0) differ = differ.mid(0, mostNamed) << tr("and %1 more").arg(more);
    differenceText_->setText(differ.join(QStringLiteral("; ")));
    difference_->setVisible(!differ.isEmpty());
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        const DeviceParameter& p = parameters[i];
        if (p.answered) rows_[i].answered = timeOf(*p.answered);
        if (!same || p.answered != before[i].answered) rows_[i].asked.clear();
        const QString there = p.there ? shown(*p.there) : QString();
        if (rows_[i].sure && rows_[i].sure->isVisible()) continue;  // it is being asked about
        if (rows_[i].choice) {
            rows_[i].choice->setCurrentIndex(rows_[i].choice->findText(there));
        } else if (!rows_[i].field->hasFocus()) {
            rows_[i].field->show(there);
        }
        note(i);
    }
}

}  // namespace cruscotto
