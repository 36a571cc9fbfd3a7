#include "app/run/shot_dialog.h"

#include <QDialogButtonBox>
#include <QHBoxLayout>
#include <QLabel>
#include <QTime>
#include <QVBoxLayout>

#include "app/widgets/words.h"
#include "core/base/number_text.h"
#include "core/signal/scale.h"

namespace cruscotto {

namespace {
enum What { level, mark, timeOfDay };
}

ShotDialog::ShotDialog(const Bench& bench, const QString& signal, Instant now, QWidget* parent)
    : QDialog(parent),
      bench_(bench),
      now_(now),
      what_(new QComboBox),
      signal_(new QComboBox),
      direction_(new QComboBox),
      time_(new QTimeEdit(QTime::currentTime().addSecs(60))),
      level_(new Field(tr("Level"))),
      hysteresis_(new Field(tr("Hysteresis"))),
      before_(new Field(tr("Seconds before"))),
      after_(new Field(tr("Seconds after"))),
      shots_(new Field(tr("Shots"))),
      sentence_(new QLabel),
      go_(nullptr) {
    setWindowTitle(tr("Record when something happens"));
    what_->addItems({tr("A signal crosses a level"), tr("A mark is set"), tr("A time of day")});
    what_->setAccessibleName(tr("What to wait for"));
    for (const auto& s : bench.signals) signal_->addItem(shown(s->name), shown(s->id));
    signal_->setAccessibleName(tr("Signal"));
    if (const int at = signal_->findData(signal); at >= 0) signal_->setCurrentIndex(at);
    direction_->addItems({tr("rises above"), tr("falls below")});
    direction_->setAccessibleName(tr("Direction"));
    time_->setDisplayFormat("HH:mm:ss");
    time_->setButtonSymbols(QAbstractSpinBox::NoButtons);
    time_->setAccessibleName(tr("Time of day"));
    hysteresis_->setToolTip(tr("How far it must go back before it can trigger again"));
    // What is proposed lies where the signal is used: at its upper limit, or in the middle of its scale.
    auto* unit = new QLabel;
    auto* backUnit = new QLabel;
    const auto propose = [this, unit, backUnit] {
        const SignalSpec* s = bench_.signal(signal_->currentData().toString().toStdString());
        if (!s) return;
        for (QLabel* label : {unit, backUnit}) label->setText(unitOf(*s));
        const Scale scale = expectedScale(*s).value_or(Scale{0, 1});
        level_->setText(shown(shortNumber(s->isState() ? 0.5 : s->limits.high.value_or((scale.low + scale.high) / 2))));
    };
    propose();
    connect(signal_, &QComboBox::currentIndexChanged, this, propose);
    hysteresis_->setText("0");
    before_->setText("2");
    after_->setText("10");
    shots_->setText("1");
    sentence_->setWordWrap(true);

    // One sentence, a line for each part of it.
    auto* form = new QVBoxLayout;
    form->setSpacing(6);
    const auto say = [form](const QString& before, std::initializer_list<QWidget*> words, const QString& behind) {
        auto* row = new QWidget;
        auto* line = new QHBoxLayout(row);
        line->setContentsMargins(0, 0, 0, 0);
        line->setSpacing(8);
        if (!before.isEmpty()) line->addWidget(new QLabel(before));
        for (QWidget* w : words) line->addWidget(w, qobject_cast<QComboBox*>(w) ? 1 : 0);
        if (!behind.isEmpty()) line->addWidget(new QLabel(behind), 1);
        form->addWidget(row);
        return row;
    };
    constexpr int numberWidth = 64;
    for (QComboBox* box : {what_, signal_, direction_}) {
        box->setSizeAdjustPolicy(QComboBox::AdjustToMinimumContentsLengthWithIcon);
        box->setMinimumContentsLength(8);
    }
    for (Field* field : {level_, hysteresis_, before_, after_, shots_}) field->setMaximumWidth(numberWidth);
    say(tr("When"), {what_}, {});
    QWidget* signalRow = say(tr("namely"), {signal_}, {});
    QWidget* levelRow = say({}, {direction_, level_, unit}, {});
    QWidget* backRow = say(tr("going back by"), {hysteresis_, backUnit}, tr("in between,"));
    QWidget* timeRow = say(tr("at"), {time_}, {});
    say(tr("record"), {before_}, tr("s before it"));
    say(tr("and"), {after_}, tr("s after it,"));
    QWidget* shotsRow = say({}, {shots_}, tr("times (0: each time)."));
    auto* buttons = new QDialogButtonBox;
    go_ = buttons->addButton(tr("Wait for it"), QDialogButtonBox::AcceptRole);
    buttons->addButton(tr("Cancel"), QDialogButtonBox::RejectRole);
    go_->setDefault(true);
    auto* column = new QVBoxLayout(this);
    auto* title = new QLabel(windowTitle());
    title->setStyleSheet("font-size: 16px; font-weight: 600;");
    column->addWidget(title);
    column->setContentsMargins(20, 20, 20, 16);
    column->setSpacing(16);
    column->addLayout(form);
    column->addWidget(sentence_);
    column->addWidget(buttons);
    column->addStretch(1);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    for (QComboBox* box : {what_, signal_, direction_})
        connect(box, &QComboBox::currentIndexChanged, this, &ShotDialog::work);
    for (Field* field : {level_, hysteresis_, before_, after_, shots_})
        connect(field, &QLineEdit::textChanged, this, &ShotDialog::work);
    connect(time_, &QTimeEdit::timeChanged, this, &ShotDialog::work);
    connect(what_, &QComboBox::currentIndexChanged, this, [=](int what) {
        for (QWidget* row : {signalRow, levelRow, backRow}) row->setVisible(what == level);
        timeRow->setVisible(what == timeOfDay);
        shotsRow->setVisible(what != timeOfDay);  // that comes but once
    });
    timeRow->hide();
    work();
}

void ShotDialog::work() {
    bool fine = true;
    const auto number = [&](Field* field, double lowest, double highest) {
        double v = 0;
        const bool reads = parseNumber(field->text().toStdString(), v) && v >= lowest && v <= highest;
        field->markWrong(!reads, reads ? QString() : tr("A number from %1 is expected here").arg(lowest));
        fine = fine && reads;
        return v;
    };
    const int what = what_->currentIndex();
    ShotPlan p;
    p.before = seconds(number(before_, 0, 86400));
    p.after = seconds(number(after_, 0.001, 86400));
    p.most = static_cast<int>(number(shots_, 0, 1e6));
    QString when;
    if (what == level) {
        p.signal = signal_->currentData().toString().toStdString();
        p.level = number(level_, -1e300, 1e300);
        p.hysteresis = number(hysteresis_, 0, 1e300);
        p.falling = direction_->currentIndex() == 1;
        const SignalSpec* s = bench_.signal(p.signal);
        fine = fine && s;
        when = tr("%1 %2 %3 %4")
                   .arg(signal_->currentText(), direction_->currentText(), level_->text(), s ? unitOf(*s) : QString())
                   .trimmed();
    } else if (what == mark) {
        p.onMark = true;
        when = tr("a mark is set");
    } else {
        int wait = QTime::currentTime().secsTo(time_->time());
        if (wait < 0) wait += 86400;  // tomorrow
        p.at = now_ + seconds(wait);
        p.most = 1;
        when = tr("it is %1").arg(time_->time().toString("HH:mm:ss"));
    }
    sentence_->setText(fine ? tr("Records from %1 s before to %2 s after %3%4.")
                                  .arg(before_->text(), after_->text(), when,
                                       p.most == 0   ? tr(", again and again")
                                       : p.most == 1 ? tr(", once")
                                                     : tr(", %n times", nullptr, p.most))
                            : tr("One of the numbers does not read."));
    go_->setEnabled(fine);
    plan_ = p;
}

}  // namespace cruscotto
